//! Days: of the week, of the month, every so many.

use jiff::civil::{Date, Weekday};

/// Days of the week.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Weekdays(u8);

impl Weekdays {
    /// Every day.
    pub const ALL: Weekdays = Weekdays(0x7f);
    /// None yet.
    pub(super) const NONE: Weekdays = Weekdays(0);

    /// Their names, as lines have them, Monday first.
    pub const NAMES: [&'static str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

    /// Adds a day by its place in the week, Monday being 0.
    pub(super) fn add(&mut self, place: usize) {
        self.0 |= 1 << (place % 7);
    }

    /// Whether a date is on one of them.
    pub fn contain(self, date: Date) -> bool {
        self.has(date.weekday())
    }

    fn has(self, day: Weekday) -> bool {
        self.0 & (1 << day.to_monday_zero_offset()) != 0
    }

    /// The days after them.
    pub fn day_after(self) -> Weekdays {
        Weekdays((self.0 << 1 | self.0 >> 6) & 0x7f)
    }

    /// Their places in the week, Monday being 0.
    pub fn places(self) -> impl Iterator<Item = usize> {
        (0..7).filter(move |place| self.0 & (1 << place) != 0)
    }
}

/// Days of the month.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct MonthDays {
    numbers: u32,
    /// The last one, whatever its number.
    pub last: bool,
}

impl MonthDays {
    /// Adds a day by its number, 1 to 31.
    pub(super) fn add(&mut self, day: u8) {
        self.numbers |= 1 << day;
    }

    /// Whether a date is on one of them.
    pub fn contain(self, date: Date) -> bool {
        self.numbers & (1 << date.day().unsigned_abs()) != 0
            || (self.last && date.day() == date.days_in_month())
    }

    /// The numbers.
    pub fn numbers(self) -> impl Iterator<Item = u8> {
        (1..=31).filter(move |day| self.numbers & (1 << day) != 0)
    }
}

/// The days of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Days {
    /// Of the week.
    Week(Weekdays),
    /// Of the month; a month without such a day is left out.
    Month(MonthDays),
    /// Those whose number since 1970-01-01 divides by this.
    Nth(u16),
}

impl Days {
    /// Whether a date is one of them.
    pub fn contain(self, date: Date) -> bool {
        match self {
            Days::Week(days) => days.contain(date),
            Days::Month(days) => days.contain(date),
            Days::Nth(n) => number(date).rem_euclid(i64::from(n)) == 0,
        }
    }
}

/// The number of a date, counted from 1970-01-01.
pub(super) fn number(date: Date) -> i64 {
    let since = Date::constant(1970, 1, 1).duration_until(date);
    since.as_hours().div_euclid(24)
}
