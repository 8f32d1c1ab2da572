//! A store in memory that fails on demand: for tests of everything that must survive failure.
//!
//! [`Fault`]s say which operation on which path fails, after how many bytes or calls, and how. [`SimulatedStore::power_cut`]
//! plays a power failure: names survive, but content that was not yet synced is lost, as real file systems may do.

mod handles;
pub(crate) mod tree;

pub use crate::simulated::tree::{Fault, Operation};

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use reedhook_core::entry::{Entry, EntryKind, Meta, Privileges, Stamp};
use reedhook_core::path::{Name, RelPath, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, Content, Disarmed, Expect, FaultKind, Folding, Limits, Listing, NameRule,
    Place, Publish, Result, Sealed, Space, Stage, Store, StoreError, StoreExt, Unknown, is_same,
};

use crate::simulated::handles::{SimulatedContent, SimulatedStage};
use crate::simulated::tree::{Node, Tree};

impl SimulatedStore {
    /// What had the name is kept or goes, and the new file gets it: in one step.
    fn replace(&self, sealed: &Sealed, how: &Publish) -> Result<()> {
        let mut tree = self.begin(Operation::Publish, "write", &sealed.target)?;
        let target = tree.real(&sealed.target);
        tree.expect(&target, &how.expect, "write")?;
        if let Some(keep_as) = &how.keep_as {
            let keep_as = tree.real(keep_as);
            tree.parent(&keep_as, "keep")?;
            tree.move_tree(&target, &keep_as);
        }
        tree.nodes.remove(&target);
        tree.move_tree(&sealed.temporary, &target);
        Ok(())
    }

    /// The old file is renamed away and looked at; then the new one gets the free name.
    fn replace_in_two_steps(&self, sealed: &Sealed, keep_as: &RelPath, was: &Meta) -> Result<()> {
        let changed = || StoreError::new(FaultKind::Changed, "write", &sealed.target);
        let target = {
            let mut tree = self.begin(Operation::Publish, "write", &sealed.target)?;
            let (target, keep_as) = (tree.real(&sealed.target), tree.real(keep_as));
            tree.parent(&keep_as, "keep")?;
            tree.expect(&target, &Expect::This(was.clone()), "write")?;
            tree.move_tree(&target, &keep_as);
            target
        };
        let mut tree = self.begin(Operation::Publish, "write", &sealed.target)?;
        let is_free = !tree.nodes.contains_key(&tree.real(&target));
        if !is_free || tree.parent(&target, "write").is_err() {
            return Err(changed());
        }
        tree.move_tree(&sealed.temporary, &target);
        Ok(())
    }
}

/// A store in memory. A clone is another handle on the same.
#[derive(Clone)]
pub struct SimulatedStore {
    label: String,
    capabilities: Capabilities,
    tree: Arc<Mutex<Tree>>,
    locked: Arc<AtomicBool>,
}

impl SimulatedStore {
    /// An empty store that can do everything a local disk can. The label tells stores apart.
    pub fn new(label: &str) -> SimulatedStore {
        let capabilities = Capabilities {
            names: NameRule::BYTES,
            remote: false,
            folder_times: true,
            time_precision: Some(Duration::from_nanos(1)),
            link_times: true,
            modes: true,
            links: true,
            rename: true,
            folding: Folding::NONE,
            max_name: 255,
            full: false,
            owners: false,
            batch_sync: true,
            workers: 2,
            holes: false,
            one_stream: false,
            limits: Limits::default(),
        };
        let store = SimulatedStore {
            label: label.to_owned(),
            capabilities,
            tree: Arc::default(),
            locked: Arc::default(),
        };
        let root =
            Node { meta: store.tree().meta(EntryKind::Folder), content: Arc::default(), durable: true };
        store.tree().nodes.insert(RelPath::root(), root);
        store
    }

    /// The same store with other capabilities.
    pub fn with_capabilities(mut self, change: impl FnOnce(&mut Capabilities)) -> SimulatedStore {
        change(&mut self.capabilities);
        let step = self.capabilities.time_precision.map_or(0, |step| step.as_secs());
        self.tree().step = i64::try_from(step).unwrap_or(0);
        self.tree().folding = self.capabilities.folding;
        self
    }

    /// The same store, without a way to let two files change places: a kept copy is made by a rename, and what is renamed is looked at
    /// then.
    pub fn without_exchange(self) -> SimulatedStore {
        self.tree().two_steps = true;
        self
    }

    /// Orders a failure.
    pub fn fail(&self, fault: Fault) {
        self.tree().faults.push(fault);
    }

    /// Takes all orders to fail back.
    pub fn heal(&self) {
        self.tree().faults.clear();
    }

    /// Makes every operation take this long.
    pub fn slow_down(&self, by: Duration) {
        self.tree().slowness = by;
    }

    /// Limits the bytes it can hold.
    pub fn set_capacity(&self, bytes: u64) {
        self.tree().capacity = Some(bytes);
    }

    /// Flips a bit of a file's content without changing its size or time, as a failing medium does.
    pub fn rot(&self, path: &RelPath) {
        if let Some(node) = self.tree().nodes.get_mut(path)
            && let Some(byte) = Arc::make_mut(&mut node.content).first_mut()
        {
            *byte ^= 1;
        }
    }

    /// From now on what is written arrives with a flipped bit.
    pub fn write_badly(&self) {
        self.tree().bad_writes = true;
    }

    /// Calls `hook` with path and position before each read of content.
    pub fn before_read(&self, hook: impl Fn(&RelPath, u64) + Send + Sync + 'static) {
        self.tree().before_read = Some(Arc::new(hook));
    }

    /// Calls `hook` before each operation. It may work on the tree; what it does there calls no hook.
    pub fn before_each(&self, hook: impl Fn(Operation, &RelPath) + Send + Sync + 'static) {
        self.tree().before_each = Some(Arc::new(hook));
    }

    /// Takes the hooks back.
    pub fn unhook(&self) {
        let mut tree = self.tree();
        (tree.before_each, tree.before_read) = (None, None);
    }

    /// Writes into a file as it stands, as a program does that has it open: it stays the same file.
    pub fn overwrite(&self, path: &RelPath, content: &[u8], modified: Stamp) {
        let mut tree = self.tree();
        let (path, modified) = (tree.real(path), tree.in_steps(modified));
        if let Some(node) = tree.nodes.get_mut(&path).filter(|node| node.meta.kind == EntryKind::File) {
            node.content = Arc::new(content.to_vec());
            node.meta.size = content.len() as u64;
            node.meta.modified = Some(modified);
            node.durable = false;
        }
    }

    /// A power failure: names survive, content that no sync has made durable is lost.
    pub fn power_cut(&self) {
        self.locked.store(false, Ordering::SeqCst);
        for node in self.tree().nodes.values_mut().filter(|node| !node.durable) {
            node.content = Arc::default();
            node.meta.size = 0;
        }
    }

    /// Every path but the root, with its content (a link's target, nothing for folders).
    pub fn snapshot(&self) -> BTreeMap<RelPath, (Meta, Vec<u8>)> {
        let tree = self.tree();
        let nodes = tree.nodes.iter().filter(|(path, _)| !path.is_root());
        nodes
            .map(|(path, node)| {
                let content =
                    node.meta.target.as_deref().map_or_else(|| node.content.to_vec(), <[u8]>::to_vec);
                (path.clone(), (node.meta.clone(), content))
            })
            .collect()
    }

    fn tree(&self) -> MutexGuard<'_, Tree> {
        self.tree.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What happens before each operation.
    fn step(&self, operation: Operation, path: &RelPath) {
        let slowness = self.tree().slowness;
        if !slowness.is_zero() {
            std::thread::sleep(slowness);
        }
        // Taken out while it is called, so that what it does calls no hook.
        let hook = self.tree().before_each.take();
        if let Some(hook) = hook {
            hook(operation, path);
            self.tree().before_each.get_or_insert(hook);
        }
    }

    /// Takes the tree for an operation, unless it has been told to fail.
    fn begin(
        &self,
        operation: Operation,
        action: &'static str,
        path: &RelPath,
    ) -> Result<MutexGuard<'_, Tree>> {
        self.step(operation, path);
        let mut tree = self.tree();
        match tree.fault(operation, path, 0) {
            Some(kind) => Err(StoreError::new(kind, action, path).because("a simulated fault")),
            None => Ok(tree),
        }
    }
}

impl Store for SimulatedStore {
    fn name(&self) -> String {
        format!("simulated {}", self.label)
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Elsewhere(self.label.clone())
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        let mut tree = self.begin(Operation::List, "list", folder)?;
        let folder = &tree.real(folder);
        match tree.nodes.get(folder) {
            Some(node) if node.meta.is_folder() => {}
            Some(_) => return Err(StoreError::new(FaultKind::LinkInPath, "list", folder)),
            None => return Err(StoreError::new(FaultKind::NotFound, "list", folder)),
        }
        let found: Vec<(RelPath, Meta)> =
            tree.children(folder).map(|(path, node)| (path.clone(), node.meta.clone())).collect();
        let mut listing = Listing::default();
        for (path, meta) in found {
            let Some((_, name)) = path.split() else { continue };
            match tree.fault(Operation::Examine, &path, 0) {
                Some(kind) => {
                    let error = StoreError::new(kind, "examine", &path);
                    listing.unknown.push(Unknown { name: Some(name), error });
                }
                None => listing.entries.push(Entry { name, meta }),
            }
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        self.step(Operation::Stat, path);
        let tree = self.tree();
        Ok(tree.nodes.get(&tree.real(path)).map(|node| node.meta.clone()))
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        let tree = self.begin(Operation::Open, "read", path)?;
        let path = &tree.real(path);
        tree.parent(path, "read")?;
        match tree.nodes.get(path) {
            Some(node) if node.meta.kind == EntryKind::File => Ok(Box::new(SimulatedContent {
                tree: self.tree.clone(),
                path: path.clone(),
                content: node.content.clone(),
                meta: node.meta.clone(),
                at: offset as usize,
            })),
            Some(_) => Err(StoreError::new(FaultKind::LinkInPath, "read", path)),
            None => Err(StoreError::new(FaultKind::NotFound, "read", path)),
        }
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.open(path, 0)
    }

    fn stage(&self, path: &RelPath, _: Option<u32>) -> Result<Box<dyn Stage>> {
        let mut tree = self.begin(Operation::Write, "write", path)?;
        let path = &tree.real(path);
        let temporary = tree.insert_part(path, EntryKind::File)?;
        Ok(Box::new(SimulatedStage {
            tree: self.tree.clone(),
            target: path.clone(),
            temporary,
            content: Vec::new(),
            left: Vec::new(),
            sealed: false,
        }))
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        _size: u64,
        _hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        let mut tree = self.begin(Operation::Write, "write", path)?;
        let path = &tree.real(path);
        tree.parent(path, "write")?;
        let name =
            Name::new(&part_name(key)).map_err(|_| StoreError::new(FaultKind::NameRefused, "write", path))?;
        let temporary = path.parent().unwrap_or_default().join(&name);
        let left = tree.nodes.get(&temporary).map(|node| node.content.to_vec()).unwrap_or_default();
        let mut meta = tree.meta(EntryKind::File);
        meta.mode = Some(0o600);
        tree.nodes.insert(temporary.clone(), Node { meta, content: Arc::default(), durable: false });
        let (target, tree) = (path.clone(), self.tree.clone());
        Ok(Box::new(SimulatedStage { tree, target, temporary, content: Vec::new(), left, sealed: false }))
    }

    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed> {
        if !self.capabilities.links {
            return Err(StoreError::new(FaultKind::Unsupported, "make link", path));
        }
        let mut tree = self.begin(Operation::Write, "make link", path)?;
        let path = &tree.real(path);
        let temporary = tree.insert_part(path, EntryKind::Link)?;
        if let Some(node) = tree.nodes.get_mut(&temporary) {
            node.meta.target = Some(target.into());
            node.durable = true;
        }
        tree.apply(&temporary, attributes);
        Ok(Sealed { target: path.clone(), temporary })
    }

    fn stage_special(&self, path: &RelPath, _from: &Meta, _attributes: &Attributes) -> Result<Sealed> {
        Err(StoreError::new(FaultKind::Unsupported, "make special file", path))
    }

    fn stage_second_name(&self, path: &RelPath, _existing: &RelPath) -> Result<Sealed> {
        Err(StoreError::new(FaultKind::Unsupported, "make second name", path))
    }

    fn sync(&self) -> Result<()> {
        let mut tree = self.begin(Operation::Sync, "make durable", &RelPath::root())?;
        tree.nodes.values_mut().for_each(|node| node.durable = true);
        Ok(())
    }

    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<Disarmed> {
        let outcome = match (&how.keep_as, &how.expect) {
            (Some(keep_as), Expect::This(was)) if self.tree().two_steps => {
                self.replace_in_two_steps(&sealed, keep_as, was)
            }
            _ => self.replace(&sealed, how),
        };
        let outcome = outcome.map(|()| None);
        if outcome.is_err() {
            self.discard(sealed);
        }
        outcome
    }

    fn keep(&self, path: &RelPath, to: &RelPath, expected: &Meta) -> Result<Disarmed> {
        self.rename_this(path, to, expected).map(|()| None)
    }

    fn rearm(&self, path: &RelPath, _expected: &Meta, _privileges: &Privileges) -> Result<bool> {
        Err(StoreError::new(FaultKind::Unsupported, "set time or mode of", path))
    }

    fn discard(&self, sealed: Sealed) {
        self.tree().nodes.remove(&sealed.temporary);
    }

    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let mut tree = self.begin(Operation::Remove, "remove", path)?;
        let path = &tree.real(path);
        tree.expect(path, &Expect::This(expected.clone()), "remove")?;
        tree.nodes.remove(path);
        Ok(())
    }

    fn trash(&self, path: &RelPath, _expected: &Meta) -> Result<()> {
        Err(StoreError::new(FaultKind::Unsupported, "move to the trash", path))
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let mut tree = self.begin(Operation::Remove, "remove folder", path)?;
        let path = &tree.real(path);
        if !tree.nodes.get(path).is_some_and(|node| node.meta.is_folder()) {
            return Err(StoreError::new(FaultKind::NotFound, "remove folder", path));
        }
        if tree.children(path).next().is_some() {
            return Err(StoreError::new(FaultKind::NotEmpty, "remove folder", path));
        }
        tree.nodes.remove(path);
        Ok(())
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        if !self.capabilities.rename {
            return Err(StoreError::new(FaultKind::Unsupported, "rename", from));
        }
        let mut tree = self.begin(Operation::Rename, "rename", from)?;
        let from = &tree.real(from);
        let (there, name) = (tree.real(to), to.split().map(|(_, name)| name));
        let to = &match (there.parent(), name) {
            (Some(parent), Some(name)) => parent.join(&name),
            _ => there.clone(),
        };
        tree.parent(to, "rename")?;
        if !tree.nodes.contains_key(from) {
            return Err(StoreError::new(FaultKind::NotFound, "rename", from));
        }
        // Its own other spelling is not in its way.
        if tree.nodes.contains_key(&there) && there != *from {
            return Err(StoreError::new(FaultKind::Exists, "rename", from));
        }
        tree.move_tree(from, to);
        Ok(())
    }

    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<Meta> {
        let mut tree = self.begin(Operation::MakeFolder, "make folder", path)?;
        let path = &tree.real(path);
        tree.parent(path, "make folder")?;
        if tree.nodes.contains_key(path) {
            return Err(StoreError::new(FaultKind::Exists, "make folder", path));
        }
        let meta = tree.meta(EntryKind::Folder);
        let made = meta.clone();
        tree.nodes.insert(path.clone(), Node { meta, content: Arc::default(), durable: true });
        tree.apply(path, attributes);
        Ok(made)
    }

    fn set_attributes(&self, path: &RelPath, expected: &Meta, attributes: &Attributes) -> Result<()> {
        if self.capabilities.time_precision.is_none() && attributes.modified.is_some() {
            return Err(StoreError::new(FaultKind::Unsupported, "set time or mode of", path));
        }
        let mut tree = self.begin(Operation::Adjust, "set time or mode of", path)?;
        let path = &tree.real(path);
        match tree.nodes.get(path) {
            Some(node) if is_same(expected, &node.meta) => {}
            Some(_) => return Err(StoreError::new(FaultKind::Changed, "set time or mode of", path)),
            None => return Err(StoreError::new(FaultKind::NotFound, "set time or mode of", path)),
        }
        tree.apply(path, attributes);
        Ok(())
    }

    fn is_pseudo(&self, _folder: &RelPath) -> Result<bool> {
        Ok(false)
    }

    fn space(&self) -> Result<Option<Space>> {
        let tree = self.tree();
        Ok(tree.capacity.map(|total| Space { free: total.saturating_sub(tree.used()), total }))
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        struct Held(Arc<AtomicBool>);
        impl Drop for Held {
            fn drop(&mut self) {
                self.0.store(false, Ordering::SeqCst);
            }
        }
        if self.locked.swap(true, Ordering::SeqCst) {
            return Err(StoreError::new(FaultKind::InUse, "lock", &RelPath::root()));
        }
        Ok(Box::new(Held(self.locked.clone())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{conformance, get, path, put};

    #[test]
    fn conforms_with_and_without_capabilities() {
        conformance(&SimulatedStore::new("whole"));
        conformance(&SimulatedStore::new("plain").with_capabilities(|can| {
            can.links = false;
            can.modes = false;
            can.time_precision = None;
            can.rename = false;
            can.max_name = 40;
        }));
    }

    #[test]
    fn faults_come_where_and_as_often_as_ordered() {
        let store = SimulatedStore::new("faulty");
        put(&store, "a", &[7; 5000], 1);
        store.fail(Fault {
            after_bytes: 3000,
            ..Fault::new(Operation::Read, Some(&path("a")), FaultKind::Io)
        });
        let mut bytes = Vec::new();
        assert!(store.open(&path("a"), 0).unwrap().read_to_end(&mut bytes).is_err());
        assert_eq!(bytes.len(), 3072);
        store.heal();
        store.fail(Fault { times: Some(1), ..Fault::new(Operation::Open, None, FaultKind::Denied) });
        assert!(store.open(&path("a"), 0).is_err());
        assert_eq!(get(&store, "a").len(), 5000);
    }

    #[test]
    fn a_power_cut_takes_what_was_not_synced() {
        let store = SimulatedStore::new("power");
        put(&store, "durable", b"1", 1);
        store.sync().unwrap();
        put(&store, "fresh", b"2", 1);
        store.power_cut();
        assert_eq!((get(&store, "durable"), get(&store, "fresh")), (b"1".to_vec(), b"".to_vec()));
    }
}
