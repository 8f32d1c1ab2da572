//! How far a worker is, told so that watching costs nothing noticeable.

use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use crate::path::RelPath;
use crate::run::engine::Engine;
use crate::run::event::Event;
use crate::store::Flow;

/// How far one attempt at a file is: what it moves is told apart from what it finds already there.
pub(super) struct Headway<'r, 'a> {
    pub(super) reporter: &'r mut Reporter<'a>,
    /// How much of the file is there, moved or found.
    pub(super) reached: u64,
}

impl Headway<'_, '_> {
    pub(super) fn moved(&mut self, bytes: u64) -> Flow {
        self.reached += bytes;
        self.reporter.moved(bytes);
        self.flow()
    }

    pub(super) fn adopted(&mut self, bytes: u64) -> Flow {
        self.reached += bytes;
        self.reporter.adopted(bytes);
        self.flow()
    }

    pub(super) fn flow(&self) -> Flow {
        if self.reporter.engine.input.stop.load(Ordering::Relaxed) { Flow::Stop } else { Flow::Go }
    }
}

/// What a worker tells about its progress. Small files are many: the reader hears of them in sum, and of the one in hand
/// only now and then, so that watching costs nothing noticeable.
pub(super) struct Reporter<'a> {
    pub(super) engine: &'a Engine<'a>,
    pub(super) worker: usize,
    pub(super) untold: u64,
    pub(super) last: Instant,
}

impl<'a> Reporter<'a> {
    pub(super) const EVERY: Duration = Duration::from_millis(50);
    pub(super) const LARGE: u64 = 4 << 20;

    pub(super) fn new(engine: &'a Engine<'a>, worker: usize) -> Reporter<'a> {
        Reporter { engine, worker, untold: 0, last: Instant::now() }
    }

    pub(super) fn starts(&mut self, path: &RelPath, size: u64) {
        if size >= Self::LARGE || self.last.elapsed() >= Self::EVERY {
            self.flush();
            self.engine.send(Event::Started { worker: self.worker, path: path.clone(), size });
        }
    }

    pub(super) fn moved(&mut self, bytes: u64) {
        self.untold += bytes;
        if bytes >= Self::LARGE || self.last.elapsed() >= Self::EVERY {
            self.flush();
        }
    }

    pub(super) fn adopted(&mut self, bytes: u64) {
        self.engine.send(Event::Adopted { worker: self.worker, bytes });
    }

    pub(super) fn flush(&mut self) {
        self.last = Instant::now();
        if self.untold > 0 {
            self.engine.send(Event::Bytes { worker: self.worker, bytes: std::mem::take(&mut self.untold) });
        }
    }
}
