//! What was done on each day, by the calendar of the zone.

use std::collections::BTreeMap;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use reedhook_record::RunRow;

use crate::figures::{Period, Sum};

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

/// The days of a time, also those on which nothing ran. What is before the first run is left out, but for a week.
pub fn by_day(runs: &[RunRow], period: Period, zone: &TimeZone) -> Vec<Day> {
    let date = |at: Timestamp| at.to_zoned(zone.clone()).date();
    let mut sums: BTreeMap<Date, Sum> = BTreeMap::new();
    for run in runs {
        let began = Timestamp::from_millisecond(run.started_ms).unwrap_or_default();
        sums.entry(date(began)).or_default().add(run);
    }
    let last = date(period.until);
    let first = date(period.since);
    let week_ago = last.checked_sub(6.days()).unwrap_or(last);
    let first = match sums.keys().next() {
        Some(ran) if *ran > first => (*ran).min(week_ago).max(first),
        Some(_) => first,
        None => week_ago.max(first),
    };
    let days = std::iter::successors(Some(first), |day| day.tomorrow().ok());
    days.take_while(|day| *day <= last)
        .take(LONGEST)
        .map(|date| Day { date, sum: sums.remove(&date).unwrap_or_default() })
        .collect()
}
