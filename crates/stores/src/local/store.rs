//! A folder of this machine as a store.

use std::collections::HashMap;
use std::fs::{File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::entry::Meta;
use reedhook_core::path::{Name, RESERVED_NAME, RelPath, judged_name, part_name};
use reedhook_core::store::{
    Attributes, Capabilities, FaultKind, Result, Sealed, Store, StoreError, is_still,
};

use crate::local::linux::faults::fault;
use crate::local::stage::LocalStage;
use crate::local::sys::Folder;
use crate::local::travel::Ways;
use crate::local::trial::TrialResult;
use crate::local::{sys, trial};

/// Open folders that are kept for the next call.
pub(super) const OPEN_FOLDERS: usize = 128;

/// Of folders that lie deep, one in so many levels is kept open.
pub(super) const STRIDE: usize = 32;

/// From so many levels on, folders are opened from the nearest one that is open.
pub(super) const DEEP: usize = 64;

/// How long an open folder is taken to be where it was: whoever moves it away must not find our writing in it for long.
pub(super) const TRUSTED_FOR: Duration = Duration::from_millis(10);

/// A folder that is kept open, and when it was last seen to be where it was.
pub(super) struct Opened {
    pub(super) folder: Arc<Folder>,
    pub(super) seen: Instant,
}

/// A folder of this machine as a store.
pub struct LocalStore {
    pub(super) root: Arc<Folder>,
    /// The number of the file system that the root is on.
    pub(super) device: u64,
    pub(super) path: PathBuf,
    pub(super) place: PathBuf,
    pub(super) capabilities: Capabilities,
    pub(super) open: Mutex<HashMap<RelPath, Opened>>,
    /// A folder on each other file system below the root that was worked with. Others that are mounted there, perhaps from a machine
    /// that no longer answers, are never touched.
    pub(super) mounted: Mutex<HashMap<u64, Arc<Folder>>>,
    /// Folders that somebody has moved away, by where they were: what we left in them has to go.
    pub(super) away: Mutex<Vec<(RelPath, Arc<Folder>)>>,
    pub(super) next_part: AtomicU64,
    pub(super) ways: Arc<Ways>,
    /// A file can be renamed over another.
    pub(super) renames_over: bool,
    /// Two files can change places.
    pub(super) exchanges: bool,
    /// Everything can be made durable at once; otherwise each file is when it is sealed, and each folder that has changed.
    pub(super) syncs_whole: bool,
    pub(super) changed: Mutex<HashMap<RelPath, Arc<Folder>>>,
}

impl LocalStore {
    /// Opens a folder, which exists. Links on the way to it are followed; links in it never are.
    ///
    /// # Errors
    /// When it is missing, no folder, or not readable.
    pub fn open(path: &Path) -> Result<LocalStore> {
        LocalStore::open_knowing(path, false, None)
    }

    /// Opens a folder to look at and keep owners, extended attributes, second names, devices and pipes too. Owners, devices
    /// and some attributes need root.
    ///
    /// # Errors
    /// As [`LocalStore::open`].
    pub fn open_full(path: &Path) -> Result<LocalStore> {
        LocalStore::open_knowing(path, true, None)
    }

    /// Opens a folder, as [`LocalStore::open`] or, if it is to be looked at in full, as [`LocalStore::open_full`]. What was found by
    /// trying, on this file system and by this account, goes before what its type says.
    ///
    /// # Errors
    /// As [`LocalStore::open`].
    pub fn open_knowing(path: &Path, full: bool, found: Option<&TrialResult>) -> Result<LocalStore> {
        let failed = |error: io::Error| fault("open", &RelPath::root(), error);
        let root = Folder::open_root(path, full).map_err(failed)?;
        let place = path.canonicalize().map_err(failed)?;
        let assumed = root.capabilities(&place).map_err(failed)?;
        let mut capabilities = found.map_or_else(|| assumed.clone(), |found| found.onto(&assumed));
        // A folder may fold on a file system that does not, and this one shows it by itself.
        capabilities.folding.case |= root.folds_case();
        let device = root.stat_self().map_err(failed)?.id.map_or(0, |id| id.device);
        let by_a_program = crate::drives::is_kept_by_a_program(&place);
        Ok(LocalStore {
            root: Arc::new(root),
            device,
            path: path.to_path_buf(),
            place,
            capabilities,
            open: Mutex::default(),
            mounted: Mutex::default(),
            away: Mutex::default(),
            next_part: AtomicU64::new(seed()),
            ways: Arc::default(),
            exchanges: found.is_none_or(|found| found.exchange),
            renames_over: found.is_none_or(|found| found.rename_over),
            syncs_whole: found.is_none_or(|found| found.syncs) && !by_a_program,
            changed: Mutex::default(),
        })
    }

    /// Whether it can only be read, as it is mounted.
    pub fn is_read_only(&self) -> bool {
        self.root.is_read_only()
    }

    /// Finds out what can be held here by trying it. Whoever calls this has reserved the store; nothing that is tried stays behind.
    ///
    /// # Errors
    /// When it cannot be tried.
    pub fn try_out(&self) -> Result<TrialResult> {
        let own = RelPath::reserved();
        match self.make_folder(&own, &Attributes::default()) {
            Err(error) if error.kind != FaultKind::Exists => return Err(error),
            _ => {}
        }
        let folder = self.folder(&own, "try out")?;
        trial::try_out(&folder).map_err(|error| fault("try out", &own, error))
    }

    /// Opens a folder anew. The kernel goes from the root to it each time; where that is a long way, it begins at the nearest folder that is
    /// open, so that a deep tree costs no more for each of its folders than a shallow one.
    pub(super) fn open_anew(&self, path: &RelPath) -> io::Result<Folder> {
        if path.parts().count() < DEEP {
            return self.root.open_below(path);
        }
        let mut above = path.clone();
        for _ in 0..STRIDE {
            let Some(parent) = above.parent() else { break };
            above = parent;
            let near = self.cache().get(&above).map(|opened| opened.folder.clone());
            if let (Some(near), Some(below)) = (near, path.below(&above))
                && near.is_in_place()
            {
                return near.open_below(&below);
            }
        }
        // One in so many levels stays open, for those beside and below it.
        let Some(below) = path.below(&above).filter(|_| !above.is_root()) else {
            return self.root.open_below(path);
        };
        let near = Arc::new(self.open_anew(&above)?);
        self.keep_open(&above, &near);
        near.open_below(&below)
    }

    /// The open folder for a path, from the cache or opened now.
    pub(super) fn folder(&self, path: &RelPath, action: &'static str) -> Result<Arc<Folder>> {
        if path.is_root() {
            return Ok(self.root.clone());
        }
        if let Some(opened) = self.cache().get(path) {
            return Ok(opened.folder.clone());
        }
        let failed = |error| fault(action, path, error);
        let folder = Arc::new(self.open_anew(path).map_err(failed)?);
        if let Some(id) = folder.stat_self().map_err(failed)?.id
            && id.device != self.device
        {
            self.mounted().entry(id.device).or_insert_with(|| folder.clone());
        }
        self.keep_open(path, &folder);
        Ok(folder)
    }

    pub(super) fn keep_open(&self, path: &RelPath, folder: &Arc<Folder>) {
        let mut cache = self.cache();
        if cache.len() >= OPEN_FOLDERS {
            cache.clear();
        }
        cache.insert(path.clone(), Opened { folder: folder.clone(), seen: Instant::now() });
    }

    pub(super) fn cache(&self) -> std::sync::MutexGuard<'_, HashMap<RelPath, Opened>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The open folder for a path in which something is about to change: it is still where it was, not long ago.
    pub(super) fn folder_to_change(&self, path: &RelPath, action: &'static str) -> Result<Arc<Folder>> {
        let folder = self.folder(path, action)?;
        if !self.syncs_whole {
            self.changed().insert(path.clone(), folder.clone());
        }
        let fresh = path.is_root()
            || self.cache().get(path).is_some_and(|opened| opened.seen.elapsed() < TRUSTED_FOR);
        if fresh {
            return Ok(folder);
        }
        let there = self.root.open_below(path).and_then(|there| there.stat_self());
        match (there, folder.stat_self()) {
            (Ok(there), Ok(ours)) if there.id == ours.id => {
                self.keep_open(path, &folder);
                Ok(folder)
            }
            _ => {
                self.forget(path);
                self.away().push((path.clone(), folder));
                Err(StoreError::new(FaultKind::Changed, action, path)
                    .because("its folder has been moved away"))
            }
        }
    }

    pub(super) fn mounted(&self) -> std::sync::MutexGuard<'_, HashMap<u64, Arc<Folder>>> {
        self.mounted.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn changed(&self) -> std::sync::MutexGuard<'_, HashMap<RelPath, Arc<Folder>>> {
        self.changed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn away(&self) -> std::sync::MutexGuard<'_, Vec<(RelPath, Arc<Folder>)>> {
        self.away.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Clears a sealed file that is not wanted, wherever its folder is now. A leftover is recognised by its name and cleared by
    /// the next run, so nothing is said when that fails.
    pub(super) fn clear(&self, sealed: &Sealed) {
        if let Ok((folder, part)) = self.parent(&sealed.temporary, "remove") {
            let _ = folder.unlink(part.as_bytes());
        }
        if let Some((parent, part)) = sealed.temporary.split() {
            for (_, folder) in self.away().iter().filter(|(path, _)| *path == parent) {
                let _ = folder.unlink(part.as_bytes());
            }
        }
    }

    /// As [`LocalStore::parent`], for what is about to change.
    pub(super) fn parent_to_change(
        &self,
        path: &RelPath,
        action: &'static str,
    ) -> Result<(Arc<Folder>, Name)> {
        let (parent, name) =
            path.split().ok_or_else(|| StoreError::new(FaultKind::Unsupported, action, path))?;
        let folder = self.folder_to_change(&parent, action).map_err(|mut error| {
            error.path = path.clone();
            error
        })?;
        Ok((folder, name))
    }

    /// Forgets open folders at or below a path that is about to move or go.
    pub(super) fn forget(&self, path: &RelPath) {
        self.cache().retain(|open, _| !open.is_within(path));
    }

    /// The open folder that holds a path, and the path's name in it. The root has none.
    pub(super) fn parent(&self, path: &RelPath, action: &'static str) -> Result<(Arc<Folder>, Name)> {
        let (parent, name) =
            path.split().ok_or_else(|| StoreError::new(FaultKind::Unsupported, action, path))?;
        let folder = self.folder(&parent, action).map_err(|mut error| {
            error.path = path.clone();
            error
        })?;
        Ok((folder, name))
    }

    /// How what Reedhook keeps for itself at the root is shared: as the root is, so that whoever works in it can.
    pub(super) fn ours(&self) -> sys::Sharing {
        self.root.sharing()
    }

    pub(super) fn unfinished(
        &self,
        folder: Arc<Folder>,
        part: Vec<u8>,
        file: File,
        target: &RelPath,
        made_with: Option<u32>,
    ) -> LocalStage {
        let shared = target.is_reserved().then(|| self.ours());
        let (target, ways) = (target.clone(), self.ways.clone());
        let (keeps_modes, synced) = (self.capabilities.modes, !self.syncs_whole);
        LocalStage {
            folder,
            part,
            file: Some(file),
            target,
            at: 0,
            made_with,
            ways,
            shared,
            keeps_modes,
            synced,
        }
    }

    /// Root works for the owner of a folder and for itself: what another account has made there under Reedhook's name, and could take
    /// away or look into, is not used.
    pub(super) fn refuse_strangers_folder(&self) -> Result<()> {
        let failed = |error| fault("lock", &RelPath::root(), error);
        let Some(owner) = self.root.owner_of(RESERVED_NAME) else { return Ok(()) };
        let trusted = [0, self.root.owner().map_err(failed)?];
        match !sys::is_root() || trusted.contains(&owner) || !self.capabilities.modes {
            true => Ok(()),
            false => {
                Err(self.belongs_to(owner, "which root does not use: remove it, or run as that account"))
            }
        }
    }

    /// Who has closed Reedhook's own folder to others, where that is why it cannot be opened.
    pub(super) fn named_owner(&self, error: StoreError) -> StoreError {
        match self.root.owner_of(RESERVED_NAME) {
            Some(owner) if error.kind == FaultKind::Denied => {
                self.belongs_to(owner, "who has closed it to others: ask for it to be opened")
            }
            _ => error,
        }
    }

    pub(super) fn belongs_to(&self, owner: u32, what: &str) -> StoreError {
        let whose = sys::account_name(owner);
        let words = format!("the folder .reedhook in it belongs to {whose}, {what}");
        StoreError::new(FaultKind::Refused, "lock", &RelPath::root()).because(words)
    }

    pub(super) fn part_name(&self) -> Vec<u8> {
        let number = self.next_part.fetch_add(1, Ordering::Relaxed);
        part_name(&format!("{number:016x}"))
    }

    /// The name of something that is looked at out of its place; of what is unfinished anyway, another one of that kind.
    pub(super) fn judged_name(&self, was: &Name) -> Vec<u8> {
        if was.is_part() {
            return self.part_name();
        }
        let number = self.next_part.fetch_add(1, Ordering::Relaxed);
        judged_name(&format!("{number:016x}"), was)
    }

    /// Whether nothing is at a folder's path any more, as far as a look shows.
    pub(super) fn is_gone(&self, path: &RelPath) -> bool {
        self.root.open_below(path).is_err_and(|error| sys::fault_kind(&error) == FaultKind::NotFound)
    }

    /// Fails unless the entry is what the plan saw.
    pub(super) fn check(
        &self,
        folder: &Folder,
        name: &Name,
        expected: &Meta,
        action: &'static str,
        path: &RelPath,
    ) -> Result<()> {
        match folder.stat(name.as_bytes()).map_err(|error| fault(action, path, error))? {
            Some(found) if is_still(expected, &found) => Ok(()),
            _ => Err(StoreError::new(FaultKind::Changed, action, path)),
        }
    }

    /// Whether two names of a folder are one to a file system that folds case: nothing is listed under the new spelling. (Drivers in
    /// user space give one entry two numbers when it is looked up by two names.) Only names are read: nothing in the folder is looked at.
    pub(super) fn is_respelled(&self, folder: &Folder, (old, new): (&Name, &Name)) -> io::Result<bool> {
        if old == new || !self.capabilities.folding.is_same(old, new) {
            return Ok(false);
        }
        Ok(!folder.names()?.iter().any(|name| name == new.as_bytes()))
    }

    /// Gives a name another spelling that the file system takes for the same. Where it takes the two for one already and does
    /// nothing, the name goes by way of a third; should the way end there, that is a name that nobody clears.
    pub(super) fn respell(&self, folder: &Folder, (old, new): (&Name, &Name)) -> io::Result<()> {
        folder.rename_over(old.as_bytes(), new.as_bytes())?;
        if !self.is_respelled(folder, (old, new))? {
            return Ok(());
        }
        let third = [old.as_bytes(), b".renamed-meanwhile"].concat();
        folder.rename_new(old.as_bytes(), folder, &third)?;
        folder.rename_new(&third, folder, new.as_bytes())
    }
}

/// A start for temporary names that another process is unlikely to share; a clash would only be refused by the kernel.
pub(super) fn seed() -> u64 {
    use std::hash::{BuildHasher, Hasher};
    std::collections::hash_map::RandomState::new().build_hasher().finish()
}

/// Whether a run is working in the tree of this folder.
pub(super) fn is_being_written(root: &Path) -> bool {
    let Some(lock) = Folder::lock_of_a_run(root) else { return false };
    matches!(try_for_a_moment(|| lock.try_lock_shared()), Err(TryLockError::WouldBlock))
}

/// Tries to lock a little longer than it takes to look whether something is locked.
pub(super) fn try_for_a_moment(lock: impl Fn() -> Result<(), TryLockError>) -> Result<(), TryLockError> {
    for _ in 0..3 {
        match lock() {
            Err(TryLockError::WouldBlock) => std::thread::sleep(Duration::from_millis(10)),
            outcome => return outcome,
        }
    }
    lock()
}
