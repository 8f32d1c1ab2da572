//! FTP (RFC 959, with RFC 2428 and 3659), and FTP over TLS (RFC 4217).
//!
//! A server says what it can do in answer to FEAT. With MLSD, listings are exact; without, the lines of LIST have to do, and the times in
//! them count as times of arrival only. Times are set with MFMT or MFF where there is one of them (draft-somers-ftp-mfxx), and
//! noted on this machine otherwise. The server does not say what exactly is wrong: most failures have the number 550, so what is
//! there is looked at afterwards.

pub(crate) mod client;
mod facts;
mod pool;
mod transfer;

pub use crate::remote::ftp::client::Ftp;

use std::io::Write;
use std::sync::atomic::Ordering;
use std::time::Duration;

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, Capabilities, FaultKind, Listing, NameRule, Place, Space};
use suppaftp::{FtpError, Status};

use self::facts::machine_line;
use self::transfer::{FtpDownload, FtpUpload};
use super::gather::{Gather, folder_meta};
use super::wire::{self, Answer, Download, Over, Trouble, Upload, Wire};

impl Wire for Ftp {
    fn address(&self) -> String {
        self.pool.dialer.address.shown()
    }

    fn place(&self) -> Place {
        let address = &self.pool.dialer.address;
        let root = String::from_utf8_lossy(&self.root);
        Place::Elsewhere(format!(
            "ftp://{}:{}{root}",
            address.host.to_lowercase(),
            address.port.unwrap_or(21)
        ))
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { names: NameRule::LINES, modes: self.offers.modes, ..wire::usual(self.workers()) }
    }

    fn follows_links(&self) -> bool {
        true
    }

    fn needs_notes(&self) -> bool {
        !(self.offers.machine_lists && self.offers.sets_times)
    }

    fn step(&self) -> Option<Duration> {
        // What people read has no seconds.
        Some(Duration::from_secs(if self.offers.machine_lists { 1 } else { 60 }))
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let lines = self.lines(folder);
        let lines = lines.map_err(|trouble| self.explained_missing(trouble, folder, FaultKind::Refused))?;
        let mut gather = Gather::new(folder);
        for line in lines {
            match self.read_line(&line) {
                Some(line) if line.dots => {}
                Some(line) => gather.take(&line.name, line.meta),
                // What people's listings have besides: "total 12".
                None if !self.offers.machine_lists && line.starts_with(b"total ") => {}
                None => {
                    let shown = String::from_utf8_lossy(&line).into_owned();
                    gather.refuse(None, format!("a line that cannot be read: {shown:?}"));
                }
            }
        }
        if gather.is_empty() && !folder.is_root() {
            // Some servers list a folder that is not there as an empty one, and a file as itself.
            match self.stat(folder)? {
                Some(meta) if meta.is_folder() => {}
                _ => return Err(Trouble::lasting(FaultKind::NotFound, "list", folder)),
            }
        }
        Ok(gather.done())
    }

    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>> {
        if self.offers.machine_lists {
            let full = self.full(path);
            return match self.with("examine", path, |ftp| ftp.mlst(Some(&full))) {
                Ok(line) => {
                    let line = machine_line(&facts::bytes_of(&line), self.needs_notes());
                    let unclear = || Trouble::lasting(FaultKind::BadAnswer, "examine", path);
                    let line = line.ok_or_else(unclear)?;
                    // The root may call itself "this folder".
                    if line.dots { Ok(Some(folder_meta())) } else { line.meta.map(Some).ok_or_else(unclear) }
                }
                Err(trouble) if trouble.kind() == FaultKind::Io => Ok(None),
                Err(trouble) => Err(trouble),
            };
        }
        let Some((parent, name)) = path.split() else { return Ok(Some(folder_meta())) };
        match self.lines(&parent) {
            Ok(lines) => {
                let found = lines.iter().filter_map(|line| self.read_line(line));
                let listed = found.filter(|line| line.name == name.as_bytes()).find_map(|line| line.meta);
                // What people read need not have every name as it is: whatever is about to be written over is asked for itself.
                if listed.is_some() { Ok(listed) } else { self.asked_for(path) }
            }
            Err(trouble) if trouble.kind() == FaultKind::Io => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>> {
        // The transfer begins with the first read: nobody holds one connection while he waits for another.
        Ok(Box::new(FtpDownload::new(self.alike(), path, offset)))
    }

    fn write(
        &self,
        path: &RelPath,
        _target: &RelPath,
        _hint: &Attributes,
        at: Option<u64>,
        _size: Option<u64>,
    ) -> Answer<Box<dyn Upload>> {
        if at.is_some_and(|at| at > 0) && !self.restarts.load(Ordering::Relaxed) {
            return Err(Trouble::lasting(FaultKind::Unsupported, "write", path));
        }
        Ok(Box::new(FtpUpload::new(self.alike(), path, at.unwrap_or(0))))
    }

    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()> {
        let full = self.full(path);
        let put = self.with("write", path, |ftp| {
            let mut stream = ftp.put_with_stream(&full)?;
            let written = stream.write_all(data);
            stream.finish()?;
            written.map_err(FtpError::ConnectionError)?;
            self.adjust(ftp, path, attributes)
        });
        put.map_err(|trouble| self.explained(trouble, path, FaultKind::Refused))
    }

    fn make_link(&self, path: &RelPath, _target: &[u8]) -> Answer<()> {
        Err(Trouble::lasting(FaultKind::Unsupported, "make link", path))
    }

    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        // The protocol's rename overwrites on some servers and does not on others.
        if matches!(over, Over::Nothing) && self.stat(to)?.is_some() {
            return Err(Trouble::lasting(FaultKind::Exists, "rename", to));
        }
        let (old, new) = (self.full(from), self.full(to));
        let renamed = self.with("rename", from, |ftp| ftp.rename(&old, &new));
        match renamed {
            // It may be that this server does not overwrite.
            Err(trouble) if trouble.kind() == FaultKind::Io && matches!(over, Over::This(_)) => {
                Err(Trouble::lasting(FaultKind::Unsupported, "replace", to).because(trouble.error))
            }
            outcome => outcome.map_err(|trouble| self.explained_missing(trouble, from, FaultKind::Refused)),
        }
    }

    fn duplicate(&self, from: &RelPath, _to: &RelPath) -> Answer<()> {
        Err(Trouble::lasting(FaultKind::Unsupported, "keep", from))
    }

    fn remove(&self, path: &RelPath, _seen: &Meta) -> Answer<()> {
        let full = self.full(path);
        let removed = self.with("remove", path, |ftp| ftp.rm(&full));
        removed.map_err(|trouble| self.explained_missing(trouble, path, FaultKind::Refused))
    }

    fn remove_folder(&self, path: &RelPath) -> Answer<()> {
        let full = self.full(path);
        let removed = self.with("remove", path, |ftp| ftp.rmdir(&full));
        removed.map_err(|trouble| self.explained_missing(trouble, path, FaultKind::NotEmpty))
    }

    fn make_folder(&self, path: &RelPath, _mode: Option<u32>) -> Answer<()> {
        let command = format!("MKD {}", self.full(path));
        let made =
            self.command(command, &[Status::PathCreated, Status::RequestedFileActionOk], "make folder", path);
        made.map_err(|trouble| self.explained(trouble, path, FaultKind::Exists))
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        let set = self.with("adjust", path, |ftp| self.adjust(ftp, path, attributes));
        set.map_err(|trouble| self.explained_missing(trouble, path, FaultKind::Refused))
    }

    fn space(&self) -> Answer<Option<Space>> {
        Ok(None)
    }

    fn facts(&self) -> Vec<(&'static str, String)> {
        let offers = &self.offers;
        let all = [
            (offers.machine_lists, "exact listings"),
            (offers.sets_times, "sets times"),
            (offers.modes, "sets modes"),
            (offers.restarts, "goes on with files"),
        ];
        let offered: Vec<&str> =
            all.into_iter().filter_map(|(offered, words)| offered.then_some(words)).collect();
        let protocol = if self.secure { "FTP over TLS" } else { "FTP, readable on the way" };
        let offered = if offered.is_empty() {
            "little: listings for people only".to_owned()
        } else {
            offered.join(", ")
        };
        vec![("protocol", protocol.to_owned()), ("server", self.server.clone()), ("offers", offered)]
    }
}
