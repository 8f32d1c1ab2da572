//! The places of jobs: what is there now, what has come, what is watched.

use std::time::{Duration, Instant};

use reedhook_core::path::RelPath;
use reedhook_core::units::Age;
use reedhook_core::walk::Scope;
use reedhook_core::when::Trigger;
use reedhook_jobs::places::{Ends, Located};

use super::looks::{self, Found, JobPlaces, Subject};
use crate::happening::Reason;
use crate::service::state::{News, Service, everything, line_of};
use crate::tended::{Follow, Followed, Watchable, Watched};
use crate::watch;
use crate::watch::Watch;

impl Service {
    /// Lets it be looked what is there now: drives that have come, sides that can be watched.
    pub(super) fn follow_places(&mut self) {
        let names: Vec<String> = self.jobs.keys().cloned().collect();
        names.into_iter().for_each(|name| self.look_at(Subject::Job(name)));
        self.follow_stores();
    }

    /// Begins a look, unless one goes on.
    pub(super) fn look_at(&mut self, subject: Subject) {
        if !self.looks.begins(&subject, Instant::now()) {
            return;
        }
        let (desk, news, of) = (self.desk_for(""), self.news.0.clone(), subject.clone());
        let job = match &subject {
            Subject::Job(name) => self.jobs.get(name).map(|tended| tended.job.clone()),
            Subject::Store(_) => None,
        };
        let look = move || match (of, job) {
            (Subject::Store(name), _) => Some(Found::Store(looks::look_at_store(&desk, &name))),
            (Subject::Job(_), Some(job)) => Some(Found::Job(Box::new(JobPlaces::of(&desk, job)))),
            (Subject::Job(_), None) => None,
        };
        let of = subject.clone();
        let work = move || {
            // A fault of ours in one look is no answer, too.
            let found = std::panic::catch_unwind(std::panic::AssertUnwindSafe(look)).unwrap_or(None);
            let _ = news.send(News::Seen(of, found));
        };
        if let Err(error) = std::thread::Builder::new().name("look".to_owned()).spawn(work) {
            self.looks.ended(&subject);
            self.note(format!("nobody could look whether drives have come: {error}"));
        }
    }

    /// Takes what a look has found.
    pub(super) fn seen(&mut self, subject: Subject, found: Option<Found>) {
        if self.looks.ended(&subject) {
            self.look_at(subject.clone());
        }
        match (subject, found) {
            (Subject::Job(name), Some(Found::Job(seen))) => self.job_seen(&name, *seen),
            (Subject::Store(name), Some(Found::Store(now))) => self.store_seen(&name, now),
            (subject, _) => self.look_failed(&subject),
        }
    }

    /// A look that broke off keeps no run waiting: the run looks for itself, and says what it finds.
    fn look_failed(&mut self, subject: &Subject) {
        let (what, follows) = match subject {
            Subject::Job(name) => {
                let Some(tended) = self.jobs.get_mut(name) else { return };
                tended.places.get_or_insert_default();
                (format!("the places of {name}"), "; its runs begin all the same")
            }
            Subject::Store(name) => (format!("the store {name}"), ""),
        };
        self.note(format!("the look at {what} failed{follows}; this is a fault in Reedhook"));
    }

    fn job_seen(&mut self, name: &str, seen: JobPlaces) {
        let Some(tended) = self.jobs.get_mut(name).filter(|tended| tended.job.keys == seen.job.keys) else {
            return;
        };
        tended.places = Some(seen.places);
        let Ok(ends) = seen.ends else { return };
        if !tended.job.timing.when.is_empty() {
            self.connected(name, seen.there);
            self.follow_sides(name, &ends, seen.watchable);
        }
    }

    /// Tells of places that do not answer, each once.
    pub(super) fn tell_of_silence(&mut self) {
        for subject in self.looks.newly_stuck(Instant::now()) {
            self.note(match subject {
                Subject::Job(name) => format!(
                    "{name}: its places do not answer (a drive, a share or a driver that hangs); its runs wait until they do, those of other jobs go on"
                ),
                Subject::Store(name) => format!("the store {name} does not answer"),
            });
        }
    }

    /// Wants a run when one of the places has come and all are there.
    fn connected(&mut self, name: &str, there: Vec<Option<String>>) {
        let (clock, now) = (self.now(), Instant::now());
        let Some(tended) = self.jobs.get_mut(name) else { return };
        let came = there.len() == tended.there.len()
            && there.iter().zip(&tended.there).any(|(now, before)| now.is_some() && now != before);
        let all = there.iter().all(Option::is_some);
        tended.there = there;
        // What waits to be tried again may have waited for this.
        if came
            && all
            && let Some((at, _)) = &mut tended.again
        {
            *at = now;
        }
        if came && all && tended.begins(Trigger::Connect) && !tended.job.timing.paused {
            tended.want(Reason::Connect, line_of(tended, "connect"), Scope::Everything, clock, now);
        }
    }

    /// Watches the sides whose changes make a run.
    fn follow_sides(&mut self, name: &str, ends: &Ends, watchable: Vec<Option<Watchable>>) {
        let Some(tended) = self.jobs.get_mut(name) else { return };
        if tended.quiet().is_none() {
            tended.sides.clear();
            return;
        }
        let two_way = tended.job.rules.kind == reedhook_core::job::Kind::TwoWay;
        let names = ends.landing_names().ok().flatten();
        let places: Vec<&Located> = ends.from.iter().chain(ends.to.iter().filter(|_| two_way)).collect();
        if tended.sides.len() != places.len() {
            let prefix = |at: usize| {
                names.as_ref().and_then(|names| names.get(at)).map_or_else(RelPath::root, RelPath::from)
            };
            tended.sides = (0..places.len())
                .map(|at| Followed {
                    prefix: prefix(at),
                    follow: Follow::Absent,
                    serial: 0,
                    unwatchable: None,
                })
                .collect();
        }
        let (when, every, mut unwatched) = (self.desk.now(), tended.look_every(), Vec::new());
        for ((side, place), there) in tended.sides.iter_mut().zip(places).zip(watchable) {
            let unwatched_before = side.unwatchable.take();
            if let (Some(there), Some(why)) = (&there, &unwatched_before) {
                let root = self.desk.home.shorten(&there.root);
                unwatched.push(looked_at_instead(name, &root, every, why));
                side.follow = Follow::Looked { at: Instant::now() + every };
            }
            let as_it_was = match (&side.follow, &there) {
                (Follow::Watched(watched), Some(there)) => watched.what == *there,
                (Follow::Looked { .. }, Some(_)) => true,
                (Follow::Looked { .. }, None) => place.server().is_some(),
                _ => false,
            };
            if as_it_was {
                continue;
            }
            let filter = tended.job.filter(when);
            side.follow = match there.zip(filter.ok()) {
                Some((what, filter)) => {
                    self.serial += 1;
                    side.serial = self.serial;
                    let (news, serial) = (self.news.0.clone(), self.serial);
                    let tell = move |heard| news.send(News::Watched(serial, heard)).is_ok();
                    match Watch::begin(what.root.clone(), filter, self.queue, tell) {
                        Ok(watch) => Follow::Watched(Watched { what, ready: None, _watch: watch }),
                        Err(error) => {
                            let (root, why) = (self.desk.home.shorten(&what.root), watch::no_watch(&error));
                            unwatched.push(looked_at_instead(name, &root, every, &why));
                            Follow::Looked { at: Instant::now() }
                        }
                    }
                }
                None if place.server().is_some() => Follow::Looked { at: Instant::now() },
                None => Follow::Absent,
            };
        }
        unwatched.iter().for_each(|text| self.note(text));
    }

    /// Takes what a watch has to say.
    pub(super) fn watched(&mut self, serial: u64, heard: watch::WatchNews) {
        let now = Instant::now();
        let found = self.jobs.iter_mut().find_map(|(name, tended)| {
            let at = tended.sides.iter().position(|side| side.serial == serial && serial > 0)?;
            Some((name.clone(), tended, at))
        });
        let Some((name, tended, at)) = found else { return };
        match heard {
            // What has changed while nobody watched is unknown.
            watch::WatchNews::Ready { folders } => {
                if let Follow::Watched(watched) = &mut tended.sides[at].follow {
                    watched.ready = Some(folders);
                }
                tended.heard(at, everything(), now);
            }
            watch::WatchNews::Changed(changed) => tended.heard(at, changed, now),
            // Whether the folder is still there has to be looked at.
            watch::WatchNews::Over(why) => {
                let side = &mut tended.sides[at];
                (side.follow, side.unwatchable) = (Follow::Absent, Some(why));
                self.look_at(Subject::Job(name));
            }
        }
    }
}

fn looked_at_instead(job: &str, folder: &str, every: Duration, why: &str) -> String {
    let every = Age::from_seconds(every.as_secs());
    format!("{job}: {folder} is looked at every {every} instead of watched: {why}")
}
