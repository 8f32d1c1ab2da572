//! A drive or share that holds less than others: a folder, seen through a file system in user space that forgets, refuses or
//! changes what it is told to. So what no image of this machine's kernel can stand for is tried through the kernel all the same.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, FileTimes, OpenOptions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fuser::{
    BackgroundSession, BsdFileFlags, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, Generation,
    INodeNo, LockOwner, MountOption, OpenFlags, RenameFlags, ReplyAttr, ReplyData, ReplyDirectory,
    ReplyEmpty, ReplyEntry, ReplyStatfs, ReplyWrite, Request, SessionACL, TimeOrNow, WriteFlags,
};

/// What such a place is like.
#[derive(Debug, Clone)]
pub struct Ways {
    /// What the table of mounts says of it.
    pub subtype: &'static str,
    pub folds_case: bool,
    /// The step of times, in seconds; 0: to the nanosecond.
    pub step: u64,
    /// Whether this account may set times.
    pub times: bool,
    /// The driver sets a link's time at what it points to.
    pub times_through_links: bool,
    pub modes: bool,
    pub links: bool,
    /// Characters that names may not have.
    pub refused: &'static [u8],
    /// What is said to who makes such a name.
    pub refuses_with: i32,
    /// A dot or blank at the end of a name is dropped.
    pub trims: bool,
    pub largest: Option<u64>,
    /// A file can take the place of another by a rename.
    pub renames_over: bool,
    /// It takes the wish for an exchange, and renames plainly. It has second names.
    pub ignores_exchange: bool,
    /// What files held when they were made durable.
    pub synced: Arc<Mutex<Vec<Vec<u8>>>>,
    /// Each new name takes so long.
    pub slow: Duration,
    /// It keeps the time of the clock on the wall, which is so many seconds ahead of the world's.
    pub ahead: Arc<AtomicI64>,
}

impl Default for Ways {
    fn default() -> Ways {
        Ways {
            subtype: "fenshare",
            folds_case: false,
            step: 0,
            times: true,
            times_through_links: false,
            modes: true,
            links: true,
            refused: b"",
            refuses_with: 22,
            trims: false,
            largest: None,
            renames_over: true,
            ignores_exchange: false,
            synced: Arc::default(),
            slow: Duration::ZERO,
            ahead: Arc::default(),
        }
    }
}

/// Whether such a place can be mounted here. What the kernel cannot do at all no script can install.
#[allow(clippy::print_stdout, reason = "a skipped test says so")]
pub fn possible(what: &str) -> bool {
    let fuse = Path::new("/dev/fuse").exists();
    if !fuse {
        println!("skipped: {what}, for want of FUSE in this kernel");
    }
    fuse && crate::common::with_mounts(what, &[])
}

/// Such a place, mounted.
pub struct Altered {
    session: Option<BackgroundSession>,
}

impl Altered {
    /// Shows `behind` at `at`, altered.
    pub fn mount(behind: &Path, at: &Path, ways: Ways) -> Altered {
        fs::create_dir_all(at).unwrap();
        let name = format!("{}-{}", ways.subtype, behind.file_name().unwrap().to_string_lossy());
        let mut config = Config::default();
        // The crate would hand the type to a program that it does not use here; the kernel knows it too.
        let kind = MountOption::CUSTOM(format!("subtype={}", ways.subtype));
        config.mount_options = vec![MountOption::FSName(name), kind];
        config.acl = SessionACL::Owner;
        let place = Place { behind: behind.to_path_buf(), ways, paths: Mutex::new(Paths::new()) };
        Altered { session: Some(fuser::spawn_mount(place, at, &config).unwrap()) }
    }

    /// Takes it away.
    pub fn unmount(mut self) {
        if let Some(session) = self.session.take() {
            // A kernel that lets go first says so as an error.
            let _ = session.umount_and_join();
        }
    }
}

/// Numbers of files, by their path behind.
struct Paths {
    by_number: Vec<PathBuf>,
    numbers: HashMap<PathBuf, u64>,
}

impl Paths {
    fn new() -> Paths {
        Paths { by_number: vec![PathBuf::new()], numbers: HashMap::from([(PathBuf::new(), 1)]) }
    }

    fn number(&mut self, path: &Path) -> u64 {
        if let Some(number) = self.numbers.get(path) {
            return *number;
        }
        self.by_number.push(path.to_path_buf());
        let number = self.by_number.len() as u64;
        self.numbers.insert(path.to_path_buf(), number);
        number
    }

    fn renamed(&mut self, from: &Path, to: &Path) {
        // What stood there has gone, but may still be open.
        self.numbers.remove(to);
        for (at, path) in self.by_number.iter_mut().enumerate() {
            if let Ok(below) = path.strip_prefix(from) {
                let new = if below.as_os_str().is_empty() { to.to_path_buf() } else { to.join(below) };
                self.numbers.remove(path);
                self.numbers.insert(new.clone(), at as u64 + 1);
                *path = new;
            }
        }
    }
}

struct Place {
    behind: PathBuf,
    ways: Ways,
    paths: Mutex<Paths>,
}

const AT_ONCE: Duration = Duration::ZERO;

impl Place {
    fn path(&self, number: INodeNo) -> PathBuf {
        let number = u64::from(number);
        self.paths.lock().unwrap().by_number[usize::try_from(number).unwrap() - 1].clone()
    }

    fn full(&self, path: &Path) -> PathBuf {
        self.behind.join(path)
    }

    /// The name that something has behind, when it is asked for by this one.
    fn found(&self, folder: &Path, name: &OsStr) -> Option<OsString> {
        let name = self.kept_name(name);
        if self.full(folder).join(&name).symlink_metadata().is_ok() {
            return Some(name);
        }
        let folded = |name: &OsStr| name.to_string_lossy().to_lowercase();
        let mut entries = fs::read_dir(self.full(folder)).ok()?.flatten().map(|entry| entry.file_name());
        self.ways.folds_case.then(|| entries.find(|found| folded(found) == folded(&name)))?
    }

    /// The name as it would be kept.
    fn kept_name(&self, name: &OsStr) -> OsString {
        let mut bytes = name.as_bytes();
        while self.ways.trims && matches!(bytes.last(), Some(b'.' | b' ')) && bytes.len() > 1 {
            bytes = &bytes[..bytes.len() - 1];
        }
        OsStr::from_bytes(bytes).to_os_string()
    }

    fn new_path(&self, parent: INodeNo, name: &OsStr) -> io::Result<PathBuf> {
        if name.as_bytes().iter().any(|byte| self.ways.refused.contains(byte)) {
            return Err(io::Error::from_raw_os_error(self.ways.refuses_with));
        }
        let folder = self.path(parent);
        match self.found(&folder, name) {
            Some(_) => Err(io::Error::from_raw_os_error(17)),
            None => Ok(folder.join(self.kept_name(name))),
        }
    }

    fn there(&self, parent: INodeNo, name: &OsStr) -> io::Result<PathBuf> {
        let folder = self.path(parent);
        let name = self.found(&folder, name).ok_or_else(|| io::Error::from_raw_os_error(2))?;
        Ok(folder.join(name))
    }

    /// A time as it is shown, and the other way round as it is kept.
    fn shown(&self, time: SystemTime) -> SystemTime {
        let ahead = self.ways.ahead.load(Ordering::Relaxed);
        let since = |ahead: i64| {
            let span = Duration::from_secs(ahead.unsigned_abs());
            if ahead < 0 { time + span } else { time - span }
        };
        since(ahead)
    }

    fn kept(&self, time: SystemTime) -> SystemTime {
        let ahead = self.ways.ahead.load(Ordering::Relaxed);
        let span = Duration::from_secs(ahead.unsigned_abs());
        let time = if ahead < 0 { time - span } else { time + span };
        match (self.ways.step, time.duration_since(UNIX_EPOCH)) {
            (0, _) | (_, Err(_)) => time,
            (step, Ok(since)) => UNIX_EPOCH + Duration::from_secs(since.as_secs() / step * step),
        }
    }

    fn attributes(&self, path: &Path) -> io::Result<FileAttr> {
        let found = self.full(path).symlink_metadata()?;
        let kind = match found.file_type() {
            kind if kind.is_dir() => FileType::Directory,
            kind if kind.is_symlink() => FileType::Symlink,
            _ => FileType::RegularFile,
        };
        let mode = if self.ways.modes { found.mode() & 0o7777 } else { 0o777 };
        let modified = self.shown(found.modified()?);
        let modified = match (self.ways.step, modified.duration_since(UNIX_EPOCH)) {
            (0, _) | (_, Err(_)) => modified,
            (step, Ok(since)) => UNIX_EPOCH + Duration::from_secs(since.as_secs() / step * step),
        };
        Ok(FileAttr {
            ino: INodeNo(self.paths.lock().unwrap().number(path)),
            size: found.len(),
            blocks: found.blocks(),
            atime: modified,
            mtime: modified,
            ctime: modified,
            crtime: modified,
            kind,
            perm: mode as u16,
            nlink: if kind == FileType::Directory { 2 } else { found.nlink() as u32 },
            uid: found.uid(),
            gid: found.gid(),
            rdev: 0,
            blksize: 4096,
            flags: 0,
        })
    }

    fn entry(&self, path: io::Result<PathBuf>, reply: ReplyEntry) {
        match path.and_then(|path| self.attributes(&path)) {
            Ok(attributes) => reply.entry(&AT_ONCE, &attributes, Generation(0)),
            Err(error) => reply.error(error.into()),
        }
    }

    fn set(
        &self,
        path: &Path,
        mode: Option<u32>,
        size: Option<u64>,
        modified: Option<TimeOrNow>,
    ) -> io::Result<FileAttr> {
        let full = self.full(path);
        if let Some(mode) = mode.filter(|_| self.ways.modes) {
            fs::set_permissions(&full, fs::Permissions::from_mode(mode & 0o7777))?;
        }
        if let Some(size) = size {
            if self.ways.largest.is_some_and(|largest| size > largest) {
                return Err(io::Error::from_raw_os_error(27));
            }
            OpenOptions::new().write(true).open(&full)?.set_len(size)?;
        }
        if let Some(time) = modified {
            if !self.ways.times {
                return Err(io::Error::from_raw_os_error(1));
            }
            let link = full.symlink_metadata()?.is_symlink();
            let time = match time {
                TimeOrNow::SpecificTime(time) => time,
                TimeOrNow::Now => SystemTime::now(),
            };
            if !link || self.ways.times_through_links {
                File::open(&full)?.set_times(FileTimes::new().set_modified(self.kept(time)))?;
            }
        }
        self.attributes(path)
    }
}

fn done(outcome: io::Result<()>, reply: ReplyEmpty) {
    match outcome {
        Ok(()) => reply.ok(),
        Err(error) => reply.error(error.into()),
    }
}

impl Filesystem for Place {
    fn lookup(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        self.entry(self.there(parent, name), reply);
    }

    fn getattr(&self, _: &Request, number: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match self.attributes(&self.path(number)) {
            Ok(attributes) => reply.attr(&AT_ONCE, &attributes),
            Err(error) => reply.error(error.into()),
        }
    }

    fn setattr(
        &self,
        _: &Request,
        number: INodeNo,
        mode: Option<u32>,
        _: Option<u32>,
        _: Option<u32>,
        size: Option<u64>,
        _: Option<TimeOrNow>,
        modified: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        match self.set(&self.path(number), mode, size, modified) {
            Ok(attributes) => reply.attr(&AT_ONCE, &attributes),
            Err(error) => reply.error(error.into()),
        }
    }

    fn readlink(&self, _: &Request, number: INodeNo, reply: ReplyData) {
        match fs::read_link(self.full(&self.path(number))) {
            Ok(target) => reply.data(target.as_os_str().as_bytes()),
            Err(error) => reply.error(error.into()),
        }
    }

    fn mknod(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        _: u32,
        _: u32,
        reply: ReplyEntry,
    ) {
        std::thread::sleep(self.ways.slow);
        let made = self.new_path(parent, name).and_then(|path| {
            File::create_new(self.full(&path))?;
            if self.ways.modes {
                fs::set_permissions(self.full(&path), fs::Permissions::from_mode(mode & 0o7777))?;
            }
            Ok(path)
        });
        self.entry(made, reply);
    }

    fn mkdir(&self, _: &Request, parent: INodeNo, name: &OsStr, _: u32, _: u32, reply: ReplyEntry) {
        let made = self.new_path(parent, name).and_then(|path| {
            fs::create_dir(self.full(&path))?;
            Ok(path)
        });
        self.entry(made, reply);
    }

    fn unlink(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        done(self.there(parent, name).and_then(|path| fs::remove_file(self.full(&path))), reply);
    }

    fn rmdir(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        done(self.there(parent, name).and_then(|path| fs::remove_dir(self.full(&path))), reply);
    }

    fn symlink(&self, _: &Request, parent: INodeNo, name: &OsStr, target: &Path, reply: ReplyEntry) {
        if !self.ways.links {
            return reply.error(Errno::EPERM);
        }
        let made = self.new_path(parent, name).and_then(|path| {
            symlink(target, self.full(&path))?;
            Ok(path)
        });
        self.entry(made, reply);
    }

    fn link(&self, _: &Request, number: INodeNo, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        if !self.ways.ignores_exchange {
            return reply.error(Errno::EPERM);
        }
        let made = self.new_path(parent, name).and_then(|path| {
            fs::hard_link(self.full(&self.path(number)), self.full(&path))?;
            Ok(path)
        });
        self.entry(made, reply);
    }

    fn rename(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        new_parent: INodeNo,
        new_name: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let exchange = flags == RenameFlags::RENAME_EXCHANGE;
        if !(flags.is_empty() || exchange && self.ways.ignores_exchange) {
            return reply.error(Errno::EINVAL);
        }
        let renamed = self.there(parent, name).and_then(|from| {
            let to = match self.there(new_parent, new_name) {
                Ok(to) if to == from => self.path(new_parent).join(self.kept_name(new_name)),
                Ok(_) if !self.ways.renames_over => return Err(io::Error::from_raw_os_error(17)),
                Ok(to) => to,
                Err(_) => self.new_path(new_parent, new_name)?,
            };
            fs::rename(self.full(&from), self.full(&to))?;
            self.paths.lock().unwrap().renamed(&from, &to);
            Ok(())
        });
        done(renamed, reply);
    }

    fn read(
        &self,
        _: &Request,
        number: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let mut buffer = vec![0; size as usize];
        let read = File::open(self.full(&self.path(number))).and_then(|file| {
            let mut read = 0;
            while read < buffer.len() {
                match file.read_at(&mut buffer[read..], offset + read as u64)? {
                    0 => break,
                    more => read += more,
                }
            }
            Ok(read)
        });
        match read {
            Ok(read) => reply.data(&buffer[..read]),
            Err(error) => reply.error(error.into()),
        }
    }

    fn write(
        &self,
        _: &Request,
        number: INodeNo,
        _: FileHandle,
        offset: u64,
        data: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        if self.ways.largest.is_some_and(|largest| offset + data.len() as u64 > largest) {
            return reply.error(Errno::EFBIG);
        }
        let written = OpenOptions::new()
            .write(true)
            .open(self.full(&self.path(number)))
            .and_then(|file| file.write_all_at(data, offset));
        match written {
            Ok(()) => reply.written(data.len() as u32),
            Err(error) => reply.error(error.into()),
        }
    }

    fn fsync(&self, _: &Request, number: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        let content = fs::read(self.full(&self.path(number)));
        self.ways.synced.lock().unwrap().extend(content.ok());
        done(File::open(self.full(&self.path(number))).and_then(|file| file.sync_all()), reply);
    }

    fn fsyncdir(&self, _: &Request, number: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        done(File::open(self.full(&self.path(number))).and_then(|folder| folder.sync_all()), reply);
    }

    fn readdir(&self, _: &Request, number: INodeNo, _: FileHandle, offset: u64, mut reply: ReplyDirectory) {
        let folder = self.path(number);
        let mut names: Vec<OsString> =
            fs::read_dir(self.full(&folder)).unwrap().flatten().map(|entry| entry.file_name()).collect();
        names.sort();
        for (at, name) in names.iter().enumerate().skip(usize::try_from(offset).unwrap()) {
            let Ok(attributes) = self.attributes(&folder.join(name)) else { continue };
            if reply.add(attributes.ino, at as u64 + 1, attributes.kind, name) {
                break;
            }
        }
        reply.ok();
    }

    fn statfs(&self, _: &Request, _: INodeNo, reply: ReplyStatfs) {
        reply.statfs(1 << 20, 1 << 19, 1 << 19, 1 << 20, 1 << 19, 4096, 255, 4096);
    }
}
