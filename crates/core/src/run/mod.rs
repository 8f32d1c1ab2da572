//! The engine: carries a plan out.
//!
//! The order of a run, and why:
//!
//! 1. Leftovers of earlier runs are cleared.
//! 2. What stands where something else is to come is set aside; folders are made from the top down.
//! 3. Files and links are staged by several workers and published in batches ([`transfer`]): stage many, sync once,
//!    publish all. New content is in place before anything is removed.
//! 4. What is to go is removed (as a rule: moved to the kept copies), then the emptied folders from the bottom up, then
//!    files take the places of removed folders.
//! 5. Folders get their modes and times from the bottom up, because everything before changes times.
//! 6. One last sync: only what is durable is reported as done.
//!
//! A failed item becomes a [`Problem`] and the rest goes on. Only a lost store or a request to stop ends a run early.

pub mod kept;
pub mod resume;
pub mod tidy;
mod transfer;
pub mod undo;
pub mod verify;

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crossbeam_channel::Sender;

use crate::compare::Comparison;
use crate::content::Hash;
use crate::entry::{EntryKind, Extra, Meta, Side, Stamp};
use crate::job::{Preserve, Removed, Replaced, Verify};
use crate::limit::Throttle;
use crate::path::{Name, PART_PREFIX, RESERVED_NAME, RelPath, part_name};
use crate::plan::{Action, Counts, Fate, FolderPlan, Plan, Role, Step};
use crate::problem::{Code, Problem};
use crate::store::{Attributes, FaultKind, Store, StoreError, StoreExt, is_still};

/// What the engine tells while it works. The progress view, the log, and `--json` read the same events.
#[derive(Debug, Clone)]
pub enum Event {
    /// A worker begins with a file.
    Started {
        /// The worker's number, from 0.
        worker: usize,
        /// The file.
        path: RelPath,
        /// Its expected size in bytes.
        size: u64,
    },
    /// A worker has moved some bytes of its file.
    Bytes {
        /// The worker's number.
        worker: usize,
        /// How many more.
        bytes: u64,
    },
    /// A worker has found that some bytes of its file are there already: an earlier run brought them, this one only compared them.
    Adopted {
        /// The worker's number.
        worker: usize,
        /// How many more.
        bytes: u64,
    },
    /// A worker has nothing in hand.
    Idle {
        /// The worker's number.
        worker: usize,
    },
    /// An item is done.
    Item(Item),
    /// A folder that stays got other metadata; what it had before, for undoing the run.
    Folder {
        /// The side.
        side: Side,
        /// The folder.
        path: RelPath,
        /// What it had.
        was: Mark,
    },
    /// Something could not be done.
    Problem(Problem),
}

/// A time and a mode, as far as they are known.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Mark {
    /// The modification time.
    pub modified: Option<Stamp>,
    /// The mode bits.
    pub mode: Option<u32>,
}

impl Mark {
    /// The time and mode of an entry.
    pub fn of(meta: &Meta) -> Mark {
        Mark { modified: meta.modified, mode: meta.mode }
    }
}

/// One thing that was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// What was done.
    pub done: Done,
    /// The side that changed.
    pub side: Side,
    /// The path.
    pub path: RelPath,
    /// Bytes of content: written, or of what was removed.
    pub size: u64,
    /// What stands there now, as it was written: lets an undo see whether it has changed since.
    pub now: Mark,
    /// The time that it has where it was read, when it was given another here.
    pub read: Option<Stamp>,
    /// What stood there before.
    pub was: Mark,
    /// Where it was before a move.
    pub moved_from: Option<RelPath>,
    /// How many files and links a moved folder holds.
    pub items: Option<u64>,
    /// The BLAKE3 hash of what was written, when the run verifies.
    pub hash: Option<Hash>,
    /// Where what stood there before has gone.
    pub gone: Gone,
}

impl Item {
    fn new(done: Done, path: RelPath, size: u64) -> Item {
        let (now, was) = (Mark::default(), Mark::default());
        let (read, moved_from, items, hash, gone) = (None, None, None, None, Gone::Kept);
        Item { done, side: Side::Right, path, size, now, read, was, moved_from, items, hash, gone }
    }
}

/// Where something has gone that was removed or replaced.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Gone {
    /// To the kept copies of the run, if it was anything at all.
    #[default]
    Kept,
    /// To the desktop's trash.
    Trashed,
    /// For good.
    Erased,
}

impl Gone {
    /// The word in JSON and logs; nothing is said of what is kept.
    pub fn as_str(self) -> Option<&'static str> {
        match self {
            Gone::Kept => None,
            Gone::Trashed => Some("trash"),
            Gone::Erased => Some("erased"),
        }
    }

    /// What a word in a log means.
    pub fn parse(word: &str) -> Option<Gone> {
        [Gone::Trashed, Gone::Erased].into_iter().find(|gone| gone.as_str() == Some(word))
    }
}

/// What was done to an item; the words are those of the JSON key `do`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Done {
    /// Put where nothing was.
    Added,
    /// Put where it had been removed: a removal never beats a change.
    Revived,
    /// Put in the place of another.
    Updated,
    /// Removed.
    Removed,
    /// Renamed.
    Moved,
    /// Given other metadata.
    Metadata,
    /// Left on purpose.
    Left,
    /// A folder was made.
    FolderMade,
    /// A folder was removed.
    FolderRemoved,
}

impl Done {
    /// The word in JSON and logs.
    pub fn as_str(self) -> &'static str {
        match self {
            Done::Added => "add",
            Done::Revived => "revive",
            Done::Updated => "update",
            Done::Removed => "remove",
            Done::Moved => "move",
            Done::Metadata => "meta",
            Done::Left => "leave",
            Done::FolderMade => "mkdir",
            Done::FolderRemoved => "rmdir",
        }
    }

    /// What a word in a log means; `None` for an unknown one.
    pub fn parse(word: &str) -> Option<Done> {
        const ALL: [Done; 9] = [
            Done::Added,
            Done::Revived,
            Done::Updated,
            Done::Removed,
            Done::Moved,
            Done::Metadata,
            Done::Left,
            Done::FolderMade,
            Done::FolderRemoved,
        ];
        ALL.into_iter().find(|done| done.as_str() == word)
    }

    /// The word for a planned action.
    pub fn of(action: &Action) -> Done {
        match &action.step {
            Step::Add { .. } if action.role == Role::Revived => Done::Revived,
            Step::Add { .. } | Step::SecondName { was: None, .. } => Done::Added,
            Step::Update { .. } | Step::SecondName { was: Some(_), .. } => Done::Updated,
            Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. } => Done::Moved,
            Step::Metadata { .. } => Done::Metadata,
            Step::Remove { .. } => Done::Removed,
            Step::Leave { .. } => Done::Left,
        }
    }
}

/// The size that a step is shown with: of what is written, or of what is removed.
pub fn step_size(step: &Step) -> u64 {
    match step {
        Step::Add { from }
        | Step::Update { from, .. }
        | Step::Metadata { from, .. }
        | Step::Leave { from, .. } => from.size,
        Step::Remove { was } => was.size,
        Step::Move { to, .. } => to.size,
        Step::Respell { was, .. } => was.size,
        Step::SecondName { .. } | Step::MoveFolder { .. } => 0,
    }
}

/// Two times that are to differ do so by this at least: the clocks of file systems tick no faster.
const FINEST_STEP: Duration = Duration::from_millis(10);

/// What the engine needs besides the plan.
pub struct RunInput<'a> {
    /// The side that is read.
    pub left: &'a dyn Store,
    /// The side that changes.
    pub right: &'a dyn Store,
    /// What is written is remembered by its size and time: small files are hashed while they are copied, and a version never has both
    /// in common with the one that it replaces.
    pub remembered: bool,
    /// Where removed files go.
    pub removed: Removed,
    /// Where replaced files go.
    pub replaced: Replaced,
    /// What of a tree is carried over.
    pub preserve: Preserve,
    /// What is read back.
    pub verify: Verify,
    /// The name of this run; kept copies go to `.reedhook/kept/RUN/`.
    pub run: Name,
    /// Whose run it is: written beside its kept copies, so that nobody else's retention takes them.
    pub owner: &'a str,
    /// A source file that differs from the plan is skipped and reported, not taken as it is now. For saved plans.
    pub strict: bool,
    /// Large files go on where an earlier run stopped, and leave their unfinished file for a later one. Not where a person's own
    /// folder is written to.
    pub resume: bool,
    /// What keeps the transfers below the job's bandwidth limit; `None` without one.
    pub limit: Option<Arc<Throttle>>,
    /// Who hears of the progress: events in their order, several at a time.
    pub events: &'a Sender<Vec<Event>>,
    /// Set to make the run stop soon, with everything whole.
    pub stop: &'a AtomicBool,
}

/// How a run ended.
#[derive(Debug)]
pub enum Ended {
    /// Everything was tried.
    Done,
    /// It was asked to stop.
    Interrupted,
    /// A store was lost.
    Lost(Side, StoreError),
}

/// What a run did.
#[derive(Debug)]
pub struct RunReport {
    /// The numbers, of what was really done.
    pub counts: Counts,
    /// Folders made.
    pub folders_made: u64,
    /// Folders removed.
    pub folders_removed: u64,
    /// Bytes of large files that were cut short: the next run goes on with them.
    pub unfinished: u64,
    /// How it ended.
    pub ended: Ended,
}

impl RunReport {
    /// That there was nothing to do.
    pub fn nothing(counts: Counts) -> RunReport {
        RunReport { counts, folders_made: 0, folders_removed: 0, unfinished: 0, ended: Ended::Done }
    }
}

/// Files of this size and above are resumed after an interruption: below it, proving what is there costs as much as copying.
pub const RESUME_FROM: u64 = 16 << 20;

/// What the name of a checkpoint has behind that of its unfinished file.
const CHECKPOINT_SUFFIX: &str = "-upto";

/// What tells the unfinished file of a large file apart: its path, size and time. A source that has changed has another.
pub fn resume_key(path: &RelPath, from: &Meta) -> String {
    let modified = from.modified.map(Stamp::to_text).unwrap_or_default();
    let text = [path.as_bytes(), format!("\0{}\0{modified}", from.size).as_bytes()].concat();
    blake3::hash(&text).to_hex()[..16].to_owned()
}

/// The folder of a run's kept copies.
pub fn kept_folder(run: &Name) -> RelPath {
    kept_root().join(run)
}

/// The folder of all kept copies of a side.
pub fn kept_root() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/kept"].concat()).unwrap_or_default()
}

/// Carries out a plan. The plan's problems are reported first.
pub fn execute(plan: &Plan, input: &RunInput<'_>) -> RunReport {
    let engine = Engine::new(plan, input);
    let ended = match engine.run() {
        Ok(()) => Ended::Done,
        Err(Halt::Stopped) => Ended::Interrupted,
        Err(Halt::Lost(side, error)) => Ended::Lost(real_side(plan, side), error),
    };
    let state = engine.state.into_inner().unwrap_or_else(PoisonError::into_inner);
    RunReport {
        counts: state.counts,
        folders_made: state.folders_made,
        folders_removed: state.folders_removed,
        unfinished: state.unfinished,
        ended,
    }
}

/// What a side of a plan is called outside.
fn real_side(plan: &Plan, side: Side) -> Side {
    if plan.changes == Side::Right { side } else { side.other() }
}

/// Why the engine gives up early.
#[derive(Debug)]
enum Halt {
    Stopped,
    Lost(Side, StoreError),
}

/// One transfer that a worker takes: an action of a folder.
#[derive(Clone, Copy)]
struct PlannedItem<'a> {
    folder: &'a FolderPlan,
    action: &'a Action,
}

impl PlannedItem<'_> {
    fn path(&self) -> RelPath {
        self.folder.path.join(&self.action.name)
    }
}

#[derive(Default)]
struct State {
    counts: Counts,
    folders_made: u64,
    folders_removed: u64,
    unfinished: u64,
    /// Folders that could not be made: nothing in them can be done.
    failed_folders: HashSet<RelPath>,
    /// Folders that were given write permission for the time of the run, with the mode to give back.
    opened: Vec<(RelPath, u32)>,
    /// Folders below `.reedhook/kept/RUN/` that exist.
    kept_folders: HashSet<RelPath>,
    /// Those of them that a worker is making just now.
    making: HashSet<RelPath>,
}

struct Engine<'a> {
    plan: &'a Plan,
    input: &'a RunInput<'a>,
    kept: RelPath,
    /// What the two stores can both express.
    by: Comparison,
    state: Mutex<State>,
    /// Whether it has been written down whose the kept copies of this run are; held while that is done.
    owned: Mutex<bool>,
    /// Rings when a folder among the kept copies was made, or could not be.
    made: Condvar,
    outbox: Mutex<Outbox>,
}

/// Events that nobody has been told yet: waking a reader costs more than what it is told.
struct Outbox {
    events: Vec<Event>,
    told: Instant,
}

/// Finished items are told in groups of this size, or after so long, or with the next event that cannot wait.
const TOLD_TOGETHER: usize = 256;
const TOLD_WITHIN: Duration = Duration::from_millis(50);

impl<'a> Engine<'a> {
    fn new(plan: &'a Plan, input: &'a RunInput<'a>) -> Engine<'a> {
        let Counts { same, conflicts, settled, .. } = plan.counts();
        let counts = Counts { same, conflicts, settled, ..Counts::default() };
        let state = State { counts, ..State::default() };
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

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run(&self) -> Result<(), Halt> {
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

    fn did_something(&self) -> bool {
        let state = self.state();
        state.counts.changed() + state.folders_made + state.folders_removed > 0
    }

    fn work(&self) -> Result<(), Halt> {
        self.clear_leftovers()?;
        self.open_folders()?;
        let early = self.removals_in_the_way();
        self.for_each(&early.items, |item| self.remove(item, InTheWay::Yes))?;
        self.make_folders()?;
        for item in self.moves() {
            self.rename(&item)?;
        }
        let (now, late) = self.transfers();
        transfer::run(self, &now)?;
        transfer::run(self, &self.second_names())?;
        let rest: Vec<_> = self.removals().filter(|item| !early.paths.contains(&item.path())).collect();
        self.for_each(&rest, |item| self.remove(item, InTheWay::No))?;
        self.remove_folders()?;
        transfer::run(self, &late)
    }

    /// Whether calls to one of the stores wait for a network.
    fn is_remote(&self) -> bool {
        self.input.left.capabilities().remote || self.input.right.capabilities().remote
    }

    /// Does something for each item, in their order; where calls wait for a network, for many at once.
    fn for_each<T: Sync>(
        &self,
        items: &[T],
        work: impl Fn(&T) -> Result<(), Halt> + Sync,
    ) -> Result<(), Halt> {
        let threads = if self.is_remote() { transfer::worker_count(self).min(items.len()) } else { 1 };
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
            let ends = threads.into_iter().map(|thread| thread.join().unwrap_or(Err(Halt::Stopped)));
            ends.collect::<Vec<_>>().into_iter().collect()
        })
    }

    /// Folders by their depth, so that those of one depth can be worked on in any order.
    fn by_depth(folders: impl Iterator<Item = &'a FolderPlan>) -> Vec<Vec<&'a FolderPlan>> {
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

    fn go_on(&self) -> Result<(), Halt> {
        if self.input.stop.load(Ordering::Relaxed) { Err(Halt::Stopped) } else { Ok(()) }
    }

    fn items(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        self.plan
            .folders
            .iter()
            .flat_map(|folder| folder.actions.iter().map(move |action| PlannedItem { folder, action }))
    }

    fn removals(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        self.items().filter(|item| matches!(item.action.step, Step::Remove { .. }))
    }

    fn folders_with(&self, fate: Fate) -> impl DoubleEndedIterator<Item = &'a FolderPlan> {
        self.plan.folders.iter().filter(move |folder| folder.fate == fate)
    }

    fn report_left(&self) {
        for item in self.items() {
            if matches!(item.action.step, Step::Leave { .. }) {
                self.done(Item::new(Done::Left, item.path(), step_size(&item.action.step)), 0);
            }
        }
    }

    fn clear_leftovers(&self) -> Result<(), Halt> {
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
            // A leftover that cannot be cleared harms nobody; the next run tries again.
            self.lost_only(Side::Right, self.input.right.remove(path, meta))?;
        }
        Ok(())
    }

    /// The unfinished files that this run can go on with.
    fn resumable_parts(&self) -> HashSet<RelPath> {
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

    /// Gives write permission to folders of ours in which something is to change; closed again at the end.
    fn open_folders(&self) -> Result<(), Halt> {
        if !self.input.right.capabilities().modes {
            return Ok(());
        }
        for folder in self.folders_with(Fate::Stay).chain(self.folders_with(Fate::Remove)) {
            let Some(mode) = folder.right.as_ref().and_then(|meta| meta.mode) else { continue };
            if mode & 0o300 != 0o300 {
                let attributes = Attributes { mode: Some(mode | 0o700), ..Attributes::default() };
                match self.input.right.set_attributes(&folder.path, None, &attributes) {
                    Ok(()) => self.state().opened.push((folder.path.clone(), mode)),
                    // Not ours: what is to change in it will say so, each by itself.
                    Err(error) => self.lost_only::<()>(Side::Right, Err(error))?,
                }
            }
        }
        Ok(())
    }

    /// The removals whose place is needed by a folder, or by something of another kind.
    fn removals_in_the_way(&self) -> Early<'a> {
        let made: HashSet<&RelPath> = self.folders_with(Fate::Make).map(|folder| &folder.path).collect();
        let mut early = Early::default();
        for item in self.removals() {
            let path = item.path();
            let comes =
                |step: &Step| matches!(step, Step::Add { .. } | Step::Move { .. } | Step::MoveFolder { .. });
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

    fn make_folders(&self) -> Result<(), Halt> {
        for level in Self::by_depth(self.folders_with(Fate::Make)) {
            self.for_each(&level, |folder| self.make_folder(folder))?;
        }
        Ok(())
    }

    fn make_folder(&self, folder: &FolderPlan) -> Result<(), Halt> {
        self.go_on()?;
        if self.is_below_failed(&folder.path) {
            self.state().failed_folders.insert(folder.path.clone());
            return Ok(());
        }
        // Open to us until the end, whatever its final mode.
        let wanted = folder.left.as_ref().and_then(|meta| meta.mode).filter(|_| self.keeps_modes());
        let mode = wanted.map(|mode| mode | 0o700);
        match self.input.right.make_folder(&folder.path, &Attributes { mode, ..Attributes::default() }) {
            Ok(()) => {
                self.state().folders_made += 1;
                self.send(Event::Item(Item::new(Done::FolderMade, folder.path.clone(), 0)));
            }
            // Somebody made it meanwhile: what is to go into it is decided file by file.
            Err(error) if error.kind == FaultKind::Exists && self.is_folder(&folder.path) => {}
            Err(error) => self.folder_failed(folder, error)?,
        }
        Ok(())
    }

    fn keeps_modes(&self) -> bool {
        // What a side without modes shows for one is its own idea, and nobody's wish.
        self.by.modes
    }

    /// The owners and extended attributes to give, where the job and both stores go that far.
    fn extra(&self, from: &Meta) -> Option<Arc<Extra>> {
        let full = self.input.preserve == Preserve::Full && self.input.right.capabilities().full;
        from.extra.clone().filter(|_| full)
    }

    fn is_folder(&self, path: &RelPath) -> bool {
        matches!(self.input.right.stat(path), Ok(Some(meta)) if meta.is_folder())
    }

    fn folder_failed(&self, folder: &FolderPlan, error: StoreError) -> Result<(), Halt> {
        if error.kind == FaultKind::Lost {
            return Err(Halt::Lost(Side::Right, error));
        }
        let within = self.items().filter(|item| item.folder.path.is_within(&folder.path)).count();
        let message = format!("{}; {within} items in it were not copied", error.reason());
        self.problem(Problem::new(Code::Fault(error.kind), Side::Right, folder.path.clone(), message));
        self.state().failed_folders.insert(folder.path.clone());
        Ok(())
    }

    fn is_below_failed(&self, path: &RelPath) -> bool {
        let state = self.state();
        !state.failed_folders.is_empty()
            && path.parent().is_some_and(|parent| state.failed_folders.contains(&parent))
    }

    /// The adds, updates and metadata changes that can be done at once, and those that wait for a folder to go.
    fn transfers(&self) -> (Vec<PlannedItem<'a>>, Vec<PlannedItem<'a>>) {
        let removed: HashSet<&RelPath> = self.folders_with(Fate::Remove).map(|folder| &folder.path).collect();
        let failed = self.state().failed_folders.clone();
        self.items()
            .filter(|item| {
                matches!(item.action.step, Step::Add { .. } | Step::Update { .. } | Step::Metadata { .. })
            })
            .filter(|item| failed.is_empty() || !failed.contains(&item.folder.path))
            .partition(|item| removed.is_empty() || !removed.contains(&item.path()))
    }

    /// Second names are made when the files they belong to are in place.
    fn second_names(&self) -> Vec<PlannedItem<'a>> {
        self.items().filter(|item| matches!(item.action.step, Step::SecondName { .. })).collect()
    }

    fn remove(&self, item: &PlannedItem<'_>, in_the_way: InTheWay) -> Result<(), Halt> {
        self.go_on()?;
        let Step::Remove { was } = &item.action.step else { return Ok(()) };
        let path = item.path();
        if in_the_way == InTheWay::No && !self.is_absent_at_left(&path)? {
            return Ok(());
        }
        let removed = if item.action.role == Role::Loser { Removed::Keep } else { self.input.removed };
        let outcome = match removed {
            Removed::Erase => self.input.right.remove(&path, was),
            Removed::Keep => self.keep(&path, was),
            Removed::Trash => self.input.right.trash(&path, was),
        };
        match outcome {
            Ok(()) => {
                let gone = match removed {
                    Removed::Keep => Gone::Kept,
                    Removed::Trash => Gone::Trashed,
                    Removed::Erase => Gone::Erased,
                };
                self.done(Item { was: Mark::of(was), gone, ..Item::new(Done::Removed, path, was.size) }, 0);
            }
            // Somebody else removed it: that is what was wanted.
            Err(error) if error.kind == FaultKind::NotFound => {}
            Err(error) => self.failed(Side::Right, error, &path)?,
        }
        Ok(())
    }

    /// Whether what is to be removed because the left lacks it is still lacking there. What was put back meanwhile, or cannot
    /// be looked at, is reported, and its counterpart stays.
    fn is_absent_at_left(&self, path: &RelPath) -> Result<bool, Halt> {
        match self.input.left.stat(path) {
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

    /// Renames at the destination, from the top down.
    fn moves(&self) -> impl Iterator<Item = PlannedItem<'a>> {
        let renames =
            |step: &Step| matches!(step, Step::Move { .. } | Step::MoveFolder { .. } | Step::Respell { .. });
        self.items().filter(move |item| renames(&item.action.step))
    }

    fn rename(&self, item: &PlannedItem<'_>) -> Result<(), Halt> {
        self.go_on()?;
        let path = item.path();
        if self.plan.unproved && !matches!(item.action.step, Step::Respell { .. }) {
            // A plan for looking at. Whoever hands it over to be carried out makes a mistake that must cost nobody a file.
            let unproved = StoreError::new(FaultKind::Unsupported, "rename", &path)
                .because("nobody has compared what the two files hold");
            return self.failed(Side::Right, unproved, &path);
        }
        let done = Item::new(Done::Moved, path.clone(), step_size(&item.action.step));
        let (outcome, done) = match &item.action.step {
            Step::MoveFolder { from, items } => {
                let done = Item { moved_from: Some(from.clone()), items: Some(*items), ..done };
                (self.rename_folder(from, &path), done)
            }
            Step::Move { from, to, was } => {
                let (now, was_mark) = (Mark::of(to), Mark::of(was));
                let done = Item { moved_from: Some(from.clone()), now, was: was_mark, ..done };
                (self.rename_file(from, &path, (to, was), item.action.role), done)
            }
            Step::Respell { from, was } => {
                let items = was.is_folder().then_some(1);
                let done = Item {
                    moved_from: Some(from.clone()),
                    items,
                    now: Mark::of(was),
                    was: Mark::of(was),
                    ..done
                };
                (self.respell(from, &path, was), done)
            }
            _ => return Ok(()),
        };
        match outcome {
            Ok(()) => self.done(done, 0),
            Err(error) => self.failed(Side::Right, error, &path)?,
        }
        Ok(())
    }

    fn rename_folder(&self, from: &RelPath, path: &RelPath) -> Result<(), StoreError> {
        self.has_moved_at_left(from, path, |found| found.is_folder())?;
        self.input.right.rename(from, path)
    }

    fn rename_file(
        &self,
        from: &RelPath,
        path: &RelPath,
        (to, was): (&Meta, &Meta),
        role: Role,
    ) -> Result<(), StoreError> {
        if role != Role::Aside {
            self.has_moved_at_left(from, path, |found| is_still(to, found))?;
        }
        let right = self.input.right;
        right.rename_this(from, path, was)?;
        let change = self.change(to, was);
        if change == Attributes::default() { Ok(()) } else { right.set_attributes(path, None, &change) }
    }

    /// The side that is read still has the new spelling, and what stands there is what was seen.
    fn respell(&self, from: &RelPath, path: &RelPath, was: &Meta) -> Result<(), StoreError> {
        if self.input.left.stat(path)?.is_none() {
            return Err(StoreError::new(FaultKind::Changed, "rename", path));
        }
        match was.is_folder() {
            true => self.input.right.rename(from, path),
            false => self.input.right.rename_this(from, path, was),
        }
    }

    /// Fails unless the left has it at the new path, and nothing at the old one.
    fn has_moved_at_left(
        &self,
        from: &RelPath,
        path: &RelPath,
        as_planned: impl Fn(&Meta) -> bool,
    ) -> Result<(), StoreError> {
        let left = self.input.left;
        let there = left.stat(path)?.is_some_and(|found| as_planned(&found));
        let gone = match left.stat(from) {
            Err(error) if is_absence(&error) => true,
            found => found?.is_none() || self.is_taken_by_another(from),
        };
        if there && gone { Ok(()) } else { Err(StoreError::new(FaultKind::Changed, "rename", path)) }
    }

    /// What of an entry's metadata has to be set to make it like another's: only what differs, so that nothing else is touched.
    fn change(&self, from: &Meta, was: &Meta) -> Attributes {
        let all = self.attributes(from);
        let extra = all.extra.filter(|_| !self.by.same_rights(from, was));
        // Another owner takes special bits away: then the mode is set too.
        let same_mode = self.by.same_mode(from, was) && extra.is_none();
        Attributes {
            modified: all.modified.filter(|_| !self.by.same_time(from, was)),
            mode: all.mode.filter(|_| !same_mode),
            extra,
        }
    }

    /// The mode that a file keeps when another content takes its place and no mode comes along. What lets whoever runs it act for
    /// another was meant for the old content.
    fn own_mode(&self, was: &Meta) -> Option<u32> {
        let own = !self.keeps_modes() && self.input.right.capabilities().modes && was.kind == EntryKind::File;
        was.mode.filter(|_| own).map(|mode| mode & 0o777)
    }

    /// What of an entry's metadata the destination can hold.
    fn attributes(&self, from: &Meta) -> Attributes {
        let can = self.input.right.capabilities();
        let link = from.kind == EntryKind::Link;
        let timed = can.time_precision.is_some() && (!link || can.link_times);
        Attributes {
            modified: from.modified.filter(|_| timed),
            mode: from.mode.filter(|_| self.keeps_modes() && !link),
            extra: self.extra(from),
        }
    }

    /// The time for a version that would have the size and the time of the one it replaces; `None` where it has not. Other machines
    /// remember what stands here by just these two, and would not see that it is another.
    fn time_apart(&self, from: &Meta, was: &Meta) -> Option<Stamp> {
        let alike = was.kind == EntryKind::File && was.size == from.size && !was.is_arrival();
        let precision = self.input.right.capabilities().time_precision?.max(FINEST_STEP);
        let (new, old) = from.modified.zip(was.modified).filter(|_| alike && self.input.remembered)?;
        new.same_within(old, precision).then(|| old.later_by(precision))
    }

    /// Moves a file or link to the kept copies of this run.
    fn keep(&self, path: &RelPath, was: &Meta) -> Result<(), StoreError> {
        self.input.right.rename_this(path, &self.kept_path(path)?, was)
    }

    /// Where the kept copy of a path goes; its folder is made.
    fn kept_path(&self, path: &RelPath) -> Result<RelPath, StoreError> {
        let kept = self.kept.join_path(path);
        if let Some(parent) = kept.parent() {
            self.make_kept_folder_once(&parent)?;
        }
        Ok(kept)
    }

    /// Makes a folder among the kept copies, and those above it, unless that was done. Of several workers that want one at once, one
    /// makes it and the others wait: servers answer those that come late with all sorts of refusals.
    fn make_kept_folder_once(&self, folder: &RelPath) -> Result<(), StoreError> {
        let mut state = self.state();
        loop {
            if state.kept_folders.contains(folder) {
                return Ok(());
            }
            if state.making.insert(folder.clone()) {
                break;
            }
            state = self.made.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        drop(state);
        let above = folder.parent().filter(|above| above.is_within(&self.kept));
        let made = above
            .map_or(Ok(()), |above| self.make_kept_folder_once(&above))
            .and_then(|()| self.make_kept_folder(folder));
        let mut state = self.state();
        state.making.remove(folder);
        if made.is_ok() {
            state.kept_folders.insert(folder.clone());
        }
        drop(state);
        self.made.notify_all();
        made
    }

    fn make_kept_folder(&self, folder: &RelPath) -> Result<(), StoreError> {
        let right = self.input.right;
        {
            let mut owned = self.owned.lock().unwrap_or_else(PoisonError::into_inner);
            if !*owned {
                kept::write_owner(right, &self.input.run, self.input.owner)?;
                *owned = true;
            }
        }
        match right.stat(folder) {
            // An earlier part of this run has finished it.
            Ok(Some(found)) if found.is_folder() => kept::open_to_us(right, folder, found.mode),
            _ => right.make_folders(folder),
        }
    }

    /// Gives the folders of the kept copies the modes and times of those that they stand for.
    fn finish_kept(&self) -> Result<(), Halt> {
        let right = self.input.right;
        let can = right.capabilities();
        let mut folders: Vec<RelPath> = self.state().kept_folders.iter().cloned().collect();
        folders.sort();
        for folder in folders.iter().rev() {
            let Some(original) = folder.below(&self.kept).filter(|path| !path.is_root()) else { continue };
            let planned = self.plan.folders.binary_search_by(|planned| planned.path.cmp(&original));
            let meta = match planned.ok().and_then(|at| self.plan.folders[at].right.clone()) {
                Some(meta) => Some(meta),
                None => right.stat(&original).ok().flatten(),
            };
            let timed = can.time_precision.is_some() && can.folder_times;
            let attributes = Attributes {
                modified: meta.as_ref().and_then(|meta| meta.modified).filter(|_| timed),
                mode: meta.as_ref().and_then(|meta| meta.mode).filter(|_| can.modes),
                extra: None,
            };
            if attributes != Attributes::default() {
                // The copies themselves are what counts.
                self.lost_only(Side::Right, right.set_attributes(folder, None, &attributes))?;
            }
        }
        Ok(())
    }

    fn remove_folders(&self) -> Result<(), Halt> {
        for level in Self::by_depth(self.folders_with(Fate::Remove)).iter().rev() {
            self.for_each(level, |folder| self.remove_folder(folder))?;
        }
        Ok(())
    }

    fn remove_folder(&self, folder: &FolderPlan) -> Result<(), Halt> {
        self.go_on()?;
        // Where a file is to stand in its place, the left has something else under this name.
        let in_the_way = self.is_taken_by_another(&folder.path);
        if !in_the_way && !self.is_absent_at_left(&folder.path)? {
            return Ok(());
        }
        match self.input.right.remove_folder(&folder.path) {
            Ok(()) => {
                self.state().folders_removed += 1;
                let was = folder.right.as_ref().map(Mark::of).unwrap_or_default();
                let item = Item::new(Done::FolderRemoved, folder.path.clone(), 0);
                self.send(Event::Item(Item { was, ..item }));
            }
            Err(error) if error.kind == FaultKind::NotFound => {}
            Err(error) => self.failed(Side::Right, error, &folder.path)?,
        }
        Ok(())
    }

    /// Whether the plan puts something else where a thing is to go from.
    fn is_taken_by_another(&self, path: &RelPath) -> bool {
        let at = self.plan.folders.binary_search_by(|planned| planned.path.cmp(path));
        at.is_ok_and(|at| self.plan.folders[at].fate == Fate::Make)
            || path.split().is_some_and(|(parent, name)| self.brings(&parent, &name))
    }

    /// Whether the plan puts a file or link at a name.
    fn brings(&self, folder: &RelPath, name: &Name) -> bool {
        let Ok(at) = self.plan.folders.binary_search_by(|planned| planned.path.cmp(folder)) else {
            return false;
        };
        let actions = &self.plan.folders[at].actions;
        let first = actions.partition_point(|action| action.name < *name);
        let mut same = actions[first..].iter().take_while(|action| action.name == *name);
        same.any(|action| matches!(action.step, Step::Add { .. }))
    }

    /// Gives folders their modes and times. After an early end only the opened ones are closed again.
    fn finish_folders(&self, complete: bool) -> Result<(), Halt> {
        let mut opened: Vec<(RelPath, u32)> = std::mem::take(&mut self.state().opened);
        opened.sort();
        for level in Self::by_depth(self.plan.folders.iter()).iter().rev() {
            self.for_each(level, |folder| {
                let was_open = opened.binary_search_by(|(path, _)| path.cmp(&folder.path)).ok();
                self.finish_folder(folder, complete, was_open.map(|at| opened[at].1))
            })?;
        }
        Ok(())
    }

    fn finish_folder(&self, folder: &FolderPlan, complete: bool, was_open: Option<u32>) -> Result<(), Halt> {
        let can = self.input.right.capabilities();
        let times = can.time_precision.is_some() && can.folder_times;
        let ours = folder.fate != Fate::Remove && folder.left.is_some();
        let failed = folder.fate == Fate::Make && self.state().failed_folders.contains(&folder.path);
        let finished = complete && ours && !failed;
        let changes_rights = finished && (folder.fate == Fate::Make || folder.remode);
        let left = folder.left.as_ref();
        let new_mode = left.filter(|_| changes_rights && self.keeps_modes()).and_then(|left| left.mode);
        let mode = new_mode.or(was_open);
        let extra = left.filter(|_| changes_rights).and_then(|left| self.extra(left));
        let modified = left.filter(|_| finished && times).and_then(|left| left.modified);
        if mode.is_none() && modified.is_none() && extra.is_none() {
            return Ok(());
        }
        if folder.fate == Fate::Remove && !self.is_folder(&folder.path) {
            // It has gone, and something else may have its place.
            return Ok(());
        }
        if finished && folder.remode && !self.has_planned_mode(folder, was_open) {
            let changed = StoreError::new(FaultKind::Changed, "set the mode of", &folder.path);
            return self.failed(Side::Right, changed, &folder.path);
        }
        let attributes = Attributes { modified, mode, extra };
        match self.input.right.set_attributes(&folder.path, None, &attributes) {
            Ok(()) => self.folder_finished(folder, finished, Mark { modified, mode }),
            Err(error) if error.kind == FaultKind::NotFound => {}
            // On some media the root's time cannot be set; that is no loss worth a problem.
            Err(_) if folder.path.is_root() => {}
            Err(error) => self.failed(Side::Right, error, &folder.path)?,
        }
        Ok(())
    }

    /// Whether a folder has the mode that the plan saw, or the one it was opened with.
    fn has_planned_mode(&self, folder: &FolderPlan, was_open: Option<u32>) -> bool {
        let planned = folder.right.as_ref().and_then(|meta| meta.mode);
        match self.input.right.stat(&folder.path) {
            Ok(Some(found)) => {
                found.mode == planned || was_open.is_some_and(|mode| found.mode == Some(mode | 0o700))
            }
            _ => true,
        }
    }

    fn folder_finished(&self, folder: &FolderPlan, finished: bool, now: Mark) {
        if let Some(was) = folder.right.as_ref().map(Mark::of).filter(|_| finished) {
            self.send(Event::Folder { side: Side::Right, path: folder.path.clone(), was });
            if folder.remode {
                self.done(Item { now, was, ..Item::new(Done::Metadata, folder.path.clone(), 0) }, 0);
            }
        }
    }

    fn right<T>(&self, outcome: Result<T, StoreError>) -> Result<(), Halt> {
        match outcome {
            Ok(_) => Ok(()),
            Err(error) => self.failed(Side::Right, error, &RelPath::root()),
        }
    }

    fn lost_only<T>(&self, side: Side, outcome: Result<T, StoreError>) -> Result<(), Halt> {
        match outcome {
            Err(error) if error.kind == FaultKind::Lost => Err(Halt::Lost(side, error)),
            _ => Ok(()),
        }
    }

    /// Reports a failure under the item's own path, unless the store itself is gone.
    fn failed(&self, side: Side, error: StoreError, path: &RelPath) -> Result<(), Halt> {
        if error.kind == FaultKind::Lost || (error.kind == FaultKind::Io && self.is_gone(side)) {
            return Err(Halt::Lost(side, StoreError { kind: FaultKind::Lost, ..error }));
        }
        self.problem(Problem::new(Code::Fault(error.kind), side, path.clone(), error.reason()));
        Ok(())
    }

    /// Whether an error of the medium means that all of it has gone, as when a drive is pulled out: then its root can no
    /// longer be read, or nothing can be made durable there.
    fn is_gone(&self, side: Side) -> bool {
        match side {
            Side::Left => self.input.left.list(&RelPath::root()).is_err(),
            Side::Right => self.input.right.sync().is_err(),
        }
    }

    fn problem(&self, problem: Problem) {
        self.state().counts.problems += 1;
        self.send(Event::Problem(problem));
    }

    fn done(&self, item: Item, written: u64) {
        {
            let counts = &mut self.state().counts;
            match item.done {
                Done::Added | Done::Revived => counts.added += 1,
                Done::Updated => counts.updated += 1,
                Done::Removed => counts.removed += 1,
                Done::Moved => counts.moved += item.items.unwrap_or(1),
                Done::Metadata => counts.meta += 1,
                Done::Left => counts.skipped += 1,
                Done::FolderMade | Done::FolderRemoved => {}
            }
            counts.bytes += written;
        }
        self.send(Event::Item(item));
    }

    fn send(&self, event: Event) {
        let event = self.as_it_is_called(event);
        let can_wait = matches!(event, Event::Item(_));
        // Held while it is told: events keep their order.
        let mut outbox = self.outbox.lock().unwrap_or_else(PoisonError::into_inner);
        outbox.events.push(event);
        if !can_wait || outbox.events.len() >= TOLD_TOGETHER || outbox.told.elapsed() >= TOLD_WITHIN {
            self.tell(&mut outbox);
        }
    }

    /// In here left is read and right changes; outside, the sides have their real names.
    fn as_it_is_called(&self, event: Event) -> Event {
        let real = |side| real_side(self.plan, side);
        match event {
            Event::Item(item) => Event::Item(Item { side: real(item.side), ..item }),
            Event::Problem(problem) => Event::Problem(Problem { side: real(problem.side), ..problem }),
            Event::Folder { side, path, was } => Event::Folder { side: real(side), path, was },
            other => other,
        }
    }

    /// Tells what has not been told yet.
    fn flush(&self) {
        self.tell(&mut self.outbox.lock().unwrap_or_else(PoisonError::into_inner));
    }

    fn tell(&self, outbox: &mut Outbox) {
        outbox.told = Instant::now();
        // A reader that has gone away does not stop the work.
        let _ = self.input.events.send(std::mem::take(&mut outbox.events));
    }
}

/// Whether an error says that nothing can have a path, because its folder is missing or is no folder.
fn is_absence(error: &StoreError) -> bool {
    matches!(error.kind, FaultKind::NotFound | FaultKind::LinkInPath)
}

/// Whether something is removed because another thing is to stand there, or because the left lacks it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum InTheWay {
    Yes,
    No,
}

#[derive(Default)]
struct Early<'a> {
    items: Vec<PlannedItem<'a>>,
    paths: HashSet<RelPath>,
}
