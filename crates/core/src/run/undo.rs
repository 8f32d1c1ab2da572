//! Undo: puts a destination back as it was before a run.
//!
//! The run's log tells what was done to each path; the kept copies hold what was there before. Whatever has changed since
//! the run is refused and reported. What the undo itself takes away is kept under its own name, so it can be undone too.
//!
//! A run that was cut short may have done a little more than its log tells. So in the end whatever is still among its kept copies is
//! looked at too: it comes back where its place is free, and is named where it is not.
//!
//! The order: what was added goes, folders that were removed come back, what was moved goes back, folders that were made go,
//! files that were replaced or removed come back, then times and modes from the bottom up.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use super::kept::{kept_files, make_folder, open_to_us, write_owner};
use crate::entry::{EntryKind, Extra, Meta, Rights, SPECIAL_BITS, Side};
use crate::path::{Name, RelPath};
use crate::problem::{Code, Problem};
use crate::run::event::{Done, Gone, Item, Mark};
use crate::run::input::kept_folder;
use crate::store::capabilities::Capabilities;
use crate::store::error::{FaultKind, Result, StoreError};
use crate::store::{Attributes, Disarmed, Store, StoreExt, is_same};

/// What a run did, from its log.
#[derive(Debug, Clone)]
pub struct Past {
    /// Its name.
    pub run: Option<Name>,
    /// Which of the two trees the run changed.
    pub side: Side,
    /// What it did there.
    pub items: Vec<Item>,
    /// Folders whose metadata it changed, with what they had before.
    pub folders: Vec<(RelPath, Mark)>,
}

impl Past {
    /// A run that did nothing at a side.
    pub fn at(side: Side, run: Option<Name>) -> Past {
        Past { run, side, items: Vec::new(), folders: Vec::new() }
    }

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
    /// What was already as it had been before the run.
    pub as_before: u64,
}

/// Undoes what a run did at one side. `own` is the name of the undo itself, `owner` says whose it is.
///
/// # Errors
/// When the store is lost on the way. Single failures are problems.
pub fn undo(store: &dyn Store, past: &Past, (own, owner): (&Name, &str)) -> Result<Undone> {
    let kept = past.run.as_ref().map(kept_folder).unwrap_or_default();
    let mut undoing = Undoing {
        store,
        kept,
        own,
        owner,
        made: HashSet::new(),
        opened: HashMap::new(),
        remade: HashMap::new(),
        before: HashMap::new(),
        done: Undone::default(),
    };
    let done = undoing.all(past);
    // Whatever happened, what was opened is closed again.
    undoing.close_folders()?;
    done?;
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
    /// The undo's own name: what it takes away is kept under it.
    own: &'a Name,
    owner: &'a str,
    made: HashSet<RelPath>,
    /// Folders that were given write permission for the time of the undo, with the mode to give back.
    opened: HashMap<RelPath, Option<Meta>>,
    /// Folders that the undo has made, as they were then.
    remade: HashMap<RelPath, Meta>,
    /// The metadata of the folders concerned, before anything was undone.
    before: HashMap<RelPath, Mark>,
    done: Undone,
}

impl Undoing<'_> {
    fn all(&mut self, past: &Past) -> Result<()> {
        let of = |kind: Done| past.items.iter().filter(move |item| item.done == kind);
        let added = past.items.iter().filter(|item| matches!(item.done, Done::Added | Done::Revived));
        self.before = self.folder_marks(past)?;
        for item in added {
            self.step(item, Undoing::take_away)?;
        }
        for item in by_path(of(Done::FolderRemoved)) {
            self.step(item, Undoing::make_folder)?;
        }
        // What has another spelling and other content since is recognised only after its content is back.
        let rewritten: HashSet<&RelPath> =
            of(Done::Updated).chain(of(Done::Metadata)).map(|item| &item.path).collect();
        let (late, now): (Vec<&Item>, Vec<&Item>) =
            by_path(of(Done::Moved)).into_iter().rev().partition(|item| rewritten.contains(&item.path));
        for item in now {
            self.step(item, Undoing::move_back)?;
        }
        for item in by_path(of(Done::FolderMade)).into_iter().rev() {
            self.step(item, Undoing::remove_folder)?;
        }
        for item in of(Done::Removed) {
            self.step(item, Undoing::bring_back)?;
        }
        for item in of(Done::Updated) {
            self.step(item, Undoing::put_old_back)?;
        }
        for item in of(Done::Metadata) {
            self.step(item, Undoing::metadata_back)?;
        }
        for item in late {
            self.step(item, Undoing::move_back)?;
        }
        self.bring_back_the_rest(past)?;
        self.folder_metadata_back(past)
    }

    /// Does one step; a failure becomes a problem, unless the store is gone.
    fn step(&mut self, item: &Item, action: fn(&mut Self, &Item) -> Result<()>) -> Result<()> {
        match action(self, item) {
            Ok(()) => Ok(()),
            Err(error) if error.kind == FaultKind::Lost => Err(error),
            Err(error) => {
                let code = Code::Fault(error.kind);
                self.problem(Problem::new(code, item.side, item.path.clone(), error.reason()));
                Ok(())
            }
        }
    }

    fn problem(&mut self, problem: Problem) {
        self.done.problems.push(problem);
    }

    /// Tells of something done to what stands, or stood, at a path.
    fn tell(&mut self, done: Done, item: &Item, (kind, size): (EntryKind, u64), now: Mark, was: Mark) {
        self.done.items.push(Item {
            done,
            side: item.side,
            path: item.path.clone(),
            stands: Some((kind, size)),
            size,
            now,
            read: None,
            was,
            moved_from: None,
            items: None,
            makes_room: false,
            hash: None,
            gone: Gone::Kept,
            privileges: None,
            rights: None,
        });
    }

    /// Adds to what was told last what has been taken from the kept copy of what stood there.
    fn disarmed(&mut self, privileges: Disarmed) {
        if let Some(last) = self.done.items.last_mut() {
            last.privileges = privileges;
        }
    }

    /// What stands at a path.
    fn found(&self, path: &RelPath) -> Result<Option<Meta>> {
        match self.store.stat(path) {
            // A file or a link stands where its folder was.
            Err(error) if matches!(error.kind, FaultKind::NotFound | FaultKind::LinkInPath) => Ok(None),
            found => found,
        }
    }

    /// What stands at a path, if it is still what the run wrote there.
    fn unchanged(&self, item: &Item) -> Result<Meta> {
        match self.found(&item.path)? {
            Some(meta)
                if !meta.is_folder()
                    && meta.size == item.size
                    && same_time(self.store.capabilities(), &meta, item.now) =>
            {
                Ok(meta)
            }
            Some(_) => Err(StoreError::new(FaultKind::Changed, "undo", &item.path)),
            None => Err(StoreError::new(FaultKind::NotFound, "undo", &item.path)),
        }
    }

    /// Gives write permission to the folder that holds a path, as a run does.
    fn open_parent(&mut self, path: &RelPath) -> Result<()> {
        let Some(parent) = path.parent().filter(|parent| !parent.is_root()) else { return Ok(()) };
        if !self.store.capabilities().modes || self.opened.contains_key(&parent) {
            return Ok(());
        }
        let is_closed = |meta: &Meta| meta.is_folder() && meta.mode.is_some_and(|mode| mode & 0o300 != 0o300);
        let closed = self.found(&parent)?.filter(is_closed);
        if let Some(closed) = &closed {
            open_to_us(self.store, &parent, closed)?;
        }
        self.opened.insert(parent, closed);
        Ok(())
    }

    fn close_folders(&mut self) -> Result<()> {
        for (path, closed) in std::mem::take(&mut self.opened) {
            let Some(closed) = closed else { continue };
            let Some(mode) = closed.mode else { continue };
            // What has been given a mode of its own meanwhile keeps it.
            let as_opened = |found: &Meta| is_same(&closed, found) && found.mode == Some(mode | 0o700);
            if let Some(found) = self.found(&path)?.filter(as_opened) {
                let attributes = Attributes { mode: Some(mode), ..Attributes::default() };
                self.store.set_attributes(&path, &found, &attributes)?;
            }
        }
        Ok(())
    }

    fn rename(&mut self, from: &RelPath, to: &RelPath, expected: &Meta) -> Result<()> {
        self.open_parent(from)?;
        self.open_parent(to)?;
        if expected.is_folder() {
            self.store.rename(from, to)
        } else {
            self.store.rename_this(from, to, expected)
        }
    }

    /// Moves what stands at a path to the undo's own kept copies.
    fn set_aside(&mut self, path: &RelPath, meta: &Meta) -> Result<Disarmed> {
        let target = kept_folder(self.own).join_path(path);
        if self.made.is_empty() {
            write_owner(self.store, self.own, self.owner)?;
        }
        if let Some(parent) = target.parent() {
            self.make_kept_folder(&parent)?;
        }
        self.open_parent(path)?;
        self.store.keep(path, &target, meta)
    }

    /// Makes a folder among the undo's own kept copies, with those above it, each like the one that it stands for.
    fn make_kept_folder(&mut self, folder: &RelPath) -> Result<()> {
        let root = kept_folder(self.own);
        let mut missing = Vec::new();
        let mut at = Some(folder.clone());
        while let Some(folder) = at.filter(|folder| folder.is_within(&root) && !self.made.contains(folder)) {
            at = folder.parent();
            missing.push(folder);
        }
        missing.into_iter().rev().try_for_each(|folder| self.make_one_kept_folder(folder, &root))
    }

    fn make_one_kept_folder(&mut self, folder: RelPath, root: &RelPath) -> Result<()> {
        let original = folder.below(root).filter(|path| !path.is_root());
        let original = original.map(|path| self.found(&path)).transpose()?;
        let extra = original.as_ref().and_then(|meta| meta.as_ref()?.extra.clone());
        let made = make_folder(self.store, &folder, original)?;
        if extra.is_some() && self.store.capabilities().full {
            self.store.set_attributes(&folder, &made, &Attributes { extra, ..Attributes::default() })?;
        }
        self.made.insert(folder);
        Ok(())
    }

    /// Brings a kept copy back to its path, with what was taken from it.
    fn take_out(&mut self, kept: &RelPath, item: &Item, meta: &Meta) -> Result<()> {
        self.rename(kept, &item.path, meta)?;
        let Some(privileges) = &item.privileges else { return Ok(()) };
        // It is back, whatever comes of this.
        let (kind, words) = match self.store.rearm(&item.path, meta, privileges) {
            Ok(true) => return Ok(()),
            Ok(false) => (FaultKind::Denied, "it belongs to another account now".to_owned()),
            Err(error) if error.kind == FaultKind::Lost => return Err(error),
            Err(error) => (error.kind, error.reason()),
        };
        let words = format!("it is back, but not its setuid or setgid bit or its capabilities: {words}");
        self.problem(Problem::new(Code::Fault(kind), item.side, item.path.clone(), words));
        Ok(())
    }

    fn take_away(&mut self, item: &Item) -> Result<()> {
        if self.found(&item.path)?.is_none() {
            self.done.as_before += 1;
            return Ok(());
        }
        let meta = self.unchanged(item)?;
        let privileges = self.set_aside(&item.path, &meta)?;
        self.tell(Done::Removed, item, (meta.kind, meta.size), Mark::default(), Mark::of(&meta));
        self.disarmed(privileges);
        Ok(())
    }

    fn move_back(&mut self, item: &Item) -> Result<()> {
        let Some(old) = &item.moved_from else { return Ok(()) };
        let is_folder = |meta: &Meta| item.items.is_some() && meta.is_folder();
        let meta = match self.found(&item.path)? {
            Some(meta) if is_folder(&meta) => meta,
            None if self.found(old)?.is_some() => {
                self.done.as_before += 1;
                return Ok(());
            }
            _ => self.unchanged(item)?,
        };
        self.rename(&item.path, old, &meta)?;
        let (now, was) = (item.was, Mark::of(&meta));
        let extra = self.rights_back(item, &meta);
        if (now.mode != was.mode || extra.is_some()) && meta.is_item() {
            let mode = now.mode.map(|mode| mode & !SPECIAL_BITS);
            let attributes = Attributes { modified: now.modified, mode, extra };
            self.store.set_attributes(old, &meta, &attributes)?;
            self.tell_of_privileges(item);
        }
        let moved = Item {
            path: old.clone(),
            stands: Some((meta.kind, meta.size)),
            moved_from: Some(item.path.clone()),
            now,
            was,
            ..item.clone()
        };
        self.done.items.push(moved);
        self.had_rights(item, &meta);
        Ok(())
    }

    fn remove_folder(&mut self, item: &Item) -> Result<()> {
        let was = self.before.get(&item.path).copied().unwrap_or_default();
        self.open_parent(&item.path)?;
        match self.store.remove_folder(&item.path) {
            Err(error) if error.kind == FaultKind::NotFound => Ok(()),
            Err(error) => Err(error),
            Ok(()) => {
                self.tell(Done::FolderRemoved, item, (EntryKind::Folder, 0), Mark::default(), was);
                Ok(())
            }
        }
    }

    fn make_folder(&mut self, item: &Item) -> Result<()> {
        if self.found(&item.path)?.is_some_and(|found| found.is_folder()) {
            self.done.as_before += 1;
            return Ok(());
        }
        self.open_parent(&item.path)?;
        let open = Attributes { mode: item.was.mode.map(|mode| mode | 0o700), ..Attributes::default() };
        let made = self.store.make_folder(&item.path, &open)?;
        self.remade.insert(item.path.clone(), made);
        self.tell(Done::FolderMade, item, (EntryKind::Folder, 0), item.was, Mark::default());
        Ok(())
    }

    /// The kept copy of a path; without one, where it went.
    fn kept_copy(&mut self, item: &Item) -> Result<Option<(RelPath, Meta)>> {
        let kept = self.kept.join_path(&item.path);
        if let Some(meta) = self.found(&kept)? {
            return Ok(Some((kept, meta)));
        }
        let words = match item.gone {
            Gone::Kept => "its kept copy is no longer there: it has been brought back already, or pruned",
            Gone::Trashed => "it was moved to the trash, as the job orders; bring it back from there",
            Gone::Erased => "it was erased, as the job orders; no copy was kept",
        };
        self.problem(Problem::new(Code::NotKept, item.side, item.path.clone(), words));
        Ok(None)
    }

    fn bring_back(&mut self, item: &Item) -> Result<()> {
        let found = self.found(&item.path)?;
        if found.is_some_and(|found| found.size == item.size && found.modified == item.was.modified) {
            self.done.as_before += 1;
            return Ok(());
        }
        let Some((kept, meta)) = self.kept_copy(item)? else { return Ok(()) };
        self.take_out(&kept, item, &meta)?;
        self.tell(Done::Added, item, (meta.kind, meta.size), Mark::of(&meta), Mark::default());
        Ok(())
    }

    fn put_old_back(&mut self, item: &Item) -> Result<()> {
        let now = match self.unchanged(item) {
            Err(error) if error.kind == FaultKind::Changed => {
                let found = self.found(&item.path)?;
                let is_old = |found: Meta| item.was.modified.is_some() && found.modified == item.was.modified;
                if found.is_some_and(is_old) {
                    self.done.as_before += 1;
                    return Ok(());
                }
                return Err(error);
            }
            found => found?,
        };
        let Some((kept, meta)) = self.kept_copy(item)? else { return Ok(()) };
        let privileges = self.set_aside(&item.path, &now)?;
        self.take_out(&kept, item, &meta)?;
        self.tell(Done::Updated, item, (meta.kind, meta.size), Mark::of(&meta), Mark::of(&now));
        self.disarmed(privileges);
        Ok(())
    }

    /// What the run kept and its log does not tell of: it was cut short.
    fn bring_back_the_rest(&mut self, past: &Past) -> Result<()> {
        let Some(run) = &past.run else { return Ok(()) };
        let kept = match kept_files(self.store, run, &AtomicBool::new(false)) {
            Ok(kept) => kept,
            Err(error) if error.kind == FaultKind::NotFound => return Ok(()),
            Err(error) => return Err(error),
        };
        let told: HashSet<&RelPath> = past.items.iter().map(|item| &item.path).collect();
        for file in kept.iter().filter(|file| !told.contains(&file.path)) {
            let item = Item { side: past.side, ..Item::new(Done::Removed, file.path.clone(), file.size) };
            self.step(&item, Undoing::bring_untold_back)?;
        }
        Ok(())
    }

    fn bring_untold_back(&mut self, item: &Item) -> Result<()> {
        let kept = self.kept.join_path(&item.path);
        let Some(meta) = self.found(&kept)? else { return Ok(()) };
        match self.found(&item.path)? {
            None => {
                if let Some(parent) = item.path.parent() {
                    self.store.make_folders(&parent)?;
                }
                self.rename(&kept, &item.path, &meta)?;
                self.tell(Done::Added, item, (meta.kind, meta.size), Mark::of(&meta), Mark::default());
            }
            // The copy was made, and nothing took its place any more.
            Some(found) if found.size == meta.size && found.modified == meta.modified => {
                self.done.as_before += 1
            }
            Some(_) => {
                let words = "the run was cut short and does not say what it put here; the old version is among its kept copies";
                self.problem(Problem::new(Code::Untold, item.side, item.path.clone(), words));
            }
        }
        Ok(())
    }

    fn metadata_back(&mut self, item: &Item) -> Result<()> {
        let Some(meta) = self.found(&item.path)? else {
            return Err(StoreError::new(FaultKind::NotFound, "undo", &item.path));
        };
        if meta.is_folder() {
            // With the other folders, at the end.
            return Ok(());
        }
        if !same_time(self.store.capabilities(), &meta, item.now) {
            return Err(StoreError::new(FaultKind::Changed, "undo", &item.path));
        }
        let extra = self.rights_back(item, &meta);
        // What is as it was is not touched: setting a mode takes setuid away.
        let mode = item.was.mode.map(|mode| mode & !SPECIAL_BITS);
        let mode = mode.filter(|_| extra.is_some() || meta.mode != item.was.mode);
        let was = Attributes { modified: item.was.modified, mode, extra };
        self.store.set_attributes(&item.path, &meta, &was)?;
        self.tell(Done::Metadata, item, (meta.kind, meta.size), item.was, Mark::of(&meta));
        self.had_rights(item, &meta);
        if item.rights.is_some() || mode.is_some() {
            self.tell_of_privileges(item);
        }
        Ok(())
    }

    /// The owners and attributes to give back, where the run has changed them. Capabilities are left out: the owner in between may have
    /// put something else into the file.
    fn rights_back(&self, item: &Item, now: &Meta) -> Option<Arc<Extra>> {
        let rights = item.rights.as_ref().filter(|_| self.store.capabilities().full)?;
        Some(Arc::new(rights.to_give(now)?.without_capability()))
    }

    /// Says what of an entry's metadata an undo does not give back.
    fn tell_of_privileges(&mut self, item: &Item) {
        let special = item.was.mode.is_some_and(|mode| mode & SPECIAL_BITS != 0);
        let capable = item.rights.as_ref().is_some_and(|rights| rights.are_capable());
        if special || capable {
            let words = "its mode, owner and attributes are back, but not its setuid or setgid bit or its capabilities";
            let code = Code::Fault(FaultKind::Denied);
            self.problem(Problem::new(code, item.side, item.path.clone(), words));
        }
    }

    /// Adds to what was told last what owners and attributes stood there, if they are given back.
    fn had_rights(&mut self, item: &Item, now: &Meta) {
        let rights = Rights::of(now, self.store.capabilities().owners).filter(|_| item.rights.is_some());
        if let Some(last) = self.done.items.last_mut() {
            last.rights = rights;
        }
    }

    fn folder_marks(&self, past: &Past) -> Result<HashMap<RelPath, Mark>> {
        let made = past.items.iter().filter(|item| item.done == Done::FolderMade).map(|item| &item.path);
        let mut marks = HashMap::new();
        for path in past.folders.iter().map(|(path, _)| path).chain(made) {
            if let Some(meta) = self.found(path)? {
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
        let remoded = past
            .items
            .iter()
            .filter(|item| item.done == Done::Metadata)
            .map(|item| (past.before_moves(&item.path), item));
        let remoded: HashMap<RelPath, &Item> = remoded.collect();
        for (path, was) in folders {
            self.mark_folder(&path, was, remoded.get(&path).copied())?;
        }
        for (path, was) in &past.folders {
            let path = past.before_moves(path);
            let before = self.before.get(&path).copied().filter(|before| before.mode != was.mode);
            if let Some(before) = before.filter(|_| was.mode.is_some() && !path.is_root()) {
                let item = Item { side: past.side, ..Item::new(Done::Metadata, path, 0) };
                self.tell(Done::Metadata, &item, (EntryKind::Folder, 0), *was, before);
            }
        }
        let stayed = past.folders.iter().map(|(path, _)| path);
        self.done.folders =
            stayed.filter_map(|path| Some((past.before_moves(path), *self.before.get(path)?))).collect();
        Ok(())
    }
}

impl Undoing<'_> {
    /// Gives a folder back the time that it had, and the mode: to one that the undo has made, or that still has the mode which the run
    /// gave it. Another one may have its name by now.
    fn mark_folder(&mut self, path: &RelPath, was: Mark, given: Option<&Item>) -> Result<()> {
        let Some(found) = self.found(path)?.filter(Meta::is_folder) else { return Ok(()) };
        let remade = self.remade.get(path);
        let is_ours = match (remade, given) {
            (Some(remade), _) => is_same(remade, &found),
            // A mode that was not changed is not told of.
            (None, Some(given)) => given.now.mode.is_none_or(|mode| found.mode == Some(mode)),
            (None, None) => false,
        };
        let attributes = Attributes {
            modified: was.modified,
            mode: was.mode.filter(|_| is_ours && !path.is_root()),
            extra: given.filter(|_| is_ours).and_then(|given| self.rights_back(given, &found)),
        };
        match self.store.set_attributes(path, remade.unwrap_or(&found), &attributes) {
            Err(error) if error.kind == FaultKind::Lost => Err(error),
            // A folder that could not be brought back has already been reported.
            _ => Ok(()),
        }
    }
}

/// Whether an entry has the time that was asked for, as far as its store can hold it: the log has what was asked for.
fn same_time(can: &Capabilities, meta: &Meta, mark: Mark) -> bool {
    let coarsest = std::time::Duration::from_secs(2);
    match (meta.modified, mark.modified) {
        (Some(found), Some(written)) if can.limits.tell(written) => {
            found == written
                || can.time_precision.is_some_and(|step| found.same_within(written, step))
                || (found.nanos() == 0 && found.same_within(written, coarsest))
        }
        _ => true,
    }
}
