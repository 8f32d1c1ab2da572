//! The one road of a run. In this order: the job's lock, the commands before it (a gate), low priority, the look, the clearing, the run,
//! what is remembered of it, the commands after it, the people and programs who want to hear of it, and what is to be done at the very
//! end. Whoever wants a run hands in a look and a consent; no run begins any other way.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

use reedhook_core::plan::guard::Lift;

use crate::clear::Consent;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::finally::Finale;
use crate::jobfile::job::Job;
use crate::preview::Preview;
use crate::proved::ProvedPlan;
use crate::run::Run;
use crate::run::claim::JobLock;
use crate::run::result::{RunResult, Sort};
use crate::{hooks, low_priority};

/// How a run came about, as far as it matters to whoever hears of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// Somebody, or a timer, has asked for it.
    Asked,
    /// It began by itself, and may do so many times a day.
    ByItself,
}

/// Tells people and programs what came of runs, and writes the file of figures. What cannot be told is noted at the desk, and fails
/// nothing.
pub trait Messenger: Send + Sync {
    /// A run is over, or was refused.
    fn run_ended(&self, desk: &Desk, job: &Job, result: &RunResult, origin: Origin);

    /// A run could not even begin: nothing is remembered of it.
    fn run_failed(&self, desk: &Desk, job: &Job, failure: &Failure, origin: Origin);
}

/// Tells nobody.
pub struct NoMessenger;

impl Messenger for NoMessenger {
    fn run_ended(&self, _: &Desk, _: &Job, _: &RunResult, _: Origin) {}

    fn run_failed(&self, _: &Desk, _: &Job, _: &Failure, _: Origin) {}
}

/// What stands around the runs of a program.
#[derive(Clone)]
pub struct Surroundings {
    /// Who tells others.
    pub messenger: Arc<dyn Messenger>,
    /// What is to be done once nothing of the home goes on any more.
    pub finale: Arc<Finale>,
}

impl Surroundings {
    /// Surroundings in which this messenger tells others.
    pub fn with(messenger: Arc<dyn Messenger>) -> Surroundings {
        Surroundings { messenger, finale: Arc::default() }
    }
}

/// How a job is looked at before a run.
pub type Look<'a> = dyn Fn() -> Outcome<ProvedPlan> + Sync + 'a;

/// A run that is wanted.
pub struct RunRequest<'a> {
    /// The job.
    pub job: &'a Job,
    /// What sort of run it is.
    pub sort: Sort,
    /// How it came about.
    pub origin: Origin,
    /// What it would do.
    pub look: &'a Look<'a>,
    /// The guards that a person has lifted.
    pub lifted: &'a [Lift],
    /// Who agrees to it.
    pub consent: &'a mut (dyn Consent + Send),
}

/// Carries a job out. What was found is handed to `keep`, and what that makes of it is given back with what came of the run: so the stores
/// are given up before the commands after the run, which may unmount them. Nothing was found where it was refused.
///
/// # Errors
/// When it could not even begin; then nothing is remembered of it.
pub fn run_job<T: Send>(
    desk: &Desk,
    surroundings: &Surroundings,
    request: RunRequest<'_>,
    keep: impl FnOnce(Preview, &RunResult) -> T + Send,
) -> Outcome<(Option<T>, RunResult)> {
    let RunRequest { job, sort, origin, look, lifted, consent } = request;
    Travel { job, sort, origin }.along(desk, surroundings, None, |run| {
        let mut looked = || look().and_then(|found| found.clear(desk, lifted, consent));
        // A fault of ours is a failure like any other: it is written down, and told.
        let approved =
            catch_unwind(AssertUnwindSafe(&mut looked)).unwrap_or_else(|_| Err(Failure::our_mistake()));
        match approved {
            Ok(approved) => {
                consent.approved(approved.preview());
                let (preview, result) = run.carry_out(approved);
                (Some(keep(preview, &result)), result)
            }
            Err(failure) => (None, run.refuse(failure)),
        }
    })
}

/// Whose run it is that takes the road.
pub(crate) struct Travel<'a> {
    /// The job.
    pub job: &'a Job,
    /// What sort of run it is.
    pub sort: Sort,
    /// How it came about.
    pub origin: Origin,
}

impl Travel<'_> {
    /// The road itself: all that is around the work of a run. The job's lock may be held already.
    pub(crate) fn along<T: Send>(
        self,
        desk: &Desk,
        surroundings: &Surroundings,
        lock: Option<JobLock>,
        work: impl FnOnce(Run<'_>) -> (Option<T>, RunResult) + Send,
    ) -> Outcome<(Option<T>, RunResult)> {
        let Travel { job, sort, origin } = self;
        let messenger = surroundings.messenger.as_ref();
        let run = match Run::begin(desk, job, sort, lock) {
            Ok(run) => run,
            Err(failure) => {
                // Somebody else runs it, and that run is told of.
                if !matches!(failure.cause, Cause::AlreadyRunning) {
                    messenger.run_failed(desk, job, &failure, origin);
                }
                return Err(failure);
            }
        };
        let (found, result) = match hooks::before(desk, job, run.name()) {
            Ok(()) if job.rules.polite => low_priority::at_low_priority(|| work(run)),
            Ok(()) => work(run),
            Err(failure) => (None, run.refuse(failure)),
        };
        hooks::after(desk, job, &result);
        messenger.run_ended(desk, job, &result, origin);
        if sort == Sort::Job {
            surroundings.finale.wish(desk, job, result.outcome);
        }
        Ok((found, result))
    }
}
