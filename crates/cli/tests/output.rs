//! What is printed, where it goes, and who can read it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::{BufRead, BufReader};
use std::process::Stdio;

use common::{Station, number, write};

/// A mirror with more files than a person wants to read.
fn many() -> Station {
    let station = Station::with_job("mirror", &[]);
    for number in 0..90 {
        station.write(&format!("counts/site-{}/{number:03}.csv", number % 3), "12345", 1000);
    }
    station.write("rota.txt", "1", 1000);
    station
}

#[test]
fn long_lists_are_folded_and_totals_come_first() {
    let station = many();
    let folded = station.run(&["preview", "counts"]).expect(0).out;
    let at = |text: &str| folded.find(text).unwrap_or_else(|| panic!("no {text:?} in {folded}"));
    assert!(at("add   91  files  451 B") < at("Add\n"));
    assert!(
        at("counts/site-1/  30 files  150 B") > 0 && at("(top folder)") > 0 && !folded.contains("045.csv")
    );
    let all = station.run(&["preview", "counts", "--all"]).expect(0).out;
    assert!(all.contains("counts/site-0/045.csv") && !all.contains("folded by folder"));
    station.run(&["run", "counts"]).expect(0);
    let shown = station.run(&["history", "counts", "last"]).expect(0).out;
    assert!(shown.contains("… and 55 more (--items lists them)"), "{shown}");
    assert!(!station.run(&["history", "counts", "last", "--items"]).expect(0).out.contains("more"));
}

#[test]
fn colour_only_where_it_is_wanted() {
    let station = many();
    let escape = '\u{1b}';
    let plain = station.run(&["preview", "counts"]).expect(0).out;
    assert!(!plain.contains(escape), "a pipe gets no colour");
    let coloured = station.run(&["preview", "counts", "--color", "always"]).expect(0).out;
    assert!(coloured.contains(escape));
    assert_eq!(anstream_stripped(&coloured), plain, "colour adds nothing but colour");
}

fn anstream_stripped(text: &str) -> String {
    let mut plain = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("\u{1b}[") {
        plain.push_str(before);
        rest = after.split_once('m').map_or("", |(_, after)| after);
    }
    plain + rest
}

#[test]
fn hostile_names_do_not_reach_the_terminal() {
    let station = Station::with_job("mirror", &[]);
    station.write("\u{1b}]0;owned\u{7}x", "1", 1000);
    station.write("two\nlines.csv", "1", 1000);
    station.write("gpj\u{202e}exe.csv", "1", 1000);
    let preview = station.run(&["preview", "counts"]).expect(0).out;
    station.run(&["run", "counts"]).expect(0);
    let history = station.run(&["history", "counts", "last"]).expect(0).out;
    let filter = station.run(&["job", "filter", "counts", "--all"]).expect(0).out;
    for out in [preview, history, filter] {
        assert!(!out.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{out:?}");
        assert!(!out.contains("\nlines.csv"), "{out:?}");
    }
}

#[test]
fn with_json_there_is_nothing_but_json() {
    let station = many();
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    let commands: &[&[&str]] = &[
        &["preview", "counts"],
        &["run", "counts"],
        &["run", "counts"],
        &["status"],
        &["history"],
        &["history", "counts", "1"],
        &["history", "counts", "1", "--problems"],
        &["job", "list"],
        &["job", "show", "counts"],
        &["job", "filter", "counts"],
        &["job", "add", "second", "copy", "left", "@field-drive/second"],
        &["store", "list"],
        &["store", "check", "field-drive"],
        &["drives"],
        &["kept", "list", "counts"],
        &["kept", "prune", "counts"],
        &["verify", "counts"],
        &["restore", "counts", "rota.txt"],
        &["once", "copy", "left", "right", "--preview"],
    ];
    for command in commands {
        let ran = station.run(&[command, &["--json"][..]].concat()).expect(0);
        for line in ran.json() {
            assert!(line["event"].is_string(), "{command:?}: {line}");
        }
    }
    let finished = station.run_job(&[]).expect(0).last();
    let keys = [
        "v",
        "event",
        "job",
        "run",
        "outcome",
        "added",
        "updated",
        "moved",
        "removed",
        "meta",
        "skipped",
        "conflicts",
        "settled",
        "same",
        "problems",
        "bytes",
        "seconds",
    ];
    assert_eq!(finished.as_object().unwrap().keys().map(String::as_str).collect::<Vec<_>>(), keys);
}

#[test]
fn without_a_home_the_xdg_folders_are_used() {
    let station = Station::new();
    station.write("a", "1", 1000);
    let run = |words: &[&str]| {
        let mut command = station.command(words);
        command.env_remove("REEDHOOK_HOME").env("XDG_CONFIG_HOME", station.path("config"));
        command.env("XDG_STATE_HOME", station.path("state")).output().unwrap()
    };
    assert!(run(&["job", "add", "counts", "mirror", "left", "right"]).status.success());
    assert!(run(&["run", "counts"]).status.success());
    assert!(station.path("config/reedhook/jobs/counts.toml").is_file());
    assert!(station.path("state/reedhook/state.db").is_file());
    assert!(station.path("state/reedhook/runs/counts").is_dir());
    assert!(!station.path("config/reedhook/state.db").exists() && !station.path("home").exists());
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let station = many();
    let command = &mut station.command(&["preview", "counts", "--all", "--json"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut first = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut first).unwrap();
    let ended = child.wait_with_output().unwrap();
    assert!(first.contains("\"event\"") && !String::from_utf8_lossy(&ended.stderr).contains("panicked"));
}

#[test]
fn every_job_runs_even_when_one_cannot() {
    let station = many();
    write(&station.path("other/x"), b"1", 1000);
    station.run(&["job", "add", "b-other", "copy", "other", "other-copy", "--yes"]).expect(0);
    std::fs::rename(station.left(), station.path("gone")).unwrap();
    let ran = station.run(&["run", "--all"]).expect(3);
    assert!(ran.err.contains("is not there") && station.path("other-copy/x").exists(), "{}", ran.err);
    // A slip among several names touches nothing at all.
    std::fs::rename(station.path("gone"), station.left()).unwrap();
    station.run(&["run", "counts", "b-othr"]).expect(2);
    assert!(common::tree(&station.right()).is_empty());
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "added"), 91);
}

#[test]
fn verbose_names_each_item_and_quiet_only_what_went_wrong() {
    let station = Station::with_job("copy", &[]);
    station.write("fine", "1", 1000);
    station.write("clash", "1", 1000);
    write(&station.right().join("clash/x"), b"1", 1000);
    let verbose = station.run(&["run", "counts", "--verbose"]).expect(1).out;
    assert!(verbose.contains("add     fine") && verbose.contains("problem clash:"), "{verbose}");
    let quiet = station.run(&["run", "counts", "--quiet"]).expect(1).out;
    assert!(quiet.contains("kind-differs") && !quiet.contains("Done"), "{quiet}");
}
