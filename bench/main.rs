//! Reedhook against the operating system's own tools, on the same trees, in the same run.
//!
//! Each row makes its tree from a fixed seed, runs the reference and Reedhook in turn, and prints the ratio of their times:
//! the median, the least and the greatest of the pairs. Where Reedhook writes, it makes durable what it wrote, so the
//! reference is followed by `sync -f` inside the measured time.
//!
//! `cargo bench -p reedhook-bench -- --quick` takes less than two minutes. A missed aim is said, and never a failure: how long
//! something takes is the machine's affair as well. `--in DIR` puts the trees somewhere else than in memory (`/dev/shm`);
//! `--only WORD` runs the rows of one group: small, wide, deep, media, big, moved, watched, tended, morning, inventory, million, shops, far, net. The rows that copy are
//! measured a second time to another file system: a drive that is mounted from a file for the purpose (which needs root), or the
//! folder after `--drive`. The group shops copies to drives as shops sell them: exFAT and NTFS through FUSE.

mod inventory;
mod morning;
mod remote;
#[path = "../crates/stores/tests/servers/mod.rs"]
mod servers;
mod tended;
use std::cell::Cell;
use std::fs;
use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;

use reedhook_bench::measure::{Row, Taken, run};
use reedhook_bench::trees;

struct Bench {
    folder: PathBuf,
    /// Where copies and mirrors stand: beside the trees, or on another file system.
    target: PathBuf,
    /// What is said of it behind the name of a row.
    to: String,
    quick: bool,
}

impl Bench {
    fn path(&self, below: &str) -> PathBuf {
        self.folder.join(below)
    }

    /// Where a copy of a tree stands.
    fn side(&self, tree: &str, what: &str) -> String {
        self.target.join(format!("{tree}-{what}")).display().to_string()
    }

    fn pairs(&self) -> usize {
        if self.quick { 3 } else { 5 }
    }

    fn command(&self, program: &str, words: &[&str]) -> Command {
        let mut command = Command::new(program);
        command.args(words).current_dir(&self.folder).env("REEDHOOK_HOME", self.path("home"));
        command
    }

    /// Runs a tool of the operating system.
    fn tool(&self, program: &str, words: &[&str]) -> Taken {
        run(&mut self.command(program, words), false)
    }

    fn reedhook(&self, words: &[&str]) -> Taken {
        run(&mut self.command(program(), words), false)
    }

    /// Without a saved job: one would miss the mark of the destination that is cleared before each pair.
    fn mirror(&self, tree: &str) -> Taken {
        self.reedhook(&["once", "mirror", tree, &self.side(tree, "mirror"), "--quiet", "--yes"])
    }

    fn copy(&self, tree: &str) -> Taken {
        let copy = self.side(tree, "copy");
        self.tool("cp", &["-a", tree, &copy]) + self.tool("sync", &["-f", &copy])
    }

    fn find_both(&self, tree: &str) -> Taken {
        let find = |side: &str| self.tool("find", &[side, "-printf", "%p %s %T@ %m\\n"]);
        find(tree) + find(&self.side(tree, "mirror"))
    }

    fn clear(&self, tree: &str) {
        for what in ["copy", "mirror"] {
            let _ = fs::remove_dir_all(self.side(tree, what));
        }
        fs::create_dir(self.side(tree, "mirror")).expect("a folder");
        // What was removed is not to be written out within the measured time.
        self.tool("sync", &["-f", &self.side(tree, "mirror")]);
    }

    fn remove(&self, tree: &str) {
        self.clear(tree);
        let _ = fs::remove_dir_all(self.path(tree));
    }

    fn first_mirror(&self, tree: &str, what: &str, aim: Option<f64>) -> Row {
        let name = format!("first mirror, {what}{} / `cp -a`", self.to);
        Row::of(name, aim, self.pairs(), || self.clear(tree), || self.copy(tree), || self.mirror(tree))
    }

    fn nothing_changed(&self, tree: &str, what: &str, aim: Option<f64>) -> Row {
        // Whatever the last pair left: from here on there is a mirror, and nothing to do.
        self.mirror(tree);
        let name = format!("nothing changed, {what}{} / two `find`", self.to);
        Row::of(name, aim, self.pairs(), || {}, || self.find_both(tree), || self.mirror(tree))
    }

    fn small(&self) {
        let count = if self.quick { 10_000 } else { 100_000 };
        let what = format!("{count} small files");
        trees::small(&self.path("small"), count);
        self.first_mirror("small", &what, Some(0.6));
        self.nothing_changed("small", &what, Some(0.4));
        let round = Cell::new(0);
        let change = || {
            trees::change_one_in_a_hundred(&self.path("small"), count, round.get());
            round.set(round.get() + 1);
        };
        Row::of(
            format!("1 % of {what} changed{} / two `find`", self.to),
            Some(0.7),
            self.pairs(),
            change,
            || self.find_both("small"),
            || self.mirror("small"),
        );
        self.mirror("small");
        let mirror = self.side("small", "mirror");
        // The same trees are mirrored beside them and to a drive: a job for each.
        let [both, bench] = ["both", "bench"]
            .map(|job| if self.to.is_empty() { job.to_owned() } else { format!("{job}-drive") });
        self.reedhook(&["job", "add", &both, "two-way", "small", &mirror, "--quiet", "--yes"]);
        // The first run only takes note of what is the same.
        self.reedhook(&["run", &both, "--quiet", "--yes"]);
        Row::of(
            format!("two-way, nothing changed, {what}{} / two `find`", self.to),
            Some(0.5),
            self.pairs(),
            || {},
            || self.find_both("small"),
            || self.reedhook(&["run", &both, "--quiet", "--yes"]),
        );
        self.reedhook(&["job", "add", &bench, "mirror", "small", &mirror, "--quiet", "--yes"]);
        self.compared("small", &what, Some(0.6));
        Row::of(
            format!("verifying {what}{} / `diff -rq`", self.to),
            None,
            self.pairs(),
            // A verification reads from the medium; so does the reference.
            forget_all,
            // Reedhook's own folder differs.
            || run(&mut self.command("diff", &["-rq", "small", &mirror]), true),
            || self.reedhook(&["verify", &bench, "--quiet"]),
        );
        self.remove("small");
    }

    /// A tree and its mirror, compared byte by byte, both of them in memory.
    fn compared(&self, tree: &str, what: &str, aim: Option<f64>) {
        let mirror = self.side(tree, "mirror");
        Row::of(
            format!("comparing the content of {what}{} / `diff -rq`", self.to),
            aim,
            self.pairs(),
            || {},
            // Reedhook's own folder differs.
            || run(&mut self.command("diff", &["-rq", tree, &mirror]), true),
            || self.reedhook(&["compare", tree, &mirror, "--content", "--quiet"]),
        );
    }

    fn shaped(&self, tree: &str, what: &str) {
        self.first_mirror(tree, what, None);
        self.nothing_changed(tree, what, None);
        self.remove(tree);
    }

    fn wide(&self) {
        let count = if self.quick { 10_000 } else { 100_000 };
        trees::wide(&self.path("wide"), count);
        self.shaped("wide", &format!("one folder of {count} files"))
    }

    fn deep(&self) {
        let chains = if self.quick { 10 } else { 100 };
        trees::deep(&self.path("deep"), chains, 100);
        self.shaped("deep", &format!("{chains} chains of 100 folders"))
    }

    fn media(&self) {
        let count = if self.quick { 20 } else { 300 };
        trees::media(&self.path("media"), count);
        self.shaped("media", &format!("{count} files of 2 to 8 MiB"))
    }

    fn big(&self) {
        let mib = if self.quick { 256 } else { 2048 };
        trees::big(&self.path("big"), mib);
        self.first_mirror("big", &format!("one file of {mib} MiB"), Some(1.02));
        let copied = format!("{}/one.bin", self.side("big", "copy"));
        // What is compared is to come from the medium: `dd` of nothing drops what memory holds of the file.
        let forget = format!("if={copied}");
        let copy_and_compare = || {
            self.copy("big")
                + self.tool("dd", &[&forget, "iflag=nocache", "count=0", "status=none"])
                + self.tool("cmp", &["big/one.bin", &copied])
        };
        let verified = || {
            let mirror = self.side("big", "mirror");
            self.reedhook(&["once", "mirror", "big", &mirror, "--verify", "changed", "--quiet", "--yes"])
        };
        self.compared("big", &format!("one file of {mib} MiB"), Some(0.9));
        let name = format!("the same, every byte verified{} / `cp -a`, then `cmp`", self.to);
        Row::of(name, Some(0.8), self.pairs(), || self.clear("big"), copy_and_compare, verified);
        self.remove("big");
    }

    /// To a drive with a file system that is not this system's own, by way of a driver in user space.
    fn shops(&self) {
        for (kind, mkfs, driver) in [
            ("exFAT", ["/usr/sbin/mkfs.exfat"].as_slice(), "exfat-fuse"),
            ("NTFS", &["/usr/sbin/mkfs.ntfs", "-Q", "-F", "-q"], "ntfs-3g"),
        ] {
            let Some(drive) = Drive::make(if self.quick { 2 } else { 6 } << 30, mkfs, Some(driver)) else {
                println!("no {kind} drive could be mounted here: its rows are left out");
                continue;
            };
            let bench = Bench {
                folder: self.folder.clone(),
                target: drive.at.clone(),
                to: format!(", to {kind}"),
                quick: self.quick,
            };
            bench.shop_rows();
        }
    }

    fn shop_rows(&self) {
        let (count, mib) = if self.quick { (2_000, 64) } else { (20_000, 1024) };
        trees::small(&self.path("small"), count);
        self.first_plain_copy("small", &format!("{count} small files"));
        self.nothing_changed("small", &format!("{count} small files"), None);
        self.remove("small");
        trees::big(&self.path("big"), mib);
        self.first_plain_copy("big", &format!("one file of {mib} MiB"));
        self.remove("big");
        trees::sparse(&self.path("sparse"), mib as u64);
        self.first_plain_copy("sparse", &format!("one file of {mib} MiB, most of it holes"));
        self.remove("sparse");
    }

    /// Against `cp -r`: owners and modes would be asked for in vain.
    fn first_plain_copy(&self, tree: &str, what: &str) {
        let copy = || {
            let copy = self.side(tree, "copy");
            self.tool("cp", &["-r", tree, &copy]) + self.tool("sync", &["-f", &copy])
        };
        let name = format!("first mirror, {what}{} / `cp -r`", self.to);
        Row::of(name, None, self.pairs(), || self.clear(tree), copy, || self.mirror(tree));
    }

    /// A folder of 10,000 files gets another name: against a run that finds nothing to do.
    fn moved(&self) {
        trees::wide(&self.path("moved/season"), 10_000);
        self.clear("moved");
        self.mirror("moved");
        let renamed = Cell::new(false);
        let rename = || {
            let names = ["moved/season", "moved/season 2031"];
            let (from, to) = if renamed.get() { (names[1], names[0]) } else { (names[0], names[1]) };
            fs::rename(self.path(from), self.path(to)).expect("a rename");
            renamed.set(!renamed.get());
        };
        let row = Row::of(
            "a folder of 10000 files renamed / a run with nothing to do",
            None,
            self.pairs(),
            || {
                self.mirror("moved");
            },
            || self.mirror("moved"),
            || {
                rename();
                self.mirror("moved")
            },
        );
        let mut extra: Vec<f64> = row
            .pairs
            .iter()
            .map(|(idle, moved)| moved.wall.as_secs_f64() - idle.wall.as_secs_f64())
            .collect();
        extra.sort_by(f64::total_cmp);
        println!("\nOn top of the walk: {:.3} s (aim 0.1 s)\n", extra[extra.len() / 2]);
        self.remove("moved");
    }

    /// What watching costs: on a terminal (as `script` makes one) against --quiet.
    fn watched(&self) {
        let count = if self.quick { 10_000 } else { 100_000 };
        trees::small(&self.path("watched"), count);
        let mirror = self.side("watched", "mirror");
        let shown = format!("{} once mirror watched {mirror} --yes", program());
        let watched = || self.tool("script", &["-qec", &shown, "/dev/null"]);
        Row::of(
            format!("first mirror of {count} small files, watched on a terminal{} / `--quiet`", self.to),
            None,
            self.pairs(),
            || self.clear("watched"),
            || self.mirror("watched"),
            watched,
        );
        self.remove("watched");
    }

    /// Inventories of a large tree: taking, size, searching.
    fn inventory(&self) {
        let command = |words: &[&str]| self.command(program(), words);
        let (tree, files) = (self.path("cupboard"), if self.quick { 50_000 } else { 990_000 });
        trees::small(&tree, files);
        // Every hundred files have a folder.
        let entries = files + files / 100 + files / 2000;
        inventory::rows(&command, &tree, &self.path("home"), entries, self.pairs());
        inventory::cost_rows(&command, &tree, &self.target, self.pairs());
        let _ = fs::remove_dir_all(tree);
    }

    /// A report over a year, and a board that looks on at a run.
    fn morning(&self) {
        let command = |words: &[&str]| self.command(program(), words);
        morning::report(&command, &self.path("year"));
        let files = if self.quick { 20_000 } else { 200_000 };
        let tree = self.path("looked-on");
        tended::make(&tree, files);
        morning::looked_on(&command, &tree, &self.path("looked-on-mirror"), &self.folder, self.pairs());
        let _ = fs::remove_dir_all(tree);
        let _ = fs::remove_dir_all(self.path("looked-on-mirror"));
    }

    /// The service, with a folder for every file.
    fn tended(&self) {
        let count = if self.quick { 10_000 } else { 100_000 };
        let (tree, mirror) = (self.path("tended"), self.path("tended-mirror"));
        let folders = tended::make(&tree, count);
        fs::create_dir_all(&mirror).expect("a folder");
        tended::rows(&|words| self.command(program(), words), &tree, &mirror, (count, folders));
        let _ = fs::remove_dir_all(tree);
        let _ = fs::remove_dir_all(mirror);
    }

    /// A million files: what a file costs, and what a run of them takes in memory.
    fn million(&self) {
        let unchanged = |count: usize| {
            let tree = format!("n{count}");
            trees::small(&self.path(&tree), count);
            self.clear(&tree);
            let first = self.mirror(&tree);
            let mut runs: Vec<Taken> = (0..self.pairs()).map(|_| self.mirror(&tree)).collect();
            runs.sort_by_key(|taken| taken.wall);
            let find = self.find_both(&tree);
            self.remove(&tree);
            (first, runs[runs.len() / 2], find)
        };
        println!(
            "\n| files | first run | its peak memory | nothing changed | its peak memory | a file | two `find` |"
        );
        println!("|---|---|---|---|---|---|---|");
        for count in [10_000, 100_000, 1_000_000] {
            let (first, again, find) = unchanged(count);
            println!(
                "| {count} | {:.2} s | {:.1} MiB | {:.3} s | {:.1} MiB | {:.2} µs | {:.3} s |",
                first.wall.as_secs_f64(),
                first.peak_kib as f64 / 1024.0,
                again.wall.as_secs_f64(),
                again.peak_kib as f64 / 1024.0,
                again.wall.as_secs_f64() * 1e6 / count as f64,
                find.wall.as_secs_f64()
            );
        }
    }
}

/// A group of rows.
type Group = (&'static str, fn(&Bench));

const GROUPS: [Group; 14] = [
    ("small", Bench::small),
    ("wide", Bench::wide),
    ("deep", Bench::deep),
    ("media", Bench::media),
    ("big", Bench::big),
    ("moved", Bench::moved),
    ("watched", Bench::watched),
    ("tended", Bench::tended),
    ("morning", Bench::morning),
    ("inventory", Bench::inventory),
    ("million", Bench::million),
    ("shops", Bench::shops),
    ("far", Bench::far),
    ("net", Bench::net),
];

fn main() {
    let words: Vec<String> = std::env::args().collect();
    let after = |flag: &str| words.iter().position(|word| word == flag).and_then(|at| words.get(at + 1));
    let quick = words.iter().any(|word| word == "--quick");
    let base = after("--in").map_or_else(default_place, PathBuf::from);
    let folder = base.join(format!("reedhook-bench-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder for the trees");
    let wanted = |name: &str| after("--only").map_or(!(quick && name == "million"), |only| only == name);
    let beside = Bench { folder: folder.clone(), target: folder.clone(), to: String::new(), quick };
    Row::head();
    GROUPS.iter().filter(|(name, _)| wanted(name)).for_each(|(_, group)| group(&beside));
    // Every drive is another file system.
    match Drive::mount(after("--drive").map(PathBuf::from), quick) {
        Some(drive) => {
            let target = drive.at.clone();
            let bench = Bench { target, to: ", to a drive".to_owned(), ..beside };
            let copying = GROUPS.iter().filter(|(name, _)| COPYING.contains(name) && wanted(name));
            copying.for_each(|(_, group)| group(&bench));
        }
        None => println!("no drive could be mounted here: the rows between two file systems are left out"),
    }
    let _ = fs::remove_dir_all(&folder);
}

/// The program as packages have it, built if it is not there yet; a quick look takes the one that is built in less time.
fn program() -> &'static str {
    static PROGRAM: OnceLock<String> = OnceLock::new();
    PROGRAM.get_or_init(|| {
        let profile = if std::env::args().any(|word| word == "--quick") { "release" } else { "dist" };
        let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
        // All of the workspace, as everywhere else: with fewer packages their dependencies would have other features, and be built anew.
        let words = ["build", "--profile", profile, "--quiet", "--workspace", "--bin", "reedhook"];
        let mut build = Command::new(cargo);
        // What cargo tells this program of its own package must not reach the build: dependencies that look at it would be built anew.
        let of_this_package =
            |name: &str| name.starts_with("CARGO_PKG_") || name.starts_with("CARGO_MANIFEST_");
        for (name, _) in std::env::vars_os().filter(|(name, _)| name.to_str().is_some_and(of_this_package)) {
            build.env_remove(name);
        }
        let built = build.args(words).status();
        assert!(built.is_ok_and(|status| status.success()), "the program cannot be built");
        let here = std::env::current_exe().expect("a program knows where it is");
        // The benchmark itself is in `release/deps`.
        let program = here.ancestors().nth(3).map(|target| target.join(profile).join("reedhook"));
        let program = program.filter(|path| path.is_file());
        program.expect("the program is in the folder of its profile").display().to_string()
    })
}

/// Drops what memory holds of files that are on a medium; where that is not allowed (it needs root) it stays.
fn forget_all() {
    let _ = Command::new("sync").status();
    let _ = fs::write("/proc/sys/vm/drop_caches", "1");
}

/// Groups in which files are copied: they are measured to another file system too.
const COPYING: [&str; 6] = ["small", "wide", "deep", "media", "big", "watched"];

/// A file system in a file of its own, past the page cache of the disk that the file is on.
struct Drive {
    image: Option<PathBuf>,
    /// The loop device, where the driver does not make one itself.
    device: Option<String>,
    at: PathBuf,
}

impl Drive {
    /// A folder that is given, or a drive made for the purpose; `None` where that is not possible.
    fn mount(given: Option<PathBuf>, quick: bool) -> Option<Drive> {
        if let Some(at) = given {
            let at = at.join(format!("reedhook-bench-{}", std::process::id()));
            fs::create_dir_all(&at).ok()?;
            return Some(Drive { image: None, device: None, at });
        }
        let ext4 = ["/usr/sbin/mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0"];
        Drive::make(if quick { 1 << 30 } else { 8 << 30 }, &ext4, None)
    }

    /// A new file system of so many bytes, made by these words, and mounted by the kernel or a driver in user space.
    fn make(size: u64, mkfs: &[&str], driver: Option<&str>) -> Option<Drive> {
        let folder = std::env::temp_dir();
        let image = folder.join(format!("reedhook-bench-{}.img", std::process::id()));
        let at = folder.join(format!("reedhook-bench-{}.drive", std::process::id()));
        let mut drive = Drive { image: Some(image.clone()), device: None, at: at.clone() };
        fs::File::create(&image).and_then(|file| file.set_len(size)).ok()?;
        fs::create_dir_all(&at).ok()?;
        let (image, at) = (image.to_str()?, at.to_str()?);
        let works = |words: &[&str]| {
            let output = Command::new(words[0]).args(&words[1..]).output().ok()?;
            output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim().to_owned())
        };
        works(&[mkfs, &[image]].concat())?;
        match driver {
            Some(driver) => {
                let device = works(&["losetup", "--find", "--show", image])?;
                drive.device = Some(device.clone());
                works(&["mount", "-t", driver, &device, at])?;
            }
            None => drop(works(&["mount", "-o", "loop", image, at])?),
        }
        Some(drive)
    }
}

impl Drop for Drive {
    fn drop(&mut self) {
        match &self.image {
            Some(image) => {
                let _ = Command::new("umount").arg(&self.at).output();
                if let Some(device) = &self.device {
                    let _ = Command::new("losetup").args(["-d", device]).output();
                }
                let _ = fs::remove_file(image);
                let _ = fs::remove_dir(&self.at);
            }
            None => drop(fs::remove_dir_all(&self.at)),
        }
    }
}

fn default_place() -> PathBuf {
    let memory = PathBuf::from("/dev/shm");
    if memory.is_dir() { memory } else { std::env::temp_dir() }
}
