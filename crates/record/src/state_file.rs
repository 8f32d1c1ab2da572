//! The record in an SQLite file: opening it, and its layout.

use std::path::Path;
use std::time::{Duration, Instant};

use rusqlite::{Connection, ErrorCode, Transaction, TransactionBehavior};

use crate::error::{RecordError, Result};
use crate::layout;

/// How long a program waits for another one that is writing.
pub(crate) const PATIENCE: Duration = Duration::from_secs(10);

/// The layout that this program writes.
pub(crate) const VERSION: i64 = layout::STEPS.len() as i64;

/// A record in an SQLite file.
pub struct StateFile {
    pub(crate) db: Connection,
}

impl StateFile {
    /// Opens the state file, making it when there is none. Its folder exists.
    ///
    /// # Errors
    /// When SQLite fails or a newer program wrote it.
    pub fn open(path: &Path) -> Result<StateFile> {
        let db = Connection::open(path)?;
        db.busy_timeout(PATIENCE)?;
        write_ahead(&db)?;
        db.pragma_update(None, "foreign_keys", true)?;
        let record = StateFile { db };
        record.lay_out()?;
        Ok(record)
    }

    /// Reads a whole state file, which is there, and looks whether it is in order.
    ///
    /// # Errors
    /// When it is not, or cannot be read.
    pub fn check(path: &Path) -> Result<()> {
        in_order(&StateFile::open(path)?.db)
    }

    pub(crate) fn lay_out(&self) -> Result<()> {
        if self.layout()? == VERSION {
            return Ok(());
        }
        // Two programs may begin at once after an upgrade: whoever waited looks again.
        let db = Transaction::new_unchecked(&self.db, TransactionBehavior::Immediate)?;
        let found = self.layout()?;
        if found > VERSION {
            return Err(RecordError::TooNew { found, known: VERSION });
        }
        for (step, number) in layout::STEPS.iter().zip(1..).filter(|(_, number)| *number > found) {
            db.execute_batch(step)?;
            db.pragma_update(None, "user_version", number)?;
        }
        db.commit()?;
        Ok(())
    }

    pub(crate) fn layout(&self) -> Result<i64> {
        Ok(self.db.query_row("PRAGMA user_version", [], |row| row.get(0))?)
    }
}

/// Reads a whole file and looks whether it is in order.
pub(crate) fn in_order(db: &Connection) -> Result<()> {
    let verdict: String = db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
    if verdict == "ok" { Ok(()) } else { Err(RecordError::Damaged(verdict)) }
}

/// Makes a new file one with a log. For this SQLite does not wait by itself while another program does the same.
pub(crate) fn write_ahead(db: &Connection) -> Result<()> {
    let begun = Instant::now();
    loop {
        match db.pragma_update(None, "journal_mode", "WAL") {
            Err(error)
                if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy)
                    && begun.elapsed() < PATIENCE =>
            {
                std::thread::sleep(Duration::from_millis(10));
            }
            outcome => return Ok(outcome?),
        }
    }
}
