//! The settings file: named stores, and what holds for all jobs.

use std::collections::BTreeMap;
use std::fs;
use std::num::NonZeroUsize;
use std::path::PathBuf;
use std::time::Duration;

use reedhook_core::units::{Age, Size};
use reedhook_stores::drives;
use serde::{Deserialize, Serialize};
use toml_edit::DocumentMut;

use crate::address::{ReachKeys, is_address};
use crate::failure::{Cause, Failure, Outcome, suggestion};
use crate::home::{Home, write_file};
use crate::jobfile::files::{refuse_deep, toml_failure};
use crate::jobfile::job::check_name;
use crate::notify::NotifyKeys;

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
    pub(crate) fn is_default(&self) -> bool {
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
            None if is_address(&self.location) => match &self.reach.user {
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
    ///
    /// # Errors
    /// When the file is there and cannot be read, or others could change it.
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
    ///
    /// # Errors
    /// When there is none of that name.
    pub fn store(&self, name: &str) -> Outcome<&StoreEntry> {
        self.stores.get(name).ok_or_else(|| {
            let known: Vec<String> = self.stores.keys().cloned().collect();
            Failure { cause: Cause::UnknownStore, ..Failure::usage(format!("there is no store \"{name}\"")) }
                .hint(suggestion(name, &known, "store"))
        })
    }
}
