//! What has become due: by a line, by a change, or because it is tried again.

use std::time::{Duration, Instant};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::walk::Scope;
use reedhook_core::when::Missed;

use crate::happening::Reason;
use crate::service::state::{AFTER_MOUNT, LATE, Service, WHOLE, everything, line_of};
use crate::tended::{Follow, Tended};

impl Service {
    /// Wants what has become due.
    pub(super) fn fire(&mut self) {
        let (clock, now, zone) = (self.now(), Instant::now(), (self.outside.zone)());
        if self.look_again.is_some_and(|at| at <= now) {
            self.look_again = std::mem::take(&mut self.look_twice).then(|| now + AFTER_MOUNT);
            self.follow_places();
        }
        if self.read_again.is_some_and(|at| at <= now) {
            self.read_again = None;
            self.reload();
        }
        let names: Vec<String> = self.jobs.keys().cloned().collect();
        for name in names {
            let running = self.running.contains_key(&name);
            let Some(tended) = self.jobs.get_mut(&name) else { continue };
            if tended.upto > clock + jiff::SignedDuration::from_secs(60) {
                // The clock was ahead: what comes again, comes again.
                tended.upto = clock;
                tended.reckon(&zone);
            }
            fire_lines(tended, (clock, now), &zone, running);
            fire_changes(tended, (clock, now), running);
            if let Some((at, wanted)) = tended.again.take() {
                match at <= now && !running {
                    true => tended.want(wanted.reason, wanted.line, wanted.scope, wanted.due, now),
                    false => tended.again = Some((at, wanted)),
                }
            }
        }
    }

    pub(super) fn reckon_all(&mut self) {
        let zone = (self.outside.zone)();
        self.jobs.values_mut().for_each(|tended| tended.reckon(&zone));
    }
}

/// What is heard so soon after a run may be its own writing.
const JUST_NOW: Duration = Duration::from_millis(500);

/// Wants what a job's lines say.
fn fire_lines(tended: &mut Tended, (clock, now): (Timestamp, Instant), zone: &TimeZone, running: bool) {
    let Some(due) = tended.next.clone().filter(|due| due.at <= clock) else { return };
    let late = clock.as_second() - due.at.as_second() > LATE;
    tended.upto = clock;
    tended.reckon(zone);
    // A run that goes on is the one that was due.
    if tended.job.timing.paused || running || (late && tended.job.timing.missed == Missed::Skip) {
        return;
    }
    let reason = if late { Reason::Missed } else { Reason::Schedule };
    tended.want(reason, Some(due.line), Scope::Everything, clock, now);
}

/// Wants a look where something has changed, or may have.
fn fire_changes(tended: &mut Tended, (clock, now): (Timestamp, Instant), running: bool) {
    let Some(quiet) = tended.quiet() else { return };
    let every = tended.look_every();
    for side in &mut tended.sides {
        if let Follow::Looked { at } = &mut side.follow
            && *at <= now
            && !running
        {
            *at = now + every;
            let long_ago = now.checked_sub(quiet).unwrap_or(now);
            tended.changes.add(everything(), long_ago);
        }
    }
    if tended.job.timing.paused || running || tended.wanted.is_some() {
        return;
    }
    if tended.whole_at.is_some_and(|at| clock.as_second() - at.as_second() > WHOLE) {
        tended.whole_at = None;
        tended.changes.add(everything(), now);
    }
    if tended.changes.ripe_at(quiet).is_some_and(|at| at <= now) {
        // The kernel tells of a run's last writing a moment after its end.
        let heard = tended.changes.since().zip(tended.last.at);
        let echo = heard.is_some_and(|(heard, ended)| heard <= ended + JUST_NOW);
        let scope = tended.changes.take();
        // Until both sides were looked at whole, nothing is known of what has not changed.
        let scope = if tended.whole_at.is_some() { scope } else { Scope::Everything };
        let line = line_of(tended, "change");
        tended.want(Reason::Change, line, scope, clock, now);
        if let Some(wanted) = &mut tended.wanted {
            wanted.echo = echo;
        }
    }
}
