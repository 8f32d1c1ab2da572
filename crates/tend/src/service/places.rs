//! The places of jobs: what is there now, what has come, what is watched.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use reedhook_core::path::RelPath;
use reedhook_core::units::Age;
use reedhook_core::walk::Scope;
use reedhook_core::when::Trigger;
use reedhook_jobs::places::{Ends, Located};
use reedhook_stores::drives;

use super::{AFTER_MOUNT, News, Service, everything, line_of};
use crate::tended::{Follow, Followed, Watchable, Watched};
use crate::watch::Watch;
use crate::{Reason, watch};

impl Service {
    /// Looks what is there now: drives that have come, sides that can be watched.
    pub(super) fn follow_places(&mut self) {
        let names: Vec<String> = self.jobs.keys().cloned().collect();
        for name in names {
            let Some(tended) = self.jobs.get(&name) else { continue };
            if tended.job.timing.when.is_empty() {
                continue;
            }
            let ends = Ends::of(&tended.job, &self.desk.home, &self.desk.settings);
            let Ok(ends) = ends else { continue };
            self.connected(&name, &ends);
            self.follow_sides(&name, &ends);
        }
        self.follow_stores();
    }

    /// Wants a run when one of the places has come and all are there.
    pub(super) fn connected(&mut self, name: &str, ends: &Ends) {
        let there: Vec<Option<String>> = ends.from.iter().chain(&ends.to).map(ground).collect();
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
    pub(super) fn follow_sides(&mut self, name: &str, ends: &Ends) {
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
                .map(|at| Followed { prefix: prefix(at), follow: Follow::Absent, serial: 0 })
                .collect();
        }
        let (when, every, mut unwatched) = (self.desk.now(), tended.look_every(), Vec::new());
        for (side, place) in tended.sides.iter_mut().zip(places) {
            let there = place.folder().and_then(Watchable::of);
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
            watch::WatchNews::Over(why) => {
                let folder = match &tended.sides[at].follow {
                    Follow::Watched(watched) => watched.what.root.clone(),
                    _ => PathBuf::new(),
                };
                if folder.is_dir() {
                    let every = tended.look_every();
                    tended.sides[at].follow = Follow::Looked { at: now + every };
                    let text = looked_at_instead(&name, &self.desk.home.shorten(&folder), every, &why);
                    self.note(text);
                } else {
                    tended.sides[at].follow = Follow::Absent;
                    self.look_again = Some(now + AFTER_MOUNT);
                }
            }
        }
    }
}

/// What a place is on, while it is there; a server always is.
pub(super) fn ground(place: &Located) -> Option<String> {
    if place.server().is_some() {
        return Some(String::new());
    }
    // On a drive that is there, a folder may not be made yet.
    let folder = place.folder().filter(|folder| folder.is_dir() || place.is_below_a_store())?;
    let there = folder.ancestors().find(|above| above.is_dir())?;
    let there = there.canonicalize().ok()?;
    let file_system = drives::place_on(&there).map(|(file_system, _)| file_system).unwrap_or_default();
    // Whoever plugs it out and in again faster than anybody looks finds it somewhere else, if not always.
    Some(format!("{file_system} at {}", drives::mount_point_of(&there).unwrap_or_default().display()))
}

fn looked_at_instead(job: &str, folder: &str, every: Duration, why: &str) -> String {
    let every = Age::from_seconds(every.as_secs());
    format!("{job}: {folder} is looked at every {every} instead of watched: {why}")
}
