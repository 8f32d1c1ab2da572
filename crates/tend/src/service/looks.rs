//! Looks at places, each on a thread of its own: a drive, a share or a driver that hangs keeps nothing waiting but its own jobs.

use std::collections::HashMap;
use std::path::Path;
use std::time::{Duration, Instant};

use reedhook_core::store::Place;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::places::{Ends, Located, locate};
use reedhook_stores::drives;

use crate::service::drives::Mounted;
use crate::tended::Watchable;

/// A look that takes longer than this has got no answer.
pub(super) const PATIENCE: Duration = Duration::from_secs(5);

/// What is looked at.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Subject {
    /// The places of a job.
    Job(String),
    /// The folder of a named store.
    Store(String),
}

/// What a look found.
pub(super) enum Found {
    /// The places of a job, as they are now.
    Job(Box<JobPlaces>),
    /// What the folder of a store is on, while it is there; and where it is.
    Store(Option<(Mounted, Vec<Place>)>),
}

/// The places of a job, as they are now.
pub(super) struct JobPlaces {
    /// As the job had it then.
    pub job: Job,
    /// The places, or why nobody knows which they are.
    pub ends: Outcome<Ends>,
    /// What each is on, while it is there.
    pub there: Vec<Option<String>>,
    /// Those that can be watched, in the same order.
    pub watchable: Vec<Option<Watchable>>,
    /// Where it works.
    pub places: Vec<Place>,
}

impl JobPlaces {
    pub fn of(desk: &Desk, job: Job) -> JobPlaces {
        let ends = Ends::of(&job, &desk.home, &desk.settings);
        let all: Vec<&Located> = ends.iter().flat_map(|ends| ends.from.iter().chain(&ends.to)).collect();
        let there = all.iter().map(|place| ground(place)).collect();
        let watchable = all.iter().map(|place| Watchable::of(place.folder()?)).collect();
        let places = all.iter().flat_map(|place| place.places()).collect();
        JobPlaces { job, ends, there, watchable, places }
    }
}

/// What the folder of a store is on, while it is there; and where it is.
pub(super) fn look_at_store(desk: &Desk, name: &str) -> Option<(Mounted, Vec<Place>)> {
    let place = locate(&desk.home, &desk.settings, &format!("@{name}")).ok()?;
    Some((Mounted::of(&place)?, place.places()))
}

/// What a place is on, while it is there; a server always is.
fn ground(place: &Located) -> Option<String> {
    if place.server().is_some() {
        return Some(String::new());
    }
    // On a drive that is there, a folder may not be made yet.
    let folder = place.folder().filter(|folder| folder.is_dir() || place.is_below_a_store())?;
    let there = folder.ancestors().find(|above| Path::is_dir(above))?;
    let there = there.canonicalize().ok()?;
    let file_system = drives::place_on(&there).map(|(file_system, _)| file_system).unwrap_or_default();
    // Whoever plugs it out and in again faster than anybody looks finds it somewhere else, if not always.
    Some(format!("{file_system} at {}", drives::mount_point_of(&there).unwrap_or_default().display()))
}

/// The looks that have not come back.
#[derive(Default)]
pub(super) struct Looks {
    underway: HashMap<Subject, Underway>,
}

struct Underway {
    since: Instant,
    /// Something has changed since it began.
    again: bool,
    /// It was told that it gets no answer.
    told: bool,
}

impl Looks {
    /// Takes note that something is to be looked at; whether a look has to begin. One that goes on is made once more afterwards.
    pub fn begins(&mut self, subject: &Subject, now: Instant) -> bool {
        match self.underway.get_mut(subject) {
            Some(underway) => {
                underway.again = true;
                false
            }
            None => {
                self.underway.insert(subject.clone(), Underway { since: now, again: false, told: false });
                true
            }
        }
    }

    /// Takes note that a look has come back; whether it has to be made once more.
    pub fn ended(&mut self, subject: &Subject) -> bool {
        self.underway.remove(subject).is_some_and(|underway| underway.again)
    }

    /// Whether a look gets no answer.
    pub fn is_stuck(&self, subject: &Subject, now: Instant) -> bool {
        self.underway.get(subject).is_some_and(|underway| now >= underway.since + PATIENCE)
    }

    /// Those that get no answer, each once.
    pub fn newly_stuck(&mut self, now: Instant) -> Vec<Subject> {
        let stuck = self.underway.iter_mut().filter(|(_, one)| !one.told && now >= one.since + PATIENCE);
        stuck
            .map(|(subject, underway)| {
                underway.told = true;
                subject.clone()
            })
            .collect()
    }

    /// When the next look will have got no answer.
    pub fn patience_ends(&self) -> Option<Instant> {
        self.underway.values().filter(|one| !one.told).map(|one| one.since + PATIENCE).min()
    }
}
