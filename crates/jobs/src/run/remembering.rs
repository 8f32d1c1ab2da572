//! What a run looks at and remembers besides carrying its plan out.

use std::collections::BTreeSet;
use std::sync::Arc;

use reedhook_core::entry::Side;
use reedhook_core::path::RelPath;
use reedhook_core::plan::Counts;
use reedhook_core::problem::{Code, Problem};
use reedhook_core::run::{Ended, Event as Deed, RunReport};
use reedhook_core::store::Store;
use reedhook_record::{Room, RunPlace};

use crate::both::Both;
use crate::failure::{Halt, Outcome};
use crate::jobfile::job::ONCE;
use crate::preview::{DestinationPlan, Preview};
use crate::run::Run;
use crate::run::result::Sort;
use crate::{recognise, verify};

impl Run<'_> {
    /// Notes of which files the times cannot tell whether they are saved once more. Before the first is read: a run that is cut short
    /// has carried some of them.
    pub(super) fn note_fresh(&self, preview: &Preview) -> Outcome<()> {
        if preview.both.is_some() || self.job == ONCE {
            return Ok(());
        }
        for destination in &preview.destinations {
            let place = match (self.sort, preview.ends.from.as_slice()) {
                (Sort::Job, _) => &destination.to.written,
                (Sort::Reverse, [right]) => &right.written,
                _ => continue,
            };
            let (fresh, proved) = (&destination.plan.fresh, &destination.plan.proved);
            if !fresh.is_empty() || !proved.is_empty() {
                self.desk.home.record()?.note_fresh(&self.job, place, fresh, proved)?;
            }
        }
        Ok(())
    }

    /// A run came to its end: these stores are known to each other now, and what was rotten and is no longer is forgotten.
    pub(super) fn remember_what_went_well(&self, preview: &Preview) -> Outcome<()> {
        let removed_something = preview.counts().removed > 0;
        let mut record = self.desk.home.record()?;
        let held: BTreeSet<&RelPath> =
            preview.both.iter().flat_map(Both::held).map(|conflict| &conflict.path).collect();
        let stays = |path: &RelPath| self.troubled.contains(path) || held.contains(path);
        let mended: Vec<RelPath> = preview
            .corrupted
            .iter()
            .map(|corrupted| &corrupted.path)
            .filter(|path| !stays(path))
            .cloned()
            .collect();
        if !mended.is_empty() {
            record.mended(&self.job, &mended)?;
        }
        if self.sort != Sort::Job {
            return Ok(());
        }
        for (left, right) in preview.pairs(self.desk, record.as_ref())? {
            record.remember_pair(&left, &right, removed_something)?;
        }
        drop(record);
        if preview.is_still_where_it_was(self.desk) {
            preview.seen.remember(self.desk, &self.job)?;
        }
        Ok(())
    }

    /// Notes how much room there is where the run has written; of servers only where it has, for they have to be asked. A look back
    /// can do without.
    pub(super) fn note_rooms(&mut self, preview: &Preview) {
        if self.job == ONCE {
            return;
        }
        for destination in &preview.destinations {
            let quick = destination.to.folder().is_some();
            if self.desk.is_stopped() || !(quick || destination.plan.counts().bytes > 0) {
                continue;
            }
            let Ok(Some(space)) = destination.writes.space() else { continue };
            let ground =
                recognise::ground(&destination.to).map(|ground| ground.to_text()).unwrap_or_default();
            self.rooms.push(Room {
                job: self.job.clone(),
                place: destination.to.written.clone(),
                location: destination.to.location(),
                ground,
                at_ms: self.desk.now_ms(),
                free: space.free,
                total: space.total,
            });
        }
    }

    /// Notes which store a destination is about to change, so that an undo finds this one and no other.
    pub(super) fn note_place(&mut self, destination: &DestinationPlan, right: &dyn Store) -> Outcome<()> {
        let mark = recognise::mark_of(self.desk, &destination.to, right)?.unwrap_or_default();
        let place = RunPlace {
            side: destination.plan.changes,
            place: destination.to.written.clone(),
            location: destination.to.location(),
            mark,
            ground: recognise::ground(&destination.to),
        };
        self.add_place(place)
    }

    /// After a two-way run that is to verify everything; whether it was stopped on the way.
    pub(super) fn verify_both(&mut self, preview: &Preview, counts: &mut Counts) -> Outcome<bool> {
        let Some(both) = &preview.both else { return Ok(false) };
        let Some(destination) =
            preview.destinations.iter().find(|destination| destination.plan.changes == Side::Right)
        else {
            return Ok(false);
        };
        let mut report = RunReport::nothing(Counts::default());
        self.verify_all(preview, destination, &both.right, &mut report)?;
        counts.add(&report.counts);
        Ok(matches!(report.ended, Ended::Interrupted))
    }

    /// Compares both sides of a destination by content, after a run that is to verify everything.
    pub(super) fn verify_all(
        &mut self,
        preview: &Preview,
        destination: &DestinationPlan,
        right: &Arc<dyn Store>,
        report: &mut RunReport,
    ) -> Outcome<()> {
        let compared = verify::compare(self.desk, &preview.job, &preview.ends, &destination.reads, right);
        let found = match compared {
            Ok((_, found)) => found,
            // The run itself is done, and its numbers must not be lost with the look at it.
            Err(failure) if failure.halt == Halt::Interrupted => {
                report.ended = Ended::Interrupted;
                return Ok(());
            }
            Err(failure) => {
                report.counts.problems += 1;
                let problem = Problem::new(Code::VerifyFailed, Side::Right, RelPath::root(), failure.text());
                return self.note([Deed::Problem(problem)], preview.to_key(destination).as_deref());
            }
        };
        let stopped = self.desk.is_stopped();
        verify::remember_corruption(self.desk, &preview.job, &destination.to.written, &found, stopped)?;
        if stopped {
            report.ended = Ended::Interrupted;
        }
        let failed = Code::VerifyFailed;
        let different = found.different.iter().map(|difference| {
            let side = difference.changed.unwrap_or(Side::Right);
            Problem::new(failed, side, difference.path.clone(), difference.sentence())
        });
        let unread = found.unread.iter().map(|(side, error)| Problem::from_error(*side, error));
        let problems: Vec<Deed> = different.chain(unread).map(Deed::Problem).collect();
        report.counts.problems += problems.len() as u64;
        self.note(problems, preview.to_key(destination).as_deref())
    }
}
