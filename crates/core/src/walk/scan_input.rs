//! What a one-way walk reads.

use crate::filter::Filter;
use crate::plan::moves::Moves;
use crate::plan::one_way::OneWayRules;
use crate::store::Store;
use crate::walk::given::{Corruption, Fresh, OnSame};
use crate::walk::pair::{Pair, WalkObserver};
use crate::walk::scope::Scope;

/// What a scan reads.
#[derive(Clone, Copy)]
pub struct ScanInput<'a> {
    /// The source.
    pub left: &'a dyn Store,
    /// The destination.
    pub right: &'a dyn Store,
    /// What takes part.
    pub filter: &'a Filter,
    /// How paths are decided.
    pub rules: OneWayRules,
    /// Leave out what is on another file system than the folder above it.
    pub one_filesystem: bool,
    /// Hears of every file that is the same on both sides by size and time; called by the scan's workers.
    pub on_same: Option<OnSame<'a>>,
    /// What is done about files and folders that have another path.
    pub moves: Moves,
    /// Files whose content is not what their size and time say.
    pub corrupted: Corruption<'a>,
    /// Files whose times cannot tell.
    pub fresh: Fresh<'a>,
    /// How much of both trees is looked at.
    pub scope: &'a Scope,
    /// Who else hears what is seen.
    pub observer: Option<&'a dyn WalkObserver>,
}

impl<'a> ScanInput<'a> {
    pub(in crate::walk) fn pair(&self) -> Pair<'a> {
        Pair {
            left: self.left,
            right: self.right,
            filter: self.filter,
            changes: [false, true],
            observer: self.observer,
        }
    }
}
