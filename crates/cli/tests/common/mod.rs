//! A made-up station in a temporary folder, the built program, and exact comparison of trees.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, SystemTime};

use serde_json::Value;

/// A home, a source and a destination. Where the machine has a second file system at hand, the source is on it: most jobs are for
/// drives.
pub struct Station {
    pub folder: tempfile::TempDir,
    /// Where the source really is, when that is not in the folder.
    elsewhere: Option<tempfile::TempDir>,
    /// Run the program as an account without rights, which only root can do.
    plain_account: bool,
}

/// The account that owns nothing: `nobody` on Debian.
const NOBODY: u32 = 65_534;

/// What a command printed and how it ended.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Ran {
    pub fn of(output: &Output) -> Ran {
        Ran {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// The lines of `--json` output.
    pub fn json(&self) -> Vec<Value> {
        self.out
            .lines()
            .map(|line| serde_json::from_str(line).unwrap_or_else(|_| panic!("no JSON: {line}")))
            .collect()
    }

    /// The last JSON line.
    pub fn last(&self) -> Value {
        self.json().pop().unwrap_or_else(|| panic!("no output; {}", self.err))
    }

    /// Fails the test unless the command ended with this code.
    #[track_caller]
    pub fn expect(self, code: i32) -> Ran {
        assert_eq!(self.code, code, "stdout: {}\nstderr: {}", self.out, self.err);
        self
    }
}

impl Station {
    pub fn new() -> Station {
        let folder = tempfile::tempdir().unwrap();
        let elsewhere = second_file_system(folder.path());
        let station = Station { folder, elsewhere, plain_account: false };
        match &station.elsewhere {
            Some(elsewhere) => symlink(elsewhere.path(), station.left()).unwrap(),
            None => fs::create_dir(station.left()).unwrap(),
        }
        fs::create_dir(station.right()).unwrap();
        station
    }

    /// A station whose sides are plain folders of one file system.
    pub fn on_one_file_system() -> Station {
        let station = Station { folder: tempfile::tempdir().unwrap(), elsewhere: None, plain_account: false };
        fs::create_dir(station.left()).unwrap();
        fs::create_dir(station.right()).unwrap();
        station
    }

    /// Sets up a job of this kind, named `counts`, from left to right.
    pub fn job(self, kind: &str, options: &[&str]) -> Station {
        let mut words = vec!["job", "add", "counts", kind, "left", "right"];
        words.extend(options);
        self.run(&words).expect(0);
        self
    }

    /// A station with a job of this kind, named `counts`, from left to right.
    pub fn with_job(kind: &str, options: &[&str]) -> Station {
        Station::new().job(kind, options)
    }

    /// From now on the program runs without root's rights, and everything here belongs to its account. A test that is not
    /// run by root changes nothing: its account has no such rights anyway.
    pub fn without_rights(mut self) -> Station {
        if is_root() {
            fs::copy(program(), self.path("reedhook")).unwrap();
            set_mode(&self.path("reedhook"), 0o755);
            let owner = format!("{NOBODY}:{NOBODY}");
            let elsewhere = self.elsewhere.iter().map(tempfile::TempDir::path);
            for folder in elsewhere.chain([self.folder.path()]) {
                tool(&["chown", "-R", "-h", &owner, folder.to_str().unwrap()]);
            }
            self.plain_account = true;
        }
        self
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub fn left(&self) -> PathBuf {
        self.path("left")
    }

    pub fn right(&self) -> PathBuf {
        self.path("right")
    }

    /// A command of the built program, in the station's folder, with the station's home and nothing of the user's.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = if self.plain_account {
            use std::os::unix::process::CommandExt;
            let mut command = Command::new(self.path("reedhook"));
            command.uid(NOBODY).gid(NOBODY);
            command
        } else {
            Command::new(program())
        };
        command
            .args(words)
            .current_dir(self.folder.path())
            .env("REEDHOOK_HOME", self.path("home"))
            .env("HOME", self.folder.path())
            .env_remove("NO_COLOR")
            .stdin(Stdio::null());
        command
    }

    /// The program in a terminal of so many columns and lines, with pipes for a keyboard and a screen. The shell that becomes the program
    /// writes down which process that is.
    pub fn in_a_terminal(&self, columns: u32, lines: u32, words: &[&str]) -> Command {
        let program = program().display().to_string();
        let quoted: Vec<String> =
            [program.as_str()].iter().chain(words).map(|word| format!("'{word}'")).collect();
        let line = format!(
            "eval \"$BEFORE\"; stty cols {columns} rows {lines}; echo $$ > pid; exec {}",
            quoted.join(" ")
        );
        let mut command = Command::new("script");
        command
            .args(["-q", "-e", "-c", &line, "/dev/null"])
            .current_dir(self.folder.path())
            .env("REEDHOOK_HOME", self.path("home"))
            .env("HOME", self.folder.path())
            .env("TERM", "xterm")
            .env_remove("NO_COLOR")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        command
    }

    pub fn run(&self, words: &[&str]) -> Ran {
        Ran::of(&self.command(words).output().unwrap())
    }

    /// `run counts --json` with more words.
    pub fn run_job(&self, more: &[&str]) -> Ran {
        self.run(&[&["run", "counts", "--json"], more].concat())
    }

    /// Starts a run of the job that moves some new content slowly, works while it goes on, and waits for its end.
    pub fn while_running(&self, work: impl FnOnce()) -> Ran {
        let held = self.left().join("0 held open");
        write(&held, &vec![b'h'; 1_400_000], 1_234_567 + self.runs_held());
        let child = self
            .command(&["run", "counts", "--yes", "--json"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let begun = std::time::Instant::now();
        while !self.is_writing() && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(2));
        }
        work();
        Ran::of(&child.wait_with_output().unwrap())
    }

    /// Another time for each run that is held open.
    fn runs_held(&self) -> u64 {
        fs::metadata(self.left().join("0 held open")).map_or(0, |meta| meta.mtime() as u64 - 1_234_567 + 1)
    }

    /// Whether an unfinished file stands at the top of the right.
    fn is_writing(&self) -> bool {
        let names = fs::read_dir(self.right()).unwrap().flatten().map(|entry| entry.file_name());
        names.into_iter().any(|name| name.as_bytes().starts_with(b".reedhook-part-"))
    }

    /// Writes a file on the left, with a time in seconds since 1970.
    pub fn write(&self, path: &str, content: &str, seconds: u64) {
        write(&self.left().join(path), content.as_bytes(), seconds);
    }

    /// The paths and contents of kept copies, without the run's name.
    pub fn kept(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        let mut kept = BTreeMap::new();
        for run in fs::read_dir(self.right().join(".reedhook/kept")).into_iter().flatten().flatten() {
            for (path, node) in tree(&run.path()) {
                if let Node::File { content, .. } = node {
                    kept.insert(path, content);
                }
            }
        }
        kept
    }
}

/// The built program; another one, such as an older build, where the environment names it.
pub fn program() -> PathBuf {
    std::env::var_os("REEDHOOK_TEST_PROGRAM")
        .map_or_else(|| PathBuf::from(env!("CARGO_BIN_EXE_reedhook")), PathBuf::from)
}

/// A folder on another file system than this one; nothing where there is none, or where it is not wanted.
fn second_file_system(here: &Path) -> Option<tempfile::TempDir> {
    if std::env::var_os("REEDHOOK_TEST_ONE_FILE_SYSTEM").is_some() {
        return None;
    }
    let device = |path: &Path| fs::metadata(path).map(|meta| meta.dev()).ok();
    let there = tempfile::tempdir_in("/dev/shm").ok()?;
    (device(there.path()) != device(here)).then_some(there)
}

/// Whether this process may do everything: who owns what it makes tells.
fn is_root() -> bool {
    fs::metadata("/proc/self").is_ok_and(|meta| meta.uid() == 0)
}

pub fn write(path: &Path, content: &[u8], seconds: u64) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, content).unwrap();
    let time = SystemTime::UNIX_EPOCH + Duration::new(seconds, 123_456_789);
    // Both: some drivers pass over a single time.
    let times = fs::FileTimes::new().set_accessed(time).set_modified(time);
    fs::File::options().write(true).open(path).unwrap().set_times(times).unwrap();
}

/// Numbers from a fixed seed (SplitMix64, Steele, Lea & Flood 2014).
pub struct Seeded(pub u64);

impl Seeded {
    pub fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % limit
    }
}

/// A number of a JSON object.
#[track_caller]
pub fn number(value: &Value, key: &str) -> u64 {
    value[key].as_u64().unwrap_or_else(|| panic!("no number {key} in {value}"))
}

/// One entry of a tree, with everything that a mirror keeps.
#[derive(Debug, PartialEq, Eq)]
pub enum Node {
    File { content: Vec<u8>, mode: u32, modified: (i64, i64) },
    Folder { mode: u32, modified: (i64, i64) },
    Link { target: PathBuf },
    Other,
}

/// A whole tree by relative path, without `.reedhook` at its root.
pub fn tree(root: &Path) -> BTreeMap<PathBuf, Node> {
    let mut found = BTreeMap::new();
    collect(root, Path::new(""), &mut found);
    found
}

fn collect(root: &Path, below: &Path, found: &mut BTreeMap<PathBuf, Node>) {
    for entry in fs::read_dir(root.join(below)).unwrap() {
        let name = entry.unwrap().file_name();
        let path = below.join(&name);
        if path == Path::new(".reedhook") {
            continue;
        }
        let full = root.join(&path);
        let meta = fs::symlink_metadata(&full).unwrap();
        let (mode, modified) = (meta.mode() & 0o7777, (meta.mtime(), meta.mtime_nsec()));
        let kind = meta.file_type();
        let node = if kind.is_dir() {
            collect(root, &path, found);
            Node::Folder { mode, modified }
        } else if kind.is_symlink() {
            Node::Link { target: fs::read_link(&full).unwrap() }
        } else if kind.is_file() {
            Node::File { content: fs::read(&full).unwrap(), mode, modified }
        } else {
            Node::Other
        };
        found.insert(path, node);
    }
}

/// Fails the test unless both sides hold the same, to the nanosecond and the mode bit. Setuid and setgid of files have not come along:
/// they do only with the owner.
#[track_caller]
pub fn assert_alike(left: &Path, right: &Path) {
    let (mut left, right) = (tree(left), tree(right));
    for (path, node) in &mut left {
        if let Node::File { mode, .. } = node {
            *mode &= 0o1777;
        }
        assert_eq!(Some(&*node), right.get(path), "{}", path.display());
    }
    let extra: Vec<_> = right.keys().filter(|path| !left.contains_key(*path)).collect();
    assert!(extra.is_empty(), "only on the right: {extra:?}");
}

/// No unfinished file anywhere below.
#[track_caller]
pub fn assert_no_leftovers(root: &Path) {
    for path in tree(root).keys() {
        let name = path.file_name().unwrap_or_default().as_bytes();
        let left = name.starts_with(b".reedhook-part-") || name.starts_with(b".reedhook-judged-");
        assert!(!left, "{}", path.display());
    }
}

/// A tree of names and kinds that break careless tools.
pub fn hostile_tree(root: &Path) {
    let long = "n".repeat(255);
    let names: &[&[u8]] = &[
        b" leading space",
        b"trailing space ",
        b"two\nlines",
        b"-rf",
        b"--help",
        "Graugänse 🪶".as_bytes(),
        b"\xff\xfenot utf-8",
        b"back\\slash",
        b"*?[glob]",
        b"$HOME",
        b"'quote\"",
        b"tab\there",
        b"...",
        b"\x1b[31mred",
        long.as_bytes(),
    ];
    for (number, name) in names.iter().enumerate() {
        let name = OsStr::from_bytes(name);
        write(&root.join("files").join(name), &vec![b'x'; number * 1000], 1_000_000_000 + number as u64);
        write(&root.join("folders").join(name).join(name), b"inside", 900_000_000);
    }
    write(&root.join("empty file"), b"", 5);
    write(&root.join("large"), &vec![7; 3_000_000], 1_200_000_000);
    fs::create_dir_all(root.join("empty folder/in another")).unwrap();
    symlink("large", root.join("link")).unwrap();
    symlink("/nowhere/at/all", root.join("dangling")).unwrap();
    symlink("..", root.join("files/up")).unwrap();
    symlink(OsStr::from_bytes(b"\xff"), root.join("odd target")).unwrap();
    for (name, mode) in [("script", 0o755), ("private", 0o600), ("setuid", 0o4711), ("read-only", 0o444)] {
        write(&root.join(name), name.as_bytes(), 1_100_000_000);
        set_mode(&root.join(name), mode);
    }
    write(&root.join("closed folder/inside"), b"1", 1);
    set_mode(&root.join("closed folder"), 0o555);
    set_folder_time(&root.join("empty folder"), 800_000_000);
}

pub fn set_mode(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

pub fn set_folder_time(path: &Path, seconds: u64) {
    let time = SystemTime::UNIX_EPOCH + Duration::new(seconds, 42);
    fs::File::open(path).unwrap().set_modified(time).unwrap();
}

/// A named pipe.
pub fn make_pipe(path: &Path) {
    assert!(Command::new("mkfifo").arg(path).status().unwrap().success());
}

/// Whether a test that needs root can run. Where everything is required, being unable to is a failure.
pub fn as_root_only(what: &str) -> bool {
    able(what, is_root(), "root")
}

/// Whether a test that needs these programs can run.
pub fn with_tools(what: &str, tools: &[&str]) -> bool {
    let path = std::env::var("PATH").unwrap_or_default() + ":/usr/sbin:/sbin";
    let missing =
        tools.iter().find(|tool| !path.split(':').any(|folder| Path::new(folder).join(tool).exists()));
    able(what, missing.is_none(), missing.unwrap_or(&""))
}

/// Whether a test that mounts file systems of these kinds from images can run: as root, with loop devices, and with the programs
/// that make them.
pub fn with_mounts(what: &str, kinds: &[&str]) -> bool {
    let tools: Vec<String> = kinds.iter().map(|kind| format!("mkfs.{kind}")).collect();
    let tools: Vec<&str> = tools.iter().map(String::as_str).chain(["mount", "umount"]).collect();
    let mounts = || {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().to_str().unwrap();
        let mounted = Command::new("mount").args(["-t", "tmpfs", "none", at]).output();
        let works = mounted.is_ok_and(|output| output.status.success());
        works && Command::new("umount").arg(at).status().is_ok_and(|status| status.success())
    };
    let loops = || kinds.is_empty() || Path::new("/dev/loop-control").exists();
    as_root_only(what) && with_tools(what, &tools) && able(what, mounts() && loops(), "the right to mount")
}

fn able(what: &str, able: bool, missing: &str) -> bool {
    let required = std::env::var_os("REEDHOOK_REQUIRE_ALL").is_some();
    assert!(able || !required, "{what}: {missing} is missing, and everything is required");
    if !able {
        println!("skipped: {what}, for want of {missing}");
    }
    able
}

/// A mounted file system, unmounted at the end whatever happens.
pub struct Mounted(pub PathBuf);

impl Mounted {
    pub fn image(image: &Path, at: &Path) -> Mounted {
        Mounted::image_with(image, at, "loop")
    }

    pub fn image_with(image: &Path, at: &Path, options: &str) -> Mounted {
        fs::create_dir_all(at).unwrap();
        tool(&["mount", "-o", options, image.to_str().unwrap(), at.to_str().unwrap()]);
        Mounted(at.to_owned())
    }

    pub fn memory(at: &Path, size: &str) -> Mounted {
        fs::create_dir_all(at).unwrap();
        tool(&["mount", "-t", "tmpfs", "-o", &format!("size={size}"), "none", at.to_str().unwrap()]);
        Mounted(at.to_owned())
    }

    pub fn remount(&self, how: &str) -> bool {
        let words = ["-o", &format!("remount,{how}"), self.0.to_str().unwrap()];
        Command::new("mount").args(words).output().unwrap().status.success()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // Lazily: a test that failed may still hold something open.
        let _ = Command::new("umount").args(["-l", self.0.to_str().unwrap()]).output();
    }
}

/// Makes an image of a file system.
pub fn make_image(path: &Path, kind: &str, label: &str, mib: u64) {
    fs::File::create(path).unwrap().set_len(mib << 20).unwrap();
    let program = format!("mkfs.{kind}");
    let program = ["/usr/sbin", "/sbin", "/usr/bin"]
        .iter()
        .map(|folder| format!("{folder}/{program}"))
        .find(|full| Path::new(full).exists());
    let program = program.unwrap();
    let mut words = vec![program.as_str(), "-L", label];
    match kind {
        "exfat" => {}
        // An image is no device.
        "ntfs" => words.extend(["-q", "-F", "-f"]),
        _ => words.push("-q"),
    }
    words.push(path.to_str().unwrap());
    tool(&words);
}

/// Runs a program that has to succeed.
#[track_caller]
pub fn tool(words: &[&str]) {
    let output = Command::new(words[0]).args(&words[1..]).output().unwrap();
    assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
}
