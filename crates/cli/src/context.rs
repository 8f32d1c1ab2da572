//! What every command needs: the options that hold everywhere, Reedhook's own folders, the named stores, and the wish to
//! stop.

use std::io::IsTerminal;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use crate::args::{Color, Global};
use crate::failure::{Failure, Outcome};
use crate::home::Home;
use crate::places::Settings;

/// What every command needs.
pub struct Context {
    /// Options that hold everywhere.
    pub global: Global,
    /// Reedhook's own folders.
    pub home: Home,
    /// The named stores.
    pub settings: Settings,
    /// Set by Ctrl-C.
    pub stop: Arc<AtomicBool>,
}

impl Context {
    /// Reads what is there and prepares for Ctrl-C.
    pub fn new(global: &Global) -> Outcome<Context> {
        let choice = match global.color {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        let home = Home::find(global.home.as_deref())?;
        let settings = Settings::load(&home)?;
        Ok(Context { global: global.clone(), home, settings, stop: stop_on_signals()? })
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

    /// Says what failed.
    pub fn complain(&self, failure: &Failure) {
        complain(failure);
    }

    /// Warns people, also when they want silence; JSON readers get it on standard error too.
    pub fn warn(&self, text: impl std::fmt::Display) {
        warn(text);
    }
}

/// Warns people on standard error.
pub fn warn(text: impl std::fmt::Display) {
    use std::io::Write;
    let label = crate::text::styled(crate::text::CARE, "Note:");
    let _ = writeln!(anstream::stderr(), "{label} {text}");
}

/// Says on standard error what failed.
pub fn complain(failure: &Failure) {
    use std::io::Write;
    let label = crate::text::styled(crate::text::BAD, "Error:");
    let _ = writeln!(anstream::stderr(), "{label} {failure}");
}

/// Prints text with a line end. A reader that went away is no error.
pub fn print_text(text: impl std::fmt::Display) {
    use std::io::Write;
    let _ = writeln!(anstream::stdout(), "{text}");
}

/// The first signal asks for a clean stop; a second Ctrl-C ends the program at once, which harms nothing either.
fn stop_on_signals() -> Outcome<Arc<AtomicBool>> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    let stop = Arc::new(AtomicBool::new(false));
    let failed = |error: std::io::Error| Failure::own_files("cannot listen for signals", error);
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register_conditional_shutdown(signal, 130, stop.clone()).map_err(failed)?;
        signal_hook::flag::register(signal, stop.clone()).map_err(failed)?;
    }
    Ok(stop)
}
