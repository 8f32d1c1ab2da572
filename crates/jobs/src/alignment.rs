//! The alignment check: would the two trees match better one level up or down?
//!
//! The commonest slip of all is a destination that is one folder too high or too deep. When the two top folders share
//! nothing, but one of them shares most of its names with a folder inside the other, that slip is likely.

use std::collections::HashSet;

use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::Store;

/// How many folders of a side are looked into.
const LOOK_INTO: usize = 60;

/// A sentence about a likely slip; `None` when the trees look aligned, or nothing can be said.
pub fn warning(left: &dyn Store, right: &dyn Store) -> Option<String> {
    let (left_names, left_folders) = top(left, &RelPath::root())?;
    let (right_names, right_folders) = top(right, &RelPath::root())?;
    if left_names.is_empty() || right_names.is_empty() || share(&left_names, &right_names) > 0.0 {
        return None;
    }
    let deeper = best(right, &right_folders, &left_names);
    if let Some(folder) = deeper {
        return Some(format!(
            "the destination shares no name with the source, but its folder \"{folder}\" holds much the same; \
             is the destination one level too high?"
        ));
    }
    let folder = best(left, &left_folders, &right_names)?;
    Some(format!(
        "the destination holds much the same as the source's folder \"{folder}\"; is the source one level too high, or the \
         destination one level too deep?"
    ))
}

/// The folder whose names agree best with `names`, if most do.
fn best(store: &dyn Store, folders: &[Name], names: &HashSet<Name>) -> Option<Name> {
    let scored = folders.iter().take(LOOK_INTO).filter_map(|folder| {
        let (inside, _) = top(store, &RelPath::from(folder))?;
        Some((share(names, &inside), folder))
    });
    let (score, folder) = scored.max_by(|a, b| a.0.total_cmp(&b.0))?;
    (score > 0.5).then(|| folder.clone())
}

/// The share of names that both have, of the smaller set.
fn share(a: &HashSet<Name>, b: &HashSet<Name>) -> f64 {
    a.intersection(b).count() as f64 / a.len().min(b.len()).max(1) as f64
}

/// The names in a folder, and those of its folders; without Reedhook's own.
fn top(store: &dyn Store, folder: &RelPath) -> Option<(HashSet<Name>, Vec<Name>)> {
    let listing = store.list(folder).ok()?;
    let entries = listing.entries.into_iter().filter(|entry| !folder.join(&entry.name).is_reserved());
    let (mut names, mut folders) = (HashSet::new(), Vec::new());
    for entry in entries {
        if entry.meta.is_folder() {
            folders.push(entry.name.clone());
        }
        names.insert(entry.name);
    }
    Some((names, folders))
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::put;
    use reedhook_testing::simulated::SimulatedStore;

    fn store(paths: &[&str]) -> SimulatedStore {
        let store = SimulatedStore::new("x");
        paths.iter().for_each(|path| put(&store, path, b"", 1));
        store
    }

    #[test]
    fn a_level_too_high_or_too_deep_is_noticed() {
        let source = ["north/a.csv", "west/b.csv", "rota.txt"];
        let cases: &[(&[&str], Option<&str>)] = &[
            (&["north/a.csv", "west/b.csv"], None),
            (&[], None),
            (&["unrelated/x"], None),
            (&["counts/north/a.csv", "counts/west/b.csv", "maps/x"], Some("too high?")),
            (&["a.csv"], Some("\"north\"")),
            (&[".reedhook/north", ".reedhook/west"], None),
        ];
        for (destination, expected) in cases {
            let found = warning(&store(&source), &store(destination));
            match expected {
                Some(words) => assert!(found.as_ref().is_some_and(|text| text.contains(words)), "{found:?}"),
                None => assert_eq!(found, None, "{destination:?}"),
            }
        }
    }
}
