//! Folders at both sides, and folders against something else.

use crate::entry::{Entry, Meta, Side};
use crate::filter::{Inherited, Verdict as Taken};
use crate::path::{Name, RelPath};
use crate::plan::two_way::{Known, Remembered, Settled, SideChange};
use crate::plan::{Role, Step};
use crate::store::error::Result;
use crate::walk::pair::at;
use crate::walk::progress::ScanError;
use crate::walk::two_way::input::Mode;
use crate::walk::two_way::{Task, Visit};

impl Visit<'_> {
    pub(super) fn folder(
        &mut self,
        name: Name,
        left: Option<Meta>,
        right: Option<Meta>,
        known: Option<Known>,
        verdict: Taken,
        mode: Mode,
    ) {
        let missing_at = match (&left, &right) {
            (None, Some(_)) => Some(Side::Left),
            (Some(_), None) => Some(Side::Right),
            _ => None,
        };
        if known.is_none() && missing_at.is_some_and(|side| self.clashes(side, &name)) {
            return;
        }
        let was_folder = known.as_ref().is_some_and(Known::is_folder);
        let on_both = left.is_some() && right.is_some();
        let mode_differs = match (&left, &right) {
            (Some(left), Some(right)) => !self.input.by.same_mode(left, right),
            _ => false,
        };
        let path = self.visited.path.join(&name);
        let known_at = self.known_at.join(self.spellings.remembered_as(&name));
        let now_at = [Side::Left, Side::Right].map(|side| self.now_at(side, &name));
        if on_both && was_folder && mode == Mode::Reconcile && !self.input.scope.enters(&path) {
            // What both agreed on of the folder itself and of all that is in it stays as it is.
            self.remembered.extend(known);
            return self.stays(true, true);
        }
        let inherited = self.input.filter.inherit(verdict);
        let folder_known = known.clone().filter(|_| was_folder);
        if on_both && was_folder && !mode_differs {
            self.remembered.extend(known);
        } else {
            self.open_question(name, known);
        }
        let chosen = verdict == Taken::In;
        self.touched |= !on_both;
        let (anothers, above) = (self.anothers, self.looked.or(self.above));
        self.below.push(Task {
            path,
            left,
            right,
            known: folder_known,
            known_at,
            now_at,
            inherited,
            chosen,
            mode,
            anothers,
            above,
        });
    }

    pub(super) fn folder_against_item(
        &mut self,
        name: Name,
        left: Option<Meta>,
        right: Option<Meta>,
        known: Option<Known>,
        inherited: Inherited,
    ) -> Result<(), ScanError> {
        let (Some(left), Some(right)) = (left, right) else { return Ok(()) };
        let folder_side = if left.is_folder() { Side::Left } else { Side::Right };
        let path = self.visited.path.join(&name);
        let winner = match (self.visited.mode, &known) {
            (Mode::Take(side), _) => Some((side, Role::Loser)),
            // The other side made an item of the folder; that holds unless something in the folder has changed.
            (_, Some(known)) if known.is_folder() => {
                let folder = if folder_side == Side::Left { &left } else { &right };
                let now_at = self.now_at(folder_side, &name);
                let unchanged = !self.has_changed_within(folder_side, (&path, &now_at), folder, inherited)?;
                unchanged.then_some((folder_side.other(), Role::Plain))
            }
            // This side made a folder of the item; that holds unless the item has changed.
            (_, Some(known)) => {
                // Nothing but its content tells, where its time cannot.
                let metas = match folder_side {
                    Side::Left => (None, Some(&right)),
                    Side::Right => (Some(&left), None),
                };
                let state = self.state(folder_side.other(), &name, metas, Some(known), &mut None);
                let unchanged = state.is_ok_and(|state| state != SideChange::Changed);
                unchanged.then_some((folder_side, Role::Plain))
            }
            (Mode::Reconcile, None) => None,
        };
        let (winner, role) = match winner {
            Some(found) => found,
            None => match self.conflict(&path, &left, &right) {
                Settled::Wins(side) | Settled::Both(side) => (side, Role::Loser),
                Settled::Held => {
                    self.stays(true, true);
                    self.remembered.extend(known);
                    return Ok(());
                }
            },
        };
        // What a line says of the name holds for what goes as for what comes.
        let folder = if folder_side == Side::Left { &left } else { &right };
        let verdict = match self.input.filter.judge(&self.visited.path, &name, folder, inherited) {
            Taken::Out(_) => Taken::Through,
            verdict => verdict,
        };
        let mode = Mode::Take(winner);
        // What it would be taken for is the very thing that makes way for it.
        let key = self.folding().key(&name);
        self.folded[at(folder_side.other())].remove(&key);
        let (item_side, item, present) = match folder_side {
            Side::Left => (Side::Right, right, (Some(left), None)),
            Side::Right => (Side::Left, left, (None, Some(right))),
        };
        if winner == folder_side {
            self.act(name.clone(), item_side, Step::Remove { was: item }, role);
            self.folder(name, present.0, present.1, known, verdict, mode);
        } else {
            self.folder(name.clone(), present.0, present.1, known, verdict, mode);
            if !self.cannot_hold(folder_side, &name, &item) {
                self.act(name, folder_side, Step::Add { from: item }, role);
            }
        }
        Ok(())
    }

    /// Whether something in a folder was added or changed at a side since both agreed on it.
    pub(super) fn has_changed_within(
        &mut self,
        side: Side,
        (path, now_at): (&RelPath, &RelPath),
        folder: &Meta,
        inherited: Inherited,
    ) -> Result<bool, ScanError> {
        let Remembered { known, looked } = (self.input.baseline)(path).map_err(ScanError::Baseline)?;
        let Ok(listing) = self.input.store(side).list(now_at) else { return Ok(true) };
        if !listing.unknown.is_empty() || !folder.is_folder() {
            return Ok(true);
        }
        for Entry { name, meta } in listing.entries {
            let verdict = self.input.filter.judge(path, &name, &meta, inherited);
            if matches!(verdict, Taken::Out(_)) {
                continue;
            }
            let remembered = known.binary_search_by(|known| known.name.cmp(&name)).ok().map(|at| &known[at]);
            let (below, below_now) = (path.join(&name), now_at.join(&name));
            let state = match remembered {
                Some(known)
                    if (known.is_fresh(side, looked) || self.is_cut(side, &meta))
                        && !self.still_holds(side, &below_now, known) =>
                {
                    SideChange::Changed
                }
                Some(known) => known.state(side, Some(&meta), &mut |_| false),
                None => SideChange::Changed,
            };
            let inherited = self.input.filter.inherit(verdict);
            if state == SideChange::Changed
                || (meta.is_folder()
                    && self.has_changed_within(side, (&below, &below_now), &meta, inherited)?)
            {
                return Ok(true);
            }
        }
        Ok(false)
    }
}
