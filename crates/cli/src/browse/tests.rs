//! The view on a terminal that is not there.

use ratatui::Terminal;
use ratatui::backend::TestBackend;
use reedhook_core::entry::{EntryKind, Stamp};
use reedhook_jobs::inventory::Branch;
use reedhook_record::inventories::InventoryMeta;

use super::*;
use crate::browse::model::Model;

fn branch(name: &str, kind: EntryKind, files: u64, bytes: u64, seconds: i64) -> Branch {
    let meta = InventoryMeta::of(kind, bytes, Some(Stamp::new(seconds, 0)), None);
    Branch { name: name.as_bytes().to_vec(), meta, files, bytes }
}

fn view() -> View {
    let mut view = View {
        name: "FENFIELD-2".to_owned(),
        seen: "not connected, last seen 2031-05-04 18:00".to_owned(),
        entries: 1_204,
        bytes: 3_400_000,
        paint: Paint { colour: false },
        model: Model::default(),
        message: None,
        typing: None,
        help: false,
        height: 0,
    };
    let root = vec![
        branch("counts", EntryKind::Folder, 900, 1_000, 1_930_000_000),
        branch("evil\u{1b}[31m\nname", EntryKind::File, 0, 5, 1_930_000_000),
        branch("rota.txt", EntryKind::File, 0, 70_000, 1_935_000_000),
        branch("stills", EntryKind::Folder, 300, 3_000_000, 1_920_000_000),
    ];
    view.model.take(b"", root);
    view
}

fn screen(view: &mut View, columns: u16, lines: u16) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(columns, lines)).expect("a terminal");
    terminal.draw(|frame| draw::draw(frame, view)).expect("a frame");
    let buffer = terminal.backend().buffer().clone();
    let text = |line: u16| (0..columns).map(|column| buffer[(column, line)].symbol()).collect::<String>();
    (0..lines).map(|line| text(line).trim_end().to_owned()).collect()
}

fn names(view: &View) -> Vec<String> {
    view.model.lines.iter().map(|line| String::from_utf8_lossy(&line.path).into_owned()).collect()
}

#[test]
fn a_tree_stands_in_columns_at_any_width() {
    for (columns, lines) in [(80, 24), (132, 40), (40, 8), (200, 60)] {
        let mut view = view();
        let shown = screen(&mut view, columns, lines);
        assert_eq!(shown.len(), usize::from(lines));
        assert!(shown[0].starts_with("FENFIELD-2  not connected, last seen"), "{shown:?}");
        assert!(shown[2].starts_with("+ counts/"), "{shown:?}");
        assert!(!shown.join("").contains('\u{1b}'), "nothing of a name reaches the terminal as it is");
        if columns >= 80 {
            assert!(shown[2].contains("900") && shown[2].contains("1.00 kB"), "{shown:?}");
            let row = shown.iter().find(|line| line.contains("rota.txt")).expect("a row");
            assert!(row.contains("70.0 kB") && row.contains("2031-"), "{row}");
        }
    }
}

#[test]
fn folders_open_and_fold_and_the_order_can_be_chosen() {
    let mut view = view();
    assert_eq!(names(&view), ["counts", "stills", "evil\u{1b}[31m\nname", "rota.txt"]);
    view.model.turn();
    assert_eq!(names(&view), ["stills", "counts", "rota.txt", "evil\u{1b}[31m\nname"], "the largest first");
    view.model.turn();
    assert_eq!(names(&view)[..2], ["counts", "stills"], "the last changed first");
    assert_eq!(view.model.here().map(|line| line.path.as_slice()), Some(b"counts".as_slice()), "it stays");
    view.model.turn();
    assert_eq!(view.model.open_here().as_deref(), Some(b"counts".as_slice()), "it has to be listed");
    view.model.take(b"counts", vec![branch("a.csv", EntryKind::File, 0, 1, 0)]);
    assert_eq!(names(&view)[..2], ["counts", "counts/a.csv"]);
    view.model.move_by(1);
    view.model.fold_here();
    assert_eq!(view.model.cursor, 0, "the folder that it is in");
    view.model.fold_here();
    assert_eq!(names(&view).len(), 4);
    assert_eq!(
        view.model.open_to(b"stills/2031/05/x.jpg"),
        [b"stills".to_vec(), b"stills/2031".to_vec(), b"stills/2031/05".to_vec()]
    );
}
