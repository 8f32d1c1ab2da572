//! How near it is that the machine goes down.

use std::time::Instant;

/// How near it is that the machine goes down.
#[derive(Default)]
pub(in crate::service) struct Countdown {
    /// When it does, once nothing goes on any more.
    pub(super) end: Option<Instant>,
    /// What was said to be waited for.
    pub(super) waits_for: String,
}
