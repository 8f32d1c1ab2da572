//! Comparing two trees: the lock-step walk with no job behind it and nothing to decide but whether both sides hold the same.
//!
//! Where the content is to tell, the files of a folder are read in small groups, each a task of the common stack: a folder of a
//! million files keeps every core busy, and only the groups in flight are in memory. What is the same is counted and forgotten.

mod found;

pub use found::{Compared, Differing, Face, FolderTally, Tally};

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::atomic::Ordering;

use super::pair::{Half, Judged, Looked, Met, Pair, Spellings, Spot, at, merge};
use super::queue::visit_all;
use super::renames::recognise;
use crate::compare::{Basis, Comparison, DiffState, Likeness, likeness};
use crate::content::{self, FileAt};
use crate::entry::{EntryKind, Meta, Side};
use crate::filter::{Filter, Inherited, Verdict};
use crate::path::{Name, RelPath};
use crate::plan::moves::Moves;
use crate::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use crate::problem::{Code, Problem};
use crate::store::Store;
use crate::store::error::FaultKind;
use crate::walk::progress::{ScanError, ScanProgress};
use crate::walk::refusals::clash_words;

/// So many files of a folder are read by one task: two workers in one folder stand in each other's way in the kernel, so only what
/// is large is shared out.
const TOGETHER: usize = 1024;

/// What a comparison reads.
#[derive(Clone, Copy)]
pub struct CompareInput<'a> {
    /// The left tree.
    pub left: &'a dyn Store,
    /// The right tree.
    pub right: &'a dyn Store,
    /// What takes part.
    pub filter: &'a Filter,
    /// What both can express.
    pub by: Comparison,
    /// What tells two files apart.
    pub basis: Basis,
    /// Leave out what is on another file system than the folder above it.
    pub one_filesystem: bool,
    /// Add up what each folder holds, also where nothing differs.
    pub tallies: bool,
}

/// Compares two trees. Nothing is changed anywhere.
///
/// # Errors
/// When a root cannot be listed, a store is lost, or `progress.stop` is set.
pub fn compare_trees(input: &CompareInput<'_>, progress: &ScanProgress) -> Result<Compared, ScanError> {
    let examine =
        |store: &dyn Store, side| store.stat(&RelPath::root()).map_err(|error| ScanError::Store(side, error));
    let there = [examine(input.left, Side::Left)?, examine(input.right, Side::Right)?];
    let root = FolderTask {
        path: RelPath::root(),
        now_at: [RelPath::root(), RelPath::root()],
        metas: there,
        inherited: input.filter.root(),
        told: false,
        hollow: false,
    };
    let visit = |found: &mut WorkerFindings, task| match task {
        Task::Folder(task) => Visit::run(input, progress, found, *task),
        Task::Files(twins) => {
            twins.into_iter().try_for_each(|twin| twin.read(input, progress, found))?;
            Ok(Vec::new())
        }
    };
    let found = visit_all((input.left, input.right), Task::Folder(Box::new(root)), progress, visit)?;
    assemble(input, progress, found)
}

enum Task {
    Folder(Box<FolderTask>),
    Files(Vec<Twin>),
}

/// A folder of both trees, or of one.
struct FolderTask {
    path: RelPath,
    now_at: [RelPath; 2],
    metas: [Option<Meta>; 2],
    inherited: Inherited,
    /// It is an entry that takes part itself: where one side lacks it, that is a difference.
    told: bool,
    /// What it holds is on another file system, and left out.
    hollow: bool,
}

/// Two files of one size, to be read.
struct Twin {
    path: RelPath,
    /// Where it is at each side, when that is not its path.
    now_at: Option<Box<[RelPath; 2]>>,
    metas: [Meta; 2],
}

impl Twin {
    /// Reads both. A file that cannot be read is a problem; a store that has gone ends the comparison.
    fn read(
        self,
        input: &CompareInput<'_>,
        progress: &ScanProgress,
        found: &mut WorkerFindings,
    ) -> Result<(), ScanError> {
        let [left, right] = &self.metas;
        let [here, there] = match &self.now_at {
            Some(now_at) => [&now_at[0], &now_at[1]],
            None => [&self.path, &self.path],
        };
        let ours = FileAt { store: input.left, path: here };
        let theirs = FileAt { store: input.right, path: there };
        let mut read = 0;
        let mut seen = |piece: &[u8]| {
            read += piece.len() as u64;
            progress.read.fetch_add(piece.len() as u64, Ordering::Relaxed);
        };
        match content::equal(ours, theirs, left.size, (false, &progress.stop), &mut seen) {
            // That is remembered nowhere: the other side is any tree, and no proof of what a job has written.
            Ok(true) => found.same += 1,
            Ok(false) => {
                let state = DiffState::by_time(left, right, &input.by);
                found.differ(self.path, state, Some(left), Some(right));
            }
            Err((side, error)) if error.kind == FaultKind::Lost => return Err(ScanError::Store(side, error)),
            Err((side, error)) => found.problems.push(Problem::from_error(side, &error)),
        }
        found.read += read;
        Ok(())
    }
}

/// What one worker found.
#[derive(Default)]
struct WorkerFindings {
    /// What only one side has, as steps of a plan: so what moved is recognised as in a run.
    folders: Vec<FolderPlan>,
    differences: Vec<Differing>,
    tallies: Vec<(RelPath, [Option<Tally>; 2])>,
    totals: [Tally; 2],
    same: u64,
    filtered: u64,
    problems: Vec<Problem>,
    read: u64,
}

impl WorkerFindings {
    fn differ(&mut self, path: RelPath, state: DiffState, left: Option<&Meta>, right: Option<&Meta>) {
        let (left, right) = (left.map(Face::from), right.map(Face::from));
        self.differences.push(Differing { path, state, left, right, right_path: None, items: 1 });
    }
}

struct Visit<'a> {
    input: &'a CompareInput<'a>,
    found: &'a mut WorkerFindings,
    folder: FolderPlan,
    told: bool,
    /// A folder directly in it is on one side only: something may have moved into it.
    touched: bool,
    now_at: [RelPath; 2],
    tallies: [Tally; 2],
    below: Vec<Task>,
    twins: Vec<Twin>,
    /// Names that could not be examined at one of the sides, or that one side takes for one.
    unknown: HashSet<Name>,
    /// At each side: what it lacks may exist.
    incomplete: [bool; 2],
    /// How a name is spelled at the right, where that is another spelling.
    right_names: BTreeMap<Name, Name>,
}

impl<'a> Visit<'a> {
    fn run(
        input: &'a CompareInput<'a>,
        progress: &ScanProgress,
        found: &'a mut WorkerFindings,
        task: FolderTask,
    ) -> Result<Vec<Task>, ScanError> {
        let FolderTask { path, now_at, metas, inherited, told, hollow } = task;
        let there = [metas[0].is_some(), metas[1].is_some()];
        let spot =
            Spot { path: &path, now_at: [&now_at[0], &now_at[1]], there, anothers: [false; 2], inherited };
        let pair = Pair {
            left: input.left,
            right: input.right,
            filter: input.filter,
            changes: [false; 2],
            observer: None,
        };
        let looked = if hollow { None } else { pair.look(&spot, progress, &mut found.problems)? };
        let fate = match there {
            [true, false] => Fate::Make,
            [false, true] => Fate::Remove,
            _ => Fate::Stay,
        };
        let [left, right] = metas;
        let folder = FolderPlan { path, fate, left, right, remode: false, actions: Vec::new() };
        let mut visit = Visit {
            input,
            found,
            folder,
            told,
            touched: false,
            now_at,
            tallies: [Tally::default(); 2],
            below: Vec::new(),
            twins: Vec::new(),
            unknown: HashSet::new(),
            incomplete: [false; 2],
            right_names: BTreeMap::new(),
        };
        if let Some(looked) = looked {
            visit.look_through(looked);
        }
        Ok(visit.finish(there))
    }

    fn look_through(&mut self, looked: Looked) {
        let Looked { halves: [left, right], unknown, .. } = looked;
        self.unknown = unknown;
        self.incomplete = [left.incomplete, right.incomplete];
        self.found.filtered += left.filtered + right.filtered;
        let (left, right) = self.spelled_alike(left, right);
        for Met { left, right, .. } in merge(left, right, Vec::new()) {
            self.name(left, right);
        }
    }

    /// Gives what is one name to one of the stores one spelling, the left one; what clashes is told and left out.
    fn spelled_alike(&mut self, left: Half, right: Half) -> (Vec<Judged>, Vec<Judged>) {
        let (left, mut right) = (left.entries, right.entries);
        let folding = self.input.left.capabilities().folding.or(self.input.right.capabilities().folding);
        if !folding.is_any() {
            return (left, right);
        }
        let spellings = Spellings::of(folding, &left, &right, &[]);
        for names in &spellings.clashes {
            if let Some((first, message)) = clash_words(names) {
                let path = self.folder.path.join(&first);
                self.found.problems.push(Problem::new(Code::NameClash, Side::Right, path, message));
            }
            self.unknown.extend(names.iter().cloned());
        }
        let given = spellings.given.iter().map(|given| (&given.to, &given.from));
        let unlike = spellings.unlike.iter().map(|(ours, theirs)| (ours, theirs));
        self.right_names = given.chain(unlike).map(|(ours, theirs)| (ours.clone(), theirs.clone())).collect();
        let here: BTreeMap<&Name, &Name> =
            self.right_names.iter().map(|(ours, theirs)| (theirs, ours)).collect();
        for other in &mut right {
            if let Some(name) = here.get(&other.name) {
                other.name = (*name).clone();
            }
        }
        right.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        (left, right)
    }

    fn name(&mut self, left: Option<Judged>, right: Option<Judged>) {
        let Some(name) = left.as_ref().or(right.as_ref()).map(|found| found.name.clone()) else { return };
        let out = |side: &Option<Judged>| side.as_ref().is_some_and(|found| found.verdict.is_none());
        // As in a run: what the left has and the filter leaves out is no part of it; a file that its size or age keeps out on the
        // right alone is still this file's other version.
        if self.unknown.contains(&name) || out(&left) || (left.is_none() && out(&right)) {
            return;
        }
        let verdict = left.as_ref().or(right.as_ref()).and_then(|found| found.verdict);
        let metas = [left.map(|found| found.meta), right.map(|found| found.meta)];
        let chosen = verdict == Some(Verdict::In);
        for (tally, meta) in self.tallies.iter_mut().zip(&metas) {
            if let Some(meta) = meta.as_ref().filter(|meta| chosen || !meta.is_folder()) {
                tally.count(meta);
            }
        }
        match metas {
            [Some(left), Some(right)] if left.is_folder() && right.is_folder() => {
                self.descend(&name, [Some(left), Some(right)], verdict, chosen);
            }
            [Some(left), Some(right)] => self.both(name, left, right, verdict),
            [Some(_), None] if self.incomplete[at(Side::Right)] => {}
            [None, Some(_)] if self.incomplete[at(Side::Left)] => {}
            [Some(left), None] if left.is_folder() => {
                self.descend(&name, [Some(left), None], verdict, chosen)
            }
            [None, Some(right)] if right.is_folder() => {
                self.descend(&name, [None, Some(right)], verdict, chosen);
            }
            [Some(left), None] => self.act(name, Step::Add { from: left }),
            [None, Some(right)] => self.act(name, Step::Remove { was: right }),
            [None, None] => {}
        }
    }

    fn both(&mut self, name: Name, left: Meta, right: Meta, verdict: Option<Verdict>) {
        match likeness(&left, &right, &self.input.by, self.input.basis) {
            Likeness::Same => self.found.same += 1,
            Likeness::Read => self.read_later(&name, left, right),
            Likeness::Different(state) => {
                self.found.differ(self.folder.path.join(&name), state, Some(&left), Some(&right));
                // Below what is a folder on one side only, everything is on that side only.
                let folders = [left, right].map(|meta| meta.is_folder().then_some(meta));
                if folders.iter().any(Option::is_some) {
                    self.descend(&name, folders, verdict, false);
                }
            }
        }
    }

    fn read_later(&mut self, name: &Name, left: Meta, right: Meta) {
        let path = self.folder.path.join(name);
        let elsewhere = self.now_at.iter().any(|at| *at != self.folder.path) || !self.right_names.is_empty();
        let now_at = elsewhere.then(|| Box::new(self.now_at(name)));
        self.twins.push(Twin { path, now_at, metas: [left, right] });
        if self.twins.len() == TOGETHER {
            self.below.push(Task::Files(std::mem::take(&mut self.twins)));
        }
    }

    fn now_at(&self, name: &Name) -> [RelPath; 2] {
        let theirs = self.right_names.get(name).unwrap_or(name);
        [self.now_at[0].join(name), self.now_at[1].join(theirs)]
    }

    fn descend(&mut self, name: &Name, metas: [Option<Meta>; 2], verdict: Option<Verdict>, told: bool) {
        self.touched |= metas.iter().any(Option::is_none);
        let inherited = self.input.filter.inherit(verdict.unwrap_or(Verdict::In));
        let (path, now_at) = (self.folder.path.join(name), self.now_at(name));
        let hollow = [Side::Left, Side::Right].into_iter().any(|side| self.is_foreign(side, &now_at, &metas));
        let task = FolderTask { path, now_at, metas, inherited, told, hollow };
        self.below.push(Task::Folder(Box::new(task)));
    }

    /// Whether a folder's content is no part of the comparison at a side: another file system is mounted there.
    fn is_foreign(&self, side: Side, now_at: &[RelPath; 2], metas: &[Option<Meta>; 2]) -> bool {
        let device = |meta: &Option<Meta>| meta.as_ref()?.id.map(|id| id.device);
        let here = [&self.folder.left, &self.folder.right][at(side)];
        let (Some(above), Some(below)) = (device(here), device(&metas[at(side)])) else { return false };
        let store = [self.input.left, self.input.right][at(side)];
        let pseudo = || store.is_pseudo(&now_at[at(side)]).unwrap_or(false);
        above != below && (self.input.one_filesystem || pseudo())
    }

    fn act(&mut self, name: Name, step: Step) {
        let (side, role, instead_of) = (Side::Right, Role::Plain, None);
        self.folder.actions.push(Action { name, side, step, role, instead_of });
    }

    fn finish(mut self, there: [bool; 2]) -> Vec<Task> {
        let found = self.found;
        let mut sides = [None; 2];
        for ((side, tally), there) in sides.iter_mut().zip(self.tallies).zip(there) {
            *side = there.then_some(tally);
        }
        for (total, tally) in found.totals.iter_mut().zip(self.tallies) {
            total.add(tally);
        }
        if self.input.tallies {
            found.tallies.push((self.folder.path.clone(), sides));
        }
        if !self.folder.actions.is_empty() || self.folder.fate != Fate::Stay || self.touched {
            if !self.told {
                self.folder.fate = Fate::Stay;
            }
            found.folders.push(self.folder);
        }
        // Last, so that they are taken first: who reads has it in hand.
        if !self.twins.is_empty() {
            self.below.push(Task::Files(self.twins));
        }
        self.below
    }
}

fn assemble(
    input: &CompareInput<'_>,
    progress: &ScanProgress,
    found: Vec<WorkerFindings>,
) -> Result<Compared, ScanError> {
    let mut compared = Compared::default();
    let mut plan = Plan::default();
    let mut tallies = Vec::new();
    for part in found {
        plan.folders.extend(part.folders);
        tallies.extend(part.tallies);
        compared.differences.extend(part.differences);
        compared.problems.extend(part.problems);
        compared.same += part.same;
        compared.filtered += part.filtered;
        compared.read += part.read;
        for (total, tally) in compared.totals.iter_mut().zip(part.totals) {
            total.add(tally);
        }
    }
    plan.folders.sort_unstable_by(|a, b| a.path.cmp(&b.path));
    let moves = if input.basis == Basis::Content { Moves::Proved } else { Moves::Unproved };
    let by = Comparison { modes: false, ..input.by };
    if !recognise(&mut plan, (input.left, input.right), &by, moves, &progress.stop) {
        return Err(ScanError::Stopped);
    }
    compared.unproved = plan.unproved;
    plan.folders.into_iter().for_each(|folder| tell(folder, &mut compared.differences));
    compared.differences.sort_by(|a, b| a.path.cmp(&b.path));
    compared.problems.sort_by(|a, b| a.path.cmp(&b.path));
    compared.folders = rolled_up(tallies, &compared.differences);
    Ok(compared)
}

/// Tells what only one side has, or has elsewhere.
fn tell(folder: FolderPlan, differences: &mut Vec<Differing>) {
    let whole = |path, state, left: Option<&Meta>, right: Option<&Meta>| Differing {
        path,
        state,
        left: left.map(Face::from),
        right: right.map(Face::from),
        right_path: None,
        items: 0,
    };
    let own = match folder.fate {
        Fate::Make => Some(DiffState::OnlyLeft),
        Fate::Remove => Some(DiffState::OnlyRight),
        Fate::Stay => None,
    };
    let meta = folder.left.as_ref().or(folder.right.as_ref());
    if let (Some(state), Some(_)) = (own, meta) {
        differences.push(whole(folder.path.clone(), state, folder.left.as_ref(), folder.right.as_ref()));
    }
    for action in &folder.actions {
        let path = folder.path.join(&action.name);
        differences.push(match &action.step {
            Step::Add { from } => {
                Differing { items: 1, ..whole(path, DiffState::OnlyLeft, Some(from), None) }
            }
            Step::Remove { was } => {
                Differing { items: 1, ..whole(path, DiffState::OnlyRight, None, Some(was)) }
            }
            Step::Move { from, to, was } => Differing {
                right_path: Some(from.clone()),
                items: 1,
                ..whole(path, DiffState::Moved, Some(to), Some(was))
            },
            Step::MoveFolder { from, items } => {
                let folder = Meta::bare(EntryKind::Folder);
                let right_path = Some(from.clone());
                let told = whole(path, DiffState::Moved, Some(&folder), Some(&folder));
                Differing { right_path, items: *items, ..told }
            }
            _ => continue,
        });
    }
}

/// Adds to each folder what lies below it.
fn rolled_up(
    mut tallies: Vec<(RelPath, [Option<Tally>; 2])>,
    differences: &[Differing],
) -> Vec<(RelPath, FolderTally)> {
    tallies.sort_unstable_by(|a, b| a.0.cmp(&b.0));
    let mut folders: Vec<(RelPath, FolderTally)> =
        tallies.into_iter().map(|(path, sides)| (path, FolderTally { sides, differing: 0 })).collect();
    let find = |folders: &[(RelPath, FolderTally)], path: &RelPath| {
        folders.binary_search_by(|(other, _)| other.cmp(path)).ok()
    };
    if folders.is_empty() {
        return folders;
    }
    for one in differences {
        // What moved out of a folder and what moved into one differs there; in what holds both it is one thing.
        let mut holding: BTreeSet<RelPath> = BTreeSet::new();
        for path in [Some(&one.path), one.right_path.as_ref()].into_iter().flatten() {
            holding.extend(std::iter::successors(path.parent(), RelPath::parent));
        }
        for folder in &holding {
            if let Some(at) = find(&folders, folder) {
                folders[at].1.differing += 1;
            }
        }
    }
    // From the end, so that a folder comes after what it holds.
    for at in (1..folders.len()).rev() {
        let Some(parent) = folders[at].0.parent().and_then(|parent| find(&folders, &parent)) else {
            continue;
        };
        let below = folders[at].1;
        let above = &mut folders[parent].1;
        for (sum, part) in above.sides.iter_mut().zip(below.sides) {
            if let (Some(sum), Some(part)) = (sum, part) {
                sum.add(part);
            }
        }
    }
    folders
}

#[cfg(test)]
mod tests;
