//! The wish to stop, for whoever waits for a server.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

/// What has begun may come to its end for so long: a rename whose answer is awaited, and the lock that is given back.
const GRACE: Duration = Duration::from_secs(4);

/// How often a wait looks whether it is to end.
pub(crate) const LOOK: Duration = Duration::from_millis(100);

/// Set by whoever wants the work to stop. Nothing is tried again from then on, and a little later no answer is waited for any more.
#[derive(Debug, Clone, Default)]
pub struct Stop {
    wish: Option<Arc<AtomicBool>>,
    noticed: Arc<OnceLock<Instant>>,
}

impl Stop {
    /// A wish that is told by this flag.
    pub fn told_by(wish: Arc<AtomicBool>) -> Stop {
        Stop { wish: Some(wish), noticed: Arc::default() }
    }

    /// Whether anybody can want the work to stop.
    pub(crate) fn may_come(&self) -> bool {
        self.wish.is_some()
    }

    /// Whether somebody wants the work to stop.
    pub(crate) fn is_wanted(&self) -> bool {
        let wanted = self.wish.as_ref().is_some_and(|wish| wish.load(Ordering::Relaxed));
        if wanted {
            self.noticed.get_or_init(Instant::now);
        }
        wanted
    }

    /// Whether that was so long ago that nothing is waited for any more.
    pub(crate) fn is_overdue(&self) -> bool {
        self.is_wanted() && self.noticed.get().is_some_and(|since| since.elapsed() >= GRACE)
    }

    /// Sleeps, unless the work is to stop; whether it slept to the end.
    pub(crate) fn sleep(&self, length: Duration) -> bool {
        let begun = Instant::now();
        loop {
            let Some(rest) = length.checked_sub(begun.elapsed()).filter(|rest| !rest.is_zero()) else {
                return true;
            };
            if self.is_wanted() {
                return false;
            }
            std::thread::sleep(rest.min(LOOK));
        }
    }
}

/// How fast a server is, while it is waited for. One that sends a byte now and then never runs into the limit of a single answer.
#[derive(Debug, Default)]
pub(crate) struct Pace {
    waited: Duration,
    came: u64,
}

impl Pace {
    /// In so much time of waiting at least so many bytes have to come: a tenth of what the slowest telephone line brings.
    const WITHIN: Duration = Duration::from_secs(60);
    const LEAST: u64 = 6_000;

    /// Takes note of what came after how long a wait; `false` when the server is too slow to be honest.
    pub(crate) fn came(&mut self, bytes: u64, waited: Duration) -> bool {
        self.waited += waited;
        self.came = self.came.saturating_add(bytes);
        if self.waited < Self::WITHIN {
            return true;
        }
        let enough = self.came >= Self::LEAST;
        *self = Pace::default();
        enough
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_that_drips_is_too_slow_and_a_slow_line_is_not() {
        let second = Duration::from_secs(1);
        let mut drips = Pace::default();
        assert!((0..60).map(|_| drips.came(1, second)).any(|fast_enough| !fast_enough));
        let mut slow = Pace::default();
        assert!((0..600).all(|_| slow.came(200, second)));
        let mut quick = Pace::default();
        assert!(
            (0..600).all(|_| quick.came(1, Duration::from_millis(1))),
            "waiting for ourselves is no fault of it"
        );
    }

    #[test]
    fn nobody_waits_longer_once_the_work_is_to_stop() {
        let wish = Arc::new(AtomicBool::new(false));
        let stop = Stop::told_by(wish.clone());
        assert!(stop.sleep(Duration::from_millis(1)) && !stop.is_wanted());
        wish.store(true, Ordering::Relaxed);
        assert!(!stop.sleep(Duration::from_secs(60)) && stop.is_wanted() && !stop.is_overdue());
        assert!(Stop::default().sleep(Duration::ZERO));
    }
}
