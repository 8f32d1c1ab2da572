//! Random histories of two sides that are both worked on, against a simple model of what should come of them, with and without
//! faults on the way.
//!
//! The model knows nothing of baselines or plans. It goes by contents: what each side held after the last clean run, what it
//! holds now, and from that what both should hold.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod sides;

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::job::{ConflictPolicy, JobRules, Kind};
use reedhook_core::path::RelPath;
use reedhook_core::plan::guard::{self, Facts};
use reedhook_core::plan::two_way::Settled;
use reedhook_core::store::{FaultKind, Store};
use reedhook_core::walk::two_way::TwoWayPlan;
use reedhook_testing::simulated::{Fault, Operation, SimulatedStore};
use reedhook_testing::{path, put, rules};

use sides::{Edit, Pair, Tree, content, everything, tree};

/// A fault during a run: at which side, after how many calls, of which kind; and whether the power goes too.
#[derive(Debug, Clone)]
struct Mishap {
    side: Side,
    kind: FaultKind,
    skip: u32,
    power: bool,
}

#[derive(Debug, Clone)]
struct Round {
    edits: Vec<(Side, Edit)>,
    mishap: Option<Mishap>,
}

fn paths() -> impl Strategy<Value = RelPath> {
    prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4)
        .prop_map(|parts| path(&parts.join("/")))
}

fn sides() -> impl Strategy<Value = Side> {
    prop::sample::select(vec![Side::Left, Side::Right])
}

fn edits(most: usize) -> impl Strategy<Value = Vec<(Side, Edit)>> {
    let one = prop_oneof![
        6 => (paths(), 0..12_u8).prop_map(|(path, version)| Edit::Write(path, version)),
        1 => paths().prop_map(Edit::Folder),
        3 => (paths(), 0..12_u8).prop_map(|(path, version)| Edit::Resave(path, version)),
        3 => paths().prop_map(Edit::Remove),
        2 => (paths(), paths()).prop_map(|(from, to)| Edit::Rename(from, to)),
        1 => paths().prop_map(Edit::Touch),
    ];
    prop::collection::vec((sides(), one), 0..most)
}

fn mishaps() -> impl Strategy<Value = Mishap> {
    let kinds = vec![FaultKind::Io, FaultKind::NoSpace, FaultKind::Denied, FaultKind::Lost];
    (sides(), prop::sample::select(kinds), 0..90_u32, any::<bool>())
        .prop_map(|(side, kind, skip, power)| Mishap { side, kind, skip, power })
}

fn rounds(with_mishaps: bool) -> impl Strategy<Value = Vec<Round>> {
    let mishap =
        if with_mishaps { prop::option::weighted(0.8, mishaps()).boxed() } else { Just(None).boxed() };
    prop::collection::vec((edits(9), mishap).prop_map(|(edits, mishap)| Round { edits, mishap }), 1..4)
}

fn policies() -> impl Strategy<Value = ConflictPolicy> {
    use ConflictPolicy::*;
    prop::sample::select(vec![Hold, Hold, Newest, Left, Right, Both])
}

fn files(trees: [&Tree; 2]) -> BTreeSet<Vec<u8>> {
    trees.into_iter().flat_map(|tree| tree.values().flatten().cloned()).collect()
}

/// What both sides should hold at a path, going by its content before and now; `Err` for a conflict.
fn expected(
    before: Option<&Vec<u8>>,
    left: Option<&Vec<u8>>,
    right: Option<&Vec<u8>>,
) -> Result<Option<Vec<u8>>, ()> {
    match (left == before, right == before) {
        _ if left == right => Ok(left.cloned()),
        (false, true) if left.is_some() || right == before => Ok(left.cloned()),
        (true, false) => Ok(right.cloned()),
        // A removal never beats a change.
        _ if left.is_none() => Ok(right.cloned()),
        _ if right.is_none() => Ok(left.cloned()),
        _ => Err(()),
    }
}

/// Whether a path is, and lies below, nothing but folders and files of one kind in all of these trees.
fn is_plain(path: &RelPath, trees: [&Tree; 3]) -> bool {
    let mut above = path.parent();
    while let Some(folder) = above.filter(|folder| !folder.is_root()) {
        if trees.iter().any(|tree| tree.get(&folder).is_some_and(Option::is_some)) {
            return false;
        }
        above = folder.parent();
    }
    trees.iter().all(|tree| tree.get(path).is_none_or(Option::is_some))
}

/// When files were last changed.
fn times(store: &SimulatedStore) -> BTreeMap<RelPath, Option<Stamp>> {
    store.snapshot().into_iter().map(|(path, (meta, _))| (path, meta.modified)).collect()
}

/// Both sides at one moment.
struct Moment {
    left: Tree,
    right: Tree,
    times: [BTreeMap<RelPath, Option<Stamp>>; 2],
}

impl Moment {
    fn of(pair: &Pair) -> Moment {
        let times = [times(&pair.left), times(&pair.right)];
        Moment { left: tree(&pair.left), right: tree(&pair.right), times }
    }

    /// Nothing anywhere.
    fn none() -> Moment {
        Moment { left: Tree::new(), right: Tree::new(), times: [BTreeMap::new(), BTreeMap::new()] }
    }
}

/// A run that fails on the way, and perhaps the power with it.
fn suffer(pair: &mut Pair, mishap: &Mishap) {
    let times = (mishap.kind != FaultKind::Lost).then_some(1);
    let fault = Fault::new(Operation::List, None, mishap.kind);
    pair.store(mishap.side).fail(Fault { operation: None, skip: mishap.skip, times, ..fault });
    pair.run();
    if mishap.power {
        pair.store(mishap.side).power_cut();
    }
    pair.left.heal();
    pair.right.heal();
}

/// Outside of what is held both sides are the same.
#[track_caller]
fn assert_alike(now: &Moment, held: &BTreeSet<RelPath>, what: &str) {
    let within = |path: &RelPath| held.iter().any(|held| path.is_within(held));
    let apart = |tree: &Tree| -> Tree {
        tree.iter().filter(|(path, _)| !within(path)).map(|(p, c)| (p.clone(), c.clone())).collect()
    };
    assert_eq!(
        apart(&now.left),
        apart(&now.right),
        "{what}: both sides are the same outside of held conflicts"
    );
}

/// Each plain path holds what follows from its own past, whatever the rest of the tree did.
#[track_caller]
fn assert_each_path(
    before: &Moment,
    found: &Moment,
    now: &Moment,
    held: &BTreeSet<RelPath>,
    policy: ConflictPolicy,
    what: &str,
) {
    let all: BTreeSet<&RelPath> =
        found.left.keys().chain(found.right.keys()).chain(before.left.keys()).collect();
    // A file that was written anew with what it held counts as changed, unless its hash happens to be remembered.
    let same_again = |path: &RelPath| {
        [&found.left, &found.right].into_iter().zip(found.times.iter().zip(&before.times)).any(
            |(tree, (now, then))| {
                tree.get(path).is_some_and(|content| before.left.get(path) == Some(content))
                    && now.get(path) != then.get(path)
            },
        )
    };
    let plain = |path: &RelPath| is_plain(path, [&before.left, &found.left, &found.right]);
    for path in all.into_iter().filter(|path| plain(path) && !same_again(path)) {
        let content = |tree: &Tree| tree.get(path).cloned().flatten();
        let (now_left, now_right) = (content(&now.left), content(&now.right));
        let (found_left, found_right) = (content(&found.left), content(&found.right));
        match expected(content(&before.left).as_ref(), found_left.as_ref(), found_right.as_ref()) {
            Ok(expected) => assert_eq!((&now_left, &now_right), (&expected, &expected), "{what}: {path}"),
            Err(()) if policy == ConflictPolicy::Hold => {
                assert!(held.contains(path), "{what}: {path} is a conflict");
                assert_eq!((now_left, now_right), (found_left, found_right), "{what}: {path} is held");
            }
            Err(()) => assert!(now_left.is_some(), "{what}: {path} has a winner"),
        }
    }
}

fn check(rounds: &[Round], policy: ConflictPolicy, scoped: bool) {
    let mut pair = Pair::new(policy);
    let mut before = Moment::none();
    for (number, round) in rounds.iter().enumerate() {
        round.edits.iter().for_each(|(side, edit)| pair.edit(*side, edit));
        pair.left.sync().unwrap();
        pair.right.sync().unwrap();
        let found = Moment::of(&pair);
        if let Some(mishap) = &round.mishap {
            suffer(&mut pair, mishap);
        }
        let what = format!("round {number}");
        // What comes of a look where something has happened is judged as one at everything, and by one at everything.
        pair.scoped = scoped && number > 0;
        let (plan, _) = pair.run().unwrap();
        pair.scoped = false;
        let now = Moment::of(&pair);

        let missing: Vec<_> =
            files([&found.left, &found.right]).difference(&everything(&pair)).cloned().collect();
        assert!(missing.is_empty(), "{what}: versions lost: {missing:?}");
        let conflicts = plan.conflicts.iter().filter(|one| one.settled == Settled::Held);
        let held: BTreeSet<RelPath> = conflicts.map(|one| one.path.clone()).collect();
        assert_alike(&now, &held, &what);
        assert_each_path(&before, &found, &now, &held, policy, &what);

        let (again, counts) = pair.run().unwrap();
        let settled = again.to_right.counts().settled;
        assert_eq!(counts.changed() + counts.problems, settled, "{what}: a second run does nothing");
        before = Moment::of(&pair);
        assert_eq!(
            (&before.left, &before.right),
            (&now.left, &now.right),
            "{what}: nor does it change anything"
        );
        // What is held has no common past to go by.
        if !held.is_empty() {
            return;
        }
    }
}

/// Histories in the test that runs every time; `REEDHOOK_HISTORIES` asks for more.
fn histories(usual: u32) -> ProptestConfig {
    let cases = std::env::var("REEDHOOK_HISTORIES").ok().and_then(|text| text.parse().ok()).unwrap_or(usual);
    ProptestConfig { cases, failure_persistence: None, max_shrink_iters: 4000, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(histories(1500))]

    #[test]
    fn histories_of_two_sides(rounds in rounds(false), policy in policies()) {
        check(&rounds, policy, false);
    }

    #[test]
    fn histories_with_mishaps(rounds in rounds(true), policy in policies()) {
        check(&rounds, policy, false);
    }

    #[test]
    fn histories_that_are_watched(rounds in rounds(false), policy in policies()) {
        check(&rounds, policy, true);
    }
}

/// Moves on one side and on both: before, what each side does, what both hold in the end.
#[test]
fn moves_on_one_side_and_on_both() {
    let rename = |side, from: &str, to: &str| (side, Edit::Rename(path(from), path(to)));
    let (left, right) = (Side::Left, Side::Right);
    let cases = [
        ("one side", vec![rename(left, "a", "b")], vec!["b/x=0", "b/y=1"]),
        ("the same move", vec![rename(left, "a", "b"), rename(right, "a", "b")], vec!["b/x=0", "b/y=1"]),
        (
            "different moves",
            vec![rename(left, "a/x", "b"), rename(right, "a/x", "c")],
            vec!["a/y=1", "b=0", "c=0"],
        ),
        (
            "a move against a change",
            vec![rename(left, "a/x", "b"), (right, Edit::Write(path("a/x"), 5))],
            vec!["a/x=5", "a/y=1", "b=0"],
        ),
        (
            "a move of a folder against a change in it",
            vec![rename(left, "a", "b"), (right, Edit::Write(path("a/x"), 5))],
            vec!["a/x=5", "b/x=0", "b/y=1"],
        ),
        (
            "a move into a removed folder",
            vec![rename(left, "c", "a/z"), (right, Edit::Remove(path("a")))],
            vec!["a/z=2"],
        ),
    ];
    for (what, edits, expected) in cases {
        let mut pair = Pair::new(ConflictPolicy::Hold);
        for (at, version) in [("a/x", 0), ("a/y", 1), ("c", 2)] {
            pair.edit(Side::Left, &Edit::Write(path(at), version));
        }
        pair.run().unwrap();
        if !what.contains("removed folder") {
            pair.edit(Side::Left, &Edit::Remove(path("c")));
            pair.run().unwrap();
        }
        edits.iter().for_each(|(side, edit)| pair.edit(*side, edit));
        let (_, counts) = pair.run().unwrap();
        let shown = |store: &SimulatedStore| -> Vec<String> {
            let files = tree(store).into_iter().filter_map(|(path, content)| Some((path, content?)));
            files.map(|(path, content)| format!("{path}={}", content[0] - b'A')).collect()
        };
        assert_eq!(
            (shown(&pair.left), shown(&pair.right)),
            (
                expected.iter().map(ToString::to_string).collect(),
                expected.iter().map(ToString::to_string).collect()
            ),
            "{what}"
        );
        if what == "one side" {
            assert_eq!((counts.moved, counts.bytes), (2, 0), "{what}");
        }
        let (again, _) = pair.run().unwrap();
        assert!(again.to_left.is_empty() && again.to_right.is_empty(), "{what}: a second run does nothing");
    }
}

/// The name for the version that makes room is one that nothing has, at neither side.
#[test]
fn a_version_that_makes_room_takes_no_name_that_is_in_use() {
    let mut pair = Pair::new(ConflictPolicy::Both);
    let beside = "a.from-left.19700101-001650";
    pair.edit(Side::Left, &Edit::Write(path("a"), 0));
    pair.edit(Side::Right, &Edit::Write(path("a"), 1));
    pair.edit(Side::Right, &Edit::Write(path(beside), 5));
    let (_, counts) = pair.run().unwrap();
    assert_eq!((counts.settled, counts.problems), (1, 0));
    let expected: Tree = [("a".to_owned(), 1), (beside.to_owned(), 5), (format!("{beside}-2"), 0)]
        .into_iter()
        .map(|(name, version)| (path(&name), Some(content(version))))
        .collect();
    assert_eq!((tree(&pair.left), tree(&pair.right)), (expected.clone(), expected));
}

/// Where a side takes two names for one, both sides get one spelling; a side that folds case never gets two names that it would take
/// for one.
#[test]
fn names_that_one_side_cannot_tell_apart() {
    let mut pair = Pair::new(ConflictPolicy::Hold);
    pair.right = SimulatedStore::new("right")
        .with_capabilities(|can| can.folding = reedhook_core::store::Folding::BOTH);
    for (side, name) in [
        (Side::Left, "Heron.csv"),
        (Side::Right, "heron.csv"),
        (Side::Left, "M\u{f6}wen/a"),
        (Side::Right, "Mo\u{308}wen/b"),
        (Side::Left, "same"),
        (Side::Left, "Otter"),
        (Side::Left, "otter"),
    ] {
        pair.edit(side, &Edit::Write(path(name), 1));
    }
    let (plan, counts) = pair.run().unwrap();
    assert_eq!(
        (counts.moved, counts.added, counts.problems),
        (2, 3, 1),
        "{:?} {:?}",
        plan.aside,
        plan.to_right.problems
    );
    let mut left = tree(&pair.left);
    left.retain(|name, _| !matches!(name.as_bytes(), b"Otter" | b"otter"));
    assert_eq!(left, tree(&pair.right), "each name once, spelled alike");
    // The side that folds spells a folder otherwise, and the other one follows, which does not fold.
    pair.edit(Side::Right, &Edit::Rename(path("M\u{f6}wen"), path("m\u{f6}WEN")));
    pair.edit(Side::Right, &Edit::Write(path("m\u{f6}WEN/a"), 7));
    let (_, counts) = pair.run().unwrap();
    assert_eq!((counts.moved, counts.updated, counts.removed), (1, 1, 0));
    let mut left = tree(&pair.left);
    left.retain(|name, _| !matches!(name.as_bytes(), b"Otter" | b"otter"));
    assert_eq!(left, tree(&pair.right));
    let (plan, counts) = pair.run().unwrap();
    assert_eq!((counts.changed(), plan.news.len()), (0, 0), "at rest");
}

/// Spelling many names otherwise is judged as a share of all that the side holds.
#[test]
fn new_spellings_are_judged_by_what_the_side_holds() {
    let mut pair = Pair::new(ConflictPolicy::Hold);
    pair.right = SimulatedStore::new("right")
        .with_capabilities(|can| can.folding = reedhook_core::store::Folding::BOTH);
    for number in 0..90 {
        pair.edit(Side::Left, &Edit::Write(path(&format!("stills/img{number}")), 1));
    }
    pair.run().unwrap();
    for number in 0..30 {
        let name = |prefix: &str| path(&format!("stills/{prefix}{number}"));
        pair.edit(Side::Left, &Edit::Rename(name("img"), name("IMG")));
    }
    let (plan, counts) = pair.run().unwrap();
    assert_eq!(counts.moved, 30);
    let refusal = |limit: &str| {
        let strict = JobRules { max_changes: limit.parse().unwrap(), ..rules(Kind::TwoWay) };
        guard::check(&plan.aside[1], &strict, &Facts::default(), &[]).map(|refusal| refusal.to_string())
    };
    assert_eq!(refusal("50%"), None);
    assert!(refusal("20%").is_some_and(|words| words.contains("30 of the 90")), "{:?}", refusal("20%"));
}

/// Something of everything, so that a run takes every kind of step.
fn scenario(mishap: Mishap) -> Vec<Round> {
    let write = |side, at: &str, version| (side, Edit::Write(path(at), version));
    let (left, right) = (Side::Left, Side::Right);
    let begin = vec![
        write(left, "a/a", 0),
        write(left, "a/b", 1),
        write(left, "b/a", 2),
        write(right, "b/b/a", 3),
        write(right, "c", 4),
    ];
    let then = vec![
        write(left, "a/a", 5),
        (right, Edit::Remove(path("a/b"))),
        write(left, "a/b", 6),
        (left, Edit::Rename(path("b"), path("c"))),
        write(right, "c", 7),
        write(right, "b/b/c", 8),
        write(left, "a/c/a", 9),
        write(right, "a/c/a", 10),
        (right, Edit::Touch(path("a/a"))),
    ];
    vec![Round { edits: begin, mishap: None }, Round { edits: then, mishap: Some(mishap) }]
}

/// A fault of each kind at each call of a run, at each side, with and without a power cut: after the next clean run everything
/// is as if nothing had happened.
#[test]
fn a_fault_at_any_step() {
    /// More calls than a run of the scenario makes.
    const CALLS: u32 = 120;
    for policy in [ConflictPolicy::Hold, ConflictPolicy::Both] {
        for kind in [FaultKind::Io, FaultKind::NoSpace, FaultKind::Denied, FaultKind::Lost] {
            for side in [Side::Left, Side::Right] {
                for skip in 0..CALLS {
                    check(&scenario(Mishap { side, kind, skip, power: skip % 2 == 0 }), policy, false);
                }
            }
        }
    }
}

/// Both sides save within one second and with one size, so that only the content tells. A run cannot bring one of the versions over, or holds
/// them; it remembers the rest of the folder as of now, and must not take the old time for a proof from then on: soon or a day later.
#[test]
fn a_folder_with_something_that_cannot_be_examined_is_not_renamed_whole() {
    let mut pair = Pair::new(ConflictPolicy::Hold);
    let left = Side::Left;
    pair.edit(left, &Edit::Write(path("stills/heron"), 0));
    pair.run().unwrap();
    pair.edit(Side::Right, &Edit::Write(path("stills/new"), 1));
    pair.edit(left, &Edit::Rename(path("stills"), path("pictures")));
    pair.right.fail(Fault::new(Operation::Examine, Some(&path("stills/new")), FaultKind::Io));
    let (plan, _) = pair.run().unwrap();
    assert_eq!(plan.to_right.problems.len(), 1);
    pair.right.heal();
    pair.run().unwrap();
    let names: Vec<String> = tree(&pair.left).into_keys().map(|path| path.to_string()).collect();
    assert_eq!(names, ["pictures", "pictures/heron", "stills", "stills/new"]);
    assert_eq!(tree(&pair.left), tree(&pair.right));
}

#[test]
fn what_a_run_did_not_bring_over_is_no_surer_afterwards() {
    let write = |name: &str, version| Edit::Write(path(name), version);
    let resave = |name: &str, version| Edit::Resave(path(name), version);
    for (both, later) in [(false, 0), (false, 100_000), (true, 0), (true, 100_000)] {
        let mut pair = Pair::new(ConflictPolicy::Hold);
        pair.edit(Side::Left, &write("a", 5));
        pair.run().unwrap();
        pair.edit(Side::Right, &resave("a", 1));
        if both {
            pair.edit(Side::Left, &resave("a", 3));
        }
        pair.clock += later;
        pair.edit(Side::Left, &write("c", 0));
        let a = path("a");
        if !both {
            let fault = Fault::new(Operation::Publish, Some(&a), FaultKind::Denied);
            pair.left.fail(Fault { times: Some(1), ..fault });
        }
        let (plan, counts) = pair.run().unwrap();
        pair.left.heal();
        let held = |plan: &TwoWayPlan| {
            plan.conflicts.iter().any(|one| one.settled == Settled::Held && one.path == a)
        };
        assert!(held(&plan) == both && (both || counts.problems == 1), "{both} {later}: {counts:?}");
        pair.clock += later;
        pair.edit(Side::Left, &write("d", 0));
        let (plan, counts) = pair.run().unwrap();
        assert_eq!((held(&plan), counts.problems), (both, 0), "{both} {later}: it is told again");
        let (left, right) = (tree(&pair.left), tree(&pair.right));
        assert_eq!(left == right, !both, "{both} {later}: {left:?} {right:?}");
        assert_eq!(right.get(&a), Some(&Some(content(1))), "what was saved last stands");
    }
}

/// Two people save at once, in a folder that neither side had when both last agreed: equal sizes and times do not make it one version.
#[test]
fn two_versions_of_one_moment_in_a_new_folder_are_a_conflict() {
    let mut pair = Pair::new(ConflictPolicy::Hold);
    pair.edit(Side::Left, &Edit::Write(path("a"), 5));
    pair.run().unwrap();
    for side in [Side::Left, Side::Right] {
        pair.edit(side, &Edit::Folder(path("n/deep")));
    }
    pair.clock += 10;
    for (side, version) in [(Side::Left, 1), (Side::Right, 3)] {
        put(pair.store(side), "n/deep/b", &content(version), pair.clock);
    }
    pair.clock += 100_000;
    let (plan, _) = pair.run().unwrap();
    assert_eq!(plan.conflicts.iter().map(|one| &one.path).collect::<Vec<_>>(), [&path("n/deep/b")]);
}
