//! What was renamed at the source is renamed at the destination: no bytes travel, and one line tells it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::MetadataExt;

use common::{Station, assert_alike, number, tree};

/// A mirrored folder of files that differ in content, and a few beside it.
fn season() -> Station {
    let station = Station::with_job("mirror", &[]);
    for number in 0..120 {
        station.write(
            &format!("season/s{}/{number}.csv", number % 3),
            &format!("count {number:04}"),
            1000 + number,
        );
    }
    station.write("rota.csv", "who comes when", 5000);
    station.write("notes/one", "twin", 6000);
    station.write("notes/two", "pair", 6000);
    station.run_job(&[]).expect(0);
    station
}

#[test]
fn a_renamed_folder_is_one_rename() {
    let station = season();
    let inode = |below: &str| fs::metadata(station.right().join(below)).unwrap().ino();
    let (before, number_seven) = (tree(&station.right().join("season")), inode("season/s1/7.csv"));
    fs::create_dir(station.left().join("years")).unwrap();
    fs::rename(station.left().join("season"), station.left().join("years/2031")).unwrap();
    fs::rename(station.left().join("rota.csv"), station.left().join("rota of May.csv")).unwrap();

    let preview = station.run(&["preview", "counts", "--json"]).expect(0);
    let shown: Vec<_> = preview.json().into_iter().filter(|line| line["do"] == "move").collect();
    assert_eq!(shown.len(), 2, "{}", preview.out);
    let text = station.run(&["preview", "counts"]).expect(0).out;
    assert!(
        text.contains("years/2031/") && text.contains("120 files") && text.contains("from season/"),
        "{text}"
    );

    let ran = station.run_job(&[]).expect(0);
    let last = ran.last();
    assert_eq!(number(&last, "moved"), 121);
    for key in ["added", "removed", "updated", "bytes", "problems"] {
        assert_eq!(number(&last, key), 0, "{key}");
        assert_eq!(last[key], preview.last()[key], "{key}");
    }
    let moved: Vec<_> = ran.json().into_iter().filter(|line| line["do"] == "move").collect();
    assert_eq!(moved.len(), 2);
    assert!(
        moved
            .iter()
            .any(|line| line["was"] == "season" && line["path"] == "years/2031" && line["items"] == 120)
    );
    assert_eq!(inode("years/2031/s1/7.csv"), number_seven, "renamed, not copied");
    assert_alike(&station.left(), &station.right());
    assert!(station.run(&["preview", "counts"]).expect(0).out.contains("Nothing to do"));

    station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert_eq!(tree(&station.right().join("season")), before, "the undo renames back");
    assert!(station.right().join("rota.csv").exists() && !station.right().join("years").exists());
}

/// Size and time agree, the content does not: a person who trusts the mirror must not get the wrong file.
#[test]
fn what_only_looks_the_same_is_copied() {
    let station = season();
    fs::remove_file(station.left().join("notes/one")).unwrap();
    station.write("notes/three", "else", 6000);
    fs::remove_dir_all(station.left().join("season/s0")).unwrap();
    for number in (0..120).step_by(3) {
        let content = if number == 60 { "c0unt 0060".to_owned() } else { format!("count {number:04}") };
        station.write(&format!("season/spring/{number}.csv"), &content, 1000 + number);
    }
    let last = station.run_job(&["--allow", "removals"]).expect(0).last();
    assert_eq!((number(&last, "added"), number(&last, "moved")), (41, 0), "{last}");
    assert_alike(&station.left(), &station.right());
}

#[test]
fn a_limited_and_polite_run_does_the_same() {
    let station =
        Station::with_job("mirror", &["--limit", "5 MB/s", "--limit", "9 MB/s 00:00-24:00", "--polite"]);
    station.write("still.jpg", &"picture ".repeat(20_000), 1000);
    station.write("note", "small", 1000);
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &station.right());
    let shown = station.run(&["job", "show", "counts"]).expect(0).out;
    assert!(shown.contains("9 MB/s 00:00-24:00") && shown.contains("polite"), "{shown}");
    let wrong = station.run(&["job", "edit", "counts", "--limit", "fast"]).expect(2);
    assert!(wrong.err.contains("20 MB/s"), "{}", wrong.err);
}
