//! Opened and unfinished files of this machine.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{
    Attributes, Content, CopyError, FaultKind, Flow, Result, Sealed, Stage, StoreError,
};

use super::sys::{self, Folder};
use super::travel::{PIECE, TravelError, Travelled, Ways, begin_to_flush, next_data, travel};
use crate::local::faults::sealed;
use crate::local::linux::faults::fault;

/// Files up to this size are copied through memory: cheaper than asking the kernel about holes and clones.
const SMALL: u64 = 64 << 10;

/// A stretch of zeros this long is left as a hole.
const STRETCH: usize = 64 << 10;

/// An opened file.
pub(super) struct LocalContent {
    pub(super) file: File,
    pub(super) path: RelPath,
    /// The metadata found when the file was opened, until it is asked for.
    pub(super) fresh: Option<Meta>,
    /// Up to where the file is known to have no hole.
    pub(super) data_until: u64,
    /// Its owner is told too.
    pub(super) full: bool,
}

impl LocalContent {
    pub(super) fn new(file: File, path: RelPath, fresh: Option<Meta>, full: bool) -> LocalContent {
        LocalContent { file, path, fresh, data_until: 0, full }
    }
}

impl Read for LocalContent {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.file.read(buffer)
    }
}

impl Content for LocalContent {
    fn meta(&mut self) -> Result<Meta> {
        match self.fresh.take() {
            Some(meta) => Ok(meta),
            None => sys::stat_file(&self.file, self.full).map_err(|error| fault("read", &self.path, error)),
        }
    }

    fn as_file(&self) -> Option<&File> {
        Some(&self.file)
    }

    fn skip_hole(&mut self) -> io::Result<u64> {
        let at = self.file.stream_position()?;
        if at < self.data_until {
            return Ok(0);
        }
        let size = self.file.metadata()?.len();
        let (start, end) = next_data(&self.file, at, size);
        // Asking has moved the position.
        self.file.seek(SeekFrom::Start(start.max(at)))?;
        self.data_until = end;
        Ok(start.saturating_sub(at))
    }
}

/// A file being written under its unfinished name.
pub(super) struct LocalStage {
    pub(super) folder: Arc<Folder>,
    pub(super) part: Vec<u8>,
    /// `None` once sealed: then there is nothing to clear away.
    pub(super) file: Option<File>,
    pub(super) target: RelPath,
    /// Where the next byte goes: behind what was adopted.
    pub(super) at: u64,
    /// The mode that the file was made with, when it is known to have just that.
    pub(super) made_with: Option<u32>,
    /// How bytes travel to here.
    pub(super) ways: Arc<Ways>,
    /// How it is shared, when it is one of Reedhook's own files.
    pub(super) shared: Option<sys::Sharing>,
    /// Modes are held there.
    pub(super) keeps_modes: bool,
    /// It has to be made durable by itself.
    pub(super) synced: bool,
}

impl LocalStage {
    fn file(&mut self) -> Result<&mut File> {
        self.file.as_mut().ok_or_else(|| StoreError::new(FaultKind::Io, "write", &self.target))
    }

    fn write_error(&self, error: io::Error) -> CopyError {
        CopyError::Write(fault("write", &self.target, error))
    }

    /// Through memory, up to the size that is expected: whether the source has grown meanwhile is asked afterwards.
    fn fill_small(
        &mut self,
        content: &mut dyn Content,
        size: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        thread_local!(static BUFFER: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) });
        BUFFER.with_borrow_mut(|buffer| {
            buffer.clear();
            let read = content.take(size).read_to_end(buffer);
            let length = read.map_err(|error| CopyError::Read(fault("read", &self.target, error)))?;
            self.write(buffer).map_err(CopyError::Write)?;
            progress(length as u64);
            Ok(length as u64)
        })
    }

    /// Through a buffer, piece by piece, until the source ends. Long stretches of zeros are passed over, so that the holes of
    /// a file stay holes on this way too.
    fn fill_streaming(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let mut buffer = vec![0; 1 << 20];
        let (mut total, mut flushing) = (0, 0);
        loop {
            if total - flushing >= PIECE as u64 {
                let begin = self.at + flushing;
                begin_to_flush(self.file().map_err(CopyError::Write)?, begin, total - flushing);
                flushing = total;
            }
            let hole =
                content.skip_hole().map_err(|error| CopyError::Read(fault("read", &self.target, error)))?;
            if hole > 0 {
                self.pass_over(hole).map_err(CopyError::Write)?;
                total += hole;
                if progress(hole) == Flow::Stop {
                    return Err(CopyError::Stopped);
                }
            }
            let length = match content.read(&mut buffer) {
                Ok(0) => {
                    self.end_here()?;
                    return Ok(total);
                }
                Ok(length) => length,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(CopyError::Read(fault("read", &self.target, error))),
            };
            for stretch in buffer[..length].chunks(STRETCH) {
                self.write_or_pass_over(stretch).map_err(CopyError::Write)?;
            }
            total += length as u64;
            if progress(length as u64) == Flow::Stop {
                return Err(CopyError::Stopped);
            }
        }
    }

    fn write_or_pass_over(&mut self, stretch: &[u8]) -> Result<()> {
        if stretch.len() < STRETCH || stretch.iter().any(|byte| *byte != 0) {
            return self.write(stretch);
        }
        self.pass_over(stretch.len() as u64)
    }

    fn pass_over(&mut self, bytes: u64) -> Result<()> {
        let passed = self.file()?.seek_relative(bytes as i64);
        passed.map_err(|error| fault("write", &self.target, error))
    }

    /// Gives the file the length that was reached, also where the last of it was passed over.
    fn end_here(&mut self) -> Result<(), CopyError> {
        let ended = self.file().map_err(CopyError::Write)?;
        let set = ended.stream_position().and_then(|length| ended.set_len(length));
        set.map_err(|error| self.write_error(error))
    }
}

impl Stage for LocalStage {
    fn write(&mut self, data: &[u8]) -> Result<()> {
        use std::io::Write;
        let outcome = self.file()?.write_all(data);
        outcome.map_err(|error| fault("write", &self.target, error))
    }

    fn fill(
        &mut self,
        content: &mut dyn Content,
        size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        if size_hint <= SMALL {
            return self.fill_small(content, size_hint, progress);
        }
        let (Some(source), Some(file)) = (content.as_file(), self.file.as_ref()) else {
            return self.fill_streaming(content, progress);
        };
        match travel(&self.ways, source, file, self.at, progress) {
            Ok(Travelled::Whole(bytes)) => Ok(bytes),
            Ok(Travelled::Stopped) => Err(CopyError::Stopped),
            Err(TravelError::Read(error)) => Err(CopyError::Read(fault("read", &self.target, error))),
            Err(TravelError::Write(error)) => Err(self.write_error(error)),
        }
    }

    fn adopt(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let target = self.target.clone();
        let read_error = |error| CopyError::Read(fault("read", &target, error));
        let write_error = |error| CopyError::Write(fault("write", &target, error));
        let mut file = self.file.take().ok_or(CopyError::Stopped)?;
        let left = file.metadata().map_err(write_error)?.len();
        let (mut ours, mut theirs) = (vec![0; PIECE.min(left as usize)], vec![0; PIECE.min(left as usize)]);
        let mut proved = 0;
        while proved < left {
            let length = ours.len().min((left - proved) as usize);
            content.read_exact(&mut theirs[..length]).map_err(read_error)?;
            file.read_exact(&mut ours[..length]).map_err(write_error)?;
            if ours[..length] != theirs[..length] {
                // What was left is not the beginning of this file: begin anew. The caller opens the source again.
                self.file = Some(file);
                return Err(CopyError::Read(StoreError::new(FaultKind::Changed, "read", &target)));
            }
            proved += length as u64;
            if progress(length as u64) == Flow::Stop {
                self.file = Some(file);
                return Err(CopyError::Stopped);
            }
        }
        self.at = proved;
        self.file = Some(file);
        Ok(proved)
    }

    fn go_on_at(&mut self, offset: u64) -> Result<bool> {
        let target = self.target.clone();
        let error = |error| fault("write", &target, error);
        let file = self.file()?;
        if file.metadata().map_err(error)?.len() < offset {
            return Ok(false);
        }
        file.set_len(offset).and_then(|()| file.seek(SeekFrom::Start(offset))).map_err(error)?;
        self.at = offset;
        Ok(true)
    }

    fn flush(&mut self) -> Result<()> {
        let synced = self.file()?.sync_data();
        synced.map_err(|error| fault("write", &self.target, error))
    }

    fn set_aside(mut self: Box<Self>) {
        // Closed without being sealed or removed.
        self.file = None;
    }

    fn seal(mut self: Box<Self>, attributes: &Attributes) -> Result<Sealed> {
        let own_mode = self.shared.map_or_else(sys::default_mode, sys::Sharing::file_mode);
        let mode = attributes.mode.unwrap_or(own_mode);
        // A new owner would take special bits away, so with owners the mode is always set last.
        let is_made = !self.keeps_modes || (self.made_with == Some(mode) && attributes.extra.is_none());
        let target = self.target.clone();
        let set = sys::set_file(self.file()?, attributes, (!is_made).then_some(mode));
        set.map_err(|error| fault("write", &target, error))?;
        if self.synced {
            let durable = self.file()?.sync_all();
            durable.map_err(|error| fault("make durable", &target, error))?;
        }
        if let (Some(shared), Some(file)) = (self.shared, &self.file) {
            shared.give_group(file);
        }
        self.file = None;
        Ok(sealed(&target, &self.part))
    }
}

impl Drop for LocalStage {
    fn drop(&mut self) {
        if self.file.is_some() {
            // A leftover is recognised by its name and cleared by the next run.
            let _ = self.folder.unlink(&self.part);
        }
    }
}
