//! Two trees in step: what every walk does with a folder before anything is decided, whatever decides then.
//!
//! Both sides are listed; what cannot be examined is noted; Reedhook's own leftovers are set apart; the filter says what takes part;
//! names that one of the stores takes for one are found; and what is left is put side by side, name by name.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::iter::Peekable;
use std::sync::atomic::Ordering;

use crate::entry::{Entry, Meta, Side};
use crate::filter::{Filter, Inherited, Rule, Verdict};
use crate::path::{Name, RESERVED_NAME, RelPath};
use crate::plan::two_way::Known;
use crate::problem::Problem;
use crate::store::error::{FaultKind, Result, StoreError};
use crate::store::{Folding, Listing, Store};
use crate::walk::progress::{ScanError, ScanProgress};

/// Hears what every folder holds that a walk looks at, from any of its threads: so that what is seen once need not be looked at again.
/// Entries are sorted by name. A folder of which something could not be examined is not told of.
pub trait WalkObserver: Sync {
    /// A side has this folder, and these are in it.
    fn saw(&self, side: Side, folder: &RelPath, entries: &[Entry]);
}

/// The place of a side in arrays of two.
pub(super) fn at(side: Side) -> usize {
    usize::from(side == Side::Right)
}

/// Two trees.
#[derive(Clone, Copy)]
pub(super) struct Pair<'a> {
    pub left: &'a dyn Store,
    pub right: &'a dyn Store,
    pub filter: &'a Filter,
    /// The sides that a run changes: unfinished files there are leftovers of one.
    pub changes: [bool; 2],
    pub observer: Option<&'a dyn WalkObserver>,
}

/// A folder of both trees, or of one.
pub(super) struct Spot<'s> {
    pub path: &'s RelPath,
    /// Where it is at each side now: under another spelling, perhaps.
    pub now_at: [&'s RelPath; 2],
    /// Which sides have it.
    pub there: [bool; 2],
    /// At each side: whether it is, or lies in, the root of another job's side.
    pub anothers: [bool; 2],
    pub inherited: Inherited,
}

/// What a folder holds at a side.
#[derive(Default)]
pub(super) struct Half {
    /// Sorted by name.
    pub entries: Vec<Judged>,
    /// What it lacks may exist: its listing broke off.
    pub incomplete: bool,
    /// Something in it could not be examined.
    pub unclear: bool,
    /// What runs have left unfinished, by its path now.
    pub leftovers: Vec<(RelPath, Meta)>,
    /// Entries that a line of the filter has left out.
    pub filtered: u64,
}

/// What a folder holds.
pub(super) struct Looked {
    /// At the left and at the right.
    pub halves: [Half; 2],
    /// Names that could not be examined at one of the sides.
    pub unknown: HashSet<Name>,
    /// At each side: whether the folder is, or lies in, the root of another job's side.
    pub anothers: [bool; 2],
}

/// An entry with what the filter says; `None` when it is out. Whatever has its name at the other side is left alone then, too.
pub(super) struct Judged {
    pub name: Name,
    pub meta: Meta,
    pub verdict: Option<Verdict>,
    /// It is out for its size or age.
    pub beyond: bool,
}

impl<'a> Pair<'a> {
    pub(super) fn store(&self, side: Side) -> &'a dyn Store {
        match side {
            Side::Left => self.left,
            Side::Right => self.right,
        }
    }

    /// Looks at a folder; `None` when it cannot be listed at a side and has to be left alone. What is wrong with it is added to
    /// `problems`.
    pub(super) fn look(
        &self,
        spot: &Spot<'_>,
        progress: &ScanProgress,
        problems: &mut Vec<Problem>,
    ) -> Result<Option<Looked>, ScanError> {
        let left = self.listed(Side::Left, spot, problems)?;
        let right = self.listed(Side::Right, spot, problems)?;
        let (Some(left), Some(right)) = (left, right) else { return Ok(None) };
        progress.folders.fetch_add(1, Ordering::Relaxed);
        progress.entries.fetch_add((left.entries.len() + right.entries.len()) as u64, Ordering::Relaxed);
        let mut looked = Looked {
            halves: [Half::default(), Half::default()],
            unknown: HashSet::new(),
            anothers: spot.anothers,
        };
        for (side, mut listing) in [(Side::Left, left), (Side::Right, right)] {
            listing.entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
            if let Some(observer) =
                self.observer.filter(|_| spot.there[at(side)] && listing.unknown.is_empty())
            {
                observer.saw(side, spot.now_at[at(side)], &listing.entries);
            }
            self.note_unknown(side, spot, &listing, &mut looked, problems);
            self.judge(side, spot, listing.entries, &mut looked);
        }
        Ok(Some(looked))
    }

    fn listed(
        &self,
        side: Side,
        spot: &Spot<'_>,
        problems: &mut Vec<Problem>,
    ) -> Result<Option<Listing>, ScanError> {
        if !spot.there[at(side)] {
            return Ok(Some(Listing::default()));
        }
        match list(self.store(side), side, spot.now_at[at(side)])? {
            Ok(listing) => Ok(Some(listing)),
            Err(problem) => {
                problems.push(problem);
                Ok(None)
            }
        }
    }

    /// Takes note of what a listing could not examine.
    fn note_unknown(
        &self,
        side: Side,
        spot: &Spot<'_>,
        listing: &Listing,
        looked: &mut Looked,
        problems: &mut Vec<Problem>,
    ) {
        looked.halves[at(side)].unclear = !listing.unknown.is_empty();
        for unknown in &listing.unknown {
            let unseen = |name| self.filter.leaves_out_unseen(spot.path, name, spot.inherited);
            if !unknown.name.as_ref().is_some_and(unseen) {
                problems.push(Problem::from_error(side, &unknown.error));
            }
            match &unknown.name {
                Some(name) => {
                    looked.unknown.insert(name.clone());
                }
                None => looked.halves[at(side)].incomplete = true,
            }
        }
    }

    /// Says what takes part.
    fn judge(&self, side: Side, spot: &Spot<'_>, entries: Vec<Entry>, looked: &mut Looked) {
        let now_at = spot.now_at[at(side)];
        let root_of_another = is_root_of_another(self.store(side), now_at, &entries);
        looked.anothers[at(side)] |= root_of_another;
        let anothers = looked.anothers[at(side)];
        let half = &mut looked.halves[at(side)];
        half.entries.reserve(entries.len());
        for Entry { name, meta } in entries {
            let unfinished = self.changes[at(side)] && name.is_passing();
            if unfinished && !meta.is_folder() {
                if !anothers {
                    half.leftovers.push((now_at.join(&name), meta));
                }
                continue;
            }
            // A folder of such a name is nothing that a run has left: it stays, as what is left out does.
            let left_alone = unfinished || (root_of_another && name.as_bytes() == RESERVED_NAME);
            let mut beyond = false;
            let verdict = match left_alone {
                true => None,
                false => match self.filter.judge(spot.path, &name, &meta, spot.inherited) {
                    Verdict::Out(rule) => {
                        half.filtered += u64::from(rule != Rule::Own);
                        beyond = rule.is_limit();
                        None
                    }
                    verdict => Some(verdict),
                },
            };
            half.entries.push(Judged { name, meta, verdict, beyond });
        }
    }
}

/// Lists a folder at a side. A root that cannot be listed, or a lost store, ends the scan; any other folder is a problem.
pub(super) fn list(
    store: &dyn Store,
    side: Side,
    folder: &RelPath,
) -> Result<std::result::Result<Listing, Problem>, ScanError> {
    match store.list(folder) {
        Ok(listing) => Ok(Ok(listing)),
        Err(error) if error.kind == FaultKind::Lost || folder.is_root() => Err(ScanError::Store(side, error)),
        // An error of the medium, and its root cannot be read either: the drive has been pulled out.
        Err(error) if error.kind == FaultKind::Io && store.list(&RelPath::root()).is_err() => {
            Err(ScanError::Store(side, StoreError { kind: FaultKind::Lost, ..error }))
        }
        Err(error) => Ok(Err(Problem::from_error(side, &error))),
    }
}

/// Whether a folder below the root is itself the root of another job's side: it has a folder of Reedhook's own with something in it.
/// That belongs to the other job, whatever this one does with the rest.
pub(crate) fn is_root_of_another(store: &dyn Store, folder: &RelPath, entries: &[Entry]) -> bool {
    const OWN: [&[u8]; 6] = [b"identity", b"lock", b"busy", b"kept", b"owners", b"last"];
    let own = |entry: &&Entry| entry.name.as_bytes() == RESERVED_NAME && entry.meta.is_folder();
    let Some(own) = entries.iter().find(own).filter(|_| !folder.is_root()) else { return false };
    let listing = store.list(&folder.join(&own.name));
    listing.is_ok_and(|inside| inside.entries.iter().any(|entry| OWN.contains(&entry.name.as_bytes())))
}

/// The names of a folder that one of the stores takes for one.
#[derive(Default)]
pub(super) struct Spellings {
    /// Names that are to be spelled otherwise at a side.
    pub given: Vec<Respelling>,
    /// A file here and a folder there, or the reverse, that would be one name: as they are spelled at the left and at the right.
    pub unlike: Vec<(Name, Name)>,
    /// How what is remembered of a name is called from now on.
    pub remembered: HashMap<Name, Name>,
    /// Names of one side that would be one at the other: a list for each.
    pub clashes: Vec<Vec<Name>>,
    clashing: HashSet<Name>,
    /// How names are spelled now, at each side, by the spelling that they are to have.
    now: [HashMap<Name, Name>; 2],
    /// The names under which names are remembered.
    then: HashMap<Name, Name>,
}

/// A name that is to be spelled otherwise.
pub(super) struct Respelling {
    pub side: Side,
    pub from: Name,
    pub to: Name,
}

/// What would be one name.
#[derive(Default)]
struct Group<'a> {
    left: Vec<&'a Judged>,
    right: Vec<&'a Judged>,
    known: Vec<&'a Name>,
}

impl Spellings {
    /// What is one name by that folding. Where the two sides spell it differently, the side that still has the spelling that is
    /// remembered gets the other one; without a memory the right follows the left.
    pub(super) fn of(folding: Folding, left: &[Judged], right: &[Judged], known: &[Known]) -> Spellings {
        let mut found = Spellings::default();
        if !folding.is_any() {
            return found;
        }
        let mut groups: HashMap<Vec<u8>, Group<'_>> = HashMap::new();
        let taking_part = |judged: &&Judged| judged.verdict.is_some();
        for item in left.iter().filter(taking_part) {
            groups.entry(folding.key(&item.name)).or_default().left.push(item);
        }
        for item in right.iter().filter(taking_part) {
            groups.entry(folding.key(&item.name)).or_default().right.push(item);
        }
        for name in known.iter().map(|known| &known.name) {
            if let Some(group) = groups.get_mut(&folding.key(name)) {
                group.known.push(name);
            }
        }
        // A spelling that something else has, which is left out, is not to be had.
        let has = |side: &[Judged], name: &Name| side.binary_search_by(|item| item.name.cmp(name)).is_ok();
        for group in groups.into_values() {
            match (group.left.as_slice(), group.right.as_slice()) {
                ([ours], [theirs]) => {
                    let apart = ours.name != theirs.name;
                    if !(apart && (has(left, &theirs.name) || has(right, &ours.name))) {
                        found.join(ours, theirs, &group.known);
                    }
                }
                (ours, theirs) if ours.len() > 1 || theirs.len() > 1 => {
                    let names = ours.iter().chain(theirs).map(|item| item.name.clone());
                    found.clashes.push(names.collect::<BTreeSet<_>>().into_iter().collect());
                }
                _ => {}
            }
        }
        found.clashes.sort();
        found.clashing = found.clashes.iter().flatten().cloned().collect();
        found.now = [Side::Left, Side::Right].map(|side| {
            let given = found.given.iter().filter(|given| given.side == side);
            given.map(|given| (given.to.clone(), given.from.clone())).collect()
        });
        found.then = found.remembered.iter().map(|(then, now)| (now.clone(), then.clone())).collect();
        found
    }

    fn join(&mut self, ours: &Judged, theirs: &Judged, known: &[&Name]) {
        let mut name = &ours.name;
        if ours.name != theirs.name && ours.meta.is_folder() != theirs.meta.is_folder() {
            self.unlike.push((ours.name.clone(), theirs.name.clone()));
        } else if ours.name != theirs.name {
            let remembers = |name: &Name| known.contains(&name);
            let theirs_is_new = remembers(&ours.name) && !remembers(&theirs.name);
            let (side, from, to) = match theirs_is_new {
                true => (Side::Left, &ours.name, &theirs.name),
                false => (Side::Right, &theirs.name, &ours.name),
            };
            self.given.push(Respelling { side, from: from.clone(), to: to.clone() });
            name = to;
        }
        if let [one] = known
            && *one != name
        {
            self.remembered.insert((*one).clone(), name.clone());
        }
    }

    /// Whether a name is one of several that would be one.
    pub(super) fn clash(&self, name: &Name) -> bool {
        self.clashing.contains(name)
    }

    /// The name that something has at a side now.
    pub(super) fn now_as<'a>(&'a self, side: Side, name: &'a Name) -> &'a Name {
        self.now[at(side)].get(name).unwrap_or(name)
    }

    /// The name under which a name is remembered.
    pub(super) fn remembered_as<'a>(&'a self, name: &'a Name) -> &'a Name {
        self.then.get(name).unwrap_or(name)
    }
}

/// What a folder holds on the left and on the right, sorted by name.
pub(super) type BothSides = (Vec<Judged>, Vec<Judged>);

/// A name with what both sides, and the memory, have of it.
pub(super) struct Met {
    pub left: Option<Judged>,
    pub right: Option<Judged>,
    pub known: Option<Known>,
}

/// Puts three lists side by side that are sorted by name.
pub(super) fn merge(left: Vec<Judged>, right: Vec<Judged>, known: Vec<Known>) -> impl Iterator<Item = Met> {
    fn take<T>(from: &mut Peekable<impl Iterator<Item = T>>, wanted: bool) -> Option<T> {
        if wanted { from.next() } else { None }
    }
    let mut left = left.into_iter().peekable();
    let mut right = right.into_iter().peekable();
    let mut known = known.into_iter().peekable();
    std::iter::from_fn(move || {
        let names = [
            left.peek().map(|found| &found.name),
            right.peek().map(|found| &found.name),
            known.peek().map(|found| &found.name),
        ];
        let next = names.into_iter().flatten().min()?;
        let [ours, theirs, remembered] = names.map(|name| name == Some(next));
        Some(Met {
            left: take(&mut left, ours),
            right: take(&mut right, theirs),
            known: take(&mut known, remembered),
        })
    })
}
