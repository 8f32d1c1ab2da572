//! What kind of disk a folder is on, and how it is best worked with.

use std::fs::File;
use std::path::Path;

use rustix::fs::Gid;

/// With whom a folder is shared: its mode and its group.
#[derive(Debug, Clone, Copy)]
pub(in crate::local) struct Sharing {
    pub(in crate::local) mode: u32,
    pub(in crate::local) group: Option<Gid>,
}

impl Sharing {
    /// The mode of a file that whoever may write into the folder may write.
    pub(in crate::local) fn file_mode(self) -> u32 {
        self.mode & 0o666 | 0o600
    }

    /// The mode of a lock: whoever may write into the folder can open it, and nobody else.
    pub(in crate::local) fn lock_mode(self) -> u32 {
        let writers = self.mode & 0o222;
        0o600 | writers | writers << 1
    }

    /// Gives a file the folder's group, where this account may.
    pub(in crate::local) fn give_group(self, file: &File) {
        let _ = rustix::fs::fchown(file, None, self.group);
    }
}

/// Whether a block device, or the disk that a partition belongs to, turns.
pub(in crate::local) fn turns(device: &Path) -> Option<bool> {
    let device = device.canonicalize().ok()?;
    let disk = if device.join("queue").is_dir() { device.as_path() } else { device.parent()? };
    let rotational = std::fs::read_to_string(disk.join("queue/rotational")).ok()?;
    Some(rotational.trim() == "1" && disk.join("device/model").exists())
}
