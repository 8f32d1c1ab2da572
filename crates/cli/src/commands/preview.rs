//! `preview`: what a run would do, with nothing touched.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::path::Path;

use reedhook_core::entry::Side;
use reedhook_core::job::Kind;
use serde_json::{Value, json};

use super::run::lifted;
use crate::args::Guard;
use crate::context::Context;
use crate::failure::{Failure, Outcome, REFUSED, exit_of};
use crate::json as lines;
use crate::output;
use crate::render;
use reedhook_jobs::alignment;
use reedhook_jobs::atomic_file::failed;
use reedhook_jobs::held;
use reedhook_jobs::home::Home;
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::look::{Leg, Round, glance, look, losses};
use reedhook_jobs::saved::Saved;
use reedhook_jobs::two_way::Both;

/// Shows what a run of the job would do.
pub fn preview(context: &Context, name: &str, all: bool, save: Option<&Path>) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let Some(file) = save else { return preview_job(context, &job, &[], all) };
    // What is to be carried out later is looked at with the eyes of a run: what moved is proved to be the same.
    let prospect = look(&context.desk, &job)?;
    let code = show(context, prospect.round(), &[], all);
    let saved = Saved::of(&context.desk, prospect.round(), &|_, _| false);
    let mut out = output::begin(context, file, Saved::MARK, &prospect.round().ends.folders())?;
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

fn show(context: &Context, round: &Round, allowed: &[Guard], all: bool) -> u8 {
    let refusal = round.refusal(&lifted(context, allowed), &context.desk.home);
    if context.global.json {
        print_json(round, refusal.as_ref());
    } else {
        context.say(text(&context.desk.home, round, all, refusal.as_ref()).trim_end());
        tell_losses(context, round);
        held::untried(round, &context.desk.home).iter().for_each(|line| context.warn(line));
        for leg in round.legs.iter().filter(|leg| !leg.to_be_made) {
            tell_misalignment(context, round, leg);
        }
    }
    match &refusal {
        Some(failure) => exit_of(failure),
        None => u8::from(round.counts().problems > 0),
    }
}

/// That the two trees would match better one or two levels up or down.
fn tell_misalignment(context: &Context, round: &Round, leg: &Leg) {
    // A two-way job has a leg for each direction, between the same two trees.
    if leg.plan.changes == Side::Left {
        return;
    }
    let from = round.ends.from.first();
    let above = |side, levels| alignment::above(&context.desk, from?, &leg.to, side, levels);
    if let Some(found) = alignment::check(leg.reads.as_ref(), leg.writes.as_ref(), &above) {
        context.warn(found.sentence(side_words(round.job.rules.kind)));
    }
}

/// What the sides of a kind of job are called.
pub fn side_words(kind: Kind) -> [&'static str; 2] {
    if kind == Kind::TwoWay { ["left", "right"] } else { ["source", "destination"] }
}

/// What the destinations cannot hold. Several parts of a round may change one place: that is said once.
pub fn tell_losses(context: &Context, round: &Round) {
    let of_leg = |leg: &Leg| losses(&round.job, &leg.to.short(&context.desk.home), leg.writes.as_ref());
    let lines: BTreeSet<String> = round.legs.iter().flat_map(of_leg).collect();
    lines.iter().for_each(|line| context.warn(line));
}

/// What a run would do, as text.
pub fn text(home: &Home, round: &Round, all: bool, refusal: Option<&Failure>) -> String {
    let mut text = render::heading(round, home);
    for line in render::mapping(round.job.rules.kind, &round.ends, home) {
        text.push_str(&format!("  {line}\n"));
    }
    if let Some(both) = &round.both {
        text.push_str(&render::both_ways(round, both, home, all));
        return with_refusal(text, refusal);
    }
    for leg in &round.legs {
        if round.legs.len() > 1 {
            text.push_str(&format!("\n  In {}:", leg.to.shown(home)));
        }
        text.push('\n');
        if let Some(sentence) = render::empty_source(round, leg, home) {
            text.push_str(&format!("  {sentence}\n"));
        }
        if render::nothing_to_do(leg) {
            let same = crate::text::count(leg.plan.same, "file is", "files are");
            text.push_str(&format!("  Nothing to do: {same} the same on both sides.\n"));
            text.push_str(&render::beyond_line(leg.plan.beyond));
        } else {
            text.push_str(&render::plan(round, leg, home, all));
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

fn print_json(round: &Round, refusal: Option<&Failure>) {
    /// So much is written at once.
    const TOGETHER: usize = 64 << 10;
    let mut text = Vec::new();
    let told = |text: &mut Vec<u8>, enough: usize| {
        if text.len() > enough {
            lines::print_line(text);
            text.clear();
        }
    };
    for leg in &round.legs {
        let to = round.to_key(leg);
        for (folder, done) in render::folder_fates(leg) {
            lines::folder_action(&mut text, leg.plan.changes, folder, done, to.as_deref());
        }
        for folder in &leg.plan.folders {
            for action in &folder.actions {
                lines::action(&mut text, folder, action, to.as_deref());
            }
            told(&mut text, TOGETHER);
        }
        for problem in &leg.plan.problems {
            lines::problem(&mut text, problem);
        }
    }
    for conflict in round.both.iter().flat_map(Both::held) {
        lines::conflict_action(&mut text, conflict);
    }
    told(&mut text, 0);
    let outcome = if refusal.is_some() { "refused" } else { "ready" };
    let object = lines::object(json!({"event": "preview", "job": round.job.name, "outcome": outcome}));
    let mut object = lines::with_counts(object, &round.counts());
    if let Some(failure) = refusal {
        debug_assert_eq!(exit_of(failure), REFUSED);
        object.insert("code".into(), json!(failure.code()));
        object.insert("message".into(), json!(failure.text()));
    }
    lines::print(&Value::Object(object));
}
