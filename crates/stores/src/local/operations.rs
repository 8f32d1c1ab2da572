//! What every store does, as a folder of this machine does it.

use std::fs::TryLockError;
use std::io::{Seek, SeekFrom};
use std::sync::Arc;

use reedhook_core::entry::{EntryKind, Meta, Privileges, Stamp};
use reedhook_core::foreign::escaped;
use reedhook_core::path::{RelPath, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, Content, Disarmed, FaultKind, Listing, Place, Publish, Result, Sealed, Space,
    Stage, Store, StoreError, StoreExt, is_still,
};

use crate::local::faults::{open_file, sealed};
use crate::local::linux::faults::fault;
use crate::local::stage::LocalContent;
use crate::local::store::{DEEP, LocalStore, is_being_written, try_for_a_moment};
use crate::local::sys::Folder;
use crate::local::{sys, trash, travel};

impl Store for LocalStore {
    fn name(&self) -> String {
        escaped(&self.path.display().to_string())
    }

    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn place(&self) -> Place {
        Place::Local(self.place.clone())
    }

    fn list(&self, folder: &RelPath) -> Result<Listing> {
        // Not from the cache: reading a folder moves the position of the open file that it is read through.
        let open = self.open_anew(folder).map_err(|error| fault("list", folder, error))?;
        let listing = open.list(folder)?;
        if folder.parts().count() >= DEEP {
            self.keep_open(folder, &Arc::new(open));
        }
        Ok(listing)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Meta>> {
        if path.is_root() {
            return self.root.stat_self().map(Some).map_err(|error| fault("examine", path, error));
        }
        let (folder, name) = match self.parent(path, "examine") {
            Ok(found) => found,
            Err(error) if error.kind == FaultKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        folder.stat(name.as_bytes()).map_err(|error| fault("examine", path, error))
    }

    fn open(&self, path: &RelPath, offset: u64) -> Result<Box<dyn Content>> {
        let (folder, name) = self.parent(path, "read")?;
        let failed = |error| fault("read", path, error);
        let mut file = open_file(&folder, &name, path)?;
        if offset > 0 {
            file.seek(SeekFrom::Start(offset)).map_err(failed)?;
        }
        // Asked at once, so that only files are accepted, and handed out with the first question.
        let meta = sys::stat_file(&file, self.root.is_full()).map_err(failed)?;
        Ok(Box::new(LocalContent::new(file, path.clone(), Some(meta), self.root.is_full())))
    }

    fn open_fresh(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let content = self.open_planned(path)?;
        if let Some(file) = content.as_file() {
            sys::forget_cached(file);
        }
        Ok(content)
    }

    fn open_planned(&self, path: &RelPath) -> Result<Box<dyn Content>> {
        let (folder, name) = self.parent(path, "read")?;
        let file = open_file(&folder, &name, path)?;
        Ok(Box::new(LocalContent::new(file, path.clone(), None, self.root.is_full())))
    }

    fn stage(&self, path: &RelPath, mode: Option<u32>) -> Result<Box<dyn Stage>> {
        let (folder, _) = self.parent_to_change(path, "write")?;
        let part = self.part_name();
        let made_with = mode.filter(|mode| folder.makes_exactly(*mode));
        // What holds no modes gives them as it was mounted, and may refuse to be told of any.
        let made_as = if self.capabilities.modes { made_with } else { Some(0o666) };
        let file = folder.create_file(&part, made_as).map_err(|error| fault("write", path, error))?;
        Ok(Box::new(self.unfinished(folder, part, file, path, made_with)))
    }

    fn stage_resumable(
        &self,
        path: &RelPath,
        key: &str,
        _size: u64,
        _hint: &Attributes,
    ) -> Result<Box<dyn Stage>> {
        let (folder, _) = self.parent_to_change(path, "write")?;
        let part = part_name(key);
        let file =
            folder.open_part(&part, self.capabilities.modes).map_err(|error| fault("write", path, error))?;
        Ok(Box::new(self.unfinished(folder, part, file, path, None)))
    }

    fn stage_link(&self, path: &RelPath, target: &[u8], attributes: &Attributes) -> Result<Sealed> {
        if !self.capabilities.links {
            return Err(StoreError::new(FaultKind::Unsupported, "make link", path));
        }
        let (folder, _) = self.parent_to_change(path, "make link")?;
        let part = self.part_name();
        let failed = |error| fault("make link", path, error);
        folder.make_link(target, &part).map_err(failed)?;
        let attributes = Attributes { mode: None, ..attributes.clone() };
        match folder.set_made(&part, &sys::Made::Link(target), &attributes).map_err(failed)? {
            true => Ok(sealed(path, &part)),
            false => Err(StoreError::new(FaultKind::Changed, "make link", path)),
        }
    }

    fn stage_special(&self, path: &RelPath, from: &Meta, attributes: &Attributes) -> Result<Sealed> {
        let (folder, _) = self.parent_to_change(path, "make special file")?;
        let part = self.part_name();
        let failed = |error| fault("make special file", path, error);
        let EntryKind::Special(special) = from.kind else {
            return Err(StoreError::new(FaultKind::Unsupported, "make special file", path));
        };
        folder.make_special(&part, from).map_err(failed)?;
        match folder.set_made(&part, &sys::Made::Special(special), attributes).map_err(failed)? {
            true => Ok(sealed(path, &part)),
            false => Err(StoreError::new(FaultKind::Changed, "make special file", path)),
        }
    }

    fn stage_second_name(&self, path: &RelPath, existing: &RelPath) -> Result<Sealed> {
        let (folder, _) = self.parent_to_change(path, "make second name")?;
        let (existing_folder, name) = self.parent(existing, "make second name")?;
        let part = self.part_name();
        let linked = existing_folder.link(name.as_bytes(), &folder, &part);
        linked.map_err(|error| fault("make second name", path, error))?;
        Ok(sealed(path, &part))
    }

    fn sync(&self) -> Result<()> {
        for (path, folder) in std::mem::take(&mut *self.changed()) {
            match folder.sync() {
                // Drivers in user space go by path: of a folder that has gone nothing has to last.
                Err(error) if sys::fault_kind(&error) == FaultKind::NotFound && self.is_gone(&path) => {}
                // Some know no such thing of folders.
                Err(error) if !sys::is_unsupported(&error) => {
                    return Err(fault("make durable", &path, error));
                }
                _ => {}
            }
        }
        self.root.sync_file_system().map_err(|error| fault("make durable", &RelPath::root(), error))?;
        let mounted: Vec<Arc<Folder>> = self.mounted().values().cloned().collect();
        for folder in mounted {
            folder.sync_file_system().map_err(|error| fault("make durable", &RelPath::root(), error))?;
        }
        Ok(())
    }

    fn publish(&self, sealed: Sealed, how: &Publish) -> Result<Disarmed> {
        let outcome = self.put_in_place(&sealed, how);
        if outcome.is_err() {
            self.clear(&sealed);
        }
        outcome
    }

    fn discard(&self, sealed: Sealed) {
        self.clear(&sealed);
    }

    fn remove(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let (folder, name) = self.parent_to_change(path, "remove")?;
        self.check(&folder, &name, expected, "remove", path)?;
        // Under a name of ours first: what is looked at there cannot be replaced any more before it goes.
        let aside = self.judged_name(&name);
        let failed = |error| fault("remove", path, error);
        folder.rename_new(name.as_bytes(), &folder, &aside).map_err(failed)?;
        match folder.stat(&aside).map_err(failed)? {
            Some(found) if is_still(expected, &found) => folder.unlink(&aside).map_err(|error| {
                let _ = folder.rename_new(&aside, &folder, name.as_bytes());
                failed(error)
            }),
            _ => {
                folder.rename_new(&aside, &folder, name.as_bytes()).map_err(failed)?;
                Err(StoreError::new(FaultKind::Changed, "remove", path))
            }
        }
    }

    fn trash(&self, path: &RelPath, expected: &Meta) -> Result<()> {
        let (folder, name) = self.parent_to_change(path, "move to the trash")?;
        self.check(&folder, &name, expected, "move to the trash", path)?;
        let failed = |error| fault("move to the trash", path, error);
        let trash = trash::Trash::open(&folder).map_err(|error| {
            StoreError::new(FaultKind::Unsupported, "move to the trash", path)
                .because(format!("no trash of this account can be used on that file system: {error}"))
        })?;
        let here = trash.take(&folder, &name).map_err(failed)?;
        match trash.files.stat(&here).map_err(failed)? {
            Some(found) if is_still(expected, &found) => Ok(()),
            // Whoever saved there at this moment did not mean that to go. Should the name be in use again, it stays in the trash.
            _ => {
                trash.give_back(&here, &folder, &name).map_err(|error| {
                    let words = format!("what was saved there at that moment is in the trash: {error}");
                    StoreError::new(FaultKind::Io, "move to the trash", path).because(words)
                })?;
                Err(StoreError::new(FaultKind::Changed, "move to the trash", path))
            }
        }
    }

    fn keep(&self, path: &RelPath, to: &RelPath, expected: &Meta) -> Result<Disarmed> {
        let (folder, name) = self.parent_to_change(path, "keep")?;
        self.check(&folder, &name, expected, "keep", path)?;
        let armed =
            folder.privileges(name.as_bytes(), expected).map_err(|error| fault("keep", path, error))?;
        let (kept_folder, kept_name) = self.parent(to, "keep")?;
        let shares = armed.as_ref().is_some_and(|(_, names)| *names > 1);
        if shares || (armed.is_some() && kept_folder.device() != folder.device()) {
            // Its other names keep their privileges; and what is copied anyway is copied without.
            self.copy_kept((&folder, &name), (&kept_folder, &kept_name), to, expected, path)?;
            self.remove(path, expected)?;
            return Ok(armed.map(|(privileges, _)| Box::new(privileges)));
        }
        self.rename_this(path, to, expected)?;
        self.disarm(&kept_folder, &kept_name, expected, armed, path)
    }

    fn rearm(&self, path: &RelPath, expected: &Meta, privileges: &Privileges) -> Result<bool> {
        let (folder, name) = self.parent_to_change(path, "set time or mode of")?;
        folder.rearm(name.as_bytes(), expected, privileges).map_err(|error| {
            match fault("set time or mode of", path, error) {
                error if error.kind == FaultKind::Lost => StoreError { kind: FaultKind::Changed, ..error },
                error => error,
            }
        })
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.forget(path);
        let (folder, name) = self.parent_to_change(path, "remove folder")?;
        folder.remove_folder(name.as_bytes()).map_err(|error| {
            let error = fault("remove folder", path, error);
            // POSIX lets a full folder be reported in either way.
            if error.kind == FaultKind::Exists {
                StoreError { kind: FaultKind::NotEmpty, ..error }
            } else {
                error
            }
        })
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.forget(from);
        let (old_folder, old) = self.parent_to_change(from, "rename")?;
        let (new_folder, new) = self.parent_to_change(to, "rename")?;
        let failed = |error| fault("rename", from, error);
        let renamed = old_folder.rename_new(old.as_bytes(), &new_folder, new.as_bytes());
        let Err(error) = renamed else { return Ok(()) };
        if sys::is_cross_device(&error) {
            return self.move_across((&old_folder, &old), (&new_folder, &new), (from, to));
        }
        // Nothing may stand in the way but itself, under its other spelling.
        let may_be_itself = sys::fault_kind(&error) == FaultKind::Exists && from.parent() == to.parent();
        if may_be_itself && self.is_respelled(&old_folder, (&old, &new)).map_err(failed)? {
            return self.respell(&old_folder, (&old, &new)).map_err(failed);
        }
        Err(failed(error))
    }

    fn make_folder(&self, path: &RelPath, attributes: &Attributes) -> Result<Meta> {
        let (folder, name) = self.parent_to_change(path, "make folder")?;
        let failed = |error| fault("make folder", path, error);
        folder.make_folder(name.as_bytes(), attributes.mode).map_err(|error| match failed(error) {
            // The folder that it was to be in is there, so it is the name that cannot be.
            error if error.kind == FaultKind::NotFound && folder.is_in_place() => {
                StoreError { kind: FaultKind::NameRefused, ..error }
            }
            error => error,
        })?;
        if path.is_reserved() && attributes.mode.is_none() {
            folder.share(name.as_bytes(), self.ours());
        }
        let made = match folder.open_made(name.as_bytes()) {
            Ok(made) => made,
            // A mode that keeps even us out: there is nothing to recognise it by but its kind.
            Err(error) if sys::fault_kind(&error) == FaultKind::Denied => {
                return Ok(Meta::bare(EntryKind::Folder));
            }
            Err(error) => return Err(failed(error)),
        };
        made.stat_self().map_err(failed)
    }

    fn set_attributes(&self, path: &RelPath, expected: &Meta, attributes: &Attributes) -> Result<()> {
        let failed = |error| fault("set time or mode of", path, error);
        if path.is_root() {
            return self.root.set_self(attributes).map_err(failed);
        }
        let (folder, name) = self.parent_to_change(path, "set time or mode of")?;
        match folder.set_all(name.as_bytes(), expected, attributes).map_err(failed)? {
            true => Ok(()),
            false => Err(StoreError::new(FaultKind::Changed, "set time or mode of", path)),
        }
    }

    fn touched(&self, path: &RelPath) -> Result<Option<Stamp>> {
        let (folder, name) = self.parent(path, "read")?;
        let touched = folder.open_file(name.as_bytes()).and_then(|file| sys::touched(&file));
        touched.map(Some).map_err(|error| fault("examine", path, error))
    }

    fn data_bytes(&self, path: &RelPath) -> Result<Option<u64>> {
        let (folder, name) = self.parent(path, "read")?;
        let opened = folder.open_file(name.as_bytes());
        opened
            .and_then(|file| travel::data_bytes(&file))
            .map(Some)
            .map_err(|error| fault("read", path, error))
    }

    fn is_pseudo(&self, folder: &RelPath) -> Result<bool> {
        let open = self.root.open_below(folder).map_err(|error| fault("examine", folder, error))?;
        open.is_pseudo().map_err(|error| fault("examine", folder, error))
    }

    fn space(&self) -> Result<Option<Space>> {
        let space = self.root.space().map_err(|error| fault("examine", &RelPath::root(), error))?;
        // A driver that tells no size at all does not know.
        Ok(Some(space).filter(|space| space.total > 0))
    }

    fn lock(&self) -> Result<Box<dyn Send + Sync>> {
        let own = RelPath::reserved();
        match self.make_folder(&own, &Attributes::default()) {
            Err(error) if error.kind != FaultKind::Exists => return Err(error),
            _ => {}
        }
        self.refuse_strangers_folder()?;
        let folder = self.folder(&own, "lock").map_err(|error| self.named_owner(error))?;
        let file = folder.open_lock(b"lock", self.ours()).map_err(|error| fault("lock", &own, error))?;
        // The kernel lets go of the lock when the process ends, however it ends: a stale lock cannot exist.
        try_for_a_moment(|| file.try_lock()).map_err(|error| match error {
            TryLockError::WouldBlock => StoreError::new(FaultKind::InUse, "lock", &RelPath::root()),
            TryLockError::Error(error) => fault("lock", &own, error),
        })?;
        // A run that works in a folder above takes its unfinished files in here for its own, as this one would take that one's.
        match self.place.ancestors().skip(1).any(is_being_written) {
            true => Err(StoreError::new(FaultKind::InUse, "lock", &RelPath::root())),
            false => Ok(Box::new(file)),
        }
    }
}
