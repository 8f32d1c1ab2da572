//! Reserving a store for one run, over protocols that have no locks of their own.
//!
//! Making a folder either succeeds or fails, in every protocol: who makes `.reedhook/busy` has the store. A file in it tells who that
//! is and is written anew every minute. One of this machine whose process is gone belongs to a run that has died. Of another machine's
//! the time in it is believed only where it says that the run is alive; where it seems to be old, or of the future, the file is watched:
//! one that is not written anew for longer than a minute is dead, whatever the clocks say.

use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use jiff::Timestamp;
use reedhook_core::path::{RESERVED_NAME, RelPath};
use reedhook_core::store::{Attributes, FaultKind, Result, StoreError};

use crate::remote::inner::Inner;

const TOUCHED_EVERY: Duration = Duration::from_secs(60);

const DEAD_AFTER_SECONDS: i64 = 300;

/// Two clocks that are further apart are not believed.
const CLOCKS_DIFFER_SECONDS: i64 = 60;

/// A longer note is none of ours.
const LIMIT: u64 = 1024;

fn below_reserved(rest: &[u8]) -> RelPath {
    RelPath::new(&[RESERVED_NAME, rest].concat()).unwrap_or_default()
}

fn folder() -> RelPath {
    below_reserved(b"/busy")
}

fn note() -> RelPath {
    below_reserved(b"/busy/holder")
}

/// Takes the lock; it is given back when the value is dropped.
pub(super) fn take(inner: Arc<Inner>) -> Result<Box<dyn Send + Sync>> {
    let _ = make_folder(&inner, &below_reserved(b""));
    if make_folder(&inner, &folder())? == Made::WasThere {
        if let Some(holder) = living_holder(&inner)? {
            return Err(in_use(&holder));
        }
        give_back(&inner);
        // Of several that find a dead lock, one makes the folder anew.
        if make_folder(&inner, &folder())? == Made::WasThere {
            return Err(StoreError::new(FaultKind::InUse, "reserve", &RelPath::root()));
        }
    }
    let since = Timestamp::now();
    touch(&inner, since)?;
    Ok(Box::new(HeldLock::start(inner, since)))
}

/// Who holds it, since when, and where that is written: for whoever has to find out what that run is about.
fn in_use(holder: &Note) -> StoreError {
    let since = holder.since.and_then(|since| Timestamp::from_second(since).ok());
    let since =
        since.map_or(String::new(), |since| format!(" since {}", since.strftime("%Y-%m-%d %H:%M UTC")));
    let who = if holder.host.is_empty() { "another machine" } else { &holder.host };
    let why = format!("process {} of {who} has it{since}; it says so in {}", holder.process, note());
    StoreError::new(FaultKind::InUse, "reserve", &RelPath::root()).because(why)
}

#[derive(PartialEq, Eq)]
enum Made {
    New,
    WasThere,
}

fn make_folder(inner: &Inner, path: &RelPath) -> Result<Made> {
    // That a folder is there at a repeated attempt is not taken for our own doing: it may be another's.
    match inner.ask(|wire| wire.make_folder(path, None)).map_err(|error| inner.unless_there(error, path)) {
        Ok(()) => Ok(Made::New),
        Err(error) if error.kind == FaultKind::Exists => Ok(Made::WasThere),
        Err(error) => Err(error),
    }
}

/// What a holder says of itself: `machine process seconds host since`; earlier versions wrote the first three.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Note {
    machine: String,
    process: u32,
    /// When it was written, by the holder's clock, which may be wrong.
    at: i64,
    host: String,
    since: Option<i64>,
}

impl Note {
    fn ours(since: Timestamp) -> Note {
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        Note {
            machine: machine(),
            process: std::process::id(),
            at: Timestamp::now().as_second(),
            // One word: the note is read as words.
            host: host.split_whitespace().collect::<Vec<_>>().join("-"),
            since: Some(since.as_second()),
        }
    }

    fn to_text(&self) -> String {
        let Note { machine, process, at, host, since } = self;
        format!("{machine} {process} {at} {host} {}\n", since.unwrap_or(*at))
    }

    fn read(text: &str) -> Option<Note> {
        let mut words = text.split_whitespace();
        Some(Note {
            machine: words.next()?.to_owned(),
            process: words.next()?.parse().ok()?,
            at: words.next()?.parse().ok()?,
            host: words.next().unwrap_or_default().to_owned(),
            since: words.next().and_then(|since| since.parse().ok()),
        })
    }

    fn is_of_this_machine(&self) -> bool {
        self.machine == machine()
    }

    /// What the note alone says of its writer; `None` when that would mean to trust two clocks.
    fn is_alive(&self, now: i64) -> Option<bool> {
        if self.is_of_this_machine() {
            return Some(std::path::Path::new("/proc").join(self.process.to_string()).exists());
        }
        (-CLOCKS_DIFFER_SECONDS..=DEAD_AFTER_SECONDS).contains(&now.saturating_sub(self.at)).then_some(true)
    }
}

fn machine() -> String {
    let read = |file| std::fs::read_to_string(file).ok();
    let id = read("/etc/machine-id").or_else(|| read("/proc/sys/kernel/hostname")).unwrap_or_default();
    // Two machines may share an image's machine-id, but not the moment of their start.
    let boot = read("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    format!("{}{}", id.trim(), boot.trim())
}

fn touch(inner: &Inner, since: Timestamp) -> Result<()> {
    let data = Note::ours(since).to_text();
    inner.ask(|wire| wire.put(&note(), data.as_bytes(), &Attributes::default()))
}

/// The holder, unless it has surely died. A lock without a note was just made, or its holder died in that very moment: its
/// own age cannot be told everywhere, so it counts as alive for one more look.
fn living_holder(inner: &Inner) -> Result<Option<Note>> {
    for _ in 0..2 {
        let text = read_note(inner)?;
        if !text.is_empty() {
            let Some(holder) = Note::read(&text) else { return Ok(None) };
            return match holder.is_alive(Timestamp::now().as_second()) {
                Some(alive) => Ok(alive.then_some(holder)),
                None => watched(inner, &text),
            };
        }
        inner.patience.stop.sleep(Duration::from_millis(1500));
    }
    Ok(None)
}

/// Waits whether the note is written anew, as a living holder does every minute: no clock but our own is asked.
fn watched(inner: &Inner, text: &str) -> Result<Option<Note>> {
    const LOOKS: u32 = 15;
    for _ in 0..LOOKS {
        if !inner.patience.stop.sleep(inner.patience.watch / LOOKS) {
            return Err(StoreError::new(FaultKind::Stopped, "lock", &RelPath::root()));
        }
        let now = read_note(inner)?;
        if now != text {
            // It was given back, or somebody is alive.
            return Ok(Note::read(&now));
        }
    }
    Ok(None)
}

/// What the note says; nothing when there is none.
fn read_note(inner: &Inner) -> Result<String> {
    let read = inner.ask(|wire| {
        let mut bytes = Vec::new();
        let content = wire.read(&note(), 0)?;
        std::io::Read::read_to_end(&mut std::io::Read::take(content, LIMIT), &mut bytes)
            .map_err(|error| StoreError::of_read(error, &note()))?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    });
    match read {
        Err(error) if error.kind == FaultKind::NotFound => Ok(String::new()),
        outcome => outcome,
    }
}

/// Whether the note is this process's own. A machine that slept too long finds another's in its place.
fn is_ours(inner: &Inner) -> bool {
    let ours = |holder: Note| holder.is_of_this_machine() && holder.process == std::process::id();
    read_note(inner).is_ok_and(|text| Note::read(&text).is_some_and(ours))
}

fn give_back(inner: &Inner) {
    if let Ok(Some(meta)) = inner.wire.stat(&note()) {
        let _ = inner.ask(|wire| wire.remove(&note(), &meta));
    }
    let _ = inner.ask(|wire| wire.remove_folder(&folder()));
}

struct HeldLock {
    inner: Arc<Inner>,
    ended: Arc<(Mutex<bool>, Condvar)>,
    toucher: Option<JoinHandle<()>>,
}

impl HeldLock {
    fn start(inner: Arc<Inner>, since: Timestamp) -> HeldLock {
        let ended = Arc::new((Mutex::new(false), Condvar::new()));
        let (shared, signal) = (inner.clone(), ended.clone());
        let toucher = std::thread::spawn(move || {
            let (over, desktop_question) = &*signal;
            let mut over = over.lock().unwrap_or_else(PoisonError::into_inner);
            while !*over {
                over = desktop_question
                    .wait_timeout(over, TOUCHED_EVERY)
                    .unwrap_or_else(PoisonError::into_inner)
                    .0;
                if !*over {
                    // When the store does not answer, the run itself will find that out.
                    if is_ours(&shared) {
                        let _ = touch(&shared, since);
                    }
                }
            }
        });
        HeldLock { inner, ended, toucher: Some(toucher) }
    }
}

impl Drop for HeldLock {
    fn drop(&mut self) {
        *self.ended.0.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.ended.1.notify_all();
        if let Some(toucher) = self.toucher.take() {
            let _ = toucher.join();
        }
        // While nobody else may write there.
        self.inner.complete_notes();
        self.inner.let_the_second_pass();
        if is_ours(&self.inner) {
            give_back(&self.inner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lock_dies_with_its_process_and_by_no_clock() {
        let now = Timestamp::now().as_second();
        let (here, this) = (machine(), std::process::id());
        let cases = [
            (format!("{here} {this} {now}"), Some(Some(true))),
            (format!("{here} 4194999 {now}"), Some(Some(false))),
            (format!("elsewhere 1 {now}"), Some(Some(true))),
            (format!("elsewhere 1 {}", now - 299), Some(Some(true))),
            (format!("elsewhere 1 {} hide-3 {now}", now - 400), Some(None)),
            (format!("elsewhere 1 {}", now + 400), Some(None)),
            ("nonsense".to_owned(), None),
        ];
        for (text, alive) in cases {
            assert_eq!(Note::read(&text).map(|note| note.is_alive(now)), alive, "{text}");
        }
        let ours = Note::ours(Timestamp::now());
        assert_eq!(Note::read(&ours.to_text()), Some(ours));
    }

    #[test]
    fn fuzzed_notes() {
        let seeds: [&[u8]; 2] =
            [b"machine-1 4711 1935684900 station 1935684000\n", b"m 1 -9223372036854775808 h 1"];
        reedhook_testing::fuzz("notes of locks", &seeds, |bytes| {
            if let Some(note) = Note::read(&String::from_utf8_lossy(bytes)) {
                let _ = note.is_alive(i64::MAX);
                let _ = note.is_alive(1_935_684_950);
            }
        });
    }
}
