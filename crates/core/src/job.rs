//! A job's choices, as typed values. Where they are written down is the command line's business.

use crate::filter::FilterSpec;
use crate::limit::Limits;
use crate::units::{Age, Room, Share, keywords};

keywords! {
    /// What a job does with its two sides.
    pub enum Kind {
        /// The right becomes as the left; extras are removed.
        Mirror = "mirror",
        /// New and changed files go over; nothing is ever removed.
        Copy = "copy",
        /// What was done at one side is done at the other.
        TwoWay = "two-way",
    }
}

impl Kind {
    /// One sentence for a person who has to choose, with what happens to removals.
    pub fn explained(self) -> &'static str {
        match self {
            Kind::Mirror => {
                "makes the right like the left; what is only on the right is removed there (a copy is kept)"
            }
            Kind::Copy => "brings new and changed files to the right; nothing is ever removed",
            Kind::TwoWay => {
                "keeps both sides alike: what is new, changed or removed at one becomes so at the other (a copy is kept)"
            }
        }
    }
}

keywords! {
    /// What a copy does about a file that is newer at its destination.
    pub enum Newer {
        /// Leave it and report it.
        Leave = "leave",
        /// Update it all the same.
        Update = "update",
    }
}

keywords! {
    /// What a two-way job does when both sides have changed the same path.
    pub enum ConflictPolicy {
        /// Leaves both as they are until a person settles it.
        Hold = "hold",
        /// Takes the later one.
        Newest = "newest",
        /// Takes the left one.
        Left = "left",
        /// Takes the right one.
        Right = "right",
        /// Keeps both, the older one under a name of its own.
        Both = "both",
    }
}

keywords! {
    /// What a two-way job does about what was removed at one side.
    pub enum Removals {
        /// Removes it at the other side too.
        Carry = "carry",
        /// Leaves it at the other side.
        Ignore = "ignore",
    }
}

keywords! {
    /// Where removed files go.
    pub enum Removed {
        /// To the kept copies at the root of the side they came from.
        Keep = "keep",
        /// To the desktop's trash, by the FreeDesktop specification; local places only.
        Trash = "trash",
        /// Nowhere: they are erased.
        Erase = "erase",
    }
}

keywords! {
    /// Where replaced files go.
    pub enum Replaced {
        /// To the kept copies at the root of the side they came from.
        Keep = "keep",
        /// Nowhere: they are erased.
        Erase = "erase",
    }
}

keywords! {
    /// What of a tree is carried over.
    pub enum Preserve {
        /// Data and times.
        Content = "content",
        /// That, modes and links.
        Standard = "standard",
        /// That, owners, groups, extended attributes with access control lists, second names, devices and pipes.
        Full = "full",
    }
}

keywords! {
    /// What is done about names that a place cannot hold.
    pub enum OddNames {
        /// Each is a problem, and left where it is.
        Report = "report",
        /// They are spelled there in a way that can be read back: percent-encoding (RFC 3986) of what is refused.
        Encode = "encode",
    }
}

keywords! {
    /// How owners are carried between machines; on one machine both are the same.
    pub enum Owners {
        /// By name.
        Names = "names",
        /// By number.
        Numbers = "numbers",
    }
}

keywords! {
    /// What is read back to make sure that it arrived.
    pub enum Verify {
        /// Nothing.
        None = "none",
        /// What a run wrote, before it takes its place.
        Changed = "changed",
        /// That, and after the run every file on both sides.
        All = "all",
    }
}

/// Everything that shapes a run, apart from where the sides are.
#[derive(Debug, Clone, PartialEq)]
pub struct JobRules {
    /// Mirror or copy.
    pub kind: Kind,
    /// What takes part.
    pub filter: FilterSpec,
    /// What a copy does about newer files at the destination.
    pub newer: Newer,
    /// What a two-way job does about conflicts: paths that match, in this order, then the others.
    pub conflict: Conflicts,
    /// What a two-way job does about removals.
    pub removals: Removals,
    /// Where removed files go.
    pub removed: Removed,
    /// Where replaced files go.
    pub replaced: Replaced,
    /// How long kept copies stay.
    pub keep_for: Age,
    /// How much room kept copies may take at the destination.
    pub keep_max: Room,
    /// What of a tree is carried over.
    pub preserve: Preserve,
    /// What is done about names that a place cannot hold.
    pub odd_names: OddNames,
    /// How owners are carried between machines.
    pub owners: Owners,
    /// Whether other file systems mounted below the source are left out.
    pub one_filesystem: bool,
    /// What is read back.
    pub verify: Verify,
    /// The guard against mass removal.
    pub max_removals: Share,
    /// The guard against mass change.
    pub max_changes: Share,
    /// How fast content may travel.
    pub limit: Limits,
    /// Give way to other work on the machine.
    pub polite: bool,
}

impl JobRules {
    /// The same, where whatever has to go can be had back: what is brought back from the other side may take the place of something
    /// newer.
    pub fn erasing_nothing(mut self) -> JobRules {
        self.replaced = Replaced::Keep;
        if self.removed == Removed::Erase {
            self.removed = Removed::Keep;
        }
        self
    }
}

/// What is done about conflicts, by path.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflicts {
    /// Filter lines, each with the policy for what it matches; the first that matches holds.
    pub by_path: Vec<(String, ConflictPolicy)>,
    /// The policy for everything else.
    pub otherwise: ConflictPolicy,
}
