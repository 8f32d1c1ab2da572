//! The resident service: it begins the runs of jobs when they are due, when something has changed, when a drive is connected, or when
//! somebody asks for it.
//!
//! ```text
//!  clock, signals ──┐                       ┌─ a thread for each run: glance, look, clear, carry out
//!  mounts ──────────┤                       │
//!  watched folders ─┼─> one loop (service) ─┤
//!  job files ───────┤   what is wanted,     └─ whoever listens: a terminal, lines of JSON, a board
//!  the socket ──────┘   what may begin
//! ```
//!
//! Everything that happens comes to the one loop as [`News`](service); it alone knows the state of each job, so nothing is locked. A
//! run has a thread of its own and tells the loop when it is over. Nothing here prints; what happens is told to a [`ServiceObserver`].
//!
//! What was due is owed until a run has come to its end: how far each job has been followed is kept in the record, so that what was
//! missed while the service, or the machine, was away is made up for.

pub mod calendar;
mod desktop_question;
mod happening;
pub mod install;
pub mod pending;
mod progress_feed;
pub mod protocol;
mod queue;
mod runner;
mod service;
mod signs;
pub mod socket;
mod state;
pub mod tell;
mod teller;
mod tended;
mod watch;

pub use happening::{Happening, Reason, ServiceObserver, Waiting};
pub use service::{Outside, Service, Sign};
