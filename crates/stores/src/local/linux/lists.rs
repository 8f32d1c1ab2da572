//! POSIX access lists (acl(5)): what a mode would be without one.
//!
//! Where a file has a list with users or groups of its own, the group's bits of its mode are the list's mask, which says what the most
//! is that any of those may do. The group that the file belongs to may have less, or nothing.

use std::io;

use reedhook_core::entry::Meta;
use rustix::io::Errno;

const GROUP: u32 = 0o070;
const NAME: &str = "system.posix_acl_access";
/// As much as any file system holds: ext4 what fits into a block, XFS 25 entries.
const LONGEST: usize = 4096;

/// The mode without the list; `None` where there is none, or it makes no difference. The list is asked for only where the group seems to
/// be allowed more than everybody: elsewhere nobody gains by a mistake, and it is a call for each entry.
pub(super) fn mode_without(meta: &Meta, read: impl FnOnce() -> io::Result<Option<Vec<u8>>>) -> Option<u32> {
    let mode = meta.mode?;
    let others = mode & 0o007;
    if (mode & GROUP) >> 3 & !others == 0 {
        return None;
    }
    let bits = match read() {
        Ok(None) => return None,
        Ok(Some(list)) => group_of(&list),
        Err(_) => None,
    };
    // What cannot be read may say anything: then the group gets what everybody has.
    let bits = bits.unwrap_or(mode >> 3 & others);
    let bare = mode & !GROUP | bits << 3;
    (bare != mode).then_some(bare)
}

/// The list of an open file or folder, by its entry in `/proc`; `None` where it has none.
pub(super) fn read(handle: &str) -> io::Result<Option<Vec<u8>>> {
    let mut buffer = [0u8; LONGEST];
    let length = rustix::fs::getxattr(handle, NAME, &mut buffer[..]);
    found(&buffer, length)
}

/// The list of what is at a path, which is not followed; `None` where it has none.
pub(super) fn read_at(path: &[u8]) -> io::Result<Option<Vec<u8>>> {
    let mut buffer = [0u8; LONGEST];
    let length = rustix::fs::lgetxattr(path, NAME, &mut buffer[..]);
    found(&buffer, length)
}

fn found(buffer: &[u8], length: rustix::io::Result<usize>) -> io::Result<Option<Vec<u8>>> {
    match length {
        Ok(length) => Ok(Some(buffer[..length].to_vec())),
        Err(Errno::NODATA | Errno::OPNOTSUPP | Errno::NOENT) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// What the owning group may do, by a list as Linux keeps it (`linux/posix_acl_xattr.h`): a version, then tag, permissions and number of
/// each entry, little-endian.
fn group_of(list: &[u8]) -> Option<u32> {
    const OWNING_GROUP: u16 = 0x04;
    const MASK: u16 = 0x10;
    let (version, entries) = list.split_first_chunk::<4>()?;
    if u32::from_le_bytes(*version) != 2 {
        return None;
    }
    let entries = entries.chunks_exact(8).map(|entry| {
        let word = |at: usize| u16::from_le_bytes([entry[at], entry[at + 1]]);
        (word(0), u32::from(word(2)))
    });
    let of = |wanted: u16| entries.clone().find(|(tag, _)| *tag == wanted).map(|(_, may)| may & 7);
    Some(of(OWNING_GROUP)? & of(MASK).unwrap_or(7))
}

#[cfg(test)]
mod tests {
    use reedhook_core::entry::EntryKind;

    use super::*;

    fn list(entries: &[(u16, u16, u32)]) -> Vec<u8> {
        let mut list = 2u32.to_le_bytes().to_vec();
        for (tag, may, who) in entries {
            list.extend(tag.to_le_bytes().into_iter().chain(may.to_le_bytes()).chain(who.to_le_bytes()));
        }
        list
    }

    #[test]
    fn the_group_has_what_its_own_entry_says() {
        const ANY: u32 = u32::MAX;
        let meta = |mode| Meta { mode: Some(mode), ..Meta::bare(EntryKind::File) };
        let one_user = |group, mask| {
            list(&[(1, 6, ANY), (2, 6, 1001), (4, group, ANY), (0x10, mask, ANY), (0x20, 0, ANY)])
        };
        let rows = [
            (0o660, Ok(None), None),
            (0o660, Ok(Some(one_user(0, 6))), Some(0o600)),
            (0o660, Ok(Some(one_user(7, 6))), None),
            (0o640, Ok(Some(one_user(6, 4))), None),
            (0o4750, Ok(Some(one_user(1, 5))), Some(0o4710)),
            // Cut short, of another version, or not to be read.
            (0o660, Ok(Some(vec![2, 0])), Some(0o600)),
            (0o664, Ok(Some(vec![9, 0, 0, 0, 4, 0, 6, 0, 0, 0, 0, 0])), Some(0o644)),
            (0o770, Err(io::ErrorKind::PermissionDenied.into()), Some(0o700)),
        ];
        for (mode, found, expected) in rows {
            let said = format!("{mode:o} {found:?}");
            assert_eq!(mode_without(&meta(mode), || found), expected, "{said}");
        }
        assert_eq!(mode_without(&meta(0o644), || unreachable!("nobody gains by it")), None);
    }
}
