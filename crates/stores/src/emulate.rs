//! A place that cannot hold everything, with help: names that it refuses are spelled otherwise there, and times that it cannot be
//! told are noted here.
//!
//! The helped store takes and gives paths as they are; below it, every part is spelled by the rule of the place
//! ([`NameRule::spelled`]). Where times cannot be set, what is written gets the time of its arrival. That time names the version of
//! a file, and what the file was meant to have is noted under it ([`reedhook_core::notes`]), as for servers that keep no times: as
//! long as the place still shows it, the file is known to be that very version.

use std::collections::HashMap;
use std::fs::File;
use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use reedhook_core::entry::{Entry, EntryKind, Meta, Privileges, Stamp, Version};
use reedhook_core::notes::{Note, Notes};
use reedhook_core::path::{Name, RESERVED_NAME, RelPath};
use reedhook_core::store::{
    Attributes, Capabilities, Content, CopyError, Disarmed, Expect, Flow, Listing, NameRule, Place, Publish,
    Result, Sealed, Space, Stage, Store, StoreError, StoreExt,
};

/// A store with help.
pub struct Emulated {
    inner: Box<dyn Store>,
    capabilities: Capabilities,
    /// The rule by which names are spelled; `None` where they are left as they are.
    rule: Option<NameRule>,
    notes: Option<Noted>,
    /// It holds names that are spelled otherwise than they are meant, and it is written there that it does.
    spells: AtomicBool,
    told: AtomicBool,
}

const TOLD: &[u8] = b"Names in this folder are spelled as %XX where this place could not hold them.\n";

/// The file in which a place itself says that names there are spelled. A later job that spells no names still has to read them.
fn told_file() -> RelPath {
    RelPath::new(&[RESERVED_NAME, b"/spelled"].concat()).unwrap_or_default()
}

/// The times of files, noted.
#[derive(Clone)]
struct Noted {
    notes: Arc<dyn Notes>,
    /// What unfinished files are meant to have, by where they are.
    intended: Arc<Mutex<HashMap<RelPath, Attributes>>>,
}

impl Noted {
    fn intended(&self) -> MutexGuard<'_, HashMap<RelPath, Attributes>> {
        self.intended.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Emulated {
    /// Lets names that the store refuses be spelled there.
    pub fn spelling(inner: Box<dyn Store>) -> Emulated {
        let names = NameRule::BYTES;
        let capabilities = Capabilities { names, ..inner.capabilities().clone() };
        Emulated { capabilities, ..Emulated::reading(inner) }
    }

    /// Reads names that were spelled earlier, and refuses others as the store does.
    pub fn reading(inner: Box<dyn Store>) -> Emulated {
        let capabilities = inner.capabilities().clone();
        let rule = Some(capabilities.names);
        let (spells, told) = (AtomicBool::new(false), AtomicBool::new(false));
        Emulated { inner, capabilities, rule, notes: None, spells, told }
    }

    /// Whether names at a place were spelled by an earlier run. What cannot be looked at was.
    pub fn is_spelled(store: &dyn Store) -> bool {
        !matches!(store.stat(&told_file()), Ok(None))
    }

    /// Notes the times of files, which the store cannot be told. `notes` are those about this very place.
    pub fn noting(inner: Box<dyn Store>, notes: Arc<dyn Notes>) -> Emulated {
        let capabilities = Capabilities {
            time_precision: Some(Duration::from_nanos(1)),
            link_times: false,
            folder_times: false,
            ..inner.capabilities().clone()
        };
        let notes = Some(Noted { notes, intended: Arc::default() });
        let (spells, told) = (AtomicBool::new(false), AtomicBool::new(false));
        Emulated { inner, capabilities, rule: None, notes, spells, told }
    }

    /// Sees to it that it is written down before the first such name is there.
    fn tell_of(&self, path: &RelPath) -> Result<()> {
        if self.rule.is_some() && self.spelled(path) != *path {
            self.spells.store(true, Ordering::Relaxed);
        }
        self.tell()
    }

    fn tell(&self) -> Result<()> {
        if !self.spells.load(Ordering::Relaxed) || self.told.swap(true, Ordering::Relaxed) {
            return Ok(());
        }
        let told = match self.inner.stat(&told_file()) {
            Ok(Some(_)) => return Ok(()),
            Ok(None) => self
                .inner
                .make_folders(&RelPath::reserved())
                .and_then(|()| self.inner.write_small(&told_file(), TOLD)),
            Err(error) => Err(error),
        };
        told.inspect_err(|_| self.told.store(false, Ordering::Relaxed))
    }

    /// A path as it is spelled in the store.
    fn spelled(&self, path: &RelPath) -> RelPath {
        self.each_part(path, NameRule::spelled)
    }

    /// A path of the store as it is meant.
    fn read(&self, path: &RelPath) -> RelPath {
        self.each_part(path, NameRule::read)
    }

    fn each_part(&self, path: &RelPath, change: impl Fn(NameRule, &Name) -> Name) -> RelPath {
        let Some(rule) = self.rule else { return path.clone() };
        let parts = path.parts().filter_map(|part| Name::new(part).ok());
        parts.fold(RelPath::root(), |above, name| above.join(&change(rule, &name)))
    }

    /// An error of the store, about the path as it is meant.
    fn told(&self, mut error: StoreError) -> StoreError {
        error.path = self.read(&error.path);
        error
    }

    fn sealed(&self, sealed: Sealed) -> Sealed {
        Sealed { target: self.read(&sealed.target), temporary: self.read(&sealed.temporary) }
    }

    /// What the store shows, with what was noted of it.
    fn shown(&self, path: &RelPath, meta: Meta) -> Meta {
        match &self.notes {
            Some(noted) => shown(meta, || noted.notes.of(path)),
            None => meta,
        }
    }

    /// The note about what stands at a path now.
    fn note_now(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        let Some(noted) = &self.notes else { return Ok(()) };
        let found = self.inner.stat(&self.spelled(path)).map_err(|error| self.told(error))?;
        let tag =
            found.filter(|meta| meta.kind == EntryKind::File).and_then(|meta| meta.modified).map(tag_of);
        noted.notes.note(path, tag.map(|tag| Note::new(&tag, attributes.modified, None)));
        Ok(())
    }

    fn without_time(&self, attributes: &Attributes) -> Attributes {
        let modified = attributes.modified.filter(|_| self.notes.is_none());
        Attributes { modified, ..attributes.clone() }
    }

    fn staged(&self, path: &RelPath, inner: Box<dyn Stage>) -> Box<dyn Stage> {
        Box::new(AidedStage { inner, target: path.clone(), rule: self.rule, noted: self.notes.clone() })
    }

    fn content(&self, path: &RelPath, inner: Box<dyn Content>) -> Box<dyn Content> {
        match &self.notes {
            Some(noted) => Box::new(NotedContent { inner, path: path.clone(), notes: noted.notes.clone() }),
            None => inner,
        }
    }
}

/// The time that the store itself shows, as the name of the version.
fn tag_of(time: Stamp) -> String {
    format!("{}.{:09}", time.seconds(), time.nanos())
}

fn time_of(tag: &str) -> Option<Stamp> {
    let (seconds, nanos) = tag.rsplit_once('.')?;
    Some(Stamp::new(seconds.parse().ok()?, nanos.parse().ok()?))
}

fn shown(mut meta: Meta, note: impl FnOnce() -> Option<Note>) -> Meta {
    if let Some(time) = meta.modified.filter(|_| meta.kind == EntryKind::File) {
        meta.version = Some(Box::new(Version { tag: tag_of(time), arrival: true, young: false }));
        if let Some(note) = note() {
            note.apply(&mut meta);
        }
    }
    meta
}

/// What the store itself shows of something that was seen with help.
fn bare(meta: &Meta) -> Meta {
    let own = meta.version.as_ref().and_then(|version| time_of(&version.tag));
    Meta { modified: own.or(meta.modified), version: None, ..meta.clone() }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Store for Emulated {
    fn name(&self) -> String {
        self.inner.name()
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        self.inner.place()
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        let mut listing = self.inner.list(&self.spelled(folder)).map_err(|error| self.told(error))?;
        let notes = self.notes.as_ref().map(|noted| noted.notes.of_folder(folder));
        for Entry { name, meta } in &mut listing.entries {
            if let Some(rule) = self.rule {
                let meant = rule.read(name);
                if meta.kind == EntryKind::File && meant != *name {
                    self.spells.store(true, Ordering::Relaxed);
                }
                *name = meant;
            }
            if let Some(notes) = &notes {
                *meta = shown(meta.clone(), || notes.get(name).cloned());
            }
        }
        for unknown in &mut listing.unknown {
            unknown.name =
                unknown.name.take().map(|name| self.rule.map_or(name.clone(), |rule| rule.read(&name)));
            unknown.error.path = self.read(&unknown.error.path);
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        let found = self.inner.stat(&self.spelled(path)).map_err(|error| self.told(error))?;
        Ok(found.map(|meta| self.shown(path, meta)))
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        let content = self.inner.open(&self.spelled(path), offset).map_err(|error| self.told(error))?;
        Ok(self.content(path, content))
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let content = self.inner.open_fresh(&self.spelled(path)).map_err(|error| self.told(error))?;
        Ok(self.content(path, content))
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let content = self.inner.open_planned(&self.spelled(path)).map_err(|error| self.told(error))?;
        Ok(self.content(path, content))
    }

    fn stage(&self, path: &RelPath, mode: Option<u32>) -> Result<Box<dyn Stage>> {
        let stage = self.inner.stage(&self.spelled(path), mode).map_err(|error| self.told(error))?;
        Ok(self.staged(path, stage))
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        size: u64,
        hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        let hint = self.without_time(hint);
        let stage = self.inner.stage_resumable(&self.spelled(path), key, size, &hint);
        Ok(self.staged(path, stage.map_err(|error| self.told(error))?))
    }

    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed> {
        let sealed = self.inner.stage_link(&self.spelled(path), target, &self.without_time(attributes));
        sealed.map(|sealed| self.sealed(sealed)).map_err(|error| self.told(error))
    }

    fn stage_special(&self, path: &RelPath, from: &Meta, attributes: &Attributes) -> Result<Sealed> {
        let sealed = self.inner.stage_special(&self.spelled(path), from, &self.without_time(attributes));
        sealed.map(|sealed| self.sealed(sealed)).map_err(|error| self.told(error))
    }

    fn stage_second_name(&self, path: &RelPath, existing: &RelPath) -> Result<Sealed> {
        let sealed = self.inner.stage_second_name(&self.spelled(path), &self.spelled(existing));
        sealed.map(|sealed| self.sealed(sealed)).map_err(|error| self.told(error))
    }

    fn sync(&self) -> Result<()> {
        self.inner.sync()?;
        // Notes come after what they are about: one that tells of nothing harms nobody.
        if let Some(noted) = &self.notes {
            noted.notes.keep();
        }
        Ok(())
    }

    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<Disarmed> {
        let expect = match &how.expect {
            Expect::Absent => Expect::Absent,
            Expect::This(meta) => Expect::This(bare(meta)),
        };
        let keep_as = how.keep_as.as_ref();
        let below = Publish { expect, keep_as: keep_as.map(|path| self.spelled(path)) };
        let inner =
            Sealed { target: self.spelled(&sealed.target), temporary: self.spelled(&sealed.temporary) };
        self.tell_of(&sealed.target)?;
        let old = self.notes.as_ref().and_then(|noted| noted.notes.of(&sealed.target));
        let disarmed = self.inner.publish(inner, &below).map_err(|error| self.told(error))?;
        let Some(noted) = &self.notes else { return Ok(disarmed) };
        if let (Some(keep_as), Some(old)) = (keep_as, old) {
            noted.notes.note(keep_as, Some(old));
        }
        let intended = noted.intended().remove(&sealed.temporary);
        self.note_now(&sealed.target, &intended.unwrap_or_default())?;
        Ok(disarmed)
    }

    fn keep(&self, path: &RelPath, to: &RelPath, expected: &Meta) -> Result<Disarmed> {
        let kept = self.inner.keep(&self.spelled(path), &self.spelled(to), &bare(expected));
        let disarmed = kept.map_err(|error| self.told(error))?;
        if let Some(noted) = &self.notes {
            noted.notes.note(to, noted.notes.of(path));
            noted.notes.note(path, None);
        }
        Ok(disarmed)
    }

    fn rearm(&self, path: &RelPath, expected: &Meta, privileges: &Privileges) -> Result<bool> {
        let given = self.inner.rearm(&self.spelled(path), &bare(expected), privileges);
        given.map_err(|error| self.told(error))
    }

    fn discard(&self, sealed: Sealed) {
        if let Some(noted) = &self.notes {
            noted.intended().remove(&sealed.temporary);
        }
        let (target, temporary) = (self.spelled(&sealed.target), self.spelled(&sealed.temporary));
        self.inner.discard(Sealed { target, temporary });
    }

    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        self.inner.remove(&self.spelled(path), &bare(expected)).map_err(|error| self.told(error))?;
        if let Some(noted) = &self.notes {
            noted.notes.note(path, None);
        }
        Ok(())
    }

    fn trash(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        self.inner.trash(&self.spelled(path), &bare(expected)).map_err(|error| self.told(error))
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.inner.remove_folder(&self.spelled(path)).map_err(|error| self.told(error))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        // Read before: afterwards nothing stands there any more.
        let moved = self.notes_below(from)?;
        self.tell_of(to)?;
        self.inner.rename(&self.spelled(from), &self.spelled(to)).map_err(|error| self.told(error))?;
        if let Some(noted) = &self.notes {
            for (below, note) in moved {
                noted.notes.note(&to.join_path(&below), Some(note));
                noted.notes.note(&from.join_path(&below), None);
            }
        }
        Ok(())
    }

    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<Meta> {
        self.tell_of(path)?;
        let made = self.inner.make_folder(&self.spelled(path), &self.without_time(attributes));
        made.map_err(|error| self.told(error))
    }

    fn set_attributes(&self, path: &RelPath, expected: &Meta, attributes: &Attributes) -> Result<()> {
        let below = self.without_time(attributes);
        let set = self.inner.set_attributes(&self.spelled(path), &bare(expected), &below);
        set.map_err(|error| self.told(error))?;
        match attributes.modified {
            Some(_) => self.note_now(path, attributes),
            None => Ok(()),
        }
    }

    fn is_pseudo(&self, folder: &RelPath) -> Result<bool> {
        self.inner.is_pseudo(&self.spelled(folder)).map_err(|error| self.told(error))
    }

    fn touched(&self, path: &RelPath) -> Result<Option<Stamp>> {
        self.inner.touched(&self.spelled(path)).map_err(|error| self.told(error))
    }

    fn data_bytes(&self, path: &RelPath) -> Result<Option<u64>> {
        self.inner.data_bytes(&self.spelled(path)).map_err(|error| self.told(error))
    }

    fn proved(&self, path: &RelPath, shown: &Meta) {
        self.inner.proved(&self.spelled(path), &bare(shown));
    }

    fn space(&self) -> Result<Option<Space>> {
        self.inner.space()
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        let locked = self.inner.lock()?;
        // What was seen to be spelled was so before such things were written down.
        self.tell()?;
        Ok(locked)
    }
}

impl Emulated {
    /// The notes about a file, or about everything in a folder, by the path below it.
    fn notes_below(&self, top: &RelPath) -> Result<Vec<(RelPath, Note)>> {
        let Some(noted) = &self.notes else { return Ok(Vec::new()) };
        let mut found: Vec<_> = noted.notes.of(top).map(|note| (RelPath::root(), note)).into_iter().collect();
        let is_folder = |meta: Option<Meta>| meta.is_some_and(|meta| meta.is_folder());
        let mut folders = Vec::from_iter(is_folder(self.stat(top)?).then(RelPath::root));
        while let Some(folder) = folders.pop() {
            let notes = noted.notes.of_folder(&top.join_path(&folder));
            found.extend(notes.into_iter().map(|(name, note)| (folder.join(&name), note)));
            let below = self.inner.list(&self.spelled(&top.join_path(&folder)));
            let below = below.map_err(|error| self.told(error))?.entries.into_iter();
            let name_of = |entry: Entry| self.rule.map_or(entry.name.clone(), |rule| rule.read(&entry.name));
            folders.extend(
                below.filter(|entry| entry.meta.is_folder()).map(|entry| folder.join(&name_of(entry))),
            );
        }
        Ok(found)
    }
}

/// An opened file of a place without times.
struct NotedContent {
    inner: Box<dyn Content>,
    path: RelPath,
    notes: Arc<dyn Notes>,
}

impl Read for NotedContent {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.inner.read(buffer)
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Content for NotedContent {
    fn meta(&mut self) -> Result<Meta> {
        let meta = self.inner.meta()?;
        Ok(shown(meta, || self.notes.of(&self.path)))
    }

    fn as_file(&self) -> Option<&File> {
        self.inner.as_file()
    }

    fn skip_hole(&mut self) -> std::io::Result<u64> {
        self.inner.skip_hole()
    }
}

/// An unfinished file of a helped store.
struct AidedStage {
    inner: Box<dyn Stage>,
    target: RelPath,
    rule: Option<NameRule>,
    noted: Option<Noted>,
}

impl AidedStage {
    fn told(&self, error: StoreError) -> StoreError {
        StoreError { path: self.target.clone(), ..error }
    }

    fn told_of_copy(&self, error: CopyError) -> CopyError {
        match error {
            CopyError::Write(error) => CopyError::Write(self.told(error)),
            error => error,
        }
    }
}

#[deny(
    clippy::missing_trait_methods,
    reason = "what stands before a store forwards everything, or says why not"
)]
impl Stage for AidedStage {
    fn write(&mut self, data: &[u8]) -> Result<()> {
        self.inner.write(data).map_err(|error| StoreError { path: self.target.clone(), ..error })
    }

    fn fill(
        &mut self,
        content: &mut dyn Content,
        size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let filled = self.inner.fill(content, size_hint, progress);
        filled.map_err(|error| self.told_of_copy(error))
    }

    fn adopt(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let adopted = self.inner.adopt(content, progress);
        adopted.map_err(|error| self.told_of_copy(error))
    }

    fn go_on_at(&mut self, offset: u64) -> Result<bool> {
        let gone_on = self.inner.go_on_at(offset);
        gone_on.map_err(|error| self.told(error))
    }

    fn flush(&mut self) -> Result<()> {
        let flushed = self.inner.flush();
        flushed.map_err(|error| self.told(error))
    }

    fn set_aside(self: Box<Self>) {
        self.inner.set_aside();
    }

    fn seal(self: Box<Self>, attributes: &Attributes) -> Result<Sealed> {
        let below = match &self.noted {
            Some(_) => Attributes { modified: None, ..attributes.clone() },
            None => attributes.clone(),
        };
        let AidedStage { inner, target, rule, noted } = *self;
        let sealed = inner.seal(&below).map_err(|error| StoreError { path: target.clone(), ..error })?;
        let plain = |name: Name| rule.map_or(name.clone(), |rule| rule.read(&name));
        let name = sealed.temporary.split().map(|(_, name)| plain(name));
        let temporary = name.map(|name| target.parent().unwrap_or_default().join(&name)).unwrap_or_default();
        if let Some(noted) = noted {
            noted.intended().insert(temporary.clone(), attributes.clone());
        }
        Ok(Sealed { target, temporary })
    }
}

#[cfg(test)]
mod tests {
    use reedhook_core::notes::Fleeting;
    use reedhook_testing::conformance;

    use super::*;
    use reedhook_testing::simulated::SimulatedStore;

    #[test]
    fn helped_stores_are_stores() {
        let plain =
            || Box::new(SimulatedStore::new("helped").with_capabilities(|can| can.names = NameRule::DOS));
        conformance(&Emulated::spelling(plain()));
        conformance(&Emulated::noting(plain(), Arc::new(Fleeting::default())));
    }
}
