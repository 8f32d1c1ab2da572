//! A server as a store: one implementation for all protocols.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta, Privileges};
use reedhook_core::notes::{Note, Notes};
use reedhook_core::path::RelPath;
use reedhook_core::store::{
    Attributes, Capabilities, Content, Disarmed, Expect, FaultKind, Listing, Place, Publish, Result, Sealed,
    Space, Stage, Store, StoreError, StoreExt, is_same, is_still,
};

use crate::remote::connect::{Account, Address, ConnectError};
use crate::remote::described::{apply, is_of};
use crate::remote::ftp::Ftp;
use crate::remote::inner::{DEEPEST, Inner, Options, RemoteState, Room, beside};
use crate::remote::lock;
use crate::remote::noted::Noted;
use crate::remote::object::Objects;
use crate::remote::patience::Patience;
use crate::remote::sftp::Sftp;
use crate::remote::stage::RemoteStage;
use crate::remote::stop::Pace;
use crate::remote::webdav::WebDav;
use crate::remote::wire::{Again, Download, Over, Trouble, Wire};

/// A store behind a network.
pub struct Remote {
    pub(super) inner: Arc<Inner>,
}

impl Remote {
    /// A store of what a wire reaches. `notes` are those about this very place.
    pub(super) fn new(wire: Box<dyn Wire>, notes: Arc<dyn Notes>, patience: Patience) -> Remote {
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

    pub(super) fn dial(
        address: Address,
        account: Account,
        options: &Options,
    ) -> Result<Box<dyn Wire>, ConnectError> {
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

/// An opened file. The server is asked for content with the first read: who only wants to know what the file is, or goes on
/// elsewhere in it, sets nothing in motion. A connection that breaks is taken up again where it broke.
pub(super) struct RemoteContent {
    pub(super) inner: Arc<Inner>,
    pub(super) path: RelPath,
    pub(super) at: u64,
    pub(super) download: Option<Box<dyn Download>>,
    pub(super) pace: Pace,
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
    pub(super) fn read_anew(&mut self, buffer: &mut [u8]) -> Result<usize> {
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

pub(super) fn is_interrupted(error: &io::Error) -> bool {
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

    pub(super) fn open_at(&self, path: &RelPath, offset: u64) -> Box<dyn Content> {
        let (inner, path) = (self.inner.clone(), path.clone());
        Box::new(RemoteContent { inner, path, at: offset, download: None, pace: Pace::default() })
    }
}
