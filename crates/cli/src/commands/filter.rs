//! `job filter`: what takes part and what does not, which line decides, and what another line would change.

use reedhook_core::filter::{Filter, Rule, line_for};
use reedhook_core::survey::{Amount, Survey, survey};
use reedhook_jobs::capabilities::OpenOptions;
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::logline::LogLine;
use reedhook_jobs::places::Ends;
use reedhook_jobs::scan::open_sources;
use serde_json::json;

use crate::commands::job_files::change_file;
use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome};
use crate::json as lines;
use crate::text::{Align, BOLD, Columns, bytes, count, styled};

/// Folders listed without being asked for all.
const FOLDERS: usize = 40;

/// What was asked of a filter.
#[derive(Default)]
pub struct Request {
    /// Lines to add.
    pub add: Vec<String>,
    /// Lines to drop.
    pub drop: Vec<String>,
    /// Lines to try.
    pub attempt: Vec<String>,
    /// The lines are `only` lines.
    pub only: bool,
    /// List everything that is out.
    pub all: bool,
}

/// Shows, tries or changes a job's filter.
pub fn filter(context: &Context, name: &str, request: &Request) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    if !request.add.is_empty() || !request.drop.is_empty() {
        let changed = save(context, &job, request)?;
        context.say(format!("The filter of {} is changed.\n", styled(BOLD, name)));
        return show(context, &changed, request);
    }
    if request.attempt.is_empty() { show(context, &job, request) } else { attempt(context, &job, request) }
}

/// Turns the problems of a run into exclude lines.
pub fn from_problems(
    context: &Context,
    name: &str,
    which: &str,
    code: Option<&str>,
    mut request: Request,
) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let run = super::history::find(context, name, which)?;
    super::history::read_log(context, &run, |_, line| {
        if let LogLine::Problem { code: found, path, .. } = line
            && code.is_none_or(|code| code == found)
        {
            request.add.extend(line_for(&path));
        }
    })?;
    request.add.retain(|line| !job.keys.exclude.contains(line));
    request.add.sort();
    request.add.dedup();
    if request.add.is_empty() {
        context.say(format!("Run {} has no problem that a line could leave out.", run.number));
        return Ok(0);
    }
    if !context.global.yes {
        request.add = chosen(context, &request.add)?;
        if request.add.is_empty() {
            return Ok(0);
        }
    }
    let changed = save(context, &job, &request)?;
    context.say(format!("The filter of {} is changed.\n", styled(BOLD, name)));
    show(context, &changed, &request)
}

/// The lines that a person agrees to; where nobody can be asked they are only shown.
fn chosen(context: &Context, lines: &[String]) -> Outcome<Vec<String>> {
    if !context.can_ask() {
        context.say("These lines would leave them out:");
        lines.iter().for_each(|line| context.say(format!("  {line}")));
        context.say("\nNothing is saved. To save them all, add --yes.");
        return Ok(Vec::new());
    }
    let mut agreed = Vec::new();
    for line in lines {
        if crate::ask::yes(&format!("Exclude {line}?"), false)? {
            agreed.push(line.clone());
        }
    }
    Ok(agreed)
}

/// Leaves out what matches a line, from now on.
pub fn exclude(context: &Context, name: &str, line: &str) -> Outcome<()> {
    let job = load_job(&context.desk.home, name)?;
    let request = Request { add: vec![line.to_owned()], ..Request::default() };
    save(context, &job, &request).map(|_| ())
}

fn save(context: &Context, job: &Job, request: &Request) -> Outcome<Job> {
    let mut keys = job.keys.clone();
    for line in &request.drop {
        let before = keys.exclude.len() + keys.only.len();
        keys.exclude.retain(|known| known != line);
        keys.only.retain(|known| known != line);
        if before == keys.exclude.len() + keys.only.len() {
            let known: Vec<String> = job.keys.exclude.iter().chain(&job.keys.only).cloned().collect();
            return Err(Failure::usage(format!("the filter has no line \"{line}\""))
                .hint(crate::failure::suggestion(line, &known, "line")));
        }
    }
    let list = if request.only { &mut keys.only } else { &mut keys.exclude };
    for line in &request.add {
        if !list.contains(line) {
            list.push(line.clone());
        }
    }
    change_file(context, &job.name, |document| {
        for (key, lines) in [("exclude", &keys.exclude), ("only", &keys.only)] {
            if lines.is_empty() {
                document.remove(key);
            } else {
                document[key] = toml_edit::value(lines.iter().collect::<toml_edit::Array>());
            }
        }
        Ok(())
    })
}

fn look(context: &Context, job: &Job) -> Outcome<(Filter, Survey)> {
    let ends = Ends::of(job, &context.desk.home, &context.desk.settings)?;
    let source = open_sources(&context.desk, &ends, OpenOptions::of(job))?;
    let mut filter = job.filter(context.desk.now())?;
    if let Some(names) = ends.landing_names()? {
        filter = filter.with_top_level(names);
    }
    let found = survey(source.as_ref(), &filter).map_err(|error| {
        Failure::refused(Cause::SourceUnreadable, format!("the source cannot be read: {error}"))
    })?;
    Ok((filter, found))
}

fn show(context: &Context, job: &Job, request: &Request) -> Outcome {
    let (filter, found) = look(context, job)?;
    if context.global.json {
        print_json(&filter, &found);
        return Ok(0);
    }
    let (inside, outside) = found.totals();
    let mut text =
        format!("{}: {} in, {} out\n", styled(BOLD, &job.name), amount_words(inside), amount_words(outside));
    text.push_str(&format!("\n{}\n{}", styled(BOLD, "By folder"), folder_table(&found, request.all)));
    if !found.rules.is_empty() {
        text.push_str(&format!("\n{}\n{}", styled(BOLD, "What leaves out"), rule_table(&filter, &found)));
    }
    let unused = unused_lines(job, &found);
    if !unused.is_empty() {
        text.push_str(&format!("  matches nothing now: {}\n", unused.join("  ")));
    }
    if request.all && !found.out.is_empty() {
        text.push_str(&format!("\n{}\n{}", styled(BOLD, "Out"), out_table(&filter, &found)));
    }
    for error in &found.unread {
        text.push_str(&format!("\n  {error}\n"));
    }
    context.say(text.trim_end());
    Ok(u8::from(!found.unread.is_empty()))
}

fn attempt(context: &Context, job: &Job, request: &Request) -> Outcome {
    let (_, before) = look(context, job)?;
    let mut keys = job.keys.clone();
    let list = if request.only { &mut keys.only } else { &mut keys.exclude };
    list.extend(request.attempt.iter().cloned());
    let trial = Job::new(&job.name, keys)?;
    let (filter, after) = look(context, &trial)?;
    if context.global.json {
        print_json(&filter, &after);
        return Ok(0);
    }
    let ((in_before, _), (in_after, _)) = (before.totals(), after.totals());
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right]);
    for (word, amount) in [("now in", in_before), ("then in", in_after)] {
        table.row(amount_row(word.to_owned(), amount));
    }
    let kind = if request.only { "only" } else { "exclude" };
    let mut text = format!("{}: with {kind} {}\n", styled(BOLD, &job.name), request.attempt.join("  "));
    text.push_str(&table.render(2));
    let known: std::collections::HashSet<_> = before.out.iter().map(|(path, _)| path).collect();
    let newly: Vec<_> = after.out.iter().filter(|(path, _)| !known.contains(path)).collect();
    if newly.is_empty() {
        text.push_str("  Nothing more would be left out.\n");
    } else {
        text.push_str(&format!("\n{}\n", styled(BOLD, "Would go out")));
        let shown = if request.all { newly.len() } else { newly.len().min(FOLDERS) };
        newly[..shown].iter().for_each(|(path, _)| text.push_str(&format!("  {path}\n")));
        if shown < newly.len() {
            text.push_str(&format!("  … and {} more (--all lists them)\n", newly.len() - shown));
        }
    }
    text.push_str("\nNothing is saved. To save it, use --add instead of --try.");
    context.say(text);
    Ok(0)
}

fn amount_words(amount: Amount) -> String {
    format!("{} ({})", count(amount.files, "file", "files"), bytes(amount.bytes))
}

fn amount_row(word: String, amount: Amount) -> Vec<String> {
    let noun = if amount.files == 1 { "file" } else { "files" };
    vec![word, crate::text::grouped(amount.files), noun.to_owned(), bytes(amount.bytes)]
}

fn folder_table(found: &Survey, all: bool) -> String {
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Right, Align::Right, Align::Right]);
    table.heading(&["folder", "in", "bytes", "out", "bytes"]);
    let shown = if all { found.folders.len() } else { FOLDERS };
    let number = |files: u64| if files == 0 { "–".to_owned() } else { crate::text::grouped(files) };
    let size = |amount: &Amount| if amount.files == 0 { String::new() } else { bytes(amount.bytes) };
    for (path, (inside, outside)) in found.folders.iter().take(shown) {
        let name = if path.is_root() { "(top folder)".to_owned() } else { format!("{path}/") };
        table.row(vec![name, number(inside.files), size(inside), number(outside.files), size(outside)]);
    }
    let mut text = table.render(2);
    if found.folders.len() > shown {
        text.push_str(&format!("  … and {} more folders (--all lists them)\n", found.folders.len() - shown));
    }
    text
}

fn rule_table(filter: &Filter, found: &Survey) -> String {
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right, Align::Left]);
    for (rule, (amount, example)) in &found.rules {
        let mut row = amount_row(filter.describe(*rule), *amount);
        row.push(format!("such as {example}"));
        table.row(row);
    }
    table.render(2)
}

fn out_table(filter: &Filter, found: &Survey) -> String {
    let mut table = Columns::new(&[Align::Left, Align::Left]);
    for (path, rule) in &found.out {
        table.row(vec![path.to_string(), filter.describe(*rule)]);
    }
    table.render(2)
}

/// Exclude lines that no entry matches: often a typing slip.
fn unused_lines(job: &Job, found: &Survey) -> Vec<String> {
    let lines = job.keys.exclude.iter().enumerate();
    lines
        .filter(|(at, _)| !found.rules.contains_key(&Rule::Exclude(*at)))
        .map(|(_, line)| line.clone())
        .collect()
}

fn print_json(filter: &Filter, found: &Survey) {
    for (path, (inside, outside)) in &found.folders {
        let mut object =
            lines::object(json!({"event": "folder", "in": inside.files, "in_bytes": inside.bytes,
            "out": outside.files, "out_bytes": outside.bytes}));
        object.extend(lines::path_object(path));
        lines::print(&object.into());
    }
    for (rule, (amount, _)) in &found.rules {
        lines::print(
            &json!({"event": "rule", "line": filter.describe(*rule), "out": amount.files, "bytes": amount.bytes}),
        );
    }
    let (inside, outside) = found.totals();
    lines::print(&json!({"event": "filter", "in": inside.files, "in_bytes": inside.bytes,
        "out": outside.files, "out_bytes": outside.bytes}));
}
