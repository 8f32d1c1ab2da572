//! WebDAV (RFC 4918), over HTTP or TLS.
//!
//! Most servers cannot be told the time of a file. They name each version with an entity tag instead, so what was written is noted
//! with its tag ([`Wire::needs_notes`]). A server that does let its times be set is told them as well: then other machines see
//! them too.

mod http;
mod multistatus;
mod transfer;

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use reqwest::{Method, StatusCode, Url};

use reedhook_core::entry::{EntryKind, Meta, Stamp, Version};
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::store::{Attributes, Capabilities, FaultKind, Listing, Place, Space, StoreError};

use self::http::{Ask, Http};
use self::multistatus::ListedResource;
use self::transfer::{DavDownload, DavUpload};
use super::connect::{Account, Address, ConnectError, Trust, workers_for};
use super::gather::Gather;
use super::runtime;
use super::stop::Stop;
use super::wire::{self, Again, Answer, Download, Over, Trouble, Upload, Wire};

/// No listing is larger.
const LARGEST_LISTING: usize = 256 << 20;

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
    pub fn connect(
        address: Address,
        account: Account,
        trust: &Trust,
        stop: &Stop,
    ) -> Result<WebDav, ConnectError> {
        let runtime = runtime::handle(stop)
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
                return Err(match http.judge(response, "open", &root) {
                    Err(trouble) => http.no_greeting(&trouble),
                    Ok(_) => http.unusable(format!("it says {other}")),
                });
            }
        }
        let body = http.body(response, LARGEST_LISTING, "open", &root);
        let body = body.map_err(|trouble| http.no_greeting(&trouble))?;
        let found = multistatus::read(&body).map_err(|why| http.unusable(why))?;
        if !found.first().is_some_and(|found| found.folder) {
            return Err(no_folder());
        }
        // The first call made the connection; the second shows how long an answer takes.
        let begun = Instant::now();
        self.stat(&root).map_err(|trouble| http.no_greeting(&trouble))?;
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
    fn found(&self, ask: &Ask<'_>) -> Answer<Vec<ListedResource>> {
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
        DavUpload::new(self.alike(), self.shared.clone(), self.url(path, false), path, at, size)
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

fn meta_of(found: &ListedResource) -> Option<Meta> {
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
        unlisted: None,
        id: None,
        target: None,
        extra: None,
        version: tag
            .filter(|_| !found.folder)
            .map(|tag| Box::new(Version { tag, arrival: true, young: false })),
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
        wire::usual(workers_for(self.round_trip))
    }

    fn needs_notes(&self) -> bool {
        true
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let ask = self.propfind(folder, self.url(folder, true), "1", multistatus::WANTED);
        let found = self.found(&Ask { action: "list", ..ask })?;
        let mut gather = Gather::new(folder);
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
                Some(path) => match in_folder(folder, &path) {
                    Some(name) => gather.take(name, meta_of(&found)),
                    None => gather.refuse(None, elsewhere(&found)),
                },
                None => gather.refuse(None, elsewhere(&found)),
            }
        }
        if !itself {
            return Err(Trouble::lasting(FaultKind::BadAnswer, "list", folder)
                .because("its list of the folder does not have the folder itself"));
        }
        Ok(gather.done())
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
        let response = self.http().send_any(&ask)?;
        if offset > 0 && response.status() == StatusCode::RANGE_NOT_SATISFIABLE {
            // Nothing follows: the range begins at the end.
            return Ok(Box::new(DavDownload::new(self.alike(), path, None, 0)));
        }
        let response = self.http().judge(response, "read", path)?;
        // A server that knows no ranges sends all of it.
        let skip = if response.status() == StatusCode::PARTIAL_CONTENT { 0 } else { offset };
        let response = Some(response);
        Ok(Box::new(DavDownload::new(self.alike(), path, response, skip)))
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

/// The part of a path below a folder.
fn in_folder<'a>(folder: &RelPath, path: &'a [u8]) -> Option<&'a [u8]> {
    if folder.is_root() {
        return Some(path);
    }
    path.strip_prefix(folder.as_bytes())?.strip_prefix(b"/")
}

fn elsewhere(found: &ListedResource) -> String {
    format!("it names {:?}, which is not in this folder", found.href)
}
