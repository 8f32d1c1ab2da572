//! What of a folder is not remembered yet.

use crate::content::Hash;
use crate::entry::{Side, Stamp};
use crate::path::{Name, RelPath};
use crate::plan::two_way::Known;
use crate::run::Mark;

/// A folder of which something else is to be remembered than before.
#[derive(Debug, Clone, PartialEq)]
pub struct FolderNews {
    /// Relative to the root, on both sides.
    pub folder: RelPath,
    /// What holds already.
    pub known: Vec<Known>,
    /// Since when that holds of what does not say otherwise itself.
    pub looked: Option<Stamp>,
    /// Names about which only a look after the run can tell; what was known of them is in `known`.
    pub open: Vec<Open>,
}

/// A name to be looked at after the run.
#[derive(Debug, Clone, PartialEq)]
pub struct Open {
    /// One part of a path, as bytes.
    pub name: Name,
    /// The hash of its content, where that stays as it was.
    pub hash: Option<Hash>,
    /// What was to be put at this side: its size, and the time and mode at the other.
    pub planned: Option<(Side, u64, Mark)>,
}
