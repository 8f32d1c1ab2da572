//! What the system says of files.

use std::fs::File;
use std::io;
use std::sync::Arc;

use reedhook_core::entry::{EntryKind, Extra, FileId, Meta, Special, Stamp};
use rustix::fs::{AtFlags, FileType, Statx, StatxFlags};

use crate::local::linux::account::{is_root, through_proc};
use crate::local::linux::lists;

/// What a listing asks of each entry, and nothing more.
pub(in crate::local) const WANTED: StatxFlags = StatxFlags::TYPE
    .union(StatxFlags::MODE)
    .union(StatxFlags::SIZE)
    .union(StatxFlags::MTIME)
    .union(StatxFlags::INO);

/// What a full preservation asks in addition.
pub(in crate::local) const FULL: StatxFlags = StatxFlags::UID.union(StatxFlags::GID).union(StatxFlags::NLINK);

pub(in crate::local) fn meta_of(found: &Statx) -> Meta {
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
        unlisted: None,
        id: Some(FileId { device, inode: found.stx_ino }),
        target: None,
        extra: None,
        version: None,
    }
}

/// When anything of an open file was last written, by the kernel's clock.
pub(in crate::local) fn touched(file: &File) -> io::Result<Stamp> {
    let changed = rustix::fs::statx(file, c"", AtFlags::EMPTY_PATH, StatxFlags::CTIME)?.stx_ctime;
    Ok(Stamp::new(changed.tv_sec, changed.tv_nsec))
}

/// The metadata of an open file; an error when it is not a regular one.
pub(in crate::local) fn stat_file(file: &File, full: bool) -> io::Result<Meta> {
    let wanted = if full { WANTED.union(FULL) } else { WANTED };
    let found = rustix::fs::statx(file, c"", AtFlags::EMPTY_PATH, wanted)?;
    let mut meta = meta_of(&found);
    meta.unlisted = lists::mode_without(&meta, || lists::read(&through_proc(file)));
    if full && is_root() {
        let (owner, group, names) = (found.stx_uid, found.stx_gid, u64::from(found.stx_nlink));
        meta.extra = Some(Arc::new(Extra { owner, group, names, ..Extra::default() }));
    }
    if meta.kind == EntryKind::File { Ok(meta) } else { Err(io::Error::other("not a regular file")) }
}
