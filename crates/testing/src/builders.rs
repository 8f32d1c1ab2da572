//! Short ways to write down paths, entries and rules. The core's own tests are built with these too, so they speak of it by its name.

use std::time::Duration;

use reedhook_core::compare::Comparison;
use reedhook_core::entry::{EntryKind, Meta, Stamp, Version};
use reedhook_core::filter::FilterSpec;
use reedhook_core::job::{JobRules, Kind, Newer, OddNames, Owners, Preserve, Removed, Replaced, Verify};
use reedhook_core::path::RelPath;
use reedhook_core::store::Limits;
use reedhook_core::units::{Room, Share};

/// All that two entries can differ by but owners and attributes, to the nanosecond.
pub const EXACT: Comparison = Comparison {
    precision: Some(Duration::from_nanos(1)),
    limits: Limits::NONE,
    finer: None,
    local: None,
    link_times: true,
    modes: true,
    full: false,
    privileges: false,
    readable: true,
};

/// A path from a literal; panics on a bad one.
pub fn path(text: &str) -> RelPath {
    RelPath::new(text.as_bytes()).expect("a valid path in a test")
}

/// A file of a size in bytes, last changed at a second.
pub fn file(size: u64, seconds: i64) -> Meta {
    Meta {
        kind: EntryKind::File,
        size,
        modified: Some(Stamp::new(seconds, 0)),
        mode: Some(0o644),
        unlisted: None,
        id: None,
        target: None,
        extra: None,
        version: None,
    }
}

/// A folder.
pub fn folder() -> Meta {
    Meta { kind: EntryKind::Folder, mode: Some(0o755), ..file(0, 50) }
}

/// A link, last changed at a second.
pub fn link(target: &str, seconds: i64) -> Meta {
    Meta { kind: EntryKind::Link, target: Some(target.as_bytes().into()), mode: None, ..file(0, seconds) }
}

/// The same entry with another mode.
pub fn moded(meta: Meta, mode: u32) -> Meta {
    Meta { mode: Some(mode), ..meta }
}

/// The same entry in a store that knows only when it got it.
pub fn arrived(meta: Meta) -> Meta {
    let version = Version { tag: format!("{:?}", meta.modified), arrival: true, young: false };
    Meta { version: Some(Box::new(version)), ..meta }
}

/// A job's rules with every default.
pub fn rules(kind: Kind) -> JobRules {
    JobRules {
        kind,
        filter: FilterSpec::default(),
        newer: Newer::Leave,
        removed: Removed::Keep,
        replaced: Replaced::Keep,
        keep_for: "30 days".parse().expect("an age"),
        keep_max: Room::Percent(10.0),
        preserve: Preserve::Standard,
        odd_names: OddNames::Report,
        owners: Owners::Names,
        one_filesystem: false,
        verify: Verify::None,
        max_removals: Share::Percent(25.0),
        max_changes: Share::Off,
        conflict: reedhook_core::job::Conflicts {
            by_path: Vec::new(),
            otherwise: reedhook_core::job::ConflictPolicy::Hold,
        },
        removals: reedhook_core::job::Removals::Carry,
        limit: reedhook_core::limit::Limits::default(),
        polite: false,
    }
}
