//! How remembering fails.

use reedhook_core::memory::MemoryError;

/// What is wrong with one of SQLite's files, as what is said of it: whoever knows which file it is puts its name before.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// SQLite failed.
    #[error("cannot be used")]
    Sqlite(#[from] rusqlite::Error),
    /// What is remembered of a folder cannot be read.
    #[error("has something of a folder that cannot be read")]
    Baseline(#[from] postcard::Error),
    /// It can be opened, and is not whole.
    #[error("is damaged: {0}")]
    Damaged(String),
    /// A newer program wrote it.
    #[error("has layout {found}, and this program knows {known}; use a newer Reedhook")]
    TooNew {
        /// The layout found.
        found: i64,
        /// The newest that this program knows.
        known: i64,
    },
}

impl RecordError {
    /// The whole of it: with what stands behind it.
    pub fn told(&self) -> String {
        let mut text = self.to_string();
        let mut cause = std::error::Error::source(self);
        while let Some(below) = cause {
            // SQLite tells the same twice: in its words, then with its number.
            if !below.is::<rusqlite::ffi::Error>() {
                text = format!("{text}: {below}");
            }
            cause = below.source();
        }
        text
    }

    /// Whether the file itself is broken, rather than away, closed to us, or in use.
    pub fn is_damage(&self) -> bool {
        use rusqlite::ErrorCode::{DatabaseCorrupt, NotADatabase};
        match self {
            RecordError::Sqlite(error) => {
                matches!(error.sqlite_error_code(), Some(DatabaseCorrupt | NotADatabase))
            }
            RecordError::Baseline(_) | RecordError::Damaged(_) => true,
            RecordError::TooNew { .. } => false,
        }
    }
}

pub(crate) type Result<T> = std::result::Result<T, RecordError>;

impl From<RecordError> for MemoryError {
    fn from(error: RecordError) -> MemoryError {
        MemoryError::new(error)
    }
}
