//! The lock-step walk of a two-way job: both trees and what is remembered of them, folder by folder.
//!
//! As in the one-way walk a folder is the unit of work, what is the same is counted and forgotten, and what is not known is
//! left alone. The outcome is a plan for each direction, the conflicts, and what to remember once the plans are carried out.
//! Nothing is remembered by the walk itself: a preview leaves no trace.

mod act;
mod findings;
mod folders;
pub(crate) mod input;
pub(crate) mod news;
mod proof;
mod settle;

pub use crate::walk::two_way::input::{Baseline, Conflict, Decided, TwoWayInput, TwoWayPlan};
pub use crate::walk::two_way::news::{FolderNews, Open};

use std::collections::HashSet;
use std::sync::atomic::AtomicBool;

use super::pair::{BothSides, Judged, Looked, Met, Respelling, Spellings, Spot, at, merge};
use crate::entry::{EntryKind, Meta, Side, Stamp};
use crate::filter::{Inherited, Verdict as Taken};
use crate::job::Preserve;
use crate::path::{Name, RelPath};
use crate::plan::one_way::LeaveReason;
use crate::plan::two_way::{Known, Remembered, SideChange, Verdict, common_metadata};
use crate::plan::{Action, Role, Step};
use crate::problem::{Code, Problem};
use crate::store::error::Result;
use crate::store::{Folding, Store};
use crate::walk::progress::{ScanError, ScanProgress};
use crate::walk::queue::visit_all;
use crate::walk::refusals::clash_words;
use crate::walk::two_way::findings::{Visited, WorkerFindings};
use crate::walk::two_way::input::Mode;

/// Reads both trees and plans what a two-way run would do. Nothing is changed anywhere.
///
/// # Errors
/// When a root cannot be listed, a store is lost, the baseline cannot be read, or `progress.stop` is set.
pub fn scan_two_way(input: &TwoWayInput<'_>, progress: &ScanProgress) -> Result<TwoWayPlan, ScanError> {
    let examine =
        |store: &dyn Store, side| store.stat(&RelPath::root()).map_err(|error| ScanError::Store(side, error));
    let on_both = (examine(input.left, Side::Left)?, examine(input.right, Side::Right)?);
    let root = Task::of(RelPath::root(), on_both, input.filter.root());
    let visit = |found: &mut WorkerFindings, task| Visit::run(input, progress, found, task);
    let found = visit_all((input.left, input.right), root, progress, visit)?;
    settle::assemble(input, progress, found)
}

/// Decides one name that is no folder on both sides, as a scan does. Nothing is changed anywhere.
///
/// # Errors
/// When the baseline, or a file that has to be read, cannot be.
pub fn decide_one(
    input: &TwoWayInput<'_>,
    stop: &AtomicBool,
    path: &RelPath,
    (left, right): (Option<&Meta>, Option<&Meta>),
) -> Result<Decided, ScanError> {
    let Some((folder, name)) = path.split() else {
        return Ok(Decided { left: SideChange::Same, right: SideChange::Same, verdict: Verdict::Nothing });
    };
    let Remembered { known, looked } = (input.baseline)(&folder).map_err(ScanError::Baseline)?;
    let (mut above, mut higher) = (None, folder.parent());
    while let Some(folder) = higher.filter(|_| above.is_none()) {
        above = (input.baseline)(&folder).map_err(ScanError::Baseline)?.looked;
        higher = folder.parent();
    }
    let mut found = WorkerFindings::default();
    let task = Task { above, ..Task::of(folder, (None, None), input.filter.root()) };
    let mut visit = Visit::new(input, stop, &mut found, task);
    (visit.agreed, visit.looked) = (!known.is_empty(), looked);
    let known = known.into_iter().find(|known| known.name == name);
    let decided = visit.decided(&name, (left, right), known.as_ref(), &mut None);
    let decided = decided.map_err(|(side, error)| ScanError::Store(side, error))?;
    Ok(match (decided.verdict, left, right) {
        (Verdict::Nothing, Some(left), Some(right)) => {
            Decided { verdict: visit.unless_rotten(&name, left, right), ..decided }
        }
        _ => decided,
    })
}

struct Task {
    path: RelPath,
    left: Option<Meta>,
    right: Option<Meta>,
    known: Option<Known>,
    /// The path under which it is remembered: its name may have been spelled otherwise.
    known_at: RelPath,
    /// Where it is at each side now: under another spelling, perhaps.
    now_at: [RelPath; 2],
    inherited: Inherited,
    chosen: bool,
    mode: Mode,
    /// At each side: whether it is, or lies in, the root of another job's side.
    anothers: [bool; 2],
    /// When the nearest folder above that is remembered was seen.
    above: Option<Stamp>,
}

impl Task {
    /// A folder that has one spelling everywhere.
    fn of(path: RelPath, (left, right): (Option<Meta>, Option<Meta>), inherited: Inherited) -> Task {
        let (known_at, now_at) = (path.clone(), [path.clone(), path.clone()]);
        let (known, mode, anothers, above) = (None, Mode::Reconcile, [false; 2], None);
        Task { path, left, right, known, known_at, now_at, inherited, chosen: true, mode, anothers, above }
    }
}

struct Visit<'a> {
    input: &'a TwoWayInput<'a>,
    stop: &'a AtomicBool,
    found: &'a mut WorkerFindings,
    visited: Visited,
    below: Vec<Task>,
    /// Names that could not be examined at one side.
    unknown: HashSet<Name>,
    /// What is remembered of this folder from now on, and what only a look after the run can tell.
    remembered: Vec<Known>,
    open: Vec<Open>,
    changed: bool,
    /// A folder directly in it is at one side only: something may be moved into its place.
    touched: bool,
    /// Names given to versions that make room for others.
    given: HashSet<Vec<u8>>,
    /// Names at each side as a store that folds case has them.
    folded: [HashSet<Vec<u8>>; 2],
    /// What is one name to one of the stores.
    spellings: Spellings,
    /// The path under which the folder is remembered.
    known_at: RelPath,
    /// When what is remembered of this folder was seen.
    looked: Option<Stamp>,
    /// The same of the nearest folder above of which something is.
    above: Option<Stamp>,
    /// Something of this folder is remembered, or the folder itself is.
    agreed: bool,
    /// Where the folder is at each side now.
    now_at: [RelPath; 2],
    /// At each side: whether the folder is, or lies in, the root of another job's side.
    anothers: [bool; 2],
}

impl<'a> Visit<'a> {
    fn run(
        input: &'a TwoWayInput<'a>,
        progress: &'a ScanProgress,
        found: &'a mut WorkerFindings,
        task: Task,
    ) -> Result<Vec<Task>, ScanError> {
        let inherited = task.inherited;
        let mut visit = Visit::new(input, &progress.stop, found, task);
        visit.look(inherited, progress)?;
        Ok(visit.finish())
    }

    fn new(
        input: &'a TwoWayInput<'a>,
        stop: &'a AtomicBool,
        found: &'a mut WorkerFindings,
        task: Task,
    ) -> Visit<'a> {
        let mode_wanted = match (&task.left, &task.right) {
            (Some(left), Some(right))
                if task.chosen && !task.path.is_root() && !input.by.same_mode(left, right) =>
            {
                common_metadata(task.known.as_ref(), left, right, &input.by).1
            }
            _ => None,
        };
        let visited = Visited {
            path: task.path,
            left: task.left,
            right: task.right,
            known: task.known.is_some(),
            chosen: task.chosen,
            mode: task.mode,
            actions: Vec::new(),
            mode_wanted,
            remains: [false; 2],
        };
        Visit {
            input,
            stop,
            found,
            visited,
            below: Vec::new(),
            unknown: HashSet::new(),
            remembered: Vec::new(),
            open: Vec::new(),
            changed: false,
            touched: false,
            given: HashSet::new(),
            folded: Default::default(),
            spellings: Spellings::default(),
            looked: None,
            above: task.above,
            agreed: task.known.is_some(),
            known_at: task.known_at,
            now_at: task.now_at,
            anothers: task.anothers,
        }
    }

    fn look(&mut self, inherited: Inherited, progress: &ScanProgress) -> Result<(), ScanError> {
        let Remembered { known, looked } =
            (self.input.baseline)(&self.known_at).map_err(ScanError::Baseline)?;
        self.agreed |= !known.is_empty();
        self.looked = looked;
        // When the two were first looked at together is remembered even where nothing is agreed on yet.
        self.changed |= self.visited.path.is_root() && looked.is_none();
        // What is not looked at this time, or not brought over, is remembered as of then.
        let known: Vec<Known> = known.into_iter().map(|known| known.seen_then(looked)).collect();
        if self.known_at != self.visited.path {
            // It has another spelling now, and is remembered under that one.
            let folder = self.known_at.clone();
            self.found.news.push(FolderNews { folder, known: Vec::new(), looked: None, open: Vec::new() });
            self.changed = true;
        }
        let Some((left, right)) = self.read(inherited, progress)? else {
            // Of a folder that cannot be listed nothing is known: both sides of it are left alone.
            self.visited.remains = [true; 2];
            return Ok(());
        };
        let (left, right, known) = self.unify(left, right, known);
        for met in merge(left, right, known) {
            self.name(met, inherited)?;
        }
        Ok(())
    }

    /// What both sides hold; `None` when that is not all known.
    fn read(
        &mut self,
        inherited: Inherited,
        progress: &ScanProgress,
    ) -> Result<Option<BothSides>, ScanError> {
        let [left, right] = &self.now_at;
        let spot = Spot {
            path: &self.visited.path,
            now_at: [left, right],
            there: [self.visited.left.is_some(), self.visited.right.is_some()],
            anothers: self.anothers,
            inherited,
        };
        let looked = self.input.pair().look(&spot, progress, &mut self.found.problems)?;
        let Some(Looked { halves: [left, right], unknown, anothers }) = looked else { return Ok(None) };
        (self.unknown, self.anothers) = (unknown, anothers);
        if left.incomplete || right.incomplete {
            return Ok(None);
        }
        self.found.folders += 1;
        let mut entries = [Vec::new(), Vec::new()];
        for (half, side) in [left, right].into_iter().zip([Side::Left, Side::Right]) {
            self.found.filtered += half.filtered;
            // Nobody may remove it, nor rename it with what is in it.
            self.visited.remains[at(side)] |= half.unclear;
            self.found.leftovers[at(side)].extend(half.leftovers);
            if self.folds() {
                let keys = half.entries.iter().map(|found| self.folding().key(&found.name));
                self.folded[at(side)] = keys.collect();
            }
            entries[at(side)] = half.entries;
        }
        let [left, right] = entries;
        Ok(Some((left, right)))
    }

    pub(super) fn name(&mut self, met: Met, inherited: Inherited) -> Result<(), ScanError> {
        let Met { left, right, known } = met;
        let name = left.as_ref().or(right.as_ref()).map(|found| found.name.clone());
        let Some(name) = name.or_else(|| known.as_ref().map(|known| known.name.clone())) else {
            return Ok(());
        };
        let out = |side: &Option<Judged>| side.as_ref().is_some_and(|found| found.verdict.is_none());
        if let (Some(left), Some(right)) = (&left, &right) {
            self.found.beyond += u64::from(left.beyond || right.beyond);
        }
        if out(&left) || out(&right) || self.unknown.contains(&name) || self.spellings.clash(&name) {
            self.stays(left.is_some(), right.is_some());
            self.remembered.extend(known);
            return Ok(());
        }
        let metas = (left.as_ref().map(|found| &found.meta), right.as_ref().map(|found| &found.meta));
        let known = self.without_our_own_deeds(&name, metas, known);
        let verdict = left.as_ref().or(right.as_ref()).and_then(|found| found.verdict);
        let (left, right) = (left.map(|found| found.meta), right.map(|found| found.meta));
        if let Some((from, reason)) =
            [&left, &right].into_iter().flatten().find_map(|meta| Some((meta, self.not_carried(meta)?)))
        {
            self.found.skipped += 1;
            let step = Step::Leave { from: from.clone(), reason };
            let side = if left.is_some() { Side::Right } else { Side::Left };
            self.act(name, side, step, Role::Plain);
            self.stays(left.is_some(), right.is_some());
            self.remembered.extend(known);
            return Ok(());
        }
        self.found.items[0] += u64::from(left.as_ref().is_some_and(Meta::is_item));
        self.found.items[1] += u64::from(right.as_ref().is_some_and(Meta::is_item));
        let is_folder = |side: &Option<Meta>| side.as_ref().map(Meta::is_folder);
        match (is_folder(&left), is_folder(&right)) {
            (None, None) => self.forget(known),
            (Some(true), Some(true) | None) | (None, Some(true)) => {
                self.folder(name, left, right, known, verdict.unwrap_or(Taken::In), self.visited.mode);
                Ok(())
            }
            (Some(true), Some(false)) | (Some(false), Some(true)) => {
                self.folder_against_item(name, left, right, known, inherited)
            }
            _ => {
                self.item(name, left, right, known);
                Ok(())
            }
        }
    }

    /// What is remembered of a name; nothing when that is no longer there by nobody's doing. Otherwise what has been put back at the other
    /// side would seem to have been removed by a person, and what somebody saved in its place would seem to be an edit of what the other
    /// side has.
    fn without_our_own_deeds(
        &mut self,
        name: &Name,
        (left, right): (Option<&Meta>, Option<&Meta>),
        known: Option<Known>,
    ) -> Option<Known> {
        let known = known?;
        // A name that cannot be there has not been removed there: it was spelled otherwise, as it no longer is.
        let cannot_be = |side| self.input.store(side).capabilities().names.refusal(name).is_some();
        let nobody_s = self.may_be_our_doing(name, (Side::Left, left), &known)
            || self.may_be_our_doing(name, (Side::Right, right), &known)
            || (left.is_none() && right.is_some() && cannot_be(Side::Left))
            || (right.is_none() && left.is_some() && cannot_be(Side::Right));
        let is_folder = |meta: Option<&Meta>| meta.is_some_and(Meta::is_folder);
        if nobody_s && known.is_folder() && !is_folder(left) && !is_folder(right) {
            // Nor is anything below it remembered any more: nobody will look there.
            let folder = self.visited.path.join(name);
            self.found.news.push(FolderNews { folder, known: Vec::new(), looked: None, open: Vec::new() });
        }
        self.changed |= nobody_s;
        (!nobody_s).then_some(known)
    }

    /// Whether what was remembered is no longer at this side, and a run that was cut short had set out to remove or replace it there.
    fn may_be_our_doing(&self, name: &Name, (side, found): (Side, Option<&Meta>), known: &Known) -> bool {
        let outgoing = self.input.outgoing;
        !outgoing.is_empty()
            && outgoing.holds(side, &self.visited.path.join(name))
            && matches!(known.state(side, found, &mut |_| false), SideChange::Gone | SideChange::Changed)
    }

    pub(super) fn stays(&mut self, left: bool, right: bool) {
        self.visited.remains[0] |= left;
        self.visited.remains[1] |= right;
    }

    /// Why an entry is not carried at all; `None` when it is.
    fn not_carried(&self, meta: &Meta) -> Option<LeaveReason> {
        match meta.kind {
            EntryKind::Special(_) => Some(LeaveReason::Special),
            EntryKind::Link if self.input.preserve == Preserve::Content => Some(LeaveReason::Link),
            EntryKind::Folder if self.input.one_filesystem => {
                let device = |meta: &Meta| meta.id.map(|id| id.device);
                let above = [&self.visited.left, &self.visited.right].into_iter().flatten().map(device);
                let elsewhere =
                    above.flatten().next().is_some() && above_differs(&self.visited, meta, device);
                elsewhere.then_some(LeaveReason::OtherFileSystem)
            }
            _ => None,
        }
    }

    fn forget(&mut self, known: Option<Known>) -> Result<(), ScanError> {
        if let Some(known) = known {
            self.open_question(known.name.clone(), Some(known));
        }
        Ok(())
    }

    /// Leaves it to a look after the run what is to be remembered of a name.
    pub(super) fn open_question(&mut self, name: Name, known: Option<Known>) {
        self.open.push(Open { name, hash: None, planned: None });
        self.remembered.extend(known);
        self.changed = true;
    }

    pub(super) fn item(&mut self, name: Name, left: Option<Meta>, right: Option<Meta>, known: Option<Known>) {
        let mut read = None;
        let verdict = match self.visited.mode {
            Mode::Reconcile => {
                match self.reconciled(&name, (left.as_ref(), right.as_ref()), known.as_ref(), &mut read) {
                    Ok(verdict) => verdict,
                    Err((side, error)) => {
                        self.found.problems.push(Problem::from_error(side, &error));
                        self.stays(left.is_some(), right.is_some());
                        self.remembered.extend(known);
                        return;
                    }
                }
            }
            Mode::Take(side) => self.taken_over(side, &name, left.as_ref(), right.as_ref()),
        };
        let role = if self.visited.mode == Mode::Reconcile { Role::Plain } else { Role::Loser };
        let (verdict, role) = match (verdict, &left, &right) {
            (Verdict::Nothing, Some(left), Some(right)) => match self.unless_rotten(&name, left, right) {
                Verdict::Carry(side) => (Verdict::Carry(side), Role::Loser),
                verdict => (verdict, role),
            },
            (verdict, ..) => (verdict, role),
        };
        match verdict {
            Verdict::Nothing => {
                self.found.same += 1;
                self.stays(true, true);
                let hashed = known.map(|known| known.with_hash(read).seen_now());
                self.changed |= read.is_some();
                self.remembered.extend(hashed);
            }
            Verdict::Forget => self.open_question(name, known),
            Verdict::Keep(side) => {
                self.visited.remains[at(side)] = true;
                self.remembered.extend(known.map(Known::seen_now));
            }
            Verdict::Adjust | Verdict::Conflict => {
                // Both come with an entry at either side.
                let (Some(left), Some(right)) = (left, right) else { return };
                match verdict {
                    Verdict::Adjust => self.adjust(name, left, right, known, read),
                    _ => self.settle_conflict(name, left, right, known),
                }
            }
            Verdict::Carry(side) if known.is_none() && self.has_come_round(&name, (&left, &right)) => {
                let message = "it was removed here before, and has come round by way of other jobs, which form a circle with this one: remove it there too, or save it anew to keep it";
                self.refuse(Code::CameRound, side.other(), &name, message.to_owned());
            }
            Verdict::Carry(side) | Verdict::Revive(side) | Verdict::Remove(side) => {
                let (there, here) = if side == Side::Right { (left, right) } else { (right, left) };
                self.change(name, (verdict, side), (there, here), known, role);
            }
        }
    }

    /// Whether what one side alone has is a version that was ended at both.
    fn has_come_round(&self, name: &Name, (left, right): (&Option<Meta>, &Option<Meta>)) -> bool {
        let ((None, Some(found)) | (Some(found), None)) = (left, right) else { return false };
        let ended = self.input.ended.get(&self.visited.path.join(name));
        let is_it = |side| {
            ended.is_some_and(|was| was.state(side, Some(found), &mut |_| false) != SideChange::Changed)
        };
        is_it(Side::Left) || is_it(Side::Right)
    }

    /// Where something in the folder is at a side now.
    pub(super) fn now_at(&self, side: Side, name: &Name) -> RelPath {
        self.now_at[at(side)].join(self.spellings.now_as(side, name))
    }

    /// What of names one of the sides does not tell apart.
    pub(super) fn folding(&self) -> Folding {
        self.input.left.capabilities().folding.or(self.input.right.capabilities().folding)
    }

    fn folds(&self) -> bool {
        self.folding().is_any()
    }

    /// Puts together what one of the stores takes for one name: where the two sides spell it differently, the side that still has
    /// the spelling that is remembered gets the other one. Several names of one side that are one at the other are a problem.
    fn unify(
        &mut self,
        mut left: Vec<Judged>,
        mut right: Vec<Judged>,
        mut known: Vec<Known>,
    ) -> (Vec<Judged>, Vec<Judged>, Vec<Known>) {
        if !self.folds() {
            return (left, right, known);
        }
        self.spellings = Spellings::of(self.folding(), &left, &right, &known);
        for names in std::mem::take(&mut self.spellings.clashes) {
            let folds_right = self.input.right.capabilities().folding.is_any();
            if let Some((first, message)) = clash_words(&names) {
                self.refuse(
                    Code::NameClash,
                    if folds_right { Side::Right } else { Side::Left },
                    &first,
                    message,
                );
            }
        }
        for Respelling { side, from, to } in std::mem::take(&mut self.spellings.given) {
            let own = if side == Side::Left { &mut left } else { &mut right };
            let Some(found) = own.iter_mut().find(|found| found.name == from) else { continue };
            found.name = to.clone();
            let was = Box::new(found.meta.clone());
            let step = Step::Respell { from: self.visited.path.join(&from), was };
            let action = Action { name: to, side, step, role: Role::Plain, instead_of: None };
            // Before anything else: what follows speaks of the new spelling.
            self.found.aside.push((self.visited.path.clone(), action));
        }
        for (from, to) in &self.spellings.remembered {
            if let Some(at) = known.iter().position(|known| known.name == *from) {
                known[at].name = to.clone();
                self.changed = true;
            }
        }
        left.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        right.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        known.sort_by(|a, b| a.name.cmp(&b.name));
        known.dedup_by(|a, b| a.name == b.name);
        (left, right, known)
    }

    /// Whether a name that is to come to a side would be taken for another one that it holds.
    pub(super) fn clashes(&mut self, side: Side, name: &Name) -> bool {
        if !self.folds() || self.folded[at(side)].insert(self.folding().key(name)) {
            return false;
        }
        let message = "another name in this folder differs only in upper and lower case, or in the form of its characters";
        self.refuse(Code::NameClash, side, name, message.to_owned());
        true
    }

    /// Hands over what was decided; returns the folders below.
    fn finish(mut self) -> Vec<Task> {
        let on_both = self.visited.left.is_some() && self.visited.right.is_some();
        if self.changed {
            self.remembered.sort_by(|a, b| a.name.cmp(&b.name));
            let folder = self.visited.path.clone();
            let (known, looked) = (self.remembered, Some(self.input.now));
            self.found.news.push(FolderNews { folder, known, looked, open: self.open });
        }
        if !on_both || self.touched || !self.visited.actions.is_empty() || self.visited.mode_wanted.is_some()
        {
            self.found.visited.push(self.visited);
        }
        self.below
    }
}

/// Whether an entry is on another file system than the folder that holds it, at whichever side it is.
fn above_differs(folder: &Visited, meta: &Meta, device: impl Fn(&Meta) -> Option<u64>) -> bool {
    let here = device(meta);
    here.is_some() && [&folder.left, &folder.right].into_iter().flatten().all(|above| device(above) != here)
}
