//! The clock and the zone, as they come in from outside.

use std::sync::OnceLock;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::entry::Stamp;
use reedhook_core::run::kept::ClockReading;

use crate::context::Context;
use crate::failure::Outcome;

/// This moment.
pub fn now() -> Stamp {
    let now = Timestamp::now();
    Stamp::new(now.as_second(), now.subsec_nanosecond().unsigned_abs())
}

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
                crate::context::warn(format!(
                    "the time zone{named} is not known; times are in UTC ({error})"
                ));
            }
            TimeZone::UTC
        })
    })
    .clone()
}

/// What retention goes by: the clock, as far as it can be believed (see [`ClockReading::next`]).
pub fn trusted(context: &Context) -> Outcome<Stamp> {
    let mut record = context.home.record()?;
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    let awake = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
    let reading = ClockReading {
        boot: boot.trim().to_owned(),
        awake_ms: awake.tv_sec.saturating_mul(1000).saturating_add(awake.tv_nsec / 1_000_000),
        wall_ms: now_ms(),
        trusted_ms: 0,
    };
    let next = reading.next(record.last_clock()?.as_ref());
    record.set_clock(&next)?;
    Ok(Stamp::new(next.trusted_ms.div_euclid(1000), 0))
}
