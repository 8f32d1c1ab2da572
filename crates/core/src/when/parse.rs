//! Reading lines. An error points at the word that is wrong and shows the nearest line that is right.

use std::fmt;
use std::time::Duration;

use jiff::civil::Date;

use super::cron::Cron;
use super::days::{Days, MonthDays, Weekdays};
use crate::when::clock::Minute;
use crate::when::rule::{QUIET, Rule, Trigger, Window};

/// A line that was not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub struct WhenError {
    /// The whole line, as it was written.
    pub line: String,
    /// The word that is wrong; empty when one is missing.
    pub word: String,
    /// What is wrong about it.
    pub why: String,
    /// The nearest line that is right.
    pub nearest: String,
}

impl fmt::Display for WhenError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let WhenError { line, word, why, nearest } = self;
        match (word.is_empty(), word == line) {
            (true, _) => write!(f, "\"{line}\": {why}; write for example \"{nearest}\""),
            (_, true) => write!(f, "\"{word}\" is not understood: {why}; write for example \"{nearest}\""),
            _ => write!(
                f,
                "\"{word}\" in \"{line}\" is not understood: {why}; write for example \"{nearest}\""
            ),
        }
    }
}

/// What went wrong at a word: its place, why, and what would be right in its place.
struct Wrong {
    at: usize,
    why: String,
    /// Put in the word's place; without it, the whole line is shown as it is meant to be.
    right: Option<String>,
    form: &'static str,
}

type Read<T> = Result<T, Wrong>;

/// The first words that begin a line.
const BEGINNINGS: [&str; 6] = ["daily", "monthly", "once", "every", "cron", "on"];

const TIME: &str = "a time of day goes from 00:00 to 23:59";

/// What a line means.
pub(super) fn rule(line: &str) -> Result<Rule, WhenError> {
    let lower = line.to_lowercase();
    let words: Vec<&str> = lower.split_whitespace().collect();
    read(&words).map_err(|wrong| told(line, &words, wrong))
}

fn told(line: &str, words: &[&str], wrong: Wrong) -> WhenError {
    let word = words.get(wrong.at).copied().unwrap_or_default();
    let corrected = wrong.right.map(|right| {
        let mut words: Vec<&str> = words.to_vec();
        words[wrong.at] = &right;
        words.join(" ")
    });
    // Only what would be understood is worth showing.
    let is_right = |line: &String| read(&line.split_whitespace().collect::<Vec<_>>()).is_ok();
    let nearest = corrected.filter(is_right).unwrap_or_else(|| wrong.form.to_owned());
    WhenError { line: line.to_owned(), word: word.to_owned(), why: wrong.why, nearest }
}

fn read(words: &[&str]) -> Read<Rule> {
    match words {
        [] => Err(amiss(0, "the line is empty", "daily 18:00")),
        ["daily", ..] => at(Days::Week(Weekdays::ALL), words, 1, "daily 18:00"),
        ["monthly", ..] => {
            let form = "monthly 1,15 03:00";
            let days = words.get(1).ok_or_else(|| amiss(1, "the days of the month are missing", form))?;
            at(Days::Month(month_days(days)?), words, 2, form)
        }
        ["once", ..] => once(words),
        ["every", ..] => every(words),
        ["cron", fields @ ..] => cron(fields),
        ["on", ..] => on(words),
        [first, ..]
            if weekdays(first, 0).is_ok() || first.contains([',', '-']) || close_to_a_weekday(first) =>
        {
            at(Days::Week(weekdays(first, 0)?), words, 1, "mon-fri 18:00")
        }
        [first, ..] => {
            let near = nearest(first, &BEGINNINGS);
            let why = "a line begins with daily, monthly, once, every, cron, on, or days such as mon,thu";
            Err(Wrong { at: 0, why: why.to_owned(), right: near, form: "daily 18:00" })
        }
    }
}

fn close_to_a_weekday(word: &str) -> bool {
    Weekdays::NAMES.iter().any(|name| word.starts_with(name)) && !BEGINNINGS.contains(&word)
}

/// A word that is missing, or stands where none may.
fn amiss(at: usize, why: &str, form: &'static str) -> Wrong {
    Wrong { at, why: why.to_owned(), right: None, form }
}

fn nothing_more(words: &[&str], at: usize, form: &'static str) -> Read<()> {
    match words.len() > at {
        true => Err(amiss(at, "nothing comes after what was said before it", form)),
        false => Ok(()),
    }
}

/// Days, and the times on them.
fn at(days: Days, words: &[&str], from: usize, form: &'static str) -> Read<Rule> {
    let word = words.get(from).ok_or_else(|| amiss(from, "the time is missing", form))?;
    let mut times = Vec::new();
    for time in word.split(',') {
        times.push(time_of(time).ok_or_else(|| {
            let right = mended_time(time).map(|right| word.replace(time, &right));
            Wrong { at: from, why: TIME.to_owned(), right, form }
        })?);
    }
    times.sort_unstable();
    times.dedup();
    nothing_more(words, from + 1, form)?;
    Ok(Rule::At { days, times })
}

fn once(words: &[&str]) -> Read<Rule> {
    const FORM: &str = "once 2031-05-04 18:00";
    let day = words.get(1).ok_or_else(|| amiss(1, "the day is missing", FORM))?;
    let date: Date =
        day.parse().map_err(|_| amiss(1, "a day is written year-month-day, and has to exist", FORM))?;
    let time = words.get(2).ok_or_else(|| amiss(2, "the time is missing", FORM))?;
    let time = time_of(time).ok_or_else(|| Wrong {
        at: 2,
        why: TIME.to_owned(),
        right: mended_time(time),
        form: FORM,
    })?;
    nothing_more(words, 3, FORM)?;
    time.on(date).map(Rule::Once).ok_or_else(|| amiss(1, "there is no such moment", FORM))
}

fn every(words: &[&str]) -> Read<Rule> {
    const FORM: &str = "every 15m";
    const DAYS: &str = "every 2d 03:00";
    const FULL: &str = "every 30m mon-fri 09:00-17:00";
    const DAY: u32 = 86_400;
    let word = words.get(1).ok_or_else(|| amiss(1, "how often is missing", FORM))?;
    let (number, unit) = length(word).ok_or_else(|| {
        let digits: String = word.chars().take_while(char::is_ascii_digit).collect();
        let unit = word[digits.len()..].chars().next().filter(|unit| "smhd".contains(*unit)).unwrap_or('m');
        let right = (!digits.is_empty()).then(|| format!("{digits}{unit}"));
        Wrong { at: 1, why: "a length is a number above 0 and s, m, h or d".to_owned(), right, form: FORM }
    })?;
    if unit == 'd' {
        let n = u16::try_from(number).map_err(|_| amiss(1, "so many days are too many", DAYS))?;
        return at(Days::Nth(n), words, 2, DAYS);
    }
    let each = match unit {
        's' => 1,
        'm' => 60,
        _ => 3600,
    };
    let seconds = number.checked_mul(each).filter(|seconds| *seconds <= DAY);
    let seconds = seconds
        .ok_or_else(|| amiss(1, "it begins anew each day, so it is at most 24h; count in days", DAYS))?;
    let (days, next) = match words.get(2) {
        Some(word) if word.starts_with(char::is_alphabetic) => (weekdays(word, 2)?, 3),
        _ => (Weekdays::ALL, 2),
    };
    let window = words.get(next).map(|word| window(word, next)).transpose()?;
    nothing_more(words, next + 1, FULL)?;
    Ok(Rule::Every { seconds, days, window })
}

fn window(word: &str, at: usize) -> Read<Window> {
    const FORM: &str = "every 2h 08:00-18:00";
    let wrong = |why: &str, right| Wrong { at, why: why.to_owned(), right, form: FORM };
    let Some((from, until)) = word.split_once('-') else {
        return Err(wrong("a part of the day has a beginning and an end", None));
    };
    let end = |word: &str| if word == "24:00" { Some(Minute::MIDNIGHT) } else { time_of(word) };
    let (Some(from), Some(until)) = (time_of(from), end(until)) else {
        let mended = |word: &str| time_of(word).map(|_| word.to_owned()).or_else(|| mended_time(word));
        let right = mended(from).zip(mended(until)).map(|(from, until)| format!("{from}-{until}"));
        return Err(wrong(TIME, right));
    };
    if from == until {
        return Err(wrong("it ends when it begins", None));
    }
    Ok(Window { from, until })
}

fn cron(fields: &[&str]) -> Read<Rule> {
    const FORM: &str = "cron 5 18 * * 1-5";
    if fields.len() != 5 {
        let at = if fields.len() > 5 { 6 } else { fields.len() + 1 };
        let why = "a crontab line has five fields: minute, hour, day of the month, month, day of the week";
        return Err(amiss(at, why, FORM));
    }
    Cron::parse(fields).map(Rule::Cron).map_err(|(at, why)| Wrong {
        at: at + 1,
        why,
        right: None,
        form: FORM,
    })
}

fn on(words: &[&str]) -> Read<Rule> {
    const FORM: &str = "on change after 30s";
    let event = words.get(1).ok_or_else(|| amiss(1, "what happens is missing", "on change"))?;
    let trigger = match *event {
        "change" => Trigger::Change { quiet: QUIET },
        "connect" => Trigger::Connect,
        "start" => Trigger::Start,
        word => {
            let right = nearest(word, &["change", "connect", "start"]);
            let why = "it is change, connect or start".to_owned();
            return Err(Wrong { at: 1, why, right, form: "on change" });
        }
    };
    let Trigger::Change { .. } = trigger else {
        nothing_more(words, 2, if trigger == Trigger::Start { "on start" } else { "on connect" })?;
        return Ok(Rule::On(trigger));
    };
    if words.len() == 2 {
        return Ok(Rule::On(trigger));
    }
    if words[2] != "after" {
        let right = nearest(words[2], &["after"]);
        return Err(Wrong {
            at: 2,
            why: "only \"after\" and a length come here".to_owned(),
            right,
            form: FORM,
        });
    }
    let word = words.get(3).ok_or_else(|| amiss(3, "how long is missing", FORM))?;
    let quiet = length(word).and_then(|(number, unit)| {
        let each = match unit {
            's' => 1,
            'm' => 60,
            'h' => 3600,
            _ => return None,
        };
        Some(Duration::from_secs(u64::from(number) * each)).filter(|quiet| quiet.as_secs() <= 86_400)
    });
    let quiet =
        quiet.ok_or_else(|| amiss(3, "a length is a number above 0 and s, m or h, at most a day", FORM))?;
    nothing_more(words, 4, FORM)?;
    Ok(Rule::On(Trigger::Change { quiet }))
}

/// `15m`: the number and the unit.
fn length(word: &str) -> Option<(u32, char)> {
    let unit = word.chars().last().filter(|unit| "smhd".contains(*unit))?;
    let digits = &word[..word.len() - 1];
    let plain = digits.bytes().all(|byte| byte.is_ascii_digit());
    let number = plain.then(|| digits.parse().ok()).flatten().filter(|number| *number > 0)?;
    Some((number, unit))
}

fn time_of(word: &str) -> Option<Minute> {
    let (hour, minute) = word.split_once(':')?;
    let plain = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    if !(1..=2).contains(&hour.len()) || minute.len() != 2 || !plain(hour) || !plain(minute) {
        return None;
    }
    Minute::new(hour.parse().ok()?, minute.parse().ok()?)
}

/// What was meant by `18.00`, `1800`, `6pm` or `18`.
fn mended_time(word: &str) -> Option<String> {
    let (digits, later) = match (word.strip_suffix("pm"), word.strip_suffix("am")) {
        (Some(rest), _) => (rest, 12),
        (_, Some(rest)) => (rest, 0),
        _ => (word.strip_suffix('h').unwrap_or(word), 0),
    };
    let digits = digits.trim().replace(['.', 'h', ';'], ":");
    let (hour, minute) = match digits.split_once(':') {
        Some((hour, minute)) => (hour, minute),
        None if digits.len() > 2 && digits.is_ascii() => digits.split_at(digits.len() - 2),
        None => (digits.as_str(), "00"),
    };
    let hour: u16 = hour.parse().ok()?;
    let hour = if later == 12 && hour < 12 { hour + 12 } else { hour };
    let minute = minute.parse().ok()?;
    Minute::new(hour, minute).map(|time| time.to_string())
}

/// `mon,thu`, `mon-fri`, `fri-mon`.
fn weekdays(word: &str, at: usize) -> Read<Weekdays> {
    let place = |name: &str| Weekdays::NAMES.iter().position(|known| *known == name);
    let mut days = Weekdays::NONE;
    for part in word.split(',') {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (Some(from), Some(until)) = (place(first), place(last)) else {
            let strange = if place(first).is_none() { first } else { last };
            // A whole name begins as the short one does.
            let short = Weekdays::NAMES.iter().find(|name| strange.starts_with(**name));
            let meant = short.map(|name| (*name).to_owned()).or_else(|| nearest(strange, &Weekdays::NAMES));
            let right = meant.map(|meant| word.replace(strange, &meant));
            let why = "days are mon, tue, wed, thu, fri, sat and sun".to_owned();
            return Err(Wrong { at, why, right, form: "mon,thu 12:05" });
        };
        let until = if until < from { until + 7 } else { until };
        (from..=until).for_each(|place| days.add(place));
    }
    Ok(days)
}

fn month_days(word: &str) -> Read<MonthDays> {
    let mut days = MonthDays::default();
    let wrong = || {
        let right = nearest(word, &["last"]);
        let why = "days of a month go from 1 to 31, or it is the last".to_owned();
        Wrong { at: 1, why, right, form: "monthly 1,15 03:00" }
    };
    let number = |word: &str| word.parse::<u8>().ok().filter(|day| (1..=31).contains(day));
    for part in word.split(',') {
        match part.split_once('-') {
            _ if part == "last" => days.last = true,
            Some((first, last)) => {
                let (first, last) = (number(first).ok_or_else(wrong)?, number(last).ok_or_else(wrong)?);
                if last < first {
                    return Err(wrong());
                }
                (first..=last).for_each(|day| days.add(day));
            }
            None => days.add(number(part).ok_or_else(wrong)?),
        }
    }
    Ok(days)
}

/// The known word that a typed one is nearest to, when it is near enough.
fn nearest(word: &str, known: &[&str]) -> Option<String> {
    let scored = known.iter().map(|known| (strsim::jaro_winkler(word, known), *known));
    scored
        .filter(|(score, _)| *score > 0.75)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, known)| known.to_owned())
}
