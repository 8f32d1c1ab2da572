//! `kept`, `restore` and `undo`: bringing things back.
//!
//! A restore is an ordinary copy run between two stores, limited to the paths that were named, so it has the same safety: whole
//! files only, and what it replaces is kept.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use reedhook_core::entry::Side;
use reedhook_core::filter::Filter;
use reedhook_core::job::{Kind, Newer};
use reedhook_core::memory::Rotten;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::{Counts, Fate, Step};
use reedhook_core::run::kept::{Amount, amount, kept_files};
use reedhook_core::run::undo::{Past, Undone, undo as undo_run};
use reedhook_core::run::{Done, Event, kept_folder, kept_root};
use reedhook_core::store::{FaultKind, Store, StoreError};
use reedhook_core::walk::{Moves, Rot};
use reedhook_record::{Outcome as RunOutcome, RunPlace, RunRow};
use reedhook_stores::layered::{Layer, Layered};
use serde_json::{Value, json};

use super::history::{find, read_log};
use super::run::told;
use crate::args::KeptCommand;
use crate::ask;
use crate::carry::{InOrder, JobLock, KeptError, Run, kept_in_order, lock_destination, prune};
use crate::context::Context;
use crate::failure::{Failure, Outcome, STOPPED};
use crate::held::Manner;
use crate::jobfile::{Job, ONCE, known_job};
use crate::json as lines;
use crate::places::{Ends, Located, locate, open_destination};
use crate::recognise::{self, Part, Seen};
use crate::render;
use crate::round::{How, Round, scan_leg};
use crate::text::{Align, Columns, bytes, count, grouped, moment};

/// Carries out a `kept` command.
pub fn kept(context: &Context, command: KeptCommand) -> Outcome {
    match command {
        KeptCommand::List { job, run: None } => list_runs(context, &job),
        KeptCommand::List { job, run: Some(run) } => list_files(context, &job, &run),
        KeptCommand::Restore { job, paths, run, into } => {
            let wanted = Wanted { paths: &paths, into: into.as_deref(), run: run.as_deref() };
            bring(context, &job, &wanted, To::Destination)
        }
        KeptCommand::Prune { job, older_than } => {
            let job = known_job(&context.home, &job, None)?;
            let mut gone = Vec::new();
            for Holder { place, store, part, .. } in all_holders(context, &job)? {
                if let Some(part) = part {
                    recognise::refuse_foreign(context, &job, &place, store.as_ref(), part)?;
                }
                // The copies of a run in progress are not ours to take.
                let _lock = lock_destination(store.as_ref(), &place, &context.home)?;
                gone.extend(prune(
                    context,
                    &job,
                    store.as_ref(),
                    None,
                    older_than.map(|age| age.duration()),
                )?);
            }
            let add = |sum: (u64, u64), one: &Amount| (sum.0 + one.files, sum.1 + one.bytes);
            let (files, size) = gone.iter().fold((0, 0), add);
            if context.global.json {
                lines::print(&json!({"event": "pruned", "runs": gone.len(), "files": files, "bytes": size}));
            } else if gone.is_empty() {
                context.say("Nothing to prune.");
            } else {
                let runs = count(gone.len() as u64, "run", "runs");
                context.say(format!(
                    "Erased {} of {runs}, {}.",
                    count(files, "kept copy", "kept copies"),
                    bytes(size)
                ));
            }
            Ok(0)
        }
    }
}

/// Brings paths back to the left.
pub fn restore(
    context: &Context,
    job: &str,
    paths: &[std::path::PathBuf],
    into: Option<&Path>,
    run: Option<&str>,
) -> Outcome {
    bring(context, job, &Wanted { paths, into, run }, To::Source)
}

/// A place that may hold kept copies.
struct Holder {
    side: Side,
    place: Located,
    store: Arc<dyn Store>,
    /// What the place is to the job now; nothing for one that earlier runs have changed.
    part: Option<Part>,
}

/// Where a job's runs keep copies: at its first destination, or at both sides of a two-way job; the right first.
fn holders(context: &Context, job: &Job) -> Outcome<Vec<Holder>> {
    let ends = Ends::of(job, &context.home, &context.settings)?;
    let two_way = job.rules.kind == Kind::TwoWay;
    let left = ends.from.into_iter().filter(|_| two_way).map(|place| (Side::Left, place));
    let places = ends.to.into_iter().take(1).map(|place| (Side::Right, place)).chain(left);
    let open = |(side, place): (Side, Located)| {
        let missing = || {
            Failure::refused("destination-missing", format!("{} is not there", place.shown(&context.home)))
        };
        let store = open_destination(&place, &context.home, Manner::of(job))?.ok_or_else(missing)?;
        let part = Some(Part::of(job.rules.kind, side == Side::Left));
        Ok(Holder { side, place, store, part })
    };
    places.map(open).collect()
}

/// Every place that holds kept copies of a job's runs: also the left of a one-way job, when something was restored over what it
/// had, further destinations, and what earlier runs or restores have changed, as far as it is there.
fn all_holders(context: &Context, job: &Job) -> Outcome<Vec<Holder>> {
    let mut found = holders(context, job)?;
    let ends = Ends::of(job, &context.home, &context.settings)?;
    let left = ends.from.into_iter().map(|place| (Side::Left, place, None));
    let right = ends.to.into_iter().map(|place| (Side::Right, place, None));
    let changed = context.home.record()?.places_changed(&job.name)?;
    let earlier = changed.into_iter().filter_map(|past| {
        let place = locate(&context.home, &context.settings, &past.place).ok()?;
        Some((past.side, place, Some(past)))
    });
    for (side, place, past) in left.chain(right).chain(earlier) {
        if found.iter().any(|known| known.place.location() == place.location()) || !place.seems_there() {
            continue;
        }
        let Ok(Some(store)) = open_destination(&place, &context.home, Manner::of(job)) else { continue };
        let same = past.is_none_or(|past| {
            recognise::refuse_another_store(context, &past, &place, store.as_ref()).is_ok()
        });
        if same && matches!(store.stat(&kept_root()), Ok(Some(_))) {
            found.push(Holder { side, place, store, part: None });
        }
    }
    Ok(found)
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::refused("destination-unusable", format!("the kept copies cannot be read: {error}"))
}

fn in_order(context: &Context, store: &dyn Store) -> Outcome<Vec<InOrder>> {
    kept_in_order(context, store).map_err(|failure| match failure {
        KeptError::Store(error) => unreadable(&error),
        KeptError::Record(failure) => failure,
    })
}

fn list_runs(context: &Context, name: &str) -> Outcome {
    let job = known_job(&context.home, name, None)?;
    let record = context.home.record()?;
    let holders = all_holders(context, &job)?;
    let several = holders.len() > 1;
    let mut table =
        Columns::new(&[Align::Right, Align::Left, Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["#", "kept since", if several { "at" } else { "" }, "files", "bytes", "run"]);
    let mut total = 0;
    let mut others = 0;
    let mut empty = true;
    for Holder { side, place, store, .. } in holders {
        let (ours, theirs): (Vec<InOrder>, Vec<InOrder>) = in_order(context, store.as_ref())?
            .into_iter()
            .partition(|kept| kept.job.as_deref().map_or(!kept.run.owned, |owner| owner == job.name));
        others += theirs.len();
        for InOrder { run, .. } in ours {
            let amount = amount(store.as_ref(), &run.run).map_err(|error| unreadable(&error))?;
            // What was brought back leaves its folders behind until they are pruned.
            if amount.files == 0 {
                continue;
            }
            empty = false;
            total += amount.bytes;
            let number = record.find_run(name, &run.run.to_string())?.map(|row| row.number);
            if context.global.json {
                lines::print(&json!({"event": "kept", "run": run.run.to_string(), "side": side.as_str(),
                    "place": place.location(), "number": number, "files": amount.files, "bytes": amount.bytes}));
            }
            table.row(vec![
                number.map_or("–".to_owned(), |number| number.to_string()),
                run.began.map_or("?".to_owned(), |began| moment(began.seconds() * 1000)),
                if several { place.short(&context.home) } else { String::new() },
                grouped(amount.files),
                bytes(amount.bytes),
                run.run.to_string(),
            ]);
        }
    }
    if context.global.json {
        return Ok(0);
    }
    if empty {
        context.say(format!("{name} has no kept copies."));
    } else {
        context.say(table.render(0).trim_end());
        let rules = &job.rules;
        context.say(format!(
            "\n{} in all; copies stay for {} and take {} at most.",
            bytes(total),
            rules.keep_for,
            rules.keep_max
        ));
    }
    if others > 0 {
        let runs = count(others as u64, "run", "runs");
        context.say(format!("There too: kept copies of {runs} of other jobs or machines."));
    }
    Ok(0)
}

/// The kept copies of a run: its row gives the name, unless it was made by somebody else's Reedhook.
fn kept_name(context: &Context, job: &str, which: &str) -> Outcome<Name> {
    let row = context.home.record()?.find_run(job, which)?;
    let text = row.map_or_else(|| which.to_owned(), |row| row.run);
    Name::new(text.as_bytes()).map_err(|_| Failure::usage(format!("{job} has no run \"{which}\"")))
}

fn list_files(context: &Context, name: &str, which: &str) -> Outcome {
    let job = known_job(&context.home, name, Some(which))?;
    let run = kept_name(context, name, which)?;
    let holders = all_holders(context, &job)?;
    let several = holders.len() > 1;
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Right]);
    let mut empty = true;
    for Holder { side, place, store, .. } in holders {
        let files = match kept_files(store.as_ref(), &run) {
            Ok(files) => files,
            Err(error) if error.kind == FaultKind::NotFound => Vec::new(),
            Err(error) => return Err(unreadable(&error)),
        };
        for file in &files {
            empty = false;
            if context.global.json {
                let mut object = lines::object(json!({"event": "kept-file", "run": run.to_string(),
                    "side": side.as_str(), "place": place.location(), "size": file.size}));
                object.extend(lines::path_object(&file.path));
                lines::print(&object.into());
            }
            let at = if several { place.short(&context.home) } else { String::new() };
            table.row(vec![at, file.path.to_string(), bytes(file.size)]);
        }
    }
    if empty && context.home.record()?.find_run(name, which)?.is_none() {
        return Err(Failure::usage(format!("{name} has no run \"{which}\""))
            .hint(format!("`reedhook kept list {name}` lists those with kept copies.")));
    }
    if !context.global.json {
        let text = if empty { format!("Run {which} of {name} kept nothing.") } else { table.render(0) };
        context.say(text.trim_end());
    }
    Ok(0)
}

/// What a person wants back, and where.
struct Wanted<'a> {
    paths: &'a [std::path::PathBuf],
    into: Option<&'a Path>,
    run: Option<&'a str>,
}

/// Where things are brought back to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum To {
    /// The left: `restore`.
    Source,
    /// The right: `kept restore`.
    Destination,
}

fn bring(context: &Context, name: &str, wanted: &Wanted<'_>, to: To) -> Outcome {
    let job = known_job(&context.home, name, wanted.run)?;
    let ends = Ends::of(&job, &context.home, &context.settings)?;
    let holders = all_holders(context, &job)?;
    for holder in &holders {
        if let Some(part) = holder.part {
            recognise::refuse_foreign(context, &job, &holder.place, holder.store.as_ref(), part)?;
        }
    }
    let into = wanted.into.map(folder_target).transpose()?;
    let named = wanted.run.map(|which| kept_name(context, name, which)).transpose()?;
    let layers = layers(context, &holders, named.as_ref(), to)?;
    let paths: Vec<RelPath> =
        wanted.paths.iter().map(|typed| relative(typed, &ends, &holders)).collect::<Outcome<_>>()?;
    let tree = Layered::new(layers.iter().map(|found| found.layer.clone()).collect());
    let tree = tree.ok_or_else(|| not_kept(&paths, to, named.is_some()))?;
    let missing = |path: &&RelPath| !matches!(tree.stat(path), Ok(Some(_)));
    if let Some(path) = paths.iter().find(missing) {
        return Err(not_kept(std::slice::from_ref(path), to, named.is_some()));
    }
    if let (To::Destination, None) = (to, &into) {
        return bring_back_where_it_was(context, &job, &holders, (&tree, &layers), paths);
    }
    let target = match into {
        Some(folder) => folder,
        None => {
            let left = only_source(&ends, name)?;
            recognise::refuse_other_ground(context, &job, &left, Part::of(job.rules.kind, true))?;
            left
        }
    };
    bring_back(context, &job, &Source::of(layers, tree), (&target, Side::Left), paths)
}

/// Puts kept copies back at the side that they came from; of a path that both sides have kept, the newest.
fn bring_back_where_it_was(
    context: &Context,
    job: &Job,
    holders: &[Holder],
    (tree, layers): (&Layered, &[Found]),
    paths: Vec<RelPath>,
) -> Outcome {
    let mut by_holder: BTreeMap<usize, Vec<RelPath>> = BTreeMap::new();
    for path in paths {
        let holder = tree.layer_of(&path).map_or(0, |layer| layers[layer].holder);
        by_holder.entry(holder).or_default().push(path);
    }
    let mut code = 0;
    for (at, paths) in by_holder {
        let own: Vec<Found> = layers.iter().filter(|found| found.holder == at).cloned().collect();
        let tree = Layered::new(own.iter().map(|found| found.layer.clone()).collect());
        let tree = tree.ok_or_else(|| not_kept(&paths, To::Destination, true))?;
        let target = (&holders[at].place, holders[at].side);
        code = bring_back(context, job, &Source::of(own, tree), target, paths)?.max(code);
    }
    Ok(code)
}

/// A tree that a restore can read from.
#[derive(Clone)]
struct Found {
    layer: Layer,
    /// What it is called.
    name: String,
    /// Which of the holders has it.
    holder: usize,
}

/// What a restore reads from, and what each of its layers is called.
struct Source {
    tree: Arc<Layered>,
    names: Vec<String>,
}

impl Source {
    fn of(layers: Vec<Found>, tree: Layered) -> Source {
        Source { tree: Arc::new(tree), names: layers.into_iter().map(|found| found.name).collect() }
    }
}

/// What lies over what: the other side on top, then what runs have kept, the newest first; or only what one run has kept.
fn layers(context: &Context, holders: &[Holder], named: Option<&Name>, to: To) -> Outcome<Vec<Found>> {
    let mut layers = Vec::new();
    let right = holders.first().filter(|_| named.is_none() && to == To::Source);
    layers.extend(right.map(|right| Found {
        name: right.place.short(&context.home),
        layer: Layer { store: right.store.clone(), root: RelPath::root() },
        holder: 0,
    }));
    let mut kept: Vec<(i64, Name, usize)> = Vec::new();
    for (at, holder) in holders.iter().enumerate() {
        // What was set aside where a person restored to is only meant when they name that run.
        if holder.part.is_none() && named.is_none() {
            continue;
        }
        let runs = in_order(context, holder.store.as_ref())?;
        let wanted = runs.into_iter().filter(|kept| named.is_none_or(|named| *named == kept.run.run));
        kept.extend(wanted.map(|kept| (kept.order, kept.run.run, at)));
    }
    // Stable: of one run the right comes before the left.
    kept.sort_by_key(|(order, ..)| std::cmp::Reverse(*order));
    layers.extend(kept.into_iter().map(|(_, run, holder)| {
        let layer = Layer { store: holders[holder].store.clone(), root: kept_folder(&run) };
        Found { layer, name: format!("kept copies of {run}"), holder }
    }));
    Ok(layers)
}

fn not_kept(paths: &[RelPath], to: To, named: bool) -> Failure {
    let path = paths.first().map(RelPath::to_string).unwrap_or_default();
    let words = if to == To::Source && !named {
        "is neither at the right nor in the kept copies"
    } else {
        "is not in the kept copies"
    };
    Failure { code: "not-kept", ..Failure::usage(format!("{path} {words}")) }
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
        ends.from.iter().map(|from| &from.path).chain(holders.iter().map(|holder| &holder.place.path));
    let below = roots.filter_map(|root| typed.strip_prefix(root).ok()).next().unwrap_or(typed);
    super::why::typed_path(below)
}

fn bring_back(
    context: &Context,
    job: &Job,
    source: &Source,
    target: (&Located, Side),
    paths: Vec<RelPath>,
) -> Outcome {
    let run = Run::begin(context, job)?.special("restore");
    match look_at_restore(context, job, source, target, paths) {
        Ok(round) => {
            if job.rules.kind == Kind::TwoWay && job.name != ONCE {
                // First of all: what was gone and comes back must not be taken for what was there all the time.
                context.home.record()?.forget_names(&job.name, &brought(&round))?;
            }
            tell_origins(context, source, &round);
            let result = run.carry_out(&round);
            told(context, job, Some(&round), result)
        }
        Err(failure) => told(context, job, None, run.refuse(failure)),
    }
}

/// The paths that a restore puts where nothing is.
fn brought(round: &Round) -> Vec<RelPath> {
    let folders = round.legs.iter().flat_map(|leg| &leg.plan.folders);
    let mut paths = Vec::new();
    for folder in folders {
        if folder.fate == Fate::Make {
            paths.push(folder.path.clone());
        }
        let added = folder.actions.iter().filter(|action| matches!(action.step, Step::Add { .. }));
        paths.extend(added.map(|action| folder.path.join(&action.name)));
    }
    paths
}

/// Says where what comes back comes from, when that is not one place.
fn tell_origins(context: &Context, source: &Source, round: &Round) {
    let mut found: BTreeMap<usize, u64> = BTreeMap::new();
    for folder in round.legs.iter().flat_map(|leg| &leg.plan.folders) {
        for action in &folder.actions {
            if matches!(action.step, Step::Add { .. } | Step::Update { .. }) {
                let layer = source.tree.layer_of(&folder.path.join(&action.name));
                *found.entry(layer.unwrap_or_default()).or_default() += 1;
            }
        }
    }
    if found.len() > 1 || found.keys().any(|layer| *layer > 0) {
        for (layer, number) in found {
            let name = source.names.get(layer).map_or("", String::as_str);
            context.say(format!("  {} from {name}", count(number, "file", "files")));
        }
    }
}

/// Scans what a restore would do; what is newer at the target is asked about.
fn look_at_restore(
    context: &Context,
    job: &Job,
    source: &Source,
    (target, side): (&Located, Side),
    paths: Vec<RelPath>,
) -> Outcome<Round> {
    let filter = Filter::for_paths(paths).map_err(|error| Failure::usage(error.to_string()))?;
    let store: Arc<dyn Store> = match open_destination(target, &context.home, Manner::of(job))? {
        Some(store) => store,
        None => crate::places::make_destination(target, &context.home, Manner::of(job))?,
    };
    let mut copy = job.clone();
    (copy.rules.kind, copy.rules.newer) = (Kind::Copy, Newer::Leave);
    let right = job.to.first().cloned().unwrap_or_default();
    let rotten = context.home.record()?.rotten(&job.name, &right)?;
    // What is named is brought back, unless it is the right that went bad.
    let rot = Rot { known: &rotten, mend: &[Some(Side::Left), None] };
    let tree: Arc<dyn Store> = source.tree.clone();
    let look = |copy: &Job| {
        let how = How { filter: &filter, moves: Moves::Proved, rot, names: &[] };
        scan_leg(context, copy, &tree, (target, store.clone(), false), &how, &[])
    };
    let mut leg = look(&copy)?;
    let newer = leg.plan.folders.iter().flat_map(|folder| &folder.actions);
    let newer = newer.filter(|action| matches!(action.step, Step::Leave { .. })).count() as u64;
    if newer > 0 && overwrite_newer(context, target, newer)? {
        copy.rules.newer = Newer::Update;
        leg = look(&copy)?;
    }
    leg.ours = false;
    leg.plan.set_changes(side);
    if let Some(refusal) = &leg.refusal {
        return Err(crate::round::guard_failure(job, &leg, refusal, &context.home));
    }
    let ends = Ends { from: Vec::new(), to: vec![target.clone()] };
    Ok(Round::new(&copy, (ends, Seen::default()), vec![leg], &[]).with_rotten(rotten_within(rotten, &filter)))
}

/// What is known to be rotten of what is brought back.
fn rotten_within(rotten: Vec<Rotten>, filter: &Filter) -> Vec<Rotten> {
    let named = |one: &Rotten| filter.names(&one.path) && one.side != Some(Side::Right);
    rotten.into_iter().filter(named).collect()
}

fn overwrite_newer(context: &Context, target: &Located, newer: u64) -> Outcome<bool> {
    let what = count(newer, "file is", "files are");
    let question = format!("{what} newer at {}. Overwrite? (a copy is kept)", target.shown(&context.home));
    if context.global.yes {
        return Ok(true);
    }
    if context.can_ask() {
        return ask::yes(&question, false);
    }
    context
        .warn(format!("{what} newer at {} and left as it is; --yes overwrites", target.shown(&context.home)));
    Ok(false)
}

/// Puts what a run changed back as it was before it.
pub fn undo(context: &Context, name: &str, which: &str) -> Outcome {
    let row = find(context, name, which)?;
    let job = known_job(&context.home, name, Some(which))?;
    // Before anything is read: the log of a run in progress tells half of it.
    let lock = JobLock::take(&context.home, name)?;
    let places = context.home.record()?.run_places(row.id)?;
    let sides =
        places.iter().map(|place| changed_store(context, &job, place)).collect::<Outcome<Vec<_>>>()?;
    let pasts = places.iter().map(|place| read_past(context, &row, place)).collect::<Outcome<Vec<_>>>()?;
    let kept_something = |(side, past): (&Holder, &Past)| {
        past.run
            .as_ref()
            .is_some_and(|run| kept_files(side.store.as_ref(), run).is_ok_and(|kept| !kept.is_empty()))
    };
    let did_something = |past: &Past| !past.items.is_empty() || !past.folders.is_empty();
    if !pasts.iter().any(did_something) && !sides.iter().zip(&pasts).any(kept_something) {
        if places.is_empty() && row.counts.changes() > 0 {
            return Err(Failure::refused(
                "store-unknown",
                format!("which stores run {} of {name} changed was not remembered", row.number),
            )
            .hint("Bring things back by hand: reedhook kept list, kept restore."));
        }
        context.say(format!("Run {} of {name} changed nothing.", row.number));
        return Ok(0);
    }
    refuse_incomplete_log(context, &row)?;
    let question = format!("Undo run {} of {name}: {}?", row.number, super::status::result_words(&row));
    if context.can_ask() && !context.global.yes && !ask::yes(&question, false)? {
        return Ok(0);
    }
    let mut run = Run::begin_locked(context, &job, lock)?.special("undo");
    let done = match undo_everywhere(context, &job, (&sides, &places), &pasts, &mut run) {
        Ok(done) => done,
        Err(failure) => return told(context, &job, None, run.refuse(failure)),
    };
    let (counts, folders) = undone_counts(&done);
    let several = sides.len() > 1 && job.rules.kind != Kind::TwoWay;
    for (at, one) in done.into_iter().enumerate() {
        let side = sides[at].side;
        let events = one.items.into_iter().map(Event::Item);
        let folder_events = one.folders.into_iter().map(|(path, was)| Event::Folder { side, path, was });
        let problems = one.problems.into_iter().map(Event::Problem);
        run.note(events.chain(folder_events).chain(problems), several.then(|| places[at].place.as_str()))?;
    }
    let outcome = if counts.problems > 0 { RunOutcome::Problems } else { RunOutcome::Done };
    let result = run.end(outcome, None, counts, folders);
    if !context.global.json {
        let text = render::undo_summary(&row, &result);
        context.say(text.trim_end());
        return Ok(u8::from(counts.problems > 0));
    }
    told(context, &job, None, result)
}

/// A log that lacks something cannot say what the run did, and one that has been cleared away says nothing.
fn refuse_incomplete_log(context: &Context, row: &RunRow) -> Outcome<()> {
    let cleared = row.counts.changes() > 0 && !context.home.run_log(&row.job, &row.run).exists();
    let why = match row.log_whole {
        true if !cleared => return Ok(()),
        true => "is no longer kept",
        false => "could not be written whole",
    };
    Err(incomplete_log(row, why))
}

fn incomplete_log(row: &RunRow, why: &str) -> Failure {
    Failure::refused("log-incomplete", format!("the log of run {} of {} {why}", row.number, row.job))
        .hint("Bring things back by hand: reedhook kept list, kept restore.")
}

/// Opens a store that a run changed; anything else that is there now is refused.
fn changed_store(context: &Context, job: &Job, past: &RunPlace) -> Outcome<Holder> {
    let place = locate(&context.home, &context.settings, &past.place)?;
    let missing =
        || Failure::refused("store-missing", format!("{} is not there", place.shown(&context.home)));
    let store = open_destination(&place, &context.home, Manner::of(job))?.ok_or_else(missing)?;
    recognise::refuse_another_store(context, past, &place, store.as_ref())?;
    Ok(Holder { side: past.side, place, store, part: None })
}

fn read_past(context: &Context, row: &RunRow, place: &RunPlace) -> Outcome<Past> {
    let mut past = Past::at(place.side, Name::new(row.run.as_bytes()).ok());
    let garbled = read_log(context, row, |_, value| {
        let elsewhere = value.get("to").and_then(Value::as_str).is_some_and(|to| to != place.place);
        if !elsewhere {
            lines::add_past(&mut past, place.side, value);
        }
    })?;
    if garbled > 0 {
        return Err(incomplete_log(row, "cannot be read whole"));
    }
    past.items.retain(|item| item.done != Done::Left);
    Ok(past)
}

fn undo_everywhere(
    context: &Context,
    job: &Job,
    (sides, places): (&[Holder], &[RunPlace]),
    pasts: &[Past],
    run: &mut Run<'_>,
) -> Outcome<Vec<Undone>> {
    let own = Name::new(run.name().as_bytes()).map_err(|error| Failure::own_files("run name", error))?;
    let mut locks = Vec::new();
    for (Holder { place, store, .. }, past) in sides.iter().zip(places) {
        // Where a person restored to stays their own: no lock is left there.
        if !past.mark.is_empty() {
            locks.push(lock_destination(store.as_ref(), place, &context.home)?);
        }
        run.add_place(past.clone())?;
    }
    if job.rules.kind == Kind::TwoWay && job.name != ONCE {
        // First of all: were the undoing remembered as a removal, the next run would carry it to the other side.
        context.home.record()?.forget_names(&job.name, &worked_on(pasts))?;
    }
    let owner = crate::carry::owner(&job.name);
    let undo_one = |(Holder { store, .. }, past): (&Holder, &Past)| {
        undo_run(store.as_ref(), past, (&own, &owner)).map_err(|error| Failure {
            exit: STOPPED,
            code: error.kind.code(),
            message: format!("the undo stopped on the way: {error}"),
            hint: "What was done is whole; undo the same run again.".to_owned(),
        })
    };
    sides.iter().zip(pasts).map(undo_one).collect()
}

/// Every path that a run worked on, where it was before and where it was put.
fn worked_on(pasts: &[Past]) -> Vec<RelPath> {
    let items = pasts.iter().flat_map(|past| &past.items);
    items.flat_map(|item| [Some(item.path.clone()), item.moved_from.clone()]).flatten().collect()
}

fn undone_counts(done: &[Undone]) -> (Counts, (u64, u64)) {
    let mut counts = Counts::default();
    let (mut made, mut removed) = (0, 0);
    counts.problems = done.iter().map(|one| one.problems.len() as u64).sum();
    counts.same = done.iter().map(|one| one.as_before).sum();
    for item in done.iter().flat_map(|one| &one.items) {
        match item.done {
            Done::Added | Done::Revived => counts.added += 1,
            Done::Updated => counts.updated += 1,
            Done::Removed => counts.removed += 1,
            Done::Moved => counts.moved += item.items.unwrap_or(1),
            Done::Metadata => counts.meta += 1,
            Done::FolderMade => made += 1,
            Done::FolderRemoved => removed += 1,
            Done::Left => {}
        }
    }
    (counts, (made, removed))
}
