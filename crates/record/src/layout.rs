//! How the state file is laid out, step by step: each makes of one layout the next. What stands here was written by programs that are in
//! use, and is never changed; a new layout is a new step.

/// The steps, from nothing on. A file of layout *n* has seen the first *n*.
pub(crate) const STEPS: [&str; 12] = [
    "CREATE TABLE IF NOT EXISTS runs (
        id INTEGER PRIMARY KEY, job TEXT NOT NULL, number INTEGER NOT NULL, run TEXT NOT NULL UNIQUE,
        started INTEGER NOT NULL, seconds REAL NOT NULL DEFAULT 0, outcome TEXT NOT NULL,
        code TEXT NOT NULL DEFAULT '', message TEXT NOT NULL DEFAULT '',
        added INTEGER NOT NULL DEFAULT 0, updated INTEGER NOT NULL DEFAULT 0, moved INTEGER NOT NULL DEFAULT 0,
        removed INTEGER NOT NULL DEFAULT 0, meta INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0,
        conflicts INTEGER NOT NULL DEFAULT 0, settled INTEGER NOT NULL DEFAULT 0, same INTEGER NOT NULL DEFAULT 0,
        problems INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0,
        folders_made INTEGER NOT NULL DEFAULT 0, folders_removed INTEGER NOT NULL DEFAULT 0,
        UNIQUE (job, number));
     CREATE TABLE IF NOT EXISTS problem_groups (
        run_id INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE, code TEXT NOT NULL,
        count INTEGER NOT NULL, path BLOB NOT NULL, message TEXT NOT NULL, PRIMARY KEY (run_id, code));",
    "CREATE TABLE IF NOT EXISTS places (
        job TEXT NOT NULL, place TEXT NOT NULL, identity TEXT NOT NULL, PRIMARY KEY (job, place));
     CREATE TABLE IF NOT EXISTS checksums (
        job TEXT NOT NULL, path BLOB NOT NULL, size INTEGER NOT NULL, modified TEXT NOT NULL,
        hash BLOB NOT NULL, PRIMARY KEY (job, path)) WITHOUT ROWID;",
    "CREATE TABLE IF NOT EXISTS baselines (
        job TEXT PRIMARY KEY, left_identity TEXT NOT NULL, right_identity TEXT NOT NULL);
     CREATE TABLE IF NOT EXISTS baseline_folders (
        job TEXT NOT NULL, folder BLOB NOT NULL, entries BLOB NOT NULL, PRIMARY KEY (job, folder));",
    "CREATE TABLE IF NOT EXISTS notes (
        store TEXT NOT NULL, folder BLOB NOT NULL, name BLOB NOT NULL, tag TEXT NOT NULL,
        seconds INTEGER, nanos INTEGER, mode INTEGER, PRIMARY KEY (store, folder, name)) WITHOUT ROWID;",
    "DROP TABLE IF EXISTS job_state;
     ALTER TABLE places ADD COLUMN ground TEXT NOT NULL DEFAULT '';
     ALTER TABLE places ADD COLUMN there INTEGER NOT NULL DEFAULT 1;
     ALTER TABLE runs ADD COLUMN keys TEXT NOT NULL DEFAULT '';
     ALTER TABLE runs ADD COLUMN log_whole INTEGER NOT NULL DEFAULT 1;
     CREATE TABLE place_mounts (
        job TEXT NOT NULL, place TEXT NOT NULL, path BLOB NOT NULL, ground TEXT NOT NULL,
        PRIMARY KEY (job, place, path));
     CREATE TABLE pairs (
        left_store TEXT NOT NULL, right_store TEXT NOT NULL, agreed INTEGER NOT NULL,
        PRIMARY KEY (left_store, right_store));
     CREATE TABLE run_places (
        run_id INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE, side TEXT NOT NULL,
        place TEXT NOT NULL, location TEXT NOT NULL, identity TEXT NOT NULL, ground TEXT NOT NULL,
        PRIMARY KEY (run_id, side, location));
     CREATE TABLE removing (
        job TEXT NOT NULL, side TEXT NOT NULL, path BLOB NOT NULL, PRIMARY KEY (job, side, path));
     CREATE TABLE rotten (
        job TEXT NOT NULL, place TEXT NOT NULL, path BLOB NOT NULL, side TEXT NOT NULL,
        size INTEGER NOT NULL, modified TEXT NOT NULL, PRIMARY KEY (job, place, path));
     CREATE TABLE clock (
        boot TEXT NOT NULL, awake INTEGER NOT NULL, wall INTEGER NOT NULL, trusted INTEGER NOT NULL);
     ALTER TABLE baselines ADD COLUMN run TEXT NOT NULL DEFAULT '';
     ALTER TABLE baselines ADD COLUMN next TEXT NOT NULL DEFAULT '';",
    "CREATE TABLE IF NOT EXISTS held (
        footing TEXT PRIMARY KEY, found TEXT NOT NULL, tried INTEGER NOT NULL);",
    "ALTER TABLE baseline_folders ADD COLUMN looked INTEGER;",
    "ALTER TABLE baseline_folders ADD COLUMN older BLOB;",
    "CREATE TABLE IF NOT EXISTS followed (job TEXT PRIMARY KEY, lines TEXT NOT NULL, upto INTEGER NOT NULL);",
    "ALTER TABLE followed ADD COLUMN since INTEGER;
     CREATE INDEX runs_started ON runs (started);
     CREATE TABLE room (
        job TEXT NOT NULL, place TEXT NOT NULL, location TEXT NOT NULL, ground TEXT NOT NULL, at INTEGER NOT NULL,
        free INTEGER NOT NULL, total INTEGER NOT NULL);
     CREATE INDEX room_at ON room (at);
     CREATE TABLE told (
        id INTEGER PRIMARY KEY, way TEXT NOT NULL, job TEXT NOT NULL, run TEXT NOT NULL, what TEXT NOT NULL,
        at INTEGER NOT NULL, telling TEXT NOT NULL, message TEXT NOT NULL);
     CREATE INDEX told_at ON told (at);
     CREATE TABLE digests (way TEXT PRIMARY KEY, at INTEGER NOT NULL);
     CREATE TABLE cleared (logs INTEGER NOT NULL, bytes INTEGER NOT NULL);
     INSERT INTO cleared VALUES (0, 0);",
    "CREATE TABLE fresh (
        job TEXT NOT NULL, place TEXT NOT NULL, path BLOB NOT NULL, PRIMARY KEY (job, place, path)) WITHOUT ROWID;
     ALTER TABLE checksums ADD COLUMN looked INTEGER;
     ALTER TABLE rotten ADD COLUMN edited INTEGER NOT NULL DEFAULT 0;",
    "CREATE TABLE ended (
        job TEXT NOT NULL, path BLOB NOT NULL, known BLOB NOT NULL, at INTEGER NOT NULL,
        PRIMARY KEY (job, path)) WITHOUT ROWID;",
];
