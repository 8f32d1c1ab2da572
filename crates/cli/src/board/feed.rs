//! What comes to a board by itself: the lines of the service, and what a look at Reedhook's own files tells every few seconds. A run of
//! another program is followed in its log.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crossbeam_channel::{RecvTimeoutError, Sender, bounded};
use reedhook_core::run::{Done, Event as Deed};
use reedhook_core::store::Store;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::logline::LogLine;
use reedhook_jobs::run::is_running;
use reedhook_jobs::settings::Settings;
use reedhook_jobs::tally::Tally;
use reedhook_record::Outcome as RunOutcome;
use reedhook_report::figures::{JobPart, standings};
use reedhook_stores::drives::connected;
use reedhook_stores::local::LocalStore;
use reedhook_tend::protocol::Told;
use reedhook_tend::socket::{self, AskError};
use serde_json::Value;

use crate::board::shown::{BoardNews, Drive, Live, Whose};

/// How often Reedhook's own files are looked at; while another program's run goes on, its log is.
const EVERY: Duration = Duration::from_secs(2);

const EVERY_LOG: Duration = Duration::from_millis(300);

/// How often it is tried whether the service is there.
const AGAIN: Duration = Duration::from_secs(1);

/// What comes by itself.
pub struct Feed {
    look: Sender<()>,
    /// Jobs whose runs are told of by whoever carries them out: nobody need read their logs.
    told: Arc<Mutex<HashSet<String>>>,
}

impl Feed {
    /// Begins to listen and to look. The threads end with the program, or when nobody takes their news any more.
    pub fn start(desk: &Desk, news: &Sender<BoardNews>) -> Feed {
        let (look, wanted) = bounded(1);
        let (state, sender) = (desk.home.state().to_owned(), news.clone());
        std::thread::spawn(move || {
            loop {
                let each = |told: Told| sender.send(BoardNews::Service(Box::new(told))).is_ok();
                if let Err(error @ AskError::OtherVersion) = socket::look_on(&state, each) {
                    let _ = sender.send(BoardNews::Failed(error.to_string()));
                }
                if sender.send(BoardNews::ServiceGone).is_err() {
                    return;
                }
                std::thread::sleep(AGAIN);
            }
        });
        let (desk, sender, told) = (desk.clone(), news.clone(), Arc::new(Mutex::new(HashSet::new())));
        let known = told.clone();
        std::thread::spawn(move || {
            let mut logs: HashMap<String, Followed> = HashMap::new();
            let (mut looked, mut jobs) = (None::<Instant>, Vec::new());
            loop {
                if looked.is_none_or(|at| at.elapsed() >= EVERY) {
                    looked = Some(Instant::now());
                    match standings(&desk) {
                        Ok(found) => jobs = found,
                        Err(failure) => drop(sender.send(BoardNews::Failed(failure.to_string()))),
                    }
                    if sender.send(BoardNews::Looked(jobs.clone(), drives(&desk))).is_err() {
                        return;
                    }
                }
                let known = known.lock().unwrap_or_else(PoisonError::into_inner).clone();
                let others = followed(&desk, &jobs, &known, &mut logs);
                let wait = if others.is_empty() { EVERY } else { EVERY_LOG };
                if sender.send(BoardNews::Others(others)).is_err() {
                    return;
                }
                match wanted.recv_timeout(wait) {
                    Ok(()) => looked = None,
                    Err(RecvTimeoutError::Timeout) => {}
                    Err(RecvTimeoutError::Disconnected) => return,
                }
            }
        });
        Feed { look, told }
    }

    /// Says of which jobs' runs somebody tells.
    pub fn are_told_of<'a>(&self, jobs: impl Iterator<Item = &'a String>) {
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        told.clear();
        told.extend(jobs.cloned());
    }

    /// Lets everything be looked at now.
    pub fn look_now(&self) {
        let _ = self.look.try_send(());
    }
}

/// Drives that are connected, and known ones that are away.
fn drives(desk: &Desk) -> Vec<Drive> {
    // Somebody may name a store while the board is open.
    let stores =
        Settings::load(&desk.home).map_or_else(|_| desk.settings.stores.clone(), |settings| settings.stores);
    let connected = connected().unwrap_or_default();
    let mut found: Vec<Drive> = connected
        .iter()
        .map(|drive| {
            let known = stores
                .iter()
                .filter(|(_, entry)| entry.drive.as_ref().is_some_and(|name| drive.is_called(name)));
            let names: Vec<String> = known.map(|(name, _)| format!("@{name}")).collect();
            let space = LocalStore::open(&drive.mount).ok().and_then(|store| store.space().ok().flatten());
            Drive {
                name: drive.label.clone().unwrap_or_else(|| drive.mount.display().to_string()),
                mount: Some(drive.mount.display().to_string()),
                kind: drive.kind_in_words(),
                space: space.map(|space| (space.free, space.total)),
                stores: names.join(" "),
            }
        })
        .collect();
    for (name, entry) in &stores {
        if let Some(wanted) =
            entry.drive.as_ref().filter(|wanted| !connected.iter().any(|drive| drive.is_called(wanted)))
        {
            let (stores, name) = (format!("@{name}"), wanted.clone());
            found.push(Drive { name, mount: None, kind: String::new(), space: None, stores });
        }
    }
    // What jobs work with comes first.
    found.sort_by_key(|drive| drive.stores.is_empty());
    found
}

/// A log that another program is writing.
struct Followed {
    path: PathBuf,
    read: u64,
    /// A line that is not whole yet.
    rest: Vec<u8>,
    tally: Tally,
}

/// Runs that go on, as far as their logs tell.
fn followed(
    desk: &Desk,
    jobs: &[JobPart],
    told: &HashSet<String>,
    logs: &mut HashMap<String, Followed>,
) -> BTreeMap<String, Live> {
    let now = desk.now_ms();
    // It may have ended since it was looked at.
    let goes_on =
        |job: &&JobPart| job.running && !told.contains(&job.name) && is_running(&desk.home, &job.name);
    let running = jobs.iter().filter(goes_on).filter_map(|job| {
        let last = job.last.as_ref().filter(|run| run.end.outcome == RunOutcome::Unfinished)?;
        Some((job.name.clone(), desk.home.run_log(&job.name, &last.run), last.started_ms))
    });
    let running: Vec<_> = running.collect();
    logs.retain(|job, log| running.iter().any(|(name, path, _)| name == job && *path == log.path));
    let mut found = BTreeMap::new();
    for (job, path, started_ms) in running {
        let log = logs.entry(job.clone()).or_insert_with(|| Followed {
            path,
            read: 0,
            rest: Vec::new(),
            tally: Tally::default(),
        });
        log.read_on();
        let elapsed = Duration::from_millis(u64::try_from(now - started_ms).unwrap_or(0));
        let looking = (log.tally == Tally::default()).then_some(0);
        found.insert(job, Live { whose: Whose::Other, elapsed, looking, tally: log.tally.clone() });
    }
    found
}

impl Followed {
    /// Takes note of what was written since. What cannot be read is told by the run itself at its end.
    fn read_on(&mut self) {
        /// So much is read at a time.
        const MOST: u64 = 4 << 20;
        let Ok(mut file) = File::open(&self.path) else { return };
        if file.seek(SeekFrom::Start(self.read)).is_err() {
            return;
        }
        let mut bytes = std::mem::take(&mut self.rest);
        let Ok(length) = file.take(MOST).read_to_end(&mut bytes) else { return };
        self.read += length as u64;
        let whole = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        self.rest = bytes.split_off(whole);
        for line in bytes.split(|byte| *byte == b'\n') {
            let Ok(value) = serde_json::from_slice::<Value>(line) else { continue };
            match LogLine::of(&value) {
                LogLine::Planned { files, bytes, .. } => {
                    self.tally.files_total += files;
                    self.tally.bytes_total += bytes;
                }
                LogLine::Did { item, .. } => {
                    let (path, size) = (item.path.clone(), item.size);
                    if matches!(item.done, Done::Added | Done::Revived | Done::Updated) {
                        self.tally.bytes += size;
                    }
                    self.tally.take(&Deed::Item(*item));
                    self.tally.take(&Deed::Started { worker: 0, path, size: 0 });
                }
                LogLine::Problem { .. } => self.tally.problems += 1,
                _ => {}
            }
        }
    }
}
