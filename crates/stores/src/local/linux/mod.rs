//! The Linux side of the local store: system calls relative to open folders, and what they mean.

pub(crate) mod account;
mod attributes;
pub(crate) mod disk;
pub(crate) mod faults;
pub(crate) mod folder;
mod lists;
pub(crate) mod meta;

pub(super) use crate::local::linux::account::{account_name, default_mode, is_our_home, is_root, user};
pub(super) use crate::local::linux::disk::Sharing;
pub(super) use crate::local::linux::faults::{
    cross_device, fault_kind, is_cross_device, is_too_large, is_unsupported, unsupported,
};
pub(super) use crate::local::linux::folder::Folder;
pub(super) use crate::local::linux::meta::{stat_file, touched};
pub(super) use attributes::{Made, set_file};

use std::fs::File;
use std::io;

use rustix::fs::{AtFlags, Gid, Uid};

/// Whether a file of ours can be given to another account, as far as reading it back tells; it is given back.
pub(super) fn can_be_given_away(folder: &Folder, name: &[u8]) -> bool {
    let ids = |owner: u32, group: u32| (Some(Uid::from_raw(owner)), Some(Gid::from_raw(group)));
    let give = |owner, group| rustix::fs::chownat(&folder.fd, name, owner, group, AtFlags::SYMLINK_NOFOLLOW);
    let owner_of = || rustix::fs::statat(&folder.fd, name, AtFlags::SYMLINK_NOFOLLOW);
    let Ok(before) = owner_of() else { return false };
    let (owner, group) = ids(12_345, 23_456);
    let given = give(owner, group).is_ok()
        && owner_of().is_ok_and(|found| (found.st_uid, found.st_gid) == (12_345, 23_456));
    let (owner, group) = ids(before.st_uid, before.st_gid);
    let _ = give(owner, group);
    given
}

/// How many names a file has.
pub(super) fn names_of(folder: &Folder, name: &[u8]) -> Option<u64> {
    let found = rustix::fs::statat(&folder.fd, name, AtFlags::SYMLINK_NOFOLLOW).ok()?;
    Some(found.st_nlink as u64)
}

/// The room that an open file takes, in bytes.
pub(super) fn room_of(file: &File) -> io::Result<u64> {
    Ok(u64::try_from(rustix::fs::fstat(file)?.st_blocks).unwrap_or(0).saturating_mul(512))
}

/// Whether this process has a bound of its own for the files that it writes.
pub(super) fn has_own_bound() -> bool {
    rustix::process::getrlimit(rustix::process::Resource::Fsize).current.is_some()
}

/// Asks the kernel to drop what it holds of a file in memory, so that the next read comes from the medium. It keeps what is
/// not yet written; the caller has synced. On file systems in memory this does nothing.
pub(super) fn forget_cached(file: &File) {
    // Advice that is not taken is no failure.
    let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
}

#[cfg(test)]
mod tests {
    use crate::local::linux::disk::turns;

    #[test]
    fn disks_that_turn_are_known_and_virtual_ones_are_not_taken_for_them() {
        let sys = tempfile::tempdir().unwrap();
        let disk = |name: &str, rotational: &str, model: bool| {
            let disk = sys.path().join(name);
            std::fs::create_dir_all(disk.join("queue")).unwrap();
            std::fs::create_dir_all(disk.join("device")).unwrap();
            std::fs::create_dir_all(disk.join(format!("{name}1"))).unwrap();
            std::fs::write(disk.join("queue/rotational"), rotational).unwrap();
            if model {
                std::fs::write(disk.join("device/model"), "FENFIELD").unwrap();
            }
            (turns(&disk), turns(&disk.join(format!("{name}1"))))
        };
        assert_eq!(disk("turning", "1\n", true), (Some(true), Some(true)));
        assert_eq!(disk("solid", "0\n", true), (Some(false), Some(false)));
        assert_eq!(disk("virtual", "1\n", false), (Some(false), Some(false)));
        assert_eq!(turns(&sys.path().join("none")), None);
    }
}
