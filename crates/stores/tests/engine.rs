//! The engine against stores that fail: whatever happens, no path holds a part of a file, and the next run converges.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::time::Duration;

use reedhook_core::compare::Comparison;
use reedhook_core::entry::{EntryKind, Stamp};
use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer, Preserve, Removed, Replaced, Verify};
use reedhook_core::limit::Throttle;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::Plan;
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::problem::{Code, Problem};
use reedhook_core::run::{Ended, Event, RESUME_FROM, RunInput, RunReport, execute};
use reedhook_core::store::{Attributes, FaultKind, Store};
use reedhook_core::walk::{Corruption, Fresh, Moves, ScanError, ScanInput, ScanProgress, Scope, scan};
use reedhook_testing::simulated::{Fault, Operation, SimulatedStore};
use reedhook_testing::{adjust, path, put, rules};

fn plan(left: &SimulatedStore, right: &SimulatedStore) -> Result<Plan, ScanError> {
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
}

fn run_input<'a>(
    left: &'a SimulatedStore,
    right: &'a SimulatedStore,
    run: &str,
    verify: Verify,
    events: &'a crossbeam_channel::Sender<Vec<Event>>,
    stop: &'a AtomicBool,
) -> RunInput<'a> {
    let run = Name::new(run.as_bytes()).unwrap();
    let (removed, replaced) = (Removed::Keep, Replaced::Keep);
    RunInput {
        owner: "a test",
        resume: true,
        left,
        right,
        removed,
        replaced,
        preserve: Preserve::Standard,
        verify,
        run,
        remembered: false,
        limit: None,
        events,
        stop,
    }
}

/// Carries a plan out; the problems come along.
fn carry_out(
    left: &SimulatedStore,
    right: &SimulatedStore,
    plan: &Plan,
    run: &str,
) -> (RunReport, Vec<Problem>) {
    carry_out_verifying(left, right, plan, run, Verify::None)
}

fn carry_out_verifying(
    left: &SimulatedStore,
    right: &SimulatedStore,
    plan: &Plan,
    run: &str,
    verify: Verify,
) -> (RunReport, Vec<Problem>) {
    let (sender, receiver) = crossbeam_channel::unbounded();
    let stop = AtomicBool::new(false);
    let report = execute(plan, &run_input(left, right, run, verify, &sender, &stop));
    drop(sender);
    let problems = receiver.into_iter().flatten().filter_map(|event| match event {
        Event::Problem(problem) => Some(problem),
        _ => None,
    });
    (report, problems.collect())
}

fn mirror(left: &SimulatedStore, right: &SimulatedStore, run: &str) -> (RunReport, Vec<Problem>) {
    carry_out(left, right, &plan(left, right).unwrap(), run)
}

/// Kinds and contents by path, without Reedhook's own folder.
fn content(store: &SimulatedStore) -> BTreeMap<RelPath, (EntryKind, Vec<u8>)> {
    let all = store.snapshot().into_iter().filter(|(path, _)| !path.is_reserved());
    all.map(|(path, (meta, bytes))| (path, (meta.kind, bytes))).collect()
}

/// Two sides with something of everything to do.
fn sides() -> (SimulatedStore, SimulatedStore) {
    let (left, right) = (SimulatedStore::new("left"), SimulatedStore::new("right"));
    for number in 0..6_u8 {
        put(&left, &format!("new/{number}"), &vec![number; 3000], 100);
        put(&left, &format!("changed/{number}"), &vec![number; 2000], 200);
        put(&right, &format!("changed/{number}"), &vec![b'o'; 1000], 100);
        put(&right, &format!("gone/{number}"), &vec![b'g'; 500], 100);
    }
    put(&left, "now a file", b"file", 100);
    put(&right, "now a file/inside", b"a folder", 100);
    put(&left, "now a folder/inside", b"folder", 100);
    put(&right, "now a folder", b"file", 100);
    for (store, folder, file) in
        [(&left, "season 2/2031", "rota/spring.csv"), (&right, "season 2", "spring rota.csv")]
    {
        put(store, &format!("{folder}/heron.csv"), b"heron 4", 70);
        put(store, &format!("{folder}/reeds/north.csv"), b"north", 71);
        put(store, file, b"who comes when", 72);
    }
    right.sync().unwrap();
    (left, right)
}

/// Every path on the right holds a whole old or a whole new version, and nothing that was there is lost.
fn assert_whole(
    old: &BTreeMap<RelPath, (EntryKind, Vec<u8>)>,
    left: &SimulatedStore,
    right: &SimulatedStore,
    what: &str,
) {
    let new = content(left);
    for (path, found) in content(right) {
        let part = path.file_name().is_some_and(|name| name.starts_with(b".reedhook-part-"));
        let whole = part || old.get(&path) == Some(&found) || new.get(&path) == Some(&found);
        assert!(whole, "{what}: {path} holds {} bytes that are neither old nor new", found.1.len());
    }
    let everything: Vec<Vec<u8>> = right.snapshot().into_values().map(|(_, bytes)| bytes).collect();
    for (path, (kind, bytes)) in old {
        let there = *kind == EntryKind::Folder || everything.contains(bytes);
        assert!(there, "{what}: what {path} held is lost");
    }
}

fn assert_converges(left: &SimulatedStore, right: &SimulatedStore, what: &str) {
    right.heal();
    left.heal();
    let (report, problems) = mirror(left, right, "healing");
    assert!(
        problems.is_empty() && matches!(report.ended, Ended::Done),
        "{what}: {problems:?} {:?}",
        report.ended
    );
    assert_eq!(content(right), content(left), "{what}");
    let again = plan(left, right).unwrap();
    assert!(again.is_empty() && again.leftovers.is_empty(), "{what}: a second run has nothing to do");
}

#[test]
fn a_fault_at_any_step_tears_nothing_and_loses_nothing() {
    let kinds = [FaultKind::Io, FaultKind::NoSpace, FaultKind::Denied, FaultKind::Lost];
    let mut cases = 0;
    for kind in kinds {
        for side in ["left", "right"] {
            for skip in 0.. {
                let (left, right) = sides();
                let old = content(&right);
                let planned = plan(&left, &right).unwrap();
                let faulty = if side == "left" { &left } else { &right };
                // Once, from then on nothing more works when the store is lost.
                let times = (kind != FaultKind::Lost).then_some(1);
                faulty.fail(Fault {
                    operation: None,
                    skip,
                    times,
                    ..Fault::new(Operation::List, None, kind)
                });
                let (report, problems) = carry_out(&left, &right, &planned, "faulty");
                let what = format!("{kind:?} at step {skip} of {side}");
                assert_whole(&old, &left, &right, &what);
                let untouched = problems.is_empty() && matches!(report.ended, Ended::Done);
                right.power_cut();
                assert_whole(&old, &left, &right, &format!("{what}, then a power cut"));
                assert_converges(&left, &right, &what);
                cases += 1;
                if untouched && skip > 0 && content(&right) == content(&left) && skip > 120 {
                    break;
                }
            }
        }
    }
    assert!(cases > 500, "{cases}");
}

#[test]
fn a_failed_file_is_a_problem_and_the_rest_goes_on() {
    let (left, right) = sides();
    left.fail(Fault {
        after_bytes: 1024,
        ..Fault::new(Operation::Read, Some(&path("new/3")), FaultKind::Io)
    });
    right.fail(Fault::new(Operation::Write, Some(&path("changed/2")), FaultKind::NoSpace));
    left.fail(Fault::new(Operation::Open, Some(&path("new/5")), FaultKind::NotFound));
    let (report, problems) = mirror(&left, &right, "faulty");
    let mut found: Vec<_> =
        problems.iter().map(|p| (p.path.to_string(), p.code.as_str(), p.side.as_str())).collect();
    found.sort();
    let expected =
        [("changed/2", "no-space", "right"), ("new/3", "io-error", "left"), ("new/5", "vanished", "left")];
    assert_eq!(found, expected.map(|(path, code, side)| (path.to_owned(), code, side)));
    assert_eq!((report.counts.added, report.counts.updated, report.counts.problems), (4 + 2, 5, 3));
    assert_converges(&left, &right, "afterwards");
}

#[test]
fn what_could_not_be_listed_is_not_removed() {
    let (left, right) = (SimulatedStore::new("left"), SimulatedStore::new("right"));
    for name in ["a/1", "a/2", "b/1"] {
        put(&left, name, b"x", 100);
    }
    mirror(&left, &right, "first");
    left.fail(Fault::new(Operation::List, Some(&path("a")), FaultKind::Denied));
    left.fail(Fault::new(Operation::Examine, Some(&path("b/1")), FaultKind::Io));
    let (report, problems) = mirror(&left, &right, "second");
    assert_eq!((report.counts.removed, problems.len()), (0, 2));
    assert_eq!(content(&right).len(), 5);
    left.fail(Fault::new(Operation::List, Some(&RelPath::root()), FaultKind::Denied));
    assert!(matches!(plan(&left, &right), Err(ScanError::Store(..))), "an unreadable root is no empty one");
}

/// A source whose file gets another time in the middle of being read, as often as told.
fn changing_source(times: u32) -> Arc<SimulatedStore> {
    let left = Arc::new(SimulatedStore::new("left"));
    put(left.as_ref(), "log", &[b'1'; 5000], 100);
    let (writer, done) = (left.clone(), AtomicU32::new(0));
    left.before_read(move |at, position| {
        let number = if position == 2048 { done.fetch_add(1, Ordering::SeqCst) } else { times };
        if number < times {
            let attributes = Attributes {
                modified: Some(Stamp::new(1000 + i64::from(number), 0)),
                mode: None,
                extra: None,
            };
            adjust(writer.as_ref(), at, &attributes).unwrap();
        }
    });
    left
}

#[test]
fn a_source_that_changes_while_it_is_read_is_tried_again_and_then_reported() {
    let (left, right) = (changing_source(1), SimulatedStore::new("right"));
    let (report, problems) = mirror(&left, &right, "first");
    assert!(problems.is_empty() && report.counts.added == 1, "{problems:?}");
    assert_eq!(right.stat(&path("log")).unwrap().unwrap().modified, Some(Stamp::new(1000, 0)));
    let (left, right) = (changing_source(u32::MAX), SimulatedStore::new("right"));
    let (report, problems) = mirror(&left, &right, "first");
    assert_eq!((report.counts.added, problems[0].code.as_str()), (0, "changed-meanwhile"));
    assert!(content(&right).is_empty(), "the half-read never lands");
}

#[test]
fn a_destination_that_changed_since_the_plan_is_left_alone() {
    let (left, right) = sides();
    let planned = plan(&left, &right).unwrap();
    put(&right, "changed/1", b"somebody was quicker", 999);
    put(&right, "new/1", b"somebody was quicker", 999);
    put(&right, "gone/1", b"somebody was quicker", 999);
    let (_, problems) = carry_out(&left, &right, &planned, "late");
    let codes: std::collections::BTreeSet<_> =
        problems.iter().map(|p| (p.path.to_string(), p.code.as_str())).collect();
    for path in ["changed/1", "new/1", "gone/1"] {
        assert!(codes.contains(&(path.to_owned(), "changed-meanwhile")), "{codes:?}");
    }
    for at in ["changed/1", "new/1", "gone/1"] {
        assert_eq!(content(&right)[&path(at)].1, b"somebody was quicker");
    }
}

#[test]
fn a_store_that_folds_case_gets_no_clashing_names() {
    let left = SimulatedStore::new("left");
    let right = SimulatedStore::new("right")
        .with_capabilities(|can| can.folding = reedhook_core::store::Folding::BOTH);
    for name in ["Heron.csv", "heron.csv", "coot.csv"] {
        put(&left, name, name.as_bytes(), 100);
    }
    let (report, problems) = mirror(&left, &right, "first");
    assert_eq!((report.counts.added, problems.len()), (1, 1));
    assert_eq!((problems[0].code.as_str(), problems[0].path.to_string()), ("name-clash", "Heron.csv".into()));
}

#[test]
fn what_a_store_cannot_hold_is_not_asked_of_it() {
    let left = SimulatedStore::new("left");
    put(&left, "a", b"1", 100);
    put(&left, &"n".repeat(60), b"1", 100);
    let sealed = left.stage_link(&path("link"), b"a", &Default::default()).unwrap();
    left.publish(
        sealed,
        &reedhook_core::store::Publish { expect: reedhook_core::store::Expect::Absent, keep_as: None },
    )
    .unwrap();
    let right = SimulatedStore::new("plain").with_capabilities(|can| {
        can.links = false;
        can.modes = false;
        can.max_name = 50;
        can.batch_sync = false;
    });
    let (report, problems) = mirror(&left, &right, "first");
    let codes: Vec<_> = problems.iter().map(|p| p.code.as_str()).collect();
    assert_eq!((report.counts.added, codes), (1, vec!["name-too-long"]));
    assert_eq!(plan(&left, &right).unwrap().counts().changed(), 0);
}

#[test]
fn what_arrives_wrong_never_lands_when_the_run_verifies() {
    let (left, right) = sides();
    let old = content(&right);
    right.write_badly();
    let planned = plan(&left, &right).unwrap();
    let (report, problems) = carry_out_verifying(&left, &right, &planned, "bad", Verify::Changed);
    // Links and folders aside, every file that was written is refused.
    assert!(problems.iter().all(|problem| problem.code == Code::VerifyFailed), "{problems:?}");
    assert_eq!((report.counts.added, report.counts.updated, problems.len()), (0, 0, 14));
    assert_whole(&old, &left, &right, "bad writes");
}

/// What is there already is compared and told as such: it is neither counted as moved nor slowed by the bandwidth limit.
#[test]
fn a_large_file_is_gone_on_with_and_only_the_rest_is_moved() {
    const STOPPED_AFTER: u64 = 12 << 20;
    // How much the simulated store reads at a time.
    const PIECE: u64 = 1024;
    for remote in [false, true] {
        let left = SimulatedStore::new("left");
        let right = SimulatedStore::new("right").with_capabilities(|can| can.remote = remote);
        let size = RESUME_FROM + 100_000;
        let large: Vec<u8> = (0..size).map(|at| (at >> 8) as u8).collect();
        put(&left, "night.mp4", &large, 100);
        // A limit is asked twice for each piece that has to keep to it.
        let asked = Arc::new(AtomicU64::new(0));
        let stop = Arc::new(AtomicBool::new(false));
        let run = |run: &str, stop_after: u64| {
            let (count, stopping) = (asked.clone(), stop.clone());
            count.store(0, Ordering::SeqCst);
            let rate = move || {
                let slowed = count.fetch_add(1, Ordering::SeqCst) / 2 * PIECE;
                stopping.store(slowed >= stop_after, Ordering::SeqCst);
                Some(u64::MAX)
            };
            stop.store(false, Ordering::SeqCst);
            let (sender, receiver) = crossbeam_channel::unbounded();
            let limit = Some(Arc::new(Throttle::new(rate, Arc::default())));
            let input = run_input(&left, &right, run, Verify::None, &sender, &stop);
            let report = execute(&plan(&left, &right).unwrap(), &RunInput { limit, ..input });
            drop(sender);
            (report, receiver.into_iter().flatten().collect::<Vec<_>>())
        };
        let (stopped, _) = run("stopped", STOPPED_AFTER);
        assert!(matches!(stopped.ended, Ended::Interrupted));
        let (report, events) = run("again", u64::MAX);
        assert_eq!(reedhook_testing::get(&right, "night.mp4"), large);
        let (mut moved, mut adopted) = (0, 0);
        for event in events {
            match event {
                Event::Bytes { bytes, .. } => moved += bytes,
                Event::Adopted { bytes, .. } => adopted += bytes,
                _ => {}
            }
        }
        assert!(adopted > STOPPED_AFTER - (1 << 20), "{adopted}");
        assert_eq!((moved, report.counts.bytes), (size - adopted, size - adopted), "remote: {remote}");
        let slowed = asked.load(Ordering::SeqCst) / 2 * PIECE;
        assert!(slowed <= size - adopted + 4 * PIECE, "{slowed} of {size} kept to the limit");
    }
}

/// A step that is about the mode alone leaves the time alone, even where the two differ by less than the stores can tell apart; and
/// it finds what the plan saw, or does nothing.
#[test]
fn a_new_mode_touches_no_time_and_no_edit() {
    let coarse = |label: &str| {
        SimulatedStore::new(label).with_capabilities(|can| can.time_precision = Some(Duration::from_secs(2)))
    };
    let (left, right) = (coarse("left"), coarse("right"));
    for (store, seconds, mode) in [(&left, 1001, 0o600), (&right, 1000, 0o644)] {
        for name in ["a", "b"] {
            put(store, name, b"same", seconds);
            let attributes = Attributes { mode: Some(mode), ..Attributes::default() };
            adjust(store, &path(name), &attributes).unwrap();
        }
    }
    let planned = plan(&left, &right).unwrap();
    assert_eq!(planned.counts().meta, 2);
    right.overwrite(&path("b"), b"edit", Stamp::new(5000, 0));
    let (report, problems) = carry_out(&left, &right, &planned, "20310504-180000-aaaa");
    assert_eq!((report.counts.meta, problems.len()), (1, 1), "{problems:?}");
    let found = |name: &str| right.stat(&path(name)).unwrap().unwrap();
    assert_eq!((found("a").mode, found("a").modified), (Some(0o600), Some(Stamp::new(1000, 0))));
    assert_eq!((found("b").mode, found("b").modified), (Some(0o644), Some(Stamp::new(5000, 0))));
}

/// A plan for looking at, whose moves nobody has proved by reading both files, is never carried out as one.
#[test]
fn moves_that_are_not_proved_are_not_carried_out() {
    let (left, right) = (SimulatedStore::new("left"), SimulatedStore::new("right"));
    put(&left, "new", b"from the left", 1000);
    put(&right, "old", b"of the right!", 1000);
    let filter = Filter::new(&rules(Kind::Mirror).filter, Stamp::new(0, 0)).unwrap();
    let by = Comparison::between(left.capabilities(), right.capabilities(), Preserve::Standard);
    let input = ScanInput {
        left: &left,
        right: &right,
        filter: &filter,
        rules: OneWayRules { kind: Kind::Mirror, newer: Newer::Leave, preserve: Preserve::Standard, by },
        one_filesystem: false,
        on_same: None,
        moves: Moves::Unproved,
        corrupted: Corruption::default(),
        fresh: Fresh::default(),
        scope: &Scope::Everything,
        observer: None,
    };
    let looked_at = scan(&input, &ScanProgress::default()).unwrap();
    assert_eq!(looked_at.counts().moved, 1, "it looks like a move");
    let (report, problems) = carry_out(&left, &right, &looked_at, "20310504-180000-aaaa");
    assert_eq!((report.counts.moved, problems.len()), (0, 1), "{problems:?}");
    assert_eq!(right.stat(&path("old")).unwrap().map(|meta| meta.size), Some(13));
    mirror(&left, &right, "20310504-180001-bbbb");
    assert_eq!(reedhook_testing::get(&right, "new"), b"from the left");
}
