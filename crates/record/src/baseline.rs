//! The baseline of two-way jobs in the state file: what both sides held when they last agreed, folder by folder.
//!
//! A folder's names are one row, because they are read and compared together. A baseline is about two particular stores; with
//! another drive at one of the places there is none, and nothing that is missing there counts as removed.

use std::collections::BTreeMap;

use reedhook_core::baseline::Outgoing;
use reedhook_core::entry::{Side, Stamp};
use reedhook_core::memory::FolderUpdate;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::plan::two_way::{Known, Remembered};
use rusqlite::{OptionalExtension, params};

use crate::error::Result;
use crate::state_file::StateFile;

impl StateFile {
    fn has_baseline(&self, job: &str, left: &str, right: &str) -> Result<bool> {
        Ok(self.baseline_runs(job, left, right)?.is_some())
    }
}

/// What two-way jobs remember of the two stores that they keep alike.
pub trait Baselines {
    /// The runs that may have left what a job remembers of these two stores: the last one that changed it, and one that did not
    /// come to its end. `None` when nothing is remembered.
    ///
    /// # Errors
    /// When SQLite fails.
    fn baseline_runs(&self, job: &str, left: &str, right: &str) -> Result<Option<[String; 2]>>;

    /// Remembers that a run is about to change what two stores agree on.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_next_run(&self, job: &str, run: &str) -> Result<()>;

    /// What a job remembers of a folder.
    ///
    /// # Errors
    /// When SQLite fails or the row cannot be read.
    fn baseline(&self, job: &str, folder: &RelPath) -> Result<Remembered>;

    /// Remembers what two stores agree on, and the run that changed it, where one did; all of it or, when the machine goes down, nothing. What was remembered of another
    /// pair of stores is forgotten, and so is what the run had set out to remove.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_baseline(
        &mut self,
        job: &str,
        stores: (&str, &str),
        run: Option<&str>,
        folders: &[FolderUpdate],
    ) -> Result<()>;

    /// Forgets single names, and what is below them: the next run takes them for new where they are, and for nothing where
    /// they are not.
    ///
    /// # Errors
    /// When SQLite fails or a row cannot be read.
    fn forget_names(&mut self, job: &str, paths: &[RelPath]) -> Result<()>;

    /// Forgets the baseline of a job, so that the next run compares the two sides anew.
    ///
    /// # Errors
    /// When SQLite fails.
    fn forget_baseline(&self, job: &str) -> Result<()>;

    /// Remembers what a run is about to remove or replace, beside what earlier runs did not come to the end of.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_outgoing(&mut self, job: &str, outgoing: &Outgoing) -> Result<()>;

    /// What runs of a job set out to remove or replace without coming to their end.
    ///
    /// # Errors
    /// When SQLite fails.
    fn outgoing(&self, job: &str) -> Result<Outgoing>;

    /// Remembers versions that have ended at both sides, and forgets those that did so before `since_ms`.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_ended(&mut self, job: &str, ended: &[(RelPath, Known)], now_ms: i64, since_ms: i64) -> Result<()>;

    /// Versions that have ended at both sides, by path.
    ///
    /// # Errors
    /// When SQLite fails or a row cannot be read.
    fn ended(&self, job: &str) -> Result<BTreeMap<RelPath, Known>>;
}

impl Baselines for StateFile {
    fn baseline_runs(&self, job: &str, left: &str, right: &str) -> Result<Option<[String; 2]>> {
        let sql =
            "SELECT run, next FROM baselines WHERE job = ?1 AND left_identity = ?2 AND right_identity = ?3";
        let found = self.db.query_row(sql, [job, left, right], |row| Ok([row.get(0)?, row.get(1)?]));
        Ok(found.optional()?)
    }

    fn set_next_run(&self, job: &str, run: &str) -> Result<()> {
        self.db.execute("UPDATE baselines SET next = ?2 WHERE job = ?1", [job, run])?;
        Ok(())
    }

    fn baseline(&self, job: &str, folder: &RelPath) -> Result<Remembered> {
        let sql = "SELECT entries, looked, older FROM baseline_folders WHERE job = ?1 AND folder = ?2";
        let mut statement = self.db.prepare_cached(sql)?;
        let found = statement.query_row(params![job, folder.as_bytes()], |row| {
            let looked = row.get::<_, Option<i64>>(1)?.map(|seconds| Stamp::new(seconds, 0));
            let known = postcard::from_bytes::<Vec<Known>>(row.get_ref(0)?.as_blob()?);
            let older = row.get_ref(2)?.as_blob_or_null()?.map_or(Ok(Older::new()), postcard::from_bytes);
            Ok(known.and_then(|known| Ok(Remembered { known: with_older(known, &older?), looked })))
        });
        Ok(found.optional()?.transpose()?.unwrap_or_default())
    }

    fn set_baseline(
        &mut self,
        job: &str,
        (left, right): (&str, &str),
        run: Option<&str>,
        folders: &[FolderUpdate],
    ) -> Result<()> {
        let same_stores = self.has_baseline(job, left, right)?;
        let transaction = self.db.transaction()?;
        transaction.execute("DELETE FROM removing WHERE job = ?1", [job])?;
        if !same_stores {
            transaction.execute("DELETE FROM baseline_folders WHERE job = ?1", [job])?;
            transaction.execute(
                "INSERT OR REPLACE INTO baselines VALUES (?1, ?2, ?3, '', '')",
                params![job, left, right],
            )?;
        }
        if let Some(run) = run {
            transaction.execute("UPDATE baselines SET run = ?2, next = '' WHERE job = ?1", [job, run])?;
        }
        {
            let mut put =
                transaction.prepare("INSERT OR REPLACE INTO baseline_folders VALUES (?1, ?2, ?3, ?4, ?5)")?;
            // What lies below a folder is everything from its path and a slash up to the character after the slash.
            let mut forget = transaction.prepare(
                "DELETE FROM baseline_folders WHERE job = ?1 AND (folder = ?2 OR (folder >= ?3 AND folder < ?4))",
            )?;
            for (folder, known) in folders {
                let path = folder.as_bytes();
                match known {
                    Some(Remembered { known, looked }) => {
                        let older = older(known, *looked);
                        let older = (!older.is_empty()).then(|| postcard::to_allocvec(&older)).transpose()?;
                        let looked = looked.map(Stamp::seconds);
                        put.execute(params![job, path, postcard::to_allocvec(known)?, looked, older])?
                    }
                    None => {
                        forget.execute(params![job, path, [path, b"/"].concat(), [path, b"0"].concat()])?
                    }
                };
            }
        }
        transaction.commit()?;
        Ok(())
    }

    fn forget_names(&mut self, job: &str, paths: &[RelPath]) -> Result<()> {
        let mut by_folder: BTreeMap<RelPath, Vec<Name>> = BTreeMap::new();
        for (parent, name) in paths.iter().filter_map(RelPath::split) {
            by_folder.entry(parent).or_default().push(name);
        }
        let mut updates: Vec<FolderUpdate> = Vec::new();
        for (folder, mut names) in by_folder {
            names.sort();
            let Remembered { known, looked } = self.baseline(job, &folder)?;
            let (gone, stay): (Vec<Known>, Vec<Known>) =
                known.into_iter().partition(|known| names.binary_search(&known.name).is_ok());
            if !gone.is_empty() {
                updates.push((folder.clone(), Some(Remembered { known: stay, looked })));
                let folders = gone.iter().filter(|known| known.is_folder());
                updates.extend(folders.map(|known| (folder.join(&known.name), None)));
            }
        }
        let stores = "SELECT left_identity, right_identity FROM baselines WHERE job = ?1";
        let found =
            self.db.query_row(stores, [job], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)));
        match found.optional()? {
            Some((left, right)) => {
                let outgoing = self.outgoing(job)?;
                self.set_baseline(job, (&left, &right), None, &updates)?;
                self.add_outgoing(job, &outgoing)
            }
            None => Ok(()),
        }
    }

    fn forget_baseline(&self, job: &str) -> Result<()> {
        self.db.execute("DELETE FROM baselines WHERE job = ?1", [job])?;
        self.db.execute("DELETE FROM baseline_folders WHERE job = ?1", [job])?;
        self.db.execute("DELETE FROM removing WHERE job = ?1", [job])?;
        Ok(())
    }

    fn add_outgoing(&mut self, job: &str, outgoing: &Outgoing) -> Result<()> {
        if outgoing.is_empty() {
            return Ok(());
        }
        let transaction = self.db.transaction()?;
        {
            let mut put = transaction.prepare("INSERT OR IGNORE INTO removing VALUES (?1, ?2, ?3)")?;
            for (side, path) in outgoing.iter() {
                put.execute(params![job, side.as_str(), path.as_bytes()])?;
            }
        }
        transaction.commit()?;
        Ok(())
    }

    fn outgoing(&self, job: &str) -> Result<Outgoing> {
        let mut statement = self.db.prepare("SELECT side, path FROM removing WHERE job = ?1")?;
        let rows = statement
            .query_map([job], |row| Ok((row.get::<_, String>(0)?, row.get::<_, Vec<u8>>(1)?)))?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        let paths = rows.into_iter().filter_map(|(side, path)| {
            let side = if side == Side::Left.as_str() { Side::Left } else { Side::Right };
            Some((side, RelPath::new(&path).ok()?))
        });
        Ok(Outgoing::new(paths))
    }

    fn add_ended(&mut self, job: &str, ended: &[(RelPath, Known)], now_ms: i64, since_ms: i64) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute("DELETE FROM ended WHERE job = ?1 AND at < ?2", params![job, since_ms])?;
        for (path, known) in ended {
            let known = postcard::to_allocvec(known)?;
            let sql = "INSERT OR REPLACE INTO ended VALUES (?1, ?2, ?3, ?4)";
            transaction.prepare_cached(sql)?.execute(params![job, path.as_bytes(), known, now_ms])?;
        }
        Ok(transaction.commit()?)
    }

    fn ended(&self, job: &str) -> Result<BTreeMap<RelPath, Known>> {
        let mut statement = self.db.prepare("SELECT path, known FROM ended WHERE job = ?1")?;
        let mut rows = statement.query([job])?;
        let mut ended = BTreeMap::new();
        while let Some(row) = rows.next()? {
            let known = postcard::from_bytes(&row.get::<_, Vec<u8>>(1)?)?;
            if let Ok(path) = RelPath::new(&row.get::<_, Vec<u8>>(0)?) {
                ended.insert(path, known);
            }
        }
        Ok(ended)
    }
}

/// The names of a folder, by their place in it, that were seen before the rest of it; in seconds since 1970.
type Older = Vec<(usize, i64)>;

fn older(known: &[Known], looked: Option<Stamp>) -> Older {
    let since = |known: &Known| known.since.filter(|since| Some(*since) != looked);
    known.iter().enumerate().filter_map(|(at, known)| Some((at, since(known)?.seconds()))).collect()
}

fn with_older(mut known: Vec<Known>, older: &Older) -> Vec<Known> {
    for (at, seconds) in older {
        if let Some(known) = known.get_mut(*at) {
            known.since = Some(Stamp::new(*seconds, 0));
        }
    }
    known
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::{file, path};

    use crate::runs::Runs;

    #[test]
    fn a_baseline_is_about_two_stores_and_goes_by_folders() {
        let folder = tempfile::tempdir().unwrap();
        let mut record = StateFile::open(&folder.path().join("state.db")).unwrap();
        let known = |name: &[u8]| {
            Known::of(&Name::new(name).unwrap(), &file(5, 1), &file(5, 2), Some([3; 32])).unwrap()
        };
        let looked = Some(Stamp::new(77, 0));
        let older = |name: &[u8]| Known { since: Some(Stamp::new(33, 0)), ..known(name) };
        let odd = Remembered { known: vec![known(b"a\xff"), older(b"b")], looked };
        let folders = ["", "a", "a/b", "a/b/c", "a b", "a0"];
        let all: Vec<FolderUpdate> = folders.iter().map(|folder| (path(folder), Some(odd.clone()))).collect();
        record.set_baseline("counts", ("l", "r"), None, &all).unwrap();
        assert!(
            record.has_baseline("counts", "l", "r").unwrap()
                && !record.has_baseline("counts", "l", "other").unwrap()
        );
        assert_eq!(record.baseline("counts", &path("a/b")).unwrap(), odd);
        assert_eq!(record.baseline("other", &path("a/b")).unwrap(), Remembered::default());

        record.set_baseline("counts", ("l", "r"), None, &[(path("a"), None)]).unwrap();
        let left = |record: &StateFile, job: &str| -> Vec<&str> {
            folders
                .into_iter()
                .filter(|folder| !record.baseline(job, &path(folder)).unwrap().known.is_empty())
                .collect()
        };
        assert_eq!(
            left(&record, "counts"),
            ["", "a b", "a0"],
            "a folder goes with what is below it, and nothing else"
        );

        record.rename_job("counts", "heron-counts").unwrap();
        assert_eq!(left(&record, "heron-counts"), ["", "a b", "a0"]);
        record.set_baseline("heron-counts", ("l", "swapped"), None, &[(path("a"), Some(odd))]).unwrap();
        assert_eq!(left(&record, "heron-counts"), ["a"], "nothing of the other drive is left");
        record.forget_names("heron-counts", &[path("a/b"), path("a/none")]).unwrap();
        let one = Remembered { known: vec![known(b"a\xff")], looked };
        assert_eq!(record.baseline("heron-counts", &path("a")).unwrap(), one);
        let outgoing = Outgoing::new([(Side::Right, path("a/c")), (Side::Left, path("b"))]);
        record.add_outgoing("heron-counts", &outgoing).unwrap();
        record.forget_names("heron-counts", &[path("a/none")]).unwrap();
        assert_eq!(record.outgoing("heron-counts").unwrap(), outgoing, "only a run that ends well ends this");
        assert!(outgoing.holds(Side::Right, &path("a/c/deep")) && !outgoing.holds(Side::Left, &path("a/c")));
        record.set_baseline("heron-counts", ("l", "swapped"), None, &[]).unwrap();
        assert!(record.outgoing("heron-counts").unwrap().is_empty());
        record.forget_baseline("heron-counts").unwrap();
        assert_eq!(left(&record, "heron-counts"), [] as [&str; 0]);
    }
}
