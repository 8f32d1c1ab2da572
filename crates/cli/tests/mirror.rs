//! Mirror and copy jobs through the built program: what lands where, what is kept, what is left alone.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use common::{
    Station, assert_alike, assert_no_leftovers, hostile_tree, make_pipe, number, set_mode, tree, write,
};
use reedhook_testing::signals::{self, Signal};

#[test]
fn a_mirror_is_exact_and_a_second_run_does_nothing() {
    let station = Station::with_job("mirror", &["--junk", "take"]);
    hostile_tree(&station.left());
    let preview = station.run(&["preview", "counts", "--json"]).expect(0);
    assert!(tree(&station.right()).is_empty(), "a preview touches nothing");
    assert!(!station.right().join(".reedhook").exists(), "a preview leaves no trace");
    let run = station.run_job(&[]).expect(0);
    for key in ["added", "updated", "moved", "removed", "meta", "skipped", "same", "problems", "bytes"] {
        assert_eq!(preview.last()[key], run.last()[key], "{key}");
    }
    assert_eq!(run.last()["outcome"], "done");
    assert_alike(&station.left(), &station.right());
    assert_no_leftovers(&station.right());
    let differences = std::process::Command::new("diff")
        .args(["-r", "--no-dereference", "--exclude=.reedhook"])
        .args([station.left(), station.right()])
        .output()
        .unwrap();
    assert!(differences.stdout.is_empty(), "{}", String::from_utf8_lossy(&differences.stdout));

    let again = station.run_job(&[]).expect(0);
    assert_eq!(number(&again.last(), "same"), number(&run.last(), "added"));
    for key in ["added", "updated", "removed", "meta", "bytes", "problems"] {
        assert_eq!(number(&again.last(), key), 0, "{key}");
    }
    assert!(station.run(&["run", "counts"]).expect(0).out.contains("nothing to do"));
    assert!(station.run(&["preview", "counts"]).expect(0).out.contains("Nothing to do"));
}

/// Without root's rights: folders that are closed to writing are opened for the change and closed again.
#[test]
fn an_account_without_rights_mirrors_as_exactly() {
    let station = Station::with_job("mirror", &["--junk", "take"]);
    hostile_tree(&station.left());
    let station = station.without_rights();
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &station.right());
    set_mode(&station.left().join("closed folder"), 0o755);
    fs::remove_file(station.left().join("closed folder/inside")).unwrap();
    write(&station.left().join("closed folder/other"), b"2", 2);
    set_mode(&station.left().join("closed folder"), 0o555);
    let run = station.without_rights().run_job(&[]).expect(0).last();
    assert_eq!((number(&run, "added"), number(&run, "removed"), number(&run, "meta")), (1, 1, 0));
}

#[test]
fn names_that_are_not_utf8_have_their_bytes_in_json() {
    use std::os::unix::ffi::OsStrExt;
    let station = Station::with_job("mirror", &[]);
    write(&station.left().join(std::ffi::OsStr::from_bytes(b"\xff.csv")), b"1", 1);
    let items = station.run_job(&[]).expect(0).json();
    assert_eq!(items[0]["path"], "\u{fffd}.csv");
    assert_eq!(items[0]["path_base64"], "/y5jc3Y=");
    assert_eq!(
        (&items[0]["event"], &items[0]["do"], &items[0]["side"]),
        (&"item".into(), &"add".into(), &"right".into())
    );
}

#[test]
fn changes_travel_and_what_goes_is_kept() {
    let station = Station::with_job("mirror", &[]);
    for (path, content) in
        [("same", "1"), ("changed", "old"), ("gone/deep", "bye"), ("mode", "m"), ("touched", "t")]
    {
        station.write(path, content, 1000);
    }
    symlink("same", station.left().join("link")).unwrap();
    station.run_job(&[]).expect(0);
    station.write("changed", "newer", 2000);
    station.write("touched", "t", 3000);
    station.write("brand/new", "hello", 2000);
    set_mode(&station.left().join("mode"), 0o600);
    fs::remove_dir_all(station.left().join("gone")).unwrap();
    fs::remove_file(station.left().join("link")).unwrap();
    symlink("changed", station.left().join("link")).unwrap();
    let run = station.run_job(&[]).expect(0);
    let last = run.last();
    let found: Vec<u64> = ["added", "updated", "removed", "meta", "same", "bytes"]
        .iter()
        .map(|key| number(&last, key))
        .collect();
    assert_eq!(found, [1, 3, 1, 1, 1, 11]);
    assert_alike(&station.left(), &station.right());
    let kept = station.kept();
    let names: Vec<&str> = kept.keys().map(|path| path.to_str().unwrap()).collect();
    assert_eq!(names, ["changed", "gone/deep", "touched"]);
    assert_eq!(kept[Path::new("changed")], b"old");
    let words: Vec<String> =
        run.json().iter().filter_map(|line| line["do"].as_str().map(str::to_owned)).collect();
    assert!(
        ["add", "update", "remove", "meta", "mkdir", "rmdir"]
            .iter()
            .all(|word| words.contains(&(*word).to_owned()))
    );
}

#[test]
fn erasing_keeps_nothing() {
    let station = Station::with_job("mirror", &["--removed", "erase", "--replaced", "erase"]);
    station.write("a", "1", 1000);
    station.write("b", "1", 1000);
    station.run_job(&[]).expect(0);
    station.write("a", "22", 2000);
    fs::remove_file(station.left().join("b")).unwrap();
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &station.right());
    assert!(station.kept().is_empty());
}

/// Every kind of thing in the place of every other.
#[test]
fn a_mirror_changes_any_kind_into_any_other() {
    fn make(path: &Path, kind: &str) {
        match kind {
            "file" => write(path, b"content", 1000),
            "folder" => {
                write(&path.join("x/deep"), b"1", 1000);
                write(&path.join("y"), b"2", 1000);
            }
            "empty folder" => fs::create_dir(path).unwrap(),
            "link" => symlink("target", path).unwrap(),
            "pipe" => make_pipe(path),
            _ => {}
        }
    }
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    let kinds = ["absent", "file", "folder", "empty folder", "link"];
    for left in kinds {
        for right in kinds.into_iter().chain(["pipe"]) {
            make(&station.left().join(format!("{left} for {right}")), left);
            make(&station.right().join(format!("{left} for {right}")), right);
        }
    }
    station.write("always", "1", 1000);
    let preview = station.run(&["preview", "counts", "--json"]).expect(0).last();
    let run = station.run_job(&["--yes"]).expect(0).last();
    assert_alike(&station.left(), &station.right());
    for key in ["added", "updated", "removed", "meta", "same", "bytes"] {
        assert_eq!(preview[key], run[key], "{key}");
    }
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "problems"), 0);
}

/// Between file systems that keep UTC a time that is an hour off is a change like any other, in kinds of every direction.
#[test]
fn an_hour_is_a_change_like_any_other() {
    for kind in ["mirror", "two-way"] {
        let station = Station::with_job(kind, &["--max-changes", "off"]);
        let shift = |by: u64, content: &str| {
            for number in 0..12 {
                station.write(&format!("d{}/{number}", number % 3), content, 1_000_000 + number + by);
            }
        };
        shift(0, "reading");
        station.run_job(&[]).expect(0);
        shift(3600, "changed");
        let run = station.run_job(&[]).expect(0).last();
        assert_eq!((number(&run, "updated"), number(&run, "skipped")), (12, 0), "{kind}");
        assert_eq!(fs::read(station.right().join("d1/1")).unwrap(), b"changed");
    }
}

#[test]
fn a_copy_never_removes_and_leaves_newer_files() {
    let station = Station::with_job("copy", &[]);
    station.write("both", "left", 1000);
    station.write("new", "new", 1000);
    station.write("kind", "file", 1000);
    write(&station.right().join("both"), b"right is newer", 9000);
    write(&station.right().join("extra"), b"stays", 1000);
    write(&station.right().join("kind/inside"), b"stays", 1000);
    let run = station.run_job(&[]).expect(1).last();
    assert_eq!((number(&run, "added"), number(&run, "skipped"), number(&run, "problems")), (1, 1, 1));
    assert_eq!(run["outcome"], "problems");
    assert_eq!(fs::read(station.right().join("both")).unwrap(), b"right is newer");
    assert!(station.right().join("extra").exists() && station.right().join("kind/inside").exists());
    station.run(&["job", "edit", "counts", "--newer", "update"]).expect(0);
    assert_eq!(number(&station.run_job(&[]).expect(1).last(), "updated"), 1);
    assert_eq!(fs::read(station.right().join("both")).unwrap(), b"left");
    assert_eq!(station.kept()[Path::new("both")], b"right is newer");
}

#[test]
fn what_the_filter_leaves_out_is_untouched_on_both_sides() {
    let options = ["--exclude", "*.tmp", "--exclude", "scratch/", "--max-size", "1 kB"];
    let station = Station::with_job("mirror", &options);
    for path in ["a.csv", "b.tmp", "scratch/c.csv", "Thumbs.db"] {
        station.write(path, "left", 1000);
    }
    station.write("large", &"x".repeat(2000), 1000);
    let untouched = ["old.tmp", "scratch/d.csv", "gone/old.tmp", "b.tmp", ".Trash-1000/x"];
    for path in untouched.iter().chain(&["gone/x.csv", "empty-after/y.csv"]) {
        write(&station.right().join(path), b"right", 1000);
    }
    write(&station.right().join("large there"), &[0; 2000], 1000);
    let run = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&run, "added"), number(&run, "removed")), (1, 2));
    for path in untouched {
        assert_eq!(fs::read(station.right().join(path)).unwrap(), b"right", "{path}");
    }
    assert!(station.right().join("large there").exists() && !station.right().join("large").exists());
    assert!(!station.right().join("empty-after").exists(), "a folder that is empty after the run goes");
}

#[test]
fn only_makes_just_the_folders_it_needs() {
    let station = Station::with_job("mirror", &["--only", "*.csv", "--only", "maps/"]);
    for path in ["north/a.csv", "north/a.jpg", "stills/b.jpg", "maps/deep/c.svg"] {
        station.write(path, "1", 1000);
    }
    fs::create_dir_all(station.left().join("maps/empty")).unwrap();
    station.run_job(&[]).expect(0);
    let found: Vec<PathBuf> = tree(&station.right()).into_keys().collect();
    let expected = ["maps", "maps/deep", "maps/deep/c.svg", "maps/empty", "north", "north/a.csv"];
    assert_eq!(found, expected.map(PathBuf::from));
    fs::remove_dir_all(station.left().join("north")).unwrap();
    station.run_job(&[]).expect(0);
    assert!(!station.right().join("north").exists());
}

#[test]
fn a_folder_with_filtered_content_does_not_make_way_for_a_file() {
    let station = Station::with_job("mirror", &["--exclude", "*.tmp"]);
    station.write("spot", "now a file", 1000);
    write(&station.right().join("spot/keep.tmp"), b"left alone", 1000);
    write(&station.right().join("spot/extra.csv"), b"extra", 1000);
    let preview = station.run(&["preview", "counts", "--json"]).expect(1);
    let run = station.run_job(&["--yes"]).expect(1);
    assert_eq!(preview.last()["removed"], run.last()["removed"]);
    let problem = &run.json().into_iter().find(|line| line["event"] == "problem").unwrap();
    assert_eq!((&problem["code"], &problem["path"]), (&"occupied".into(), &"spot".into()));
    assert_eq!(fs::read(station.right().join("spot/keep.tmp")).unwrap(), b"left alone");
    assert!(!station.right().join("spot/extra.csv").exists());
}

#[test]
fn pipes_and_sockets_are_reported_and_never_waited_on() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    make_pipe(&station.left().join("pipe"));
    let _socket = std::os::unix::net::UnixListener::bind(station.left().join("socket")).unwrap();
    let run = station.run_job(&[]).expect(0);
    assert_eq!((number(&run.last(), "added"), number(&run.last(), "skipped")), (1, 2));
    let left: Vec<_> = run
        .json()
        .into_iter()
        .filter(|line| line["do"] == "leave")
        .map(|line| line["path"].clone())
        .collect();
    assert_eq!(left, ["pipe", "socket"]);
    assert_eq!(tree(&station.right()).len(), 1);
    assert!(station.run(&["preview", "counts"]).expect(0).out.contains("a pipe, socket or device"));
}

#[test]
fn several_sources_and_destinations() {
    let station = Station::new();
    for (path, content) in [("counts/a.csv", "1"), ("maps/m.svg", "2")] {
        write(&station.path(path), content.as_bytes(), 1000);
    }
    write(&station.right().join("unrelated/x"), b"not ours", 1000);
    write(&station.right().join("maps/old.svg"), b"old", 1000);
    let job =
        ["job", "add", "counts", "mirror", "counts", "right", "--from", "maps", "--to", "second", "--yes"];
    station.run(&job).expect(0);
    let run = station.run_job(&["--yes"]).expect(0);
    assert_eq!((number(&run.last(), "added"), number(&run.last(), "removed")), (4, 1));
    assert!(run.json().iter().filter(|line| line["event"] == "item").all(|line| line["to"].is_string()));
    for destination in ["right", "second"] {
        assert_eq!(fs::read(station.path(destination).join("counts/a.csv")).unwrap(), b"1");
        assert_eq!(fs::read(station.path(destination).join("maps/m.svg")).unwrap(), b"2");
    }
    assert!(station.right().join("unrelated/x").exists(), "only the sources' folders are the job's");
    assert!(!station.right().join("maps/old.svg").exists());
    // The second destination is in use: the first is done by then, so this is no refusal before any change.
    write(&station.path("counts/b.csv"), b"2", 1000);
    let held = fs::File::create(station.path("second/.reedhook/lock")).unwrap();
    held.lock().unwrap();
    let stopped = station.run_job(&[]).expect(5).last();
    assert_eq!((&stopped["outcome"], number(&stopped, "added")), (&"stopped".into(), 1));
    drop(held);
    fs::create_dir_all(station.path("other/counts")).unwrap();
    let twice = ["job", "add", "twice", "copy", "counts", "right", "--from", "other/counts"];
    assert!(station.run(&twice).expect(2).err.contains("same folder \"counts\""));
}

#[test]
fn once_does_the_same_without_a_job() {
    let station = Station::new();
    station.write("a.csv", "1", 1000);
    station.write("b.tmp", "1", 1000);
    let words = ["once", "copy", "left", "right", "--exclude", "*.tmp"];
    let preview = station.run(&[&words[..], &["--preview"]].concat()).expect(0);
    assert!(preview.out.contains("a.csv") && tree(&station.right()).is_empty());
    let run = station.run(&[&words[..], &["--json"]].concat()).expect(0);
    assert_eq!((&run.last()["job"], number(&run.last(), "added")), (&"once".into(), 1));
    assert!(station.run(&["history", "once"]).expect(0).out.contains("1 added"));
    assert!(station.run(&["job", "list"]).expect(0).out.contains("no job yet"));
}

#[test]
fn ctrl_c_stops_cleanly_and_the_next_run_goes_on() {
    let station = Station::with_job("mirror", &[]);
    for number in 0..3000 {
        station.write(&format!("d{}/f{number}", number % 30), &"x".repeat(20_000), 1000);
    }
    let child =
        station.command(&["run", "counts", "--json"]).stdout(std::process::Stdio::piped()).spawn().unwrap();
    // The first unfinished file shows that the work has begun.
    while tree(&station.right()).is_empty() {
        std::thread::yield_now();
    }
    signals::send(child.id(), Signal::INT);
    let output = child.wait_with_output().unwrap();
    let last: serde_json::Value =
        serde_json::from_slice(output.stdout.split(|b| *b == b'\n').rev().nth(1).unwrap()).unwrap();
    if output.status.code() == Some(0) {
        // It had already finished: nothing to check about stopping.
        assert_eq!(last["outcome"], "done");
    } else {
        assert_eq!((output.status.code(), &last["outcome"]), (Some(130), &"interrupted".into()));
        assert!(number(&last, "added") < 3000);
    }
    assert_no_leftovers(&station.right());
    let next = station.run_job(&[]).expect(0).last();
    assert_eq!(number(&next, "added") + number(&next, "same"), 3000);
    assert_eq!(number(&next, "same"), number(&last, "added"), "what was published is not copied again");
    assert_alike(&station.left(), &station.right());
}
