//! One round of a job: open the sides, scan, check the guards, and — for a run — carry out, watch and remember.
//!
//! Preview and run go the same way up to the plan, so that what a preview shows is what a run does.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crossbeam_channel::Receiver;
use reedhook_core::compare::Comparison;
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::filter::Filter;
use reedhook_core::identity;
use reedhook_core::job::{Preserve, Verify};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::guard::{self, Lift, Nesting, Refusal};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::{Counts, Plan};
use reedhook_core::problem::{Code, Problem};
use reedhook_core::record::{Checksum, Outcome as RunOutcome, ProblemGroup, RunEnd};
use reedhook_core::run::kept::{self, KeptRun};
use reedhook_core::run::{Ended, Event, Item, RunInput, RunReport, execute};
use reedhook_core::store::{FaultKind, Store, StoreError};
use reedhook_core::walk::{ScanError, ScanInput, ScanProgress, scan};
use reedhook_stores::gathered::Gathered;

use crate::args::Guard;
use crate::context::Context;
use crate::failure::{Failure, Outcome, STOPPED};
use crate::home::{Home, make_folder};
use crate::jobfile::{Job, ONCE, now};
use crate::json;
use crate::places::{self, Ends, Located};
use crate::progress::View;

/// One destination of a job, scanned and judged.
pub struct Leg {
    /// What is read.
    pub left: Arc<dyn Store>,
    /// The destination as written and located.
    pub to: Located,
    /// The destination, or what it will be like when it does not exist yet.
    pub right: Arc<dyn Store>,
    /// The destination has to be made.
    pub to_be_made: bool,
    /// It is a job's destination: it is locked, bears an identity, and old kept copies are pruned. Where a person restores
    /// to is not.
    pub ours: bool,
    /// What a run would do.
    pub plan: Plan,
    /// The guard that stops it.
    pub refusal: Option<Refusal>,
}

/// A scanned job.
pub struct Round {
    /// The job.
    pub job: Job,
    /// Its ends.
    pub ends: Ends,
    /// A leg for each destination.
    pub legs: Vec<Leg>,
}

impl Round {
    /// The numbers of all legs together.
    pub fn counts(&self) -> Counts {
        let mut counts = Counts::default();
        self.legs.iter().for_each(|leg| counts.add(&leg.plan.counts));
        counts
    }

    /// The first guard that stops a run.
    pub fn refusal(&self) -> Option<(&Leg, &Refusal)> {
        self.legs.iter().find_map(|leg| leg.refusal.as_ref().map(|refusal| (leg, refusal)))
    }

    /// What tells a destination apart in JSON; nothing for a job with one.
    pub fn to_key(&self, leg: &Leg) -> Option<String> {
        (self.legs.len() > 1).then(|| leg.to.written.clone())
    }
}

/// Opens both ends of a job and scans them. Nothing is changed anywhere.
pub fn look(context: &Context, job: &Job, lifted: &[Lift]) -> Outcome<Round> {
    let ends = Ends::of(job, &context.home, &context.settings)?;
    refuse_nested(&ends, &context.home)?;
    let left = open_sources(&ends, &context.home, job.rules.preserve)?;
    let top_level = ends.landing_names()?;
    let mut legs = Vec::new();
    for to in &ends.to {
        let mut filter = job.filter()?;
        if let Some(names) = &top_level {
            filter = filter.with_top_level(names.clone());
        }
        legs.push(look_at(context, job, &left, to, &filter, lifted)?);
    }
    Ok(Round { job: job.clone(), ends, legs })
}

fn look_at(
    context: &Context,
    job: &Job,
    left: &Arc<dyn Store>,
    to: &Located,
    filter: &Filter,
    lifted: &[Lift],
) -> Outcome<Leg> {
    let opened = places::open_destination(to, &context.home, job.rules.preserve)?;
    let to_be_made = opened.is_none();
    if to_be_made {
        refuse_vanished(context, job, to)?;
    }
    let right = match opened {
        Some(store) => store,
        None => places::not_there_yet(to, job.rules.preserve)?,
    };
    if !to_be_made {
        refuse_foreign(context, job, to, right.as_ref())?;
    }
    scan_leg(context, job, left, (to, right, to_be_made), filter, lifted)
}

/// How a job decides, given what its stores can compare.
pub fn one_way_rules(job: &Job, by: Comparison) -> OneWayRules {
    OneWayRules { kind: job.rules.kind, newer: job.rules.newer, preserve: job.rules.preserve, by }
}

/// What a job wants to keep and a destination cannot hold: said once, not for every file.
pub fn losses(job: &Job, right: &dyn Store) -> Vec<String> {
    let can = right.capabilities();
    let wanted = job.rules.preserve;
    let mut lost = Vec::new();
    if wanted != Preserve::Content && !can.modes {
        lost.push("modes");
    }
    if wanted != Preserve::Content && !can.links {
        lost.push("links");
    }
    if wanted == Preserve::Full && !can.full {
        lost.push("owners, extended attributes and second names");
    }
    let root =
        std::fs::metadata("/proc/self").is_ok_and(|meta| std::os::unix::fs::MetadataExt::uid(&meta) == 0);
    let mut lines = Vec::new();
    if !lost.is_empty() {
        lines.push(format!("{} cannot hold {}; they are lost there", right.name(), lost.join(", ")));
    }
    if wanted == Preserve::Full && can.full && !root {
        lines.push("owners and devices are kept only when root runs the job".to_owned());
    }
    lines
}

/// Scans one leg between two opened stores and checks the guards.
pub fn scan_leg(
    context: &Context,
    job: &Job,
    left: &Arc<dyn Store>,
    (to, right, to_be_made): (&Located, Arc<dyn Store>, bool),
    filter: &Filter,
    lifted: &[Lift],
) -> Outcome<Leg> {
    let by = Comparison::between(left.capabilities(), right.capabilities(), job.rules.preserve);
    let rules = one_way_rules(job, by);
    let one_filesystem = job.rules.one_filesystem;
    let (from, to_store) = (left.as_ref(), right.as_ref());
    let input = ScanInput { left: from, right: to_store, filter, rules, one_filesystem, on_same: None };
    let plan = scan_watched(context, job, &input)?;
    let space = right.space().ok().flatten();
    let refusal = guard::check(&plan, &job.rules, space, lifted);
    Ok(Leg { left: left.clone(), to: to.clone(), right, to_be_made, ours: true, plan, refusal })
}

/// In the record: a destination that was there when the job was set up, and has no mark yet.
pub const SEEN: &str = "";

/// A destination that was there has not gone without a reason: a drive is not plugged in.
fn refuse_vanished(context: &Context, job: &Job, to: &Located) -> Outcome<()> {
    let record = context.home.record()?;
    if record.last_completed(&job.name)?.is_none() && record.identity(&job.name, &to.written)?.is_none() {
        return Ok(());
    }
    let message = format!("the destination {} was there before and is gone", to.shown(&context.home));
    Err(Failure::refused("destination-missing", message)
        .hint("Connect the drive; or, if the folder is meant to be new, make it and run again."))
}

/// A destination without the mark that the job left there is another drive, or an empty mount point.
pub fn refuse_foreign(context: &Context, job: &Job, to: &Located, right: &dyn Store) -> Outcome<()> {
    if job.name == ONCE {
        return Ok(());
    }
    let Some(expected) = context.home.record()?.identity(&job.name, &to.written)?.filter(|mark| mark != SEEN)
    else {
        return Ok(());
    };
    let shown = to.shown(&context.home);
    let found = identity::read(right).map_err(|error| {
        Failure::refused(
            "destination-foreign",
            format!("the mark of {shown} cannot be read: {}", error.reason()),
        )
    })?;
    let what = match found {
        Some(found) if found == expected => return Ok(()),
        Some(_) => "it bears another mark: this looks like another drive",
        None => "its mark is missing: is the drive not connected, or is this another one?",
    };
    Err(Failure::refused(
        "destination-foreign",
        format!("{shown} is not the place this job last wrote to; {what}"),
    )
    .hint(format!(
        "Connect the right one. If this is its new place: reedhook job edit {} --to {}.",
        job.name, to.written
    )))
}

/// Opens a job's sources as one tree.
pub fn open_sources(ends: &Ends, home: &Home, preserve: Preserve) -> Outcome<Arc<dyn Store>> {
    let names = ends.landing_names()?;
    let stores = ends
        .from
        .iter()
        .map(|located| places::open_source(located, home, preserve))
        .collect::<Outcome<Vec<_>>>()?;
    let members: Vec<_> = names.unwrap_or_default().into_iter().zip(stores.iter().cloned()).collect();
    match (Gathered::new(members), stores.into_iter().next()) {
        (Some(gathered), _) => Ok(Arc::new(gathered)),
        (None, Some(only)) => Ok(only),
        (None, None) => Err(Failure::usage("the job has no source")),
    }
}

fn refuse_nested(ends: &Ends, home: &Home) -> Outcome<()> {
    match nested(ends, home) {
        Some(sentence) => Err(Failure::refused("nested", sentence).hint("Choose sides that lie apart.")),
        None => Ok(()),
    }
}

/// How a source and a destination lie within each other, as a sentence; `None` when they are apart.
pub fn nested(ends: &Ends, home: &Home) -> Option<String> {
    for from in &ends.from {
        for to in &ends.to {
            let (source, destination) = (from.shown(home), to.shown(home));
            let ways = from.places().into_iter().zip(to.places());
            let related = ways.map(|(first, second)| guard::nesting(&first, &second));
            return Some(
                match related.into_iter().find(|how| *how != Nesting::Apart).unwrap_or(Nesting::Apart) {
                    Nesting::Apart => continue,
                    Nesting::Same => {
                        format!("the source and the destination are the same folder, {destination}")
                    }
                    Nesting::SecondInFirst => {
                        format!("the destination {destination} lies inside the source {source}")
                    }
                    Nesting::FirstInSecond => {
                        format!("the source {source} lies inside the destination {destination}")
                    }
                },
            );
        }
    }
    None
}

fn scan_watched(context: &Context, job: &Job, input: &ScanInput<'_>) -> Outcome<Plan> {
    let progress = ScanProgress { stop: context.stop.clone(), ..ScanProgress::default() };
    let finished = AtomicBool::new(false);
    let outcome = std::thread::scope(|scope| {
        scope.spawn(|| crate::progress::watch_scan(context, &job.name, &progress, &finished));
        let outcome = scan(input, &progress);
        finished.store(true, Ordering::Relaxed);
        outcome
    });
    outcome.map_err(|error| match error {
        ScanError::Stopped => interrupted(),
        ScanError::Store(side, error) => unreadable_root(side, input, &error),
    })
}

/// Ctrl-C before anything was changed.
pub fn interrupted() -> Failure {
    Failure {
        exit: 130,
        code: "interrupted",
        message: "interrupted; nothing was changed".to_owned(),
        hint: String::new(),
    }
}

fn unreadable_root(side: Side, input: &ScanInput<'_>, error: &StoreError) -> Failure {
    let (word, code, store) = match side {
        Side::Left => ("source", "source-unreadable", input.left),
        Side::Right => ("destination", "destination-unusable", input.right),
    };
    let why = if error.path.is_root() { error.kind.words().to_owned() } else { error.to_string() };
    Failure::refused(code, format!("the {word} {} cannot be read: {why}", store.name()))
}

/// The guards that a person lifts with `--allow`.
pub fn lifted(allowed: &[Guard]) -> Vec<Lift> {
    allowed
        .iter()
        .map(|guard| match guard {
            Guard::Removals => Lift::Removals,
            Guard::Changes => Lift::Changes,
            Guard::Empty => Lift::Empty,
            Guard::Space => Lift::Space,
        })
        .collect()
}

/// A guard's refusal as a failure with the way on.
pub fn guard_failure(leg: &Leg, refusal: &Refusal, home: &Home) -> Failure {
    let mut message = match refusal {
        Refusal::Space { needed, free } => format!(
            "it needs {} at {}, where {} are free",
            crate::text::bytes(*needed),
            leg.to.shown(home),
            crate::text::bytes(*free)
        ),
        other => other.to_string(),
    };
    if !refusal.most().is_empty() {
        let most: Vec<String> = refusal
            .most()
            .iter()
            .map(|(path, number)| {
                let place = if path.is_root() { "the top folder".to_owned() } else { path.to_string() };
                format!("{place} {}", crate::text::grouped(*number))
            })
            .collect();
        message = format!("{message}; most in {}", most.join(", "));
    }
    let advice = match refusal {
        Refusal::EmptySource { .. } => "Is it the right folder, and is the drive connected?",
        Refusal::Removals { .. } => "Look at the preview.",
        Refusal::Changes { .. } => {
            "Look at the preview: a bad export or an encrypted folder looks like this."
        }
        Refusal::Space { .. } => "Free space there, or filter something out.",
    };
    let hint = format!("{advice} If it is right: reedhook run --allow {}.", refusal.lift().as_str());
    Failure::refused(refusal.code(), message).hint(hint)
}

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
    /// Problems by cause, the largest group first.
    pub problems: Vec<ProblemGroup>,
    /// The time since the scan began.
    pub elapsed: Duration,
}

/// A run that has begun: it is in the record, and its log is open.
pub struct Run<'a> {
    context: &'a Context,
    job: String,
    name: String,
    id: i64,
    started: Instant,
    log: Option<BufWriter<File>>,
    groups: BTreeMap<String, ProblemGroup>,
    /// What the files that were read back hold, until it is remembered.
    checksums: Vec<(RelPath, Checksum)>,
    /// What sort of run it is, when it is not the job's usual one: `restore`, `undo`, `reverse`.
    special: &'static str,
    _lock: Option<File>,
}

impl<'a> Run<'a> {
    /// Takes the job's lock and notes that a run begins.
    pub fn begin(context: &'a Context, job: &str) -> Outcome<Run<'a>> {
        let lock = lock_job(&context.home, job)?;
        let now = jiff::Timestamp::now();
        let name = run_name(now);
        let id = context.home.record()?.begin_run(job, &name, now.as_millisecond())?;
        Ok(Run {
            context,
            job: job.to_owned(),
            name,
            id,
            started: Instant::now(),
            log: None,
            groups: BTreeMap::new(),
            checksums: Vec::new(),
            special: "",
            _lock: lock,
        })
    }

    /// Says that it is not the job's usual run.
    pub fn special(mut self, what: &'static str) -> Run<'a> {
        self.special = what;
        self
    }

    /// Carries out a scanned job, leg by leg. The guards have been checked.
    pub fn carry_out(mut self, round: &Round) -> Outcome<RunResult> {
        let mut counts = Counts::default();
        let (mut made, mut removed) = (0, 0);
        let mut failure = None;
        let mut interrupted = false;
        for leg in &round.legs {
            match self.carry_out_leg(round, leg) {
                Ok(report) => {
                    counts.add(&report.counts);
                    made += report.folders_made;
                    removed += report.folders_removed;
                    match report.ended {
                        Ended::Done => continue,
                        Ended::Interrupted => interrupted = true,
                        Ended::Lost(side, error) => failure = Some(lost(side, leg, &error)),
                    }
                }
                Err(refused) => failure = Some(refused),
            }
            break;
        }
        let outcome = match &failure {
            Some(failure) if failure.exit == STOPPED => RunOutcome::Stopped,
            Some(_) => RunOutcome::Refused,
            None if interrupted => RunOutcome::Interrupted,
            None if counts.problems > 0 => RunOutcome::Problems,
            None => RunOutcome::Done,
        };
        self.end(outcome, failure, counts, (made, removed))
    }

    /// Notes that a run was refused before any change.
    pub fn refuse(self, failure: Failure) -> Outcome<RunResult> {
        let outcome = if failure.exit == 130 { RunOutcome::Interrupted } else { RunOutcome::Refused };
        self.end(outcome, Some(failure), Counts::default(), (0, 0))
    }

    fn carry_out_leg(&mut self, round: &Round, leg: &Leg) -> Outcome<RunReport> {
        let nothing =
            leg.plan.folders.is_empty() && leg.plan.leftovers.is_empty() && leg.plan.problems.is_empty();
        if nothing && !leg.to_be_made && round.job.rules.verify != Verify::All {
            let counts = leg.plan.counts;
            return Ok(RunReport { counts, folders_made: 0, folders_removed: 0, ended: Ended::Done });
        }
        let right = if leg.to_be_made {
            places::make_destination(&leg.to, round.job.rules.preserve)?
        } else {
            leg.right.clone()
        };
        let lock = if leg.ours { Some(self.claim(right.as_ref(), leg)?) } else { None };
        self.open_log()?;
        let (sender, receiver) = crossbeam_channel::bounded(1024);
        let run = Name::new(self.name.as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
        let context = self.context;
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
                    strict: false,
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
            self.verify_all(round, leg, &pruned_at, &mut report)?;
        }
        if leg.ours && !context.stop.load(Ordering::Relaxed) {
            prune(context, &round.job, pruned_at.as_ref(), Some(&self.name), None)?;
        }
        drop(lock);
        Ok(report)
    }

    /// Locks a destination and gives it a mark, which the job remembers.
    fn claim(&self, right: &dyn Store, leg: &Leg) -> Outcome<Box<dyn Send + Sync>> {
        let lock = lock_destination(right, &leg.to, &self.context.home)?;
        if self.job != ONCE {
            let id = identity::ensure(right, &self.name).map_err(|error| {
                Failure::refused(
                    error.kind.code(),
                    format!("{} cannot be marked: {}", leg.to.written, error.reason()),
                )
            })?;
            self.context.home.record()?.set_identity(&self.job, &leg.to.written, &id)?;
        }
        Ok(lock)
    }

    /// Takes over what was done outside the engine: the log gets it, and so does the reader of `--json`.
    pub fn note(&mut self, events: impl IntoIterator<Item = Event>, to: Option<&str>) -> Outcome<()> {
        self.open_log()?;
        for event in events {
            let line = self.note_event(&event, to);
            if let Some(line) = line.filter(|_| self.context.global.json) {
                let _ = writeln!(std::io::stdout().lock(), "{line}");
            }
        }
        Ok(())
    }

    /// Writes an event to the log; returns its JSON form, where readers of `--json` get it.
    fn note_event(&mut self, event: &Event, to: Option<&str>) -> Option<String> {
        let (line, shown) = match event {
            Event::Item(item) => {
                self.remember(item);
                (json::item(item, to), true)
            }
            Event::Problem(problem) => {
                self.group(problem);
                (json::problem(problem), true)
            }
            Event::Folder { path, was } => (json::folder(path, *was), false),
            _ => return None,
        };
        if let Some(log) = &mut self.log {
            // A log that cannot be written must not stop the work.
            if writeln!(log, "{line}").is_err() {
                self.log = None;
            }
        }
        shown.then_some(line)
    }

    /// Takes note of what a file holds that was read back.
    fn remember(&mut self, item: &Item) {
        if let Some(hash) = item.hash {
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
        let (_, found) =
            crate::commands::verify::compare(self.context, &round.job, &round.ends, &leg.left, right)?;
        let failed = Code::VerifyFailed;
        let different = found.different.iter().map(|difference| {
            let side = difference.changed.unwrap_or(Side::Right);
            Problem::new(failed, side, difference.path.clone(), difference.sentence())
        });
        let unread = found.unread.iter().map(|(side, error)| Problem::from_error(*side, error));
        let problems: Vec<Event> = different.chain(unread).map(Event::Problem).collect();
        report.counts.problems += problems.len() as u64;
        self.checksums.extend(found.checksums);
        self.note(problems, round.to_key(leg).as_deref())
    }

    /// The run's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Reads the engine's events until it is done: the log, the problem groups and the view each take what they need.
    fn listen(&mut self, events: &Receiver<Event>, view: &mut View, to: Option<&str>) {
        let tick = Duration::from_millis(100);
        loop {
            match events.recv_timeout(tick) {
                Ok(event) => {
                    let line = self.note_event(&event, to);
                    view.take(&event, line.as_deref());
                }
                Err(crossbeam_channel::RecvTimeoutError::Timeout) => {}
                Err(crossbeam_channel::RecvTimeoutError::Disconnected) => return,
            }
            view.draw();
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

    fn open_log(&mut self) -> Outcome<()> {
        if self.log.is_some() {
            return Ok(());
        }
        let path = self.context.home.run_log(&self.job, &self.name);
        make_folder(&self.context.home.run_logs(&self.job))?;
        let file =
            File::create(&path).map_err(|error| Failure::own_files("cannot write the run's log", error))?;
        self.log = Some(BufWriter::new(file));
        Ok(())
    }

    /// Ends a run, writing down what came of it.
    pub fn end(
        mut self,
        outcome: RunOutcome,
        failure: Option<Failure>,
        counts: Counts,
        (folders_made, folders_removed): (u64, u64),
    ) -> Outcome<RunResult> {
        if let Some(log) = &mut self.log {
            log.flush().map_err(|error| Failure::own_files("cannot write the run's log", error))?;
        }
        let elapsed = self.started.elapsed();
        let mut problems: Vec<ProblemGroup> = std::mem::take(&mut self.groups).into_values().collect();
        problems.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.code.cmp(&b.code)));
        let end = RunEnd {
            elapsed,
            outcome,
            code: failure.as_ref().map_or(self.special.to_owned(), |failure| failure.code.to_owned()),
            message: failure.as_ref().map_or(String::new(), Failure::text),
            folders_made,
            folders_removed,
            counts,
        };
        let mut record = self.context.home.record()?;
        record.set_checksums(&self.job, &std::mem::take(&mut self.checksums))?;
        record.end_run(self.id, &end, &problems)?;
        let number = record.find_run(&self.job, &self.name)?.map_or(0, |row| row.number);
        Ok(RunResult {
            run: self.name,
            number,
            outcome,
            failure,
            counts,
            folders_made,
            folders_removed,
            problems,
            elapsed,
        })
    }
}

fn engine_failed() -> Failure {
    Failure {
        exit: STOPPED,
        code: "internal",
        message: "the engine failed; this is a fault in Reedhook, and what it had done is whole".to_owned(),
        hint: "Run again; it goes on.".to_owned(),
    }
}

/// Erases kept copies that have been kept long enough, or take too much room; returns what went.
pub fn prune(
    context: &Context,
    job: &Job,
    right: &dyn Store,
    current: Option<&str>,
    keep_for: Option<Duration>,
) -> Outcome<Vec<KeptRun>> {
    let failed = |error: StoreError| Failure {
        exit: STOPPED,
        code: error.kind.code(),
        message: format!("kept copies cannot be pruned: {error}"),
        hint: String::new(),
    };
    let runs = kept::kept_runs(right).map_err(failed)?;
    let room = right.space().ok().flatten().and_then(|space| job.rules.keep_max.limit(space.total));
    let keep_for = keep_for.unwrap_or(job.rules.keep_for.duration());
    let current = current.and_then(|name| Name::new(name.as_bytes()).ok());
    let mut gone = Vec::new();
    for run in kept::expired(&runs, now(), keep_for, room, current.as_ref()) {
        match kept::erase(right, &run.run) {
            Ok(()) => gone.push(run.clone()),
            Err(error) => context.warn(failed(error).message),
        }
    }
    Ok(gone)
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

/// One run of a job at a time. The kernel lets go of the lock when the process ends, however it ends.
fn lock_job(home: &Home, job: &str) -> Outcome<Option<File>> {
    if job == crate::jobfile::ONCE {
        return Ok(None);
    }
    let path = home.lock_file(job);
    if let Some(parent) = path.parent() {
        make_folder(parent)?;
    }
    let failed =
        |error: std::io::Error| Failure::own_files(&format!("cannot lock {}", path.display()), error);
    let file = fs::OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => Ok(Some(file)),
        Err(fs::TryLockError::WouldBlock) => {
            Err(Failure::refused("already-running", format!("the job \"{job}\" is already running"))
                .hint("Wait for it to end; `reedhook status` shows it."))
        }
        Err(fs::TryLockError::Error(error)) => Err(failed(error)),
    }
}

/// Reserves a destination for one run.
pub fn lock_destination(right: &dyn Store, to: &Located, home: &Home) -> Outcome<Box<dyn Send + Sync>> {
    right.lock().map_err(|error| {
        let shown = to.shown(home);
        match error.kind {
            FaultKind::InUse => {
                Failure::refused("destination-in-use", format!("another run is writing to {shown}"))
                    .hint("Wait for it to end, then run again.")
            }
            kind => Failure::refused(kind.code(), format!("{shown} cannot be written: {}", kind.words()))
                .hint("Nothing was changed. Check the rights, or how the drive is mounted."),
        }
    })
}

/// A run's name: when it began, and four letters so that two machines never use the same one at one destination.
fn run_name(now: jiff::Timestamp) -> String {
    use std::hash::{BuildHasher, Hasher};
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    let mut chance = std::collections::hash_map::RandomState::new().build_hasher().finish();
    let mut tail = String::new();
    for _ in 0..4 {
        tail.push(char::from(LETTERS[(chance % 32) as usize]));
        chance /= 32;
    }
    format!("{}-{tail}", now.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y%m%d-%H%M%S"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::jobfile::JobKeys;
    use reedhook_core::job::Kind;
    use reedhook_stores::simulated::SimulatedStore;

    #[test]
    fn what_a_destination_cannot_hold_is_said_once_for_all_files() {
        let job = |preserve| {
            let (from, to) = (vec!["a".to_owned()], vec!["b".to_owned()]);
            Job::new("counts", JobKeys { kind: Some(Kind::Mirror), from, to, preserve, ..JobKeys::default() })
        };
        let whole = SimulatedStore::new("whole");
        let plain = SimulatedStore::new("plain").with_capabilities(|can| {
            can.modes = false;
            can.links = false;
        });
        let cases = [
            (&whole, None, ""),
            (&plain, None, "cannot hold modes, links; they are lost there"),
            (&plain, Some(Preserve::Content), ""),
            (&whole, Some(Preserve::Full), "cannot hold owners, extended attributes and second names"),
        ];
        for (store, preserve, words) in cases {
            let said = losses(&job(preserve).expect("a job"), store).join(" ");
            assert!(said.contains(words) && said.is_empty() == words.is_empty(), "{preserve:?}: {said}");
        }
    }
}
