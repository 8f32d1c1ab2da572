//! What a report is made of.

use std::collections::VecDeque;

use jiff::tz::TimeZone;
use reedhook_core::job::Kind;
use reedhook_jobs::due::{Due, Overdue};
use reedhook_record::RunRow;

use crate::causes::Trouble;
use crate::days::Day;
use crate::lonely::OnceOnly;
use crate::missed::NotRun;
use crate::rooms::Destination;
use crate::sums::{Period, Sum};

/// Something that is not well.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// What sort of thing it is, for programs.
    pub code: &'static str,
    /// The job, or the place or way that it is about.
    pub about: String,
    /// It is about a job.
    pub of_a_job: bool,
    /// What, in one sentence, without what it is about.
    pub words: String,
    /// What to do; may be empty.
    pub advice: String,
}

/// What a job is now.
#[derive(Debug, Clone, PartialEq)]
pub enum Standing {
    /// It is set up.
    Kind(Kind),
    /// Its file cannot be understood.
    Broken(String),
    /// It is not set up any more, or runs without a job.
    Gone,
}

/// One job in a report.
#[derive(Debug, Clone)]
pub struct JobPart {
    /// Its name.
    pub name: String,
    /// What it is now.
    pub standing: Standing,
    /// Nothing of it begins by itself.
    pub paused: bool,
    /// A run of it goes on now.
    pub running: bool,
    /// Its runs in the time.
    pub sum: Sum,
    /// The newest run that was to do the job, whenever that was; not an undo, nor a restore.
    pub last: Option<RunRow>,
    /// When the newest run began that came to its end, whenever that was; in milliseconds since 1970.
    pub last_good_ms: Option<i64>,
    /// What is due next.
    pub next: Option<Due>,
    /// It has not run well for longer than it may.
    pub overdue: Option<Overdue>,
    /// Conflicts that are held, as far as runs have told.
    pub held: u64,
}

/// Somebody who could not be told something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Untold {
    /// Which way it was to go.
    pub way: String,
    /// How often.
    pub times: u64,
    /// When last, in milliseconds since 1970.
    pub at_ms: i64,
    /// Why, the last time.
    pub message: String,
}

/// What there is to say about a time.
#[derive(Debug, Clone)]
pub struct Report {
    /// The time.
    pub period: Period,
    /// The zone in which its days begin.
    pub zone: TimeZone,
    /// What is not well, the most pressing first.
    pub findings: Vec<Finding>,
    /// The jobs, by name.
    pub jobs: Vec<JobPart>,
    /// What was due and did not run.
    pub not_run: Vec<NotRun>,
    /// Problems, by job and cause.
    pub troubles: Vec<Trouble>,
    /// Where was written, and how much room there is.
    pub destinations: Vec<Destination>,
    /// What was done on each day.
    pub days: Vec<Day>,
    /// The newest runs, in the order in which they began: as many as a page shows. All of them are in a table ([`sheet`](crate::sheet)).
    pub newest: VecDeque<RunRow>,
    /// Who could not be told something.
    pub untold: Vec<Untold>,
    /// What exists on one drive only, where that was asked for.
    pub once_only: OnceOnly,
}
