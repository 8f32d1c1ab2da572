//! How the calls of the system fail, in terms of a store.

use std::fs::File;

use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{FaultKind, Result, Sealed, StoreError};

use crate::local::linux::faults::fault;
use crate::local::sys;
use crate::local::sys::Folder;

/// Opens what the plan saw to be a file. A socket in its place answers as if the device were gone.
pub(super) fn open_file(folder: &Folder, name: &Name, path: &RelPath) -> Result<File> {
    folder.open_file(name.as_bytes()).map_err(|error| match sys::fault_kind(&error) {
        FaultKind::Lost if matches!(folder.stat(name.as_bytes()), Ok(Some(found)) if !found.is_item()) => {
            StoreError::new(FaultKind::Changed, "read", path)
        }
        _ => fault("read", path, error),
    })
}

pub(super) fn sealed(target: &RelPath, part: &[u8]) -> Sealed {
    let part = Name::new(part).map(|name| target.parent().unwrap_or_default().join(&name));
    Sealed { target: target.clone(), temporary: part.unwrap_or_default() }
}
