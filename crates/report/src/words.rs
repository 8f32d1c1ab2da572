//! What is told of runs and jobs, in a few words: the same on every road on which it is told.

use reedhook_core::when::Finally;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::observer::Finishing;
use reedhook_record::{Outcome as RunOutcome, RunEnd};

use crate::sums::Sum;
use crate::text::{ago, bytes, count, duration, grouped};

/// That a job has not run well for longer than it may.
pub fn overdue_words(job: &str, overdue: Overdue, now_ms: i64) -> String {
    let since = ago(now_ms - i64::try_from(overdue.seconds).unwrap_or(0).saturating_mul(1000), now_ms);
    match overdue.never {
        true => format!("{job} is overdue: it was set up {since} and has never run well"),
        false => format!("{job} is overdue: the last run that went well began {since}"),
    }
}

/// How near it is that the machine goes down; `no` says how somebody keeps it on.
pub fn finishing_words(finishing: &Finishing<'_>, no: &str) -> String {
    match finishing {
        Finishing::Waits { what: Finally::Eject, behind } => {
            format!("The drive is unmounted later: {behind}.")
        }
        Finishing::Waits { what, behind } => {
            format!("Waiting before this machine {}: {behind}. {no}", down_words(*what))
        }
        Finishing::CountsDown { what, left } => {
            format!("This machine {} in {} s. {no}", down_words(*what), left.as_secs_f64().ceil())
        }
        Finishing::LeftOn => "This machine stays on.".to_owned(),
    }
}

fn down_words(what: Finally) -> &'static str {
    match what {
        Finally::Suspend => "is suspended",
        Finally::PowerOff => "powers off",
        Finally::Eject | Finally::Nothing => "stays on",
    }
}

/// What all runs of a time come to.
pub fn total_words(total: &Sum) -> String {
    format!(
        "all {}, {} well; {}, {} in {}",
        count(total.runs, "run", "runs"),
        grouped(total.well),
        count(total.items(), "item", "items"),
        bytes(total.counts.bytes),
        duration(total.elapsed)
    )
}

/// How a run ended, in a few words.
pub fn result_of(end: &RunEnd) -> String {
    let counts = &end.counts;
    let mut parts = Vec::new();
    // A run that is not the job's usual one says so before its numbers.
    let mut sort = String::new();
    match end.outcome {
        RunOutcome::Done | RunOutcome::Problems | RunOutcome::Held if end.code.is_empty() => {}
        RunOutcome::Done | RunOutcome::Problems | RunOutcome::Held => sort = format!("{}: ", end.code),
        RunOutcome::Refused => return format!("refused: {}", end.code),
        RunOutcome::Stopped => parts.push(format!("stopped: {}", end.code)),
        RunOutcome::Interrupted => parts.push("interrupted".to_owned()),
        RunOutcome::Unfinished => return "did not end".to_owned(),
    }
    let words = [
        (counts.added, "added"),
        (counts.updated, "updated"),
        (counts.moved, "moved"),
        (counts.removed, "removed"),
        (counts.meta, "adjusted"),
    ];
    parts.extend(
        words
            .into_iter()
            .filter(|(number, _)| *number > 0)
            .map(|(number, word)| format!("{} {word}", grouped(number))),
    );
    if counts.bytes > 0 {
        parts.push(bytes(counts.bytes));
    }
    if parts.is_empty() {
        parts.push(if counts.problems > 0 { "nothing done" } else { "nothing to do" }.to_owned());
    }
    if counts.problems > 0 {
        parts.push(count(counts.problems, "problem", "problems"));
    }
    if counts.conflicts > 0 {
        parts.push(format!("{} held", count(counts.conflicts, "conflict", "conflicts")));
    }
    format!("{sort}{} in {}", parts.join(", "), duration(end.elapsed))
}
