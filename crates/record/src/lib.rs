//! What Reedhook remembers between runs, in one SQLite file.
//!
//! | table | a row is | columns |
//! |---|---|---|
//! | `runs` | one run of a job | `id`, `job`, `number` (1 for the job's first), `run` (its name, unique), `started` (ms since 1970), `seconds`, `outcome`, `code` and `message` (why it was refused or stopped), `keys` (what a run without a job was told, as a job file), `log_whole` (its log has all that it did), `folders_made`, `folders_removed`, and one column for each name in [`Counts::NAMES`] |
//! | `problem_groups` | the problems of a run with one cause | `run_id`, `code`, `count`, `path` (bytes) and `message` of the first |
//! | `places` | the store that a job last found at one of its sides | `job`, `place` (as written in the job), `identity` (its mark; empty: seen, but not marked), `ground` (what it is on, see [`Ground`](reedhook_core::identity::Ground); empty: not known), `there` (it has been seen itself, not only what is above it) |
//! | `place_mounts` | another file system that was mounted inside a side | `job`, `place`, `path` (bytes, in the side), `ground` |
//! | `pairs` | two stores between which a job has run well | `left_store`, `right_store` (their identities), `agreed` (what is removed between them has been agreed to) |
//! | `run_places` | a store that a run changed | `run_id`, `side`, `place` (as written), `location` (the folder or address then), `identity` (its mark), `ground` |
//! | `removing` | what a two-way run that has not come to its end set out to remove or replace | `job`, `side`, `path` (bytes) |
//! | `rotten` | a file that a verification found to have changed without its size and time, until it is mended | `job`, `place` (the destination), `path` (bytes), `side` (empty: it is not known which), `size`, `modified` (text), `edited` (somebody has written there: it did not change by itself) |
//! | `ended` | a version of a file that a two-way job in a circle of such jobs has ended at both sides: it is not news when it comes round again | `job`, `path` (bytes), `known` (postcard), `at` (ms since 1970) |
//! | `fresh` | a file whose time could not tell, at the last look, whether it was saved once more; its content will | `job`, `place` (the destination), `path` (bytes) |
//! | `clock` | the time that retention goes by | `boot` (which start of the machine), `awake` (ms since then), `wall` and `trusted` (ms since 1970) |
//! | `checksums` | what a file of a job held when it was last read whole | `job`, `path` (bytes), `size`, `modified` (text, seconds and nanoseconds), `hash` (BLAKE3, 32 bytes), `looked` (ms since 1970: when it was read; empty: not known) |
//! | `baselines` | the pair of stores that a two-way job's baseline is about | `job`, `left_identity`, `right_identity`, `run` (that last changed it, as both sides say too), `next` (that is changing it, or did not come to its end) |
//! | `baseline_folders` | what a two-way job remembers of one folder | `job`, `folder` (bytes), `entries` (the [`Known`](reedhook_core::plan::two_way::Known) names in it, sorted, in the postcard wire format), `looked` (s since 1970: since when that was so), `older` (which of them were seen earlier, in the postcard wire format) |
//! | `notes` | what is known of one file in a store that cannot say it itself | `store` (its server), `folder` and `name` (bytes), `tag` (the version it is about), `seconds` and `nanos` (its modification time), `mode` |
//! | `held` | what was found by trying that can be held on a file system, as mounted then and by that account | `footing` (what tells all that apart), `found` (as the local stores write it), `tried` (ms since 1970) |
//! | `followed` | how far the service has followed a job's `when` | `job`, `lines` (the lines then), `upto` (ms since 1970: nothing that was due until then is still owed), `since` (ms since 1970: since when these lines have been followed; empty: not known) |
//! | `room` | how much room a destination had when a run ended there | `job`, `place` (as written), `location` (the folder or address then), `ground` (its file system, or the server), `at` (ms since 1970), `free`, `total` (bytes) |
//! | `told` | what somebody was told, or was to be | `id`, `way` (`mail`, `desktop`, …), `job`, `run` (its name), `what` (a fingerprint of what it said), `at` (ms since 1970), `telling` (`told`, `failed`, `held-back`), `message` (why it failed) |
//! | `digests` | when a digest was last sent | `way`, `at` (ms since 1970) |
//! | `cleared` | logs that have had their time: one row | `logs`, `bytes` |
//!
//! `PRAGMA user_version` tells the layout's version. Items and single problems are in the run's own log file.
//!
//! ```
//! use reedhook_record::{Outcome, Runs, StateFile};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let folder = tempfile::tempdir()?;
//! let mut record = StateFile::open(&folder.path().join("state.db"))?;
//! record.begin_run("counts", "20310504-181500-abcd", 1_935_850_500_000, "")?;
//! let runs = record.runs(Some("counts"), 10)?;
//! assert_eq!((runs[0].number, runs[0].end.outcome), (1, Outcome::Unfinished));
//! # Ok(())
//! # }
//! ```

mod baseline;
mod corrupted;
mod followed;
pub mod inventories;
mod layout;
mod morning;
mod notes;
mod places;

pub use baseline::Baselines;
pub use corrupted::Findings;
pub use followed::{Followed, Schedules};
pub use morning::{Mornings, Notification, Room, Telling};
pub use notes::KeptNotes;
pub use places::{KnownPlace, Places, RunPlace};

use std::path::Path;
use std::time::{Duration, Instant};

use rusqlite::{
    Connection, ErrorCode, OptionalExtension, Row, Transaction, TransactionBehavior, named_params, params,
};

use reedhook_core::entry::Stamp;
use reedhook_core::memory::{Checksum, MemoryError};
use reedhook_core::path::RelPath;
use reedhook_core::plan::Counts;

/// Tables whose rows belong to a job, by its name.
const OF_A_JOB: [&str; 10] = [
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

/// How long a program waits for another one that is writing.
const PATIENCE: Duration = Duration::from_secs(10);

/// The layout that this program writes.
const VERSION: i64 = layout::STEPS.len() as i64;

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

impl From<RecordError> for MemoryError {
    fn from(error: RecordError) -> MemoryError {
        MemoryError::new(error)
    }
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

type Result<T> = std::result::Result<T, RecordError>;

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
    /// The job.
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
    /// Folders made.
    pub folders_made: u64,
    /// Folders removed.
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

/// What is remembered between runs. Another database can keep it too; [`StateFile`] is the one there is.
pub trait Record: Runs + Places + Baselines + Findings + Schedules + Mornings + Send {}

impl<T: Runs + Places + Baselines + Findings + Schedules + Mornings + Send> Record for T {}

/// A record in an SQLite file.
pub struct StateFile {
    db: Connection,
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

    fn lay_out(&self) -> Result<()> {
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

    fn layout(&self) -> Result<i64> {
        Ok(self.db.query_row("PRAGMA user_version", [], |row| row.get(0))?)
    }
}

/// Reads a whole file and looks whether it is in order.
fn in_order(db: &Connection) -> Result<()> {
    let verdict: String = db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
    if verdict == "ok" { Ok(()) } else { Err(RecordError::Damaged(verdict)) }
}

/// Makes a new file one with a log. For this SQLite does not wait by itself while another program does the same.
fn write_ahead(db: &Connection) -> Result<()> {
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

/// A group, from the columns `code`, `count`, `path` and `message` in this order.
fn group_of(row: &Row<'_>) -> rusqlite::Result<ProblemGroup> {
    let count: i64 = row.get(1)?;
    Ok(ProblemGroup { code: row.get(0)?, count: count as u64, path: row.get(2)?, message: row.get(3)? })
}

fn row_of(row: &Row<'_>) -> rusqlite::Result<RunRow> {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn end(outcome: Outcome, added: u64) -> RunEnd {
        RunEnd {
            elapsed: Duration::from_millis(1500),
            outcome,
            code: String::new(),
            message: String::new(),
            folders_made: 2,
            folders_removed: 0,
            counts: Counts { added, bytes: 77, ..Counts::default() },
            log_whole: outcome != Outcome::Refused,
        }
    }

    #[test]
    fn runs_are_numbered_by_job_and_survive_reopening() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("state.db");
        let group = ProblemGroup {
            code: "no-rights".into(),
            count: 3,
            path: b"a/\xff".to_vec(),
            message: "cannot read".into(),
        };
        {
            let mut record = StateFile::open(&file).unwrap();
            let first = record.begin_run("counts", "20310504-180000-aaaa", 1_000, "").unwrap();
            record.end_run(first, &end(Outcome::Problems, 5), std::slice::from_ref(&group), &[]).unwrap();
            record.begin_run("maps", "20310504-180001-bbbb", 2_000, "").unwrap();
            let third = record.begin_run("counts", "20310504-180002-cccc", 3_000, "").unwrap();
            record.end_run(third, &end(Outcome::Refused, 0), &[], &[]).unwrap();
        }
        let record = StateFile::open(&file).unwrap();
        let shown: Vec<_> =
            record.runs(None, 10).unwrap().iter().map(|r| (r.job.clone(), r.number, r.end.outcome)).collect();
        let expected = [
            ("counts", 2, Outcome::Refused),
            ("maps", 1, Outcome::Unfinished),
            ("counts", 1, Outcome::Problems),
        ];
        assert_eq!(shown, expected.map(|(job, number, outcome)| (job.to_owned(), number, outcome)));
        let first = record.last_completed("counts").unwrap().unwrap();
        assert_eq!((first.end.counts.added, first.end.counts.bytes, first.end.folders_made), (5, 77, 2));
        assert_eq!(record.problem_groups(first.id).unwrap(), [group]);
        for which in ["1", "#1", "20310504-180000-aaaa"] {
            assert_eq!(record.find_run("counts", which).unwrap().unwrap().id, first.id, "{which}");
        }
        assert_eq!(record.find_run("counts", "last").unwrap().unwrap().number, 2);
        assert_eq!(record.find_run("counts", "7").unwrap(), None);
    }

    #[test]
    fn an_older_state_file_is_brought_up_and_a_newer_one_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("state.db");
        {
            let mut record = StateFile::open(&file).unwrap();
            record.begin_run("counts", "r1", 1, "").unwrap();
            // As the first layout was: without the tables that came later.
            record
                .db
                .execute_batch(
                    "DROP TABLE places; DROP TABLE checksums; DROP TABLE baselines; DROP TABLE baseline_folders;
                     DROP TABLE notes; DROP TABLE place_mounts; DROP TABLE pairs; DROP TABLE run_places;
                     DROP TABLE removing; DROP TABLE rotten; DROP TABLE fresh; DROP TABLE ended; DROP TABLE clock; DROP TABLE followed;
                     DROP TABLE room; DROP TABLE told; DROP TABLE digests; DROP TABLE cleared; DROP INDEX runs_started; ALTER TABLE runs DROP COLUMN keys;
                     ALTER TABLE runs DROP COLUMN log_whole;
                     PRAGMA user_version = 1;",
                )
                .unwrap();
        }
        {
            let mut record = StateFile::open(&file).unwrap();
            assert_eq!(record.runs(None, 9).unwrap().len(), 1, "what was remembered stays");
            record.set_mark("counts", "@field-drive", "mark").unwrap();
            let mark = |record: &StateFile, job: &str| {
                record.place(job, "@field-drive").unwrap().map(|known| known.mark)
            };
            assert_eq!(mark(&record, "counts").as_deref(), Some("mark"));
            let path = RelPath::new(b"a/b").unwrap();
            let checksum = Checksum {
                size: 3,
                modified: "5.000000000".into(),
                hash: [7; 32],
                looked: Some(Stamp::new(9, 0)),
            };
            record.set_checksums("counts", &[(path.clone(), checksum.clone())]).unwrap();
            record.rename_job("counts", "heron-counts").unwrap();
            assert_eq!(record.checksum("heron-counts", &path).unwrap(), Some(checksum));
            assert_eq!(record.checksum("counts", &path).unwrap(), None);
            assert_eq!(mark(&record, "heron-counts").as_deref(), Some("mark"));
            record.db.pragma_update(None, "user_version", 99).unwrap();
        }
        assert!(matches!(StateFile::open(&file), Err(RecordError::TooNew { found: 99, .. })));
    }

    #[test]
    fn programs_that_begin_at_once_lay_out_one_file() {
        let folder = tempfile::tempdir().unwrap();
        for round in 0..20 {
            let file = folder.path().join(format!("{round}.db"));
            let together = std::sync::Barrier::new(4);
            std::thread::scope(|scope| {
                let begin = || {
                    together.wait();
                    StateFile::open(&file).map(drop)
                };
                let begun: Vec<_> = (0..4).map(|_| scope.spawn(begin)).collect();
                begun.into_iter().for_each(|one| one.join().unwrap().unwrap());
            });
        }
    }

    #[test]
    fn a_renamed_job_keeps_its_past() {
        let folder = tempfile::tempdir().unwrap();
        let mut record = StateFile::open(&folder.path().join("state.db")).unwrap();
        record.begin_run("new", "r1", 1, "").unwrap();
        record.begin_run("old", "r2", 2, "").unwrap();
        record.rename_job("old", "new").unwrap();
        let numbers: Vec<_> =
            record.runs(Some("new"), 9).unwrap().iter().map(|r| (r.run.clone(), r.number)).collect();
        assert_eq!(numbers, [("r2".to_owned(), 2), ("r1".to_owned(), 1)]);
    }
}
