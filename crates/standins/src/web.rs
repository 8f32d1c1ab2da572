//! What the two stand-ins that speak HTTP have in common: they may ask for patience, and may be full.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use http::{Method, Request, Response, StatusCode};

use crate::settings::Behaviour;

/// Answers that come from the behaviour and not from the server.
pub(crate) struct Moods {
    busy_every: Option<u32>,
    quota: Option<u64>,
    folder: PathBuf,
    asked: AtomicU32,
}

impl Moods {
    pub(crate) fn new(behaviour: &Behaviour, folder: &Path) -> Arc<Moods> {
        Arc::new(Moods {
            busy_every: behaviour.busy_every,
            quota: behaviour.quota,
            folder: folder.to_owned(),
            asked: AtomicU32::new(0),
        })
    }

    /// The answer to a request that the server is not even asked; `None` when it is.
    pub(crate) fn answer<B, A: Default>(&self, request: &Request<B>) -> Option<Response<A>> {
        let number = self.asked.fetch_add(1, Ordering::Relaxed) + 1;
        if self.busy_every.is_some_and(|every| every > 0 && number.is_multiple_of(every)) {
            let answer = Response::builder().status(StatusCode::TOO_MANY_REQUESTS).header("retry-after", "1");
            return answer.body(A::default()).ok();
        }
        let length =
            request.headers().get("content-length").and_then(|value| value.to_str().ok()?.parse().ok());
        let full = self.quota.is_some_and(|quota| used(&self.folder) + length.unwrap_or(0_u64) > quota);
        if full && request.method() == Method::PUT {
            return Response::builder().status(StatusCode::INSUFFICIENT_STORAGE).body(A::default()).ok();
        }
        None
    }
}

/// The bytes that the files below a folder have.
pub(crate) fn used(folder: &Path) -> u64 {
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let sizes = entries.filter_map(Result::ok).map(|entry| match entry.metadata() {
        Ok(meta) if meta.is_dir() => used(&entry.path()),
        Ok(meta) => meta.len(),
        Err(_) => 0,
    });
    sizes.sum()
}
