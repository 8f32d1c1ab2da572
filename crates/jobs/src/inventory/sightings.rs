//! What inventories know of something that is asked for while its store is away. A help, and no more: what cannot be read is not known.

use std::ops::ControlFlow;

use memchr::memmem;
use reedhook_core::entry::EntryKind;
use reedhook_core::path::RelPath;
use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, Inventory, InventoryMeta, each_name};

use super::is_connected;
use crate::desk::Desk;
use crate::inventory::files::open;
use crate::places::Located;

/// That a store had something when it was last seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sighting {
    /// The inventory that knows it.
    pub inventory: Inventory,
    /// Where in the store.
    pub path: Vec<u8>,
    /// What it was.
    pub meta: InventoryMeta,
}

/// What places had at a path when they were last seen, as far as they are not there now.
pub fn at_places(desk: &Desk, places: &[Located], path: &RelPath) -> Vec<Sighting> {
    let look = || -> Result<Vec<Sighting>, RecordError> {
        let Ok(all) = open(&desk.home) else { return Ok(Vec::new()) };
        let known = all.list()?;
        let mut found = Vec::new();
        for place in places.iter().filter(|place| !place.seems_there()) {
            for inventory in &known {
                let Some(below) = within(place, inventory) else { continue };
                let at = below.join_path(path);
                let meta = entry(&all, inventory.id, &at)?;
                found.extend(meta.map(|meta| {
                    let path = at.as_bytes().to_vec();
                    Sighting { inventory: inventory.clone(), path, meta }
                }));
            }
        }
        Ok(found)
    };
    look().unwrap_or_default()
}

/// The inventory that knows what a place held, and where in it the place is.
pub fn of_place(desk: &Desk, place: &Located) -> Option<(Inventory, RelPath)> {
    let known = open(&desk.home).ok()?.list().ok()?;
    known.into_iter().find_map(|inventory| within(place, &inventory).map(|below| (inventory, below)))
}

/// So many files of one name, wherever they were; those first whose stores are away.
pub fn of_name(desk: &Desk, name: &[u8], most: usize) -> Vec<Sighting> {
    let look = || -> Result<Vec<Sighting>, RecordError> {
        let Ok(all) = open(&desk.home) else { return Ok(Vec::new()) };
        let mut known: Vec<(bool, Inventory)> =
            all.list()?.into_iter().map(|one| (is_connected(desk, &one), one)).collect();
        known.sort_by_key(|(connected, _)| *connected);
        let finder = memmem::Finder::new(name);
        let mut found = Vec::new();
        for (_, inventory) in &known {
            if found.len() >= most {
                break;
            }
            all.each_folder(inventory.id, &mut |row| {
                if finder.find(row.names).is_none() {
                    return Ok(ControlFlow::Continue(()));
                }
                let Some(at) = each_name(row.names).position(|one| one == name) else {
                    return Ok(ControlFlow::Continue(()));
                };
                let meta = row.metas()?.get(at).copied();
                let path = if row.path.is_empty() { name.to_vec() } else { [row.path, b"/", name].concat() };
                if let Some(meta) = meta.filter(|meta| meta.kind() != EntryKind::Folder) {
                    found.push(Sighting { inventory: inventory.clone(), path, meta });
                }
                Ok(if found.len() < most { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
            })?;
        }
        Ok(found)
    };
    look().unwrap_or_default()
}

/// Where in the store of an inventory a place is; `None` when it is not in it.
fn within(place: &Located, inventory: &Inventory) -> Option<RelPath> {
    let about = &inventory.about;
    let below = |whole: &str, top: &str| {
        let rest = whole.strip_prefix(top.trim_end_matches('/'))?;
        (rest.is_empty() || rest.starts_with('/')).then(|| rest.trim_matches('/').to_owned())
    };
    let named = (!about.place.is_empty()).then(|| below(&place.written, &about.place)).flatten();
    // However it is written, it is the folder that the inventory was taken of.
    let located =
        || (!about.location.is_empty()).then(|| below(&place.location(), &about.location)).flatten();
    RelPath::new(named.or_else(located)?.as_bytes()).ok()
}

fn entry(all: &Inventories, inventory: i64, path: &RelPath) -> Result<Option<InventoryMeta>, RecordError> {
    let Some((folder, name)) = path.split() else { return Ok(None) };
    let held = all.folder(inventory, folder.as_bytes())?.unwrap_or_default();
    Ok(held.into_iter().find(|one| one.name == name.as_bytes()).map(|one| one.meta))
}
