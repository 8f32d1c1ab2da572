//! What was done to a store, as it is told, and gathered so that each folder is read and written once.
//!
//! A run tells of every file that it writes, so this has to cost little: paths stand one behind the other in one piece of memory.

use std::collections::{BTreeMap, HashSet};

use crate::inventories::image::{InventoryMeta, Names};
use crate::inventories::names::parted;

/// What was done to a store, in its order.
#[derive(Debug, Default)]
pub struct Changes {
    paths: Vec<u8>,
    all: Vec<SeenChange>,
}

/// Where a path stands among the paths.
#[derive(Debug, Clone, Copy)]
struct At {
    from: usize,
    until: usize,
}

#[derive(Debug)]
enum SeenChange {
    Put(At, InventoryMeta),
    Gone(At),
    GoneFolder(At),
    MovedFolder(At, At),
}

/// One thing that was done.
pub(super) enum Change<'c> {
    /// It is there now, or looks otherwise.
    Put(&'c [u8], InventoryMeta),
    /// Something that is no folder is gone.
    Gone(&'c [u8]),
    /// A folder is gone, with everything below it.
    GoneFolder(&'c [u8]),
    /// A folder has another path now, with everything below it.
    MovedFolder { from: &'c [u8], to: &'c [u8] },
}

impl Changes {
    /// How much was done.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether nothing was done.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Something is there now, or looks otherwise: a folder, and a path in it.
    pub fn put(&mut self, path: [&[u8]; 2], meta: InventoryMeta) {
        let at = self.path(path);
        self.all.push(SeenChange::Put(at, meta));
    }

    /// Something is gone; a folder with everything below it.
    pub fn gone(&mut self, path: [&[u8]; 2], folder: bool) {
        let at = self.path(path);
        self.all.push(if folder { SeenChange::GoneFolder(at) } else { SeenChange::Gone(at) });
    }

    /// A folder has another path now, with everything below it.
    pub fn moved_folder(&mut self, from: [&[u8]; 2], to: [&[u8]; 2]) {
        let (from, to) = (self.path(from), self.path(to));
        self.all.push(SeenChange::MovedFolder(from, to));
    }

    fn path(&mut self, [folder, path]: [&[u8]; 2]) -> At {
        let from = self.paths.len();
        self.paths.extend_from_slice(folder);
        if !folder.is_empty() {
            self.paths.push(b'/');
        }
        self.paths.extend_from_slice(path);
        At { from, until: self.paths.len() }
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = Change<'_>> {
        let path = |at: &At| &self.paths[at.from..at.until];
        self.all.iter().map(move |told| match told {
            SeenChange::Put(at, meta) => Change::Put(path(at), *meta),
            SeenChange::Gone(at) => Change::Gone(path(at)),
            SeenChange::GoneFolder(at) => Change::GoneFolder(path(at)),
            SeenChange::MovedFolder(from, to) => Change::MovedFolder { from: path(from), to: path(to) },
        })
    }
}

/// The same for many folders. What is done in one folder comes in a row as a rule, so the last one is at hand.
#[derive(Default)]
pub(super) struct Edits<'c> {
    folders: BTreeMap<&'c [u8], Names<'c>>,
    last: (&'c [u8], Names<'c>),
    gone_folders: HashSet<&'c [u8]>,
}

impl<'c> Edits<'c> {
    /// Whether what was gathered has to be written first: a whole folder moves, or one comes where another was a moment ago.
    pub fn must_be_written_before(&self, change: &Change<'_>) -> bool {
        match change {
            Change::Put(path, meta) => meta.is_folder() && self.gone_folders.contains(path),
            Change::MovedFolder { .. } => true,
            Change::Gone(_) | Change::GoneFolder(_) => false,
        }
    }

    pub fn add(&mut self, path: &'c [u8], meta: Option<InventoryMeta>) {
        let (folder, name) = parted(path);
        self.turn_to(folder);
        self.last.1.push((name, meta));
    }

    fn turn_to(&mut self, folder: &'c [u8]) {
        if self.last.0 != folder {
            let names = self.folders.remove(folder).unwrap_or_default();
            let (then, edits) = std::mem::replace(&mut self.last, (folder, names));
            if !edits.is_empty() {
                self.folders.insert(then, edits);
            }
        }
    }

    /// What was done in it a moment ago is gone with it.
    pub fn add_gone_folder(&mut self, path: &'c [u8]) {
        self.add(path, None);
        self.gone_folders.insert(path);
        let is_inside = |other: &&[u8]| matches!(other.get(path.len()), None | Some(b'/'));
        let alike =
            self.folders.range(path..).map(|(other, _)| *other).take_while(|one| one.starts_with(path));
        let inside: Vec<&[u8]> = alike.filter(is_inside).collect();
        inside.iter().for_each(|other| drop(self.folders.remove(other)));
    }

    /// By folder, sorted by name, and of each name what was done last.
    pub fn into_folders(mut self) -> BTreeMap<&'c [u8], Names<'c>> {
        let (folder, names) = self.last;
        if !names.is_empty() {
            self.folders.insert(folder, names);
        }
        for names in self.folders.values_mut() {
            names.sort_by_key(|(name, _)| *name);
            let mut at = 0;
            for next in 1..names.len() {
                at += usize::from(names[next].0 != names[at].0);
                names[at] = names[next];
            }
            names.truncate(at + 1);
        }
        self.folders
    }
}
