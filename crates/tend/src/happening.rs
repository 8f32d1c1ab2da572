//! What the service does, as whoever looks on hears it.

use std::fmt;

use jiff::Timestamp;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::failure::Failure;
use reedhook_jobs::observer::{Event, Finishing};
use reedhook_jobs::run::RunResult;
use serde::{Deserialize, Serialize};

use crate::state::ServiceState;

/// Why a run begins by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// A line of its `when` says so.
    Schedule,
    /// A line said so while nobody could begin it.
    Missed,
    /// Something has changed.
    Change,
    /// A drive was connected.
    Connect,
    /// The service has started.
    Start,
    /// Somebody asked for it.
    Asked,
    /// The run before it failed.
    Retry,
}

impl Reason {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Reason::Schedule => "schedule",
            Reason::Missed => "missed",
            Reason::Change => "change",
            Reason::Connect => "connect",
            Reason::Start => "start",
            Reason::Asked => "asked",
            Reason::Retry => "retry",
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What a run that is wanted waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Waiting {
    /// The run of this job, which works at one of its places.
    For(String),
    /// Its turn: as many runs go on as may.
    Turn,
    /// The mains.
    Power,
    /// A yes.
    Answer,
    /// Its places, which do not answer: a drive, a share or a driver that hangs.
    Silence,
    /// The moment at which it is tried again.
    Retry(Timestamp),
}

/// Something that the service does, or that happens in one of its runs.
pub enum Happening<'a> {
    /// It has read its jobs and follows them.
    Tending(&'a ServiceState),
    /// A run begins.
    Began {
        /// The job's name.
        job: &'a str,
        /// Why.
        reason: Reason,
        /// The line that says so.
        line: Option<&'a str>,
    },
    /// Something happens in a run.
    InRun {
        /// The job's name.
        job: &'a str,
        /// What.
        event: &'a Event<'a>,
    },
    /// A run is over.
    Ended {
        /// The job's name.
        job: &'a str,
        /// What came of it.
        result: &'a RunResult,
    },
    /// A run could not even begin.
    Failed {
        /// The job's name.
        job: &'a str,
        /// Why.
        failure: &'a Failure,
    },
    /// A run is wanted and has to wait.
    Waiting {
        /// The job's name.
        job: &'a str,
        /// Why it is wanted.
        reason: Reason,
        /// What for.
        waiting: &'a Waiting,
    },
    /// A job has not run well for longer than it may.
    Overdue {
        /// The job's name.
        job: &'a str,
        /// For how long.
        overdue: Overdue,
    },
    /// Nothing else goes on any more, or nearly so, and the machine is about to go down.
    Finishing {
        /// The job that wishes it.
        job: &'a str,
        /// How near that is.
        finishing: Finishing<'a>,
    },
    /// Worth a word.
    Note(&'a str),
    /// It ends.
    Ending,
}

/// Who hears what the service does.
pub trait ServiceObserver: Send + Sync {
    /// Hears it.
    fn observe(&self, happening: &Happening<'_>);
}
