//! Kept copies of this run: what is replaced or removed is set aside below `.reedhook/kept`, in folders like those that it comes from.

use std::sync::PoisonError;

use super::kept;
use crate::entry::{Meta, Side};
use crate::path::RelPath;
use crate::run::engine::{Engine, Halt};
use crate::store::error::StoreError;
use crate::store::{Attributes, Disarmed};

impl Engine<'_> {
    /// Moves a file or link to the kept copies of this run.
    pub(super) fn keep(&self, path: &RelPath, was: &Meta) -> Result<Disarmed, StoreError> {
        self.input.right.keep(path, &self.kept_path(path)?, was)
    }

    /// Where the kept copy of a path goes; its folder is made.
    pub(super) fn kept_path(&self, path: &RelPath) -> Result<RelPath, StoreError> {
        let kept = self.kept.join_path(path);
        if let Some(parent) = kept.parent() {
            self.make_kept_folder_once(&parent)?;
        }
        Ok(kept)
    }

    /// Makes a folder among the kept copies, and those above it, unless that was done: from the top, in a list of our own, for a tree may
    /// have any number of levels.
    pub(super) fn make_kept_folder_once(&self, folder: &RelPath) -> Result<(), StoreError> {
        let mut missing = Vec::new();
        let mut at = Some(folder.clone());
        while let Some(folder) = at.filter(|folder| folder.is_within(&self.kept)) {
            if self.state().kept_folders.contains_key(&folder) {
                break;
            }
            at = folder.parent();
            missing.push(folder);
        }
        missing.iter().rev().try_for_each(|folder| self.make_one_kept_folder_once(folder))
    }

    /// Of several workers that want a folder at once, one makes it and the others wait: servers answer those that come late with all
    /// sorts of refusals.
    fn make_one_kept_folder_once(&self, folder: &RelPath) -> Result<(), StoreError> {
        let mut state = self.state();
        loop {
            if state.kept_folders.contains_key(folder) {
                return Ok(());
            }
            if state.making.insert(folder.clone()) {
                break;
            }
            state = self.made.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        drop(state);
        let made = self.make_kept_folder(folder);
        let mut state = self.state();
        state.making.remove(folder);
        let made = made.map(|made| drop(state.kept_folders.insert(folder.clone(), made)));
        drop(state);
        self.made.notify_all();
        made
    }

    /// What a folder among the kept copies stands for, as the plan saw it or as it is now.
    fn original(&self, folder: &RelPath) -> Option<(RelPath, Option<Meta>)> {
        let original = folder.below(&self.kept).filter(|path| !path.is_root())?;
        let planned = self.plan.folders.binary_search_by(|planned| planned.path.cmp(&original));
        let meta = match planned.ok().and_then(|at| self.plan.folders[at].right.clone()) {
            Some(meta) => Some(meta),
            None => self.input.right.stat(&original).ok().flatten(),
        };
        Some((original, meta))
    }

    pub(super) fn make_kept_folder(&self, folder: &RelPath) -> Result<Meta, StoreError> {
        let right = self.input.right;
        {
            let mut owned = self.owned.lock().unwrap_or_else(PoisonError::into_inner);
            if !*owned {
                kept::write_owner(right, &self.input.run, self.input.owner)?;
                *owned = true;
            }
        }
        match right.stat(folder) {
            // An earlier part of this run has finished it.
            Ok(Some(found)) if found.is_folder() => kept::open_to_us(right, folder, &found).map(|()| found),
            _ => kept::make_folder(right, folder, self.original(folder).map(|(_, meta)| meta)),
        }
    }

    /// Gives the folders of the kept copies the modes and times of those that they stand for.
    pub(super) fn finish_kept(&self) -> Result<(), Halt> {
        let right = self.input.right;
        let can = right.capabilities();
        let mut folders: Vec<(RelPath, Meta)> =
            self.state().kept_folders.iter().map(|(path, made)| (path.clone(), made.clone())).collect();
        folders.sort_by(|a, b| b.0.cmp(&a.0));
        for (folder, made) in folders {
            let Some((_, meta)) = self.original(&folder) else { continue };
            let timed = can.time_precision.is_some() && can.folder_times;
            let extra = meta.as_ref().and_then(|meta| self.extra(meta));
            let mode = meta.as_ref().and_then(|meta| match &extra {
                Some(_) => meta.mode,
                None => meta.mode_without_list(),
            });
            let attributes = Attributes {
                modified: meta.as_ref().and_then(|meta| meta.modified).filter(|_| timed),
                mode: mode.filter(|_| can.modes),
                extra,
            };
            if attributes != Attributes::default() {
                // The copies themselves are what counts.
                self.lost_only(Side::Right, right.set_attributes(&folder, &made, &attributes))?;
            }
        }
        Ok(())
    }
}
