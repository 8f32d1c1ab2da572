//! What exists on one drive only: with that it would be lost.

use std::ops::ControlFlow;

use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::inventory::{self, Query, copies};

/// More entries than these are not compared for a report, which nobody waits for: `inventory find --alone` does it.
const MOST_ENTRIES: u64 = 1_000_000;

/// What an inventory has that is on no other drive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lonely {
    /// Its name.
    pub name: String,
    /// When it was last seen, in milliseconds since 1970.
    pub seen_ms: i64,
    /// How many files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// What is known of that.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OnceOnly {
    /// The inventories that have such files, those with the most bytes first.
    pub inventories: Vec<Lonely>,
    /// There are so many entries that they were not compared.
    pub too_many: Option<u64>,
}

/// Compares all inventories with each other.
///
/// # Errors
/// When they cannot be read.
pub fn once_only(desk: &Desk) -> Outcome<OnceOnly> {
    let failed = |error| inventory::failed(&desk.home, error);
    // Where nobody has taken one, none is made.
    if !desk.home.inventories_file().exists() {
        return Ok(OnceOnly::default());
    }
    let all = inventory::open(&desk.home)?;
    let known = all.list().map_err(failed)?;
    let entries = known.iter().map(|one| one.entries).sum();
    if known.len() < 2 {
        return Ok(OnceOnly::default());
    }
    if entries > MOST_ENTRIES {
        return Ok(OnceOnly { inventories: Vec::new(), too_many: Some(entries) });
    }
    let mut sums = vec![(0_u64, 0_u64); known.len()];
    let everywhere: Vec<usize> = (0..known.len()).collect();
    copies::alone(&all, &known, &everywhere, &Query::of(&[]), &mut |at, _, meta| {
        sums[at] = (sums[at].0 + 1, sums[at].1.saturating_add(meta.size));
        if desk.is_stopped() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })
    .map_err(failed)?;
    let lonely = known.into_iter().zip(sums).filter(|(_, (files, _))| *files > 0);
    let mut inventories: Vec<Lonely> = lonely
        .map(|(one, (files, bytes))| Lonely {
            name: one.about.name,
            seen_ms: one.about.taken_ms,
            files,
            bytes,
        })
        .collect();
    inventories.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    Ok(OnceOnly { inventories, too_many: None })
}
