//! Files that sizes and times do not tell of: those that a verification found to have changed by themselves, until they are mended, and
//! those whose times could not tell at the last look. And the time that retention goes by.

use reedhook_core::entry::Side;
use reedhook_core::memory::Corrupted;
use reedhook_core::path::RelPath;
use reedhook_core::run::kept::ClockReading;
use rusqlite::{OptionalExtension, params};

use crate::error::Result;
use crate::state_file::StateFile;

/// What verifications found, and the time that retention goes by.
pub trait Findings {
    /// Remembers what a verification of a destination found; files that it found to be the same are forgotten.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_rotten(&mut self, job: &str, place: &str, found: &[Corrupted]) -> Result<()>;

    /// What is known to be rotten between a job's left and a destination, sorted by path.
    ///
    /// # Errors
    /// When SQLite fails.
    fn corrupted(&self, job: &str, place: &str) -> Result<Vec<Corrupted>>;

    /// Forgets what has been mended.
    ///
    /// # Errors
    /// When SQLite fails.
    fn mended(&mut self, job: &str, paths: &[RelPath]) -> Result<()>;

    /// Notes files of a pair whose times could not tell at a look whether they were saved once more, and forgets others.
    ///
    /// # Errors
    /// When SQLite fails.
    fn note_fresh(&mut self, job: &str, place: &str, fresh: &[RelPath], no_longer: &[RelPath]) -> Result<()>;

    /// The files that are noted so between a job's left and a destination, sorted.
    ///
    /// # Errors
    /// When SQLite fails.
    fn fresh(&self, job: &str, place: &str) -> Result<Vec<RelPath>>;

    /// What the clock said when it was last looked at for retention.
    ///
    /// # Errors
    /// When SQLite fails.
    fn last_clock(&self) -> Result<Option<ClockReading>>;

    /// Remembers what the clock says.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_clock(&mut self, reading: &ClockReading) -> Result<()>;
}

impl Findings for StateFile {
    fn set_rotten(&mut self, job: &str, place: &str, found: &[Corrupted]) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute("DELETE FROM rotten WHERE job = ?1 AND place = ?2", [job, place])?;
        for one in found {
            let side = one.side.map(Side::as_str).unwrap_or_default();
            transaction.execute(
                "INSERT OR REPLACE INTO rotten VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![job, place, one.path.as_bytes(), side, one.size as i64, one.modified, one.edited],
            )?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn corrupted(&self, job: &str, place: &str) -> Result<Vec<Corrupted>> {
        let sql = "SELECT path, side, size, modified, edited FROM rotten WHERE job = ?1 AND place = ?2 ORDER BY path";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement
            .query_map([job, place], |row| {
                let side: String = row.get(1)?;
                let size: i64 = row.get(2)?;
                Ok((row.get::<_, Vec<u8>>(0)?, side, size as u64, row.get(3)?, row.get(4)?))
            })?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        let one = |(path, side, size, modified, edited): (Vec<u8>, String, u64, String, bool)| {
            let side = [Side::Left, Side::Right].into_iter().find(|known| known.as_str() == side);
            Some(Corrupted { path: RelPath::new(&path).ok()?, side, edited, size, modified })
        };
        Ok(rows.into_iter().filter_map(one).collect())
    }

    fn mended(&mut self, job: &str, paths: &[RelPath]) -> Result<()> {
        let transaction = self.db.transaction()?;
        for path in paths {
            transaction
                .execute("DELETE FROM rotten WHERE job = ?1 AND path = ?2", params![job, path.as_bytes()])?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn note_fresh(&mut self, job: &str, place: &str, fresh: &[RelPath], no_longer: &[RelPath]) -> Result<()> {
        let transaction = self.db.transaction()?;
        for path in no_longer {
            let sql = "DELETE FROM fresh WHERE job = ?1 AND place = ?2 AND path = ?3";
            transaction.execute(sql, params![job, place, path.as_bytes()])?;
        }
        for path in fresh {
            let sql = "INSERT OR IGNORE INTO fresh VALUES (?1, ?2, ?3)";
            transaction.execute(sql, params![job, place, path.as_bytes()])?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn fresh(&self, job: &str, place: &str) -> Result<Vec<RelPath>> {
        let mut statement = self.db.prepare("SELECT path FROM fresh WHERE job = ?1 AND place = ?2")?;
        let rows = statement.query_map([job, place], |row| row.get::<_, Vec<u8>>(0))?;
        let rows = rows.collect::<rusqlite::Result<Vec<_>>>()?;
        let mut paths: Vec<RelPath> = rows.iter().filter_map(|path| RelPath::new(path).ok()).collect();
        paths.sort();
        Ok(paths)
    }

    fn last_clock(&self) -> Result<Option<ClockReading>> {
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

    fn set_clock(&mut self, reading: &ClockReading) -> Result<()> {
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
