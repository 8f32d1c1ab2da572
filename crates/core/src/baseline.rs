//! After a two-way run: a look at what was worked on, and what to remember of it.
//!
//! Nothing is remembered because it was planned. A name enters the baseline when both sides are seen to agree on it, or when
//! one side is seen to hold what the run brought there from the other, which somebody has worked on since: then that version is
//! what both last agreed on. In every other case the old memory stands, and the next run compares anew.
//!
//! What we removed or replaced ourselves is nobody's removal and nobody's edit. A name at which something else is found then, at either
//! side, is forgotten, so that the next run takes it for new. A run that does not come to its end leaves a list of what it had set out
//! to remove or replace ([`Outgoing`]), which says the same to the next one.

use std::collections::{BTreeSet, HashMap, HashSet};

use crate::compare::{Comparison, Difference, compare};
use crate::content::Hash;
use crate::entry::{EntryKind, Meta, Side, Stamp};
use crate::memory::FolderUpdate;
use crate::path::{Name, RelPath};
use crate::plan::two_way::{Known, KnownKind, Remembered, SideMeta};
use crate::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use crate::run::{Done, Item, Mark};
use crate::store::Store;
use crate::store::error::{FaultKind, Result};
use crate::walk::two_way::news::{FolderNews, Open};

/// What a run did to names, gathered from the items that it reported.
#[derive(Debug, Default)]
pub struct Deeds {
    /// By path, then by side: asked for every name that a run was about.
    written: HashMap<RelPath, [Option<Written>; 2]>,
    moved_folders: Vec<(Side, RelPath)>,
    removed: HashSet<(Side, RelPath)>,
}

/// What was put at a name: its size, and the time and mode that it had where it was read.
#[derive(Debug, Clone, Copy)]
struct Written {
    folder: bool,
    /// What stood there was left as it was, but for its time or mode.
    same_content: bool,
    /// It was given another time: what somebody saved at that moment has that time too.
    retimed: bool,
    size: u64,
    now: Mark,
    /// Its time at the side where it was read, when that is another.
    read: Option<Stamp>,
    hash: Option<Hash>,
}

impl Deeds {
    /// Takes note of an item.
    pub fn take(&mut self, item: &Item) {
        let at = || (item.side, item.path.clone());
        let written = Written {
            folder: item.done == Done::FolderMade,
            same_content: item.done == Done::Metadata,
            retimed: item.done == Done::Metadata && item.was.modified != item.now.modified,
            size: item.size,
            now: item.now,
            read: item.read,
            hash: item.hash,
        };
        match item.done {
            Done::Added | Done::Revived | Done::Updated | Done::Metadata | Done::FolderMade => {
                self.write(item, written);
            }
            Done::Moved => {
                self.removed.extend(item.moved_from.clone().map(|from| (item.side, from)));
                if item.items.is_some() {
                    self.moved_folders.push(at());
                } else if !item.makes_room {
                    self.write(item, written);
                }
            }
            Done::Removed | Done::FolderRemoved => {
                self.removed.insert(at());
            }
            Done::Left => {}
        }
    }

    fn write(&mut self, item: &Item, written: Written) {
        self.written.entry(item.path.clone()).or_default()[item.side as usize] = Some(written);
    }

    /// The hash of what was written at a path, at whichever side.
    fn hash(&self, path: &RelPath) -> Option<Hash> {
        self.written.get(path)?.iter().flatten().find_map(|written| written.hash)
    }

    /// The sides at which a file has been given another time, and kept its content as far as that is known.
    fn retimed(&self, path: &RelPath) -> Vec<Side> {
        let written = self.written.get(path);
        let retimed = |side: &Side| {
            written.and_then(|written| written[*side as usize]).is_some_and(|written| written.retimed)
        };
        [Side::Left, Side::Right].into_iter().filter(retimed).collect()
    }

    /// Whether a file was put at a path, at whichever side, by itself or with a folder that was renamed.
    fn has_brought(&self, path: &RelPath) -> bool {
        self.written.contains_key(path) || self.moved_folders.iter().any(|(_, folder)| path.is_within(folder))
    }

    /// Whether what both sides last agreed on was removed or replaced at either of them.
    fn has_ended(&self, path: &RelPath) -> bool {
        let written = self.written.get(path).into_iter().flatten().flatten();
        written.into_iter().any(|written| !written.same_content)
            || [Side::Left, Side::Right].into_iter().any(|side| self.has_removed(side, path))
    }

    fn has_removed(&self, side: Side, path: &RelPath) -> bool {
        let mut above = Some(path.clone());
        while let Some(path) = above.filter(|_| !self.removed.is_empty()) {
            if self.removed.contains(&(side, path.clone())) {
                return true;
            }
            above = path.parent().filter(|parent| !parent.is_root());
        }
        false
    }

    /// What was put at this side and is still there, as it was read at the other.
    fn brought(
        &self,
        side: Side,
        path: &RelPath,
        found: &Meta,
        one: &Open,
        by: &Comparison,
    ) -> Option<Brought> {
        let is_there = |size: u64, now: Mark| {
            let as_read = Meta { modified: now.modified, ..found.clone() };
            size == found.size && by.same_time(&as_read, found)
        };
        if let Some(Written { folder, size, now, read, hash, .. }) =
            self.written.get(path).and_then(|written| written[side as usize])
        {
            let same = folder == found.is_folder() && (folder || is_there(size, now));
            let read = SideMeta::new(read.or(now.modified).filter(|_| !folder), now.mode.or(found.mode));
            return same.then_some(Brought { read, hash });
        }
        // What lay in a folder that was renamed is told of by the plan alone: it looked the same at both sides.
        let (to, size, mark) = one.planned?;
        let moved = |(at, folder): &(Side, RelPath)| *at == side && path.is_within(folder);
        let same = to == side && !found.is_folder() && is_there(size, mark);
        (same && self.moved_folders.iter().any(moved))
            .then(|| Brought { read: SideMeta::new(mark.modified, mark.mode.or(found.mode)), hash: None })
    }
}

/// What a run put at a side: what the other side said of it, and its hash.
struct Brought {
    read: SideMeta,
    hash: Option<Hash>,
}

/// What a run sets out to remove or replace at each side, whole trees by their top. While this list exists, what is missing or another
/// one there than was remembered may be that run's doing, and no person's.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outgoing {
    paths: BTreeSet<(Side, RelPath)>,
}

impl Outgoing {
    /// A list of these.
    pub fn new(paths: impl IntoIterator<Item = (Side, RelPath)>) -> Outgoing {
        Outgoing { paths: paths.into_iter().collect() }
    }

    /// What the plans of a run remove, rename away, or put something else in the place of. What is put where nothing ever was ends nothing.
    pub fn of<'a>(plans: impl IntoIterator<Item = &'a Plan>) -> Outgoing {
        let mut paths = BTreeSet::new();
        for plan in plans {
            for folder in &plan.folders {
                if folder.fate == Fate::Remove {
                    paths.insert((plan.changes, folder.path.clone()));
                }
                let ended = folder.actions.iter().filter_map(|action| Outgoing::ended_by(folder, action));
                paths.extend(ended.map(|path| (plan.changes, path)));
            }
        }
        Outgoing { paths }
    }

    fn ended_by(folder: &FolderPlan, action: &Action) -> Option<RelPath> {
        match &action.step {
            Step::Move { from, .. } | Step::MoveFolder { from, .. } => Some(from.clone()),
            Step::Remove { .. } | Step::Update { .. } | Step::SecondName { was: Some(_), .. } => {
                Some(folder.path.join(&action.name))
            }
            // It is remembered.
            Step::Add { .. } if action.role == Role::Revived => Some(folder.path.join(&action.name)),
            Step::Add { .. }
            | Step::SecondName { .. }
            | Step::Respell { .. }
            | Step::Metadata { .. }
            | Step::Leave { .. } => None,
        }
    }

    /// What is on it.
    pub fn iter(&self) -> impl Iterator<Item = &(Side, RelPath)> {
        self.paths.iter()
    }

    /// Whether nothing is on it.
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty()
    }

    /// Whether a path, or a folder that it lies in, is on it.
    pub fn holds(&self, side: Side, path: &RelPath) -> bool {
        let mut above = Some(path.clone());
        while let Some(path) = above.filter(|_| !self.paths.is_empty()) {
            if self.paths.contains(&(side, path.clone())) {
                return true;
            }
            above = path.parent().filter(|parent| !parent.is_root());
        }
        false
    }
}

/// What to remember after a run whose work is durable at both sides.
///
/// # Errors
/// When a store is lost.
pub fn learn(
    news: &[FolderNews],
    (left, right): (&dyn Store, &dyn Store),
    by: &Comparison,
    deeds: &Deeds,
) -> Result<Vec<FolderUpdate>> {
    let mut forgotten = Vec::new();
    let mut remembered = Vec::new();
    for FolderNews { folder, known, looked, open } in news {
        let asked: HashSet<&Name> = open.iter().map(|open| &open.name).collect();
        let (before, mut now): (Vec<Known>, Vec<Known>) =
            known.iter().cloned().partition(|known| asked.contains(&known.name));
        for one in open {
            let path = folder.join(&one.name);
            let old = before.binary_search_by(|known| known.name.cmp(&one.name)).ok().map(|at| &before[at]);
            let hash = deeds.hash(&path).or(one.hash);
            let found = (look(left, &path)?, look(right, &path)?);
            let new = judge(one, &path, found, (old, hash), by, deeds);
            if old.is_some_and(Known::is_folder) && !new.as_ref().is_some_and(Known::is_folder) {
                forgotten.push((path, None));
            }
            now.extend(new);
        }
        now.sort_by(|a, b| a.name.cmp(&b.name));
        // A folder of which no name is known has none below it that is. Of the root it is remembered when it was looked at.
        let now = Some(Remembered { known: now, looked: *looked })
            .filter(|now| !now.known.is_empty() || folder.is_root());
        remembered.push((folder.clone(), now));
    }
    // First what goes with its whole tree, then what is there.
    forgotten.extend(remembered);
    Ok(forgotten)
}

/// The versions of files that are remembered no more after a run with this news: both sides had last agreed on them, and neither is to have
/// them any more.
pub fn ended(news: &[FolderNews], updates: &[FolderUpdate]) -> Vec<(RelPath, Known)> {
    let mut ended = Vec::new();
    // Of two updates of a folder the later one holds.
    let updated: HashMap<&RelPath, &Option<Remembered>> =
        updates.iter().map(|(folder, now)| (folder, now)).collect();
    for FolderNews { folder, known, .. } in news {
        let now = updated.get(folder).and_then(|now| now.as_ref()).map_or(&[][..], |now| &now.known);
        let gone = known.iter().filter(|known| matches!(known.what, KnownKind::File(..)));
        let gone = gone.filter(|known| now.binary_search_by(|one| one.name.cmp(&known.name)).is_err());
        ended.extend(gone.map(|known| (folder.join(&known.name), known.clone())));
    }
    ended
}

/// What to remember of a name, by what stands at both sides now.
fn judge(
    one: &Open,
    path: &RelPath,
    found: (Agreed, Agreed),
    (old, hash): (Option<&Known>, Option<Hash>),
    by: &Comparison,
    deeds: &Deeds,
) -> Option<Known> {
    // Where we removed or replaced what both last agreed on, what is there now is neither an edit nor a removal of what the other side has,
    // or puts back.
    let old = old.filter(|_| !deeds.has_ended(path));
    let name = &one.name;
    let (left, right) = match &found {
        (Agreed::Nothing, Agreed::Nothing) => return None,
        (Agreed::This(left), Agreed::This(right)) => {
            // Of a file that this run did not bring over, looks prove nothing: it is about one that differed.
            let proved = left.kind != EntryKind::File || deeds.has_brought(path);
            match compare(left, right, by) {
                Difference::None if proved => {
                    let known = Known::of(name, left, right, hash)?;
                    return Some(deeds.retimed(path).into_iter().fold(known, Known::read_again));
                }
                Difference::Metadata if proved => {
                    return Known::of_content(name, (left, right), hash, old, by);
                }
                _ => (Some(left), Some(right)),
            }
        }
        (Agreed::This(left), Agreed::Nothing) => (Some(left), None),
        (Agreed::Nothing, Agreed::This(right)) => (None, Some(right)),
        (Agreed::Unclear, _) | (_, Agreed::Unclear) => return old.cloned(),
    };
    for (side, own) in [(Side::Left, left), (Side::Right, right)] {
        if own.is_none() && deeds.has_removed(side, path) {
            return None;
        }
        if let Some(meta) = own
            && let Some(brought) = deeds.brought(side, path, meta, one, by)
        {
            return Known::of_written(name, side, meta, brought.read, brought.hash.or(hash));
        }
    }
    old.cloned()
}

enum Agreed {
    Nothing,
    This(Meta),
    Unclear,
}

fn look(store: &dyn Store, path: &RelPath) -> Result<Agreed> {
    match store.stat(path) {
        Ok(Some(meta)) if matches!(meta.kind, EntryKind::Special(_)) => Ok(Agreed::Unclear),
        Ok(Some(meta)) => Ok(Agreed::This(meta)),
        Ok(None) => Ok(Agreed::Nothing),
        Err(error) if error.kind == FaultKind::Lost => Err(error),
        Err(_) => Ok(Agreed::Unclear),
    }
}
