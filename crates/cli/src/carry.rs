//! Carrying a scanned job out: its lock and its row in the record, the engine and its listener, verification, kept copies
//! that have had their time, and what came of it all.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use crossbeam_channel::Receiver;
use reedhook_core::baseline::{Deeds, Removing};
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::identity;
use reedhook_core::job::{Kind, Verify};
use reedhook_core::limit::Throttle;
use reedhook_core::memory::Checksum;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::Counts;
use reedhook_core::problem::{Code, Problem};
use reedhook_core::run::kept::{self, Amount, KeptRun};
use reedhook_core::run::{Ended, Event, Item, RunInput, RunReport, execute, tidy};
use reedhook_core::store::{FaultKind, Store, StoreError};
use reedhook_record::{Outcome as RunOutcome, ProblemGroup, Record, RecordError, RunEnd, RunPlace};
use serde_json::json;

use crate::clock;
use crate::context::Context;
use crate::failure::{Failure, Outcome, STOPPED};
use crate::held::Manner;
use crate::home::{Home, closed, make_folder};
use crate::jobfile::{Job, ONCE};
use crate::json;
use crate::logs;
use crate::output::JSON_VERSION;
use crate::places::{self, Located};
use crate::progress::View;
use crate::recognise;
use crate::round::{Leg, Round};
use crate::two_way::{self, Both};

/// What a whole run came to.
pub struct RunResult {
    /// Its name.
    pub run: String,
    /// Its number among the job's runs.
    pub number: i64,
    /// How it ended.
    pub outcome: RunOutcome,
    /// Why, when it did not end well.
    pub failure: Option<Failure>,
    /// The numbers.
    pub counts: Counts,
    /// Folders made.
    pub folders_made: u64,
    /// Folders removed.
    pub folders_removed: u64,
    /// Bytes of large files that were cut short.
    pub unfinished: u64,
    /// Problems by cause, the largest group first.
    pub problems: Vec<ProblemGroup>,
    /// The time since the scan began.
    pub elapsed: Duration,
}

/// What the legs of a run have come to so far.
#[derive(Default)]
struct Tally {
    counts: Counts,
    /// Folders made and removed.
    folders: (u64, u64),
    unfinished: u64,
    /// Something has been changed.
    begun: bool,
    interrupted: bool,
    failure: Option<Failure>,
}

impl Tally {
    fn add(&mut self, report: &RunReport) {
        self.counts.add(&report.counts);
        self.folders.0 += report.folders_made;
        self.folders.1 += report.folders_removed;
        self.unfinished += report.unfinished;
        self.begun |= self.counts.changes() + self.folders.0 + self.folders.1 > 0;
    }

    fn outcome(&self) -> RunOutcome {
        match &self.failure {
            Some(failure) if failure.exit == STOPPED => RunOutcome::Stopped,
            Some(_) => RunOutcome::Refused,
            None if self.interrupted => RunOutcome::Interrupted,
            None if self.counts.problems > 0 => RunOutcome::Problems,
            None if self.counts.conflicts > 0 => RunOutcome::Held,
            None => RunOutcome::Done,
        }
    }
}

/// A run that has begun: it is in the record, and its log is open.
pub struct Run<'a> {
    context: &'a Context,
    job: String,
    name: String,
    id: i64,
    /// Its number among the job's runs.
    number: i64,
    /// When it began, in milliseconds since 1970.
    began_ms: i64,
    /// What a run without a job was told.
    keys: String,
    started: Instant,
    /// How long people had been waited for when it began.
    waited: Duration,
    log: Option<BufWriter<File>>,
    /// Something has been written to the log.
    logged: bool,
    /// How long the job keeps copies: as long, its logs are needed to undo its runs.
    keep_for: Duration,
    /// Why the log lacks something.
    log_lost: Option<String>,
    /// What is to stand in the log when it is opened.
    places: Vec<RunPlace>,
    /// The line in hand: one buffer for all of them.
    line: Vec<u8>,
    groups: BTreeMap<String, ProblemGroup>,
    /// What the files that were read back hold, until it is remembered.
    checksums: Vec<(RelPath, Checksum)>,
    /// What a two-way run did.
    deeds: Deeds,
    /// Whose run it is, for the kept copies.
    owner: String,
    /// Paths with problems, where something known to be rotten may have to stay known.
    troubled: BTreeSet<RelPath>,
    flushed: Instant,
    /// What sort of run it is, when it is not the job's usual one: `restore`, `undo`, `reverse`.
    special: &'static str,
    two_way: bool,
    /// The run before it was cut short, and may have left unfinished files.
    after_cut_short: bool,
    _lock: JobLock,
}

impl<'a> Run<'a> {
    /// Takes the job's lock and notes that a run begins.
    pub fn begin(context: &'a Context, job: &Job) -> Outcome<Run<'a>> {
        Run::begin_locked(context, job, JobLock::take(&context.home, &job.name)?)
    }

    /// Notes that a run begins of a job whose lock is held.
    pub fn begin_locked(context: &'a Context, job: &Job, lock: JobLock) -> Outcome<Run<'a>> {
        let now = clock::now_ms();
        let name = run_name(now);
        let keys = if job.name == ONCE { job.keys.to_toml()? } else { String::new() };
        let mut record = context.home.record()?;
        let after_cut_short = job.name != ONCE && was_cut_short(record.as_ref(), &job.name)?;
        let id = record.begin_run(&job.name, &name, now, &keys)?;
        let number = record.find_run(&job.name, &name)?.map_or(0, |row| row.number);
        Ok(Run {
            context,
            owner: owner(&job.name),
            job: job.name.clone(),
            name,
            id,
            number,
            began_ms: now,
            keys,
            started: Instant::now(),
            waited: crate::ask::waited(),
            log: None,
            logged: false,
            keep_for: job.rules.keep_for.duration(),
            log_lost: None,
            places: Vec::new(),
            line: Vec::new(),
            groups: BTreeMap::new(),
            checksums: Vec::new(),
            deeds: Deeds::default(),
            troubled: BTreeSet::new(),
            flushed: Instant::now(),
            special: "",
            two_way: false,
            after_cut_short,
            _lock: lock,
        })
    }

    /// Says that it is not the job's usual run.
    pub fn special(mut self, what: &'static str) -> Run<'a> {
        self.special = what;
        self
    }

    /// Carries out a scanned job, leg by leg. The guards have been checked.
    pub fn carry_out(mut self, round: &Round) -> RunResult {
        self.two_way = round.both.is_some();
        let mut tally = Tally::default();
        if let Err(failure) = self.carry_out_legs(round, &mut tally) {
            // Refused means before any change; after a destination has been changed it is a stop on the way.
            tally.failure = Some(if tally.begun { failure.on_the_way() } else { failure.before_the_run() });
        }
        let outcome = tally.outcome();
        let Tally { counts, failure, folders, unfinished, .. } = tally;
        RunResult { unfinished, ..self.end(outcome, failure, counts, folders) }
    }

    fn carry_out_legs(&mut self, round: &Round, tally: &mut Tally) -> Outcome<()> {
        let claimed = round.both.as_ref().map(|both| self.claim_both(round, both)).transpose()?;
        if round.both.is_some() && self.job != ONCE {
            // Before the first of it: what is missing because of us must never be taken for a person's removal.
            let removing = Removing::of(round.legs.iter().map(|leg| &leg.plan));
            let mut record = self.context.home.record()?;
            record.add_removing(&self.job, &removing)?;
            record.set_next_run(&self.job, &self.name)?;
        } else if self.special.is_empty() && self.job != ONCE {
            // A job that is of another kind now changes its sides without what it once remembered as a two-way one.
            self.context.home.record()?.forget_baseline(&self.job)?;
        }
        for leg in &round.legs {
            let report = self.carry_out_leg(round, leg)?;
            tally.add(&report);
            match report.ended {
                Ended::Done => {}
                Ended::Interrupted => {
                    tally.interrupted = true;
                    break;
                }
                Ended::Lost(side, error) => return Err(lost(side, leg, &error)),
            }
        }
        if let (Some(claimed), Some(both)) = (&claimed, &round.both) {
            let marks = (claimed.marks.0.as_str(), claimed.marks.1.as_str());
            let done = (self.name.as_str(), &self.deeds);
            let remembered = two_way::remember(self.context, &round.job, both, marks, done);
            self.prune_both(round, both);
            remembered.map_err(Failure::on_the_way)?;
            if round.job.rules.verify == Verify::All && !tally.interrupted {
                tally.interrupted =
                    self.verify_both(round, &mut tally.counts).map_err(Failure::on_the_way)?;
            }
        }
        drop(claimed);
        match tally.interrupted {
            true => Ok(()),
            false => self.remember_what_went_well(round).map_err(Failure::on_the_way),
        }
    }

    /// A run came to its end: these stores are known to each other now, and what was rotten and is no longer is forgotten.
    fn remember_what_went_well(&self, round: &Round) -> Outcome<()> {
        let mut record = self.context.home.record()?;
        let mended: Vec<RelPath> = round.rotten.iter().map(|rotten| &rotten.path).cloned().collect();
        let mended: Vec<RelPath> = mended.into_iter().filter(|path| !self.troubled.contains(path)).collect();
        if !mended.is_empty() {
            record.mended(&self.job, &mended)?;
        }
        if !self.special.is_empty() {
            return Ok(());
        }
        for (left, right) in round.pairs(record.as_ref())? {
            record.remember_pair(&left, &right, round.counts().removed > 0)?;
        }
        drop(record);
        if round.seen.still_holds(&round.job, &round.ends) {
            round.seen.remember(self.context, &self.job)?;
        }
        Ok(())
    }

    /// Notes which store a leg is about to change, so that an undo finds this one and no other.
    fn note_place(&mut self, leg: &Leg, right: &dyn Store) -> Outcome<()> {
        let mark = identity::read(right).ok().flatten().unwrap_or_default();
        let place = RunPlace {
            side: leg.plan.changes,
            place: leg.to.written.clone(),
            location: leg.to.location(),
            mark,
            ground: recognise::ground(&leg.to),
        };
        self.add_place(place)
    }

    /// Notes a store that the run is about to change.
    pub fn add_place(&mut self, place: RunPlace) -> Outcome<()> {
        self.context.home.record()?.add_run_place(self.id, &place)?;
        // A run that does nothing has no log.
        match self.log {
            Some(_) => self.log_place(&place),
            None => self.places.push(place),
        }
        Ok(())
    }

    fn log_place(&mut self, place: &RunPlace) {
        self.log_line(&json!({"event": "place", "side": place.side.as_str(), "place": place.place,
            "location": place.location, "mark": place.mark,
            "ground": place.ground.as_ref().map(reedhook_core::identity::Ground::to_text)}));
    }

    /// Notes that a run was refused before any change.
    pub fn refuse(self, failure: Failure) -> RunResult {
        let failure = failure.before_the_run();
        let outcome = if failure.exit == 130 { RunOutcome::Interrupted } else { RunOutcome::Refused };
        self.end(outcome, Some(failure), Counts::default(), (0, 0))
    }

    fn carry_out_leg(&mut self, round: &Round, leg: &Leg) -> Outcome<RunReport> {
        let nothing =
            leg.plan.folders.is_empty() && leg.plan.leftovers.is_empty() && leg.plan.problems.is_empty();
        if nothing && !leg.to_be_made && !self.after_cut_short && round.job.rules.verify != Verify::All {
            let counts = leg.plan.counts;
            return Ok(RunReport::nothing(counts));
        }
        let right = if leg.to_be_made {
            let made = places::make_destination(&leg.to, &self.context.home, Manner::of(&round.job))?;
            round.look_again(leg, made.as_ref(), &self.context.home)?;
            made
        } else {
            leg.right.clone()
        };
        let lock = if leg.ours { Some(self.claim(right.as_ref(), leg, round)?) } else { None };
        self.note_place(leg, right.as_ref())?;
        self.open_log()?;
        let (sender, receiver) = crossbeam_channel::bounded(64);
        let run = Name::new(self.name.as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
        let (context, owner) = (self.context, self.owner.clone());
        let to = round.to_key(leg);
        let mut view = View::new(context, &leg.plan);
        let pruned_at = right.clone();
        let report = std::thread::scope(|scope| {
            let rules = &round.job.rules;
            let worker = scope.spawn(move || {
                let input = RunInput {
                    left: leg.left.as_ref(),
                    right: right.as_ref(),
                    removed: rules.removed,
                    replaced: rules.replaced,
                    verify: rules.verify,
                    preserve: rules.preserve,
                    run,
                    owner: &owner,
                    resume: leg.ours || round.both.is_some(),
                    strict: false,
                    remembered: rules.kind == Kind::TwoWay,
                    limit: throttle(context, round),
                    events: &sender,
                    stop: &context.stop,
                };
                execute(&leg.plan, &input)
            });
            self.listen(&receiver, &mut view, to.as_deref());
            worker.join()
        });
        view.finish();
        let mut report = report.map_err(|_| engine_failed())?;
        if round.job.rules.verify == Verify::All && leg.ours && matches!(report.ended, Ended::Done) {
            self.verify_all(round, leg, &pruned_at, &mut report).map_err(Failure::on_the_way)?;
        }
        // What was done is done: old copies that cannot be erased now are only worth a word.
        if leg.ours && !context.stop.load(Ordering::Relaxed) {
            prune(context, &round.job, pruned_at.as_ref(), Some(&self.name), None)
                .map_or_else(|failure| context.warn(failure), drop);
        }
        drop(lock);
        Ok(report)
    }

    /// Locks both sides of a two-way job and gives them marks, by which its memory recognises them.
    fn claim_both(&self, round: &Round, both: &Both) -> Outcome<Claimed> {
        let home = &self.context.home;
        let places = round.ends.from.iter().chain(&round.ends.to);
        let mut claimed = Vec::new();
        for (store, place) in [&both.left, &both.right].into_iter().zip(places) {
            let lock = lock_destination(store.as_ref(), place, home)?;
            self.tidy(store.as_ref(), place, round)?;
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

    fn prune_both(&self, round: &Round, both: &Both) {
        for store in
            [&both.left, &both.right].into_iter().filter(|_| !self.context.stop.load(Ordering::Relaxed))
        {
            prune(self.context, &round.job, store.as_ref(), Some(&self.name), None)
                .map_or_else(|failure| self.context.warn(failure), drop);
        }
    }

    /// After a two-way run that is to verify everything; whether it was stopped on the way.
    fn verify_both(&mut self, round: &Round, counts: &mut Counts) -> Outcome<bool> {
        let Some(both) = &round.both else { return Ok(false) };
        let Some(leg) = round.legs.iter().find(|leg| leg.plan.changes == Side::Right) else {
            return Ok(false);
        };
        let mut report = RunReport::nothing(Counts::default());
        self.verify_all(round, leg, &both.right, &mut report)?;
        counts.add(&report.counts);
        Ok(matches!(report.ended, Ended::Interrupted))
    }

    fn mark(&self, store: &dyn Store, place: &Located) -> Outcome<String> {
        identity::ensure(store, &self.name).map_err(|error| {
            Failure::refused(
                error.kind.code(),
                format!("{} cannot be marked: {}", place.written, error.reason()),
            )
        })
    }

    /// Locks a destination and gives it a mark, which the job remembers.
    fn claim(&self, right: &dyn Store, leg: &Leg, round: &Round) -> Outcome<Box<dyn Send + Sync>> {
        let lock = lock_destination(right, &leg.to, &self.context.home)?;
        self.tidy(right, &leg.to, round)?;
        if self.job != ONCE {
            let id = self.mark(right, &leg.to)?;
            self.context.home.record()?.set_mark(&self.job, &leg.to.written, &id)?;
        }
        Ok(lock)
    }

    /// Clears what runs that were cut short have left where no walk looks. The store is locked.
    fn tidy(&self, store: &dyn Store, place: &Located, round: &Round) -> Outcome<()> {
        let gone = |error: StoreError| {
            let message = format!("{} went away", place.shown(&self.context.home));
            Failure::refused(error.kind.code(), message).hint("Connect it and run again.")
        };
        tidy::clear_own(store).map_err(gone)?;
        if self.after_cut_short {
            let names = round.ends.landing_names()?;
            let filter = round.job.filter()?;
            let filter = if let Some(names) = names { filter.with_top_level(names) } else { filter };
            tidy::clear_out_of_sight(store, &filter, &self.context.stop).map_err(gone)?;
        }
        Ok(())
    }

    /// Takes over what was done outside the engine: the log gets it, and so does the reader of `--json`.
    pub fn note(&mut self, events: impl IntoIterator<Item = Event>, to: Option<&str>) -> Outcome<()> {
        self.open_log()?;
        for event in events {
            let json = self.context.global.json;
            if let Some(line) = self.note_event(&event, to).filter(|_| json) {
                json::print_line(line);
            }
        }
        Ok(())
    }

    /// Writes an event to the log; returns its JSON form, where readers of `--json` get it.
    fn note_event(&mut self, event: &Event, to: Option<&str>) -> Option<&[u8]> {
        self.line.clear();
        let shown = match event {
            Event::Item(item) => {
                self.remember(item);
                json::item(&mut self.line, item, to);
                true
            }
            Event::Problem(problem) => {
                self.group(problem);
                self.troubled.insert(problem.path.clone());
                json::problem(&mut self.line, problem);
                true
            }
            Event::Folder { side, path, was } => {
                json::folder(&mut self.line, *side, path, *was);
                false
            }
            _ => return None,
        };
        if let Some(Err(error)) = self.log.as_mut().map(|log| log.write_all(&self.line)) {
            // A log that cannot be written must not stop the work.
            self.lose_log(&error);
        }
        shown.then_some(&self.line)
    }

    /// Takes note of what a file holds that was read back.
    fn remember(&mut self, item: &Item) {
        if self.two_way {
            self.deeds.take(item);
        } else if let Some(hash) = item.hash {
            let modified = item.now.modified.map(Stamp::to_text).unwrap_or_default();
            self.checksums.push((item.path.clone(), Checksum { size: item.size, modified, hash }));
        }
    }

    /// Compares both sides of a leg by content, after a run that is to verify everything.
    fn verify_all(
        &mut self,
        round: &Round,
        leg: &Leg,
        right: &Arc<dyn Store>,
        report: &mut RunReport,
    ) -> Outcome<()> {
        let compared =
            crate::commands::verify::compare(self.context, &round.job, &round.ends, &leg.left, right);
        let found = match compared {
            Ok((_, found)) => found,
            // The run itself is done, and its numbers must not be lost with the look at it.
            Err(failure) if failure.exit == 130 => {
                report.ended = Ended::Interrupted;
                return Ok(());
            }
            Err(failure) => {
                report.counts.problems += 1;
                let problem = Problem::new(Code::VerifyFailed, Side::Right, RelPath::root(), failure.text());
                return self.note([Event::Problem(problem)], round.to_key(leg).as_deref());
            }
        };
        let stopped = self.context.stop.load(Ordering::Relaxed);
        crate::commands::verify::remember_rot(self.context, &round.job, &leg.to.written, &found, stopped)?;
        if stopped {
            report.ended = Ended::Interrupted;
        }
        let failed = Code::VerifyFailed;
        let different = found.different.iter().map(|difference| {
            let side = difference.changed.unwrap_or(Side::Right);
            Problem::new(failed, side, difference.path.clone(), difference.sentence())
        });
        let unread = found.unread.iter().map(|(side, error)| Problem::from_error(*side, error));
        let problems: Vec<Event> = different.chain(unread).map(Event::Problem).collect();
        report.counts.problems += problems.len() as u64;
        self.note(problems, round.to_key(leg).as_deref())
    }

    /// The run's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Reads the engine's events until it is done: the log, the problem groups and the view each take what they need.
    fn listen(&mut self, events: &Receiver<Vec<Event>>, view: &mut View, to: Option<&str>) {
        let tick = Duration::from_millis(100);
        loop {
            match events.recv_timeout(tick) {
                Ok(events) => {
                    for event in &events {
                        let line = self.note_event(event, to);
                        view.take(event, line);
                        view.draw();
                    }
                }
                Err(crossbeam_channel::RecvTimeoutError::Timeout) => {}
                Err(crossbeam_channel::RecvTimeoutError::Disconnected) => return,
            }
            self.flush_now_and_then();
            view.draw();
        }
    }

    /// A run that is killed leaves a log that tells nearly all it did.
    fn flush_now_and_then(&mut self) {
        const EVERY: Duration = Duration::from_millis(100);
        if self.flushed.elapsed() >= EVERY {
            self.flushed = Instant::now();
            if let Some(Err(error)) = self.log.as_mut().map(Write::flush) {
                self.lose_log(&error);
            }
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

    /// Opens the log, where what the run does is written down, unless it is open. One that cannot be written stops no work.
    fn open_log(&mut self) -> Outcome<()> {
        if self.log.is_some() || self.log_lost.is_some() {
            return Ok(());
        }
        make_folder(&self.context.home.run_logs(&self.job))?;
        let path = self.context.home.run_log(&self.job, &self.name);
        match closed().write(true).create(true).truncate(true).open(&path) {
            Ok(file) => (self.log, self.logged) = (Some(BufWriter::new(file)), true),
            Err(error) => self.lose_log(&error),
        }
        let mut began = json!({"v": JSON_VERSION, "event": "began", "job": self.job, "run": self.name,
            "number": self.number, "started": json::time(self.began_ms)});
        for (key, value) in [("sort", self.special), ("keys", self.keys.as_str())] {
            if !value.is_empty() {
                began[key] = value.into();
            }
        }
        self.log_line(&began);
        for place in std::mem::take(&mut self.places) {
            self.log_place(&place);
        }
        Ok(())
    }

    fn log_line(&mut self, value: &serde_json::Value) {
        if let Some(log) = &mut self.log
            && let Err(error) = writeln!(log, "{value}")
        {
            self.lose_log(&error);
        }
    }

    /// From here on the log lacks something, and tells no longer what the run did.
    fn lose_log(&mut self, error: &std::io::Error) {
        self.log = None;
        self.log_lost.get_or_insert_with(|| error.to_string());
    }

    /// Ends a run, writing down what came of it.
    pub fn end(
        mut self,
        outcome: RunOutcome,
        failure: Option<Failure>,
        counts: Counts,
        (folders_made, folders_removed): (u64, u64),
    ) -> RunResult {
        let elapsed = self.started.elapsed().saturating_sub(crate::ask::waited().saturating_sub(self.waited));
        let mut problems: Vec<ProblemGroup> = std::mem::take(&mut self.groups).into_values().collect();
        problems.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.code.cmp(&b.code)));
        let mut result = RunResult {
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
        if self.logged {
            logs::clear_old(self.context, &self.job, self.keep_for);
        }
        result
    }

    fn close_log(&mut self, result: &RunResult) {
        self.log_line(&finished(&self.job, result));
        if let Some(Err(error)) = self.log.as_mut().map(Write::flush) {
            self.lose_log(&error);
        }
        if let Some(why) = &self.log_lost {
            self.context.warn(format!(
                "the log of this run could not be written whole ({why}): the history has its numbers, but it cannot be undone"
            ));
        }
    }

    /// Writes down in the record how the run ended.
    fn write_down(&mut self, result: &RunResult) -> Outcome<()> {
        let failure = result.failure.as_ref();
        let end = RunEnd {
            elapsed: result.elapsed,
            outcome: result.outcome,
            code: failure.map_or(self.special, |failure| failure.code).to_owned(),
            message: failure.map_or(String::new(), Failure::text),
            folders_made: result.folders_made,
            folders_removed: result.folders_removed,
            counts: result.counts,
            log_whole: self.log_lost.is_none(),
        };
        let state_file = self.context.home.state_file();
        let named = |error: RecordError| Failure::from(error).about_state_file(&state_file);
        let mut record = self.context.home.record()?;
        record.set_checksums(&self.job, &std::mem::take(&mut self.checksums)).map_err(named)?;
        record.end_run(self.id, &end, &result.problems).map_err(named)
    }
}

/// The last line of a run, for programs and for its log.
pub fn finished(job: &str, result: &RunResult) -> serde_json::Value {
    let object = json::object(json!({
        "event": "finished",
        "job": job,
        "run": result.run,
        "outcome": result.outcome.as_str(),
    }));
    let mut object = json::with_counts(object, &result.counts);
    object.insert("seconds".into(), json!(json::seconds(result.elapsed)));
    if let Some(failure) = &result.failure {
        object.insert("code".into(), json!(failure.code));
        object.insert("message".into(), json!(failure.text()));
    }
    object.into()
}

/// Whether the newest run of a job that did anything was cut short.
fn was_cut_short(record: &dyn Record, job: &str) -> Outcome<bool> {
    /// More refused runs in a row than this are as good as none.
    const ENOUGH: u32 = 50;
    let runs = record.runs(Some(job), ENOUGH)?;
    let newest = runs.iter().map(|run| run.outcome).find(|outcome| *outcome != RunOutcome::Refused);
    Ok(matches!(newest, Some(RunOutcome::Unfinished | RunOutcome::Stopped | RunOutcome::Interrupted)))
}

/// What keeps a job's transfers below its limit; `None` when it has none.
fn throttle(context: &Context, round: &Round) -> Option<Arc<Throttle>> {
    let limits = round.job.rules.limit.clone();
    let minute_of_day = || {
        let now = jiff::Timestamp::now().to_zoned(clock::zone());
        u16::try_from(i32::from(now.hour()) * 60 + i32::from(now.minute())).unwrap_or(0)
    };
    let rate = move || limits.at(minute_of_day());
    let limited = !round.job.rules.limit.is_empty();
    limited.then(|| Arc::new(Throttle::new(rate, context.stop.clone())))
}

/// Both sides of a two-way job, reserved for this run.
struct Claimed {
    _locks: [Box<dyn Send + Sync>; 2],
    marks: (String, String),
}

fn engine_failed() -> Failure {
    Failure {
        exit: STOPPED,
        code: "internal",
        message: "the engine failed; this is a fault in Reedhook, and what it had done is whole".to_owned(),
        hint: "Run again; it goes on.".to_owned(),
    }
}

/// Erases a job's own kept copies that have been kept long enough, or take too much room; returns what went. What other jobs,
/// or other machines, have kept at the same place is theirs.
pub fn prune(
    context: &Context,
    job: &Job,
    right: &dyn Store,
    current: Option<&str>,
    keep_for: Option<Duration>,
) -> Outcome<Vec<Amount>> {
    let failed = |error: StoreError| Failure {
        exit: STOPPED,
        code: error.kind.code(),
        message: format!("kept copies cannot be pruned: {error}"),
        hint: String::new(),
    };
    let runs = kept_in_order(context, right).map_err(|failure| match failure {
        KeptError::Store(error) => failed(error),
        KeptError::Record(failure) => failure,
    })?;
    let ours = |kept: &InOrder| match &kept.job {
        Some(owner) => *owner == job.name,
        // Made before it was written down whose it is.
        None => !kept.run.owned,
    };
    let runs: Vec<KeptRun> = runs.into_iter().filter(ours).map(|kept| kept.run).collect();
    // What all that is used would fit into needs no counting.
    let space = right.space().ok().flatten();
    let room = space.and_then(|space| {
        let room = job.rules.keep_max.limit(space.total)?;
        (space.total.saturating_sub(space.free) > room).then_some(room)
    });
    let keep_for = keep_for.unwrap_or(job.rules.keep_for.duration());
    let current = current.and_then(|name| Name::new(name.as_bytes()).ok());
    let now = clock::trusted(context)?;
    let mut gone = Vec::new();
    let mut bytes_of = |run: &KeptRun| Ok(kept::amount(right, &run.run)?.bytes);
    let expired = kept::expired(&runs, now, keep_for, room, current.as_ref(), &mut bytes_of);
    for run in expired.map_err(failed)? {
        match kept::erase(right, &run.run) {
            Ok(amount) => gone.push(amount),
            Err(error) => context.warn(failed(error).message),
        }
    }
    Ok(gone)
}

/// The kept copies of a run, and what the record says of the run.
pub struct InOrder {
    /// The copies.
    pub run: KeptRun,
    /// The job that it was a run of, when this Reedhook knows it.
    pub job: Option<String>,
    /// Its place among all runs: the newest has the greatest.
    pub order: i64,
}

/// Why kept copies cannot be told.
pub enum KeptError {
    /// The store failed.
    Store(StoreError),
    /// The state file failed.
    Record(Failure),
}

/// The runs with kept copies at a store, in the order in which they ran: clocks go wrong, and two runs may share a second. A run
/// that another Reedhook made is put where its name says it belongs.
pub fn kept_in_order(context: &Context, store: &dyn Store) -> Result<Vec<InOrder>, KeptError> {
    let runs = kept::kept_runs(store, &clock::zone()).map_err(KeptError::Store)?;
    let record = context.home.record().map_err(KeptError::Record)?;
    let mut newest_known = 0;
    let mut found = Vec::new();
    for run in runs {
        let known =
            record.run_named(&run.run.to_string()).map_err(|error| KeptError::Record(error.into()))?;
        let (job, order) = match known {
            Some((job, order)) => (Some(job), order),
            None => (None, newest_known),
        };
        newest_known = newest_known.max(order);
        found.push(InOrder { run, job, order });
    }
    found.sort_by_key(|kept| kept.order);
    Ok(found)
}

/// Whose kept copies these are, as it is written beside them.
pub fn owner(job: &str) -> String {
    let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    format!("job = {:?}\nmachine = {:?}\n", job, machine.trim())
}

fn lost(side: Side, leg: &Leg, error: &StoreError) -> Failure {
    let store = match side {
        Side::Left => leg.left.name(),
        Side::Right => leg.to.written.clone(),
    };
    Failure {
        exit: STOPPED,
        code: error.kind.code(),
        message: format!("{store} went away while the job was running"),
        hint: "What was done is whole. Connect it and run again; the job goes on where it stopped."
            .to_owned(),
    }
}

/// A job that is reserved for one run at a time. The kernel lets go of the lock when the process ends, however it ends.
pub struct JobLock(#[allow(dead_code, reason = "held until the end")] Option<File>);

impl JobLock {
    /// Reserves a job; runs without a job need not be.
    pub fn take(home: &Home, job: &str) -> Outcome<JobLock> {
        if job == ONCE {
            return Ok(JobLock(None));
        }
        let path = home.lock_file(job);
        if let Some(parent) = path.parent() {
            make_folder(parent)?;
        }
        let failed =
            |error: std::io::Error| Failure::own_files(&format!("cannot lock {}", path.display()), error);
        let file = closed().create(true).truncate(false).write(true).open(&path).map_err(failed)?;
        match file.try_lock() {
            Ok(()) => Ok(JobLock(Some(file))),
            Err(fs::TryLockError::WouldBlock) => {
                Err(Failure::refused("already-running", format!("the job \"{job}\" is already running"))
                    .hint("Wait for it to end; `reedhook status` shows it."))
            }
            Err(fs::TryLockError::Error(error)) => Err(failed(error)),
        }
    }
}

/// Reserves a destination for one run.
pub fn lock_destination(right: &dyn Store, to: &Located, home: &Home) -> Outcome<Box<dyn Send + Sync>> {
    right.lock().map_err(|error| {
        let shown = to.shown(home);
        match error.kind {
            FaultKind::InUse => {
                let who = error.cause.as_ref().map(|cause| format!(": {cause}")).unwrap_or_default();
                Failure::refused("destination-in-use", format!("another run is writing to {shown}{who}"))
                    .hint("Wait for it to end, then run again.")
            }
            // What a server says is all there is to go by; a file system's error is told by its kind.
            kind if right.capabilities().remote => {
                Failure::refused(kind.code(), format!("{shown} cannot be reserved: {}", error.reason()))
            }
            kind => Failure::refused(kind.code(), format!("{shown} cannot be written: {}", kind.words()))
                .hint("Nothing was changed. Check the rights, or how the drive is mounted."),
        }
    })
}

/// A run's name: when it began, and four letters so that two machines never use the same one at one destination.
fn run_name(now_ms: i64) -> String {
    use std::hash::{BuildHasher, Hasher};
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    let mut chance = std::collections::hash_map::RandomState::new().build_hasher().finish();
    let mut tail = String::new();
    for _ in 0..4 {
        tail.push(char::from(LETTERS[(chance % 32) as usize]));
        chance /= 32;
    }
    let now = jiff::Timestamp::from_millisecond(now_ms).unwrap_or_default();
    format!("{}-{tail}", now.to_zoned(clock::zone()).strftime("%Y%m%d-%H%M%S"))
}
