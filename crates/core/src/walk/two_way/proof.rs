//! What has happened to a name at each side, and how sure that is.
//!
//! Sizes and times are asked first, and believed as far as they go. Where they cannot tell, the content is read: against the hash that is
//! remembered, or against the other side. What cannot be read proves nothing either way, and is no change.

use super::Visit;
use crate::content::{self, FileAt, Hash};
use crate::entry::{EntryKind, Meta, Side};
use crate::fresh::{is_fresh, is_later};
use crate::job::ConflictPolicy;
use crate::path::{Name, RelPath};
use crate::plan::two_way::{Known, KnownKind, SideChange, Verdict, reconcile};
use crate::store::error::StoreError;
use crate::walk::two_way::input::Decided;

type Read<T> = std::result::Result<T, (Side, StoreError)>;

impl Visit<'_> {
    /// What neither side seems to have changed needs nothing, unless one of them is known to have changed without its size and time. What
    /// somebody has written goes to the other side. What changed by itself is a conflict; where the job's policy is not to hold those, the
    /// other side's version comes back.
    pub(super) fn unless_rotten(&mut self, name: &Name, left: &Meta, right: &Meta) -> Verdict {
        let rot = self.input.corrupted;
        let Some(known) = rot.of(&self.visited.path, name, left, right) else { return Verdict::Nothing };
        let (here, there) = (self.now_at(Side::Left, name), self.now_at(Side::Right, name));
        let ours = FileAt { store: self.input.left, path: &here };
        let theirs = FileAt { store: self.input.right, path: &there };
        if content::equal(ours, theirs, left.size, (true, self.stop), &mut |_| {}).unwrap_or(false) {
            return Verdict::Nothing;
        }
        let holds = self.input.policies.of(&known.path, false) == ConflictPolicy::Hold;
        match known.side.filter(|_| rot.mends(known)) {
            Some(side) if known.edited => Verdict::Carry(side.other()),
            Some(side) if !holds => Verdict::Carry(side),
            _ => Verdict::Conflict,
        }
    }

    /// What is done about a name that is no folder. `read` gets the hash of what was found to be the same on both sides, where that was
    /// found by reading.
    pub(super) fn reconciled(
        &mut self,
        name: &Name,
        (left, right): (Option<&Meta>, Option<&Meta>),
        known: Option<&Known>,
        read: &mut Option<Hash>,
    ) -> Read<Verdict> {
        if let (Some(left), Some(right)) = (left, right)
            && self.is_only_shifted(name, (left, right), known, read)
        {
            self.found.shifted += 1;
            return Ok(Verdict::Adjust);
        }
        Ok(self.decided(name, (left, right), known, read)?.verdict)
    }

    /// What has happened at each side, and what that comes to.
    pub(super) fn decided(
        &mut self,
        name: &Name,
        (left, right): (Option<&Meta>, Option<&Meta>),
        known: Option<&Known>,
        read: &mut Option<Hash>,
    ) -> Read<Decided> {
        let ours = self.state(Side::Left, name, (left, right), known, read)?;
        let theirs = self.state(Side::Right, name, (left, right), known, read)?;
        let verdict = reconcile(ours, theirs, self.input.removals, &mut || match (left, right) {
            (Some(left), Some(right)) => self.same_content(name, (left, right), known, read),
            _ => false,
        });
        Ok(Decided { left: ours, right: theirs, verdict })
    }

    /// What has happened to a name at a side. Where its time is no proof that nothing has, its content is asked.
    pub(super) fn state(
        &mut self,
        side: Side,
        name: &Name,
        (left, right): (Option<&Meta>, Option<&Meta>),
        known: Option<&Known>,
        read: &mut Option<Hash>,
    ) -> Read<SideChange> {
        let entry = if side == Side::Left { left } else { right };
        let Some(known) = known else { return Ok(SideChange::unremembered(entry)) };
        let found = known.state(side, entry, &mut |expected| self.has_hash(side, name, expected));
        let fresh = known.is_fresh(side, self.looked);
        let unsure = matches!(found, SideChange::Same | SideChange::Adjusted);
        let told = |entry: &&Meta| !fresh && !entry.is_young() && !self.is_cut(side, entry);
        let Some(entry) = entry.filter(|entry| unsure && !told(entry)) else {
            return Ok(found);
        };
        let proved = match (&known.what, left.zip(right)) {
            (KnownKind::File(_, Some(expected)), _) => {
                let found = content::hash(self.input.store(side), &self.now_at(side, name), self.stop);
                found.map_err(|error| (side, error))? == Some(*expected)
            }
            (_, Some((left, right))) if left.size == right.size => {
                *read = self.read_both(name, left.size)?;
                read.is_some()
            }
            // The other side lacks it, or has another: nothing tells, and nothing is lost when it counts as changed.
            _ => false,
        };
        if !proved {
            return Ok(SideChange::Changed);
        }
        self.input.store(side).proved(&self.now_at(side, name), entry);
        // Once it is settled, it need not be read again.
        self.changed |= fresh && !known.clone().seen_now().is_fresh(side, Some(self.input.now));
        Ok(found)
    }

    /// Whether a file's time may be that of another version, because its store cannot hold the times of either.
    pub(super) fn is_cut(&self, side: Side, entry: &Meta) -> bool {
        let limits = self.input.store(side).capabilities().limits;
        entry.kind == EntryKind::File && entry.modified.is_some_and(|modified| limits.cuts(modified))
    }

    /// The hash of what both sides hold; `None` when that is not the same.
    ///
    /// # Errors
    /// The side that could not be read: that proves nothing either way.
    fn read_both(&self, name: &Name, size: u64) -> Read<Option<Hash>> {
        let (here, there) = (self.now_at(Side::Left, name), self.now_at(Side::Right, name));
        let ours = FileAt { store: self.input.left, path: &here };
        let theirs = FileAt { store: self.input.right, path: &there };
        let mut hasher = blake3::Hasher::new();
        let same = content::equal(ours, theirs, size, (false, self.stop), &mut |piece| {
            hasher.update(piece);
        })?;
        Ok(same.then(|| *hasher.finalize().as_bytes()))
    }

    fn has_hash(&self, side: Side, name: &Name, expected: &Hash) -> bool {
        let found = content::hash(self.input.store(side), &self.now_at(side, name), self.stop);
        found.is_ok_and(|found| found == Some(*expected))
    }

    /// Whether a file still has the content that is remembered of it; not, when its hash is not known.
    pub(super) fn still_holds(&self, side: Side, now_at: &RelPath, known: &Known) -> bool {
        let KnownKind::File(_, Some(expected)) = known.what else { return false };
        content::hash(self.input.store(side), now_at, self.stop).is_ok_and(|found| found == Some(expected))
    }

    /// Whether two files differ only as they do where one side keeps local time.
    fn is_only_shifted(
        &self,
        name: &Name,
        (left, right): (&Meta, &Meta),
        known: Option<&Known>,
        read: &mut Option<Hash>,
    ) -> bool {
        let files = left.kind == EntryKind::File && right.kind == EntryKind::File;
        files
            && left.size == right.size
            && self.input.by.is_shifted(left, right)
            && self.same_content(name, (left, right), known, read)
    }

    /// Whether two versions that both are new hold the same: by their times where those can tell, else by reading.
    pub(super) fn same_content(
        &self,
        name: &Name,
        (left, right): (&Meta, &Meta),
        known: Option<&Known>,
        read: &mut Option<Hash>,
    ) -> bool {
        match (left.kind, right.kind) {
            (EntryKind::Link, EntryKind::Link) => left.target == right.target,
            (EntryKind::File, EntryKind::File) if left.size == right.size => {
                if self.times_tell(left, right, known) && self.input.by.same_time(left, right) {
                    return true;
                }
                *read = self.read_both(name, left.size).unwrap_or(None);
                read.is_some()
            }
            _ => false,
        }
    }

    /// Whether equal times of two new versions say that they are one. Of what was saved since both last agreed they do not: two people,
    /// or one program, may save in the same moment, and the clocks of file systems tick a few times in a hundredth of a second.
    fn times_tell(&self, left: &Meta, right: &Meta, known: Option<&Known>) -> bool {
        let by = self.input.by;
        // A folder that is new at both sides came after its parent was last seen.
        let agreed = known.and_then(|known| known.since).or(self.looked).or(self.above);
        let is_new = |meta: &Meta| match (meta.modified, agreed) {
            (Some(modified), Some(looked)) => is_later(modified, looked),
            (Some(modified), None) => self.agreed || is_fresh(modified, self.input.now),
            (None, _) => true,
        };
        by.precision.is_some() && !by.is_silent(left, right) && !is_new(left) && !is_new(right)
    }
}
