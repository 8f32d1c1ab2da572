//! A report as one page that fetches nothing, prints on A4, and can be handed over. Every chart has its figures as a table behind it.

use askama::Template;
use jiff::{Timestamp, Unit};
use reedhook_core::foreign::escaped_lines;

use crate::causes::Trouble;
use crate::chart::{Chart, Form};
use crate::days::Day;
use crate::findings::verdict;
use crate::parts::{Finding, Report, Standing};
use crate::plain::{gathered, growth_words, last_words, period_words};
use crate::rooms::Destination;
use crate::text::{bytes, duration, grouped, moment_in, rate, written};
use crate::words::total_words;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    made: String,
    version: &'a str,
    verdict: String,
    well: bool,
    period: String,
    findings: &'a [Finding],
    jobs: Vec<[String; 9]>,
    total: String,
    not_run: Vec<[String; 5]>,
    troubles: &'a [Trouble],
    /// How many of them are over.
    over: usize,
    rooms: Vec<[String; 6]>,
    once_only: Vec<[String; 4]>,
    charts: Vec<Picture>,
    runs: Vec<[String; 5]>,
    more_runs: usize,
}

/// A chart and its figures.
struct Picture {
    heading: String,
    svg: String,
    head: [&'static str; 2],
    rows: Vec<[String; 2]>,
}

/// The page. `version` is the program's.
///
/// # Errors
/// When it cannot be put together; nothing in a report makes that happen.
pub fn html(report: &Report, now: Timestamp, version: &str) -> Result<String, askama::Error> {
    // Names, places and messages are of others: what a page or a reader of it would act upon is escaped in all of it.
    Ok(escaped_lines(&rendered(report, now, version)?) + "\n")
}

fn rendered(report: &Report, now: Timestamp, version: &str) -> Result<String, askama::Error> {
    let zone = &report.zone;
    let total = report.total();
    let newest = report.newest.iter().rev();
    let page = Page {
        made: moment_in(now.as_millisecond(), zone),
        version,
        verdict: verdict(report),
        well: report.findings.is_empty(),
        period: period_words(report.period, zone),
        findings: &report.findings,
        jobs: report.jobs.iter().map(|job| job_row(job, zone)).collect(),
        total: format!("In {}.", total_words(&total)),
        not_run: report
            .not_run
            .iter()
            .map(|missed| {
                [
                    missed.job.clone(),
                    format!("{} of {} times", grouped(missed.times), grouped(missed.of)),
                    moment_in(missed.last.at.as_millisecond(), zone),
                    missed.last.line.clone(),
                    if missed.made_up { "it has run since".to_owned() } else { String::new() },
                ]
            })
            .collect(),
        troubles: &report.troubles,
        over: report.troubles.iter().filter(|one| !one.still).count(),
        rooms: report
            .destinations
            .iter()
            .map(|place| {
                let (grows, full) = growth_words(place, zone);
                let (places, jobs) = (place.name(), place.jobs.join(", "));
                [places, jobs, bytes(place.free), bytes(place.total), grows, full]
            })
            .collect(),
        once_only: report
            .once_only
            .inventories
            .iter()
            .map(|one| {
                let seen = moment_in(one.seen_ms, zone);
                [one.name.clone(), grouped(one.files), bytes(one.bytes), seen]
            })
            .collect(),
        charts: charts(report),
        runs: newest
            .map(|run| {
                [
                    run.job.clone(),
                    run.number.to_string(),
                    moment_in(run.started_ms, zone),
                    run.end.outcome.as_str().to_owned(),
                    crate::words::result_of(&run.end),
                ]
            })
            .collect(),
        more_runs: (total.runs as usize).saturating_sub(report.newest.len()),
    };
    page.render()
}

fn job_row(job: &crate::parts::JobPart, zone: &jiff::tz::TimeZone) -> [String; 9] {
    let sum = &job.sum;
    let kind = match &job.standing {
        Standing::Kind(kind) => kind.to_string(),
        Standing::Broken(_) => "broken".to_owned(),
        Standing::Gone => "–".to_owned(),
    };
    let (when, result) = last_words(job, zone);
    let pace = if sum.counts.bytes == 0 { String::new() } else { rate(sum.counts.bytes, sum.elapsed) };
    [
        job.name.clone(),
        kind,
        grouped(sum.runs),
        grouped(sum.well),
        grouped(sum.items()),
        bytes(sum.counts.bytes),
        if sum.runs == 0 { String::new() } else { duration(sum.elapsed) },
        pace,
        format!("{when}  {result}"),
    ]
}

fn charts(report: &Report) -> Vec<Picture> {
    // More bars than these are a grey area.
    let (days, each) = match report.days.len() {
        0..=120 => (report.days.clone(), "day"),
        _ => (gathered(&report.days, Unit::Week), "week"),
    };
    let days = (days.as_slice(), each);
    let mut charts: Vec<Picture> = [
        day_chart(days, "Bytes written", |day| day.sum.counts.bytes as f64, |value| bytes(value as u64)),
        day_chart(days, "Items changed", |day| day.sum.items() as f64, |value| grouped(value as u64)),
        day_chart(
            days,
            "Time that runs took",
            |day| day.sum.elapsed.as_secs_f64(),
            |value| duration(std::time::Duration::from_secs_f64(value.max(0.0))),
        ),
    ]
    .into_iter()
    .flatten()
    .collect();
    charts.extend(report.destinations.iter().filter_map(|place| room_chart(report, place)));
    charts
}

fn day_chart(
    (days, each): (&[Day], &'static str),
    heading: &str,
    value: impl Fn(&Day) -> f64,
    words: impl Fn(f64) -> String,
) -> Option<Picture> {
    let values: Vec<(f64, f64)> = days.iter().enumerate().map(|(at, day)| (at as f64, value(day))).collect();
    let date = |at: f64| {
        // A mark between two days is that of none.
        let day = (at.fract().abs() < 1e-6).then(|| days.get(at as usize)).flatten();
        day.map(|day| day.date.strftime("%m-%d").to_string()).unwrap_or_default()
    };
    let along = 0.0..(days.len().max(1) as f64);
    let chart = Chart { form: Form::Bars, values: &values, along, below: &date, beside: &words };
    let ran = days.iter().zip(&values).filter(|(day, _)| day.sum.runs > 0);
    Some(Picture {
        heading: format!("{heading}, by {each}"),
        svg: chart.svg()?,
        head: [if each == "day" { "day" } else { "week of" }, "figure"],
        rows: ran.map(|(day, (_, value))| [day.date.to_string(), words(*value)]).collect(),
    })
}

fn room_chart(report: &Report, place: &Destination) -> Option<Picture> {
    let zone = &report.zone;
    let values: Vec<(f64, f64)> = place.seen.iter().map(|(at, free)| (*at as f64, *free as f64)).collect();
    let (first, last) = (values.first()?.0, values.last()?.0);
    if last <= first {
        return None;
    }
    let day =
        |at: f64| written(at as i64, zone, if last - first < 2.0 * 86_400_000.0 { "%H:%M" } else { "%m-%d" });
    let words = |value: f64| bytes(value as u64);
    let chart = Chart { form: Form::Line, values: &values, along: first..last, below: &day, beside: &words };
    Some(Picture {
        heading: format!("Room at {}", place.name()),
        svg: chart.svg()?,
        head: ["when", "free"],
        rows: place.seen.iter().map(|(at, free)| [moment_in(*at, zone), bytes(*free)]).collect(),
    })
}
