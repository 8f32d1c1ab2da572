//! A comparison as a table for spreadsheets (RFC 4180), one row for each entry that differs, or for each folder.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::{Differing, Face, FolderTally, Tally};
use reedhook_jobs::lines::StampText;

use super::{Finding, kind_word};
use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// A file that appears under its name when it is whole. What is no plain file (a pipe, a terminal) is written to as it is.
pub(super) struct Fresh {
    /// As it was typed.
    path: PathBuf,
    /// What it is called until it is whole, and then; nothing for what is no plain file.
    names: Option<[PathBuf; 2]>,
    file: Option<BufWriter<File>>,
}

impl Fresh {
    pub(super) fn open(path: &Path) -> Outcome<Fresh> {
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

    pub(super) fn finish(mut self, context: &Context) -> Outcome<()> {
        if let Some(mut file) = self.file.take() {
            let finished = file.flush().and_then(|()| match &self.names {
                Some([beside, path]) => fs::rename(beside, path),
                None => Ok(()),
            });
            finished.map_err(|error| failed(&self.path, error))?;
        }
        context.say(format!("\nWritten: {}", self.path.display()));
        Ok(())
    }
}

/// What a file is called until it is whole, and then: a link stays one.
fn names(path: &Path) -> [PathBuf; 2] {
    let path = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".new");
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
        // What is not whole is nobody's table.
        if let (Some(_), Some([beside, _])) = (&self.file, &self.names) {
            let _ = fs::remove_file(beside);
        }
    }
}

pub(super) fn failed(path: &Path, why: impl std::fmt::Display) -> Failure {
    Failure::usage(format!("{} cannot be written: {why}", path.display()))
        .hint("Choose another file, or check the rights and the free space there.")
}

/// A table that is being written.
pub(super) struct Sheet {
    rows: csv::Writer<Fresh>,
    path: PathBuf,
    counts: bool,
}

const ENTRIES: [&str; 10] = [
    "path",
    "state",
    "kind",
    "left_size",
    "left_modified",
    "right_size",
    "right_modified",
    "right_path",
    "items",
    "to",
];
const FOLDERS: [&str; 9] = [
    "path",
    "left_files",
    "left_folders",
    "left_bytes",
    "right_files",
    "right_folders",
    "right_bytes",
    "differing",
    "to",
];

impl Sheet {
    pub(super) fn open(path: &Path, counts: bool) -> Outcome<Sheet> {
        let rows =
            csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Fresh::open(path)?);
        let mut sheet = Sheet { rows, path: path.to_owned(), counts };
        let heading: &[&str] = if counts { &FOLDERS } else { &ENTRIES };
        sheet.row(heading)?;
        Ok(sheet)
    }

    pub(super) fn take(&mut self, finding: &Finding<'_>, all: bool) -> Outcome<()> {
        let to = finding.to.clone().unwrap_or_default().into_bytes();
        if !self.counts {
            return finding.compared.differences.iter().try_for_each(|one| self.row(entry_row(one, &to)));
        }
        finding.folders(all).try_for_each(|(path, tally)| self.row(folder_row(path, tally, &to)))
    }

    fn row<T: AsRef<[u8]>>(&mut self, cells: impl IntoIterator<Item = T>) -> Outcome<()> {
        self.rows.write_record(cells).map_err(|error| failed(&self.path, error))
    }

    pub(super) fn finish(self, context: &Context) -> Outcome<()> {
        let path = self.path;
        self.rows.into_inner().map_err(|error| failed(&path, error.error()))?.finish(context)
    }
}

fn folder_row(path: &RelPath, tally: &FolderTally, to: &[u8]) -> Vec<Vec<u8>> {
    let mut row = vec![path.as_bytes().to_vec()];
    for side in tally.sides {
        let numbers = |tally: Tally| [tally.files, tally.folders, tally.bytes];
        let cells = side.map_or([const { String::new() }; 3], |tally| numbers(tally).map(|n| n.to_string()));
        row.extend(cells.map(String::into_bytes));
    }
    row.extend([tally.differing.to_string().into_bytes(), to.to_vec()]);
    row
}

fn entry_row(one: &Differing, to: &[u8]) -> Vec<Vec<u8>> {
    let text = |text: &str| text.as_bytes().to_vec();
    let size = |face: Option<Face>| {
        let file = face.filter(|face| kind_word(Some(*face)) != "folder");
        file.map_or(Vec::new(), |face| face.size.to_string().into_bytes())
    };
    let time = |face: Option<Face>| {
        face.and_then(|face| face.modified)
            .map_or(Vec::new(), |time| StampText(time).to_string().into_bytes())
    };
    vec![
        one.path.as_bytes().to_vec(),
        text(one.state.as_str()),
        text(kind_word(one.left.or(one.right))),
        size(one.left),
        time(one.left),
        size(one.right),
        time(one.right),
        one.right_path.as_ref().map_or(Vec::new(), |path| path.as_bytes().to_vec()),
        one.items.to_string().into_bytes(),
        to.to_vec(),
    ]
}
