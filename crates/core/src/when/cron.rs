//! Lines of a crontab, as POSIX has its fields: minute, hour, day of the month, month, day of the week.
//!
//! When both kinds of days are restricted, either will do (POSIX.1-2024, `crontab`). An hour of `*` or `*/n` follows the minutes
//! that clocks really show: an hour that comes twice is taken twice, one that is skipped not at all. A named hour is a time of
//! day as in all other lines.

use jiff::Timestamp;
use jiff::civil::{Date, Time};

use super::days::{MonthDays, Weekdays};
use crate::when::clock::Clock;

/// The fields of a crontab line.
#[derive(Debug, Clone, PartialEq)]
pub struct Cron {
    /// Minutes, a bit each.
    minutes: u64,
    /// Hours, a bit each.
    hours: u32,
    /// The hours are those that clocks show.
    real: bool,
    months: u16,
    month_days: Option<MonthDays>,
    weekdays: Option<Weekdays>,
}

/// What a field may hold.
struct Field {
    name: &'static str,
    least: u8,
    most: u8,
}

const FIELDS: [Field; 5] = [
    Field { name: "minute", least: 0, most: 59 },
    Field { name: "hour", least: 0, most: 23 },
    Field { name: "day of the month", least: 1, most: 31 },
    Field { name: "month", least: 1, most: 12 },
    // Sunday is 0, and for many people 7.
    Field { name: "day of the week", least: 0, most: 7 },
];

impl Cron {
    /// Reads the five fields; an error names the one that is wrong, and says why.
    pub(super) fn parse(words: &[&str]) -> Result<Cron, (usize, String)> {
        let mut bits = [0_u64; 5];
        for (at, (field, word)) in FIELDS.iter().zip(words).enumerate() {
            bits[at] = field.parse(word).ok_or_else(|| {
                let (name, least, most) =
                    (field.name, field.least, field.most.min(if at == 4 { 6 } else { 255 }));
                (
                    at,
                    format!("the {name} goes from {least} to {most}, as a number, a list, a range, * or */n"),
                )
            })?;
        }
        let [minutes, hours, days, months, weekdays] = bits;
        let restricted = |at: usize| words[at] != "*";
        let month_days = restricted(2).then(|| {
            let mut set = MonthDays::default();
            (1..=31).filter(|day| days & (1 << day) != 0).for_each(|day| set.add(day));
            set
        });
        let weekdays = restricted(4).then(|| {
            let mut set = Weekdays::NONE;
            // Sunday is 0 here, and the last day of the week there.
            (0..=7_usize).filter(|day| weekdays & (1 << day) != 0).for_each(|day| set.add(day + 6));
            set
        });
        let cron = Cron {
            minutes,
            hours: u32::try_from(hours).unwrap_or_default(),
            real: words[1].starts_with('*'),
            months: u16::try_from(months).unwrap_or_default(),
            month_days,
            weekdays,
        };
        if !cron.ever_comes() {
            return Err((2, "none of these months has such a day".to_owned()));
        }
        Ok(cron)
    }

    /// Whether there is such a day at all.
    fn ever_comes(&self) -> bool {
        let longest = |month: u8| match month {
            2 => 29,
            4 | 6 | 9 | 11 => 30,
            _ => 31,
        };
        let (Some(days), None) = (self.month_days, self.weekdays) else { return true };
        days.numbers().any(|day| self.months().any(|month| day <= longest(month)))
    }

    /// Whether a date is one of its days.
    pub fn contains(&self, date: Date) -> bool {
        let of_month = self.month_days.map(|days| days.contain(date));
        let of_week = self.weekdays.map(|days| days.contain(date));
        let month = self.months & (1 << date.month()) != 0;
        month
            && match (of_month, of_week) {
                (Some(one), Some(other)) => one || other,
                (Some(only), None) | (None, Some(only)) => only,
                (None, None) => true,
            }
    }

    /// The months, 1 to 12.
    pub fn months(&self) -> impl Iterator<Item = u8> + '_ {
        (1..=12).filter(|month| self.months & (1 << month) != 0)
    }

    /// From 0 to 23, in their order.
    pub fn hours(&self) -> impl Iterator<Item = i8> + '_ {
        (0..24).filter(|hour| self.hours & (1 << hour) != 0)
    }

    /// The minutes of its hours.
    pub fn minutes(&self) -> impl Iterator<Item = i8> + '_ {
        (0..60).filter(|minute| self.minutes & (1 << minute) != 0)
    }

    /// Its days of the month, when they are restricted.
    pub fn month_days(&self) -> Option<MonthDays> {
        self.month_days
    }

    /// Its days of the week, when they are restricted.
    pub fn weekdays(&self) -> Option<Weekdays> {
        self.weekdays
    }

    /// The first of a day's moments that is after `moment`.
    pub(super) fn first_of(&self, date: Date, moment: Timestamp, clock: &Clock<'_>) -> Option<Timestamp> {
        if !self.contains(date) {
            return None;
        }
        let times = self.hours().flat_map(|hour| self.minutes().map(move |minute| (hour, minute)));
        let times =
            times.filter_map(|(hour, minute)| Some(date.to_datetime(Time::new(hour, minute, 0, 0).ok()?)));
        match self.real {
            true => clock.first(times, moment, Clock::shown),
            false => clock.first(times, moment, Clock::local),
        }
    }
}

impl Field {
    /// The values of a field, a bit each.
    fn parse(&self, word: &str) -> Option<u64> {
        let mut bits = 0_u64;
        for part in word.split(',') {
            let (range, step) = match part.split_once('/') {
                Some((range, step)) => (range, number(step).filter(|step| *step > 0)?),
                None => (part, 1),
            };
            let (first, last) = match range.split_once('-') {
                // A list with a star in it would be the star alone.
                None if range == "*" && !word.contains(',') => {
                    (self.least, self.most.min(if self.most == 7 { 6 } else { 255 }))
                }
                Some((first, last)) => (number(first)?, number(last)?),
                None if part.contains('/') => return None,
                None => (number(range)?, number(range)?),
            };
            if first < self.least || last > self.most || first > last {
                return None;
            }
            (first..=last).step_by(usize::from(step)).for_each(|value| bits |= 1 << value);
        }
        Some(bits)
    }
}

fn number(word: &str) -> Option<u8> {
    word.bytes().all(|byte| byte.is_ascii_digit()).then(|| word.parse().ok()).flatten()
}
