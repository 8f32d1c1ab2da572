//! How a run ended, as text.

use std::fmt::Write;

use reedhook_core::job::{Removed, Replaced};
use reedhook_core::path::RelPath;
use reedhook_core::problem::hint;
use reedhook_core::run::kept_root;
use reedhook_jobs::home::Home;
use reedhook_jobs::places::Located;
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::RunResult;
use reedhook_record::{Outcome as RunOutcome, ProblemGroup};

use crate::render::lines::{beyond, shifted_line};
use crate::text::{Align, BAD, CARE, Columns, GOOD, bytes, count, duration, grouped, rate, styled};

/// How a run went, in one word, coloured.
pub fn outcome_word(outcome: RunOutcome) -> String {
    match outcome {
        RunOutcome::Done => styled(GOOD, "Done"),
        RunOutcome::Problems => styled(CARE, "Done, with problems"),
        RunOutcome::Held => styled(CARE, "Done, conflicts are held"),
        RunOutcome::Refused => styled(BAD, "Refused"),
        RunOutcome::Stopped => styled(BAD, "Stopped on the way"),
        RunOutcome::Interrupted => styled(CARE, "Interrupted"),
        RunOutcome::Unfinished => styled(BAD, "Did not end"),
    }
}

/// How a run went, and how long it took.
pub fn outcome_line(outcome: RunOutcome, elapsed: std::time::Duration) -> String {
    let (word, took) = (outcome_word(outcome), duration(elapsed));
    match outcome {
        RunOutcome::Done => format!("{word} in {took}.\n"),
        _ => format!("{word}; it took {took}.\n"),
    }
}

/// The end of a run: what happened to files and bytes, how long it took, and what went wrong.
pub fn summary(preview: &Preview, result: &RunResult, home: &Home) -> String {
    let counts = &result.counts;
    let word = outcome_word(result.outcome);
    let took = duration(result.elapsed);
    let quiet =
        counts.changed() + counts.problems + counts.skipped + result.folders_made + result.folders_removed
            == 0;
    if quiet && result.outcome == RunOutcome::Done {
        return format!(
            "{word} in {took}: nothing to do, {} the same on both sides.\n",
            count(counts.same, "file is", "files are")
        ) + &beyond(preview);
    }
    let mut text = outcome_line(result.outcome, result.elapsed);
    text.push_str(&count_table(counts, result.folders_made, result.folders_removed).render(2));
    if counts.bytes > 0 {
        // A rate says nothing about a moment.
        let long = result.elapsed >= std::time::Duration::from_secs(1);
        let pace = if long { format!(" at {}", rate(counts.bytes, result.elapsed)) } else { String::new() };
        let _ = writeln!(text, "  {} written{pace}.", bytes(counts.bytes));
    }
    if result.unfinished > 0 {
        let _ = writeln!(
            text,
            "  {} of unfinished files are there; the next run goes on with them.",
            bytes(result.unfinished)
        );
    }
    if let Some(line) = kept_line(preview, result, home) {
        let _ = writeln!(text, "  {line}");
    }
    text.push_str(&shifted_line(
        preview.destinations.iter().map(|destination| destination.plan.shifted).sum(),
    ));
    text.push_str(&beyond(preview));
    text.push_str(&problem_groups(&result.problems));
    text
}

/// The end of an undo.
pub fn undo_summary(undone: &reedhook_record::RunRow, result: &RunResult) -> String {
    let counts = &result.counts;
    let run = format!("run {} of {}", undone.number, undone.job);
    let did = counts.changed() + result.folders_made + result.folders_removed > 0;
    let mut text = match (did, counts.problems) {
        (true, 0) => format!("{}: {run} is undone.\n", outcome_word(result.outcome)),
        (false, 0) => format!("Nothing to undo: everything is as it was before {run}.\n"),
        (true, left) => {
            let what = count(left, "item", "items");
            format!("{}: {run} is undone, except for {what}.\n", styled(CARE, "Partly done"))
        }
        (false, _) => format!("{}: nothing of {run} could be undone.\n", styled(CARE, "Not done")),
    };
    let rows = [
        (counts.removed, "that it added taken away"),
        (counts.moved, "that it moved put back"),
        (counts.updated, "that it replaced put back"),
        (counts.added, "that it removed brought back"),
        (counts.same, "already as they were"),
    ];
    for (number, words) in rows.into_iter().filter(|(number, _)| *number > 0) {
        let _ = writeln!(text, "  {} {words}", count(number, "file", "files"));
    }
    if counts.meta > 0 {
        let _ = writeln!(text, "  {} given their mode and time again", count(counts.meta, "item", "items"));
    }
    text.push_str(&problem_groups(&result.problems));
    text
}

/// The numbers of a run, one a row; rows of nothing are left out.
pub fn count_table(counts: &reedhook_core::plan::Counts, made: u64, removed: u64) -> Columns {
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left]);
    let rows = [
        ("added", counts.added),
        ("updated", counts.updated),
        ("moved", counts.moved),
        ("removed", counts.removed),
        ("adjusted", counts.meta),
        ("left", counts.skipped),
        ("settled", counts.settled),
        ("in conflict", counts.conflicts),
        ("same", counts.same),
        ("problems", counts.problems),
    ];
    for (word, number) in rows.into_iter().filter(|(word, number)| *number > 0 || *word == "same") {
        let noun = match word {
            "problems" => "",
            // Folders have a mode too.
            "adjusted" if number == 1 => "item",
            "adjusted" => "items",
            _ if number == 1 => "file",
            _ => "files",
        };
        let style = if matches!(word, "problems" | "in conflict") { CARE } else { anstyle::Style::new() };
        table.styled_row(style, vec![word.into(), grouped(number), noun.into()]);
    }
    for (word, number) in [("made", made), ("removed", removed)] {
        if number > 0 {
            let noun = if number == 1 { "folder" } else { "folders" };
            table.row(vec![word.into(), grouped(number), noun.into()]);
        }
    }
    table
}

pub(super) fn kept_line(preview: &Preview, result: &RunResult, home: &Home) -> Option<String> {
    let rules = &preview.job.rules;
    let kept = (result.counts.removed > 0 && rules.removed == Removed::Keep)
        || (result.counts.updated > 0 && rules.replaced == Replaced::Keep);
    if !kept {
        return None;
    }
    if preview.both.is_some() {
        let folder = format!("{}/{}", kept_root(), result.run);
        return Some(format!("What was replaced or removed is kept at the side where it was, in {folder}."));
    }
    let places: Vec<String> = preview.ends.to.iter().map(|to| kept_place(to, &result.run, home)).collect();
    Some(format!("What was replaced or removed is kept in {}.", places.join(" and ")))
}

pub(super) fn kept_place(to: &Located, run: &str, home: &Home) -> String {
    to.below(home, &format!("{}/{run}", kept_root()))
}

/// Problems by cause, each with its code, its first example and what to do.
pub fn problem_groups(groups: &[ProblemGroup]) -> String {
    let mut text = String::new();
    for group in groups {
        let path = RelPath::new(&group.path).unwrap_or_default();
        let _ =
            writeln!(text, "\n{}  {}", styled(CARE, &group.code), count(group.count, "problem", "problems"));
        let others =
            if group.count > 1 { format!(" (and {} more)", grouped(group.count - 1)) } else { String::new() };
        let _ = writeln!(text, "  {path}: {}{others}", group.message);
        let _ = writeln!(text, "  {}", hint(&group.code));
    }
    text
}
