//! What a stand-in serves, and how it behaves.

use std::io;
use std::path::PathBuf;
use std::time::Duration;

use thiserror::Error;

/// What a stand-in speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// WebDAV, without TLS.
    WebDav,
    /// SFTP.
    Sftp,
    /// FTP, without TLS.
    Ftp,
    /// The S3 protocol; the folders in the served one are its buckets.
    Object,
}

impl Kind {
    /// The scheme of its addresses.
    pub fn scheme(self) -> &'static str {
        match self {
            Kind::WebDav => "dav",
            Kind::Sftp => "sftp",
            Kind::Ftp => "ftp",
            Kind::Object => "s3",
        }
    }
}

/// How badly it behaves.
#[derive(Debug, Clone, Default)]
pub struct Behaviour {
    /// How long everything is on its way, there and back again.
    pub round_trip: Duration,
    /// Connections are dropped when so many bytes have passed since the last drop.
    pub drop_after: Option<u64>,
    /// How often connections are dropped; 0 for always.
    pub drops: u32,
    /// WebDAV and objects: each request of this number is answered with 429, and a wish to wait for a second.
    pub busy_every: Option<u32>,
    /// WebDAV, SFTP and objects: no more than so many bytes can be stored.
    pub quota: Option<u64>,
    /// WebDAV and SFTP: the clock is so many seconds ahead, or behind when it is negative.
    pub clock: i64,
    /// WebDAV: a file's time can be set.
    pub takes_times: bool,
    /// SFTP: a link comes before what it leads to, as the draft of the protocol has it.
    pub links_first: bool,
}

/// What to serve, to whom, and how.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The folder.
    pub folder: PathBuf,
    /// The port at 127.0.0.1; 0 takes a free one.
    pub port: u16,
    /// The account's name; for objects, the access key's.
    pub user: String,
    /// Its password or secret key.
    pub secret: String,
    /// How badly it behaves.
    pub behaviour: Behaviour,
}

/// Why a stand-in does not start.
#[derive(Debug, Error)]
pub enum StartError {
    /// The port cannot be had, or the folder not be used.
    #[error("the stand-in cannot start: {0}")]
    Io(#[from] io::Error),
    /// The server's own library refuses.
    #[error("the stand-in cannot start: {0}")]
    Server(String),
}
