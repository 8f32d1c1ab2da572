//! How far the service has followed what is due, so that what was missed is known after it was away.

use rusqlite::{OptionalExtension, params};

use crate::error::Result;
use crate::state_file::StateFile;

/// How far a job's `when` has been followed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Followed {
    /// The lines that were followed, as one text.
    pub lines: String,
    /// Nothing that was due until then is still owed; in milliseconds since 1970.
    pub upto_ms: i64,
    /// Since when these lines have been followed, in milliseconds since 1970; `None` when that was not written down.
    pub since_ms: Option<i64>,
}

/// What the service remembers.
pub trait Schedules {
    /// How far a job has been followed; `None` when the service has never seen it.
    ///
    /// # Errors
    /// When SQLite fails.
    fn followed(&self, job: &str) -> Result<Option<Followed>>;

    /// Remembers how far a job has been followed. `since_ms` holds for lines that were not followed before.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_followed(&mut self, job: &str, followed: &Followed) -> Result<()>;
}

impl Schedules for StateFile {
    fn followed(&self, job: &str) -> Result<Option<Followed>> {
        let sql = "SELECT lines, upto, since FROM followed WHERE job = ?1";
        let found = |row: &rusqlite::Row<'_>| {
            Ok(Followed { lines: row.get(0)?, upto_ms: row.get(1)?, since_ms: row.get(2)? })
        };
        Ok(self.db.query_row(sql, [job], found).optional()?)
    }

    fn set_followed(&mut self, job: &str, followed: &Followed) -> Result<()> {
        let sql = "INSERT INTO followed (job, lines, upto, since) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT (job) DO UPDATE SET upto = ?3, since = CASE WHEN lines = ?2 THEN since ELSE ?4 END, lines = ?2";
        self.db.execute(sql, params![job, followed.lines, followed.upto_ms, followed.since_ms])?;
        Ok(())
    }
}
