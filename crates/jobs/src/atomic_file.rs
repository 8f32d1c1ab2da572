//! Files that a person has asked for, such as a table, a page or a plan: there only when they are whole, and only where they were asked
//! for.
//!
//! A run of root's may write into a folder that others can write to. So what is written goes to a new file of a random name beside its
//! place, through the open folder; a link that another account has put there is not followed, as the kernel's own protection has it
//! (proc(5), `protected_symlinks`); and only a regular file is replaced. A file that is there and was not written by this program is
//! replaced only after a yes.

use std::ffi::OsString;
use std::fs::{self, File, Metadata};
use std::io::{self, BufWriter, Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Mode, OFlags};

use crate::failure::{Cause, Failure, Outcome};

/// By what a file of a kind is known to have been written by this program.
#[derive(Debug, Clone, Copy)]
pub enum Mark<'a> {
    /// Its first bytes.
    Begins(&'a str),
    /// Something near its beginning.
    Holds(&'a str),
    /// Nothing: another file is always somebody's own.
    None,
}

impl Mark<'_> {
    /// A page.
    pub const PAGE: Mark<'static> = Mark::Holds("<meta name=\"generator\" content=\"Reedhook\">");
    /// Figures.
    pub const FIGURES: Mark<'static> = Mark::Holds(" reedhook_");
    /// A calendar.
    pub const CALENDAR: Mark<'static> = Mark::Holds("PRODID:-//Reedhook//");
    /// A launcher.
    pub const LAUNCHER: Mark<'static> = Mark::Holds("Runs the Reedhook job ");

    fn is_on(self, path: &Path) -> bool {
        let mut head = vec![0; 4096];
        let read = open_plain(path).and_then(|file| {
            let mut read = 0;
            let mut file = file.take(4096);
            loop {
                match file.read(&mut head[read..])? {
                    0 => return Ok(read),
                    length => read += length,
                }
            }
        });
        let Ok(length) = read else { return false };
        let head = &head[..length];
        let finds = |text: &str| head.windows(text.len().max(1)).any(|window| window == text.as_bytes());
        // One that is empty holds nobody's work.
        head.is_empty()
            || match self {
                Mark::Begins(text) => head.starts_with(text.as_bytes()),
                Mark::Holds(text) => finds(text),
                Mark::None => false,
            }
    }
}

/// What may be replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Replace {
    /// What this program wrote.
    Ours,
    /// Any file: somebody has said yes.
    Any,
}

/// A file that appears under its name when it is whole. `-` is standard output, and a character device is written to as it is.
pub struct AtomicFile {
    /// As it was typed.
    path: PathBuf,
    beside: Option<Beside>,
    file: Option<BufWriter<File>>,
}

/// A new file in the folder of the one that it is to be.
struct Beside {
    folder: OwnedFd,
    temporary: OsString,
    name: OsString,
}

impl AtomicFile {
    /// Begins a file.
    ///
    /// # Errors
    /// When it cannot be made; with [`Cause::FileExists`] when one is there that may not be replaced.
    pub fn begin(path: &Path, mark: Mark<'_>, replace: Replace) -> Outcome<AtomicFile> {
        let why = |why: &dyn std::fmt::Display| failed(path, why);
        if let Some(direct) = direct(path).map_err(|error| why(&error))? {
            return Ok(AtomicFile {
                path: path.to_owned(),
                beside: None,
                file: Some(BufWriter::new(direct)),
            });
        }
        refuse_planted_links(path)?;
        // A link that is to be trusted stays one: the file may lie elsewhere.
        let real = path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let there = match fs::symlink_metadata(&real) {
            Ok(found) if found.is_dir() => return Err(why(&"it is a folder")),
            Ok(found) if !found.is_file() => return Err(why(&"it is no plain file")),
            Ok(found) => Some(found),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(why(&error)),
        };
        if there.is_some() && replace == Replace::Ours && !mark.is_on(&real) {
            let message = format!("{} is there already, and Reedhook did not write it", path.display());
            return Err(Failure { cause: Cause::FileExists, ..Failure::usage(message) }
                .hint("Choose another name, or replace it with --yes."));
        }
        let (beside, file) = Beside::make(&real, there.as_ref()).map_err(|error| why(&error))?;
        Ok(AtomicFile { path: path.to_owned(), beside: Some(beside), file: Some(BufWriter::new(file)) })
    }

    /// Puts it in its place: all of it was written. Returns its path, as it was given.
    ///
    /// # Errors
    /// When it cannot be written to its end.
    pub fn finish(self) -> Outcome<PathBuf> {
        self.finish_with(None)
    }

    /// As [`AtomicFile::finish`], with a mode of its own.
    ///
    /// # Errors
    /// As [`AtomicFile::finish`].
    pub fn finish_with(mut self, mode: Option<u32>) -> Outcome<PathBuf> {
        if let Some(mut file) = self.file.take() {
            let finished = file.flush().and_then(|()| match &self.beside {
                // Durable before it is there: after a power cut there is the old one or the new one.
                Some(beside) => {
                    if let Some(mode) = mode {
                        rustix::fs::fchmod(file.get_ref(), Mode::from_raw_mode(mode))?;
                    }
                    file.get_ref().sync_all()?;
                    beside.publish()
                }
                None => Ok(()),
            });
            if let Err(error) = finished {
                self.clear();
                return Err(failed(&self.path, error));
            }
        }
        Ok(std::mem::take(&mut self.path))
    }

    fn clear(&self) {
        if let Some(beside) = &self.beside {
            let _ = rustix::fs::unlinkat(&beside.folder, &beside.temporary, AtFlags::empty());
        }
    }
}

impl Beside {
    /// A new file of a random name in the folder where it is to be, with the mode and the owner of the one that it replaces.
    fn make(path: &Path, there: Option<&Metadata>) -> io::Result<(Beside, File)> {
        let name = path.file_name().ok_or(io::ErrorKind::InvalidInput)?.to_owned();
        let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::open(parent, flags, Mode::empty())?;
        let mut temporary = OsString::from(format!(".{:016x}", fastrand::u64(..)));
        temporary.push(".new");
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        // New ones are as the account makes its files; one that takes another's place is closed until it has that one's mode.
        let mode = Mode::from_raw_mode(if there.is_some() { 0o600 } else { 0o666 });
        let file = File::from(rustix::fs::openat(&folder, &temporary, flags, mode)?);
        if let Some(there) = there {
            let owner = rustix::fs::Uid::from_raw(there.uid());
            let group = rustix::fs::Gid::from_raw(there.gid());
            // Only root can give a file away; its mode comes last, and without what lets it act for its owner.
            let _ = rustix::fs::fchown(&file, Some(owner), Some(group));
            rustix::fs::fchmod(&file, Mode::from_raw_mode(there.mode() & 0o777))?;
        }
        Ok((Beside { folder, temporary, name }, file))
    }

    fn publish(&self) -> io::Result<()> {
        rustix::fs::renameat(&self.folder, &self.temporary, &self.folder, &self.name)?;
        // A folder that cannot be made durable has the file all the same.
        let _ = rustix::fs::fsync(&self.folder);
        Ok(())
    }
}

/// What is written to as it is: standard output, and devices such as a terminal. What the shell has opened (`/dev/stdout`,
/// `/dev/fd/3`) is the program's own and never replaced by a file.
fn direct(path: &Path) -> io::Result<Option<File>> {
    if path == Path::new("-") {
        return Ok(Some(io::stdout().as_fd().try_clone_to_owned()?.into()));
    }
    let of_the_system = path.starts_with("/dev") || path.starts_with("/proc");
    let is_device = |found: Metadata| found.file_type().is_char_device();
    if !of_the_system && !fs::metadata(path).is_ok_and(is_device) {
        return Ok(None);
    }
    if path.starts_with("/dev/shm") {
        return Ok(None);
    }
    // A pipe that nobody reads from is no reason to wait.
    let flags = (OFlags::NONBLOCK | OFlags::NOCTTY).bits() as i32;
    let file = fs::OpenOptions::new().write(true).custom_flags(flags).open(path)?;
    let usual = rustix::fs::fcntl_getfl(&file)? - OFlags::NONBLOCK;
    rustix::fs::fcntl_setfl(&file, usual)?;
    Ok(Some(file))
}

/// Opens a regular file for reading, and waits for no pipe.
///
/// # Errors
/// When it is no regular file, or cannot be opened.
pub fn open_plain(path: &Path) -> io::Result<File> {
    let flags = (OFlags::NONBLOCK | OFlags::NOCTTY).bits() as i32;
    let file = fs::OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(io::Error::new(io::ErrorKind::InvalidInput, "it is no plain file")),
    }
}

/// Refuses a path on which another account has put a link in a folder where everybody can write.
fn refuse_planted_links(path: &Path) -> Outcome<()> {
    let us = rustix::process::geteuid().as_raw();
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    for at in path.ancestors() {
        let Ok(found) = fs::symlink_metadata(at) else { continue };
        if !found.file_type().is_symlink() || found.uid() == us || found.uid() == 0 {
            continue;
        }
        let folder = at.parent().and_then(|parent| fs::metadata(parent).ok());
        if folder.is_none_or(|folder| folder.mode() & 0o022 != 0 || folder.uid() != found.uid()) {
            let words = format!("{} is a link that another account has put there", at.display());
            return Err(failed(&path, words));
        }
    }
    Ok(())
}

/// In which of these folders a file that is to be written would lie.
pub fn lies_within<'a>(path: &Path, folders: &'a [PathBuf]) -> Option<&'a Path> {
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let parent = parent.canonicalize().ok()?;
    let holds = |folder: &&Path| folder.canonicalize().is_ok_and(|folder| parent.starts_with(folder));
    folders.iter().map(PathBuf::as_path).find(holds)
}

impl Write for AtomicFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.as_mut().map_or(Ok(bytes.len()), |file| file.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.as_mut().map_or(Ok(()), |file| file.flush())
    }
}

impl Drop for AtomicFile {
    fn drop(&mut self) {
        // What is not whole is of no use to anybody.
        if self.file.is_some() {
            self.clear();
        }
    }
}

/// A file that somebody named cannot be written.
pub fn failed(path: &Path, why: impl std::fmt::Display) -> Failure {
    Failure::usage(format!("{} cannot be written: {why}", path.display()))
        .hint("Choose another file, or check the rights and the free space there.")
}

/// Writes a whole file.
///
/// # Errors
/// When it cannot be written; then an old one is as it was.
pub fn write_whole(path: &Path, bytes: &[u8], mark: Mark<'_>, replace: Replace) -> Outcome<PathBuf> {
    let mut file = AtomicFile::begin(path, mark, replace)?;
    file.write_all(bytes).map_err(|error| failed(path, error))?;
    file.finish()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, symlink};

    use super::*;

    #[test]
    fn a_file_takes_its_place_whole_and_keeps_what_is_somebodys_own() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let mark = Mark::Begins("path,");
        let write = |name: &str, replace| write_whole(&at(name), b"path,size\n", mark, replace);
        write("new.csv", Replace::Ours).unwrap();
        write("new.csv", Replace::Ours).unwrap();
        fs::write(at("own.csv"), "somebody's").unwrap();
        fs::set_permissions(at("own.csv"), fs::Permissions::from_mode(0o640)).unwrap();
        fs::write(at("own.csv.new"), "theirs too").unwrap();
        assert!(matches!(write("own.csv", Replace::Ours).unwrap_err().cause, Cause::FileExists));
        assert_eq!(fs::read(at("own.csv")).unwrap(), b"somebody's");
        write("own.csv", Replace::Any).unwrap();
        assert_eq!(fs::metadata(at("own.csv")).unwrap().permissions().mode() & 0o777, 0o640);
        assert_eq!(fs::read(at("own.csv.new")).unwrap(), b"theirs too");
        symlink(at("new.csv"), at("link")).unwrap();
        write("link", Replace::Ours).unwrap();
        assert!(fs::symlink_metadata(at("link")).unwrap().file_type().is_symlink());
        rustix::fs::mknodat(rustix::fs::CWD, at("pipe"), rustix::fs::FileType::Fifo, Mode::RWXU, 0).unwrap();
        assert!(write("pipe", Replace::Any).unwrap_err().message.contains("no plain file"));
        assert!(open_plain(&at("pipe")).is_err());
        write_whole(Path::new("/dev/null"), b"1", mark, Replace::Ours).unwrap();
        drop(AtomicFile::begin(&at("cut short"), mark, Replace::Ours).unwrap());
        let mut names: Vec<_> =
            fs::read_dir(folder.path()).unwrap().flatten().map(|one| one.file_name()).collect();
        names.sort();
        assert_eq!(names, ["link", "new.csv", "own.csv", "own.csv.new", "pipe"]);
        let sides = [at("pipe"), folder.path().to_owned()];
        assert_eq!(lies_within(&at("x"), &sides), Some(folder.path()));
        assert_eq!(lies_within(&at("x"), &sides[..1]), None);
    }

    #[test]
    fn a_link_that_another_account_has_planted_is_not_followed() {
        if !rustix::process::geteuid().is_root() {
            println!("skipped: a planted link, for want of root");
            return;
        }
        let (folder, own) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o1777)).unwrap();
        let (planted, target) = (folder.path().join("out.csv"), own.path().join("target"));
        fs::write(&target, "path,").unwrap();
        symlink(&target, &planted).unwrap();
        std::os::unix::fs::lchown(&planted, Some(65_534), None).unwrap();
        let failure = write_whole(&planted, b"x", Mark::None, Replace::Any).unwrap_err();
        assert!(failure.message.contains("another account"), "{failure}");
        assert_eq!(fs::read(&target).unwrap(), b"path,");
    }
}
