//! People at work *while* runs go on, of all kinds of job and on all kinds of ground, at every step of them, and runs that are cut short: a version that nobody removed or
//! overwrote is somewhere afterwards, on a side or among the kept copies, and once all is quiet no path holds two contents while
//! the run says that all is well.
//!
//! Everything happens at counted calls of the simulated stores, on one thread, so a failing history can be played again.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod sides;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};

use proptest::prelude::*;
use reedhook_core::entry::{EntryKind, Side, Stamp};
use reedhook_core::job::{ConflictPolicy, Kind, Removed, Replaced};
use reedhook_core::path::RelPath;
use reedhook_core::plan::two_way::Settled;
use reedhook_core::plan::{Counts, Plan, Step};
use reedhook_core::store::{Attributes, FaultKind, Store};
use reedhook_core::walk::two_way::TwoWayPlan;
use reedhook_testing::simulated::{Fault, Operation, SimulatedStore};
use reedhook_testing::{adjust, clear, make_way, path, put};

use sides::{Ground, Pair, Tree, everything, tree};

/// What somebody does.
#[derive(Debug, Clone)]
enum Deed {
    /// Saves as an editor does: a new file takes the place of the old one.
    Save(RelPath),
    /// Writes into the file as it stands.
    Overwrite(RelPath),
    Remove(RelPath),
    Rename(RelPath, RelPath),
    Touch(RelPath),
    Mode(RelPath),
    /// Moves it out of the job's sight, as into another folder of the disk.
    PutAside(RelPath),
    /// Puts back what was moved out of sight, just as it was.
    PutBack,
}

/// A run with what happens before and during it.
#[derive(Debug, Clone)]
struct Shift {
    /// The seconds from one deed to the next.
    pace: i64,
    before: Vec<(Side, Deed)>,
    /// At which call, where, what.
    during: Vec<(u32, Side, Deed)>,
    /// After this call nothing is done any more.
    killed: Option<u32>,
}

/// About as many calls as runs of these small trees make.
const CALLS: u32 = 110;

/// Few, so that what happens meets often.
fn paths() -> impl Strategy<Value = RelPath> {
    let few = vec!["a", "a", "a", "b", "b", "b", "c", "d/a", "d/a", "d/a", "d/b", "a/a", "d/e/a", "A", "D/a"];
    prop::sample::select(few).prop_map(path)
}

/// Where things are put aside: the job leaves it out.
const SHELF: &str = "shelf";

fn deeds() -> impl Strategy<Value = (Side, Deed)> {
    let one = prop_oneof![
        6 => paths().prop_map(Deed::Save),
        4 => paths().prop_map(Deed::Overwrite),
        3 => paths().prop_map(Deed::Remove),
        2 => (paths(), paths()).prop_map(|(from, to)| Deed::Rename(from, to)),
        2 => paths().prop_map(Deed::Touch),
        1 => paths().prop_map(Deed::Mode),
        3 => paths().prop_map(Deed::PutAside),
        4 => Just(Deed::PutBack),
    ];
    (prop::sample::select(vec![Side::Left, Side::Right]), one)
}

fn shifts() -> impl Strategy<Value = Vec<Shift>> {
    let during = (0..CALLS, deeds()).prop_map(|(at, (side, deed))| (at, side, deed));
    let shift = (
        prop::sample::select(vec![0, 1, 10]),
        prop::collection::vec(deeds(), 0..6),
        prop::collection::vec(during, 0..7),
        prop::option::weighted(0.25, 0..CALLS),
    );
    // Where both sides save another version in one second before they have ever been looked at whole, they look alike from then on.
    let shift = shift.prop_map(|(pace, before, during, killed)| {
        let killed = killed.filter(|_| pace > 1);
        Shift { pace, before, during, killed }
    });
    prop::collection::vec(shift, 1..5)
}

fn grounds() -> impl Strategy<Value = [Ground; 2]> {
    use Ground::*;
    let one = || prop::sample::select(vec![Plain, Plain, Coarse, Folding, Stepwise, Stick]);
    [one(), one()]
}

fn policies() -> impl Strategy<Value = ConflictPolicy> {
    use ConflictPolicy::*;
    prop::sample::select(vec![Hold, Hold, Newest, Left, Right, Both])
}

/// The people, and what they would miss.
struct World {
    stores: [SimulatedStore; 2],
    /// Every content that somebody made and nobody overwrote or removed since.
    missed: BTreeSet<Vec<u8>>,
    /// Every content that somebody ever made.
    made: BTreeSet<Vec<u8>>,
    /// Where what each side has put aside was before.
    shelved: [Option<RelPath>; 2],
    clock: i64,
    pace: i64,
    /// Somebody has saved twice in one step of the clock.
    hasty: bool,
    one_way: bool,
    /// The job keeps nothing of what it removes or replaces.
    erases: bool,
    versions: u32,
    calls: u32,
    during: BTreeMap<u32, Vec<(Side, Deed)>>,
    killed: Option<u32>,
}

impl World {
    fn store(&self, side: Side) -> SimulatedStore {
        self.stores[usize::from(side == Side::Right)].clone()
    }

    /// What is done before a run, and what is to come in it.
    fn begin(&mut self, shift: &Shift) {
        self.pace = shift.pace;
        shift.before.iter().for_each(|(side, deed)| self.act(*side, deed));
        self.calls = 0;
        self.during = BTreeMap::new();
        for (at, side, deed) in &shift.during {
            self.during.entry(*at).or_default().push((*side, deed.clone()));
        }
        self.killed = shift.killed;
        // What a run has seen it may erase, if the job says so. What is saved in its place within the same step of the clock, of the same
        // size, nothing tells from that.
        if self.erases {
            self.pace = self.pace.max(2);
        }
    }

    /// A call to one of the stores: what is due happens before it.
    fn call(&mut self) {
        self.calls += 1;
        for (side, deed) in self.during.remove(&self.calls).unwrap_or_default() {
            self.act(side, &deed);
        }
        if self.killed == Some(self.calls) {
            self.during.clear();
            for store in &self.stores {
                store.fail(Fault { operation: None, ..Fault::new(Operation::List, None, FaultKind::Lost) });
            }
        }
    }

    fn act(&mut self, side: Side, deed: &Deed) {
        let store = self.store(side);
        let before = contents(&store);
        self.clock += self.pace;
        self.carry_out(side, &store, deed);
        let after = contents(&store);
        let new = |from: &Held, than: &Held| -> BTreeSet<Vec<u8>> {
            from.iter()
                .filter(|(path, bytes)| than.get(*path) != Some(*bytes))
                .map(|(_, bytes)| bytes.clone())
                .collect()
        };
        // What this person took away, and did not put elsewhere, they meant to. A version of which runs have made copies counts as
        // given up with the first of them.
        let (gone, come) = (new(&before, &after), new(&after, &before));
        self.missed.retain(|version| !gone.contains(version) || come.contains(version));
        self.missed.extend(
            come.into_iter().filter(|version| !gone.contains(version) && self.made.insert(version.clone())),
        );
    }

    fn carry_out(&mut self, side: Side, store: &SimulatedStore, deed: &Deed) {
        let shelf = path(SHELF);
        // What comes back with the size and the time of another version cannot be told from that by anybody.
        self.hasty |= self.pace < 2;
        if self.hasty && matches!(deed, Deed::PutAside(_) | Deed::PutBack | Deed::Rename(..)) {
            return;
        }
        // A job of one way does not remember what it saw: there, what two people save in one second is not of one size.
        let mark = if self.one_way && side == Side::Right { "--" } else { "" };
        let shelved = &mut self.shelved[usize::from(side == Side::Right)];
        let kind = |path: &RelPath| store.stat(path).ok().flatten().map(|meta| meta.kind);
        match deed {
            Deed::Save(path) => {
                make_way(store, path);
                clear(store, path);
                let version = version(&mut self.versions, mark);
                put(store, &path.to_string(), &version, self.clock);
            }
            Deed::Overwrite(path) if kind(path) == Some(EntryKind::File) => {
                let version = version(&mut self.versions, mark);
                store.overwrite(path, &version, Stamp::new(self.clock, 0));
            }
            Deed::Remove(path) => clear(store, path),
            Deed::Rename(from, to) => {
                // Names that are one here, perhaps.
                let key = |path: &RelPath| RelPath::new(&path.as_bytes().to_ascii_lowercase()).unwrap();
                let apart = !key(to).is_within(&key(from)) && !key(from).is_within(&key(to));
                if apart && kind(from).is_some() {
                    make_way(store, to);
                    clear(store, to);
                    // Making way may have removed what was to be renamed.
                    let _ = store.rename(from, to);
                }
            }
            Deed::Touch(path) if kind(path) == Some(EntryKind::File) => {
                let modified = Some(Stamp::new(self.clock, 0));
                adjust(store, path, &Attributes { modified, ..Attributes::default() }).unwrap();
            }
            Deed::Mode(path) if kind(path).is_some() => {
                let mode = Some(0o700 | ((self.clock as u32 / 10) % 64));
                adjust(store, path, &Attributes { mode, ..Attributes::default() }).unwrap();
            }
            Deed::PutAside(path) if shelved.is_none() && kind(path).is_some() => {
                store.rename(path, &shelf).unwrap();
                *shelved = Some(path.clone());
            }
            Deed::PutBack => {
                if let Some(path) = shelved.take() {
                    make_way(store, &path);
                    clear(store, &path);
                    store.rename(&shelf, &path).unwrap();
                }
            }
            Deed::Overwrite(_) | Deed::Touch(_) | Deed::Mode(_) | Deed::PutAside(_) => {}
        }
    }
}

/// Content that nobody has written before, of one of two lengths.
fn version(versions: &mut u32, mark: &str) -> Vec<u8> {
    *versions += 1;
    let padding = if versions.is_multiple_of(3) { "." } else { "" };
    format!("v{versions:05}{padding}{mark}").into_bytes()
}

/// What a side holds at each path.
type Held = BTreeMap<RelPath, Vec<u8>>;

/// The files of a side with their contents, without Reedhook's own.
fn contents(store: &SimulatedStore) -> Held {
    let ours = |path: &RelPath| {
        path.is_reserved() || path.file_name().is_some_and(|name| name.starts_with(b".reedhook-"))
    };
    let files = store.snapshot().into_iter().filter(|(path, (meta, _))| !ours(path) && !meta.is_folder());
    files.map(|(path, (_, bytes))| (path, bytes)).collect()
}

/// A job, and what it works on.
#[derive(Debug, Clone, Copy)]
struct Work {
    kind: Kind,
    policy: ConflictPolicy,
    keep: bool,
    grounds: [Ground; 2],
}

fn two_way(policy: ConflictPolicy) -> Work {
    Work { kind: Kind::TwoWay, policy, keep: false, grounds: [Ground::Plain, Ground::Plain] }
}

fn world(pair: &Pair, one_way: bool) -> Arc<Mutex<World>> {
    Arc::new(Mutex::new(World {
        stores: [pair.left.clone(), pair.right.clone()],
        missed: BTreeSet::new(),
        made: BTreeSet::new(),
        shelved: [None, None],
        clock: 1000,
        pace: 10,
        hasty: false,
        one_way,
        erases: pair.replaced == Replaced::Erase,
        versions: 0,
        calls: 0,
        during: BTreeMap::new(),
        killed: None,
    }))
}

/// The history, and then quiet.
fn check(shifts: &[Shift], work: Work) {
    let mut pair = Pair::on(work.policy, work.grounds);
    let one_worker = |store: SimulatedStore| store.with_capabilities(|can| can.workers = 1);
    (pair.left, pair.right) = (one_worker(pair.left), one_worker(pair.right));
    pair.exclude = vec![format!("/{SHELF}")];
    if !work.keep {
        (pair.removed, pair.replaced) = (Removed::Erase, Replaced::Erase);
    }
    let world = world(&pair, work.kind != Kind::TwoWay);
    let run = |pair: &mut Pair| {
        pair.clock = world.lock().unwrap().clock;
        match work.kind {
            Kind::TwoWay => pair.run().map(|(plan, counts)| (Outcome::TwoWay(Box::new(plan)), counts)),
            kind => pair.run_one_way(kind).map(|(plan, counts)| (Outcome::OneWay(plan), counts)),
        }
    };
    for shift in shifts {
        world.lock().unwrap().begin(shift);
        for store in [&pair.left, &pair.right] {
            let world = world.clone();
            // What people do calls the stores too: those calls are not counted.
            let count = move |_: Operation, _: &RelPath| {
                if let Ok(mut world) = world.try_lock() {
                    world.call();
                }
            };
            store.before_each(count.clone());
            store.before_read(move |path, _| count(Operation::Read, path));
        }
        run(&mut pair);
        for store in [&pair.left, &pair.right] {
            store.unhook();
            store.heal();
        }
    }
    run(&mut pair).unwrap();
    let (outcome, counts) = run(&mut pair).unwrap();

    // A job of one way that keeps nothing may destroy what it saw at its destination.
    if work.kind == Kind::TwoWay || work.keep {
        assert_nothing_missing(&pair, &world.lock().unwrap().missed);
    }
    assert_alike(&pair, work, &outcome, &counts);
}

fn problems(plan: &Plan) -> impl Iterator<Item = &RelPath> {
    plan.problems.iter().map(|problem| &problem.path)
}

/// What the last run of a job had planned.
enum Outcome {
    TwoWay(Box<TwoWayPlan>),
    OneWay(Plan),
}

impl Outcome {
    /// The paths that the run says something of: that they differ on purpose, or could not be made alike.
    fn told(&self) -> BTreeSet<&RelPath> {
        match self {
            Outcome::TwoWay(plan) => {
                let held = plan.conflicts.iter().filter(|one| one.settled == Settled::Held);
                let told = held.map(|one| &one.path);
                told.chain(problems(&plan.to_right)).chain(problems(&plan.to_left)).collect()
            }
            Outcome::OneWay(plan) => problems(plan).collect(),
        }
    }
}

/// What nobody removed is somewhere.
fn assert_nothing_missing(pair: &Pair, missed: &BTreeSet<Vec<u8>>) {
    let there = everything(pair);
    let missing: Vec<String> =
        missed.difference(&there).map(|version| String::from_utf8_lossy(version).into_owned()).collect();
    assert!(missing.is_empty(), "nobody removed {missing:?}, and they are nowhere");
}

/// Both sides hold the same, but for what the last run said of itself. A copy leaves what only the right has, or has newer.
fn assert_alike(pair: &Pair, work: Work, outcome: &Outcome, counts: &Counts) {
    let folds = work.grounds.iter().any(|ground| matches!(ground, Ground::Folding | Ground::Stick));
    // Of names that are one, the first is told of, and none is touched.
    let key = |path: &RelPath| match folds {
        true => RelPath::new(&path.as_bytes().to_ascii_lowercase()).unwrap(),
        false => path.clone(),
    };
    let told: BTreeSet<RelPath> = outcome.told().into_iter().map(key).collect();
    let apart = |tree: Tree| -> Tree {
        let shelf = path(SHELF);
        let seen =
            |path: &RelPath| !path.is_within(&shelf) && !told.iter().any(|held| key(path).is_within(held));
        tree.into_iter().filter(|(path, _)| seen(path)).collect()
    };
    let (left, mut right) = (apart(tree(&pair.left)), apart(tree(&pair.right)));
    if let (Kind::Copy, Outcome::OneWay(plan)) = (work.kind, outcome) {
        let left_there: BTreeSet<RelPath> = plan
            .folders
            .iter()
            .flat_map(|folder| {
                let leaves = folder.actions.iter().filter(|action| matches!(action.step, Step::Leave { .. }));
                leaves.map(|action| folder.path.join(&action.name))
            })
            .collect();
        right.retain(|path, _| left.contains_key(path));
        for path in left_there {
            right.insert(path.clone(), left.get(&path).cloned().flatten());
        }
    }
    assert_eq!(left, right, "two contents, and nothing said ({counts:?})");
}

/// What is done before a run, what happens in it, and what is done before the next one.
type Misfortune = (Vec<(Side, Deed)>, (Side, Deed), Vec<(Side, Deed)>);

/// What has cost somebody a file once.
fn misfortunes() -> Vec<Misfortune> {
    let at = |text: &str| path(text);
    let (left, right) = (Side::Left, Side::Right);
    vec![
        // A new time or mode is on its way, and somebody writes there.
        (
            vec![(left, Deed::Touch(at("a")))],
            (right, Deed::Overwrite(at("a"))),
            vec![(left, Deed::Save(at("a")))],
        ),
        (
            vec![(left, Deed::Mode(at("a")))],
            (right, Deed::Overwrite(at("a"))),
            vec![(left, Deed::Save(at("a")))],
        ),
        (
            vec![(right, Deed::Mode(at("d")))],
            (left, Deed::Mode(at("d"))),
            vec![(left, Deed::Save(at("d/a")))],
        ),
        // Put aside, and back while the run removes the other side's.
        (vec![(left, Deed::PutAside(at("d")))], (left, Deed::PutBack), vec![]),
        (
            vec![(right, Deed::PutAside(at("d/a")))],
            (right, Deed::PutBack),
            vec![(left, Deed::Touch(at("b")))],
        ),
        // Put aside, and back only after the run.
        (vec![(left, Deed::PutAside(at("d")))], (right, Deed::Save(at("b"))), vec![(left, Deed::PutBack)]),
        // Put aside, and back after a run that was killed while it removed the other side's, where somebody has saved another since.
        (
            vec![(right, Deed::PutAside(at("d")))],
            (left, Deed::Save(at("c"))),
            vec![(right, Deed::PutBack), (left, Deed::Save(at("d/a")))],
        ),
        // Put aside, and back only after the run, which removed the other side's, where somebody has saved another since.
        (vec![(left, Deed::PutAside(at("d")))], (right, Deed::Save(at("d/a"))), vec![(left, Deed::PutBack)]),
        (
            vec![(left, Deed::PutAside(at("d/e")))],
            (right, Deed::Save(at("d/e/a"))),
            vec![(left, Deed::PutBack)],
        ),
        // Put aside, and back where the run has brought another version meanwhile, of which nothing is left.
        (
            vec![(right, Deed::PutAside(at("a"))), (right, Deed::Save(at("a")))],
            (left, Deed::Remove(at("a"))),
            vec![(right, Deed::PutBack)],
        ),
        (
            vec![(right, Deed::PutAside(at("a"))), (right, Deed::Save(at("a")))],
            (left, Deed::Save(at("a"))),
            vec![(right, Deed::PutBack)],
        ),
        // A conflict, and one of the folders goes while the two versions change places.
        (
            vec![(right, Deed::Save(at("d/a"))), (left, Deed::Save(at("d/a")))],
            (left, Deed::Remove(at("d"))),
            vec![],
        ),
        // Saved again while the first version travels.
        (
            vec![(left, Deed::Save(at("a")))],
            (left, Deed::Save(at("a"))),
            vec![(left, Deed::Overwrite(at("a")))],
        ),
        (vec![(left, Deed::Overwrite(at("a")))], (right, Deed::Overwrite(at("a"))), vec![]),
        // Renamed, and worked on under the old or the new name.
        (vec![(left, Deed::Rename(at("d"), at("c")))], (right, Deed::Save(at("d/a"))), vec![]),
        (
            vec![(left, Deed::Rename(at("d"), at("c")))],
            (left, Deed::Save(at("c/a"))),
            vec![(left, Deed::Save(at("c/b")))],
        ),
        (vec![(left, Deed::Rename(at("b"), at("c")))], (left, Deed::Rename(at("c"), at("b"))), vec![]),
        (
            vec![(left, Deed::Remove(at("d")))],
            (right, Deed::Save(at("d/c"))),
            vec![(left, Deed::Save(at("d")))],
        ),
    ]
}

/// What has cost somebody a file once: each at every step of the run, and each run cut short at every step.
#[test]
fn known_misfortunes_at_every_step() {
    let begin: Vec<_> =
        ["a", "b", "d/a", "d/b", "d/e/a"].map(|text| (Side::Left, Deed::Save(path(text)))).into();
    for (before, meanwhile, after) in misfortunes() {
        for step in 0..CALLS {
            for killed in [None, Some(step + 1), Some(step + 9)] {
                let shift = |before: &[(Side, Deed)], during: Vec<_>, killed| Shift {
                    pace: 10,
                    before: before.to_vec(),
                    during,
                    killed,
                };
                let during = vec![(step, meanwhile.0, meanwhile.1.clone())];
                let shifts = [
                    shift(&begin, vec![], None),
                    shift(&before, during, killed),
                    shift(&after, vec![], None),
                ];
                for policy in [ConflictPolicy::Hold, ConflictPolicy::Right, ConflictPolicy::Both] {
                    let checked = std::panic::catch_unwind(|| check(&shifts, two_way(policy)));
                    assert!(
                        checked.is_ok(),
                        "{before:?}, at {step} {meanwhile:?}, {killed:?}, {after:?}, {policy}"
                    );
                }
            }
        }
    }
}

/// Put aside while it travels, removed at the other side by a run that is cut short, and put back while the next one goes on: wherever
/// that is.
#[test]
fn what_comes_back_after_a_run_that_was_cut_short_is_new() {
    let file = path("d/e/a");
    for away in [file.clone(), path("d")] {
        let check_at = |aside: u32, killed: u32, back: u32| {
            let shift = |before, during, killed| Shift { pace: 10, before, during, killed };
            let at = |step, deed| vec![(step, Side::Left, deed)];
            let shifts = [
                shift(
                    vec![(Side::Left, Deed::Save(file.clone()))],
                    at(aside, Deed::PutAside(away.clone())),
                    None,
                ),
                shift(vec![], vec![], Some(killed)),
                shift(vec![], at(back, Deed::PutBack), None),
            ];
            let checked = std::panic::catch_unwind(|| check(&shifts, two_way(ConflictPolicy::Hold)));
            assert!(
                checked.is_ok(),
                "{away} put aside at {aside}, cut short at {killed}, put back at {back}"
            );
        };
        for (aside, killed) in (6..14).flat_map(|aside| (6..26).map(move |killed| (aside, killed))) {
            (0..24).for_each(|back| check_at(aside, killed, back));
        }
    }
}

/// Histories in the test that runs every time; `REEDHOOK_HISTORIES` asks for more.
fn histories(usual: u32) -> ProptestConfig {
    let cases = std::env::var("REEDHOOK_HISTORIES").ok().and_then(|text| text.parse().ok()).unwrap_or(usual);
    ProptestConfig { cases, failure_persistence: None, max_shrink_iters: 8000, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(histories(2000))]

    #[test]
    fn nothing_is_lost_while_people_work(
        shifts in shifts(),
        policy in policies(),
        keep in any::<bool>(),
        grounds in grounds(),
    ) {
        check(&shifts, Work { kind: Kind::TwoWay, policy, keep, grounds });
    }

    /// The same with jobs that only read one side: what people do at the other is kept.
    #[test]
    fn one_way_jobs_come_to_rest_while_people_work(
        shifts in shifts(),
        mirror in any::<bool>(),
        keep in any::<bool>(),
        grounds in grounds(),
    ) {
        let kind = if mirror { Kind::Mirror } else { Kind::Copy };
        check(&shifts, Work { kind, policy: ConflictPolicy::Hold, keep, grounds });
    }
}
