//! What a look back needs besides the runs: how much room there was where they wrote, whom they were told to, and the logs that had
//! their time.

use rusqlite::{Row, Transaction, named_params, params};

use crate::error::Result;
use crate::state_file::StateFile;

/// How much room a destination had when a run of a job ended there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Room {
    /// The job's name.
    pub job: String,
    /// The destination, as written in the job.
    pub place: String,
    /// The folder or address then.
    pub location: String,
    /// What its file system is, or the server: places that share room have the same.
    pub ground: String,
    /// In milliseconds since 1970.
    pub at_ms: i64,
    /// Bytes that could still be written.
    pub free: u64,
    /// Bytes in all.
    pub total: u64,
}

/// What came of telling somebody something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Telling {
    /// It was told.
    Notification,
    /// It could not be told.
    Failed,
    /// It was held back: the same was told already, or too much was.
    HeldBack,
}

impl Telling {
    /// The word in the state file and in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Telling::Notification => "told",
            Telling::Failed => "failed",
            Telling::HeldBack => "held-back",
        }
    }

    fn parse(text: &str) -> Telling {
        match text {
            "told" => Telling::Notification,
            "held-back" => Telling::HeldBack,
            _ => Telling::Failed,
        }
    }
}

/// Something that was told, or was to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notification {
    /// By which way: `mail`, `desktop` and so on.
    pub way: String,
    /// About which job; empty for a digest or a trial.
    pub job: String,
    /// About which run, by its name; may be empty.
    pub run: String,
    /// What it said, as a fingerprint: the same again is no news.
    pub what: String,
    /// In milliseconds since 1970.
    pub at_ms: i64,
    /// What came of it.
    pub telling: Telling,
    /// Why it failed; empty otherwise.
    pub message: String,
}

/// What is remembered for looking back.
pub trait Mornings {
    /// Remembers how much room a destination has: once an hour is enough, and of that hour the last.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_room(&mut self, room: &Room) -> Result<()>;

    /// How much room destinations had since then, oldest first.
    ///
    /// # Errors
    /// When SQLite fails.
    fn rooms_since(&self, since_ms: i64) -> Result<Vec<Room>>;

    /// Writes down that something is being told; returns its key. What is more than `keep_ms` old is forgotten.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_told(&mut self, told: &Notification, keep_ms: i64) -> Result<i64>;

    /// Writes down what came of telling something.
    ///
    /// # Errors
    /// When SQLite fails.
    fn end_told(&mut self, id: i64, telling: Telling, message: &str) -> Result<()>;

    /// What was told since then, oldest first.
    ///
    /// # Errors
    /// When SQLite fails.
    fn told_since(&self, since_ms: i64) -> Result<Vec<Notification>>;

    /// When a digest was last sent this way, in milliseconds since 1970.
    ///
    /// # Errors
    /// When SQLite fails.
    fn last_digest(&self, way: &str) -> Result<Option<i64>>;

    /// Takes note of a digest that was sent.
    ///
    /// # Errors
    /// When SQLite fails.
    fn set_digest(&mut self, way: &str, at_ms: i64) -> Result<()>;

    /// Counts logs that were cleared away.
    ///
    /// # Errors
    /// When SQLite fails.
    fn add_cleared(&mut self, logs: u64, bytes: u64) -> Result<()>;

    /// How many logs were ever cleared away, and how many bytes those were.
    ///
    /// # Errors
    /// When SQLite fails.
    fn cleared(&self) -> Result<(u64, u64)>;
}

impl Mornings for StateFile {
    fn add_room(&mut self, room: &Room) -> Result<()> {
        let transaction = self.db.transaction()?;
        put_room(&transaction, room)?;
        transaction.commit()?;
        Ok(())
    }

    fn rooms_since(&self, since_ms: i64) -> Result<Vec<Room>> {
        let mut statement = self.db.prepare("SELECT * FROM room WHERE at >= ?1 ORDER BY at, rowid")?;
        let rows = statement.query_map([since_ms], |row| {
            let size = |at: usize| row.get::<_, i64>(at).map(|number| number.max(0) as u64);
            Ok(Room {
                job: row.get(0)?,
                place: row.get(1)?,
                location: row.get(2)?,
                ground: row.get(3)?,
                at_ms: row.get(4)?,
                free: size(5)?,
                total: size(6)?,
            })
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn add_told(&mut self, told: &Notification, keep_ms: i64) -> Result<i64> {
        self.db.execute("DELETE FROM told WHERE at < ?1", [told.at_ms.saturating_sub(keep_ms)])?;
        self.db.execute(
            "INSERT INTO told (way, job, run, what, at, telling, message)
             VALUES (:way, :job, :run, :what, :at, :telling, :message)",
            named_params! {
                ":way": told.way, ":job": told.job, ":run": told.run, ":what": told.what, ":at": told.at_ms,
                ":telling": told.telling.as_str(), ":message": told.message,
            },
        )?;
        Ok(self.db.last_insert_rowid())
    }

    fn end_told(&mut self, id: i64, telling: Telling, message: &str) -> Result<()> {
        let sql = "UPDATE told SET telling = ?2, message = ?3 WHERE id = ?1";
        self.db.execute(sql, params![id, telling.as_str(), message])?;
        Ok(())
    }

    fn told_since(&self, since_ms: i64) -> Result<Vec<Notification>> {
        let mut statement = self.db.prepare("SELECT * FROM told WHERE at >= ?1 ORDER BY id")?;
        let rows = statement.query_map([since_ms], told_of)?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn last_digest(&self, way: &str) -> Result<Option<i64>> {
        let sql = "SELECT MAX(at) FROM digests WHERE way = ?1";
        Ok(self.db.query_row(sql, [way], |row| row.get(0))?)
    }

    fn set_digest(&mut self, way: &str, at_ms: i64) -> Result<()> {
        self.db.execute("INSERT OR REPLACE INTO digests (way, at) VALUES (?1, ?2)", params![way, at_ms])?;
        Ok(())
    }

    fn add_cleared(&mut self, logs: u64, bytes: u64) -> Result<()> {
        let sql = "UPDATE cleared SET logs = logs + ?1, bytes = bytes + ?2";
        self.db.execute(sql, params![logs as i64, bytes as i64])?;
        Ok(())
    }

    fn cleared(&self) -> Result<(u64, u64)> {
        let pair =
            |row: &Row<'_>| Ok((row.get::<_, i64>(0)?.max(0) as u64, row.get::<_, i64>(1)?.max(0) as u64));
        Ok(self.db.query_row("SELECT logs, bytes FROM cleared", [], pair)?)
    }
}

/// Remembers how much room there is, in the place of what was remembered of the same hour.
pub(crate) fn put_room(db: &Transaction<'_>, room: &Room) -> Result<()> {
    const HOUR_MS: i64 = 3_600_000;
    let (free, total) = (room.free as i64, room.total as i64);
    db.execute(
        "DELETE FROM room WHERE job = ?1 AND location = ?2 AND at / ?4 = ?3 / ?4",
        params![room.job, room.location, room.at_ms, HOUR_MS],
    )?;
    db.execute(
        "INSERT INTO room VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        params![room.job, room.place, room.location, room.ground, room.at_ms, free, total],
    )?;
    Ok(())
}

fn told_of(row: &Row<'_>) -> rusqlite::Result<Notification> {
    Ok(Notification {
        way: row.get("way")?,
        job: row.get("job")?,
        run: row.get("run")?,
        what: row.get("what")?,
        at_ms: row.get("at")?,
        telling: Telling::parse(&row.get::<_, String>("telling")?),
        message: row.get("message")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_told_is_found_again_and_a_digest_is_sent_once() {
        let folder = tempfile::tempdir().unwrap();
        let mut record = StateFile::open(&folder.path().join("state.db")).unwrap();
        let told = |at_ms| Notification {
            way: "mail".to_owned(),
            job: "counts".to_owned(),
            run: "r".to_owned(),
            what: "w".to_owned(),
            at_ms,
            telling: Telling::Failed,
            message: "it was not sent".to_owned(),
        };
        record.add_told(&told(1_000), 10_000).unwrap();
        let id = record.add_told(&told(5_000), 10_000).unwrap();
        record.end_told(id, Telling::Notification, "").unwrap();
        let found = record.told_since(2_000).unwrap();
        assert_eq!(
            found,
            [Notification { telling: Telling::Notification, message: String::new(), ..told(5_000) }]
        );
        record.add_told(&told(11_001), 10_000).unwrap();
        assert_eq!(record.told_since(0).unwrap().len(), 2, "the oldest is forgotten");

        assert_eq!(record.last_digest("mail").unwrap(), None);
        record.set_digest("mail", 100).unwrap();
        record.set_digest("mail", 200).unwrap();
        assert_eq!(record.last_digest("mail").unwrap(), Some(200));

        record.add_cleared(2, 300).unwrap();
        record.add_cleared(1, 50).unwrap();
        assert_eq!(record.cleared().unwrap(), (3, 350));
        let room = Room {
            job: "counts".to_owned(),
            place: "@field-drive/counts".to_owned(),
            location: "/media/fenfield/counts".to_owned(),
            ground: "ext4".to_owned(),
            at_ms: 7,
            free: 1 << 40,
            total: 1 << 41,
        };
        record.add_room(&room).unwrap();
        assert_eq!(
            (record.rooms_since(7).unwrap(), record.rooms_since(8).unwrap()),
            (vec![room.clone()], vec![])
        );
        // A job that runs every minute does not fill the file.
        for minute in 0..120 {
            record.add_room(&Room { at_ms: minute * 60_000, ..room.clone() }).unwrap();
        }
        let found = record.rooms_since(0).unwrap();
        assert_eq!(found.iter().map(|room| room.at_ms / 60_000).collect::<Vec<_>>(), [59, 119]);
    }
}
