//! What others ask for through the socket.

use std::sync::atomic::Ordering;
use std::time::Instant;

use reedhook_core::walk::Scope;
use reedhook_jobs::lines;

use super::looks::Subject;
use crate::happening::{Reason, Waiting};
use crate::pending;
use crate::protocol::{
    Follows, JobState, JobWord, NearEnd, NextDue, Request, ServiceState, Told, WaitsFor, local_time, refusal,
};
use crate::service::state::{Service, kept};
use crate::socket::Answer;
use crate::tended::{Follow, Tended};

fn taken(job: &str) -> Told {
    Told::Taken { job: Some(job.to_owned()) }
}

impl Service {
    pub(super) fn answer(&mut self, request: Request) -> Answer {
        match request {
            Request::Status => self.status(),
            Request::Pending => self.pending().iter().map(pending::told).collect(),
            Request::Stop => {
                self.ends = true;
                vec![Told::Ending]
            }
            Request::Reload => {
                self.reload();
                vec![Told::Taken { job: None }]
            }
            Request::Run { job } => {
                self.read_jobs(false);
                if let Some(running) = self.running.get(&job) {
                    return vec![refusal(format!(
                        "the job \"{job}\" is already running ({})",
                        running.reason
                    ))];
                }
                let (clock, now) = (self.now(), Instant::now());
                match self.jobs.get_mut(&job) {
                    Some(tended) => {
                        tended.want(Reason::Asked, None, Scope::Everything, clock, now);
                        vec![taken(&job)]
                    }
                    None => vec![refusal(format!("there is no job \"{job}\""))],
                }
            }
            Request::Answer { job, yes } => self.answered(&job, yes),
            Request::Halt { job } => match self.running.get(&job) {
                Some(running) => {
                    running.stop.store(true, Ordering::Relaxed);
                    vec![taken(&job)]
                }
                None => vec![refusal(format!("no run of \"{job}\" goes on here"))],
            },
            // That is no question with an answer; the socket sees to it.
            Request::Watch => vec![refusal("looking on takes a connection of its own")],
        }
    }

    pub(super) fn answered(&mut self, job: &str, yes: bool) -> Answer {
        let asks = |tended: &&mut Tended| tended.told == Some(Waiting::Answer);
        let Some(tended) = self.jobs.get_mut(job).filter(asks) else {
            if self.answered_at_the_end(job, yes) {
                return vec![taken(job)];
            }
            return vec![refusal(format!("the job \"{job}\" does not ask for anything"))];
        };
        tended.told = None;
        if yes {
            if let Some(wanted) = &mut tended.wanted {
                wanted.answered = true;
            }
        } else if let Some(wanted) = tended.wanted.take() {
            // What somebody does not want is not owed either; what has changed is looked at with the next change.
            if wanted.reason == Reason::Change {
                tended.changes.keep(kept(&wanted.scope));
            }
            self.settle(job, wanted.due);
        }
        vec![taken(job)]
    }

    pub(super) fn status(&self) -> Answer {
        let mut lines = vec![Told::Tending(self.state())];
        lines.extend(self.jobs.iter().map(|(name, tended)| Told::Tended(self.status_of(name, tended))));
        let broken = self.broken.iter().filter(|(name, _)| !self.jobs.contains_key(*name));
        lines.extend(broken.map(|(name, why)| {
            let state = JobState::new(name, JobWord::Broken);
            Told::Tended(JobState { message: Some(why.clone()), ..state })
        }));
        lines
    }

    /// How the service is.
    pub(super) fn state(&self) -> ServiceState {
        let by_themselves = self.jobs.values().filter(|tended| !tended.job.timing.when.is_empty()).count();
        let next = self.jobs.iter().filter(|(_, tended)| !tended.job.timing.paused);
        let next = next.filter_map(|(name, tended)| Some((tended.next.as_ref()?, name)));
        let next = next.min_by_key(|(due, _)| due.at).map(|(due, job)| NextDue {
            job: job.clone(),
            at: local_time(due.at, (self.outside.zone)()),
            line: due.line.clone(),
        });
        let near_end = self.near_end().map(|(job, what, left)| NearEnd {
            job,
            what,
            seconds: left.map(|left| left.as_secs()),
        });
        ServiceState {
            pid: std::process::id(),
            since: lines::time(self.since.as_millisecond()),
            jobs: self.jobs.len(),
            by_themselves,
            running: self.running.len(),
            next,
            looking_through: self.drive_scan.looks_through().map(str::to_owned),
            finally: near_end,
            message: self.unlisted.clone(),
        }
    }

    fn status_of(&self, name: &str, tended: &Tended) -> JobState {
        let zone = (self.outside.zone)();
        let mut state = JobState::new(name, JobWord::Idle);
        let retry = tended.again.as_ref().filter(|(_, again)| again.reason == Reason::Retry);
        if let Some(running) = self.running.get(name) {
            (state.state, state.cause) = (JobWord::Running, Some(running.reason));
            state.since = Some(lines::time(running.since_ms));
        } else if let Some(wanted) = &tended.wanted {
            (state.state, state.cause) = (JobWord::Waiting, Some(wanted.reason));
            state.waits = tended.told.as_ref().map(|waiting| WaitsFor::of(waiting, zone.clone()));
        } else if let Some((at, wanted)) = retry {
            (state.state, state.cause) = (JobWord::Waiting, Some(wanted.reason));
            let left = at.saturating_duration_since(Instant::now());
            let at = self.now().checked_add(jiff::SignedDuration::try_from(left).unwrap_or_default());
            state.waits = at.ok().map(|at| WaitsFor::Retry { until: local_time(at, zone.clone()) });
        } else if tended.job.timing.paused {
            state.state = JobWord::Paused;
        } else if tended.job.timing.when.is_empty() {
            state.state = JobWord::AskedOnly;
        }
        if let Some(due) = tended.next.as_ref().filter(|_| !tended.job.timing.paused) {
            (state.next, state.line) = (Some(local_time(due.at, zone)), Some(due.line.clone()));
        }
        if tended.quiet().is_some() {
            let watched = tended.sides.iter().filter_map(|side| match &side.follow {
                Follow::Watched(watched) => watched.ready,
                _ => None,
            });
            let (watched, folders) = (watched.clone().count(), watched.sum());
            state.follows = Some(Follows { watched, sides: tended.sides.len(), folders });
        }
        state.message = self.broken.get(name).cloned();
        if self.looks.is_stuck(&Subject::Job(name.to_owned()), Instant::now()) {
            state
                .message
                .get_or_insert_with(|| "its places do not answer; its runs wait until they do".to_owned());
        }
        state
    }
}
