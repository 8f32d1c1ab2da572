//! The lines of `--json` and of run logs: one object each, with the same keys in both.

use std::borrow::Cow;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::identity::Ground;
use reedhook_core::path::RelPath;
use reedhook_core::plan::{Action, Counts, FolderPlan, Step};
use reedhook_core::problem::Problem;
use reedhook_core::run::{Done, Item, Mark, step_size};
use reedhook_core::walk::two_way::Conflict;
use reedhook_record::RunPlace;
use serde::Serialize;
use serde_json::{Map, Value, json};

/// The version of all JSON that Reedhook prints and logs, as its first line says it.
pub const JSON_VERSION: u64 = 1;

/// A path as its JSON keys: text, and the bytes where the text cannot be exact.
pub struct PathKeys<'a> {
    path: Cow<'a, str>,
    path_base64: Option<String>,
}

/// The keys of a path.
pub fn path_keys(path: &RelPath) -> PathKeys<'_> {
    let bytes = path.as_bytes();
    let path = String::from_utf8_lossy(bytes);
    let path_base64 = matches!(path, Cow::Owned(_)).then(|| BASE64_STANDARD.encode(bytes));
    PathKeys { path, path_base64 }
}

/// The bytes of a path that was written by [`path_keys`].
pub fn path_of(value: &Value) -> Option<RelPath> {
    named_path(value, "path", "path_base64")
}

/// The bytes of a path under other keys.
pub(crate) fn named_path(value: &Value, text: &str, exact: &str) -> Option<RelPath> {
    let bytes = match value.get(exact).and_then(Value::as_str) {
        Some(encoded) => BASE64_STANDARD.decode(encoded).ok()?,
        None => value.get(text)?.as_str()?.as_bytes().to_vec(),
    };
    RelPath::new(&bytes).ok()
}

/// A path's keys as an object, for lines that are put together by hand.
pub fn path_object(path: &RelPath) -> Map<String, Value> {
    let keys = path_keys(path);
    let base64 = keys.path_base64.map(|bytes| ("path_base64".to_owned(), json!(bytes)));
    [("path".to_owned(), json!(keys.path))].into_iter().chain(base64).collect()
}

/// A line about an item. All keys stand side by side, without nested parts: those would be copied once more for each line,
/// and a run of a million files writes a million lines.
#[derive(Serialize, Default)]
struct ItemLine<'a> {
    event: &'static str,
    #[serde(rename = "do")]
    done: &'static str,
    side: &'static str,
    path: Cow<'a, str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_base64: Option<String>,
    size: u64,
    /// Where it was before a move.
    #[serde(skip_serializing_if = "Option::is_none")]
    was: Option<Cow<'a, str>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_base64: Option<String>,
    /// How many files and links a moved folder holds.
    #[serde(skip_serializing_if = "Option::is_none")]
    items: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    modified: Option<StampText>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mode: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_modified: Option<StampText>,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_mode: Option<u32>,
    /// Where what was there before has gone, when it was not kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    gone: Option<&'static str>,
    /// What was taken from the kept copy, and whose it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    taken_mode: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    taken_owner: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    taken_group: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    taken_capability: Option<String>,
    /// The owners before, where they were changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    was_owner: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_group: Option<u32>,
    /// The extended attributes before, where those or the owners were changed: names and values, both in Base64.
    #[serde(skip_serializing_if = "Option::is_none")]
    was_attributes: Option<Vec<[String; 2]>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<&'a str>,
}

impl<'a> ItemLine<'a> {
    fn of(event: &'static str, done: Done, side: Side, path: &'a RelPath) -> ItemLine<'a> {
        let PathKeys { path, path_base64 } = path_keys(path);
        ItemLine { event, done: done.as_str(), side: side.as_str(), path, path_base64, ..ItemLine::default() }
    }

    fn moved_from(mut self, was: Option<&'a RelPath>, items: Option<u64>) -> ItemLine<'a> {
        if let Some(keys) = was.map(path_keys) {
            (self.was, self.was_base64) = (Some(keys.path), keys.path_base64);
        }
        self.items = items;
        self
    }
}

/// A time as RFC 3339 has it, in UTC: `2031-05-04T16:15:00.5Z`. Stamps that lie outside its years, as broken file systems have
/// them, are told as `SECONDS.NANOSECONDS` since 1970.
pub struct StampText(pub Stamp);

impl std::fmt::Display for StampText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match jiff::Timestamp::from_nanosecond(self.0.as_nanos()) {
            Ok(time) if self.0.seconds() >= YEAR_ONE => write!(f, "{time}"),
            _ => write!(f, "{}", self.0),
        }
    }
}

/// RFC 3339 has no years before this one: 0001-01-01.
const YEAR_ONE: i64 = -62_135_596_800;

impl Serialize for StampText {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What [`StampText`] wrote, now or as it once did.
pub fn stamp_of(text: &str) -> Option<Stamp> {
    match text.parse::<jiff::Timestamp>() {
        Ok(time) => {
            let nanos = time.as_nanosecond();
            let seconds = i64::try_from(nanos.div_euclid(1_000_000_000)).ok()?;
            Some(Stamp::new(seconds, u32::try_from(nanos.rem_euclid(1_000_000_000)).ok()?))
        }
        Err(_) => Stamp::from_text(text),
    }
}

/// A moment as RFC 3339 has it.
pub fn time(ms: i64) -> String {
    StampText(Stamp::new(ms.div_euclid(1000), (ms.rem_euclid(1000) * 1_000_000) as u32)).to_string()
}

/// The first line of a log: which run it is.
#[derive(Debug, Clone, Serialize)]
pub struct Began {
    /// The job's name.
    pub job: String,
    /// The run's name.
    pub run: String,
    /// Its number among the job's runs.
    pub number: i64,
    /// When it began, in milliseconds since 1970.
    #[serde(rename = "started", serialize_with = "as_moment")]
    pub started_ms: i64,
    /// What sort of run it is, when it is not the job's usual one.
    #[serde(skip_serializing_if = "str::is_empty")]
    pub sort: &'static str,
    /// What a run without a job was told.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub keys: String,
}

fn as_moment<S: serde::Serializer>(ms: &i64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&time(*ms))
}

/// Which run a log is of.
pub fn began(line: &mut Vec<u8>, began: &Began) {
    #[derive(Serialize)]
    struct BeganLine<'a> {
        v: u64,
        event: &'static str,
        #[serde(flatten)]
        began: &'a Began,
    }
    append(line, &BeganLine { v: JSON_VERSION, event: "began", began });
}

/// A store that a run is about to change: in logs only.
pub fn place(line: &mut Vec<u8>, place: &RunPlace) {
    let ground = place.ground.as_ref().map(Ground::to_text);
    append(
        line,
        &json!({"event": "place", "side": place.side.as_str(), "place": place.place,
            "location": place.location, "mark": place.mark, "ground": ground}),
    );
}

/// What a run sets out to do at one destination: in logs only, so that others can see how far it is. `unkept` steps leave nothing among
/// the kept copies that would tell of them.
pub fn planned(line: &mut Vec<u8>, files: u64, bytes: u64, unkept: u64) {
    append(line, &json!({"event": "planned", "files": files, "bytes": bytes, "unkept": unkept}));
}

/// An item that was done. `to` tells several destinations apart.
pub fn item(line: &mut Vec<u8>, item: &Item, to: Option<&str>) {
    let taken = item.privileges.as_deref();
    let rights = item.rights.as_deref();
    let owners = rights.and_then(|rights| rights.owners);
    let attributes = rights.map(|rights| {
        let encoded = |bytes: &Vec<u8>| BASE64_STANDARD.encode(bytes);
        rights.attributes.iter().map(|(name, value)| [encoded(name), encoded(value)]).collect()
    });
    let keys = ItemLine {
        size: item.size,
        taken_mode: taken.map(|taken| taken.mode),
        taken_owner: taken.map(|taken| taken.owner),
        taken_group: taken.map(|taken| taken.group),
        taken_capability: taken.and_then(|taken| Some(BASE64_STANDARD.encode(taken.capability.as_deref()?))),
        was_owner: owners.map(|(owner, _)| owner),
        was_group: owners.map(|(_, group)| group),
        was_attributes: attributes,
        modified: item.now.modified.map(StampText),
        mode: item.now.mode,
        was_modified: item.was.modified.map(StampText),
        was_mode: item.was.mode,
        gone: item.gone.as_str(),
        to,
        ..ItemLine::of("item", item.done, item.side, &item.path)
    };
    append(line, &keys.moved_from(item.moved_from.as_ref(), item.items));
}

/// An item that would be done.
pub fn action(line: &mut Vec<u8>, folder: &FolderPlan, action: &Action, to: Option<&str>) {
    let path = folder.path.join(&action.name);
    let (was, items) = match &action.step {
        Step::Move { from, .. } | Step::Respell { from, .. } => (Some(from), None),
        Step::MoveFolder { from, items, .. } => (Some(from), Some(*items)),
        _ => (None, None),
    };
    let keys = ItemLine::of("action", Done::of(action), action.side, &path);
    append(line, &ItemLine { size: step_size(&action.step), to, ..keys }.moved_from(was, items));
}

/// A folder that would be made, removed or given another mode.
pub fn folder_action(line: &mut Vec<u8>, side: Side, folder: &FolderPlan, done: Done, to: Option<&str>) {
    append(line, &ItemLine { to, ..ItemLine::of("action", done, side, &folder.path) });
}

/// A conflict that would be held: neither side changes.
pub fn conflict_action(line: &mut Vec<u8>, conflict: &Conflict) {
    let keys = ItemLine::of("action", Done::Left, Side::Right, &conflict.path);
    append(line, &ItemLine { done: "conflict", size: conflict.right.size, ..keys });
}

#[derive(Serialize)]
struct ProblemLine<'a> {
    event: &'static str,
    code: &'static str,
    path: Cow<'a, str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_base64: Option<String>,
    side: &'static str,
    message: &'a str,
}

/// A problem.
pub fn problem(line: &mut Vec<u8>, problem: &Problem) {
    let PathKeys { path, path_base64 } = path_keys(&problem.path);
    let (code, side) = (problem.code.as_str(), problem.side.as_str());
    append(line, &ProblemLine { event: "problem", code, path, path_base64, side, message: &problem.message });
}

/// A folder whose metadata a run changed, with what it had before: in logs only, for undoing the run.
pub fn folder(line: &mut Vec<u8>, side: Side, path: &RelPath, was: Mark, to: Option<&str>) {
    #[derive(Serialize)]
    struct FolderLine<'a> {
        event: &'static str,
        side: &'static str,
        path: Cow<'a, str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        path_base64: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        modified: Option<StampText>,
        #[serde(skip_serializing_if = "Option::is_none")]
        mode: Option<u32>,
        #[serde(skip_serializing_if = "Option::is_none")]
        to: Option<&'a str>,
    }
    let PathKeys { path, path_base64 } = path_keys(path);
    let modified = was.modified.map(StampText);
    let side = side.as_str();
    append(line, &FolderLine { event: "folder", side, path, path_base64, modified, mode: was.mode, to });
}

/// Appends an object and the end of the line.
pub fn append(line: &mut Vec<u8>, value: &impl Serialize) {
    // Strings and numbers always have a JSON form, and memory takes all that is written to it.
    let _ = serde_json::to_writer(&mut *line, value);
    line.push(b'\n');
}

/// Adds the numbers of a run or a plan to an object.
pub fn with_counts(mut object: Map<String, Value>, counts: &Counts) -> Map<String, Value> {
    for (name, value) in Counts::NAMES.iter().zip(counts.fields()) {
        object.insert((*name).to_owned(), json!(value));
    }
    object
}

/// An object with these keys.
pub fn object(value: Value) -> Map<String, Value> {
    match value {
        Value::Object(map) => map,
        _ => Map::new(),
    }
}

/// A duration as every line gives it: seconds, exact to the millisecond.
pub fn seconds(duration: Duration) -> f64 {
    (duration.as_secs_f64() * 1000.0).round() / 1000.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_have_one_form_and_come_back_exactly() {
        let rows = [
            (0, 0, "1970-01-01T00:00:00Z"),
            (1_935_850_500, 500_000_000, "2031-05-06T16:15:00.5Z"),
            (1_935_850_500, 1, "2031-05-06T16:15:00.000000001Z"),
            (-1, 999_999_999, "1969-12-31T23:59:59.999999999Z"),
            (i64::MAX / 4, 7, "2305843009213693951.000000007"),
            (YEAR_ONE - 1, 0, "-62135596801.000000000"),
        ];
        for (seconds, nanos, text) in rows {
            let stamp = Stamp::new(seconds, nanos);
            assert_eq!(StampText(stamp).to_string(), text);
            assert_eq!(stamp_of(text), Some(stamp), "{text}");
            assert_eq!(stamp_of(&stamp.to_text()), Some(stamp), "as it once was written");
        }
        assert_eq!((time(-1).as_str(), stamp_of("heron")), ("1969-12-31T23:59:59.999Z", None));
    }
}
