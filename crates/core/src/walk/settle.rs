//! The end of a scan: what only shows when everything is known.
//!
//! Workers look at folders one by one. Whether a folder can go depends on everything below it; which names belong to one file only
//! shows when all of it has been seen.

use std::collections::{HashMap, HashSet};

use crate::entry::Side;
use crate::path::RelPath;
use crate::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use crate::problem::{Code, Problem};
use crate::walk::findings::{SeveralNames, Visited, WorkerFindings};

/// Merges what the workers found and settles the fate of folders, from the bottom up.
pub(super) fn assemble(found: Vec<WorkerFindings>) -> Plan {
    let mut plan = Plan::default();
    let mut visited = Vec::new();
    let mut named = Vec::new();
    for part in found {
        named.extend(part.named);
        visited.extend(part.folders);
        plan.same += part.plan.same;
        plan.problems.extend(part.plan.problems);
        plan.leftovers.extend(part.plan.leftovers);
        plan.left_items += part.plan.left_items;
        plan.right_items += part.plan.right_items;
        plan.filtered += part.plan.filtered;
        plan.folders_seen += part.plan.folders_seen;
        plan.shifted += part.plan.shifted;
        plan.beyond += part.plan.beyond;
        plan.fresh.extend(part.plan.fresh);
        plan.proved.extend(part.plan.proved);
    }
    visited.sort_unstable_by(|a, b| a.plan.path.cmp(&b.plan.path));
    settle_names(&mut visited, &mut plan, named);
    settle_fates(&mut visited, &mut plan);
    // Second names were added at the end.
    visited.iter_mut().for_each(|folder| folder.plan.actions.sort_by(|a, b| a.name.cmp(&b.name)));
    plan.folders = visited.into_iter().map(|folder| folder.plan).filter(FolderPlan::says_something).collect();
    plan.problems.sort_by(|a, b| a.path.cmp(&b.path));
    plan.leftovers.sort_by(|a, b| a.0.cmp(&b.0));
    plan.fresh.sort();
    plan.proved.sort();
    plan
}

/// Of the names of one file the first is brought like any file, the others become second names of it.
fn settle_names(visited: &mut [Visited], plan: &mut Plan, mut named: Vec<SeveralNames>) {
    named.sort_by(|a, b| {
        a.id.cmp(&b.id).then_with(|| a.folder.cmp(&b.folder)).then_with(|| a.name.cmp(&b.name))
    });
    for group in named.chunk_by(|a, b| a.id == b.id) {
        let Some((first, others)) = group.split_first() else { continue };
        if group.iter().any(|member| !member.brought) {
            continue;
        }
        let of = first.folder.join(&first.name);
        for other in others {
            let right_id = |member: &SeveralNames| member.right.as_ref().and_then(|right| right.id);
            if first.same && other.same && right_id(first) == right_id(other) {
                // The first one's metadata is the other's as well.
                drop_action(visited, plan, other);
                plan.same += 1;
                continue;
            }
            drop_action(visited, plan, other);
            let step = Step::SecondName {
                from: other.left.clone(),
                of: of.clone(),
                was: other.right.clone().map(Box::new),
            };
            if let Ok(at) = visited.binary_search_by(|folder| folder.plan.path.cmp(&other.folder)) {
                visited[at].plan.actions.push(Action {
                    name: other.name.clone(),
                    side: Side::Right,
                    step,
                    role: Role::Plain,
                    instead_of: None,
                });
            }
        }
    }
}

/// Takes back what was planned or counted for a name.
fn drop_action(visited: &mut [Visited], plan: &mut Plan, member: &SeveralNames) {
    let Ok(at) = visited.binary_search_by(|folder| folder.plan.path.cmp(&member.folder)) else { return };
    let actions = &mut visited[at].plan.actions;
    let brings = |step: &Step| matches!(step, Step::Add { .. } | Step::Update { .. } | Step::Metadata { .. });
    match actions.iter().position(|action| action.name == member.name && brings(&action.step)) {
        Some(position) => drop(actions.remove(position)),
        None => plan.same -= u64::from(member.same),
    }
}

/// A folder that should go stays when something in it stays; a folder that nobody asked for by itself is made only when
/// something is put into it.
fn settle_fates(visited: &mut [Visited], plan: &mut Plan) {
    let uncertain: HashMap<RelPath, usize> = visited
        .iter()
        .enumerate()
        .filter(|(_, folder)| folder.plan.fate != Fate::Stay || has_late_add(&folder.plan))
        .map(|(index, folder)| (folder.plan.path.clone(), index))
        .collect();
    let mut used: HashSet<RelPath> = HashSet::new();
    for index in (0..visited.len()).rev() {
        let path = visited[index].plan.path.clone();
        let something = visited[index].plan.actions.iter().any(changes_something) || used.contains(&path);
        let folder = &mut visited[index];
        let remains = match folder.plan.fate {
            Fate::Make => {
                if !folder.chosen && !something {
                    folder.plan.fate = Fate::Stay;
                    folder.plan.left = None;
                    continue;
                }
                false
            }
            Fate::Remove => folder.stays || (!folder.chosen && !something),
            Fate::Stay => false,
        };
        let Some(parent) = path.parent() else { continue };
        used.insert(parent.clone());
        if remains {
            folder.plan.fate = Fate::Stay;
            if let Some(&above) = uncertain.get(&parent) {
                visited[above].stays = true;
                refuse_late_add(&mut visited[above].plan, &path, plan);
            }
        }
    }
}

fn changes_something(action: &Action) -> bool {
    !matches!(action.step, Step::Leave { .. })
}

fn has_late_add(folder: &FolderPlan) -> bool {
    folder.actions.iter().any(|action| action.step.fills())
}

/// Turns the plan to put a file where a folder stands into a problem, because the folder has to stay.
fn refuse_late_add(parent: &mut FolderPlan, path: &RelPath, plan: &mut Plan) {
    let Some(name) = path.file_name() else { return };
    let planned =
        parent.actions.iter().position(|action| action.name.as_bytes() == name && action.step.fills());
    let Some(position) = planned else { return };
    parent.actions.remove(position);
    let message = "the folder that stands here holds something that the filter leaves alone";
    plan.problems.push(Problem::new(Code::Occupied, Side::Right, path.clone(), message));
}
