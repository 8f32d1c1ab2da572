//! When a job is due: a line as people write it, and the moments that it comes to.
//!
//! [`When`] is one line of a job's `when`: its words, and the [`Rule`] that they mean. [`Rule::after`] gives the first moment
//! after another one, in a zone; nothing here asks a clock. Rules that no clock knows ([`Trigger`]) have no moments.
//!
//! Times of day are local. As RFC 5545 (3.3.5) has it, a time that the clock skips is taken with the offset before the gap, so
//! 02:30 becomes 03:30, and of one that comes twice the first is taken. Lengths (`every 2h`) are elapsed time.

mod cron;
mod days;
mod keys;
mod parse;
#[cfg(test)]
mod tests;

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use jiff::civil::{Date, DateTime, Time};
use jiff::tz::{AmbiguousOffset, Offset, TimeZone};
use jiff::{Timestamp, ToSpan};

use crate::units::serde_as_text;

pub use cron::Cron;
pub use days::{Days, MonthDays, Weekdays};
pub use keys::{Finally, Missed, OnBattery, Retry};
pub use parse::WhenError;

/// How long the sides must have been quiet after a change, when a line does not say.
pub const QUIET: Duration = Duration::from_secs(5);

/// One line of a job's `when`.
#[derive(Debug, Clone, PartialEq)]
pub struct When {
    text: String,
    rule: Rule,
}

impl When {
    /// What it means.
    pub fn rule(&self) -> &Rule {
        &self.rule
    }

    /// The line as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl FromStr for When {
    type Err = WhenError;

    fn from_str(text: &str) -> Result<When, WhenError> {
        let text = text.trim();
        Ok(When { text: text.to_owned(), rule: parse::rule(text)? })
    }
}

impl fmt::Display for When {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

serde_as_text!(When);

/// What a line means.
#[derive(Debug, Clone, PartialEq)]
pub enum Rule {
    /// At times of day, on some days.
    At {
        /// The days.
        days: Days,
        /// The times, in order.
        times: Vec<Minute>,
    },
    /// Once.
    Once(DateTime),
    /// Again and again within a part of some days.
    Every {
        /// How many seconds apart; at most a day.
        seconds: u32,
        /// The days on which the part begins.
        days: Weekdays,
        /// The part of the day; the whole day without one.
        window: Option<Window>,
    },
    /// As a crontab has it.
    Cron(Cron),
    /// When something happens.
    On(Trigger),
}

/// Something that happens, and that no clock knows beforehand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trigger {
    /// Something has changed, and was quiet since for so long.
    Change {
        /// How long.
        quiet: Duration,
    },
    /// A store of the job has appeared, and all of them are there.
    Connect,
    /// The service has started.
    Start,
}

/// A time of day, in minutes; 24:00 only as an end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Minute(u16);

impl Minute {
    /// The end of a day.
    pub const MIDNIGHT: Minute = Minute(24 * 60);

    /// A time of day, when it is one.
    pub fn new(hour: u16, minute: u16) -> Option<Minute> {
        (hour < 24 && minute < 60).then(|| Minute(hour * 60 + minute))
    }

    /// The hour, 0 to 24.
    pub fn hour(self) -> u16 {
        self.0 / 60
    }

    /// The minute of the hour.
    pub fn minute(self) -> u16 {
        self.0 % 60
    }

    /// This time on a day; 24:00 is the next day's midnight.
    pub fn on(self, date: Date) -> Option<DateTime> {
        let date = if self == Minute::MIDNIGHT { date.tomorrow().ok()? } else { date };
        let hour = i8::try_from(self.hour() % 24).ok()?;
        Some(date.to_datetime(Time::new(hour, i8::try_from(self.minute()).ok()?, 0, 0).ok()?))
    }
}

impl fmt::Display for Minute {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.hour(), self.minute())
    }
}

/// A part of the day, its end included. One that ends before it begins goes over midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// When it begins.
    pub from: Minute,
    /// When it ends.
    pub until: Minute,
}

impl Window {
    /// The day on which a window that began on `date` ends.
    fn last_day(&self, date: Date) -> Option<Date> {
        if self.until < self.from { date.tomorrow().ok() } else { Some(date) }
    }
}

impl Rule {
    /// The first moment after `moment`; `None` when there is none, and for what no clock knows.
    ///
    /// Moments come by days. What belongs to a day may lie on the next one (a window over midnight, a time that the clock skips),
    /// so the days before are asked too, and those after the first that answers.
    pub fn after(&self, moment: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        /// 29 February is at most eight years away.
        const FARTHEST: i32 = 9 * 366;
        /// A gap of a whole day, and a window over midnight.
        const BEFORE: i32 = 3;
        match self {
            Rule::On(_) => return None,
            Rule::Once(at) => return local(*at, zone).filter(|at| *at > moment),
            _ => {}
        }
        let today = zone.to_datetime(moment).date();
        let near = Clock::of(today, zone);
        // Where nobody moves the clocks, only a window over midnight goes beyond its day.
        let around = if near.is_calm() { 1 } else { BEFORE };
        let mut best: Option<(i32, Timestamp)> = None;
        for ahead in -around..FARTHEST {
            if best.is_some_and(|(found, _)| ahead > found + around) {
                break;
            }
            let Ok(date) = today.checked_add(ahead.days()) else { continue };
            let there = (!near.is_calm() || ahead > BEFORE).then(|| Clock::of(date, zone));
            let Some(at) = self.first_of(date, moment, there.as_ref().unwrap_or(&near)) else { continue };
            let found = best.map_or(ahead, |(found, _)| found);
            best = Some((found, best.map_or(at, |(_, best)| best.min(at))));
        }
        best.map(|(_, at)| at)
    }

    /// The first of a day's moments that is after `moment`.
    fn first_of(&self, date: Date, moment: Timestamp, clock: &Clock<'_>) -> Option<Timestamp> {
        match self {
            Rule::At { days, times } => {
                if !days.contain(date) {
                    return None;
                }
                clock.first(times.iter().filter_map(|time| time.on(date)), moment, Clock::local)
            }
            Rule::Every { seconds, days, window } => {
                if !days.contain(date) {
                    return None;
                }
                every(i64::from(*seconds), *window, date, moment, clock)
            }
            Rule::Cron(cron) => cron.first_of(date, moment, clock),
            Rule::Once(_) | Rule::On(_) => None,
        }
    }

    /// All moments after `moment`, soonest first.
    pub fn moments<'a>(
        &'a self,
        moment: Timestamp,
        zone: &'a TimeZone,
    ) -> impl Iterator<Item = Timestamp> + 'a {
        std::iter::successors(self.after(moment, zone), |last| self.after(*last, zone))
    }
}

/// The first moment after `moment` of those that are `step` seconds apart within a part of a day.
fn every(
    step: i64,
    window: Option<Window>,
    date: Date,
    moment: Timestamp,
    clock: &Clock<'_>,
) -> Option<Timestamp> {
    let local = |at: DateTime| clock.local(at).next();
    let (begin, last) = match window {
        Some(window) => {
            let end = local(window.until.on(window.last_day(date)?)?)?;
            (local(window.from.on(date)?)?, end.as_second())
        }
        // The next day's beginning is the next day's own.
        None => {
            let next = local(Minute::MIDNIGHT.on(date)?)?;
            (local(date.to_datetime(Time::midnight()))?, next.as_second() - 1)
        }
    };
    let begin = begin.as_second();
    let gone = moment.as_second() - begin;
    let at = if gone < 0 { begin } else { begin + (gone / step + 1) * step };
    (at <= last).then(|| Timestamp::from_second(at).ok()).flatten()
}

/// A local time as a moment: one that the clock skips with the offset before the gap, one that comes twice the first time.
pub fn local(at: DateTime, zone: &TimeZone) -> Option<Timestamp> {
    zone.to_ambiguous_timestamp(at).compatible().ok()
}

/// The clocks of a zone around a day. Where nobody moves them, local times and moments go the same way.
struct Clock<'a> {
    zone: &'a TimeZone,
    /// How far they are ahead, when they are not moved in the days around this one.
    calm: Option<Offset>,
}

impl<'a> Clock<'a> {
    fn of(date: Date, zone: &'a TimeZone) -> Clock<'a> {
        /// Three days more than any gap, and than a window over midnight.
        const AROUND: i64 = 6 * 86_400;
        let noon = Offset::UTC.to_timestamp(date.to_datetime(Time::midnight())).ok();
        let around = noon.and_then(|noon| {
            let begin = Timestamp::from_second(noon.as_second() - AROUND).ok()?;
            let moved = zone.following(begin).next().map(|moved| moved.timestamp().as_second());
            let far = moved.is_none_or(|moved| moved > noon.as_second() + AROUND);
            far.then(|| zone.to_offset(begin))
        });
        Clock { zone, calm: around }
    }

    fn is_calm(&self) -> bool {
        self.calm.is_some()
    }

    /// The moment that a local time stands for.
    fn local(&self, at: DateTime) -> impl Iterator<Item = Timestamp> + use<> {
        let moment = match self.calm {
            Some(offset) => offset.to_timestamp(at).ok(),
            None => local(at, self.zone),
        };
        moment.into_iter()
    }

    /// Every moment at which they show a local time: none, one, or two.
    fn shown(&self, at: DateTime) -> impl Iterator<Item = Timestamp> + use<> {
        let unmoved = |offset| AmbiguousOffset::Unambiguous { offset };
        let offset = self.calm.map_or_else(|| self.zone.to_ambiguous_timestamp(at).offset(), unmoved);
        let offsets = match offset {
            AmbiguousOffset::Unambiguous { offset } => [Some(offset), None],
            AmbiguousOffset::Gap { .. } => [None, None],
            AmbiguousOffset::Fold { before, after } => [Some(before), Some(after)],
        };
        offsets.into_iter().flatten().filter_map(move |offset| offset.to_timestamp(at).ok())
    }

    /// The first moment after another one of those that some local times, in their order, stand for.
    fn first<M: Iterator<Item = Timestamp>>(
        &self,
        times: impl Iterator<Item = DateTime>,
        moment: Timestamp,
        mut meant: impl FnMut(&Clock<'a>, DateTime) -> M,
    ) -> Option<Timestamp> {
        match self.calm {
            Some(offset) => {
                let now = offset.to_datetime(moment);
                // A clock shows no fractions of a minute here.
                times.filter(|at| *at >= now).flat_map(|at| meant(self, at)).find(|at| *at > moment)
            }
            None => {
                // No clock was ever moved by more than a day.
                let long_ago = self.zone.to_datetime(moment).checked_sub(26.hours()).unwrap_or(DateTime::MIN);
                let times = times.filter(|at| *at > long_ago);
                times.flat_map(|at| meant(self, at)).filter(|at| *at > moment).min()
            }
        }
    }
}
