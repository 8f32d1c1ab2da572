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
pub(crate) mod file;
mod image;
pub(crate) mod names;
mod writing;
#[cfg(test)]
mod writing_tests;

pub use self::changes::Changes;
pub use self::image::{Image, InventoryMeta, Print};
pub use self::writing::{Taken, Taking, Updating};
pub use crate::inventories::file::{About, FolderRow, Inventories, Inventory, InventoryEntry, Visitor};
pub use crate::inventories::names::{each_name, folded};

#[cfg(test)]
mod tests {
    use std::ops::ControlFlow;

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
