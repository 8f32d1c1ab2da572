//! What tests do with a store, without caring how it works.

use std::io::Read;

use reedhook_core::entry::{EntryKind, Meta, Stamp};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Attributes, Expect, Publish, Result, Store, StoreExt};

use crate::builders::path;

/// Writes a file, whatever stood there, with a time.
pub fn put(store: &dyn Store, at: &str, content: &[u8], seconds: i64) {
    let target = path(at);
    if let Some(parent) = target.parent() {
        store.make_folders(&parent).expect("folders");
    }
    let expect = match store.stat(&target).expect("stat") {
        Some(meta) => Expect::This(meta),
        None => Expect::Absent,
    };
    let mut stage = store.stage(&target, None).expect("stage");
    stage.write(content).expect("write");
    let attributes = Attributes { modified: Some(Stamp::new(seconds, 0)), ..Attributes::default() };
    let sealed = stage.seal(&attributes).expect("seal");
    store.publish(sealed, &Publish { expect, keep_as: None }).expect("publish");
}

/// Reads a whole file.
pub fn get(store: &dyn Store, at: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    store.open(&path(at), 0).expect("open").read_to_end(&mut bytes).expect("read");
    bytes
}

/// The names in a folder, sorted.
pub fn names(store: &dyn Store, at: &str) -> Vec<String> {
    let mut names: Vec<String> =
        store.list(&path(at)).expect("list").entries.iter().map(|entry| entry.name.to_string()).collect();
    names.sort();
    names
}

/// Removes whatever stands at a path.
pub fn clear(store: &dyn Store, path: &RelPath) {
    let Ok(Some(meta)) = store.stat(path) else { return };
    if meta.is_folder() {
        for entry in store.list(path).expect("list").entries {
            clear(store, &path.join(&entry.name));
        }
        store.remove_folder(path).expect("remove folder");
    } else {
        store.remove(path, &meta).expect("remove");
    }
}

/// Makes the folders above a path, clearing files that stand in the way.
pub fn make_way(store: &dyn Store, path: &RelPath) {
    let mut above = RelPath::root();
    for part in path.parent().unwrap_or_default().parts() {
        above = above.join(&Name::new(part).expect("a name"));
        if !matches!(store.stat(&above), Ok(Some(meta)) if meta.is_folder()) {
            clear(store, &above);
            store.make_folder(&above, &Attributes::default()).expect("make folder");
        }
    }
}

/// Sets times and mode of whatever stands at a path now, as a person would.
///
/// # Errors
/// As [`Store::set_attributes`].
pub fn adjust(store: &dyn Store, path: &RelPath, attributes: &Attributes) -> Result<()> {
    let found = store.stat(path)?.unwrap_or_else(|| Meta::bare(EntryKind::File));
    store.set_attributes(path, &found, attributes)
}
