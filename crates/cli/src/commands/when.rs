//! `when`: the lines by which jobs run by themselves.

use std::io::Write as _;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use reedhook_core::units::Age;
use reedhook_core::when::{Missed, OnBattery, Rule, Trigger, When};
use reedhook_jobs::atomic_file::{Mark, failed};
use reedhook_jobs::due::{self, Due};
use reedhook_jobs::jobfile::{Job, job_names, load_job};
use reedhook_tend::calendar;
use serde_json::json;

use super::install;
use crate::args::WhenArgs;
use crate::commands::job_files::change_file;
use crate::context::{Context, print_text};
use crate::failure::{Failure, Outcome, exit_of};
use crate::text::{Align, BOLD, Columns, DIM, count, styled};
use crate::{json as lines, named_file, render};

/// What is wanted of a job's lines.
const VERBS: [&str; 4] = ["set", "off", "install", "remove"];

/// Carries out `when`.
pub fn when(context: &Context, asked: &WhenArgs) -> Outcome {
    let words: Vec<&str> = asked.words.iter().map(String::as_str).collect();
    let slip = |given: bool, option: &str, of: &str| match given {
        true => Err(Failure::usage(format!("{option} belongs to `when {of}`"))),
        false => Ok(()),
    };
    let (first, rest) = (words[0], &words[1..]);
    if first != "calendar" {
        slip(asked.to.is_some(), "--to", "calendar")?;
    }
    if !matches!(first, "calendar" | "next") {
        slip(asked.from.is_some(), "--from", "next")?;
    }
    if rest.first() != Some(&"install") {
        slip(asked.print, "--print", "JOB install")?;
        slip(asked.with.is_some(), "--with", "JOB install")?;
    }
    match (first, rest) {
        ("next", jobs) => next(context, jobs, asked),
        ("calendar", []) => write_calendar(context, asked),
        ("calendar", [word, ..]) => Err(too_much("calendar", word)),
        (job, []) => show(context, job),
        (job, ["set", lines @ ..]) => set(context, job, lines),
        (job, ["off"]) => off(context, job),
        (job, ["install"]) => {
            install::job(context, &load_job(&context.desk.home, job)?, asked.print, asked.with)
        }
        (job, ["remove"]) => install::remove_job(context, job),
        (_, [verb @ ("off" | "install" | "remove"), word, ..]) => Err(too_much(verb, word)),
        (job, [word, ..]) => {
            load_job(&context.desk.home, job)?;
            let known: Vec<String> = VERBS.iter().map(|verb| (*verb).to_owned()).collect();
            Err(Failure::usage(format!("\"{word}\" is nothing that `when {job}` can do"))
                .hint(crate::failure::suggestion(word, &known, "such word")))
        }
    }
}

fn too_much(verb: &str, word: &str) -> Failure {
    Failure::usage(format!("nothing comes after {verb}, but there is \"{word}\""))
}

/// The moment that stands for now: an instant, a local time, or a day's beginning.
fn from(context: &Context, asked: &WhenArgs) -> Outcome<Timestamp> {
    let Some(text) = asked.from.as_deref().map(str::trim) else { return Ok((context.desk.world.now)()) };
    let zone = &context.desk.world.zone;
    let local = |at: DateTime| reedhook_core::when::local(at, zone);
    let found = text
        .parse::<Timestamp>()
        .ok()
        .or_else(|| text.parse::<DateTime>().ok().and_then(local))
        .or_else(|| text.parse::<Date>().ok().and_then(|date| local(date.at(0, 0, 0, 0))));
    found.ok_or_else(|| {
        Failure::usage(format!("\"{text}\" is no time"))
            .hint("Write 2031-03-30, '2031-03-30 01:00' or 2031-03-30T01:00:00+01:00.")
    })
}

/// A moment as programs get it: local, with how far the clock is ahead.
pub fn instant(context: &Context, at: Timestamp) -> String {
    at.to_zoned(context.desk.world.zone.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

/// The same for people: `Fri 2031-05-04 18:00`, with seconds where there are any.
pub fn shown(context: &Context, at: Timestamp) -> String {
    let at = at.to_zoned(context.desk.world.zone.clone());
    at.strftime(if at.second() == 0 { "%a %Y-%m-%d %H:%M" } else { "%a %Y-%m-%d %H:%M:%S" }).to_string()
}

/// How long it is until then: `in 5 minutes`.
pub fn ahead(at: Timestamp, now: Timestamp) -> String {
    let seconds = (at.as_second() - now.as_second()).max(0);
    let said = |number: i64, one: &str, many: &str| format!("in {}", count(number.unsigned_abs(), one, many));
    match seconds {
        0..60 => said(seconds, "second", "seconds"),
        60..5400 => said((seconds + 30) / 60, "minute", "minutes"),
        5400..129_600 => said((seconds + 1800) / 3600, "hour", "hours"),
        _ => said((seconds + 43_200) / 86_400, "day", "days"),
    }
}

fn show(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let now = (context.desk.world.now)();
    if context.global.json {
        let next = next_of(context, &job, now);
        let mut line = lines::object(json!({
            "event": "when", "job": name, "lines": job.timing.when, "paused": job.timing.paused,
        }));
        if let Some(due) = next {
            line.insert("next".into(), json!(instant(context, due.at)));
            line.insert("line".into(), json!(due.line));
        }
        lines::print(&line.into());
        return Ok(0);
    }
    context.say(format!("{}  {}", styled(BOLD, name), job.rules.kind));
    if job.timing.when.is_empty() {
        context.say("  It runs only when somebody runs it.");
        context.say(format!("\nLet it run by itself: reedhook when {name} set 'daily 18:00' 'on connect'"));
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Left; 3]);
    for line in &job.timing.when {
        let (at, in_words) = match line.rule() {
            Rule::On(trigger) => (trigger_words(*trigger), String::new()),
            rule => match rule.after(now, &context.desk.world.zone) {
                Some(at) => (shown(context, at), ahead(at, now)),
                None => ("not any more".to_owned(), String::new()),
            },
        };
        table.row(vec![line.to_string(), at, in_words]);
    }
    context.say(table.render(2).trim_end());
    for sentence in habits(&job) {
        context.say(format!("  {sentence}"));
    }
    if let Some(what) = install::runs_it(context, name) {
        context.say(format!("  {what} runs it."));
        if is_tended(context) {
            context.warn("the service follows it too: it runs twice");
        }
    } else if !is_tended(context) {
        context.say(format!(
            "\nNothing follows these lines now. Start `reedhook tend`, or let the system do it:\n  \
             reedhook tend install, or reedhook when {name} install"
        ));
    }
    Ok(0)
}

fn trigger_words(trigger: Trigger) -> String {
    match trigger {
        Trigger::Change { quiet } => {
            format!("when something has changed, after {} of quiet", Age::from_seconds(quiet.as_secs()))
        }
        Trigger::Connect => "when a drive of it is connected and all its places are there".to_owned(),
        Trigger::Start => "when the service starts".to_owned(),
    }
}

/// What a job does about runs that cannot be as its lines say, in sentences; only what is not as usual.
fn habits(job: &Job) -> Vec<String> {
    let timing = &job.timing;
    let mut said = Vec::new();
    if timing.paused {
        said.push(format!(
            "It is paused: nothing begins by itself. `reedhook tend pause {} --off` ends that.",
            job.name
        ));
    }
    if timing.missed == Missed::Skip {
        said.push("A run that was missed is left out.".to_owned());
    }
    if timing.ask {
        said.push("It asks before it begins by itself.".to_owned());
    }
    if let Some(retry) = timing.retry {
        said.push(format!("A run that was stopped, or found its server absent, is tried again {retry}."));
    }
    if timing.on_battery == OnBattery::Wait {
        said.push("It waits while the machine runs on its battery.".to_owned());
    }
    if let Some(most) = timing.remind_after {
        said.push(format!("It is overdue when it has not run well for {most}."));
    }
    said
}

/// Whether the service of this home is running.
pub fn is_tended(context: &Context) -> bool {
    let file = std::fs::File::open(context.desk.home.state().join("tend.lock"));
    file.is_ok_and(|file| matches!(file.try_lock_shared(), Err(std::fs::TryLockError::WouldBlock)))
}

/// What is due next of a job that is not paused.
pub fn next_of(context: &Context, job: &Job, now: Timestamp) -> Option<Due> {
    due::next(&job.timing.when, now, &context.desk.world.zone).filter(|_| !job.timing.paused)
}

fn set(context: &Context, name: &str, typed: &[&str]) -> Outcome {
    load_job(&context.desk.home, name)?;
    let lines = read(typed)?;
    let job = change_file(context, name, |document| {
        let mut array: toml_edit::Array = lines.iter().map(When::as_str).collect();
        array.fmt();
        document["when"] = toml_edit::value(array);
        Ok(())
    })?;
    tell_service(context);
    job.idle_keys().into_iter().for_each(|words| context.warn(words));
    show(context, name)
}

/// Lines as they were typed. Whoever forgets the quotes has typed one line, word by word.
fn read(typed: &[&str]) -> Outcome<Vec<When>> {
    if typed.is_empty() {
        return Err(
            Failure::usage("the lines are missing").hint("For example: set 'daily 18:00' 'on connect'.")
        );
    }
    let each: Result<Vec<When>, _> = typed.iter().map(|line| line.parse()).collect();
    each.or_else(|error| typed.join(" ").parse().map(|line| vec![line]).map_err(|_| error))
        .map_err(|error| Failure::usage(error.to_string()).hint("`reedhook when --help` has all forms."))
}

fn off(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    change_file(context, name, |document| {
        document.remove("when");
        Ok(())
    })?;
    tell_service(context);
    let was = job.timing.when.iter().map(|line| format!("\"{line}\"")).collect::<Vec<_>>().join(", ");
    context.say(match was.is_empty() {
        true => format!("The job {name} does not run by itself, as before."),
        false => format!("The job {name} does not run by itself any more. It was: {was}."),
    });
    Ok(0)
}

/// Lets the service, where there is one, read the change at once; it would see it anyway.
pub fn tell_service(context: &Context) {
    let _ = reedhook_tend::socket::ask(context.desk.home.state(), &reedhook_tend::protocol::Request::Reload);
}

/// The jobs that are named, or all; one that cannot be read does not hide the others.
fn jobs(context: &Context, names: &[&str]) -> Outcome<(Vec<Job>, u8)> {
    let home = &context.desk.home;
    if !names.is_empty() {
        return Ok((names.iter().map(|name| load_job(home, name)).collect::<Outcome<_>>()?, 0));
    }
    let (mut all, mut code) = (Vec::new(), 0);
    for name in job_names(home)? {
        match load_job(home, &name) {
            Ok(job) => all.push(job),
            Err(failure) => {
                context.complain(&failure);
                code = exit_of(&failure);
            }
        }
    }
    Ok((all, code))
}

fn next(context: &Context, names: &[&str], asked: &WhenArgs) -> Outcome {
    let (jobs, code) = jobs(context, names)?;
    let from = from(context, asked)?;
    let zone = &context.desk.world.zone;
    let active = jobs.iter().filter(|job| !job.timing.paused);
    let mut coming: Vec<_> =
        active.map(|job| (job, due::upcoming(&job.timing.when, from, zone).peekable())).collect();
    let mut table = Columns::new(&[Align::Left; 4]);
    table.heading(&["when", "", "job", "line"]);
    let mut found = 0;
    while found < asked.count {
        let soonest = coming
            .iter_mut()
            .filter_map(|(job, moments)| Some((moments.peek()?.at, &job.name, moments)))
            .min_by(|one, other| (one.0, one.1).cmp(&(other.0, other.1)));
        let Some((_, name, moments)) = soonest else { break };
        let Some(due) = moments.next() else { break };
        found += 1;
        if context.global.json {
            let at = instant(context, due.at);
            lines::print(&json!({"event": "due", "job": name, "line": due.line, "at": at}));
        } else {
            table.row(vec![shown(context, due.at), ahead(due.at, from), name.clone(), due.line]);
        }
    }
    if context.global.json {
        return Ok(code);
    }
    if found > 0 {
        context.say(table.render(0).trim_end());
    } else {
        context.say("Nothing is due at any time. `reedhook when JOB set LINE` lets a job run by itself.");
    }
    for line in without_moments(&jobs) {
        context.say(styled(DIM, line));
    }
    Ok(code)
}

/// What no clock knows: triggers, and jobs that are paused.
fn without_moments(jobs: &[Job]) -> Vec<String> {
    let triggers = |job: &Job| {
        let lines = job.timing.when.iter().filter(|line| matches!(line.rule(), Rule::On(_)));
        lines.map(ToString::to_string).collect::<Vec<_>>().join(", ")
    };
    let said = |job: &Job| match (job.timing.paused, triggers(job)) {
        (true, _) if !job.timing.when.is_empty() => Some(format!("{}: paused", job.name)),
        (false, triggers) if !triggers.is_empty() => Some(format!("{}: {triggers}", job.name)),
        _ => None,
    };
    jobs.iter().filter_map(said).collect()
}

fn write_calendar(context: &Context, asked: &WhenArgs) -> Outcome {
    let (jobs, code) = jobs(context, &[])?;
    let from = from(context, asked)?;
    let entry = |job: &Job| calendar::Entry {
        job: job.name.clone(),
        about: render::kind_sentence(&job.rules),
        when: job.timing.when.clone(),
    };
    let entries: Vec<_> = jobs.iter().filter(|job| !job.timing.paused).map(entry).collect();
    let home = context.desk.home.config().display().to_string();
    let identity = |event: &str| reedhook_jobs::words::fingerprint(&format!("{home}\n{event}"));
    let text = calendar::written(&entries, from, &context.desk.world.zone, &identity);
    match &asked.to {
        Some(file) => {
            let mut out = named_file::begin(context, file, Mark::CALENDAR, &[])?;
            out.write_all(text.as_bytes()).map_err(|error| failed(file, error))?;
            named_file::written(context, out)?;
        }
        None => print_text(text.trim_end()),
    }
    Ok(code)
}
