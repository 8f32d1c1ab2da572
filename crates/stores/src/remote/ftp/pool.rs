//! Connections to an FTP server. Each does one thing at a time, so several are kept; a server that allows fewer than we would like
//! is served by those it allows.

use std::collections::HashMap;
use std::net::{Shutdown, SocketAddr, TcpStream, ToSocketAddrs};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rustls::client::Resumption;
use suppaftp::types::FileType;
use suppaftp::{Encoding, FtpError, Mode, RustlsConnector, RustlsFtpStream, Status};

use super::facts;
use crate::remote::connect::{ANSWER_WITHIN, Account, Address, CONNECT_WITHIN, ConnectError, Trust};
use crate::remote::stop::{LOOK, Stop};
use crate::remote::tls::{self, Security, Witness};

/// Names travel as bytes.
#[derive(Debug)]
struct Bytes;

impl Encoding for Bytes {
    fn decode(&self, bytes: &[u8]) -> String {
        facts::text_of(bytes)
    }

    fn encode(&self, text: &str) -> std::io::Result<Vec<u8>> {
        Ok(facts::bytes_of(text))
    }
}

/// A server that is there greets at once; this is for one at the other end of the world that looks our name up first.
const GREETS_WITHIN: Duration = Duration::from_secs(10);

/// Content that is underway does not stand still for so long; if it does, it is gone on with over another connection.
const DATA_WITHIN: Duration = Duration::from_secs(12);

/// How to connect, once it is known what the server can do.
pub(super) struct Dialer {
    pub(super) address: Address,
    pub(super) account: Account,
    /// TLS for `ftps:`.
    pub(super) tls: Option<Security>,
    /// Whether data connections are asked for in the extended way (RFC 2428), which works with IPv6 too.
    pub(super) extended: bool,
    /// The sockets that are in use.
    pub(super) sockets: Arc<Sockets>,
}

/// Sockets of control connections that are in use, to be closed when the work was stopped a while ago and somebody still waits for them.
/// Who is done with one says so: what is held here too is not closed by dropping it.
#[derive(Default)]
pub(super) struct Sockets(Mutex<HashMap<SocketAddr, TcpStream>>);

impl Sockets {
    /// No sockets yet; a thread looks after them as long as they are used.
    pub(super) fn ended_by(stop: &Stop) -> Arc<Sockets> {
        let sockets = Arc::new(Sockets::default());
        if !stop.may_come() {
            return sockets;
        }
        let (watched, stop) = (Arc::downgrade(&sockets), stop.clone());
        std::thread::spawn(move || {
            while let Some(sockets) = watched.upgrade() {
                if stop.is_overdue() {
                    let open = std::mem::take(&mut *sockets.all());
                    open.values().for_each(|socket| drop(socket.shutdown(Shutdown::Both)));
                }
                drop(sockets);
                std::thread::sleep(LOOK * 2);
            }
        });
        sockets
    }

    fn all(&self) -> MutexGuard<'_, HashMap<SocketAddr, TcpStream>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn watch(&self, stream: &TcpStream) -> Option<SocketAddr> {
        let address = stream.local_addr().ok()?;
        self.all().insert(address, stream.try_clone().ok()?);
        Some(address)
    }

    fn forget(&self, address: Option<SocketAddr>) {
        if let Some(address) = address {
            self.all().remove(&address);
        }
    }
}

/// Why there is no connection.
pub(super) enum Undialed {
    /// The two found no way to speak TLS.
    NoTls(ConnectError),
    /// Anything else.
    Other(ConnectError),
}

impl From<ConnectError> for Undialed {
    fn from(error: ConnectError) -> Undialed {
        Undialed::Other(error)
    }
}

impl From<Undialed> for ConnectError {
    fn from(error: Undialed) -> ConnectError {
        match error {
            Undialed::NoTls(error) | Undialed::Other(error) => error,
        }
    }
}

/// How to be secure. TLS 1.2 is used where the server has it: its sessions can be gone on with as often as needed, which many servers
/// insist on for data connections, while a ticket of 1.3 serves once.
pub(super) fn security(trust: &Trust, newest: bool) -> Result<Security, ConnectError> {
    match newest {
        true => tls::security(trust, rustls::ALL_VERSIONS),
        false => tls::security(trust, &[&rustls::version::TLS12]),
    }
}

impl Dialer {
    fn unreachable(&self, why: impl ToString) -> ConnectError {
        ConnectError::Unreachable { address: self.address.shown(), why: why.to_string() }
    }

    /// Connects and logs in.
    pub(super) fn dial(&self) -> Result<RustlsFtpStream, Undialed> {
        let place = (self.address.host.as_str(), self.address.port.unwrap_or(21));
        let found = place.to_socket_addrs().map_err(|error| self.unreachable(error))?;
        let mut last = "the name leads nowhere".to_owned();
        let mut stream = None;
        for address in found {
            match connect_tcp(&address, ANSWER_WITHIN) {
                Ok(connected) => {
                    stream = Some(connected);
                    break;
                }
                Err(error) => last = error.to_string(),
            }
        }
        let stream = stream.ok_or_else(|| self.unreachable(&last))?;
        let watched = self.sockets.watch(&stream);
        self.greeted(stream).inspect_err(|_| self.sockets.forget(watched))
    }

    /// Logs in over a connection that was just made.
    fn greeted(&self, stream: TcpStream) -> Result<RustlsFtpStream, Undialed> {
        // Of a server that waits for TLS to begin at once nothing is ever heard.
        let _ = stream.set_read_timeout(Some(GREETS_WITHIN));
        let waiting = stream.try_clone();
        let ftp = RustlsFtpStream::connect_with_stream(stream).map_err(|error| self.no_greeting(&error))?;
        if let Ok(waiting) = waiting {
            let _ = waiting.set_read_timeout(Some(ANSWER_WITHIN));
        }
        let mut ftp = ftp.passive_stream_builder(|address| {
            connect_tcp(&address, DATA_WITHIN).map_err(FtpError::ConnectionError)
        });
        ftp.set_encoding(Bytes);
        ftp.set_mode(if self.extended { Mode::ExtendedPassive } else { Mode::Passive });
        // Data goes where the control connection goes, whatever address the server names.
        ftp.set_passive_nat_workaround(true);
        if let Some(tls) = &self.tls {
            // Sessions are those of this very connection: servers compare them.
            let mut config = tls.config.clone();
            config.resumption = Resumption::in_memory_sessions(8);
            let connector = RustlsConnector::from(Arc::new(config));
            let secured = ftp.into_secure(connector, &self.address.host);
            ftp = secured.map_err(|error| self.insecure(&error, &tls.witness))?;
        }
        self.log_in(&mut ftp)?;
        ftp.transfer_type(FileType::Binary).map_err(|error| self.unreachable(error))?;
        Ok(ftp)
    }

    fn no_greeting(&self, error: &FtpError) -> ConnectError {
        use std::io::ErrorKind::{TimedOut, WouldBlock};
        let silent = matches!(error, FtpError::ConnectionError(error) if matches!(error.kind(), TimedOut | WouldBlock));
        if !silent {
            return self.unreachable(error);
        }
        let why = "it does not greet; it may want TLS from the first byte on, as at port 990, which is not spoken here: \
                   ask for its port with a greeting, 21 as a rule";
        ConnectError::Unusable { address: self.address.shown(), why: why.to_owned() }
    }

    fn insecure(&self, error: &FtpError, witness: &Witness) -> Undialed {
        let address = self.address.shown();
        match (error, witness.refused()) {
            (FtpError::UnexpectedResponse(response), _) => {
                let code = response.status.code();
                let why = format!("it offers no TLS (it says {code}); ftp: would send all readable");
                Undialed::Other(ConnectError::Unusable { address, why })
            }
            (_, Some(why)) => Undialed::Other(ConnectError::Untrusted { address, why }),
            (other, None) => Undialed::NoTls(self.unreachable(other)),
        }
    }

    fn log_in(&self, ftp: &mut RustlsFtpStream) -> Result<(), ConnectError> {
        let address = self.address.shown();
        let user = self.account.user.clone().unwrap_or_else(|| "anonymous".to_owned());
        let secret = self.account.find_secret(&address)?;
        let password = secret.as_ref().map_or("reedhook@", |secret| secret.reveal());
        match ftp.login(user.as_str(), password) {
            Ok(()) => Ok(()),
            Err(FtpError::UnexpectedResponse(response)) if response.status.code() == 530 => {
                let tried =
                    if secret.is_some() { "password" } else { "nothing: no password is known for it" };
                Err(ConnectError::Login { address, user, tried: tried.to_owned() })
            }
            Err(error) => Err(self.unreachable(error)),
        }
    }
}

fn connect_tcp(address: &SocketAddr, within: Duration) -> std::io::Result<TcpStream> {
    let stream = TcpStream::connect_timeout(address, CONNECT_WITHIN)?;
    stream.set_read_timeout(Some(within))?;
    stream.set_write_timeout(Some(within))?;
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// Idle connections, and how many there may be in all.
pub(super) struct Pool {
    pub(super) dialer: Dialer,
    state: Mutex<PoolState>,
    freed: Condvar,
}

struct PoolState {
    idle: Vec<RustlsFtpStream>,
    open: usize,
    most: usize,
}

impl Pool {
    pub(super) fn new(dialer: Dialer, first: RustlsFtpStream, most: usize) -> Pool {
        let state = PoolState { idle: vec![first], open: 1, most };
        Pool { dialer, state: Mutex::new(state), freed: Condvar::new() }
    }

    fn state(&self) -> MutexGuard<'_, PoolState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn allow(&self, most: usize) {
        self.state().most = most;
    }

    /// A connection of one's own: an idle one, a new one, or the next that is given back.
    pub(super) fn take(self: &Arc<Self>) -> Result<Taken, ConnectError> {
        let mut state = self.state();
        loop {
            if let Some(ftp) = state.idle.pop() {
                return Ok(Taken { pool: self.clone(), ftp: Some(ftp) });
            }
            if state.open < state.most {
                state.open += 1;
                drop(state);
                match self.dialer.dial().map_err(ConnectError::from) {
                    Ok(ftp) => return Ok(Taken { pool: self.clone(), ftp: Some(ftp) }),
                    Err(error) => {
                        state = self.state();
                        state.open -= 1;
                        self.freed.notify_one();
                        // The account is good: others are logged in with it. It may not be so any more often.
                        let limited = matches!(error, ConnectError::Login { .. });
                        if state.open == 0 || !(error.may_pass() || limited) {
                            return Err(error);
                        }
                        // No more than there are now, it seems.
                        state.most = state.open;
                    }
                }
                continue;
            }
            state = self
                .freed
                .wait_timeout(state, Duration::from_secs(1))
                .unwrap_or_else(PoisonError::into_inner)
                .0;
        }
    }
}

/// A connection on loan. It goes back when it is returned in good order; otherwise it is closed.
pub(super) struct Taken {
    pool: Arc<Pool>,
    ftp: Option<RustlsFtpStream>,
}

impl Taken {
    pub(super) fn ftp(&mut self) -> Option<&mut RustlsFtpStream> {
        self.ftp.as_mut()
    }

    /// Gives it back for the next.
    pub(super) fn give_back(mut self) {
        if let Some(ftp) = self.ftp.take() {
            self.pool.state().idle.push(ftp);
            self.pool.freed.notify_one();
        }
    }
}

impl Drop for Taken {
    fn drop(&mut self) {
        if let Some(ftp) = self.ftp.take() {
            self.pool.dialer.sockets.forget(ftp.get_ref().local_addr().ok());
            self.pool.state().open -= 1;
            self.pool.freed.notify_one();
        }
    }
}

/// Whether the server refused a request rather than the connection having failed.
pub(super) fn refusal(error: &FtpError) -> Option<(u32, String)> {
    match error {
        FtpError::UnexpectedResponse(response) => {
            let words = String::from_utf8_lossy(&response.body).trim().to_owned();
            Some((response.status.code(), words))
        }
        _ => None,
    }
}

/// The answers after which a transfer is complete.
pub(super) const OPENED: [Status; 2] = [Status::AboutToSend, Status::AlreadyOpen];
