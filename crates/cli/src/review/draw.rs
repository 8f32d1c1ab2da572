//! What a review looks like: a title, the words with their numbers, both sides in columns, and what the keys do. It uses what room
//! there is, from 80 columns and 24 lines on.

use jiff::Timestamp;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::{Block, Paragraph};
use reedhook_core::compare::DiffState;
use reedhook_core::entry::EntryKind;
use reedhook_core::run::Done;
use reedhook_core::walk::comparing::Face;
use unicode_width::UnicodeWidthStr;

use super::model::{Choice, Model, ReviewLine, Row, Sums, Word};
use crate::paint::{Paint, boxed};
use crate::review::view::{Phase, Prompt, View};
use crate::text::{bytes, count, elided, grouped};

impl Paint {
    fn word(self, word: Word) -> Style {
        let colour = match word {
            Word::Deed(Done::Added | Done::Revived | Done::FolderMade) => Color::Green,
            Word::Deed(Done::Removed | Done::FolderRemoved) | Word::Conflict => Color::Red,
            Word::Deed(Done::Updated | Done::Metadata) => Color::Yellow,
            Word::Deed(Done::Moved) => Color::Blue,
            Word::Deed(Done::Left) | Word::Same | Word::Unknown => return self.dim(),
            Word::Differs(_) => match word.state() {
                Some(DiffState::OnlyLeft) => Color::Green,
                Some(DiffState::OnlyRight) => Color::Magenta,
                Some(DiffState::LeftNewer | DiffState::RightNewer) => Color::Yellow,
                Some(DiffState::Moved) => Color::Blue,
                Some(DiffState::Differs | DiffState::Kind) | None => Color::Red,
            },
        };
        self.of(colour)
    }
}

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, view: &mut View) {
    let [title, words, heading, body, status, keys] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Min(3),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    frame.render_widget(title_line(view, title.width), title);
    frame.render_widget(words_line(view), words);
    let [list, pane] = match &view.pane {
        Some(_) => Layout::vertical([Constraint::Percentage(45), Constraint::Min(3)]).areas(body),
        None => [body, Rect::ZERO],
    };
    let columns = Columns::of(list.width);
    frame.render_widget(Paragraph::new(columns.heading()).style(view.paint.dim()), heading);
    rows(frame, view, list, &columns);
    if let Some((path, lines, top)) = &view.pane {
        text_pane(frame, view.paint, pane, (path, lines, *top));
    }
    frame.render_widget(status_line(view, status.width), status);
    frame.render_widget(keys_line(view), keys);
    if view.help {
        help(frame, view);
    }
    if let Some(question) = &view.question {
        ask(frame, view.paint, question);
    }
}

fn title_line(view: &View, width: u16) -> Paragraph<'static> {
    let name = view.name.clone();
    let room = usize::from(width).saturating_sub(name.width() + 14) / 2;
    let [left, right] = &view.places;
    let side = |word: &str, place: &str| {
        vec![Span::styled(format!("  {word} "), view.paint.dim()), Span::raw(elided(place, room))]
    };
    let mut spans = vec![Span::styled(name, view.paint.bold())];
    spans.extend(side("left", left));
    spans.extend(side("right", right));
    Paragraph::new(Text::from(spans))
}

fn words_line(view: &View) -> Paragraph<'static> {
    let mut spans = Vec::new();
    match &view.phase {
        Phase::Looking { entries, read } => {
            let read = if *read > 0 { format!(", {} read", bytes(*read)) } else { String::new() };
            spans.push(Span::raw(format!("looking: {} so far{read}", count(*entries, "entry", "entries"))));
        }
        _ => spans.push(Span::styled(format!("same {}", grouped(view.same)), view.paint.dim())),
    }
    spans.push(Span::raw("  "));
    for (at, (word, items, on)) in view.model.words().into_iter().enumerate() {
        let style =
            if on { view.paint.word(word) } else { view.paint.dim().add_modifier(Modifier::CROSSED_OUT) };
        spans.push(Span::styled(format!("{} ", at + 1), view.paint.dim()));
        spans.push(Span::styled(format!("{} {}", word.text(), grouped(items)), style));
        spans.push(Span::raw("  "));
    }
    Paragraph::new(Text::from(spans))
}

/// How wide the columns are.
struct Columns {
    name: usize,
    word: usize,
    time: usize,
}

const SIZE: usize = 9;

impl Columns {
    fn of(width: u16) -> Columns {
        let time = if width >= 116 { 16 } else { 10 };
        let word = if width >= 100 { 22 } else { 11 };
        let name = usize::from(width).saturating_sub(2 * (SIZE + time + 2) + word + 3);
        Columns { name: name.max(12), word, time }
    }

    fn heading(&self) -> String {
        let (name, word, time) = (self.name, self.word, self.time);
        format!(
            "{:<name$} {:<word$} {:>SIZE$} {:<time$} {:>SIZE$} {:<time$}",
            "", "", "left", "", "right", ""
        )
    }

    fn face(&self, face: Option<Face>, newer: bool, paint: Paint) -> [Span<'static>; 2] {
        let time = self.time;
        let style = if newer { paint.bold() } else { Style::new() };
        let Some(face) = face else {
            return [Span::raw(format!("{:>SIZE$} ", "–")), Span::raw(" ".repeat(time + 1))];
        };
        let size = match face.kind {
            EntryKind::File => bytes(face.size),
            EntryKind::Folder => "folder".to_owned(),
            EntryKind::Link => "link".to_owned(),
            EntryKind::Special(_) => "special".to_owned(),
        };
        let form = if time == 16 { "%Y-%m-%d %H:%M" } else { "%Y-%m-%d" };
        let modified = face.modified.filter(|_| face.kind != EntryKind::Folder);
        let stamp = modified.and_then(|time| Timestamp::new(time.seconds(), 0).ok());
        let told = stamp
            .map_or(String::new(), |stamp| stamp.to_zoned(crate::clock::zone()).strftime(form).to_string());
        [Span::styled(format!("{size:>SIZE$} "), style), Span::styled(format!("{told:<time$} "), style)]
    }
}

fn rows(frame: &mut Frame<'_>, view: &mut View, area: Rect, columns: &Columns) {
    let height = usize::from(area.height);
    view.height = height;
    view.model.scroll(height);
    let model = &view.model;
    if model.lines.is_empty() {
        let words = match view.phase {
            Phase::Looking { .. } => "Looking at both sides; s shows what is there meanwhile.",
            _ if !model.rows().is_empty() => "Every word is hidden; 0 shows all.",
            _ if view.is_job => "Nothing to do. s shows what is the same.",
            _ => "Nothing differs. s shows what is the same.",
        };
        frame.render_widget(Paragraph::new(format!("\n  {words}")), area);
        return;
    }
    let shown = model.lines.iter().enumerate().skip(model.top).take(height);
    let lines: Vec<Text<'static>> = shown
        .map(|(at, line)| {
            let drawn = one_row(view.paint, model, line, columns);
            if at == model.cursor { in_reverse(&drawn, usize::from(area.width)) } else { drawn }
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), area);
}

/// The line under the cursor: in one style from side to side.
fn in_reverse(line: &Text<'static>, width: usize) -> Text<'static> {
    let text: String = line.spans.iter().map(|span| span.content.as_ref()).collect();
    let padding = " ".repeat(width.saturating_sub(text.width()));
    Text::styled(format!("{text}{padding}"), Style::new().add_modifier(Modifier::REVERSED))
}

fn one_row(paint: Paint, model: &Model, line: &ReviewLine, columns: &Columns) -> Text<'static> {
    let indent = "  ".repeat(line.depth());
    let named = |text: String| {
        let text = elided(&format!("{indent}{text}"), columns.name);
        format!("{text}{} ", " ".repeat(columns.name.saturating_sub(text.width())))
    };
    match line {
        ReviewLine::Waiting { .. } => Text::styled(named("reading …".to_owned()), paint.dim()),
        ReviewLine::Same { path, listed, .. } => {
            let name = last_name(path);
            entry(
                paint,
                columns,
                (named(format!("  {name}")), listed.word, String::new()),
                [listed.left, listed.right],
            )
        }
        ReviewLine::Entry { row, .. } => {
            let Some(row) = model.rows().get(*row) else { return Text::default() };
            let (word, said) = said(model, row);
            entry(
                paint,
                columns,
                (named(format!("  {}", last_name(&row.path))), word, said),
                [row.left, row.right],
            )
        }
        ReviewLine::Folder { path, open, row, sums, left, .. } => {
            let mark = if *open { "- " } else { "+ " };
            let name = named(format!("{mark}{}/", last_name(path)));
            let row = row.and_then(|row| model.rows().get(row));
            let own = row.map(|row| said(model, row));
            folder(paint, columns, name, own, (sums, *left))
        }
    }
}

fn last_name(path: &reedhook_core::path::RelPath) -> String {
    path.split().map_or_else(|| path.to_string(), |(_, name)| name.to_string())
}

/// The word of a row, and what a person wants instead.
fn said(model: &Model, row: &Row) -> (Word, String) {
    let instead = match model.choice(row) {
        Choice::AsPlanned => String::new(),
        choice => choice.text().to_owned(),
    };
    (row.word, instead)
}

fn entry(
    paint: Paint,
    columns: &Columns,
    (name, word, instead): (String, Word, String),
    faces: [Option<Face>; 2],
) -> Text<'static> {
    let width = columns.word;
    let (text, style) = match instead.is_empty() {
        true => (word.text().to_owned(), paint.word(word)),
        false if width > 20 => (format!("{instead} (not {})", word.text()), paint.bold()),
        false => (instead, paint.bold()),
    };
    let newer = |side: DiffState| word.state() == Some(side);
    let mut spans = vec![Span::raw(name), Span::styled(format!("{text:<width$} "), style)];
    spans.extend(columns.face(faces[0], newer(DiffState::LeftNewer), paint));
    spans.extend(columns.face(faces[1], newer(DiffState::RightNewer), paint));
    Text::from(spans)
}

fn folder(
    paint: Paint,
    columns: &Columns,
    name: String,
    own: Option<(Word, String)>,
    (sums, left): (&Sums, usize),
) -> Text<'static> {
    let mut spans = vec![Span::styled(name, paint.bold())];
    if let Some((word, instead)) = own {
        let text = if instead.is_empty() { word.text().to_owned() } else { instead };
        spans.push(Span::styled(format!("{text}  "), paint.word(word)));
    }
    if left > 0 {
        spans.push(Span::styled(format!("{} left alone  ", grouped(left as u64)), paint.bold()));
    }
    let room = columns.word + 2 * (SIZE + columns.time + 2);
    let mut used = 0;
    for (word, items, size) in &sums.0 {
        let size = if *size > 0 { format!(" {}", bytes(*size)) } else { String::new() };
        let text = format!("{} {}{size}  ", grouped(*items), word.text());
        used += text.width();
        if used > room {
            break;
        }
        spans.push(Span::styled(text, paint.word(*word)));
    }
    Text::from(spans)
}

fn text_pane(
    frame: &mut Frame<'_>,
    paint: Paint,
    area: Rect,
    (path, lines, top): (&reedhook_core::path::RelPath, &[String], usize),
) {
    let styled = |line: &String| {
        let style = match line.as_bytes().first() {
            Some(b'+') => paint.of(Color::Magenta),
            Some(b'-') => paint.of(Color::Green),
            Some(b'@') => paint.dim(),
            _ => Style::new(),
        };
        Text::styled(line.clone(), style)
    };
    let shown: Vec<Text<'static>> =
        lines.iter().skip(top).take(usize::from(area.height)).map(styled).collect();
    let title = format!(" {path}: - left, + right ");
    frame.render_widget(Paragraph::new(shown).block(Block::bordered().title(title)), area);
}

fn status_line(view: &View, width: u16) -> Paragraph<'static> {
    if let Some(prompt) = &view.prompt {
        return Paragraph::new(format!("{}{}▏", prompt.kind.question(), prompt.text));
    }
    let text = match (&view.phase, &view.message) {
        (Phase::Running(tally), _) => tally.line(usize::from(width)),
        (_, Some(message)) => message.clone(),
        _ => match view.model.row_here().map(|row| (row, row.elsewhere.as_ref())) {
            Some((row, Some(elsewhere))) => format!("{}  from {elsewhere}", row.path),
            Some((row, None)) => row.path.to_string(),
            None => view
                .model
                .here()
                .and_then(|line| view.model.path_of(line))
                .map_or(String::new(), |path| path.to_string()),
        },
    };
    let style = if view.message.is_some() { view.paint.bold() } else { Style::new() };
    Paragraph::new(elided(&text, usize::from(width))).style(style)
}

fn keys_line(view: &View) -> Paragraph<'static> {
    let words = match (&view.phase, &view.prompt, view.is_job) {
        (_, Some(_), _) => "Enter takes it   Esc leaves it",
        (Phase::Running(_), ..) => "Esc stops the run; what was done stays whole",
        (_, None, true) => "→ open  ← fold  space change  r run  w save  x filter  d text  ? keys  q end",
        (_, None, false) => "→ open  ← fold  1-9 hide  / find  d text  s same  l look again  ? keys  q end",
    };
    Paragraph::new(words).style(view.paint.dim())
}

fn help(frame: &mut Frame<'_>, view: &View) {
    let mut keys = vec![
        ("↑ ↓  PgUp PgDn  Home End", "move"),
        ("→ Enter   ←", "open a folder, fold it or go to the one above"),
        ("1-9   0", "hide or show a word; show all"),
        ("/   n   N", "find in paths; the next, the one before"),
        ("d", "how two texts differ; ↑ ↓ scroll there, Esc closes"),
        ("s", "also show what is the same"),
        ("l", "look again"),
        ("q  Esc", "end; nothing is touched"),
    ];
    if view.is_job {
        let more = [
            ("space", "leave it, or do it as planned; of a folder, all in it"),
            ("", "two-way: the other way; a conflict: left wins, right wins, held"),
            ("x", "leave it out for good: a line of the job's filter"),
            ("w", "save what is chosen as a plan"),
            ("r", "run what is chosen, and watch"),
        ];
        keys.splice(7..7, more);
    }
    let lines = keys.into_iter().map(|(key, what)| format!("{key:<26}{what}")).collect();
    boxed(frame, "Keys", lines);
}

fn ask(frame: &mut Frame<'_>, _paint: Paint, question: &str) {
    let mut lines: Vec<String> = question.lines().map(str::to_owned).collect();
    lines.push(String::new());
    lines.push("y  yes      n  no".to_owned());
    boxed(frame, "Run?", lines);
}

impl Prompt {
    /// A prompt that is empty.
    pub fn new(kind: crate::review::view::Asked, text: String) -> Prompt {
        Prompt { kind, text }
    }
}
