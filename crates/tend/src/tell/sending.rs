//! Sending one message one way, unless that is too much.

use reedhook_core::foreign::escaped;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::hooks;
use reedhook_jobs::notify::Way;
use reedhook_jobs::run_job::Origin;
use reedhook_record::{Notification, Telling};

use crate::tell::message::Message;
use crate::tell::waiting::WITHIN;
use crate::tell::{desktop, mail, webhook};

/// The same trouble is told again after so long.
pub(super) const AGAIN_MS: i64 = 86_400_000;

/// Messages are remembered for so long.
pub(super) const REMEMBERED_MS: i64 = 400 * 86_400_000;

pub(super) const HOUR_MS: i64 = 3_600_000;

/// Sends a message one way, unless that is too much; what becomes of it is remembered.
pub(super) fn tell_by(desk: &Desk, way: Way, message: &Message, origin: Origin) -> Result<(), String> {
    if way == Way::Desktop && !desktop::is_there(desk) {
        return Err("no desktop is there".to_owned());
    }
    let held = held_back(desk, way, message, origin);
    let (telling, why) = match &held {
        HoldBack::Back(why) => (Telling::HeldBack, *why),
        HoldBack::Not { .. } => (Telling::Failed, "the program ended before it was sent"),
    };
    let id = desk.home.record().ok().and_then(|mut record| {
        let told = Notification {
            way: way.as_str().to_owned(),
            job: message.job.clone(),
            run: message.run.clone(),
            what: message.what.clone(),
            at_ms: desk.now_ms(),
            telling,
            message: why.to_owned(),
        };
        record.add_told(&told, REMEMBERED_MS).ok()
    });
    let HoldBack::Not { left_out } = held else { return Ok(()) };
    // What went wrong may be told in the words of a server.
    let sent = send(desk, way, message, left_out).map_err(|why| escaped(&why));
    if let (Some(id), Ok(mut record)) = (id, desk.home.record()) {
        let (telling, why) = match &sent {
            Ok(()) => (Telling::Notification, ""),
            Err(why) => (Telling::Failed, why.as_str()),
        };
        let _ = record.end_told(id, telling, why);
    }
    if let Err(why) = &sent {
        desk.note(format!("{way}: {} could not be told: {why}", message.about()));
    }
    sent
}

/// Whether a message is held back.
pub(super) enum HoldBack {
    Back(&'static str),
    Not {
        /// How many were since the last one that was sent.
        left_out: u64,
    },
}

/// Why messages that would be too many are held back.
pub(super) const TOO_MANY: &str = "too many in an hour";

pub(super) fn held_back(desk: &Desk, way: Way, message: &Message, origin: Origin) -> HoldBack {
    let now = desk.now_ms();
    let earlier = desk.home.record().and_then(|record| Ok(record.told_since(now.saturating_sub(AGAIN_MS))?));
    // Where nothing is remembered, rather too much is told than nothing.
    let mut earlier = earlier.unwrap_or_default();
    earlier.retain(|told| told.way == way.as_str());
    let told = || earlier.iter().filter(|told| told.telling == Telling::Notification);
    let last = told().rfind(|told| told.job == message.job);
    // A program that is told wants to hear everything.
    let same = origin == Origin::ByItself && !message.is_well && way != Way::Command;
    if same && last.is_some_and(|told| told.what == message.what) {
        return HoldBack::Back("the same as before");
    }
    let in_an_hour = told().filter(|told| told.at_ms > now.saturating_sub(HOUR_MS)).count();
    let most = desk.settings.notify.at_most(way);
    if most.is_some_and(|most| in_an_hour >= most as usize) {
        return HoldBack::Back(TOO_MANY);
    }
    let since_then = earlier.iter().rev().take_while(|told| told.telling != Telling::Notification);
    HoldBack::Not { left_out: since_then.filter(|told| told.message == TOO_MANY).count() as u64 }
}

pub(super) fn send(desk: &Desk, way: Way, message: &Message, left_out: u64) -> Result<(), String> {
    let keys = &desk.settings.notify;
    let not_set_up = || format!("{way} is not set up");
    match way {
        Way::Desktop => desktop::show(desk, message),
        Way::Command => {
            let command = keys.command.as_ref().ok_or_else(not_set_up)?;
            let text = message.text(left_out);
            hooks::tell(desk, &command.run, &message.variables, &text, WITHIN)
        }
        Way::Mail => mail::send(desk, keys.mail.as_ref().ok_or_else(not_set_up)?, message, left_out),
        Way::Webhook => webhook::send(desk, keys.webhook.as_ref().ok_or_else(not_set_up)?, message, left_out),
    }
}

/// Under which name the secret of a way is kept; `None` when it has none.
pub fn secret_of(way: Way) -> Option<&'static str> {
    match way {
        Way::Mail => Some(mail::KEPT_AS),
        Way::Webhook => Some(webhook::KEPT_AS),
        Way::Desktop | Way::Command => None,
    }
}
