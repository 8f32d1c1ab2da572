//! Two-way jobs through the built program: directions, conflicts, settling, guards, undoing, kills.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use common::{Node, Ran, Station, assert_no_leftovers, number, tree, write};

/// Both sides filled and run once.
fn station(options: &[&str]) -> Station {
    let station = Station::with_job("two-way", options);
    station.write("counts/north.csv", "bird,n\nheron,4\nteal,1\n", 1000);
    station.write("counts/south.csv", "bird,n\nbittern,2\n", 1100);
    station.write("maps/paths.txt", "reed path", 1200);
    right(&station, "rota.csv", "who comes when", 1300);
    right(&station, "maps/paths.txt", "reed path", 1200);
    station.run_job(&[]).expect(0);
    station
}

fn right(station: &Station, path: &str, content: &str, seconds: u64) {
    write(&station.right().join(path), content.as_bytes(), seconds);
}

fn read(folder: &Path, path: &str) -> Option<String> {
    fs::read_to_string(folder.join(path)).ok()
}

/// What a side holds, without Reedhook's own.
fn content(folder: &Path) -> Vec<(String, String)> {
    let files = tree(folder).into_iter().filter(|(path, _)| !path.starts_with(".reedhook"));
    let texts = files.filter_map(|(path, node)| match node {
        Node::File { content, .. } => {
            Some((path.display().to_string(), String::from_utf8_lossy(&content).into_owned()))
        }
        _ => None,
    });
    texts.collect()
}

/// Every version on both sides, kept copies included.
fn versions(station: &Station) -> BTreeSet<Vec<u8>> {
    let kept = |side: &Path| {
        fs::read_dir(side.join(".reedhook/kept"))
            .into_iter()
            .flatten()
            .flatten()
            .map(|run| run.path())
            .collect::<Vec<_>>()
    };
    let sides = [station.left(), station.right()];
    let folders = sides.iter().flat_map(|side| [vec![side.clone()], kept(side)].concat());
    let nodes = folders.flat_map(|folder| tree(&folder).into_values());
    nodes
        .filter_map(|node| if let Node::File { content, .. } = node { Some(content) } else { None })
        .collect()
}

#[track_caller]
fn assert_same(station: &Station) {
    assert_eq!(content(&station.left()), content(&station.right()));
    let again = station.run_job(&[]).expect(0).last();
    for key in ["added", "updated", "moved", "removed", "meta", "conflicts", "bytes"] {
        assert_eq!(number(&again, key), 0, "a second run does nothing: {again}");
    }
}

/// Edits on both sides, one conflict, a removal against a change.
fn worked_on(station: &Station) {
    station.write("counts/north.csv", "bird,n\nheron,5\nteal,1\n", 2000);
    right(station, "counts/north.csv", "bird,n\nheron,7\nteal,1\nsnipe,2\n", 3000);
    fs::remove_file(station.right().join("counts/south.csv")).unwrap();
    station.write("counts/south.csv", "bird,n\nbittern,3\n", 2100);
    fs::remove_file(station.left().join("rota.csv")).unwrap();
    right(station, "new.csv", "from the share", 2200);
    fs::rename(station.left().join("maps"), station.left().join("charts")).unwrap();
}

#[test]
fn the_first_run_is_a_union_and_knows_what_is_the_same() {
    let station = Station::with_job("two-way", &[]);
    station.write("same", "content", 1000);
    right(&station, "same", "content", 1000);
    station.write("same but touched", "content", 1000);
    right(&station, "same but touched", "content", 900);
    station.write("only left", "l", 1000);
    right(&station, "only right", "r", 1000);
    station.write("differs", "one", 1000);
    right(&station, "differs", "two", 1100);
    let ran = station.run_job(&[]).expect(4).last();
    let numbers = ["added", "updated", "meta", "same", "conflicts", "bytes"].map(|key| number(&ran, key));
    assert_eq!((numbers, ran["outcome"].as_str()), ([2, 0, 1, 1, 1, 2], Some("held")), "{ran}");
    let time = |side: &Path| fs::metadata(side.join("same but touched")).unwrap().modified().unwrap();
    assert_eq!(time(&station.left()), time(&station.right()), "the earlier time holds");
    assert_eq!(
        (read(&station.left(), "differs"), read(&station.right(), "differs")),
        (Some("one".into()), Some("two".into()))
    );
}

#[test]
fn what_is_done_at_one_side_is_done_at_the_other_and_conflicts_are_held() {
    let station = station(&[]);
    worked_on(&station);
    let preview = station.run(&["preview", "counts", "--json"]).expect(0);
    let shown = |ran: &Ran, event: &str| -> BTreeSet<String> {
        let lines = ran.json().into_iter().filter(|line| line["event"] == event && line["do"] != "conflict");
        lines
            .map(|line| format!("{} {} {}", line["do"], line["side"], line["path"]).replace('"', ""))
            .collect()
    };
    let expected =
        ["add left new.csv", "move right charts", "remove right rota.csv", "revive right counts/south.csv"];
    assert_eq!(shown(&preview, "action"), expected.map(str::to_owned).into());
    let text = station.run(&["preview", "counts"]).expect(0).out;
    for words in ["To the right", "To the left", "comes back", "from maps/", "counts/north.csv  held"] {
        assert!(text.contains(words), "{words}: {text}");
    }
    let ran = station.run_job(&[]).expect(4);
    assert_eq!(shown(&ran, "item"), expected.map(str::to_owned).into());
    for key in ["added", "moved", "removed", "conflicts", "same", "bytes"] {
        assert_eq!(preview.last()[key], ran.last()[key], "{key}: what a preview says is what a run does");
    }
    assert_eq!(read(&station.left(), "counts/north.csv").unwrap().len(), 22, "a held conflict is untouched");
    assert_eq!(read(&station.right(), "counts/south.csv").unwrap(), "bird,n\nbittern,3\n");
    assert!(station.kept().contains_key(Path::new("rota.csv")), "what is removed is kept");

    let listed = station.run(&["conflicts", "counts", "--json"]).expect(4).json();
    assert_eq!(
        (listed.len(), listed[0]["event"].as_str(), listed[0]["path"].as_str()),
        (1, Some("conflict"), Some("counts/north.csv"))
    );
    assert_eq!((number(&listed[0]["left"], "size"), number(&listed[0]["right"], "size")), (22, 30));
    let text = station.run(&["conflicts", "counts"]).expect(4).out;
    for words in ["newer", "line 2", "heron,5", "heron,7"] {
        assert!(text.contains(words), "{words}: {text}");
    }
    station.run_job(&[]).expect(4);
}

#[test]
fn a_conflict_is_settled_by_a_word_and_the_loser_is_kept() {
    for (keep, left, beside) in [
        ("left", "heron,5", None),
        ("right", "heron,7", None),
        ("newest", "heron,7", None),
        ("both", "heron,7", Some("heron,5")),
    ] {
        let station = station(&["--replaced", "erase", "--removed", "erase"]);
        worked_on(&station);
        station.run_job(&[]).expect(4);
        let before = content(&station.left()).len();
        station.run(&["settle", "counts", "counts/nroth.csv", "--keep", keep]).expect(2);
        let settled =
            station.run(&["settle", "counts", "counts/north.csv", "--keep", keep, "--json"]).expect(0).last();
        assert_eq!((number(&settled, "settled"), number(&settled, "conflicts")), (1, 0), "{keep}: {settled}");
        assert!(read(&station.left(), "counts/north.csv").unwrap().contains(left), "{keep}");
        let other =
            content(&station.right()).into_iter().find(|(path, _)| path.contains(".from-left.19700101-"));
        assert_eq!(other.map(|(_, content)| content.contains("heron,5")), beside.map(|_| true), "{keep}");
        assert_eq!(content(&station.left()).len(), before + usize::from(beside.is_some()));
        let versions = versions(&station);
        for version in ["heron,5", "heron,7"] {
            let held = versions.iter().any(|held| String::from_utf8_lossy(held).contains(version));
            assert!(held, "{keep}: {version} is somewhere, whatever the job erases");
        }
        assert_same(&station);
        station.run(&["conflicts", "counts"]).expect(0);
    }
}

#[test]
fn policies_hold_by_path() {
    let station =
        station(&["--conflict", "left", "--conflict-for", "*.csv newest", "--conflict-for", "maps/ both"]);
    for (path, left, right_time) in
        [("counts/north.csv", 2000, 3000), ("maps/paths.txt", 2000, 3000), ("notes", 2000, 3000)]
    {
        station.write(path, "left", left);
        right(&station, path, "from the right", right_time);
    }
    let ran = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&ran, "settled"), number(&ran, "conflicts")), (3, 0), "{ran}");
    assert_eq!(read(&station.left(), "counts/north.csv").unwrap(), "from the right");
    assert_eq!(read(&station.right(), "notes").unwrap(), "left");
    assert_eq!(fs::read_dir(station.left().join("maps")).unwrap().count(), 2);
    assert_same(&station);
}

#[test]
fn another_drive_at_a_side_is_no_removal_of_everything() {
    let station = station(&[]);
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    station.run_job(&[]).expect(3);
    fs::create_dir(station.right()).unwrap();
    let refused = station.run_job(&[]).expect(3);
    assert_eq!(refused.last()["code"], "destination-foreign", "{}", refused.out);
    assert_eq!(content(&station.left()).len(), 4);

    // The same place, said to be the new one: nothing is remembered of it, so nothing there is missing.
    station.run(&["job", "edit", "counts", "--right", "right"]).expect(0);
    let ran = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&ran, "added"), number(&ran, "removed")), (4, 0), "{ran}");
    assert_same(&station);
}

#[test]
fn mass_changes_and_an_emptied_side_stop_the_run() {
    let station = Station::with_job("two-way", &[]);
    for number in 0..60 {
        station.write(&format!("season/{number}.csv"), &format!("count {number}"), 1000);
    }
    station.run_job(&[]).expect(0);
    for number in 0..40 {
        right(&station, &format!("season/{number}.csv"), "encrypted!", 5000);
    }
    let refused = station.run_job(&[]).expect(3).last();
    assert_eq!(refused["code"], "too-many-changes");
    let message = refused["message"].as_str().unwrap();
    assert!(message.contains("at the left") && message.contains("season 40"), "{message}");
    assert_eq!(read(&station.left(), "season/7.csv").unwrap(), "count 7");
    station.run_job(&["--allow", "changes"]).expect(0);

    fs::remove_dir_all(station.left().join("season")).unwrap();
    let refused = station.run_job(&["--yes"]).expect(3).last();
    assert_eq!(refused["code"], "empty-source", "{refused}");
    assert_eq!(content(&station.right()).len(), 60);
}

#[test]
fn removals_can_be_ignored_until_the_other_side_changes_the_file() {
    let station = station(&["--removals", "ignore"]);
    fs::remove_file(station.left().join("rota.csv")).unwrap();
    fs::remove_dir_all(station.right().join("maps")).unwrap();
    let ran = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&ran, "removed"), number(&ran, "added")), (0, 0));
    assert!(
        read(&station.right(), "rota.csv").is_some() && read(&station.left(), "maps/paths.txt").is_some()
    );
    right(&station, "rota.csv", "who comes when, now", 9000);
    station.run_job(&[]).expect(0);
    assert_eq!(read(&station.left(), "rota.csv").unwrap(), "who comes when, now");
}

#[test]
fn an_undone_run_is_undone_on_both_sides() {
    let station = station(&["--conflict", "both"]);
    worked_on(&station);
    let before = (content(&station.left()), content(&station.right()));
    station.run_job(&[]).expect(0);
    station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert_eq!((content(&station.left()), content(&station.right())), before);
    // What the undo took away is not taken for removed: the next run does the work again.
    let again = station.run_job(&[]).expect(0).last();
    assert_eq!(number(&again, "removed"), 0, "{again}");
    assert_same(&station);
    let kept = station.run(&["kept", "list", "counts", "--json"]).expect(0).json();
    let sides: BTreeSet<&str> = kept.iter().filter_map(|line| line["side"].as_str()).collect();
    assert!(sides.contains("right"), "{kept:?}");
}

#[test]
fn lost_files_come_back_from_the_side_that_kept_them() {
    let station = station(&[]);
    fs::remove_file(station.right().join("rota.csv")).unwrap();
    station.run_job(&[]).expect(0);
    assert!(read(&station.left(), "rota.csv").is_none());
    station.run(&["kept", "restore", "counts", "rota.csv"]).expect(0);
    assert_eq!(read(&station.left(), "rota.csv").unwrap(), "who comes when", "it was kept at the left");
    station.run_job(&[]).expect(0);
    assert_same(&station);
    station.run(&["verify", "counts"]).expect(0);
}

#[test]
fn why_names_what_decides() {
    let station = station(&["--exclude", "*.tmp"]);
    worked_on(&station);
    station.write("scratch.tmp", "x", 1);
    let cases = [
        ("counts/north.csv", "conflict", "settle counts"),
        ("counts/south.csv", "revive", "removal never beats a change"),
        ("rota.csv", "remove", "has lost it"),
        ("new.csv", "carry", "the right one goes to the left"),
        ("scratch.tmp", "filtered", "exclude *.tmp"),
        ("no/such", "nothing", "is the path right?"),
        ("counts", "same", "name by name"),
    ];
    for (path, decision, words) in cases {
        let why = station.run(&["why", "counts", path, "--json"]).expect(0).last();
        assert_eq!(why["decision"], decision, "{path}: {why}");
        assert!(why["sentences"].to_string().contains(words), "{path}: {why}");
    }
    assert!(station.run(&["why", "counts", "../x"]).expect(2).err.contains("\"..\""));
    assert!(station.run(&["run", "counts", "--reverse"]).expect(2).err.contains("two-way"));
}

/// A new job of an old name, a side that is still to be made, a run without a job: none of them knows a past.
#[test]
fn without_a_past_nothing_counts_as_removed() {
    let station = station(&[]);
    station.run(&["job", "remove", "counts", "--yes"]).expect(0);
    fs::remove_file(station.left().join("rota.csv")).unwrap();
    station.run(&["job", "add", "counts", "two-way", "left", "right"]).expect(0);
    let ran = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&ran, "removed"), number(&ran, "added")), (0, 1), "{ran}");

    fs::remove_file(station.right().join("rota.csv")).unwrap();
    let once = station.run(&["once", "two-way", "left", "right", "--json"]).expect(0).last();
    assert_eq!((number(&once, "removed"), number(&once, "added")), (0, 1), "{once}");

    station.run(&["job", "add", "fresh", "two-way", "left", "to be made"]).expect(0);
    let preview = station.run(&["preview", "fresh", "--json"]).expect(0).last();
    assert!(!station.path("to be made").exists());
    let ran = station.run(&["run", "fresh", "--json"]).expect(0).last();
    assert_eq!((number(&ran, "added"), &ran["added"]), (4, &preview["added"]));
    assert_eq!(content(&station.left()), content(&station.path("to be made")));
    station.run(&["run", "fresh", "--json"]).expect(0);
}

/// A seeded stream of numbers (SplitMix64, Steele, Lea & Flood 2014).
fn below(state: &mut u64, limit: u64) -> u64 {
    *state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let mut z = *state;
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    (z ^ (z >> 31)) % limit
}

/// kill -9 at random moments of runs in both directions: the next run brings both sides together, and every version that a
/// person made is on one of them or kept.
#[test]
fn kills_in_both_directions() {
    let mut chance = 5;
    let mut midway = 0;
    for round in 0..14_u64 {
        let station = Station::with_job(
            "two-way",
            &["--max-changes", "off", "--max-removals", "off", "--conflict", "newest"],
        );
        let mut made: BTreeSet<Vec<u8>> = BTreeSet::new();
        for kill in 0..3_u64 {
            // At different paths, because what a person overwrites by hand is their own loss.
            for number in 0..80 {
                let side = if number % 2 == 0 { station.left() } else { station.right() };
                let path = side.join(format!("d{}/k{kill}-{}", below(&mut chance, 4), number / 2));
                let version = format!("{round} {kill} {number} ")
                    .repeat(1 + below(&mut chance, 900) as usize)
                    .into_bytes();
                write(&path, &version, 1_000_000 + kill * 1000 + number);
                made.insert(version);
            }
            let mut child = station
                .command(&["run", "counts", "--yes", "--quiet"])
                .stdout(Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(Duration::from_micros(below(&mut chance, 50_000)));
            child.kill().unwrap();
            midway += usize::from(child.wait().unwrap().code().is_none());
        }
        station.run_job(&["--yes"]).expect(0);
        assert_same(&station);
        assert_no_leftovers(&station.left());
        assert_no_leftovers(&station.right());
        let there = versions(&station);
        let lost: Vec<_> = made
            .difference(&there)
            .map(|version| String::from_utf8_lossy(&version[..10]).into_owned())
            .collect();
        assert!(lost.is_empty(), "lost: {lost:?}");
    }
    assert!(midway > 10, "only {midway} of 42 kills met a run in progress");
}

/// Drives and servers of whole seconds: what is saved again within the second, with the same size, is seen; `why` says so too; and the
/// version that is brought over has a time of its own, at both sides.
#[test]
fn what_is_saved_again_within_the_second_is_seen() {
    let save = |path: &Path, content: &str, seconds: u64| {
        fs::write(path, content).unwrap();
        let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
        fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
    };
    let now = || std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let station = Station::with_job("two-way", &[]);
    let (left, right) = (station.left().join("heron.csv"), station.right().join("heron.csv"));
    let second = now();
    save(&left, "heron,3", second);
    station.run_job(&["--yes"]).expect(0);
    save(&right, "heron,4", second);
    let why = station.run(&["why", "counts", "heron.csv", "--json"]).expect(0).last();
    assert_eq!(why["decision"], "carry", "{why}");
    assert_eq!(number(&station.run_job(&["--yes"]).expect(0).last(), "updated"), 1);
    assert_eq!(fs::read_to_string(&left).unwrap(), "heron,4");
    let time = |path: &Path| fs::metadata(path).unwrap().modified().unwrap();
    assert_eq!(time(&left), time(&right));
    assert_ne!(
        time(&left),
        std::time::UNIX_EPOCH + std::time::Duration::from_secs(second),
        "another version"
    );
    // What is older than that second is believed: the run reads nothing, and has nothing to do.
    let quiet = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&quiet, "updated"), number(&quiet, "meta")), (0, 0), "{quiet}");
    station.run(&["verify", "counts"]).expect(0);
}
