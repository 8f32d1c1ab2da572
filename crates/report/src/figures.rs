//! The figures of a report: what ran in a time, and what came of it.

pub use crate::parts::{JobPart, Report, Standing, Untold};
pub use crate::sums::{Period, Sum};

use std::collections::{BTreeMap, HashMap, VecDeque};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due;
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::jobfile::{Job, job_names, load_job};
use reedhook_jobs::run::is_running;
use reedhook_record::{Notification, Outcome as RunOutcome, Record, RunRow, Telling};

use crate::causes::{self, Troubled};
use crate::days::Days;
use crate::findings::findings;
use crate::lonely::{OnceOnly, once_only};
use crate::missed::not_run;
use crate::rooms::destinations;

impl Report {
    /// Adds what exists on one drive only.
    ///
    /// # Errors
    /// When the inventories cannot be read; all the rest holds.
    pub fn add_inventories(&mut self, desk: &Desk) -> Outcome<()> {
        self.once_only = once_only(desk)?;
        Ok(())
    }

    /// Gathers what is known of some jobs (all, when none is named) in a time.
    ///
    /// # Errors
    /// When the record or a log cannot be read.
    pub fn of(desk: &Desk, names: &[String], period: Period) -> Outcome<Report> {
        let record = desk.home.record()?;
        let (since, until) = period.in_ms();
        let wanted = |job: &str| names.is_empty() || names.iter().any(|name| name == job);
        let mut gathered = RunSums::of(&desk.world.zone);
        record.each_run_between(since, until, &mut |run| {
            if wanted(&run.job) {
                gathered.add(run);
            }
        })?;
        let RunSums { sums, lasted, troubled, last, days, newest } = gathered;
        let mut rooms = record.rooms_since(since)?;
        rooms.retain(|room| wanted(&room.job) && room.at_ms < until);
        let mut set_up: BTreeMap<String, Outcome<Job>> = BTreeMap::new();
        for name in job_names(&desk.home)?.into_iter().filter(|name| wanted(name)) {
            set_up.insert(name.clone(), load_job(&desk.home, &name));
        }
        let all: std::collections::BTreeSet<&String> = sums.keys().chain(set_up.keys()).collect();
        let mut jobs = Vec::new();
        for name in all {
            let sum = sums.get(name).cloned().unwrap_or_default();
            jobs.push(job_part(desk, record.as_ref(), name, set_up.get(name), sum, period.until)?);
        }
        let mut missed = Vec::new();
        for job in set_up.values().flatten() {
            let of_it = lasted.get(&job.name).map(Vec::as_slice).unwrap_or_default();
            missed.extend(not_run(desk, record.as_ref(), job, of_it, period)?);
        }
        let groups = record.problems_between(since, until)?;
        let troubles = causes::troubles(desk, &troubled, &last, groups)?;
        let mut told = record.told_since(since)?;
        told.retain(|told| told.job.is_empty() || wanted(&told.job));
        let zone = desk.world.zone.clone();
        let mut report = Report {
            period,
            findings: Vec::new(),
            days: days.within(period),
            jobs,
            not_run: missed,
            troubles,
            destinations: destinations(&rooms),
            newest,
            untold: untold(&told),
            once_only: OnceOnly::default(),
            zone,
        };
        report.findings = findings(&report);
        Ok(report)
    }

    /// What all of it comes to.
    pub fn total(&self) -> Sum {
        let mut total = Sum::default();
        self.jobs.iter().for_each(|job| total.add_sum(&job.sum));
        total
    }
}

/// So many of the newest runs are kept whole.
const NEWEST: usize = 500;

/// What is gathered of runs while they go by.
struct RunSums {
    /// What each job's came to.
    sums: BTreeMap<String, Sum>,
    /// When each job's began and ended.
    lasted: HashMap<String, Vec<(i64, i64)>>,
    /// Those with problems, by key.
    troubled: HashMap<i64, Troubled>,
    /// The key of each job's newest.
    last: HashMap<String, i64>,
    days: Days,
    newest: VecDeque<RunRow>,
}

impl RunSums {
    fn of(zone: &TimeZone) -> RunSums {
        RunSums {
            sums: BTreeMap::new(),
            lasted: HashMap::new(),
            troubled: HashMap::new(),
            last: HashMap::new(),
            days: Days::of(zone),
            newest: VecDeque::new(),
        }
    }

    fn add(&mut self, run: RunRow) {
        self.sums.entry(run.job.clone()).or_default().add(&run);
        self.days.add(&run);
        let length = i64::try_from(run.end.elapsed.as_millis()).unwrap_or(i64::MAX);
        let lasted = (run.started_ms, run.started_ms.saturating_add(length));
        self.lasted.entry(run.job.clone()).or_default().push(lasted);
        self.last.insert(run.job.clone(), run.id);
        if run.end.counts.problems > 0 {
            let (id, number) = (run.id, run.number);
            self.troubled.insert(id, Troubled { id, number, job: run.job.clone(), run: run.run.clone() });
        }
        if self.newest.len() == NEWEST {
            self.newest.pop_front();
        }
        self.newest.push_back(run);
    }
}

/// How all jobs that are set up stand now; of their runs only the newest are looked at.
///
/// # Errors
/// When the record cannot be read.
pub fn standings(desk: &Desk) -> Outcome<Vec<JobPart>> {
    let (record, now) = (desk.home.record()?, (desk.world.now)());
    let names = job_names(&desk.home)?.into_iter();
    let part = |name: String| {
        let job = load_job(&desk.home, &name);
        job_part(desk, record.as_ref(), &name, Some(&job), Sum::default(), now)
    };
    names.map(part).collect()
}

fn job_part(
    desk: &Desk,
    record: &dyn Record,
    name: &str,
    job: Option<&Outcome<Job>>,
    sum: Sum,
    now: Timestamp,
) -> Outcome<JobPart> {
    /// More runs in a row that were no usual ones than this are as good as none.
    const ENOUGH: u32 = 50;
    let newest = record.runs(Some(name), ENOUGH)?;
    let completed = record.last_completed(name)?;
    let last = newest.iter().find(|run| !is_of_a_sort(run)).cloned();
    let settled: u64 = newest
        .iter()
        .take_while(|run| completed.as_ref().is_none_or(|last| run.id > last.id))
        .filter(|run| run.end.code == "settle")
        .map(|run| run.end.counts.settled)
        .sum();
    let held = completed.as_ref().map_or(0, |run| run.end.counts.conflicts).saturating_sub(settled);
    let good = job.and_then(|job| job.as_ref().ok());
    Ok(JobPart {
        name: name.to_owned(),
        standing: match job {
            Some(Ok(job)) => Standing::Kind(job.rules.kind),
            Some(Err(failure)) => Standing::Broken(failure.text()),
            None => Standing::Gone,
        },
        paused: good.is_some_and(|job| job.timing.paused),
        running: is_running(&desk.home, name),
        sum,
        last,
        last_good_ms: completed.map(|run| run.started_ms),
        next: good
            .filter(|job| !job.timing.paused)
            .and_then(|job| due::next(&job.timing.when, now, &desk.world.zone)),
        overdue: good.map(|job| due::overdue(record, &desk.home, job, now)).transpose()?.flatten(),
        held: if job.is_some() { held } else { 0 },
    })
}

/// Whether a run is an undo, a restore or the like: it went well, and has a word of its own all the same.
fn is_of_a_sort(run: &RunRow) -> bool {
    let ended = matches!(run.end.outcome, RunOutcome::Done | RunOutcome::Problems | RunOutcome::Held);
    ended && !run.end.code.is_empty()
}

/// What was not told in the end: a digest that failed at first was tried again.
fn untold(told: &[Notification]) -> Vec<Untold> {
    let mut ways: BTreeMap<&str, Untold> = BTreeMap::new();
    for (at, one) in told.iter().enumerate().filter(|(_, one)| one.telling == Telling::Failed) {
        let again =
            |later: &Notification| later.way == one.way && later.job == one.job && later.what == one.what;
        // It went through later, or the later attempt counts.
        if one.job.is_empty() && told[at + 1..].iter().any(again) {
            continue;
        }
        let known = ways.entry(&one.way).or_insert_with(|| Untold {
            way: one.way.clone(),
            times: 0,
            at_ms: 0,
            message: String::new(),
        });
        (known.times, known.at_ms, known.message) = (known.times + 1, one.at_ms, one.message.clone());
    }
    ways.into_values().collect()
}
