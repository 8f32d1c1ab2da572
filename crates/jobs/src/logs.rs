//! The logs of runs: reading one, clearing away old ones, and telling from them what ran when the state file is lost.
//!
//! A log is a file of lines of JSON. The first says which run it is (`began`), then come the stores that it was about to change
//! (`place`) and what it did (`item`, `folder`, `problem`); the last says how it ended (`finished`). A run that did nothing has none.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use reedhook_core::run::Done;
use reedhook_record::{ProblemGroup, Record, RecordError, RunEnd, RunPlace, RunRow};
use serde_json::Value;

use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::home::Home;
use crate::logline::LogLine;

/// So many of a job's newest logs stay, however old and large they are.
const ALWAYS_KEPT: usize = 20;

/// Reads a log line by line. There need be none. A last line that was cut off by a crash is passed over; so is what a bad disk
/// has made of a line, and the answer is how many those are.
///
/// # Errors
/// When the file is there and cannot be read.
pub fn read(path: &Path, mut each: impl FnMut(&str, LogLine)) -> Outcome<u64> {
    let failed =
        |error: std::io::Error| Failure::own_files(&format!("cannot read {}", path.display()), error);
    let file = match File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(0),
        Err(error) => return Err(failed(error)),
    };
    let mut reader = BufReader::new(file);
    let (mut bytes, mut garbled) = (Vec::new(), 0);
    loop {
        bytes.clear();
        if reader.read_until(b'\n', &mut bytes).map_err(failed)? == 0 {
            return Ok(garbled);
        }
        let line = std::str::from_utf8(&bytes).ok().map(str::trim_end);
        match line.and_then(|line| Some((line, serde_json::from_str::<Value>(line).ok()?))) {
            Some((line, value)) => each(line, LogLine::of(&value)),
            None => garbled += u64::from(bytes.ends_with(b"\n")),
        }
    }
}

/// A log that lies in a job's folder.
struct Lying {
    path: PathBuf,
    size: u64,
    written: SystemTime,
}

fn lying(folder: &Path) -> Vec<Lying> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let logs = entries.filter_map(|entry| {
        let (path, meta) = (entry.path(), entry.metadata().ok()?);
        let is_log = path.extension().is_some_and(|end| end == "ndjson") && meta.is_file();
        is_log.then(|| Some(Lying { path, size: meta.len(), written: meta.modified().ok()? }))?
    });
    let mut logs: Vec<Lying> = logs.collect();
    // A run's name begins with its time; what was written last decides all the same, because names follow the clock.
    logs.sort_by(|a, b| (b.written, &b.path).cmp(&(a.written, &a.path)));
    logs
}

/// Clears away a job's logs that have been kept long enough, or take too much room; as long as the job keeps copies, their logs stay
/// too, so that its runs can be undone. What cannot be cleared away now is by a later run.
///
/// The log of the last run that went well stays whatever its age: it says what stands at the destination. What goes is counted.
pub fn clear_old(desk: &Desk, job: &str, copies_kept_for: Duration) {
    // Without a clock that can be believed, nothing is old.
    let Ok(now) = desk.trusted_now() else { return };
    let now = SystemTime::UNIX_EPOCH + Duration::from_secs(now.seconds().max(0).unsigned_abs());
    let kept_for = desk.settings.logs_for().duration().max(copies_kept_for);
    let mut room = desk.settings.logs.keep_max.bytes();
    let Ok(mut record) = desk.home.record() else { return };
    let Ok(last_good) = record.last_completed(job) else { return };
    let last_good = last_good.map(|run| desk.home.run_log(job, &run.run));
    let mut approved = (0, 0);
    for (at, log) in lying(&desk.home.run_logs(job)).into_iter().enumerate() {
        let age = now.duration_since(log.written).unwrap_or_default();
        let fits = log.size <= room;
        room = room.saturating_sub(log.size);
        let too_much = !fits && age > copies_kept_for;
        let stays = at < ALWAYS_KEPT || last_good.as_ref() == Some(&log.path);
        if !stays && (age > kept_for || too_much) && fs::remove_file(&log.path).is_ok() {
            approved = (approved.0 + 1, approved.1 + log.size);
        }
    }
    if approved.0 > 0 {
        // Nothing depends on the count.
        let _ = record.add_cleared(approved.0, approved.1);
    }
}

/// The number of all logs, and their bytes.
pub fn amount(home: &Home) -> (u64, u64) {
    let all = jobs(home).into_iter().flat_map(|job| lying(&home.run_logs(&job)));
    all.fold((0, 0), |(number, size), log| (number + 1, size + log.size))
}

/// The jobs that have logs.
fn jobs(home: &Home) -> Vec<String> {
    let entries = fs::read_dir(home.all_logs()).into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().into_string().ok()).collect()
}

/// Fills a new state file with what the logs tell; returns how many runs that are.
///
/// # Errors
/// When the logs cannot be listed or read, or the record fails.
pub fn rebuild(home: &Home, record: &mut dyn Record) -> Outcome<u64> {
    let mut found: Vec<LoggedRun> = Vec::new();
    for job in jobs(home) {
        for log in lying(&home.run_logs(&job)) {
            found.extend(LoggedRun::by(&job, &log.path)?);
        }
    }
    found.sort_by(|a, b| (a.row.started_ms, &a.row.run).cmp(&(b.row.started_ms, &b.row.run)));
    let failed = |error: RecordError| Failure::from(error).about_state_file(&home.state_file());
    for told in &found {
        let id = record.restore_run(&told.row, &told.problems).map_err(failed)?;
        for place in &told.places {
            record.add_run_place(id, place).map_err(failed)?;
            // The mark says which store the job wrote to; without it an empty mount point could be taken for it.
            if !place.mark.is_empty() && told.row.end.code.is_empty() {
                record.set_mark(&told.row.job, &place.place, &place.mark).map_err(failed)?;
            }
        }
    }
    Ok(found.len() as u64)
}

/// What a log tells of its run.
struct LoggedRun {
    row: RunRow,
    places: Vec<RunPlace>,
    problems: Vec<ProblemGroup>,
}

impl LoggedRun {
    fn by(job: &str, path: &Path) -> Outcome<Option<LoggedRun>> {
        let Some(run) = path.file_stem().and_then(std::ffi::OsStr::to_str) else { return Ok(None) };
        let written = fs::metadata(path).and_then(|meta| meta.modified()).ok();
        let written = written.and_then(|time| time.duration_since(SystemTime::UNIX_EPOCH).ok());
        let row = RunRow {
            id: 0,
            job: job.to_owned(),
            number: 0,
            run: run.to_owned(),
            started_ms: written.map_or(0, |since| i64::try_from(since.as_millis()).unwrap_or(0)),
            keys: String::new(),
            end: RunEnd::none(),
        };
        let mut told = LoggedRun { row, places: Vec::new(), problems: Vec::new() };
        let mut problems: BTreeMap<String, ProblemGroup> = BTreeMap::new();
        read(path, |_, line| told.take(line, &mut problems))?;
        told.problems = problems.into_values().collect();
        Ok(Some(told))
    }

    fn take(&mut self, line: LogLine, problems: &mut BTreeMap<String, ProblemGroup>) {
        match line {
            LogLine::Began { number, started_ms, sort, keys } => {
                self.row.number = number;
                self.row.started_ms = started_ms.unwrap_or(self.row.started_ms);
                (self.row.end.code, self.row.keys) = (sort, keys);
            }
            LogLine::Place(place) => self.places.push(place),
            LogLine::Did { item, .. } => match item.done {
                Done::FolderMade => self.row.end.folders_made += 1,
                Done::FolderRemoved => self.row.end.folders_removed += 1,
                _ => {}
            },
            LogLine::Problem { code, path, message } => {
                let path = path.as_bytes().to_vec();
                let first = ProblemGroup { code: code.clone(), count: 0, path, message };
                problems.entry(code).or_insert(first).count += 1;
            }
            LogLine::Finished { outcome, elapsed, counts, failure } => {
                (self.row.end.outcome, self.row.end.elapsed, self.row.end.counts) =
                    (outcome, elapsed, counts);
                if let Some(why) = failure {
                    (self.row.end.code, self.row.end.message) = why;
                }
            }
            LogLine::Planned { .. } | LogLine::Folder { .. } | LogLine::Other => {}
        }
    }
}
