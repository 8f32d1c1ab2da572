//! What a store can hold, how much room it has, and where it is.

use std::path::PathBuf;
use std::time::Duration;

use crate::entry::Stamp;
use crate::names::{Folding, NameRule};
use crate::path::Name;

/// What a store can hold and do. The planner and the engine read this first and do not ask for what is missing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Capabilities {
    /// The steps in which times are kept; `None` when the store cannot set times at all.
    pub time_precision: Option<Duration>,
    /// Whether a link's own time can be set.
    pub link_times: bool,
    /// Whether the times of folders are kept.
    pub folder_times: bool,
    /// Whether POSIX mode bits are kept.
    pub modes: bool,
    /// Whether symbolic links can be made.
    pub links: bool,
    /// Whether files and folders can be renamed; kept copies need this.
    pub rename: bool,
    /// Which different names are one.
    pub folding: Folding,
    /// The longest name, in bytes (or see [`Limits::utf16_names`]).
    pub max_name: usize,
    /// Whether owners, extended attributes, second names, devices and pipes are looked at and kept.
    pub full: bool,
    /// Whether this account can give what is there to any owner.
    pub owners: bool,
    /// Whether one [`Store::sync`] makes many sealed files durable, so that publishing them in batches pays.
    pub batch_sync: bool,
    /// How many workers may usefully use the store at once.
    pub workers: usize,
    /// The names it can hold, besides [`Capabilities::max_name`].
    pub names: NameRule,
    /// It is reached over a network: each call waits for an answer, so work is spread over many workers in small pieces, and
    /// proving what an interrupted transfer left must not read it all again.
    pub remote: bool,
    /// Files may have holes, which take no space.
    pub holes: bool,
    /// Its medium has heads that move: content is read or written in one stream, because two would make them go to and fro.
    pub one_stream: bool,
    /// What it holds only within bounds.
    pub limits: Limits,
}

/// Bounds of what a store can hold; none by default.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Limits {
    /// The first and the last moment that a file's time can be, in seconds since 1970. What lies outside becomes something else.
    pub times: Option<(i64, i64)>,
    /// The largest file, in bytes.
    pub file_size: Option<u64>,
    /// [`Capabilities::max_name`] counts units of UTF-16, as file systems from the world of Windows do, not bytes.
    pub utf16_names: bool,
    /// It keeps the time that clocks on the wall show, not that of the world: with another zone, or in summer, it shows another.
    pub local_time: bool,
}

impl Limits {
    /// No bounds at all.
    pub const NONE: Limits = Limits { times: None, file_size: None, utf16_names: false, local_time: false };

    /// Whether a file can have this time.
    pub fn tell(self, time: Stamp) -> bool {
        self.times.is_none_or(|(first, last)| (first..=last).contains(&time.seconds()))
    }

    /// Whether a store with these bounds may show this time for others that it cannot hold: at the end of its range, and beyond it, which a
    /// driver may show until the store is mounted anew.
    pub fn cuts(self, time: Stamp) -> bool {
        const DAY: i64 = 86_400;
        let slack = if self.local_time { DAY } else { 0 };
        let within = |(first, last): (i64, i64)| (first + slack + 1..last - slack).contains(&time.seconds());
        self.times.is_some_and(|times| !within(times))
    }

    /// What is within the bounds of both.
    pub fn least(self, other: Limits) -> Limits {
        let both = |(a, b): ((i64, i64), (i64, i64))| (a.0.max(b.0), a.1.min(b.1));
        Limits {
            times: self.times.zip(other.times).map(both).or(self.times).or(other.times),
            file_size: self.file_size.into_iter().chain(other.file_size).min(),
            utf16_names: self.utf16_names && other.utf16_names,
            local_time: self.local_time || other.local_time,
        }
    }
}

impl Capabilities {
    /// What two stores can both do: that of a tree which is made of them.
    pub fn least(self, other: Capabilities) -> Capabilities {
        let (a, b) = (self, other);
        Capabilities {
            time_precision: a.time_precision.zip(b.time_precision).map(|(a, b)| a.max(b)),
            link_times: a.link_times && b.link_times,
            folder_times: a.folder_times && b.folder_times,
            modes: a.modes && b.modes,
            links: a.links && b.links,
            rename: a.rename && b.rename,
            folding: a.folding.or(b.folding),
            max_name: a.max_name.min(b.max_name),
            full: a.full && b.full,
            owners: a.owners && b.owners,
            batch_sync: a.batch_sync && b.batch_sync,
            workers: a.workers.max(b.workers),
            names: a.names.both(b.names),
            remote: a.remote || b.remote,
            holes: a.holes && b.holes,
            one_stream: a.one_stream || b.one_stream,
            limits: a.limits.least(b.limits),
        }
    }

    /// How long a name is, as [`Capabilities::max_name`] counts.
    pub fn name_length(&self, name: &Name) -> usize {
        let bytes = name.as_bytes();
        match std::str::from_utf8(bytes) {
            Ok(text) if self.limits.utf16_names => text.encode_utf16().count(),
            _ => bytes.len(),
        }
    }
}

/// Space on the medium of a store, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Space {
    /// What this account may still use.
    pub free: u64,
    /// The whole size.
    pub total: u64,
}

/// Where a store is, to recognise the same place under two names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A folder of this machine, with every link on the way resolved.
    Local(PathBuf),
    /// Anywhere else; equal text means the same place.
    Elsewhere(String),
}
