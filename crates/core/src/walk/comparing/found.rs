//! What comparing two trees comes to, as values.

use crate::compare::DiffState;
use crate::entry::{EntryKind, Meta, Stamp};
use crate::path::RelPath;
use crate::problem::Problem;

/// What a side holds in a folder, with all that lies below it. The folder itself is not counted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tally {
    /// Files and links, and what else is no folder.
    pub files: u64,
    /// Folders.
    pub folders: u64,
    /// Bytes of files.
    pub bytes: u64,
}

impl Tally {
    pub(super) fn count(&mut self, meta: &Meta) {
        if meta.is_folder() {
            self.folders += 1;
        } else {
            self.files += 1;
            self.bytes += meta.size;
        }
    }

    pub(super) fn add(&mut self, other: Tally) {
        self.files += other.files;
        self.folders += other.folders;
        self.bytes += other.bytes;
    }
}

/// What both sides hold in a folder.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct FolderTally {
    /// At the left and at the right; `None` where the side has no such folder.
    pub sides: [Option<Tally>; 2],
    /// Entries in it and below that differ.
    pub differing: u64,
}

impl FolderTally {
    /// Whether the two sides of it differ.
    pub fn differs(&self) -> bool {
        self.differing > 0 || self.sides[0] != self.sides[1]
    }
}

/// What is shown of an entry at a side.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Face {
    /// File, folder, link or something else.
    pub kind: EntryKind,
    /// Bytes of a file.
    pub size: u64,
    /// When it was last changed, where the store knows.
    pub modified: Option<Stamp>,
}

impl From<&Meta> for Face {
    fn from(meta: &Meta) -> Face {
        Face { kind: meta.kind, size: meta.size, modified: meta.modified }
    }
}

/// An entry that is not the same on both sides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differing {
    /// Its path; of what moved, the one at the left.
    pub path: RelPath,
    /// How it differs.
    pub state: DiffState,
    /// What the left holds.
    pub left: Option<Face>,
    /// What the right holds.
    pub right: Option<Face>,
    /// Of what moved: its path at the right.
    pub right_path: Option<RelPath>,
    /// Files and links that it stands for: those in a folder that moved, none for another folder, else 1.
    pub items: u64,
}

impl Differing {
    /// Whether it is a folder, wherever it is.
    pub fn is_folder(&self) -> bool {
        let folder = |face: &Option<Face>| face.is_some_and(|face| face.kind == EntryKind::Folder);
        self.state != DiffState::Kind && (folder(&self.left) || folder(&self.right))
    }

    /// The larger of the two sizes: what would travel, or what has gone.
    pub fn size(&self) -> u64 {
        let size = |face: Option<Face>| face.map_or(0, |face| face.size);
        size(self.left).max(size(self.right))
    }
}

/// What comparing two trees came to.
#[derive(Debug, Default)]
pub struct Compared {
    /// What differs, by path.
    pub differences: Vec<Differing>,
    /// What each folder holds, by path, where that was asked for.
    pub folders: Vec<(RelPath, FolderTally)>,
    /// What each side holds altogether.
    pub totals: [Tally; 2],
    /// Files and links that are the same.
    pub same: u64,
    /// Entries that the filter leaves out, on either side, counted at the top: a folder that is out counts once.
    pub filtered: u64,
    /// What could not be looked at or read, and names that one side takes for one.
    pub problems: Vec<Problem>,
    /// What moved was not read, but taken for moved by its names, sizes and times.
    pub unproved: bool,
    /// Bytes that were read at each side.
    pub read: u64,
}

impl Compared {
    /// Whether nothing differs, as far as could be seen.
    pub fn is_equal(&self) -> bool {
        self.differences.is_empty()
    }

    /// Files and links that differ.
    pub fn different(&self) -> u64 {
        self.differences.iter().map(|one| one.items).sum()
    }

    /// Files and links in a state.
    pub fn count(&self, state: DiffState) -> u64 {
        self.differences.iter().filter(|one| one.state == state).map(|one| one.items).sum()
    }

    /// Folders that only one side has.
    pub fn folders_differing(&self) -> u64 {
        self.differences.iter().filter(|one| one.is_folder() && one.state != DiffState::Moved).count() as u64
    }
}
