//! The one-way decision: what a mirror or a copy does about one path. Pure and total.

use std::cmp::Ordering;

use crate::compare::{Comparison, Difference, compare};
use crate::entry::{EntryKind, Meta, Special};
use crate::job::{Kind, Newer, Preserve};
use crate::problem::Code;

/// What the decision depends on, besides the two entries.
#[derive(Debug, Clone, Copy)]
pub struct OneWayRules {
    /// Mirror or copy.
    pub kind: Kind,
    /// What a copy does about a newer file at the destination.
    pub newer: Newer,
    /// What of the left is carried over.
    pub preserve: Preserve,
    /// How entries are compared.
    pub by: Comparison,
}

impl OneWayRules {
    /// Why an entry of the left is not carried at all; `None` when it is.
    fn not_carried(&self, left: &Meta) -> Option<LeaveReason> {
        match left.kind {
            EntryKind::Special(Special::Socket | Special::Other) => Some(LeaveReason::Special),
            EntryKind::Special(_) if !self.by.full => Some(LeaveReason::Special),
            EntryKind::Special(Special::CharDevice | Special::BlockDevice)
                if !self.by.carries_devices(left) =>
            {
                Some(LeaveReason::Special)
            }
            EntryKind::Link if self.preserve == Preserve::Content => Some(LeaveReason::Link),
            _ => None,
        }
    }
}

/// What to do about one path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Nothing; both sides agree (two folders: their content is decided by itself).
    Same,
    /// Put the left entry where nothing is.
    Add,
    /// Put the left file or link in the place of the right one.
    Update,
    /// Give the right entry the left one's metadata.
    Metadata,
    /// Only the content can tell; [`decide_by_content`] decides once it has been compared.
    Unsure,
    /// Remove what is on the right, then put the left entry there.
    Replace,
    /// Remove what is on the right.
    Remove,
    /// Leave the right as it is and say why.
    Leave(LeaveReason),
    /// Leave the right as it is, quietly: a copy has no opinion about it.
    Ignore,
    /// Touch nothing and report.
    Problem(Code),
}

/// Why something is left on purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LeaveReason {
    /// The destination's file is newer.
    Newer,
    /// A pipe, socket or device.
    Special,
    /// A link, in a job that carries content only.
    Link,
    /// Another file system is mounted there, and the job stays on one.
    OtherFileSystem,
    /// A file system of the kernel's own is mounted there.
    PseudoFileSystem,
}

impl LeaveReason {
    /// The reason in a few plain words.
    pub fn words(self) -> &'static str {
        match self {
            LeaveReason::Newer => "newer at the destination",
            LeaveReason::Special => "a pipe, socket or device",
            LeaveReason::Link => "a link; preserve is content",
            LeaveReason::OtherFileSystem => "another file system is mounted there",
            LeaveReason::PseudoFileSystem => "the kernel's own file system is mounted there",
        }
    }
}

/// Decides a path whose entries only their content could tell apart, now that it has been compared.
pub fn decide_by_content(rules: &OneWayRules, left: &Meta, right: &Meta, same: bool) -> Decision {
    match same {
        // A time that one of them cannot hold is no reason to set it again and again.
        true if rules.by.same_time(left, right)
            && rules.by.same_mode(left, right)
            && rules.by.same_rights(left, right)
            && !rules.by.is_unearned(left, right) =>
        {
            Decision::Same
        }
        true => Decision::Metadata,
        false if rules.kind == Kind::Mirror || rules.newer == Newer::Update => Decision::Update,
        // When the store got it is the best that is known of its age. Within the step of the coarser time nothing is newer.
        false if right.modified > left.modified && !rules.by.same_time(left, right) => {
            Decision::Leave(LeaveReason::Newer)
        }
        false => Decision::Update,
    }
}

/// Decides one path that takes part in the job. At least one side holds something.
pub fn decide(rules: &OneWayRules, left: Option<&Meta>, right: Option<&Meta>) -> Decision {
    let mirror = rules.kind == Kind::Mirror;
    let (left, right) = match (left, right) {
        (None, None) => return Decision::Same,
        (None, Some(_)) => return if mirror { Decision::Remove } else { Decision::Ignore },
        (Some(left), right) => match (rules.not_carried(left), right) {
            (Some(reason), _) => return Decision::Leave(reason),
            (None, None) => return Decision::Add,
            (None, Some(right)) => (left, right),
        },
    };
    match compare(left, right, &rules.by) {
        Difference::None if rules.by.is_unearned(left, right) => Decision::Metadata,
        Difference::None => Decision::Same,
        Difference::Metadata => Decision::Metadata,
        Difference::Unsure => Decision::Unsure,
        Difference::Kind if mirror => Decision::Replace,
        Difference::Kind => Decision::Problem(Code::KindDiffers),
        Difference::Content(_) if mirror => Decision::Update,
        // In a copy, a link and a file are different kinds of thing: neither makes way for the other.
        Difference::Content(_) if left.kind != right.kind => Decision::Problem(Code::KindDiffers),
        Difference::Content(Ordering::Greater) if rules.newer == Newer::Leave => {
            Decision::Leave(LeaveReason::Newer)
        }
        Difference::Content(_) => Decision::Update,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{EXACT, arrived, file, folder, link, moded};

    /// The whole table, a row each: left, right, what a copy does, what a mirror does.
    #[test]
    fn the_table_row_by_row() {
        use Decision::*;
        let pipe = || Meta { kind: EntryKind::Special(Special::Fifo), ..file(0, 5) };
        let differs = || Problem(Code::KindDiffers);
        let newer = || Leave(LeaveReason::Newer);
        let special = || Leave(LeaveReason::Special);
        let f = |size, time| Some(file(size, time));
        let rows = [
            (None, None, Same, Same),
            (f(5, 1), None, Add, Add),
            (Some(folder()), None, Add, Add),
            (Some(link("x", 1)), None, Add, Add),
            (f(5, 1), f(5, 1), Same, Same),
            (f(5, 9), f(5, 1), Update, Update),
            (f(5, 1), f(6, 1), Update, Update),
            (f(5, 1), f(5, 9), newer(), Update),
            (f(5, 1), f(6, 9), newer(), Update),
            (f(5, 1), Some(arrived(file(5, 9))), Unsure, Unsure),
            (None, f(5, 1), Ignore, Remove),
            (None, Some(folder()), Ignore, Remove),
            (None, Some(link("x", 1)), Ignore, Remove),
            (None, Some(pipe()), Ignore, Remove),
            (f(5, 1), Some(folder()), differs(), Replace),
            (Some(folder()), f(5, 1), differs(), Replace),
            (Some(link("x", 1)), Some(folder()), differs(), Replace),
            (Some(folder()), Some(link("x", 1)), differs(), Replace),
            (f(5, 1), Some(link("x", 9)), differs(), Update),
            (Some(link("x", 1)), f(5, 9), differs(), Update),
            (Some(link("x", 1)), Some(link("y", 9)), newer(), Update),
            (Some(link("x", 9)), Some(link("y", 1)), Update, Update),
            (Some(link("x", 1)), Some(link("x", 1)), Same, Same),
            (Some(link("x", 1)), Some(link("x", 9)), Metadata, Metadata),
            (f(5, 1), Some(moded(file(5, 1), 0o600)), Metadata, Metadata),
            (Some(folder()), Some(moded(folder(), 0o700)), Metadata, Metadata),
            (Some(folder()), Some(folder()), Same, Same),
            (Some(pipe()), None, special(), special()),
            (Some(pipe()), f(5, 1), special(), special()),
            (Some(pipe()), Some(folder()), special(), special()),
            (f(5, 1), Some(pipe()), differs(), Replace),
        ];
        for (left, right, copy, mirror) in rows {
            for (kind, expected) in [(Kind::Copy, copy), (Kind::Mirror, mirror)] {
                let rules =
                    OneWayRules { kind, newer: Newer::Leave, preserve: Preserve::Standard, by: EXACT };
                let found = decide(&rules, left.as_ref(), right.as_ref());
                assert_eq!(found, expected, "{kind:?} {left:?} {right:?}");
            }
        }
    }

    /// What the table does not show: content that had to be read, and other options.
    #[test]
    fn options_and_content_decide_too() {
        use Decision::*;
        let by = EXACT;
        let pipe = Meta { kind: EntryKind::Special(Special::Fifo), ..file(0, 5) };
        let newer = || Leave(LeaveReason::Newer);
        let unsure = OneWayRules { kind: Kind::Copy, newer: Newer::Leave, preserve: Preserve::Standard, by };
        let by_content = |rules: &OneWayRules, right, same| {
            decide_by_content(rules, &file(5, 5), &arrived(file(5, right)), same)
        };
        assert_eq!(by_content(&unsure, 9, true), Metadata);
        assert_eq!(by_content(&unsure, 9, false), newer());
        assert_eq!(by_content(&unsure, 1, false), Update);
        let coarse = Comparison { precision: Some(std::time::Duration::from_secs(2)), ..by };
        let coarse = OneWayRules { by: coarse, ..unsure };
        assert_eq!(decide_by_content(&coarse, &file(5, 8), &file(5, 9), false), Update);
        assert_eq!(decide_by_content(&coarse, &file(5, 8), &file(5, 12), false), newer());
        assert_eq!(by_content(&OneWayRules { kind: Kind::Mirror, ..unsure }, 9, false), Update);
        let eager = OneWayRules { kind: Kind::Copy, newer: Newer::Update, preserve: Preserve::Standard, by };
        assert_eq!(decide(&eager, Some(&file(5, 1)), Some(&file(5, 9))), Update);
        let bare = OneWayRules { kind: Kind::Mirror, preserve: Preserve::Content, ..eager };
        assert_eq!(decide(&bare, Some(&link("x", 1)), Some(&file(5, 1))), Leave(LeaveReason::Link));
        let full = OneWayRules { by: Comparison { full: true, ..by }, preserve: Preserve::Full, ..eager };
        assert_eq!(decide(&full, Some(&pipe), None), Add);
    }
}
