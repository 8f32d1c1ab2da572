//! `preview`: what a run would do, with nothing touched.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::path::Path;

use reedhook_core::entry::Side;
use reedhook_core::job::Kind;
use reedhook_jobs::atomic_file::failed;
use reedhook_jobs::both::Both;
use reedhook_jobs::home::Home;
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::look::{glance, look, losses};
use reedhook_jobs::preview::{DestinationPlan, Preview};
use reedhook_jobs::saved::Saved;
use reedhook_jobs::{alignment, trying};
use serde_json::{Value, json};

use crate::args::Guard;
use crate::commands::allow::lifted;
use crate::context::Context;
use crate::failure::{Failure, Outcome, REFUSED, exit_of};
use crate::{json as lines, named_file, render};

/// Shows what a run of the job would do.
pub fn preview(context: &Context, name: &str, all: bool, save: Option<&Path>) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let Some(file) = save else { return preview_job(context, &job, &[], all) };
    // What is to be carried out later is looked at with the eyes of a run: what moved is proved to be the same.
    let proved = look(&context.desk, &job)?;
    let code = show(context, proved.preview(), &[], all);
    let saved = Saved::of(&context.desk, proved.preview(), &|_, _| false);
    let mut out = named_file::begin(context, file, Saved::MARK, &proved.preview().ends.folders())?;
    out.write_all(saved.text().as_bytes()).map_err(|error| failed(file, error))?;
    out.finish()?;
    let deeds = crate::text::count(saved.len() as u64, "deed", "deeds");
    context
        .say(format!("\nSaved: {} ({deeds}). Carry it out: reedhook run {name} --plan {0}", file.display()));
    Ok(code)
}

/// Shows what a run would do, also for a job that is not saved.
pub fn preview_job(context: &Context, job: &Job, allowed: &[Guard], all: bool) -> Outcome {
    Ok(show(context, &glance(&context.desk, job)?, allowed, all))
}

fn show(context: &Context, preview: &Preview, allowed: &[Guard], all: bool) -> u8 {
    let refusal = preview.refusal(&lifted(context, allowed), &context.desk.home);
    if context.global.json {
        print_json(preview, refusal.as_ref());
    } else {
        context.say(text(&context.desk.home, preview, all, refusal.as_ref()).trim_end());
        tell_losses(context, preview);
        trying::untried(preview, &context.desk.home).iter().for_each(|line| context.warn(line));
        for destination in preview.destinations.iter().filter(|destination| !destination.to_be_made) {
            tell_misalignment(context, preview, destination);
        }
    }
    match &refusal {
        Some(failure) => exit_of(failure),
        None => u8::from(preview.counts().problems > 0),
    }
}

/// That the two trees would match better one or two levels up or down.
fn tell_misalignment(context: &Context, preview: &Preview, destination: &DestinationPlan) {
    // A two-way job has a destination for each direction, between the same two trees.
    if destination.plan.changes == Side::Left {
        return;
    }
    let from = preview.ends.from.first();
    let above = |side, levels| alignment::above(&context.desk, from?, &destination.to, side, levels);
    if let Some(found) = alignment::check(destination.reads.as_ref(), destination.writes.as_ref(), &above) {
        context.warn(found.sentence(side_words(preview.job.rules.kind)));
    }
}

/// What the sides of a kind of job are called.
pub fn side_words(kind: Kind) -> [&'static str; 2] {
    if kind == Kind::TwoWay { ["left", "right"] } else { ["source", "destination"] }
}

/// What the destinations cannot hold. Several parts of a round may change one place: that is said once.
pub fn tell_losses(context: &Context, preview: &Preview) {
    let of_leg = |destination: &DestinationPlan| {
        losses(&preview.job, &destination.to.short(&context.desk.home), destination.writes.as_ref())
    };
    let lines: BTreeSet<String> = preview.destinations.iter().flat_map(of_leg).collect();
    lines.iter().for_each(|line| context.warn(line));
}

/// What a run would do, as text.
pub fn text(home: &Home, preview: &Preview, all: bool, refusal: Option<&Failure>) -> String {
    let mut text = render::heading(preview, home);
    for line in render::mapping(preview.job.rules.kind, &preview.ends, home) {
        text.push_str(&format!("  {line}\n"));
    }
    if let Some(both) = &preview.both {
        text.push_str(&render::both_ways(preview, both, home, all));
        return with_refusal(text, refusal);
    }
    for destination in &preview.destinations {
        if preview.destinations.len() > 1 {
            text.push_str(&format!("\n  In {}:", destination.to.shown(home)));
        }
        text.push('\n');
        if let Some(sentence) = render::empty_source(preview, destination, home) {
            text.push_str(&format!("  {sentence}\n"));
        }
        if render::nothing_to_do(destination) {
            let same = crate::text::count(destination.plan.same, "file is", "files are");
            text.push_str(&format!("  Nothing to do: {same} the same on both sides.\n"));
            text.push_str(&render::beyond_line(destination.plan.beyond));
        } else {
            text.push_str(&render::plan(preview, destination, home, all));
        }
    }
    with_refusal(text, refusal)
}

fn with_refusal(mut text: String, refusal: Option<&Failure>) -> String {
    if let Some(failure) = refusal {
        let label = crate::text::styled(crate::text::BAD, "A run would be refused:");
        text.push_str(&format!("\n{label} {failure}\n"));
    }
    text
}

fn print_json(preview: &Preview, refusal: Option<&Failure>) {
    /// So much is written at once.
    const TOGETHER: usize = 64 << 10;
    let mut text = Vec::new();
    let told = |text: &mut Vec<u8>, enough: usize| {
        if text.len() > enough {
            lines::print_line(text);
            text.clear();
        }
    };
    for destination in &preview.destinations {
        let to = preview.to_key(destination);
        for (folder, done) in render::folder_fates(destination) {
            lines::folder_action(&mut text, destination.plan.changes, folder, done, to.as_deref());
        }
        for folder in &destination.plan.folders {
            for action in &folder.actions {
                lines::action(&mut text, folder, action, to.as_deref());
            }
            told(&mut text, TOGETHER);
        }
        for problem in &destination.plan.problems {
            lines::problem(&mut text, problem);
        }
    }
    for conflict in preview.both.iter().flat_map(Both::held) {
        lines::conflict_action(&mut text, conflict);
    }
    told(&mut text, 0);
    let outcome = if refusal.is_some() { "refused" } else { "ready" };
    let object = lines::object(json!({"event": "preview", "job": preview.job.name, "outcome": outcome}));
    let mut object = lines::with_counts(object, &preview.counts());
    if let Some(failure) = refusal {
        debug_assert_eq!(exit_of(failure), REFUSED);
        object.insert("code".into(), json!(failure.code()));
        object.insert("message".into(), json!(failure.text()));
    }
    lines::print(&Value::Object(object));
}
