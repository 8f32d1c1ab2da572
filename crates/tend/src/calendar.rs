//! The jobs' lines as a calendar (iCalendar, RFC 5545).
//!
//! A time of day is an event that recurs by a rule (3.3.10), in the machine's zone, whose own rules come along (3.6.5): so the calendar
//! goes on for ever, and clocks may be moved. What comes many times a day is one event as long as its part of the day, or one
//! without a time. Lines are folded after 75 octets (3.1), and what texts may not hold is escaped (3.3.11).

use std::collections::BTreeMap;
use std::fmt::Write;

use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use reedhook_core::when::{Cron, Days, Minute, Rule, Weekdays, When, Window};

/// What the calendar says of a job.
#[derive(Debug, Clone)]
pub struct Entry {
    /// The job's name.
    pub job: String,
    /// What it does, in a sentence.
    pub about: String,
    /// Its lines.
    pub when: Vec<When>,
}

/// More moments a day than this are one event.
const MANY: usize = 24;

/// Zones are described for so many years from now.
const YEARS: i16 = 15;

/// The calendar of some jobs, from a moment on.
pub fn written(entries: &[Entry], from: Timestamp, zone: &TimeZone, id: &dyn Fn(&str) -> String) -> String {
    let mut calendar = Calendar { text: String::new(), from, zone, stamp: utc(from) };
    calendar.line("BEGIN:VCALENDAR");
    calendar.line("VERSION:2.0");
    calendar.line("PRODID:-//Reedhook//jobs//EN");
    calendar.line("CALSCALE:GREGORIAN");
    calendar.line("X-WR-CALNAME:Reedhook");
    calendar.zone();
    for entry in entries {
        for (number, when) in entry.when.iter().enumerate() {
            let identity = id(&format!("{} {number} {when}", entry.job));
            calendar.events(entry, when, &identity);
        }
    }
    calendar.line("END:VCALENDAR");
    calendar.text
}

struct Calendar<'a> {
    text: String,
    from: Timestamp,
    zone: &'a TimeZone,
    stamp: String,
}

/// When an event is, and how it recurs.
struct Shape {
    start: Start,
    rule: Option<String>,
    /// Moments that no rule has.
    dates: Vec<DateTime>,
}

enum Start {
    /// A moment of the day.
    At(DateTime),
    /// A part of it.
    Part(DateTime, DateTime),
    /// The day as such.
    Day(Date),
}

impl Calendar<'_> {
    /// Adds a line, folded.
    fn line(&mut self, line: &str) {
        const MOST: usize = 75;
        let mut room = MOST;
        for c in line.chars() {
            if c.len_utf8() > room {
                self.text.push_str("\r\n ");
                room = MOST - 1;
            }
            self.text.push(c);
            room -= c.len_utf8();
        }
        self.text.push_str("\r\n");
    }

    fn zone_name(&self) -> &str {
        self.zone.iana_name().unwrap_or("Local")
    }

    /// The zone: each way in which its clocks are moved, with all the moments at which they are.
    fn zone(&mut self) {
        let year = self.zone.to_datetime(self.from).year();
        let name = self.zone_name().to_owned();
        self.line("BEGIN:VTIMEZONE");
        self.line(&format!("TZID:{name}"));
        let mut ways: BTreeMap<(bool, i32, i32, String), Vec<DateTime>> = BTreeMap::new();
        let first = self.zone.preceding(self.from).next().map(|moved| moved.timestamp());
        let begin = first.and_then(|first| first.checked_sub(1.second()).ok());
        if let Some(begin) = begin {
            for moved in self.zone.following(begin) {
                if self.zone.to_datetime(moved.timestamp()).year() > year + YEARS {
                    break;
                }
                let before = moved.timestamp().checked_sub(1.second()).unwrap_or(moved.timestamp());
                let was = self.zone.to_offset(before);
                let summer = moved.dst().is_dst();
                let way = (summer, was.seconds(), moved.offset().seconds(), moved.abbreviation().to_owned());
                ways.entry(way).or_default().push(was.to_datetime(moved.timestamp()));
            }
        }
        if ways.is_empty() {
            let offset = self.zone.to_offset(self.from).seconds();
            let called = self.zone.to_offset_info(self.from).abbreviation().to_owned();
            ways.insert((false, offset, offset, called), vec![Date::constant(1970, 1, 1).at(0, 0, 0, 0)]);
        }
        for ((summer, was, is, called), moments) in ways {
            let kind = if summer { "DAYLIGHT" } else { "STANDARD" };
            self.line(&format!("BEGIN:{kind}"));
            self.line(&format!("DTSTART:{}", local(moments[0])));
            for moment in &moments[1..] {
                self.line(&format!("RDATE:{}", local(*moment)));
            }
            self.line(&format!("TZOFFSETFROM:{}", offset(was)));
            self.line(&format!("TZOFFSETTO:{}", offset(is)));
            self.line(&format!("TZNAME:{}", escaped(&called)));
            self.line(&format!("END:{kind}"));
        }
        self.line("END:VTIMEZONE");
    }

    /// The events of one line of a job.
    fn events(&mut self, entry: &Entry, when: &When, id: &str) {
        for (number, shape) in self.shapes(when.rule()).into_iter().enumerate() {
            let several = matches!(shape.start, Start::Part(..) | Start::Day(_));
            let name = if several { format!("{}: {when}", entry.job) } else { entry.job.clone() };
            self.line("BEGIN:VEVENT");
            self.line(&format!("UID:{id}-{number}@reedhook"));
            self.line(&format!("DTSTAMP:{}", self.stamp));
            let zone = self.zone_name().to_owned();
            match shape.start {
                Start::At(at) => {
                    self.line(&format!("DTSTART;TZID={zone}:{}", local(at)));
                    self.line("DURATION:PT5M");
                }
                Start::Part(begin, end) => {
                    self.line(&format!("DTSTART;TZID={zone}:{}", local(begin)));
                    self.line(&format!("DTEND;TZID={zone}:{}", local(end)));
                }
                Start::Day(day) => self.line(&format!("DTSTART;VALUE=DATE:{}", day.strftime("%Y%m%d"))),
            }
            if let Some(rule) = shape.rule {
                self.line(&format!("RRULE:{rule}"));
            }
            for date in shape.dates {
                self.line(&format!("RDATE;TZID={zone}:{}", local(date)));
            }
            self.line(&format!("SUMMARY:{}", escaped(&name)));
            self.line(&format!("DESCRIPTION:{}", escaped(&format!("{}\n{when}", entry.about))));
            self.line("TRANSP:TRANSPARENT");
            self.line("END:VEVENT");
        }
    }

    fn shapes(&self, rule: &Rule) -> Vec<Shape> {
        match rule {
            Rule::On(_) => Vec::new(),
            Rule::Once(at) => vec![Shape { start: Start::At(*at), rule: None, dates: Vec::new() }],
            Rule::At { days, times } => {
                let shape = |time: &Minute| {
                    let start = self.first(*time, |date| days.contain(date))?;
                    Some(Shape { start: Start::At(start), rule: Some(of_days(days)), dates: Vec::new() })
                };
                times.iter().filter_map(shape).collect()
            }
            Rule::Every { days, window, .. } => {
                let start = match window {
                    Some(window) => self.part(*window, *days),
                    None => self.day(|date| days.contain(date)).map(Start::Day),
                };
                let rule = Some(of_days(&Days::Week(*days)));
                start.map(|start| Shape { start, rule, dates: Vec::new() }).into_iter().collect()
            }
            Rule::Cron(cron) => self.of_cron(rule, cron).into_iter().collect(),
        }
    }

    /// The first local time of these days that is still to come.
    fn first(&self, time: Minute, is_on: impl Fn(Date) -> bool) -> Option<DateTime> {
        let now = self.zone.to_datetime(self.from);
        let today = now.date();
        let dates =
            (0..9 * 366).filter_map(|ahead| today.checked_add(ahead.days()).ok()).filter(|date| is_on(*date));
        let mut times = dates.filter_map(|date| time.on(date));
        times.find(|at| *at > now)
    }

    fn day(&self, is_on: impl Fn(Date) -> bool) -> Option<Date> {
        let today = self.zone.to_datetime(self.from).date();
        (0..9 * 366).filter_map(|ahead| today.checked_add(ahead.days()).ok()).find(|date| is_on(*date))
    }

    fn part(&self, window: Window, days: Weekdays) -> Option<Start> {
        let day = self.day(|date| days.contain(date))?;
        let last = if window.until < window.from { day.tomorrow().ok()? } else { day };
        Some(Start::Part(window.from.on(day)?, window.until.on(last)?))
    }

    fn of_cron(&self, rule: &Rule, cron: &Cron) -> Option<Shape> {
        let list = |numbers: Vec<String>| numbers.join(",");
        let months: Vec<String> = cron.months().map(|month| month.to_string()).collect();
        let of_month =
            cron.month_days().map(|days| list(days.numbers().map(|day| day.to_string()).collect()));
        let of_week =
            cron.weekdays().map(|days| list(days.places().map(|place| DAYS[place].to_owned()).collect()));
        if of_month.is_some() && of_week.is_some() {
            // Either kind of day will do: no rule says that. The moments of the next years are told one by one.
            let year = self.from.checked_add((3 * 366 * 24).hours()).unwrap_or(self.from);
            let mut moments: Vec<DateTime> = rule
                .moments(self.from, self.zone)
                .take_while(|at| *at < year)
                .take(5000)
                .map(|at| self.zone.to_datetime(at))
                .collect();
            moments.dedup();
            let mut moments = moments.into_iter();
            return Some(Shape { start: Start::At(moments.next()?), rule: None, dates: moments.collect() });
        }
        let mut words = vec!["FREQ=DAILY".to_owned()];
        if months.len() < 12 {
            words.push(format!("BYMONTH={}", list(months)));
        }
        words.extend(of_month.map(|days| format!("BYMONTHDAY={days}")));
        words.extend(of_week.map(|days| format!("BYDAY={days}")));
        let (hours, minutes): (Vec<i8>, Vec<i8>) = (cron.hours().collect(), cron.minutes().collect());
        if hours.len() * minutes.len() > MANY {
            let start = Start::Day(self.day(|date| cron.contains(date))?);
            return Some(Shape { start, rule: Some(words.join(";")), dates: Vec::new() });
        }
        let texts = |numbers: &[i8]| list(numbers.iter().map(i8::to_string).collect());
        words.push(format!("BYHOUR={}", texts(&hours)));
        words.push(format!("BYMINUTE={}", texts(&minutes)));
        let times = hours.iter().flat_map(|hour| minutes.iter().map(move |minute| (*hour, *minute)));
        let times = times.filter_map(|(hour, minute)| {
            Minute::new(hour.unsigned_abs().into(), minute.unsigned_abs().into())
        });
        let start = times.filter_map(|time| self.first(time, |date| cron.contains(date))).min()?;
        Some(Shape { start: Start::At(start), rule: Some(words.join(";")), dates: Vec::new() })
    }
}

/// The days of the week, as rules have them.
const DAYS: [&str; 7] = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

fn of_days(days: &Days) -> String {
    match days {
        Days::Week(days) if *days == Weekdays::ALL => "FREQ=DAILY".to_owned(),
        Days::Week(days) => {
            let days: Vec<&str> = days.places().map(|place| DAYS[place]).collect();
            format!("FREQ=WEEKLY;BYDAY={}", days.join(","))
        }
        Days::Month(days) => {
            let numbers = days.numbers().map(|day| day.to_string());
            let last = days.last.then(|| "-1".to_owned());
            format!("FREQ=MONTHLY;BYMONTHDAY={}", numbers.chain(last).collect::<Vec<_>>().join(","))
        }
        Days::Nth(n) => format!("FREQ=DAILY;INTERVAL={n}"),
    }
}

fn local(at: DateTime) -> String {
    at.strftime("%Y%m%dT%H%M%S").to_string()
}

fn utc(at: Timestamp) -> String {
    at.strftime("%Y%m%dT%H%M%SZ").to_string()
}

fn offset(seconds: i32) -> String {
    let (sign, seconds) = (if seconds < 0 { '-' } else { '+' }, seconds.unsigned_abs());
    let mut text = format!("{sign}{:02}{:02}", seconds / 3600, seconds / 60 % 60);
    if seconds % 60 != 0 {
        let _ = write!(text, "{:02}", seconds % 60);
    }
    text
}

/// A text, with what it may not hold escaped.
fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\\' | ';' | ',' => escaped.extend(['\\', c]),
            '\n' => escaped.push_str("\\n"),
            c if c.is_control() => escaped.push(' '),
            c => escaped.push(c),
        }
    }
    escaped
}
