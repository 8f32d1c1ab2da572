//! kill -9 at random moments: after every one, no path holds a part of a file; the next run converges and leaves nothing.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use common::{Node, Seeded, Station, assert_alike, assert_no_leftovers, tree, write};

const KILLS: usize = 200;

/// Every version that a path has ever had at the source.
type Versions = HashMap<PathBuf, Vec<Vec<u8>>>;

/// Changes the source: new files, other content, removals, a few large ones.
fn change(station: &Station, chance: &mut Seeded, versions: &mut Versions, round: u64) {
    for number in 0..60 {
        let path = format!("d{}/e{}/f{}", chance.below(4), chance.below(3), chance.below(12));
        let full = station.left().join(&path);
        if number % 6 == 5 {
            let _ = fs::remove_file(&full);
            continue;
        }
        let size = if number == 0 { 3_000_000 } else { chance.below(30_000) };
        let content = vec![chance.below(256) as u8; size as usize];
        write(&full, &content, 1_000_000 + round * 1000 + number);
        versions.entry(PathBuf::from(path)).or_default().push(content);
    }
}

#[track_caller]
fn assert_whole(right: &Path, versions: &Versions) {
    for (path, node) in tree(right) {
        let part = path.file_name().unwrap().to_string_lossy().starts_with(".reedhook-");
        if let (Node::File { content, .. }, false) = (node, part) {
            let whole = versions.get(&path).is_some_and(|known| known.contains(&content));
            assert!(
                whole,
                "{} holds {} bytes that it never had at the source",
                path.display(),
                content.len()
            );
        }
    }
}

#[test]
fn two_hundred_kills() {
    let mut chance = Seeded(9);
    let (mut kills, mut midway, mut round) = (0, 0, 0);
    while kills < KILLS {
        let station = Station::with_job("mirror", &["--max-removals", "off"]);
        let mut versions = Versions::new();
        for _ in 0..10 {
            round += 1;
            change(&station, &mut chance, &mut versions, round);
            let command = &mut station.command(&["run", "counts", "--yes", "--quiet"]);
            let mut child = command.stdout(Stdio::null()).spawn().unwrap();
            std::thread::sleep(Duration::from_micros(chance.below(60_000)));
            child.kill().unwrap();
            let ended = child.wait().unwrap();
            midway += usize::from(ended.code().is_none());
            kills += 1;
            assert_whole(&station.right(), &versions);
        }
        let next = station.run_job(&["--yes"]);
        // What a run had taken out of its place when it was killed may be of a version that is nowhere any more: that is kept, and told.
        let codes: Vec<_> = next.json().into_iter().filter(|line| line["event"] == "problem").collect();
        assert!(next.code == 0 || codes.iter().all(|line| line["code"] == "set-aside"), "{}", next.out);
        assert_alike(&station.left(), &station.right());
        assert_no_leftovers(&station.right());
        let again = station.run_job(&[]).expect(0).last();
        assert_eq!(common::number(&again, "added") + common::number(&again, "updated"), 0);
    }
    println!("{kills} kills, {midway} of them while the run was still going");
    assert!(midway > KILLS / 4, "only {midway} of {kills} kills met a run in progress");
}
