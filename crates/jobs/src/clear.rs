//! From a look to a run: what stands in the way, who has to agree, and what has to be there first.
//!
//! A [`ProvedPlan`] is what a run would do, seen with its eyes. [`ProvedPlan::clear`] is the only way to an [`ApprovedRun`], and
//! [`run_job`](crate::run_job::run_job) carries out nothing else. What is cleared has passed its guards, was agreed to, and has real stores: what
//! had to be made is there, and was looked at again.

pub use crate::proved::ProvedPlan;

use reedhook_core::job::Kind;
use reedhook_core::plan::guard::Lift;
use reedhook_core::units::Size;
use reedhook_core::walk::{Moves, Scope};

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::Outcome;
use crate::look::look_with;
use crate::preview::{DestinationPlan, Preview, brought};
use crate::proved::{Choice, Purpose};
use crate::run::claim::lock_destination;
use crate::run::retention::prune;
use crate::scan::{facts, refuse_nested};
use crate::{open, trying};

/// Why a person has to agree before a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Need {
    /// There is no need to.
    None,
    /// Something would be removed between two stores that know each other, and never was before: worth a question where somebody is
    /// there to answer it.
    FirstRemoval,
    /// Something would be removed at the first run between two stores: not without a yes.
    FirstRun,
    /// Something at the left would be replaced or removed: not without a yes.
    Overwriting,
}

/// Who agrees to a run.
pub trait Consent {
    /// Agrees, or says why not. Heard for every run, also where there is no need to agree.
    ///
    /// # Errors
    /// When the run must not be.
    fn give(&mut self, preview: &Preview, need: Need) -> Outcome<()>;

    /// Hears what is about to be done, now that it is clear and what the places hold is known.
    fn approved(&mut self, preview: &Preview) {
        let _ = preview;
    }
}

impl<F: FnMut(&Preview, Need) -> Outcome<()>> Consent for F {
    fn give(&mut self, preview: &Preview, need: Need) -> Outcome<()> {
        self(preview, need)
    }
}

/// What may be carried out.
pub struct ApprovedRun {
    preview: Preview,
    /// It brings back what a memory holds for gone.
    revives: bool,
}

impl ApprovedRun {
    /// What it is.
    pub fn preview(&self) -> &Preview {
        &self.preview
    }

    /// What it would have been, when it is not carried out.
    pub(crate) fn unused(self) -> Preview {
        self.preview
    }

    /// Hands it over to be carried out. First of all, what was gone and comes back is forgotten: it must not be taken for what was
    /// there all the time.
    pub(crate) fn begin(self, desk: &Desk) -> (Preview, Outcome<()>) {
        let forgotten = match self.revives {
            true => forget(desk, &self.preview),
            false => Ok(()),
        };
        (self.preview, forgotten)
    }
}

impl ProvedPlan {
    /// Clears the way: the guards that were not lifted, the consent, what has to be made, and what the places hold. Where that shows
    /// something new, it is looked at, guarded and agreed to again.
    ///
    /// # Errors
    /// Why there must be no run.
    pub fn clear(self, desk: &Desk, lifted: &[Lift], consent: &mut dyn Consent) -> Outcome<ApprovedRun> {
        let (preview, purpose, choice) = self.into_parts();
        // The want of space is judged once old kept copies may be erased: nothing goes before the consent.
        let mut preview = match preview.can_make_room(lifted) {
            true => preview,
            false => passed(preview, desk, lifted)?,
        };
        let need = need(desk, &preview, purpose)?;
        desk.asking(|| consent.give(&preview, need))?;
        make_room(&mut preview, desk, lifted)?;
        preview = passed(preview, desk, lifted)?;
        if purpose == Purpose::Job {
            preview = prepared(preview, desk, lifted, consent, choice.as_ref())?;
        }
        make_the_rest(&mut preview, desk, lifted)?;
        Ok(ApprovedRun { preview, revives: purpose == Purpose::Restore { remembered: true } })
    }
}

fn forget(desk: &Desk, preview: &Preview) -> Outcome<()> {
    Ok(desk.home.record()?.forget_names(&preview.job.name, &brought(preview))?)
}

fn passed(preview: Preview, desk: &Desk, lifted: &[Lift]) -> Outcome<Preview> {
    match preview.refusal(lifted, &desk.home) {
        Some(refusal) => Err(refusal),
        None => Ok(preview),
    }
}

/// Where there is too little space, old kept copies go before the run instead of after it, by the job's own rules: else a drive that is full
/// of what may go would be refused for ever.
fn make_room(preview: &mut Preview, desk: &Desk, lifted: &[Lift]) -> Outcome<()> {
    for at in 0..preview.destinations.len() {
        if !preview.destination_can_make_room(at, lifted) {
            continue;
        }
        let (job, destination) = (&preview.job, &preview.destinations[at]);
        let _lock = lock_destination(destination.writes.as_ref(), &destination.to, &desk.home)?;
        let gone: u64 = prune(desk, job, destination.writes.as_ref(), None, None)?
            .iter()
            .map(|amount| amount.bytes)
            .sum();
        if gone > 0 {
            let (bytes, shown) = (Size::from_bytes(gone), destination.to.shown(&desk.home));
            desk.note(format!(
                "{bytes} of kept copies that have had their time were erased to make room at {shown}"
            ));
        }
        // What cannot be asked now is as it was.
        if let Ok(space) = destination.writes.space() {
            preview.destinations[at].facts.space = space;
        }
    }
    Ok(())
}

/// Makes what both sides need to be locked, tries what the places hold, and looks again where that told anything new.
fn prepared(
    preview: Preview,
    desk: &Desk,
    lifted: &[Lift],
    consent: &mut dyn Consent,
    choice: Option<&Choice>,
) -> Outcome<Preview> {
    let job = preview.job.clone();
    let made =
        preview.destinations.iter().find(|destination| destination.to_be_made && preview.both.is_some());
    if let Some(destination) = made {
        // Both sides have to be there to be locked and marked.
        open::make_destination(desk, &destination.to, OpenOptions::of(&job))?;
    }
    let other_than_assumed = trying::try_places(desk, &preview)?;
    if made.is_none() && !other_than_assumed {
        return Ok(preview);
    }
    let (agreed_to, before) = (preview.counts().removed, preview);
    let mut again = look_with(desk, &job, Moves::Proved, &Scope::Everything)?;
    choice.map_or(Ok(()), |choice| choice(&mut again))?;
    let mut preview = passed(again, desk, lifted)?;
    // What had to be made then and is there now was made in between, by us.
    for destination in preview.destinations.iter_mut().filter(|destination| !destination.to_be_made) {
        destination.made =
            before.destinations.iter().any(|old| old.to_be_made && old.to.written == destination.to.written);
    }
    // Knowing better what a place holds may have led to more removals than were agreed to.
    if preview.counts().removed > agreed_to {
        let need = need(desk, &preview, Purpose::Job)?;
        desk.asking(|| consent.give(&preview, need))?;
    }
    Ok(preview)
}

/// Makes the destinations that are not there yet, and looks again at each: what could only be guessed before is known now.
fn make_the_rest(preview: &mut Preview, desk: &Desk, lifted: &[Lift]) -> Outcome<()> {
    let options = OpenOptions::of(&preview.job);
    for at in 0..preview.destinations.len() {
        if preview.destinations[at].to_be_made {
            let made = open::make_destination(desk, &preview.destinations[at].to, options)?;
            refuse_nested(&preview.ends, &desk.home)?;
            let destination = &mut preview.destinations[at];
            destination.facts =
                facts(&destination.plan, destination.reads.as_ref(), made.as_ref(), Vec::new());
            (destination.writes, destination.to_be_made, destination.made) = (made, false, true);
            if let Some(refusal) = preview.refusal(lifted, &desk.home) {
                return Err(refusal);
            }
        }
    }
    Ok(())
}

/// Why a person has to agree. What would be removed at the first run between two stores is asked for; where somebody is there, also
/// what is removed between them for the first time later. The yes belongs to these two stores, whatever job brings them together.
fn need(desk: &Desk, preview: &Preview, purpose: Purpose) -> Outcome<Need> {
    let counts = preview.counts();
    match purpose {
        Purpose::Named | Purpose::Restore { .. } => return Ok(Need::None),
        Purpose::Reverse if counts.updated + counts.removed > 0 => return Ok(Need::Overwriting),
        Purpose::Reverse => return Ok(Need::None),
        Purpose::Job if counts.removed == 0 => return Ok(Need::None),
        Purpose::Job => {}
    }
    let record = desk.home.record()?;
    let known = preview
        .pairs(desk, record.as_ref())?
        .iter()
        .map(|(left, right)| record.pair(left, right))
        .collect::<Result<Vec<_>, _>>()?;
    // A two-way job has a pair and a destination for each direction; other jobs a pair for each destination.
    let two_way = preview.job.rules.kind == Kind::TwoWay;
    let removing = |at: usize| two_way || preview.destinations.get(at).is_some_and(removes_something);
    let concerned = || known.iter().enumerate().filter(|(at, _)| removing(*at)).map(|(_, pair)| *pair);
    Ok(if concerned().all(|pair| pair == Some(true)) {
        Need::None
    } else if concerned().all(|pair| pair.is_some()) {
        Need::FirstRemoval
    } else {
        Need::FirstRun
    })
}

fn removes_something(destination: &DestinationPlan) -> bool {
    destination.plan.counts().removed > 0
}
