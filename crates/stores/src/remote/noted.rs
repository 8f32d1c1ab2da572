//! What a server cannot say itself is noted about the version that it holds: times and modes, and whether a version was seen whole.
//!
//! A note is about one version of a file, by its tag. It travels with renames, and is completed by the next listing where only the
//! beginning of the tag is known.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::notes::Note;
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Listing, Result};

use crate::remote::described::{YOUNG, apply, is_about, is_of, parted};
use crate::remote::inner::Inner;

/// Notes are made durable when so many were taken, or after so long.
const NOTES_TOGETHER: usize = 500;

const NOTES_WITHIN: Duration = Duration::from_secs(2);

/// How many files of a folder are asked about at once, where a listing does not say everything.
const ASKED_AT_ONCE: usize = 16;

/// After so long another second has begun at the server too.
const SECOND_OVER: Duration = Duration::from_millis(1010);

/// What is noted of what is to be renamed.
pub(super) enum Noted {
    /// Of a file, where anything is.
    File(Option<Note>),
    /// Of the files in a folder and below, by their paths in it.
    Folder(HashMap<RelPath, Note>),
}

impl Inner {
    pub(super) fn is_noted(&self, meta: &Meta) -> bool {
        self.wire.needs_notes() && meta.kind == EntryKind::File && meta.version.is_some()
    }

    /// Asks the server for what its listing does not say, and notes it.
    pub(super) fn described(&self, path: &RelPath, listed: Meta) -> Result<Meta> {
        let Some(meta) = self.ask(|wire| wire.describe(path))? else { return Ok(listed) };
        if let Some(version) = &meta.version {
            // Another tool's object has no time of its own; it need not be asked again.
            let modified = meta.modified.filter(|_| !version.arrival);
            self.note(path, Some(Note::new(&version.tag, modified, meta.mode)));
        }
        Ok(meta)
    }

    /// The tag to note of what was written just now: where other content may get the same one yet, it says when that was.
    pub(super) fn young(&self, tag: String) -> String {
        match self.wire.step() {
            Some(_) => format!("{tag}{YOUNG}{}", jiff::Timestamp::now().as_millisecond()),
            None => tag,
        }
    }

    /// A file was read and holds what was expected. Its version is known from now on, if the step in which it was written is over.
    pub(super) fn proved(&self, path: &RelPath, shown: &Meta) {
        let (Some(step), Some(version)) =
            (self.wire.step(), shown.version.as_ref().filter(|version| version.young))
        else {
            return;
        };
        let Some(note) = self.notes.of(path) else { return };
        let Some((tag, noted)) = parted(&note.tag) else { return };
        let age = jiff::Timestamp::now().as_millisecond() - noted;
        // The server's clock may be within its own step by some seconds.
        let over = i64::try_from(step.as_millis()).unwrap_or(i64::MAX).saturating_add(5_000);
        if tag == version.tag && age > over {
            self.note(path, Some(Note { tag: tag.to_owned(), ..note }));
        }
    }

    pub(super) fn note(&self, path: &RelPath, note: Option<Note>) {
        self.notes.note(path, note);
        self.state().untold_notes += 1;
    }

    pub(super) fn keep_notes_now_and_then(&self) {
        let due = {
            let mut state = self.state();
            let due = state.untold_notes >= NOTES_TOGETHER
                || (state.untold_notes > 0 && state.notes_kept.elapsed() >= NOTES_WITHIN);
            if due {
                (state.untold_notes, state.notes_kept) = (0, Instant::now());
            }
            due
        };
        if due {
            self.notes.keep();
        }
    }

    /// Gives the files of a listing what was noted of them, and asks the server about those of which nothing is.
    pub(super) fn complete(&self, folder: &RelPath, listing: &mut Listing) {
        let notes = self.notes.of_folder(folder);
        let mut unsaid = Vec::new();
        for (at, entry) in listing.entries.iter_mut().enumerate() {
            if !self.is_noted(&entry.meta) || entry.name.is_passing() {
                continue;
            }
            let note = notes.get(&entry.name);
            if let Some(note) = note {
                apply(note, &mut entry.meta);
            }
            if entry.meta.is_arrival() && self.wire.describes() && !is_about(note, &entry.meta) {
                unsaid.push((at, folder.join(&entry.name), entry.meta.clone()));
            }
        }
        let next = std::sync::atomic::AtomicUsize::new(0);
        let one = || {
            let mut found = Vec::new();
            while let Some((at, path, meta)) =
                unsaid.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed))
            {
                found.push((*at, self.described(path, meta.clone())));
            }
            found
        };
        let found: Vec<_> = std::thread::scope(|scope| {
            let threads: Vec<_> = (0..ASKED_AT_ONCE.min(unsaid.len())).map(|_| scope.spawn(one)).collect();
            threads.into_iter().flat_map(reedhook_core::content::joined).collect()
        });
        for (at, described) in found {
            if let Ok(meta) = described {
                listing.entries[at].meta = meta;
            }
        }
    }

    /// After a file has got its place: notes what it was meant to have, where the server cannot hold it.
    pub(super) fn note_published(&self, temporary: &RelPath, target: &RelPath) -> Result<()> {
        let intended = self.state().intended.remove(temporary);
        let Some(intended) = intended.filter(|_| self.wire.needs_notes()) else { return Ok(()) };
        let tag = match self.wire.just_made(target) {
            Some(tag) => Some(tag),
            None => {
                self.ask(|wire| wire.stat(target))?.and_then(|meta| meta.version).map(|version| version.tag)
            }
        };
        match tag {
            Some(tag) => {
                self.note_version(target, Note::new(&self.young(tag), intended.modified, intended.mode))
            }
            None => self.note(target, None),
        }
        Ok(())
    }

    /// Notes what a new version was given. A tag that is not whole yet is completed by the next listing.
    pub(super) fn note_version(&self, path: &RelPath, note: Note) {
        match path.split().filter(|_| note.tag.ends_with(';')) {
            Some((folder, name)) => {
                let mut state = self.state();
                state.begun.entry(folder).or_default().insert(name, note);
                state.last_begun = Some(Instant::now());
            }
            None => self.note(path, Some(note)),
        }
    }

    /// Completes what was noted with the beginning of a tag only: a listing of each folder tells the rest for all files in it. What cannot be
    /// listed now is asked for, file by file, when it is needed.
    pub(super) fn complete_notes(&self) {
        let begun = std::mem::take(&mut self.state().begun);
        for (folder, mut notes) in begun {
            let Ok(listing) = self.ask(|wire| wire.list(&folder)) else { continue };
            for entry in listing.entries {
                let tag = entry.meta.version.map(|version| version.tag).unwrap_or_default();
                if let Some(note) = notes.remove(&entry.name).filter(|note| tag.starts_with(&note.tag)) {
                    self.note(&folder.join(&entry.name), Some(Note { tag, ..note }));
                }
            }
        }
        self.notes.keep();
    }

    /// Waits until the second in which the last version was made is over. Such a store tells a version by its content and that second: who
    /// gave the same content another time within it would make a version that looks like the one that was noted.
    pub(super) fn let_the_second_pass(&self) {
        let Some(last) = self.state().last_begun.take() else { return };
        std::thread::sleep(SECOND_OVER.saturating_sub(last.elapsed()));
    }

    /// Notes for a file at its new path what held for it at the old one; the server may call the same version otherwise there.
    pub(super) fn note_as(&self, to: &RelPath, held: Option<Note>) -> Result<()> {
        let Some(note) = held else {
            if self.wire.needs_notes() {
                self.note(to, None);
            }
            return Ok(());
        };
        let found = self.ask(|wire| wire.stat(to))?;
        let tag = found.and_then(|meta| meta.version).map(|version| version.tag);
        self.note(to, tag.map(|tag| renamed(note, &tag)));
        Ok(())
    }

    /// The notes that hold for what is at a path now: a note about an earlier version says nothing of it.
    pub(super) fn noted(&self, top: &RelPath) -> Result<Noted> {
        if !self.wire.needs_notes() {
            return Ok(Noted::File(None));
        }
        match self.ask(|wire| wire.stat(top))? {
            Some(meta) if meta.is_folder() => {}
            Some(meta) => {
                return Ok(Noted::File(self.notes.of(top).filter(|note| is_about(Some(note), &meta))));
            }
            None => return Ok(Noted::File(None)),
        }
        let mut noted = HashMap::new();
        self.each_version_below(top, |folder, name, tag| {
            if let Some(note) =
                self.notes.of(&top.join_path(folder).join(name)).filter(|note| is_of(note, tag))
            {
                noted.insert(folder.join(name), note);
            }
        })?;
        Ok(Noted::Folder(noted))
    }

    /// What was noted of the files in a folder holds for them at its new path too, where the server may call the versions otherwise.
    pub(super) fn carry_notes(
        &self,
        from: &RelPath,
        to: &RelPath,
        mut noted: HashMap<RelPath, Note>,
    ) -> Result<()> {
        for below in noted.keys() {
            self.note(&from.join_path(below), None);
        }
        self.each_version_below(to, |folder, name, tag| {
            let below = folder.join(name);
            if let Some(note) = noted.remove(&below) {
                self.note(&to.join_path(&below), Some(renamed(note, tag)));
            }
        })
    }

    /// Tells the version of each file in a folder and below: its folder, from the top, its name and its tag.
    pub(super) fn each_version_below(
        &self,
        top: &RelPath,
        mut tell: impl FnMut(&RelPath, &Name, &str),
    ) -> Result<()> {
        let mut folders = vec![RelPath::root()];
        while let Some(folder) = folders.pop() {
            for entry in self.ask(|wire| wire.list(&top.join_path(&folder)))?.entries {
                match &entry.meta.version {
                    _ if entry.meta.is_folder() => folders.push(folder.join(&entry.name)),
                    Some(version) => tell(&folder, &entry.name, &version.tag),
                    None => {}
                }
            }
        }
        Ok(())
    }
}

/// A note about a version that has another tag now; how long it is known stays.
fn renamed(note: Note, tag: &str) -> Note {
    let noted = parted(&note.tag).map(|(_, noted)| noted);
    let tag = noted.map_or_else(|| tag.to_owned(), |noted| format!("{tag}{YOUNG}{noted}"));
    Note { tag, ..note }
}
