//! Saved plans: what a preview found, written down, to be looked through and carried out later, exactly.
//!
//! A saved plan is never carried out itself. A run looks at both sides anew, as every run does, and leaves out of what it finds
//! whatever is not in the saved plan, word for word: the same deed for the same name, with the same things on both sides. So all
//! that guards a run guards this one, nothing is done that the plan does not name, and what has changed since is left and reported.
//!
//! The file is described in `docs/formats.md`. It ends with a hash of all that comes before it, so that no part of it can be lost or
//! altered unseen.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fmt::Write;
use std::path::Path;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use reedhook_core::entry::{EntryKind, Meta, Side};
use reedhook_core::identity;
use reedhook_core::path::RelPath;
use reedhook_core::plan::narrow::{Part, narrow};
use reedhook_core::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use reedhook_core::problem::{Code, Problem};
use reedhook_core::run::Done;
use reedhook_core::store::{FaultKind, Store};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use crate::atomic_file::{Mark, open_plain};
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::job::Job;
use crate::lines::{self, StampText, path_of};
use crate::places::Located;
use crate::preview::{DestinationPlan, Preview};
use crate::recognise::spot;

/// The version of the format that this program writes, and the newest that it reads.
const VERSION: u64 = 1;

const FORMAT: &str = "reedhook-plan";

/// What stands before the hash at the end.
const CHECK: &str = "],\"check\":\"";

/// What a saved plan says of itself before its deeds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Head {
    format: String,
    version: u64,
    job: String,
    made: String,
    /// What decides how the deeds are done.
    rules: BTreeMap<String, String>,
    /// Of each destination, the stores that it reads and changes.
    stores: Vec<[Identity; 2]>,
}

/// By what a store is recognised.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Identity {
    /// Its mark, when it bears one.
    mark: Option<String>,
    /// Where it is, on its file system or server.
    spot: String,
}

impl Identity {
    fn of(place: &[Located], store: &dyn Store) -> Identity {
        let spots: Vec<String> = place.iter().map(spot).collect();
        Identity { mark: identity::read(store).ok().flatten(), spot: spots.join("\n") }
    }

    fn is(&self, now: &Identity) -> bool {
        match (&self.mark, &now.mark) {
            (Some(then), Some(now)) => then == now,
            // It was given its mark since, or its place was made.
            (None, _) => self.spot == now.spot,
            (Some(_), None) => false,
        }
    }
}

/// What tells a deed from all others: the beginning of its line's BLAKE3 hash. A million lines would take ten times the room.
type Key = [u8; 16];

fn key(line: &str) -> Key {
    let mut key = Key::default();
    key.copy_from_slice(&blake3::hash(line.as_bytes()).as_bytes()[..16]);
    key
}

/// A plan that was saved, read and found whole.
#[derive(Debug)]
pub struct Saved {
    head: Head,
    /// Its deeds, as they are written.
    order: Vec<String>,
    /// What tells them from all others.
    keys: HashSet<Key>,
}

/// What became of a saved plan when both sides were looked at again.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Since {
    /// Deeds that are not as the plan found them, and are left.
    pub changed: usize,
    /// Things that a run would do now and the plan does not name.
    pub new: usize,
}

/// What decides how deeds are done: a plan was looked at with these in mind.
fn rules(job: &Job) -> BTreeMap<String, String> {
    let rules = &job.rules;
    let words = [
        ("kind", rules.kind.as_str()),
        ("removed", rules.removed.as_str()),
        ("replaced", rules.replaced.as_str()),
        ("preserve", rules.preserve.as_str()),
        ("odd_names", rules.odd_names.as_str()),
    ];
    words.map(|(key, word)| (key.to_owned(), word.to_owned())).into()
}

fn stores(preview: &Preview) -> Vec<[Identity; 2]> {
    let identities = |destination: &DestinationPlan| {
        let reads = match (&preview.both, destination.plan.changes) {
            (Some(_), Side::Left) => preview.ends.to.as_slice(),
            _ => preview.ends.from.as_slice(),
        };
        let changed = std::slice::from_ref(&destination.to);
        [Identity::of(reads, destination.reads.as_ref()), Identity::of(changed, destination.writes.as_ref())]
    };
    preview.destinations.iter().map(identities).collect()
}

/// The deeds of a plan as lines: folders, then what is in them.
fn deeds(destination: usize, plan: &Plan) -> Vec<String> {
    let mut found = Vec::new();
    for folder in &plan.folders {
        found.extend(fate_line(destination, plan.changes, folder));
        found.extend(mode_line(destination, plan.changes, folder));
        let done = |action: &&Action| !matches!(action.step, Step::Leave { .. });
        found.extend(
            folder.actions.iter().filter(done).map(|action| action_line(destination, folder, action)),
        );
    }
    found
}

/// The deeds of all destinations.
fn all_deeds(preview: &Preview) -> impl Iterator<Item = String> {
    preview.destinations.iter().enumerate().flat_map(|(at, destination)| deeds(at, &destination.plan))
}

fn line(destination: usize, done: &str, side: Side, path: &RelPath) -> Map<String, Value> {
    let mut object = lines::object(json!({"leg": destination, "do": done, "side": side.as_str()}));
    object.extend(lines::path_object(path));
    object
}

fn fate_line(destination: usize, side: Side, folder: &FolderPlan) -> Option<String> {
    let word = match folder.fate {
        Fate::Make => "mkdir",
        Fate::Remove => "rmdir",
        Fate::Stay => return None,
    };
    Some(Value::from(line(destination, word, side, &folder.path)).to_string())
}

fn mode_line(destination: usize, side: Side, folder: &FolderPlan) -> Option<String> {
    let (left, right) = (folder.left.as_ref()?, folder.right.as_ref()?);
    let mut object = line(destination, "meta", side, &folder.path);
    object.insert("mode".into(), json!(left.mode));
    object.insert("was".into(), json!({"mode": right.mode}));
    folder.remode.then(|| Value::from(object).to_string())
}

fn action_line(destination: usize, folder: &FolderPlan, action: &Action) -> String {
    let mut object =
        line(destination, Done::of(action).as_str(), action.side, &folder.path.join(&action.name));
    let (now, was, from) = match &action.step {
        Step::Add { from } | Step::Leave { from, .. } => (Some(from), None, None),
        Step::Update { from, was } | Step::Metadata { from, was } => (Some(from), Some(was.as_ref()), None),
        Step::SecondName { from, of, was } => (Some(from), was.as_deref(), Some(of)),
        Step::Move { from, to, was } => (Some(to), Some(was.as_ref()), Some(from)),
        Step::MoveFolder { from, items } => {
            object.insert("items".into(), json!(items));
            (None, None, Some(from))
        }
        Step::Respell { from, was } => (None, Some(was.as_ref()), Some(from)),
        Step::Remove { was } => (None, Some(was), None),
    };
    object.extend(now.map(|meta| ("now".to_owned(), face(meta))));
    object.extend(was.map(|meta| ("was".to_owned(), face(meta))));
    if let Some(from) = from {
        let keys = lines::path_object(from);
        object.extend(keys.into_iter().map(|(key, value)| (key.replacen("path", "from", 1), value)));
    }
    if matches!(action.step, Step::SecondName { .. }) {
        object.insert("second_name".into(), json!(true));
    }
    let role = match action.role {
        Role::Plain | Role::Revived => None,
        Role::Loser => Some("loser"),
        Role::Aside => Some("aside"),
    };
    object.extend(role.map(|role| ("role".to_owned(), json!(role))));
    Value::from(object).to_string()
}

/// What a thing is, as far as a look can tell.
fn face(meta: &Meta) -> Value {
    let kind = match meta.kind {
        EntryKind::File => "file",
        EntryKind::Folder => "folder",
        EntryKind::Link => "link",
        EntryKind::Special(_) => "special",
    };
    let mut object = lines::object(json!({"kind": kind, "size": meta.size}));
    object.extend(meta.modified.map(|time| ("modified".to_owned(), json!(StampText(time).to_string()))));
    object.extend(meta.mode.map(|mode| ("mode".to_owned(), json!(mode))));
    let target = meta.target.as_ref().map(|target| BASE64_STANDARD.encode(target));
    object.extend(target.map(|target| ("target_base64".to_owned(), json!(target))));
    object.extend(meta.version.as_ref().map(|version| ("version".to_owned(), json!(version.tag))));
    object.into()
}

impl Saved {
    /// What a round would do, without what is left of it; whatever cannot be done without that is left, too.
    pub fn of(desk: &Desk, preview: &Preview, left: &dyn Fn(usize, &RelPath) -> bool) -> Saved {
        let head = Head {
            format: FORMAT.to_owned(),
            version: VERSION,
            job: preview.job.name.clone(),
            made: lines::time(desk.now_ms()),
            rules: rules(&preview.job),
            stores: stores(preview),
        };
        let mut plans: Vec<Plan> =
            preview.destinations.iter().map(|destination| destination.plan.clone()).collect();
        narrow_plans(&mut plans.iter_mut().collect::<Vec<_>>(), preview.both.is_some(), &|at, _, part| {
            match part {
                Part::Item(folder, action) => !left(at, &folder.path.join(&action.name)),
                Part::Fate(folder) | Part::Mode(folder) => !left(at, &folder.path),
            }
        });
        let order: Vec<String> = plans.iter().enumerate().flat_map(|(at, plan)| deeds(at, plan)).collect();
        Saved { head, keys: order.iter().map(|line| key(line)).collect(), order }
    }

    /// What such a file begins with.
    pub const MARK: Mark<'static> = Mark::Begins("{\"format\":\"reedhook-plan\"");

    /// It as text, as it is written down.
    pub fn text(&self) -> String {
        let mut text = serde_json::to_string(&self.head).unwrap_or_default();
        text.pop();
        text.push_str(",\"deeds\":[");
        for (at, deed) in self.order.iter().enumerate() {
            text.push_str(if at == 0 { "\n" } else { ",\n" });
            text.push_str(deed);
        }
        text.push('\n');
        let hash = blake3::hash(text.as_bytes()).to_hex();
        let _ = writeln!(text, "{CHECK}{hash}\"}}");
        text
    }

    /// Reads a saved plan.
    ///
    /// # Errors
    /// When it cannot be read, is damaged, or was written by a newer program.
    pub fn read(file: &Path) -> Outcome<Saved> {
        let shown = file.display();
        let read = open_plain(file).and_then(std::io::read_to_string);
        let text = read.map_err(|error| {
            Failure::usage(format!("the plan {shown} cannot be read: {error}")).hint("Check the path.")
        })?;
        Saved::of_text(&text, file)
    }

    fn of_text(text: &str, file: &Path) -> Outcome<Saved> {
        let shown = file.display();
        let damaged = || {
            Failure {
                cause: Cause::PlanDamaged,
                ..Failure::usage(format!("{shown} is no whole plan: it was altered or cut off"))
            }
            .hint("Save it anew: reedhook preview JOB --save FILE.")
        };
        refuse_newer(text, file)?;
        let (before, after) = text.rsplit_once(CHECK).ok_or_else(damaged)?;
        if after != format!("{}\"}}\n", blake3::hash(before.as_bytes()).to_hex()) {
            return Err(damaged());
        }
        let (head, deeds) = before.split_once(",\"deeds\":[").ok_or_else(damaged)?;
        let head: Head = serde_json::from_str(&format!("{head}}}")).map_err(|_| damaged())?;
        if head.format != FORMAT {
            return Err(damaged());
        }
        let order: Vec<String> = deeds
            .lines()
            .filter(|line| !line.is_empty())
            .map(|line| line.trim_end_matches(',').to_owned())
            .collect();
        Ok(Saved { head, keys: order.iter().map(|line| key(line)).collect(), order })
    }

    /// The job that it was made for.
    pub fn job(&self) -> &str {
        &self.head.job
    }

    /// How many deeds it names.
    pub fn len(&self) -> usize {
        self.order.len()
    }

    /// Whether it names none.
    pub fn is_empty(&self) -> bool {
        self.order.is_empty()
    }

    /// Leaves of a round what this plan names, and refuses a round between other stores or by other rules.
    ///
    /// # Errors
    /// When the plan was made for something else.
    pub fn apply(&self, preview: &mut Preview) -> Outcome<Since> {
        self.refuse_another(preview)?;
        let planned: HashSet<(u64, RelPath)> = self.order.iter().filter_map(|line| about(line)).collect();
        let (mut found, mut new) = (HashSet::new(), 0);
        for line in all_deeds(preview) {
            let key = key(&line);
            if self.keys.contains(&key) {
                found.insert(key);
            } else if about(&line).is_none_or(|name| !planned.contains(&name)) {
                new += 1;
            }
        }
        drop(planned);
        let has = |line: &str| self.keys.contains(&key(line));
        let named = |at: usize, side: Side, part: Part<'_>| match part {
            Part::Item(folder, action) => {
                matches!(action.step, Step::Leave { .. }) || has(&action_line(at, folder, action))
            }
            Part::Fate(folder) => fate_line(at, side, folder).is_none_or(|line| has(&line)),
            Part::Mode(folder) => mode_line(at, side, folder).is_some_and(|line| has(&line)),
        };
        narrow_round(preview, &named);
        let after: HashSet<Key> = all_deeds(preview).map(|line| key(&line)).collect();
        let mut since = Since { changed: 0, new };
        for line in self.order.iter().filter(|line| !after.contains(&key(line))) {
            since.changed += usize::from(report(preview, line, found.contains(&key(line))));
        }
        Ok(since)
    }

    fn refuse_another(&self, preview: &Preview) -> Outcome<()> {
        let refused = |why: String| {
            Err(Failure::refused(Cause::PlanForeign, why)
                .hint("Save a plan of what is there now, and look at it."))
        };
        if self.head.job != preview.job.name {
            return refused(format!(
                "the plan was made for the job \"{}\", not for \"{}\"",
                self.head.job, preview.job.name
            ));
        }
        let now = rules(&preview.job);
        if let Some((key, then)) = self.head.rules.iter().find(|(key, then)| now.get(*key) != Some(*then)) {
            let now = now.get(key).map_or("something else", String::as_str);
            return refused(format!(
                "the job was changed since the plan was made: {key} was {then}, and is {now} now"
            ));
        }
        let stores = stores(preview);
        let same = self.head.stores.len() == stores.len()
            && self.head.stores.iter().flatten().zip(stores.iter().flatten()).all(|(then, now)| then.is(now));
        if !same {
            return refused(format!(
                "the plan was made for other stores than the job \"{}\" has now",
                preview.job.name
            ));
        }
        Ok(())
    }
}

/// A plan of a newer format may look like nothing that this program knows: it is told first.
fn refuse_newer(text: &str, file: &Path) -> Outcome<()> {
    #[derive(Deserialize)]
    struct Version {
        version: u64,
    }
    let head = text.split_once(",\"deeds\":[").map_or(text, |(head, _)| head);
    let whole = [head.to_owned(), format!("{head}}}")];
    let version = whole.iter().find_map(|head| serde_json::from_str::<Version>(head).ok());
    match version {
        Some(Version { version }) if version > VERSION => Err(Failure {
            cause: Cause::PlanNewer,
            ..Failure::usage(format!(
                "{} is a plan of format {version}; this program knows {VERSION}",
                file.display()
            ))
        }
        .hint("Use the newer Reedhook that wrote it, or save the plan anew.")),
        _ => Ok(()),
    }
}

/// Whether a part of a destination is among what is to be done.
type Named<'a> = &'a dyn Fn(usize, Side, Part<'_>) -> bool;

/// Leaves out of a round what is not named.
fn narrow_round(preview: &mut Preview, named: Named<'_>) {
    let together = preview.both.is_some();
    let mut plans: Vec<&mut Plan> =
        preview.destinations.iter_mut().map(|destination| &mut destination.plan).collect();
    let left_out = narrow_plans(&mut plans, together, named);
    // What is not mended now stays known as rotten.
    preview.corrupted.retain(|corrupted| !left_out.contains(&corrupted.path));
}

/// The plans of a two-way job belong together; those of several destinations do not.
fn narrow_plans(plans: &mut [&mut Plan], together: bool, named: Named<'_>) -> BTreeSet<RelPath> {
    let sides: Vec<Side> = plans.iter().map(|plan| plan.changes).collect();
    if together {
        return narrow(plans, &|at, part| named(at, sides[at], part));
    }
    let one =
        |(at, plan): (usize, &mut &mut Plan)| narrow(&mut [plan], &|_, part| named(at, sides[at], part));
    plans.iter_mut().enumerate().flat_map(one).collect()
}

/// Which name of which destination a deed is about.
fn about(line: &str) -> Option<(u64, RelPath)> {
    let value: Value = serde_json::from_str(line).ok()?;
    Some((value["leg"].as_u64()?, path_of(&value)?))
}

/// Reports a deed that is not done because it is not as the plan found it; `false` for what is as wanted already.
fn report(preview: &mut Preview, line: &str, found: bool) -> bool {
    let Ok(value) = serde_json::from_str::<Value>(line) else { return false };
    let destination = value["leg"].as_u64().and_then(|destination| usize::try_from(destination).ok());
    let (Some(destination), Some(path)) =
        (destination.and_then(|at| preview.destinations.get_mut(at)), path_of(&value))
    else {
        return false;
    };
    let folder = ["mkdir", "rmdir"].contains(&value["do"].as_str().unwrap_or_default());
    // A folder that somebody else has made or removed is as it was to be.
    if folder && !found {
        return false;
    }
    let message = match folder {
        true => "something in it is not as the plan found it; the folder stays as it is",
        false => "it is not as the plan found it; left alone",
    };
    let side = destination.plan.changes;
    destination.plan.problems.push(Problem::new(Code::Fault(FaultKind::Changed), side, path, message));
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fuzzed_plans() {
        let begins = "{\"format\":\"reedhook-plan\",\"version\":1,\"job\":\"counts\",\"made\":\"2031-05-04T18:15:00Z\",\"rules\":{},\"stores\":[],\"deeds\":[\n{\"do\":\"add\",\"path\":\"a\"}\n";
        let whole = format!("{begins}{CHECK}{}\"}}\n", blake3::hash(begins.as_bytes()).to_hex());
        reedhook_testing::fuzz("saved plans", &[whole.as_bytes()], |bytes| {
            drop(Saved::of_text(&String::from_utf8_lossy(bytes), Path::new("plan")));
        });
    }
}
