//! What a simulated store holds, and what happens to it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use reedhook_core::entry::{EntryKind, Meta, Stamp};
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::store::{Attributes, Expect, FaultKind, Folding, Result, StoreError, is_still};

/// An operation that can be told to fail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// Listing a folder.
    List,
    /// Examining one entry while its folder is listed.
    Examine,
    /// Opening a file.
    Open,
    /// Reading bytes.
    Read,
    /// Writing bytes, or beginning to.
    Write,
    /// Making everything durable.
    Sync,
    /// Putting a file in its place.
    Publish,
    /// Removing a file, link or folder.
    Remove,
    /// Renaming.
    Rename,
    /// Making a folder.
    MakeFolder,
    /// Examining a path.
    Stat,
    /// Setting times or modes.
    Adjust,
}

/// An order to fail.
#[derive(Debug, Clone)]
pub struct Fault {
    /// Which operation; `None` for any.
    pub operation: Option<Operation>,
    /// On which path; `None` for any.
    pub path: Option<RelPath>,
    /// How.
    pub kind: FaultKind,
    /// For reads and writes: only after this many bytes of the file.
    pub after_bytes: u64,
    /// How often it still works before it fails.
    pub skip: u32,
    /// How many times it fails; then it works again. `None` for ever.
    pub times: Option<u32>,
}

impl Fault {
    /// A fault that lasts.
    pub fn new(operation: Operation, path: Option<&RelPath>, kind: FaultKind) -> Fault {
        Fault { operation: Some(operation), path: path.cloned(), kind, after_bytes: 0, skip: 0, times: None }
    }
}

#[derive(Debug, Clone)]
pub(super) struct Node {
    pub(super) meta: Meta,
    pub(super) content: Arc<Vec<u8>>,
    pub(super) durable: bool,
}

#[derive(Default)]
pub(super) struct Tree {
    pub(super) nodes: BTreeMap<RelPath, Node>,
    pub(super) faults: Vec<Fault>,
    pub(super) next_id: u64,
    pub(super) clock: i64,
    pub(super) slowness: Duration,
    pub(super) capacity: Option<u64>,
    pub(super) bad_writes: bool,
    /// Which names are one.
    pub(super) folding: Folding,
    /// Times are kept in steps of so many seconds; 0: as they are.
    pub(super) step: i64,
    /// It replaces a file of which a copy is kept in two steps: between them its path holds nothing.
    pub(super) two_steps: bool,
    /// Called before each read of a file's content: lets a test change the tree at an awkward moment.
    pub(super) before_read: Option<ReadHook>,
    /// Called before each operation: the same, at every step.
    pub(super) before_each: Option<StepHook>,
}

/// What is called before an operation: with its kind and the path it is about.
pub(super) type StepHook = Arc<dyn Fn(Operation, &RelPath) + Send + Sync>;

/// What is called before a read: with the file's path and the position in it.
pub(super) type ReadHook = Arc<dyn Fn(&RelPath, u64) + Send + Sync>;

impl Tree {
    pub(super) fn meta(&mut self, kind: EntryKind) -> Meta {
        self.next_id += 1;
        self.clock += 1;
        let clock = self.in_steps(Stamp::new(self.clock, 0));
        let id = reedhook_core::entry::FileId { device: 0, inode: self.next_id };
        let mode =
            Some(if kind == EntryKind::Folder { 0o755 } else { 0o644 }).filter(|_| kind != EntryKind::Link);
        Meta {
            kind,
            size: 0,
            modified: Some(clock),
            mode,
            unlisted: None,
            id: Some(id),
            target: None,
            extra: None,
            version: None,
        }
    }

    pub(super) fn fault(&mut self, operation: Operation, path: &RelPath, bytes: u64) -> Option<FaultKind> {
        let matching = |fault: &&mut Fault| {
            fault.operation.is_none_or(|wanted| wanted == operation)
                && fault.path.as_ref().is_none_or(|wanted| wanted == path)
                && bytes >= fault.after_bytes
                && fault.times != Some(0)
        };
        let fault = self.faults.iter_mut().find(matching)?;
        if fault.skip > 0 {
            fault.skip -= 1;
            return None;
        }
        fault.times = fault.times.map(|times| times - 1);
        Some(fault.kind)
    }

    /// A time as it is kept here.
    pub(super) fn in_steps(&self, time: Stamp) -> Stamp {
        match self.step {
            0 => time,
            step => Stamp::new(time.seconds().div_euclid(step) * step, 0),
        }
    }

    /// A path in the spelling that it has here.
    pub(super) fn real(&self, path: &RelPath) -> RelPath {
        if !self.folding.is_any() {
            return path.clone();
        }
        let parts = path.parts().filter_map(|part| Name::new(part).ok());
        parts.fold(RelPath::root(), |above, name| {
            let here = self.children(&above).filter_map(|(path, _)| path.split()).map(|(_, name)| name);
            let same = here.into_iter().find(|here| self.folding.is_same(here, &name));
            above.join(&same.unwrap_or(name))
        })
    }

    pub(super) fn used(&self) -> u64 {
        self.nodes.values().map(|node| node.meta.size).sum()
    }

    pub(super) fn children<'a>(
        &'a self,
        folder: &'a RelPath,
    ) -> impl Iterator<Item = (&'a RelPath, &'a Node)> {
        // A folder's content follows it directly in the order of paths.
        self.nodes
            .range(folder.clone()..)
            .skip(1)
            .take_while(move |(path, _)| path.is_within(folder))
            .filter(move |(path, _)| path.parent().as_ref() == Some(folder))
    }

    /// Fails unless the folder that is to hold a path exists and is one.
    pub(super) fn parent(&self, path: &RelPath, action: &'static str) -> Result<()> {
        let parent = path.parent().unwrap_or_default();
        match self.nodes.get(&parent).map(|node| node.meta.kind) {
            Some(EntryKind::Folder) => Ok(()),
            Some(EntryKind::Link) => Err(StoreError::new(FaultKind::LinkInPath, action, path)),
            _ => Err(StoreError::new(FaultKind::NotFound, action, path)),
        }
    }

    pub(super) fn expect(&self, path: &RelPath, expected: &Expect, action: &'static str) -> Result<()> {
        let as_expected = match (expected, self.nodes.get(path)) {
            (Expect::Absent, None) => true,
            (Expect::This(was), Some(node)) => is_still(was, &node.meta),
            _ => false,
        };
        if as_expected { Ok(()) } else { Err(StoreError::new(FaultKind::Changed, action, path)) }
    }

    pub(super) fn insert_part(&mut self, path: &RelPath, kind: EntryKind) -> Result<RelPath> {
        self.parent(path, "write")?;
        let mut meta = self.meta(kind);
        meta.mode = meta.mode.map(|_| 0o600);
        let part = [PART_PREFIX, format!("{:08x}", self.next_id).as_bytes()].concat();
        let name = Name::new(&part).map_err(|_| StoreError::new(FaultKind::NameRefused, "write", path))?;
        let temporary = path.parent().unwrap_or_default().join(&name);
        self.nodes.insert(temporary.clone(), Node { meta, content: Arc::default(), durable: false });
        Ok(temporary)
    }

    pub(super) fn apply(&mut self, path: &RelPath, attributes: &Attributes) {
        let modified = attributes.modified.map(|time| self.in_steps(time));
        if let Some(node) = self.nodes.get_mut(path) {
            node.meta.modified = modified.or(node.meta.modified);
            if node.meta.kind != EntryKind::Link {
                node.meta.mode = attributes.mode.or(node.meta.mode);
            }
        }
    }

    /// Moves a path and everything below it.
    pub(super) fn move_tree(&mut self, from: &RelPath, to: &RelPath) {
        let moving: Vec<RelPath> = self
            .nodes
            .range(from.clone()..)
            .map(|(path, _)| path.clone())
            .take_while(|path| path.is_within(from))
            .collect();
        for path in moving {
            if let (Some(node), Some(below)) = (self.nodes.remove(&path), path.below(from)) {
                self.nodes.insert(to.join_path(&below), node);
            }
        }
    }
}
