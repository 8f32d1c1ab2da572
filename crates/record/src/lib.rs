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
pub(crate) mod error;
mod followed;
pub mod inventories;
mod layout;
mod morning;
mod notes;
mod places;
pub(crate) mod runs;
pub(crate) mod state_file;

pub use crate::error::RecordError;
pub use crate::runs::{Outcome, ProblemGroup, RunEnd, RunRow, Runs};
pub use crate::state_file::StateFile;
pub use baseline::Baselines;
pub use corrupted::Findings;
pub use followed::{Followed, Schedules};
pub use morning::{Mornings, Notification, Room, Telling};
pub use notes::KeptNotes;
pub use places::{KnownPlace, Places, RunPlace};

/// What is remembered between runs. Another database can keep it too; [`StateFile`] is the one there is.
pub trait Record: Runs + Places + Baselines + Findings + Schedules + Mornings + Send {}

impl<T: Runs + Places + Baselines + Findings + Schedules + Mornings + Send> Record for T {}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use reedhook_core::entry::Stamp;
    use reedhook_core::memory::Checksum;
    use reedhook_core::path::RelPath;
    use reedhook_core::plan::Counts;

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
