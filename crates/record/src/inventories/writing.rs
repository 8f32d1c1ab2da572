//! Writing inventories: whole ones in one go, and parts of them by whoever looks at a store anyway.

use reedhook_core::entry::EntryKind;
use rusqlite::{OptionalExtension, Row, Transaction, TransactionBehavior, params};

use super::changes::{Change, Changes, Edits};
use crate::error::Result;
use crate::inventories::file::{About, Inventories, knows};
use crate::inventories::image::{Image, InventoryMeta, Names};
use crate::inventories::names::{each_name, parted};

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

/// What all writing has in common: one transaction, one inventory, and how its numbers change.
struct Pen<'a> {
    db: Transaction<'a>,
    id: i64,
    entries: i64,
    bytes: i64,
    changed: u64,
}

impl Inventories {
    /// Begins to take an inventory, anew where there is one of this name. Until it is finished, the old one holds, and others may write:
    /// a large drive takes its time.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn take(&mut self, about: &About) -> Result<Taking<'_>> {
        let id = self.named(&about.name)?.map(|known| known.id);
        self.let_go()?;
        // Temporary tables are in a file of their own: whoever fills them locks nobody out.
        self.db.execute_batch(
            "CREATE TEMP TABLE IF NOT EXISTS seen (path BLOB PRIMARY KEY) WITHOUT ROWID;
             CREATE TEMP TABLE IF NOT EXISTS changed (path BLOB NOT NULL, names BLOB NOT NULL, metas BLOB NOT NULL);
             DELETE FROM seen; DELETE FROM changed;",
        )?;
        self.hold_still()?;
        Ok(Taking { all: self, about: about.clone(), id, unseen: Vec::new() })
    }

    /// Ends what [`Inventories::hold_still`] began.
    fn let_go(&self) -> Result<()> {
        if !self.db.is_autocommit() {
            self.db.execute_batch("COMMIT")?;
        }
        Ok(())
    }

    /// Begins to bring an inventory up to date, or one that knows a part of its store only.
    ///
    /// # Errors
    /// When SQLite fails, or somebody else has been writing for too long.
    pub fn update(&mut self, about: &About) -> Result<Updating<'_>> {
        Ok(Updating { pen: Pen::new(self, about, false)? })
    }
}

impl<'a> Pen<'a> {
    fn new(all: &'a mut Inventories, about: &About, whole: bool) -> Result<Pen<'a>> {
        all.let_go()?;
        let db = Transaction::new(&mut all.db, TransactionBehavior::Immediate)?;
        db.execute(
            "INSERT INTO inventories (name, mark, spot, place, location, label, taken, entries, bytes, whole)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 0, 0, ?8)
             ON CONFLICT (name) DO UPDATE SET mark = ?2, spot = ?3, place = ?4, location = ?5, label = ?6, taken = ?7,
                 whole = max(whole, ?8)",
            params![
                about.name,
                about.mark,
                about.spot,
                about.place,
                about.location,
                about.label,
                about.taken_ms,
                whole
            ],
        )?;
        let id =
            db.query_row("SELECT id FROM inventories WHERE name = ?1", [&about.name], |row| row.get(0))?;
        Ok(Pen { db, id, entries: 0, bytes: 0, changed: 0 })
    }

    fn image(&self, path: &[u8]) -> Result<Option<Image>> {
        let sql = "SELECT names, metas FROM folders WHERE inventory = ?1 AND path = ?2";
        let blobs = |row: &Row<'_>| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, Vec<u8>>(1)?));
        let found = self.db.prepare_cached(sql)?.query_row(params![self.id, path], blobs).optional()?;
        let Some((names, metas)) = found else { return Ok(None) };
        let metas: Vec<InventoryMeta> = postcard::from_bytes(&metas)?;
        Ok(Some(Image::of(each_name(&names).zip(metas))))
    }

    /// Writes a folder, unless it is as it was.
    fn put(&mut self, path: &[u8], image: Image) -> Result<()> {
        match knows(&self.db, self.id, path, &image.print)? {
            true => Ok(()),
            false => self.write(path, image),
        }
    }

    /// Writes a folder. What was in it and is no longer is forgotten, with everything below it.
    fn write(&mut self, path: &[u8], mut image: Image) -> Result<()> {
        if let Some(then) = &self.image(path)? {
            image.keep_hashes(then);
            self.forget_what_left(path, then, &image)?;
            self.count(then, -1);
        }
        self.count(&image, 1);
        self.changed += 1;
        let metas = postcard::to_allocvec(&image.metas)?;
        let folded = image.folded_names();
        let folder = "INSERT OR REPLACE INTO folders (inventory, path, names, folded, metas) VALUES (?1, ?2, ?3, ?4, ?5)";
        self.db.prepare_cached(folder)?.execute(params![self.id, path, image.names, folded, metas])?;
        let print = "INSERT OR REPLACE INTO prints (inventory, path, print) VALUES (?1, ?2, ?3)";
        self.db.prepare_cached(print)?.execute(params![self.id, path, image.print.as_slice()])?;
        Ok(())
    }

    fn count(&mut self, image: &Image, times: i64) {
        let (entries, bytes) = image.size();
        self.entries += entries * times;
        self.bytes = self.bytes.saturating_add(bytes.saturating_mul(times));
    }

    fn forget_what_left(&mut self, path: &[u8], then: &Image, now: &Image) -> Result<()> {
        let mut still = now.folders().peekable();
        for name in then.folders() {
            while still.next_if(|other| *other < name).is_some() {}
            if still.peek() != Some(&name) {
                self.forget(&joined(path, name))?;
            }
        }
        Ok(())
    }

    /// Forgets a folder and everything below it.
    fn forget(&mut self, path: &[u8]) -> Result<()> {
        let (id, (from, until)) = (self.id, below(path));
        self.forget_where("path = ?2 OR (path >= ?3 AND path < ?4)", params![id, path, from, until])
    }

    fn forget_where(&mut self, which: &str, params: &[&dyn rusqlite::ToSql]) -> Result<()> {
        let (mut folders, mut entries, mut bytes) = (0_u64, 0_i64, 0_i64);
        {
            let sql = format!("SELECT metas FROM folders WHERE inventory = ?1 AND ({which})");
            let mut statement = self.db.prepare_cached(&sql)?;
            let mut rows = statement.query(params)?;
            while let Some(row) = rows.next()? {
                let metas: Vec<InventoryMeta> =
                    postcard::from_bytes(row.get_ref(0)?.as_blob().map_err(rusqlite::Error::from)?)?;
                let size = Image { print: [0; 16], names: Vec::new(), metas }.size();
                (folders, entries, bytes) = (folders + 1, entries + size.0, bytes.saturating_add(size.1));
            }
        }
        if folders > 0 {
            for table in ["folders", "prints"] {
                let sql = format!("DELETE FROM {table} WHERE inventory = ?1 AND ({which})");
                self.db.prepare_cached(&sql)?.execute(params)?;
            }
            self.entries -= entries;
            self.bytes = self.bytes.saturating_sub(bytes);
            self.changed += folders;
        }
        Ok(())
    }

    /// While an inventory is taken: what is known of a folder, and of everything below it, counts as seen.
    fn leave_as_known(&self, path: &[u8]) -> Result<()> {
        let (from, until) = below(path);
        let sql = "INSERT OR IGNORE INTO seen SELECT path FROM folders
            WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4) OR length(?2) = 0)";
        self.db.prepare_cached(sql)?.execute(params![self.id, path, from, until])?;
        Ok(())
    }

    /// While an inventory is taken: the next folder that is not as it was.
    fn next_changed(&self, after: i64) -> Result<Option<(i64, Vec<u8>, Image)>> {
        let sql = "SELECT rowid, path, names, metas FROM changed WHERE rowid > ?1 ORDER BY rowid LIMIT 1";
        let row = |row: &Row<'_>| {
            let blob = |at: usize| row.get::<_, Vec<u8>>(at);
            Ok((row.get::<_, i64>(0)?, blob(1)?, blob(2)?, blob(3)?))
        };
        let found = self.db.prepare_cached(sql)?.query_row([after], row).optional()?;
        let Some((at, path, names, metas)) = found else { return Ok(None) };
        let metas: Vec<InventoryMeta> = postcard::from_bytes(&metas)?;
        Ok(Some((at, path, Image::of(each_name(&names).zip(metas)))))
    }

    fn commit(self) -> Result<Taken> {
        self.db.execute(
            "UPDATE inventories SET entries = entries + ?2, bytes = bytes + ?3 WHERE id = ?1",
            params![self.id, self.entries, self.bytes],
        )?;
        let numbers = |row: &Row<'_>| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?));
        let sql = "SELECT entries, bytes FROM inventories WHERE id = ?1";
        let (entries, bytes) = self.db.query_row(sql, [self.id], numbers)?;
        self.db.commit()?;
        Ok(Taken { entries: entries.max(0) as u64, bytes: bytes.max(0) as u64, changed: self.changed })
    }
}

/// The first and the first-but-one-after of all paths below a folder.
fn below(path: &[u8]) -> (Vec<u8>, Vec<u8>) {
    ([path, b"/"].concat(), [path, b"0"].concat())
}

fn joined(folder: &[u8], name: &[u8]) -> Vec<u8> {
    if folder.is_empty() { name.to_vec() } else { [folder, b"/", name].concat() }
}

/// An inventory while it is taken. Dropped before it is finished, the old one holds.
pub struct Taking<'a> {
    all: &'a mut Inventories,
    about: About,
    /// The old one.
    id: Option<i64>,
    /// Folders that could not be looked at.
    unseen: Vec<Vec<u8>>,
}

impl Taking<'_> {
    /// Takes note of a folder and what it holds. Of what cannot be listed nothing is known; then what was known stays: see
    /// [`Taking::keep`].
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&mut self, path: &[u8], image: Image) -> Result<()> {
        let db = &self.all.db;
        let known = self.id.map(|id| knows(db, id, path, &image.print)).transpose()?;
        if !known.unwrap_or(false) {
            let metas = postcard::to_allocvec(&image.metas)?;
            let sql = "INSERT INTO changed (path, names, metas) VALUES (?1, ?2, ?3)";
            db.prepare_cached(sql)?.execute(params![path, image.names, metas])?;
        }
        db.prepare_cached("INSERT OR IGNORE INTO seen VALUES (?1)")?.execute([path])?;
        Ok(())
    }

    /// Leaves a folder, and everything below it, as it was known: it could not be looked at now.
    pub fn keep(&mut self, path: &[u8]) {
        self.unseen.push(path.to_vec());
    }

    /// The inventory is complete: what was not seen is gone, and it takes the old one's place.
    ///
    /// # Errors
    /// When SQLite fails, or somebody else has been writing for too long; then the old one holds.
    pub fn finish(self) -> Result<Taken> {
        let mut pen = Pen::new(self.all, &self.about, true)?;
        for path in &self.unseen {
            pen.leave_as_known(path)?;
        }
        let mut last = 0;
        while let Some((at, path, image)) = pen.next_changed(last)? {
            pen.put(&path, image)?;
            last = at;
        }
        let id = pen.id;
        pen.forget_where("path NOT IN (SELECT path FROM seen)", params![id])?;
        pen.db.execute_batch("DELETE FROM seen; DELETE FROM changed;")?;
        pen.commit()
    }
}

/// An inventory while a part of it is brought up to date. Dropped before it is finished, it is as it was.
pub struct Updating<'a> {
    pen: Pen<'a>,
}

impl Updating<'_> {
    /// The key of the inventory.
    pub fn id(&self) -> i64 {
        self.pen.id
    }

    /// Takes note of a folder as it was seen.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&mut self, path: &[u8], image: Image) -> Result<()> {
        self.pen.put(path, image)
    }

    /// Takes note that there is a folder, and the folders that it is in, where that is not known.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn way_to(&mut self, path: &[u8]) -> Result<()> {
        let mut path = path;
        while !path.is_empty() {
            let (folder, name) = parted(path);
            let known = self.pen.image(folder)?;
            if known.is_none_or(|known| known.folder(name).is_none()) {
                let meta = InventoryMeta::of(EntryKind::Folder, 0, None, None);
                self.edit(folder, &vec![(name, Some(meta))])?;
            }
            path = folder;
        }
        Ok(())
    }

    /// Takes note of what was done, in its order.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn apply(&mut self, changes: &Changes) -> Result<()> {
        let mut edits = Edits::default();
        for change in changes.iter() {
            if edits.must_be_written_before(&change) {
                self.edit_all(std::mem::take(&mut edits))?;
            }
            match change {
                Change::Put(path, meta) => edits.add(path, Some(meta)),
                Change::Gone(path) => edits.add(path, None),
                Change::GoneFolder(path) => edits.add_gone_folder(path),
                Change::MovedFolder { from, to } => self.move_folder(from, to)?,
            }
        }
        self.edit_all(edits)
    }

    fn edit_all(&mut self, edits: Edits<'_>) -> Result<()> {
        let folders = edits.into_folders();
        for (folder, names) in &folders {
            self.edit(folder, names)?;
            // A folder that was made is known to be empty, unless something was put into it at once.
            let made = names.iter().filter(|(_, meta)| meta.is_some_and(|meta| meta.is_folder()));
            for (name, _) in made {
                let path = joined(folder, name);
                if !folders.contains_key(path.as_slice()) && self.pen.image(&path)?.is_none() {
                    self.pen.put(&path, Image::of(std::iter::empty()))?;
                }
            }
        }
        Ok(())
    }

    /// Puts names into a folder, and takes others out of it.
    fn edit(&mut self, folder: &[u8], names: &Names<'_>) -> Result<()> {
        let image = match self.pen.image(folder)? {
            Some(then) => then.edited(names),
            None => Image::of(names.iter().filter_map(|(name, meta)| Some((*name, (*meta)?)))),
        };
        // Also where nothing but a hash is new.
        self.pen.write(folder, image)
    }

    fn move_folder(&mut self, from: &[u8], to: &[u8]) -> Result<()> {
        let (folder, name) = parted(from);
        let known = self.pen.image(folder)?.and_then(|known| known.folder(name));
        let meta = known.unwrap_or_else(|| InventoryMeta::of(EntryKind::Folder, 0, None, None));
        self.pen.forget(to)?;
        let (first, until) = below(from);
        for table in ["folders", "prints"] {
            let sql = format!(
                "UPDATE {table} SET path = CAST(?5 || substr(path, ?6) AS BLOB)
                 WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4))"
            );
            let behind = from.len() as i64 + 1;
            self.pen.db.execute(&sql, params![self.pen.id, from, first, until, to, behind])?;
        }
        self.edit(folder, &vec![(name, None)])?;
        let (folder, name) = parted(to);
        self.edit(folder, &vec![(name, Some(meta))])
    }

    /// It is up to date.
    ///
    /// # Errors
    /// When SQLite fails; then it is as it was.
    pub fn commit(self) -> Result<Taken> {
        self.pen.commit()
    }
}
