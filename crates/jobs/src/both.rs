//! Both sides of a two-way job, as they were found.

use std::sync::Arc;

use reedhook_core::plan::two_way::Settled;
use reedhook_core::store::Store;
use reedhook_core::walk::two_way::{Conflict, FolderNews};

/// What a round of a two-way job has besides its destinations.
pub struct Both {
    /// The left side.
    pub left: Arc<dyn Store>,
    /// The right side.
    pub right: Arc<dyn Store>,
    /// Paths that both sides have changed differently.
    pub conflicts: Vec<Conflict>,
    /// What is to be remembered after the run.
    pub(crate) news: Vec<FolderNews>,
}

impl Both {
    /// Whether something else is to be remembered afterwards.
    pub(crate) fn has_news(&self) -> bool {
        !self.news.is_empty()
    }

    /// The conflicts that nobody has settled.
    pub fn held(&self) -> impl Iterator<Item = &Conflict> {
        self.conflicts.iter().filter(|conflict| conflict.settled == Settled::Held)
    }
}
