//! What a store tells about one thing in a folder: its kind, size, time and mode.
//!
//! These are plain values. Comparing them is the work of [`crate::compare`]; reading and writing them is a store's.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::path::Name;

/// Which tree of a job: one-way jobs read the left and change the right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// `left`, or `from` of a one-way job.
    Left,
    /// `right`, or `to` of a one-way job.
    Right,
}

impl Side {
    /// The word for this side in code, output and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Side::Left => "left",
            Side::Right => "right",
        }
    }

    /// The other side.
    pub fn other(self) -> Side {
        match self {
            Side::Left => Side::Right,
            Side::Right => Side::Left,
        }
    }
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// A point in time with nanoseconds, counted from 1970-01-01T00:00:00Z; times before are negative seconds plus a
/// positive part, as POSIX has them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Stamp {
    seconds: i64,
    nanos: u32,
}

impl Stamp {
    /// A time from whole seconds and 0 to 999,999,999 nanoseconds; larger counts are cut to that.
    pub fn new(seconds: i64, nanos: u32) -> Stamp {
        Stamp { seconds, nanos: nanos.min(999_999_999) }
    }

    /// Whole seconds, rounded towards the past.
    pub fn seconds(self) -> i64 {
        self.seconds
    }

    /// Nanoseconds after [`Stamp::seconds`].
    pub fn nanos(self) -> u32 {
        self.nanos
    }

    /// Nanoseconds since 1970.
    pub fn as_nanos(self) -> i128 {
        i128::from(self.seconds) * 1_000_000_000 + i128::from(self.nanos)
    }

    /// The time as `SECONDS.NANOSECONDS`, nine digits after the point, which [`Stamp::from_text`] reads.
    pub fn to_text(self) -> String {
        self.to_string()
    }

    /// A time from what [`Stamp::to_text`] wrote; `None` for anything else.
    pub fn from_text(text: &str) -> Option<Stamp> {
        let (seconds, nanos) = text.split_once('.')?;
        Some(Stamp::new(seconds.parse().ok()?, nanos.parse().ok().filter(|_| nanos.len() == 9)?))
    }

    /// A moment later.
    pub fn later_by(self, step: Duration) -> Stamp {
        let nanos = self.as_nanos() + i128::try_from(step.as_nanos()).unwrap_or(0);
        let seconds = i64::try_from(nanos.div_euclid(1_000_000_000)).unwrap_or(self.seconds);
        Stamp::new(seconds, nanos.rem_euclid(1_000_000_000) as u32)
    }

    /// Whether two times are the same as far as a store of this precision can tell. A precision of one nanosecond
    /// (or zero) asks for equality.
    pub fn same_within(self, other: Stamp, precision: Duration) -> bool {
        self == other || self.as_nanos().abs_diff(other.as_nanos()) < precision.as_nanos()
    }
}

impl fmt::Display for Stamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{:09}", self.seconds, self.nanos)
    }
}

/// Files that are not data: reported, and carried only where a job asks for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Special {
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
    /// Anything else that is neither file, folder nor link.
    Other,
}

impl fmt::Display for Special {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Special::Fifo => "a named pipe",
            Special::Socket => "a socket",
            Special::CharDevice => "a character device",
            Special::BlockDevice => "a block device",
            Special::Other => "neither file, folder nor link",
        })
    }
}

/// The kind of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum EntryKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link; never followed.
    Link,
    /// A pipe, socket or device.
    Special(Special),
}

/// Which file on a machine this is, whatever path leads to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId {
    /// The file system.
    pub device: u64,
    /// Its number on that device.
    pub inode: u64,
}

/// What only a full preservation looks at: who owns an entry, its other names, its extended attributes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Extra {
    /// The owner's number.
    pub owner: u32,
    /// The group's number.
    pub group: u32,
    /// How many names the file has.
    pub names: u64,
    /// The major and minor number of a device.
    pub device: Option<(u32, u32)>,
    /// Extended attributes by name, sorted; access control lists are among them.
    pub attributes: Vec<(Vec<u8>, Vec<u8>)>,
    /// It lies on a mount where setuid, setgid and capabilities have no effect (`nosuid`): they do not travel from there.
    pub nosuid: bool,
    /// It lies on a mount where devices cannot be used (`nodev`): they do not travel from there.
    pub nodev: bool,
}

/// Setuid and setgid: a program with these bits acts as its owner or group.
pub const SPECIAL_BITS: u32 = 0o6000;

/// The extended attribute in which Linux keeps what a program may do besides (capabilities(7)).
pub const CAPABILITY: &[u8] = b"security.capability";

/// Setuid, setgid and capabilities that were taken from a kept copy. They are noted, so that an undo or a restore can give them back to
/// a file of the same owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Privileges {
    /// The owner's number.
    pub owner: u32,
    /// The group's number.
    pub group: u32,
    /// The twelve mode bits.
    pub mode: u32,
    /// The value of [`CAPABILITY`], where there is one.
    pub capability: Option<Vec<u8>>,
}

/// The owners and extended attributes that an entry had before a run gave it others, so that an undo can give them back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rights {
    /// The numbers of the owner and the group, where the run could give files away.
    pub owners: Option<(u32, u32)>,
    /// Extended attributes by name; access control lists are among them.
    pub attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

impl Rights {
    /// Those of an entry; `None` where they were not looked at. `owners` where its store keeps them.
    pub fn of(meta: &Meta, owners: bool) -> Option<Box<Rights>> {
        let extra = meta.extra.as_ref()?;
        let owners = owners.then_some((extra.owner, extra.group));
        Some(Box::new(Rights { owners, attributes: extra.attributes.clone() }))
    }

    /// Whether capabilities are among the attributes.
    pub fn are_capable(&self) -> bool {
        self.attributes.iter().any(|(name, _)| name == CAPABILITY)
    }

    /// What an entry that is `now` so gets of this; `None` where its store does not look at them.
    pub fn to_give(&self, now: &Meta) -> Option<Arc<Extra>> {
        let now = now.extra.as_ref()?;
        let (owner, group) = self.owners.unwrap_or((now.owner, now.group));
        Some(Arc::new(Extra { owner, group, attributes: self.attributes.clone(), ..(**now).clone() }))
    }
}

impl Extra {
    /// Whether two entries have the same owners and attributes, capabilities only where they count; other names are a matter of the tree.
    pub fn same_rights(&self, other: &Extra, capabilities: bool) -> bool {
        (self.owner, self.group) == (other.owner, other.group)
            && self.given(capabilities).eq(other.given(capabilities))
    }

    fn given(&self, capabilities: bool) -> impl Iterator<Item = &(Vec<u8>, Vec<u8>)> {
        self.attributes.iter().filter(move |(name, _)| capabilities || name != CAPABILITY)
    }

    /// The same without capabilities.
    pub fn without_capability(&self) -> Extra {
        let mut bare = self.clone();
        bare.attributes.retain(|(name, _)| name != CAPABILITY);
        bare
    }

    fn has_capability(&self) -> bool {
        self.attributes.iter().any(|(name, _)| name == CAPABILITY)
    }

    /// The extended attributes to give, with capabilities only where the owner `is_given`.
    pub fn to_attributes(&self, is_given: bool) -> Vec<(Vec<u8>, Vec<u8>)> {
        self.given(is_given).cloned().collect()
    }

    /// What of this may be given to another entry: capabilities only where `privileges` says that they travel.
    pub fn to_give(self: &Arc<Extra>, privileges: bool) -> Arc<Extra> {
        if privileges || !self.has_capability() { self.clone() } else { Arc::new(self.without_capability()) }
    }
}

/// Which version of a file a store holds, where the store has a name for that. Boxed by those who hold it: most stores have none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// The store's own name for exactly this content; other content has another (an entity tag in the terms of RFC 9110).
    pub tag: String,
    /// The modification time is when the store got the content: the content's own time is not known.
    pub arrival: bool,
    /// The store's name was given so shortly before that other content may have got the same one: only the content can tell.
    pub young: bool,
}

/// Everything that a listing tells about one entry, apart from its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Meta {
    /// File, folder, link or something else.
    pub kind: EntryKind,
    /// Bytes of content; 0 for anything but a file.
    pub size: u64,
    /// When the content was last changed; `None` where the store does not know.
    pub modified: Option<Stamp>,
    /// The twelve POSIX mode bits; `None` where the store has none.
    pub mode: Option<u32>,
    /// Where an access list makes `mode` show the list's mask in the place of the group's bits: the bits that owner, group and others
    /// have without it. `None` where that is the same.
    pub unlisted: Option<u32>,
    /// The identity on its machine; `None` for remote stores.
    pub id: Option<FileId>,
    /// Where a link points, as stored; `None` for anything else.
    pub target: Option<Box<[u8]>>,
    /// Owners and extended attributes; `None` unless the store was opened to look at them.
    pub extra: Option<Arc<Extra>>,
    /// The store's name for this version; `None` where it has none.
    pub version: Option<Box<Version>>,
}

impl Meta {
    /// What is known of nothing but its kind.
    pub fn bare(kind: EntryKind) -> Meta {
        Meta {
            kind,
            size: 0,
            modified: None,
            mode: None,
            unlisted: None,
            id: None,
            target: None,
            extra: None,
            version: None,
        }
    }

    /// The mode of this entry for one that does not get its access list.
    pub fn mode_without_list(&self) -> Option<u32> {
        self.unlisted.or(self.mode)
    }

    /// Whether this is a folder.
    pub fn is_folder(&self) -> bool {
        self.kind == EntryKind::Folder
    }

    /// Whether the time only tells when the store got the content.
    pub fn is_arrival(&self) -> bool {
        self.version.as_ref().is_some_and(|version| version.arrival)
    }

    /// Whether the version's name does not yet stand for its content.
    pub fn is_young(&self) -> bool {
        self.version.as_ref().is_some_and(|version| version.young)
    }

    /// Whether this is a file or a link: what is counted, moved and kept.
    pub fn is_item(&self) -> bool {
        matches!(self.kind, EntryKind::File | EntryKind::Link)
    }
}

/// One entry of a listed folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// One part of a path, as bytes.
    pub name: Name,
    /// What is known about it.
    pub meta: Meta,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_survive_as_text() {
        for stamp in [Stamp::new(0, 0), Stamp::new(-5, 999_999_999), Stamp::new(1 << 40, 42)] {
            assert_eq!(Stamp::from_text(&stamp.to_text()), Some(stamp));
        }
        assert!(Stamp::from_text("1.5").is_none() && Stamp::from_text("now").is_none());
    }

    #[test]
    fn times_agree_within_the_coarser_precision() {
        let at = Stamp::new;
        let nano = Duration::from_nanos(1);
        let two_seconds = Duration::from_secs(2);
        let cases = [
            (at(10, 0), at(10, 0), nano, true),
            (at(10, 0), at(10, 1), nano, false),
            (at(10, 999_999_999), at(10, 0), Duration::from_secs(1), true),
            (at(11, 0), at(10, 0), Duration::from_secs(1), false),
            (at(11, 500), at(10, 0), two_seconds, true),
            (at(12, 0), at(10, 0), two_seconds, false),
            (at(-1, 999_999_999), at(0, 0), Duration::from_nanos(2), true),
        ];
        for (a, b, precision, same) in cases {
            assert_eq!(a.same_within(b, precision), same, "{a:?} {b:?} {precision:?}");
            assert_eq!(b.same_within(a, precision), same, "{b:?} {a:?} {precision:?}");
        }
    }
}
