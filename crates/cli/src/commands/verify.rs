//! `verify`: every file on both sides, read whole and compared.

use std::sync::atomic::Ordering;
use std::time::Instant;

use reedhook_core::entry::Side;
use reedhook_core::job::Kind;
use reedhook_core::plan::Plan;
use reedhook_core::run::verify::Verified;
use reedhook_jobs::capabilities::OpenOptions;
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::open::open_destination;
use reedhook_jobs::places::Ends;
use reedhook_jobs::recognise::{self, Part};
use reedhook_jobs::scan::open_sources;
use reedhook_jobs::verify::{compare, remember_corruption};
use serde_json::json;

use crate::context::Context;
use crate::failure::{Cause, Failure, INTERRUPTED, Outcome};
use crate::json as lines;
use crate::text::{Align, BAD, BOLD, Columns, bytes, count, duration, grouped, rate, styled};

/// Verifies a job's sides against each other.
pub fn verify(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let ends = Ends::of(&job, &context.desk.home, &context.desk.settings)?;
    for from in &ends.from {
        recognise::refuse_other_ground(&context.desk, &job, from, Part::of(job.rules.kind, true))?;
    }
    let left = open_sources(&context.desk, &ends, OpenOptions::of(&job))?;
    let mut code = 0;
    for to in &ends.to {
        let missing = || {
            Failure::refused(
                Cause::DestinationMissing,
                format!("{} is not there", to.shown(&context.desk.home)),
            )
        };
        let right = open_destination(&context.desk, to, OpenOptions::of(&job))?.ok_or_else(missing)?;
        recognise::refuse_foreign(&context.desk, &job, to, right.as_ref(), Part::of(job.rules.kind, false))?;
        let begun = Instant::now();
        let (plan, found) = compare(&context.desk, &job, &ends, &left, &right)?;
        let stopped = context.desk.stop.load(Ordering::Relaxed);
        remember_corruption(&context.desk, &job, &to.written, &found, stopped)?;
        if context.global.json {
            print_json(&job, &plan, &found, begun, stopped);
        } else {
            context.say(text(&job, &plan, &found, begun, stopped).trim_end());
        }
        if stopped {
            return Ok(INTERRUPTED);
        }
        let differs = found.different.len() + found.unread.len() + plan.problems.len();
        code = code.max(u8::from(differs > 0 || !plan.is_empty()));
    }
    Ok(code)
}

fn text(job: &Job, plan: &Plan, found: &Verified, begun: Instant, stopped: bool) -> String {
    let took = begun.elapsed();
    let stopped = match found.asked.checked_sub(found.looked_at()) {
        Some(left) if left > 0 || stopped => {
            let of = count(found.asked, "file", "files");
            format!("{}: stopped after {} of {of}. ", styled(BOLD, &job.name), grouped(found.looked_at()))
        }
        _ => String::new(),
    };
    let name = if stopped.is_empty() { format!("{}: ", styled(BOLD, &job.name)) } else { stopped };
    let mut text = format!(
        "{name}{} the same on both sides, byte for byte.\n  {} read in {}, {}.\n",
        count(found.same, "file is", "files are"),
        bytes(found.bytes),
        duration(took),
        rate(found.bytes, took)
    );
    if !found.different.is_empty() || !found.unread.is_empty() {
        text.push_str(&format!("\n{}\n", styled(BAD, "Differ")));
        let mut table = Columns::new(&[Align::Left, Align::Left]);
        for difference in &found.different {
            table.row(vec![difference.path.to_string(), difference.sentence()]);
        }
        for (side, error) in &found.unread {
            table.row(vec![error.path.to_string(), format!("{} ({side})", error.reason())]);
        }
        text.push_str(&table.render(2));
        text.push_str(&mending(job, found));
    }
    if !plan.is_empty() {
        text.push_str(&format!(
            "\nNot in step: a run would {}. `reedhook preview {}` lists it.\n",
            pending(plan),
            job.name
        ));
    }
    for problem in &plan.problems {
        text.push_str(&format!("  {}: {} ({})\n", problem.path, problem.message, problem.side));
    }
    text
}

/// How what changed is mended, by the side that it is at.
fn mending(job: &Job, found: &Verified) -> String {
    let at = |side: Option<Side>| found.different.iter().any(|one| one.changed == side && !one.edited);
    let name = &job.name;
    let two_way = job.rules.kind == Kind::TwoWay;
    let mut text = String::new();
    if found.different.iter().any(|one| one.edited) {
        let what = if two_way { "goes to the other side" } else { "is settled from the left" };
        text.push_str(&format!("\nWhat somebody has changed {what}: reedhook run {name}\n"));
    }
    if two_way && found.different.iter().any(|one| !one.edited) {
        let settle = format!("reedhook settle {name} PATH --keep left|right");
        text.push_str(&format!("\nThe other side's version comes back when you say so: {settle}\n"));
        return text;
    }
    if at(Some(Side::Left)) {
        text.push_str(&format!("\nBring back what changed at the left: reedhook restore {name} PATH\n"));
    }
    if at(Some(Side::Right)) {
        text.push_str(&format!("\nMend what changed at the right: reedhook run {name}\n"));
    }
    if at(None) {
        text.push_str(&format!(
            "\nWhere nothing tells which is right, look at both. If the left is bad: reedhook restore {name} PATH; if the right is, \
             save the left's anew and run.\n"
        ));
    }
    text
}

/// What a run would do, in words.
fn pending(plan: &Plan) -> String {
    let counts = &plan.counts();
    let files = [
        ("add", counts.added),
        ("update", counts.updated),
        ("move", counts.moved),
        ("remove", counts.removed),
        ("adjust", counts.meta),
    ];
    let folders = [("make", plan.folders_made()), ("remove", plan.folders_removed())];
    let said = |verb: &str, number: u64, one: &str, many: &str| {
        (number > 0).then(|| format!("{verb} {}", count(number, one, many)))
    };
    let files = files.into_iter().filter_map(|(verb, number)| said(verb, number, "file", "files"));
    let folders = folders.into_iter().filter_map(|(verb, number)| said(verb, number, "folder", "folders"));
    files.chain(folders).collect::<Vec<_>>().join(", ")
}

fn print_json(job: &Job, plan: &Plan, found: &Verified, begun: Instant, stopped: bool) {
    for difference in &found.different {
        let mut object = lines::object(json!({"event": "difference", "state": "differs",
            "changed": difference.changed.map(|side| side.as_str()), "edited": difference.edited, "message": difference.sentence()}));
        object.extend(lines::path_object(&difference.path));
        lines::print(&object.into());
    }
    for (side, error) in &found.unread {
        let problem = reedhook_core::problem::Problem::from_error(*side, error);
        let mut line = Vec::new();
        lines::problem(&mut line, &problem);
        lines::print_line(&line);
    }
    let counts = &plan.counts();
    lines::print(
        &json!({"event": "verified", "job": job.name, "outcome": if stopped { "interrupted" } else { "done" },
        "files": found.asked, "same": found.same, "different": found.different.len(),
        "unread": found.unread.len(), "pending": counts.changed(), "bytes": found.bytes,
        "seconds": lines::seconds(begun.elapsed())}),
    );
}
