//! A comparison as a table for spreadsheets (RFC 4180), one row for each entry that differs, or for each folder.

use std::path::{Path, PathBuf};

use reedhook_core::foreign::cell;
use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::{Differing, Face, FolderTally, Tally};
use reedhook_jobs::atomic_file::{AtomicFile, Mark, failed};
use reedhook_jobs::lines::StampText;

use crate::args::CompareArgs;
use crate::commands::compare::finding::{Finding, kind_word};
use crate::context::Context;
use crate::failure::Outcome;
use crate::named_file;

/// A table that is being written.
pub(super) struct Sheet {
    rows: csv::Writer<AtomicFile>,
    /// Cells are written as they are, whatever a spreadsheet makes of them.
    raw: bool,
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
    pub(super) fn open(
        context: &Context,
        asked: &CompareArgs,
        path: &Path,
        sides: &[PathBuf],
    ) -> Outcome<Sheet> {
        let (counts, raw) = (asked.counts, asked.csv_raw);
        let heading: &[&str] = if counts { &FOLDERS } else { &ENTRIES };
        let mark = heading[..4].join(",");
        let file = named_file::begin(context, path, Mark::Begins(&mark), sides)?;
        let rows = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(file);
        let mut sheet = Sheet { rows, path: path.to_owned(), counts, raw };
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
        let written = match self.raw {
            true => self.rows.write_record(cells),
            false => self.rows.write_record(cells.into_iter().map(|bytes| cell(bytes.as_ref()))),
        };
        written.map_err(|error| failed(&self.path, error))
    }

    pub(super) fn finish(self, context: &Context) -> Outcome<()> {
        let path = self.path;
        let file = self.rows.into_inner().map_err(|error| failed(&path, error.error()))?;
        named_file::written(context, file)
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
