//! `reedhook`: the command line around the core and the stores.
//!
//! [`args`] says what can be typed, [`commands`] what it does; [`preview`](commands::preview) is the road that preview and run share. Every
//! failure reaches [`main`] as one sentence with an exit code.

mod args;
mod ask;
mod board;
mod browse;
mod clock;
mod commands;
mod context;
mod failure;
mod groups;
mod json;
mod named_file;
mod output;
mod paint;
mod progress;
mod render;
mod review;
mod say;
mod screen;
mod signals;
mod text;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::{ColorChoice, FromArgMatches};

use args::{Cli, Color, Command};
use context::Context;
use failure::{Failure, USAGE, exit_of, line_of};

fn main() -> ExitCode {
    let typed: Vec<OsString> = std::env::args_os().collect();
    let code = match understand(&typed) {
        Ok(cli) => act(cli),
        Err(error) => explain(&error, typed.iter().any(|word| word == "--json")),
    };
    // Half an output with an exit code that says that all went well would be believed.
    match output::failure() {
        Some(failure) => {
            crate::say::complain(&failure, false);
            ExitCode::from(exit_of(&failure))
        }
        None => ExitCode::from(code),
    }
}

/// What was typed, as the command line has it.
fn understand(typed: &[OsString]) -> Result<Cli, clap::Error> {
    let mut command = groups::command().color(color_of(typed));
    let matches = command.try_get_matches_from_mut(typed);
    matches.and_then(|matches| Cli::from_arg_matches(&matches)).map_err(|error| error.format(&mut command))
}

/// The colour that was asked for: what explains the command line has to know it before the command line is understood.
fn color_of(typed: &[OsString]) -> ColorChoice {
    let words = typed.iter().map(|word| word.to_string_lossy());
    let mut after = words.clone().skip(1);
    let chosen = words.filter_map(|word| {
        let next = after.next();
        match word.strip_prefix("--color") {
            Some("") => next.map(|next| next.into_owned()),
            Some(value) => value.strip_prefix('=').map(str::to_owned),
            None => None,
        }
    });
    match chosen.last().as_deref().and_then(|word| <Color as clap::ValueEnum>::from_str(word, false).ok()) {
        Some(Color::Always) => ColorChoice::Always,
        Some(Color::Never) => ColorChoice::Never,
        Some(Color::Auto) | None => ColorChoice::Auto,
    }
}

/// Prints help, or what is wrong about what was typed.
fn explain(error: &clap::Error, json: bool) -> u8 {
    let code = u8::try_from(error.exit_code()).unwrap_or(USAGE);
    if json && code != 0 {
        let text = error.render().to_string();
        let first = text.lines().next().unwrap_or_default();
        let message = first.strip_prefix("error: ").unwrap_or(first);
        output::json(&line_of(&Failure::usage(message)));
    }
    output::note(error.print());
    code
}

fn act(cli: Cli) -> u8 {
    let json = cli.global.json;
    let tolerant = matches!(cli.command, Command::Doctor { .. });
    let service = matches!(cli.command, Command::Tend { command: None });
    let outcome = Context::new(&cli.global, tolerant, !service).and_then(|context| {
        let outcome = commands::dispatch::carry_out(&context, cli.command);
        context.finish();
        outcome.map_err(|failure| failure.about_state_file(&context.desk.home.state_file()))
    });
    outcome.unwrap_or_else(|failure| {
        crate::say::complain(&failure, json);
        exit_of(&failure)
    })
}
