//! What places of this machine hold: found out by trying, once for each file system, way of mounting and account, and remembered.
//!
//! A preview leaves no trace, so it goes by what is remembered, else by the type of the file system, and says so. A run tries after
//! people have agreed to it and with the place reserved; where something else is found than the type says, it looks at both sides
//! again before it decides.

use std::path::Path;
use std::sync::Arc;

use reedhook_core::job::{OddNames, Preserve};
use reedhook_core::path::RelPath;
use reedhook_core::store::{Result, Store};
use reedhook_record::KeptNotes;
use reedhook_stores::drives;
use reedhook_stores::emulate::Emulated;
use reedhook_stores::local::{LocalStore, TrialResult};
use reedhook_stores::remote::Remote;

use crate::home::Home;
use crate::jobfile::job::Job;

/// How a job opens its places.
#[derive(Debug, Clone, Copy)]
pub struct OpenOptions {
    /// How much of each entry is looked at.
    pub preserve: Preserve,
    /// What is done about names that a place cannot hold.
    pub odd_names: OddNames,
}

impl OpenOptions {
    /// That of a job.
    pub fn of(job: &Job) -> OpenOptions {
        OpenOptions { preserve: job.rules.preserve, odd_names: job.rules.odd_names }
    }
}

impl Default for OpenOptions {
    fn default() -> OpenOptions {
        OpenOptions { preserve: Preserve::Standard, odd_names: OddNames::Report }
    }
}

/// What was found by trying where a folder is; `None` when nothing was tried there.
pub(crate) fn found(folder: &Path, home: &Home) -> Option<TrialResult> {
    let footing = drives::footing_of(folder)?;
    // What cannot be read was written by another version: it is tried anew.
    serde_json::from_str(&home.record().ok()?.held(&footing).ok()??).ok()
}

/// Opens a folder with the help that it needs.
///
/// # Errors
/// When the folder cannot be opened.
pub fn open(folder: &Path, options: OpenOptions, home: &Home) -> Result<Arc<dyn Store>> {
    let resolved = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
    let found = found(&resolved, home);
    let store = LocalStore::open_knowing(folder, options.preserve == Preserve::Full, found.as_ref())?;
    Ok(with_help(store, &resolved, options, home))
}

/// Opens a folder without help, to tell about it; and whether what it holds has been tried.
///
/// # Errors
/// When the folder cannot be opened.
pub fn look(folder: &Path, home: &Home) -> Result<(LocalStore, bool)> {
    let resolved = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
    let found = found(&resolved, home);
    Ok((LocalStore::open_knowing(folder, false, found.as_ref())?, found.is_some()))
}

fn with_help(store: LocalStore, folder: &Path, options: OpenOptions, home: &Home) -> Arc<dyn Store> {
    let timeless = store.capabilities().time_precision.is_none();
    let mut store: Box<dyn Store> = Box::new(store);
    if timeless {
        let by_path = || (folder.display().to_string(), RelPath::root());
        let (place, base) = drives::place_on(folder).unwrap_or_else(by_path);
        // A state file that fails says so where it matters; without notes, content is compared.
        if let Ok(notes) = KeptNotes::open(&home.state_file(), &place, base) {
            store = Box::new(Emulated::noting(store, Arc::new(notes)));
        }
    }
    spelled_if_asked(store, options)
}

/// The same store, spelling the names that it refuses where the job says so, and reading those that an earlier run has spelled.
fn spelled_if_asked(store: Box<dyn Store>, options: OpenOptions) -> Arc<dyn Store> {
    if store.capabilities().names.words().is_none() {
        return store.into();
    }
    match options.odd_names {
        OddNames::Encode => Arc::new(Emulated::spelling(store)),
        OddNames::Report if Emulated::is_spelled(store.as_ref()) => Arc::new(Emulated::reading(store)),
        OddNames::Report => store.into(),
    }
}

/// A place at a server, spelling the names that it refuses where the job says so.
pub fn at_server(store: Remote, options: OpenOptions) -> Arc<dyn Store> {
    spelled_if_asked(Box::new(store), options)
}
