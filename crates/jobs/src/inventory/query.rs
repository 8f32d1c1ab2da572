//! What somebody looks for in inventories: words of the path, and conditions.

use std::ops::ControlFlow;

use globset::{GlobBuilder, GlobMatcher};
use memchr::memmem;
use reedhook_core::entry::{EntryKind, Stamp};
use reedhook_record::RecordError;
use reedhook_record::inventories::{FolderRow, Inventories, InventoryMeta, each_name, folded};

/// Both ends of what is wanted, each included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bounds<T> {
    /// Not less.
    pub least: Option<T>,
    /// Not more.
    pub most: Option<T>,
}

impl<T: PartialOrd> Bounds<T> {
    /// Everything.
    pub const ANY: Bounds<T> = Bounds { least: None, most: None };

    fn hold(&self, value: &T) -> bool {
        self.least.as_ref().is_none_or(|least| value >= least)
            && self.most.as_ref().is_none_or(|most| value <= most)
    }

    fn is_any(&self) -> bool {
        self.least.is_none() && self.most.is_none()
    }
}

/// A word that a path must have.
enum Word {
    /// Anywhere in the path.
    Part(memmem::Finder<'static>),
    /// Anywhere in the path, with a `/` in it: folder and name are looked at together.
    Across(Vec<u8>),
    /// The whole name.
    Name(GlobMatcher),
}

/// What somebody looks for.
pub struct Query {
    words: Vec<Word>,
    /// Only entries of this kind.
    pub kind: Option<EntryKind>,
    /// Only files of such a size.
    pub size: Bounds<u64>,
    /// Only what was changed in such a time.
    pub changed: Bounds<Stamp>,
}

impl Query {
    /// All of some words: each anywhere in the path, without regard to case and form; one with `*` or `?` is the whole name.
    pub fn of(words: &[String]) -> Query {
        let words = words.iter().filter(|word| !word.is_empty()).map(|word| Word::of(word)).collect();
        Query { words, kind: None, size: Bounds::ANY, changed: Bounds::ANY }
    }

    /// Whether everything is wanted.
    pub fn is_any(&self) -> bool {
        self.words.is_empty() && self.kind.is_none() && self.size.is_any() && self.changed.is_any()
    }

    /// Hands over what an inventory has of it, in the order of the folders: the path, and what is known. Stops when it is told to.
    ///
    /// # Errors
    /// When the inventories cannot be read.
    pub fn find(
        &self,
        all: &Inventories,
        inventory: i64,
        each: &mut dyn FnMut(Vec<u8>, &InventoryMeta) -> ControlFlow<()>,
    ) -> Result<(), RecordError> {
        all.each_folder(inventory, &mut |row| self.find_in(row, each))
    }

    fn find_in(
        &self,
        row: &FolderRow<'_>,
        each: &mut dyn FnMut(Vec<u8>, &InventoryMeta) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, RecordError> {
        let mut path = folded_path(row.path);
        // What the folder's own path has, everything in it has.
        let open: Vec<&Word> = self.words.iter().filter(|word| !word.is_in_path(&path)).collect();
        let lower = row.searched().to_ascii_lowercase();
        let impossible = |word: &&Word| matches!(word, Word::Part(part) if part.find(&lower).is_none());
        if open.iter().any(impossible) {
            return Ok(ControlFlow::Continue(()));
        }
        let folder = path.len();
        let mut metas: Option<Vec<InventoryMeta>> = None;
        for (at, (name, shown)) in each_name(&lower).zip(each_name(row.names)).enumerate() {
            path.truncate(folder);
            path.extend_from_slice(name);
            if !open.iter().all(|word| word.holds(name, &path)) {
                continue;
            }
            let metas = match &mut metas {
                Some(metas) => metas,
                none => none.insert(row.metas()?),
            };
            let Some(meta) = metas.get(at).filter(|meta| self.takes(meta)) else { continue };
            let mut found = row.path.to_vec();
            if !found.is_empty() {
                found.push(b'/');
            }
            found.extend_from_slice(shown);
            if each(found, meta).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    fn takes(&self, meta: &InventoryMeta) -> bool {
        let is_file = meta.kind() == EntryKind::File;
        let same_kind =
            |wanted: EntryKind| std::mem::discriminant(&wanted) == std::mem::discriminant(&meta.kind());
        self.kind.is_none_or(same_kind)
            && (self.size.is_any() || (is_file && self.size.hold(&meta.size)))
            && (self.changed.is_any() || meta.modified().is_some_and(|time| self.changed.hold(&time)))
    }
}

/// A folder's path as people search for it, with a `/` behind it; nothing for the root.
fn folded_path(path: &[u8]) -> Vec<u8> {
    let mut text = Vec::with_capacity(path.len() + 1);
    for part in each_name(path) {
        text.extend_from_slice(&folded(part));
        text.push(b'/');
    }
    text
}

impl Word {
    fn of(word: &str) -> Word {
        let parts: Vec<Vec<u8>> = word.split('/').map(|part| folded(part.as_bytes())).collect();
        let plain = parts.join(&b'/');
        if word.contains(['*', '?'])
            && let Some(glob) = whole_name(&plain)
        {
            return Word::Name(glob);
        }
        match plain.contains(&b'/') {
            true => Word::Across(plain),
            false => Word::Part(memmem::Finder::new(&plain).into_owned()),
        }
    }

    fn is_in_path(&self, path: &[u8]) -> bool {
        match self {
            Word::Part(part) => part.find(path).is_some(),
            Word::Across(text) => memmem::find(path, text).is_some(),
            Word::Name(_) => false,
        }
    }

    fn holds(&self, name: &[u8], path: &[u8]) -> bool {
        match self {
            Word::Part(part) => part.find(name).is_some(),
            Word::Across(text) => memmem::find(path, text).is_some(),
            Word::Name(glob) => {
                use std::os::unix::ffi::OsStrExt;
                glob.is_match(std::path::Path::new(std::ffi::OsStr::from_bytes(name)))
            }
        }
    }
}

/// `*` and `?` have their usual meaning; every other character is itself.
fn whole_name(folded: &[u8]) -> Option<GlobMatcher> {
    let mut pattern = String::new();
    for c in String::from_utf8_lossy(folded).chars() {
        match c {
            '[' | ']' | '{' | '}' | '\\' | '!' | ',' => pattern.extend(['\\', c]),
            c => pattern.push(c),
        }
    }
    let glob = GlobBuilder::new(&pattern).literal_separator(false).backslash_escape(true).build().ok()?;
    Some(glob.compile_matcher())
}
