//! Undo: puts a destination back as it was before a run.
//!
//! The run's log tells what was done to each path; the kept copies hold what was there before. Whatever has changed since
//! the run is refused and reported. What the undo itself takes away is kept under its own name, so it can be undone too.
//!
//! The order: what was added goes, folders that were removed come back, what was moved goes back, folders that were made go,
//! files that were replaced or removed come back, then times and modes from the bottom up.

use std::collections::{HashMap, HashSet};

use super::{Done, Item, Mark, kept_folder};
use crate::entry::Meta;
use crate::path::{Name, RelPath};
use crate::problem::{Code, Problem};
use crate::store::{Attributes, FaultKind, Result, Store, StoreError, StoreExt};

/// What a run did, from its log.
#[derive(Debug, Clone, Default)]
pub struct Past {
    /// Its name.
    pub run: Option<Name>,
    /// What it did, at one side.
    pub items: Vec<Item>,
    /// Folders whose metadata it changed, with what they had before.
    pub folders: Vec<(RelPath, Mark)>,
}

impl Past {
    /// Where a folder was before the run moved it, or what it lies in.
    fn before_moves(&self, path: &RelPath) -> RelPath {
        let moved = self.items.iter().rev().filter(|item| item.done == Done::Moved && item.items.is_some());
        let mut before =
            moved.filter_map(|item| Some(item.moved_from.as_ref()?.join_path(&path.below(&item.path)?)));
        before.next().unwrap_or_else(|| path.clone())
    }
}

/// What an undo did.
#[derive(Debug, Default)]
pub struct Undone {
    /// What was done, as the items of a run.
    pub items: Vec<Item>,
    /// Folders whose metadata was put back, with what they had just before.
    pub folders: Vec<(RelPath, Mark)>,
    /// What was refused or failed.
    pub problems: Vec<Problem>,
}

/// Undoes what a run did at one side. `own` is the name of the undo itself.
///
/// # Errors
/// When the store is lost on the way. Single failures are problems.
pub fn undo(store: &dyn Store, past: &Past, own: &Name) -> Result<Undone> {
    let kept = past.run.as_ref().map(kept_folder).unwrap_or_default();
    let mut undoing = Undoing {
        store,
        kept,
        own: kept_folder(own),
        made: HashSet::new(),
        before: HashMap::new(),
        done: Undone::default(),
    };
    let of = |kind: Done| past.items.iter().filter(move |item| item.done == kind);
    let added = past.items.iter().filter(|item| matches!(item.done, Done::Added | Done::Revived));
    undoing.before = undoing.folder_marks(past)?;
    for item in added {
        undoing.step(item, Undoing::take_away)?;
    }
    for item in by_path(of(Done::FolderRemoved)) {
        undoing.step(item, Undoing::make_folder)?;
    }
    for item in by_path(of(Done::Moved)).into_iter().rev() {
        undoing.step(item, Undoing::move_back)?;
    }
    for item in by_path(of(Done::FolderMade)).into_iter().rev() {
        undoing.step(item, Undoing::remove_folder)?;
    }
    for item in of(Done::Removed) {
        undoing.step(item, Undoing::bring_back)?;
    }
    for item in of(Done::Updated) {
        undoing.step(item, Undoing::put_old_back)?;
    }
    for item in of(Done::Metadata) {
        undoing.step(item, Undoing::metadata_back)?;
    }
    undoing.folder_metadata_back(past)?;
    store.sync()?;
    Ok(undoing.done)
}

fn by_path<'a>(items: impl IntoIterator<Item = &'a Item>) -> Vec<&'a Item> {
    let mut items: Vec<&Item> = items.into_iter().collect();
    items.sort_by(|a, b| a.path.cmp(&b.path));
    items
}

struct Undoing<'a> {
    store: &'a dyn Store,
    /// The kept copies of the run that is undone.
    kept: RelPath,
    /// Where the undo keeps what it takes away.
    own: RelPath,
    made: HashSet<RelPath>,
    /// The metadata of the folders concerned, before anything was undone.
    before: HashMap<RelPath, Mark>,
    done: Undone,
}

impl Undoing<'_> {
    /// Does one step; a failure becomes a problem, unless the store is gone.
    fn step(&mut self, item: &Item, action: fn(&mut Self, &Item) -> Result<()>) -> Result<()> {
        match action(self, item) {
            Ok(()) => Ok(()),
            Err(error) if error.kind == FaultKind::Lost => Err(error),
            Err(error) => {
                let code = Code::Fault(error.kind);
                let problem = Problem::new(code, item.side, item.path.clone(), error.reason());
                self.done.problems.push(problem);
                Ok(())
            }
        }
    }

    fn tell(&mut self, done: Done, item: &Item, size: u64, now: Mark, was: Mark) {
        self.done.items.push(Item {
            done,
            side: item.side,
            path: item.path.clone(),
            size,
            now,
            was,
            moved_from: None,
            items: None,
            hash: None,
        });
    }

    /// What stands at a path, if it is still what the run wrote there.
    fn unchanged(&self, item: &Item) -> Result<Meta> {
        match self.store.stat(&item.path)? {
            Some(meta) if meta.is_item() && meta.size == item.size && same_time(&meta, item.now) => Ok(meta),
            Some(_) => Err(StoreError::new(FaultKind::Changed, "undo", &item.path)),
            None => Err(StoreError::new(FaultKind::NotFound, "undo", &item.path)),
        }
    }

    /// Moves what stands at a path to the undo's own kept copies.
    fn set_aside(&mut self, path: &RelPath) -> Result<()> {
        let target = self.own.join_path(path);
        if let Some(parent) = target.parent().filter(|parent| !self.made.contains(parent)) {
            self.store.make_folders(&parent)?;
            self.made.insert(parent);
        }
        self.store.rename(path, &target)
    }

    fn take_away(&mut self, item: &Item) -> Result<()> {
        let meta = self.unchanged(item)?;
        self.set_aside(&item.path)?;
        self.tell(Done::Removed, item, meta.size, Mark::default(), Mark::of(&meta));
        Ok(())
    }

    fn move_back(&mut self, item: &Item) -> Result<()> {
        let Some(old) = &item.moved_from else { return Ok(()) };
        let is_folder = |meta: &Meta| item.items.is_some() && meta.is_folder();
        let meta = match self.store.stat(&item.path)? {
            Some(meta) if is_folder(&meta) => meta,
            _ => self.unchanged(item)?,
        };
        self.store.rename(&item.path, old)?;
        let (now, was) = (item.was, Mark::of(&meta));
        if now.mode != was.mode && meta.is_item() {
            let attributes = Attributes { modified: now.modified, mode: now.mode, extra: None };
            self.store.set_attributes(old, &attributes)?;
        }
        let moved = Item { path: old.clone(), moved_from: Some(item.path.clone()), now, was, ..item.clone() };
        self.done.items.push(moved);
        Ok(())
    }

    fn remove_folder(&mut self, item: &Item) -> Result<()> {
        let was = self.before.get(&item.path).copied().unwrap_or_default();
        match self.store.remove_folder(&item.path) {
            Err(error) if error.kind == FaultKind::NotFound => Ok(()),
            Err(error) => Err(error),
            Ok(()) => {
                self.tell(Done::FolderRemoved, item, 0, Mark::default(), was);
                Ok(())
            }
        }
    }

    fn make_folder(&mut self, item: &Item) -> Result<()> {
        let open = Attributes { mode: item.was.mode.map(|mode| mode | 0o700), ..Attributes::default() };
        self.store.make_folder(&item.path, &open)?;
        self.tell(Done::FolderMade, item, 0, item.was, Mark::default());
        Ok(())
    }

    /// The kept copy of a path; without one the run erased it.
    fn kept_copy(&self, item: &Item) -> Result<(RelPath, Meta)> {
        let kept = self.kept.join_path(&item.path);
        match self.store.stat(&kept)? {
            Some(meta) => Ok((kept, meta)),
            None => {
                let error = StoreError::new(FaultKind::NotFound, "undo", &item.path);
                Err(error.because("no copy of it was kept, or it has been pruned"))
            }
        }
    }

    fn bring_back(&mut self, item: &Item) -> Result<()> {
        let (kept, meta) = self.kept_copy(item)?;
        self.store.rename(&kept, &item.path)?;
        self.tell(Done::Added, item, meta.size, Mark::of(&meta), Mark::default());
        Ok(())
    }

    fn put_old_back(&mut self, item: &Item) -> Result<()> {
        let now = self.unchanged(item)?;
        let (kept, meta) = self.kept_copy(item)?;
        self.set_aside(&item.path)?;
        self.store.rename(&kept, &item.path)?;
        self.tell(Done::Updated, item, meta.size, Mark::of(&meta), Mark::of(&now));
        Ok(())
    }

    fn metadata_back(&mut self, item: &Item) -> Result<()> {
        let Some(meta) = self.store.stat(&item.path)? else {
            return Err(StoreError::new(FaultKind::NotFound, "undo", &item.path));
        };
        if meta.is_folder() {
            // With the other folders, at the end.
            return Ok(());
        }
        if !same_time(&meta, item.now) {
            return Err(StoreError::new(FaultKind::Changed, "undo", &item.path));
        }
        let was = Attributes { modified: item.was.modified, mode: item.was.mode, extra: None };
        self.store.set_attributes(&item.path, &was)?;
        self.tell(Done::Metadata, item, meta.size, item.was, Mark::of(&meta));
        Ok(())
    }

    fn folder_marks(&self, past: &Past) -> Result<HashMap<RelPath, Mark>> {
        let made = past.items.iter().filter(|item| item.done == Done::FolderMade).map(|item| &item.path);
        let mut marks = HashMap::new();
        for path in past.folders.iter().map(|(path, _)| path).chain(made) {
            if let Some(meta) = self.store.stat(path)? {
                marks.insert(path.clone(), Mark::of(&meta));
            }
        }
        Ok(marks)
    }

    fn folder_metadata_back(&mut self, past: &Past) -> Result<()> {
        let removed = past.items.iter().filter(|item| item.done == Done::FolderRemoved);
        let mut folders: Vec<(RelPath, Mark)> = removed.map(|item| (item.path.clone(), item.was)).collect();
        folders.extend(past.folders.iter().map(|(path, was)| (past.before_moves(path), *was)));
        folders.sort_by(|a, b| b.0.cmp(&a.0));
        for (path, was) in folders {
            let attributes = Attributes {
                modified: was.modified,
                mode: was.mode.filter(|_| !path.is_root()),
                extra: None,
            };
            match self.store.set_attributes(&path, &attributes) {
                Ok(()) => {}
                Err(error) if error.kind == FaultKind::Lost => return Err(error),
                // A folder that could not be brought back has already been reported.
                Err(_) => {}
            }
        }
        let stayed = past.folders.iter().map(|(path, _)| path);
        self.done.folders =
            stayed.filter_map(|path| Some((past.before_moves(path), *self.before.get(path)?))).collect();
        Ok(())
    }
}

fn same_time(meta: &Meta, mark: Mark) -> bool {
    // A coarse file system stores less of the time than was asked for; the log has what was asked for.
    let coarsest = std::time::Duration::from_secs(2);
    match (meta.modified, mark.modified) {
        (Some(found), Some(written)) => {
            found == written || (found.nanos() == 0 && found.same_within(written, coarsest))
        }
        _ => true,
    }
}
