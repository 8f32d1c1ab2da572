//! How operations of a store fail.

use std::error::Error;
use std::fmt;

use crate::foreign::escaped;
use crate::path::RelPath;

/// What went wrong, as far as the engine has to know to go on. The words of [`FaultKind::code`] are stable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum FaultKind {
    /// Nothing has this path.
    NotFound,
    /// The account lacks the rights.
    Denied,
    /// The store, or this part of it, cannot be written.
    ReadOnly,
    /// No space or no quota left.
    NoSpace,
    /// A file is larger than the store can hold.
    TooLarge,
    /// A name or path is longer than the store allows.
    NameTooLong,
    /// The store cannot hold this name.
    NameRefused,
    /// Something stands where nothing was expected.
    Exists,
    /// A folder that should be empty is not.
    NotEmpty,
    /// Something is not what it was when the plan was made, or changed while it was read.
    Changed,
    /// A link stands where a folder was expected; it is not followed.
    LinkInPath,
    /// Another run uses it.
    InUse,
    /// The medium or the connection gave an error for this one operation.
    Io,
    /// The connection broke in the middle; it works again, and what was underway may be tried again.
    Interrupted,
    /// The store asks for patience, and went on asking.
    Busy,
    /// The store does not accept who we say we are.
    LoginFailed,
    /// The store refuses, and does not say in terms of its protocol why: its own words are all there is.
    Refused,
    /// The store answered with something that no honest store says; it is not acted upon.
    BadAnswer,
    /// The whole store has gone: unplugged, or unreachable.
    Lost,
    /// The store cannot do this at all.
    Unsupported,
    /// Somebody wants the work to stop.
    Stopped,
    /// One of our own workers failed: a fault in Reedhook.
    Internal,
}

impl FaultKind {
    /// The stable code for reports and JSON.
    pub fn code(self) -> &'static str {
        match self {
            FaultKind::NotFound => "vanished",
            FaultKind::Denied => "no-rights",
            FaultKind::ReadOnly => "read-only",
            FaultKind::NoSpace => "no-space",
            FaultKind::TooLarge => "too-large",
            FaultKind::NameTooLong => "name-too-long",
            FaultKind::NameRefused => "name-refused",
            FaultKind::Exists => "in-the-way",
            FaultKind::NotEmpty => "not-empty",
            FaultKind::Changed => "changed-meanwhile",
            FaultKind::LinkInPath => "link-in-path",
            FaultKind::InUse => "in-use",
            FaultKind::Io => "io-error",
            FaultKind::Interrupted => "connection-broke",
            FaultKind::Busy => "store-busy",
            FaultKind::LoginFailed => "login-failed",
            FaultKind::Refused => "refused-there",
            FaultKind::BadAnswer => "bad-answer",
            FaultKind::Lost => "store-lost",
            FaultKind::Unsupported => "unsupported",
            FaultKind::Stopped => "interrupted",
            FaultKind::Internal => "internal",
        }
    }

    /// The cause in a few plain words.
    pub fn words(self) -> &'static str {
        match self {
            FaultKind::NotFound => "it is no longer there",
            FaultKind::Denied => "permission denied",
            FaultKind::ReadOnly => "the file system is read-only",
            FaultKind::NoSpace => "no space left there",
            FaultKind::TooLarge => "the file is too large to be held there",
            FaultKind::NameTooLong => "the name is too long",
            FaultKind::NameRefused => "the name cannot be stored there",
            FaultKind::Exists => "something else has appeared there",
            FaultKind::NotEmpty => "the folder is not empty",
            FaultKind::Changed => "it changed meanwhile",
            FaultKind::LinkInPath => "a link stands where a folder should be",
            FaultKind::InUse => "another run is using it",
            FaultKind::Io => "input/output error",
            FaultKind::Interrupted => "the connection broke",
            FaultKind::Busy => "the store is too busy",
            FaultKind::LoginFailed => "the login was refused",
            FaultKind::Refused => "the store refuses it",
            FaultKind::BadAnswer => "the store gave an answer that cannot be right",
            FaultKind::Lost => "the store is gone",
            FaultKind::Unsupported => "not possible in this store",
            FaultKind::Stopped => "it was stopped",
            FaultKind::Internal => "a worker failed; this is a fault in Reedhook",
        }
    }
}

/// A failed operation of a store: what was tried on which path, what kind of failure, and the cause underneath.
#[derive(Debug)]
pub struct StoreError {
    /// The kind, for decisions.
    pub kind: FaultKind,
    /// What was tried, as a verb: `read`, `write`, `remove`.
    pub action: &'static str,
    /// The path it was tried on.
    pub path: RelPath,
    /// The error of the layer below.
    pub cause: Option<Box<dyn Error + Send + Sync>>,
}

impl StoreError {
    /// An error without a lower cause.
    pub fn new(kind: FaultKind, action: &'static str, path: &RelPath) -> StoreError {
        StoreError { kind, action, path: path.clone(), cause: None }
    }

    /// The same error with the error of the layer below.
    pub fn because(mut self, cause: impl Into<Box<dyn Error + Send + Sync>>) -> StoreError {
        self.cause = Some(cause.into());
        self
    }

    /// The error behind a failed read of a [`Content`]: a store that has more to say than the system's error passes its own
    /// through.
    pub fn of_read(error: std::io::Error, path: &RelPath) -> StoreError {
        match error.downcast::<StoreError>() {
            Ok(own) => own,
            Err(error) => StoreError::new(FaultKind::Io, "read", path).because(error),
        }
    }

    /// The sentence without the path, for a list that already shows it.
    pub fn reason(&self) -> String {
        match (&self.cause, self.kind) {
            (
                Some(cause),
                FaultKind::Io
                | FaultKind::Unsupported
                | FaultKind::NameRefused
                | FaultKind::Interrupted
                | FaultKind::Busy
                | FaultKind::Lost
                | FaultKind::LoginFailed
                | FaultKind::Refused
                | FaultKind::BadAnswer,
            ) => {
                let cause = escaped(&cause.to_string());
                format!("cannot {}: {} ({cause})", self.action, self.kind.words())
            }
            _ => format!("cannot {}: {}", self.action, self.kind.words()),
        }
    }
}

impl fmt::Display for StoreError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "cannot {} {}: {}", self.action, self.path, self.kind.words())
    }
}

impl Error for StoreError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.cause.as_deref().map(|cause| cause as &(dyn Error + 'static))
    }
}

/// What stores return.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;

/// Why moving bytes from one store to another stopped: the two sides fail differently.
#[derive(Debug)]
pub enum CopyError {
    /// The source could not be read.
    Read(StoreError),
    /// The destination could not be written.
    Write(StoreError),
    /// The caller asked to stop.
    Stopped,
}

impl CopyError {
    /// Whether a side was lost, for a moment or for good, rather than having refused something.
    pub fn is_of_the_connection(&self) -> bool {
        match self {
            CopyError::Read(error) | CopyError::Write(error) => {
                matches!(error.kind, FaultKind::Interrupted | FaultKind::Lost)
            }
            CopyError::Stopped => false,
        }
    }
}
