//! WebDAV (RFC 4918), over HTTP or TLS.
//!
//! Most servers cannot be told the time of a file. They name each version with an entity tag instead, so what was written is noted
//! with its tag ([`Wire::needs_notes`]). A server that does let its times be set is told them as well: then other machines see
//! them too.

mod http;
mod multistatus;

use std::collections::HashSet;
use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use reqwest::{Method, Response, StatusCode, Url};

use reedhook_core::entry::{Entry, EntryKind, Meta, Stamp, Version};
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, FaultKind, Listing, NameRule, Place, Space, StoreError, Unknown,
};

use self::http::{Ask, Http};
use self::multistatus::Found;
use super::connect::{ANSWER_WITHIN, Account, Address, ConnectError, Trust, workers_for};
use super::runtime;
use super::wire::{Again, Answer, Download, Over, Trouble, Upload, Wire};

/// No listing is larger.
const LARGEST_LISTING: usize = 256 << 20;

/// Pieces of content that are underway between a reader and the network.
const UNDERWAY: usize = 16;

/// A folder at a WebDAV server.
pub struct WebDav {
    shared: Arc<Shared>,
    address: Address,
    base: Url,
    round_trip: Duration,
    server: String,
    /// Whether times can be set, once it has been tried.
    sets_times: AtomicU8,
}

struct Shared {
    http: Http,
    /// Whether a file can be sent in parts, once it has been tried.
    takes_parts: AtomicU8,
}

const UNTRIED: u8 = 0;
const YES: u8 = 1;
const NO: u8 = 2;

fn method(name: &'static str) -> Method {
    Method::from_bytes(name.as_bytes()).unwrap_or(Method::GET)
}

/// A path as it is written in a URL: everything but the unreserved characters of RFC 3986 is percent-encoded.
fn encode(path: &[u8]) -> String {
    let mut text = String::with_capacity(path.len());
    for byte in path {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                text.push(char::from(*byte))
            }
            other => text.push_str(&format!("%{other:02X}")),
        }
    }
    text
}

/// Percent-encoding undone; `None` where it is none.
fn decode(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => {
                let (high, low) =
                    (char::from(rest.next()?).to_digit(16)?, char::from(rest.next()?).to_digit(16)?);
                (high * 16 + low) as u8
            }
            plain => plain,
        });
    }
    Some(bytes)
}

impl WebDav {
    /// Connects, logs in and finds the folder.
    ///
    /// # Errors
    /// See [`ConnectError`].
    pub fn connect(address: Address, account: Account, trust: &Trust) -> Result<WebDav, ConnectError> {
        let runtime = runtime::handle()
            .map_err(|error| ConnectError::Setup(format!("no threads for the network: {error}")))?;
        let scheme = if address.scheme == "davs" { "https" } else { "http" };
        let port = address.port.map(|port| format!(":{port}")).unwrap_or_default();
        let slash = if address.path.ends_with(b"/") { "" } else { "/" };
        let text = format!("{scheme}://{}{port}{}{slash}", address.host, encode(&address.path));
        let base = Url::parse(&text)
            .map_err(|error| ConnectError::Setup(format!("{} is no address: {error}", address.shown())))?;
        let http = Http::new(runtime, account, trust, address.shown())?;
        let mut found = WebDav {
            shared: Arc::new(Shared { http, takes_parts: AtomicU8::new(UNTRIED) }),
            address,
            base,
            round_trip: Duration::ZERO,
            server: String::new(),
            sets_times: AtomicU8::new(UNTRIED),
        };
        found.greet()?;
        Ok(found)
    }

    fn greet(&mut self) -> Result<(), ConnectError> {
        let http = &self.shared.http;
        let root = RelPath::root();
        let response = http.greet(&self.propfind(&root, self.base.clone(), "0", multistatus::WANTED))?;
        let server = response.headers().get("server").and_then(|value| value.to_str().ok());
        let server = server.unwrap_or("does not say what it is").to_owned();
        let no_folder = || ConnectError::NoFolder {
            address: self.base.origin().ascii_serialization(),
            path: String::from_utf8_lossy(&self.address.path).into_owned(),
        };
        match response.status().as_u16() {
            207 => {}
            404 | 410 => return Err(no_folder()),
            200 | 405 | 501 => {
                return Err(http.unusable("it is a web server without WebDAV there".to_owned()));
            }
            other => {
                let judged = http.judge(response, "open", &root);
                let why = judged.err().map(|trouble| trouble.error.reason());
                return Err(http.unusable(why.unwrap_or_else(|| format!("it says {other}"))));
            }
        }
        let body = http.body(response, LARGEST_LISTING, "open", &root);
        let body = body.map_err(|trouble| http.unusable(trouble.error.to_string()))?;
        let found = multistatus::read(&body).map_err(|why| http.unusable(why))?;
        if !found.first().is_some_and(|found| found.folder) {
            return Err(no_folder());
        }
        // The first call made the connection; the second shows how long an answer takes.
        let begun = Instant::now();
        self.stat(&root).map_err(|trouble| http.unusable(trouble.error.to_string()))?;
        let round_trip = begun.elapsed();
        (self.server, self.round_trip) = (server, round_trip);
        Ok(())
    }

    fn http(&self) -> &Http {
        &self.shared.http
    }

    fn url(&self, path: &RelPath, folder: bool) -> Url {
        let mut url = self.base.clone();
        let slash = if folder && !path.is_root() { "/" } else { "" };
        url.set_path(&format!("{}{}{slash}", self.base.path(), encode(path.as_bytes())));
        url
    }

    fn ask<'a>(&self, name: &'static str, path: &'a RelPath, folder: bool, action: &'static str) -> Ask<'a> {
        Ask {
            method: method(name),
            url: self.url(path, folder),
            headers: Vec::new(),
            body: Vec::new(),
            action,
            path,
        }
    }

    fn propfind<'a>(&self, path: &'a RelPath, url: Url, depth: &str, body: &str) -> Ask<'a> {
        let ask = Ask {
            method: method("PROPFIND"),
            url,
            headers: Vec::new(),
            body: Vec::new(),
            action: "examine",
            path,
        };
        ask.header("depth", depth).header("content-type", "application/xml; charset=utf-8").body(body)
    }

    /// The entries of an answer.
    fn found(&self, ask: &Ask<'_>) -> Answer<Vec<Found>> {
        let response = self.http().send(ask)?;
        let bad = |why: String| Trouble::lasting(FaultKind::BadAnswer, ask.action, ask.path).because(why);
        if response.status() != StatusCode::MULTI_STATUS {
            return Err(bad(format!("it says {} where a list was asked for", response.status())));
        }
        let body = self.http().body(response, LARGEST_LISTING, ask.action, ask.path)?;
        multistatus::read(&body).map_err(bad)
    }

    /// The path below the root that an answer's address means; `None` when it leads elsewhere.
    fn path_of(&self, href: &str) -> Option<Vec<u8>> {
        let path = if href.starts_with('/') {
            href.to_owned()
        } else {
            let url = Url::parse(href).ok()?;
            (url.origin() == self.base.origin()).then(|| url.path().to_owned())?
        };
        let (path, base) = (decode(&path)?, decode(self.base.path())?);
        let below = match path.strip_prefix(base.as_slice()) {
            Some(below) => below,
            // The root itself, without its slash.
            None => base.strip_suffix(b"/").filter(|base| **base == path[..]).map(|_| &[][..])?,
        };
        Some(below.strip_suffix(b"/").unwrap_or(below).to_vec())
    }

    fn rename_or_copy(&self, name: &'static str, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        let Over::This(seen) = over else { return self.send_rename(name, from, to, over, None) };
        match self.send_rename(name, from, to, over, strong(seen)) {
            // A tag that is still weak, because the version is very young, never fulfils a condition: then a look has to do.
            Err(trouble) if trouble.kind() == FaultKind::Changed && self.is_same_version(to, seen)? => {
                self.send_rename(name, from, to, over, None)
            }
            outcome => outcome,
        }
    }

    fn is_same_version(&self, path: &RelPath, seen: &Meta) -> Answer<bool> {
        let tag = |meta: &Meta| meta.version.as_ref().map(|version| version.tag.clone());
        Ok(self.stat(path)?.is_some_and(|found| tag(&found) == tag(seen)))
    }

    fn send_rename(
        &self,
        name: &'static str,
        from: &RelPath,
        to: &RelPath,
        over: Over<'_>,
        tag: Option<&str>,
    ) -> Answer<()> {
        let folder = name == "MOVE" && matches!(over, Over::Nothing) && self.is_folder(from)?;
        let destination = self.url(to, folder);
        let mut ask = self.ask(name, from, folder, "rename").header("destination", destination.as_str());
        ask = match (over, tag) {
            (Over::Nothing, _) => ask.header("overwrite", "F"),
            (Over::This(_), None) => ask.header("overwrite", "T"),
            (Over::This(_), Some(tag)) => {
                ask.header("overwrite", "T").header("if", format!("<{destination}> ([{tag}])"))
            }
        };
        if name == "COPY" {
            ask = ask.header("depth", "0");
        }
        match self.http().send(&ask) {
            Ok(response) if response.status() == StatusCode::MULTI_STATUS => {
                Err(Trouble::lasting(FaultKind::Io, "rename", from)
                    .because("only a part of it could be renamed"))
            }
            Ok(_) => Ok(()),
            Err(trouble) if matches!(over, Over::Nothing) && trouble.kind() == FaultKind::Changed => {
                Err(Trouble { error: StoreError { kind: FaultKind::Exists, ..trouble.error }, ..trouble })
            }
            Err(trouble) => Err(trouble),
        }
    }

    /// Only unfinished files and what is set aside are renamed often, and those are files: a look is needed for other names.
    fn is_folder(&self, path: &RelPath) -> Answer<bool> {
        if path.file_name().is_some_and(|name| name.starts_with(PART_PREFIX)) {
            return Ok(false);
        }
        Ok(self.stat(path)?.is_some_and(|meta| meta.is_folder()))
    }

    /// Tells the server a file's time, as long as it is not known to refuse that.
    fn tell_time(&self, path: &RelPath, attributes: &Attributes) {
        let Some(modified) = attributes.modified else { return };
        if self.sets_times.load(Ordering::Relaxed) == NO {
            return;
        }
        let Some(date) = http_date(modified) else { return };
        let ask = self.ask("PROPPATCH", path, false, "adjust");
        let ask = ask
            .header("content-type", "application/xml; charset=utf-8")
            .body(multistatus::setting_time(&date));
        let granted = match self.found(&ask) {
            Ok(found) => found.iter().any(|found| found.granted.iter().any(|name| name == "getlastmodified")),
            Err(trouble) if trouble.again != Again::Never => return,
            Err(_) => false,
        };
        self.sets_times.store(if granted { YES } else { NO }, Ordering::Relaxed);
    }

    /// A large file is sent in parts, each with its place in the whole (RFC 9110, section 14.5), so that an interrupted one can be
    /// gone on with. A server that does not know this would replace the whole, so the first part is looked at afterwards.
    fn upload(&self, path: &RelPath, at: u64, size: Option<u64>) -> DavUpload {
        DavUpload {
            dav: self.alike(),
            shared: self.shared.clone(),
            url: self.url(path, false),
            path: path.clone(),
            at,
            size,
            running: None,
        }
    }
}

/// A tag that stands for exactly these bytes, where the entry has one.
fn strong(meta: &Meta) -> Option<&str> {
    let tag = meta.version.as_ref().map(|version| version.tag.as_str())?;
    tag.starts_with('"').then_some(tag)
}

/// A time as HTTP writes it (RFC 9110, section 5.6.7), in whole seconds.
fn http_date(stamp: Stamp) -> Option<String> {
    let time = jiff::Timestamp::new(stamp.seconds(), 0).ok()?;
    Some(time.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string())
}

fn meta_of(found: &Found) -> Option<Meta> {
    let modified = found.modified.as_deref().and_then(|text| jiff::fmt::rfc2822::parse(text).ok());
    let modified = modified.map(|time| Stamp::new(time.timestamp().as_second(), 0));
    // A server may call a version weak in the second in which it was made, and strong from then on.
    let tag = found.tag.as_deref().map(|tag| tag.trim_start_matches("W/").to_owned());
    // Without tags, a version is known by what else there is.
    let tag = tag.or_else(|| Some(format!("{}/{}", found.modified.as_deref()?, found.length?)));
    let kind = if found.folder { EntryKind::Folder } else { EntryKind::File };
    Some(Meta {
        kind,
        size: if found.folder { 0 } else { found.length? },
        modified: modified.filter(|_| !found.folder),
        mode: None,
        id: None,
        target: None,
        extra: None,
        version: tag.filter(|_| !found.folder).map(|tag| Box::new(Version { tag, arrival: true })),
    })
}

impl Wire for WebDav {
    fn address(&self) -> String {
        self.address.shown()
    }

    fn place(&self) -> Place {
        Place::Elsewhere(self.base.as_str().trim_end_matches('/').to_owned())
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            names: NameRule::Bytes,
            remote: true,
            folder_times: false,
            time_precision: Some(Duration::from_secs(1)),
            link_times: false,
            modes: false,
            links: false,
            rename: true,
            folds_case: false,
            max_name: 255,
            full: false,
            batch_sync: false,
            workers: workers_for(self.round_trip),
            one_stream: false,
        }
    }

    fn needs_notes(&self) -> bool {
        true
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let ask = self.propfind(folder, self.url(folder, true), "1", multistatus::WANTED);
        let found = self.found(&Ask { action: "list", ..ask })?;
        let mut listing = Listing::default();
        let mut known = HashSet::new();
        let mut itself = false;
        for found in found {
            match self.path_of(&found.href) {
                Some(path) if path == folder.as_bytes() => {
                    if !found.folder {
                        return Err(
                            Trouble::lasting(FaultKind::NotFound, "list", folder).because("it is no folder")
                        );
                    }
                    itself = true;
                }
                path => note(&mut listing, &mut known, &found, path, folder),
            }
        }
        if !itself {
            return Err(Trouble::lasting(FaultKind::BadAnswer, "list", folder)
                .because("its list of the folder does not have the folder itself"));
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let found = match self.found(&self.propfind(
            path,
            self.url(path, path.is_root()),
            "0",
            multistatus::WANTED,
        )) {
            Ok(found) => found,
            Err(trouble) if trouble.kind() == FaultKind::NotFound => return Ok(None),
            // A folder asked for without its slash: some servers send us there.
            Err(trouble) if trouble.kind() == FaultKind::BadAnswer => {
                match self.found(&self.propfind(path, self.url(path, true), "0", multistatus::WANTED)) {
                    Ok(found) if found.first().is_some_and(|found| found.folder) => found,
                    _ => return Err(trouble),
                }
            }
            Err(trouble) => return Err(trouble),
        };
        let unclear = || Trouble::lasting(FaultKind::BadAnswer, "examine", path);
        let [found] = found.as_slice() else { return Err(unclear().because("more than one answer")) };
        if self.path_of(&found.href).as_deref() != Some(path.as_bytes()) {
            return Err(unclear().because(format!("it speaks of {}", found.href)));
        }
        meta_of(found).map(Some).ok_or_else(|| unclear().because("it does not say how long the file is"))
    }

    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>> {
        let mut ask = self.ask("GET", path, false, "read").header("accept-encoding", "identity");
        if offset > 0 {
            ask = ask.header("range", format!("bytes={offset}-"));
        }
        let mut skip = 0;
        let response = match self.http().send(&ask) {
            Ok(response) if offset > 0 && response.status() == StatusCode::OK => {
                skip = offset;
                Some(response)
            }
            Ok(response) => Some(response),
            // Nothing follows: a range that begins at the end.
            Err(trouble) if offset > 0 && trouble.error.reason().contains("416") => None,
            Err(trouble) => return Err(trouble),
        };
        Ok(Box::new(DavDownload {
            dav: self.alike(),
            path: path.clone(),
            response,
            skip,
            piece: Bytes::new(),
        }))
    }

    fn write(
        &self,
        path: &RelPath,
        _target: &RelPath,
        _hint: &Attributes,
        at: Option<u64>,
        size: Option<u64>,
    ) -> Answer<Box<dyn Upload>> {
        if at.is_some_and(|at| at > 0) && self.shared.takes_parts.load(Ordering::Relaxed) == NO {
            return Err(Trouble::lasting(FaultKind::Unsupported, "write", path));
        }
        Ok(Box::new(self.upload(path, at.unwrap_or(0), size)))
    }

    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()> {
        self.http().send(&self.ask("PUT", path, false, "write").body(data))?;
        self.tell_time(path, attributes);
        Ok(())
    }

    fn make_link(&self, path: &RelPath, _target: &[u8]) -> Answer<()> {
        Err(Trouble::lasting(FaultKind::Unsupported, "make link", path))
    }

    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        self.rename_or_copy("MOVE", from, to, over)
    }

    fn duplicate(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        self.rename_or_copy("COPY", from, to, Over::Nothing)
    }

    fn remove(&self, path: &RelPath, seen: &Meta) -> Answer<()> {
        let ask = || self.ask("DELETE", path, false, "remove");
        let Some(tag) = strong(seen) else { return self.http().send(&ask()).map(drop) };
        match self.http().send(&ask().header("if-match", tag)) {
            Err(trouble) if trouble.kind() == FaultKind::Changed && self.is_same_version(path, seen)? => {
                self.http().send(&ask()).map(drop)
            }
            outcome => outcome.map(drop),
        }
    }

    fn remove_folder(&self, path: &RelPath) -> Answer<()> {
        // To DELETE a folder takes everything with it. So the folder is put out of everybody's way first, and only what is
        // empty there is deleted.
        if !self.list(path)?.entries.is_empty() {
            return Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path));
        }
        let name = [PART_PREFIX, format!("{:016x}", fastrand::u64(..)).as_bytes()].concat();
        let name = Name::new(&name).map_err(|_| Trouble::lasting(FaultKind::NameRefused, "remove", path))?;
        let aside = path.parent().unwrap_or_default().join(&name);
        let aside_url = self.url(&aside, true);
        let ask = self.ask("MOVE", path, true, "remove").header("destination", aside_url.as_str());
        self.http().send(&ask.header("overwrite", "F"))?;
        let found = self.list(&aside)?;
        if found.entries.is_empty() && found.unknown.is_empty() {
            return self.http().send(&self.ask("DELETE", &aside, true, "remove")).map(drop);
        }
        let back =
            self.ask("MOVE", &aside, true, "remove").header("destination", self.url(path, true).as_str());
        self.http().send(&back.header("overwrite", "F"))?;
        Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path))
    }

    fn make_folder(&self, path: &RelPath, _mode: Option<u32>) -> Answer<()> {
        match self.http().send(&self.ask("MKCOL", path, true, "make folder")) {
            Ok(_) => Ok(()),
            Err(trouble) if trouble.kind() == FaultKind::Unsupported => {
                Err(Trouble { error: StoreError { kind: FaultKind::Exists, ..trouble.error }, ..trouble })
            }
            Err(trouble) => Err(trouble),
        }
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        self.tell_time(path, attributes);
        Ok(())
    }

    fn space(&self) -> Answer<Option<Space>> {
        let root = RelPath::root();
        let found = self.found(&self.propfind(&root, self.base.clone(), "0", multistatus::QUOTA))?;
        let found = found.into_iter().next().unwrap_or_default();
        let total = |free: u64| free.saturating_add(found.used.unwrap_or(0));
        Ok(found.available.map(|free| Space { free, total: total(free) }))
    }

    fn facts(&self) -> Vec<(&'static str, String)> {
        let times = match self.sets_times.load(Ordering::Relaxed) {
            YES => "sets them as told",
            NO => "cannot be told them; they are noted on this machine",
            _ => "are noted on this machine, and told where the server takes them",
        };
        vec![
            (
                "protocol",
                if self.base.scheme() == "https" { "WebDAV over TLS" } else { "WebDAV, readable on the way" }
                    .to_owned(),
            ),
            ("server", self.server.clone()),
            ("times", times.to_owned()),
        ]
    }
}

impl WebDav {
    /// The same place once more, for a reader that outlives this call.
    fn alike(&self) -> WebDav {
        WebDav {
            shared: self.shared.clone(),
            address: self.address.clone(),
            base: self.base.clone(),
            round_trip: self.round_trip,
            server: String::new(),
            sets_times: AtomicU8::new(self.sets_times.load(Ordering::Relaxed)),
        }
    }
}

/// Adds an entry of a listing, unless no honest server would have it there.
fn note(
    listing: &mut Listing,
    known: &mut HashSet<Name>,
    found: &Found,
    path: Option<Vec<u8>>,
    folder: &RelPath,
) {
    let refuse = |why: String| StoreError::new(FaultKind::BadAnswer, "list", folder).because(why);
    let name = path.and_then(|path| {
        let below = match folder.is_root() {
            true => Some(path.as_slice()),
            false => path.strip_prefix(folder.as_bytes()).and_then(|rest| rest.strip_prefix(b"/")),
        };
        Name::new(below?).ok()
    });
    let Some(name) = name else {
        let error = refuse(format!("it names {:?}, which is not in this folder", found.href));
        return listing.unknown.push(Unknown { name: None, error });
    };
    if !known.insert(name.clone()) {
        let error = refuse(format!("it names \"{name}\" twice"));
        return listing.unknown.push(Unknown { name: Some(name), error });
    }
    match meta_of(found) {
        Some(meta) => listing.entries.push(Entry { name, meta }),
        None => {
            let error = refuse(format!("it does not say how long \"{name}\" is"));
            listing.unknown.push(Unknown { name: Some(name), error });
        }
    }
}

struct DavDownload {
    dav: WebDav,
    path: RelPath,
    response: Option<Response>,
    /// Bytes to pass over, where the server sends the whole file all the same.
    skip: u64,
    piece: Bytes,
}

impl DavDownload {
    fn next_piece(&mut self) -> Answer<bool> {
        let Some(response) = self.response.as_mut() else { return Ok(false) };
        let http = self.dav.http();
        let next = runtime::wait(http.runtime(), ANSWER_WITHIN, response.chunk());
        let next = next.ok_or_else(|| Trouble::broke("read", &self.path, "no answer"))?;
        match next.map_err(|error| http.trouble(&error, "read", &self.path))? {
            Some(piece) => {
                let skipped = self.skip.min(piece.len() as u64);
                self.skip -= skipped;
                self.piece = piece.slice(skipped as usize..);
                Ok(true)
            }
            None => {
                self.response = None;
                Ok(false)
            }
        }
    }
}

impl Read for DavDownload {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() {
            if !self.next_piece().map_err(|trouble| io::Error::other(trouble.error))? {
                return Ok(0);
            }
        }
        let length = buffer.len().min(self.piece.len());
        buffer[..length].copy_from_slice(&self.piece.split_to(length));
        Ok(length)
    }
}

impl Download for DavDownload {
    fn meta(&mut self) -> Answer<Meta> {
        let gone = || Trouble::lasting(FaultKind::NotFound, "examine", &self.path);
        self.dav.stat(&self.path)?.ok_or_else(gone)
    }
}

/// Bytes on their way to the server, and the answer that is to come.
struct Running {
    sender: tokio::sync::mpsc::Sender<Result<Bytes, io::Error>>,
    answer: tokio::task::JoinHandle<Result<Response, reqwest::Error>>,
    /// Where this request's bytes end, when it has only a part of the whole.
    ends: Option<u64>,
    began: u64,
}

struct DavUpload {
    dav: WebDav,
    shared: Arc<Shared>,
    url: Url,
    path: RelPath,
    at: u64,
    size: Option<u64>,
    running: Option<Running>,
}

/// What is sent in one request when a large file is sent in parts: what the engine wants to be sure of at a time.
const PART: u64 = reedhook_core::run::resume::CHECKPOINT_EVERY;

impl DavUpload {
    fn begin(&mut self) -> Running {
        let (sender, mut receiver) = tokio::sync::mpsc::channel(UNDERWAY);
        let stream = futures_util::stream::poll_fn(move |context| receiver.poll_recv(context));
        let mut ask = Ask {
            method: Method::PUT,
            url: self.url.clone(),
            headers: Vec::new(),
            body: Vec::new(),
            action: "write",
            path: &self.path,
        };
        let mut ends = None;
        let in_parts = self.shared.takes_parts.load(Ordering::Relaxed) != NO;
        let parted = |size: &u64| in_parts && *size > self.at && (self.at > 0 || *size > PART);
        if let Some(size) = self.size.filter(parted) {
            let end = size.min(self.at + PART);
            if self.at > 0 {
                ask = ask.header("content-range", format!("bytes {}-{}/{size}", self.at, end - 1));
            }
            ends = Some(end);
            ask = ask.header("content-length", (end - self.at).to_string());
        } else if let Some(size) = self.size {
            ask = ask.header("content-length", (size - self.at.min(size)).to_string());
        }
        let http = &self.shared.http;
        let request = http.prepare(&ask).body(reqwest::Body::wrap_stream(stream));
        Running { sender, answer: http.runtime().spawn(request.send()), ends, began: self.at }
    }

    /// Whether the server has put a part behind the others. One that does not know parts has put it in the place of all.
    fn check_part(&mut self) -> Answer<()> {
        if self.shared.takes_parts.load(Ordering::Relaxed) == YES {
            return Ok(());
        }
        let found = self.dav.stat(&self.path)?.map_or(0, |meta| meta.size);
        let right = found == self.at;
        self.shared.takes_parts.store(if right { YES } else { NO }, Ordering::Relaxed);
        if right {
            Ok(())
        } else {
            Err(Trouble::broke("write", &self.path, "the server takes no parts of files"))
        }
    }

    fn send(&mut self, data: Bytes) -> Answer<()> {
        if self.running.is_none() {
            self.running = Some(self.begin());
        }
        let Some(running) = &self.running else { return Ok(()) };
        let length = data.len() as u64;
        let sending = running.sender.send(Ok(data));
        match runtime::wait(self.shared.http.runtime(), ANSWER_WITHIN, sending) {
            Some(Ok(())) => {
                self.at += length;
                Ok(())
            }
            // The request has ended before its bytes did: its answer says why.
            Some(Err(_)) => {
                self.end()?;
                Err(Trouble::broke("write", &self.path, "the server wanted no more"))
            }
            None => Err(Trouble::broke("write", &self.path, "no answer")),
        }
    }

    /// Ends the running request and takes its answer.
    fn end(&mut self) -> Answer<()> {
        let Some(Running { sender, answer, began, .. }) = self.running.take() else { return Ok(()) };
        drop(sender);
        let http = &self.shared.http;
        let answered = runtime::wait(http.runtime(), ANSWER_WITHIN * 2, answer);
        let answered = answered.ok_or_else(|| Trouble::broke("write", &self.path, "no answer"))?;
        let response = answered.map_err(|error| Trouble::broke("write", &self.path, error))?;
        let response = response.map_err(|error| http.trouble(&error, "write", &self.path))?;
        if let Err(trouble) = http.judge(response, "write", &self.path) {
            if began > 0 && trouble.again == Again::Never {
                // Refused as a part; as a whole it may be taken.
                self.shared.takes_parts.store(NO, Ordering::Relaxed);
                return Err(Trouble::broke("write", &self.path, "the server takes no parts of files"));
            }
            return Err(trouble);
        }
        if began > 0 { self.check_part() } else { Ok(()) }
    }
}

impl Upload for DavUpload {
    fn write(&mut self, data: &[u8]) -> Answer<()> {
        let mut rest = Bytes::copy_from_slice(data);
        while !rest.is_empty() {
            let ends = self.running.as_ref().map(|running| running.ends);
            let room = match ends {
                Some(Some(end)) => end - self.at,
                Some(None) => u64::MAX,
                None => PART.max(1),
            };
            let piece = rest.split_to(rest.len().min(usize::try_from(room).unwrap_or(usize::MAX)));
            self.send(piece)?;
            if self.running.as_ref().is_some_and(|running| running.ends == Some(self.at)) {
                self.end()?;
            }
        }
        Ok(())
    }

    fn flush(&mut self) -> Answer<()> {
        match &self.running {
            // In the middle of a request nothing is there yet.
            Some(_) => Err(Trouble::lasting(FaultKind::Unsupported, "write", &self.path)),
            None => Ok(()),
        }
    }

    fn finish(mut self: Box<Self>, _attributes: &Attributes) -> Answer<()> {
        if self.at == 0 && self.running.is_none() {
            self.running = Some(self.begin());
        }
        self.end()
    }
}
