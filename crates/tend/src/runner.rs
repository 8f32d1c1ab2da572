//! One run of the service, on a thread of its own.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use reedhook_core::path::RelPath;
use reedhook_core::store::Place;
use reedhook_core::walk::Scope;
use reedhook_jobs::clear::Need;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Cause, Failure, Outcome};
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::look::{glance_within, look, look_within};
use reedhook_jobs::observer::{Event, Observer};
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::{RunResult, Sort};
use reedhook_jobs::run_job::{Messenger, Origin, RunRequest, Surroundings, run_job};
use reedhook_jobs::words;

use crate::happening::{Happening, Reason, ServiceObserver};

/// A run that goes on.
pub(crate) struct Running {
    /// Set to end it.
    pub stop: Arc<AtomicBool>,
    pub places: Vec<Place>,
    pub reason: Reason,
    pub since_ms: i64,
}

/// What came of it.
pub(crate) enum Ending {
    /// There was nothing to do but what the next run does as well: setting the times of these folders, or noting that they are alike.
    Idle { folders: HashSet<RelPath>, everything: bool },
    /// It was ended while it looked.
    Cut,
    /// There is something to do, and somebody has to agree first.
    Asks,
    /// It could not be looked at, as before; nothing is written down of that.
    Unseen(&'static str),
    /// It could not begin.
    NotBegun(Failure),
    /// It ran, or was refused; and what it had to tell of conflicts and problems.
    Ran(Box<RunResult>, HashSet<u64>),
}

/// What a run has to know.
pub(crate) struct Order {
    pub desk: Desk,
    pub job: Job,
    pub reason: Reason,
    pub line: Option<String>,
    pub scope: Scope,
    /// Look first, and begin only when there is something to do.
    pub glance: bool,
    /// Somebody has agreed.
    pub answered: bool,
    /// What has changed is what a run has just written.
    pub echo: bool,
    /// The conflicts and problems that were told already, and why the last run failed: the same again is no news.
    pub last: (HashSet<u64>, Option<&'static str>),
    pub observer: Arc<dyn ServiceObserver>,
    pub surroundings: Surroundings,
}

/// A run that cannot begin is tried again and again: why is told once.
struct OnceTold {
    said: Option<&'static str>,
    messenger: Arc<dyn Messenger>,
}

impl Messenger for OnceTold {
    fn run_ended(&self, desk: &Desk, job: &Job, result: &RunResult, origin: Origin) {
        self.messenger.run_ended(desk, job, result, origin);
    }

    fn run_failed(&self, desk: &Desk, job: &Job, failure: &Failure, origin: Origin) {
        if self.said != Some(failure.code()) {
            self.messenger.run_failed(desk, job, failure, origin);
        }
    }
}

/// Hands on what happens in a run, with the job's name.
struct InRun {
    job: String,
    observer: Arc<dyn ServiceObserver>,
}

impl Observer for InRun {
    fn observe(&self, event: &Event<'_>) {
        self.observer.observe(&Happening::InRun { job: &self.job, event });
    }
}

impl Order {
    /// Carries it out.
    pub fn carry_out(mut self) -> Ending {
        self.desk.observer = Arc::new(InRun { job: self.job.name.clone(), observer: self.observer.clone() });
        if self.glance
            && let Some(ending) = self.seen_first()
        {
            return ending;
        }
        self.observer.observe(&Happening::Began {
            job: &self.job.name,
            reason: self.reason,
            line: self.line.as_deref(),
        });
        let look = || match self.scope.is_everything() {
            true => look(&self.desk, &self.job),
            false => look_within(&self.desk, &self.job, &self.scope),
        };
        let request = RunRequest {
            job: &self.job,
            sort: Sort::Job,
            origin: if self.reason == Reason::Asked { Origin::Asked } else { Origin::ByItself },
            look: &look,
            lifted: &[],
            consent: &mut unattended,
        };
        let messenger =
            Arc::new(OnceTold { said: self.last.1, messenger: self.surroundings.messenger.clone() });
        let surroundings = Surroundings { messenger, finale: self.surroundings.finale.clone() };
        match run_job(&self.desk, &surroundings, request, |preview, _| preview.troubles()) {
            Ok((troubles, result)) => Ending::Ran(Box::new(result), troubles.unwrap_or_default()),
            Err(failure) => Ending::NotBegun(failure),
        }
    }

    /// Looks whether there is anything to do; `None` when there is, and it may be done.
    fn seen_first(&self) -> Option<Ending> {
        let (known, failed) = (&self.last.0, self.last.1);
        match glance_within(&self.desk, &self.job, &self.scope) {
            Ok(preview) if self.reason == Reason::Change && self.is_idle(&preview, known) => {
                let planned = preview.destinations.iter().flat_map(|destination| &destination.plan.folders);
                let mut folders: HashSet<RelPath> = planned.map(|folder| folder.path.clone()).collect();
                // What is only to be remembered is remembered by the next run.
                if let (true, Scope::Within(seen)) = (preview.has_news(), &self.scope) {
                    folders.extend(seen.iter().cloned());
                }
                Some(Ending::Idle { folders, everything: preview.has_news() && self.scope.is_everything() })
            }
            Ok(_) if self.job.timing.ask && !self.answered => Some(Ending::Asks),
            Ok(_) => None,
            Err(_) if self.desk.is_stopped() => Some(Ending::Cut),
            // A drive that is not the one it was has not been connected.
            Err(failure) if self.reason == Reason::Connect || failed == Some(failure.code()) => {
                Some(Ending::Unseen(failure.code()))
            }
            Err(_) => None,
        }
    }
}

impl Order {
    /// Whether there is no reason for a run. After a run's own writing what is to be remembered can wait: new files of a place with
    /// coarse times have to be read once more, and are found to be what was written.
    fn is_idle(&self, preview: &Preview, known: &HashSet<u64>) -> bool {
        preview.changes_nothing() && preview.troubles().is_subset(known) && (self.echo || !preview.has_news())
    }
}

/// Nobody is there to ask: what needs a yes is refused.
fn unattended(preview: &Preview, need: Need) -> Outcome<()> {
    if matches!(need, Need::None | Need::FirstRemoval) {
        return Ok(());
    }
    let removed = words::count(preview.counts().removed, "file", "files");
    let message = format!("this first run between these two places would remove {removed}");
    Err(Failure::refused(Cause::RemovalsNotAgreed, message)
        .hint(format!("Look at the preview, then run it once yourself: reedhook run {}", preview.job.name)))
}
