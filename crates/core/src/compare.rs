//! How two entries with the same path differ. Pure: values in, a value out.

use std::cmp::Ordering;
use std::time::Duration;

use crate::entry::{EntryKind, Meta, SPECIAL_BITS, Side, Stamp};
use crate::fresh::is_fresh_in_steps;
use crate::job::Preserve;
use crate::store::capabilities::{Capabilities, Limits};

/// What the two stores of a job can both express; anything finer cannot differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Comparison {
    /// The coarser precision of the two; `None` when one store has no times.
    pub precision: Option<Duration>,
    /// The bounds of both together: times outside of them mean nothing.
    pub limits: Limits,
    /// The side that keeps times in finer steps, where one does.
    pub finer: Option<Side>,
    /// The side that keeps the time of clocks on the wall, where one does.
    pub local: Option<LocalTime>,
    /// Whether both keep the times of links.
    pub link_times: bool,
    /// Whether both keep mode bits, and the job wants them.
    pub modes: bool,
    /// Whether both look at owners and extended attributes, and the job wants them.
    pub full: bool,
    /// Whether setuid, setgid, capabilities and devices travel: only with owners, which are really given at both.
    pub privileges: bool,
    /// Whether both hold what they list. Else nothing can be read, where links lead is unknown, and what looks alike counts as the same.
    pub readable: bool,
}

/// A side that keeps the time which clocks on the wall show. With another zone, in another season, or by another system's reading,
/// all its times are shifted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LocalTime {
    /// The side.
    pub at: Side,
    /// How many seconds the clocks here are ahead of the world's.
    pub offset: i64,
}

impl LocalTime {
    /// Whether two times so far apart can be one: by the zone's offset, by an hour, or by both.
    fn explains(self, apart: i64, precision: i64) -> bool {
        const HOUR: i64 = 3600;
        let shifts = [HOUR, self.offset, self.offset + HOUR, self.offset - HOUR];
        shifts.into_iter().any(|shift| shift != 0 && (apart.abs() - shift.abs()).abs() < precision.max(1))
    }
}

impl Comparison {
    /// What can be compared between two stores, for a job that preserves so much.
    pub fn between(left: &Capabilities, right: &Capabilities, preserve: Preserve) -> Comparison {
        Comparison {
            precision: left.time_precision.zip(right.time_precision).map(|(a, b)| a.max(b)),
            limits: left.limits.least(right.limits),
            finer: match left.time_precision.cmp(&right.time_precision) {
                Ordering::Less => Some(Side::Left),
                Ordering::Greater => Some(Side::Right),
                Ordering::Equal => None,
            },
            local: match (left.limits.local_time, right.limits.local_time) {
                (_, true) => Some(LocalTime { at: Side::Right, offset: 0 }),
                (true, false) => Some(LocalTime { at: Side::Left, offset: 0 }),
                (false, false) => None,
            },
            link_times: left.link_times && right.link_times,
            modes: left.modes && right.modes && preserve != Preserve::Content,
            full: left.full && right.full && preserve == Preserve::Full,
            privileges: left.owners && right.owners && preserve == Preserve::Full,
            readable: true,
        }
    }

    /// Whether the modification times agree as far as both stores can tell.
    pub fn same_time(&self, left: &Meta, right: &Meta) -> bool {
        match (left.modified, right.modified, self.precision) {
            (Some(a), Some(b), Some(precision)) if self.limits.tell(a) && self.limits.tell(b) => {
                a.same_within(b, precision)
            }
            _ => true,
        }
    }

    /// The same, where clocks are so many seconds ahead of the world's.
    pub fn where_clocks_are_ahead(self, offset: i64) -> Comparison {
        Comparison { local: self.local.map(|local| LocalTime { offset, ..local }), ..self }
    }

    /// Whether a file may be saved once more after somebody looked, without that its time shows it; see [`crate::fresh`].
    pub fn is_fresh(&self, left: &Meta, looked: Stamp) -> bool {
        let times = left.modified.zip(self.precision);
        left.kind == EntryKind::File
            && left.size > 0
            && times.is_some_and(|(modified, steps)| is_fresh_in_steps(modified, looked, steps))
    }

    /// Whether the times of two files differ as they do when one side keeps local time. Whether it is so, their content tells.
    pub fn is_shifted(&self, left: &Meta, right: &Meta) -> bool {
        let (Some(local), Some(precision)) = (self.local, self.precision) else { return false };
        let apart = |(a, b): (Stamp, Stamp)| b.seconds() - a.seconds();
        let precision = i64::try_from(precision.as_secs()).unwrap_or(1);
        !self.same_time(left, right)
            && left.modified.zip(right.modified).is_some_and(|times| local.explains(apart(times), precision))
    }

    /// Whether only the content can tell two files of one size apart: one side shows a time that the other cannot hold.
    pub fn is_silent(&self, left: &Meta, right: &Meta) -> bool {
        let out = |time: Option<Stamp>| time.is_some_and(|time| !self.limits.tell(time));
        out(left.modified) || out(right.modified)
    }

    /// Whether setuid, setgid and capabilities of an entry travel: with its owner, and not from a mount where they have no effect.
    pub fn carries_privileges(&self, from: &Meta) -> bool {
        self.privileges && from.extra.as_ref().is_some_and(|extra| !extra.nosuid)
    }

    /// Whether a device travels: with its owner, and not from a mount where devices cannot be used.
    pub fn carries_devices(&self, from: &Meta) -> bool {
        self.privileges && from.extra.as_ref().is_some_and(|extra| !extra.nodev)
    }

    /// The mode bits of an entry that travel.
    pub fn mode_to_give(&self, from: &Meta) -> Option<u32> {
        let mode = self.carried_mode(from);
        mode.map(|mode| if self.carries_privileges(from) { mode } else { mode & !SPECIAL_BITS })
    }

    /// The mode of an entry as it is without its access list, unless that travels too.
    pub fn carried_mode(&self, from: &Meta) -> Option<u32> {
        if self.full { from.mode } else { from.mode_without_list() }
    }

    /// Whether owners and extended attributes agree, where both look at them, as far as they travel from left to right.
    pub fn same_rights(&self, left: &Meta, right: &Meta) -> bool {
        match (&left.extra, &right.extra) {
            (Some(a), Some(b)) if self.full => a.same_rights(b, self.carries_privileges(left)),
            _ => true,
        }
    }

    /// Whether the mode bits agree, where both have them, as far as they travel from left to right.
    pub fn same_mode(&self, left: &Meta, right: &Meta) -> bool {
        let bits = if self.carries_privileges(left) { 0o7777 } else { 0o7777 & !SPECIAL_BITS };
        let same = |one: Option<u32>, other: Option<u32>| match one.zip(other) {
            Some((one, other)) => one & bits == other & bits,
            None => true,
        };
        // Where the right one has a list of its own, what it was given as a mode is the list's mask.
        let (ours, theirs) = (self.carried_mode(left), self.carried_mode(right));
        !self.modes || same(ours, right.mode) || same(ours, theirs)
    }

    /// Whether the right one is a file that is setuid or setgid, and the left one gives it no right to that: an earlier version of
    /// this program brought the bits along without the owner.
    pub fn is_unearned(&self, left: &Meta, right: &Meta) -> bool {
        let bits = |meta: &Meta| meta.mode.unwrap_or(0) & SPECIAL_BITS;
        self.modes
            && right.kind == EntryKind::File
            && bits(right) & !self.mode_to_give(left).unwrap_or(0) != 0
    }
}

/// How the right entry differs from the left one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Difference {
    /// Not at all, as far as both stores can tell.
    None,
    /// Same content; times of links, or modes, differ.
    Metadata,
    /// Other content; the ordering is the right time against the left one.
    Content(Ordering),
    /// Only the content can tell: of equal size, with a time that is not the content's own.
    Unsure,
    /// One is a folder, a file or a link, the other is not.
    Kind,
}

/// Compares two entries by kind, size, time, link target and mode.
pub fn compare(left: &Meta, right: &Meta, by: &Comparison) -> Difference {
    let same = match (left.kind, right.kind) {
        (EntryKind::File, EntryKind::File) => left.size == right.size && by.same_time(left, right),
        (EntryKind::Link, EntryKind::Link) => left.target == right.target,
        (EntryKind::Folder, EntryKind::Folder) => true,
        // A link and a file are both single things that can take each other's place.
        (EntryKind::File, EntryKind::Link) | (EntryKind::Link, EntryKind::File) => false,
        (a, b) if a == b => device(left) == device(right),
        _ => return Difference::Kind,
    };
    let files = left.kind == EntryKind::File && right.kind == EntryKind::File;
    let unsure = (!same && (left.is_arrival() || right.is_arrival() || by.is_shifted(left, right)))
        || left.is_young()
        || right.is_young()
        || by.is_silent(left, right);
    if files && left.size == right.size && unsure {
        return Difference::Unsure;
    }
    if !same {
        let order =
            if by.same_time(left, right) { Ordering::Equal } else { right.modified.cmp(&left.modified) };
        return Difference::Content(order);
    }
    let link = left.kind == EntryKind::Link;
    let metadata_differs =
        if link { by.link_times && !by.same_time(left, right) } else { !by.same_mode(left, right) };
    if metadata_differs || !by.same_rights(left, right) { Difference::Metadata } else { Difference::None }
}

crate::units::keywords! {
    /// What tells two files of one name apart when trees are compared.
    pub enum Basis {
        /// Size and time.
        Time = "time",
        /// Size alone.
        Size = "size",
        /// What they hold, byte by byte.
        Content = "content",
    }
}

crate::units::keywords! {
    /// How an entry of two compared trees differs.
    pub enum DiffState {
        /// Only the left has it.
        OnlyLeft = "only-left",
        /// Only the right has it.
        OnlyRight = "only-right",
        /// Both have it, and the left one was changed later.
        LeftNewer = "left-newer",
        /// Both have it, and the right one was changed later.
        RightNewer = "right-newer",
        /// Both have it, and it differs; its time does not tell which is newer.
        Differs = "differs",
        /// Both have it, at different paths.
        Moved = "moved",
        /// One has a file, folder or link where the other has something else.
        Kind = "kind",
    }
}

impl DiffState {
    /// Every state, in the order in which they are told.
    pub const ALL: [DiffState; 7] = [
        DiffState::OnlyLeft,
        DiffState::OnlyRight,
        DiffState::LeftNewer,
        DiffState::RightNewer,
        DiffState::Differs,
        DiffState::Moved,
        DiffState::Kind,
    ];

    /// How two versions that differ stand to each other.
    pub fn by_time(left: &Meta, right: &Meta, by: &Comparison) -> DiffState {
        let known = left.modified.is_some() && right.modified.is_some() && by.precision.is_some();
        if !known || by.same_time(left, right) || left.is_arrival() || right.is_arrival() {
            return DiffState::Differs;
        }
        if left.modified > right.modified { DiffState::LeftNewer } else { DiffState::RightNewer }
    }
}

/// What is known of two entries with one path before either is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Likeness {
    /// They are the same.
    Same,
    /// Only what they hold can tell.
    Read,
    /// They differ so.
    Different(DiffState),
}

/// How two entries with one path are alike; at most one of them is a folder. Modes and owners do not count.
pub fn likeness(left: &Meta, right: &Meta, by: &Comparison, basis: Basis) -> Likeness {
    if left.kind != right.kind {
        return Likeness::Different(DiffState::Kind);
    }
    let different = || Likeness::Different(DiffState::by_time(left, right, by));
    if left.kind != EntryKind::File {
        let same = (left.target == right.target || !by.readable) && device(left) == device(right);
        return if same { Likeness::Same } else { different() };
    }
    match basis {
        _ if left.size != right.size => different(),
        Basis::Size => Likeness::Same,
        _ if left.size == 0 && basis == Basis::Content => Likeness::Same,
        Basis::Content => Likeness::Read,
        Basis::Time => match compare(left, right, by) {
            Difference::None | Difference::Metadata => Likeness::Same,
            Difference::Unsure if !by.readable => Likeness::Same,
            Difference::Unsure => Likeness::Read,
            Difference::Kind => Likeness::Different(DiffState::Kind),
            Difference::Content(_) => different(),
        },
    }
}

fn device(meta: &Meta) -> Option<(u32, u32)> {
    meta.extra.as_ref().and_then(|extra| extra.device)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{EXACT, arrived, file, folder, link, moded};

    #[test]
    fn the_kinds_of_difference() {
        let by = EXACT;
        let coarse = Comparison { precision: Some(Duration::from_secs(2)), ..by };
        let timeless = Comparison { precision: None, ..by };
        let of_few_years = Comparison { limits: Limits { times: Some((50, 150)), ..Limits::NONE }, ..by };
        let dos = Comparison {
            precision: Some(Duration::from_secs(2)),
            local: Some(LocalTime { at: Side::Right, offset: 7200 }),
            ..by
        };
        let cases = [
            (file(5, 100_000), file(5, 100_000 + 3600), dos, Difference::Unsure),
            (file(5, 100_001), file(5, 100_000 - 7200), dos, Difference::Unsure),
            (file(5, 100_000), file(5, 100_000 + 10_800), dos, Difference::Unsure),
            (file(5, 100_000), file(5, 100_000 + 3700), dos, Difference::Content(Ordering::Greater)),
            (file(5, 100_000), file(6, 100_000 + 3600), dos, Difference::Content(Ordering::Greater)),
            (file(5, 100_000), file(5, 100_000 + 3600), by, Difference::Content(Ordering::Greater)),
            (file(5, 100), file(5, 100), by, Difference::None),
            (file(5, 100), file(6, 100), by, Difference::Content(Ordering::Equal)),
            (file(5, 100), file(5, 101), by, Difference::Content(Ordering::Greater)),
            (file(5, 100), file(5, 99), by, Difference::Content(Ordering::Less)),
            (file(5, 100), file(5, 101), coarse, Difference::None),
            (file(5, 100), file(5, 999), timeless, Difference::None),
            (file(5, 100), moded(file(5, 100), 0o600), by, Difference::Metadata),
            (file(5, 100), file(5, 101), of_few_years, Difference::Content(Ordering::Greater)),
            (file(5, 10), file(5, 50), of_few_years, Difference::Unsure),
            (file(5, 10), file(5, 10), of_few_years, Difference::Unsure),
            (file(5, 10), file(6, 50), of_few_years, Difference::Content(Ordering::Equal)),
            (link("a", 10), link("a", 50), of_few_years, Difference::None),
            (link("a", 1), link("a", 1), by, Difference::None),
            (link("a", 1), link("a", 2), by, Difference::Metadata),
            (link("a", 1), link("b", 1), by, Difference::Content(Ordering::Equal)),
            (link("a", 1), file(5, 2), by, Difference::Content(Ordering::Greater)),
            (file(5, 100), arrived(file(5, 900)), by, Difference::Unsure),
            (arrived(file(5, 900)), file(5, 100), by, Difference::Unsure),
            (file(5, 100), arrived(file(5, 100)), by, Difference::None),
            (file(5, 100), arrived(file(6, 900)), by, Difference::Content(Ordering::Greater)),
            (folder(), file(5, 1), by, Difference::Kind),
            (folder(), moded(folder(), 0o700), by, Difference::Metadata),
        ];
        for (left, right, by, expected) in cases {
            assert_eq!(compare(&left, &right, &by), expected, "{left:?} {right:?}");
        }
    }
}
