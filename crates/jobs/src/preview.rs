//! What was found of a job, to be shown: its places as they are, and what a run would do.

use std::collections::HashSet;
use std::sync::Arc;

use reedhook_core::entry::{Meta, Side, Stamp};
use reedhook_core::memory::Corrupted;
use reedhook_core::path::RelPath;
use reedhook_core::plan::guard::{self, Facts, Lift, Refusal, Sides};
use reedhook_core::plan::{Counts, Fate, Plan, Step};
use reedhook_core::store::Store;
use reedhook_record::Record;

use crate::both::Both;
use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::home::Home;
use crate::jobfile::job::{Job, ONCE};
use crate::places::{Ends, Located};
use crate::recognise::{self, GroundsSeen};
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
    pub(crate) fn refusal(&self, job: &Job, lifted: &[Lift]) -> Option<Refusal> {
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

pub(crate) fn hashed(what: &impl std::hash::Hash) -> u64 {
    use std::hash::BuildHasher;
    std::hash::BuildHasherDefault::<std::hash::DefaultHasher>::default().hash_one(what)
}

/// A guard's refusal as a failure with the way on.
pub(crate) fn guard_failure(
    job: &Job,
    destination: &DestinationPlan,
    refusal: &Refusal,
    home: &Home,
) -> Failure {
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

/// The paths that a restore puts where nothing is.
pub(crate) fn brought(preview: &Preview) -> Vec<RelPath> {
    let folders = preview.destinations.iter().flat_map(|destination| &destination.plan.folders);
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
