//! WebDAV (RFC 4918), over HTTP or TLS.
//!
//! Most servers cannot be told the time of a file. They name each version with an entity tag instead, so what was written is noted
//! with its tag ([`Wire::needs_notes`]). A server that does let its times be set is told them as well: then other machines see
//! them too.

pub(crate) mod client;
mod http;
mod multistatus;
mod transfer;

pub use crate::remote::webdav::client::WebDav;

use std::sync::atomic::Ordering;

use reedhook_core::entry::Meta;
use reedhook_core::path::{Name, PART_PREFIX, RelPath};
use reedhook_core::store::{Attributes, Capabilities, FaultKind, Listing, Place, Space, StoreError};
use reqwest::StatusCode;

use self::http::Ask;
use self::transfer::DavDownload;
use super::connect::workers_for;
use super::gather::Gather;
use super::wire::{self, Answer, Download, Over, Trouble, Upload, Wire};
use crate::remote::webdav::client::{NO, YES, elsewhere, in_folder, meta_of, strong};

impl Wire for WebDav {
    fn address(&self) -> String {
        self.address.shown()
    }

    fn place(&self) -> Place {
        Place::Elsewhere(self.base.as_str().trim_end_matches('/').to_owned())
    }

    fn capabilities(&self) -> Capabilities {
        wire::usual(workers_for(self.round_trip))
    }

    fn needs_notes(&self) -> bool {
        true
    }

    fn list(&self, folder: &RelPath) -> Answer<Listing> {
        let ask = self.propfind(folder, self.url(folder, true), "1", multistatus::WANTED);
        let found = self.found(&Ask { action: "list", ..ask })?;
        let mut gather = Gather::new(folder);
        let mut itself = false;
        for found in found {
            match self.path_of(&found.href) {
                Some(path) if path == folder.as_bytes() => {
                    if !found.folder {
                        return Err(
                            Trouble::lasting(FaultKind::NotFound, "list", folder).because("it is no folder")
                        );
                    }
                    itself = true;
                }
                Some(path) => match in_folder(folder, &path) {
                    Some(name) => gather.take(name, meta_of(&found)),
                    None => gather.refuse(None, elsewhere(&found)),
                },
                None => gather.refuse(None, elsewhere(&found)),
            }
        }
        if !itself {
            return Err(Trouble::lasting(FaultKind::BadAnswer, "list", folder)
                .because("its list of the folder does not have the folder itself"));
        }
        Ok(gather.done())
    }

    fn stat(&self, path: &RelPath) -> Answer<Option<Meta>> {
        let found = match self.found(&self.propfind(
            path,
            self.url(path, path.is_root()),
            "0",
            multistatus::WANTED,
        )) {
            Ok(found) => found,
            Err(trouble) if trouble.kind() == FaultKind::NotFound => return Ok(None),
            // A folder asked for without its slash: some servers send us there.
            Err(trouble) if trouble.kind() == FaultKind::BadAnswer => {
                match self.found(&self.propfind(path, self.url(path, true), "0", multistatus::WANTED)) {
                    Ok(found) if found.first().is_some_and(|found| found.folder) => found,
                    _ => return Err(trouble),
                }
            }
            Err(trouble) => return Err(trouble),
        };
        let unclear = || Trouble::lasting(FaultKind::BadAnswer, "examine", path);
        let [found] = found.as_slice() else { return Err(unclear().because("more than one answer")) };
        if self.path_of(&found.href).as_deref() != Some(path.as_bytes()) {
            return Err(unclear().because(format!("it speaks of {}", found.href)));
        }
        meta_of(found).map(Some).ok_or_else(|| unclear().because("it does not say how long the file is"))
    }

    fn read(&self, path: &RelPath, offset: u64) -> Answer<Box<dyn Download>> {
        let mut ask = self.ask("GET", path, false, "read").header("accept-encoding", "identity");
        if offset > 0 {
            ask = ask.header("range", format!("bytes={offset}-"));
        }
        let response = self.http().send_any(&ask)?;
        if offset > 0 && response.status() == StatusCode::RANGE_NOT_SATISFIABLE {
            // Nothing follows: the range begins at the end.
            return Ok(Box::new(DavDownload::new(self.alike(), path, None, 0)));
        }
        let response = self.http().judge(response, "read", path)?;
        // A server that knows no ranges sends all of it.
        let skip = if response.status() == StatusCode::PARTIAL_CONTENT { 0 } else { offset };
        let response = Some(response);
        Ok(Box::new(DavDownload::new(self.alike(), path, response, skip)))
    }

    fn write(
        &self,
        path: &RelPath,
        _target: &RelPath,
        _hint: &Attributes,
        at: Option<u64>,
        size: Option<u64>,
    ) -> Answer<Box<dyn Upload>> {
        if at.is_some_and(|at| at > 0) && self.shared.takes_parts.load(Ordering::Relaxed) == NO {
            return Err(Trouble::lasting(FaultKind::Unsupported, "write", path));
        }
        Ok(Box::new(self.upload(path, at.unwrap_or(0), size)))
    }

    fn put(&self, path: &RelPath, data: &[u8], attributes: &Attributes) -> Answer<()> {
        self.http().send(&self.ask("PUT", path, false, "write").body(data))?;
        self.tell_time(path, attributes);
        Ok(())
    }

    fn make_link(&self, path: &RelPath, _target: &[u8]) -> Answer<()> {
        Err(Trouble::lasting(FaultKind::Unsupported, "make link", path))
    }

    fn rename(&self, from: &RelPath, to: &RelPath, over: Over<'_>) -> Answer<()> {
        self.rename_or_copy("MOVE", from, to, over)
    }

    fn duplicate(&self, from: &RelPath, to: &RelPath) -> Answer<()> {
        self.rename_or_copy("COPY", from, to, Over::Nothing)
    }

    fn remove(&self, path: &RelPath, seen: &Meta) -> Answer<()> {
        let ask = || self.ask("DELETE", path, false, "remove");
        let Some(tag) = strong(seen) else { return self.http().send(&ask()).map(drop) };
        match self.http().send(&ask().header("if-match", tag)) {
            Err(trouble) if trouble.kind() == FaultKind::Changed && self.is_same_version(path, seen)? => {
                self.http().send(&ask()).map(drop)
            }
            outcome => outcome.map(drop),
        }
    }

    fn remove_folder(&self, path: &RelPath) -> Answer<()> {
        // To DELETE a folder takes everything with it. So the folder is put out of everybody's way first, and only what is
        // empty there is deleted.
        if !self.list(path)?.entries.is_empty() {
            return Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path));
        }
        let name = [PART_PREFIX, format!("{:016x}", fastrand::u64(..)).as_bytes()].concat();
        let name = Name::new(&name).map_err(|_| Trouble::lasting(FaultKind::NameRefused, "remove", path))?;
        let aside = path.parent().unwrap_or_default().join(&name);
        let aside_url = self.url(&aside, true);
        let ask = self.ask("MOVE", path, true, "remove").header("destination", aside_url.as_str());
        self.http().send(&ask.header("overwrite", "F"))?;
        let found = self.list(&aside)?;
        if found.entries.is_empty() && found.unknown.is_empty() {
            return self.http().send(&self.ask("DELETE", &aside, true, "remove")).map(drop);
        }
        let back =
            self.ask("MOVE", &aside, true, "remove").header("destination", self.url(path, true).as_str());
        self.http().send(&back.header("overwrite", "F"))?;
        Err(Trouble::lasting(FaultKind::NotEmpty, "remove", path))
    }

    fn make_folder(&self, path: &RelPath, _mode: Option<u32>) -> Answer<()> {
        match self.http().send(&self.ask("MKCOL", path, true, "make folder")) {
            Ok(_) => Ok(()),
            Err(trouble) if trouble.kind() == FaultKind::Unsupported => {
                Err(Trouble { error: StoreError { kind: FaultKind::Exists, ..trouble.error }, ..trouble })
            }
            Err(trouble) => Err(trouble),
        }
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Answer<()> {
        self.tell_time(path, attributes);
        Ok(())
    }

    fn space(&self) -> Answer<Option<Space>> {
        let root = RelPath::root();
        let found = self.found(&self.propfind(&root, self.base.clone(), "0", multistatus::QUOTA))?;
        let found = found.into_iter().next().unwrap_or_default();
        let total = |free: u64| free.saturating_add(found.used.unwrap_or(0));
        Ok(found.available.map(|free| Space { free, total: total(free) }))
    }

    fn facts(&self) -> Vec<(&'static str, String)> {
        let times = match self.sets_times.load(Ordering::Relaxed) {
            YES => "sets them as told",
            NO => "cannot be told them; they are noted on this machine",
            _ => "are noted on this machine, and told where the server takes them",
        };
        vec![
            (
                "protocol",
                if self.base.scheme() == "https" { "WebDAV over TLS" } else { "WebDAV, readable on the way" }
                    .to_owned(),
            ),
            ("server", self.server.clone()),
            ("times", times.to_owned()),
        ]
    }
}
