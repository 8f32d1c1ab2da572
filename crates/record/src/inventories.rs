//! Inventories: what stores held when they were last seen, kept in a file of its own beside the record, so that it can be thrown away.
//!
//! | table | a row is | columns |
//! |---|---|---|
//! | `inventories` | one inventory | `id`, `name` (unique), `mark` (the store's, or empty), `spot` (the path on its file system, and in a second line what that is, or its address; or empty), `place` (as written then), `location` (the folder or address then), `label` (of its drive, or empty), `taken` (ms since 1970), `entries`, `bytes`, `whole` (0: only what runs have looked at) |
//! | `folders` | one folder of it | `inventory`, `path` (bytes), `names` (bytes, sorted, each with a `/` behind it), `folded` (the same without regard to case and form, where a name is not plain ASCII; else empty), `metas` (kind, size, time and hash of each, in the postcard wire format) |
//! | `prints` | what tells quickly whether a folder is as it was | `inventory`, `path`, `print` (the XXH3 hash of its listing) |
//!
//! A folder is a row, so paths cost little, and only the folders that are not as they were are written. An inventory is *taken* whole
//! ([`Taking`]): what is not as it was is gathered beside it and gets its place in one transaction, so one that is cut short leaves the old one. Or it is *brought up to date* by whoever looks at a part of its
//! store anyway, and changes it ([`Updating`]). What a listing does not show any more is gone, with everything below it.

mod changes;
mod image;
mod writing;
#[cfg(test)]
mod writing_tests;

use std::ops::ControlFlow;
use std::path::Path;
use std::time::Duration;

use reedhook_core::names::Folding;
use reedhook_core::path::Name;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};

pub use self::changes::Changes;
pub use self::image::{Image, InventoryMeta, Print};
pub use self::writing::{Taken, Taking, Updating};
use super::{PATIENCE, RecordError, Result, in_order, write_ahead};

const VERSION: i64 = 2;

/// What SQLite keeps in memory, at most; it counts KiB below zero.
const CACHE_KIB: i64 = -8192;

const LAYOUT: &str = "CREATE TABLE inventories (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, mark TEXT NOT NULL, spot TEXT NOT NULL, place TEXT NOT NULL,
        location TEXT NOT NULL, label TEXT NOT NULL, taken INTEGER NOT NULL, entries INTEGER NOT NULL, bytes INTEGER NOT NULL,
        whole INTEGER NOT NULL);
     CREATE TABLE folders (
        inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL,
        names BLOB NOT NULL, folded BLOB NOT NULL, metas BLOB NOT NULL, PRIMARY KEY (inventory, path)) WITHOUT ROWID;
     CREATE TABLE prints (
        inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL, print BLOB NOT NULL,
        PRIMARY KEY (inventory, path)) WITHOUT ROWID;";

/// From the first layout, which knew neither spots nor prints.
const FROM_THE_FIRST: &str = "ALTER TABLE inventories ADD COLUMN spot TEXT NOT NULL DEFAULT '';
     ALTER TABLE inventories ADD COLUMN whole INTEGER NOT NULL DEFAULT 1;
     CREATE TABLE prints (
        inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL, print BLOB NOT NULL,
        PRIMARY KEY (inventory, path)) WITHOUT ROWID;";

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
    /// The path on the file system that it is on, and in a second line what that is, or its address; may be empty.
    pub spot: String,
    /// The place, as it was written then.
    pub place: String,
    /// The folder or address then.
    pub location: String,
    /// The label of its drive; may be empty.
    pub label: String,
    /// When it was taken, in milliseconds since 1970.
    pub taken_ms: i64,
}

impl About {
    /// Keeps what was known of the store and does not show now: a mark that somebody has to be asked for, a label.
    pub fn keep_what_is_known(&mut self, known: Option<About>) {
        let Some(known) = known else { return };
        for (now, then) in [(&mut self.mark, known.mark), (&mut self.label, known.label)] {
            if now.is_empty() {
                *now = then;
            }
        }
    }
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
    /// It was taken; else it knows only what runs have looked at.
    pub whole: bool,
}

/// An entry of an inventory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InventoryEntry {
    /// Its name.
    pub name: Vec<u8>,
    /// What it is.
    pub meta: InventoryMeta,
}

/// Sees folders one by one, and says whether to go on.
pub type Visitor<'v> = &'v mut dyn FnMut(&FolderRow<'_>) -> Result<ControlFlow<()>>;

const ALL_FOLDERS: &str = "SELECT path, names, folded, metas FROM folders WHERE inventory = ?1 ORDER BY path";

const FOLDERS_IN: &str = "SELECT path, names, folded, metas FROM folders
    WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4)) ORDER BY path";

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
    pub fn metas(&self) -> Result<Vec<InventoryMeta>> {
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
        // All of it can be taken anew: after a power cut the last change may be missing, but the file is whole.
        db.pragma_update(None, "synchronous", "NORMAL")?;
        // What is changed at once stays in memory until it is written in one go.
        db.pragma_update(None, "cache_size", CACHE_KIB)?;
        let found: i64 = db.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if found > VERSION {
            return Err(RecordError::TooNew { found, known: VERSION });
        }
        if found < VERSION {
            // Two programs may begin at once: whoever waited looks again.
            let transaction = Transaction::new_unchecked(&db, rusqlite::TransactionBehavior::Immediate)?;
            let found: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
            if found < VERSION {
                transaction.execute_batch(if found == 1 { FROM_THE_FIRST } else { LAYOUT })?;
                transaction.pragma_update(None, "user_version", VERSION)?;
            }
            transaction.commit()?;
        }
        Ok(Inventories { db })
    }

    /// Reads a whole file of inventories, which is there, and looks whether it is in order.
    ///
    /// # Errors
    /// When it is not, or cannot be read.
    pub fn check(path: &Path) -> Result<()> {
        in_order(&Inventories::open(path)?.db)
    }

    /// Waits no longer than that for somebody else who is writing.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn wait_at_most(&self, patience: Duration) -> Result<()> {
        Ok(self.db.busy_timeout(patience)?)
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

    /// Looks through the folders of an inventory, in the order of their paths, until it is told to stop.
    ///
    /// # Errors
    /// When SQLite fails, or the visitor does.
    pub fn each_folder(&self, inventory: i64, each: Visitor<'_>) -> Result<()> {
        self.each_folder_in(inventory, b"", each)
    }

    /// The same for a folder and those below it.
    ///
    /// # Errors
    /// When SQLite fails, or the visitor does.
    pub fn each_folder_in(&self, inventory: i64, top: &[u8], each: Visitor<'_>) -> Result<()> {
        let (sql, from, until) = match top.is_empty() {
            true => (ALL_FOLDERS, Vec::new(), Vec::new()),
            false => (FOLDERS_IN, [top, b"/"].concat(), [top, b"0"].concat()),
        };
        let mut statement = self.db.prepare_cached(sql)?;
        let mut rows = match top.is_empty() {
            true => statement.query([inventory])?,
            false => statement.query(params![inventory, top, from, until])?,
        };
        while let Some(row) = rows.next()? {
            let blob = |at: usize| row.get_ref(at)?.as_blob().map_err(rusqlite::Error::from);
            let folder = FolderRow { path: blob(0)?, names: blob(1)?, folded: blob(2)?, row };
            if each(&folder)?.is_break() {
                break;
            }
        }
        Ok(())
    }

    /// Reads on from how things are now, until something is written: that makes many questions cheap.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn hold_still(&self) -> Result<()> {
        if self.db.is_autocommit() {
            self.db.execute_batch("BEGIN DEFERRED")?;
        }
        Ok(())
    }

    /// Whether a folder of an inventory is known to be just so.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn knows(&self, inventory: i64, path: &[u8], print: &Print) -> Result<bool> {
        knows(&self.db, inventory, path, print)
    }

    /// What a folder of an inventory holds; `None` when there is no such folder in it.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&self, inventory: i64, path: &[u8]) -> Result<Option<Vec<InventoryEntry>>> {
        let sql = "SELECT names, metas FROM folders WHERE inventory = ?1 AND path = ?2";
        let blobs = |row: &Row<'_>| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, Vec<u8>>(1)?));
        let Some((names, metas)) = self.db.query_row(sql, params![inventory, path], blobs).optional()? else {
            return Ok(None);
        };
        let metas: Vec<InventoryMeta> = postcard::from_bytes(&metas)?;
        let names = each_name(&names).map(<[u8]>::to_vec);
        Ok(Some(names.zip(metas).map(|(name, meta)| InventoryEntry { name, meta }).collect()))
    }
}

fn knows(db: &Connection, inventory: i64, path: &[u8], print: &Print) -> Result<bool> {
    let sql = "SELECT print = ?3 FROM prints WHERE inventory = ?1 AND path = ?2";
    let mut statement = db.prepare_cached(sql)?;
    let known = statement.query_row(params![inventory, path, print.as_slice()], |row| row.get(0));
    Ok(known.optional()?.unwrap_or(false))
}

fn inventory_of(row: &Row<'_>) -> rusqlite::Result<Inventory> {
    let number = |name: &str| row.get::<_, i64>(name).map(|value| value.max(0) as u64);
    Ok(Inventory {
        id: row.get("id")?,
        about: About {
            name: row.get("name")?,
            mark: row.get("mark")?,
            spot: row.get("spot")?,
            place: row.get("place")?,
            location: row.get("location")?,
            label: row.get("label")?,
            taken_ms: row.get("taken")?,
        },
        entries: number("entries")?,
        bytes: number("bytes")?,
        whole: row.get("whole")?,
    })
}

#[cfg(test)]
mod tests {
    use reedhook_core::entry::{EntryKind, Stamp};

    use super::*;

    fn about(name: &str, taken_ms: i64) -> About {
        About {
            name: name.to_owned(),
            mark: "abc".to_owned(),
            spot: "uuid/".to_owned(),
            place: "@field-drive".to_owned(),
            location: "/media/fenfield".to_owned(),
            label: "FENFIELD-1".to_owned(),
            taken_ms,
        }
    }

    fn file(name: &str, size: u64) -> InventoryEntry {
        let meta = InventoryMeta::of(EntryKind::File, size, Some(Stamp::new(1_900_000_000, 5)), None);
        InventoryEntry { name: name.as_bytes().to_vec(), meta }
    }

    fn folder(name: &str) -> InventoryEntry {
        InventoryEntry {
            name: name.as_bytes().to_vec(),
            meta: InventoryMeta::of(EntryKind::Folder, 4096, None, None),
        }
    }

    fn image(held: &[InventoryEntry]) -> Image {
        Image::of(held.iter().map(|one| (one.name.as_slice(), one.meta)))
    }

    fn take<'a>(all: &'a mut Inventories, counts: &[InventoryEntry], with_maps: bool, at: i64) -> Taking<'a> {
        let mut taking = all.take(&about("FENFIELD-1", at)).unwrap();
        let mut root = vec![folder("counts")];
        root.extend(with_maps.then(|| folder("maps")));
        taking.folder(b"", image(&root)).unwrap();
        taking.folder(b"counts", image(counts)).unwrap();
        if with_maps {
            taking.folder(b"maps", image(&[file("north.svg", 7)])).unwrap();
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
        taking.folder(b"", image(&[folder("a"), folder("a-b"), folder("b")])).unwrap();
        for path in paths {
            taking.folder(path, image(&[file("f", 1)])).unwrap();
        }
        taking.finish().unwrap();
        let mut taking = all.take(&about("x", 2)).unwrap();
        taking.folder(b"", image(&[folder("a"), folder("a-b"), folder("b")])).unwrap();
        taking.folder(b"b", image(&[file("f", 1)])).unwrap();
        taking.keep(b"a");
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
        taking.folder(b"", image(&[file("Graug\u{e4}nse.CSV", 1), file("M\u{f6}wen", 1)])).unwrap();
        taking.folder(b"plain", image(&[file("IMG_0001.JPG", 1)])).unwrap();
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
