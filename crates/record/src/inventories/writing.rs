//! Writing inventories: whole ones in one go, and parts of them by whoever looks at a store anyway.

use std::collections::BTreeMap;

use reedhook_core::entry::EntryKind;
use rusqlite::{OptionalExtension, Row, Transaction, TransactionBehavior, params};

use super::{About, Held, HeldMeta, Image, Inventories, each_name, knows};
use crate::Result;

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

/// Something that was done to a store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It is there now, or looks otherwise.
    Put {
        /// Its path.
        path: Vec<u8>,
        /// What is known of it.
        meta: HeldMeta,
    },
    /// It is gone; of a folder, with everything below it.
    Gone {
        /// Its path.
        path: Vec<u8>,
    },
    /// A folder has another path now, with everything below it.
    MovedFolder {
        /// Where it was.
        from: Vec<u8>,
        /// Where it is.
        to: Vec<u8>,
    },
}

/// What is put into folders, and what is taken out of them: by folder, then by name.
#[derive(Default)]
struct Edits(BTreeMap<Vec<u8>, BTreeMap<Vec<u8>, Option<HeldMeta>>>);

impl Edits {
    /// Adds one; `false` when what is there has to be written first: a folder comes where something else was a moment ago.
    fn add(&mut self, path: &[u8], meta: Option<HeldMeta>) -> bool {
        let (folder, name) = parted(path);
        let known = self.0.get(folder).and_then(|edits| edits.get(name));
        let is_folder = |meta: Option<HeldMeta>| meta.is_some_and(|meta| meta.is_folder());
        if is_folder(meta) && known.is_some_and(|known| !is_folder(*known)) {
            return false;
        }
        if !is_folder(meta) {
            // What was put into it a moment ago is gone with it.
            let (first, until) = below(path);
            let inside: Vec<Vec<u8>> = self.0.range(first..until).map(|(folder, _)| folder.clone()).collect();
            for folder in inside {
                self.0.remove(&folder);
            }
            self.0.remove(path);
        }
        self.0.entry(folder.to_vec()).or_default().insert(name.to_vec(), meta);
        true
    }
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
    /// Begins to take an inventory, anew where there is one of this name. Until it is finished, the old one holds.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn take(&mut self, about: &About) -> Result<Taking<'_>> {
        let pen = Pen::new(self, about, true)?;
        pen.db.execute_batch(
            "CREATE TEMP TABLE IF NOT EXISTS seen (path BLOB PRIMARY KEY) WITHOUT ROWID; DELETE FROM seen;",
        )?;
        Ok(Taking { pen })
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
        let metas: Vec<HeldMeta> = postcard::from_bytes(&metas)?;
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
        self.db
            .prepare_cached(
                "INSERT OR REPLACE INTO folders (inventory, path, print, names, folded, metas) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            )?
            .execute(params![
                self.id,
                path,
                image.print.as_slice(),
                image.names,
                image.folded_names(),
                metas
            ])?;
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
                let metas: Vec<HeldMeta> =
                    postcard::from_bytes(row.get_ref(0)?.as_blob().map_err(rusqlite::Error::from)?)?;
                let size = Image { print: [0; 16], names: Vec::new(), metas }.size();
                (folders, entries, bytes) = (folders + 1, entries + size.0, bytes.saturating_add(size.1));
            }
        }
        if folders > 0 {
            let sql = format!("DELETE FROM folders WHERE inventory = ?1 AND ({which})");
            self.db.prepare_cached(&sql)?.execute(params)?;
            self.entries -= entries;
            self.bytes = self.bytes.saturating_sub(bytes);
            self.changed += folders;
        }
        Ok(())
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

fn parted(path: &[u8]) -> (&[u8], &[u8]) {
    match path.iter().rposition(|byte| *byte == b'/') {
        Some(at) => (&path[..at], &path[at + 1..]),
        None => (&[], path),
    }
}

/// An inventory while it is taken. Dropped before it is finished, the old one holds.
pub struct Taking<'a> {
    pen: Pen<'a>,
}

impl Taking<'_> {
    /// Takes note of a folder and what it holds. Of what cannot be listed nothing is known; then what was known stays: see
    /// [`Taking::keep`].
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn folder(&mut self, path: &[u8], image: Image) -> Result<()> {
        self.pen.put(path, image)?;
        self.pen.db.prepare_cached("INSERT OR IGNORE INTO seen VALUES (?1)")?.execute([path])?;
        Ok(())
    }

    /// Leaves a folder, and everything below it, as it was known: it could not be looked at now.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn keep(&mut self, path: &[u8]) -> Result<()> {
        let (from, until) = below(path);
        self.pen
            .db
            .prepare_cached(
                "INSERT OR IGNORE INTO seen SELECT path FROM folders
                 WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4) OR length(?2) = 0)",
            )?
            .execute(params![self.pen.id, path, from, until])?;
        Ok(())
    }

    /// The inventory is complete: what was not seen is gone, and it takes the old one's place.
    ///
    /// # Errors
    /// When SQLite fails; then the old one holds.
    pub fn finish(mut self) -> Result<Taken> {
        let id = self.pen.id;
        self.pen.forget_where("path NOT IN (SELECT path FROM seen)", params![id])?;
        self.pen.commit()
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
            if !known.is_some_and(|known| known.folders().any(|one| one == name)) {
                let meta = HeldMeta::of(EntryKind::Folder, 0, None, None);
                self.edit(folder, &BTreeMap::from([(name.to_vec(), Some(meta))]))?;
            }
            path = folder;
        }
        Ok(())
    }

    /// Takes note of what was done, in its order.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn apply(&mut self, changes: impl IntoIterator<Item = Change>) -> Result<()> {
        // By folder, so that each is read and written once.
        let mut edits = Edits::default();
        for change in changes {
            match change {
                Change::Put { path, meta } => {
                    if !edits.add(&path, Some(meta)) {
                        self.edit_all(std::mem::take(&mut edits))?;
                        edits.add(&path, Some(meta));
                    }
                }
                Change::Gone { path } => drop(edits.add(&path, None)),
                Change::MovedFolder { from, to } => {
                    self.edit_all(std::mem::take(&mut edits))?;
                    self.move_folder(&from, &to)?;
                }
            }
        }
        self.edit_all(edits)
    }

    fn edit_all(&mut self, edits: Edits) -> Result<()> {
        edits.0.into_iter().try_for_each(|(folder, edits)| self.edit(&folder, &edits))
    }

    /// Puts names into a folder, and takes others out of it.
    fn edit(&mut self, folder: &[u8], edits: &BTreeMap<Vec<u8>, Option<HeldMeta>>) -> Result<()> {
        let then = self.pen.image(folder)?;
        let mut held: BTreeMap<Vec<u8>, HeldMeta> = then
            .map(Image::into_held)
            .unwrap_or_default()
            .into_iter()
            .map(|Held { name, meta }| (name, meta))
            .collect();
        for (name, meta) in edits {
            match meta {
                Some(meta) => drop(held.insert(name.clone(), *meta)),
                None => drop(held.remove(name)),
            }
        }
        // Also where nothing but a hash is new.
        self.pen.write(folder, Image::of(held.iter().map(|(name, meta)| (name.as_slice(), *meta))))?;
        // A folder that was made is known to be empty, until something is put into it.
        let made = edits.iter().filter(|(_, meta)| meta.is_some_and(|meta| meta.is_folder()));
        for (name, _) in made {
            let path = joined(folder, name);
            if self.pen.image(&path)?.is_none() {
                self.pen.put(&path, Image::of(std::iter::empty()))?;
            }
        }
        Ok(())
    }

    fn move_folder(&mut self, from: &[u8], to: &[u8]) -> Result<()> {
        let (folder, name) = parted(from);
        let known = self.pen.image(folder)?.map(Image::into_held).unwrap_or_default();
        let known = known.into_iter().find(|held| held.name == name && held.meta.is_folder());
        let meta = known.map_or_else(|| HeldMeta::of(EntryKind::Folder, 0, None, None), |held| held.meta);
        self.pen.forget(to)?;
        let (first, until) = below(from);
        self.pen.db.execute(
            "UPDATE folders SET path = CAST(?5 || substr(path, ?6) AS BLOB)
             WHERE inventory = ?1 AND (path = ?2 OR (path >= ?3 AND path < ?4))",
            params![self.pen.id, from, first, until, to, from.len() as i64 + 1],
        )?;
        self.edit(folder, &BTreeMap::from([(name.to_vec(), None)]))?;
        let (folder, name) = parted(to);
        self.edit(folder, &BTreeMap::from([(name.to_vec(), Some(meta))]))
    }

    /// It is up to date.
    ///
    /// # Errors
    /// When SQLite fails; then it is as it was.
    pub fn commit(self) -> Result<Taken> {
        self.pen.commit()
    }
}

#[cfg(test)]
mod tests {
    use reedhook_core::entry::Stamp;

    use super::*;

    /// A tree by its paths: `None` is a folder.
    type Tree = BTreeMap<String, Option<u64>>;

    fn meta(size: Option<u64>) -> HeldMeta {
        match size {
            Some(size) => HeldMeta::of(EntryKind::File, size, Some(Stamp::new(1_900_000_000, 5)), None),
            None => HeldMeta::of(EntryKind::Folder, 0, None, None),
        }
    }

    fn image(tree: &Tree, folder: &str) -> Image {
        let held: BTreeMap<&[u8], HeldMeta> = tree
            .iter()
            .map(|(path, size)| (parted(path.as_bytes()), *size))
            .filter(|((above, name), _)| *above == folder.as_bytes() && !name.is_empty())
            .map(|((_, name), size)| (name, meta(size)))
            .collect();
        Image::of(held.into_iter())
    }

    fn folders(tree: &Tree) -> Vec<String> {
        let below = tree.iter().filter(|(_, size)| size.is_none()).map(|(path, _)| path.clone());
        [String::new()].into_iter().chain(below).collect()
    }

    fn about() -> About {
        let text = |text: &str| text.to_owned();
        let (place, location) = (text("@field-drive"), text("/media/fenfield"));
        About {
            name: text("x"),
            mark: text(""),
            spot: text("s"),
            place,
            location,
            label: text(""),
            taken_ms: 1,
        }
    }

    /// Everything that the inventory has, and its numbers.
    fn known(all: &Inventories) -> (BTreeMap<Vec<u8>, Vec<Held>>, u64, u64) {
        let one = all.named("x").unwrap().unwrap();
        let mut paths = Vec::new();
        all.each_folder(one.id, &mut |row| {
            paths.push(row.path.to_vec());
            Ok(std::ops::ControlFlow::Continue(()))
        })
        .unwrap();
        let folders = paths.into_iter().map(|path| {
            let held = all.folder(one.id, &path).unwrap().unwrap();
            (path, held)
        });
        (folders.collect(), one.entries, one.bytes)
    }

    fn remove(tree: &mut Tree, path: &str) {
        tree.retain(|other, _| other != path && !other.starts_with(&format!("{path}/")));
    }

    /// One thing is done to the tree; what would be told of it.
    fn do_something(tree: &mut Tree, chance: &mut impl FnMut(usize) -> usize) -> Vec<Change> {
        let bytes = |path: &str| path.as_bytes().to_vec();
        let above = folders(tree);
        let above = &above[chance(above.len())];
        let name = ["a", "b", "b!", "b0", "counts"][chance(5)];
        let path = if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
        let size = (chance(3) > 0).then(|| chance(9) as u64);
        let some: Vec<String> = tree.keys().cloned().collect();
        match chance(4) {
            0 if !some.is_empty() => {
                let gone = &some[chance(some.len())];
                remove(tree, gone);
                vec![Change::Gone { path: bytes(gone) }]
            }
            1 if tree.values().any(Option::is_none) => {
                let all: Vec<String> = folders(tree).into_iter().skip(1).collect();
                let from = all[chance(all.len())].clone();
                if path == from || path.starts_with(&format!("{from}/")) || tree.contains_key(&path) {
                    return Vec::new();
                }
                let moved: Tree = tree
                    .iter()
                    .filter(|(other, _)| **other == from || other.starts_with(&format!("{from}/")))
                    .map(|(other, size)| (format!("{path}{}", &other[from.len()..]), *size))
                    .collect();
                remove(tree, &from);
                tree.extend(moved);
                vec![Change::MovedFolder { from: bytes(&from), to: bytes(&path) }]
            }
            // A folder that is there stays what it is.
            _ if tree.get(&path).is_some_and(Option::is_none) => Vec::new(),
            _ => {
                tree.insert(path.clone(), size);
                vec![Change::Put { path: bytes(&path), meta: meta(size) }]
            }
        }
    }

    #[test]
    fn what_was_done_makes_the_same_as_a_look_afterwards() {
        for seed in 0..80_u64 {
            let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
            let mut chance = |below: usize| {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                (state % below as u64) as usize
            };
            let place = tempfile::tempdir().unwrap();
            let mut told = Inventories::open(&place.path().join("told.db")).unwrap();
            let mut seen = Inventories::open(&place.path().join("seen.db")).unwrap();
            let mut tree = Tree::new();
            for _ in 0..8 {
                let changes: Vec<Change> =
                    (0..6).flat_map(|_| do_something(&mut tree, &mut chance)).collect();
                let mut updating = told.update(&about()).unwrap();
                updating.apply(changes.clone()).unwrap();
                updating.commit().unwrap();
                // A look at everything, folders in any order.
                let mut updating = seen.update(&about()).unwrap();
                let mut all = folders(&tree);
                for _ in 0..all.len() {
                    let folder = all.swap_remove(chance(all.len()));
                    updating.folder(folder.as_bytes(), image(&tree, &folder)).unwrap();
                }
                updating.commit().unwrap();
                if tree.is_empty() {
                    continue;
                }
                let (told, seen) = (known(&told), known(&seen));
                assert_eq!(told, seen, "{seed}: {changes:?}");
                let bytes: u64 = tree.values().flatten().sum();
                assert_eq!((seen.1, seen.2), (tree.len() as u64, bytes), "{seed}");
            }
        }
    }

    #[test]
    fn hashes_stay_with_what_looks_the_same_and_the_way_to_a_part_is_known() {
        let place = tempfile::tempdir().unwrap();
        let mut all = Inventories::open(&place.path().join("x.db")).unwrap();
        let mut hashed = meta(Some(3));
        hashed.hash = Some([7; 32]);
        let mut updating = all.update(&about()).unwrap();
        updating.way_to(b"stills/2031").unwrap();
        updating
            .apply(
                [b"stills/2031/a".to_vec(), b"stills/2031/b".to_vec()]
                    .map(|path| Change::Put { path, meta: hashed }),
            )
            .unwrap();
        let id = updating.id();
        updating.commit().unwrap();
        let one = all.named("x").unwrap().unwrap();
        assert_eq!((one.entries, one.bytes, one.whole), (4, 6, false));
        assert_eq!(all.folder(id, b"").unwrap().unwrap()[0].name, b"stills");
        // Looked at, one is as it was and one is not.
        let listed = [(b"a".as_slice(), meta(Some(3))), (b"b".as_slice(), meta(Some(4)))];
        let mut taking = all.take(&about()).unwrap();
        taking.folder(b"", Image::of([(b"stills".as_slice(), meta(None))].into_iter())).unwrap();
        taking.folder(b"stills", Image::of([(b"2031".as_slice(), meta(None))].into_iter())).unwrap();
        taking.folder(b"stills/2031", Image::of(listed.into_iter())).unwrap();
        assert_eq!(taking.finish().unwrap(), Taken { entries: 4, bytes: 7, changed: 1 });
        let held = all.folder(id, b"stills/2031").unwrap().unwrap();
        assert_eq!(held.iter().map(|one| one.meta.hash).collect::<Vec<_>>(), [Some([7; 32]), None]);
        assert!(all.knows(id, b"stills/2031", &Image::of(listed.into_iter()).print).unwrap());
        assert!(all.named("x").unwrap().unwrap().whole);
    }

    #[test]
    fn an_older_file_is_taken_over() {
        let place = tempfile::tempdir().unwrap();
        let file = place.path().join("x.db");
        let db = rusqlite::Connection::open(&file).unwrap();
        db.execute_batch(
            "CREATE TABLE inventories (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, mark TEXT NOT NULL, place TEXT NOT NULL,
                location TEXT NOT NULL, label TEXT NOT NULL, taken INTEGER NOT NULL, entries INTEGER NOT NULL, bytes INTEGER NOT NULL);
             CREATE TABLE folders (inventory INTEGER NOT NULL REFERENCES inventories (id) ON DELETE CASCADE, path BLOB NOT NULL,
                names BLOB NOT NULL, folded BLOB NOT NULL, metas BLOB NOT NULL, PRIMARY KEY (inventory, path)) WITHOUT ROWID;
             INSERT INTO inventories VALUES (3, 'x', 'm', '@field-drive', '/media/fenfield', 'F', 9, 1, 3);",
        )
        .unwrap();
        let metas = postcard::to_allocvec(&vec![meta(Some(3))]).unwrap();
        db.execute("INSERT INTO folders VALUES (3, x'', ?1, x'', ?2)", params![b"a/", metas]).unwrap();
        db.pragma_update(None, "user_version", 1).unwrap();
        drop(db);
        let mut all = Inventories::open(&file).unwrap();
        let one = all.named("x").unwrap().unwrap();
        assert_eq!((one.about.mark.as_str(), one.about.taken_ms, one.entries, one.whole), ("m", 9, 1, true));
        let image = || Image::of([(b"a".as_slice(), meta(Some(3)))].into_iter());
        let mut taking = all.take(&about()).unwrap();
        taking.folder(b"", image()).unwrap();
        assert_eq!(taking.finish().unwrap(), Taken { entries: 1, bytes: 3, changed: 1 }, "its print is new");
        assert!(all.drop_named("x").unwrap());
        assert_eq!(all.folder(3, b"").unwrap(), None, "with all its folders");
    }
}
