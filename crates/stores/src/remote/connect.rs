//! What it takes to reach a server, whatever the protocol: an address, an account, and whom to trust. And how that can fail.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

/// How long a server may take to answer the first call.
pub const CONNECT_WITHIN: Duration = Duration::from_secs(20);

/// How long a server may take to answer a request, before the connection counts as broken.
pub const ANSWER_WITHIN: Duration = Duration::from_secs(60);

/// A password, token or passphrase. It shows itself to nobody who asks for text.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Wraps it.
    pub fn new(text: impl Into<String>) -> Secret {
        Secret(text.into())
    }

    /// The secret itself, for the one place that sends it.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(secret)")
    }
}

/// Finds the secret of an account when a server asks for it; `None` when there is none. Errors are sentences.
pub type FindSecret = Arc<dyn Fn() -> Result<Option<Secret>, String> + Send + Sync>;

/// Who we say we are.
#[derive(Clone)]
pub struct Account {
    /// The user's name at the server; `None` takes what the protocol has as default.
    pub user: Option<String>,
    /// Where its secret comes from.
    pub secret: FindSecret,
    /// Where the secrets of the hosts on the way come from: each has its own.
    pub hops: FindHopSecret,
}

/// A host on the way to a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hop {
    /// The host, as the user's configuration names it.
    pub host: String,
    /// As written, or the usual one of the scheme.
    pub port: u16,
    /// The user's name there.
    pub user: String,
}

/// Finds the secret of the account at a host on the way.
pub type FindHopSecret = Arc<dyn Fn(&Hop) -> Result<Option<Secret>, String> + Send + Sync>;

impl Account {
    /// An account without a secret.
    pub fn anonymous() -> Account {
        Account { user: None, secret: Arc::new(|| Ok(None)), hops: Arc::new(|_| Ok(None)) }
    }

    /// Who we are at a host on the way.
    pub fn of_hop(&self, hop: &Hop) -> Account {
        let (hops, asked) = (self.hops.clone(), hop.clone());
        Account {
            user: Some(hop.user.clone()),
            secret: Arc::new(move || hops(&asked)),
            hops: self.hops.clone(),
        }
    }

    /// The secret.
    ///
    /// # Errors
    /// When it cannot be found out.
    pub fn find_secret(&self, address: &str) -> Result<Option<Secret>, ConnectError> {
        (self.secret)().map_err(|why| ConnectError::Secret { address: address.to_owned(), why })
    }
}

/// Whom to trust over TLS.
#[derive(Debug, Clone, Default)]
pub struct Trust {
    /// A file with certificates (PEM) that are trusted besides the system's.
    pub authorities: Option<PathBuf>,
}

/// The address of a folder at a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    /// The scheme, as written: `sftp`, `davs`, ….
    pub scheme: String,
    /// A name or an address, as it was written.
    pub host: String,
    /// The port, where it is not the scheme's own.
    pub port: Option<u16>,
    /// The path, from the slash on, with percent-encoding undone; `/` at least.
    pub path: Vec<u8>,
}

impl Address {
    /// For people: without user and secret.
    pub fn shown(&self) -> String {
        let port = self.port.map(|port| format!(":{port}")).unwrap_or_default();
        format!("{}://{}{port}{}", self.scheme, self.host, String::from_utf8_lossy(&self.path))
    }
}

/// Why a server cannot be used.
#[derive(Debug, Error)]
pub enum ConnectError {
    /// Nobody answers.
    #[error("{address} cannot be reached: {why}")]
    Unreachable {
        /// Where.
        address: String,
        /// The network's words.
        why: String,
    },
    /// The host has never been seen: somebody has to say that this is the right one.
    #[error("the host {host} is not known yet; it shows the key {fingerprint}")]
    UnknownHost {
        /// The host, with its port where that is not the usual one.
        host: String,
        /// The fingerprint of its key.
        fingerprint: String,
    },
    /// The host shows another key than it used to.
    #[error(
        "the host {host} shows another key than it used to: {fingerprint}; known is line {line} of {file}"
    )]
    HostChanged {
        /// A name or an address, as it was written.
        host: String,
        /// The fingerprint that it shows now.
        fingerprint: String,
        /// Where the known key stands.
        file: PathBuf,
        /// The line, from 1.
        line: usize,
    },
    /// The host shows a key that was withdrawn.
    #[error("the host {host} shows a key that was withdrawn: {fingerprint}; see line {line} of {file}")]
    HostRevoked {
        /// A name or an address, as it was written.
        host: String,
        /// The fingerprint that it shows.
        fingerprint: String,
        /// Where it says so.
        file: PathBuf,
        /// The line, from 1.
        line: usize,
    },
    /// The host shows another key than the one that a person has said to be right.
    #[error("the host {host} shows the key {fingerprint}, which is not the one to be accepted, {accepted}")]
    OtherHost {
        /// A name or an address, as it was written.
        host: String,
        /// The fingerprint that it shows.
        fingerprint: String,
        /// The one that was given.
        accepted: String,
    },
    /// The server's certificate is not trusted.
    #[error("{address} is not trusted: {why}")]
    Untrusted {
        /// Where.
        address: String,
        /// What is wrong with it.
        why: String,
    },
    /// The server does not accept the account.
    #[error("{address} does not let {user} in (tried: {tried})")]
    Login {
        /// Where.
        address: String,
        /// Who.
        user: String,
        /// The ways that were tried.
        tried: String,
    },
    /// The secret cannot be found out.
    #[error("the secret for {address} cannot be had: {why}")]
    Secret {
        /// What for.
        address: String,
        /// The cause, in words for people.
        why: String,
    },
    /// The server is there, the folder is not.
    #[error("{address} has no folder {path}")]
    NoFolder {
        /// Where.
        address: String,
        /// What is missing.
        path: String,
    },
    /// The server answers, but not as one of its kind.
    #[error("{address} answers, but cannot be used: {why}")]
    Unusable {
        /// Where.
        address: String,
        /// The cause, in words for people.
        why: String,
    },
    /// The server is there, and asks for patience.
    #[error("{address} is too busy: {why}")]
    Overloaded {
        /// Where.
        address: String,
        /// Its words.
        why: String,
    },
    /// Something on this machine is not as it should be: a key file, a certificate file, an address.
    #[error("{0}")]
    Setup(String),
}

impl ConnectError {
    /// The stable code for JSON.
    pub fn code(&self) -> &'static str {
        match self {
            ConnectError::Unreachable { .. } => "store-unreachable",
            ConnectError::UnknownHost { .. } => "host-unknown",
            ConnectError::HostChanged { .. } => "host-changed",
            ConnectError::HostRevoked { .. } => "host-revoked",
            ConnectError::OtherHost { .. } => "host-other",
            ConnectError::Untrusted { .. } => "not-trusted",
            ConnectError::Login { .. } => "login-failed",
            ConnectError::Secret { .. } => "no-secret",
            ConnectError::NoFolder { .. } => "folder-missing",
            ConnectError::Unusable { .. } => "store-unusable",
            ConnectError::Overloaded { .. } => "store-busy",
            ConnectError::Setup(_) => "setup",
        }
    }

    /// Whether trying again may help.
    pub fn may_pass(&self) -> bool {
        matches!(self, ConnectError::Unreachable { .. } | ConnectError::Overloaded { .. })
    }
}

/// Whether a host is this very machine, so that nobody else can read what is said to it.
pub fn is_loopback(host: &str) -> bool {
    let address = host.trim_matches(['[', ']']).parse::<std::net::IpAddr>();
    host.eq_ignore_ascii_case("localhost") || address.is_ok_and(|address| address.is_loopback())
}

/// How many workers suit a round trip: enough to fill the waiting, few enough not to be a burden to a server nearby.
pub fn workers_for(round_trip: Duration) -> usize {
    match round_trip.as_micros() {
        0..500 => 4,
        500..3_000 => 8,
        3_000..10_000 => 16,
        _ => 32,
    }
}

#[cfg(test)]
mod tests {
    use super::is_loopback;

    #[test]
    fn this_very_machine_in_every_spelling() {
        for host in ["localhost", "LOCALHOST", "127.0.0.1", "127.8.8.8", "::1", "[::1]"] {
            assert!(is_loopback(host), "{host}");
        }
        for host in ["", "localhost.example", "10.0.0.1", "[::2]", "127.0.0.1.example"] {
            assert!(!is_loopback(host), "{host}");
        }
    }

    #[test]
    fn a_host_on_the_way_is_offered_nothing_of_the_target() {
        use super::{Account, Hop, Secret};
        let account = Account {
            user: Some("warden".to_owned()),
            secret: std::sync::Arc::new(|| Ok(Some(Secret::new("the target's")))),
            hops: std::sync::Arc::new(
                |hop: &Hop| Ok((hop.host == "gate").then(|| Secret::new("the gate's"))),
            ),
        };
        let hop = |host: &str| Hop { host: host.to_owned(), port: 22, user: "guest".to_owned() };
        let found = |account: &Account| account.find_secret("there").expect("no failure");
        let gate = account.of_hop(&hop("gate"));
        assert_eq!(gate.user.as_deref(), Some("guest"));
        assert_eq!(found(&gate).expect("its own").reveal(), "the gate's");
        let second = gate.of_hop(&hop("inner"));
        assert!(found(&second).is_none(), "nor is that of another host on the way");
    }
}
