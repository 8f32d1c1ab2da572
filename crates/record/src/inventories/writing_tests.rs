//! What was done to a store, told bit by bit, makes the same inventory as a look at it afterwards.

use std::collections::BTreeMap;

use reedhook_core::entry::{EntryKind, Stamp};
use rusqlite::params;

use super::*;
use crate::inventories::names::parted;

/// A tree by its paths: `None` is a folder.
type Tree = BTreeMap<String, Option<u64>>;

fn meta(size: Option<u64>) -> InventoryMeta {
    match size {
        Some(size) => InventoryMeta::of(EntryKind::File, size, Some(Stamp::new(1_900_000_000, 5)), None),
        None => InventoryMeta::of(EntryKind::Folder, 0, None, None),
    }
}

fn image(tree: &Tree, folder: &str) -> Image {
    let held: BTreeMap<&[u8], InventoryMeta> = tree
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
    About { name: text("x"), mark: text(""), spot: text("s"), place, location, label: text(""), taken_ms: 1 }
}

/// Everything that the inventory has, and its numbers.
fn known(all: &Inventories) -> (BTreeMap<Vec<u8>, Vec<InventoryEntry>>, u64, u64) {
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

#[derive(Debug)]
enum Done {
    Put(String, Option<u64>),
    Gone(String, bool),
    Moved(String, String),
}

fn changes_of(done: &[Done]) -> Changes {
    let mut changes = Changes::default();
    for one in done {
        match one {
            Done::Put(path, size) => changes.put([b"", path.as_bytes()], meta(*size)),
            Done::Gone(path, folder) => changes.gone([b"", path.as_bytes()], *folder),
            Done::Moved(from, to) => changes.moved_folder([b"", from.as_bytes()], [b"", to.as_bytes()]),
        }
    }
    changes
}

/// One thing is done to the tree; what would be told of it.
fn do_something(tree: &mut Tree, chance: &mut impl FnMut(usize) -> usize) -> Vec<Done> {
    let above = folders(tree);
    let above = &above[chance(above.len())];
    let name = ["a", "b", "b!", "b0", "counts"][chance(5)];
    let path = if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
    let size = (chance(3) > 0).then(|| chance(9) as u64);
    let some: Vec<String> = tree.keys().cloned().collect();
    match chance(4) {
        0 if !some.is_empty() => {
            let gone = &some[chance(some.len())];
            let folder = tree[gone].is_none();
            remove(tree, gone);
            vec![Done::Gone(gone.clone(), folder)]
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
            vec![Done::Moved(from, path)]
        }
        // A folder that is there stays what it is.
        _ if tree.get(&path).is_some_and(Option::is_none) => Vec::new(),
        _ => {
            tree.insert(path.clone(), size);
            vec![Done::Put(path, size)]
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
            let done: Vec<Done> = (0..6).flat_map(|_| do_something(&mut tree, &mut chance)).collect();
            let mut updating = told.update(&about()).unwrap();
            updating.apply(&changes_of(&done)).unwrap();
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
            assert_eq!(told, seen, "{seed}: {done:?}");
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
    let mut changes = Changes::default();
    for name in [b"a", b"b"] {
        changes.put([b"stills/2031", name], hashed);
    }
    updating.apply(&changes).unwrap();
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
