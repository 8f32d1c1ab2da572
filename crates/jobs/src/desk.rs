//! What all work on jobs needs: whose it is, where it is to stop, what the world outside says, and who hears of what happens.
//!
//! Nothing in this crate asks the clock, the zone or the environment by itself, prints, or reads a terminal. Whoever puts a
//! [`Desk`] up decides what these are: a command line, a service, a test.

pub use crate::asking::{AskSecret, Secrets};
pub use crate::observer::{Event, Finishing, Nobody, Observer};
pub use crate::world::World;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::entry::Stamp;
use reedhook_core::foreign::escaped;
use reedhook_core::run::kept::ClockReading;

use crate::failure::Outcome;
use crate::home::Home;
use crate::settings::Settings;

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
