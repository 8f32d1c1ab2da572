//! What all of a remote store shares: the wire, waiting for it, and what was seen.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta, SPECIAL_BITS};
use reedhook_core::notes::{Note, Notes};
use reedhook_core::path::{Name, RelPath, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, Expect, FaultKind, Publish, Result, Sealed, StoreError, is_still,
};

use crate::remote::connect::Trust;
use crate::remote::described::{apply, is_about};
use crate::remote::object::ObjectSetup;
use crate::remote::patience::Patience;
use crate::remote::sftp::SshSetup;
use crate::remote::wire::{Answer, Over, Wire};

/// How long a folder that was seen to be one is taken for one without asking again.
pub(super) const TRUSTED_FOR: Duration = Duration::from_secs(60);

/// What it may take to reach a server, besides its address and an account there.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// What this machine has for SSH.
    pub ssh: SshSetup,
    /// Whom to trust over TLS.
    pub trust: Trust,
    /// What only object stores need.
    pub objects: ObjectSetup,
    /// How long a server is given to recover.
    pub patience: Patience,
}

/// No tree of people's is so deep. Servers show folders within themselves, by links that they follow, without end.
pub(super) const DEEPEST: usize = 256;

pub(crate) struct Inner {
    pub(super) wire: Box<dyn Wire>,
    pub(super) can: Capabilities,
    pub(super) patience: Patience,
    pub(super) notes: Arc<dyn Notes>,
    pub(super) room: Room,
    pub(super) state: Mutex<RemoteState>,
}

pub(super) struct RemoteState {
    /// Folders that were seen not to be links, and when.
    pub(super) folders: HashMap<RelPath, Instant>,
    /// What unfinished files are to have once they are published, where the server cannot be told.
    pub(super) intended: HashMap<RelPath, Attributes>,
    pub(super) untold_notes: usize,
    pub(super) notes_kept: Instant,
    /// Notes about versions of whose tags only the beginning is known, by folder and name.
    pub(super) begun: HashMap<RelPath, HashMap<Name, Note>>,
    /// When the last of those versions was made.
    pub(super) last_begun: Option<Instant>,
}

impl Drop for Inner {
    fn drop(&mut self) {
        self.notes.keep();
    }
}

impl Inner {
    pub(super) fn state(&self) -> MutexGuard<'_, RemoteState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes a request with patience.
    pub(super) fn ask<T>(&self, mut request: impl FnMut(&dyn Wire) -> Answer<T>) -> Result<T> {
        self.patience.with(|_| request(self.wire.as_ref()))
    }

    /// Fails unless every folder on the way to and including `folder` is one.
    pub(super) fn real_folder(&self, folder: &RelPath, action: &'static str) -> Result<()> {
        if !self.wire.follows_links() || folder.is_root() {
            return Ok(());
        }
        let now = Instant::now();
        if self.state().folders.get(folder).is_some_and(|seen| now.duration_since(*seen) < TRUSTED_FOR) {
            return Ok(());
        }
        if let Some(parent) = folder.parent() {
            self.real_folder(&parent, action)?;
        }
        let kind = match self.ask(|wire| wire.stat(folder))? {
            Some(meta) if meta.is_folder() => {
                self.saw_folder(folder.clone());
                return Ok(());
            }
            Some(meta) if meta.kind == EntryKind::Link => FaultKind::LinkInPath,
            _ => FaultKind::NotFound,
        };
        Err(StoreError::new(kind, action, folder))
    }

    pub(super) fn saw_folder(&self, folder: RelPath) {
        if self.wire.follows_links() {
            self.state().folders.insert(folder, Instant::now());
        }
    }

    pub(super) fn is_no_folder_any_more(&self, path: &RelPath) {
        self.state().folders.retain(|folder, _| !folder.is_within(path));
    }

    pub(super) fn real_parent(&self, path: &RelPath, action: &'static str) -> Result<()> {
        match path.parent() {
            Some(parent) => self.real_folder(&parent, action),
            None => Ok(()),
        }
    }

    /// What stands at a path, with what was noted of it.
    pub(super) fn look(&self, path: &RelPath) -> Result<Option<Meta>> {
        let Some(mut meta) = self.ask(|wire| wire.stat(path))? else { return Ok(None) };
        if self.is_noted(&meta) {
            let note = self.notes.of(path);
            if let Some(note) = &note {
                apply(note, &mut meta);
            }
            if meta.is_arrival() && self.wire.describes() && !is_about(note.as_ref(), &meta) {
                meta = self.described(path, meta)?;
            }
        }
        Ok(Some(meta))
    }

    /// A rename that may have happened although its answer was lost.
    pub(super) fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Result<()> {
        self.patience.with(|again| match self.wire.rename(from, to, over) {
            Err(trouble)
                if again
                    && matches!(trouble.kind(), FaultKind::NotFound | FaultKind::Exists)
                    && matches!(self.wire.stat(from), Ok(None))
                    && matches!(self.wire.stat(to), Ok(Some(_))) =>
            {
                Ok(())
            }
            outcome => outcome,
        })
    }

    /// Makes a folder that may have been made although the answer was lost. Of several who make one at once, servers tell the ones
    /// that come late all sorts of things; so after a refusal it is looked whether it is there.
    pub(super) fn make_folder(&self, path: &RelPath, mode: Option<u32>) -> Result<()> {
        let made = self.patience.with(|again| match self.wire.make_folder(path, mode) {
            Err(trouble) if again && trouble.kind() == FaultKind::Exists => Ok(()),
            outcome => outcome,
        });
        made.map_err(|error| self.unless_there(error, path))
    }

    /// A refusal to make a folder, told for what it is when a folder is there.
    pub(super) fn unless_there(&self, error: StoreError, path: &RelPath) -> StoreError {
        const ASKED: [FaultKind; 4] =
            [FaultKind::Denied, FaultKind::Refused, FaultKind::Io, FaultKind::Unsupported];
        if !ASKED.contains(&error.kind) {
            return error;
        }
        match self.wire.stat(path) {
            Ok(Some(meta)) if meta.is_folder() => StoreError { kind: FaultKind::Exists, ..error },
            // What is refused even to be looked at, while a made-up name beside it is simply not there.
            Err(trouble) if trouble.kind() == FaultKind::Denied && self.is_free_beside(path) => {
                kept_back(path)
            }
            _ => error,
        }
    }

    pub(super) fn is_free_beside(&self, path: &RelPath) -> bool {
        let free = beside(path, &format!("{:016x}", fastrand::u64(..)));
        free.is_ok_and(|free| matches!(self.wire.stat(&free), Ok(None)))
    }

    /// Removes an unfinished file; what cannot be removed now is a leftover for the next run.
    pub(super) fn clear(&self, temporary: &RelPath) {
        self.state().intended.remove(temporary);
        if let Ok(Some(meta)) = self.wire.stat(temporary) {
            let _ = self.wire.remove(temporary, &meta);
        }
    }

    /// Sets aside what is to be replaced. Where the server can, its path is never empty meanwhile.
    pub(super) fn keep(&self, path: &RelPath, keep_as: &RelPath, found: &Meta) -> Result<bool> {
        let duplicated = self.patience.with(|again| match self.wire.duplicate(path, keep_as) {
            Err(trouble) if again && trouble.kind() == FaultKind::Exists => Ok(()),
            outcome => outcome,
        });
        let still_there = match duplicated {
            Ok(()) => true,
            Err(error) if error.kind == FaultKind::Unsupported => {
                self.rename(path, keep_as, Over::Nothing)?;
                false
            }
            Err(error) => return Err(error),
        };
        self.note_as(keep_as, self.notes.of(path).filter(|note| is_about(Some(note), found)))?;
        Ok(still_there)
    }

    /// Puts a file in the place of another. Where that takes two steps, what stood there is put aside meanwhile, and back when the
    /// second one fails.
    pub(super) fn replace(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Result<()> {
        let seen = match (over, self.rename(from, to, over)) {
            (Over::This(seen), Err(error)) if error.kind == FaultKind::Unsupported => seen,
            (_, outcome) => return outcome,
        };
        let aside = beside(to, &format!("{:016x}", fastrand::u64(..)))?;
        self.rename(to, &aside, Over::Nothing)?;
        if let Err(error) = self.rename(from, to, Over::Nothing) {
            self.rename(&aside, to, Over::Nothing)?;
            return Err(error);
        }
        // What cannot be removed now is a leftover for the next run.
        let _ = self.wire.remove(&aside, seen);
        Ok(())
    }

    /// Whether an unfinished file may be one of ours.
    pub(super) fn may_be_ours(&self, meta: &Meta) -> bool {
        !self.wire.closes_unfinished() || meta.mode.is_none_or(|mode| mode & 0o7177 == 0)
    }

    /// Takes setuid and setgid from a kept copy. They are not given back: nothing says here to whom they belonged.
    pub(super) fn disarm(&self, kept: &RelPath, was: &Meta) {
        let special = was.mode.filter(|mode| was.kind == EntryKind::File && mode & SPECIAL_BITS != 0);
        if let Some(mode) = special {
            let bare = Attributes { mode: Some(mode & !SPECIAL_BITS), ..Attributes::default() };
            // Where the login may not, it had no way to give them either.
            let _ = self.ask(|wire| wire.set_attributes(kept, &bare));
        }
    }

    pub(super) fn publish(&self, sealed: &Sealed, how: &Publish) -> Result<()> {
        let Sealed { target, temporary } = sealed;
        let changed = || StoreError::new(FaultKind::Changed, "write", target);
        self.real_parent(target, "write")?;
        let outcome = match &how.expect {
            Expect::Absent => self.rename(temporary, target, Over::Nothing),
            Expect::This(was) => match self.look(target)? {
                Some(found) if is_still(was, &found) => {
                    let still_there = match &how.keep_as {
                        Some(keep_as) => self.keep(target, keep_as, &found)?,
                        None => true,
                    };
                    let over = if still_there { Over::This(&found) } else { Over::Nothing };
                    self.replace(temporary, target, over)
                }
                _ => Err(changed()),
            },
        };
        match outcome {
            Ok(()) => self.note_published(temporary, target),
            Err(error) if error.kind == FaultKind::Exists => Err(self.hidden(target).unwrap_or_else(changed)),
            Err(error) => Err(error),
        }
    }

    /// Why something is there that no listing shows: a server keeps some names to itself, and does not say so when one is used.
    pub(super) fn hidden(&self, path: &RelPath) -> Option<StoreError> {
        let mut below = path.clone();
        while let Some((folder, name)) = below.split() {
            let listing = self.wire.list(&folder).ok()?;
            let unknown = listing.unknown.iter().filter_map(|unknown| unknown.name.as_ref());
            let shown =
                listing.entries.iter().map(|entry| &entry.name).chain(unknown).any(|found| *found == name);
            if !shown {
                return Some(StoreError { path: path.clone(), ..kept_back(&below) });
            }
            below = folder;
        }
        None
    }
}

/// A server uses some names itself, and gives them to nobody.
pub(super) fn kept_back(path: &RelPath) -> StoreError {
    let name = path.file_name().map(String::from_utf8_lossy).unwrap_or_default();
    let why = format!("the server keeps the name {name} to itself");
    StoreError::new(FaultKind::NameRefused, "write", path).because(why)
}

/// The unfinished file for a path, under a key.
pub(super) fn beside(path: &RelPath, key: &str) -> Result<RelPath> {
    let name = Name::new(&part_name(key));
    let name = name.map_err(|_| StoreError::new(FaultKind::NameRefused, "write", path))?;
    Ok(path.parent().unwrap_or_default().join(&name))
}

/// When a server was last known to be full.
#[derive(Default)]
pub(in crate::remote) struct Room(pub(super) Mutex<Option<Instant>>);

impl Room {
    pub(super) fn was_full_since(&self, begun: Instant) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).is_some_and(|full| full >= begun)
    }

    pub(super) fn is_full_now(&self) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
    }
}
