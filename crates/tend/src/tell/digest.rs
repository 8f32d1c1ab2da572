//! Digests: once a day, at a time, a report of everything since the last one. The service sends them when they are due; where there is
//! none, the next run does.

use std::collections::BTreeMap;
use std::fs::File;

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Outcome;
use reedhook_jobs::home::take_lock;
use reedhook_jobs::jobfile::{job_names, load_job};
use reedhook_jobs::notify::{Condition, Way, condition};
use reedhook_jobs::run_job::Origin;
use reedhook_jobs::words::fingerprint;
use reedhook_record::Telling;
use reedhook_report::figures::{Period, Report};

use super::desktop;
use super::message::Message;
use crate::tell::sending::tell_by;

/// One that failed is tried again after so long.
const AGAIN: SignedDuration = SignedDuration::from_mins(10);

/// No digest looks further back than this.
const FURTHEST: SignedDuration = SignedDuration::from_hours(31 * 24);

/// Sends the digests that are due. What fails is remembered, and tried again later; so is what was not sent because the program ended.
pub fn send_due(desk: &Desk) {
    let wanted = wanted(desk);
    if wanted.is_empty() {
        return;
    }
    let lock = match take_lock(&desk.home.state().join("digests.lock")) {
        Ok(Some(lock)) => lock,
        // Another program is sending them.
        Ok(None) => return,
        Err(failure) => return desk.note(failure.text()),
    };
    for ((way, time), jobs) in wanted {
        if let Err(failure) = send(desk, way, time, &jobs, &lock) {
            desk.note(format!("the digest could not be made: {}", failure.message));
        }
    }
}

/// Which digests there are: by which way, when, and of which jobs.
fn wanted(desk: &Desk) -> BTreeMap<(Way, Time), Vec<String>> {
    let mut digests: BTreeMap<(Way, Time), Vec<String>> = BTreeMap::new();
    let ways = desk.settings.notify.ways();
    if ways.is_empty() {
        return digests;
    }
    for (way, usual) in &ways {
        if let Condition::Digest(time) = usual {
            digests.entry((*way, *time)).or_default();
        }
    }
    let names = job_names(&desk.home).unwrap_or_else(|failure| {
        desk.note(format!("no digest can be made: {}", failure.text()));
        Vec::new()
    });
    for name in names {
        let Ok(job) = load_job(&desk.home, &name) else { continue };
        for (way, usual) in &ways {
            if let Condition::Digest(time) = condition(&job.keys.notify, *way, *usual) {
                digests.entry((*way, time)).or_default().push(name.clone());
            }
        }
    }
    digests
}

/// The last moment at which a digest of this time was due.
fn last_due(now: Timestamp, time: Time, zone: &TimeZone) -> Option<Timestamp> {
    let today = now.to_zoned(zone.clone()).date();
    let at = |date: jiff::civil::Date| Some(date.to_datetime(time).to_zoned(zone.clone()).ok()?.timestamp());
    at(today).filter(|due| *due <= now).or_else(|| at(today.checked_sub(1.day()).ok()?))
}

/// Sends one, if it is due. Nobody else does meanwhile.
fn send(desk: &Desk, way: Way, time: Time, jobs: &[String], _nobody_else: &File) -> Outcome<()> {
    let key = format!("{way} {}", time.strftime("%H:%M"));
    let now = (desk.world.now)();
    let Some(due) = last_due(now, time, &desk.world.zone) else { return Ok(()) };
    let mut record = desk.home.record()?;
    let seen = record.last_digest(&key)?;
    let Some(seen_ms) = seen else {
        // From now on: what was before is nobody's news.
        record.set_digest(&key, now.as_millisecond())?;
        return Ok(());
    };
    let last = Timestamp::from_millisecond(seen_ms).unwrap_or(now);
    if last >= due || jobs.is_empty() {
        return Ok(());
    }
    // Owed until a desktop is there.
    if way == Way::Desktop && !desktop::is_there(desk) {
        return Ok(());
    }
    let what = fingerprint(&format!("digest {key} {due}"));
    let lately = now.checked_sub(AGAIN).unwrap_or(now).as_millisecond();
    let failed = |told: &reedhook_record::Notification| told.what == what && told.telling == Telling::Failed;
    if record.told_since(lately)?.iter().any(failed) {
        return Ok(());
    }
    // Where nothing can be written down it is not sent: nobody would know of it, and it would come again and again.
    record.set_digest(&key, seen_ms)?;
    drop(record);
    let since = last.max(now.checked_sub(FURTHEST).unwrap_or(last));
    // All jobs: also those that were removed since, and what is nobody's.
    let all = jobs.len() == job_names(&desk.home)?.len();
    let mut report = Report::of(desk, if all { &[] } else { jobs }, Period { since, until: now })?;
    if all && let Err(failure) = report.add_inventories(desk) {
        desk.note(failure.text());
    }
    let mut message = Message::of_report(&report, now);
    message.what = what;
    // Until it has been sent it is owed.
    if tell_by(desk, way, &message, Origin::Asked).is_ok() {
        desk.home.record()?.set_digest(&key, now.as_millisecond())?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_due_once_a_day_by_the_clock_on_the_wall() {
        let zone = TimeZone::get("Europe/Berlin").unwrap();
        let at = |text: &str| {
            text.parse::<jiff::civil::DateTime>().unwrap().to_zoned(zone.clone()).unwrap().timestamp()
        };
        let seven = jiff::civil::time(7, 0, 0, 0);
        let rows = [
            ("2031-05-04T06:59", "2031-05-03T07:00"),
            ("2031-05-04T07:00", "2031-05-04T07:00"),
            ("2031-05-04T23:59", "2031-05-04T07:00"),
            ("2031-03-30T07:30", "2031-03-30T07:00"),
        ];
        for (now, due) in rows {
            assert_eq!(last_due(at(now), seven, &zone), Some(at(due)), "{now}");
        }
        // A time that the clock skips is taken with the offset before the gap.
        let skipped = last_due(at("2031-03-30T12:00"), jiff::civil::time(2, 30, 0, 0), &zone).unwrap();
        assert_eq!(skipped, at("2031-03-30T03:30"));
    }
}
