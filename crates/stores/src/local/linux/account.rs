//! Whose this program works, and what it may do.

use std::os::fd::{AsFd, AsRawFd};
use std::path::Path;
use std::sync::OnceLock;

use rustix::fs::RawDir;

use crate::local::kinds;

/// The number of the account that we act as.
pub(in crate::local) fn user() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// What an account is called, for messages; its number where the table of accounts does not know it.
pub(in crate::local) fn account_name(number: u32) -> String {
    let table = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let is_it = |line: &&str| line.split(':').nth(2) == Some(number.to_string().as_str());
    let name = table.lines().find(is_it).and_then(|line| line.split(':').next());
    name.map_or_else(|| format!("account number {number}"), |name| format!("the account {name}"))
}

/// Whether a folder belongs to this account.
pub(in crate::local) fn is_our_home(path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path).is_ok_and(|found| found.is_dir() && found.uid() == user())
}

/// Whether this account may give files away and make devices.
pub(in crate::local) fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// Whether a folder that was just made is it: ours, and empty. Its position moves.
pub(in crate::local) fn is_own_folder(folder: impl AsFd) -> bool {
    let ours = rustix::fs::fstat(&folder).is_ok_and(|found| belongs_to_us(&folder, found.st_uid));
    let mut buffer = Vec::with_capacity(1024);
    let mut entries = RawDir::new(&folder, buffer.spare_capacity_mut());
    while let Some(entry) = entries.next() {
        match entry {
            Ok(entry) if matches!(entry.file_name().to_bytes(), b"." | b"..") => {}
            _ => return false,
        }
    }
    ours
}

/// The mode of a new file whose source has none: what the account's umask allows.
pub(in crate::local) fn default_mode() -> u32 {
    if umask() == UNKNOWN { 0o644 } else { 0o666 & !umask() }
}

/// Where the umask cannot be read, everything is taken for masked, so that modes are set and not assumed.
pub(in crate::local) const UNKNOWN: u32 = 0o777;

/// The account's umask. Read once, from `/proc`, because asking the kernel would mean changing it for all threads.
pub(in crate::local) fn umask() -> u32 {
    static UMASK: OnceLock<u32> = OnceLock::new();
    *UMASK.get_or_init(|| {
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let umask = status.lines().find_map(|line| line.strip_prefix("Umask:"));
        umask.and_then(|octal| u32::from_str_radix(octal.trim(), 8).ok()).unwrap_or(UNKNOWN)
    })
}

/// A path that leads to what a metadata handle stands for.
pub(in crate::local::linux) fn through_proc(handle: impl AsFd) -> String {
    format!("/proc/self/fd/{}", handle.as_fd().as_raw_fd())
}

/// Whether something of this owner may be what this account has made: where the file system gives things to those who make them, only
/// what is owned by the account.
pub(in crate::local::linux) fn belongs_to_us(file: impl AsFd, owner: u32) -> bool {
    owner == user() || rustix::fs::fstatfs(file).is_ok_and(|found| !kinds::keeps_owners(found.f_type as u32))
}
