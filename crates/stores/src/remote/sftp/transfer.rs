//! Content on its way: many pieces are underway at once, in both directions.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::sync::Arc;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind};

use super::line::{Channel, Pending};
use super::packet::{self, Packet, Reply, status};
use crate::remote::sftp::replies::failed;
use crate::remote::wire::{Answer, Download, Trouble, Upload};

/// Bytes underway before an answer is waited for.
const UNDERWAY: usize = 4 << 20;

/// The first request for a file's content; most small files end in it.
const FIRST_READ: u32 = 32 << 10;

pub(super) struct SftpDownload {
    line: Arc<Channel>,
    handle: Vec<u8>,
    path: RelPath,
    /// Up to where content has been asked for.
    asked_to: u64,
    piece: u32,
    /// Pieces that have been asked for, with where they begin and their length.
    underway: VecDeque<(u64, u32, Pending)>,
    /// The piece that is being read, and how far.
    current: (Vec<u8>, usize),
    /// How many pieces to have underway: it doubles with each that comes, so that small files are not asked beyond their end.
    width: usize,
    ended: bool,
    /// The answer about the file that was asked right behind the first piece.
    glance: Option<Pending>,
    /// What it said, when the first piece was all there is: so the file was after it had been read.
    seen: Option<Meta>,
}

impl SftpDownload {
    /// Begins to read an opened file. With the first piece goes a question about the file: when the piece is all of it, nothing
    /// more need be asked.
    pub(super) fn begin(
        line: Arc<Channel>,
        handle: Vec<u8>,
        path: &RelPath,
        offset: u64,
        piece: u32,
    ) -> Answer<SftpDownload> {
        let mut download = SftpDownload {
            line,
            handle,
            path: path.clone(),
            asked_to: offset,
            piece,
            underway: VecDeque::new(),
            current: (Vec::new(), 0),
            width: 1,
            ended: false,
            glance: None,
            seen: None,
        };
        download.ask_for(FIRST_READ)?;
        download.glance = Some(download.examine()?);
        Ok(download)
    }

    fn ask_for(&mut self, length: u32) -> Answer<()> {
        let packet = Packet::new(packet::READ).bytes(&self.handle).u64(self.asked_to).u32(length);
        let pending = self.line.ask(packet).map_err(|why| Trouble::broke("read", &self.path, why.0))?;
        self.underway.push_back((self.asked_to, length, pending));
        self.asked_to += u64::from(length);
        Ok(())
    }

    fn examine(&self) -> Answer<Pending> {
        let asked = self.line.ask(Packet::new(packet::FSTAT).bytes(&self.handle));
        asked.map_err(|why| Trouble::broke("examine", &self.path, why.0))
    }

    fn told(&self, pending: Pending) -> Answer<Meta> {
        match pending.wait().map_err(|why| Trouble::broke("examine", &self.path, why.0))? {
            Reply::Attributes(found) => {
                let unclear = || Trouble::lasting(FaultKind::BadAnswer, "examine", &self.path);
                found.meta().ok_or_else(unclear)
            }
            reply => Err(failed(reply, "examine", &self.path)),
        }
    }

    /// Takes the next piece that has been asked for; asks for more before.
    fn next_piece(&mut self) -> Answer<()> {
        let (at, length, pending) = match self.underway.pop_front() {
            Some(first) => first,
            None => {
                self.ask_for(self.piece)?;
                return self.next_piece();
            }
        };
        match pending.wait().map_err(|why| Trouble::broke("read", &self.path, why.0))? {
            Reply::Data(data) if data.is_empty() || data.len() > length as usize => {
                Err(Trouble::lasting(FaultKind::BadAnswer, "read", &self.path)
                    .because("a piece of another size"))
            }
            Reply::Data(data) => {
                if data.len() < length as usize {
                    // Less than asked: what follows is asked for anew, from where this piece ends.
                    self.underway.clear();
                    self.asked_to = at + data.len() as u64;
                    if let Some(glance) = self.glance.take() {
                        let meta = self.told(glance)?;
                        self.ended = meta.size == self.asked_to;
                        self.seen = Some(meta).filter(|_| self.ended);
                    }
                } else {
                    self.glance = None;
                    self.width = (self.width * 2).min(UNDERWAY / self.piece as usize);
                    while self.underway.len() < self.width {
                        self.ask_for(self.piece)?;
                    }
                }
                self.current = (data, 0);
                Ok(())
            }
            Reply::Status { code: status::EOF, .. } => {
                self.ended = true;
                self.underway.clear();
                Ok(())
            }
            reply => Err(failed(reply, "read", &self.path)),
        }
    }
}

impl Read for SftpDownload {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.current.1 >= self.current.0.len() {
            if self.ended || buffer.is_empty() {
                return Ok(0);
            }
            self.next_piece().map_err(|trouble| io::Error::other(trouble.error))?;
        }
        let (data, from) = &mut self.current;
        let length = buffer.len().min(data.len() - *from);
        buffer[..length].copy_from_slice(&data[*from..*from + length]);
        *from += length;
        Ok(length)
    }
}

impl Download for SftpDownload {
    fn meta(&mut self) -> Answer<Meta> {
        if let Some(seen) = &self.seen {
            return Ok(seen.clone());
        }
        let pending = match self.glance.take() {
            Some(pending) => pending,
            None => self.examine()?,
        };
        self.told(pending)
    }
}

impl Drop for SftpDownload {
    fn drop(&mut self) {
        let _ = self.line.ask(Packet::new(packet::CLOSE).bytes(&self.handle));
    }
}

pub(super) struct SftpUpload {
    line: Arc<Channel>,
    /// Empty once it is closed.
    handle: Vec<u8>,
    path: RelPath,
    at: u64,
    piece: usize,
    fsync: bool,
    /// Requests without an answer yet, with the bytes that they carry.
    underway: VecDeque<(usize, Pending)>,
    bytes_underway: usize,
    buffer: Vec<u8>,
}

impl SftpUpload {
    pub(super) fn new(
        line: Arc<Channel>,
        handle: Vec<u8>,
        path: &RelPath,
        piece: usize,
        fsync: bool,
    ) -> SftpUpload {
        SftpUpload {
            line,
            handle,
            path: path.clone(),
            at: 0,
            piece,
            fsync,
            underway: VecDeque::new(),
            bytes_underway: 0,
            buffer: Vec::new(),
        }
    }

    /// The channel and the handle, for what is done to the open file by other means.
    pub(super) fn parts(&self) -> (&Arc<Channel>, &[u8]) {
        (&self.line, &self.handle)
    }

    /// Goes on behind the first bytes and drops what follows them.
    pub(super) fn cut_at(&mut self, at: u64) -> Answer<()> {
        self.at = at;
        let cut =
            Packet::new(packet::FSETSTAT).bytes(&self.handle).attributes(&Attributes::default(), Some(at));
        self.send(cut, 0)?;
        self.settle(0)
    }

    fn send(&mut self, packet: Packet, bytes: usize) -> Answer<()> {
        let pending = self.line.ask(packet).map_err(|why| Trouble::broke("write", &self.path, why.0))?;
        self.underway.push_back((bytes, pending));
        self.bytes_underway += bytes;
        Ok(())
    }

    /// Waits until no more than so many bytes are underway.
    fn settle(&mut self, most: usize) -> Answer<()> {
        while self.bytes_underway > most || (most == 0 && !self.underway.is_empty()) {
            let Some((bytes, pending)) = self.underway.pop_front() else { return Ok(()) };
            self.bytes_underway -= bytes;
            match pending.wait().map_err(|why| Trouble::broke("write", &self.path, why.0))? {
                Reply::Status { code: status::OK, .. } => {}
                reply => return Err(failed(reply, "write", &self.path)),
            }
        }
        Ok(())
    }

    fn send_piece(&mut self, piece: &[u8]) -> Answer<()> {
        let packet = Packet::new(packet::WRITE).bytes(&self.handle).u64(self.at).bytes(piece);
        self.send(packet, piece.len())?;
        self.at += piece.len() as u64;
        self.settle(UNDERWAY)
    }

    fn send_buffer(&mut self) -> Answer<()> {
        let buffer = std::mem::take(&mut self.buffer);
        if buffer.is_empty() { Ok(()) } else { self.send_piece(&buffer) }
    }
}

impl Upload for SftpUpload {
    fn write(&mut self, mut data: &[u8]) -> Answer<()> {
        while !data.is_empty() {
            if self.buffer.is_empty() && data.len() >= self.piece {
                let (piece, rest) = data.split_at(self.piece);
                self.send_piece(piece)?;
                data = rest;
                continue;
            }
            let room = (self.piece - self.buffer.len()).min(data.len());
            self.buffer.extend_from_slice(&data[..room]);
            data = &data[room..];
            if self.buffer.len() >= self.piece {
                self.send_buffer()?;
            }
        }
        Ok(())
    }

    fn flush(&mut self) -> Answer<()> {
        self.send_buffer()?;
        if self.fsync {
            self.send(Packet::new(packet::EXTENDED).bytes(b"fsync@openssh.com").bytes(&self.handle), 0)?;
        }
        self.settle(0)
    }

    fn finish(mut self: Box<Self>, attributes: &Attributes) -> Answer<()> {
        self.send_buffer()?;
        if attributes.modified.is_some() || attributes.mode.is_some() {
            self.send(Packet::new(packet::FSETSTAT).bytes(&self.handle).attributes(attributes, None), 0)?;
        }
        if self.fsync {
            self.send(Packet::new(packet::EXTENDED).bytes(b"fsync@openssh.com").bytes(&self.handle), 0)?;
        }
        let handle = std::mem::take(&mut self.handle);
        self.send(Packet::new(packet::CLOSE).bytes(&handle), 0)?;
        self.settle(0)
    }
}

impl Drop for SftpUpload {
    fn drop(&mut self) {
        if !self.handle.is_empty() {
            let _ = self.line.ask(Packet::new(packet::CLOSE).bytes(&self.handle));
        }
    }
}
