//! Bandwidth limits: so many bytes a second, all day or between two times of day.
//!
//! [`Limits`] is what a job says; [`Throttle`] makes readers keep to it. All workers of a run share one throttle, which hands
//! out time: each piece moves the moment at which the next may be read.

use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::str::FromStr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::entry::Meta;
use crate::store::Content;
use crate::store::error::Result;
use crate::units::{Size, UnitError, serde_as_text};

const EXPECTED: &str = "a limit such as \"20 MB/s\", or for a part of the day \"2 MB/s 08:00-18:00\"";

/// One line: `20 MB/s`, or `2 MB/s 08:00-18:00` for a part of the day (local time; it may go over midnight).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limit {
    rate: Size,
    /// Minutes of the day: from the first until before the second.
    hours: Option<(u16, u16)>,
}

impl Limit {
    /// No limit: in the place of others it takes them away.
    pub const OFF: Limit = Limit { rate: Size::from_bytes(0), hours: None };

    fn holds_at(&self, minute: u16) -> bool {
        match self.hours {
            None => true,
            Some((from, until)) if from <= until => (from..until).contains(&minute),
            Some((from, until)) => minute >= from || minute < until,
        }
    }
}

impl FromStr for Limit {
    type Err = UnitError;

    fn from_str(text: &str) -> std::result::Result<Limit, UnitError> {
        let wrong = || UnitError::new(text, EXPECTED);
        if text.trim() == "off" {
            return Ok(Limit::OFF);
        }
        let (rate, hours) = text.trim().split_once("/s").ok_or_else(wrong)?;
        let rate: Size = rate.parse().map_err(|_| wrong())?;
        let hours = match hours.trim() {
            "" => None,
            hours => {
                let (from, until) = hours.split_once('-').ok_or_else(wrong)?;
                Some((minute_of(from).ok_or_else(wrong)?, minute_of(until).ok_or_else(wrong)?))
            }
        };
        if rate.bytes() == 0 || hours.is_some_and(|(from, until)| from == until) {
            return Err(wrong());
        }
        Ok(Limit { rate, hours })
    }
}

/// `18:30` as minutes after midnight; `24:00` is the end of the day.
fn minute_of(text: &str) -> Option<u16> {
    let (hour, minute) = text.trim().split_once(':')?;
    let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
    (minute < 60 && hour <= 24).then(|| hour * 60 + minute).filter(|minutes| *minutes <= 24 * 60)
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if *self == Limit::OFF {
            return f.write_str("off");
        }
        write!(f, "{}/s", self.rate)?;
        match self.hours {
            Some((a, b)) => write!(f, " {:02}:{:02}-{:02}:{:02}", a / 60, a % 60, b / 60, b % 60),
            None => Ok(()),
        }
    }
}

serde_as_text!(Limit);

/// All limits of a job. A line for a part of the day goes before one for the whole day.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Limits(Vec<Limit>);

impl Limits {
    /// The limits of these lines.
    pub fn new(lines: Vec<Limit>) -> Limits {
        Limits(lines)
    }

    /// Whether there is none at any time.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Bytes a second at a minute of the day; `None` when nothing limits them.
    pub fn at(&self, minute: u16) -> Option<u64> {
        let holding = || self.0.iter().filter(|limit| limit.holds_at(minute));
        let chosen = holding().find(|limit| limit.hours.is_some()).or_else(|| holding().next());
        chosen.map(|limit| limit.rate.bytes())
    }
}

/// Makes readers wait so that together they stay below a rate.
pub struct Throttle {
    rate: Box<dyn Fn() -> Option<u64> + Send + Sync>,
    stop: Arc<AtomicBool>,
    /// When the next piece may be read.
    next: Mutex<Option<Instant>>,
}

/// No wait is longer than this before the rate and the request to stop are looked at again.
const STEP: Duration = Duration::from_millis(100);

impl Throttle {
    /// A throttle that asks `rate` (bytes a second, `None` without a limit) before each piece; waiting ends when `stop` is set.
    pub fn new(rate: impl Fn() -> Option<u64> + Send + Sync + 'static, stop: Arc<AtomicBool>) -> Throttle {
        Throttle { rate: Box::new(rate), stop, next: Mutex::default() }
    }

    /// How much may be read at once: about a tenth of a second's worth, so that the flow is even.
    fn piece(&self, wanted: usize) -> usize {
        match (self.rate)() {
            Some(rate) => wanted.min(usize::try_from(rate / 10).unwrap_or(wanted).max(1)),
            None => wanted,
        }
    }

    /// Waits as long as so many bytes take.
    fn pass(&self, bytes: usize) {
        let Some(rate) = (self.rate)() else { return };
        let until = {
            let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
            let now = Instant::now();
            // What was not used up to now is gone: a pause is not made good by a burst.
            let until =
                next.map_or(now, |next| next.max(now)) + Duration::from_secs_f64(bytes as f64 / rate as f64);
            *next = Some(until);
            until
        };
        while !self.stop.load(Ordering::Relaxed) {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            std::thread::sleep(left.min(STEP));
        }
    }
}

/// A file that is read no faster than a throttle allows.
pub(crate) struct Throttled {
    pub(crate) content: Box<dyn Content>,
    pub(crate) throttle: Arc<Throttle>,
    /// While this is set nobody waits: what is read is only compared with what is there.
    pub(crate) free: Arc<AtomicBool>,
}

impl Read for Throttled {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.free.load(Ordering::Relaxed) {
            return self.content.read(buffer);
        }
        let piece = self.throttle.piece(buffer.len());
        let length = self.content.read(&mut buffer[..piece])?;
        self.throttle.pass(length);
        Ok(length)
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Content for Throttled {
    fn meta(&mut self) -> Result<Meta> {
        self.content.meta()
    }

    /// Nobody waits for what is not there.
    fn skip_hole(&mut self) -> io::Result<u64> {
        self.content.skip_hole()
    }

    /// No way around the reader: the kernel would copy as fast as it can.
    fn as_file(&self) -> Option<&File> {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_by_time_of_day() {
        let limits = |lines: &[&str]| Limits::new(lines.iter().map(|line| line.parse().unwrap()).collect());
        let day = limits(&["20 MB/s", "2 MB/s 08:00-18:00", "1 MB/s 22:00-06:00"]);
        let cases = [
            (0, 1),
            (5 * 60 + 59, 1),
            (6 * 60, 20),
            (8 * 60, 2),
            (17 * 60 + 59, 2),
            (18 * 60, 20),
            (22 * 60, 1),
        ];
        for (minute, megabytes) in cases {
            assert_eq!(day.at(minute), Some(megabytes * 1_000_000), "{minute}");
        }
        assert_eq!(limits(&["2 MB/s 08:00-18:00"]).at(7 * 60), None);
        assert_eq!(Limits::default().at(0), None);
    }

    #[test]
    fn limits_read_back_as_they_are_written() {
        for text in ["20 MB/s", "2 MB/s 08:00-18:00", "1500 kB/s 22:00-24:00"] {
            assert_eq!(text.parse::<Limit>().unwrap().to_string(), text);
        }
        for wrong in [
            "20 MB",
            "fast",
            "0 MB/s",
            "2 MB/s 8-18",
            "2 MB/s 08:00-08:00",
            "2 MB/s 08:61-18:00",
            "2 MB/s 25:00-26:00",
        ] {
            assert!(wrong.parse::<Limit>().unwrap_err().to_string().contains("20 MB/s"), "{wrong}");
        }
    }

    #[test]
    fn readers_together_stay_below_the_rate() {
        let throttle = Throttle::new(|| Some(1_000_000), Arc::default());
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for _ in 0..2 {
                scope.spawn(|| (0..5).for_each(|_| throttle.pass(20_000)));
            }
        });
        // 200 kB at 1 MB/s: never sooner, however busy the machine.
        assert!(begun.elapsed() >= Duration::from_millis(199), "{:?}", begun.elapsed());
        assert_eq!((throttle.piece(1 << 20), throttle.piece(10)), (100_000, 10));
    }
}
