//! What a job says besides its lines: what is done about what was missed, what failed, and what comes afterwards.

use std::fmt;
use std::str::FromStr;

use crate::units::{Age, UnitError, keywords, serde_as_text};

keywords! {
    /// What is done about a run that was due while nobody was there to begin it.
    pub enum Missed {
        /// It is made up for, once.
        Run = "run",
        /// It is left out.
        Skip = "skip",
    }
}

keywords! {
    /// What an automatic run does while the machine runs on its battery.
    pub enum OnBattery {
        /// It begins.
        Run = "run",
        /// It waits for the mains.
        Wait = "wait",
    }
}

keywords! {
    /// What is done when a run is over.
    pub enum Finally {
        /// Nothing.
        Nothing = "nothing",
        /// The drives of its destinations are unmounted, so that they can be unplugged.
        Eject = "eject",
        /// The machine is suspended.
        Suspend = "suspend",
        /// The machine is switched off.
        PowerOff = "power-off",
    }
}

/// How often, and how far apart, a run is tried again that could not be or was stopped: `3 × 10m`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retry {
    /// How often at most.
    pub times: u32,
    /// How long is waited before each.
    pub apart: Age,
}

impl FromStr for Retry {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Retry, UnitError> {
        let wrong = || UnitError::new(text, "how often and how far apart, such as \"3 × 10m\"");
        let (times, apart) = text.split_once(['×', 'x', '*']).ok_or_else(wrong)?;
        let times = times.trim().parse().ok().filter(|times| (1..=1000).contains(times)).ok_or_else(wrong)?;
        let apart: Age = apart.trim().parse().map_err(|_| wrong())?;
        if apart.length().is_zero() { Err(wrong()) } else { Ok(Retry { times, apart }) }
    }
}

impl fmt::Display for Retry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} × {}", self.times, self.apart)
    }
}

serde_as_text!(Retry);
