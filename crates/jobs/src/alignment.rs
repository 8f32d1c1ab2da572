//! The alignment check: would the two trees match better one or two levels up or down?
//!
//! The commonest slip of all is a destination that is one folder too high or too deep. When the tops of two trees have little in
//! common, but one of them has most in common with a folder inside the other, or with the folder that the other is in, that slip is
//! likely. Names, kinds and sizes are compared, never content, and only so many folders are listed. Of an empty tree nothing is said.

use std::collections::HashMap;
use std::fmt;
use std::rc::Rc;
use std::sync::Arc;

use reedhook_core::entry::{Meta, Side};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Place, Store};

use crate::capabilities::{self, OpenOptions};
use crate::desk::Desk;
use crate::places::Located;

/// So many folders are listed at each side, at most; at a server, where each costs a journey, a tenth.
const LISTINGS: usize = 200;

/// So many folders of a folder are tried as roots; at a server a tenth.
const TRIED: usize = 40;

/// So many folders that both have are looked into, to see whether they have more in common than a name.
const LOOKED_INTO: usize = 8;

/// How much the tops of two trees have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Match {
    /// Names that both have, for things that look the same.
    pub common: usize,
    /// Names that the smaller of the two has.
    pub of: usize,
}

impl Match {
    fn share(self) -> f64 {
        self.common as f64 / self.of.max(1) as f64
    }
}

impl fmt::Display for Match {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} of {}", self.common, self.of)
    }
}

/// A better root than the one that was given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Better {
    /// This folder of the side: it was given too high.
    Below(Side, RelPath),
    /// So many levels above the side's root: it was given too deep.
    Above(Side, usize),
}

/// Two trees that would match better otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misaligned {
    /// How much they have in common as they are.
    pub here: Match,
    /// How much they would have in common.
    pub there: Match,
    /// With which root.
    pub better: Better,
}

impl Misaligned {
    /// As a sentence with both figures; `names` is what the sides are called.
    pub fn sentence(&self, names: [&str; 2]) -> String {
        let (here, there) = (self.here, self.there);
        let name = |side: Side| names[usize::from(side == Side::Right)];
        let told = |levels: usize| if levels == 1 { "one level" } else { "two levels" };
        match &self.better {
            Better::Below(side, folder) => {
                let (name, levels) = (name(*side), told(folder.parts().count()));
                format!(
                    "at the top {here} names match, in the {name}'s folder \"{folder}\" it would be {there}; \
                     is the {name} {levels} too high?"
                )
            }
            Better::Above(side, levels) => {
                let (name, levels) = (name(*side), told(*levels));
                format!(
                    "at the top {here} names match, {levels} above the {name} it would be {there}; \
                     is the {name} {levels} too deep?"
                )
            }
        }
    }
}

/// The folder so many levels above a side's root, where it can be had without asking a server.
pub type Above<'a> = &'a dyn Fn(Side, usize) -> Option<Arc<dyn Store>>;

/// The folder so many levels above a place, opened; nothing for places at servers, which would have to be asked.
pub fn above(
    desk: &Desk,
    left: &Located,
    right: &Located,
    side: Side,
    levels: usize,
) -> Option<Arc<dyn Store>> {
    let place = if side == Side::Left { left } else { right };
    let folder = place.folder()?.ancestors().nth(levels)?;
    // The top of a file system is no likelier a root than any other folder.
    folder.parent()?;
    capabilities::open(folder, OpenOptions::default(), &desk.home).ok()
}

/// Looks for a better root; `None` when the trees look aligned, when one of them is empty, or when nothing can be said.
pub fn check(left: &dyn Store, right: &dyn Store, above: Above<'_>) -> Option<Misaligned> {
    let (mut ours, mut theirs) = (Tree::of(left), Tree::of(right));
    let root = RelPath::root();
    let here = matched(&mut ours, &root, &mut theirs, &root)?;
    if here.share() > 0.3 {
        return None;
    }
    let mut found: Vec<(Better, Match)> = Vec::new();
    for folder in theirs.candidates() {
        found.extend(
            matched(&mut ours, &root, &mut theirs, &folder)
                .map(|it| (Better::Below(Side::Right, folder), it)),
        );
    }
    for folder in ours.candidates() {
        found.extend(
            matched(&mut ours, &folder, &mut theirs, &root).map(|it| (Better::Below(Side::Left, folder), it)),
        );
    }
    for (side, levels) in [(Side::Right, 1), (Side::Right, 2), (Side::Left, 1), (Side::Left, 2)] {
        let Some(store) = above(side, levels) else { continue };
        let mut upper = Tree::of(store.as_ref());
        let it = match side {
            Side::Left => matched(&mut upper, &root, &mut theirs, &root),
            Side::Right => matched(&mut ours, &root, &mut upper, &root),
        };
        found.extend(it.map(|it| (Better::Above(side, levels), it)));
    }
    // Of several that are alike the first one counts: the nearest, and the right one, which people choose last.
    let best = found
        .into_iter()
        .rev()
        .max_by(|a, b| a.1.share().total_cmp(&b.1.share()).then(a.1.common.cmp(&b.1.common)))?;
    let (better, there) = best;
    (there.share() > 0.5 && there.share() > here.share() + 0.3).then_some(Misaligned { here, there, better })
}

/// What a folder holds, by name.
type Listed = Rc<Vec<(Name, Meta)>>;

/// A tree whose folders are listed once each, and only so many.
struct Tree<'a> {
    store: &'a dyn Store,
    /// How dear a listing is.
    cost: usize,
    listed: HashMap<RelPath, Option<Listed>>,
}

impl<'a> Tree<'a> {
    fn of(store: &'a dyn Store) -> Tree<'a> {
        let cost = if matches!(store.place(), Place::Local(_)) { 1 } else { 10 };
        Tree { store, cost, listed: HashMap::new() }
    }

    /// What a folder holds, without Reedhook's own; nothing when it cannot be listed, or when enough was listed.
    fn list(&mut self, folder: &RelPath) -> Option<Listed> {
        if let Some(known) = self.listed.get(folder) {
            return known.clone();
        }
        let listing =
            (self.listed.len() < LISTINGS / self.cost).then(|| self.store.list(folder).ok()).flatten();
        let found = listing.map(|listing| {
            let own = |name: &Name| name.is_passing() || folder.join(name).is_reserved();
            let entries = listing.entries.into_iter().filter(|entry| !own(&entry.name));
            let mut entries: Vec<_> = entries.map(|entry| (entry.name, entry.meta)).collect();
            entries.sort_unstable_by(|a, b| a.0.cmp(&b.0));
            Rc::new(entries)
        });
        self.listed.insert(folder.clone(), found.clone());
        found
    }

    fn folders(&mut self, folder: &RelPath) -> Vec<RelPath> {
        let entries = self.list(folder).unwrap_or_default();
        let folders = entries.iter().filter(|(_, meta)| meta.is_folder()).take(TRIED / self.cost);
        folders.map(|(name, _)| folder.join(name)).collect()
    }

    /// The folders one and two levels below the root, the nearer ones first.
    fn candidates(&mut self) -> Vec<RelPath> {
        let near = self.folders(&RelPath::root());
        let most = 2 * TRIED / self.cost;
        let far: Vec<RelPath> = near.iter().flat_map(|folder| self.folders(folder)).take(most).collect();
        near.into_iter().chain(far).collect()
    }
}

/// How much two folders have in common; `None` when one is empty or cannot be listed.
fn matched(ours: &mut Tree<'_>, at: &RelPath, theirs: &mut Tree<'_>, there: &RelPath) -> Option<Match> {
    let (left, right) = (ours.list(at)?, theirs.list(there)?);
    if left.is_empty() || right.is_empty() {
        return None;
    }
    let (mut common, mut looked_into) = (0, 0);
    for (name, meta) in left.iter() {
        let Ok(found) = right.binary_search_by(|(other, _)| other.cmp(name)) else { continue };
        let other = &right[found].1;
        common += usize::from(match (meta.is_folder(), other.is_folder()) {
            (false, false) => meta.kind == other.kind && meta.size == other.size,
            (true, true) if looked_into < LOOKED_INTO => {
                looked_into += 1;
                share_a_name(ours.list(&at.join(name)), theirs.list(&there.join(name)))
            }
            (left_folder, right_folder) => left_folder && right_folder,
        });
    }
    Some(Match { common, of: left.len().min(right.len()) })
}

/// Whether two folders of one name have more in common than that. One that is empty, or cannot be listed, says nothing against it.
fn share_a_name(one: Option<Listed>, other: Option<Listed>) -> bool {
    let (Some(one), Some(other)) = (one, other) else { return true };
    let has = |name: &Name| other.binary_search_by(|(theirs, _)| theirs.cmp(name)).is_ok();
    one.is_empty() || other.is_empty() || one.iter().any(|(name, _)| has(name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::put;
    use reedhook_testing::simulated::SimulatedStore;

    fn store(paths: &[&str]) -> SimulatedStore {
        let store = SimulatedStore::new("x");
        paths.iter().for_each(|path| put(&store, path, path.as_bytes(), 1));
        store
    }

    fn checked(left: &[&str], right: &[&str], above: &[&str]) -> Option<String> {
        let above: Arc<dyn Store> = Arc::new(store(above));
        let up = |side, levels| (side == Side::Right && levels == 1).then(|| above.clone());
        let found = check(&store(left), &store(right), &up)?;
        Some(found.sentence(["source", "destination"]))
    }

    #[test]
    fn a_level_or_two_too_high_or_too_deep_is_noticed() {
        let put_deeper = |above: &str, paths: &[&str]| -> Vec<String> {
            paths.iter().map(|path| format!("{above}/{path}")).collect()
        };
        let source = ["north/a.csv", "west/b.csv", "rota.txt"];
        let named = |paths: &[&str]| {
            let store = SimulatedStore::new("x");
            // Sizes come from the names within the source, wherever it is.
            paths.iter().for_each(|path| {
                let known = source.iter().find(|known| path.ends_with(*known)).unwrap_or(path);
                put(&store, path, known.as_bytes(), 1);
            });
            store
        };
        let one_down = put_deeper("counts", &source);
        let two_down = put_deeper("station/counts", &source);
        let words = |paths: &[String], more: &[&str]| {
            let all: Vec<&str> = paths.iter().map(String::as_str).chain(more.iter().copied()).collect();
            let nowhere = |_, _| None;
            let there = check(&named(&source), &named(&all), &nowhere);
            let back = check(&named(&all), &named(&source), &nowhere);
            (there, back)
        };
        for (paths, folder) in [(&one_down, "counts"), (&two_down, "station/counts")] {
            let (there, back) = words(paths, &["maps/x", "other/y"]);
            let below = RelPath::new(folder.as_bytes()).unwrap();
            for (found, side) in [(there, Side::Right), (back, Side::Left)] {
                let found = found.unwrap();
                assert_eq!(found.better, Better::Below(side, below.clone()));
                assert_eq!((found.here.common, found.there), (0, Match { common: 3, of: 3 }));
            }
        }
        let said = checked(&["north/a.csv", "rota.txt"], &["x"], &["north/a.csv", "rota.txt", "here/x"]);
        assert_eq!(
            said.unwrap(),
            "at the top 0 of 1 names match, one level above the destination it would be 2 of 2; is the destination one level too deep?"
        );
    }

    #[test]
    fn nothing_is_said_of_empty_unrelated_or_aligned_trees() {
        let source = ["north/a.csv", "west/b.csv", "rota.txt"];
        let cases: [(&[&str], &[&str]); 6] = [
            (&source, &["north/a.csv", "west/b.csv"]),
            (&source, &[]),
            (&[], &source),
            (&source, &["unrelated/x"]),
            (&source, &[".reedhook/north/a.csv", ".reedhook/west/b.csv"]),
            // A folder that has nothing but its name in common with the source's is no match.
            (&["north/a.csv"], &["old/north/z.csv"]),
        ];
        for (left, right) in cases {
            assert_eq!(checked(left, right, &[]), None, "{left:?} {right:?}");
        }
    }

    #[test]
    fn only_so_many_folders_are_listed() {
        let paths: Vec<String> =
            (0..100).flat_map(|a| (0..20).map(move |b| format!("d{a}/e{b}/f"))).collect();
        let many = store(&paths.iter().map(String::as_str).collect::<Vec<_>>());
        let listed = Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let counted = listed.clone();
        many.before_each(move |_, _| {
            counted.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        });
        assert_eq!(check(&store(&["north/a.csv"]), &many, &|_, _| None), None);
        assert!(listed.load(std::sync::atomic::Ordering::Relaxed) <= LISTINGS);
    }
}
