//! Scanning two trees for a job, whatever the look is for.

use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::RecvTimeoutError;
use reedhook_core::compare::Comparison;
use reedhook_core::entry::Side;
use reedhook_core::filter::{Filter, Verdict};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::guard::{self, Facts, Nesting};
use reedhook_core::plan::one_way::OneWayRules;
use reedhook_core::plan::{Plan, Step};
use reedhook_core::store::{Capabilities, Store};
use reedhook_core::survey::holds_anything;
use reedhook_core::walk::{
    Corruption, Fresh, Moves, ScanError, ScanInput, ScanProgress, Scope, WalkObserver, scan,
};
use reedhook_stores::union::Union;

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::home::Home;
use crate::inventory::upkeep::Shelves;
use crate::jobfile::job::Job;
use crate::observer::Event;
use crate::open;
use crate::places::{Ends, Located};
use crate::preview::DestinationPlan;

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

pub(crate) fn one_way_word(side: Side) -> &'static str {
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
pub(crate) fn data_bytes(plan: &Plan, left: &dyn Store) -> u64 {
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
///
/// # Errors
/// When one of them cannot be opened, or two would land in one folder.
pub fn open_sources(desk: &Desk, ends: &Ends, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let names = ends.landing_names()?;
    let stores = ends
        .from
        .iter()
        .map(|located| open::open_source(desk, located, options, "source"))
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
