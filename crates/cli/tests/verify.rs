//! Reading back, comparing content, and going on with large files.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::io::Write;
use std::time::Duration;

use common::{Station, assert_alike, assert_no_leftovers, number, tree, write};

/// Changes a byte and puts the old time back: what a failing medium does, but that the kernel knows of it.
fn flip(path: &std::path::Path) {
    let modified = fs::metadata(path).unwrap().modified().unwrap();
    let mut content = fs::read(path).unwrap();
    content[0] ^= 1;
    let mut file = fs::File::options().write(true).open(path).unwrap();
    file.write_all(&content).unwrap();
    file.set_modified(modified).unwrap();
}

#[test]
fn a_flipped_bit_is_found_and_its_side_is_named() {
    let station = Station::with_job("mirror", &["--verify", "changed"]);
    for name in ["a", "b/c", "d"] {
        station.write(name, "the same on both sides", 1000);
    }
    station.run_job(&[]).expect(0);
    let verified = station.run(&["verify", "counts", "--json"]).expect(0).last();
    assert_eq!((number(&verified, "same"), number(&verified, "different")), (3, 0));
    flip(&station.right().join("b/c"));
    flip(&station.left().join("d"));
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "same"), 3, "size and time tell nothing");
    let lines = station.run(&["verify", "counts", "--json"]).expect(1).json();
    let found: Vec<_> = lines
        .iter()
        .filter(|line| line["event"] == "difference")
        .map(|line| (&line["path"], &line["changed"]))
        .collect();
    assert_eq!(found, [(&"b/c".into(), &"right".into()), (&"d".into(), &"left".into())]);
    let said = station.run(&["verify", "counts"]).expect(1).out;
    assert!(said.contains("b/c") && said.contains("somebody has changed the content at the right"), "{said}");
    station.write("a", "changed as usual", 2000);
    assert!(station.run(&["verify", "counts"]).expect(1).out.contains("a run would update 1 file."));
}

#[test]
fn without_a_memory_the_side_is_not_guessed() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "content", 1000);
    station.run_job(&[]).expect(0);
    flip(&station.right().join("a"));
    let lines = station.run(&["verify", "counts", "--json"]).expect(1).json();
    assert!(lines[0]["changed"].is_null() && lines[0]["state"] == "differs", "{}", lines[0]);
}

#[test]
fn verify_all_looks_at_everything_after_each_run() {
    let station = Station::with_job("mirror", &["--verify", "all"]);
    station.write("a", "content", 1000);
    station.write("b", "content", 1000);
    station.run_job(&[]).expect(0);
    flip(&station.right().join("a"));
    let run = station.run_job(&[]).expect(1);
    assert_eq!((number(&run.last(), "problems"), &run.last()["outcome"]), (1, &"problems".into()));
    let problem = run.json().into_iter().find(|line| line["event"] == "problem").unwrap();
    assert_eq!(
        (&problem["code"], &problem["path"], &problem["side"]),
        (&"verify-failed".into(), &"a".into(), &"right".into())
    );
}

#[test]
fn an_interrupted_large_file_goes_on_where_it_stopped() {
    let station = Station::with_job("mirror", &[]);
    let content: Vec<u8> = (0..60_u32 << 20).map(|at| (at >> 7) as u8).collect();
    write(&station.left().join("night.mp4"), &content, 1000);
    let part = || {
        let names = fs::read_dir(station.right()).unwrap().flatten();
        names.map(|entry| entry.path()).find(|path| path.to_string_lossy().contains(".reedhook-part-"))
    };
    // Killed until it happens in the middle.
    let left = loop {
        let mut child = station.command(&["run", "counts", "--quiet"]).spawn().unwrap();
        while part().is_none_or(|part| fs::metadata(part).map_or(0, |meta| meta.len()) == 0) {
            if child.try_wait().unwrap().is_some() {
                break;
            }
            std::thread::sleep(Duration::from_micros(200));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        match part() {
            Some(part) => break part,
            None => {
                let _ = fs::remove_file(station.right().join("night.mp4"));
            }
        }
    };
    // Make sure that there is a proper beginning to go on from, whatever the kill left.
    let beginning = &content[..50 << 20];
    fs::write(&left, beginning).unwrap();
    let traced = station.run_job(&[]).expect(0).last();
    assert_eq!(number(&traced, "added"), 1);
    assert_alike(&station.left(), &station.right());
    assert_no_leftovers(&station.right());
}

#[test]
fn what_is_left_is_used_only_when_it_proves_equal() {
    let station = Station::with_job("mirror", &[]);
    let content: Vec<u8> = (0..20_u32 << 20).map(|at| (at >> 7) as u8).collect();
    write(&station.left().join("night.mp4"), &content, 1000);
    // What a run that was killed leaves: find its name by stopping one, then spoil it in every way.
    let mut names = Vec::new();
    let mut delays = (0..).map(|attempt| Duration::from_micros(2_000 + attempt * 1_700 % 400_000));
    while names.is_empty() {
        let mut child = station.command(&["run", "counts", "--quiet"]).spawn().unwrap();
        std::thread::sleep(delays.next().unwrap());
        child.kill().unwrap();
        child.wait().unwrap();
        names = fs::read_dir(station.right()).unwrap().flatten().map(|entry| entry.path()).collect();
        names.retain(|path| path.to_string_lossy().contains(".reedhook-part-"));
        let _ = fs::remove_file(station.right().join("night.mp4"));
    }
    for spoilt in [vec![0_u8; 5 << 20], content[1..].to_vec(), vec![9; 30 << 20], Vec::new()] {
        let _ = fs::remove_file(station.right().join("night.mp4"));
        fs::write(&names[0], &spoilt).unwrap();
        common::set_mode(&names[0], 0o600);
        station.run_job(&[]).expect(0);
        assert_eq!(fs::read(station.right().join("night.mp4")).unwrap(), content);
        assert_eq!(tree(&station.right()).len(), 1, "no leftovers");
    }
}
