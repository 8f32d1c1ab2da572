//! What goes on in the service, kept for whoever looks on: a board that comes now wants to know how far a run is that began an hour ago.
//!
//! The hub hears what everybody hears, counts, and hands it on. It costs a run a few numbers for each file; lines are made only for those
//! who look on, a few times a second, however much happens.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use reedhook_jobs::desk::Finishing;
use reedhook_jobs::lines;
use reedhook_jobs::run::finished;
use reedhook_jobs::tally::{Progress, Said};
use serde_json::{Value, json};

use crate::{Happening, ServiceObserver};

/// So much of what was said is kept.
const SAID: usize = 300;

/// So many files in hand are told.
const IN_HAND: usize = 3;

#[derive(Default)]
struct FeedState {
    live: BTreeMap<String, Progress>,
    /// What was said, each with its number.
    said: VecDeque<(u64, Value)>,
    serial: u64,
    /// How things stand has changed so often.
    version: u64,
}

/// Who keeps it.
pub(crate) struct ProgressFeed {
    outward: Arc<dyn ServiceObserver>,
    state: Mutex<FeedState>,
    changed: Condvar,
}

/// How far somebody has read who looks on.
pub(crate) struct Reader {
    version: u64,
    serial: u64,
    told: Instant,
}

/// What there is to read.
pub(crate) struct Read {
    /// How things stand has changed: it has to be asked for anew.
    pub stands_otherwise: bool,
    /// Lines.
    pub lines: Vec<Value>,
}

impl ProgressFeed {
    pub fn new(outward: Arc<dyn ServiceObserver>) -> ProgressFeed {
        ProgressFeed { outward, state: Mutex::default(), changed: Condvar::new() }
    }

    fn lock(&self) -> MutexGuard<'_, FeedState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Somebody begins to look on: what was said lately is told, and how things stand.
    pub fn reader(&self) -> Reader {
        Reader { version: u64::MAX, serial: 0, told: Instant::now() }
    }

    /// How things stand has changed in a way that nobody hears of: somebody has paused a job, say.
    pub fn stands_otherwise(&self) {
        self.lock().version += 1;
        self.changed.notify_all();
    }

    /// Waits until there is something to read: while a run goes on a few times a second, otherwise when something changes.
    pub fn read(&self, reader: &mut Reader) -> Read {
        const FRAME: Duration = Duration::from_millis(200);
        const LONGEST: Duration = Duration::from_secs(5);
        let mut state = self.lock();
        let begun = Instant::now();
        loop {
            let news = state.version != reader.version || state.serial != reader.serial;
            let due = if state.live.is_empty() { LONGEST } else { FRAME };
            // Many things happen at once: those who look on are told of them together.
            if reader.told.elapsed() >= FRAME && (news || begun.elapsed() >= due) {
                break;
            }
            let wait = if news { FRAME.saturating_sub(reader.told.elapsed()) } else { due };
            let wait = wait.max(Duration::from_millis(5));
            state = self.changed.wait_timeout(state, wait).unwrap_or_else(PoisonError::into_inner).0;
        }
        reader.told = Instant::now();
        let stands_otherwise = std::mem::replace(&mut reader.version, state.version) != state.version;
        let unread = state.said.iter().filter(|(serial, _)| *serial > reader.serial);
        let mut lines: Vec<Value> = unread.map(|(_, line)| line.clone()).collect();
        reader.serial = state.serial;
        lines.extend(state.live.iter().map(|(job, live)| {
            let tally = live.tally.glimpse(IN_HAND);
            json!({"event": "progress", "job": job, "seconds": lines::seconds(live.since.elapsed()),
                "looking": live.looking, "tally": tally})
        }));
        Read { stands_otherwise, lines }
    }

    fn say(state: &mut FeedState, line: Value) {
        state.serial += 1;
        let serial = state.serial;
        state.said.push_back((serial, line));
        if state.said.len() > SAID {
            state.said.pop_front();
        }
    }

    fn take(&self, happening: &Happening<'_>) {
        let at = || lines::time(jiff::Timestamp::now().as_millisecond());
        let mut state = self.lock();
        match happening {
            Happening::InRun { job, event } => {
                let Some(live) = state.live.get_mut(*job) else { return };
                // What counts a million times wakes nobody.
                let Some(line) = live.take(event).as_ref().and_then(line_of) else { return };
                let mut line = lines::object(line);
                line.insert("job".to_owned(), json!(job));
                line.insert("at".to_owned(), json!(at()));
                ProgressFeed::say(&mut state, line.into());
            }
            Happening::Began { job, reason, .. } => {
                state.live.insert((*job).to_owned(), Progress::begins());
                ProgressFeed::say(
                    &mut state,
                    json!({"event": "began", "job": job, "cause": reason.as_str(), "at": at()}),
                );
                state.version += 1;
            }
            Happening::Ended { job, result } => {
                state.live.remove(*job);
                let mut line = lines::object(finished(job, result));
                line.insert("at".to_owned(), json!(at()));
                ProgressFeed::say(&mut state, line.into());
                state.version += 1;
            }
            Happening::Failed { job, failure } => {
                state.live.remove(*job);
                let (code, message) = (failure.code(), failure.text());
                ProgressFeed::say(
                    &mut state,
                    json!({"event": "failure", "job": job, "code": code, "message": message, "at": at()}),
                );
                state.version += 1;
            }
            Happening::Overdue { job, .. } => {
                ProgressFeed::say(&mut state, json!({"event": "overdue", "job": job, "at": at()}));
                state.version += 1;
            }
            Happening::Finishing { job, finishing } => {
                let mut line = finishing_line(job, finishing);
                line["at"] = json!(at());
                ProgressFeed::say(&mut state, line);
                state.version += 1;
            }
            Happening::Note(text) => {
                ProgressFeed::say(&mut state, json!({"event": "note", "message": text, "at": at()}));
            }
            Happening::Waiting { .. } | Happening::Tending { .. } | Happening::Ending => state.version += 1,
        }
        drop(state);
        self.changed.notify_all();
    }
}

/// What was said in a run, as a line.
fn line_of(said: &Said<'_>) -> Option<Value> {
    match said {
        Said::Problem(problem) => {
            let mut line = Vec::new();
            lines::problem(&mut line, problem);
            serde_json::from_slice(&line).ok()
        }
        Said::Note(text) => Some(json!({"event": "note", "message": text})),
    }
}

/// How near it is that the machine goes down, as a line.
pub fn finishing_line(job: &str, finishing: &Finishing<'_>) -> Value {
    match finishing {
        Finishing::Waits { what, behind } => {
            json!({"event": "finally", "job": job, "do": what.as_str(), "state": "waits", "message": behind})
        }
        Finishing::CountsDown { what, left } => json!({"event": "finally", "job": job, "do": what.as_str(),
            "state": "counts-down", "seconds": left.as_secs_f64().round()}),
        Finishing::LeftOn => json!({"event": "finally", "job": job, "state": "left-on"}),
    }
}

impl ServiceObserver for ProgressFeed {
    fn observe(&self, happening: &Happening<'_>) {
        self.take(happening);
        self.outward.observe(happening);
    }
}

#[cfg(test)]
mod tests {
    use reedhook_core::run::Event as Deed;
    use reedhook_jobs::desk::Event;

    use super::*;
    use crate::Reason;

    struct Deaf;

    impl ServiceObserver for Deaf {
        fn observe(&self, _happening: &Happening<'_>) {}
    }

    #[test]
    fn whoever_comes_late_knows_how_far_it_is_and_several_read_for_themselves() {
        let progress_feed = ProgressFeed::new(Arc::new(Deaf));
        progress_feed.observe(&Happening::Began { job: "counts", reason: Reason::Asked, line: None });
        let file = |worker| Deed::Bytes { worker, bytes: 100 };
        for _ in 0..1000 {
            let event = Event::Did { event: &file(0), line: None };
            progress_feed.observe(&Happening::InRun { job: "counts", event: &event });
        }
        let (mut one, mut other) = (progress_feed.reader(), progress_feed.reader());
        for reader in [&mut one, &mut other] {
            let read = progress_feed.read(reader);
            assert!(read.stands_otherwise);
            assert_eq!(read.lines[0]["event"], "began");
            assert_eq!(read.lines[1]["tally"]["bytes"], 100_000);
        }
        progress_feed.observe(&Happening::Note("a word"));
        let lines = progress_feed.read(&mut one).lines;
        assert_eq!((lines.len(), &lines[0]["message"]), (2, &json!("a word")));
        (0..2 * SAID).for_each(|_| progress_feed.observe(&Happening::Note("more")));
        assert_eq!(progress_feed.read(&mut other).lines.len(), SAID + 1, "what is old is forgotten");
        assert!(!progress_feed.read(&mut one).stands_otherwise);
    }
}
