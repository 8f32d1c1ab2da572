//! The rules against a slow model that looks at a clock minute by minute, the cases that RFC 5545 publishes, and mistakes.

use std::collections::{BTreeSet, HashMap};

use jiff::civil::{Date, DateTime, date};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use super::When;
use crate::when::clock::Minute;

/// Zones whose clocks do odd things, each with a day on which they do.
const ZONES: [(&str, Date); 9] = [
    ("Europe/Berlin", date(2031, 3, 30)),
    ("Australia/Lord_Howe", date(2030, 10, 6)), // half an hour
    ("Pacific/Apia", date(2011, 12, 30)),       // a day that never was
    ("America/St_Johns", date(2010, 11, 7)),    // one minute after midnight
    ("America/Havana", date(2031, 3, 9)),       // midnight itself is skipped
    ("Antarctica/Troll", date(2031, 3, 30)),    // two hours
    ("Africa/Casablanca", date(2031, 1, 26)),   // back for Ramadan
    ("Asia/Kathmandu", date(1986, 1, 1)),       // a quarter of an hour, once
    ("America/New_York", date(2007, 11, 4)),
];

fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).unwrap()
}

/// What a clock on the wall shows, minute by minute, and nothing else: no table of zones is asked for gaps or repetitions.
struct Wall {
    /// When the clock first shows a local time; of one that it skips, when it would have shown it had it not been moved.
    when: HashMap<DateTime, Timestamp>,
    /// Every minute that it shows, in order.
    shown: Vec<(Timestamp, DateTime)>,
}

impl Wall {
    fn watch(zone: &TimeZone, from: Date, days: i32) -> Wall {
        let mut moment = zone.to_ambiguous_timestamp(from.at(0, 0, 0, 0)).compatible().unwrap() - 30.hours();
        moment = Timestamp::from_second(moment.as_second().div_euclid(60) * 60).unwrap();
        let mut wall = Wall { when: HashMap::new(), shown: Vec::new() };
        let mut before = zone.to_datetime(moment) - 1.minute();
        for _ in 0..(days + 4) * 24 * 60 {
            let now = zone.to_datetime(moment);
            let mut skipped = before + 1.minute();
            let mut late = moment;
            while skipped < now {
                wall.when.entry(skipped).or_insert(late);
                skipped += 1.minute();
                late += 1.minute();
            }
            wall.when.entry(now).or_insert(moment);
            wall.shown.push((moment, now));
            before = now;
            moment += 1.minute();
        }
        wall
    }

    fn at(&self, at: DateTime) -> Option<i64> {
        self.when.get(&at).map(|moment| moment.as_second())
    }
}

/// A line, and what it means to the model.
#[derive(Debug, Clone)]
enum Line {
    At(Vec<bool>, Kind, Vec<(i8, i8)>),
    Every(u32, Option<Vec<bool>>, Option<((i8, i8), (i8, i8))>),
    Cron { minutes: Field, hours: Field, month_days: Field, weekdays: Field },
}

#[derive(Debug, Clone, Copy)]
enum Kind {
    Week,
    Month { last: bool },
    Nth(u16),
}

#[derive(Debug, Clone)]
enum Field {
    Star,
    Step(i8),
    List(BTreeSet<i8>),
}

impl Field {
    fn has(&self, value: i8, least: i8) -> bool {
        match self {
            Field::Star => true,
            Field::Step(step) => (value - least) % step == 0,
            Field::List(values) => values.contains(&value),
        }
    }

    fn text(&self) -> String {
        match self {
            Field::Star => "*".to_owned(),
            Field::Step(step) => format!("*/{step}"),
            Field::List(values) => values.iter().map(i8::to_string).collect::<Vec<_>>().join(","),
        }
    }
}

const NAMES: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

fn names(days: &[bool]) -> String {
    NAMES.iter().zip(days).filter(|(_, on)| **on).map(|(name, _)| *name).collect::<Vec<_>>().join(",")
}

fn clock((hour, minute): (i8, i8)) -> String {
    format!("{hour:02}:{minute:02}")
}

impl Line {
    fn text(&self) -> String {
        match self {
            Line::At(days, kind, times) => {
                let times = times.iter().map(|time| clock(*time)).collect::<Vec<_>>().join(",");
                let days = match kind {
                    Kind::Week if days.iter().take(7).all(|on| *on) => "daily".to_owned(),
                    Kind::Week => names(&days[..7]),
                    Kind::Month { last } => {
                        let numbers = (1..=31).filter(|day| days[day - 1]).map(|day| day.to_string());
                        let last = last.then(|| "last".to_owned());
                        format!("monthly {}", numbers.chain(last).collect::<Vec<_>>().join(","))
                    }
                    Kind::Nth(n) => format!("every {n}d"),
                };
                format!("{days} {times}")
            }
            Line::Every(seconds, days, window) => {
                let length =
                    if seconds % 60 == 0 { format!("{}m", seconds / 60) } else { format!("{seconds}s") };
                let days = days.as_ref().map(|days| format!(" {}", names(days))).unwrap_or_default();
                let window = window.map(|(from, until)| format!(" {}-{}", clock(from), clock(until)));
                format!("every {length}{days}{}", window.unwrap_or_default())
            }
            Line::Cron { minutes, hours, month_days, weekdays } => {
                let fields = [minutes.text(), hours.text(), month_days.text(), "*".into(), weekdays.text()];
                format!("cron {}", fields.join(" "))
            }
        }
    }

    /// The moments, as the model has them.
    fn model(&self, wall: &Wall, dates: &[Date]) -> BTreeSet<i64> {
        let mut moments = BTreeSet::new();
        match self {
            Line::At(days, kind, times) => {
                for date in dates {
                    let number = (date.at(0, 0, 0, 0).duration_since(date_1970())).as_hours() / 24;
                    let is_on = match kind {
                        Kind::Week => days[date.weekday().to_monday_zero_offset() as usize],
                        Kind::Month { last } => {
                            let tomorrow = date.tomorrow().unwrap();
                            days[date.day() as usize - 1] || (*last && tomorrow.month() != date.month())
                        }
                        Kind::Nth(n) => number % i64::from(*n) == 0,
                    };
                    let found =
                        times.iter().filter_map(|(hour, minute)| wall.at(date.at(*hour, *minute, 0, 0)));
                    moments.extend(found.filter(|_| is_on));
                }
            }
            Line::Every(seconds, days, window) => {
                for date in dates {
                    let place = date.weekday().to_monday_zero_offset() as usize;
                    if days.as_ref().is_some_and(|days| !days[place]) {
                        continue;
                    }
                    let tomorrow = date.tomorrow().unwrap();
                    let (from, until, included) = match window {
                        Some(((a, b), (c, d))) => {
                            let last = if (c, d) < (a, b) { tomorrow } else { *date };
                            (date.at(*a, *b, 0, 0), last.at(*c, *d, 0, 0), true)
                        }
                        None => (date.at(0, 0, 0, 0), tomorrow.at(0, 0, 0, 0), false),
                    };
                    let (Some(mut at), Some(end)) = (wall.at(from), wall.at(until)) else { continue };
                    while at < end || (included && at == end) {
                        moments.insert(at);
                        at += i64::from(*seconds);
                    }
                }
            }
            Line::Cron { minutes, hours, month_days, weekdays } => {
                let is_on = |date: Date| {
                    let day = month_days.has(date.day(), 1);
                    let week = weekdays.has(date.weekday().to_sunday_zero_offset(), 0);
                    match (month_days, weekdays) {
                        (Field::Star, _) => week,
                        (_, Field::Star) => day,
                        _ => day || week,
                    }
                };
                if let Field::List(hours) = hours {
                    for date in dates.iter().filter(|date| is_on(**date)) {
                        for (hour, minute) in
                            hours.iter().flat_map(|hour| (0..60).map(move |minute| (*hour, minute)))
                        {
                            if minutes.has(minute, 0) {
                                moments.extend(wall.at(date.at(hour, minute, 0, 0)));
                            }
                        }
                    }
                } else {
                    let due = wall.shown.iter().filter(|(_, shown)| {
                        is_on(shown.date()) && hours.has(shown.hour(), 0) && minutes.has(shown.minute(), 0)
                    });
                    moments.extend(due.map(|(moment, _)| moment.as_second()));
                }
            }
        }
        moments
    }
}

fn date_1970() -> DateTime {
    date(1970, 1, 1).at(0, 0, 0, 0)
}

fn a_time() -> impl Strategy<Value = (i8, i8)> {
    // Clocks are moved in the small hours: these are tried most.
    prop_oneof![3 => (0..4_i8, 0..60_i8), 1 => (0..24_i8, 0..60_i8)]
}

fn some_days(length: usize) -> impl Strategy<Value = Vec<bool>> {
    proptest::collection::vec(any::<bool>(), length).prop_map(|mut days| {
        days[3] |= days.iter().take(7).all(|on| !on);
        days
    })
}

fn a_field(least: i8, most: i8) -> impl Strategy<Value = Field> {
    prop_oneof![
        Just(Field::Star),
        (1..=most).prop_map(Field::Step),
        proptest::collection::btree_set(least..=most, 1..5).prop_map(Field::List),
    ]
}

fn a_line() -> impl Strategy<Value = Line> {
    let kind = prop_oneof![
        Just(Kind::Week),
        any::<bool>().prop_map(|last| Kind::Month { last }),
        (1..9_u16).prop_map(Kind::Nth),
    ];
    let times = proptest::collection::vec(a_time(), 1..4);
    let window =
        proptest::option::of((a_time(), a_time()).prop_filter("a part", |(from, until)| from != until));
    prop_oneof![
        (some_days(31), kind, times).prop_map(|(days, kind, times)| Line::At(days, kind, times)),
        (
            prop_oneof![(1..1441_u32).prop_map(|minutes| minutes * 60), 301..7200_u32],
            proptest::option::of(some_days(7)),
            window
        )
            .prop_map(|(seconds, days, window)| Line::Every(seconds, days, window)),
        (a_field(0, 59), a_field(0, 23), a_field(1, 28), a_field(0, 6)).prop_map(
            |(minutes, hours, month_days, weekdays)| Line::Cron { minutes, hours, month_days, weekdays }
        ),
    ]
}

#[test]
fn moments_are_those_of_a_clock_that_is_watched_minute_by_minute() {
    const DAYS: i32 = 9;
    const MOMENTS: usize = 500;
    for (name, odd) in ZONES {
        let zone = zone(name);
        for first in [odd - 4.days(), odd + 180.days()] {
            let wall = Wall::watch(&zone, first - 2.days(), DAYS + 4);
            let dates: Vec<Date> = (-2..DAYS + 2).map(|ahead| first + ahead.days()).collect();
            let begin = wall.at(first.at(0, 0, 0, 0)).unwrap() - 1;
            let end = wall.at((first + DAYS.days()).at(0, 0, 0, 0)).unwrap();
            let from = Timestamp::from_second(begin).unwrap();
            let mut runner =
                TestRunner::new(Config { cases: 24, failure_persistence: None, ..Config::default() });
            runner
                .run(&a_line(), |line| {
                    let text = line.text();
                    let when: When = text.parse().unwrap();
                    let mut expected: Vec<i64> =
                        line.model(&wall, &dates).into_iter().filter(|at| *at > begin && *at < end).collect();
                    expected.truncate(MOMENTS);
                    let found: Vec<i64> = when
                        .rule()
                        .moments(from, &zone)
                        .map(|at| at.as_second())
                        .take_while(|at| *at < end)
                        .take(MOMENTS)
                        .collect();
                    prop_assert_eq!(found, expected, "{} in {} from {}", text, name, first);
                    Ok(())
                })
                .unwrap();
        }
    }
}

#[test]
fn years_agree_with_the_model_too() {
    let lines = [
        Line::At(vec![true; 31], Kind::Week, vec![(2, 30), (0, 0), (23, 59)]),
        Line::At((1..=31).map(|day| day > 28).collect(), Kind::Month { last: true }, vec![(2, 15)]),
        Line::At(vec![true; 31], Kind::Nth(3), vec![(3, 0)]),
        Line::Every(5400, None, Some(((22, 0), (4, 0)))),
        Line::Every(7 * 60, None, None),
        Line::Cron {
            minutes: Field::Step(20),
            hours: Field::Star,
            month_days: Field::List([13].into()),
            weekdays: Field::List([5].into()),
        },
    ];
    for (name, odd) in ZONES.iter().take(6) {
        let zone = zone(name);
        let first = *odd - 100.days();
        let wall = Wall::watch(&zone, first - 2.days(), 404);
        let dates: Vec<Date> = (-2..402).map(|ahead| first + ahead.days()).collect();
        let begin = wall.at(first.at(0, 0, 0, 0)).unwrap() - 1;
        let end = wall.at((first + 400.days()).at(0, 0, 0, 0)).unwrap();
        for line in &lines {
            let expected: Vec<i64> =
                line.model(&wall, &dates).into_iter().filter(|at| *at > begin && *at < end).collect();
            let when: When = line.text().parse().unwrap();
            let moments = when.rule().moments(Timestamp::from_second(begin).unwrap(), &zone);
            let found: Vec<i64> = moments.map(|at| at.as_second()).take_while(|at| *at < end).collect();
            assert_eq!(found, expected, "{} in {name}", line.text());
        }
    }
}

/// The first moments of a line after a local time, as a clock of that zone shows them.
fn next(line: &str, place: &str, from: &str, count: usize) -> Vec<String> {
    let (zone, when): (_, When) = (zone(place), line.parse().unwrap());
    let from: DateTime = from.parse().unwrap();
    let from = zone.to_ambiguous_timestamp(from).compatible().unwrap();
    let moments = when.rule().moments(from, &zone).take(count);
    moments.map(|at| at.to_zoned(zone.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()).collect()
}

#[test]
fn what_a_clock_skips_and_repeats_is_as_rfc_5545_publishes_it() {
    let cases: [(&str, &str, &str, &[&str]); 12] = [
        // RFC 5545, 3.3.5, DATE-TIME: the two examples for New York in 2007.
        ("once 2007-03-11 02:30", "America/New_York", "2007-01-01T00:00", &["2007-03-11T03:30:00-04:00"]),
        ("once 2007-11-04 01:30", "America/New_York", "2007-01-01T00:00", &["2007-11-04T01:30:00-04:00"]),
        (
            "daily 02:30,03:30",
            "Europe/Berlin",
            "2031-03-29T12:00",
            &["2031-03-30T03:30:00+02:00", "2031-03-31T02:30:00+02:00", "2031-03-31T03:30:00+02:00"],
        ),
        // An hour that comes twice: once for a time of day, twice for a clock's own minutes.
        (
            "daily 02:30",
            "Europe/Berlin",
            "2031-10-26T00:00",
            &["2031-10-26T02:30:00+02:00", "2031-10-27T02:30:00+01:00"],
        ),
        (
            "cron 30 * * * *",
            "Europe/Berlin",
            "2031-10-26T01:45",
            &["2031-10-26T02:30:00+02:00", "2031-10-26T02:30:00+01:00", "2031-10-26T03:30:00+01:00"],
        ),
        (
            "cron 30 2 * * *",
            "Europe/Berlin",
            "2031-10-26T00:00",
            &["2031-10-26T02:30:00+02:00", "2031-10-27T02:30:00+01:00"],
        ),
        // A window is elapsed time.
        (
            "every 1h 00:30-04:30",
            "Europe/Berlin",
            "2031-03-30T00:00",
            &[
                "2031-03-30T00:30:00+01:00",
                "2031-03-30T01:30:00+01:00",
                "2031-03-30T03:30:00+02:00",
                "2031-03-30T04:30:00+02:00",
                "2031-03-31T00:30:00+02:00",
            ],
        ),
        // The day that Samoa never had.
        (
            "daily 18:00",
            "Pacific/Apia",
            "2011-12-29T12:00",
            &["2011-12-29T18:00:00-10:00", "2011-12-31T18:00:00+14:00", "2012-01-01T18:00:00+14:00"],
        ),
        (
            "monthly 30,last 22:00",
            "Europe/Berlin",
            "2031-02-01T00:00",
            &["2031-02-28T22:00:00+01:00", "2031-03-30T22:00:00+02:00", "2031-03-31T22:00:00+02:00"],
        ),
        ("cron 0 0 29 2 *", "Europe/Berlin", "2096-03-01T00:00", &["2104-02-29T00:00:00+01:00"]),
        (
            "every 30m fri 23:00-00:30",
            "Europe/Berlin",
            "2031-05-02T23:10",
            &[
                "2031-05-02T23:30:00+02:00",
                "2031-05-03T00:00:00+02:00",
                "2031-05-03T00:30:00+02:00",
                "2031-05-09T23:00:00+02:00",
            ],
        ),
        (
            "every 7h",
            "Europe/Berlin",
            "2031-05-02T13:00",
            &["2031-05-02T14:00:00+02:00", "2031-05-02T21:00:00+02:00", "2031-05-03T00:00:00+02:00"],
        ),
    ];
    for (line, place, from, expected) in cases {
        assert_eq!(next(line, place, from, expected.len()), expected, "{line}");
    }
    assert!(next("once 2007-03-11 02:30", "UTC", "2031-01-01T00:00", 1).is_empty());
    for line in ["on change", "on change after 30s", "on connect", "on start"] {
        assert!(next(line, "UTC", "2031-01-01T00:00", 1).is_empty(), "{line}");
    }
}

#[test]
fn a_mistake_is_pointed_at_and_the_nearest_right_line_is_shown() {
    let cases = [
        ("dayly 18:00", "dayly", "daily 18:00"),
        ("daily 18.00", "18.00", "daily 18:00"),
        ("daily 6pm", "6pm", "daily 18:00"),
        ("daily 07:00,1230", "07:00,1230", "daily 07:00,12:30"),
        ("daily 25:00", "25:00", "daily 18:00"),
        ("daily", "", "daily 18:00"),
        ("daily 18:00 mon", "mon", "daily 18:00"),
        ("mon,thr 12:05", "mon,thr", "mon,thu 12:05"),
        ("monday 12:05", "monday", "mon 12:05"),
        ("mon-fri", "", "mon-fri 18:00"),
        ("monthly 32 03:00", "32", "monthly 1,15 03:00"),
        ("monthly lst 03:00", "lst", "monthly last 03:00"),
        ("once 2031-02-30 18:00", "2031-02-30", "once 2031-05-04 18:00"),
        ("every 15min", "15min", "every 15m"),
        ("every 0m", "0m", "every 15m"),
        ("every 36h", "36h", "every 2d 03:00"),
        ("every 2d", "", "every 2d 03:00"),
        ("every 2h 8.00-18.00", "8.00-18.00", "every 2h 08:00-18:00"),
        ("every 2h 08:00-08:00", "08:00-08:00", "every 2h 08:00-18:00"),
        ("every 2h 08:00-18:00 mon-fri", "mon-fri", "every 30m mon-fri 09:00-17:00"),
        ("cron 5 18 * *", "", "cron 5 18 * * 1-5"),
        ("cron 60 18 * * *", "60", "cron 5 18 * * 1-5"),
        ("cron 0 0 30 2 *", "30", "cron 5 18 * * 1-5"),
        ("cron 0 0 *,5 * *", "*,5", "cron 5 18 * * 1-5"),
        ("on chnage", "chnage", "on change"),
        ("on change 30s", "30s", "on change after 30s"),
        ("on change after 30", "30", "on change after 30s"),
        ("", "", "daily 18:00"),
        ("🦆 18:00", "🦆", "daily 18:00"),
    ];
    for (line, word, nearest) in cases {
        let error = line.parse::<When>().unwrap_err();
        assert_eq!((error.word.as_str(), error.nearest.as_str()), (word, nearest), "{line}: {error}");
        assert!(error.nearest.parse::<When>().is_ok(), "{line}");
        assert!(error.to_string().contains(&format!("\"{nearest}\"")), "{error}");
    }
    for good in [
        "DAILY 7:00",
        "fri-mon 00:00",
        "monthly 1-5,last 03:00",
        "every 1h 00:00-24:00",
        "cron 0-30/10 */2 * 1,7 7",
    ] {
        good.parse::<When>().unwrap();
    }
}

/// An hour that would not fit into the minutes of a day is none, and nothing worse.
#[test]
fn an_hour_that_is_far_too_large_is_refused() {
    assert_eq!(Minute::new(1718, 0), None);
    assert_eq!(Minute::new(u16::MAX, u16::MAX), None);
}
