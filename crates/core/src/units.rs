//! Sizes, ages, shares and keywords as people write them: `10 MB`, `30 days`, `25%`, `keep`.
//!
//! Each type reads and writes the same text, so that a job file, an option and the output agree. Parsing errors say what
//! was expected.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use crate::entry::Stamp;

/// A value that was not understood, and what would have been.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{found:?} is not understood; expected {expected}")]
pub struct UnitError {
    /// What was written.
    pub found: String,
    /// What can be written instead, with an example.
    pub expected: &'static str,
}

impl UnitError {
    /// An error for `found`.
    pub fn new(found: &str, expected: &'static str) -> UnitError {
        UnitError { found: found.to_owned(), expected }
    }
}

/// Declares an enum whose variants are words of a job file.
macro_rules! keywords {
    ($(#[$meta:meta])* pub enum $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum $name { $($(#[$doc])* $variant),+ }

        impl $name {
            /// Every word, in the order in which they are explained.
            pub const WORDS: &'static [&'static str] = &[$($word),+];

            /// The word in job files and output.
            pub fn as_str(self) -> &'static str {
                match self { $($name::$variant => $word),+ }
            }
        }

        impl std::str::FromStr for $name {
            type Err = $crate::units::UnitError;
            fn from_str(text: &str) -> Result<Self, Self::Err> {
                match text {
                    $($word => Ok($name::$variant),)+
                    _ => Err($crate::units::UnitError::new(text, concat!("one of:" $(, " ", $word)+))),
                }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(self.as_str())
            }
        }

        $crate::units::serde_as_text!($name);
    };
}
pub(crate) use keywords;

/// Reads and writes a type in files by its `FromStr` and `Display`.
macro_rules! serde_as_text {
    ($name:ident) => {
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = <String as serde::Deserialize>::deserialize(deserializer)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}
pub(crate) use serde_as_text;

/// Splits `10 MB` into the number and the unit.
fn number_and_unit(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let number: f64 = text[..end].parse().ok()?;
    number.is_finite().then_some((number, text[end..].trim()))
}

/// A number of bytes, written `500 kB`, `10 MB`, `1.5 GiB` or plain `4096`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Size(u64);

const SIZE_EXPECTED: &str = "a size such as \"500 kB\", \"10 MB\" or \"1.5 GiB\"";

impl Size {
    /// A size from bytes.
    pub const fn from_bytes(bytes: u64) -> Size {
        Size(bytes)
    }

    /// The number of bytes.
    pub fn bytes(self) -> u64 {
        self.0
    }
}

impl FromStr for Size {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Size, UnitError> {
        let wrong = || UnitError::new(text, SIZE_EXPECTED);
        let (number, unit) = number_and_unit(text).ok_or_else(wrong)?;
        let factor: u64 = match unit.to_ascii_lowercase().as_str() {
            "" | "b" | "byte" | "bytes" => 1,
            "k" | "kb" => 1_000,
            "m" | "mb" => 1_000_000,
            "g" | "gb" => 1_000_000_000,
            "t" | "tb" => 1_000_000_000_000,
            "kib" => 1 << 10,
            "mib" => 1 << 20,
            "gib" => 1 << 30,
            "tib" => 1 << 40,
            _ => return Err(wrong()),
        };
        let bytes = number * factor as f64;
        if bytes < u64::MAX as f64 { Ok(Size(bytes.round() as u64)) } else { Err(wrong()) }
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const UNITS: [(u64, &str); 8] = [
            (1 << 40, "TiB"),
            (1_000_000_000_000, "TB"),
            (1 << 30, "GiB"),
            (1_000_000_000, "GB"),
            (1 << 20, "MiB"),
            (1_000_000, "MB"),
            (1 << 10, "KiB"),
            (1_000, "kB"),
        ];
        match UNITS.iter().find(|(factor, _)| self.0 >= *factor && self.0.is_multiple_of(*factor)) {
            Some((factor, unit)) => write!(f, "{} {unit}", self.0 / factor),
            None => write!(f, "{} B", self.0),
        }
    }
}

serde_as_text!(Size);

/// A length of time, written `15m`, `2 hours`, `30 days`, `6 weeks` or `1 year` (365 days).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Age(u64);

const AGE_EXPECTED: &str = "a length of time such as \"12 hours\", \"30 days\" or \"6 weeks\"";

impl Age {
    /// How long it is.
    pub fn length(self) -> std::time::Duration {
        std::time::Duration::from_secs(self.0)
    }

    /// So many days.
    pub fn from_days(days: u32) -> Age {
        Age(u64::from(days) * 86_400)
    }

    /// So many seconds.
    pub const fn from_seconds(seconds: u64) -> Age {
        Age(seconds)
    }

    /// The length as a duration.
    pub fn duration(self) -> Duration {
        Duration::from_secs(self.0)
    }
}

impl FromStr for Age {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Age, UnitError> {
        let wrong = || UnitError::new(text, AGE_EXPECTED);
        let (number, unit) = number_and_unit(text).ok_or_else(wrong)?;
        let factor: u64 = match unit.to_ascii_lowercase().as_str() {
            "s" | "second" | "seconds" => 1,
            "m" | "min" | "minute" | "minutes" => 60,
            "h" | "hour" | "hours" => 3_600,
            "d" | "day" | "days" => 86_400,
            "w" | "week" | "weeks" => 604_800,
            "month" | "months" => 30 * 86_400,
            "y" | "year" | "years" => 365 * 86_400,
            _ => return Err(wrong()),
        };
        let seconds = number * factor as f64;
        // A thousand years is further back than any file, and keeps the arithmetic far from overflow.
        if seconds <= 1_000.0 * 365.0 * 86_400.0 { Ok(Age(seconds.round() as u64)) } else { Err(wrong()) }
    }
}

impl fmt::Display for Age {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const UNITS: [(u64, &str); 4] = [(86_400, "day"), (3_600, "hour"), (60, "minute"), (1, "second")];
        let (count, unit) = UNITS
            .iter()
            .find(|(factor, _)| self.0 >= *factor && self.0.is_multiple_of(*factor))
            .map_or((self.0, "second"), |(factor, unit)| (self.0 / factor, unit));
        write!(f, "{count} {unit}{}", if count == 1 { "" } else { "s" })
    }
}

serde_as_text!(Age);

/// A point in time for a filter: so long ago, or a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Moment {
    /// Counted back from now.
    Ago(Age),
    /// The beginning of a day, local time.
    Date(jiff::civil::Date),
}

impl Moment {
    /// The point in time, counted from `now`; a date begins at local midnight.
    pub fn resolve(&self, now: Stamp) -> Stamp {
        match self {
            Moment::Ago(age) => Stamp::new(now.seconds() - age.0 as i64, now.nanos()),
            Moment::Date(date) => {
                let begin = date.to_zoned(jiff::tz::TimeZone::system()).map(|zoned| zoned.timestamp());
                Stamp::new(begin.map_or(0, |timestamp| timestamp.as_second()), 0)
            }
        }
    }
}

impl FromStr for Moment {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Moment, UnitError> {
        if let Ok(date) = text.trim().parse() {
            return Ok(Moment::Date(date));
        }
        let wrong = |_| UnitError::new(text, "an age such as \"30 days\", or a date such as \"2031-05-04\"");
        text.parse().map(Moment::Ago).map_err(wrong)
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Moment::Ago(age) => age.fmt(f),
            Moment::Date(date) => date.fmt(f),
        }
    }
}

serde_as_text!(Moment);

/// A limit as a share of a whole, or none: `25%`, `off`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Share {
    /// At most this many hundredths.
    Percent(f64),
    /// No limit.
    Off,
}

impl Share {
    /// Whether `part` of `whole` is over the limit.
    pub fn is_exceeded(self, part: u64, whole: u64) -> bool {
        match self {
            Share::Percent(percent) => part as f64 * 100.0 > whole as f64 * percent,
            Share::Off => false,
        }
    }
}

fn percent_of(text: &str) -> Option<f64> {
    let number: f64 = text.trim().strip_suffix('%')?.trim().parse().ok()?;
    (0.0..=100.0).contains(&number).then_some(number)
}

impl FromStr for Share {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Share, UnitError> {
        if text == "off" {
            return Ok(Share::Off);
        }
        let expected = "a share from \"0%\" to \"100%\", or \"off\"";
        percent_of(text).map(Share::Percent).ok_or_else(|| UnitError::new(text, expected))
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Share::Percent(percent) => write!(f, "{percent}%"),
            Share::Off => f.write_str("off"),
        }
    }
}

serde_as_text!(Share);

/// How much room something may take: a share of the file system, a size, or no limit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Room {
    /// Hundredths of the file system.
    Percent(f64),
    /// So many bytes.
    Size(Size),
    /// No limit.
    Off,
}

impl Room {
    /// The limit in bytes on a file system of `total` bytes; `None` without a limit.
    pub fn limit(self, total: u64) -> Option<u64> {
        match self {
            Room::Percent(percent) => Some((total as f64 * percent / 100.0) as u64),
            Room::Size(size) => Some(size.bytes()),
            Room::Off => None,
        }
    }
}

impl FromStr for Room {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Room, UnitError> {
        if text == "off" {
            return Ok(Room::Off);
        }
        if let Some(percent) = percent_of(text) {
            return Ok(Room::Percent(percent));
        }
        let wrong = |_| UnitError::new(text, "a share such as \"10%\", a size such as \"20 GB\", or \"off\"");
        text.parse().map(Room::Size).map_err(wrong)
    }
}

impl fmt::Display for Room {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Room::Percent(percent) => write!(f, "{percent}%"),
            Room::Size(size) => size.fmt(f),
            Room::Off => f.write_str("off"),
        }
    }
}

serde_as_text!(Room);

#[cfg(test)]
mod tests {
    use super::*;

    /// Each text parses, and is written as the second one, which parses to the same value.
    fn round_trips<T: FromStr<Err = UnitError> + fmt::Display + PartialEq + fmt::Debug>(
        cases: &[(&str, &str)],
    ) {
        for (text, canonical) in cases {
            let value: T = text.parse().unwrap();
            assert_eq!(value.to_string(), *canonical, "{text}");
            assert_eq!(canonical.parse::<T>().unwrap(), value);
        }
    }

    #[test]
    fn values_are_read_as_people_write_them() {
        round_trips::<Size>(&[
            ("4096", "4 KiB"),
            ("10MB", "10 MB"),
            ("1.5 GiB", "1536 MiB"),
            ("0", "0 B"),
            ("7 b", "7 B"),
        ]);
        round_trips::<Age>(&[
            ("30 days", "30 days"),
            ("1d", "1 day"),
            ("90m", "90 minutes"),
            ("2 weeks", "14 days"),
        ]);
        round_trips::<Share>(&[("25%", "25%"), ("off", "off"), ("0 %", "0%")]);
        round_trips::<Room>(&[("10%", "10%"), ("20 GB", "20 GB"), ("off", "off")]);
        round_trips::<Moment>(&[("30 days", "30 days"), ("2031-05-04", "2031-05-04")]);
    }

    #[test]
    fn wrong_values_say_what_is_expected() {
        assert!("ten".parse::<Size>().unwrap_err().to_string().contains("10 MB"));
        assert!("-5 MB".parse::<Size>().is_err() && "1e400 TB".parse::<Size>().is_err());
        assert!("30 fortnights".parse::<Age>().unwrap_err().to_string().contains("30 days"));
        assert!("99999999 years".parse::<Age>().is_err());
        assert!("125%".parse::<Share>().is_err() && "25".parse::<Share>().is_err());
        assert_eq!(
            "perhaps".parse::<crate::filter::TakeOrSkip>().unwrap_err().to_string(),
            "\"perhaps\" is not understood; expected one of: take skip"
        );
    }

    #[test]
    fn shares_are_strict_limits() {
        let quarter: Share = "25%".parse().unwrap();
        assert!(!quarter.is_exceeded(25, 100) && quarter.is_exceeded(26, 100) && quarter.is_exceeded(1, 0));
        assert!(!Share::Off.is_exceeded(100, 100));
    }
}
