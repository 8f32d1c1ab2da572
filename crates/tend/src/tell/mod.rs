//! Telling people and programs what came of runs: who wants to hear of it, how much of it, and what became of that.
//!
//! A run tells its [`Messenger`]: [`AtOnce`] where a command waits for it, a thread of its own in the service. What could not be told never
//! fails a run: it is remembered, and stands in the next report.
//!
//! A message is written down as failed before it is sent, and as told afterwards, so that what a crash cuts short is known too. No way
//! gets more in an hour than it may, and of the runs that begin by themselves the same trouble is told once a day.

mod desktop;
mod digest;
mod mail;
mod message;
mod webhook;

use std::time::{Duration, Instant};

use crossbeam_channel::RecvTimeoutError;

use reedhook_core::foreign::escaped;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::failure::{Failure, Outcome};
use reedhook_jobs::hooks;
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::notify::{Condition, NotifyLine, Way, condition};
use reedhook_jobs::run::RunResult;
use reedhook_jobs::run_job::{Messenger, Origin};
use reedhook_record::{Notification, Telling};
use reedhook_report::metrics;

pub use digest::send_due as send_due_digests;
use message::Message;

/// A message has to be through within this time.
const WITHIN: Duration = Duration::from_secs(30);

/// What comes after a run that somebody has stopped may take so long all the same.
const AFTER_THE_WISH: Duration = Duration::from_secs(1);

/// The same trouble is told again after so long.
const AGAIN_MS: i64 = 86_400_000;

/// Messages are remembered for so long.
const REMEMBERED_MS: i64 = 400 * 86_400_000;

const HOUR_MS: i64 = 3_600_000;

/// Tells at once, and waits for it.
pub struct AtOnce;

impl Messenger for AtOnce {
    fn run_ended(&self, desk: &Desk, job: &Job, result: &RunResult, origin: Origin) {
        News::of_run(desk, job, result, origin).tell(desk);
    }

    fn run_failed(&self, desk: &Desk, job: &Job, failure: &Failure, origin: Origin) {
        News::of_failure(job, failure, origin).tell(desk);
    }
}

/// Something that others may want to hear of, ready to be told.
pub(crate) struct News {
    /// Who wants to hear of it, as the job says.
    lines: Vec<NotifyLine>,
    message: Message,
    origin: Origin,
    /// It changes the figures, and a digest may be due.
    of_a_run: bool,
}

impl News {
    /// A run is over.
    pub(crate) fn of_run(desk: &Desk, job: &Job, result: &RunResult, origin: Origin) -> News {
        let message = Message::of_run(desk, job, result);
        News { lines: job.keys.notify.clone(), message, origin, of_a_run: true }
    }

    /// A run could not even begin.
    pub(crate) fn of_failure(job: &Job, failure: &Failure, origin: Origin) -> News {
        let message = Message::of_failure(job, failure);
        News { lines: job.keys.notify.clone(), message, origin, of_a_run: false }
    }

    /// A job has not run well for longer than it may.
    pub(crate) fn of_overdue(desk: &Desk, job: &Job, overdue: Overdue) -> News {
        let message = Message::of_overdue(desk, job, overdue);
        News { lines: job.keys.notify.clone(), message, origin: Origin::ByItself, of_a_run: true }
    }

    /// Tells it, and waits until that is done.
    pub(crate) fn tell(&self, desk: &Desk) {
        if self.of_a_run {
            write_figures(desk);
        }
        tell(desk, &self.lines, &self.message, self.origin);
        if self.of_a_run {
            send_due_digests(desk);
        }
    }
}

/// Writes the figures where the settings say.
fn write_figures(desk: &Desk) {
    let Some(file) = &desk.settings.metrics_file else { return };
    let file = desk.home.expand(&file.to_string_lossy());
    if let Err(failure) = metrics::write(desk, &file) {
        desk.note(format!("the figures could not be written: {}", failure.message));
    }
}

/// Whether a message is for this way, now.
fn is_wanted(condition: Condition, message: &Message) -> bool {
    match condition {
        Condition::Always => true,
        Condition::Problems => !message.is_well,
        // What is in a digest is told with it.
        Condition::Never | Condition::Digest(_) => false,
    }
}

fn tell(desk: &Desk, lines: &[NotifyLine], message: &Message, origin: Origin) {
    let ways = desk.settings.notify.ways().into_iter();
    let ways = ways.filter(|(way, usual)| is_wanted(condition(lines, *way, *usual), message));
    let ways: Vec<Way> = ways.map(|(way, _)| way).collect();
    // One that hangs keeps no other waiting.
    std::thread::scope(|scope| {
        for way in ways {
            scope.spawn(move || tell_by(desk, way, message, origin));
        }
    });
}

/// Sends a message one way, unless that is too much; what becomes of it is remembered.
fn tell_by(desk: &Desk, way: Way, message: &Message, origin: Origin) -> Result<(), String> {
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
enum HoldBack {
    Back(&'static str),
    Not {
        /// How many were since the last one that was sent.
        left_out: u64,
    },
}

/// Why messages that would be too many are held back.
const TOO_MANY: &str = "too many in an hour";

fn held_back(desk: &Desk, way: Way, message: &Message, origin: Origin) -> HoldBack {
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

/// Lets something be done on a thread of its own, and waits for it: no longer than may be, and hardly any more once the work is to stop.
fn within<T: Send + 'static>(
    desk: &Desk,
    slow: &str,
    work: impl FnOnce() -> Result<T, String> + Send + 'static,
) -> Result<T, String> {
    let begun = Instant::now();
    let (answer, answered) = crossbeam_channel::bounded(1);
    std::thread::Builder::new()
        .name("tell".to_owned())
        .spawn(move || drop(answer.send(work())))
        .map_err(|error| error.to_string())?;
    loop {
        match answered.recv_timeout(Duration::from_millis(50)) {
            Ok(done) => return done,
            Err(RecvTimeoutError::Disconnected) => {
                return Err("it failed; this is a fault in Reedhook".to_owned());
            }
            Err(RecvTimeoutError::Timeout) if begun.elapsed() >= WITHIN => return Err(slow.to_owned()),
            Err(RecvTimeoutError::Timeout) if desk.is_stopped() && begun.elapsed() >= AFTER_THE_WISH => {
                return Err("it was stopped before it was sent".to_owned());
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
}

fn send(desk: &Desk, way: Way, message: &Message, left_out: u64) -> Result<(), String> {
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

/// Tries every way that is set up, whenever it is used; what came of each.
///
/// # Errors
/// When none is set up.
pub fn test(desk: &Desk, only: Option<Way>) -> Outcome<Vec<(Way, Result<(), String>)>> {
    let set_up: Vec<Way> = desk.settings.notify.ways().into_iter().map(|(way, _)| way).collect();
    let wanted: Vec<Way> =
        set_up.iter().copied().filter(|way| only.is_none_or(|only| only == *way)).collect();
    if wanted.is_empty() {
        let what = only.map_or("nobody is told anything".to_owned(), |way| format!("{way} is not set up"));
        let file = desk.home.shorten(&desk.home.settings_file());
        return Err(Failure::usage(what)
            .hint(format!("Add a [notify] table to {file}, such as: desktop = {{ on = \"problems\" }}")));
    }
    let message = Message::trial(desk);
    let results = wanted.into_iter().map(|way| {
        let sent = match way {
            Way::Desktop if !desktop::is_there(desk) => {
                Err("no desktop is there: this session has no message bus".to_owned())
            }
            way => send(desk, way, &message, 0),
        };
        (way, sent)
    });
    Ok(results.collect())
}
