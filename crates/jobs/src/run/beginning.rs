//! What a run has to know before it begins.

use std::sync::Arc;

use jiff::tz::TimeZone;
use reedhook_core::job::{JobRules, Removed, Replaced};
use reedhook_core::limit::Throttle;
use reedhook_core::plan::Counts;
use reedhook_record::{Outcome as RunOutcome, Record};

use crate::desk::Desk;
use crate::failure::Outcome;
use crate::preview::Preview;

/// How many steps of a plan leave nothing among the kept copies.
pub(super) fn unkept(counts: &Counts, rules: &JobRules) -> u64 {
    let updated = if rules.replaced == Replaced::Keep { 0 } else { counts.updated };
    let removed = if rules.removed == Removed::Keep { 0 } else { counts.removed };
    counts.added + counts.moved + counts.meta + updated + removed
}

/// Whether the newest run of a job that did anything was cut short.
pub(super) fn was_cut_short(record: &dyn Record, job: &str) -> Outcome<bool> {
    /// More refused runs in a row than this are as good as none.
    const ENOUGH: u32 = 50;
    let runs = record.runs(Some(job), ENOUGH)?;
    let newest = runs.iter().map(|run| run.end.outcome).find(|outcome| *outcome != RunOutcome::Refused);
    Ok(matches!(newest, Some(RunOutcome::Unfinished | RunOutcome::Stopped | RunOutcome::Interrupted)))
}

/// What keeps a job's transfers below its limit; `None` when it has none.
pub(super) fn throttle(desk: &Desk, preview: &Preview) -> Option<Arc<Throttle>> {
    let limits = preview.job.rules.limit.clone();
    let world = desk.world.clone();
    let minute_of_day = move || {
        let now = (world.now)().to_zoned(world.zone.clone());
        u16::try_from(i32::from(now.hour()) * 60 + i32::from(now.minute())).unwrap_or(0)
    };
    let rate = move || limits.at(minute_of_day());
    let limited = !preview.job.rules.limit.is_empty();
    limited.then(|| Arc::new(Throttle::new(rate, desk.stop.clone())))
}

/// A run's name: when it began, and four letters so that two machines never use the same one at one destination.
pub(super) fn run_name(now_ms: i64, zone: &TimeZone) -> String {
    use std::hash::{BuildHasher, Hasher};
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    let mut chance = std::collections::hash_map::RandomState::new().build_hasher().finish();
    let mut tail = String::new();
    for _ in 0..4 {
        tail.push(char::from(LETTERS[(chance % 32) as usize]));
        chance /= 32;
    }
    let now = jiff::Timestamp::from_millisecond(now_ms).unwrap_or_default();
    format!("{}-{tail}", now.to_zoned(zone.clone()).strftime("%Y%m%d-%H%M%S"))
}
