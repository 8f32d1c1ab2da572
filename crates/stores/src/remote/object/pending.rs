//! Files that are complete and have no name yet: small ones wait in memory, large ones as the parts of an upload, with a record of it
//! beside, so that a later run can go on with it.

use bytes::Bytes;
use object_store::multipart::{MultipartStore, PartId};
use object_store::path::Path;
use object_store::{
    Attribute, Attributes as Tags, GetOptions, ObjectStore, ObjectStoreExt, PutMode, UpdateVersion,
};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::FaultKind;

use crate::remote::object::client::{Objects, Pending, Sent, UPLOAD, content_tag, lock};
use crate::remote::wire::{Again, Answer, Over, Trouble};

/// What the name of an upload's own record has behind that of the unfinished file.
pub(super) const RECORD_SUFFIX: &str = "-parts";

impl Objects {
    /// Gives a complete upload its place. What could not be published stays pending.
    pub(super) fn publish(
        &self,
        temporary: &RelPath,
        to: &RelPath,
        over: Over<'_>,
        pending: Pending,
    ) -> Answer<()> {
        match pending {
            Pending::Small(data, tags) => self.publish_small(temporary, to, over, data, tags),
            Pending::Parts(sent) => self.complete(temporary, to, over, sent),
        }
    }

    fn publish_small(
        &self,
        temporary: &RelPath,
        to: &RelPath,
        over: Over<'_>,
        data: Bytes,
        tags: Tags,
    ) -> Answer<()> {
        let mode = match over {
            Over::Nothing => PutMode::Create,
            Over::This(seen) => PutMode::Update(UpdateVersion {
                e_tag: seen.version.as_ref().map(|version| content_tag(&version.tag).to_owned()),
                version: None,
            }),
        };
        let put = match self.put_object(to, data.clone(), tags.clone(), mode) {
            Err(trouble)
                if matches!(trouble.kind(), FaultKind::Exists | FaultKind::Changed)
                    && self.is_upload(to, &tags) =>
            {
                Ok(())
            }
            put => put,
        };
        if put.is_err() {
            self.keep_pending(temporary, Pending::Small(data, tags));
        }
        put
    }

    /// Completing has no conditions here; the look just before has to do.
    fn complete(&self, temporary: &RelPath, to: &RelPath, over: Over<'_>, sent: Sent) -> Answer<()> {
        if matches!(over, Over::Nothing) && self.head(to)?.is_some() {
            self.keep_pending(temporary, Pending::Parts(sent));
            return Err(Trouble::lasting(FaultKind::Exists, "write", to));
        }
        let completing = self.shared.client.complete_multipart(&sent.key, &sent.id, sent.parts.clone());
        match self.wait("write", to, completing) {
            Ok(result) => {
                if let Some(tag) = result.e_tag {
                    lock(&self.shared.made).insert(to.clone(), tag);
                }
            }
            // It may have been completed although the answer was lost: then it is there, as large as it should be.
            Err(trouble) if trouble.again != Again::Never => {
                if !matches!(self.head(to), Ok(Some(found)) if found.size == sent.size) {
                    self.keep_pending(temporary, Pending::Parts(sent));
                    return Err(trouble);
                }
            }
            Err(trouble) => {
                self.forget_record(temporary);
                return Err(trouble);
            }
        }
        self.forget_record(temporary);
        Ok(())
    }

    fn keep_pending(&self, temporary: &RelPath, pending: Pending) {
        lock(&self.shared.pending).insert(temporary.clone(), pending);
    }

    /// Whether what stands at a path is this very upload.
    pub(super) fn is_upload(&self, path: &RelPath, tags: &Tags) -> bool {
        let Ok(key) = self.key("examine", path) else { return false };
        let asking = self.shared.client.get_opts(&key, GetOptions { head: true, ..GetOptions::default() });
        let own = Attribute::Metadata(UPLOAD.into());
        match self.wait("examine", path, asking) {
            Ok(found) => tags.get(&own).is_some_and(|token| found.attributes.get(&own) == Some(token)),
            Err(_) => false,
        }
    }

    pub(super) fn record_of(&self, temporary: &RelPath) -> Option<RelPath> {
        let (folder, name) = temporary.split()?;
        let name = Name::new(&[name.as_bytes(), RECORD_SUFFIX.as_bytes()].concat()).ok()?;
        Some(folder.join(&name))
    }

    pub(super) fn forget_record(&self, temporary: &RelPath) {
        let Some(record) = self.record_of(temporary) else { return };
        if let Ok(key) = self.key("clear", &record) {
            // What stays is cleared by the next run.
            let _ = self.wait("clear", &record, self.shared.client.delete(&key));
        }
    }

    /// What an interrupted run has sent already.
    pub(super) fn read_record(&self, temporary: &RelPath) -> Answer<Option<(Sent, u64)>> {
        let Some(record) = self.record_of(temporary) else { return Ok(None) };
        let key = self.key("examine", &record)?;
        let reading = async { self.shared.client.get(&key).await?.bytes().await };
        match self.wait("examine", &record, reading) {
            Ok(bytes) => Ok(read_record(&String::from_utf8_lossy(&bytes))),
            Err(trouble) if trouble.kind() == FaultKind::NotFound => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    /// Removes what an unfinished file is made of.
    pub(super) fn clear(&self, temporary: &RelPath, pending: Option<Pending>) -> Answer<()> {
        let sent = match pending {
            Some(Pending::Small(..)) => return Ok(()),
            Some(Pending::Parts(sent)) => Some(sent),
            None => self.read_record(temporary)?.map(|(sent, _)| sent),
        };
        if let Some(sent) = sent {
            let _ = self.wait("clear", temporary, self.shared.client.abort_multipart(&sent.key, &sent.id));
            self.forget_record(temporary);
        }
        Ok(())
    }
}

/// An upload's record: its key, its number, the size of a part, then a line for each part.
pub(super) fn write_record(sent: &Sent, part: u64) -> String {
    let parts: String = sent.parts.iter().map(|part| format!("{}\n", part.content_id)).collect();
    format!("{}\n{}\n{part}\n{parts}", sent.key, sent.id)
}

fn read_record(text: &str) -> Option<(Sent, u64)> {
    let mut lines = text.lines();
    let (key, id, part) = (lines.next()?, lines.next()?, lines.next()?.parse::<u64>().ok()?);
    let parts: Vec<PartId> = lines.map(|line| PartId { content_id: line.to_owned() }).collect();
    let size = part * parts.len() as u64;
    Some((Sent { key: Path::parse(key).ok()?, id: id.to_owned(), parts, size }, part))
}

#[cfg(test)]
mod tests {
    use super::super::PART;
    use super::*;

    #[test]
    fn an_uploads_record_survives_as_text() {
        let part = |id: &str| PartId { content_id: id.to_owned() };
        let key = Path::parse("archive/nest one.bin").expect("a key");
        let sent =
            Sent { key, id: "u-1".to_owned(), parts: vec![part("\"a\""), part("\"b\"")], size: 2 * PART };
        let (again, size) = read_record(&write_record(&sent, PART)).expect("a record");
        assert_eq!((again.key, again.id, again.size, size), (sent.key, sent.id, 2 * PART, PART));
        assert_eq!(again.parts[1].content_id, "\"b\"");
        assert!(read_record("archive/x\n").is_none());
    }
}
