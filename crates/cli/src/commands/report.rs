//! `report` and `metrics`: what is remembered, told to people, spreadsheets and programs.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use reedhook_core::job::Kind;
use reedhook_core::units::Moment;
use reedhook_jobs::atomic_file::{Mark, failed};
use reedhook_jobs::jobfile::{Job, job_names, load_job};
use reedhook_jobs::places::Ends;
use reedhook_report::causes::Trouble;
use reedhook_report::days::Day;
use reedhook_report::figures::{JobPart, Period, Report, Standing, Sum};
use reedhook_report::findings::verdict;
use reedhook_report::{metrics as figures, page, plain, sheet};
use serde_json::{Map, Value, json};

use super::when::instant;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::{json as lines, named_file, output};

/// Looks back.
pub fn report(
    context: &Context,
    jobs: &[String],
    since: &Moment,
    html: Option<&Path>,
    csv: Option<(&Path, bool)>,
) -> Outcome {
    let ever = context.desk.home.record()?;
    for job in jobs {
        // One that was removed has a past all the same.
        if ever.runs(Some(job), 1)?.is_empty() {
            load_job(&context.desk.home, job)?;
        }
    }
    drop(ever);
    let period = period(context, since);
    if period.since >= period.until {
        return Err(Failure::usage("--since lies in the future")
            .hint("Give a time that is over, such as --since 7d."));
    }
    let mut report = Report::of(&context.desk, jobs, period)?;
    // What is on which drive is no matter of one job.
    if jobs.is_empty()
        && let Err(failure) = report.add_inventories(&context.desk)
    {
        context.warn(failure.text());
    }
    // Whether they can be written is known before anything is printed.
    let sides = if csv.is_some() || html.is_some() { sides(context)? } else { Vec::new() };
    let begin = |path, mark| named_file::begin(context, path, mark, &sides).map(|file| (path, file));
    let sheet = csv.map(|(path, _)| begin(path, Mark::Begins(sheet::MARK))).transpose()?;
    let page = html.map(|path| begin(path, Mark::PAGE)).transpose()?;
    if context.global.json {
        print_json(context, &report);
    } else if report.jobs.is_empty() && job_names(&context.desk.home)?.is_empty() {
        context.say("There is no job yet. Set one up with `reedhook job add`.");
    } else {
        context.say(plain::text(&report).trim_end());
    }
    if let Some((path, mut file)) = sheet {
        let raw = csv.is_some_and(|(_, raw)| raw);
        let outcome = sheet::write(&context.desk, jobs, period, &mut file, raw)?;
        outcome.map_err(|error| failed(path, error))?;
        named_file::written(context, file)?;
    }
    if let Some((path, mut file)) = page {
        let text = page::html(&report, (context.desk.world.now)(), env!("CARGO_PKG_VERSION"));
        let text = text.map_err(|error| failed(path, error))?;
        std::io::Write::write_all(&mut file, text.as_bytes()).map_err(|error| failed(path, error))?;
        named_file::written(context, file)?;
    }
    Ok(0)
}

/// The folders that jobs write to: a page there would be taken for somebody's file, or removed by the next run.
fn sides(context: &Context) -> Outcome<Vec<PathBuf>> {
    let desk = &context.desk;
    let jobs = job_names(&desk.home)?.into_iter().filter_map(|name| load_job(&desk.home, &name).ok());
    let written = |job: Job| {
        let ends = Ends::of(&job, &desk.home, &desk.settings).ok()?;
        Some(if job.rules.kind == Kind::TwoWay { ends } else { Ends { from: Vec::new(), ..ends } })
    };
    Ok(jobs.filter_map(written).flat_map(|ends| ends.folders()).collect())
}

/// From a moment up to now.
pub fn period(context: &Context, since: &Moment) -> Period {
    let until = (context.desk.world.now)();
    let since = since.resolve(context.desk.now());
    Period { since: Timestamp::from_second(since.seconds()).unwrap_or(Timestamp::UNIX_EPOCH), until }
}

fn print_json(context: &Context, report: &Report) {
    let head = lines::object(json!({
        "event": "report", "since": instant(context, report.period.since), "until": instant(context, report.period.until),
        "well": report.findings.is_empty(), "verdict": verdict(report),
    }));
    lines::print(&with_sum(head, &report.total()));
    for one in &report.findings {
        let (about, of_a_job) = (&one.about, one.of_a_job);
        let mut line = lines::object(json!({"event": "finding", "code": one.code}));
        line.insert((if of_a_job { "job" } else { "about" }).to_owned(), json!(about));
        line.insert("message".to_owned(), json!(one.words));
        line.insert("advice".to_owned(), json!(one.advice));
        lines::print(&line.into());
    }
    report.jobs.iter().for_each(|part| lines::print(&job_line(context, part)));
    for missed in &report.not_run {
        lines::print(&json!({"event": "not-run", "job": missed.job, "times": missed.times, "of": missed.of,
            "last": instant(context, missed.last.at), "line": missed.last.line, "made_up": missed.made_up}));
    }
    report.troubles.iter().for_each(|trouble| lines::print(&trouble_line(trouble)));
    for place in &report.destinations {
        lines::print(
            &json!({"event": "destination", "places": place.places, "jobs": place.jobs, "free": place.free,
            "total": place.total, "seen": lines::time(place.at_ms), "per_day": place.per_day.map(|rate| rate.round() as i64),
            "full": place.full_on.map(|at| instant(context, at))}),
        );
    }
    for one in &report.once_only.inventories {
        lines::print(
            &json!({"event": "once-only", "inventory": one.name, "files": one.files, "bytes": one.bytes,
            "seen": lines::time(one.seen_ms)}),
        );
    }
    report.days.iter().for_each(|day| lines::print(&day_line(day)));
    for untold in &report.untold {
        lines::print(&json!({"event": "untold", "way": untold.way, "times": untold.times,
            "last": lines::time(untold.at_ms), "message": untold.message}));
    }
}

fn with_sum(line: Map<String, Value>, sum: &Sum) -> Value {
    let mut line = line;
    line.insert("runs".to_owned(), json!(sum.runs));
    line.insert("runs_well".to_owned(), json!(sum.well));
    let mut line = lines::with_counts(line, &sum.counts);
    line.insert("seconds".to_owned(), json!(lines::seconds(sum.elapsed)));
    line.into()
}

/// A day as a line of JSON.
pub fn day_line(day: &Day) -> Value {
    with_sum(lines::object(json!({"event": "day", "date": day.date.to_string()})), &day.sum)
}

fn job_line(context: &Context, part: &JobPart) -> Value {
    let kind = match &part.standing {
        Standing::Kind(kind) => kind.to_string(),
        Standing::Broken(_) => "broken".to_owned(),
        Standing::Gone => "gone".to_owned(),
    };
    let mut line = lines::object(json!({"event": "job", "job": part.name, "kind": kind}));
    let mut put = |key: &str, value: Value| drop(line.insert(key.to_owned(), value));
    if let Some(last) = &part.last {
        put("last", json!(lines::time(last.started_ms)));
        put("outcome", json!(last.end.outcome.as_str()));
    }
    if let Some(ms) = part.last_good_ms {
        put("last_good", json!(lines::time(ms)));
    }
    if let Some(due) = &part.next {
        put("next", json!(instant(context, due.at)));
    }
    put("running", json!(part.running));
    put("paused", json!(part.paused));
    put("overdue", json!(part.overdue.is_some()));
    put("held", json!(part.held));
    with_sum(line, &part.sum)
}

fn trouble_line(trouble: &Trouble) -> Value {
    let mut line = lines::object(json!({"event": "cause", "job": trouble.job, "code": trouble.code,
        "items": trouble.items, "in_runs": trouble.runs, "run": trouble.run, "still": trouble.still,
        "path": trouble.path, "message": trouble.message, "advice": trouble.advice}));
    if let Some(leave_out) = &trouble.leave_out {
        line.insert("lines".to_owned(), json!(leave_out.lines));
        line.insert("more".to_owned(), json!(leave_out.more));
        line.insert("command".to_owned(), json!(leave_out.command));
    }
    line.into()
}

/// Tells the figures of this moment.
pub fn metrics(context: &Context, to: Option<&Path>) -> Outcome {
    match to {
        Some(path) => {
            figures::write(&context.desk, path)?;
            context.say(format!("Written: {}", path.display()));
        }
        None if context.global.json => {
            return Err(Failure::usage("figures have a form of their own").hint("Leave --json out."));
        }
        None => {
            output::raw(figures::text(&context.desk)?.as_bytes());
            if job_names(&context.desk.home)?.is_empty() {
                context.warn("There is no job yet, so there are no figures.");
            }
        }
    }
    Ok(0)
}
