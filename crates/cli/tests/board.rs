//! The board, driven as a person drives it, with real runs going on: its own, those of the service, and those of other programs.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;
#[path = "common/terminal.rs"]
mod terminal;

use std::fs;
use std::process::Stdio;
use std::time::Duration;

use common::{Station, write};
use reedhook_testing::signals::{self, Signal};
use tending::Tending;
use terminal::{DOWN, Terminal, can_watch};

const OLD: u64 = 1_900_000_000;
const ENTER: &str = "\r";
const BACK: &str = "\u{1b}";

/// Files that take some seconds at the job's limit.
fn slow_station() -> Station {
    let station = Station::with_job("mirror", &["--limit", "4 MB/s", "--max-removals", "off"]);
    for at in 0..4 {
        write(&station.left().join(format!("stills/nest-{at}.jpg")), &vec![at; 6_000_000], OLD);
    }
    station
}

/// Waits for the line of the question, and says yes.
fn yes(terminal: &mut Terminal, question: &str) {
    terminal.shows(question);
    // A question that has come by itself takes no key at once.
    std::thread::sleep(Duration::from_millis(900));
    terminal.keys("y");
    terminal.hides("y  yes");
}

#[test]
fn without_a_service_the_board_runs_watches_stops_and_looks_into_runs() {
    if !can_watch() {
        return;
    }
    let station = slow_station();
    station.run(&["job", "add", "maps", "copy", "left/stills", "right-maps", "--yes"]).expect(0);
    write(&station.right().join("gone.csv"), b"only here", OLD);
    let mut terminal = Terminal::start(&station, &["board"]);
    terminal.shows("the service is not running");
    terminal.shows("› counts");
    // What would be done, and back.
    terminal.keys("v");
    terminal.shows("what a run would do");
    terminal.shows("gone.csv");
    terminal.keys(BACK);
    terminal.shows("› counts");
    // A run that removes something asks; a no leaves everything.
    terminal.keys("r");
    yes(&mut terminal, "Run counts?");
    terminal.shows("counts: go on?");
    std::thread::sleep(Duration::from_millis(900));
    terminal.keys("n");
    terminal.shows("cancelled; nothing was changed");
    assert!(station.right().join("gone.csv").exists());
    // With a yes it runs; how far it is can be seen, and it is stopped on the way.
    terminal.keys("r");
    yes(&mut terminal, "Run counts?");
    yes(&mut terminal, "counts: go on?");
    terminal.shows("stills/nest-");
    terminal.shows("left");
    terminal.keys("s");
    yes(&mut terminal, "Stop the run of counts?");
    terminal.shows("interrupted");
    // Its runs, and what one did.
    terminal.keys(ENTER);
    terminal.shows("counts: 2 runs");
    terminal.keys(ENTER);
    terminal.shows("counts run 2");
    terminal.shows("mkdir  stills");
    terminal.keys(BACK);
    terminal.shows("counts: 2 runs");
    terminal.keys(BACK);
    // Another job: it has never run, and it is paused.
    terminal.keys(DOWN);
    terminal.shows("› maps");
    terminal.keys(ENTER);
    terminal.shows("maps has never run.");
    terminal.keys("p");
    terminal.shows("paused");
    assert!(fs::read_to_string(station.path("home/jobs/maps.toml")).unwrap().contains("paused = true"));
    terminal.keys("p");
    terminal.shows("maps runs by itself again.");
    terminal.keys("y");
    terminal.shows("maps does not ask for anything.");
    terminal.keys("?");
    terminal.shows("answer a job that asks");
    terminal.keys("x");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
}

#[test]
fn a_board_that_is_closed_ends_its_own_runs_whole() {
    if !can_watch() {
        return;
    }
    let station = slow_station();
    let mut terminal = Terminal::start(&station, &["board"]);
    terminal.shows("› counts");
    terminal.keys("r");
    yes(&mut terminal, "Run counts?");
    terminal.shows("of 24.0 MB");
    terminal.keys("q");
    yes(&mut terminal, "would be stopped");
    assert_eq!(terminal.ends(), 0);
    let runs = station.run(&["history", "counts", "--json"]).expect(0).json();
    assert_eq!(runs[0]["outcome"], "interrupted");
    common::assert_no_leftovers(&station.path("home"));
    station.run(&["job", "edit", "counts", "--limit", "off"]).expect(0);
    station.run(&["run", "counts"]).expect(0);
    common::assert_alike(&station.left(), &station.right());
}

#[test]
fn two_boards_follow_the_service_through_its_going_and_coming() {
    if !can_watch() {
        return;
    }
    let station = slow_station();
    station.run(&["job", "edit", "counts", "--when", "daily 03:00", "--ask"]).expect(0);
    let mut boards = [Terminal::start(&station, &["board"]), Terminal::start(&station, &["board"])];
    boards.iter_mut().for_each(|board| board.shows("the service is not running"));
    let mut tending = Tending::of(&station);
    boards.iter_mut().for_each(|board| board.shows("the service runs since"));
    // One asks for a run; both see it.
    boards[0].keys("r");
    yes(&mut boards[0], "The service runs it.");
    tending.begins("counts");
    for board in &mut boards {
        board.shows("begins (asked)");
        board.shows("nest-");
    }
    // The other one ends it.
    boards[1].keys("s");
    yes(&mut boards[1], "Stop the run of counts?");
    assert_eq!(tending.ends("counts")["outcome"], "interrupted");
    boards.iter_mut().for_each(|board| board.shows("interrupted"));
    // The service goes, in the middle of a run, and comes again.
    station.run(&["tend", "run", "counts"]).expect(0);
    tending.begins("counts");
    boards.iter_mut().for_each(|board| board.shows("running"));
    tending.signal(Signal::KILL);
    drop(tending);
    for board in &mut boards {
        board.shows("The service has gone.");
        board.shows("the service is not running");
    }
    station.run(&["job", "edit", "counts", "--limit", "off"]).expect(0);
    let mut tending = Tending::of(&station);
    boards.iter_mut().for_each(|board| board.shows("the service runs since"));
    station.run(&["tend", "run", "counts"]).expect(0);
    assert_eq!(tending.ends("counts")["outcome"], "done");
    for mut board in boards {
        board.shows("done,");
        board.keys("q");
        assert_eq!(board.ends(), 0);
    }
    common::assert_alike(&station.left(), &station.right());
}

#[test]
fn a_job_that_asks_is_answered_and_a_run_of_another_program_is_watched() {
    if !can_watch() {
        return;
    }
    let station = slow_station();
    let mut terminal = Terminal::start(&station, &["board"]);
    terminal.shows("› counts");
    // Another program: its progress is in its log.
    let mut run = station.command(&["run", "counts", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
    terminal.shows("(another program)");
    terminal.shows("of 24.0 MB");
    terminal.keys("s");
    terminal.shows("runs in another program: stop it there.");
    assert!(run.wait().unwrap().success());
    terminal.shows("run 1: 4 added");
    // The service asks before it begins; the answer comes from the board.
    station
        .run(&["job", "edit", "counts", "--when", "on change after 1s", "--ask", "--limit", "off"])
        .expect(0);
    let mut tending = Tending::of(&station);
    station.write("new.csv", "heron", OLD);
    tending.wait("it asks", |line| line["event"] == "waiting" && line["for"] == "answer");
    terminal.shows("asks for a yes");
    terminal.keys("y");
    assert_eq!(tending.ends("counts")["added"], 1);
    terminal.shows("done, 1 item");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
}

#[test]
fn a_board_needs_a_terminal_and_ends_when_it_is_told_to_from_outside() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    let refused = station.run(&["board"]).expect(2);
    assert!(
        refused.err.contains("needs a terminal") && refused.err.contains("reedhook status"),
        "{}",
        refused.err
    );
    let mut terminal = Terminal::start(&station, &["board"]);
    terminal.shows("› counts");
    let process = fs::read_to_string(station.path("pid")).unwrap();
    signals::send(process.trim().parse().unwrap(), Signal::TERM);
    assert_eq!(terminal.ends(), 130);
}

#[test]
fn what_a_board_shows_stays_small_while_many_files_are_copied() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    for at in 0..20_000 {
        let path = station.left().join(format!("d{}/f{at}", at % 50));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "x").unwrap();
    }
    let tending = Tending::of(&station);
    let mut terminal = Terminal::start(&station, &["board"]);
    terminal.shows("the service runs since");
    terminal.keys("r");
    yes(&mut terminal, "Run counts?");
    // What came of it, from the record: that may come before what the service says.
    terminal.shows("20,000 added");
    // A few frames a second, whatever number of files that is.
    assert!(terminal.drawn < 500_000, "{} bytes were drawn", terminal.drawn);
    drop(tending);
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
}

#[test]
fn a_view_ends_with_its_terminal() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("copy", &[]);
    station.write("heron.csv", "1", 1000);
    station.run(&["inventory", "take", "left", "--name", "near"]).expect(0);
    for before in ["", "trap '' HUP"] {
        for words in [&["board"][..], &["review", "counts"], &["review", "inventory:near"]] {
            let mut terminal = Terminal::with(&station, words, &[("BEFORE", before)]);
            terminal.shows("?");
            terminal.goes_away(&station);
        }
    }
}
