//! Object stores that speak the S3 protocol.
//!
//! There are no folders, no unfinished files and no renames there: an object appears whole, or not at all. So a small file is held in
//! memory until it is published, and then sent with the condition that nothing, or just the expected version, has its name. A
//! large one travels in parts that become an object only when it is published. Times and modes are kept as metadata of the
//! object; listings do not show those, so they are noted, and asked for where no note is.
//!
//! A folder that we make has a marker in it, because otherwise it would vanish with its last file, or never appear.

pub(crate) mod client;
mod odd;
mod pending;
mod service;
mod transfer;

pub use crate::remote::object::client::{ObjectSetup, Objects};

use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use object_store::{Attributes as Tags, GetOptions, GetRange, ObjectStore, ObjectStoreExt, PutMode};
use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::run::RESUME_FROM;
use reedhook_core::store::{Attributes, Capabilities, FaultKind, Listing, NameRule, Place, Space};

use self::pending::RECORD_SUFFIX;
use self::transfer::{ObjectDownload, ObjectUpload};
use super::connect::workers_for;
use super::gather::{Gather, folder_meta};
use super::wire::{self, Answer, Download, Over, Trouble, Upload, Wire};
use crate::remote::object::client::{
    MARKER, MOST_PARTS, PART, Pending, SINCE, is_part, lock, meta_of, note, tags_of,
};

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
