//! Content on its way over HTTP: what is read comes as it is asked for, what is written is sent while it is read elsewhere.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use bytes::Bytes;
use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, FaultKind};
use reqwest::{Method, Response, Url};

use super::http::Ask;
use crate::remote::connect::ANSWER_WITHIN;
use crate::remote::runtime;
use crate::remote::webdav::client::{NO, Shared, WebDav, YES};
use crate::remote::wire::{Again, Answer, Download, Trouble, Upload, Wire};

/// Pieces of content that are underway between a reader and the network.
const UNDERWAY: usize = 16;

pub(super) struct DavDownload {
    dav: WebDav,
    path: RelPath,
    response: Option<Response>,
    /// Bytes to pass over, where the server sends the whole file all the same.
    skip: u64,
    piece: Bytes,
}

impl DavDownload {
    pub(super) fn new(dav: WebDav, path: &RelPath, response: Option<Response>, skip: u64) -> DavDownload {
        DavDownload { dav, path: path.clone(), response, skip, piece: Bytes::new() }
    }

    fn next_piece(&mut self) -> Answer<bool> {
        let Some(response) = self.response.as_mut() else { return Ok(false) };
        let http = self.dav.http();
        let next = runtime::wait(http.runtime(), ANSWER_WITHIN, response.chunk());
        let next = next.ok_or_else(|| Trouble::broke("read", &self.path, "no answer"))?;
        match next.map_err(|error| http.trouble(&error, "read", &self.path))? {
            Some(piece) => {
                let skipped = self.skip.min(piece.len() as u64);
                self.skip -= skipped;
                self.piece = piece.slice(skipped as usize..);
                Ok(true)
            }
            None => {
                self.response = None;
                Ok(false)
            }
        }
    }
}

impl Read for DavDownload {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() {
            if !self.next_piece().map_err(|trouble| io::Error::other(trouble.error))? {
                return Ok(0);
            }
        }
        let length = buffer.len().min(self.piece.len());
        buffer[..length].copy_from_slice(&self.piece.split_to(length));
        Ok(length)
    }
}

impl Download for DavDownload {
    fn meta(&mut self) -> Answer<Meta> {
        let gone = || Trouble::lasting(FaultKind::NotFound, "examine", &self.path);
        self.dav.stat(&self.path)?.ok_or_else(gone)
    }
}

/// Bytes on their way to the server, and the answer that is to come.
struct Running {
    sender: tokio::sync::mpsc::Sender<Result<Bytes, io::Error>>,
    answer: tokio::task::JoinHandle<Result<Response, reqwest::Error>>,
    /// Where this request's bytes end, when it has only a part of the whole.
    ends: Option<u64>,
    began: u64,
}

pub(super) struct DavUpload {
    dav: WebDav,
    shared: Arc<Shared>,
    url: Url,
    path: RelPath,
    at: u64,
    size: Option<u64>,
    running: Option<Running>,
}

/// What is sent in one request when a large file is sent in parts: what the engine wants to be sure of at a time.
const PART: u64 = reedhook_core::run::resume::CHECKPOINT_EVERY;

impl DavUpload {
    pub(super) fn new(
        dav: WebDav,
        shared: Arc<Shared>,
        url: Url,
        path: &RelPath,
        at: u64,
        size: Option<u64>,
    ) -> DavUpload {
        DavUpload { dav, shared, url, path: path.clone(), at, size, running: None }
    }

    fn begin(&mut self) -> Running {
        let (sender, mut receiver) = tokio::sync::mpsc::channel(UNDERWAY);
        let stream = futures_util::stream::poll_fn(move |context| receiver.poll_recv(context));
        let mut ask = Ask {
            method: Method::PUT,
            url: self.url.clone(),
            headers: Vec::new(),
            body: Vec::new(),
            action: "write",
            path: &self.path,
        };
        let mut ends = None;
        let in_parts = self.shared.takes_parts.load(Ordering::Relaxed) != NO;
        let parted = |size: &u64| in_parts && *size > self.at && (self.at > 0 || *size > PART);
        if let Some(size) = self.size.filter(parted) {
            let end = size.min(self.at + PART);
            if self.at > 0 {
                ask = ask.header("content-range", format!("bytes {}-{}/{size}", self.at, end - 1));
            }
            ends = Some(end);
            ask = ask.header("content-length", (end - self.at).to_string());
        } else if let Some(size) = self.size {
            ask = ask.header("content-length", (size - self.at.min(size)).to_string());
        }
        let http = &self.shared.http;
        let request = http.prepare(&ask).body(reqwest::Body::wrap_stream(stream));
        Running { sender, answer: http.runtime().handle.spawn(request.send()), ends, began: self.at }
    }

    /// Whether the server has put a part behind the others. One that does not know parts has put it in the place of all.
    fn check_part(&mut self) -> Answer<()> {
        if self.shared.takes_parts.load(Ordering::Relaxed) == YES {
            return Ok(());
        }
        let found = self.dav.stat(&self.path)?.map_or(0, |meta| meta.size);
        let right = found == self.at;
        self.shared.takes_parts.store(if right { YES } else { NO }, Ordering::Relaxed);
        if right {
            Ok(())
        } else {
            Err(Trouble::broke("write", &self.path, "the server takes no parts of files"))
        }
    }

    fn send(&mut self, data: Bytes) -> Answer<()> {
        if self.running.is_none() {
            self.running = Some(self.begin());
        }
        let Some(running) = &self.running else { return Ok(()) };
        let length = data.len() as u64;
        let sending = running.sender.send(Ok(data));
        match runtime::wait(self.shared.http.runtime(), ANSWER_WITHIN, sending) {
            Some(Ok(())) => {
                self.at += length;
                Ok(())
            }
            // The request has ended before its bytes did: its answer says why.
            Some(Err(_)) => {
                self.end()?;
                Err(Trouble::broke("write", &self.path, "the server wanted no more"))
            }
            None => Err(Trouble::broke("write", &self.path, "no answer")),
        }
    }

    /// Ends the running request and takes its answer.
    fn end(&mut self) -> Answer<()> {
        let Some(Running { sender, answer, began, .. }) = self.running.take() else { return Ok(()) };
        drop(sender);
        let http = &self.shared.http;
        let answered = runtime::wait(http.runtime(), ANSWER_WITHIN * 2, answer);
        let answered = answered.ok_or_else(|| Trouble::broke("write", &self.path, "no answer"))?;
        let response = answered.map_err(|error| Trouble::broke("write", &self.path, error))?;
        let response = response.map_err(|error| http.trouble(&error, "write", &self.path))?;
        if let Err(trouble) = http.judge(response, "write", &self.path) {
            if began > 0 && trouble.again == Again::Never {
                // Refused as a part; as a whole it may be taken.
                self.shared.takes_parts.store(NO, Ordering::Relaxed);
                return Err(Trouble::broke("write", &self.path, "the server takes no parts of files"));
            }
            return Err(trouble);
        }
        if began > 0 { self.check_part() } else { Ok(()) }
    }
}

impl Upload for DavUpload {
    fn write(&mut self, data: &[u8]) -> Answer<()> {
        let mut rest = Bytes::copy_from_slice(data);
        while !rest.is_empty() {
            let ends = self.running.as_ref().map(|running| running.ends);
            let room = match ends {
                Some(Some(end)) => end - self.at,
                Some(None) => u64::MAX,
                None => PART.max(1),
            };
            let piece = rest.split_to(rest.len().min(usize::try_from(room).unwrap_or(usize::MAX)));
            self.send(piece)?;
            if self.running.as_ref().is_some_and(|running| running.ends == Some(self.at)) {
                self.end()?;
            }
        }
        Ok(())
    }

    fn flush(&mut self) -> Answer<()> {
        match &self.running {
            // In the middle of a request nothing is there yet.
            Some(_) => Err(Trouble::lasting(FaultKind::Unsupported, "write", &self.path)),
            None => Ok(()),
        }
    }

    fn finish(mut self: Box<Self>, attributes: &Attributes) -> Answer<()> {
        if self.at == 0 && self.running.is_none() {
            self.running = Some(self.begin());
        }
        self.end()?;
        self.dav.tell_time(&self.path, attributes);
        Ok(())
    }
}

impl WebDav {
    /// A large file is sent in parts, each with its place in the whole (RFC 9110, section 14.5), so that an interrupted one can be
    /// gone on with. A server that does not know this would replace the whole, so the first part is looked at afterwards.
    pub(super) fn upload(&self, path: &RelPath, at: u64, size: Option<u64>) -> DavUpload {
        DavUpload::new(self.alike(), self.shared.clone(), self.url(path, false), path, at, size)
    }
}
