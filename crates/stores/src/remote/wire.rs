//! What a protocol has to supply. Everything that all protocols share is built on it once, in [`super::Remote`].
//!
//! A wire does single requests and says of each failure whether trying again may help. It knows nothing of unfinished files, kept
//! copies, locks or patience.

use std::io::Read;
use std::time::Duration;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{
    Attributes, Capabilities, FaultKind, Folding, Limits, Listing, NameRule, Place, Space, StoreError,
};

use super::connect::ConnectError;

/// Whether trying the same again may help.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Again {
    /// No: the answer will be the same.
    Never,
    /// Yes, after a pause of our own choice.
    Soon,
    /// Yes, not before this time has passed: the server said so.
    After(Duration),
}

/// A request that failed.
#[derive(Debug)]
pub struct Trouble {
    /// What to tell.
    pub error: StoreError,
    /// Whether trying again may help.
    pub again: Again,
}

impl Trouble {
    /// A failure that will not pass.
    pub fn lasting(kind: FaultKind, action: &'static str, path: &RelPath) -> Trouble {
        Trouble { error: StoreError::new(kind, action, path), again: Again::Never }
    }

    /// There is no connection, and none could be made: what may pass is tried again, whatever else is wrong loses the store.
    pub(crate) fn unconnected(error: ConnectError, action: &'static str, path: &RelPath) -> Trouble {
        if error.may_pass() {
            Trouble::broke(action, path, error)
        } else {
            Trouble::lasting(FaultKind::Lost, action, path).because(error)
        }
    }

    /// A connection that broke.
    pub fn broke(
        action: &'static str,
        path: &RelPath,
        why: impl Into<Box<dyn std::error::Error + Send + Sync>>,
    ) -> Trouble {
        let error = StoreError::new(FaultKind::Interrupted, action, path).because(why);
        Trouble { error, again: Again::Soon }
    }

    /// The same with the error of the layer below.
    pub fn because(mut self, cause: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> Trouble {
        self.error = self.error.because(cause);
        self
    }

    /// The kind of the failure.
    pub fn kind(&self) -> FaultKind {
        self.error.kind
    }
}

impl From<StoreError> for Trouble {
    fn from(error: StoreError) -> Trouble {
        Trouble { error, again: Again::Never }
    }
}

/// What requests return.
pub type Answer<T> = Result<T, Trouble>;

/// What a rename may take the place of.
#[derive(Debug, Clone, Copy)]
pub enum Over<'a> {
    /// Nothing; [`FaultKind::Exists`] when something stands there.
    Nothing,
    /// Exactly this file or link, which was just seen there. Where the protocol has conditions, it is bound to the version.
    This(&'a Meta),
}

/// A file being read.
pub trait Download: Read + Send {
    /// The metadata of the file as it is now.
    fn meta(&mut self) -> Answer<Meta>;
}

/// A file being written.
pub trait Upload: Send {
    /// Takes bytes; they may still be underway when this returns.
    fn write(&mut self, data: &[u8]) -> Answer<()>;

    /// Waits until everything written so far is in the store, so that a later upload can go on behind it.
    fn flush(&mut self) -> Answer<()>;

    /// Completes the file with times and mode, durable where the protocol can ask for that.
    fn finish(self: Box<Self>, attributes: &Attributes) -> Answer<()>;
}

/// One protocol's requests. Paths are relative to the root that the wire was opened with.
pub trait Wire: Send + Sync {
    /// The address, without secrets.
    fn address(&self) -> String;

    /// Where it is.
    fn place(&self) -> Place;

    /// What the server can hold and do.
    fn capabilities(&self) -> Capabilities;

    /// Whether the server follows links on the way to a path, so that every folder has to be looked at first.
    fn follows_links(&self) -> bool {
        false
    }

    /// Whether the times that it shows are only those of arrival, and what was meant is to be noted down.
    fn needs_notes(&self) -> bool {
        false
    }

    /// Whether unfinished files are closed to everybody but the account, so that one that is not was put there by somebody else.
    fn closes_unfinished(&self) -> bool {
        false
    }

    /// The step in which the server's names of versions change: within one, other content of the same size has the same name. `None` where
    /// each version has a name of its own.
    fn step(&self) -> Option<Duration> {
        None
    }

    /// Whether metadata that is not in the notes can be asked for, file by file.
    fn describes(&self) -> bool {
        false
    }

    /// Time, mode and version of a file whose listing did not say them; see [`Wire::describes`].
    fn describe(&self, path: &RelPath) -> Answer<Option<Meta>> {
        self.stat(path)
    }

    /// The tag of the version that a rename has just put at a path, where the server said it; it is told once. One that ends in `;` is only
    /// the beginning of the tag that a listing will show.
    fn just_made(&self, _path: &RelPath) -> Option<String> {
        None
    }

    /// The entries of a folder.
    fn list(&self, folder: &RelPath) -> Answer<Listing>;

    /// What stands at a path; a link itself.
    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>>;

    /// Opens a file that is known to be a regular one.
    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>>;

    /// Begins a file where nothing stands; with `at`, goes on with an unfinished one behind its first bytes and drops what
    /// follows them. [`FaultKind::Unsupported`] when the protocol cannot go on. `size` is the whole length, where it is known, and
    /// `target` the path that the file is to have in the end; `hint` is what it will be finished with, as far as that is known.
    fn write(
        &self,
        path: &RelPath,
        target: &RelPath,
        hint: &Attributes,
        at: Option<u64>,
        size: Option<u64>,
    ) -> Answer<Box<dyn Upload>>;

    /// Writes a whole small file where nothing of value stands: an earlier attempt at the same is overwritten.
    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()>;

    /// Makes a link.
    fn make_link(&self, path: &RelPath, target: &[u8]) -> Answer<()>;

    /// Gives a file or link another path. [`FaultKind::Unsupported`] when the server cannot take another's place in one step:
    /// nothing has happened then.
    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()>;

    /// Gives a file a second path without taking it from the first, on the server: a second name or a copy.
    /// [`FaultKind::Unsupported`] where the server can do neither.
    fn duplicate(&self, from: &RelPath, to: &RelPath) -> Answer<()>;

    /// Removes a file or link, bound to the version that was seen where the protocol can.
    fn remove(&self, path: &RelPath, seen: &Meta) -> Answer<()>;

    /// Removes an empty folder; [`FaultKind::NotEmpty`] when it is not.
    fn remove_folder(&self, path: &RelPath) -> Answer<()>;

    /// Makes a folder, in one step that fails with [`FaultKind::Exists`] when something stands there.
    fn make_folder(&self, path: &RelPath, mode: Option<u32>) -> Answer<()>;

    /// Sets times and mode.
    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()>;

    /// Space in the store; `None` when it cannot be told.
    fn space(&self) -> Answer<Option<Space>>;

    /// What a person wants to know of the connection: a name and a value a line.
    fn facts(&self) -> Vec<(&'static str, String)>;
}

/// What a server can do as a rule, for so many workers; each protocol says where it differs.
pub(super) fn usual(workers: usize) -> Capabilities {
    Capabilities {
        names: NameRule::BYTES,
        remote: true,
        folder_times: false,
        time_precision: Some(Duration::from_secs(1)),
        link_times: false,
        modes: false,
        links: false,
        rename: true,
        folding: Folding::NONE,
        max_name: 255,
        full: false,
        owners: false,
        batch_sync: false,
        workers,
        holes: false,
        one_stream: false,
        limits: Limits::default(),
    }
}
