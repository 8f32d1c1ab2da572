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
use reedhook_core::run::Event;
use reedhook_core::walk::ScanProgress;
use reedhook_jobs::observer::{Event as Happening, Finishing, Observer};
use reedhook_jobs::tally::{InHand, Tally};
use unicode_width::UnicodeWidthStr;

use crate::args::Global;
use crate::output::text as print_text;
use crate::say::warn;
use crate::text::{bytes, count, duration, elided, elided_end, finishing_words, grouped, rate};

/// How often the live view is drawn.
const FRAME: Duration = Duration::from_millis(100);

/// How often a line is printed where there is no terminal.
const LINE_EVERY: Duration = Duration::from_secs(15);

/// How far a run is, in one line.
pub fn in_a_line(tally: &Tally, elapsed: Duration, columns: usize) -> String {
    let doing =
        tally.workers.iter().flatten().next().map_or(String::new(), |file| format!("  {}", file.path));
    elided_end(&format!("running {}%  {}{doing}", tally.percent(), facts(tally, elapsed, columns)), columns)
}

fn problems(tally: &Tally) -> String {
    match tally.problems {
        0 => "no problems".to_owned(),
        number => count(number, "problem", "problems"),
    }
}

/// The whole state in one line, for where there is no terminal.
fn whole_line(tally: &Tally, elapsed: Duration) -> String {
    let left =
        tally.time_left(elapsed).map_or(String::new(), |left| format!(", about {} left", duration(left)));
    format!(
        "{:>3} %  {} of {} files, {} of {}, {}{left}, {}",
        tally.percent(),
        grouped(tally.files),
        grouped(tally.files_total),
        bytes(tally.reached()),
        bytes(tally.bytes_total),
        rate(tally.bytes, elapsed),
        problems(tally),
    )
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
                print_text(whole_line(&self.tally, now - self.started));
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
        self.problems.set_message(problems(tally));
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
pub fn facts(tally: &Tally, elapsed: Duration, columns: usize) -> String {
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

fn worker_lines(workers: &[Option<InHand>], columns: usize) -> Vec<String> {
    if workers.len() <= LINES {
        return workers
            .iter()
            .map(|worker| worker.as_ref().map_or("idle".to_owned(), |worker| file_line(worker, columns)))
            .collect();
    }
    let mut busy: Vec<&InHand> = workers.iter().flatten().collect();
    busy.sort_by_key(|worker| std::cmp::Reverse(worker.size));
    let mut lines: Vec<String> =
        busy.iter().take(LINES - 1).map(|worker| file_line(worker, columns)).collect();
    lines.resize(LINES - 1, "idle".to_owned());
    let rest = busy.len().saturating_sub(LINES - 1);
    lines.push(if rest > 0 {
        format!("and {} more at once", count(rest as u64, "file", "files"))
    } else {
        String::new()
    });
    lines
}

/// What is in hand, in at most so many columns. A long path loses its middle: its end is the file's name.
pub fn file_line(file: &InHand, columns: usize) -> String {
    if file.size == 0 {
        return elided(&file.path, columns);
    }
    let percent = (file.done * 100 / file.size).min(100);
    // All of it has been handed over; the medium is still at it.
    let state = if percent == 100 { "flushing".to_owned() } else { format!("{percent:>3} % of") };
    let before = format!("{state:<8} {:>8}  ", bytes(file.size));
    let room = columns.saturating_sub(before.width());
    elided_end(&format!("{before}{}", elided(&file.path, room)), columns)
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
    /// The countdown before the machine goes down.
    countdown: Mutex<Option<ProgressBar>>,
}

impl Screen {
    /// A screen as the options want it.
    pub fn new(global: &Global) -> Screen {
        Screen { global: global.clone(), scene: Mutex::new(Scene::Empty), countdown: Mutex::default() }
    }
}

impl Observer for Screen {
    fn observe(&self, event: &Happening<'_>) {
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
            (_, Happening::Finishing(finishing)) => self.show_finishing(finishing),
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
    /// On a terminal a countdown is one line that changes; elsewhere it is told once.
    fn show_finishing(&self, finishing: &Finishing<'_>) {
        let mut countdown = self.countdown.lock().unwrap_or_else(PoisonError::into_inner);
        let words = finishing_words(finishing, "Ctrl-C leaves it on.");
        match (finishing, countdown.as_ref()) {
            (Finishing::CountsDown { .. }, None) => {
                let bar = ProgressBar::new_spinner().with_style(plain_message());
                bar.set_draw_target(ProgressDrawTarget::stderr());
                if bar.is_hidden() {
                    warn(&words);
                }
                bar.set_message(words);
                bar.tick();
                *countdown = Some(bar);
            }
            (Finishing::CountsDown { .. }, Some(bar)) => {
                bar.set_message(words);
                bar.tick();
            }
            (_, bar) => {
                if let Some(bar) = bar {
                    bar.finish_and_clear();
                }
                *countdown = None;
                warn(words);
            }
        }
    }

    fn shows_scans(&self) -> bool {
        !self.global.json && !self.global.quiet && std::io::stderr().is_terminal()
    }
}

/// A line that is nothing but its message.
fn plain_message() -> ProgressStyle {
    ProgressStyle::with_template("{msg}").unwrap_or_else(|_| ProgressStyle::default_spinner())
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
        let worker = |path: &str| Some(InHand { path: path.to_owned(), size: 24 << 20, done: 8 << 20 });
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
