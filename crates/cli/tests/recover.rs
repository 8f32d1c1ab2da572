//! Bringing things back, and recognising the place that a job wrote to.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::Path;

use common::{Station, assert_alike, number, tree, write};

/// A mirror whose second run replaced, removed and added something.
fn after_two_runs() -> Station {
    let station = Station::with_job("mirror", &[]);
    for (path, content) in
        [("same", "1"), ("counts/changed", "old"), ("maps/gone", "map"), ("maps/deep/gone", "deep")]
    {
        station.write(path, content, 1000);
    }
    station.run_job(&[]).expect(0);
    station.write("counts/changed", "newer", 2000);
    station.write("added", "new", 2000);
    fs::remove_dir_all(station.left().join("maps")).unwrap();
    station.run_job(&[]).expect(0);
    station
}

#[test]
fn restore_takes_the_other_side_first_and_kept_copies_otherwise() {
    let station = after_two_runs();
    fs::remove_file(station.left().join("same")).unwrap();
    station.run(&["restore", "counts", "same", "maps"]).expect(0);
    assert_eq!(fs::read(station.left().join("same")).unwrap(), b"1");
    assert_eq!(fs::read(station.left().join("maps/deep/gone")).unwrap(), b"deep");
    assert!(!station.left().join(".reedhook").exists(), "nothing but the files");
    let modified = |side: &Path| fs::metadata(side.join("same")).unwrap().modified().unwrap();
    assert_eq!(modified(&station.left()), modified(&station.right()));

    // The old version of what was replaced, beside the new one.
    station.run(&["restore", "counts", "counts/changed", "--run", "2", "--into", "back"]).expect(0);
    assert_eq!(fs::read(station.path("back/counts/changed")).unwrap(), b"old");

    let missing = station.run(&["restore", "counts", "never/was"]).expect(2);
    assert!(missing.err.contains("neither at the right nor in the kept copies"), "{}", missing.err);
    assert!(station.run(&["restore", "counts", "../up"]).expect(2).err.contains("\"..\""));
    assert!(station.run(&["history", "counts"]).expect(0).out.contains("restore: "));
}

#[test]
fn restore_leaves_what_is_newer_unless_told() {
    let station = after_two_runs();
    station.write("counts/changed", "newest, not yet run", 9000);
    let left = station.run(&["restore", "counts", "counts/changed", "--json"]).expect(0);
    assert_eq!((number(&left.last(), "skipped"), number(&left.last(), "updated")), (1, 0));
    station.run(&["restore", "counts", "counts/changed", "--yes"]).expect(0);
    assert_eq!(fs::read(station.left().join("counts/changed")).unwrap(), b"newer");
    let kept: Vec<_> = tree(&station.left().join(".reedhook/kept")).into_keys().collect();
    assert!(
        kept.iter().any(|path| path.ends_with("counts/changed")),
        "what was overwritten is kept: {kept:?}"
    );
}

#[test]
fn kept_copies_are_listed_put_back_and_pruned() {
    let station = after_two_runs();
    let listed = station.run(&["kept", "list", "counts", "--json"]).expect(0).last();
    assert_eq!((number(&listed, "files"), number(&listed, "number")), (3, 2));
    let shown = station.run(&["kept", "list", "counts", "2"]).expect(0).out;
    assert!(shown.contains("maps/deep/gone") && shown.contains("counts/changed"), "{shown}");
    station.run(&["kept", "restore", "counts", "maps/gone"]).expect(0);
    assert_eq!(fs::read(station.right().join("maps/gone")).unwrap(), b"map");
    assert!(station.run(&["kept", "prune", "counts"]).expect(0).out.contains("Nothing to prune"));
    write(&station.right().join(".reedhook/kept/20010101-000000-aaaa/ancient"), b"1", 1000);
    let prune = ["kept", "prune", "counts", "--older-than", "7 days", "--json"];
    let held = fs::File::create(station.right().join(".reedhook/lock")).unwrap();
    held.lock().unwrap();
    assert!(
        station.run(&prune).expect(3).err.contains("another run is writing"),
        "a run in progress keeps its copies"
    );
    drop(held);
    let pruned = station.run(&prune).expect(0).last();
    assert_eq!((number(&pruned, "runs"), number(&pruned, "files")), (1, 1));
    assert!(!station.kept().contains_key(Path::new("ancient")) && station.kept().len() == 3);
}

#[test]
fn runs_prune_old_kept_copies_but_never_their_own() {
    let station = after_two_runs();
    let kept = station.right().join(".reedhook/kept");
    write(&kept.join("20010101-000000-aaaa/ancient"), b"1", 1000);
    station.run(&["job", "edit", "counts", "--keep-max", "0 B"]).expect(0);
    station.write("counts/changed", "third", 3000);
    station.run_job(&[]).expect(0);
    let runs: Vec<_> = fs::read_dir(&kept).unwrap().flatten().collect();
    assert_eq!(runs.len(), 1, "{runs:?}");
    assert_eq!(station.kept()[Path::new("counts/changed")], b"newer");
}

#[test]
fn undo_puts_a_destination_back() {
    let station = Station::with_job("mirror", &[]);
    for (path, content) in [("same", "1"), ("changed", "old"), ("maps/gone", "map")] {
        station.write(path, content, 1000);
    }
    station.run_job(&[]).expect(0);
    let before = tree(&station.right());
    station.write("changed", "newer", 2000);
    station.write("new folder/added", "new", 2000);
    fs::remove_dir_all(station.left().join("maps")).unwrap();
    station.run_job(&[]).expect(0);
    let said = station.run(&["undo", "counts", "last"]).expect(0).out;
    assert!(said.contains("run 2 of counts is undone"), "{said}");
    assert_eq!(tree(&station.right()), before);
    let again = station.run(&["undo", "counts", "2"]).expect(0);
    assert!(again.out.contains("everything is as it was before run 2"), "{}", again.out);
    assert!(station.run(&["history", "counts"]).expect(0).out.contains("undo: "));
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &station.right());
    station.run(&["undo", "counts", "no-such"]).expect(2);
}

#[test]
fn reverse_shows_what_it_would_overwrite_and_asks() {
    let station = after_two_runs();
    station.write("counts/changed", "spoilt", 9000);
    fs::remove_file(station.left().join("same")).unwrap();
    let asked = station.run(&["run", "counts", "--reverse"]).expect(3);
    assert!(
        asked.out.contains("counts/changed") && asked.err.contains("--yes"),
        "{} {}",
        asked.out,
        asked.err
    );
    assert_eq!(fs::read(station.left().join("counts/changed")).unwrap(), b"spoilt");
    station.run(&["run", "counts", "--reverse", "--yes"]).expect(0);
    assert_alike(&station.right(), &station.left());
}

#[test]
fn another_drive_or_an_empty_mount_point_is_not_taken_for_the_right_one() {
    let station = after_two_runs();
    let before = tree(&station.left());
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    fs::create_dir(station.right()).unwrap();
    for command in [&["run", "counts", "--yes"][..], &["preview", "counts"], &["undo", "counts", "2"]] {
        let refused = station.run(command).expect(3);
        assert!(refused.err.contains("its mark is missing"), "{command:?}: {}", refused.err);
    }
    assert!(tree(&station.right()).is_empty());
    write(&station.right().join(".reedhook/identity"), b"id = \"somebody else's\"\n", 1000);
    let refused = station.run_job(&[]).expect(3).last();
    assert_eq!(refused["code"], "destination-foreign");
    assert!(refused["message"].as_str().unwrap().contains("job edit counts --to"));
    // The way on that the sentence names.
    station.run(&["job", "edit", "counts", "--to", "right"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    assert_alike(&station.left(), &station.right());
    assert_eq!(tree(&station.left()), before);
}

#[test]
fn problems_become_filter_lines() {
    let station = Station::with_job("copy", &[]);
    station.write("ok", "1", 1000);
    for name in ["clash", "odd*[name]"] {
        station.write(name, "file", 1000);
        write(&station.right().join(name).join("x"), b"1", 1000);
    }
    station.run_job(&[]).expect(1);
    let listed = station.run(&["history", "counts", "last", "--problems"]).expect(0).out;
    assert!(listed.contains("kind-differs") && listed.contains("odd*[name]"), "{listed}");
    let shown = station.run(&["job", "filter", "counts", "--from-problems", "last"]).expect(0).out;
    assert!(shown.contains("/clash") && shown.contains("Nothing is saved"), "{shown}");
    let other = ["job", "filter", "counts", "--from-problems", "1", "--code", "no-rights", "--yes"];
    assert!(station.run(&other).expect(0).out.contains("no problem"));
    station.run(&["job", "filter", "counts", "--from-problems", "1", "--yes"]).expect(0);
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "problems"), 0);
}

#[test]
fn the_trash_takes_what_is_removed() {
    let station = Station::with_job("mirror", &["--removed", "trash"]);
    station.write("a", "1", 1000);
    station.write("folder/gone.csv", "to the trash", 1000);
    station.run_job(&[]).expect(0);
    fs::remove_dir_all(station.left().join("folder")).unwrap();
    let mut command = station.command(&["run", "counts", "--json"]);
    let output = command.env("XDG_DATA_HOME", station.path("data")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_alike(&station.left(), &station.right());
    let found = tree(&station.path("data/Trash"));
    assert!(found.contains_key(Path::new("files/gone.csv")), "{:?}", found.keys());
    assert!(found.contains_key(Path::new("info/gone.csv.trashinfo")));
}
