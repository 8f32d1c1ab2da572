//! An open folder: every call goes through it.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Arc, OnceLock};

use reedhook_core::entry::{Entry, EntryKind, Meta, SPECIAL_BITS, Special};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Capabilities, FaultKind, Listing, Result, Space, StoreError, Unknown};
use rustix::fs::{AtFlags, CWD, FileType, Gid, Mode, OFlags, RawDir, RenameFlags, ResolveFlags, StatxFlags};
use rustix::io::Errno;

use crate::local::kinds::{self, Kind};
use crate::local::linux::account::{belongs_to_us, is_own_folder, is_root, through_proc, umask, user};
use crate::local::linux::disk::{Sharing, turns};
use crate::local::linux::faults::fault;
use crate::local::linux::lists;
use crate::local::linux::meta::{FULL, WANTED, meta_of};

/// An open folder. All names given to it are single names.
pub(in crate::local) struct Folder {
    pub(in crate::local) fd: OwnedFd,
    /// Look at owners and extended attributes too.
    pub(in crate::local) full: bool,
    /// Times are given in pairs: drivers in user space pass over a single one, and say that it is set.
    pub(in crate::local) in_pairs: bool,
    /// It has no default access list; asked once.
    pub(in crate::local) plain: OnceLock<bool>,
}

impl Folder {
    pub(in crate::local) fn open_root(path: &Path, full: bool) -> io::Result<Folder> {
        let fd = rustix::fs::openat(CWD, path, folder_flags(), Mode::empty())?;
        let mut root = Folder { fd, full, in_pairs: false, plain: OnceLock::new() };
        root.in_pairs = kinds::is_fuse(root.magic()?);
        Ok(root)
    }

    /// Opens a folder below this one without following any link and without leaving it.
    pub(in crate::local) fn open_below(&self, path: &RelPath) -> io::Result<Folder> {
        let bytes = if path.is_root() { b".".as_slice() } else { path.as_bytes() };
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.fd, bytes, folder_flags(), Mode::empty(), resolve) {
            Ok(fd) => Ok(Folder { fd, full: self.full, in_pairs: self.in_pairs, plain: OnceLock::new() }),
            // Kernels before 5.6, and sandboxes that do not know the call.
            Err(Errno::NOSYS | Errno::PERM) => self.open_step_by_step(path),
            // Paths over 4096 bytes; a single name is no longer than 255.
            Err(Errno::NAMETOOLONG) if bytes.len() > 4000 => self.open_in_stretches(path),
            Err(error) => Err(error.into()),
        }
    }

    pub(in crate::local) fn open_step_by_step(&self, path: &RelPath) -> io::Result<Folder> {
        let flags = folder_flags() | OFlags::NOFOLLOW;
        let mut folder = rustix::fs::openat(&self.fd, c".", flags, Mode::empty())?;
        for part in path.parts() {
            folder = rustix::fs::openat(&folder, part, flags, Mode::empty())?;
        }
        Ok(Folder { fd: folder, full: self.full, in_pairs: self.in_pairs, plain: OnceLock::new() })
    }

    /// Opens a folder whose path is longer than the kernel takes at once, in stretches.
    pub(in crate::local) fn open_in_stretches(&self, path: &RelPath) -> io::Result<Folder> {
        const STRETCH: usize = 3800;
        let mut rest = path.as_bytes();
        let mut folder: Option<Folder> = None;
        while !rest.is_empty() {
            let cut = match rest.get(..STRETCH).filter(|_| rest.len() > STRETCH) {
                Some(beginning) => beginning.iter().rposition(|byte| *byte == b'/').unwrap_or(rest.len()),
                None => rest.len(),
            };
            let stretch = RelPath::new(&rest[..cut]).map_err(io::Error::other)?;
            folder = Some(folder.as_ref().unwrap_or(self).open_below(&stretch)?);
            rest = rest.get(cut + 1..).unwrap_or_default();
        }
        folder.map_or_else(|| self.open_step_by_step(path), Ok)
    }

    pub(in crate::local) fn list(&self, path: &RelPath) -> Result<Listing> {
        let mut listing = Listing::default();
        let mut buffer = Vec::with_capacity(64 << 10);
        let mut entries = RawDir::new(&self.fd, buffer.spare_capacity_mut());
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

    /// Whether it still has a name anywhere.
    pub(in crate::local) fn is_in_place(&self) -> bool {
        rustix::fs::fstat(&self.fd).is_ok_and(|found| found.st_nlink > 0)
    }

    /// Whether it can only be read, as it is mounted.
    pub(in crate::local) fn is_read_only(&self) -> bool {
        let flags = rustix::fs::fstatvfs(&self.fd).map(|found| found.f_flag);
        flags.is_ok_and(|flags| flags.contains(rustix::fs::StatVfsMountFlags::RDONLY))
    }

    /// The names in it, as they are.
    pub(in crate::local) fn names(&self) -> io::Result<Vec<Vec<u8>>> {
        // Opened anew: reading moves the position of what is read through.
        let own = rustix::fs::openat(&self.fd, c".", folder_flags(), Mode::empty())?;
        let mut buffer = Vec::with_capacity(64 << 10);
        let mut entries = RawDir::new(&own, buffer.spare_capacity_mut());
        let mut names = Vec::new();
        while let Some(entry) = entries.next() {
            names.push(entry?.file_name().to_bytes().to_vec());
        }
        names.retain(|name| !matches!(name.as_slice(), b"." | b".."));
        Ok(names)
    }

    /// Whether a name in it is found in the other case too. Nothing is written to find out.
    pub(in crate::local) fn folds_case(&self) -> bool {
        let swapped = |byte: &u8| match byte {
            b'a'..=b'z' => byte.to_ascii_uppercase(),
            _ => byte.to_ascii_lowercase(),
        };
        let Ok(own) = rustix::fs::openat(&self.fd, c".", folder_flags(), Mode::empty()) else { return false };
        let mut buffer = Vec::with_capacity(4 << 10);
        let mut entries = RawDir::new(&own, buffer.spare_capacity_mut());
        let mut names = Vec::new();
        // As many as come at once; a folder may hold a million.
        while let Some(Ok(entry)) = entries.next() {
            names.push(entry.file_name().to_bytes().to_vec());
            if entries.is_buffer_empty() {
                break;
            }
        }
        let name = names.iter().find(|name| name.iter().any(u8::is_ascii_alphabetic));
        let Some(name) = name else { return false };
        let other: Vec<u8> = name.iter().map(swapped).collect();
        !names.contains(&other) && matches!(self.stat(&other), Ok(Some(_)))
    }

    pub(in crate::local) fn stat(&self, name: &[u8]) -> io::Result<Option<Meta>> {
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        let wanted = if self.full { WANTED.union(FULL) } else { WANTED };
        let found = match rustix::fs::statx(&self.fd, name, flags, wanted) {
            Ok(found) => found,
            Err(Errno::NOENT) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let mut meta = meta_of(&found);
        meta.unlisted = lists::mode_without(&meta, || {
            let path = [through_proc(&self.fd).as_bytes(), b"/", name].concat();
            lists::read_at(&path)
        });
        if meta.kind == EntryKind::Link {
            let target = rustix::fs::readlinkat(&self.fd, name, Vec::new())?;
            meta.target = Some(target.into_bytes().into());
        }
        if self.full {
            meta.extra = Some(Arc::new(self.extra(name, &found)?));
        }
        Ok(Some(meta))
    }

    pub(in crate::local) fn stat_self(&self) -> io::Result<Meta> {
        let mut meta = meta_of(&rustix::fs::statx(&self.fd, c"", AtFlags::EMPTY_PATH, WANTED)?);
        meta.unlisted = lists::mode_without(&meta, || lists::read(&through_proc(&self.fd)));
        Ok(meta)
    }

    /// A handle on an entry that is good for metadata only and follows no link.
    pub(in crate::local) fn handle(&self, name: &[u8]) -> io::Result<OwnedFd> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&self.fd, name, flags, Mode::empty())?)
    }

    pub(in crate::local) fn make_special(&self, name: &[u8], from: &Meta) -> io::Result<()> {
        let kind = match from.kind {
            EntryKind::Special(Special::Fifo) => FileType::Fifo,
            EntryKind::Special(Special::CharDevice) => FileType::CharacterDevice,
            EntryKind::Special(Special::BlockDevice) => FileType::BlockDevice,
            _ => return Err(Errno::OPNOTSUPP.into()),
        };
        let (major, minor) = from.extra.as_ref().and_then(|extra| extra.device).unwrap_or((0, 0));
        let device = rustix::fs::makedev(major, minor);
        Ok(rustix::fs::mknodat(&self.fd, name, kind, Mode::RUSR | Mode::WUSR, device)?)
    }

    /// Whether the kernel makes this file system up.
    pub(in crate::local) fn is_pseudo(&self) -> io::Result<bool> {
        // Magic numbers of the kernel's statfs(2): proc, sysfs, cgroup, cgroup2, devpts, debugfs, tracefs, securityfs,
        // pstore, bpf, configfs, mqueue, hugetlbfs, binfmt_misc, fusectl, efivarfs, selinuxfs, nsfs.
        const MADE_UP: [u32; 18] = [
            0x9fa0,
            0x6265_6572,
            0x0027_e0eb,
            0x6367_7270,
            0x1cd1,
            0x6462_6720,
            0x7472_6163,
            0x7363_6673,
            0x6165_676c,
            0xcafe_4a11,
            0x6265_6570,
            0x1980_0202,
            0x9584_58f6,
            0x4249_4e4d,
            0x6573_5543,
            0xde5e_81e4,
            0xf97c_ff8c,
            0x6e73_6673,
        ];
        Ok(MADE_UP.contains(&(rustix::fs::fstatfs(&self.fd)?.f_type as u32)))
    }

    /// Opens a regular file for reading. A pipe is not waited on, and nothing but a file is accepted.
    pub(in crate::local) fn open_file(&self, name: &[u8]) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        Ok(File::from(rustix::fs::openat(&self.fd, name, flags, Mode::empty())?))
    }

    /// Makes a file with a mode that [`Folder::makes_exactly`] has agreed to, or closed to everybody else.
    pub(in crate::local) fn create_file(&self, name: &[u8], mode: Option<u32>) -> io::Result<File> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mode = mode.map_or(Mode::RUSR | Mode::WUSR, Mode::from_raw_mode);
        Ok(File::from(rustix::fs::openat(&self.fd, name, flags, mode)?))
    }

    /// Whether a file made here with a mode gets just that: the account's umask takes nothing from it, and the folder has
    /// no default access list, which would have its say instead.
    pub(in crate::local) fn makes_exactly(&self, mode: u32) -> bool {
        let asked = |()| rustix::fs::fgetxattr(&self.fd, c"system.posix_acl_default", &mut [0u8; 0]);
        mode & !(0o777 & !umask()) == 0
            && *self.plain.get_or_init(|| matches!(asked(()), Err(Errno::NODATA | Errno::OPNOTSUPP)))
    }

    /// Opens an unfinished file that an earlier run may have left, for reading and writing, or makes it. Its name can be computed by
    /// anybody, so only a regular file of one name is accepted that is ours and, where the file system keeps modes, closed to
    /// everybody else: one that another account has put there would hand what is written to that account.
    pub(in crate::local) fn open_part(&self, name: &[u8], keeps_modes: bool) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let mode = Mode::from_raw_mode(if keeps_modes { 0o600 } else { 0o666 });
        match rustix::fs::openat(&self.fd, name, flags | OFlags::CREATE | OFlags::EXCL, mode) {
            Ok(made) => return Ok(made.into()),
            Err(Errno::EXIST) => {}
            Err(error) => return Err(error.into()),
        }
        let file = match rustix::fs::openat(&self.fd, name, flags, Mode::empty()) {
            Ok(file) => File::from(file),
            // Something that cannot be opened has the name, and is not ours.
            Err(Errno::ACCESS | Errno::PERM | Errno::LOOP | Errno::ISDIR | Errno::NXIO) => {
                return Err(Errno::EXIST.into());
            }
            Err(error) => return Err(error.into()),
        };
        let found = rustix::fs::fstat(&file)?;
        let regular = FileType::from_raw_mode(found.st_mode) == FileType::RegularFile;
        let ours = belongs_to_us(&file, found.st_uid) && found.st_mode & 0o7177 == 0;
        let one = regular && found.st_nlink == 1;
        if one && (ours || !keeps_modes) { Ok(file) } else { Err(Errno::EXIST.into()) }
    }

    /// Opens a lock file, making it when there is none. Who can open it can lock it, so it is open to those who may write here only. What
    /// is no file, or belongs to somebody who has no say here, is no lock.
    pub(in crate::local) fn open_lock(&self, name: &[u8], shared: Sharing) -> io::Result<File> {
        let flags = OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let open =
            |more: OFlags| rustix::fs::openat(&self.fd, name, flags | more, Mode::from_raw_mode(0o600));
        match open(OFlags::RDWR | OFlags::CREATE | OFlags::EXCL) {
            Ok(made) => {
                let made = File::from(made);
                // What cannot be shared serves this account all the same.
                let _ = rustix::fs::fchmod(&made, Mode::from_raw_mode(shared.lock_mode()));
                shared.give_group(&made);
                Ok(made)
            }
            Err(Errno::EXIST) => {
                let file = File::from(open(OFlags::RDWR).or_else(|_| open(OFlags::RDONLY))?);
                let found = rustix::fs::fstat(&file)?;
                let owners = [user(), 0, self.owner()?];
                let regular = FileType::from_raw_mode(found.st_mode) == FileType::RegularFile;
                if !regular || !(owners.contains(&found.st_uid) || shared.mode & 0o022 != 0) {
                    return Err(Errno::PERM.into());
                }
                if found.st_uid == user() && found.st_mode & 0o777 & !shared.lock_mode() != 0 {
                    let _ = rustix::fs::fchmod(&file, Mode::from_raw_mode(shared.lock_mode()));
                }
                Ok(file)
            }
            Err(error) => Err(error.into()),
        }
    }

    /// The lock of a run that may be working in this folder; `None` where there is none that counts.
    pub(in crate::local) fn lock_of_a_run(folder: &Path) -> Option<File> {
        let root = Folder::open_root(folder, false).ok()?;
        let own = root.open_below(&RelPath::reserved()).ok()?;
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let file = File::from(rustix::fs::openat(&own.fd, b"lock".as_slice(), flags, Mode::empty()).ok()?);
        let found = rustix::fs::fstat(&file).ok()?;
        let regular = FileType::from_raw_mode(found.st_mode) == FileType::RegularFile;
        let counts = [user(), 0, root.owner().ok()?].contains(&found.st_uid);
        (regular && counts).then_some(file)
    }

    /// The number of the owner of an entry; `None` where nothing has the name.
    pub(in crate::local) fn owner_of(&self, name: &[u8]) -> Option<u32> {
        rustix::fs::statat(&self.fd, name, AtFlags::SYMLINK_NOFOLLOW).ok().map(|found| found.st_uid)
    }

    /// Whether owners and extended attributes are looked at too.
    pub(in crate::local) fn is_full(&self) -> bool {
        self.full
    }

    /// Whether it belongs to this account.
    pub(in crate::local) fn is_ours(&self) -> io::Result<bool> {
        Ok(belongs_to_us(&self.fd, rustix::fs::fstat(&self.fd)?.st_uid))
    }

    /// The owner's number.
    pub(in crate::local) fn owner(&self) -> io::Result<u32> {
        Ok(rustix::fs::fstat(&self.fd)?.st_uid)
    }

    /// The number of the file system that it is on; 0 where that cannot be told.
    pub(in crate::local) fn device(&self) -> u64 {
        self.stat_self().ok().and_then(|meta| meta.id).map_or(0, |id| id.device)
    }

    /// On which mount it is: within one, things can be renamed. Kernels before 5.8 tell the file system only.
    pub(in crate::local) fn mount(&self) -> io::Result<(u64, u64)> {
        let wanted = StatxFlags::MNT_ID | StatxFlags::INO;
        let found = rustix::fs::statx(&self.fd, c"", AtFlags::EMPTY_PATH, wanted)?;
        let device = u64::from(found.stx_dev_major) << 32 | u64::from(found.stx_dev_minor);
        Ok((device, found.stx_mnt_id))
    }

    /// The top folder of the mount that it is on, reached from folder to folder.
    pub(in crate::local) fn top(&self) -> io::Result<Folder> {
        let above = |fd: &OwnedFd| rustix::fs::openat(fd, c"..", folder_flags(), Mode::empty());
        let folder = |fd| Folder { fd, full: self.full, in_pairs: self.in_pairs, plain: OnceLock::new() };
        let mut top = folder(rustix::fs::openat(&self.fd, c".", folder_flags(), Mode::empty())?);
        loop {
            let next = folder(above(&top.fd)?);
            let is_root = next.stat_self()?.id == top.stat_self()?.id;
            if is_root || next.mount()? != top.mount()? {
                return Ok(top);
            }
            top = next;
        }
    }

    /// Where it is at this moment: for people to read.
    pub(in crate::local) fn path(&self) -> io::Result<std::path::PathBuf> {
        std::fs::read_link(through_proc(&self.fd))
    }

    /// How this folder is shared.
    pub(in crate::local) fn sharing(&self) -> Sharing {
        let found = rustix::fs::fstat(&self.fd).ok();
        Sharing {
            mode: found.as_ref().map_or(0o755, |found| found.st_mode & 0o7777),
            group: found.map(|found| Gid::from_raw(found.st_gid)),
        }
    }

    /// Gives a folder in here the mode and group of a shared one. What cannot be shared serves this account all the same.
    pub(in crate::local) fn share(&self, name: &[u8], shared: Sharing) {
        if let Ok(folder) =
            rustix::fs::openat(&self.fd, name, folder_flags() | OFlags::NOFOLLOW, Mode::empty())
        {
            if !is_own_folder(&folder) {
                return;
            }
            // Where everybody may write, nobody may take away what another has put there.
            let sticky = if shared.mode & 0o002 == 0 { 0 } else { 0o1000 };
            let _ = rustix::fs::fchown(&folder, None, shared.group);
            let _ = rustix::fs::fchmod(&folder, Mode::from_raw_mode(shared.mode | 0o700 | sticky));
        }
    }

    pub(in crate::local) fn make_link(&self, target: &[u8], name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::symlinkat(target, &self.fd, name)?)
    }

    pub(in crate::local) fn make_folder(&self, name: &[u8], mode: Option<u32>) -> io::Result<()> {
        Ok(rustix::fs::mkdirat(&self.fd, name, Mode::from_raw_mode(mode.unwrap_or(0o777) & !SPECIAL_BITS))?)
    }

    /// Opens a folder that was just made here; an error when another has its name by now.
    pub(in crate::local) fn open_made(&self, name: &[u8]) -> io::Result<Folder> {
        let flags = folder_flags() | OFlags::NOFOLLOW;
        let fd = rustix::fs::openat(&self.fd, name, flags, Mode::empty())?;
        if !is_own_folder(&fd) {
            return Err(Errno::EXIST.into());
        }
        Ok(Folder { fd, full: self.full, in_pairs: self.in_pairs, plain: OnceLock::new() })
    }

    pub(in crate::local) fn unlink(&self, name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.fd, name, AtFlags::empty())?)
    }

    pub(in crate::local) fn remove_folder(&self, name: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.fd, name, AtFlags::REMOVEDIR)?)
    }

    /// A second name for a file or link (not for what a link points to).
    pub(in crate::local) fn link(&self, name: &[u8], to: &Folder, new: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::linkat(&self.fd, name, &to.fd, new, AtFlags::empty())?)
    }

    /// Renames to a name that nothing has.
    pub(in crate::local) fn rename_new(&self, name: &[u8], to: &Folder, new: &[u8]) -> io::Result<()> {
        match rustix::fs::renameat_with(&self.fd, name, &to.fd, new, RenameFlags::NOREPLACE) {
            // File systems without the exclusive rename: look first, then rename.
            Err(Errno::INVAL | Errno::NOSYS) => {
                if to.stat(new)?.is_some() {
                    return Err(Errno::EXIST.into());
                }
                Ok(rustix::fs::renameat(&self.fd, name, &to.fd, new)?)
            }
            other => Ok(other?),
        }
    }

    /// Renames within the folder, replacing what has the name.
    pub(in crate::local) fn rename_over(&self, name: &[u8], new: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::renameat(&self.fd, name, &self.fd, new)?)
    }

    /// Lets two entries of the folder change places.
    pub(in crate::local) fn exchange(&self, one: &[u8], other: &[u8]) -> io::Result<()> {
        Ok(rustix::fs::renameat_with(&self.fd, one, &self.fd, other, RenameFlags::EXCHANGE)?)
    }

    /// Makes the names in it durable.
    pub(in crate::local) fn sync(&self) -> io::Result<()> {
        Ok(rustix::fs::fsync(&self.fd)?)
    }

    pub(in crate::local) fn sync_file_system(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(&self.fd)?)
    }

    pub(in crate::local) fn space(&self) -> io::Result<Space> {
        let found = rustix::fs::fstatvfs(&self.fd)?;
        Ok(Space {
            free: found.f_bavail.saturating_mul(found.f_frsize),
            total: found.f_blocks.saturating_mul(found.f_frsize),
        })
    }

    /// Whether the folder is on a disk that turns, going by what the kernel says of its block device. A virtual disk says so
    /// too, whatever is behind it; it is known by having no model. `None` for what is on no block device.
    pub(in crate::local) fn has_moving_heads(&self, sys: &Path) -> Option<bool> {
        let found = rustix::fs::statx(&self.fd, c"", AtFlags::EMPTY_PATH, StatxFlags::INO).ok()?;
        turns(&sys.join(format!("dev/block/{}:{}", found.stx_dev_major, found.stx_dev_minor)))
    }

    /// What the file system can hold, by its type. Nothing is written to find out: a preview must leave no trace.
    /// What the file system holds, by its type: `place` is where this folder is.
    pub(in crate::local) fn capabilities(&self, place: &Path) -> io::Result<Capabilities> {
        let holds = Kind::of(self.magic()?, place).holds();
        let names = rustix::fs::fstatvfs(&self.fd)?.f_namemax;
        Ok(Capabilities {
            names: holds.names,
            remote: false,
            folder_times: true,
            time_precision: Some(holds.step),
            link_times: holds.link_times,
            modes: holds.modes,
            links: holds.links,
            rename: true,
            folding: holds.folding,
            full: self.full && holds.full,
            owners: self.full && holds.full && is_root(),
            max_name: usize::try_from(names).unwrap_or(255).clamp(1, 255),
            batch_sync: true,
            workers: std::thread::available_parallelism().map_or(2, usize::from).clamp(2, 8),
            holes: holds.holes,
            one_stream: self.has_moving_heads(Path::new("/sys")).unwrap_or(false),
            limits: holds.limits,
        })
    }

    /// The number that statfs(2) gives the type. The width of `f_type` differs between machines; the numbers have 32 bits.
    pub(in crate::local) fn magic(&self) -> io::Result<u32> {
        Ok(rustix::fs::fstatfs(&self.fd)?.f_type as u32)
    }
}

pub(in crate::local) fn folder_flags() -> OFlags {
    OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC
}
