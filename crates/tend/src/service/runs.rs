//! Runs: which may begin, and what came of them.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use reedhook_core::store::Place;
use reedhook_core::walk::Scope;
use reedhook_core::when::OnBattery;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due;
use reedhook_jobs::failure::{Cause, Failure, Halt};
use reedhook_jobs::observer::{Event, Observer};
use reedhook_jobs::run::RunResult;
use reedhook_record::Outcome as RunOutcome;

use super::looks::Subject;
use crate::happening::{Happening, Reason, ServiceObserver, Waiting};
use crate::queue::{Blocked, blocked};
use crate::runner::{Ending, Order, Running};
use crate::service::state::{News, SIDE_BY_SIDE, Service, everything};
use crate::tended::{Last, Wanted};
use crate::watch::Changed;
use crate::{desktop_question, signs};

/// A destination at which another one writes is tried again after so long.
const IN_USE: Duration = Duration::from_secs(30);

impl Service {
    /// Begins what is wanted and may begin, the longest wanted first; tells of what has to wait.
    pub(super) fn begin_what_may(&mut self) {
        let mut wanted: Vec<(Instant, String)> = self
            .jobs
            .iter()
            .filter_map(|(name, tended)| Some((tended.wanted.as_ref()?.since, name.clone())))
            .collect();
        wanted.sort();
        for (_, name) in wanted {
            match self.stands_in_the_way(&name) {
                Some(waiting) => self.tell_waiting(&name, waiting),
                None if self.jobs.get(&name).is_some_and(|tended| tended.places.is_some()) => {
                    self.begin(&name)
                }
                // The first look at its places is still underway: those that were wanted later do not go before it. Soon it has come back,
                // or has got no answer.
                None => break,
            }
        }
    }

    pub(super) fn stands_in_the_way(&self, name: &str) -> Option<Waiting> {
        let tended = self.jobs.get(name)?;
        let wanted = tended.wanted.as_ref()?;
        let by_itself = wanted.reason != Reason::Asked;
        // Of a change it is looked first whether there is anything to agree to.
        let asks = !wanted.answered && (wanted.reason != Reason::Change || wanted.looked);
        if asks {
            return Some(Waiting::Answer);
        }
        if by_itself && tended.job.timing.on_battery == OnBattery::Wait && signs::on_battery(&self.power()) {
            return Some(Waiting::Power);
        }
        if self.looks.is_stuck(&Subject::Job(name.to_owned()), Instant::now()) {
            return Some(Waiting::Silence);
        }
        let running = self.running.iter().map(|(name, running)| (name.as_str(), running.places.as_slice()));
        let most = self.desk.settings.max_runs.map_or(SIDE_BY_SIDE, std::num::NonZeroUsize::get);
        match blocked(name, &self.places_of(name), running, most)? {
            Blocked::By(other) => Some(Waiting::For(other)),
            Blocked::Full => Some(Waiting::Turn),
        }
    }

    pub(super) fn power(&self) -> PathBuf {
        (self.desk.world.variable)("REEDHOOK_POWER").map_or_else(|| signs::POWER.into(), PathBuf::from)
    }

    /// Where a job works, as far as that was looked at.
    pub(super) fn places_of(&self, name: &str) -> Vec<Place> {
        self.jobs.get(name).and_then(|tended| tended.places.clone()).unwrap_or_default()
    }

    pub(super) fn tell_waiting(&mut self, name: &str, waiting: Waiting) {
        let Some(tended) = self.jobs.get_mut(name) else { return };
        if tended.told.as_ref() == Some(&waiting) {
            return;
        }
        let reason = tended.wanted.as_ref().map_or(Reason::Schedule, |wanted| wanted.reason);
        self.observer.observe(&Happening::Waiting { job: name, reason, waiting: &waiting });
        if waiting == Waiting::Answer {
            let (news, job) = (self.news.0.clone(), name.to_owned());
            desktop_question::may_begin(name, reason, move |yes| drop(news.send(News::Answered(job, yes))));
        }
        tended.told = Some(waiting);
    }

    /// What a run works at: the desk, with a wish to stop of its own.
    pub(super) fn desk_for(&self, job: &str) -> Desk {
        let observer = Arc::new(Noted { job: job.to_owned(), observer: self.observer.clone() });
        let mut desk = Desk { stop: Arc::default(), waited: Arc::default(), observer, ..self.desk.clone() };
        desk.world.zone = (self.outside.zone)();
        desk
    }

    pub(super) fn begin(&mut self, name: &str) {
        let desk = self.desk_for(name);
        let Some(tended) = self.jobs.get_mut(name) else { return };
        let Some(wanted) = tended.wanted.take() else { return };
        tended.told = None;
        let job = tended.job.clone();
        let change = wanted.reason == Reason::Change;
        // Whoever looks at everything sees what has changed until now, too.
        if !change {
            tended.changes.take();
        }
        let last = &tended.last;
        let order = Order {
            reason: wanted.reason,
            line: wanted.line,
            scope: wanted.scope.clone(),
            glance: change || wanted.reason == Reason::Connect,
            answered: wanted.answered,
            echo: wanted.echo,
            last: (last.troubles.clone(), last.failure),
            observer: self.observer.clone(),
            surroundings: self.surroundings.clone(),
            job: job.clone(),
            desk,
        };
        let running = Running {
            stop: order.desk.stop.clone(),
            places: self.places_of(name),
            reason: wanted.reason,
            since_ms: self.desk.now_ms(),
        };
        self.make_way_for(&running.places);
        let (news, of, scope, due) = (self.news.0.clone(), name.to_owned(), wanted.scope, wanted.due);
        let work = move || {
            // A fault of ours in one run must not make the service wait for it for ever.
            let ending = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| order.carry_out()));
            let ending = ending.unwrap_or_else(|_| Ending::NotBegun(Failure::our_mistake()));
            let _ = news.send(News::Ended(of, scope, due, Box::new(ending)));
        };
        match std::thread::Builder::new().name("run".to_owned()).spawn(work) {
            Ok(_) => drop(self.running.insert(name.to_owned(), running)),
            Err(error) => self.note(format!("{name}: the run could not begin: {error}")),
        }
    }

    pub(super) fn ended(&mut self, name: &str, scope: Scope, due: Timestamp, ending: Ending) {
        let Some(running) = self.running.remove(name) else { return };
        let clock = self.now();
        match ending {
            Ending::Ran(result, troubles) => {
                self.observer.observe(&Happening::Ended { job: name, result: &result });
                self.ran(name, &running, (&scope, due), (&result, troubles));
            }
            Ending::NotBegun(failure) => {
                let Some(tended) = self.jobs.get_mut(name) else { return };
                // Somebody else runs it, and afterwards there may be something left; or our own files cannot be written, and it is
                // still owed. Said once.
                let wait = if matches!(failure.cause, Cause::AlreadyRunning) { 10 } else { 60 };
                let said = tended.last.failure.replace(failure.code()) == Some(failure.code());
                let wanted = Wanted::later(running.reason, scope, due, Instant::now());
                tended.again = Some((Instant::now() + Duration::from_secs(wait), wanted));
                if !said {
                    self.observer.observe(&Happening::Failed { job: name, failure: &failure });
                }
            }
            Ending::Unseen(code) => {
                if let Some(tended) = self.jobs.get_mut(name) {
                    tended.last.failure = Some(code);
                    tended.changes.keep(everything());
                    tended.look_later(tended.look_every(), due, Instant::now());
                }
            }
            Ending::Idle { folders, everything } => {
                let Some(tended) = self.jobs.get_mut(name) else { return };
                (tended.last.failure, tended.setbacks) = (None, 0);
                if scope.is_everything() {
                    tended.whole_at = Some(clock);
                }
                tended.changes.keep(Changed { folders, everything });
            }
            Ending::Cut => {
                if let Some(tended) = self.jobs.get_mut(name) {
                    tended.changes.keep(everything());
                }
            }
            Ending::Asks => {
                let Some(tended) = self.jobs.get_mut(name) else { return };
                tended.want(Reason::Change, None, scope.clone(), due, Instant::now());
                if let Some(wanted) = &mut tended.wanted {
                    (wanted.scope, wanted.looked) = (scope, true);
                }
            }
        }
    }

    pub(super) fn ran(
        &mut self,
        name: &str,
        running: &Running,
        (scope, due): (&Scope, Timestamp),
        (result, troubles): (&RunResult, HashSet<u64>),
    ) {
        let (clock, now) = (self.now(), Instant::now());
        let Some(tended) = self.jobs.get_mut(name) else { return };
        let failure = result.failure.as_ref();
        let mut known = std::mem::take(&mut tended.last.troubles);
        // What a look at everything no longer finds is over.
        if scope.is_everything() {
            known.clear();
        }
        known.extend(troubles);
        let failed = failure.map(Failure::code);
        tended.last = Last { troubles: known, failure: failed, at: Some(now) };
        match (result.outcome, scope) {
            (RunOutcome::Done | RunOutcome::Held, Scope::Everything) => tended.whole_at = Some(clock),
            (RunOutcome::Done | RunOutcome::Held, Scope::Within(_)) => {}
            // What could not be done is looked for everywhere next time.
            _ => tended.changes.keep(everything()),
        }
        // A wrong password is not right the next time, and too many of them lock an account.
        let may_pass = failure.is_some_and(|failure| match &failure.cause {
            Cause::Connect(error) => error.may_pass(),
            _ => failure.halt == Halt::Stopped,
        });
        let retry = tended.job.timing.retry.filter(|retry| may_pass && tended.tries < retry.times);
        if let Some(retry) = retry {
            tended.tries += 1;
            let wanted = Wanted::later(Reason::Retry, Scope::Everything, due, now);
            tended.again = Some((now + retry.apart.length(), wanted));
            let apart = i64::try_from(retry.apart.length().as_secs()).unwrap_or(i64::MAX);
            let at = clock.checked_add(jiff::SignedDuration::from_secs(apart)).unwrap_or(clock);
            let waiting = Waiting::Retry(at);
            self.observer.observe(&Happening::Waiting {
                job: name,
                reason: Reason::Retry,
                waiting: &waiting,
            });
            return;
        }
        tended.tries = 0;
        match result.outcome {
            RunOutcome::Done | RunOutcome::Held => tended.setbacks = 0,
            RunOutcome::Interrupted => {}
            // Another Reedhook writes there.
            _ if failure.is_some_and(|failure| matches!(failure.cause, Cause::DestinationInUse)) => {
                let wanted = Wanted::later(running.reason, Scope::Everything, due, now);
                tended.again = Some((now + IN_USE, wanted));
            }
            _ => tended.set_back(due, now),
        }
        // What was ended from outside is still owed.
        if result.outcome != RunOutcome::Interrupted {
            self.settle(name, due);
        }
    }

    /// Writes down that nothing is owed any more that was due until then.
    pub(super) fn settle(&mut self, name: &str, due: Timestamp) {
        let Some(tended) = self.jobs.get(name) else { return };
        let settled = self
            .desk
            .home
            .record()
            .and_then(|mut record| due::settle_until(record.as_mut(), &tended.job, due));
        if let Err(failure) = settled
            && !std::mem::replace(&mut self.told_full, true)
        {
            self.note(format!("what has been done on time cannot be remembered: {}", failure.text()));
        }
    }
}

/// What is told at a desk outside of a run; of no job, where that is empty.
struct Noted {
    job: String,
    observer: Arc<dyn ServiceObserver>,
}

impl Observer for Noted {
    fn observe(&self, event: &Event<'_>) {
        if let (true, Event::Note(text)) = (self.job.is_empty(), event) {
            return self.observer.observe(&Happening::Note(text));
        }
        self.observer.observe(&Happening::InRun { job: &self.job, event });
    }
}
