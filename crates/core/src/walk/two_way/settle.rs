//! The end of a two-way scan: the fates of folders, and a plan for each direction.

use std::collections::HashMap;

use crate::entry::{Meta, Side};
use crate::job::Removals;
use crate::path::RelPath;
use crate::plan::two_way::Settled;
use crate::plan::{Action, Fate, FolderPlan, Plan, Step};
use crate::problem::{Code, Problem};
use crate::walk::pair::at;
use crate::walk::progress::{ScanError, ScanProgress};
use crate::walk::renames::turn_into_renames;
use crate::walk::two_way::findings::{Visited, WorkerFindings};
use crate::walk::two_way::input::{Conflict, Mode, TwoWayInput, TwoWayPlan};

/// Merges what the workers found.
pub(super) fn assemble(
    input: &TwoWayInput<'_>,
    progress: &ScanProgress,
    found: Vec<WorkerFindings>,
) -> Result<TwoWayPlan, ScanError> {
    let mut all = merge(found);
    all.visited.sort_unstable_by(|a, b| a.path.cmp(&b.path));
    let fates = settle_fates(&mut all, input.removals);
    let mut plans = [Side::Left, Side::Right].map(Plan::changing);
    for (folder, fates) in all.visited.into_iter().zip(fates) {
        for folder in by_direction(folder, fates) {
            let side = folder.1;
            plans[at(side)].folders.push(folder.0);
        }
    }
    let [mut to_left, mut to_right] = plans;
    let [left_items, right_items] = all.items;
    (to_left.left_items, to_left.right_items) = (right_items, left_items);
    (to_right.left_items, to_right.right_items) = (left_items, right_items);
    [to_left.leftovers, to_right.leftovers] = all.leftovers;
    for plan in [&mut to_left, &mut to_right] {
        let stores = (input.store(plan.changes.other()), input.store(plan.changes));
        if !turn_into_renames(plan, stores, &input.by, input.moves, &progress.stop) {
            return Err(ScanError::Stopped);
        }
        plan.folders.retain(FolderPlan::says_something);
        plan.leftovers.sort_by(|a, b| a.0.cmp(&b.0));
    }
    // What concerns both directions stands in the first one.
    to_right.same = all.same;
    let held = |conflict: &&Conflict| conflict.settled == Settled::Held;
    to_right.held = all.conflicts.iter().filter(held).count() as u64;
    to_right.settled = all.conflicts.len() as u64 - to_right.held;
    all.problems.sort_by(|a, b| a.path.cmp(&b.path));
    to_right.problems = all.problems;
    to_right.filtered = all.filtered;
    to_right.shifted = all.shifted;
    to_right.beyond = all.beyond;
    to_right.folders_seen = all.folders;
    all.conflicts.sort_by(|a, b| a.path.cmp(&b.path));
    all.news.sort_by(|a, b| a.folder.cmp(&b.folder));
    let mut aside = set_aside(all.aside);
    // The guards judge each plan by what its side holds.
    for plan in &mut aside {
        let own = at(plan.changes);
        (plan.left_items, plan.right_items) = (all.items[1 - own], all.items[own]);
    }
    Ok(TwoWayPlan { aside, to_right, to_left, conflicts: all.conflicts, news: all.news })
}

fn merge(found: Vec<WorkerFindings>) -> WorkerFindings {
    let mut all = WorkerFindings::default();
    for part in found {
        all.visited.extend(part.visited);
        all.aside.extend(part.aside);
        all.conflicts.extend(part.conflicts);
        all.news.extend(part.news);
        all.problems.extend(part.problems);
        for (mine, theirs) in all.leftovers.iter_mut().zip(part.leftovers) {
            mine.extend(theirs);
        }
        for (mine, theirs) in all.items.iter_mut().zip(part.items) {
            *mine += theirs;
        }
        all.same += part.same;
        all.skipped += part.skipped;
        all.shifted += part.shifted;
        all.beyond += part.beyond;
        all.filtered += part.filtered;
        all.folders += part.folders;
    }
    all
}

/// What happens to a folder at the left and at the right; `None` where it neither is nor comes.
type Fates = [Option<Fate>; 2];

/// What a folder's content means for the folder itself, per side.
#[derive(Default, Clone, Copy)]
struct Within {
    remains: [bool; 2],
    arrives: [bool; 2],
    goes: [bool; 2],
}

/// From the bottom up: a folder that was removed at one side stays at the other when something in it stays, and comes back
/// where something arrives in it.
fn settle_fates(all: &mut WorkerFindings, removals: Removals) -> Vec<Fates> {
    let mut within: HashMap<RelPath, Within> = HashMap::new();
    let mut fates = vec![[None; 2]; all.visited.len()];
    let mut stuck = Vec::new();
    for (index, folder) in all.visited.iter().enumerate().rev() {
        let mut inside = within.remove(&folder.path).unwrap_or_default();
        for action in &folder.actions {
            let side = at(action.side);
            match action.step {
                Step::Leave { .. } => {}
                Step::Remove { .. } => inside.goes[side] = true,
                _ => inside.arrives[side] = true,
            }
        }
        for side in 0..2 {
            inside.remains[side] |= folder.remains[side];
        }
        fates[index] = fates_of(folder, inside, removals);
        let Some(parent) = folder.path.parent() else { continue };
        let above = within.entry(parent).or_default();
        let present = [folder.left.is_some(), folder.right.is_some()];
        for side in 0..2 {
            let removed = fates[index][side] == Some(Fate::Remove);
            above.remains[side] |= present[side] && !removed;
            above.arrives[side] |=
                fates[index][side] == Some(Fate::Make) || (inside.arrives[side] && present[side]);
            above.goes[side] |= removed || inside.goes[side];
            if present[side] && !present[1 - side] && !removed {
                stuck.push((folder.path.clone(), side));
            }
        }
    }
    stuck.iter().for_each(|(path, side)| refuse_what_needs_its_place(all, path, *side));
    fates
}

fn fates_of(folder: &Visited, inside: Within, removals: Removals) -> Fates {
    let side = match (&folder.left, &folder.right) {
        (Some(_), Some(_)) => return [Some(Fate::Stay); 2],
        (Some(_), None) => 0,
        (None, Some(_)) => 1,
        (None, None) => return [None; 2],
    };
    let goes = match folder.mode {
        Mode::Take(winner) => at(winner) != side,
        Mode::Reconcile => folder.known && removals == Removals::Carry,
    };
    let comes = match folder.mode {
        Mode::Take(winner) => at(winner) == side,
        Mode::Reconcile => !folder.known,
    };
    let asked_for = folder.chosen || inside.goes[side];
    let mut fates = [None; 2];
    fates[side] = Some(if goes && asked_for && !inside.remains[side] { Fate::Remove } else { Fate::Stay });
    let made = (comes && folder.chosen) || inside.arrives[1 - side];
    fates[1 - side] = made.then_some(Fate::Make);
    fates
}

/// A file that was to stand where a folder has to stay is a problem instead.
fn refuse_what_needs_its_place(all: &mut WorkerFindings, path: &RelPath, side: usize) {
    let Some((parent, name)) = path.split() else { return };
    let Ok(index) = all.visited.binary_search_by(|folder| folder.path.cmp(&parent)) else { return };
    let actions = &mut all.visited[index].actions;
    let planned = |action: &Action| {
        action.name == name && at(action.side) == side && matches!(action.step, Step::Add { .. })
    };
    if let Some(position) = actions.iter().position(planned) {
        let action = actions.remove(position);
        let message = "the folder that stands here holds something that has to stay";
        all.problems.push(Problem::new(Code::Occupied, action.side, path.clone(), message));
    }
}

/// The parts of a folder's folder that concern each direction.
fn by_direction(folder: Visited, fates: Fates) -> Vec<(FolderPlan, Side)> {
    let mut actions: [Vec<Action>; 2] = Default::default();
    for action in folder.actions {
        actions[at(action.side)].push(action);
    }
    let sides = [(Side::Left, &folder.left, &folder.right), (Side::Right, &folder.right, &folder.left)];
    let mut folders = Vec::new();
    for ((side, own, other), mut actions) in sides.into_iter().zip(actions) {
        let Some(fate) = fates[at(side)] else { continue };
        let has = |mode: u32| {
            own.as_ref().is_some_and(|own| [own.mode, own.mode_without_list()].contains(&Some(mode)))
        };
        let wanted = folder.mode_wanted.filter(|mode| !has(*mode));
        let remode = wanted.is_some() && own.is_some();
        actions.sort_by(|a, b| a.name.cmp(&b.name));
        // A folder that stays keeps its own time: at each side the work done there changes it.
        let source = match fate {
            Fate::Make => other.clone(),
            Fate::Stay if remode => {
                own.as_ref().map(|own| Meta { mode: wanted, unlisted: None, ..own.clone() })
            }
            _ => None,
        };
        let path = folder.path.clone();
        folders.push((FolderPlan { path, fate, left: source, right: own.clone(), remode, actions }, side));
    }
    folders
}

/// The plans of the renames that come first.
fn set_aside(actions: Vec<(RelPath, Action)>) -> [Plan; 2] {
    let mut plans = [Side::Left, Side::Right].map(Plan::changing);
    let mut folders: HashMap<(usize, RelPath), Vec<Action>> = HashMap::new();
    for (folder, action) in actions {
        folders.entry((at(action.side), folder)).or_default().push(action);
    }
    for ((side, path), mut actions) in folders {
        actions.sort_by(|a, b| a.name.cmp(&b.name));
        let folder = FolderPlan { path, fate: Fate::Stay, left: None, right: None, remode: false, actions };
        plans[side].folders.push(folder);
    }
    plans.iter_mut().for_each(|plan| plan.folders.sort_by(|a, b| a.path.cmp(&b.path)));
    plans
}
