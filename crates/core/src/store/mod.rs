//! The one interface between Reedhook and the places that hold files.
//!
//! A store is blocking and shared between threads; how many threads use it is the engine's choice, guided by
//! [`Capabilities::workers`]. The trait holds primitives only. What can be built from them stands in [`StoreExt`].
//!
//! **Writing is staged.** New content goes to an unfinished file beside its target ([`Store::stage`]), gets its times
//! and mode ([`Stage::seal`]), is made durable together with others ([`Store::sync`]) and only then takes the target's
//! place ([`Store::publish`]). So a path holds a whole old file, a whole new one, or nothing, even when the power fails:
//! no name ever points at content that is not yet on the medium. Each step that changes what exists says what it expects
//! to find, and fails with [`FaultKind::Changed`] when it finds something else.
//!
//! **Paths** are relative to the store's root and are already checked ([`RelPath`]). No operation follows a symbolic
//! link, neither as the last part of a path nor on the way to it.

pub(crate) mod capabilities;
pub(crate) mod error;

pub use crate::names::{Folding, NameRule};
pub use crate::store::capabilities::{Capabilities, Limits, Place, Space};
pub use crate::store::error::{CopyError, FaultKind, Result, StoreError};

use std::fs::File;
use std::io::Read;
use std::sync::Arc;

use crate::entry::{Entry, Extra, Meta, Privileges, Stamp};
use crate::path::{Name, RelPath};

/// An entry that is known by name only, because it could not be examined.
#[derive(Debug)]
pub struct Unknown {
    /// Its name; `None` when even that is not acceptable (a hostile server) or the listing broke off here.
    pub name: Option<Name>,
    /// Why.
    pub error: StoreError,
}

/// The entries of one folder, in no particular order.
///
/// While `unknown` is not empty the folder must not be taken as fully known: what is missing from `entries` may exist.
#[derive(Debug, Default)]
pub struct Listing {
    /// What was examined.
    pub entries: Vec<Entry>,
    /// What was not.
    pub unknown: Vec<Unknown>,
}

/// The metadata to give to something; `None` leaves it as the store makes it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Attributes {
    /// The modification time.
    pub modified: Option<Stamp>,
    /// The twelve POSIX mode bits.
    pub mode: Option<u32>,
    /// Owners and extended attributes, for a store with [`Capabilities::full`].
    pub extra: Option<Arc<Extra>>,
}

/// What stands at a path when something is to take its place.
#[derive(Debug, Clone)]
pub enum Expect {
    /// Nothing.
    Absent,
    /// A file or link with exactly this kind, size, time and target.
    This(Meta),
}

/// How a sealed file takes its place.
#[derive(Debug, Clone)]
pub struct Publish {
    /// What the target path must hold now.
    pub expect: Expect,
    /// Where what is replaced goes; its folder exists. `None` lets it go.
    pub keep_as: Option<RelPath>,
}

/// What was taken from a kept copy, if anything.
pub type Disarmed = Option<Box<Privileges>>;

/// A complete unfinished file: content, times and mode are set; only its place is missing.
///
/// It must go to [`Store::publish`] or [`Store::discard`]; otherwise it remains as a leftover that the next run clears.
#[must_use = "a sealed file is a leftover until it is published or discarded"]
#[derive(Debug)]
pub struct Sealed {
    /// The path it is meant for.
    pub target: RelPath,
    /// Where it is now.
    pub temporary: RelPath,
}

/// Whether copying goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// Yes.
    Go,
    /// No: the run is being stopped.
    Stop,
}

/// An opened file of a store, read from the offset it was opened at.
pub trait Content: Read + Send {
    /// The metadata of the opened file as it is now, also when its name has since been taken by another.
    ///
    /// # Errors
    /// When the store fails.
    fn meta(&mut self) -> Result<Meta>;

    /// The file behind it where there is one on this machine, so that the kernel can copy without us.
    fn as_file(&self) -> Option<&File> {
        None
    }

    /// Passes over a hole that begins at the current position, and tells its length; 0 where there is none, or none is known
    /// of. Reading a hole instead gives zeros.
    ///
    /// # Errors
    /// When the store fails.
    fn skip_hole(&mut self) -> std::io::Result<u64> {
        Ok(0)
    }
}

/// A file being written under a temporary name. Dropping it removes what was written.
pub trait Stage: Send {
    /// Appends bytes.
    ///
    /// # Errors
    /// When the store fails.
    fn write(&mut self, data: &[u8]) -> Result<()>;

    /// Takes everything that follows in `content`, in the quickest way the two have, and returns the number of bytes.
    ///
    /// `size_hint` is the expected number of bytes. `progress` hears of each piece and may stop the copy.
    ///
    /// # Errors
    /// [`CopyError`] tells which side failed.
    fn fill(
        &mut self,
        content: &mut dyn Content,
        size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError>;

    /// Keeps of what an earlier run left as much as equals the beginning of `content`, byte for byte, and returns its
    /// length; both are then positioned after it. 0 for a fresh file.
    ///
    /// # Errors
    /// [`CopyError`] tells which side failed.
    fn adopt(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError>;

    /// Goes on behind the first `offset` bytes of what an earlier run left, dropping what follows them; `false` when there is
    /// not so much, or the store cannot go on. The caller knows that those bytes are right.
    ///
    /// # Errors
    /// When the store fails.
    fn go_on_at(&mut self, offset: u64) -> Result<bool>;

    /// Waits until everything written so far is durable, so that a later run can go on behind it.
    ///
    /// # Errors
    /// When the store fails.
    fn flush(&mut self) -> Result<()>;

    /// Closes the file as it is, for a later run to go on with; a file that cannot be resumed is removed.
    fn set_aside(self: Box<Self>);

    /// Sets times and mode and closes the file.
    ///
    /// # Errors
    /// When the store fails; what was written is removed.
    fn seal(self: Box<Self>, attributes: &Attributes) -> Result<Sealed>;
}

/// A place that holds files.
pub trait Store: Send + Sync {
    /// How a person would name it: a path or an address, without secrets.
    fn name(&self) -> String;

    /// What it can hold and do; constant while it is open.
    fn capabilities(&self) -> &Capabilities;

    /// Where it is.
    fn place(&self) -> Place;

    /// The entries of a folder, each once; `.` and `..` never.
    ///
    /// # Errors
    /// When the folder is missing, is no folder, or cannot be opened. What fails for single entries is in the listing.
    fn list(&self, folder: &RelPath) -> Result<Listing>;

    /// What stands at a path; `None` when nothing does. A link is described itself.
    ///
    /// # Errors
    /// When the store fails, or a part of the way is a link or a file.
    fn stat(&self, path: &RelPath) -> Result<Option<Meta>>;

    /// Opens a file for reading from `offset`.
    ///
    /// # Errors
    /// When it is missing, unreadable or no regular file. A pipe is never waited on.
    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>>;

    /// Opens a file so that what is read comes from the medium and not from memory, where the system allows it.
    ///
    /// # Errors
    /// As [`Store::open_planned`].
    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>>;

    /// Opens a file that a listing has just shown to be a regular one. The look at it may be left to the first
    /// [`Content::meta`], which the caller asks before it uses what it read.
    ///
    /// # Errors
    /// As [`Store::open`], here or from [`Content::meta`].
    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.open(path, 0)
    }

    /// Begins a file that is to stand at `path`; its folder exists. `mode` is what it will be sealed with, as far as that
    /// is known: a store may make the file with it and save a step.
    ///
    /// # Errors
    /// When the store fails.
    fn stage(&self, path: &RelPath, mode: Option<u32>) -> Result<Box<dyn Stage>>;

    /// Begins or goes on with a large file that is to stand at `path`. Its unfinished file is named after `key`
    /// (see [`crate::path::part_name`]), so that what an interrupted run left can be found and, after
    /// [`Stage::adopt`] has proved it, used. `size` is the length that it is to have in the end,
    /// `hint` what it will be sealed with.
    ///
    /// # Errors
    /// As [`Store::stage`].
    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        size: u64,
        hint: &Attributes,
    ) -> Result<Box<dyn Stage>>;

    /// Makes a link under a temporary name, with its time.
    ///
    /// # Errors
    /// When the store fails, or [`FaultKind::Unsupported`] without [`Capabilities::links`].
    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed>;

    /// Makes a pipe or device under a temporary name.
    ///
    /// # Errors
    /// When the store fails or the account may not, or [`FaultKind::Unsupported`] without [`Capabilities::full`].
    fn stage_special(&self, path: &RelPath, from: &Meta, attributes: &Attributes) -> Result<Sealed>;

    /// Makes a second name for the file at `existing`, under a temporary name beside `path`.
    ///
    /// # Errors
    /// When the store fails, or [`FaultKind::Unsupported`] without [`Capabilities::full`].
    fn stage_second_name(&self, path: &RelPath, existing: &RelPath) -> Result<Sealed>;

    /// Makes everything that was sealed, published, removed or renamed until now durable.
    ///
    /// # Errors
    /// When the store fails; then none of it may be taken as durable.
    fn sync(&self) -> Result<()>;

    /// Puts a sealed file in its place in one step, after setting aside what stands there.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when the target is not as expected. On every error the sealed file is removed and the
    /// target is whole, or set aside whole.
    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<Disarmed>;

    /// Moves a file or link to the kept copies, where nothing stands; the new folder exists. A kept copy is to be looked at, not
    /// run: it loses setuid, setgid and capabilities.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is not `expected`, [`FaultKind::NotFound`] when nothing stands there.
    fn keep(&self, path: &RelPath, to: &RelPath, expected: &Meta) -> Result<Disarmed>;

    /// Gives back what was taken from a kept copy, to a file of the owner and group that it was taken from. `false`: the file belongs to
    /// others now, and gets nothing.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is not `expected`; [`FaultKind::Unsupported`] where there is no such thing.
    fn rearm(&self, path: &RelPath, expected: &Meta, privileges: &Privileges) -> Result<bool>;

    /// Removes a sealed file that is not wanted after all; a failure leaves a leftover for the next run.
    fn discard(&self, sealed: Sealed);

    /// Removes a file or link for good.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is not `expected`.
    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()>;

    /// Moves a file or link to the desktop's trash.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is not `expected`; [`FaultKind::Unsupported`] where there is no trash.
    fn trash(&self, path: &RelPath, expected: &Meta) -> Result<()>;

    /// Removes an empty folder.
    ///
    /// # Errors
    /// [`FaultKind::NotEmpty`] when it is not empty.
    fn remove_folder(&self, path: &RelPath) -> Result<()>;

    /// Moves a file, link or folder to a path where nothing stands; the new folder exists.
    ///
    /// # Errors
    /// [`FaultKind::Exists`] when something stands there; [`FaultKind::Unsupported`] without [`Capabilities::rename`].
    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()>;

    /// Makes a folder; its parent exists. Returns what was made, by which it is recognised later.
    ///
    /// # Errors
    /// [`FaultKind::Exists`] when something stands there.
    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<Meta>;

    /// Sets times and mode of what stands at a path; of a link itself, where the store can. `expected` is what has to stand
    /// there: a new time must not make an edit look like what was there before it, and a name that somebody gave to another thing
    /// meanwhile must not lead to that. Of a folder only its identity counts, since all work in it changes its time.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is not `expected`, [`FaultKind::NotFound`] when nothing stands there.
    fn set_attributes(&self, path: &RelPath, expected: &Meta, attributes: &Attributes) -> Result<()>;

    /// Whether a folder is on a file system that the kernel makes up, such as `/proc`.
    ///
    /// # Errors
    /// When the store fails.
    fn is_pseudo(&self, folder: &RelPath) -> Result<bool>;

    /// When anything of a file was last written, by the clock of the kernel (`st_ctim`, POSIX): no program can put that back as it can
    /// put back the modification time. `None` when the store does not tell.
    ///
    /// # Errors
    /// When the store fails.
    fn touched(&self, _path: &RelPath) -> Result<Option<Stamp>> {
        Ok(None)
    }

    /// How many bytes of a file are written out, without its holes; `None` when it cannot be told.
    ///
    /// # Errors
    /// When the store fails.
    fn data_bytes(&self, _path: &RelPath) -> Result<Option<u64>> {
        Ok(None)
    }

    /// Hears that a file which it showed like this was read, and holds what was expected: what it shows may be trusted from now on.
    fn proved(&self, _path: &RelPath, _shown: &Meta) {}

    /// Space on the medium; `None` when it cannot be told.
    ///
    /// # Errors
    /// When the store fails.
    fn space(&self) -> Result<Option<Space>>;

    /// Reserves the store for one run until the value is dropped, also when the process dies.
    ///
    /// # Errors
    /// [`FaultKind::InUse`] when another run has it.
    fn lock(&self) -> Result<Box<dyn Send + Sync>>;
}

/// What every store can do with its primitives.
pub trait StoreExt: Store {
    /// Makes a folder and the missing ones above it.
    ///
    /// # Errors
    /// When the store fails or something that is no folder stands in the way.
    fn make_folders(&self, path: &RelPath) -> Result<()> {
        let mut missing = Vec::new();
        let mut at = Some(path.clone());
        while let Some(path) = at {
            match self.stat(&path) {
                Ok(Some(meta)) if meta.is_folder() => break,
                Ok(Some(_)) => return Err(StoreError::new(FaultKind::Exists, "make folder", &path)),
                Ok(None) => {}
                // A missing parent may be reported as an error of the way to the path.
                Err(error) if error.kind == FaultKind::NotFound => {}
                Err(error) => return Err(error),
            }
            at = path.parent();
            missing.push(path);
        }
        missing.iter().rev().try_for_each(|path| match self.make_folder(path, &Attributes::default()) {
            Err(error) if error.kind == FaultKind::Exists => Ok(()),
            made => made.map(drop),
        })
    }

    /// Reads a whole small file; `None` when there is none.
    ///
    /// # Errors
    /// When the store fails, or the file is larger than `limit` bytes.
    fn read_small(&self, path: &RelPath, limit: u64) -> Result<Option<Vec<u8>>> {
        let content = match self.open(path, 0) {
            Ok(content) => content,
            Err(error) if error.kind == FaultKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        let mut bytes = Vec::new();
        content.take(limit + 1).read_to_end(&mut bytes).map_err(|cause| StoreError::of_read(cause, path))?;
        if bytes.len() as u64 > limit {
            return Err(
                StoreError::new(FaultKind::Io, "read", path).because("the file is larger than expected")
            );
        }
        Ok(Some(bytes))
    }

    /// Renames a file or link that has to be `expected`. Between a look and a rename somebody may save; so what was moved is
    /// looked at again, and goes back when it is something else.
    ///
    /// # Errors
    /// [`FaultKind::Changed`] when it is something else, [`FaultKind::NotFound`] when nothing stands there.
    fn rename_this(&self, from: &RelPath, to: &RelPath, expected: &Meta) -> Result<()> {
        let changed = || StoreError::new(FaultKind::Changed, "rename", from);
        match self.stat(from)? {
            Some(found) if is_still(expected, &found) => {}
            Some(_) => return Err(changed()),
            None => return Err(StoreError::new(FaultKind::NotFound, "rename", from)),
        }
        self.rename(from, to)?;
        if self.capabilities().remote {
            // A server may call the same version otherwise under another name; what it offers instead is in its `rename`.
            return Ok(());
        }
        match self.stat(to) {
            Ok(Some(moved)) if is_still(expected, &moved) => Ok(()),
            // Whoever saved here did not mean it to go. Should the name be in use again, both are still there.
            Ok(Some(_)) => self.rename(to, from).and_then(|()| Err(changed())),
            Ok(None) => Err(changed()),
            Err(error) => Err(error),
        }
    }

    /// Writes a whole small file, in the place of what stands there.
    ///
    /// # Errors
    /// When the store fails.
    fn replace_small(&self, path: &RelPath, bytes: &[u8]) -> Result<()> {
        let expect = self.stat(path)?.map_or(Expect::Absent, Expect::This);
        let mut stage = self.stage(path, None)?;
        stage.write(bytes)?;
        let sealed = stage.seal(&Attributes::default())?;
        self.sync()?;
        self.publish(sealed, &Publish { expect, keep_as: None }).map(drop)
    }

    /// Writes a whole small file where nothing stands.
    ///
    /// # Errors
    /// When the store fails or something stands there.
    fn write_small(&self, path: &RelPath, bytes: &[u8]) -> Result<()> {
        let mut stage = self.stage(path, None)?;
        stage.write(bytes)?;
        let sealed = stage.seal(&Attributes::default())?;
        self.sync()?;
        self.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).map(drop)
    }
}

impl<S: Store + ?Sized> StoreExt for S {}

/// Whether what stands at a path is still what the plan saw: the same kind, size, time and link target, and the same version
/// where the store names versions.
pub fn is_still(expected: &Meta, found: &Meta) -> bool {
    let versions = expected.version.as_ref().zip(found.version.as_ref());
    // Of one of them it was not known yet what time that version is meant to have.
    let told_since = versions.is_some_and(|(expected, found)| expected.arrival != found.arrival);
    versions.is_none_or(|(expected, found)| expected.tag == found.tag)
        && expected.kind == found.kind
        && expected.size == found.size
        && (told_since || expected.modified == found.modified)
        && expected.target == found.target
}

/// Whether what stands at a path is the thing that was seen there: a folder by its identity, as far as it is known, anything else as
/// in [`is_still`].
pub fn is_same(expected: &Meta, found: &Meta) -> bool {
    if !expected.is_folder() {
        return is_still(expected, found);
    }
    found.is_folder() && expected.id.zip(found.id).is_none_or(|(expected, found)| expected == found)
}

/// The methods of a [`Store`] that is only read from: whatever would change something is [`FaultKind::Unsupported`].
#[macro_export]
macro_rules! nothing_is_written {
    () => {
        fn stage(&self, path: &RelPath, _: Option<u32>) -> Result<Box<dyn Stage>> {
            Err(StoreError::new(FaultKind::Unsupported, "write", path))
        }

        fn stage_resumable(&self, path: &RelPath, _: &str, _: u64, _: &Attributes) -> Result<Box<dyn Stage>> {
            Err(StoreError::new(FaultKind::Unsupported, "write", path))
        }

        fn stage_link(&self, path: &RelPath, _: &[u8], _: &Attributes) -> Result<Sealed> {
            Err(StoreError::new(FaultKind::Unsupported, "make link", path))
        }

        fn stage_special(&self, path: &RelPath, _: &Meta, _: &Attributes) -> Result<Sealed> {
            Err(StoreError::new(FaultKind::Unsupported, "make special file", path))
        }

        fn stage_second_name(&self, path: &RelPath, _: &RelPath) -> Result<Sealed> {
            Err(StoreError::new(FaultKind::Unsupported, "make second name", path))
        }

        fn sync(&self) -> Result<()> {
            Ok(())
        }

        fn publish(&self, sealed: Sealed, _: &Publish) -> Result<$crate::store::Disarmed> {
            Err(StoreError::new(FaultKind::Unsupported, "write", &sealed.target))
        }

        fn keep(&self, path: &RelPath, _: &RelPath, _: &Meta) -> Result<$crate::store::Disarmed> {
            Err(StoreError::new(FaultKind::Unsupported, "keep", path))
        }

        fn rearm(&self, path: &RelPath, _: &Meta, _: &$crate::entry::Privileges) -> Result<bool> {
            Err(StoreError::new(FaultKind::Unsupported, "set time or mode of", path))
        }

        fn discard(&self, _: Sealed) {}

        fn remove(&self, path: &RelPath, _: &Meta) -> Result<()> {
            Err(StoreError::new(FaultKind::Unsupported, "remove", path))
        }

        fn trash(&self, path: &RelPath, _: &Meta) -> Result<()> {
            Err(StoreError::new(FaultKind::Unsupported, "move to the trash", path))
        }

        fn remove_folder(&self, path: &RelPath) -> Result<()> {
            Err(StoreError::new(FaultKind::Unsupported, "remove folder", path))
        }

        fn rename(&self, from: &RelPath, _: &RelPath) -> Result<()> {
            Err(StoreError::new(FaultKind::Unsupported, "rename", from))
        }

        fn make_folder(&self, path: &RelPath, _: &Attributes) -> Result<Meta> {
            Err(StoreError::new(FaultKind::Unsupported, "make folder", path))
        }

        fn set_attributes(&self, path: &RelPath, _: &Meta, _: &Attributes) -> Result<()> {
            Err(StoreError::new(FaultKind::Unsupported, "set time or mode of", path))
        }

        fn space(&self) -> Result<Option<Space>> {
            Ok(None)
        }

        fn lock(&self) -> Result<Box<dyn Send + Sync>> {
            Err(StoreError::new(FaultKind::Unsupported, "lock", &RelPath::root()))
        }
    };
}
