//! Two machines, each with a home and a folder of its own, that work on one server in turn: what somebody made is never lost, both end
//! with the same, and a run after a run finds nothing to do.
//!
//! `REEDHOOK_ROUNDS` makes the histories longer, `REEDHOOK_SEED` makes other ones.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use common::{Node, Seeded, Station, number, tree};
use serde_json::Value;

const FOLDERS: [&str; 4] = ["", "counts", "counts/may", "levels"];
const NAMES: [&str; 4] = ["heron.csv", "rail.csv", "teal.csv", "bittern.csv"];

fn setting(name: &str, default: u64) -> u64 {
    std::env::var(name).map_or(default, |value| value.parse().unwrap())
}

/// Two people at work, and what each content that they made has become.
struct History {
    machines: [Station; 2],
    random: Seeded,
    made: u64,
    /// What somebody made, and nobody has taken away or written over.
    wanted: BTreeSet<Vec<u8>>,
    told: Vec<String>,
}

impl History {
    fn some_path(&mut self) -> PathBuf {
        let folder = FOLDERS[self.random.below(4) as usize];
        Path::new(folder).join(NAMES[self.random.below(4) as usize])
    }

    /// One edit of a person. All contents are of one length, so that the size never tells.
    fn edit(&mut self, machine: usize) {
        // Two machines have two clocks: here, where they share one, no two files get one time.
        std::thread::sleep(Duration::from_millis(12));
        let path = self.some_path();
        let (root, other) = (self.machines[machine].left(), self.some_path());
        let (full, to) = (root.join(&path), root.join(&other));
        let there = fs::read(&full).ok();
        let deed = match self.random.below(10) {
            0 if there.is_some() => {
                fs::remove_file(&full).unwrap();
                self.wanted.remove(&there.unwrap());
                format!("removes {}", path.display())
            }
            1 if there.is_some() && path != other => {
                if let Ok(replaced) = fs::read(&to) {
                    self.wanted.remove(&replaced);
                }
                fs::create_dir_all(to.parent().unwrap()).unwrap();
                fs::rename(&full, &to).unwrap();
                format!("renames {} to {}", path.display(), other.display())
            }
            2 => {
                let folder = root.join(FOLDERS[1 + self.random.below(3) as usize]);
                let new = folder.with_extension("old");
                if !folder.is_dir() || new.exists() {
                    return;
                }
                fs::rename(&folder, &new).unwrap();
                format!("renames {} to {}", folder.display(), new.display())
            }
            _ => {
                self.made += 1;
                let content = format!("{machine} counts {:08}\n", self.made).into_bytes();
                if let Some(replaced) = there {
                    self.wanted.remove(&replaced);
                }
                fs::create_dir_all(full.parent().unwrap()).unwrap();
                fs::write(&full, &content).unwrap();
                self.wanted.insert(content);
                format!("writes {} ({})", path.display(), self.made)
            }
        };
        self.told.push(format!("{machine} {deed}"));
    }

    fn run(&mut self, machine: usize) -> Value {
        let ran = self.machines[machine].run_job(&["--yes"]);
        self.told.push(format!("{machine} runs: {}", ran.out));
        assert_eq!(ran.code, 0, "{}\n{}", ran.err, self.story());
        ran.last()
    }

    /// Runs a job that has nothing to do.
    fn run_again(&mut self, machine: usize) {
        let quiet = self.run(machine);
        assert!(is_quiet(&quiet), "{quiet}\n{}", self.story());
    }

    /// What came before, the latest at the end.
    fn story(&self) -> String {
        self.told[self.told.len().saturating_sub(40)..].join("\n")
    }

    fn contents(&self, machine: usize) -> BTreeMap<PathBuf, Vec<u8>> {
        let nodes = tree(&self.machines[machine].left()).into_iter();
        nodes
            .filter_map(|(path, node)| match node {
                Node::File { content, .. } => Some((path, content)),
                _ => None,
            })
            .collect()
    }

    fn settle(&mut self) {
        for _ in 0..6 {
            let runs = [self.run(0), self.run(1)];
            if runs.iter().all(is_quiet) {
                return;
            }
        }
        panic!("they do not come to an end:\n{}", self.story());
    }

    /// Both have the same, and everything that is still wanted.
    fn assert_agreed(&self) {
        let (one, other) = (self.contents(0), self.contents(1));
        assert_eq!(one, other, "{}", self.story());
        let there: BTreeSet<Vec<u8>> = one.into_values().collect();
        let lost: Vec<_> = self.wanted.difference(&there).map(|lost| String::from_utf8_lossy(lost)).collect();
        assert!(lost.is_empty(), "lost: {lost:?}\n{}", self.told.join("\n"));
    }
}

fn is_quiet(run: &Value) -> bool {
    ["added", "updated", "moved", "removed", "meta", "problems", "settled"]
        .iter()
        .all(|count| number(run, count) == 0)
}

fn work_in_turn(kind: &'static str) {
    let Some(place) = places::of_server(kind, "archive") else { return };
    let machines = [Station::on_one_file_system(), Station::on_one_file_system()];
    for machine in &machines {
        machine.know(&place);
        let words =
            ["job", "add", "counts", "two-way", "left", "@archive/shared", "--conflict", "both", "--yes"];
        machine.run(&[&words[..], &["--max-changes", "off", "--max-removals", "off"]].concat()).expect(0);
    }
    let (seed, rounds) = (setting("REEDHOOK_SEED", 7), setting("REEDHOOK_ROUNDS", 10));
    let mut history =
        History { machines, random: Seeded(seed), made: 0, wanted: BTreeSet::new(), told: Vec::new() };
    for round in 0..rounds {
        for _ in 0..=history.random.below(4) {
            let machine = history.random.below(2) as usize;
            history.edit(machine);
        }
        let machine = history.random.below(2) as usize;
        history.run(machine);
        if round % 4 == 3 {
            history.run_again(machine);
        }
        if round % 50 == 49 {
            history.settle();
            history.assert_agreed();
        }
    }
    history.settle();
    history.assert_agreed();
}

#[test]
fn two_machines_work_in_turn_over_sftp() {
    work_in_turn("sshd");
}

#[test]
fn two_machines_work_in_turn_over_webdav() {
    work_in_turn("apache-tls");
}

#[test]
fn two_machines_work_in_turn_over_ftp() {
    work_in_turn("proftpd-tls");
}

#[test]
fn two_machines_work_in_turn_over_ftp_with_listings_for_people() {
    work_in_turn("proftpd-plain");
}

#[test]
fn two_machines_work_in_turn_at_an_object_store() {
    work_in_turn("objects");
}
