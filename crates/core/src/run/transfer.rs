//! Moving content: several workers stage files, and whoever fills a batch syncs and publishes it.
//!
//! Publishing waits for the sync, so that no name ever points at content which a power failure could still take away;
//! sharing one sync among thousands of small files makes that cheap. A store without a common sync publishes at once.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::resume::Journey;
use super::verify::Hashing;
use crate::content::{self, Ahead};
use crate::entry::{EntryKind, Meta, Side, Stamp};
use crate::job::{Replaced, Verify};
use crate::limit::Throttled;
use crate::path::RelPath;
use crate::plan::{Role, Step};
use crate::problem::{Code, Problem};
use crate::run::batch::{Batch, Pending, Staged};
use crate::run::engine::{Engine, Halt, PlannedItem};
use crate::run::event::{Done, Event, Gone, Item, Mark};
use crate::run::headway::{Headway, Reporter};
use crate::run::trip::{Carried, Filled, Trip, fill};
use crate::store::error::{CopyError, FaultKind, StoreError};
use crate::store::{Attributes, Content, Expect, Publish, Stage, is_still};

/// A batch is published when it has this many files or bytes. More would save syncs but lose more work to a crash.
const BATCH_FILES: usize = 4096;

const BATCH_BYTES: u64 = 512 << 20;

/// A worker takes this many items, or bytes, of one folder at a time.
const CHUNK_ITEMS: usize = 256;

const CHUNK_BYTES: u64 = 64 << 20;

/// Files smaller than this are looked at once, after reading.
const LOOKED_AT_ONCE: u64 = 64 << 10;

/// When what is copied is hashed too, files from this size on are read by a thread of their own.
const READ_AHEAD_FROM: u64 = 4 << 20;

/// How often a file that changes while it is read is tried.
const ATTEMPTS: usize = 3;

/// Transfers all items; returns when they are published or reported.
fn transfer(engine: &Engine<'_>, items: &[PlannedItem<'_>]) -> Result<(), Halt> {
    if items.is_empty() {
        return Ok(());
    }
    let workers = engine.worker_count();
    let chunks = chunks(items, pieces(engine, items.len(), workers));
    let workers = workers.min(chunks.len());
    let job = Transfer {
        engine,
        chunks,
        next: AtomicUsize::new(0),
        batch: Mutex::default(),
        halt: Mutex::default(),
    };
    std::thread::scope(|scope| {
        for number in 0..workers {
            let job = &job;
            scope.spawn(move || job.work(number));
        }
    });
    // What is staged is complete work: it is published even when the run is being stopped.
    job.publish_rest();
    match job.halt.into_inner().unwrap_or_else(PoisonError::into_inner) {
        Some(halt) => Err(halt),
        None => Ok(()),
    }
}

/// How many items of a folder a worker takes at a time. Where every call waits for the network, pieces are small enough to
/// keep all workers busy to the end.
fn pieces(engine: &Engine<'_>, items: usize, workers: usize) -> usize {
    if engine.is_remote() { (items / (workers * 4)).clamp(1, CHUNK_ITEMS) } else { CHUNK_ITEMS }
}

/// Cuts the items into pieces of one folder each, so that a worker stays where its store is warm.
fn chunks<'a, 'p>(items: &'a [PlannedItem<'p>], most: usize) -> Vec<&'a [PlannedItem<'p>]> {
    let mut chunks = Vec::new();
    let mut start = 0;
    let mut bytes = 0;
    for (at, item) in items.iter().enumerate() {
        let same_folder = std::ptr::eq(items[start].folder, item.folder);
        if at > start && (!same_folder || at - start >= most || bytes >= CHUNK_BYTES) {
            chunks.push(&items[start..at]);
            (start, bytes) = (at, 0);
        }
        bytes += super::step_size(&item.action.step);
    }
    chunks.push(&items[start..]);
    chunks
}

/// What stands at its path once a step has brought so many bytes there; a second name brings none, and is as large as the first.
fn stands(step: &Step, size: u64) -> Option<(EntryKind, u64)> {
    match step {
        Step::Add { from } | Step::Update { from, .. } => Some((from.kind, size)),
        Step::SecondName { from, .. } => Some((from.kind, from.size)),
        _ => None,
    }
}

struct Transfer<'a, 'p> {
    engine: &'a Engine<'p>,
    chunks: Vec<&'a [PlannedItem<'p>]>,
    next: AtomicUsize,
    batch: Mutex<Batch>,
    halt: Mutex<Option<Halt>>,
}

impl Transfer<'_, '_> {
    fn work(&self, worker: usize) {
        let mut reporter = Reporter::new(self.engine, worker);
        while let Some(chunk) = self.chunks.get(self.next.fetch_add(1, Ordering::Relaxed)) {
            for item in *chunk {
                if self.is_halted() {
                    return;
                }
                if let Err(halt) = self.engine.go_on().and_then(|()| self.one(&mut reporter, item)) {
                    self.set_halt(halt);
                    return;
                }
            }
        }
        reporter.flush();
        self.engine.send(Event::Idle { worker });
    }

    fn is_halted(&self) -> bool {
        self.halt.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    fn set_halt(&self, halt: Halt) {
        let mut current = self.halt.lock().unwrap_or_else(PoisonError::into_inner);
        *current = current.take().or(Some(halt));
    }

    fn one(&self, reporter: &mut Reporter<'_>, item: &PlannedItem<'_>) -> Result<(), Halt> {
        let path = item.path();
        match &item.action.step {
            Step::Add { from } => self.bring(reporter, item, from, None),
            Step::Update { from, was } => self.bring(reporter, item, from, Some(was)),
            Step::Metadata { from, was } => self.set_metadata(&path, from, was),
            Step::SecondName { from, of, was } => {
                let sealed = self.engine.input.right.stage_second_name(&path, of).map_err(CopyError::Write);
                let staged = sealed.map(|sealed| Staged {
                    sealed,
                    size: 0,
                    written: 0,
                    now: Mark::of(from),
                    apart: None,
                    hash: None,
                });
                self.take_over(item, &path, was.as_deref(), staged)
            }
            Step::Move { .. }
            | Step::MoveFolder { .. }
            | Step::Respell { .. }
            | Step::Remove { .. }
            | Step::Leave { .. } => Ok(()),
        }
    }

    fn set_metadata(&self, path: &RelPath, from: &Meta, was: &Meta) -> Result<(), Halt> {
        let change = self.engine.change(from, was);
        match self.engine.input.right.set_attributes(path, was, &change) {
            Ok(()) => {
                let item = Item::new(Done::Metadata, path.clone(), from.size);
                let now = Mark { modified: change.modified.or(was.modified), mode: change.mode.or(was.mode) };
                let (stands, was_mark) = (Some((was.kind, from.size)), Mark::of(was));
                let rights = change.extra.as_ref().and_then(|_| self.engine.rights_before(was));
                self.engine.done(Item { stands, now, was: was_mark, rights, ..item }, 0);
            }
            Err(error) => self.engine.failed(Side::Right, error, path)?,
        }
        Ok(())
    }

    fn bring(
        &self,
        reporter: &mut Reporter<'_>,
        item: &PlannedItem<'_>,
        from: &Meta,
        was: Option<&Meta>,
    ) -> Result<(), Halt> {
        let path = &item.path();
        let staged = match from.kind {
            EntryKind::Link => self.stage_link(path, from),
            EntryKind::Special(_) => self.stage_special(path, from),
            _ => self.stage_file(reporter, path, from, (was, item.action.instead_of.as_deref())),
        };
        self.take_over(item, path, was, staged)
    }

    /// Puts a staged file into the batch, or reports why there is none.
    fn take_over(
        &self,
        item: &PlannedItem<'_>,
        path: &RelPath,
        was: Option<&Meta>,
        staged: Result<Staged, CopyError>,
    ) -> Result<(), Halt> {
        match staged {
            Ok(Staged { sealed, size, written, now, apart, hash }) => {
                let lost = item.action.role == Role::Loser;
                let pending = Pending {
                    sealed,
                    size,
                    written,
                    now,
                    apart,
                    hash,
                    done: Done::of(item.action),
                    stands: stands(&item.action.step, size),
                    expect: was.map_or(Expect::Absent, |was| Expect::This(was.clone())),
                    keep: was.is_some() && (lost || self.engine.input.replaced == Replaced::Keep),
                };
                self.enqueue(pending);
                Ok(())
            }
            Err(CopyError::Stopped) => Err(Halt::Stopped),
            Err(CopyError::Read(error)) => self.engine.failed(Side::Left, error, path),
            Err(CopyError::Write(error)) => self.engine.failed(Side::Right, error, path),
        }
    }

    fn stage_link(&self, path: &RelPath, from: &Meta) -> Result<Staged, CopyError> {
        let target = from.target.as_deref().unwrap_or_default();
        let sealed = self.engine.input.right.stage_link(path, target, &self.engine.attributes(from));
        sealed
            .map(|sealed| Staged {
                sealed,
                size: 0,
                written: 0,
                now: Mark::of(from),
                apart: None,
                hash: None,
            })
            .map_err(CopyError::Write)
    }

    fn stage_special(&self, path: &RelPath, from: &Meta) -> Result<Staged, CopyError> {
        let sealed = self.engine.input.right.stage_special(path, from, &self.engine.attributes(from));
        let staged =
            |sealed| Staged { sealed, size: 0, written: 0, now: Mark::of(from), apart: None, hash: None };
        sealed.map(staged).map_err(CopyError::Write)
    }

    /// Copies a file to a staged one. A source that changes under the reader is tried again: the half-read never lands.
    fn stage_file(
        &self,
        reporter: &mut Reporter<'_>,
        path: &RelPath,
        from: &Meta,
        before: (Option<&Meta>, Option<&Meta>),
    ) -> Result<Staged, CopyError> {
        reporter.starts(path, from.size);
        for attempt in 0..ATTEMPTS {
            match self.try_stage_file(reporter, path, (from, before), attempt == 0) {
                Ok(Some(staged)) => return Ok(staged),
                Ok(None) => {}
                // The stores have waited for the connection already; what it took along has to be brought again.
                Err(CopyError::Read(error) | CopyError::Write(error))
                    if error.kind == FaultKind::Interrupted && attempt + 1 < ATTEMPTS => {}
                Err(error) => return Err(error),
            }
        }
        Err(CopyError::Read(StoreError::new(FaultKind::Changed, "read", path)))
    }

    /// The same content, within the job's bandwidth limit.
    fn slowed(&self, content: Box<dyn Content>, free: &Arc<AtomicBool>) -> Box<dyn Content> {
        match &self.engine.input.limit {
            Some(throttle) => Box::new(Throttled { content, throttle: throttle.clone(), free: free.clone() }),
            None => content,
        }
    }

    /// Opens a source and tells what it is. A small file is first taken to be what the plan saw: the look at it after
    /// reading shows whether that holds, and another attempt looks before and after.
    fn open_source(
        &self,
        path: &RelPath,
        planned: &Meta,
        first: bool,
        free: &Arc<AtomicBool>,
    ) -> Result<(Box<dyn Content>, Meta), CopyError> {
        let left = self.engine.input.left;
        if first && planned.size < LOOKED_AT_ONCE {
            let content = left.open_planned(path).map_err(CopyError::Read)?;
            return Ok((self.slowed(content, free), planned.clone()));
        }
        let mut content = left.open(path, 0).map_err(CopyError::Read)?;
        let before = content.meta().map_err(CopyError::Read)?;
        Ok((self.slowed(content, free), before))
    }

    /// One attempt; `None` when the source changed meanwhile.
    fn try_stage_file(
        &self,
        reporter: &mut Reporter<'_>,
        path: &RelPath,
        (planned, (was, stood)): (&Meta, (Option<&Meta>, Option<&Meta>)),
        first: bool,
    ) -> Result<Option<Staged>, CopyError> {
        let engine = self.engine;
        // What an earlier run left is compared before anything is moved: for that nobody has to wait.
        let free = Arc::new(AtomicBool::new(true));
        let (content, before) = self.open_source(path, planned, first, &free)?;
        let resumable = engine.input.resume && before.size >= super::RESUME_FROM;
        free.store(resumable, Ordering::Relaxed);
        let right = engine.input.right;
        let own_mode = was.and_then(|was| engine.own_mode(was));
        // What stands there, and what others may remember of it.
        let apart =
            |meta: &Meta| [was, stood].into_iter().flatten().find_map(|was| engine.time_apart(meta, was));
        let wanted = |meta: &Meta| {
            let all = engine.attributes(meta);
            Attributes { mode: all.mode.or(own_mode), modified: apart(meta).or(all.modified), ..all }
        };
        let key = super::resume_key(path, &before);
        let trip = Trip { path, before: &before, key: &key, free: &free, resumable };
        let mut stage = trip.begin(right, &wanted(&before)).map_err(CopyError::Write)?;
        let mut headway = Headway { reporter, reached: 0 };
        let brought = self.carry_content(&trip, stage.as_mut(), content, &mut headway);
        let (Filled { adopted, written }, mut content, hash) = match brought {
            Ok(brought) => brought,
            Err(error) => return self.give_up(&trip, stage, error, headway.reached),
        };
        let after = content.meta().map_err(CopyError::Read)?;
        if !is_still(&before, &after)
            || adopted + written != after.size
            || !engine.is_owned_as_planned(planned, &after)
        {
            return Ok(None);
        }
        let after = engine.with_planned_rights(planned, after);
        let attributes = wanted(&after);
        let sealed = stage.seal(&attributes).map_err(CopyError::Write)?;
        let read = Mark { mode: engine.by.mode_to_give(&after), ..Mark::of(&after) };
        let given = apart(&after);
        let now = Mark { modified: given.or(read.modified), ..read };
        let (size, apart) = (after.size, given.map(|_| Box::new(after)));
        Ok(Some(Staged { sealed, size, written, now, apart, hash }))
    }

    /// Brings a file's content over in the way that suits it. Also returns the content, for a last look at what was read, and its hash
    /// where one was made on the way.
    fn carry_content(
        &self,
        trip: &Trip<'_>,
        stage: &mut dyn Stage,
        mut content: Box<dyn Content>,
        headway: &mut Headway<'_, '_>,
    ) -> Result<Carried, CopyError> {
        let input = &self.engine.input;
        let Trip { path, before, key, free, resumable } = *trip;
        let (size, unseen) = (before.size, (resumable, free.as_ref()));
        let unhashed = input.verify == Verify::None && !(input.remembered && size < READ_AHEAD_FROM);
        if resumable && self.engine.is_remote() {
            let open = |offset| input.left.open(path, offset).map(|content| self.slowed(content, free));
            let journey = Journey { engine: self.engine, path, from: before, key, open: &open, free };
            let arrived = journey.travel(stage, headway)?;
            let written = arrived.length - arrived.adopted;
            Ok((Filled { adopted: arrived.adopted, written }, arrived.content, Some(arrived.hash)))
        } else if unhashed {
            let filled = fill(stage, content.as_mut(), size, unseen, headway)?;
            Ok((filled, content, None))
        } else if size >= READ_AHEAD_FROM {
            let mut ahead = Ahead::start(content, true);
            let filled = fill(stage, &mut ahead, size, unseen, headway);
            let lost = || CopyError::Read(StoreError::new(FaultKind::Io, "read", path));
            let (content, hash) = ahead.finish().ok_or_else(lost)?;
            Ok((filled?, content, Some(hash)))
        } else {
            let mut hashing = Hashing::new(content.as_mut());
            let filled = fill(stage, &mut hashing, size, unseen, headway)?;
            let hash = hashing.finish();
            Ok((filled, content, Some(hash)))
        }
    }

    /// Leaves a file that did not arrive, with what of it the next attempt, or the next run, can go on with. `None` is worth another
    /// attempt.
    fn give_up(
        &self,
        trip: &Trip<'_>,
        stage: Box<dyn Stage>,
        error: CopyError,
        reached: u64,
    ) -> Result<Option<Staged>, CopyError> {
        match error {
            CopyError::Stopped => {
                if self.engine.input.resume {
                    stage.set_aside();
                }
                if trip.resumable {
                    self.engine.state().unfinished += reached;
                }
                Err(CopyError::Stopped)
            }
            error if trip.resumable && error.is_of_the_connection() => {
                stage.set_aside();
                Err(error)
            }
            // What was left of an earlier run is not the beginning of this file; the next attempt begins anew.
            CopyError::Read(error) if error.kind == FaultKind::Changed => Ok(None),
            other => Err(other),
        }
    }

    fn enqueue(&self, pending: Pending) {
        let full = {
            let mut batch = self.batch.lock().unwrap_or_else(PoisonError::into_inner);
            batch.bytes += pending.size;
            batch.pending.push(pending);
            let batched = self.engine.input.right.capabilities().batch_sync;
            let full = !batched || batch.pending.len() >= BATCH_FILES || batch.bytes >= BATCH_BYTES;
            if full { Some(std::mem::take(&mut *batch)) } else { None }
        };
        if let Some(batch) = full {
            self.publish_all(batch.pending);
        }
    }

    fn publish_rest(&self) {
        let batch = std::mem::take(&mut *self.batch.lock().unwrap_or_else(PoisonError::into_inner));
        self.publish_all(batch.pending);
    }

    fn publish_all(&self, pending: Vec<Pending>) {
        if pending.is_empty() {
            return;
        }
        if let Err(error) = self.engine.input.right.sync() {
            let kind = error.kind;
            for item in pending {
                let path = item.sealed.target.clone();
                self.engine.input.right.discard(item.sealed);
                self.report(StoreError::new(kind, "make durable", &path), &path);
            }
            return;
        }
        for item in pending {
            match self.read_back(&item) {
                Ok(Some(true)) => drop(self.publish(item)),
                Ok(Some(false)) => self.arrived_wrong(item),
                // The run is being stopped: what could not be read back is brought again by the next one.
                Ok(None) => self.engine.input.right.discard(item.sealed),
                Err(error) if error.kind == FaultKind::Unsupported => self.publish_then_read(item),
                Err(error) => {
                    let path = item.sealed.target.clone();
                    self.engine.input.right.discard(item.sealed);
                    self.report(error, &path);
                }
            }
        }
    }

    /// Whether the medium holds what was written, or nobody asked; `None` when the run was stopped meanwhile.
    fn read_back(&self, item: &Pending) -> Result<Option<bool>, StoreError> {
        let Some(expected) = item.hash.filter(|_| self.engine.input.verify != Verify::None) else {
            return Ok(Some(true));
        };
        let input = self.engine.input;
        let found = content::hash(input.right, &item.sealed.temporary, input.stop)?;
        Ok(found.map(|found| found == expected))
    }

    fn arrived_wrong(&self, item: Pending) {
        let path = item.sealed.target.clone();
        self.engine.input.right.discard(item.sealed);
        let message = "what was read back is not what was written; what stood there before is untouched";
        self.engine.problem(Problem::new(Code::VerifyFailed, Side::Right, path, message));
    }

    /// For a store in which nothing can be read before it has its place. What was there before is among the kept copies.
    fn publish_then_read(&self, item: Pending) {
        let (path, expected) = (item.sealed.target.clone(), item.hash);
        if !self.publish(item) {
            return;
        }
        match content::hash(self.engine.input.right, &path, self.engine.input.stop) {
            Ok(None) => {}
            Ok(found) if found == expected => {}
            Ok(_) => {
                let message = "what was read back is not what was written; what stood there before is among the kept copies";
                self.engine.problem(Problem::new(Code::VerifyFailed, Side::Right, path, message));
            }
            Err(error) => self.report(error, &path),
        }
    }

    /// Gives a file its place; `false` when that failed, and was reported.
    fn publish(&self, item: Pending) -> bool {
        let path = item.sealed.target.clone();
        let right = self.engine.input.right;
        let keep_as = if item.keep { self.engine.kept_path(&path).map(Some) } else { Ok(None) };
        let published = match keep_as {
            Ok(keep_as) => right.publish(item.sealed, &Publish { expect: item.expect.clone(), keep_as }),
            Err(error) => {
                right.discard(item.sealed);
                Err(error)
            }
        };
        match published {
            Ok(privileges) => {
                let was = match &item.expect {
                    Expect::This(was) => Mark::of(was),
                    Expect::Absent => Mark::default(),
                };
                let gone = match item.expect {
                    Expect::This(_) if !item.keep => Gone::Erased,
                    _ => Gone::Kept,
                };
                let (now, hash) = (item.now, item.hash);
                let read = item.apart.and_then(|source| self.bring_into_step(&path, &source, now));
                let done = Item {
                    stands: item.stands,
                    now,
                    was,
                    read,
                    hash,
                    gone,
                    privileges,
                    ..Item::new(item.done, path, item.size)
                };
                self.engine.done(done, item.written);
                true
            }
            Err(error) => {
                self.report(error, &path);
                false
            }
        }
    }

    /// Gives a source the time of the version that was made of it, where that is another; its own, where it keeps that.
    fn bring_into_step(&self, path: &RelPath, source: &Meta, now: Mark) -> Option<Stamp> {
        let given = Attributes { modified: now.modified, ..Attributes::default() };
        match self.engine.input.left.set_attributes(path, source, &given) {
            Ok(()) => None,
            // Edited meanwhile, or it takes no times: what is remembered of each side is its own.
            Err(_) => source.modified,
        }
    }

    fn report(&self, error: StoreError, path: &RelPath) {
        if let Err(halt) = self.engine.failed(Side::Right, error, path) {
            self.set_halt(halt);
        }
    }
}

impl Engine<'_> {
    /// Brings files and links over.
    pub(super) fn transfer(&self, items: &[PlannedItem<'_>]) -> Result<(), Halt> {
        transfer(self, items)
    }
}
