//! Verification: reading back what was written, and comparing the content of what looks the same.

use std::fs::File;
use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::content::{self, FileAt, Hash};
use crate::entry::{Meta, Side, Stamp};
use crate::memory::{Checksum, Corrupted};
use crate::path::RelPath;
use crate::store::error::{Result, StoreError};
use crate::store::{Content, Store};
use crate::walk::given::OnSame;

/// An opened file that is hashed while somebody else reads it.
pub(super) struct Hashing<'a> {
    content: &'a mut dyn Content,
    hasher: blake3::Hasher,
}

impl<'a> Hashing<'a> {
    pub(super) fn new(content: &'a mut dyn Content) -> Hashing<'a> {
        Hashing { content, hasher: blake3::Hasher::new() }
    }

    pub(super) fn finish(self) -> Hash {
        *self.hasher.finalize().as_bytes()
    }
}

impl Read for Hashing<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = self.content.read(buffer)?;
        self.hasher.update(&buffer[..length]);
        Ok(length)
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Content for Hashing<'_> {
    fn meta(&mut self) -> Result<Meta> {
        self.content.meta()
    }

    fn skip_hole(&mut self) -> io::Result<u64> {
        let hole = self.content.skip_hole()?;
        content::hash_hole(&mut self.hasher, hole);
        Ok(hole)
    }

    /// No way around the reader: every byte has to be seen.
    fn as_file(&self) -> Option<&File> {
        None
    }
}

/// Two files that differ though their sizes and times agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SilentDifference {
    /// Relative to the root of its side.
    pub path: RelPath,
    /// The side whose content is no longer what was last read; `None` when nothing is remembered that could tell.
    pub changed: Option<Side>,
    /// Somebody has written there: it did not change by itself.
    pub edited: bool,
    /// The bytes of each.
    pub size: u64,
    /// The modification time, as `SECONDS.NANOSECONDS`.
    pub modified: String,
}

impl SilentDifference {
    /// What to remember until it is mended.
    pub fn to_remember(&self) -> Corrupted {
        let SilentDifference { path, changed, edited, size, modified } = self.clone();
        Corrupted { path, side: changed, edited, size, modified }
    }

    /// What is known about it, in one sentence.
    pub fn sentence(&self) -> String {
        match self.changed {
            Some(side) if self.edited => format!(
                "somebody has changed the content at the {side}, and left its size and time as they were"
            ),
            Some(side) => format!("the content at the {side} changed by itself: its size and time are as they were"),
            None => "the content differs, though sizes and times agree; nothing is remembered that tells which is right"
                .to_owned(),
        }
    }
}

/// What a comparison of content found.
#[derive(Debug, Default)]
pub struct Verified {
    /// Files whose content is the same.
    pub same: u64,
    /// Bytes read, on both sides together.
    pub bytes: u64,
    /// Files that differ.
    pub different: Vec<SilentDifference>,
    /// Files that could not be read.
    pub unread: Vec<(Side, StoreError)>,
    /// Files that were to be compared; more than were, when it was stopped.
    pub asked: u64,
}

impl Verified {
    /// How many files have come to an answer.
    pub fn looked_at(&self) -> u64 {
        self.same + (self.different.len() + self.unread.len()) as u64
    }
}

/// Compares files by content. A scan finds them ([`Comparer::add`] as its `on_same`); reading begins at once, on as many
/// threads as there are cores, so that one large folder keeps all of them busy.
pub struct Comparer<'a> {
    left: &'a dyn Store,
    right: &'a dyn Store,
    memory: Memory<'a>,
    found: Mutex<Verified>,
    asked: AtomicU64,
    /// What is yet to be remembered.
    checksums: Mutex<Vec<(RelPath, Checksum)>>,
}

/// Takes note of what files hold.
pub type Remember<'a> = &'a (dyn Fn(&[Remembered]) + Sync);

/// A file and what it holds.
pub type Remembered = (RelPath, Checksum);

/// What files held when they were last read whole.
#[derive(Clone, Copy)]
pub struct Memory<'a> {
    /// Tells what a file held.
    pub recall: &'a (dyn Fn(&RelPath) -> Option<Checksum> + Sync),
    /// Takes what files that are the same on both sides hold; called now and then, by the readers.
    pub remember: Remember<'a>,
    /// When the reading began.
    pub looked: Stamp,
}

/// A file to be compared: its path and its left and right entry.
type Pair = (RelPath, Meta, Meta);

/// Files are handed to the readers in groups, because waking one costs more than comparing a small file.
const GROUP: usize = 64;

/// How many checksums are remembered at once.
const REMEMBERED_TOGETHER: usize = 8192;

impl<'a> Comparer<'a> {
    /// A comparer of two stores.
    pub fn new(left: &'a dyn Store, right: &'a dyn Store, memory: Memory<'a>) -> Comparer<'a> {
        let (found, asked, checksums) = Default::default();
        Comparer { left, right, memory, found, asked, checksums }
    }

    /// Compares everything that `find` hands over, until `stop` is set; returns what `find` returned, and what was found.
    pub fn run<T>(self, stop: &AtomicBool, find: impl FnOnce(OnSame<'_>) -> T) -> (T, Verified) {
        let cores = std::thread::available_parallelism().map_or(2, usize::from);
        // Who waits for a network is no burden to a core.
        let waiting = |store: &dyn Store| match store.capabilities() {
            can if can.remote => can.workers,
            _ => 0,
        };
        let threads = cores.max(waiting(self.left)).max(waiting(self.right));
        // Enough to keep the readers busy, and no list of the whole tree.
        let (sender, receiver) = crossbeam_channel::bounded::<Vec<Pair>>(64);
        let waiting: Mutex<Vec<Pair>> = Mutex::default();
        let outcome = std::thread::scope(|scope| {
            for _ in 0..threads {
                let (receiver, comparer) = (receiver.clone(), &self);
                scope.spawn(move || {
                    for (path, left, right) in receiver.into_iter().flatten() {
                        comparer.asked.fetch_add(1, Ordering::Relaxed);
                        if !stop.load(Ordering::Relaxed) {
                            comparer.look(&path, &left, &right, stop);
                        }
                    }
                });
            }
            let hand_over = |path: &RelPath, left: &Meta, right: &Meta| {
                let mut union = waiting.lock().unwrap_or_else(PoisonError::into_inner);
                union.push((path.clone(), left.clone(), right.clone()));
                if union.len() >= GROUP {
                    let group = std::mem::take(&mut *union);
                    drop(union);
                    // The readers are there as long as this closure is.
                    let _ = sender.send(group);
                }
            };
            let outcome = find(&hand_over);
            let _ = sender.send(std::mem::take(&mut *waiting.lock().unwrap_or_else(PoisonError::into_inner)));
            drop(sender);
            outcome
        });
        (self.memory.remember)(&self.checksums.into_inner().unwrap_or_else(PoisonError::into_inner));
        let mut found = self.found.into_inner().unwrap_or_else(PoisonError::into_inner);
        found.different.sort_by(|a, b| a.path.cmp(&b.path));
        found.asked = self.asked.into_inner();
        (outcome, found)
    }

    /// Reads both files whole and takes note of what it finds.
    fn look(&self, path: &RelPath, left: &Meta, right: &Meta, stop: &AtomicBool) {
        let judged = self.compare(path, left, stop);
        if stop.load(Ordering::Relaxed) {
            // Broken off on the way, it says nothing.
            return;
        }
        if let Ok(Ok(hash)) = judged {
            self.note(path, checksum(left, hash, self.memory.looked));
        }
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.bytes += left.size + right.size;
        match judged {
            Ok(Ok(_)) => found.same += 1,
            Ok(Err((changed, edited))) => {
                let modified = left.modified.map(Stamp::to_text).unwrap_or_default();
                found.different.push(SilentDifference {
                    path: path.clone(),
                    changed,
                    edited,
                    size: left.size,
                    modified,
                });
            }
            Err(unread) => found.unread.push(unread),
        }
    }

    fn note(&self, path: &RelPath, checksum: Checksum) {
        let mut checksums = self.checksums.lock().unwrap_or_else(PoisonError::into_inner);
        checksums.push((path.clone(), checksum));
        if checksums.len() >= REMEMBERED_TOGETHER {
            let group = std::mem::take(&mut *checksums);
            drop(checksums);
            (self.memory.remember)(&group);
        }
    }

    /// The common hash, or which side has changed.
    fn compare(
        &self,
        path: &RelPath,
        left: &Meta,
        stop: &AtomicBool,
    ) -> Result<Result<Hash, Change>, (Side, StoreError)> {
        let mut hasher = blake3::Hasher::new();
        let (ours, theirs) = (FileAt { store: self.left, path }, FileAt { store: self.right, path });
        let same = content::equal(ours, theirs, left.size, (true, stop), &mut |bytes| {
            hasher.update(bytes);
        })?;
        if same {
            return Ok(Ok(*hasher.finalize().as_bytes()));
        }
        // Only about a difference: looking up what is remembered, and hashing both sides, would cost too much for every file.
        let ours = content::hash(self.left, path, stop).map_err(|error| (Side::Left, error))?;
        let theirs = content::hash(self.right, path, stop).map_err(|error| (Side::Right, error))?;
        let (Some(ours), Some(theirs)) = (ours, theirs) else { return Ok(Err((None, false))) };
        Ok(if ours == theirs { Ok(ours) } else { Err(self.judge(path, left, ours, theirs)) })
    }

    /// Which side is no longer what it was, going by what is remembered of exactly this size and time, and whether somebody has written
    /// there since. Where that cannot be told, nothing can.
    fn judge(&self, path: &RelPath, left: &Meta, ours: Hash, theirs: Hash) -> Change {
        const NOTHING_TELLS: Change = (None, false);
        let Some(known) = (self.memory.recall)(path) else { return NOTHING_TELLS };
        let Some(looked) = known.looked else { return NOTHING_TELLS };
        if known != checksum(left, known.hash, looked) {
            return NOTHING_TELLS;
        }
        let (side, store) = match (known.hash == ours, known.hash == theirs) {
            (true, false) => (Side::Right, self.right),
            (false, true) => (Side::Left, self.left),
            _ => return NOTHING_TELLS,
        };
        match store.touched(path) {
            Ok(touched) => (Some(side), touched.is_some_and(|touched| touched > looked)),
            Err(_) => NOTHING_TELLS,
        }
    }
}

/// The side that changed, where something tells, and whether somebody has written there.
type Change = (Option<Side>, bool);

/// What to remember of a file.
pub fn checksum(meta: &Meta, hash: Hash, looked: Stamp) -> Checksum {
    let modified = meta.modified.map(Stamp::to_text).unwrap_or_default();
    Checksum { size: meta.size, modified, hash, looked: Some(looked) }
}
