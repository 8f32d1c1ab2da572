//! A one-way job the other way round: its left is brought back from its right.

use reedhook_core::job::Kind;
use reedhook_core::walk::{Moves, Scope};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::jobfile::job::Job;
use crate::look::look_with;
use crate::open::open_destination;
use crate::places::Ends;
use crate::proved::ProvedPlan;
use crate::recognise::{self, Part};

/// A job with its ends exchanged.
pub struct Reversed(Job);

impl Reversed {
    /// The job the other way round.
    ///
    /// # Errors
    /// When it has no direction, several ends, or a right that is not its own.
    pub fn of(desk: &Desk, mut job: Job) -> Outcome<Reversed> {
        let name = &job.name;
        if job.rules.kind == Kind::TwoWay {
            let words = format!("{name} is a two-way job: it has no direction to reverse");
            return Err(Failure::usage(words)
                .hint("To settle a conflict: reedhook settle; to bring something back: reedhook restore."));
        }
        if job.from.len() != 1 || job.to.len() != 1 {
            return Err(Failure::usage(format!("{name} has several sources or destinations"))
                .hint("Bring back what you need with `reedhook restore`."));
        }
        refuse_wrong_right(desk, &job)?;
        std::mem::swap(&mut job.from, &mut job.to);
        job.rules = job.rules.erasing_nothing();
        Ok(Reversed(job))
    }

    /// The job as it is read then: from its right, to its left.
    pub fn job(&self) -> &Job {
        &self.0
    }

    /// Looks at what would be brought back.
    ///
    /// # Errors
    /// When the places cannot be looked at.
    pub fn look(&self, desk: &Desk) -> Outcome<ProvedPlan> {
        Ok(ProvedPlan::of_reverse(look_with(desk, &self.0, Moves::Proved, &Scope::Everything)?))
    }
}

/// What is brought back must come from where the job has put it.
fn refuse_wrong_right(desk: &Desk, job: &Job) -> Outcome<()> {
    for to in &Ends::of(job, &desk.home, &desk.settings)?.to {
        if let Some(store) = open_destination(desk, to, OpenOptions::of(job))? {
            recognise::refuse_foreign(desk, job, to, store.as_ref(), Part::Destination)?;
        }
    }
    Ok(())
}
