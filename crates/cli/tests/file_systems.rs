//! Drives as people have them: one round of everything on each kind of file system, through the built program, with the drive
//! mounted somewhere else in between. What a kind cannot hold is said once, and everything comes to rest.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

#[path = "common/altered.rs"]
mod altered;
mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use altered::{Altered, Ways};
use common::{
    Node, Ran, Seeded, Station, make_image, number, set_mode, tool, tree, with_mounts, with_tools, write,
};

/// A kind of file system: its name, what stands behind it, and what it keeps.
struct Kind {
    name: &'static str,
    behind: Behind,
    /// The step of times, in nanoseconds; `None` where none can be set.
    step: Option<i128>,
    modes: bool,
    links: bool,
    /// Upper and lower case are one.
    folds: bool,
    /// Names have to do without what DOS has no room for.
    dos: bool,
}

/// What a kind of file system is made of.
enum Behind {
    /// An image, mounted with a driver of this name.
    Image(&'static str),
    Memory,
    /// A folder that is shown altered.
    Altered(fn() -> Ways),
}

impl Kind {
    fn label(&self) -> String {
        format!("FEN{}", self.name.to_uppercase())
    }
}

const WHOLE: Kind = Kind {
    name: "",
    behind: Behind::Memory,
    step: Some(1),
    modes: true,
    links: true,
    folds: false,
    dos: false,
};

const KINDS: [Kind; 8] = [
    Kind { name: "ext4", behind: Behind::Image("ext4"), ..WHOLE },
    Kind { name: "xfs", behind: Behind::Image("xfs"), ..WHOLE },
    Kind { name: "btrfs", behind: Behind::Image("btrfs"), ..WHOLE },
    Kind {
        name: "exfat",
        behind: Behind::Image("exfat-fuse"),
        step: Some(1_000_000_000),
        modes: false,
        links: false,
        folds: true,
        dos: true,
    },
    Kind { name: "ntfs", behind: Behind::Image("ntfs-3g"), step: Some(100), modes: false, ..WHOLE },
    Kind { name: "memory", ..WHOLE },
    Kind {
        name: "fat",
        behind: Behind::Altered(like_fat),
        step: Some(2_000_000_000),
        modes: false,
        links: false,
        folds: true,
        dos: true,
    },
    Kind {
        name: "share",
        behind: Behind::Altered(like_a_share),
        step: None,
        modes: false,
        links: false,
        folds: true,
        dos: true,
    },
];

/// Steps of two seconds, local time, no modes, no links, one case, the names of DOS, files below 4 GiB.
fn like_fat() -> Ways {
    Ways {
        subtype: "vfat",
        folds_case: true,
        step: 2,
        modes: false,
        links: false,
        refused: b"\"*:<>?\\|",
        largest: Some(u64::from(u32::MAX)),
        ..Ways::default()
    }
}

/// A folder of another machine, mounted by another account: no times, no modes, names trimmed; what is refused is not said.
fn like_a_share() -> Ways {
    Ways {
        folds_case: true,
        times: false,
        modes: false,
        links: false,
        refused: b"\"*:<>?\\|",
        refuses_with: 2,
        trims: true,
        renames_over: false,
        ..Ways::default()
    }
}

/// A drive that can be mounted at one place and then at another.
struct Drive {
    kind: &'static Kind,
    /// The device, or the folder that is shown.
    source: String,
    at: Option<PathBuf>,
    altered: Option<Altered>,
}

impl Drive {
    fn new(kind: &'static Kind, image: &Path, label: &str) -> Drive {
        let source = match &kind.behind {
            Behind::Image(_) => {
                make_image(image, kind.name, label, 320);
                let output = Command::new("losetup").args(["-f", "--show"]).arg(image).output().unwrap();
                assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
                String::from_utf8(output.stdout).unwrap().trim().to_owned()
            }
            behind => {
                fs::create_dir(image).unwrap();
                if let Behind::Memory = behind {
                    tool(&["mount", "-t", "tmpfs", "none", image.to_str().unwrap()]);
                }
                image.to_str().unwrap().to_owned()
            }
        };
        Drive { kind, source, at: None, altered: None }
    }

    fn mount(&mut self, at: PathBuf) {
        self.unmount();
        fs::create_dir_all(&at).unwrap();
        let place = at.to_str().unwrap();
        match &self.kind.behind {
            Behind::Image(driver) => tool(&["mount", "-t", driver, &self.source, place]),
            Behind::Memory => tool(&["mount", "--bind", &self.source, place]),
            Behind::Altered(ways) => {
                self.altered = Some(Altered::mount(Path::new(&self.source), &at, ways()))
            }
        }
        self.at = Some(at);
    }

    /// Mounts it somewhere, and tells the station where its store is when it is no drive that is found by its label.
    fn mount_for(&mut self, station: &Station, at: &str) {
        self.mount(station.path(at));
        let place = self.path("");
        let words = match self.kind.behind {
            Behind::Image(_) => vec!["--drive".to_owned(), self.kind.label()],
            _ => vec![place.to_str().unwrap().to_owned()],
        };
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        station.run(&[&["store", "add", "stick"], words.as_slice(), &["--yes"]].concat()).expect(0);
    }

    fn unmount(&mut self) {
        match (self.at.take(), self.altered.take()) {
            (Some(_), Some(altered)) => altered.unmount(),
            (Some(at), None) => tool(&["umount", at.to_str().unwrap()]),
            _ => {}
        }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.at.as_ref().unwrap().join(below)
    }

    /// Saves a file on the drive as a person does, whatever time that gives it.
    fn save(&self, below: &str, text: &str, seconds: u64) {
        match self.kind.step {
            Some(_) => write(&self.path(below), text.as_bytes(), seconds),
            None => fs::write(self.path(below), text).unwrap(),
        }
    }
}

impl Drop for Drive {
    fn drop(&mut self) {
        if let (Some(at), None) = (&self.at, &self.altered) {
            let _ = Command::new("umount").arg("-l").arg(at).output();
        }
        match self.kind.behind {
            Behind::Image(_) => drop(Command::new("losetup").args(["-d", &self.source]).output()),
            Behind::Memory => drop(Command::new("umount").arg("-l").arg(&self.source).output()),
            Behind::Altered(_) => {}
        }
    }
}

/// Contents and times of files, and targets of links, as far as a kind keeps them.
fn kept(root: &Path, kind: &Kind) -> BTreeMap<PathBuf, String> {
    let told = |node: Node| match node {
        Node::File { content, modified, mode } => {
            let time = i128::from(modified.0) * 1_000_000_000 + i128::from(modified.1);
            let mode = if kind.modes { mode } else { 0 };
            let time = kind.step.map(|step| time / step);
            Some(format!("{} at {time:?}, {mode:o}", String::from_utf8_lossy(&content)))
        }
        Node::Link { target } => kind.links.then(|| format!("to {}", target.display())),
        Node::Folder { .. } | Node::Other => Some("a folder".to_owned()),
    };
    tree(root).into_iter().filter_map(|(path, node)| Some((path, told(node)?))).collect()
}

/// The names in a folder, as they are spelled there.
fn listed(folder: &Path) -> BTreeSet<String> {
    let names = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name());
    names.map(|name| name.to_string_lossy().into_owned()).collect()
}

#[track_caller]
fn assert_quiet(ran: Ran, what: &str) {
    let all = ran.out.clone();
    let finished = ran.expect(0).last();
    for key in ["added", "updated", "moved", "removed", "meta", "conflicts", "problems"] {
        assert_eq!(number(&finished, key), 0, "{what}: {key} in {all}");
    }
}

fn set_up(station: &Station) {
    for (path, text, seconds) in [
        ("counts/heron.csv", "heron,3", 1_935_850_500),
        ("counts/teal.csv", "teal,5", 1_935_850_501),
        ("counts/otter.csv", "otter,1", 2_208_988_801),
        ("Ähre/größe.txt", "reed", 1_000_000_001),
        ("season/still-1.jpg", "one", 1_900_000_001),
        ("season/still-2.jpg", "two!", 1_900_000_002),
        ("run.sh", "#!/bin/sh", 1_900_000_003),
    ] {
        station.write(path, text, seconds);
    }
    set_mode(&station.left().join("run.sh"), 0o750);
    symlink("counts/heron.csv", station.left().join("latest")).unwrap();
    fs::create_dir(station.left().join("empty")).unwrap();
}

/// The times and modes of everything, which nobody but its owner has a reason to change.
fn originals(root: &Path) -> BTreeMap<PathBuf, (i64, i64, u32)> {
    let of = |path: PathBuf| {
        let meta = fs::symlink_metadata(root.join(&path)).unwrap();
        meta.is_file().then(|| (path, (meta.mtime(), meta.mtime_nsec(), meta.mode())))
    };
    tree(root).into_keys().filter_map(of).collect()
}

fn one_way(station: &Station, drive: &mut Drive) {
    let (kind, what) = (drive.kind, drive.kind.name);
    set_up(station);
    station.run(&["job", "add", "counts", "mirror", "left", "@stick/copy", "--yes"]).expect(0);
    let before = originals(&station.left());
    let first = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&first, "added"), 7 + u64::from(kind.links), "{what}: {first}");
    assert_quiet(station.run_job(&[]), what);

    // A change, a touch, a rename, another case, a removal; and the drive is somewhere else when they travel.
    let left = station.left();
    station.write("counts/heron.csv", "heron,30", 1_935_860_500);
    write(&left.join("counts/teal.csv"), b"teal,5", 1_935_870_000);
    fs::rename(left.join("season"), left.join("season 2031")).unwrap();
    fs::rename(left.join("counts/otter.csv"), left.join("counts/Otter.csv")).unwrap();
    fs::rename(left.join("empty"), left.join("Empty")).unwrap();
    fs::rename(left.join("Ähre"), left.join("ähre")).unwrap();
    write(&left.join("ähre/Neu.txt"), b"new", 1_935_870_002);
    fs::rename(left.join("counts/heron.csv"), left.join("counts/HERON.csv")).unwrap();
    fs::remove_file(left.join("ähre/größe.txt")).unwrap();
    drive.mount_for(station, "elsewhere");
    let second = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&second, "problems"), 0, "{what}: {second}");
    assert_quiet(station.run_job(&[]), what);
    assert_eq!(kept(&left, kind), kept(&drive.path("copy"), kind), "{what}");
    station.run(&["verify", "counts"]).expect(0);
    station.run(&["undo", "counts", "3", "--yes"]).expect(0);
    assert_eq!(fs::read(drive.path("copy/counts/heron.csv")).unwrap(), b"heron,3", "{what}");
    assert!(drive.path("copy/season").exists() && drive.path("copy/Ähre/größe.txt").exists(), "{what}");
    let names = listed(&drive.path("copy/counts"));
    assert_eq!(names, BTreeSet::from(["heron.csv", "teal.csv", "otter.csv"].map(str::to_owned)), "{what}");
    station.run_job(&["--yes"]).expect(0);
    assert_quiet(station.run_job(&[]), what);
    assert_eq!(kept(&left, kind), kept(&drive.path("copy"), kind), "{what}");

    // Back from the drive: what it has made of times and modes does not come along.
    fs::remove_file(left.join("counts/teal.csv")).unwrap();
    station.run(&["restore", "counts", "counts/teal.csv", "--yes"]).expect(0);
    let restored = fs::metadata(left.join("counts/teal.csv")).unwrap();
    assert_eq!((restored.mode() & 0o777, restored.mtime()), (0o644, 1_935_870_000), "{what}");
    station.run(&["job", "add", "down", "mirror", "@stick/copy", "down", "--yes"]).expect(0);
    station.run(&["run", "down", "--yes"]).expect(0);
    assert_quiet(station.run(&["run", "down", "--json"]), what);
    let modes: BTreeSet<u32> =
        originals(&station.path("down")).into_values().map(|(.., mode)| mode & 0o777).collect();
    let wanted = if kind.modes { BTreeSet::from([0o644, 0o750]) } else { BTreeSet::from([0o644]) };
    assert_eq!(modes, wanted, "{what}");
    assert!(before.iter().any(|(path, _)| path.ends_with("run.sh")));
}

fn both_ways(station: &Station, drive: &mut Drive) {
    let (kind, what) = (drive.kind, drive.kind.name);
    let mine = station.path("mine");
    for (path, seconds) in [("a.csv", 1_900_000_001), ("deep/b.csv", 1_900_000_002), ("old.csv", 86_401)] {
        write(&mine.join(path), b"heron", seconds);
    }
    set_mode(&mine.join("a.csv"), if kind.modes { 0o640 } else { 0o2640 });
    let before = originals(&mine);
    station.run(&["job", "add", "both", "two-way", "mine", "@stick/both", "--yes"]).expect(0);
    station.run(&["run", "both", "--yes"]).expect(0);
    assert_quiet(station.run(&["run", "both", "--json"]), what);
    drive.mount_for(station, "media");
    assert_quiet(station.run(&["run", "both", "--json"]), what);
    assert_eq!(originals(&mine), before, "{what}: nobody has touched these");

    // Work at both; an edit at the drive travels with its time, and not with its mode.
    drive.save("both/a.csv", "heron,4", 1_935_850_502);
    write(&mine.join("deep/b.csv"), b"teal,5", 1_935_850_504);
    fs::remove_file(drive.path("both/old.csv")).unwrap();
    fs::rename(mine.join("deep"), mine.join("deeper")).unwrap();
    station.run(&["run", "both", "--yes"]).expect(0);
    assert_quiet(station.run(&["run", "both", "--json"]), what);
    assert_eq!(kept(&mine, kind), kept(&drive.path("both"), kind), "{what}");
    let edited = fs::metadata(mine.join("a.csv")).unwrap();
    assert_eq!(edited.mode() & 0o7777, 0o640);
    assert!(kind.step.is_none() || edited.mtime() == 1_935_850_502, "{what}");

    // Another case for a file, for a folder, and with other content at once, at either side.
    drive.save("both/plain.csv", "p", 1_935_850_600);
    drive.save("both/tern.csv", "t", 1_935_850_602);
    station.run(&["run", "both", "--yes"]).expect(0);
    fs::rename(mine.join("a.csv"), mine.join("A.csv")).unwrap();
    write(&mine.join("A.csv"), b"heron,50", 1_935_850_700);
    fs::rename(mine.join("deeper"), mine.join("Deeper")).unwrap();
    write(&mine.join("Deeper/B.csv.new"), b"new", 1_935_850_702);
    fs::rename(mine.join("plain.csv"), mine.join("Plain.csv")).unwrap();
    // A file system that takes both for one may do nothing.
    fs::rename(drive.path("both/tern.csv"), drive.path("both/t")).unwrap();
    fs::rename(drive.path("both/t"), drive.path("both/Tern.csv")).unwrap();
    station.run(&["run", "both", "--yes"]).expect(0);
    assert_quiet(station.run(&["run", "both", "--json"]), what);
    for side in [mine.clone(), drive.path("both")] {
        let mut names = listed(&side);
        names.remove(".reedhook");
        let wanted = ["A.csv", "Deeper", "Plain.csv", "Tern.csv"].map(str::to_owned);
        assert_eq!(names, BTreeSet::from(wanted), "{what}: {}", side.display());
        assert_eq!(
            listed(&side.join("Deeper")),
            BTreeSet::from(["B.csv.new", "b.csv"].map(str::to_owned)),
            "{what}"
        );
    }
    assert_eq!(kept(&mine, kind), kept(&drive.path("both"), kind), "{what}");
}

/// A folder gets another case on the drive, with an edit in it: the side that tells cases apart follows.
fn another_case_there(station: &Station, drive: &Drive) {
    let (kind, what) = (drive.kind, drive.kind.name);
    let mine = station.path("mine");
    fs::rename(drive.path("both/Deeper"), drive.path("both/d")).unwrap();
    fs::rename(drive.path("both/d"), drive.path("both/DEEPER")).unwrap();
    drive.save("both/DEEPER/b.csv", "teal,77", 1_935_850_800);
    station.run(&["run", "both", "--yes"]).expect(0);
    assert_eq!(fs::read(mine.join("DEEPER/b.csv")).unwrap(), b"teal,77", "{what}");
    assert!(!mine.join("Deeper").exists(), "{what}");
    assert_quiet(station.run(&["run", "both", "--json"]), what);
    assert_eq!(kept(&mine, kind), kept(&drive.path("both"), kind), "{what}");
}

/// Names that are refused, names that would become one, years that cannot be told, links: each is said, nothing is done twice.
fn oddities(station: &Station, drive: &mut Drive) {
    let (kind, what) = (drive.kind, drive.kind.name);
    let odd = station.left().join("odd");
    for (path, text, seconds) in [
        ("Docs/a.txt", "a", 1_900_000_000),
        ("docs/b.txt", "b", 1_900_000_000),
        ("File", "e", 1_900_000_000),
        ("file", "f", 1_900_000_000),
        ("a:b", "c", 1_900_000_000),
        ("plain", "d", 1_900_000_000),
        ("before.txt", "old", 3_600),
    ] {
        write(&odd.join(path), text.as_bytes(), seconds);
    }
    // Where the station's own side holds such a year.
    write(&odd.join("ancient.txt"), b"older", 1_900_000_000);
    tool(&["touch", "-d", "1850-05-04 12:00", odd.join("ancient.txt").to_str().unwrap()]);
    symlink("plain", odd.join("link")).unwrap();
    write(&odd.join("large"), &vec![7; 3 << 20], 1_900_000_001);
    station.run(&["job", "add", "odd", "mirror", "left/odd", "@stick/odd", "--yes"]).expect(0);
    let dos = kind.dos;
    let first = station.run(&["run", "odd", "--json"]).expect(i32::from(dos));
    let codes: BTreeSet<String> = first
        .json()
        .iter()
        .filter(|line| line["event"] == "problem")
        .map(|line| format!("{} {}", line["code"].as_str().unwrap(), line["path"].as_str().unwrap()))
        .collect();
    let expected = ["name-clash Docs", "name-clash File", "name-refused a:b"].map(str::to_owned);
    assert_eq!(codes, if dos { BTreeSet::from(expected) } else { BTreeSet::new() }, "{what}");
    for clashing in ["odd/Docs", "odd/File"] {
        assert_eq!(drive.path(clashing).exists(), !kind.folds, "{what}: neither of the two is touched");
    }
    drive.mount_for(station, "odd-drive");
    let again = station.run(&["run", "odd", "--json"]).expect(i32::from(dos)).last();
    for key in ["added", "updated", "moved", "removed", "meta"] {
        assert_eq!(number(&again, key), 0, "{what}: {key} in {again}");
    }
    // Of one size, at a time that the drive cannot hold: only the content tells that it is another.
    write(&odd.join("before.txt"), b"new", 3_700);
    let changed = station.run(&["run", "odd", "--json"]).last();
    assert_eq!(number(&changed, "updated"), 1, "{what}: {changed}");
    assert_eq!(fs::read(drive.path("odd/before.txt")).unwrap(), b"new", "{what}");
    let why = station.run(&["why", "odd", "link"]).expect(0).out;
    assert_eq!(why.contains("cannot hold links"), !kind.links, "{what}: {why}");
}

/// Names that a drive refuses, written there in a spelling of ours.
fn spelled(station: &Station, drive: &Drive) {
    let (kind, what) = (drive.kind, drive.kind.name);
    let (odd, dos) = (station.left().join("odd"), kind.dos);
    // Spelled there, and read back: in the job, at a restore, and in a mirror down.
    write(&odd.join("trailing."), b"dot", 1_900_000_002);
    write(&odd.join("a:b%3A"), b"both", 1_900_000_004);
    station.run(&["job", "edit", "odd", "--odd-names", "encode"]).expect(0);
    station.run(&["run", "odd", "--yes"]).expect(i32::from(kind.folds));
    assert_eq!(drive.path("odd/a%3Ab").exists(), dos, "{what}");
    let again = station.run(&["run", "odd", "--json"]).last();
    assert_eq!((number(&again, "added"), number(&again, "removed")), (0, 0), "{what}: {again}");
    fs::remove_file(odd.join("a:b")).unwrap();
    station.run(&["restore", "odd", "a:b", "--yes"]).expect(0);
    assert_eq!(fs::read(odd.join("a:b")).unwrap(), b"c", "{what}");
    station
        .run(&["job", "add", "odd-down", "mirror", "@stick/odd", "odd-down", "--odd-names", "encode"])
        .expect(0);
    station.run(&["run", "odd-down", "--yes"]).expect(0);
    for (name, text) in [("a:b", "c"), ("trailing.", "dot"), ("a:b%3A", "both")] {
        let found = fs::read(station.path("odd-down").join(name)).unwrap_or_default();
        assert_eq!(String::from_utf8_lossy(&found), text, "{what}: {name}");
    }
}

/// Somebody works at one side: new files, other content, renames, touches, removals.
fn work(side: &Path, chance: &mut Seeded, clock: &mut u64) {
    for _ in 0..1 + chance.below(8) {
        *clock += 2;
        let files: Vec<PathBuf> = contents(side).into_keys().collect();
        let name = format!("{}f{}", ["", "d/", "d/e/", "g/"][chance.below(4) as usize], chance.below(30));
        let some = (!files.is_empty()).then(|| side.join(&files[chance.below(files.len() as u64) as usize]));
        match (chance.below(20), some) {
            (0..8, _) | (_, None) => {
                let size = [1, 100, 20_000][chance.below(3) as usize];
                write(&side.join(name), format!("{clock} ").repeat(size).as_bytes(), *clock);
            }
            (8..14, Some(old)) => {
                let new = side.join(format!("d/m{clock}"));
                fs::create_dir_all(side.join("d")).unwrap();
                fs::rename(old, new).unwrap();
            }
            (14..17, Some(old)) => fs::remove_file(old).unwrap(),
            (17, Some(old)) => {
                let content = fs::read(&old).unwrap();
                write(&old, &content, *clock);
            }
            (_, Some(old)) => {
                let content = [fs::read(&old).unwrap(), format!("+{clock}").into_bytes()].concat();
                write(&old, &content, *clock);
            }
        }
    }
}

/// What the files of a side hold; what a kill has left is none of them.
fn contents(side: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let ours = |path: &Path| path.to_string_lossy().contains(".reedhook-");
    let file = |(path, node)| match node {
        Node::File { content, .. } => Some((path, content)),
        _ => None,
    };
    tree(side).into_iter().filter_map(file).filter(|(path, _)| !ours(path)).collect()
}

/// Work at both sides, runs that are killed at any moment: in the end both sides hold the same, and nothing is left to do.
fn histories(kind: &'static Kind, job: &str, seed: u64) {
    let station = Station::new();
    // A label of its own: elsewhere a drive is looked for by that of its kind.
    let mut drive = Drive::new(kind, &station.path("drive.img"), "FENPAST");
    drive.mount(station.path("stick"));
    let (left, right) = (station.left(), drive.path("side"));
    fs::create_dir(&right).unwrap();
    let guards = ["--max-removals", "off", "--max-changes", "off", "--yes"];
    let sides = [left.to_str().unwrap(), right.to_str().unwrap()];
    station.run(&[&["job", "add", "counts", job][..], &sides, &guards].concat()).expect(0);
    let (mut chance, mut clock) = (Seeded(seed), 1_900_000_000);
    for round in 0..12 {
        let what = format!("{}, {job}, seed {seed}, round {round}", kind.name);
        work(&left, &mut chance, &mut clock);
        if job == "two-way" {
            work(&right, &mut chance, &mut clock);
        }
        let mut run = station.command(&["run", "counts", "--yes", "--quiet"]);
        let mut child = run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(chance.below(100)));
        if chance.below(3) > 0 {
            child.kill().unwrap();
        }
        child.wait().unwrap();
        if round % 2 == 0 {
            continue;
        }
        for _ in 0..3 {
            if station.run_job(&["--yes"]).code == 4 {
                station.run(&["settle", "counts", "--all", "--keep", "newest", "--yes"]);
            }
        }
        assert_quiet(station.run_job(&["--yes"]), &what);
        assert!(contents(&left) == contents(&right), "{what}");
    }
}

#[test]
fn histories_with_kills_come_to_rest_on_exfat_and_ntfs() {
    for kind in &KINDS[3..5] {
        if can_mount(kind) {
            for (seed, job) in [(1, "mirror"), (2, "two-way"), (3, "two-way")] {
                histories(kind, job, seed);
            }
        }
    }
}

/// Whether a drive of this kind can be mounted here. What the kernel cannot do at all no script can install.
fn can_mount(kind: &Kind) -> bool {
    let driver = match kind.behind {
        Behind::Image(driver) if driver.contains('-') => driver,
        Behind::Image(_) => return with_mounts(kind.name, &[kind.name]),
        Behind::Memory => return with_mounts(kind.name, &[]),
        Behind::Altered(_) => return altered::possible(kind.name),
    };
    let known = fs::read_to_string("/proc/filesystems").unwrap_or_default();
    if !known.contains("fuseblk") {
        println!("skipped: {}, for want of FUSE in this kernel", kind.name);
        return false;
    }
    with_mounts(kind.name, &[kind.name]) && with_tools(kind.name, &[&format!("mount.{driver}")])
}

fn round(kind: &'static Kind) {
    if !can_mount(kind) {
        return;
    }
    let station = Station::new();
    let mut drive = Drive::new(kind, &station.path("drive.img"), &kind.label());
    drive.mount_for(&station, "stick");
    one_way(&station, &mut drive);
    both_ways(&station, &mut drive);
    another_case_there(&station, &drive);
    oddities(&station, &mut drive);
    spelled(&station, &drive);
}

#[test]
fn a_round_of_everything_on_ext4() {
    round(&KINDS[0]);
}

#[test]
fn a_round_of_everything_on_xfs() {
    round(&KINDS[1]);
}

#[test]
fn a_round_of_everything_on_btrfs() {
    round(&KINDS[2]);
}

#[test]
fn a_round_of_everything_on_exfat() {
    round(&KINDS[3]);
}

#[test]
fn a_round_of_everything_on_ntfs() {
    round(&KINDS[4]);
}

#[test]
fn a_round_of_everything_in_memory() {
    round(&KINDS[5]);
}

#[test]
fn a_round_of_everything_on_a_drive_like_fat() {
    round(&KINDS[6]);
}

#[test]
fn a_round_of_everything_on_a_share_without_times() {
    round(&KINDS[7]);
}
