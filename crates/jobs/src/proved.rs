//! What a run would do, looked at with its eyes.

use crate::failure::Outcome;
use crate::preview::Preview;

/// What a run would do, looked at with its eyes: what moved is proved to be the same.
pub struct ProvedPlan {
    preview: Preview,
    purpose: Purpose,
    /// Nothing but what this chooses is done.
    choice: Option<Choice>,
}

/// What narrows a round to what somebody has chosen of it. A look may be repeated before a run; the choice holds for each.
pub(crate) type Choice = Box<dyn Fn(&mut Preview) -> Outcome<()>>;

/// What a look is for, as far as it decides what has to be agreed to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// The job's own run.
    Job,
    /// What the job has brought over is brought back to its left.
    Reverse,
    /// A person has named each path.
    Named,
    /// The same, and what is brought back was gone; of a two-way job it is remembered as such.
    Restore {
        /// The job has such a memory.
        remembered: bool,
    },
}

impl ProvedPlan {
    pub(crate) fn of_job(preview: Preview) -> ProvedPlan {
        ProvedPlan { preview, purpose: Purpose::Job, choice: None }
    }

    /// Of paths that a person has named.
    pub(crate) fn of_named(preview: Preview) -> ProvedPlan {
        ProvedPlan { preview, purpose: Purpose::Named, choice: None }
    }

    /// Of what a person wants back.
    pub(crate) fn of_restore(preview: Preview, remembered: bool) -> ProvedPlan {
        ProvedPlan { preview, purpose: Purpose::Restore { remembered }, choice: None }
    }

    /// Of a job with its ends exchanged. The left stays the person's own: no lock, no mark.
    pub(crate) fn of_reverse(mut preview: Preview) -> ProvedPlan {
        for destination in &mut preview.destinations {
            destination.ours = false;
            destination.plan.set_changes(reedhook_core::entry::Side::Left);
        }
        ProvedPlan { preview, purpose: Purpose::Reverse, choice: None }
    }

    /// Narrows it to what is chosen; the same choice is made again whenever the sides are looked at again.
    ///
    /// # Errors
    /// What the choice says.
    pub fn narrowed(mut self, choice: impl Fn(&mut Preview) -> Outcome<()> + 'static) -> Outcome<ProvedPlan> {
        choice(&mut self.preview)?;
        self.choice = Some(Box::new(choice));
        Ok(self)
    }

    /// What would be done, for whoever only wants to look at it.
    pub fn into_preview(self) -> Preview {
        self.preview
    }

    /// What would be done.
    pub fn preview(&self) -> &Preview {
        &self.preview
    }

    /// What was found, what for, and what was chosen of it.
    pub(crate) fn into_parts(self) -> (Preview, Purpose, Option<Choice>) {
        (self.preview, self.purpose, self.choice)
    }
}
