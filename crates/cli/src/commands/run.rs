//! `run` and `once`: carry a job out, watch it, and say what came of it.

use std::cell::Cell;
use std::path::Path;
use std::rc::Rc;
use std::sync::Arc;

use reedhook_core::job::Kind;
use reedhook_core::plan::guard::Lift;
use reedhook_jobs::clear::{Consent, Need};
use reedhook_jobs::jobfile::{Job, JobKeys, ONCE, job_names, load_job};
use reedhook_jobs::look::look;
use reedhook_jobs::preview::Preview;
use reedhook_jobs::reverse::Reversed;
use reedhook_jobs::run::{RunResult, Sort, finished};
use reedhook_jobs::run_job::{Look, Origin, RunRequest, run_job};
use reedhook_jobs::saved::{Saved, Since};
use reedhook_record::Outcome as RunOutcome;
use serde_json::{Value, json};

use crate::args::Allow;
use crate::commands::allow::lifted;
use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome, REFUSED, STOPPED, exit_of};
use crate::text::{BOLD, styled};
use crate::{ask, json as lines, render};

/// Runs jobs one after the other. All of them are read before the first one begins, so that a slip touches nothing.
pub fn run(context: &Context, names: &[String], all: bool, allow: &Allow) -> Outcome {
    let names = if all { job_names(&context.desk.home)? } else { names.to_vec() };
    if names.is_empty() {
        return Err(Failure::usage("there is no job yet").hint("Set one up with `reedhook job add`."));
    }
    let mut worst = 0;
    let mut jobs = Vec::new();
    for name in &names {
        match load_job(&context.desk.home, name) {
            Ok(job) => jobs.push(job),
            // One broken file does not keep the others from running at night.
            Err(failure) if all => {
                context.complain(&failure);
                worst = worse(worst, exit_of(&failure));
            }
            Err(failure) => return Err(failure),
        }
    }
    for (at, job) in jobs.iter().enumerate() {
        if at > 0 {
            context.say("");
        }
        // One job that cannot run does not keep the others from running.
        let code = run_one(context, job, allow).unwrap_or_else(|failure| {
            context.complain(&failure);
            exit_of(&failure)
        });
        worst = worse(worst, code);
        if code == 130 {
            break;
        }
    }
    Ok(worst)
}

/// Carries out a saved plan: exactly what it names, as far as that is still as it was found.
pub fn planned(context: &Context, names: &[String], file: &Path, allow: &Allow) -> Outcome {
    let [name] = names else {
        return Err(Failure::usage("--plan takes one job at a time"));
    };
    let saved = Arc::new(Saved::read(file)?);
    let desk = &context.desk;
    let job = load_job(&desk.home, name)?;
    let look = || {
        let (plan, since) = (saved.clone(), Rc::new(Cell::new(Since::default())));
        let seen = since.clone();
        let found =
            look(desk, &job)?.narrowed(move |preview| plan.apply(preview).map(|since| seen.set(since)))?;
        tell_since(context, since.get());
        Ok(found)
    };
    run_with(context, &job, allow, &look)
}

fn tell_since(context: &Context, since: Since) {
    if since.new > 0 && context.talks() {
        let new = crate::text::count(since.new as u64, "change", "changes");
        context.say(format!("  Left for another run: {new} that the plan does not name."));
    }
}

/// The exit code that says more: an interruption, then a stop on the way, a refusal, problems, held conflicts.
fn worse(a: u8, b: u8) -> u8 {
    let rank = |code: u8| [0, 4, 1, 2, REFUSED, STOPPED, 130].iter().position(|known| *known == code);
    if rank(a) >= rank(b) { a } else { b }
}

/// Brings the left back from the right. What would be overwritten is shown, and asked for.
pub fn reverse(context: &Context, names: &[String], allow: &Allow) -> Outcome {
    let [name] = names else {
        return Err(Failure::usage("--reverse takes one job at a time"));
    };
    let desk = &context.desk;
    let reversed = Reversed::of(desk, load_job(&desk.home, name)?)?;
    let job = reversed.job();
    let wanted = Wanted { job, sort: Sort::Reverse, look: &|| reversed.look(desk) };
    run_wanted(context, &wanted, &lifted(context, &allow.allow), &mut |preview: &Preview, need: Need| {
        agree_to_reverse(context, preview, need)
    })
}

fn agree_to_reverse(context: &Context, preview: &Preview, need: Need) -> Outcome<()> {
    if context.global.yes || need == Need::None {
        return Ok(());
    }
    if !context.global.json {
        for destination in &preview.destinations {
            context.say(render::plan(preview, destination, &context.desk.home, false).trim_end());
        }
    }
    if context.can_ask() && ask::yes("Go on, and overwrite these at the left?", false)? {
        return Ok(());
    }
    let counts = preview.counts();
    let words = format!("it would replace {} and remove {} at the left", counts.updated, counts.removed);
    Err(Failure::refused(Cause::ReverseNotAgreed, words).hint("If that is right, add --yes."))
}

/// Does the same as a job without saving one.
pub fn once(
    context: &Context,
    kind: &str,
    left: String,
    right: String,
    keys: JobKeys,
    allow: &Allow,
    preview: bool,
) -> Outcome {
    let kind: Kind =
        kind.parse().map_err(|error: reedhook_core::units::UnitError| Failure::usage(error.to_string()))?;
    let mut keys = JobKeys { kind: Some(kind), ..keys };
    super::job_files::place_sides(&mut keys, Some(left), Some(right));
    let job = Job::new(ONCE, keys)?;
    if preview {
        return super::preview::preview_job(context, &job, &allow.allow, false);
    }
    run_one(context, &job, allow)
}

fn run_one(context: &Context, job: &Job, allow: &Allow) -> Outcome {
    run_with(context, job, allow, &|| look(&context.desk, job))
}

fn run_with(context: &Context, job: &Job, allow: &Allow, look: &Look<'_>) -> Outcome {
    if !context.global.json && !context.global.quiet {
        context.say(format!("{}  {}", styled(BOLD, &job.name), job.rules.kind));
    }
    let wanted = Wanted { job, sort: Sort::Job, look };
    run_wanted(context, &wanted, &lifted(context, &allow.allow), &mut Person(context))
}

/// Whoever is at the terminal, or nobody.
struct Person<'a>(&'a Context);

impl Consent for Person<'_> {
    fn give(&mut self, preview: &Preview, need: Need) -> Outcome<()> {
        agree(self.0, preview, need)
    }

    fn approved(&mut self, preview: &Preview) {
        if self.0.talks() {
            super::preview::tell_losses(self.0, preview);
        }
    }
}

/// A run that somebody at the command line wants.
pub struct Wanted<'a> {
    /// The job.
    pub job: &'a Job,
    /// What sort of run it is.
    pub sort: Sort,
    /// What it would do.
    pub look: &'a Look<'a>,
}

/// Carries a run out, and tells what came of it; gives the exit code.
pub fn run_wanted(
    context: &Context,
    wanted: &Wanted<'_>,
    lifted: &[Lift],
    consent: &mut (dyn Consent + Send),
) -> Outcome {
    match run_and_tell(context, wanted, lifted, consent) {
        Ok((_, code)) => Ok(code),
        Err(failure) => not_begun(context, wanted.job, failure),
    }
}

/// The same, without the exit code: the caller has more to say of it.
///
/// # Errors
/// When it could not even begin.
pub fn run_and_tell(
    context: &Context,
    wanted: &Wanted<'_>,
    lifted: &[Lift],
    consent: &mut (dyn Consent + Send),
) -> Outcome<(RunResult, u8)> {
    let Wanted { job, sort, look } = *wanted;
    let request = RunRequest { job, sort, origin: Origin::Asked, look, lifted, consent };
    let home = &context.desk.home;
    let ran = run_job(&context.desk, &context.surroundings, request, |preview, result| {
        render::summary(&preview, result, home)
    })?;
    let (summary, result) = ran;
    let code = told(context, job, summary.as_deref(), &result);
    Ok((result, code))
}

/// Waits for a key at the end, so that a window stays open until it was read.
pub fn staying(context: &Context, stay: bool, run: impl FnOnce() -> Outcome) -> Outcome {
    let outcome = run();
    if stay && std::io::IsTerminal::is_terminal(&std::io::stdin()) {
        if let Err(failure) = &outcome {
            crate::say::complain(failure, false);
        }
        context.finish();
        crate::context::print_text("\nPress a key to close this.");
        // Whoever closes the window instead has read enough.
        let _ = ask::key();
        return Ok(outcome.unwrap_or_else(|failure| exit_of(&failure)));
    }
    outcome
}

/// Says what there is to say before a run, and asks about removals.
fn agree(context: &Context, preview: &Preview, need: Need) -> Outcome<()> {
    for destination in preview.destinations.iter().filter(|destination| destination.to_be_made) {
        let shown = destination.to.shown(&context.desk.home);
        context.say(format!("  The folder {shown} is not there yet and is made."));
    }
    for destination in &preview.destinations {
        if let Some(sentence) = render::empty_source(preview, destination, &context.desk.home) {
            context.say(format!("  {sentence}"));
        }
    }
    agree_to_removals(context, preview, need)
}

fn agree_to_removals(context: &Context, preview: &Preview, need: Need) -> Outcome<()> {
    if context.global.yes || need == Need::None {
        return Ok(());
    }
    if context.can_ask() {
        for destination in
            preview.destinations.iter().filter(|destination| destination.plan.counts().removed > 0)
        {
            context.say(render::plan(preview, destination, &context.desk.home, false).trim_end());
        }
        return match ask::yes("Go on, and remove these?", false)? {
            true => Ok(()),
            false => Err(Failure::refused(Cause::NotAgreed, "cancelled; nothing was changed")),
        };
    }
    if need == Need::FirstRemoval {
        return Ok(());
    }
    let words = preview
        .destinations
        .iter()
        .find(|destination| destination.plan.counts().removed > 0)
        .map(|destination| render::removal_words(preview, destination));
    Err(Failure::refused(
        Cause::RemovalsNotAgreed,
        format!("this first run between these two places would remove {}", words.unwrap_or_default()),
    )
    .hint("Look at the preview, then run with --yes."))
}

/// Tells how a run ended, to a person or a program, and gives the exit code.
pub fn told(context: &Context, job: &Job, summary: Option<&str>, result: &RunResult) -> u8 {
    let code = match (&result.failure, result.outcome) {
        (Some(failure), _) => exit_of(failure),
        (None, RunOutcome::Problems) => 1,
        (None, RunOutcome::Interrupted) => 130,
        (None, RunOutcome::Held) => 4,
        (None, _) => 0,
    };
    if context.global.json {
        lines::print(&finished(&job.name, result));
    } else if let Some(text) = summary.filter(|_| result.failure.is_none() || result.counts.changed() > 0) {
        context.say(text.trim_end());
        if result.outcome == RunOutcome::Problems {
            say_even_when_quiet(context, result);
            context.say(format!("\nEach one: reedhook history {} {}", job.name, result.number));
        }
        if result.counts.conflicts > 0 {
            context.say(format!("\nLook at what is in conflict: reedhook conflicts {}", job.name));
        }
        if result.outcome == RunOutcome::Interrupted {
            context.say("  What was done is whole. The next run goes on from here.");
        }
    }
    if let Some(failure) = result.failure.as_ref().filter(|_| !context.global.json) {
        context.complain(failure);
    }
    code
}

/// With --quiet the problems are still told.
fn say_even_when_quiet(context: &Context, result: &RunResult) {
    if context.global.quiet {
        crate::context::print_text(render::problem_groups(&result.problems).trim());
    }
}

/// Nothing was begun, so nothing is remembered; a program still gets its last line.
pub fn not_begun(context: &Context, job: &Job, failure: Failure) -> Outcome {
    let failure = failure.before_the_run();
    if exit_of(&failure) != REFUSED {
        return Err(failure);
    }
    if context.global.json {
        let object = lines::object(json!({
            "event": "finished", "job": job.name, "run": null, "outcome": "refused",
        }));
        let mut object = lines::with_counts(object, &reedhook_core::plan::Counts::default());
        object.insert("seconds".into(), json!(0.0));
        object.insert("code".into(), json!(failure.code()));
        object.insert("message".into(), json!(failure.text()));
        lines::print(&Value::Object(object));
    } else {
        context.complain(&failure);
    }
    Ok(exit_of(&failure))
}
