//! Standard output: what is written there, and whether it could be.
//!
//! A reader that went away (`reedhook history | head`) does not need the rest, and is no error. Anything else is: whoever keeps the
//! output in a file must not find half of it, and an exit code that says that all went well. So every line goes through here, the
//! first failure is remembered, and the program's end asks for it.

use std::borrow::Cow;
use std::fmt::Display;
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use reedhook_core::foreign::is_hidden;
use reedhook_jobs::lines::JSON_VERSION;
use serde_json::Value;

use crate::failure::{Cause, Failure};

static FAILED: Mutex<Option<io::Error>> = Mutex::new(None);

/// Set when the first line of JSON has been written.
static BEGUN: AtomicBool = AtomicBool::new(false);

/// Prints text with a line end.
pub fn text(text: impl Display) {
    note(writeln!(anstream::stdout(), "{}", shown(&text.to_string())));
}

/// Text with nothing in it that a terminal acts upon, but line ends and our own colours. What is from outside is escaped where it is
/// taken in; this is for what was forgotten.
fn shown(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(character) = rest.chars().next() {
        let length = colour_length(rest).unwrap_or(character.len_utf8());
        let (piece, after) = rest.split_at(length);
        match length > character.len_utf8() || character == '\n' || !is_hidden(character) {
            true => shown.push_str(piece),
            false => shown.extend(character.escape_default()),
        }
        rest = after;
    }
    shown
}

/// The length of a sequence that sets a colour or a weight (ECMA-48, SGR) at the beginning of a text.
fn colour_length(text: &str) -> Option<usize> {
    let parameters = text.strip_prefix("\u{1b}[")?;
    let end = parameters.find(|character: char| !(character.is_ascii_digit() || character == ';'))?;
    parameters[end..].starts_with('m').then_some(2 + end + 1)
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
    let line = &*without_hidden(line);
    let mut out = io::stdout().lock();
    let written = match line {
        [b'{', keys @ ..] if !BEGUN.swap(true, Ordering::Relaxed) => {
            write!(out, "{{\"v\":{JSON_VERSION},").and_then(|()| out.write_all(keys))
        }
        line => out.write_all(line),
    };
    note(written);
}

/// JSON in which characters that a terminal acts upon are written as their numbers (RFC 8259, section 7). They can only be within text.
fn without_hidden(line: &[u8]) -> Cow<'_, [u8]> {
    // All of them but DEL are outside of ASCII.
    if line.iter().all(|byte| byte.is_ascii() && *byte != 0x7f) {
        return Cow::Borrowed(line);
    }
    let Ok(text) = std::str::from_utf8(line) else { return Cow::Borrowed(line) };
    let mut written = String::with_capacity(text.len());
    for character in text.chars() {
        match is_hidden(character) && character != '\n' {
            true => written.push_str(&format!("\\u{:04x}", u32::from(character))),
            false => written.push(character),
        }
    }
    Cow::Owned(written.into_bytes())
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
