//! Going on with a large file over a network.
//!
//! Between local stores an unfinished file is compared byte by byte with the beginning of its source. Over a network that would cost
//! as much as sending it again. Instead a *checkpoint* is kept beside the unfinished file, a small file that says: up to here it
//! is durable, and this is the hash of it. Whoever goes on hashes that much of the near side, and sends only what follows. Both are
//! named after the source's path, size and time, so another source never finds them.

use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, Ordering};

use crate::content::Hash;
use crate::entry::Meta;
use crate::path::{Name, RelPath, part_name};
use crate::run::engine::Engine;
use crate::run::headway::Headway;
use crate::run::input::CHECKPOINT_SUFFIX;
use crate::store::error::{CopyError, FaultKind, Result, StoreError};
use crate::store::{Content, Stage, Store, StoreExt};

/// A checkpoint is made each time so many bytes more have arrived.
pub const CHECKPOINT_EVERY: u64 = 32 << 20;

/// A longer checkpoint is none of ours.
const LIMIT: u64 = 128;

/// Up to where an unfinished file is known to be right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Checkpoint {
    upto: u64,
    hash: Hash,
}

impl Checkpoint {
    fn to_text(self) -> String {
        format!("{} {}\n", self.upto, blake3::Hash::from_bytes(self.hash).to_hex())
    }

    fn from_text(text: &str) -> Option<Checkpoint> {
        let (upto, hash) = text.trim_end().split_once(' ')?;
        Some(Checkpoint { upto: upto.parse().ok()?, hash: *blake3::Hash::from_hex(hash).ok()?.as_bytes() })
    }
}

/// The file of a store's own that belongs to an unfinished one.
fn beside(path: &RelPath, name: &str) -> RelPath {
    let parent = path.parent().unwrap_or_default();
    Name::new(&part_name(name)).map(|name| parent.join(&name)).unwrap_or_default()
}

/// One file on its way, and what is needed to go on with it.
pub(super) struct Journey<'a> {
    pub(super) engine: &'a Engine<'a>,
    pub(super) path: &'a RelPath,
    pub(super) from: &'a Meta,
    pub(super) key: &'a str,
    /// Opens the source at an offset.
    pub(super) open: &'a dyn Fn(u64) -> Result<Box<dyn Content>>,
    /// While this is set, no bandwidth limit slows what `open` gave.
    pub(super) free: &'a AtomicBool,
}

/// What has arrived: its length, the hash of all of it, and the source to ask whether it is still the same.
pub(super) struct Arrived {
    pub(super) length: u64,
    /// How much of it was there already.
    pub(super) adopted: u64,
    pub(super) hash: Hash,
    pub(super) content: Box<dyn Content>,
}

impl Journey<'_> {
    fn right(&self) -> &dyn Store {
        self.engine.input.right
    }

    fn checkpoint_file(&self) -> RelPath {
        beside(self.path, &format!("{}{CHECKPOINT_SUFFIX}", self.key))
    }

    /// Fills the stage with the source, going on where an earlier attempt got to.
    pub(super) fn travel(
        &self,
        stage: &mut dyn Stage,
        headway: &mut Headway<'_, '_>,
    ) -> Result<Arrived, CopyError> {
        // A near file that is only compared takes nothing of the line.
        self.free.store(self.is_near(), Ordering::Relaxed);
        let found = self.go_on(stage);
        self.free.store(false, Ordering::Relaxed);
        let (content, hasher, mut length) = match found? {
            Some((content, hasher, upto)) => {
                headway.adopted(upto);
                (content, hasher, upto)
            }
            None => ((self.open)(0).map_err(CopyError::Read)?, blake3::Hasher::new(), 0),
        };
        let adopted = length;
        let mut pieces = Pieces { content, hasher, taken: length, end: 0 };
        loop {
            pieces.end = length + CHECKPOINT_EVERY;
            let expected = self.from.size.saturating_sub(length).min(CHECKPOINT_EVERY);
            let filled = stage.fill(&mut pieces, expected, &mut |bytes| headway.moved(bytes));
            if matches!(filled, Err(CopyError::Stopped)) {
                self.mark(stage, &pieces).map_err(CopyError::Write)?;
            }
            length += filled?;
            if length < pieces.end || length >= self.from.size {
                break;
            }
            self.mark(stage, &pieces).map_err(CopyError::Write)?;
        }
        self.forget();
        Ok(Arrived { length, adopted, hash: *pieces.hasher.finalize().as_bytes(), content: pieces.content })
    }

    /// Whether the source is read from a disk, not over a network.
    fn is_near(&self) -> bool {
        !self.engine.input.left.capabilities().remote
    }

    /// Finds out whether what an earlier attempt left can be used, and puts both sides behind it.
    #[allow(clippy::type_complexity)]
    fn go_on(
        &self,
        stage: &mut dyn Stage,
    ) -> Result<Option<(Box<dyn Content>, blake3::Hasher, u64)>, CopyError> {
        let read = self.right().read_small(&self.checkpoint_file(), LIMIT);
        let Some(checkpoint) =
            read.ok().flatten().and_then(|bytes| Checkpoint::from_text(&String::from_utf8_lossy(&bytes)))
        else {
            return Ok(None);
        };
        let near_left = self.is_near();
        // What is read is the near side's; of two far ones, the source.
        let proof = if near_left || self.right().capabilities().remote {
            (self.open)(0).map_err(CopyError::Read)?
        } else {
            match self.right().open(&beside(self.path, self.key), 0) {
                Ok(left) => left,
                Err(_) => return Ok(None),
            }
        };
        let Some((content, hasher)) = prefix(proof, &checkpoint) else { return Ok(None) };
        if !stage.go_on_at(checkpoint.upto).map_err(CopyError::Write)? {
            return Ok(None);
        }
        let content =
            if near_left { content } else { (self.open)(checkpoint.upto).map_err(CopyError::Read)? };
        Ok(Some((content, hasher, checkpoint.upto)))
    }

    /// Makes a checkpoint of what has been taken so far, where the store can be sure of it.
    fn mark(&self, stage: &mut dyn Stage, pieces: &Pieces) -> Result<()> {
        match stage.flush() {
            Ok(()) => {}
            Err(error) if error.kind == FaultKind::Unsupported => return Ok(()),
            Err(error) => return Err(error),
        }
        let checkpoint = Checkpoint { upto: pieces.taken, hash: *pieces.hasher.finalize().as_bytes() };
        self.forget();
        match self.right().write_small(&self.checkpoint_file(), checkpoint.to_text().as_bytes()) {
            // Without it, the next attempt has more to send: no reason to stop this one.
            Err(error) if error.kind != FaultKind::Lost => Ok(()),
            outcome => outcome,
        }
    }

    fn forget(&self) {
        let file = self.checkpoint_file();
        if let Ok(Some(meta)) = self.right().stat(&file) {
            // What stays is cleared by the next run.
            let _ = self.right().remove(&file, &meta);
        }
    }
}

/// Reads as much of a file as a checkpoint speaks of; the file and the hash's state behind it, when it holds just that.
fn prefix(
    mut content: Box<dyn Content>,
    checkpoint: &Checkpoint,
) -> Option<(Box<dyn Content>, blake3::Hasher)> {
    let mut hasher = blake3::Hasher::new();
    let length = hasher.update_reader((&mut content).take(checkpoint.upto)).ok()?.count();
    (length == checkpoint.upto && *hasher.finalize().as_bytes() == checkpoint.hash)
        .then_some((content, hasher))
}

/// A source that seems to end at each checkpoint, and is hashed on the way.
struct Pieces {
    content: Box<dyn Content>,
    hasher: blake3::Hasher,
    taken: u64,
    end: u64,
}

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = usize::try_from(self.end - self.taken).unwrap_or(usize::MAX).min(buffer.len());
        let length = self.content.read(&mut buffer[..room])?;
        self.hasher.update(&buffer[..length]);
        self.taken += length as u64;
        Ok(length)
    }
}

impl Content for Pieces {
    fn meta(&mut self) -> Result<Meta, StoreError> {
        self.content.meta()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn checkpoints_survive_as_text_and_nothing_else_is_one() {
        let checkpoint = Checkpoint { upto: 64 << 20, hash: *blake3::hash(b"heron").as_bytes() };
        assert_eq!(Checkpoint::from_text(&checkpoint.to_text()), Some(checkpoint));
        for text in ["", "12", "12 heron", "-1 00", &checkpoint.to_text()[3..40]] {
            assert_eq!(Checkpoint::from_text(text), None, "{text}");
        }
    }

    #[test]
    fn fuzzed_checkpoints_and_stored_text() {
        let seeds: [&[u8]; 5] = [
            b"id = \"20310504-181500-abcd\"\nmade = \"here\"\n",
            b"16777216 af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262\n",
            b"1935684900.123456789",
            b"ext4\t0b1c-2d\tsub/folder\t8",
            b"counts/north/../heron.csv",
        ];
        crate::fuzz::fuzz("checkpoints and stored text", &seeds, |bytes| {
            let text = String::from_utf8_lossy(bytes);
            let _ = Checkpoint::from_text(&text);
            drop(crate::identity::Ground::from_text(&text));
            assert!(
                crate::identity::mark_in(bytes).is_none_or(|mark| !mark.is_empty() && !mark.contains('\n'))
            );
            if let Some(stamp) = crate::entry::Stamp::from_text(&text) {
                let _ = stamp.later_by(std::time::Duration::MAX).as_nanos();
            }
            if let Ok(path) = RelPath::new(bytes) {
                assert!(path.parts().all(|part| !matches!(part, b"" | b"." | b"..")));
            }
        });
    }
}
