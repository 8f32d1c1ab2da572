//! Plans as text: two small trees and a filter in, what a run would do out. A row a situation.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fmt::Write;

use reedhook_core::compare::Comparison;
use reedhook_core::entry::Stamp;
use reedhook_core::filter::{Filter, FilterSpec};
use reedhook_core::job::{Kind, Newer, Preserve};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::{Fate, Plan, Step};
use reedhook_core::store::{Attributes, Expect, Publish, Store, StoreExt};
use reedhook_core::walk::{Corruption, Fresh, Moves, ScanInput, ScanProgress, Scope, scan};
use reedhook_testing::simulated::SimulatedStore;
use reedhook_testing::{path, put};

/// A tree from words: `a/b=3@100` is a file of three bytes changed at second 100, `a/` a folder, `a->b` a link.
fn tree(words: &str) -> SimulatedStore {
    let store = SimulatedStore::new("tree");
    for word in words.split_whitespace() {
        if let Some(folder) = word.strip_suffix('/') {
            store.make_folders(&path(folder)).unwrap();
        } else if let Some((name, target)) = word.split_once("->") {
            let at = path(name);
            store.make_folders(&at.parent().unwrap()).unwrap();
            let when = Attributes { modified: Some(Stamp::new(100, 0)), ..Attributes::default() };
            let sealed = store.stage_link(&at, target.as_bytes(), &when).unwrap();
            store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
        } else {
            let (name, rest) = word.split_once('=').unwrap();
            let (size, time) = rest.split_once('@').unwrap();
            put(&store, name, &vec![b'x'; size.parse().unwrap()], time.parse().unwrap());
        }
    }
    store
}

/// A plan as words: folders with a slash, files with what happens to them, problems with their code.
fn words(plan: &Plan) -> String {
    let mut text = String::new();
    for folder in &plan.folders {
        match folder.fate {
            Fate::Make => write!(text, "mkdir:{}/ ", folder.path).unwrap(),
            Fate::Remove => write!(text, "rmdir:{}/ ", folder.path).unwrap(),
            Fate::Stay => {}
        }
        let mut actions: Vec<_> = folder.actions.iter().collect();
        actions.sort_by(|a, b| a.name.cmp(&b.name));
        for action in actions {
            let word = match action.step {
                Step::Add { .. } => "add",
                Step::Update { .. } => "update",
                Step::SecondName { .. } => "name",
                Step::Metadata { .. } => "meta",
                Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. } => "move",
                Step::Remove { .. } => "remove",
                Step::Leave { .. } => "leave",
            };
            write!(text, "{word}:{} ", folder.path.join(&action.name)).unwrap();
        }
    }
    for problem in &plan.problems {
        write!(text, "{}:{} ", problem.code.as_str(), problem.path).unwrap();
    }
    text.trim_end().to_owned()
}

fn plan(kind: Kind, left: &str, right: &str, filter: &str) -> Plan {
    let (left, right) = (tree(left), tree(right));
    let mut spec = FilterSpec::default();
    for word in filter.split_whitespace() {
        match word.strip_prefix("only:") {
            Some(line) => spec.only.push(line.to_owned()),
            None => spec.exclude.push(word.to_owned()),
        }
    }
    let filter = Filter::new(&spec, Stamp::new(0, 0)).unwrap();
    let by = Comparison::between(left.capabilities(), right.capabilities(), Preserve::Standard);
    let rules = OneWayRules { kind, newer: Newer::Leave, preserve: Preserve::Standard, by };
    let input = ScanInput {
        left: &left,
        right: &right,
        filter: &filter,
        rules,
        one_filesystem: false,
        on_same: None,
        moves: Moves::Proved,
        corrupted: Corruption::default(),
        fresh: Fresh::default(),
        scope: &Scope::Everything,
        observer: None,
    };
    scan(&input, &ScanProgress::default()).unwrap()
}

#[test]
fn situations_of_a_mirror() {
    let rows = [
        // left, right, filter, what a run would do
        ("a=1@100", "a=1@100", "", ""),
        ("a=1@100 d/b=2@100", "", "", "add:a mkdir:d/ add:d/b"),
        ("", "a=1@100 d/e/b=2@100", "", "remove:a rmdir:d/ rmdir:d/e/ remove:d/e/b"),
        ("a=1@100", "a=1@200", "", "update:a"),
        ("a=1@200", "a=2@200", "", "update:a"),
        ("a->x", "a->x", "", ""),
        ("a->x", "a->y", "", "update:a"),
        ("a->x", "a=1@100", "", "update:a"),
        ("e/", "", "", "mkdir:e/"),
        ("", "e/", "", "rmdir:e/"),
        // A file where a folder stands, and the reverse.
        ("a=1@100", "a/b=1@100", "", "add:a rmdir:a/ remove:a/b"),
        ("a/b=1@100", "a=1@100", "", "remove:a mkdir:a/ add:a/b"),
        ("a=1@100", "a/b/c=1@100 a/d=1@100", "", "add:a rmdir:a/ remove:a/d rmdir:a/b/ remove:a/b/c"),
        // What is filtered stays on both sides, and so do the folders that hold it.
        ("a.tmp=1@100", "b.tmp=1@100", "*.tmp", ""),
        ("", "d/a.tmp=1@100 d/b=1@100", "*.tmp", "remove:d/b"),
        ("", "d/e/a.tmp=1@100 d/e/b=1@100 d/f/c=1@100", "*.tmp", "remove:d/e/b rmdir:d/f/ remove:d/f/c"),
        ("", "s/a=1@100 t/a=1@100", "s/", "rmdir:t/ remove:t/a"),
        ("s/a=1@100", "s/b=1@100", "s/", ""),
        ("a=1@100", "a/x.tmp=1@100 a/y=1@100", "*.tmp", "remove:a/y occupied:a"),
        ("a=1@100", "a/b/x.tmp=1@100", "*.tmp", "occupied:a"),
        ("s=1@100", "s/x=1@100", "s/", "occupied:s"),
        // Only lines: folders are made when something is put into them, and go when nothing is left.
        ("d/a.csv=1@100 e/b.svg=1@100", "", "only:*.csv", "mkdir:d/ add:d/a.csv"),
        ("", "d/a.csv=1@100 e/b.svg=1@100 f/", "only:*.csv", "rmdir:d/ remove:d/a.csv"),
        ("", "d/a.csv=1@100 d/b.svg=1@100", "only:*.csv", "remove:d/a.csv"),
        ("n/a=1@100 n/e/ w/a=1@100", "w/b=1@100", "only:n/", "mkdir:n/ add:n/a mkdir:n/e/"),
        ("n/m/a=1@100", "", "only:n/m/", "mkdir:n/ mkdir:n/m/ add:n/m/a"),
        // Reedhook's own: never compared at the root, ordinary deeper down.
        ("", ".reedhook/kept/x=1@100", "", ""),
        (".reedhook/x=1@100", "", "", ""),
        ("d/.reedhook=1@100", "", "", "mkdir:d/ add:d/.reedhook"),
    ];
    for (left, right, filter, expected) in rows {
        let found = words(&plan(Kind::Mirror, left, right, filter));
        assert_eq!(found, expected, "left {left:?} right {right:?} filter {filter:?}");
    }
}

#[test]
fn situations_of_a_copy() {
    let rows = [
        ("a=1@200", "a=1@100", "", "update:a"),
        ("a=1@100", "a=1@200", "", "leave:a"),
        ("", "a=1@100 d/b=1@100", "", ""),
        ("a=1@100", "a/b=1@100", "", "kind-differs:a"),
        ("a/b=1@100", "a=1@100", "", "kind-differs:a"),
        ("a->x", "a=1@100", "", "kind-differs:a"),
        ("d/a=1@100", "d/b=1@100", "", "add:d/a"),
    ];
    for (left, right, filter, expected) in rows {
        let found = words(&plan(Kind::Copy, left, right, filter));
        assert_eq!(found, expected, "left {left:?} right {right:?} filter {filter:?}");
    }
}

#[test]
fn the_numbers_of_a_plan() {
    let left = "same=4@100 new=7@100 d/new=5@100 changed=3@200 x.tmp=9@100";
    let right = "same=4@100 changed=8@100 gone=6@100 y.tmp=9@100";
    let plan = plan(Kind::Mirror, left, right, "*.tmp");
    let counts = plan.counts();
    assert_eq!((counts.same, counts.added, counts.updated, counts.removed), (1, 2, 1, 1));
    assert_eq!((counts.bytes, plan.bytes_set_aside()), (7 + 5 + 3, 8 + 6));
    assert_eq!((plan.left_items, plan.right_items, plan.filtered, plan.folders_made()), (4, 3, 1, 1));
}

#[test]
fn a_scan_stops_when_it_is_asked_to() {
    let (left, right) = (tree("a/b=1@100"), tree(""));
    let filter = Filter::new(&FilterSpec::default(), Stamp::new(0, 0)).unwrap();
    let by = Comparison::between(left.capabilities(), right.capabilities(), Preserve::Standard);
    let rules = OneWayRules { kind: Kind::Mirror, newer: Newer::Leave, preserve: Preserve::Standard, by };
    let input = ScanInput {
        left: &left,
        right: &right,
        filter: &filter,
        rules,
        one_filesystem: false,
        on_same: None,
        moves: Moves::Proved,
        corrupted: Corruption::default(),
        fresh: Fresh::default(),
        scope: &Scope::Everything,
        observer: None,
    };
    let progress = ScanProgress::default();
    progress.stop.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(scan(&input, &progress).is_err());
}
