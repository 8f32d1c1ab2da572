//! Copies from one file system to another: every external drive is one.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};

use common::{Mounted, Node, Station, assert_alike, make_image, number, tree, with_mounts, write};
use reedhook_testing::signals::{self, Signal};

/// Around every size at which something is done in another way.
fn sizes() -> Vec<usize> {
    let limits = [64 << 10, 256 << 10, 1 << 20, 4 << 20, 8 << 20, 16 << 20];
    let around = limits.into_iter().flat_map(|limit: usize| [limit - 1, limit, limit + 1]);
    [0, 1, 4095].into_iter().chain(around).collect()
}

/// Content without two equal stretches, so that nothing can be in the wrong place unnoticed.
fn content(size: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut bytes = Vec::with_capacity(size + 8);
    while bytes.len() < size {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        bytes.extend_from_slice(&state.to_le_bytes());
    }
    bytes.truncate(size);
    bytes
}

fn fill(folder: &Path, seed: u64) {
    for size in sizes() {
        write(&folder.join(format!("sizes/{size}")), &content(size, seed + size as u64), 1000 + seed);
    }
    // Data at the beginning, in the middle and before the end, holes between them and after.
    let sparse = fs::File::create(folder.join("sparse")).unwrap();
    for at in [0, 5 << 20, (20 << 20) + 4096] {
        sparse.write_all_at(b"reed warbler", at).unwrap();
    }
    sparse.set_len(24 << 20).unwrap();
    fs::File::create(folder.join("nothing but a hole")).unwrap().set_len(9 << 20).unwrap();
}

#[track_caller]
fn assert_sparse(folder: &Path, what: &str) {
    for name in ["sparse", "nothing but a hole"] {
        let used = fs::metadata(folder.join(name)).unwrap().blocks() * 512;
        assert!(used < 1 << 20, "{what}: {name} takes {used} bytes on the medium");
    }
}

/// Mounted file systems, two of each kind.
struct Grounds {
    _mounted: Vec<Mounted>,
    folders: Vec<(&'static str, PathBuf)>,
}

fn grounds(station: &Station) -> Grounds {
    let mut mounted = Vec::new();
    let mut folders = Vec::new();
    for (kind, name) in [("ext4", "one"), ("ext4", "two"), ("xfs", "three")] {
        let (image, at) = (station.path(&format!("{name}.img")), station.path(name));
        make_image(&image, kind, &format!("FENBTW{name}")[..11.min(6 + name.len())], 512);
        mounted.push(Mounted::image(&image, &at));
        folders.push((kind, at));
    }
    let memory = station.path("memory");
    mounted.push(Mounted::memory(&memory, "700m"));
    folders.push(("tmpfs", memory));
    Grounds { _mounted: mounted, folders }
}

#[test]
fn files_of_every_size_travel_between_file_systems() {
    if !with_mounts("copies between file systems", &["ext4", "xfs"]) {
        return;
    }
    let station = Station::on_one_file_system();
    let grounds = grounds(&station);
    // ext4 to another ext4, to XFS, to memory, and back.
    for (from, to) in [(0, 1), (0, 2), (0, 3), (3, 0)] {
        let ((from_kind, from), (to_kind, to)) = (&grounds.folders[from], &grounds.folders[to]);
        let what = format!("{from_kind} to {to_kind}");
        let (left, right) = (from.join("left"), to.join("right"));
        fs::create_dir_all(&left).unwrap();
        fs::create_dir_all(&right).unwrap();
        fill(&left, 7);
        let (left_text, right_text) = (left.to_str().unwrap(), right.to_str().unwrap());
        station.run(&["job", "add", "plain", "mirror", left_text, right_text]).expect(0);
        let run = station.run(&["run", "plain", "--json"]).expect(0).last();
        assert_eq!(number(&run, "problems"), 0, "{what}: {run}");
        assert_alike(&left, &right);
        assert_sparse(&right, &what);
        // Updates keep what they replace, and a second run has nothing to do.
        fill(&left, 8);
        station.run(&["run", "plain", "--json"]).expect(0);
        assert_alike(&left, &right);
        let again = station.run(&["run", "plain", "--json"]).expect(0).last();
        assert_eq!((number(&again, "added"), number(&again, "updated")), (0, 0), "{what}: {again}");
        station.run(&["verify", "plain"]).expect(0);
        fs::remove_dir_all(&right).unwrap();
        fs::remove_dir_all(&left).unwrap();
        station.run(&["job", "remove", "plain", "--yes"]).expect(0);
    }
}

/// The ways on which content passes through memory, and two-way jobs, from one file system to another.
#[test]
fn hashed_limited_and_two_way_copies_between_file_systems() {
    if !with_mounts("copies between file systems", &["ext4", "xfs"]) {
        return;
    }
    let station = Station::on_one_file_system();
    let grounds = grounds(&station);
    let (from, to) = (&grounds.folders[3].1, &grounds.folders[0].1);
    for (kind, options) in [
        ("mirror", &["--verify", "changed"][..]),
        ("mirror", &["--verify", "all"]),
        ("mirror", &["--limit", "900 MB/s"]),
        ("two-way", &[]),
    ] {
        let (left, right) = (from.join("left"), to.join("right"));
        fs::create_dir_all(&left).unwrap();
        fs::create_dir_all(&right).unwrap();
        fill(&left, 9);
        let (left_text, right_text) = (left.to_str().unwrap(), right.to_str().unwrap());
        station.run(&[&["job", "add", "other", kind, left_text, right_text], options].concat()).expect(0);
        station.run(&["run", "other", "--json"]).expect(0);
        let files = |folder: &Path| -> Vec<(PathBuf, Vec<u8>)> {
            let file = |(path, node)| match node {
                Node::File { content, .. } => Some((path, content)),
                _ => None,
            };
            tree(folder).into_iter().filter_map(file).collect()
        };
        assert!(files(&left) == files(&right), "{kind} {options:?}");
        assert_sparse(&right, &format!("{kind} {options:?}"));
        if kind == "two-way" {
            write(&right.join("sizes/1048577"), &content(3_000_001, 3), 5000);
            station.run(&["run", "other", "--json"]).expect(0);
            assert!(files(&left) == files(&right), "what changed at the right comes back");
        }
        fs::remove_dir_all(&right).unwrap();
        fs::remove_dir_all(&left).unwrap();
        station.run(&["job", "remove", "other", "--yes"]).expect(0);
    }
}

/// What is interrupted goes on behind what is there, on another file system too.
#[test]
fn a_large_file_goes_on_where_it_stopped() {
    // Slow enough that it cannot be over before anybody looks, however busy the machine is.
    let station = Station::with_job("mirror", &["--limit", "4 MB/s"]);
    write(&station.left().join("film"), &content(60 << 20, 5), 1000);
    let mut child = station.command(&["run", "counts", "--quiet"]).spawn().unwrap();
    let begun = std::time::Instant::now();
    let unfinished = || {
        let entries = fs::read_dir(station.right()).unwrap().flatten();
        entries
            .filter(|entry| entry.file_name() != ".reedhook")
            .find_map(|entry| Some(entry.metadata().ok()?.len()))
    };
    while unfinished().is_none_or(|size| size < 1 << 20) {
        assert!(begun.elapsed().as_secs() < 30, "nothing is written");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    signals::send(child.id(), Signal::INT);
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_eq!(fs::read_dir(station.right()).unwrap().count(), 2, "the unfinished file, and Reedhook's own");
    station.run(&["job", "edit", "counts", "--unset", "limit"]).expect(0);
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &station.right());
}
