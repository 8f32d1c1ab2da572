//! An inventory as a tree to be compared with: it lists and describes what its store held, has no content, and takes nothing.

use std::ops::ControlFlow;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use reedhook_core::entry::{Entry, EntryKind, Meta, Stamp};
use reedhook_core::names::{Folding, NameRule};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, Content, FaultKind, Limits, Listing, Place, Publish, Result, Sealed, Space,
    Stage, Store, StoreError,
};
use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, Inventory, InventoryEntry, InventoryMeta};

use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::inventory::files::{failed, named, open};

/// Fewer times than these are even by chance.
const ENOUGH_TIMES: u64 = 12;

/// What a store held, as a store.
pub struct InventoryTree {
    all: Mutex<Inventories>,
    inventory: Inventory,
    root: RelPath,
    capabilities: Capabilities,
}

impl InventoryTree {
    /// What an inventory has in a folder.
    ///
    /// # Errors
    /// When there is no such inventory, or no such folder in it.
    pub fn open(desk: &Desk, name: &str, root: &RelPath) -> Outcome<InventoryTree> {
        let all = open(&desk.home)?;
        let inventory = named(&desk.home, &all, name)?;
        let told = |error| failed(&desk.home, error);
        if all.folder(inventory.id, root.as_bytes()).map_err(told)?.is_none() {
            return Err(Failure::usage(format!("the inventory {name} has no folder {root}"))
                .hint(format!("Find it with: reedhook inventory find WORD --in {name}")));
        }
        let time_precision = step_of_times(&all, inventory.id).map_err(told)?;
        let capabilities = Capabilities {
            time_precision,
            link_times: false,
            folder_times: false,
            modes: false,
            links: true,
            rename: false,
            folding: Folding { case: false, forms: false },
            max_name: 255,
            full: false,
            owners: false,
            batch_sync: false,
            workers: 1,
            names: NameRule::BYTES,
            remote: false,
            holes: false,
            one_stream: false,
            limits: Limits::NONE,
        };
        Ok(InventoryTree { all: Mutex::new(all), inventory, root: root.clone(), capabilities })
    }

    fn all(&self) -> MutexGuard<'_, Inventories> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn held(&self, folder: &RelPath) -> Result<Option<Vec<InventoryEntry>>> {
        let path = self.root.join_path(folder);
        let held = self.all().folder(self.inventory.id, path.as_bytes());
        held.map_err(|error| {
            StoreError::new(FaultKind::Io, "list", folder)
                .because(format!("the file of inventories {}", error.told()))
        })
    }

    fn no_content(path: &RelPath) -> StoreError {
        StoreError::new(FaultKind::Unsupported, "read", path)
            .because("an inventory knows what there was, and has none of it")
    }
}

/// The steps in which the store kept its times, as far as they show that; `None` where it had none.
fn step_of_times(all: &Inventories, inventory: i64) -> std::result::Result<Option<Duration>, RecordError> {
    const FINE: [u32; 3] = [1, 100, 1_000];
    let (mut times, mut odd, mut finest) = (0_u64, false, None);
    all.each_folder(inventory, &mut |row| {
        for time in row.metas()?.iter().filter(|meta| is_file(meta)).filter_map(InventoryMeta::modified) {
            times += 1;
            odd |= time.seconds() % 2 != 0;
            if time.nanos() != 0 {
                let step = FINE.into_iter().rev().find(|step| time.nanos() % step == 0).unwrap_or(1);
                finest = Some(finest.map_or(step, |known: u32| known.min(step)));
            }
        }
        Ok(if finest == Some(1) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    })?;
    Ok(match (times, finest) {
        (0, _) => None,
        (_, Some(nanos)) => Some(Duration::from_nanos(nanos.into())),
        (_, None) if odd || times < ENOUGH_TIMES => Some(Duration::from_secs(1)),
        (_, None) => Some(Duration::from_secs(2)),
    })
}

fn is_file(meta: &InventoryMeta) -> bool {
    meta.kind() == EntryKind::File
}

fn meta_of(held: &InventoryMeta) -> Meta {
    let modified: Option<Stamp> = held.modified();
    Meta { size: held.size, modified, ..Meta::bare(held.kind()) }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Store for InventoryTree {
    fn name(&self) -> String {
        format!("inventory:{}", self.inventory.about.name)
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Elsewhere(self.name())
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        let held = self.held(folder)?.ok_or_else(|| StoreError::new(FaultKind::NotFound, "list", folder))?;
        let entries = held.into_iter().filter_map(|one| {
            let name = Name::new(&one.name).ok()?;
            Some(Entry { name, meta: meta_of(&one.meta) })
        });
        Ok(Listing { entries: entries.collect(), ..Listing::default() })
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        let Some((folder, name)) = path.split() else { return Ok(Some(Meta::bare(EntryKind::Folder))) };
        let held = self.held(&folder)?.unwrap_or_default();
        Ok(held.iter().find(|one| one.name == name.as_bytes()).map(|one| meta_of(&one.meta)))
    }

    fn open(&self, path: &RelPath, _: u64) -> Result<Box<dyn Content>> {
        Err(Self::no_content(path))
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        Err(Self::no_content(path))
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        Err(Self::no_content(path))
    }

    fn proved(&self, _: &RelPath, _: &Meta) {}

    reedhook_core::nothing_is_written!();

    fn is_pseudo(&self, _: &RelPath) -> Result<bool> {
        Ok(false)
    }

    fn touched(&self, _: &RelPath) -> Result<Option<Stamp>> {
        Ok(None)
    }

    fn data_bytes(&self, _: &RelPath) -> Result<Option<u64>> {
        Ok(None)
    }
}
