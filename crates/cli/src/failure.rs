//! How a command fails: one sentence, what to do, and the exit code.

use std::fmt;

/// Wrong usage or configuration; nothing was touched.
pub const USAGE: u8 = 2;
/// Stopped before any change.
pub const REFUSED: u8 = 3;
/// Stopped on the way.
pub const STOPPED: u8 = 5;

/// A command that did not do what it was asked to.
#[derive(Debug)]
pub struct Failure {
    /// The exit code.
    pub exit: u8,
    /// A stable word for the cause.
    pub code: &'static str,
    /// What, where and why, in one sentence without a final stop.
    pub message: String,
    /// What to do about it, in one sentence; may be empty.
    pub hint: String,
}

/// What commands return: the exit code, or a failure.
pub type Outcome<T = u8> = Result<T, Failure>;

impl Failure {
    /// Wrong usage.
    pub fn usage(message: impl Into<String>) -> Failure {
        Failure { exit: USAGE, code: "usage", message: message.into(), hint: String::new() }
    }

    /// A run that must not start.
    pub fn refused(code: &'static str, message: impl Into<String>) -> Failure {
        Failure { exit: REFUSED, code, message: message.into(), hint: String::new() }
    }

    /// Reedhook's own files cannot be used.
    pub fn own_files(what: &str, cause: impl fmt::Display) -> Failure {
        Failure { exit: STOPPED, code: "own-files", message: format!("{what}: {cause}"), hint: String::new() }
    }

    /// The same with advice.
    pub fn hint(mut self, hint: impl Into<String>) -> Failure {
        self.hint = hint.into();
        self
    }

    /// The sentence and the advice.
    pub fn text(&self) -> String {
        let stop = if self.message.ends_with(['.', '?', '!']) { "" } else { "." };
        let space = if self.hint.is_empty() { "" } else { " " };
        format!("{}{stop}{space}{}", self.message, self.hint)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text())
    }
}

impl From<reedhook_core::record::RecordError> for Failure {
    fn from(error: reedhook_core::record::RecordError) -> Failure {
        let mut text = error.to_string();
        let mut cause = std::error::Error::source(&error);
        while let Some(below) = cause {
            text = format!("{text}: {below}");
            cause = below.source();
        }
        Failure { exit: STOPPED, code: "own-files", message: text, hint: String::new() }
    }
}

/// The known word nearest to what was typed, when it is near enough to be a slip.
pub fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let scored = known.into_iter().map(|word| (strsim::damerau_levenshtein(typed, word), word));
    let (distance, word) = scored.min()?;
    (distance <= 1 + typed.chars().count() / 3).then_some(word)
}

/// "did you mean …?" or what there is.
pub fn suggestion(typed: &str, known: &[String], what: &str) -> String {
    match nearest(typed, known.iter().map(String::as_str)) {
        Some(word) => format!("Did you mean \"{word}\"?"),
        None if known.is_empty() => format!("There is no {what} yet."),
        None => {
            let shown: Vec<&str> = known.iter().map(String::as_str).take(8).collect();
            let more = if known.len() > shown.len() { ", …" } else { "" };
            format!("There is: {}{more}.", shown.join(", "))
        }
    }
}
