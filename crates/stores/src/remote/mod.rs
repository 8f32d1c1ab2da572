//! Stores behind a network.
//!
//! Each protocol is a [`wire::Wire`]: single requests, without memory or patience. [`Remote`] makes a store of it: unfinished files
//! beside their targets, kept copies, expectations, retries, the lock, and notes about what a server cannot say itself.
//!
//! Nothing here follows a link of the server's. A server that would is asked first whether each folder on the way is one
//! ([`Wire::follows_links`]); what was seen to be a folder is taken for one for a while.

pub mod connect;
mod described;
pub mod ftp;
mod gather;
pub(crate) mod inner;
mod lock;
mod noted;
pub mod object;
pub mod patience;
pub mod post;
mod room;
mod runtime;
pub mod sftp;
mod stage;
pub mod stop;
pub(crate) mod store;
mod tls;
pub mod webdav;
mod wire;

pub use crate::remote::inner::Options;
pub use crate::remote::store::Remote;

/// The schemes of the addresses that lead to a store.
pub const SCHEMES: [&str; 6] = ["sftp", "davs", "dav", "ftps", "ftp", "s3"];
