//! The board on a terminal that is not there.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::tz::TimeZone;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use reedhook_core::job::Kind;
use reedhook_core::plan::Counts;
use reedhook_jobs::tally::{InHand, Tally};
use reedhook_record::{Outcome as RunOutcome, RunEnd, RunRow};
use reedhook_report::figures::{JobPart, Standing, Sum};
use serde_json::json;

use super::draw;
use super::model::Board;
use crate::board::shown::{BoardNews, Drive, Key, Live, Page, Said, Whose, Wish};
use crate::paint::Paint;

const NOW: i64 = 1_935_850_500_000;

fn part(name: &str, outcome: RunOutcome) -> JobPart {
    let counts = Counts { added: 12, bytes: 3_400_000, ..Counts::default() };
    let end = RunEnd { elapsed: Duration::from_secs(3), outcome, counts, ..RunEnd::none() };
    let last = RunRow {
        id: 1,
        job: name.to_owned(),
        number: 7,
        run: format!("20310506-161500-{name}"),
        started_ms: NOW - 3_600_000,
        keys: String::new(),
        end,
    };
    JobPart {
        name: name.to_owned(),
        standing: Standing::Kind(Kind::Mirror),
        paused: false,
        running: false,
        sum: Sum::default(),
        last: Some(last),
        last_good_ms: None,
        next: None,
        overdue: None,
        held: 0,
    }
}

fn board(jobs: usize) -> Board {
    let mut board = Board::new(Paint { colour: false }, TimeZone::UTC);
    board.now_ms = NOW;
    let mut parts: Vec<JobPart> =
        (0..jobs).map(|at| part(&format!("heron-counts-{at:03}"), RunOutcome::Done)).collect();
    parts.push(part("tablet", RunOutcome::Problems));
    let drive = |name: &str, mount: Option<&str>| Drive {
        name: name.to_owned(),
        mount: mount.map(str::to_owned),
        kind: "exFAT".to_owned(),
        space: mount.map(|_| (12_000_000_000, 64_000_000_000)),
        stores: "@field-drive".to_owned(),
    };
    let drives = vec![drive("FENFIELD-1", Some("/media/fenfield")), drive("FENFIELD-2", None)];
    board.take(BoardNews::Looked(parts, drives));
    board
}

fn live(name: &str) -> BTreeMap<String, Live> {
    let file =
        InHand { path: format!("stills/{}/nest.jpg", "deep/".repeat(60)), size: 9_000_000, done: 3_000_000 };
    let tally = Tally {
        bytes: 3_000_000,
        bytes_total: 9_000_000,
        files_total: 3,
        problems: 2,
        workers: vec![Some(file)],
        ..Tally::default()
    };
    let live = Live { whose: Whose::Ours, elapsed: Duration::from_secs(5), looking: None, tally };
    BTreeMap::from([(name.to_owned(), live)])
}

fn screen(board: &mut Board, columns: u16, lines: u16) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(columns, lines)).expect("a terminal");
    terminal.draw(|frame| draw::draw(frame, board)).expect("a frame");
    let buffer = terminal.backend().buffer().clone();
    let text = |line: u16| (0..columns).map(|column| buffer[(column, line)].symbol()).collect::<String>();
    (0..lines).map(|line| text(line).trim_end().to_owned()).collect()
}

#[test]
fn everything_has_its_place_at_any_size() {
    for jobs in [0, 3, 200] {
        let mut board = board(jobs);
        board.take_own(live("tablet"));
        for (columns, lines) in [(80, 24), (138, 41), (200, 60), (40, 10), (1, 1), (80, 6)] {
            let shown = screen(&mut board, columns, lines);
            assert_eq!(shown.len(), usize::from(lines));
            if columns >= 80 && lines >= 24 {
                let all = shown.join("\n");
                for wanted in [
                    "running 33 %",
                    "nest.jpg",
                    "happened",
                    "FENFIELD-2",
                    "not connected",
                    "q end",
                    "2 problems",
                ] {
                    // Of many jobs the one that runs may be out of sight; its run is not.
                    let in_sight = jobs < 9 || wanted != "running 33 %";
                    assert!(
                        !in_sight || all.contains(wanted),
                        "{columns}x{lines}, {jobs}: no {wanted}\n{all}"
                    );
                }
            }
        }
    }
}

#[test]
fn what_the_service_tells_is_shown_and_nothing_twice() {
    let mut board = board(1);
    let before = board.happened.len();
    assert_eq!(before, 1, "what had problems deserves a look");
    let said = |line: serde_json::Value| {
        BoardNews::Service(serde_json::from_value(line).expect("a line of the service"))
    };
    board.take(said(json!({"event": "stands", "service": {"since": "2031-05-06T07:00:00Z"},
        "jobs": [{"event": "tended", "job": "tablet", "state": "running"}]})));
    let progress = json!({"event": "progress", "job": "tablet", "seconds": 2.5, "looking": null,
        "tally": {"files": 1, "files_total": 4, "bytes": 25, "adopted": 0, "bytes_total": 1_000_000, "problems": 0, "workers": []}});
    board.take(said(progress));
    assert_eq!(board.live["tablet"].tally.files, 1);
    let problem = json!({"event": "problem", "job": "tablet", "code": "no-rights", "path": "evil\u{1b}[2J", "message": "no"});
    board.take(said(problem));
    assert!(screen(&mut board, 80, 24).join("\n").contains("evil?[2J"), "a name moves no cursor");
    let finished = json!({"event": "finished", "job": "tablet", "run": "20310506-170000-abcd", "outcome": "done", "added": 4});
    board.take(said(finished));
    assert!(board.live.is_empty());
    // The record tells of the same run a moment later.
    let told = board.happened.len();
    let mut tablet = part("tablet", RunOutcome::Done);
    tablet.last.as_mut().expect("it has run").run = "20310506-170000-abcd".to_owned();
    board.take(BoardNews::Looked(vec![tablet], Vec::new()));
    let new: Vec<&str> = board.happened.iter().skip(told).map(|said| said.words.as_str()).collect();
    assert_eq!(new, ["FENFIELD-1 is away."]);
    // A run that was over when the board was opened is told of by the service's own account, and only there.
    let finished = json!({"event": "finished", "job": "heron-counts-000", "run": "20310506-161500-heron-counts-000", "outcome": "done", "added": 2});
    board.take(said(finished));
    assert_eq!(board.happened.back().map(|said| said.words.as_str()), Some("done, 2 items"));
    board.take(BoardNews::ServiceGone);
    board.take(BoardNews::ServiceGone);
    assert_eq!(board.happened.iter().filter(|said| said.words.contains("has gone")).count(), 1);
    (0..2000).for_each(|at| {
        let said = Said { at_ms: at, job: String::new(), words: "more".to_owned(), is_bad: false };
        board.take(BoardNews::Said(said));
    });
    assert_eq!(board.happened.len(), 500, "what is old is forgotten");
}

#[test]
fn no_key_that_was_meant_for_something_else_agrees_to_a_removal() {
    let mut board = board(1);
    assert!(board.press(Key::Letter('r')).is_empty(), "it is asked first");
    let (answer, answered) = crossbeam_channel::bounded(1);
    board.take(BoardNews::Asks("tablet".to_owned(), vec!["3 files".to_owned()], answer));
    // The yes is for the run that was asked about; the other question comes after it.
    let wishes = board.press(Key::Letter('y'));
    assert!(matches!(wishes.as_slice(), [Wish::Run(job, false)] if job == "heron-counts-000"));
    assert!(board.press(Key::Letter('y')).is_empty(), "that was a moment after it had come");
    assert!(board.question.is_some());
    board.now_ms += 1000;
    let wishes = board.press(Key::Letter('n'));
    assert!(matches!(wishes.as_slice(), [Wish::Consent(_, false)]));
    drop((wishes, answered));
    board.take_own(live("tablet"));
    assert!(board.press(Key::Letter('q')).is_empty(), "what runs here is asked about");
    assert!(board.press(Key::Letter('n')).is_empty());
    board.take_own(BTreeMap::new());
    board.pages.push(Page::Waiting("a look".to_owned()));
    assert!(board.press(Key::Back).is_empty() && board.pages.is_empty());
    assert!(matches!(board.press(Key::Letter('q')).as_slice(), [Wish::End]));
}
