//! What runs that were cut short have taken out of its place to look at it ([`crate::path::JUDGED_PREFIX`]): it may be what somebody
//! saved at that very moment. What is elsewhere as well is cleared; everything else is kept, and told.

use std::sync::atomic::AtomicBool;

use jiff::tz::TimeZone;

use super::kept;
use crate::content::{self, FileAt};
use crate::entry::{Meta, Side};
use crate::path::{Name, RelPath};
use crate::problem::{Code, Problem};
use crate::run::engine::{Engine, Halt};
use crate::run::input::kept_folder;
use crate::store::Store;
use crate::store::error::Result;

impl Engine<'_> {
    /// Settles what was set aside at `found`.
    pub(super) fn settle_aside(&self, found: &RelPath, meta: &Meta) -> std::result::Result<(), Halt> {
        let name = found.file_name().and_then(|name| Name::new(name).ok()).and_then(|name| name.judged_as());
        let folder = found.parent().unwrap_or_default();
        let path = name.as_ref().map_or_else(|| found.clone(), |name| folder.join(name));
        if self.is_elsewhere(found, &path, meta) {
            return self.lost_only(Side::Right, self.input.right.remove(found, meta));
        }
        // A copy of this run may get that name.
        let kept_as = if self.is_planned(&folder, name.as_ref()) { found } else { &path };
        let kept = self.kept_path(kept_as).and_then(|to| self.input.right.keep(found, &to, meta).map(|_| ()));
        match kept {
            Ok(()) => {
                let words = format!(
                    "an earlier run was cut short while it looked at this version, which may be somebody's work: it is among the kept copies of this run, as {kept_as}"
                );
                self.problem(Problem::new(Code::SetAside, Side::Right, path, words));
                Ok(())
            }
            Err(error) => self.failed(Side::Right, error, found),
        }
    }

    /// Whether the same content is in its place, at the other side, or among the kept copies: then this one is needed by nobody.
    fn is_elsewhere(&self, found: &RelPath, path: &RelPath, meta: &Meta) -> bool {
        if !meta.is_item() || found == path {
            return false;
        }
        let (left, right) = (self.input.left, self.input.right);
        is_alike(right, (found, meta), (right, path))
            || is_alike(right, (found, meta), (left, path))
            || self.is_kept(path, meta).unwrap_or(false)
    }

    /// Whether an earlier run has kept this very file: then it has two names.
    fn is_kept(&self, path: &RelPath, meta: &Meta) -> Result<bool> {
        for kept in kept::kept_runs(self.input.right, &TimeZone::UTC)? {
            let copy = self.input.right.stat(&kept_folder(&kept.run).join_path(path))?;
            if copy.is_some_and(|copy| copy.id.is_some() && copy.id == meta.id) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn is_planned(&self, folder: &RelPath, name: Option<&Name>) -> bool {
        let planned = self.plan.folders.binary_search_by(|planned| planned.path.cmp(folder));
        let actions = planned.map_or(&[][..], |at| &self.plan.folders[at].actions);
        actions.iter().any(|action| Some(&action.name) == name)
    }
}

/// Whether two places hold files or links of the same content. What cannot be read is not.
fn is_alike(
    store: &dyn Store,
    (path, meta): (&RelPath, &Meta),
    (other, there): (&dyn Store, &RelPath),
) -> bool {
    let Ok(Some(found)) = other.stat(there) else { return false };
    if (found.kind, found.size, &found.target) != (meta.kind, meta.size, &meta.target) {
        return false;
    }
    let (ours, theirs) = (FileAt { store, path }, FileAt { store: other, path: there });
    let never = AtomicBool::new(false);
    meta.target.is_some()
        || content::equal(ours, theirs, meta.size, (false, &never), &mut |_| {}).unwrap_or(false)
}
