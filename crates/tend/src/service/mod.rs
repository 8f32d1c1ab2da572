//! The loop of the service. What it hears is taken note of, what has become due is wanted, and what is wanted begins when it may.

mod agenda;
mod countdown;
mod drive_scan;
mod drives;
mod files;
mod finishing;
mod looks;
mod places;
mod requests;
mod runs;
pub(crate) mod state;

pub use crate::service::state::{Outside, Service, Sign};
