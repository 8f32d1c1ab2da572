//! `kept`, `restore` and `undo`: bringing things back.
//!
//! A restore is an ordinary copy run between two stores, limited to the paths that were named, so it has the same safety: whole
//! files only, and what it replaces is kept.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use reedhook_core::entry::Side;
use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::{Counts, Step};
use reedhook_core::problem::Problem;
use reedhook_core::record::{Outcome as RunOutcome, RunRow};
use reedhook_core::run::kept::{KeptRun, kept_files, kept_runs};
use reedhook_core::run::undo::{Past, undo as undo_run};
use reedhook_core::run::{Done, Event, Item, Mark, kept_folder};
use reedhook_core::store::{Store, StoreError};
use reedhook_core::walk::Moves;
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
            let mut gone = Vec::new();
            for Holder { place, store, .. } in holders(context, &job)? {
                crate::round::refuse_foreign(context, &job, &place, store.as_ref())?;
                // The copies of a run in progress are not ours to take.
                let _lock = lock_destination(store.as_ref(), &place, &context.home)?;
                gone.extend(prune(
                    context,
                    &job,
                    store.as_ref(),
                    None,
                    older_than.map(|age| age.duration()),
                )?);
            }
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

/// A side that holds kept copies.
struct Holder {
    side: Side,
    place: Located,
    store: Arc<dyn Store>,
}

/// Where a job's kept copies are: at its first destination, or at both sides of a two-way job; the right first.
fn holders(context: &Context, job: &Job) -> Outcome<Vec<Holder>> {
    let ends = Ends::of(job, &context.home, &context.settings)?;
    let left =
        ends.from.into_iter().filter(|_| job.rules.kind == Kind::TwoWay).map(|place| (Side::Left, place));
    let places = ends.to.into_iter().take(1).map(|place| (Side::Right, place)).chain(left);
    let open = |(side, place): (Side, Located)| {
        let missing = || {
            Failure::refused("destination-missing", format!("{} is not there", place.shown(&context.home)))
        };
        let store = open_destination(&place, &context.home, job.rules.preserve)?.ok_or_else(missing)?;
        Ok(Holder { side, place, store })
    };
    places.map(open).collect()
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::refused("destination-unusable", format!("the kept copies cannot be read: {error}"))
}

fn list_runs(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.home, name)?;
    let record = context.home.record()?;
    let two_way = job.rules.kind == Kind::TwoWay;
    let mut table =
        Columns::new(&[Align::Right, Align::Left, Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["#", "kept since", if two_way { "side" } else { "" }, "files", "bytes", "run"]);
    let mut total = 0;
    let mut empty = true;
    for Holder { side, store, .. } in holders(context, &job)? {
        let runs = kept_runs(store.as_ref()).map_err(|error| unreadable(&error))?;
        // What was brought back leaves its folders behind until they are pruned.
        for run in runs.iter().filter(|run| run.files > 0) {
            empty = false;
            total += run.bytes;
            let number = record.find_run(name, &run.run.to_string())?.map(|row| row.number);
            if context.global.json {
                lines::print(&json!({"event": "kept", "run": run.run.to_string(), "side": side.as_str(),
                    "number": number, "files": run.files, "bytes": run.bytes}));
            }
            table.row(vec![
                number.map_or("–".to_owned(), |number| number.to_string()),
                run.began.map_or("?".to_owned(), |began| moment(began.seconds() * 1000)),
                if two_way { side.to_string() } else { String::new() },
                grouped(run.files),
                bytes(run.bytes),
                run.run.to_string(),
            ]);
        }
    }
    if context.global.json {
        return Ok(0);
    }
    if empty {
        context.say(format!("{name} has no kept copies."));
        return Ok(0);
    }
    context.say(table.render(0).trim_end());
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
    let run = kept_name(context, name, which)?;
    let two_way = job.rules.kind == Kind::TwoWay;
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
    let mut empty = true;
    for Holder { side, store, .. } in holders(context, &job)? {
        let files = match kept_files(store.as_ref(), &run) {
            Ok(files) => files,
            Err(error) if error.kind == reedhook_core::store::FaultKind::NotFound => Vec::new(),
            Err(error) => return Err(unreadable(&error)),
        };
        for file in &files {
            empty = false;
            if context.global.json {
                let mut object = lines::object(json!({"event": "kept-file", "run": run.to_string(),
                    "side": side.as_str(), "size": file.size}));
                object.extend(lines::path_object(&file.path));
                lines::print(&object.into());
            }
            let side = if two_way { side.to_string() } else { String::new() };
            table.row(vec![side, file.path.to_string(), bytes(file.size)]);
        }
    }
    if !context.global.json {
        let text = if empty { format!("Run {run} kept nothing.") } else { table.render(0) };
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
    let holders = holders(context, &job)?;
    let into = wanted.into.map(folder_target).transpose()?;
    let named = wanted.run.map(|which| kept_name(context, name, which)).transpose()?;
    let mut groups: BTreeMap<(usize, Found), Vec<RelPath>> = BTreeMap::new();
    for typed in wanted.paths {
        let path = relative(typed, &ends, &holders)?;
        let found = locate(&holders, named.as_ref(), &path, to)?;
        groups.entry(found).or_default().push(path);
    }
    let mut code = 0;
    for ((at, found), paths) in groups {
        let holder = &holders[at];
        let source: Arc<dyn Store> = match &found {
            Found::OtherSide => holder.store.clone(),
            Found::Kept(run) => open_kept(context, &holder.place, run, &job)?,
        };
        let target = match (&into, to) {
            (Some(folder), _) => folder.clone(),
            (None, To::Destination) => holder.place.clone(),
            (None, To::Source) => only_source(&ends, name)?,
        };
        code = bring_group(context, &job, &source, &target, paths)?.max(code);
    }
    Ok(code)
}

fn only_source(ends: &Ends, name: &str) -> Outcome<Located> {
    match ends.from.as_slice() {
        [only] => Ok(only.clone()),
        _ => Err(Failure::usage(format!("{name} has several sources")).hint("Say where with --into DIR.")),
    }
}

fn folder_target(folder: &Path) -> Outcome<Located> {
    let path = std::path::absolute(folder)
        .map_err(|error| Failure::usage(format!("{}: {error}", folder.display())))?;
    std::fs::create_dir_all(&path)
        .map_err(|error| Failure::usage(format!("cannot make {}: {error}", path.display())))?;
    Ok(Located::local(path.display().to_string(), path))
}

/// A typed path relative to the side's root; one that begins with a side's folder is understood too.
fn relative(typed: &Path, ends: &Ends, holders: &[Holder]) -> Outcome<RelPath> {
    let roots =
        ends.from.iter().map(|from| &from.path).chain(holders.iter().map(|holder| &holder.place.path));
    let below = roots.filter_map(|root| typed.strip_prefix(root).ok()).next().unwrap_or(typed);
    let bytes = below.as_os_str().as_encoded_bytes();
    let trimmed = bytes.strip_suffix(b"/").unwrap_or(bytes);
    RelPath::new(trimmed).map_err(|error| {
        Failure::usage(format!("\"{}\" {error}", typed.display()))
            .hint("Give a path relative to the side's root.")
    })
}

/// Finds where a path can be brought back from: the named run, the other side, or else the newest run that kept it. The number
/// is that of the holder.
fn locate(holders: &[Holder], named: Option<&Name>, path: &RelPath, to: To) -> Outcome<(usize, Found)> {
    let holds = |holder: &Holder, at: &RelPath| matches!(holder.store.stat(at), Ok(Some(_)));
    let other_side =
        holders.first().filter(|right| named.is_none() && to == To::Source && holds(right, path));
    if other_side.is_some() {
        return Ok((0, Found::OtherSide));
    }
    let mut candidates: Vec<(usize, KeptRun)> = Vec::new();
    for (at, holder) in holders.iter().enumerate() {
        let runs = kept_runs(holder.store.as_ref()).map_err(|error| unreadable(&error))?;
        let kept = |run: &KeptRun| holds(holder, &kept_folder(&run.run).join_path(path));
        let wanted = runs.into_iter().filter(|run| named.is_none_or(|named| *named == run.run));
        candidates.extend(wanted.filter(kept).map(|run| (at, run)));
    }
    // A run's name begins with its time.
    match candidates.into_iter().max_by(|(_, a), (_, b)| a.run.cmp(&b.run)) {
        Some((at, run)) => Ok((at, Found::Kept(run.run))),
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

fn open_kept(context: &Context, right: &Located, run: &Name, job: &Job) -> Outcome<Arc<dyn Store>> {
    crate::places::open_below(right, &context.home, &kept_folder(run), job.rules.preserve)
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
        None => crate::places::make_destination(target, &context.home, job.rules.preserve)?,
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
    let sides = holders(context, &job)?;
    let pasts =
        sides.iter().map(|holder| read_past(context, &row, holder.side)).collect::<Outcome<Vec<_>>>()?;
    if pasts.iter().all(|past| past.items.is_empty()) {
        context.say(format!("Run {} of {name} changed nothing.", row.number));
        return Ok(0);
    }
    let question = format!("Undo run {} of {name}: {}?", row.number, super::status::result_words(&row));
    if context.can_ask() && !context.global.yes && !ask::yes(&question, false)? {
        return Ok(0);
    }
    let mut run = Run::begin(context, name)?.special("undo");
    let done = match undo_everywhere(context, &job, &sides, &pasts, run.name()) {
        Ok(done) => done,
        Err(failure) => return told(context, &job, None, run.refuse(failure)?),
    };
    let (counts, folders) = undone_counts(&done);
    let events = done.items.into_iter().map(Event::Item);
    let folder_events = done.folders.into_iter().map(|(side, path, was)| Event::Folder { side, path, was });
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

fn read_past(context: &Context, row: &RunRow, side: Side) -> Outcome<Past> {
    let mut past = Past { run: Name::new(row.run.as_bytes()).ok(), ..Past::default() };
    read_log(context, row, |_, value| lines::add_past(&mut past, side, value))?;
    past.items.retain(|item| item.done != Done::Left);
    Ok(past)
}

/// What was undone, at all sides together.
#[derive(Default)]
struct UndoneBoth {
    items: Vec<Item>,
    folders: Vec<(Side, RelPath, Mark)>,
    problems: Vec<Problem>,
}

fn undo_everywhere(
    context: &Context,
    job: &Job,
    sides: &[Holder],
    pasts: &[Past],
    own: &str,
) -> Outcome<UndoneBoth> {
    let own = Name::new(own.as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
    let mut locks = Vec::new();
    for Holder { place, store, .. } in sides {
        crate::round::refuse_foreign(context, job, place, store.as_ref())?;
        locks.push(lock_destination(store.as_ref(), place, &context.home)?);
    }
    if job.rules.kind == Kind::TwoWay {
        // First of all: were the undoing remembered as a removal, the next run would carry it to the other side.
        context.home.record()?.forget_names(&job.name, &worked_on(pasts))?;
    }
    let mut both = UndoneBoth::default();
    for (Holder { side, store, .. }, past) in sides.iter().zip(pasts) {
        let done = undo_run(store.as_ref(), past, &own).map_err(|error| Failure {
            exit: STOPPED,
            code: error.kind.code(),
            message: format!("the undo stopped on the way: {error}"),
            hint: "What was done is whole; undo the same run again.".to_owned(),
        })?;
        both.items.extend(done.items);
        both.folders.extend(done.folders.into_iter().map(|(path, was)| (*side, path, was)));
        both.problems.extend(done.problems);
    }
    Ok(both)
}

/// Every path that a run worked on, where it was before and where it was put.
fn worked_on(pasts: &[Past]) -> Vec<RelPath> {
    let items = pasts.iter().flat_map(|past| &past.items);
    items.flat_map(|item| [Some(item.path.clone()), item.moved_from.clone()]).flatten().collect()
}

fn undone_counts(done: &UndoneBoth) -> (Counts, (u64, u64)) {
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
