//! What stops a run before it changes anything, and the sentences that say how to go on.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::symlink;

use common::{Station, number, tree, write};

/// A mirror with 40 files on both sides.
fn mirrored() -> Station {
    let station = Station::with_job("mirror", &[]);
    for number in 0..40 {
        station.write(&format!("d{}/{number}", number % 4), "x", 1000);
    }
    station.run_job(&[]).expect(0);
    station
}

#[track_caller]
fn refused(station: &Station, more: &[&str], code: &str, words: &str) {
    let before = tree(&station.right());
    let run = station.run_job(more).expect(3).last();
    assert_eq!((&run["outcome"], &run["code"]), (&"refused".into(), &code.into()));
    assert!(run["message"].as_str().unwrap().contains(words), "{}", run["message"]);
    assert_eq!(tree(&station.right()), before, "nothing is touched");
    let said = station.run(&[&["run", "counts"], more].concat()).expect(3);
    assert!(said.err.contains(words), "{}", said.err);
}

#[test]
fn mass_removal_and_an_empty_source() {
    let station = mirrored();
    fs::remove_dir_all(station.left().join("d0")).unwrap();
    fs::remove_dir_all(station.left().join("d1")).unwrap();
    fs::remove_dir_all(station.left().join("d2")).unwrap();
    refused(&station, &["--yes"], "too-many-removals", "30 of the 40");
    let preview = station.run(&["preview", "counts", "--json"]).expect(3).last();
    assert_eq!((number(&preview, "removed"), &preview["code"]), (30, &"too-many-removals".into()));
    fs::remove_dir_all(station.left().join("d3")).unwrap();
    refused(&station, &["--allow", "removals"], "empty-source", "--allow empty");
    station.run_job(&["--allow", "removals", "--allow", "empty"]).expect(0);
    assert!(tree(&station.right()).is_empty());
    assert_eq!(station.kept().len(), 40);
}

#[test]
fn mass_change_when_it_is_guarded() {
    let station = mirrored();
    station.run(&["job", "edit", "counts", "--max-changes", "50%"]).expect(0);
    for number in 0..25 {
        station.write(&format!("d{}/{number}", number % 4), "encrypted?", 2000);
    }
    refused(&station, &[], "too-many-changes", "25 of the 40");
    assert_eq!(number(&station.run_job(&["--allow", "changes"]).expect(0).last(), "updated"), 25);
}

#[test]
fn missing_sides() {
    let station = mirrored();
    fs::rename(station.left(), station.path("elsewhere")).unwrap();
    refused(&station, &[], "source-missing", "is not there");
    fs::rename(station.path("elsewhere"), station.left()).unwrap();
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    let run = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(run["code"], "destination-missing");
    assert!(!station.right().exists(), "a destination that was there before is never made anew");
}

#[test]
fn a_destination_that_was_there_when_the_job_was_set_up_is_missed_at_the_first_run() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    refused_without_right(&station, "destination-missing");
    assert!(!station.right().exists());
}

#[test]
fn a_new_destination_is_made_but_only_its_last_folder() {
    let station = Station::new();
    station.write("a", "1", 1000);
    let refused = station.run(&["job", "add", "counts", "mirror", "left", "drive/counts"]).expect(2);
    assert!(refused.err.contains("nor is") && refused.err.contains("--yes"), "{}", refused.err);
    station.run(&["job", "add", "counts", "mirror", "left", "drive/counts", "--yes"]).expect(0);
    assert!(!station.path("drive").exists());
    refused_without_right(&station, "destination-missing");
    fs::create_dir(station.path("drive")).unwrap();
    assert_eq!(number(&station.run(&["preview", "counts", "--json"]).expect(0).last(), "added"), 1);
    assert!(!station.path("drive/counts").exists());
    station.run_job(&[]).expect(0);
    assert!(station.path("drive/counts/a").exists());
}

#[track_caller]
fn refused_without_right(station: &Station, code: &str) {
    assert_eq!(station.run_job(&[]).expect(3).last()["code"], code);
}

#[test]
fn nested_sides_under_any_name() {
    let station = Station::new();
    station.write("a/b", "1", 1000);
    symlink("left", station.path("alias")).unwrap();
    for (left, right) in
        [("left", "left/a"), ("left/a", "left"), ("left", "left"), ("left", "alias"), ("alias/a", "left")]
    {
        let added = station.run(&["job", "add", "counts", "mirror", left, right]).expect(2);
        assert!(added.err.contains("apart"), "{left} {right}: {}", added.err);
        let once = station.run(&["once", "mirror", left, right, "--json"]).expect(3);
        assert_eq!(once.last()["code"], "nested", "{left} {right}");
    }
    // A job that was right when it was set up, and is no longer.
    station.run(&["job", "add", "counts", "mirror", "left", "right"]).expect(0);
    fs::remove_dir(station.right()).unwrap();
    symlink("left/a", station.right()).unwrap();
    assert_eq!(station.run_job(&[]).expect(3).last()["code"], "nested");
}

#[test]
fn a_first_run_that_removes_wants_a_yes_and_later_ones_do_not() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    write(&station.right().join("extra"), b"x", 1000);
    refused(&station, &[], "removals-not-agreed", "--yes");
    station.run_job(&["--yes"]).expect(0);
    station.write("b", "1", 1000);
    station.run_job(&[]).expect(0);
    fs::remove_file(station.left().join("b")).unwrap();
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "removed"), 1);
}

#[test]
fn one_run_at_a_time() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    fs::create_dir_all(station.path("home/locks")).unwrap();
    let held = fs::File::create(station.path("home/locks/counts.lock")).unwrap();
    held.lock().unwrap();
    let run = station.run_job(&[]).expect(3).last();
    assert_eq!((&run["code"], &run["outcome"]), (&"already-running".into(), &"refused".into()));
    assert!(station.run(&["status", "--json"]).expect(0).last()["running"].as_bool().unwrap());
    drop(held);
    // Another job that writes to the same folder.
    fs::create_dir_all(station.right().join(".reedhook")).unwrap();
    let held = fs::File::create(station.right().join(".reedhook/lock")).unwrap();
    held.lock().unwrap();
    assert_eq!(station.run_job(&[]).expect(3).last()["code"], "destination-in-use");
    drop(held);
    station.run_job(&[]).expect(0);
}

#[test]
fn nothing_is_ever_written_into_the_source() {
    let station = Station::with_job("mirror", &[]);
    station.write("a/b", "1", 1000);
    common::set_folder_time(&station.left().join("a"), 5000);
    common::set_folder_time(&station.left(), 6000);
    let before = tree(&station.left());
    station.run_job(&[]).expect(0);
    station.write("a/b", "22", 2000);
    common::set_folder_time(&station.left().join("a"), 5000);
    station.run_job(&[]).expect(0);
    assert_eq!(tree(&station.left()).len(), before.len());
    assert!(!station.left().join(".reedhook").exists());
    assert_eq!(tree(&station.left()).get(std::path::Path::new("a")), before.get(std::path::Path::new("a")));
}
