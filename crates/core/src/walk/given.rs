//! What a walk is told about single files besides what it sees.

use crate::entry::{EntryKind, Meta, Side, Stamp};
use crate::memory::Corrupted;
use crate::path::{Name, RelPath};
use crate::problem::{Code, Problem};

/// Files that a verification found to have changed by themselves: their sizes and times say that nothing is to be done.
#[derive(Debug, Clone, Copy, Default)]
pub struct Corruption<'a> {
    /// Those that are known, sorted by path.
    pub known: &'a [Corrupted],
    /// Those that changed by themselves at one of these sides are compared by content, and mended from the other side; what somebody has
    /// written goes the run's way. The others are told as problems, in a two-way job as conflicts. Empty where a person decides.
    pub mend: &'a [Option<Side>],
}

impl Corruption<'_> {
    /// What is known of a file that looks the same at both sides.
    pub(super) fn of(&self, folder: &RelPath, name: &Name, left: &Meta, right: &Meta) -> Option<&Corrupted> {
        if self.known.is_empty() || left.kind != EntryKind::File {
            return None;
        }
        let path = folder.join(name);
        let at = self.known.binary_search_by(|known| known.path.cmp(&path)).ok()?;
        let known = &self.known[at];
        (known.is_about(left) || known.is_about(right)).then_some(known)
    }

    /// Whether a run brings one of the versions over: because of the side that changed, or because somebody has changed it.
    pub(super) fn mends(&self, known: &Corrupted) -> bool {
        !self.mend.is_empty() && (known.edited || self.mend.contains(&known.side))
    }

    /// The problem that a file is which this run does not mend.
    pub(super) fn problem(known: &Corrupted) -> Problem {
        let message = match known.side {
            Some(Side::Left) => "its content at the left changed by itself; the right still has what it was",
            Some(Side::Right) => "its content at the right changed by itself; the left still has what it was",
            None => "its content differs between the two sides, and nothing tells which one is right",
        };
        Problem::new(Code::Corrupted, known.side.unwrap_or(Side::Right), known.path.clone(), message)
    }
}

/// Files whose times could not tell, at the look before, whether they were saved once more; see [`crate::fresh`].
#[derive(Debug, Clone, Copy, Default)]
pub struct Fresh<'a> {
    /// Those that are known, sorted: their content tells.
    pub known: &'a [RelPath],
    /// When this look began. Without it, nothing new is fresh.
    pub looked: Option<Stamp>,
}

/// Hears of a file that is the same on both sides: its path, its left and its right entry.
pub type OnSame<'a> = &'a (dyn Fn(&RelPath, &Meta, &Meta) + Sync);
