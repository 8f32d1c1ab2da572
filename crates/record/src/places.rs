//! What is known of the stores that jobs and runs work with: by their marks and by what they are on, never by a job's name alone.

use reedhook_core::entry::Side;
use reedhook_core::identity::Ground;
use reedhook_core::path::RelPath;
use rusqlite::{OptionalExtension, params};

use crate::error::Result;
use crate::state_file::StateFile;

/// What a job knows of the store at one of its places.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KnownPlace {
    /// It has been seen there; otherwise only what is above it has been.
    pub there: bool,
    /// Its mark; empty when it bears none.
    pub mark: String,
    /// What it is on.
    pub ground: Option<Ground>,
    /// Other file systems that were mounted in it.
    pub mounts: Vec<(RelPath, Ground)>,
}

/// A store that a run changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunPlace {
    /// The side that it was.
    pub side: Side,
    /// As written in the job, or typed.
    pub place: String,
    /// The folder or address that it meant then.
    pub location: String,
    /// Its mark; empty when it bears none.
    pub mark: String,
    /// What it is on.
    pub ground: Option<Ground>,
}

/// The stores that jobs know, and those that runs changed.
pub trait Places {
    /// What a job knows of a place; `None` when it has never seen it.
    ///
    /// # Errors
    /// When SQLite fails.
    fn place(&self, job: &str, place: &str) -> Result<Option<KnownPlace>>;

    /// What was found by trying on a file system, as mounted and by the account that `footing` tells; `None` when nothing was tried.
    ///
    /// # Errors
    /// When SQLite fails.
    fn held(&self, footing: &str) -> Result<Option<String>>;

    /// Remembers what was found by trying, in the place of what was found before.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_held(&self, footing: &str, found: &str, now_ms: i64) -> Result<()>;

    /// Remembers the mark of the store at a place; an empty one says that it was seen there.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_mark(&self, job: &str, place: &str, mark: &str) -> Result<()>;

    /// Remembers what a place is on, whether it is there itself, and what is mounted in it.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_ground(
        &mut self,
        job: &str,
        place: &str,
        found: (Option<&Ground>, bool),
        mounts: &[(RelPath, Ground)],
    ) -> Result<()>;

    /// Forgets what a job knows of a place: it has been given anew.
    ///
    /// # Errors
    /// When SQLite fails.
    fn forget_place(&self, job: &str, place: &str) -> Result<()>;

    /// Whether a job has run well between two stores, by their identities, and whether it has been agreed to what is removed
    /// between them; `None` when none has.
    ///
    /// # Errors
    /// When SQLite fails.
    fn pair(&self, left: &str, right: &str) -> Result<Option<bool>>;

    /// Remembers that a job has run well between two stores; what was agreed to stays agreed to.
    ///
    /// # Errors
    /// When SQLite fails.
    fn remember_pair(&self, left: &str, right: &str, agreed: bool) -> Result<()>;

    /// Remembers a store that a run is about to change.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_run_place(&self, run_id: i64, place: &RunPlace) -> Result<()>;

    /// The stores that a run changed; none for a run from before they were remembered.
    ///
    /// # Errors
    /// When SQLite fails.
    fn run_places(&self, run_id: i64) -> Result<Vec<RunPlace>>;

    /// Every place that runs of a job have changed, newest first, each once for each side.
    ///
    /// # Errors
    /// When SQLite fails.
    fn places_changed(&self, job: &str) -> Result<Vec<RunPlace>>;
}

impl Places for StateFile {
    fn place(&self, job: &str, place: &str) -> Result<Option<KnownPlace>> {
        let sql = "SELECT identity, ground, there FROM places WHERE job = ?1 AND place = ?2";
        let found = self.db.query_row(sql, [job, place], |row| {
            Ok(KnownPlace {
                mark: row.get(0)?,
                ground: ground(row.get(1)?),
                there: row.get(2)?,
                mounts: Vec::new(),
            })
        });
        let Some(mut known) = found.optional()? else { return Ok(None) };
        let mut statement =
            self.db.prepare("SELECT path, ground FROM place_mounts WHERE job = ?1 AND place = ?2")?;
        let rows = statement
            .query_map([job, place], |row| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, String>(1)?)))?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        known.mounts = rows
            .into_iter()
            .filter_map(|(path, on)| Some((RelPath::new(&path).ok()?, ground(on)?)))
            .collect();
        Ok(Some(known))
    }

    fn held(&self, footing: &str) -> Result<Option<String>> {
        let sql = "SELECT found FROM held WHERE footing = ?1";
        Ok(self.db.query_row(sql, [footing], |row| row.get(0)).optional()?)
    }

    fn set_held(&self, footing: &str, found: &str, now_ms: i64) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO held VALUES (?1, ?2, ?3)";
        self.db.execute(sql, params![footing, found, now_ms])?;
        Ok(())
    }

    fn set_mark(&self, job: &str, place: &str, mark: &str) -> Result<()> {
        self.db.execute(
            "INSERT INTO places (job, place, identity, there) VALUES (?1, ?2, ?3, 1)
             ON CONFLICT (job, place) DO UPDATE SET identity = ?3, there = 1",
            [job, place, mark],
        )?;
        Ok(())
    }

    fn set_ground(
        &mut self,
        job: &str,
        place: &str,
        (ground, there): (Option<&Ground>, bool),
        mounts: &[(RelPath, Ground)],
    ) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute(
            "INSERT INTO places (job, place, identity, ground, there) VALUES (?1, ?2, '', ?3, ?4)
             ON CONFLICT (job, place) DO UPDATE SET ground = ?3, there = MAX(there, ?4)",
            params![job, place, ground.map(Ground::to_text).unwrap_or_default(), there],
        )?;
        transaction.execute("DELETE FROM place_mounts WHERE job = ?1 AND place = ?2", [job, place])?;
        for (path, on) in mounts {
            transaction.execute(
                "INSERT OR REPLACE INTO place_mounts VALUES (?1, ?2, ?3, ?4)",
                params![job, place, path.as_bytes(), on.to_text()],
            )?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn forget_place(&self, job: &str, place: &str) -> Result<()> {
        self.db.execute("DELETE FROM places WHERE job = ?1 AND place = ?2", [job, place])?;
        self.db.execute("DELETE FROM place_mounts WHERE job = ?1 AND place = ?2", [job, place])?;
        Ok(())
    }

    fn pair(&self, left: &str, right: &str) -> Result<Option<bool>> {
        let sql = "SELECT agreed FROM pairs WHERE left_store = ?1 AND right_store = ?2";
        Ok(self.db.query_row(sql, [left, right], |row| row.get(0)).optional()?)
    }

    fn remember_pair(&self, left: &str, right: &str, agreed: bool) -> Result<()> {
        self.db.execute(
            "INSERT INTO pairs (left_store, right_store, agreed) VALUES (?1, ?2, ?3)
             ON CONFLICT (left_store, right_store) DO UPDATE SET agreed = MAX(agreed, ?3)",
            params![left, right, agreed],
        )?;
        Ok(())
    }

    fn add_run_place(&self, run_id: i64, place: &RunPlace) -> Result<()> {
        let ground = place.ground.as_ref().map(Ground::to_text).unwrap_or_default();
        let RunPlace { side, place, location, mark, .. } = place;
        self.db.execute(
            "INSERT OR REPLACE INTO run_places VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![run_id, side.as_str(), place, location, mark, ground],
        )?;
        Ok(())
    }

    fn run_places(&self, run_id: i64) -> Result<Vec<RunPlace>> {
        let sql =
            "SELECT side, place, location, identity, ground FROM run_places WHERE run_id = ?1 ORDER BY rowid";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement.query_map([run_id], |row| {
            let side: String = row.get(0)?;
            Ok(RunPlace {
                side: if side == Side::Left.as_str() { Side::Left } else { Side::Right },
                place: row.get(1)?,
                location: row.get(2)?,
                mark: row.get(3)?,
                ground: ground(row.get(4)?),
            })
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn places_changed(&self, job: &str) -> Result<Vec<RunPlace>> {
        let mut found: Vec<RunPlace> = Vec::new();
        let mut statement = self.db.prepare("SELECT id FROM runs WHERE job = ?1 ORDER BY id DESC")?;
        let runs = statement.query_map([job], |row| row.get(0))?.collect::<rusqlite::Result<Vec<i64>>>()?;
        for run in runs {
            for place in self.run_places(run)? {
                if !found.iter().any(|known| (known.side, &known.location) == (place.side, &place.location)) {
                    found.push(place);
                }
            }
        }
        Ok(found)
    }
}

fn ground(text: String) -> Option<Ground> {
    Ground::from_text(&text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::path;

    use crate::runs::Runs;

    #[test]
    fn stores_are_remembered_by_what_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let mut record = StateFile::open(&folder.path().join("state.db")).unwrap();
        let ground = |text: &str| Ground::from_text(text).unwrap();
        let on = ground("ext4\tuuid-1\t\t/dev/a");
        record.set_mark("counts", "~/drive", "mark").unwrap();
        record.set_ground("counts", "~/drive", (Some(&on), true), &[(path("a/inner"), on.clone())]).unwrap();
        let known = record.place("counts", "~/drive").unwrap().unwrap();
        assert_eq!((known.mark.as_str(), known.ground.as_ref(), known.mounts.len()), ("mark", Some(&on), 1));
        record.set_ground("counts", "~/drive", (Some(&on), true), &[]).unwrap();
        assert!(record.place("counts", "~/drive").unwrap().unwrap().mounts.is_empty());
        record.forget_place("counts", "~/drive").unwrap();
        assert_eq!(record.place("counts", "~/drive").unwrap(), None);

        assert_eq!(record.pair("l", "r").unwrap(), None);
        record.remember_pair("l", "r", true).unwrap();
        record.remember_pair("l", "r", false).unwrap();
        assert_eq!((record.pair("l", "r").unwrap(), record.pair("l", "other").unwrap()), (Some(true), None));

        let run = record.begin_run("counts", "r1", 1, "").unwrap();
        let place = |location: &str| RunPlace {
            side: Side::Left,
            place: "~/drive".into(),
            location: location.into(),
            mark: String::new(),
            ground: Some(on.clone()),
        };
        record.add_run_place(run, &place("/a")).unwrap();
        let next = record.begin_run("counts", "r2", 2, "").unwrap();
        record.add_run_place(next, &place("/a")).unwrap();
        record.add_run_place(next, &place("/b")).unwrap();
        assert_eq!(record.run_places(run).unwrap(), [place("/a")]);
        assert_eq!(record.places_changed("counts").unwrap(), [place("/a"), place("/b")]);
    }
}
