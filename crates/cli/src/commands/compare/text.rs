//! A comparison as people read it: totals first, then what differs by state, folded by folder where there is much of it.

use std::collections::BTreeMap;
use std::fmt::Write;

use reedhook_core::compare::{Basis, DiffState};
use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::{Compared, Differing, Face, FolderTally, Tally};
use reedhook_jobs::jobfile::ONCE;

use crate::args::CompareArgs;
use crate::commands::compare::finding::{Finding, kind_word};
use crate::context::Context;
use crate::render::{FOLD_OVER, problem_list};
use crate::text::{
    Align, BOLD, CARE, Columns, DIM, GOOD, bytes, count, duration, grouped, moment, moment_exactly, rate,
    styled,
};

pub(super) fn told(context: &Context, finding: &Finding<'_>, asked: &CompareArgs) -> String {
    let mut text = heading(context, finding);
    text.push_str(&totals(finding, asked));
    if asked.counts {
        text.push_str(&counts(finding, asked.all));
    } else {
        for state in DiffState::ALL {
            text.push_str(&section(&finding.compared, state, asked.all));
        }
    }
    text.push_str(&problem_list(&finding.compared.problems, asked.all));
    text
}

fn heading(context: &Context, finding: &Finding<'_>) -> String {
    let pairing = finding.pairing;
    let home = &context.desk.home;
    let name = if pairing.job.name == ONCE { "compare" } else { &pairing.job.name };
    let how = match finding.how.basis {
        Basis::Time => "by kind, size and time; nothing was read".to_owned(),
        Basis::Size => "by kind and size alone; nothing was read".to_owned(),
        Basis::Content => format!(
            "byte by byte: {} read on each side in {}, {}",
            bytes(finding.compared.read),
            duration(finding.took),
            rate(2 * finding.compared.read, finding.took)
        ),
    };
    let mut sides = Columns::new(&[Align::Left, Align::Left, Align::Right, Align::Right, Align::Right]);
    let lefts: Vec<String> = pairing.lefts.iter().map(|place| place.shown(home)).collect();
    let rows = [("left", lefts.join(", ")), ("right", pairing.right_place.shown(home))];
    for ((word, place), tally) in rows.into_iter().zip(finding.compared.totals) {
        let row = [word.to_owned(), place].into_iter().chain(amounts(tally));
        sides.row(row.collect());
    }
    format!("{}  {how}\n{}", styled(BOLD, name), sides.render(2))
}

fn amounts(tally: Tally) -> [String; 3] {
    [count(tally.files, "file", "files"), count(tally.folders, "folder", "folders"), bytes(tally.bytes)]
}

/// What a state is called above a list.
fn title(state: DiffState) -> &'static str {
    match state {
        DiffState::OnlyLeft => "Only at the left",
        DiffState::OnlyRight => "Only at the right",
        DiffState::LeftNewer => "Newer at the left",
        DiffState::RightNewer => "Newer at the right",
        DiffState::Differs => "Different, and neither is newer",
        DiffState::Moved => "Moved (the same at another path)",
        DiffState::Kind => "A different kind of thing",
    }
}

fn totals(finding: &Finding<'_>, asked: &CompareArgs) -> String {
    let compared = &finding.compared;
    let mut text = String::from("\n");
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right]);
    let noun = |number: u64| if number == 1 { "file" } else { "files" }.to_owned();
    for state in DiffState::ALL {
        let here = compared.differences.iter().filter(|one| one.state == state);
        let (files, size) = here.fold((0, 0), |sum, one| (sum.0 + one.items, sum.1 + one.size()));
        if files > 0 {
            let size = if state == DiffState::Moved { String::new() } else { bytes(size) };
            table.row(vec![state.as_str().into(), grouped(files), noun(files), size]);
        }
    }
    table.row(vec!["same".into(), grouped(compared.same), noun(compared.same), String::new()]);
    text.push_str(&table.render(2));
    let mut more = Vec::new();
    if compared.folders_differing() > 0 {
        let folders = count(compared.folders_differing(), "folder is", "folders are");
        more.push(format!("{folders} on one side only"));
    }
    if compared.filtered > 0 {
        more.push(format!("{} left out by the filter", count(compared.filtered, "entry", "entries")));
    }
    if compared.unproved {
        more.push("what moved is told by names, sizes and times; --content reads it".to_owned());
    }
    if !more.is_empty() {
        let _ = writeln!(text, "  {}.", more.join("; "));
    }
    if compared.is_equal() && compared.problems.is_empty() {
        let sentence = match (asked.only.is_empty(), finding.how.basis) {
            (false, _) => "Nothing is in such a state.",
            (true, Basis::Content) => "Both sides hold the same.",
            (true, Basis::Time | Basis::Size) => "Nothing differs, as far as names, sizes and times tell.",
        };
        let sentence = match finding.how.basis {
            Basis::Size => sentence.replace("names, sizes and times", "names and sizes"),
            _ => sentence.to_owned(),
        };
        let _ = writeln!(text, "\n{}", styled(GOOD, sentence));
    }
    text
}

fn section(compared: &Compared, state: DiffState, all: bool) -> String {
    let items: Vec<&Differing> = compared.differences.iter().filter(|one| one.state == state).collect();
    if items.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}\n", styled(BOLD, title(state)));
    if all || items.len() <= FOLD_OVER {
        text.push_str(&listed(state, &items));
    } else {
        text.push_str(&folded(&items));
    }
    text
}

fn listed(state: DiffState, items: &[&Differing]) -> String {
    let both = matches!(state, DiffState::LeftNewer | DiffState::RightNewer | DiffState::Differs);
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Left, Align::Right, Align::Left]);
    if both {
        table.heading(&["", "left", "", "right", ""]);
    }
    for one in items {
        let path = if one.is_folder() { format!("{}/", one.path) } else { one.path.to_string() };
        let mut row = vec![path];
        row.extend(match state {
            DiffState::Moved => vec![size(one), elsewhere(one)],
            DiffState::Kind => vec![format!("{} here, {} there", kind_word(one.left), kind_word(one.right))],
            _ if both => {
                let times = times(one);
                let face = |face: Option<Face>| face.map(|face| bytes(face.size)).unwrap_or_default();
                let [left, right] = times;
                vec![face(one.left), left, face(one.right), right]
            }
            _ if one.is_folder() => vec!["folder".to_owned()],
            _ => vec![size(one), time(one.left.or(one.right), false)],
        });
        table.row(row);
    }
    table.render(2)
}

fn size(one: &Differing) -> String {
    let Some(face) = one.left.or(one.right) else { return String::new() };
    match kind_word(Some(face)) {
        "file" => bytes(face.size),
        "folder" if one.state == DiffState::Moved => count(one.items, "file", "files"),
        word => word.to_owned(),
    }
}

fn elsewhere(one: &Differing) -> String {
    let slash = if one.is_folder() { "/" } else { "" };
    one.right_path.as_ref().map_or(String::new(), |path| format!("at the right: {path}{slash}"))
}

/// The times of both sides, with seconds where minutes show no difference.
fn times(one: &Differing) -> [String; 2] {
    let minutes = [one.left, one.right].map(|face| time(face, false));
    match minutes[0] == minutes[1] {
        true => [one.left, one.right].map(|face| time(face, true)),
        false => minutes,
    }
}

fn time(face: Option<Face>, exactly: bool) -> String {
    let Some(modified) = face.and_then(|face| face.modified) else { return String::new() };
    let ms = modified.seconds().saturating_mul(1000);
    if exactly { moment_exactly(ms) } else { moment(ms) }
}

/// A long list as its folders, those nearest to the root that are not too many.
fn folded(items: &[&Differing]) -> String {
    let deepest = items.iter().map(|one| one.path.depth()).max().unwrap_or(0);
    let gather = |depth: usize| {
        let mut folders: BTreeMap<RelPath, (u64, u64)> = BTreeMap::new();
        for one in items {
            let above = one.path.parent().unwrap_or_default();
            let parts: Vec<&[u8]> = above.parts().take(depth).collect();
            let sum = folders.entry(RelPath::new(&parts.join(&b'/')).unwrap_or_default()).or_default();
            *sum = (sum.0 + one.items, sum.1 + one.size());
        }
        folders
    };
    let mut depth = deepest;
    let mut folders = gather(depth);
    while folders.len() > FOLD_OVER && depth > 1 {
        depth -= 1;
        folders = gather(depth);
    }
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Right]);
    for (path, (files, size)) in folders.iter().take(FOLD_OVER) {
        let shown = if path.is_root() { "(top folder)".to_owned() } else { format!("{path}/") };
        table.row(vec![shown, count(*files, "file", "files"), bytes(*size)]);
    }
    if folders.len() > FOLD_OVER {
        let files: u64 = folders.values().skip(FOLD_OVER).map(|(files, _)| files).sum();
        let more = count((folders.len() - FOLD_OVER) as u64, "more folder", "more folders");
        table.row(vec![format!("… and {more}"), count(files, "file", "files"), String::new()]);
    }
    format!("{}  {}\n", table.render(2), styled(DIM, "(folded by folder; --all lists every entry)"))
}

/// A table of what each folder holds on each side.
fn counts(finding: &Finding<'_>, all: bool) -> String {
    let rows: Vec<&(RelPath, FolderTally)> = finding.folders(all).collect();
    if rows.is_empty() {
        return String::new();
    }
    let title = if all {
        "Every folder, with what lies below it"
    } else {
        "Folders that differ, with what lies below them"
    };
    let mut table = Columns::new(&[Align::Left; 8].map(|_| Align::Right));
    table.align_first(Align::Left);
    table.heading(&["", "files left", "right", "folders left", "right", "bytes left", "right", ""]);
    let shown = if all { rows.len() } else { rows.len().min(10 * FOLD_OVER) };
    for (path, tally) in &rows[..shown] {
        table.styled_row(if tally.differs() { CARE } else { DIM }, count_row(path, tally));
    }
    let mut text = format!("\n{}\n{}", styled(BOLD, title), table.render(2));
    if shown < rows.len() {
        let more = count((rows.len() - shown) as u64, "more folder", "more folders");
        let _ = writeln!(text, "  {}", styled(DIM, format!("… and {more}; --all lists every one")));
    }
    text
}

fn count_row(path: &RelPath, tally: &FolderTally) -> Vec<String> {
    let name = if path.is_root() { "(top folder)".to_owned() } else { format!("{path}/") };
    let mut row = vec![name];
    let [left, right] = tally.sides;
    let numbers: [fn(Tally) -> u64; 3] = [|tally| tally.files, |tally| tally.folders, |tally| tally.bytes];
    for (at, number) in numbers.into_iter().enumerate() {
        let told = |number: u64| if at == 2 { bytes(number) } else { grouped(number) };
        let side = |tally: Option<Tally>| tally.map(number).map_or("none".to_owned(), told);
        row.push(side(left));
        row.push(match (left.map(number), right.map(number)) {
            (Some(left), Some(right)) if left < right => format!("{} (+{})", told(right), told(right - left)),
            (Some(left), Some(right)) if left > right => format!("{} (-{})", told(right), told(left - right)),
            _ => side(right),
        });
    }
    row.push(match tally.differing {
        0 => String::new(),
        number => format!("{} differ", grouped(number)),
    });
    row
}
