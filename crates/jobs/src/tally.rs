//! How far a run is, as numbers: what the progress view, the review, the board and the service each count from the engine's events.

use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use reedhook_core::plan::Plan;
use reedhook_core::problem::Problem;
use reedhook_core::run::{Done, Event};
use serde::{Deserialize, Serialize};

use crate::desk;

/// A file costs about as much as this many bytes, besides its content: for the estimate of the time left.
const FILE_WEIGHT: u64 = 64 << 10;

/// What one worker has in hand.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct InHand {
    /// The file.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// How many of them have been handed over.
    pub done: u64,
}

/// How far a run is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Files and links that were worked on.
    pub files: u64,
    /// Of so many.
    pub files_total: u64,
    /// Bytes that were moved.
    pub bytes: u64,
    /// Bytes that need not be moved: an earlier run brought them.
    pub adopted: u64,
    /// Bytes there are to be.
    pub bytes_total: u64,
    /// Items that could not be done.
    pub problems: u64,
    /// What each worker has in hand; one that is idle, nothing.
    pub workers: Vec<Option<InHand>>,
}

impl Tally {
    /// Nothing yet of a plan.
    pub fn of(plan: &Plan) -> Tally {
        let counts = &plan.counts();
        let files = counts.added + counts.updated + counts.moved + counts.removed + counts.meta;
        Tally::expecting(files, counts.bytes)
    }

    /// Nothing yet of so many files and bytes.
    pub fn expecting(files_total: u64, bytes_total: u64) -> Tally {
        Tally { files_total, bytes_total, ..Tally::default() }
    }

    /// Takes note of what happened.
    pub fn take(&mut self, event: &Event) {
        match event {
            Event::Started { worker, path, size } => {
                self.set_worker(*worker, Some(InHand { path: path.to_string(), size: *size, done: 0 }));
            }
            Event::Bytes { worker, bytes } => {
                self.bytes += bytes;
                self.advance(*worker, *bytes);
            }
            Event::Adopted { worker, bytes } => {
                self.adopted += bytes;
                self.advance(*worker, *bytes);
            }
            Event::Idle { worker } => self.set_worker(*worker, None),
            Event::Item(item) if changes_a_file(item.done) => self.files += item.items.unwrap_or(1),
            Event::Item(_) | Event::Folder { .. } => {}
            Event::Problem(_) => self.problems += 1,
        }
    }

    fn advance(&mut self, worker: usize, bytes: u64) {
        if let Some(Some(worker)) = self.workers.get_mut(worker) {
            worker.done += bytes;
        }
    }

    fn set_worker(&mut self, number: usize, worker: Option<InHand>) {
        if self.workers.len() <= number {
            self.workers.resize(number + 1, None);
        }
        self.workers[number] = worker;
    }

    /// What is there of all that is to be, moved now or before.
    pub fn reached(&self) -> u64 {
        self.bytes + self.adopted
    }

    /// Done and total work of this run, in bytes and the weight of files.
    fn weight(&self) -> (u64, u64) {
        let total = self.bytes_total.saturating_sub(self.adopted) + self.files_total * FILE_WEIGHT;
        ((self.bytes + self.files * FILE_WEIGHT).min(total), total)
    }

    /// Done and total, as the view shows how far it is: of the bytes, or of the files where those are what takes the time. Either is
    /// one of the two figures that stand beside it.
    pub fn share(&self) -> (u64, u64) {
        let (done, total) = if self.bytes_total >= self.files_total * FILE_WEIGHT {
            (self.reached(), self.bytes_total)
        } else {
            (self.files, self.files_total)
        };
        (done.min(total), total.max(1))
    }

    /// The same in hundredths.
    pub fn percent(&self) -> u64 {
        let (done, total) = self.share();
        // Bytes of a large file system times a hundred fit all the same.
        u64::try_from(u128::from(done) * 100 / u128::from(total)).unwrap_or(100)
    }

    /// How long it will still take, when it goes on as it did.
    pub fn time_left(&self, elapsed: Duration) -> Option<Duration> {
        let (done, total) = self.weight();
        if done == 0 || elapsed < Duration::from_secs(1) {
            return None;
        }
        Some(elapsed.mul_f64((total - done) as f64 / done as f64))
    }

    /// The same with no more than the largest few files in hand: what is sent to others many times.
    pub fn glimpse(&self, files: usize) -> Tally {
        let mut busy: Vec<&InHand> = self.workers.iter().flatten().collect();
        busy.sort_by_key(|worker| std::cmp::Reverse(worker.size));
        let workers = busy.into_iter().take(files).cloned().map(Some).collect();
        Tally { workers, ..Tally { workers: Vec::new(), ..*self } }
    }
}

/// Whether something that was done counts as a file.
pub fn changes_a_file(done: Done) -> bool {
    !matches!(done, Done::Left | Done::FolderMade | Done::FolderRemoved)
}

/// A run that goes on, for those who look on.
#[derive(Debug, Clone)]
pub struct Progress {
    /// When it began.
    pub since: Instant,
    /// How many entries its look has seen, while it looks.
    pub looking: Option<u64>,
    /// How far it is, over all its destinations so far.
    pub tally: Tally,
}

/// Something that is said in a run, besides numbers.
#[derive(Debug, Clone, Copy)]
pub enum Said<'a> {
    /// Something could not be done.
    Problem(&'a Problem),
    /// Worth a word.
    Note(&'a str),
}

impl Progress {
    /// Of a run that begins now.
    pub fn begins() -> Progress {
        Progress { since: Instant::now(), looking: Some(0), tally: Tally::default() }
    }

    /// Takes note of what happens; gives what is to be said of it.
    pub fn take<'a>(&mut self, happening: &desk::Event<'a>) -> Option<Said<'a>> {
        match happening {
            desk::Event::Scanning { progress, .. } => {
                self.looking = Some(progress.entries.load(Ordering::Relaxed));
            }
            desk::Event::Begins(plan) => {
                let planned = Tally::of(plan);
                self.looking = None;
                self.tally.files_total += planned.files_total;
                self.tally.bytes_total += planned.bytes_total;
            }
            desk::Event::Did { event, .. } => {
                self.tally.take(event);
                if let Event::Problem(problem) = event {
                    return Some(Said::Problem(problem));
                }
            }
            desk::Event::Note(text) => return Some(Said::Note(text)),
            desk::Event::Ends => self.tally.workers.clear(),
            desk::Event::Scanned | desk::Event::Tick | desk::Event::Finishing(_) => {}
        }
        None
    }
}
