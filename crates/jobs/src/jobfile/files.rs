//! Job files: finding, reading and checking them.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use crate::depth;
use crate::failure::{Cause, Failure, Outcome, nearest, suggestion};
use crate::home::Home;
use crate::jobfile::job::{Job, ONCE};
use crate::jobfile::keys::JobKeys;

/// The names of all jobs, sorted. A folder that is not there holds none; a name that no job can have is among them, and reading it says why.
///
/// # Errors
/// When the folder is there and cannot be listed: then nobody knows which jobs there are.
pub fn job_names(home: &Home) -> Outcome<Vec<String>> {
    let folder = home.jobs();
    let unlisted = |error: std::io::Error| {
        Failure::own_files(&format!("the jobs in {} cannot be listed", home.shorten(&folder)), error)
    };
    let entries = match fs::read_dir(&folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.map_err(unlisted)?,
    };
    let mut names = BTreeSet::new();
    for entry in entries {
        let name = entry.map_err(unlisted)?.file_name().to_string_lossy().into_owned();
        names.extend(name.strip_suffix(".toml").filter(|name| !name.starts_with('.')).map(str::to_owned));
    }
    Ok(names.into_iter().collect())
}

/// A job by its name; `once` is what the newest run without a job was told, or the run that is named.
///
/// # Errors
/// When there is no such job or run, or its keys cannot be read.
pub fn known_job(home: &Home, name: &str, run: Option<&str>) -> Outcome<Job> {
    if name != ONCE {
        return load_job(home, name);
    }
    let record = home.record()?;
    let rows = match run {
        Some(which) => record.find_run(name, which)?.into_iter().collect(),
        None => record.runs(Some(name), 1)?,
    };
    match rows.into_iter().next().filter(|row| !row.keys.is_empty()) {
        Some(row) => Job::new(ONCE, parse(&row.keys, Path::new("the record of that run"))?),
        None => Err(Failure::usage(match run {
            Some(which) => format!("{ONCE} has no run \"{which}\""),
            None => "nothing has ever run without a job".to_owned(),
        })
        .hint(format!("`reedhook history {ONCE}` lists such runs."))),
    }
}

/// Reads a job by name; an unknown one is an error that names the nearest.
///
/// # Errors
/// When there is none of that name, others could change its file, or the file cannot be read.
pub fn load_job(home: &Home, name: &str) -> Outcome<Job> {
    let file = home.job_file(name);
    home.check_own(&file)?;
    let text = match fs::read_to_string(&file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let known = job_names(home).unwrap_or_default();
            let way_on = if known.is_empty() { " Set one up with `reedhook job add`." } else { "" };
            let hint = format!("{}{way_on}", suggestion(name, &known, "job"));
            return Err(Failure {
                cause: Cause::UnknownJob,
                ..Failure::usage(format!("there is no job \"{name}\""))
            }
            .hint(hint));
        }
        Err(error) => return Err(Failure::usage(format!("{}: {error}", file.display()))),
    };
    Job::new(name, parse(&text, &file)?)
}

/// Reads the keys of a job file; errors name the file, the line, and what was expected.
///
/// # Errors
/// When it is no TOML, or has keys or values that no job has.
pub fn parse(text: &str, file: &Path) -> Outcome<JobKeys> {
    refuse_deep(text, file)?;
    check_known(text, file, JobKeys::NAMES)?;
    toml::from_str(text).map_err(|error| toml_failure(&error, text, file))
}

/// Refuses a file in which lists and tables lie within each other deeper than anybody means.
pub(crate) fn refuse_deep(text: &str, file: &Path) -> Outcome<()> {
    let Some(at) = depth::too_deep_at(text) else { return Ok(()) };
    let (file, line) = (file.display(), line_of(text, at));
    let message = format!("{file}, line {line}: lists and tables lie too deep in each other");
    Err(Failure { cause: Cause::BadFile, ..Failure::usage(message) })
}

/// A TOML error as one sentence.
pub fn toml_failure(error: &toml::de::Error, text: &str, file: &Path) -> Failure {
    let line = error.span().map_or(1, |span| line_of(text, span.start));
    let message = error.message().lines().collect::<Vec<_>>().join("; ");
    Failure { cause: Cause::BadFile, ..Failure::usage(format!("{}, line {line}: {message}", file.display())) }
}

pub(crate) fn line_of(text: &str, at: usize) -> usize {
    text.get(..at).map_or(1, |before| before.matches('\n').count() + 1)
}

/// Finds a key that does not exist before anything else is read, to name the one that was meant.
pub(crate) fn check_known(text: &str, file: &Path, known: &[&str]) -> Outcome<()> {
    let Ok(document) = text.parse::<toml_edit::Document<String>>() else { return Ok(()) };
    for (key, _) in document.iter() {
        if known.contains(&key) {
            continue;
        }
        let at = document.as_table().key(key).and_then(toml_edit::Key::span).map_or(0, |span| span.start);
        let hint = match nearest(key, known.iter().copied()) {
            Some(meant) => format!("Did you mean \"{meant}\"?"),
            None => format!("A job file has: {}.", known.join(", ")),
        };
        let message = format!("{}, line {}: there is no key \"{key}\"", file.display(), line_of(text, at));
        return Err(Failure { cause: Cause::BadFile, ..Failure::usage(message) }.hint(hint));
    }
    Ok(())
}
