//! Questions to a person at a terminal, one at a time.

use dialoguer::{Confirm, Input, Select};

use crate::failure::{Failure, Outcome};

/// Yes or no.
pub fn yes(question: &str, default: bool) -> Outcome<bool> {
    Confirm::new().with_prompt(question).default(default).interact().map_err(unanswered)
}

/// A line of text that passes `check`; the check's words are shown until it does.
pub fn line(question: &str, check: impl Fn(&str) -> Outcome<()>) -> Outcome<String> {
    let check = |text: &String| check(text.trim()).map_err(|failure| failure.text());
    let answer: String =
        Input::new().with_prompt(question).validate_with(check).interact_text().map_err(unanswered)?;
    Ok(answer.trim().to_owned())
}

/// One of several; returns its index.
pub fn choice(question: &str, items: &[String]) -> Outcome<usize> {
    Select::new().with_prompt(question).items(items).default(0).interact().map_err(unanswered)
}

fn unanswered(error: dialoguer::Error) -> Failure {
    Failure {
        exit: 130,
        code: "unanswered",
        message: format!("no answer ({error}); nothing was done"),
        hint: String::new(),
    }
}
