//! Looking at a job: open both its ends, scan them, gather what the guards have to know.
//!
//! Preview and run go the same way up to the plan, so that what a preview shows is what a run does.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::RecvTimeoutError;

use reedhook_core::compare::Comparison;
use reedhook_core::entry::{Meta, Side, Stamp};
use reedhook_core::filter::Filter;
use reedhook_core::filter::Verdict;
use reedhook_core::job::{Kind, Preserve};
use reedhook_core::memory::Corrupted;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::guard::{self, Facts, Lift, Nesting, Refusal, Sides};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::{Counts, Plan, Step};
use reedhook_core::store::{Capabilities, Store};
use reedhook_core::survey::holds_anything;
use reedhook_core::walk::{
    Corruption, Fresh, Moves, PathDecision, ScanError, ScanInput, ScanProgress, Scope, WalkObserver,
    decide_path, scan,
};
use reedhook_record::Record;
use reedhook_stores::union::Union;

use crate::capabilities::OpenOptions;
use crate::clear::ProvedPlan;
use crate::desk::{Desk, Event};
use crate::failure::{Cause, Failure, Outcome};
use crate::home::Home;
use crate::inventory::upkeep::Shelves;
use crate::jobfile::{Job, ONCE};
use crate::places::{self, Ends, Located};
use crate::recognise::{self, GroundsSeen, Part};
use crate::two_way::{self, Both};
use crate::words::{bytes, grouped};

/// One destination of a job, or one direction of a two-way one, as it was found.
pub struct DestinationPlan {
    /// What is read.
    pub reads: Arc<dyn Store>,
    /// The destination as written and located.
    pub to: Located,
    /// The destination, or what it will be like when it does not exist yet.
    pub writes: Arc<dyn Store>,
    /// The destination has to be made.
    pub to_be_made: bool,
    /// It was made for this run: it is the job's own from then on, even when there is nothing to bring.
    pub(crate) made: bool,
    /// It is a job's destination: it is locked, bears an identity, and old kept copies are pruned. Where a person restores
    /// to is not.
    pub ours: bool,
    /// What a run would do.
    pub plan: Plan,
    /// What the guards know besides.
    pub(crate) facts: Facts,
}

impl DestinationPlan {
    /// The guard that stops a run, unless it is lifted.
    fn refusal(&self, job: &Job, lifted: &[Lift]) -> Option<Refusal> {
        guard::check(&self.plan, &job.rules, &self.facts, lifted)
    }
}

/// What was found of a job: its places as they are, and what a run would do. Only looked at, nothing more; a run takes a
/// [`ApprovedRun`](crate::clear::ApprovedRun).
pub struct Preview {
    /// The job.
    pub job: Job,
    /// Its ends.
    pub ends: Ends,
    /// A plan for each destination; of a two-way job, for each direction.
    pub destinations: Vec<DestinationPlan>,
    /// What a two-way job has besides.
    pub both: Option<Both>,
    /// What the places were on when they were looked at.
    pub(crate) seen: GroundsSeen,
    /// What a verification found to have changed by itself, and this run is to mend.
    pub(crate) corrupted: Vec<Corrupted>,
}

impl Preview {
    /// What was scanned of a job.
    pub(crate) fn new(
        job: &Job,
        (ends, seen): (Ends, GroundsSeen),
        destinations: Vec<DestinationPlan>,
    ) -> Preview {
        Preview { job: job.clone(), ends, destinations, both: None, seen, corrupted: Vec::new() }
    }

    /// The same, with what a two-way job has besides.
    pub(crate) fn with_both(self, both: Both) -> Preview {
        Preview { both: Some(both), ..self }
    }

    /// The same, with what it is to mend.
    pub(crate) fn with_corrupted(self, corrupted: Vec<Corrupted>) -> Preview {
        Preview { corrupted, ..self }
    }

    /// The stores that the run brings together, by their identities.
    pub(crate) fn pairs(&self, desk: &Desk, record: &dyn Record) -> Outcome<Vec<(String, String)>> {
        let identity = |place: &Located, store: &dyn Store| -> Outcome<String> {
            // The mark that the job knows has been looked for; other stores are asked.
            let known = record.place(&self.job.name, &place.written)?.map(|known| known.mark);
            Ok(match known.filter(|mark| self.job.name != ONCE && mark != recognise::SEEN) {
                Some(mark) => recognise::by_mark(&mark),
                None => recognise::store_identity(desk, place, store)?,
            })
        };
        if let (Some(both), [left], [right]) =
            (&self.both, self.ends.from.as_slice(), self.ends.to.as_slice())
        {
            return Ok(vec![(identity(left, both.left.as_ref())?, identity(right, both.right.as_ref())?)]);
        }
        let left = self.ends.from.iter().map(recognise::spot).collect::<Vec<_>>().join("\n");
        self.destinations
            .iter()
            .map(|destination| Ok((left.clone(), identity(&destination.to, destination.writes.as_ref())?)))
            .collect()
    }

    /// Whether its places are still on what they were on when they were looked at.
    pub(crate) fn is_still_where_it_was(&self, desk: &Desk) -> bool {
        self.seen.still_holds(desk, &self.job, &self.ends)
    }

    /// The numbers of all destinations together.
    pub fn counts(&self) -> Counts {
        let mut counts = Counts::default();
        self.destinations.iter().for_each(|destination| counts.add(&destination.plan.counts()));
        counts
    }

    /// The guard that stops a run, as a failure with the way on, unless a person has lifted it.
    pub fn refusal(&self, lifted: &[Lift], home: &Home) -> Option<Failure> {
        let refused = |destination: &DestinationPlan| {
            Some(guard_failure(&self.job, destination, &destination.refusal(&self.job, lifted)?, home))
        };
        self.destinations.iter().find_map(refused)
    }

    /// Whether nothing but the want of space at places of its own stops a run: there old kept copies can make room.
    pub(crate) fn can_make_room(&self, lifted: &[Lift]) -> bool {
        let stopped = |at: &usize| self.destinations[*at].refusal(&self.job, lifted).is_some();
        let mut stopped = (0..self.destinations.len()).filter(stopped).peekable();
        stopped.peek().is_some() && stopped.all(|at| self.destination_can_make_room(at, lifted))
    }

    /// The same of one destination.
    pub(crate) fn destination_can_make_room(&self, at: usize, lifted: &[Lift]) -> bool {
        let destination = &self.destinations[at];
        let lacks_space = matches!(destination.refusal(&self.job, lifted), Some(Refusal::Space { .. }));
        lacks_space && !destination.to_be_made && (destination.ours || self.both.is_some())
    }

    /// Whether a run would change nothing, apart from the times of folders.
    pub fn changes_nothing(&self) -> bool {
        let folders = self
            .destinations
            .iter()
            .map(|destination| destination.plan.folders_made() + destination.plan.folders_removed());
        let leftovers = self.destinations.iter().any(|destination| !destination.plan.leftovers.is_empty());
        self.counts().changed() + folders.sum::<u64>() == 0 && !leftovers
    }

    /// Whether something would be remembered otherwise than before.
    pub fn has_news(&self) -> bool {
        let proved = self.destinations.iter().any(|destination| !destination.plan.proved.is_empty());
        proved || self.both.as_ref().is_some_and(Both::has_news)
    }

    /// What it would have to tell besides what it does: each conflict that is held and each problem, as a number that is the same for
    /// the same versions of the same path.
    pub fn troubles(&self) -> HashSet<u64> {
        let held = self.both.iter().flat_map(Both::held);
        let side = |meta: &Meta| (meta.size, meta.modified.map(Stamp::to_text));
        let conflicts = held.map(|one| hashed(&(one.path.as_bytes(), side(&one.left), side(&one.right))));
        let problems = self.destinations.iter().flat_map(|destination| &destination.plan.problems);
        conflicts
            .chain(problems.map(|problem| hashed(&(problem.path.as_bytes(), problem.code.as_str()))))
            .collect()
    }

    /// What tells a destination apart in JSON; nothing for a job with one.
    pub fn to_key(&self, destination: &DestinationPlan) -> Option<String> {
        (self.both.is_none() && self.destinations.len() > 1).then(|| destination.to.written.clone())
    }
}

fn hashed(what: &impl std::hash::Hash) -> u64 {
    use std::hash::BuildHasher;
    std::hash::BuildHasherDefault::<std::hash::DefaultHasher>::default().hash_one(what)
}

/// Looks at what a run would do, to show it: what moved is taken for moved by its looks.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn glance(desk: &Desk, job: &Job) -> Outcome<Preview> {
    look_with(desk, job, Moves::Unproved, &Scope::Everything)
}

/// Looks at what a run would do, with the eyes of one: what moved is proved to be the same.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn look(desk: &Desk, job: &Job) -> Outcome<ProvedPlan> {
    Ok(ProvedPlan::of_job(look_with(desk, job, Moves::Proved, &Scope::Everything)?))
}

/// The same where only some folders are known to have changed: what a run would do there. When a guard would stop that, all of both
/// trees is looked at, for a guard judges by the whole.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn look_within(desk: &Desk, job: &Job, scope: &Scope) -> Outcome<ProvedPlan> {
    Ok(ProvedPlan::of_job(within(desk, job, Moves::Proved, scope)?))
}

/// The same, to see whether there is anything to do at all: what moved is taken for moved by its looks.
///
/// # Errors
/// When the places cannot be looked at, or are not those of the job.
pub fn glance_within(desk: &Desk, job: &Job, scope: &Scope) -> Outcome<Preview> {
    within(desk, job, Moves::Unproved, scope)
}

fn within(desk: &Desk, job: &Job, moves: Moves, scope: &Scope) -> Outcome<Preview> {
    // Which names belong together is seen by all of them, and whoever writes through one changes the others without a word.
    let full = job.rules.preserve == Preserve::Full;
    let scope = if full { &Scope::Everything } else { scope };
    let preview = look_with(desk, job, moves, scope)?;
    match scope.is_everything() || preview.refusal(&[], &desk.home).is_none() {
        true => Ok(preview),
        false => look_with(desk, job, moves, &Scope::Everything),
    }
}

/// Opens both ends of a job and scans them. Nothing is changed anywhere.
pub(crate) fn look_with(desk: &Desk, job: &Job, moves: Moves, scope: &Scope) -> Outcome<Preview> {
    if job.rules.kind == Kind::TwoWay {
        return two_way::look(desk, job, (moves, scope), None);
    }
    let ends = Ends::of(job, &desk.home, &desk.settings)?;
    let seen = GroundsSeen::now(desk, job, &ends)?;
    refuse_nested(&ends, &desk.home)?;
    for from in &ends.from {
        recognise::refuse_other_ground(desk, job, from, Part::Source)?;
    }
    let left = open_sources(desk, &ends, OpenOptions::of(job))?;
    let top_level = ends.landing_names()?;
    let (mut destinations, mut all_corrupted) = (Vec::new(), Vec::new());
    for (at, to) in ends.to.iter().enumerate() {
        let mut filter = job.filter(desk.now())?;
        if let Some(names) = &top_level {
            filter = filter.with_top_level(names.clone());
        }
        let (corrupted, changed) = known_corrupted(desk, job, &ends, to)?;
        let rot = Corruption { known: &corrupted, mend: &[Some(changed)] };
        let names = top_level.as_deref().unwrap_or_default();
        // The source is the same for every destination.
        let lefts = if at == 0 { ends.from.as_slice() } else { &[] };
        let shelves = kept_shelves(desk, job, moves, (lefts, to), names);
        let observer = shelves.as_ref().and_then(Shelves::observer);
        let known = known_fresh(desk, job, &ends, to)?;
        let fresh = Fresh { known: &known, looked: Some(desk.now()) };
        let how = How { filter: &filter, moves, rot, fresh, names, scope, observer };
        destinations.push(look_at(desk, job, &left, to, &how)?);
        shelves.into_iter().for_each(|shelves| shelves.close(desk));
        all_corrupted.extend(corrupted);
    }
    Ok(Preview::new(job, (ends, seen), destinations).with_corrupted(all_corrupted))
}

/// The inventories that hear of a look; of one that is only to be shown, none.
pub(crate) fn kept_shelves(
    desk: &Desk,
    job: &Job,
    moves: Moves,
    (lefts, right): (&[Located], &Located),
    names: &[Name],
) -> Option<Shelves> {
    (moves == Moves::Proved).then(|| Shelves::of(desk, job, lefts, Some(right), names))
}

/// What is known to be rotten between a job's source and a destination, and which side this run changes: a reverse run reads the
/// destination and changes the source.
fn known_corrupted(desk: &Desk, job: &Job, ends: &Ends, to: &Located) -> Outcome<(Vec<Corrupted>, Side)> {
    let record = desk.home.record()?;
    let found = record.corrupted(&job.name, &to.written)?;
    match ends.from.as_slice() {
        [from] if found.is_empty() => Ok((record.corrupted(&job.name, &from.written)?, Side::Left)),
        _ => Ok((found, Side::Right)),
    }
}

/// The files between a job's source and a destination whose times could not tell at the last look, also of a reverse run.
fn known_fresh(desk: &Desk, job: &Job, ends: &Ends, to: &Located) -> Outcome<Vec<RelPath>> {
    if job.name == ONCE {
        return Ok(Vec::new());
    }
    let record = desk.home.record()?;
    let mut known = record.fresh(&job.name, &to.written)?;
    if let ([from], true) = (ends.from.as_slice(), known.is_empty()) {
        known = record.fresh(&job.name, &from.written)?;
    }
    Ok(known)
}

/// How a destination is looked at.
pub(crate) struct How<'a> {
    /// What takes part.
    pub filter: &'a Filter,
    /// What is done about moves.
    pub moves: Moves,
    /// What is known to have changed by itself.
    pub rot: Corruption<'a>,
    /// Files whose times cannot tell.
    pub fresh: Fresh<'a>,
    /// The folders that several sources land in.
    pub names: &'a [Name],
    /// How much of both trees is looked at.
    pub scope: &'a Scope,
    /// Who else hears what is seen.
    pub observer: Option<&'a dyn WalkObserver>,
}

fn look_at(
    desk: &Desk,
    job: &Job,
    left: &Arc<dyn Store>,
    to: &Located,
    how: &How<'_>,
) -> Outcome<DestinationPlan> {
    let opened = places::open_destination(desk, to, OpenOptions::of(job))?;
    let to_be_made = opened.is_none();
    if to_be_made {
        recognise::refuse_vanished(desk, job, to, Part::Destination)?;
    }
    let right = match opened {
        Some(store) => store,
        None => places::not_there_yet(desk, to, OpenOptions::of(job))?,
    };
    if !to_be_made {
        recognise::refuse_foreign(desk, job, to, right.as_ref(), Part::Destination)?;
    }
    scan_destination(desk, job, left, (to, right, to_be_made), how)
}

/// Decides one path of a one-way job as a run would.
///
/// # Errors
/// When a side cannot be looked at.
pub fn decide(
    desk: &Desk,
    job: &Job,
    (ends, to): (&Ends, &Located),
    (left, right): (&dyn Store, &dyn Store),
    path: &RelPath,
    found: (Option<&Meta>, Option<&Meta>),
) -> Outcome<Option<PathDecision>> {
    let (corrupted, changed) = known_corrupted(desk, job, ends, to)?;
    let known = known_fresh(desk, job, ends, to)?;
    let filter = job.filter(desk.now())?;
    let input = ScanInput {
        left,
        right,
        filter: &filter,
        rules: one_way_rules(job, comparison(desk, job, left.capabilities(), right.capabilities())),
        one_filesystem: job.rules.one_filesystem,
        on_same: None,
        moves: Moves::Unproved,
        corrupted: Corruption { known: &corrupted, mend: &[Some(changed)] },
        fresh: Fresh { known: &known, looked: None },
        scope: &Scope::Everything,
        observer: None,
    };
    decide_path(&input, &desk.stop, path, found)
        .map_err(|error| scan_failure(error, one_way_word, left, right))
}

fn one_way_word(side: Side) -> &'static str {
    if side == Side::Left { "source" } else { "destination" }
}

/// What can be compared between two stores of a job, here and now.
pub fn comparison(desk: &Desk, job: &Job, left: &Capabilities, right: &Capabilities) -> Comparison {
    let here = (desk.world.now)().to_zoned(desk.world.zone.clone());
    let ahead = i64::from(here.offset().seconds());
    Comparison::between(left, right, job.rules.preserve).where_clocks_are_ahead(ahead)
}

/// How a job decides, given what its stores can compare.
pub fn one_way_rules(job: &Job, by: Comparison) -> OneWayRules {
    OneWayRules { kind: job.rules.kind, newer: job.rules.newer, preserve: job.rules.preserve, by }
}

/// What a job wants to keep and a destination cannot hold: said once, not for every file.
pub fn losses(job: &Job, place: &str, right: &dyn Store) -> Vec<String> {
    let can = right.capabilities();
    let wanted = job.rules.preserve;
    let mut lost = Vec::new();
    if wanted != Preserve::Content && !can.modes {
        lost.push("modes");
    }
    if wanted != Preserve::Content && !can.links {
        lost.push("links");
    }
    if wanted == Preserve::Full && !can.full {
        lost.push("owners, extended attributes and second names");
    }
    let root =
        std::fs::metadata("/proc/self").is_ok_and(|meta| std::os::unix::fs::MetadataExt::uid(&meta) == 0);
    let mut lines = Vec::new();
    if !lost.is_empty() {
        lines.push(format!("{place} cannot hold {}; they are lost there", lost.join(", ")));
    }
    if wanted == Preserve::Full && can.full && !root {
        lines.push("owners and devices are kept only when root runs the job".to_owned());
    }
    lines
}

/// Scans one destination between two opened stores and checks the guards.
pub(crate) fn scan_destination(
    desk: &Desk,
    job: &Job,
    left: &Arc<dyn Store>,
    (to, right, to_be_made): (&Located, Arc<dyn Store>, bool),
    how: &How<'_>,
) -> Outcome<DestinationPlan> {
    let How { filter, moves, rot, fresh, names, scope, observer } = *how;
    let by = comparison(desk, job, left.capabilities(), right.capabilities());
    let rules = one_way_rules(job, by);
    let one_filesystem = job.rules.one_filesystem;
    let (from, to_store) = (left.as_ref(), right.as_ref());
    let input = ScanInput {
        left: from,
        right: to_store,
        filter,
        rules,
        one_filesystem,
        on_same: None,
        moves,
        corrupted: rot,
        fresh,
        scope,
        observer,
    };
    let mut plan = watched(desk, &job.name, |progress| scan(&input, progress))
        .map_err(|error| scan_failure(error, one_way_word, from, to_store))?;
    if scope.is_everything() && plan.problems.is_empty() {
        // What was not met is gone, or takes no part any more.
        let gone = fresh.known.iter().filter(|path| plan.fresh.binary_search(path).is_err()).cloned();
        plan.proved = gone.collect();
    }
    let lost = |name: &&Name| guard::removed_within(&plan, &RelPath::from(*name)) > 0;
    let is_empty =
        |name: &&Name| !holds_anything(from, filter, &RelPath::from(*name), filter.inherit(Verdict::In));
    let empty: Vec<Name> = names.iter().filter(lost).filter(is_empty).cloned().collect();
    let facts = facts(&plan, from, to_store, empty);
    Ok(DestinationPlan {
        reads: left.clone(),
        to: to.clone(),
        writes: right,
        to_be_made,
        made: false,
        ours: true,
        plan,
        facts,
    })
}

/// What the guards have to know. Holes are looked for only when the sizes would not fit.
pub(crate) fn facts(plan: &Plan, left: &dyn Store, right: &dyn Store, empty_sources: Vec<Name>) -> Facts {
    let space = right.space().ok().flatten();
    let bytes = plan.counts().bytes;
    let tight = space.is_some_and(|space| bytes > space.free);
    let needed = if tight && right.capabilities().holes { data_bytes(plan, left) } else { bytes };
    Facts { space, needed, empty_sources }
}

/// The bytes that a plan writes out, without the holes of what it brings.
fn data_bytes(plan: &Plan, left: &dyn Store) -> u64 {
    /// Smaller files have none that count.
    const LARGE: u64 = 64 << 10;
    let actions =
        plan.folders.iter().flat_map(|folder| folder.actions.iter().map(move |action| (folder, action)));
    let written = actions.filter_map(|(folder, action)| match &action.step {
        Step::Add { from } | Step::Update { from, .. } if from.size < LARGE => Some(from.size),
        Step::Add { from } | Step::Update { from, .. } => {
            let data = left.data_bytes(&folder.path.join(&action.name)).ok().flatten();
            Some(data.unwrap_or(from.size).min(from.size))
        }
        _ => None,
    });
    written.sum()
}

/// Opens a job's sources as one tree.
pub fn open_sources(desk: &Desk, ends: &Ends, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let names = ends.landing_names()?;
    let stores = ends
        .from
        .iter()
        .map(|located| places::open_source(desk, located, options, "source"))
        .collect::<Outcome<Vec<_>>>()?;
    let members: Vec<_> = names.unwrap_or_default().into_iter().zip(stores.iter().cloned()).collect();
    match (Union::new(members), stores.into_iter().next()) {
        (Some(union), _) => Ok(Arc::new(union)),
        (None, Some(only)) => Ok(only),
        (None, None) => Err(Failure::usage("the job has no source")),
    }
}

pub(crate) fn refuse_nested(ends: &Ends, home: &Home) -> Outcome<()> {
    match nested(ends, home) {
        Some(sentence) => Err(Failure::refused(Cause::Nested, sentence).hint("Choose sides that lie apart.")),
        None => Ok(()),
    }
}

/// How a source and a destination lie within each other, as a sentence; `None` when they are apart.
pub fn nested(ends: &Ends, home: &Home) -> Option<String> {
    for from in &ends.from {
        for to in &ends.to {
            let (source, destination) = (from.shown(home), to.shown(home));
            let ways = from.places().into_iter().zip(to.places());
            let related = ways.map(|(first, second)| guard::nesting(&first, &second));
            return Some(
                match related.into_iter().find(|how| *how != Nesting::Apart).unwrap_or(Nesting::Apart) {
                    Nesting::Apart => continue,
                    Nesting::Same => {
                        format!("the source and the destination are the same folder, {destination}")
                    }
                    Nesting::SecondInFirst => {
                        format!("the destination {destination} lies inside the source {source}")
                    }
                    Nesting::FirstInSecond => {
                        format!("the source {source} lies inside the destination {destination}")
                    }
                },
            );
        }
    }
    None
}

/// Scans while somebody may be watching.
pub(crate) fn watched<T>(
    desk: &Desk,
    job: &str,
    scan: impl FnOnce(&ScanProgress) -> Result<T, ScanError>,
) -> Result<T, ScanError> {
    /// Often enough for an eye.
    const EVERY: Duration = Duration::from_millis(20);
    let progress = ScanProgress { stop: desk.stop.clone(), ..ScanProgress::default() };
    let (finished, wait) = crossbeam_channel::bounded::<()>(0);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let wait = wait;
            while wait.recv_timeout(EVERY) == Err(RecvTimeoutError::Timeout) {
                desk.tell(&Event::Scanning { job, progress: &progress });
            }
            desk.tell(&Event::Scanned);
        });
        let outcome = scan(&progress);
        drop(finished);
        outcome
    })
}

/// Why a scan came to nothing; `word` is what a side is called in this kind of job.
pub(crate) fn scan_failure(
    error: ScanError,
    word: impl Fn(Side) -> &'static str,
    left: &dyn Store,
    right: &dyn Store,
) -> Failure {
    match error {
        ScanError::Stopped => interrupted(),
        ScanError::Baseline(error) => error.into(),
        ScanError::Store(side, error) => {
            let (cause, store) = match side {
                Side::Left => (Cause::SourceUnreadable, left),
                Side::Right => (Cause::DestinationUnusable, right),
            };
            let why = if error.path.is_root() { error.kind.words().to_owned() } else { error.to_string() };
            Failure::refused(cause, format!("the {} {} cannot be read: {why}", word(side), store.name()))
        }
    }
}

/// Broken off before anything was changed.
pub fn interrupted() -> Failure {
    Failure::interrupted(Cause::Interrupted, "interrupted; nothing was changed")
}

/// A guard's refusal as a failure with the way on.
fn guard_failure(job: &Job, destination: &DestinationPlan, refusal: &Refusal, home: &Home) -> Failure {
    let sides = if destination.plan.changes == Side::Left || !destination.ours {
        let changed = destination.plan.changes;
        Sides { read: changed.other().as_str(), changed: changed.as_str() }
    } else {
        Sides::default()
    };
    let mut message = match refusal {
        Refusal::Space { needed, free } => {
            let shown = destination.to.shown(home);
            format!("it needs {} at {shown}, where {} are free", bytes(*needed), bytes(*free))
        }
        other => other.words(sides),
    };
    if !refusal.most().is_empty() {
        let most: Vec<String> = refusal
            .most()
            .iter()
            .map(|(path, number)| {
                let place = if path.is_root() { "the top folder".to_owned() } else { path.to_string() };
                format!("{place} {}", grouped(*number))
            })
            .collect();
        message = format!("{message}; most in {}", most.join(", "));
    }
    let advice = match refusal {
        Refusal::EmptySource { .. } => "Is it the right folder, and is the drive connected?".to_owned(),
        Refusal::Removals { .. } => "Look at the preview.".to_owned(),
        Refusal::Changes { .. } => {
            "Look at the preview: a bad export or an encrypted folder looks like this.".to_owned()
        }
        Refusal::Space { .. } => format!(
            "Free space there, or filter something out. What kept copies take: reedhook kept list {0}; to erase some: reedhook kept prune {0} --older-than AGE.",
            job.name
        ),
    };
    let lift = refusal.lift().as_str();
    let way = if job.name == ONCE {
        format!("the same with --allow {lift}")
    } else if !destination.ours && destination.plan.changes == Side::Left {
        format!("reedhook run {} --reverse --allow {lift}", job.name)
    } else {
        format!("reedhook run {} --allow {lift}", job.name)
    };
    let hint = format!("{advice} If it is right: {way}.");
    Failure::refused(refusal.clone(), message).hint(hint)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::jobfile::JobKeys;
    use reedhook_core::job::Kind;
    use reedhook_testing::simulated::SimulatedStore;

    #[test]
    fn what_a_destination_cannot_hold_is_said_once_for_all_files() {
        let job = |preserve| {
            let (from, to) = (vec!["a".to_owned()], vec!["b".to_owned()]);
            Job::new("counts", JobKeys { kind: Some(Kind::Mirror), from, to, preserve, ..JobKeys::default() })
        };
        let whole = SimulatedStore::new("whole");
        let plain = SimulatedStore::new("plain").with_capabilities(|can| {
            can.modes = false;
            can.links = false;
        });
        let cases = [
            (&whole, None, ""),
            (&plain, None, "cannot hold modes, links; they are lost there"),
            (&plain, Some(Preserve::Content), ""),
            (&whole, Some(Preserve::Full), "cannot hold owners, extended attributes and second names"),
        ];
        for (store, preserve, words) in cases {
            let said = losses(&job(preserve).expect("a job"), "there", store).join(" ");
            assert!(said.contains(words) && said.is_empty() == words.is_empty(), "{preserve:?}: {said}");
        }
    }
}
