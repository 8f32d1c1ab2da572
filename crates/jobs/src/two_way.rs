//! The road of two-way jobs: open both sides, recall what they last agreed on, scan, check the guards, and afterwards remember.

pub use crate::both::Both;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use reedhook_core::baseline::{self, Deeds, learn};
use reedhook_core::entry::{Meta, Side};
use reedhook_core::filter::Filter;
use reedhook_core::identity;
use reedhook_core::job::{ConflictPolicy, Conflicts};
use reedhook_core::memory::{Corrupted, MemoryError};
use reedhook_core::path::RelPath;
use reedhook_core::plan::Plan;
use reedhook_core::plan::two_way::{Known, Policies, Remembered};
use reedhook_core::store::{Store, StoreError};
use reedhook_core::walk::two_way::{Decided, TwoWayInput, TwoWayPlan, decide_one, scan_two_way};
use reedhook_core::walk::{Corruption, Moves, ScanError, Scope, WalkObserver};
use reedhook_record::{Record, RecordError};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Halt, Outcome};
use crate::inventory::upkeep::Shelves;
use crate::jobfile::job::{Job, ONCE};
use crate::places::{Ends, Located};
use crate::preview::{DestinationPlan, Preview};
use crate::proved::ProvedPlan;
use crate::recognise::{self, GroundsSeen, Part};
use crate::scan::{comparison, facts, kept_shelves, refuse_nested, scan_failure, watched};
use crate::{neighbours, open};

/// What a person settles now: at these paths, in this way. Nothing else is touched.
pub struct Settling {
    /// The paths.
    pub paths: Vec<RelPath>,
    /// Who wins.
    pub policy: ConflictPolicy,
    /// As if nothing were remembered of them: what differs is a conflict, whoever has changed it, and what one side lacks comes back.
    /// So a change is taken back instead of carried over.
    pub afresh: bool,
}

impl Settling {
    /// What is remembered of a folder, without what is settled afresh.
    fn without_own(&self, folder: &RelPath, mut remembered: Remembered) -> Remembered {
        if self.afresh {
            remembered.known.retain(|known| !self.paths.contains(&folder.join(&known.name)));
        }
        remembered
    }
}

/// How both sides are looked at.
#[derive(Clone, Copy)]
struct How<'a> {
    /// What is done about moves.
    moves: Moves,
    /// What is known to have changed by itself.
    corrupted: &'a [Corrupted],
    /// Versions that were ended, where the job is in a circle.
    ended: &'a BTreeMap<RelPath, Known>,
    /// How much of both trees is looked at.
    scope: &'a Scope,
    /// Who else hears what is seen.
    observer: Option<&'a dyn WalkObserver>,
}

/// Opens both sides of a two-way job and scans them. Nothing is changed anywhere.
pub(crate) fn look(
    desk: &Desk,
    job: &Job,
    (moves, scope): (Moves, &Scope),
    settling: Option<&Settling>,
) -> Outcome<Preview> {
    let ends = Ends::of(job, &desk.home, &desk.settings)?;
    let seen = GroundsSeen::now(desk, job, &ends)?;
    refuse_nested(&ends, &desk.home)?;
    let (left_place, right_place) = both_places(&ends)?;
    recognise::refuse_other_ground(desk, job, &left_place, Part::Left)?;
    let left = open_side(desk, job, &left_place, Side::Left)?;
    let opened = open_side_if_there(desk, job, &right_place)?;
    let to_be_made = opened.is_none();
    let right = match opened {
        Some(store) => store,
        None => open::not_there_yet(desk, &right_place, OpenOptions::of(job))?,
    };
    recognise::refuse_foreign(desk, job, &left_place, left.as_ref(), Part::Left)?;
    if !to_be_made {
        recognise::refuse_foreign(desk, job, &right_place, right.as_ref(), Part::Right)?;
    }
    let mut corrupted = desk.home.record()?.corrupted(&job.name, &right_place.written)?;
    if let Some(settling) = settling {
        // The others stay known.
        corrupted.retain(|known| settling.paths.contains(&known.path));
    }
    let shelves = kept_shelves(desk, job, moves, (&ends.from, &right_place), &[]);
    let observer = shelves.as_ref().and_then(Shelves::observer);
    let ended = match neighbours::is_in_circle(desk, job, (left.as_ref(), right.as_ref()))? {
        true => desk.home.record()?.ended(&job.name)?,
        false => BTreeMap::new(),
    };
    let how = How { moves, corrupted: &corrupted, ended: &ended, scope, observer };
    let found = scan(desk, job, (&left, &right), how, settling)?;
    shelves.into_iter().for_each(|shelves| shelves.close(desk));
    let destinations = destinations(&found, (&left, &left_place), (&right, &right_place, to_be_made));
    let both = Both { left, right, conflicts: found.conflicts, news: found.news };
    Ok(Preview::new(job, (ends, seen), destinations).with_both(both).with_corrupted(corrupted))
}

/// Looks at what settling some conflicts would do.
///
/// # Errors
/// When the sides cannot be looked at.
pub fn look_at_settling(desk: &Desk, job: &Job, settling: &Settling) -> Outcome<ProvedPlan> {
    Ok(ProvedPlan::of_named(look(desk, job, (Moves::Proved, &Scope::Everything), Some(settling))?))
}

fn both_places(ends: &Ends) -> Outcome<(Located, Located)> {
    match (ends.from.as_slice(), ends.to.as_slice()) {
        ([left], [right]) => Ok((left.clone(), right.clone())),
        _ => Err(Failure::usage("a two-way job has one left and one right side")),
    }
}

fn open_side(desk: &Desk, job: &Job, place: &Located, side: Side) -> Outcome<Arc<dyn Store>> {
    open::open_source(desk, place, OpenOptions::of(job), &format!("{side} side"))
}

/// The right side may be made by the first run, unless it has been seen before.
fn open_side_if_there(desk: &Desk, job: &Job, place: &Located) -> Outcome<Option<Arc<dyn Store>>> {
    let opened = open::open_destination(desk, place, OpenOptions::of(job))?;
    if opened.is_none() {
        recognise::refuse_vanished(desk, job, place, Part::Right)?;
    }
    Ok(opened)
}

/// The marks of two stores, when both bear one.
fn marks(left: &dyn Store, right: &dyn Store) -> Outcome<Option<(String, String)>> {
    let read = |store: &dyn Store| {
        identity::read(store).map_err(|error| {
            Failure::refused(
                Cause::SideForeign,
                format!("the mark of {} cannot be read: {}", store.name(), error.reason()),
            )
        })
    };
    Ok(read(left)?.zip(read(right)?))
}

/// What a job remembers of two stores, to be asked by the threads of a scan.
pub struct Memory {
    record: Option<Mutex<Box<dyn Record>>>,
    job: String,
}

impl Memory {
    /// The memory of this pair of stores; an empty one when they have never been run together.
    ///
    /// # Errors
    /// When a mark or the record cannot be read.
    pub fn of(desk: &Desk, job: &Job, left: &dyn Store, right: &dyn Store) -> Outcome<Memory> {
        let record = desk.home.record()?;
        let known = match marks(left, right)?.filter(|_| job.name != ONCE) {
            Some((one, other)) => match record.baseline_runs(&job.name, &one, &other)? {
                Some(runs) => is_current(left, right, (&one, &other), &runs)?,
                None => false,
            },
            None => false,
        };
        Ok(Memory { record: known.then(|| Mutex::new(record)), job: job.name.clone() })
    }

    /// What is remembered of a folder.
    ///
    /// # Errors
    /// When the record fails, or what it has of the folder cannot be read.
    pub fn folder(&self, path: &RelPath) -> Result<Remembered, RecordError> {
        match &self.record {
            Some(record) => record.lock().unwrap_or_else(PoisonError::into_inner).baseline(&self.job, path),
            None => Ok(Remembered::default()),
        }
    }

    /// Whether the two have been run together before.
    pub fn is_there(&self) -> bool {
        self.record.is_some()
    }
}

/// Whether a memory is of the same run as both sides. One that was put back, or that others have gone on without, knows less than
/// nothing: what came back with its old time would seem to have been there all the time, and its counterpart to have been removed.
fn is_current(left: &dyn Store, right: &dyn Store, marks: (&str, &str), runs: &[String; 2]) -> Outcome<bool> {
    let says = |store: &dyn Store| {
        identity::last_run(store, marks).map_err(|error| {
            Failure::refused(
                Cause::SideForeign,
                format!("what {} says of its last run cannot be read: {}", store.name(), error.reason()),
            )
        })
    };
    let known = |said: Option<String>| runs.contains(&said.unwrap_or_default());
    Ok(known(says(left)?) && known(says(right)?))
}

/// The job's policies, or the person's word for what is being settled.
fn policies(job: &Job, settling: Option<&Settling>) -> Outcome<Policies> {
    let conflicts = match settling {
        Some(settling) => Conflicts { by_path: Vec::new(), otherwise: settling.policy },
        None => job.rules.conflict.clone(),
    };
    Policies::new(&conflicts).map_err(|error| Failure::usage(error.to_string()))
}

fn scan(
    desk: &Desk,
    job: &Job,
    (left, right): (&Arc<dyn Store>, &Arc<dyn Store>),
    how: How<'_>,
    settling: Option<&Settling>,
) -> Outcome<TwoWayPlan> {
    let (left, right) = (left.as_ref(), right.as_ref());
    let found = ask(desk, job, (left, right), how, settling, |input| {
        watched(desk, &job.name, |progress| scan_two_way(input, progress))
    })?;
    found.map_err(|error| failed_scan(error, left, right))
}

/// Decides one path as a run would.
///
/// # Errors
/// When a side or the record cannot be looked at.
pub fn decide(
    desk: &Desk,
    job: &Job,
    (left, right): (&dyn Store, &dyn Store),
    path: &RelPath,
    found: (Option<&Meta>, Option<&Meta>),
) -> Outcome<Decided> {
    let place = job.to.first().map(String::as_str).unwrap_or_default();
    let corrupted = desk.home.record()?.corrupted(&job.name, place)?;
    let ended = BTreeMap::new();
    let how = How {
        moves: Moves::Unproved,
        corrupted: &corrupted,
        ended: &ended,
        scope: &Scope::Everything,
        observer: None,
    };
    let decided =
        ask(desk, job, (left, right), how, None, |input| decide_one(input, &desk.stop, path, found))?;
    decided.map_err(|error| failed_scan(error, left, right))
}

fn failed_scan(error: ScanError, left: &dyn Store, right: &dyn Store) -> Failure {
    let word = |side: Side| if side == Side::Left { "left side" } else { "right side" };
    scan_failure(error, word, left, right)
}

/// Puts together what a scan needs, and asks with it.
fn ask<T>(
    desk: &Desk,
    job: &Job,
    (left, right): (&dyn Store, &dyn Store),
    How { moves, corrupted, ended, scope, observer }: How<'_>,
    settling: Option<&Settling>,
    question: impl FnOnce(&TwoWayInput<'_>) -> T,
) -> Outcome<T> {
    let memory = Memory::of(desk, job, left, right)?;
    let policies = policies(job, settling)?;
    let filter = match settling {
        Some(settling) => {
            Filter::for_paths(settling.paths.clone()).map_err(|error| Failure::usage(error.to_string()))?
        }
        None => job.filter(desk.now())?,
    };
    let recall = |folder: &RelPath| {
        let remembered = memory.folder(folder).map_err(MemoryError::from)?;
        Ok(match settling {
            Some(settling) => settling.without_own(folder, remembered),
            None => remembered,
        })
    };
    let outgoing = desk.home.record()?.outgoing(&job.name)?;
    // A part of the trees will do only where all the rest is known to be as both agreed, and is called the same at both.
    let folding = left.capabilities().folding.or(right.capabilities().folding).is_any();
    let scope = match memory.is_there() && outgoing.is_empty() && !folding {
        true => scope,
        false => &Scope::Everything,
    };
    let input = TwoWayInput {
        left,
        right,
        filter: &filter,
        baseline: &recall,
        now: desk.now(),
        outgoing: &outgoing,
        ended,
        by: comparison(desk, job, left.capabilities(), right.capabilities()),
        preserve: job.rules.preserve,
        removals: job.rules.removals,
        policies: &policies,
        one_filesystem: job.rules.one_filesystem,
        moves,
        zone: &desk.world.zone,
        corrupted: Corruption {
            known: corrupted,
            mend: if settling.is_some() { &[] } else { &[Some(Side::Left), Some(Side::Right)] },
        },
        scope,
        observer,
    };
    Ok(question(&input))
}

/// The parts of a run in their order: what makes room first, then each direction.
fn destinations(
    found: &TwoWayPlan,
    (left, left_place): (&Arc<dyn Store>, &Located),
    (right, right_place, to_be_made): (&Arc<dyn Store>, &Located, bool),
) -> Vec<DestinationPlan> {
    let destination = |plan: &Plan| {
        let to_right = plan.changes == Side::Right;
        let (read, changed, place) =
            if to_right { (left, right, right_place) } else { (right, left, left_place) };
        let facts = facts(plan, read.as_ref(), changed.as_ref(), Vec::new());
        DestinationPlan {
            reads: read.clone(),
            to: place.clone(),
            writes: changed.clone(),
            to_be_made: to_be_made && to_right,
            made: false,
            // Both sides are locked and marked together.
            ours: false,
            facts,
            plan: plan.clone(),
        }
    };
    let aside = found.aside.iter().filter(|plan| !plan.folders.is_empty());
    aside.chain([&found.to_right, &found.to_left]).map(destination).collect()
}

/// Writes down, at both sides, which other store they are kept alike with.
fn write_partners((left, right): (&dyn Store, &dyn Store), run: &str) -> Result<(), StoreError> {
    let ours = identity::name_among_partners(left, &format!("{run}-left"))?;
    let theirs = identity::name_among_partners(right, &format!("{run}-right"))?;
    identity::set_partner(left, &theirs)?;
    identity::set_partner(right, &ours)
}

/// Remembers what both sides agree on, after everything that was done, and what it was done from, is durable at both: a side
/// that was only read may still lose what its owner saved a moment ago.
///
/// # Errors
/// When a side cannot be made durable or looked at, or the record fails.
pub fn remember(
    desk: &Desk,
    job: &Job,
    both: &Both,
    marks: (&str, &str),
    (run, deeds): (&str, &Deeds),
) -> Outcome<()> {
    if job.name == ONCE {
        return Ok(());
    }
    let (left, right) = (both.left.as_ref(), both.right.as_ref());
    let by = comparison(desk, job, left.capabilities(), right.capabilities());
    let stopped = |error: StoreError| Failure {
        halt: Halt::Stopped,
        cause: Cause::Store(error.kind),
        message: format!("what was done cannot be looked at: {error}"),
        hint: "What was done is whole. Run again; the job goes on where it stopped.".to_owned(),
    };
    if !both.news.is_empty() {
        left.sync().and_then(|()| right.sync()).map_err(stopped)?;
    }
    let updates = learn(&both.news, (left, right), &by, deeds).map_err(stopped)?;
    let mut record = desk.home.record()?;
    let changed = !updates.is_empty();
    if changed {
        for store in [left, right] {
            identity::set_last_run(store, marks, run).map_err(stopped)?;
        }
        write_partners((left, right), run).map_err(stopped)?;
        if neighbours::is_in_circle(desk, job, (left, right))? {
            let now = desk.now().seconds().saturating_mul(1000);
            let ended = baseline::ended(&both.news, &updates);
            record.add_ended(&job.name, &ended, now, now.saturating_sub(neighbours::ROUND_MS))?;
        }
    }
    record.set_baseline(&job.name, marks, changed.then_some(run), &updates)?;
    Ok(())
}
