//! The thread of the service that tells others: a mail server that takes its time keeps no run waiting.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

use crossbeam_channel::{Receiver, Sender, TryRecvError, bounded, unbounded};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::failure::Failure;
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::run::RunResult;

use crate::tell::{self, Origin};

/// Something that others may want to hear of.
pub(crate) enum Message {
    /// A run is over.
    Ran(Job, Box<RunResult>, Origin),
    /// A run could not begin.
    Failed(Job, Failure),
    /// A job has not run well for longer than it may.
    Overdue(Job, Overdue),
    /// Time has passed: a digest may be due.
    Time,
}

impl Message {
    fn tell(&self, desk: &Desk) {
        match self {
            Message::Ran(job, result, origin) => tell::run_ended(desk, job, result, *origin),
            Message::Failed(job, failure) => tell::run_failed(desk, job, failure, Origin::ByItself),
            Message::Overdue(job, overdue) => tell::overdue(desk, job, *overdue),
            Message::Time => tell::send_due_digests(desk),
        }
    }
}

/// Who tells it.
pub(crate) struct Teller {
    news: Sender<(Desk, Message)>,
    done: Receiver<()>,
    /// How much is still to be told.
    pending: Arc<AtomicUsize>,
}

impl Teller {
    pub fn start() -> std::io::Result<Teller> {
        let (news, heard) = unbounded::<(Desk, Message)>();
        let (ended, done) = bounded(1);
        let pending = Arc::new(AtomicUsize::new(0));
        let left = pending.clone();
        let work = move || {
            for (desk, news) in heard {
                // A fault of ours in one message keeps no later one back.
                let told = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| news.tell(&desk)));
                if told.is_err() {
                    desk.note("something could not be told; this is a fault in Reedhook");
                }
                left.fetch_sub(1, Ordering::Relaxed);
            }
            let _ = ended.send(());
        };
        std::thread::Builder::new().name("teller".to_owned()).spawn(work)?;
        Ok(Teller { news, done, pending })
    }

    /// Takes something to be told. The desk says whose it is, and who hears of what cannot be told.
    pub fn tell(&self, desk: Desk, news: Message) {
        self.pending.fetch_add(1, Ordering::Relaxed);
        let _ = self.news.send((desk, news));
    }

    /// Whether nothing is left to be told, or nobody is left to tell it.
    pub fn is_idle(&self) -> bool {
        let gone = matches!(self.done.try_recv(), Err(TryRecvError::Disconnected));
        gone || self.pending.load(Ordering::Relaxed) == 0
    }

    /// Lets what is being told be told, but waits no longer than until then. What is cut short is known as such.
    pub fn end(self, until: Instant) {
        drop(self.news);
        let _ = self.done.recv_deadline(until);
    }
}
