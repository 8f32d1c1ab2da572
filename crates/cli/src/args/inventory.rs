//! What `inventory` takes.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, Subcommand, ValueEnum, ValueHint};
use reedhook_core::units::{Moment, Size, UnitError};

#[derive(Debug, Subcommand)]
pub enum InventoryCommand {
    /// Note what a place holds, so that it can be searched while the drive is away. Taken anew, only what changed is written.
    #[command(after_help = "Examples:\n  reedhook inventory take @field-drive\n  \
        reedhook inventory take /media/fenfield --name FENFIELD-2\n\n\
        Exit codes: 0, 1 when something could not be looked at (of that, what was known stays).")]
    Take {
        /// A folder, a drive, @store or an address.
        place: String,
        /// What to call it; default: as the store, the drive's label, or the folder.
        #[arg(long)]
        name: Option<String>,
    },
    /// List the inventories: how much each has, when it was taken, and whether its store is connected.
    #[command(after_help = "Example:\n  reedhook inventory list")]
    List,
    /// Find entries in all inventories, and say which drive to fetch.
    ///
    /// A word is found anywhere in the path, without regard to upper and lower case; one with * or ? is the whole name. Of several
    /// words all must be there.
    #[command(
        after_help = "Examples:\n  reedhook inventory find heron 2031\n  reedhook inventory find '*.jpg' --size 5MB..\n  \
        reedhook inventory find north --changed '30 days'\n  reedhook inventory find rota --copies\n  \
        reedhook inventory find --alone --in FENFIELD-2\n\n\
        SIZES: 10MB..2GB, 10MB.. (at least) or ..2GB (at most). TIMES: '30 days' (since then), 2031-05-01..2031-06-01, ..2031-06-01.\n\n\
        Exit codes: 0 found, 1 nothing found."
    )]
    Find(Box<FindArgs>),
    /// Show what an inventory has in a folder: files, and folders with what lies below them.
    #[command(
        after_help = "Examples:\n  reedhook inventory show FENFIELD-2\n  reedhook inventory show FENFIELD-2 stills/2031"
    )]
    Show {
        /// The inventory.
        name: String,
        /// The folder in it; default: the top.
        path: Option<PathBuf>,
    },
    /// Delete an inventory. Nothing is changed on its drive.
    #[command(after_help = "Example:\n  reedhook inventory drop FENFIELD-2")]
    Drop {
        /// The inventory.
        name: String,
    },
    /// Import a listing that another machine printed, to search a drive that was never here.
    #[command(
        after_help = "Examples:\n  find /mnt/drive -printf '%y %s %T@ %P\\n' > fenfield-9.txt      (there)\n  \
        reedhook inventory import fenfield-9.txt --name FENFIELD-9\n\n\
        Understood: what that find prints (also with \\0), ls -lR (best with --time-style=full-iso), and tables with a column path\n\
        (and kind, size, modified), as inventory export --csv prints them.\n\n\
        Exit codes: 0, 1 when some lines were not understood."
    )]
    Import {
        /// The listing.
        #[arg(value_hint = ValueHint::FilePath)]
        file: PathBuf,
        /// What to call it.
        #[arg(long)]
        name: String,
        /// The label of its drive.
        #[arg(long, default_value = "", hide_default_value = true)]
        label: String,
    },
    /// Print everything that an inventory has, as a table or, with --json, as lines.
    #[command(after_help = "Examples:\n  reedhook inventory export FENFIELD-2 --csv > fenfield-2.csv\n  \
        reedhook inventory export FENFIELD-2 --json | wc -l")]
    Export {
        /// The inventory.
        name: String,
        /// As a table for spreadsheets (RFC 4180).
        #[arg(long)]
        csv: bool,
        /// Write names into the table as they are: without it, what a spreadsheet would take for a formula begins with an apostrophe.
        #[arg(long, requires = "csv")]
        csv_raw: bool,
    },
}

#[derive(Debug, Args)]
pub struct FindArgs {
    /// Words of the path.
    pub words: Vec<String>,
    /// Only files of such a size.
    #[arg(long, value_name = "SIZES")]
    pub size: Option<Range<Size>>,
    /// Only what was changed in such a time.
    #[arg(long, value_name = "TIMES")]
    pub changed: Option<Range<Moment>>,
    /// Only in this inventory. Repeatable.
    #[arg(long = "in", value_name = "NAME")]
    pub within: Vec<String>,
    /// Only file, folder, link or special.
    #[arg(long, value_name = "KIND", hide_possible_values = true)]
    pub kind: Option<KindWord>,
    /// Say where else the same file is: by its hash where both are known, else by name, size and time (within two seconds).
    #[arg(long)]
    pub copies: bool,
    /// Only files that are on no other drive, as far as inventories tell: what would be lost with it. Empty files do not count.
    #[arg(long, conflicts_with = "copies")]
    pub alone: bool,
    /// List everything, also where there is much.
    #[arg(long)]
    pub all: bool,
}

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum KindWord {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link.
    Link,
    /// Anything else.
    Special,
}

/// A range as people write it: `LEAST..MOST`, one of them left out, or the least alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range<T> {
    /// Not less, or not before.
    pub least: Option<T>,
    /// Not more, or not after.
    pub most: Option<T>,
}

impl<T: FromStr<Err = UnitError>> FromStr for Range<T> {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Range<T>, UnitError> {
        let end = |text: &str| match text.trim() {
            "" => Ok(None),
            text => text.parse().map(Some),
        };
        let range = match text.split_once("..") {
            Some((least, most)) => Range { least: end(least)?, most: end(most)? },
            None => Range { least: end(text)?, most: None },
        };
        match (&range.least, &range.most) {
            (None, None) => Err(UnitError::new(text, "a range such as 10MB..2GB or 2031-05-01..2031-06-01")),
            _ => Ok(range),
        }
    }
}

impl fmt::Display for KindWord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            KindWord::File => "file",
            KindWord::Folder => "folder",
            KindWord::Link => "link",
            KindWord::Special => "special",
        })
    }
}
