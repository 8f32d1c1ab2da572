//! What the service is asked, and what it tells: one JSON object a line, the same through the socket, to a board and from `tend --json`.
//!
//! The first line of a conversation bears the version in each direction. A word of a later version is [`Told::Unknown`].

pub use crate::state::{NearEnd, NextDue, ServiceState};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::when::Finally;
use reedhook_jobs::lines;
use reedhook_jobs::observer::{Event, Finishing};
use reedhook_jobs::run::finished;
use reedhook_jobs::tally::{Said, Tally};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::happening::{Happening, Reason, Waiting};

/// The version of what is spoken.
pub const VERSION: u64 = 1;

/// A line, and on the first of a conversation the version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Versioned<T> {
    /// The version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub v: Option<u64>,
    /// What is said.
    #[serde(flatten)]
    pub said: T,
}

/// What can be asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Request {
    /// How all jobs are.
    Status,
    /// What runs, waits or is owed.
    Pending,
    /// The service is to end.
    Stop,
    /// A job is to run now.
    Run {
        /// The job's name.
        job: String,
    },
    /// A job that asks is answered.
    Answer {
        /// The job's name.
        job: String,
        /// Whether it may run, or the machine go down.
        yes: bool,
    },
    /// Job files and settings are to be read anew.
    Reload,
    /// The run of a job is to come to its end.
    Halt {
        /// The job's name.
        job: String,
    },
    /// Everything that goes on is to be told, for as long as the connection lasts.
    Watch,
}

/// What is told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Told {
    /// How the service is.
    Tending(ServiceState),
    /// How a job is.
    Tended(JobState),
    /// How the service and all jobs are.
    Stands {
        /// The service.
        service: ServiceState,
        /// The jobs.
        jobs: Vec<JobState>,
    },
    /// What was asked for will be done.
    Taken {
        /// The job's name, where it is about one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<String>,
    },
    /// What was asked for will not be done.
    Refused {
        /// Why not.
        message: String,
    },
    /// A run goes on, waits or is owed.
    Pending {
        /// The job; empty for a run without one.
        job: String,
        /// How far it is.
        state: PendingWord,
        /// When it is tried again.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<String>,
        /// The folders in which it works, where that is known.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        places: Option<Vec<String>>,
    },
    /// A run begins.
    Began {
        /// The job's name.
        job: String,
        /// Why.
        cause: Reason,
        /// The line that says so.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        line: Option<String>,
        /// When.
        at: String,
    },
    /// A run is wanted and has to wait.
    Waiting {
        /// The job's name.
        job: String,
        /// Why it is wanted.
        cause: Reason,
        /// What for.
        #[serde(flatten)]
        waits: WaitsFor,
        /// When that was told.
        at: String,
    },
    /// How far a run is.
    Progress {
        /// The job's name.
        job: String,
        /// How long it has gone on.
        seconds: f64,
        /// How many entries have been looked at, while it only looks.
        looking: Option<u64>,
        /// What it has done.
        tally: Tally,
    },
    /// A run is over: the last line of its log, and when.
    Finished(Map<String, Value>),
    /// A run could not do something: the line of its log, and when.
    Problem(Map<String, Value>),
    /// A run could not even begin.
    Failure {
        /// The job's name.
        job: String,
        /// Why, as a word.
        code: String,
        /// Why, in words.
        message: String,
        /// The exit code that a command would have; only where it is told on standard output.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        exit: Option<u8>,
        /// When.
        at: String,
    },
    /// A job has not run well for longer than it may.
    Overdue {
        /// The job's name.
        job: String,
        /// For how long.
        seconds: u64,
        /// It has never run well.
        never: bool,
        /// When that was told.
        at: String,
    },
    /// The machine is about to go down.
    Finally {
        /// The job that wishes it.
        job: String,
        /// How near that is.
        state: FinallyWord,
        /// What is to be done.
        #[serde(rename = "do", default, skip_serializing_if = "Option::is_none")]
        what: Option<Finally>,
        /// What it waits for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        message: Option<String>,
        /// How long it takes yet.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        seconds: Option<u64>,
        /// When that was told.
        at: String,
    },
    /// Worth a word.
    Note {
        /// About which job.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<String>,
        /// The word.
        message: String,
        /// When.
        at: String,
    },
    /// The service ends.
    Ending,
    /// Something that a later version says.
    #[serde(other)]
    Unknown,
}

/// How far something is that is still to come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PendingWord {
    /// It runs.
    Running,
    /// It waits.
    Waiting,
    /// It is tried again.
    Retry,
}

/// How near it is that the machine goes down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FinallyWord {
    /// Something else still goes on.
    Waits,
    /// Somebody may still say no.
    CountsDown,
    /// Somebody has said no.
    LeftOn,
}

/// How a job is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobState {
    /// The job's name.
    pub job: String,
    /// What it does.
    pub state: JobWord,
    /// Why it runs or is wanted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Reason>,
    /// Since when it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// What it waits for.
    #[serde(flatten)]
    pub waits: Option<WaitsFor>,
    /// What is due next, in local time, and by which line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// The line of `when` that says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<String>,
    /// How its sides are followed.
    #[serde(flatten)]
    pub follows: Option<Follows>,
    /// What is wrong with its file, or its places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

impl JobState {
    /// A job of which nothing but this is known.
    pub fn new(job: &str, state: JobWord) -> JobState {
        JobState {
            job: job.to_owned(),
            state,
            cause: None,
            since: None,
            waits: None,
            next: None,
            line: None,
            follows: None,
            message: None,
        }
    }
}

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum JobWord {
    /// A run goes on.
    Running,
    /// A run is wanted, and waits.
    Waiting,
    /// Nothing begins by itself for now.
    Paused,
    /// Nothing ever begins by itself.
    AskedOnly,
    /// It runs when it is due.
    Idle,
    /// Its file cannot be read.
    Broken,
}

/// What a run that is wanted waits for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "for", rename_all = "kebab-case")]
pub enum WaitsFor {
    /// A run at one of its places.
    Place {
        /// The job of that run.
        behind: String,
    },
    /// Its turn: as many runs go on as may.
    Turn,
    /// The mains.
    Power,
    /// A yes.
    Answer,
    /// Its places, which do not answer.
    Silence,
    /// The moment at which it is tried again.
    Retry {
        /// That moment, in local time.
        until: String,
    },
}

/// How the sides of a job are followed whose changes make a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Follows {
    /// So many are watched.
    pub watched: usize,
    /// Of so many.
    pub sides: usize,
    /// With so many folders.
    pub folders: usize,
}

/// A moment in local time with its offset, as it is told.
pub fn local_time(at: Timestamp, zone: TimeZone) -> String {
    at.to_zoned(zone).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

impl WaitsFor {
    /// What a run waits for, with times in this zone.
    pub fn of(waiting: &Waiting, zone: TimeZone) -> WaitsFor {
        match waiting {
            Waiting::For(behind) => WaitsFor::Place { behind: behind.clone() },
            Waiting::Turn => WaitsFor::Turn,
            Waiting::Power => WaitsFor::Power,
            Waiting::Answer => WaitsFor::Answer,
            Waiting::Silence => WaitsFor::Silence,
            Waiting::Retry(at) => WaitsFor::Retry { until: local_time(*at, zone) },
        }
    }
}

impl Told {
    /// Something that happened now, as it is told. What counts a million times in a run is not.
    pub fn of(happening: &Happening<'_>, now: Timestamp, zone: &TimeZone) -> Option<Told> {
        let at = lines::time(now.as_millisecond());
        let owned = |job: &str| job.to_owned();
        Some(match happening {
            Happening::Tending(state) => Told::Tending((*state).clone()),
            Happening::Began { job, reason, line } => {
                Told::Began { job: owned(job), cause: *reason, line: line.map(str::to_owned), at }
            }
            Happening::InRun { job, event: Event::Note(message) } => {
                Told::Note { job: Some(owned(job)), message: (*message).to_owned(), at }
            }
            Happening::InRun { .. } => return None,
            Happening::Ended { job, result } => {
                let mut line = lines::object(finished(job, result));
                line.shift_remove("event");
                line.insert("at".to_owned(), at.into());
                Told::Finished(line)
            }
            Happening::Failed { job, failure } => Told::Failure {
                job: owned(job),
                code: failure.code().to_owned(),
                message: failure.text(),
                exit: None,
                at,
            },
            Happening::Waiting { job, reason, waiting } => {
                let waits = WaitsFor::of(waiting, zone.clone());
                Told::Waiting { job: owned(job), cause: *reason, waits, at }
            }
            Happening::Overdue { job, overdue } => {
                Told::Overdue { job: owned(job), seconds: overdue.seconds, never: overdue.never, at }
            }
            Happening::Finishing { job, finishing } => finally(owned(job), finishing, at),
            Happening::Note(message) => Told::Note { job: None, message: (*message).to_owned(), at },
            Happening::Ending => Told::Ending,
        })
    }

    /// What was said in a run of a job.
    pub fn said(job: &str, said: &Said<'_>, now: Timestamp) -> Option<Told> {
        let at = lines::time(now.as_millisecond());
        match said {
            Said::Problem(problem) => {
                let mut bytes = Vec::new();
                lines::problem(&mut bytes, problem);
                let mut line: Map<String, Value> = serde_json::from_slice(&bytes).ok()?;
                line.shift_remove("event");
                line.insert("job".to_owned(), job.into());
                line.insert("at".to_owned(), at.into());
                Some(Told::Problem(line))
            }
            Said::Note(text) => {
                Some(Told::Note { job: Some(job.to_owned()), message: (*text).to_owned(), at })
            }
        }
    }
}

fn finally(job: String, finishing: &Finishing<'_>, at: String) -> Told {
    let (state, what, message, seconds) = match finishing {
        Finishing::Waits { what, behind } => {
            (FinallyWord::Waits, Some(*what), Some((*behind).to_owned()), None)
        }
        Finishing::CountsDown { what, left } => {
            (FinallyWord::CountsDown, Some(*what), None, Some(left.as_secs()))
        }
        Finishing::LeftOn => (FinallyWord::LeftOn, None, None, None),
    };
    Told::Finally { job, state, what, message, seconds, at }
}

/// Why something is not done.
pub fn refusal(message: impl Into<String>) -> Told {
    Told::Refused { message: message.into() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_told_is_read_back_and_later_words_are_no_error() {
        let job = JobState {
            job: "counts".to_owned(),
            state: JobWord::Waiting,
            cause: Some(Reason::Change),
            since: None,
            waits: Some(WaitsFor::Place { behind: "maps".to_owned() }),
            next: None,
            line: None,
            follows: Some(Follows { watched: 1, sides: 2, folders: 7 }),
            message: None,
        };
        let idle = JobState { waits: None, follows: None, state: JobWord::AskedOnly, ..job.clone() };
        let stands = Told::Stands { service: ServiceState::default(), jobs: vec![job.clone(), idle] };
        let mut line = Map::new();
        line.insert("job".to_owned(), "counts".into());
        line.insert("added".to_owned(), 3.into());
        for told in [stands, Told::Tended(job), Told::Finished(line), Told::Ending, refusal("no")] {
            let text = serde_json::to_string(&Versioned { v: Some(VERSION), said: told.clone() }).unwrap();
            let back: Versioned<Told> = serde_json::from_str(&text).unwrap();
            assert_eq!(back, Versioned { v: Some(VERSION), said: told }, "{text}");
        }
        let later: Versioned<Told> = serde_json::from_str(r#"{"event":"sings","song":"reed"}"#).unwrap();
        assert_eq!(later.said, Told::Unknown);
    }

    #[test]
    fn fuzzed_requests() {
        let seeds: [&[u8]; 3] = [
            br#"{"v":1,"do":"run","job":"counts"}"#,
            br#"{"do":"answer","job":"c","yes":true}"#,
            br#"{"do":"status"}"#,
        ];
        reedhook_testing::fuzz("requests", &seeds, |bytes| {
            drop(serde_json::from_slice::<Versioned<Request>>(bytes));
            drop(serde_json::from_slice::<Versioned<Told>>(bytes));
        });
    }
}
