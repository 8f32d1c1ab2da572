//! Folders and drives of this machine.
//!
//! The store holds its root folder open, and every path is resolved from there by the kernel, which is told not to follow
//! links and not to leave the root. So a link that somebody plants at the destination, even during a run, is never
//! written through. Folders in use are kept open in a small cache: a file then costs only calls relative to its folder.
//!
//! What differs between operating systems is in [`sys`]; here are the steps that are the same everywhere.

#[cfg(target_os = "linux")]
#[path = "linux.rs"]
mod sys;

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use reedhook_core::entry::Meta;
use reedhook_core::path::{Name, RESERVED_NAME, RelPath, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, Content, CopyError, Expect, FaultKind, Flow, Listing, Place, Publish, Result,
    Sealed, Space, Stage, Store, StoreError, is_still,
};

use sys::Folder;

/// Open folders that are kept for the next call.
const OPEN_FOLDERS: usize = 128;

/// Files up to this size are copied through memory: cheaper than asking the kernel about holes and clones.
const SMALL: u64 = 64 << 10;

/// A stretch of zeros this long is left as a hole.
const STRETCH: usize = 64 << 10;

/// Bytes per piece of a larger copy: large enough to be quick, small enough to show progress and to stop soon.
const PIECE: usize = 8 << 20;

/// A folder of this machine as a store.
pub struct LocalStore {
    root: Arc<Folder>,
    path: PathBuf,
    place: PathBuf,
    capabilities: Capabilities,
    open: Mutex<HashMap<RelPath, Arc<Folder>>>,
    next_part: AtomicU64,
}

impl LocalStore {
    /// Opens a folder, which exists. Links on the way to it are followed; links in it never are.
    ///
    /// # Errors
    /// When it is missing, no folder, or not readable.
    pub fn open(path: &Path) -> Result<LocalStore> {
        LocalStore::open_looking_at(path, false)
    }

    /// Opens a folder to look at and keep owners, extended attributes, second names, devices and pipes too. Owners, devices
    /// and some attributes need root.
    ///
    /// # Errors
    /// As [`LocalStore::open`].
    pub fn open_full(path: &Path) -> Result<LocalStore> {
        LocalStore::open_looking_at(path, true)
    }

    fn open_looking_at(path: &Path, full: bool) -> Result<LocalStore> {
        let failed = |error: io::Error| fault("open", &RelPath::root(), error);
        let root = Folder::open_root(path, full).map_err(failed)?;
        let place = path.canonicalize().map_err(failed)?;
        let capabilities = root.capabilities().map_err(failed)?;
        Ok(LocalStore {
            root: Arc::new(root),
            path: path.to_path_buf(),
            place,
            capabilities,
            open: Mutex::default(),
            next_part: AtomicU64::new(seed()),
        })
    }

    /// The open folder for a path, from the cache or opened now.
    fn folder(&self, path: &RelPath, action: &'static str) -> Result<Arc<Folder>> {
        if path.is_root() {
            return Ok(self.root.clone());
        }
        if let Some(folder) = self.cache().get(path) {
            return Ok(folder.clone());
        }
        let folder = Arc::new(self.root.open_below(path).map_err(|error| fault(action, path, error))?);
        let mut cache = self.cache();
        if cache.len() >= OPEN_FOLDERS {
            cache.clear();
        }
        cache.insert(path.clone(), folder.clone());
        Ok(folder)
    }

    fn cache(&self) -> std::sync::MutexGuard<'_, HashMap<RelPath, Arc<Folder>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Forgets open folders at or below a path that is about to move or go.
    fn forget(&self, path: &RelPath) {
        self.cache().retain(|open, _| !open.is_within(path));
    }

    /// The open folder that holds a path, and the path's name in it. The root has none.
    fn parent(&self, path: &RelPath, action: &'static str) -> Result<(Arc<Folder>, Name)> {
        let (parent, name) =
            path.split().ok_or_else(|| StoreError::new(FaultKind::Unsupported, action, path))?;
        let folder = self.folder(&parent, action).map_err(|mut error| {
            error.path = path.clone();
            error
        })?;
        Ok((folder, name))
    }

    fn part_name(&self) -> Vec<u8> {
        let number = self.next_part.fetch_add(1, Ordering::Relaxed);
        part_name(&format!("{number:016x}"))
    }

    /// Fails unless the entry is what the plan saw.
    fn check(
        &self,
        folder: &Folder,
        name: &Name,
        expected: &Meta,
        action: &'static str,
        path: &RelPath,
    ) -> Result<()> {
        match folder.stat(name.as_bytes()).map_err(|error| fault(action, path, error))? {
            Some(found) if is_still(expected, &found) => Ok(()),
            _ => Err(StoreError::new(FaultKind::Changed, action, path)),
        }
    }

    fn put_in_place(&self, sealed: &Sealed, how: &Publish) -> Result<()> {
        let path = &sealed.target;
        let (folder, name) = self.parent(path, "write")?;
        let temporary = sealed.temporary.file_name().unwrap_or_default();
        let failed = |error| fault("write", path, error);
        match &how.expect {
            Expect::Absent => folder.rename_new(temporary, &folder, name.as_bytes()).map_err(|error| {
                let error = failed(error);
                if error.kind == FaultKind::Exists {
                    StoreError { kind: FaultKind::Changed, ..error }
                } else {
                    error
                }
            }),
            Expect::This(was) => {
                self.check(&folder, &name, was, "write", path)?;
                if let Some(keep_as) = &how.keep_as {
                    let (kept_folder, kept_name) = self.parent(keep_as, "keep")?;
                    // A second name for the old file, so that its path never holds nothing; where the file system has no
                    // second names, the old file moves.
                    let kept = folder
                        .link(name.as_bytes(), &kept_folder, kept_name.as_bytes())
                        .or_else(|_| folder.rename_new(name.as_bytes(), &kept_folder, kept_name.as_bytes()));
                    kept.map_err(|error| fault("keep", path, error))?;
                }
                folder.rename_over(temporary, name.as_bytes()).map_err(failed)
            }
        }
    }
}

/// A start for temporary names that another process is unlikely to share; a clash would only be refused by the kernel.
fn seed() -> u64 {
    use std::hash::{BuildHasher, Hasher};
    std::collections::hash_map::RandomState::new().build_hasher().finish()
}

/// An error of the operating system as a fault.
fn fault(action: &'static str, path: &RelPath, error: io::Error) -> StoreError {
    match error.downcast::<StoreError>() {
        // The source was another store: what it has to say says more.
        Ok(own) => own,
        Err(error) => StoreError::new(sys::fault_kind(&error), action, path).because(error),
    }
}

impl Store for LocalStore {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Local(self.place.clone())
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        // Not from the cache: reading a folder moves the position of the open file that it is read through.
        let open = self.root.open_below(folder).map_err(|error| fault("list", folder, error))?;
        open.list(folder)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        if path.is_root() {
            return self.root.stat_self().map(Some).map_err(|error| fault("examine", path, error));
        }
        let (folder, name) = match self.parent(path, "examine") {
            Ok(found) => found,
            Err(error) if error.kind == FaultKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        folder.stat(name.as_bytes()).map_err(|error| fault("examine", path, error))
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        let (folder, name) = self.parent(path, "read")?;
        let failed = |error| fault("read", path, error);
        let mut file = folder.open_file(name.as_bytes()).map_err(failed)?;
        if offset > 0 {
            file.seek(SeekFrom::Start(offset)).map_err(failed)?;
        }
        // Asked at once, so that only files are accepted, and handed out with the first question.
        let meta = sys::stat_file(&file).map_err(failed)?;
        Ok(Box::new(LocalContent { file, path: path.clone(), fresh: Some(meta) }))
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let content = self.open_planned(path)?;
        if let Some(file) = content.as_file() {
            sys::forget_cached(file);
        }
        Ok(content)
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let (folder, name) = self.parent(path, "read")?;
        let file = folder.open_file(name.as_bytes()).map_err(|error| fault("read", path, error))?;
        Ok(Box::new(LocalContent { file, path: path.clone(), fresh: None }))
    }

    fn stage(&self, path: &RelPath, mode: Option<u32>) -> Result<Box<dyn Stage>> {
        let (folder, _) = self.parent(path, "write")?;
        let part = self.part_name();
        let made_with = mode.filter(|mode| folder.makes_exactly(*mode));
        let file = folder.create_file(&part, made_with).map_err(|error| fault("write", path, error))?;
        Ok(Box::new(LocalStage { folder, part, file: Some(file), target: path.clone(), at: 0, made_with }))
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        _size: u64,
        _hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        let (folder, _) = self.parent(path, "write")?;
        let part = part_name(key);
        let file = folder.open_part(&part).map_err(|error| fault("write", path, error))?;
        Ok(Box::new(LocalStage {
            folder,
            part,
            file: Some(file),
            target: path.clone(),
            at: 0,
            made_with: None,
        }))
    }

    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed> {
        if !self.capabilities.links {
            return Err(StoreError::new(FaultKind::Unsupported, "make link", path));
        }
        let (folder, _) = self.parent(path, "make link")?;
        let part = self.part_name();
        let failed = |error| fault("make link", path, error);
        folder.make_link(target, &part).map_err(failed)?;
        folder.set_all(&part, &Attributes { mode: None, ..attributes.clone() }).map_err(failed)?;
        Ok(sealed(path, &part))
    }

    fn stage_special(&self, path: &RelPath, from: &Meta, attributes: &Attributes) -> Result<Sealed> {
        let (folder, _) = self.parent(path, "make special file")?;
        let part = self.part_name();
        let failed = |error| fault("make special file", path, error);
        folder.make_special(&part, from).map_err(failed)?;
        folder.set_all(&part, attributes).map_err(failed)?;
        Ok(sealed(path, &part))
    }

    fn stage_second_name(&self, path: &RelPath, existing: &RelPath) -> Result<Sealed> {
        let (folder, _) = self.parent(path, "make second name")?;
        let (existing_folder, name) = self.parent(existing, "make second name")?;
        let part = self.part_name();
        let linked = existing_folder.link(name.as_bytes(), &folder, &part);
        linked.map_err(|error| fault("make second name", path, error))?;
        Ok(sealed(path, &part))
    }

    fn sync(&self) -> Result<()> {
        self.root.sync_file_system().map_err(|error| fault("make durable", &RelPath::root(), error))
    }

    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<()> {
        let outcome = self.put_in_place(&sealed, how);
        if outcome.is_err() {
            self.discard(sealed);
        }
        outcome
    }

    fn discard(&self, sealed: Sealed) {
        if let Ok((folder, part)) = self.parent(&sealed.temporary, "remove") {
            // A leftover is recognised by its name and cleared by the next run.
            let _ = folder.unlink(part.as_bytes());
        }
    }

    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let (folder, name) = self.parent(path, "remove")?;
        self.check(&folder, &name, expected, "remove", path)?;
        folder.unlink(name.as_bytes()).map_err(|error| fault("remove", path, error))
    }

    fn trash(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let (folder, name) = self.parent(path, "move to the trash")?;
        self.check(&folder, &name, expected, "move to the trash", path)?;
        // The trash crate works with paths; the check above makes sure that no link leads elsewhere at this moment.
        let full = self.place.join(sys::os_path(path));
        trash::delete(&full).map_err(|error| {
            StoreError::new(FaultKind::Io, "move to the trash", path).because(error.to_string())
        })
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.forget(path);
        let (folder, name) = self.parent(path, "remove folder")?;
        folder.remove_folder(name.as_bytes()).map_err(|error| {
            let error = fault("remove folder", path, error);
            // POSIX lets a full folder be reported in either way.
            if error.kind == FaultKind::Exists {
                StoreError { kind: FaultKind::NotEmpty, ..error }
            } else {
                error
            }
        })
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.forget(from);
        let (old_folder, old) = self.parent(from, "rename")?;
        let (new_folder, new) = self.parent(to, "rename")?;
        old_folder
            .rename_new(old.as_bytes(), &new_folder, new.as_bytes())
            .map_err(|error| fault("rename", from, error))
    }

    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        let (folder, name) = self.parent(path, "make folder")?;
        folder
            .make_folder(name.as_bytes(), attributes.mode)
            .map_err(|error| fault("make folder", path, error))
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        let failed = |error| fault("set time or mode of", path, error);
        if path.is_root() {
            return self.root.set_self(attributes).map_err(failed);
        }
        let (folder, name) = self.parent(path, "set time or mode of")?;
        folder.set_all(name.as_bytes(), attributes).map_err(failed)
    }

    fn is_pseudo(&self, folder: &RelPath) -> Result<bool> {
        let open = self.root.open_below(folder).map_err(|error| fault("examine", folder, error))?;
        open.is_pseudo().map_err(|error| fault("examine", folder, error))
    }

    fn space(&self) -> Result<Option<Space>> {
        self.root.space().map(Some).map_err(|error| fault("examine", &RelPath::root(), error))
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        let own = Name::new(RESERVED_NAME).map(|name| RelPath::from(&name)).unwrap_or_default();
        match self.make_folder(&own, &Attributes::default()) {
            Err(error) if error.kind != FaultKind::Exists => return Err(error),
            _ => {}
        }
        let folder = self.folder(&own, "lock")?;
        let file = folder.open_or_create(b"lock").map_err(|error| fault("lock", &own, error))?;
        // The kernel lets go of the lock when the process ends, however it ends: a stale lock cannot exist.
        file.try_lock().map_err(|error| match error {
            std::fs::TryLockError::WouldBlock => StoreError::new(FaultKind::InUse, "lock", &RelPath::root()),
            std::fs::TryLockError::Error(error) => fault("lock", &own, error),
        })?;
        Ok(Box::new(file))
    }
}

fn sealed(target: &RelPath, part: &[u8]) -> Sealed {
    let part = Name::new(part).map(|name| target.parent().unwrap_or_default().join(&name));
    Sealed { target: target.clone(), temporary: part.unwrap_or_default() }
}

struct LocalContent {
    file: File,
    path: RelPath,
    /// The metadata found when the file was opened, until it is asked for.
    fresh: Option<Meta>,
}

impl Read for LocalContent {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.file.read(buffer)
    }
}

impl Content for LocalContent {
    fn meta(&mut self) -> Result<Meta> {
        match self.fresh.take() {
            Some(meta) => Ok(meta),
            None => sys::stat_file(&self.file).map_err(|error| fault("read", &self.path, error)),
        }
    }

    fn as_file(&self) -> Option<&File> {
        Some(&self.file)
    }
}

struct LocalStage {
    folder: Arc<Folder>,
    part: Vec<u8>,
    /// `None` once sealed: then there is nothing to clear away.
    file: Option<File>,
    target: RelPath,
    /// Where the next byte goes: behind what was adopted.
    at: u64,
    /// The mode that the file was made with, when it is known to have just that.
    made_with: Option<u32>,
}

impl LocalStage {
    fn file(&mut self) -> Result<&mut File> {
        self.file.as_mut().ok_or_else(|| StoreError::new(FaultKind::Io, "write", &self.target))
    }

    fn write_error(&self, error: io::Error) -> CopyError {
        CopyError::Write(fault("write", &self.target, error))
    }

    /// Through memory, up to the size that is expected: whether the source has grown meanwhile is asked afterwards.
    fn fill_small(
        &mut self,
        content: &mut dyn Content,
        size: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        thread_local!(static BUFFER: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) });
        BUFFER.with_borrow_mut(|buffer| {
            buffer.clear();
            let read = content.take(size).read_to_end(buffer);
            let length = read.map_err(|error| CopyError::Read(fault("read", &self.target, error)))?;
            self.write(buffer).map_err(CopyError::Write)?;
            progress(length as u64);
            Ok(length as u64)
        })
    }

    /// Through a buffer, piece by piece, until the source ends. Long stretches of zeros are passed over, so that the holes of
    /// a file stay holes on this way too.
    fn fill_streaming(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let mut buffer = vec![0; 1 << 20];
        let mut total = 0;
        loop {
            let length = match content.read(&mut buffer) {
                Ok(0) => {
                    self.end_here()?;
                    return Ok(total);
                }
                Ok(length) => length,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(CopyError::Read(fault("read", &self.target, error))),
            };
            for stretch in buffer[..length].chunks(STRETCH) {
                self.write_or_pass_over(stretch).map_err(CopyError::Write)?;
            }
            total += length as u64;
            if progress(length as u64) == Flow::Stop {
                return Err(CopyError::Stopped);
            }
        }
    }

    fn write_or_pass_over(&mut self, stretch: &[u8]) -> Result<()> {
        if stretch.len() < STRETCH || stretch.iter().any(|byte| *byte != 0) {
            return self.write(stretch);
        }
        let passed = self.file()?.seek_relative(stretch.len() as i64);
        passed.map_err(|error| fault("write", &self.target, error))
    }

    /// Gives the file the length that was reached, also where the last of it was passed over.
    fn end_here(&mut self) -> Result<(), CopyError> {
        let ended = self.file().map_err(CopyError::Write)?;
        let set = ended.stream_position().and_then(|length| ended.set_len(length));
        set.map_err(|error| self.write_error(error))
    }
}

/// Set once the kernel has said that it cannot clone between the file systems in use, to ask no more.
static CLONING_FAILED: AtomicBool = AtomicBool::new(false);

impl Stage for LocalStage {
    fn write(&mut self, data: &[u8]) -> Result<()> {
        use std::io::Write;
        let outcome = self.file()?.write_all(data);
        outcome.map_err(|error| fault("write", &self.target, error))
    }

    fn fill(
        &mut self,
        content: &mut dyn Content,
        size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        if size_hint <= SMALL {
            return self.fill_small(content, size_hint, progress);
        }
        let (Some(source), Some(file)) = (content.as_file(), self.file.as_ref()) else {
            return self.fill_streaming(content, progress);
        };
        if !CLONING_FAILED.load(Ordering::Relaxed) {
            if self.at == 0 && sys::clone_file(source, file).is_ok() {
                progress(size_hint);
                return Ok(size_hint);
            }
            CLONING_FAILED.store(self.at == 0, Ordering::Relaxed);
        }
        match sys::copy_in_kernel(source, file, self.at, PIECE, progress) {
            Ok(sys::KernelCopy::Copied(bytes)) => Ok(bytes),
            Ok(sys::KernelCopy::Stopped) => Err(CopyError::Stopped),
            Err(sys::KernelCopyError::Read(error)) => {
                Err(CopyError::Read(fault("read", &self.target, error)))
            }
            Err(sys::KernelCopyError::Write(error)) => Err(self.write_error(error)),
        }
    }

    fn adopt(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let target = self.target.clone();
        let read_error = |error| CopyError::Read(fault("read", &target, error));
        let write_error = |error| CopyError::Write(fault("write", &target, error));
        let mut file = self.file.take().ok_or(CopyError::Stopped)?;
        let left = file.metadata().map_err(write_error)?.len();
        let (mut ours, mut theirs) = (vec![0; PIECE.min(left as usize)], vec![0; PIECE.min(left as usize)]);
        let mut proved = 0;
        while proved < left {
            let length = ours.len().min((left - proved) as usize);
            content.read_exact(&mut theirs[..length]).map_err(read_error)?;
            file.read_exact(&mut ours[..length]).map_err(write_error)?;
            if ours[..length] != theirs[..length] {
                // What was left is not the beginning of this file: begin anew. The caller opens the source again.
                self.file = Some(file);
                return Err(CopyError::Read(StoreError::new(FaultKind::Changed, "read", &target)));
            }
            proved += length as u64;
            if progress(length as u64) == Flow::Stop {
                self.file = Some(file);
                return Err(CopyError::Stopped);
            }
        }
        self.at = proved;
        self.file = Some(file);
        Ok(proved)
    }

    fn go_on_at(&mut self, offset: u64) -> Result<bool> {
        let target = self.target.clone();
        let error = |error| fault("write", &target, error);
        let file = self.file()?;
        if file.metadata().map_err(error)?.len() < offset {
            return Ok(false);
        }
        file.set_len(offset).and_then(|()| file.seek(SeekFrom::Start(offset))).map_err(error)?;
        self.at = offset;
        Ok(true)
    }

    fn flush(&mut self) -> Result<()> {
        let synced = self.file()?.sync_data();
        synced.map_err(|error| fault("write", &self.target, error))
    }

    fn set_aside(mut self: Box<Self>) {
        // Closed without being sealed or removed.
        self.file = None;
    }

    fn seal(mut self: Box<Self>, attributes: &Attributes) -> Result<Sealed> {
        let mode = attributes.mode.unwrap_or_else(sys::default_mode);
        // A new owner would take special bits away, so with owners the mode is always set last.
        let is_made = self.made_with == Some(mode) && attributes.extra.is_none();
        let target = self.target.clone();
        let set = sys::set_file(self.file()?, attributes, (!is_made).then_some(mode));
        set.map_err(|error| fault("write", &target, error))?;
        self.file = None;
        Ok(sealed(&target, &self.part))
    }
}

impl Drop for LocalStage {
    fn drop(&mut self) {
        if self.file.is_some() {
            // A leftover is recognised by its name and cleared by the next run.
            let _ = self.folder.unlink(&self.part);
        }
    }
}

#[cfg(test)]
mod tests;
