//! How a failure looks from outside: its exit code, and its line of JSON.

use serde_json::Value;

pub use reedhook_jobs::failure::{Cause, Failure, Halt, suggestion};

/// Wrong usage or configuration; nothing was touched.
pub const USAGE: u8 = 2;
/// Stopped before any change.
pub const REFUSED: u8 = 3;
/// Stopped on the way.
pub const STOPPED: u8 = 5;
/// A person stopped it.
pub const INTERRUPTED: u8 = 130;

/// What commands return: the exit code, or a failure.
pub type Outcome<T = u8> = Result<T, Failure>;

/// The exit code of a command that failed so.
pub fn exit_of(failure: &Failure) -> u8 {
    match failure.halt {
        Halt::Usage => USAGE,
        Halt::Refused => REFUSED,
        Halt::Stopped => STOPPED,
        Halt::Interrupted => INTERRUPTED,
    }
}

/// The line that programs get.
pub fn line_of(failure: &Failure) -> Value {
    serde_json::json!({"event": "failure", "code": failure.code(), "message": failure.text(), "exit": exit_of(failure)})
}
