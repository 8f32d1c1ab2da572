//! What two files hold: read side by side and compared, or hashed with BLAKE3 (O'Connor, Aumasson, Neves, Wilcox-O'Hearn 2020).
//!
//! Comparing directly needs no hash; where one is to be remembered it is made of one side only, while the bytes are at hand.
//! Many files are looked at by several threads at once ([`for_all`]), whatever folders they lie in.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use crate::entry::Side;
use crate::path::RelPath;
use crate::store::{Content, FaultKind, Result, Store, StoreError};

/// A BLAKE3 hash.
pub type Hash = [u8; 32];

/// Bytes read at once from each side: enough to keep a disk busy, and the two still fit a core's own cache.
const PIECE: usize = 256 << 10;

thread_local! {
    static BUFFERS: std::cell::RefCell<[Vec<u8>; 2]> = const { std::cell::RefCell::new([Vec::new(), Vec::new()]) };
}

/// A file of a store, for comparing.
#[derive(Clone, Copy)]
pub struct Held<'a> {
    /// The store.
    pub store: &'a dyn Store,
    /// The path in it.
    pub path: &'a RelPath,
}

/// Whether two files hold the same. `seen` gets the bytes of the first, as far as they are the same. With `fresh` they are
/// read from the medium, where the system allows it.
///
/// # Errors
/// The side that failed: left for the first file.
pub fn equal(
    left: Held<'_>,
    right: Held<'_>,
    fresh: bool,
    seen: &mut dyn FnMut(&[u8]),
) -> Result<bool, (Side, StoreError)> {
    let open = |held: Held<'_>, side| {
        let content =
            if fresh { held.store.open_fresh(held.path) } else { held.store.open_planned(held.path) };
        content.map_err(|error| (side, error))
    };
    let (mut ours, mut theirs) = (open(left, Side::Left)?, open(right, Side::Right)?);
    BUFFERS.with_borrow_mut(|[one, other]| {
        make(one);
        make(other);
        loop {
            let length = read_piece(ours.as_mut(), one, left.path).map_err(|error| (Side::Left, error))?;
            let found =
                read_piece(theirs.as_mut(), other, right.path).map_err(|error| (Side::Right, error))?;
            if one[..length] != other[..found] {
                return Ok(false);
            }
            seen(&one[..length]);
            if length < PIECE {
                return Ok(true);
            }
        }
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
            Err(error) => return Err(StoreError::new(FaultKind::Io, "read", path).because(error)),
        }
    }
    Ok(filled)
}

/// The hash of a file's content, read from the medium where the system allows it.
///
/// # Errors
/// When the store fails.
pub fn hash(store: &dyn Store, path: &RelPath) -> Result<Hash> {
    let mut content = store.open_fresh(path)?;
    let mut hasher = blake3::Hasher::new();
    BUFFERS.with_borrow_mut(|[buffer, _]| {
        make(buffer);
        loop {
            let length = read_piece(content.as_mut(), buffer, path)?;
            hasher.update(&buffer[..length]);
            if length < PIECE {
                return Ok(*hasher.finalize().as_bytes());
            }
        }
    })
}

/// Does something with each item, on as many threads as there are cores; stops early when asked to. Results come in the
/// order of the items; `None` for those that were not reached.
pub fn for_all<T: Sync, R: Send>(
    items: &[T],
    stop: &AtomicBool,
    work: impl Fn(&T) -> R + Sync,
) -> Vec<Option<R>> {
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(2, usize::from).min(items.len());
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
            for (at, result) in worker.join().unwrap_or_default() {
                results[at] = Some(result);
            }
        }
    });
    results
}
