//! What is done when nothing goes on any more: drives are unmounted, the machine is suspended or powered off.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use reedhook_core::store::Place;
use reedhook_core::when::Finally;
use reedhook_jobs::finally::{self, Pending, PendingState};
use reedhook_jobs::observer::Finishing;

use crate::desktop_question;
use crate::happening::{Happening, Reason};
use crate::service::countdown::Countdown;
use crate::service::state::{News, Service};
use crate::tended::Tended;

impl Service {
    /// Does what is wished for the end, as soon as it may be.
    pub(super) fn finish(&mut self) {
        let finale = self.surroundings.finale.clone();
        if finale.is_empty() {
            return;
        }
        let pending = self.pending();
        self.eject(finale.free_drives(&pending));
        let Some((job, what)) = finale.machine() else { return };
        let behind = match pending.first() {
            Some(first) => first.words(),
            // What has to be told is told before the machine goes to sleep.
            None if !self.teller.is_idle() => "others are still being told".to_owned(),
            None => return self.count_down(&job, what),
        };
        self.countdown.end = None;
        if self.countdown.waits_for != behind {
            self.tell_finishing(&job, Finishing::Waits { what, behind: &behind });
            self.countdown.waits_for = behind;
        }
    }

    fn count_down(&mut self, job: &str, what: Finally) {
        let now = Instant::now();
        match self.countdown.end {
            None => {
                let left = self.desk.settings.countdown();
                self.countdown = Countdown { end: Some(now + left), waits_for: String::new() };
                self.tell_finishing(job, Finishing::CountsDown { what, left });
                let (news, of) = (self.news.0.clone(), job.to_owned());
                desktop_question::may_finish(what, left, move |yes| drop(news.send(News::Answered(of, yes))));
            }
            Some(end) if now < end => {}
            Some(_) => {
                self.countdown = Countdown::default();
                self.surroundings.finale.forget_machine();
                let desk = self.desk_for("");
                self.aside("finally", move || finally::act(&desk, what));
            }
        }
    }

    /// Somebody has answered while the machine is about to go down because of this job; whether it is.
    pub(super) fn answered_at_the_end(&mut self, job: &str, yes: bool) -> bool {
        let Some((of, _)) = self.surroundings.finale.machine() else { return false };
        if of != job {
            return false;
        }
        if yes {
            self.countdown.end = self.countdown.end.map(|_| Instant::now());
        } else {
            self.countdown = Countdown::default();
            self.surroundings.finale.forget_machine();
            self.tell_finishing(job, Finishing::LeftOn);
        }
        true
    }

    /// What the machine is about to do, because of which job, and how soon where it is counted down.
    pub(super) fn near_end(&self) -> Option<(String, Finally, Option<Duration>)> {
        let (job, what) = self.surroundings.finale.machine()?;
        let left = self.countdown.end.map(|end| end.saturating_duration_since(Instant::now()));
        Some((job, what, left))
    }

    fn tell_finishing(&self, job: &str, finishing: Finishing<'_>) {
        self.observer.observe(&Happening::Finishing { job, finishing });
    }

    /// Unmounting may take long, and hang: nothing else waits for it.
    fn eject(&mut self, drives: Vec<PathBuf>) {
        if drives.is_empty() {
            return;
        }
        self.drive_scan.leave(&drives);
        let (desk, news) = (self.desk_for(""), self.news.0.clone());
        self.aside("eject", move || {
            finally::eject(&desk, &drives);
            // What could not be unmounted may be looked through after all.
            let _ = news.send(News::Mounts);
        });
    }

    fn aside(&self, name: &str, work: impl FnOnce() + Send + 'static) {
        if let Err(error) = std::thread::Builder::new().name(name.to_owned()).spawn(work) {
            self.note(format!("what was to be done at the end could not be: {error}"));
        }
    }

    /// All runs of the home that go on, wait or are owed.
    pub(super) fn pending(&self) -> Vec<Pending> {
        let running = self.running.iter().map(|(job, running)| Pending {
            job: job.clone(),
            state: PendingState::Runs,
            places: known(&running.places),
        });
        let mut pending: Vec<Pending> = running.collect();
        let others = finally::running(&self.desk.home, &self.desk.settings);
        pending.extend(others.into_iter().filter(|other| !self.running.contains_key(&other.job)));
        let waiting = self.jobs.values().filter_map(|tended| {
            let places = || known(&self.places_of(&tended.job.name));
            still_to_come(tended).map(|state| Pending {
                job: tended.job.name.clone(),
                state,
                places: places(),
            })
        });
        pending.extend(waiting);
        pending
    }
}

/// Every job works somewhere: where nothing is known, the look at its places has told nothing.
fn known(places: &[Place]) -> Option<Vec<Place>> {
    (!places.is_empty()).then(|| places.to_vec())
}

/// Whether a run of a job is wanted, or owed. A look that is only made in case something has changed is neither.
fn still_to_come(tended: &Tended) -> Option<PendingState> {
    let has_changed = tended.changes.since().is_some() && !tended.job.timing.paused;
    if tended.wanted.is_some() || has_changed {
        return Some(PendingState::Waits);
    }
    let (at, wanted) = tended.again.as_ref()?;
    let left = at.saturating_duration_since(Instant::now());
    let at = jiff::Timestamp::now().checked_add(jiff::SignedDuration::try_from(left).ok()?).ok()?;
    (wanted.reason != Reason::Change).then_some(PendingState::Retry(at))
}
