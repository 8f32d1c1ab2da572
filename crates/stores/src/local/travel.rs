//! How the bytes of a file get from one file system of this machine to another.
//!
//! Best shares them (the two files then use the same blocks), else the kernel copies by itself, else they pass through a buffer of
//! ours. Which of these two file systems can do is found out with the first file that tries, and remembered for that pair.
//! Holes stay holes on every way.

use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::num::NonZeroU64;
use std::os::unix::fs::FileExt;
use std::sync::{Mutex, PoisonError};

use reedhook_core::store::Flow;
use rustix::fs::{SeekFrom, Stat};
use rustix::io::Errno;

/// Bytes per piece: large enough to be quick, small enough to show progress and to stop soon.
pub(super) const PIECE: usize = 8 << 20;

/// The buffer that bytes pass through: it and the pages it is filled from fit a core's own cache.
const BUFFER: usize = 256 << 10;

/// How bytes travel; each way can do less than the one before it, and works in more places.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Way {
    /// The new file shares the blocks of the old one.
    Shared,
    /// The kernel copies.
    Kernel,
    /// Through a buffer.
    Memory,
}

/// What has been found out about pairs of file systems, by their device numbers.
#[derive(Default)]
pub(super) struct Ways(Mutex<HashMap<(u64, u64), Way>>);

impl Ways {
    fn of(&self, pair: (u64, u64)) -> Way {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&pair).copied().unwrap_or(Way::Shared)
    }

    /// A way is refused: this pair goes on by the next one.
    fn lower(&self, pair: (u64, u64), to: Way) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let way = known.entry(pair).or_insert(to);
        *way = (*way).max(to);
    }
}

/// How a copy ended.
pub(super) enum Travelled {
    /// It came to the end of the source; so many bytes were added.
    Whole(u64),
    /// It was told to stop.
    Stopped,
}

/// Which side failed.
pub(super) enum TravelError {
    Read(io::Error),
    Write(io::Error),
}

fn read_error(error: Errno) -> TravelError {
    TravelError::Read(error.into())
}

/// The call does not say which side failed; these can only be the writing one.
fn side_of(error: Errno) -> TravelError {
    match error {
        Errno::NOSPC | Errno::DQUOT | Errno::FBIG | Errno::ROFS => TravelError::Write(error.into()),
        _ => TravelError::Read(error.into()),
    }
}

/// What the kernel says about two file systems, or two files, between which it does not copy by itself.
fn is_refusal(error: Errno) -> bool {
    matches!(
        error,
        Errno::XDEV
            | Errno::INVAL
            | Errno::NOSYS
            | Errno::OPNOTSUPP
            | Errno::PERM
            | Errno::NOTTY
            | Errno::BADF
    )
}

/// Whether a refusal is about the pair of file systems, and not only about these two files.
fn is_of_the_pair(error: Errno) -> bool {
    matches!(error, Errno::XDEV | Errno::NOSYS | Errno::OPNOTSUPP | Errno::NOTTY)
}

/// Fills `to` from position `begin` on with what `from` holds from there on; the bytes before it are there already.
pub(super) fn travel(
    ways: &Ways,
    from: &File,
    to: &File,
    begin: u64,
    progress: &mut dyn FnMut(u64) -> Flow,
) -> Result<Travelled, TravelError> {
    let source = rustix::fs::fstat(from).map_err(read_error)?;
    let target = rustix::fs::fstat(to).map_err(|error| TravelError::Write(error.into()))?;
    let pair = (source.st_dev, target.st_dev);
    let mut way = ways.of(pair);
    if way == Way::Shared {
        if begin == 0 {
            match rustix::fs::ioctl_ficlone(to, from) {
                Ok(()) => {
                    let size = source.st_size as u64;
                    progress(size);
                    return Ok(Travelled::Whole(size));
                }
                Err(error) if is_of_the_pair(error) => ways.lower(pair, Way::Kernel),
                Err(_) => {}
            }
        }
        way = Way::Kernel;
    }
    let mut journey = Journey { ways, pair, way, from, to, begin, progress };
    journey.copy(&source)
}

/// A copy on its way.
struct Journey<'a> {
    ways: &'a Ways,
    pair: (u64, u64),
    way: Way,
    from: &'a File,
    to: &'a File,
    begin: u64,
    progress: &'a mut dyn FnMut(u64) -> Flow,
}

impl Journey<'_> {
    fn copy(&mut self, source: &Stat) -> Result<Travelled, TravelError> {
        let size = source.st_size as u64;
        // Without fewer blocks than bytes there is no hole to be asked for.
        let has_holes = (source.st_blocks as u64).saturating_mul(512) < size;
        let mut at = self.begin;
        while at < size {
            let (start, end) = if has_holes { next_data(self.from, at, size) } else { (at, size) };
            if start > at && (self.progress)(start - at) == Flow::Stop {
                return Ok(Travelled::Stopped);
            }
            at = start;
            while at < end {
                let copied = self.piece(at, (end - at).min(PIECE as u64) as usize)?;
                if copied == 0 {
                    return self.end(at);
                }
                begin_to_flush(self.to, at, copied);
                at += copied;
                if (self.progress)(copied) == Flow::Stop {
                    return Ok(Travelled::Stopped);
                }
            }
        }
        self.end(size)
    }

    /// Copies a piece on the way that works; 0 when the source has become shorter.
    fn piece(&mut self, at: u64, wanted: usize) -> Result<u64, TravelError> {
        while self.way == Way::Kernel {
            let (mut from_at, mut to_at) = (at, at);
            match rustix::fs::copy_file_range(
                self.from,
                Some(&mut from_at),
                self.to,
                Some(&mut to_at),
                wanted,
            ) {
                Ok(copied) => return Ok(copied as u64),
                Err(Errno::INTR) => {}
                Err(error) if is_refusal(error) => {
                    if is_of_the_pair(error) {
                        self.ways.lower(self.pair, Way::Memory);
                    }
                    self.way = Way::Memory;
                }
                Err(error) => return Err(side_of(error)),
            }
        }
        self.through_memory(at, wanted)
    }

    fn through_memory(&self, at: u64, wanted: usize) -> Result<u64, TravelError> {
        thread_local!(static SPACE: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) });
        SPACE.with_borrow_mut(|space| {
            if space.is_empty() {
                *space = vec![0; BUFFER];
            }
            let mut copied = 0;
            while copied < wanted {
                let piece = &mut space[..BUFFER.min(wanted - copied)];
                let place = at + copied as u64;
                let length = match self.from.read_at(piece, place) {
                    Ok(0) => break,
                    Ok(length) => length,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    Err(error) => return Err(TravelError::Read(error)),
                };
                self.to.write_all_at(&piece[..length], place).map_err(TravelError::Write)?;
                copied += length;
            }
            Ok(copied as u64)
        })
    }

    /// Sets the length, for a hole at the end; less than expected was copied when the source shrank meanwhile.
    fn end(&self, size: u64) -> Result<Travelled, TravelError> {
        rustix::fs::ftruncate(self.to, size).map_err(|error| TravelError::Write(error.into()))?;
        Ok(Travelled::Whole(size - self.begin))
    }
}

/// Has the medium begin with what has been written to a file, while the next piece is read: at the end all of it is to be durable,
/// and without this the kernel would wait until then with the whole of it. It drops those pages from memory too, where nobody has
/// asked for them.
pub(super) fn begin_to_flush(file: &File, at: u64, length: u64) {
    /// Less is gathered better by the kernel.
    const WORTH_IT: u64 = 1 << 20;
    if length >= WORTH_IT {
        // Advice that is not taken is no failure.
        let _ = rustix::fs::fadvise(file, at, NonZeroU64::new(length), rustix::fs::Advice::DontNeed);
    }
}

/// The next stretch of data at or after `at`: its start and end. A file system that knows no holes has one stretch.
pub(super) fn next_data(from: &File, at: u64, size: u64) -> (u64, u64) {
    let start = match rustix::fs::seek(from, SeekFrom::Data(at)) {
        Ok(start) => start,
        Err(Errno::NXIO) => return (size, size),
        Err(_) => return (at, size),
    };
    let end = rustix::fs::seek(from, SeekFrom::Hole(start)).unwrap_or(size);
    (start.min(size), end.min(size).max(start))
}

/// How many bytes of a file are written out, without its holes.
pub(super) fn data_bytes(file: &File) -> io::Result<u64> {
    let found = rustix::fs::fstat(file)?;
    let size = found.st_size as u64;
    if (found.st_blocks as u64).saturating_mul(512) >= size {
        return Ok(size);
    }
    let (mut at, mut total) = (0, 0);
    while at < size {
        let (start, end) = next_data(file, at, size);
        total += end - start;
        at = end.max(start).max(at + 1);
    }
    Ok(total)
}
