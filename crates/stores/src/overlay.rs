//! Several trees laid over each other, shown as one to read from: at each path the uppermost tree that has something there is seen.
//!
//! A restore reads from such a tree: what stands at the other side lies on top, below it what runs have kept, the newest first. So
//! of each file the newest version there is comes back. Folders of several trees are shown as one; where an upper tree has a file,
//! what lower ones have in a folder of that name is hidden. Nothing can be written.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::Read;
use std::sync::Arc;

use reedhook_core::entry::{CAPABILITY, Entry, EntryKind, Extra, Meta, Privileges, SPECIAL_BITS, Stamp};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, Content, FaultKind, Listing, Place, Publish, Result, Sealed, Space, Stage,
    Store, StoreError,
};

/// A tree among others.
#[derive(Clone)]
pub struct Layer {
    /// The store that it is in.
    pub store: Arc<dyn Store>,
    /// The folder of that store which is its root.
    pub root: RelPath,
    /// What was taken from files in it when they were kept: shown as if it were still there, on files of the same owner.
    pub taken: Arc<HashMap<RelPath, Privileges>>,
}

impl Layer {
    /// A tree of which nothing is noted.
    pub fn new(store: Arc<dyn Store>, root: RelPath) -> Layer {
        Layer { store, root, taken: Arc::default() }
    }

    fn shown(&self, path: &RelPath, meta: Meta) -> Meta {
        match self.taken.get(path) {
            Some(taken) if meta.kind == EntryKind::File => with_privileges(meta, taken),
            _ => meta,
        }
    }
}

/// An entry with what was taken from it, if it still belongs to the same owner and group.
fn with_privileges(mut meta: Meta, taken: &Privileges) -> Meta {
    let same = |extra: &&Arc<Extra>| (extra.owner, extra.group) == (taken.owner, taken.group);
    let Some(extra) = meta.extra.as_ref().filter(same) else { return meta };
    meta.mode = meta.mode.map(|mode| mode | taken.mode & SPECIAL_BITS);
    if let Some(value) = &taken.capability {
        let mut extra = extra.without_capability();
        extra.attributes.push((CAPABILITY.to_vec(), value.clone()));
        extra.attributes.sort();
        meta.extra = Some(Arc::new(extra));
    }
    meta
}

/// A file that is shown with what was taken from it.
struct Rearmed {
    inner: Box<dyn Content>,
    taken: Privileges,
}

impl Read for Rearmed {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.inner.read(buffer)
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Content for Rearmed {
    fn meta(&mut self) -> Result<Meta> {
        self.inner.meta().map(|meta| with_privileges(meta, &self.taken))
    }

    fn as_file(&self) -> Option<&File> {
        self.inner.as_file()
    }

    fn skip_hole(&mut self) -> std::io::Result<u64> {
        self.inner.skip_hole()
    }
}

/// Trees laid over each other, the uppermost first.
pub struct Overlay {
    layers: Vec<Layer>,
    capabilities: Capabilities,
}

impl Overlay {
    /// The trees as one; `None` without any. What it can hold is what its least able member can.
    pub fn new(layers: Vec<Layer>) -> Option<Overlay> {
        let each = layers.iter().map(|layer| layer.store.capabilities().clone());
        let capabilities = each.reduce(Capabilities::least)?;
        Some(Overlay { layers, capabilities })
    }

    /// What each layer has at a path, from the top; layers below one that has no folder on the way are not looked into.
    fn found(&self, path: &RelPath) -> Result<Vec<(&Layer, Meta)>> {
        let mut found = Vec::new();
        for layer in &self.layers {
            match layer.store.stat(&layer.root.join_path(path)) {
                Ok(Some(meta)) => {
                    let ends = !meta.is_folder();
                    found.push((layer, layer.shown(path, meta)));
                    if ends {
                        break;
                    }
                }
                Ok(None) => {
                    if self.is_blocked(layer, path)? {
                        break;
                    }
                }
                Err(error) if matches!(error.kind, FaultKind::NotFound | FaultKind::LinkInPath) => {
                    if self.is_blocked(layer, path)? {
                        break;
                    }
                }
                Err(error) => return Err(StoreError { path: path.clone(), ..error }),
            }
        }
        Ok(found)
    }

    /// Whether a layer has something that is no folder on the way to a path.
    fn is_blocked(&self, layer: &Layer, path: &RelPath) -> Result<bool> {
        let mut above = path.parent();
        while let Some(folder) = above.filter(|folder| !folder.is_root()) {
            match layer.store.stat(&layer.root.join_path(&folder)) {
                Ok(Some(meta)) => return Ok(!meta.is_folder()),
                Ok(None) => {}
                Err(error) if matches!(error.kind, FaultKind::NotFound | FaultKind::LinkInPath) => {}
                Err(error) => return Err(StoreError { path: path.clone(), ..error }),
            }
            above = folder.parent();
        }
        Ok(false)
    }

    /// The uppermost tree that has something at a path, and the path in its store.
    fn top(&self, path: &RelPath, action: &'static str) -> Result<(&Layer, RelPath)> {
        let found = self.found(path)?.into_iter().next();
        let (layer, _) = found.ok_or_else(|| StoreError::new(FaultKind::NotFound, action, path))?;
        Ok((layer, layer.root.join_path(path)))
    }

    /// Opens a file of the uppermost tree that has one.
    fn open_with(
        &self,
        path: &RelPath,
        open: impl FnOnce(&dyn Store, &RelPath) -> Result<Box<dyn Content>>,
    ) -> Result<Box<dyn Content>> {
        let (layer, below) = self.top(path, "read")?;
        let inner = open(layer.store.as_ref(), &below)?;
        match layer.taken.get(path) {
            Some(taken) => Ok(Box::new(Rearmed { inner, taken: taken.clone() })),
            None => Ok(inner),
        }
    }

    /// Which tree is seen at a path, counted from the top.
    pub fn layer_of(&self, path: &RelPath) -> Option<usize> {
        let found = self.found(path).ok()?;
        let (top, _) = found.first()?;
        self.layers.iter().position(|layer| std::ptr::eq(layer, *top))
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Store for Overlay {
    fn name(&self) -> String {
        self.layers.first().map(|layer| layer.store.name()).unwrap_or_default()
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Elsewhere(format!("layered: {}", self.name()))
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        let mut entries: BTreeMap<Name, Meta> = BTreeMap::new();
        let mut listing = Listing::default();
        let found = self.found(folder)?;
        if found.is_empty() && !folder.is_root() {
            return Err(StoreError::new(FaultKind::NotFound, "list", folder));
        }
        for (layer, meta) in found {
            if !meta.is_folder() {
                return Err(StoreError::new(FaultKind::Unsupported, "list", folder));
            }
            let below = layer.store.list(&layer.root.join_path(folder));
            let below = below.map_err(|error| StoreError { path: folder.clone(), ..error })?;
            for Entry { name, meta } in below.entries {
                entries.entry(name).or_insert_with_key(|name| layer.shown(&folder.join(name), meta));
            }
            listing.unknown.extend(below.unknown);
        }
        listing.entries = entries.into_iter().map(|(name, meta)| Entry { name, meta }).collect();
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        Ok(self.found(path)?.into_iter().next().map(|(_, meta)| meta))
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        self.open_with(path, |store, path| store.open(path, offset))
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.open_with(path, |store, path| store.open_fresh(path))
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        self.open_with(path, |store, path| store.open_planned(path))
    }

    fn proved(&self, path: &RelPath, shown: &Meta) {
        if let Ok((layer, path)) = self.top(path, "examine") {
            layer.store.proved(&path, shown);
        }
    }

    reedhook_core::nothing_is_written!();

    fn is_pseudo(&self, folder: &RelPath) -> Result<bool> {
        let (layer, path) = self.top(folder, "examine")?;
        layer.store.is_pseudo(&path)
    }

    fn touched(&self, path: &RelPath) -> Result<Option<Stamp>> {
        let (layer, path) = self.top(path, "read")?;
        layer.store.touched(&path)
    }

    fn data_bytes(&self, path: &RelPath) -> Result<Option<u64>> {
        let (layer, path) = self.top(path, "read")?;
        layer.store.data_bytes(&path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::simulated::SimulatedStore;
    use reedhook_testing::{get, names, path, put};

    #[test]
    fn of_each_path_the_uppermost_tree_is_seen() {
        let (now, kept) = (Arc::new(SimulatedStore::new("now")), Arc::new(SimulatedStore::new("kept")));
        put(now.as_ref(), "a/both", b"new", 3);
        put(now.as_ref(), "file", b"a file now", 3);
        put(kept.as_ref(), "run2/a/both", b"old", 2);
        put(kept.as_ref(), "run2/a/gone", b"2", 2);
        put(kept.as_ref(), "run1/a/gone", b"1", 1);
        put(kept.as_ref(), "run1/a/deep/older", b"1", 1);
        put(kept.as_ref(), "run1/file/inside", b"hidden", 1);
        let layer = |store: &Arc<SimulatedStore>, root: &str| Layer::new(store.clone(), path(root));
        let tree = Overlay::new(vec![layer(&now, ""), layer(&kept, "run2"), layer(&kept, "run1")]).unwrap();
        assert_eq!(names(&tree, ""), ["a", "file"]);
        assert_eq!(names(&tree, "a"), ["both", "deep", "gone"]);
        assert_eq!((get(&tree, "a/both"), get(&tree, "a/gone")), (b"new".to_vec(), b"2".to_vec()));
        assert_eq!(get(&tree, "a/deep/older"), b"1");
        assert_eq!(tree.stat(&path("file/inside")).unwrap(), None, "a file stands there now");
        assert_eq!(tree.list(&path("none")).unwrap_err().kind, FaultKind::NotFound);
        assert_eq!(tree.stage(&path("b"), None).map(drop).unwrap_err().kind, FaultKind::Unsupported);
    }
}
