//! What the full-screen views share: styles that know whether colour is wanted, and boxes in the middle.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::Line as Text;
use ratatui::widgets::{Block, Clear, Padding, Paragraph, Wrap};
use unicode_width::UnicodeWidthStr;

/// Styles, or none of them where no colour is wanted.
#[derive(Clone, Copy)]
pub struct Paint {
    pub colour: bool,
}

impl Paint {
    /// As standard output is to be.
    pub fn of_output() -> Paint {
        Paint { colour: anstream::stdout().current_choice() != anstream::ColorChoice::Never }
    }

    pub fn of(self, colour: Color) -> Style {
        if self.colour { Style::new().fg(colour) } else { Style::new() }
    }

    pub fn dim(self) -> Style {
        Style::new().add_modifier(Modifier::DIM)
    }

    pub fn bold(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }
}

/// A box in the middle that is as large as its text.
pub fn boxed(frame: &mut Frame<'_>, title: &str, lines: Vec<String>) {
    let area = frame.area();
    let widest = lines.iter().map(|line| line.width()).max().unwrap_or(0).max(title.width()) + 4;
    let width = u16::try_from(widest).unwrap_or(u16::MAX).min(area.width);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let wrapped: usize = lines.iter().map(|line| line.width().div_ceil(inner).max(1)).sum();
    let height = u16::try_from(wrapped + 2).unwrap_or(u16::MAX).min(area.height);
    let place = Rect { x: (area.width - width) / 2, y: (area.height - height) / 2, width, height };
    let block = Block::bordered().title(format!(" {title} ")).padding(Padding::horizontal(1));
    let lines: Vec<Text<'static>> = lines.into_iter().map(Text::from).collect();
    frame.render_widget(Clear, place);
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }).block(block), place);
}
