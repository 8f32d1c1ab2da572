//! Files that a verification found to have changed by themselves, until they are mended; and the time that retention goes by.

use rusqlite::{OptionalExtension, params};

use super::{Record, Result};
use crate::entry::{Meta, Side, Stamp};
use crate::path::RelPath;
use crate::run::kept::ClockReading;

/// A file whose content differs at the two sides, though sizes and times agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rotten {
    /// The path.
    pub path: RelPath,
    /// The side that changed by itself; `None` when nothing tells.
    pub side: Option<Side>,
    /// Its bytes.
    pub size: u64,
    /// Its modification time, as `SECONDS.NANOSECONDS`.
    pub modified: String,
}

impl Rotten {
    /// Whether an entry still is what was found then: another size or time is another version.
    pub fn is_about(&self, meta: &Meta) -> bool {
        self.size == meta.size && self.modified == meta.modified.map(Stamp::to_text).unwrap_or_default()
    }
}

impl Record {
    /// Remembers what a verification of a destination found; files that it found to be the same are forgotten.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn set_rotten(&mut self, job: &str, place: &str, found: &[Rotten]) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute("DELETE FROM rotten WHERE job = ?1 AND place = ?2", [job, place])?;
        for one in found {
            let side = one.side.map(Side::as_str).unwrap_or_default();
            transaction.execute(
                "INSERT OR REPLACE INTO rotten VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![job, place, one.path.as_bytes(), side, one.size as i64, one.modified],
            )?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// What is known to be rotten between a job's left and a destination, sorted by path.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn rotten(&self, job: &str, place: &str) -> Result<Vec<Rotten>> {
        let sql = "SELECT path, side, size, modified FROM rotten WHERE job = ?1 AND place = ?2 ORDER BY path";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement
            .query_map([job, place], |row| {
                let side: String = row.get(1)?;
                let size: i64 = row.get(2)?;
                Ok((row.get::<_, Vec<u8>>(0)?, side, size as u64, row.get(3)?))
            })?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        let one = |(path, side, size, modified): (Vec<u8>, String, u64, String)| {
            let side = [Side::Left, Side::Right].into_iter().find(|known| known.as_str() == side);
            Some(Rotten { path: RelPath::new(&path).ok()?, side, size, modified })
        };
        Ok(rows.into_iter().filter_map(one).collect())
    }

    /// Forgets what has been mended.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn mended(&mut self, job: &str, paths: &[RelPath]) -> Result<()> {
        let transaction = self.db.transaction()?;
        for path in paths {
            transaction
                .execute("DELETE FROM rotten WHERE job = ?1 AND path = ?2", params![job, path.as_bytes()])?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// What the clock said when it was last looked at for retention.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn last_clock(&self) -> Result<Option<ClockReading>> {
        let sql = "SELECT boot, awake, wall, trusted FROM clock";
        let found = self.db.query_row(sql, [], |row| {
            Ok(ClockReading {
                boot: row.get(0)?,
                awake_ms: row.get(1)?,
                wall_ms: row.get(2)?,
                trusted_ms: row.get(3)?,
            })
        });
        Ok(found.optional()?)
    }

    /// Remembers what the clock says.
    ///
    /// # Errors
    /// When SQLite fails.
    pub fn set_clock(&mut self, reading: &ClockReading) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute("DELETE FROM clock", [])?;
        let ClockReading { boot, awake_ms, wall_ms, trusted_ms } = reading;
        transaction.execute(
            "INSERT INTO clock VALUES (?1, ?2, ?3, ?4)",
            params![boot, awake_ms, wall_ms, trusted_ms],
        )?;
        transaction.commit()?;
        Ok(())
    }
}
