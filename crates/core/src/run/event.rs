//! What an engine tells while it works, and the words for what it did.

use crate::content::Hash;
use crate::entry::{EntryKind, Meta, Privileges, Rights, Side, Stamp};
use crate::path::RelPath;
use crate::plan::{Action, Counts, Role, Step};
use crate::problem::Problem;

/// What the engine tells while it works. The progress view, the log, and `--json` read the same events.
#[derive(Debug, Clone)]
pub enum Event {
    /// A worker begins with a file.
    Started {
        /// The worker's number, from 0.
        worker: usize,
        /// The file.
        path: RelPath,
        /// Its expected size in bytes.
        size: u64,
    },
    /// A worker has moved some bytes of its file.
    Bytes {
        /// The worker's number.
        worker: usize,
        /// How many more.
        bytes: u64,
    },
    /// A worker has found that some bytes of its file are there already: an earlier run brought them, this one only compared them.
    Adopted {
        /// The worker's number.
        worker: usize,
        /// How many more.
        bytes: u64,
    },
    /// A worker has nothing in hand.
    Idle {
        /// The worker's number.
        worker: usize,
    },
    /// An item is done.
    Item(Item),
    /// A folder that stays got other metadata; what it had before, for undoing the run.
    Folder {
        /// Which of the two trees it is in.
        side: Side,
        /// The folder.
        path: RelPath,
        /// What it had.
        was: Mark,
    },
    /// Something could not be done.
    Problem(Problem),
}

/// A time and a mode, as far as they are known.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Mark {
    /// The modification time.
    pub modified: Option<Stamp>,
    /// The mode bits.
    pub mode: Option<u32>,
}

impl Mark {
    /// The time and mode of an entry.
    pub fn of(meta: &Meta) -> Mark {
        Mark { modified: meta.modified, mode: meta.mode }
    }
}

/// One thing that was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// What was done.
    pub done: Done,
    /// The side that changed.
    pub side: Side,
    /// Relative to the root of its side.
    pub path: RelPath,
    /// What stands there now and its size, where the engine knows; a log does not tell.
    pub stands: Option<(EntryKind, u64)>,
    /// Bytes of content: written, or of what was removed.
    pub size: u64,
    /// What stands there now, as it was written: lets an undo see whether it has changed since.
    pub now: Mark,
    /// The time that it has where it was read, when it was given another here.
    pub read: Option<Stamp>,
    /// What stood there before.
    pub was: Mark,
    /// Where it was before a move.
    pub moved_from: Option<RelPath>,
    /// How many files and links a moved folder holds.
    pub items: Option<u64>,
    /// It was moved to make room for another version: the side that is read has never held it under its new name. A log does not tell.
    pub makes_room: bool,
    /// The BLAKE3 hash of what was written, when the run verifies.
    pub hash: Option<Hash>,
    /// Where what stood there before has gone.
    pub gone: Gone,
    /// What was taken from its kept copy.
    pub privileges: Option<Box<Privileges>>,
    /// Its owners and attributes before, where they were changed.
    pub rights: Option<Box<Rights>>,
}

impl Item {
    /// Adds what was done to the numbers of a run. Folders are not counted, nor bytes: a transfer alone knows how many it moved.
    pub fn count_in(&self, counts: &mut Counts) {
        match self.done {
            Done::Added | Done::Revived => counts.added += 1,
            Done::Updated => counts.updated += 1,
            Done::Removed => counts.removed += 1,
            Done::Moved => counts.moved += self.items.unwrap_or(1),
            Done::Metadata => counts.meta += 1,
            Done::Left => counts.skipped += 1,
            Done::FolderMade | Done::FolderRemoved => {}
        }
    }

    pub(super) fn new(done: Done, path: RelPath, size: u64) -> Item {
        let (now, was) = (Mark::default(), Mark::default());
        let (read, moved_from, items, hash, gone) = (None, None, None, None, Gone::Kept);
        let stands = (done == Done::FolderMade).then_some((EntryKind::Folder, 0));
        Item {
            done,
            side: Side::Right,
            path,
            stands,
            size,
            now,
            read,
            was,
            moved_from,
            items,
            makes_room: false,
            hash,
            gone,
            privileges: None,
            rights: None,
        }
    }
}

/// Where something has gone that was removed or replaced.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Gone {
    /// To the kept copies of the run, if it was anything at all.
    #[default]
    Kept,
    /// To the desktop's trash.
    Trashed,
    /// For good.
    Erased,
}

impl Gone {
    /// The word in JSON and logs; nothing is said of what is kept.
    pub fn as_str(self) -> Option<&'static str> {
        match self {
            Gone::Kept => None,
            Gone::Trashed => Some("trash"),
            Gone::Erased => Some("erased"),
        }
    }

    /// What a word in a log means.
    pub fn parse(word: &str) -> Option<Gone> {
        [Gone::Trashed, Gone::Erased].into_iter().find(|gone| gone.as_str() == Some(word))
    }
}

/// What was done to an item; the words are those of the JSON key `do`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Done {
    /// Put where nothing was.
    Added,
    /// Put where it had been removed: a removal never beats a change.
    Revived,
    /// Put in the place of another.
    Updated,
    /// Removed.
    Removed,
    /// Renamed.
    Moved,
    /// Given other metadata.
    Metadata,
    /// Left on purpose.
    Left,
    /// A folder was made.
    FolderMade,
    /// A folder was removed.
    FolderRemoved,
}

impl Done {
    /// The word in JSON and logs.
    pub fn as_str(self) -> &'static str {
        match self {
            Done::Added => "add",
            Done::Revived => "revive",
            Done::Updated => "update",
            Done::Removed => "remove",
            Done::Moved => "move",
            Done::Metadata => "meta",
            Done::Left => "leave",
            Done::FolderMade => "mkdir",
            Done::FolderRemoved => "rmdir",
        }
    }

    /// What a word in a log means; `None` for an unknown one.
    pub fn parse(word: &str) -> Option<Done> {
        const ALL: [Done; 9] = [
            Done::Added,
            Done::Revived,
            Done::Updated,
            Done::Removed,
            Done::Moved,
            Done::Metadata,
            Done::Left,
            Done::FolderMade,
            Done::FolderRemoved,
        ];
        ALL.into_iter().find(|done| done.as_str() == word)
    }

    /// The word for a planned action.
    pub fn of(action: &Action) -> Done {
        match &action.step {
            Step::Add { .. } if action.role == Role::Revived => Done::Revived,
            Step::Add { .. } | Step::SecondName { was: None, .. } => Done::Added,
            Step::Update { .. } | Step::SecondName { was: Some(_), .. } => Done::Updated,
            Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. } => Done::Moved,
            Step::Metadata { .. } => Done::Metadata,
            Step::Remove { .. } => Done::Removed,
            Step::Leave { .. } => Done::Left,
        }
    }
}

/// The size that a step is shown with: of what is written, or of what is removed.
pub fn step_size(step: &Step) -> u64 {
    match step {
        Step::Add { from }
        | Step::Update { from, .. }
        | Step::Metadata { from, .. }
        | Step::Leave { from, .. } => from.size,
        Step::Remove { was } => was.size,
        Step::Move { to, .. } => to.size,
        Step::Respell { was, .. } => was.size,
        Step::SecondName { .. } | Step::MoveFolder { .. } => 0,
    }
}
