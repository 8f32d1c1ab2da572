//! SFTP over SSH (draft-ietf-secsh-filexfer-02, and the extensions that OpenSSH's PROTOCOL file describes).
//!
//! One SSH connection carries several SFTP channels, because a server works through one channel's requests in turn. Requests of a file
//! are sent without waiting for the answers of those before them, wherever they do not depend on them.

mod config;
mod known;
mod line;
mod packet;
mod replies;
mod ssh;
mod transfer;

pub use self::ssh::{SshSetup, is_plain};

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Attributes, Capabilities, FaultKind, Limits, Listing, Place, Space, StoreError};

use self::line::{Broken, Channel, Pending};
use self::packet::{Packet, Reader, Reply, status};
use self::transfer::{SftpDownload, SftpUpload};
use super::connect::{Account, Address, CONNECT_WITHIN, ConnectError, workers_for};
use super::gather::Gather;
use super::runtime::{self, Runtime};
use super::stop::Stop;
use super::wire::{self, Again, Answer, Download, Over, Trouble, Upload, Wire};
use crate::remote::sftp::replies::{LARGEST_PIECE, PIECE, failed, pieces, unusable};

/// Channels of a connection. Servers allow ten as a rule.
const CHANNELS: usize = 4;

/// A folder at an SFTP server.
pub struct Sftp {
    runtime: Runtime,
    address: Address,
    account: Account,
    setup: SshSetup,
    /// The root as the server itself calls it.
    root: Vec<u8>,
    offers: Offers,
    round_trip: Duration,
    session: Mutex<Option<Arc<Session>>>,
    /// In which order links are made, once that is found out; `None` within: in neither.
    link_order: Mutex<Option<Option<LinkOrder>>>,
}

/// A logged-in connection with its channels.
struct Session {
    handle: russh::client::Handle<ssh::Greeter>,
    lines: Mutex<Vec<Arc<Channel>>>,
    /// How many channels there may be: fewer once the server has refused one.
    most: AtomicUsize,
}

/// The extensions of a server that are used here.
#[derive(Debug, Clone, Copy, Default)]
struct Offers {
    posix_rename: bool,
    hard_links: bool,
    fsync: bool,
    space: bool,
    link_times: bool,
    copy_data: bool,
    read_piece: u32,
    write_piece: u32,
}

impl Offers {
    fn of(extensions: &[(String, String)]) -> Offers {
        let names: HashSet<&str> = extensions.iter().map(|(name, _)| name.as_str()).collect();
        Offers {
            posix_rename: names.contains("posix-rename@openssh.com"),
            hard_links: names.contains("hardlink@openssh.com"),
            fsync: names.contains("fsync@openssh.com"),
            space: names.contains("statvfs@openssh.com"),
            link_times: names.contains("lsetstat@openssh.com"),
            copy_data: names.contains("copy-data"),
            read_piece: PIECE,
            write_piece: PIECE,
        }
    }
}

impl Sftp {
    /// Connects, logs in and finds the folder.
    ///
    /// # Errors
    /// See [`ConnectError`].
    pub fn connect(
        address: Address,
        account: Account,
        setup: SshSetup,
        stop: &Stop,
    ) -> Result<Sftp, ConnectError> {
        let runtime = runtime::handle(stop)
            .map_err(|error| ConnectError::Setup(format!("no threads for the network: {error}")))?;
        let session = Session::open(&runtime, &address, &account, &setup)?;
        let (line, extensions) = session.new_line(&runtime).map_err(|why| unusable(&address, why.0))?;
        let line = Arc::new(line);
        session.lines().push(line.clone());
        // Once it is known, it stays known: a connection that is made anew needs no second word.
        let setup = SshSetup { accept: None, ..setup };
        let mut sftp = Sftp {
            runtime,
            root: Vec::new(),
            link_order: Mutex::default(),
            offers: Offers::of(&extensions),
            round_trip: Duration::ZERO,
            session: Mutex::new(Some(Arc::new(session))),
            address,
            account,
            setup,
        };
        let told = |why: Broken| unusable(&sftp.address, why.0);
        if extensions.iter().any(|(name, _)| name == "limits@openssh.com") {
            let limits =
                line.ask(Packet::new(packet::EXTENDED).bytes(b"limits@openssh.com")).map_err(told)?;
            (sftp.offers.read_piece, sftp.offers.write_piece) = pieces(limits.wait().map_err(told)?);
        }
        sftp.root = sftp.find_root(&line)?;
        let begun = Instant::now();
        sftp.stat(&RelPath::root()).map_err(|trouble| unusable(&sftp.address, trouble.error.to_string()))?;
        sftp.round_trip = begun.elapsed();
        Ok(sftp)
    }

    /// The folder's own name, without links on the way; a path that begins with `/~/` begins at the account's folder.
    fn find_root(&self, line: &Channel) -> Result<Vec<u8>, ConnectError> {
        let wanted = match self.address.path.strip_prefix(b"/~") {
            Some(b"" | b"/") => b".".to_vec(),
            Some(rest) if rest.starts_with(b"/") => rest[1..].to_vec(),
            _ => self.address.path.clone(),
        };
        let ask = |packet: Packet| -> Result<Reply, ConnectError> {
            let answer = line.ask(packet).and_then(Pending::wait);
            answer.map_err(|why| unusable(&self.address, why.0))
        };
        let missing = || ConnectError::NoFolder {
            address: format!("sftp://{}", self.address.host),
            path: String::from_utf8_lossy(&wanted).into_owned(),
        };
        let Reply::Names(mut names) = ask(Packet::new(packet::REALPATH).bytes(&wanted))? else {
            return Err(missing());
        };
        let root =
            names.pop().map(|named| named.name).filter(|root| root.starts_with(b"/")).ok_or_else(missing)?;
        match ask(Packet::new(packet::LSTAT).bytes(&root))? {
            Reply::Attributes(found) if found.meta().is_some_and(|meta| meta.is_folder()) => {}
            _ => return Err(missing()),
        }
        let trimmed = root.strip_suffix(b"/").unwrap_or(&root).to_vec();
        Ok(trimmed)
    }

    fn full(&self, path: &RelPath) -> Vec<u8> {
        if path.is_root() {
            if self.root.is_empty() { b"/".to_vec() } else { self.root.clone() }
        } else {
            [self.root.as_slice(), b"/", path.as_bytes()].concat()
        }
    }

    fn session(&self) -> MutexGuard<'_, Option<Arc<Session>>> {
        self.session.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A channel that works, by way of a new connection if need be. Who comes while it is being made waits for it.
    fn line(&self, action: &'static str, path: &RelPath) -> Answer<Arc<Channel>> {
        let mut current = self.session();
        let alive = current.as_ref().is_some_and(|session| session.is_alive());
        if !alive {
            *current = None;
            let made = Session::open(&self.runtime, &self.address, &self.account, &self.setup);
            *current = Some(Arc::new(made.map_err(|error| Trouble::unconnected(error, action, path))?));
        }
        let Some(session) = current.clone() else {
            return Err(Trouble::broke(action, path, "not connected"));
        };
        session.free_line(&self.runtime).map_err(|why| Trouble::broke(action, path, why.0))
    }

    /// Sends one request and waits for its answer.
    fn ask(&self, packet: Packet, action: &'static str, path: &RelPath) -> Answer<Reply> {
        let line = self.line(action, path)?;
        let answer = line.ask(packet).and_then(Pending::wait);
        answer.map_err(|why| Trouble::broke(action, path, why.0))
    }

    /// The same for a request that is answered with a status only.
    fn tell(&self, packet: Packet, action: &'static str, path: &RelPath) -> Answer<()> {
        match self.ask(packet, action, path)? {
            Reply::Status { code: status::OK, .. } => Ok(()),
            reply => Err(failed(reply, action, path)),
        }
    }

    /// Opens a file or folder.
    fn open(&self, packet: Packet, action: &'static str, path: &RelPath) -> Answer<(Arc<Channel>, Vec<u8>)> {
        let line = self.line(action, path)?;
        match line.ask(packet).and_then(Pending::wait) {
            Ok(Reply::Handle(handle)) => Ok((line, handle)),
            Ok(reply) => Err(failed(reply, action, path)),
            Err(why) => Err(Trouble::broke(action, path, why.0)),
        }
    }

    fn target_of(&self, path: &RelPath) -> Answer<Option<Box<[u8]>>> {
        match self.ask(Packet::new(packet::READLINK).bytes(&self.full(path)), "read link", path)? {
            Reply::Names(mut names) => Ok(names.pop().map(|named| named.name.into())),
            reply => Err(failed(reply, "read link", path)),
        }
    }

    /// What a server means by "failure" shows in what is there: see draft-ietf-secsh-filexfer-02, section 7, which has no word
    /// for most things that go wrong.
    fn explained(&self, trouble: Trouble, meant: FaultKind, path: &RelPath) -> Trouble {
        if trouble.kind() == FaultKind::Io && matches!(self.stat(path), Ok(Some(_))) {
            return Trouble { error: StoreError { kind: meant, ..trouble.error }, ..trouble };
        }
        trouble
    }

    fn is_full(&self) -> bool {
        matches!(self.space(), Ok(Some(space)) if space.free < LARGEST_PIECE)
    }

    fn explain_write(&self, trouble: Trouble) -> Trouble {
        if trouble.kind() == FaultKind::Io && self.is_full() {
            return Trouble { error: StoreError { kind: FaultKind::NoSpace, ..trouble.error }, ..trouble };
        }
        trouble
    }

    fn begin(&self, path: &RelPath, flags: u32, mode: Option<u32>) -> Answer<SftpUpload> {
        // Its owner alone can read and write it until it is whole and gets its own mode.
        let attributes = Attributes { mode: mode.map(|_| 0o600), ..Attributes::default() };
        let packet =
            Packet::new(packet::OPEN).bytes(&self.full(path)).u32(flags).attributes(&attributes, None);
        let (line, handle) = self.open(packet, "write", path)?;
        Ok(SftpUpload::new(line, handle, path, self.offers.write_piece as usize, self.offers.fsync))
    }
}

impl Session {
    fn open(
        runtime: &Runtime,
        address: &Address,
        account: &Account,
        setup: &SshSetup,
    ) -> Result<Session, ConnectError> {
        let connecting = ssh::connect(&address.host, address.port, account, setup);
        let handle = runtime::wait(runtime, CONNECT_WITHIN * 3, connecting).ok_or_else(|| {
            ConnectError::Unreachable { address: address.shown(), why: "no answer".to_owned() }
        })??;
        Ok(Session { handle, lines: Mutex::default(), most: AtomicUsize::new(CHANNELS) })
    }

    fn lines(&self) -> MutexGuard<'_, Vec<Arc<Channel>>> {
        self.lines.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn is_alive(&self) -> bool {
        !self.handle.is_closed() && self.lines().iter().all(|line| line.is_alive())
    }

    fn new_line(&self, runtime: &Runtime) -> Result<(Channel, Vec<(String, String)>), Broken> {
        let opening = async {
            let told = |error: russh::Error| Broken(error.to_string());
            let channel = self.handle.channel_open_session().await.map_err(told)?;
            channel.request_subsystem(true, "sftp").await.map_err(told)?;
            Channel::open(channel.into_stream(), runtime.stop.clone()).await
        };
        runtime::wait(runtime, CONNECT_WITHIN, opening).unwrap_or_else(|| Err(Broken("no answer".to_owned())))
    }

    /// The channel with the least to do; a new one as long as there may be more.
    fn free_line(&self, runtime: &Runtime) -> Result<Arc<Channel>, Broken> {
        let mut lines = self.lines();
        let idle = lines.iter().min_by_key(|line| line.load()).cloned();
        let most = self.most.load(Ordering::Relaxed);
        if let Some(line) = idle.filter(|line| line.load() == 0 || lines.len() >= most) {
            return Ok(line);
        }
        match self.new_line(runtime) {
            Ok((line, _)) => {
                let line = Arc::new(line);
                lines.push(line.clone());
                Ok(line)
            }
            // A server that allows no more channels is served by those there are.
            Err(why) => {
                self.most.store(lines.len().max(1), Ordering::Relaxed);
                lines.iter().min_by_key(|line| line.load()).cloned().ok_or(why)
            }
        }
    }
}

impl Wire for Sftp {
    fn address(&self) -> String {
        self.address.shown()
    }

    fn place(&self) -> Place {
        let port = self.address.port.unwrap_or(22);
        let root = String::from_utf8_lossy(&self.root);
        Place::Elsewhere(format!("sftp://{}:{port}{root}", self.address.host.to_lowercase()))
    }

    fn capabilities(&self) -> Capabilities {
        let offers = &self.offers;
        Capabilities {
            folder_times: true,
            link_times: offers.link_times,
            modes: true,
            // Which order a link's two names have is found out with the first link.
            links: true,
            // Whole seconds since 1970, in 32 bits without a sign (draft-ietf-secsh-filexfer-02).
            limits: Limits { times: Some((0, i64::from(u32::MAX))), ..Limits::NONE },
            ..wire::usual(workers_for(self.round_trip))
        }
    }

    fn follows_links(&self) -> bool {
        true
    }

    fn closes_unfinished(&self) -> bool {
        true
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let opening = Packet::new(packet::OPENDIR).bytes(&self.full(folder));
        let (line, handle) = self.open(opening, "list", folder)?;
        let broke = |why: Broken| Trouble::broke("list", folder, why.0);
        let mut gather = Gather::new(folder);
        loop {
            let reading = line.ask(Packet::new(packet::READDIR).bytes(&handle));
            match reading.and_then(Pending::wait).map_err(broke)? {
                Reply::Names(names) => {
                    let real = names.iter().filter(|named| named.name != b"." && named.name != b"..");
                    real.for_each(|named| gather.take(&named.name, named.found.meta()));
                }
                Reply::Status { code: status::EOF, .. } => break,
                reply => return Err(failed(reply, "list", folder)),
            }
            gather.go_on()?;
        }
        // Nobody waits for the closing.
        let _ = line.ask(Packet::new(packet::CLOSE).bytes(&handle));
        let mut listing = gather.done();
        for entry in listing.entries.iter_mut().filter(|entry| entry.meta.kind == EntryKind::Link) {
            entry.meta.target = self.target_of(&folder.join(&entry.name))?;
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let reply = self.ask(Packet::new(packet::LSTAT).bytes(&self.full(path)), "examine", path)?;
        let mut meta = match reply {
            Reply::Status { code: status::NO_SUCH_FILE, .. } => return Ok(None),
            Reply::Attributes(found) => {
                let unclear = || Trouble::lasting(FaultKind::BadAnswer, "examine", path);
                found.meta().ok_or_else(unclear)?
            }
            reply => return Err(failed(reply, "examine", path)),
        };
        if meta.kind == EntryKind::Link {
            meta.target = self.target_of(path)?;
        }
        Ok(Some(meta))
    }

    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>> {
        let packet = Packet::new(packet::OPEN).bytes(&self.full(path)).u32(packet::FOR_READING);
        let packet = packet.attributes(&Attributes::default(), None);
        let (line, handle) = self.open(packet, "read", path)?;
        Ok(Box::new(SftpDownload::begin(line, handle, path, offset, self.offers.read_piece)?))
    }

    fn write(
        &self,
        path: &RelPath,
        _target: &RelPath,
        hint: &Attributes,
        at: Option<u64>,
        _size: Option<u64>,
    ) -> Answer<Box<dyn Upload>> {
        let Some(at) = at else {
            let flags = packet::FOR_WRITING | packet::CREATE | packet::EXCLUSIVE;
            return Ok(Box::new(self.begin(path, flags, hint.mode)?));
        };
        let mut upload = self.begin(path, packet::FOR_WRITING, hint.mode)?;
        upload.cut_at(at)?;
        Ok(Box::new(upload))
    }

    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()> {
        let flags = packet::FOR_WRITING | packet::CREATE | packet::TRUNCATE;
        let mut upload = Box::new(self.begin(path, flags, attributes.mode)?);
        upload.write(data).map_err(|trouble| self.explain_write(trouble))?;
        upload.finish(attributes).map_err(|trouble| self.explain_write(trouble))
    }

    fn make_link(&self, path: &RelPath, target: &[u8]) -> Answer<()> {
        let order = self.link_order(path)?;
        let made = self.tell(order.packet(&self.full(path), target), "make link", path);
        made.map_err(|trouble| self.explained(trouble, FaultKind::Exists, path))
    }

    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        let (old, new) = (self.full(from), self.full(to));
        match over {
            // The protocol's own rename never overwrites.
            Over::Nothing => {
                let renamed = self.tell(Packet::new(packet::RENAME).bytes(&old).bytes(&new), "rename", to);
                renamed.map_err(|trouble| self.explained(trouble, FaultKind::Exists, to))
            }
            Over::This(_) if self.offers.posix_rename => {
                let packet = Packet::new(packet::EXTENDED).bytes(b"posix-rename@openssh.com");
                self.tell(packet.bytes(&old).bytes(&new), "rename", to)
            }
            Over::This(_) => Err(Trouble::lasting(FaultKind::Unsupported, "replace", to)),
        }
    }

    fn duplicate(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        let (old, new) = (self.full(from), self.full(to));
        if self.offers.hard_links {
            let packet = Packet::new(packet::EXTENDED).bytes(b"hardlink@openssh.com").bytes(&old).bytes(&new);
            let linked = self.tell(packet, "keep", from);
            match linked.map_err(|trouble| self.explained(trouble, FaultKind::Exists, to)) {
                // A file system without second names.
                Err(trouble) if matches!(trouble.kind(), FaultKind::Io | FaultKind::Denied) => {}
                outcome => return outcome,
            }
        }
        self.copy_on_server(from, to)
    }

    fn remove(&self, path: &RelPath, _seen: &Meta) -> Answer<()> {
        self.tell(Packet::new(packet::REMOVE).bytes(&self.full(path)), "remove", path)
    }

    fn remove_folder(&self, path: &RelPath) -> Answer<()> {
        let removed = self.tell(Packet::new(packet::RMDIR).bytes(&self.full(path)), "remove", path);
        removed.map_err(|trouble| self.explained(trouble, FaultKind::NotEmpty, path))
    }

    fn make_folder(&self, path: &RelPath, mode: Option<u32>) -> Answer<()> {
        let attributes = Attributes { mode, ..Attributes::default() };
        let packet = Packet::new(packet::MKDIR).bytes(&self.full(path)).attributes(&attributes, None);
        let made = self.tell(packet, "make folder", path);
        made.map_err(|trouble| self.explained(trouble, FaultKind::Exists, path))
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        let packet = if self.offers.link_times {
            Packet::new(packet::EXTENDED).bytes(b"lsetstat@openssh.com")
        } else {
            Packet::new(packet::SETSTAT)
        };
        self.tell(packet.bytes(&self.full(path)).attributes(attributes, None), "adjust", path)
    }

    fn space(&self) -> Answer<Option<Space>> {
        if !self.offers.space {
            return Ok(None);
        }
        let root = RelPath::root();
        let packet = Packet::new(packet::EXTENDED).bytes(b"statvfs@openssh.com").bytes(&self.full(&root));
        let Reply::Extended(bytes) = self.ask(packet, "measure", &root)? else { return Ok(None) };
        let mut reader = Reader(&bytes);
        let mut next = || reader.u64().unwrap_or_default();
        let (_block, unit, total, _free, available) = (next(), next(), next(), next(), next());
        Ok(Some(Space { free: available.saturating_mul(unit), total: total.saturating_mul(unit) }))
    }

    fn facts(&self) -> Vec<(&'static str, String)> {
        let offers = &self.offers;
        let all = [
            (offers.posix_rename, "replaces in one step"),
            (offers.fsync, "makes files durable"),
            (offers.hard_links, "second names"),
            (offers.copy_data, "copies by itself"),
            (offers.space, "tells its space"),
        ];
        let offered: Vec<&str> =
            all.into_iter().filter_map(|(offered, words)| offered.then_some(words)).collect();
        vec![
            ("protocol", "SFTP 3 over SSH".to_owned()),
            ("folder", String::from_utf8_lossy(&self.full(&RelPath::root())).into_owned()),
            ("server", if offered.is_empty() { "plain".to_owned() } else { offered.join(", ") }),
        ]
    }
}

/// In which order a server takes the two names of a link. The draft has the link first; most servers have what it leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum LinkOrder {
    TargetFirst,
    LinkFirst,
}

impl LinkOrder {
    fn packet(self, link: &[u8], target: &[u8]) -> Packet {
        let (one, other) = if self == LinkOrder::TargetFirst { (target, link) } else { (link, target) };
        Packet::new(packet::SYMLINK).bytes(one).bytes(other)
    }
}

impl Sftp {
    /// The order of a link's two names, found out once by making one in Reedhook's own folder: in the wrong order, the link would be made
    /// wherever the target leads.
    fn link_order(&self, path: &RelPath) -> Answer<LinkOrder> {
        let mut known = self.link_order.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(order) = *known {
            return order.ok_or_else(|| Trouble::lasting(FaultKind::Unsupported, "make link", path));
        }
        let own = RelPath::reserved();
        match self.make_folder(&own, None) {
            Err(trouble) if trouble.kind() != FaultKind::Exists => return Err(trouble),
            _ => {}
        }
        let found = self.try_link_order(&own)?;
        *known = Some(found);
        found.ok_or_else(|| Trouble::lasting(FaultKind::Unsupported, "make link", path))
    }

    /// Makes a link of which both names are new ones in a folder of ours, and looks at which of them is there.
    fn try_link_order(&self, own: &RelPath) -> Answer<Option<LinkOrder>> {
        let name = |what: &str| -> Answer<RelPath> {
            let name = Name::new(format!("link-{what}-{:016x}", fastrand::u64(..)).as_bytes());
            Ok(own.join(&name.map_err(|_| StoreError::new(FaultKind::NameRefused, "make link", own))?))
        };
        let (link, target) = (name("a")?, name("b")?);
        let (link_path, target_path) = (self.full(&link), self.full(&target));
        match self.tell(LinkOrder::TargetFirst.packet(&link_path, &target_path), "make link", &link) {
            Err(trouble) if trouble.again != Again::Never => return Err(trouble),
            // Whatever it says: what is there counts.
            _ => {}
        }
        let leads_to = |path: &RelPath, to: &[u8]| -> Answer<bool> {
            let found = self.stat(path)?;
            Ok(found.is_some_and(|meta| meta.target.as_deref() == Some(to)))
        };
        let order = match (leads_to(&link, &target_path)?, leads_to(&target, &link_path)?) {
            (true, false) => Some(LinkOrder::TargetFirst),
            (false, true) => Some(LinkOrder::LinkFirst),
            _ => None,
        };
        for path in [&link, &target] {
            // What is not there need not go.
            let _ = self.tell(Packet::new(packet::REMOVE).bytes(&self.full(path)), "remove", path);
        }
        Ok(order)
    }

    /// Copies a file without moving its bytes here and back.
    fn copy_on_server(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        if !self.offers.copy_data {
            return Err(Trouble::lasting(FaultKind::Unsupported, "keep", from));
        }
        let found = self.stat(from)?.ok_or_else(|| Trouble::lasting(FaultKind::NotFound, "keep", from))?;
        if found.kind != EntryKind::File {
            return Err(Trouble::lasting(FaultKind::Unsupported, "keep", from));
        }
        let flags = packet::FOR_WRITING | packet::CREATE | packet::EXCLUSIVE;
        let upload = self.begin(to, flags, found.mode)?;
        let (line, handle) = upload.parts();
        // Both have to be open in one channel.
        let packet = Packet::new(packet::OPEN).bytes(&self.full(from)).u32(packet::FOR_READING);
        let opened = line.ask(packet.attributes(&Attributes::default(), None)).and_then(Pending::wait);
        let source = match opened.map_err(|why| Trouble::broke("keep", from, why.0))? {
            Reply::Handle(handle) => handle,
            reply => return Err(failed(reply, "keep", from)),
        };
        let copy = Packet::new(packet::EXTENDED).bytes(b"copy-data").bytes(&source).u64(0).u64(0);
        let copied = line.ask(copy.bytes(handle).u64(0)).and_then(Pending::wait);
        let _ = line.ask(Packet::new(packet::CLOSE).bytes(&source));
        match copied.map_err(|why| Trouble::broke("keep", from, why.0))? {
            Reply::Status { code: status::OK, .. } => {}
            reply => return Err(failed(reply, "keep", from)),
        }
        let attributes = Attributes { modified: found.modified, mode: found.mode, extra: None };
        Box::new(upload).finish(&attributes)
    }
}
