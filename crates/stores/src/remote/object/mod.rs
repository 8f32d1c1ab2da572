//! Object stores that speak the S3 protocol.
//!
//! There are no folders, no unfinished files and no renames there: an object appears whole, or not at all. So a small file is held in
//! memory until it is published, and then sent with the condition that nothing, or just the expected version, has its name. A
//! large one travels in parts that become an object only when it is published. Times and modes are kept as metadata of the
//! object; listings do not show those, so they are noted, and asked for where no note is.
//!
//! A folder that we make has a marker in it, because otherwise it would vanish with its last file, or never appear.

mod odd;
mod pending;
mod service;
mod transfer;

use std::collections::HashMap;
use std::error::Error;
use std::future::Future;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::StreamExt;
use object_store::aws::{AmazonS3, AmazonS3Builder, Checksum};
use object_store::list::{PaginatedListOptions, PaginatedListStore};
use object_store::path::Path;
use object_store::{
    Attribute, Attributes as Tags, GetOptions, GetRange, ObjectMeta, ObjectStore, ObjectStoreExt, PutMode,
    PutOptions, PutPayload, RetryConfig, UpdateVersion,
};

use reedhook_core::entry::{EntryKind, Meta, Stamp, Version};
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::run::RESUME_FROM;
use reedhook_core::store::{
    Attributes, Capabilities, FaultKind, Listing, NameRule, Place, Space, StoreError,
};

use self::pending::{Pending, RECORD_SUFFIX, Sent, write_record};
use self::service::{Answered, Connector};
use self::transfer::{ObjectDownload, ObjectUpload};
use super::connect::{ANSWER_WITHIN, Account, Address, ConnectError, Trust, workers_for};
use super::gather::{Gather, folder_meta};
use super::runtime::{self, Runtime};
use super::stop::Stop;
use super::tls;
use super::wire::{self, Again, Answer, Download, Over, Trouble, Upload, Wire};

/// What says that a folder is there.
const MARKER: &[u8] = b".reedhook-folder";

/// The metadata of an object that holds a file's time and mode.
const MODIFIED: &str = "reedhook-modified";
const MODE: &str = "reedhook-mode";

/// Metadata that tells one upload from another with the same content: an answer may be lost, and the object be there.
const UPLOAD: &str = "reedhook-upload";

/// What a large file is sent in. Stores allow 10,000 parts of at least 5 MiB.
const PART: u64 = 8 << 20;
const MOST_PARTS: u64 = 9_000;

/// Larger objects are not written again for their metadata.
const REWRITTEN_UP_TO: u64 = PART;

/// A part of a bucket.
#[derive(Clone)]
pub struct Objects {
    shared: Arc<Shared>,
    address: Address,
    bucket: String,
    /// What all keys begin with: nothing, or a path with a slash at its end.
    prefix: String,
    round_trip: Duration,
}

struct Shared {
    runtime: Runtime,
    client: AmazonS3,
    /// Unfinished files: complete, but not published.
    pending: Mutex<HashMap<RelPath, Pending>>,
    /// The versions that were just made, until somebody asks.
    made: Mutex<HashMap<RelPath, String>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Options that only an object store needs.
#[derive(Debug, Clone)]
pub struct ObjectSetup {
    /// The region that signatures are made for.
    pub region: String,
    /// Whether the store is reached without TLS. Signatures keep the secret, but content is readable on the way.
    pub plain: bool,
}

impl Default for ObjectSetup {
    fn default() -> ObjectSetup {
        ObjectSetup { region: "us-east-1".to_owned(), plain: false }
    }
}

impl Objects {
    /// Connects and finds the bucket. The path of the address begins with the bucket's name.
    ///
    /// # Errors
    /// See [`ConnectError`].
    pub fn connect(
        address: Address,
        account: Account,
        trust: &Trust,
        setup: &ObjectSetup,
        stop: &Stop,
    ) -> Result<Objects, ConnectError> {
        let runtime = runtime::handle(stop)
            .map_err(|error| ConnectError::Setup(format!("no threads for the network: {error}")))?;
        let path = String::from_utf8(address.path.clone())
            .map_err(|_| ConnectError::Setup(format!("{} is not UTF-8", address.shown())))?;
        let path = path.trim_matches('/');
        let (bucket, below) = path.split_once('/').unwrap_or((path, ""));
        if bucket.is_empty() {
            return Err(ConnectError::Setup(format!("{} has no bucket", address.shown())));
        }
        let port = address.port.map(|port| format!(":{port}")).unwrap_or_default();
        let scheme = if setup.plain { "http" } else { "https" };
        let builder = AmazonS3Builder::new()
            .with_endpoint(format!("{scheme}://{}{port}", address.host))
            .with_bucket_name(bucket)
            .with_region(&setup.region)
            .with_allow_http(setup.plain)
            .with_checksum_algorithm(Checksum::SHA256)
            // Not every store knows removals in bulk, and each has its own fate here anyway.
            .with_disable_bulk_delete(true)
            // Patience is ours.
            .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
            .with_http_connector(Connector::new(trust)?);
        let builder = match (&account.user, account.find_secret(&address.shown())?) {
            (Some(user), Some(secret)) => {
                builder.with_access_key_id(user).with_secret_access_key(secret.reveal())
            }
            _ => builder.with_skip_signature(true),
        };
        let client = builder.build().map_err(|error| ConnectError::Setup(error.to_string()))?;
        let shared = Shared { runtime, client, pending: Mutex::default(), made: Mutex::default() };
        let mut found = Objects {
            shared: Arc::new(shared),
            bucket: bucket.to_owned(),
            prefix: if below.is_empty() { String::new() } else { format!("{below}/") },
            round_trip: Duration::ZERO,
            address,
        };
        found.greet(account.user.as_deref())?;
        Ok(found)
    }

    fn greet(&mut self, user: Option<&str>) -> Result<(), ConnectError> {
        let address = self.address.shown();
        for _ in 0..2 {
            let begun = Instant::now();
            let listed = self.page(&self.prefix, None, 1, "open", &RelPath::root());
            self.round_trip = begun.elapsed();
            let Err(trouble) = listed else { continue };
            let why = innermost(&trouble.error);
            return Err(match trouble.kind() {
                // The protocol's own word for it, which the client hands on as text only.
                _ if why.contains("NoSuchBucket") => {
                    let why = format!("there is no bucket \"{}\"; make it, or check the name", self.bucket);
                    ConnectError::Unusable { address, why }
                }
                FaultKind::NotFound => ConnectError::NoFolder { address, path: self.bucket.clone() },
                FaultKind::Denied | FaultKind::LoginFailed => ConnectError::Login {
                    address,
                    user: user.unwrap_or("anybody").to_owned(),
                    tried: format!("access key; {why}"),
                },
                FaultKind::Interrupted => match tls::distrust(&trouble.error) {
                    Some(why) => ConnectError::Untrusted { address, why },
                    None => ConnectError::Unreachable { address, why },
                },
                _ => ConnectError::Unusable { address, why },
            });
        }
        Ok(())
    }

    /// The key of a path; `None` where the client cannot say it.
    fn key(&self, action: &'static str, path: &RelPath) -> Answer<Path> {
        let refuse = || Trouble::lasting(FaultKind::NameRefused, action, path);
        let text = std::str::from_utf8(path.as_bytes()).map_err(|_| refuse())?;
        Path::parse(format!("{}{text}", self.prefix)).map_err(|error| refuse().because(error))
    }

    fn folder_prefix(&self, folder: &RelPath) -> String {
        let below = String::from_utf8_lossy(folder.as_bytes());
        if folder.is_root() { self.prefix.clone() } else { format!("{}{below}/", self.prefix) }
    }

    /// Waits for a request.
    fn wait<T>(
        &self,
        action: &'static str,
        path: &RelPath,
        request: impl Future<Output = object_store::Result<T>>,
    ) -> Answer<T> {
        self.shared.wait(action, path, request)
    }

    /// A page of the keys below a prefix.
    fn page(
        &self,
        prefix: &str,
        token: Option<String>,
        most: usize,
        action: &'static str,
        path: &RelPath,
    ) -> Answer<object_store::list::PaginatedListResult> {
        let options = PaginatedListOptions {
            delimiter: Some("/".into()),
            max_keys: Some(most),
            page_token: token,
            ..PaginatedListOptions::default()
        };
        let prefix = Some(prefix).filter(|prefix| !prefix.is_empty());
        self.wait(action, path, self.shared.client.list_paginated(prefix, options))
    }

    fn has_content(&self, folder: &RelPath) -> Answer<bool> {
        let page = self.page(&self.folder_prefix(folder), None, 1, "examine", folder)?;
        Ok(!page.result.objects.is_empty() || !page.result.common_prefixes.is_empty())
    }

    fn head(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let key = self.key("examine", path)?;
        let asking = self.shared.client.get_opts(&key, GetOptions { head: true, ..GetOptions::default() });
        match self.wait("examine", path, asking) {
            Ok(found) => Ok(Some(meta_of(&found.meta, Some(&found.attributes)))),
            Err(trouble) if trouble.kind() == FaultKind::NotFound => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    fn marker(&self, folder: &RelPath) -> Answer<Path> {
        let name =
            Name::new(MARKER).map_err(|_| Trouble::lasting(FaultKind::NameRefused, "make folder", folder))?;
        self.key("make folder", &folder.join(&name))
    }

    /// Puts an object in its place under a condition.
    fn put_object(&self, path: &RelPath, data: Bytes, tags: Tags, mode: PutMode) -> Answer<()> {
        let key = self.key("write", path)?;
        let conditional = !matches!(mode, PutMode::Overwrite);
        let put = |mode| {
            let options = PutOptions { mode, attributes: tags.clone(), ..PutOptions::default() };
            self.wait(
                "write",
                path,
                self.shared.client.put_opts(&key, PutPayload::from(data.clone()), options),
            )
        };
        let result = match put(mode) {
            // A store that knows no conditions: that nobody else writes there was looked at just before.
            Err(trouble) if conditional && trouble.kind() == FaultKind::Unsupported => {
                put(PutMode::Overwrite)?
            }
            other => other?,
        };
        if let Some(tag) = result.e_tag {
            lock(&self.shared.made).insert(path.clone(), tag);
        }
        Ok(())
    }

    /// Writes an object again with other metadata, so that other machines see them. A large one is not sent for that: what it should
    /// have is noted by whoever gives it, until its content changes.
    fn rewrite(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        let key = self.key("adjust", path)?;
        let found = match self.wait("adjust", path, self.shared.client.get(&key)) {
            // Nothing is a folder here, so nothing can be written of it.
            Err(trouble) if trouble.kind() == FaultKind::NotFound && self.has_content(path)? => return Ok(()),
            found => found?,
        };
        if found.meta.size > REWRITTEN_UP_TO {
            return Ok(());
        }
        let version = UpdateVersion { e_tag: found.meta.e_tag.clone(), version: None };
        let mut tags = found.attributes.clone();
        for (name, value) in tags_of(attributes).iter() {
            tags.insert(name.clone(), value.clone());
        }
        let data = self.wait("adjust", path, found.bytes())?;
        self.put_object(path, data, tags, PutMode::Update(version))
    }

    /// Every object below a folder, as paths below the root.
    fn all_below(&self, folder: &RelPath) -> Answer<Vec<RelPath>> {
        let mut found = Vec::new();
        let mut folders = vec![folder.clone()];
        while let Some(folder) = folders.pop() {
            let prefix = self.folder_prefix(&folder);
            let mut token = None;
            loop {
                let page = self.page(&prefix, token, 1000, "list", &folder)?;
                let below =
                    |path: &Path| RelPath::new(path.as_ref().strip_prefix(&self.prefix)?.as_bytes()).ok();
                found.extend(page.result.objects.iter().filter_map(|object| below(&object.location)));
                // What is below a key that is no path is left where it is, and so is its folder.
                let is_odd = |path: &&Path| path.filename().is_some_and(|name| odd::original(name).is_some());
                folders.extend(
                    page.result.common_prefixes.iter().filter(|path| !is_odd(path)).filter_map(below),
                );
                token = page.page_token;
                if token.is_none() {
                    break;
                }
            }
        }
        Ok(found)
    }

    fn copy_object(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        let (old, new) = (self.key("copy", from)?, self.key("copy", to)?);
        self.wait("copy", from, self.shared.client.copy(&old, &new))
    }

    fn delete_object(&self, path: &RelPath) -> Answer<()> {
        let key = self.key("remove", path)?;
        self.wait("remove", path, self.shared.client.delete(&key))
    }

    fn move_object(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        self.copy_object(from, to)?;
        self.delete_object(from)
    }
}

impl Shared {
    fn wait<T>(
        &self,
        action: &'static str,
        path: &RelPath,
        request: impl Future<Output = object_store::Result<T>>,
    ) -> Answer<T> {
        match runtime::wait(&self.runtime, ANSWER_WITHIN * 5, request) {
            Some(outcome) => outcome.map_err(|error| trouble(error, action, path)),
            None => Err(Trouble::broke(action, path, "no answer")),
        }
    }
}

/// What the client's error means. What the service below it found out is at the bottom of it.
fn trouble(error: object_store::Error, action: &'static str, path: &RelPath) -> Trouble {
    use object_store::Error as E;
    let told = bottom::<Answered>(&error).cloned();
    let (kind, again) = match (&error, told) {
        (_, Some(Answered::Wait(wait))) => (FaultKind::Busy, wait.map_or(Again::Soon, Again::After)),
        (_, Some(Answered::Elsewhere(_))) => (FaultKind::BadAnswer, Again::Never),
        (_, Some(Answered::Broke(_))) => (FaultKind::Io, Again::Soon),
        (_, Some(Answered::Full)) => (FaultKind::NoSpace, Again::Never),
        (E::NotFound { .. }, _) => (FaultKind::NotFound, Again::Never),
        (E::AlreadyExists { .. }, _) => (FaultKind::Exists, Again::Never),
        (E::Precondition { .. }, _) => (FaultKind::Changed, Again::Never),
        (E::PermissionDenied { .. }, _) => (FaultKind::Denied, Again::Never),
        (E::Unauthenticated { .. }, _) => (FaultKind::LoginFailed, Again::Never),
        (E::NotSupported { .. } | E::NotImplemented { .. }, _) => (FaultKind::Unsupported, Again::Never),
        (E::InvalidPath { .. }, _) => (FaultKind::BadAnswer, Again::Never),
        _ if bottom::<reqwest::Error>(&error).is_some() => (FaultKind::Interrupted, Again::Soon),
        _ => (FaultKind::Io, Again::Never),
    };
    let words = innermost(&error);
    Trouble { error: StoreError::new(kind, action, path).because(words), again }
}

/// The first error of a type in a chain.
fn bottom<'a, E: Error + 'static>(error: &'a (dyn Error + 'static)) -> Option<&'a E> {
    let mut current = Some(error);
    while let Some(one) = current {
        if let Some(found) = one.downcast_ref() {
            return Some(found);
        }
        current = one.source();
    }
    None
}

fn innermost(error: &(dyn Error + 'static)) -> String {
    let mut current = error;
    while let Some(inner) = current.source() {
        current = inner;
    }
    current.to_string()
}

fn tags_of(attributes: &Attributes) -> Tags {
    let mut tags = Tags::new();
    tags.insert(Attribute::Metadata(UPLOAD.into()), format!("{:016x}", fastrand::u64(..)).into());
    if let Some(modified) = attributes.modified {
        tags.insert(Attribute::Metadata(MODIFIED.into()), modified.to_text().into());
    }
    if let Some(mode) = attributes.mode {
        tags.insert(Attribute::Metadata(MODE.into()), format!("{mode:04o}").into());
    }
    tags
}

/// Between the store's tag and the moment since which the object is as it is.
const SINCE: char = ';';

/// The part of a version's tag that is about its content.
fn content_tag(tag: &str) -> &str {
    tag.rsplit_once(SINCE).map_or(tag, |(content, _)| content)
}

fn meta_of(object: &ObjectMeta, tags: Option<&Tags>) -> Meta {
    let said = |name: &'static str| tags.and_then(|tags| tags.get(&Attribute::Metadata(name.into())));
    let own = said(MODIFIED).and_then(|text| Stamp::from_text(text));
    let mode = said(MODE).and_then(|text| u32::from_str_radix(text, 8).ok());
    let arrived = Stamp::new(object.last_modified.timestamp(), 0);
    let tag = object.e_tag.clone().unwrap_or_else(|| object.size.to_string());
    // The store's tag is that of the content. Who gives an object another time writes it anew, which shows here.
    let tag = format!("{tag}{SINCE}{}", arrived.seconds());
    Meta {
        kind: EntryKind::File,
        size: object.size,
        modified: Some(own.unwrap_or(arrived)),
        mode,
        unlisted: None,
        id: None,
        target: None,
        extra: None,
        version: Some(Box::new(Version { tag, arrival: own.is_none(), young: false })),
    }
}

fn is_part(path: &RelPath) -> bool {
    path.file_name().is_some_and(|name| name.starts_with(PART_PREFIX))
}

impl Wire for Objects {
    fn address(&self) -> String {
        self.address.shown()
    }

    fn place(&self) -> Place {
        let port = self.address.port.map(|port| format!(":{port}")).unwrap_or_default();
        let path = format!("{}/{}", self.bucket, self.prefix);
        let host = self.address.host.to_lowercase();
        Place::Elsewhere(format!("s3://{host}{port}/{}", path.trim_end_matches('/')))
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            names: NameRule::PRINTABLE,
            time_precision: Some(Duration::from_nanos(1)),
            modes: true,
            ..wire::usual(workers_for(self.round_trip))
        }
    }

    fn needs_notes(&self) -> bool {
        true
    }

    fn describes(&self) -> bool {
        true
    }

    fn describe(&self, path: &RelPath) -> Answer<Option<Meta>> {
        self.head(path)
    }

    fn just_made(&self, path: &RelPath) -> Option<String> {
        // Since when it is as it is, a listing tells.
        lock(&self.shared.made).remove(path).map(|tag| format!("{tag}{SINCE}"))
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let prefix = self.folder_prefix(folder);
        let mut gather = Gather::new(folder);
        let mut something = folder.is_root();
        let mut token = None;
        loop {
            let page = self.page(&prefix, token, 1000, "list", folder)?;
            for object in &page.result.objects {
                something = true;
                note(&mut gather, &object.location, meta_of(object, None), &prefix);
            }
            for below in &page.result.common_prefixes {
                something = true;
                note(&mut gather, below, folder_meta(), &prefix);
            }
            gather.go_on()?;
            token = page.page_token;
            if token.is_none() {
                break;
            }
        }
        if something { Ok(gather.done()) } else { Err(Trouble::lasting(FaultKind::NotFound, "list", folder)) }
    }

    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>> {
        if path.is_root() {
            return Ok(Some(folder_meta()));
        }
        if is_part(path) {
            let size = match lock(&self.shared.pending).get(path) {
                Some(Pending::Small(data, _)) => Some(data.len() as u64),
                Some(Pending::Parts(sent)) => Some(sent.size),
                None => None,
            };
            let size = match size {
                Some(size) => Some(size),
                None => self.read_record(path)?.map(|(sent, _)| sent.size),
            };
            if let Some(size) = size {
                return Ok(Some(Meta { kind: EntryKind::File, size, ..folder_meta() }));
            }
        }
        match self.head(path) {
            Ok(Some(meta)) => Ok(Some(meta)),
            Ok(None) => Ok(self.has_content(path)?.then(folder_meta)),
            Err(trouble) if trouble.kind() == FaultKind::NameRefused => Ok(None),
            // Some stores stumble over a key that is only the beginning of others.
            Err(trouble) if trouble.kind() == FaultKind::Io && self.has_content(path)? => {
                Ok(Some(folder_meta()))
            }
            Err(trouble) => Err(trouble),
        }
    }

    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>> {
        if lock(&self.shared.pending).contains_key(path) {
            // It is nothing that could be read before it is published; each part was checked by the server on arrival.
            return Err(Trouble::lasting(FaultKind::Unsupported, "read", path));
        }
        let key = self.key("read", path)?;
        let range = (offset > 0).then_some(GetRange::Offset(offset));
        let getting = self.shared.client.get_opts(&key, GetOptions { range, ..GetOptions::default() });
        let found = match self.wait("read", path, getting) {
            Ok(found) => found,
            Err(trouble) if offset > 0 => match self.head(path)? {
                Some(meta) if meta.size == offset => {
                    let stream = futures_util::stream::empty().boxed();
                    return Ok(Box::new(ObjectDownload::new(self.clone(), meta, path, stream)));
                }
                _ => return Err(trouble),
            },
            Err(trouble) => return Err(trouble),
        };
        let meta = meta_of(&found.meta, Some(&found.attributes));
        Ok(Box::new(ObjectDownload::new(self.clone(), meta, path, found.into_stream())))
    }

    fn write(
        &self,
        path: &RelPath,
        target: &RelPath,
        hint: &Attributes,
        at: Option<u64>,
        size: Option<u64>,
    ) -> Answer<Box<dyn Upload>> {
        let part = match size {
            // In one go: only what can be gone on with is worth parts.
            Some(size) if size < RESUME_FROM => RESUME_FROM,
            Some(size) => PART.max(size.div_ceil(MOST_PARTS).next_multiple_of(1 << 20)),
            None => PART,
        };
        let mut upload = ObjectUpload::new(self.clone(), path, target, hint, part);
        if let Some(at) = at.filter(|at| *at > 0) {
            let unable = || Trouble::lasting(FaultKind::Unsupported, "write", path);
            let (mut sent, part) = self.read_record(path)?.ok_or_else(unable)?;
            if at % part != 0 || at > sent.size || sent.key != self.key("write", target)? {
                return Err(unable());
            }
            sent.parts.truncate((at / part) as usize);
            sent.size = at;
            upload.go_on_with(sent, part);
        }
        Ok(Box::new(upload))
    }

    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()> {
        let (data, tags) = (Bytes::copy_from_slice(data), tags_of(attributes));
        if is_part(path) {
            lock(&self.shared.pending).insert(path.clone(), Pending::Small(data, tags));
            return Ok(());
        }
        self.put_object(path, data, tags, PutMode::Overwrite)
    }

    fn make_link(&self, path: &RelPath, _target: &[u8]) -> Answer<()> {
        Err(Trouble::lasting(FaultKind::Unsupported, "make link", path))
    }

    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        let pending = lock(&self.shared.pending).remove(from);
        if let Some(pending) = pending {
            return self.publish(from, to, over, pending);
        }
        if matches!(over, Over::Nothing) && self.stat(to)?.is_some() {
            return Err(Trouble::lasting(FaultKind::Exists, "rename", to));
        }
        match self.stat(from)? {
            None => Err(Trouble::lasting(FaultKind::NotFound, "rename", from)),
            Some(meta) if !meta.is_folder() => self.move_object(from, to),
            Some(_) => {
                for object in self.all_below(from)? {
                    let below = object.below(from).unwrap_or_default();
                    self.move_object(&object, &to.join_path(&below))?;
                }
                Ok(())
            }
        }
    }

    fn duplicate(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        self.copy_object(from, to)
    }

    fn remove(&self, path: &RelPath, _seen: &Meta) -> Answer<()> {
        let pending = lock(&self.shared.pending).remove(path);
        if is_part(path) {
            self.clear(path, pending)?;
            // What is left of an upload is found by its record.
            if let Some(name) = path.as_bytes().strip_suffix(RECORD_SUFFIX.as_bytes())
                && let Ok(temporary) = RelPath::new(name)
            {
                self.clear(&temporary, None)?;
            }
            return match self.delete_object(path) {
                Err(trouble) if trouble.kind() == FaultKind::NotFound => Ok(()),
                outcome => outcome,
            };
        }
        self.delete_object(path)
    }

    fn remove_folder(&self, path: &RelPath) -> Answer<()> {
        let listing = self.list(path)?;
        if !listing.entries.is_empty() || !listing.unknown.is_empty() {
            return Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path));
        }
        let marker = self.marker(path)?;
        self.wait("remove", path, self.shared.client.delete(&marker))?;
        if self.has_content(path)? {
            return Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path));
        }
        Ok(())
    }

    fn make_folder(&self, path: &RelPath, _mode: Option<u32>) -> Answer<()> {
        if self.stat(path)?.is_some() {
            return Err(Trouble::lasting(FaultKind::Exists, "make folder", path));
        }
        let parent = path.parent().unwrap_or_default();
        if !parent.is_root() && !self.has_content(&parent)? {
            return Err(Trouble::lasting(FaultKind::NotFound, "make folder", path));
        }
        let name =
            Name::new(MARKER).map_err(|_| Trouble::lasting(FaultKind::NameRefused, "make folder", path))?;
        let marker = path.join(&name);
        let made = self.put_object(&marker, Bytes::new(), Tags::new(), PutMode::Create);
        lock(&self.shared.made).remove(&marker);
        made
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        // Metadata is part of an object, and changes with it alone.
        self.rewrite(path, attributes)
    }

    fn space(&self) -> Answer<Option<Space>> {
        Ok(None)
    }

    fn facts(&self) -> Vec<(&'static str, String)> {
        vec![
            ("protocol", "S3".to_owned()),
            ("bucket", self.bucket.clone()),
            ("times", "kept as metadata of each object".to_owned()),
        ]
    }
}

const BOTH: &str = "this name is an object and a folder there, and no folder elsewhere can hold both";

/// Takes a key of a listing.
fn note(gather: &mut Gather<'_>, key: &Path, meta: Meta, prefix: &str) {
    if key.as_ref() == prefix.trim_end_matches('/') {
        // A marker as others make it: an empty object with the folder's own name.
        return;
    }
    match key.as_ref().strip_prefix(prefix) {
        Some(name) if name.as_bytes() == MARKER => {}
        Some(name) if odd::original(name).is_some() => gather.refuse_name(name, odd::original(name)),
        // A file and a folder may have the same name here, but nowhere else.
        Some(name) if gather.has(name) => gather.refuse_both(name, BOTH),
        Some(name) => gather.take(name.as_bytes(), Some(meta)),
        None => gather.refuse(None, format!("it names \"{key}\", which is not in this folder")),
    }
}
