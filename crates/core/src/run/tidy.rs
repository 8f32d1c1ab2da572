//! Clearing what runs that were cut short have left where no walk looks: in Reedhook's own folder, and in what the filter
//! leaves out, because the run that left it had another filter.
//!
//! All other unfinished files are found by the walk itself, and cleared by the run that follows.

use std::sync::atomic::{AtomicBool, Ordering};

use crate::entry::Meta;
use crate::filter::{Filter, Inherited, Verdict};
use crate::path::{RESERVED_NAME, RelPath};
use crate::store::Store;
use crate::store::error::{FaultKind, Result};
use crate::walk::pair::is_root_of_another;

/// The folder in Reedhook's own in which it was being tried what the store can hold.
pub const TRIAL: &[u8] = b"trial";

/// Clears unfinished files in Reedhook's own folder. Whoever calls this holds the store's lock: nobody else is writing there.
///
/// # Errors
/// When the store is lost. A leftover that cannot be cleared harms nobody, and the next run tries again.
pub fn clear_own(store: &dyn Store) -> Result<()> {
    /// The folders in it that are written to with a name at the end.
    const WRITTEN: [&[u8]; 3] = [b"last", b"owners", b"partners"];
    let own = RelPath::reserved();
    let mut folders = vec![own.clone()];
    let mut trial = None;
    while let Some(folder) = folders.pop() {
        let Some(listing) = unless_lost(store.list(&folder))? else { continue };
        for entry in listing.entries {
            let path = folder.join(&entry.name);
            if entry.name.is_passing() && !entry.meta.is_folder() {
                unless_lost(store.remove(&path, &entry.meta))?;
            } else if folder.file_name() == Some(TRIAL) {
                clear_trial(store, &path, &entry.meta)?;
            } else if folder == own && entry.name.as_bytes() == TRIAL && entry.meta.is_folder() {
                folders.push(path.clone());
                trial = Some(path);
            } else if folder == own && WRITTEN.contains(&entry.name.as_bytes()) {
                folders.push(path);
            }
        }
    }
    match trial {
        Some(trial) => unless_lost(store.remove_folder(&trial)).map(drop),
        None => Ok(()),
    }
}

fn clear_trial(store: &dyn Store, path: &RelPath, meta: &Meta) -> Result<()> {
    let removed = if meta.is_folder() { store.remove_folder(path) } else { store.remove(path, meta) };
    unless_lost(removed).map(drop)
}

/// Clears unfinished files in what a filter leaves out of a tree. Roots of other jobs are left alone.
///
/// # Errors
/// When the store is lost.
pub fn clear_out_of_sight(store: &dyn Store, filter: &Filter, stop: &AtomicBool) -> Result<()> {
    /// A folder that is still to be looked into; `None` when it is out itself.
    type Below = (RelPath, Option<Inherited>);
    let mut folders: Vec<Below> = vec![(RelPath::root(), Some(filter.root()))];
    while let Some((folder, inherited)) = folders.pop() {
        if stop.load(Ordering::Relaxed) {
            return Ok(());
        }
        let Some(listing) = unless_lost(store.list(&folder))? else { continue };
        if is_root_of_another(store, &folder, &listing.entries) {
            continue;
        }
        for entry in listing.entries {
            let path = folder.join(&entry.name);
            let below = inherited.and_then(|inherited| {
                match filter.judge(&folder, &entry.name, &entry.meta, inherited) {
                    Verdict::Out(_) => None,
                    verdict => Some(filter.inherit(verdict)),
                }
            });
            let is_own = folder.is_root() && entry.name.as_bytes() == RESERVED_NAME;
            if entry.meta.is_folder() && !is_own {
                folders.push((path, below));
            } else if inherited.is_none() && entry.name.is_part() {
                unless_lost(store.remove(&path, &entry.meta))?;
            }
        }
    }
    Ok(())
}

/// What came of it; only a lost store is an error.
fn unless_lost<T>(outcome: Result<T>) -> Result<Option<T>> {
    match outcome {
        Err(error) if error.kind == FaultKind::Lost => Err(error),
        outcome => Ok(outcome.ok()),
    }
}
