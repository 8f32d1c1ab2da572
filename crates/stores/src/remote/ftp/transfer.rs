//! Content on its way over a data connection. It begins with the first byte and ends with the server's word, so that nobody holds one
//! connection while he waits for another.

use std::io::{self, Read, Write};
use std::sync::atomic::Ordering;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind, StoreError};
use suppaftp::{FtpError, RustlsConnector, TlsConnector, TransferStream};

use super::pool::{Taken, refusal};
use crate::remote::ftp::client::{Ftp, trouble};
use crate::remote::wire::{Again, Answer, Download, Trouble, Upload, Wire};

type Transfer = TransferStream<<RustlsConnector as TlsConnector>::Stream>;

pub(super) struct FtpDownload {
    ftp: Ftp,
    path: RelPath,
    state: Reading,
}

enum Reading {
    /// Nothing has been asked for yet, from this offset on.
    Before(u64),
    Now(Taken, Transfer),
    /// The end has been reached, or something has gone wrong.
    After,
}

impl FtpDownload {
    pub(super) fn new(ftp: Ftp, path: &RelPath, offset: u64) -> FtpDownload {
        FtpDownload { ftp, path: path.clone(), state: Reading::Before(offset) }
    }

    fn begin(&mut self, offset: u64) -> Answer<()> {
        let mut taken = self.ftp.take("read", &self.path)?;
        let full = self.ftp.full(&self.path);
        let opened = match taken.ftp() {
            Some(ftp) => ftp
                .resume_transfer(usize::try_from(offset).unwrap_or(usize::MAX))
                .and_then(|()| ftp.retr_as_stream(&full)),
            None => Err(FtpError::BadResponse),
        };
        match opened {
            Ok(transfer) => {
                self.state = Reading::Now(taken, transfer);
                Ok(())
            }
            Err(error) => {
                if refusal(&error).is_some_and(|(code, _)| code != 421) {
                    taken.give_back();
                }
                let trouble = trouble(&error, "read", &self.path);
                Err(self.ftp.explained_missing(trouble, &self.path, FaultKind::Refused))
            }
        }
    }

    fn read_some(&mut self, buffer: &mut [u8]) -> Answer<usize> {
        if let Reading::Before(offset) = self.state {
            self.begin(offset)?;
        }
        let Reading::Now(_, transfer) = &mut self.state else { return Ok(0) };
        match transfer.read(buffer) {
            Ok(0) if !buffer.is_empty() => {
                self.end()?;
                Ok(0)
            }
            Ok(length) => Ok(length),
            Err(error) => {
                self.state = Reading::After;
                Err(Trouble::broke("read", &self.path, error.to_string()))
            }
        }
    }

    /// Only the server's word that all has been sent makes the end an end.
    fn end(&mut self) -> Answer<()> {
        if let Reading::Now(taken, transfer) = std::mem::replace(&mut self.state, Reading::After) {
            if let Err(error) = transfer.finish() {
                // Some servers agree to send before they look whether there is anything to send.
                let trouble = trouble(&error, "read", &self.path);
                return Err(self.ftp.explained_missing(trouble, &self.path, FaultKind::Refused));
            }
            taken.give_back();
        }
        Ok(())
    }
}

impl Drop for FtpDownload {
    /// Whoever read as much as there is has not seen that it ends there. To hear that costs nothing; a connection that is closed instead has to
    /// log in anew.
    fn drop(&mut self) {
        const LITTLE: usize = 64 << 10;
        let mut rest = [0; 8 << 10];
        let mut read = 0;
        while matches!(self.state, Reading::Now(..)) && read < LITTLE {
            match self.read_some(&mut rest) {
                Ok(length) => read += length,
                Err(_) => return,
            }
        }
    }
}

impl Read for FtpDownload {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.read_some(buffer).map_err(|trouble| io::Error::other(trouble.error))
    }
}

impl Download for FtpDownload {
    fn meta(&mut self) -> Answer<Meta> {
        // Who asks in the middle has read what he wanted: as a rule all of it, but for the sign that it has ended.
        if matches!(self.state, Reading::Now(..)) && self.read_some(&mut [0])? > 0 {
            self.state = Reading::After;
        }
        let gone = || Trouble::lasting(FaultKind::NotFound, "examine", &self.path);
        self.ftp.stat(&self.path)?.ok_or_else(gone)
    }
}

pub(super) struct FtpUpload {
    ftp: Ftp,
    path: RelPath,
    at: u64,
    transfer: Option<(Taken, Transfer)>,
}

impl FtpUpload {
    pub(super) fn new(ftp: Ftp, path: &RelPath, at: u64) -> FtpUpload {
        FtpUpload { ftp, path: path.clone(), at, transfer: None }
    }

    fn begin(&mut self) -> Answer<&mut Transfer> {
        if self.transfer.is_none() {
            let mut taken = self.ftp.take("write", &self.path)?;
            let full = self.ftp.full(&self.path);
            let at = usize::try_from(self.at).unwrap_or(usize::MAX);
            let opened = match taken.ftp() {
                Some(ftp) => ftp.resume_transfer(at).and_then(|()| ftp.put_with_stream(&full)),
                None => Err(FtpError::BadResponse),
            };
            match opened {
                Ok(transfer) => self.transfer = Some((taken, transfer)),
                Err(error) if self.at > 0 && refusal(&error).is_some() => {
                    self.ftp.restarts.store(false, Ordering::Relaxed);
                    return Err(Trouble::broke("write", &self.path, "the server cannot go on with files"));
                }
                Err(error) => {
                    let trouble = trouble(&error, "write", &self.path);
                    return Err(self.ftp.explained(trouble, &self.path, FaultKind::Refused));
                }
            }
        }
        let missing = || Trouble::broke("write", &self.path, "not connected");
        self.transfer.as_mut().map(|(_, transfer)| transfer).ok_or_else(missing)
    }

    fn end(&mut self) -> Answer<()> {
        let Some((taken, transfer)) = self.transfer.take() else { return Ok(()) };
        match transfer.finish() {
            Ok(()) => {
                taken.give_back();
                Ok(())
            }
            Err(error) => {
                let told = trouble(&error, "write", &self.path);
                // At the end of an upload this is the server's disk or its quota, whatever it calls it: trying again fills it further.
                let local = refusal(&error).is_some_and(|(code, _)| code == 451);
                match told.kind() {
                    FaultKind::Busy if local => Err(Trouble {
                        error: StoreError { kind: FaultKind::Refused, ..told.error },
                        again: Again::Never,
                    }),
                    _ => Err(told),
                }
            }
        }
    }
}

impl Upload for FtpUpload {
    fn write(&mut self, data: &[u8]) -> Answer<()> {
        match self.begin()?.write_all(data) {
            Ok(()) => {
                self.at += data.len() as u64;
                Ok(())
            }
            // The server closed the data connection: its last word says why.
            Err(error) => match self.end() {
                Err(trouble) if trouble.again == Again::Never => Err(trouble),
                _ => Err(Trouble::broke("write", &self.path, error)),
            },
        }
    }

    fn flush(&mut self) -> Answer<()> {
        if !self.ftp.restarts.load(Ordering::Relaxed) {
            return Err(Trouble::lasting(FaultKind::Unsupported, "write", &self.path));
        }
        self.end()
    }

    fn finish(mut self: Box<Self>, attributes: &Attributes) -> Answer<()> {
        if self.at == 0 {
            self.begin()?;
        }
        self.end()?;
        let path = self.path.clone();
        let set = self.ftp.with("write", &path, |ftp| self.ftp.adjust(ftp, &path, attributes));
        set?;
        // What was gone on with has to have just the length that was sent.
        match self.ftp.stat(&path)? {
            Some(meta) if meta.size == self.at => Ok(()),
            _ => Err(Trouble::broke("write", &path, "the file there has another length than what was sent")),
        }
    }
}
