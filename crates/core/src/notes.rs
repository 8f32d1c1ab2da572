//! What this machine remembers about files in a store that cannot say it itself.
//!
//! A store that cannot be told the time of a file names its versions instead ([`crate::entry::Version`]). Whoever writes a file
//! there notes down under which tag the store has it, and the time and mode it was meant to have. As long as the store still
//! shows that tag, the file is known to be that very version.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::entry::{Meta, Stamp};
use crate::path::{Name, RelPath};

/// What was noted of one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Note {
    /// The version that it is about.
    pub tag: String,
    /// Seconds and nanoseconds of its modification time.
    pub modified: Option<(i64, u32)>,
    /// Its mode bits.
    pub mode: Option<u32>,
}

impl Note {
    /// A note about the version with this tag.
    pub fn new(tag: &str, modified: Option<Stamp>, mode: Option<u32>) -> Note {
        let modified = modified.map(|stamp| (stamp.seconds(), stamp.nanos()));
        Note { tag: tag.to_owned(), modified, mode }
    }

    /// Gives an entry what was noted of it; nothing when it is another version by now.
    pub fn apply(&self, meta: &mut Meta) {
        let Some(version) = meta.version.as_mut().filter(|version| version.tag == self.tag) else { return };
        if let Some((seconds, nanos)) = self.modified {
            meta.modified = Some(Stamp::new(seconds, nanos));
            version.arrival = false;
        }
        meta.mode = self.mode.or(meta.mode);
    }
}

/// Where notes about one store are kept. Losing them costs time, not safety: what is not noted is compared by content.
pub trait Notes: Send + Sync {
    /// The notes about the files of a folder.
    fn of_folder(&self, folder: &RelPath) -> HashMap<Name, Note>;

    /// The note about one file.
    fn of(&self, path: &RelPath) -> Option<Note> {
        let (folder, name) = path.split()?;
        self.of_folder(&folder).remove(&name)
    }

    /// Takes a note, or forgets it.
    fn note(&self, path: &RelPath, note: Option<Note>);

    /// Makes the notes taken until now durable.
    fn keep(&self);
}

/// Notes that last as long as the process: for tests, and for stores that are used once.
#[derive(Debug, Default)]
pub struct Fleeting(std::sync::Mutex<HashMap<RelPath, HashMap<Name, Note>>>);

impl Fleeting {
    fn all(&self) -> std::sync::MutexGuard<'_, HashMap<RelPath, HashMap<Name, Note>>> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

impl Notes for Fleeting {
    fn of_folder(&self, folder: &RelPath) -> HashMap<Name, Note> {
        self.all().get(folder).cloned().unwrap_or_default()
    }

    fn of(&self, path: &RelPath) -> Option<Note> {
        let (folder, name) = path.split()?;
        self.all().get(&folder)?.get(&name).cloned()
    }

    fn note(&self, path: &RelPath, note: Option<Note>) {
        let Some((folder, name)) = path.split() else { return };
        let mut all = self.all();
        let notes = all.entry(folder).or_default();
        match note {
            Some(note) => notes.insert(name, note),
            None => notes.remove(&name),
        };
    }

    fn keep(&self) {}
}
