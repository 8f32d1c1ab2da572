//! What commands change in job files.

use std::fs;

use reedhook_core::job::Kind;
use reedhook_jobs::home::write_file;
use reedhook_jobs::jobfile::{Job, JobKeys, parse};

use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// Puts sides that were typed as words into the keys where they belong.
pub fn place_sides(keys: &mut JobKeys, left: Option<String>, right: Option<String>) {
    if keys.kind == Some(Kind::TwoWay) {
        keys.left = left.or(keys.left.take());
        keys.right = right.or(keys.right.take());
    } else {
        keys.from.splice(0..0, left);
        keys.to.splice(0..0, right);
    }
}

/// Changes a job's file in place, keeping comments and order, and only if the result is a valid job.
pub fn change_file(
    context: &Context,
    name: &str,
    change: impl FnOnce(&mut toml_edit::DocumentMut) -> Outcome<()>,
) -> Outcome<Job> {
    let file = context.desk.home.job_file(name);
    let unreadable = |error: String| Failure::own_files(&format!("cannot read {}", file.display()), error);
    let text = fs::read_to_string(&file).map_err(|error| unreadable(error.to_string()))?;
    let mut document: toml_edit::DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| unreadable(error.to_string()))?;
    change(&mut document)?;
    let text = document.to_string();
    let job = Job::new(name, parse(&text, &file)?)?;
    write_file(&file, &text)?;
    Ok(job)
}
