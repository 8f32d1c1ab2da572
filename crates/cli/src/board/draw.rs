//! What a board looks like: jobs above, then what runs, what happened, and drives, each in the room that is left for it; at the bottom what
//! the keys do. From 80 columns and 24 lines on everything has its place; below that, the jobs stay.

use jiff::Timestamp;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::{Block, Clear, Paragraph};
use reedhook_record::Outcome as RunOutcome;
use reedhook_report::figures::{JobPart, Standing};
use reedhook_tend::protocol::JobWord;
use unicode_width::UnicodeWidthStr;

use super::model::Board;
use crate::board::shown::{Drive, Live, Page, Whose};
use crate::board::words::end_words;
use crate::commands::tend::state_words;
use crate::paint::{Paint, boxed};
use crate::progress::{facts, file_line};
use crate::text::{bytes, count, elided, elided_end, result_of, written};

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, board: &mut Board) {
    let area = frame.area();
    let [title, body, status, keys] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Min(1),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(area);
    frame.render_widget(title_line(board, title.width), title);
    match board.pages.last() {
        None => everything(frame, board, body),
        Some(_) => page(frame, board, body),
    }
    let message = board.message.clone().unwrap_or_default();
    let message = elided_end(&message, usize::from(status.width));
    frame.render_widget(Paragraph::new(Span::styled(message, board.paint.of(Color::Yellow))), status);
    frame.render_widget(keys_line(board, keys.width), keys);
    if board.help {
        boxed(frame, "Keys", help());
    }
    if let Some(question) = &board.question {
        let mut lines = question.lines.clone();
        lines.extend([String::new(), "y  yes      n  no".to_owned()]);
        boxed(frame, &question.title, lines);
    }
}

fn title_line(board: &Board, width: u16) -> Paragraph<'static> {
    let now = written(board.now_ms, &board.zone, "%a %Y-%m-%d %H:%M:%S");
    let service = match &board.service {
        Some(since) => {
            let since =
                since.parse::<Timestamp>().map(|at| written(at.as_millisecond(), &board.zone, "%m-%d %H:%M"));
            Span::styled(
                format!("the service runs since {}", since.unwrap_or_default()),
                board.paint.of(Color::Green),
            )
        }
        None => Span::styled("the service is not running", board.paint.dim()),
    };
    let room = usize::from(width).saturating_sub(10 + service.width() + 1);
    let now = if room > now.width() { now } else { String::new() };
    let gap = room.saturating_sub(now.width());
    let spans = vec![
        Span::styled("Reedhook  ", board.paint.bold()),
        service,
        Span::raw(" ".repeat(gap)),
        Span::styled(now, board.paint.dim()),
    ];
    Paragraph::new(Text::from(spans))
}

/// How many lines each part gets, headings and blank lines included; what happened gets the rest.
struct Rooms {
    jobs: u16,
    running: u16,
    drives: u16,
}

impl Rooms {
    fn of(board: &Board, height: u16) -> Rooms {
        let number = |length: usize| u16::try_from(length).unwrap_or(u16::MAX);
        let jobs = (number(board.jobs.len()) + 1).max(2);
        let with_heading = |lines: u16| if lines == 0 { 0 } else { lines + 2 };
        let running = with_heading(number(board.live.len() * 2).min(8));
        let drives = with_heading(number(board.drives.len()).min(4));
        // However many jobs there are, what runs and what happened stay in sight.
        let jobs = jobs.min((height / 2).max(3));
        let mut left = height.saturating_sub(jobs);
        let mut take = |wanted: u16, least: u16| {
            let given = wanted.min(left);
            let given = if given < least { 0 } else { given };
            left -= given;
            given
        };
        // What runs is what people look for; drives are few.
        let running = take(running, 4);
        let drives = take(drives, 3);
        Rooms { jobs, running, drives }
    }
}

fn everything(frame: &mut Frame<'_>, board: &mut Board, area: Rect) {
    let rooms = Rooms::of(board, area.height);
    let [jobs, running, happened, drives] = Layout::vertical([
        Constraint::Length(rooms.jobs),
        Constraint::Length(rooms.running),
        Constraint::Fill(1),
        Constraint::Length(rooms.drives),
    ])
    .areas(area);
    job_rows(frame, board, jobs);
    runs(frame, board, running);
    past(frame, board, happened);
    drive_rows(frame, board, drives);
}

/// A part's heading; where its rows go.
fn headed(frame: &mut Frame<'_>, paint: Paint, area: Rect, heading: &str) -> Rect {
    if area.height < 3 {
        return Rect { height: 0, ..area };
    }
    let line = Rect { y: area.y + 1, height: 1, ..area };
    frame.render_widget(Paragraph::new(Span::styled(heading.to_owned(), paint.dim())), line);
    Rect { y: area.y + 2, height: area.height - 2, ..area }
}

/// How wide the columns of the jobs are.
struct Columns {
    name: usize,
    state: usize,
    result: usize,
}

/// A moment without its year.
const MOMENT: usize = 11;

impl Columns {
    fn of(board: &Board, width: u16) -> Columns {
        let longest = board.jobs.iter().map(|job| job.name.width()).max().unwrap_or(0);
        let width = usize::from(width);
        let name = longest.clamp(4, if width < 100 { 16 } else { 28 });
        let state = if width < 100 { 20 } else { 26 };
        // Two spaces before each column, and the mark.
        let taken = 2 + name + 2 + state + 2 + MOMENT + 2 + MOMENT + 2;
        Columns { name, state, result: width.saturating_sub(taken) }
    }

    fn line(&self, cells: [&str; 5]) -> String {
        let fit = |text: String, columns: usize| {
            let gap = " ".repeat(columns.saturating_sub(text.width()));
            format!("{text}{gap}")
        };
        let [name, state, last, result, next] = cells;
        format!(
            "{}  {}  {}  {}  {}",
            fit(elided(name, self.name), self.name),
            fit(elided_end(state, self.state), self.state),
            fit(elided_end(last, MOMENT), MOMENT),
            fit(elided_end(next, MOMENT), MOMENT),
            elided_end(result, self.result)
        )
    }
}

fn job_rows(frame: &mut Frame<'_>, board: &mut Board, area: Rect) {
    let columns = Columns::of(board, area.width);
    let heading = columns.line(["job", "now", "last run", "what came of it", "next"]);
    frame.render_widget(
        Paragraph::new(Span::styled(format!("  {heading}"), board.paint.dim())),
        Rect { height: 1.min(area.height), ..area },
    );
    let list = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    board.place.height = usize::from(list.height);
    if board.jobs.is_empty() {
        let words = match board.looked {
            true => "  There is no job yet. Set one up with `reedhook job add`.",
            false => "",
        };
        frame.render_widget(Paragraph::new(words), list);
        return;
    }
    let first = board.place.first(board.jobs.len());
    let rows = board.jobs.iter().enumerate().skip(first).take(usize::from(list.height));
    let lines: Vec<Text<'static>> = rows
        .map(|(at, job)| {
            let (style, line) = job_line(board, job, &columns);
            let marked = at == board.place.at;
            let style = if marked { style.add_modifier(Modifier::REVERSED) } else { style };
            let mark = if marked { "› " } else { "  " };
            let gap = " ".repeat(usize::from(list.width).saturating_sub(line.width() + 2));
            Text::from(Span::styled(format!("{mark}{line}{gap}"), style))
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), list);
}

fn job_line(board: &Board, job: &JobPart, columns: &Columns) -> (Style, String) {
    let (mut style, state) = state_of(board, job);
    let moment = |ms: i64| written(ms, &board.zone, "%m-%d %H:%M");
    let last = job.last.as_ref().map_or("never".to_owned(), |run| moment(run.started_ms));
    let next = job.next.as_ref().map_or_else(String::new, |due| moment(due.at.as_millisecond()));
    let result = match &job.last {
        Some(run) if run.end.outcome == RunOutcome::Unfinished && job.running => String::new(),
        Some(run) if run.end.outcome == RunOutcome::Refused => format!("refused: {}", run.end.message),
        Some(run) => result_of(&run.end),
        None => String::new(),
    };
    let outcome = job.last.as_ref().map(|run| run.end.outcome);
    if style == Style::new() && !job.running {
        style = match outcome {
            Some(RunOutcome::Refused | RunOutcome::Stopped | RunOutcome::Unfinished) => {
                board.paint.of(Color::Red)
            }
            Some(RunOutcome::Held) if job.held == 0 => style,
            Some(RunOutcome::Problems | RunOutcome::Held | RunOutcome::Interrupted) => {
                board.paint.of(Color::Yellow)
            }
            _ => style,
        };
    }
    (style, columns.line([&job.name, &state, &last, &result, &next]))
}

/// What a job does, in a few words.
fn state_of(board: &Board, job: &JobPart) -> (Style, String) {
    let paint = board.paint;
    if let Some(live) = board.live.get(&job.name) {
        let words = match live.looking {
            Some(0) => "running".to_owned(),
            Some(entries) => format!("looks, {}", count(entries, "entry", "entries")),
            None => format!("running {} %", live.tally.percent()),
        };
        return (paint.of(Color::Green), words);
    }
    if job.running {
        return (paint.of(Color::Green), "running".to_owned());
    }
    if let Standing::Broken(_) = job.standing {
        return (paint.of(Color::Red), "its file is broken".to_owned());
    }
    if job.overdue.is_some() {
        return (paint.of(Color::Red), "overdue".to_owned());
    }
    if job.held > 0 {
        return (paint.of(Color::Yellow), format!("{} held", count(job.held, "conflict", "conflicts")));
    }
    if job.paused {
        return (paint.of(Color::Yellow), "paused".to_owned());
    }
    match board.states.get(&job.name) {
        Some(state) => {
            let (_, words) = state_words(state);
            let waits = state.state == JobWord::Waiting;
            (if waits { paint.of(Color::Yellow) } else { Style::new() }, words)
        }
        None => (Style::new(), "–".to_owned()),
    }
}

fn runs(frame: &mut Frame<'_>, board: &Board, area: Rect) {
    let list = headed(frame, board.paint, area, "running");
    let width = usize::from(area.width);
    let mut lines: Vec<Text<'static>> = Vec::new();
    for (job, live) in &board.live {
        lines.push(live_line(board.paint, job, live, width));
        let file = live.tally.workers.iter().flatten().next();
        let file = file.map(|file| file_line(file, width.saturating_sub(4))).unwrap_or_default();
        lines.push(Text::from(Span::styled(format!("    {file}"), board.paint.dim())));
    }
    frame.render_widget(Paragraph::new(lines), list);
}

/// A run with its bar: how much of its whole width stands for how much is done.
fn live_line(paint: Paint, job: &str, live: &Live, width: usize) -> Text<'static> {
    let name = format!("  {}  ", elided(job, 20));
    if let Some(entries) = live.looking {
        let words = match entries {
            0 => "looking at both sides".to_owned(),
            entries => format!("looking at both sides, {} so far", count(entries, "entry", "entries")),
        };
        return Text::from(vec![Span::styled(name, paint.bold()), Span::raw(words)]);
    }
    let columns = (width / 4).clamp(6, 30);
    let (done, total) = live.tally.share();
    let filled = usize::try_from(u128::from(done) * columns as u128 / u128::from(total.max(1))).unwrap_or(0);
    let filled = filled.min(columns);
    let percent = format!("  {:>3} %  ", live.tally.percent());
    let room = width.saturating_sub(name.width() + columns + percent.width());
    let problems = match live.tally.problems {
        0 => String::new(),
        number => format!("   {}", count(number, "problem", "problems")),
    };
    let others = if live.whose == Whose::Other { "   (another program)" } else { "" };
    let facts = facts(&live.tally, live.elapsed, room.saturating_sub(problems.width() + others.width()));
    Text::from(vec![
        Span::styled(name, paint.bold()),
        Span::styled("━".repeat(filled), paint.of(Color::Green)),
        Span::styled("─".repeat(columns - filled), paint.dim()),
        Span::raw(percent),
        Span::raw(facts),
        Span::styled(problems, paint.of(Color::Yellow)),
        Span::styled(others.to_owned(), paint.dim()),
    ])
}

fn past(frame: &mut Frame<'_>, board: &Board, area: Rect) {
    let list = headed(frame, board.paint, area, "happened");
    let (width, height) = (usize::from(list.width), usize::from(list.height));
    let newest = board.happened.iter().rev().take(height);
    let mut lines: Vec<Text<'static>> = newest
        .map(|said| {
            let style = if said.is_bad { board.paint.of(Color::Yellow) } else { Style::new() };
            let line = elided_end(&format!("  {}", board.said_line(said)), width);
            Text::from(Span::styled(line, style))
        })
        .collect();
    // The newest stands at the bottom, as in a log.
    lines.reverse();
    if lines.is_empty() && board.looked {
        lines.push(Text::from(Span::styled("  nothing yet", board.paint.dim())));
    }
    frame.render_widget(Paragraph::new(lines), list);
}

fn drive_rows(frame: &mut Frame<'_>, board: &Board, area: Rect) {
    let list = headed(frame, board.paint, area, "drives");
    let shown = board.drives.iter().take(usize::from(list.height));
    let name = board.drives.iter().map(|drive| drive.name.width()).max().unwrap_or(0).min(24);
    let lines: Vec<Text<'static>> =
        shown.map(|drive| drive_line(board.paint, drive, name, usize::from(list.width))).collect();
    frame.render_widget(Paragraph::new(lines), list);
}

fn drive_line(paint: Paint, drive: &Drive, name: usize, width: usize) -> Text<'static> {
    let label = elided(&drive.name, name);
    let gap = " ".repeat(name.saturating_sub(label.width()));
    let (style, words) = match (&drive.mount, drive.space) {
        (None, _) => (paint.of(Color::Yellow), "not connected".to_owned()),
        (Some(mount), Some((free, total))) => {
            let mount = if *mount == drive.name { "" } else { mount };
            (Style::new(), format!("{} free of {}  {}  {mount}", bytes(free), bytes(total), drive.kind))
        }
        (Some(mount), None) => (Style::new(), format!("{}  {mount}", drive.kind)),
    };
    let stores = if drive.stores.is_empty() { String::new() } else { format!("{}  ", drive.stores) };
    Text::from(Span::styled(elided_end(&format!("  {label}{gap}  {stores}{words}"), width), style))
}

fn page(frame: &mut Frame<'_>, board: &mut Board, area: Rect) {
    let (paint, zone) = (board.paint, board.zone.clone());
    let Some(page) = board.pages.last_mut() else { return };
    let inner = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    let width = usize::from(area.width);
    frame.render_widget(Clear, area);
    let heading = |frame: &mut Frame<'_>, text: &str| {
        let line = Rect { height: 1.min(area.height), ..area };
        frame.render_widget(Block::new(), line);
        frame.render_widget(Paragraph::new(Span::styled(elided_end(text, width), paint.bold())), line);
    };
    match page {
        Page::Waiting(what) => heading(frame, &format!("{what} …")),
        Page::Text { title, lines, place } => {
            heading(frame, title);
            place.height = usize::from(inner.height);
            let shown = lines.iter().skip(place.at).take(place.height);
            let shown: Vec<Text<'static>> = shown.map(|line| Text::from(elided_end(line, width))).collect();
            frame.render_widget(Paragraph::new(shown), inner);
        }
        Page::Runs { job, rows, place } => {
            heading(frame, &format!("{job}: {}, the newest first", count(rows.len() as u64, "run", "runs")));
            place.height = usize::from(inner.height);
            let first = place.first(rows.len());
            let lines: Vec<Text<'static>> = rows
                .iter()
                .enumerate()
                .skip(first)
                .take(place.height)
                .map(|(at, run)| {
                    let began = written(run.started_ms, &zone, "%Y-%m-%d %H:%M");
                    let line = elided_end(&format!("  {began}  {}", end_words(run)), width);
                    let style = match run.end.outcome {
                        RunOutcome::Done => Style::new(),
                        RunOutcome::Problems | RunOutcome::Held | RunOutcome::Interrupted => {
                            paint.of(Color::Yellow)
                        }
                        _ => paint.of(Color::Red),
                    };
                    let style = if at == place.at { style.add_modifier(Modifier::REVERSED) } else { style };
                    Text::from(Span::styled(line, style))
                })
                .collect();
            frame.render_widget(Paragraph::new(lines), inner);
        }
    }
}

fn keys_line(board: &Board, width: u16) -> Paragraph<'static> {
    let keys: &[(&str, &str)] = match board.pages.last() {
        None => &[
            ("enter", "its runs"),
            ("r", "run"),
            ("s", "stop"),
            ("v", "preview"),
            ("p", "pause"),
            ("y n", "answer"),
            ("?", "keys"),
            ("q", "end"),
        ],
        Some(Page::Runs { .. }) => &[("enter", "what it did"), ("esc", "back")],
        Some(_) => &[("↑ ↓", "move"), ("esc", "back")],
    };
    let mut spans = Vec::new();
    let mut taken = 0;
    for (key, what) in keys {
        taken += key.width() + what.width() + 3;
        if taken > usize::from(width) {
            break;
        }
        spans.push(Span::styled((*key).to_owned(), board.paint.bold()));
        spans.push(Span::styled(format!(" {what}  "), board.paint.dim()));
    }
    Paragraph::new(Text::from(spans))
}

fn help() -> Vec<String> {
    let keys = [
        ("↑ ↓  PgUp PgDn  Home End", "move"),
        ("Enter", "the runs of a job; there, what a run did"),
        ("Esc", "back"),
        ("r", "run it now: by the service, or by this board where there is none"),
        ("s", "stop its run; what was done stays whole"),
        ("v", "what a run would do"),
        ("p", "pause it, or let it run by itself again"),
        ("y  n", "answer a job that asks before it begins"),
        ("h", "everything that happened"),
        ("l", "look again now"),
        ("q  Ctrl-C", "end the board"),
    ];
    keys.into_iter().map(|(key, what)| format!("{key:<26}{what}")).collect()
}
