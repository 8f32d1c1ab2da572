//! From a look to a run: what stands in the way, who has to agree, and what has to be there first.
//!
//! A [`Prospect`] is what a run would do, seen with its eyes. [`Prospect::clear`] is the only way to a [`Cleared`], and a
//! [`Run`](crate::run::Run) carries out nothing else. What is cleared has passed its guards, was agreed to, and has real stores: what
//! had to be made is there, and was looked at again.

use reedhook_core::job::Kind;
use reedhook_core::plan::guard::Lift;
use reedhook_core::units::Size;
use reedhook_core::walk::{Moves, Scope};

use crate::desk::Desk;
use crate::failure::Outcome;
use crate::held::{self, Manner};
use crate::look::{Leg, Round, facts, look_with, refuse_nested};
use crate::places;
use crate::restore::brought;
use crate::run::claim::lock_destination;
use crate::run::retention::prune;

/// What a run would do, looked at with its eyes: what moved is proved to be the same.
pub struct Prospect {
    round: Round,
    purpose: Purpose,
    /// Nothing but what this chooses is done.
    choice: Option<Choice>,
}

/// What narrows a round to what somebody has chosen of it. A look may be repeated before a run; the choice holds for each.
type Choice = Box<dyn Fn(&mut Round) -> Outcome<()>>;

/// What a look is for, as far as it decides what has to be agreed to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Purpose {
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
    fn give(&mut self, round: &Round, need: Need) -> Outcome<()>;
}

impl<F: FnMut(&Round, Need) -> Outcome<()>> Consent for F {
    fn give(&mut self, round: &Round, need: Need) -> Outcome<()> {
        self(round, need)
    }
}

/// What may be carried out.
pub struct Cleared {
    round: Round,
    /// It brings back what a memory holds for gone.
    revives: bool,
}

impl Cleared {
    /// What it is.
    pub fn round(&self) -> &Round {
        &self.round
    }

    /// What it would have been, when it is not carried out.
    pub(crate) fn unused(self) -> Round {
        self.round
    }

    /// Hands it over to be carried out. First of all, what was gone and comes back is forgotten: it must not be taken for what was
    /// there all the time.
    pub(crate) fn begin(self, desk: &Desk) -> (Round, Outcome<()>) {
        let forgotten = match self.revives {
            true => forget(desk, &self.round),
            false => Ok(()),
        };
        (self.round, forgotten)
    }
}

impl Prospect {
    pub(crate) fn of_job(round: Round) -> Prospect {
        Prospect { round, purpose: Purpose::Job, choice: None }
    }

    /// Of paths that a person has named.
    pub(crate) fn of_named(round: Round) -> Prospect {
        Prospect { round, purpose: Purpose::Named, choice: None }
    }

    /// Of what a person wants back.
    pub(crate) fn of_restore(round: Round, remembered: bool) -> Prospect {
        Prospect { round, purpose: Purpose::Restore { remembered }, choice: None }
    }

    /// Of a job with its ends exchanged. The left stays the person's own: no lock, no mark.
    pub(crate) fn of_reverse(mut round: Round) -> Prospect {
        for leg in &mut round.legs {
            leg.ours = false;
            leg.plan.set_changes(reedhook_core::entry::Side::Left);
        }
        Prospect { round, purpose: Purpose::Reverse, choice: None }
    }

    /// Narrows it to what is chosen; the same choice is made again whenever the sides are looked at again.
    ///
    /// # Errors
    /// What the choice says.
    pub fn narrowed(mut self, choice: impl Fn(&mut Round) -> Outcome<()> + 'static) -> Outcome<Prospect> {
        choice(&mut self.round)?;
        self.choice = Some(Box::new(choice));
        Ok(self)
    }

    /// What would be done, for whoever only wants to look at it.
    pub fn into_round(self) -> Round {
        self.round
    }

    /// What would be done.
    pub fn round(&self) -> &Round {
        &self.round
    }

    /// Clears the way: the guards that were not lifted, the consent, what has to be made, and what the places hold. Where that shows
    /// something new, it is looked at, guarded and agreed to again.
    ///
    /// # Errors
    /// Why there must be no run.
    pub fn clear(self, desk: &Desk, lifted: &[Lift], consent: &mut dyn Consent) -> Outcome<Cleared> {
        let Prospect { round, purpose, choice } = self;
        // The want of space is judged once old kept copies may be erased: nothing goes before the consent.
        let mut round = match round.can_make_room(lifted) {
            true => round,
            false => passed(round, desk, lifted)?,
        };
        let need = need(desk, &round, purpose)?;
        desk.asking(|| consent.give(&round, need))?;
        make_room(&mut round, desk, lifted)?;
        round = passed(round, desk, lifted)?;
        if purpose == Purpose::Job {
            round = prepared(round, desk, lifted, consent, choice.as_ref())?;
        }
        make_the_rest(&mut round, desk, lifted)?;
        Ok(Cleared { round, revives: purpose == Purpose::Restore { remembered: true } })
    }
}

fn forget(desk: &Desk, round: &Round) -> Outcome<()> {
    Ok(desk.home.record()?.forget_names(&round.job.name, &brought(round))?)
}

fn passed(round: Round, desk: &Desk, lifted: &[Lift]) -> Outcome<Round> {
    match round.refusal(lifted, &desk.home) {
        Some(refusal) => Err(refusal),
        None => Ok(round),
    }
}

/// Where there is too little space, old kept copies go before the run instead of after it, by the job's own rules: else a drive that is full
/// of what may go would be refused for ever.
fn make_room(round: &mut Round, desk: &Desk, lifted: &[Lift]) -> Outcome<()> {
    for at in 0..round.legs.len() {
        if !round.leg_can_make_room(at, lifted) {
            continue;
        }
        let (job, leg) = (&round.job, &round.legs[at]);
        let _lock = lock_destination(leg.writes.as_ref(), &leg.to, &desk.home)?;
        let gone: u64 =
            prune(desk, job, leg.writes.as_ref(), None, None)?.iter().map(|amount| amount.bytes).sum();
        if gone > 0 {
            let (bytes, shown) = (Size::from_bytes(gone), leg.to.shown(&desk.home));
            desk.note(format!(
                "{bytes} of kept copies that have had their time were erased to make room at {shown}"
            ));
        }
        // What cannot be asked now is as it was.
        if let Ok(space) = leg.writes.space() {
            round.legs[at].facts.space = space;
        }
    }
    Ok(())
}

/// Makes what both sides need to be locked, tries what the places hold, and looks again where that told anything new.
fn prepared(
    round: Round,
    desk: &Desk,
    lifted: &[Lift],
    consent: &mut dyn Consent,
    choice: Option<&Choice>,
) -> Outcome<Round> {
    let job = round.job.clone();
    let made = round.legs.iter().find(|leg| leg.to_be_made && round.both.is_some());
    if let Some(leg) = made {
        // Both sides have to be there to be locked and marked.
        places::make_destination(desk, &leg.to, Manner::of(&job))?;
    }
    let other_than_assumed = held::try_places(desk, &round)?;
    if made.is_none() && !other_than_assumed {
        return Ok(round);
    }
    let (agreed_to, before) = (round.counts().removed, round);
    let mut again = look_with(desk, &job, Moves::Proved, &Scope::Everything)?;
    choice.map_or(Ok(()), |choice| choice(&mut again))?;
    let mut round = passed(again, desk, lifted)?;
    // What had to be made then and is there now was made in between, by us.
    for leg in round.legs.iter_mut().filter(|leg| !leg.to_be_made) {
        leg.made = before.legs.iter().any(|old| old.to_be_made && old.to.written == leg.to.written);
    }
    // Knowing better what a place holds may have led to more removals than were agreed to.
    if round.counts().removed > agreed_to {
        let need = need(desk, &round, Purpose::Job)?;
        desk.asking(|| consent.give(&round, need))?;
    }
    Ok(round)
}

/// Makes the destinations that are not there yet, and looks again at each: what could only be guessed before is known now.
fn make_the_rest(round: &mut Round, desk: &Desk, lifted: &[Lift]) -> Outcome<()> {
    let manner = Manner::of(&round.job);
    for at in 0..round.legs.len() {
        if round.legs[at].to_be_made {
            let made = places::make_destination(desk, &round.legs[at].to, manner)?;
            refuse_nested(&round.ends, &desk.home)?;
            let leg = &mut round.legs[at];
            leg.facts = facts(&leg.plan, leg.reads.as_ref(), made.as_ref(), Vec::new());
            (leg.writes, leg.to_be_made, leg.made) = (made, false, true);
            if let Some(refusal) = round.refusal(lifted, &desk.home) {
                return Err(refusal);
            }
        }
    }
    Ok(())
}

/// Why a person has to agree. What would be removed at the first run between two stores is asked for; where somebody is there, also
/// what is removed between them for the first time later. The yes belongs to these two stores, whatever job brings them together.
fn need(desk: &Desk, round: &Round, purpose: Purpose) -> Outcome<Need> {
    let counts = round.counts();
    match purpose {
        Purpose::Named | Purpose::Restore { .. } => return Ok(Need::None),
        Purpose::Reverse if counts.updated + counts.removed > 0 => return Ok(Need::Overwriting),
        Purpose::Reverse => return Ok(Need::None),
        Purpose::Job if counts.removed == 0 => return Ok(Need::None),
        Purpose::Job => {}
    }
    let record = desk.home.record()?;
    let known = round
        .pairs(record.as_ref())?
        .iter()
        .map(|(left, right)| record.pair(left, right))
        .collect::<Result<Vec<_>, _>>()?;
    // A two-way job has a pair and a leg for each direction; other jobs a pair for each leg.
    let two_way = round.job.rules.kind == Kind::TwoWay;
    let removing = |at: usize| two_way || round.legs.get(at).is_some_and(removes_something);
    let concerned = || known.iter().enumerate().filter(|(at, _)| removing(*at)).map(|(_, pair)| *pair);
    Ok(if concerned().all(|pair| pair == Some(true)) {
        Need::None
    } else if concerned().all(|pair| pair.is_some()) {
        Need::FirstRemoval
    } else {
        Need::FirstRun
    })
}

fn removes_something(leg: &Leg) -> bool {
    leg.plan.counts().removed > 0
}
