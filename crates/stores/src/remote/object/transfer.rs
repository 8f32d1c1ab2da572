//! Content on its way: objects are read as streams and written in parts, several at once.

use std::collections::VecDeque;
use std::io::{self, Read};

use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use object_store::multipart::{MultipartStore, PartId};
use object_store::{ObjectStoreExt, PutMultipartOptions, PutPayload};
use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind};
use tokio::task::JoinHandle;

use crate::remote::connect::ANSWER_WITHIN;
use crate::remote::object::client::{Objects, Pending, Sent, innermost, lock, tags_of, trouble};
use crate::remote::object::pending::write_record;
use crate::remote::runtime;
use crate::remote::wire::{Again, Answer, Download, Trouble, Upload};

/// Parts underway at once.
const PARTS_UNDERWAY: usize = 4;

pub(super) struct ObjectDownload {
    objects: Objects,
    path: RelPath,
    meta: Meta,
    stream: BoxStream<'static, object_store::Result<Bytes>>,
    piece: Bytes,
}

impl ObjectDownload {
    pub(super) fn new(
        objects: Objects,
        meta: Meta,
        path: &RelPath,
        stream: BoxStream<'static, object_store::Result<Bytes>>,
    ) -> ObjectDownload {
        ObjectDownload { objects, path: path.clone(), meta, stream, piece: Bytes::new() }
    }
}

impl Read for ObjectDownload {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() {
            let next = runtime::wait(&self.objects.shared.runtime, ANSWER_WITHIN, self.stream.next());
            let trouble = match next {
                Some(None) => return Ok(0),
                Some(Some(Ok(piece))) => {
                    self.piece = piece;
                    continue;
                }
                Some(Some(Err(error))) => Trouble::broke("read", &self.path, innermost(&error)),
                None => Trouble::broke("read", &self.path, "no answer"),
            };
            return Err(io::Error::other(trouble.error));
        }
        let length = buffer.len().min(self.piece.len());
        buffer[..length].copy_from_slice(&self.piece.split_to(length));
        Ok(length)
    }
}

impl Download for ObjectDownload {
    fn meta(&mut self) -> Answer<Meta> {
        // An object is never changed, only replaced: what is read is all of this one version.
        Ok(self.meta.clone())
    }
}

pub(super) struct ObjectUpload {
    objects: Objects,
    temporary: RelPath,
    target: RelPath,
    hint: Attributes,
    part: u64,
    sent: Option<Sent>,
    underway: VecDeque<(u64, JoinHandle<object_store::Result<PartId>>)>,
    buffer: Vec<u8>,
}

impl ObjectUpload {
    pub(super) fn new(
        objects: Objects,
        temporary: &RelPath,
        target: &RelPath,
        hint: &Attributes,
        part: u64,
    ) -> ObjectUpload {
        let (temporary, target, hint) = (temporary.clone(), target.clone(), hint.clone());
        let (underway, buffer) = (VecDeque::new(), Vec::new());
        ObjectUpload { objects, temporary, target, hint, part, sent: None, underway, buffer }
    }

    /// Goes on with an upload whose first parts have been sent before.
    pub(super) fn go_on_with(&mut self, sent: Sent, part: u64) {
        (self.part, self.sent) = (part, Some(sent));
    }

    /// The upload, begun if need be. Times are metadata of the whole and have to be said now.
    fn begin(&mut self) -> Answer<()> {
        if self.sent.is_some() {
            return Ok(());
        }
        let key = self.objects.key("write", &self.target)?;
        let tags = tags_of(&self.hint);
        let options = PutMultipartOptions { attributes: tags, ..PutMultipartOptions::default() };
        let creating = self.objects.shared.client.create_multipart_opts(&key, options);
        let id = self.objects.wait("write", &self.target, creating)?;
        self.sent = Some(Sent { key, id, parts: Vec::new(), size: 0 });
        Ok(())
    }

    fn send_part(&mut self) -> Answer<()> {
        self.begin()?;
        let Some(sent) = self.sent.clone() else { return Ok(()) };
        let data = Bytes::from(std::mem::take(&mut self.buffer));
        let index = sent.parts.len() + self.underway.len();
        let (shared, length) = (self.objects.shared.clone(), data.len() as u64);
        let task = self.objects.shared.runtime.handle.spawn(async move {
            shared.client.put_part(&sent.key, &sent.id, index, PutPayload::from(data)).await
        });
        self.underway.push_back((length, task));
        self.settle(PARTS_UNDERWAY - 1)
    }

    fn settle(&mut self, most: usize) -> Answer<()> {
        while self.underway.len() > most {
            let Some((length, task)) = self.underway.pop_front() else { return Ok(()) };
            let target = &self.target;
            let ended = runtime::wait(&self.objects.shared.runtime, ANSWER_WITHIN * 5, task);
            let ended = ended.ok_or_else(|| Trouble::broke("write", target, "no answer"))?;
            let part = ended.map_err(|error| Trouble::broke("write", target, error))?;
            // A part that is busy or broken is sent again with the rest of the file.
            let part = part.map_err(|error| match trouble(error, "write", target) {
                trouble if trouble.again != Again::Never => Trouble::broke("write", target, trouble.error),
                trouble => trouble,
            })?;
            if let Some(sent) = self.sent.as_mut() {
                sent.parts.push(part);
                sent.size += length;
            }
        }
        Ok(())
    }
}

impl Upload for ObjectUpload {
    fn write(&mut self, mut data: &[u8]) -> Answer<()> {
        while !data.is_empty() {
            let room = (self.part as usize - self.buffer.len()).min(data.len());
            self.buffer.extend_from_slice(&data[..room]);
            data = &data[room..];
            if self.buffer.len() as u64 >= self.part {
                self.send_part()?;
            }
        }
        Ok(())
    }

    fn flush(&mut self) -> Answer<()> {
        if !self.buffer.is_empty() {
            // Only whole parts can be gone on behind.
            return Err(Trouble::lasting(FaultKind::Unsupported, "write", &self.target));
        }
        self.settle(0)?;
        let (Some(sent), Some(record)) = (&self.sent, self.objects.record_of(&self.temporary)) else {
            return Ok(());
        };
        let key = self.objects.key("write", &record)?;
        let payload = PutPayload::from(write_record(sent, self.part).into_bytes());
        self.objects.wait("write", &record, self.objects.shared.client.put(&key, payload)).map(drop)
    }

    fn finish(mut self: Box<Self>, attributes: &Attributes) -> Answer<()> {
        let pending = if self.sent.is_none() {
            Pending::Small(Bytes::from(std::mem::take(&mut self.buffer)), tags_of(attributes))
        } else {
            if !self.buffer.is_empty() {
                self.send_part()?;
            }
            self.settle(0)?;
            let Some(sent) = self.sent.take() else { return Ok(()) };
            Pending::Parts(sent)
        };
        lock(&self.objects.shared.pending).insert(self.temporary.clone(), pending);
        Ok(())
    }
}
