//! What the tests of several crates share: builders, things to do with a store, the conformance suite that every store passes, and a
//! simulated store that fails on demand. No release has any of it.
//!
//! ```
//! use reedhook_core::store::Store;
//! use reedhook_testing::simulated::SimulatedStore;
//! use reedhook_testing::{names, put};
//!
//! let store = SimulatedStore::new("a drive");
//! put(&store, "counts/heron.csv", b"heron,3", 1_900_000_000);
//! assert_eq!(names(&store, "counts"), ["heron.csv"]);
//! ```

mod builders;
mod conformance;
mod fuzz;
pub mod signals;
pub mod simulated;
mod trees;

pub use builders::{EXACT, arrived, file, folder, link, moded, path, rules};
pub use conformance::conformance;
pub use fuzz::fuzz;
pub use trees::{adjust, clear, get, make_way, names, put};
