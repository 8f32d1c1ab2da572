//! How what is unfinished gets its name, and what had the name before is kept: in one step where the file system has one, with a look
//! at what came out, and by copying where that would cross file systems.

use std::io;
use std::sync::Arc;

use reedhook_core::entry::{FileId, Meta, Privileges, SPECIAL_BITS};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{
    Attributes, Disarmed, Expect, FaultKind, Flow, Publish, Result, Sealed, Store, StoreError, is_still,
};

use super::sys::{self, Folder};
use super::travel::{self, TravelError, Ways};
use crate::local::linux::faults::fault;
use crate::local::store::LocalStore;

impl LocalStore {
    pub(super) fn put_in_place(&self, sealed: &Sealed, how: &Publish) -> Result<Disarmed> {
        let path = &sealed.target;
        let (folder, name) = self.parent_to_change(path, "write")?;
        let temporary = sealed.temporary.file_name().unwrap_or_default();
        let failed = |error| fault("write", path, error);
        match &how.expect {
            Expect::Absent => {
                folder.rename_new(temporary, &folder, name.as_bytes()).map(|()| None).map_err(|error| {
                    let error = failed(error);
                    match error.kind {
                        FaultKind::Exists => StoreError { kind: FaultKind::Changed, ..error },
                        // What was to get the name is there, so it is the name that cannot be.
                        FaultKind::NotFound if matches!(folder.stat(temporary), Ok(Some(_))) => {
                            StoreError { kind: FaultKind::NameRefused, ..error }
                        }
                        _ => error,
                    }
                })
            }
            Expect::This(was) => self.replace(&folder, (temporary, &name), was, how, path),
        }
    }

    /// Puts an unfinished file in the place of another in one step, and looks at what came out: between a look and a rename
    /// somebody may have saved, and what was saved goes back where it was.
    fn replace(
        &self,
        folder: &Arc<Folder>,
        (temporary, name): (&[u8], &Name),
        was: &Meta,
        how: &Publish,
        path: &RelPath,
    ) -> Result<Disarmed> {
        self.check(folder, name, was, "write", path)?;
        let Some(keep_as) = &how.keep_as else {
            return self.take_place(folder, (temporary, name), was, path).map(|()| None);
        };
        let armed = folder.privileges(name.as_bytes(), was).map_err(|error| fault("keep", path, error))?;
        let (kept_folder, kept_name) = self.parent(keep_as, "keep")?;
        // A second name for the old file, so that its path never holds nothing, and a kill takes nothing. What has privileges and
        // other names keeps them under those, so its kept copy is a file by itself.
        let shares = armed.as_ref().is_some_and(|(_, names)| *names > 1);
        let linked = match shares {
            true => Err(sys::cross_device()),
            false => folder.link(name.as_bytes(), &kept_folder, kept_name.as_bytes()),
        };
        let linked = match linked {
            Ok(()) => true,
            // The path is on a file system of its own, mounted below the root.
            Err(error) if sys::is_cross_device(&error) => {
                self.copy_kept((folder, name), (&kept_folder, &kept_name), keep_as, was, path)?;
                false
            }
            Err(_) => {
                let kept = (kept_folder.as_ref(), &kept_name);
                self.replace_in_two_steps(folder, (temporary, name), was, kept, path)?;
                return self.disarm(&kept_folder, &kept_name, was, armed, path);
            }
        };
        match self.take_place(folder, (temporary, name), was, path) {
            Ok(()) if linked => self.disarm(&kept_folder, &kept_name, was, armed, path),
            // Its copy never had any.
            Ok(()) => Ok(armed.map(|(privileges, _)| Box::new(privileges))),
            Err(error) => {
                // It names what was not replaced after all: it goes only if that is seen to be in its place.
                if let (Ok(Some(there)), Ok(Some(kept))) =
                    (folder.stat(name.as_bytes()), kept_folder.stat(kept_name.as_bytes()))
                    && is_still(was, &there)
                    && (there.id == kept.id || is_still(was, &kept))
                {
                    let _ = kept_folder.unlink(kept_name.as_bytes());
                }
                Err(error)
            }
        }
    }

    /// Takes the privileges of a kept copy, if it has any. An account that may not take them could not have given them either.
    pub(super) fn disarm(
        &self,
        folder: &Folder,
        name: &Name,
        was: &Meta,
        armed: Option<(Privileges, u64)>,
        path: &RelPath,
    ) -> Result<Disarmed> {
        if armed.is_none() {
            return Ok(None);
        }
        match folder.disarm(name.as_bytes(), was) {
            Ok(disarmed) => Ok(disarmed),
            Err(error) if sys::fault_kind(&error) == FaultKind::Denied => Ok(None),
            Err(error) => Err(fault("take setuid from the kept copy of", path, error)),
        }
    }

    /// Puts an unfinished file in the place of what stands there.
    fn take_place(
        &self,
        folder: &Folder,
        (temporary, name): (&[u8], &Name),
        was: &Meta,
        path: &RelPath,
    ) -> Result<()> {
        let failed = |error| fault("write", path, error);
        let ours = folder.stat(temporary).map_err(failed)?;
        // What comes out may be what somebody saved a moment ago: it must not come out under a name that the next run clears.
        let aside = self.judged_name(name);
        let exchanged = match self.exchanges {
            true => folder
                .rename_new(temporary, folder, &aside)
                .and_then(|()| folder.exchange(&aside, name.as_bytes())),
            false => Err(sys::unsupported()),
        };
        // An error says nothing of what was done: only what is seen to be ours gets the name back under which it is cleared.
        if self.exchanges && exchanged.is_err() && is_ours(folder, &aside, ours.as_ref()) {
            let _ = folder.rename_new(&aside, folder, temporary);
        }
        match exchanged {
            Ok(()) => {
                let judged = self.judge_exchange(folder, (&aside, name), (was, ours.as_ref()), path);
                judged.inspect_err(|_| clear_ours(folder, &aside, ours.as_ref()))
            }
            // A file system that cannot exchange: the look before has to do.
            Err(error) if sys::is_unsupported(&error) => {
                let over = if self.renames_over {
                    folder.rename_over(temporary, name.as_bytes())
                } else {
                    // Its path holds nothing for a moment; what it held has a second name already, or goes.
                    folder
                        .unlink(name.as_bytes())
                        .and_then(|()| folder.rename_new(temporary, folder, name.as_bytes()))
                };
                over.map_err(failed)
            }
            Err(error) => Err(failed(error)),
        }
    }

    /// After an exchange: what was replaced now is aside. It goes when it is what was expected; anything else
    /// was saved a moment ago, and gets its place back.
    fn judge_exchange(
        &self,
        folder: &Folder,
        (aside, name): (&[u8], &Name),
        (was, ours): (&Meta, Option<&Meta>),
        path: &RelPath,
    ) -> Result<()> {
        let failed = |error| fault("write", path, error);
        match folder.stat(aside).map_err(failed)? {
            Some(found) if is_still(was, &found) => return folder.unlink(aside).map_err(failed),
            Some(_) => {}
            // A driver that knows no exchange, passed over the wish, and renamed: ours has the place, and nothing came out.
            None => {
                let there = folder.stat(name.as_bytes()).map_err(failed)?;
                let in_place = there.zip(ours).is_some_and(|(there, ours)| is_still(ours, &there));
                let changed = || StoreError::new(FaultKind::Changed, "write", path);
                return if in_place { Ok(()) } else { Err(changed()) };
            }
        }
        if let Err(error) = give_back(folder, (aside, name), ours.and_then(|meta| meta.id)) {
            // Where people see it.
            let rescued = [name.as_bytes(), b".saved-meanwhile"].concat();
            folder.rename_new(aside, folder, &rescued).map_err(failed)?;
            return Err(failed(error));
        }
        Err(StoreError::new(FaultKind::Changed, "write", path))
    }

    /// Makes a kept copy that is a file by itself, without privileges.
    pub(super) fn copy_kept(
        &self,
        from: (&Folder, &Name),
        (kept_folder, kept_name): (&Arc<Folder>, &Name),
        keep_as: &RelPath,
        was: &Meta,
        path: &RelPath,
    ) -> Result<()> {
        let staging = self.staging(keep_as, kept_folder)?;
        self.copy_to(from, &staging, (kept_folder, kept_name), (was, &unprivileged(was)), path)
    }

    /// Copies a file or link to another file system below the same root, durably. It has to be as it `was`, and the copy gets what is `given`.
    /// Unfinished it is in `staging`, on the same file system as its new place.
    fn copy_to(
        &self,
        (folder, name): (&Folder, &Name),
        staging: &Folder,
        (to_folder, to_name): (&Folder, &Name),
        (was, given): (&Meta, &Meta),
        path: &RelPath,
    ) -> Result<()> {
        let failed = |error| fault("copy", path, error);
        let part = self.part_name();
        let mode = if given.extra.is_some() { given.mode } else { given.mode_without_list() };
        let attributes = Attributes { modified: given.modified, mode, extra: given.extra.clone() };
        let copied = if let Some(target) = &was.target {
            staging.make_link(target, &part).and_then(|()| {
                let made = sys::Made::Link(target);
                match staging.set_made(&part, &made, &Attributes { mode: None, ..attributes })? {
                    true => Ok(()),
                    false => Err(io::Error::other("somebody has replaced what was just made")),
                }
            })
        } else {
            copy_file(&self.ways, folder, name, (staging, &part), &attributes)
        };
        let published = copied.and_then(|()| {
            match folder.stat(name.as_bytes())? {
                Some(found) if is_still(was, &found) => {}
                _ => return Err(io::Error::other(StoreError::new(FaultKind::Changed, "copy", path))),
            }
            staging.rename_new(&part, to_folder, to_name.as_bytes())?;
            // What it was copied from goes next, and the other file system may write that down first.
            to_folder.sync()
        });
        published.map_err(|error| {
            let _ = staging.unlink(&part);
            failed(error)
        })
    }

    /// Where a copy that is to come to `path` is unfinished: in its folder, where a walk finds what a kill leaves; among the kept
    /// copies nobody walks, and it is in Reedhook's own folder, which every run clears.
    fn staging(&self, path: &RelPath, folder: &Arc<Folder>) -> Result<Arc<Folder>> {
        let own = RelPath::reserved();
        if path.is_reserved() { self.folder(&own, "keep") } else { Ok(folder.clone()) }
    }

    /// Moves a file or link to another file system below the same root: copied there, then removed here.
    pub(super) fn move_across(
        &self,
        (old_folder, old): (&Folder, &Name),
        (new_folder, new): (&Arc<Folder>, &Name),
        (from, to): (&RelPath, &RelPath),
    ) -> Result<()> {
        let found = old_folder.stat(old.as_bytes()).map_err(|error| fault("rename", from, error))?;
        let was = found.ok_or_else(|| StoreError::new(FaultKind::NotFound, "rename", from))?;
        if !was.is_item() {
            let across = StoreError::new(FaultKind::Unsupported, "rename", from);
            return Err(across.because("it would go from one file system to another"));
        }
        let staging = self.staging(to, new_folder)?;
        self.copy_to((old_folder, old), &staging, (new_folder, new), (&was, &was), from)?;
        self.remove(from, &was)
    }

    /// For file systems without second names: the old file moves away, is looked at, and the new one takes the free place.
    fn replace_in_two_steps(
        &self,
        folder: &Folder,
        (temporary, name): (&[u8], &Name),
        was: &Meta,
        (kept_folder, kept_name): (&Folder, &Name),
        path: &RelPath,
    ) -> Result<()> {
        let changed = || StoreError::new(FaultKind::Changed, "write", path);
        let kept = folder.rename_new(name.as_bytes(), kept_folder, kept_name.as_bytes());
        kept.map_err(|error| fault("keep", path, error))?;
        let back = || kept_folder.rename_new(kept_name.as_bytes(), folder, name.as_bytes());
        let found = kept_folder.stat(kept_name.as_bytes()).map_err(|error| fault("keep", path, error))?;
        if !found.is_some_and(|found| is_still(was, &found)) {
            back().map_err(|error| fault("keep", path, error))?;
            return Err(changed());
        }
        folder.rename_new(temporary, folder, name.as_bytes()).map_err(|error| {
            // When somebody saved here meanwhile, theirs stands, and the old one is kept.
            let _ = back();
            let error = fault("write", path, error);
            if error.kind == FaultKind::Exists { changed() } else { error }
        })
    }
}

/// Clears what a run has written itself, where it did not get its place.
fn clear_ours(folder: &Folder, aside: &[u8], ours: Option<&Meta>) {
    if is_ours(folder, aside, ours) {
        let _ = folder.unlink(aside);
    }
}

/// Whether a name is seen to hold what a run has written itself.
fn is_ours(folder: &Folder, name: &[u8], ours: Option<&Meta>) -> bool {
    let there = folder.stat(name).ok().flatten();
    there.zip(ours).is_some_and(|(there, ours)| is_still(ours, &there))
}

/// What a kept copy gets of an entry: everything but setuid, setgid and capabilities.
fn unprivileged(meta: &Meta) -> Meta {
    let extra = meta.extra.as_ref().map(|extra| extra.to_give(false));
    let bare = |mode: Option<u32>| mode.map(|mode| mode & !SPECIAL_BITS);
    Meta { mode: bare(meta.mode), unlisted: bare(meta.unlisted), extra, ..meta.clone() }
}

/// Gives what an exchange brought out its name back, and takes ours out again. Whoever saves at that very moment gets the name:
/// theirs comes out instead of ours, and goes back in the same way.
fn give_back(folder: &Folder, (aside, name): (&[u8], &Name), ours: Option<FileId>) -> io::Result<()> {
    const TRIES: usize = 16;
    for _ in 0..TRIES {
        match folder.exchange(aside, name.as_bytes()) {
            Ok(()) if folder.stat(aside)?.and_then(|meta| meta.id) == ours => return Ok(()),
            Ok(()) => {}
            // Somebody removed ours: the place is free.
            Err(error) if sys::fault_kind(&error) == FaultKind::NotFound => {
                match folder.rename_new(aside, folder, name.as_bytes()) {
                    Err(error) if sys::fault_kind(&error) == FaultKind::Exists => {}
                    outcome => return outcome,
                }
            }
            Err(error) => return Err(error),
        }
    }
    Err(io::Error::other("it is replaced again and again"))
}

/// Copies a file's content to an unfinished one on another file system, with its metadata, and waits until it is durable.
fn copy_file(
    ways: &Ways,
    folder: &Folder,
    name: &Name,
    (to_folder, part): (&Folder, &[u8]),
    attributes: &Attributes,
) -> io::Result<()> {
    let from = folder.open_file(name.as_bytes())?;
    let to = to_folder.create_file(part, None)?;
    match travel::travel(ways, &from, &to, 0, &mut |_| Flow::Go) {
        Ok(_) => {}
        Err(TravelError::Read(error) | TravelError::Write(error)) => return Err(error),
    }
    sys::set_file(&to, attributes, attributes.mode)?;
    to.sync_all()
}
