//! The places Reedhook can read and write.
//!
//! Each module is one implementation of [`reedhook_core::store::Store`]; all pass the same conformance suite.

pub mod aided;
pub mod drives;
pub mod gathered;
pub mod layered;
pub mod local;
pub mod remote;
