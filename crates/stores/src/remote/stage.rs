//! Unfinished files in a store behind a network. Small ones are gathered in memory and sent in one go, so that a broken connection
//! costs nothing but another attempt; large ones travel while they are read.

use std::sync::Arc;
use std::time::Instant;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{
    Attributes, Content, CopyError, FaultKind, Flow, Result, Sealed, Stage, StoreError,
};

use super::wire::Upload;
use crate::remote::inner::Inner;

/// Up to this size a file is sent in one go.
const GATHERED: usize = 256 << 10;

/// Bytes read from the source at a time.
const PIECE: usize = 256 << 10;

pub(super) struct RemoteStage {
    inner: Arc<Inner>,
    target: RelPath,
    temporary: RelPath,
    hint: Attributes,
    union: Vec<u8>,
    upload: Option<Box<dyn Upload>>,
    /// The whole length, where it is known.
    size: Option<u64>,
    /// What an interrupted run left under the same name.
    left: Option<Meta>,
    /// Something is there that has to be removed when the stage is dropped.
    begun: bool,
    since: Instant,
}

impl RemoteStage {
    pub(super) fn new(
        inner: Arc<Inner>,
        target: RelPath,
        temporary: RelPath,
        hint: Attributes,
    ) -> RemoteStage {
        let union = Vec::new();
        RemoteStage {
            inner,
            target,
            temporary,
            hint,
            union,
            upload: None,
            size: None,
            left: None,
            begun: false,
            since: Instant::now(),
        }
    }

    pub(super) fn of_size(mut self, size: u64, left: Option<Meta>) -> RemoteStage {
        (self.size, self.left) = (Some(size), left);
        self
    }

    /// Errors are about the file that is meant, not about its unfinished name.
    fn about(&self, mut error: StoreError) -> StoreError {
        error.path = self.target.clone();
        self.inner.unless_full(error, &self.temporary, self.since)
    }

    fn begin(&mut self) -> Result<&mut Box<dyn Upload>> {
        if self.upload.is_none() {
            if let Some(left) = self.left.take() {
                self.inner
                    .ask(|wire| wire.remove(&self.temporary, &left))
                    .map_err(|error| self.about(error))?;
            }
            let (temporary, target, hint, size) = (&self.temporary, &self.target, &self.hint, self.size);
            let upload = self.inner.patience.with(|again| {
                if again && let Ok(Some(half)) = self.inner.wire.stat(temporary) {
                    let _ = self.inner.wire.remove(temporary, &half);
                }
                self.inner.wire.write(temporary, target, hint, None, size)
            });
            self.upload = Some(upload.map_err(|error| self.about(error))?);
            self.begun = true;
        }
        let missing = StoreError::new(FaultKind::Io, "write", &self.target);
        self.upload.as_mut().ok_or(missing)
    }

    fn send(&mut self, data: &[u8]) -> Result<()> {
        let sent = self.begin()?.write(data);
        sent.map_err(|trouble| self.about(trouble.error))
    }

    fn send_gathered(&mut self) -> Result<()> {
        let union = std::mem::take(&mut self.union);
        if union.is_empty() { Ok(()) } else { self.send(&union) }
    }

    fn complete(&mut self, attributes: &Attributes) -> Result<()> {
        if self.upload.is_none() {
            self.begun = true;
            let (temporary, data) = (&self.temporary, &self.union);
            return self.inner.ask(|wire| wire.put(temporary, data, attributes));
        }
        self.send_gathered()?;
        match self.upload.take() {
            Some(upload) => upload.finish(attributes).map_err(|trouble| trouble.error),
            None => Ok(()),
        }
    }
}

impl Stage for RemoteStage {
    fn write(&mut self, data: &[u8]) -> Result<()> {
        if self.upload.is_none() && self.union.len() + data.len() <= GATHERED {
            self.union.extend_from_slice(data);
            return Ok(());
        }
        self.send_gathered()?;
        self.send(data)
    }

    fn fill(
        &mut self,
        content: &mut dyn Content,
        size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        if self.upload.is_none() && self.union.is_empty() {
            self.size.get_or_insert(size_hint);
        }
        // One byte more than expected, so that the end shows in the first read.
        let piece = PIECE.min(usize::try_from(size_hint).unwrap_or(PIECE).saturating_add(1));
        let mut buffer = vec![0; piece];
        let mut total = 0;
        loop {
            let length = match content.read(&mut buffer) {
                Ok(0) => return Ok(total),
                Ok(length) => length,
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(CopyError::Read(StoreError::of_read(error, &self.target))),
            };
            self.write(&buffer[..length]).map_err(CopyError::Write)?;
            total += length as u64;
            if progress(length as u64) == Flow::Stop {
                return Err(CopyError::Stopped);
            }
        }
    }

    fn adopt(
        &mut self,
        _content: &mut dyn Content,
        _progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        // To read back what is there would cost as much as to send it; see `go_on_at`.
        Ok(0)
    }

    fn go_on_at(&mut self, offset: u64) -> Result<bool> {
        if self.left.as_ref().is_none_or(|left| left.size < offset) {
            return Ok(false);
        }
        let (temporary, target, hint, size) = (&self.temporary, &self.target, &self.hint, self.size);
        match self.inner.ask(|wire| wire.write(temporary, target, hint, Some(offset), size)) {
            Ok(upload) => {
                (self.upload, self.left, self.begun) = (Some(upload), None, true);
                Ok(true)
            }
            Err(error) if error.kind == FaultKind::Unsupported => Ok(false),
            Err(error) => Err(self.about(error)),
        }
    }

    fn flush(&mut self) -> Result<()> {
        self.send_gathered()?;
        match self.upload.as_mut().map(|upload| upload.flush()) {
            Some(Err(trouble)) => Err(self.about(trouble.error)),
            _ => Ok(()),
        }
    }

    fn set_aside(mut self: Box<Self>) {
        let _ = self.flush();
        self.begun = false;
    }

    fn seal(mut self: Box<Self>, attributes: &Attributes) -> Result<Sealed> {
        self.complete(attributes).map_err(|error| self.about(error))?;
        self.begun = false;
        let sealed = Sealed { target: self.target.clone(), temporary: self.temporary.clone() };
        if self.inner.wire.needs_notes() {
            self.inner.state().intended.insert(sealed.temporary.clone(), attributes.clone());
        }
        Ok(sealed)
    }
}

impl Drop for RemoteStage {
    fn drop(&mut self) {
        self.upload = None;
        if self.begun {
            self.inner.give_up(&self.temporary, self.since);
        }
    }
}
