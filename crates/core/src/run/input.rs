//! What a run takes, and what it gives.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use crossbeam_channel::Sender;

use crate::entry::{Meta, Side, Stamp};
use crate::job::{Preserve, Removed, Replaced, Verify};
use crate::limit::Throttle;
use crate::path::{Name, RESERVED_NAME, RelPath};
use crate::plan::Counts;
use crate::run::event::Event;
use crate::store::Store;
use crate::store::error::StoreError;

/// What the engine needs besides the plan.
pub struct RunInput<'a> {
    /// The side that is read.
    pub left: &'a dyn Store,
    /// The side that changes.
    pub right: &'a dyn Store,
    /// What is written is remembered by its size and time: small files are hashed while they are copied, and a version never has both
    /// in common with the one that it replaces.
    pub remembered: bool,
    /// Where removed files go.
    pub removed: Removed,
    /// Where replaced files go.
    pub replaced: Replaced,
    /// What of a tree is carried over.
    pub preserve: Preserve,
    /// What is read back.
    pub verify: Verify,
    /// The name of this run; kept copies go to `.reedhook/kept/RUN/`.
    pub run: Name,
    /// Whose run it is: written beside its kept copies, so that nobody else's retention takes them.
    pub owner: &'a str,
    /// Large files go on where an earlier run stopped, and leave their unfinished file for a later one. Not where a person's own
    /// folder is written to.
    pub resume: bool,
    /// What keeps the transfers below the job's bandwidth limit; `None` without one.
    pub limit: Option<Arc<Throttle>>,
    /// Who hears of the progress: events in their order, several at a time.
    pub events: &'a Sender<Vec<Event>>,
    /// Set to make the run stop soon, with everything whole.
    pub stop: &'a AtomicBool,
}

/// How a run ended.
#[derive(Debug)]
pub enum Ended {
    /// Everything was tried.
    Done,
    /// It was asked to stop.
    Interrupted,
    /// A store was lost.
    Lost(Side, StoreError),
}

/// What a run did.
#[derive(Debug)]
pub struct RunReport {
    /// The numbers, of what was really done.
    pub counts: Counts,
    /// How many folders were made; they are not among the files.
    pub folders_made: u64,
    /// How many folders were removed; they are not among the files.
    pub folders_removed: u64,
    /// Bytes of large files that were cut short: the next run goes on with them.
    pub unfinished: u64,
    /// How it ended.
    pub ended: Ended,
}

impl RunReport {
    /// That there was nothing to do.
    pub fn nothing(counts: Counts) -> RunReport {
        RunReport { counts, folders_made: 0, folders_removed: 0, unfinished: 0, ended: Ended::Done }
    }
}

/// Files of this size and above are resumed after an interruption: below it, proving what is there costs as much as copying.
pub const RESUME_FROM: u64 = 16 << 20;

/// What the name of a checkpoint has behind that of its unfinished file.
pub(super) const CHECKPOINT_SUFFIX: &str = "-upto";

/// What tells the unfinished file of a large file apart: its path, size and time. A source that has changed has another.
pub fn resume_key(path: &RelPath, from: &Meta) -> String {
    let modified = from.modified.map(Stamp::to_text).unwrap_or_default();
    let text = [path.as_bytes(), format!("\0{}\0{modified}", from.size).as_bytes()].concat();
    blake3::hash(&text).to_hex()[..16].to_owned()
}

/// The folder of a run's kept copies.
pub fn kept_folder(run: &Name) -> RelPath {
    kept_root().join(run)
}

/// The folder of all kept copies of a side.
pub fn kept_root() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/kept"].concat()).unwrap_or_default()
}
