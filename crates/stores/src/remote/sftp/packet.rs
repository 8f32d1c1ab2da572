//! The packets of the SSH file transfer protocol, version 3 (draft-ietf-secsh-filexfer-02), as far as they are used here.
//!
//! Names are bytes here, as they are on the wire and in most servers' file systems; that is why the packets are made by hand.

use reedhook_core::entry::{EntryKind, Meta, SPECIAL_BITS, Special, Stamp};
use reedhook_core::store::Attributes;

pub(super) const INIT: u8 = 1;

pub(super) const VERSION: u8 = 2;

pub(super) const OPEN: u8 = 3;

pub(super) const CLOSE: u8 = 4;

pub(super) const READ: u8 = 5;

pub(super) const WRITE: u8 = 6;

pub(super) const LSTAT: u8 = 7;

pub(super) const FSTAT: u8 = 8;

pub(super) const SETSTAT: u8 = 9;

pub(super) const FSETSTAT: u8 = 10;

pub(super) const OPENDIR: u8 = 11;

pub(super) const READDIR: u8 = 12;

pub(super) const REMOVE: u8 = 13;

pub(super) const MKDIR: u8 = 14;

pub(super) const RMDIR: u8 = 15;

pub(super) const REALPATH: u8 = 16;

pub(super) const RENAME: u8 = 18;

pub(super) const READLINK: u8 = 19;

pub(super) const SYMLINK: u8 = 20;

pub(super) const EXTENDED: u8 = 200;

const STATUS: u8 = 101;

const HANDLE: u8 = 102;

const DATA: u8 = 103;

const NAME: u8 = 104;

const ATTRS: u8 = 105;

const EXTENDED_REPLY: u8 = 201;

pub(super) const FOR_READING: u32 = 1;

pub(super) const FOR_WRITING: u32 = 2;

pub(super) const CREATE: u32 = 8;

pub(super) const TRUNCATE: u32 = 16;

pub(super) const EXCLUSIVE: u32 = 32;

const WITH_SIZE: u32 = 1;

const WITH_OWNER: u32 = 2;

const WITH_MODE: u32 = 4;

const WITH_TIMES: u32 = 8;

const WITH_EXTENSIONS: u32 = 0x8000_0000;

/// The codes of a status.
pub(super) mod status {
    pub(crate) const OK: u32 = 0;
    pub(crate) const EOF: u32 = 1;
    pub(crate) const NO_SUCH_FILE: u32 = 2;
    pub(crate) const DENIED: u32 = 3;
    pub(crate) const BAD_MESSAGE: u32 = 5;
    pub(crate) const UNSUPPORTED: u32 = 8;
}

/// A request under construction. The number that tells its answer is put in when it is sent.
#[derive(Debug)]
pub(super) struct Packet(Vec<u8>);

impl Packet {
    /// A request of a kind; room for its number is left behind it.
    pub(super) fn new(kind: u8) -> Packet {
        let mut bytes = Vec::with_capacity(64);
        bytes.extend_from_slice(&[0, 0, 0, 0, kind, 0, 0, 0, 0]);
        Packet(bytes)
    }

    pub(super) fn u32(mut self, value: u32) -> Packet {
        self.0.extend_from_slice(&value.to_be_bytes());
        self
    }

    pub(super) fn u64(mut self, value: u64) -> Packet {
        self.0.extend_from_slice(&value.to_be_bytes());
        self
    }

    pub(super) fn bytes(mut self, bytes: &[u8]) -> Packet {
        self.0.extend_from_slice(&(bytes.len() as u32).to_be_bytes());
        self.0.extend_from_slice(bytes);
        self
    }

    /// Attributes to set. A time is both the modification and the access time: the protocol has no way to set one alone.
    pub(super) fn attributes(self, attributes: &Attributes, size: Option<u64>) -> Packet {
        let time = attributes.modified.map(|stamp| u32::try_from(stamp.seconds().max(0)).unwrap_or(u32::MAX));
        let flag = |set: bool, bit: u32| if set { bit } else { 0 };
        let flags = flag(size.is_some(), WITH_SIZE)
            | flag(attributes.mode.is_some(), WITH_MODE)
            | flag(time.is_some(), WITH_TIMES);
        let mut packet = self.u32(flags);
        if let Some(size) = size {
            packet = packet.u64(size);
        }
        if let Some(mode) = attributes.mode {
            // Setuid and setgid are given to nobody at a server: it does not say to whom the file belongs.
            packet = packet.u32(mode & 0o7777 & !SPECIAL_BITS);
        }
        if let Some(time) = time {
            packet = packet.u32(time).u32(time);
        }
        packet
    }

    /// The bytes to send, with the length in front and the request's number.
    pub(super) fn numbered(mut self, number: u32) -> Vec<u8> {
        let length = (self.0.len() - 4) as u32;
        self.0[..4].copy_from_slice(&length.to_be_bytes());
        self.0[5..9].copy_from_slice(&number.to_be_bytes());
        self.0
    }
}

/// An answer.
#[derive(Debug)]
pub(super) enum Reply {
    Status { code: u32, message: String },
    Handle(Vec<u8>),
    Data(Vec<u8>),
    Names(Vec<Named>),
    Attributes(ServerAttributes),
    Extended(Vec<u8>),
}

/// A name of a listing.
#[derive(Debug)]
pub(super) struct Named {
    pub(super) name: Vec<u8>,
    pub(super) found: ServerAttributes,
}

/// Attributes as the server tells them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct ServerAttributes {
    size: Option<u64>,
    mode: Option<u32>,
    modified: Option<u32>,
}

impl ServerAttributes {
    /// What they mean here. A server that does not tell the kind of a thing cannot be used: `None`.
    pub(super) fn meta(&self) -> Option<Meta> {
        let mode = self.mode?;
        let kind = match mode & 0o170_000 {
            0o100_000 => EntryKind::File,
            0o040_000 => EntryKind::Folder,
            0o120_000 => EntryKind::Link,
            0o010_000 => EntryKind::Special(Special::Fifo),
            0o140_000 => EntryKind::Special(Special::Socket),
            0o020_000 => EntryKind::Special(Special::CharDevice),
            0o060_000 => EntryKind::Special(Special::BlockDevice),
            _ => EntryKind::Special(Special::Other),
        };
        Some(Meta {
            kind,
            size: if kind == EntryKind::File { self.size? } else { 0 },
            modified: self.modified.map(|seconds| Stamp::new(i64::from(seconds), 0)),
            mode: (kind != EntryKind::Link).then_some(mode & 0o7777),
            unlisted: None,
            id: None,
            target: None,
            extra: None,
            version: None,
        })
    }
}

/// What is left to read of a packet; every read fails on a packet that is too short.
pub(super) struct Reader<'a>(pub(super) &'a [u8]);

impl<'a> Reader<'a> {
    pub(super) fn u8(&mut self) -> Option<u8> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        Some(*first)
    }

    pub(super) fn u32(&mut self) -> Option<u32> {
        let (first, rest) = self.0.split_first_chunk::<4>()?;
        self.0 = rest;
        Some(u32::from_be_bytes(*first))
    }

    pub(super) fn u64(&mut self) -> Option<u64> {
        let (first, rest) = self.0.split_first_chunk::<8>()?;
        self.0 = rest;
        Some(u64::from_be_bytes(*first))
    }

    pub(super) fn bytes(&mut self) -> Option<&'a [u8]> {
        let length = self.u32()? as usize;
        let (bytes, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(bytes)
    }

    fn attributes(&mut self) -> Option<ServerAttributes> {
        let flags = self.u32()?;
        let mut found = ServerAttributes::default();
        if flags & WITH_SIZE != 0 {
            found.size = Some(self.u64()?);
        }
        if flags & WITH_OWNER != 0 {
            self.u64()?;
        }
        if flags & WITH_MODE != 0 {
            found.mode = Some(self.u32()?);
        }
        if flags & WITH_TIMES != 0 {
            self.u32()?;
            found.modified = Some(self.u32()?);
        }
        if flags & WITH_EXTENSIONS != 0 {
            for _ in 0..self.u32()? {
                self.bytes()?;
                self.bytes()?;
            }
        }
        Some(found)
    }
}

/// Reads an answer (without its length): its number and what it says; `None` when it is none.
pub(super) fn reply(packet: &[u8]) -> Option<(u32, Reply)> {
    let mut reader = Reader(packet);
    let kind = reader.u8()?;
    let number = reader.u32()?;
    let reply = match kind {
        STATUS => {
            let code = reader.u32()?;
            // Old servers send no message.
            let message = reader.bytes().map(|text| String::from_utf8_lossy(text).into_owned());
            Reply::Status { code, message: message.unwrap_or_default() }
        }
        HANDLE => Reply::Handle(reader.bytes()?.to_vec()),
        DATA => Reply::Data(reader.bytes()?.to_vec()),
        NAME => {
            let mut names = Vec::new();
            for _ in 0..reader.u32()? {
                let name = reader.bytes()?.to_vec();
                reader.bytes()?;
                names.push(Named { name, found: reader.attributes()? });
            }
            Reply::Names(names)
        }
        ATTRS => Reply::Attributes(reader.attributes()?),
        EXTENDED_REPLY => Reply::Extended(reader.0.to_vec()),
        _ => return None,
    };
    Some((number, reply))
}

/// The extensions that a server's VERSION packet names.
pub(super) fn extensions(packet: &[u8]) -> Option<Vec<(String, String)>> {
    let mut reader = Reader(packet);
    (reader.u8()? == VERSION).then_some(())?;
    reader.u32()?;
    let mut found = Vec::new();
    while !reader.0.is_empty() {
        let (name, value) = (reader.bytes()?, reader.bytes()?);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        found.push((text(name), text(value)));
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_and_false_packets_are_no_answers() {
        let mut whole = vec![NAME, 0, 0, 0, 7, 0, 0, 0, 1];
        for text in [b"heron.jpg".as_slice(), b"long"] {
            whole.extend_from_slice(&(text.len() as u32).to_be_bytes());
            whole.extend_from_slice(text);
        }
        whole.extend_from_slice(&(WITH_SIZE | WITH_MODE | WITH_TIMES).to_be_bytes());
        whole.extend_from_slice(&7_u64.to_be_bytes());
        whole.extend_from_slice(&0o100_640_u32.to_be_bytes());
        whole.extend_from_slice(&[0, 0, 0, 9, 0, 0, 0, 5]);
        let Some((7, Reply::Names(names))) = reply(&whole) else { panic!("the whole packet is an answer") };
        let meta = names[0].found.meta().expect("a file");
        assert_eq!((meta.size, meta.modified, meta.mode), (7, Some(Stamp::new(5, 0)), Some(0o640)));
        for length in 0..whole.len() {
            assert!(reply(&whole[..length]).is_none(), "{length} bytes");
        }
        // A count that the packet cannot hold does not make room for it.
        assert!(reply(&[NAME, 0, 0, 0, 7, 255, 255, 255, 255]).is_none());
        assert!(reply(&[DATA, 0, 0, 0, 7, 255, 255, 255, 255, 1]).is_none());
        assert!(reply(&[77, 0, 0, 0, 7]).is_none());
    }

    #[test]
    fn times_outside_of_the_protocol_are_the_nearest_that_it_has() {
        for (seconds, told) in [(-5, 0), (0, 0), (1 << 31, 1 << 31), (1 << 40, u32::MAX)] {
            let attributes = Attributes { modified: Some(Stamp::new(seconds, 0)), ..Attributes::default() };
            let bytes = Packet::new(SETSTAT).attributes(&attributes, None).numbered(3);
            assert_eq!(bytes[..9], [0, 0, 0, 17, SETSTAT, 0, 0, 0, 3]);
            assert_eq!(bytes[17..], told.to_be_bytes() as [u8; 4], "{seconds}");
        }
    }

    #[test]
    fn fuzzed_packets() {
        let mut names = vec![NAME, 0, 0, 0, 7, 0, 0, 0, 2];
        for text in [b"heron.jpg".as_slice(), b"long", &[0, 0, 0, 15], b"rail.jpg", b""] {
            names.extend_from_slice(&(text.len() as u32).to_be_bytes());
            names.extend_from_slice(text);
        }
        let status =
            [&[STATUS, 0, 0, 0, 3, 0, 0, 0, 4, 0, 0, 0, 4][..], b"full", &[0, 0, 0, 2], b"en"].concat();
        let version = [&[VERSION, 0, 0, 0, 3, 0, 0, 0, 4][..], b"name", &[0, 0, 0, 1], b"1"].concat();
        reedhook_testing::fuzz("SFTP packets", &[&names, &status, &version], |packet| {
            if let Some((_, Reply::Names(names))) = reply(packet) {
                names.iter().for_each(|named| drop(named.found.meta()));
            }
            drop(extensions(packet));
        });
    }
}
