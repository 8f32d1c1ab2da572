//! A plan made smaller: some of what it would do is left for another time, and the rest still fits together.
//!
//! What is left drags along what cannot be done without it: what a folder holds that is not made; both halves of one thing taking
//! another's place; whatever goes where something should have been moved away from. A folder in which something stays is not
//! removed. So a narrowed plan does nothing that the whole one would not have done, and nothing by halves.

use std::collections::{BTreeSet, HashSet};

use super::{Action, Fate, FolderPlan, Plan, Step};
use crate::path::{Name, RelPath};

/// A part of a plan that is either done or left.
#[derive(Debug, Clone, Copy)]
pub enum Part<'a> {
    /// A step for a name.
    Item(&'a FolderPlan, &'a Action),
    /// Making or removing a folder.
    Fate(&'a FolderPlan),
    /// Giving a folder another mode.
    Mode(&'a FolderPlan),
}

/// Leaves out what is not chosen, and what cannot be done without it, of plans that are carried out one after the other between the
/// same two trees. Returns the paths of what was left out.
pub fn narrow(plans: &mut [&mut Plan], chosen: &dyn Fn(usize, Part<'_>) -> bool) -> BTreeSet<RelPath> {
    let mut left = Left::default();
    for (at, plan) in plans.iter().enumerate() {
        for folder in &plan.folders {
            if folder.fate != Fate::Stay && !chosen(at, Part::Fate(folder)) {
                left.fates.insert((at, folder.path.clone()));
            }
            for action in folder.actions.iter().filter(|action| !chosen(at, Part::Item(folder, action))) {
                left.paths.insert(folder.path.join(&action.name));
            }
        }
    }
    while plans.iter().enumerate().any(|(at, plan)| left.spread(at, plan)) {}
    for (at, plan) in plans.iter_mut().enumerate() {
        for folder in &mut plan.folders {
            folder.remode &= chosen(at, Part::Mode(folder));
        }
        left.take_out(at, plan);
    }
    left.told()
}

/// What is left out.
#[derive(Default)]
struct Left {
    /// Names for which nothing is done in any of the plans.
    paths: HashSet<RelPath>,
    /// Folders that are neither made nor removed, each in a plan.
    fates: HashSet<(usize, RelPath)>,
}

impl Left {
    /// What has to be left because of what is left already; whether there was anything.
    fn spread(&mut self, at: usize, plan: &Plan) -> bool {
        let before = (self.paths.len(), self.fates.len());
        for folder in &plan.folders {
            let unmade = folder.fate == Fate::Make && self.fates.contains(&(at, folder.path.clone()));
            let gone = unmade || self.is_within(at, plan, &folder.path);
            for action in &folder.actions {
                let path = folder.path.join(&action.name);
                let source = moved_from(&action.step);
                let needed = source.or(second_name_of(&action.step));
                if gone || self.paths.contains(&path) || needed.is_some_and(|path| self.paths.contains(path))
                {
                    // Where it was to be moved from, nothing else can come.
                    self.paths.extend(source.cloned());
                    self.paths.insert(path);
                }
            }
            // One thing was to take the place of another.
            if folder.fate != Fate::Stay && (gone || self.paths.contains(&folder.path)) {
                self.fates.insert((at, folder.path.clone()));
            }
            if unmade {
                self.paths.insert(folder.path.clone());
            }
        }
        self.keep_what_holds_something(at, plan);
        before != (self.paths.len(), self.fates.len())
    }

    /// Whether a folder lies in one that is not made, or at or below a name for which nothing is done.
    fn is_within(&self, at: usize, plan: &Plan, folder: &RelPath) -> bool {
        let mut above = Some(folder.clone());
        while let Some(path) = above.filter(|path| !path.is_root()) {
            let unmade = || {
                self.fates.contains(&(at, path.clone()))
                    && find(plan, &path).is_some_and(|folder| folder.fate == Fate::Make)
            };
            if self.paths.contains(&path) || unmade() {
                return true;
            }
            above = path.parent();
        }
        false
    }

    /// Folders in which something stays, stay; and nothing takes their place.
    fn keep_what_holds_something(&mut self, at: usize, plan: &Plan) {
        let mut held: HashSet<RelPath> = self.paths.iter().filter_map(RelPath::parent).collect();
        for folder in plan.folders.iter().rev().filter(|folder| folder.fate == Fate::Remove) {
            let key = (at, folder.path.clone());
            if held.contains(&folder.path) || self.fates.contains(&key) {
                held.extend(folder.path.parent());
                if folder.path.split().is_some_and(|(above, name)| has_action(plan, &above, &name)) {
                    self.paths.insert(folder.path.clone());
                }
                self.fates.insert(key);
            }
        }
    }

    fn take_out(&self, at: usize, plan: &mut Plan) {
        let moved: HashSet<RelPath> = plan
            .folders
            .iter()
            .flat_map(|folder| folder.actions.iter().map(move |action| (folder, action)))
            .filter(|(_, action)| matches!(action.step, Step::MoveFolder { .. }))
            .map(|(folder, action)| folder.path.join(&action.name))
            .filter(|path| !self.paths.contains(path))
            .collect();
        for folder in &mut plan.folders {
            let path = &folder.path;
            folder.actions.retain(|action| !self.paths.contains(&path.join(&action.name)));
            if folder.fate == Fate::Remove && self.fates.contains(&(at, folder.path.clone())) {
                folder.fate = Fate::Stay;
            }
        }
        let unmade = |folder: &FolderPlan| {
            folder.fate == Fate::Make && self.fates.contains(&(at, folder.path.clone()))
        };
        plan.folders.retain(|folder| !unmade(folder));
        // The times of folders follow what is done in them, and nothing else.
        let touched: HashSet<RelPath> = plan
            .folders
            .iter()
            .filter(|folder| folder.fate != Fate::Stay)
            .filter_map(|folder| folder.path.parent())
            .collect();
        plan.folders.retain(|folder| {
            !folder.actions.is_empty()
                || folder.fate != Fate::Stay
                || folder.remode
                || touched.contains(&folder.path)
                || std::iter::successors(Some(folder.path.clone()), RelPath::parent)
                    .any(|to| moved.contains(&to))
        });
    }

    fn told(self) -> BTreeSet<RelPath> {
        self.paths.into_iter().chain(self.fates.into_iter().map(|(_, path)| path)).collect()
    }
}

fn moved_from(step: &Step) -> Option<&RelPath> {
    match step {
        Step::Move { from, .. } | Step::MoveFolder { from, .. } => Some(from),
        _ => None,
    }
}

/// The file of which something is to become a second name: it has to be in place.
fn second_name_of(step: &Step) -> Option<&RelPath> {
    match step {
        Step::SecondName { of, .. } => Some(of),
        _ => None,
    }
}

fn has_action(plan: &Plan, folder: &RelPath, name: &Name) -> bool {
    let found = find(plan, folder);
    found.is_some_and(|folder| folder.actions.binary_search_by(|action| action.name.cmp(name)).is_ok())
}

fn find<'a>(plan: &'a Plan, path: &RelPath) -> Option<&'a FolderPlan> {
    let at = plan.folders.binary_search_by(|folder| folder.path.cmp(path)).ok()?;
    plan.folders.get(at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::Side;
    use crate::plan::Role;
    use crate::testing::{file, folder, path};

    /// A plan from lines such as `+ a/b` (add), `- a/b` (remove), `a/b <- c` (move), `mkdir a`, `rmdir a`.
    fn plan(lines: &[&str]) -> Plan {
        let mut plan = Plan::default();
        let at = |plan: &mut Plan, wanted: &RelPath, fate: Fate| -> usize {
            match plan.folders.binary_search_by(|folder| folder.path.cmp(wanted)) {
                Ok(found) => {
                    if fate != Fate::Stay {
                        plan.folders[found].fate = fate;
                    }
                    found
                }
                Err(place) => {
                    let (left, right) = (Some(folder()), Some(folder()));
                    let new = FolderPlan {
                        path: wanted.clone(),
                        fate,
                        left,
                        right,
                        remode: false,
                        actions: Vec::new(),
                    };
                    plan.folders.insert(place, new);
                    place
                }
            }
        };
        for line in lines {
            let words: Vec<&str> = line.split(' ').collect();
            let (target, step) = match words.as_slice() {
                ["mkdir", path_text] => {
                    at(&mut plan, &path(path_text), Fate::Make);
                    continue;
                }
                ["rmdir", path_text] => {
                    at(&mut plan, &path(path_text), Fate::Remove);
                    continue;
                }
                ["+", target] => (*target, Step::Add { from: file(1, 1) }),
                ["-", target] => (*target, Step::Remove { was: file(1, 1) }),
                [target, "==", of] => {
                    (*target, Step::SecondName { from: file(1, 1), of: path(of), was: None })
                }
                [target, "<-", from] => {
                    let was = Box::new(file(1, 1));
                    (*target, Step::Move { from: path(from), to: file(1, 1), was })
                }
                _ => panic!("{line}"),
            };
            let (above, name) = path(target).split().unwrap();
            let found = at(&mut plan, &above, Fate::Stay);
            let (side, role, instead_of) = (Side::Right, Role::Plain, None);
            plan.folders[found].actions.push(Action { name, side, step, role, instead_of });
            plan.folders[found].actions.sort_by(|a, b| a.name.cmp(&b.name));
        }
        plan
    }

    fn shown(plan: &Plan) -> Vec<String> {
        let mut lines = Vec::new();
        for folder in &plan.folders {
            match folder.fate {
                Fate::Make => lines.push(format!("mkdir {}", folder.path)),
                Fate::Remove => lines.push(format!("rmdir {}", folder.path)),
                Fate::Stay => {}
            }
            for Action { name, step, .. } in &folder.actions {
                let path = folder.path.join(name);
                lines.push(match step {
                    Step::Add { .. } => format!("+ {path}"),
                    Step::Remove { .. } => format!("- {path}"),
                    Step::Move { from, .. } => format!("{path} <- {from}"),
                    Step::SecondName { of, .. } => format!("{path} == {of}"),
                    other => panic!("{other:?}"),
                });
            }
        }
        lines.sort();
        lines
    }

    fn narrowed(lines: &[&str], without: &str) -> Vec<String> {
        let mut plan = plan(lines);
        let chosen = |_: usize, part: Part<'_>| match part {
            Part::Item(folder, action) => folder.path.join(&action.name) != path(without),
            Part::Fate(folder) => folder.path != path(without),
            Part::Mode(_) => true,
        };
        narrow(&mut [&mut plan], &chosen);
        shown(&plan)
    }

    #[test]
    fn what_is_left_drags_along_what_depends_on_it_and_nothing_else() {
        let cases: [(&[&str], &str, &[&str]); 11] = [
            (&["+ a", "+ b"], "a", &["+ b"]),
            // A folder that is not made: nothing in it.
            (&["mkdir d", "mkdir d/e", "+ d/a", "+ d/e/b", "+ c"], "d", &["+ c"]),
            (&["mkdir d", "mkdir d/e", "+ d/a", "+ d/e/b"], "d/e", &["mkdir d", "+ d/a"]),
            // Something stays in it: it stays, and what it is in.
            (&["rmdir d", "rmdir d/e", "- d/a", "- d/e/b"], "d/e/b", &["- d/a"]),
            (&["rmdir d", "rmdir d/e", "- d/a", "- d/e/b"], "d/a", &["rmdir d/e", "- d/e/b"]),
            // A file in the place of a folder, and a folder in the place of a file: both or neither.
            (&["rmdir d", "- d/a", "+ d", "+ x"], "d/a", &["+ x"]),
            (&["mkdir f", "+ f/a", "- f", "+ x"], "f", &["+ x"]),
            // What moved away makes room; what it leaves behind is not removed around it.
            (&["b <- a", "+ a", "+ x"], "b", &["+ x"]),
            (&["b <- d/a", "rmdir d", "- d/c"], "b", &["- d/c"]),
            // A second name needs its file, and not the other way round.
            (&["+ a", "b == a", "+ x"], "a", &["+ x"]),
            (&["+ a", "b == a", "+ x"], "b", &["+ a", "+ x"]),
        ];
        for (lines, without, expected) in cases {
            let mut expected: Vec<String> = expected.iter().map(|line| (*line).to_owned()).collect();
            expected.sort();
            assert_eq!(narrowed(lines, without), expected, "{lines:?} without {without}");
        }
    }

    #[test]
    fn what_goes_one_way_and_what_goes_the_other_belong_together() {
        // A version makes room for the winner of a conflict, which comes from the other side; both end up on both.
        let mut aside = plan(&["a.old <- a"]);
        let (mut there, mut back) = (plan(&["+ a", "+ x"]), plan(&["+ a.old", "+ y"]));
        let chosen = |at: usize, part: Part<'_>| match part {
            Part::Item(_, action) => !(at == 1 && action.name == Name::new(b"a").unwrap()),
            _ => true,
        };
        let left = narrow(&mut [&mut aside, &mut there, &mut back], &chosen);
        assert_eq!(
            (shown(&aside), shown(&there), shown(&back)),
            (vec![], vec!["+ x".to_owned()], vec!["+ y".to_owned()])
        );
        assert_eq!(left, BTreeSet::from([path("a"), path("a.old")]));
    }
}
