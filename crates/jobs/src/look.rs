//! Looking at a job: open both its ends, scan them, gather what the guards have to know.
//!
//! Preview and run go the same way up to the plan, so that what a preview shows is what a run does.

pub use crate::preview::{DestinationPlan, Preview};
pub(crate) use crate::scan::{How, kept_shelves, refuse_nested, scan_destination, scan_failure};
pub use crate::scan::{comparison, interrupted, nested, one_way_rules, open_sources};

use std::sync::Arc;

use reedhook_core::entry::{Meta, Side};
use reedhook_core::job::{Kind, Preserve};
use reedhook_core::memory::Corrupted;
use reedhook_core::path::RelPath;
use reedhook_core::store::Store;
use reedhook_core::walk::{Corruption, Fresh, Moves, PathDecision, ScanInput, Scope, decide_path};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::Outcome;
use crate::inventory::upkeep::Shelves;
use crate::jobfile::job::{Job, ONCE};
use crate::places::{Ends, Located};
use crate::proved::ProvedPlan;
use crate::recognise::{self, GroundsSeen, Part};
use crate::scan::one_way_word;
use crate::{open, two_way};

/// Looks at what a run would do, to show it: what moved is taken for moved by its looks.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn glance(desk: &Desk, job: &Job) -> Outcome<Preview> {
    look_with(desk, job, Moves::Unproved, &Scope::Everything)
}

/// Looks at what a run would do, with the eyes of one: what moved is proved to be the same.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn look(desk: &Desk, job: &Job) -> Outcome<ProvedPlan> {
    Ok(ProvedPlan::of_job(look_with(desk, job, Moves::Proved, &Scope::Everything)?))
}

/// The same where only some folders are known to have changed: what a run would do there. When a guard would stop that, all of both
/// trees is looked at, for a guard judges by the whole.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn look_within(desk: &Desk, job: &Job, scope: &Scope) -> Outcome<ProvedPlan> {
    Ok(ProvedPlan::of_job(within(desk, job, Moves::Proved, scope)?))
}

/// The same, to see whether there is anything to do at all: what moved is taken for moved by its looks.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn glance_within(desk: &Desk, job: &Job, scope: &Scope) -> Outcome<Preview> {
    within(desk, job, Moves::Unproved, scope)
}

fn within(desk: &Desk, job: &Job, moves: Moves, scope: &Scope) -> Outcome<Preview> {
    // Which names belong together is seen by all of them, and whoever writes through one changes the others without a word.
    let full = job.rules.preserve == Preserve::Full;
    let scope = if full { &Scope::Everything } else { scope };
    let preview = look_with(desk, job, moves, scope)?;
    match scope.is_everything() || preview.refusal(&[], &desk.home).is_none() {
        true => Ok(preview),
        false => look_with(desk, job, moves, &Scope::Everything),
    }
}

/// Opens both ends of a job and scans them. Nothing is changed anywhere.
pub(crate) fn look_with(desk: &Desk, job: &Job, moves: Moves, scope: &Scope) -> Outcome<Preview> {
    if job.rules.kind == Kind::TwoWay {
        return two_way::look(desk, job, (moves, scope), None);
    }
    let ends = Ends::of(job, &desk.home, &desk.settings)?;
    let seen = GroundsSeen::now(desk, job, &ends)?;
    refuse_nested(&ends, &desk.home)?;
    for from in &ends.from {
        recognise::refuse_other_ground(desk, job, from, Part::Source)?;
    }
    let left = open_sources(desk, &ends, OpenOptions::of(job))?;
    let top_level = ends.landing_names()?;
    let (mut destinations, mut all_corrupted) = (Vec::new(), Vec::new());
    for (at, to) in ends.to.iter().enumerate() {
        let mut filter = job.filter(desk.now())?;
        if let Some(names) = &top_level {
            filter = filter.with_top_level(names.clone());
        }
        let (corrupted, changed) = known_corrupted(desk, job, &ends, to)?;
        let rot = Corruption { known: &corrupted, mend: &[Some(changed)] };
        let names = top_level.as_deref().unwrap_or_default();
        // The source is the same for every destination.
        let lefts = if at == 0 { ends.from.as_slice() } else { &[] };
        let shelves = kept_shelves(desk, job, moves, (lefts, to), names);
        let observer = shelves.as_ref().and_then(Shelves::observer);
        let known = known_fresh(desk, job, &ends, to)?;
        let fresh = Fresh { known: &known, looked: Some(desk.now()) };
        let how = How { filter: &filter, moves, rot, fresh, names, scope, observer };
        destinations.push(look_at(desk, job, &left, to, &how)?);
        shelves.into_iter().for_each(|shelves| shelves.close(desk));
        all_corrupted.extend(corrupted);
    }
    Ok(Preview::new(job, (ends, seen), destinations).with_corrupted(all_corrupted))
}

/// What is known to be rotten between a job's source and a destination, and which side this run changes: a reverse run reads the
/// destination and changes the source.
fn known_corrupted(desk: &Desk, job: &Job, ends: &Ends, to: &Located) -> Outcome<(Vec<Corrupted>, Side)> {
    let record = desk.home.record()?;
    let found = record.corrupted(&job.name, &to.written)?;
    match ends.from.as_slice() {
        [from] if found.is_empty() => Ok((record.corrupted(&job.name, &from.written)?, Side::Left)),
        _ => Ok((found, Side::Right)),
    }
}

/// The files between a job's source and a destination whose times could not tell at the last look, also of a reverse run.
fn known_fresh(desk: &Desk, job: &Job, ends: &Ends, to: &Located) -> Outcome<Vec<RelPath>> {
    if job.name == ONCE {
        return Ok(Vec::new());
    }
    let record = desk.home.record()?;
    let mut known = record.fresh(&job.name, &to.written)?;
    if let ([from], true) = (ends.from.as_slice(), known.is_empty()) {
        known = record.fresh(&job.name, &from.written)?;
    }
    Ok(known)
}

fn look_at(
    desk: &Desk,
    job: &Job,
    left: &Arc<dyn Store>,
    to: &Located,
    how: &How<'_>,
) -> Outcome<DestinationPlan> {
    let opened = open::open_destination(desk, to, OpenOptions::of(job))?;
    let to_be_made = opened.is_none();
    if to_be_made {
        recognise::refuse_vanished(desk, job, to, Part::Destination)?;
    }
    let right = match opened {
        Some(store) => store,
        None => open::not_there_yet(desk, to, OpenOptions::of(job))?,
    };
    if !to_be_made {
        recognise::refuse_foreign(desk, job, to, right.as_ref(), Part::Destination)?;
    }
    scan_destination(desk, job, left, (to, right, to_be_made), how)
}

/// Decides one path of a one-way job as a run would.
///
/// # Errors
/// When a side cannot be looked at.
pub fn decide(
    desk: &Desk,
    job: &Job,
    (ends, to): (&Ends, &Located),
    (left, right): (&dyn Store, &dyn Store),
    path: &RelPath,
    found: (Option<&Meta>, Option<&Meta>),
) -> Outcome<Option<PathDecision>> {
    let (corrupted, changed) = known_corrupted(desk, job, ends, to)?;
    let known = known_fresh(desk, job, ends, to)?;
    let filter = job.filter(desk.now())?;
    let input = ScanInput {
        left,
        right,
        filter: &filter,
        rules: one_way_rules(job, comparison(desk, job, left.capabilities(), right.capabilities())),
        one_filesystem: job.rules.one_filesystem,
        on_same: None,
        moves: Moves::Unproved,
        corrupted: Corruption { known: &corrupted, mend: &[Some(changed)] },
        fresh: Fresh { known: &known, looked: None },
        scope: &Scope::Everything,
        observer: None,
    };
    decide_path(&input, &desk.stop, path, found)
        .map_err(|error| scan_failure(error, one_way_word, left, right))
}

/// What a job wants to keep and a destination cannot hold: said once, not for every file.
pub fn losses(job: &Job, place: &str, right: &dyn Store) -> Vec<String> {
    let can = right.capabilities();
    let wanted = job.rules.preserve;
    let mut lost = Vec::new();
    if wanted != Preserve::Content && !can.modes {
        lost.push("modes");
    }
    if wanted != Preserve::Content && !can.links {
        lost.push("links");
    }
    if wanted == Preserve::Full && !can.full {
        lost.push("owners, extended attributes and second names");
    }
    let root =
        std::fs::metadata("/proc/self").is_ok_and(|meta| std::os::unix::fs::MetadataExt::uid(&meta) == 0);
    let mut lines = Vec::new();
    if !lost.is_empty() {
        lines.push(format!("{place} cannot hold {}; they are lost there", lost.join(", ")));
    }
    if wanted == Preserve::Full && can.full && !root {
        lines.push("owners and devices are kept only when root runs the job".to_owned());
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::jobfile::keys::JobKeys;
    use reedhook_core::job::Kind;
    use reedhook_testing::simulated::SimulatedStore;

    #[test]
    fn what_a_destination_cannot_hold_is_said_once_for_all_files() {
        let job = |preserve| {
            let (from, to) = (vec!["a".to_owned()], vec!["b".to_owned()]);
            Job::new("counts", JobKeys { kind: Some(Kind::Mirror), from, to, preserve, ..JobKeys::default() })
        };
        let whole = SimulatedStore::new("whole");
        let plain = SimulatedStore::new("plain").with_capabilities(|can| {
            can.modes = false;
            can.links = false;
        });
        let cases = [
            (&whole, None, ""),
            (&plain, None, "cannot hold modes, links; they are lost there"),
            (&plain, Some(Preserve::Content), ""),
            (&whole, Some(Preserve::Full), "cannot hold owners, extended attributes and second names"),
        ];
        for (store, preserve, words) in cases {
            let said = losses(&job(preserve).expect("a job"), "there", store).join(" ");
            assert!(said.contains(words) && said.is_empty() == words.is_empty(), "{preserve:?}: {said}");
        }
    }
}
