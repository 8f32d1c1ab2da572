//! What a filter leaves in and out of one tree, and which line decides: for people who are writing a filter.

use std::collections::BTreeMap;

use crate::entry::{EntryKind, Meta};
use crate::filter::{Filter, Inherited, Rule, Verdict};
use crate::path::RelPath;
use crate::store::Store;
use crate::store::error::{Result, StoreError};

/// A number of files and links, and their bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Amount {
    /// Files and links.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

impl Amount {
    fn add(&mut self, meta: &Meta) {
        if meta.kind != EntryKind::Folder {
            self.files += 1;
            self.bytes += meta.size;
        }
    }
}

/// What is in and out.
#[derive(Debug, Default)]
pub struct Survey {
    /// For each folder that is looked into: what it holds directly that is in, and what is out (with all that lies below an
    /// excluded folder).
    pub folders: BTreeMap<RelPath, (Amount, Amount)>,
    /// What each rule leaves out, with the first example.
    pub rules: BTreeMap<Rule, (Amount, RelPath)>,
    /// Every entry that is out, at the top: a folder stands for all below it.
    pub out: Vec<(RelPath, Rule)>,
    /// What could not be listed.
    pub unread: Vec<StoreError>,
}

impl Survey {
    /// Everything that is in, and everything that is out.
    pub fn totals(&self) -> (Amount, Amount) {
        let mut totals = (Amount::default(), Amount::default());
        for (inside, outside) in self.folders.values() {
            totals.0.files += inside.files;
            totals.0.bytes += inside.bytes;
            totals.1.files += outside.files;
            totals.1.bytes += outside.bytes;
        }
        totals
    }
}

/// Whether anything takes part at or below a folder. What cannot be looked at may hold something.
pub fn holds_anything(store: &dyn Store, filter: &Filter, folder: &RelPath, inherited: Inherited) -> bool {
    let Ok(listing) = store.list(folder) else { return true };
    let mut folders = Vec::new();
    for entry in &listing.entries {
        match filter.judge(folder, &entry.name, &entry.meta, inherited) {
            Verdict::Out(_) => {}
            verdict if entry.meta.is_folder() => folders.push((folder.join(&entry.name), verdict)),
            _ => return true,
        }
    }
    !listing.unknown.is_empty()
        || folders
            .iter()
            .any(|(below, verdict)| holds_anything(store, filter, below, filter.inherit(*verdict)))
}

/// Looks through a whole tree.
///
/// # Errors
/// When the root cannot be listed; what fails below is in [`Survey::unread`].
pub fn survey(store: &dyn Store, filter: &Filter) -> Result<Survey> {
    let mut found = Survey::default();
    store.list(&RelPath::root())?;
    look_into(store, filter, &RelPath::root(), filter.root(), &mut found);
    Ok(found)
}

fn look_into(store: &dyn Store, filter: &Filter, folder: &RelPath, inherited: Inherited, found: &mut Survey) {
    let listing = match store.list(folder) {
        Ok(listing) => listing,
        Err(error) => return found.unread.push(error),
    };
    // What is left out whatever it is need not be looked at.
    let taking_part = listing.unknown.into_iter().filter(|unknown| {
        !unknown.name.as_ref().is_some_and(|name| filter.leaves_out_unseen(folder, name, inherited))
    });
    found.unread.extend(taking_part.map(|unknown| unknown.error));
    let mut amounts = (Amount::default(), Amount::default());
    let mut entries = listing.entries;
    entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    for entry in entries {
        let path = folder.join(&entry.name);
        match filter.judge(folder, &entry.name, &entry.meta, inherited) {
            Verdict::Out(Rule::Own) => {}
            Verdict::Out(rule) => {
                let mut amount = Amount::default();
                measure(store, &path, &entry.meta, &mut amount);
                amounts.1.files += amount.files;
                amounts.1.bytes += amount.bytes;
                let tally = found.rules.entry(rule).or_insert_with(|| (Amount::default(), path.clone()));
                tally.0.files += amount.files;
                tally.0.bytes += amount.bytes;
                found.out.push((path, rule));
            }
            verdict if entry.meta.is_folder() => {
                look_into(store, filter, &path, filter.inherit(verdict), found)
            }
            _ => amounts.0.add(&entry.meta),
        }
    }
    found.folders.insert(folder.clone(), amounts);
}

/// Adds up everything at and below a path.
fn measure(store: &dyn Store, path: &RelPath, meta: &Meta, amount: &mut Amount) {
    amount.add(meta);
    if meta.is_folder() {
        for entry in store.list(path).map(|listing| listing.entries).unwrap_or_default() {
            measure(store, &path.join(&entry.name), &entry.meta, amount);
        }
    }
}
