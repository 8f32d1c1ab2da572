//! The plan: everything a run would do, as data. A preview prints it; the engine carries it out.
//!
//! A plan lists the folders in which something happens, each with its actions. What is the same on both sides is counted
//! and forgotten, so a plan is as large as the change, never as the tree.

pub mod guard;
pub mod moves;
pub mod narrow;
pub mod one_way;
pub mod two_way;

use crate::entry::{Meta, Side};
use crate::path::{Name, RelPath};
use crate::problem::Problem;
use one_way::LeaveReason;

/// What happens to a folder itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It exists and stays.
    Stay,
    /// It is made.
    Make,
    /// It is removed once it is empty.
    Remove,
}

/// What happens to one file, link or special file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Put it where nothing is.
    Add {
        /// What to put there.
        from: Meta,
    },
    /// Put it in the place of another file or link.
    Update {
        /// What to put there.
        from: Meta,
        /// What is there now.
        was: Box<Meta>,
    },
    /// Make it a second name of another file of the tree.
    SecondName {
        /// What it is.
        from: Meta,
        /// The file, which is in place by then.
        of: RelPath,
        /// What is there now.
        was: Option<Box<Meta>>,
    },
    /// Rename it: it stands elsewhere, and nothing stands here.
    Move {
        /// Where it stands.
        from: RelPath,
        /// What it is at the side that is read.
        to: Meta,
        /// What it is where it stands.
        was: Box<Meta>,
    },
    /// Rename a whole folder with what it holds.
    MoveFolder {
        /// Where it stands.
        from: RelPath,
        /// How many files and links go along.
        items: u64,
    },
    /// Give its name another spelling, where the store takes both for one.
    Respell {
        /// Where it stands.
        from: RelPath,
        /// What it is.
        was: Box<Meta>,
    },
    /// Give it other metadata.
    Metadata {
        /// Where the metadata comes from.
        from: Meta,
        /// What is there now.
        was: Box<Meta>,
    },
    /// Remove it.
    Remove {
        /// What is there now.
        was: Meta,
    },
    /// Leave it on purpose.
    Leave {
        /// What would have been put there.
        from: Meta,
        /// Why it is not.
        reason: LeaveReason,
    },
}

impl Step {
    /// Whether it puts something where nothing stands by then, from elsewhere: what stands there now has to go first.
    pub fn fills(&self) -> bool {
        matches!(self, Step::Add { .. } | Step::SecondName { was: None, .. })
    }
}

/// One step for one name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Action {
    /// The name in its folder.
    pub name: Name,
    /// The side that changes.
    pub side: Side,
    /// What happens.
    pub step: Step,
    /// Whether there is more to it.
    pub role: Role,
    /// Of an addition: what stood at the name before, though nothing does any more. Others may remember it.
    pub instead_of: Option<Box<Meta>>,
}

/// What makes an action of a two-way job more than an ordinary one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Role {
    /// Nothing does.
    #[default]
    Plain,
    /// What it puts there had been removed there: a removal never beats a change.
    Revived,
    /// What it takes away lost a conflict: it is kept, whatever the job says about replaced and removed files.
    Loser,
    /// It makes room for the version that wins: the side that is read says nothing about it.
    Aside,
}

/// A folder in which something happens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderPlan {
    /// Relative to the root of its side.
    pub path: RelPath,
    /// What happens to the folder itself.
    pub fate: Fate,
    /// The folder at the left.
    pub left: Option<Meta>,
    /// The folder at the right.
    pub right: Option<Meta>,
    /// Whether its mode differs and is to be set.
    pub remode: bool,
    /// What happens to what it holds directly, by name.
    pub actions: Vec<Action>,
}

impl FolderPlan {
    /// Whether there is anything to do about it, be it only its time.
    pub fn says_something(&self) -> bool {
        let on_both = self.left.is_some() && self.right.is_some();
        self.fate != Fate::Stay || !self.actions.is_empty() || on_both
    }
}

/// The numbers of a plan or a run. Files and links are counted; folders are not.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Put where nothing was.
    pub added: u64,
    /// Put in the place of something else.
    pub updated: u64,
    /// Renamed on the other side.
    pub moved: u64,
    /// Files and links that went; folders are not counted.
    pub removed: u64,
    /// Given other metadata (folders with another mode included).
    pub meta: u64,
    /// Left on purpose.
    pub skipped: u64,
    /// Held conflicts.
    pub conflicts: u64,
    /// Conflicts that a policy decided.
    pub settled: u64,
    /// The same on both sides.
    pub same: u64,
    /// What could not be done.
    pub problems: u64,
    /// Bytes of content written.
    pub bytes: u64,
}

impl Counts {
    /// Adds another run's numbers.
    pub fn add(&mut self, other: &Counts) {
        for (mine, theirs) in self.fields_mut().into_iter().zip(other.fields()) {
            *mine += theirs;
        }
    }

    /// The names of the numbers, in the order of [`Counts::fields`].
    pub const NAMES: [&'static str; 11] = [
        "added",
        "updated",
        "moved",
        "removed",
        "meta",
        "skipped",
        "conflicts",
        "settled",
        "same",
        "problems",
        "bytes",
    ];

    /// The numbers, in the order of [`Counts::NAMES`].
    pub fn fields(&self) -> [u64; 11] {
        let c = self;
        [
            c.added,
            c.updated,
            c.moved,
            c.removed,
            c.meta,
            c.skipped,
            c.conflicts,
            c.settled,
            c.same,
            c.problems,
            c.bytes,
        ]
    }

    fn fields_mut(&mut self) -> [&mut u64; 11] {
        let c = self;
        [
            &mut c.added,
            &mut c.updated,
            &mut c.moved,
            &mut c.removed,
            &mut c.meta,
            &mut c.skipped,
            &mut c.conflicts,
            &mut c.settled,
            &mut c.same,
            &mut c.problems,
            &mut c.bytes,
        ]
    }

    /// The numbers from the order of [`Counts::NAMES`].
    pub fn from_fields(fields: [u64; 11]) -> Counts {
        let mut counts = Counts::default();
        for (mine, value) in counts.fields_mut().into_iter().zip(fields) {
            *mine = value;
        }
        counts
    }

    /// Everything that changes, in one number.
    pub fn changed(&self) -> u64 {
        self.added + self.updated + self.moved + self.removed + self.meta + self.settled
    }

    /// Counts one action.
    fn count(&mut self, step: &Step) {
        if let Step::Add { from } | Step::Update { from, .. } = step {
            self.bytes += from.size;
        }
        match step {
            Step::Add { .. } | Step::SecondName { was: None, .. } => self.added += 1,
            Step::Update { .. } | Step::SecondName { was: Some(_), .. } => self.updated += 1,
            Step::Move { .. } | Step::Respell { .. } => self.moved += 1,
            Step::MoveFolder { items, .. } => self.moved += items,
            Step::Metadata { .. } => self.meta += 1,
            Step::Remove { .. } => self.removed += 1,
            Step::Leave { .. } => self.skipped += 1,
        }
    }
}

/// What a scan of both sides found to do.
///
/// In it, left is the side that is read and right the side that changes. A two-way job has a plan for each direction; what the
/// sides are really called is told by [`Plan::changes`].
#[derive(Debug, Clone)]
pub struct Plan {
    /// The side that changes.
    pub changes: Side,
    /// The folders in which something happens, from the top down.
    pub folders: Vec<FolderPlan>,
    /// Files and links that are the same on both sides.
    pub same: u64,
    /// Conflicts that are held.
    pub held: u64,
    /// Conflicts that a policy has decided.
    pub settled: u64,
    /// What could not be examined or is impossible.
    pub problems: Vec<Problem>,
    /// Unfinished files of earlier runs at the right, to be cleared.
    pub leftovers: Vec<(RelPath, Meta)>,
    /// Files and links at the left that take part.
    pub left_items: u64,
    /// Files and links at the right that take part.
    pub right_items: u64,
    /// Entries that the filter leaves out, counted at the top: a folder that is out counts once.
    pub filtered: u64,
    /// Folders that take part, at the left.
    pub folders_seen: u64,
    /// Files that differ only as they do where one side keeps local time: their times are set right.
    pub shifted: u64,
    /// Entries that both sides have, of which one is left out for its size or age: they are not carried any more.
    pub beyond: u64,
    /// Files whose times could not tell, at this look, whether they were saved once more, sorted; see [`crate::fresh`]. What was
    /// known as that and has to be read again is among them.
    pub fresh: Vec<RelPath>,
    /// Files that were known as that, and are the same by content now, long enough after they were saved.
    pub proved: Vec<RelPath>,
    /// It has moves that nobody has proved by reading both files: it can be shown, but is never carried out.
    pub unproved: bool,
}

impl Default for Plan {
    fn default() -> Plan {
        Plan::changing(Side::Right)
    }
}

impl Plan {
    /// An empty plan that changes this side.
    pub fn changing(side: Side) -> Plan {
        Plan {
            changes: side,
            folders: Vec::new(),
            same: 0,
            held: 0,
            settled: 0,
            problems: Vec::new(),
            leftovers: Vec::new(),
            left_items: 0,
            right_items: 0,
            filtered: 0,
            folders_seen: 0,
            shifted: 0,
            beyond: 0,
            fresh: Vec::new(),
            proved: Vec::new(),
            unproved: false,
        }
    }

    /// Says which side it really is that changes.
    pub fn set_changes(&mut self, side: Side) {
        self.changes = side;
        let actions = self.folders.iter_mut().flat_map(|folder| &mut folder.actions);
        actions.for_each(|action| action.side = side);
    }

    /// What happens to single names, in every folder.
    pub fn actions(&self) -> impl Iterator<Item = &Action> {
        self.folders.iter().flat_map(|folder| &folder.actions)
    }

    /// What it comes to.
    pub fn counts(&self) -> Counts {
        let remoded = self.folders.iter().filter(|folder| folder.remode).count();
        let mut counts = Counts {
            meta: remoded as u64,
            conflicts: self.held,
            settled: self.settled,
            same: self.same,
            problems: self.problems.len() as u64,
            ..Counts::default()
        };
        self.actions().for_each(|action| counts.count(&action.step));
        counts
    }

    /// Bytes that what is replaced or removed holds now.
    pub fn bytes_set_aside(&self) -> u64 {
        let set_aside = |action: &Action| match &action.step {
            Step::Update { was, .. } => was.size,
            Step::Remove { was } => was.size,
            _ => 0,
        };
        self.actions().map(set_aside).sum()
    }

    /// Whether a run would find nothing to do (apart from problems and folder times).
    pub fn is_empty(&self) -> bool {
        self.counts().changed() == 0 && self.folders_made() == 0 && self.folders_removed() == 0
    }

    /// How many folders are made.
    pub fn folders_made(&self) -> u64 {
        self.with_fate(Fate::Make)
    }

    /// How many folders are removed.
    pub fn folders_removed(&self) -> u64 {
        self.with_fate(Fate::Remove)
    }

    fn with_fate(&self, fate: Fate) -> u64 {
        self.folders.iter().filter(|folder| folder.fate == fate).count() as u64
    }
}
