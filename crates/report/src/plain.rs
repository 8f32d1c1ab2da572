//! A report as text, for a terminal and for mails. What has no colour reads the same.

use std::fmt::Write;

use jiff::tz::TimeZone;
use jiff::{Timestamp, Unit};

use crate::causes::Trouble;
use crate::days::Day;
use crate::findings::verdict;
use crate::parts::{Finding, JobPart, Report, Standing};
use crate::rooms::Destination;
use crate::sums::Period;
use crate::text::{
    Align, BAD, BOLD, CARE, Columns, DIM, GOOD, bytes, count, duration, grouped, moment_in, rate, styled,
    wrapped, written,
};
use crate::words::{result_of, total_words};

/// Text is no wider than this, where its words allow it.
const WIDEST: usize = 100;

/// The whole report.
pub fn text(report: &Report) -> String {
    let mut text = head(report);
    let parts = [
        ("Jobs", jobs(report)),
        ("Not run", not_run(report)),
        ("Problems by cause", troubles(report)),
        ("Room", rooms(report)),
        ("On one drive only", once_only(report)),
    ];
    for (heading, part) in parts.into_iter().filter(|(_, part)| !part.is_empty()) {
        let _ = write!(text, "\n{}\n{part}", styled(BOLD, heading));
    }
    text
}

/// The same for where there is no colour: a mail, a file.
pub fn without_style(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

/// The first line, what is not well, and what time it is about.
pub fn head(report: &Report) -> String {
    let style = if report.findings.is_empty() { GOOD } else { BAD };
    let mut text = format!("{}\n", styled(style, verdict(report)));
    if !report.findings.is_empty() {
        text.push('\n');
        text.push_str(&findings(&report.findings));
    }
    let _ = writeln!(text, "\n{}", styled(DIM, period_words(report.period, &report.zone)));
    text
}

/// The time that a report is about: `2031-05-04 06:00 to 2031-05-11 06:00 (7 days)`.
pub fn period_words(period: Period, zone: &TimeZone) -> String {
    let at = |at: Timestamp| moment_in(at.as_millisecond(), zone);
    let hours = period.length().as_secs() / 3600;
    let length = match hours {
        0..48 => count(hours, "hour", "hours"),
        _ => count((hours + 12) / 24, "day", "days"),
    };
    format!("{} to {} ({length})", at(period.since), at(period.until))
}

fn findings(found: &[Finding]) -> String {
    let widest = found.iter().map(|one| one.about.chars().count()).max().unwrap_or(0).min(30);
    let mut text = String::new();
    for one in found {
        let gap = " ".repeat(widest.saturating_sub(one.about.chars().count()));
        let stop = if one.words.ends_with(['.', '?', '!']) { "" } else { "." };
        let sentence = format!("{}{stop} {}", one.words, one.advice);
        let indent = format!("\n{}", " ".repeat(widest + 4));
        let lines = wrapped(sentence.trim_end(), WIDEST - widest - 4).join(&indent);
        let _ = writeln!(text, "  {}{gap}  {lines}", styled(BOLD, &one.about));
    }
    text
}

fn jobs(report: &Report) -> String {
    if report.jobs.is_empty() {
        return String::new();
    }
    let mut table = Columns::new(&[
        Align::Left,
        Align::Right,
        Align::Right,
        Align::Right,
        Align::Right,
        Align::Right,
        Align::Right,
        Align::Left,
        Align::Left,
    ]);
    table.heading(&["job", "runs", "well", "items", "bytes", "time", "rate", "last run", ""]);
    for job in &report.jobs {
        let sum = &job.sum;
        let style = match report.findings.iter().any(|one| one.of_a_job && one.about == job.name) {
            true => CARE,
            false => anstyle::Style::new(),
        };
        let number = |number: u64| if number == 0 { "–".to_owned() } else { grouped(number) };
        let spent = if sum.runs == 0 { String::new() } else { duration(sum.elapsed) };
        let pace = if sum.counts.bytes == 0 { String::new() } else { rate(sum.counts.bytes, sum.elapsed) };
        let size = if sum.counts.bytes == 0 { "–".to_owned() } else { bytes(sum.counts.bytes) };
        let (when, result) = last_words(job, &report.zone);
        table.styled_row(
            style,
            vec![
                job.name.clone(),
                number(sum.runs),
                number(sum.well),
                number(sum.items()),
                size,
                spent,
                pace,
                when,
                result,
            ],
        );
    }
    let mut text = table.render(2);
    let total = report.total();
    if report.jobs.len() > 1 && total.runs > 0 {
        let _ = writeln!(text, "  {}", styled(DIM, format!("in {}", total_words(&total))));
    }
    text
}

/// When a job ran last, and what came of it.
pub fn last_words(job: &JobPart, zone: &TimeZone) -> (String, String) {
    let mut words = Vec::new();
    let when = match &job.last {
        Some(last) if job.running => {
            words.push("running now".to_owned());
            moment_in(last.started_ms, zone)
        }
        Some(last) => {
            words.push(result_of(&last.end));
            moment_in(last.started_ms, zone)
        }
        None => "never".to_owned(),
    };
    if job.last.as_ref().is_some_and(|last| last.end.counts.conflicts > job.held) {
        words.push("settled since".to_owned());
    }
    if job.paused {
        words.push("paused".to_owned());
    }
    if job.standing == Standing::Gone && job.name != reedhook_jobs::jobfile::ONCE {
        words.push("not set up any more".to_owned());
    }
    (when, words.join("; "))
}

fn not_run(report: &Report) -> String {
    if report.not_run.is_empty() {
        return String::new();
    }
    let mut table = Columns::new(&[Align::Left; 5]);
    table.heading(&["job", "did not run", "last due", "by", ""]);
    for missed in &report.not_run {
        let times = format!("{} of {} times", grouped(missed.times), grouped(missed.of));
        let last = moment_in(missed.last.at.as_millisecond(), &report.zone);
        let since = if missed.made_up { "it has run since" } else { "" };
        table.row(vec![missed.job.clone(), times, last, missed.last.line.clone(), since.to_owned()]);
    }
    table.render(2)
}

fn troubles(report: &Report) -> String {
    let (still, over): (Vec<&Trouble>, Vec<&Trouble>) = report.troubles.iter().partition(|one| one.still);
    let mut text = still.iter().map(|one| trouble(one)).collect::<Vec<_>>().join("\n");
    if over.is_empty() {
        return text;
    }
    // What is over needs a line, for whoever wonders.
    if !still.is_empty() {
        text.push('\n');
    }
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right, Align::Left, Align::Left]);
    table.heading(&["over since", "job", "items", "", "such as"]);
    for one in over {
        let runs = match one.runs {
            1 => format!("in run {}", one.run),
            runs => format!("in {} runs, the last {}", grouped(runs), one.run),
        };
        table.row(vec![one.code.clone(), one.job.clone(), grouped(one.items), runs, one.path.clone()]);
    }
    text.push_str(&table.render(2));
    text
}

fn trouble(trouble: &Trouble) -> String {
    let runs = match trouble.runs {
        1 => format!("run {}", trouble.run),
        runs => format!("{runs} runs, the last {}", trouble.run),
    };
    let items = count(trouble.items, "item", "items");
    let mut text = format!("  {}  {items} of {} ({runs})\n", styled(BOLD, &trouble.code), trouble.job);
    let _ = writeln!(text, "      {}: {}", trouble.path, trouble.message);
    let _ = writeln!(text, "      {}", trouble.advice);
    if let Some(leave_out) = &trouble.leave_out {
        let more =
            if leave_out.more > 0 { format!("  … and {} more", leave_out.more) } else { String::new() };
        let _ = writeln!(text, "      To leave them out: {}{more}", leave_out.lines.join("  "));
        let _ = writeln!(text, "        {}", leave_out.command);
    }
    text
}

fn rooms(report: &Report) -> String {
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right, Align::Left]);
    table.heading(&["place", "free", "of", "grows by", "full"]);
    for place in &report.destinations {
        let (grows, full) = growth_words(place, &report.zone);
        let style = if report.findings.iter().any(|one| one.about == place.name()) {
            CARE
        } else {
            anstyle::Style::new()
        };
        table.styled_row(style, vec![place.name(), bytes(place.free), bytes(place.total), grows, full]);
    }
    if report.destinations.is_empty() { String::new() } else { table.render(2) }
}

fn once_only(report: &Report) -> String {
    let once = &report.once_only;
    if let Some(entries) = once.too_many {
        let entries = count(entries, "entry", "entries");
        return format!("  not compared, for there are {entries}: reedhook inventory find --alone\n");
    }
    let Some(first) = once.inventories.first() else { return String::new() };
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["inventory", "files", "bytes", "last seen"]);
    for one in &once.inventories {
        let seen = moment_in(one.seen_ms, &report.zone);
        table.row(vec![one.name.clone(), grouped(one.files), bytes(one.bytes), seen]);
    }
    let mut text = table.render(2);
    let list = format!("Which these are: reedhook inventory find --alone --in {}", first.name);
    let _ = writeln!(text, "  {}", styled(DIM, "Places of which there is no inventory do not count."));
    let _ = writeln!(text, "  {}", styled(DIM, list));
    text
}

/// How fast a place fills, and when it is full at this rate.
pub fn growth_words(place: &Destination, zone: &TimeZone) -> (String, String) {
    match place.per_day {
        None => ("not known yet".to_owned(), String::new()),
        Some(rate) if rate < 1.0 => ("nothing".to_owned(), String::new()),
        Some(rate) => {
            let full = match place.full_on {
                Some(at) => format!("about {}", written(at.as_millisecond(), zone, "%Y-%m-%d")),
                None => "not in ten years".to_owned(),
            };
            (format!("{} a day", bytes(rate as u64)), full)
        }
    }
}

/// Eighths of a block, for bars that end between two columns.
const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];

/// A bar for a share of the largest value, in at most so many columns. What is not nothing shows.
fn bar(value: u64, largest: u64, columns: usize) -> String {
    if value == 0 || largest == 0 {
        return String::new();
    }
    let eighths = (value as f64 / largest as f64 * columns as f64 * 8.0).round().max(1.0) as usize;
    format!("{}{}", "█".repeat(eighths / 8), EIGHTHS[eighths % 8])
}

/// Bytes and files of each day as bars, newest last, in at most so many columns. Where there are more days than lines, weeks or months
/// stand for them.
pub fn chart(days: &[Day], lines: usize, columns: usize) -> String {
    let (step, word) = match days.len() {
        number if number <= lines => (Unit::Day, "day"),
        number if number <= lines.saturating_mul(7) => (Unit::Week, "week of"),
        _ => (Unit::Month, "month"),
    };
    let rows = gathered(days, step);
    let (most_bytes, most_items) = (
        rows.iter().map(|row| row.sum.counts.bytes).max().unwrap_or(0),
        rows.iter().map(|row| row.sum.items()).max().unwrap_or(0),
    );
    // Beside the bars stand the day, the two figures and the gaps between.
    let room = columns.saturating_sub(10 + 10 + 10 + 8).clamp(16, 100) / 2;
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right, Align::Left]);
    table.heading(&[word, "bytes", "", "items", ""]);
    for row in &rows {
        let date = row.date.strftime(if step == Unit::Month { "%Y-%m" } else { "%Y-%m-%d" }).to_string();
        let (size, items) = (row.sum.counts.bytes, row.sum.items());
        table.row(vec![
            date,
            if row.sum.runs == 0 { "–".to_owned() } else { bytes(size) },
            bar(size, most_bytes, room),
            if row.sum.runs == 0 { "–".to_owned() } else { grouped(items) },
            bar(items, most_items, room),
        ]);
    }
    table.render(0)
}

/// Days put together to weeks (from Monday) or months, each with the date of its first day.
pub(crate) fn gathered(days: &[Day], step: Unit) -> Vec<Day> {
    let first = |day: &Day| match step {
        Unit::Week => {
            let back = i64::from(day.date.weekday().to_monday_zero_offset());
            day.date.checked_sub(jiff::Span::new().days(back)).unwrap_or(day.date)
        }
        Unit::Month => day.date.first_of_month(),
        _ => day.date,
    };
    let mut rows: Vec<Day> = Vec::new();
    for day in days {
        let date = first(day);
        match rows.last_mut() {
            Some(row) if row.date == date => row.sum.add_sum(&day.sum),
            _ => rows.push(Day { date, sum: day.sum.clone() }),
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sums::Sum;
    use reedhook_core::plan::Counts;

    #[test]
    fn days_become_weeks_and_months_where_there_are_too_many() {
        let first = jiff::civil::date(2031, 1, 1);
        let day = |offset: i64| Day {
            date: first.checked_add(jiff::Span::new().days(offset)).unwrap(),
            sum: Sum {
                runs: 1,
                counts: Counts { added: 2, bytes: 100, ..Counts::default() },
                ..Sum::default()
            },
        };
        let days: Vec<Day> = (0..365).map(day).collect();
        for (number, lines) in [(30, 30), (60, 9), (365, 12)] {
            let text = chart(&days[..number], 31, 80);
            assert_eq!(text.lines().count(), lines + 1, "{text}");
            assert!(text.lines().all(|line| unicode_width::UnicodeWidthStr::width(line) <= 90), "{text}");
        }
        let months = gathered(&days, Unit::Month);
        assert_eq!(months.iter().map(|month| month.sum.counts.bytes).sum::<u64>(), 36_500);
        assert_eq!(months[1].date, jiff::civil::date(2031, 2, 1));
        assert_eq!(
            (bar(1, 1_000_000, 20).as_str(), bar(0, 9, 20).as_str(), bar(9, 9, 3).as_str()),
            ("▏", "", "███")
        );
    }
}
