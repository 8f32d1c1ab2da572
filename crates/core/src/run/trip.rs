//! A file on its way from one side to the other.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::content::Hash;
use crate::entry::Meta;
use crate::path::RelPath;
use crate::run::headway::Headway;
use crate::store::error::{CopyError, FaultKind};
use crate::store::{Attributes, Content, Stage, Store};

/// How much of a file was there already, and how much has come.
#[derive(Debug, Clone, Copy)]
pub(super) struct Filled {
    pub(super) adopted: u64,
    pub(super) written: u64,
}

/// How much of a file came over, its content for a last look, and its hash where one was made.
pub(super) type Carried = (Filled, Box<dyn Content>, Option<Hash>);

/// A file on its way from one side to the other.
pub(super) struct Trip<'t> {
    pub(super) path: &'t RelPath,
    /// As it was when its content was opened.
    pub(super) before: &'t Meta,
    /// Under which an unfinished one is found again.
    pub(super) key: &'t str,
    /// Set as long as nobody has to wait for what is read.
    pub(super) free: &'t Arc<AtomicBool>,
    /// What arrived of it before a stop is worth to be gone on with.
    pub(super) resumable: bool,
}

impl Trip<'_> {
    /// Begins an unfinished file at the target, or takes up the one that an earlier run has left.
    pub(super) fn begin(
        &self,
        right: &dyn Store,
        wanted: &Attributes,
    ) -> crate::store::error::Result<Box<dyn Stage>> {
        if !self.resumable {
            return right.stage(self.path, wanted.mode);
        }
        match right.stage_resumable(self.path, self.key, self.before.size, wanted) {
            // Something that is no unfinished file of ours has the name: begin under another one.
            Err(error) if error.kind == FaultKind::Exists => right.stage(self.path, wanted.mode),
            staged => staged,
        }
    }
}

/// Adopts what an earlier run left, then takes the rest. `free` lets the reader go as fast as it can until then.
pub(super) fn fill(
    stage: &mut dyn Stage,
    content: &mut dyn Content,
    size: u64,
    (resumable, free): (bool, &AtomicBool),
    headway: &mut Headway<'_, '_>,
) -> Result<Filled, CopyError> {
    let adopted = if resumable { stage.adopt(content, &mut |bytes| headway.adopted(bytes))? } else { 0 };
    free.store(false, Ordering::Relaxed);
    let written = stage.fill(content, size.saturating_sub(adopted), &mut |bytes| headway.moved(bytes))?;
    Ok(Filled { adopted, written })
}
