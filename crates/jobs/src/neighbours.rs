//! What a job has to do with the other jobs of a home: whether one works inside what another makes alike, and whether two-way jobs go
//! round in a circle.

use std::collections::BTreeSet;
use std::path::Path;

use reedhook_core::identity;
use reedhook_core::job::Kind;
use reedhook_core::plan::guard::{Nesting, nesting};
use reedhook_core::store::{Place, Store, StoreError};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::jobfile::files::{job_names, load_job};
use crate::jobfile::job::Job;
use crate::open;
use crate::places::{Ends, Located};

/// How long a version is remembered that has ended: it has come round by then, or does not come any more.
pub const ROUND_MS: i64 = 30 * 24 * 3600 * 1000;

/// A job and where its sides are.
struct Neighbour {
    name: String,
    kind: Kind,
    ends: Ends,
}

impl Neighbour {
    /// The places that it writes to.
    fn written(&self) -> impl Iterator<Item = &Located> {
        let left = self.ends.from.iter().filter(|_| self.kind == Kind::TwoWay);
        left.chain(&self.ends.to)
    }
}

/// What is worth a second thought about a job beside the others of its home, a sentence each.
pub fn warnings(desk: &Desk, job: &Job, ends: &Ends) -> Vec<String> {
    let (others, unread) = neighbours(desk, &job.name);
    let mine = Neighbour { name: job.name.clone(), kind: job.rules.kind, ends: ends.clone() };
    let mut found: Vec<String> = others.iter().flat_map(|other| inside(desk, &mine, other)).collect();
    let preview = circle(&mine, &others);
    let preview = preview.or_else(|| circle_by_marks(desk, job, ends).filter(|_| mine.kind == Kind::TwoWay));
    found.extend(preview);
    found.extend(unread);
    found
}

/// The other jobs of the home, and a sentence for each that could not be looked at.
fn neighbours(desk: &Desk, but: &str) -> (Vec<Neighbour>, Vec<String>) {
    let names = match job_names(&desk.home) {
        Ok(names) => names,
        Err(failure) => return (Vec::new(), vec![failure.text()]),
    };
    let one = |name: String| {
        let job = load_job(&desk.home, &name)?;
        let ends = Ends::of(&job, &desk.home, &desk.settings)?;
        Ok(Neighbour { name, kind: job.rules.kind, ends })
    };
    let (good, bad): (Vec<_>, Vec<_>) =
        names.into_iter().filter(|name| name != but).map(one).partition(Result::is_ok);
    let words = |failure: Failure| format!("another job could not be looked at: {}", failure.message);
    (good.into_iter().flatten().collect(), bad.into_iter().filter_map(Result::err).map(words).collect())
}

/// How the sides of two jobs lie within each other where one of them removes what its source lacks.
fn inside(desk: &Desk, mine: &Neighbour, other: &Neighbour) -> Vec<String> {
    let mut found = Vec::new();
    let shown = |place: &Located| place.shown(&desk.home);
    for (mirror, there) in [(other, mine), (mine, other)] {
        if mirror.kind != Kind::Mirror {
            continue;
        }
        for to in &mirror.ends.to {
            let own = there.written().filter(|place| lies(to, place) == Nesting::SecondInFirst);
            let people = there.ends.from.iter().filter(|_| there.kind != Kind::TwoWay);
            let people = people.filter(|place| is_unknown_within(&mirror.ends.from, to, place));
            for place in own.chain(people) {
                found.push(format!(
                    "{} of the job {} lies inside {}, where the job {} removes what its source lacks",
                    shown(place),
                    there.name,
                    shown(to),
                    mirror.name
                ));
            }
        }
    }
    found
}

fn lies(first: &Located, second: &Located) -> Nesting {
    let ways = first.places().into_iter().zip(second.places());
    let found = ways.map(|(first, second)| nesting(&first, &second)).find(|how| *how != Nesting::Apart);
    found.unwrap_or(Nesting::Apart)
}

/// Whether a tree lies inside a mirror's destination and has no counterpart at its source: then it is somebody's own, and no copy that is
/// handed on.
fn is_unknown_within(from: &[Located], to: &Located, place: &Located) -> bool {
    let below = |place: &Located| place.resolved();
    let (Some(outer), Some(inner)) = (below(to), below(place)) else { return false };
    let Ok(way) = inner.strip_prefix(&outer) else { return false };
    let counterpart = |source: &Located| source.resolved().is_some_and(|source| source.join(way).exists());
    let several = from.len() > 1;
    way != Path::new("") && !several && !from.iter().any(counterpart)
}

/// The two-way jobs that form a circle with this one: a version can go round in it for ever.
fn circle(mine: &Neighbour, others: &[Neighbour]) -> Option<String> {
    let ends = |job: &Neighbour| Some((job.ends.from.first()?.places(), job.ends.to.first()?.places()));
    let (start, goal) = ends(mine).filter(|_| mine.kind == Kind::TwoWay)?;
    let two_way: Vec<_> = others.iter().filter(|job| job.kind == Kind::TwoWay).collect();
    // From place to place, each job used once, until the goal is reached.
    let mut used = BTreeSet::new();
    let mut ways: Vec<(Vec<Place>, Vec<&str>)> = vec![(start, Vec::new())];
    while let Some((at, names)) = ways.pop() {
        if !names.is_empty() && is_same(&at, &goal) {
            let names = names.join(", ");
            return Some(format!(
                "the two-way jobs {names} and {} form a circle: what changes at one place comes round to it again; one of them is too many",
                mine.name
            ));
        }
        for job in &two_way {
            let Some((left, right)) = ends(job).filter(|_| !used.contains(job.name.as_str())) else {
                continue;
            };
            let next = match (is_same(&at, &left), is_same(&at, &right)) {
                (true, _) => right,
                (_, true) => left,
                _ => continue,
            };
            used.insert(job.name.as_str());
            ways.push((next, names.iter().copied().chain([job.name.as_str()]).collect()));
        }
    }
    None
}

/// Whether what changes at one side of a two-way job comes round to the other by way of other jobs: of this home, by the places that are
/// written in them, or of others, as far as both stores say so. Places of other jobs are not looked at: they may be away, or not answer.
///
/// # Errors
/// When what a store says cannot be read.
pub fn is_in_circle(desk: &Desk, job: &Job, (left, right): (&dyn Store, &dyn Store)) -> Outcome<bool> {
    let (Some(from), Some(to)) = (job.from.first(), job.to.first()) else { return Ok(false) };
    let others = job_names(&desk.home)?.into_iter().filter(|name| *name != job.name);
    let others = others.filter_map(|name| load_job(&desk.home, &name).ok());
    let pairs: Vec<(String, String)> = others
        .filter(|other| other.rules.kind == Kind::TwoWay)
        .filter_map(|other| Some((other.from.first()?.clone(), other.to.first()?.clone())))
        // Another job between the same two, perhaps about other names, makes no circle.
        .filter(|(one, other)| ![(from, to), (to, from)].contains(&(one, other)))
        .collect();
    if reaches(from, to, &pairs) {
        return Ok(true);
    }
    let ours = identity::partners_of(left).map_err(unread)?;
    // One of them is the other side.
    if ours.len() < 2 {
        return Ok(false);
    }
    let theirs = identity::partners_of(right).map_err(unread)?;
    Ok(ours.intersection(&theirs).next().is_some())
}

fn unread(error: StoreError) -> Failure {
    Failure::refused(error.kind, format!("what jobs have written down at a side cannot be read: {error}"))
}

/// Whether there is a way from one store to another, from pair to pair.
fn reaches(from: &str, to: &str, pairs: &[(String, String)]) -> bool {
    let mut reached = BTreeSet::from([from]);
    loop {
        let further: Vec<&str> = pairs
            .iter()
            .filter_map(|(left, right)| {
                match (reached.contains(left.as_str()), reached.contains(right.as_str())) {
                    (true, false) => Some(right.as_str()),
                    (false, true) => Some(left.as_str()),
                    _ => None,
                }
            })
            .collect();
        if further.is_empty() {
            return reached.contains(to);
        }
        reached.extend(further);
    }
}

/// That other machines form a circle with this job, as both stores say; nothing is said where they cannot be opened.
fn circle_by_marks(desk: &Desk, job: &Job, ends: &Ends) -> Option<String> {
    let open = |place: &Located| open::open_destination(desk, place, OpenOptions::of(job)).ok().flatten();
    let is_near = |place: &&Located| place.resolved().is_some();
    let stores = [ends.from.first().filter(is_near)?, ends.to.first().filter(is_near)?].map(open);
    let [Some(left), Some(right)] = stores else { return None };
    let partners = |store: &dyn Store| identity::partners_of(store).unwrap_or_default();
    let (ours, theirs) = (partners(left.as_ref()), partners(right.as_ref()));
    ours.intersection(&theirs).next().map(|_| {
        "both sides are kept alike with a third place by other two-way jobs, perhaps of other machines: with this one they form a circle, and what changes at one place comes round to it again"
            .to_owned()
    })
}

fn is_same(one: &[Place], other: &[Place]) -> bool {
    one.iter().zip(other).any(|(one, other)| nesting(one, other) == Nesting::Same)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_circle_is_another_way_from_one_store_to_the_other() {
        let pairs = |text: &str| -> Vec<(String, String)> {
            let pair = |word: &str| (word[..1].to_owned(), word[1..].to_owned());
            text.split_whitespace().map(pair).collect()
        };
        for (others, expected) in [
            ("", false),
            ("bc", false),
            ("bc ca", true),
            ("cb ac", true),
            ("bc de", false),
            ("bc cd ad", true),
        ] {
            assert_eq!(reaches("a", "b", &pairs(others)), expected, "{others}");
        }
    }
}
