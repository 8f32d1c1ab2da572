//! Putting a listing together from what a server says, without believing what no honest server says.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use reedhook_core::entry::{Entry, EntryKind, Meta};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{FaultKind, Listing, StoreError, Unknown};

use super::wire::{Answer, Trouble};

/// No folder has so many entries; a listing that goes on is a trap.
const MOST_ENTRIES: usize = 1_000_000;

/// A server that is asked for so long has to have named an entry a second.
const SLOW_AFTER: Duration = Duration::from_secs(60);

/// A listing that is being read.
pub(super) struct Gather<'a> {
    folder: &'a RelPath,
    entries: Vec<Option<Entry>>,
    unknown: Vec<Unknown>,
    /// Where the entry of a name is among the entries; `None` where there is none of it any more.
    known: HashMap<Name, Option<usize>>,
    begun: Instant,
}

impl<'a> Gather<'a> {
    pub(super) fn new(folder: &'a RelPath) -> Gather<'a> {
        Gather {
            folder,
            entries: Vec::new(),
            unknown: Vec::new(),
            known: HashMap::new(),
            begun: Instant::now(),
        }
    }

    /// Takes an entry; `None` as metadata when the server does not say enough of it. A name that cannot be one in this folder, or
    /// that is there twice, makes the listing incomplete instead.
    pub(super) fn take(&mut self, name: &[u8], meta: Option<Meta>) {
        let shown = String::from_utf8_lossy(name).into_owned();
        let name = match Name::new(name) {
            Ok(name) => name,
            Err(why) => return self.refuse(None, format!("it names an entry {shown:?}: {why}")),
        };
        if self.known.contains_key(&name) {
            self.forget(&name);
            return self.refuse(Some(name), format!("it names {shown:?} twice"));
        }
        self.known.insert(name.clone(), meta.is_some().then_some(self.entries.len()));
        match meta {
            Some(meta) => self.entries.push(Some(Entry { name, meta })),
            None => self.refuse(Some(name), format!("it does not say enough of {shown:?}")),
        }
    }

    /// Takes back what was taken of this name: which of two is meant nobody can tell.
    fn forget(&mut self, name: &Name) {
        if let Some(at) = self.known.insert(name.clone(), None).flatten() {
            self.entries[at] = None;
        }
    }

    /// Whether something has this name already.
    pub(super) fn has(&self, name: &str) -> bool {
        Name::new(name.as_bytes()).is_ok_and(|name| self.known.contains_key(&name))
    }

    /// Notes that two things have this name, which is right at this store and nowhere else. The rest of the folder is known.
    pub(super) fn refuse_both(&mut self, name: &str, why: &str) {
        let Ok(name) = Name::new(name.as_bytes()) else { return };
        self.forget(&name);
        let error = StoreError::new(FaultKind::NameRefused, "list", &self.folder.join(&name)).because(why);
        self.unknown.push(Unknown { name: Some(name), error });
    }

    /// Notes that something in the listing cannot be right.
    pub(super) fn refuse(&mut self, name: Option<Name>, why: String) {
        let error = StoreError::new(FaultKind::BadAnswer, "list", self.folder).because(why);
        self.unknown.push(Unknown { name, error });
    }

    /// Notes that something here has a name that no file can have. It is a problem by itself; the rest of the folder is known.
    pub(super) fn refuse_name(&mut self, standing_for_it: &str, name: Option<String>) {
        let name = name.filter(|name| !name.is_empty());
        let shown = name.map_or("a name without characters".to_owned(), |name| format!("the name {name:?}"));
        let Ok(name) = Name::new(standing_for_it.as_bytes()) else { return };
        let error = StoreError::new(FaultKind::NameRefused, "list", &self.folder.join(&name));
        let error = error.because(format!("there is something with {shown}, which no file can have"));
        self.unknown.push(Unknown { name: Some(name), error });
    }

    /// Fails when it has become longer than any folder is.
    pub(super) fn go_on(&self) -> Answer<()> {
        let named = self.entries.len() + self.unknown.len();
        let words = if named > MOST_ENTRIES {
            format!("it has no end: more than {MOST_ENTRIES} entries")
        } else if self.begun.elapsed() > SLOW_AFTER && (named as u64) < self.begun.elapsed().as_secs() {
            "it has no end: it comes too slowly".to_owned()
        } else {
            return Ok(());
        };
        Err(Trouble::lasting(FaultKind::BadAnswer, "list", self.folder).because(words))
    }

    /// Whether nothing has been said yet.
    pub(super) fn is_empty(&self) -> bool {
        self.entries.is_empty() && self.unknown.is_empty()
    }

    pub(super) fn done(self) -> Listing {
        Listing { entries: self.entries.into_iter().flatten().collect(), unknown: self.unknown }
    }
}

/// A folder at a server that tells neither times nor modes of folders.
pub(super) fn folder_meta() -> Meta {
    Meta::bare(EntryKind::Folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_cannot_be_make_a_listing_incomplete() {
        let folder = RelPath::root();
        let mut gather = Gather::new(&folder);
        for name in [b"good".as_slice(), b"..", b"a/b", b"nul\0", b"", b"twice", b"twice"] {
            gather.take(name, Some(folder_meta()));
        }
        gather.take(b"vague", None);
        let listing = gather.done();
        let names: Vec<String> = listing.entries.iter().map(|entry| entry.name.to_string()).collect();
        assert_eq!(names, ["good"]);
        let nameless = listing.unknown.iter().filter(|unknown| unknown.name.is_none()).count();
        assert_eq!((nameless, listing.unknown.len()), (4, 6));
    }

    /// Each name twice: which of two is meant nobody can tell, and to find that out takes no longer than to hear it.
    #[test]
    fn a_listing_that_says_everything_twice_costs_what_it_says() {
        let folder = RelPath::root();
        let mut gather = Gather::new(&folder);
        for number in (0..80_000).chain(0..80_000) {
            gather.take(format!("{number}").as_bytes(), Some(folder_meta()));
        }
        let listing = gather.done();
        assert_eq!((listing.entries.len(), listing.unknown.len()), (0, 80_000));
    }
}
