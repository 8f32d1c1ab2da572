//! Waiting for something slow on a thread of its own, no longer than may be.

use std::time::{Duration, Instant};

use crossbeam_channel::RecvTimeoutError;
use reedhook_jobs::desk::Desk;

/// A message has to be through within this time.
pub(in crate::tell) const WITHIN: Duration = Duration::from_secs(30);

/// What comes after a run that somebody has stopped may take so long all the same.
pub(in crate::tell) const AFTER_THE_WISH: Duration = Duration::from_secs(1);

/// Lets something be done on a thread of its own, and waits for it: no longer than may be, and hardly any more once the work is to stop.
pub(in crate::tell) fn within<T: Send + 'static>(
    desk: &Desk,
    slow: &str,
    work: impl FnOnce() -> Result<T, String> + Send + 'static,
) -> Result<T, String> {
    let begun = Instant::now();
    let (answer, answered) = crossbeam_channel::bounded(1);
    std::thread::Builder::new()
        .name("tell".to_owned())
        .spawn(move || drop(answer.send(work())))
        .map_err(|error| error.to_string())?;
    loop {
        match answered.recv_timeout(Duration::from_millis(50)) {
            Ok(done) => return done,
            Err(RecvTimeoutError::Disconnected) => {
                return Err("it failed; this is a fault in Reedhook".to_owned());
            }
            Err(RecvTimeoutError::Timeout) if begun.elapsed() >= WITHIN => return Err(slow.to_owned()),
            Err(RecvTimeoutError::Timeout) if desk.is_stopped() && begun.elapsed() >= AFTER_THE_WISH => {
                return Err("it was stopped before it was sent".to_owned());
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
}
