//! A bucket as it was opened, and what is said of its objects.

use std::collections::HashMap;
use std::error::Error;
use std::future::Future;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use object_store::aws::{AmazonS3, AmazonS3Builder, Checksum};
use object_store::list::{PaginatedListOptions, PaginatedListStore};
use object_store::multipart::PartId;
use object_store::path::Path;
use object_store::{
    Attribute, Attributes as Tags, GetOptions, ObjectMeta, ObjectStore, ObjectStoreExt, PutMode, PutOptions,
    PutPayload, RetryConfig, UpdateVersion,
};
use reedhook_core::entry::{EntryKind, Meta, Stamp, Version};
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::store::{Attributes, FaultKind, StoreError};

use crate::remote::connect::{ANSWER_WITHIN, Account, Address, ConnectError, Trust};
use crate::remote::gather::Gather;
use crate::remote::object::odd;
use crate::remote::object::service::{Answered, Connector};
use crate::remote::runtime::{self, Runtime};
use crate::remote::stop::Stop;
use crate::remote::tls;
use crate::remote::wire::{Again, Answer, Trouble};

/// What says that a folder is there.
pub(super) const MARKER: &[u8] = b".reedhook-folder";

/// The metadata of an object that holds a file's time and mode.
pub(super) const MODIFIED: &str = "reedhook-modified";

pub(super) const MODE: &str = "reedhook-mode";

/// Metadata that tells one upload from another with the same content: an answer may be lost, and the object be there.
pub(super) const UPLOAD: &str = "reedhook-upload";

/// What a large file is sent in. Stores allow 10,000 parts of at least 5 MiB.
pub(super) const PART: u64 = 8 << 20;

pub(super) const MOST_PARTS: u64 = 9_000;

/// Larger objects are not written again for their metadata.
pub(super) const REWRITTEN_UP_TO: u64 = PART;

/// A part of a bucket.
#[derive(Clone)]
pub struct Objects {
    pub(super) shared: Arc<Shared>,
    pub(super) address: Address,
    pub(super) bucket: String,
    /// What all keys begin with: nothing, or a path with a slash at its end.
    pub(super) prefix: String,
    pub(super) round_trip: Duration,
}

pub(super) struct Shared {
    pub(super) runtime: Runtime,
    pub(super) client: AmazonS3,
    /// Unfinished files: complete, but not published.
    pub(super) pending: Mutex<HashMap<RelPath, Pending>>,
    /// The versions that were just made, until somebody asks.
    pub(super) made: Mutex<HashMap<RelPath, String>>,
}

pub(super) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
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

    pub(super) fn greet(&mut self, user: Option<&str>) -> Result<(), ConnectError> {
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
    pub(super) fn key(&self, action: &'static str, path: &RelPath) -> Answer<Path> {
        let refuse = || Trouble::lasting(FaultKind::NameRefused, action, path);
        let text = std::str::from_utf8(path.as_bytes()).map_err(|_| refuse())?;
        Path::parse(format!("{}{text}", self.prefix)).map_err(|error| refuse().because(error))
    }

    pub(super) fn folder_prefix(&self, folder: &RelPath) -> String {
        let below = String::from_utf8_lossy(folder.as_bytes());
        if folder.is_root() { self.prefix.clone() } else { format!("{}{below}/", self.prefix) }
    }

    /// Waits for a request.
    pub(super) fn wait<T>(
        &self,
        action: &'static str,
        path: &RelPath,
        request: impl Future<Output = object_store::Result<T>>,
    ) -> Answer<T> {
        self.shared.wait(action, path, request)
    }

    /// A page of the keys below a prefix.
    pub(super) fn page(
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

    pub(super) fn has_content(&self, folder: &RelPath) -> Answer<bool> {
        let page = self.page(&self.folder_prefix(folder), None, 1, "examine", folder)?;
        Ok(!page.result.objects.is_empty() || !page.result.common_prefixes.is_empty())
    }

    pub(super) fn head(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let key = self.key("examine", path)?;
        let asking = self.shared.client.get_opts(&key, GetOptions { head: true, ..GetOptions::default() });
        match self.wait("examine", path, asking) {
            Ok(found) => Ok(Some(meta_of(&found.meta, Some(&found.attributes)))),
            Err(trouble) if trouble.kind() == FaultKind::NotFound => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    pub(super) fn marker(&self, folder: &RelPath) -> Answer<Path> {
        let name =
            Name::new(MARKER).map_err(|_| Trouble::lasting(FaultKind::NameRefused, "make folder", folder))?;
        self.key("make folder", &folder.join(&name))
    }

    /// Puts an object in its place under a condition.
    pub(super) fn put_object(&self, path: &RelPath, data: Bytes, tags: Tags, mode: PutMode) -> Answer<()> {
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
    pub(super) fn rewrite(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
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
    pub(super) fn all_below(&self, folder: &RelPath) -> Answer<Vec<RelPath>> {
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

    pub(super) fn copy_object(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        let (old, new) = (self.key("copy", from)?, self.key("copy", to)?);
        self.wait("copy", from, self.shared.client.copy(&old, &new))
    }

    pub(super) fn delete_object(&self, path: &RelPath) -> Answer<()> {
        let key = self.key("remove", path)?;
        self.wait("remove", path, self.shared.client.delete(&key))
    }

    pub(super) fn move_object(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        self.copy_object(from, to)?;
        self.delete_object(from)
    }
}

impl Shared {
    pub(super) fn wait<T>(
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
pub(super) fn trouble(error: object_store::Error, action: &'static str, path: &RelPath) -> Trouble {
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
pub(super) fn bottom<'a, E: Error + 'static>(error: &'a (dyn Error + 'static)) -> Option<&'a E> {
    let mut current = Some(error);
    while let Some(one) = current {
        if let Some(found) = one.downcast_ref() {
            return Some(found);
        }
        current = one.source();
    }
    None
}

pub(super) fn innermost(error: &(dyn Error + 'static)) -> String {
    let mut current = error;
    while let Some(inner) = current.source() {
        current = inner;
    }
    current.to_string()
}

pub(super) fn tags_of(attributes: &Attributes) -> Tags {
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
pub(super) const SINCE: char = ';';

/// The part of a version's tag that is about its content.
pub(super) fn content_tag(tag: &str) -> &str {
    tag.rsplit_once(SINCE).map_or(tag, |(content, _)| content)
}

pub(super) fn meta_of(object: &ObjectMeta, tags: Option<&Tags>) -> Meta {
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

pub(super) fn is_part(path: &RelPath) -> bool {
    path.file_name().is_some_and(|name| name.starts_with(PART_PREFIX))
}

pub(super) const BOTH: &str =
    "this name is an object and a folder there, and no folder elsewhere can hold both";

/// Takes a key of a listing.
pub(super) fn note(gather: &mut Gather<'_>, key: &Path, meta: Meta, prefix: &str) {
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

pub(in crate::remote::object) enum Pending {
    Small(Bytes, Tags),
    Parts(Sent),
}

/// An upload whose parts are all there.
#[derive(Clone)]
pub(in crate::remote::object) struct Sent {
    pub(in crate::remote::object) key: Path,
    pub(in crate::remote::object) id: String,
    pub(in crate::remote::object) parts: Vec<PartId>,
    pub(in crate::remote::object) size: u64,
}
