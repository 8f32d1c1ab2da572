//! People at work while runs go on, and runs that are killed under their hands: nothing that anybody made may be lost.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use common::{Ran, Station, number, set_mode, write};

/// Slow enough that somebody can work while a run goes on.
const SLOW: [&str; 2] = ["--limit", "900 kB/s"];

/// A job of this kind that has run once, with these files on both sides.
fn station(kind: &str, options: &[&str], files: &[(&str, &str)]) -> Station {
    let station = Station::with_job(kind, &[&SLOW[..], options].concat());
    for (path, content) in files {
        station.write(path, content, 1000);
    }
    station.run_job(&["--yes"]).expect(0);
    station
}

fn read(folder: &Path, path: &str) -> Option<String> {
    fs::read_to_string(folder.join(path)).ok()
}

#[track_caller]
fn has_problem(ran: &Ran, code: &str, path: &str) {
    let found = ran.json().iter().any(|line| line["code"] == code && line["path"] == path);
    assert!(found, "{code} at {path}: {}", ran.out);
}

/// A folder beside a side, on the same file system, that no job looks at.
fn beside(side: &Path) -> std::path::PathBuf {
    let real = side.canonicalize().unwrap();
    let name = format!("{}-aside", real.file_name().unwrap().to_string_lossy());
    real.with_file_name(name)
}

/// Tells the other threads of a test to stop, also when it fails.
struct StopAtEnd<'a>(&'a AtomicBool);

impl Drop for StopAtEnd<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

fn touch(path: &Path, seconds: u64) {
    let time = std::time::UNIX_EPOCH + Duration::from_secs(seconds);
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

/// A new time or mode that is on its way must not be put on what somebody has saved there in the meantime: it would look like
/// what was there before, and the next change from the other side would overwrite it.
#[test]
fn a_new_time_or_mode_does_not_hide_an_edit() {
    for change in ["touch", "chmod"] {
        let station = station("two-way", &[], &[("note.txt", "before")]);
        let note = station.left().join("note.txt");
        if change == "touch" {
            touch(&note, 5000)
        } else {
            set_mode(&note, 0o600)
        }
        let ran = station.while_running(|| write(&station.right().join("note.txt"), b"edited", 7000));
        has_problem(&ran.expect(1), "changed-meanwhile", "note.txt");
        station.run_job(&[]).expect(0);
        assert_eq!(read(&station.left(), "note.txt").unwrap(), "edited", "{change}: the edit travels");
        write(&note, b"newest", 9000);
        station.run_job(&[]).expect(0);
        assert_eq!(read(&station.right(), "note.txt").unwrap(), "newest", "{change}");
    }
    let station = station("mirror", &[], &[("note.txt", "before")]);
    set_mode(&station.left().join("note.txt"), 0o600);
    let ran = station.while_running(|| write(&station.right().join("note.txt"), b"edited", 7000));
    has_problem(&ran.expect(1), "changed-meanwhile", "note.txt");
    station.run_job(&[]).expect(0);
    assert_eq!(read(&station.right(), "note.txt").unwrap(), "before", "a mirror mends it");
    assert!(station.kept().values().any(|kept| kept == b"edited"));
}

/// What is removed because the other side lacks it is looked for there once more: somebody may have put it back.
#[test]
fn what_is_put_back_during_a_run_stays_on_both_sides() {
    for kind in ["two-way", "mirror"] {
        let files = [("d/one", "1"), ("d/deep/two", "2"), ("other", "3"), ("more", "4"), ("and more", "5")];
        let station = station(kind, &["--max-removals", "off"], &files);
        let (here, aside) = (station.left().join("d"), beside(&station.left()));
        fs::rename(&here, &aside).unwrap();
        let ran = station.while_running(|| fs::rename(&aside, &here).unwrap());
        has_problem(&ran.expect(1), "changed-meanwhile", "d/one");
        station.run_job(&["--yes"]).expect(0);
        for side in [station.left(), station.right()] {
            assert_eq!(read(&side, "d/one").as_deref(), Some("1"), "{kind}");
            assert_eq!(read(&side, "d/deep/two").as_deref(), Some("2"), "{kind}");
        }
    }
}

/// The same after a kill: what the killed run had removed is nobody's removal.
#[test]
fn what_is_brought_back_after_a_kill_stays_on_both_sides() {
    for put_back in ["restore", "by hand"] {
        let station = Station::with_job("two-way", &["--max-removals", "off", "--max-changes", "off"]);
        station.write("a-diary", "every day", 1000);
        for number in 0..1500 {
            station.write(&format!("z{}/{number}", number % 7), "x", 1000);
        }
        station.write("stays", "s", 1000);
        station.run_job(&["--yes"]).expect(0);
        let diary = fs::read(station.left().join("a-diary")).unwrap();
        fs::remove_file(station.left().join("a-diary")).unwrap();
        for folder in 0..7 {
            fs::remove_dir_all(station.left().join(format!("z{folder}"))).unwrap();
        }
        let mut child =
            station.command(&["run", "counts", "--yes", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
        while station.right().join("a-diary").exists() && child.try_wait().unwrap().is_none() {
            std::hint::spin_loop();
        }
        child.kill().unwrap();
        let ended = child.wait().unwrap();
        assert!(ended.code().is_none(), "the kill came too late to show anything");
        if put_back == "restore" {
            station.run(&["restore", "counts", "a-diary", "--yes"]).expect(0);
        } else {
            write(&station.left().join("a-diary"), &diary, 1000);
        }
        station.run_job(&["--yes"]).expect(0);
        for side in [station.left(), station.right()] {
            assert_eq!(read(&side, "a-diary").as_deref(), Some("every day"), "{put_back}");
            assert!(!side.join("z1").exists(), "{put_back}: what a person removed goes on to go");
        }
    }
}

/// A file that is written all the time at one side alone is never in conflict with an older version of itself.
#[test]
fn edits_of_one_side_are_no_conflict_with_themselves() {
    for policy in ["hold", "right"] {
        let station = Station::with_job("two-way", &["--conflict", policy, "--max-changes", "off"]);
        station.write("app.log", "began\n", 1000);
        for number in 0..40 {
            station.write(&format!("f{number}"), "x", 1000);
        }
        station.run_job(&[]).expect(0);
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let mut log = fs::File::options().append(true).open(station.left().join("app.log")).unwrap();
                let mut line = 0;
                while !stop.load(Ordering::Relaxed) {
                    line += 1;
                    writeln!(log, "line {line}").unwrap();
                    std::thread::sleep(Duration::from_millis(3));
                }
            });
            let _ends = StopAtEnd(&stop);
            for round in 0..4 {
                std::thread::sleep(Duration::from_millis(20));
                for number in 0..40 {
                    station.write(&format!("f{number}"), &format!("{round}"), 2000 + round);
                }
                let ran = station.run_job(&["--yes"]);
                // A file that changes under the reader may have to wait for the next run.
                assert!([0, 1].contains(&ran.code), "{policy}, run {round}: {}", ran.out);
            }
        });
        let last = station.run_job(&[]).expect(0).last();
        assert_eq!(number(&last, "conflicts"), 0, "{last}");
        let log = read(&station.left(), "app.log").unwrap();
        assert!(log.lines().count() > 20 && log.starts_with("began\nline 1\n"), "{policy}: lines are lost");
        assert_eq!(read(&station.right(), "app.log").unwrap(), log);
    }
}

/// Two conflicts crosswise, a file against a folder each, with files of one size and time in the folders: what looks like a move
/// is none.
#[test]
fn settling_conflicts_renames_nothing_unread() {
    let station = Station::with_job("two-way", &[]);
    // The left's folder is newer than the right's file, and the left's file newer than the right's folder.
    write(&station.left().join("x/e"), b"from the left ", 1000);
    write(&station.right().join("x"), b"a file at the right", 3000);
    write(&station.right().join("y/e"), b"from the right", 1000);
    write(&station.left().join("y"), b"a file at the left", 2_000_000_000);
    station.run_job(&[]).expect(4);
    station.run(&["settle", "counts", "--all", "--keep", "both", "--yes"]);
    station.run_job(&["--yes"]);
    let everything = |side: &Path| -> Vec<Vec<u8>> {
        let all = common::tree(side).into_values().chain(
            fs::read_dir(side.join(".reedhook/kept"))
                .into_iter()
                .flatten()
                .flatten()
                .flat_map(|run| common::tree(&run.path()).into_values()),
        );
        all.filter_map(
            |node| if let common::Node::File { content, .. } = node { Some(content) } else { None },
        )
        .collect()
    };
    let (left, right) = (everything(&station.left()), everything(&station.right()));
    for version in ["from the left ", "from the right"] {
        let there = left.iter().chain(&right).any(|held| held == version.as_bytes());
        assert!(there, "{version} is nowhere");
    }
    for path in ["x", "y", "x/e", "y/e"] {
        assert_eq!(read(&station.left(), path), read(&station.right(), path), "{path}");
    }
    let verified = station.run(&["verify", "counts", "--json"]).expect(0).last();
    assert_eq!(number(&verified, "different"), 0);
}

/// With everything preserved nothing is renamed: owners and attributes would have to be compared too. Two-way jobs do not carry those.
#[test]
fn nothing_is_renamed_where_everything_is_preserved() {
    let station = Station::with_job("mirror", &["--preserve", "full"]);
    station.write("old/file", &"content ".repeat(2000), 1000);
    station.write("stays", "s", 1000);
    station.run_job(&[]).expect(0);
    fs::rename(station.left().join("old"), station.left().join("new")).unwrap();
    let ran = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&ran, "moved"), number(&ran, "added")), (0, 1), "{ran}");
    let refused =
        station.run(&["job", "add", "both", "two-way", "left", "right", "--preserve", "full"]).expect(2);
    assert!(refused.err.contains("is for mirror and copy"), "{}", refused.err);
}
