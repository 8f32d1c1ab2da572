//! The lines of `--json` and of run logs: one object each, with the same keys in both.

use std::io::Write;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::path::RelPath;
use reedhook_core::plan::{Action, Counts, FolderPlan};
use reedhook_core::problem::Problem;
use reedhook_core::run::undo::Past;
use reedhook_core::run::{Done, Item, Mark, step_size};
use serde::Serialize;
use serde_json::{Map, Value, json};

/// Prints one object on standard output.
pub fn print(value: &Value) {
    // Whoever stopped reading the output does not need it.
    let _ = writeln!(std::io::stdout().lock(), "{value}");
}

/// A path as its JSON keys: text, and the bytes where the text cannot be exact.
#[derive(Serialize)]
pub struct PathKeys {
    path: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_base64: Option<String>,
}

/// The keys of a path.
pub fn path_keys(path: &RelPath) -> PathKeys {
    let bytes = path.as_bytes();
    match std::str::from_utf8(bytes) {
        Ok(text) => PathKeys { path: text.to_owned(), path_base64: None },
        Err(_) => PathKeys {
            path: String::from_utf8_lossy(bytes).into_owned(),
            path_base64: Some(BASE64_STANDARD.encode(bytes)),
        },
    }
}

/// The bytes of a path that was written by [`path_keys`].
pub fn path_of(value: &Value) -> Option<RelPath> {
    let bytes = match value.get("path_base64").and_then(Value::as_str) {
        Some(encoded) => BASE64_STANDARD.decode(encoded).ok()?,
        None => value.get("path")?.as_str()?.as_bytes().to_vec(),
    };
    RelPath::new(&bytes).ok()
}

#[derive(Serialize)]
struct ItemLine<'a> {
    event: &'static str,
    #[serde(rename = "do")]
    done: &'static str,
    side: &'static str,
    #[serde(flatten)]
    path: PathKeys,
    size: u64,
    #[serde(flatten)]
    now: MarkKeys,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_modified: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    was_mode: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<&'a str>,
}

/// A time (`SECONDS.NANOSECONDS` since 1970) and a mode as JSON keys.
#[derive(Serialize, Default)]
struct MarkKeys {
    #[serde(skip_serializing_if = "Option::is_none")]
    modified: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mode: Option<u32>,
}

fn mark_keys(mark: Mark) -> MarkKeys {
    MarkKeys { modified: mark.modified.map(Stamp::to_text), mode: mark.mode }
}

/// An item that was done. `to` tells several destinations apart.
pub fn item(item: &Item, to: Option<&str>) -> String {
    line(&ItemLine {
        event: "item",
        done: item.done.as_str(),
        side: item.side.as_str(),
        path: path_keys(&item.path),
        size: item.size,
        now: mark_keys(item.now),
        was_modified: item.was.modified.map(Stamp::to_text),
        was_mode: item.was.mode,
        to,
    })
}

/// An item that would be done.
pub fn action(folder: &FolderPlan, action: &Action, to: Option<&str>) -> String {
    line(&ItemLine {
        event: "action",
        done: Done::of(&action.step).as_str(),
        side: action.side.as_str(),
        path: path_keys(&folder.path.join(&action.name)),
        size: step_size(&action.step),
        now: MarkKeys::default(),
        was_modified: None,
        was_mode: None,
        to,
    })
}

/// A folder that would be made, removed or given another mode.
pub fn folder_action(folder: &FolderPlan, done: Done, to: Option<&str>) -> String {
    let path = path_keys(&folder.path);
    let now = MarkKeys::default();
    let (was_modified, was_mode) = (None, None);
    line(&ItemLine {
        event: "action",
        done: done.as_str(),
        side: "right",
        path,
        size: 0,
        now,
        was_modified,
        was_mode,
        to,
    })
}

#[derive(Serialize)]
struct ProblemLine<'a> {
    event: &'static str,
    code: &'static str,
    #[serde(flatten)]
    path: PathKeys,
    side: &'static str,
    message: &'a str,
}

/// A problem.
pub fn problem(problem: &Problem) -> String {
    line(&ProblemLine {
        event: "problem",
        code: problem.code.as_str(),
        path: path_keys(&problem.path),
        side: problem.side.as_str(),
        message: &problem.message,
    })
}

/// A folder whose metadata a run changed, with what it had before: in logs only, for undoing the run.
pub fn folder(path: &RelPath, was: Mark) -> String {
    #[derive(Serialize)]
    struct FolderLine {
        event: &'static str,
        #[serde(flatten)]
        path: PathKeys,
        #[serde(flatten)]
        was: MarkKeys,
    }
    line(&FolderLine { event: "folder", path: path_keys(path), was: mark_keys(was) })
}

/// Adds a line of a log to what a run did.
pub fn add_past(past: &mut Past, value: &Value) {
    let Some(path) = path_of(value) else { return };
    let mark = |modified: &str, mode: &str| Mark {
        modified: value.get(modified).and_then(Value::as_str).and_then(Stamp::from_text),
        mode: value.get(mode).and_then(Value::as_u64).and_then(|mode| u32::try_from(mode).ok()),
    };
    match value.get("event").and_then(Value::as_str) {
        Some("folder") => past.folders.push((path, mark("modified", "mode"))),
        Some("item") => {
            let Some(done) = value.get("do").and_then(Value::as_str).and_then(Done::parse) else { return };
            past.items.push(Item {
                done,
                side: Side::Right,
                path,
                size: value.get("size").and_then(Value::as_u64).unwrap_or(0),
                now: mark("modified", "mode"),
                was: mark("was_modified", "was_mode"),
                hash: None,
            });
        }
        _ => {}
    }
}

fn line(value: &impl Serialize) -> String {
    // Strings and numbers always have a JSON form.
    serde_json::to_string(value).unwrap_or_default()
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
