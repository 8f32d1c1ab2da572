//! Reserving a store for one run, over protocols that have no locks of their own.
//!
//! Making a folder either succeeds or fails, in every protocol: who makes `.reedhook/busy` has the store. A file in it tells who that
//! is and is written anew every minute. One that has not been touched for five belongs to a run that has died, and so does one of
//! this machine whose process is gone.

use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use jiff::Timestamp;
use reedhook_core::path::{RESERVED_NAME, RelPath};
use reedhook_core::store::{Attributes, FaultKind, Result, StoreError};

use super::Inner;

const TOUCHED_EVERY: Duration = Duration::from_secs(60);
const DEAD_AFTER_SECONDS: i64 = 300;

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
        if !is_dead(&inner)? {
            return Err(StoreError::new(FaultKind::InUse, "reserve", &RelPath::root()));
        }
        give_back(&inner);
        // Of several that find a dead lock, one makes the folder anew.
        if make_folder(&inner, &folder())? == Made::WasThere {
            return Err(StoreError::new(FaultKind::InUse, "reserve", &RelPath::root()));
        }
    }
    touch(&inner)?;
    Ok(Box::new(Held::start(inner)))
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

/// Who holds the lock, and until when it is surely alive: `machine process seconds`.
fn text() -> String {
    format!("{} {} {}\n", machine(), std::process::id(), Timestamp::now().as_second())
}

fn machine() -> String {
    let read = |file| std::fs::read_to_string(file).ok();
    let id = read("/etc/machine-id").or_else(|| read("/proc/sys/kernel/hostname")).unwrap_or_default();
    // Two machines may share an image's machine-id, but not the moment of their start.
    let boot = read("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    format!("{}{}", id.trim(), boot.trim())
}

fn touch(inner: &Inner) -> Result<()> {
    let data = text();
    inner.ask(|wire| wire.put(&note(), data.as_bytes(), &Attributes::default()))
}

/// Whether the holder has surely died. A lock without a note was just made, or its holder died in that very moment: its
/// own age cannot be told everywhere, so it counts as alive for one more look.
fn is_dead(inner: &Inner) -> Result<bool> {
    for _ in 0..2 {
        let text = read_note(inner)?;
        if !text.is_empty() {
            return Ok(is_text_dead(&text));
        }
        std::thread::sleep(Duration::from_millis(1500));
    }
    Ok(true)
}

fn is_text_dead(text: &str) -> bool {
    let mut words = text.split_whitespace();
    let (Some(holder), Some(process), Some(at)) = (words.next(), words.next(), words.next()) else {
        return true;
    };
    let here = holder == machine();
    let gone = here && !std::path::Path::new("/proc").join(process).exists();
    let old = at.parse::<i64>().is_ok_and(|at| Timestamp::now().as_second() - at > DEAD_AFTER_SECONDS);
    gone || old
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
    read_note(inner).is_ok_and(|text| {
        let mut words = text.split_whitespace();
        words.next() == Some(machine().as_str())
            && words.next() == Some(std::process::id().to_string().as_str())
    })
}

fn give_back(inner: &Inner) {
    if let Ok(Some(meta)) = inner.wire.stat(&note()) {
        let _ = inner.ask(|wire| wire.remove(&note(), &meta));
    }
    let _ = inner.ask(|wire| wire.remove_folder(&folder()));
}

struct Held {
    inner: Arc<Inner>,
    ended: Arc<(Mutex<bool>, Condvar)>,
    toucher: Option<JoinHandle<()>>,
}

impl Held {
    fn start(inner: Arc<Inner>) -> Held {
        let ended = Arc::new((Mutex::new(false), Condvar::new()));
        let (shared, signal) = (inner.clone(), ended.clone());
        let toucher = std::thread::spawn(move || {
            let (over, bell) = &*signal;
            let mut over = over.lock().unwrap_or_else(PoisonError::into_inner);
            while !*over {
                over = bell.wait_timeout(over, TOUCHED_EVERY).unwrap_or_else(PoisonError::into_inner).0;
                if !*over {
                    // When the store does not answer, the run itself will find that out.
                    if is_ours(&shared) {
                        let _ = touch(&shared);
                    }
                }
            }
        });
        Held { inner, ended, toucher: Some(toucher) }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        *self.ended.0.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.ended.1.notify_all();
        if let Some(toucher) = self.toucher.take() {
            let _ = toucher.join();
        }
        if is_ours(&self.inner) {
            give_back(&self.inner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lock_dies_with_its_process_or_of_age() {
        let now = Timestamp::now().as_second();
        let (here, this) = (machine(), std::process::id());
        let cases = [
            (format!("{here} {this} {now}"), false),
            (format!("{here} 4194999 {now}"), true),
            (format!("elsewhere 1 {now}"), false),
            (format!("elsewhere 1 {}", now - 299), false),
            (format!("elsewhere 1 {}", now - 400), true),
            ("nonsense".to_owned(), true),
        ];
        for (text, dead) in cases {
            assert_eq!(is_text_dead(&text), dead, "{text}");
        }
    }
}
