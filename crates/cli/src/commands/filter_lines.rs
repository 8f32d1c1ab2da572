//! Lines of a filter.

use reedhook_core::path::RelPath;

/// The line of a filter that leaves out one path alone; of a folder, with all that is in it.
pub fn filter_line(path: &RelPath, folder: bool) -> Option<String> {
    Some(format!("{}{}", reedhook_core::filter::line_for(path)?, if folder { "/" } else { "" }))
}
