//! What two files hold: read side by side and compared, or hashed with BLAKE3 (O'Connor, Aumasson, Neves, Wilcox-O'Hearn 2020).
//!
//! Comparing directly needs no hash; where one is to be remembered it is made of one side only, while the bytes are at hand.
//! Many files are looked at by several threads at once ([`for_all`]), whatever folders they lie in.

use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use crossbeam_channel::{Receiver, Sender};

use crate::entry::Side;
use crate::path::RelPath;
use crate::store::error::{FaultKind, Result, StoreError};
use crate::store::{Content, Store};

/// A BLAKE3 hash.
pub type Hash = [u8; 32];

/// Bytes read at once from each side: enough to keep a disk busy, and the two still fit a core's own cache.
const PIECE: usize = 256 << 10;

thread_local! {
    static BUFFERS: std::cell::RefCell<[Vec<u8>; 2]> = const { std::cell::RefCell::new([Vec::new(), Vec::new()]) };
}

/// A file of a store, for comparing.
#[derive(Clone, Copy)]
pub struct FileAt<'a> {
    /// Where the file is.
    pub store: &'a dyn Store,
    /// Relative to that store's root.
    pub path: &'a RelPath,
}

/// Whether two files that are known to have `size` bytes hold the same. `seen` gets the bytes of the first, as far as they
/// are the same. With `fresh` they are read from the medium, where the system allows it. A file that has become shorter
/// differs; what has been appended meanwhile is not looked at. When `stop` is set the answer comes at once, is no, and means nothing.
///
/// # Errors
/// The side that failed: left for the first file.
pub fn equal(
    left: FileAt<'_>,
    right: FileAt<'_>,
    size: u64,
    (fresh, stop): (bool, &AtomicBool),
    seen: &mut dyn FnMut(&[u8]),
) -> Result<bool, (Side, StoreError)> {
    let open = |held: FileAt<'_>, side| {
        let content =
            if fresh { held.store.open_fresh(held.path) } else { held.store.open_planned(held.path) };
        content.map_err(|error| (side, error))
    };
    let (mut ours, mut theirs) = (open(left, Side::Left)?, open(right, Side::Right)?);
    BUFFERS.with_borrow_mut(|[one, other]| {
        make(one);
        make(other);
        let mut rest = size;
        while rest > 0 {
            if stop.load(Ordering::Relaxed) {
                return Ok(false);
            }
            let wanted = rest.min(PIECE as u64) as usize;
            let (one, other) = (&mut one[..wanted], &mut other[..wanted]);
            let length = read_piece(ours.as_mut(), one, left.path).map_err(|error| (Side::Left, error))?;
            let found =
                read_piece(theirs.as_mut(), other, right.path).map_err(|error| (Side::Right, error))?;
            if length < wanted || found < wanted || one != other {
                return Ok(false);
            }
            seen(one);
            rest -= wanted as u64;
        }
        Ok(true)
    })
}

/// Gives a thread its buffer, once. Asked for as zeros, it costs only what is really used of it.
fn make(buffer: &mut Vec<u8>) {
    if buffer.is_empty() {
        *buffer = vec![0; PIECE];
    }
}

/// Fills the buffer, unless the file ends.
fn read_piece(content: &mut dyn Content, buffer: &mut [u8], path: &RelPath) -> Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match content.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(length) => filled += length,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(StoreError::of_read(error, path)),
        }
    }
    Ok(filled)
}

/// The hash of a file's content, read from the medium where the system allows it; `None` when `stop` was set on the way.
///
/// # Errors
/// When the store fails.
pub fn hash(store: &dyn Store, path: &RelPath, stop: &AtomicBool) -> Result<Option<Hash>> {
    let mut content = store.open_fresh(path)?;
    let mut hasher = blake3::Hasher::new();
    let whole = BUFFERS.with_borrow_mut(|[buffer, _]| {
        make(buffer);
        let length = read_piece(content.as_mut(), buffer, path)?;
        hasher.update(&buffer[..length]);
        Ok(length < PIECE)
    })?;
    if !whole {
        let mut ahead = Ahead::start(content, false);
        while let Some(piece) = ahead.next() {
            if stop.load(Ordering::Relaxed) {
                return Ok(None);
            }
            match piece.map_err(|error| StoreError::of_read(error, path))? {
                Piece::Data(data) => {
                    hasher.update(&data);
                    ahead.give_back(data);
                }
                Piece::Hole(length) => hash_hole(&mut hasher, length),
            }
        }
    }
    Ok(Some(*hasher.finalize().as_bytes()))
}

/// Adds the zeros that a hole stands for.
pub(crate) fn hash_hole(hasher: &mut blake3::Hasher, mut length: u64) {
    const ZEROS: [u8; 16 << 10] = [0; 16 << 10];
    while length > 0 {
        let some = length.min(ZEROS.len() as u64);
        hasher.update(&ZEROS[..some as usize]);
        length -= some;
    }
}

/// What comes next of a file that is read ahead.
pub(crate) enum Piece {
    Data(Vec<u8>),
    /// So many zeros that nobody has written.
    Hole(u64),
}

/// A large file that a thread of its own reads ahead, and hashes where that is asked for, while the caller works with what has
/// been read: on two cores, copying and hashing take as long as the slower of the two.
pub(crate) struct Ahead {
    pieces: Receiver<io::Result<Piece>>,
    spare: Sender<Vec<u8>>,
    reader: std::thread::JoinHandle<(Box<dyn Content>, blake3::Hasher)>,
    /// What [`Read::read`] has in hand, and how much of it is taken.
    current: (Vec<u8>, usize),
    /// What is left of a hole that comes before the next data.
    hole: u64,
}

impl Ahead {
    const PIECE: usize = 1 << 20;
    const PIECES: usize = 4;

    pub(crate) fn start(mut content: Box<dyn Content>, hashing: bool) -> Ahead {
        let (filled, pieces) = crossbeam_channel::bounded(Self::PIECES);
        let (spare, empty) = crossbeam_channel::bounded::<Vec<u8>>(Self::PIECES * 2);
        let reader = std::thread::spawn(move || {
            let mut hasher = blake3::Hasher::new();
            loop {
                let outcome = match read_ahead(content.as_mut(), &empty) {
                    Ok(None) => break,
                    Ok(Some(piece)) => {
                        match &piece {
                            Piece::Data(data) if hashing => drop(hasher.update(data)),
                            Piece::Hole(length) if hashing => hash_hole(&mut hasher, *length),
                            _ => {}
                        }
                        Ok(piece)
                    }
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    Err(error) => Err(error),
                };
                let failed = outcome.is_err();
                // Nobody takes it: the copy was stopped.
                if filled.send(outcome).is_err() || failed {
                    break;
                }
            }
            (content, hasher)
        });
        Ahead { pieces, spare, reader, current: (Vec::new(), 0), hole: 0 }
    }

    fn next(&mut self) -> Option<io::Result<Piece>> {
        self.pieces.recv().ok()
    }

    /// Takes the next piece when everything in hand has been given out; `false` at the end.
    fn advance(&mut self) -> io::Result<bool> {
        if self.hole > 0 || self.current.1 < self.current.0.len() {
            return Ok(true);
        }
        let used = std::mem::take(&mut self.current.0);
        self.give_back(used);
        self.current.1 = 0;
        match self.next().transpose()? {
            Some(Piece::Data(data)) => self.current.0 = data,
            Some(Piece::Hole(length)) => self.hole = length,
            None => return Ok(false),
        }
        Ok(true)
    }

    fn give_back(&self, piece: Vec<u8>) {
        // A reader that has come to the end needs no more.
        let _ = self.spare.try_send(piece);
    }

    /// Ends the reading; returns the file and the hash of what was read. `None` when the reader has failed.
    pub(crate) fn finish(self) -> Option<(Box<dyn Content>, Hash)> {
        drop(self.pieces);
        let (content, hasher) = self.reader.join().ok()?;
        Some((content, *hasher.finalize().as_bytes()))
    }
}

/// The next piece of a file; `None` at its end.
fn read_ahead(content: &mut dyn Content, empty: &Receiver<Vec<u8>>) -> io::Result<Option<Piece>> {
    let hole = content.skip_hole()?;
    if hole > 0 {
        return Ok(Some(Piece::Hole(hole)));
    }
    let mut piece = empty.try_recv().unwrap_or_default();
    piece.resize(Ahead::PIECE, 0);
    let length = content.read(&mut piece)?;
    piece.truncate(length);
    Ok((length > 0).then_some(Piece::Data(piece)))
}

impl Read for Ahead {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() || !self.advance()? {
            return Ok(0);
        }
        if self.hole > 0 {
            let length = buffer.len().min(usize::try_from(self.hole).unwrap_or(usize::MAX));
            buffer[..length].fill(0);
            self.hole -= length as u64;
            return Ok(length);
        }
        let (piece, taken) = &mut self.current;
        let length = buffer.len().min(piece.len() - *taken);
        buffer[..length].copy_from_slice(&piece[*taken..*taken + length]);
        *taken += length;
        Ok(length)
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Content for Ahead {
    /// The reader has the file: what it has read must not be passed over.
    fn as_file(&self) -> Option<&std::fs::File> {
        None
    }

    fn skip_hole(&mut self) -> io::Result<u64> {
        self.advance()?;
        Ok(std::mem::take(&mut self.hole))
    }

    /// The reader has the file; who needs its metadata asks after [`Ahead::finish`].
    fn meta(&mut self) -> Result<crate::entry::Meta> {
        Err(StoreError::new(FaultKind::Unsupported, "examine", &RelPath::root()))
    }
}

/// What a worker has come to. A panic is resumed in the thread that joins it: what it had not yet told must not count as nothing.
pub fn joined<T>(worker: std::thread::ScopedJoinHandle<'_, T>) -> T {
    worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Does something with each item, on so many threads; stops early when asked to. Results come in the order of the items; `None`
/// for those that were not reached.
pub fn for_all<T: Sync, R: Send>(
    items: &[T],
    threads: usize,
    stop: &AtomicBool,
    work: impl Fn(&T) -> R + Sync,
) -> Vec<Option<R>> {
    let next = AtomicUsize::new(0);
    let threads = threads.min(items.len());
    let one_thread = || {
        let mut done = Vec::new();
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            match items.get(at) {
                Some(item) if !stop.load(Ordering::Relaxed) => done.push((at, work(item))),
                _ => return done,
            }
        }
    };
    let mut results: Vec<Option<R>> = items.iter().map(|_| None).collect();
    std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads).map(|_| scope.spawn(one_thread)).collect();
        for worker in workers {
            for (at, result) in joined(worker) {
                results[at] = Some(result);
            }
        }
    });
    results
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_worker_that_fails_is_not_one_that_found_nothing() {
        let items: Vec<u32> = (0..100).collect();
        let work = |item: &u32| {
            assert!(*item != 42, "a fault of ours");
            *item
        };
        let all = || for_all(&items, 4, &AtomicBool::new(false), work);
        assert!(std::panic::catch_unwind(std::panic::AssertUnwindSafe(all)).is_err());
    }
}
