//! Comparing: two places, or the sides of a job. Nothing is touched, and nothing is remembered.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use reedhook_core::compare::{Basis, Comparison};
use reedhook_core::filter::Filter;
use reedhook_core::job::Kind;
use reedhook_core::store::Store;
use reedhook_core::walk::comparing::{CompareInput, Compared, compare_trees};
use reedhook_record::inventories::Inventory;

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Failure, Halt, Outcome};
use crate::inventory::{self, InventoryTree};
use crate::jobfile::job::{Job, ONCE};
use crate::jobfile::keys::JobKeys;
use crate::open::open_source;
use crate::places::{Ends, Located, Means};
use crate::recognise::{self, Part};
use crate::scan::{comparison, open_sources, scan_failure, watched};

/// How trees are to be compared.
#[derive(Debug, Clone, Copy)]
pub struct How {
    /// What tells two files apart.
    pub basis: Basis,
    /// Times so close, or closer, count as the same.
    pub tolerance: Option<Duration>,
    /// Add up what each folder holds.
    pub tallies: bool,
}

/// Two opened trees, and what takes part of them.
pub struct Pairing {
    /// The job that says what takes part: one that is saved, or one for the occasion.
    pub job: Job,
    /// The left, as written and located; several places are one tree.
    pub lefts: Vec<Located>,
    /// The right, as written and located.
    pub right_place: Located,
    /// The left tree.
    pub left: Arc<dyn Store>,
    /// The right tree.
    pub right: Arc<dyn Store>,
    filter: Filter,
}

impl Pairing {
    /// The folders of this machine among both sides.
    pub fn folders(&self) -> Vec<PathBuf> {
        let places = self.lefts.iter().chain([&self.right_place]);
        places.filter_map(Located::folder).map(Path::to_owned).collect()
    }

    /// The sides of a saved job: one pairing for each destination.
    ///
    /// # Errors
    /// When a side cannot be opened, or is not the store that it was.
    pub fn of_job(desk: &Desk, job: &Job) -> Outcome<Vec<Pairing>> {
        let ends = Ends::of(job, &desk.home, &desk.settings)?;
        for from in &ends.from {
            recognise::refuse_other_ground(desk, job, from, Part::of(job.rules.kind, true))?;
        }
        let pairings = Pairing::open(desk, job, &ends, ["source", "destination"])?;
        for one in &pairings {
            let part = Part::of(job.rules.kind, false);
            recognise::refuse_foreign(desk, job, &one.right_place, one.right.as_ref(), part)?;
        }
        Ok(pairings)
    }

    /// Places that no job joins: the first against each other one. `keys` say what takes part.
    ///
    /// # Errors
    /// When a place cannot be found or opened.
    pub fn of_places(desk: &Desk, left: &str, rights: &[String], keys: JobKeys) -> Outcome<Vec<Pairing>> {
        let keys =
            JobKeys { kind: Some(Kind::Mirror), from: vec![left.to_owned()], to: rights.to_vec(), ..keys };
        let job = Job::new(ONCE, keys)?;
        let ends = Ends::of(&job, &desk.home, &desk.settings)?;
        Pairing::open(desk, &job, &ends, ["left", "right"])
    }

    fn open(desk: &Desk, job: &Job, ends: &Ends, words: [&str; 2]) -> Outcome<Vec<Pairing>> {
        let options = OpenOptions::of(job);
        let left = match ends.from.as_slice() {
            [only] => open_side(desk, only, options, words[0])?,
            _ => open_sources(desk, ends, options)?,
        };
        let top_level = ends.landing_names()?;
        let one = |right_place: &Located| {
            let mut filter = job.filter(desk.now())?;
            if let Some(names) = &top_level {
                filter = filter.with_top_level(names.clone());
            }
            let right = open_side(desk, right_place, options, words[1])?;
            let (lefts, right_place) = (ends.from.clone(), right_place.clone());
            Ok(Pairing { job: job.clone(), lefts, right_place, left: left.clone(), right, filter })
        };
        ends.to.iter().map(one).collect()
    }

    /// What both can express, as it is to be compared.
    pub fn by(&self, desk: &Desk, how: &How) -> Comparison {
        let by = comparison(desk, &self.job, self.left.capabilities(), self.right.capabilities());
        let widest = |precision: Duration| match how.tolerance {
            // Times that are just so far apart count as the same, too.
            Some(tolerance) => precision.max(tolerance.saturating_add(Duration::from_nanos(1))),
            None => precision,
        };
        let readable = !self.has_inventory();
        Comparison { precision: by.precision.map(widest), readable, ..by }
    }

    /// Compares them.
    ///
    /// # Errors
    /// When a root cannot be read, a store is lost on the way, or a person stops it.
    pub fn compare(&self, desk: &Desk, how: &How) -> Outcome<Compared> {
        if how.basis == Basis::Content && self.has_inventory() {
            return Err(Failure::usage("an inventory has no content to compare by")
                .hint("Leave --content out: kind, size and time are compared."));
        }
        let input = CompareInput {
            left: self.left.as_ref(),
            right: self.right.as_ref(),
            filter: &self.filter,
            by: self.by(desk, how),
            basis: how.basis,
            one_filesystem: self.job.rules.one_filesystem,
            tallies: how.tallies,
        };
        let name = if self.job.name == ONCE { "compare" } else { &self.job.name };
        watched(desk, name, |progress| compare_trees(&input, progress)).map_err(|error| {
            scan_failure(error, |side| side.as_str(), self.left.as_ref(), self.right.as_ref())
        })
    }

    /// Whether one of the two is what a store held, and cannot be read.
    pub fn has_inventory(&self) -> bool {
        let mut places = self.lefts.iter().chain([&self.right_place]);
        places.any(|place| matches!(place.means, Means::Inventory { .. }))
    }

    /// What is to be said of the inventories that are compared: what they know is how it was then.
    ///
    /// # Errors
    /// When they cannot be read.
    pub fn of_then(&self, desk: &Desk) -> Outcome<Vec<Inventory>> {
        let places = self.lefts.iter().chain([&self.right_place]);
        let names = places.filter_map(|place| match &place.means {
            Means::Inventory { name, .. } => Some(name),
            _ => None,
        });
        let all = inventory::open(&desk.home)?;
        names.map(|name| inventory::named(&desk.home, &all, name)).collect()
    }

    /// What takes part.
    pub fn filter(&self) -> &Filter {
        &self.filter
    }

    /// Whether times say nothing here: one of the two keeps none.
    pub fn is_timeless(&self) -> bool {
        let keeps_none = |store: &Arc<dyn Store>| store.capabilities().time_precision.is_none();
        keeps_none(&self.left) || keeps_none(&self.right)
    }
}

/// Opens a tree that is only looked at.
fn open_side(desk: &Desk, place: &Located, options: OpenOptions, word: &str) -> Outcome<Arc<dyn Store>> {
    match &place.means {
        Means::Inventory { name, below } => Ok(Arc::new(InventoryTree::open(desk, name, below)?)),
        _ => open_source(desk, place, options, word),
    }
}

/// Trouble with a comparison: it is never a refusal, for nothing was to be changed.
pub fn trouble(failure: Failure) -> Failure {
    match failure.halt {
        Halt::Refused | Halt::Stopped => Failure { halt: Halt::Usage, ..failure },
        Halt::Usage | Halt::Interrupted => failure,
    }
}
