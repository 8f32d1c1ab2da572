//! Kept copies: whose they are, in which order they were made, and which have had their time.

use std::time::Duration;

use reedhook_core::path::Name;
use reedhook_core::run::kept::{self, Amount, KeptRun};
use reedhook_core::store::{FaultKind, Store, StoreError};

use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::jobfile::job::Job;

/// Erases a job's own kept copies that have been kept long enough, or take too much room; returns what went. What other jobs,
/// or other machines, have kept at the same place is theirs.
///
/// # Errors
/// When the store or the record fails; what went is gone.
pub fn prune(
    desk: &Desk,
    job: &Job,
    right: &dyn Store,
    current: Option<&str>,
    keep_for: Option<Duration>,
) -> Outcome<Vec<Amount>> {
    let failed =
        |error: StoreError| Failure::stopped(error.kind, format!("kept copies cannot be pruned: {error}"));
    let runs = kept_in_order(desk, right).map_err(|failure| match failure {
        KeptError::Store(error) => failed(error),
        KeptError::Record(failure) => failure,
    })?;
    let ours = |kept: &InOrder| match &kept.job {
        Some(owner) => *owner == job.name,
        // Made before it was written down whose it is.
        None => !kept.run.owned,
    };
    let runs: Vec<KeptRun> = runs.into_iter().filter(ours).map(|kept| kept.run).collect();
    // What all that is used would fit into needs no counting.
    let space = right.space().ok().flatten();
    let room = space.and_then(|space| {
        let room = job.rules.keep_max.limit(space.total)?;
        (space.total.saturating_sub(space.free) > room).then_some(room)
    });
    let keep_for = keep_for.unwrap_or(job.rules.keep_for.duration());
    let current = current.and_then(|name| Name::new(name.as_bytes()).ok());
    let now = desk.trusted_now()?;
    let mut gone = Vec::new();
    let mut bytes_of = |run: &KeptRun| Ok(kept::amount(right, &run.run, &desk.stop)?.bytes);
    let expired = kept::expired(&runs, now, keep_for, room, current.as_ref(), &mut bytes_of);
    for run in expired.map_err(failed)? {
        match kept::erase(right, &run.run, &desk.stop) {
            Ok(amount) => gone.push(amount),
            // A run that is being stopped leaves the rest to the next one.
            Err(error) if error.kind == FaultKind::Stopped => break,
            Err(error) => desk.note(failed(error).message),
        }
    }
    Ok(gone)
}

/// The kept copies of a run, and what the record says of the run.
pub struct InOrder {
    /// The copies.
    pub run: KeptRun,
    /// The job that it was a run of, when this Reedhook knows it.
    pub job: Option<String>,
    /// Its place among all runs: the newest has the greatest.
    pub order: i64,
}

/// Why kept copies cannot be told.
pub enum KeptError {
    /// The store failed.
    Store(StoreError),
    /// The state file failed.
    Record(Failure),
}

/// The runs with kept copies at a store, in the order in which they ran: clocks go wrong, and two runs may share a second. A run
/// that another Reedhook made is put where its name says it belongs.
///
/// # Errors
/// When the store or the record fails.
pub fn kept_in_order(desk: &Desk, store: &dyn Store) -> Result<Vec<InOrder>, KeptError> {
    let runs = kept::kept_runs(store, &desk.world.zone).map_err(KeptError::Store)?;
    let record = desk.home.record().map_err(KeptError::Record)?;
    let mut newest_known = 0;
    let mut found = Vec::new();
    for run in runs {
        let known =
            record.run_named(&run.run.to_string()).map_err(|error| KeptError::Record(error.into()))?;
        let (job, order) = match known {
            Some((job, order)) => (Some(job), order),
            None => (None, newest_known),
        };
        newest_known = newest_known.max(order);
        found.push(InOrder { run, job, order });
    }
    found.sort_by_key(|kept| kept.order);
    Ok(found)
}

/// Whose kept copies these are, as it is written beside them.
pub fn owner(job: &str) -> String {
    let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    format!("job = {:?}\nmachine = {:?}\n", job, machine.trim())
}
