//! How the service is, as it is told.

use reedhook_core::when::Finally;
use serde::{Deserialize, Serialize};

/// How the service is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct ServiceState {
    /// Its process.
    pub pid: u32,
    /// Since when it runs.
    pub since: String,
    /// How many jobs it has.
    pub jobs: usize,
    /// How many of them begin by themselves.
    pub by_themselves: usize,
    /// How many runs go on.
    pub running: usize,
    /// What is due next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<NextDue>,
    /// The store that is looked through for its inventory.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub looking_through: Option<String>,
    /// What the machine is about to do.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub finally: Option<NearEnd>,
    /// What is wrong with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

/// A run that is due.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NextDue {
    /// The job's name.
    pub job: String,
    /// When, in local time.
    pub at: String,
    /// The line of `when` that says so.
    pub line: String,
}

/// What the machine is about to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NearEnd {
    /// The job that wishes it.
    pub job: String,
    /// What.
    #[serde(rename = "do")]
    pub what: Finally,
    /// How soon, once nothing else goes on.
    pub seconds: Option<u64>,
}
