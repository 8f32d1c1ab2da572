//! Several folders, each from a store of its own, shown as one tree to read from.
//!
//! A job with several sources lands each in its own folder; this is that tree. Without any member it is an empty folder:
//! what a destination that does not exist yet looks like to a preview. Nothing can be written.

use std::sync::Arc;

use reedhook_core::entry::{Entry, EntryKind, Meta, Privileges, Stamp};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, Content, Disarmed, FaultKind, Listing, Place, Publish, Result, Sealed, Space,
    Stage, Store, StoreError,
};

/// Stores as the folders of one root.
pub struct Union {
    members: Vec<(Name, Arc<dyn Store>)>,
    capabilities: Capabilities,
    /// What is free where an empty folder is going to be made.
    space: Option<Space>,
}

impl Union {
    /// A tree with these folders; the names differ. What it can hold is what its least able member can.
    ///
    /// Returns `None` without members.
    pub fn new(members: Vec<(Name, Arc<dyn Store>)>) -> Option<Union> {
        let each = members.iter().map(|(_, store)| store.capabilities().clone());
        let capabilities = each.reduce(Capabilities::least)?;
        Some(Union { members, capabilities, space: None })
    }

    /// An empty folder that could hold what a store with these capabilities can, and has so much space.
    pub fn empty(capabilities: Capabilities, space: Option<Space>) -> Union {
        Union { members: Vec::new(), capabilities, space }
    }

    /// The member that a path leads to, and the path in it; `None` for the root.
    fn member(&self, path: &RelPath, action: &'static str) -> Result<Option<(&Arc<dyn Store>, RelPath)>> {
        let Some(first) = path.parts().next() else { return Ok(None) };
        let missing = || StoreError::new(FaultKind::NotFound, action, path);
        let (name, store) =
            self.members.iter().find(|(name, _)| name.as_bytes() == first).ok_or_else(missing)?;
        let below = path.below(&RelPath::from(name)).ok_or_else(missing)?;
        Ok(Some((store, below)))
    }

    fn refuse<T>(action: &'static str, path: &RelPath) -> Result<T> {
        Err(StoreError::new(FaultKind::Unsupported, action, path))
    }

    /// An error of a member, with the path as it is in this tree.
    fn from_member(path: &RelPath) -> impl Fn(StoreError) -> StoreError {
        let path = path.clone();
        move |error| StoreError { path: path.clone(), ..error }
    }
}

fn root() -> Meta {
    Meta::bare(EntryKind::Folder)
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Store for Union {
    fn name(&self) -> String {
        self.members.iter().map(|(_, store)| store.name()).collect::<Vec<_>>().join(", ")
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Elsewhere(format!("gathered: {}", self.name()))
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        if let Some((store, below)) = self.member(folder, "list")? {
            let mut listing = store.list(&below).map_err(Self::from_member(folder))?;
            for unknown in &mut listing.unknown {
                let path = unknown.name.as_ref().map_or_else(|| folder.clone(), |name| folder.join(name));
                unknown.error.path = path;
            }
            return Ok(listing);
        }
        let mut listing = Listing::default();
        for (name, store) in &self.members {
            if let Some(meta) = store.stat(&RelPath::root())? {
                listing.entries.push(Entry { name: name.clone(), meta });
            }
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        match self.member(path, "examine") {
            Ok(Some((store, below))) => store.stat(&below).map_err(Self::from_member(path)),
            Ok(None) => Ok(Some(root())),
            Err(_) => Ok(None),
        }
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        match self.member(path, "read")? {
            Some((store, below)) => store.open(&below, offset).map_err(Self::from_member(path)),
            None => Self::refuse("read", path),
        }
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        match self.member(path, "read")? {
            Some((store, below)) => store.open_planned(&below).map_err(Self::from_member(path)),
            None => Self::refuse("read", path),
        }
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        match self.member(path, "read")? {
            Some((store, below)) => store.open_fresh(&below).map_err(Self::from_member(path)),
            None => Self::refuse("read", path),
        }
    }

    fn proved(&self, path: &RelPath, shown: &Meta) {
        if let Ok(Some((store, below))) = self.member(path, "examine") {
            store.proved(&below, shown);
        }
    }

    fn stage(&self, path: &RelPath, _: Option<u32>) -> Result<Box<dyn Stage>> {
        Self::refuse("write", path)
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        _key: &str,
        _size: u64,
        _hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        Self::refuse("write", path)
    }

    fn stage_link(&self, path: &RelPath, _target: &[u8], _attributes: &Attributes) -> Result<Sealed> {
        Self::refuse("make link", path)
    }

    fn stage_special(&self, path: &RelPath, _from: &Meta, _attributes: &Attributes) -> Result<Sealed> {
        Self::refuse("make special file", path)
    }

    fn stage_second_name(&self, path: &RelPath, _existing: &RelPath) -> Result<Sealed> {
        Self::refuse("make second name", path)
    }

    fn sync(&self) -> Result<()> {
        Ok(())
    }

    fn publish(&self, sealed: Sealed, _how: &Publish) -> Result<Disarmed> {
        Self::refuse("write", &sealed.target)
    }

    fn keep(&self, path: &RelPath, _to: &RelPath, _expected: &Meta) -> Result<Disarmed> {
        Self::refuse("keep", path)
    }

    fn rearm(&self, path: &RelPath, _expected: &Meta, _privileges: &Privileges) -> Result<bool> {
        Self::refuse("set time or mode of", path)
    }

    fn discard(&self, _sealed: Sealed) {}

    fn remove(&self, path: &RelPath, _expected: &Meta) -> Result<()> {
        Self::refuse("remove", path)
    }

    fn trash(&self, path: &RelPath, _expected: &Meta) -> Result<()> {
        Self::refuse("move to the trash", path)
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        Self::refuse("remove folder", path)
    }

    fn rename(&self, from: &RelPath, _to: &RelPath) -> Result<()> {
        Self::refuse("rename", from)
    }

    fn make_folder(&self, path: &RelPath, _attributes: &Attributes) -> Result<Meta> {
        Self::refuse("make folder", path)
    }

    fn set_attributes(&self, path: &RelPath, _: &Meta, _: &Attributes) -> Result<()> {
        Self::refuse("set time or mode of", path)
    }

    fn is_pseudo(&self, folder: &RelPath) -> Result<bool> {
        match self.member(folder, "examine")? {
            Some((store, below)) => store.is_pseudo(&below),
            None => Ok(false),
        }
    }

    fn touched(&self, path: &RelPath) -> Result<Option<Stamp>> {
        match self.member(path, "read")? {
            Some((store, below)) => store.touched(&below).map_err(Self::from_member(path)),
            None => Ok(None),
        }
    }

    fn data_bytes(&self, path: &RelPath) -> Result<Option<u64>> {
        match self.member(path, "read")? {
            Some((store, below)) => store.data_bytes(&below).map_err(Self::from_member(path)),
            None => Ok(None),
        }
    }

    fn space(&self) -> Result<Option<Space>> {
        Ok(self.space)
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        Self::refuse("lock", &RelPath::root())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use reedhook_testing::simulated::SimulatedStore;
    use reedhook_testing::{get, names, path, put};

    #[test]
    fn members_appear_as_folders_and_nothing_can_be_written() {
        let (counts, maps) = (Arc::new(SimulatedStore::new("counts")), Arc::new(SimulatedStore::new("maps")));
        put(counts.as_ref(), "north/a.csv", b"1", 1);
        put(maps.as_ref(), "path.svg", b"2", 1);
        let name = |text: &str| Name::new(text.as_bytes()).unwrap();
        let tree = Union::new(vec![(name("counts"), counts), (name("maps"), maps)]).unwrap();
        assert_eq!(names(&tree, ""), ["counts", "maps"]);
        assert_eq!(names(&tree, "counts/north"), ["a.csv"]);
        assert_eq!(get(&tree, "maps/path.svg"), b"2");
        assert_eq!(tree.stat(&path("rota")).unwrap(), None);
        assert_eq!(tree.list(&path("rota")).unwrap_err().kind, FaultKind::NotFound);
        assert_eq!(tree.stage(&path("counts/b"), None).map(drop).unwrap_err().kind, FaultKind::Unsupported);
        let empty = Union::empty(tree.capabilities().clone(), None);
        assert_eq!(names(&empty, ""), Vec::<String>::new());
    }
}
