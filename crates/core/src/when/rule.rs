//! What a line says, and when it is due.

use std::time::Duration;

use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::when::clock::{Clock, Minute, local};
use crate::when::cron::Cron;
use crate::when::days::{Days, Weekdays};

/// How long the sides must have been quiet after a change, when a line does not say.
pub const QUIET: Duration = Duration::from_secs(5);

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
    pub(super) fn last_day(&self, date: Date) -> Option<Date> {
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
    pub(super) fn first_of(&self, date: Date, moment: Timestamp, clock: &Clock<'_>) -> Option<Timestamp> {
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
pub(super) fn every(
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
