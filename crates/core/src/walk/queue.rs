//! The folders of a walk on several threads: a common stack, newest first, so that it stays short.

use std::sync::atomic::Ordering;
use std::sync::{Condvar, Mutex, PoisonError};

use crate::content;
use crate::entry::Side;
use crate::path::RelPath;
use crate::store::Store;
use crate::store::error::{FaultKind, StoreError};
use crate::walk::progress::{ScanError, ScanProgress};

/// Visits a root and everything below it on as many threads as the stores can use; each gathers what it finds by itself.
pub(super) fn visit_all<T: Send, F: Default + Send>(
    (left, right): (&dyn Store, &dyn Store),
    root: T,
    progress: &ScanProgress,
    visit: impl Fn(&mut F, T) -> Result<Vec<T>, ScanError> + Sync,
) -> Result<Vec<F>, ScanError> {
    let queue = Queue::new(root);
    let threads = left.capabilities().workers.max(right.capabilities().workers).max(1);
    let found = std::thread::scope(|scope| {
        let one = || {
            let mut found = F::default();
            queue.work(progress, |task| visit(&mut found, task));
            found
        };
        let workers: Vec<_> = (0..threads).map(|_| scope.spawn(one)).collect();
        workers.into_iter().map(content::joined).collect::<Vec<_>>()
    });
    match queue.into_failure() {
        Some(_) if progress.stop.load(Ordering::Relaxed) => Err(ScanError::Stopped),
        Some(failure) => Err(failure),
        // What was being compared when the word came has come to no answer.
        None if progress.stop.load(Ordering::Relaxed) => Err(ScanError::Stopped),
        None => Ok(found),
    }
}

/// The common stack of folders. A worker that finds it empty waits, because another may still add to it.
struct Queue<T> {
    state: Mutex<QueueState<T>>,
    changed: Condvar,
}

struct QueueState<T> {
    tasks: Vec<T>,
    busy: usize,
    failure: Option<ScanError>,
}

impl<T> Queue<T> {
    fn new(root: T) -> Queue<T> {
        let state = QueueState { tasks: vec![root], busy: 0, failure: None };
        Queue { state: Mutex::new(state), changed: Condvar::new() }
    }

    fn take(&self) -> Option<T> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if state.failure.is_some() {
                return None;
            }
            if let Some(task) = state.tasks.pop() {
                state.busy += 1;
                return Some(task);
            }
            if state.busy == 0 {
                return None;
            }
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Ends one task: its subfolders follow, or the whole scan fails.
    fn finish(&self, outcome: Result<Vec<T>, ScanError>) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.busy -= 1;
        match outcome {
            Ok(tasks) => state.tasks.extend(tasks),
            Err(failure) => state.failure = Some(state.failure.take().unwrap_or(failure)),
        }
        drop(state);
        self.changed.notify_all();
    }

    /// Takes tasks until there are none left; each visit hands back the tasks below it.
    fn work(&self, progress: &ScanProgress, mut visit: impl FnMut(T) -> Result<Vec<T>, ScanError>) {
        while let Some(task) = self.take() {
            let outcome = if progress.stop.load(Ordering::Relaxed) {
                Err(ScanError::Stopped)
            } else {
                // A panic here must not leave the other workers waiting for ever.
                std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| visit(task))).unwrap_or_else(|_| {
                    let error = StoreError::new(FaultKind::Internal, "examine", &RelPath::root());
                    Err(ScanError::Store(Side::Left, error))
                })
            };
            self.finish(outcome);
        }
    }

    fn into_failure(self) -> Option<ScanError> {
        self.state.into_inner().unwrap_or_else(PoisonError::into_inner).failure
    }
}
