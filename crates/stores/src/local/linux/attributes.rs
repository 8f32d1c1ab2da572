//! What entries have besides their content: modes, owners, times, extended attributes, and the privileges of programs. All of it goes
//! through a handle on the entry that was looked at.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};

use reedhook_core::entry::{CAPABILITY, EntryKind, Extra, Meta, Privileges, SPECIAL_BITS, Special, Stamp};
use reedhook_core::store::{Attributes, is_same};
use rustix::fs::{
    AtFlags, CWD, FileType, Gid, Mode, Statx, Timespec, Timestamps, UTIME_NOW, UTIME_OMIT, Uid,
};
use rustix::io::Errno;

use crate::local::linux::account::{belongs_to_us, is_root, through_proc};
use crate::local::linux::faults::unsupported;
use crate::local::linux::folder::Folder;
use crate::local::linux::meta::{FULL, WANTED, meta_of};

impl Folder {
    pub(super) fn extra(&self, name: &[u8], found: &Statx) -> io::Result<Extra> {
        // Owners that cannot be given to a file are not compared either.
        let (owner, group) = if is_root() { (found.stx_uid, found.stx_gid) } else { (0, 0) };
        let kind = FileType::from_raw_mode(u32::from(found.stx_mode));
        let device = matches!(kind, FileType::CharacterDevice | FileType::BlockDevice)
            .then_some((found.stx_rdev_major, found.stx_rdev_minor));
        let names = u64::from(found.stx_nlink);
        let mut extra = Extra { owner, group, names, device, ..Extra::default() };
        if kind != FileType::Symlink {
            let handle = self.handle(name)?;
            extra.attributes = xattr::read(&handle)?;
            // Asked only where it matters: it is a call for each file.
            let special = u32::from(found.stx_mode) & SPECIAL_BITS != 0;
            let capable = extra.attributes.iter().any(|(name, _)| name == CAPABILITY);
            if special || capable || device.is_some() {
                let mount = rustix::fs::fstatvfs(&handle)?.f_flag;
                extra.nosuid = mount.contains(rustix::fs::StatVfsMountFlags::NOSUID);
                extra.nodev = mount.contains(rustix::fs::StatVfsMountFlags::NODEV);
            }
        }
        Ok(extra)
    }

    /// Sets what is given, of the entry that is `expected`; `false` when it is something else, or nothing. Everything goes through one
    /// handle on the entry: whatever gets the name meanwhile is not touched. Owners come first, because giving a file away
    /// clears its setuid bit.
    pub(in crate::local) fn set_all(
        &self,
        name: &[u8],
        expected: &Meta,
        attributes: &Attributes,
    ) -> io::Result<bool> {
        let handle = self.handle(name)?;
        let meta = self.meta_of_handle(&handle)?;
        if !self.is_same(expected, &meta) {
            return Ok(false);
        }
        set_through(&handle, &meta, attributes, self.in_pairs)?;
        Ok(true)
    }

    /// Sets what is given, of what was just made here under a name of our own: a link or special file. `false` when something else has
    /// the name by now.
    pub(in crate::local) fn set_made(
        &self,
        name: &[u8],
        made: &Made<'_>,
        attributes: &Attributes,
    ) -> io::Result<bool> {
        let handle = self.handle(name)?;
        let found = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, WANTED.union(FULL))?;
        let meta = self.meta_of_handle(&handle)?;
        let is_ours = belongs_to_us(&handle, found.stx_uid);
        let is_it = match made {
            Made::Link(target) => meta.target.as_deref() == Some(*target),
            Made::Special(special) => meta.kind == EntryKind::Special(*special) && found.stx_nlink == 1,
        };
        if !is_ours || !is_it {
            return Ok(false);
        }
        set_through(&handle, &meta, attributes, self.in_pairs)?;
        Ok(true)
    }

    fn meta_of_handle(&self, handle: &OwnedFd) -> io::Result<Meta> {
        let mut meta = meta_of(&rustix::fs::statx(handle, c"", AtFlags::EMPTY_PATH, WANTED)?);
        if meta.kind == EntryKind::Link {
            let target = rustix::fs::readlinkat(handle, c"", Vec::new())?;
            meta.target = Some(target.into_bytes().into());
        }
        Ok(meta)
    }

    /// Whether two looks saw the same thing. The numbers that drivers in user space give are not always kept.
    fn is_same(&self, expected: &Meta, found: &Meta) -> bool {
        let same_id = expected.id.zip(found.id).is_none_or(|(expected, found)| expected == found);
        if !self.in_pairs {
            return same_id && is_same(expected, found);
        }
        is_same(&Meta { id: None, ..expected.clone() }, found)
    }

    /// What lets whoever runs a file act for another, and how many names the file has; `None` for a file without.
    pub(in crate::local) fn privileges(
        &self,
        name: &[u8],
        expected: &Meta,
    ) -> io::Result<Option<(Privileges, u64)>> {
        let mode = expected.mode.unwrap_or(0);
        if expected.kind != EntryKind::File || mode & (SPECIAL_BITS | 0o111) == 0 {
            return Ok(None);
        }
        let path = [through_proc(&self.fd).as_bytes(), b"/", name].concat();
        let is_plain = mode & SPECIAL_BITS == 0;
        if is_plain && rustix::fs::lgetxattr(path.as_slice(), CAPABILITY, &mut [0u8; 0]).is_err() {
            return Ok(None);
        }
        let handle = self.handle(name)?;
        let found = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, WANTED.union(FULL))?;
        Ok(Some((privileges_of(&handle, &found)?, u64::from(found.stx_nlink))))
    }

    /// Takes the privileges of a kept copy, if it is what was kept. A second name that somebody has made meanwhile loses them too.
    pub(in crate::local) fn disarm(
        &self,
        name: &[u8],
        expected: &Meta,
    ) -> io::Result<Option<Box<Privileges>>> {
        let handle = self.handle(name)?;
        let found = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, WANTED.union(FULL))?;
        let meta = meta_of(&found);
        if !self.is_same(expected, &meta) {
            return Ok(None);
        }
        let privileges = privileges_of(&handle, &found)?;
        if privileges.capability.is_some() {
            rustix::fs::removexattr(through_proc(&handle), CAPABILITY)?;
        }
        if privileges.mode & SPECIAL_BITS != 0 {
            let bare = Mode::from_raw_mode(privileges.mode & !SPECIAL_BITS);
            rustix::fs::chmod(through_proc(&handle), bare)?;
            // Drivers in user space and network shares may say yes and do nothing.
            let left = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, WANTED)?;
            if u32::from(left.stx_mode) & SPECIAL_BITS != 0 {
                return Err(unsupported());
            }
        }
        Ok(Some(Box::new(privileges)))
    }

    /// Gives a file back what was taken from its kept copy; `false` when it belongs to others now. An error when it is not `expected`.
    pub(in crate::local) fn rearm(
        &self,
        name: &[u8],
        expected: &Meta,
        privileges: &Privileges,
    ) -> io::Result<bool> {
        let handle = self.handle(name)?;
        let found = rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, WANTED.union(FULL))?;
        if !self.is_same(expected, &meta_of(&found)) || found.stx_nlink != 1 {
            return Err(Errno::STALE.into());
        }
        if (found.stx_uid, found.stx_gid) != (privileges.owner, privileges.group) {
            return Ok(false);
        }
        rustix::fs::chmod(through_proc(&handle), Mode::from_raw_mode(privileges.mode))?;
        if let Some(value) = &privileges.capability {
            rustix::fs::setxattr(through_proc(&handle), CAPABILITY, value, rustix::fs::XattrFlags::empty())?;
        }
        Ok(true)
    }

    pub(in crate::local) fn set_self(&self, attributes: &Attributes) -> io::Result<()> {
        if let Some(mode) = attributes.mode {
            rustix::fs::fchmod(&self.fd, Mode::from_raw_mode(mode))?;
        }
        if attributes.modified.is_some() {
            rustix::fs::futimens(&self.fd, &timestamps(attributes.modified, self.in_pairs))?;
        }
        Ok(())
    }
}

fn owners(extra: &Extra) -> (Option<Uid>, Option<Gid>) {
    (Some(Uid::from_raw(extra.owner)), Some(Gid::from_raw(extra.group)))
}

/// Extended attributes, through the handle's entry in `/proc`: the calls for handles refuse those for metadata only.
mod xattr {
    use std::io;
    use std::os::fd::AsFd;

    use rustix::fs::XattrFlags;
    use rustix::io::Errno;

    use crate::local::linux::account::through_proc;

    /// What a tree's owner means to keep: their own attributes, access control lists, capabilities; not what the kernel or a
    /// security module derives by itself.
    fn is_wanted(name: &[u8]) -> bool {
        name.starts_with(b"user.")
            || name.starts_with(b"system.posix_acl_")
            || name == b"security.capability"
            || (name.starts_with(b"trusted.") && !name.starts_with(b"trusted.overlay."))
    }

    fn names(path: &str) -> io::Result<Vec<Vec<u8>>> {
        let mut buffer = vec![0; 64 << 10];
        let length = match rustix::fs::listxattr(path, &mut buffer[..]) {
            Ok(length) => length,
            Err(Errno::OPNOTSUPP) => return Ok(Vec::new()),
            Err(error) => return Err(error.into()),
        };
        let names = buffer[..length].split(|byte| *byte == 0).filter(|name| is_wanted(name));
        let mut names: Vec<Vec<u8>> = names.map(<[u8]>::to_vec).collect();
        names.sort();
        Ok(names)
    }

    pub(super) fn read(handle: impl AsFd) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
        let path = through_proc(handle);
        let mut found = Vec::new();
        for name in names(&path)? {
            let mut value = vec![0; 64 << 10];
            match rustix::fs::getxattr(path.as_str(), name.as_slice(), &mut value[..]) {
                Ok(length) => {
                    value.truncate(length);
                    found.push((name, value));
                }
                // It went meanwhile, or this account may not read it.
                Err(Errno::NODATA | Errno::PERM | Errno::ACCESS) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Ok(found)
    }

    /// Makes the wanted attributes exactly these.
    pub(super) fn write(handle: impl AsFd, wanted: &[(Vec<u8>, Vec<u8>)]) -> io::Result<()> {
        let path = through_proc(handle);
        for name in names(&path)? {
            if !wanted.iter().any(|(known, _)| *known == name) {
                rustix::fs::removexattr(path.as_str(), name.as_slice())?;
            }
        }
        for (name, value) in wanted {
            rustix::fs::setxattr(path.as_str(), name.as_slice(), value, XattrFlags::empty())?;
        }
        Ok(())
    }
}

/// The time of access goes along where `in_pairs` says so: as now.
fn timestamps(modified: Option<Stamp>, in_pairs: bool) -> Timestamps {
    let omit = Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT };
    let now = Timespec { tv_sec: 0, tv_nsec: UTIME_NOW };
    let modified =
        modified.map_or(omit, |stamp| Timespec { tv_sec: stamp.seconds(), tv_nsec: stamp.nanos().into() });
    Timestamps { last_access: if in_pairs { now } else { omit }, last_modification: modified }
}

/// What was made under a name of our own.
pub(in crate::local) enum Made<'a> {
    /// A link that leads there.
    Link(&'a [u8]),
    /// A pipe or device.
    Special(Special),
}

/// What lets whoever runs a file act for another.
fn privileges_of(handle: &OwnedFd, found: &Statx) -> io::Result<Privileges> {
    let mut value = vec![0; 256];
    let capability = match rustix::fs::getxattr(through_proc(handle), CAPABILITY, &mut value[..]) {
        Ok(length) => {
            value.truncate(length);
            Some(value)
        }
        Err(Errno::NODATA | Errno::OPNOTSUPP | Errno::PERM | Errno::ACCESS) => None,
        Err(error) => return Err(error.into()),
    };
    let mode = u32::from(found.stx_mode) & 0o7777;
    Ok(Privileges { owner: found.stx_uid, group: found.stx_gid, mode, capability })
}

/// Sets attributes through a handle that is good for metadata only, of what was seen through it.
fn set_through(handle: &OwnedFd, meta: &Meta, attributes: &Attributes, in_pairs: bool) -> io::Result<()> {
    let link = meta.kind == EntryKind::Link;
    let mut is_given = false;
    if let Some(extra) = &attributes.extra {
        if is_root() {
            let (owner, group) = owners(extra);
            rustix::fs::chownat(handle, c"", owner, group, AtFlags::EMPTY_PATH)?;
            is_given = is_owned_by(handle, extra);
        }
        if !link {
            xattr::write(handle, &extra.to_attributes(is_given))?;
        }
    }
    if let Some(mode) = attributes.mode {
        // A link has no mode of its own, and `chmod` would follow it.
        if link {
            return Err(Errno::LOOP.into());
        }
        let kept = meta.mode.filter(|_| meta.is_folder()).unwrap_or(0);
        let mode = Mode::from_raw_mode(earned(mode, is_given, kept));
        rustix::fs::chmod(through_proc(handle), mode)?;
    }
    if let Some(modified) = attributes.modified {
        let times = timestamps(Some(modified), in_pairs);
        if link {
            rustix::fs::utimensat(handle, c"", &times, AtFlags::EMPTY_PATH)?;
        } else {
            rustix::fs::utimensat(CWD, through_proc(handle), &times, AtFlags::empty())?;
        }
    }
    Ok(())
}

/// The mode to set: setuid and setgid only together with the owner that was really given. A folder keeps those that it has by itself,
/// which only say to which group belongs what is made in it.
fn earned(mode: u32, is_given: bool, kept: u32) -> u32 {
    if is_given { mode } else { mode & !SPECIAL_BITS | kept & SPECIAL_BITS }
}

/// Whether a file has the owner and group that it was given. Network shares and drivers in user space may say yes and do otherwise.
fn is_owned_by(file: impl AsFd, extra: &Extra) -> bool {
    rustix::fs::statx(file, c"", AtFlags::EMPTY_PATH, FULL)
        .is_ok_and(|found| (found.stx_uid, found.stx_gid) == (extra.owner, extra.group))
}

pub(in crate::local) fn set_file(file: &File, attributes: &Attributes, mode: Option<u32>) -> io::Result<()> {
    let mut is_given = false;
    if let Some(extra) = &attributes.extra {
        if is_root() {
            let (owner, group) = owners(extra);
            rustix::fs::fchown(file, owner, group)?;
            is_given = is_owned_by(file, extra);
        }
        xattr::write(file, &extra.to_attributes(is_given))?;
    }
    if let Some(mode) = mode {
        unless_not_ours(rustix::fs::fchmod(file, Mode::from_raw_mode(earned(mode, is_given, 0))))?;
    }
    if attributes.modified.is_some() {
        unless_not_ours(rustix::fs::futimens(file, &timestamps(attributes.modified, true)))?;
    }
    Ok(())
}

/// What this account has just made and may not change belongs to the account that mounted the file system: what is not permitted
/// there is not held.
fn unless_not_ours(set: rustix::io::Result<()>) -> io::Result<()> {
    match set {
        Err(Errno::PERM) => Ok(()),
        set => Ok(set?),
    }
}
