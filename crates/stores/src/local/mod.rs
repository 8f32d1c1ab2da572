//! Folders and drives of this machine.
//!
//! The store holds its root folder open, and every path is resolved from there by the kernel, which is told not to follow
//! links and not to leave the root. So a link that somebody plants at the destination, even during a run, is never
//! written through. Folders in use are kept open in a small cache: a file then costs only calls relative to its folder.
//!
//! What differs between operating systems is in [`sys`]; here are the steps that are the same everywhere.

mod faults;
mod kinds;
#[cfg(target_os = "linux")]
mod linux;
mod operations;
mod publish;
mod stage;
pub(crate) mod store;
mod sys;
mod trash;
mod travel;
mod trial;

pub use crate::local::store::LocalStore;
pub use trial::TrialResult;

use std::path::Path;

/// Whether the file system that a folder is on keeps the modes of files, going by its type. What cannot be told counts as kept.
pub fn keeps_modes(folder: &Path) -> bool {
    LocalStore::open(folder).map_or(true, |store| store.capabilities.modes)
}

#[cfg(test)]
mod tests;
