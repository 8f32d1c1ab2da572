//! The mark by which a destination is recognised: `.reedhook/identity`, one line `id = "…"`.
//!
//! A job remembers the mark of the destination it wrote to. An empty mount point, or another drive at the same path, does not
//! bear it, and the run stops before it takes one for the other.

use crate::path::{RESERVED_NAME, RelPath};
use crate::store::{FaultKind, Result, Store, StoreError, StoreExt};

/// A mark is shorter than this, with room for what later versions may add.
const LIMIT: u64 = 4096;

fn file() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/identity"].concat()).unwrap_or_default()
}

/// The mark of a store; `None` when it has none.
///
/// # Errors
/// When the store fails, or what stands there is no mark.
pub fn read(store: &dyn Store) -> Result<Option<String>> {
    let Some(bytes) = store.read_small(&file(), LIMIT)? else { return Ok(None) };
    let text = String::from_utf8_lossy(&bytes);
    let id = text.lines().find_map(|line| line.trim().strip_prefix("id = \"")?.strip_suffix('"'));
    match id {
        Some(id) if !id.is_empty() => Ok(Some(id.to_owned())),
        _ => Err(StoreError::new(FaultKind::Io, "read", &file()).because("it is no identity of Reedhook's")),
    }
}

/// The mark of a store, which gets `fresh` when it has none.
///
/// # Errors
/// When the store fails.
pub fn ensure(store: &dyn Store, fresh: &str) -> Result<String> {
    if let Some(id) = read(store)? {
        return Ok(id);
    }
    if let Some(folder) = file().parent() {
        store.make_folders(&folder)?;
    }
    store.write_small(&file(), format!("id = \"{fresh}\"\n").as_bytes())?;
    Ok(fresh.to_owned())
}
