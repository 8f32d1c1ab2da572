//! What came of a run.

use std::time::Duration;

use reedhook_core::plan::Counts;
use reedhook_core::run::RunReport;
use reedhook_record::{Outcome as RunOutcome, ProblemGroup, RunEnd};
use serde_json::json;

use crate::failure::{Failure, Halt};
use crate::lines;

/// What sort of run it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sort {
    /// The job's own.
    Job,
    /// The left is brought back from the right.
    Reverse,
    /// What a person decided about conflicts.
    Settle,
    /// What a person wants back.
    Restore,
    /// What an earlier run changed is put back.
    Undo,
}

impl Sort {
    /// As it is written in logs and in the record; nothing for the job's own.
    pub fn as_str(self) -> &'static str {
        match self {
            Sort::Job => "",
            Sort::Reverse => "reverse",
            Sort::Settle => "settle",
            Sort::Restore => "restore",
            Sort::Undo => "undo",
        }
    }
}

/// What a whole run came to.
pub struct RunResult {
    /// What sort of run it was.
    pub sort: Sort,
    /// Its name.
    pub run: String,
    /// Its number among the job's runs.
    pub number: i64,
    /// How it ended.
    pub outcome: RunOutcome,
    /// Why, when it did not end well.
    pub failure: Option<Failure>,
    /// The numbers.
    pub counts: Counts,
    /// How many folders were made; they are not among the files.
    pub folders_made: u64,
    /// How many folders were removed; they are not among the files.
    pub folders_removed: u64,
    /// Bytes of large files that were cut short.
    pub unfinished: u64,
    /// Problems by cause, the largest group first.
    pub problems: Vec<ProblemGroup>,
    /// The time since the scan began.
    pub elapsed: Duration,
}

impl RunResult {
    /// The same as it is remembered and shown.
    pub fn as_end(&self) -> RunEnd {
        let failure = self.failure.as_ref();
        RunEnd {
            elapsed: self.elapsed,
            outcome: self.outcome,
            code: failure.map_or(self.sort.as_str(), Failure::code).to_owned(),
            message: failure.map(Failure::text).unwrap_or_default(),
            folders_made: self.folders_made,
            folders_removed: self.folders_removed,
            counts: self.counts,
            log_whole: true,
        }
    }
}

/// What the destinations of a run have come to so far.
#[derive(Default)]
pub(super) struct Sum {
    pub(super) counts: Counts,
    /// Folders made and removed.
    pub(super) folders: (u64, u64),
    pub(super) unfinished: u64,
    /// Something has been changed.
    pub(super) begun: bool,
    pub(super) interrupted: bool,
    pub(super) failure: Option<Failure>,
}

impl Sum {
    pub(super) fn add(&mut self, report: &RunReport) {
        self.counts.add(&report.counts);
        self.folders.0 += report.folders_made;
        self.folders.1 += report.folders_removed;
        self.unfinished += report.unfinished;
        self.begun |= self.counts.changed() + self.folders.0 + self.folders.1 > 0;
    }

    pub(super) fn outcome(&self) -> RunOutcome {
        match &self.failure {
            Some(failure) if failure.halt == Halt::Stopped => RunOutcome::Stopped,
            Some(_) => RunOutcome::Refused,
            None if self.interrupted => RunOutcome::Interrupted,
            None if self.counts.problems > 0 => RunOutcome::Problems,
            None if self.counts.conflicts > 0 => RunOutcome::Held,
            None => RunOutcome::Done,
        }
    }
}

/// The last line of a run, for programs and for its log.
pub fn finished(job: &str, result: &RunResult) -> serde_json::Value {
    let object = lines::object(json!({
        "event": "finished",
        "job": job,
        "run": result.run,
        "outcome": result.outcome.as_str(),
    }));
    let mut object = lines::with_counts(object, &result.counts);
    object.insert("seconds".into(), json!(lines::seconds(result.elapsed)));
    if let Some(failure) = &result.failure {
        object.insert("code".into(), json!(failure.code()));
        object.insert("message".into(), json!(failure.text()));
    }
    object.into()
}
