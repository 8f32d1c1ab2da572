//! Whether a server has space left, found out where its protocol cannot say so.
//!
//! Some servers report a full disk as any other failure. What says more is the space that they tell, or that not even a little fits beside
//! what they did let us begin.
//! Several files travel at once, though: the first that is given up makes room again, and a trial for the second would fit. So the moment at
//! which the server was found full is kept until what was given up is cleared away, and whatever was begun before it and fails is judged by it.

use std::time::Instant;

use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind, StoreError};

use crate::remote::inner::{Inner, beside};

/// What is left then is used up before a file has its name.
const AS_GOOD_AS_NONE: u64 = 256 << 10;

/// How much is tried to be written.
const LITTLE: usize = 16 << 10;

impl Inner {
    /// A failure to write an unfinished file that was begun at that moment, told for what it is when the server has no space left.
    pub(super) fn unless_full(&self, error: StoreError, unfinished: &RelPath, begun: Instant) -> StoreError {
        if !says_little(error.kind) {
            return error;
        }
        let full_now = match self.wire.space() {
            Ok(Some(space)) => space.free < AS_GOOD_AS_NONE,
            Ok(None) => self.refuses_a_little_beside(unfinished),
            Err(_) => false,
        };
        if !full_now && !self.room.was_full_since(begun) {
            return error;
        }
        self.room.is_full_now();
        StoreError { kind: FaultKind::NoSpace, ..error }
    }

    /// Clears away what was given up. When that was for want of space, others that ran into it at the same time are still to be told so.
    pub(super) fn give_up(&self, unfinished: &RelPath, begun: Instant) {
        let full = self.room.was_full_since(begun);
        self.clear(unfinished);
        if full {
            self.room.is_full_now();
        }
    }

    /// Whether not even a little fits beside an unfinished file, which the server did let us begin.
    fn refuses_a_little_beside(&self, unfinished: &RelPath) -> bool {
        if !matches!(self.wire.stat(unfinished), Ok(Some(_))) {
            return false;
        }
        let Ok(trial) = beside(unfinished, &format!("{:016x}", fastrand::u64(..))) else { return false };
        let put = self.wire.put(&trial, &[0; LITTLE], &Attributes::default());
        self.clear(&trial);
        put.is_err_and(|trouble| says_little(trouble.kind()) || trouble.kind() == FaultKind::NoSpace)
    }
}

/// Whether a failure of that kind may be for want of space.
fn says_little(kind: FaultKind) -> bool {
    matches!(kind, FaultKind::Io | FaultKind::Refused)
}
