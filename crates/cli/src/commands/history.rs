//! `history`: what ran, when, and what came of it.

use reedhook_core::run::Done;
use reedhook_record::RunRow;
use serde_json::{Value, json};

use super::status::result_words;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::json as lines;
use crate::render;
use crate::text::{Align, BOLD, Columns, bytes, moment, styled};
use reedhook_jobs::jobfile::{ONCE, load_job};
use reedhook_jobs::logline::LogLine;
use reedhook_jobs::logs;

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

/// Shows past runs, or one of them.
pub fn history(
    context: &Context,
    job: Option<String>,
    run: Option<String>,
    limit: u32,
    detail: Detail,
) -> Outcome {
    match (job, run) {
        (Some(job), Some(run)) => one(context, &job, &run, detail),
        (job, _) => list(context, job.as_deref(), limit),
    }
}

/// A job is known when it exists or has ever run.
fn check_known(context: &Context, job: &str) -> Outcome<()> {
    let has_run = !context.desk.home.record()?.runs(Some(job), 1)?.is_empty();
    if has_run || job == ONCE { Ok(()) } else { load_job(&context.desk.home, job).map(|_| ()) }
}

fn list(context: &Context, job: Option<&str>, limit: u32) -> Outcome {
    if let Some(job) = job {
        check_known(context, job)?;
    }
    let runs = context.desk.home.record()?.runs(job, limit)?;
    if context.global.json {
        runs.iter().for_each(|run| lines::print(&run_line(run)));
        return Ok(0);
    }
    if runs.is_empty() {
        context.say(match job {
            Some(job) => format!("{job} has never run."),
            None => "Nothing has ever run.".to_owned(),
        });
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Right, Align::Left, Align::Left, Align::Left]);
    table.heading(&["#", "began", "job", "result"]);
    for run in &runs {
        table.row(vec![run.number.to_string(), moment(run.started_ms), run.job.clone(), result_words(run)]);
    }
    context.say(table.render(0).trim_end());
    if let (Some(job), Some(newest)) = (job, runs.first()) {
        context.say(format!("\nMore about one: reedhook history {job} {}", newest.number));
    }
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

fn one(context: &Context, job: &str, which: &str, detail: Detail) -> Outcome {
    check_known(context, job)?;
    let record = context.desk.home.record()?;
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
    let sort = match run.end.code.as_str() {
        "undo" => ", an undo",
        "restore" => ", a restore",
        "reverse" => ", the other way round",
        "settle" => ", settling conflicts",
        _ => "",
    };
    let mut text = format!(
        "{}  run {}{sort}, {}\n{}",
        styled(BOLD, job),
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
    text.push_str(&render::problem_groups(&record.problem_groups(run.id)?));
    if !run.end.log_whole {
        text.push_str(
            "  Its log could not be written whole: items may be missing, and it cannot be undone.\n",
        );
    }
    text.push_str(&items_text(context, &run, detail.items)?);
    context.say(text.trim_end());
    Ok(0)
}

/// The run's items and problems, from its log.
fn items_text(context: &Context, run: &RunRow, all: bool) -> Outcome<String> {
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
    let mut total = 0;
    read_log(context, run, |_, line| {
        let Some(cells) = item_cells(&line) else { return };
        total += 1;
        if all || total <= ITEMS {
            table.row(cells.to_vec());
        }
    })?;
    if total == 0 {
        return Ok(String::new());
    }
    let mut text = format!("\n{}\n{}", styled(BOLD, "Items"), table.render(2));
    if !all && total > ITEMS {
        text.push_str(&format!("  … and {} more (--items lists them)\n", total - ITEMS));
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
