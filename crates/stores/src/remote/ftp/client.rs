//! A server as it was connected to, and what it offers.

use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use reedhook_core::entry::{Meta, SPECIAL_BITS};
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind, StoreError};
use suppaftp::{FtpError, RustlsFtpStream, Status};

use crate::remote::connect::{Account, Address, ConnectError, Trust, is_loopback, workers_for};
use crate::remote::ftp::facts::{ListingLine, listed_line, machine_line, text_of};
use crate::remote::ftp::pool::{Dialer, OPENED, Pool, Sockets, Taken, refusal};
use crate::remote::ftp::{facts, pool};
use crate::remote::stop::{Pace, Stop};
use crate::remote::wire::{Again, Answer, Trouble, Wire};

/// Servers that live together with many users do not like more from one.
pub(super) const MOST_CONNECTIONS: usize = 12;

/// No listing is larger.
pub(super) const LARGEST_LISTING: u64 = 1 << 30;

/// A folder at an FTP server.
pub struct Ftp {
    pub(super) pool: Arc<Pool>,
    pub(super) root: Vec<u8>,
    pub(super) offers: Offers,
    pub(super) round_trip: Duration,
    pub(super) secure: bool,
    pub(super) server: String,
    /// Cleared when an upload could not be gone on with after all.
    pub(super) restarts: Arc<AtomicBool>,
    pub(super) stop: Stop,
}

/// What the server says it can do.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Offers {
    pub(super) machine_lists: bool,
    pub(super) sets_times: bool,
    pub(super) sets_facts: bool,
    pub(super) modes: bool,
    pub(super) restarts: bool,
}

impl Offers {
    pub(super) fn of(features: &str) -> Offers {
        let features = features.to_ascii_uppercase();
        let line = |word: &str| features.lines().map(str::trim).find(|line| line.starts_with(word));
        let has = |word: &str, fact: &str| line(word).is_some_and(|line| line.contains(fact));
        // A server that does not say which facts it tells has at least the usual ones.
        let tells = |fact: &str| has("MLST", fact) || line("MLST") == Some("MLST");
        Offers {
            machine_lists: (tells("SIZE") && tells("TYPE")) || line("MLSD").is_some(),
            sets_times: line("MFMT").is_some() && tells("MODIFY"),
            sets_facts: has("MFF", "MODIFY") && has("MFF", "UNIX.MODE"),
            modes: has("MFF", "UNIX.MODE") && has("MLST", "UNIX.MODE"),
            restarts: line("REST STREAM").is_some(),
        }
    }
}

impl Ftp {
    /// Connects, logs in and finds the folder.
    ///
    /// # Errors
    /// See [`ConnectError`].
    pub fn connect(
        address: Address,
        account: Account,
        trust: &Trust,
        stop: &Stop,
    ) -> Result<Ftp, ConnectError> {
        let secure = address.scheme == "ftps";
        if !secure && account.user.is_some() && !is_loopback(&address.host) {
            // Anonymous reading is what plain FTP is still used for; a password would be everybody's.
            return Err(ConnectError::Unusable {
                address: address.shown(),
                why: "over ftp: the password could be read by everybody on the way; use ftps:".to_owned(),
            });
        }
        let tls = if secure { Some(pool::security(trust, false)?) } else { None };
        let sockets = Sockets::ended_by(stop);
        let mut dialer = Dialer { address, account, tls, extended: true, sockets };
        let mut ftp = match dialer.dial() {
            // A server that has only the newest TLS.
            Err(pool::Undialed::NoTls(_)) => {
                dialer.tls = Some(pool::security(trust, true)?);
                dialer.dial()?
            }
            dialed => dialed?,
        };
        let server = ftp.get_welcome_msg().unwrap_or_default().trim().to_owned();
        let features = features(&mut ftp);
        let root = find_root(&mut ftp, &dialer.address)?;
        let begun = Instant::now();
        let _ = ftp.noop();
        let round_trip = begun.elapsed();
        let offers = Offers::of(&features);
        let pool = Arc::new(Pool::new(dialer, ftp, 1));
        let found = Ftp {
            pool,
            root,
            offers,
            round_trip,
            secure,
            server,
            restarts: Arc::new(AtomicBool::new(offers.restarts)),
            stop: stop.clone(),
        };
        found.pool.allow(found.workers());
        Ok(found)
    }

    pub(super) fn workers(&self) -> usize {
        workers_for(self.round_trip).min(MOST_CONNECTIONS)
    }

    pub(super) fn full(&self, path: &RelPath) -> String {
        let full = if path.is_root() {
            if self.root.is_empty() { b"/".to_vec() } else { self.root.clone() }
        } else {
            [self.root.as_slice(), b"/", path.as_bytes()].concat()
        };
        text_of(&full)
    }

    pub(super) fn take(&self, action: &'static str, path: &RelPath) -> Answer<Taken> {
        self.pool.take().map_err(|error| Trouble::unconnected(error, action, path))
    }

    /// Does something with a connection, and gives it back when it is still of use.
    pub(super) fn with<T>(
        &self,
        action: &'static str,
        path: &RelPath,
        work: impl FnOnce(&mut RustlsFtpStream) -> Result<T, FtpError>,
    ) -> Answer<T> {
        let mut taken = self.take(action, path)?;
        let outcome = match taken.ftp() {
            Some(ftp) => work(ftp),
            None => Err(FtpError::BadResponse),
        };
        let good = match &outcome {
            Ok(_) => true,
            Err(error) => refusal(error).is_some_and(|(code, _)| code != 421),
        };
        if good {
            taken.give_back();
        }
        outcome.map_err(|error| trouble(&error, action, path))
    }

    pub(super) fn command(
        &self,
        command: String,
        expected: &[Status],
        action: &'static str,
        path: &RelPath,
    ) -> Answer<()> {
        self.with(action, path, |ftp| ftp.custom_command(command, expected).map(drop))
    }

    /// What a refusal means shows in what is there.
    pub(super) fn explained(&self, trouble: Trouble, path: &RelPath, when_there: FaultKind) -> Trouble {
        if trouble.kind() != FaultKind::Io {
            return trouble;
        }
        let as_kind =
            |trouble: Trouble, kind| Trouble { error: StoreError { kind, ..trouble.error }, ..trouble };
        match self.stat(path) {
            Ok(Some(_)) => as_kind(trouble, when_there),
            Ok(None) => {
                let parent = path.parent().unwrap_or_default();
                let there = parent.is_root() || matches!(self.stat(&parent), Ok(Some(_)));
                as_kind(trouble, if there { FaultKind::Refused } else { FaultKind::NotFound })
            }
            Err(_) => trouble,
        }
    }

    /// The same for something that has to be there.
    pub(super) fn explained_missing(
        &self,
        trouble: Trouble,
        path: &RelPath,
        when_there: FaultKind,
    ) -> Trouble {
        if trouble.kind() == FaultKind::Io && matches!(self.stat(path), Ok(None)) {
            return Trouble { error: StoreError { kind: FaultKind::NotFound, ..trouble.error }, ..trouble };
        }
        self.explained(trouble, path, when_there)
    }

    pub(super) fn lines(&self, folder: &RelPath) -> Answer<Vec<Vec<u8>>> {
        let full = self.full(folder);
        let machine = self.offers.machine_lists;
        let bytes = self.with("list", folder, |ftp| {
            let (_, mut stream) = if machine {
                ftp.custom_data_command(format!("MLSD {full}"), &OPENED)?
            } else {
                // Not with the path: some servers take stars in it for patterns.
                ftp.cwd(&full)?;
                ftp.custom_data_command("LIST -a", &OPENED)?
            };
            let mut bytes = Vec::new();
            let mut paced = Paced { inner: &mut stream, pace: Pace::default(), stop: self.stop.clone() };
            let read = (&mut paced).take(LARGEST_LISTING + 1).read_to_end(&mut bytes);
            stream.finish()?;
            read.map_err(FtpError::ConnectionError)?;
            Ok(bytes)
        })?;
        if bytes.len() as u64 > LARGEST_LISTING {
            return Err(Trouble::lasting(FaultKind::BadAnswer, "list", folder).because("it has no end"));
        }
        let lines = bytes.split(|byte| *byte == b'\n').map(|line| line.strip_suffix(b"\r").unwrap_or(line));
        Ok(lines.filter(|line| !line.is_empty()).map(<[u8]>::to_vec).collect())
    }

    pub(super) fn read_line(&self, line: &[u8]) -> Option<ListingLine> {
        if self.offers.machine_lists { machine_line(line, self.needs_notes()) } else { listed_line(line) }
    }

    /// A file that no listing shows, by what the server says of its size and time (RFC 3659, sections 3 and 4).
    pub(super) fn asked_for(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let full = self.full(path);
        let size = match self.with("examine", path, |ftp| ftp.size(&full)) {
            Ok(size) => size as u64,
            Err(trouble) if trouble.again == Again::Never => return Ok(None),
            Err(trouble) => return Err(trouble),
        };
        let modified = self.with("examine", path, |ftp| ftp.mdtm(&full)).ok();
        Ok(facts::unlisted(size, modified.map(|time| time.and_utc().timestamp())))
    }

    /// Sets what can be set of a file.
    pub(super) fn adjust(
        &self,
        ftp: &mut RustlsFtpStream,
        path: &RelPath,
        attributes: &Attributes,
    ) -> Result<(), FtpError> {
        let full = self.full(path);
        let time = attributes.modified.and_then(facts::time_text);
        let expected = [Status::File, Status::RequestedFileActionOk, Status::CommandOk];
        if self.offers.sets_facts && attributes.mode.is_some() {
            let mode = attributes
                .mode
                .map(|mode| format!("UNIX.mode={:04o};", mode & 0o7777 & !SPECIAL_BITS))
                .unwrap_or_default();
            let time = time.map(|time| format!("Modify={time};")).unwrap_or_default();
            return ftp.custom_command(format!("MFF {mode}{time} {full}"), &expected).map(drop);
        }
        match time {
            Some(time) if self.offers.sets_times => {
                ftp.custom_command(format!("MFMT {time} {full}"), &expected).map(drop)
            }
            _ => Ok(()),
        }
    }
}

pub(super) fn features(ftp: &mut RustlsFtpStream) -> String {
    match ftp.feat() {
        Ok(found) => {
            let line = |(name, value): (&String, &Option<String>)| match value {
                Some(value) => format!("{name} {value}"),
                None => name.clone(),
            };
            found.iter().map(line).collect::<Vec<_>>().join("\n")
        }
        Err(_) => String::new(),
    }
}

pub(super) fn find_root(ftp: &mut RustlsFtpStream, address: &Address) -> Result<Vec<u8>, ConnectError> {
    let path = address.path.strip_prefix(b"/").unwrap_or(&address.path);
    let missing = || ConnectError::NoFolder {
        address: format!("{}://{}", address.scheme, address.host),
        path: String::from_utf8_lossy(path).into_owned(),
    };
    if !path.is_empty() {
        ftp.cwd(text_of(path)).map_err(|_| missing())?;
    }
    let root = facts::bytes_of(&ftp.pwd().map_err(|_| missing())?);
    Ok(root.strip_suffix(b"/").unwrap_or(&root).to_vec())
}

/// What comes over a data connection, as long as it comes fast enough.
pub(super) struct Paced<'a, R> {
    pub(super) inner: &'a mut R,
    pub(super) pace: Pace,
    pub(super) stop: Stop,
}

impl<R: Read> Read for Paced<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let begun = Instant::now();
        let length = self.inner.read(buffer)?;
        if self.stop.is_overdue() {
            return Err(std::io::Error::other("it was stopped"));
        }
        match length == 0 || self.pace.came(length as u64, begun.elapsed()) {
            true => Ok(length),
            false => Err(std::io::Error::other("it sends next to nothing")),
        }
    }
}

/// What an error means, as far as its number tells (RFC 959, section 4.2).
pub(super) fn trouble(error: &FtpError, action: &'static str, path: &RelPath) -> Trouble {
    let Some((code, words)) = refusal(error) else { return Trouble::broke(action, path, error.to_string()) };
    let full = ["no space left", "disk full", "quota exceeded"];
    let (kind, again) = match code {
        // The numbers for this are rarely used: what the server says is all there is.
        _ if full.iter().any(|full| words.to_ascii_lowercase().contains(full)) => {
            (FaultKind::NoSpace, Again::Never)
        }
        421 | 425 | 426 => (FaultKind::Interrupted, Again::Soon),
        450 | 451 => (FaultKind::Busy, Again::Soon),
        452 | 552 => (FaultKind::NoSpace, Again::Never),
        500 | 502 | 504 => (FaultKind::Unsupported, Again::Never),
        501 | 553 => (FaultKind::NameRefused, Again::Never),
        530 => (FaultKind::LoginFailed, Again::Never),
        _ => (FaultKind::Io, Again::Never),
    };
    let error = StoreError::new(kind, action, path).because(format!("the server says: {words}"));
    Trouble { error, again }
}

impl Ftp {
    /// The same place once more, for a transfer that outlives this call.
    pub(super) fn alike(&self) -> Ftp {
        Ftp {
            pool: self.pool.clone(),
            root: self.root.clone(),
            offers: self.offers,
            round_trip: self.round_trip,
            secure: self.secure,
            server: String::new(),
            restarts: self.restarts.clone(),
            stop: self.stop.clone(),
        }
    }
}
