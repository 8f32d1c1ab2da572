//! `board`: everything alive, full screen: jobs and how they stand, what runs now and how far it is, what happened, drives coming and going.
//!
//! [`model`] is what is shown, as data; [`draw`] shows it; [`feed`] hears from the service and looks at Reedhook's own files; [`work`] does
//! what a key asks for. This module joins them: news and keys in, a frame out when something has changed. The view waits for no disk and no
//! server, and counts nothing itself: however many files a run moves, it is told a few times a second how far that is.

mod draw;
mod feed;
mod model;
pub(crate) mod shown;
#[cfg(test)]
mod tests;
mod words;
mod work;

use std::time::{Duration, Instant};

use crossbeam_channel::bounded;
use ratatui::crossterm::event::{KeyCode, KeyModifiers};
use reedhook_jobs::jobfile::load_job;

use crate::commands::tend::set_paused;
use crate::context::Context;
use crate::failure::{INTERRUPTED, Outcome};
use crate::paint::Paint;
use crate::screen::{self, Screen, Typed};
use model::{Board, Key, Whose, Wish};
use work::Worker;

/// How long a key is waited for before news are looked at.
const TURN: Duration = Duration::from_millis(50);

/// How much may wait to be shown; a sender of more is blocked until there is room.
const NEWS: usize = 4096;

/// No frame follows another one sooner, but for a key.
const FRAME: Duration = Duration::from_millis(150);

/// Where something runs or a clock is shown, a frame comes this often whatever happens.
const STEADY: Duration = Duration::from_secs(1);

/// Shows the board until a key ends it.
pub fn board(context: &Context) -> Outcome {
    let elsewhere = "reedhook status, reedhook tend status, reedhook report.".to_owned();
    screen::is_needed(context, "the board", elsewhere)?;
    // What is wrong with Reedhook's own files is said in a line, before the screen is taken.
    drop(context.desk.home.record()?);
    let (sender, news) = bounded(NEWS);
    let feed = feed::Feed::start(&context.desk, &sender);
    let worker = Worker::new(&context.desk, &context.surroundings, sender);
    let mut screen = Screen::take()?;
    let board = Board::new(Paint::of_output(), context.desk.world.zone.clone());
    let ended = watch(context, &mut screen, board, (&feed, &worker), &news);
    drop(screen);
    // Whoever still has something to say waits for nobody any more.
    drop(news);
    worker.end();
    // Who closes the board while the machine is about to go down wants it on.
    context.surroundings.finale.forget_machine();
    ended
}

/// Pauses a job, or lets it run by itself again: whatever it is not, by its file as it is now.
fn turn_pause(context: &Context, job: &str) -> Outcome<String> {
    let paused = !load_job(&context.desk.home, job)?.timing.paused;
    set_paused(context, job, paused)?;
    Ok(match paused {
        true => format!("{job} is paused: nothing of it begins by itself."),
        false => format!("{job} runs by itself again."),
    })
}

fn watch(
    context: &Context,
    screen: &mut Screen,
    mut board: Board,
    (feed, worker): (&feed::Feed, &Worker),
    news: &crossbeam_channel::Receiver<model::BoardNews>,
) -> Outcome {
    let (mut changed, mut drawn) = (true, Instant::now());
    let mut pressed = true;
    loop {
        for heard in news.try_iter().take(1000) {
            board.take(heard);
            changed = true;
        }
        changed |= board.take_own(worker.live());
        if changed {
            let told = board.live.iter().filter(|(_, live)| live.whose != Whose::Other);
            feed.are_told_of(told.map(|(job, _)| job));
        }
        let since = drawn.elapsed();
        if pressed || (changed && since >= FRAME) || since >= STEADY {
            board.now_ms = crate::clock::now_ms();
            screen.draw(|frame| draw::draw(frame, &mut board))?;
            (changed, pressed, drawn) = (false, false, Instant::now());
        }
        match screen.wait(TURN)? {
            Typed::Key(key) => {
                pressed = true;
                board.now_ms = crate::clock::now_ms();
                let control = key.modifiers.contains(KeyModifiers::CONTROL);
                let key =
                    if control && key.code == KeyCode::Char('c') { KeyCode::Char('q') } else { key.code };
                for wish in board.press(Key::of(key)) {
                    match wish {
                        Wish::End => return Ok(0),
                        Wish::Look => feed.look_now(),
                        Wish::Pause(job) => {
                            board.told(turn_pause(context, &job));
                            feed.look_now();
                        }
                        wish => worker.ask(wish),
                    }
                }
            }
            Typed::Changed => pressed = true,
            Typed::Nothing => {}
            Typed::Gone => return Ok(INTERRUPTED),
        }
        // Somebody outside wants the program to end.
        if context.desk.is_stopped() {
            return Ok(INTERRUPTED);
        }
    }
}
