//! The computation behind Reedhook.
//!
//! The road of one run:
//!
//! 1. [`walk::scan`] lists both sides folder by folder, asks the [`filter`] what takes part, and decides each name with
//!    [`plan::one_way::decide`], or for a two-way job [`walk::two_way::scan_two_way`] with
//!    [`plan::two_way::reconcile`]. The result is a [`plan::Plan`]: data, printed by a preview, carried out by a run.
//! 2. [`plan::guard::check`] looks at the plan and stops what looks like an accident.
//! 3. [`run::execute`] carries the plan out through the two [`store::Store`]s, reports [`run::Event`]s, and returns what
//!    was done and what was not.
//! 4. What is to be remembered is in [`memory`], as values: who keeps it is not known here.
//!
//! `path`, `entry`, `compare`, `filter`, `units`, `job`, `plan` and `when` never touch a disk, a clock or the environment; `walk`
//! and `run` touch the world only through the two stores they are given. There is no terminal, no protocol, no database
//! and no asynchronous code here.
//!
//! ```
//! use reedhook_core::entry::{EntryKind, Meta, Stamp};
//! use reedhook_core::filter::{Filter, FilterSpec, Verdict};
//! use reedhook_core::path::{Name, RelPath};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let lines = FilterSpec { exclude: vec!["*.tmp".to_owned()], ..FilterSpec::default() };
//! let filter = Filter::new(&lines, Stamp::new(1_935_850_500, 0))?;
//! let judge = |name: &str| -> Result<Verdict, Box<dyn std::error::Error>> {
//!     let (name, meta) = (Name::new(name.as_bytes())?, Meta::bare(EntryKind::File));
//!     Ok(filter.judge(&RelPath::root(), &name, &meta, filter.root()))
//! };
//! assert_eq!(judge("heron.csv")?, Verdict::In);
//! assert!(matches!(judge("heron.tmp")?, Verdict::Out(_)));
//! # Ok(())
//! # }
//! ```

pub mod baseline;
pub mod compare;
pub mod content;
pub mod entry;
pub mod filter;
pub mod foreign;
pub mod fresh;
pub mod identity;
pub mod job;
pub mod limit;
pub mod memory;
pub mod names;
pub mod notes;
pub mod path;
pub mod plan;
pub mod problem;
pub mod run;
pub mod store;
pub mod survey;
pub mod units;
pub mod walk;
pub mod when;

// The builders that all tests share name this crate from outside.
#[cfg(test)]
extern crate self as reedhook_core;
#[cfg(test)]
#[path = "../../testing/src/builders.rs"]
mod testing;

#[cfg(test)]
#[path = "../../testing/src/fuzz.rs"]
mod fuzz;
