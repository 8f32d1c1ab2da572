//! What a thing is decides, not the name that a job has for it: sources, destinations, mounts inside them, and what was agreed to.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::FileExt;

use common::{Mounted, Station, assert_alike, make_image, number, tree, with_mounts, write};

fn fill(folder: &std::path::Path, files: u32) {
    for number in 0..files {
        write(&folder.join(format!("f{number:02}")), format!("content {number}").as_bytes(), 1000);
    }
}

/// An empty mount point looks like a folder from which everything was removed. A source is known by its file system, although
/// nothing is written into it.
#[test]
fn a_source_that_is_not_plugged_in_is_no_empty_source() {
    if !with_mounts("drives as sources", &["ext4"]) {
        return;
    }
    for kind in ["mirror", "copy", "two-way"] {
        let station = Station::on_one_file_system();
        let (image, other) = (station.path("a.img"), station.path("b.img"));
        make_image(&image, "ext4", "FENSOURCE", 32);
        make_image(&other, "ext4", "FENOTHER", 32);
        let drive = station.left();
        let mounted = Mounted::image(&image, &drive);
        let _ = fs::remove_dir(drive.join("lost+found"));
        fill(&drive, 20);
        let station = station.job(kind, &["--max-removals", "off", "--max-changes", "off"]);
        station.run_job(&["--yes"]).expect(0);
        let before = tree(&station.right());
        drop(mounted);
        let code = if kind == "two-way" { "side-foreign" } else { "source-foreign" };
        let refused = station.run_job(&["--yes"]).expect(3).last();
        assert_eq!(refused["code"], code, "{kind}, not plugged in: {refused}");
        let option = if kind == "two-way" { "--left" } else { "--from" };
        assert!(refused["message"].as_str().unwrap().contains(option), "{refused}");

        // Another drive at the same path, with one file that went astray.
        let wrong = Mounted::image(&other, &drive);
        let _ = fs::remove_dir(drive.join("lost+found"));
        write(&drive.join("stray"), b"1", 1000);
        let refused = station.run_job(&["--yes"]).expect(3).last();
        assert_eq!(refused["code"], code, "{kind}, another drive: {refused}");
        assert_eq!(tree(&station.right()), before, "{kind}: nothing was touched");

        // The way on that the sentence names.
        drop(wrong);
        let _right_again = Mounted::image(&image, &drive);
        station.run_job(&["--yes"]).expect(0);
        station.run(&["job", "edit", "counts", option, "left"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
    }
}

/// A folder made anew on the same file system is not foreign; but what would take nearly everything is stopped, however few.
#[test]
fn a_folder_made_anew_is_not_foreign_and_nearly_everything_is_too_much() {
    let station = Station::on_one_file_system().job("mirror", &[]);
    fill(&station.left(), 8);
    station.run_job(&[]).expect(0);
    fs::remove_dir_all(station.left()).unwrap();
    fs::create_dir(station.left()).unwrap();
    fill(&station.left(), 8);
    station.run_job(&[]).expect(0);
    fs::remove_dir_all(station.left()).unwrap();
    write(&station.left().join("stray"), b"1", 1000);
    let refused = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(refused["code"], "too-many-removals", "{refused}");
    assert_eq!(tree(&station.right()).len(), 8);
    // Five are never too many.
    let station = Station::on_one_file_system().job("mirror", &[]);
    fill(&station.left(), 5);
    station.run_job(&[]).expect(0);
    fs::remove_dir_all(station.left()).unwrap();
    write(&station.left().join("stray"), b"1", 1000);
    assert_eq!(number(&station.run_job(&["--yes"]).expect(0).last(), "removed"), 5);
}

/// Each of several sources is judged by itself.
#[test]
fn one_of_several_sources_is_empty_or_not_plugged_in() {
    let several = |station: &Station| {
        for name in ["north", "south"] {
            fill(&station.path(name), 40);
        }
        let words =
            ["job", "add", "counts", "mirror", "north", "right", "--from", "south", "--max-removals", "off"];
        station.run(&words).expect(0);
        station.run_job(&[]).expect(0);
    };
    let station = Station::new();
    several(&station);
    for entry in fs::read_dir(station.path("south")).unwrap().flatten() {
        fs::remove_file(entry.path()).unwrap();
    }
    let refused = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(refused["code"], "empty-source", "{refused}");
    assert!(refused["message"].as_str().unwrap().contains("the source south holds nothing"), "{refused}");
    assert_eq!(tree(&station.right()).len(), 82);
    station.run_job(&["--yes", "--allow", "empty"]).expect(0);
    assert_eq!(tree(&station.right()).len(), 42);

    if !with_mounts("one of several sources on a drive", &[]) {
        return;
    }
    let station = Station::new();
    let mounted = Mounted::memory(&station.path("south"), "4m");
    several(&station);
    drop(mounted);
    let refused = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(refused["code"], "source-foreign", "{refused}");
    assert_eq!(tree(&station.right()).len(), 82);
}

/// An inbox is empty at night: no refusal, but it is said.
#[test]
fn an_empty_source_of_a_copy_is_said() {
    let station = Station::with_job("copy", &[]);
    station.write("new", "1", 1000);
    station.run_job(&[]).expect(0);
    fs::remove_file(station.left().join("new")).unwrap();
    let said = station.run(&["run", "counts"]).expect(0).out;
    assert!(said.contains("holds nothing that takes part"), "{said}");
    assert!(station.run(&["preview", "counts"]).expect(0).out.contains("holds nothing that takes part"));
}

/// What was mounted inside a tree and is not there this time has not been removed.
#[test]
fn a_mount_inside_a_tree_is_missed() {
    if !with_mounts("mounts inside a source", &[]) {
        return;
    }
    let station = Station::on_one_file_system().job("mirror", &["--max-removals", "off"]);
    fill(&station.left(), 5);
    let mounted = Mounted::memory(&station.left().join("cards/one"), "4m");
    fill(&station.left().join("cards/one"), 30);
    station.run_job(&[]).expect(0);
    drop(mounted);
    let refused = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(refused["code"], "source-foreign", "{refused}");
    assert!(refused["message"].as_str().unwrap().contains("cards/one"), "{refused}");
    assert_eq!(fs::read_dir(station.right().join("cards/one")).unwrap().count(), 30);
    // What the job does not look at may come and go.
    station.run(&["job", "edit", "counts", "--exclude", "/cards/"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
}

/// The yes for removals is about two stores. It outlives no change of them, and no `once` says it for another.
#[test]
fn what_was_agreed_to_is_about_these_two_stores() {
    let unrelated = |station: &Station, name: &str| {
        write(&station.path(name).join("unrelated"), b"precious", 1000);
    };
    let refused = |station: &Station, words: &[&str]| {
        let ran = station.run(&[words, &["--json"]].concat()).expect(3).last();
        assert_eq!(ran["code"], "removals-not-agreed", "{words:?}: {ran}");
    };
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    station.write("b", "1", 1000);
    write(&station.right().join("extra"), b"x", 1000);
    refused(&station, &["run", "counts"]);
    station.run_job(&["--yes"]).expect(0);
    // It has run well between these two: at night it goes on by itself.
    fs::remove_file(station.left().join("b")).unwrap();
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "removed"), 1);

    unrelated(&station, "elsewhere");
    station.run(&["job", "edit", "counts", "--to", "elsewhere"]).expect(0);
    refused(&station, &["run", "counts"]);
    station.run(&["job", "remove", "counts", "--yes"]).expect(0);
    station.run(&["job", "add", "counts", "mirror", "left", "elsewhere"]).expect(0);
    refused(&station, &["run", "counts"]);
    assert!(station.path("elsewhere/unrelated").exists());
    // Another job between the two that know each other needs no new yes.
    station.run(&["job", "add", "again", "mirror", "left", "right"]).expect(0);
    write(&station.right().join("extra"), b"x", 1000);
    station.run(&["run", "again"]).expect(0);

    let station = Station::new();
    station.write("a", "1", 1000);
    unrelated(&station, "right");
    refused(&station, &["once", "mirror", "left", "right"]);
    station.run(&["once", "mirror", "left", "right", "--yes"]).expect(0);
    unrelated(&station, "elsewhere");
    refused(&station, &["once", "mirror", "left", "elsewhere", "--removed", "erase"]);
    assert!(station.path("elsewhere/unrelated").exists());
    unrelated(&station, "right");
    station.run(&["once", "mirror", "left", "right"]).expect(0);
}

/// A folder that is still to be made has the space of what it will be in, and is looked at again once it is there.
#[test]
fn a_folder_to_be_made_has_no_more_space_than_there_is() {
    if !with_mounts("a small file system", &[]) {
        return;
    }
    for kind in ["mirror", "two-way"] {
        let station = Station::new();
        for number in 0..5 {
            station.write(&format!("f{number}"), &"x".repeat(1_000_000), 1000);
        }
        let _mounted = Mounted::memory(&station.path("small"), "2m");
        station.run(&["job", "add", "counts", kind, "left", "small/counts"]).expect(0);
        let refused = station.run_job(&[]).expect(3).last();
        assert_eq!(refused["code"], "too-little-space", "{kind}: {refused}");
        assert!(!station.path("small/counts").exists(), "{kind}");
    }
}

/// Holes take no space: neither does the guard ask for it, nor does a limit make anybody wait for them.
#[test]
fn holes_are_neither_asked_for_nor_waited_for() {
    if !with_mounts("a small file system", &[]) {
        return;
    }
    let station = Station::new();
    let mounted = Mounted::memory(&station.path("small"), "4m");
    station.run(&["job", "add", "counts", "mirror", "left", "small", "--limit", "1 MB/s"]).expect(0);
    let sparse = fs::File::create(station.left().join("sparse")).unwrap();
    sparse.set_len(500 << 20).unwrap();
    sparse.write_all_at(b"data", 300 << 20).unwrap();
    let begun = std::time::Instant::now();
    station.run_job(&[]).expect(0);
    assert!(begun.elapsed().as_secs() < 60, "500 MiB at 1 MB/s would take minutes");
    assert_alike(&station.left(), &station.path("small"));
    drop(mounted);
}

/// A run without a job into a folder that is still to be made; and a job whose drive was there when it was set up.
#[test]
fn what_was_seen_at_set_up_is_remembered_and_nothing_else() {
    let station = Station::new();
    station.write("a", "1", 1000);
    station.run(&["once", "mirror", "left", "first"]).expect(0);
    station.run(&["once", "mirror", "left", "second"]).expect(0);
    assert!(station.path("second/a").exists());

    if !with_mounts("drives as destinations", &["ext4"]) {
        return;
    }
    // The drive itself, and a folder on it that the first run would make.
    for right in ["drive", "drive/counts"] {
        for kind in ["mirror", "two-way"] {
            let station = Station::new();
            station.write("a", "1", 1000);
            let image = station.path("a.img");
            make_image(&image, "ext4", "FENSETUP", 32);
            let mounted = Mounted::image(&image, &station.path("drive"));
            station.run(&["job", "add", "counts", kind, "left", right]).expect(0);
            drop(mounted);
            let refused = station.run_job(&["--yes"]).expect(3).last();
            assert!(refused["code"].as_str().unwrap().ends_with("foreign"), "{kind} {right}: {refused}");
            assert!(tree(&station.path("drive")).is_empty(), "nothing is written to the system's disk");
            let _mounted = Mounted::image(&image, &station.path("drive"));
            station.run_job(&["--yes"]).expect(0);
            assert!(station.path(right).join("a").exists());
        }
    }
}

/// What to do about a lost mark is said in the words of the job's kind, and the command that is named works.
#[test]
fn the_advice_after_a_lost_mark_can_be_followed() {
    for (kind, option) in [("mirror", "--to"), ("two-way", "--right")] {
        let station = Station::with_job(kind, &[]);
        station.write("a", "1", 1000);
        station.run_job(&[]).expect(0);
        fs::remove_dir_all(station.right().join(".reedhook")).unwrap();
        let refused = station.run_job(&[]).expect(3).last();
        let message = refused["message"].as_str().unwrap();
        assert!(message.contains(&format!("reedhook job edit counts {option}")), "{message}");
        station.run(&["job", "edit", "counts", option, "right"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
    }
}

/// A mass move is a mass change.
#[test]
fn moves_count_as_changes() {
    for kind in ["mirror", "two-way"] {
        let station = Station::with_job(kind, &["--max-changes", "50%"]);
        for number in 0..100 {
            station.write(&format!("season/{number}"), &format!("count {number}"), 1000 + number);
        }
        station.run_job(&[]).expect(0);
        for folder in ["season", "scattered"] {
            fs::create_dir_all(station.left().join(folder)).unwrap();
        }
        for number in 0..100 {
            let (from, to) = (format!("season/{number}"), format!("scattered/x{number}"));
            fs::rename(station.left().join(from), station.left().join(to)).unwrap();
        }
        let refused = station.run_job(&["--yes"]).expect(3).last();
        assert_eq!(refused["code"], "too-many-changes", "{kind}: {refused}");
        let ran = station.run_job(&["--yes", "--allow", "changes"]).expect(0).last();
        assert_eq!(number(&ran, "moved"), 100, "{kind}: {ran}");
    }
}
