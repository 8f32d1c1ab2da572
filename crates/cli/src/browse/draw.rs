//! What looking through an inventory looks like: a title, the tree with its numbers, and what the keys do. It uses what room there is,
//! from 80 columns and 24 lines on.

use jiff::Timestamp;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Paragraph;
use reedhook_core::path::RelPath;
use unicode_width::UnicodeWidthStr;

use super::model::{Model, TreeLine};
use crate::browse::view::View;
use crate::commands::branch_words;
use crate::paint::boxed;
use crate::text::{bytes, count, elided};

const FILES: usize = 11;

const BYTES: usize = 9;

const TIME: usize = 16;

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, view: &mut View) {
    let [title, heading, body, status, keys] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Min(3),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    frame.render_widget(title_line(view), title);
    let name = usize::from(heading.width).saturating_sub(FILES + BYTES + TIME + 3).max(12);
    let words = format!("{:<name$} {:>FILES$} {:>BYTES$} {:<TIME$}", "", "files", "bytes", "changed");
    frame.render_widget(Paragraph::new(words).style(view.paint.dim()), heading);
    rows(frame, view, body, name);
    frame.render_widget(status_line(view, status.width), status);
    let keys_words = match view.typing {
        Some(_) => "Enter finds   Esc leaves it",
        None => "→ open  ← fold  / find  n next  o order  ? keys  q end",
    };
    frame.render_widget(Paragraph::new(keys_words).style(view.paint.dim()), keys);
    if view.help {
        help(frame);
    }
}

fn title_line(view: &View) -> Paragraph<'static> {
    let away = view.seen.starts_with("not");
    let seen = if away { view.paint.of(Color::Yellow) } else { Style::new() };
    let holds = format!("{}, {}", count(view.entries, "entry", "entries"), bytes(view.bytes));
    Paragraph::new(Text::from(vec![
        Span::styled(view.name.clone(), view.paint.bold()),
        Span::styled(format!("  {}", view.seen), seen),
        Span::styled(format!("  {holds}"), view.paint.dim()),
    ]))
}

fn rows(frame: &mut Frame<'_>, view: &mut View, area: Rect, name: usize) {
    let height = usize::from(area.height);
    view.height = height;
    view.model.scroll(height);
    let model: &Model = &view.model;
    if model.lines.is_empty() {
        frame.render_widget(Paragraph::new("\n  Nothing was there."), area);
        return;
    }
    let shown = model.lines.iter().enumerate().skip(model.top).take(height);
    let lines: Vec<Text<'static>> = shown
        .map(|(at, line)| {
            let text = one_row(line, name);
            match (at == model.cursor, line.branch.is_folder()) {
                (true, _) => {
                    let room = " ".repeat(usize::from(area.width).saturating_sub(text.width()));
                    Text::styled(format!("{text}{room}"), Style::new().add_modifier(Modifier::REVERSED))
                }
                (false, true) => Text::styled(text, view.paint.bold()),
                (false, false) => Text::raw(text),
            }
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), area);
}

fn one_row(line: &TreeLine, width: usize) -> String {
    let branch = &line.branch;
    let mark = match (branch.is_folder(), line.open) {
        (true, true) => "- ",
        (true, false) => "+ ",
        (false, _) => "  ",
    };
    let slash = if branch.is_folder() { "/" } else { "" };
    let name = format!("{}{mark}{}{slash}", "  ".repeat(line.depth), shown(&branch.name));
    let name = elided(&name, width);
    let padding = " ".repeat(width.saturating_sub(name.width()));
    let [files, size] = branch_words(branch);
    let time = branch.meta.modified().and_then(|time| Timestamp::new(time.seconds(), 0).ok());
    let zone = crate::clock::zone();
    let time = time.map(|time| time.to_zoned(zone).strftime("%Y-%m-%d %H:%M").to_string());
    format!("{name}{padding} {files:>FILES$} {size:>BYTES$} {:<TIME$}", time.unwrap_or_default())
}

fn shown(path: &[u8]) -> String {
    RelPath::new(path).map_or_else(|_| String::from_utf8_lossy(path).into_owned(), |path| path.to_string())
}

fn status_line(view: &View, width: u16) -> Paragraph<'static> {
    if let Some(text) = &view.typing {
        return Paragraph::new(format!("Find: {text}▏"));
    }
    let path = view.model.here().map(|line| shown(&line.path)).unwrap_or_default();
    let (text, style) = match &view.message {
        Some(message) => (format!("{message}  {path}"), view.paint.bold()),
        None => (path, Style::new()),
    };
    Paragraph::new(elided(text.trim_end(), usize::from(width))).style(style)
}

fn help(frame: &mut Frame<'_>) {
    let keys = [
        ("↑ ↓  PgUp PgDn  Home End", "move"),
        ("→ Enter   ←", "open a folder, fold it or go to the one above"),
        ("/", "find words of the path, whatever their case; * and ?: whole names"),
        ("n   N", "the next of what was found, the one before"),
        ("o", "order: by name, the largest first, the last changed first"),
        ("q  Esc", "end"),
    ];
    let lines = keys.into_iter().map(|(key, what)| format!("{key:<26}{what}")).collect();
    boxed(frame, "Keys", lines);
}
