//! Places as people write them (`~/counts`, `@field-drive/counts`) and the stores behind them.

use std::ffi::{OsStr, OsString};
use std::path::{Component, Path, PathBuf};

use reedhook_core::foreign::escaped;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::Place;
use reedhook_stores::drives;

use crate::failure::{Failure, Outcome};
use crate::home::Home;
use crate::jobfile::job::Job;
use crate::reach::{self, Reach};
use crate::settings::Settings;

/// A place as written, and what it means now.
#[derive(Debug, Clone)]
pub struct Located {
    /// As written in the job.
    pub written: String,
    /// What it means now.
    pub means: Means,
}

/// What a place means now.
#[derive(Debug, Clone)]
pub enum Means {
    /// A folder of this machine.
    Folder {
        /// The folder.
        path: PathBuf,
        /// The folder of the named store that it is in, if any.
        store_root: Option<PathBuf>,
    },
    /// A folder on a drive that is not there, and why.
    Absent(String),
    /// A folder at a server.
    Server(Box<Reach>),
    /// What an inventory has in a folder: to be looked at and compared with, and nothing else.
    Inventory {
        /// Its name.
        name: String,
        /// The folder.
        below: RelPath,
    },
}

/// Before the name of an inventory, where a place is written.
pub const INVENTORY: &str = "inventory:";

impl Located {
    fn new(written: &str, means: Means) -> Located {
        Located { written: written.to_owned(), means }
    }

    /// A folder of this machine.
    pub fn local(written: String, path: PathBuf) -> Located {
        Located { written, means: Means::Folder { path, store_root: None } }
    }

    /// The folder, where it is one of this machine.
    pub fn folder(&self) -> Option<&Path> {
        match &self.means {
            Means::Folder { path, .. } => Some(path),
            Means::Absent(_) | Means::Server(_) | Means::Inventory { .. } => None,
        }
    }

    /// Why it cannot be reached, where its drive is not there.
    pub fn absent(&self) -> Option<&str> {
        match &self.means {
            Means::Absent(why) => Some(why),
            Means::Folder { .. } | Means::Server(_) | Means::Inventory { .. } => None,
        }
    }

    /// What it takes to reach it, where it is at a server.
    pub fn server(&self) -> Option<&Reach> {
        match &self.means {
            Means::Server(reach) => Some(reach),
            Means::Folder { .. } | Means::Absent(_) | Means::Inventory { .. } => None,
        }
    }

    /// Its path, wherever that leads: for the names in it only.
    fn names(&self) -> PathBuf {
        match &self.means {
            Means::Folder { path, .. } => path.clone(),
            Means::Absent(_) => PathBuf::from(self.written.trim_start_matches('@')),
            Means::Inventory { name, below } => {
                Path::new(name).join(String::from_utf8_lossy(below.as_bytes()).as_ref())
            }
            Means::Server(reach) => reach.path(),
        }
    }

    /// Its own name, the last of its path.
    pub fn name(&self) -> Option<OsString> {
        self.names().file_name().map(OsStr::to_owned)
    }

    /// The name of the folder that it is in.
    pub fn name_above(&self) -> Option<OsString> {
        self.names().parent()?.file_name().map(OsStr::to_owned)
    }

    /// For people: as written, with the folder behind it where that says more.
    pub fn shown(&self, home: &Home) -> String {
        let named = self.written.starts_with('@');
        let behind = match &self.means {
            Means::Absent(_) | Means::Inventory { .. } => return escaped(&self.written),
            Means::Server(reach) => escaped(&reach.address.shown()),
            Means::Folder { path, .. } => home.shorten(path),
        };
        if named { format!("{} ({behind})", escaped(&self.written)) } else { behind }
    }

    /// For people, in short: a named store's name is enough.
    pub fn short(&self, home: &Home) -> String {
        if self.written.starts_with('@') { escaped(&self.written) } else { self.shown(home) }
    }

    /// Where it is: with links resolved as far as it exists, and on its file system, where bind mounts are no disguise.
    pub fn places(&self) -> Vec<Place> {
        match &self.means {
            Means::Server(reach) => vec![Place::Elsewhere(reach.place())],
            Means::Absent(_) | Means::Inventory { .. } => vec![Place::Elsewhere(self.written.clone())],
            Means::Folder { path, .. } => {
                let resolved = resolve(path);
                let on_device = drives::on_device(&resolved);
                [Some(resolved), on_device].into_iter().flatten().map(Place::Local).collect()
            }
        }
    }

    /// The folder with links resolved, as far as it exists.
    pub fn resolved(&self) -> Option<PathBuf> {
        self.folder().map(resolve)
    }

    /// Whether its own folder is there now; of a place at a server nothing is known without a connection.
    pub fn is_there(&self) -> bool {
        self.folder().is_some_and(Path::is_dir)
    }

    /// Whether it is in a named store that is there now.
    pub fn is_below_a_store(&self) -> bool {
        match &self.means {
            Means::Folder { store_root: Some(root), .. } => {
                root.is_dir() || root.parent().is_some_and(Path::is_dir)
            }
            _ => false,
        }
    }

    /// The folder or address that it means now, as text.
    pub fn location(&self) -> String {
        match &self.means {
            Means::Server(reach) => reach.place(),
            Means::Folder { path, .. } => path.display().to_string(),
            Means::Absent(_) | Means::Inventory { .. } => self.written.clone(),
        }
    }

    /// Where something below it is, for people.
    pub fn below(&self, home: &Home, text: &str) -> String {
        let folder = match &self.means {
            Means::Server(reach) => reach.address.shown(),
            Means::Folder { path, .. } => home.shorten(path),
            Means::Absent(_) | Means::Inventory { .. } => self.written.clone(),
        };
        format!("{}/{text}", folder.trim_end_matches('/'))
    }

    /// Whether it is there now, as far as can be told without a connection: a place at a server counts as there.
    pub fn seems_there(&self) -> bool {
        self.server().is_some() || self.is_there()
    }
}

/// The path with links resolved; what does not exist yet is added as it is.
fn resolve(path: &Path) -> PathBuf {
    match (path.canonicalize(), path.parent(), path.file_name()) {
        (Ok(resolved), ..) => resolved,
        (Err(_), Some(parent), Some(name)) => resolve(parent).join(name),
        _ => path.to_path_buf(),
    }
}

/// Finds the folder that a place means.
///
/// # Errors
/// When it is empty, names an unknown store, or is an address that cannot be read.
pub fn locate(home: &Home, settings: &Settings, written: &str) -> Outcome<Located> {
    if written.trim().is_empty() {
        return Err(Failure::usage("a place is empty").hint("Give a path or @store/sub/folder."));
    }
    if let Some(named) = written.strip_prefix('@') {
        let (name, below) = named.split_once('/').unwrap_or((named, ""));
        let entry = settings.store(name)?;
        let below = below.trim_matches('/');
        if reach::is_address(&entry.location) {
            return Ok(Located::new(written, Means::Server(Box::new(Reach::of_entry(name, entry, below)?))));
        }
        RelPath::new(below.as_bytes())
            .map_err(|error| Failure::usage(format!("\"{written}\": the part after the store {error}")))?;
        let means = match entry.root(home) {
            Err(why) => Means::Absent(why),
            Ok(root) => {
                let path = if below.is_empty() { root.clone() } else { root.join(below) };
                Means::Folder { path, store_root: Some(root) }
            }
        };
        return Ok(Located::new(written, means));
    }
    if let Some(named) = written.strip_prefix(INVENTORY) {
        let (name, below) = named.split_once('/').unwrap_or((named, ""));
        let below = RelPath::new(below.trim_matches('/').as_bytes()).map_err(|error| {
            Failure::usage(format!("\"{written}\": the part after the inventory {error}"))
        })?;
        return Ok(Located::new(written, Means::Inventory { name: name.to_owned(), below }));
    }
    if reach::is_address(written) {
        return Ok(Located::new(written, Means::Server(Box::new(Reach::of_address(written)?))));
    }
    let path = std::path::absolute(home.expand(written))
        .map_err(|error| Failure::usage(format!("\"{written}\": {error}")))?;
    // A slash at the end makes no difference.
    let path: PathBuf = path.components().collect();
    Ok(Located::local(written.to_owned(), path))
}

/// A place as it should be written into a job: absolute, with the user's own folder as `~`.
///
/// # Errors
/// When it cannot be written as text.
pub fn written_for_keeping(home: &Home, settings: &Settings, typed: &str) -> Outcome<String> {
    let located = locate(home, settings, typed)?;
    if matches!(located.means, Means::Inventory { .. }) {
        return Err(no_place_for_files(&located.written));
    }
    let Some(path) = located.folder().filter(|_| !typed.starts_with('@')) else {
        return Ok(typed.trim_end_matches('/').to_owned());
    };
    let text = home.written(path);
    if home.expand(&text) != path {
        return Err(Failure::usage(format!(
            "{}: the path is not UTF-8 and cannot be written into a job",
            text
        ))
        .hint("Give the folder a store name, or reach it through a link."));
    }
    Ok(text)
}

/// A path as typed, relative to a side's root.
///
/// # Errors
/// When it leads out of the root.
pub fn typed_path(typed: &Path) -> Outcome<RelPath> {
    let plain = without_dots(typed);
    RelPath::new(plain.as_os_str().as_encoded_bytes()).map_err(|error| {
        Failure::usage(format!("\"{}\" {error}", typed.display()))
            .hint("Give a path relative to the side's root.")
    })
}

/// The same path without what a shell may have put around it: `./` before it, a slash behind it.
pub fn without_dots(typed: &Path) -> PathBuf {
    typed.components().filter(|part| *part != Component::CurDir).collect()
}

/// A job's sources and destinations, located.
#[derive(Debug, Clone)]
pub struct Ends {
    /// What is read.
    pub from: Vec<Located>,
    /// What is changed.
    pub to: Vec<Located>,
}

impl Ends {
    /// Locates both ends of a job.
    ///
    /// # Errors
    /// When one of them means nothing.
    pub fn of(job: &Job, home: &Home, settings: &Settings) -> Outcome<Ends> {
        let locate_all = |written: &[String]| {
            written.iter().map(|text| locate(home, settings, text)).collect::<Outcome<Vec<_>>>()
        };
        Ok(Ends { from: locate_all(&job.from)?, to: locate_all(&job.to)? })
    }

    /// The folders of this machine among the places.
    pub fn folders(&self) -> Vec<PathBuf> {
        self.from.iter().chain(&self.to).filter_map(Located::folder).map(Path::to_owned).collect()
    }

    /// The folder names that several sources land in; `None` for a single source.
    ///
    /// # Errors
    /// When two sources have one name, or one has none.
    pub fn landing_names(&self) -> Outcome<Option<Vec<Name>>> {
        if self.from.len() < 2 {
            return Ok(None);
        }
        let mut names: Vec<Name> = Vec::new();
        for located in &self.from {
            let name = located.name().unwrap_or_default();
            let name = Name::new(name.as_encoded_bytes()).map_err(|_| {
                let place = located.location();
                Failure::usage(format!("{place} has no name of its own to land under"))
            })?;
            if names.contains(&name) {
                return Err(Failure::usage(format!("two sources would land in the same folder \"{name}\""))
                    .hint("Rename one, or make two jobs."));
            }
            names.push(name);
        }
        Ok(Some(names))
    }
}

/// An inventory stands where files are wanted.
pub fn no_place_for_files(written: &str) -> Failure {
    let message = format!("{written} is what a store held, and has no files");
    Failure::usage(message).hint("It can be compared with: reedhook compare LEFT inventory:NAME; and looked at: reedhook review inventory:NAME.")
}
