//! What differs between operating systems: the calls of the one that this program is built for.

#[cfg(target_os = "linux")]
pub(super) use super::linux::*;
