//! Stand-ins: small servers on loopback over a folder, to try things out with, for the demo and for tests.
//!
//! A stand-in behaves well until it is told otherwise ([`Behaviour`]): it can be far away, drop connections, ask for patience, run out of
//! space, or have a wrong clock. Distance and dropped connections are made by a relay in front of the server, and so are the
//! same for every protocol.
//!
//! ```
//! use reedhook_standins::{Behaviour, Kind, Settings, Standin};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let folder = tempfile::tempdir()?;
//! let running = Standin::start(
//!     Kind::WebDav,
//!     Settings {
//!         folder: folder.path().join("archive"),
//!         port: 0,
//!         user: "warden".to_owned(),
//!         secret: "marsh".to_owned(),
//!         behaviour: Behaviour { drop_after: Some(1_000_000), ..Behaviour::default() },
//!     },
//! )?;
//! assert!(running.location("counts").starts_with("dav://"));
//! # Ok(())
//! # }
//! ```

mod bucket;
mod ftp;
mod object;
mod relay;
pub(crate) mod settings;
mod sftp;
mod web;
mod webdav;

pub use crate::settings::{Behaviour, Kind, Settings, StartError};

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;

use relay::Relay;

/// A running stand-in; it ends when dropped.
pub struct Standin {
    /// Where it listens.
    pub address: SocketAddr,
    kind: Kind,
    relay: Arc<Relay>,
    /// The fingerprint of its key, for SFTP.
    pub fingerprint: Option<String>,
    runtime: Option<Runtime>,
}

impl Standin {
    /// Starts one.
    ///
    /// # Errors
    /// See [`StartError`].
    pub fn start(kind: Kind, settings: Settings) -> Result<Standin, StartError> {
        std::fs::create_dir_all(&settings.folder)?;
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let (address, inner, fingerprint, relay) = runtime.block_on(async {
            let front = TcpListener::bind(("127.0.0.1", settings.port)).await?;
            let address = front.local_addr()?;
            let relay = Arc::new(Relay::new(&settings.behaviour));
            let (inner, fingerprint) = serve(kind, &settings).await?;
            Ok::<_, StartError>((address, (front, inner), fingerprint, relay))
        })?;
        let (front, inner) = inner;
        runtime.spawn(relay::run(relay.clone(), front, inner));
        Ok(Standin { address, kind, relay, fingerprint, runtime: Some(runtime) })
    }

    /// The address of what it serves; for objects, of a bucket.
    pub fn location(&self, below: &str) -> String {
        format!(
            "{}://127.0.0.1:{}/{}",
            self.kind.scheme(),
            self.address.port(),
            below.trim_start_matches('/')
        )
    }

    /// Drops every connection there is at this moment.
    pub fn cut(&self) {
        self.relay.cut();
    }

    /// Bytes that have passed, in both directions.
    pub fn passed(&self) -> u64 {
        self.relay.passed()
    }

    /// How often connections were dropped because of [`Behaviour::drop_after`].
    pub fn dropped(&self) -> u32 {
        self.relay.dropped()
    }

    /// While it is away nobody can connect, and nothing that is connected gets an answer.
    pub fn set_away(&self, away: bool) {
        self.relay.set_away(away);
    }

    /// Serves until the process ends.
    pub fn serve(mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.block_on(std::future::pending::<()>());
        }
    }
}

impl Drop for Standin {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// A relay in front of a server of another make, to make the way to it long; it ends when dropped.
pub struct Way {
    /// Where it listens.
    pub address: SocketAddr,
    runtime: Option<Runtime>,
}

impl Way {
    /// A way of its own to a server.
    ///
    /// # Errors
    /// See [`StartError`].
    pub fn to(server: SocketAddr, behaviour: &Behaviour) -> Result<Way, StartError> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let front = runtime.block_on(TcpListener::bind(("127.0.0.1", 0)))?;
        let address = front.local_addr()?;
        runtime.spawn(relay::run(Arc::new(Relay::new(behaviour)), front, server));
        Ok(Way { address, runtime: Some(runtime) })
    }
}

impl Drop for Way {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// Starts the server itself, behind the relay.
async fn serve(kind: Kind, settings: &Settings) -> Result<(SocketAddr, Option<String>), StartError> {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
    let address = listener.local_addr()?;
    let mut fingerprint = None;
    match kind {
        Kind::WebDav => webdav::spawn(listener, settings),
        Kind::Object => object::spawn(listener, settings)?,
        Kind::Sftp => fingerprint = Some(sftp::spawn(listener, settings)?),
        Kind::Ftp => {
            drop(listener);
            ftp::spawn(address, settings)?;
            until_it_listens(address).await?;
        }
    }
    Ok((address, fingerprint))
}

/// Waits for a server that opens its own port: who came before would find the relay's door open and nobody behind it.
async fn until_it_listens(address: SocketAddr) -> io::Result<()> {
    const PATIENCE: Duration = Duration::from_secs(10);
    let begun = Instant::now();
    loop {
        match TcpStream::connect(address).await {
            Ok(_) => return Ok(()),
            Err(error) if begun.elapsed() > PATIENCE => return Err(error),
            Err(_) => tokio::time::sleep(Duration::from_millis(2)).await,
        }
    }
}
