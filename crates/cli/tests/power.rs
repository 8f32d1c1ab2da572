//! Power cuts: a drive with a journal that commits rarely stands under each side in turn; what it holds at a random moment of a
//! run, or right after one, is all that is left of it. Then the next run has to find its way.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

#[path = "common/altered.rs"]
mod altered;
mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use altered::{Altered, Ways};
use common::{Mounted, Node, Station, make_image, tool, tree, with_mounts, write};
use reedhook_testing::signals::{self, Signal};

/// A drive whose power can be cut.
struct Drive {
    image: PathBuf,
    /// Where it is mounted, and where it is seen.
    behind: PathBuf,
    at: PathBuf,
    mounted: Option<Mounted>,
    shown: Option<Altered>,
    stick: bool,
}

/// A journal that commits only when somebody asks for it.
const RARELY: &str = "loop,commit=600";

impl Drive {
    fn new(folder: &Path, at: PathBuf) -> Drive {
        Drive::of(folder, at, false)
    }

    /// The same; a stick is seen as those are: names in the other case are one, times go in steps of two seconds, and no two files can
    /// change places.
    fn of(folder: &Path, at: PathBuf, stick: bool) -> Drive {
        let image = folder.join("drive.img");
        make_image(&image, "ext4", "FENPOWER", 96);
        let behind = if stick { folder.join("behind") } else { at.clone() };
        let mut drive = Drive { image, behind, at, mounted: None, shown: None, stick };
        drive.plug_in();
        drive
    }

    fn plug_in(&mut self) {
        self.mounted = Some(Mounted::image_with(&self.image, &self.behind, RARELY));
        if self.stick {
            let ways = Ways { folds_case: true, step: 2, ..Ways::default() };
            self.shown = Some(Altered::mount(&self.behind, &self.at, ways));
        }
    }

    /// What is on the medium at this moment is all that remains. Nobody may be writing.
    fn cut(&mut self, take_from_us: impl FnOnce()) {
        let remains = self.image.with_extension("remains");
        tool(&["cp", "--sparse=always", self.image.to_str().unwrap(), remains.to_str().unwrap()]);
        take_from_us();
        // What the kernel still wants to write goes to the old image, which nobody looks at any more.
        if let Some(shown) = self.shown.take() {
            shown.unmount();
        }
        self.mounted = None;
        fs::rename(&remains, &self.image).unwrap();
        self.plug_in();
    }
}

/// Whatever a path has ever held, oldest first.
type Versions = BTreeMap<PathBuf, Vec<Vec<u8>>>;

/// Saves as an editor does: a draft, renamed over the file. Nothing is made durable.
fn save(side: &Path, path: &str, content: Vec<u8>, seconds: u64, versions: &mut Versions) {
    let draft = side.join("draft.tmp");
    write(&draft, &content, seconds);
    fs::create_dir_all(side.join(path).parent().unwrap()).unwrap();
    fs::rename(&draft, side.join(path)).unwrap();
    versions.entry(PathBuf::from(path)).or_default().push(content);
}

fn files(side: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let file = |(path, node): (PathBuf, Node)| match node {
        Node::File { content, .. } => Some((path, content)),
        _ => None,
    };
    let ours = |path: &Path| path.to_string_lossy().contains(".reedhook-");
    tree(side).into_iter().filter_map(file).filter(|(path, _)| !ours(path)).collect()
}

fn kept(side: &Path) -> BTreeSet<Vec<u8>> {
    let runs = fs::read_dir(side.join(".reedhook/kept")).into_iter().flatten().flatten();
    runs.flat_map(|run| files(&run.path()).into_values()).collect()
}

#[track_caller]
fn assert_whole(side: &Path, versions: &Versions, what: &str) {
    for (path, content) in files(side) {
        let known = versions.get(&path).is_some_and(|known| known.contains(&content));
        assert!(known, "{what}: {} holds what nobody ever wrote there", path.display());
    }
}

/// Which version of a path this is.
fn age(versions: &Versions, path: &Path, content: &[u8]) -> usize {
    versions[path].iter().position(|known| known == content).unwrap()
}

/// What both sides hold before the first run.
fn first_versions(station: &Station, versions: &mut Versions) {
    let left = station.left();
    for number in 0..30 {
        let path = format!("d{}/f{number}", number % 3);
        save(&left, &path, format!("first {number}").repeat(50).into_bytes(), 1000, versions);
    }
    save(&left, "thesis.txt", b"v1".to_vec(), 1000, versions);
}

/// What people save before the run that is cut; at the right too, when `both`.
fn second_versions(station: &Station, both: bool, versions: &mut Versions) {
    let (left, right) = (station.left(), station.right());
    save(&left, "thesis.txt", b"v2, saved a moment ago".to_vec(), 2000, versions);
    for number in 0..12 {
        let path = format!("d{}/f{number}", number % 3);
        let size = 20_000 * (1 + number as usize % 5);
        save(&left, &path, format!("second {number} ").into_bytes().repeat(size / 9), 2000, versions);
        save(&left, &format!("new/n{number}"), vec![b'n'; 30_000], 2000, versions);
        if both {
            let path = format!("d{}/f{}", number % 3, 12 + number);
            save(&right, &path, format!("third {number} ").into_bytes().repeat(4000), 2100, versions);
        }
    }
}

/// What a side held when the power went at the other: none of it is gone or older. A mirror's right may always be made anew.
#[track_caller]
fn assert_nothing_older(
    side: &Path,
    before: &BTreeMap<PathBuf, Vec<u8>>,
    kind: &str,
    versions: &Versions,
    what: &str,
) {
    let (now, kept) = (files(side), kept(side));
    for (path, content) in before {
        let found = now.get(path).unwrap_or_else(|| panic!("{what}: {} went", path.display()));
        let older = age(versions, path, found) < age(versions, path, content);
        assert!(!older, "{what}: an old version took the place of a new one at {}", path.display());
        assert!(found == content || kind == "mirror" || !kept.is_empty() || age(versions, path, found) > 0);
    }
}

/// Cuts the power of one side of a job, at a moment of a run or after it.
fn cut_once(kind: &str, (cut_left, stick): (bool, bool), moment: Option<Duration>) {
    let cut = if cut_left { "left" } else { "right" };
    let what = format!("{kind}, {cut} cut{}, {moment:?}", if stick { ", a stick" } else { "" });
    let station = Station::on_one_file_system();
    let memory = tempfile::tempdir_in("/dev/shm").unwrap();
    let (left, right) = (station.left(), station.right());
    let mut drive = Drive::of(memory.path(), if cut_left { left.clone() } else { right.clone() }, stick);
    // Where a new file system has its own folder: no part of the job.
    let _ = fs::remove_dir(drive.at.join("lost+found"));
    let station = station.job(kind, &["--max-changes", "off", "--max-removals", "off", "--verify", "none"]);
    let mut versions = Versions::new();
    first_versions(&station, &mut versions);
    station.run_job(&["--yes"]).expect(0);
    tool(&["sync", "-f", left.to_str().unwrap()]);
    tool(&["sync", "-f", right.to_str().unwrap()]);
    tool(&["sync", "-f", drive.behind.to_str().unwrap()]);

    // Unless both save, nothing is written to the left at all: nobody but its owner has a reason to make it durable.
    second_versions(&station, kind == "two-way" && !cut_left, &mut versions);
    if stick {
        // Only what a run writes there is made durable by it; what people save is their own affair.
        tool(&["sync", "-f", drive.behind.to_str().unwrap()]);
    }
    let mut child = station
        .command(&["run", "counts", "--yes", "--quiet"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    match moment {
        Some(moment) => {
            std::thread::sleep(moment);
            signals::send(child.id(), Signal::STOP);
            // A call that it is in comes to its end.
            std::thread::sleep(Duration::from_millis(40));
        }
        None => {
            assert!([Some(0), Some(1)].contains(&child.wait().unwrap().code()), "{what}");
        }
    }
    let other = if cut_left { &right } else { &left };
    let before = files(other);
    drive.cut(|| {
        let _ = child.kill();
        let _ = child.wait();
    });
    assert_whole(&drive.at, &versions, &what);
    assert_whole(other, &versions, &what);

    let ran = station.run_job(&["--yes"]);
    assert!([0, 1, 4].contains(&ran.code), "{what}: {} {}", ran.out, ran.err);
    let ran = station.run_job(&["--yes"]);
    assert!([0, 4].contains(&ran.code), "{what}: {} {}", ran.out, ran.err);
    for side in [&left, &right] {
        assert_whole(side, &versions, &what);
    }
    if !(kind == "mirror" && cut_left) {
        assert_nothing_older(other, &before, kind, &versions, &what);
    }
    if kind == "two-way" && ran.code == 0 {
        assert_eq!(files(&left), files(&right), "{what}");
    }
}

#[test]
fn a_file_system_below_the_destination_is_made_durable_too() {
    if !with_mounts("cutting the power of a drive in the destination", &["ext4"]) {
        return;
    }
    let station = Station::on_one_file_system();
    let memory = tempfile::tempdir_in("/dev/shm").unwrap();
    let mut drive = Drive::new(memory.path(), station.right().join("drive"));
    let station = station.job("mirror", &["--verify", "none"]);
    for name in ["drive/stays.csv", "drive/replaced.csv", "into.csv"] {
        station.write(name, &format!("the first {name}"), 1000);
    }
    station.run_job(&["--yes"]).expect(0);
    drive.cut(|| {});
    assert_eq!(fs::read(drive.at.join("stays.csv")).unwrap(), b"the first drive/stays.csv");
    station.write("drive/replaced.csv", "the second, longer", 2000);
    fs::rename(station.left().join("into.csv"), station.left().join("drive/into.csv")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    drive.cut(|| {});
    assert_eq!(fs::read(drive.at.join("replaced.csv")).unwrap(), b"the second, longer");
    assert_eq!(fs::read(drive.at.join("into.csv")).unwrap(), b"the first into.csv");
    station.run_job(&[]).expect(0);
}

/// The first run of a job is cut off before its mark is on the medium: the job must know the drive all the same.
#[test]
fn a_first_run_that_the_drive_cuts_off_is_run_again() {
    if !with_mounts("cutting off a first run", &["ext4"]) {
        return;
    }
    for moment in [3, 6, 10, 15, 22, 30, 45, 70] {
        let station = Station::on_one_file_system();
        let memory = tempfile::tempdir_in("/dev/shm").unwrap();
        let mut drive = Drive::new(memory.path(), station.path("drive"));
        for number in 0..300 {
            station.write(&format!("{number}.csv"), "heron,3", 1_900_000_001);
        }
        station.run(&["job", "add", "counts", "mirror", "left", "drive/copy", "--yes"]).expect(0);
        let mut run = station.command(&["run", "counts", "--yes"]);
        let mut child = run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(moment));
        child.kill().unwrap();
        child.wait().unwrap();
        drive.cut(|| {});
        let again = station.run_job(&["--yes"]);
        assert_eq!(again.code, 0, "after {moment} ms: {}", again.out);
    }
}

#[test]
fn after_a_power_cut_nothing_is_torn_lost_or_older() {
    if !with_mounts("cutting the power of a drive", &["ext4"]) {
        return;
    }
    for kind in ["two-way", "mirror"] {
        for cut_left in [true, false] {
            for moment in [2, 6, 11, 17, 24, 36] {
                cut_once(kind, (cut_left, false), Some(Duration::from_millis(moment)));
            }
            // Everything is done and said to be; then the power fails.
            cut_once(kind, (cut_left, false), None);
        }
    }
}

#[test]
fn after_a_stick_lost_its_power_nothing_is_torn_lost_or_older() {
    if !altered::possible("cutting the power of a stick") || !with_mounts("cutting its power", &["ext4"]) {
        return;
    }
    for kind in ["two-way", "mirror", "copy"] {
        for cut_left in [true, false] {
            for moment in [5, 30, 70, 120, 180, 260] {
                cut_once(kind, (cut_left, true), Some(Duration::from_millis(moment)));
            }
            cut_once(kind, (cut_left, true), None);
        }
    }
}
