//! The clock and the zone, as they come in from outside.

use std::sync::OnceLock;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_jobs::world::World;

/// This moment, in milliseconds since 1970.
pub fn now_ms() -> i64 {
    Timestamp::now().as_millisecond()
}

/// The zone of this machine, read once. One that is set to something unknown is said to be, because times would be off.
pub fn zone() -> TimeZone {
    static ZONE: OnceLock<TimeZone> = OnceLock::new();
    ZONE.get_or_init(|| {
        TimeZone::try_system().unwrap_or_else(|error| {
            let variable = std::env::var("TZ").ok().filter(|zone| !zone.is_empty());
            // Without any setting at all a system keeps UTC, by convention.
            if variable.is_some() || std::path::Path::new("/etc/localtime").exists() {
                let named = variable.map_or(String::new(), |zone| format!(" \"{zone}\""));
                crate::say::warn(format!("the time zone{named} is not known; times are in UTC ({error})"));
            }
            TimeZone::UTC
        })
    })
    .clone()
}

/// The zone of this machine as it is set now, for whoever runs for long.
pub fn zone_now() -> TimeZone {
    TimeZone::try_system().unwrap_or_else(|_| zone())
}

/// What trials of this program set, so that a battery, a full queue of the kernel or a server that gives up need not be waited for. A release
/// does not know them.
const TRIALS: [&str; 3] = ["REEDHOOK_ATTEMPTS", "REEDHOOK_POWER", "REEDHOOK_WATCH_QUEUE"];

/// The world outside, as this program sees it.
pub fn world() -> World {
    World {
        now: Timestamp::now,
        zone: zone(),
        variable: |name| std::env::var_os(name).filter(|_| cfg!(debug_assertions) || !TRIALS.contains(&name)),
        user_folder: std::env::home_dir(),
    }
}
