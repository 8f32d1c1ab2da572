//! What is due: the next moment of a job's lines, what was missed while nobody followed them, and jobs that have not run for too long.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::when::{Missed, When};
use reedhook_record::{Followed, Outcome as RunOutcome, Record};

use crate::failure::Outcome;
use crate::home::Home;
use crate::jobfile::job::{Job, Timing};

/// A moment at which a job is due, and the line that says so.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Due {
    /// When.
    pub at: Timestamp,
    /// The whole line, as it was written.
    pub line: String,
}

/// The next moment of some lines after `from`.
pub fn next(lines: &[When], from: Timestamp, zone: &TimeZone) -> Option<Due> {
    let moments = lines
        .iter()
        .filter_map(|line| Some(Due { at: line.rule().after(from, zone)?, line: line.to_string() }));
    moments.min()
}

/// The moments of some lines after `from`, soonest first; one that two lines name comes once.
pub fn upcoming<'a>(
    lines: &'a [When],
    from: Timestamp,
    zone: &'a TimeZone,
) -> impl Iterator<Item = Due> + 'a {
    std::iter::successors(next(lines, from, zone), |last| next(lines, last.at, zone))
}

/// Until when nothing is owed any more: as far as the service has followed the job, or a run has begun since that came to its
/// end. A job that was never followed owes nothing from before its file was last written.
///
/// # Errors
/// When the record fails.
pub fn settled_until(record: &dyn Record, home: &Home, job: &Job, now: Timestamp) -> Outcome<Timestamp> {
    let written = std::fs::metadata(home.job_file(&job.name)).and_then(|meta| meta.modified()).ok();
    let written = written.and_then(|time| Timestamp::try_from(time).ok()).unwrap_or(now);
    let since = match record.followed(&job.name)? {
        Some(followed) if followed.lines == job.timing.as_text() => moment(followed.upto_ms),
        // Other lines hold since the file was written.
        Some(followed) => moment(followed.upto_ms).max(written),
        None => written,
    };
    let ended = |outcome| matches!(outcome, RunOutcome::Done | RunOutcome::Problems | RunOutcome::Held);
    let newest = record.runs(Some(&job.name), 20)?.into_iter().find(|run| ended(run.end.outcome));
    let ran = newest.map_or(since, |run| moment(run.started_ms));
    // A clock that was far ahead once must not keep a job from running.
    Ok(since.max(ran).min(now))
}

/// Remembers that nothing is owed any more that was due until `upto`. Lines that are new are followed since then.
///
/// # Errors
/// When the record fails.
pub fn settle_until(record: &mut dyn Record, job: &Job, upto: Timestamp) -> Outcome<()> {
    let upto_ms = upto.as_millisecond();
    let followed = Followed { lines: job.timing.as_text(), upto_ms, since_ms: Some(upto_ms) };
    Ok(record.set_followed(&job.name, &followed)?)
}

/// The last moment that was due after `since` and is over; a job whose misses are skipped owes none.
pub fn missed(timing: &Timing, since: Timestamp, now: Timestamp, zone: &TimeZone) -> Option<Due> {
    /// Enough to know that something is owed; which of many it was says nothing more.
    const ENOUGH: usize = 500;
    if timing.missed == Missed::Skip {
        return None;
    }
    upcoming(&timing.when, since, zone).take(ENOUGH).take_while(|due| due.at <= now).last()
}

/// A job that has not run well for longer than it may.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Overdue {
    /// For so many seconds.
    pub seconds: u64,
    /// It never has, since it was set up.
    pub never: bool,
}

/// Whether a job has not run well for longer than it may.
///
/// # Errors
/// When the record fails.
pub fn overdue(record: &dyn Record, home: &Home, job: &Job, now: Timestamp) -> Outcome<Option<Overdue>> {
    let Some(most) = job.timing.remind_after else { return Ok(None) };
    let last = record.last_completed(&job.name)?;
    let never = last.is_none();
    let since = match last {
        Some(run) => moment(run.started_ms),
        None => std::fs::metadata(home.job_file(&job.name))
            .and_then(|meta| meta.modified())
            .ok()
            .and_then(|time| Timestamp::try_from(time).ok())
            .unwrap_or(now),
    };
    let seconds = u64::try_from(now.as_second() - since.as_second()).unwrap_or(0);
    Ok((seconds > most.length().as_secs()).then_some(Overdue { seconds, never }))
}

fn moment(ms: i64) -> Timestamp {
    Timestamp::from_millisecond(ms).unwrap_or_default()
}
