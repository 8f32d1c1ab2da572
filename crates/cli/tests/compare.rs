//! Comparing: what it says agrees with `diff`, `cmp` and `find` on the same trees, and nothing is touched.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;

use common::{Ran, Seeded, Station, number, set_mode, tree, with_tools, write};
use serde_json::Value;

const FOLDERS: [&str; 6] = ["", "north/", "north/deep/", "west/", "empty/", "only/here/"];

/// Two trees that have most in common. Every file has content of its own, so that nothing looks moved.
fn two_trees(station: &Station, chance: &mut Seeded) {
    for (at, folder) in FOLDERS.iter().enumerate() {
        for side in [station.left(), station.right()] {
            if chance.below(6) > 0 {
                fs::create_dir_all(side.join(folder)).unwrap();
            }
        }
        for file in 0..chance.below(7) {
            let path = format!("{folder}f{file}");
            let text = format!("{at} {file} {}", "heron ".repeat(chance.below(40) as usize));
            let (left, right) = (station.left().join(&path), station.right().join(&path));
            let fate = chance.below(10);
            if fate != 0 {
                write(&left, text.as_bytes(), 1_900_000_000);
            }
            match fate {
                1 => {}
                2 => write(&right, text.replace(' ', "_").as_bytes(), 1_900_000_100),
                3 => write(&right, text.replace(' ', "_").as_bytes(), 1_899_999_900),
                4 => write(&right, format!("{text}.").as_bytes(), 1_900_000_000),
                // What only the content tells.
                5 => write(&right, text.replace(' ', "_").as_bytes(), 1_900_000_000),
                6 => {
                    fs::create_dir_all(right.parent().unwrap()).unwrap();
                    symlink("f0", &right).unwrap();
                }
                _ => write(&right, text.as_bytes(), 1_900_000_000),
            }
        }
    }
}

/// Every path below a root, with whether it is a folder.
fn found(root: &Path) -> BTreeMap<String, bool> {
    let output =
        Command::new("find").arg(root).args(["-mindepth", "1", "-printf", "%P\\t%y\\n"]).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines()
        .map(|line| line.split_once('\t').unwrap())
        .map(|(path, kind)| (path.to_owned(), kind == "d"))
        .collect()
}

/// What `diff -rq` says: paths that are on one side only at the top, and files that differ.
fn differing_for_diff(station: &Station) -> (BTreeSet<String>, BTreeSet<String>) {
    let (left, right) = (station.left().canonicalize().unwrap(), station.right());
    let output = Command::new("diff")
        .args(["-rq", "--no-dereference"])
        .args([&left, &right])
        .env("LC_ALL", "C")
        .output()
        .unwrap();
    let (mut alone, mut differ) = (BTreeSet::new(), BTreeSet::new());
    let below = |path: &str| {
        let roots = [left.display().to_string(), right.display().to_string()];
        let rest = roots.iter().find_map(|root| path.strip_prefix(root)).unwrap();
        rest.trim_start_matches('/').to_owned()
    };
    for line in String::from_utf8(output.stdout).unwrap().lines() {
        if let Some(rest) = line.strip_prefix("Only in ") {
            let (folder, name) = rest.split_once(": ").unwrap();
            alone.insert(format!("{}/{name}", below(folder)).trim_start_matches('/').to_owned());
        } else {
            let path = line.split_whitespace().find(|word| word.starts_with('/')).unwrap();
            differ.insert(below(path));
        }
    }
    (alone, differ)
}

fn differences(ran: &Ran) -> BTreeMap<String, Value> {
    let lines = ran.json().into_iter().filter(|line| line["event"] == "difference");
    lines.map(|line| (line["path"].as_str().unwrap().to_owned(), line)).collect()
}

/// The paths of differences in these states.
fn in_states(found: &BTreeMap<String, Value>, states: &[&str]) -> BTreeSet<String> {
    let wanted = found.iter().filter(|(_, line)| states.contains(&line["state"].as_str().unwrap()));
    wanted.map(|(path, _)| path.clone()).collect()
}

#[test]
fn states_and_counts_agree_with_the_systems_own_tools() {
    if !with_tools("comparing with the system's tools", &["diff", "find", "cmp"]) {
        return;
    }
    for round in 0..25 {
        let station = Station::new();
        two_trees(&station, &mut Seeded(round));
        let before = (tree(&station.left()), tree(&station.right()));
        let ran = station.run(&["compare", "left", "right", "--content", "--counts", "--all", "--json"]);
        let all = differences(&ran);
        let (left, right) = (found(&station.left().canonicalize().unwrap()), found(&station.right()));

        // find: which paths are on one side only, folders included.
        let alone = |ours: &BTreeMap<String, bool>, theirs: &BTreeMap<String, bool>| -> BTreeSet<String> {
            ours.keys().filter(|path| !theirs.contains_key(*path)).cloned().collect()
        };
        assert_eq!(in_states(&all, &["only-left"]), alone(&left, &right), "round {round}");
        assert_eq!(in_states(&all, &["only-right"]), alone(&right, &left), "round {round}");
        // diff: what differs of what both have; of what is alone the topmost.
        let (at_the_top, differ) = differing_for_diff(&station);
        assert_eq!(
            in_states(&all, &["left-newer", "right-newer", "differs", "kind"]),
            differ,
            "round {round}"
        );
        assert!(at_the_top.iter().all(|path| all.contains_key(path)), "round {round}: {at_the_top:?}");
        // cmp: what is not told is the same.
        for (path, _) in left
            .iter()
            .filter(|(path, folder)| !**folder && right.contains_key(*path) && !all.contains_key(*path))
        {
            let same = Command::new("cmp")
                .arg("-s")
                .args([station.left().join(path), station.right().join(path)])
                .status();
            assert!(same.unwrap().success(), "round {round}: {path}");
        }
        assert_counts(&station, &ran, round);
        assert_eq!(ran.code, i32::from(!all.is_empty()), "round {round}");
        assert_eq!((tree(&station.left()), tree(&station.right())), before, "nothing is touched");
    }
}

/// The counts of each folder, against `find`.
fn assert_counts(station: &Station, ran: &Ran, round: u64) {
    let folders: Vec<Value> = ran.json().into_iter().filter(|line| line["event"] == "folder").collect();
    let mut told = BTreeSet::new();
    for line in &folders {
        let path = line["path"].as_str().unwrap();
        told.insert(path.to_owned());
        for (key, root) in [("left", station.left().canonicalize().unwrap()), ("right", station.right())] {
            let below = root.join(path);
            let here = if below.is_dir() { found(&below) } else { BTreeMap::new() };
            let folders = here.values().filter(|folder| **folder).count() as u64;
            let size = |path: &String| fs::symlink_metadata(below.join(path)).unwrap();
            let bytes: u64 = here.keys().map(size).filter(fs::Metadata::is_file).map(|meta| meta.len()).sum();
            let expected = (here.len() as u64 - folders, folders, bytes);
            let side = &line[key];
            assert_eq!(
                (number(side, "files"), number(side, "folders"), number(side, "bytes")),
                expected,
                "round {round}: {key} {path}"
            );
        }
    }
    let both = [station.left().canonicalize().unwrap(), station.right()].map(|root| found(&root));
    let every = both.iter().flatten().filter(|(_, folder)| **folder).map(|(path, _)| path.clone());
    assert_eq!(
        told,
        every.chain([String::new()]).collect::<BTreeSet<_>>(),
        "round {round}: every folder once"
    );
}

#[test]
fn times_sizes_and_tolerance_decide_as_they_are_asked_to() {
    let station = Station::new();
    let rows = [
        // What the right has: text, time; then the state by time, by size, by content, and with a tolerance of ten seconds.
        ("same", "heron", 0, ["", "", "", ""]),
        ("later", "heron", 5, ["right-newer", "", "", ""]),
        ("later-and-other", "grebe", 5, ["right-newer", "", "right-newer", ""]),
        ("earlier", "heron", -60, ["left-newer", "", "", "left-newer"]),
        ("longer", "herons", 5, ["right-newer", "right-newer", "right-newer", "differs"]),
        ("silent", "grebe", 0, ["", "", "differs", ""]),
        ("just-ten", "grebe", 10, ["right-newer", "", "right-newer", ""]),
        ("over-ten", "grebe", 11, ["right-newer", "", "right-newer", "right-newer"]),
    ];
    for (name, text, later, _) in rows {
        station.write(name, "heron", 1_900_000_000);
        write(&station.right().join(name), text.as_bytes(), (1_900_000_000 + later) as u64);
    }
    let asked: [&[&str]; 4] = [&[], &["--by", "size"], &["--content"], &["--tolerance", "10s"]];
    for (at, options) in asked.into_iter().enumerate() {
        let words = [&["compare", "left", "right", "--json"], options].concat();
        let found = differences(&station.run(&words).expect(1));
        for (name, _, _, states) in &rows {
            let state = found.get(*name).map_or("", |line| line["state"].as_str().unwrap());
            assert_eq!(state, states[at], "{options:?} {name}");
        }
    }
    // Only these states: what is listed, counted and answered.
    let only = |states: &str| station.run(&["compare", "left", "right", "--json", "--only", states]);
    assert_eq!(only("left-newer").expect(1).json().len(), 2);
    assert_eq!(number(&only("only-left,moved").expect(0).last(), "different"), 0);
    let slip = only("newer").expect(2);
    assert!(slip.err.contains("only-left"), "{}", slip.err);
}

#[test]
fn what_moved_is_recognised_and_what_only_looks_so_is_not() {
    let station = Station::new();
    for (path, text) in
        [("counts/a.csv", "a,1"), ("counts/b.csv", "b,22"), ("one.csv", "one,333"), ("two.csv", "two,4444")]
    {
        station.write(path, text, 1_900_000_000);
    }
    for (path, text) in
        [("old/a.csv", "a,1"), ("old/b.csv", "b,22"), ("deep/uno.csv", "one,333"), ("other.csv", "TWO,4444")]
    {
        write(&station.right().join(path), text.as_bytes(), 1_900_000_000);
    }
    // In a folder where nothing else happens.
    station.write("levels/mill-race/c.csv", "c,55555", 1_900_000_000);
    write(&station.right().join("levels/mill-channel/c.csv"), b"c,55555", 1_900_000_000);
    let quick = station.run(&["compare", "left", "right", "--json"]).expect(1);
    let states = |ran: &Ran| -> BTreeMap<String, String> {
        differences(ran)
            .into_iter()
            .map(|(path, line)| {
                (
                    path,
                    format!(
                        "{} {}",
                        line["state"].as_str().unwrap(),
                        line["right_path"].as_str().unwrap_or("")
                    ),
                )
            })
            .collect()
    };
    let moved = [
        ("counts", "moved old"),
        ("deep", "only-right "),
        ("levels/mill-race", "moved levels/mill-channel"),
        ("one.csv", "moved deep/uno.csv"),
        ("two.csv", "moved other.csv"),
    ];
    assert_eq!(states(&quick), moved.map(|(path, state)| (path.to_owned(), state.to_owned())).into());
    assert_eq!(number(&quick.last(), "moved"), 5, "files are counted, also those in a folder that moved");
    let read = station.run(&["compare", "left", "right", "--json", "--content"]).expect(1);
    assert_eq!(states(&read)["two.csv"], "only-left ");
    assert_eq!(
        (states(&read)["other.csv"].as_str(), states(&read)["counts"].as_str()),
        ("only-right ", "moved old")
    );
}

#[test]
fn filters_jobs_several_places_and_trouble() {
    let station = Station::new();
    station.write("a.csv", "heron", 1_900_000_000);
    station.write("scratch/x.tmp", "x", 1_900_000_000);
    station.write("Thumbs.db", "junk", 1_900_000_000);
    station
        .run(&["job", "add", "counts", "mirror", "left", "right", "--exclude", "scratch/", "--yes"])
        .expect(0);
    assert_eq!(number(&station.run(&["compare", "counts", "--json"]).expect(1).last(), "different"), 1);
    station.run(&["run", "counts", "--yes"]).expect(0);
    let after = station.run(&["compare", "counts", "--json"]).expect(0).last();
    assert_eq!(
        (number(&after, "same"), number(&after, "filtered")),
        (1, 2),
        "Reedhook's own folder is no part of it"
    );
    let places = |more: &[&str]| station.run(&[&["compare", "left", "right", "--json"], more].concat());
    assert_eq!(
        in_states(&differences(&places(&[]).expect(1)), &["only-left"]),
        ["scratch", "scratch/x.tmp"].map(str::to_owned).into()
    );
    assert_eq!(
        differences(&places(&["--exclude", "*.tmp", "--exclude", "scratch", "--junk", "take"]).expect(1))
            .len(),
        1
    );
    places(&["--include", "*.csv"]).expect(0);

    // Several: each against the first, told apart.
    fs::create_dir(station.path("third")).unwrap();
    let several = station.run(&["compare", "right", "left", "third", "--json"]).expect(1);
    let ends: Vec<Value> = several.json().into_iter().filter(|line| line["event"] == "compared").collect();
    assert_eq!(ends.iter().map(|line| line["to"].as_str().unwrap()).collect::<Vec<_>>(), ["left", "third"]);

    // Trouble is 2, whatever else differs, and is said in one sentence.
    for (words, said) in [
        (vec!["compare", "left", "nowhere"], "is not there"),
        (vec!["compare", "left", "left/a.csv"], "is no folder"),
        (vec!["compare", "left"], "one place"),
        (vec!["compare", "count"], "Did you mean \"counts\"?"),
        (vec!["compare", "left", "@stick"], "there is no store \"stick\""),
        (vec!["compare", "left", "right", "--csv", "no/such/folder.csv"], "cannot be written"),
    ] {
        let ran = station.run(&words).expect(2);
        assert!(ran.err.contains(said) && ran.err.lines().count() == 1, "{words:?}: {}", ran.err);
    }
}

#[test]
fn what_cannot_be_read_is_trouble_and_never_counts_as_the_same() {
    let station = Station::new().without_rights();
    for side in [station.left(), station.right()] {
        write(&side.join("a.csv"), b"heron", 1_900_000_000);
        write(&side.join("closed/b.csv"), b"grebe", 1_900_000_000);
    }
    set_mode(&station.right().join("a.csv"), 0o000);
    set_mode(&station.right().join("closed"), 0o000);
    let ran = station.run(&["compare", "left", "right", "--content", "--json"]);
    set_mode(&station.right().join("closed"), 0o755);
    set_mode(&station.right().join("a.csv"), 0o644);
    let ran = ran.expect(2);
    let problems: BTreeSet<String> = ran
        .json()
        .into_iter()
        .filter(|line| line["event"] == "problem")
        .map(|line| line["path"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(problems, ["a.csv", "closed"].map(str::to_owned).into());
    assert_eq!(
        (number(&ran.last(), "same"), differences(&ran).len()),
        (0, 0),
        "what is not known is neither the same nor different"
    );
}

/// A table as a spreadsheet reads it.
fn rows(file: &Path) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_path(file).unwrap();
    reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect()
}

#[test]
fn the_tables_say_what_the_lines_say() {
    let station = Station::new();
    two_trees(&station, &mut Seeded(7));
    station.write("odd, \"name\"\nhere", "x", 1_900_000_000);
    let file = |name: &str| -> PathBuf { station.path(name) };
    let ran =
        station.run(&["compare", "left", "right", "--json", "--csv", "entries.csv", "--csv-raw"]).expect(1);
    let table = rows(&file("entries.csv"));
    assert_eq!(table[0][..3], ["path", "state", "kind"].map(str::to_owned));
    let told: Vec<(String, String)> = table[1..].iter().map(|row| (row[0].clone(), row[1].clone())).collect();
    let lines = differences(&ran);
    assert_eq!(told.len(), lines.len());
    assert!(told.iter().all(|(path, state)| lines[path]["state"] == state.as_str()));
    let size = |row: &Vec<String>| row[3].parse::<u64>().ok();
    assert!(table[1..].iter().all(|row| size(row) == lines[&row[0]]["left"]["size"].as_u64()));

    let counted = station
        .run(&["compare", "left", "right", "--json", "--counts", "--csv", "folders.csv", "--csv-raw"])
        .expect(1);
    let folders: Vec<Value> = counted.json().into_iter().filter(|line| line["event"] == "folder").collect();
    let table = rows(&file("folders.csv"));
    assert_eq!(table.len() - 1, folders.len());
    for (row, line) in table[1..].iter().zip(&folders) {
        let told = |at: usize| row[at].parse::<u64>().unwrap_or(0);
        assert_eq!(
            (row[0].as_str(), told(1), told(6)),
            (line["path"].as_str().unwrap(), number(&line["left"], "files"), number(&line["right"], "bytes"))
        );
    }
    // What is no plain file is written to and stays what it is; a link leads where it led.
    symlink("/dev/null", file("nowhere.csv")).unwrap();
    station.run(&["compare", "left", "right", "--csv", "nowhere.csv"]).expect(1);
    assert!(file("nowhere.csv").is_symlink());
    let full = station.run(&["compare", "left", "right", "--csv", "/dev/full"]).expect(2);
    assert!(full.err.contains("/dev/full cannot be written"), "{}", full.err);
    symlink("entries.csv", file("linked.csv")).unwrap();
    station.run(&["compare", "left", "right", "--csv", "linked.csv"]).expect(1);
    assert!(file("linked.csv").is_symlink() && rows(&file("entries.csv")).len() == told.len() + 1);
    // A look that is stopped by trouble leaves no half a table, and the one that was there.
    station.run(&["compare", "left", "nowhere", "--csv", "entries.csv"]).expect(2);
    assert_eq!(rows(&file("entries.csv")).len(), told.len() + 1);
    assert!(!file("entries.csv.new").exists());
}
