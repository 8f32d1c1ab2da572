//! Where Reedhook keeps its own files: jobs and settings, state and logs.
//!
//! With `--home` everything is in one folder, so that the tool can live on a stick. Otherwise configuration and state go to
//! the folders of the XDG base directory specification.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use reedhook_core::foreign::escaped;
use reedhook_record::{Record, StateFile};

use crate::failure::{Failure, Outcome};
use crate::ownership;
use crate::world::World;

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
    ///
    /// # Errors
    /// When no folder of the user is known and none is given, or others could change one that is there.
    pub fn find(chosen: Option<&Path>, world: &World) -> Outcome<Home> {
        let variable =
            |name: &str| (world.variable)(name).filter(|value| !value.is_empty()).map(PathBuf::from);
        let told = variable("REEDHOOK_HOME");
        let named = if chosen.is_some() { "--home" } else { "REEDHOOK_HOME" };
        // Services of the system run without the variable; the account has a folder all the same.
        let user = world.user_folder.clone().filter(|folder| folder.is_absolute());
        if let Some(folder) = chosen.or(told.as_deref()) {
            let folder = std::path::absolute(folder)
                .map_err(|error| Failure::usage(format!("{named} {}: {error}", folder.display())))?;
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

    /// The folder of all logs, with one in it for each job.
    pub fn all_logs(&self) -> PathBuf {
        self.state.join("runs")
    }

    /// The folder of lock files.
    pub fn locks(&self) -> PathBuf {
        self.state.join("locks")
    }

    /// The folder of a job's run logs.
    pub fn run_logs(&self, job: &str) -> PathBuf {
        self.state.join("runs").join(job)
    }

    /// A job's lock file.
    pub fn lock_file(&self, job: &str) -> PathBuf {
        self.state.join("locks").join(format!("{job}.lock"))
    }

    /// The lock that all runs of the home share.
    pub fn runs_lock(&self) -> PathBuf {
        self.state.join("locks").join("runs")
    }

    /// Whether everything is in one folder that may be carried about.
    pub fn is_portable(&self) -> bool {
        self.config == self.state
    }

    /// The file of secrets, for machines without a keyring.
    pub fn secrets_file(&self) -> PathBuf {
        self.config.join("secrets.toml")
    }

    /// The file of secrets where no file can be closed to others: sealed with a passphrase.
    pub fn sealed_secrets_file(&self) -> PathBuf {
        self.config.join("secrets.age")
    }

    /// The hosts that a person has said to be right.
    pub fn known_hosts(&self) -> PathBuf {
        self.config.join("known_hosts")
    }

    /// Makes the file of such hosts, closed to others like everything here; what adds to it would not.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_known_hosts(&self) -> Outcome<()> {
        make_folder(&self.config)?;
        let file = self.known_hosts();
        let made = closed().append(true).create(true).open(&file);
        made.map(drop).map_err(|error| Failure::own_files(&format!("cannot make {}", file.display()), error))
    }

    /// The user's own folder.
    pub fn user_folder(&self) -> Option<&Path> {
        self.user.as_deref()
    }

    /// The folder of state and logs.
    pub fn state(&self) -> &Path {
        &self.state
    }

    /// The folder of jobs and settings.
    pub fn config(&self) -> &Path {
        &self.config
    }

    /// The state file.
    pub fn state_file(&self) -> PathBuf {
        self.state.join("state.db")
    }

    /// The file of inventories. It can be thrown away.
    pub fn inventories_file(&self) -> PathBuf {
        self.state.join("inventories.db")
    }

    /// Fails unless a file of Reedhook's own can be written by its owner alone, who is this account or root: jobs and settings name
    /// commands and folders.
    ///
    /// # Errors
    /// What others can write to.
    pub fn check_own(&self, path: &Path) -> Outcome<()> {
        ownership::check(path, self.user.as_deref())
    }

    /// Whether the jobs and settings lie in a place that keeps no modes, such as a stick: whoever has it can change them.
    pub fn is_modeless(&self) -> bool {
        ownership::is_modeless(&self.config)
    }

    /// Opens the record of past runs, making it when there is none.
    ///
    /// # Errors
    /// When its folder cannot be made, it is damaged, or a newer program wrote it.
    pub fn record(&self) -> Outcome<Box<dyn Record>> {
        self.check_own(&self.state_file())?;
        make_folder(&self.state)?;
        let file = self.state_file();
        // SQLite gives what it makes beside the file the file's own mode.
        make_closed(&file)?;
        let opened = StateFile::open(&file);
        Ok(Box::new(opened.map_err(|error| Failure::from(error).about_state_file(&file))?))
    }

    /// `~` and `~/x` as paths; anything else as it is.
    pub fn expand(&self, text: &str) -> PathBuf {
        let below = text.strip_prefix("~/").or(if text == "~" { Some("") } else { None });
        match (below, &self.user) {
            (Some(below), Some(user)) => user.join(below),
            _ => PathBuf::from(text),
        }
    }

    /// A path as a person of this machine would write it, to be kept.
    pub fn written(&self, path: &Path) -> String {
        let below = self.user.as_ref().and_then(|user| path.strip_prefix(user).ok());
        match below {
            Some(below) if below.as_os_str().is_empty() => "~".to_owned(),
            Some(below) => format!("~/{}", below.display()),
            None => path.display().to_string(),
        }
    }

    /// The same, as it may be shown.
    pub fn shorten(&self, path: &Path) -> String {
        escaped(&self.written(path))
    }
}

/// Makes a folder of Reedhook's own, and the ones above it. What is made is closed to others.
///
/// # Errors
/// When it cannot be made.
pub fn make_folder(path: &Path) -> Outcome<()> {
    let mut how = fs::DirBuilder::new();
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut how, 0o700);
    how.recursive(true)
        .create(path)
        .map_err(|error| Failure::own_files(&format!("cannot make {}", path.display()), error))
}

/// How a file of Reedhook's own is made: what is in it is nobody else's business.
pub fn closed() -> OpenOptions {
    let mut how = OpenOptions::new();
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut how, 0o600);
    how
}

/// Opens the file of a lock, or makes it. What somebody has put there instead, a pipe or a link, is not waited for or followed.
fn open_lock(path: &Path) -> std::io::Result<File> {
    use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
    let flags = (rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK).bits() as i32;
    let mut how = closed();
    let file = how.create(true).truncate(false).write(true).read(true).custom_flags(flags).open(path)?;
    let found = file.metadata()?;
    let owners = [rustix::process::geteuid().as_raw(), 0];
    // On a stick, everything belongs to whom it was mounted for.
    let modeless = || path.parent().is_some_and(ownership::is_modeless);
    match found.is_file() && (owners.contains(&found.uid()) || modeless()) {
        true => Ok(file),
        false => Err(std::io::Error::other("something that is no file of ours has its name")),
    }
}

/// Who only looks whether a lock is held holds it for that moment: so often one is tried that seems to be.
const TRIES: u32 = 4;

/// How long is waited before a lock is tried again.
const BETWEEN_TRIES: std::time::Duration = std::time::Duration::from_millis(5);

/// Takes a lock of Reedhook's own; `None` when another program has it. The kernel lets go of it when this one ends, however it ends.
///
/// # Errors
/// When the file of the lock cannot be made or locked.
pub fn take_lock(path: &Path) -> Outcome<Option<File>> {
    let (file, failed) = opened_lock(path)?;
    for tried in 1.. {
        match file.try_lock() {
            Ok(()) => return Ok(Some(file)),
            Err(fs::TryLockError::WouldBlock) if tried < TRIES => std::thread::sleep(BETWEEN_TRIES),
            Err(fs::TryLockError::WouldBlock) => break,
            Err(fs::TryLockError::Error(error)) => return Err(failed(error)),
        }
    }
    Ok(None)
}

/// Takes a lock of Reedhook's own together with others who share it. Nobody has it alone for longer than a look takes.
///
/// # Errors
/// When the file of the lock cannot be made or locked.
pub fn share_lock(path: &Path) -> Outcome<File> {
    let (file, failed) = opened_lock(path)?;
    file.lock_shared().map_err(failed)?;
    Ok(file)
}

/// The file of a lock, and how it is told that something about it failed.
fn opened_lock(path: &Path) -> Outcome<(File, impl Fn(io::Error) -> Failure)> {
    if let Some(parent) = path.parent() {
        make_folder(parent)?;
    }
    let failed = |error| Failure::own_files(&format!("cannot lock {}", path.display()), error);
    Ok((open_lock(path).map_err(failed)?, failed))
}

/// Closes a file to others that an older Reedhook has made. A link is left alone, and so is what is not ours. Where there are no modes,
/// there is nothing to close.
fn close(path: &Path) {
    use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
    let flags = (rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK).bits() as i32;
    let Ok(file) = OpenOptions::new().read(true).custom_flags(flags).open(path) else { return };
    let us = rustix::process::geteuid().as_raw();
    let is_open = |found: &fs::Metadata| found.is_file() && found.uid() == us && found.mode() & 0o077 != 0;
    if file.metadata().is_ok_and(|found| is_open(&found)) {
        let _ = file.set_permissions(fs::Permissions::from_mode(0o600));
    }
}

/// Makes a file of Reedhook's own where there is none, closed to others, and closes one that an older Reedhook has made.
///
/// # Errors
/// When it cannot be made.
pub fn make_closed(file: &Path) -> Outcome<()> {
    match closed().append(true).create_new(true).open(file) {
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            close(file);
            Ok(())
        }
        Ok(_) => Ok(()),
        Err(error) => Err(Failure::own_files(&format!("cannot make {}", file.display()), error)),
    }
}

/// Writes a whole file of Reedhook's own, or leaves the old one, also through a power cut: to a new one beside it, closed from its
/// first byte on and made durable, which then takes the old one's place. A link is followed, so that the file may lie elsewhere.
///
/// # Errors
/// When it cannot be written; the old one is as it was.
pub fn write_file(path: &Path, text: &str) -> Outcome<()> {
    write_bytes(path, text.as_bytes())
}

/// As [`write_file`], for what is no text.
///
/// # Errors
/// When it cannot be written; the old one is as it was.
pub fn write_bytes(path: &Path, bytes: &[u8]) -> Outcome<()> {
    let failed =
        |error: std::io::Error| Failure::own_files(&format!("cannot write {}", path.display()), error);
    if let Some(parent) = path.parent() {
        make_folder(parent)?;
    }
    let path = &fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let temporary = path.with_file_name(format!(".{:016x}.new", fastrand::u64(..)));
    let write = || -> std::io::Result<()> {
        let mut file = closed().write(true).create_new(true).open(&temporary)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(&temporary, path)
    };
    let write = || write().inspect_err(|_| drop(fs::remove_file(&temporary)));
    write().map_err(failed)?;
    // The new name is durable when its folder is; a folder that cannot be opened for that is none of ours to mend.
    if let Some(folder) = path.parent().and_then(|folder| fs::File::open(folder).ok()) {
        let _ = folder.sync_all();
    }
    Ok(())
}
