//! Carrying out what was cleared: its lock and its row in the record, the engine and its listener, verification, kept copies
//! that have had their time, and what came of it all.

mod beginning;
pub mod claim;
mod log;
mod remembering;
pub(crate) mod result;
pub mod retention;

pub(crate) use self::claim::JobLock;
pub use self::claim::is_running;
pub use crate::run::result::{RunResult, Sort, finished};

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError};
use reedhook_core::baseline::{Deeds, Outgoing};
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::identity;
use reedhook_core::job::{Kind, Verify};
use reedhook_core::memory::Checksum;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::Counts;
use reedhook_core::problem::Problem;
use reedhook_core::run::{Ended, Event as Deed, Item, RunInput, RunReport, execute, tidy};
use reedhook_core::store::{Store, StoreError};
use reedhook_record::{Outcome as RunOutcome, ProblemGroup, RecordError, Room, RunPlace};

use self::claim::lock_destination;
use self::log::RunLog;
use self::retention::{owner, prune};
use crate::both::Both;
use crate::clear::ApprovedRun;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Halt, Outcome};
use crate::inventory::upkeep::Shelf;
use crate::jobfile::job::{Job, ONCE};
use crate::lines::Began;
use crate::observer::Event;
use crate::places::Located;
use crate::preview::{DestinationPlan, Preview};
use crate::run::beginning::{run_name, throttle, unkept, was_cut_short};
use crate::run::result::Sum;
use crate::tally::Tally;
use crate::{logs, two_way};

/// A run that has begun: it is in the record, and its log is open.
pub(crate) struct Run<'a> {
    desk: &'a Desk,
    job: String,
    name: String,
    id: i64,
    /// Its number among the job's runs.
    number: i64,
    started: Instant,
    /// How long people had been waited for when it began.
    waited: Duration,
    log: RunLog,
    /// How long the job keeps copies: as long, its logs are needed to undo its runs.
    keep_for: Duration,
    groups: BTreeMap<String, ProblemGroup>,
    /// What the files that were read back hold, until it is remembered.
    checksums: Vec<(RelPath, Checksum)>,
    /// What a two-way run did.
    deeds: Deeds,
    /// Whose run it is, for the kept copies.
    owner: String,
    /// Paths with problems, where something known to be rotten may have to stay known.
    troubled: BTreeSet<RelPath>,
    /// The inventory that hears of what is done.
    shelf: Option<Shelf>,
    /// How much room there is where it has written.
    rooms: Vec<Room>,
    sort: Sort,
    two_way: bool,
    /// The run before it was cut short, and may have left unfinished files.
    after_cut_short: bool,
    _lock: JobLock,
}

impl<'a> Run<'a> {
    /// Takes the job's lock, unless it is held already, and notes that a run begins.
    pub(crate) fn begin(desk: &'a Desk, job: &Job, sort: Sort, lock: Option<JobLock>) -> Outcome<Run<'a>> {
        let lock = lock.map_or_else(|| JobLock::take(&desk.home, &job.name), Ok)?;
        let now = desk.now_ms();
        let name = run_name(now, &desk.world.zone);
        let keys = if job.name == ONCE { job.keys.to_toml()? } else { String::new() };
        let mut record = desk.home.record()?;
        let after_cut_short = job.name != ONCE && was_cut_short(record.as_ref(), &job.name)?;
        let id = record.begin_run(&job.name, &name, now, &keys)?;
        let number = record.find_run(&job.name, &name)?.map_or(0, |row| row.number);
        let log_file = desk.home.run_log(&job.name, &name);
        let began = Began {
            job: job.name.clone(),
            run: name.clone(),
            number,
            started_ms: now,
            sort: sort.as_str(),
            keys,
        };
        Ok(Run {
            desk,
            owner: owner(&job.name),
            job: job.name.clone(),
            name,
            id,
            number,
            started: Instant::now(),
            waited: desk.waited(),
            log: RunLog::new(log_file, began),
            keep_for: job.rules.keep_for.duration(),
            groups: BTreeMap::new(),
            checksums: Vec::new(),
            deeds: Deeds::default(),
            troubled: BTreeSet::new(),
            shelf: None,
            rooms: Vec::new(),
            sort,
            two_way: false,
            after_cut_short,
            _lock: lock,
        })
    }

    /// Carries out what was cleared, destination by destination; gives it back, for whoever tells of it.
    pub(crate) fn carry_out(mut self, approved: ApprovedRun) -> (Preview, RunResult) {
        if approved.preview().job.name != self.job {
            let message = format!("what was cleared is no run of {}; this is a fault in Reedhook", self.job);
            let preview = approved.unused();
            return (preview, self.refuse(Failure::refused(Cause::Internal, message)));
        }
        let (preview, begun) = approved.begin(self.desk);
        self.two_way = preview.both.is_some();
        let mut sum = Sum::default();
        if let Err(failure) = begun.and_then(|()| self.carry_out_destinations(&preview, &mut sum)) {
            // Refused means before any change; after a destination has been changed it is a stop on the way.
            sum.failure = Some(if sum.begun { failure.on_the_way() } else { failure.before_the_run() });
        }
        self.note_rooms(&preview);
        let outcome = sum.outcome();
        let Sum { counts, failure, folders, unfinished, .. } = sum;
        let result = RunResult { unfinished, ..self.end(outcome, failure, counts, folders) };
        (preview, result)
    }

    fn carry_out_destinations(&mut self, preview: &Preview, sum: &mut Sum) -> Outcome<()> {
        let claimed = preview.both.as_ref().map(|both| self.claim_both(preview, both)).transpose()?;
        if preview.both.is_some() && self.job != ONCE {
            // Before the first of it: what is missing because of us must never be taken for a person's removal.
            let outgoing = Outgoing::of(preview.destinations.iter().map(|destination| &destination.plan));
            let mut record = self.desk.home.record()?;
            record.add_outgoing(&self.job, &outgoing)?;
            record.set_next_run(&self.job, &self.name)?;
        } else if self.sort == Sort::Job && self.job != ONCE {
            // A job that is of another kind now changes its sides without what it once remembered as a two-way one.
            self.desk.home.record()?.forget_baseline(&self.job)?;
        }
        self.note_fresh(preview)?;
        for destination in &preview.destinations {
            let report = self.carry_out_destination(preview, destination)?;
            sum.add(&report);
            match report.ended {
                Ended::Done => {}
                Ended::Interrupted => {
                    sum.interrupted = true;
                    break;
                }
                Ended::Lost(side, error) => return Err(lost(side, destination, &error)),
            }
        }
        if let (Some(claimed), Some(both)) = (&claimed, &preview.both) {
            let marks = (claimed.marks.0.as_str(), claimed.marks.1.as_str());
            let done = (self.name.as_str(), &self.deeds);
            let remembered = two_way::remember(self.desk, &preview.job, both, marks, done);
            self.prune_both(preview, both);
            remembered.map_err(Failure::on_the_way)?;
            if preview.job.rules.verify == Verify::All && !sum.interrupted {
                sum.interrupted = self.verify_both(preview, &mut sum.counts).map_err(Failure::on_the_way)?;
            }
        }
        drop(claimed);
        match sum.interrupted {
            true => Ok(()),
            false => self.remember_what_went_well(preview).map_err(Failure::on_the_way),
        }
    }

    /// Notes a store that the run is about to change.
    pub(crate) fn add_place(&mut self, place: RunPlace) -> Outcome<()> {
        self.desk.home.record()?.add_run_place(self.id, &place)?;
        self.log.add_place(place);
        Ok(())
    }

    /// Notes that a run was refused before any change.
    pub(crate) fn refuse(self, failure: Failure) -> RunResult {
        let failure = failure.before_the_run();
        let outcome =
            if failure.halt == Halt::Interrupted { RunOutcome::Interrupted } else { RunOutcome::Refused };
        self.end(outcome, Some(failure), Counts::default(), (0, 0))
    }

    fn carry_out_destination(
        &mut self,
        preview: &Preview,
        destination: &DestinationPlan,
    ) -> Outcome<RunReport> {
        let nothing = destination.plan.folders.is_empty()
            && destination.plan.leftovers.is_empty()
            && destination.plan.problems.is_empty();
        if nothing && !destination.made && !self.after_cut_short && preview.job.rules.verify != Verify::All {
            let counts = destination.plan.counts();
            return Ok(RunReport::nothing(counts));
        }
        let right = destination.writes.clone();
        let lock =
            if destination.ours { Some(self.claim(right.as_ref(), destination, preview)?) } else { None };
        self.note_place(destination, right.as_ref())?;
        self.log.open()?;
        let planned = Tally::of(&destination.plan);
        self.log.plan(
            planned.files_total,
            planned.bytes_total,
            unkept(&destination.plan.counts(), &preview.job.rules),
        );
        let (sender, receiver) = crossbeam_channel::bounded(64);
        let run = Name::new(self.name.as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
        let (desk, owner) = (self.desk, self.owner.clone());
        let to = preview.to_key(destination);
        desk.tell(&Event::Begins(&destination.plan));
        let pruned_at = right.clone();
        self.shelf = Shelf::of(desk, &preview.job, &destination.to);
        let report = std::thread::scope(|scope| {
            let rules = &preview.job.rules;
            let worker = scope.spawn(move || {
                let input = RunInput {
                    left: destination.reads.as_ref(),
                    right: right.as_ref(),
                    removed: rules.removed,
                    replaced: rules.replaced,
                    verify: rules.verify,
                    preserve: rules.preserve,
                    run,
                    owner: &owner,
                    resume: destination.ours || preview.both.is_some(),
                    remembered: rules.kind == Kind::TwoWay,
                    limit: throttle(desk, preview),
                    events: &sender,
                    stop: &desk.stop,
                };
                execute(&destination.plan, &input)
            });
            self.listen(&receiver, to.as_deref());
            worker.join()
        });
        desk.tell(&Event::Ends);
        if let Some(shelf) = self.shelf.take() {
            shelf.close(desk);
        }
        let mut report = report.map_err(|_| Failure::our_mistake())?;
        if preview.job.rules.verify == Verify::All && destination.ours && matches!(report.ended, Ended::Done)
        {
            self.verify_all(preview, destination, &pruned_at, &mut report).map_err(Failure::on_the_way)?;
        }
        // What was done is done: old copies that cannot be erased now are only worth a word.
        if destination.ours && !desk.is_stopped() {
            prune(desk, &preview.job, pruned_at.as_ref(), Some(&self.name), None)
                .map_or_else(|failure| desk.note(failure), drop);
        }
        drop(lock);
        Ok(report)
    }

    /// Locks both sides of a two-way job and gives them marks, by which its memory recognises them.
    fn claim_both(&self, preview: &Preview, both: &Both) -> Outcome<Claimed> {
        let home = &self.desk.home;
        let places = preview.ends.from.iter().chain(&preview.ends.to);
        let mut claimed = Vec::new();
        for (store, place) in [&both.left, &both.right].into_iter().zip(places) {
            let lock = lock_destination(store.as_ref(), place, home)?;
            self.tidy(store.as_ref(), place, preview)?;
            let mark = if self.job == ONCE {
                String::new()
            } else {
                let mark = self.mark(store.as_ref(), place)?;
                home.record()?.set_mark(&self.job, &place.written, &mark)?;
                mark
            };
            claimed.push((lock, mark));
        }
        let mut claimed = claimed.into_iter();
        match (claimed.next(), claimed.next()) {
            (Some((left, left_mark)), Some((right, right_mark))) => {
                Ok(Claimed { _locks: [left, right], marks: (left_mark, right_mark) })
            }
            _ => Err(Failure::usage("a two-way job has one left and one right side")),
        }
    }

    fn prune_both(&self, preview: &Preview, both: &Both) {
        for store in [&both.left, &both.right].into_iter().filter(|_| !self.desk.is_stopped()) {
            prune(self.desk, &preview.job, store.as_ref(), Some(&self.name), None)
                .map_or_else(|failure| self.desk.note(failure), drop);
        }
    }

    pub(super) fn mark(&self, store: &dyn Store, place: &Located) -> Outcome<String> {
        identity::ensure(store, &self.name).map_err(|error| {
            Failure::refused(error.kind, format!("{} cannot be marked: {}", place.written, error.reason()))
        })
    }

    /// Locks a destination and gives it a mark, which the job remembers.
    fn claim(
        &self,
        right: &dyn Store,
        destination: &DestinationPlan,
        preview: &Preview,
    ) -> Outcome<Box<dyn Send + Sync>> {
        let lock = lock_destination(right, &destination.to, &self.desk.home)?;
        self.tidy(right, &destination.to, preview)?;
        if self.job != ONCE {
            let id = self.mark(right, &destination.to)?;
            self.desk.home.record()?.set_mark(&self.job, &destination.to.written, &id)?;
        }
        Ok(lock)
    }

    /// Clears what runs that were cut short have left where no walk looks. The store is locked.
    fn tidy(&self, store: &dyn Store, place: &Located, preview: &Preview) -> Outcome<()> {
        let gone = |error: StoreError| {
            let message = format!("{} went away", place.shown(&self.desk.home));
            Failure::refused(error.kind, message).hint("Connect it and run again.")
        };
        tidy::clear_own(store).map_err(gone)?;
        if self.after_cut_short {
            let names = preview.ends.landing_names()?;
            let filter = preview.job.filter(self.desk.now())?;
            let filter = if let Some(names) = names { filter.with_top_level(names) } else { filter };
            tidy::clear_out_of_sight(store, &filter, &self.desk.stop).map_err(gone)?;
        }
        Ok(())
    }

    /// Takes over what was done outside the engine, as if the engine had done it.
    pub(crate) fn note(&mut self, events: impl IntoIterator<Item = Deed>, to: Option<&str>) -> Outcome<()> {
        self.log.open()?;
        events.into_iter().for_each(|event| self.take(&event, to));
        Ok(())
    }

    /// Takes note of something that was done, and lets everybody hear it.
    fn take(&mut self, event: &Deed, to: Option<&str>) {
        match event {
            Deed::Item(item) => {
                if let Some(shelf) = &self.shelf {
                    shelf.did(item);
                }
                self.remember(item);
            }
            Deed::Problem(problem) => {
                self.group(problem);
                self.troubled.insert(problem.path.clone());
            }
            _ => {}
        }
        let line = self.log.add(event, to);
        self.desk.tell(&Event::Did { event, line });
    }

    /// Takes note of what a file holds that was read back.
    pub(super) fn remember(&mut self, item: &Item) {
        if self.two_way {
            self.deeds.take(item);
        } else if let Some(hash) = item.hash {
            let modified = item.now.modified.map(Stamp::to_text).unwrap_or_default();
            self.checksums.push((
                item.path.clone(),
                Checksum { size: item.size, modified, hash, looked: Some(self.desk.now()) },
            ));
        }
    }

    /// The run's name.
    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    /// Reads the engine's events until it is done: the log, the problem groups and whoever listens each take what they need.
    fn listen(&mut self, events: &Receiver<Vec<Deed>>, to: Option<&str>) {
        let tick = Duration::from_millis(100);
        loop {
            match events.recv_timeout(tick) {
                Ok(events) => events.iter().for_each(|event| self.take(event, to)),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
            self.log.flush_now_and_then();
            self.desk.tell(&Event::Tick);
        }
    }

    fn group(&mut self, problem: &Problem) {
        let code = problem.code.as_str();
        let group = self.groups.entry(code.to_owned()).or_insert_with(|| ProblemGroup {
            code: code.to_owned(),
            count: 0,
            path: problem.path.as_bytes().to_vec(),
            message: problem.message.clone(),
        });
        group.count += 1;
    }

    /// Ends a run, writing down what came of it.
    pub(crate) fn end(
        mut self,
        outcome: RunOutcome,
        failure: Option<Failure>,
        counts: Counts,
        (folders_made, folders_removed): (u64, u64),
    ) -> RunResult {
        let elapsed = self.started.elapsed().saturating_sub(self.desk.waited().saturating_sub(self.waited));
        let mut problems: Vec<ProblemGroup> = std::mem::take(&mut self.groups).into_values().collect();
        problems.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.code.cmp(&b.code)));
        let mut result = RunResult {
            sort: self.sort,
            run: self.name.clone(),
            number: self.number,
            outcome,
            failure,
            counts,
            folders_made,
            folders_removed,
            unfinished: 0,
            problems,
            elapsed,
        };
        self.close_log(&result);
        if let Err(failure) = self.write_down(&result) {
            let message = format!("what was done is whole, but could not be remembered: {}", failure.message);
            let failure = Failure { message, ..failure.on_the_way() };
            result.outcome = RunOutcome::Stopped;
            result.failure.get_or_insert(failure);
        }
        if self.log.is_written() {
            logs::clear_old(self.desk, &self.job, self.keep_for);
        }
        result
    }

    fn close_log(&mut self, result: &RunResult) {
        self.log.close(&finished(&self.job, result));
        if let Some(why) = self.log.lost() {
            self.desk.note(format!(
                "the log of this run could not be written whole ({why}): the history has its numbers, but it cannot be undone"
            ));
        }
    }

    /// Writes down in the record how the run ended.
    fn write_down(&mut self, result: &RunResult) -> Outcome<()> {
        let mut end = result.as_end();
        end.log_whole = self.log.lost().is_none();
        let state_file = self.desk.home.state_file();
        let named = |error: RecordError| Failure::from(error).about_state_file(&state_file);
        let mut record = self.desk.home.record()?;
        record.set_checksums(&self.job, &std::mem::take(&mut self.checksums)).map_err(named)?;
        record.end_run(self.id, &end, &result.problems, &self.rooms).map_err(named)
    }
}

/// Both sides of a two-way job, reserved for this run.
struct Claimed {
    _locks: [Box<dyn Send + Sync>; 2],
    marks: (String, String),
}

fn lost(side: Side, destination: &DestinationPlan, error: &StoreError) -> Failure {
    let store = match side {
        Side::Left => destination.reads.name(),
        Side::Right => destination.to.written.clone(),
    };
    Failure::stopped(error.kind, format!("{store} went away while the job was running"))
        .hint("What was done is whole. Connect it and run again; the job goes on where it stopped.")
}
