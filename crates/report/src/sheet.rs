//! A report as a table of runs (CSV, RFC 4180), for a spreadsheet.

use std::io::Write;

use reedhook_core::foreign::cell;
use reedhook_core::plan::Counts;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Outcome;

use crate::sums::Period;
use crate::text::written;

/// What such a table begins with.
pub const MARK: &str = "job,number,run,began,";

/// Writes a row for each run of some jobs (all, when none is named) in a time. Unless `raw`, what a spreadsheet would take for a formula
/// begins with an apostrophe, and control characters are escaped.
///
/// # Errors
/// When the record cannot be read; what is within is why the table could not be written.
pub fn write(
    desk: &Desk,
    names: &[String],
    period: Period,
    to: impl Write,
    raw: bool,
) -> Outcome<Result<(), csv::Error>> {
    let zone = &desk.world.zone;
    let mut sheet = csv::Writer::from_writer(to);
    let head = ["job", "number", "run", "began", "seconds", "outcome", "code", "message"];
    let mut written_so_far = sheet.write_record(head.into_iter().chain(Counts::NAMES));
    let (since, until) = period.in_ms();
    desk.home.record()?.each_run_between(since, until, &mut |run| {
        if written_so_far.is_err() || !(names.is_empty() || names.contains(&run.job)) {
            return;
        }
        let began = written(run.started_ms, zone, "%Y-%m-%dT%H:%M:%S%:z");
        let seconds = format!("{:.3}", run.end.elapsed.as_secs_f64());
        let (number, outcome) = (run.number.to_string(), run.end.outcome.as_str());
        let about =
            [run.job.as_str(), &number, &run.run, &began, &seconds, outcome, &run.end.code, &run.end.message];
        let counts = run.end.counts.fields().map(|value| value.to_string());
        let cells = about.into_iter().chain(counts.iter().map(String::as_str));
        written_so_far = match raw {
            true => sheet.write_record(cells),
            false => sheet.write_record(cells.map(|text| cell(text.as_bytes()))),
        };
    })?;
    Ok(written_so_far.and_then(|()| Ok(sheet.flush()?)))
}
