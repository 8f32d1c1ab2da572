//! Stores behind a network.
//!
//! Each protocol is a [`wire::Wire`]: single requests, without memory or patience. [`Remote`] makes a store of it: unfinished files
//! beside their targets, kept copies, expectations, retries, the lock, and notes about what a server cannot say itself.
//!
//! Nothing here follows a link of the server's. A server that would is asked first whether each folder on the way is one
//! ([`Wire::follows_links`]); what was seen to be a folder is taken for one for a while.

pub mod connect;
pub mod ftp;
mod gather;
mod lock;
mod noted;
pub mod object;
pub mod patience;
pub mod post;
mod room;
mod runtime;
pub mod sftp;
mod stage;
pub mod stop;
mod tls;
pub mod webdav;
mod wire;

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta, Privileges, SPECIAL_BITS};
use reedhook_core::notes::{Note, Notes};
use reedhook_core::path::{Name, RelPath, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, Content, Disarmed, Expect, FaultKind, Listing, Place, Publish, Result, Sealed,
    Space, Stage, Store, StoreError, StoreExt, is_same, is_still,
};

use connect::{Account, Address, ConnectError, Trust};
use ftp::Ftp;
use noted::{Noted, apply, is_about, is_of};
use object::{ObjectSetup, Objects};
use patience::Patience;
use room::Room;
use sftp::{Sftp, SshSetup};
use stage::RemoteStage;
use stop::Pace;
use webdav::WebDav;
use wire::{Again, Answer, Download, Over, Trouble, Wire};

/// How long a folder that was seen to be one is taken for one without asking again.
const TRUSTED_FOR: Duration = Duration::from_secs(60);

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

/// The schemes of the addresses that lead to a store.
pub const SCHEMES: [&str; 6] = ["sftp", "davs", "dav", "ftps", "ftp", "s3"];

/// No tree of people's is so deep. Servers show folders within themselves, by links that they follow, without end.
const DEEPEST: usize = 256;

/// A store behind a network.
pub struct Remote {
    inner: Arc<Inner>,
}

pub(crate) struct Inner {
    wire: Box<dyn Wire>,
    can: Capabilities,
    patience: Patience,
    notes: Arc<dyn Notes>,
    room: Room,
    state: Mutex<RemoteState>,
}

struct RemoteState {
    /// Folders that were seen not to be links, and when.
    folders: HashMap<RelPath, Instant>,
    /// What unfinished files are to have once they are published, where the server cannot be told.
    intended: HashMap<RelPath, Attributes>,
    untold_notes: usize,
    notes_kept: Instant,
    /// Notes about versions of whose tags only the beginning is known, by folder and name.
    begun: HashMap<RelPath, HashMap<Name, Note>>,
    /// When the last of those versions was made.
    last_begun: Option<Instant>,
}

impl Remote {
    /// A store of what a wire reaches. `notes` are those about this very place.
    fn new(wire: Box<dyn Wire>, notes: Arc<dyn Notes>, patience: Patience) -> Remote {
        let can = wire.capabilities();
        let state = RemoteState {
            folders: HashMap::new(),
            intended: HashMap::new(),
            untold_notes: 0,
            notes_kept: Instant::now(),
            begun: HashMap::new(),
            last_begun: None,
        };
        Remote {
            inner: Arc::new(Inner {
                wire,
                can,
                patience,
                notes,
                room: Room::default(),
                state: Mutex::new(state),
            }),
        }
    }

    /// Reaches the folder at an address. `notes` are those about this very folder.
    ///
    /// # Errors
    /// See [`ConnectError`].
    pub fn open(
        address: Address,
        account: Account,
        options: &Options,
        notes: Arc<dyn Notes>,
    ) -> Result<Remote, ConnectError> {
        let mut tries = 0;
        loop {
            let begun = Instant::now();
            match Remote::dial(address.clone(), account.clone(), options) {
                Ok(wire) => return Ok(Remote::new(wire, notes, options.patience.clone())),
                // A server that is just starting, or refuses many at once, is given another chance; one that does not answer at
                // all has had its time.
                Err(error) if error.may_pass() && tries < 2 && begun.elapsed() < Duration::from_secs(5) => {
                    tries += 1;
                    options.patience.stop.sleep(options.patience.first * tries);
                }
                Err(error) => return Err(error),
            }
        }
    }

    fn dial(address: Address, account: Account, options: &Options) -> Result<Box<dyn Wire>, ConnectError> {
        let stop = &options.patience.stop;
        Ok(match address.scheme.as_str() {
            "sftp" => Box::new(Sftp::connect(address, account, options.ssh.clone(), stop)?),
            "davs" | "dav" => Box::new(WebDav::connect(address, account, &options.trust, stop)?),
            "ftps" | "ftp" => Box::new(Ftp::connect(address, account, &options.trust, stop)?),
            "s3" => Box::new(Objects::connect(address, account, &options.trust, &options.objects, stop)?),
            other => return Err(ConnectError::Setup(format!("\"{other}:\" leads to no kind of store"))),
        })
    }

    /// What a person wants to know of the connection: a name and a value a line.
    pub fn facts(&self) -> Vec<(&'static str, String)> {
        self.inner.wire.facts()
    }

    /// How long the server takes to answer the smallest question, in the best of three tries.
    ///
    /// # Errors
    /// When it does not answer.
    pub fn round_trip(&self) -> Result<Duration> {
        let mut best = Duration::MAX;
        for _ in 0..3 {
            let begun = Instant::now();
            self.inner.ask(|wire| wire.stat(&RelPath::root()))?;
            best = best.min(begun.elapsed());
        }
        Ok(best)
    }
}

impl Drop for Inner {
    fn drop(&mut self) {
        self.notes.keep();
    }
}

impl Inner {
    fn state(&self) -> MutexGuard<'_, RemoteState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes a request with patience.
    fn ask<T>(&self, mut request: impl FnMut(&dyn Wire) -> Answer<T>) -> Result<T> {
        self.patience.with(|_| request(self.wire.as_ref()))
    }

    /// Fails unless every folder on the way to and including `folder` is one.
    fn real_folder(&self, folder: &RelPath, action: &'static str) -> Result<()> {
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

    fn saw_folder(&self, folder: RelPath) {
        if self.wire.follows_links() {
            self.state().folders.insert(folder, Instant::now());
        }
    }

    fn is_no_folder_any_more(&self, path: &RelPath) {
        self.state().folders.retain(|folder, _| !folder.is_within(path));
    }

    fn real_parent(&self, path: &RelPath, action: &'static str) -> Result<()> {
        match path.parent() {
            Some(parent) => self.real_folder(&parent, action),
            None => Ok(()),
        }
    }

    /// What stands at a path, with what was noted of it.
    fn look(&self, path: &RelPath) -> Result<Option<Meta>> {
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
    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Result<()> {
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
    fn make_folder(&self, path: &RelPath, mode: Option<u32>) -> Result<()> {
        let made = self.patience.with(|again| match self.wire.make_folder(path, mode) {
            Err(trouble) if again && trouble.kind() == FaultKind::Exists => Ok(()),
            outcome => outcome,
        });
        made.map_err(|error| self.unless_there(error, path))
    }

    /// A refusal to make a folder, told for what it is when a folder is there.
    fn unless_there(&self, error: StoreError, path: &RelPath) -> StoreError {
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

    fn is_free_beside(&self, path: &RelPath) -> bool {
        let free = beside(path, &format!("{:016x}", fastrand::u64(..)));
        free.is_ok_and(|free| matches!(self.wire.stat(&free), Ok(None)))
    }

    /// Removes an unfinished file; what cannot be removed now is a leftover for the next run.
    fn clear(&self, temporary: &RelPath) {
        self.state().intended.remove(temporary);
        if let Ok(Some(meta)) = self.wire.stat(temporary) {
            let _ = self.wire.remove(temporary, &meta);
        }
    }

    /// Sets aside what is to be replaced. Where the server can, its path is never empty meanwhile.
    fn keep(&self, path: &RelPath, keep_as: &RelPath, found: &Meta) -> Result<bool> {
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
    fn replace(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Result<()> {
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
    fn may_be_ours(&self, meta: &Meta) -> bool {
        !self.wire.closes_unfinished() || meta.mode.is_none_or(|mode| mode & 0o7177 == 0)
    }

    /// Takes setuid and setgid from a kept copy. They are not given back: nothing says here to whom they belonged.
    fn disarm(&self, kept: &RelPath, was: &Meta) {
        let special = was.mode.filter(|mode| was.kind == EntryKind::File && mode & SPECIAL_BITS != 0);
        if let Some(mode) = special {
            let bare = Attributes { mode: Some(mode & !SPECIAL_BITS), ..Attributes::default() };
            // Where the login may not, it had no way to give them either.
            let _ = self.ask(|wire| wire.set_attributes(kept, &bare));
        }
    }

    fn publish(&self, sealed: &Sealed, how: &Publish) -> Result<()> {
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
    fn hidden(&self, path: &RelPath) -> Option<StoreError> {
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
fn kept_back(path: &RelPath) -> StoreError {
    let name = path.file_name().map(String::from_utf8_lossy).unwrap_or_default();
    let why = format!("the server keeps the name {name} to itself");
    StoreError::new(FaultKind::NameRefused, "write", path).because(why)
}

/// The unfinished file for a path, under a key.
fn beside(path: &RelPath, key: &str) -> Result<RelPath> {
    let name = Name::new(&part_name(key));
    let name = name.map_err(|_| StoreError::new(FaultKind::NameRefused, "write", path))?;
    Ok(path.parent().unwrap_or_default().join(&name))
}

/// An opened file. The server is asked for content with the first read: who only wants to know what the file is, or goes on
/// elsewhere in it, sets nothing in motion. A connection that breaks is taken up again where it broke.
struct RemoteContent {
    inner: Arc<Inner>,
    path: RelPath,
    at: u64,
    download: Option<Box<dyn Download>>,
    pace: Pace,
}

impl Read for RemoteContent {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let begun = Instant::now();
        let read = match self.download.as_mut().map(|download| download.read(buffer)) {
            Some(Err(error)) if is_interrupted(&error) => self.read_anew(buffer).map_err(io::Error::other),
            None => self.read_anew(buffer).map_err(io::Error::other),
            Some(outcome) => outcome,
        };
        let length = read?;
        self.at += length as u64;
        if length > 0 && !self.pace.came(length as u64, begun.elapsed()) {
            let slow = StoreError::new(FaultKind::Interrupted, "read", &self.path);
            return Err(io::Error::other(slow.because("it sends next to nothing")));
        }
        Ok(length)
    }
}

impl RemoteContent {
    /// Opens the file, or opens it again where it broke off, with patience. What is read is only used when the file still is what it was:
    /// the caller asks for `meta` afterwards.
    fn read_anew(&mut self, buffer: &mut [u8]) -> Result<usize> {
        let (inner, path, at) = (&self.inner, &self.path, self.at);
        let (download, length) = inner.patience.with(|_| {
            let mut download = inner.wire.read(path, at)?;
            let length = download.read(buffer).map_err(|error| {
                let error = StoreError::of_read(error, path);
                let again = if error.kind == FaultKind::Interrupted { Again::Soon } else { Again::Never };
                Trouble { error, again }
            })?;
            Ok((download, length))
        })?;
        self.download = Some(download);
        Ok(length)
    }
}

fn is_interrupted(error: &io::Error) -> bool {
    let own = error.get_ref().and_then(|inner| inner.downcast_ref::<StoreError>());
    own.is_some_and(|own| own.kind == FaultKind::Interrupted)
}

impl Content for RemoteContent {
    fn meta(&mut self) -> Result<Meta> {
        let mut meta = match self.download.as_mut().map(|download| download.meta()) {
            Some(Ok(meta)) => meta,
            Some(Err(trouble)) if trouble.again == Again::Never => return Err(trouble.error),
            _ => {
                let found = self.inner.ask(|wire| wire.stat(&self.path))?;
                found.ok_or_else(|| StoreError::new(FaultKind::NotFound, "examine", &self.path))?
            }
        };
        if self.inner.is_noted(&meta)
            && let Some(note) = self.inner.notes.of(&self.path)
        {
            apply(&note, &mut meta);
        }
        Ok(meta)
    }
}

impl Store for Remote {
    fn name(&self) -> String {
        self.inner.wire.address()
    }

    fn capabilities(&self) -> &Capabilities {
        &self.inner.can
    }

    fn place(&self) -> Place {
        self.inner.wire.place()
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        let inner = &self.inner;
        if folder.parts().count() > DEEPEST {
            let words =
                format!("it lies more than {DEEPEST} folders deep: a folder may contain itself there");
            return Err(StoreError::new(FaultKind::BadAnswer, "list", folder).because(words));
        }
        inner.real_folder(folder, "list")?;
        let mut listing = inner.ask(|wire| wire.list(folder))?;
        if inner.wire.follows_links() {
            let folders = listing.entries.iter().filter(|entry| entry.meta.is_folder());
            folders.for_each(|entry| inner.saw_folder(folder.join(&entry.name)));
        }
        if inner.wire.needs_notes() {
            inner.complete(folder, &mut listing);
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        match self.inner.real_parent(path, "examine") {
            Ok(()) => self.inner.look(path),
            Err(error) if error.kind == FaultKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        self.inner.real_parent(path, "read")?;
        match self.inner.ask(|wire| wire.stat(path))?.map(|meta| meta.kind) {
            Some(EntryKind::File) => Ok(self.open_at(path, offset)),
            Some(EntryKind::Link) => Err(StoreError::new(FaultKind::LinkInPath, "read", path)),
            Some(_) => Err(StoreError::new(FaultKind::Unsupported, "read", path).because("it is no file")),
            None => Err(StoreError::new(FaultKind::NotFound, "read", path)),
        }
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.open_planned(path)
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.inner.real_parent(path, "read")?;
        Ok(self.open_at(path, 0))
    }

    fn stage(&self, path: &RelPath, mode: Option<u32>) -> Result<Box<dyn Stage>> {
        let temporary = beside(path, &format!("{:016x}", fastrand::u64(..)))?;
        self.inner.real_parent(path, "write")?;
        Ok(Box::new(RemoteStage::new(
            self.inner.clone(),
            path.clone(),
            temporary,
            Attributes { mode, ..Attributes::default() },
        )))
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        size: u64,
        hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        let temporary = beside(path, key)?;
        self.inner.real_parent(path, "write")?;
        let left = match self.inner.ask(|wire| wire.stat(&temporary))? {
            // Ours is closed to everybody else until it is whole; its name can be computed by anybody.
            Some(meta) if meta.kind == EntryKind::File && self.inner.may_be_ours(&meta) => Some(meta),
            Some(_) => return Err(StoreError::new(FaultKind::Exists, "write", &temporary)),
            None => None,
        };
        let stage = RemoteStage::new(self.inner.clone(), path.clone(), temporary, hint.clone());
        Ok(Box::new(stage.of_size(size, left)))
    }

    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed> {
        let inner = &self.inner;
        if !inner.can.links {
            return Err(StoreError::new(FaultKind::Unsupported, "make link", path));
        }
        inner.real_parent(path, "make link")?;
        let temporary = beside(path, &format!("{:016x}", fastrand::u64(..)))?;
        inner.patience.with(|again| match inner.wire.make_link(&temporary, target) {
            Err(trouble) if again && trouble.kind() == FaultKind::Exists => Ok(()),
            outcome => outcome,
        })?;
        if attributes.modified.is_some() && inner.can.link_times {
            inner.ask(|wire| wire.set_attributes(&temporary, attributes))?;
        }
        Ok(Sealed { target: path.clone(), temporary })
    }

    fn stage_special(&self, path: &RelPath, _from: &Meta, _attributes: &Attributes) -> Result<Sealed> {
        Err(StoreError::new(FaultKind::Unsupported, "make", path))
    }

    fn stage_second_name(&self, path: &RelPath, _existing: &RelPath) -> Result<Sealed> {
        Err(StoreError::new(FaultKind::Unsupported, "make", path))
    }

    fn sync(&self) -> Result<()> {
        // Each file is made durable by itself, when it is sealed.
        self.inner.keep_notes_now_and_then();
        Ok(())
    }

    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<Disarmed> {
        self.inner.publish(&sealed, how).inspect_err(|_| self.inner.clear(&sealed.temporary))?;
        if let (Some(keep_as), Expect::This(was)) = (&how.keep_as, &how.expect) {
            self.inner.disarm(keep_as, was);
        }
        Ok(None)
    }

    fn keep(&self, path: &RelPath, to: &RelPath, expected: &Meta) -> Result<Disarmed> {
        self.rename_this(path, to, expected)?;
        self.inner.disarm(to, expected);
        Ok(None)
    }

    fn rearm(&self, path: &RelPath, _expected: &Meta, _privileges: &Privileges) -> Result<bool> {
        Err(StoreError::new(FaultKind::Unsupported, "set time or mode of", path))
    }

    fn discard(&self, sealed: Sealed) {
        self.inner.clear(&sealed.temporary);
    }

    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let inner = &self.inner;
        inner.real_parent(path, "remove")?;
        let found = match inner.look(path)? {
            Some(found) if is_still(expected, &found) => found,
            Some(_) => return Err(StoreError::new(FaultKind::Changed, "remove", path)),
            None => return Err(StoreError::new(FaultKind::NotFound, "remove", path)),
        };
        inner.patience.with(|again| match inner.wire.remove(path, &found) {
            Err(trouble) if again && trouble.kind() == FaultKind::NotFound => Ok(()),
            outcome => outcome,
        })?;
        if inner.wire.needs_notes() {
            inner.note(path, None);
        }
        Ok(())
    }

    fn trash(&self, path: &RelPath, _expected: &Meta) -> Result<()> {
        Err(StoreError::new(FaultKind::Unsupported, "move to the trash", path))
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let inner = &self.inner;
        inner.real_parent(path, "remove")?;
        inner.is_no_folder_any_more(path);
        inner.patience.with(|again| match inner.wire.remove_folder(path) {
            Err(trouble) if again && trouble.kind() == FaultKind::NotFound => Ok(()),
            outcome => outcome,
        })
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        let inner = &self.inner;
        if !inner.can.rename {
            return Err(StoreError::new(FaultKind::Unsupported, "rename", from));
        }
        inner.real_parent(from, "rename")?;
        inner.real_parent(to, "rename")?;
        inner.is_no_folder_any_more(from);
        let noted = inner.noted(from)?;
        inner.rename(from, to, Over::Nothing)?;
        match noted {
            Noted::Folder(noted) => inner.carry_notes(from, to, noted),
            Noted::File(note) => inner.note_as(to, note),
        }
    }

    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<Meta> {
        let inner = &self.inner;
        inner.real_parent(path, "make folder")?;
        inner.make_folder(path, attributes.mode)?;
        inner.saw_folder(path.clone());
        Ok(Meta::bare(EntryKind::Folder))
    }

    fn set_attributes(&self, path: &RelPath, expected: &Meta, attributes: &Attributes) -> Result<()> {
        let inner = &self.inner;
        inner.real_parent(path, "adjust")?;
        // A folder at a server has no identity to look at.
        if expected.is_folder() && !inner.wire.needs_notes() {
            return inner.ask(|wire| wire.set_attributes(path, attributes));
        }
        let found = inner.look(path)?;
        let found = found.ok_or_else(|| StoreError::new(FaultKind::NotFound, "adjust", path))?;
        if !is_same(expected, &found) {
            return Err(StoreError::new(FaultKind::Changed, "adjust", path));
        }
        inner.ask(|wire| wire.set_attributes(path, attributes))?;
        if let Some(version) = found.version.as_ref().filter(|_| inner.is_noted(&found)) {
            let tag = match inner.wire.just_made(path) {
                Some(made) => inner.young(made),
                None => {
                    let before = inner.notes.of(path).filter(|note| is_of(note, &version.tag));
                    before.map_or_else(|| inner.young(version.tag.clone()), |note| note.tag)
                }
            };
            // What is not given stays as it was.
            let modified = attributes.modified.or(found.modified.filter(|_| !found.is_arrival()));
            inner.note_version(path, Note::new(&tag, modified, attributes.mode.or(found.mode)));
        }
        Ok(())
    }

    fn is_pseudo(&self, _folder: &RelPath) -> Result<bool> {
        Ok(false)
    }

    fn proved(&self, path: &RelPath, shown: &Meta) {
        self.inner.proved(path, shown);
    }

    fn space(&self) -> Result<Option<Space>> {
        self.inner.ask(|wire| wire.space())
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        lock::take(self.inner.clone())
    }
}

impl Remote {
    /// Writes a small file and removes it again; how many seconds the server's clock is ahead of ours, where that shows.
    ///
    /// # Errors
    /// When writing is not possible.
    pub fn try_writing(&self) -> Result<Option<i64>> {
        let inner = &self.inner;
        let path =
            beside(&RelPath::new(b"trial").unwrap_or_default(), &format!("{:016x}", fastrand::u64(..)))?;
        let before = jiff::Timestamp::now().as_second();
        inner.ask(|wire| {
            wire.put(&path, b"A trial of whether this can be written.\n", &Attributes::default())
        })?;
        let after = jiff::Timestamp::now().as_second();
        let found = inner.ask(|wire| wire.stat(&path));
        inner.clear(&path);
        let seen = found?.and_then(|meta| meta.modified).map(|modified| modified.seconds());
        Ok(seen.map(|seen| if seen < before { seen - before } else { (seen - after).max(0) }))
    }

    fn open_at(&self, path: &RelPath, offset: u64) -> Box<dyn Content> {
        let (inner, path) = (self.inner.clone(), path.clone());
        Box::new(RemoteContent { inner, path, at: offset, download: None, pace: Pace::default() })
    }
}
