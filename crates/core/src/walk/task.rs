//! A folder that is to be visited.

use crate::entry::{Meta, Side};
use crate::filter::Inherited;
use crate::path::RelPath;
use crate::store::Store;
use crate::store::error::Result;
use crate::walk::progress::ScanError;
use crate::walk::scan_input::ScanInput;

pub(in crate::walk) fn root_task(input: &ScanInput<'_>) -> Result<Task, ScanError> {
    let examine =
        |store: &dyn Store, side| store.stat(&RelPath::root()).map_err(|error| ScanError::Store(side, error));
    let on_both = (examine(input.left, Side::Left)?, examine(input.right, Side::Right)?);
    Ok(Task::of(RelPath::root(), on_both, input.filter.root()))
}

/// One folder to look at: on both sides, or on one.
#[derive(Debug)]
pub(in crate::walk) struct Task {
    pub(in crate::walk) path: RelPath,
    /// Where it is at the right now: under another spelling, perhaps.
    pub(in crate::walk) right_at: RelPath,
    pub(in crate::walk) left: Option<Meta>,
    pub(in crate::walk) right: Option<Meta>,
    pub(in crate::walk) inherited: Inherited,
    /// The filter lets the folder itself take part, not only something below it.
    pub(in crate::walk) chosen: bool,
    /// Another file system is mounted there, whose content is no part of the job: only the folder itself is.
    pub(in crate::walk) hollow: bool,
    /// It is, or lies in, a folder that is itself the root of another job's side: unfinished files there are that job's.
    pub(in crate::walk) anothers: bool,
}

impl Task {
    /// A folder that has one spelling everywhere, and takes part.
    pub(in crate::walk) fn of(
        path: RelPath,
        (left, right): (Option<Meta>, Option<Meta>),
        inherited: Inherited,
    ) -> Task {
        let right_at = path.clone();
        Task { path, right_at, left, right, inherited, chosen: true, hollow: false, anothers: false }
    }
}
