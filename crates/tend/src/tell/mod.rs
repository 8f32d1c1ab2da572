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
pub(crate) mod sending;
mod waiting;
mod webhook;

pub use crate::tell::sending::secret_of;
pub use digest::send_due as send_due_digests;

use reedhook_jobs::desk::Desk;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::failure::{Failure, Outcome};
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::notify::{Condition, NotifyLine, Way, condition};
use reedhook_jobs::run::RunResult;
use reedhook_jobs::run_job::{Messenger, Origin};
use reedhook_report::metrics;

use crate::tell::sending::{send, tell_by};
use message::Message;

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
