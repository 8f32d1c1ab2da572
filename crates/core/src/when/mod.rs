//! When a job is due: a line as people write it, and the moments that it comes to.
//!
//! [`When`] is one line of a job's `when`: its words, and the [`Rule`] that they mean. [`Rule::after`] gives the first moment
//! after another one, in a zone; nothing here asks a clock. Rules that no clock knows ([`Trigger`]) have no moments.
//!
//! Times of day are local. As RFC 5545 (3.3.5) has it, a time that the clock skips is taken with the offset before the gap, so
//! 02:30 becomes 03:30, and of one that comes twice the first is taken. Lengths (`every 2h`) are elapsed time.

pub(crate) mod clock;
mod cron;
mod days;
mod keys;
mod parse;
pub(crate) mod rule;
#[cfg(test)]
mod tests;

pub use crate::when::clock::{Minute, local};
pub use crate::when::rule::{QUIET, Rule, Trigger, Window};
pub use cron::Cron;
pub use days::{Days, MonthDays, Weekdays};
pub use keys::{Finally, Missed, OnBattery, Retry};
pub use parse::WhenError;

use std::fmt;
use std::str::FromStr;

use crate::units::serde_as_text;

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
