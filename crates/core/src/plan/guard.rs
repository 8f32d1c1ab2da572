//! Guards: what stops a run before its first change. Pure: a plan and some facts in, a refusal or nothing out.

use std::fmt;

use crate::job::{JobRules, Kind};
use crate::path::{Name, RelPath};
use crate::plan::{Counts, Plan, Step};
use crate::store::capabilities::{Place, Space};
use crate::units::Share;

/// Removals or changes up to this number are no mass change, unless they are nearly everything.
pub const SMALL_CHANGE: u64 = 20;

/// Removals up to this number are never one.
pub const FEW: u64 = 5;

/// What a guard has to know besides the plan.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Facts {
    /// Space at the destination; `None` when it cannot be told.
    pub space: Option<Space>,
    /// Bytes that will be written out there, holes left aside.
    pub needed: u64,
    /// Of several sources, those that hold nothing that takes part.
    pub empty_sources: Vec<Name>,
}

/// A guard that a person may lift once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lift {
    /// More removals than the limit.
    Removals,
    /// More changes than the limit.
    Changes,
    /// An empty source.
    Empty,
    /// Too little space.
    Space,
}

impl Lift {
    /// The word after `--allow`.
    pub fn as_str(self) -> &'static str {
        match self {
            Lift::Removals => "removals",
            Lift::Changes => "changes",
            Lift::Empty => "empty",
            Lift::Space => "space",
        }
    }
}

/// Why a run does not start.
#[derive(Debug, Clone, PartialEq)]
pub enum Refusal {
    /// The source holds nothing, but the destination does.
    EmptySource {
        /// Which, of several.
        source: Option<Name>,
        /// Files and links at the destination that came from there.
        right_items: u64,
    },
    /// Too many removals.
    Removals {
        /// How many.
        removed: u64,
        /// Out of how many.
        of: u64,
        /// What the job allows: a share of what is there.
        limit: Share,
        /// The folders that lose most, with their numbers.
        most: Vec<(RelPath, u64)>,
    },
    /// Too many changes.
    Changes {
        /// How many.
        changed: u64,
        /// Out of how many.
        of: u64,
        /// What the job allows: a share of what is there.
        limit: Share,
        /// The folders that change most, with their numbers.
        most: Vec<(RelPath, u64)>,
    },
    /// Not enough space.
    Space {
        /// What the run needs, in bytes.
        needed: u64,
        /// What is free, in bytes.
        free: u64,
    },
}

impl Refusal {
    /// The stable code.
    pub fn code(&self) -> &'static str {
        match self {
            Refusal::EmptySource { .. } => "empty-source",
            Refusal::Removals { .. } => "too-many-removals",
            Refusal::Changes { .. } => "too-many-changes",
            Refusal::Space { .. } => "too-little-space",
        }
    }

    /// The guard that a person would have to lift.
    pub fn lift(&self) -> Lift {
        match self {
            Refusal::EmptySource { .. } => Lift::Empty,
            Refusal::Removals { .. } => Lift::Removals,
            Refusal::Changes { .. } => Lift::Changes,
            Refusal::Space { .. } => Lift::Space,
        }
    }

    /// The folders with most of what is too much, and how many.
    pub fn most(&self) -> &[(RelPath, u64)] {
        match self {
            Refusal::Removals { most, .. } | Refusal::Changes { most, .. } => most,
            _ => &[],
        }
    }
}

/// What the two sides of a plan are called where it is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sides<'a> {
    /// The one that is read.
    pub read: &'a str,
    /// The one that is changed.
    pub changed: &'a str,
}

impl Default for Sides<'_> {
    fn default() -> Self {
        Sides { read: "source", changed: "destination" }
    }
}

impl Refusal {
    /// The refusal as a sentence without a final stop, with the sides called so.
    pub fn words(&self, Sides { read, changed: there }: Sides<'_>) -> String {
        match self {
            Refusal::EmptySource { source: None, right_items } => {
                format!("the {read} holds nothing that takes part, but the {there} holds {right_items}")
            }
            Refusal::EmptySource { source: Some(name), right_items } => {
                format!(
                    "the {read} {name} holds nothing that takes part, but the {there} holds {right_items} from there"
                )
            }
            Refusal::Removals { removed, of, limit, .. } => {
                format!("it would remove {removed} of the {of} at the {there}; the limit is {limit}")
            }
            Refusal::Changes { changed, of, limit, .. } => {
                format!("it would change {changed} of the {of} at the {there}; the limit is {limit}")
            }
            Refusal::Space { needed, free } => {
                format!("it needs {needed} bytes at the {there}, where {free} are free")
            }
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.words(Sides::default()))
    }
}

/// Checks a plan against the guards, in the order in which they matter; the lifted ones are passed over.
pub fn check(plan: &Plan, rules: &JobRules, facts: &Facts, lifted: &[Lift]) -> Option<Refusal> {
    let counts = plan.counts();
    [
        empty_source(plan, &counts, rules, facts),
        too_many_removals(plan, &counts, rules),
        too_many_changes(plan, &counts, rules),
        too_little_space(facts),
    ]
    .into_iter()
    .flatten()
    .find(|refusal| !lifted.contains(&refusal.lift()))
}

fn empty_source(plan: &Plan, counts: &Counts, rules: &JobRules, facts: &Facts) -> Option<Refusal> {
    if rules.kind == Kind::Copy || counts.removed == 0 {
        return None;
    }
    if plan.left_items == 0 {
        return Some(Refusal::EmptySource { source: None, right_items: plan.right_items });
    }
    facts.empty_sources.iter().find_map(|name| {
        let lost = removed_within(plan, &RelPath::from(name));
        (lost > 0).then(|| Refusal::EmptySource { source: Some(name.clone()), right_items: lost })
    })
}

/// How many files and links a plan removes in a folder.
pub fn removed_within(plan: &Plan, folder: &RelPath) -> u64 {
    let within = plan.folders.iter().filter(|planned| planned.path.is_within(folder));
    within.flat_map(|planned| &planned.actions).map(|action| removes(&action.step)).sum()
}

fn removes(step: &Step) -> u64 {
    u64::from(matches!(step, Step::Remove { .. }))
}

fn changes(step: &Step) -> u64 {
    match step {
        Step::Remove { .. } | Step::Update { .. } | Step::Move { .. } | Step::Respell { .. } => 1,
        Step::MoveFolder { items, .. } => *items,
        _ => 0,
    }
}

fn too_many_removals(plan: &Plan, counts: &Counts, rules: &JobRules) -> Option<Refusal> {
    let removed = counts.removed;
    let (of, limit) = (plan.right_items, rules.max_removals);
    let nearly_all = removed > FEW && removed * 10 > of * 9;
    ((removed > SMALL_CHANGE || nearly_all) && limit.is_exceeded(removed, of)).then(|| Refusal::Removals {
        removed,
        of,
        limit,
        most: hardest_hit(plan, removes),
    })
}

fn too_many_changes(plan: &Plan, counts: &Counts, rules: &JobRules) -> Option<Refusal> {
    let Counts { removed, updated, moved, .. } = *counts;
    let changed = removed + updated + moved;
    let (of, limit) = (plan.right_items, rules.max_changes);
    (changed > SMALL_CHANGE && limit.is_exceeded(changed, of)).then(|| Refusal::Changes {
        changed,
        of,
        limit,
        most: hardest_hit(plan, changes),
    })
}

/// What a run writes must fit beside what is there: what it replaces or removes goes only afterwards, or is kept.
fn too_little_space(facts: &Facts) -> Option<Refusal> {
    let (free, needed) = (facts.space?.free, facts.needed);
    (needed > free).then_some(Refusal::Space { needed, free })
}

/// The three folders with most of something, each named by its first two levels at most.
fn hardest_hit(plan: &Plan, counts: impl Fn(&Step) -> u64) -> Vec<(RelPath, u64)> {
    let mut most: Vec<(RelPath, u64)> = Vec::new();
    for folder in &plan.folders {
        let hits = folder.actions.iter().map(|action| counts(&action.step)).sum();
        if hits > 0 {
            most.push((folder.path.clone(), hits));
        }
    }
    most.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    most.truncate(3);
    most
}

/// How two places relate that must not contain each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nesting {
    /// They have nothing to do with each other.
    Apart,
    /// They are the same place.
    Same,
    /// The second lies inside the first.
    SecondInFirst,
    /// The first lies inside the second.
    FirstInSecond,
}

/// Whether one of two places lies inside the other.
pub fn nesting(first: &Place, second: &Place) -> Nesting {
    match (first, second) {
        (Place::Local(a), Place::Local(b)) if a == b => Nesting::Same,
        (Place::Local(a), Place::Local(b)) if b.starts_with(a) => Nesting::SecondInFirst,
        (Place::Local(a), Place::Local(b)) if a.starts_with(b) => Nesting::FirstInSecond,
        (Place::Elsewhere(a), Place::Elsewhere(b)) if a == b => Nesting::Same,
        _ => Nesting::Apart,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::{EntryKind, Meta, Side};
    use crate::plan::{Action, Fate, FolderPlan, Role};
    use crate::testing::rules;

    fn plan(left: u64, right: u64, removed: u64, updated: u64) -> Plan {
        let file = Meta::bare(EntryKind::File);
        let action = |number: u64| Action {
            name: Name::new(number.to_string().as_bytes()).unwrap(),
            side: Side::Right,
            step: match number < removed {
                true => Step::Remove { was: file.clone() },
                false => Step::Update { from: file.clone(), was: Box::new(file.clone()) },
            },
            role: Role::Plain,
            instead_of: None,
        };
        let folder = FolderPlan {
            path: RelPath::root(),
            fate: Fate::Stay,
            left: None,
            right: None,
            remode: false,
            actions: (0..removed + updated).map(action).collect(),
        };
        Plan { left_items: left, right_items: right, folders: vec![folder], ..Plan::default() }
    }

    #[test]
    fn limits_need_both_a_share_and_a_number() {
        let rules = JobRules { max_changes: "50%".parse().unwrap(), ..rules(Kind::Mirror) };
        let cases = [
            (plan(80, 100, 20, 0), None),
            (plan(74, 100, 26, 0), Some("too-many-removals")),
            (plan(75, 100, 25, 0), None),
            (plan(3, 23, 20, 0), None),
            // Nearly everything, though few.
            (plan(1, 21, 20, 0), Some("too-many-removals")),
            (plan(1, 7, 6, 0), None),
            (plan(1, 7, 7, 0), Some("too-many-removals")),
            (plan(1, 5, 5, 0), None),
            (plan(0, 5, 5, 0), Some("empty-source")),
            (plan(0, 0, 0, 0), None),
            (plan(100, 100, 0, 51), Some("too-many-changes")),
            (plan(100, 100, 0, 50), None),
        ];
        for (plan, expected) in cases {
            let found = check(&plan, &rules, &Facts::default(), &[]);
            assert_eq!(found.as_ref().map(Refusal::code), expected, "{:?}", plan.counts());
        }
    }

    #[test]
    fn a_lifted_guard_leaves_the_others_standing() {
        let rules = rules(Kind::Mirror);
        let space = Some(Space { free: 999, total: 5000 });
        let facts = Facts { space, needed: 1000, empty_sources: Vec::new() };
        let emptied = plan(0, 100, 100, 0);
        let code = |lifted: &[Lift]| check(&emptied, &rules, &facts, lifted).map(|refusal| refusal.code());
        assert_eq!(code(&[]), Some("empty-source"));
        assert_eq!(code(&[Lift::Empty]), Some("too-many-removals"));
        assert_eq!(code(&[Lift::Empty, Lift::Removals]), Some("too-little-space"));
        assert_eq!(code(&[Lift::Empty, Lift::Removals, Lift::Space]), None);
    }

    #[test]
    fn nesting_is_by_whole_names() {
        let local = |path: &str| Place::Local(path.into());
        let cases = [
            ("/a/b", "/a/b", Nesting::Same),
            ("/a", "/a/b", Nesting::SecondInFirst),
            ("/a/b/c", "/a", Nesting::FirstInSecond),
            ("/a/b", "/a/bc", Nesting::Apart),
        ];
        for (first, second, expected) in cases {
            assert_eq!(nesting(&local(first), &local(second)), expected);
        }
    }
}
