//! `status`: all jobs at a glance.

use reedhook_core::when::Rule;
use reedhook_jobs::due::{self, Due};
use reedhook_jobs::jobfile::{Job, job_names, load_job};
use reedhook_jobs::run::is_running;
use reedhook_record::{Outcome as RunOutcome, RunRow};
use serde_json::{Value, json};

use super::when::{instant, next_of, shown};
use crate::context::Context;
use crate::failure::Outcome;
use crate::json as lines;
use crate::text::{Align, BAD, CARE, Columns, ago, moment, overdue_words, result_of};

/// How long a job may lie still before it is pointed out.
const STALE_DAYS: i64 = 10;

/// Shows when each job last ran and how it went.
pub fn status(context: &Context) -> Outcome {
    let names = job_names(&context.desk.home)?;
    if names.is_empty() {
        context.say("There is no job yet. Set one up with `reedhook job add`.");
        return Ok(0);
    }
    let record = context.desk.home.record()?;
    let now = crate::clock::now_ms();
    let mut table = Columns::new(&[Align::Left; 6]);
    table.heading(&["job", "kind", "last run", "", "result", "next"]);
    let mut warnings = Vec::new();
    let clock = (context.desk.world.now)();
    for name in &names {
        let (job, unreadable) = match load_job(&context.desk.home, name) {
            Ok(job) => (Some(job), None),
            Err(why) => (None, Some(why.message)),
        };
        let kind = job.as_ref().map_or("broken".to_owned(), |job| job.rules.kind.to_string());
        let next = job.as_ref().and_then(|job| next_of(context, job, clock));
        let overdue = match &job {
            Some(job) => due::overdue(record.as_ref(), &context.desk.home, job, clock)?,
            None => None,
        };
        let last = record.runs(Some(name), 1)?.into_iter().next();
        let completed = record.last_completed(name)?;
        let idle_days = completed.as_ref().map(|run| (now - run.started_ms) / 86_400_000);
        let running = is_running(&context.desk.home, name);
        if context.global.json {
            let mut line = lines::object(status_line(name, &kind, last.as_ref(), running));
            line.insert("overdue".into(), json!(overdue.is_some()));
            if let Some(due) = next {
                line.insert("next".into(), json!(instant(context, due.at)));
                line.insert("line".into(), json!(due.line));
            }
            if let Some(why) = unreadable {
                line.insert("message".into(), json!(why));
            }
            lines::print(&line.into());
            continue;
        }
        warnings.extend(unreadable.map(|why| format!("{why}.")));
        let next =
            job.as_ref().map(|job| next_words(context, job, next, overdue.is_some())).unwrap_or_default();
        if let Some(overdue) = overdue {
            warnings.push(format!("{}.", overdue_words(name, overdue, now)));
        } else if idle_days.is_some_and(|days| days >= STALE_DAYS) {
            warnings.push(format!("{name} has not run for {} days.", idle_days.unwrap_or_default()));
        }
        let Some(last) = last else {
            let style = if overdue.is_some() { BAD } else { anstyle::Style::new() };
            table.styled_row(
                style,
                vec![name.clone(), kind, "never".into(), String::new(), String::new(), next],
            );
            continue;
        };
        let result = if running { "running now".to_owned() } else { result_words(&last) };
        let style = match last.end.outcome {
            _ if running => anstyle::Style::new(),
            _ if overdue.is_some() => BAD,
            RunOutcome::Done => anstyle::Style::new(),
            RunOutcome::Problems | RunOutcome::Held | RunOutcome::Interrupted => CARE,
            RunOutcome::Refused | RunOutcome::Stopped | RunOutcome::Unfinished => BAD,
        };
        let when = ago(last.started_ms, now);
        table.styled_row(style, vec![name.clone(), kind, moment(last.started_ms), when, result, next]);
    }
    if !context.global.json {
        context.say(table.render(0).trim_end());
        for line in warnings {
            context.warn(line);
        }
    }
    Ok(0)
}

/// When a job runs next by itself, in a few words: overdue, paused, a moment, or what it waits for.
pub fn next_words(context: &Context, job: &Job, next: Option<Due>, overdue: bool) -> String {
    let at = |due: Due| shown(context, due.at);
    let triggers = || {
        let lines = job.timing.when.iter().filter(|line| matches!(line.rule(), Rule::On(_)));
        lines.map(ToString::to_string).collect::<Vec<_>>().join(", ")
    };
    let words = match (job.timing.paused, next) {
        (true, _) => "paused".to_owned(),
        (false, Some(due)) => at(due),
        (false, None) => triggers(),
    };
    match (overdue, words.is_empty()) {
        (true, true) => "overdue".to_owned(),
        (true, false) => format!("overdue; {words}"),
        (false, _) => words,
    }
}

/// A run's result in a few words.
pub fn result_words(run: &RunRow) -> String {
    result_of(&run.end)
}

fn status_line(name: &str, kind: &str, last: Option<&RunRow>, running: bool) -> Value {
    let mut object = lines::object(json!({"event": "status", "job": name, "kind": kind, "running": running}));
    let Some(last) = last else {
        object.insert("outcome".into(), json!("never"));
        return Value::Object(object);
    };
    object.insert("run".into(), json!(last.run));
    object.insert("started".into(), json!(lines::time(last.started_ms)));
    object.insert("outcome".into(), json!(last.end.outcome.as_str()));
    Value::Object(lines::with_counts(object, &last.end.counts))
}
