//! What happens while jobs are worked on, and who hears of it.

use std::time::Duration;

use reedhook_core::plan::Plan;
use reedhook_core::run;
use reedhook_core::walk::ScanProgress;
use reedhook_core::when::Finally;

/// Something that happens while jobs are worked on.
pub enum Event<'a> {
    /// Worth a word, and stops nothing.
    Note(&'a str),
    /// Both sides of a job are being looked at; heard again and again while that lasts.
    Scanning {
        /// The job's name.
        job: &'a str,
        /// How far it is.
        progress: &'a ScanProgress,
    },
    /// The look is over.
    Scanned,
    /// A plan is about to be carried out.
    Begins(&'a Plan),
    /// The engine did something.
    Did {
        /// What.
        event: &'a run::Event,
        /// The same as a line of JSON with its end, where it has a form that readers are to get.
        line: Option<&'a [u8]>,
    },
    /// Time has passed while a plan is carried out.
    Tick,
    /// The plan has been carried out, or that was given up.
    Ends,
    /// All runs are over, and what is to be done at the very end is near.
    Finishing(Finishing<'a>),
}

/// How near it is what is to be done at the very end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finishing<'a> {
    /// Something else still goes on, or is still to come.
    Waits {
        /// What is to be done.
        what: Finally,
        /// What it waits for, in words.
        behind: &'a str,
    },
    /// Somebody may still say no; heard every second.
    CountsDown {
        /// What is to be done.
        what: Finally,
        /// How long it takes yet.
        left: Duration,
    },
    /// Somebody has said no.
    LeftOn,
}

/// Who hears what happens: a progress view, a program that reads lines, a board. What it does has no influence on the work.
pub trait Observer: Send + Sync {
    /// Hears an event.
    fn observe(&self, event: &Event<'_>);
}

/// Hears nothing.
pub struct Nobody;

impl Observer for Nobody {
    fn observe(&self, _event: &Event<'_>) {}
}
