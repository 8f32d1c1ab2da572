//! How far a walk is, and how it fails.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64};

use crate::entry::Side;
use crate::memory::MemoryError;
use crate::store::error::StoreError;

/// How far a scan is; read from another thread while it goes on.
#[derive(Debug, Default)]
pub struct ScanProgress {
    /// Folders examined.
    pub folders: AtomicU64,
    /// Entries examined, on both sides.
    pub entries: AtomicU64,
    /// Bytes read at each side, where content is compared.
    pub read: AtomicU64,
    /// Set to make the scan stop early.
    pub stop: Arc<AtomicBool>,
}

/// Why a scan has no plan.
#[derive(Debug)]
pub enum ScanError {
    /// The root of a side cannot be read, or its store was lost on the way.
    Store(Side, StoreError),
    /// What is remembered of the sides cannot be read.
    Baseline(MemoryError),
    /// It was asked to stop.
    Stopped,
}
