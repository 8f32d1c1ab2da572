//! Which files are the same, on whichever drives they are: where else something is, and what is nowhere else.
//!
//! Two files are copies of each other when their content has the same hash. Where the hash of one of them is not known, name, size and
//! time have to be the same, the time within two seconds, as some drives keep it no finer. Two of which both hashes are known, and
//! differ, are never copies: whoever is about to erase a drive must not be told that there is another one. A drive of which there are
//! several inventories is one drive all the same.

use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;

use reedhook_core::entry::EntryKind;
use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, Inventory, InventoryMeta, each_name};

use super::may_be_one_drive;
use crate::inventory::query::Query;

/// Times so far apart can be one, as drives keep them.
const SECONDS_APART: u64 = 2;

/// So many files are looked at together, at most: what is in memory at once.
const TOGETHER: u64 = 1_000_000;

/// A file in an inventory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The inventory's name.
    pub inventory: String,
    /// The path in it.
    pub path: Vec<u8>,
}

fn is_file(meta: &InventoryMeta) -> bool {
    meta.kind() == EntryKind::File
}

fn name_of(path: &[u8]) -> &[u8] {
    path.rsplit(|byte| *byte == b'/').next().unwrap_or(path)
}

/// Whether two files of one name and size are the same.
fn is_copy(a: &InventoryMeta, b: &InventoryMeta) -> bool {
    let seconds = |meta: &InventoryMeta| meta.modified().map(|time| time.seconds());
    match (a.hash, b.hash) {
        (Some(a), Some(b)) => a == b,
        _ => are_near(seconds(a), seconds(b)),
    }
}

/// Whether the times of two files can be one.
fn are_near(a: Option<i64>, b: Option<i64>) -> bool {
    a.zip(b).is_some_and(|(a, b)| a.abs_diff(b) <= SECONDS_APART)
}

/// Where else each of some files is, in all inventories.
///
/// # Errors
/// When the inventories cannot be read.
pub fn elsewhere(
    all: &Inventories,
    inventories: &[Inventory],
    files: &[(&str, &[u8], &InventoryMeta)],
) -> Result<Vec<Vec<Place>>, RecordError> {
    let mut by_look: HashMap<u128, Vec<usize>> = HashMap::new();
    let mut by_hash: HashMap<[u8; 32], Vec<usize>> = HashMap::new();
    for (at, (_, path, meta)) in files.iter().enumerate().filter(|(_, (.., meta))| is_file(meta)) {
        by_look.entry(meta.look(name_of(path))).or_default().push(at);
        meta.hash.into_iter().for_each(|hash| by_hash.entry(hash).or_default().push(at));
    }
    let mut found = vec![Vec::new(); files.len()];
    for inventory in inventories {
        each_file(all, inventory.id, &mut |folder, name, meta| {
            let alike = by_look.get(&meta.look(name)).into_iter().flatten();
            let alike = alike.filter(|at| is_copy(files[**at].2, meta));
            let same = meta.hash.and_then(|hash| by_hash.get(&hash)).into_iter().flatten();
            let ats: HashSet<usize> = alike.chain(same).copied().collect();
            if ats.is_empty() {
                return;
            }
            let path = joined(folder, name);
            for at in ats {
                let itself = files[at].0 == inventory.about.name && files[at].1 == path;
                if !itself {
                    let inventory = inventory.about.name.clone();
                    found[at].push(Place { inventory, path: path.clone() });
                }
            }
        })?;
    }
    Ok(found)
}

fn joined(folder: &[u8], name: &[u8]) -> Vec<u8> {
    if folder.is_empty() { name.to_vec() } else { [folder, b"/", name].concat() }
}

fn each_file(all: &Inventories, inventory: i64, each: EachFile<'_>) -> Result<(), RecordError> {
    all.each_folder(inventory, &mut |row| {
        let metas = row.metas()?;
        for (name, meta) in each_name(row.names).zip(&metas).filter(|(_, meta)| is_file(meta)) {
            each(row.path, name, meta);
        }
        Ok(ControlFlow::Continue(()))
    })
}

/// Hears of a file: the folder that it is in, its name, and what is known of it.
type EachFile<'e> = &'e mut dyn FnMut(&[u8], &[u8], &InventoryMeta);

/// Hears of a file that is on one drive only: which of them that is, its path, and what is known of it.
pub type EachLonely<'e> = &'e mut dyn FnMut(usize, Vec<u8>, &InventoryMeta) -> ControlFlow<()>;

/// Tells every file that a search finds in the wanted inventories (by their places among all) and that is on no other drive; empty files
/// are nothing to lose. What is told is the place of the inventory, the path and what is known. They come in no certain order.
///
/// # Errors
/// When the inventories cannot be read.
pub fn alone(
    all: &Inventories,
    inventories: &[Inventory],
    wanted: &[usize],
    query: &Query,
    each: EachLonely<'_>,
) -> Result<(), RecordError> {
    let entries: u64 = wanted.iter().map(|at| inventories[*at].entries).sum();
    let parts = entries.div_ceil(TOGETHER).max(1);
    let drives = drives_of(inventories);
    for part in 0..u128::from(parts) {
        let mut candidates = Candidates::default();
        for at in wanted {
            each_file(all, inventories[*at].id, &mut |_, name, meta| {
                let look = meta.look(name);
                if meta.size > 0 && look % u128::from(parts) == part {
                    candidates.add(*at, look, *meta);
                }
            })?;
        }
        candidates.sort();
        for (at, inventory) in inventories.iter().enumerate() {
            each_file(all, inventory.id, &mut |_, name, meta| candidates.meet(&drives, at, name, meta))?;
        }
        for at in wanted {
            let mut broken = false;
            let mut one = |path: Vec<u8>, meta: &InventoryMeta| {
                if !is_file(meta) || !candidates.is_lonely(*at, name_of(&path), meta) {
                    return ControlFlow::Continue(());
                }
                let next = each(*at, path, meta);
                broken |= next.is_break();
                next
            };
            query.find(all, inventories[*at].id, &mut one)?;
            if broken {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Which drive each inventory is of: one that may be of two drives makes them one.
fn drives_of(inventories: &[Inventory]) -> Vec<usize> {
    let mut drives: Vec<usize> = (0..inventories.len()).collect();
    for (at, one) in inventories.iter().enumerate() {
        for (earlier, other) in inventories[..at].iter().enumerate() {
            if may_be_one_drive(&one.about, &other.about) {
                let (from, to) = (drives[at], drives[earlier]);
                drives.iter_mut().filter(|drive| **drive == from).for_each(|drive| *drive = to);
            }
        }
    }
    drives
}

/// A file that may be on one drive only.
struct Candidate {
    look: u128,
    seconds: Option<i64>,
    /// Its place among the hashes.
    hash: Option<u32>,
    inventory: u32,
    has_copy: bool,
}

/// Files that are looked at together, by what they look like.
#[derive(Default)]
struct Candidates {
    all: Vec<Candidate>,
    hashes: Vec<[u8; 32]>,
    by_hash: HashMap<[u8; 32], Vec<usize>>,
    /// Where those begin whose look begins with so much: looks are spread evenly, so there is about one between two beginnings.
    begins: Vec<u32>,
}

/// So many bits of a look are its beginning.
const BEGINNING: u32 = 20;

fn beginning(look: u128) -> usize {
    (look >> (128 - BEGINNING)) as usize
}

impl Candidates {
    fn add(&mut self, inventory: usize, look: u128, meta: InventoryMeta) {
        let hash = meta.hash.and_then(|hash| {
            self.hashes.push(hash);
            u32::try_from(self.hashes.len() - 1).ok()
        });
        let seconds = meta.modified().map(|time| time.seconds());
        let inventory = u32::try_from(inventory).unwrap_or(u32::MAX);
        self.all.push(Candidate { look, seconds, hash, inventory, has_copy: false });
    }

    fn sort(&mut self) {
        self.all.sort_unstable_by_key(|one| (one.look, one.inventory, one.seconds, one.hash));
        self.begins = vec![0; (1 << BEGINNING) + 1];
        for one in &self.all {
            self.begins[beginning(one.look) + 1] += 1;
        }
        for at in 1..self.begins.len() {
            self.begins[at] += self.begins[at - 1];
        }
        for (at, one) in self.all.iter().enumerate() {
            if let Some(hash) = one.hash {
                self.by_hash.entry(self.hashes[hash as usize]).or_default().push(at);
            }
        }
    }

    /// Those of one look.
    fn alike(&self, look: u128) -> std::ops::Range<usize> {
        let begin = |at: usize| self.begins[at] as usize;
        let (from, until) = (begin(beginning(look)), begin(beginning(look) + 1));
        let from = from + self.all[from..until].partition_point(|one| one.look < look);
        from..from + self.all[from..until].partition_point(|one| one.look == look)
    }

    /// A file of an inventory: which candidates it is a copy of.
    fn meet(&mut self, drives: &[usize], inventory: usize, name: &[u8], meta: &InventoryMeta) {
        let elsewhere = |one: &Candidate| drives[one.inventory as usize] != drives[inventory];
        for at in self.alike(meta.look(name)) {
            let one = &self.all[at];
            let known = one.hash.map(|hash| self.hashes[hash as usize]);
            let copy = match known.zip(meta.hash) {
                Some((ours, theirs)) => ours == theirs,
                None => are_near(one.seconds, meta.modified().map(|time| time.seconds())),
            };
            self.all[at].has_copy |= copy && elsewhere(&self.all[at]);
        }
        for at in meta.hash.and_then(|hash| self.by_hash.get(&hash)).into_iter().flatten() {
            self.all[*at].has_copy |= elsewhere(&self.all[*at]);
        }
    }

    fn is_lonely(&self, inventory: usize, name: &[u8], meta: &InventoryMeta) -> bool {
        let seconds = meta.modified().map(|time| time.seconds());
        self.all[self.alike(meta.look(name))].iter().any(|one| {
            let same = one.inventory as usize == inventory
                && one.seconds == seconds
                && one.hash.map(|hash| self.hashes[hash as usize]) == meta.hash;
            same && !one.has_copy
        })
    }
}

#[cfg(test)]
mod tests {
    use reedhook_core::entry::Stamp;
    use reedhook_record::inventories::{About, Image};

    use super::*;

    type File = (&'static str, u64, i64, Option<u8>);

    fn taken(all: &mut Inventories, name: &str, files: &[File]) {
        let about = About {
            name: name.to_owned(),
            mark: name.to_owned(),
            spot: String::new(),
            place: String::new(),
            location: String::new(),
            label: String::new(),
            taken_ms: 1,
        };
        let mut files: Vec<&File> = files.iter().collect();
        files.sort();
        let mut taking = all.take(&about).expect("a take");
        let metas = files.iter().map(|(name, size, time, hash)| {
            let hash = hash.map(|byte| [byte; 32]);
            (name.as_bytes(), InventoryMeta::of(EntryKind::File, *size, Some(Stamp::new(*time, 7)), hash))
        });
        taking.folder(b"", Image::of(metas)).expect("a folder");
        taking.finish().expect("an inventory");
    }

    #[test]
    fn what_is_a_copy_and_what_is_nowhere_else() {
        let place = tempfile::tempdir().expect("a folder");
        let mut all = Inventories::open(&place.path().join("x.db")).expect("a file");
        let one: [File; 8] = [
            ("alike", 5, 100, None),
            ("coarse", 5, 101, None),
            ("other-time", 5, 100, None),
            ("renamed-here", 5, 100, Some(1)),
            ("same-look", 5, 100, Some(2)),
            ("half-known", 5, 100, Some(3)),
            ("empty", 0, 100, None),
            ("only", 9, 100, None),
        ];
        let two: [File; 6] = [
            ("alike", 5, 100, None),
            ("coarse", 5, 100, None),
            ("other-time", 5, 300, None),
            ("renamed-there", 5, 200, Some(1)),
            ("same-look", 5, 100, Some(9)),
            ("half-known", 5, 100, None),
        ];
        taken(&mut all, "one", &one);
        taken(&mut all, "two", &two);
        let inventories = all.list().expect("inventories");
        let mut lonely = Vec::new();
        alone(&all, &inventories, &[0, 1], &Query::of(&[]), &mut |at, path, _| {
            lonely.push(format!("{at} {}", String::from_utf8_lossy(&path)));
            ControlFlow::Continue(())
        })
        .expect("an answer");
        lonely.sort();
        assert_eq!(lonely, ["0 only", "0 other-time", "0 same-look", "1 other-time", "1 same-look"]);
        let held = all.folder(inventories[0].id, b"").expect("an answer").expect("a folder");
        let files: Vec<(&str, &[u8], &InventoryMeta)> =
            held.iter().map(|one| ("one", one.name.as_slice(), &one.meta)).collect();
        let found = elsewhere(&all, &inventories, &files).expect("an answer");
        let told: Vec<String> = files
            .iter()
            .zip(found)
            .flat_map(|((_, path, _), places)| {
                let path = String::from_utf8_lossy(path).into_owned();
                let told = move |one: Place| {
                    format!("{path} > {} {}", one.inventory, String::from_utf8_lossy(&one.path))
                };
                places.into_iter().map(told)
            })
            .collect();
        let expected = [
            "alike > two alike",
            "coarse > two coarse",
            "half-known > two half-known",
            "renamed-here > two renamed-there",
        ];
        assert_eq!(told, expected);
    }
}
