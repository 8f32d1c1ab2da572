//! What `compare` and `review` take.

use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use clap::{Args, ValueHint};
use reedhook_core::compare::{Basis, DiffState};
use reedhook_core::filter::TakeOrSkip;
use reedhook_core::units::{Age, Moment, Size, UnitError};
use reedhook_jobs::jobfile::JobKeys;

/// What is compared, and how it is told.
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// A job, or two places: paths, @store/sub, or addresses. Of more, each is compared with the first.
    #[arg(required = true, value_name = "JOB | LEFT RIGHT")]
    pub places: Vec<String>,
    /// Read both sides and compare byte by byte; times do not count then.
    #[arg(long, conflicts_with = "by")]
    pub content: bool,
    /// What tells two files apart: time (size and time, default), size or content.
    #[arg(long, value_name = "time|size|content")]
    pub by: Option<Basis>,
    /// Times that are no further apart count as the same: 2s, 1h.
    #[arg(long, value_name = "LENGTH")]
    pub tolerance: Option<Tolerance>,
    /// Show these states alone, separated by commas; the exit code is about them, too.
    #[arg(long, value_name = "STATE,…", value_delimiter = ',')]
    pub only: Vec<DiffState>,
    /// Count files, folders and bytes in each folder on each side.
    #[arg(long)]
    pub counts: bool,
    /// List every entry that differs, also when there are many; with --counts, every folder.
    #[arg(long)]
    pub all: bool,
    /// Write what differs (with --counts, the folders) as a table for spreadsheets.
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub csv: Option<PathBuf>,
    /// Write names into the table as they are: without it, what a spreadsheet would take for a formula begins with an apostrophe.
    #[arg(long, requires = "csv")]
    pub csv_raw: bool,
    /// Write one page that needs nothing else: a folding tree to search and sort, made to be handed over.
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub html: Option<PathBuf>,
    #[command(flatten)]
    pub filter: FilterArgs,
}

/// What is reviewed.
#[derive(Debug, Args)]
pub struct ReviewArgs {
    /// A job, or two places, or inventory:NAME.
    #[arg(required = true, num_args = 1..=2, value_name = "JOB | LEFT RIGHT")]
    pub places: Vec<String>,
    /// Of two places: read both and compare byte by byte.
    #[arg(long)]
    pub content: bool,
    #[command(flatten)]
    pub filter: FilterArgs,
}

/// What takes part: as the keys of a job. A job's own filter holds besides.
#[derive(Debug, Args, Clone, Default, PartialEq)]
#[command(next_help_heading = "What takes part")]
pub struct FilterArgs {
    /// Leave out what matches, for example '*.tmp' or 'scratch/'.
    #[arg(long, value_name = "LINE", allow_hyphen_values = true)]
    pub exclude: Vec<String>,
    /// Take only what matches, or lies in a folder that does (in a job: only).
    #[arg(long, value_name = "LINE", allow_hyphen_values = true)]
    pub include: Vec<String>,
    /// What operating systems leave behind: skip (default) or take.
    #[arg(long, value_name = "take|skip")]
    pub junk: Option<TakeOrSkip>,
    /// Names that begin with a dot: take (default) or skip.
    #[arg(long, value_name = "take|skip")]
    pub hidden: Option<TakeOrSkip>,
    /// Leave out smaller files.
    #[arg(long, value_name = "SIZE")]
    pub min_size: Option<Size>,
    /// Leave out larger files.
    #[arg(long, value_name = "SIZE")]
    pub max_size: Option<Size>,
    /// Leave out files last changed before: '30 days' ago, or a date.
    #[arg(long, value_name = "WHEN")]
    pub newer_than: Option<Moment>,
    /// Leave out files last changed after: '2 days' ago, or a date.
    #[arg(long, value_name = "WHEN")]
    pub older_than: Option<Moment>,
}

impl FilterArgs {
    /// The same as keys of a job.
    pub fn keys(&self) -> JobKeys {
        let FilterArgs { exclude, include, junk, hidden, min_size, max_size, newer_than, older_than } =
            self.clone();
        JobKeys {
            exclude,
            only: include,
            junk,
            hidden,
            min_size,
            max_size,
            newer_than,
            older_than,
            ..JobKeys::default()
        }
    }
}

/// Times so far apart count as the same.
#[derive(Debug, Clone, Copy)]
pub struct Tolerance(pub Duration);

impl FromStr for Tolerance {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Tolerance, UnitError> {
        text.parse::<Age>().map(|age| Tolerance(age.length()))
    }
}
