//! From what was typed to the command that does it.

use crate::args::Command;
use crate::args::commands::JobCommand;
use crate::board::board;
use crate::commands::{
    compare, conflicts, demo, doctor, extras, filter, history, install, inventory, job, notify, preview,
    recover, report, run, standin, status, store, tend, verify, when, why,
};
use crate::context::Context;
use crate::failure::Outcome;
use crate::review::review;

/// Carries out a command; returns the exit code.
pub fn carry_out(context: &Context, command: Command) -> Outcome {
    match command {
        Command::Job(JobCommand::Filter { name, add, drop, attempt, only, all, from_problems, code }) => {
            let request = filter::Request { add, drop, attempt, only, all };
            match from_problems {
                Some(run) => filter::from_problems(context, &name, &run, code.as_deref(), request),
                None => filter::filter(context, &name, &request),
            }
        }
        Command::Job(JobCommand::Shortcut { name, to }) => install::shortcut(context, &name, to),
        Command::Job(command) => job::job(context, command),
        Command::Store(command) => store::store(context, command),
        Command::Drives => store::drives(context),
        Command::Inventory(command) => inventory::inventory(context, command),
        Command::Review(asked) => review(context, &asked),
        Command::Board => board(context),
        Command::Compare(asked) => compare::compare(context, &asked),
        Command::Preview { job, all, save } => preview::preview(context, &job, all, save.as_deref()),
        Command::Run { no_finally: true, .. } if !context.surroundings.finale.is_left_out() => {
            context.surroundings.finale.leave_out();
            carry_out(context, command)
        }
        Command::Run { jobs, reverse: true, allow, .. } => run::reverse(context, &jobs, &allow),
        Command::Run { jobs, plan: Some(file), allow, .. } => run::planned(context, &jobs, &file, &allow),
        Command::Run { jobs, all, allow, stay, .. } => {
            run::staying(context, stay, || run::run(context, &jobs, all, &allow))
        }
        Command::When(asked) => when::when(context, &asked),
        Command::Tend { command } => tend::tend(context, command),
        Command::Kept(command) => recover::kept(context, command),
        Command::Restore { job, paths, into, run } => {
            recover::restore(context, &job, &paths, into.as_deref(), run.as_deref())
        }
        Command::Verify { job } => verify::verify(context, &job),
        Command::Undo { job, run } => recover::undo(context, &job, &run),
        Command::Once { kind, left, right, keys, allow, preview } => {
            run::once(context, &kind, left, right, *keys, &allow, preview)
        }
        Command::Conflicts { job } => conflicts::conflicts(context, &job),
        Command::Settle { job, paths, keep, all } => conflicts::settle(context, &job, &paths, all, keep),
        Command::Why { job, path } => why::why(context, &job, &path),
        Command::Status => status::status(context),
        Command::History { job, chart: true, since, .. } => {
            history::chart(context, job.as_deref(), since.as_ref())
        }
        Command::History { job, run: Some(run), items, problems, .. } => history::one(
            context,
            job.as_deref().unwrap_or_default(),
            &run,
            history::Detail { items, problems },
        ),
        Command::History { job, since, limit, all, .. } => {
            history::list(context, job.as_deref(), &history::Wanted { since, limit, all })
        }
        Command::Report { jobs, since, html, csv, csv_raw } => {
            let csv = csv.as_deref().map(|file| (file, csv_raw));
            report::report(context, &jobs, &since, html.as_deref(), csv)
        }
        Command::Notify(command) => notify::notify(context, &command),
        Command::Metrics { to } => report::metrics(context, to.as_deref()),
        Command::Doctor { mend } => doctor::doctor(context, mend),
        #[cfg(feature = "standins")]
        Command::Standin(wanted) => standin::standin(context, wanted),
        Command::Demo { folder } => demo::demo(context, folder),
        Command::Completions { shell } => extras::completions(shell),
        Command::Man { to } => extras::man(to),
    }
}
