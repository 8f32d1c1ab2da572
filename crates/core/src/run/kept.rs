//! Kept copies: what runs replaced or removed, in `.reedhook/kept/RUN/` at the root of the side it came from.
//!
//! A run's name begins with its local start time, `YYYYMMDD-HHMMSS`; how long its copies have been kept is read from that.

use std::time::Duration;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use super::{kept_folder, kept_root};
use crate::entry::Stamp;
use crate::path::{Name, RelPath};
use crate::store::{Attributes, Expect, FaultKind, Publish, Result, Store};

/// The kept copies of one run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptRun {
    /// The run.
    pub run: Name,
    /// When the run began; `None` when the name does not tell.
    pub began: Option<Stamp>,
    /// Files and links.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Whether it is written down whose they are.
    pub owned: bool,
}

/// One kept copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFile {
    /// Where it was.
    pub path: RelPath,
    /// Its bytes.
    pub size: u64,
}

/// The runs with kept copies, oldest first.
///
/// # Errors
/// When the store fails. No kept copies at all are no failure.
pub fn kept_runs(store: &dyn Store) -> Result<Vec<KeptRun>> {
    let listing = match store.list(&kept_root()) {
        Ok(listing) => listing,
        Err(error) if error.kind == FaultKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let (folders, others): (Vec<_>, Vec<_>) =
        listing.entries.into_iter().partition(|entry| entry.meta.is_folder());
    let mut runs = Vec::new();
    for entry in folders {
        let files = kept_files(store, &entry.name)?;
        let owner = owner_file(&entry.name);
        runs.push(KeptRun {
            owned: others.iter().any(|other| Some(other.name.as_bytes()) == owner.file_name()),
            began: began(&entry.name),
            files: files.len() as u64,
            bytes: files.iter().map(|file| file.size).sum(),
            run: entry.name,
        });
    }
    runs.sort_by(|a, b| (a.began, &a.run).cmp(&(b.began, &b.run)));
    Ok(runs)
}

/// Every kept copy of a run, by path.
///
/// # Errors
/// When the store fails.
pub fn kept_files(store: &dyn Store, run: &Name) -> Result<Vec<KeptFile>> {
    let root = kept_folder(run);
    let mut files = Vec::new();
    let mut folders = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        for entry in store.list(&folder)?.entries {
            let path = folder.join(&entry.name);
            if entry.meta.is_folder() {
                folders.push(path);
            } else if let Some(path) = path.below(&root) {
                files.push(KeptFile { path, size: entry.meta.size });
            }
        }
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(files)
}

/// When a run began, by its name.
fn began(run: &Name) -> Option<Stamp> {
    let text = std::str::from_utf8(run.as_bytes()).ok()?;
    let time = DateTime::strptime("%Y%m%d-%H%M%S", text.get(..15)?).ok()?;
    Some(Stamp::new(time.to_zoned(TimeZone::system()).ok()?.timestamp().as_second(), 0))
}

/// Which runs' copies have to go: those kept for longer than `keep_for`, then the oldest until all together take at most
/// `room` bytes. The copies of `current` stay whatever they take. `runs` is sorted, oldest first.
pub fn expired<'a>(
    runs: &'a [KeptRun],
    now: Stamp,
    keep_for: Duration,
    room: Option<u64>,
    current: Option<&Name>,
) -> Vec<&'a KeptRun> {
    let oldest = now.seconds().saturating_sub_unsigned(keep_for.as_secs());
    let mut total: u64 = runs.iter().map(|run| run.bytes).sum();
    let mut gone = Vec::new();
    for run in runs.iter().filter(|run| Some(&run.run) != current) {
        let too_old = run.began.is_some_and(|began| began.seconds() < oldest);
        let too_much = room.is_some_and(|room| total > room);
        if too_old || too_much {
            total -= run.bytes;
            gone.push(run);
        }
    }
    gone
}

/// Erases the kept copies of a run for good.
///
/// # Errors
/// When the store fails; what was erased until then is gone.
pub fn erase(store: &dyn Store, run: &Name) -> Result<()> {
    erase_folder(store, &kept_folder(run))?;
    let owner = owner_file(run);
    match store.stat(&owner)? {
        Some(found) => store.remove(&owner, &found),
        None => Ok(()),
    }
}

fn erase_folder(store: &dyn Store, folder: &RelPath) -> Result<()> {
    for entry in store.list(folder)?.entries {
        let path = folder.join(&entry.name);
        if entry.meta.is_folder() {
            open_to_us(store, &path, entry.meta.mode)?;
            erase_folder(store, &path)?;
        } else {
            store.remove(&path, &entry.meta)?;
        }
    }
    store.remove_folder(folder)
}

/// Kept folders have the modes of those that they stand for; a closed one is opened to be worked in.
pub(super) fn open_to_us(store: &dyn Store, path: &RelPath, mode: Option<u32>) -> Result<()> {
    match mode {
        Some(mode) if mode & 0o700 != 0o700 => {
            let open = Attributes { mode: Some(mode | 0o700), ..Attributes::default() };
            store.set_attributes(path, None, &open)
        }
        _ => Ok(()),
    }
}

/// Beside a run's kept copies: a file that says whose they are, for people and for other Reedhooks.
fn owner_file(run: &Name) -> RelPath {
    let name = Name::new(&[run.as_bytes(), b".owner"].concat());
    name.map(|name| kept_root().join(&name)).unwrap_or_default()
}

/// Writes down whose the kept copies of a run are; the folder of all kept copies exists.
pub(super) fn write_owner(store: &dyn Store, run: &Name, owner: &str) -> Result<()> {
    let file = owner_file(run);
    match store.stat(&file)? {
        Some(_) => Ok(()),
        // Not made durable by itself: it goes with the first copies that are.
        None => {
            let mut stage = store.stage(&file, None)?;
            stage.write(owner.as_bytes())?;
            let sealed = stage.seal(&Attributes::default())?;
            store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(name: &str, bytes: u64) -> KeptRun {
        let run = Name::new(name.as_bytes()).expect("a name");
        KeptRun { began: began(&run), run, files: 1, bytes, owned: false }
    }

    #[test]
    fn age_then_room_decide_and_the_current_run_stays() {
        let runs = [
            run("20310501-060000-aaaa", 10),
            run("20310510-060000-bbbb", 20),
            run("20310520-060000-cccc", 30),
        ];
        let now = Stamp::new(runs[2].began.expect("a time").seconds() + 3600, 0);
        let day = Duration::from_secs(86_400);
        let names = |keep_for: Duration, room: Option<u64>, current: usize| -> Vec<usize> {
            let gone = expired(&runs, now, keep_for, room, runs.get(current).map(|run| &run.run));
            gone.iter().map(|gone| runs.iter().position(|run| run == *gone).expect("known")).collect()
        };
        assert_eq!(names(30 * day, None, 2), [0usize; 0]);
        assert_eq!(names(15 * day, None, 2), [0]);
        assert_eq!(names(5 * day, None, 2), [0, 1]);
        assert_eq!(names(30 * day, Some(50), 2), [0]);
        assert_eq!(names(30 * day, Some(0), 2), [0, 1], "never the copies of the run in progress");
        assert_eq!(names(Duration::ZERO, Some(0), 9), [0, 1, 2]);
        assert_eq!(began(&Name::new(b"by hand").expect("a name")), None);
    }
}
