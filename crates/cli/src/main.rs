//! `reedhook`: the command line around the core and the stores.
//!
//! [`args`] says what can be typed, [`commands`] what it does; [`round`] is the road that preview and run share. Every
//! failure reaches [`main`] as one sentence with an exit code.

mod alignment;
mod args;
mod ask;
mod carry;
mod clock;
mod commands;
mod context;
mod failure;
mod home;
mod jobfile;
mod json;
mod places;
mod polite;
mod progress;
mod recognise;
mod remote;
mod render;
mod round;
mod secrets;
mod text;
mod two_way;

use std::process::ExitCode;

use clap::Parser;

use args::Cli;
use context::Context;
use failure::Outcome;

fn main() -> ExitCode {
    let cli = Cli::parse();
    match act(cli) {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            context::complain(&failure);
            ExitCode::from(failure.exit)
        }
    }
}

fn act(cli: Cli) -> Outcome {
    let context = Context::new(&cli.global)?;
    commands::carry_out(&context, cli.command)
}
