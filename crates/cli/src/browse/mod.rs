//! `review inventory:NAME`: what a store held, full screen, while it is in a cupboard.
//!
//! [`model`] is what is looked through, [`draw`] shows it. Everything comes out of the file of inventories, so nothing is waited for.

mod draw;
mod model;
#[cfg(test)]
mod tests;
mod view;

use std::ops::ControlFlow;
use std::time::Duration;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use reedhook_core::path::RelPath;
use reedhook_jobs::inventory;

use crate::browse::view::{MOST_FOUND, Source, View};
use crate::commands::seen_words;
use crate::context::Context;
use crate::failure::{INTERRUPTED, Outcome};
use crate::paint::Paint;
use crate::screen::{self, Screen, Typed};
use crate::text::grouped;

/// How long a key is waited for before it is seen whether the program is to end.
const TURN: Duration = Duration::from_millis(200);

/// Looks through an inventory, from a folder of it on.
pub fn browse(context: &Context, name: &str, folder: &RelPath) -> Outcome {
    let all = inventory::open(&context.desk.home)?;
    let one = inventory::named(&context.desk.home, &all, name)?;
    screen::is_needed(context, "review", format!("reedhook inventory show {name}"))?;
    let mut view = View::new(&one, seen_words(context, &one), Paint::of_output());
    let source = Source { context, all, one };
    source.list(&mut view.model, b"")?;
    if !folder.is_root() {
        source.go_to(&mut view.model, folder.as_bytes())?;
        source.open(&mut view.model)?;
    }
    watch(&mut Screen::take()?, &mut view, &source)
}

fn watch(screen: &mut Screen, view: &mut View, source: &Source<'_>) -> Outcome {
    let mut changed = true;
    loop {
        if changed {
            screen.draw(|frame| draw::draw(frame, view))?;
        }
        let typed = screen.wait(TURN)?;
        changed = !matches!(typed, Typed::Nothing);
        match typed {
            Typed::Key(key) if pressed(view, source, key)?.is_break() => return Ok(0),
            Typed::Gone => return Ok(INTERRUPTED),
            _ => {}
        }
        // Somebody outside wants the program to end.
        if source.context.desk.is_stopped() {
            return Ok(INTERRUPTED);
        }
    }
}

/// Takes a key; breaks when the view is to end.
fn pressed(view: &mut View, source: &Source<'_>, key: KeyEvent) -> Outcome<ControlFlow<()>> {
    view.message = None;
    if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
        return Ok(ControlFlow::Break(()));
    }
    if std::mem::take(&mut view.help) {
        return Ok(ControlFlow::Continue(()));
    }
    if view.typing.is_some() {
        typed(view, source, key.code)?;
        return Ok(ControlFlow::Continue(()));
    }
    let page = view.height.saturating_sub(1).max(1) as isize;
    let model = &mut view.model;
    match key.code {
        KeyCode::Char('q') | KeyCode::Esc => return Ok(ControlFlow::Break(())),
        KeyCode::Up | KeyCode::Char('k') => model.move_by(-1),
        KeyCode::Down | KeyCode::Char('j') => model.move_by(1),
        KeyCode::PageUp => model.move_by(-page),
        KeyCode::PageDown => model.move_by(page),
        KeyCode::Home | KeyCode::Char('g') => model.move_by(isize::MIN / 2),
        KeyCode::End | KeyCode::Char('G') => model.move_by(isize::MAX / 2),
        KeyCode::Right | KeyCode::Enter => source.open(model)?,
        KeyCode::Left | KeyCode::Char('h') => model.fold_here(),
        KeyCode::Char('o') => {
            model.turn();
            view.message = Some(format!("Now {}.", model.order.words()));
        }
        KeyCode::Char('/') => view.typing = Some(String::new()),
        KeyCode::Char('n') => go_on(view, source, 1)?,
        KeyCode::Char('N') => go_on(view, source, -1)?,
        KeyCode::Char('?') => view.help = true,
        _ => {}
    }
    Ok(ControlFlow::Continue(()))
}

fn typed(view: &mut View, source: &Source<'_>, code: KeyCode) -> Outcome<()> {
    let Some(text) = &mut view.typing else { return Ok(()) };
    match code {
        KeyCode::Esc => view.typing = None,
        KeyCode::Backspace => drop(text.pop()),
        KeyCode::Char(letter) => text.push(letter),
        KeyCode::Enter => {
            let text = std::mem::take(text);
            view.typing = None;
            if text.trim().is_empty() {
                return Ok(());
            }
            view.model.found = source.find(&text)?;
            // The first is what is gone to.
            view.model.at = usize::MAX;
            match view.model.found.is_empty() {
                true => view.message = Some(format!("Nothing here has \"{}\" in its path.", text.trim())),
                false => go_on(view, source, 1)?,
            }
        }
        _ => {}
    }
    Ok(())
}

/// Goes to the next of what was found, or to the one before.
fn go_on(view: &mut View, source: &Source<'_>, by: isize) -> Outcome<()> {
    let number = view.model.found.len();
    if number == 0 {
        view.message = Some("Nothing has been looked for; / finds words of the path.".to_owned());
        return Ok(());
    }
    let at = if view.model.at == usize::MAX {
        0
    } else {
        (view.model.at + number).wrapping_add_signed(by) % number
    };
    view.model.at = at;
    let path = view.model.found[at].clone();
    source.go_to(&mut view.model, &path)?;
    let more = if number == MOST_FOUND { "the first " } else { "" };
    view.message = Some(format!("{} of {more}{} found", grouped(at as u64 + 1), grouped(number as u64)));
    Ok(())
}
