//! A folder in the form in which it is kept, and what tells quickly whether it is as it was.

use reedhook_core::entry::{EntryKind, Special, Stamp};
use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::{xxh3_128, xxh3_128_with_seed};

use crate::inventories::names::{each_name, folded};

/// What is known of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct InventoryMeta {
    kind: u8,
    /// Bytes of a file.
    pub size: u64,
    modified: Option<(i64, u32)>,
    /// BLAKE3 of its content, where that was known.
    pub hash: Option<[u8; 32]>,
}

impl InventoryMeta {
    /// Of an entry.
    pub fn of(kind: EntryKind, size: u64, modified: Option<Stamp>, hash: Option<[u8; 32]>) -> InventoryMeta {
        let kind = match kind {
            EntryKind::File => 0,
            EntryKind::Folder => 1,
            EntryKind::Link => 2,
            EntryKind::Special(Special::Other) => 3,
            EntryKind::Special(Special::Fifo) => 4,
            EntryKind::Special(Special::Socket) => 5,
            EntryKind::Special(Special::CharDevice) => 6,
            EntryKind::Special(Special::BlockDevice) => 7,
        };
        let size = if kind == 0 { size } else { 0 };
        InventoryMeta { kind, size, modified: modified.map(|time| (time.seconds(), time.nanos())), hash }
    }

    /// What it is.
    pub fn kind(&self) -> EntryKind {
        match self.kind {
            0 => EntryKind::File,
            1 => EntryKind::Folder,
            2 => EntryKind::Link,
            4 => EntryKind::Special(Special::Fifo),
            5 => EntryKind::Special(Special::Socket),
            6 => EntryKind::Special(Special::CharDevice),
            7 => EntryKind::Special(Special::BlockDevice),
            _ => EntryKind::Special(Special::Other),
        }
    }

    /// All of it but the hash, and a `/` before it, which no name has.
    fn as_bytes(&self) -> [u8; 22] {
        let (seconds, nanos) = self.modified.unwrap_or((i64::MIN, u32::MAX));
        let mut bytes = [0; 22];
        (bytes[0], bytes[1]) = (b'/', self.kind);
        bytes[2..10].copy_from_slice(&self.size.to_le_bytes());
        bytes[10..18].copy_from_slice(&seconds.to_le_bytes());
        bytes[18..].copy_from_slice(&nanos.to_le_bytes());
        bytes
    }

    pub(super) fn is_folder(&self) -> bool {
        self.kind == 1
    }

    /// The same for files of one name and size, and for no others.
    pub fn look(&self, name: &[u8]) -> u128 {
        xxh3_128_with_seed(name, self.size)
    }

    /// When it was last changed.
    pub fn modified(&self) -> Option<Stamp> {
        self.modified.map(|(seconds, nanos)| Stamp::new(seconds, nanos))
    }
}

/// Tells one listing of a folder from another: the XXH3 hash (128 bits) of its names and of what is known of them, hashes apart. It is made
/// for every folder that a run looks at, so it has to cost next to nothing; whoever makes two listings that have one hides a change from a
/// search, and from nothing else.
pub type Print = [u8; 16];

/// What a folder holds, sorted by name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Image {
    pub(super) print: Print,
    /// Each with a `/` behind it.
    pub(super) names: Vec<u8>,
    pub(super) metas: Vec<InventoryMeta>,
}

impl Image {
    /// Of a listing, sorted by name.
    pub fn of<'n>(entries: impl Iterator<Item = (&'n [u8], InventoryMeta)>) -> Image {
        let (mut names, mut metas) = (Vec::new(), Vec::new());
        for (name, meta) in entries {
            names.extend_from_slice(name);
            names.push(b'/');
            metas.push(meta);
        }
        let print = Image::print(each_name(&names).zip(metas.iter().copied()), &mut Vec::new());
        Image { print, names, metas }
    }

    /// Roughly the bytes of memory that it takes.
    pub fn weight(&self) -> usize {
        self.names.len() + self.metas.len() * size_of::<InventoryMeta>()
    }

    /// The print of a listing, sorted by name, with room to work in: where it is known, nothing else need be made of the listing.
    pub fn print<'n>(entries: impl Iterator<Item = (&'n [u8], InventoryMeta)>, room: &mut Vec<u8>) -> Print {
        room.clear();
        for (name, meta) in entries {
            room.extend_from_slice(name);
            room.extend_from_slice(&meta.as_bytes());
        }
        xxh3_128(room).to_le_bytes()
    }

    /// Its names as people search for them; nothing where all of them are plain ASCII.
    pub(super) fn folded_names(&self) -> Vec<u8> {
        let mut folds = Vec::new();
        if !self.names.is_ascii() {
            for name in each_name(&self.names) {
                folds.extend_from_slice(&folded(name));
                folds.push(b'/');
            }
        }
        folds
    }

    /// How many entries it has, and the bytes of its files.
    pub(super) fn size(&self) -> (i64, i64) {
        let bytes = self.metas.iter().map(|meta| meta.size).fold(0_u64, u64::saturating_add);
        (self.metas.len() as i64, i64::try_from(bytes).unwrap_or(i64::MAX))
    }

    /// The names of its folders, sorted.
    pub(super) fn folders(&self) -> impl Iterator<Item = &[u8]> {
        each_name(&self.names).zip(&self.metas).filter(|(_, meta)| meta.is_folder()).map(|(name, _)| name)
    }

    /// What is known of a folder in it.
    pub(super) fn folder(&self, name: &[u8]) -> Option<InventoryMeta> {
        let mut known = each_name(&self.names).zip(&self.metas);
        known.find(|(one, meta)| *one == name && meta.is_folder()).map(|(_, meta)| *meta)
    }

    /// Takes over the hashes that were known of files that look as they did.
    pub(super) fn keep_hashes(&mut self, then: &Image) {
        let mut known =
            each_name(&then.names).zip(&then.metas).filter(|(_, meta)| meta.hash.is_some()).peekable();
        for (name, meta) in each_name(&self.names).zip(&mut self.metas) {
            while known.next_if(|(other, _)| *other < name).is_some() {}
            if let Some((_, then)) = known.next_if(|(other, _)| *other == name)
                && meta.hash.is_none()
                && (InventoryMeta { hash: None, ..*then }) == *meta
            {
                meta.hash = then.hash;
            }
        }
    }

    /// The same with some names put in, or other than they were, and others taken out.
    pub(super) fn edited(&self, edits: &Names<'_>) -> Image {
        let mut known = each_name(&self.names).zip(self.metas.iter().copied()).peekable();
        let mut edits = edits.iter().copied().peekable();
        Image::of(std::iter::from_fn(|| {
            loop {
                let (name, meta) = match (known.peek(), edits.peek()) {
                    (Some((known_as, _)), Some((edited, _))) if known_as < edited => known.next().map(some),
                    (Some((known_as, _)), Some((edited, _))) if known_as == edited => {
                        known.next();
                        edits.next()
                    }
                    (_, Some(_)) => edits.next(),
                    (_, None) => known.next().map(some),
                }?;
                if let Some(meta) = meta {
                    return Some((name, meta));
                }
            }
        }))
    }
}

fn some((name, meta): (&[u8], InventoryMeta)) -> (&[u8], Option<InventoryMeta>) {
    (name, Some(meta))
}

/// What is put into a folder, and what is taken out of it.
pub(super) type Names<'c> = Vec<(&'c [u8], Option<InventoryMeta>)>;
