//! Numbers, sizes, times and small tables as people read them.

use std::fmt::Write;
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

pub use reedhook_jobs::words::{bytes, count, grouped};

/// Headings and names.
pub const BOLD: Style = Style::new().bold();
/// What matters less.
pub const DIM: Style = Style::new().dimmed();
/// What went well.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// What deserves a look.
pub const CARE: Style = AnsiColor::Yellow.on_default();
/// What went wrong.
pub const BAD: Style = AnsiColor::Red.on_default();

/// Text in a style; the stream takes it out again where there is no colour.
pub fn styled(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// A length of time: `40 ms`, `1.4 s`, `12 s`, `3 min 05 s`, `2 h 10 min`.
pub fn duration(length: Duration) -> String {
    let seconds = length.as_secs();
    match seconds {
        0 => format!("{} ms", length.as_millis()),
        1..10 => format!("{:.1} s", length.as_secs_f64()),
        10..60 => format!("{seconds} s"),
        60..3600 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        _ => format!("{} h {:02} min", seconds / 3600, seconds % 3600 / 60),
    }
}

/// Bytes per second.
pub fn rate(total: u64, length: Duration) -> String {
    format!("{}/s", bytes((total as f64 / length.as_secs_f64().max(0.001)) as u64))
}

/// A moment: `2031-05-04 18:15`.
pub fn moment_in(ms: i64, zone: &TimeZone) -> String {
    written(ms, zone, "%Y-%m-%d %H:%M")
}

/// A moment, written in a form of `strftime`; `?` when there is none.
pub fn written(ms: i64, zone: &TimeZone, form: &str) -> String {
    match Timestamp::from_millisecond(ms) {
        Ok(timestamp) => timestamp.to_zoned(zone.clone()).strftime(form).to_string(),
        Err(_) => "?".to_owned(),
    }
}

/// How long ago: `just now`, `5 minutes ago`, `3 days ago`.
pub fn ago(ms: i64, now_ms: i64) -> String {
    let seconds = (now_ms - ms).max(0) / 1000;
    let said =
        |number: i64, one: &str, many: &str| format!("{} ago", count(number.unsigned_abs(), one, many));
    match seconds {
        0..60 => "just now".to_owned(),
        60..3600 => said(seconds / 60, "minute", "minutes"),
        3600..86_400 => said(seconds / 3600, "hour", "hours"),
        _ => said(seconds / 86_400, "day", "days"),
    }
}

/// A text that is at most so many columns wide; what is too long loses its middle, because both its beginning and its end tell it
/// from others.
pub fn elided(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let room = columns.saturating_sub(1);
    let head = taken(text.chars(), room / 2);
    let tail: Vec<char> = taken(text.chars().rev(), room - room / 2).chars().collect();
    format!("{head}…{}", tail.into_iter().rev().collect::<String>())
}

/// A text that is at most so many columns wide; what is too long loses its end.
pub fn elided_end(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    format!("{}…", taken(text.chars(), columns.saturating_sub(1)).trim_end())
}

/// As many characters as fit.
fn taken(chars: impl Iterator<Item = char>, columns: usize) -> String {
    let mut left = columns;
    chars
        .take_while(|c| {
            let width = c.width().unwrap_or(0);
            let fits = width <= left;
            left = left.saturating_sub(width);
            fits
        })
        .collect()
}

/// A text in lines that are at most so many columns wide, where its words allow it.
pub fn wrapped(text: &str, columns: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.is_empty() => line.push_str(word),
            Some(line) if line.width() + 1 + word.width() < columns => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// How a column is aligned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Align {
    /// To the left.
    Left,
    /// To the right: numbers.
    Right,
}

/// Rows of cells as aligned columns, two spaces apart, without lines. Empty columns take no room. Cells are plain text; a
/// row has one style.
#[derive(Debug, Default)]
pub struct Columns {
    align: Vec<Align>,
    rows: Vec<(Style, Vec<String>)>,
}

impl Columns {
    /// A table with these columns.
    pub fn new(align: &[Align]) -> Columns {
        Columns { align: align.to_vec(), rows: Vec::new() }
    }

    /// Aligns the first column otherwise.
    pub fn align_first(&mut self, align: Align) {
        if let Some(first) = self.align.first_mut() {
            *first = align;
        }
    }

    /// Adds a heading.
    pub fn heading(&mut self, cells: &[&str]) {
        self.rows.push((DIM, cells.iter().map(|cell| (*cell).to_owned()).collect()));
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<String>) {
        self.styled_row(Style::new(), cells);
    }

    /// Adds a row in a style.
    pub fn styled_row(&mut self, style: Style, cells: Vec<String>) {
        self.rows.push((style, cells));
    }

    /// The lines, each with `indent` spaces before it.
    pub fn render(&self, indent: usize) -> String {
        let width = |column: usize| {
            self.rows
                .iter()
                .filter_map(|(_, cells)| cells.get(column))
                .map(|cell| cell.width())
                .max()
                .unwrap_or(0)
        };
        let widths: Vec<usize> = (0..self.align.len()).map(width).collect();
        let mut text = String::new();
        for (style, cells) in &self.rows {
            let mut line = String::new();
            for ((cell, align), width) in
                cells.iter().zip(&self.align).zip(&widths).filter(|(_, width)| **width > 0)
            {
                let gap = " ".repeat(width - cell.width());
                let _ = match align {
                    Align::Left => write!(line, "{cell}{gap}  "),
                    Align::Right => write!(line, "{gap}{cell}  "),
                };
            }
            let _ = writeln!(text, "{:indent$}{}", "", styled(*style, line.trim_end()));
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        let sizes = [(0, "0 B"), (999, "999 B"), (1000, "1.00 kB"), (12_345, "12.3 kB"), (123_456, "123 kB")];
        let large = [(999_600, "1.00 MB"), (20_000_000_000, "20.0 GB"), (u64::MAX, "18447 PB")];
        for (number, expected) in sizes.into_iter().chain(large) {
            assert_eq!(bytes(number), expected);
        }
        assert_eq!(
            (grouped(0), grouped(999), grouped(1_234_567)),
            ("0".into(), "999".into(), "1,234,567".into())
        );
        let times = [
            (400, "400 ms"),
            (1400, "1.4 s"),
            (12_000, "12 s"),
            (185_000, "3 min 05 s"),
            (7_800_000, "2 h 10 min"),
        ];
        for (ms, expected) in times {
            assert_eq!(duration(Duration::from_millis(ms)), expected);
        }
        assert_eq!(
            (ago(0, 59_000), ago(0, 3_600_000), ago(0, 864_000_000)),
            ("just now".into(), "1 hour ago".into(), "10 days ago".into())
        );
    }

    #[test]
    fn what_is_too_long_is_shortened_where_it_hurts_least() {
        let rows = [
            ("counts/north.csv", 20, "counts/north.csv", "counts/north.csv"),
            ("counts/north-2031-05-04.csv", 13, "counts…04.csv", "counts/north…"),
            ("Graugänse/鶴鶴鶴鶴.csv", 10, "Grau….csv", "Graugänse…"),
            ("heron", 1, "…", "…"),
        ];
        for (text, columns, middle, end) in rows {
            assert_eq!((elided(text, columns).as_str(), elided_end(text, columns).as_str()), (middle, end));
            assert!(elided(text, columns).width() <= columns);
        }
        assert_eq!(wrapped("what is only there is removed", 12), ["what is", "only there", "is removed"]);
        assert_eq!(wrapped("", 12), [""]);
    }

    #[test]
    fn columns_align_and_skip_what_is_empty() {
        let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
        table.row(vec!["Graugänse".into(), String::new(), "7".into()]);
        table.row(vec!["heron".into(), String::new(), "1,200".into()]);
        assert_eq!(
            anstream::adapter::strip_str(&table.render(2)).to_string(),
            "  Graugänse      7\n  heron      1,200\n"
        );
    }
}
