//! Standard output: what is written there, and whether it could be.
//!
//! A reader that went away (`reedhook history | head`) does not need the rest, and is no error. Anything else is: whoever keeps the
//! output in a file must not find half of it, and an exit code that says that all went well. So every line goes through here, the
//! first failure is remembered, and the program's end asks for it.

use std::fmt::Display;
use std::io::{self, Write};
use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicBool, Ordering};

use serde_json::Value;

use reedhook_jobs::fresh::Fresh;
use reedhook_jobs::lines::JSON_VERSION;

use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome};

static FAILED: Mutex<Option<io::Error>> = Mutex::new(None);

/// Set when the first line of JSON has been written.
static BEGUN: AtomicBool = AtomicBool::new(false);

/// Prints text with a line end.
pub fn text(text: impl Display) {
    note(writeln!(anstream::stdout(), "{text}"));
}

/// Prints what is ready as it is.
pub fn raw(bytes: &[u8]) {
    let mut out = io::stdout().lock();
    note(out.write_all(bytes).and_then(|()| out.flush()));
}

/// Prints an object as a line of JSON.
pub fn json(value: &Value) {
    json_line(format!("{value}\n").as_bytes());
}

/// Prints a line of JSON that is ready, with its end.
pub fn json_line(line: &[u8]) {
    let mut out = io::stdout().lock();
    let written = match line {
        [b'{', keys @ ..] if !BEGUN.swap(true, Ordering::Relaxed) => {
            write!(out, "{{\"v\":{JSON_VERSION},").and_then(|()| out.write_all(keys))
        }
        line => out.write_all(line),
    };
    note(written);
}

/// Puts a file in its place that a person has asked for, and says where it is.
pub fn written(context: &Context, file: Fresh) -> Outcome<()> {
    let path = file.finish()?;
    context.say(format!("\nWritten: {}", path.display()));
    Ok(())
}

/// Takes note of what came of writing.
pub fn note(outcome: io::Result<()>) {
    if let Err(error) = outcome
        && error.kind() != io::ErrorKind::BrokenPipe
    {
        FAILED.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
    }
}

/// Why something could not be written, when it could not.
pub fn failure() -> Option<Failure> {
    note(io::stdout().flush());
    let error = FAILED.lock().unwrap_or_else(PoisonError::into_inner).take()?;
    let failure = Failure::stopped(Cause::Output, format!("the output could not be written: {error}"));
    Some(failure.hint("What was to be done was done; only what was to be read is not complete."))
}
