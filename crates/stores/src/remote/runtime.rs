//! The runtime that the asynchronous clients share. Nobody outside of this folder knows of it: stores are blocking.

use std::future::Future;
use std::io;
use std::sync::OnceLock;
use std::time::Duration;

use tokio::runtime::{Builder, Handle, Runtime};

/// The runtime, made at its first use.
///
/// # Errors
/// When the system gives it no threads.
pub(crate) fn handle() -> io::Result<Handle> {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime.handle().clone());
    }
    let made = Builder::new_multi_thread().worker_threads(2).thread_name("remote").enable_all().build()?;
    Ok(RUNTIME.get_or_init(|| made).handle().clone())
}

/// Waits for a future on this thread, no longer than `limit`; `None` when it takes longer.
pub(crate) fn wait<F: Future>(handle: &Handle, limit: Duration, future: F) -> Option<F::Output> {
    handle.block_on(async { tokio::time::timeout(limit, future).await.ok() })
}
