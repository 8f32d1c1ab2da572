//! Drives that appear are looked through, so that their inventories are up to date when they are away again.
//!
//! One at a time, with the lowest priority, and never while a run works there: a run that is to begin ends the look, which is taken up
//! again afterwards. What such a look does not get through leaves the inventory as it was.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use reedhook_core::store::Place;
use reedhook_jobs::address::is_address;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Halt, Outcome};
use reedhook_jobs::inventory::{self, Took};
use reedhook_jobs::low_priority;
use reedhook_jobs::observer::Nobody;
use reedhook_jobs::settings::InventoryKept;
use reedhook_jobs::words::count;

use super::looks::Subject;
use crate::queue::share;
use crate::service::drives::{AtWork, Mounted};
use crate::service::state::{News, Service};

impl Service {
    /// Looks which stores have appeared. Those at servers do not: whoever wants to know what is there has to ask.
    pub(super) fn follow_stores(&mut self) {
        let settings = &self.desk.settings;
        let kept = settings.stores.iter().filter(|(_, entry)| entry.inventory != Some(InventoryKept::Off));
        let names: Vec<String> = kept.map(|(name, _)| name.clone()).collect();
        let local = names.into_iter().filter(|name| {
            self.desk.settings.stores.get(name).is_some_and(|entry| !is_address(&entry.location))
        });
        local.collect::<Vec<_>>().into_iter().for_each(|name| self.look_at(Subject::Store(name)));
    }

    /// Takes what a look at a store has found.
    pub(super) fn store_seen(&mut self, name: &str, now: Option<(Mounted, Vec<Place>)>) {
        let mounted = now.as_ref().map(|(mounted, _)| mounted);
        let before = self.drive_scan.there.insert(name.to_owned(), now.clone());
        let came = before.is_some_and(|before| {
            mounted.is_some_and(|now| now.has_come(before.as_ref().map(|(mounted, _)| mounted)))
        });
        if came && !self.drive_scan.due.iter().any(|due| due == name) {
            self.drive_scan.due.push_back(name.to_owned());
        }
    }

    /// Begins to look through the next store, unless one is looked through already, or a run works there.
    pub(super) fn look_through_stores(&mut self) {
        if self.drive_scan.at_work.is_some() {
            return;
        }
        let Some(name) = self.drive_scan.due.front().cloned() else { return };
        let there = self.drive_scan.there.get(&name);
        let Some((_, places)) = there.cloned().flatten() else {
            // It has gone again.
            self.drive_scan.due.pop_front();
            return;
        };
        if self.running.values().any(|running| share(&running.places, &places)) {
            return;
        }
        self.drive_scan.due.pop_front();
        let stop: Arc<AtomicBool> = Arc::default();
        let desk = Desk { stop: stop.clone(), observer: Arc::new(Nobody), ..self.desk_for("") };
        let (news, store) = (self.news.0.clone(), name.clone());
        let work = move || {
            let take = || inventory::take(&desk, &format!("@{store}"), Some(&store));
            let took = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                low_priority::at_low_priority(take)
            }));
            let _ = news.send(News::LookedThrough(store, took.ok().map(Box::new)));
        };
        match std::thread::Builder::new().name("inventory".to_owned()).spawn(work) {
            Ok(_) => self.drive_scan.at_work = Some(AtWork { store: name, places, stop }),
            Err(error) => self.note(format!("{name} could not be looked through: {error}")),
        }
    }

    /// A run is about to work at these places.
    pub(super) fn make_way_for(&mut self, places: &[Place]) {
        if let Some(at_work) =
            self.drive_scan.at_work.as_ref().filter(|at_work| share(&at_work.places, places))
        {
            at_work.stop.store(true, Ordering::Relaxed);
        }
    }

    /// Nothing is begun any more.
    pub(super) fn end_drive_scan(&mut self) {
        if let Some(at_work) = &self.drive_scan.at_work {
            at_work.stop.store(true, Ordering::Relaxed);
        }
    }

    /// A store has been looked through; nothing came of it where that is a fault of ours.
    pub(super) fn looked_through(&mut self, store: &str, took: Option<Outcome<Took>>) {
        self.drive_scan.at_work = self.drive_scan.at_work.take().filter(|at_work| at_work.store != store);
        match took {
            Some(Ok(took)) => {
                let entries = count(took.taken.entries, "entry", "entries");
                self.note(format!("{store} has been looked through: {entries}; its inventory is up to date"));
            }
            // A run has begun there: afterwards.
            Some(Err(failure)) if failure.halt == Halt::Interrupted => {
                self.drive_scan.due.push_back(store.to_owned());
            }
            Some(Err(failure)) => self.note(format!("{store} was not looked through: {}", failure.message)),
            None => self.note(format!("{store} could not be looked through; this is a fault in Reedhook")),
        }
    }
}
