//! One tree, folder by folder, on as many threads as its store can use: for whoever wants to know what is there, and compares nothing.

use std::sync::atomic::Ordering;

use super::queue::visit_all;
use crate::entry::Entry;
use crate::path::{RESERVED_NAME, RelPath};
use crate::store::error::Result;
use crate::store::{Listing, Store};
use crate::walk::progress::{ScanError, ScanProgress};

/// Lists the root and everything below it; `each` hears of every folder, from any thread, in no certain order. What is Reedhook's own
/// (`.reedhook/`, unfinished files) is left out wherever it is: a side may have its root below this one. A folder that cannot be listed is heard of too, and nothing below it is.
///
/// # Errors
/// When it is to stop, or a worker fails.
pub fn each_folder(
    store: &dyn Store,
    progress: &ScanProgress,
    each: &(dyn Fn(&RelPath, Result<Listing>) + Sync),
) -> std::result::Result<(), ScanError> {
    let visit = |_: &mut (), folder: RelPath| {
        let listing = store.list(&folder).map(|mut listing| {
            listing.entries.retain(|Entry { name, .. }| name.as_bytes() != RESERVED_NAME && !name.is_part());
            listing.entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
            listing
        });
        let mut below: Vec<RelPath> = Vec::new();
        if let Ok(listing) = &listing {
            progress.folders.fetch_add(1, Ordering::Relaxed);
            progress.entries.fetch_add(listing.entries.len() as u64, Ordering::Relaxed);
            let folders = listing.entries.iter().filter(|entry| entry.meta.is_folder());
            below.extend(folders.map(|entry| folder.join(&entry.name)));
        }
        each(&folder, listing);
        // The stack gives back the last first: the tree is walked in the order of its names, as far as threads have an order.
        below.reverse();
        Ok(below)
    };
    visit_all((store, store), RelPath::root(), progress, visit).map(drop)
}
