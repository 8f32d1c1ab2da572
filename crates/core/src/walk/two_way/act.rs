//! What is done about a name, once it is decided: steps for the side that changes, and what is to be remembered of it.

use super::Visit;
use crate::content::Hash;
use crate::entry::{EntryKind, Meta, Side};
use crate::path::{Name, RelPath};
use crate::plan::two_way::{Known, Settled, Verdict, beside_name, common_metadata, settle};
use crate::plan::{Action, Role, Step};
use crate::problem::{Code, Problem};
use crate::run::Mark;
use crate::store::error::FaultKind;
use crate::walk::pair::at;
use crate::walk::refusals::{is_lost, refusal_of};
use crate::walk::two_way::input::Conflict;
use crate::walk::two_way::news::Open;

impl Visit<'_> {
    /// Makes a side like the other one: what is at the other side, and what is at this one.
    pub(super) fn change(
        &mut self,
        name: Name,
        (verdict, side): (Verdict, Side),
        (there, here): (Option<Meta>, Option<Meta>),
        known: Option<Known>,
        role: Role,
    ) {
        match (verdict, there, here) {
            (Verdict::Carry(_), Some(from), was) => self.carry(name, side, from, was, known, role),
            (Verdict::Revive(_), Some(from), _) => self.carry(name, side, from, None, known, Role::Revived),
            (Verdict::Remove(_), _, Some(was)) => {
                self.act(name.clone(), side, Step::Remove { was }, role);
                self.open_question(name, known);
            }
            // Every verdict comes with the entry that it is about.
            _ => {}
        }
    }

    /// What makes the other side as the side that is taken.
    pub(super) fn taken_over(
        &self,
        side: Side,
        name: &Name,
        left: Option<&Meta>,
        right: Option<&Meta>,
    ) -> Verdict {
        let (winner, loser) = if side == Side::Left { (left, right) } else { (right, left) };
        match (winner, loser) {
            (None, _) => Verdict::Remove(side.other()),
            (Some(_), None) => Verdict::Carry(side.other()),
            (Some(_), Some(_)) => match (left, right) {
                (Some(left), Some(right)) if self.same_content(name, (left, right), None, &mut None) => {
                    Verdict::Adjust
                }
                _ => Verdict::Carry(side.other()),
            },
        }
    }

    pub(super) fn carry(
        &mut self,
        name: Name,
        to: Side,
        from: Meta,
        was: Option<Meta>,
        known: Option<Known>,
        role: Role,
    ) {
        self.stays(true, true);
        if self.cannot_take(to, (&name, was.is_some()), &from) || (was.is_none() && self.clashes(to, &name)) {
            self.remembered.extend(known);
            return;
        }
        let step = match was {
            Some(was) => Step::Update { from, was: Box::new(was) },
            None => Step::Add { from },
        };
        let planned = match &step {
            Step::Add { from } => Some((to, from.size, Mark::of(from))),
            _ => None,
        };
        self.act(name.clone(), to, step, role);
        self.takes_the_place_of(known.as_ref().and_then(|known| known.stood(to)).map(Box::new));
        self.open_question(name, known);
        if let Some(open) = self.open.last_mut() {
            open.planned = planned;
        }
    }

    /// The content is the same: time and mode are brought into line, as far as both stores hold them.
    pub(super) fn adjust(
        &mut self,
        name: Name,
        left: Meta,
        right: Meta,
        known: Option<Known>,
        read: Option<Hash>,
    ) {
        self.stays(true, true);
        let by = self.input.by;
        let (modified, mode) = common_metadata(known.as_ref(), &left, &right, &by);
        let link = left.kind == EntryKind::Link;
        let wanted = |own: &Meta| Meta {
            modified,
            mode: if by.modes && !link { mode } else { own.mode },
            unlisted: None,
            ..own.clone()
        };
        let differs = |own: &Meta| {
            let timed = by.precision.is_some() && (!link || by.link_times);
            (timed && !by.same_time(own, &wanted(own)))
                || (!link && own.mode != wanted(own).mode && !by.same_mode(own, &wanted(own)))
        };
        let sides = [(Side::Left, &left), (Side::Right, &right)];
        let steps: Vec<_> = sides.into_iter().filter(|(_, own)| differs(own)).collect();
        let hash = read.or_else(|| known.as_ref().and_then(|known| known.hash_that_holds(&left, &right)));
        if !steps.is_empty() {
            for (side, own) in steps {
                let step = Step::Metadata { from: wanted(own), was: Box::new(own.clone()) };
                self.act(name.clone(), side, step, Role::Plain);
            }
            self.open.push(Open { name, hash, planned: None });
            self.remembered.extend(known);
        } else {
            self.found.same += 1;
            self.remembered.extend(Known::of(&name, &left, &right, hash));
        }
        self.changed = true;
    }

    pub(super) fn conflict(&mut self, path: &RelPath, left: &Meta, right: &Meta) -> Settled {
        let policy = self.input.policies.of(path, left.is_folder() || right.is_folder());
        let settled = settle(policy, left, right, &self.input.by);
        let conflict = Conflict { path: path.clone(), left: left.clone(), right: right.clone(), settled };
        self.found.conflicts.push(conflict);
        settled
    }

    pub(super) fn settle_conflict(&mut self, name: Name, left: Meta, right: Meta, known: Option<Known>) {
        self.stays(true, true);
        let path = self.visited.path.join(&name);
        match self.conflict(&path, &left, &right) {
            Settled::Held => self.remembered.extend(known),
            Settled::Wins(Side::Left) => self.carry(name, Side::Right, left, Some(right), known, Role::Loser),
            Settled::Wins(Side::Right) => self.carry(name, Side::Left, right, Some(left), known, Role::Loser),
            Settled::Both(winner) => self.keep_both(name, winner, left, right, known),
        }
    }

    /// The loser is renamed where it is, then each side gets what it lacks.
    pub(super) fn keep_both(
        &mut self,
        name: Name,
        winner: Side,
        left: Meta,
        right: Meta,
        known: Option<Known>,
    ) {
        let loser = winner.other();
        let (won, lost) = if winner == Side::Left { (left, right) } else { (right, left) };
        let longest = self.input.left.capabilities().max_name.min(self.input.right.capabilities().max_name);
        // Asked for the few names in question: a set of all names would be made for every folder.
        let is_free = |side: Side, name: &Name| {
            matches!(self.input.store(side).stat(&self.now_at[at(side)].join(name)), Ok(None))
        };
        let in_use = |found: &[u8]| {
            let free =
                Name::new(found).is_ok_and(|name| is_free(Side::Left, &name) && is_free(Side::Right, &name));
            !free || self.given.contains(found)
        };
        let Some(beside) = beside_name(&name, loser, lost.modified, self.input.zone, longest, &in_use) else {
            let message = "there is no room for another name; both versions stay as they are".to_owned();
            self.refuse(Code::Fault(FaultKind::NameTooLong), loser, &name, message);
            self.remembered.extend(known);
            return;
        };
        self.given.insert(beside.as_bytes().to_vec());
        let from = self.visited.path.join(&name);
        let step = Step::Move { from, to: lost.clone(), was: Box::new(lost.clone()) };
        let instead_of = Some(Box::new(lost.clone()));
        let aside = Action { name: beside.clone(), side: loser, step, role: Role::Aside, instead_of: None };
        self.found.aside.push((self.visited.path.clone(), aside));
        self.act(beside.clone(), winner, Step::Add { from: lost }, Role::Plain);
        self.act(name.clone(), loser, Step::Add { from: won }, Role::Plain);
        self.takes_the_place_of(instead_of);
        self.open_question(beside, None);
        self.open_question(name, known);
    }

    pub(super) fn act(&mut self, name: Name, side: Side, step: Step, role: Role) {
        self.visited.actions.push(Action { name, side, step, role, instead_of: None });
    }

    /// Says of the last step what stood there before.
    pub(super) fn takes_the_place_of(&mut self, before: Option<Box<Meta>>) {
        if let Some(action) = self.visited.actions.last_mut() {
            action.instead_of = before;
        }
    }

    /// Whether a side's limits rule the entry out; reported when they do.
    pub(super) fn cannot_hold(&mut self, side: Side, name: &Name, meta: &Meta) -> bool {
        self.cannot_take(side, (name, false), meta)
    }

    /// The same; something with that name may be there, so that the name is no question.
    fn cannot_take(&mut self, side: Side, (name, named): (&Name, bool), meta: &Meta) -> bool {
        if is_lost(self.input.store(side).capabilities(), meta) {
            self.stays(true, true);
            return true;
        }
        match refusal_of(self.input.store(side).capabilities(), (name, named), meta) {
            Some((code, message)) => {
                self.refuse(code, side, name, message);
                true
            }
            None => false,
        }
    }

    pub(super) fn refuse(&mut self, code: Code, side: Side, name: &Name, message: String) {
        self.stays(true, true);
        let path = self.visited.path.join(name);
        self.found.problems.push(Problem::new(code, side, path, message));
    }
}
