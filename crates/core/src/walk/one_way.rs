//! The one-way walk: the destination is to become as the source.

pub use crate::walk::scan_input::ScanInput;

use std::collections::{HashMap, HashSet};
use std::sync::atomic::AtomicBool;

use crate::content::{self, FileAt};
use crate::entry::{EntryKind, Meta, Side};
use crate::filter::{Inherited, Verdict};
use crate::path::{Name, RelPath};
use crate::plan::one_way::{Decision, LeaveReason, decide, decide_by_content};
use crate::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use crate::problem::{Code, Problem};
use crate::store::Store;
use crate::store::error::Result;
use crate::walk::findings::{SeveralNames, Visited, WorkerFindings};
use crate::walk::given::Corruption;
use crate::walk::pair::{BothSides, Judged, Looked, Met, Spellings, Spot, merge};
use crate::walk::progress::{ScanError, ScanProgress};
use crate::walk::queue::visit_all;
use crate::walk::refusals::{clash_words, is_lost, refusal_of, why_not_held};
use crate::walk::renames::turn_into_renames;
use crate::walk::settle;
use crate::walk::task::{Task, root_task};

/// Reads both trees and plans what a one-way run would do. Nothing is changed anywhere.
///
/// # Errors
/// When a root cannot be listed, a store is lost, or `progress.stop` is set.
pub fn scan(input: &ScanInput<'_>, progress: &ScanProgress) -> Result<Plan, ScanError> {
    let root = root_task(input)?;
    let visit = |found: &mut WorkerFindings, task| Visit::run(input, progress, found, task);
    let found = visit_all((input.left, input.right), root, progress, visit)?;
    let mut plan = settle::assemble(found);
    let stores = (input.left, input.right);
    match turn_into_renames(&mut plan, stores, &input.rules.by, input.moves, &progress.stop) {
        true => Ok(plan),
        false => Err(ScanError::Stopped),
    }
}

/// What a run would do about one path, and what it would say of it.
#[derive(Debug)]
pub struct PathDecision {
    /// What is done.
    pub decision: Decision,
    /// Only the content could tell, so it was read.
    pub read: bool,
    /// Why the destination does not get it all the same, in words.
    pub withheld: Option<String>,
    /// What would be told as a problem.
    pub problems: Vec<Problem>,
}

/// Decides one path as a scan does, given what both sides hold there; nothing when neither holds anything. Nothing is changed anywhere.
///
/// # Errors
/// When the folder that it is in cannot be looked at.
pub fn decide_path(
    input: &ScanInput<'_>,
    stop: &AtomicBool,
    path: &RelPath,
    (left, right): (Option<&Meta>, Option<&Meta>),
) -> Result<Option<PathDecision>, ScanError> {
    let Some((folder, name)) = path.split().filter(|_| left.is_some() || right.is_some()) else {
        return Ok(None);
    };
    let stat = |side, store: &dyn Store| store.stat(&folder).map_err(|error| ScanError::Store(side, error));
    let above = (stat(Side::Left, input.left)?, stat(Side::Right, input.right)?);
    let mut found = WorkerFindings::default();
    let mut visit = Visit::new(input, stop, &mut found, Task::of(folder, above, input.filter.root()));
    let read = match decide(&input.rules, left, right) {
        Decision::Unsure => true,
        Decision::Same | Decision::Metadata => left.is_some_and(|left| visit.is_known_as_fresh(&name, left)),
        _ => false,
    };
    let decision = match left {
        Some(left) if left.is_folder() => match visit.foreign_file_system(&name, left) {
            Some(reason) => Decision::Leave(reason),
            None => decide(&input.rules, Some(left), right),
        },
        Some(left) => visit.item_decision(&name, left, right),
        None => decide(&input.rules, None, right),
    };
    let brings = matches!(decision, Decision::Add | Decision::Update | Decision::Replace);
    let withheld = left.filter(|_| brings);
    let withheld = withheld.and_then(|left| why_not_held(input.right.capabilities(), &name, left));
    Ok(Some(PathDecision { decision, read, withheld, problems: found.plan.problems }))
}

/// The visit of one folder.
pub(super) struct Visit<'a> {
    pub(super) input: &'a ScanInput<'a>,
    pub(super) stop: &'a AtomicBool,
    pub(super) found: &'a mut WorkerFindings,
    pub(super) visited: Visited,
    pub(super) below: Vec<Task>,
    /// Names whose counterpart is unknown on the given side.
    pub(super) unknown: HashSet<Name>,
    /// The left listing broke off: what it lacks may exist.
    pub(super) left_incomplete: bool,
    /// The right folder is, or lies in, the root of another job's side.
    pub(super) anothers: bool,
    /// Where the folder is at the right now, and the names in it that are spelled otherwise there.
    pub(super) right_at: RelPath,
    pub(super) right_names: HashMap<Name, Name>,
}

impl<'a> Visit<'a> {
    pub(super) fn run(
        input: &'a ScanInput<'a>,
        progress: &'a ScanProgress,
        found: &'a mut WorkerFindings,
        task: Task,
    ) -> Result<Vec<Task>, ScanError> {
        let (inherited, hollow) = (task.inherited, task.hollow);
        let mut visit = Visit::new(input, &progress.stop, found, task);
        let entries = if hollow { None } else { visit.read(inherited, progress)? };
        if let Some((left, right)) = entries {
            visit.decide_all(left, right, inherited);
        }
        Ok(visit.finish())
    }

    pub(super) fn new(
        input: &'a ScanInput<'a>,
        stop: &'a AtomicBool,
        found: &'a mut WorkerFindings,
        task: Task,
    ) -> Visit<'a> {
        let fate = match (&task.left, &task.right) {
            (Some(_), None) => Fate::Make,
            (None, Some(_)) => Fate::Remove,
            _ => Fate::Stay,
        };
        let plan = FolderPlan {
            path: task.path,
            fate,
            left: task.left,
            right: task.right,
            remode: false,
            actions: Vec::new(),
        };
        let visited = Visited { plan, chosen: task.chosen, stays: false, touched: false };
        Visit {
            input,
            stop,
            found,
            visited,
            below: Vec::new(),
            unknown: HashSet::new(),
            left_incomplete: false,
            anothers: task.anothers,
            right_at: task.right_at,
            right_names: HashMap::new(),
        }
    }

    /// Looks at the side or sides that have the folder; `None` when it has to be left alone.
    pub(super) fn read(
        &mut self,
        inherited: Inherited,
        progress: &ScanProgress,
    ) -> Result<Option<BothSides>, ScanError> {
        let plan = &self.visited.plan;
        let spot = Spot {
            path: &plan.path,
            now_at: [&plan.path, &self.right_at],
            there: [plan.left.is_some(), plan.right.is_some()],
            anothers: [false, self.anothers],
            inherited,
        };
        let looked = self.input.pair().look(&spot, progress, &mut self.found.plan.problems)?;
        let Some(Looked { halves: [left, right], unknown, anothers }) = looked else {
            self.visited.stays = true;
            return Ok(None);
        };
        self.visited.stays |= left.incomplete || right.incomplete || !unknown.is_empty();
        (self.unknown, self.left_incomplete, self.anothers) = (unknown, left.incomplete, anothers[1]);
        if right.incomplete {
            // Without knowing what is there, nothing can be put there.
            return Ok(None);
        }
        self.found.plan.filtered += left.filtered;
        self.found.plan.leftovers.extend(right.leftovers);
        Ok(Some((left.entries, right.entries)))
    }

    pub(super) fn decide_all(&mut self, left: Vec<Judged>, mut right: Vec<Judged>, inherited: Inherited) {
        let folding = self.input.right.capabilities().folding;
        let spellings = Spellings::of(folding, &left, &right, &[]);
        for names in &spellings.clashes {
            self.refuse_clash(names);
        }
        let respelled = spellings.given.iter().map(|given| (&given.to, &given.from));
        let unlike = spellings.unlike.iter().map(|(ours, theirs)| (ours, theirs));
        self.right_names =
            respelled.clone().chain(unlike).map(|(ours, theirs)| (ours.clone(), theirs.clone())).collect();
        for (name, was) in respelled {
            if let Ok(found) = right.binary_search_by(|other| other.name.cmp(was)) {
                self.respell(name, &right[found]);
            }
        }
        self.spell_as_here(&mut right);
        for Met { left, right, .. } in merge(left, right, Vec::new()) {
            let name = left.as_ref().or(right.as_ref()).map(|found| &found.name);
            if name.is_some_and(|name| spellings.clash(name)) {
                continue;
            }
            match (left, right) {
                (Some(item), counterpart) => self.on_left(item, counterpart, inherited),
                (None, Some(extra)) => self.right_only(extra),
                (None, None) => {}
            }
        }
    }

    /// Gives what is at the right the names that it has here.
    pub(super) fn spell_as_here(&self, right: &mut [Judged]) {
        if self.right_names.is_empty() {
            return;
        }
        let here: HashMap<&Name, &Name> =
            self.right_names.iter().map(|(ours, theirs)| (theirs, ours)).collect();
        for other in right.iter_mut() {
            if let Some(name) = here.get(&other.name) {
                other.name = (*name).clone();
            }
        }
        right.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    }

    /// Gives what stands there the spelling that its name has here.
    pub(super) fn respell(&mut self, name: &Name, other: &Judged) {
        let from = self.visited.plan.path.join(&other.name);
        self.act(name.clone(), Step::Respell { from, was: Box::new(other.meta.clone()) });
        self.visited.touched = true;
    }

    /// Where something in the folder is at the right now.
    pub(super) fn now_at_right(&self, name: &Name) -> RelPath {
        self.right_at.join(self.right_names.get(name).unwrap_or(name))
    }

    /// Names that would be one there: none of them is touched.
    pub(super) fn refuse_clash(&mut self, names: &[Name]) {
        if let Some((first, message)) = clash_words(names) {
            self.refuse(Code::NameClash, Side::Right, &first, message);
        }
    }

    pub(super) fn on_left(&mut self, item: Judged, counterpart: Option<Judged>, inherited: Inherited) {
        let Some(verdict) = item.verdict else {
            self.visited.stays |= counterpart.is_some();
            self.found.plan.beyond += u64::from(item.beyond && counterpart.is_some());
            return;
        };
        if self.unknown.contains(&item.name) {
            return;
        }
        self.found.plan.left_items += u64::from(item.meta.is_item());
        if counterpart
            .as_ref()
            .is_some_and(|other| other.verdict.is_none() && other.meta.is_folder() != item.meta.is_folder())
        {
            let message = "what stands there is left alone by the filter".to_owned();
            return self.refuse(Code::Occupied, Side::Right, &item.name, message);
        }
        // A file that its size or age keeps out on the right alone is still this file's older version.
        let right = counterpart.map(|other| other.meta);
        self.found.plan.right_items += u64::from(right.as_ref().is_some_and(Meta::is_item));
        if item.meta.is_folder() {
            self.folder_on_left(item.name, item.meta, right, verdict);
        } else {
            self.item_on_left(item.name, item.meta, right, inherited);
        }
    }

    pub(super) fn folder_on_left(&mut self, name: Name, left: Meta, right: Option<Meta>, verdict: Verdict) {
        let chosen = verdict == Verdict::In;
        let right_folder = match decide(&self.input.rules, Some(&left), right.as_ref()) {
            Decision::Problem(code) => {
                return self.refuse(code, Side::Right, &name, "a folder here, but a file there".to_owned());
            }
            Decision::Replace => {
                if let Some(was) = right {
                    self.plan_removal(name.clone(), was);
                }
                None
            }
            _ => right,
        };
        if right_folder.is_none() && self.cannot_hold(&name, &left) {
            return;
        }
        let foreign = self.foreign_file_system(&name, &left);
        if let Some(reason) = foreign {
            self.act(name.clone(), Step::Leave { from: left.clone(), reason });
        }
        self.descend(&name, Some(left), right_folder, verdict, (chosen, foreign.is_some()));
    }

    /// Why the content of a folder is left out: another file system is mounted there.
    pub(super) fn foreign_file_system(&self, name: &Name, left: &Meta) -> Option<LeaveReason> {
        let device = |meta: &Meta| meta.id.map(|id| id.device);
        let here = self.visited.plan.left.as_ref().and_then(device);
        if here.is_none() || here == device(left) {
            return None;
        }
        if self.input.one_filesystem {
            return Some(LeaveReason::OtherFileSystem);
        }
        let pseudo = self.input.left.is_pseudo(&self.visited.plan.path.join(name)).unwrap_or(false);
        pseudo.then_some(LeaveReason::PseudoFileSystem)
    }

    /// What is done about a file or link of the left.
    pub(super) fn item_decision(&mut self, name: &Name, left: &Meta, right: Option<&Meta>) -> Decision {
        match decide(&self.input.rules, Some(left), right) {
            // Alone on the left, but on the right a second name of something: it has to become a file of its own.
            Decision::Same if self.is_parted(left, right) => Decision::Update,
            Decision::Unsure => self.by_content(name, left, right),
            Decision::Same | Decision::Metadata if self.is_known_as_fresh(name, left) => {
                self.by_content(name, left, right)
            }
            // A drive may show one time for many that it cannot hold.
            Decision::Same if self.is_cut(left) => self.by_content(name, left, right),
            Decision::Same => self.unless_rotten(name, left, right),
            decision => decision,
        }
    }

    pub(super) fn is_cut(&self, left: &Meta) -> bool {
        let limits = self.input.left.capabilities().limits;
        left.kind == EntryKind::File
            && left.size > 0
            && left.modified.is_some_and(|modified| limits.cuts(modified))
    }

    pub(super) fn is_known_as_fresh(&self, name: &Name, left: &Meta) -> bool {
        let known = self.input.fresh.known;
        !known.is_empty()
            && left.kind == EntryKind::File
            && known.binary_search(&self.visited.plan.path.join(name)).is_ok()
    }

    /// Takes note of a file whose time cannot tell whether it was saved once more, whatever is done about it: what is carried is
    /// read only now, and what failed is as unknown as before.
    pub(super) fn note_fresh(&mut self, name: &Name, left: &Meta, right: Option<&Meta>, decision: Decision) {
        let known = self.is_known_as_fresh(name, left);
        // What somebody saves while its time is being set gets that time.
        let retimed = decision == Decision::Metadata
            && left.kind == EntryKind::File
            && self.input.fresh.looked.is_some()
            && right.is_some_and(|right| !self.input.rules.by.same_time(left, right));
        let fresh = retimed
            || self.input.fresh.looked.is_some_and(|looked| self.input.rules.by.is_fresh(left, looked));
        let proved = matches!(decision, Decision::Same | Decision::Metadata);
        if fresh || (known && !proved) {
            self.found.plan.fresh.push(self.visited.plan.path.join(name));
        } else if known {
            self.found.plan.proved.push(self.visited.plan.path.join(name));
        }
    }

    pub(super) fn item_on_left(&mut self, name: Name, left: Meta, right: Option<Meta>, inherited: Inherited) {
        let decision = self.item_decision(&name, &left, right.as_ref());
        self.note_names(&name, &left, right.as_ref(), decision);
        self.note_fresh(&name, &left, right.as_ref(), decision);
        match (decision, right) {
            (Decision::Same, right) => {
                self.found.plan.same += 1;
                if let (Some(on_same), Some(right), EntryKind::File) = (self.input.on_same, &right, left.kind)
                {
                    on_same(&self.visited.plan.path.join(&name), &left, right);
                }
            }
            (Decision::Add, _) => self.plan_add(name, left),
            (Decision::Update, Some(was)) => self.plan_update(name, left, was),
            (Decision::Metadata, Some(was)) => {
                self.act(name, Step::Metadata { from: left, was: Box::new(was) });
            }
            (Decision::Replace, Some(was)) if was.is_folder() => {
                // What a line says of the name holds for what stands there now as for what comes.
                let verdict = match self.input.filter.judge(&self.visited.plan.path, &name, &was, inherited) {
                    Verdict::Out(_) => Verdict::Through,
                    verdict => verdict,
                };
                self.descend(&name, None, Some(was), verdict, (true, false));
                self.plan_add(name, left);
            }
            (Decision::Replace, Some(was)) => {
                self.plan_removal(name.clone(), was);
                self.plan_add(name, left);
            }
            (Decision::Leave(reason), right) => {
                self.visited.stays |= right.is_some();
                self.act(name, Step::Leave { from: left, reason });
            }
            (Decision::Problem(code), _) => {
                self.refuse(
                    code,
                    Side::Right,
                    &name,
                    "the two sides hold different kinds of thing".to_owned(),
                );
            }
            // Without a right entry the decision is one of those above.
            _ => {}
        }
    }

    /// What looks the same is the same, unless it is known to have changed by itself.
    pub(super) fn unless_rotten(&mut self, name: &Name, left: &Meta, right: Option<&Meta>) -> Decision {
        let rot = self.input.corrupted;
        let folder = &self.visited.plan.path;
        let Some(known) = right.and_then(|right| rot.of(folder, name, left, right)) else {
            return Decision::Same;
        };
        if rot.mends(known) {
            let there = self.now_at_right(name);
            let ours = FileAt { store: self.input.left, path: &known.path };
            let theirs = FileAt { store: self.input.right, path: &there };
            let same =
                content::equal(ours, theirs, left.size, (true, self.stop), &mut |_| {}).unwrap_or(false);
            return if same { Decision::Same } else { Decision::Update };
        }
        let problem = Corruption::problem(known);
        self.problem(problem);
        Decision::Same
    }

    /// Decides by content what nothing else can tell. Where it cannot be read, the files count as different: bringing the left
    /// one over keeps the right one's copy.
    pub(super) fn by_content(&mut self, name: &Name, left: &Meta, right: Option<&Meta>) -> Decision {
        let (here, there) = (self.visited.plan.path.join(name), self.now_at_right(name));
        let ours = FileAt { store: self.input.left, path: &here };
        let theirs = FileAt { store: self.input.right, path: &there };
        let same = content::equal(ours, theirs, left.size, (false, self.stop), &mut |_| {}).unwrap_or(false);
        let right = right.unwrap_or(left);
        if same {
            self.input.left.proved(&here, left);
            self.input.right.proved(&there, right);
        }
        self.found.plan.shifted += u64::from(same && self.input.rules.by.is_shifted(left, right));
        decide_by_content(&self.input.rules, left, right, same)
    }

    /// Remembers a file that has several names on the left: which of them belong together is settled at the end.
    pub(super) fn note_names(&mut self, name: &Name, left: &Meta, right: Option<&Meta>, decision: Decision) {
        let several = |meta: &Meta| meta.extra.as_ref().is_some_and(|extra| extra.names > 1);
        if !self.input.rules.by.full || left.kind != EntryKind::File || !several(left) {
            return;
        }
        if let Some(id) = left.id {
            self.visited.touched = true;
            self.found.named.push(SeveralNames {
                id,
                folder: self.visited.plan.path.clone(),
                name: name.clone(),
                left: left.clone(),
                right: right.filter(|right| right.is_item()).cloned(),
                same: matches!(decision, Decision::Same | Decision::Metadata),
                brought: !matches!(decision, Decision::Leave(_) | Decision::Problem(_)),
            });
        }
    }

    pub(super) fn is_parted(&self, left: &Meta, right: Option<&Meta>) -> bool {
        let names = |meta: &Meta| meta.extra.as_ref().map_or(1, |extra| extra.names);
        let file = left.kind == EntryKind::File;
        self.input.rules.by.full && file && names(left) == 1 && right.is_some_and(|right| names(right) > 1)
    }

    pub(super) fn plan_add(&mut self, name: Name, left: Meta) {
        if !self.cannot_hold(&name, &left) {
            self.act(name, Step::Add { from: left });
        }
    }

    pub(super) fn plan_update(&mut self, name: Name, left: Meta, was: Meta) {
        if !self.cannot_take(&name, &left, true) {
            self.act(name, Step::Update { from: left, was: Box::new(was) });
        }
    }

    pub(super) fn right_only(&mut self, item: Judged) {
        let Some(verdict) = item.verdict else {
            self.visited.stays = true;
            return;
        };
        if self.left_incomplete || self.unknown.contains(&item.name) {
            self.visited.stays = true;
            return;
        }
        self.found.plan.right_items += u64::from(item.meta.is_item());
        match decide(&self.input.rules, None, Some(&item.meta)) {
            Decision::Remove if item.meta.is_folder() => {
                self.descend(&item.name, None, Some(item.meta), verdict, (verdict == Verdict::In, false));
            }
            Decision::Remove => self.plan_removal(item.name, item.meta),
            // A copy still counts what lies in there, for its guards have nothing to do with removals.
            _ => self.visited.stays = true,
        }
    }

    pub(super) fn plan_removal(&mut self, name: Name, was: Meta) {
        self.act(name, Step::Remove { was });
    }

    pub(super) fn act(&mut self, name: Name, step: Step) {
        let (side, role, instead_of) = (Side::Right, Role::Plain, None);
        self.visited.plan.actions.push(Action { name, side, step, role, instead_of });
    }

    pub(super) fn descend(
        &mut self,
        name: &Name,
        left: Option<Meta>,
        right: Option<Meta>,
        verdict: Verdict,
        (chosen, hollow): (bool, bool),
    ) {
        let path = self.visited.plan.path.join(name);
        let on_both = left.is_some() && right.is_some();
        if on_both && !self.input.scope.enters(&path) {
            return;
        }
        let inherited = self.input.filter.inherit(verdict);
        self.visited.touched |= !on_both;
        let (anothers, right_at) = (self.anothers, self.now_at_right(name));
        self.below.push(Task { path, right_at, left, right, inherited, chosen, hollow, anothers });
    }

    /// Whether the destination's limits rule the entry out; reported when they do.
    pub(super) fn cannot_hold(&mut self, name: &Name, meta: &Meta) -> bool {
        self.cannot_take(name, meta, false)
    }

    /// The same; something with that name may be there, so that the name is no question.
    pub(super) fn cannot_take(&mut self, name: &Name, meta: &Meta, named: bool) -> bool {
        if is_lost(self.input.right.capabilities(), meta) {
            self.visited.stays = true;
            return true;
        }
        match refusal_of(self.input.right.capabilities(), (name, named), meta) {
            Some((code, message)) => {
                self.refuse(code, Side::Right, name, message);
                true
            }
            None => false,
        }
    }

    pub(super) fn refuse(&mut self, code: Code, side: Side, name: &Name, message: String) {
        self.visited.stays = true;
        let path = self.visited.plan.path.join(name);
        self.problem(Problem::new(code, side, path, message));
    }

    pub(super) fn problem(&mut self, problem: Problem) {
        self.found.plan.problems.push(problem);
    }

    /// Hands the folder over when it says anything, and the folders below.
    pub(super) fn finish(mut self) -> Vec<Task> {
        let plan = &mut self.visited.plan;
        if let (Some(left), Some(right)) = (&plan.left, &plan.right) {
            let by = &self.input.rules.by;
            // The root of a destination belongs to the person or the drive: its mode is theirs.
            let same_rights = by.same_mode(left, right) && by.same_rights(left, right);
            plan.remode = self.visited.chosen && !plan.path.is_root() && !same_rights;
            let retime = self.visited.chosen && !by.same_time(left, right);
            if plan.actions.is_empty() && !plan.remode && !retime && !self.visited.touched {
                self.found.plan.folders_seen += 1;
                return self.below;
            }
        }
        self.found.plan.folders_seen += u64::from(plan.left.is_some());
        self.found.folders.push(self.visited);
        self.below
    }
}
