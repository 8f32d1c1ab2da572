//! What the board shows, and what comes to it.

use std::collections::BTreeMap;
use std::time::Duration;

use crossbeam_channel::Sender;
use ratatui::crossterm::event::KeyCode;
use reedhook_jobs::tally::Tally;
use reedhook_record::RunRow;
use reedhook_report::figures::JobPart;
use reedhook_tend::protocol::Told;

/// Whose a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// The service's.
    Service,
    /// This board's.
    Ours,
    /// Another program's: it can be watched, not stopped.
    Other,
}

/// A run that goes on.
#[derive(Debug, Clone, PartialEq)]
pub struct Live {
    pub whose: Whose,
    pub elapsed: Duration,
    /// How many entries its look has seen, while it looks.
    pub looking: Option<u64>,
    pub tally: Tally,
}

/// A drive that is connected, or one that is known and away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drive {
    pub name: String,
    /// Where it is mounted; `None` when it is away.
    pub mount: Option<String>,
    pub kind: String,
    /// Free bytes, and all.
    pub space: Option<(u64, u64)>,
    /// The stores that are on it.
    pub stores: String,
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    pub at_ms: i64,
    pub job: String,
    pub words: String,
    pub is_bad: bool,
}

/// What comes to the board.
pub enum BoardNews {
    /// How all jobs stand, and which drives there are.
    Looked(Vec<JobPart>, Vec<Drive>),
    /// Runs of other programs that go on.
    Others(BTreeMap<String, Live>),
    /// A line of the service.
    Service(Box<Told>),
    /// The service is not there any more.
    ServiceGone,
    /// Something happened.
    Said(Said),
    /// A run of this board is over: its job and its name.
    OwnEnded(String, String),
    /// The runs of a job, newest first.
    Runs(String, Vec<RunRow>),
    /// A text to be read.
    Text(String, Vec<String>),
    /// A run of this board asks.
    Asks(String, Vec<String>, Sender<bool>),
    /// Something that a key asked for came to nothing.
    Failed(String),
}

/// What a key asks for.
pub enum Wish {
    /// The board is to be closed.
    End,
    /// Everything is to be looked at anew.
    Look,
    /// To be paused, or not any more.
    Pause(String),
    /// To be run: by the service, or by this board.
    Run(String, bool),
    Halt(String, Whose),
    Answer(String, bool),
    Preview(String),
    Runs(String),
    Items(Box<RunRow>),
    /// An answer to a question of a run of this board.
    Consent(Sender<bool>, bool),
}

/// A key, whatever terminal it came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Key {
    Up,
    Down,
    PageUp,
    PageDown,
    Top,
    Bottom,
    Open,
    Back,
    Letter(char),
    Other,
}

impl Key {
    pub fn of(code: KeyCode) -> Key {
        match code {
            KeyCode::Up | KeyCode::Char('k') => Key::Up,
            KeyCode::Down | KeyCode::Char('j') => Key::Down,
            KeyCode::PageUp => Key::PageUp,
            KeyCode::PageDown => Key::PageDown,
            KeyCode::Home | KeyCode::Char('g') => Key::Top,
            KeyCode::End | KeyCode::Char('G') => Key::Bottom,
            KeyCode::Enter | KeyCode::Right => Key::Open,
            KeyCode::Esc | KeyCode::Left => Key::Back,
            KeyCode::Char(letter) => Key::Letter(letter),
            _ => Key::Other,
        }
    }
}

/// A list that is moved through.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Place {
    /// The row that is marked, or the first that is shown.
    pub at: usize,
    /// Rows that fit, as it was drawn last.
    pub height: usize,
}

impl Place {
    pub(super) fn press(&mut self, key: Key, rows: usize) {
        let (last, page) = (rows.saturating_sub(1), self.height.saturating_sub(1).max(1));
        self.at = match key {
            Key::Up => self.at.saturating_sub(1),
            Key::Down => self.at + 1,
            Key::PageUp => self.at.saturating_sub(page),
            Key::PageDown => self.at + page,
            Key::Top => 0,
            Key::Bottom => last,
            _ => self.at,
        }
        .min(last);
    }

    /// The first row that is shown so that the marked one is in sight.
    pub fn first(&self, rows: usize) -> usize {
        let height = self.height.max(1);
        self.at.saturating_sub(height / 2).min(rows.saturating_sub(height))
    }
}

/// What lies over the jobs.
pub enum Page {
    /// The runs of a job.
    Runs { job: String, rows: Vec<RunRow>, place: Place },
    /// A text.
    Text { title: String, lines: Vec<String>, place: Place },
    /// Something is being fetched.
    Waiting(String),
}

/// A question, and what a yes does.
pub struct Question {
    pub title: String,
    pub lines: Vec<String>,
    /// When it came, by itself: keys typed just then were meant for something else.
    pub(super) came_ms: Option<i64>,
    pub(super) then: Then,
}

/// So long after a question has come by itself a key is no answer to it.
pub(super) const NOT_MEANT_MS: i64 = 700;

pub(super) enum Then {
    Wish(Wish),
    Consent(Sender<bool>),
    End,
}
