//! What the two-way walk reads, and what it gives.

pub use crate::walk::two_way::news::FolderNews;

use std::collections::BTreeMap;

use crate::baseline::Outgoing;
use crate::compare::Comparison;
use crate::entry::{Meta, Side, Stamp};
use crate::filter::Filter;
use crate::job::{Preserve, Removals};
use crate::memory::MemoryError;
use crate::path::RelPath;
use crate::plan::Plan;
use crate::plan::moves::Moves;
use crate::plan::two_way::{Known, Policies, Remembered, Settled, SideChange, Verdict};
use crate::store::Store;
use crate::walk::given::Corruption;
use crate::walk::pair::Pair;
use crate::walk::scope::Scope;

/// Tells what is remembered of a folder.
pub type Baseline<'a> = &'a (dyn Fn(&RelPath) -> std::result::Result<Remembered, MemoryError> + Sync);

/// What a two-way scan reads.
#[derive(Clone, Copy)]
pub struct TwoWayInput<'a> {
    /// The left side.
    pub left: &'a dyn Store,
    /// The right side.
    pub right: &'a dyn Store,
    /// What takes part.
    pub filter: &'a Filter,
    /// What is remembered.
    pub baseline: Baseline<'a>,
    /// The time by our clock, when the scan begins.
    pub now: Stamp,
    /// What an earlier run set out to remove, when it did not come to its end.
    pub outgoing: &'a Outgoing,
    /// Versions that earlier runs of this job have ended at both sides. Only of jobs that form a circle with others, where a version comes
    /// round again; it is told then and carried no further.
    pub ended: &'a BTreeMap<RelPath, Known>,
    /// How entries of the two are compared.
    pub by: Comparison,
    /// What of a tree is carried over.
    pub preserve: Preserve,
    /// What is done about removals.
    pub removals: Removals,
    /// What is done about conflicts.
    pub policies: &'a Policies,
    /// Leave out what is on another file system than the folder above it.
    pub one_filesystem: bool,
    /// What is done about files and folders that have another path.
    pub moves: Moves,
    /// The zone in which times are written into names.
    pub zone: &'a jiff::tz::TimeZone,
    /// Files whose content is not what their size and time say.
    pub corrupted: Corruption<'a>,
    /// How much of both trees is looked at. A part will do only when both agreed on something before, and no run was cut short since.
    pub scope: &'a Scope,
    /// Who else hears what is seen.
    pub observer: Option<&'a dyn crate::walk::WalkObserver>,
}

impl<'a> TwoWayInput<'a> {
    pub(super) fn pair(&self) -> Pair<'a> {
        Pair {
            left: self.left,
            right: self.right,
            filter: self.filter,
            changes: [true, true],
            observer: self.observer,
        }
    }

    pub(super) fn store(&self, side: Side) -> &'a dyn Store {
        self.pair().store(side)
    }
}

/// What a run of a two-way job would do.
#[derive(Debug)]
pub struct TwoWayPlan {
    /// Renames that come first: versions that make room for the winner of a conflict. One plan for each side.
    pub aside: [Plan; 2],
    /// What changes at the right.
    pub to_right: Plan,
    /// What changes at the left.
    pub to_left: Plan,
    /// Paths that both sides have changed differently.
    pub conflicts: Vec<Conflict>,
    /// What is to be remembered.
    pub news: Vec<FolderNews>,
}

/// A path that both sides have changed differently.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflict {
    /// Relative to the root of its side.
    pub path: RelPath,
    /// What the left holds.
    pub left: Meta,
    /// What the right holds.
    pub right: Meta,
    /// What is done about it.
    pub settled: Settled,
}

/// What has happened to one name at each side, and what is done about it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Decided {
    /// At the left.
    pub left: SideChange,
    /// At the right.
    pub right: SideChange,
    /// What a run would do.
    pub verdict: Verdict,
}

/// How the names of a folder are decided.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Mode {
    /// By what has changed.
    Reconcile,
    /// This side's version takes the place of the other's, whatever has changed: it won a conflict, or the other side had not
    /// changed what it held there.
    Take(Side),
}
