//! The commands, one module each.

mod allow;
mod compare;
mod conflicts;
mod demo;
pub(crate) mod dispatch;
mod doctor;
mod extras;
mod filter;
pub(crate) mod filter_lines;
pub mod history;
mod install;
mod inventory;
mod job;
mod job_files;
mod notify;
pub mod preview;
mod recover;
mod report;
mod run;
#[cfg(feature = "standins")]
mod standin;
mod status;
mod store;
pub mod tend;
pub mod verify;
pub mod when;
mod why;

pub use filter::exclude;
pub use inventory::{branch_words, seen_words};
