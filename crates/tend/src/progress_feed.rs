//! What goes on in the service, kept for whoever looks on: a board that comes now wants to know how far a run is that began an hour ago.
//!
//! The feed hears what everybody hears, counts, and hands it on. It costs a run a few numbers for each file; lines are made only for those
//! who look on, a few times a second, however much happens.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::tz::TimeZone;
use reedhook_jobs::lines;
use reedhook_jobs::tally::Progress;

use crate::happening::{Happening, ServiceObserver};
use crate::protocol::Told;

/// So much of what was said is kept.
const SAID: usize = 300;

/// So many files in hand are told.
const IN_HAND: usize = 3;

#[derive(Default)]
struct FeedState {
    live: BTreeMap<String, Progress>,
    /// What was said, each with its number.
    said: VecDeque<(u64, Told)>,
    serial: u64,
    /// How things stand has changed so often.
    version: u64,
}

/// Who keeps it.
pub(crate) struct ProgressFeed {
    outward: Arc<dyn ServiceObserver>,
    zone: TimeZone,
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
    /// What was told since, oldest first.
    pub lines: Vec<Told>,
}

impl ProgressFeed {
    pub fn new(outward: Arc<dyn ServiceObserver>, zone: TimeZone) -> ProgressFeed {
        ProgressFeed { outward, zone, state: Mutex::default(), changed: Condvar::new() }
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
        let mut lines: Vec<Told> = unread.map(|(_, line)| line.clone()).collect();
        reader.serial = state.serial;
        lines.extend(state.live.iter().map(|(job, live)| {
            let tally = live.tally.glimpse(IN_HAND);
            let seconds = lines::seconds(live.since.elapsed());
            Told::Progress { job: job.clone(), seconds, looking: live.looking, tally }
        }));
        Read { stands_otherwise, lines }
    }

    fn say(state: &mut FeedState, line: Told) {
        state.serial += 1;
        let serial = state.serial;
        state.said.push_back((serial, line));
        if state.said.len() > SAID {
            state.said.pop_front();
        }
    }

    fn take(&self, happening: &Happening<'_>) {
        let now = jiff::Timestamp::now();
        let mut state = self.lock();
        let told = match happening {
            Happening::InRun { job, event } => {
                // What counts a million times wakes nobody.
                let said = state.live.get_mut(*job).and_then(|live| live.take(event));
                let Some(told) = said.and_then(|said| Told::said(job, &said, now)) else { return };
                Some(told)
            }
            Happening::Waiting { .. } | Happening::Tending(_) | Happening::Ending => None,
            happening => Told::of(happening, now, &self.zone),
        };
        match happening {
            Happening::Began { job, .. } => drop(state.live.insert((*job).to_owned(), Progress::begins())),
            Happening::Ended { job, .. } | Happening::Failed { job, .. } => drop(state.live.remove(*job)),
            _ => {}
        }
        state.version += u64::from(!matches!(happening, Happening::InRun { .. } | Happening::Note(_)));
        if let Some(told) = told {
            ProgressFeed::say(&mut state, told);
        }
        drop(state);
        self.changed.notify_all();
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
    use reedhook_jobs::observer::Event;

    use super::*;
    use crate::happening::Reason;

    struct Deaf;

    impl ServiceObserver for Deaf {
        fn observe(&self, _happening: &Happening<'_>) {}
    }

    #[test]
    fn whoever_comes_late_knows_how_far_it_is_and_several_read_for_themselves() {
        let progress_feed = ProgressFeed::new(Arc::new(Deaf), TimeZone::UTC);
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
            assert!(matches!(read.lines[0], Told::Began { .. }));
            assert!(matches!(&read.lines[1], Told::Progress { tally, .. } if tally.bytes == 100_000));
        }
        progress_feed.observe(&Happening::Note("a word"));
        let lines = progress_feed.read(&mut one).lines;
        assert!(matches!(&lines[..], [Told::Note { message, .. }, _] if message == "a word"));
        (0..2 * SAID).for_each(|_| progress_feed.observe(&Happening::Note("more")));
        assert_eq!(progress_feed.read(&mut other).lines.len(), SAID + 1, "what is old is forgotten");
        assert!(!progress_feed.read(&mut one).stands_otherwise);
    }
}
