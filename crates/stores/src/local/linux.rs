//! The Linux side of the local store: system calls relative to open folders, and what they mean.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use reedhook_core::entry::{Entry, EntryKind, FileId, Meta, Special, Stamp};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, FaultKind, Flow, Listing, Result, Space, StoreError, Unknown,
};
use rustix::fs::{
    AtFlags, CWD, FileType, Mode, OFlags, RawDir, RenameFlags, ResolveFlags, SeekFrom, Statx, StatxFlags,
    Timespec, Timestamps, UTIME_OMIT,
};
use rustix::io::Errno;

use super::fault;

/// What a listing asks of each entry, and nothing more.
const WANTED: StatxFlags = StatxFlags::TYPE
    .union(StatxFlags::MODE)
    .union(StatxFlags::SIZE)
    .union(StatxFlags::MTIME)
    .union(StatxFlags::INO);

/// An open folder. All names given to it are single names.
pub(super) struct Folder(OwnedFd);

impl Folder {
    pub(super) fn open_root(path: &Path) -> io::Result<Folder> {
        Ok(Folder(rustix::fs::openat(CWD, path, folder_flags(), Mode::empty())?))
    }

    /// Opens a folder below this one without following any link and without leaving it.
    pub(super) fn open_below(&self, path: &RelPath) -> io::Result<Folder> {
        let bytes = if path.is_root() { b".".as_slice() } else { path.as_bytes() };
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.0, bytes, folder_flags(), Mode::empty(), resolve) {
            Ok(folder) => Ok(Folder(folder)),
            // Kernels before 5.6, and sandboxes that do not know the call.
            Err(Errno::NOSYS | Errno::PERM) => self.open_step_by_step(path),
            // Paths over 4096 bytes.
            Err(Errno::NAMETOOLONG) => self.open_step_by_step(path),
            Err(error) => Err(error.into()),
        }
    }

    fn open_step_by_step(&self, path: &RelPath) -> io::Result<Folder> {
        let flags = folder_flags() | OFlags::NOFOLLOW;
        let mut folder = rustix::fs::openat(&self.0, c".", flags, Mode::empty())?;
        for part in path.parts() {
            folder = rustix::fs::openat(&folder, part, flags, Mode::empty())?;
        }
        Ok(Folder(folder))
    }

    pub(super) fn list(&self, path: &RelPath) -> Result<Listing> {
        let mut listing = Listing::default();
        let mut buffer = Vec::with_capacity(64 << 10);
        let mut entries = RawDir::new(&self.0, buffer.spare_capacity_mut());
        while let Some(entry) = entries.next() {
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    let error = fault("list", path, error.into());
                    if error.kind == FaultKind::Lost {
                        return Err(error);
                    }
                    listing.unknown.push(Unknown { name: None, error });
                    break;
                }
            };
            let bytes = entry.file_name().to_bytes();
            if matches!(bytes, b"." | b"..") {
                continue;
            }
            let Ok(name) = Name::new(bytes) else {
                let error = StoreError::new(FaultKind::NameRefused, "list", path);
                listing.unknown.push(Unknown { name: None, error });
                continue;
            };
            match self.stat(bytes) {
                Ok(Some(meta)) => listing.entries.push(Entry { name, meta }),
                // It went between the listing and the look at it.
                Ok(None) => {}
                Err(error) => {
                    let error = fault("examine", &path.join(&name), error);
                    listing.unknown.push(Unknown { name: Some(name), error });
                }
            }
        }
        Ok(listing)
    }

    pub(super) fn stat(&self, name: &[u8]) -> io::Result<Option<Meta>> {
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        let found = match rustix::fs::statx(&self.0, name, flags, WANTED) {
            Ok(found) => found,
            Err(Errno::NOENT) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let mut meta = meta_of(&found);
        if meta.kind == EntryKind::Link {
            let target = rustix::fs::readlinkat(&self.0, name, Vec::new())?;
            meta.target = Some(target.into_bytes().into());
        }
        Ok(Some(meta))
    }

    pub(super) fn stat_self(&self) -> io::Result<Meta> {
        Ok(meta_of(&rustix::fs::statx(&self.0, c"", AtFlags::EMPTY_PATH, WANTED)?))
    }

    /// Opens a regular file for reading. A pipe is not waited on, and nothing but a file is accepted.
    pub(super) fn open_file(&self, name: &[u8]) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        Ok(File::from(rustix::fs::openat(&self.0, name, flags, Mode::empty())?))
    }

    pub(super) fn create_file(&self, name: &[u8]) -> io::Result<File> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(File::from(rustix::fs::openat(&self.0, name, flags, Mode::RUSR | Mode::WUSR)?))
    }

    pub(super) fn open_or_create(&self, name: &[u8]) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(File::from(rustix::fs::openat(&self.0, name, flags, Mode::from_raw_mode(0o644))?))
    }

    pub(super) fn make_link(&self, target: &[u8], name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::symlinkat(target, &self.0, name)?)
    }

    pub(super) fn make_folder(&self, name: &[u8], mode: Option<u32>) -> io::Result<()> {
        Ok(rustix::fs::mkdirat(&self.0, name, Mode::from_raw_mode(mode.unwrap_or(0o777)))?)
    }

    pub(super) fn unlink(&self, name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.0, name, AtFlags::empty())?)
    }

    pub(super) fn remove_folder(&self, name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.0, name, AtFlags::REMOVEDIR)?)
    }

    /// A second name for a file or link (not for what a link points to).
    pub(super) fn link(&self, name: &[u8], to: &Folder, new: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::linkat(&self.0, name, &to.0, new, AtFlags::empty())?)
    }

    /// Renames to a name that nothing has.
    pub(super) fn rename_new(&self, name: &[u8], to: &Folder, new: &[u8]) -> io::Result<()> {
        match rustix::fs::renameat_with(&self.0, name, &to.0, new, RenameFlags::NOREPLACE) {
            // File systems without the exclusive rename: look first, then rename.
            Err(Errno::INVAL | Errno::NOSYS) => {
                if to.stat(new)?.is_some() {
                    return Err(Errno::EXIST.into());
                }
                Ok(rustix::fs::renameat(&self.0, name, &to.0, new)?)
            }
            other => Ok(other?),
        }
    }

    /// Renames within the folder, replacing what has the name.
    pub(super) fn rename_over(&self, name: &[u8], new: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::renameat(&self.0, name, &self.0, new)?)
    }

    pub(super) fn set_time(&self, name: &[u8], modified: Stamp) -> io::Result<()> {
        Ok(rustix::fs::utimensat(&self.0, name, &timestamps(Some(modified)), AtFlags::SYMLINK_NOFOLLOW)?)
    }

    /// Sets the mode of a file or folder; a link is refused. `chmod` follows links, so the entry is opened first,
    /// without following, and changed through that.
    pub(super) fn set_mode(&self, name: &[u8], mode: u32) -> io::Result<()> {
        let handle = rustix::fs::openat(
            &self.0,
            name,
            OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC,
            Mode::empty(),
        )?;
        let found = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, StatxFlags::TYPE)?;
        if FileType::from_raw_mode(u32::from(found.stx_mode)) == FileType::Symlink {
            return Err(Errno::LOOP.into());
        }
        let through = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&handle));
        Ok(rustix::fs::chmod(through.as_str(), Mode::from_raw_mode(mode))?)
    }

    pub(super) fn set_self(&self, attributes: &Attributes) -> io::Result<()> {
        if let Some(mode) = attributes.mode {
            rustix::fs::fchmod(&self.0, Mode::from_raw_mode(mode))?;
        }
        if attributes.modified.is_some() {
            rustix::fs::futimens(&self.0, &timestamps(attributes.modified))?;
        }
        Ok(())
    }

    pub(super) fn sync_file_system(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(&self.0)?)
    }

    pub(super) fn space(&self) -> io::Result<Space> {
        let found = rustix::fs::fstatvfs(&self.0)?;
        Ok(Space {
            free: found.f_bavail.saturating_mul(found.f_frsize),
            total: found.f_blocks.saturating_mul(found.f_frsize),
        })
    }

    /// What the file system can hold, by its type. Nothing is written to find out: a preview must leave no trace.
    pub(super) fn capabilities(&self) -> io::Result<Capabilities> {
        // Magic numbers of the kernel's statfs(2).
        const MSDOS: u32 = 0x4d44;
        const EXFAT: u32 = 0x2011_bab0;
        const HFS_PLUS: u32 = 0x482b;
        const CIFS: u32 = 0xff53_4d42;
        const SMB2: u32 = 0xfe53_4d42;
        const NTFS3: u32 = 0x7366_746e;
        const FUSE: u32 = 0x6573_5546;
        // The width of `f_type` differs between machines; the numbers have 32 bits.
        let kind = rustix::fs::fstatfs(&self.0)?.f_type as u32;
        let names = rustix::fs::fstatvfs(&self.0)?.f_namemax;
        let precision = match kind {
            MSDOS => Duration::from_secs(2),
            EXFAT => Duration::from_millis(10),
            HFS_PLUS => Duration::from_secs(1),
            CIFS | SMB2 | NTFS3 | FUSE => Duration::from_nanos(100),
            _ => Duration::from_nanos(1),
        };
        let plain = matches!(kind, MSDOS | EXFAT);
        Ok(Capabilities {
            time_precision: Some(precision),
            link_times: !plain,
            modes: !plain && !matches!(kind, CIFS | SMB2),
            links: !plain && !matches!(kind, CIFS | SMB2),
            rename: true,
            folds_case: matches!(kind, MSDOS | EXFAT | HFS_PLUS | CIFS | SMB2),
            max_name: usize::try_from(names).unwrap_or(255).clamp(1, 255),
            batch_sync: true,
            workers: std::thread::available_parallelism().map_or(2, usize::from).clamp(2, 8),
        })
    }
}

fn folder_flags() -> OFlags {
    OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC
}

fn meta_of(found: &Statx) -> Meta {
    let mode = u32::from(found.stx_mode);
    let kind = match FileType::from_raw_mode(mode) {
        FileType::RegularFile => EntryKind::File,
        FileType::Directory => EntryKind::Folder,
        FileType::Symlink => EntryKind::Link,
        FileType::Fifo => EntryKind::Special(Special::Fifo),
        FileType::Socket => EntryKind::Special(Special::Socket),
        FileType::CharacterDevice => EntryKind::Special(Special::CharDevice),
        FileType::BlockDevice => EntryKind::Special(Special::BlockDevice),
        _ => EntryKind::Special(Special::Other),
    };
    let device = u64::from(found.stx_dev_major) << 32 | u64::from(found.stx_dev_minor);
    Meta {
        kind,
        size: if kind == EntryKind::File { found.stx_size } else { 0 },
        modified: Some(Stamp::new(found.stx_mtime.tv_sec, found.stx_mtime.tv_nsec)),
        // A link's own mode means nothing on Linux.
        mode: (kind != EntryKind::Link).then_some(mode & 0o7777),
        id: Some(FileId { device, inode: found.stx_ino }),
        target: None,
    }
}

/// The metadata of an open file; an error when it is not a regular one.
pub(super) fn stat_file(file: &File) -> io::Result<Meta> {
    let meta = meta_of(&rustix::fs::statx(file, c"", AtFlags::EMPTY_PATH, WANTED)?);
    if meta.kind == EntryKind::File { Ok(meta) } else { Err(io::Error::other("not a regular file")) }
}

fn timestamps(modified: Option<Stamp>) -> Timestamps {
    let omit = Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT };
    let modified =
        modified.map_or(omit, |stamp| Timespec { tv_sec: stamp.seconds(), tv_nsec: stamp.nanos().into() });
    Timestamps { last_access: omit, last_modification: modified }
}

pub(super) fn set_file(file: &File, modified: Option<Stamp>, mode: u32) -> io::Result<()> {
    rustix::fs::fchmod(file, Mode::from_raw_mode(mode))?;
    if modified.is_some() {
        rustix::fs::futimens(file, &timestamps(modified))?;
    }
    Ok(())
}

/// The mode of a new file whose source has none: what the account's umask allows. Read once, from `/proc`, because asking
/// the kernel would mean changing it for all threads.
pub(super) fn default_mode() -> u32 {
    static MODE: OnceLock<u32> = OnceLock::new();
    *MODE.get_or_init(|| {
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let umask = status.lines().find_map(|line| line.strip_prefix("Umask:"));
        let umask = umask.and_then(|octal| u32::from_str_radix(octal.trim(), 8).ok()).unwrap_or(0o022);
        0o666 & !umask
    })
}

/// Asks the kernel to drop what it holds of a file in memory, so that the next read comes from the medium. It keeps what is
/// not yet written; the caller has synced. On file systems in memory this does nothing.
pub(super) fn forget_cached(file: &File) {
    // Advice that is not taken is no failure.
    let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
}

/// Makes `to` share the blocks of `from`, where the file system can.
pub(super) fn clone_file(from: &File, to: &File) -> io::Result<()> {
    Ok(rustix::fs::ioctl_ficlone(to, from)?)
}

/// How a copy within the kernel went.
pub(super) enum KernelCopy {
    Copied(u64),
    Stopped,
}

/// Which side of a copy within the kernel failed.
pub(super) enum KernelCopyError {
    Read(io::Error),
    Write(io::Error),
}

/// Copies within the kernel, keeping holes.
pub(super) fn copy_in_kernel(
    from: &File,
    to: &File,
    piece: usize,
    progress: &mut dyn FnMut(u64) -> Flow,
) -> Result<KernelCopy, KernelCopyError> {
    let size = rustix::fs::fstat(from).map_err(read_error)?.st_size as u64;
    let mut at = 0;
    while at < size {
        let (start, end) = next_data(from, at, size)?;
        if start > at && progress(start - at) == Flow::Stop {
            return Ok(KernelCopy::Stopped);
        }
        at = start;
        while at < end {
            let wanted = (end - at).min(piece as u64) as usize;
            let (mut from_at, mut to_at) = (at, at);
            let copied =
                match rustix::fs::copy_file_range(from, Some(&mut from_at), to, Some(&mut to_at), wanted) {
                    Ok(0) => return finish(to, at, at),
                    Ok(copied) => copied as u64,
                    Err(Errno::INTR) => continue,
                    Err(Errno::XDEV | Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP | Errno::PERM)
                        if at == start =>
                    {
                        copy_range(from, to, at, wanted)?
                    }
                    Err(error) => return Err(side_of(error)),
                };
            if copied == 0 {
                return finish(to, at, at);
            }
            at += copied;
            if progress(copied) == Flow::Stop {
                return Ok(KernelCopy::Stopped);
            }
        }
    }
    finish(to, size, at)
}

/// The next stretch of data at or after `at`: its start and end. A file system that knows no holes has one stretch.
fn next_data(from: &File, at: u64, size: u64) -> Result<(u64, u64), KernelCopyError> {
    let start = match rustix::fs::seek(from, SeekFrom::Data(at)) {
        Ok(start) => start,
        Err(Errno::NXIO) => return Ok((size, size)),
        Err(_) => return Ok((at, size)),
    };
    let end = rustix::fs::seek(from, SeekFrom::Hole(start)).unwrap_or(size);
    Ok((start.min(size), end.min(size).max(start)))
}

/// One piece through memory, for file systems between which the kernel does not copy by itself.
fn copy_range(from: &File, to: &File, at: u64, wanted: usize) -> Result<u64, KernelCopyError> {
    use std::os::unix::fs::FileExt;
    let mut buffer = vec![0; wanted.min(1 << 20)];
    let length = from.read_at(&mut buffer, at).map_err(KernelCopyError::Read)?;
    to.write_all_at(&buffer[..length], at).map_err(KernelCopyError::Write)?;
    Ok(length as u64)
}

/// Sets the length, for a hole at the end; `at` falls short of it when the source shrank meanwhile.
fn finish(to: &File, size: u64, at: u64) -> Result<KernelCopy, KernelCopyError> {
    rustix::fs::ftruncate(to, size).map_err(|error| KernelCopyError::Write(error.into()))?;
    Ok(KernelCopy::Copied(at))
}

fn read_error(error: Errno) -> KernelCopyError {
    KernelCopyError::Read(error.into())
}

/// The call does not say which side failed; these can only be the writing one.
fn side_of(error: Errno) -> KernelCopyError {
    match error {
        Errno::NOSPC | Errno::DQUOT | Errno::FBIG | Errno::ROFS => KernelCopyError::Write(error.into()),
        _ => KernelCopyError::Read(error.into()),
    }
}

/// A relative path as this system writes it.
pub(super) fn os_path(path: &RelPath) -> &Path {
    use std::os::unix::ffi::OsStrExt;
    Path::new(std::ffi::OsStr::from_bytes(path.as_bytes()))
}

/// What an error of the operating system means for the engine.
pub(super) fn fault_kind(error: &io::Error) -> FaultKind {
    let Some(errno) = Errno::from_io_error(error) else { return FaultKind::Io };
    match errno {
        Errno::NOENT | Errno::NOTDIR => FaultKind::NotFound,
        Errno::ACCESS | Errno::PERM => FaultKind::Denied,
        Errno::ROFS => FaultKind::ReadOnly,
        Errno::NOSPC | Errno::DQUOT => FaultKind::NoSpace,
        Errno::NAMETOOLONG => FaultKind::NameTooLong,
        Errno::ILSEQ | Errno::INVAL => FaultKind::NameRefused,
        Errno::EXIST => FaultKind::Exists,
        Errno::NOTEMPTY => FaultKind::NotEmpty,
        Errno::LOOP => FaultKind::LinkInPath,
        Errno::NODEV | Errno::NXIO | Errno::STALE | Errno::SHUTDOWN | Errno::NOTCONN => FaultKind::Lost,
        Errno::OPNOTSUPP | Errno::NOSYS | Errno::XDEV => FaultKind::Unsupported,
        _ => FaultKind::Io,
    }
}
