//! Inventories that keep themselves: what a run sees of a named store, and what it does there, is noted without a second look.
//!
//! A [`Shelf`] is the part of an inventory that a side of a job is about. The walk tells it of every folder; a folder that is as it was
//! costs a hash of its listing and one question. What has changed waits in memory for a while and is then written in one short
//! transaction, so that runs side by side do not wait for each other. Nothing that fails here fails a run.

use std::cell::RefCell;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use reedhook_core::entry::{Entry, Side};
use reedhook_core::job::OddNames;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::run::{Done, Item};
use reedhook_core::walk::WalkObserver;
use reedhook_record::RecordError;
use reedhook_record::inventories::{About, Changes, Image, Inventories, InventoryMeta, Print};

use super::{is_another, is_own, meta_of, usual_about};
use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::Outcome;
use crate::inventory::files::open;
use crate::jobfile::job::Job;
use crate::open::open_source;
use crate::places::{Located, locate};
use crate::recognise::mark_of;
use crate::settings::InventoryKept;

/// A run waits no longer than that for somebody else who is writing; then the next run notes what this one has seen.
const PATIENCE: Duration = Duration::from_secs(3);

/// What waits to be written takes no more memory than this, roughly.
const WAITING_BYTES: usize = 4 << 20;

/// So many changes wait to be written, at most: few enough that the end of a run does not wait for them.
const WAITING_CHANGES: usize = 1 << 13;

/// A part of the inventory of a named store.
pub(crate) struct Shelf {
    about: About,
    /// Where in the store.
    below: RelPath,
    state: Mutex<ShelfState>,
}

struct ShelfState {
    all: Inventories,
    id: Option<i64>,
    folders: Vec<(RelPath, Image)>,
    bytes: usize,
    changes: Changes,
    /// The folders that the side is in are written down.
    way_is_known: bool,
    /// Nothing more is noted after that.
    failed: Option<RecordError>,
}

/// What there is of a shelf for a place.
enum ShelfAt {
    /// The place is in no named store, its store is not there, or its inventory is not to be kept.
    Nothing,
    /// The inventory of that name is of another store: what is to be said of it.
    Another(String),
    Shelf(Box<Shelf>),
}

impl Shelf {
    /// The shelf of a place that a run is about to change; `None` where there is none.
    pub fn of(desk: &Desk, job: &Job, place: &Located) -> Option<Shelf> {
        match Shelf::find_for(desk, job, place) {
            Ok(ShelfAt::Shelf(shelf)) => Some(*shelf),
            // The look has said so.
            Ok(ShelfAt::Nothing | ShelfAt::Another(_)) | Err(_) => None,
        }
    }

    fn find_for(desk: &Desk, job: &Job, place: &Located) -> Outcome<ShelfAt> {
        // Names that the store spells otherwise than the job are no names of its inventory.
        match job.rules.odd_names {
            OddNames::Encode => Ok(ShelfAt::Nothing),
            _ => Shelf::find(desk, place),
        }
    }

    fn find(desk: &Desk, place: &Located) -> Outcome<ShelfAt> {
        let Some(named) = place.written.strip_prefix('@') else { return Ok(ShelfAt::Nothing) };
        let (name, below) = named.split_once('/').unwrap_or((named, ""));
        let kept = desk.settings.store(name)?.inventory;
        let Ok(below) = RelPath::new(below.trim_matches('/').as_bytes()) else { return Ok(ShelfAt::Nothing) };
        if kept == Some(InventoryKept::Off) {
            return Ok(ShelfAt::Nothing);
        }
        let root = locate(&desk.home, &desk.settings, &format!("@{name}"))?;
        // Whoever opens it says so.
        if !root.seems_there() {
            return Ok(ShelfAt::Nothing);
        }
        // A server would have to be asked; its address tells it apart.
        let mark = match root.folder() {
            Some(_) => {
                let store = open_source(desk, &root, OpenOptions::default(), "store")?;
                mark_of(desk, &root, store.as_ref())?.unwrap_or_default()
            }
            None => String::new(),
        };
        let mut about = usual_about(desk, name, &root, mark);
        let all = open(&desk.home)?;
        all.wait_at_most(PATIENCE).map_err(|error| super::failed(&desk.home, error))?;
        let known = all.named(name).map_err(|error| super::failed(&desk.home, error))?;
        if let Some(known) = known.as_ref().filter(|known| is_another(known, &about)) {
            let other = &known.about.location;
            return Ok(ShelfAt::Another(format!(
                "the inventory \"{name}\" is what another store held, {other}, and stays as it is; if that one is gone for good: reedhook inventory drop {name}"
            )));
        }
        let id = known.as_ref().map(|known| known.id);
        about.keep_what_is_known(known.map(|known| known.about));
        let state = ShelfState {
            all,
            id,
            folders: Vec::new(),
            bytes: 0,
            changes: Changes::default(),
            way_is_known: false,
            failed: None,
        };
        Ok(ShelfAt::Shelf(Box::new(Shelf { about, below, state: Mutex::new(state) })))
    }

    fn state(&self) -> MutexGuard<'_, ShelfState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes note of what a folder of the side holds.
    fn saw(&self, folder: &RelPath, entries: &[Entry]) {
        thread_local! {
            static ROOM: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
        }
        let path = self.below.join_path(folder);
        let entries = || {
            let told = entries.iter().filter(|entry| !is_own(&entry.name));
            told.map(|entry| (entry.name.as_bytes(), meta_of(&entry.meta)))
        };
        let print = ROOM.with_borrow_mut(|room| Image::print(entries(), room));
        if !self.knows(&path, &print) {
            self.put_aside(path, Image::of(entries()));
        }
    }

    fn knows(&self, path: &RelPath, print: &Print) -> bool {
        let state = self.state();
        // How things were when something was last written: one state of the file is read on and on.
        let known = state
            .id
            .map(|id| state.all.hold_still().and_then(|()| state.all.knows(id, path.as_bytes(), print)));
        known.is_some_and(|known| known.unwrap_or(false))
    }

    fn put_aside(&self, path: RelPath, image: Image) {
        let mut state = self.state();
        if state.failed.is_none() {
            state.bytes += path.as_bytes().len() + image.weight();
            state.folders.push((path, image));
            if state.bytes > WAITING_BYTES {
                self.write(&mut state);
            }
        }
    }

    /// Takes note of what was done to an item of the side. Of what the engine does not say what it is, the next look tells.
    pub fn did(&self, item: &Item) {
        fn at<'p>(shelf: &'p Shelf, path: &'p RelPath) -> [&'p [u8]; 2] {
            [shelf.below.as_bytes(), path.as_bytes()]
        }
        let mut state = self.state();
        if state.failed.is_some() {
            return;
        }
        let here = at(self, &item.path);
        let stands =
            item.stands.map(|(kind, size)| InventoryMeta::of(kind, size, item.now.modified, item.hash));
        match (item.done, &item.moved_from) {
            (Done::Removed, _) => state.changes.gone(here, false),
            (Done::FolderRemoved, _) => state.changes.gone(here, true),
            (Done::Moved, Some(from)) if item.items.is_some() => {
                state.changes.moved_folder(at(self, from), here);
            }
            (done, from) => {
                if let Some(from) = from.as_ref().filter(|_| done == Done::Moved) {
                    state.changes.gone(at(self, from), false);
                }
                if let Some(meta) = stands.filter(|_| done != Done::Left) {
                    state.changes.put(here, meta);
                }
            }
        }
        if state.changes.len() >= WAITING_CHANGES {
            self.write(&mut state);
        }
    }

    /// Writes down what waits.
    fn write(&self, state: &mut ShelfState) {
        let (folders, changes) = (std::mem::take(&mut state.folders), std::mem::take(&mut state.changes));
        state.bytes = 0;
        let first = !std::mem::replace(&mut state.way_is_known, true);
        let written = || {
            let mut updating = state.all.update(&self.about)?;
            for (path, image) in folders {
                updating.folder(path.as_bytes(), image)?;
            }
            if first {
                updating.way_to(self.below.as_bytes())?;
            }
            updating.apply(&changes)?;
            state.id = Some(updating.id());
            updating.commit().map(drop)
        };
        if let Err(error) = written() {
            state.failed.get_or_insert(error);
        }
    }

    /// The look, or the run, is over.
    pub fn close(self, desk: &Desk) {
        let mut state = self.state();
        if state.failed.is_none() {
            self.write(&mut state);
        }
        if let Some(error) = state.failed.take() {
            let name = &self.about.name;
            desk.note(format!(
                "the inventory {name} could not be kept up to date: their file {}",
                error.told()
            ));
        }
    }
}

/// The shelves of both sides of a look.
pub(crate) struct Shelves {
    /// Whose they are, and which folder of the side: several sources are one tree, and each a folder of it.
    shelves: Vec<(Side, RelPath, Shelf)>,
    /// What is to be said of those that are not kept, once the look has gone well: what went wrong with a place may be its reason.
    notes: Vec<String>,
}

impl Shelves {
    /// Those of a job's left, which several places may make up, and of its right.
    pub fn of(desk: &Desk, job: &Job, lefts: &[Located], right: Option<&Located>, names: &[Name]) -> Shelves {
        let mut shelves = Shelves { shelves: Vec::new(), notes: Vec::new() };
        for (at, left) in lefts.iter().enumerate() {
            let folder = names.get(at).map(RelPath::from).unwrap_or_default();
            shelves.add(desk, job, (Side::Left, folder), left);
        }
        right.into_iter().for_each(|right| shelves.add(desk, job, (Side::Right, RelPath::root()), right));
        shelves
    }

    fn add(&mut self, desk: &Desk, job: &Job, (side, folder): (Side, RelPath), place: &Located) {
        match Shelf::find_for(desk, job, place) {
            Ok(ShelfAt::Shelf(shelf)) => self.shelves.push((side, folder, *shelf)),
            Ok(ShelfAt::Another(note)) => self.notes.push(note),
            Ok(ShelfAt::Nothing) => {}
            Err(failure) => {
                let place = &place.written;
                self.notes.push(format!("the inventory of {place} is not kept: {}", failure.text()));
            }
        }
    }

    /// They as the ear of a walk; `None` when there are none.
    pub fn observer(&self) -> Option<&dyn WalkObserver> {
        (!self.shelves.is_empty()).then_some(self)
    }

    /// The look is over.
    pub fn close(self, desk: &Desk) {
        self.notes.into_iter().for_each(|note| desk.note(note));
        self.shelves.into_iter().for_each(|(_, _, shelf)| shelf.close(desk));
    }
}

impl WalkObserver for Shelves {
    fn saw(&self, side: Side, folder: &RelPath, entries: &[Entry]) {
        for (_, its, shelf) in self.shelves.iter().filter(|(of, ..)| *of == side) {
            if let Some(inside) = folder.below(its) {
                shelf.saw(&inside, entries);
            }
        }
    }
}
