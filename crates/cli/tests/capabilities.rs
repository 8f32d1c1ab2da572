//! What a place holds is found out by trying: drives and shares that forget, refuse or change what they are told, shown to the
//! program through the kernel.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

#[path = "common/altered.rs"]
mod altered;
mod common;

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

use altered::{Altered, Ways};
use common::{Mounted, Ran, Station, make_image, number, tool, tree, with_mounts, write};

/// A station whose right is a place with these ways, and a job.
fn shared(ways: Ways, kind: &str, options: &[&str]) -> Option<(Station, Altered)> {
    if !altered::possible("places that hold less") {
        return None;
    }
    let station = Station::new();
    fs::create_dir(station.path("behind")).unwrap();
    let share = Altered::mount(&station.path("behind"), &station.path("share"), ways);
    fs::create_dir(station.path("share/counts")).unwrap();
    let job = [&["job", "add", "counts", kind, "left", "share/counts", "--yes"], options].concat();
    station.run(&job).expect(0);
    Some((station, share))
}

fn changes(finished: &serde_json::Value) -> u64 {
    ["added", "updated", "moved", "removed", "meta"].iter().map(|key| number(finished, key)).sum()
}

fn problems(ran: &Ran) -> BTreeSet<String> {
    let problem = |line: serde_json::Value| {
        (line["event"] == "problem")
            .then(|| format!("{} {}", line["code"].as_str().unwrap(), line["path"].as_str().unwrap()))
    };
    ran.json().into_iter().filter_map(problem).collect()
}

fn seconds(path: &Path) -> i64 {
    fs::metadata(path).unwrap().mtime()
}

#[test]
fn what_was_tried_is_remembered_for_the_place_and_its_mounting() {
    if !with_mounts("trying what a drive holds", &["ext4"]) {
        return;
    }
    let station = Station::new();
    let image = station.path("drive.img");
    tool(&["truncate", "-s", "64M", image.to_str().unwrap()]);
    // The old layout: whole seconds, until 2038.
    tool(&["mkfs.ext4", "-q", "-I", "128", image.to_str().unwrap()]);
    let drive = Mounted::image(&image, &station.path("stick"));
    station.write("heron.csv", "heron,3", 1_900_000_001);
    station.write("otter.csv", "otter,1", 2_208_988_801);
    station.run(&["job", "add", "counts", "mirror", "left", "stick/copy", "--yes"]).expect(0);
    station.run(&["store", "add", "stick", "stick"]).expect(0);
    let before = tree(&station.path("stick"));
    let preview = station.run(&["preview", "counts"]).expect(0);
    assert!(preview.err.contains("is new: assumed to work like ext4"), "{}", preview.err);
    assert_eq!(tree(&station.path("stick")), before, "a preview leaves no trace");
    station.run_job(&["--yes"]).expect(0);
    let quiet = station.run_job(&[]).expect(0).last();
    assert_eq!(changes(&quiet), 0, "neither fractions nor years are set again: {quiet}");
    assert!(!station.run(&["preview", "counts"]).expect(0).err.contains("tried"));
    let check = station.run(&["store", "check", "stick"]).expect(0).out;
    assert!(check.contains("times are kept to 1s") && !check.contains("not tried yet"), "{check}");
    assert!(check.contains("a job writes below it: counts"), "{check}");
    // Mounted otherwise it may be another thing, and is tried again.
    assert!(drive.remount("noatime"));
    assert!(station.run(&["preview", "counts"]).expect(0).err.contains("is new: assumed to work like"));
    station.run_job(&["--yes"]).expect(0);
    assert!(!station.run(&["preview", "counts"]).expect(0).err.contains("tried"));
    assert!(drive.remount("ro"));
    let check = station.run(&["store", "check", "stick", "--write"]);
    assert!(check.out.contains("it is mounted read-only"), "{}", check.out);
}

#[test]
fn a_trial_that_is_killed_leaves_nothing_behind() {
    let ways = Ways { slow: Duration::from_millis(4), refused: b":", ..Ways::default() };
    let Some((station, share)) = shared(ways, "mirror", &[]) else { return };
    station.write("heron.csv", "heron,3", 1_900_000_001);
    let trial = station.path("behind/counts/.reedhook/trial");
    for named in [1, 6, 40] {
        let mut run = station.command(&["run", "counts", "--yes"]);
        let mut child = run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let since = Instant::now();
        let tried = || fs::read_dir(&trial).is_ok_and(|names| names.count() >= named);
        while !tried() && since.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(trial.exists(), "it was killed in the middle of it");
    }
    station.run_job(&["--yes"]).expect(0);
    let own: BTreeSet<_> = fs::read_dir(station.path("behind/counts/.reedhook"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    assert_eq!(own, BTreeSet::from(["identity", "lock"].map(str::to_owned)));
    share.unmount();
}

/// The clocks' zone changes, and with it every time that the drive shows.
#[test]
fn a_shift_of_local_time_is_set_right_and_not_copied() {
    for kind in ["mirror", "copy", "two-way"] {
        let ahead = Arc::new(AtomicI64::new(3600));
        let ways = Ways {
            subtype: "vfat",
            folds_case: true,
            step: 2,
            modes: false,
            ahead: ahead.clone(),
            ..Ways::default()
        };
        let Some((station, share)) = shared(ways, kind, &["--preserve", "content"]) else { return };
        // Large enough that no hash of it is remembered.
        write(&station.left().join("large.bin"), &vec![7; 5 << 20], 1_900_000_000);
        for name in ["heron.csv", "teal.csv", "edited.csv"] {
            station.write(name, "reed,3", 1_900_000_000);
        }
        station.run_job(&["--yes"]).expect(0);
        assert_eq!(changes(&station.run_job(&[]).expect(0).last()), 0, "{kind}");
        // Summer comes: what was written before is shown an hour earlier. One file is another one besides.
        ahead.store(7200, Ordering::Relaxed);
        let shown = seconds(&station.path("share/counts/teal.csv"));
        assert_eq!(shown, 1_900_000_000 - 3600, "{kind}");
        // A two-way job goes by what was remembered of each side: there the edit has a time of its own.
        station.write("edited.csv", "reed,4", if kind == "two-way" { 1_900_000_050 } else { 1_900_000_000 });
        let preview = station.run(&["preview", "counts"]).expect(0).out;
        assert!(preview.contains("3 files are off by an hour or the zone's offset"), "{kind}: {preview}");
        let ran = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!((number(&ran, "updated"), number(&ran, "meta")), (1, 3), "{kind}: {ran}");
        assert_eq!(changes(&station.run_job(&[]).expect(0).last()), 0, "{kind}: said and done once");
        assert_eq!(
            seconds(&station.left().join("large.bin")),
            1_900_000_000,
            "{kind}: the original keeps its time"
        );
        assert_eq!(seconds(&station.path("share/counts/large.bin")), 1_900_000_000, "{kind}");
        assert_eq!(fs::read(station.path("share/counts/edited.csv")).unwrap(), b"reed,4", "{kind}");
        share.unmount();
    }
}

#[test]
fn between_places_that_keep_the_world_s_time_an_hour_is_a_change() {
    let station = Station::with_job("mirror", &[]);
    station.write("heron.csv", "heron,3", 1_900_000_000);
    station.run_job(&["--yes"]).expect(0);
    station.write("heron.csv", "heron,4", 1_900_003_600);
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "updated"), 1);
}

/// A driver that follows links when it sets times would reach out of the root.
#[test]
fn the_time_of_what_a_link_points_to_is_not_touched() {
    let ways = Ways { times_through_links: true, ..Ways::default() };
    let Some((station, share)) = shared(ways, "mirror", &[]) else { return };
    let outside = station.path("outside.csv");
    write(&outside, b"not ours", 1_000_000_000);
    station.write("heron.csv", "heron,3", 1_900_000_001);
    symlink(&outside, station.left().join("link")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    assert_eq!(fs::read_link(station.path("share/counts/link")).unwrap(), outside);
    assert_eq!(seconds(&outside), 1_000_000_000);
    assert_eq!(changes(&station.run_job(&[]).expect(0).last()), 0);
    share.unmount();
}

#[test]
fn a_file_that_is_too_large_is_known_before_and_the_rest_is_done() {
    let ways = Ways { largest: Some(u64::from(u32::MAX)), ..Ways::default() };
    let Some((station, share)) = shared(ways, "mirror", &["--max-changes", "off"]) else { return };
    File::create(station.left().join("survey.raw")).unwrap().set_len((1 << 32) + 5).unwrap();
    station.write("heron.csv", "heron,3", 1_900_000_001);
    let ran = station.run_job(&["--yes", "--allow", "space"]).expect(1);
    assert_eq!(problems(&ran), BTreeSet::from(["too-large survey.raw".to_owned()]));
    assert_eq!(number(&ran.last(), "added"), 1);
    let preview = station.run(&["preview", "counts"]).expect(1).out;
    assert!(preview.contains("holds files of at most 4.3 GB") || preview.contains("at most"), "{preview}");
    share.unmount();
}

#[test]
fn names_that_become_one_are_one_problem_and_nothing_below_them_moves() {
    for (kind, code) in [("mirror", 1), ("two-way", 1)] {
        let Some((station, share)) = shared(Ways { folds_case: true, ..Ways::default() }, kind, &[]) else {
            return;
        };
        station.write("docs/rota.txt", "first", 1_900_000_001);
        station.write("plain.txt", "plain", 1_900_000_001);
        station.run_job(&["--yes"]).expect(0);
        station.write("Docs/other.txt", "second", 1_900_000_001);
        station.write("docs/rota.txt", "first, longer", 1_900_000_100);
        for _ in 0..2 {
            let ran = station.run_job(&["--yes"]).expect(code);
            assert_eq!(problems(&ran), BTreeSet::from(["name-clash Docs".to_owned()]), "{kind}");
            assert_eq!(changes(&ran.last()), 0, "{kind}");
        }
        let ran = station.run(&["preview", "counts"]).out;
        assert!(ran.contains("\"Docs\" and \"docs\" would be one name there"), "{kind}: {ran}");
        let why = station.run(&["why", "counts", "docs/rota.txt"]).expect(0).out;
        assert!(why.contains("would be one name there"), "{kind}: {why}");
        let there = fs::read(station.path("share/counts/docs/rota.txt")).unwrap();
        assert_eq!(there, b"first", "{kind}: neither is touched");
        assert!(!station.path("share/counts/docs/other.txt").exists(), "{kind}");
        fs::rename(station.left().join("Docs"), station.left().join("papers")).unwrap();
        station.run_job(&["--yes"]).expect(0);
        assert_eq!(fs::read(station.path("share/counts/papers/other.txt")).unwrap(), b"second", "{kind}");
        assert_eq!(fs::read(station.path("share/counts/docs/rota.txt")).unwrap(), b"first, longer", "{kind}");
        share.unmount();
    }
}

/// Where it could not be tried, what is refused is still told for what it is.
#[test]
fn a_name_that_is_refused_without_a_reason_is_no_vanished_file() {
    let ways = Ways { refused: b":", refuses_with: 2, ..Ways::default() };
    let Some((station, share)) = shared(ways, "mirror", &[]) else { return };
    fs::create_dir(station.path("up")).unwrap();
    write(&station.path("up/a:b"), b"x", 1_900_000_000);
    fs::create_dir(station.path("up/c:d")).unwrap();
    write(&station.path("up/plain"), b"x", 1_900_000_000);
    // A place where a person restores to is never tried.
    station.run(&["job", "add", "up", "mirror", "share/counts", "up", "--yes"]).expect(0);
    let ran = station.run(&["run", "up", "--reverse", "--yes", "--json"]).expect(1);
    let expected = ["name-refused a:b", "name-refused c:d"].map(str::to_owned);
    assert_eq!(problems(&ran), BTreeSet::from(expected), "{}", ran.out);
    share.unmount();
}

#[test]
fn a_drive_that_goes_away_on_the_way_is_lost_and_not_broken() {
    if !with_mounts("losing a drive", &["ext4"]) || !common::with_tools("losing a drive", &["python3"]) {
        return;
    }
    let station = Station::new();
    make_image(&station.path("drive.img"), "ext4", "FENLOST", 64);
    let drive = Mounted::image(&station.path("drive.img"), &station.path("stick"));
    for number in 0..400 {
        station.write(&format!("still-{number}.jpg"), &"x".repeat(40_000), 1_900_000_001);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "stick/copy", "--limit", "8 MB/s"]).expect(0);
    let mut run = station.command(&["run", "counts", "--yes", "--json"]);
    let child = run.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let since = Instant::now();
    let begun = || fs::read_dir(station.path("stick/copy")).is_ok_and(|names| names.count() > 5);
    while !begun() && since.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(2));
    }
    shut_down(&station.path("stick"));
    let ran = Ran::of(&child.wait_with_output().unwrap());
    let finished = ran.last();
    assert_eq!((ran.code, finished["code"].as_str()), (5, Some("store-lost")), "{}", ran.out);
    drop(drive);
    let _drive = Mounted::image(&station.path("drive.img"), &station.path("stick"));
    station.run(&["job", "edit", "counts", "--limit", "off"]).expect(0);
    assert!(!station.run(&["job", "show", "counts"]).expect(0).out.contains("8 MB/s"));
    station.run_job(&["--yes"]).expect(0);
}

/// Takes a file system away as a pulled plug does: whatever is asked of it from now on fails.
fn shut_down(at: &Path) {
    // FS_IOC_SHUTDOWN of the kernel's uapi, without writing the journal out.
    let program =
        "import fcntl,os,struct,sys; fcntl.ioctl(os.open(sys.argv[1], 0), 0x8004587d, struct.pack('I', 2))";
    tool(&["python3", "-c", program, at.to_str().unwrap()]);
}

/// The kernel does not tell such a program that everything is to be made durable; it is told of each file.
#[test]
fn what_a_program_keeps_is_made_durable_file_by_file() {
    let ways = Ways::default();
    let Some((station, share)) = shared(ways.clone(), "mirror", &[]) else { return };
    for name in ["heron.csv", "teal.csv"] {
        station.write(name, name, 1_900_000_001);
    }
    write(&station.left().join("large.bin"), &vec![7; 3 << 20], 1_900_000_001);
    station.run_job(&["--yes"]).expect(0);
    let synced = ways.synced.lock().unwrap().clone();
    for content in [b"heron.csv".to_vec(), b"teal.csv".to_vec(), vec![7; 3 << 20]] {
        assert!(synced.contains(&content), "whole, before it got its name");
    }
    share.unmount();
}

/// A job that no longer spells names: what it spelled is neither taken for removed nor for new, and goes on being carried.
#[test]
fn a_job_that_no_longer_spells_names_still_reads_them() {
    for kind in ["two-way", "mirror"] {
        let ways = Ways { refused: b":", ..Ways::default() };
        let Some((station, share)) = shared(ways, kind, &["--odd-names", "encode"]) else { return };
        station.write("09:30.csv", "heron,3", 1_900_000_001);
        station.write("rota 1:2/heron.csv", "heron,3", 1_900_000_001);
        station.run_job(&["--yes"]).expect(0);
        assert_eq!(changes(&station.run_job(&[]).expect(0).last()), 0);
        let there = station.path("share/counts/09%3A30.csv");
        assert!(there.exists() && station.path("share/counts/.reedhook/spelled").exists());
        // What is done there under the spelling is done to the name.
        if kind == "two-way" {
            fs::write(&there, "heron,44").unwrap();
            station.run_job(&["--yes"]).expect(0);
            assert_eq!(fs::read(station.left().join("09:30.csv")).unwrap(), b"heron,44");
        }
        let said = station.run(&["job", "edit", "counts", "--odd-names", "report"]).expect(0);
        assert!(said.err.contains("are still understood"), "{}", said.err);
        let ran = station.run(&["run", "counts", "--yes"]).expect(0);
        assert!(ran.out.contains("nothing to do"), "{kind}: {}", ran.out);
        station.write("09:30.csv", "heron,555", 1_900_000_100);
        station.write("rota 1:2/rail.csv", "rail,5", 1_900_000_100);
        station.run_job(&["--yes"]).expect(0);
        assert_eq!(fs::read(&there).unwrap(), b"heron,555", "{kind}");
        assert!(station.path("share/counts/rota 1%3A2/rail.csv").exists(), "{kind}");
        station.write("10:30.csv", "heron,6", 1_900_000_200);
        let ran = station.run_job(&["--yes"]).expect(1);
        assert_eq!(problems(&ran), BTreeSet::from(["name-refused 10:30.csv".to_owned()]), "{kind}");
        fs::remove_file(station.left().join("10:30.csv")).unwrap();
        fs::remove_file(station.left().join("09:30.csv")).unwrap();
        station.run_job(&["--yes"]).expect(0);
        assert!(!there.exists(), "{kind}");
        share.unmount();
    }
}

#[test]
fn many_names_spelled_otherwise_are_a_share_of_all_and_what_is_lost_is_said_once() {
    let ways = Ways { folds_case: true, modes: false, ..Ways::default() };
    let Some((station, _share)) = shared(ways, "two-way", &[]) else { return };
    let still = |prefix: &str, number: u32| station.left().join(format!("{prefix}{number}.jpg"));
    for number in 0..80 {
        write(&still("img", number), b"a heron", 1_900_000_000);
    }
    station.run_job(&["--yes"]).expect(0);
    for number in 0..30 {
        fs::rename(still("img", number), still("IMG", number)).unwrap();
    }
    let run = station.run(&["run", "counts", "--yes"]).expect(0);
    assert!(run.out.contains("moved  30  files"), "{}", run.out);
    assert_eq!(run.err.matches("cannot hold").count(), 1, "{}", run.err);
    assert_eq!(changes(&station.run_job(&[]).expect(0).last()), 0);
    let names = |folder: &Path| {
        let names = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name());
        names.filter(|name| name != ".reedhook").collect::<BTreeSet<_>>()
    };
    assert_eq!(names(&station.left()), names(&station.path("share/counts")));
}
