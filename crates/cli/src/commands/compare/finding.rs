//! What a comparison found, and its lines for programs.

use std::time::Duration;

use reedhook_core::compare::DiffState;
use reedhook_core::entry::{EntryKind, Side};
use reedhook_core::path::RelPath;
use reedhook_core::walk::comparing::{Compared, Differing, Face, FolderTally, Tally};
use reedhook_jobs::alignment::{self, Misaligned};
use reedhook_jobs::compare::{How, Pairing};
use reedhook_jobs::jobfile::{Job, ONCE};
use serde_json::{Map, Value, json};

use crate::args::FilterArgs;
use crate::context::Context;
use crate::failure::{Outcome, USAGE};
use crate::json as lines;

/// What came of one comparison, with what is to be said of it.
pub(super) struct Finding<'a> {
    pub(super) pairing: &'a Pairing,
    pub(super) how: How,
    pub(super) compared: Compared,
    pub(super) took: Duration,
    pub(super) misaligned: Option<Misaligned>,
    /// What tells several of one command apart.
    pub(super) to: Option<String>,
}

impl Finding<'_> {
    /// The exit code: trouble goes before differences.
    pub(super) fn code(&self) -> u8 {
        match (self.compared.problems.is_empty(), self.compared.is_equal()) {
            (false, _) => USAGE,
            (true, true) => 0,
            (true, false) => DIFFERENT,
        }
    }

    /// The folders that are to be shown, by path.
    pub(super) fn folders(&self, all: bool) -> impl Iterator<Item = &(RelPath, FolderTally)> {
        self.compared.folders.iter().filter(move |(_, tally)| all || tally.differs())
    }
}

pub(super) fn kind_word(face: Option<Face>) -> &'static str {
    match face.map(|face| face.kind) {
        Some(EntryKind::File) | None => "file",
        Some(EntryKind::Folder) => "folder",
        Some(EntryKind::Link) => "link",
        Some(EntryKind::Special(_)) => "special",
    }
}

pub(super) fn difference_line(one: &Differing) -> Map<String, Value> {
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

pub(super) fn face_keys(face: Option<Face>) -> Value {
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

pub(super) fn tally_keys(tally: Option<Tally>) -> Value {
    let tally = tally.unwrap_or_default();
    json!({"files": tally.files, "folders": tally.folders, "bytes": tally.bytes})
}

pub(super) fn folder_line(path: &RelPath, tally: &FolderTally) -> Map<String, Value> {
    let mut object = lines::object(json!({"event": "folder"}));
    object.extend(lines::path_object(path));
    for side in [Side::Left, Side::Right] {
        object.insert(side.as_str().into(), tally_keys(tally.sides[usize::from(side == Side::Right)]));
    }
    object.insert("differing".into(), json!(tally.differing));
    object
}

pub(super) fn compared_line(finding: &Finding<'_>) -> Map<String, Value> {
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

/// Something differs.
pub(super) const DIFFERENT: u8 = 1;

/// A job with more lines of filter.
pub(super) fn filtered(job: Job, filter: &FilterArgs) -> Outcome<Job> {
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

pub(super) fn misaligned(context: &Context, pairing: &Pairing) -> Option<Misaligned> {
    let [left] = pairing.lefts.as_slice() else { return None };
    let above = |side, levels| alignment::above(&context.desk, left, &pairing.right_place, side, levels);
    alignment::check(pairing.left.as_ref(), pairing.right.as_ref(), &above)
}
