//! A server as it was connected to, and what it says of its entries.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta, Stamp, Version};
use reedhook_core::path::{PART_PREFIX, RelPath};
use reedhook_core::store::{Attributes, FaultKind, StoreError};
use reqwest::{Method, StatusCode, Url};

use crate::remote::connect::{Account, Address, ConnectError, Trust};
use crate::remote::runtime;
use crate::remote::stop::Stop;
use crate::remote::webdav::http::{Ask, Http};
use crate::remote::webdav::multistatus;
use crate::remote::webdav::multistatus::ListedResource;
use crate::remote::wire::{Again, Answer, Over, Trouble, Wire};

/// No listing is larger.
pub(super) const LARGEST_LISTING: usize = 256 << 20;

/// A folder at a WebDAV server.
pub struct WebDav {
    pub(super) shared: Arc<Shared>,
    pub(super) address: Address,
    pub(super) base: Url,
    pub(super) round_trip: Duration,
    pub(super) server: String,
    /// Whether times can be set, once it has been tried.
    pub(super) sets_times: AtomicU8,
}

pub(super) struct Shared {
    pub(super) http: Http,
    /// Whether a file can be sent in parts, once it has been tried.
    pub(super) takes_parts: AtomicU8,
}

pub(super) const UNTRIED: u8 = 0;

pub(super) const YES: u8 = 1;

pub(super) const NO: u8 = 2;

pub(super) fn method(name: &'static str) -> Method {
    Method::from_bytes(name.as_bytes()).unwrap_or(Method::GET)
}

/// A path as it is written in a URL: everything but the unreserved characters of RFC 3986 is percent-encoded.
pub(super) fn encode(path: &[u8]) -> String {
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
pub(super) fn decode(text: &str) -> Option<Vec<u8>> {
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

    pub(super) fn greet(&mut self) -> Result<(), ConnectError> {
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

    pub(super) fn http(&self) -> &Http {
        &self.shared.http
    }

    pub(super) fn url(&self, path: &RelPath, folder: bool) -> Url {
        let mut url = self.base.clone();
        let slash = if folder && !path.is_root() { "/" } else { "" };
        url.set_path(&format!("{}{}{slash}", self.base.path(), encode(path.as_bytes())));
        url
    }

    pub(super) fn ask<'a>(
        &self,
        name: &'static str,
        path: &'a RelPath,
        folder: bool,
        action: &'static str,
    ) -> Ask<'a> {
        Ask {
            method: method(name),
            url: self.url(path, folder),
            headers: Vec::new(),
            body: Vec::new(),
            action,
            path,
        }
    }

    pub(super) fn propfind<'a>(&self, path: &'a RelPath, url: Url, depth: &str, body: &str) -> Ask<'a> {
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
    pub(super) fn found(&self, ask: &Ask<'_>) -> Answer<Vec<ListedResource>> {
        let response = self.http().send(ask)?;
        let bad = |why: String| Trouble::lasting(FaultKind::BadAnswer, ask.action, ask.path).because(why);
        if response.status() != StatusCode::MULTI_STATUS {
            return Err(bad(format!("it says {} where a list was asked for", response.status())));
        }
        let body = self.http().body(response, LARGEST_LISTING, ask.action, ask.path)?;
        multistatus::read(&body).map_err(bad)
    }

    /// The path below the root that an answer's address means; `None` when it leads elsewhere.
    pub(super) fn path_of(&self, href: &str) -> Option<Vec<u8>> {
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

    pub(super) fn rename_or_copy(
        &self,
        name: &'static str,
        from: &RelPath,
        to: &RelPath,
        over: Over<'_>,
    ) -> Answer<()> {
        let Over::This(seen) = over else { return self.send_rename(name, from, to, over, None) };
        match self.send_rename(name, from, to, over, strong(seen)) {
            // A tag that is still weak, because the version is very young, never fulfils a condition: then a look has to do.
            Err(trouble) if trouble.kind() == FaultKind::Changed && self.is_same_version(to, seen)? => {
                self.send_rename(name, from, to, over, None)
            }
            outcome => outcome,
        }
    }

    pub(super) fn is_same_version(&self, path: &RelPath, seen: &Meta) -> Answer<bool> {
        let tag = |meta: &Meta| meta.version.as_ref().map(|version| version.tag.clone());
        Ok(self.stat(path)?.is_some_and(|found| tag(&found) == tag(seen)))
    }

    pub(super) fn send_rename(
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
    pub(super) fn is_folder(&self, path: &RelPath) -> Answer<bool> {
        if path.file_name().is_some_and(|name| name.starts_with(PART_PREFIX)) {
            return Ok(false);
        }
        Ok(self.stat(path)?.is_some_and(|meta| meta.is_folder()))
    }

    /// Tells the server a file's time, as long as it is not known to refuse that.
    pub(super) fn tell_time(&self, path: &RelPath, attributes: &Attributes) {
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
}

/// A tag that stands for exactly these bytes, where the entry has one.
pub(super) fn strong(meta: &Meta) -> Option<&str> {
    let tag = meta.version.as_ref().map(|version| version.tag.as_str())?;
    tag.starts_with('"').then_some(tag)
}

/// A time as HTTP writes it (RFC 9110, section 5.6.7), in whole seconds.
pub(super) fn http_date(stamp: Stamp) -> Option<String> {
    let time = jiff::Timestamp::new(stamp.seconds(), 0).ok()?;
    Some(time.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string())
}

pub(super) fn meta_of(found: &ListedResource) -> Option<Meta> {
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

impl WebDav {
    /// The same place once more, for a reader that outlives this call.
    pub(super) fn alike(&self) -> WebDav {
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
pub(super) fn in_folder<'a>(folder: &RelPath, path: &'a [u8]) -> Option<&'a [u8]> {
    if folder.is_root() {
        return Some(path);
    }
    path.strip_prefix(folder.as_bytes())?.strip_prefix(b"/")
}

pub(super) fn elsewhere(found: &ListedResource) -> String {
    format!("it names {:?}, which is not in this folder", found.href)
}
