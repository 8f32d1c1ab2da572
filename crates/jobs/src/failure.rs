//! How work on a job ends before it is done: how far it had come, one sentence, and what to do.

use std::fmt;
use std::path::Path;

use reedhook_core::memory::MemoryError;
use reedhook_record::RecordError;

/// How far something had come when it ended before it was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Halt {
    /// It was not understood, or the configuration is wrong: nothing was touched.
    Usage,
    /// It must not start: nothing was changed.
    Refused,
    /// It was on the way; what was done is whole.
    Stopped,
    /// A person stopped it.
    Interrupted,
}

/// Reedhook's own files cannot be used.
const OWN_FILES: &str = "own-files";
/// The state file cannot be used.
const STATE_FILE: &str = "state-file";

/// Something that did not do what it was asked to.
#[derive(Debug)]
pub struct Failure {
    /// How far it had come.
    pub halt: Halt,
    /// A stable word for the cause.
    pub code: &'static str,
    /// What, where and why, in one sentence without a final stop.
    pub message: String,
    /// What to do about it, in one sentence; may be empty.
    pub hint: String,
}

/// What came of something, or why nothing did.
pub type Outcome<T> = Result<T, Failure>;

impl Failure {
    /// Wrong usage.
    pub fn usage(message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Usage, code: "usage", message: message.into(), hint: String::new() }
    }

    /// A run that must not start.
    pub fn refused(code: &'static str, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Refused, code, message: message.into(), hint: String::new() }
    }

    /// Reedhook's own files cannot be used. It is the machine's configuration that is wrong, until a run has begun to change
    /// something: then it is [`on_the_way`](Failure::on_the_way).
    pub fn own_files(what: &str, cause: impl fmt::Display) -> Failure {
        Failure {
            halt: Halt::Usage,
            code: OWN_FILES,
            message: format!("{what}: {cause}"),
            hint: "Check the rights and the free space there; `reedhook doctor` looks at all of it."
                .to_owned(),
        }
    }

    /// Whether it is about Reedhook's own files.
    pub fn is_about_own_files(&self) -> bool {
        [OWN_FILES, STATE_FILE].contains(&self.code)
    }

    /// The same before a run has changed anything.
    pub fn before_the_run(self) -> Failure {
        if self.is_about_own_files() { Failure { halt: Halt::Refused, ..self } } else { self }
    }

    /// The same after a run has begun to change something.
    pub fn on_the_way(self) -> Failure {
        if matches!(self.halt, Halt::Usage | Halt::Refused) {
            Failure { halt: Halt::Stopped, ..self }
        } else {
            self
        }
    }

    /// Names the state file, which knows nothing of its path.
    pub fn about_state_file(mut self, file: &Path) -> Failure {
        if self.code == STATE_FILE && self.hint.is_empty() {
            self.message = format!("{}: {}", file.display(), self.message);
            self.hint =
                "`reedhook doctor` says what is wrong; `reedhook doctor --mend` puts a broken one aside and builds a new one."
                    .to_owned();
        }
        self
    }

    /// The same with advice.
    pub fn hint(mut self, hint: impl Into<String>) -> Failure {
        self.hint = hint.into();
        self
    }

    /// On the way: what was done is whole.
    pub fn stopped(code: &'static str, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Stopped, code, message: message.into(), hint: String::new() }
    }

    /// Broken off by a person.
    pub fn interrupted(code: &'static str, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Interrupted, code, message: message.into(), hint: String::new() }
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

impl std::error::Error for Failure {}

impl From<RecordError> for Failure {
    fn from(error: RecordError) -> Failure {
        // A newer program's file says itself what to do.
        let newer = matches!(error, RecordError::TooNew { .. });
        Failure {
            halt: Halt::Usage,
            code: if newer { OWN_FILES } else { STATE_FILE },
            message: error.told(),
            hint: String::new(),
        }
    }
}

impl From<MemoryError> for Failure {
    fn from(error: MemoryError) -> Failure {
        let message = error.why().map_or_else(|| error.to_string(), RecordError::told);
        Failure { halt: Halt::Usage, code: STATE_FILE, message, hint: String::new() }
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
