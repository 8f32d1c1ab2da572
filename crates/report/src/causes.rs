//! Problems by cause, and what would leave them out.

use std::collections::{BTreeMap, HashMap};

use reedhook_core::filter::line_for;
use reedhook_core::foreign::escaped;
use reedhook_core::path::RelPath;
use reedhook_core::problem::hint;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::jobfile::{ONCE, load_job};
use reedhook_jobs::logline::LogLine;
use reedhook_jobs::logs;
use reedhook_record::ProblemGroup;

/// So many lines of a filter are shown.
const LINES: usize = 3;

/// No more lines than these are looked at: of a million problems the first few say enough.
const MOST: usize = 10_000;

/// Problems of one job with one cause.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// The job's name.
    pub job: String,
    /// The cause.
    pub code: String,
    /// In how many runs.
    pub runs: u64,
    /// The number of the newest of them.
    pub run: i64,
    /// How many items it had.
    pub items: u64,
    /// The job's newest run still had it.
    pub still: bool,
    /// The first item.
    pub path: String,
    /// What was said of it.
    pub message: String,
    /// What to do about it, in one sentence.
    pub advice: &'static str,
    /// What would leave them out; `None` where that is no way to deal with this cause.
    pub leave_out: Option<LeaveOut>,
}

/// How items are left out from now on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeaveOut {
    /// The filter lines, as many as are shown.
    pub lines: Vec<String>,
    /// How many more there are.
    pub more: u64,
    /// The command that adds them.
    pub command: String,
}

/// Causes that belong to an item and not to a moment, a medium or a person: it can be left out for good.
const LASTING: [&str; 8] = [
    "no-rights",
    "name-too-long",
    "name-refused",
    "name-clash",
    "too-large",
    "kind-differs",
    "occupied",
    "refused-there",
];

/// A run that had problems.
#[derive(Debug, Clone)]
pub struct Troubled {
    /// Its key in the record.
    pub id: i64,
    /// The job's name.
    pub job: String,
    /// Its number among the job's runs.
    pub number: i64,
    /// Its name.
    pub run: String,
}

/// Puts the problems of runs together by job and cause: those of the newest run that had it, since the same item has it every time.
/// `newest` are the keys of the jobs' newest runs.
///
/// # Errors
/// When a log cannot be read.
pub fn troubles(
    desk: &Desk,
    runs: &HashMap<i64, Troubled>,
    newest: &HashMap<String, i64>,
    groups: Vec<(i64, ProblemGroup)>,
) -> Outcome<Vec<Trouble>> {
    // By job and cause: in how many runs, and the newest of them.
    let mut found: BTreeMap<(String, String), (u64, &Troubled, ProblemGroup)> = BTreeMap::new();
    for (id, group) in groups {
        let Some(run) = runs.get(&id) else { continue };
        let key = (run.job.clone(), group.code.clone());
        let times = found.get(&key).map_or(0, |(times, ..)| *times);
        found.insert(key, (times + 1, run, group));
    }
    let mut troubles = Vec::new();
    for ((job, code), (times, run, group)) in found {
        let still = newest.get(&job) == Some(&run.id);
        let leave_out = if still { leave_out(desk, run, &group)? } else { None };
        let path = escaped(&String::from_utf8_lossy(&group.path));
        troubles.push(Trouble {
            advice: hint(&code),
            run: run.number,
            runs: times,
            items: group.count,
            message: group.message,
            still,
            path,
            leave_out,
            job,
            code,
        });
    }
    // What is still there comes first, then what concerns most.
    troubles.sort_by(|a, b| {
        b.still
            .cmp(&a.still)
            .then(b.items.cmp(&a.items))
            .then_with(|| (&a.job, &a.code).cmp(&(&b.job, &b.code)))
    });
    Ok(troubles)
}

fn leave_out(desk: &Desk, run: &Troubled, group: &ProblemGroup) -> Outcome<Option<LeaveOut>> {
    if !LASTING.contains(&group.code.as_str()) || run.job == ONCE {
        return Ok(None);
    }
    let Ok(job) = load_job(&desk.home, &run.job) else { return Ok(None) };
    let mut lines: Vec<String> = Vec::new();
    if group.count == 1 {
        lines.extend(RelPath::new(&group.path).ok().as_ref().and_then(line_for));
    } else {
        logs::read(&desk.home.run_log(&run.job, &run.run), |_, line| {
            if let LogLine::Problem { code, path, .. } = line
                && code == group.code
                && lines.len() < MOST
            {
                lines.extend(line_for(&path));
            }
        })?;
    }
    lines.sort();
    lines.dedup();
    // Somebody may have left them out since.
    lines.retain(|line| !job.keys.exclude.contains(line));
    let command = match lines.as_slice() {
        [] => return Ok(None),
        [line] => format!("reedhook job filter {} --add {}", run.job, quoted(line)),
        _ => format!(
            "reedhook job filter {} --from-problems {} --code {} --yes",
            run.job, run.number, group.code
        ),
    };
    let all = if lines.len() < MOST { lines.len() as u64 } else { group.count };
    let more = all.saturating_sub(LINES as u64);
    lines.truncate(LINES);
    Ok(Some(LeaveOut { lines, more, command }))
}

/// A word as the shell reads it.
pub fn quoted(word: &str) -> String {
    let plain =
        |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '-' | '_' | '@' | ':' | '+' | ',' | '=');
    match !word.is_empty() && word.chars().all(plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\\''")),
    }
}
