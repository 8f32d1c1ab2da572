//! Telling what happens: problems and items are counted and sent, several at a time, with the sides called as they really are.

use std::sync::PoisonError;
use std::time::Instant;

use crate::entry::Side;
use crate::path::RelPath;
use crate::problem::{Code, Problem};
use crate::run::engine::{Engine, Halt, Outbox, TOLD_TOGETHER, TOLD_WITHIN, real_side};
use crate::run::event::{Event, Item};
use crate::store::error::{FaultKind, StoreError};

impl Engine<'_> {
    pub(super) fn right<T>(&self, outcome: Result<T, StoreError>) -> Result<(), Halt> {
        match outcome {
            Ok(_) => Ok(()),
            Err(error) => self.failed(Side::Right, error, &RelPath::root()),
        }
    }

    pub(super) fn lost_only<T>(&self, side: Side, outcome: Result<T, StoreError>) -> Result<(), Halt> {
        match outcome {
            Err(error) if error.kind == FaultKind::Lost => Err(Halt::Lost(side, error)),
            _ => Ok(()),
        }
    }

    /// Reports a failure under the item's own path, unless the store itself is gone.
    pub(super) fn failed(&self, side: Side, error: StoreError, path: &RelPath) -> Result<(), Halt> {
        if error.kind == FaultKind::Lost || (error.kind == FaultKind::Io && self.is_gone(side)) {
            return Err(Halt::Lost(side, StoreError { kind: FaultKind::Lost, ..error }));
        }
        self.problem(Problem::new(Code::Fault(error.kind), side, path.clone(), error.reason()));
        Ok(())
    }

    /// Whether an error of the medium means that all of it has gone, as when a drive is pulled out: then its root can no
    /// longer be read, or nothing can be made durable there.
    pub(super) fn is_gone(&self, side: Side) -> bool {
        match side {
            Side::Left => self.input.left.list(&RelPath::root()).is_err(),
            Side::Right => self.input.right.sync().is_err(),
        }
    }

    pub(super) fn problem(&self, problem: Problem) {
        self.state().counts.problems += 1;
        self.send(Event::Problem(problem));
    }

    pub(super) fn done(&self, item: Item, written: u64) {
        {
            let counts = &mut self.state().counts;
            item.count_in(counts);
            counts.bytes += written;
        }
        self.send(Event::Item(item));
    }

    pub(super) fn send(&self, event: Event) {
        let event = self.as_it_is_called(event);
        let can_wait = matches!(event, Event::Item(_));
        // Held while it is told: events keep their order.
        let mut outbox = self.outbox.lock().unwrap_or_else(PoisonError::into_inner);
        outbox.events.push(event);
        if !can_wait || outbox.events.len() >= TOLD_TOGETHER || outbox.told.elapsed() >= TOLD_WITHIN {
            self.tell(&mut outbox);
        }
    }

    /// In here left is read and right changes; outside, the sides have their real names.
    pub(super) fn as_it_is_called(&self, event: Event) -> Event {
        let real = |side| real_side(self.plan, side);
        match event {
            Event::Item(item) => Event::Item(Item { side: real(item.side), ..item }),
            Event::Problem(problem) => Event::Problem(Problem { side: real(problem.side), ..problem }),
            Event::Folder { side, path, was } => Event::Folder { side: real(side), path, was },
            other => other,
        }
    }

    /// Tells what has not been told yet.
    pub(super) fn flush(&self) {
        self.tell(&mut self.outbox.lock().unwrap_or_else(PoisonError::into_inner));
    }

    pub(super) fn tell(&self, outbox: &mut Outbox) {
        outbox.told = Instant::now();
        // A reader that has gone away does not stop the work.
        let _ = self.input.events.send(std::mem::take(&mut outbox.events));
    }
}
