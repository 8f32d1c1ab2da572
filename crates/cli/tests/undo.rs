//! Undo, restore and kept copies act on what a run really changed, bring all of it back, or say what they did not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use common::{Node, Station, number, set_folder_time, set_mode, tree, write};
use reedhook_testing::signals::{self, Signal};

/// A mirror of two files that has run once.
fn mirrored(options: &[&str]) -> Station {
    let station = Station::with_job("mirror", options);
    station.write("counts/north", "north", 1000);
    station.write("rota", "rota", 1000);
    station.run_job(&["--yes"]).expect(0);
    station
}

fn read(path: PathBuf) -> Option<String> {
    fs::read_to_string(path).ok()
}

fn contents(side: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let file = |(path, node)| match node {
        Node::File { content, .. } => Some((path, content)),
        _ => None,
    };
    tree(side).into_iter().filter_map(file).collect()
}

/// The undo of what was brought back takes it from where it was brought to, never from the backup.
#[test]
fn an_undone_restore_takes_nothing_from_the_backup() {
    let ways: [(&[&str], &str); 3] = [
        (&["restore", "counts", "rota"], "left/rota"),
        (&["restore", "counts", "rota", "--into", "elsewhere"], "elsewhere/rota"),
        (&["run", "counts", "--reverse", "--yes"], "left/rota"),
    ];
    for (words, brought) in ways {
        let station = mirrored(&[]);
        fs::remove_file(station.left().join("rota")).unwrap();
        let backup = tree(&station.right());
        let ran = station.run(&[words, &["--json"]].concat()).expect(0);
        let item = ran.json().into_iter().find(|line| line["path"] == "rota").unwrap();
        assert_eq!((&item["event"], &item["side"]), (&"item".into(), &"left".into()), "{words:?}");
        assert_eq!(read(station.path(brought)).as_deref(), Some("rota"));
        let said = station.run(&["undo", "counts", "last"]).expect(0).out;
        assert!(said.contains("is undone"), "{words:?}: {said}");
        assert_eq!(tree(&station.right()), backup, "{words:?}: the backup is untouched");
        assert!(read(station.path(brought)).is_none(), "{words:?}");
    }
}

/// What a restore overwrote is kept, and is reached by the commands that say so.
#[test]
fn what_a_restore_overwrote_can_be_had_back() {
    let station = mirrored(&[]);
    station.write("rota", "today's work", 9000);
    station.run(&["restore", "counts", "rota", "--yes"]).expect(0);
    assert_eq!(read(station.left().join("rota")).unwrap(), "rota");
    let listed = station.run(&["kept", "list", "counts", "--json"]).expect(0).json();
    let ours = listed.iter().find(|line| line["side"] == "left").expect("the left's are listed");
    assert_eq!((number(ours, "files"), number(ours, "number")), (1, 2));
    let files = station.run(&["kept", "list", "counts", "2", "--json"]).expect(0).last();
    assert_eq!((&files["path"], &files["side"]), (&"rota".into(), &"left".into()));
    station.run(&["kept", "restore", "counts", "rota", "--run", "2", "--yes"]).expect(0);
    assert_eq!(read(station.left().join("rota")).unwrap(), "today's work");
    station.run(&["undo", "counts", "last"]).expect(0);
    station.run(&["undo", "counts", "2"]).expect(0);
    assert_eq!(read(station.left().join("rota")).unwrap(), "today's work", "and by undo");
    assert_eq!(read(station.right().join("rota")).unwrap(), "rota");
}

/// A run remembers which stores it changed; where the job leads today does not matter.
#[test]
fn an_undo_is_about_the_stores_that_the_run_changed() {
    let station = mirrored(&[]);
    fs::create_dir(station.path("other")).unwrap();
    for name in ["counts/north", "rota"] {
        write(&station.path("other").join(name), name.rsplit('/').next().unwrap().as_bytes(), 1000);
    }
    station.run(&["job", "edit", "counts", "--to", "other"]).expect(0);
    let other = tree(&station.path("other"));
    station.run(&["undo", "counts", "1"]).expect(0);
    assert_eq!(tree(&station.path("other")), other, "it was never touched by that run");
    assert!(contents(&station.right()).is_empty(), "what the run had added is taken away where it was added");

    // Another drive at the same path.
    let station = mirrored(&[]);
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    fs::create_dir(station.right()).unwrap();
    write(&station.right().join("rota"), b"rota", 1000);
    let refused = station.run(&["undo", "counts", "1"]).expect(3);
    assert!(refused.err.contains("not the store that this run changed"), "{}", refused.err);
    assert!(station.right().join("rota").exists());
}

/// A killed run's log tells nearly all it did; the rest is found among its kept copies. A run in progress is not undone.
#[test]
fn the_undo_of_a_killed_run_brings_back_all_that_was_kept() {
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    station.write("stays", "s", 1000);
    for number in 0..1926 {
        station.write(&format!("d{}/{number}", number % 9), "x", 1000);
    }
    station.run_job(&["--yes"]).expect(0);
    let before = contents(&station.right());
    for folder in 0..9 {
        fs::remove_dir_all(station.left().join(format!("d{folder}"))).unwrap();
    }
    let mut child =
        station.command(&["run", "counts", "--yes", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
    while station.right().join("d0/0").exists() && child.try_wait().unwrap().is_none() {}
    signals::send(child.id(), Signal::STOP);
    let refused = station.run(&["undo", "counts", "last"]).expect(3);
    assert!(refused.err.contains("already running"), "{}", refused.err);
    child.kill().unwrap();
    assert!(child.wait().unwrap().code().is_none());
    assert!(contents(&station.right()).len() < before.len(), "the kill came too early to show anything");
    station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert!(contents(&station.right()) == before, "everything is back");
    assert!(station.kept().is_empty(), "nothing is left among the kept copies: {:?}", station.kept().keys());
}

/// What a job keeps at a place is not for another job's retention.
#[test]
fn the_kept_copies_of_another_job_are_left_alone() {
    let station = Station::new();
    for (job, version) in [("one", "1"), ("two", "2")] {
        let source = station.path(job);
        write(&source.join(job), version.as_bytes(), 1000);
        station.run(&["job", "add", job, "copy", job, "right"]).expect(0);
        station.run(&["run", job]).expect(0);
        write(&source.join(job), b"newer", 2000);
        station.run(&["run", job]).expect(0);
    }
    station.run(&["job", "edit", "two", "--keep-max", "0 B"]).expect(0);
    write(&station.path("two/two"), b"newest", 3000);
    station.run(&["run", "two"]).expect(0);
    let kept = station.kept();
    assert_eq!(kept.get(Path::new("one")).map(Vec::as_slice), Some(&b"1"[..]), "the other job's stays");
    assert_eq!(kept.get(Path::new("two")).map(Vec::as_slice), Some(&b"newer"[..]), "its own older one went");
    let listed = station.run(&["kept", "list", "two"]).expect(0).out;
    assert!(listed.contains("1 run of other jobs"), "{listed}");
    station.run(&["kept", "prune", "two", "--older-than", "0 days"]);
    assert!(station.kept().contains_key(Path::new("one")));
}

#[test]
fn an_undo_works_in_folders_that_are_closed_to_writing() {
    let station = Station::with_job("mirror", &[]);
    station.write("closed/gone", "1", 1000);
    station.write("closed/changed", "old", 1000);
    set_mode(&station.left().join("closed"), 0o555);
    let station = station.without_rights();
    station.run_job(&[]).expect(0);
    let before = tree(&station.right());
    set_mode(&station.left().join("closed"), 0o755);
    fs::remove_file(station.left().join("closed/gone")).unwrap();
    station.write("closed/changed", "newer", 2000);
    set_mode(&station.left().join("closed"), 0o555);
    common::tool(&[
        "chown",
        "-R",
        "-h",
        "--reference",
        station.right().to_str().unwrap(),
        station.left().canonicalize().unwrap().to_str().unwrap(),
    ]);
    station.run_job(&["--yes"]).expect(0);
    station.run(&["undo", "counts", "last"]).expect(0);
    assert_eq!(tree(&station.right()), before);
}

#[test]
fn the_undo_of_an_undo_gives_folders_their_modes_again() {
    let station = mirrored(&[]);
    set_mode(&station.left().join("counts"), 0o700);
    station.run_job(&[]).expect(0);
    let mode = |station: &Station| fs::metadata(station.right().join("counts")).unwrap().mode() & 0o777;
    assert_eq!(mode(&station), 0o700);
    station.run(&["undo", "counts", "last"]).expect(0);
    assert_eq!(mode(&station), 0o755);
    let said = station.run(&["undo", "counts", "last"]).expect(0).out;
    assert!(said.contains("is undone"), "{said}");
    assert_eq!(mode(&station), 0o700);
}

/// The words are about what happened: nothing undone, pruned, in the trash, erased, or back already.
#[test]
fn an_undo_says_what_happened() {
    let changed = |options: &[&str]| {
        let station = mirrored(options);
        station.write("rota", "newer", 2000);
        fs::remove_file(station.left().join("counts/north")).unwrap();
        let mut run = station.command(&["run", "counts", "--yes", "--quiet"]);
        assert!(run.env("XDG_DATA_HOME", station.path("data")).status().unwrap().success());
        station
    };
    let cases: [(&[&str], &str); 3] = [
        (&["--removed", "trash", "--replaced", "erase"], "moved to the trash"),
        (&["--removed", "erase", "--replaced", "erase"], "it was erased, as the job orders"),
        (&[], "brought back already, or pruned"),
    ];
    for (options, words) in cases {
        let station = changed(options);
        if options.is_empty() {
            fs::remove_dir_all(station.right().join(".reedhook/kept")).unwrap();
        }
        let said = station.run(&["undo", "counts", "last"]).expect(1).out;
        assert!(said.contains("nothing of run 2 of counts could be undone"), "{options:?}: {said}");
        assert!(said.contains(words) && !said.contains("while the job ran"), "{options:?}: {said}");
    }
    // What came back by itself, just as it was, needs no undoing.
    let station = changed(&[]);
    write(&station.right().join("counts/north"), b"north", 1000);
    let said = station.run(&["undo", "counts", "last"]).expect(0).out;
    assert!(said.contains("is undone") && said.contains("1 file already as they were"), "{said}");
    assert_eq!(read(station.right().join("rota")).unwrap(), "rota");
}

/// A folder comes back whole: of each file the newest version there is, whichever run kept it.
#[test]
fn a_restored_folder_is_whole() {
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    for name in ["a", "b", "c", "stays"] {
        station.write(&format!("maps/{name}"), &format!("{name} 1"), 1000);
    }
    station.write("maps/deep/d", "d 1", 1000);
    station.write("other", "o", 1000);
    station.run_job(&[]).expect(0);
    // Replaced, then removed; removed by one run, and by another.
    station.write("maps/a", "a 2", 2000);
    fs::remove_file(station.left().join("maps/b")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    fs::remove_file(station.left().join("maps/a")).unwrap();
    set_mode(&station.left().join("maps/deep"), 0o750);
    set_folder_time(&station.left().join("maps/deep"), 1_500_000);
    station.run_job(&["--yes"]).expect(0);
    fs::remove_dir_all(station.left().join("maps/deep")).unwrap();
    fs::remove_file(station.left().join("maps/c")).unwrap();
    station.run_job(&["--yes"]).expect(0);

    let said = station.run(&["restore", "counts", "maps"]).expect(0).out;
    assert!(said.contains("from kept copies of"), "{said}");
    for (name, content) in [("a", "a 2"), ("b", "b 1"), ("c", "c 1"), ("deep/d", "d 1"), ("stays", "stays 1")]
    {
        assert_eq!(read(station.left().join("maps").join(name)).as_deref(), Some(content), "{name}");
    }
    let deep = fs::metadata(station.left().join("maps/deep")).unwrap();
    assert_eq!(
        (deep.mode() & 0o777, deep.mtime()),
        (0o750, 1_500_000),
        "a kept folder has its mode and time"
    );

    // One run's alone, when that is asked for.
    station.run(&["restore", "counts", "maps/a", "--run", "2", "--into", "back"]).expect(0);
    assert_eq!(read(station.path("back/maps/a")).unwrap(), "a 1");
}

/// Two runs of one second: the later one is the later one, whatever their names end in.
#[test]
fn of_two_runs_in_one_second_the_later_is_the_newer() {
    for _ in 0..6 {
        let station = Station::with_job("mirror", &["--max-removals", "off"]);
        for number in 0..6 {
            station.write("rota", &format!("version {number}"), 1000 + number);
            station.run_job(&[]).expect(0);
        }
        fs::remove_file(station.right().join("rota")).unwrap();
        station.run(&["restore", "counts", "rota", "--into", "back"]).expect(0);
        assert_eq!(read(station.path("back/rota")).unwrap(), "version 4", "the newest that was kept");
    }
}

/// Runs without a job keep copies too, and the commands reach them.
#[test]
fn what_a_run_without_a_job_kept_is_reached() {
    let station = Station::new();
    station.write("rota", "new", 2000);
    write(&station.right().join("rota"), b"old", 1000);
    write(&station.right().join("extra"), b"extra", 1000);
    station.run(&["once", "mirror", "left", "right", "--yes"]).expect(0);
    let listed = station.run(&["kept", "list", "once", "--json"]).expect(0).last();
    assert_eq!((number(&listed, "files"), number(&listed, "number")), (2, 1));
    assert!(station.run(&["kept", "list", "once", "1"]).expect(0).out.contains("extra"));
    station.run(&["kept", "restore", "once", "extra"]).expect(0);
    assert_eq!(read(station.right().join("extra")).unwrap(), "extra");
    station.run(&["undo", "once", "last"]).expect(0);
    station.run(&["undo", "once", "1"]).expect(0);
    assert_eq!(read(station.right().join("rota")).unwrap(), "old");
    assert_eq!(read(station.right().join("extra")).unwrap(), "extra");

    let station = Station::new();
    station.write("rota", "of the left", 2000);
    write(&station.right().join("rota"), b"of the right", 3000);
    let held = station.run(&["once", "two-way", "left", "right"]).expect(4);
    assert!(held.out.contains("reedhook conflicts once"), "{}", held.out);
    assert!(station.run(&["conflicts", "once"]).expect(4).out.contains("rota"));
    station.run(&["settle", "once", "rota", "--keep", "left"]).expect(0);
    assert_eq!(read(station.right().join("rota")).unwrap(), "of the left");
    assert!(
        station.run(&["kept", "list", "once", "last"]).expect(0).out.contains("rota"),
        "the loser is reached"
    );
}

/// Of a run to several destinations each gets back what its own folders had, not what another's had.
#[test]
fn each_of_several_destinations_gets_its_own_folder_times_back() {
    let station = Station::new();
    station.write("north/heron.csv", "heron,3", 1000);
    let sides = ["job", "add", "counts", "mirror", "left", "right", "--to", "other", "--yes"];
    station.run(&sides).expect(0);
    station.run_job(&["--yes"]).expect(0);
    let folders = [station.path("right/north"), station.path("other/north")];
    let before = [2000, 3000];
    folders.iter().zip(before).for_each(|(folder, seconds)| set_folder_time(folder, seconds));
    set_folder_time(&station.left().join("north"), 4000);
    station.write("heron.csv", "heron,4", 1000);
    station.run_job(&["--yes"]).expect(0);
    let times = || [0, 1].map(|at| fs::metadata(&folders[at]).unwrap().mtime());
    assert_eq!(times(), [4000, 4000]);
    station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert_eq!(times(), [2000, 3000]);
}
