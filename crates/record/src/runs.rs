//! What ran, and what came of it.

use std::time::Duration;

use reedhook_core::entry::Stamp;
use reedhook_core::memory::Checksum;
use reedhook_core::path::RelPath;
use reedhook_core::plan::Counts;
use rusqlite::{OptionalExtension, Row, TransactionBehavior, named_params, params};

use crate::error::Result;
use crate::morning;
use crate::morning::Room;
use crate::state_file::StateFile;

/// Tables whose rows belong to a job, by its name.
pub(crate) const OF_A_JOB: [&str; 10] = [
    "places",
    "place_mounts",
    "checksums",
    "baselines",
    "baseline_folders",
    "removing",
    "rotten",
    "fresh",
    "ended",
    "followed",
];

/// How a run ended, as remembered and shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Outcome {
    /// Everything was done, or there was nothing to do.
    Done,
    /// Done, apart from problems with some items.
    Problems,
    /// Done, and conflicts are held.
    Held,
    /// A guard stopped it before any change.
    Refused,
    /// It stopped on the way.
    Stopped,
    /// A person stopped it.
    Interrupted,
    /// It began and never ended: the machine or the program went down. Or it is still going on.
    Unfinished,
}

impl Outcome {
    /// All of them.
    pub const ALL: [Outcome; 7] = [
        Outcome::Done,
        Outcome::Problems,
        Outcome::Held,
        Outcome::Refused,
        Outcome::Stopped,
        Outcome::Interrupted,
        Outcome::Unfinished,
    ];

    /// The word in JSON and in the state file.
    pub fn as_str(self) -> &'static str {
        match self {
            Outcome::Done => "done",
            Outcome::Problems => "problems",
            Outcome::Held => "held",
            Outcome::Refused => "refused",
            Outcome::Stopped => "stopped",
            Outcome::Interrupted => "interrupted",
            Outcome::Unfinished => "unfinished",
        }
    }

    /// The outcome of this word; an unknown one is none that ended.
    pub fn parse(text: &str) -> Outcome {
        Outcome::ALL.into_iter().find(|outcome| outcome.as_str() == text).unwrap_or(Outcome::Unfinished)
    }
}

/// A remembered run.
#[derive(Debug, Clone, PartialEq)]
pub struct RunRow {
    /// Its key in the state file.
    pub id: i64,
    /// The job's name.
    pub job: String,
    /// 1 for the job's first run.
    pub number: i64,
    /// Its name: also that of its log and its kept copies.
    pub run: String,
    /// When it began, in milliseconds since 1970.
    pub started_ms: i64,
    /// What a run without a job was told, as a job file; empty for a job's.
    pub keys: String,
    /// How it ended, as far as it has.
    pub end: RunEnd,
}

/// How a run ended.
#[derive(Debug, Clone, PartialEq)]
pub struct RunEnd {
    /// How long it took.
    pub elapsed: Duration,
    /// In a word.
    pub outcome: Outcome,
    /// Why it was refused or stopped: a stable code, empty otherwise.
    pub code: String,
    /// The same as a sentence.
    pub message: String,
    /// How many folders were made; they are not among the files.
    pub folders_made: u64,
    /// How many folders were removed; they are not among the files.
    pub folders_removed: u64,
    /// The numbers.
    pub counts: Counts,
    /// The log has all that it did.
    pub log_whole: bool,
}

impl RunEnd {
    /// Of a run that has not ended.
    pub fn none() -> RunEnd {
        RunEnd {
            elapsed: Duration::ZERO,
            outcome: Outcome::Unfinished,
            code: String::new(),
            message: String::new(),
            folders_made: 0,
            folders_removed: 0,
            counts: Counts::default(),
            log_whole: true,
        }
    }
}

/// The problems of one run that have the same cause.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProblemGroup {
    /// The stable code.
    pub code: String,
    /// How many.
    pub count: u64,
    /// The path of the first.
    pub path: Vec<u8>,
    /// The message of the first.
    pub message: String,
}

/// What ran, and what came of it.
pub trait Runs {
    /// Notes that a run begins; returns its key. `keys` is what a run without a job was told, as a job file; empty otherwise.
    ///
    /// # Errors
    /// When SQLite fails.
    fn begin_run(&mut self, job: &str, run: &str, started_ms: i64, keys: &str) -> Result<i64>;

    /// Writes down a run that is known from its log only. Its number is taken over where it is free; otherwise it gets the next.
    ///
    /// # Errors
    /// When SQLite fails, or a run of this name is known.
    fn restore_run(&mut self, run: &RunRow, problems: &[ProblemGroup]) -> Result<i64>;

    /// Notes how a run ended, and how much room it left at its destinations (once an hour is enough, and of that hour the last).
    ///
    /// # Errors
    /// When SQLite fails.
    fn end_run(&mut self, id: i64, end: &RunEnd, problems: &[ProblemGroup], rooms: &[Room]) -> Result<()>;

    /// The runs of a job, or of all jobs, newest first, at most `limit`. The order is that in which they began, whatever the
    /// clock said.
    ///
    /// # Errors
    /// When SQLite fails.
    fn runs(&self, job: Option<&str>, limit: u32) -> Result<Vec<RunRow>>;

    /// The same, of those before the run with this key.
    ///
    /// # Errors
    /// When SQLite fails.
    fn runs_before(&self, job: Option<&str>, before: Option<i64>, limit: u32) -> Result<Vec<RunRow>>;

    /// Hands over the runs that began in a time, from `since_ms` up to before `until_ms` (ms since 1970), one by one in the order in
    /// which they began: years of them need not be in memory at once.
    ///
    /// # Errors
    /// When SQLite fails.
    fn each_run_between(&self, since_ms: i64, until_ms: i64, each: &mut dyn FnMut(RunRow)) -> Result<()>;

    /// The problems of the runs that began in a time, each group with its run's key.
    ///
    /// # Errors
    /// When SQLite fails.
    fn problems_between(&self, since_ms: i64, until_ms: i64) -> Result<Vec<(i64, ProblemGroup)>>;

    /// What all runs of each job came to: the job, how they ended, how many did, and the bytes that they wrote.
    ///
    /// # Errors
    /// When SQLite fails.
    fn totals(&self) -> Result<Vec<(String, Outcome, u64, u64)>>;

    /// The number of all runs.
    ///
    /// # Errors
    /// When SQLite fails.
    fn count_runs(&self) -> Result<u64>;

    /// The job that a run was of, and the run's place in the order of all runs, by its name.
    ///
    /// # Errors
    /// When SQLite fails.
    fn run_named(&self, run: &str) -> Result<Option<(String, i64)>>;

    /// One run of a job, by its name, its number, or `last`.
    ///
    /// # Errors
    /// When SQLite fails.
    fn find_run(&self, job: &str, which: &str) -> Result<Option<RunRow>>;

    /// The newest usual run of a job that worked on its sides; refused ones, restores and undos are passed over.
    ///
    /// # Errors
    /// When SQLite fails.
    fn last_completed(&self, job: &str) -> Result<Option<RunRow>>;

    /// The problems of a run, grouped, the largest group first.
    ///
    /// # Errors
    /// When SQLite fails.
    fn problem_groups(&self, run_id: i64) -> Result<Vec<ProblemGroup>>;

    /// Carries everything remembered of a job over to its new name.
    ///
    /// # Errors
    /// When SQLite fails.
    fn rename_job(&mut self, from: &str, to: &str) -> Result<()>;

    /// What a file held when it was last read whole.
    ///
    /// # Errors
    /// When SQLite fails.
    fn checksum(&self, job: &str, path: &RelPath) -> Result<Option<Checksum>>;

    /// Remembers what files hold, in one transaction.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_checksums(&mut self, job: &str, checksums: &[(RelPath, Checksum)]) -> Result<()>;
}

/// A group, from the columns `code`, `count`, `path` and `message` in this order.
pub(crate) fn group_of(row: &Row<'_>) -> rusqlite::Result<ProblemGroup> {
    let count: i64 = row.get(1)?;
    Ok(ProblemGroup { code: row.get(0)?, count: count as u64, path: row.get(2)?, message: row.get(3)? })
}

pub(crate) fn row_of(row: &Row<'_>) -> rusqlite::Result<RunRow> {
    let number = |name: &str| row.get::<_, i64>(name).map(|value| value.max(0) as u64);
    let mut fields = [0; Counts::NAMES.len()];
    for (field, name) in fields.iter_mut().zip(Counts::NAMES) {
        *field = number(name)?;
    }
    let seconds: f64 = row.get("seconds")?;
    Ok(RunRow {
        id: row.get("id")?,
        job: row.get("job")?,
        number: row.get("number")?,
        run: row.get("run")?,
        started_ms: row.get("started")?,
        keys: row.get("keys")?,
        end: RunEnd {
            elapsed: Duration::try_from_secs_f64(seconds).unwrap_or_default(),
            outcome: Outcome::parse(&row.get::<_, String>("outcome")?),
            code: row.get("code")?,
            message: row.get("message")?,
            folders_made: number("folders_made")?,
            folders_removed: number("folders_removed")?,
            counts: Counts::from_fields(fields),
            log_whole: row.get("log_whole")?,
        },
    })
}

impl Runs for StateFile {
    fn begin_run(&mut self, job: &str, run: &str, started_ms: i64, keys: &str) -> Result<i64> {
        let transaction = self.db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        transaction.execute(
            "INSERT INTO runs (job, number, run, started, outcome, keys)
             SELECT ?1, COALESCE(MAX(number), 0) + 1, ?2, ?3, ?4, ?5 FROM runs WHERE job = ?1",
            params![job, run, started_ms, Outcome::Unfinished.as_str(), keys],
        )?;
        let id = transaction.last_insert_rowid();
        transaction.commit()?;
        Ok(id)
    }

    fn restore_run(&mut self, run: &RunRow, problems: &[ProblemGroup]) -> Result<i64> {
        let id = self.begin_run(&run.job, &run.run, run.started_ms, &run.keys)?;
        let free = "SELECT NOT EXISTS (SELECT 1 FROM runs WHERE job = ?1 AND number = ?2 AND id <> ?3)";
        let free: bool = self.db.query_row(free, params![run.job, run.number, id], |row| row.get(0))?;
        if free && run.number > 0 {
            self.db.execute("UPDATE runs SET number = ?1 WHERE id = ?2", [run.number, id])?;
        }
        self.end_run(id, &run.end, problems, &[])?;
        Ok(id)
    }

    fn end_run(&mut self, id: i64, end: &RunEnd, problems: &[ProblemGroup], rooms: &[Room]) -> Result<()> {
        let transaction = self.db.transaction()?;
        transaction.execute(
            "UPDATE runs SET seconds = :seconds, outcome = :outcome, code = :code, message = :message,
                    folders_made = :made, folders_removed = :removed, log_whole = :log WHERE id = :id",
            named_params! {
                ":seconds": end.elapsed.as_secs_f64(), ":outcome": end.outcome.as_str(), ":code": end.code,
                ":message": end.message, ":made": end.folders_made as i64, ":removed": end.folders_removed as i64,
                ":log": end.log_whole, ":id": id,
            },
        )?;
        for (name, value) in Counts::NAMES.iter().zip(end.counts.fields()) {
            transaction
                .execute(&format!("UPDATE runs SET {name} = ?1 WHERE id = ?2"), params![value as i64, id])?;
        }
        for group in problems {
            transaction.execute(
                "INSERT INTO problem_groups (run_id, code, count, path, message) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![id, group.code, group.count as i64, group.path, group.message],
            )?;
        }
        rooms.iter().try_for_each(|room| morning::put_room(&transaction, room))?;
        transaction.commit()?;
        Ok(())
    }

    fn runs(&self, job: Option<&str>, limit: u32) -> Result<Vec<RunRow>> {
        self.runs_before(job, None, limit)
    }

    fn runs_before(&self, job: Option<&str>, before: Option<i64>, limit: u32) -> Result<Vec<RunRow>> {
        let whose = if job.is_some() { "job = :job" } else { ":job IS NULL" };
        let sql = format!("SELECT * FROM runs WHERE {whose} AND id < :before ORDER BY id DESC LIMIT :limit");
        let mut statement = self.db.prepare(&sql)?;
        let before = before.unwrap_or(i64::MAX);
        let wanted = named_params! { ":job": job, ":before": before, ":limit": limit };
        let rows = statement.query_map(wanted, row_of)?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn each_run_between(&self, since_ms: i64, until_ms: i64, each: &mut dyn FnMut(RunRow)) -> Result<()> {
        let sql = "SELECT * FROM runs WHERE started >= ?1 AND started < ?2 ORDER BY id";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement.query_map([since_ms, until_ms], row_of)?;
        for row in rows {
            each(row?);
        }
        Ok(())
    }

    fn problems_between(&self, since_ms: i64, until_ms: i64) -> Result<Vec<(i64, ProblemGroup)>> {
        let sql = "SELECT g.code, g.count, g.path, g.message, g.run_id FROM problem_groups g JOIN runs r ON r.id = g.run_id
                   WHERE r.started >= ?1 AND r.started < ?2 ORDER BY g.run_id, g.count DESC, g.code";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement.query_map([since_ms, until_ms], |row| Ok((row.get(4)?, group_of(row)?)))?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn totals(&self) -> Result<Vec<(String, Outcome, u64, u64)>> {
        let sql =
            "SELECT job, outcome, COUNT(*), SUM(bytes) FROM runs GROUP BY job, outcome ORDER BY job, outcome";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement.query_map([], |row| {
            let (runs, bytes): (i64, i64) = (row.get(2)?, row.get(3)?);
            let outcome = Outcome::parse(&row.get::<_, String>(1)?);
            Ok((row.get(0)?, outcome, runs.unsigned_abs(), bytes.unsigned_abs()))
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn count_runs(&self) -> Result<u64> {
        let number: i64 = self.db.query_row("SELECT COUNT(*) FROM runs", [], |row| row.get(0))?;
        Ok(number.unsigned_abs())
    }

    fn run_named(&self, run: &str) -> Result<Option<(String, i64)>> {
        let sql = "SELECT job, id FROM runs WHERE run = ?1";
        Ok(self.db.query_row(sql, [run], |row| Ok((row.get(0)?, row.get(1)?))).optional()?)
    }

    fn find_run(&self, job: &str, which: &str) -> Result<Option<RunRow>> {
        if which == "last" {
            return Ok(self.runs(Some(job), 1)?.into_iter().next());
        }
        let number: i64 = which.trim_start_matches('#').parse().unwrap_or(-1);
        let sql = "SELECT * FROM runs WHERE job = ?1 AND (run = ?2 OR number = ?3)";
        Ok(self.db.query_row(sql, params![job, which, number], row_of).optional()?)
    }

    fn last_completed(&self, job: &str) -> Result<Option<RunRow>> {
        let sql =
            "SELECT * FROM runs WHERE job = ?1 AND code = '' AND outcome IN ('done', 'problems', 'held')
                   ORDER BY id DESC LIMIT 1";
        Ok(self.db.query_row(sql, [job], row_of).optional()?)
    }

    fn problem_groups(&self, run_id: i64) -> Result<Vec<ProblemGroup>> {
        let sql = "SELECT code, count, path, message FROM problem_groups WHERE run_id = ?1 ORDER BY count DESC, code";
        let mut statement = self.db.prepare(sql)?;
        let rows = statement.query_map([run_id], group_of)?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn rename_job(&mut self, from: &str, to: &str) -> Result<()> {
        let transaction = self.db.transaction()?;
        // A removed job that once had the new name may have left runs behind; theirs come first.
        let taken: i64 = transaction.query_row(
            "SELECT COALESCE(MAX(number), 0) FROM runs WHERE job = ?1",
            [to],
            |row| row.get(0),
        )?;
        transaction.execute(
            "UPDATE runs SET job = ?2, number = number + ?3 WHERE job = ?1",
            params![from, to, taken],
        )?;
        for table in OF_A_JOB {
            transaction.execute(&format!("DELETE FROM {table} WHERE job = ?1"), [to])?;
            transaction.execute(&format!("UPDATE {table} SET job = ?2 WHERE job = ?1"), [from, to])?;
        }
        // What was is not lost with the name of a job that was removed.
        for table in ["room", "told"] {
            transaction.execute(&format!("UPDATE {table} SET job = ?2 WHERE job = ?1"), [from, to])?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn checksum(&self, job: &str, path: &RelPath) -> Result<Option<Checksum>> {
        let sql = "SELECT size, modified, hash, looked FROM checksums WHERE job = ?1 AND path = ?2";
        let found = self.db.query_row(sql, params![job, path.as_bytes()], |row| {
            let size: i64 = row.get(0)?;
            let looked: Option<i64> = row.get(3)?;
            let looked =
                looked.map(|ms| Stamp::new(ms.div_euclid(1000), ms.rem_euclid(1000) as u32 * 1_000_000));
            Ok(Checksum { size: size as u64, modified: row.get(1)?, hash: row.get(2)?, looked })
        });
        Ok(found.optional()?)
    }

    fn set_checksums(&mut self, job: &str, checksums: &[(RelPath, Checksum)]) -> Result<()> {
        let transaction = self.db.transaction()?;
        {
            let mut statement = transaction.prepare(
                "INSERT INTO checksums (job, path, size, modified, hash, looked) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
                 ON CONFLICT (job, path) DO UPDATE SET size = ?3, modified = ?4, hash = ?5, looked = ?6",
            )?;
            for (path, checksum) in checksums {
                let size = checksum.size as i64;
                // What was written before then was so at the end of that millisecond, too.
                let looked =
                    checksum.looked.map(|at| at.seconds() * 1000 + i64::from(at.nanos().div_ceil(1_000_000)));
                let Checksum { modified, hash, .. } = checksum;
                statement.execute(params![job, path.as_bytes(), size, modified, hash, looked])?;
            }
        }
        transaction.commit()?;
        Ok(())
    }
}
