//! What was done on each day, by the calendar of the zone.

use std::collections::BTreeMap;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use reedhook_record::RunRow;

use crate::sums::{Period, Sum};

/// A day, with the runs that began on it.
#[derive(Debug, Clone, PartialEq)]
pub struct Day {
    /// Which.
    pub date: Date,
    /// What they came to.
    pub sum: Sum,
}

/// No more days than these are told one by one: thirty years.
const LONGEST: usize = 11_000;

/// Days to which runs are added.
pub struct Days {
    zone: TimeZone,
    sums: BTreeMap<Date, Sum>,
}

impl Days {
    /// None yet, by the calendar of this zone.
    pub fn of(zone: &TimeZone) -> Days {
        Days { zone: zone.clone(), sums: BTreeMap::new() }
    }

    fn date(&self, at: Timestamp) -> Date {
        at.to_zoned(self.zone.clone()).date()
    }

    /// Takes a run into account.
    pub fn add(&mut self, run: &RunRow) {
        let began = Timestamp::from_millisecond(run.started_ms).unwrap_or_default();
        self.sums.entry(self.date(began)).or_default().add(run);
    }

    /// The days of a time, also those on which nothing ran. What is before the first run is left out, but for a week.
    pub fn within(mut self, period: Period) -> Vec<Day> {
        let (first, last) = (self.date(period.since), self.date(period.until));
        let week_ago = last.checked_sub(6.days()).unwrap_or(last);
        let first = match self.sums.keys().next() {
            Some(ran) if *ran > first => (*ran).min(week_ago).max(first),
            Some(_) => first,
            None => week_ago.max(first),
        };
        let days = std::iter::successors(Some(first), |day| day.tomorrow().ok());
        days.take_while(|day| *day <= last)
            .take(LONGEST)
            .map(|date| Day { date, sum: self.sums.remove(&date).unwrap_or_default() })
            .collect()
    }
}
