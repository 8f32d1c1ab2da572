//! The two-way decision: what happens to one path when both sides may have changed. Pure and total.
//!
//! Each side is compared with what a job remembers of that very side (its *baseline*), then the two findings are reconciled.
//! The semantics are the published ones of file synchronisers (Balasubramaniam & Pierce, "What is a File Synchronizer?",
//! MobiCom 1998): updates are detected against a common prior state, and a change is never overwritten.

use std::cmp::Ordering;

use globset::Candidate;
use serde::{Deserialize, Serialize};

use crate::compare::Comparison;
use crate::content::Hash;
use crate::entry::{EntryKind, Meta, Side, Stamp};
use crate::filter::{FilterError, Lines};
use crate::fresh::is_fresh;
use crate::job::{ConflictPolicy, Conflicts, Removals};
use crate::path::{Name, RelPath};

/// What a job remembers of one name: what both sides held when they last agreed on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    /// The name, in its folder.
    #[serde(with = "name_bytes")]
    pub name: Name,
    /// What it was.
    pub what: KnownKind,
    /// What the left said of it.
    pub left: SideMeta,
    /// What the right said of it.
    pub right: SideMeta,
    /// Since when that was so, where it was not looked at again with the rest of its folder: a run that could not bring a change over
    /// has seen nothing that would make the old time a proof.
    #[serde(skip)]
    pub since: Option<Stamp>,
}

/// The kind and content that both sides agreed on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum KnownKind {
    /// A file of so many bytes, with the hash of its content where that was at hand.
    File(u64, Option<Hash>),
    /// A link that points there.
    Link(Vec<u8>),
    /// A folder.
    Folder,
}

/// A side's own metadata of a name, in its own precision.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SideMeta {
    /// Seconds and nanoseconds of the modification time; not kept for folders.
    pub modified: Option<(i64, u32)>,
    /// The mode bits.
    pub mode: Option<u32>,
}

impl SideMeta {
    /// A time and a mode.
    pub fn new(modified: Option<Stamp>, mode: Option<u32>) -> SideMeta {
        SideMeta { modified: modified.map(|stamp| (stamp.seconds(), stamp.nanos())), mode }
    }

    fn of(meta: &Meta) -> SideMeta {
        let modified = meta.modified.filter(|_| !meta.is_folder());
        SideMeta { modified: modified.map(|stamp| (stamp.seconds(), stamp.nanos())), mode: meta.mode }
    }

    fn stamp(self) -> Option<Stamp> {
        self.modified.map(|(seconds, nanos)| Stamp::new(seconds, nanos))
    }
}

impl Known {
    /// What to remember of two entries that agree; `None` for what is never remembered.
    pub fn of(name: &Name, left: &Meta, right: &Meta, hash: Option<Hash>) -> Option<Known> {
        let what = match left.kind {
            EntryKind::File => KnownKind::File(left.size, hash),
            EntryKind::Link => KnownKind::Link(left.target.as_deref().unwrap_or_default().to_vec()),
            EntryKind::Folder => KnownKind::Folder,
            EntryKind::Special(_) => return None,
        };
        Some(Known {
            name: name.clone(),
            what,
            left: SideMeta::of(left),
            right: SideMeta::of(right),
            since: None,
        })
    }

    /// What to remember when the content agrees and the metadata does not: of a time or mode that differs, what was remembered
    /// before, or nothing. So it still shows as a change that has to travel.
    pub fn of_content(
        name: &Name,
        (left, right): (&Meta, &Meta),
        hash: Option<Hash>,
        old: Option<&Known>,
        by: &Comparison,
    ) -> Option<Known> {
        let mut known = Known::of(name, left, right, hash)?;
        let before = |side: fn(&Known) -> SideMeta| old.map_or(SideMeta { modified: None, mode: None }, side);
        let (left_before, right_before) = (before(|old| old.left), before(|old| old.right));
        if !by.same_time(left, right) && !left.is_folder() {
            known.left.modified = left_before.modified;
            known.right.modified = right_before.modified;
        }
        if !by.same_mode(left, right) {
            known.left.mode = left_before.mode;
            known.right.mode = right_before.mode;
        }
        Some(known)
    }

    /// What to remember of a version that a run put at one side, as it was read at the other, which has moved on since.
    pub fn of_written(
        name: &Name,
        to: Side,
        written: &Meta,
        read: SideMeta,
        hash: Option<Hash>,
    ) -> Option<Known> {
        let known = Known::of(name, written, written, hash)?;
        Some(match to {
            Side::Left => Known { right: read, ..known },
            Side::Right => Known { left: read, ..known },
        })
    }

    /// The same, but its time at a side proves nothing at the next look: its content has to. Only a file of which the hash is known can
    /// be proved so.
    pub fn read_again(self, side: Side) -> Known {
        let untimed = |seen: SideMeta| SideMeta { modified: None, ..seen };
        match (&self.what, side) {
            (KnownKind::File(_, Some(_)), Side::Left) => Known { left: untimed(self.left), ..self },
            (KnownKind::File(_, Some(_)), Side::Right) => Known { right: untimed(self.right), ..self },
            _ => self,
        }
    }

    /// Whether it was a folder.
    pub fn is_folder(&self) -> bool {
        self.what == KnownKind::Folder
    }

    /// Whether a side's time cannot tell this file from another one that was saved a moment after somebody looked; see [`is_fresh`].
    /// `looked` is what holds for its folder.
    pub fn is_fresh(&self, side: Side, looked: Option<Stamp>) -> bool {
        let file = matches!(self.what, KnownKind::File(..));
        let times = self.seen(side).stamp().zip(self.since.or(looked));
        file && times.is_some_and(|(modified, looked)| is_fresh(modified, looked))
    }

    /// The same, as it was seen with the rest of its folder.
    pub fn seen_now(self) -> Known {
        Known { since: None, ..self }
    }

    /// The same, as it was seen when its folder was looked at last: that stays so until it is looked at again.
    pub fn seen_then(self, looked: Option<Stamp>) -> Known {
        let since = self.since.or(looked).filter(|_| !self.is_folder());
        Known { since, ..self }
    }

    /// The same, with the hash of its content where that has been found.
    pub fn with_hash(self, found: Option<Hash>) -> Known {
        match (self.what, found) {
            (KnownKind::File(size, _), Some(hash)) => {
                Known { what: KnownKind::File(size, Some(hash)), ..self }
            }
            (what, _) => Known { what, ..self },
        }
    }

    /// The file that stood at a side when both last agreed.
    pub fn stood(&self, side: Side) -> Option<Meta> {
        let KnownKind::File(size, _) = self.what else { return None };
        Some(Meta { size, modified: self.seen(side).stamp(), ..Meta::bare(EntryKind::File) })
    }

    fn seen(&self, side: Side) -> SideMeta {
        match side {
            Side::Left => self.left,
            Side::Right => self.right,
        }
    }

    /// The remembered hash, when one side at least is just as it was and so still has that content.
    pub fn hash_that_holds(&self, left: &Meta, right: &Meta) -> Option<Hash> {
        let KnownKind::File(size, hash) = self.what else { return None };
        let untouched = |seen: SideMeta, meta: &Meta| meta.size == size && seen.stamp() == meta.modified;
        hash.filter(|_| untouched(self.left, left) || untouched(self.right, right))
    }

    /// What has happened to a name at a side since. `proves` is asked whether the content still has the remembered hash,
    /// when only the time has changed.
    pub fn state(
        &self,
        side: Side,
        entry: Option<&Meta>,
        proves: &mut dyn FnMut(&Hash) -> bool,
    ) -> SideChange {
        let Some(entry) = entry else { return SideChange::Gone };
        let seen = self.seen(side);
        let same_mode = entry.kind == EntryKind::Link || seen.mode == entry.mode;
        let same_time = seen.stamp() == entry.modified;
        let unchanged = match (&self.what, entry.kind) {
            (KnownKind::Folder, EntryKind::Folder) => true,
            (KnownKind::Link(target), EntryKind::Link) => entry.target.as_deref() == Some(target),
            (KnownKind::File(size, hash), EntryKind::File) => {
                *size == entry.size && (same_time || hash.as_ref().is_some_and(proves))
            }
            _ => false,
        };
        match (unchanged, same_mode && (same_time || entry.is_folder())) {
            (false, _) => SideChange::Changed,
            (true, true) => SideChange::Same,
            (true, false) => SideChange::Adjusted,
        }
    }
}

/// What a job remembers of a folder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remembered {
    /// What was in it, sorted by name.
    pub known: Vec<Known>,
    /// Since when, at the latest, all of that was so; `None` where that was not written down.
    pub looked: Option<Stamp>,
}

/// A name as bytes: names need not be UTF-8.
mod name_bytes {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use crate::path::Name;

    pub(super) fn serialize<S: Serializer>(name: &Name, serializer: S) -> Result<S::Ok, S::Error> {
        name.as_bytes().serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Name, D::Error> {
        Name::new(&Vec::<u8>::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}

/// What has happened to a name at one side since the two last agreed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum SideChange {
    /// Nothing is there and nothing is remembered.
    Absent,
    /// Nothing is there any more.
    Gone,
    /// It is as it was.
    Same,
    /// Its content is as it was; its time or mode is not.
    Adjusted,
    /// It has other content, or is of another kind, or is new.
    Changed,
}

impl SideChange {
    /// The state of a name of which nothing is remembered.
    pub fn unremembered(entry: Option<&Meta>) -> SideChange {
        if entry.is_some() { SideChange::Changed } else { SideChange::Absent }
    }
}

/// What is done about a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// Nothing.
    Nothing,
    /// Nothing is left of it; it is forgotten.
    Forget,
    /// The other side's entry is put on this side.
    Carry(Side),
    /// The same, though it had been removed there: a removal never beats a change.
    Revive(Side),
    /// It is removed on this side.
    Remove(Side),
    /// It stays on this side, because the job ignores removals.
    Keep(Side),
    /// The content is the same; time and mode are brought into line.
    Adjust,
    /// Both have changed, and differ.
    Conflict,
}

/// Reconciles what has happened at the two sides. `same_content` is asked only when both have changed.
pub fn reconcile(
    left: SideChange,
    right: SideChange,
    removals: Removals,
    same_content: &mut dyn FnMut() -> bool,
) -> Verdict {
    use SideChange::{Absent, Adjusted, Changed, Gone, Same};
    match (left, right) {
        (Absent, Absent) | (Same, Same) => Verdict::Nothing,
        (Gone | Absent, Gone | Absent) => Verdict::Forget,
        (Changed, Absent) => Verdict::Carry(Side::Right),
        (Absent, Changed) => Verdict::Carry(Side::Left),
        (Changed, Gone) => Verdict::Revive(Side::Right),
        (Gone, Changed) => Verdict::Revive(Side::Left),
        (Same | Adjusted, Gone | Absent) if removals == Removals::Ignore => Verdict::Keep(Side::Left),
        (Gone | Absent, Same | Adjusted) if removals == Removals::Ignore => Verdict::Keep(Side::Right),
        (Same | Adjusted, Gone | Absent) => Verdict::Remove(Side::Left),
        (Gone | Absent, Same | Adjusted) => Verdict::Remove(Side::Right),
        (Changed, Same | Adjusted) => Verdict::Carry(Side::Right),
        (Same | Adjusted, Changed) => Verdict::Carry(Side::Left),
        (Same | Adjusted, Same | Adjusted) => Verdict::Adjust,
        (Changed, Changed) if same_content() => Verdict::Adjust,
        (Changed, Changed) => Verdict::Conflict,
    }
}

/// Time and mode for an entry whose content is the same on both sides. A change against the baseline goes over; of two
/// changes (or without a baseline) the earlier time and the left's mode are taken.
pub fn common_metadata(
    known: Option<&Known>,
    left: &Meta,
    right: &Meta,
    by: &Comparison,
) -> (Option<Stamp>, Option<u32>) {
    let one_changed = |own: fn(SideMeta, &Meta) -> bool| {
        let known = known?;
        match (own(known.left, left), own(known.right, right)) {
            (true, false) => Some(Side::Left),
            (false, true) => Some(Side::Right),
            _ => None,
        }
    };
    let modified = match one_changed(|seen, meta| seen.stamp() != meta.modified) {
        _ if by.same_time(left, right) => left.modified,
        // When a store got something says nothing of the thing.
        _ if right.is_arrival() && !left.is_arrival() => left.modified,
        _ if left.is_arrival() && !right.is_arrival() => right.modified,
        // The side that keeps local time has not changed its mind, but its zone.
        _ if by.is_shifted(left, right) => match by.local.map(|local| local.at) {
            Some(Side::Left) => right.modified,
            _ => left.modified,
        },
        Some(Side::Left) => left.modified,
        Some(Side::Right) => right.modified,
        // What the coarser side shows may be a part of the truth only.
        None => match by.finer {
            Some(Side::Left) => left.modified,
            Some(Side::Right) => right.modified,
            None => left.modified.min(right.modified),
        },
    };
    let mode = match one_changed(|seen, meta| seen.mode != meta.mode) {
        Some(Side::Right) => by.carried_mode(right),
        _ => by.carried_mode(left),
    };
    (modified, mode)
}

/// What a job does about conflicts, ready to be asked.
#[derive(Debug)]
pub struct Policies {
    lines: Lines,
    by_path: Vec<ConflictPolicy>,
    otherwise: ConflictPolicy,
}

impl Policies {
    /// Compiles the lines.
    ///
    /// # Errors
    /// The line that is no filter line.
    pub fn new(conflicts: &Conflicts) -> Result<Policies, FilterError> {
        let lines: Vec<String> = conflicts.by_path.iter().map(|(line, _)| line.clone()).collect();
        let by_path = conflicts.by_path.iter().map(|(_, policy)| *policy).collect();
        Ok(Policies { lines: Lines::new(&lines)?, by_path, otherwise: conflicts.otherwise })
    }

    /// The policy for a path: that of the first line that matches it or a folder above it.
    pub fn of(&self, path: &RelPath, folder: bool) -> ConflictPolicy {
        let mut parts: Vec<&[u8]> = path.parts().collect();
        let mut is_folder = folder;
        let mut found = None;
        while !parts.is_empty() {
            let above = parts.join(&b'/');
            let line = self.lines.first_match(&Candidate::from_bytes(&above), is_folder);
            found = [found, line].into_iter().flatten().min();
            parts.pop();
            is_folder = true;
        }
        found.and_then(|line| self.by_path.get(line).copied()).unwrap_or(self.otherwise)
    }
}

/// Who wins a conflict; `None` when it is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Settled {
    /// Nobody: both versions stay as they are.
    Held,
    /// This side's version takes the other's place, which is kept.
    Wins(Side),
    /// This side's version keeps the name, the other gets one of its own, and both end up on both sides.
    Both(Side),
}

/// Decides a conflict by the policy that holds for the path.
///
/// Two files of one time, as far as both stores can tell, are a tie.
pub fn settle(policy: ConflictPolicy, left: &Meta, right: &Meta, by: &Comparison) -> Settled {
    let folder = left.is_folder() || right.is_folder();
    let files = left.kind == EntryKind::File && right.kind == EntryKind::File;
    // A time that is kept in steps is never later than it was, so what is later by it was saved later.
    let surely_later = match by.finer {
        Some(Side::Left) => right.modified > left.modified,
        Some(Side::Right) => left.modified > right.modified,
        None => false,
    };
    let tie = files && by.same_time(left, right) && !surely_later;
    let newer = match left.modified.cmp(&right.modified) {
        _ if tie => Side::Left,
        Ordering::Less => Side::Right,
        Ordering::Equal | Ordering::Greater => Side::Left,
    };
    match policy {
        ConflictPolicy::Hold => Settled::Held,
        ConflictPolicy::Left => Settled::Wins(Side::Left),
        ConflictPolicy::Right => Settled::Wins(Side::Right),
        ConflictPolicy::Newest if folder || tie || left.modified == right.modified => Settled::Held,
        ConflictPolicy::Newest => Settled::Wins(newer),
        // A folder is not given another name: the loser is kept whole among the kept copies.
        ConflictPolicy::Both if folder => Settled::Wins(newer),
        ConflictPolicy::Both => Settled::Both(newer),
    }
}

/// The name for the version that does not keep its own: `NAME.from-left.20310504-181500.EXT`, from its modification time in
/// the given zone. `taken` tells of names that are in use; the stem loses its end where the name would be too long.
pub fn beside_name(
    name: &Name,
    side: Side,
    modified: Option<Stamp>,
    zone: &jiff::tz::TimeZone,
    longest: usize,
    taken: &dyn Fn(&[u8]) -> bool,
) -> Option<Name> {
    let bytes = name.as_bytes();
    /// What is longer behind a dot tells no kind of file.
    const LONGEST_EXTENSION: usize = 32;
    let dot = bytes.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0);
    let dot = dot.filter(|at| bytes.len() - at <= LONGEST_EXTENSION);
    let (stem, extension) = bytes.split_at(dot.unwrap_or(bytes.len()));
    let stamp = modified.and_then(|stamp| jiff::Timestamp::new(stamp.seconds(), 0).ok()).unwrap_or_default();
    let stamp = stamp.to_zoned(zone.clone()).strftime("%Y%m%d-%H%M%S").to_string();
    for number in 1..10_000_u32 {
        let again = if number > 1 { format!("-{number}") } else { String::new() };
        let middle = format!(".from-{side}.{stamp}{again}");
        let room = longest.checked_sub(middle.len() + extension.len())?;
        let found = [shortened(stem, room), middle.as_bytes(), extension].concat();
        if !taken(&found) {
            return Name::new(&found).ok();
        }
    }
    None
}

/// The beginning of a stem, not cut within a character.
fn shortened(stem: &[u8], room: usize) -> &[u8] {
    if stem.len() <= room {
        return stem;
    }
    let mut end = room;
    while end > 0 && (stem[end] & 0xc0) == 0x80 {
        end -= 1;
    }
    &stem[..end]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::capabilities::Limits;
    use crate::testing::{EXACT, file, folder, link, moded};

    /// The whole table: left, right, what is done.
    #[test]
    fn the_table_row_by_row() {
        use SideChange::{Absent, Adjusted, Changed, Gone, Same};
        use Verdict::*;
        let (l, r) = (Side::Left, Side::Right);
        let rows = [
            (Absent, Absent, Nothing),
            (Absent, Changed, Carry(l)),
            (Changed, Absent, Carry(r)),
            (Same, Same, Nothing),
            (Same, Adjusted, Adjust),
            (Adjusted, Same, Adjust),
            (Adjusted, Adjusted, Adjust),
            (Changed, Same, Carry(r)),
            (Changed, Adjusted, Carry(r)),
            (Same, Changed, Carry(l)),
            (Adjusted, Changed, Carry(l)),
            (Gone, Same, Remove(r)),
            (Gone, Adjusted, Remove(r)),
            (Same, Gone, Remove(l)),
            (Adjusted, Gone, Remove(l)),
            (Gone, Gone, Forget),
            (Gone, Changed, Revive(l)),
            (Changed, Gone, Revive(r)),
            (Changed, Changed, Conflict),
        ];
        for (left, right, expected) in rows {
            let found = reconcile(left, right, Removals::Carry, &mut || false);
            assert_eq!(found, expected, "{left:?} {right:?}");
            let ignoring = reconcile(left, right, Removals::Ignore, &mut || false);
            let kept = if let Remove(side) = expected { Keep(side) } else { expected };
            assert_eq!(ignoring, kept, "{left:?} {right:?}, removals ignored");
        }
        assert_eq!(reconcile(Changed, Changed, Removals::Carry, &mut || true), Adjust);
    }

    #[test]
    fn what_has_happened_to_a_name() {
        let name = Name::new(b"heron.csv").unwrap();
        let hash = [7; 32];
        let known = |left: Meta, right: Meta| Known::of(&name, &left, &right, Some(hash)).unwrap();
        let state = |known: &Known, entry: Option<Meta>, same: bool| {
            known.state(Side::Left, entry.as_ref(), &mut |asked| same && *asked == hash)
        };
        let a_file = known(file(5, 100), file(5, 99));
        let cases = [
            (Some(file(5, 100)), false, SideChange::Same),
            // The right's time is no news at the left.
            (Some(file(5, 99)), false, SideChange::Changed),
            (Some(file(5, 200)), true, SideChange::Adjusted),
            (Some(file(6, 100)), true, SideChange::Changed),
            (Some(moded(file(5, 100), 0o600)), false, SideChange::Adjusted),
            (Some(link("x", 100)), false, SideChange::Changed),
            (Some(folder()), false, SideChange::Changed),
            (None, false, SideChange::Gone),
        ];
        for (entry, same, expected) in cases {
            assert_eq!(state(&a_file, entry.clone(), same), expected, "{entry:?}");
        }
        let a_link = known(link("x", 1), link("x", 1));
        assert_eq!(state(&a_link, Some(link("y", 1)), false), SideChange::Changed);
        assert_eq!(state(&a_link, Some(link("x", 2)), false), SideChange::Adjusted);
        let a_folder = known(folder(), folder());
        assert_eq!(state(&a_folder, Some(moded(folder(), 0o700)), false), SideChange::Adjusted);
        assert_eq!(state(&a_folder, Some(folder()), false), SideChange::Same);
        assert_eq!(state(&a_folder, Some(file(0, 1)), false), SideChange::Changed);
    }

    #[test]
    fn policies_settle_or_hold() {
        use ConflictPolicy::*;
        use Settled::{Held, Wins};
        let by = Comparison {
            precision: Some(std::time::Duration::from_secs(1)),
            limits: Limits::NONE,
            finer: Some(Side::Right),
            local: None,
            link_times: true,
            modes: true,
            full: false,
            privileges: false,
            readable: true,
        };
        let (old, new) = (file(5, 100), file(6, 200));
        let tied = Meta { modified: Some(Stamp::new(100, 480_000_000)), ..old.clone() };
        let rows = [
            (Hold, &old, &new, Held),
            (Newest, &old, &new, Wins(Side::Right)),
            (Newest, &new, &old, Wins(Side::Left)),
            (Newest, &old, &file(6, 100), Held),
            (Newest, &folder(), &new, Held),
            (Left, &old, &new, Wins(Side::Left)),
            (Right, &old, &new, Wins(Side::Right)),
            (Both, &old, &new, Settled::Both(Side::Right)),
            (Both, &old, &file(6, 100), Settled::Both(Side::Left)),
            (Both, &old, &folder(), Wins(Side::Right)),
            // Within one step of the coarser side.
            (Newest, &old, &tied, Held),
            (Both, &old, &tied, Settled::Both(Side::Left)),
        ];
        for (policy, left, right, expected) in rows {
            let right = if right.is_folder() {
                Meta { modified: Some(Stamp::new(300, 0)), ..right.clone() }
            } else {
                right.clone()
            };
            assert_eq!(settle(policy, left, &right, &by), expected, "{policy} {left:?} {right:?}");
        }
        // Steps of two seconds at the right: what is later there was saved later, and what is not may have been.
        let by =
            Comparison { precision: Some(std::time::Duration::from_secs(2)), finer: Some(Side::Left), ..by };
        let fine = Meta { modified: Some(Stamp::new(100, 500_000_000)), ..file(5, 100) };
        assert_eq!(settle(Newest, &fine, &file(5, 102), &by), Wins(Side::Right));
        assert_eq!(settle(Both, &fine, &file(5, 102), &by), Settled::Both(Side::Right));
        assert_eq!(settle(Newest, &fine, &file(5, 100), &by), Held);
    }

    #[test]
    fn names_beside_a_name() {
        let at = Some(Stamp::new(1_935_771_300, 999));
        let beside = |name: &str, longest: usize, taken: &[&str]| {
            let is_taken = |found: &[u8]| taken.iter().any(|name| name.as_bytes() == found);
            let name = Name::new(name.as_bytes()).unwrap();
            beside_name(&name, Side::Left, at, &jiff::tz::TimeZone::UTC, longest, &is_taken)
                .map(|name| name.to_string())
        };
        let long = format!("field.{}", "n".repeat(249));
        let shown = format!("field.{}.from-left.20310505-181500", "n".repeat(223));
        let cases: [(&str, usize, &[&str], &str); 7] = [
            (&long, 255, &[], &shown),
            ("heron.csv", 255, &[], "heron.from-left.20310505-181500.csv"),
            ("a.tar.gz", 255, &[], "a.tar.from-left.20310505-181500.gz"),
            (".hidden", 255, &[], ".hidden.from-left.20310505-181500"),
            ("rota", 255, &["rota.from-left.20310505-181500"], "rota.from-left.20310505-181500-2"),
            ("möwen und reiher.csv", 36, &[], "möwen.from-left.20310505-181500.csv"),
            ("mööwen.csv", 34, &[], "mö.from-left.20310505-181500.csv"),
        ];
        for (name, longest, taken, expected) in cases {
            let found = beside(name, longest, taken).unwrap();
            assert_eq!(found, expected);
            assert!(found.len() <= longest);
        }
        assert_eq!(beside("heron.csv", 20, &[]), None);
    }

    #[test]
    fn a_fresh_file_is_known_as_one() {
        let name = Name::new(b"heron.csv").unwrap();
        let known = |seen: &Meta| Known::of(&name, &file(5, 0), seen, None).unwrap();
        let is_fresh = |looked| known(&file(5, 1_000)).is_fresh(Side::Right, Some(Stamp::new(looked, 0)));
        assert!(is_fresh(1_001) && !is_fresh(1_100));
        let folder = Known::of(&name, &folder(), &folder(), None).unwrap();
        assert!(!folder.is_fresh(Side::Left, Some(Stamp::new(0, 0))));
    }

    #[test]
    fn metadata_of_the_same_content() {
        let by = EXACT;
        let name = Name::new(b"x").unwrap();
        let known = Known::of(&name, &moded(file(5, 100), 0o644), &moded(file(5, 100), 0o644), None);
        let (early, late) = (moded(file(5, 100), 0o600), moded(file(5, 300), 0o640));
        let at = |seconds| Some(Stamp::new(seconds, 0));
        assert_eq!(
            common_metadata(None, &late, &early, &by),
            (at(100), Some(0o640)),
            "the earlier time, the left's mode"
        );
        let touched = moded(file(5, 300), 0o644);
        assert_eq!(
            common_metadata(known.as_ref(), &touched, &moded(file(5, 100), 0o600), &by),
            (at(300), Some(0o600))
        );
    }
}
