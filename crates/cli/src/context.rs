//! What every command needs: the options that hold everywhere, Reedhook's own folders, the named stores, and the wish to
//! stop.

pub use crate::output::text as print_text;

use std::io::IsTerminal;
use std::sync::Arc;

use reedhook_jobs::asking::Secrets;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::finally;
use reedhook_jobs::home::Home;
use reedhook_jobs::run_job::Surroundings;
use reedhook_jobs::settings::Settings;
use reedhook_stores::remote::connect::Secret;
use reedhook_tend::pending;
use reedhook_tend::tell::AtOnce;

use crate::args::{Color, Global};
use crate::ask;
use crate::failure::{Failure, Outcome};
use crate::progress::Screen;
use crate::say::{complain, warn};

/// What every command needs.
pub struct Context {
    /// Options that hold everywhere.
    pub global: Global,
    /// What all work on jobs needs.
    pub desk: Desk,
    /// Who tells others of runs, and what is to be done once they are over.
    pub surroundings: Surroundings,
}

impl Context {
    /// Reads what is there and prepares for Ctrl-C. Whoever looks for what is wrong tolerates settings that cannot be read.
    pub fn new(global: &Global, tolerant: bool, hangup_stops: bool) -> Outcome<Context> {
        let choice = match global.color {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        let world = crate::clock::world();
        let home = Home::find(global.home.as_deref(), &world)?;
        let settings = match Settings::load(&home) {
            Err(_) if tolerant => Settings::default(),
            settings => settings?,
        };
        if !home.state_file().exists() && home.is_modeless() {
            warn(format!(
                "{} keeps no modes, so anyone who has the drive can change its jobs. Job commands run only with --allow commands.",
                home.shorten(home.config())
            ));
        }
        let stop = crate::signals::stop_flag(hangup_stops)
            .map_err(|error| Failure::own_files("cannot listen for signals", error))?;
        let desk = Desk {
            stop,
            secrets: Arc::new(Secrets::asking(ask_for_secret)),
            observer: Arc::new(Screen::new(global)),
            ..Desk::new(home, settings, world)
        };
        let surroundings = Surroundings::with(Arc::new(AtOnce));
        Ok(Context { global: global.clone(), desk, surroundings })
    }

    /// Does what jobs wish for the end, once nothing of the home goes on any more. What there was to read has been printed by then.
    pub fn finish(&self) {
        finally::carry_out(&self.desk, &self.surroundings.finale, &|| pending::of(&self.desk));
    }

    /// Whether a person can be asked: both ends are a terminal, and nobody wants JSON.
    pub fn can_ask(&self) -> bool {
        !self.global.json && std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
    }

    /// Whether plain text is wanted on standard output.
    pub fn talks(&self) -> bool {
        !self.global.json && !self.global.quiet
    }

    /// Prints text for people, unless JSON or silence is wanted.
    pub fn say(&self, text: impl std::fmt::Display) {
        if self.talks() {
            print_text(text);
        }
    }

    /// Says what failed, to people and to programs.
    pub fn complain(&self, failure: &Failure) {
        complain(failure, self.global.json);
    }

    /// Warns people, also when they want silence; JSON readers get it on standard error too.
    pub fn warn(&self, text: impl std::fmt::Display) {
        warn(text);
    }
}

/// Asks for a secret that is kept nowhere, where somebody is there.
fn ask_for_secret(question: &str) -> Outcome<Option<Secret>> {
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        return Ok(None);
    }
    Ok(Some(Secret::new(ask::secret(question, true)?)))
}
