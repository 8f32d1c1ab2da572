//! The figures of this moment for whoever gathers them: OpenMetrics text, version 1.0.

use std::fmt;
use std::path::Path;
use std::sync::atomic::AtomicU64;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use reedhook_core::foreign::escaped;
use reedhook_jobs::atomic_file::{Mark, Replace, write_whole};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Failure, Outcome};
use reedhook_record::{Outcome as RunOutcome, RunRow};

use crate::parts::{JobPart, Report, Standing};
use crate::sums::Period;

/// How far back the room at a destination is looked for.
const ROOM_DAYS: i64 = 400;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfJob {
    job: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfOutcome {
    job: String,
    outcome: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfDeed {
    job: String,
    deed: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfPlace {
    place: String,
}

type Real = Gauge<f64, AtomicU64>;

/// Every figure that is told.
#[derive(Default)]
struct Figures {
    last: Family<OfJob, Real>,
    last_good: Family<OfJob, Real>,
    outcome: Family<OfOutcome, Gauge>,
    items: Family<OfDeed, Gauge>,
    bytes: Family<OfJob, Gauge>,
    seconds: Family<OfJob, Real>,
    problems: Family<OfJob, Gauge>,
    held: Family<OfJob, Gauge>,
    overdue: Family<OfJob, Gauge>,
    running: Family<OfJob, Gauge>,
    runs: Family<OfOutcome, Counter>,
    written: Family<OfJob, Counter>,
    free: Family<OfPlace, Gauge>,
    size: Family<OfPlace, Gauge>,
}

/// The figures as text.
///
/// # Errors
/// When the record cannot be read.
pub fn text(desk: &Desk) -> Outcome<String> {
    let now = (desk.world.now)();
    let since = now.checked_sub(jiff::SignedDuration::from_hours(ROOM_DAYS * 24)).unwrap_or(now);
    // What was just done counts too.
    let until = now.checked_add(jiff::SignedDuration::from_secs(1)).unwrap_or(now);
    let record = desk.home.record()?;
    let rooms = record.rooms_since(since.as_millisecond())?;
    let nothing = Period { since: until, until };
    let report = Report::of(desk, &[], nothing)?;
    let figures = Figures::default();
    for job in report.jobs.iter().filter(|job| job.standing != Standing::Gone) {
        figures.take(job);
    }
    for (job, outcome, runs, bytes) in record.totals()? {
        figures.runs.get_or_create(&OfOutcome { job: escaped(&job), outcome: outcome.as_str() }).inc_by(runs);
        figures.written.get_or_create(&OfJob { job: escaped(&job) }).inc_by(bytes);
    }
    for place in crate::rooms::destinations(&rooms) {
        let of = OfPlace { place: escaped(&place.name()) };
        figures.free.get_or_create(&of).set(whole(place.free));
        figures.size.get_or_create(&of).set(whole(place.total));
    }
    let mut text = String::new();
    encode(&mut text, &figures.registry())
        .map_err(|error: fmt::Error| Failure::own_files("cannot write the figures", error))?;
    Ok(sorted(&text))
}

/// The same with the samples of each family in order: what is the same twice is written the same twice.
fn sorted(text: &str) -> String {
    let mut lines: Vec<&str> = text.lines().collect();
    lines
        .chunk_by_mut(|a, b| a.starts_with('#') == b.starts_with('#'))
        .filter(|chunk| !chunk[0].starts_with('#'))
        .for_each(<[&str]>::sort_unstable);
    lines.iter().flat_map(|line| [*line, "\n"]).collect()
}

/// Writes the figures to a file: all of it, or the old one stays.
///
/// # Errors
/// When the record cannot be read or the file cannot be written.
pub fn write(desk: &Desk, to: &Path) -> Outcome<()> {
    write_whole(to, text(desk)?.as_bytes(), Mark::FIGURES, Replace::Ours).map(drop)
}

fn whole(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

impl Figures {
    fn take(&self, part: &JobPart) {
        let of = OfJob { job: escaped(&part.name) };
        self.held.get_or_create(&of).set(whole(part.held));
        self.overdue.get_or_create(&of).set(i64::from(part.overdue.is_some()));
        self.running.get_or_create(&of).set(i64::from(part.running));
        if let Some(ms) = part.last_good_ms {
            self.last_good.get_or_create(&of).set(ms as f64 / 1000.0);
        }
        let Some(last) = &part.last else { return };
        self.last.get_or_create(&of).set(last.started_ms as f64 / 1000.0);
        self.take_run(&part.name, last);
    }

    fn take_run(&self, name: &str, last: &RunRow) {
        let of = OfJob { job: name.to_owned() };
        for outcome in RunOutcome::ALL {
            let labels = OfOutcome { job: escaped(name), outcome: outcome.as_str() };
            self.outcome.get_or_create(&labels).set(i64::from(outcome == last.end.outcome));
        }
        let counts = &last.end.counts;
        for (deed, number) in [
            ("added", counts.added),
            ("updated", counts.updated),
            ("moved", counts.moved),
            ("removed", counts.removed),
            ("meta", counts.meta),
            ("same", counts.same),
        ] {
            self.items.get_or_create(&OfDeed { job: name.to_owned(), deed }).set(whole(number));
        }
        self.bytes.get_or_create(&of).set(whole(counts.bytes));
        self.seconds.get_or_create(&of).set(last.end.elapsed.as_secs_f64());
        self.problems.get_or_create(&of).set(whole(counts.problems));
    }

    fn registry(self) -> Registry {
        let mut registry = Registry::with_prefix("reedhook");
        let seconds = || Unit::Seconds;
        registry.register_with_unit("last_run_timestamp", "When the newest run began", seconds(), self.last);
        registry.register_with_unit(
            "last_good_run_timestamp",
            "When the newest run began that came to its end",
            seconds(),
            self.last_good,
        );
        registry.register(
            "last_run_outcome",
            "How the newest run ended: 1 for the word that says it",
            self.outcome,
        );
        registry.register("last_run_items", "Files and links that the newest run dealt with", self.items);
        registry.register_with_unit("last_run_written", "What the newest run wrote", Unit::Bytes, self.bytes);
        registry.register_with_unit(
            "last_run_duration",
            "How long the newest run took",
            seconds(),
            self.seconds,
        );
        registry.register(
            "last_run_problems",
            "Items that the newest run could not deal with",
            self.problems,
        );
        registry.register("held_conflicts", "Conflicts that wait to be settled", self.held);
        registry.register("overdue", "1: it has not run well for longer than it should", self.overdue);
        registry.register("running", "1: a run goes on now", self.running);
        registry.register("runs", "Runs that are remembered", self.runs);
        registry.register_with_unit("written", "What all remembered runs wrote", Unit::Bytes, self.written);
        registry.register_with_unit(
            "destination_free",
            "Room that is left, when a run last ended there",
            Unit::Bytes,
            self.free,
        );
        registry.register_with_unit(
            "destination_size",
            "Room in all, when a run last ended there",
            Unit::Bytes,
            self.size,
        );
        registry
    }
}
