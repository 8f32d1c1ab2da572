//! Lines about what takes no part.

use reedhook_jobs::preview::Preview;

use crate::text::{count, grouped};

/// What is said of files whose times are off as they are where one side keeps local time.
pub(super) fn shifted_line(files: u64) -> String {
    match files {
        0 => String::new(),
        _ => format!(
            "  {} off by an hour or the zone's offset, with the same content: one side keeps local time; only the time is set right.\n",
            count(files, "file is", "files are")
        ),
    }
}

pub(super) fn beyond(preview: &Preview) -> String {
    beyond_line(preview.destinations.iter().map(|destination| destination.plan.beyond).sum())
}

/// What is said of files that were carried once, and have grown or aged out of the filter.
pub fn beyond_line(entries: u64) -> String {
    match entries {
        0 => String::new(),
        1 => "  1 file that both sides have is left out for its size or age: it is not brought up to date any more.\n".into(),
        _ => format!(
            "  {} files that both sides have are left out for their size or age: they are not brought up to date any more.\n",
            grouped(entries)
        ),
    }
}
