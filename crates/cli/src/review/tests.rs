//! The view on a terminal that is not there.

use ratatui::Terminal;
use ratatui::backend::TestBackend;
use reedhook_core::compare::DiffState;
use reedhook_core::entry::{EntryKind, Stamp};
use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::Face;

use super::model::Row;
use super::*;

fn path(text: &str) -> RelPath {
    RelPath::new(text.as_bytes()).expect("a path")
}

fn face(size: u64, seconds: i64) -> Option<Face> {
    Some(Face { kind: EntryKind::File, size, modified: Some(Stamp::new(seconds, 0)) })
}

fn row(text: &str, word: Word, left: Option<Face>, right: Option<Face>) -> Row {
    Row { path: path(text), word, left, right, elsewhere: None, items: 1, destination: 0, other: None }
}

fn screen(view: &mut View, columns: u16, lines: u16) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(columns, lines)).expect("a terminal");
    terminal.draw(|frame| draw::draw(frame, view)).expect("a frame");
    let buffer = terminal.backend().buffer().clone();
    let text = |line: u16| (0..columns).map(|column| buffer[(column, line)].symbol()).collect::<String>();
    (0..lines).map(|line| text(line).trim_end().to_owned()).collect()
}

fn view() -> View {
    let mut view = View::new("heron-counts", true, Paint { colour: false });
    view.places = ["~/counts".to_owned(), "/media/fenfield/counts".to_owned()];
    view.phase = Phase::Ready;
    view.same = 1203;
    let rows = vec![
        row(
            "rota.txt",
            Word::of_state(DiffState::LeftNewer),
            face(1200, 1_936_000_000),
            face(900, 1_935_000_000),
        ),
        row("north/a.csv", Word::Deed(Done::Added), face(12_345, 1_936_000_000), None),
        row("north/b.csv", Word::Deed(Done::Removed), None, face(5, 1_935_000_000)),
        row("north/evil\u{1b}[31m\nname", Word::Conflict, face(1, 0), face(2, 0)),
    ];
    view.model.set_rows(rows);
    view
}

#[test]
fn both_sides_stand_in_columns_at_any_width() {
    let mut view = view();
    view.model.open_here();
    for (columns, lines) in [(80, 24), (132, 40), (80, 8), (200, 60)] {
        let shown = screen(&mut view, columns, lines);
        assert_eq!(shown.len(), usize::from(lines));
        assert!(shown[0].starts_with("heron-counts  left ~/counts  right /media"), "{shown:?}");
        assert!(shown[1].contains("same 1,203") && shown[1].contains("add 1"), "{shown:?}");
        assert!(shown[3].starts_with("- north/"), "{shown:?}");
        assert!(
            shown[4].contains("a.csv") && shown[4].contains("add") && shown[4].contains("12.3 kB"),
            "{shown:?}"
        );
        assert!(lines < 20 || shown[7].contains("left newer"), "{shown:?}");
    }
    for (columns, lines) in [(40, 10), (20, 5), (5, 3), (1, 1)] {
        screen(&mut view, columns, lines);
        view.help = true;
        screen(&mut view, columns, lines);
        view.help = false;
    }
    let all = screen(&mut view, 80, 24).concat();
    assert!(!all.contains('\u{1b}') && !all.contains('\n'), "a name moves no cursor");
}

#[test]
fn what_is_asked_typed_and_explained_is_in_the_picture() {
    let mut view = view();
    ask_to_run(&mut view);
    let asked = screen(&mut view, 80, 24).join("\n");
    assert!(
        asked.contains("add        1 file")
            && asked.contains("remove     1 file")
            && asked.contains("y  yes"),
        "{asked}"
    );
    view.question = None;
    view.help = true;
    let help = screen(&mut view, 80, 24).join("\n");
    for key in ["space", "save what is chosen", "a line of the job's filter", "how two texts differ"] {
        assert!(help.contains(key), "{key}: {help}");
    }
    view.help = false;
    view.prompt = Some(Prompt::new(Asked::Plan, "evening.plan".to_owned()));
    assert!(screen(&mut view, 80, 24)[22].starts_with("Save the plan as: evening.plan"));
    view.prompt = None;
    view.model.open_here();
    view.model.move_by(1);
    of_a_job(&mut view, KeyCode::Char(' '));
    assert!(screen(&mut view, 80, 24)[4].contains("leave"), "what was chosen instead");
    assert_eq!(view.chosen().left.len(), 1);
    let lines = ["-heron", "+grebe", "+\u{1b}[31m\u{1b}]0;title\u{7}evil\r\u{8}"].map(str::to_owned);
    view.pane = Some((path("rota.txt"), lines.into(), 0));
    let pane = screen(&mut view, 80, 24).concat();
    assert!(pane.contains("evil") && !pane.chars().any(char::is_control), "a text moves no cursor: {pane:?}");
    assert!(screen(&mut view, 80, 24).join("\n").contains("+grebe"));
}
