//! The engine: carries a plan out, in the documented order.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::compare::Comparison;
use crate::content;
use crate::entry::{EntryKind, Extra, Meta, Rights, SPECIAL_BITS, Side, Stamp};
use crate::job::{Preserve, Removed};
use crate::path::{JUDGED_PREFIX, Name, PART_PREFIX, RelPath, part_name};
use crate::plan::{Action, Counts, Fate, FolderPlan, Plan, Role, Step};
use crate::problem::Problem;
use crate::run::event::{Done, Event, Gone, Item, Mark, step_size};
use crate::run::input::{RESUME_FROM, RunInput, kept_folder, resume_key};
use crate::store::Attributes;
use crate::store::error::{FaultKind, StoreError};

/// Two times that are to differ do so by this at least: the clocks of file systems tick no faster.
pub(super) const FINEST_STEP: Duration = Duration::from_millis(10);

/// Why the engine gives up early.
#[derive(Debug)]
pub(super) enum Halt {
    Stopped,
    Lost(Side, StoreError),
}

/// One transfer that a worker takes: an action of a folder.
#[derive(Clone, Copy)]
pub(super) struct PlannedItem<'a> {
    pub(super) folder: &'a FolderPlan,
    pub(super) action: &'a Action,
}

impl PlannedItem<'_> {
    pub(super) fn path(&self) -> RelPath {
        self.folder.path.join(&self.action.name)
    }
}

#[derive(Default)]
pub(super) struct RunState {
    pub(super) counts: Counts,
    pub(super) folders_made: u64,
    pub(super) folders_removed: u64,
    pub(super) unfinished: u64,
    /// Folders that could not be made: nothing in them can be done.
    pub(super) failed_folders: HashSet<RelPath>,
    /// Folders that were given write permission for the time of the run, with the mode to give back.
    pub(super) opened: Vec<(RelPath, u32)>,
    /// Folders that were made, as they were then: they are finished by what they are, not by their names.
    pub(super) made_folders: HashMap<RelPath, Meta>,
    /// Folders below `.reedhook/kept/RUN/` that exist.
    pub(super) kept_folders: HashMap<RelPath, Meta>,
    /// Those of them that a worker is making just now.
    pub(super) making: HashSet<RelPath>,
}

pub(super) struct Engine<'a> {
    pub(super) plan: &'a Plan,
    pub(super) input: &'a RunInput<'a>,
    pub(super) kept: RelPath,
    /// What the two stores can both express.
    pub(super) by: Comparison,
    pub(super) state: Mutex<RunState>,
    /// Whether it has been written down whose the kept copies of this run are; held while that is done.
    pub(super) owned: Mutex<bool>,
    /// Rings when a folder among the kept copies was made, or could not be.
    pub(super) made: Condvar,
    pub(super) outbox: Mutex<Outbox>,
}

/// Events that nobody has been told yet: waking a reader costs more than what it is told.
pub(super) struct Outbox {
    pub(super) events: Vec<Event>,
    pub(super) told: Instant,
}

/// Finished items are told in groups of this size, or after so long, or with the next event that cannot wait.
pub(super) const TOLD_TOGETHER: usize = 256;

pub(super) const TOLD_WITHIN: Duration = Duration::from_millis(50);

impl<'a> Engine<'a> {
    pub(super) fn new(plan: &'a Plan, input: &'a RunInput<'a>) -> Engine<'a> {
        let (same, conflicts, settled) = (plan.same, plan.held, plan.settled);
        let counts = Counts { same, conflicts, settled, ..Counts::default() };
        let state = RunState { counts, ..RunState::default() };
        Engine {
            plan,
            input,
            kept: kept_folder(&input.run),
            by: Comparison::between(input.left.capabilities(), input.right.capabilities(), input.preserve),
            state: Mutex::new(state),
            owned: Mutex::new(false),
            made: Condvar::new(),
            outbox: Mutex::new(Outbox { events: Vec::new(), told: Instant::now() }),
        }
    }

    pub(super) fn state(&self) -> std::sync::MutexGuard<'_, RunState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn run(&self) -> Result<(), Halt> {
        for problem in &self.plan.problems {
            // The plan has the real names already.
            let side = real_side(self.plan, problem.side);
            self.problem(Problem { side, ..problem.clone() });
        }
        self.report_left();
        let worked = self.work();
        // Whatever happened: folders that were opened are closed again, and what was done is made durable.
        let closed = self.finish_folders(worked.is_ok()).and_then(|()| self.finish_kept());
        let synced = if self.did_something() { self.right(self.input.right.sync()) } else { Ok(()) };
        self.flush();
        worked.and(closed).and(synced)
    }

    pub(super) fn did_something(&self) -> bool {
        let state = self.state();
        state.counts.changed() + state.folders_made + state.folders_removed > 0
    }

    pub(super) fn work(&self) -> Result<(), Halt> {
        self.clear_leftovers()?;
        self.open_folders()?;
        let early = self.removals_in_the_way();
        self.for_each(&early.items, |item| self.remove(item, InTheWay::Yes))?;
        self.make_folders()?;
        for item in self.moves() {
            self.rename(&item)?;
        }
        let (now, late) = self.transfers();
        let (names_now, names_late) = self.second_names();
        self.transfer(&now)?;
        self.transfer(&names_now)?;
        let rest: Vec<_> = self.removals().filter(|item| !early.paths.contains(&item.path())).collect();
        self.for_each(&rest, |item| self.remove(item, InTheWay::No))?;
        self.remove_folders()?;
        self.transfer(&late)?;
        self.transfer(&names_late)
    }

    /// How many threads bring files over.
    pub(super) fn worker_count(&self) -> usize {
        let (left, right) = (self.input.left.capabilities(), self.input.right.capabilities());
        if left.one_stream || right.one_stream { 1 } else { left.workers.max(right.workers).max(1) }
    }

    /// Whether calls to one of the stores wait for a network.
    pub(super) fn is_remote(&self) -> bool {
        self.input.left.capabilities().remote || self.input.right.capabilities().remote
    }

    /// Does something for each item, in their order; where calls wait for a network, for many at once.
    pub(super) fn for_each<T: Sync>(
        &self,
        items: &[T],
        work: impl Fn(&T) -> Result<(), Halt> + Sync,
    ) -> Result<(), Halt> {
        let threads = if self.is_remote() { self.worker_count().min(items.len()) } else { 1 };
        if threads < 2 {
            return items.iter().try_for_each(work);
        }
        let next = AtomicUsize::new(0);
        let halted = AtomicBool::new(false);
        let one = || {
            while let Some(item) = items.get(next.fetch_add(1, Ordering::Relaxed)) {
                if halted.load(Ordering::Relaxed) {
                    break;
                }
                work(item).inspect_err(|_| halted.store(true, Ordering::Relaxed))?;
            }
            Ok(())
        };
        std::thread::scope(|scope| {
            let threads: Vec<_> = (0..threads).map(|_| scope.spawn(one)).collect();
            let ends = threads.into_iter().map(content::joined);
            ends.collect::<Vec<_>>().into_iter().collect()
        })
    }

    /// Folders by their depth, so that those of one depth can be worked on in any order.
    pub(super) fn by_depth(folders: impl Iterator<Item = &'a FolderPlan>) -> Vec<Vec<&'a FolderPlan>> {
        let mut levels: Vec<Vec<&FolderPlan>> = Vec::new();
        for folder in folders {
            let depth = folder.path.parts().count();
            if levels.len() <= depth {
                levels.resize_with(depth + 1, Vec::new);
            }
            levels[depth].push(folder);
        }
        levels
    }

    pub(super) fn go_on(&self) -> Result<(), Halt> {
        if self.input.stop.load(Ordering::Relaxed) { Err(Halt::Stopped) } else { Ok(()) }
    }

    pub(super) fn items(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        self.plan
            .folders
            .iter()
            .flat_map(|folder| folder.actions.iter().map(move |action| PlannedItem { folder, action }))
    }

    pub(super) fn removals(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        self.items().filter(|item| matches!(item.action.step, Step::Remove { .. }))
    }

    pub(super) fn folders_with(&self, fate: Fate) -> impl DoubleEndedIterator<Item = &'a FolderPlan> {
        self.plan.folders.iter().filter(move |folder| folder.fate == fate)
    }

    pub(super) fn report_left(&self) {
        for item in self.items() {
            if matches!(item.action.step, Step::Leave { .. }) {
                self.done(Item::new(Done::Left, item.path(), step_size(&item.action.step)), 0);
            }
        }
    }

    pub(super) fn clear_leftovers(&self) -> Result<(), Halt> {
        let resumable = self.resumable_parts();
        let is_needed = |path: &RelPath| {
            let name = path.file_name().unwrap_or_default();
            let parent = path.parent().unwrap_or_default();
            // What a store keeps beside an unfinished file has its name, and more behind it.
            let mut ends = (PART_PREFIX.len()..=name.len()).rev().map(|end| &name[..end]);
            !resumable.is_empty()
                && ends.any(|name| Name::new(name).is_ok_and(|name| resumable.contains(&parent.join(&name))))
        };
        for (path, meta) in self.plan.leftovers.iter().filter(|(path, _)| !is_needed(path)) {
            self.go_on()?;
            if path.file_name().is_some_and(|name| name.starts_with(JUDGED_PREFIX)) {
                self.settle_aside(path, meta)?;
                continue;
            }
            // A leftover that cannot be cleared harms nobody; the next run tries again.
            self.lost_only(Side::Right, self.input.right.remove(path, meta))?;
        }
        Ok(())
    }

    /// The unfinished files that this run can go on with.
    pub(super) fn resumable_parts(&self) -> HashSet<RelPath> {
        if self.plan.leftovers.is_empty() {
            return HashSet::new();
        }
        let part_of = |item: PlannedItem<'_>| match &item.action.step {
            Step::Add { from } | Step::Update { from, .. } if from.size >= RESUME_FROM => {
                let name = Name::new(&part_name(&resume_key(&item.path(), from))).ok()?;
                Some(item.folder.path.join(&name))
            }
            _ => None,
        };
        self.items().filter_map(part_of).collect()
    }

    /// The removals whose place is needed by a folder, or by something of another kind.
    pub(super) fn removals_in_the_way(&self) -> Early<'a> {
        let made: HashSet<&RelPath> = self.folders_with(Fate::Make).map(|folder| &folder.path).collect();
        let mut early = Early::default();
        for item in self.removals() {
            let path = item.path();
            let comes =
                |step: &Step| step.fills() || matches!(step, Step::Move { .. } | Step::MoveFolder { .. });
            let actions = &item.folder.actions;
            let first = actions.partition_point(|other| other.name < item.action.name);
            let mut same_name = actions[first..].iter().take_while(|other| other.name == item.action.name);
            let replaced = same_name.any(|other| comes(&other.step));
            if replaced || made.contains(&path) {
                early.paths.insert(path);
                early.items.push(item);
            }
        }
        early
    }

    pub(super) fn keeps_modes(&self) -> bool {
        // What a side without modes shows for one is its own idea, and nobody's wish.
        self.by.modes
    }

    /// The owners and extended attributes to give, where the job and both stores go that far.
    pub(super) fn extra(&self, from: &Meta) -> Option<Arc<Extra>> {
        let full = self.input.preserve == Preserve::Full && self.input.right.capabilities().full;
        let privileges = self.by.carries_privileges(from);
        from.extra.as_ref().filter(|_| full).map(|extra| extra.to_give(privileges))
    }

    /// What an undo gives back to an entry that is given other owners or attributes.
    pub(super) fn rights_before(&self, was: &Meta) -> Option<Box<Rights>> {
        Rights::of(was, self.input.right.capabilities().owners)
    }

    pub(super) fn is_folder(&self, path: &RelPath) -> bool {
        matches!(self.input.right.stat(path), Ok(Some(meta)) if meta.is_folder())
    }

    /// The adds, updates and metadata changes that can be done at once, and those that wait for a folder to go.
    pub(super) fn transfers(&self) -> (Vec<PlannedItem<'a>>, Vec<PlannedItem<'a>>) {
        let removed: HashSet<&RelPath> = self.folders_with(Fate::Remove).map(|folder| &folder.path).collect();
        let failed = self.state().failed_folders.clone();
        self.items()
            .filter(|item| {
                matches!(item.action.step, Step::Add { .. } | Step::Update { .. } | Step::Metadata { .. })
            })
            .filter(|item| failed.is_empty() || !failed.contains(&item.folder.path))
            .partition(|item| removed.is_empty() || !removed.contains(&item.path()))
    }

    /// Second names are made when the files they belong to are in place: those that can be made before folders go, and those that wait
    /// for one.
    pub(super) fn second_names(&self) -> (Vec<PlannedItem<'a>>, Vec<PlannedItem<'a>>) {
        let removed: HashSet<&RelPath> = self.folders_with(Fate::Remove).map(|folder| &folder.path).collect();
        let names = self.items().filter(|item| matches!(item.action.step, Step::SecondName { .. }));
        names.partition(|item| match &item.action.step {
            Step::SecondName { of, .. } => !removed.contains(of) && !removed.contains(&item.path()),
            _ => false,
        })
    }

    pub(super) fn remove(&self, item: &PlannedItem<'_>, in_the_way: InTheWay) -> Result<(), Halt> {
        self.go_on()?;
        let Step::Remove { was } = &item.action.step else { return Ok(()) };
        let path = item.path();
        if in_the_way == InTheWay::No && !self.is_absent_at_left(&path)? {
            return Ok(());
        }
        let removed = if item.action.role == Role::Loser { Removed::Keep } else { self.input.removed };
        let outcome = match removed {
            Removed::Erase => self.input.right.remove(&path, was).map(|()| None),
            Removed::Keep => self.keep(&path, was),
            Removed::Trash => self.input.right.trash(&path, was).map(|()| None),
        };
        match outcome {
            Ok(privileges) => {
                let gone = match removed {
                    Removed::Keep => Gone::Kept,
                    Removed::Trash => Gone::Trashed,
                    Removed::Erase => Gone::Erased,
                };
                let item = Item::new(Done::Removed, path, was.size);
                self.done(Item { was: Mark::of(was), gone, privileges, ..item }, 0);
            }
            // Somebody else removed it: that is what was wanted.
            Err(error) if error.kind == FaultKind::NotFound => {}
            Err(error) => self.failed(Side::Right, error, &path)?,
        }
        Ok(())
    }

    /// What stands at the left under just this name: a store that folds case answers for other spellings too.
    pub(super) fn stat_at_left(&self, path: &RelPath) -> Result<Option<Meta>, StoreError> {
        let left = self.input.left;
        let found = left.stat(path)?;
        if found.is_none() || !left.capabilities().folding.is_any() {
            return Ok(found);
        }
        let mut folder = RelPath::root();
        for part in path.parts() {
            let here = left.list(&folder)?.entries;
            let Some(entry) = here.into_iter().find(|entry| entry.name.as_bytes() == part) else {
                return Ok(None);
            };
            folder = folder.join(&entry.name);
        }
        Ok(found)
    }

    /// Whether what is to be removed because the left lacks it is still lacking there. What was put back meanwhile, or cannot
    /// be looked at, is reported, and its counterpart stays.
    pub(super) fn is_absent_at_left(&self, path: &RelPath) -> Result<bool, Halt> {
        match self.stat_at_left(path) {
            Ok(None) => Ok(true),
            Ok(Some(_)) => {
                self.failed(Side::Left, StoreError::new(FaultKind::Changed, "remove", path), path)?;
                Ok(false)
            }
            // A file or a link stands where the folder was.
            Err(error) if is_absence(&error) => Ok(true),
            Err(error) => self.failed(Side::Left, error, path).map(|()| false),
        }
    }

    /// What of an entry's metadata has to be set to make it like another's: only what differs, so that nothing else is touched.
    pub(super) fn change(&self, from: &Meta, was: &Meta) -> Attributes {
        let all = self.attributes(from);
        let same_mode = self.by.same_mode(from, was) && !self.by.is_unearned(from, was);
        // Privileges are given together with the owner that they belong to, or not at all.
        let privileged = !same_mode && all.mode.is_some_and(|mode| mode & SPECIAL_BITS != 0);
        let extra = all.extra.filter(|_| privileged || !self.by.same_rights(from, was));
        // Another owner takes special bits away: then the mode is set too.
        let same_mode = same_mode && extra.is_none();
        Attributes {
            modified: all.modified.filter(|_| !self.by.same_time(from, was)),
            mode: all.mode.filter(|_| !same_mode),
            extra,
        }
    }

    /// The mode that a file keeps when another content takes its place and no mode comes along. What lets whoever runs it act for
    /// another was meant for the old content.
    pub(super) fn own_mode(&self, was: &Meta) -> Option<u32> {
        let own = !self.keeps_modes() && self.input.right.capabilities().modes && was.kind == EntryKind::File;
        was.mode_without_list().filter(|_| own).map(|mode| mode & 0o777)
    }

    /// Whether what was read belongs to the owner that the plan saw. Who can write to a folder can put a file of their own in the place
    /// of another's, of its size and time; the planned owner must not be given to that.
    pub(super) fn is_owned_as_planned(&self, planned: &Meta, read: &Meta) -> bool {
        let owners = |extra: &Arc<Extra>| (extra.owner, extra.group);
        let both = planned.extra.as_ref().zip(read.extra.as_ref()).filter(|_| self.by.full);
        both.is_none_or(|(planned, read)| owners(planned) == owners(read))
    }

    /// What was read, with the owner and attributes that the plan saw, and no privileges that it did not see.
    pub(super) fn with_planned_rights(&self, planned: &Meta, read: Meta) -> Meta {
        let seen = planned.mode.unwrap_or(0) | !SPECIAL_BITS;
        let bare = |mode: Option<u32>| mode.map(|mode| mode & seen);
        Meta { mode: bare(read.mode), unlisted: bare(read.unlisted), extra: planned.extra.clone(), ..read }
    }

    /// What of an entry's metadata the destination can hold.
    pub(super) fn attributes(&self, from: &Meta) -> Attributes {
        let can = self.input.right.capabilities();
        let link = from.kind == EntryKind::Link;
        let timed = can.time_precision.is_some() && (!link || can.link_times);
        Attributes {
            modified: from.modified.filter(|_| timed),
            mode: self.by.mode_to_give(from).filter(|_| self.keeps_modes() && !link),
            extra: self.extra(from),
        }
    }

    /// The time for a version that would have the size and the time of the one it replaces; `None` where it has not. Other machines
    /// remember what stands here by just these two, and would not see that it is another.
    pub(super) fn time_apart(&self, from: &Meta, was: &Meta) -> Option<Stamp> {
        let alike = was.kind == EntryKind::File && was.size == from.size && !was.is_arrival();
        let precision = self.input.right.capabilities().time_precision?.max(FINEST_STEP);
        let (new, old) = from.modified.zip(was.modified).filter(|_| alike && self.input.remembered)?;
        new.same_within(old, precision).then(|| old.later_by(precision))
    }
}

/// Whether an error says that nothing can have a path, because its folder is missing or is no folder.
pub(super) fn is_absence(error: &StoreError) -> bool {
    matches!(error.kind, FaultKind::NotFound | FaultKind::LinkInPath)
}

/// Whether something is removed because another thing is to stand there, or because the left lacks it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum InTheWay {
    Yes,
    No,
}

#[derive(Default)]
pub(super) struct Early<'a> {
    pub(super) items: Vec<PlannedItem<'a>>,
    pub(super) paths: HashSet<RelPath>,
}

/// What a side of a plan is called outside.
pub(super) fn real_side(plan: &Plan, side: Side) -> Side {
    if plan.changes == Side::Right { side } else { side.other() }
}
