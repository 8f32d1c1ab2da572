//! The lock-step walk: both trees, folder by folder, decided on the way.
//!
//! A folder is the unit of work. For one folder: list both sides, drop what the filter drops, merge by name, decide each
//! name. Folders are independent, so a few threads take them from a common stack; taking the newest first keeps the stack
//! short. What is the same is counted and forgotten.
//!
//! **What is not known is not removed.** A folder that could not be listed, or a name that could not be examined, leaves
//! its counterpart on the other side alone.

pub mod comparing;
pub(crate) mod findings;
pub(crate) mod given;
mod listing;
pub(crate) mod one_way;
pub(crate) mod pair;
pub(crate) mod progress;
mod queue;
pub(crate) mod refusals;
mod renames;
pub(crate) mod scan_input;
mod scope;
mod settle;
mod task;
pub mod two_way;

pub use self::listing::each_folder;
pub use self::pair::WalkObserver;
pub use crate::plan::moves::Moves;
pub use crate::walk::given::{Corruption, Fresh, OnSame};
pub use crate::walk::one_way::{PathDecision, decide_path, scan};
pub use crate::walk::progress::{ScanError, ScanProgress};
pub use crate::walk::refusals::{clash_words, why_not_held};
pub use crate::walk::scan_input::ScanInput;
pub use scope::{Folders, Scope};
