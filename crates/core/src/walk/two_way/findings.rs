//! What one worker of the two-way walk found.

use crate::entry::Meta;
use crate::path::RelPath;
use crate::plan::Action;
use crate::problem::Problem;
use crate::walk::two_way::input::{Conflict, Mode};
use crate::walk::two_way::news::FolderNews;

/// A folder with all that was decided in it.
#[derive(Debug)]
pub(super) struct Visited {
    pub(super) path: RelPath,
    pub(super) left: Option<Meta>,
    pub(super) right: Option<Meta>,
    /// It was on both sides: where it is missing now, it has been removed.
    pub(super) known: bool,
    pub(super) chosen: bool,
    pub(super) mode: Mode,
    pub(super) actions: Vec<Action>,
    /// The mode that a folder on both sides is to have, when they differ.
    pub(super) mode_wanted: Option<u32>,
    /// Something that it holds at a side stays there.
    pub(super) remains: [bool; 2],
}

/// What one worker found.
#[derive(Debug, Default)]
pub(super) struct WorkerFindings {
    pub(super) visited: Vec<Visited>,
    pub(super) aside: Vec<(RelPath, Action)>,
    pub(super) conflicts: Vec<Conflict>,
    pub(super) news: Vec<FolderNews>,
    pub(super) problems: Vec<Problem>,
    pub(super) leftovers: [Vec<(RelPath, Meta)>; 2],
    pub(super) items: [u64; 2],
    pub(super) same: u64,
    pub(super) skipped: u64,
    pub(super) shifted: u64,
    pub(super) beyond: u64,
    pub(super) filtered: u64,
    pub(super) folders: u64,
}
