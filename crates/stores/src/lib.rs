//! The places Reedhook can read and write.
//!
//! Each module is one implementation of [`reedhook_core::store::Store`]; all pass the same conformance suite.
//!
//! ```
//! use reedhook_core::path::RelPath;
//! use reedhook_core::store::Store;
//! use reedhook_stores::local::LocalStore;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("heron.csv"), "heron,3")?;
//! let store = LocalStore::open(folder.path())?;
//! let listing = store.list(&RelPath::root())?;
//! assert_eq!(listing.entries[0].name.to_string(), "heron.csv");
//! assert_eq!(listing.entries[0].meta.size, 7);
//! # Ok(())
//! # }
//! ```

pub mod child;
pub mod drives;
pub mod eject;
pub mod emulate;
pub mod local;
pub mod overlay;
pub mod remote;
pub mod union;
