//! The whole terminal as a screen: taken, drawn on, listened to, and put back whatever happens.
//!
//! A terminal may go while it is looked at: a window is closed, a connection breaks. Then reading gives nothing at once, for ever, and a
//! view has to end by itself.

use std::io::{self, IsTerminal};
use std::time::Duration;

use ratatui::crossterm::event::{self, Event, KeyEvent, KeyEventKind};
use ratatui::{DefaultTerminal, Frame};

use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// What has come from the terminal.
pub enum Typed {
    /// Somebody has pressed a key.
    Key(KeyEvent),
    /// It has another size, or something else that asks for a new picture.
    Changed,
    /// Nothing, for as long as was waited.
    Nothing,
    /// There is no terminal any more.
    Gone,
}

/// Whether a view can be shown at all; what it is called, and what there is elsewhere, are for the error.
///
/// # Errors
/// When there is no terminal, or the answer is for a program.
pub fn is_needed(context: &Context, what: &str, elsewhere: String) -> Outcome<()> {
    if io::stdout().is_terminal() && io::stdin().is_terminal() && !context.global.json {
        return Ok(());
    }
    Err(Failure::usage(format!("{what} needs a terminal")).hint(format!("Elsewhere: {elsewhere}")))
}

/// The terminal while a view has all of it. It is put back at the end, after a panic too.
pub struct Screen {
    terminal: DefaultTerminal,
    gone: bool,
}

impl Screen {
    /// Takes the terminal.
    ///
    /// # Errors
    /// When it cannot be used so.
    pub fn take() -> Outcome<Screen> {
        Ok(Screen { terminal: ratatui::try_init().map_err(unusable)?, gone: false })
    }

    /// Draws a picture; where there is no terminal any more, nobody misses it.
    ///
    /// # Errors
    /// When the terminal does not take it.
    pub fn draw(&mut self, picture: impl FnOnce(&mut Frame<'_>)) -> Outcome<()> {
        if self.gone {
            return Ok(());
        }
        match self.terminal.draw(picture) {
            Err(error) if !is_gone() => Err(unusable(error)),
            _ => Ok(()),
        }
    }

    /// Waits for something to come, no longer than that.
    ///
    /// # Errors
    /// When the terminal cannot be read.
    pub fn wait(&mut self, turn: Duration) -> Outcome<Typed> {
        if self.gone {
            // Whoever does not end yet has something to wait for.
            std::thread::sleep(turn);
            return Ok(Typed::Gone);
        }
        let heard = event::poll(turn);
        self.gone = is_gone();
        if self.gone {
            return Ok(Typed::Gone);
        }
        if !heard.map_err(unusable)? {
            return Ok(Typed::Nothing);
        }
        Ok(match event::read().map_err(unusable)? {
            Event::Key(key) if key.kind != KeyEventKind::Release => Typed::Key(key),
            _ => Typed::Changed,
        })
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        // A terminal that has gone need not be put back, and has nobody who could be told.
        let _ = ratatui::try_restore();
    }
}

fn unusable(error: io::Error) -> Failure {
    Failure::usage(format!("the terminal cannot be used: {error}"))
}

/// Whether nobody is at the other end of the terminal any more.
#[cfg(unix)]
fn is_gone() -> bool {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    let input = io::stdin();
    let mut asked = [PollFd::new(&input, PollFlags::empty())];
    let at_once = Timespec { tv_sec: 0, tv_nsec: 0 };
    let ended = PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL;
    poll(&mut asked, Some(&at_once)).is_ok() && asked[0].revents().intersects(ended)
}

#[cfg(not(unix))]
fn is_gone() -> bool {
    false
}
