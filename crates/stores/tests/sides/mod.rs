//! Two simulated sides, what a two-way job remembers of them, and people who work on them.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use reedhook_core::baseline::{Deeds, Outgoing, learn};
use reedhook_core::compare::Comparison;
use reedhook_core::entry::{EntryKind, Meta, Side, Stamp};
use reedhook_core::filter::Filter;
use reedhook_core::job::{
    ConflictPolicy, Conflicts, Kind, Newer, Preserve, Removals, Removed, Replaced, Verify,
};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::two_way::{Policies, Remembered};
use reedhook_core::plan::{Counts, Plan};
use reedhook_core::run::{Ended, Event, RunInput, execute};
use reedhook_core::store::{Attributes, Folding, Store};
use reedhook_core::walk::two_way::{TwoWayInput, TwoWayPlan, scan_two_way};
use reedhook_core::walk::{Corruption, Fresh, Moves, ScanError, ScanInput, ScanProgress, Scope, scan};
use reedhook_testing::simulated::SimulatedStore;
use reedhook_testing::{adjust, clear, make_way, put, rules};

/// What a person does at one side.
#[derive(Debug, Clone)]
pub enum Edit {
    Write(RelPath, u8),
    /// The same, within the same second where that is what was saved last.
    Resave(RelPath, u8),
    Folder(RelPath),
    Remove(RelPath),
    Rename(RelPath, RelPath),
    Touch(RelPath),
}

/// What a side is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ground {
    /// A disk with whole seconds.
    Plain,
    /// Times in steps of two seconds.
    Coarse,
    /// `a` and `A` are one name.
    Folding,
    /// No two files can change places, and nothing has two names.
    Stepwise,
    /// A stick: all of that.
    Stick,
}

impl Ground {
    pub fn store(self, label: &str) -> SimulatedStore {
        use Ground::{Coarse, Folding as Folds, Plain, Stepwise, Stick};
        let store = SimulatedStore::new(label).with_capabilities(|can| {
            let step = if matches!(self, Coarse | Stick) { 2 } else { 1 };
            can.time_precision = Some(Duration::from_secs(step));
            if matches!(self, Folds | Stick) {
                can.folding = Folding::CASE;
            }
        });
        match self {
            Stepwise | Stick => store.without_exchange(),
            Plain | Coarse | Folds => store,
        }
    }
}

/// Two sides and what is remembered of them.
pub struct Pair {
    pub left: SimulatedStore,
    pub right: SimulatedStore,
    pub memory: Mutex<BTreeMap<RelPath, Remembered>>,
    /// What a run that was cut short set out to remove.
    pub outgoing: Outgoing,
    /// Lines of what the job leaves out.
    pub exclude: Vec<String>,
    pub policy: ConflictPolicy,
    /// What happens to what is removed or replaced.
    pub removed: Removed,
    pub replaced: Replaced,
    pub runs: u32,
    pub clock: i64,
    /// The folders in which something has happened since the last run that came to its end, as a watch would tell.
    pub touched: BTreeSet<RelPath>,
    /// A run after a first one looks only there.
    pub scoped: bool,
    /// What a job of one way has to read at the next look.
    pub fresh: BTreeSet<RelPath>,
}

impl Pair {
    pub fn new(policy: ConflictPolicy) -> Pair {
        Pair::on(policy, [Ground::Plain, Ground::Plain])
    }

    pub fn on(policy: ConflictPolicy, grounds: [Ground; 2]) -> Pair {
        let (left, right) = (grounds[0].store("left"), grounds[1].store("right"));
        Pair {
            left,
            right,
            memory: Mutex::default(),
            outgoing: Outgoing::default(),
            exclude: Vec::new(),
            policy,
            removed: Removed::Keep,
            replaced: Replaced::Keep,
            runs: 0,
            clock: 1000,
            touched: BTreeSet::new(),
            scoped: false,
            fresh: BTreeSet::new(),
        }
    }

    pub fn store(&self, side: Side) -> &SimulatedStore {
        if side == Side::Left { &self.left } else { &self.right }
    }

    pub fn by(&self) -> Comparison {
        Comparison::between(self.left.capabilities(), self.right.capabilities(), Preserve::Standard)
    }

    pub fn scan(&self) -> Result<TwoWayPlan, ScanError> {
        let mut spec = rules(Kind::TwoWay).filter;
        spec.exclude = self.exclude.clone();
        let filter = Filter::new(&spec, Stamp::new(0, 0)).unwrap();
        let policies = Policies::new(&Conflicts { by_path: Vec::new(), otherwise: self.policy }).unwrap();
        let baseline =
            |folder: &RelPath| Ok(self.memory.lock().unwrap().get(folder).cloned().unwrap_or_default());
        let input = TwoWayInput {
            left: &self.left,
            right: &self.right,
            filter: &filter,
            baseline: &baseline,
            now: Stamp::new(self.clock, 0),
            outgoing: &self.outgoing,
            ended: &BTreeMap::new(),
            by: self.by(),
            preserve: Preserve::Standard,
            removals: Removals::Carry,
            policies: &policies,
            one_filesystem: false,
            moves: Moves::Proved,
            zone: &jiff::tz::TimeZone::UTC,
            corrupted: Corruption::default(),
            scope: &if self.scoped { Scope::within(&self.touched) } else { Scope::Everything },
            observer: None,
        };
        scan_two_way(&input, &ScanProgress::default())
    }

    fn scan_one_way(&self, kind: Kind) -> Result<Plan, ScanError> {
        let mut spec = rules(kind).filter;
        spec.exclude = self.exclude.clone();
        let filter = Filter::new(&spec, Stamp::new(0, 0)).unwrap();
        let known: Vec<RelPath> = self.fresh.iter().cloned().collect();
        let input = ScanInput {
            left: &self.left,
            right: &self.right,
            filter: &filter,
            rules: OneWayRules { kind, newer: Newer::Leave, preserve: Preserve::Standard, by: self.by() },
            one_filesystem: false,
            on_same: None,
            moves: Moves::Proved,
            corrupted: Corruption::default(),
            fresh: Fresh { known: &known, looked: Some(Stamp::new(self.clock, 0)) },
            scope: &Scope::Everything,
            observer: None,
        };
        scan(&input, &ScanProgress::default())
    }

    /// A run of a job that only reads the left; `None` when it did not come to its end.
    pub fn run_one_way(&mut self, kind: Kind) -> Option<(Plan, Counts)> {
        self.runs += 1;
        let plan = self.scan_one_way(kind).ok()?;
        // Before the first deed, as a job does.
        self.fresh.extend(plan.fresh.iter().cloned());
        self.fresh.retain(|path| plan.proved.binary_search(path).is_err());
        let (counts, whole) = self.carry_out(&plan, &mut Deeds::default());
        whole.then_some((plan, counts))
    }

    pub fn carry_out(&self, plan: &Plan, deeds: &mut Deeds) -> (Counts, bool) {
        let (sender, receiver) = crossbeam_channel::unbounded();
        let input = RunInput {
            left: self.store(plan.changes.other()),
            right: self.store(plan.changes),
            remembered: true,
            removed: self.removed,
            replaced: self.replaced,
            preserve: Preserve::Standard,
            verify: Verify::None,
            owner: "a test",
            resume: true,
            run: Name::new(format!("run{}", self.runs).as_bytes()).unwrap(),
            limit: None,
            events: &sender,
            stop: &AtomicBool::new(false),
        };
        let report = execute(plan, &input);
        drop(sender);
        for event in receiver.into_iter().flatten() {
            if let Event::Item(item) = event {
                deeds.take(&item);
            }
        }
        (report.counts, matches!(report.ended, Ended::Done))
    }

    /// A run from scan to memory; `None` when it did not come to its end.
    pub fn run(&mut self) -> Option<(TwoWayPlan, Counts)> {
        self.runs += 1;
        let plan = self.scan().ok()?;
        let parts = [&plan.aside[0], &plan.aside[1], &plan.to_right, &plan.to_left];
        let outgoing = Outgoing::of(parts);
        self.outgoing = Outgoing::new(self.outgoing.iter().chain(outgoing.iter()).cloned());
        let mut deeds = Deeds::default();
        let mut counts = Counts::default();
        for part in parts {
            let (done, whole) = self.carry_out(part, &mut deeds);
            counts.add(&done);
            if !whole {
                return None;
            }
        }
        self.left.sync().ok()?;
        self.right.sync().ok()?;
        let updates = learn(&plan.news, (&self.left, &self.right), &self.by(), &deeds).ok()?;
        let mut memory = self.memory.lock().unwrap();
        for (folder, known) in updates {
            match known {
                Some(known) => {
                    memory.insert(folder, known);
                }
                None => memory.retain(|path, _| !path.is_within(&folder)),
            }
        }
        drop(memory);
        self.outgoing = Outgoing::default();
        self.touched.clear();
        Some((plan, counts))
    }

    /// Takes note of where an edit will have happened: in the folder of each path, in those that had to be made, and of what was moved
    /// in all that is in it.
    fn touch(&mut self, side: Side, path: &RelPath) {
        let mut above = Some(path.clone());
        while let Some(folder) = above {
            above = folder.parent();
            self.touched.insert(folder);
        }
        let below = self.store(side).snapshot().into_keys().filter(|found| found.is_within(path));
        let below: Vec<RelPath> = below.collect();
        self.touched.extend(below);
    }

    pub fn edit(&mut self, side: Side, edit: &Edit) {
        self.change(side, edit);
        match edit {
            Edit::Rename(from, to) => {
                self.touch(side, from);
                self.touch(side, to);
            }
            Edit::Write(path, _)
            | Edit::Resave(path, _)
            | Edit::Folder(path)
            | Edit::Remove(path)
            | Edit::Touch(path) => self.touch(side, path),
        }
    }

    fn change(&mut self, side: Side, edit: &Edit) {
        let at_once = match edit {
            Edit::Resave(path, _) => matches!(
                self.store(side).stat(path),
                Ok(Some(meta)) if meta.kind == EntryKind::File && meta.modified == Some(Stamp::new(self.clock, 0))
            ),
            _ => false,
        };
        if !at_once {
            self.clock += 10;
        }
        let (store, now) = (self.store(side), self.clock);
        match edit {
            Edit::Write(path, version) | Edit::Resave(path, version) => {
                make_way(store, path);
                clear(store, path);
                put(store, &path.to_string(), &content(*version), now);
            }
            Edit::Folder(path) => {
                make_way(store, path);
                if store.stat(path).unwrap().is_none() {
                    store.make_folder(path, &Attributes::default()).unwrap();
                }
            }
            Edit::Remove(path) => clear(store, path),
            Edit::Rename(from, to) => {
                let possible = !to.is_within(from)
                    && !from.is_within(to)
                    && store.stat(from).is_ok_and(|meta| meta.is_some());
                // Another spelling of one name has nothing in its way but itself.
                let folding = store.capabilities().folding;
                let names = from.split().zip(to.split());
                let respelled = names.is_some_and(|((above, from), (there, to))| {
                    above == there && folding.is_same(&from, &to)
                });
                if possible {
                    make_way(store, to);
                    if !respelled {
                        clear(store, to);
                    }
                    // Making way may have removed what was to be renamed.
                    let _ = store.rename(from, to);
                }
            }
            Edit::Touch(path) => {
                if matches!(store.stat(path), Ok(Some(meta)) if meta.kind == EntryKind::File) {
                    let modified = Some(Stamp::new(now, 0));
                    adjust(store, path, &Attributes { modified, ..Attributes::default() }).unwrap();
                }
            }
        }
    }
}

/// Versions have two lengths, so that some differ in content alone.
pub fn content(version: u8) -> Vec<u8> {
    vec![b'A' + version; 3 + usize::from(version % 2)]
}

/// What a side holds: the content of files, nothing for folders.
pub type Tree = BTreeMap<RelPath, Option<Vec<u8>>>;

pub fn tree(store: &SimulatedStore) -> Tree {
    let own =
        |(path, (meta, bytes)): (RelPath, (Meta, Vec<u8>))| (path, (!meta.is_folder()).then_some(bytes));
    let all = store.snapshot().into_iter().filter(|(path, _)| !path.is_reserved() && !path.is_root());
    all.map(own).collect()
}

/// Every content that is anywhere at all, kept copies included.
pub fn everything(pair: &Pair) -> BTreeSet<Vec<u8>> {
    [&pair.left, &pair.right]
        .into_iter()
        .flat_map(|store| store.snapshot().into_values().map(|(_, bytes)| bytes))
        .collect()
}
