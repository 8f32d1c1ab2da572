//! Places as people write them (`~/counts`, `@field-drive/counts`) and the stores behind them.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::num::NonZeroUsize;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use reedhook_core::foreign::escaped;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{FaultKind, Place, Store};
use reedhook_core::units::{Age, Size};
use reedhook_stores::drives;
use reedhook_stores::remote::connect::ConnectError;
use reedhook_stores::union::Union;
use serde::{Deserialize, Serialize};
use toml_edit::DocumentMut;

use crate::capabilities::{self, OpenOptions};
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome, suggestion};
use crate::home::{Home, write_file};
use crate::jobfile::{Job, check_name, refuse_deep, toml_failure};
use crate::notify::NotifyKeys;
use crate::reach::{self, Reach, ReachKeys};

/// The settings file: named stores, and what holds for all jobs.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// How many runs the service lets go on side by side; 2 when nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_runs: Option<NonZeroUsize>,
    /// How long people may say no before the machine is suspended or powered off; half a minute when nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub countdown: Option<Age>,
    /// How long the runs' logs are kept; a year when nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub logs_for: Option<Age>,
    /// A file for whoever gathers figures: it is written anew after each run, as OpenMetrics text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub metrics_file: Option<PathBuf>,
    /// How much room logs may take.
    #[serde(skip_serializing_if = "LogKeys::is_default")]
    pub logs: LogKeys,
    /// Who is told what came of runs.
    #[serde(skip_serializing_if = "NotifyKeys::is_empty")]
    pub notify: NotifyKeys,
    /// Named stores.
    pub stores: BTreeMap<String, StoreEntry>,
}

/// How much room the logs of one job may take, and, as it was once written, how long they are kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LogKeys {
    /// What is older goes: [`Settings::logs_for`] goes before it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep_for: Option<Age>,
    /// The oldest go when they take more.
    pub keep_max: Size,
}

impl Default for LogKeys {
    fn default() -> LogKeys {
        LogKeys { keep_for: None, keep_max: Size::from_bytes(1_000_000_000) }
    }
}

impl LogKeys {
    fn is_default(&self) -> bool {
        *self == LogKeys::default()
    }
}

/// A named store.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StoreEntry {
    /// Where it is; on a drive, the folder on it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub location: String,
    /// The label or UUID of the drive that it is on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drive: Option<String>,
    /// What it takes to reach it, when it is at a server.
    #[serde(default, skip_serializing_if = "ReachKeys::is_empty")]
    pub reach: ReachKeys,
    /// Whether its inventory keeps itself, by what runs see and when its drive appears; it does, unless this says otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inventory: Option<InventoryKept>,
}

/// Whether the inventory of a named store keeps itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "options", derive(clap::ValueEnum))]
pub enum InventoryKept {
    /// Runs and the service keep it up to date.
    On,
    /// It is taken by hand only.
    Off,
}

impl StoreEntry {
    /// The store's folder now. A drive is looked for wherever it is mounted.
    ///
    /// # Errors
    /// A sentence about the drive that is not connected, or not the only one of its name.
    pub fn root(&self, home: &Home) -> Result<PathBuf, String> {
        let Some(name) = &self.drive else { return Ok(home.expand(&self.location)) };
        let connected =
            drives::connected().map_err(|error| format!("the drives cannot be listed: {error}"))?;
        let unread: Vec<String> = connected
            .iter()
            .filter_map(|drive| Some(format!("{} ({})", drive.mount.display(), drive.unread.as_ref()?)))
            .collect();
        let mut called = connected.into_iter().filter(|drive| drive.is_called(name));
        match (called.next(), called.next()) {
            (Some(drive), None) => Ok(drive.mount.join(self.location.trim_matches('/'))),
            (Some(_), Some(_)) => {
                Err(format!("two connected drives are called {name}; give the store its drive's UUID"))
            }
            (None, _) if unread.is_empty() => Err(format!("the drive {name} is not connected")),
            (None, _) => Err(format!(
                "the drive {name} is not connected, or is one whose label cannot be read: {}",
                unread.join(", ")
            )),
        }
    }

    /// Where it is, for people.
    pub fn shown(&self) -> String {
        match &self.drive {
            None if reach::is_address(&self.location) => match &self.reach.user {
                Some(user) => format!("{}, as {user}", self.location),
                None => self.location.clone(),
            },
            Some(drive) if self.location.is_empty() => format!("drive {drive}"),
            Some(drive) => format!("drive {drive}, {}", self.location),
            None => self.location.clone(),
        }
    }
}

impl Settings {
    /// How long people may say no before the machine is suspended or powered off.
    pub fn countdown(&self) -> Duration {
        self.countdown.map_or(Duration::from_secs(30), |countdown| countdown.length())
    }

    /// How long logs are kept.
    pub fn logs_for(&self) -> Age {
        self.logs_for.or(self.logs.keep_for).unwrap_or(Age::from_days(365))
    }

    /// Reads the settings; none are there yet at first.
    pub fn load(home: &Home) -> Outcome<Settings> {
        let file = home.settings_file();
        home.check_own(&file)?;
        match fs::read_to_string(&file) {
            Ok(text) => {
                refuse_deep(&text, &file)?;
                let settings: Settings =
                    toml::from_str(&text).map_err(|error| toml_failure(&error, &text, &file))?;
                settings.stores.keys().try_for_each(|name| check_name(name, "store")).map_err(|failure| {
                    Failure { message: format!("{}: {}", file.display(), failure.message), ..failure }
                })?;
                settings.notify.check().map_err(|failure| Failure {
                    message: format!("{}: {}", file.display(), failure.message),
                    ..failure
                })?;
                Ok(settings)
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Settings::default()),
            Err(error) => Err(Failure::usage(format!("{}: {error}", file.display()))),
        }
    }

    /// Writes down that a store of this name is this one, or that there is none; everything else in the file stays as somebody wrote
    /// it, with their remarks.
    ///
    /// # Errors
    /// When the file cannot be understood or written.
    pub fn put_store(home: &Home, name: &str, entry: Option<&StoreEntry>) -> Outcome<()> {
        let file = home.settings_file();
        let failed = |error: String| Failure::own_files(&format!("cannot change {}", file.display()), error);
        let text = match fs::read_to_string(&file) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            text => text.map_err(|error| failed(error.to_string()))?,
        };
        let mut document: DocumentMut =
            text.parse().map_err(|error: toml_edit::TomlError| failed(error.to_string()))?;
        let stores = document.entry("stores").or_insert_with(|| {
            let mut table = toml_edit::Table::new();
            table.set_implicit(true);
            toml_edit::Item::Table(table)
        });
        let stores = stores.as_table_like_mut().ok_or_else(|| failed("[stores] is no table".to_owned()))?;
        match entry {
            Some(entry) => {
                let written =
                    toml_edit::ser::to_document(entry).map_err(|error| failed(error.to_string()))?;
                let mut table = written.as_table().clone();
                if let Some(reach) = table.get_mut("reach") {
                    reach.make_value();
                    let reach = std::mem::take(reach).into_table();
                    table.insert("reach", reach.map_or_else(|item| item, toml_edit::Item::Table));
                }
                stores.insert(name, toml_edit::Item::Table(table));
            }
            None => drop(stores.remove(name)),
        }
        write_file(&file, &document.to_string())
    }

    /// A named store; an unknown one is an error that names the nearest.
    pub fn store(&self, name: &str) -> Outcome<&StoreEntry> {
        self.stores.get(name).ok_or_else(|| {
            let known: Vec<String> = self.stores.keys().cloned().collect();
            Failure { cause: Cause::UnknownStore, ..Failure::usage(format!("there is no store \"{name}\"")) }
                .hint(suggestion(name, &known, "store"))
        })
    }
}

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

/// Opens a source, or a side of a two-way job; `word` is what it is called.
pub fn open_source(
    desk: &Desk,
    located: &Located,
    options: OpenOptions,
    word: &str,
) -> Outcome<Arc<dyn Store>> {
    let shown = || located.shown(&desk.home);
    let missing = || Failure::refused(Cause::SourceMissing, format!("the {word} {} is not there", shown()));
    match &located.means {
        Means::Absent(why) => Err(drive_absent(located, why)),
        Means::Inventory { .. } => Err(no_place_for_files(&located.written)),
        Means::Server(reach) => match reach.open(desk) {
            Ok(store) => Ok(capabilities::at_server(store, options)),
            Err(ConnectError::NoFolder { .. }) => Err(missing().hint("The server answers; check the path.")),
            Err(error) => Err(reach.failure(desk, error)),
        },
        Means::Folder { path, store_root } => {
            capabilities::open(path, options, &desk.home).map_err(|error| match error.kind {
                FaultKind::NotFound if path.exists() => {
                    Failure::refused(Cause::SourceUnreadable, format!("the {word} {} is no folder", shown()))
                }
                FaultKind::NotFound => missing().hint(absent_hint(located, path, store_root.as_deref())),
                kind => {
                    let words = format!("the {word} {} cannot be read: {}", shown(), kind.words());
                    Failure::refused(Cause::SourceUnreadable, words)
                }
            })
        }
    }
}

/// Opens a destination; `None` when it does not exist yet but could be made where it is.
pub fn open_destination(
    desk: &Desk,
    located: &Located,
    options: OpenOptions,
) -> Outcome<Option<Arc<dyn Store>>> {
    let (path, store_root) = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => {
            return match reach.open(desk) {
                Ok(store) => Ok(Some(capabilities::at_server(store, options))),
                Err(ConnectError::NoFolder { .. }) => Ok(None),
                Err(error) => Err(reach.failure(desk, error)),
            };
        }
        Means::Folder { path, store_root } => (path, store_root.as_deref()),
    };
    let error = match capabilities::open(path, options, &desk.home) {
        Ok(store) => return Ok(Some(store)),
        Err(error) => error,
    };
    let missing = error.kind == FaultKind::NotFound;
    if missing && !path.exists() && can_be_made(located) {
        return Ok(None);
    }
    let (cause, words) = match error.kind {
        FaultKind::NotFound if path.exists() => (Cause::DestinationNoFolder, "is no folder".to_owned()),
        FaultKind::NotFound => (Cause::DestinationMissing, "is not there".to_owned()),
        kind => (Cause::DestinationUnusable, format!("cannot be used: {}", kind.words())),
    };
    let is_missing = matches!(cause, Cause::DestinationMissing);
    let failure = Failure::refused(cause, format!("the destination {} {words}", located.shown(&desk.home)));
    Err(if is_missing { failure.hint(absent_hint(located, path, store_root)) } else { failure })
}

/// An inventory stands where files are wanted.
pub fn no_place_for_files(written: &str) -> Failure {
    let message = format!("{written} is what a store held, and has no files");
    Failure::usage(message).hint("It can be compared with: reedhook compare LEFT inventory:NAME; and looked at: reedhook review inventory:NAME.")
}

fn drive_absent(located: &Located, why: &str) -> Failure {
    Failure::refused(Cause::DriveAbsent, format!("{}: {why}", located.written))
        .hint("Connect it and run again; `reedhook drives` shows what is connected.")
}

/// Only the last folder of a path may be missing; of a place in a store, everything below the store's root may.
pub fn can_be_made(located: &Located) -> bool {
    match &located.means {
        Means::Folder { path, store_root: Some(root) } => path != root && root.is_dir(),
        Means::Folder { path, store_root: None } => path.parent().is_some_and(Path::is_dir),
        Means::Absent(_) | Means::Server(_) | Means::Inventory { .. } => false,
    }
}

fn absent_hint(located: &Located, path: &Path, store_root: Option<&Path>) -> String {
    match store_root {
        Some(root) if !root.is_dir() => {
            let name = located.written.trim_start_matches('@').split('/').next().unwrap_or_default();
            format!(
                "The store \"{name}\" is expected at {}; connect the drive and run again.",
                root.display()
            )
        }
        _ => match path.ancestors().find(|above| above.is_dir()) {
            Some(there) => format!(
                "{} is there, what comes after it is not; check the path, or connect the drive.",
                there.display()
            ),
            None => "Check the path, or connect the drive.".to_owned(),
        },
    }
}

/// Makes a missing destination.
pub fn make_destination(desk: &Desk, located: &Located, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let path = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => return Ok(capabilities::at_server(reach.make(desk)?, options)),
        Means::Folder { path, .. } => path,
    };
    let failed = |why: String| {
        let words = format!("the folder {} cannot be made: {why}", path.display());
        Failure::refused(Cause::DestinationMissing, words)
    };
    fs::create_dir_all(path).map_err(|error| failed(error.to_string()))?;
    let made = capabilities::open(path, options, &desk.home);
    // Whoever remembers that it was there must not be told by a pulled plug that it is gone.
    let made = made.and_then(|made| made.sync().map(|()| made));
    made.map_err(|error| failed(error.kind.words().to_owned()))
}

/// What a destination looks like before it is made: empty, with the abilities of the folder it will be in.
pub fn not_there_yet(desk: &Desk, located: &Located, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let path = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => {
            let above = reach.open_above(desk)?.0;
            let space = above.space().ok().flatten();
            return Ok(Arc::new(Union::empty(above.capabilities().clone(), space)));
        }
        Means::Folder { path, .. } => path,
    };
    let above = path.ancestors().skip(1).find(|above| above.is_dir());
    let missing = || Failure::refused(Cause::DestinationMissing, format!("{} is not there", path.display()));
    let above =
        above.and_then(|above| capabilities::open(above, options, &desk.home).ok()).ok_or_else(missing)?;
    let space = above.space().ok().flatten();
    Ok(Arc::new(Union::empty(above.capabilities().clone(), space)))
}
