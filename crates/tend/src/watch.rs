//! What changes in a folder and everything below it, as the kernel tells (inotify(7)): one watch a folder.
//!
//! A watch belongs to a folder, whatever its name is by now. The tree of names is kept beside it, so that an event can be told by
//! path. A folder that comes (made, or moved here) is watched first and listed then, and all that is in it counts as changed: what
//! was put there in between is on one of the two. What the kernel's queue could not hold is unknown: then everything counts as
//! changed, and the tree is gone through again.
//!
//! Reading changes nothing here, and what Reedhook itself leaves unfinished (`.reedhook-part-…`, `.reedhook/`) is nobody's change.

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::filter::{Filter, Inherited, Verdict};
use reedhook_core::path::{JUDGED_PREFIX, Name, PART_PREFIX, RESERVED_NAME, RelPath};
use rustix::event::{EventfdFlags, PollFd, PollFlags, Timespec, eventfd, poll};
use rustix::fs::inotify::{CreateFlags, ReadFlags, Reader, WatchFlags, add_watch, init, remove_watch};
use rustix::io::Errno;

/// Changes are handed over no oftener than this.
const GATHER: Duration = Duration::from_millis(15);

/// Where the kernel says how many folders an account may watch.
const LIMIT: &str = "/proc/sys/fs/inotify/max_user_watches";

/// What a watch tells.
#[derive(Debug)]
pub enum WatchNews {
    /// From now on nothing is missed.
    Ready {
        /// So many folders are watched.
        folders: usize,
    },
    /// Something has changed.
    Changed(Changed),
    /// It is over: the folder is gone, or cannot be watched. Why, and what to do about it.
    Over(String),
}

/// Where something has changed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Changed {
    /// The folders, relative to the one that is watched.
    pub folders: HashSet<RelPath>,
    /// It may have been anywhere.
    pub everything: bool,
}

impl Changed {
    /// Whether nothing has.
    pub fn is_empty(&self) -> bool {
        self.folders.is_empty() && !self.everything
    }
}

/// A folder that is watched, with everything below it, until this is dropped.
pub struct Watch {
    end: Arc<OwnedFd>,
}

impl Drop for Watch {
    fn drop(&mut self) {
        // Nobody waits for the thread: it holds nothing but its own watches.
        let _ = rustix::io::write(&*self.end, &1_u64.to_ne_bytes());
    }
}

impl Watch {
    /// Begins to watch a folder; what is heard is told from a thread of its own. What the filter leaves out with all that is in it is
    /// not watched. More than `queue` events at a time count as an overflow.
    ///
    /// # Errors
    /// When the kernel has no more watches to give.
    pub fn begin(
        root: PathBuf,
        filter: Filter,
        queue: usize,
        mut tell: impl FnMut(WatchNews) -> bool + Send + 'static,
    ) -> io::Result<Watch> {
        let kernel = init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        let end = Arc::new(eventfd(0, EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK)?);
        let mut tree =
            Tree { kernel, root, filter, nodes: HashMap::new(), changed: Changed::default(), queue };
        let ended = end.clone();
        std::thread::Builder::new().name("watch".to_owned()).stack_size(256 << 10).spawn(move || {
            if let Err(why) = tree.follow(&ended, &mut tell) {
                // Whatever is not watched whole is not watched at all: its watches may be missed elsewhere.
                drop(tree);
                tell(WatchNews::Over(why));
            }
        })?;
        Ok(Watch { end })
    }
}

/// A watched folder: its place in the tree of names, and what the filter says of what is in it.
struct Node {
    above: i32,
    name: Box<[u8]>,
    inherited: Inherited,
}

/// What the root has above it.
const NOTHING: i32 = -1;

struct Tree {
    kernel: OwnedFd,
    root: PathBuf,
    filter: Filter,
    nodes: HashMap<i32, Node>,
    changed: Changed,
    queue: usize,
}

/// A folder to be watched.
struct Coming {
    above: i32,
    name: Box<[u8]>,
    path: RelPath,
    inherited: Inherited,
}

type Why<T> = Result<T, String>;

impl Tree {
    /// Watches and tells, until it is to end; an error says why it can no longer.
    fn follow(&mut self, end: &OwnedFd, tell: &mut dyn FnMut(WatchNews) -> bool) -> Why<()> {
        self.add_everything()?;
        self.changed = Changed::default();
        if !tell(WatchNews::Ready { folders: self.nodes.len() }) {
            return Ok(());
        }
        let mut told = Instant::now();
        loop {
            let wait = match self.changed.is_empty() {
                true => None,
                false => Some(GATHER.saturating_sub(told.elapsed())),
            };
            let wait = wait.map(|wait| Timespec { tv_sec: 0, tv_nsec: i64::from(wait.subsec_nanos()) });
            let mut both = [PollFd::new(&self.kernel, PollFlags::IN), PollFd::new(end, PollFlags::IN)];
            match poll(&mut both, wait.as_ref()) {
                Ok(_) | Err(Errno::INTR) => {}
                Err(error) => return Err(format!("it can no longer be watched: {error}")),
            }
            let (heard, ended) = (!both[0].revents().is_empty(), !both[1].revents().is_empty());
            if ended {
                return Ok(());
            }
            if heard {
                self.observe()?;
            }
            if !self.changed.is_empty() && told.elapsed() >= GATHER {
                told = Instant::now();
                if !tell(WatchNews::Changed(std::mem::take(&mut self.changed))) {
                    return Ok(());
                }
            }
        }
    }

    /// Takes what the kernel has to say.
    fn observe(&mut self) -> Why<()> {
        let mut buffer = [MaybeUninit::uninit(); 64 << 10];
        let mut moved = Vec::new();
        let mut count = 0;
        let mut heard = Vec::new();
        {
            let mut reader = Reader::new(self.kernel.as_fd(), &mut buffer);
            loop {
                match reader.next() {
                    Ok(event) => {
                        count += 1;
                        let name = event.file_name().map(|name| Box::<[u8]>::from(name.to_bytes()));
                        heard.push((event.wd(), event.events(), name));
                    }
                    Err(Errno::WOULDBLOCK) => break,
                    Err(Errno::INTR) => {}
                    Err(error) => return Err(format!("it can no longer be watched: {error}")),
                }
                // What goes on and on is handed over in between.
                if heard.len() >= 16_384 {
                    break;
                }
            }
        }
        let mut overflow = count > self.queue;
        for (watch, flags, name) in heard {
            if flags.contains(ReadFlags::QUEUE_OVERFLOW) {
                overflow = true;
            } else {
                self.take(watch, flags, name, &mut moved)?;
            }
        }
        self.let_go(moved)?;
        if overflow {
            self.add_everything()?;
            self.changed = Changed { folders: HashSet::new(), everything: true };
        }
        Ok(())
    }

    /// Takes note of one event.
    fn take(
        &mut self,
        watch: i32,
        flags: ReadFlags,
        name: Option<Box<[u8]>>,
        moved: &mut Vec<i32>,
    ) -> Why<()> {
        if flags.contains(ReadFlags::IGNORED) {
            self.nodes.remove(&watch);
            return Ok(());
        }
        let is_root = self.nodes.get(&watch).is_some_and(|node| node.above == NOTHING);
        if is_root && flags.intersects(ReadFlags::DELETE_SELF | ReadFlags::MOVE_SELF | ReadFlags::UNMOUNT) {
            return Err("the folder is gone".to_owned());
        }
        if flags.contains(ReadFlags::MOVE_SELF) {
            moved.push(watch);
            return Ok(());
        }
        let Some(folder) = self.path(watch) else { return Ok(()) };
        let Some(name) = name else {
            self.changed.folders.insert(folder);
            return Ok(());
        };
        if &*name == RESERVED_NAME || name.starts_with(PART_PREFIX) || name.starts_with(JUDGED_PREFIX) {
            return Ok(());
        }
        if flags.contains(ReadFlags::ISDIR) {
            let Ok(plain) = Name::new(&name) else { return Ok(()) };
            let path = folder.join(&plain);
            if flags.intersects(ReadFlags::CREATE | ReadFlags::MOVED_TO) {
                if let Some(coming) = self.judged(watch, &folder, &plain) {
                    self.add(vec![coming])?;
                }
            } else {
                self.changed.folders.insert(path);
            }
        }
        self.changed.folders.insert(folder);
        Ok(())
    }

    /// Lets go of folders that were moved out of the tree, with what is below them. One that was moved within it is watched under its
    /// new name already, by the same watch.
    fn let_go(&mut self, moved: Vec<i32>) -> Why<()> {
        let mut gone = HashSet::new();
        for watch in moved {
            let Some(path) = self.path(watch) else { continue };
            match self.watch(&path) {
                Ok(Some(found)) if found == watch => {}
                // Something else has its name now, or nothing.
                Ok(_) => drop(gone.insert(watch)),
                Err(why) => return Err(why),
            }
        }
        if gone.is_empty() {
            return Ok(());
        }
        let is_below = |mut watch: i32| {
            while let Some(node) = self.nodes.get(&watch) {
                if gone.contains(&watch) {
                    return true;
                }
                watch = node.above;
            }
            false
        };
        let all: Vec<i32> = self.nodes.keys().copied().filter(|watch| is_below(*watch)).collect();
        for watch in all {
            self.nodes.remove(&watch);
            let _ = remove_watch(&self.kernel, watch);
        }
        Ok(())
    }

    /// Watches the root and all that is below it, anew.
    fn add_everything(&mut self) -> Why<()> {
        self.nodes.clear();
        let root = Coming {
            above: NOTHING,
            name: Box::default(),
            path: RelPath::root(),
            inherited: self.filter.root(),
        };
        self.add(vec![root])?;
        if self.nodes.is_empty() { Err("the folder is not there".to_owned()) } else { Ok(()) }
    }

    /// Watches folders and all that is below them; everything in them counts as changed.
    fn add(&mut self, mut coming: Vec<Coming>) -> Why<()> {
        while let Some(Coming { above, name, path, inherited }) = coming.pop() {
            // Watched first and listed then: what comes in between is heard or found.
            let Some(watch) = self.watch(&path)? else { continue };
            self.nodes.insert(watch, Node { above, name, inherited });
            let Ok(entries) = std::fs::read_dir(self.absolute(&path)) else { continue };
            for entry in entries.flatten() {
                let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
                let name = entry.file_name().into_vec();
                if !is_folder || name == RESERVED_NAME {
                    continue;
                }
                let Ok(name) = Name::new(&name) else { continue };
                coming.extend(self.judged(watch, &path, &name));
            }
            self.changed.folders.insert(path);
        }
        Ok(())
    }

    /// A folder that is to be watched; `None` where the filter leaves out all that is in it.
    fn judged(&self, above: i32, folder: &RelPath, name: &Name) -> Option<Coming> {
        let inherited = self.nodes.get(&above)?.inherited;
        let verdict = self.filter.judge(folder, name, &Meta::bare(EntryKind::Folder), inherited);
        if matches!(verdict, Verdict::Out(_)) {
            return None;
        }
        let inherited = self.filter.inherit(verdict);
        Some(Coming { above, name: name.as_bytes().into(), path: folder.join(name), inherited })
    }

    /// Watches one folder; `None` when it is not there any more, or closed to us.
    fn watch(&self, path: &RelPath) -> Why<Option<i32>> {
        let flags = WatchFlags::CREATE
            | WatchFlags::DELETE
            | WatchFlags::MOVED_FROM
            | WatchFlags::MOVED_TO
            | WatchFlags::MODIFY
            | WatchFlags::CLOSE_WRITE
            | WatchFlags::ATTRIB
            | WatchFlags::DELETE_SELF
            | WatchFlags::MOVE_SELF
            | WatchFlags::DONT_FOLLOW
            | WatchFlags::ONLYDIR
            | WatchFlags::EXCL_UNLINK;
        // The root may be reached through a link; nothing below it is.
        let flags = if path.is_root() { flags.difference(WatchFlags::DONT_FOLLOW) } else { flags };
        match add_watch(&self.kernel, self.absolute(path), flags) {
            Ok(watch) => Ok(Some(watch)),
            Err(Errno::NOENT | Errno::NOTDIR | Errno::ACCESS | Errno::LOOP) => Ok(None),
            Err(Errno::NOSPC) => Err(no_more_watches(self.nodes.len())),
            Err(error) => Err(format!("{path} cannot be watched: {error}")),
        }
    }

    fn absolute(&self, path: &RelPath) -> PathBuf {
        if path.is_root() {
            self.root.clone()
        } else {
            self.root.join(Path::new(OsStr::from_bytes(path.as_bytes())))
        }
    }

    /// The path of a watched folder by the tree of names.
    fn path(&self, watch: i32) -> Option<RelPath> {
        let mut names = Vec::new();
        let mut node = self.nodes.get(&watch)?;
        while node.above != NOTHING {
            names.push(&node.name);
            node = self.nodes.get(&node.above)?;
        }
        let mut path = RelPath::root();
        for name in names.into_iter().rev() {
            path = path.join(&Name::new(name).ok()?);
        }
        Some(path)
    }
}

/// What is said when an account may watch no more folders, with the way to more.
fn no_more_watches(watched: usize) -> String {
    let most = std::fs::read_to_string(LIMIT).ok().and_then(|text| text.trim().parse::<usize>().ok());
    let most = most.unwrap_or(watched);
    format!(
        "this account may watch {most} folders, and that is not enough; \
         `sysctl fs.inotify.max_user_watches={}` as root allows more",
        most.saturating_mul(4).max(1 << 19)
    )
}

/// Why nothing can be watched at all.
pub(crate) fn no_watch(error: &io::Error) -> String {
    match error.raw_os_error() {
        Some(number) if number == Errno::MFILE.raw_os_error() => {
            "this account may watch no more places; `sysctl fs.inotify.max_user_instances=1024` as root allows more".to_owned()
        }
        _ => error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use crossbeam_channel::{Receiver, unbounded};
    use reedhook_core::entry::Stamp;
    use reedhook_core::filter::FilterSpec;

    use super::*;

    struct Seen {
        news: Receiver<WatchNews>,
        _watch: Watch,
    }

    impl Seen {
        fn of(root: &Path, exclude: &str, queue: usize) -> Seen {
            let spec = FilterSpec { exclude: vec![exclude.to_owned()], ..FilterSpec::default() };
            let filter = Filter::new(&spec, Stamp::new(0, 0)).unwrap();
            let (send, news) = unbounded();
            let tell = move |news| send.send(news).is_ok();
            let seen = Seen { _watch: Watch::begin(root.to_owned(), filter, queue, tell).unwrap(), news };
            assert!(matches!(seen.news.recv_timeout(Duration::from_secs(10)), Ok(WatchNews::Ready { .. })));
            seen
        }

        /// Everything that is told until it is quiet.
        fn quiet(&self) -> Changed {
            let mut all = Changed::default();
            while let Ok(news) = self.news.recv_timeout(Duration::from_millis(600)) {
                match news {
                    WatchNews::Changed(changed) => {
                        all.folders.extend(changed.folders);
                        all.everything |= changed.everything;
                    }
                    other => panic!("{other:?}"),
                }
            }
            all
        }

        fn paths(&self) -> Vec<String> {
            let mut paths: Vec<String> = self.quiet().folders.iter().map(ToString::to_string).collect();
            paths.sort();
            paths
        }
    }

    #[test]
    fn folders_are_told_by_the_names_that_they_have_now() {
        let root = tempfile::tempdir().unwrap();
        let at = |path: &str| root.path().join(path);
        fs::create_dir_all(at("north/deep")).unwrap();
        fs::create_dir_all(at("scratch/deep")).unwrap();
        let seen = Seen::of(root.path(), "scratch/", usize::MAX);
        let top = RelPath::root().to_string();

        fs::write(at("north/deep/a.csv"), "1").unwrap();
        assert_eq!(seen.paths(), ["north/deep"]);
        fs::read(at("north/deep/a.csv")).unwrap();
        fs::write(at("scratch/deep/b"), "1").unwrap();
        fs::write(at(".reedhook-part-x"), "1").unwrap();
        fs::create_dir_all(at(".reedhook/kept")).unwrap();
        assert_eq!(seen.paths(), [] as [String; 0], "reading, what is left out, and what is Reedhook's own");

        // A folder that comes with something in it, and is written to at once.
        fs::create_dir_all(at("south/far")).unwrap();
        fs::write(at("south/far/c"), "1").unwrap();
        let paths = seen.paths();
        assert!(paths.contains(&"south/far".to_owned()) && paths.contains(&top), "{paths:?}");

        // Moved within the tree it is told by its new name, with all that is in it.
        fs::rename(at("south"), at("north/south")).unwrap();
        let paths = seen.paths();
        for expected in ["north", "north/south", "north/south/far"] {
            assert!(paths.contains(&expected.to_owned()), "{expected} in {paths:?}");
        }
        fs::write(at("north/south/far/d"), "1").unwrap();
        assert_eq!(seen.paths(), ["north/south/far"]);

        // Moved out of it, it is not told any more; another one of its name is.
        let elsewhere = tempfile::tempdir().unwrap();
        fs::rename(at("north/south"), elsewhere.path().join("south")).unwrap();
        seen.quiet();
        fs::write(elsewhere.path().join("south/far/e"), "1").unwrap();
        assert_eq!(seen.paths(), [] as [String; 0]);
        fs::create_dir_all(at("north/south/far")).unwrap();
        seen.quiet();
        fs::write(at("north/south/far/f"), "1").unwrap();
        assert_eq!(seen.paths(), ["north/south/far"]);
    }

    /// Without its thread, so that nothing is read before all of it has happened.
    #[test]
    fn an_overflow_is_everything_and_the_tree_is_whole_afterwards() {
        let root = tempfile::tempdir().unwrap();
        let mut tree = Tree {
            kernel: init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK).unwrap(),
            root: root.path().to_owned(),
            filter: Filter::new(&FilterSpec::default(), Stamp::new(0, 0)).unwrap(),
            nodes: HashMap::new(),
            changed: Changed::default(),
            queue: 3,
        };
        tree.add_everything().unwrap();
        for number in 0..200 {
            fs::create_dir_all(root.path().join(format!("{number}/deep"))).unwrap();
        }
        tree.observe().unwrap();
        assert!(std::mem::take(&mut tree.changed).everything);
        // What was heard before it was all watched again is told as well.
        tree.queue = usize::MAX;
        tree.observe().unwrap();
        tree.changed = Changed::default();
        for number in [0, 77, 199] {
            fs::write(root.path().join(format!("{number}/deep/x")), "").unwrap();
            tree.observe().unwrap();
            let path = RelPath::new(format!("{number}/deep").as_bytes()).unwrap();
            assert_eq!(std::mem::take(&mut tree.changed).folders, HashSet::from([path]), "{number}");
        }
    }

    #[test]
    fn a_root_that_goes_ends_it() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join("side")).unwrap();
        let seen = Seen::of(&root.path().join("side"), "nothing", usize::MAX);
        fs::remove_dir(root.path().join("side")).unwrap();
        assert!(matches!(seen.news.recv_timeout(Duration::from_secs(10)), Ok(WatchNews::Over(_))));
    }
}
