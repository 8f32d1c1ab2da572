//! What one worker of a walk found.

use crate::entry::{FileId, Meta};
use crate::path::{Name, RelPath};
use crate::plan::{FolderPlan, Plan};

/// What one worker found; merged at the end, so that workers share nothing but the stack.
#[derive(Debug, Default)]
pub(super) struct WorkerFindings {
    pub(super) folders: Vec<Visited>,
    pub(super) plan: Plan,
    pub(super) named: Vec<SeveralNames>,
}

/// One of several names of a file on the left.
#[derive(Debug)]
pub(super) struct SeveralNames {
    pub(super) id: FileId,
    pub(super) folder: RelPath,
    pub(super) name: Name,
    pub(super) left: Meta,
    /// The file or link that has the name on the right.
    pub(super) right: Option<Meta>,
    /// The right file holds the same.
    pub(super) same: bool,
    /// It is brought, or there already; what is left on purpose or impossible is no second name of anything.
    pub(super) brought: bool,
}

/// A folder's plan with what is needed to settle its fate once everything below it is known.
#[derive(Debug)]
pub(super) struct Visited {
    pub(super) plan: FolderPlan,
    /// The filter lets the folder itself take part, not only something below it.
    pub(super) chosen: bool,
    /// Something in it stays where it is (filtered out, unknown, or a folder that stays).
    pub(super) stays: bool,
    /// A folder directly in it is made or removed, which changes its time.
    pub(super) touched: bool,
}
