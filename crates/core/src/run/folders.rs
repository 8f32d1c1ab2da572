//! Folders: opened for the change, made from the top, removed from the bottom, and given their modes and times at the end.

use crate::entry::{EntryKind, Meta, Side};
use crate::path::{Name, RelPath};
use crate::plan::{Fate, FolderPlan};
use crate::problem::{Code, Problem};
use crate::run::engine::{Engine, Halt};
use crate::run::event::{Done, Event, Item, Mark};
use crate::store::Attributes;
use crate::store::error::{FaultKind, StoreError};

impl<'a> Engine<'a> {
    /// Gives write permission to folders of ours in which something is to change; closed again at the end.
    pub(super) fn open_folders(&self) -> Result<(), Halt> {
        if !self.input.right.capabilities().modes {
            return Ok(());
        }
        for folder in self.folders_with(Fate::Stay).chain(self.folders_with(Fate::Remove)) {
            let Some(found) = &folder.right else { continue };
            let Some(mode) = found.mode else { continue };
            if mode & 0o300 != 0o300 {
                let attributes = Attributes { mode: Some(mode | 0o700), ..Attributes::default() };
                match self.input.right.set_attributes(&folder.path, found, &attributes) {
                    Ok(()) => self.state().opened.push((folder.path.clone(), mode)),
                    // Not ours: what is to change in it will say so, each by itself.
                    Err(error) => self.lost_only::<()>(Side::Right, Err(error))?,
                }
            }
        }
        Ok(())
    }

    pub(super) fn make_folders(&self) -> Result<(), Halt> {
        for level in Self::by_depth(self.folders_with(Fate::Make)) {
            self.for_each(&level, |folder| self.make_folder(folder))?;
        }
        Ok(())
    }

    pub(super) fn make_folder(&self, folder: &FolderPlan) -> Result<(), Halt> {
        self.go_on()?;
        if self.is_below_failed(&folder.path) {
            self.state().failed_folders.insert(folder.path.clone());
            return Ok(());
        }
        // Open to us until the end, whatever its final mode.
        let wanted = folder.left.as_ref().and_then(|meta| self.by.mode_to_give(meta));
        let mode = wanted.filter(|_| self.keeps_modes()).map(|mode| mode | 0o700);
        match self.input.right.make_folder(&folder.path, &Attributes { mode, ..Attributes::default() }) {
            Ok(made) => {
                let mut state = self.state();
                state.folders_made += 1;
                state.made_folders.insert(folder.path.clone(), made);
                drop(state);
                self.send(Event::Item(Item::new(Done::FolderMade, folder.path.clone(), 0)));
            }
            // Somebody made it meanwhile: what is to go into it is decided file by file.
            Err(error) if error.kind == FaultKind::Exists && self.is_folder(&folder.path) => {}
            Err(error) => self.folder_failed(folder, error)?,
        }
        Ok(())
    }

    /// What a planned folder is: the one that this run made, or that the plan saw. `None` for one that somebody else made meanwhile: its
    /// modes are theirs.
    fn identity(&self, folder: &FolderPlan) -> Option<Meta> {
        let made = self.state().made_folders.get(&folder.path).cloned();
        made.or_else(|| folder.right.clone().filter(|right| right.is_folder()))
    }

    pub(super) fn folder_failed(&self, folder: &FolderPlan, error: StoreError) -> Result<(), Halt> {
        if error.kind == FaultKind::Lost {
            return Err(Halt::Lost(Side::Right, error));
        }
        let within = self.items().filter(|item| item.folder.path.is_within(&folder.path)).count();
        let message = format!("{}; {within} items in it were not copied", error.reason());
        self.problem(Problem::new(Code::Fault(error.kind), Side::Right, folder.path.clone(), message));
        self.state().failed_folders.insert(folder.path.clone());
        Ok(())
    }

    pub(super) fn is_below_failed(&self, path: &RelPath) -> bool {
        let state = self.state();
        !state.failed_folders.is_empty()
            && path.parent().is_some_and(|parent| state.failed_folders.contains(&parent))
    }

    pub(super) fn remove_folders(&self) -> Result<(), Halt> {
        for level in Self::by_depth(self.folders_with(Fate::Remove)).iter().rev() {
            self.for_each(level, |folder| self.remove_folder(folder))?;
        }
        Ok(())
    }

    pub(super) fn remove_folder(&self, folder: &FolderPlan) -> Result<(), Halt> {
        self.go_on()?;
        // Where a file is to stand in its place, the left has something else under this name.
        let in_the_way = self.is_taken_by_another(&folder.path);
        if !in_the_way && !self.is_absent_at_left(&folder.path)? {
            return Ok(());
        }
        match self.input.right.remove_folder(&folder.path) {
            Ok(()) => {
                self.state().folders_removed += 1;
                // Made anew, it has no access list.
                let was = folder.right.as_ref();
                let was = was.map(|was| Mark { mode: was.mode_without_list(), ..Mark::of(was) });
                let was = was.unwrap_or_default();
                let item = Item::new(Done::FolderRemoved, folder.path.clone(), 0);
                self.send(Event::Item(Item { was, ..item }));
            }
            Err(error) if error.kind == FaultKind::NotFound => {}
            Err(error) => self.failed(Side::Right, error, &folder.path)?,
        }
        Ok(())
    }

    /// Whether the plan puts something else where a thing is to go from.
    pub(super) fn is_taken_by_another(&self, path: &RelPath) -> bool {
        let at = self.plan.folders.binary_search_by(|planned| planned.path.cmp(path));
        at.is_ok_and(|at| self.plan.folders[at].fate == Fate::Make)
            || path.split().is_some_and(|(parent, name)| self.brings(&parent, &name))
    }

    /// Whether the plan puts a file or link at a name.
    pub(super) fn brings(&self, folder: &RelPath, name: &Name) -> bool {
        let Ok(at) = self.plan.folders.binary_search_by(|planned| planned.path.cmp(folder)) else {
            return false;
        };
        let actions = &self.plan.folders[at].actions;
        let first = actions.partition_point(|action| action.name < *name);
        let mut same = actions[first..].iter().take_while(|action| action.name == *name);
        same.any(|action| action.step.fills())
    }

    /// Gives folders their modes and times. After an early end only the opened ones are closed again.
    pub(super) fn finish_folders(&self, complete: bool) -> Result<(), Halt> {
        let mut opened: Vec<(RelPath, u32)> = std::mem::take(&mut self.state().opened);
        opened.sort();
        for level in Self::by_depth(self.plan.folders.iter()).iter().rev() {
            self.for_each(level, |folder| {
                let was_open = opened.binary_search_by(|(path, _)| path.cmp(&folder.path)).ok();
                self.finish_folder(folder, complete, was_open.map(|at| opened[at].1))
            })?;
        }
        Ok(())
    }

    pub(super) fn finish_folder(
        &self,
        folder: &FolderPlan,
        complete: bool,
        was_open: Option<u32>,
    ) -> Result<(), Halt> {
        let can = self.input.right.capabilities();
        let times = can.time_precision.is_some() && can.folder_times;
        let ours = folder.fate != Fate::Remove && folder.left.is_some();
        let failed = folder.fate == Fate::Make && self.state().failed_folders.contains(&folder.path);
        let finished = complete && ours && !failed;
        let changes_rights = finished && (folder.fate == Fate::Make || folder.remode);
        let left = folder.left.as_ref();
        let wanted = left.filter(|_| changes_rights && self.keeps_modes());
        let new_mode = wanted.and_then(|left| self.by.mode_to_give(left));
        let mode = new_mode.or(was_open);
        let extra = left.filter(|_| changes_rights).and_then(|left| self.extra(left));
        let modified = left.filter(|_| finished && times).and_then(|left| left.modified);
        if mode.is_none() && modified.is_none() && extra.is_none() {
            return Ok(());
        }
        if folder.fate == Fate::Remove && !self.is_folder(&folder.path) {
            // It has gone, and something else may have its place.
            return Ok(());
        }
        if finished && folder.remode && !self.has_planned_mode(folder, was_open) {
            let changed = StoreError::new(FaultKind::Changed, "set the mode of", &folder.path);
            return self.failed(Side::Right, changed, &folder.path);
        }
        let changed_rights = extra.is_some();
        let attributes = Attributes { modified, mode, extra };
        let Some(expected) = self.identity(folder) else { return Ok(()) };
        match self.input.right.set_attributes(&folder.path, &expected, &attributes) {
            Ok(()) => self.folder_finished(folder, finished, Mark { modified, mode }, changed_rights),
            Err(error) if error.kind == FaultKind::NotFound => {}
            // On some media the root's time cannot be set; that is no loss worth a problem.
            Err(_) if folder.path.is_root() => {}
            Err(error) => self.failed(Side::Right, error, &folder.path)?,
        }
        Ok(())
    }

    /// Whether a folder has the mode that the plan saw, or the one it was opened with.
    pub(super) fn has_planned_mode(&self, folder: &FolderPlan, was_open: Option<u32>) -> bool {
        let planned = folder.right.as_ref().and_then(|meta| meta.mode);
        match self.input.right.stat(&folder.path) {
            Ok(Some(found)) => {
                found.mode == planned || was_open.is_some_and(|mode| found.mode == Some(mode | 0o700))
            }
            _ => true,
        }
    }

    pub(super) fn folder_finished(
        &self,
        folder: &FolderPlan,
        finished: bool,
        now: Mark,
        changed_rights: bool,
    ) {
        if let Some(was) = folder.right.as_ref().map(Mark::of).filter(|_| finished) {
            self.send(Event::Folder { side: Side::Right, path: folder.path.clone(), was });
            if folder.remode {
                let stands = Some((EntryKind::Folder, 0));
                let rights = folder.right.as_ref().filter(|_| changed_rights);
                let rights = rights.and_then(|was| self.rights_before(was));
                let item = Item::new(Done::Metadata, folder.path.clone(), 0);
                self.done(Item { stands, now, was, rights, ..item }, 0);
            }
        }
    }
}
