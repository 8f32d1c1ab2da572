//! After a two-way run: a look at what was worked on, and what to remember of it.
//!
//! Nothing is remembered because it was planned or reported. A name enters the baseline only when both sides are seen to agree
//! on it, so a run that is killed, or a file that somebody changes in the meantime, leaves the old memory standing, and the next
//! run compares anew.

use std::collections::{HashMap, HashSet};

use crate::compare::{Comparison, Difference, compare};
use crate::content::Hash;
use crate::entry::Meta;
use crate::path::{Name, RelPath};
use crate::plan::two_way::Known;
use crate::record::FolderUpdate;
use crate::store::{FaultKind, Result, Store};
use crate::walk::two_way::FolderNews;

/// What to remember after a run. `hashes` tells the content of files that the run wrote and hashed.
///
/// # Errors
/// When a store is lost.
pub fn learn(
    news: &[FolderNews],
    (left, right): (&dyn Store, &dyn Store),
    by: &Comparison,
    hashes: &HashMap<RelPath, Hash>,
) -> Result<Vec<FolderUpdate>> {
    let mut forgotten = Vec::new();
    let mut remembered = Vec::new();
    for FolderNews { folder, known, open } in news {
        let asked: HashSet<&Name> = open.iter().map(|open| &open.name).collect();
        let (before, mut now): (Vec<Known>, Vec<Known>) =
            known.iter().cloned().partition(|known| asked.contains(&known.name));
        for one in open {
            let path = folder.join(&one.name);
            let old = before.binary_search_by(|known| known.name.cmp(&one.name)).ok().map(|at| &before[at]);
            let hash = hashes.get(&path).copied().or(one.hash);
            let new = match (look(left, &path)?, look(right, &path)?) {
                (Found::Nothing, Found::Nothing) => None,
                (Found::This(left), Found::This(right)) if agree(&left, &right, by) => {
                    Known::of(&one.name, &left, &right, hash)
                }
                _ => old.cloned(),
            };
            if old.is_some_and(Known::is_folder) && !new.as_ref().is_some_and(Known::is_folder) {
                forgotten.push((path, None));
            }
            now.extend(new);
        }
        now.sort_by(|a, b| a.name.cmp(&b.name));
        // A folder of which no name is known has none below it that is.
        remembered.push((folder.clone(), Some(now).filter(|now| !now.is_empty())));
    }
    // First what goes with its whole tree, then what is there.
    forgotten.extend(remembered);
    Ok(forgotten)
}

enum Found {
    Nothing,
    This(Meta),
    Unclear,
}

fn look(store: &dyn Store, path: &RelPath) -> Result<Found> {
    match store.stat(path) {
        Ok(Some(meta)) => Ok(Found::This(meta)),
        Ok(None) => Ok(Found::Nothing),
        Err(error) if error.kind == FaultKind::Lost => Err(error),
        Err(_) => Ok(Found::Unclear),
    }
}

/// The same rule by which a scan takes two entries for the same. Modes may differ where one could not be set.
fn agree(left: &Meta, right: &Meta, by: &Comparison) -> bool {
    matches!(compare(left, right, by), Difference::None | Difference::Metadata)
}
