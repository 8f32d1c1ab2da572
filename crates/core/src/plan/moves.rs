//! Moves: what is gone from one path and new at another becomes a rename at the other side, and no bytes travel.
//!
//! Candidates come from what the entries tell: a whole folder with the same names, sizes and times under another path, then
//! single files with the same size and time. A candidate must be the only one; where several files look alike, the one of the
//! same name counts. What entries tell is no proof: two files of one size may bear one time. So before a run renames
//! anything, the walk compares what both sides hold, byte for byte, and a candidate that fails is copied as usual.
//!
//! Finding and applying are pure. A plan whose moves are not proved can be shown and never be carried out ([`Plan::unproved`]).

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use super::{Action, Fate, FolderPlan, Plan, Role, Step};
use crate::compare::Comparison;
use crate::entry::{EntryKind, Meta, Stamp};
use crate::path::RelPath;

/// A rename that would take the place of a copy and a removal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Candidate {
    /// Where it stands at the side that changes.
    from: RelPath,
    /// Where it stands at the side that is read.
    to: RelPath,
    /// It is a folder with all that it holds.
    folder: bool,
    /// The files whose content has to be the same.
    pub(crate) files: Vec<Twins>,
}

/// Two files that look alike.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Twins {
    /// The path at the side that changes.
    pub(crate) from: RelPath,
    /// The path at the side that is read.
    pub(crate) to: RelPath,
    /// The bytes of each.
    pub(crate) size: u64,
}

/// What a scan does about what is gone from one path and new at another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moves {
    /// Takes names, sizes and times for it: good enough to look at, as in a preview.
    Unproved,
    /// Reads both files and plans a rename only when they hold the same.
    Proved,
}

/// What moved by the looks of it, in a plan whose folders are in order.
pub(crate) fn candidates(plan: &Plan, by: &Comparison) -> Vec<Candidate> {
    let mut found = find(plan, by);
    found.retain(|one| on_one_file_system(plan, one));
    found
}

/// Whether a thing and the folder that it is to go to are on one file system, as far as that is known: nothing is renamed across a
/// mount.
fn on_one_file_system(plan: &Plan, one: &Candidate) -> bool {
    let folder_at = |path: &RelPath| {
        let at = plan.folders.binary_search_by(|folder| folder.path.cmp(path)).ok()?;
        plan.folders[at].right.as_ref()?.id
    };
    let mut above = one.to.parent();
    let mut target = None;
    while let (None, Some(folder)) = (target, &above) {
        target = folder_at(folder);
        above = folder.parent();
    }
    let source = if one.folder {
        folder_at(&one.from)
    } else {
        one.from.parent().and_then(|parent| folder_at(&parent))
    };
    source.zip(target).is_none_or(|(from, to)| from.device == to.device)
}

/// The folders in a folder, by name, each with its digest.
type Below<'a> = Vec<(&'a [u8], Option<Digest>)>;

/// A digest of what a folder holds; equal for folders that hold the same names with the same metadata.
type Digest = [u8; 32];

/// Finds what moved in a plan whose folders are in order. Nothing for a plan that only adds, or only removes.
fn find(plan: &Plan, by: &Comparison) -> Vec<Candidate> {
    let counts = plan.counts();
    if counts.added == 0 || counts.removed == 0 {
        return Vec::new();
    }
    let Some(precision) = by.precision else { return Vec::new() };
    let trees = Trees { folders: &plan.folders, precision, by };
    let folders = trees.moved_folders();
    let files = trees.moved_files(&folders);
    folders.into_iter().chain(files).collect()
}

/// The folders of a plan, looked at as trees.
struct Trees<'a> {
    folders: &'a [FolderPlan],
    precision: Duration,
    by: &'a Comparison,
}

impl Trees<'_> {
    fn moved_folders(&self) -> Vec<Candidate> {
        let made = only_once(self.digests(Fate::Make));
        let gone = only_once(self.digests(Fate::Remove));
        let mut pairs: Vec<(&RelPath, &RelPath)> =
            made.iter().filter_map(|(digest, to)| Some((*gone.get(digest)?, *to))).collect();
        // From the top: what lies in a folder that moves goes along with it.
        pairs.sort_by_key(|(_, to)| (to.depth(), *to));
        let mut moved: Vec<Candidate> = Vec::new();
        for (from, to) in pairs {
            let goes_along = |other: &Candidate| {
                to.is_within(&other.to) || from.is_within(&other.from) || other.from.is_within(from)
            };
            if !moved.iter().any(goes_along) {
                let files = self.files_in(to, from);
                moved.push(Candidate { from: from.clone(), to: to.clone(), folder: true, files });
            }
        }
        moved
    }

    /// The digest of each folder that is made (or removed) whole, with everything below it.
    fn digests(&self, fate: Fate) -> Vec<(Digest, &RelPath)> {
        let mut below: HashMap<RelPath, Below<'_>> = HashMap::new();
        let mut digests = Vec::new();
        // In reverse, so that a folder comes after what it holds.
        for folder in self.folders.iter().rev().filter(|folder| folder.fate == fate) {
            let digest = self.digest(folder, below.remove(&folder.path).unwrap_or_default());
            digests.extend(digest.map(|digest| (digest, &folder.path)));
            if let (Some(parent), Some(name)) = (folder.path.parent(), folder.path.file_name()) {
                below.entry(parent).or_default().push((name, digest));
            }
        }
        digests
    }

    /// `None` when the folder cannot move as a whole: it is empty, cannot be renamed, or holds something of which nothing is
    /// known but its place.
    fn digest(&self, folder: &FolderPlan, below: Below<'_>) -> Option<Digest> {
        let own = folder.left.as_ref().or(folder.right.as_ref())?;
        // Moving a folder changes what is in it (its `..`), which takes the right to write there.
        let locked = own.mode.is_some_and(|mode| mode & 0o300 != 0o300);
        if locked || (folder.actions.is_empty() && below.is_empty()) {
            return None;
        }
        let mut parts: BTreeMap<&[u8], Vec<u8>> = BTreeMap::new();
        for (name, digest) in below {
            parts.insert(name, digest?.to_vec());
        }
        for Action { name, step, .. } in &folder.actions {
            let (Step::Add { from: meta } | Step::Remove { was: meta }) = step else { return None };
            parts.insert(name.as_bytes(), self.entry_key(meta)?);
        }
        let mut hasher = blake3::Hasher::new();
        hasher.update(&self.mode_of(own).to_le_bytes());
        for (name, part) in parts {
            hasher.update(&(name.len() as u64).to_le_bytes()).update(name);
            hasher.update(&(part.len() as u64).to_le_bytes()).update(&part);
        }
        Some(*hasher.finalize().as_bytes())
    }

    fn mode_of(&self, meta: &Meta) -> u32 {
        meta.mode.filter(|_| self.by.modes).unwrap_or(0)
    }

    /// What tells an entry's content apart; `None` for what is never moved.
    fn entry_key(&self, meta: &Meta) -> Option<Vec<u8>> {
        let (kind, time): (u8, _) = match meta.kind {
            EntryKind::File => (0, self.time_of(meta)?),
            EntryKind::Link if self.by.link_times => (1, self.time_of(meta)?),
            EntryKind::Link => (1, 0),
            EntryKind::Folder | EntryKind::Special(_) => return None,
        };
        let target = meta.target.as_deref().unwrap_or_default();
        let mode = if kind == 0 { self.mode_of(meta) } else { 0 };
        Some(
            [&[kind][..], &meta.size.to_le_bytes(), &time.to_le_bytes(), &mode.to_le_bytes(), target]
                .concat(),
        )
    }

    /// Size and time of a file.
    fn file_key(&self, meta: &Meta) -> Option<(u64, i128)> {
        if meta.kind == EntryKind::File { Some((meta.size, self.time_of(meta)?)) } else { None }
    }

    /// The time in steps of the coarser store.
    fn time_of(&self, meta: &Meta) -> Option<i128> {
        let step = i128::try_from(self.precision.as_nanos()).ok()?.max(1);
        Some(meta.modified.map(Stamp::as_nanos)?.div_euclid(step))
    }

    /// The files below a folder, each with the path of its counterpart.
    fn files_in(&self, to: &RelPath, from: &RelPath) -> Vec<Twins> {
        let folders = subtree(self.folders, to).iter();
        let actions = folders.flat_map(|folder| folder.actions.iter().map(move |action| (folder, action)));
        let twins = actions.filter_map(|(folder, action)| match &action.step {
            Step::Add { from: meta } if meta.kind == EntryKind::File && meta.size > 0 => {
                let path = folder.path.join(&action.name);
                Some(Twins { from: from.join_path(&path.below(to)?), to: path, size: meta.size })
            }
            _ => None,
        });
        twins.collect()
    }

    fn moved_files(&self, folders: &[Candidate]) -> Vec<Candidate> {
        let mut alike: HashMap<(u64, i128), (Vec<RelPath>, Vec<RelPath>)> = HashMap::new();
        let taken = |path: &RelPath| {
            folders.iter().any(|other| path.is_within(&other.from) || path.is_within(&other.to))
        };
        let made = self.with_fate(Fate::Make);
        let removed = self.with_fate(Fate::Remove);
        for (folder, action) in self.actions() {
            let Step::Remove { was } = &action.step else { continue };
            let Some(key) = self.file_key(was).filter(|(size, _)| *size > 0) else { continue };
            let path = folder.path.join(&action.name);
            // Folders are made before anything is renamed: what stands in their way cannot wait.
            if !taken(&path) && !made.contains(&path) {
                alike.entry(key).or_default().0.push(path);
            }
        }
        for (folder, action) in self.actions() {
            let Step::Add { from } = &action.step else { continue };
            let Some((_, added)) = self.file_key(from).and_then(|key| alike.get_mut(&key)) else { continue };
            let path = folder.path.join(&action.name);
            // A folder that stands there goes last of all.
            if !taken(&path) && !removed.contains(&path) {
                added.push(path);
            }
        }
        let mut moved: Vec<Candidate> =
            alike.into_iter().flat_map(|((size, _), (gone, new))| pair(size, gone, new)).collect();
        moved.sort_by(|a, b| a.to.cmp(&b.to));
        moved
    }

    fn with_fate(&self, fate: Fate) -> HashSet<&RelPath> {
        self.folders.iter().filter(|folder| folder.fate == fate).map(|folder| &folder.path).collect()
    }

    fn actions(&self) -> impl Iterator<Item = (&FolderPlan, &Action)> {
        self.folders.iter().flat_map(|folder| folder.actions.iter().map(move |action| (folder, action)))
    }
}

/// Pairs files that look alike: by name where there are several, or as they are when there is one of each.
fn pair(size: u64, gone: Vec<RelPath>, new: Vec<RelPath>) -> Vec<Candidate> {
    let candidate = |from: RelPath, to: RelPath| Candidate {
        files: vec![Twins { from: from.clone(), to: to.clone(), size }],
        from,
        to,
        folder: false,
    };
    if let ([from], [to]) = (gone.as_slice(), new.as_slice()) {
        return vec![candidate(from.clone(), to.clone())];
    }
    let named = |paths: Vec<RelPath>| {
        let names = paths.into_iter().filter_map(|path| Some((path.file_name()?.to_vec(), path)));
        only_once(names.collect::<Vec<_>>())
    };
    let mut gone = named(gone);
    let new = named(new);
    new.into_iter().filter_map(|(name, to)| Some(candidate(gone.remove(&name)?, to))).collect()
}

/// The values whose key no other value has.
fn only_once<K: Clone + Eq + std::hash::Hash, V>(pairs: Vec<(K, V)>) -> HashMap<K, V> {
    let mut seen = HashMap::new();
    let mut twice = HashSet::new();
    for (key, value) in pairs {
        if seen.insert(key.clone(), value).is_some() {
            twice.insert(key);
        }
    }
    seen.retain(|key, _| !twice.contains(key));
    seen
}

/// The folders of a plan that lie in a folder, itself included.
fn subtree<'a>(folders: &'a [FolderPlan], top: &RelPath) -> &'a [FolderPlan] {
    let start = folders.partition_point(|folder| folder.path < *top);
    let length = folders[start..].partition_point(|folder| folder.path.is_within(top));
    &folders[start..start + length]
}

/// Puts renames into a plan, in the place of what they spare.
pub(crate) fn apply(plan: &mut Plan, moves: &[Candidate]) {
    if moves.is_empty() {
        return;
    }
    let (folders, files): (Vec<&Candidate>, Vec<&Candidate>) = moves.iter().partition(|one| one.folder);
    for one in folders {
        move_folder(plan, one);
    }
    let moved: HashSet<&RelPath> =
        files.into_iter().filter(|one| move_file(plan, one)).map(|one| &one.from).collect();
    if !moved.is_empty() {
        for folder in &mut plan.folders {
            let path = &folder.path;
            let goes = |action: &Action| matches!(action.step, Step::Remove { .. });
            folder.actions.retain(|action| !goes(action) || !moved.contains(&path.join(&action.name)));
        }
    }
    plan.folders.retain(FolderPlan::says_something);
}

fn move_folder(plan: &mut Plan, one: &Candidate) {
    let side = plan.changes;
    let mut old = HashMap::new();
    for folder in subtree_mut(&mut plan.folders, &one.from) {
        folder.actions.clear();
        folder.fate = Fate::Stay;
        old.extend(folder.path.below(&one.from).zip(folder.right.take()));
    }
    let mut items = 0;
    for folder in subtree_mut(&mut plan.folders, &one.to) {
        let added = |action: &Action| matches!(action.step, Step::Add { .. });
        items += folder.actions.drain(..).filter(added).count() as u64;
        // Its counterpart comes along, so that its time is set like that of any folder that stays.
        folder.fate = Fate::Stay;
        folder.right = folder.path.below(&one.to).and_then(|below| old.remove(&below));
    }
    let Some((parent, name)) = one.to.split() else { return };
    if let Some(folder) = find_folder(plan, &parent) {
        let at = folder.actions.partition_point(|action| action.name < name);
        folder.actions.insert(
            at,
            Action {
                name,
                side,
                step: Step::MoveFolder { from: one.from.clone(), items },
                role: Role::Plain,
                instead_of: None,
            },
        );
    }
}

/// Makes an addition a rename; true when that was done, and the removal at the old path is to go.
fn move_file(plan: &mut Plan, one: &Candidate) -> bool {
    let Some(Step::Remove { was }) =
        find_step(plan, &one.from, |step| matches!(step, Step::Remove { .. })).cloned()
    else {
        return false;
    };
    let Some(step) = find_step(plan, &one.to, |step| matches!(step, Step::Add { .. })) else { return false };
    let Step::Add { from: to } = step.clone() else { return false };
    *step = Step::Move { from: one.from.clone(), to, was: Box::new(was) };
    true
}

fn find_step<'a>(plan: &'a mut Plan, path: &RelPath, wanted: fn(&Step) -> bool) -> Option<&'a mut Step> {
    let (parent, name) = path.split()?;
    let folder = find_folder(plan, &parent)?;
    let first = folder.actions.partition_point(|action| action.name < name);
    let same_name = folder.actions[first..].iter_mut().take_while(|action| action.name == name);
    same_name.map(|action| &mut action.step).find(|step| wanted(step))
}

fn find_folder<'a>(plan: &'a mut Plan, path: &RelPath) -> Option<&'a mut FolderPlan> {
    let at = plan.folders.binary_search_by(|folder| folder.path.cmp(path)).ok()?;
    plan.folders.get_mut(at)
}

fn subtree_mut<'a>(folders: &'a mut [FolderPlan], top: &RelPath) -> &'a mut [FolderPlan] {
    let start = folders.partition_point(|folder| folder.path < *top);
    let length = folders[start..].partition_point(|folder| folder.path.is_within(top));
    &mut folders[start..start + length]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::Side;
    use crate::path::Name;
    use crate::testing::{EXACT, file, folder, path};

    fn folder_plan(at: &str, fate: Fate, actions: &[(&str, Step)]) -> FolderPlan {
        let there = |wanted: bool| wanted.then(folder);
        let actions = actions.iter().map(|(name, step)| Action {
            name: Name::new(name.as_bytes()).unwrap(),
            side: Side::Right,
            step: step.clone(),
            role: Role::Plain,
            instead_of: None,
        });
        FolderPlan {
            path: path(at),
            fate,
            left: there(fate != Fate::Remove),
            right: there(fate != Fate::Make),
            remode: false,
            actions: actions.collect(),
        }
    }

    fn plan(folders: Vec<FolderPlan>) -> Plan {
        let mut plan = Plan { folders, ..Plan::default() };
        plan.folders.sort_by(|a, b| a.path.cmp(&b.path));
        plan
    }

    fn shown(plan: &Plan) -> Vec<String> {
        let found = find(plan, &EXACT);
        found.iter().map(|one| format!("{} -> {} ({})", one.from, one.to, one.files.len())).collect()
    }

    #[test]
    fn a_folder_moves_whole_with_what_is_below_it() {
        let add = |size, time| Step::Add { from: file(size, time) };
        let gone = |size, time| Step::Remove { was: file(size, time) };
        let before = || {
            vec![
                folder_plan("", Fate::Stay, &[]),
                folder_plan("new", Fate::Make, &[("a", add(5, 1)), ("b", add(6, 2))]),
                folder_plan("new/deep", Fate::Make, &[("c", add(7, 3))]),
                folder_plan("old", Fate::Remove, &[("a", gone(5, 1)), ("b", gone(6, 2))]),
                folder_plan("old/deep", Fate::Remove, &[("c", gone(7, 3))]),
            ]
        };
        let mut whole = plan(before());
        assert_eq!(shown(&whole), ["old -> new (3)"]);
        let moves = find(&whole, &EXACT);
        apply(&mut whole, &moves);
        let counts = &whole.counts();
        assert_eq!((counts.added, counts.removed, counts.moved, counts.bytes), (0, 0, 3, 0));
        assert_eq!((whole.folders_made(), whole.folders_removed(), whole.bytes_set_aside()), (0, 0, 0));
        let step = Step::MoveFolder { from: path("old"), items: 3 };
        assert_eq!(
            whole.folders[0].actions,
            [Action {
                name: Name::new(b"new").unwrap(),
                side: Side::Right,
                step,
                role: Role::Plain,
                instead_of: None
            }]
        );

        // One file differs: the others move by themselves.
        let mut parted = before();
        parted[2].actions[0].step = add(8, 3);
        assert_eq!(shown(&plan(parted)), ["old/a -> new/a (1)", "old/b -> new/b (1)"]);
    }

    #[test]
    fn what_looks_alike_is_told_apart_by_its_name_or_left() {
        let add = Step::Add { from: file(5, 1) };
        let gone = Step::Remove { was: file(5, 1) };
        type Case<'a> = (&'a [(&'a str, Step)], &'a [&'a str]);
        let cases: [Case<'_>; 6] = [
            (&[("a", gone.clone()), ("z", add.clone())], &["a -> z (1)"]),
            (&[("a", gone.clone()), ("b", gone.clone()), ("z", add.clone())], &[]),
            (&[("a", gone.clone()), ("y", add.clone()), ("z", add.clone())], &[]),
            (&[("a", Step::Remove { was: file(0, 1) }), ("z", Step::Add { from: file(0, 1) })], &[]),
            (&[("a", Step::Remove { was: file(5, 2) }), ("z", add.clone())], &[]),
            (&[("a", Step::Remove { was: folder() }), ("z", add.clone())], &[]),
        ];
        for (actions, expected) in cases {
            assert_eq!(shown(&plan(vec![folder_plan("", Fate::Stay, actions)])), expected, "{actions:?}");
        }
        let apart = plan(vec![
            folder_plan("", Fate::Stay, &[("a", gone.clone()), ("b", gone)]),
            folder_plan("x", Fate::Stay, &[("b", add.clone()), ("c", add)]),
        ]);
        assert_eq!(shown(&apart), ["b -> x/b (1)"]);
    }
}
