//! What plans, runs and mappings look like for people.

pub(crate) mod lines;
pub(crate) mod outcome;

pub use crate::render::lines::beyond_line;
pub use crate::render::outcome::{count_table, outcome_line, problem_groups, summary, undo_summary};

use std::collections::BTreeMap;
use std::fmt::Write;

use reedhook_core::entry::{Meta, Side};
use reedhook_core::job::{JobRules, Kind, Removals, Removed, Replaced};
use reedhook_core::path::RelPath;
use reedhook_core::plan::two_way::Settled;
use reedhook_core::plan::{Action, Fate, FolderPlan, Role, Step};
use reedhook_core::problem::Problem;
use reedhook_core::run::{kept_root, step_size};
use reedhook_jobs::both::Both;
use reedhook_jobs::home::Home;
use reedhook_jobs::places::Ends;
use reedhook_jobs::preview::{DestinationPlan, Preview};

use crate::render::lines::{beyond, shifted_line};
use crate::text::{Align, BOLD, CARE, Columns, DIM, bytes, count, grouped, styled};

/// Lists longer than this are folded by folder.
pub const FOLD_OVER: usize = 30;

/// Where things land, in plain words.
pub fn mapping(kind: Kind, ends: &Ends, home: &Home) -> Vec<String> {
    let mut lines = Vec::new();
    if let (Kind::TwoWay, [left], [right]) = (kind, ends.from.as_slice(), ends.to.as_slice()) {
        return vec![format!(
            "What is directly in {} and what is directly in {} become the same.",
            left.short(home),
            right.short(home)
        )];
    }
    for to in &ends.to {
        match ends.from.as_slice() {
            [from] => {
                lines.push(format!("What is in {} lands directly in {}.", from.short(home), to.short(home)))
            }
            several => {
                for from in several {
                    let name = from.name().unwrap_or_default();
                    let name = name.to_string_lossy();
                    let target = format!("{}/{name}", to.written.trim_end_matches('/'));
                    lines.push(format!("What is in {} lands in {target}.", from.short(home)));
                }
            }
        }
    }
    lines
}

/// A job's heading: name, kind, sides.
pub fn heading(preview: &Preview, home: &Home) -> String {
    let mut text = format!("{}  {}\n", styled(BOLD, &preview.job.name), preview.job.rules.kind);
    let mut sides = Columns::new(&[Align::Left, Align::Left]);
    let (left, right) = if preview.both.is_some() { ("left", "right") } else { ("from", "to") };
    for from in &preview.ends.from {
        sides.row(vec![left.into(), from.shown(home)]);
    }
    for to in &preview.ends.to {
        sides.row(vec![right.into(), to.shown(home)]);
    }
    text.push_str(&sides.render(2));
    text
}

/// That a source holds nothing, which may be right: an inbox at night. Nothing where it holds something.
pub fn empty_source(preview: &Preview, destination: &DestinationPlan, home: &Home) -> Option<String> {
    let empty =
        preview.both.is_none() && destination.plan.left_items == 0 && destination.plan.folders_seen <= 1;
    let from: Vec<String> = preview.ends.from.iter().map(|from| from.short(home)).collect();
    let why = match destination.plan.filtered {
        0 => String::new(),
        _ => format!(
            ": the filter leaves out all of it, and `reedhook job filter {}` shows which line does",
            preview.job.name
        ),
    };
    (empty && !from.is_empty())
        .then(|| format!("The source {} holds nothing that takes part{why}.", from.join(", ")))
}

/// What a run would do, for one destination.
pub fn plan(preview: &Preview, destination: &DestinationPlan, home: &Home, all: bool) -> String {
    let mut text = String::new();
    if destination.to_be_made {
        let _ = writeln!(text, "  The folder {} will be made.", destination.to.shown(home));
    }
    text.push_str(&totals(preview, destination));
    for section in SECTIONS {
        text.push_str(&section_text(preview, destination, section, all));
    }
    text.push_str(&problem_list(&destination.plan.problems, all));
    text
}

/// A group of actions in a preview.
struct Section {
    word: &'static str,
    title: &'static str,
    wanted: fn(&Step) -> bool,
}

const SECTIONS: &[Section] = &[
    Section {
        word: "add",
        title: "Add",
        wanted: |step| matches!(step, Step::Add { .. } | Step::SecondName { was: None, .. }),
    },
    Section {
        word: "update",
        title: "Update",
        wanted: |step| matches!(step, Step::Update { .. } | Step::SecondName { was: Some(_), .. }),
    },
    Section {
        word: "move",
        title: "Move (renamed there; nothing is copied)",
        wanted: |step| matches!(step, Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. }),
    },
    Section { word: "remove", title: "Remove", wanted: |step| matches!(step, Step::Remove { .. }) },
    Section {
        word: "adjust",
        title: "Adjust mode or time",
        wanted: |step| matches!(step, Step::Metadata { .. }),
    },
    Section { word: "leave", title: "Leave", wanted: |step| matches!(step, Step::Leave { .. }) },
];

fn actions<'a>(
    destination: &'a DestinationPlan,
    section: &'a Section,
) -> impl Iterator<Item = (&'a FolderPlan, &'a Action)> {
    let all = destination
        .plan
        .folders
        .iter()
        .flat_map(|folder| folder.actions.iter().map(move |action| (folder, action)));
    all.filter(|(_, action)| (section.wanted)(&action.step))
}

fn totals(preview: &Preview, destination: &DestinationPlan) -> String {
    let plan = &destination.plan;
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right, Align::Left]);
    let noun = |number: u64| if number == 1 { "file" } else { "files" }.to_owned();
    for section in SECTIONS {
        let (mut files, mut size) = (0, 0);
        for (_, action) in actions(destination, section) {
            files += step_items(&action.step);
            size += step_size(&action.step);
        }
        if files > 0 {
            let note = section_note(preview, section.word);
            // Of what is moved no byte travels.
            let size = if section.word == "move" { String::new() } else { bytes(size) };
            table.row(vec![section.word.into(), grouped(files), noun(files), size, note]);
        }
    }
    let same = plan.same;
    if preview.both.is_none() {
        table.row(vec!["same".into(), grouped(same), noun(same), String::new(), String::new()]);
    }
    let mut text = table.render(2);
    let mut more = Vec::new();
    if plan.folders_made() > 0 {
        more.push(format!("{} made", count(plan.folders_made(), "folder", "folders")));
    }
    if plan.folders_removed() > 0 {
        more.push(format!("{} removed", count(plan.folders_removed(), "folder", "folders")));
    }
    let remoded = plan.folders.iter().filter(|folder| folder.remode).count() as u64;
    if remoded > 0 {
        more.push(format!("the mode of {} adjusted", count(remoded, "folder", "folders")));
    }
    if plan.filtered > 0 {
        more.push(format!("{} left out by the filter", count(plan.filtered, "entry", "entries")));
    }
    if !more.is_empty() {
        let _ = writeln!(text, "  {}.", more.join("; "));
    }
    text.push_str(&shifted_line(plan.shifted));
    if preview.both.is_none() {
        text.push_str(&beyond_line(plan.beyond));
    }
    text
}

fn section_note(preview: &Preview, word: &str) -> String {
    let rules = &preview.job.rules;
    match word {
        "update" if rules.replaced == Replaced::Keep => "the old versions are kept".into(),
        "update" => "the old versions are erased".into(),
        "remove" if rules.removed == Removed::Keep => "set aside as kept copies".into(),
        "remove" if rules.removed == Removed::Trash => "moved to the trash".into(),
        "remove" => "erased for good".into(),
        _ => String::new(),
    }
}

fn section_text(preview: &Preview, destination: &DestinationPlan, section: &Section, all: bool) -> String {
    let items: Vec<_> = actions(destination, section).collect();
    if items.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}\n", styled(BOLD, section.title));
    if section.word == "remove" {
        let _ = writeln!(text, "  {}", removal_words(preview, destination));
    }
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left]);
    if all || items.len() <= FOLD_OVER {
        for (folder, action) in items {
            table.row(vec![item_path(folder, action), item_size(action), item_note(action)]);
        }
        text.push_str(&table.render(2));
    } else {
        fold(&items, &mut table);
        text.push_str(&table.render(2));
        let _ = writeln!(text, "  {}", styled(DIM, "(folded by folder; --all lists every item)"));
    }
    text
}

/// What a run would remove, in plain words.
pub fn removal_words(preview: &Preview, destination: &DestinationPlan) -> String {
    let plan = &destination.plan;
    let number = plan.counts().removed;
    let removed = count(number, "file that is", "files that are");
    let (gone, here) = match &preview.both {
        Some(_) => (format!("at the {}", plan.changes.other()), format!("at the {}", plan.changes)),
        None => ("at the source".to_owned(), "at the destination".to_owned()),
    };
    let fate = match preview.job.rules.removed {
        Removed::Keep => format!("set aside in {} {here}", kept_root()),
        Removed::Trash => "moved to the trash".to_owned(),
        Removed::Erase => "erased for good".to_owned(),
    };
    let they_are = if number == 1 { "It is" } else { "They are" };
    format!("{removed} no longer {gone}. {they_are} {fate}.")
}

fn item_path(folder: &FolderPlan, action: &Action) -> String {
    let path = folder.path.join(&action.name);
    if matches!(action.step, Step::MoveFolder { .. }) { format!("{path}/") } else { path.to_string() }
}

fn step_items(step: &Step) -> u64 {
    if let Step::MoveFolder { items, .. } = step { *items } else { 1 }
}

fn item_size(action: &Action) -> String {
    match &action.step {
        Step::Add { from }
        | Step::Update { from, .. }
        | Step::Metadata { from, .. }
        | Step::Leave { from, .. } => size(from),
        Step::Remove { was } => size(was),
        Step::Move { to, .. } => size(to),
        Step::Respell { was, .. } if was.is_folder() => "folder".to_owned(),
        Step::Respell { was, .. } => size(was),
        Step::MoveFolder { items, .. } => count(*items, "file", "files"),
        Step::SecondName { .. } => "2nd name".to_owned(),
    }
}

fn size(meta: &Meta) -> String {
    if meta.target.is_some() { "link".to_owned() } else { bytes(meta.size) }
}

fn item_note(action: &Action) -> String {
    match &action.step {
        Step::Update { from, was } if from.size != was.size => format!("was {}", bytes(was.size)),
        Step::Leave { reason, .. } => reason.words().to_owned(),
        Step::Add { .. } if action.role == Role::Revived => {
            "comes back: it was removed here, but changed there".to_owned()
        }
        Step::Move { from, .. } | Step::Respell { from, .. } => format!("from {from}"),
        Step::MoveFolder { from, .. } => format!("from {from}/"),
        _ => String::new(),
    }
}

/// A long list as its folders. Few folders are shown as they are; many are gathered under the folders above them.
fn fold(items: &[(&FolderPlan, &Action)], table: &mut Columns) {
    let mut depth = items.iter().map(|(folder, _)| levels(&folder.path)).max().unwrap_or(0);
    let mut folded = gather(items, depth);
    while folded.len() > FOLD_OVER && depth > 1 {
        depth -= 1;
        folded = gather(items, depth);
    }
    for (path, (files, size)) in folded.iter().take(FOLD_OVER) {
        let shown = if path.is_root() { "(top folder)".to_owned() } else { format!("{path}/") };
        table.row(vec![shown, count(*files, "file", "files"), bytes(*size)]);
    }
    if folded.len() > FOLD_OVER {
        let files: u64 = folded.values().skip(FOLD_OVER).map(|(files, _)| files).sum();
        let folders = count((folded.len() - FOLD_OVER) as u64, "more folder", "more folders");
        table.row(vec![format!("… and {folders}"), count(files, "file", "files"), String::new()]);
    }
}

fn levels(path: &RelPath) -> usize {
    path.parts().count()
}

fn gather(items: &[(&FolderPlan, &Action)], depth: usize) -> BTreeMap<RelPath, (u64, u64)> {
    let mut folded: BTreeMap<RelPath, (u64, u64)> = BTreeMap::new();
    for (folder, action) in items {
        let parts: Vec<&[u8]> = folder.path.parts().take(depth).collect();
        let above = RelPath::new(&parts.join(&b'/')).unwrap_or_default();
        let entry = folded.entry(above).or_default();
        entry.0 += step_items(&action.step);
        entry.1 += step_size(&action.step);
    }
    folded
}

/// What could not be looked at, or is impossible.
pub fn problem_list(problems: &[Problem], all: bool) -> String {
    if problems.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}\n", styled(BOLD, "Problems"));
    let mut table = Columns::new(&[Align::Left, Align::Left]);
    let shown = if all { problems.len() } else { problems.len().min(FOLD_OVER) };
    for problem in &problems[..shown] {
        table.row(vec![problem.path.to_string(), format!("{} ({})", problem.message, problem.side)]);
    }
    text.push_str(&styled(CARE, table.render(2)));
    if shown < problems.len() {
        let _ = writeln!(text, "  … and {} more (--all lists them)", problems.len() - shown);
    }
    text
}

/// Whether a destination's plan has nothing to show.
pub fn nothing_to_do(destination: &DestinationPlan) -> bool {
    destination.plan.is_empty()
        && destination.plan.problems.is_empty()
        && destination.plan.counts().skipped == 0
        && !destination.to_be_made
}

/// The folders that a destination makes or removes, for JSON readers.
pub fn folder_fates(
    destination: &DestinationPlan,
) -> impl Iterator<Item = (&FolderPlan, reedhook_core::run::Done)> {
    use reedhook_core::run::Done;
    destination.plan.folders.iter().filter_map(|folder| match folder.fate {
        Fate::Make => Some((folder, Done::FolderMade)),
        Fate::Remove => Some((folder, Done::FolderRemoved)),
        Fate::Stay => folder.remode.then_some((folder, Done::Metadata)),
    })
}

/// What removals mean for a kind of job, for `job show` and `job add`.
pub fn kind_sentence(rules: &JobRules) -> String {
    let noun = if rules.kind == Kind::TwoWay { "two-way job" } else { rules.kind.as_str() };
    format!("A {noun} {}.", kind_means(rules))
}

fn kind_means(rules: &JobRules) -> String {
    match (rules.kind, rules.removed) {
        (Kind::TwoWay, _) if rules.removals == Removals::Ignore => {
            "keeps both sides alike in what is new or changed; what is removed at one stays at the other".to_owned()
        }
        (Kind::TwoWay, Removed::Erase) => {
            "keeps both sides alike: what is new, changed or removed at one becomes so at the other, where it is erased for good"
                .to_owned()
        }
        (Kind::TwoWay, Removed::Trash) => {
            "keeps both sides alike: what is new, changed or removed at one becomes so at the other, where it is moved to the trash"
                .to_owned()
        }
        (Kind::Mirror, Removed::Erase) => {
            "makes the right like the left; what is only on the right is erased there for good".to_owned()
        }
        (Kind::Mirror, Removed::Trash) => {
            "makes the right like the left; what is only on the right is moved to the trash".to_owned()
        }
        (kind, _) => kind.explained().to_owned(),
    }
}

/// What a run of a two-way job would do: each direction by itself, then what is in conflict.
pub fn both_ways(preview: &Preview, both: &Both, home: &Home, all: bool) -> String {
    let mut text = String::new();
    let problems = preview.counts().problems;
    let quiet = preview.destinations.iter().all(|destination| destination.plan.is_empty())
        && both.conflicts.is_empty()
        && problems == 0;
    let same = preview.counts().same;
    if quiet {
        let same = count(same, "file is", "files are");
        return format!("\n  Nothing to do: {same} the same on both sides.\n") + &beyond(preview);
    }
    for destination in preview.destinations.iter().filter(|destination| !nothing_to_do(destination)) {
        let title = match destination.plan.changes {
            Side::Right => "To the right  (left → right)",
            Side::Left => "To the left  (left ← right)",
        };
        let _ = writeln!(text, "\n{}", styled(BOLD.underline(), title));
        text.push_str(&plan(preview, destination, home, all));
    }
    text.push_str(&conflict_list(both, all));
    let _ = writeln!(text, "\n  {} the same on both sides.", count(same, "file is", "files are"));
    text.push_str(&beyond(preview));
    text
}

fn conflict_list(both: &Both, all: bool) -> String {
    if both.conflicts.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}\n", styled(BOLD.underline(), "In conflict: both sides have changed"));
    let mut table = Columns::new(&[Align::Left, Align::Left]);
    let shown = if all { both.conflicts.len() } else { both.conflicts.len().min(FOLD_OVER) };
    for conflict in &both.conflicts[..shown] {
        let outcome = match conflict.settled {
            Settled::Held => "held: both stay as they are until you settle it".to_owned(),
            Settled::Wins(side) => format!("the {side} one wins; the other is kept"),
            Settled::Both(side) => format!("both stay; the {side} one keeps the name"),
        };
        table.row(vec![conflict.path.to_string(), outcome]);
    }
    text.push_str(&styled(CARE, table.render(2)));
    if shown < both.conflicts.len() {
        let _ = writeln!(text, "  … and {} more (--all lists them)", both.conflicts.len() - shown);
    }
    text
}
