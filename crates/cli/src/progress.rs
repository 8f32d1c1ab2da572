//! Watching a run: a live view on a terminal, a line now and then elsewhere, JSON lines for programs.
//!
//! The view only reads events; what it shows has no influence on the work. It is drawn on standard error, at most ten times
//! a second.

use std::io::IsTerminal;
use std::sync::atomic::Ordering;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use reedhook_core::plan::Plan;
use reedhook_core::run::{Done, Event};
use reedhook_core::walk::ScanProgress;
use unicode_width::UnicodeWidthStr;

use reedhook_jobs::desk::{Event as Happening, Listener};

use crate::args::Global;
use crate::context::{print_text, warn};
use crate::text::{bytes, count, duration, elided, elided_end, grouped, rate};

/// How often the live view is drawn.
const FRAME: Duration = Duration::from_millis(100);

/// How often a line is printed where there is no terminal.
const LINE_EVERY: Duration = Duration::from_secs(15);

/// A file costs about as much as this many bytes, besides its content: for the estimate of the time left.
const FILE_WEIGHT: u64 = 64 << 10;

/// What one worker has in hand.
#[derive(Debug, Clone, Default)]
struct Worker {
    path: String,
    size: u64,
    done: u64,
}

/// How far a run is.
#[derive(Debug, Default)]
pub struct Tally {
    files: u64,
    files_total: u64,
    bytes: u64,
    /// Bytes that need not be moved: an earlier run brought them.
    adopted: u64,
    bytes_total: u64,
    problems: u64,
    workers: Vec<Option<Worker>>,
}

impl Tally {
    fn of(plan: &Plan) -> Tally {
        let counts = &plan.counts();
        let files_total = counts.added + counts.updated + counts.moved + counts.removed + counts.meta;
        Tally { files_total, bytes_total: counts.bytes, ..Tally::default() }
    }

    /// Nothing yet of so many files and bytes.
    pub fn expecting(files_total: u64, bytes_total: u64) -> Tally {
        Tally { files_total, bytes_total, ..Tally::default() }
    }

    /// How far it is, in one line.
    pub fn in_a_line(&self, elapsed: Duration, columns: usize) -> String {
        let doing =
            self.workers.iter().flatten().next().map_or(String::new(), |worker| format!("  {}", worker.path));
        elided_end(&format!("running {}%  {}{doing}", self.percent(), facts(self, elapsed, columns)), columns)
    }

    /// Takes note of what happened.
    pub fn take(&mut self, event: &Event) {
        match event {
            Event::Started { worker, path, size } => {
                self.set_worker(*worker, Some(Worker { path: path.to_string(), size: *size, done: 0 }));
            }
            Event::Bytes { worker, bytes } => {
                self.bytes += bytes;
                self.advance(*worker, *bytes);
            }
            Event::Adopted { worker, bytes } => {
                self.adopted += bytes;
                self.advance(*worker, *bytes);
            }
            Event::Idle { worker } => self.set_worker(*worker, None),
            Event::Item(item) if changes_a_file(item.done) => self.files += item.items.unwrap_or(1),
            Event::Item(_) => {}
            Event::Folder { .. } => {}
            Event::Problem(_) => self.problems += 1,
        }
    }

    fn advance(&mut self, worker: usize, bytes: u64) {
        if let Some(Some(worker)) = self.workers.get_mut(worker) {
            worker.done += bytes;
        }
    }

    /// What is there of all that is to be, moved now or before.
    fn reached(&self) -> u64 {
        self.bytes + self.adopted
    }

    fn set_worker(&mut self, number: usize, worker: Option<Worker>) {
        if self.workers.len() <= number {
            self.workers.resize(number + 1, None);
        }
        self.workers[number] = worker;
    }

    /// Done and total work of this run, in bytes and the weight of files.
    fn weight(&self) -> (u64, u64) {
        let total = self.bytes_total.saturating_sub(self.adopted) + self.files_total * FILE_WEIGHT;
        ((self.bytes + self.files * FILE_WEIGHT).min(total), total)
    }

    /// Done and total, as the view shows how far it is: of the bytes, or of the files where those are what takes the time. Either is
    /// one of the two figures that stand beside it.
    fn share(&self) -> (u64, u64) {
        let (done, total) = if self.bytes_total >= self.files_total * FILE_WEIGHT {
            (self.reached(), self.bytes_total)
        } else {
            (self.files, self.files_total)
        };
        (done.min(total), total.max(1))
    }

    fn percent(&self) -> u64 {
        let (done, total) = self.share();
        // Bytes of a large file system times a hundred fit all the same.
        u64::try_from(u128::from(done) * 100 / u128::from(total)).unwrap_or(100)
    }

    fn time_left(&self, elapsed: Duration) -> Option<Duration> {
        let (done, total) = self.weight();
        if done == 0 || elapsed < Duration::from_secs(1) {
            return None;
        }
        Some(elapsed.mul_f64((total - done) as f64 / done as f64))
    }

    fn problems(&self) -> String {
        match self.problems {
            0 => "no problems".to_owned(),
            number => count(number, "problem", "problems"),
        }
    }

    /// The whole state in one line.
    fn line(&self, elapsed: Duration) -> String {
        let left =
            self.time_left(elapsed).map_or(String::new(), |left| format!(", about {} left", duration(left)));
        format!(
            "{:>3} %  {} of {} files, {} of {}, {}{left}, {}",
            self.percent(),
            grouped(self.files),
            grouped(self.files_total),
            bytes(self.reached()),
            bytes(self.bytes_total),
            rate(self.bytes, elapsed),
            self.problems(),
        )
    }
}

fn changes_a_file(done: Done) -> bool {
    !matches!(done, Done::Left | Done::FolderMade | Done::FolderRemoved)
}

/// How a run is shown.
enum Mode {
    Nothing,
    Json,
    /// A line for each item.
    Items,
    /// A line now and then.
    Lines {
        next: Instant,
    },
    Live {
        live: Box<Live>,
        next: Instant,
    },
}

/// The view of one run.
struct View {
    tally: Tally,
    started: Instant,
    mode: Mode,
}

impl View {
    /// The view that fits where the output goes.
    fn new(global: &Global, plan: &Plan) -> View {
        let tally = Tally::of(plan);
        let started = Instant::now();
        let mode = if global.json {
            Mode::Json
        } else if global.quiet {
            Mode::Nothing
        } else if global.verbose {
            Mode::Items
        } else if std::io::stderr().is_terminal() {
            Mode::Live { live: Box::new(Live::new()), next: started + FRAME }
        } else {
            Mode::Lines { next: started + LINE_EVERY }
        };
        View { tally, started, mode }
    }

    /// Takes note of an event; `line` is its JSON form, where it has one.
    fn take(&mut self, event: &Event, line: Option<&[u8]>) {
        self.tally.take(event);
        match (&self.mode, event, line) {
            (Mode::Json, _, Some(line)) => crate::json::print_line(line),
            (Mode::Items, Event::Item(item), _) => {
                print_text(format!("{:<7} {}", item.done.as_str(), item.path));
            }
            (Mode::Items, Event::Problem(problem), _) => {
                print_text(format!("problem {}: {}", problem.path, problem.message));
            }
            _ => {}
        }
    }

    /// Draws when it is time to.
    fn draw(&mut self) {
        let now = Instant::now();
        match &mut self.mode {
            Mode::Live { live, next } if now >= *next => {
                live.draw(&self.tally, now - self.started);
                *next = now + FRAME;
            }
            Mode::Lines { next } if now >= *next => {
                print_text(self.tally.line(now - self.started));
                *next = now + LINE_EVERY;
            }
            _ => {}
        }
    }

    /// Takes the view away; the summary follows.
    fn finish(self) {
        if let Mode::Live { live, .. } = self.mode {
            let _ = live.screen.clear();
        }
    }
}

/// The live view: a bar for everything, a line for each worker, a line for problems.
struct Live {
    screen: MultiProgress,
    total: ProgressBar,
    facts: ProgressBar,
    workers: Vec<ProgressBar>,
    problems: ProgressBar,
}

impl Live {
    fn new() -> Live {
        let screen = MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(20));
        let plain = |template: &str| {
            ProgressStyle::with_template(template)
                .unwrap_or_else(|_| ProgressStyle::default_bar())
                .progress_chars("━╸─")
        };
        let columns = columns();
        let bar = columns.saturating_sub(BESIDE_THE_BAR).clamp(4, 60);
        let total =
            screen.add(ProgressBar::new(1).with_style(plain(&format!("  {{bar:{bar}.green/8}}  {{msg}}"))));
        let facts = screen.add(ProgressBar::new(1).with_style(plain("  {msg}")));
        let problems = screen.add(ProgressBar::new(1).with_style(plain("  {msg}")));
        Live { screen, total, facts, workers: Vec::new(), problems }
    }

    fn draw(&mut self, tally: &Tally, elapsed: Duration) {
        let (done, total) = tally.share();
        self.total.set_length(total);
        self.total.set_position(done);
        self.total.set_message(format!("{} %", tally.percent()));
        let columns = columns();
        self.facts.set_message(facts(tally, elapsed, columns.saturating_sub(INDENT)));
        self.draw_workers(tally, columns.saturating_sub(INDENT));
        self.problems.set_message(tally.problems());
    }

    /// A line for each worker, or where there are many, as with a store far away, for the largest files and one for the rest.
    fn draw_workers(&mut self, tally: &Tally, columns: usize) {
        let lines = worker_lines(&tally.workers, columns);
        while self.workers.len() < lines.len() {
            let style =
                ProgressStyle::with_template("  {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar());
            let bar = ProgressBar::new(1).with_style(style);
            self.workers.push(self.screen.insert_before(&self.problems, bar));
        }
        for (bar, line) in self.workers.iter().zip(lines) {
            bar.set_message(line);
        }
    }
}

/// What stands beside the bar: its indent, two spaces, the percentage, and one column that stays free.
const BESIDE_THE_BAR: usize = 11;

/// What stands before each line, and one column that stays free: a terminal that is filled to its last column wraps.
const INDENT: usize = 3;

fn columns() -> usize {
    usize::from(console::Term::stderr().size().1).max(20)
}

/// How far it is, in figures: as many as fit, the most wanted first.
fn facts(tally: &Tally, elapsed: Duration, columns: usize) -> String {
    let left = match tally.time_left(elapsed) {
        Some(left) => format!("about {} left", duration(left)),
        None => "estimating the time left".to_owned(),
    };
    let size = format!("{} of {}", bytes(tally.reached()), bytes(tally.bytes_total));
    let files = format!("{} of {} files", grouped(tally.files), grouped(tally.files_total));
    let pace = rate(tally.bytes, elapsed);
    let choices =
        [vec![&size, &files, &pace, &left], vec![&size, &files, &left], vec![&size, &left], vec![&size]];
    let lines = choices.map(|parts| parts.into_iter().map(String::as_str).collect::<Vec<_>>().join("   "));
    let fits = lines.iter().find(|line| line.width() <= columns);
    fits.cloned().unwrap_or_else(|| elided_end(&size, columns))
}

/// More lines than this nobody reads.
const LINES: usize = 4;

fn worker_lines(workers: &[Option<Worker>], columns: usize) -> Vec<String> {
    if workers.len() <= LINES {
        return workers
            .iter()
            .map(|worker| worker.as_ref().map_or("idle".to_owned(), |worker| worker.line(columns)))
            .collect();
    }
    let mut busy: Vec<&Worker> = workers.iter().flatten().collect();
    busy.sort_by_key(|worker| std::cmp::Reverse(worker.size));
    let mut lines: Vec<String> = busy.iter().take(LINES - 1).map(|worker| worker.line(columns)).collect();
    lines.resize(LINES - 1, "idle".to_owned());
    let rest = busy.len().saturating_sub(LINES - 1);
    lines.push(if rest > 0 {
        format!("and {} more at once", count(rest as u64, "file", "files"))
    } else {
        String::new()
    });
    lines
}

impl Worker {
    /// What is in hand, in at most so many columns. A long path loses its middle: its end is the file's name.
    fn line(&self, columns: usize) -> String {
        if self.size == 0 {
            return elided(&self.path, columns);
        }
        let percent = (self.done * 100 / self.size).min(100);
        // All of it has been handed over; the medium is still at it.
        let state = if percent == 100 { "flushing".to_owned() } else { format!("{percent:>3} % of") };
        let before = format!("{state:<8} {:>8}  ", bytes(self.size));
        let room = columns.saturating_sub(before.width());
        elided_end(&format!("{before}{}", elided(&self.path, room)), columns)
    }
}

/// What is on the screen while jobs are worked on.
enum Scene {
    /// Nothing.
    Empty,
    /// How far a look is. Short ones show nothing.
    Scan { since: Instant, spinner: Option<ProgressBar> },
    /// A run.
    Run(View),
}

/// Shows what happens: to people, or as lines to programs.
pub struct Screen {
    global: Global,
    scene: Mutex<Scene>,
}

impl Screen {
    /// A screen as the options want it.
    pub fn new(global: &Global) -> Screen {
        Screen { global: global.clone(), scene: Mutex::new(Scene::Empty) }
    }
}

impl Listener for Screen {
    fn hear(&self, event: &Happening<'_>) {
        let mut scene = self.scene.lock().unwrap_or_else(PoisonError::into_inner);
        match (&mut *scene, event) {
            (_, Happening::Note(text)) => warn(text),
            (_, Happening::Begins(plan)) => *scene = Scene::Run(View::new(&self.global, plan)),
            (Scene::Run(view), Happening::Did { event, line }) => {
                view.take(event, *line);
                view.draw();
            }
            // What is done outside a plan has no view, but is told.
            (_, Happening::Did { line: Some(line), .. }) if self.global.json => crate::json::print_line(line),
            (Scene::Run(view), Happening::Tick) => view.draw(),
            (Scene::Scan { since, spinner }, Happening::Scanning { job, progress }) => {
                show_scan(job, progress, *since, spinner);
            }
            (_, Happening::Scanning { .. }) if self.shows_scans() => {
                *scene = Scene::Scan { since: Instant::now(), spinner: None };
            }
            (_, Happening::Scanned | Happening::Ends) => match std::mem::replace(&mut *scene, Scene::Empty) {
                Scene::Run(view) => view.finish(),
                Scene::Scan { spinner: Some(spinner), .. } => spinner.finish_and_clear(),
                Scene::Scan { .. } | Scene::Empty => {}
            },
            _ => {}
        }
    }
}

impl Screen {
    fn shows_scans(&self) -> bool {
        !self.global.json && !self.global.quiet && std::io::stderr().is_terminal()
    }
}

/// Shows how far a look is, once it takes its time.
fn show_scan(job: &str, progress: &ScanProgress, since: Instant, spinner: &mut Option<ProgressBar>) {
    if since.elapsed() <= Duration::from_millis(300) {
        return;
    }
    let spinner = spinner.get_or_insert_with(|| {
        let spinner = ProgressBar::new_spinner();
        spinner.set_draw_target(ProgressDrawTarget::stderr());
        spinner
    });
    let message = format!(
        "{job}: looking at both sides, {} in {} so far",
        count(progress.entries.load(Ordering::Relaxed), "entry", "entries"),
        count(progress.folders.load(Ordering::Relaxed), "folder", "folders")
    );
    spinner.set_message(elided_end(&message, columns().saturating_sub(INDENT)));
    spinner.tick();
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_percentage_is_that_of_a_figure_beside_it_and_nothing_is_wider_than_the_terminal() {
        let worker = |path: &str| Some(Worker { path: path.to_owned(), size: 24 << 20, done: 8 << 20 });
        let name = "stills/2031/05/nest-camera-three-north-of-the-boardwalk-0001.jpg";
        let few = Tally { files_total: 12, bytes: 8 << 20, bytes_total: 24 << 20, ..Tally::default() };
        let many = Tally { files: 150, files_total: 1000, bytes: 900, bytes_total: 1000, ..Tally::default() };
        let none = Tally::default();
        assert_eq!((few.percent(), many.percent(), none.percent()), (33, 15, 0));
        for columns in [20, 40, 80, 200] {
            let lines = worker_lines(&[worker(name), worker("a"), None], columns - INDENT);
            assert!(lines.iter().all(|line| line.width() <= columns - INDENT), "{lines:?}");
            assert!(
                columns < 40 || lines[0].ends_with("0001.jpg"),
                "the name's end is what tells: {}",
                lines[0]
            );
            let facts = facts(&few, Duration::from_secs(9), columns - INDENT);
            assert!(facts.width() <= columns - INDENT && facts.starts_with("8.39 MB"), "{facts}");
        }
    }
}
