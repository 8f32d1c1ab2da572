//! `compare`: what is the same and what is not, between two places or the sides of a job. Nothing is touched.

mod page;
mod sheet;
mod text;

use std::path::PathBuf;
use std::time::{Duration, Instant};

use reedhook_core::compare::{Basis, DiffState};
use reedhook_core::entry::{EntryKind, Side};
use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::{Compared, Differing, Face, FolderTally, Tally};
use reedhook_jobs::alignment::{self, Misaligned};
use reedhook_jobs::compare::{How, Pairing, trouble};
use reedhook_jobs::jobfile::{Job, ONCE, load_job};
use reedhook_jobs::places::INVENTORY;
use serde_json::{Map, Value, json};

use crate::args::{CompareArgs, FilterArgs, Tolerance};
use crate::context::Context;
use crate::failure::{Failure, Outcome, USAGE};
use crate::json as lines;
use crate::text::{ago, moment};
use page::Page;
use sheet::Sheet;

/// Something differs.
const DIFFERENT: u8 = 1;

/// What came of one comparison, with what is to be said of it.
struct Finding<'a> {
    pairing: &'a Pairing,
    how: How,
    compared: Compared,
    took: Duration,
    misaligned: Option<Misaligned>,
    /// What tells several of one command apart.
    to: Option<String>,
}

impl Finding<'_> {
    /// The exit code: trouble goes before differences.
    fn code(&self) -> u8 {
        match (self.compared.problems.is_empty(), self.compared.is_equal()) {
            (false, _) => USAGE,
            (true, true) => 0,
            (true, false) => DIFFERENT,
        }
    }

    /// The folders that are to be shown, by path.
    fn folders(&self, all: bool) -> impl Iterator<Item = &(RelPath, FolderTally)> {
        self.compared.folders.iter().filter(move |(_, tally)| all || tally.differs())
    }
}

/// Compares two places, or the sides of a job.
pub fn compare(context: &Context, asked: &CompareArgs) -> Outcome {
    compare_all(context, asked).map_err(trouble)
}

fn compare_all(context: &Context, asked: &CompareArgs) -> Outcome {
    let basis = match (asked.content, asked.by) {
        (true, _) => Basis::Content,
        (false, by) => by.unwrap_or(Basis::Time),
    };
    let how =
        How { basis, tolerance: asked.tolerance.map(|Tolerance(length)| length), tallies: asked.counts };
    let pairings = pairings(context, asked)?;
    // A file that cannot be written is better known before an hour of reading.
    let sides: Vec<PathBuf> = pairings.iter().flat_map(Pairing::folders).collect();
    let sheet = asked.csv.as_deref().map(|file| Sheet::open(context, asked, file, &sides));
    let mut sheet = sheet.transpose()?;
    let page = asked.html.as_deref().map(|file| Page::open(context, file, &sides)).transpose()?;
    let mut findings = Vec::new();
    let mut worst = 0;
    for pairing in &pairings {
        let begun = Instant::now();
        let mut compared = pairing.compare(&context.desk, &how)?;
        let misaligned = misaligned(context, pairing);
        if !asked.only.is_empty() {
            compared.differences.retain(|one| asked.only.contains(&one.state));
        }
        let to = (pairings.len() > 1).then(|| pairing.right_place.written.clone());
        let finding = Finding { pairing, how, compared, took: begun.elapsed(), misaligned, to };
        if context.global.json {
            print_json(&finding, asked);
        } else {
            if !findings.is_empty() {
                context.say("");
            }
            context.say(text::told(context, &finding, asked).trim_end());
            tell_notes(context, &finding)?;
        }
        if let Some(sheet) = &mut sheet {
            sheet.take(&finding, asked.all)?;
        }
        worst = worst.max(finding.code());
        findings.push(finding);
    }
    if let Some(sheet) = sheet {
        sheet.finish(context)?;
    }
    if let Some(page) = page {
        page.finish(context, &findings)?;
    }
    Ok(worst)
}

fn pairings(context: &Context, asked: &CompareArgs) -> Outcome<Vec<Pairing>> {
    let desk = &context.desk;
    match asked.places.as_slice() {
        [name] => Pairing::of_job(desk, &filtered(known_job(context, name)?, &asked.filter)?),
        [left, rights @ ..] => Pairing::of_places(desk, left, rights, asked.filter.keys()),
        [] => Err(Failure::usage("nothing to compare").hint("Name a job, or two places.")),
    }
}

/// The job of a name. Who typed one place only may have forgotten the other.
fn known_job(context: &Context, name: &str) -> Outcome<Job> {
    load_job(&context.desk.home, name).map_err(|failure| {
        let looks_like_a_place = name.contains('/')
            || name.starts_with(['@', '~', '.'])
            || name.starts_with(INVENTORY)
            || context.desk.home.expand(name).exists();
        match looks_like_a_place {
            true => Failure::usage(format!("\"{name}\" is one place; comparing takes two, or a job"))
                .hint(format!("Write: reedhook compare {name} OTHER-PLACE")),
            false => failure,
        }
    })
}

/// A job with more lines of filter.
fn filtered(job: Job, filter: &FilterArgs) -> Outcome<Job> {
    let more = filter.keys();
    let mut keys = job.keys.clone();
    keys.exclude.extend(more.exclude);
    keys.only.extend(more.only);
    keys.junk = more.junk.or(keys.junk);
    keys.hidden = more.hidden.or(keys.hidden);
    keys.min_size = more.min_size.or(keys.min_size);
    keys.max_size = more.max_size.or(keys.max_size);
    keys.newer_than = more.newer_than.or(keys.newer_than);
    keys.older_than = more.older_than.or(keys.older_than);
    Job::new(&job.name, keys)
}

fn misaligned(context: &Context, pairing: &Pairing) -> Option<Misaligned> {
    let [left] = pairing.lefts.as_slice() else { return None };
    let above = |side, levels| alignment::above(&context.desk, left, &pairing.right_place, side, levels);
    alignment::check(pairing.left.as_ref(), pairing.right.as_ref(), &above)
}

fn tell_notes(context: &Context, finding: &Finding<'_>) -> Outcome<()> {
    if let Some(found) = &finding.misaligned {
        context.warn(found.sentence(["left", "right"]));
    }
    if finding.how.basis == Basis::Time && finding.pairing.is_timeless() {
        context.warn(
            "one of the two keeps no times of files, so only sizes were compared; --content reads them",
        );
    }
    if !finding.pairing.has_inventory() {
        return Ok(());
    }
    for one in finding.pairing.of_then(&context.desk)? {
        let (name, then) = (&one.about.name, one.about.taken_ms);
        let partly = if one.whole { "" } else { "; it knows only what runs have seen there" };
        let ago = ago(then, crate::clock::now_ms());
        context.warn(format!("the inventory {name} tells how it was {}, {ago}{partly}", moment(then)));
    }
    Ok(())
}

fn kind_word(face: Option<Face>) -> &'static str {
    match face.map(|face| face.kind) {
        Some(EntryKind::File) | None => "file",
        Some(EntryKind::Folder) => "folder",
        Some(EntryKind::Link) => "link",
        Some(EntryKind::Special(_)) => "special",
    }
}

fn print_json(finding: &Finding<'_>, asked: &CompareArgs) {
    let mut text = Vec::new();
    for one in &finding.compared.differences {
        let mut line = difference_line(one);
        line.extend(finding.to.as_ref().map(|to| ("to".to_owned(), json!(to))));
        lines::append(&mut text, &line);
    }
    for problem in &finding.compared.problems {
        lines::problem(&mut text, problem);
    }
    if asked.counts {
        for (path, tally) in finding.folders(asked.all) {
            lines::append(&mut text, &folder_line(path, tally));
        }
    }
    print_lines(&text);
    lines::print(&compared_line(finding).into());
}

/// Prints lines that are ready; the first of all says the version.
fn print_lines(text: &[u8]) {
    if !text.is_empty() {
        lines::print_line(text);
    }
}

fn difference_line(one: &Differing) -> Map<String, Value> {
    let kind = kind_word(one.left.or(one.right));
    let mut object = lines::object(json!({"event": "difference", "state": one.state.as_str(), "kind": kind}));
    object.extend(lines::path_object(&one.path));
    object.insert("left".into(), face_keys(one.left));
    object.insert("right".into(), face_keys(one.right));
    if let Some(path) = &one.right_path {
        let keys = lines::path_object(path);
        object.extend(keys.into_iter().map(|(key, value)| (key.replacen("path", "right_path", 1), value)));
    }
    if one.state == DiffState::Moved && one.is_folder() {
        object.insert("items".into(), json!(one.items));
    }
    object
}

fn face_keys(face: Option<Face>) -> Value {
    let Some(face) = face else { return Value::Null };
    let mut keys = Map::new();
    if face.kind != EntryKind::Folder {
        keys.insert("size".into(), json!(face.size));
    }
    if let Some(modified) = face.modified {
        keys.insert("modified".into(), json!(lines::StampText(modified).to_string()));
    }
    keys.into()
}

fn tally_keys(tally: Option<Tally>) -> Value {
    let tally = tally.unwrap_or_default();
    json!({"files": tally.files, "folders": tally.folders, "bytes": tally.bytes})
}

fn folder_line(path: &RelPath, tally: &FolderTally) -> Map<String, Value> {
    let mut object = lines::object(json!({"event": "folder"}));
    object.extend(lines::path_object(path));
    for side in [Side::Left, Side::Right] {
        object.insert(side.as_str().into(), tally_keys(tally.sides[usize::from(side == Side::Right)]));
    }
    object.insert("differing".into(), json!(tally.differing));
    object
}

fn compared_line(finding: &Finding<'_>) -> Map<String, Value> {
    let Finding { pairing, compared, .. } = finding;
    let mut object = lines::object(json!({"event": "compared"}));
    if pairing.job.name != ONCE {
        object.insert("job".into(), json!(pairing.job.name));
    }
    object.extend(finding.to.as_ref().map(|to| ("to".to_owned(), json!(to))));
    object.insert("by".into(), json!(finding.how.basis.as_str()));
    object.insert("same".into(), json!(compared.same));
    object.insert("different".into(), json!(compared.different()));
    for state in DiffState::ALL {
        object.insert(state.as_str().replace('-', "_"), json!(compared.count(state)));
    }
    object.insert("folders".into(), json!(compared.folders_differing()));
    object.insert("left".into(), tally_keys(Some(compared.totals[0])));
    object.insert("right".into(), tally_keys(Some(compared.totals[1])));
    object.insert("filtered".into(), json!(compared.filtered));
    object.insert("problems".into(), json!(compared.problems.len()));
    object.insert("read".into(), json!(compared.read));
    object.insert("seconds".into(), json!(lines::seconds(finding.took)));
    object.extend(
        finding.misaligned.as_ref().map(|it| ("alignment".to_owned(), json!(it.sentence(["left", "right"])))),
    );
    object
}
