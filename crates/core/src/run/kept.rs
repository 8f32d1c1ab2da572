//! Kept copies: what runs replaced or removed, in `.reedhook/kept/RUN/` at the root of the side it came from.
//!
//! A run's name begins with its local start time, `YYYYMMDD-HHMMSS`; how long its copies have been kept is read from that.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::entry::{Meta, Stamp};
use crate::path::{Name, RESERVED_NAME, RelPath};
use crate::run::input::{kept_folder, kept_root};
use crate::store::error::{FaultKind, Result, StoreError};
use crate::store::{Attributes, Expect, Publish, Store, StoreExt};

/// A run that has kept copies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptRun {
    /// The run's name, which its folder among the kept copies bears.
    pub run: Name,
    /// When the run began; `None` when the name does not tell.
    pub began: Option<Stamp>,
    /// Whether it is written down whose they are.
    pub owned: bool,
}

/// How much a run has kept.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Amount {
    /// Files and links.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// One kept copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFile {
    /// Where it was.
    pub path: RelPath,
    /// Its bytes.
    pub size: u64,
}

/// The runs with kept copies, oldest first, going by their names, which are times in this zone. The copies themselves are not looked at:
/// there may be a year's worth of them, far away.
///
/// # Errors
/// When the store fails. No kept copies at all are no failure.
pub fn kept_runs(store: &dyn Store, zone: &TimeZone) -> Result<Vec<KeptRun>> {
    let listing = match store.list(&kept_root()) {
        Ok(listing) => listing,
        Err(error) if error.kind == FaultKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let owned: HashSet<Name> = match store.list(&owners()) {
        Ok(listing) => listing.entries.into_iter().map(|entry| entry.name).collect(),
        Err(error) if error.kind == FaultKind::NotFound => HashSet::new(),
        Err(error) => return Err(error),
    };
    let mut runs = Vec::new();
    for entry in listing.entries.into_iter().filter(|entry| entry.meta.is_folder()) {
        let (owned, began) = (owned.contains(&entry.name), began(&entry.name, zone));
        runs.push(KeptRun { run: entry.name, began, owned });
    }
    runs.sort_by(|a, b| (a.began, &a.run).cmp(&(b.began, &b.run)));
    Ok(runs)
}

/// How much a run has kept. Every folder of its copies is listed for that.
///
/// # Errors
/// When the store fails.
pub fn amount(store: &dyn Store, run: &Name, stop: &AtomicBool) -> Result<Amount> {
    let files = kept_files(store, run, stop)?;
    Ok(Amount { files: files.len() as u64, bytes: files.iter().map(|file| file.size).sum() })
}

/// Every kept copy of a run, by path.
///
/// # Errors
/// When the store fails.
pub fn kept_files(store: &dyn Store, run: &Name, stop: &AtomicBool) -> Result<Vec<KeptFile>> {
    let root = kept_folder(run);
    let mut files = Vec::new();
    let mut folders = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        go_on(stop)?;
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
fn began(run: &Name, zone: &TimeZone) -> Option<Stamp> {
    let text = std::str::from_utf8(run.as_bytes()).ok()?;
    let time = DateTime::strptime("%Y%m%d-%H%M%S", text.get(..15)?).ok()?;
    Some(Stamp::new(time.to_zoned(zone.clone()).ok()?.timestamp().as_second(), 0))
}

/// Which runs' copies have to go: those kept for longer than `keep_for`, then the oldest until all together take at most
/// `room` bytes. The copies of `current` stay whatever they take. `runs` is in order, oldest first. `bytes_of` is asked only where there
/// is too little room for everything there may be, and of no more runs than fit.
///
/// # Errors
/// When `bytes_of` fails.
pub fn expired<'a>(
    runs: &'a [KeptRun],
    now: Stamp,
    keep_for: Duration,
    room: Option<u64>,
    current: Option<&Name>,
    bytes_of: &mut dyn FnMut(&KeptRun) -> Result<u64>,
) -> Result<Vec<&'a KeptRun>> {
    let oldest = now.seconds().saturating_sub_unsigned(keep_for.as_secs());
    let is_current = |run: &KeptRun| Some(&run.run) == current;
    let is_old = |run: &KeptRun| run.began.is_some_and(|began| began.seconds() < oldest);
    let (mut gone, staying): (Vec<&KeptRun>, Vec<&KeptRun>) =
        runs.iter().partition(|run| is_old(run) && !is_current(run));
    let Some(room) = room else { return Ok(gone) };
    let mut total = match staying.iter().find(|run| is_current(run)) {
        Some(run) => bytes_of(run)?,
        None => 0,
    };
    let mut too_many = Vec::new();
    for run in staying.into_iter().rev().filter(|run| !is_current(run)) {
        if too_many.is_empty() {
            total = total.saturating_add(bytes_of(run)?);
        }
        if total > room {
            too_many.push(run);
        }
    }
    gone.extend(too_many.into_iter().rev());
    Ok(gone)
}

/// What a clock said, and how far retention believes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClockReading {
    /// Which start of the machine; empty where that is not known.
    pub boot: String,
    /// How long the machine has been on since then, sleep included, in milliseconds.
    pub awake_ms: i64,
    /// What the clock says, in milliseconds since 1970.
    pub wall_ms: i64,
    /// What retention goes by.
    pub trusted_ms: i64,
}

/// Without anything better to go by, no more than this is taken to have passed between two looks at the clock.
const LEAP: Duration = Duration::from_secs(7 * 86_400);

impl ClockReading {
    /// What to go by now. A clock that was far ahead once must not make everything look old: since the last look no more time has
    /// passed than the machine was on for, or than [`LEAP`] where it has been started anew. A clock that is behind is believed.
    pub fn next(self, last: Option<&ClockReading>) -> ClockReading {
        let Some(last) = last else { return ClockReading { trusted_ms: self.wall_ms, ..self } };
        let same_start = !self.boot.is_empty() && self.boot == last.boot && self.awake_ms >= last.awake_ms;
        let leap = i64::try_from(LEAP.as_millis()).unwrap_or(i64::MAX);
        // A minute more, because clocks are set by small steps.
        let passed = if same_start { self.awake_ms - last.awake_ms + 60_000 } else { leap };
        ClockReading { trusted_ms: self.wall_ms.min(last.trusted_ms.saturating_add(passed)), ..self }
    }
}

/// Erases the kept copies of a run for good; tells how much it was.
///
/// # Errors
/// When the store fails; what was erased until then is gone.
pub fn erase(store: &dyn Store, run: &Name, stop: &AtomicBool) -> Result<Amount> {
    let mut erased = Amount::default();
    erase_folder(store, &kept_folder(run), &mut erased, stop)?;
    let owner = owners().join(run);
    if let Some(found) = store.stat(&owner)? {
        store.remove(&owner, &found)?;
    }
    Ok(erased)
}

/// Erases a folder from the bottom up. The folders are in a list instead of on the stack: another account can make any number of levels.
fn erase_folder(store: &dyn Store, folder: &RelPath, erased: &mut Amount, stop: &AtomicBool) -> Result<()> {
    let mut emptied = Vec::new();
    let mut full = vec![folder.clone()];
    while let Some(folder) = full.pop() {
        go_on(stop)?;
        for entry in store.list(&folder)?.entries {
            let path = folder.join(&entry.name);
            if entry.meta.is_folder() {
                open_to_us(store, &path, &entry.meta)?;
                full.push(path);
            } else {
                store.remove(&path, &entry.meta)?;
                erased.files += 1;
                erased.bytes += entry.meta.size;
            }
        }
        emptied.push(folder);
    }
    emptied.iter().rev().try_for_each(|folder| {
        go_on(stop)?;
        store.remove_folder(folder)
    })
}

fn go_on(stop: &AtomicBool) -> Result<()> {
    match stop.load(Ordering::Relaxed) {
        true => Err(StoreError::new(FaultKind::Stopped, "go through", &kept_root())),
        false => Ok(()),
    }
}

/// Kept folders have the modes of those that they stand for; a closed one is opened to be worked in.
pub(super) fn open_to_us(store: &dyn Store, path: &RelPath, found: &Meta) -> Result<()> {
    match found.mode {
        Some(mode) if mode & 0o700 != 0o700 => {
            let open = Attributes { mode: Some(mode | 0o700), ..Attributes::default() };
            store.set_attributes(path, found, &open)
        }
        _ => Ok(()),
    }
}

/// Makes a folder among the kept copies. `original` is the folder that it stands for, which may have gone: it is never open to anybody
/// to whom that one was not, from the first moment. `None` for a folder above those.
pub(super) fn make_folder(store: &dyn Store, path: &RelPath, original: Option<Option<Meta>>) -> Result<Meta> {
    let Some(original) = original else {
        store.make_folders(path)?;
        let made = store.stat(path)?;
        return made.ok_or_else(|| StoreError::new(FaultKind::NotFound, "make folder", path));
    };
    let mode = original.and_then(|meta| meta.mode_without_list()).map_or(0o700, |mode| mode & 0o777 | 0o700);
    let mode = Some(mode).filter(|_| store.capabilities().modes);
    match store.make_folder(path, &Attributes { mode, ..Attributes::default() }) {
        Err(error) if error.kind == FaultKind::Exists => match store.stat(path)? {
            Some(found) if found.is_folder() => Ok(found),
            _ => Err(error),
        },
        made => made,
    }
}

/// For each run with kept copies, a file that says whose they are, for people and for other Reedhooks.
fn owners() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/owners"].concat()).unwrap_or_default()
}

/// Writes down whose the kept copies of a run are.
pub(super) fn write_owner(store: &dyn Store, run: &Name, owner: &str) -> Result<()> {
    store.make_folders(&owners())?;
    let file = owners().join(run);
    match store.stat(&file)? {
        Some(_) => Ok(()),
        // Not made durable by itself: it goes with the first copies that are.
        None => {
            let mut stage = store.stage(&file, None)?;
            stage.write(owner.as_bytes())?;
            let sealed = stage.seal(&Attributes::default())?;
            store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).map(drop)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(name: &str) -> KeptRun {
        let run = Name::new(name.as_bytes()).expect("a name");
        KeptRun { began: began(&run, &TimeZone::UTC), run, owned: false }
    }

    #[test]
    fn a_clock_that_was_far_ahead_once_makes_nothing_old() {
        let hour = 3_600_000;
        let (day, year) = (24 * hour, 365 * 24 * hour);
        let read = |boot: &str, awake_ms: i64, wall_ms: i64| ClockReading {
            boot: boot.into(),
            awake_ms,
            wall_ms,
            trusted_ms: 0,
        };
        let first = read("a", hour, 50 * year).next(None);
        assert_eq!(first.trusted_ms, 50 * year);
        let usual = read("a", hour + day, 50 * year + day).next(Some(&first));
        assert_eq!(usual.trusted_ms, 50 * year + day);
        let mut ahead = usual;
        for look in 1..20 {
            ahead = read("a", hour + day + look, 60 * year).next(Some(&ahead));
        }
        assert!(ahead.trusted_ms < 50 * year + 2 * day, "many runs of one evening");
        let started_anew = read("b", 1, 60 * year).next(Some(&ahead));
        assert!(started_anew.trusted_ms <= 50 * year + 9 * day);
        let right_again = read("b", 2, 50 * year + 2 * day).next(Some(&started_anew));
        assert_eq!(right_again.trusted_ms, 50 * year + 2 * day);
        let after_a_pause = read("c", 1, 50 * year + 5 * day).next(Some(&right_again));
        assert_eq!(after_a_pause.trusted_ms, 50 * year + 5 * day);
    }

    #[test]
    fn age_then_room_decide_and_the_current_run_stays() {
        let runs = ["20310501-060000-aaaa", "20310510-060000-bbbb", "20310520-060000-cccc"].map(run);
        let now = Stamp::new(runs[2].began.expect("a time").seconds() + 3600, 0);
        let day = Duration::from_secs(86_400);
        let place = |one: &KeptRun| runs.iter().position(|run| run == one).expect("known");
        // What goes, and of how many runs that was asked.
        let gone = |keep_for: Duration, room: Option<u64>, current: usize| -> (Vec<usize>, usize) {
            let mut asked = 0;
            let mut bytes_of = |run: &KeptRun| {
                asked += 1;
                Ok([10, 20, 30][place(run)])
            };
            let current = runs.get(current).map(|run| &run.run);
            let gone = expired(&runs, now, keep_for, room, current, &mut bytes_of).expect("no store fails");
            (gone.into_iter().map(place).collect(), asked)
        };
        assert_eq!(gone(30 * day, None, 2), (vec![], 0));
        assert_eq!(gone(15 * day, None, 2), (vec![0], 0));
        assert_eq!(gone(5 * day, None, 2), (vec![0, 1], 0));
        assert_eq!(gone(30 * day, Some(60), 2), (vec![], 3));
        assert_eq!(gone(30 * day, Some(50), 2), (vec![0], 3));
        assert_eq!(gone(30 * day, Some(0), 2), (vec![0, 1], 2), "never the copies of the run in progress");
        assert_eq!(gone(Duration::ZERO, Some(0), 9), (vec![0, 1, 2], 0));
        assert_eq!(began(&Name::new(b"by hand").expect("a name"), &TimeZone::UTC), None);
    }
}
