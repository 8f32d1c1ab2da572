//! Bringing things back: what is where, which version lies over which, and a restore as a run.
//!
//! A restore is an ordinary copy run between two stores, limited to the paths that were named, so it has the same safety: whole
//! files only, and what it replaces is kept.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use reedhook_core::entry::{Privileges, Side};
use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer, Preserve};
use reedhook_core::memory::Corrupted;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::Step;
use reedhook_core::run::{Item, kept_folder, kept_root};
use reedhook_core::store::{Store, StoreError};
use reedhook_core::walk::{Corruption, Fresh, Moves, Scope};
use reedhook_record::RunPlace;
use reedhook_stores::overlay::{Layer, Overlay};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::files::known_job;
use crate::jobfile::job::{Job, ONCE};
use crate::logline::LogLine;
use crate::logs;
use crate::open::{make_destination, open_destination};
use crate::places::{Ends, Located, locate, typed_path};
use crate::preview::Preview;
use crate::proved::ProvedPlan;
use crate::recognise::{self, GroundsSeen, Part};
use crate::run::retention::{InOrder, KeptError, kept_in_order};
use crate::scan::{How, scan_destination};

/// A place that may hold kept copies.
pub struct Holder {
    /// Which of the two trees it is in.
    pub side: Side,
    /// The place.
    pub place: Located,
    /// What is there.
    pub store: Arc<dyn Store>,
    /// What the place is to the job now; nothing for one that earlier runs have changed.
    pub part: Option<Part>,
}

/// Where a job's runs keep copies: at its first destination, or at both sides of a two-way job; the right first.
fn holders(desk: &Desk, job: &Job) -> Outcome<Vec<Holder>> {
    let ends = Ends::of(job, &desk.home, &desk.settings)?;
    let two_way = job.rules.kind == Kind::TwoWay;
    let left = ends.from.into_iter().filter(|_| two_way).map(|place| (Side::Left, place));
    let places = ends.to.into_iter().take(1).map(|place| (Side::Right, place)).chain(left);
    let open = |(side, place): (Side, Located)| {
        let missing = || {
            Failure::refused(Cause::DestinationMissing, format!("{} is not there", place.shown(&desk.home)))
        };
        let store = open_destination(desk, &place, OpenOptions::of(job))?.ok_or_else(missing)?;
        let part = Some(Part::of(job.rules.kind, side == Side::Left));
        Ok(Holder { side, place, store, part })
    };
    places.map(open).collect()
}

/// The places that hold kept copies of a job's runs.
pub struct Holders {
    /// Those that are there.
    pub there: Vec<Holder>,
    /// Why another one could not be looked at, which may hold some: a sentence each.
    pub away: Vec<String>,
}

/// Every place that holds kept copies of a job's runs: also the left of a one-way job, when something was restored over what it
/// had, further destinations, and what earlier runs or restores have changed.
///
/// # Errors
/// When the job's own destination is not there, or the record fails.
pub fn all_holders(desk: &Desk, job: &Job) -> Outcome<Holders> {
    let mut there = holders(desk, job)?;
    let mut away = Vec::new();
    let ends = Ends::of(job, &desk.home, &desk.settings)?;
    let candidate = |side, place, past, may_hold| Candidate { side, place, past, may_hold };
    let right = ends.to.into_iter().map(|place| candidate(Side::Right, place, None, true));
    let changed = desk.home.record()?.places_changed(&job.name)?;
    let earlier = changed.into_iter().filter_map(|past| {
        let place = locate(&desk.home, &desk.settings, &past.place).ok()?;
        Some(candidate(past.side, place, Some(past), true))
    });
    // Nothing was ever set aside at the left, unless a run has changed it: then it is among those.
    let left = ends.from.into_iter().map(|place| candidate(Side::Left, place, None, false));
    for candidate in right.chain(earlier).chain(left) {
        if there.iter().any(|known| known.place.location() == candidate.place.location()) {
            continue;
        }
        match candidate.look(desk, job) {
            Ok(holder) => there.extend(holder),
            Err(why) if candidate.may_hold && !away.contains(&why) => away.push(why),
            Err(_) => {}
        }
    }
    Ok(Holders { there, away })
}

/// A place that may hold kept copies.
struct Candidate {
    side: Side,
    place: Located,
    /// What an earlier run has noted of it.
    past: Option<RunPlace>,
    /// Runs of the job set copies aside there.
    may_hold: bool,
}

impl Candidate {
    /// What it holds; nothing when it holds no kept copies.
    ///
    /// # Errors
    /// Why nobody can see that, in a sentence.
    fn look(&self, desk: &Desk, job: &Job) -> Result<Option<Holder>, String> {
        let shown = self.place.shown(&desk.home);
        let gone = || format!("{shown} is not there: what it keeps cannot be seen.");
        if !self.place.seems_there() {
            return Err(gone());
        }
        let opened = open_destination(desk, &self.place, OpenOptions::of(job));
        let store = opened.map_err(|failure| failure.text())?.ok_or_else(gone)?;
        if let Some(past) = &self.past {
            recognise::refuse_another_store(desk, past, &self.place, store.as_ref())
                .map_err(|failure| format!("{}.", failure.message))?;
        }
        match store.stat(&kept_root()) {
            Ok(Some(_)) => Ok(Some(Holder { side: self.side, place: self.place.clone(), store, part: None })),
            Ok(None) => Ok(None),
            Err(error) => Err(format!("the kept copies at {shown} cannot be read: {}.", error.reason())),
        }
    }
}

/// Kept copies that cannot be read.
pub fn unreadable(error: &StoreError) -> Failure {
    Failure::refused(Cause::DestinationUnusable, format!("the kept copies cannot be read: {error}"))
}

/// The runs with kept copies at a store, in the order in which they ran.
///
/// # Errors
/// When the store or the record fails.
pub fn in_order(desk: &Desk, store: &dyn Store) -> Outcome<Vec<InOrder>> {
    kept_in_order(desk, store).map_err(|failure| match failure {
        KeptError::Store(error) => unreadable(&error),
        KeptError::Record(failure) => failure,
    })
}

/// The kept copies of a run: its row gives the name, unless it was made by somebody else's Reedhook.
///
/// # Errors
/// When no run can have that name, or the record fails.
pub fn kept_name(desk: &Desk, job: &str, which: &str) -> Outcome<Name> {
    let row = desk.home.record()?.find_run(job, which)?;
    let text = row.map_or_else(|| which.to_owned(), |row| row.run);
    Name::new(text.as_bytes()).map_err(|_| Failure::usage(format!("{job} has no run \"{which}\"")))
}

/// What a person wants back, and where.
pub struct Wanted<'a> {
    /// The paths.
    pub paths: &'a [PathBuf],
    /// A folder of their choice.
    pub into: Option<&'a Path>,
    /// As a run has kept it.
    pub run: Option<&'a str>,
}

/// Where things are brought back to.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum To {
    /// The left: `restore`.
    Source,
    /// The right: `kept restore`.
    Destination,
}

/// A restore that is about to be: from which trees, to where, of what.
pub struct Restore {
    job: Job,
    source: Source,
    target: Located,
    side: Side,
    paths: Vec<RelPath>,
}

/// Finds what is wanted back, and where it goes: of kept copies that go back where they were, one restore for each side.
///
/// # Errors
/// When something that is wanted is nowhere, or a place is not the job's.
pub fn find(desk: &Desk, name: &str, wanted: &Wanted<'_>, to: To) -> Outcome<(Job, Vec<Restore>)> {
    let job = known_job(&desk.home, name, wanted.run)?;
    let ends = Ends::of(&job, &desk.home, &desk.settings)?;
    let Holders { there: holders, away } = all_holders(desk, &job)?;
    away.iter().for_each(|why| desk.note(why));
    for holder in &holders {
        if let Some(part) = holder.part {
            recognise::refuse_foreign(desk, &job, &holder.place, holder.store.as_ref(), part)?;
        }
    }
    let into = wanted.into.map(folder_target).transpose()?;
    let named = wanted.run.map(|which| kept_name(desk, name, which)).transpose()?;
    let layers = layers(desk, &job, &holders, named.as_ref(), to)?;
    let paths: Vec<RelPath> =
        wanted.paths.iter().map(|typed| relative(typed, &ends, &holders)).collect::<Outcome<_>>()?;
    let tree = Overlay::new(layers.iter().map(|found| found.layer.clone()).collect());
    let tree = tree.ok_or_else(|| not_kept(&paths, to, named.is_some()))?;
    let missing = |path: &&RelPath| !matches!(tree.stat(path), Ok(Some(_)));
    if let Some(path) = paths.iter().find(missing) {
        return Err(not_kept(std::slice::from_ref(path), to, named.is_some()));
    }
    let restores = match (to, into) {
        (To::Destination, None) => where_it_was(&job, &holders, (&tree, &layers), paths)?,
        (_, into) => {
            let target = match into {
                Some(folder) => folder,
                None => own_left(desk, &job, &ends)?,
            };
            let source = Source::of(layers, tree);
            vec![Restore { job: job.clone(), source, target, side: Side::Left, paths }]
        }
    };
    Ok((job, restores))
}

fn own_left(desk: &Desk, job: &Job, ends: &Ends) -> Outcome<Located> {
    let left = only_source(ends, &job.name)?;
    recognise::refuse_other_ground(desk, job, &left, Part::of(job.rules.kind, true))?;
    Ok(left)
}

/// Kept copies go back to the side that they came from; of a path that both sides have kept, the newest.
fn where_it_was(
    job: &Job,
    holders: &[Holder],
    (tree, layers): (&Overlay, &[SourceTree]),
    paths: Vec<RelPath>,
) -> Outcome<Vec<Restore>> {
    let mut by_holder: BTreeMap<usize, Vec<RelPath>> = BTreeMap::new();
    for path in paths {
        let holder = tree.layer_of(&path).map_or(0, |layer| layers[layer].holder);
        by_holder.entry(holder).or_default().push(path);
    }
    let restore = |(at, paths): (usize, Vec<RelPath>)| {
        let own: Vec<SourceTree> = layers.iter().filter(|found| found.holder == at).cloned().collect();
        let tree = Overlay::new(own.iter().map(|found| found.layer.clone()).collect());
        let tree = tree.ok_or_else(|| not_kept(&paths, To::Destination, true))?;
        let (target, side) = (holders[at].place.clone(), holders[at].side);
        Ok(Restore { job: job.clone(), source: Source::of(own, tree), target, side, paths })
    };
    by_holder.into_iter().map(restore).collect()
}

/// A tree that a restore can read from.
#[derive(Clone)]
struct SourceTree {
    layer: Layer,
    /// What it is called.
    name: String,
    /// Which of the holders has it.
    holder: usize,
}

/// What a restore reads from, and what each of its layers is called.
struct Source {
    tree: Arc<Overlay>,
    names: Vec<String>,
}

impl Source {
    fn of(layers: Vec<SourceTree>, tree: Overlay) -> Source {
        Source { tree: Arc::new(tree), names: layers.into_iter().map(|found| found.name).collect() }
    }
}

/// What lies over what: the other side on top, then what runs have kept, the newest first; or only what one run has kept.
fn layers(
    desk: &Desk,
    job: &Job,
    holders: &[Holder],
    named: Option<&Name>,
    to: To,
) -> Outcome<Vec<SourceTree>> {
    let mut layers = Vec::new();
    let right = holders.first().filter(|_| named.is_none() && to == To::Source);
    layers.extend(right.map(|right| SourceTree {
        name: right.place.short(&desk.home),
        layer: Layer::new(right.store.clone(), RelPath::root()),
        holder: 0,
    }));
    let mut kept: Vec<(i64, Name, usize)> = Vec::new();
    for (at, holder) in holders.iter().enumerate() {
        // What was set aside where a person restored to is only meant when they name that run.
        if holder.part.is_none() && named.is_none() {
            continue;
        }
        let runs = in_order(desk, holder.store.as_ref())?;
        let wanted = runs.into_iter().filter(|kept| named.is_none_or(|named| *named == kept.run.run));
        kept.extend(wanted.map(|kept| (kept.order, kept.run.run, at)));
    }
    // Stable: of one run the right comes before the left.
    kept.sort_by_key(|(order, ..)| std::cmp::Reverse(*order));
    layers.extend(kept.into_iter().map(|(_, run, holder)| {
        let taken = Arc::new(taken(desk, job, &run, holders[holder].side));
        let layer = Layer { taken, ..Layer::new(holders[holder].store.clone(), kept_folder(&run)) };
        SourceTree { layer, name: format!("kept copies of {run}"), holder }
    }));
    Ok(layers)
}

/// What was taken from files when a run of the job kept them, by its log: nothing that lies at the destination could be believed. It
/// is of use only where owners are given.
fn taken(desk: &Desk, job: &Job, run: &Name, side: Side) -> HashMap<RelPath, Privileges> {
    let mut taken = HashMap::new();
    let run = String::from_utf8_lossy(run.as_bytes());
    let log = desk.home.run_log(&job.name, &run);
    if job.rules.preserve == Preserve::Full && log.exists() {
        let read = logs::read(&log, |_, line| {
            if let LogLine::Did { item, .. } = line
                && let Item { privileges: Some(privileges), .. } = *item
                && item.side == side
            {
                taken.insert(item.path, *privileges);
            }
        });
        if read.is_err() {
            desk.note(format!("the log of {run} cannot be read: setuid, setgid and capabilities of what it kept are not given back"));
        }
    }
    taken
}

fn not_kept(paths: &[RelPath], to: To, named: bool) -> Failure {
    let path = paths.first().map(RelPath::to_string).unwrap_or_default();
    let words = if to == To::Source && !named {
        "is neither at the right nor in the kept copies"
    } else {
        "is not in the kept copies"
    };
    Failure { cause: Cause::NotKept, ..Failure::usage(format!("{path} {words}")) }
        .hint("`reedhook kept list JOB RUN` shows what was kept.")
}

fn only_source(ends: &Ends, name: &str) -> Outcome<Located> {
    match ends.from.as_slice() {
        [only] => Ok(only.clone()),
        _ => Err(Failure::usage(format!("{name} has several sources")).hint("Say where with --into DIR.")),
    }
}

fn folder_target(folder: &Path) -> Outcome<Located> {
    let path = std::path::absolute(folder)
        .map_err(|error| Failure::usage(format!("{}: {error}", folder.display())))?;
    std::fs::create_dir_all(&path)
        .map_err(|error| Failure::usage(format!("cannot make {}: {error}", path.display())))?;
    Ok(Located::local(path.display().to_string(), path))
}

/// A typed path relative to the side's root; one that begins with a side's folder is understood too.
fn relative(typed: &Path, ends: &Ends, holders: &[Holder]) -> Outcome<RelPath> {
    let roots =
        ends.from.iter().chain(holders.iter().map(|holder| &holder.place)).filter_map(Located::folder);
    let below = roots.filter_map(|root| typed.strip_prefix(root).ok()).next().unwrap_or(typed);
    typed_path(below)
}

impl Restore {
    /// Where it goes.
    pub fn target(&self) -> &Located {
        &self.target
    }

    /// Where what comes back comes from, when that is not one place: the name of each, and how many files.
    pub fn origins(&self, preview: &Preview) -> Vec<(&str, u64)> {
        let mut found: BTreeMap<usize, u64> = BTreeMap::new();
        for folder in preview.destinations.iter().flat_map(|destination| &destination.plan.folders) {
            for action in &folder.actions {
                if matches!(action.step, Step::Add { .. } | Step::Update { .. }) {
                    let layer = self.source.tree.layer_of(&folder.path.join(&action.name));
                    *found.entry(layer.unwrap_or_default()).or_default() += 1;
                }
            }
        }
        if found.len() <= 1 && found.keys().all(|layer| *layer == 0) {
            return Vec::new();
        }
        let name = |layer: usize| self.source.names.get(layer).map_or("", String::as_str);
        found.into_iter().map(|(layer, number)| (name(layer), number)).collect()
    }

    /// Looks at what it would do. What is newer at the target stays, unless `overwrite` says otherwise of that many files.
    ///
    /// # Errors
    /// When either side cannot be looked at.
    pub fn look(&self, desk: &Desk, overwrite: impl FnOnce(u64) -> Outcome<bool>) -> Outcome<ProvedPlan> {
        let (job, target) = (&self.job, &self.target);
        let filter =
            Filter::for_paths(self.paths.clone()).map_err(|error| Failure::usage(error.to_string()))?;
        let store: Arc<dyn Store> = match open_destination(desk, target, OpenOptions::of(job))? {
            Some(store) => store,
            None => make_destination(desk, target, OpenOptions::of(job))?,
        };
        let mut copy = job.clone();
        copy.rules = copy.rules.erasing_nothing();
        (copy.rules.kind, copy.rules.newer) = (Kind::Copy, Newer::Leave);
        let right = job.to.first().cloned().unwrap_or_default();
        let record = desk.home.record()?;
        let (corrupted, known) = (record.corrupted(&job.name, &right)?, record.fresh(&job.name, &right)?);
        drop(record);
        // What is named is brought back, unless it is the right that went bad.
        let rot = Corruption { known: &corrupted, mend: &[Some(Side::Left), None] };
        let tree: Arc<dyn Store> = self.source.tree.clone();
        let look = |copy: &Job| {
            let how = How {
                filter: &filter,
                moves: Moves::Proved,
                rot,
                fresh: Fresh { known: &known, looked: None },
                names: &[],
                scope: &Scope::Everything,
                observer: None,
            };
            scan_destination(desk, copy, &tree, (target, store.clone(), false), &how)
        };
        let mut destination = look(&copy)?;
        let newer = destination.plan.folders.iter().flat_map(|folder| &folder.actions);
        let newer = newer.filter(|action| matches!(action.step, Step::Leave { .. })).count() as u64;
        if newer > 0 && desk.asking(|| overwrite(newer))? {
            copy.rules.newer = Newer::Update;
            destination = look(&copy)?;
        }
        destination.ours = false;
        destination.plan.set_changes(self.side);
        let ends = Ends { from: Vec::new(), to: vec![target.clone()] };
        let corrupted = rotten_within(corrupted, &filter);
        let preview =
            Preview::new(&copy, (ends, GroundsSeen::default()), vec![destination]).with_corrupted(corrupted);
        let remembered = job.rules.kind == Kind::TwoWay && job.name != ONCE;
        Ok(ProvedPlan::of_restore(preview, remembered))
    }
}

/// What is known to be rotten of what is brought back.
fn rotten_within(corrupted: Vec<Corrupted>, filter: &Filter) -> Vec<Corrupted> {
    let named = |one: &Corrupted| filter.names(&one.path) && one.side != Some(Side::Right);
    corrupted.into_iter().filter(named).collect()
}
