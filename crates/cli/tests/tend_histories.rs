//! Random histories with the service running: people work on the sides while runs go on, the service is killed and started again, and
//! the kernel's queue overflows. Once it is quiet both sides agree, and nothing is lost that nobody has thrown away.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use common::*;
use tending::Tending;

/// People who work at the sides.
struct People {
    chance: Seeded,
    sides: Vec<PathBuf>,
    /// What was saved, and nobody has removed or overwritten.
    wanted: BTreeSet<Vec<u8>>,
    saved: u64,
}

impl People {
    fn path(&mut self) -> PathBuf {
        let folders = ["", "north", "south", "north/deep", "far/away"];
        let folder = folders[self.chance.below(5) as usize];
        Path::new(folder).join(format!("{}.csv", self.chance.below(6)))
    }

    fn side(&mut self) -> PathBuf {
        let at = self.chance.below(self.sides.len() as u64) as usize;
        self.sides[at].clone()
    }

    /// Forgets what lies at a path of a side: it is thrown away.
    fn thrown_away(&mut self, path: &Path) {
        let gone: Vec<Vec<u8>> = match path.is_dir() {
            true => contents(path).into_values().flatten().collect(),
            false => fs::read(path).into_iter().collect(),
        };
        self.wanted.retain(|content| !gone.contains(content));
    }

    fn work(&mut self) {
        let (side, path) = (self.side(), self.path());
        let at = side.join(&path);
        match self.chance.below(10) {
            0..6 => {
                let parent = at.parent().unwrap();
                if fs::create_dir_all(parent).is_err() {
                    return;
                }
                self.thrown_away(&at);
                self.saved += 1;
                let content = format!("version {} of {}", self.saved, path.display()).into_bytes();
                if fs::write(&at, &content).is_ok() {
                    self.wanted.insert(content);
                }
            }
            6 | 7 => {
                self.thrown_away(&at);
                let _ = fs::remove_file(&at);
            }
            8 => {
                let to = side.join(format!("moved {}", self.chance.below(3)));
                let from = side.join(["north", "south", "far"][self.chance.below(3) as usize]);
                if !to.exists() {
                    let _ = fs::rename(from, to);
                }
            }
            _ => {
                let folder = side.join(["north/deep", "south", "moved 1"][self.chance.below(3) as usize]);
                self.thrown_away(&folder);
                let _ = fs::remove_dir_all(folder);
            }
        }
    }
}

/// Everything that lies anywhere at the sides, kept copies included.
fn everything(sides: &[PathBuf]) -> BTreeSet<Vec<u8>> {
    let roots = sides.iter().flat_map(|side| [side.clone(), side.join(".reedhook/kept")]);
    roots.flat_map(|root| contents(&root).into_values().flatten()).collect()
}

/// What a side holds: the content of files, nothing for folders. What goes while it is looked at was not there.
fn contents(root: &Path) -> BTreeMap<PathBuf, Option<Vec<u8>>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![PathBuf::new()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(root.join(&folder)).into_iter().flatten().flatten() {
            let path = folder.join(entry.file_name());
            if path == Path::new(".reedhook") {
                continue;
            }
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                found.insert(path.clone(), None);
                folders.push(path);
            } else if let Ok(content) = fs::read(root.join(&path)) {
                found.insert(path, Some(content));
            }
        }
    }
    found
}

fn history(kind: &str, queue: &str, seed: u64) {
    let mut words = vec!["--when", "on change after 1s", "--max-removals", "off"];
    if kind == "two-way" {
        words.extend(["--conflict", "both", "--max-changes", "off"]);
    }
    let station = Station::with_job(kind, &words);
    let sides = match kind {
        "two-way" => vec![station.left(), station.right()],
        _ => vec![station.left()],
    };
    let mut people = People { chance: Seeded(seed), sides, wanted: BTreeSet::new(), saved: 0 };
    (0..20).for_each(|_| people.work());
    fs::write(station.left().join("there from the start"), "s").unwrap();
    station.run_job(&["--yes"]).expect(0);
    let environment = [("REEDHOOK_WATCH_QUEUE", queue)];
    let mut tending = Some(Tending::with(&station, &environment));
    let killed = people.chance.below(40);
    for step in 0..60 {
        // A burst, and a while in which runs begin and go on.
        (0..people.chance.below(12)).for_each(|_| people.work());
        std::thread::sleep(Duration::from_millis(people.chance.below(250)));
        if step == killed {
            drop(tending.take());
            (0..5).for_each(|_| people.work());
            tending = Some(Tending::with(&station, &environment));
        }
    }
    let begun = Instant::now();
    let alike = || contents(&station.left()) == contents(&station.right());
    while !alike() && begun.elapsed() < Duration::from_secs(40) {
        std::thread::sleep(Duration::from_millis(200));
    }
    let told = &mut tending.as_mut().unwrap();
    told.within(Duration::from_millis(2500));
    if !alike() {
        let (left, right) = (contents(&station.left()), contents(&station.right()));
        let differs = |path: &&PathBuf| left.get(*path) != right.get(*path);
        let text = |content: Option<&Option<Vec<u8>>>| match content {
            None => "nothing".to_owned(),
            Some(None) => "a folder".to_owned(),
            Some(Some(content)) => String::from_utf8_lossy(content).into_owned(),
        };
        let paths: BTreeSet<&PathBuf> = left.keys().chain(right.keys()).filter(differs).collect();
        let shown: Vec<_> =
            paths.iter().map(|path| (path, text(left.get(*path)), text(right.get(*path)))).collect();
        panic!("{kind}, seed {seed}: {shown:#?} {:#?}", told.told.iter().rev().take(5).collect::<Vec<_>>());
    }
    let all = everything(&[station.left(), station.right()]);
    let lost: Vec<_> = people.wanted.difference(&all).map(|text| String::from_utf8_lossy(text)).collect();
    assert!(lost.is_empty(), "{kind}, seed {seed}: {lost:?}");
    // What a look at everything would do is nothing.
    drop(tending);
    let end = station.run_job(&[]).expect(0).last();
    let changed: u64 = ["added", "updated", "moved", "removed"].iter().map(|key| number(&end, key)).sum();
    assert_eq!(changed, 0, "{kind}, seed {seed}: {end}");
}

fn seed(usual: u64) -> u64 {
    std::env::var("REEDHOOK_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

#[test]
fn a_mirror_follows_whatever_its_people_do() {
    history("mirror", "1000000", seed(1));
}

#[test]
fn a_mirror_follows_when_the_queue_overflows() {
    history("mirror", "6", seed(2));
}

#[test]
fn two_sides_agree_whatever_their_people_do() {
    history("two-way", "1000000", seed(3));
}

#[test]
fn two_sides_agree_when_the_queue_overflows() {
    history("two-way", "6", seed(4));
}
