//! Drives as loop-mounted images, full and read-only destinations, and links that are planted during a run. Needs root.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use common::{
    Mounted, Node, Station, assert_alike, assert_no_leftovers, make_image, number, tool, tree, with_mounts,
};

#[test]
fn a_drive_is_known_by_its_label_wherever_it_is_mounted() {
    if !with_mounts("mounting drives", &["ext4", "btrfs", "xfs"]) {
        return;
    }
    for (number_of, (kind, mib)) in [("ext4", 64), ("btrfs", 128), ("xfs", 320)].into_iter().enumerate() {
        let station = Station::new();
        // Labels that no other test uses at the same time.
        let (label, other_label) = (format!("FENFIELD{number_of}"), format!("FENOTHER{number_of}"));
        let (image, other) = (station.path("a.img"), station.path("b.img"));
        make_image(&image, kind, &label, mib);
        make_image(&other, kind, &other_label, mib);
        station.write("north/a.csv", "1", 1000);
        station.write("rota.txt", "2", 1000);
        let at = station.path("media/first");
        let mounted = Mounted::image(&image, &at);
        station.run(&["store", "add", "field-drive", "--drive", &label]).expect(0);
        station.run(&["job", "add", "counts", "mirror", "left", "@field-drive/counts"]).expect(0);
        station.run(&["job", "add", "by-path", "mirror", "left", "media/first/by-path"]).expect(0);
        station.run_job(&[]).expect(0);
        station.run(&["run", "by-path"]).expect(0);
        assert_alike(&station.left(), &at.join("counts"));
        let listed = station.run(&["drives", "--json"]).expect(0).json();
        let ours = listed.iter().find(|line| line["label"] == label.as_str()).unwrap();
        assert_eq!((&ours["stores"][0], &ours["file_system"]), (&"@field-drive".into(), &kind.into()));
        assert!(ours["uuid"].as_str().unwrap().len() > 30 && number(ours, "free") > 0);

        drop(mounted);
        let absent = station.run(&["run", "counts"]).expect(3);
        assert!(absent.err.contains(&format!("the drive {label} is not connected")), "{}", absent.err);
        assert!(station.run(&["drives"]).expect(0).out.contains("not connected"));
        assert_eq!(
            station.run(&["run", "by-path", "--json"]).expect(3).last()["code"],
            "destination-missing"
        );
        assert!(tree(&at).is_empty(), "nothing is put where the drive should be");
        station.run(&["job", "show", "counts"]).expect(0);

        // The wrong drive at the same path.
        fs::create_dir(at.join("by-path")).unwrap();
        let refused = station.run(&["run", "by-path", "--json"]).expect(3).last();
        assert_eq!(refused["code"], "destination-foreign");
        fs::remove_dir(at.join("by-path")).unwrap();
        let wrong = Mounted::image(&other, &at);
        fs::create_dir_all(at.join("by-path/.reedhook")).unwrap();
        fs::write(at.join("by-path/.reedhook/identity"), "id = \"another\"\n").unwrap();
        let refused = station.run(&["run", "by-path", "--json"]).expect(3).last();
        assert_eq!(refused["code"], "destination-foreign");
        assert_eq!(station.run_job(&[]).expect(3).last()["code"], "drive-absent");
        drop(wrong);

        // The right one, somewhere else.
        let elsewhere = station.path("media/second place");
        let _mounted = Mounted::image(&image, &elsewhere);
        station.write("new", "3", 2000);
        station.run_job(&[]).expect(0);
        assert_alike(&station.left(), &elsewhere.join("counts"));
    }
}

#[test]
fn a_drive_that_is_taken_away_in_the_middle_of_a_run() {
    if !with_mounts("mounting drives", &["ext4"]) {
        return;
    }
    let station = Station::new();
    let image = station.path("a.img");
    make_image(&image, "ext4", "FENTAKEN", 64);
    for number in 0..600 {
        station.write(&format!("d{}/f{number}", number % 20), &"x".repeat(20_000 + number), 1000);
    }
    let at = station.path("media");
    for delay in [5, 15, 30, 60] {
        let mounted = Mounted::image(&image, &at);
        let _ = fs::remove_dir_all(at.join("counts"));
        fs::create_dir(at.join("counts")).unwrap();
        let _ = station.run(&["job", "remove", "counts", "--yes"]);
        station.run(&["job", "add", "counts", "mirror", "left", "media/counts"]).expect(0);
        station.run(&["job", "edit", "counts", "--to", "media/counts"]).expect(0);
        let mut child = station.command(&["run", "counts", "--quiet"]).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(delay));
        tool(&["umount", "-l", at.to_str().unwrap()]);
        let code = child.wait().unwrap().code();
        assert!(matches!(code, Some(0 | 3 | 5)), "{code:?}");
        assert!(tree(&at).is_empty(), "nothing is written where the drive was");
        std::mem::forget(mounted);
        let _mounted = Mounted::image(&image, &at);
        for (path, node) in tree(&at.join("counts")) {
            let part = path.to_string_lossy().contains(".reedhook-");
            if let (Node::File { content, .. }, false) = (node, part) {
                assert_eq!(content, fs::read(station.left().join(&path)).unwrap(), "{}", path.display());
            }
        }
        station.run_job(&[]).expect(0);
        assert_alike(&station.left(), &at.join("counts"));
        assert_no_leftovers(&at.join("counts"));
    }
}

#[test]
fn a_bind_mount_does_not_hide_that_sides_are_nested() {
    if !with_mounts("bind mounts", &[]) {
        return;
    }
    let station = Station::new();
    station.write("a/b/c", "1", 1000);
    let bind = |from: &Path, to: &Path| {
        fs::create_dir_all(to).unwrap();
        tool(&["mount", "--bind", from.to_str().unwrap(), to.to_str().unwrap()]);
        Mounted(to.to_owned())
    };
    let _whole = bind(&station.left(), &station.path("whole"));
    let _part = bind(&station.left().join("a"), &station.path("part"));
    for (left, right, words) in [
        ("left", "whole", "the same folder"),
        ("left", "part", "lies inside the source"),
        ("left", "part/b", "lies inside the source"),
        ("part", "left", "lies inside the destination"),
    ] {
        let refused = station.run(&["once", "mirror", left, right, "--json"]).expect(3).last();
        assert_eq!(refused["code"], "nested", "{left} {right}");
        assert!(
            refused["message"].as_str().unwrap().contains(words),
            "{left} {right}: {}",
            refused["message"]
        );
    }
}

#[test]
fn a_full_destination_gets_what_fits_whole_and_says_the_rest() {
    if !with_mounts("a small file system", &[]) {
        return;
    }
    let station = Station::new();
    for number in 0..40 {
        station.write(&format!("f{number:02}"), &"x".repeat(100_000), 1000);
    }
    let at = station.path("small");
    let mounted = Mounted::memory(&at, "2m");
    station.run(&["job", "add", "counts", "mirror", "left", "small"]).expect(0);
    let refused = station.run_job(&[]).expect(3).last();
    assert_eq!(refused["code"], "too-little-space");
    assert!(refused["message"].as_str().unwrap().contains("--allow space"));
    assert!(tree(&at).is_empty());
    let run = station.run_job(&["--allow", "space"]).expect(1);
    let last = run.last();
    assert!(number(&last, "added") > 5 && number(&last, "added") + number(&last, "problems") == 40, "{last}");
    assert!(
        run.json().iter().filter(|line| line["event"] == "problem").all(|line| line["code"] == "no-space")
    );
    assert_no_leftovers(&at);
    for node in tree(&at).into_values() {
        assert!(matches!(node, Node::File { content, .. } if content.len() == 100_000));
    }
    assert!(mounted.remount("size=20m"));
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &at);
}

#[test]
fn a_destination_that_turns_read_only() {
    if !with_mounts("a read-only file system", &[]) {
        return;
    }
    let station = Station::new();
    for number in 0..2000 {
        station.write(&format!("d{}/f{number}", number % 20), &"x".repeat(5000), 1000);
    }
    let at = station.path("switch");
    let mounted = Mounted::memory(&at, "50m");
    fs::create_dir(at.join("counts")).unwrap();
    station.run(&["job", "add", "counts", "mirror", "left", "switch/counts"]).expect(0);
    assert!(mounted.remount("ro"));
    let refused = station.run_job(&[]).expect(3).last();
    assert_eq!(refused["code"], "read-only");
    assert!(refused["message"].as_str().unwrap().contains("read-only"));
    assert!(mounted.remount("rw"));
    let mut child = station.command(&["run", "counts", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
    // A file system with files open for writing refuses to turn; in a pause between two files it agrees.
    while child.try_wait().unwrap().is_none() && !mounted.remount("ro") {}
    let code = child.wait().unwrap().code();
    assert!(matches!(code, Some(0 | 1 | 3 | 5)), "{code:?}");
    for (path, node) in tree(&at.join("counts")) {
        let part = path.to_string_lossy().contains(".reedhook-");
        assert!(
            part || !matches!(node, Node::File { content, .. } if content.len() != 5000),
            "{}",
            path.display()
        );
    }
    assert!(mounted.remount("rw"));
    station.run_job(&[]).expect(0);
    assert_alike(&station.left(), &at.join("counts"));
    assert_no_leftovers(&at.join("counts"));
}

/// Folders at the destination are swapped for links that lead outside, again and again, while runs go on.
#[test]
fn links_planted_during_runs_are_never_written_through() {
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    let outside = station.path("outside");
    fs::create_dir_all(outside.join("deep")).unwrap();
    fs::write(outside.join("deep/f0"), "precious").unwrap();
    fs::write(outside.join("f0"), "precious").unwrap();
    let before = tree(&outside);
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let (folder, away) = (station.right().join("a"), station.path("away"));
            while !stop.load(Ordering::Relaxed) {
                // Each step may fail, because the run moves things too.
                let _ = fs::rename(&folder, &away);
                let _ = symlink(&outside, &folder);
                std::thread::sleep(Duration::from_micros(300));
                let _ = fs::remove_file(&folder);
                let _ = fs::rename(&away, &folder);
                let _ = fs::remove_dir_all(&away);
            }
        });
        for round in 0..25 {
            for number in 0..30 {
                station.write(&format!("a/deep/f{number}"), &format!("{round} {number}"), 1000 + round);
                station.write(&format!("a/f{number}"), &format!("{round} {number}"), 1000 + round);
            }
            let code = station.run_job(&["--yes"]).code;
            assert!([0, 1].contains(&code), "{code}");
        }
        stop.store(true, Ordering::Relaxed);
    });
    assert_eq!(tree(&outside), before, "something was written through a link");
    let _ = fs::remove_file(station.right().join("a"));
    station.run_job(&["--yes"]).expect(0);
    assert_alike(&station.left(), &station.right());
}
