//! Text that somebody else has chosen: names, labels, places, replies of servers, what commands print.
//!
//! A terminal acts upon control characters, and characters that set the direction of writing can make one name look like another. So
//! such text is a type that can be shown only with all of these escaped.

use std::fmt::{self, Write};

/// Text from outside. Shown, it is one line without anything that a terminal or a page would act upon.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Foreign<'a>(&'a str);

impl<'a> Foreign<'a> {
    /// Text from outside.
    pub fn new(text: &'a str) -> Foreign<'a> {
        Foreign(text)
    }
}

impl fmt::Display for Foreign<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.chars().try_for_each(|character| match is_hidden(character) {
            true => write!(f, "{}", character.escape_default()),
            false => f.write_char(character),
        })
    }
}

impl fmt::Debug for Foreign<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "\"{self}\"")
    }
}

/// Text from outside, as it may be shown.
pub fn escaped(text: &str) -> String {
    Foreign(text).to_string()
}

/// The same where several lines are meant: their ends stay.
pub fn escaped_lines(text: &str) -> String {
    text.lines().map(escaped).collect::<Vec<_>>().join("\n")
}

/// Text from outside as a cell of a table. A spreadsheet takes a cell that begins with one of a few marks for a formula, and works it
/// out; an apostrophe before it makes it text.
pub fn cell(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    let formula = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    format!("{}{}", if formula { "'" } else { "" }, Foreign::new(&text))
}

/// Whether a character does something to what is around it instead of being seen: control characters (C0 and C1), the separators of
/// lines and paragraphs, and what sets or overrides the direction of writing (Unicode Standard Annex 9).
pub fn is_hidden(character: char) -> bool {
    character.is_control()
        || matches!(character,
            '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_a_terminal_acts_upon_comes_through() {
        let cases = [
            ("heron counts", "heron counts"),
            ("Graug\u{e4}nse \u{1fab6}", "Graug\u{e4}nse \u{1fab6}"),
            ("\u{1b}[2J\u{7}", "\\u{1b}[2J\\u{7}"),
            ("two\nlines\ttab", "two\\nlines\\ttab"),
            ("\u{9b}31m", "\\u{9b}31m"),
            ("fdp.\u{202e}exe", "fdp.\\u{202e}exe"),
        ];
        for (text, shown) in cases {
            assert_eq!(escaped(text), shown);
        }
        assert_eq!(escaped_lines("one\u{1b}\ntwo"), "one\\u{1b}\ntwo");
        assert_eq!(format!("{:?}", Foreign::new("\u{1b}")), "\"\\u{1b}\"");
    }
}
