//! What all work on jobs needs: whose it is, where it is to stop, what the world outside says, and who hears of what happens.
//!
//! Nothing in this crate asks the clock, the zone or the environment by itself, prints, or reads a terminal. Whoever puts a
//! [`Desk`] up decides what these are: a command line, a service, a test.

use std::collections::HashMap;
use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::entry::Stamp;
use reedhook_core::foreign::escaped;
use reedhook_core::plan::Plan;
use reedhook_core::run;
use reedhook_core::run::kept::ClockReading;
use reedhook_core::walk::ScanProgress;
use reedhook_core::when::Finally;
use reedhook_stores::remote::connect::Secret;

use crate::failure::Outcome;
use crate::home::Home;
use crate::places::Settings;
use crate::secrets::Opened;

/// The world outside, as far as jobs depend on it.
#[derive(Clone)]
pub struct World {
    /// The clock.
    pub now: fn() -> Timestamp,
    /// The zone that times are told in.
    pub zone: TimeZone,
    /// A variable of the environment.
    pub variable: fn(&str) -> Option<OsString>,
    /// The user's own folder.
    pub user_folder: Option<PathBuf>,
}

impl World {
    /// A world in which nothing is set: this machine's clock, no zone but UTC, no variables, no folder of a user.
    pub fn plain() -> World {
        World { now: Timestamp::now, zone: TimeZone::UTC, variable: |_| None, user_folder: None }
    }

    /// A variable's text, unless it is empty.
    pub fn text(&self, name: &str) -> Option<String> {
        (self.variable)(name)?.into_string().ok().filter(|text| !text.is_empty())
    }
}

/// Something that happens while jobs are worked on.
pub enum Event<'a> {
    /// Worth a word, and stops nothing.
    Note(&'a str),
    /// Both sides of a job are being looked at; heard again and again while that lasts.
    Scanning {
        /// The job.
        job: &'a str,
        /// How far it is.
        progress: &'a ScanProgress,
    },
    /// The look is over.
    Scanned,
    /// A plan is about to be carried out.
    Begins(&'a Plan),
    /// The engine did something.
    Did {
        /// What.
        event: &'a run::Event,
        /// The same as a line of JSON with its end, where it has a form that readers are to get.
        line: Option<&'a [u8]>,
    },
    /// Time has passed while a plan is carried out.
    Tick,
    /// The plan has been carried out, or that was given up.
    Ends,
    /// All runs are over, and what is to be done at the very end is near.
    Finishing(Finishing<'a>),
}

/// How near it is what is to be done at the very end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finishing<'a> {
    /// Something else still goes on, or is still to come.
    Waits {
        /// What is to be done.
        what: Finally,
        /// What it waits for, in words.
        behind: &'a str,
    },
    /// Somebody may still say no; heard every second.
    CountsDown {
        /// What is to be done.
        what: Finally,
        /// How long it takes yet.
        left: Duration,
    },
    /// Somebody has said no.
    LeftOn,
}

/// Who hears what happens: a progress view, a program that reads lines, a board. What it does has no influence on the work.
pub trait Observer: Send + Sync {
    /// Hears an event.
    fn observe(&self, event: &Event<'_>);
}

/// Hears nothing.
pub struct Nobody;

impl Observer for Nobody {
    fn observe(&self, _event: &Event<'_>) {}
}

/// Asks a person for a secret; `None` when there is nobody to ask.
pub type AskSecret = dyn Fn(&str) -> Outcome<Option<Secret>> + Send + Sync;

/// Secrets that were found, for all connections of this process, and who is asked for those that are kept nowhere.
pub struct Secrets {
    found: Mutex<HashMap<String, Secret>>,
    opened: Mutex<Opened>,
    ask: Box<AskSecret>,
}

impl Secrets {
    /// Secrets that nobody has looked for yet.
    pub fn asking(ask: impl Fn(&str) -> Outcome<Option<Secret>> + Send + Sync + 'static) -> Secrets {
        Secrets { found: Mutex::default(), opened: Mutex::default(), ask: Box::new(ask) }
    }

    /// Those found so far. Who looks for another one holds them, so that a person is asked once.
    pub(crate) fn found(&self) -> MutexGuard<'_, HashMap<String, Secret>> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of the sealed file of secrets.
    pub(crate) fn opened(&self) -> MutexGuard<'_, Opened> {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn ask(&self, question: &str) -> Outcome<Option<Secret>> {
        (self.ask)(question)
    }
}

impl Default for Secrets {
    fn default() -> Secrets {
        Secrets::asking(|_| Ok(None))
    }
}

/// What all work on jobs needs.
#[derive(Clone)]
pub struct Desk {
    /// The folders of jobs, settings, state and logs.
    pub home: Home,
    /// The named stores.
    pub settings: Settings,
    /// Set by whoever wants the work to stop; it ends whole.
    pub stop: Arc<AtomicBool>,
    /// The world outside.
    pub world: World,
    /// Secrets.
    pub secrets: Arc<Secrets>,
    /// Who hears what happens.
    pub observer: Arc<dyn Observer>,
    /// How long people have been waited for.
    pub waited: Arc<Mutex<Duration>>,
    /// Commands of jobs and settings are carried out also where others could have changed those.
    pub commands_allowed: Arc<AtomicBool>,
}

impl Desk {
    /// A desk in a home, in a world; nobody listens yet, and nobody is asked.
    pub fn new(home: Home, settings: Settings, world: World) -> Desk {
        Desk {
            home,
            settings,
            stop: Arc::default(),
            world,
            secrets: Arc::default(),
            observer: Arc::new(Nobody),
            waited: Arc::default(),
            commands_allowed: Arc::default(),
        }
    }

    /// Fails where a command of a job or the settings must not be carried out: on a file system without modes, whoever can use the drive
    /// can have written it.
    ///
    /// # Errors
    /// A few words about why.
    pub fn may_command(&self) -> Result<(), String> {
        if self.commands_allowed.load(Ordering::Relaxed) || !self.home.is_modeless() {
            return Ok(());
        }
        let config = self.home.shorten(self.home.config());
        Err(format!(
            "was not run: {config} keeps no modes, so anyone with the drive could have written it (if it is yours, use --allow commands)"
        ))
    }

    /// Lets everybody hear something that is worth a word.
    pub fn note(&self, text: impl std::fmt::Display) {
        self.tell(&Event::Note(&escaped(&text.to_string())));
    }

    /// Lets everybody hear what happens.
    pub fn tell(&self, event: &Event<'_>) {
        self.observer.observe(event);
    }

    /// Whether somebody wants the work to stop.
    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    /// This moment.
    pub fn now(&self) -> Stamp {
        let now = (self.world.now)();
        Stamp::new(now.as_second(), now.subsec_nanosecond().unsigned_abs())
    }

    /// This moment, in milliseconds since 1970.
    pub fn now_ms(&self) -> i64 {
        (self.world.now)().as_millisecond()
    }

    /// What retention goes by: the clock, as far as it can be believed (see [`ClockReading::next`]).
    ///
    /// # Errors
    /// When the record fails.
    pub fn trusted_now(&self) -> Outcome<Stamp> {
        let mut record = self.home.record()?;
        let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
        let awake = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
        let reading = ClockReading {
            boot: boot.trim().to_owned(),
            awake_ms: awake.tv_sec.saturating_mul(1000).saturating_add(awake.tv_nsec / 1_000_000),
            wall_ms: self.now_ms(),
            trusted_ms: 0,
        };
        let next = reading.next(record.last_clock()?.as_ref());
        record.set_clock(&next)?;
        Ok(Stamp::new(next.trusted_ms.div_euclid(1000), 0))
    }

    /// Asks a person something. The time that it takes them is none of a run's.
    pub fn asking<T>(&self, ask: impl FnOnce() -> T) -> T {
        let begun = Instant::now();
        let answer = ask();
        *self.waited.lock().unwrap_or_else(PoisonError::into_inner) += begun.elapsed();
        answer
    }

    /// How long people have been waited for.
    pub fn waited(&self) -> Duration {
        *self.waited.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
