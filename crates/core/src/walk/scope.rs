//! How much of two trees a walk looks at: all of it, or only folders in which something is known to have happened.
//!
//! Of a folder that both sides have, a walk within a scope takes nothing to have changed unless the scope names it, or something
//! below it. What only one side has is walked whole all the same: there everything is new, or everything goes. So what moved
//! between two named folders is found, as is a folder that came or went with all that is in it.
//!
//! What such a walk plans is part of what a walk through everything would plan. Its numbers are those of what it has seen; who
//! guards a run by them looks at everything when they seem too bad.

use std::collections::HashSet;

use crate::path::RelPath;

/// The folders that a walk looks at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Scope {
    /// All of them.
    #[default]
    Everything,
    /// Those in which something has happened.
    Within(Folders),
}

/// Some folders, and all that is above them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Folders(HashSet<RelPath>);

impl Folders {
    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &RelPath> {
        self.0.iter()
    }
}

impl Scope {
    /// Only these folders, themselves and not what is below them; what is on the way to them is looked at too.
    pub fn within<'a>(folders: impl IntoIterator<Item = &'a RelPath>) -> Scope {
        let mut all = HashSet::from([RelPath::root()]);
        for folder in folders {
            let mut folder = folder.clone();
            while !all.contains(&folder) {
                let above = folder.split().map_or_else(RelPath::root, |(above, _)| above);
                all.insert(std::mem::replace(&mut folder, above));
            }
        }
        Scope::Within(Folders(all))
    }

    /// Whether it is all of both trees.
    pub fn is_everything(&self) -> bool {
        *self == Scope::Everything
    }

    /// Whether a folder that both sides have is looked at.
    pub(crate) fn enters(&self, folder: &RelPath) -> bool {
        match self {
            Scope::Everything => true,
            Scope::Within(Folders(folders)) => folders.contains(folder),
        }
    }
}
