//! Verification: reading back, and comparing content by its BLAKE3 hash (O'Connor, Aumasson, Neves, Wilcox-O'Hearn 2020).

use std::fs::File;
use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use crate::entry::{Meta, Side};
use crate::path::RelPath;
use crate::record::Checksum;
use crate::store::{Content, FaultKind, Result, Store, StoreError};

/// A BLAKE3 hash.
pub type Hash = [u8; 32];

/// Bytes read at once.
const PIECE: usize = 1 << 20;

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

impl Content for Hashing<'_> {
    fn meta(&mut self) -> Result<Meta> {
        self.content.meta()
    }

    /// No way around the reader: every byte has to be seen.
    fn as_file(&self) -> Option<&File> {
        None
    }
}

/// The hash of a file's content, read from the medium where the system allows it.
///
/// # Errors
/// When the store fails.
pub fn hash_file(store: &dyn Store, path: &RelPath) -> Result<Hash> {
    let mut content = store.open_fresh(path)?;
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; PIECE];
    loop {
        match content.read(&mut buffer) {
            Ok(0) => return Ok(*hasher.finalize().as_bytes()),
            Ok(length) => {
                hasher.update(&buffer[..length]);
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(StoreError::new(FaultKind::Io, "read", path).because(error)),
        }
    }
}

/// Two files that differ though their sizes and times agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SilentDifference {
    /// The path.
    pub path: RelPath,
    /// The side whose content is no longer what was last read; `None` when nothing is remembered that could tell.
    pub changed: Option<Side>,
}

impl SilentDifference {
    /// What is known about it, in one sentence.
    pub fn sentence(&self) -> String {
        match self.changed {
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
    /// What to remember of the files that are the same.
    pub checksums: Vec<(RelPath, Checksum)>,
}

/// Compares files by content, from several threads at once; give [`Comparer::look`] to a scan's `on_same`.
pub struct Comparer<'a> {
    left: &'a dyn Store,
    right: &'a dyn Store,
    remembered: &'a (dyn Fn(&RelPath) -> Option<Checksum> + Sync),
    found: Mutex<Verified>,
}

impl<'a> Comparer<'a> {
    /// A comparer; `remembered` tells what a file held when it was last read whole.
    pub fn new(
        left: &'a dyn Store,
        right: &'a dyn Store,
        remembered: &'a (dyn Fn(&RelPath) -> Option<Checksum> + Sync),
    ) -> Comparer<'a> {
        Comparer { left, right, remembered, found: Mutex::default() }
    }

    /// Reads both files whole and takes note of what it finds.
    pub fn look(&self, path: &RelPath, left: &Meta, right: &Meta) {
        let hashes = hash_file(self.left, path)
            .map_err(|error| (Side::Left, error))
            .and_then(|ours| Ok((ours, hash_file(self.right, path).map_err(|error| (Side::Right, error))?)));
        // What is remembered is asked only about a difference: looking it up for every file would cost a query each.
        let judged = hashes.map(|(ours, theirs)| match ours == theirs {
            true => Ok(ours),
            false => Err(self.judge(path, left, ours, theirs)),
        });
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.bytes += left.size + right.size;
        match judged {
            Ok(Ok(hash)) => {
                found.same += 1;
                found.checksums.push((path.clone(), checksum(left, hash)));
            }
            Ok(Err(changed)) => found.different.push(SilentDifference { path: path.clone(), changed }),
            Err(unread) => found.unread.push(unread),
        }
    }

    /// Which side is no longer what it was, going by what is remembered of exactly this size and time.
    fn judge(&self, path: &RelPath, left: &Meta, ours: Hash, theirs: Hash) -> Option<Side> {
        let known = (self.remembered)(path)?;
        let current = checksum(left, known.hash);
        if known != current {
            return None;
        }
        match (known.hash == ours, known.hash == theirs) {
            (true, false) => Some(Side::Right),
            (false, true) => Some(Side::Left),
            _ => None,
        }
    }

    /// What was found.
    pub fn into_found(self) -> Verified {
        let mut found = self.found.into_inner().unwrap_or_else(PoisonError::into_inner);
        found.different.sort_by(|a, b| a.path.cmp(&b.path));
        found
    }
}

/// What to remember of a file.
pub fn checksum(meta: &Meta, hash: Hash) -> Checksum {
    let modified = meta.modified.map(crate::entry::Stamp::to_text).unwrap_or_default();
    Checksum { size: meta.size, modified, hash }
}
