//! By what a store is recognised: its mark, and what it is on.
//!
//! The mark is `.reedhook/identity`, one line `id = "…"`.
//! A job remembers the mark of the destination it wrote to. An empty mount point, or another drive at the same path, does not
//! bear it, and the run stops before it takes one for the other.

use std::collections::BTreeSet;
use std::fmt::Write;

use crate::entry::Entry;
use crate::path::{RESERVED_NAME, RelPath};
use crate::store::error::{FaultKind, Result, StoreError};
use crate::store::{Store, StoreExt};

/// What a place is on, told without writing to it: a file system of this machine, or a server. It recognises sources, which
/// bear no mark because nothing is written to them, and tells an empty mount point from the drive that belongs there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ground {
    /// The kind of file system, `server` for an address.
    pub kind: String,
    /// What tells it apart from every other of its kind, where it has such a thing; the address of a server.
    pub uuid: Option<String>,
    /// A number that the file system derives from the same, where it does; known to accounts that may not read the device.
    pub number: Option<String>,
    /// The device or share it is mounted from.
    pub source: String,
}

impl Ground {
    /// A server's address.
    pub fn server(address: String) -> Ground {
        Ground { kind: "server".to_owned(), uuid: Some(address), number: None, source: String::new() }
    }

    /// Four fields with tabs between them, which [`Ground::from_text`] reads.
    pub fn to_text(&self) -> String {
        let text = |value: &Option<String>| value.clone().unwrap_or_default();
        let fields = [&self.kind, &text(&self.uuid), &text(&self.number), &self.source];
        fields.map(|field| field.replace(['\t', '\n'], " ")).join("\t")
    }

    /// What [`Ground::to_text`] wrote; `None` for anything else.
    pub fn from_text(text: &str) -> Option<Ground> {
        let mut fields = text.splitn(4, '\t').map(str::to_owned);
        let some = |text: String| Some(text).filter(|text| !text.is_empty());
        let kind = fields.next().and_then(some)?;
        let (uuid, number) = (some(fields.next()?), some(fields.next()?));
        Some(Ground { kind, uuid, number, source: fields.next()? })
    }

    /// Whether this is certainly something else. What cannot be told apart is taken for the same: a guard that stops good runs
    /// would be lifted once and for all.
    pub fn is_other(&self, known: &Ground) -> bool {
        let both = |one: &Option<String>, other: &Option<String>| one.clone().zip(other.clone());
        if let Some((now, then)) = both(&self.uuid, &known.uuid).or(both(&self.number, &known.number)) {
            return now != then;
        }
        let network =
            ["nfs", "nfs4", "cifs", "smb3", "9p", "ceph", "fuse.sshfs"].contains(&self.kind.as_str());
        self.kind != known.kind || (network && self.source != known.source)
    }

    /// What tells the file system apart, as one word.
    pub fn key(&self) -> String {
        let mut key = self.kind.clone();
        // Writing to text does not fail.
        let _ = match (&self.uuid, &self.number) {
            (Some(uuid), _) => write!(key, ":{uuid}"),
            (None, Some(number)) => write!(key, ":{number}"),
            (None, None) => write!(key, ":{}", self.source),
        };
        key
    }
}

/// A mark is shorter than this, with room for what later versions may add.
const LIMIT: u64 = 4096;

fn file() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/identity"].concat()).unwrap_or_default()
}

/// The mark of a store; `None` when it has none.
///
/// # Errors
/// When the store fails, or what stands there is no mark.
pub fn read(store: &dyn Store) -> Result<Option<String>> {
    let Some(bytes) = store.read_small(&file(), LIMIT)? else { return Ok(None) };
    match mark_in(&bytes) {
        Some(id) => Ok(Some(id)),
        None => {
            Err(StoreError::new(FaultKind::Io, "read", &file()).because("it is no identity of Reedhook's"))
        }
    }
}

/// The mark that a file holds; `None` when it holds none.
pub(crate) fn mark_in(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    let id = text.lines().find_map(|line| line.trim().strip_prefix("id = \"")?.strip_suffix('"'));
    id.filter(|id| !id.is_empty()).map(str::to_owned)
}

/// The mark of a store, which gets `fresh` when it has none.
///
/// # Errors
/// When the store fails.
pub fn ensure(store: &dyn Store, fresh: &str) -> Result<String> {
    if let Some(id) = read(store)? {
        return Ok(id);
    }
    if let Some(folder) = file().parent() {
        store.make_folders(&folder)?;
    }
    store.write_small(&file(), format!("id = \"{fresh}\"\n").as_bytes())?;
    // Whoever remembers a mark that a pulled plug takes back would never know the store again.
    store.sync()?;
    Ok(fresh.to_owned())
}

/// Where a side of a two-way job says which run last changed what it and the other side agree on. By that a memory is
/// recognised that has been put back, or that others have gone on without.
fn last_run_file(pair: (&str, &str)) -> RelPath {
    let key = blake3::hash(format!("{}\n{}", pair.0, pair.1).as_bytes()).to_hex();
    RelPath::new(&[RESERVED_NAME, b"/last/", &key.as_bytes()[..16]].concat()).unwrap_or_default()
}

/// The run that last changed what the stores with these marks agree on, as this one of them says.
///
/// # Errors
/// When the store fails.
pub fn last_run(store: &dyn Store, pair: (&str, &str)) -> Result<Option<String>> {
    let bytes = store.read_small(&last_run_file(pair), LIMIT)?;
    let text = bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    Ok(text.and_then(|text| Some(text.trim().strip_prefix("run = \"")?.strip_suffix('"')?.to_owned())))
}

/// Writes that down.
///
/// # Errors
/// When the store fails.
pub fn set_last_run(store: &dyn Store, pair: (&str, &str), run: &str) -> Result<()> {
    let file = last_run_file(pair);
    if let Some(folder) = file.parent() {
        store.make_folders(&folder)?;
    }
    store.replace_small(&file, format!("run = \"{run}\"\n").as_bytes())
}

/// Where the stores are written down that two-way jobs keep alike with this one.
fn partners() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/partners"].concat()).unwrap_or_default()
}

/// What this store itself is called among partners. Its mark will not do: both sides of a first run get the same one.
const OWN: &[u8] = b"own";

fn partner_file(name: &[u8]) -> RelPath {
    RelPath::new(&[partners().as_bytes(), b"/", name].concat()).unwrap_or_default()
}

/// What a store is called among the partners of others; it gets `fresh`, which nothing else is called, when it has no such name.
///
/// # Errors
/// When the store fails.
pub fn name_among_partners(store: &dyn Store, fresh: &str) -> Result<String> {
    let file = partner_file(OWN);
    if let Some(own) = store.read_small(&file, LIMIT)?.and_then(|bytes| mark_in(&bytes)) {
        return Ok(own);
    }
    store.make_folders(&partners())?;
    store.write_small(&file, format!("id = \"{fresh}\"\n").as_bytes())?;
    Ok(fresh.to_owned())
}

/// Writes down that a two-way job keeps a store alike with the one of that name.
///
/// # Errors
/// When the store fails.
pub fn set_partner(store: &dyn Store, partner: &str) -> Result<()> {
    let key = blake3::hash(partner.as_bytes()).to_hex();
    let file = partner_file(&key.as_bytes()[..16]);
    match store.stat(&file)? {
        Some(_) => Ok(()),
        None => store.write_small(&file, format!("id = \"{partner}\"\n").as_bytes()),
    }
}

/// The names of the stores that two-way jobs, of whatever machine, keep alike with this one.
///
/// # Errors
/// When the store fails.
pub fn partners_of(store: &dyn Store) -> Result<BTreeSet<String>> {
    /// More than anybody needs. An account that can write here could put any number.
    const MOST: usize = 64;
    let listing = match store.list(&partners()) {
        Ok(listing) => listing,
        Err(error) if error.kind == FaultKind::NotFound => return Ok(BTreeSet::new()),
        Err(error) => return Err(error),
    };
    let others = |entry: &&Entry| !entry.name.is_passing() && entry.name.as_bytes() != OWN;
    let mut found = BTreeSet::new();
    for entry in listing.entries.iter().filter(others).take(MOST) {
        let bytes = store.read_small(&partners().join(&entry.name), LIMIT)?;
        found.extend(bytes.and_then(|bytes| mark_in(&bytes)));
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_certainly_something_else() {
        let ground = |text: &str| Ground::from_text(text).expect("a ground");
        let rows = [
            ("ext4\tu1\tn1\t/dev/sda", "ext4\tu1\tn1\t/dev/sdb", false),
            ("ext4\tu1\tn1\t/dev/sda", "ext4\tu2\tn2\t/dev/sda", true),
            // An account that may not read the device knows only the number.
            ("ext4\t\tn1\t/dev/sda", "ext4\tu1\tn1\t/dev/sda", false),
            ("ext4\t\tn2\t/dev/sda", "ext4\tu1\tn1\t/dev/sda", true),
            ("xfs\t\t\t/dev/sda", "xfs\tu1\t\t/dev/sda", false),
            ("ext4\t\t\t/dev/sda", "xfs\tu1\t\t/dev/sda", true),
            ("tmpfs\t\t\tnone", "tmpfs\t\t\ttmpfs", false),
            ("nfs4\t\t\tstation:/a", "nfs4\t\t\tstation:/b", true),
            ("server\tsftp://a/x\t\t", "server\tsftp://b/x\t\t", true),
        ];
        for (now, then, other) in rows {
            assert_eq!(ground(now).is_other(&ground(then)), other, "{now} {then}");
            assert_eq!(ground(now).to_text(), now);
        }
        assert_eq!(Ground::from_text(""), None);
    }
}
