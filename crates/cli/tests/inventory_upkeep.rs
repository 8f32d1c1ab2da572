//! Inventories that keep themselves: after every run on a named store its inventory has what is there, without anybody having taken it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/listed.rs"]
mod listed;

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::symlink;

use common::*;
use listed::{exported, found, seen_by_find};

const OLD: u64 = 1_900_000_000;

/// Two named stores, and nothing in them.
fn stores() -> Station {
    let station = Station::new();
    station.run(&["store", "add", "near", "left"]).expect(0);
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    for side in [station.left(), station.right()] {
        for folder in ["counts", "shared"] {
            fs::create_dir_all(side.join(folder)).unwrap();
        }
    }
    station
}

/// What an inventory, and what `find`, have in a folder of a store.
#[track_caller]
fn agree(station: &Station, name: &str, folder: &str) {
    let root = if name == "near" { station.left() } else { station.right() };
    let below = |all: BTreeSet<(Vec<u8>, String, u64)>| -> Vec<String> {
        let inside = |path: &[u8]| path.starts_with(format!("{folder}/").as_bytes());
        let told = all.into_iter().filter(|(path, ..)| inside(path));
        told.map(|(path, kind, size)| format!("{} {kind} {size}", String::from_utf8_lossy(&path))).collect()
    };
    assert_eq!(below(exported(station, name)), below(seen_by_find(&root)), "{name}: {folder}");
}

#[test]
fn every_run_on_a_named_store_keeps_its_inventory() {
    let station = stores();
    let job =
        ["job", "add", "counts", "mirror", "@near/counts", "@field-drive/counts", "--exclude", "scratch/"];
    station.run(&job).expect(0);
    let run = || station.run(&["run", "counts", "--yes", "--quiet"]).expect(0);
    let both = || {
        agree(&station, "near", "counts");
        agree(&station, "field-drive", "counts");
    };
    for at in 0..40 {
        station.write(&format!("counts/d{}/f{at}.csv", at % 4), &"x".repeat(at), OLD);
    }
    hostile_tree(&station.left().join("counts/odd"));
    symlink("d1", station.left().join("counts/link")).unwrap();
    fs::create_dir_all(station.left().join("counts/empty/deep")).unwrap();
    run();
    both();
    let list = station.run(&["inventory", "list"]).expect(0).out;
    assert!(list.contains("In part: only what runs have seen"), "{list}");
    // What changes, comes, goes, and has another path.
    station.write("counts/d0/f0.csv", "another size", OLD);
    station.write("counts/d0/new.csv", "new", OLD);
    fs::remove_file(station.left().join("counts/d1/f1.csv")).unwrap();
    fs::remove_dir_all(station.left().join("counts/d2")).unwrap();
    fs::rename(station.left().join("counts/d3"), station.left().join("counts/d3-moved")).unwrap();
    fs::rename(station.left().join("counts/d0/f4.csv"), station.left().join("counts/empty/f4.csv")).unwrap();
    fs::remove_file(station.left().join("counts/link")).unwrap();
    fs::create_dir(station.left().join("counts/link")).unwrap();
    station.write("counts/link/a.csv", "1", OLD);
    run();
    both();
    // A folder that becomes a file, and what somebody else has put there.
    fs::remove_dir_all(station.left().join("counts/link")).unwrap();
    station.write("counts/link", "a file", OLD);
    write(&station.right().join("counts/stray/deep/b.csv"), b"1", OLD);
    run();
    both();
    // What is left out is in the folder's listing, what lies below it is not looked at.
    station.write("counts/scratch/c.csv", "1", OLD);
    run();
    assert_eq!(found(&station, &["scratch"]), ["near:counts/scratch"]);
    // Taken whole, it stays whole, and what the job leaves out stays known.
    station.run(&["inventory", "take", "@near"]).expect(0);
    station.write("counts/d0/newer.csv", "1", OLD);
    run();
    assert_eq!(found(&station, &["c.csv"]), ["near:counts/scratch/c.csv"]);
    let list = station.run(&["inventory", "list", "--json"]).expect(0).json();
    assert_eq!((&list[0]["whole"], &list[1]["whole"]), (&false.into(), &true.into()), "{list:?}");
    fs::remove_dir_all(station.left().join("counts/scratch")).unwrap();
    run();
    both();
    // So does what an undo puts back.
    station.write("counts/d0/undone.csv", "1", OLD);
    station.write("counts/d0/f0.csv", "of yet another size", OLD + 5);
    fs::remove_file(station.left().join("counts/d0/f8.csv")).unwrap();
    fs::rename(station.left().join("counts/d3-moved"), station.left().join("counts/d3-again")).unwrap();
    fs::create_dir_all(station.left().join("counts/undone/deep")).unwrap();
    fs::remove_dir_all(station.left().join("counts/empty")).unwrap();
    run();
    both();
    station.run(&["undo", "counts", "last", "--yes", "--quiet"]).expect(0);
    both();
    run();
    both();
}

#[test]
fn both_sides_of_a_two_way_job_and_several_sources_are_kept() {
    let station = stores();
    station
        .run(&[
            "job",
            "add",
            "shared",
            "two-way",
            "@near/shared",
            "@field-drive/shared",
            "--conflict",
            "both",
        ])
        .expect(0);
    let run = || station.run(&["run", "shared", "--yes", "--quiet"]).expect(0);
    let both = || {
        agree(&station, "near", "shared");
        agree(&station, "field-drive", "shared");
    };
    station.write("shared/from/left.csv", "1", OLD);
    write(&station.right().join("shared/other/right.csv"), b"22", OLD);
    write(&station.right().join("shared/other/gone.csv"), b"333", OLD);
    run();
    both();
    // The hash of what a two-way run has brought is known.
    let lines = station.run(&["inventory", "export", "near", "--json"]).expect(0).json();
    let brought = lines.iter().find(|line| line["path"] == "shared/other/right.csv").unwrap();
    assert_eq!(brought["hash"].as_str().unwrap().len(), 64);
    fs::remove_file(station.left().join("shared/other/gone.csv")).unwrap();
    fs::rename(station.right().join("shared/from"), station.right().join("shared/renamed")).unwrap();
    station.write("shared/other/right.csv", "of the left", OLD + 5);
    write(&station.right().join("shared/other/right.csv"), b"of the right", OLD + 9);
    run();
    both();
    run();
    both();
    // Several sources are one tree there, and each is a folder of its own store here.
    let several = ["job", "add", "all", "copy", "@near/counts", "@field-drive/all"];
    station.run(&several).expect(0);
    station.run(&["job", "edit", "all", "--from", "@near/counts", "--from", "@near/shared"]).expect(0);
    station.write("counts/late.csv", "1", OLD);
    station.run(&["run", "all", "--yes", "--quiet"]).expect(0);
    agree(&station, "near", "counts");
    agree(&station, "near", "shared");
    agree(&station, "field-drive", "all");
    // Whatever runs have seen can be reached from the top.
    let top = station.run(&["inventory", "show", "field-drive", "--json"]).expect(0).json();
    let top: Vec<&str> = top.iter().filter_map(|line| line["path"].as_str()).collect();
    assert_eq!(top, ["all", "shared"]);
    fs::rename(station.right(), station.path("away")).unwrap();
    let absent = station.run(&["run", "shared", "--yes"]).expect(3);
    assert!(!absent.err.contains("inventory"), "{}", absent.err);
}

#[test]
fn a_run_that_is_cut_short_leaves_an_inventory_that_the_next_one_mends() {
    let station = stores();
    for at in 0..3000 {
        station.write(&format!("counts/d{}/f{at}.csv", at % 50), &"x".repeat(at % 90), OLD);
    }
    station.run(&["job", "add", "counts", "mirror", "@near/counts", "@field-drive/counts"]).expect(0);
    for wait in [30, 90, 150] {
        let mut running = station.command(&["run", "counts", "--yes", "--quiet"]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        let _ = running.kill();
        running.wait().unwrap();
        // It can be read, whatever it has.
        station.run(&["inventory", "list", "--json"]).expect(0);
    }
    station.run(&["run", "counts", "--yes", "--quiet"]).expect(0);
    agree(&station, "near", "counts");
    agree(&station, "field-drive", "counts");
}

#[test]
fn what_is_not_to_be_kept_is_not_and_what_cannot_be_kept_fails_no_run() {
    let station = stores();
    station.write("counts/a.csv", "1", OLD);
    station.run(&["store", "add", "near", "left", "--inventory", "off", "--yes"]).expect(0);
    station.run(&["job", "add", "counts", "copy", "@near/counts", "@field-drive/counts"]).expect(0);
    station.run(&["preview", "counts"]).expect(0);
    assert_eq!(found(&station, &["a.csv"]), Vec::<String>::new(), "a preview notes nothing");
    station.run(&["run", "counts", "--quiet"]).expect(0);
    assert_eq!(found(&station, &["a.csv"]), ["field-drive:counts/a.csv"]);
    // Inventories that cannot be used fail no run.
    for end in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(station.path(&format!("home/inventories.db{end}")));
    }
    fs::write(station.path("home/inventories.db"), "no database").unwrap();
    station.write("counts/b.csv", "1", OLD);
    let ran = station.run(&["run", "counts"]).expect(0);
    assert!(ran.err.contains("the inventory of @field-drive/counts is not kept"), "{}", ran.err);
    assert!(station.right().join("counts/b.csv").exists());
}

#[test]
fn what_is_asked_for_while_the_drive_is_away_is_pointed_to() {
    let station = stores();
    station.write("counts/heron.csv", "heron,3", OLD);
    station.run(&["job", "add", "counts", "mirror", "left/counts", "@field-drive/counts"]).expect(0);
    station.run(&["run", "counts", "--yes", "--quiet"]).expect(0);
    let other = station.path("other");
    write(&other.join("old/rota.csv"), b"rota", OLD);
    station.run(&["inventory", "take", "other", "--name", "FENFIELD-9"]).expect(0);
    fs::rename(station.right(), station.path("in the cupboard")).unwrap();
    for words in [vec!["why", "counts", "heron.csv"], vec!["restore", "counts", "heron.csv"]] {
        let ran = station.run(&words).expect(3);
        assert!(
            ran.err.contains("\nfield-drive had counts/heron.csv on ") && ran.err.contains("7 B, changed "),
            "{words:?}: {}",
            ran.err
        );
        assert!(ran.err.contains("connect the drive"), "{}", ran.err);
    }
    let none = station.run(&["why", "counts", "rail.csv"]).expect(3);
    assert!(!none.err.contains("had"), "{}", none.err);
    let history = station.run(&["history", "counts", "last"]).expect(0);
    assert!(history.out.contains("reedhook review inventory:field-drive/counts"), "{}", history.out);
    // Its mount point is there, and empty.
    fs::create_dir(station.right()).unwrap();
    let empty = station.run(&["why", "counts", "heron.csv"]).expect(3);
    assert!(empty.err.contains("field-drive had counts/heron.csv on "), "{}", empty.err);
    fs::remove_dir(station.right()).unwrap();
    // What was never on this job's drive may be on another.
    fs::rename(station.path("in the cupboard"), station.right()).unwrap();
    fs::remove_dir_all(&other).unwrap();
    let elsewhere = station.run(&["restore", "counts", "rota.csv"]).expect(2);
    assert!(elsewhere.err.contains("FENFIELD-9 had old/rota.csv on "), "{}", elsewhere.err);
    assert!(!station.run(&["history", "counts", "last"]).expect(0).out.contains("inventory:"));
}

#[test]
fn runs_and_takes_side_by_side_do_not_stand_in_each_other_s_way() {
    let station = stores();
    for at in 0..3000 {
        write(&station.path("large").join(format!("d{}/f{at}", at % 60)), b"1", OLD);
    }
    for name in ["a", "b"] {
        let (left, right) = (station.path(&format!("from-{name}")), format!("@field-drive/{name}"));
        fs::create_dir_all(&left).unwrap();
        station.run(&["job", "add", name, "mirror", left.to_str().unwrap(), &right, "--yes"]).expect(0);
    }
    let said = std::sync::Mutex::new(String::new());
    std::thread::scope(|scope| {
        let (station, said) = (&station, &said);
        for name in ["a", "b"] {
            scope.spawn(move || {
                for round in 0..8 {
                    for at in 0..40 {
                        let path = format!("from-{name}/r{round}/f{at}.csv");
                        write(&station.path(&path), format!("{round}").as_bytes(), OLD);
                    }
                    let ran = station.run(&["run", name, "--yes"]).expect(0);
                    said.lock().unwrap().push_str(&ran.err);
                }
            });
        }
        scope.spawn(move || {
            for round in 0..8 {
                write(&station.path("large").join(format!("d{round}/new-{round}")), b"1", OLD);
                station.run(&["inventory", "take", "large", "--quiet"]).expect(0);
            }
        });
    });
    assert!(!said.lock().unwrap().contains("inventory"), "{}", said.lock().unwrap());
    agree(&station, "field-drive", "a");
    agree(&station, "field-drive", "b");
    assert_eq!(exported(&station, "large"), seen_by_find(&station.path("large")));
    let list = station.run(&["inventory", "list", "--json"]).expect(0).json();
    let drive = list.iter().find(|line| line["name"] == "field-drive").unwrap();
    assert_eq!(number(drive, "entries"), exported(&station, "field-drive").len() as u64, "the numbers hold");
}

#[test]
fn a_store_that_is_another_one_now_does_not_overwrite_what_the_first_held() {
    let station = stores();
    station.write("counts/a.csv", "1", OLD);
    station.run(&["job", "add", "counts", "copy", "left/counts", "@field-drive/counts"]).expect(0);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    fs::create_dir_all(station.path("other/counts")).unwrap();
    station.run(&["store", "add", "field-drive", "other", "--yes"]).expect(0);
    station.run(&["job", "edit", "counts", "--to", "@field-drive/counts"]).expect(0);
    station.write("counts/b.csv", "1", OLD);
    let ran = station.run(&["run", "counts", "--yes"]).expect(0);
    assert!(ran.err.matches("\"field-drive\" is what another store held").count() == 1, "{}", ran.err);
    assert_eq!(found(&station, &["csv"]), ["field-drive:counts/a.csv"]);
    // Dropped, it is that of the other one.
    station.run(&["inventory", "drop", "field-drive", "--yes"]).expect(0);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    assert_eq!(found(&station, &["csv"]), ["field-drive:counts/a.csv", "field-drive:counts/b.csv"]);
    // Whoever stands elsewhere means the same place.
    station.run(&["inventory", "take", "other"]).expect(0);
    let mut elsewhere = station.command(&["inventory", "list", "--json"]);
    let list = Ran::of(&elsewhere.current_dir("/").output().unwrap()).expect(0).json();
    assert!(list.iter().all(|line| line["connected"] == true), "{list:?}");
}

#[test]
fn an_empty_mount_point_takes_nothing_away_of_what_the_drive_held() {
    if !with_mounts("drives that go", &[]) {
        return;
    }
    let station = Station::new();
    let place = station.path("mnt");
    let drive = Mounted::memory(&place, "8m");
    station.run(&["store", "add", "field-drive", "mnt"]).expect(0);
    station.write("a.csv", "1", OLD);
    station.run(&["job", "add", "counts", "mirror", "left", "@field-drive/counts"]).expect(0);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    drop(drive);
    assert!(place.is_dir());
    let taken = station.run(&["inventory", "take", "@field-drive"]).expect(2);
    assert!(taken.err.contains("that of another store"), "{}", taken.err);
    // Not even where somebody has made the folder there.
    fs::create_dir(place.join("counts")).unwrap();
    for words in
        [vec!["run", "counts", "--yes"], vec!["once", "copy", "@field-drive/counts", "right", "--yes"]]
    {
        let ran = station.run(&words);
        assert!(!ran.err.contains("fault"), "{}", ran.err);
        assert_eq!(found(&station, &["csv"]), ["field-drive:counts/a.csv"], "{words:?}");
    }
}

#[test]
fn second_names_are_as_large_as_the_first() {
    if !as_root_only("second names") {
        return;
    }
    let station = stores();
    station.write("counts/first.csv", "heron,3", OLD);
    fs::hard_link(station.left().join("counts/first.csv"), station.left().join("counts/second.csv")).unwrap();
    station
        .run(&["job", "add", "counts", "mirror", "@near/counts", "@field-drive/counts", "--preserve", "full"])
        .expect(0);
    station.run(&["run", "counts", "--yes", "--quiet"]).expect(0);
    agree(&station, "near", "counts");
    agree(&station, "field-drive", "counts");
}
