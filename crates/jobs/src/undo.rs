//! Undoing a run: what it changed, by its log, is put back as it was before it.

use std::sync::atomic::AtomicBool;

use reedhook_core::entry::Side;
use reedhook_core::job::Kind;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::Counts;
use reedhook_core::problem::{Code, Problem};
use reedhook_core::run::kept::kept_files;
use reedhook_core::run::undo::{Past, Undone, undo as undo_run};
use reedhook_core::run::{Done, Event, Gone, Item};
use reedhook_record::{Outcome as RunOutcome, RunPlace, RunRow};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::inventory::upkeep::Shelf;
use crate::jobfile::files::known_job;
use crate::jobfile::job::{Job, ONCE};
use crate::logline::LogLine;
use crate::open::open_destination;
use crate::places::{Located, locate};
use crate::restore::Holder;
use crate::run::claim::lock_destination;
use crate::run::result::{RunResult, Sort};
use crate::run::retention::owner;
use crate::run::{JobLock, Run};
use crate::run_job::{Origin, Surroundings, Travel};
use crate::{logs, recognise};

/// A run that is about to be undone. Its job is reserved from the first look on: the log of a run in progress tells half of it.
pub struct Undoing {
    job: Job,
    row: RunRow,
    lock: JobLock,
    places: Vec<RunPlace>,
    sides: Vec<Holder>,
    pasts: Vec<Past>,
    /// What it may have done and its log does not tell of.
    untold: Untold,
}

impl Undoing {
    /// Looks at what a run changed, and whether it can be put back.
    ///
    /// # Errors
    /// When a store that it changed is not there, or its log does not tell all of it.
    pub fn look(desk: &Desk, row: RunRow) -> Outcome<Undoing> {
        let job = known_job(&desk.home, &row.job, Some(&row.run))?;
        let lock = JobLock::take(&desk.home, &row.job)?;
        let places = desk.home.record()?.run_places(row.id)?;
        let sides =
            places.iter().map(|place| changed_store(desk, &job, place)).collect::<Outcome<Vec<_>>>()?;
        let pasts = places.iter().map(|place| read_past(desk, &row, place)).collect::<Outcome<Vec<_>>>()?;
        let untold = if places.is_empty() { Untold::Nothing } else { untold(desk, &row)? };
        let undoing = Undoing { job, row, lock, places, sides, pasts, untold };
        if !undoing.changed_nothing() {
            refuse_incomplete_log(desk, &undoing.row)?;
        } else if undoing.places.is_empty() && undoing.row.end.counts.changed() > 0 {
            let (number, name) = (undoing.row.number, &undoing.row.job);
            let words = format!("which stores run {number} of {name} changed was not remembered");
            return Err(Failure::refused(Cause::StoreUnknown, words)
                .hint("Bring things back by hand: reedhook kept list, kept restore."));
        }
        Ok(undoing)
    }

    /// The run.
    pub fn row(&self) -> &RunRow {
        &self.row
    }

    /// The job that it was a run of.
    pub fn job(&self) -> &Job {
        &self.job
    }

    /// Whether the run left everything as it was.
    pub fn changed_nothing(&self) -> bool {
        let kept_something = |(side, past): (&Holder, &Past)| {
            let run = past.run.as_ref();
            run.is_some_and(|run| {
                kept_files(side.store.as_ref(), run, &AtomicBool::new(false))
                    .is_ok_and(|kept| !kept.is_empty())
            })
        };
        let did_something = |past: &Past| !past.items.is_empty() || !past.folders.is_empty();
        matches!(self.untold, Untold::Nothing)
            && !self.pasts.iter().any(did_something)
            && !self.sides.iter().zip(&self.pasts).any(kept_something)
    }

    /// Puts it back. This is a run of the job itself, and can be undone.
    ///
    /// # Errors
    /// When it could not begin.
    pub fn carry_out(self, desk: &Desk, surroundings: &Surroundings) -> Outcome<RunResult> {
        let Undoing { job, lock, places, sides, pasts, untold, .. } = self;
        let travel = Travel { job: &job, sort: Sort::Undo, origin: Origin::Asked };
        let changed = Changed { job: &job, places, sides, pasts, untold };
        let ended =
            travel.along(desk, surroundings, Some(lock), |run| (None::<()>, changed.put_back(desk, run)))?;
        Ok(ended.1)
    }
}

/// What a run changed, where.
struct Changed<'a> {
    job: &'a Job,
    places: Vec<RunPlace>,
    sides: Vec<Holder>,
    pasts: Vec<Past>,
    untold: Untold,
}

impl Changed<'_> {
    fn put_back(self, desk: &Desk, mut run: Run<'_>) -> RunResult {
        let done = match self.put_back_everywhere(desk, &mut run) {
            Ok(done) => done,
            Err(failure) => return run.refuse(failure),
        };
        let (mut counts, folders) = undone_counts(&done);
        counts.problems += u64::from(!matches!(self.untold, Untold::Nothing));
        match self.write_down(desk, &mut run, done) {
            Ok(()) if counts.problems > 0 => run.end(RunOutcome::Problems, None, counts, folders),
            Ok(()) => run.end(RunOutcome::Done, None, counts, folders),
            Err(failure) => run.end(RunOutcome::Stopped, Some(failure.on_the_way()), counts, folders),
        }
    }

    fn put_back_everywhere(&self, desk: &Desk, run: &mut Run<'_>) -> Outcome<Vec<Undone>> {
        let Changed { job, places, sides, pasts, .. } = self;
        let own = Name::new(run.name().as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
        let mut locks = Vec::new();
        for (Holder { place, store, .. }, past) in sides.iter().zip(places) {
            // Where a person restored to stays their own: no lock is left there.
            if !past.mark.is_empty() {
                locks.push(lock_destination(store.as_ref(), place, &desk.home)?);
            }
            run.add_place(past.clone())?;
        }
        if job.rules.kind == Kind::TwoWay && job.name != ONCE {
            // First of all: were the undoing remembered as a removal, the next run would carry it to the other side.
            desk.home.record()?.forget_names(&job.name, &worked_on(pasts))?;
        }
        let owner = owner(&job.name);
        let undo_one = |(Holder { store, .. }, past): (&Holder, &Past)| {
            undo_run(store.as_ref(), past, (&own, &owner)).map_err(|error| {
                Failure::stopped(error.kind, format!("the undo stopped on the way: {error}"))
                    .hint("What was done is whole; undo the same run again.")
            })
        };
        sides.iter().zip(pasts).map(undo_one).collect()
    }

    /// Writes down what was done: by that, the undo can be undone.
    fn write_down(&self, desk: &Desk, run: &mut Run<'_>, done: Vec<Undone>) -> Outcome<()> {
        let several = self.sides.len() > 1 && self.job.rules.kind != Kind::TwoWay;
        for (at, one) in done.into_iter().enumerate() {
            let side = self.sides[at].side;
            let events = one.items.iter().cloned().map(Event::Item);
            let folder_events = one.folders.into_iter().map(|(path, was)| Event::Folder { side, path, was });
            let problems = one.problems.into_iter().map(Event::Problem);
            let to = several.then(|| self.places[at].place.as_str());
            run.note(events.chain(folder_events).chain(problems), to)?;
            // Only now: an inventory that is being written is waited for.
            tell_inventory(desk, self.job, &self.sides[at].place, &one.items);
        }
        let Some(message) = self.untold.sentence() else { return Ok(()) };
        let side = self.sides.first().map_or(Side::Right, |holder| holder.side);
        run.note([Event::Problem(Problem::new(Code::Untold, side, RelPath::root(), message))], None)
    }
}

/// What was put back is told to the inventory of the store.
fn tell_inventory(desk: &Desk, job: &Job, place: &Located, items: &[Item]) {
    if let Some(shelf) = Shelf::of(desk, job, place) {
        items.iter().for_each(|item| shelf.did(item));
        shelf.close(desk);
    }
}

/// A log that lacks something cannot say what the run did, and one that has been cleared away says nothing.
fn refuse_incomplete_log(desk: &Desk, row: &RunRow) -> Outcome<()> {
    let approved = row.end.counts.changed() > 0 && !desk.home.run_log(&row.job, &row.run).exists();
    let why = match row.end.log_whole {
        true if !approved => return Ok(()),
        true => "is no longer kept",
        false => "could not be written whole",
    };
    Err(incomplete_log(row, why))
}

fn incomplete_log(row: &RunRow, why: &str) -> Failure {
    Failure::refused(Cause::LogIncomplete, format!("the log of run {} of {} {why}", row.number, row.job))
        .hint("Bring things back by hand: reedhook kept list, kept restore.")
}

/// Opens a store that a run changed; anything else that is there now is refused.
fn changed_store(desk: &Desk, job: &Job, past: &RunPlace) -> Outcome<Holder> {
    let place = locate(&desk.home, &desk.settings, &past.place)?;
    let missing =
        || Failure::refused(Cause::StoreMissing, format!("{} is not there", place.shown(&desk.home)));
    let store = open_destination(desk, &place, OpenOptions::of(job))?.ok_or_else(missing)?;
    recognise::refuse_another_store(desk, past, &place, store.as_ref())?;
    Ok(Holder { side: past.side, place, store, part: None })
}

/// What a run that was cut short may have done without that anything tells of it.
enum Untold {
    /// Everything is told.
    Nothing,
    /// So many steps at most.
    UpTo(u64),
    /// Not even what it set out to do was written down.
    Unknown,
}

impl Untold {
    fn sentence(&self) -> Option<String> {
        match self {
            Untold::Nothing => None,
            Untold::UpTo(steps) => Some(format!(
                "the run was cut short, and its log ends before it did: up to {steps} files that it may have put, moved or adjusted are not told of, and stay as they are"
            )),
            Untold::Unknown => Some(
                "the run was cut short and its log is missing: files that it may have put, moved or adjusted are not told of, and stay as they are".to_owned(),
            ),
        }
    }
}

/// Whether nothing among the kept copies tells of what was done.
fn leaves_nothing_kept(item: &Item) -> bool {
    match item.done {
        Done::Added | Done::Revived | Done::Moved | Done::Metadata => true,
        Done::Updated | Done::Removed => item.gone != Gone::Kept,
        Done::Left | Done::FolderMade | Done::FolderRemoved => false,
    }
}

/// How much a run that was cut short may have done without that its log tells of it: what it set out to do, less what it tells of. What it
/// kept tells of itself.
fn untold(desk: &Desk, row: &RunRow) -> Outcome<Untold> {
    let (mut planned, mut done, mut finished) = (None, 0, false);
    logs::read(&desk.home.run_log(&row.job, &row.run), |_, line| match line {
        LogLine::Planned { files, unkept, .. } => {
            planned = Some(planned.unwrap_or(0) + unkept.unwrap_or(files));
        }
        LogLine::Did { item, .. } if leaves_nothing_kept(&item) => done += item.items.unwrap_or(1),
        LogLine::Problem { .. } => done += 1,
        LogLine::Finished { .. } => finished = true,
        _ => {}
    })?;
    match planned {
        _ if finished => Ok(Untold::Nothing),
        Some(planned) if planned > done => Ok(Untold::UpTo(planned - done)),
        None if row.end.outcome == RunOutcome::Unfinished => Ok(Untold::Unknown),
        _ => Ok(Untold::Nothing),
    }
}

fn read_past(desk: &Desk, row: &RunRow, place: &RunPlace) -> Outcome<Past> {
    let mut past = Past::at(place.side, Name::new(row.run.as_bytes()).ok());
    let log = desk.home.run_log(&row.job, &row.run);
    let garbled = logs::read(&log, |_, line| line.add_to(&mut past, place.side, &place.place))?;
    if garbled > 0 {
        return Err(incomplete_log(row, "cannot be read whole"));
    }
    past.items.retain(|item| item.done != Done::Left);
    Ok(past)
}

/// Every path that a run worked on, where it was before and where it was put.
fn worked_on(pasts: &[Past]) -> Vec<RelPath> {
    let items = pasts.iter().flat_map(|past| &past.items);
    items.flat_map(|item| [Some(item.path.clone()), item.moved_from.clone()]).flatten().collect()
}

fn undone_counts(done: &[Undone]) -> (Counts, (u64, u64)) {
    let mut counts = Counts {
        problems: done.iter().map(|one| one.problems.len() as u64).sum(),
        same: done.iter().map(|one| one.as_before).sum(),
        ..Counts::default()
    };
    let items = || done.iter().flat_map(|one| &one.items);
    items().for_each(|item| item.count_in(&mut counts));
    let folders = |what: Done| items().filter(|item| item.done == what).count() as u64;
    (counts, (folders(Done::FolderMade), folders(Done::FolderRemoved)))
}
