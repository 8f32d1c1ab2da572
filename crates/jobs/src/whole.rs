//! One run of a job as it is set up, from the command before it to the one after it.

use reedhook_core::plan::guard::Lift;

use crate::around;
use crate::clear::{Consent, ProvedPlan};
use crate::desk::Desk;
use crate::failure::Outcome;
use crate::jobfile::Job;
use crate::look::Preview;
use crate::low_priority;
use crate::run::{Run, RunResult};

/// How a job is looked at before a run.
pub type Look<'a> = dyn Fn() -> Outcome<ProvedPlan> + Sync + 'a;

/// Who hears what is about to be done, once it is clear.
pub type ApprovedRun<'a> = dyn Fn(&Preview) + Sync + 'a;

/// Carries a job out: reserves it, obeys what comes before, looks, clears the way, runs, and obeys what comes after. What was found is
/// given back with what came of it; nothing was found where it was refused.
///
/// # Errors
/// When it could not even begin; then nothing is remembered of it.
pub fn carry_out(
    desk: &Desk,
    job: &Job,
    look: &Look<'_>,
    lifted: &[Lift],
    consent: &mut (dyn Consent + Send),
    approved: &ApprovedRun<'_>,
) -> Outcome<(Option<Preview>, RunResult)> {
    let mut work = || {
        let run = Run::begin(desk, job)?;
        let found = around::before(desk, job, run.name()).and_then(|()| look()?.clear(desk, lifted, consent));
        let (preview, result) = match found {
            Ok(found) => {
                approved(found.preview());
                let (preview, result) = run.carry_out(found);
                (Some(preview), result)
            }
            Err(failure) => (None, run.refuse(failure)),
        };
        around::after(desk, job, &result);
        Ok((preview, result))
    };
    if job.rules.polite { low_priority::at_low_priority(work) } else { work() }
}
