//! A stretch of time, and what runs came to in it.

use std::time::Duration;

use jiff::Timestamp;
use reedhook_core::plan::Counts;
use reedhook_record::{Outcome as RunOutcome, RunRow};

/// A time that is looked back on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Period {
    /// From then on.
    pub since: Timestamp,
    /// Up to before then.
    pub until: Timestamp,
}

impl Period {
    /// How long it is.
    pub fn length(&self) -> Duration {
        Duration::try_from(self.until.duration_since(self.since)).unwrap_or_default()
    }

    /// Both ends in milliseconds since 1970.
    pub(crate) fn in_ms(&self) -> (i64, i64) {
        (self.since.as_millisecond(), self.until.as_millisecond())
    }
}

/// What runs came to.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sum {
    /// How many began.
    pub runs: u64,
    /// How many of them did everything, or had nothing to do.
    pub well: u64,
    /// Their numbers.
    pub counts: Counts,
    /// How long they took.
    pub elapsed: Duration,
}

impl Sum {
    /// Takes a run into account.
    pub fn add(&mut self, run: &RunRow) {
        self.runs += 1;
        self.well += u64::from(run.end.outcome == RunOutcome::Done);
        self.counts.add(&run.end.counts);
        self.elapsed += run.end.elapsed;
    }

    /// Takes the runs of another sum into account.
    pub fn add_sum(&mut self, other: &Sum) {
        self.runs += other.runs;
        self.well += other.well;
        self.counts.add(&other.counts);
        self.elapsed += other.elapsed;
    }

    /// Files and links that were worked on.
    pub fn items(&self) -> u64 {
        let counts = &self.counts;
        counts.added + counts.updated + counts.moved + counts.removed + counts.meta
    }
}
