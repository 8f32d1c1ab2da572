//! Where Reedhook keeps its own files: jobs and settings, state and logs.
//!
//! With `--home` everything is in one folder, so that the tool can live on a stick. Otherwise configuration and state go to
//! the folders of the XDG base directory specification.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use reedhook_core::record::Record;

use crate::failure::{Failure, Outcome};

/// The folders of this user's Reedhook.
#[derive(Debug, Clone)]
pub struct Home {
    config: PathBuf,
    state: PathBuf,
    /// The user's own folder, for `~`.
    user: Option<PathBuf>,
}

impl Home {
    /// Finds the folders; nothing is made yet.
    pub fn find(chosen: Option<&Path>) -> Outcome<Home> {
        let variable =
            |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
        // Services of the system run without the variable; the account has a folder all the same.
        let user = std::env::home_dir().filter(|folder| folder.is_absolute());
        if let Some(folder) = chosen {
            let folder = std::path::absolute(folder)
                .map_err(|error| Failure::usage(format!("--home {}: {error}", folder.display())))?;
            return Ok(Home { config: folder.clone(), state: folder, user });
        }
        let xdg = |name: &str, below: &str| {
            let absolute = variable(name).filter(|path| path.is_absolute());
            absolute.or_else(|| Some(user.as_ref()?.join(below))).map(|path| path.join("reedhook"))
        };
        match (xdg("XDG_CONFIG_HOME", ".config"), xdg("XDG_STATE_HOME", ".local/state")) {
            (Some(config), Some(state)) => Ok(Home { config, state, user }),
            _ => {
                Err(Failure::usage("there is no home folder to keep jobs in")
                    .hint("Give one with --home DIR."))
            }
        }
    }

    /// The folder of job files.
    pub fn jobs(&self) -> PathBuf {
        self.config.join("jobs")
    }

    /// A job's file.
    pub fn job_file(&self, name: &str) -> PathBuf {
        self.jobs().join(format!("{name}.toml"))
    }

    /// The file of named stores and settings.
    pub fn settings_file(&self) -> PathBuf {
        self.config.join("reedhook.toml")
    }

    /// A run's log.
    pub fn run_log(&self, job: &str, run: &str) -> PathBuf {
        self.state.join("runs").join(job).join(format!("{run}.ndjson"))
    }

    /// The folder of a job's run logs.
    pub fn run_logs(&self, job: &str) -> PathBuf {
        self.state.join("runs").join(job)
    }

    /// A job's lock file.
    pub fn lock_file(&self, job: &str) -> PathBuf {
        self.state.join("locks").join(format!("{job}.lock"))
    }

    /// Whether everything is in one folder that may be carried about.
    pub fn is_portable(&self) -> bool {
        self.config == self.state
    }

    /// The file of secrets, for machines without a keyring.
    pub fn secrets_file(&self) -> PathBuf {
        self.config.join("secrets.toml")
    }

    /// The hosts that a person has said to be right.
    pub fn known_hosts(&self) -> PathBuf {
        self.config.join("known_hosts")
    }

    /// The user's own folder.
    pub fn user_folder(&self) -> Option<&Path> {
        self.user.as_deref()
    }

    /// The state file; its folder is made.
    pub fn state_file(&self) -> Outcome<PathBuf> {
        make_folder(&self.state)?;
        Ok(self.state.join("state.db"))
    }

    /// Opens the record of past runs, making it when there is none.
    pub fn record(&self) -> Outcome<Record> {
        Ok(Record::open(&self.state_file()?)?)
    }

    /// `~` and `~/x` as paths; anything else as it is.
    pub fn expand(&self, text: &str) -> PathBuf {
        let below = text.strip_prefix("~/").or(if text == "~" { Some("") } else { None });
        match (below, &self.user) {
            (Some(below), Some(user)) => user.join(below),
            _ => PathBuf::from(text),
        }
    }

    /// A path as a person of this machine would write it.
    pub fn shorten(&self, path: &Path) -> String {
        let below = self.user.as_ref().and_then(|user| path.strip_prefix(user).ok());
        match below {
            Some(below) if below.as_os_str().is_empty() => "~".to_owned(),
            Some(below) => format!("~/{}", below.display()),
            None => path.display().to_string(),
        }
    }
}

/// Makes a folder of Reedhook's own and the ones above it.
pub fn make_folder(path: &Path) -> Outcome<()> {
    fs::create_dir_all(path)
        .map_err(|error| Failure::own_files(&format!("cannot make {}", path.display()), error))
}

/// Writes a whole file or leaves the old one: to a temporary beside it, then renamed.
pub fn write_file(path: &Path, text: &str) -> Outcome<()> {
    let failed =
        |error: std::io::Error| Failure::own_files(&format!("cannot write {}", path.display()), error);
    if let Some(parent) = path.parent() {
        make_folder(parent)?;
    }
    let temporary = path.with_extension("toml.new");
    let mut file = fs::File::create(&temporary).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    file.sync_all().map_err(failed)?;
    fs::rename(&temporary, path).map_err(failed)
}
