//! Renames: what has another path at the side that is read gets it at the side that changes, and no bytes travel.

use crate::entry::{EntryKind, Meta, Side};
use crate::path::RelPath;
use crate::plan::{Role, Step};
use crate::run::engine::{Engine, Halt, PlannedItem, is_absence};
use crate::run::event::{Done, Item, Mark, step_size};
use crate::store::error::{FaultKind, StoreError};
use crate::store::{Attributes, StoreExt, is_still};

impl<'a> Engine<'a> {
    /// Renames at the destination, from the top down.
    pub(super) fn moves(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        let renames =
            |step: &Step| matches!(step, Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. });
        self.items().filter(move |item| renames(&item.action.step))
    }

    pub(super) fn rename(&self, item: &PlannedItem<'_>) -> Result<(), Halt> {
        self.go_on()?;
        let path = item.path();
        if self.plan.unproved && !matches!(item.action.step, Step::Respell { .. }) {
            // A plan for looking at. Whoever hands it over to be carried out makes a mistake that must cost nobody a file.
            let unproved = StoreError::new(FaultKind::Unsupported, "rename", &path)
                .because("nobody has compared what the two files hold");
            return self.failed(Side::Right, unproved, &path);
        }
        let done = Item::new(Done::Moved, path.clone(), step_size(&item.action.step));
        let (outcome, done) = match &item.action.step {
            Step::MoveFolder { from, items } => {
                let done = Item {
                    stands: Some((EntryKind::Folder, 0)),
                    moved_from: Some(from.clone()),
                    items: Some(*items),
                    ..done
                };
                (self.rename_folder(from, &path), done)
            }
            Step::Move { from, to, was } => {
                let (now, was_mark) = (Mark::of(to), Mark::of(was));
                let rights = self.change(to, was).extra.and_then(|_| self.rights_before(was));
                let done = Item {
                    rights,
                    stands: Some((to.kind, to.size)),
                    moved_from: Some(from.clone()),
                    now,
                    was: was_mark,
                    makes_room: item.action.role == Role::Aside,
                    ..done
                };
                (self.rename_file(from, &path, (to, was), item.action.role), done)
            }
            Step::Respell { from, was } => {
                let items = was.is_folder().then_some(1);
                let done = Item {
                    stands: Some((was.kind, was.size)),
                    moved_from: Some(from.clone()),
                    items,
                    now: Mark::of(was),
                    was: Mark::of(was),
                    ..done
                };
                (self.respell(from, &path, was), done)
            }
            _ => return Ok(()),
        };
        match outcome {
            Ok(()) => self.done(done, 0),
            Err(error) => self.failed(Side::Right, error, &path)?,
        }
        Ok(())
    }

    pub(super) fn rename_folder(&self, from: &RelPath, path: &RelPath) -> Result<(), StoreError> {
        self.has_moved_at_left(from, path, |found| found.is_folder())?;
        self.input.right.rename(from, path)
    }

    pub(super) fn rename_file(
        &self,
        from: &RelPath,
        path: &RelPath,
        (to, was): (&Meta, &Meta),
        role: Role,
    ) -> Result<(), StoreError> {
        if role != Role::Aside {
            self.has_moved_at_left(from, path, |found| is_still(to, found))?;
        }
        let right = self.input.right;
        right.rename_this(from, path, was)?;
        let change = self.change(to, was);
        if change == Attributes::default() { Ok(()) } else { right.set_attributes(path, was, &change) }
    }

    /// The side that is read still has the new spelling, and what stands there is what was seen.
    pub(super) fn respell(&self, from: &RelPath, path: &RelPath, was: &Meta) -> Result<(), StoreError> {
        if self.input.left.stat(path)?.is_none() {
            return Err(StoreError::new(FaultKind::Changed, "rename", path));
        }
        match was.is_folder() {
            true => self.input.right.rename(from, path),
            false => self.input.right.rename_this(from, path, was),
        }
    }

    /// Fails unless the left has it at the new path, and nothing at the old one.
    pub(super) fn has_moved_at_left(
        &self,
        from: &RelPath,
        path: &RelPath,
        as_planned: impl Fn(&Meta) -> bool,
    ) -> Result<(), StoreError> {
        let left = self.input.left;
        let there = left.stat(path)?.is_some_and(|found| as_planned(&found));
        let gone = match self.stat_at_left(from) {
            Err(error) if is_absence(&error) => true,
            found => found?.is_none() || self.is_taken_by_another(from),
        };
        if there && gone { Ok(()) } else { Err(StoreError::new(FaultKind::Changed, "rename", path)) }
    }
}
