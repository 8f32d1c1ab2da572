//! The runtime that the asynchronous clients share. Nobody outside of this folder knows of it: stores are blocking.

use std::future::Future;
use std::io;
use std::pin::pin;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use tokio::runtime::{Builder, Handle, Runtime as Threads};

use super::stop::{LOOK, Stop};

/// The runtime, and who may end what is waited for in it.
#[derive(Debug, Clone)]
pub(crate) struct Runtime {
    pub(crate) handle: Handle,
    pub(crate) stop: Stop,
}

/// The runtime, made at its first use.
///
/// # Errors
/// When the system gives it no threads.
pub(crate) fn handle(stop: &Stop) -> io::Result<Runtime> {
    static RUNTIME: OnceLock<Threads> = OnceLock::new();
    let stop = stop.clone();
    if let Some(runtime) = RUNTIME.get() {
        return Ok(Runtime { handle: runtime.handle().clone(), stop });
    }
    let made = Builder::new_multi_thread().worker_threads(2).thread_name("remote").enable_all().build()?;
    Ok(Runtime { handle: RUNTIME.get_or_init(|| made).handle().clone(), stop })
}

/// Waits for a future on this thread, no longer than `limit`, nor when the work has been stopped a while ago; `None` when it takes
/// longer.
pub(crate) fn wait<F: Future>(runtime: &Runtime, limit: Duration, future: F) -> Option<F::Output> {
    let until = Instant::now() + limit;
    runtime.handle.block_on(async {
        let mut future = pin!(future);
        loop {
            let rest = until.saturating_duration_since(Instant::now());
            match tokio::time::timeout(rest.min(LOOK), &mut future).await {
                Ok(output) => return Some(output),
                Err(_) if rest <= LOOK || runtime.stop.is_overdue() => return None,
                Err(_) => {}
            }
        }
    })
}
