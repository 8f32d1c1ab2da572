//! Saved plans: exactly what was looked at is done, as far as it is still so, and to nothing else.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use common::{Ran, Seeded, Station, number, tree, write};

const OLD: u64 = 1_900_000_000;

/// What files hold, by path.
fn contents(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let files = tree(root).into_iter().filter_map(|(path, node)| match node {
        common::Node::File { content, .. } => Some((path, content)),
        _ => None,
    });
    files.collect()
}

fn paths_of(ran: &Ran, event: &str) -> BTreeSet<PathBuf> {
    let lines = ran.json().into_iter().filter(|line| line["event"] == event);
    lines.map(|line| PathBuf::from(line["path"].as_str().unwrap())).collect()
}

#[test]
fn of_ten_thousand_changes_exactly_those_are_done_that_are_as_they_were() {
    const FILES: u64 = 10_000;
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    let name = |number: u64| format!("d{:02}/f{number}", number % 50);
    for number in 0..FILES {
        let (path, text) = (name(number), format!("heron {number}"));
        match number % 3 {
            0 => station.write(&path, &text, OLD),
            1 => write(&station.right().join(&path), text.as_bytes(), OLD),
            _ => {
                station.write(&path, &format!("{text} again"), OLD + 100);
                write(&station.right().join(&path), text.as_bytes(), OLD);
            }
        }
    }
    station.run(&["preview", "counts", "--save", "evening.plan"]).expect(0);
    // One in a hundred is saved, removed, or was done already; and there is something new.
    let mut meddled = BTreeSet::new();
    for number in (0..FILES).step_by(100) {
        let (left, right) = (station.left().join(name(number)), station.right().join(name(number)));
        match number % 3 {
            0 if number % 200 == 0 => fs::remove_file(&left).unwrap(),
            0 => write(&left, b"somebody saved it", OLD + 5000),
            1 => write(&right, b"somebody keeps it here", OLD + 5000),
            _ => write(&right, b"somebody changed the old one", OLD + 5000),
        }
        meddled.insert(PathBuf::from(name(number)));
    }
    station.write("later/new.csv", "came later", OLD + 5000);
    write(&station.right().join("later-there.csv"), b"came later", OLD + 5000);
    let (left, mut expected) = (contents(&station.left()), contents(&station.right()));
    for number in (0..FILES).filter(|number| !meddled.contains(Path::new(&name(*number)))) {
        let path = PathBuf::from(name(number));
        match left.get(&path) {
            Some(content) => expected.insert(path, content.clone()),
            None => expected.remove(&path),
        };
    }
    let ran = station.run(&["run", "counts", "--plan", "evening.plan", "--yes", "--json"]).expect(1);
    assert_eq!(contents(&station.right()), expected, "exactly the others");
    assert_eq!(contents(&station.left()), left);
    assert_eq!(paths_of(&ran, "problem"), meddled);
    assert!(
        ran.json()
            .iter()
            .filter(|line| line["event"] == "problem")
            .all(|line| line["code"] == "changed-meanwhile")
    );
    assert_eq!(
        number(&ran.last(), "added") + number(&ran.last(), "updated") + number(&ran.last(), "removed"),
        9900
    );
    // A second time there is nothing of it left to do, and the usual run does the rest.
    let again = station.run(&["run", "counts", "--plan", "evening.plan", "--yes", "--json"]).expect(1).last();
    assert_eq!((number(&again, "added"), number(&again, "removed")), (0, 0));
    station.run_job(&["--yes"]).expect(0);
    assert_eq!(contents(&station.left()), contents(&station.right()));
}

/// Histories in the test that runs every time; `REEDHOOK_PLANS` asks for more.
fn histories(usual: u64) -> u64 {
    std::env::var("REEDHOOK_PLANS").ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Somebody works at one side: new files, other content, renames, removals of files and of a folder.
fn work(side: &Path, times: u64, chance: &mut Seeded, clock: &mut u64) {
    for _ in 0..times {
        *clock += 10;
        let folder = ["", "a/", "a/b/", "c/"][chance.below(4) as usize];
        let path = side.join(format!("{folder}f{}", chance.below(6)));
        let other = side.join(format!("{}g{}", ["", "c/", "e/"][chance.below(3) as usize], chance.below(4)));
        match chance.below(6) {
            0 if path.is_file() => fs::remove_file(&path).unwrap(),
            1 if path.is_file() && !other.exists() => {
                fs::create_dir_all(other.parent().unwrap()).unwrap();
                fs::rename(&path, &other).unwrap();
            }
            2 if side.join("a").is_dir() => fs::remove_dir_all(side.join("a")).unwrap(),
            _ => {
                let text = format!("{clock} {}", "x".repeat(chance.below(30) as usize));
                write(&path, text.as_bytes(), *clock);
            }
        }
    }
}

/// Random histories: what a plan leaves and what it does add up to what a run without it would have done.
#[test]
fn a_plan_does_nothing_by_halves_in_either_direction() {
    for round in 0..histories(32) {
        let kind = if round % 2 == 0 { "two-way" } else { "mirror" };
        let policy = ["hold", "both", "newest", "left"][round as usize / 2 % 4];
        let policy = if kind == "two-way" { vec!["--conflict", policy] } else { Vec::new() };
        let options = [&["--max-changes", "off", "--max-removals", "off"], policy.as_slice()].concat();
        let station = Station::with_job(kind, &options);
        let mut chance = Seeded(round);
        let mut clock = OLD;
        let mut work = |side: &Path, times: u64| work(side, times, &mut chance, &mut clock);
        work(&station.left(), 12);
        station.run_job(&["--yes"]).expect(0);
        work(&station.left(), 6);
        work(&station.right(), 6);
        station.run(&["preview", "counts", "--save", "x.plan"]);
        let sides = [station.left(), station.right()];
        let planned: Vec<_> = sides.iter().map(|side| contents(side)).collect();
        work(&station.left(), 2);
        work(&station.right(), 2);
        let before: Vec<_> = sides.iter().map(|side| contents(side)).collect();
        let ran = station.run(&["run", "counts", "--plan", "x.plan", "--yes", "--json"]);
        assert!([0, 1, 4].contains(&ran.code), "round {round}: {} {}", ran.out, ran.err);
        let after: Vec<_> = sides.iter().map(|side| contents(side)).collect();
        // What somebody has touched since the plan, at either side, is as they left it.
        for side in 0..2 {
            let all: BTreeSet<&PathBuf> = planned[side].keys().chain(before[side].keys()).collect();
            for path in all.into_iter().filter(|path| planned[side].get(*path) != before[side].get(*path)) {
                for at in 0..2 {
                    assert_eq!(
                        after[at].get(path),
                        before[at].get(path),
                        "round {round}: {} at {at}",
                        path.display()
                    );
                }
            }
        }
        // The rest is the business of the usual run: nothing was lost, and both sides end up alike.
        let ran = station.run_job(&["--yes"]);
        assert!([0, 4].contains(&ran.code), "round {round}: {} {}", ran.out, ran.err);
        if ran.code == 0 {
            assert_eq!(contents(&sides[0]), contents(&sides[1]), "round {round}");
            assert_eq!(
                number(&station.run(&["preview", "counts", "--json"]).last(), "added"),
                0,
                "round {round}"
            );
        }
    }
}

#[test]
fn a_plan_for_something_else_or_a_damaged_one_is_refused_and_nothing_is_touched() {
    let station = Station::with_job("mirror", &[]);
    station.write("a.csv", "heron", OLD);
    station.run_job(&[]).expect(0);
    station.write("b.csv", "grebe", OLD);
    station.run(&["preview", "counts", "--save", "x.plan"]).expect(0);
    let plan = fs::read(station.path("x.plan")).unwrap();
    fs::create_dir(station.path("folder.plan")).unwrap();
    let nowhere = station.run(&["preview", "counts", "--save", "folder.plan"]).expect(2);
    assert!(nowhere.err.contains("it is a folder"), "{}", nowhere.err);
    station.run(&["preview", "counts", "--save", "/dev/null"]).expect(0);
    let before = tree(&station.right());
    let refused = |bytes: &[u8], code: i32, said: &str| {
        fs::write(station.path("bad.plan"), bytes).unwrap();
        let ran = station.run(&["run", "counts", "--plan", "bad.plan", "--yes"]);
        assert!(
            ran.code == code && ran.err.contains(said) && ran.err.lines().count() == 1,
            "{}: {}",
            ran.code,
            ran.err
        );
        assert_eq!(tree(&station.right()), before);
    };
    let edited =
        |from: &str, to: &str| String::from_utf8(plan.clone()).unwrap().replacen(from, to, 1).into_bytes();
    for at in (0..plan.len()).step_by(plan.len() / 60) {
        let mut bytes = plan.clone();
        bytes[at] ^= 1;
        refused(&bytes, 2, "");
    }
    refused(&plan[..plan.len() - 1], 2, "altered or cut off");
    refused(&[&plan[..], b"\n"].concat(), 2, "altered or cut off");
    refused(b"", 2, "altered or cut off");
    refused(&edited("\"version\":1", "\"version\":2"), 2, "format 2");
    refused(&edited("b.csv", "c.csv"), 2, "altered or cut off");

    // Another job, other rules, another place, another drive at the same place.
    station.run(&["job", "add", "other", "mirror", "left", "elsewhere", "--yes"]).expect(0);
    let other = station.run(&["run", "other", "--plan", "x.plan", "--json"]).expect(3);
    assert_eq!(other.last()["code"], "plan-foreign");
    station.run(&["job", "edit", "counts", "--removed", "erase"]).expect(0);
    refused(&plan, 3, "removed was keep, and is erase now");
    station.run(&["job", "edit", "counts", "--removed", "keep", "--to", "third", "--yes"]).expect(0);
    fs::create_dir(station.path("third")).unwrap();
    refused(&plan, 3, "other stores");
    station.run(&["job", "edit", "counts", "--to", "right"]).expect(0);
    fs::rename(station.right(), station.path("put-away")).unwrap();
    fs::create_dir(station.right()).unwrap();
    station.run(&["job", "add", "stranger", "mirror", "third", "right", "--yes"]).expect(0);
    station.run(&["run", "stranger", "--allow", "empty", "--yes"]).expect(0);
    station.run(&["job", "edit", "counts", "--to", "right"]).expect(0);
    let ran = station.run(&["run", "counts", "--plan", "x.plan", "--yes"]).expect(3);
    assert!(ran.err.contains("other stores"), "{}", ran.err);
    fs::remove_dir_all(station.right()).unwrap();
    fs::rename(station.path("put-away"), station.right()).unwrap();
    station.run(&["job", "edit", "counts", "--to", "right"]).expect(0);
    station.run(&["run", "counts", "--plan", "x.plan"]).expect(0);
    assert_eq!(contents(&station.left()), contents(&station.right()));
    for words in
        [["run", "--all", "--plan", "x.plan"].as_slice(), &["run", "counts", "other", "--plan", "x.plan"]]
    {
        station.run(words).expect(2);
    }
}

#[test]
fn a_guard_and_a_missing_yes_hold_for_a_saved_plan_too() {
    let station = Station::with_job("mirror", &[]);
    for number in 0..40 {
        write(&station.right().join(format!("f{number}")), b"only here", OLD);
    }
    station.write("a.csv", "heron", OLD);
    station.run(&["preview", "counts", "--save", "x.plan"]).expect(3);
    let refused = station.run(&["run", "counts", "--plan", "x.plan", "--yes", "--json"]).expect(3).last();
    assert_eq!(refused["code"], "too-many-removals");
    let unasked =
        station.run(&["run", "counts", "--plan", "x.plan", "--allow", "removals", "--json"]).expect(3).last();
    assert_eq!(unasked["code"], "removals-not-agreed");
    station.run(&["run", "counts", "--plan", "x.plan", "--allow", "removals", "--yes"]).expect(0);
    assert_eq!(contents(&station.left()), contents(&station.right()));
}
