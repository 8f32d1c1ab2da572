//! The work behind a review: looking, listing, comparing texts, saving and running, each on a thread of its own, so that the view never
//! waits for a disk or a server. What comes of it is sent back as news.

use std::collections::{BTreeMap, HashSet};
use std::io::Read;
use std::path::PathBuf;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use reedhook_core::compare::{Basis, Comparison, Likeness, likeness};
use reedhook_core::entry::{EntryKind, Meta, Side};
use reedhook_core::filter::Verdict;
use reedhook_core::job::ConflictPolicy;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::{Action, Fate, FolderPlan, Plan, Role, Step};
use reedhook_core::run::{Done, Event as Deed};
use reedhook_core::store::Store;
use reedhook_core::walk::comparing::{Compared, Differing, Face};
use reedhook_jobs::atomic_file::{Replace, write_whole};
use reedhook_jobs::compare::{How, Pairing};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Failure, Outcome};
use reedhook_jobs::jobfile::{Job, JobKeys, load_job};
use reedhook_jobs::look::look;
use reedhook_jobs::observer::{Event, Observer};
use reedhook_jobs::places::Located;
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::{RunResult, Sort};
use reedhook_jobs::run_job::{Look, Origin, RunRequest, Surroundings, run_job};
use reedhook_jobs::saved::Saved;
use reedhook_jobs::scan::comparison;
use reedhook_jobs::two_way::{Settling, look_at_settling};
use reedhook_record::Outcome as RunOutcome;
use similar::TextDiff;

use super::model::{Listed, Row, Word};

/// Files up to this size are shown line by line.
const TEXT: u64 = 1 << 20;

/// Texts that take longer to be told apart are told apart roughly.
const PATIENCE: Duration = Duration::from_secs(2);

/// What a review is about.
#[derive(Clone)]
pub enum Subject {
    /// Two places.
    Places { left: String, right: String, keys: Box<JobKeys>, how: How },
    /// A job.
    Job(String),
}

/// What is to be done.
pub enum Task {
    Look,
    List(RelPath),
    Text(RelPath, RelPath),
    Save(PathBuf, Chosen),
    Run(Chosen),
}

/// What a person has decided about what was found.
#[derive(Clone, Default)]
pub struct Chosen {
    /// What is left, by destination and path.
    pub left: HashSet<(usize, RelPath)>,
    /// Conflicts that one side wins.
    pub winners: Vec<(ConflictPolicy, Vec<RelPath>)>,
    /// Changes of a two-way job that are taken back at the side where they were made: the other one wins.
    pub reversed: Vec<(ConflictPolicy, Vec<RelPath>)>,
}

/// So much may wait to be shown: then a run waits for the view, as it waits for every other listener.
const NEWS: usize = 4096;

/// What came of it.
pub enum ReviewNews {
    Looking {
        entries: u64,
        bytes: u64,
    },
    Looked(Box<Looked>),
    Listed(RelPath, Vec<Listed>),
    Text(RelPath, Vec<String>),
    Saved(PathBuf, Outcome<usize>),
    /// A plan is about to be carried out: how many files, how many bytes.
    Began(u64, u64),
    Did(Deed),
    Ran(Box<RunResult>),
    Failed(Failure),
}

/// What a look found.
pub struct Looked {
    pub rows: Vec<Row>,
    pub same: u64,
    pub places: [String; 2],
    pub notes: Vec<String>,
}

/// Sends what happens on a desk to the view.
struct Ear(Sender<ReviewNews>);

impl Observer for Ear {
    fn observe(&self, event: &Event<'_>) {
        let news = match event {
            Event::Scanning { progress, .. } => ReviewNews::Looking {
                entries: progress.entries.load(Ordering::Relaxed),
                bytes: progress.read.load(Ordering::Relaxed),
            },
            Event::Begins(plan) => {
                let counts = plan.counts();
                ReviewNews::Began(counts.changed(), counts.bytes)
            }
            Event::Did { event, .. } => ReviewNews::Did((*event).clone()),
            Event::Note(_) | Event::Scanned | Event::Tick | Event::Ends | Event::Finishing(_) => return,
        };
        // A view that was closed needs no news.
        let _ = self.0.send(news);
    }
}

/// Two stores, once they are open.
#[derive(Default)]
struct Opened {
    stores: Option<([Arc<dyn Store>; 2], Comparison)>,
    pairing: Option<Arc<Pairing>>,
    preview: Option<Arc<Preview>>,
}

/// Who does the work.
pub struct Worker {
    pub news: Receiver<ReviewNews>,
    slow: Sender<Task>,
    quick: Sender<Task>,
    desk: Desk,
}

impl Worker {
    pub fn start(desk: &Desk, surroundings: &Surroundings, subject: Subject) -> Worker {
        let (sender, news) = bounded(NEWS);
        let desk = Desk { observer: Arc::new(Ear(sender.clone())), ..desk.clone() };
        let opened = Arc::new(Mutex::new(Opened::default()));
        let worker = || {
            let (tasks, waiting) = unbounded::<Task>();
            let (desk, sender, subject, opened) =
                (desk.clone(), sender.clone(), subject.clone(), opened.clone());
            let surroundings = surroundings.clone();
            std::thread::spawn(move || {
                for task in waiting {
                    let came = work((&desk, &surroundings), &subject, &opened, task);
                    let _ = sender.send(came.unwrap_or_else(ReviewNews::Failed));
                }
            });
            tasks
        };
        let (slow, quick) = (worker(), worker());
        Worker { news, slow, quick, desk }
    }

    pub fn ask(&self, task: Task) {
        let queue = match task {
            Task::List(_) | Task::Text(..) => &self.quick,
            _ => &self.slow,
        };
        // A thread that has ended has said why.
        let _ = queue.send(task);
    }

    /// Asks a run, or a look, to come to its end.
    pub fn stop(&self) {
        self.desk.stop.store(true, Ordering::Relaxed);
    }

    /// Whether somebody wants the program to end.
    pub fn is_stopped(&self) -> bool {
        self.desk.is_stopped()
    }

    /// Lets work begin again after a stop.
    pub fn resume(&self) {
        self.desk.stop.store(false, Ordering::Relaxed);
    }
}

fn lock(opened: &Mutex<Opened>) -> std::sync::MutexGuard<'_, Opened> {
    opened.lock().unwrap_or_else(PoisonError::into_inner)
}

fn work(place: Place<'_>, subject: &Subject, opened: &Mutex<Opened>, task: Task) -> Outcome<ReviewNews> {
    let (desk, _) = place;
    Ok(match task {
        Task::Look => ReviewNews::Looked(Box::new(look_at(desk, subject, opened)?)),
        Task::List(folder) => {
            let listed = list(opened, &folder);
            ReviewNews::Listed(folder, listed)
        }
        Task::Text(left, right) => {
            let text = text(opened, &left, &right);
            ReviewNews::Text(left, text)
        }
        Task::Save(file, chosen) => {
            let written = saved(desk, opened, &chosen).and_then(|saved| {
                let text = saved.text();
                write_whole(&file, text.as_bytes(), Saved::MARK, Replace::Ours).map(|_| saved)
            });
            ReviewNews::Saved(file, written.map(|saved| saved.len()))
        }
        Task::Run(chosen) => ReviewNews::Ran(Box::new(run(place, subject, opened, &chosen)?)),
    })
}

fn look_at(desk: &Desk, subject: &Subject, opened: &Mutex<Opened>) -> Outcome<Looked> {
    match subject {
        Subject::Places { left, right, keys, how } => {
            let mut pairings = Pairing::of_places(desk, left, std::slice::from_ref(right), (**keys).clone())?;
            let pairing = Arc::new(pairings.remove(0));
            let stores = [pairing.left.clone(), pairing.right.clone()];
            let by = pairing.by(desk, how);
            *lock(opened) =
                Opened { stores: Some((stores, by)), pairing: Some(pairing.clone()), preview: None };
            let compared = pairing.compare(desk, how)?;
            let lefts: Vec<String> = pairing.lefts.iter().map(|place| place.shown(&desk.home)).collect();
            let places = [lefts.join(", "), pairing.right_place.shown(&desk.home)];
            let notes =
                compared.problems.iter().map(|one| format!("{}: {}", one.path, one.message)).collect();
            Ok(Looked { same: compared.same, rows: compared_rows(compared), places, notes })
        }
        Subject::Job(name) => {
            let job = load_job(&desk.home, name)?;
            let proved = look(desk, &job)?;
            let preview = proved.into_preview();
            let looked = of_round(desk, &preview);
            let pair = preview.destinations.first().map(|destination| {
                let stores = match &preview.both {
                    Some(both) => [both.left.clone(), both.right.clone()],
                    None => [destination.reads.clone(), destination.writes.clone()],
                };
                let by = comparison(desk, &job, stores[0].capabilities(), stores[1].capabilities());
                (stores, by)
            });
            *lock(opened) = Opened { stores: pair, pairing: None, preview: Some(Arc::new(preview)) };
            Ok(looked)
        }
    }
}

fn compared_rows(compared: Compared) -> Vec<Row> {
    let row = |one: Differing| Row {
        path: one.path,
        word: Word::of_state(one.state),
        left: one.left,
        right: one.right,
        elsewhere: one.right_path,
        items: one.items.max(1),
        destination: 0,
        other: None,
    };
    compared.differences.into_iter().map(row).collect()
}

fn of_round(desk: &Desk, preview: &Preview) -> Looked {
    let mut rows = Vec::new();
    let several = preview.both.is_none() && preview.destinations.len() > 1;
    for (at, destination) in preview.destinations.iter().enumerate() {
        let shown = |row: Row| Row { path: shown_at(preview, at, &row.path), ..row };
        rows.extend(leg_rows(at, &destination.plan, preview.both.is_some()).into_iter().map(shown));
    }
    for conflict in preview.both.iter().flat_map(|both| both.held()) {
        let (left, right) = (Some(Face::from(&conflict.left)), Some(Face::from(&conflict.right)));
        let (path, elsewhere) = (conflict.path.clone(), None);
        rows.push(Row {
            path,
            word: Word::Conflict,
            left,
            right,
            elsewhere,
            items: 1,
            destination: 0,
            other: None,
        });
    }
    let mut notes: Vec<String> = Vec::new();
    for (at, destination) in preview.destinations.iter().enumerate() {
        notes.extend(several.then(|| format!("to {} is {}", at + 1, destination.to.shown(&desk.home))));
        notes.extend(
            destination
                .plan
                .problems
                .iter()
                .map(|one| format!("{}: {} ({})", one.path, one.message, one.side)),
        );
    }
    notes
        .extend(preview.refusal(&[], &desk.home).map(|failure| format!("A run would be refused: {failure}")));
    let shown = |places: &[Located]| {
        places.iter().map(|place| place.shown(&desk.home)).collect::<Vec<_>>().join(", ")
    };
    let same = preview.destinations.iter().map(|destination| destination.plan.same).sum();
    Looked { rows, same, places: [shown(&preview.ends.from), shown(&preview.ends.to)], notes }
}

/// The rows of a destination; a row's faces are those at the left and at the right, whichever of the two is read.
fn leg_rows(destination: usize, plan: &Plan, two_way: bool) -> Vec<Row> {
    let mut rows = Vec::new();
    let oriented = |read: Option<&Meta>, changed: Option<&Meta>| {
        let (read, changed) = (read.map(Face::from), changed.map(Face::from));
        if plan.changes == Side::Left { (changed, read) } else { (read, changed) }
    };
    for folder in &plan.folders {
        let word = match folder.fate {
            Fate::Make => Some(Done::FolderMade),
            Fate::Remove => Some(Done::FolderRemoved),
            Fate::Stay if folder.remode => Some(Done::Metadata),
            Fate::Stay => None,
        };
        if let Some(done) = word {
            let (left, right) = oriented(folder.left.as_ref(), folder.right.as_ref());
            let (path, elsewhere) = (folder.path.clone(), None);
            rows.push(Row {
                path,
                word: Word::Deed(done),
                left,
                right,
                elsewhere,
                items: 1,
                destination,
                other: None,
            });
        }
        rows.extend(folder.actions.iter().map(|action| {
            let other = other_way(action).filter(|_| two_way);
            Row { other, ..action_row(destination, folder, action, &oriented) }
        }));
    }
    rows
}

/// The side that wins when an action of a two-way job goes the other way: what would be replaced, or removed, there comes back.
fn other_way(action: &Action) -> Option<Side> {
    let undone = matches!(action.step, Step::Update { .. } | Step::Remove { .. });
    (undone && action.role == Role::Plain).then_some(action.side)
}

type Oriented<'a> = &'a dyn Fn(Option<&Meta>, Option<&Meta>) -> (Option<Face>, Option<Face>);

fn action_row(destination: usize, folder: &FolderPlan, action: &Action, oriented: Oriented<'_>) -> Row {
    let path = folder.path.join(&action.name);
    let bare = Meta::bare(EntryKind::Folder);
    let (faces, elsewhere, items) = match &action.step {
        Step::Add { from } | Step::Leave { from, .. } => (oriented(Some(from), None), None, 1),
        Step::Update { from, was } | Step::Metadata { from, was } => {
            (oriented(Some(from), Some(was)), None, 1)
        }
        Step::SecondName { from, was, .. } => (oriented(Some(from), was.as_deref()), None, 1),
        Step::Move { from, to, was } => (oriented(Some(to), Some(was)), Some(from.clone()), 1),
        Step::MoveFolder { from, items } => (oriented(Some(&bare), Some(&bare)), Some(from.clone()), *items),
        Step::Respell { from, was } => (oriented(None, Some(was)), Some(from.clone()), 1),
        Step::Remove { was } => (oriented(None, Some(was)), None, 1),
    };
    Row {
        path,
        word: Word::Deed(Done::of(action)),
        left: faces.0,
        right: faces.1,
        elsewhere,
        items,
        destination,
        other: None,
    }
}

/// What a folder holds on both sides. What cannot be listed is shown as if it were empty; the look says what is wrong.
fn list(opened: &Mutex<Opened>, folder: &RelPath) -> Vec<Listed> {
    let (stores, pairing) = {
        let opened = lock(opened);
        (opened.stores.clone(), opened.pairing.clone())
    };
    let Some(([left, right], by)) = stores else { return Vec::new() };
    let takes_part = |name: &Name, meta: &Meta| match &pairing {
        Some(pairing) => {
            let filter = pairing.filter();
            !matches!(filter.judge(folder, name, meta, filter.root()), Verdict::Out(_))
        }
        None => !folder.join(name).is_reserved() && !name.is_passing(),
    };
    let entries =
        |store: &Arc<dyn Store>| store.list(folder).map(|listing| listing.entries).unwrap_or_default();
    let mut found: BTreeMap<Name, [Option<Meta>; 2]> = BTreeMap::new();
    for (at, store) in [&left, &right].into_iter().enumerate() {
        for entry in entries(store).into_iter().filter(|entry| takes_part(&entry.name, &entry.meta)) {
            found.entry(entry.name).or_default()[at] = Some(entry.meta);
        }
    }
    let listed = found.into_iter().map(|(name, [left, right])| {
        let word = match (&left, &right) {
            (Some(left), Some(right)) if left.is_folder() && right.is_folder() => Word::Unknown,
            (Some(left), Some(right)) => match likeness(left, right, &by, Basis::Time) {
                Likeness::Same => Word::Same,
                _ => Word::Unknown,
            },
            _ => Word::Unknown,
        };
        Listed { name, left: left.as_ref().map(Face::from), right: right.as_ref().map(Face::from), word }
    });
    listed.collect()
}

/// How two texts differ, as lines.
fn text(opened: &Mutex<Opened>, left: &RelPath, right: &RelPath) -> Vec<String> {
    let Some(([ours, theirs], _)) = lock(opened).stores.clone() else {
        return vec!["Not looked at yet.".into()];
    };
    let read = |store: &Arc<dyn Store>, path: &RelPath, word: &str| -> Result<String, String> {
        let meta = store.stat(path).map_err(|error| error.to_string())?;
        let Some(meta) = meta.filter(|meta| meta.kind == EntryKind::File) else { return Ok(String::new()) };
        if meta.size > TEXT {
            return Err(format!("The {word} one is too large to be shown line by line."));
        }
        let mut bytes = Vec::new();
        let content = store.open(path, 0).map_err(|error| error.to_string())?;
        content.take(TEXT).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
        String::from_utf8(bytes)
            .ok()
            .filter(|text| !text.contains('\0'))
            .ok_or_else(|| format!("The {word} one is no text."))
    };
    let texts = read(&ours, left, "left").and_then(|left| Ok((left, read(&theirs, right, "right")?)));
    match texts {
        Err(why) => vec![why],
        Ok((left, right)) if left == right => vec!["Both hold the same text.".to_owned()],
        Ok((left, right)) => {
            let diff = TextDiff::configure().timeout(PATIENCE).diff_lines(left.as_str(), right.as_str());
            let text = diff.unified_diff().context_radius(3).missing_newline_hint(false).to_string();
            text.lines().map(|line| line.replace('\t', "    ")).collect()
        }
    }
}

/// Where a path of a destination is shown: of several destinations each has a folder of its own.
fn shown_at(preview: &Preview, destination: usize, path: &RelPath) -> RelPath {
    match Name::new(format!("to {}", destination + 1).as_bytes()) {
        Ok(name) if preview.both.is_none() && preview.destinations.len() > 1 => {
            RelPath::from(&name).join_path(path)
        }
        _ => path.clone(),
    }
}

/// What is to be done of what was found, exactly.
fn saved(desk: &Desk, opened: &Mutex<Opened>, chosen: &Chosen) -> Outcome<Saved> {
    let preview = lock(opened).preview.clone().ok_or_else(|| Failure::usage("there is no plan to save"))?;
    let left = |destination: usize, path: &RelPath| {
        chosen.left.contains(&(destination, shown_at(&preview, destination, path)))
    };
    Ok(Saved::of(desk, &preview, &left))
}

fn run(
    (desk, surroundings): Place<'_>,
    subject: &Subject,
    opened: &Mutex<Opened>,
    chosen: &Chosen,
) -> Outcome<RunResult> {
    let Subject::Job(name) = subject else { return Err(Failure::usage("only a job can be run")) };
    let plan = saved(desk, opened, chosen)?;
    let job = load_job(&desk.home, name)?;
    run_all((desk, surroundings), &job, plan, chosen)
}

/// First what goes as planned, then what a person decided otherwise: each is a run of its own, and can be undone by itself.
/// Where runs are carried out.
type Place<'a> = (&'a Desk, &'a Surroundings);

fn run_all((desk, surroundings): Place<'_>, job: &Job, plan: Saved, chosen: &Chosen) -> Outcome<RunResult> {
    let winners = chosen.winners.iter().map(|one| (one, false));
    let otherwise = winners.chain(chosen.reversed.iter().map(|one| (one, true)));
    let otherwise: Vec<_> = otherwise.filter(|((_, paths), _)| !paths.is_empty()).collect();
    let mut result = None;
    if !plan.is_empty() || otherwise.is_empty() {
        let plan = Arc::new(plan);
        let planned = || {
            let plan = plan.clone();
            look(desk, job)?.narrowed(move |preview| plan.apply(preview).map(|_| ()))
        };
        result = Some(carry_out((desk, surroundings), job, Sort::Job, &planned)?);
    }
    for ((policy, paths), afresh) in otherwise {
        if result.as_ref().is_some_and(|result: &RunResult| result.failure.is_some() || desk.is_stopped()) {
            break;
        }
        let settling = Settling { paths: paths.clone(), policy: *policy, afresh };
        let look = || look_at_settling(desk, job, &settling);
        let settled = carry_out((desk, surroundings), job, Sort::Settle, &look)?;
        result = Some(match result {
            Some(before) => together(before, settled),
            None => settled,
        });
    }
    result.ok_or_else(|| Failure::usage("nothing is chosen"))
}

/// Two runs one after the other as one: what one of them could not do, the other has not mended.
fn together(before: RunResult, after: RunResult) -> RunResult {
    let mut counts = before.counts;
    counts.add(&after.counts);
    let outcome = if after.outcome == RunOutcome::Done { before.outcome } else { after.outcome };
    RunResult { counts, outcome, elapsed: before.elapsed + after.elapsed, ..after }
}

/// A run of what a look gives; a person has agreed to it in the view.
fn carry_out((desk, surroundings): Place<'_>, job: &Job, sort: Sort, look: &Look<'_>) -> Outcome<RunResult> {
    let consent = &mut |_: &Preview, _| Ok(());
    let request = RunRequest { job, sort, origin: Origin::Asked, look, lifted: &[], consent };
    Ok(run_job(desk, surroundings, request, |_, _| ())?.1)
}
