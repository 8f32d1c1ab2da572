//! `run` and `once`: carry a job out, watch it, and say what came of it.

use reedhook_core::entry::Side;
use reedhook_core::job::Kind;
use reedhook_core::walk::Moves;
use reedhook_record::Outcome as RunOutcome;
use serde_json::{Value, json};

use crate::args::Allow;
use crate::ask;
use crate::carry::{Run, RunResult, finished};
use crate::context::Context;
use crate::failure::{Failure, Outcome, REFUSED, STOPPED};
use crate::held::{self, Manner};
use crate::jobfile::{Job, JobKeys, ONCE, job_names, load_job};
use crate::json as lines;
use crate::places::{Ends, make_destination, open_destination};
use crate::polite;
use crate::recognise::{self, Part};
use crate::render;
use crate::round::{Leg, Round, guard_failure, lifted, look};
use crate::text::{BOLD, styled};

/// Runs jobs one after the other. All of them are read before the first one begins, so that a slip touches nothing.
pub fn run(context: &Context, names: &[String], all: bool, allow: &Allow) -> Outcome {
    let names = if all { job_names(&context.home) } else { names.to_vec() };
    if names.is_empty() {
        return Err(Failure::usage("there is no job yet").hint("Set one up with `reedhook job add`."));
    }
    let mut worst = 0;
    let mut jobs = Vec::new();
    for name in &names {
        match load_job(&context.home, name) {
            Ok(job) => jobs.push(job),
            // One broken file does not keep the others from running at night.
            Err(failure) if all => {
                context.complain(&failure);
                worst = worse(worst, failure.exit);
            }
            Err(failure) => return Err(failure),
        }
    }
    for (at, job) in jobs.iter().enumerate() {
        if at > 0 {
            context.say("");
        }
        // One job that cannot run does not keep the others from running.
        let code = run_job(context, job, allow).unwrap_or_else(|failure| {
            context.complain(&failure);
            failure.exit
        });
        worst = worse(worst, code);
        if code == 130 {
            break;
        }
    }
    Ok(worst)
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
    let mut job = load_job(&context.home, name)?;
    if job.rules.kind == Kind::TwoWay {
        return Err(Failure::usage(format!("{name} is a two-way job: it has no direction to reverse"))
            .hint("To settle a conflict: reedhook settle; to bring something back: reedhook restore."));
    }
    if job.from.len() != 1 || job.to.len() != 1 {
        return Err(Failure::usage(format!("{name} has several sources or destinations"))
            .hint("Bring back what you need with `reedhook restore`."));
    }
    refuse_wrong_right(context, &job)?;
    std::mem::swap(&mut job.from, &mut job.to);
    let run = match Run::begin(context, &job) {
        Ok(run) => run.special("reverse"),
        Err(failure) => return not_begun(context, &job, failure),
    };
    let looked = look(context, &job, &lifted(&allow.allow), Moves::Proved).and_then(|mut round| {
        // The left stays the person's own: no lock, no mark.
        for leg in &mut round.legs {
            leg.ours = false;
            leg.plan.set_changes(Side::Left);
        }
        agree_to_reverse(context, round)
    });
    match looked {
        Ok(round) => told(context, &job, Some(&round), run.carry_out(&round)),
        Err(failure) => told(context, &job, None, run.refuse(failure)),
    }
}

/// What is brought back must come from where the job has put it.
fn refuse_wrong_right(context: &Context, job: &Job) -> Outcome<()> {
    for to in &Ends::of(job, &context.home, &context.settings)?.to {
        if let Some(store) = open_destination(to, &context.home, Manner::of(job))? {
            recognise::refuse_foreign(context, job, to, store.as_ref(), Part::Destination)?;
        }
    }
    Ok(())
}

fn agree_to_reverse(context: &Context, round: Round) -> Outcome<Round> {
    if let Some((leg, refusal)) = round.refusal() {
        return Err(guard_failure(&round.job, leg, refusal, &context.home));
    }
    let counts = round.counts();
    if context.global.yes || counts.updated + counts.removed == 0 {
        return Ok(round);
    }
    if !context.global.json {
        for leg in &round.legs {
            context.say(render::plan(&round, leg, &context.home, false).trim_end());
        }
    }
    if context.can_ask() && ask::yes("Go on, and overwrite these at the left?", false)? {
        return Ok(round);
    }
    let words = format!("it would replace {} and remove {} at the left", counts.updated, counts.removed);
    Err(Failure::refused("reverse-not-agreed", words).hint("If that is right, add --yes."))
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
    super::job::place_sides(&mut keys, Some(left), Some(right));
    let job = Job::new(ONCE, keys)?;
    if preview {
        return super::preview::preview_job(context, &job, &allow.allow, false);
    }
    run_job(context, &job, allow)
}

fn run_job(context: &Context, job: &Job, allow: &Allow) -> Outcome {
    if job.rules.polite {
        polite::giving_way(|| run_now(context, job, allow))
    } else {
        run_now(context, job, allow)
    }
}

fn run_now(context: &Context, job: &Job, allow: &Allow) -> Outcome {
    if !context.global.json && !context.global.quiet {
        context.say(format!("{}  {}", styled(BOLD, &job.name), job.rules.kind));
    }
    let run = match Run::begin(context, job) {
        Ok(run) => run,
        Err(failure) => return not_begun(context, job, failure),
    };
    let round = match look_and_agree(context, job, allow) {
        Ok(round) => round,
        Err(failure) => return told(context, job, None, run.refuse(failure)),
    };
    if context.talks() {
        super::preview::tell_losses(context, &round);
    }
    told(context, job, Some(&round), run.carry_out(&round))
}

fn look_and_agree(context: &Context, job: &Job, allow: &Allow) -> Outcome<Round> {
    let look = || look(context, job, &lifted(&allow.allow), Moves::Proved);
    let round = agreed(context, look()?)?;
    let made = round.legs.iter().find(|leg| leg.to_be_made && round.both.is_some());
    if let Some(leg) = made {
        // Both sides have to be there to be locked and marked.
        make_destination(&leg.to, &context.home, Manner::of(job))?;
    }
    let other_than_assumed = held::try_places(context, &round)?;
    if made.is_none() && !other_than_assumed {
        return Ok(round);
    }
    let agreed_to = round.counts().removed;
    let round = look()?;
    if let Some((leg, refusal)) = round.refusal() {
        return Err(guard_failure(job, leg, refusal, &context.home));
    }
    // Knowing better what a place holds may have led to more removals than were agreed to.
    if round.counts().removed > agreed_to {
        agree_to_removals(context, &round)?;
    }
    Ok(round)
}

/// Guards first, then the question about removals.
fn agreed(context: &Context, round: Round) -> Outcome<Round> {
    if let Some((leg, refusal)) = round.refusal() {
        return Err(guard_failure(&round.job, leg, refusal, &context.home));
    }
    for leg in round.legs.iter().filter(|leg| leg.to_be_made) {
        context.say(format!("  The folder {} is not there yet and is made.", leg.to.shown(&context.home)));
    }
    for leg in &round.legs {
        if let Some(sentence) = render::empty_source(&round, leg, &context.home) {
            context.say(format!("  {sentence}"));
        }
    }
    agree_to_removals(context, &round)?;
    Ok(round)
}

/// What would be removed at the first run between two stores is asked for; at a terminal also when something is removed between
/// them for the first time later. The yes belongs to these two stores, whatever job brings them together.
fn agree_to_removals(context: &Context, round: &Round) -> Outcome<()> {
    if context.global.yes || round.counts().removed == 0 {
        return Ok(());
    }
    let record = context.home.record()?;
    let known = round
        .pairs(record.as_ref())?
        .iter()
        .map(|(left, right)| record.pair(left, right))
        .collect::<Result<Vec<_>, _>>()?;
    // A two-way job has a pair and a leg for each direction; other jobs a pair for each leg.
    let removing = |at: usize| round.both.is_some() || round.legs.get(at).is_some_and(removes_something);
    let concerned = || known.iter().enumerate().filter(|(at, _)| removing(*at)).map(|(_, pair)| *pair);
    if concerned().all(|pair| pair == Some(true)) {
        return Ok(());
    }
    if context.can_ask() {
        for leg in round.legs.iter().filter(|leg| removes_something(leg)) {
            context.say(render::plan(round, leg, &context.home, false).trim_end());
        }
        return match ask::yes("Go on, and remove these?", false)? {
            true => Ok(()),
            false => Err(Failure::refused("not-agreed", "nothing was changed, as you wished")),
        };
    }
    if concerned().all(|pair| pair.is_some()) {
        return Ok(());
    }
    let words = round
        .legs
        .iter()
        .find(|leg| leg.plan.counts.removed > 0)
        .map(|leg| render::removal_words(round, leg));
    Err(Failure::refused(
        "removals-not-agreed",
        format!("this first run between these two places would remove {}", words.unwrap_or_default()),
    )
    .hint("Look at the preview, then run with --yes."))
}

fn removes_something(leg: &Leg) -> bool {
    leg.plan.counts.removed > 0
}

/// Tells how a run ended, to a person or a program, and gives the exit code.
pub fn told(context: &Context, job: &Job, round: Option<&Round>, result: RunResult) -> Outcome {
    let code = match (&result.failure, result.outcome) {
        (Some(failure), _) => failure.exit,
        (None, RunOutcome::Problems) => 1,
        (None, RunOutcome::Interrupted) => 130,
        (None, RunOutcome::Held) => 4,
        (None, _) => 0,
    };
    if context.global.json {
        lines::print(&finished(&job.name, &result));
    } else if let Some(round) = round.filter(|_| result.failure.is_none() || result.counts.changes() > 0) {
        let text = render::summary(round, &result, &context.home);
        context.say(text.trim_end());
        if result.outcome == RunOutcome::Problems {
            say_even_when_quiet(context, &result);
            context.say(format!("\nEach one: reedhook history {} {}", job.name, result.number));
        }
        if result.counts.conflicts > 0 {
            context.say(format!("\nLook at what is in conflict: reedhook conflicts {}", job.name));
        }
        if result.outcome == RunOutcome::Interrupted {
            context.say("  What was done is whole. The next run goes on from here.");
        }
    }
    if let Some(failure) = result.failure.filter(|_| !context.global.json) {
        context.complain(&failure);
    }
    Ok(code)
}

/// With --quiet the problems are still told.
fn say_even_when_quiet(context: &Context, result: &RunResult) {
    if context.global.quiet {
        crate::context::print_text(render::problem_groups(&result.problems).trim());
    }
}

/// Nothing was begun, so nothing is remembered; a program still gets its last line.
fn not_begun(context: &Context, job: &Job, failure: Failure) -> Outcome {
    let failure = failure.before_the_run();
    if failure.exit != REFUSED {
        return Err(failure);
    }
    if context.global.json {
        let object = lines::object(json!({
            "event": "finished", "job": job.name, "run": null, "outcome": "refused",
        }));
        let mut object = lines::with_counts(object, &reedhook_core::plan::Counts::default());
        object.insert("seconds".into(), json!(0.0));
        object.insert("code".into(), json!(failure.code));
        object.insert("message".into(), json!(failure.text()));
        lines::print(&Value::Object(object));
    } else {
        context.complain(&failure);
    }
    Ok(failure.exit)
}
