//! Files that a person has asked for, such as a table or a page: readable as the account's other files are, and there only when they are
//! whole.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use crate::failure::{Failure, Outcome};

/// A file that appears under its name when it is whole. What is no plain file (a pipe, a terminal) is written to as it is.
pub struct Fresh {
    /// As it was typed.
    path: PathBuf,
    /// What it is called until it is whole, and then; nothing for what is no plain file.
    names: Option<[PathBuf; 2]>,
    file: Option<BufWriter<File>>,
}

impl Fresh {
    /// Begins a file.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn open(path: &Path) -> Outcome<Fresh> {
        let names = match path.metadata() {
            Ok(found) if found.is_dir() => return Err(failed(path, "it is a folder")),
            Ok(found) if !found.is_file() => None,
            _ => Some(names(path)),
        };
        let file = match &names {
            Some([beside, _]) => File::create(beside),
            None => OpenOptions::new().write(true).open(path),
        };
        let file = file.map_err(|error| failed(path, error))?;
        Ok(Fresh { path: path.to_owned(), names, file: Some(BufWriter::new(file)) })
    }

    /// Puts it in its place: all of it was written. Returns its path, as it was given.
    ///
    /// # Errors
    /// When it cannot be written to its end.
    pub fn finish(mut self) -> Outcome<PathBuf> {
        if let Some(mut file) = self.file.take() {
            let finished = file.flush().and_then(|()| match &self.names {
                // Durable before it is there: after a power cut there is the old one or the new one.
                Some([beside, path]) => file.get_ref().sync_all().and_then(|()| fs::rename(beside, path)),
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
        if let Some([beside, _]) = &self.names {
            let _ = fs::remove_file(beside);
        }
    }
}

/// What a file is called until it is whole, and then: a link stays one. Several programs may write the same one at once.
fn names(path: &Path) -> [PathBuf; 2] {
    static SERIAL: AtomicU64 = AtomicU64::new(0);
    let path = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let mut name = path.file_name().unwrap_or_default().to_owned();
    let (process, serial) = (std::process::id(), SERIAL.fetch_add(1, Ordering::Relaxed));
    name.push(format!(".{process}-{serial}.new"));
    [path.with_file_name(name), path]
}

impl Write for Fresh {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.as_mut().map_or(Ok(bytes.len()), |file| file.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.as_mut().map_or(Ok(()), |file| file.flush())
    }
}

impl Drop for Fresh {
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
pub fn write_whole(path: &Path, bytes: &[u8]) -> Outcome<PathBuf> {
    let mut file = Fresh::open(path)?;
    file.write_all(bytes).map_err(|error| failed(path, error))?;
    file.finish()
}
