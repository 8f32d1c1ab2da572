//! The full-screen view, driven as a person drives it: keys into a terminal, and what its screen shows.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/terminal.rs"]
mod terminal;

use std::fs;

use common::{Station, write};
use reedhook_testing::signals::{self, Signal};
use terminal::{DOWN, RIGHT, Terminal, UP, can_watch};

const OLD: u64 = 1_900_000_000;

#[test]
fn a_jobs_items_are_looked_through_changed_run_and_watched() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    station.write("north/a.csv", "heron\n", OLD);
    station.write("north/b.csv", "grebe\n", OLD);
    station.write("both.csv", "now\n", OLD + 100);
    write(&station.right().join("both.csv"), b"before\n", OLD);
    write(&station.right().join("gone.csv"), b"only here", OLD);
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("add 2");
    terminal.shows("update 1");
    terminal.shows("gone.csv");
    // The text of what would be replaced.
    terminal.keys("d");
    terminal.shows("-now");
    terminal.shows("+before");
    terminal.keys("q");
    terminal.hides("+before");
    // Leave the removal, open the folder, leave one of the two.
    terminal.keys(&format!("{DOWN} "));
    terminal.shows("leave");
    terminal.keys(RIGHT);
    terminal.shows("b.csv");
    terminal.keys(&format!("{DOWN}{DOWN} "));
    terminal.shows("left alone");
    terminal.keys("r");
    terminal.shows("y  yes");
    terminal.keys("y");
    terminal.shows("Run 1: done, 2 files");
    terminal.shows("remove 1");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
    assert_eq!(fs::read(station.right().join("both.csv")).unwrap(), b"now\n");
    assert!(station.right().join("north/a.csv").exists() && !station.right().join("north/b.csv").exists());
    assert!(station.right().join("gone.csv").exists(), "left, as it was chosen");
}

#[test]
fn what_is_chosen_becomes_a_plan_and_what_is_not_wanted_a_line_of_the_filter() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("copy", &[]);
    for name in ["a.csv", "b.tmp", "c.csv"] {
        station.write(name, name, OLD);
    }
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("add 3");
    terminal.keys(&format!("{DOWN}x"));
    terminal.shows("Leave out, from now on: /b.tmp");
    terminal.keys("\r");
    terminal.shows("add 2");
    terminal.keys("\u{1b}[H ");
    terminal.shows("leave");
    terminal.keys("w");
    terminal.shows("Save the plan as: counts.plan");
    terminal.keys("\r");
    terminal.shows("Saved 1 deed");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
    assert!(!station.right().join("c.csv").exists(), "nothing was touched");
    station.run(&["run", "counts", "--plan", "counts.plan"]).expect(0);
    assert!(station.right().join("c.csv").exists() && !station.right().join("a.csv").exists());
    assert!(fs::read_to_string(station.path("home/jobs/counts.toml")).unwrap().contains("/b.tmp"));
}

#[test]
fn colours_are_an_extra_and_a_run_is_stopped_from_inside_and_from_outside() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("copy", &["--limit", "500 kB/s"]);
    for number in 0..40 {
        station.write(&format!("f{number}"), &"x".repeat(50_000), OLD);
    }
    for (variables, coloured) in [(&[][..], true), (&[("NO_COLOR", "1")], false)] {
        let mut terminal = Terminal::with(&station, &["review", "counts"], variables);
        terminal.shows("add 40");
        assert_eq!(terminal.is_coloured(), coloured);
        terminal.keys("q");
        terminal.ends();
    }
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("add 40");
    terminal.keys("r");
    terminal.shows("y  yes");
    terminal.keys("y");
    // Something has been done by then.
    terminal.shows("of 2.00 MB");
    terminal.keys("\u{1b}");
    terminal.shows("Run 1: interrupted");
    terminal.shows("add 3");
    terminal.keys("r");
    terminal.shows("y  yes");
    terminal.keys("y");
    // Something has been done by then.
    terminal.shows("of 1.");
    let pid = fs::read_to_string(station.path("pid")).unwrap();
    signals::send(pid.trim().parse().unwrap(), Signal::TERM);
    assert_eq!(terminal.ends(), 130);
    let ran = station.run(&["history", "counts", "2", "--json"]).expect(0);
    assert_eq!(ran.json()[0]["outcome"], "interrupted");
}

#[test]
fn conflicts_are_given_to_a_side() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("two-way", &[]);
    station.write("x.csv", "first", OLD);
    station.write("y.csv", "first", OLD);
    station.run_job(&["--yes"]).expect(0);
    for name in ["x.csv", "y.csv"] {
        station.write(name, "from the left", OLD + 100);
        write(&station.right().join(name), b"and from the right", OLD + 200);
    }
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("conflict 2");
    terminal.keys(" ");
    terminal.shows("left wins");
    terminal.keys("r");
    terminal.shows("1 conflict");
    terminal.keys("y");
    terminal.shows("conflict 1");
    terminal.keys("q");
    terminal.ends();
    for side in [station.left(), station.right()] {
        assert_eq!(fs::read(side.join("x.csv")).unwrap(), b"from the left");
    }
    assert_eq!(fs::read(station.right().join("y.csv")).unwrap(), b"and from the right", "still held");
}

#[test]
fn a_two_way_jobs_changes_go_the_other_way() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("two-way", &["--max-changes", "off"]);
    for name in ["changed.csv", "gone.csv", "right.csv", "stays.csv"] {
        station.write(name, "as it was", OLD);
    }
    station.run_job(&["--yes"]).expect(0);
    station.write("changed.csv", "a slip of the fingers", OLD + 100);
    station.write("stays.csv", "meant so", OLD + 100);
    fs::remove_file(station.left().join("gone.csv")).unwrap();
    write(&station.right().join("right.csv"), b"another slip", OLD + 100);
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("update 3");
    terminal.shows("remove 1");
    // Each goes down by itself after a space: twice on every one of the first three.
    terminal.keys(&format!(" {UP} "));
    terminal.shows("other way");
    terminal.keys(&format!(" {UP} "));
    terminal.keys(&format!(" {UP} "));
    terminal.keys("r");
    terminal.shows("other way  3 files");
    terminal.shows("update     1 file");
    terminal.keys("y");
    terminal.shows("Nothing to do");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
    for side in [station.left(), station.right()] {
        for name in ["changed.csv", "gone.csv", "right.csv"] {
            assert_eq!(fs::read_to_string(side.join(name)).unwrap(), "as it was", "{name}");
        }
        assert_eq!(fs::read_to_string(side.join("stays.csv")).unwrap(), "meant so");
    }
    let again = station.run(&["preview", "counts", "--json"]).expect(0).last();
    assert_eq!((common::number(&again, "updated"), common::number(&again, "conflicts")), (0, 0));
    let kept = station.run(&["kept", "list", "counts"]).expect(0).out;
    assert!(kept.contains("21 B") && kept.contains("12 B"), "what lost is kept: {kept}");
}

#[test]
fn two_places_are_searched_hidden_and_shown_and_a_signal_puts_the_terminal_back() {
    if !can_watch() {
        return;
    }
    let station = Station::new();
    station.write("deep/below/here/needle.csv", "x", OLD);
    station.write("same.csv", "same", OLD);
    write(&station.right().join("same.csv"), b"same", OLD);
    write(&station.right().join("extra.csv"), b"extra", OLD);
    let mut terminal = Terminal::start(&station, &["review", "left", "right"]);
    terminal.shows("only right 1");
    terminal.keys("/NEEDLE\r");
    terminal.shows("deep/below/here/needle.csv");
    terminal.keys("s");
    terminal.shows("same.csv");
    terminal.keys("s");
    terminal.hides("same.csv");
    terminal.keys("2");
    terminal.hides("extra.csv");
    terminal.keys("0");
    terminal.shows("extra.csv");
    terminal.keys("?");
    terminal.shows("look again");
    terminal.keys("q");
    terminal.hides("look again\n");
    let pid = fs::read_to_string(station.path("pid")).unwrap();
    signals::send(pid.trim().parse().unwrap(), Signal::TERM);
    assert_eq!(terminal.ends(), 130);
    let elsewhere = station.run(&["review", "left", "right"]).expect(2);
    assert!(elsewhere.err.contains("needs a terminal"), "{}", elsewhere.err);
    let idle = station.run(&["review", "counts", "--exclude", "*.tmp"]).expect(2);
    assert!(idle.err.contains("for two places"), "{}", idle.err);
    let mut slip = Terminal::start(&station, &["review", "left", "nowhere"]);
    slip.shows("is not there");
    assert_eq!(slip.ends(), 2);
}

#[test]
fn what_an_unplugged_drive_held_is_looked_through_and_found_in() {
    if !can_watch() {
        return;
    }
    let station = Station::new();
    write(&station.right().join("stills/2031/nest-7.jpg"), b"picture", OLD);
    write(&station.right().join("counts/Rota.csv"), b"rota", OLD);
    write(&station.right().join("counts/heron.csv"), b"heron", OLD);
    station.run(&["inventory", "take", "right", "--name", "FENFIELD-2"]).expect(0);
    fs::remove_dir_all(station.right()).unwrap();
    let mut terminal = Terminal::start(&station, &["review", "inventory:FENFIELD-2"]);
    terminal.shows("FENFIELD-2  not connected, last seen");
    terminal.shows("+ stills/");
    terminal.keys(RIGHT);
    terminal.shows("heron.csv");
    terminal.keys("/rota\r");
    terminal.shows("1 of 1 found");
    terminal.keys("/NEST-?.jpg\r");
    terminal.shows("stills/2031/nest-7.jpg");
    terminal.keys("/no such thing\r");
    terminal.shows("Nothing here has");
    terminal.keys("o");
    terminal.shows("the largest first");
    terminal.keys("?");
    terminal.shows("find words of the path");
    terminal.keys("qq");
    assert_eq!(terminal.ends(), 0);
    let mut below = Terminal::start(&station, &["review", "inventory:FENFIELD-2/stills/2031"]);
    below.shows("nest-7.jpg");
    below.keys("q");
    assert_eq!(below.ends(), 0);
    // Beside a folder, it is a side like any other.
    let mut both = Terminal::start(&station, &["review", "left", "inventory:FENFIELD-2"]);
    both.shows("only right 6");
    both.keys("q");
    assert_eq!(both.ends(), 0);
    for (place, said) in
        [("inventory:FENFEILD-2", "Did you mean"), ("inventory:FENFIELD-2", "needs a terminal")]
    {
        let slip = station.run(&["review", place]).expect(2);
        assert!(slip.err.contains(said), "{}", slip.err);
    }
}

#[test]
fn a_run_whose_window_is_closed_is_stopped_and_one_that_ignores_that_comes_to_its_end() {
    if !can_watch() {
        return;
    }
    for (before, comes_over) in [("", false), ("trap '' HUP", true)] {
        let station = Station::with_job("copy", &["--limit", "1 MB/s"]);
        write(&station.left().join("nest.jpg"), &vec![7; 4_000_000], OLD);
        let mut terminal = Terminal::with(&station, &["review", "counts"], &[("BEFORE", before)]);
        terminal.shows("add 1");
        terminal.keys("r");
        terminal.shows("y  yes");
        terminal.keys("y");
        terminal.hides("y  yes");
        terminal.shows("nest.jpg");
        let begun = std::time::Instant::now();
        let part = |name: &str| name.starts_with(".reedhook-part-");
        let names = || fs::read_dir(station.right()).unwrap().flatten().map(|entry| entry.file_name());
        while !names().any(|name| part(&name.to_string_lossy())) {
            assert!(begun.elapsed().as_secs() < 20, "{}", terminal.text());
            terminal.take();
        }
        terminal.goes_away(&station);
        assert_eq!(station.right().join("nest.jpg").exists(), comes_over, "{before}");
        let last = station.run(&["history", "counts", "--json"]).expect(0).json();
        let outcome = if comes_over { "done" } else { "interrupted" };
        assert_eq!(last.last().unwrap()["outcome"], outcome, "{last:?}");
    }
}
