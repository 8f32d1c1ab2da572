//! What a run reserves before it works: its job on this machine, and the places that it changes.

use std::fs::{self, File};

use reedhook_core::store::{FaultKind, Store};

use crate::failure::{Cause, Failure, Outcome};
use crate::home::{Home, share_lock, take_lock};
use crate::jobfile::job::ONCE;
use crate::places::Located;

/// A job that is reserved for one run at a time. The kernel lets go of the locks when the process ends, however it ends.
pub struct JobLock {
    _job: Option<File>,
    /// Shared by all runs of the home, also by those without a job.
    _home: Option<File>,
}

impl JobLock {
    /// Reserves a job; runs without a job need not be.
    ///
    /// # Errors
    /// When the job is running already, or the lock cannot be made.
    pub fn take(home: &Home, job: &str) -> Outcome<JobLock> {
        // Where files cannot be locked, only this lock is missed: a run without a job needs none.
        let runs = share_lock(&home.runs_lock()).ok();
        if job == ONCE {
            return Ok(JobLock { _job: None, _home: runs });
        }
        match take_lock(&home.lock_file(job))? {
            Some(lock) => Ok(JobLock { _job: Some(lock), _home: runs }),
            None => {
                Err(Failure::refused(Cause::AlreadyRunning, format!("the job \"{job}\" is already running"))
                    .hint("Wait for it to end; `reedhook status` shows it."))
            }
        }
    }
}

/// Whether any run of a home goes on at this moment, in whichever program.
pub(crate) fn anything_runs(home: &Home) -> bool {
    let file = File::open(home.runs_lock());
    file.is_ok_and(|file| matches!(file.try_lock(), Err(fs::TryLockError::WouldBlock)))
}

/// Whether a run of a job goes on at this moment, in whichever program.
pub fn is_running(home: &Home, job: &str) -> bool {
    let file = File::open(home.lock_file(job));
    file.is_ok_and(|file| matches!(file.try_lock_shared(), Err(fs::TryLockError::WouldBlock)))
}

/// Reserves a destination for one run.
///
/// # Errors
/// When another run writes there, or it cannot be reserved.
pub fn lock_destination(right: &dyn Store, to: &Located, home: &Home) -> Outcome<Box<dyn Send + Sync>> {
    right.lock().map_err(|error| {
        let shown = to.shown(home);
        match error.kind {
            FaultKind::InUse => {
                let who = error.cause.as_ref().map(|cause| format!(": {cause}")).unwrap_or_default();
                Failure::refused(Cause::DestinationInUse, format!("another run is writing to {shown}{who}"))
                    .hint("Wait for it to end, then run again.")
            }
            // What a server says is all there is to go by; a file system's error is told by its kind.
            kind if right.capabilities().remote || kind == FaultKind::Refused => {
                Failure::refused(kind, format!("{shown} cannot be reserved: {}", error.reason()))
            }
            kind => Failure::refused(kind, format!("{shown} cannot be written: {}", kind.words()))
                .hint("Nothing was changed. Check the rights, or how the drive is mounted."),
        }
    })
}
