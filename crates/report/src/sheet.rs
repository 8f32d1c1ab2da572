//! A report as a table of runs (CSV, RFC 4180), for a spreadsheet.

use std::io::Write;

use reedhook_core::plan::Counts;

use crate::figures::Report;
use crate::text::written;

/// Writes a row for each run.
///
/// # Errors
/// When it cannot be written.
pub fn write(report: &Report, to: impl Write) -> Result<(), csv::Error> {
    let mut sheet = csv::Writer::from_writer(to);
    let head = ["job", "number", "run", "began", "seconds", "outcome", "code", "message"];
    sheet.write_record(head.into_iter().chain(Counts::NAMES))?;
    for run in &report.runs {
        let began = written(run.started_ms, &report.zone, "%Y-%m-%dT%H:%M:%S%:z");
        let seconds = format!("{:.3}", run.end.elapsed.as_secs_f64());
        let (number, outcome) = (run.number.to_string(), run.end.outcome.as_str());
        let about =
            [run.job.as_str(), &number, &run.run, &began, &seconds, outcome, &run.end.code, &run.end.message];
        let counts = run.end.counts.fields().map(|value| value.to_string());
        sheet.write_record(about.into_iter().chain(counts.iter().map(String::as_str)))?;
    }
    sheet.flush()?;
    Ok(())
}
