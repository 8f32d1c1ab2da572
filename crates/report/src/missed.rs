//! What should have run and did not: the moments that a job's lines name, against the runs that began.

use jiff::Timestamp;
use reedhook_core::when::Rule;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due::{self, Due};
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::jobfile::Job;
use reedhook_record::Record;

use crate::sums::Period;

/// A run may begin so much before the moment for which it is meant: clocks are not alike.
const EARLY_MS: i64 = 60_000;

/// What is due may take so long to begin before it counts as not run: other runs go before it.
const LATE_MS: i64 = 15 * 60_000;

/// More moments than these are not looked at one by one.
const MOST: usize = 200_000;

/// A job that did not run at all moments that its lines name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotRun {
    /// The job's name.
    pub job: String,
    /// How often.
    pub times: u64,
    /// Of how many moments.
    pub of: u64,
    /// The last of them.
    pub last: Due,
    /// It has run since.
    pub made_up: bool,
}

/// The moments of a job's lines in a time at which no run began, nor one went on that had begun before. Until the next moment a run
/// counts for the one before it, however late it is. Lines are only known since they are followed. Runs are given as when they began and
/// ended, in milliseconds since 1970.
///
/// # Errors
/// When the record fails.
pub fn not_run(
    desk: &Desk,
    record: &dyn Record,
    job: &Job,
    lasted: &[(i64, i64)],
    period: Period,
) -> Outcome<Option<NotRun>> {
    let timed = job.timing.when.iter().any(|line| !matches!(line.rule(), Rule::On(_)));
    if !timed || job.timing.paused {
        return Ok(None);
    }
    let since = period.since.max(followed_since(desk, record, job, period.until)?);
    let moments = due::upcoming(&job.timing.when, since, &desk.world.zone);
    let moments: Vec<Due> = moments.take_while(|due| due.at < period.until).take(MOST).collect();
    let mut lasted = lasted.to_vec();
    // The order in which they began is not that of a clock that was set.
    lasted.sort_unstable();
    Ok(compare(&job.name, &moments, &lasted, period.until.as_millisecond()))
}

/// Both are sorted; the runs as when they began and ended.
fn compare(job: &str, moments: &[Due], runs: &[(i64, i64)], now_ms: i64) -> Option<NotRun> {
    let mut missed: Option<NotRun> = None;
    let (mut next_run, mut busy_until) = (0, i64::MIN);
    for (at, due) in moments.iter().enumerate() {
        let due_ms = due.at.as_millisecond();
        while let Some((began, ended)) = runs.get(next_run).filter(|(began, _)| *began < due_ms - EARLY_MS) {
            busy_until = busy_until.max(*ended.max(began));
            next_run += 1;
        }
        let until = moments.get(at + 1).map_or(i64::MAX, |next| next.at.as_millisecond() - EARLY_MS);
        let ran = runs.get(next_run).is_some_and(|(began, _)| *began < until);
        // What is due just now may still begin.
        if ran || busy_until >= due_ms || due_ms > now_ms - LATE_MS {
            continue;
        }
        let made_up = next_run < runs.len();
        let (times, of) = (1, moments.len() as u64);
        match &mut missed {
            Some(known) => (known.times, known.last, known.made_up) = (known.times + 1, due.clone(), made_up),
            None => missed = Some(NotRun { job: job.to_owned(), times, of, last: due.clone(), made_up }),
        }
    }
    missed
}

/// Since when a job's lines are known to hold.
fn followed_since(desk: &Desk, record: &dyn Record, job: &Job, now: Timestamp) -> Outcome<Timestamp> {
    let followed = record.followed(&job.name)?.filter(|known| known.lines == job.timing.as_text());
    if let Some(since) = followed.and_then(|known| known.since_ms) {
        return Ok(Timestamp::from_millisecond(since).unwrap_or(now));
    }
    let written = std::fs::metadata(desk.home.job_file(&job.name)).and_then(|meta| meta.modified()).ok();
    Ok(written.and_then(|time| Timestamp::try_from(time).ok()).unwrap_or(now))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_stand_for_the_moments_before_them() {
        const MINUTE: i64 = 60_000;
        let due = |minute: i64| Due {
            at: Timestamp::from_millisecond(minute * MINUTE).unwrap(),
            line: "every 1h".to_owned(),
        };
        let moments: Vec<Due> = (1..=4).map(|hour| due(hour * 60)).collect();
        // Runs as (began, ended) in minutes; how many moments are missed, the last of them, and whether a run came after it.
        type Row<'a> = (&'a [(i64, i64)], u64, i64, bool);
        let rows: [Row<'_>; 7] = [
            (&[(60, 61), (120, 121), (180, 181), (240, 241)], 0, 0, false),
            (&[], 4, 240, false),
            (&[(60, 61), (240, 241)], 2, 180, true),
            (&[(61, 190), (240, 241)], 0, 0, false),
            (&[(100, 101), (179, 180), (239, 250)], 1, 120, true),
            (&[(10, 11)], 4, 240, false),
            (&[(10, 70), (130, 131), (200, 201), (299, 300)], 0, 0, false),
        ];
        for (runs, times, last, made_up) in rows {
            let runs: Vec<_> = runs.iter().map(|(began, ended)| (began * MINUTE, ended * MINUTE)).collect();
            let found = compare("counts", &moments, &runs, 300 * MINUTE);
            let told = found.map_or((0, 0, false), |missed| {
                (missed.times, missed.last.at.as_millisecond() / MINUTE, missed.made_up)
            });
            assert_eq!(told, (times, last, made_up), "{runs:?}");
        }
        assert_eq!(compare("counts", &moments[..1], &[], 61 * MINUTE), None, "it may still begin");
    }
}
