//! `history`: what ran, when, and what came of it.

use reedhook_core::run::Done;
use reedhook_core::units::{Age, Moment};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::jobfile::{ONCE, load_job};
use reedhook_jobs::logline::LogLine;
use reedhook_jobs::logs;
use reedhook_jobs::places::locate;
use reedhook_record::{Outcome as RunOutcome, RunRow};
use reedhook_report::days::Days;
use reedhook_report::plain;
use serde_json::{Value, json};

use super::status::result_words;
use crate::commands::inventory::where_to_look;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::text::{Align, BOLD, Columns, bytes, count, moment, styled};
use crate::{json as lines, render};

/// Items listed without being asked for all.
const ITEMS: usize = 40;

/// How much of one run to show.
#[derive(Debug, Clone, Copy)]
pub struct Detail {
    /// Every item.
    pub items: bool,
    /// Every problem, and nothing else.
    pub problems: bool,
}

/// Which runs to list.
pub struct Wanted {
    /// Not those before then.
    pub since: Option<Moment>,
    /// So many lines.
    pub limit: u32,
    /// A line for each run.
    pub all: bool,
}

/// A job is known when it exists or has ever run.
fn check_known(context: &Context, job: &str) -> Outcome<()> {
    let has_run = !context.desk.home.record()?.runs(Some(job), 1)?.is_empty();
    if has_run || job == ONCE { Ok(()) } else { load_job(&context.desk.home, job).map(|_| ()) }
}

/// Lists past runs, newest first. Those in a row that had nothing to do are one line, unless each is wanted.
pub fn list(context: &Context, job: Option<&str>, wanted: &Wanted) -> Outcome {
    /// So many runs are read at a time.
    const PAGE: u32 = 500;
    if let Some(job) = job {
        check_known(context, job)?;
    }
    let record = context.desk.home.record()?;
    let since =
        wanted.since.as_ref().map(|since| since.resolve(context.desk.now()).seconds().saturating_mul(1000));
    let folds = !wanted.all && !context.global.json;
    let mut lines: Vec<HistoryLine> = Vec::new();
    let mut before = None;
    let mut whole = true;
    'pages: loop {
        let page = record.runs_before(job, before, PAGE)?;
        for run in &page {
            if since.is_some_and(|since| run.started_ms < since) {
                break 'pages;
            }
            let full = lines.len() >= wanted.limit as usize;
            match lines.last_mut().filter(|line| folds && line.takes(run)) {
                Some(line) => line.take(run.clone()),
                None if full => {
                    whole = false;
                    break 'pages;
                }
                None => lines.push(HistoryLine { first: run.clone(), rest: Vec::new() }),
            }
        }
        match page.last() {
            Some(last) if page.len() == PAGE as usize => before = Some(last.id),
            _ => break,
        }
    }
    if context.global.json {
        lines.iter().for_each(|line| lines::print(&run_line(&line.first)));
        return Ok(0);
    }
    if lines.is_empty() {
        context.say(match (job, since) {
            (_, Some(_)) => "Nothing ran since then.".to_owned(),
            (Some(job), None) => format!("{job} has never run."),
            (None, None) => "Nothing has ever run.".to_owned(),
        });
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Right, Align::Left, Align::Left, Align::Left]);
    table.heading(&["#", "began", "job", "result"]);
    lines.iter().for_each(|line| table.row(line.cells()));
    context.say(table.render(0).trim_end());
    if !whole {
        context.say(format!(
            "\nOlder ones: reedhook history{} -n {}",
            spaced(job),
            wanted.limit.saturating_mul(5)
        ));
    }
    if let (Some(job), Some(newest)) = (job, lines.first()) {
        context.say(format!("\nMore about one: reedhook history {job} {}", newest.first.number));
    }
    Ok(0)
}

fn spaced(job: Option<&str>) -> String {
    job.map(|job| format!(" {job}")).unwrap_or_default()
}

/// A line of the list: one run, or several in a row that had nothing to do.
struct HistoryLine {
    first: RunRow,
    rest: Vec<Followed>,
}

/// A run that is part of a line.
struct Followed {
    job: String,
    number: i64,
    started_ms: i64,
}

impl HistoryLine {
    fn takes(&self, run: &RunRow) -> bool {
        had_nothing_to_do(run) && had_nothing_to_do(&self.first)
    }

    fn take(&mut self, run: RunRow) {
        self.rest.push(Followed { job: run.job, number: run.number, started_ms: run.started_ms });
    }

    fn cells(&self) -> Vec<String> {
        let (first, job) = (&self.first, self.first.job.clone());
        let Some(last) = self.rest.last() else {
            return vec![first.number.to_string(), moment(first.started_ms), job, result_words(first)];
        };
        let mut jobs: Vec<&str> =
            self.rest.iter().map(|run| run.job.as_str()).chain([job.as_str()]).collect();
        jobs.sort_unstable();
        jobs.dedup();
        let (numbers, job) = match jobs.as_slice() {
            [job] => (format!("{}–{}", last.number, first.number), (*job).to_owned()),
            jobs => (String::new(), count(jobs.len() as u64, "job", "jobs")),
        };
        let runs = count(self.rest.len() as u64 + 1, "run", "runs");
        let words = format!("nothing to do, {runs} since {}", moment(last.started_ms));
        vec![numbers, moment(first.started_ms), job, words]
    }
}

fn had_nothing_to_do(run: &RunRow) -> bool {
    let (end, counts) = (&run.end, &run.end.counts);
    end.outcome == RunOutcome::Done
        && end.code.is_empty()
        && counts.changed() + counts.bytes + counts.conflicts == 0
}

/// Draws what was done on each day.
pub fn chart(context: &Context, job: Option<&str>, since: Option<&Moment>) -> Outcome {
    /// So many lines fit on most screens.
    const LINES: usize = 31;
    if let Some(job) = job {
        check_known(context, job)?;
    }
    let month = Moment::Ago(Age::from_days(30));
    let period = super::report::period(context, since.unwrap_or(&month));
    let (since, until) = (period.since.as_millisecond(), period.until.as_millisecond());
    let (mut days, mut any) = (Days::of(&context.desk.world.zone), false);
    context.desk.home.record()?.each_run_between(since, until, &mut |run| {
        if job.is_none_or(|job| job == run.job) {
            any = true;
            days.add(&run);
        }
    })?;
    let days = days.within(period);
    if context.global.json {
        days.iter().for_each(|day| lines::print(&super::report::day_line(day)));
        return Ok(0);
    }
    if !any {
        context.say("Nothing ran in this time.");
        return Ok(0);
    }
    let columns = console::Term::stdout().size_checked().map_or(100, |(_, columns)| usize::from(columns));
    context.say(plain::chart(&days, LINES, columns).trim_end());
    Ok(0)
}

fn run_line(run: &RunRow) -> Value {
    let object = lines::object(json!({
        "event": "run", "job": run.job, "number": run.number, "run": run.run, "started": lines::time(run.started_ms),
        "outcome": run.end.outcome.as_str(),
    }));
    let mut object = lines::with_counts(object, &run.end.counts);
    object.insert("seconds".into(), json!(lines::seconds(run.end.elapsed)));
    if !run.end.code.is_empty() {
        object.insert("code".into(), json!(run.end.code));
        object.insert("message".into(), json!(run.end.message));
    }
    Value::Object(object)
}

/// A run of a job, by its number, its name, or `last`.
pub fn find(context: &Context, job: &str, which: &str) -> Outcome<RunRow> {
    context.desk.home.record()?.find_run(job, which)?.ok_or_else(|| {
        Failure::usage(format!("{job} has no run \"{which}\""))
            .hint(format!("`reedhook history {job}` lists them."))
    })
}

/// Every problem of a run, by code.
fn problems(context: &Context, run: &RunRow) -> Outcome {
    let mut found: Vec<(String, String, String)> = Vec::new();
    read_log(context, run, |text, line| {
        let LogLine::Problem { code, path, message } = line else { return };
        if context.global.json {
            lines::print_line(format!("{text}\n").as_bytes());
        }
        found.push((code, path.to_string(), message));
    })?;
    if context.global.json {
        return Ok(0);
    }
    if found.is_empty() {
        context.say(format!("Run {} of {} had no problems.", run.number, run.job));
        return Ok(0);
    }
    found.sort();
    let mut table = Columns::new(&[Align::Left; 3]);
    for (code, path, message) in found {
        table.row(vec![code, path, message]);
    }
    context.say(table.render(0).trim_end());
    context
        .say(format!("\nTo leave them out: reedhook job filter {} --from-problems {}", run.job, run.number));
    Ok(0)
}

/// Shows one run.
pub fn one(context: &Context, job: &str, which: &str, detail: Detail) -> Outcome {
    check_known(context, job)?;
    let run = find(context, job, which)?;
    if detail.problems {
        return problems(context, &run);
    }
    if context.global.json {
        lines::print(&run_line(&run));
        read_log(context, &run, |text, line| {
            if item_cells(&line).is_some() {
                lines::print_line(format!("{text}\n").as_bytes());
            }
        })?;
        return Ok(0);
    }
    let items = if detail.items { usize::MAX } else { ITEMS };
    context.say(run_text(&context.desk, &run, items)?.trim_end());
    for past in context.desk.home.record()?.run_places(run.id)? {
        let place = locate(&context.desk.home, &context.desk.settings, &past.place).ok();
        if let Some(told) = place.and_then(|place| where_to_look(context, &place)) {
            context.say(format!("\n{told}"));
        }
    }
    Ok(0)
}

/// All there is to say of a run, with at most so many items.
pub fn run_text(desk: &Desk, run: &RunRow, items: usize) -> Outcome<String> {
    let sort = match run.end.code.as_str() {
        "undo" => ", an undo",
        "restore" => ", a restore",
        "reverse" => ", the other way round",
        "settle" => ", settling conflicts",
        _ => "",
    };
    let mut text = format!(
        "{}  run {}{sort}, {}\n{}",
        styled(BOLD, &run.job),
        run.number,
        moment(run.started_ms),
        render::outcome_line(run.end.outcome, run.end.elapsed)
    );
    if !run.end.message.is_empty() {
        text.push_str(&format!("  {}\n", run.end.message));
    }
    text.push_str(
        &render::count_table(&run.end.counts, run.end.folders_made, run.end.folders_removed).render(2),
    );
    if run.end.counts.bytes > 0 {
        text.push_str(&format!("  {} written.\n", bytes(run.end.counts.bytes)));
    }
    text.push_str(&render::problem_groups(&desk.home.record()?.problem_groups(run.id)?));
    if !run.end.log_whole {
        text.push_str(
            "  Its log could not be written whole: items may be missing, and it cannot be undone.\n",
        );
    }
    text.push_str(&items_text(desk, run, items)?);
    Ok(text)
}

/// The run's items and problems, from its log.
fn items_text(desk: &Desk, run: &RunRow, most: usize) -> Outcome<String> {
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
    let mut total = 0;
    logs::read(&desk.home.run_log(&run.job, &run.run), |_, line| {
        let Some(cells) = item_cells(&line) else { return };
        total += 1;
        if total <= most {
            table.row(cells.to_vec());
        }
    })?;
    if total == 0 {
        return Ok(String::new());
    }
    let mut text = format!("\n{}\n{}", styled(BOLD, "Items"), table.render(2));
    if total > most {
        text.push_str(&format!("  … and {} more (--items lists them)\n", total - most));
    }
    Ok(text)
}

/// What a line says of something that was done, or could not be; nothing of others.
fn item_cells(line: &LogLine) -> Option<[String; 3]> {
    match line {
        LogLine::Did { item, .. } => {
            let folder = matches!(item.done, Done::FolderMade | Done::FolderRemoved);
            let size = if folder { String::new() } else { bytes(item.size) };
            Some([item.done.as_str().to_owned(), item.path.to_string(), size])
        }
        LogLine::Problem { code, path, message } => Some([code.clone(), path.to_string(), message.clone()]),
        _ => None,
    }
}

/// Reads a run's log line by line; returns how many lines cannot be read. A run that did nothing has none.
pub fn read_log(context: &Context, run: &RunRow, each: impl FnMut(&str, LogLine)) -> Outcome<u64> {
    logs::read(&context.desk.home.run_log(&run.job, &run.run), each)
}
