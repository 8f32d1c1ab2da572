//! Unmounting a drive, so that a person can unplug it.

use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use crate::child;
use crate::drives::mounted_device;

/// What the system itself stands on is no drive that anybody unplugs.
const OF_THE_SYSTEM: [&str; 11] =
    ["/", "/home", "/usr", "/var", "/boot", "/boot/efi", "/etc", "/opt", "/tmp", "/nix", "/root"];

/// Where the drive is mounted that a folder is on; `None` when it is on none that can be unplugged.
pub fn removable_mount(folder: &Path) -> Option<PathBuf> {
    let (mount, device) = mounted_device(&folder.canonicalize().ok()?)?;
    let of_the_system = OF_THE_SYSTEM.iter().any(|kept| mount == Path::new(kept));
    (device.starts_with("/dev") && !of_the_system).then_some(mount)
}

/// So often it is tried to unmount a drive that is in use.
const TRIES: u32 = 10;

/// How long is waited before it is tried again.
const BETWEEN_TRIES: std::time::Duration = std::time::Duration::from_millis(100);

fn unmounted(mount: &Path) -> rustix::io::Result<()> {
    rustix::mount::unmount(mount, rustix::mount::UnmountFlags::empty())
}

/// Unmounts a drive, with the rights of this account or those that the system's own tools give it.
///
/// # Errors
/// Why it cannot be, in words.
pub fn unmount(mount: &Path) -> Result<(), String> {
    // What another program still has open keeps it; nothing is torn away. Whoever only looks is done in a moment.
    let mut tried = 0;
    let error = match unmounted(mount) {
        Err(rustix::io::Errno::BUSY) => loop {
            tried += 1;
            std::thread::sleep(BETWEEN_TRIES);
            match unmounted(mount) {
                Err(rustix::io::Errno::BUSY) if tried < TRIES => {}
                outcome => break outcome,
            }
        },
        outcome => outcome,
    };
    let error = match error {
        Ok(()) => return Ok(()),
        Err(rustix::io::Errno::BUSY) => return Err("something on it is still in use".to_owned()),
        Err(rustix::io::Errno::PERM | rustix::io::Errno::ACCESS) => None,
        Err(error) => Some(io::Error::from(error)),
    };
    if let Some(error) = error {
        return Err(error.to_string());
    }
    let device = mounted_device(mount).map(|(_, device)| device).unwrap_or_default();
    let mut why = "this account has no right to".to_owned();
    for command in [
        child::command("udisksctl").args(["unmount", "--no-user-interaction", "-b"]).arg(&device),
        child::command("umount").arg(mount),
    ] {
        match command.stdin(Stdio::null()).output() {
            Ok(output) if output.status.success() => return Ok(()),
            Ok(output) => why = String::from_utf8_lossy(&output.stderr).trim().to_owned(),
            Err(_) => {}
        }
    }
    Err(why)
}
