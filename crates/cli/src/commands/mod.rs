//! The commands, one module each.

mod demo;
mod extras;
mod filter;
mod history;
mod job;
mod preview;
mod run;
mod status;
mod store;

use crate::args::{Command, JobCommand};
use crate::context::Context;
use crate::failure::Outcome;

/// Carries out a command; returns the exit code.
pub fn carry_out(context: &Context, command: Command) -> Outcome {
    match command {
        Command::Job(JobCommand::Filter { name, add, drop, attempt, only, all }) => {
            filter::filter(context, &name, &filter::Request { add, drop, attempt, only, all })
        }
        Command::Job(command) => job::job(context, command),
        Command::Store(command) => store::store(context, command),
        Command::Preview { job, all } => preview::preview(context, &job, all),
        Command::Run { jobs, all, allow } => run::run(context, &jobs, all, &allow),
        Command::Once { kind, left, right, keys, allow, preview } => {
            run::once(context, &kind, left, right, *keys, &allow, preview)
        }
        Command::Status => status::status(context),
        Command::History { job, run, limit, items } => history::history(context, job, run, limit, items),
        Command::Demo { folder } => demo::demo(context, folder),
        Command::Completions { shell } => extras::completions(shell),
        Command::Man { to } => extras::man(to),
    }
}
