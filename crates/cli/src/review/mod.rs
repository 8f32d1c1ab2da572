//! `review`: both trees side by side, full screen. What differs (or what a job would do) can be looked through, changed item by item,
//! run or saved as a plan.
//!
//! [`model`] is what is reviewed, as data; [`draw`] shows it; [`work`] does what takes time on threads of its own. This module joins
//! them: keys and news in, one frame out whenever something has changed.

mod draw;
mod model;
#[cfg(test)]
mod tests;
mod view;
mod work;

use std::path::PathBuf;
use std::time::{Duration, Instant};

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use reedhook_core::compare::Basis;
use reedhook_core::run::Done;
use reedhook_jobs::compare::{How, Pairing, trouble};
use reedhook_jobs::jobfile::load_job;
use reedhook_jobs::places::{Ends, INVENTORY, Located, Means, locate};
use reedhook_jobs::tally::Tally;
use reedhook_record::Outcome as RunOutcome;
use reedhook_stores::remote::connect::ConnectError;

use crate::args::{FilterArgs, ReviewArgs};
use crate::browse::browse;
use crate::context::Context;
use crate::failure::{Failure, INTERRUPTED, Outcome};
use crate::paint::Paint;
use crate::review::view::{Asked, Phase, Prompt, Running, View};
use crate::screen::{self, Screen, Typed};
use crate::text::{count, duration};
use model::Word;
use work::{ReviewNews, Subject, Task, Worker};

/// How long a key is waited for before news are looked at.
const TURN: Duration = Duration::from_millis(40);

/// Reviews a job or two places.
pub fn review(context: &Context, asked: &ReviewArgs) -> Outcome {
    if let [place] = asked.places.as_slice()
        && place.starts_with(INVENTORY)
        && let Means::Inventory { name, below } =
            locate(&context.desk.home, &context.desk.settings, place)?.means
    {
        return browse(context, &name, &below);
    }
    let subject = subject(asked)?;
    screen::is_needed(context, "review", "reedhook compare, or reedhook preview.".to_owned())?;
    let (name, is_job) = match &subject {
        Subject::Job(name) => (name.clone(), true),
        Subject::Places { .. } => ("review".to_owned(), false),
    };
    reach(context, &subject)?;
    let view = View::new(&name, is_job, Paint::of_output());
    let worker = Worker::start(&context.desk, &context.surroundings, subject);
    watch(context, &mut Screen::take()?, view, &worker)
}

fn subject(asked: &ReviewArgs) -> Outcome<Subject> {
    match asked.places.as_slice() {
        [_] if asked.content || asked.filter != FilterArgs::default() => {
            Err(Failure::usage("--content and what takes part are for two places; a job has its own filter")
                .hint("Change it with `reedhook job filter`, or compare: reedhook compare JOB --content."))
        }
        [name] => Ok(Subject::Job(name.clone())),
        [left, right] => {
            let basis = if asked.content { Basis::Content } else { Basis::Time };
            let how = How { basis, tolerance: None, tallies: false };
            let keys = Box::new(asked.filter.keys());
            Ok(Subject::Places { left: left.clone(), right: right.clone(), keys, how })
        }
        _ => Err(Failure::usage("review takes a job, or two places")),
    }
}

/// Opens what is reviewed once, before the screen is the view's: what cannot be found is said in a line, and a secret can be asked for.
fn reach(context: &Context, subject: &Subject) -> Outcome<()> {
    let desk = &context.desk;
    match subject {
        Subject::Places { left, right, keys, .. } => {
            Pairing::of_places(desk, left, std::slice::from_ref(right), (**keys).clone())
                .map(drop)
                .map_err(trouble)
        }
        Subject::Job(name) => {
            let job = load_job(&desk.home, name)?;
            let ends = Ends::of(&job, &desk.home, &desk.settings)?;
            let servers = ends.from.iter().chain(&ends.to).filter_map(Located::server);
            servers.into_iter().try_for_each(|server| match server.open(desk) {
                // A folder may be made by the run; whatever else is wrong is wrong for all of it.
                Ok(_) | Err(ConnectError::NoFolder { .. }) => Ok(()),
                Err(error) => Err(server.failure(desk, error)),
            })
        }
    }
}

fn watch(context: &Context, screen: &mut Screen, mut view: View, worker: &Worker) -> Outcome {
    worker.ask(Task::Look);
    let mut changed = true;
    loop {
        if changed {
            screen.draw(|frame| draw::draw(frame, &mut view))?;
        }
        let typed = screen.wait(TURN)?;
        changed = !matches!(typed, Typed::Nothing);
        match typed {
            Typed::Key(key) if !pressed(context, &mut view, worker, key) => return Ok(view.code),
            // A run that goes on comes to its end, or is stopped by whoever took the terminal away.
            Typed::Gone if !matches!(view.phase, Phase::Running(_)) => return Ok(INTERRUPTED),
            _ => {}
        }
        for news in worker.news.try_iter().take(2000) {
            take(&mut view, worker, news);
            changed = true;
        }
        // Somebody outside wants the program to end.
        if worker.is_stopped() && !view.stopping && !matches!(view.phase, Phase::Running(_)) {
            return Ok(INTERRUPTED);
        }
    }
}

/// Takes news of the work.
pub(super) fn take(view: &mut View, worker: &Worker, news: ReviewNews) {
    match news {
        ReviewNews::Looking { entries, bytes } => {
            if matches!(view.phase, Phase::Looking { .. }) {
                view.phase = Phase::Looking { entries, read: bytes };
            }
        }
        ReviewNews::Looked(looked) => {
            view.places = looked.places;
            view.same = looked.same;
            view.notes = looked.notes;
            view.model.set_rows(looked.rows);
            if !matches!(view.phase, Phase::Running(_)) {
                view.phase = Phase::Ready;
            }
            if view.model.with_same {
                view.model.show_same(true).into_iter().for_each(|folder| worker.ask(Task::List(folder)));
            }
            if view.message.is_none() {
                view.message = match view.notes.as_slice() {
                    [] => None,
                    [only] => Some(only.clone()),
                    [first, ..] => Some(format!("{} notes; {first}", view.notes.len())),
                };
            }
        }
        ReviewNews::Listed(folder, listed) => view.model.take_listing(folder, listed),
        ReviewNews::Text(path, lines) => view.pane = Some((path, lines, 0)),
        ReviewNews::Saved(_, Err(failure)) => view.message = Some(failure.to_string()),
        ReviewNews::Saved(file, Ok(deeds)) => {
            let deeds = count(deeds as u64, "deed", "deeds");
            view.message =
                Some(format!("Saved {deeds}: reedhook run {} --plan {}", view.name, file.display()));
        }
        ReviewNews::Began(files, bytes) => {
            let (since, tally) = match &view.phase {
                Phase::Running(running) => (running.since, Tally::expecting(files, bytes)),
                _ => (Instant::now(), Tally::expecting(files, bytes)),
            };
            view.phase = Phase::Running(Box::new(Running { tally, since }));
        }
        ReviewNews::Did(event) => {
            if let Phase::Running(running) = &mut view.phase {
                running.tally.take(&event);
            }
        }
        ReviewNews::Ran(result) => ran(view, worker, &result),
        ReviewNews::Failed(failure) => {
            if std::mem::take(&mut view.stopping) {
                worker.resume();
            }
            let failure = if view.is_job { failure } else { trouble(failure) };
            view.code = crate::failure::exit_of(&failure);
            view.phase = Phase::Ready;
            view.message = Some(failure.to_string());
        }
    }
}

/// A run has come to its end: what it was is told, and both sides are looked at anew.
fn ran(view: &mut View, worker: &Worker, result: &reedhook_jobs::run::RunResult) {
    let counts = &result.counts;
    view.code = match (&result.failure, result.outcome) {
        (Some(failure), _) => crate::failure::exit_of(failure),
        (None, RunOutcome::Problems) => 1,
        (None, RunOutcome::Held) => 4,
        (None, RunOutcome::Interrupted) => crate::failure::INTERRUPTED,
        (None, _) => 0,
    };
    let done = count(counts.added + counts.updated + counts.moved + counts.removed, "file", "files");
    let outcome = result.outcome.as_str();
    view.message = Some(match &result.failure {
        Some(failure) => failure.to_string(),
        None => format!(
            "Run {}: {outcome}, {done} in {}{}.",
            result.number,
            duration(result.elapsed),
            if counts.problems > 0 {
                format!(", {}", count(counts.problems, "problem", "problems"))
            } else {
                String::new()
            }
        ),
    });
    if !std::mem::take(&mut view.stopping) && worker.is_stopped() {
        // The wish to stop came from outside: it is meant for all of this.
        view.phase = Phase::Ready;
        return;
    }
    worker.resume();
    view.phase = Phase::Looking { entries: 0, read: 0 };
    worker.ask(Task::Look);
}

/// A key was pressed; `false` ends the review.
fn pressed(context: &Context, view: &mut View, worker: &Worker, key: KeyEvent) -> bool {
    view.message = None;
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    if control && key.code == KeyCode::Char('c') {
        if matches!(view.phase, Phase::Running(_)) {
            stop(view, worker);
            return true;
        }
        return false;
    }
    if view.help {
        view.help = false;
        return true;
    }
    if view.question.is_some() {
        answered(view, worker, key.code);
        return true;
    }
    if view.prompt.is_some() {
        typed(context, view, worker, key.code);
        return true;
    }
    if view.pane.is_some() {
        in_pane(view, key.code);
        return true;
    }
    if matches!(view.phase, Phase::Running(_)) {
        if key.code == KeyCode::Esc {
            stop(view, worker);
        }
        return true;
    }
    in_list(view, worker, key.code)
}

fn stop(view: &mut View, worker: &Worker) {
    view.stopping = true;
    worker.stop();
    view.message = Some("Stopping; what was done stays whole.".to_owned());
}

fn in_list(view: &mut View, worker: &Worker, code: KeyCode) -> bool {
    let page = view.height.saturating_sub(1).max(1) as isize;
    match code {
        KeyCode::Char('q') | KeyCode::Esc => return false,
        KeyCode::Up | KeyCode::Char('k') => view.model.move_by(-1),
        KeyCode::Down | KeyCode::Char('j') => view.model.move_by(1),
        KeyCode::PageUp => view.model.move_by(-page),
        KeyCode::PageDown => view.model.move_by(page),
        KeyCode::Home | KeyCode::Char('g') => view.model.move_by(isize::MIN / 2),
        KeyCode::End | KeyCode::Char('G') => view.model.move_by(isize::MAX / 2),
        KeyCode::Right | KeyCode::Enter => {
            view.model.open_here().into_iter().for_each(|folder| worker.ask(Task::List(folder)));
        }
        KeyCode::Left | KeyCode::Char('h') => view.model.fold_here(),
        KeyCode::Char('0') => view.model.show_all_words(),
        KeyCode::Char(digit @ '1'..='9') => view.model.toggle_word(digit as usize - '1' as usize),
        KeyCode::Char('s') => {
            let show = !view.model.with_same;
            view.model.show_same(show).into_iter().for_each(|folder| worker.ask(Task::List(folder)));
        }
        KeyCode::Char('/') => view.prompt = Some(Prompt::new(Asked::Search, String::new())),
        KeyCode::Char('n') => find(view, true),
        KeyCode::Char('N') => find(view, false),
        KeyCode::Char('d') => show_text(view, worker),
        KeyCode::Char('l') => {
            view.phase = Phase::Looking { entries: 0, read: 0 };
            worker.ask(Task::Look);
        }
        KeyCode::Char('?') => view.help = true,
        code if view.is_job => of_a_job(view, code),
        _ => {}
    }
    true
}

fn of_a_job(view: &mut View, code: KeyCode) {
    match code {
        KeyCode::Char(' ') => {
            view.model.choose_here();
            view.model.move_by(1);
        }
        KeyCode::Char('w') => {
            view.prompt = Some(Prompt::new(Asked::Plan, format!("{}.plan", view.name)));
        }
        KeyCode::Char('x') => {
            if let Some(path) = view.model.here().and_then(|line| view.model.path_of(line)) {
                let folder = matches!(view.model.here(), Some(model::ReviewLine::Folder { .. }));
                let line = crate::commands::filter_lines::filter_line(&path, folder);
                match line {
                    Some(line) => view.prompt = Some(Prompt::new(Asked::Filter, line)),
                    None => view.message = Some("No line can be written for this name.".to_owned()),
                }
            }
        }
        KeyCode::Char('r') if matches!(view.phase, Phase::Ready) => ask_to_run(view),
        _ => {}
    }
}

fn find(view: &mut View, forward: bool) {
    let text = view.found.clone();
    if !text.is_empty() && !view.model.search(&text, forward) {
        view.message = Some(format!("Nothing shown has \"{text}\" in its path."));
    }
}

fn show_text(view: &mut View, worker: &Worker) {
    let Some(row) = view.model.row_here().filter(|row| !row.is_folder()) else { return };
    let right = row.elsewhere.clone().unwrap_or_else(|| row.path.clone());
    worker.ask(Task::Text(row.path.clone(), right));
}

fn ask_to_run(view: &mut View) {
    let done = view.model.chosen();
    let chosen = view.chosen();
    let mut lines: Vec<String> = done
        .iter()
        .filter(|(_, items)| *items > 0)
        .map(|(word, items)| format!("{:<10} {}", word.text(), count(*items, "file", "files")))
        .collect();
    for (policy, paths) in chosen.winners.iter().filter(|(_, paths)| !paths.is_empty()) {
        lines.push(format!(
            "{:<10} {}",
            format!("{policy} wins"),
            count(paths.len() as u64, "conflict", "conflicts")
        ));
    }
    let reversed: usize = chosen.reversed.iter().map(|(_, paths)| paths.len()).sum();
    if reversed > 0 {
        lines.push(format!("{:<10} {}", "other way", count(reversed as u64, "file", "files")));
    }
    if done.is_empty() && lines.is_empty() {
        view.message = Some("Nothing is chosen, so there is nothing to run.".to_owned());
        return;
    }
    let removes = |word: &Word| matches!(word, Word::Deed(Done::Removed | Done::FolderRemoved));
    if done.iter().any(|(word, items)| removes(word) && *items > 0) {
        lines.push(String::new());
        lines.push("What is removed or replaced goes where the job says.".to_owned());
    }
    view.question = Some(lines.join("\n"));
}

fn answered(view: &mut View, worker: &Worker, code: KeyCode) {
    match code {
        KeyCode::Char('y' | 'Y') => {
            view.question = None;
            view.phase =
                Phase::Running(Box::new(Running { tally: Tally::expecting(0, 0), since: Instant::now() }));
            worker.ask(Task::Run(view.chosen()));
        }
        KeyCode::Char('n' | 'N' | 'q') | KeyCode::Esc => view.question = None,
        _ => {}
    }
}

fn in_pane(view: &mut View, code: KeyCode) {
    let Some((_, lines, top)) = &mut view.pane else { return };
    let last = lines.len().saturating_sub(1);
    match code {
        KeyCode::Up | KeyCode::Char('k') => *top = top.saturating_sub(1),
        KeyCode::Down | KeyCode::Char('j') => *top = (*top + 1).min(last),
        KeyCode::PageUp => *top = top.saturating_sub(10),
        KeyCode::PageDown => *top = (*top + 10).min(last),
        KeyCode::Esc | KeyCode::Char('q' | 'd') => view.pane = None,
        _ => {}
    }
}

fn typed(context: &Context, view: &mut View, worker: &Worker, code: KeyCode) {
    let Some(prompt) = &mut view.prompt else { return };
    match code {
        KeyCode::Esc => view.prompt = None,
        KeyCode::Backspace => drop(prompt.text.pop()),
        KeyCode::Char(letter) => prompt.text.push(letter),
        KeyCode::Enter => {
            let (kind, text) = (prompt.kind, prompt.text.trim().to_owned());
            view.prompt = None;
            if !text.is_empty() {
                taken(context, view, worker, kind, text);
            }
        }
        _ => {}
    }
}

fn taken(context: &Context, view: &mut View, worker: &Worker, kind: Asked, text: String) {
    match kind {
        Asked::Search => {
            view.found = text;
            find(view, true);
        }
        Asked::Plan => worker.ask(Task::Save(PathBuf::from(text), view.chosen())),
        Asked::Filter => match crate::commands::exclude(context, &view.name, &text) {
            Ok(()) => {
                view.message = Some(format!("\"{text}\" is left out from now on."));
                view.phase = Phase::Looking { entries: 0, read: 0 };
                worker.ask(Task::Look);
            }
            Err(failure) => view.message = Some(failure.to_string()),
        },
    }
}
