//! `why`: what each side holds of a path, what is remembered of it, and what decides.

use std::path::Path;
use std::sync::atomic::Ordering;

use reedhook_core::compare::Comparison;
use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::filter::{Filter, Verdict as Taken};
use reedhook_core::job::Kind;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::one_way::Decision;
use reedhook_core::plan::two_way::{Known, KnownKind, Policies, Settled, SideChange, Verdict, settle};
use reedhook_core::store::Store;
use reedhook_core::walk::{PathDecision, clash_words};
use reedhook_jobs::capabilities::OpenOptions;
use reedhook_jobs::inventory::sightings;
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::look::decide;
use reedhook_jobs::open::{not_there_yet, open_destination, open_source};
use reedhook_jobs::places::{Ends, Located, typed_path};
use reedhook_jobs::recognise::{self, Part};
use reedhook_jobs::scan::{comparison, interrupted, open_sources};
use reedhook_jobs::two_way::{self, Memory};
use serde_json::json;

use crate::commands::inventory::with_sightings;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::json as lines;
use crate::text::{BOLD, bytes, moment, styled};

/// Explains what a run would do about one path.
pub fn why(context: &Context, name: &str, typed: &Path) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let path = typed_path(typed)?;
    let ends = Ends::of(&job, &context.desk.home, &context.desk.settings)?;
    explain(context, &job, &ends, &path).map_err(|failure| {
        let places: Vec<Located> = ends.from.iter().chain(&ends.to).cloned().collect();
        with_sightings(failure, &sightings::at_places(&context.desk, &places, &path))
    })
}

fn explain(context: &Context, job: &Job, ends: &Ends, path: &RelPath) -> Outcome {
    let name = &job.name;
    let two_way = job.rules.kind == Kind::TwoWay;
    let left = match ends.from.as_slice() {
        [only] if two_way => open_source(&context.desk, only, OpenOptions::of(job), "left side")?,
        _ => open_sources(&context.desk, ends, OpenOptions::of(job))?,
    };
    let to = ends.to.first().ok_or_else(|| Failure::usage("the job has no destination"))?;
    // Of an empty mount point, or another drive, nothing can be said: a run would be refused.
    let part = Part::of(job.rules.kind, false);
    let right = match open_destination(&context.desk, to, OpenOptions::of(job))? {
        Some(store) => {
            recognise::refuse_foreign(&context.desk, job, to, store.as_ref(), part)?;
            store
        }
        None => {
            recognise::refuse_vanished(&context.desk, job, to, part)?;
            not_there_yet(&context.desk, to, OpenOptions::of(job))?
        }
    };
    let facts = Facts::find(context, job, (ends, to), (left.as_ref(), right.as_ref()), path)?;
    if context.global.json {
        let mut object = lines::object(json!({"event": "why", "job": name, "sentences": facts.sentences,
            "decision": facts.decision}));
        object.extend(lines::path_object(path));
        lines::print(&object.into());
    } else {
        let mut text = format!("{}  {}\n", styled(BOLD, path), job.rules.kind);
        facts.sentences.iter().for_each(|sentence| text.push_str(&format!("  {sentence}\n")));
        context.say(text.trim_end());
    }
    Ok(0)
}

/// What there is to say about a path, and what it comes to in one word.
struct Facts {
    sentences: Vec<String>,
    decision: &'static str,
}

impl Facts {
    fn find(
        context: &Context,
        job: &Job,
        (ends, to): (&Ends, &Located),
        (left, right): (&dyn Store, &dyn Store),
        path: &RelPath,
    ) -> Outcome<Facts> {
        let stat = |store: &dyn Store| {
            store.stat(path).map_err(|error| Failure::refused(error.kind, error.to_string()))
        };
        let ours = stat(left)?;
        let theirs = stat(right)?;
        let mut facts = Facts { sentences: Vec::new(), decision: "nothing" };
        facts.say(format!("The left {}.", holds(ours.as_ref())));
        facts.say(format!("The right {}.", holds(theirs.as_ref())));
        let mut filter = job.filter(context.desk.now())?;
        if let Some(names) = ends.landing_names()? {
            filter = filter.with_top_level(names);
        }
        if facts.filtered(&filter, left, right, path) {
            return Ok(facts);
        }
        if facts.clashes(job.rules.kind, left, right, path) {
            return Ok(facts);
        }
        let found = (ours.as_ref(), theirs.as_ref());
        match job.rules.kind {
            Kind::TwoWay => facts.two_way(context, job, (left, right), path, found)?,
            _ => facts.one_way(context, job, (ends, to), (left, right), path, found)?,
        }
        if context.desk.stop.load(Ordering::Relaxed) {
            // What was being compared has come to no answer.
            return Err(interrupted());
        }
        Ok(facts)
    }

    fn say(&mut self, sentence: impl Into<String>) {
        self.sentences.push(sentence.into());
    }

    /// Whether the filter leaves the path, or a folder above it, out.
    fn filtered(&mut self, filter: &Filter, left: &dyn Store, right: &dyn Store, path: &RelPath) -> bool {
        let mut folder = RelPath::root();
        let mut inherited = filter.root();
        for part in path.parts() {
            let Ok(name) = Name::new(part) else { return false };
            let at = folder.join(&name);
            let meta = [left, right].into_iter().find_map(|store| store.stat(&at).ok().flatten());
            let Some(meta) = meta else { return false };
            match filter.judge(&folder, &name, &meta, inherited) {
                Taken::Out(rule) => {
                    let what = if at == *path { "It".to_owned() } else { format!("The folder {at}") };
                    self.say(format!(
                        "{what} takes no part: {}. Neither side of it is touched.",
                        filter.describe(rule)
                    ));
                    self.decision = "filtered";
                    return true;
                }
                verdict => inherited = filter.inherit(verdict),
            }
            folder = at;
        }
        self.say("The filter lets it take part.");
        false
    }

    /// Whether the path, or a folder above it, is one of several names of a side that are one name at the other.
    fn clashes(&mut self, kind: Kind, left: &dyn Store, right: &dyn Store, path: &RelPath) -> bool {
        let folding = match kind {
            Kind::TwoWay => left.capabilities().folding.or(right.capabilities().folding),
            _ => right.capabilities().folding,
        };
        let mut folder = RelPath::root();
        for part in path.parts().filter(|_| folding.is_any()) {
            let Ok(name) = Name::new(part) else { return false };
            for store in [left, right].into_iter().take(if kind == Kind::TwoWay { 2 } else { 1 }) {
                let entries = store.list(&folder).map(|listing| listing.entries).unwrap_or_default();
                let mut names: Vec<Name> = entries.into_iter().map(|entry| entry.name).collect();
                names.retain(|other| folding.is_same(other, &name));
                names.sort();
                if let (true, Some((_, words))) = (names.len() > 1, clash_words(&names)) {
                    self.say(format!("{words}."));
                    self.decision = "problem";
                    return true;
                }
            }
            folder = folder.join(&name);
        }
        false
    }

    fn one_way(
        &mut self,
        context: &Context,
        job: &Job,
        (ends, to): (&Ends, &Located),
        (left, right): (&dyn Store, &dyn Store),
        path: &RelPath,
        found: (Option<&Meta>, Option<&Meta>),
    ) -> Outcome<()> {
        let desk = &context.desk;
        let decided = decide(desk, job, (ends, to), (left, right), path, found)?;
        let Some(PathDecision { decision, read, withheld, problems }) = decided else {
            self.say("Neither side has it: is the path right?");
            return Ok(());
        };
        if let (true, Some(ours), Some(theirs)) = (read, found.0, found.1) {
            let by = comparison(desk, job, left.capabilities(), right.capabilities());
            let why = if by.is_shifted(ours, theirs) {
                "Their times differ as they do where one side keeps local time"
            } else if by.is_silent(ours, theirs) {
                "One of the sides cannot hold such a time"
            } else {
                "The right one's time is only that of its arrival"
            };
            self.say(format!("{why}, so the two were compared byte by byte."));
        }
        if let Some(why) = withheld {
            self.decision = "leave";
            self.say(format!("It stays where it is: {why}."));
        } else if let Some(problem) = problems.first() {
            self.decision = "problem";
            self.say(format!("A problem is reported: {}.", problem.message));
        } else {
            let folder = found.0.is_some_and(Meta::is_folder);
            let (word, sentence) = decision_words(decision, folder);
            self.decision = word;
            self.say(sentence);
        }
        Ok(())
    }

    fn two_way(
        &mut self,
        context: &Context,
        job: &Job,
        (left, right): (&dyn Store, &dyn Store),
        path: &RelPath,
        (ours, theirs): (Option<&Meta>, Option<&Meta>),
    ) -> Outcome<()> {
        let memory = Memory::of(&context.desk, job, left, right)?;
        let (parent, name) = path.split().ok_or_else(|| Failure::usage("a path below the root is wanted"))?;
        let known = memory.folder(&parent)?.known.into_iter().find(|known| known.name == name);
        self.say(match &known {
            Some(known) => format!("The last run left {} on both sides.", remembered(known)),
            None if memory.is_there() => {
                "Nothing is remembered of it: it was not there, or not agreed on, after the last run."
                    .to_owned()
            }
            None => "Nothing is remembered: these two sides have not been run together yet.".to_owned(),
        });
        if let (Some(ours), Some(theirs)) = (ours, theirs)
            && ours.is_folder()
            && theirs.is_folder()
        {
            self.decision = "same";
            self.say("It is a folder on both sides: what is in it is decided name by name.");
            return Ok(());
        }
        if (ours, theirs, &known) == (None, None, &None) {
            self.say("Neither side has it, and nothing is remembered of it: is the path right?");
            return Ok(());
        }
        let decided = two_way::decide(&context.desk, job, (left, right), path, (ours, theirs))?;
        let (one, other) = (state_words(decided.left), state_words(decided.right));
        self.say(format!("Since then the left {one}, and the right {other}."));
        let by = comparison(&context.desk, job, left.capabilities(), right.capabilities());
        let folder = ours.or(theirs).is_some_and(Meta::is_folder);
        let (word, sentence) = match decided.verdict {
            Verdict::Conflict => self.conflict(job, path, (ours, theirs), &by)?,
            verdict => verdict_words(verdict, folder),
        };
        self.decision = word;
        self.say(sentence);
        if self.decision == "conflict" {
            self.say(format!("To settle it: reedhook settle {} {path} --keep left|right|both", job.name));
        }
        Ok(())
    }

    fn conflict(
        &self,
        job: &Job,
        path: &RelPath,
        (ours, theirs): (Option<&Meta>, Option<&Meta>),
        by: &Comparison,
    ) -> Outcome<(&'static str, String)> {
        let (Some(ours), Some(theirs)) = (ours, theirs) else {
            return Ok(("conflict", "Both have changed.".to_owned()));
        };
        let policies =
            Policies::new(&job.rules.conflict).map_err(|error| Failure::usage(error.to_string()))?;
        let policy = policies.of(path, ours.is_folder() || theirs.is_folder());
        let outcome = match settle(policy, ours, theirs, by) {
            Settled::Held => "it is held until somebody settles it".to_owned(),
            Settled::Wins(side) => format!("the {side} one takes the other's place, which is kept"),
            Settled::Both(side) => {
                format!("the {side} one keeps the name, and the other gets a name of its own, on both sides")
            }
        };
        Ok(("conflict", format!("Both have changed and differ: a conflict. By \"{policy}\", {outcome}.")))
    }
}

fn holds(meta: Option<&Meta>) -> String {
    let Some(meta) = meta else { return "holds nothing there".to_owned() };
    let when =
        meta.modified.map_or(String::new(), |stamp| format!(", of {}", moment(stamp.seconds() * 1000)));
    match meta.kind {
        EntryKind::File => format!("holds a file of {}{when}", bytes(meta.size)),
        EntryKind::Folder => "holds a folder".to_owned(),
        EntryKind::Link => format!(
            "holds a link to {}{when}",
            String::from_utf8_lossy(meta.target.as_deref().unwrap_or_default()).escape_debug()
        ),
        EntryKind::Special(special) => format!("holds {special}"),
    }
}

fn remembered(known: &Known) -> String {
    match &known.what {
        KnownKind::File(size, _) => format!("a file of {}", bytes(*size)),
        KnownKind::Link(target) => format!("a link to {}", String::from_utf8_lossy(target).escape_debug()),
        KnownKind::Folder => "a folder".to_owned(),
    }
}

fn state_words(state: SideChange) -> &'static str {
    match state {
        SideChange::Absent => "never had it",
        SideChange::Gone => "has lost it",
        SideChange::Same => "has not changed",
        SideChange::Adjusted => "has another time or mode, but the same content",
        SideChange::Changed => "has changed",
    }
}

fn decision_words(decision: Decision, folder: bool) -> (&'static str, String) {
    let words = match decision {
        Decision::Unsure => ("update", "Only the content can tell."),
        Decision::Same if folder => {
            ("same", "It is a folder on both sides: what is in it is decided name by name.")
        }
        Decision::Same => ("same", "Kind, size and time agree: nothing is done."),
        Decision::Add if folder => ("add", "It is new: it is made on the right, with what takes part in it."),
        Decision::Add => ("add", "It is new: it is put on the right."),
        Decision::Update => ("update", "The two differ: the right one is updated."),
        Decision::Metadata => ("meta", "The content agrees: only mode or time is set on the right."),
        Decision::Replace => {
            ("update", "The two are of different kinds: the left one takes the place of the right one.")
        }
        Decision::Remove => ("remove", "It is no longer at the left: a mirror removes it from the right."),
        Decision::Leave(reason) => return ("leave", format!("It is left as it is: {}.", reason.words())),
        Decision::Ignore => ("same", "It is only on the right: a copy never removes anything."),
        Decision::Problem(_) => {
            ("problem", "The two are of different kinds: nothing is touched, and a problem is reported.")
        }
    };
    (words.0, words.1.to_owned())
}

fn verdict_words(verdict: Verdict, folder: bool) -> (&'static str, String) {
    let unless = if folder { ", with all that has not changed in it" } else { "" };
    match verdict {
        Verdict::Nothing | Verdict::Conflict => ("same", "So nothing is done.".to_owned()),
        Verdict::Forget => ("same", "It is gone on both sides, and is forgotten.".to_owned()),
        Verdict::Carry(side) => ("carry", format!("So the {} one goes to the {side}.", side.other())),
        Verdict::Revive(side) => {
            ("revive", format!("A removal never beats a change: it comes back on the {side}."))
        }
        Verdict::Remove(side) => ("remove", format!("So it is removed on the {side}{unless}, and kept.")),
        Verdict::Keep(side) => ("leave", format!("This job ignores removals: it stays on the {side}.")),
        Verdict::Adjust => {
            ("meta", "The content is the same: time and mode are brought into line.".to_owned())
        }
    }
}
