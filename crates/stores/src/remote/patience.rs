//! Trying again what may pass: exponential backoff with full jitter (Brooker, "Exponential Backoff And Jitter", 2015).

use std::time::Duration;

use reedhook_core::store::{FaultKind, Result};

use super::stop::Stop;
use super::wire::{Again, Answer, Trouble};

/// How long a store is given to recover.
#[derive(Debug, Clone)]
pub struct Patience {
    /// How often a request is made in all; at least once.
    pub attempts: u32,
    /// The longest pause after the first failure; it doubles with each.
    pub first: Duration,
    /// The longest pause at all.
    pub longest: Duration,
    /// How long the lock of another machine is watched, when it may be a dead one's: longer than a minute, within which a living run
    /// writes it anew.
    pub watch: Duration,
    /// Who may end the waiting.
    pub stop: Stop,
}

impl Default for Patience {
    /// About half a minute in all: longer than a router's restart of a connection, shorter than a person's.
    fn default() -> Patience {
        Patience {
            attempts: 9,
            first: Duration::from_millis(200),
            longest: Duration::from_secs(10),
            watch: Duration::from_secs(75),
            stop: Stop::default(),
        }
    }
}

impl Patience {
    /// Makes a request until it succeeds, fails for good, or patience ends. `request` is told whether it is made again: then an
    /// earlier one may have been carried out although its answer was lost.
    ///
    /// # Errors
    /// The last failure. A connection that stays broken is a lost store.
    pub fn with<T>(&self, mut request: impl FnMut(bool) -> Answer<T>) -> Result<T> {
        let mut attempt = 0;
        loop {
            let trouble = match request(attempt > 0) {
                Ok(value) => return Ok(value),
                Err(trouble) => trouble,
            };
            attempt += 1;
            let Some(pause) = self.pause(&trouble, attempt) else {
                return Err(given_up(trouble));
            };
            if !self.stop.sleep(pause) {
                return Err(given_up(trouble));
            }
        }
    }

    /// How long to wait before the next attempt; `None` when there is none.
    fn pause(&self, trouble: &Trouble, attempt: u32) -> Option<Duration> {
        if trouble.again == Again::Never || attempt >= self.attempts {
            return None;
        }
        let most = self.first.saturating_mul(1 << (attempt - 1).min(16)).min(self.longest);
        let jittered = most.mul_f64(fastrand::f64());
        match trouble.again {
            // What a server asks for is obeyed, but not for ever.
            Again::After(wait) => Some(wait.min(Duration::from_secs(300)) + jittered),
            _ => Some(jittered),
        }
    }
}

fn given_up(trouble: Trouble) -> reedhook_core::store::StoreError {
    let mut error = trouble.error;
    if error.kind == FaultKind::Interrupted {
        error.kind = FaultKind::Lost;
    }
    error
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_core::path::RelPath;

    fn quick() -> Patience {
        Patience {
            attempts: 4,
            first: Duration::from_micros(10),
            longest: Duration::from_micros(50),
            ..Patience::default()
        }
    }

    #[test]
    fn what_may_pass_is_tried_again_and_nothing_else() {
        let root = RelPath::root();
        let broke = || Trouble::broke("read", &root, "cut");
        let denied = || Trouble::lasting(FaultKind::Denied, "read", &root);
        let busy = || Trouble { again: Again::After(Duration::from_micros(5)), ..denied() };
        type Make<'a> = &'a dyn Fn() -> Trouble;
        // Failures before a success, what fails, how often it is asked, what comes of it.
        let cases: [(u32, Make<'_>, u32, Option<FaultKind>); 5] = [
            (0, &broke, 1, None),
            (3, &broke, 4, None),
            (9, &broke, 4, Some(FaultKind::Lost)),
            (1, &denied, 1, Some(FaultKind::Denied)),
            (2, &busy, 3, None),
        ];
        for (failures, make, asked, outcome) in cases {
            let mut count = 0;
            let result = quick().with(|again| {
                assert_eq!(again, count > 0);
                count += 1;
                if count <= failures { Err(make()) } else { Ok(()) }
            });
            assert_eq!((count, result.err().map(|error| error.kind)), (asked, outcome));
        }
    }

    #[test]
    fn pauses_grow_up_to_a_limit_and_obey_the_server() {
        let patience = Patience { attempts: 99, ..Patience::default() };
        let root = RelPath::root();
        let pauses = |attempt, again| {
            let trouble = Trouble { again, ..Trouble::broke("read", &root, "cut") };
            (0..200).filter_map(|_| patience.pause(&trouble, attempt)).collect::<Vec<_>>()
        };
        assert!(pauses(1, Again::Soon).iter().all(|pause| *pause <= Duration::from_millis(200)));
        let late = pauses(60, Again::Soon);
        assert!(late.iter().all(|pause| *pause <= Duration::from_secs(10)));
        assert!(late.iter().any(|pause| *pause > Duration::from_secs(3)), "they do grow");
        assert!(late.iter().any(|pause| *pause < Duration::from_secs(3)), "and are not all alike");
        let told = pauses(1, Again::After(Duration::from_secs(7)));
        assert!(told.iter().all(|pause| *pause >= Duration::from_secs(7)));
    }
}
