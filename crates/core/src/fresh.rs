//! Times that cannot tell whether a file was saved once more.
//!
//! A store keeps times in steps. What is saved twice within one step has the same time twice, and perhaps the same size: a look in
//! between takes the second version for the first. So a file whose time was of the step in which somebody looked is *fresh*: at the
//! next look its content has to tell. All kinds of job go by this.

use std::time::Duration;

use crate::entry::Stamp;

/// Seconds by which the clock that a file got its time from may be behind ours. What is as young as that is read once more, so it
/// has to be little.
const CLOCK_BEHIND: i64 = 5;

/// Seconds by which clocks may be apart where that costs little.
const CLOCKS_APART: i64 = 15 * 60;

/// Whether a time is of the step in which somebody looked: what is saved within the rest of that step gets the same one.
pub fn is_fresh(modified: Stamp, looked: Stamp) -> bool {
    is_within_step(modified, looked, step_of(modified))
}

/// The same of a time that is compared with one in steps of this length, which may be coarser than its own.
pub fn is_fresh_in_steps(modified: Stamp, looked: Stamp, steps: Duration) -> bool {
    /// Shorter ones are no steps that people save in.
    const COUNTS_FROM: Duration = Duration::from_millis(10);
    let whole = i64::try_from(steps.as_secs()).unwrap_or(i64::MAX);
    let step =
        if steps < COUNTS_FROM { 0 } else { whole.saturating_add(i64::from(steps.subsec_nanos() > 0)) };
    is_within_step(modified, looked, step.max(step_of(modified)))
}

/// Whether something may have been saved after somebody looked, even by a clock that is behind ours.
pub fn is_later(modified: Stamp, looked: Stamp) -> bool {
    modified.seconds() > looked.seconds().saturating_sub(CLOCKS_APART)
}

fn is_within_step(modified: Stamp, looked: Stamp, step: i64) -> bool {
    let age = looked.seconds().saturating_sub(modified.seconds());
    step > 0 && (-CLOCKS_APART..=step.saturating_add(CLOCK_BEHIND)).contains(&age)
}

/// The step, in seconds, in which the store of a time counts, as far as the time itself shows: a minute, two seconds, or none
/// that matters. A finer time that looks like a coarse one by chance costs a look too many and nothing else.
fn step_of(stamp: Stamp) -> i64 {
    match (stamp.seconds() % 60, stamp.nanos() % 10_000_000) {
        (0, 0) => 60,
        (_, 0) => 2,
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_of_the_step_in_which_somebody_looked_proves_nothing() {
        let fine = Duration::from_nanos(100);
        let rows = [
            // Its time, when somebody looked, the steps of the other side, whether it may be something else by now.
            ((1_000, 0), 1_000, fine, true),
            ((1_000, 0), 1_007, fine, true),
            ((1_000, 0), 1_008, fine, false),
            ((1_000, 370_000_000), 1_001, fine, true),
            ((1_000, 371_234_567), 1_000, fine, false),
            ((1_200, 0), 1_265, fine, true),
            ((1_200, 0), 1_266, fine, false),
            // The clock of another machine is ahead.
            ((1_300, 0), 1_000, fine, true),
            ((9_000, 0), 1_000, fine, false),
            // A fine time, beside one that is kept in steps.
            ((1_000, 371_234_567), 1_000, Duration::from_secs(2), true),
            ((1_000, 371_234_567), 1_007, Duration::from_secs(2), true),
            ((1_000, 371_234_567), 1_008, Duration::from_secs(2), false),
            ((1_000, 371_234_567), 1_006, Duration::from_millis(10), true),
            ((1_000, 371_234_567), 1_007, Duration::from_millis(10), false),
        ];
        for ((seconds, nanos), looked, steps, expected) in rows {
            let (modified, looked) = (Stamp::new(seconds, nanos), Stamp::new(looked, 0));
            let found = is_fresh_in_steps(modified, looked, steps);
            assert_eq!(found, expected, "{seconds}.{nanos} seen at {looked:?} in steps of {steps:?}");
            assert!(steps != fine || is_fresh(modified, looked) == expected);
        }
    }
}
