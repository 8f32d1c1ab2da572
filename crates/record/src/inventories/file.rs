//! The file of inventories: reading it.

use std::ops::ControlFlow;
use std::path::Path;
use std::time::Duration;

use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};

use crate::error::{RecordError, Result};
use crate::inventories::image::{InventoryMeta, Print};
use crate::inventories::names::each_name;
use crate::state_file::{PATIENCE, in_order, write_ahead};

pub(super) const VERSION: i64 = 2;

/// What SQLite keeps in memory, at most; it counts KiB below zero.
pub(super) const CACHE_KIB: i64 = -8192;

pub(super) const LAYOUT: &str = "CREATE TABLE inventories (
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
pub(super) const FROM_THE_FIRST: &str = "ALTER TABLE inventories ADD COLUMN spot TEXT NOT NULL DEFAULT '';
     ALTER TABLE inventories ADD COLUMN whole INTEGER NOT NULL DEFAULT 1;
     CREATE TABLE prints (
        inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL, print BLOB NOT NULL,
        PRIMARY KEY (inventory, path)) WITHOUT ROWID;";

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
    /// One part of a path, as bytes.
    pub name: Vec<u8>,
    /// What it is.
    pub meta: InventoryMeta,
}

/// Sees folders one by one, and says whether to go on.
pub type Visitor<'v> = &'v mut dyn FnMut(&FolderRow<'_>) -> Result<ControlFlow<()>>;

pub(super) const ALL_FOLDERS: &str =
    "SELECT path, names, folded, metas FROM folders WHERE inventory = ?1 ORDER BY path";

pub(super) const FOLDERS_IN: &str = "SELECT path, names, folded, metas FROM folders
    WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4)) ORDER BY path";

/// The file of all inventories.
pub struct Inventories {
    pub(super) db: Connection,
}

/// A folder while inventories are looked through. What is not asked for is not read.
pub struct FolderRow<'r> {
    /// Relative to the root of its side.
    pub path: &'r [u8],
    /// The names in it, each with a `/` behind it.
    pub names: &'r [u8],
    /// The same without regard to case and form; the names themselves where they are plain ASCII in lower case or not.
    pub(super) folded: &'r [u8],
    pub(super) row: &'r Row<'r>,
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

pub(super) fn knows(db: &Connection, inventory: i64, path: &[u8], print: &Print) -> Result<bool> {
    let sql = "SELECT print = ?3 FROM prints WHERE inventory = ?1 AND path = ?2";
    let mut statement = db.prepare_cached(sql)?;
    let known = statement.query_row(params![inventory, path, print.as_slice()], |row| row.get(0));
    Ok(known.optional()?.unwrap_or(false))
}

pub(super) fn inventory_of(row: &Row<'_>) -> rusqlite::Result<Inventory> {
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
