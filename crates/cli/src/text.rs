//! Numbers, sizes, times and small tables as people read them, in the zone of this machine.

pub use reedhook_report::text::*;
pub use reedhook_report::words::{finishing_words, overdue_words, result_of};

/// A moment in local time: `2031-05-04 18:15`.
pub fn moment(ms: i64) -> String {
    moment_in(ms, &crate::clock::zone())
}

/// The same to the second.
pub fn moment_exactly(ms: i64) -> String {
    written(ms, &crate::clock::zone(), "%Y-%m-%d %H:%M:%S")
}
