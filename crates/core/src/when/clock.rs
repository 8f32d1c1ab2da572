//! Times of day in a zone, and moments.

use std::fmt;

use jiff::civil::{Date, DateTime, Time};
use jiff::tz::{AmbiguousOffset, Offset, TimeZone};
use jiff::{Timestamp, ToSpan};

/// A time of day, in minutes; 24:00 only as an end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Minute(pub(super) u16);

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

/// A local time as a moment: one that the clock skips with the offset before the gap, one that comes twice the first time.
pub fn local(at: DateTime, zone: &TimeZone) -> Option<Timestamp> {
    zone.to_ambiguous_timestamp(at).compatible().ok()
}

/// The clocks of a zone around a day. Where nobody moves them, local times and moments go the same way.
pub(super) struct Clock<'a> {
    pub(super) zone: &'a TimeZone,
    /// How far they are ahead, when they are not moved in the days around this one.
    pub(super) calm: Option<Offset>,
}

impl<'a> Clock<'a> {
    pub(super) fn of(date: Date, zone: &'a TimeZone) -> Clock<'a> {
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

    pub(super) fn is_calm(&self) -> bool {
        self.calm.is_some()
    }

    /// The moment that a local time stands for.
    pub(super) fn local(&self, at: DateTime) -> impl Iterator<Item = Timestamp> + use<> {
        let moment = match self.calm {
            Some(offset) => offset.to_timestamp(at).ok(),
            None => local(at, self.zone),
        };
        moment.into_iter()
    }

    /// Every moment at which they show a local time: none, one, or two.
    pub(super) fn shown(&self, at: DateTime) -> impl Iterator<Item = Timestamp> + use<> {
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
    pub(super) fn first<M: Iterator<Item = Timestamp>>(
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
