//! `kept`, `restore` and `undo`: bringing things back.
//!
//! A restore is an ordinary copy run between two stores, limited to the paths that were named, so it has the same safety: whole
//! files only, and what it replaces is kept.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer, Preserve};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::{Counts, Step};
use reedhook_core::record::{Outcome as RunOutcome, RunRow};
use reedhook_core::run::kept::{KeptRun, kept_files, kept_runs};
use reedhook_core::run::undo::{Past, Undone, undo as undo_run};
use reedhook_core::run::{Done, Event, kept_folder};
use reedhook_core::store::{Store, StoreError};
use reedhook_core::walk::Moves;
use reedhook_stores::local::LocalStore;
use serde_json::json;

use super::history::{find, read_log};
use super::run::told;
use crate::args::KeptCommand;
use crate::ask;
use crate::carry::{Run, lock_destination, prune};
use crate::context::Context;
use crate::failure::{Failure, Outcome, STOPPED};
use crate::jobfile::{Job, load_job};
use crate::json as lines;
use crate::places::{Ends, Located, open_destination};
use crate::render;
use crate::round::{Round, scan_leg};
use crate::text::{Align, Columns, bytes, count, grouped, moment};

/// Carries out a `kept` command.
pub fn kept(context: &Context, command: KeptCommand) -> Outcome {
    match command {
        KeptCommand::List { job, run: None } => list_runs(context, &job),
        KeptCommand::List { job, run: Some(run) } => list_files(context, &job, &run),
        KeptCommand::Restore { job, paths, run, into } => {
            let wanted = Wanted { paths: &paths, into: into.as_deref(), run: run.as_deref() };
            bring(context, &job, &wanted, To::Destination)
        }
        KeptCommand::Prune { job, older_than } => {
            let job = load_job(&context.home, &job)?;
            let (place, right) = destination(context, &job)?;
            crate::round::refuse_foreign(context, &job, &place, right.as_ref())?;
            // The copies of a run in progress are not ours to take.
            let _lock = lock_destination(right.as_ref(), &place, &context.home)?;
            let gone = prune(context, &job, right.as_ref(), None, older_than.map(|age| age.duration()))?;
            let (files, size) = gone.iter().fold((0, 0), |sum, run| (sum.0 + run.files, sum.1 + run.bytes));
            if context.global.json {
                lines::print(&json!({"event": "pruned", "runs": gone.len(), "files": files, "bytes": size}));
            } else if gone.is_empty() {
                context.say("Nothing to prune.");
            } else {
                let runs = count(gone.len() as u64, "run", "runs");
                context.say(format!(
                    "Erased {} of {runs}, {}.",
                    count(files, "kept copy", "kept copies"),
                    bytes(size)
                ));
            }
            Ok(0)
        }
    }
}

/// Brings paths back to the left.
pub fn restore(
    context: &Context,
    job: &str,
    paths: &[std::path::PathBuf],
    into: Option<&Path>,
    run: Option<&str>,
) -> Outcome {
    bring(context, job, &Wanted { paths, into, run }, To::Source)
}

/// A job's first destination, opened.
fn destination(context: &Context, job: &Job) -> Outcome<(Located, Arc<dyn Store>)> {
    let ends = Ends::of(job, &context.home, &context.settings)?;
    let to = ends.to.into_iter().next().ok_or_else(|| Failure::usage("the job has no destination"))?;
    let missing =
        || Failure::refused("destination-missing", format!("{} is not there", to.shown(&context.home)));
    let store = open_destination(&to, &context.home, job.rules.preserve)?.ok_or_else(missing)?;
    Ok((to, store))
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::refused("destination-unusable", format!("the kept copies cannot be read: {error}"))
}

fn list_runs(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.home, name)?;
    let (_, right) = destination(context, &job)?;
    let mut runs = kept_runs(right.as_ref()).map_err(|error| unreadable(&error))?;
    // What was brought back leaves its folders behind until they are pruned.
    runs.retain(|run| run.files > 0);
    let record = context.home.record()?;
    let mut table = Columns::new(&[Align::Right, Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["#", "kept since", "files", "bytes", "run"]);
    for run in &runs {
        let row = record.find_run(name, &run.run.to_string())?;
        if context.global.json {
            lines::print(&json!({"event": "kept", "run": run.run.to_string(),
                "number": row.map(|row| row.number), "files": run.files, "bytes": run.bytes}));
            continue;
        }
        table.row(vec![
            row.map_or("–".to_owned(), |row| row.number.to_string()),
            run.began.map_or("?".to_owned(), |began| moment(began.seconds() * 1000)),
            grouped(run.files),
            bytes(run.bytes),
            run.run.to_string(),
        ]);
    }
    if context.global.json {
        return Ok(0);
    }
    if runs.is_empty() {
        context.say(format!("{name} has no kept copies."));
        return Ok(0);
    }
    context.say(table.render(0).trim_end());
    let total: u64 = runs.iter().map(|run| run.bytes).sum();
    let rules = &job.rules;
    context.say(format!(
        "\n{} in all; copies stay for {} and take {} at most.",
        bytes(total),
        rules.keep_for,
        rules.keep_max
    ));
    Ok(0)
}

/// The kept copies of a run: its row gives the name, unless it was made by somebody else's Reedhook.
fn kept_name(context: &Context, job: &str, which: &str) -> Outcome<Name> {
    let row = context.home.record()?.find_run(job, which)?;
    let text = row.map_or_else(|| which.to_owned(), |row| row.run);
    Name::new(text.as_bytes()).map_err(|_| Failure::usage(format!("{job} has no run \"{which}\"")))
}

fn list_files(context: &Context, name: &str, which: &str) -> Outcome {
    let job = load_job(&context.home, name)?;
    let (_, right) = destination(context, &job)?;
    let run = kept_name(context, name, which)?;
    let files = match kept_files(right.as_ref(), &run) {
        Ok(files) => files,
        Err(error) if error.kind == reedhook_core::store::FaultKind::NotFound => Vec::new(),
        Err(error) => return Err(unreadable(&error)),
    };
    let mut table = Columns::new(&[Align::Left, Align::Right]);
    for file in &files {
        if context.global.json {
            let mut object =
                lines::object(json!({"event": "kept-file", "run": run.to_string(), "size": file.size}));
            object.extend(lines::path_object(&file.path));
            lines::print(&object.into());
        }
        table.row(vec![file.path.to_string(), bytes(file.size)]);
    }
    if !context.global.json {
        let text = if files.is_empty() { format!("Run {run} kept nothing.") } else { table.render(0) };
        context.say(text.trim_end());
    }
    Ok(0)
}

/// What a person wants back, and where.
struct Wanted<'a> {
    paths: &'a [std::path::PathBuf],
    into: Option<&'a Path>,
    run: Option<&'a str>,
}

/// Where things are brought back to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum To {
    /// The left: `restore`.
    Source,
    /// The right: `kept restore`.
    Destination,
}

/// Where a path is found: at the other side, or among the kept copies of a run.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Found {
    OtherSide,
    Kept(Name),
}

fn bring(context: &Context, name: &str, wanted: &Wanted<'_>, to: To) -> Outcome {
    let job = load_job(&context.home, name)?;
    let ends = Ends::of(&job, &context.home, &context.settings)?;
    let (right_place, right) = destination(context, &job)?;
    let target = match (wanted.into, to) {
        (Some(folder), _) => folder_target(folder)?,
        (None, To::Destination) => right_place.clone(),
        (None, To::Source) => match ends.from.as_slice() {
            [only] => only.clone(),
            _ => {
                return Err(
                    Failure::usage(format!("{name} has several sources")).hint("Say where with --into DIR.")
                );
            }
        },
    };
    let runs = kept_runs(right.as_ref()).map_err(|error| unreadable(&error))?;
    let named = wanted.run.map(|which| kept_name(context, name, which)).transpose()?;
    let mut groups: BTreeMap<Found, Vec<RelPath>> = BTreeMap::new();
    for typed in wanted.paths {
        let path = relative(typed, &ends, &right_place)?;
        let found = locate(right.as_ref(), &runs, named.as_ref(), &path, to)?;
        groups.entry(found).or_default().push(path);
    }
    let mut code = 0;
    for (found, paths) in groups {
        let source: Arc<dyn Store> = match &found {
            Found::OtherSide => right.clone(),
            Found::Kept(run) => Arc::new(open_kept(&right_place, run, &job)?),
        };
        code = bring_group(context, &job, &source, &target, paths)?.max(code);
    }
    Ok(code)
}

fn folder_target(folder: &Path) -> Outcome<Located> {
    let path = std::path::absolute(folder)
        .map_err(|error| Failure::usage(format!("{}: {error}", folder.display())))?;
    std::fs::create_dir_all(&path)
        .map_err(|error| Failure::usage(format!("cannot make {}: {error}", path.display())))?;
    Ok(Located { written: path.display().to_string(), path, store_root: None, absent: None })
}

/// A typed path relative to the side's root; one that begins with a side's folder is understood too.
fn relative(typed: &Path, ends: &Ends, right: &Located) -> Outcome<RelPath> {
    let roots = ends.from.iter().map(|from| &from.path).chain([&right.path]);
    let below = roots.filter_map(|root| typed.strip_prefix(root).ok()).next().unwrap_or(typed);
    let bytes = below.as_os_str().as_encoded_bytes();
    let trimmed = bytes.strip_suffix(b"/").unwrap_or(bytes);
    RelPath::new(trimmed).map_err(|error| {
        Failure::usage(format!("\"{}\" {error}", typed.display()))
            .hint("Give a path relative to the side's root.")
    })
}

/// Finds where a path can be brought back from: the named run, the other side, or else the newest run that kept it.
fn locate(
    right: &dyn Store,
    runs: &[KeptRun],
    named: Option<&Name>,
    path: &RelPath,
    to: To,
) -> Outcome<Found> {
    let holds = |at: &RelPath| matches!(right.stat(at), Ok(Some(_)));
    if named.is_none() && to == To::Source && holds(path) {
        return Ok(Found::OtherSide);
    }
    let newest_first = runs.iter().rev().map(|run| &run.run);
    let mut candidates = newest_first.filter(|run| named.is_none_or(|named| named == *run));
    match candidates.find(|run| holds(&kept_folder(run).join_path(path))) {
        Some(run) => Ok(Found::Kept(run.clone())),
        None => {
            let places = if to == To::Source && named.is_none() {
                "at the right nor in the kept copies"
            } else {
                "in the kept copies"
            };
            let not = if places.contains("nor") { "neither " } else { "not " };
            Err(Failure { code: "not-kept", ..Failure::usage(format!("{path} is {not}{places}")) }
                .hint("`reedhook kept list JOB RUN` shows what was kept."))
        }
    }
}

fn open_kept(right: &Located, run: &Name, job: &Job) -> Outcome<LocalStore> {
    use std::os::unix::ffi::OsStrExt;
    let below = kept_folder(run);
    let path = right.path.join(std::ffi::OsStr::from_bytes(below.as_bytes()));
    let full = job.rules.preserve == Preserve::Full;
    let opened = if full { LocalStore::open_full(&path) } else { LocalStore::open(&path) };
    opened.map_err(|error| unreadable(&error))
}

fn bring_group(
    context: &Context,
    job: &Job,
    source: &Arc<dyn Store>,
    target: &Located,
    paths: Vec<RelPath>,
) -> Outcome {
    let run = Run::begin(context, &job.name)?.special("restore");
    let looked = look_at_restore(context, job, source, target, paths);
    match looked {
        Ok(round) => {
            let result = run.carry_out(&round)?;
            told(context, job, Some(&round), result)
        }
        Err(failure) => told(context, job, None, run.refuse(failure)?),
    }
}

/// Scans what a restore would do; what is newer at the target is asked about.
fn look_at_restore(
    context: &Context,
    job: &Job,
    source: &Arc<dyn Store>,
    target: &Located,
    paths: Vec<RelPath>,
) -> Outcome<Round> {
    let filter = Filter::for_paths(paths).map_err(|error| Failure::usage(error.to_string()))?;
    let store: Arc<dyn Store> = match open_destination(target, &context.home, job.rules.preserve)? {
        Some(store) => store,
        None => crate::places::make_destination(target, job.rules.preserve)?,
    };
    let mut copy = job.clone();
    (copy.rules.kind, copy.rules.newer) = (Kind::Copy, Newer::Leave);
    let mut leg =
        scan_leg(context, &copy, source, (target, store.clone(), false), (&filter, Moves::Proved), &[])?;
    let newer = leg.plan.folders.iter().flat_map(|folder| &folder.actions);
    let newer = newer.filter(|action| matches!(action.step, Step::Leave { .. })).count() as u64;
    if newer > 0 && overwrite_newer(context, target, newer)? {
        copy.rules.newer = Newer::Update;
        leg = scan_leg(context, &copy, source, (target, store, false), (&filter, Moves::Proved), &[])?;
    }
    leg.ours = false;
    if let Some(refusal) = &leg.refusal {
        return Err(crate::round::guard_failure(&leg, refusal, &context.home));
    }
    let ends = Ends { from: Vec::new(), to: vec![target.clone()] };
    Ok(Round { job: copy, ends, legs: vec![leg], both: None })
}

fn overwrite_newer(context: &Context, target: &Located, newer: u64) -> Outcome<bool> {
    let what = count(newer, "file is", "files are");
    let question = format!("{what} newer at {}. Overwrite? (a copy is kept)", target.shown(&context.home));
    if context.global.yes {
        return Ok(true);
    }
    if context.can_ask() {
        return ask::yes(&question, false);
    }
    context
        .warn(format!("{what} newer at {} and left as it is; --yes overwrites", target.shown(&context.home)));
    Ok(false)
}

/// Puts a job's destination back as it was before a run.
pub fn undo(context: &Context, name: &str, which: &str) -> Outcome {
    let job = load_job(&context.home, name)?;
    if job.to.len() != 1 {
        return Err(Failure::usage(format!("{name} has several destinations; undo knows one")));
    }
    let row = find(context, name, which)?;
    let past = read_past(context, &row)?;
    if past.items.is_empty() {
        context.say(format!("Run {} of {name} changed nothing.", row.number));
        return Ok(0);
    }
    let question = format!("Undo run {} of {name}: {}?", row.number, super::status::result_words(&row));
    if context.can_ask() && !context.global.yes && !ask::yes(&question, false)? {
        return Ok(0);
    }
    let mut run = Run::begin(context, name)?.special("undo");
    let done = match undo_at_destination(context, &job, &past, run.name()) {
        Ok(done) => done,
        Err(failure) => return told(context, &job, None, run.refuse(failure)?),
    };
    let (counts, folders) = undone_counts(&done);
    let events = done.items.into_iter().map(Event::Item);
    let folder_events = done.folders.into_iter().map(|(path, was)| Event::Folder { path, was });
    run.note(events.chain(folder_events).chain(done.problems.into_iter().map(Event::Problem)), None)?;
    let outcome = if counts.problems > 0 { RunOutcome::Problems } else { RunOutcome::Done };
    let result = run.end(outcome, None, counts, folders)?;
    if !context.global.json {
        let text = render::undo_summary(&row, &result);
        context.say(text.trim_end());
        return Ok(u8::from(counts.problems > 0));
    }
    told(context, &job, None, result)
}

fn read_past(context: &Context, row: &RunRow) -> Outcome<Past> {
    let mut past = Past { run: Name::new(row.run.as_bytes()).ok(), ..Past::default() };
    read_log(context, row, |_, value| lines::add_past(&mut past, value))?;
    past.items.retain(|item| item.done != Done::Left);
    Ok(past)
}

fn undo_at_destination(context: &Context, job: &Job, past: &Past, own: &str) -> Outcome<Undone> {
    let (place, right) = destination(context, job)?;
    crate::round::refuse_foreign(context, job, &place, right.as_ref())?;
    let _lock = lock_destination(right.as_ref(), &place, &context.home)?;
    let own = Name::new(own.as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
    undo_run(right.as_ref(), past, &own).map_err(|error| Failure {
        exit: STOPPED,
        code: error.kind.code(),
        message: format!("the undo stopped on the way: {error}"),
        hint: "What was done is whole; undo the same run again.".to_owned(),
    })
}

fn undone_counts(done: &Undone) -> (Counts, (u64, u64)) {
    let mut counts = Counts { problems: done.problems.len() as u64, ..Counts::default() };
    let (mut made, mut removed) = (0, 0);
    for item in &done.items {
        match item.done {
            Done::Added | Done::Revived => counts.added += 1,
            Done::Updated => counts.updated += 1,
            Done::Removed => counts.removed += 1,
            Done::Moved => counts.moved += item.items.unwrap_or(1),
            Done::Metadata => counts.meta += 1,
            Done::FolderMade => made += 1,
            Done::FolderRemoved => removed += 1,
            Done::Left => {}
        }
    }
    (counts, (made, removed))
}
