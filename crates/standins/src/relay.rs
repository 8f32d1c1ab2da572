//! A relay between a client and a server: it makes the way long, and breaks connections.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{broadcast, mpsc};

use crate::settings::Behaviour;

pub(crate) struct Relay {
    one_way: Duration,
    drop_after: Option<u64>,
    drops: u32,
    passed: AtomicU64,
    since_drop: AtomicU64,
    dropped: AtomicU32,
    away: AtomicBool,
    scissors: broadcast::Sender<()>,
}

impl Relay {
    pub(crate) fn new(behaviour: &Behaviour) -> Relay {
        Relay {
            one_way: behaviour.round_trip / 2,
            drop_after: behaviour.drop_after,
            drops: behaviour.drops,
            passed: AtomicU64::new(0),
            since_drop: AtomicU64::new(0),
            dropped: AtomicU32::new(0),
            away: AtomicBool::new(false),
            scissors: broadcast::channel(1).0,
        }
    }

    pub(crate) fn cut(&self) {
        // Nobody may be connected just now.
        let _ = self.scissors.send(());
    }

    pub(crate) fn set_away(&self, away: bool) {
        self.away.store(away, Ordering::Relaxed);
        if away {
            self.cut();
        }
    }

    pub(crate) fn passed(&self) -> u64 {
        self.passed.load(Ordering::Relaxed)
    }

    pub(crate) fn dropped(&self) -> u32 {
        self.dropped.load(Ordering::Relaxed)
    }

    /// Counts bytes that pass, and breaks off when it is time.
    fn count(&self, bytes: usize) {
        self.passed.fetch_add(bytes as u64, Ordering::Relaxed);
        let since = self.since_drop.fetch_add(bytes as u64, Ordering::Relaxed) + bytes as u64;
        if self.drop_after.is_none_or(|limit| since < limit) {
            return;
        }
        let again = self.drops == 0 || self.dropped.load(Ordering::Relaxed) < self.drops;
        if again {
            self.since_drop.store(0, Ordering::Relaxed);
            self.dropped.fetch_add(1, Ordering::Relaxed);
            self.cut();
        }
    }
}

/// Accepts connections and passes what they say on, for ever.
pub(crate) async fn run(relay: Arc<Relay>, front: TcpListener, inner: SocketAddr) {
    loop {
        let Ok((client, _)) = front.accept().await else { continue };
        if relay.away.load(Ordering::Relaxed) {
            continue;
        }
        tokio::spawn(connect(relay.clone(), client, inner));
    }
}

async fn connect(relay: Arc<Relay>, client: TcpStream, inner: SocketAddr) {
    let mut cut = relay.scissors.subscribe();
    let Ok(server) = TcpStream::connect(inner).await else { return };
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    let ((from_client, to_client), (from_server, to_server)) = (client.into_split(), server.into_split());
    let both = async {
        tokio::join!(pass(&relay, from_client, to_server), pass(&relay, from_server, to_client));
    };
    // Ending this future closes both connections, in the middle of whatever they were saying.
    tokio::select! {
        () = both => {}
        _ = cut.recv() => {}
    }
}

/// Passes bytes in one direction; each piece arrives as much later as the way is long, however many are underway.
async fn pass<R: AsyncRead + Unpin, W: AsyncWrite + Unpin>(relay: &Relay, mut from: R, mut to: W) {
    let (sender, mut receiver) = mpsc::channel::<(Instant, Vec<u8>)>(64);
    let read = async {
        let mut buffer = vec![0; 64 << 10];
        while let Ok(length) = from.read(&mut buffer).await {
            if length == 0 {
                break;
            }
            relay.count(length);
            if sender.send((Instant::now() + relay.one_way, buffer[..length].to_vec())).await.is_err() {
                break;
            }
        }
        drop(sender);
    };
    let write = async {
        while let Some((due, bytes)) = receiver.recv().await {
            if due > Instant::now() {
                tokio::time::sleep_until(due.into()).await;
            }
            if to.write_all(&bytes).await.is_err() {
                break;
            }
        }
        let _ = to.shutdown().await;
    };
    tokio::join!(read, write);
}
