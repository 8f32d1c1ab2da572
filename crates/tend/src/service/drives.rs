//! What is known of the drives of named stores.

use std::collections::{BTreeMap, VecDeque};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use reedhook_core::store::Place;
use reedhook_jobs::places::Located;
use reedhook_stores::drives;

/// What is known of the named stores.
#[derive(Default)]
pub(in crate::service) struct DriveScan {
    /// What each was on when it was last looked at, while its folder was there, and where that is; nothing before the first look.
    pub(super) there: BTreeMap<String, Option<(Mounted, Vec<Place>)>>,
    /// Stores that have appeared and are still to be looked through.
    pub(super) due: VecDeque<String>,
    /// The one that is being looked through.
    pub(super) at_work: Option<AtWork>,
}

/// What the folder of a store is on.
#[derive(Clone, PartialEq, Eq)]
pub(in crate::service) struct Mounted {
    pub(super) at: PathBuf,
    pub(super) file_system: String,
}

impl Mounted {
    pub fn of(place: &Located) -> Option<Mounted> {
        let folder = place.folder().filter(|folder| folder.is_dir())?.canonicalize().ok()?;
        let (file_system, _) = drives::place_on(&folder)?;
        Some(Mounted { at: drives::mount_point_of(&folder)?, file_system })
    }

    /// Whether a drive has come since. Where one has gone, its empty mount point is on what lies above, and that is nothing to look through.
    pub(super) fn has_come(&self, before: Option<&Mounted>) -> bool {
        before
            .is_none_or(|before| self != before && !(self.at != before.at && before.at.starts_with(&self.at)))
    }
}

pub(super) struct AtWork {
    pub(super) store: String,
    pub(super) places: Vec<Place>,
    pub(super) stop: Arc<AtomicBool>,
}

impl DriveScan {
    /// These drives are about to be unmounted: what is on them has not come, and is not looked through.
    pub fn leave(&mut self, drives: &[PathBuf]) {
        let is_on = |places: &[Place]| {
            places.iter().any(|place| match place {
                Place::Local(path) => drives.iter().any(|drive| path.starts_with(drive)),
                Place::Elsewhere(_) => false,
            })
        };
        let left = self
            .there
            .iter_mut()
            .filter(|(_, there)| there.as_ref().is_some_and(|(_, places)| is_on(places)));
        for (name, there) in left {
            *there = None;
            self.due.retain(|due| due != name);
        }
        if let Some(at_work) = self.at_work.as_ref().filter(|at_work| is_on(&at_work.places)) {
            at_work.stop.store(true, Ordering::Relaxed);
        }
    }

    /// The store that is being looked through.
    pub fn looks_through(&self) -> Option<&str> {
        self.at_work.as_ref().map(|at_work| at_work.store.as_str())
    }
}
