//! Files that a person asked for.

use std::path::{Path, PathBuf};

use reedhook_jobs::atomic_file::{AtomicFile, Mark, Replace, lies_within};

use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome};

/// Begins a file that a person has asked for. One that is there and was not written by this program is replaced only after a yes, and
/// none is made within the sides of a job: it would be taken for part of them.
///
/// # Errors
/// When it cannot be made there, or nobody has said yes.
pub fn begin(context: &Context, path: &Path, mark: Mark<'_>, sides: &[PathBuf]) -> Outcome<AtomicFile> {
    // Everything lies in the root of the machine.
    let sides: Vec<PathBuf> = sides.iter().filter(|side| *side != Path::new("/")).cloned().collect();
    if path != Path::new("-")
        && let Some(side) = lies_within(path, &sides)
    {
        let (path, side) = (path.display(), side.display());
        let message = format!("{path} lies in {side}, which is a side: it would be taken for part of it");
        return Err(Failure::usage(message).hint("Choose a file that lies elsewhere."));
    }
    match AtomicFile::begin(path, mark, Replace::Ours) {
        Err(failure) if matches!(failure.cause, Cause::FileExists) && agrees(context, path)? => {
            AtomicFile::begin(path, mark, Replace::Any)
        }
        begun => begun,
    }
}

pub(crate) fn agrees(context: &Context, path: &Path) -> Outcome<bool> {
    if context.global.yes || !context.can_ask() {
        return Ok(context.global.yes);
    }
    let question = format!("{} is there already, and Reedhook did not write it. Replace it?", path.display());
    crate::ask::yes(&question, false)
}

/// Puts a file in its place that a person has asked for, and says where it is.
pub fn written(context: &Context, file: AtomicFile) -> Outcome<()> {
    let path = file.finish()?;
    if path != Path::new("-") {
        context.say(format!("\nWritten: {}", path.display()));
    }
    Ok(())
}
