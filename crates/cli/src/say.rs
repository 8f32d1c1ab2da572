//! What is said on standard error.

use reedhook_core::foreign::escaped_lines;

use crate::failure::{Failure, line_of};

/// Warns people on standard error.
pub fn warn(text: impl std::fmt::Display) {
    use std::io::Write;
    let label = reedhook_report::text::styled(reedhook_report::text::CARE, "Note:");
    let _ = writeln!(anstream::stderr(), "{label} {}", escaped_lines(&text.to_string()));
}

/// Says what failed: on standard error, and with `--json` on standard output too.
pub fn complain(failure: &Failure, json: bool) {
    use std::io::Write;
    if json {
        crate::output::json(&line_of(failure));
    }
    let label = reedhook_report::text::styled(reedhook_report::text::BAD, "Error:");
    let _ = writeln!(anstream::stderr(), "{label} {failure}");
}
