//! What is not well, each as one sentence with what to do about it.
//!
//! What counts is how things stand at the end of the time: a run that failed on Tuesday and has gone well since is in the table of jobs
//! and needs nobody.

pub use crate::parts::Finding;

use std::collections::BTreeSet;

use jiff::ToSpan;
use reedhook_record::Outcome as RunOutcome;

use crate::parts::{JobPart, Report, Standing};
use crate::sums::Sum;
use crate::text::{bytes, count, grouped, moment_in, written};
use crate::words::overdue_words;

/// A drive that is full within so many days is worth a word now.
const SOON_DAYS: i64 = 30;

/// Everything that is not well, the most pressing first.
pub fn findings(report: &Report) -> Vec<Finding> {
    let mut found = Vec::new();
    for job in report.jobs.iter().filter(|job| job.standing != Standing::Gone) {
        found.extend(of_a_job(report, job));
    }
    let job = |code, about: &str, words, advice| Finding {
        code,
        about: about.to_owned(),
        of_a_job: true,
        words,
        advice,
    };
    for missed in report.not_run.iter().filter(|missed| !missed.made_up) {
        let last = moment_in(missed.last.at.as_millisecond(), &report.zone);
        let words = match missed.of {
            1 => format!("did not run when it was due, {last}"),
            _ => format!("did not run {} of {} times when it was due, last {last}", missed.times, missed.of),
        };
        let advice = "Is the service running? reedhook tend status".to_owned();
        found.push(job("not-run", &missed.job, words, advice));
    }
    let soon = report.period.until.checked_add((SOON_DAYS * 24).hours()).unwrap_or(report.period.until);
    for place in &report.destinations {
        let Some(full_on) = place.full_on.filter(|at| *at <= soon) else { continue };
        let day = written(full_on.as_millisecond(), &report.zone, "%Y-%m-%d");
        let words = format!("will be full about {day}: {} are free", bytes(place.free));
        let advice = "Free some space, or let kept copies stay for less long.".to_owned();
        let about = place.name();
        found.push(Finding { code: "full-soon", about, of_a_job: false, words, advice });
    }
    for untold in &report.untold {
        let times = count(untold.times, "notification", "notifications");
        let words = format!("{times} could not be sent, last: {}", untold.message);
        let advice = "Try it: reedhook notify test".to_owned();
        found.push(Finding { code: "untold", about: untold.way.clone(), of_a_job: false, words, advice });
    }
    found
}

fn of_a_job(report: &Report, part: &JobPart) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut say = |code, words: String, advice: String| {
        found.push(Finding { code, about: part.name.clone(), of_a_job: true, words, advice });
    };
    if let Standing::Broken(why) = &part.standing {
        say("broken", format!("has a file that cannot be understood: {why}"), String::new());
    }
    if let Some(last) = &part.last {
        let at = moment_in(last.started_ms, &report.zone);
        let message = last.end.message.trim_end_matches('.');
        let more = format!("reedhook history {} {}", part.name, last.number);
        match last.end.outcome {
            RunOutcome::Refused => say("refused", format!("was refused {at}: {message}"), String::new()),
            RunOutcome::Stopped => {
                say("stopped", format!("was stopped on its way {at}: {message}"), String::new())
            }
            RunOutcome::Interrupted => {
                say(
                    "interrupted",
                    format!("was interrupted {at}"),
                    format!("It goes on with: reedhook run {}", part.name),
                );
            }
            RunOutcome::Unfinished if !part.running => {
                let advice = format!("It goes on with: reedhook run {}", part.name);
                say("unfinished", format!("began {at} and did not come to its end"), advice);
            }
            RunOutcome::Problems => {
                let number = count(last.end.counts.problems, "problem", "problems");
                say("problems", format!("had {number} in its last run, {at}"), more);
            }
            _ => {}
        }
    }
    if part.held > 0 {
        let held = count(part.held, "conflict", "conflicts");
        say("held", format!("holds {held}"), format!("reedhook conflicts {}", part.name));
    }
    if let Some(overdue) = part.overdue {
        let words = overdue_words("", overdue, report.period.until.as_millisecond());
        say("overdue", words.trim_start().to_owned(), String::new());
    }
    found
}

/// That not every run ended well, where all is well now.
fn put_right(total: Sum) -> String {
    match total.runs - total.well {
        0 => String::new(),
        1 => "; 1 earlier run failed and has since succeeded".to_owned(),
        others => format!("; {} earlier runs failed and have since succeeded", grouped(others)),
    }
}

/// The first line: all well, or what is not.
pub fn verdict(report: &Report) -> String {
    let standing = report.jobs.iter().filter(|job| job.standing != Standing::Gone).count();
    let total = report.total();
    let runs = count(total.runs, "run", "runs");
    if report.jobs.is_empty() {
        return "There is no job yet.".to_owned();
    }
    if report.findings.is_empty() {
        let ran = report.jobs.iter().filter(|job| job.sum.runs > 0).count();
        return match total.runs {
            0 => "All well; nothing ran in this time.".to_owned(),
            _ => format!("All well: {runs} of {}{}.", count(ran as u64, "job", "jobs"), put_right(total)),
        };
    }
    let jobs: BTreeSet<&str> =
        report.findings.iter().filter(|one| one.of_a_job).map(|one| one.about.as_str()).collect();
    let others: BTreeSet<&str> =
        report.findings.iter().filter(|one| !one.of_a_job).map(|one| one.about.as_str()).collect();
    let jobs = match jobs.len() {
        0 => None,
        number => {
            let verb = if number == 1 { "needs" } else { "need" };
            Some(format!("{number} of {} {verb} a look", count(standing as u64, "job", "jobs")))
        }
    };
    let others = match others.len() {
        0 => None,
        1 => Some("one other thing does".to_owned()),
        number => Some(format!("{number} other things do")),
    };
    match (jobs, others) {
        (Some(jobs), None) => format!("Not well: {jobs}."),
        (Some(jobs), Some(others)) => format!("Not well: {jobs}, and {others}."),
        (None, _) => format!("The jobs are well ({runs}), but something else needs a look."),
    }
}
