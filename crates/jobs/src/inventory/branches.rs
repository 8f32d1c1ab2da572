//! What an inventory has in a folder, with what lies below each of its folders.

use std::collections::HashMap;
use std::ops::ControlFlow;

use reedhook_core::entry::EntryKind;
use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, InventoryEntry, InventoryMeta};

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Branch {
    /// One part of a path, as bytes.
    pub name: Vec<u8>,
    /// What is known of it.
    pub meta: InventoryMeta,
    /// Of a folder: what lies below it that is no folder; else 0.
    pub files: u64,
    /// The bytes of those, or of the file itself.
    pub bytes: u64,
}

impl Branch {
    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.meta.kind() == EntryKind::Folder
    }
}

/// What an inventory has in a folder, by name; `None` when there is no such folder in it.
///
/// # Errors
/// When the inventories cannot be read.
pub fn branches(
    all: &Inventories,
    inventory: i64,
    folder: &[u8],
) -> Result<Option<Vec<Branch>>, RecordError> {
    let Some(held) = all.folder(inventory, folder)? else { return Ok(None) };
    let mut sums: HashMap<Vec<u8>, (u64, u64)> = HashMap::new();
    all.each_folder_in(inventory, folder, &mut |row| {
        let inside = match folder.is_empty() {
            true => row.path,
            false => row.path.get(folder.len() + 1..).unwrap_or_default(),
        };
        if let Some(name) = inside.split(|byte| *byte == b'/').next().filter(|name| !name.is_empty()) {
            let metas = row.metas()?;
            let files = metas.iter().filter(|meta| meta.kind() != EntryKind::Folder);
            let (number, bytes) = files.fold((0, 0), |(number, bytes), meta| (number + 1, bytes + meta.size));
            let sum = match sums.get_mut(name) {
                Some(sum) => sum,
                None => sums.entry(name.to_vec()).or_default(),
            };
            *sum = (sum.0 + number, sum.1 + bytes);
        }
        Ok(ControlFlow::Continue(()))
    })?;
    let branch = |InventoryEntry { name, meta }| {
        let (files, below) = sums.get(&name).copied().unwrap_or_default();
        let bytes = if meta.kind() == EntryKind::Folder { below } else { meta.size };
        Branch { name, meta, files, bytes }
    };
    Ok(Some(held.into_iter().map(branch).collect()))
}
