//! Renames in the place of copies and removals: what looks moved, proved by reading where a run is to rely on it.

use std::sync::atomic::{AtomicBool, Ordering};

use crate::compare::Comparison;
use crate::content::{self, FileAt};
use crate::plan::Plan;
use crate::plan::moves::{Candidate, Moves, Twins, apply, candidates};
use crate::store::Store;

/// Turns what a plan removes and adds of the same things into renames, where the changing side can rename. `false` when it was
/// told to stop.
pub(super) fn turn_into_renames(
    plan: &mut Plan,
    (read, changed): (&dyn Store, &dyn Store),
    by: &Comparison,
    moves: Moves,
    stop: &AtomicBool,
) -> bool {
    // Owners and attributes would have to be compared too, and second names followed.
    let possible = changed.capabilities().rename && !by.full;
    !possible || recognise(plan, (read, changed), by, moves, stop)
}

/// The same, whether or not anything could be renamed. `false` when it was told to stop.
pub(super) fn recognise(
    plan: &mut Plan,
    (read, changed): (&dyn Store, &dyn Store),
    by: &Comparison,
    moves: Moves,
    stop: &AtomicBool,
) -> bool {
    let mut found = candidates(plan, by);
    if moves == Moves::Proved && !found.is_empty() {
        let mut proofs = prove(&found, read, changed, stop).into_iter();
        if stop.load(Ordering::Relaxed) {
            return false;
        }
        found.retain(|_| proofs.next().unwrap_or(false));
    }
    plan.unproved |= moves == Moves::Unproved && !found.is_empty();
    apply(plan, &found);
    true
}

/// Which candidates hold the same on both sides, byte for byte. A file that cannot be read proves nothing: it is copied as
/// usual, which reports what is wrong with it.
fn prove(found: &[Candidate], read: &dyn Store, changed: &dyn Store, stop: &AtomicBool) -> Vec<bool> {
    let pairs: Vec<(usize, &Twins)> =
        found.iter().enumerate().flat_map(|(at, one)| one.files.iter().map(move |pair| (at, pair))).collect();
    let threads = read.capabilities().workers.max(changed.capabilities().workers);
    let same = content::for_all(&pairs, threads, stop, |(_, twins)| {
        let theirs = FileAt { store: changed, path: &twins.from };
        let ours = FileAt { store: read, path: &twins.to };
        content::equal(ours, theirs, twins.size, (false, stop), &mut |_| {}).unwrap_or(false)
    });
    let mut proved = vec![true; found.len()];
    for ((at, _), same) in pairs.into_iter().zip(same) {
        proved[at] &= same.unwrap_or(false);
    }
    proved
}
