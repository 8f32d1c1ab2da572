//! Signals to programs that a test has started. No program named `kill` is needed, which a small system has not.

use rustix::process::{Pid, kill_process, kill_process_group};

pub use rustix::process::Signal;

/// Sends a signal to a running program.
///
/// # Panics
/// When there is none of that number, or it is not ours.
#[track_caller]
pub fn send(process: u32, signal: Signal) {
    kill_process(number(process), signal).expect("the program runs");
}

/// Sends a signal to a program and all that it has started, where it leads a group. One that has ended is no failure.
///
/// # Panics
/// When the number cannot be one.
#[track_caller]
pub fn send_to_group(leader: u32, signal: Signal) {
    let _ = kill_process_group(number(leader), signal);
}

#[track_caller]
fn number(process: u32) -> Pid {
    i32::try_from(process).ok().and_then(Pid::from_raw).expect("the number of a process")
}
