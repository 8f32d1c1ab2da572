//! The world outside, as far as jobs depend on it.

use std::ffi::OsString;
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::tz::TimeZone;

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
