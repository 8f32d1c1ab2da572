//! Notes about files in stores that cannot say everything themselves ([`reedhook_core::notes`]), in the state file.
//!
//! They have a connection of their own, because stores take notes on many threads while the record is in use elsewhere. What is noted
//! is gathered and written together; what was not written when the machine went down is asked of the store, or compared, anew.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use reedhook_core::notes::{Note, Notes};
use reedhook_core::path::{Name, RelPath};
use rusqlite::{Connection, params};

use crate::error::Result;
use crate::state_file::StateFile;

/// The notes about one server, below one of its folders.
pub struct KeptNotes {
    store: String,
    /// The root of the store that uses them, in the server's own terms: jobs with different roots share what is noted.
    base: RelPath,
    state: Mutex<NotesState>,
}

struct NotesState {
    db: Connection,
    untold: HashMap<RelPath, Option<Note>>,
}

impl KeptNotes {
    /// Opens the notes in a state file.
    ///
    /// # Errors
    /// As [`StateFile::open`].
    pub fn open(file: &Path, store: &str, base: RelPath) -> Result<KeptNotes> {
        let db = StateFile::open(file)?.db;
        let state = Mutex::new(NotesState { db, untold: HashMap::new() });
        Ok(KeptNotes { store: store.to_owned(), base, state })
    }

    fn state(&self) -> MutexGuard<'_, NotesState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl NotesState {
    fn read(&self, store: &str, folder: &RelPath) -> Result<HashMap<Name, Note>> {
        let sql = "SELECT name, tag, seconds, nanos, mode FROM notes WHERE store = ?1 AND folder = ?2";
        let mut statement = self.db.prepare_cached(sql)?;
        let mut rows = statement.query(params![store, folder.as_bytes()])?;
        let mut found = HashMap::new();
        while let Some(row) = rows.next()? {
            let Ok(name) = Name::new(row.get_ref(0)?.as_blob().unwrap_or_default()) else { continue };
            let modified = row.get::<_, Option<i64>>(2)?.zip(row.get::<_, Option<u32>>(3)?);
            found.insert(name, Note { tag: row.get(1)?, modified, mode: row.get(4)? });
        }
        Ok(found)
    }

    fn write(&mut self, store: &str) -> Result<()> {
        if self.untold.is_empty() {
            return Ok(());
        }
        let transaction = self.db.transaction()?;
        {
            let mut put = transaction
                .prepare_cached("INSERT OR REPLACE INTO notes VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?;
            let mut forget = transaction
                .prepare_cached("DELETE FROM notes WHERE store = ?1 AND folder = ?2 AND name = ?3")?;
            for (path, note) in &self.untold {
                let Some((folder, name)) = path.split() else { continue };
                let (folder, name) = (folder.as_bytes(), name.as_bytes());
                match note {
                    Some(Note { tag, modified, mode }) => {
                        let (seconds, nanos) = modified.unzip();
                        put.execute(params![store, folder, name, tag, seconds, nanos, mode])?
                    }
                    None => forget.execute(params![store, folder, name])?,
                };
            }
        }
        transaction.commit()?;
        self.untold.clear();
        Ok(())
    }
}

impl Notes for KeptNotes {
    fn of_folder(&self, folder: &RelPath) -> HashMap<Name, Note> {
        let folder = self.base.join_path(folder);
        let state = self.state();
        // Notes that cannot be read are as good as none: what they would have told is found out anew.
        let mut found = state.read(&self.store, &folder).unwrap_or_default();
        for (path, note) in &state.untold {
            let Some((in_folder, name)) = path.split().filter(|(in_folder, _)| *in_folder == folder) else {
                continue;
            };
            debug_assert_eq!(in_folder, folder);
            match note {
                Some(note) => found.insert(name, note.clone()),
                None => found.remove(&name),
            };
        }
        found
    }

    fn of(&self, path: &RelPath) -> Option<Note> {
        let path = self.base.join_path(path);
        let state = self.state();
        if let Some(untold) = state.untold.get(&path) {
            return untold.clone();
        }
        let (folder, name) = path.split()?;
        state.read(&self.store, &folder).ok()?.remove(&name)
    }

    fn note(&self, path: &RelPath, note: Option<Note>) {
        self.state().untold.insert(self.base.join_path(path), note);
    }

    fn keep(&self) {
        // They are kept for the next time; a state file that fails says so where it matters.
        let _ = self.state().write(&self.store);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_core::entry::Stamp;
    use reedhook_testing::path;

    #[test]
    fn notes_are_kept_by_server_and_shared_between_roots() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("state.db");
        let open = |store: &str, base: &str| KeptNotes::open(&file, store, path(base)).unwrap();
        let note = |tag: &str| Note::new(tag, Some(Stamp::new(-5, 7)), Some(0o640));
        {
            let notes = open("davs://archive", "stills");
            notes.note(&path("nest/one.jpg"), Some(note("\"a\"")));
            notes.note(&path("nest/two.jpg"), Some(note("\"b\"")));
            assert_eq!(notes.of_folder(&path("nest")).len(), 2, "also what is not written yet");
            notes.keep();
            notes.note(&path("nest/two.jpg"), None);
            assert_eq!(notes.of(&path("nest/two.jpg")), None);
            notes.keep();
        }
        let wider = open("davs://archive", "");
        assert_eq!(wider.of(&path("stills/nest/one.jpg")), Some(note("\"a\"")));
        assert_eq!(wider.of_folder(&path("stills/nest")).len(), 1);
        assert_eq!(open("davs://other", "stills").of(&path("nest/one.jpg")), None);
    }
}
