//! How work on a job ends before it is done: how far it had come, why, one sentence, and what to do.

use std::fmt;
use std::path::Path;

use reedhook_core::foreign::{escaped, escaped_lines};
use reedhook_core::memory::MemoryError;
use reedhook_core::plan::guard::Refusal;
use reedhook_core::store::FaultKind;
use reedhook_record::RecordError;
use reedhook_stores::remote::connect::ConnectError;

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

/// Why something ended before it was done.
#[derive(Debug)]
pub enum Cause {
    /// It was not said in a way that can be understood, or asks for what does not go together.
    Usage,
    /// Reedhook's own files cannot be used, or belong to a newer program.
    OwnFiles,
    /// The state file cannot be used.
    StateFile,
    /// A store of that name is not set up.
    UnknownStore,
    /// A job of that name is not set up.
    UnknownJob,
    /// A job file, or the settings, cannot be understood.
    BadFile,
    /// Two keys of a job leave nothing between them.
    Contradiction,
    /// Others can write to a file or folder of Reedhook's own.
    OthersCanWrite,
    /// A file that somebody named is there already, and is not ours.
    FileExists,
    /// A line of a filter cannot be understood.
    Filter,
    /// No kept copy of it is there.
    NotKept,
    /// No such conflict is held.
    NoConflict,
    /// The job is running.
    AlreadyRunning,
    /// Another run writes there.
    DestinationInUse,
    /// The destination is not there.
    DestinationMissing,
    /// The destination is not the store that it was.
    DestinationForeign,
    /// Something that is no folder stands where the destination should be.
    DestinationNoFolder,
    /// The destination cannot be worked with.
    DestinationUnusable,
    /// The source is not there.
    SourceMissing,
    /// The source is not the store that it was.
    SourceForeign,
    /// The source cannot be read.
    SourceUnreadable,
    /// A side of a two-way job is not the store that it was.
    SideForeign,
    /// The store is not the one that a run changed.
    StoreForeign,
    /// The store that a run changed is not there.
    StoreMissing,
    /// Which stores a run changed is not known.
    StoreUnknown,
    /// The drive is not connected.
    DriveAbsent,
    /// There is nothing of that name.
    NotFound,
    /// A side cannot be read.
    Unreadable,
    /// One side lies in the other.
    Nested,
    /// A saved plan was made for other stores, another job or other rules.
    PlanForeign,
    /// A saved plan is not whole.
    PlanDamaged,
    /// A saved plan was written by a newer program.
    PlanNewer,
    /// The log of a run does not tell all of it.
    LogIncomplete,
    /// A person said no.
    NotAgreed,
    /// Nobody has said yes to what would be removed.
    RemovalsNotAgreed,
    /// Nobody has said yes to a reversed run.
    ReverseNotAgreed,
    /// A question got no answer.
    Unanswered,
    /// The command that comes before a run failed.
    Before,
    /// The service is running already.
    Tending,
    /// The service is not running.
    NotTending,
    /// A person stopped it.
    Interrupted,
    /// What was to be read could not be written.
    Output,
    /// Reedhook contradicts itself.
    Internal,
    /// A guard stands before it.
    Guard(Refusal),
    /// A server could not be reached, or does not let us in.
    Connect(Box<ConnectError>),
    /// A store failed so.
    Store(FaultKind),
}

impl Cause {
    /// The stable word for programs.
    pub fn code(&self) -> &'static str {
        match self {
            Cause::Usage => "usage",
            Cause::OwnFiles => "own-files",
            Cause::OthersCanWrite => "others-can-write",
            Cause::FileExists => "file-exists",
            Cause::StateFile => "state-file",
            Cause::UnknownStore => "unknown-store",
            Cause::UnknownJob => "unknown-job",
            Cause::BadFile => "bad-file",
            Cause::Contradiction => "contradiction",
            Cause::Filter => "filter",
            Cause::NotKept => "not-kept",
            Cause::NoConflict => "no-conflict",
            Cause::AlreadyRunning => "already-running",
            Cause::DestinationInUse => "destination-in-use",
            Cause::DestinationMissing => "destination-missing",
            Cause::DestinationForeign => "destination-foreign",
            Cause::DestinationNoFolder => "destination-no-folder",
            Cause::DestinationUnusable => "destination-unusable",
            Cause::SourceMissing => "source-missing",
            Cause::SourceForeign => "source-foreign",
            Cause::SourceUnreadable => "source-unreadable",
            Cause::SideForeign => "side-foreign",
            Cause::StoreForeign => "store-foreign",
            Cause::StoreMissing => "store-missing",
            Cause::StoreUnknown => "store-unknown",
            Cause::DriveAbsent => "drive-absent",
            Cause::NotFound => "not-found",
            Cause::Unreadable => "unreadable",
            Cause::Nested => "nested",
            Cause::PlanForeign => "plan-foreign",
            Cause::PlanDamaged => "plan-damaged",
            Cause::PlanNewer => "plan-newer",
            Cause::LogIncomplete => "log-incomplete",
            Cause::NotAgreed => "not-agreed",
            Cause::RemovalsNotAgreed => "removals-not-agreed",
            Cause::ReverseNotAgreed => "reverse-not-agreed",
            Cause::Unanswered => "unanswered",
            Cause::Before => "before-failed",
            Cause::Tending => "already-tending",
            Cause::NotTending => "not-tending",
            Cause::Interrupted => "interrupted",
            Cause::Output => "output",
            Cause::Internal => "internal",
            Cause::Guard(refusal) => refusal.code(),
            Cause::Connect(error) => error.code(),
            Cause::Store(kind) => kind.code(),
        }
    }
}

impl From<Refusal> for Cause {
    fn from(refusal: Refusal) -> Cause {
        Cause::Guard(refusal)
    }
}

impl From<ConnectError> for Cause {
    fn from(error: ConnectError) -> Cause {
        Cause::Connect(Box::new(error))
    }
}

impl From<FaultKind> for Cause {
    fn from(kind: FaultKind) -> Cause {
        Cause::Store(kind)
    }
}

/// Something that did not do what it was asked to.
#[derive(Debug)]
pub struct Failure {
    /// How far it had come.
    pub halt: Halt,
    /// Why.
    pub cause: Cause,
    /// What, where and why, in one sentence without a final stop.
    pub message: String,
    /// What to do about it, in one sentence; may be empty.
    pub hint: String,
}

/// What came of something, or why nothing did.
pub type Outcome<T> = Result<T, Failure>;

impl Failure {
    /// One of our own workers failed while a run went on.
    pub fn our_mistake() -> Failure {
        let message = "the run failed; this is a fault in Reedhook, and what it had done is whole";
        Failure::stopped(Cause::Internal, message).hint("Run again; it goes on.")
    }

    /// Wrong usage.
    pub fn usage(message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Usage, cause: Cause::Usage, message: message.into(), hint: String::new() }
    }

    /// A run that must not start.
    pub fn refused(cause: impl Into<Cause>, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Refused, cause: cause.into(), message: message.into(), hint: String::new() }
    }

    /// Reedhook's own files cannot be used. It is the machine's configuration that is wrong, until a run has begun to change
    /// something: then it is [`on_the_way`](Failure::on_the_way).
    pub fn own_files(what: &str, cause: impl fmt::Display) -> Failure {
        Failure {
            halt: Halt::Usage,
            cause: Cause::OwnFiles,
            message: format!("{what}: {cause}"),
            hint: "Check the rights and the free space there; `reedhook doctor` looks at all of it."
                .to_owned(),
        }
    }

    /// Whether it is about Reedhook's own files.
    pub fn is_about_own_files(&self) -> bool {
        matches!(self.cause, Cause::OwnFiles | Cause::StateFile)
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
        if matches!(self.cause, Cause::StateFile) && self.hint.is_empty() {
            self.message = format!("{}: {}", file.display(), self.message);
            self.hint =
                "`reedhook doctor` says what is wrong; `reedhook doctor --mend` puts a broken one aside and builds a new one."
                    .to_owned();
        }
        self
    }

    /// The stable word for why, for programs.
    pub fn code(&self) -> &'static str {
        self.cause.code()
    }

    /// The same with advice.
    pub fn hint(mut self, hint: impl Into<String>) -> Failure {
        self.hint = hint.into();
        self
    }

    /// On the way: what was done is whole.
    pub fn stopped(cause: impl Into<Cause>, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Stopped, cause: cause.into(), message: message.into(), hint: String::new() }
    }

    /// Broken off by a person.
    pub fn interrupted(cause: impl Into<Cause>, message: impl Into<String>) -> Failure {
        Failure { halt: Halt::Interrupted, cause: cause.into(), message: message.into(), hint: String::new() }
    }

    /// The sentence and the advice.
    pub fn text(&self) -> String {
        let stop = if self.message.ends_with(['.', '?', '!']) { "" } else { "." };
        let space = if self.hint.is_empty() { "" } else { " " };
        // What failed may have names, replies and output of others in it. Advice may have several lines.
        format!("{}{stop}{space}{}", escaped(&self.message), escaped_lines(&self.hint))
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
            cause: if newer { Cause::OwnFiles } else { Cause::StateFile },
            message: format!("the state file {}", error.told()),
            hint: String::new(),
        }
    }
}

impl From<MemoryError> for Failure {
    fn from(error: MemoryError) -> Failure {
        let message = error
            .why::<RecordError>()
            .map_or_else(|| error.to_string(), |why| format!("the state file {}", why.told()));
        Failure { halt: Halt::Usage, cause: Cause::StateFile, message, hint: String::new() }
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
