//! `kept`, `restore` and `undo`: bringing things back.
//!
//! A restore is an ordinary copy run between two stores, limited to the paths that were named, so it has the same safety: whole
//! files only, and what it replaces is kept.

use std::path::Path;

use reedhook_core::run::kept::{Amount, amount, kept_files};
use reedhook_core::store::FaultKind;
use reedhook_jobs::failure::Cause;
use reedhook_jobs::inventory::sightings::{self, Sighting};
use reedhook_jobs::jobfile::{Job, known_job};
use reedhook_jobs::places::{Ends, Located, typed_path};
use reedhook_jobs::preview::Preview;
use reedhook_jobs::recognise;
use reedhook_jobs::restore::{
    Holder, Holders, Restore, To, Wanted, all_holders, find as find_wanted, in_order, kept_name, unreadable,
};
use reedhook_jobs::run::Sort;
use reedhook_jobs::run::claim::lock_destination;
use reedhook_jobs::run::retention::{InOrder, prune};
use reedhook_jobs::undo::Undoing;
use serde_json::json;

use super::history::find;
use super::run::{self, run_wanted, told};
use crate::args::commands::KeptCommand;
use crate::commands::inventory::with_sightings;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::text::{Align, Columns, bytes, count, grouped, moment};
use crate::{ask, json as lines, render};

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
            let job = known_job(&context.desk.home, &job, None)?;
            let mut gone = Vec::new();
            for Holder { place, store, part, .. } in holders_of(context, &job)?.0 {
                if let Some(part) = part {
                    recognise::refuse_foreign(&context.desk, &job, &place, store.as_ref(), part)?;
                }
                // The copies of a run in progress are not ours to take.
                let _lock = lock_destination(store.as_ref(), &place, &context.desk.home)?;
                gone.extend(prune(
                    &context.desk,
                    &job,
                    store.as_ref(),
                    None,
                    older_than.map(|age| age.duration()),
                )?);
            }
            let add = |sum: (u64, u64), one: &Amount| (sum.0 + one.files, sum.1 + one.bytes);
            let (files, size) = gone.iter().fold((0, 0), add);
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

/// The places with kept copies; those that may hold some and are away are told, and are a problem.
fn holders_of(context: &Context, job: &Job) -> Outcome<(Vec<Holder>, u8)> {
    let Holders { there, away } = all_holders(&context.desk, job)?;
    away.iter().for_each(|why| context.warn(why));
    Ok((there, u8::from(!away.is_empty())))
}

fn list_runs(context: &Context, name: &str) -> Outcome {
    let job = known_job(&context.desk.home, name, None)?;
    let record = context.desk.home.record()?;
    let (holders, code) = holders_of(context, &job)?;
    let several = holders.len() > 1;
    let mut table =
        Columns::new(&[Align::Right, Align::Left, Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["#", "kept since", if several { "at" } else { "" }, "files", "bytes", "run"]);
    let mut total = 0;
    let mut others = 0;
    let mut empty = true;
    for Holder { side, place, store, .. } in holders {
        let (ours, theirs): (Vec<InOrder>, Vec<InOrder>) = in_order(&context.desk, store.as_ref())?
            .into_iter()
            .partition(|kept| kept.job.as_deref().map_or(!kept.run.owned, |owner| owner == job.name));
        others += theirs.len();
        for InOrder { run, .. } in ours {
            let amount =
                amount(store.as_ref(), &run.run, &context.desk.stop).map_err(|error| unreadable(&error))?;
            // What was brought back leaves its folders behind until they are pruned.
            if amount.files == 0 {
                continue;
            }
            empty = false;
            total += amount.bytes;
            let number = record.find_run(name, &run.run.to_string())?.map(|row| row.number);
            if context.global.json {
                lines::print(&json!({"event": "kept", "run": run.run.to_string(), "side": side.as_str(),
                    "place": place.location(), "number": number, "files": amount.files, "bytes": amount.bytes}));
            }
            table.row(vec![
                number.map_or("–".to_owned(), |number| number.to_string()),
                run.began.map_or("?".to_owned(), |began| moment(began.seconds() * 1000)),
                if several { place.short(&context.desk.home) } else { String::new() },
                grouped(amount.files),
                bytes(amount.bytes),
                run.run.to_string(),
            ]);
        }
    }
    if context.global.json {
        return Ok(code);
    }
    if empty {
        let where_looked = if code == 0 { "" } else { " where it could be looked" };
        context.say(format!("{name} has no kept copies{where_looked}."));
    } else {
        context.say(table.render(0).trim_end());
        let rules = &job.rules;
        context.say(format!(
            "\n{} in all; copies stay for {} and take {} at most.",
            bytes(total),
            rules.keep_for,
            rules.keep_max
        ));
    }
    if others > 0 {
        let runs = count(others as u64, "run", "runs");
        context.say(format!("There too: kept copies of {runs} of other jobs or machines."));
    }
    Ok(code)
}

fn list_files(context: &Context, name: &str, which: &str) -> Outcome {
    let job = known_job(&context.desk.home, name, Some(which))?;
    let run = kept_name(&context.desk, name, which)?;
    let (holders, code) = holders_of(context, &job)?;
    let several = holders.len() > 1;
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
    let mut empty = true;
    for Holder { side, place, store, .. } in holders {
        let files = match kept_files(store.as_ref(), &run, &context.desk.stop) {
            Ok(files) => files,
            Err(error) if error.kind == FaultKind::NotFound => Vec::new(),
            Err(error) => return Err(unreadable(&error)),
        };
        for file in &files {
            empty = false;
            if context.global.json {
                let mut object = lines::object(json!({"event": "kept-file", "run": run.to_string(),
                    "side": side.as_str(), "place": place.location(), "size": file.size}));
                object.extend(lines::path_object(&file.path));
                lines::print(&object.into());
            }
            let at = if several { place.short(&context.desk.home) } else { String::new() };
            table.row(vec![at, file.path.to_string(), bytes(file.size)]);
        }
    }
    if empty && context.desk.home.record()?.find_run(name, which)?.is_none() {
        return Err(Failure::usage(format!("{name} has no run \"{which}\""))
            .hint(format!("`reedhook kept list {name}` lists those with kept copies.")));
    }
    if !context.global.json {
        let text = if empty {
            format!(
                "Run {which} of {name} kept nothing{}.",
                if code == 0 { "" } else { " where it could be looked" }
            )
        } else {
            table.render(0)
        };
        context.say(text.trim_end());
    }
    Ok(code)
}

fn bring(context: &Context, name: &str, wanted: &Wanted<'_>, to: To) -> Outcome {
    let desk = &context.desk;
    let found = find_wanted(desk, name, wanted, to);
    let (job, restores) = found.map_err(|failure| pointing_elsewhere(context, name, wanted, failure))?;
    let mut code = 0;
    for restore in restores {
        let look = || restore.look(desk, |newer| overwrite_newer(context, &restore, newer));
        let mut told = |preview: &Preview, _| {
            tell_origins(context, &restore, preview);
            Ok(())
        };
        let wanted = run::Wanted { job: &job, sort: Sort::Restore, look: &look };
        code = run_wanted(context, &wanted, &[], &mut told)?.max(code);
    }
    Ok(code)
}

/// What is wanted cannot be had here and now: perhaps an inventory knows which drive to fetch.
fn pointing_elsewhere(context: &Context, name: &str, wanted: &Wanted<'_>, failure: Failure) -> Failure {
    /// No more than a person reads.
    const MOST: usize = 5;
    let desk = &context.desk;
    let Ok(job) = known_job(&desk.home, name, None) else { return failure };
    let Ok(ends) = Ends::of(&job, &desk.home, &desk.settings) else { return failure };
    let places: Vec<Located> = ends.from.into_iter().chain(ends.to).collect();
    let paths = || wanted.paths.iter().filter_map(|typed| typed_path(typed).ok());
    let mut seen: Vec<Sighting> =
        paths().flat_map(|path| sightings::at_places(desk, &places, &path)).take(MOST).collect();
    if seen.is_empty() && matches!(failure.cause, Cause::NotKept) {
        let named = paths().filter_map(|path| Some(sightings::of_name(desk, path.file_name()?, MOST)));
        seen = named.flatten().take(MOST).collect();
    }
    with_sightings(failure, &seen)
}

/// Says where what comes back comes from, when that is not one place.
fn tell_origins(context: &Context, restore: &Restore, preview: &Preview) {
    for (name, number) in restore.origins(preview) {
        context.say(format!("  {} from {name}", count(number, "file", "files")));
    }
}

fn overwrite_newer(context: &Context, restore: &Restore, newer: u64) -> Outcome<bool> {
    let shown = restore.target().shown(&context.desk.home);
    let what = count(newer, "file is", "files are");
    if context.global.yes {
        return Ok(true);
    }
    if context.can_ask() {
        return ask::yes(&format!("{what} newer at {shown}. Overwrite? (a copy is kept)"), false);
    }
    context.warn(format!("{what} newer at {shown} and left as it is; --yes overwrites"));
    Ok(false)
}

/// Puts what a run changed back as it was before it.
pub fn undo(context: &Context, name: &str, which: &str) -> Outcome {
    let desk = &context.desk;
    let undoing = Undoing::look(desk, find(context, name, which)?)?;
    let row = undoing.row().clone();
    if undoing.changed_nothing() {
        context.say(format!("Run {} of {name} changed nothing.", row.number));
        return Ok(0);
    }
    let question = format!("Undo run {} of {name}: {}?", row.number, super::status::result_words(&row));
    if context.can_ask() && !context.global.yes && !ask::yes(&question, false)? {
        return Ok(0);
    }
    let job = undoing.job().clone();
    let result = undoing.carry_out(desk, &context.surroundings)?;
    if context.global.json || result.failure.is_some() {
        return Ok(told(context, &job, None, &result));
    }
    context.say(render::undo_summary(&row, &result).trim_end());
    Ok(u8::from(result.counts.problems > 0))
}
