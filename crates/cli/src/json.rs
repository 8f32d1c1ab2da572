//! The lines of `--json`: what the run's logs have too, printed.

pub use crate::output::{json as print, json_line as print_line};
pub use reedhook_jobs::lines::*;
