//! `conflicts` and `settle`: both versions side by side, and who wins.
//!
//! Settling is an ordinary run of the job, limited to the paths in conflict, with the person's word in the place of the job's
//! policy. So what loses is kept, and the run is in the history and can be undone.

use std::io::Read;
use std::path::PathBuf;

use reedhook_core::entry::{EntryKind, Meta, Side};
use reedhook_core::job::{ConflictPolicy, Kind};
use reedhook_core::path::RelPath;
use reedhook_core::plan::guard::Lift;
use reedhook_core::store::{Store, StoreExt};
use reedhook_core::walk::two_way::Conflict;
use reedhook_jobs::both::Both;
use reedhook_jobs::jobfile::{Job, known_job};
use reedhook_jobs::look::glance;
use reedhook_jobs::places::typed_path;
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::Sort;
use reedhook_jobs::two_way::{self, Settling};
use serde_json::{Value, json};
use similar::{ChangeTag, TextDiff};

use super::run::{Wanted, not_begun, run_and_tell};
use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome, suggestion};
use crate::text::{Align, BOLD, CARE, Columns, DIM, bytes, count, moment, styled};
use crate::{ask, json as lines};

/// The exit code while conflicts are held.
const HELD: u8 = 4;

/// Files up to this size are looked into for the first line that differs.
const LOOKED_INTO: u64 = 1 << 20;

/// Lists the conflicts that are held.
pub fn conflicts(context: &Context, name: &str) -> Outcome {
    let (job, both) = look(context, name)?;
    let held: Vec<&Conflict> = both.held().collect();
    if context.global.json {
        held.iter().for_each(|conflict| lines::print(&as_json(conflict)));
    } else if held.is_empty() {
        context.say(format!("{name} has no conflicts."));
    } else {
        let mut text = heading(&job, held.len());
        for conflict in &held {
            text.push_str(&described(&both, conflict));
        }
        context.say(text.trim_end());
        context.say(format!(
            "\nSettle one: reedhook settle {name} PATH --keep left|right|both\nAll of them: reedhook settle {name} --all --keep newest"
        ));
    }
    Ok(if held.is_empty() { 0 } else { HELD })
}

fn heading(job: &Job, number: usize) -> String {
    let held = if number == 1 { "is held" } else { "are held" };
    format!(
        "{}: {} {held}; both versions are untouched.\n",
        styled(BOLD, &job.name),
        count(number as u64, "conflict", "conflicts")
    )
}

fn look(context: &Context, name: &str) -> Outcome<(Job, Both)> {
    let job = known_job(&context.desk.home, name, None)?;
    if job.rules.kind != Kind::TwoWay {
        return Err(Failure::usage(format!(
            "{name} is a {}; only two-way jobs have conflicts",
            job.rules.kind
        )));
    }
    let preview = glance(&context.desk, &job)?;
    let both = preview.both.ok_or_else(|| Failure::usage("the job has no two sides"))?;
    Ok((job, both))
}

/// A conflict as a line of JSON.
pub fn as_json(conflict: &Conflict) -> Value {
    let side = |meta: &Meta| {
        let modified = meta.modified.map(|stamp| lines::StampText(stamp).to_string());
        json!({"size": meta.size, "modified": modified, "kind": kind_word(meta)})
    };
    let mut object = lines::object(json!({"event": "conflict"}));
    object.extend(lines::path_object(&conflict.path));
    object.insert("left".into(), side(&conflict.left));
    object.insert("right".into(), side(&conflict.right));
    Value::Object(object)
}

fn kind_word(meta: &Meta) -> &'static str {
    match meta.kind {
        EntryKind::File => "file",
        EntryKind::Folder => "folder",
        EntryKind::Link => "link",
        EntryKind::Special(_) => "special",
    }
}

/// Both versions side by side.
fn described(both: &Both, conflict: &Conflict) -> String {
    let mut text = format!("\n  {}\n", styled(BOLD, &conflict.path));
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Left]);
    // A folder's time says nothing of what is in it.
    let told = !conflict.left.is_folder() && !conflict.right.is_folder();
    let newer = match conflict.left.modified.cmp(&conflict.right.modified) {
        _ if !told => None,
        std::cmp::Ordering::Greater => Some(Side::Left),
        std::cmp::Ordering::Less => Some(Side::Right),
        std::cmp::Ordering::Equal => None,
    };
    for (side, meta) in [(Side::Left, &conflict.left), (Side::Right, &conflict.right)] {
        let size = if meta.kind == EntryKind::File { bytes(meta.size) } else { kind_word(meta).to_owned() };
        let when = meta.modified.map_or("?".to_owned(), |stamp| moment(stamp.seconds() * 1000));
        let note = if newer == Some(side) { "newer" } else { "" };
        table.row(vec![side.to_string(), size, when, note.to_owned()]);
    }
    text.push_str(&table.render(4));
    text.push_str(&first_difference(both, conflict));
    text
}

/// A version as text, where it is a file that is short and text.
fn text_of(store: &dyn Store, path: &RelPath, meta: &Meta) -> Option<String> {
    if meta.kind != EntryKind::File || meta.size > LOOKED_INTO {
        return None;
    }
    let content = store.read_small(path, LOOKED_INTO).ok()??;
    if content.contains(&0) { None } else { String::from_utf8(content).ok() }
}

fn both_texts(both: &Both, conflict: &Conflict) -> Option<(String, String)> {
    let left = text_of(both.left.as_ref(), &conflict.path, &conflict.left)?;
    Some((left, text_of(both.right.as_ref(), &conflict.path, &conflict.right)?))
}

fn first_difference(both: &Both, conflict: &Conflict) -> String {
    if conflict.left.kind != EntryKind::File || conflict.right.kind != EntryKind::File {
        return String::new();
    }
    let Some((left, right)) = both_texts(both, conflict) else {
        let why = if is_binary(both, conflict) { "binary" } else { "too large to be looked into" };
        return format!("    {}\n", styled(DIM, why));
    };
    let (mut ours, mut theirs) = (left.lines(), right.lines());
    for number in 1.. {
        match (ours.next(), theirs.next()) {
            (None, None) => break,
            (one, other) if one == other => {}
            (one, other) => {
                let shown = |line: Option<&str>| line.map_or("(ends before)".to_owned(), shortened);
                return format!(
                    "    first difference, line {number}:\n      left   {}\n      right  {}\n",
                    shown(one),
                    shown(other)
                );
            }
        }
    }
    format!("    {}\n", styled(DIM, "they differ only in line ends"))
}

fn is_binary(both: &Both, conflict: &Conflict) -> bool {
    let begins_binary = |store: &dyn Store| {
        let mut beginning = Vec::new();
        let read =
            store.open(&conflict.path, 0).map(|content| content.take(8192).read_to_end(&mut beginning));
        read.is_ok()
            && (beginning.contains(&0)
                || std::str::from_utf8(&beginning).is_err_and(|error| error.error_len().is_some()))
    };
    begins_binary(both.left.as_ref()) || begins_binary(both.right.as_ref())
}

/// A line for the terminal: no control characters, and not too long.
fn shortened(line: &str) -> String {
    let safe: String = line.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
    match safe.char_indices().nth(72) {
        Some((end, _)) => format!("{}…", &safe[..end]),
        None => safe,
    }
}

/// Settles conflicts: at these paths or all of them, by the word given or, on a terminal, one after the other.
pub fn settle(
    context: &Context,
    name: &str,
    paths: &[PathBuf],
    all: bool,
    keep: Option<ConflictPolicy>,
) -> Outcome {
    let (job, both) = look(context, name)?;
    let held: Vec<&Conflict> = both.held().collect();
    let chosen = chosen(&held, paths, name)?;
    if chosen.is_empty() {
        context.say(format!("{name} has no conflicts."));
        return Ok(0);
    }
    let decisions = match keep {
        Some(ConflictPolicy::Hold) => {
            return Err(Failure::usage("a conflict that is to be held needs no settling"));
        }
        Some(policy) if all || !paths.is_empty() => {
            vec![(policy, chosen.iter().map(|conflict| conflict.path.clone()).collect())]
        }
        Some(_) => return Err(Failure::usage("which conflicts?").hint("Name the paths, or say --all.")),
        None if context.can_ask() => ask_each(context, &both, &chosen)?,
        None => {
            return Err(Failure::usage("nobody can be asked here")
                .hint("Say who wins with --keep left|right|both|newest."));
        }
    };
    drop(both);
    let mut code = 0;
    for (policy, paths) in decisions {
        code = carry_out(context, &job, Settling { paths, policy, afresh: false })?.max(code);
    }
    Ok(code)
}

/// The conflicts at the named paths; all of them when none is named.
fn chosen<'a>(held: &[&'a Conflict], paths: &[PathBuf], name: &str) -> Outcome<Vec<&'a Conflict>> {
    if paths.is_empty() {
        return Ok(held.to_vec());
    }
    let mut found = Vec::new();
    for typed in paths {
        let path = typed_path(typed)?;
        match held.iter().find(|conflict| conflict.path == path) {
            Some(conflict) => found.push(*conflict),
            None => {
                let known: Vec<String> = held.iter().map(|conflict| conflict.path.to_string()).collect();
                let message = format!("{path} is not in conflict");
                return Err(Failure { cause: Cause::NoConflict, ..Failure::usage(message) }.hint(
                    if known.is_empty() {
                        format!("{name} has no conflicts.")
                    } else {
                        suggestion(&path.to_string(), &known, "conflict")
                    },
                ));
            }
        }
    }
    Ok(found)
}

fn carry_out(context: &Context, job: &Job, settling: Settling) -> Outcome {
    let desk = &context.desk;
    // A person has named each of these paths.
    let lifted = [Lift::Changes, Lift::Removals, Lift::Empty];
    let look = || two_way::look_at_settling(desk, job, &settling);
    let wanted = Wanted { job, sort: Sort::Settle, look: &look };
    let (result, code) = match run_and_tell(context, &wanted, &lifted, &mut |_: &Preview, _| Ok(())) {
        Ok(ran) => ran,
        Err(failure) => return not_begun(context, job, failure),
    };
    let undecided = settling.policy == ConflictPolicy::Newest && result.counts.conflicts > 0;
    if undecided && !context.global.json {
        let words = "Times do not tell who is newer: they are the same, or one side holds a folder. Say it for each path";
        context.say(format!("{words}: reedhook settle {} PATH --keep left|right|both", job.name));
    }
    Ok(code)
}

/// What was decided: a policy and the paths that it is for.
type Decisions = Vec<(ConflictPolicy, Vec<RelPath>)>;

/// Shows each conflict and reads one key.
fn ask_each(context: &Context, both: &Both, conflicts: &[&Conflict]) -> Outcome<Decisions> {
    const KEYS: &str = "[l]eft  [r]ight  [b]oth  [n]ewest  [d]ifference  [s]kip  [q]uit";
    let mut decisions: Decisions = Vec::new();
    'conflicts: for (number, conflict) in conflicts.iter().enumerate() {
        context.say(format!(
            "\nConflict {} of {}{}",
            number + 1,
            conflicts.len(),
            described(both, conflict).trim_end()
        ));
        loop {
            context.say(format!("    Keep which?  {}", styled(DIM, KEYS)));
            let policy = match ask::key()?.to_ascii_lowercase() {
                'l' => ConflictPolicy::Left,
                'r' => ConflictPolicy::Right,
                'b' => ConflictPolicy::Both,
                'n' => ConflictPolicy::Newest,
                'd' => {
                    context.say(difference(both, conflict).trim_end());
                    continue;
                }
                's' => {
                    context.say("    skipped");
                    continue 'conflicts;
                }
                'q' => break 'conflicts,
                _ => continue,
            };
            context.say(format!("    {policy}"));
            match decisions.iter_mut().find(|(known, _)| *known == policy) {
                Some((_, paths)) => paths.push(conflict.path.clone()),
                None => decisions.push((policy, vec![conflict.path.clone()])),
            }
            break;
        }
    }
    Ok(decisions)
}

/// The lines that differ, with a little around them.
fn difference(both: &Both, conflict: &Conflict) -> String {
    /// More would fill the screen; who wants it all has both files.
    const LINES: usize = 40;
    let Some((left, right)) = both_texts(both, conflict) else {
        return format!("    {}", styled(DIM, "no text to compare"));
    };
    let diff = TextDiff::from_lines(&left, &right);
    let mut shown = Vec::new();
    for group in diff.grouped_ops(2) {
        for change in group.iter().flat_map(|operation| diff.iter_changes(operation)) {
            let (word, style) = match change.tag() {
                ChangeTag::Delete => ("left ", CARE),
                ChangeTag::Insert => ("right", BOLD),
                ChangeTag::Equal => ("     ", DIM),
            };
            shown.push(format!(
                "    {}",
                styled(style, format!("{word}  {}", shortened(change.value().trim_end())))
            ));
        }
    }
    if shown.len() > LINES {
        let more = shown.len() - LINES;
        shown.truncate(LINES);
        shown.push(format!("    … and {}", count(more as u64, "more line", "more lines")));
    }
    shown.join("\n")
}
