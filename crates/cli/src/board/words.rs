//! How runs ended, in a few words.

use reedhook_record::{Outcome as RunOutcome, RunRow};
use serde_json::Value;

use crate::text::result_of;

/// How a run ended, in a few words.
pub fn end_words(run: &RunRow) -> String {
    match run.end.outcome {
        RunOutcome::Refused => format!("run {} was refused: {}", run.number, run.end.message),
        _ => format!("run {}: {}", run.number, result_of(&run.end)),
    }
}

pub(super) fn finished_words(line: &Value) -> (String, bool) {
    let number = |key: &str| line[key].as_u64().unwrap_or(0);
    let outcome = line["outcome"].as_str().unwrap_or_default();
    let done = number("added") + number("updated") + number("moved") + number("removed") + number("meta");
    let mut words = match line["message"].as_str() {
        Some(message) => format!("{outcome}: {message}"),
        None => format!("{outcome}, {}", crate::text::count(done, "item", "items")),
    };
    if number("problems") > 0 {
        words.push_str(&format!(", {}", crate::text::count(number("problems"), "problem", "problems")));
    }
    if number("conflicts") > 0 {
        words.push_str(&format!(
            ", {} held",
            crate::text::count(number("conflicts"), "conflict", "conflicts")
        ));
    }
    (words, outcome != "done")
}

/// A text for the screen: what would move the cursor is shown as a question mark.
pub(super) fn clean(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { '?' } else { c }).collect()
}
