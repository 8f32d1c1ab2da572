//! The desktop's trash, by the FreeDesktop.org Trash specification, version 1.0.
//!
//! What goes there is moved from the open folder that it is in, never by its path: who can write to a tree may put a link in the
//! place of a folder at any moment. It is looked at once it is out of everybody's reach, and goes back when it is something else.
//!
//! The person's own trash is used where it is on the same file system, else one at the top of the file system: `.Trash/UID` where
//! somebody has set that up, else `.Trash-UID`.

use std::io::{self, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use reedhook_core::path::{Name, RelPath};

use super::sys::{self, Folder};

/// The longest name in a trash: that of the file which tells where something was has this much more.
const INFO_SUFFIX: &[u8] = b".trashinfo";
const LONGEST: usize = 255 - INFO_SUFFIX.len();

/// A trash that is open: what was thrown away, and where it was.
pub(super) struct Trash {
    pub(super) files: Folder,
    info: Folder,
    /// Paths are told relative to this folder; `None` for the whole path.
    top: Option<PathBuf>,
}

impl Trash {
    /// Opens the trash for what is in a folder, and makes it where there is none.
    pub(super) fn open(folder: &Folder) -> io::Result<Trash> {
        if let Some(home) = home_trash()
            && let Ok(trash) = Trash::in_home(&home, folder)
        {
            return Ok(trash);
        }
        let top = folder.top()?;
        let user = sys::user().to_string();
        // Shared by all accounts where the administrator has made it, with the sticky bit: anything else is not to be trusted.
        let shared = top.open_made_by_others(b".Trash").and_then(|shared| shared.own_folder(user.as_bytes()));
        let own = shared.or_else(|_| top.own_folder(format!(".Trash-{user}").as_bytes()))?;
        Trash::within(&own, Some(top.path()?))
    }

    fn in_home(home: &Path, folder: &Folder) -> io::Result<Trash> {
        std::fs::create_dir_all(home)?;
        let own = Folder::open_root(home, folder.is_full())?;
        if !own.is_ours()? || own.mount()? != folder.mount()? {
            return Err(io::ErrorKind::CrossesDevices.into());
        }
        Trash::within(&own, None)
    }

    fn within(own: &Folder, top: Option<PathBuf>) -> io::Result<Trash> {
        Ok(Trash { files: own.own_folder(b"files")?, info: own.own_folder(b"info")?, top })
    }

    /// Moves what has a name in a folder here; the name that it has now.
    pub(super) fn take(&self, folder: &Folder, name: &Name) -> io::Result<Vec<u8>> {
        let was = folder.path()?.join(std::ffi::OsStr::from_bytes(name.as_bytes()));
        let was = self.top.as_ref().and_then(|top| was.strip_prefix(top).ok()).unwrap_or(&was).to_owned();
        for number in 1..u32::MAX {
            let here = numbered(name.as_bytes(), number);
            match self.info.create_file(&[here.as_slice(), INFO_SUFFIX].concat(), None) {
                Ok(mut info) => info.write_all(&told(&was)).inspect_err(|_| self.forget(&here))?,
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => continue,
                Err(error) => return Err(error),
            }
            match folder.rename_new(name.as_bytes(), &self.files, &here) {
                Ok(()) => return Ok(here),
                // Something without an entry of its own has the name.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => self.forget(&here),
                Err(error) => {
                    self.forget(&here);
                    return Err(error);
                }
            }
        }
        Err(io::ErrorKind::AlreadyExists.into())
    }

    /// Moves something back where it was.
    pub(super) fn give_back(&self, here: &[u8], folder: &Folder, name: &Name) -> io::Result<()> {
        self.files.rename_new(here, folder, name.as_bytes())?;
        self.forget(here);
        Ok(())
    }

    /// Removes the entry of something that is not here. One that stays harms nobody.
    fn forget(&self, here: &[u8]) {
        let _ = self.info.unlink(&[here, INFO_SUFFIX].concat());
    }
}

/// The trash of the account, where its own home is known. The specification goes by the environment; the home of another account, which
/// `sudo -E` leaves there, is none of ours: that shows when it is opened.
fn home_trash() -> Option<PathBuf> {
    let absolute = |path: std::ffi::OsString| Some(PathBuf::from(path)).filter(|path| path.is_absolute());
    let data = std::env::var_os("XDG_DATA_HOME").and_then(absolute);
    let home = std::env::var_os("HOME").and_then(absolute).filter(|home| sys::is_our_home(home));
    let data = data.filter(|data| sys::is_our_home(data) || !data.exists() && home.is_some());
    Some(data.or_else(|| home.map(|home| home.join(".local/share")))?.join("Trash"))
}

/// A name, or the same with a number before its ending, short enough for its entry.
fn numbered(name: &[u8], number: u32) -> Vec<u8> {
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0);
    let (stem, ending) = name.split_at(dot.unwrap_or(name.len()));
    let ending = if ending.len() < LONGEST / 2 { ending } else { b"" };
    let number = if number == 1 { String::new() } else { format!(".{number}") };
    let room = LONGEST - ending.len() - number.len();
    [&stem[..stem.len().min(room)], number.as_bytes(), ending].concat()
}

/// The entry of something: where it was, with the bytes escaped as in an address (RFC 2396), and when it was thrown away.
fn told(was: &Path) -> Vec<u8> {
    let mut path = String::new();
    for byte in was.as_os_str().to_owned().into_vec() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' | b'~' => {
                path.push(char::from(byte));
            }
            other => path.push_str(&format!("%{other:02X}")),
        }
    }
    let now = jiff::Zoned::now().strftime("%Y-%m-%dT%H:%M:%S");
    format!("[Trash Info]\nPath={path}\nDeletionDate={now}\n").into_bytes()
}

impl Folder {
    /// A folder of this account's own in this one, closed to others; made where there is none.
    fn own_folder(&self, name: &[u8]) -> io::Result<Folder> {
        match self.make_folder(name, Some(0o700)) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        let folder = self.open_below(&RelPath::new(name).unwrap_or_default())?;
        if folder.is_ours()? { Ok(folder) } else { Err(io::ErrorKind::PermissionDenied.into()) }
    }

    /// A folder that somebody else has made for everybody: with the sticky bit, which keeps what is in it apart.
    fn open_made_by_others(&self, name: &[u8]) -> io::Result<Folder> {
        let folder = self.open_below(&RelPath::new(name).unwrap_or_default())?;
        let sticky = folder.stat_self()?.mode.is_some_and(|mode| mode & 0o1000 != 0);
        if sticky { Ok(folder) } else { Err(io::ErrorKind::PermissionDenied.into()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_in_the_trash_are_short_enough_for_their_entries() {
        let long = "n".repeat(255);
        let cases = [
            (b"heron.csv".as_slice(), 1, b"heron.csv".to_vec()),
            (b"heron.csv", 2, b"heron.2.csv".to_vec()),
            (b".profile", 3, b".profile.3".to_vec()),
            (b"notes", 12, b"notes.12".to_vec()),
            (long.as_bytes(), 1, "n".repeat(LONGEST).into_bytes()),
        ];
        for (name, number, expected) in cases {
            assert_eq!(numbered(name, number), expected);
        }
        let entry = String::from_utf8(told(Path::new("/srv/a b%\n.csv"))).unwrap();
        assert!(entry.starts_with("[Trash Info]\nPath=/srv/a%20b%25%0A.csv\nDeletionDate="), "{entry}");
    }
}
