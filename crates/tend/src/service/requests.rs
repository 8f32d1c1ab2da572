//! What others ask for through the socket.

use std::sync::atomic::Ordering;
use std::time::Instant;

use reedhook_core::walk::Scope;
use reedhook_jobs::lines;
use serde_json::{Value, json};

use super::{Service, kept};
use crate::socket::{Answer, Request, refusal};
use crate::tended::{Follow, Tended};
use crate::{Reason, Waiting, pending};

impl Service {
    pub(super) fn answer(&mut self, request: Request) -> Answer {
        match request {
            Request::Status => self.status(),
            Request::Pending => self.pending().iter().map(pending::line_of).collect(),
            Request::Stop => {
                self.ends = true;
                vec![json!({"event": "ending"})]
            }
            Request::Reload => {
                self.reload();
                vec![json!({"event": "taken"})]
            }
            Request::Run { job } => {
                self.read_jobs(false);
                if let Some(running) = self.running.get(&job) {
                    return vec![refusal(&format!(
                        "the job \"{job}\" is already running ({})",
                        running.reason
                    ))];
                }
                let (clock, now) = (self.now(), Instant::now());
                match self.jobs.get_mut(&job) {
                    Some(tended) => {
                        tended.want(Reason::Asked, None, Scope::Everything, clock, now);
                        vec![json!({"event": "taken", "job": job})]
                    }
                    None => vec![refusal(&format!("there is no job \"{job}\""))],
                }
            }
            Request::Answer { job, yes } => self.answered(&job, yes),
            Request::Halt { job } => match self.running.get(&job) {
                Some(running) => {
                    running.stop.store(true, Ordering::Relaxed);
                    vec![json!({"event": "taken", "job": job})]
                }
                None => vec![refusal(&format!("no run of \"{job}\" goes on here"))],
            },
            // That is no question with an answer; the socket sees to it.
            Request::Watch => vec![refusal("looking on takes a connection of its own")],
        }
    }

    pub(super) fn answered(&mut self, job: &str, yes: bool) -> Answer {
        let asks = |tended: &&mut Tended| tended.told == Some(Waiting::Answer);
        let Some(tended) = self.jobs.get_mut(job).filter(asks) else {
            if self.answered_at_the_end(job, yes) {
                return vec![json!({"event": "taken", "job": job})];
            }
            return vec![refusal(&format!("the job \"{job}\" does not ask for anything"))];
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
        vec![json!({"event": "taken", "job": job})]
    }

    pub(super) fn status(&self) -> Answer {
        let mut lines = vec![json!({
            "event": "tending",
            "pid": std::process::id(),
            "since": lines::time(self.since.as_millisecond()),
            "jobs": self.jobs.len(),
            "running": self.running.len(),
        })];
        if let Some(why) = &self.unlisted {
            lines[0]["message"] = json!(why);
        }
        if let Some((job, what, left)) = self.near_end() {
            lines[0]["finally"] =
                json!({"job": job, "do": what.as_str(), "seconds": left.map(|left| left.as_secs())});
        }
        if let Some(store) = self.drive_scan.looks_through() {
            lines[0]["looking_through"] = json!(store);
        }
        lines.extend(self.jobs.iter().map(|(name, tended)| self.status_of(name, tended)));
        let broken = self.broken.iter().filter(|(name, _)| !self.jobs.contains_key(*name));
        lines.extend(
            broken.map(
                |(name, why)| json!({"event": "tended", "job": name, "state": "broken", "message": why}),
            ),
        );
        lines
    }

    pub(super) fn status_of(&self, name: &str, tended: &Tended) -> Value {
        let mut line = lines::object(json!({"event": "tended", "job": name}));
        let mut put = |key: &str, value: Value| drop(line.insert(key.to_owned(), value));
        if let Some(running) = self.running.get(name) {
            put("state", json!("running"));
            put("cause", json!(running.reason.as_str()));
            put("since", json!(lines::time(running.since_ms)));
        } else if let Some(wanted) = &tended.wanted {
            put("state", json!("waiting"));
            put("cause", json!(wanted.reason.as_str()));
            if let Some(waiting) = &tended.told {
                put("for", json!(waiting.as_str()));
                if let Waiting::For(job) = waiting {
                    put("behind", json!(job));
                }
            }
        } else if let Some((at, wanted)) =
            tended.again.as_ref().filter(|(_, again)| again.reason == Reason::Retry)
        {
            put("state", json!("waiting"));
            put("cause", json!(wanted.reason.as_str()));
            put("for", json!("retry"));
            let left = at.saturating_duration_since(Instant::now());
            let at = self.now().as_millisecond() + i64::try_from(left.as_millis()).unwrap_or(0);
            put("until", json!(lines::time(at)));
        } else if tended.job.timing.paused {
            put("state", json!("paused"));
        } else {
            let state = if tended.job.timing.when.is_empty() { "asked-only" } else { "idle" };
            put("state", json!(state));
        }
        if let Some(due) = tended.next.as_ref().filter(|_| !tended.job.timing.paused) {
            let at = due.at.to_zoned((self.outside.zone)());
            put("next", json!(at.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()));
            put("line", json!(due.line));
        }
        if tended.quiet().is_some() {
            let watched = tended.sides.iter().filter_map(|side| match &side.follow {
                Follow::Watched(watched) => watched.ready,
                _ => None,
            });
            put("watched", json!(watched.clone().count()));
            put("sides", json!(tended.sides.len()));
            put("folders", json!(watched.sum::<usize>()));
        }
        if let Some(why) = self.broken.get(name) {
            put("message", json!(why));
        }
        Value::Object(line)
    }
}
