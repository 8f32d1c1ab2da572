//! A run's log while it is written: what it sets out to change, what it does, how it ends. A run that does nothing has none.
//!
//! A log that cannot be written stops no work; from then on it lacks something, and says so at the end.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use reedhook_core::run::Event;
use reedhook_record::RunPlace;

use crate::failure::Outcome;
use crate::home::{closed, make_folder};
use crate::lines::{self, Began};

pub(super) struct RunLog {
    path: PathBuf,
    began: Began,
    file: Option<BufWriter<File>>,
    /// What is to stand in it when it is opened.
    places: Vec<RunPlace>,
    /// The line in hand: one buffer for all of them.
    line: Vec<u8>,
    flushed: Instant,
    /// Why it lacks something.
    lost: Option<String>,
    /// Something has been written to it.
    written: bool,
}

impl RunLog {
    pub(super) fn new(path: PathBuf, began: Began) -> RunLog {
        RunLog {
            path,
            began,
            file: None,
            places: Vec::new(),
            line: Vec::new(),
            flushed: Instant::now(),
            lost: None,
            written: false,
        }
    }

    /// Opens the file, unless it is open.
    pub(super) fn open(&mut self) -> Outcome<()> {
        if self.file.is_some() || self.lost.is_some() {
            return Ok(());
        }
        if let Some(folder) = self.path.parent() {
            make_folder(folder)?;
        }
        match closed().write(true).create(true).truncate(true).open(&self.path) {
            Ok(file) => (self.file, self.written) = (Some(BufWriter::new(file)), true),
            Err(error) => self.lose(&error),
        }
        self.line.clear();
        lines::began(&mut self.line, &self.began);
        self.write();
        for place in std::mem::take(&mut self.places) {
            self.add_place(place);
        }
        Ok(())
    }

    /// A store that the run is about to change.
    pub(super) fn add_place(&mut self, place: RunPlace) {
        if self.file.is_none() {
            self.places.push(place);
            return;
        }
        self.line.clear();
        lines::place(&mut self.line, &place);
        self.write();
    }

    /// What is about to be done at one destination.
    pub(super) fn plan(&mut self, files: u64, bytes: u64, unkept: u64) {
        self.line.clear();
        lines::planned(&mut self.line, files, bytes, unkept);
        self.write();
        // Before the first deed: without it, nothing tells what a run that is killed set out to do.
        self.flush();
    }

    /// What the engine did; its line, where readers get it too.
    pub(super) fn add(&mut self, event: &Event, to: Option<&str>) -> Option<&[u8]> {
        self.line.clear();
        let shown = match event {
            Event::Item(item) => {
                lines::item(&mut self.line, item, to);
                true
            }
            Event::Problem(problem) => {
                lines::problem(&mut self.line, problem);
                true
            }
            Event::Folder { side, path, was } => {
                lines::folder(&mut self.line, *side, path, *was, to);
                false
            }
            _ => return None,
        };
        self.write();
        shown.then_some(&self.line)
    }

    /// How the run ended; the file is complete with it.
    pub(super) fn close(&mut self, finished: &serde_json::Value) {
        self.line.clear();
        lines::append(&mut self.line, finished);
        self.write();
        self.flush();
    }

    /// A run that is killed leaves a log that tells nearly all it did.
    pub(super) fn flush_now_and_then(&mut self) {
        const EVERY: Duration = Duration::from_millis(100);
        if self.flushed.elapsed() >= EVERY {
            self.flushed = Instant::now();
            self.flush();
        }
    }

    /// Why it lacks something, when it does.
    pub(super) fn lost(&self) -> Option<&str> {
        self.lost.as_deref()
    }

    /// Whether there is a log.
    pub(super) fn is_written(&self) -> bool {
        self.written
    }

    fn write(&mut self) {
        if let Some(Err(error)) = self.file.as_mut().map(|file| file.write_all(&self.line)) {
            self.lose(&error);
        }
    }

    fn flush(&mut self) {
        if let Some(Err(error)) = self.file.as_mut().map(Write::flush) {
            self.lose(&error);
        }
    }

    fn lose(&mut self, error: &io::Error) {
        self.file = None;
        self.lost.get_or_insert_with(|| error.to_string());
    }
}
