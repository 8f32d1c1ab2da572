//! Inventories: what stores held when they were last seen, kept in a file of its own beside the record, so that it can be thrown away.
//!
//! | table | a row is | columns |
//! |---|---|---|
//! | `inventories` | one inventory | `id`, `name` (unique), `mark` (the store's, or empty), `place` (as written then), `location` (the folder or address then), `label` (of its drive, or empty), `taken` (ms since 1970), `entries`, `bytes` |
//! | `folders` | one folder of it | `inventory`, `path` (bytes), `names` (bytes, sorted, each with a `/` behind it), `folded` (the same without regard to case and form, where a name is not plain ASCII; else empty), `metas` (kind, size, time and hash of each, in the postcard wire format) |
//!
//! A folder is a row, so paths cost little, and taking an inventory anew writes only the folders that are not as they were. All of
//! it is one transaction: one that is cut short leaves the old inventory.

use std::ops::ControlFlow;
use std::path::Path;

use reedhook_core::entry::{EntryKind, Special, Stamp};
use reedhook_core::names::Folding;
use reedhook_core::path::Name;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};
use serde::{Deserialize, Serialize};

use super::{PATIENCE, RecordError, Result, write_ahead};

const VERSION: i64 = 1;

const LAYOUT: &str = "CREATE TABLE inventories (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, mark TEXT NOT NULL, place TEXT NOT NULL, location TEXT NOT NULL,
        label TEXT NOT NULL, taken INTEGER NOT NULL, entries INTEGER NOT NULL, bytes INTEGER NOT NULL);
     CREATE TABLE folders (
        inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL,
        names BLOB NOT NULL, folded BLOB NOT NULL, metas BLOB NOT NULL, PRIMARY KEY (inventory, path)) WITHOUT ROWID;";

/// Names are the same to a person who searches whatever their case and form.
const ALIKE: Folding = Folding { case: true, forms: true };

/// A name as people search for it.
pub fn folded(name: &[u8]) -> Vec<u8> {
    Name::new(name).map_or_else(|_| name.to_vec(), |name| ALIKE.key(&name))
}

/// Which store an inventory is of, and when it was seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct About {
    /// The inventory's name.
    pub name: String,
    /// The store's mark; may be empty.
    pub mark: String,
    /// The place, as it was written then.
    pub place: String,
    /// The folder or address then.
    pub location: String,
    /// The label of its drive; may be empty.
    pub label: String,
    /// When it was taken, in milliseconds since 1970.
    pub taken_ms: i64,
}

/// An inventory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inventory {
    /// Its key.
    pub id: i64,
    /// What it is of.
    pub about: About,
    /// How many entries it has: files, folders, links and the rest.
    pub entries: u64,
    /// The bytes of its files.
    pub bytes: u64,
}

/// An entry of an inventory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// Its name.
    pub name: Vec<u8>,
    /// What it is.
    pub meta: HeldMeta,
}

/// What is known of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldMeta {
    kind: u8,
    /// Bytes of a file.
    pub size: u64,
    modified: Option<(i64, u32)>,
    /// BLAKE3 of its content, where that was known.
    pub hash: Option<[u8; 32]>,
}

impl HeldMeta {
    /// Of an entry.
    pub fn of(kind: EntryKind, size: u64, modified: Option<Stamp>, hash: Option<[u8; 32]>) -> HeldMeta {
        let kind = match kind {
            EntryKind::File => 0,
            EntryKind::Folder => 1,
            EntryKind::Link => 2,
            EntryKind::Special(_) => 3,
        };
        let size = if kind == 0 { size } else { 0 };
        HeldMeta { kind, size, modified: modified.map(|time| (time.seconds(), time.nanos())), hash }
    }

    /// What it is. Which sort of special thing is not kept.
    pub fn kind(&self) -> EntryKind {
        match self.kind {
            0 => EntryKind::File,
            1 => EntryKind::Folder,
            2 => EntryKind::Link,
            _ => EntryKind::Special(Special::Other),
        }
    }

    /// When it was last changed.
    pub fn modified(&self) -> Option<Stamp> {
        self.modified.map(|(seconds, nanos)| Stamp::new(seconds, nanos))
    }
}

/// The file of all inventories.
pub struct Inventories {
    db: Connection,
}

/// A folder while inventories are looked through. What is not asked for is not read.
pub struct FolderRow<'r> {
    /// Its path.
    pub path: &'r [u8],
    /// The names in it, each with a `/` behind it.
    pub names: &'r [u8],
    /// The same without regard to case and form; the names themselves where they are plain ASCII in lower case or not.
    folded: &'r [u8],
    row: &'r Row<'r>,
}

impl FolderRow<'_> {
    /// Whether all names in it are ASCII: then their case is all that does not count.
    pub fn is_ascii(&self) -> bool {
        self.folded.is_empty()
    }

    /// What a search without regard to case and form looks through, each name with a `/` behind it. Of ASCII names the case still stands.
    pub fn searched(&self) -> &[u8] {
        if self.is_ascii() { self.names } else { self.folded }
    }

    /// What is known of each entry, in the order of the names.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn metas(&self) -> Result<Vec<HeldMeta>> {
        Ok(postcard::from_bytes(self.row.get_ref("metas")?.as_blob().map_err(rusqlite::Error::from)?)?)
    }
}

/// The names of a folder, one by one.
pub fn each_name(names: &[u8]) -> impl Iterator<Item = &[u8]> {
    names.split(|byte| *byte == b'/').filter(|name| !name.is_empty())
}

impl Inventories {
    /// Opens the file, making it when there is none. Its folder exists.
    ///
    /// # Errors
    /// When SQLite fails or a newer program wrote it.
    pub fn open(path: &Path) -> Result<Inventories> {
        let db = Connection::open(path)?;
        db.busy_timeout(PATIENCE)?;
        write_ahead(&db)?;
        db.pragma_update(None, "foreign_keys", true)?;
        let found: i64 = db.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if found > VERSION {
            return Err(RecordError::TooNew { found });
        }
        if found < VERSION {
            // Two programs may begin at once: whoever waited looks again.
            let transaction = Transaction::new_unchecked(&db, rusqlite::TransactionBehavior::Immediate)?;
            let found: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
            if found == 0 {
                transaction.execute_batch(LAYOUT)?;
                transaction.pragma_update(None, "user_version", VERSION)?;
            }
            transaction.commit()?;
        }
        Ok(Inventories { db })
    }

    /// All inventories, by name.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn list(&self) -> Result<Vec<Inventory>> {
        let mut statement = self.db.prepare("SELECT * FROM inventories ORDER BY name")?;
        let rows = statement.query_map([], inventory_of)?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    /// The inventory of this name.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn named(&self, name: &str) -> Result<Option<Inventory>> {
        let sql = "SELECT * FROM inventories WHERE name = ?1";
        Ok(self.db.query_row(sql, [name], inventory_of).optional()?)
    }

    /// Throws an inventory away; whether there was one.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn drop_named(&mut self, name: &str) -> Result<bool> {
        Ok(self.db.execute("DELETE FROM inventories WHERE name = ?1", [name])? > 0)
    }

    /// Begins to take an inventory, anew where there is one of this name. Until it is finished, the old one holds.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn take(&mut self, about: &About) -> Result<Taking<'_>> {
        let db = Transaction::new(&mut self.db, rusqlite::TransactionBehavior::Immediate)?;
        db.execute_batch(
            "CREATE TEMP TABLE IF NOT EXISTS seen (path BLOB PRIMARY KEY) WITHOUT ROWID; DELETE FROM seen;",
        )?;
        db.execute(
            "INSERT INTO inventories (name, mark, place, location, label, taken, entries, bytes)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, 0, 0)
             ON CONFLICT (name) DO UPDATE SET mark = ?2, place = ?3, location = ?4, label = ?5, taken = ?6",
            params![about.name, about.mark, about.place, about.location, about.label, about.taken_ms],
        )?;
        let id =
            db.query_row("SELECT id FROM inventories WHERE name = ?1", [&about.name], |row| row.get(0))?;
        Ok(Taking { db, id, entries: 0, bytes: 0, changed: 0 })
    }

    /// Looks through the folders of an inventory, in the order of their paths, until it is told to stop.
    ///
    /// # Errors
    /// When SQLite fails, or the visitor does.
    pub fn each_folder(
        &self,
        inventory: i64,
        each: &mut dyn FnMut(&FolderRow<'_>) -> Result<ControlFlow<()>>,
    ) -> Result<()> {
        let sql = "SELECT path, names, folded, metas FROM folders WHERE inventory = ?1 ORDER BY path";
        let mut statement = self.db.prepare_cached(sql)?;
        let mut rows = statement.query([inventory])?;
        while let Some(row) = rows.next()? {
            let blob = |at: usize| row.get_ref(at)?.as_blob().map_err(rusqlite::Error::from);
            let folder = FolderRow { path: blob(0)?, names: blob(1)?, folded: blob(2)?, row };
            if each(&folder)?.is_break() {
                break;
            }
        }
        Ok(())
    }

    /// What a folder of an inventory holds; `None` when there is no such folder in it.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&self, inventory: i64, path: &[u8]) -> Result<Option<Vec<Held>>> {
        let sql = "SELECT names, metas FROM folders WHERE inventory = ?1 AND path = ?2";
        let blobs = |row: &Row<'_>| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, Vec<u8>>(1)?));
        let Some((names, metas)) = self.db.query_row(sql, params![inventory, path], blobs).optional()? else {
            return Ok(None);
        };
        let metas: Vec<HeldMeta> = postcard::from_bytes(&metas)?;
        let names = each_name(&names).map(<[u8]>::to_vec);
        Ok(Some(names.zip(metas).map(|(name, meta)| Held { name, meta }).collect()))
    }
}

fn inventory_of(row: &Row<'_>) -> rusqlite::Result<Inventory> {
    let number = |name: &str| row.get::<_, i64>(name).map(|value| value.max(0) as u64);
    Ok(Inventory {
        id: row.get("id")?,
        about: About {
            name: row.get("name")?,
            mark: row.get("mark")?,
            place: row.get("place")?,
            location: row.get("location")?,
            label: row.get("label")?,
            taken_ms: row.get("taken")?,
        },
        entries: number("entries")?,
        bytes: number("bytes")?,
    })
}

/// An inventory while it is taken. Dropped before it is finished, the old one holds.
pub struct Taking<'a> {
    db: Transaction<'a>,
    id: i64,
    entries: u64,
    bytes: u64,
    changed: u64,
}

/// What came of taking an inventory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taken {
    /// How many entries it has.
    pub entries: u64,
    /// The bytes of its files.
    pub bytes: u64,
    /// How many folders were not as they were, and have been written.
    pub changed: u64,
}

impl Taking<'_> {
    /// Takes note of a folder and what it holds, sorted by name. Of what cannot be listed nothing is known; then what was known stays:
    /// see [`Taking::keep`].
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&mut self, path: &[u8], held: &[Held]) -> Result<()> {
        self.entries += held.len() as u64;
        self.bytes += held.iter().map(|one| one.meta.size).sum::<u64>();
        let mut names = Vec::with_capacity(held.len() * 16);
        for one in held {
            names.extend_from_slice(&one.name);
            names.push(b'/');
        }
        let mut folds = Vec::new();
        if !names.is_ascii() {
            for one in held {
                folds.extend_from_slice(&folded(&one.name));
                folds.push(b'/');
            }
        }
        let metas: Vec<HeldMeta> = held.iter().map(|one| one.meta).collect();
        let metas = postcard::to_allocvec(&metas)?;
        // Only what is not as it was is written.
        let written = self
            .db
            .prepare_cached(
                "INSERT INTO folders (inventory, path, names, folded, metas) VALUES (?1, ?2, ?3, ?4, ?5)
                 ON CONFLICT (inventory, path) DO UPDATE SET names = ?3, folded = ?4, metas = ?5
                 WHERE names <> ?3 OR metas <> ?5",
            )?
            .execute(params![self.id, path, names, folds, metas])?;
        self.changed += written as u64;
        self.seen(path)
    }

    fn seen(&mut self, path: &[u8]) -> Result<()> {
        self.db.prepare_cached("INSERT OR IGNORE INTO seen VALUES (?1)")?.execute([path])?;
        Ok(())
    }

    /// Leaves a folder, and everything below it, as it was known: it could not be looked at now.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn keep(&mut self, path: &[u8]) -> Result<()> {
        let (mut from, mut until) = (path.to_vec(), path.to_vec());
        from.push(b'/');
        until.push(b'/' + 1);
        let known: Vec<(Vec<u8>, Vec<u8>)> = self
            .db
            .prepare_cached(
                "SELECT path, metas FROM folders WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4) OR length(?2) = 0)",
            )?
            .query_map(params![self.id, path, from, until], |row| Ok((row.get(0)?, row.get(1)?)))?
            .collect::<rusqlite::Result<_>>()?;
        for (path, metas) in known {
            let metas: Vec<HeldMeta> = postcard::from_bytes(&metas)?;
            self.entries += metas.len() as u64;
            self.bytes += metas.iter().map(|meta| meta.size).sum::<u64>();
            self.seen(&path)?;
        }
        Ok(())
    }

    /// The inventory is complete: what was not seen is gone, and it takes the old one's place.
    ///
    /// # Errors
    /// When SQLite fails; then the old one holds.
    pub fn finish(self) -> Result<Taken> {
        let gone = self.db.execute(
            "DELETE FROM folders WHERE inventory = ?1 AND path NOT IN (SELECT path FROM seen)",
            [self.id],
        )?;
        self.db.execute(
            "UPDATE inventories SET entries = ?2, bytes = ?3 WHERE id = ?1",
            params![self.id, self.entries as i64, self.bytes as i64],
        )?;
        let taken = Taken { entries: self.entries, bytes: self.bytes, changed: self.changed + gone as u64 };
        self.db.commit()?;
        Ok(taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn about(name: &str, taken_ms: i64) -> About {
        About {
            name: name.to_owned(),
            mark: "abc".to_owned(),
            place: "@field-drive".to_owned(),
            location: "/media/fenfield".to_owned(),
            label: "FENFIELD-1".to_owned(),
            taken_ms,
        }
    }

    fn file(name: &str, size: u64) -> Held {
        let meta = HeldMeta::of(EntryKind::File, size, Some(Stamp::new(1_900_000_000, 5)), None);
        Held { name: name.as_bytes().to_vec(), meta }
    }

    fn folder(name: &str) -> Held {
        Held { name: name.as_bytes().to_vec(), meta: HeldMeta::of(EntryKind::Folder, 4096, None, None) }
    }

    fn take<'a>(all: &'a mut Inventories, counts: &[Held], with_maps: bool, at: i64) -> Taking<'a> {
        let mut taking = all.take(&about("FENFIELD-1", at)).unwrap();
        let mut root = vec![folder("counts")];
        root.extend(with_maps.then(|| folder("maps")));
        taking.folder(b"", &root).unwrap();
        taking.folder(b"counts", counts).unwrap();
        if with_maps {
            taking.folder(b"maps", &[file("north.svg", 7)]).unwrap();
        }
        taking
    }

    #[test]
    fn taken_anew_only_what_changed_is_written_and_what_is_cut_short_changes_nothing() {
        let place = tempfile::tempdir().unwrap();
        let mut all = Inventories::open(&place.path().join("inventories.db")).unwrap();
        let counts = [file("a.csv", 10), file("b.csv", 20)];
        let taken = take(&mut all, &counts, true, 1).finish().unwrap();
        assert_eq!(taken, Taken { entries: 5, bytes: 37, changed: 3 });
        let taken = take(&mut all, &counts, true, 2).finish().unwrap();
        assert_eq!(taken.changed, 0, "nothing is as it was not");
        drop(take(&mut all, &[], false, 3));
        let known = all.named("FENFIELD-1").unwrap().unwrap();
        assert_eq!((known.about.taken_ms, known.entries), (2, 5), "what was cut short holds nothing");
        assert_eq!(all.folder(known.id, b"counts").unwrap().unwrap(), counts);
        let taken = take(&mut all, &counts[..1], false, 4).finish().unwrap();
        assert_eq!(taken, Taken { entries: 2, bytes: 10, changed: 3 });
        assert_eq!(all.folder(known.id, b"maps").unwrap(), None);
        assert!(all.drop_named("FENFIELD-1").unwrap() && !all.drop_named("FENFIELD-1").unwrap());
        assert_eq!(all.folder(known.id, b"counts").unwrap(), None, "with all its folders");
    }

    #[test]
    fn what_cannot_be_looked_at_stays_known() {
        let place = tempfile::tempdir().unwrap();
        let mut all = Inventories::open(&place.path().join("inventories.db")).unwrap();
        let paths: [&[u8]; 4] = [b"a", b"a/deep", b"a-b", b"b"];
        let mut taking = all.take(&about("x", 1)).unwrap();
        taking.folder(b"", &[folder("a"), folder("a-b"), folder("b")]).unwrap();
        for path in paths {
            taking.folder(path, &[file("f", 1)]).unwrap();
        }
        taking.finish().unwrap();
        let mut taking = all.take(&about("x", 2)).unwrap();
        taking.folder(b"", &[folder("a"), folder("a-b"), folder("b")]).unwrap();
        taking.folder(b"b", &[file("f", 1)]).unwrap();
        taking.keep(b"a").unwrap();
        let taken = taking.finish().unwrap();
        assert_eq!((taken.entries, taken.bytes), (6, 3));
        let id = all.named("x").unwrap().unwrap().id;
        let known = paths.map(|path| all.folder(id, path).unwrap().is_some());
        assert_eq!(known, [true, true, false, true], "only what lies below it");
    }

    #[test]
    fn names_are_searched_without_regard_to_case_and_form() {
        let place = tempfile::tempdir().unwrap();
        let mut all = Inventories::open(&place.path().join("inventories.db")).unwrap();
        let mut taking = all.take(&about("x", 1)).unwrap();
        taking.folder(b"", &[file("Graug\u{e4}nse.CSV", 1), file("M\u{f6}wen", 1)]).unwrap();
        taking.folder(b"plain", &[file("IMG_0001.JPG", 1)]).unwrap();
        taking.finish().unwrap();
        let mut seen = Vec::new();
        let id = all.named("x").unwrap().unwrap().id;
        all.each_folder(id, &mut |row| {
            seen.push((
                row.is_ascii(),
                String::from_utf8(row.searched().to_vec()).unwrap(),
                row.metas()?.len(),
            ));
            Ok(ControlFlow::Continue(()))
        })
        .unwrap();
        let expected =
            [(false, "graug\u{e4}nse.csv/m\u{f6}wen/".to_owned(), 2), (true, "IMG_0001.JPG/".to_owned(), 1)];
        assert_eq!(seen, expected);
        assert_eq!(folded("Graug\u{61}\u{308}nse".as_bytes()), folded("GRAUG\u{c4}NSE".as_bytes()));
    }
}
