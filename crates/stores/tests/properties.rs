//! Random trees and edits, in memory and on disk: after a mirror run the right equals the left, nothing that was replaced or
//! removed is missing from the kept copies, a second run does nothing, and an undo brings the old right back exactly.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::sync::atomic::AtomicBool;

use proptest::prelude::*;
use reedhook_core::compare::Comparison;
use reedhook_core::entry::{EntryKind, Meta, Side, Stamp};
use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer, Preserve, Removed, Replaced, Verify};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::{Counts, Plan};
use reedhook_core::run::undo::{Past, undo};
use reedhook_core::run::{Done, Ended, Event, RunInput, RunReport, execute, kept_folder};
use reedhook_core::store::{Attributes, Expect, Publish, Store, StoreExt};
use reedhook_core::walk::{Corruption, Fresh, Moves, ScanInput, ScanProgress, Scope, scan};
use reedhook_stores::local::LocalStore;
use reedhook_testing::simulated::SimulatedStore;
use reedhook_testing::{adjust, clear, make_way, put, rules};

/// One thing that a person does to a tree. A file's content follows from its size and time, because a mirror goes by these.
#[derive(Debug, Clone)]
enum Edit {
    Write { path: RelPath, size: usize, time: i64 },
    Folder { path: RelPath, mode: u32 },
    Link { path: RelPath, target: u8 },
    Remove { path: RelPath },
    Touch { path: RelPath, time: i64, mode: u32 },
}

fn paths() -> impl Strategy<Value = RelPath> {
    prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4)
        .prop_map(|parts| RelPath::new(parts.join("/").as_bytes()).unwrap())
}

fn edits(most: usize) -> impl Strategy<Value = Vec<Edit>> {
    let modes = || prop::sample::select(vec![0o644_u32, 0o600, 0o755]);
    let one = prop_oneof![
        4 => (paths(), 0..3_usize, 1_000..1_005_i64)
            .prop_map(|(path, size, time)| Edit::Write { path, size: size * 7, time }),
        1 => (paths(), prop::sample::select(vec![0o755_u32, 0o700])).prop_map(|(path, mode)| Edit::Folder { path, mode }),
        1 => (paths(), 0..3_u8).prop_map(|(path, target)| Edit::Link { path, target }),
        2 => paths().prop_map(|path| Edit::Remove { path }),
        1 => (paths(), 2_000..2_003_i64, modes()).prop_map(|(path, time, mode)| Edit::Touch { path, time, mode }),
    ];
    prop::collection::vec(one, 0..most)
}

fn apply(store: &dyn Store, edit: &Edit) {
    match edit {
        Edit::Write { path, size, time } => {
            make_way(store, path);
            clear(store, path);
            put(store, &path.to_string(), &vec![(time % 100) as u8; *size], *time);
        }
        Edit::Folder { path, mode } => {
            make_way(store, path);
            clear(store, path);
            store.make_folder(path, &Attributes { mode: Some(*mode), ..Attributes::default() }).unwrap();
        }
        Edit::Link { path, target } => {
            make_way(store, path);
            clear(store, path);
            let sealed = store.stage_link(path, &[b'x', b'0' + target], &Attributes::default()).unwrap();
            store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
        }
        Edit::Remove { path } => clear(store, path),
        Edit::Touch { path, time, mode } => {
            if matches!(store.stat(path), Ok(Some(meta)) if meta.kind == EntryKind::File) {
                let modified = Some(Stamp::new(*time, 7));
                adjust(store, path, &Attributes { modified, mode: Some(*mode), extra: None }).unwrap();
            }
        }
    }
}

/// What a tree holds, in every respect that a mirror keeps.
#[derive(Debug, Clone, PartialEq)]
struct Found {
    kind: EntryKind,
    modified: Option<Stamp>,
    mode: Option<u32>,
    content: Vec<u8>,
}

fn tree(store: &dyn Store, root: &RelPath) -> BTreeMap<RelPath, Found> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        for entry in store.list(&folder).unwrap().entries {
            let path = folder.join(&entry.name);
            if path.is_reserved() && !root.is_reserved() {
                continue;
            }
            let Meta { kind, modified, mode, target, .. } = entry.meta;
            let content = match kind {
                EntryKind::File => {
                    let mut bytes = Vec::new();
                    std::io::Read::read_to_end(&mut store.open(&path, 0).unwrap(), &mut bytes).unwrap();
                    bytes
                }
                _ => target.map(Vec::from).unwrap_or_default(),
            };
            if kind == EntryKind::Folder {
                folders.push(path.clone());
            }
            found.insert(path.below(root).unwrap(), Found { kind, modified, mode, content });
        }
    }
    found
}

fn plan(left: &dyn Store, right: &dyn Store) -> Plan {
    let filter = Filter::new(&rules(Kind::Mirror).filter, Stamp::new(0, 0)).unwrap();
    let by = Comparison::between(left.capabilities(), right.capabilities(), Preserve::Standard);
    let rules = OneWayRules { kind: Kind::Mirror, newer: Newer::Leave, preserve: Preserve::Standard, by };
    scan(
        &ScanInput {
            left,
            right,
            filter: &filter,
            rules,
            one_filesystem: false,
            on_same: None,
            moves: Moves::Proved,
            corrupted: Corruption::default(),
            fresh: Fresh::default(),
            scope: &Scope::Everything,
            observer: None,
        },
        &ScanProgress::default(),
    )
    .unwrap()
}

/// Carries a plan out and returns its report and events.
fn carry_out(left: &dyn Store, right: &dyn Store, planned: &Plan, run: &Name) -> (RunReport, Vec<Event>) {
    let (sender, receiver) = crossbeam_channel::unbounded();
    let input = RunInput {
        left,
        right,
        removed: Removed::Keep,
        replaced: Replaced::Keep,
        preserve: Preserve::Standard,
        verify: Verify::None,
        owner: "a test",
        resume: true,
        run: run.clone(),
        remembered: false,
        limit: None,
        events: &sender,
        stop: &AtomicBool::new(false),
    };
    let report = execute(planned, &input);
    drop(sender);
    (report, receiver.into_iter().flatten().collect())
}

/// Runs a mirror; returns its numbers and what an undo needs.
fn mirror(left: &dyn Store, right: &dyn Store, run: &str) -> (Counts, Past) {
    let planned = plan(left, right);
    let run = Name::new(run.as_bytes()).unwrap();
    let (report, events) = carry_out(left, right, &planned, &run);
    assert!(matches!(report.ended, Ended::Done) && report.counts.problems == 0);
    assert_eq!(report.counts, planned.counts(), "a preview's numbers are the run's");
    let mut past = Past::at(Side::Right, Some(run));
    for event in events {
        match event {
            Event::Item(item) => past.items.push(item),
            Event::Folder { path, was, .. } => past.folders.push((path, was)),
            _ => {}
        }
    }
    (report.counts, past)
}

fn round_trip(left: &dyn Store, right: &dyn Store, first: &[Edit], second: &[Edit]) {
    first.iter().for_each(|edit| apply(left, edit));
    mirror(left, right, "20310504-060000-aaaa");
    let root = RelPath::root();
    assert_eq!(tree(right, &root), tree(left, &root));

    let before = tree(right, &root);
    second.iter().for_each(|edit| apply(left, edit));
    let (_, past) = mirror(left, right, "20310504-070000-bbbb");
    let after = tree(right, &root);
    assert_eq!(after, tree(left, &root));
    assert!(plan(left, right).is_empty(), "a second run has nothing to do");

    let kept_at = kept_folder(past.run.as_ref().unwrap());
    let kept = if right.stat(&kept_at).unwrap().is_some() { tree(right, &kept_at) } else { BTreeMap::new() };
    let moved_to = |path: &RelPath| {
        let moved = past.items.iter().filter(|item| item.done == Done::Moved);
        moved.into_iter().find_map(|item| Some(item.path.join_path(&path.below(item.moved_from.as_ref()?)?)))
    };
    for (path, old) in before.iter().filter(|(_, old)| old.kind != EntryKind::Folder) {
        let metadata_only = |new: &Found| new.kind == old.kind && new.content == old.content;
        if let Some(new) = moved_to(path) {
            assert_eq!(after.get(&new).map(|new| &new.content), Some(&old.content), "{path} moved to {new}");
        } else if !after.get(path).is_some_and(metadata_only) {
            assert_eq!(kept.get(path).map(|kept| &kept.content), Some(&old.content), "{path} was not kept");
        }
    }

    let undone = undo(right, &past, (&Name::new(b"20310504-080000-cccc").unwrap(), "a test")).unwrap();
    assert!(undone.problems.is_empty(), "{:?}", undone.problems);
    assert_eq!(tree(right, &root), before, "the undo brings the old right back");
    // And an undo can be undone.
    let own = Past {
        items: undone.items,
        folders: undone.folders,
        ..Past::at(Side::Right, Name::new(b"20310504-080000-cccc").ok())
    };
    let redone = undo(right, &own, (&Name::new(b"20310504-090000-dddd").unwrap(), "a test")).unwrap();
    assert!(redone.problems.is_empty(), "{:?}", redone.problems);
    assert_eq!(tree(right, &root), after, "the undone undo");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn histories_in_memory(first in edits(14), second in edits(14)) {
        round_trip(&SimulatedStore::new("left"), &SimulatedStore::new("right"), &first, &second);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn histories_on_disk(first in edits(14), second in edits(14)) {
        let (left, right) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (left, right) = (LocalStore::open(left.path()).unwrap(), LocalStore::open(right.path()).unwrap());
        right.make_folders(&RelPath::new(b".reedhook").unwrap()).unwrap();
        round_trip(&left, &right, &first, &second);
    }
}

#[test]
fn an_undo_refuses_what_has_changed_since() {
    let (left, right) = (SimulatedStore::new("left"), SimulatedStore::new("right"));
    for name in ["changed", "removed", "added later"] {
        if name != "added later" {
            put(&left, name, b"1", 1000);
        }
    }
    mirror(&left, &right, "20310504-060000-aaaa");
    put(&left, "changed", b"22", 2000);
    put(&left, "added", b"1", 2000);
    clear(&left, &RelPath::new(b"removed").unwrap());
    let (_, past) = mirror(&left, &right, "20310504-070000-bbbb");
    for name in ["changed", "added", "removed"] {
        put(&right, name, b"somebody worked here", 3000);
    }
    let undone = undo(&right, &past, (&Name::new(b"20310504-080000-cccc").unwrap(), "a test")).unwrap();
    let mut refused: Vec<_> = undone.problems.iter().map(|p| (p.path.to_string(), p.code.as_str())).collect();
    refused.sort();
    let expected =
        [("added", "changed-meanwhile"), ("changed", "changed-meanwhile"), ("removed", "in-the-way")];
    assert_eq!(refused, expected.map(|(path, code)| (path.to_owned(), code)));
    for (path, found) in tree(&right, &RelPath::root()) {
        assert_eq!(found.content, b"somebody worked here", "{path}");
    }
}

/// Between the plan and the run somebody swaps folders for links that lead outside: nothing there is touched.
#[test]
fn folders_swapped_for_links_after_the_plan_are_not_followed() {
    for swapped in ["a", "a/b", "a/b/c"] {
        let (left_folder, right_folder) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let outside = tempfile::tempdir().unwrap();
        let left = LocalStore::open(left_folder.path()).unwrap();
        let right = LocalStore::open(right_folder.path()).unwrap();
        for folder in ["a", "a/b", "a/b/c"] {
            for (name, time) in [("changed", 1_000), ("same but mode", 1_000), ("gone", 1_000)] {
                put(&left, &format!("{folder}/{name}"), b"old", time);
            }
        }
        mirror(&left, &right, "20310504-060000-aaaa");
        for folder in ["a", "a/b", "a/b/c"] {
            put(&left, &format!("{folder}/changed"), b"newer", 2_000);
            put(&left, &format!("{folder}/new"), b"new", 2_000);
            put(&left, &format!("{folder}/made/new"), b"new", 2_000);
            let touched = RelPath::new(format!("{folder}/same but mode").as_bytes()).unwrap();
            let mode = Attributes { mode: Some(0o600), ..Attributes::default() };
            adjust(&left, &touched, &mode).unwrap();
            clear(&left, &RelPath::new(format!("{folder}/gone").as_bytes()).unwrap());
        }
        // Outside holds the same names, as a careful attacker would see to.
        let decoy = LocalStore::open(outside.path()).unwrap();
        for name in
            ["changed", "same but mode", "gone", "b/changed", "b/gone", "b/c/changed", "c/gone", "c/changed"]
        {
            put(&decoy, name, b"old", 1_000);
        }
        let before = tree(&decoy, &RelPath::root());
        // A store opened afresh, because one that has the folders open would never notice the links.
        let right = LocalStore::open(right_folder.path()).unwrap();
        let planned = plan(&left, &right);
        std::fs::rename(right_folder.path().join(swapped), right_folder.path().join("away")).unwrap();
        std::os::unix::fs::symlink(outside.path(), right_folder.path().join(swapped)).unwrap();
        let (report, _) = carry_out(&left, &right, &planned, &Name::new(b"20310504-070000-bbbb").unwrap());
        assert_eq!(tree(&decoy, &RelPath::root()), before, "written through the link at {swapped}");
        assert!(report.counts.problems > 0, "{swapped}");
    }
}
