//! What is staged, until it is made durable and published.

use crate::content::Hash;
use crate::entry::{EntryKind, Meta};
use crate::run::event::{Done, Mark};
use crate::store::{Expect, Sealed};

/// A sealed file with what its publication needs.
pub(super) struct Pending {
    pub(super) sealed: Sealed,
    pub(super) done: Done,
    pub(super) stands: Option<(EntryKind, u64)>,
    pub(super) expect: Expect,
    pub(super) keep: bool,
    pub(super) size: u64,
    /// How much of it this run has brought.
    pub(super) written: u64,
    pub(super) now: Mark,
    /// The source as it was read, where what is written was given another time.
    pub(super) apart: Option<Box<Meta>>,
    /// What was read at the source, when it is to be verified.
    pub(super) hash: Option<Hash>,
}

/// A file or link that is ready to be published.
pub(super) struct Staged {
    pub(super) sealed: Sealed,
    pub(super) size: u64,
    pub(super) written: u64,
    pub(super) now: Mark,
    pub(super) apart: Option<Box<Meta>>,
    pub(super) hash: Option<Hash>,
}

#[derive(Default)]
pub(super) struct Batch {
    pub(super) pending: Vec<Pending>,
    pub(super) bytes: u64,
}
