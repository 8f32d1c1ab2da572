//! Questions to a person at a terminal, one at a time.
//!
//! A question that does not fit into one line is written out first, and only the answer is asked for in the line below: the terminal
//! would not take back the half of a line that has wrapped.

use std::fmt;

use console::Term;
use dialoguer::theme::Theme;
use dialoguer::{Confirm, Input, Password, Select};

use crate::failure::{Cause, Failure, Outcome};
use crate::text::{elided_end, wrapped};

/// Room for an answer behind a question.
const ANSWER: usize = 24;

/// Asks.
fn asked<T>(ask: impl FnOnce() -> dialoguer::Result<T>) -> Outcome<T> {
    ask().map_err(unanswered)
}

/// Yes or no.
pub fn yes(question: &str, default: bool) -> Outcome<bool> {
    let question = fitting(question, "");
    asked(|| Confirm::with_theme(&Plain).with_prompt(question).default(default).interact())
}

/// A line of text that passes `check`; the check's words are shown until it does.
pub fn line(question: &str, check: impl Fn(&str) -> Outcome<()>) -> Outcome<String> {
    let check = |text: &String| check(text.trim()).map_err(|failure| failure.text());
    let question = fitting(question, ">");
    let answer: String =
        asked(|| Input::with_theme(&Plain).with_prompt(question).validate_with(check).interact_text())?;
    Ok(answer.trim().to_owned())
}

/// A secret, which is not shown.
pub fn secret(question: &str, may_be_empty: bool) -> Outcome<String> {
    let question = fitting(question, ">");
    asked(|| Password::with_theme(&Plain).with_prompt(question).allow_empty_password(may_be_empty).interact())
}

/// One of several; returns its index.
pub fn choice(question: &str, items: &[String]) -> Outcome<usize> {
    let question = fitting(question, "Which?");
    // The mark before each item, and one column that stays free.
    let room = columns().saturating_sub(3);
    let short: Vec<String> = items.iter().map(|item| elided_end(item, room)).collect();
    if short != items {
        items.iter().for_each(|item| write_out(item));
    }
    asked(|| Select::with_theme(&Plain).with_prompt(question).items(&short).default(0).interact())
}

/// One key.
pub fn key() -> Outcome<char> {
    asked(|| Ok(Term::stderr().read_char()?))
}

/// The question, when it fits into a line with its answer; otherwise it is written out, and `instead` asks.
fn fitting(question: &str, instead: &str) -> String {
    let room = columns().saturating_sub(ANSWER);
    if unicode_width::UnicodeWidthStr::width(question) <= room {
        return question.to_owned();
    }
    write_out(question);
    instead.to_owned()
}

fn write_out(text: &str) {
    let terminal = Term::stderr();
    for line in wrapped(text, columns()) {
        let _ = terminal.write_line(&line);
    }
}

fn columns() -> usize {
    usize::from(Term::stderr().size().1).max(20)
}

fn unanswered(error: dialoguer::Error) -> Failure {
    let terminal = Term::stderr();
    // A question that is broken off leaves the cursor hidden, and its line open.
    let _ = terminal.show_cursor().and_then(|()| terminal.write_line(""));
    let dialoguer::Error::IO(error) = error;
    let why = match error.kind() {
        std::io::ErrorKind::Interrupted => String::new(),
        _ => format!(" ({error})"),
    };
    Failure::interrupted(Cause::Unanswered, format!("no answer{why}; nothing was done"))
}

/// Questions end in their own mark, and the answer follows.
struct Plain;

impl Theme for Plain {
    fn format_prompt(&self, f: &mut dyn fmt::Write, prompt: &str) -> fmt::Result {
        f.write_str(prompt)
    }

    fn format_input_prompt(
        &self,
        f: &mut dyn fmt::Write,
        prompt: &str,
        default: Option<&str>,
    ) -> fmt::Result {
        match default {
            Some(default) => write!(f, "{prompt} [{default}] "),
            None => write!(f, "{prompt} "),
        }
    }

    fn format_input_prompt_selection(
        &self,
        f: &mut dyn fmt::Write,
        prompt: &str,
        chosen: &str,
    ) -> fmt::Result {
        write!(f, "{prompt} {chosen}")
    }

    fn format_select_prompt_selection(
        &self,
        f: &mut dyn fmt::Write,
        prompt: &str,
        chosen: &str,
    ) -> fmt::Result {
        let free = columns().saturating_sub(1);
        f.write_str(&elided_end(&format!("{prompt} {chosen}"), free))
    }
}
