//! What is remembered between runs, as values. Who keeps it, and how, is not known here: the walks ask through closures and the engine
//! hands over what is to be kept.

use std::error::Error;
use std::fmt;
use std::sync::Arc;

use crate::entry::{Meta, Side, Stamp};
use crate::path::RelPath;
use crate::plan::two_way::Remembered;

/// What is remembered cannot be read; its source says why.
#[derive(Debug, Clone)]
pub struct MemoryError(Arc<dyn Error + Send + Sync>);

impl MemoryError {
    /// The failure of whoever keeps it.
    pub fn new(why: impl Error + Send + Sync + 'static) -> MemoryError {
        MemoryError(Arc::new(why))
    }

    /// That failure, where it is of this type.
    pub fn why<E: Error + 'static>(&self) -> Option<&E> {
        self.0.downcast_ref()
    }
}

impl fmt::Display for MemoryError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("what is remembered cannot be read")
    }
}

impl Error for MemoryError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.0)
    }
}

/// A folder of which something else is to be remembered: `None` for nothing, neither of it nor of what is below it.
pub type FolderUpdate = (RelPath, Option<Remembered>);

/// What a file held when it was last read whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checksum {
    /// Its bytes.
    pub size: u64,
    /// Its modification time, as `SECONDS.NANOSECONDS`.
    pub modified: String,
    /// The BLAKE3 hash of its content.
    pub hash: [u8; 32],
    /// When it was read: what was written later is not what was read. `None` where that was not noted.
    pub looked: Option<Stamp>,
}

/// A file whose content differs at the two sides, though sizes and times agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Corrupted {
    /// Relative to the root of its side.
    pub path: RelPath,
    /// The side that changed; `None` when nothing tells.
    pub side: Option<Side>,
    /// It did not change by itself: somebody has written there, and left the size and time as they were.
    pub edited: bool,
    /// Its bytes.
    pub size: u64,
    /// Its modification time, as `SECONDS.NANOSECONDS`.
    pub modified: String,
}

impl Corrupted {
    /// Whether an entry still is what was found then: another size or time is another version.
    pub fn is_about(&self, meta: &Meta) -> bool {
        self.size == meta.size && self.modified == meta.modified.map(Stamp::to_text).unwrap_or_default()
    }
}
