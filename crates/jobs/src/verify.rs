//! Comparing both sides of a job by content, and remembering what was found to have changed by itself.

use std::sync::{Arc, Mutex, PoisonError};

use reedhook_core::job::Kind;
use reedhook_core::memory::{Checksum, Corrupted};
use reedhook_core::path::RelPath;
use reedhook_core::plan::Plan;
use reedhook_core::run::verify::{Comparer, Memory, Verified};
use reedhook_core::store::Store;
use reedhook_core::walk::{Corruption, Fresh, Moves, ScanError, ScanInput, ScanProgress, Scope, scan};

use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::job::Job;
use crate::places::Ends;
use crate::scan::{comparison, interrupted, one_way_rules};

/// Remembers what was found to have changed by itself, until it is mended. A look that was broken off adds to what is known and
/// takes nothing back.
///
/// # Errors
/// When the record fails.
pub fn remember_corruption(
    desk: &Desk,
    job: &Job,
    place: &str,
    found: &Verified,
    stopped: bool,
) -> Outcome<()> {
    let mut record = desk.home.record()?;
    let mut corrupted: Vec<Corrupted> = found.different.iter().map(|one| one.to_remember()).collect();
    if stopped {
        let known = record.corrupted(&job.name, place)?;
        corrupted
            .extend(known.into_iter().filter(|old| found.different.iter().all(|new| new.path != old.path)));
    }
    Ok(record.set_rotten(&job.name, place, &corrupted)?)
}

/// Scans both sides and compares the content of what looks the same. Nothing is changed. When it is stopped on the way, the plan is
/// empty and what was looked at until then is told.
///
/// # Errors
/// When a side cannot be opened or listed.
pub fn compare(
    desk: &Desk,
    job: &Job,
    ends: &Ends,
    left: &Arc<dyn Store>,
    right: &Arc<dyn Store>,
) -> Outcome<(Plan, Verified)> {
    let mut filter = job.filter(desk.now())?;
    if let Some(names) = ends.landing_names()? {
        filter = filter.with_top_level(names);
    }
    let record = Mutex::new(desk.home.record()?);
    let recall = |path: &RelPath| {
        let record = record.lock().unwrap_or_else(PoisonError::into_inner);
        record.checksum(&job.name, path).ok().flatten()
    };
    let failed = Mutex::new(None);
    let remember = |checksums: &[(RelPath, Checksum)]| {
        let mut record = record.lock().unwrap_or_else(PoisonError::into_inner);
        if let Err(error) = record.set_checksums(&job.name, checksums) {
            *failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
        }
    };
    let memory = Memory { recall: &recall, remember: &remember, looked: desk.now() };
    let comparer = Comparer::new(left.as_ref(), right.as_ref(), memory);
    let by = comparison(desk, job, left.capabilities(), right.capabilities());
    let mut rules = one_way_rules(job, by);
    if rules.kind == Kind::TwoWay {
        // What is only at one side differs, whichever side it is.
        rules.kind = Kind::Mirror;
    }
    let progress = ScanProgress { stop: desk.stop.clone(), ..ScanProgress::default() };
    let (plan, found) = comparer.run(&desk.stop, |on_same| {
        let input = ScanInput {
            left: left.as_ref(),
            right: right.as_ref(),
            filter: &filter,
            rules,
            on_same: Some(on_same),
            one_filesystem: job.rules.one_filesystem,
            moves: Moves::Unproved,
            corrupted: Corruption::default(),
            fresh: Fresh::default(),
            scope: &Scope::Everything,
            observer: None,
        };
        scan(&input, &progress)
    });
    let plan = match plan {
        Err(ScanError::Stopped) => Plan::default(),
        plan => plan.map_err(unreadable)?,
    };
    match failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
        Some(error) => Err(error.into()),
        None => Ok((plan, found)),
    }
}

fn unreadable(error: ScanError) -> Failure {
    match error {
        ScanError::Stopped => interrupted(),
        ScanError::Baseline(error) => error.into(),
        ScanError::Store(side, error) => {
            Failure::refused(Cause::Unreadable, format!("the {side} side cannot be read: {error}"))
        }
    }
}
