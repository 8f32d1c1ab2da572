//! Problems: what could not be done, for whom, and why.
//!
//! A problem never stops a run. Each has a stable code for grouping, the path, and one sentence; a hint belongs to the
//! code, so that a hundred files with the same cause need it only once.

use crate::entry::Side;
use crate::path::RelPath;
use crate::store::error::{FaultKind, StoreError};

/// The stable cause of a problem.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Code {
    /// A store failed in this way.
    Fault(FaultKind),
    /// A file stands against a folder and the job's kind replaces neither.
    KindDiffers,
    /// A folder that should make way holds something that the filter leaves alone.
    Occupied,
    /// Two names differ only in case, and the destination would merge them.
    NameClash,
    /// What was read back is not what was written, or the two sides differ though times and sizes agree.
    VerifyFailed,
    /// A verification found that its content changed by itself, and this run does not mend it.
    Corrupted,
    /// What an undo was to bring back has no kept copy.
    NotKept,
    /// A run was cut short, and its log does not tell what it did here.
    Untold,
    /// A run was cut short while it looked at a version out of its place, and nothing else holds it.
    SetAside,
    /// A version that was removed here has come back by way of other jobs.
    CameRound,
}

impl Code {
    /// The word for reports and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Code::Fault(kind) => kind.code(),
            Code::KindDiffers => "kind-differs",
            Code::Occupied => "occupied",
            Code::NameClash => "name-clash",
            Code::VerifyFailed => "verify-failed",
            Code::Corrupted => "rotten",
            Code::NotKept => "not-kept",
            Code::Untold => "untold",
            Code::SetAside => "set-aside",
            Code::CameRound => "came-round",
        }
    }
}

/// What to do about problems with this code, in one sentence.
pub fn hint(code: &str) -> &'static str {
    match code {
        "vanished" => "It was removed while the job ran. Run the job again.",
        "no-rights" => "Run as an account that may read and write these, or exclude them with a filter line.",
        "read-only" => "Mount the destination writable, or check the drive's write switch.",
        "no-space" => "Free space at the destination or shorten how long kept copies stay; then run again.",
        "name-too-long" => "Shorten the name at the source; this destination cannot hold it.",
        "name-refused" => "Rename it at the source, or let the job spell it there: --odd-names encode.",
        "in-the-way" => "Something appeared at the destination during the run; run again.",
        "not-empty" => "Something appeared in the folder during the run; run again.",
        "changed-meanwhile" => "Close the program that is writing it, then run again.",
        "link-in-path" => {
            "Somebody put a link where a folder was; remove the link if it does not belong there."
        }
        "in-use" => "Wait for the other run to end.",
        "io-error" => "Check the drive and its cable before trusting it further.",
        "store-lost" => "Connect the drive again and run the job again; it goes on where it stopped.",
        "connection-broke" => {
            "Run again: it goes on where it stopped. If it happens often, look at the network."
        }
        "store-busy" => "Run again later, or set a bandwidth limit; the store asks for patience.",
        "login-failed" => "Check the account: reedhook store check NAME.",
        "refused-there" => "Its own words say why: rights, space, or a name that it does not take.",
        "bad-answer" => "Nothing was done with it. Ask who runs this store; until then do not rely on it.",
        "kind-differs" => {
            "A file and a folder have the same name; rename one, or use a mirror to make right like left."
        }
        "occupied" => "Move the filtered files away, or change the filter, so that the folder can make way.",
        "name-clash" => "Rename one of them.",
        "verify-failed" => {
            "Do not trust this medium: check it with its maker's tools, and restore the file from the good side."
        }
        "rotten" => {
            "If the left is bad: reedhook restore JOB PATH. If the right is: touch the left's file and run. Then verify again."
        }
        "not-kept" => "Nothing was touched. `reedhook kept list JOB` shows what is still kept.",
        "untold" => "Look at both, then: reedhook kept restore JOB PATH --run RUN.",
        "came-round" => "One of the jobs in the circle is too many: reedhook job list.",
        "set-aside" => "Look at the copy; if it is the better one: reedhook kept restore JOB PATH.",
        "too-large" => {
            "This destination's file system has no room for so large a file; choose another one, or exclude it."
        }
        _ => "See the message of each item.",
    }
}

/// One thing that could not be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// The cause.
    pub code: Code,
    /// Where, relative to the side's root.
    pub path: RelPath,
    /// On which side it went wrong.
    pub side: Side,
    /// One sentence without the path.
    pub message: String,
}

impl Problem {
    /// A problem with a message of its own.
    pub fn new(code: Code, side: Side, path: RelPath, message: impl Into<String>) -> Problem {
        Problem { code, path, side, message: message.into() }
    }

    /// A store's failure as a problem.
    pub fn from_error(side: Side, error: &StoreError) -> Problem {
        Problem::new(Code::Fault(error.kind), side, error.path.clone(), error.reason())
    }
}
