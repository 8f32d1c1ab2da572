//! The engine: carries a plan out.
//!
//! The order of a run, and why:
//!
//! 1. Leftovers of earlier runs are cleared.
//! 2. What stands where something else is to come is set aside; folders are made from the top down.
//! 3. Files and links are staged by several workers and published in batches ([`transfer`]): stage many, sync once,
//!    publish all. New content is in place before anything is removed.
//! 4. What is to go is removed (as a rule: moved to the kept copies), then the emptied folders from the bottom up, then
//!    files take the places of removed folders.
//! 5. Folders get their modes and times from the bottom up, because everything before changes times.
//! 6. One last sync: only what is durable is reported as done.
//!
//! A failed item becomes a [`Problem`] and the rest goes on. Only a lost store or a request to stop ends a run early.

mod aside;
mod batch;
mod engine;
mod event;
mod folders;
mod headway;
pub(crate) mod input;
mod keep;
pub mod kept;
mod rename;
pub mod resume;
mod tell;
pub mod tidy;
mod transfer;
mod trip;
pub mod undo;
pub mod verify;

pub use crate::run::input::{Ended, RESUME_FROM, RunInput, RunReport, kept_folder, kept_root, resume_key};
pub use event::{Done, Event, Gone, Item, Mark, step_size};

use std::sync::PoisonError;
use std::sync::atomic::Ordering;

use crate::plan::Plan;
use crate::run::engine::{Engine, Halt, real_side};

/// Carries out a plan. The plan's problems are reported first.
pub fn execute(plan: &Plan, input: &RunInput<'_>) -> RunReport {
    let engine = Engine::new(plan, input);
    let ended = match engine.run() {
        Ok(()) => Ended::Done,
        Err(Halt::Stopped) => Ended::Interrupted,
        // Whoever waits for a server when the work is to stop gives it up, as if it had gone.
        Err(Halt::Lost(..)) if input.stop.load(Ordering::Relaxed) => Ended::Interrupted,
        Err(Halt::Lost(side, error)) => Ended::Lost(real_side(plan, side), error),
    };
    let state = engine.state.into_inner().unwrap_or_else(PoisonError::into_inner);
    RunReport {
        counts: state.counts,
        folders_made: state.folders_made,
        folders_removed: state.folders_removed,
        unfinished: state.unfinished,
        ended,
    }
}
