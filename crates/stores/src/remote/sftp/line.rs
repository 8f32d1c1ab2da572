//! One SFTP channel: requests go out as they come, answers come back in any order, and each finds who asked.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, mpsc as local};
use std::time::Instant;

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::sync::mpsc;

use super::packet::{self, INIT, Packet, Reply};
use crate::remote::connect::ANSWER_WITHIN;
use crate::remote::stop::{LOOK, Stop};

/// No honest answer is larger: data comes in pieces that we asked for, and listings in packets of at most 256 KiB.
const LARGEST: usize = 1 << 20;

/// Requests are sent together up to this size.
const TOGETHER: usize = 256 << 10;

/// A channel that is of no use any more, and why.
#[derive(Debug)]
pub(super) struct Broken(pub(super) String);

#[derive(Default)]
struct Waiting {
    asked: HashMap<u32, local::SyncSender<Reply>>,
    broken: Option<String>,
}

pub(super) struct Channel {
    sender: mpsc::Sender<Vec<u8>>,
    waiting: Arc<Mutex<Waiting>>,
    next: AtomicU32,
    stop: Stop,
}

fn lock(waiting: &Mutex<Waiting>) -> MutexGuard<'_, Waiting> {
    waiting.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From now on nobody gets an answer.
fn give_up(waiting: &Mutex<Waiting>, why: &str) {
    let mut waiting = lock(waiting);
    waiting.broken.get_or_insert_with(|| why.to_owned());
    waiting.asked.clear();
}

impl Channel {
    /// Greets the server over a fresh channel; returns the extensions that it offers.
    pub(super) async fn open<S>(stream: S, stop: Stop) -> Result<(Channel, Vec<(String, String)>), Broken>
    where
        S: AsyncRead + AsyncWrite + Send + Unpin + 'static,
    {
        let broken = |error: std::io::Error| Broken(error.to_string());
        let (mut reader, mut writer) = tokio::io::split(stream);
        writer.write_all(&Packet::new(INIT).numbered(3)).await.map_err(broken)?;
        writer.flush().await.map_err(broken)?;
        let version = read_packet(&mut reader).await.map_err(broken)?;
        let extensions =
            packet::extensions(&version).ok_or_else(|| Broken("it does not speak SFTP".to_owned()))?;
        let waiting = Arc::new(Mutex::new(Waiting::default()));
        let (sender, receiver) = mpsc::channel(64);
        tokio::spawn(send_all(writer, receiver, waiting.clone()));
        tokio::spawn(receive_all(reader, waiting.clone()));
        Ok((Channel { sender, waiting, next: AtomicU32::new(1), stop }, extensions))
    }

    /// Sends a request; its answer can be waited for later.
    pub(super) fn ask(&self, packet: Packet) -> Result<Pending, Broken> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let (tell, told) = local::sync_channel(1);
        {
            let mut waiting = lock(&self.waiting);
            if let Some(why) = &waiting.broken {
                return Err(Broken(why.clone()));
            }
            waiting.asked.insert(number, tell);
        }
        let sent = self.sender.blocking_send(packet.numbered(number));
        sent.map_err(|_| Broken("the connection is closed".to_owned()))?;
        Ok(Pending { told, waiting: self.waiting.clone(), stop: self.stop.clone() })
    }

    /// Whether it still works, as far as is known.
    pub(super) fn is_alive(&self) -> bool {
        lock(&self.waiting).broken.is_none()
    }

    /// How many requests wait for an answer.
    pub(super) fn load(&self) -> usize {
        lock(&self.waiting).asked.len()
    }
}

/// An answer that is still to come.
pub(super) struct Pending {
    told: local::Receiver<Reply>,
    waiting: Arc<Mutex<Waiting>>,
    stop: Stop,
}

impl Pending {
    /// Waits for the answer. A server that says nothing for too long is taken for gone.
    pub(super) fn wait(self) -> Result<Reply, Broken> {
        let until = Instant::now() + ANSWER_WITHIN;
        loop {
            let rest = until.saturating_duration_since(Instant::now());
            match self.told.recv_timeout(rest.min(LOOK)) {
                Ok(reply) => return Ok(reply),
                Err(local::RecvTimeoutError::Timeout) if rest > LOOK && !self.stop.is_overdue() => {}
                Err(local::RecvTimeoutError::Timeout) => {
                    give_up(&self.waiting, "no answer");
                    return Err(Broken("no answer".to_owned()));
                }
                Err(local::RecvTimeoutError::Disconnected) => {
                    let why = lock(&self.waiting).broken.clone();
                    return Err(Broken(why.unwrap_or_else(|| "the connection was closed".to_owned())));
                }
            }
        }
    }
}

async fn send_all<W: AsyncWrite + Unpin>(
    mut writer: W,
    mut receiver: mpsc::Receiver<Vec<u8>>,
    waiting: Arc<Mutex<Waiting>>,
) {
    while let Some(mut bytes) = receiver.recv().await {
        while bytes.len() < TOGETHER
            && let Ok(more) = receiver.try_recv()
        {
            bytes.extend_from_slice(&more);
        }
        let sent = async {
            writer.write_all(&bytes).await?;
            writer.flush().await
        };
        if let Err(error) = sent.await {
            give_up(&waiting, &error.to_string());
            return;
        }
    }
    let _ = writer.shutdown().await;
}

async fn receive_all<R: AsyncRead + Unpin>(mut reader: R, waiting: Arc<Mutex<Waiting>>) {
    loop {
        let packet = match read_packet(&mut reader).await {
            Ok(packet) => packet,
            Err(error) => return give_up(&waiting, &error.to_string()),
        };
        let Some((number, reply)) = packet::reply(&packet) else {
            return give_up(&waiting, "an answer that is no SFTP packet");
        };
        let asked = lock(&waiting).asked.remove(&number);
        if let Some(tell) = asked {
            // Who asked may have gone; then nobody misses the answer.
            let _ = tell.try_send(reply);
        }
    }
}

async fn read_packet<R: AsyncRead + Unpin>(reader: &mut R) -> std::io::Result<Vec<u8>> {
    let length = reader.read_u32().await? as usize;
    if length == 0 || length > LARGEST {
        return Err(std::io::Error::other("an answer of an impossible size"));
    }
    let mut packet = vec![0; length];
    reader.read_exact(&mut packet).await?;
    Ok(packet)
}
