//! The thread of the service that tells others: a mail server that takes its time keeps no run waiting.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Failure;
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::run::RunResult;
use reedhook_jobs::run_job::{Messenger, Origin};

use crate::tell::{News, send_due_digests};

/// What is to be told; of nothing but the time, a digest may be due.
type Work = (Desk, Option<News>);

/// Who tells it, once there is something to tell.
#[derive(Default)]
pub(crate) struct Teller {
    thread: Mutex<Option<Thread>>,
    /// How much is still to be told.
    pending: Arc<AtomicUsize>,
}

struct Thread {
    news: Sender<Work>,
    done: Receiver<()>,
}

impl Teller {
    fn lock(&self) -> MutexGuard<'_, Option<Thread>> {
        self.thread.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes something to be told, when anybody wants to hear of anything. The desk says whose it is, and who hears of what cannot be told.
    pub fn tell(&self, desk: Desk, news: Option<News>) {
        if desk.settings.notify.is_empty() && desk.settings.metrics_file.is_none() {
            return;
        }
        let mut thread = self.lock();
        if thread.is_none() {
            match begin(self.pending.clone()) {
                Ok(begun) => *thread = Some(begun),
                Err(error) => return desk.note(format!("nobody can be told anything: {error}")),
            }
        }
        if let Some(thread) = thread.as_ref() {
            self.pending.fetch_add(1, Ordering::Relaxed);
            if thread.news.send((desk, news)).is_err() {
                self.pending.fetch_sub(1, Ordering::Relaxed);
            }
        }
    }

    /// Whether nothing is left to be told.
    pub fn is_idle(&self) -> bool {
        self.pending.load(Ordering::Relaxed) == 0
    }

    /// Lets what is being told be told, but waits no longer than until then. What is cut short is known as such.
    pub fn end(&self, until: Instant) {
        if let Some(thread) = self.lock().take() {
            drop(thread.news);
            let _ = thread.done.recv_deadline(until);
        }
    }

    fn tell_of_run(&self, desk: &Desk, news: News) {
        // Who stops a run does not want to keep others from hearing of it.
        self.tell(Desk { stop: Arc::default(), ..desk.clone() }, Some(news));
    }
}

fn begin(pending: Arc<AtomicUsize>) -> std::io::Result<Thread> {
    let (news, heard) = unbounded::<Work>();
    let (ended, done) = bounded(1);
    let work = move || {
        for (desk, news) in heard {
            // A fault of ours in one message keeps no later one back.
            let tell = || news.as_ref().map_or_else(|| send_due_digests(&desk), |news| news.tell(&desk));
            if std::panic::catch_unwind(std::panic::AssertUnwindSafe(tell)).is_err() {
                desk.note("something could not be told; this is a fault in Reedhook");
            }
            pending.fetch_sub(1, Ordering::Relaxed);
        }
        let _ = ended.send(());
    };
    std::thread::Builder::new().name("teller".to_owned()).spawn(work)?;
    Ok(Thread { news, done })
}

impl Messenger for Teller {
    fn run_ended(&self, desk: &Desk, job: &Job, result: &RunResult, origin: Origin) {
        self.tell_of_run(desk, News::of_run(desk, job, result, origin));
    }

    fn run_failed(&self, desk: &Desk, job: &Job, failure: &Failure, origin: Origin) {
        self.tell_of_run(desk, News::of_failure(job, failure, origin));
    }
}
