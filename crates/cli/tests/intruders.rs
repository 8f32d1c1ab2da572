//! Root at work over trees that another account can write to: nobody gets more than they had.
//!
//! The other account is `nobody`. What it does between two steps of a run is done by the test itself where the run can be held at the
//! right moment, and by a process of that account, over and over, where it cannot.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::ffi::OsStr;
use std::fs;
use std::os::unix::fs::{MetadataExt, chown, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::{Mounted, Ran, Station, as_root_only, set_mode, tool, with_mounts, with_tools, write};

const OTHER: u32 = 65_534;

fn mode(path: &Path) -> u32 {
    fs::symlink_metadata(path).unwrap_or_else(|error| panic!("{}: {error}", path.display())).mode() & 0o7777
}

fn owner(path: &Path) -> u32 {
    fs::symlink_metadata(path).unwrap().uid()
}

/// A program of the other account's that is setuid and setgid.
fn plant(path: &Path) {
    write(path, b"#!/bin/sh\nid\n", 1000);
    chown(path, Some(OTHER), Some(OTHER)).unwrap();
    set_mode(path, 0o6755);
}

/// Everything below a folder, `.reedhook` included.
fn all_below(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap().flatten() {
            if entry.file_type().unwrap().is_dir() {
                folders.push(entry.path());
            }
            found.push(entry.path());
        }
    }
    found
}

/// Fails when anything below is setuid or setgid, and belongs to anybody but the other account.
#[track_caller]
fn assert_nothing_is_armed(folder: &Path) {
    for path in all_below(folder).into_iter().filter(|path| path.is_file()) {
        assert!(mode(&path) & 0o6000 == 0 || owner(&path) == OTHER, "{}: {:o}", path.display(), mode(&path));
    }
}

/// Runs the job until it is at work in the right folder, whatever `is_there` says of it; then `work`, and lets it go on.
fn meanwhile(
    station: &Station,
    words: &[&str],
    is_there: impl Fn() -> bool,
    work: impl FnOnce(&mut Child),
) -> Ran {
    let mut command = station.command(words);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while !is_there() && child.try_wait().unwrap().is_none() && begun.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(2));
    }
    work(&mut child);
    Ran::of(&child.wait_with_output().unwrap())
}

#[test]
fn setuid_stays_behind_without_the_owner() {
    if !as_root_only("setuid programs of another account") {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    let right = station.right();
    plant(&station.left().join("id"));
    write(&station.left().join("later"), b"later", 1000);
    station.run_job(&[]).expect(0);
    assert_eq!((mode(&right.join("id")), owner(&right.join("id"))), (0o755, 0));
    // The mode alone changes.
    set_mode(&station.left().join("later"), 0o4755);
    station.run_job(&[]).expect(0);
    assert_eq!(mode(&right.join("later")) & 0o6000, 0);
    // What an older version of this program brought along goes.
    set_mode(&right.join("later"), 0o4755);
    station.run_job(&[]).expect(0);
    assert_eq!(mode(&right.join("later")) & 0o6000, 0);
    let settled = station.run_job(&[]).expect(0).last();
    assert_eq!(common::number(&settled, "meta"), 0, "{settled}");
    // What differs by that alone is no difference in a two-way job either.
    fs::create_dir(station.path("pair")).unwrap();
    station.run(&["job", "add", "pair", "two-way", "left", "pair"]).expect(0);
    station.run(&["run", "pair"]).expect(0);
    set_mode(&station.left().join("later"), 0o2755);
    station.run(&["run", "pair"]).expect(0);
    let settled = station.run(&["run", "pair", "--json"]).expect(0).last();
    assert_eq!(
        (common::number(&settled, "meta"), common::number(&settled, "conflicts")),
        (0, 0),
        "{settled}"
    );
    assert_nothing_is_armed(&station.path("pair"));
    // Without a job, both ways, and copied only.
    for (number, words) in
        [["mirror", "left", "once"], ["copy", "left", "copied"], ["two-way", "left", "both"]]
            .iter()
            .enumerate()
    {
        fs::create_dir_all(station.path(words[2])).unwrap();
        station.run(&["once", words[0], words[1], words[2], "--yes"]).expect(0);
        assert!(station.path(words[2]).join("id").exists(), "{number}");
        assert_nothing_is_armed(&station.path(words[2]));
    }
}

#[test]
fn another_ordinary_account_gets_no_setuid_program_either() {
    if !as_root_only("a second ordinary account") {
        return;
    }
    for preserve in ["standard", "full"] {
        let station = Station::with_job("mirror", &["--preserve", preserve]).without_rights();
        let program = station.left().join("id");
        write(&program, b"#!/bin/sh\nid\n", 1000);
        chown(&program, Some(61_234), Some(61_234)).unwrap();
        set_mode(&program, 0o6755);
        station.run_job(&[]).expect(0);
        assert_eq!((mode(&station.right().join("id")), owner(&station.right().join("id"))), (0o755, OTHER));
        let settled = station.run_job(&[]).expect(0).last();
        assert_eq!(common::number(&settled, "meta"), 0, "{settled}");
    }
}

#[test]
fn a_mount_that_grants_nothing_gives_nothing_away() {
    if !with_mounts("a source mounted nosuid and nodev", &["ext4"])
        || !with_tools("capabilities", &["setcap", "mknod"])
    {
        return;
    }
    let station = Station::on_one_file_system();
    let image = station.path("image");
    common::make_image(&image, "ext4", "FENFIELD-1", 24);
    let granted = station.path("granted");
    // With all rights first, then with none.
    for (options, arrives) in [("loop", true), ("loop,nosuid,nodev", false)] {
        let drive = Mounted::image_with(&image, &granted, options);
        if arrives {
            plant(&granted.join("id"));
            write(&granted.join("tool"), b"tagged", 1000);
            set_mode(&granted.join("tool"), 0o755);
            tool(&["setcap", "cap_net_raw+ep", granted.join("tool").to_str().unwrap()]);
            tool(&["mknod", granted.join("null").to_str().unwrap(), "c", "1", "3"]);
        }
        let to = station.path(if arrives { "all" } else { "none" });
        fs::create_dir(&to).unwrap();
        let words = [
            "once",
            "mirror",
            "granted",
            to.to_str().unwrap(),
            "--preserve",
            "full",
            "--exclude",
            "lost+found",
        ];
        station.run(&words).expect(0);
        assert_eq!(mode(&to.join("id")), if arrives { 0o6755 } else { 0o755 }, "{options}");
        assert_eq!(owner(&to.join("id")), OTHER);
        let tagged = Command::new("getcap").arg(to.join("tool")).output().unwrap();
        assert_eq!(!tagged.stdout.is_empty(), arrives, "{options}");
        assert_eq!(to.join("null").exists(), arrives, "{options}");
        // And there is nothing left to do.
        let again = station.run(&[&words[..], &["--json"]].concat()).expect(0).last();
        assert_eq!((common::number(&again, "meta"), common::number(&again, "added")), (0, 0), "{again}");
        drop(drive);
    }
}

/// Kept copies are to be looked at. An undo and a restore give back what was taken from them, with the owner.
#[test]
fn kept_copies_carry_no_privileges_and_get_them_back() {
    if !as_root_only("setuid programs among kept copies")
        || !with_tools("capabilities", &["setcap", "getcap"])
    {
        return;
    }
    let station = Station::with_job("mirror", &["--preserve", "full"]);
    let (left, right) = (station.left(), station.right());
    for name in ["changed", "removed", "second", "left/alone"] {
        plant(&left.join(name));
    }
    fs::hard_link(left.join("second"), left.join("third")).unwrap();
    write(&left.join("tool"), b"tagged", 1000);
    set_mode(&left.join("tool"), 0o755);
    tool(&["setcap", "cap_net_raw+ep", left.join("tool").to_str().unwrap()]);
    station.run_job(&[]).expect(0);
    let before = described(&right);
    assert_eq!(mode(&right.join("changed")), 0o6755);

    write(&left.join("changed"), b"another", 2000);
    fs::remove_file(left.join("removed")).unwrap();
    fs::remove_file(left.join("second")).unwrap();
    fs::remove_file(left.join("tool")).unwrap();
    station.run_job(&["--yes", "--allow", "removals"]).expect(0);
    let kept = fs::read_dir(right.join(".reedhook/kept")).unwrap().next().unwrap().unwrap().path();
    for name in ["changed", "removed", "second", "tool"] {
        assert_eq!(mode(&kept.join(name)), 0o755, "{name}");
    }
    assert!(Command::new("getcap").arg(kept.join("tool")).output().unwrap().stdout.is_empty());
    assert_eq!(mode(&right.join("third")), 0o6755, "what stays keeps its own");

    // One of them to the source again, by a restore.
    station.run(&["restore", "counts", "removed", "tool", "--yes"]).expect(0);
    assert_eq!((mode(&left.join("removed")), owner(&left.join("removed"))), (0o6755, OTHER));
    assert!(!Command::new("getcap").arg(left.join("tool")).output().unwrap().stdout.is_empty());
    // All of them, by an undo.
    station.run(&["undo", "counts", "2", "--yes"]).expect(0);
    assert_eq!(described(&right), before);
    // And not to a file that belongs to another by now.
    station.run_job(&["--yes", "--allow", "removals"]).expect(0);
}

/// Modes, owners and capabilities of everything outside `.reedhook`.
fn described(folder: &Path) -> String {
    let line = "find . -path ./.reedhook -prune -o -type f -printf '%p %m %U %G\\n' | sort; getcap *";
    let output = Command::new("sh").args(["-c", line]).current_dir(folder).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// The folder that the run has made is exchanged for root's private file before it gets its mode.
#[test]
fn attributes_go_to_what_was_made() {
    if !as_root_only("a folder that is exchanged") {
        return;
    }
    for preserve in ["standard", "full"] {
        let station = Station::with_job(
            "mirror",
            &["--preserve", preserve, "--limit", "400 KB/s", "--exclude", "secret"],
        );
        let (left, right) = (station.left(), station.right());
        fs::create_dir_all(left.join("new")).unwrap();
        chown(left.join("new"), Some(OTHER), Some(OTHER)).unwrap();
        set_mode(&left.join("new"), 0o755);
        write(&left.join("slow"), &vec![b's'; 600_000], 1000);
        set_mode(&right, 0o777);
        let secret = right.join("secret");
        write(&secret, b"root's own", 1000);
        set_mode(&secret, 0o600);
        let ran = meanwhile(
            &station,
            &["run", "counts", "--yes"],
            || right.join("new").exists(),
            |_| {
                fs::rename(right.join("new"), right.join("away")).unwrap();
                fs::rename(&secret, right.join("new")).unwrap();
            },
        );
        assert_eq!((mode(&right.join("new")), owner(&right.join("new"))), (0o600, 0), "{preserve} {ran:?}");
        assert_eq!(ran.code, 1, "it is told: {ran:?}");
    }
}

/// The unfinished file of a large one has a name that can be computed.
#[test]
fn a_planted_unfinished_file_is_not_taken_up() {
    if !as_root_only("a planted unfinished file") {
        return;
    }
    let station = Station::with_job("mirror", &["--limit", "2 MB/s"]);
    let (left, right) = (station.left(), station.right());
    set_mode(&right, 0o777);
    write(&left.join("large"), &vec![b'l'; 17 << 20], 1000);
    set_mode(&left.join("large"), 0o600);
    let part = || {
        let names = fs::read_dir(&right).unwrap().flatten().map(|entry| entry.path());
        names.into_iter().find(|path| path.to_string_lossy().contains(".reedhook-part-"))
    };
    meanwhile(&station, &["run", "counts"], || part().is_some(), |child| child.kill().unwrap());
    let planted = part().unwrap();
    fs::remove_file(&planted).unwrap();
    fs::write(&planted, b"").unwrap();
    chown(&planted, Some(OTHER), Some(OTHER)).unwrap();
    set_mode(&planted, 0o666);
    let held = fs::File::open(&planted).unwrap();
    station.run(&["job", "edit", "counts", "--limit", "off"]).expect(0);
    station.run_job(&[]).expect(0);
    let large = right.join("large");
    assert_eq!((owner(&large), mode(&large)), (0, 0o600));
    assert_ne!(held.metadata().unwrap().ino(), fs::metadata(&large).unwrap().ino());
    assert_eq!(held.metadata().unwrap().len(), 0, "nothing of it went there");
}

#[test]
fn private_folders_stay_private_among_kept_copies() {
    if !as_root_only("private folders of another account") {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    let (left, right) = (station.left(), station.right());
    let private = left.join("private/deeper");
    write(&private.join("diary"), b"mine", 1000);
    write(&private.join("old"), b"mine", 1000);
    write(&left.join("plain"), b"plain", 1000);
    for folder in [left.join("private"), private.clone()] {
        chown(&folder, Some(OTHER), Some(OTHER)).unwrap();
        set_mode(&folder, 0o700);
    }
    station.run_job(&[]).expect(0);
    let modes = |what: &str| {
        for run in fs::read_dir(right.join(".reedhook/kept")).into_iter().flatten().flatten() {
            for folder in ["private", "private/deeper"].map(|name| run.path().join(name)) {
                assert!(!folder.exists() || mode(&folder) & 0o077 == 0, "{what}: {:o}", mode(&folder));
            }
        }
    };
    // While a run goes on, and after it was killed.
    fs::remove_file(private.join("old")).unwrap();
    write(&private.join("diary"), b"mine, changed", 2000);
    write(&left.join("slow"), &vec![b's'; 300_000], 1000);
    station.run(&["job", "edit", "counts", "--limit", "100 KB/s"]).expect(0);
    let kept = || right.join(".reedhook/kept").exists();
    meanwhile(&station, &["run", "counts", "--yes"], kept, |child| {
        modes("meanwhile");
        child.kill().unwrap();
    });
    modes("after a kill");
    station.run(&["job", "edit", "counts", "--limit", "off"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    modes("after a run");
    // An undo takes the whole folder away.
    station.run(&["undo", "counts", "1", "--yes"]);
    modes("after an undo");
    station.run(&["restore", "counts", "private", "--into", "elsewhere", "--yes"]);
    let restored = station.path("elsewhere/private");
    assert!(!restored.exists() || mode(&restored) & 0o077 == 0, "{:o}", mode(&restored));
}

/// A folder is exchanged for a link to another of root's while its files go to the trash.
#[test]
fn the_trash_takes_only_what_was_looked_at() {
    if !as_root_only("a folder that is exchanged") {
        return;
    }
    let station = Station::with_job("mirror", &["--removed", "trash", "--max-removals", "off"]);
    let (right, foreign) = (station.right(), station.path("foreign"));
    for number in 0..3000 {
        write(&right.join(format!("d/{number}")), b"1", 1000);
        write(&foreign.join(format!("{number}")), b"1", 1000);
    }
    write(&station.left().join("stays"), b"1", 1);
    let left = || fs::read_dir(right.join("d")).map_or(0, Iterator::count);
    meanwhile(
        &station,
        &["run", "counts", "--yes", "--allow", "removals"],
        || left() < 3000,
        |_| {
            fs::rename(right.join("d"), station.path("away")).unwrap();
            symlink(&foreign, right.join("d")).unwrap();
        },
    );
    assert_eq!(fs::read_dir(&foreign).unwrap().count(), 3000);
}

/// Exchanges two names over and over, as the other account; runs in a copy of this test program.
#[test]
fn the_other_account() {
    let Some(words) = std::env::var_os("REEDHOOK_TEST_INTRUDER") else { return };
    let words = words.to_string_lossy().into_owned();
    let [folder, target] = words.split('\n').collect::<Vec<_>>()[..] else { panic!("two names") };
    let (folder, away) = (PathBuf::from(folder), PathBuf::from(format!("{folder}.away")));
    loop {
        let _ = fs::rename(&folder, &away);
        let _ = symlink(target, &folder);
        std::thread::yield_now();
        let _ = fs::remove_file(&folder);
        let _ = fs::rename(&away, &folder);
        std::thread::yield_now();
    }
}

/// Ends the intruder when the test is over.
struct Intruder(Child);

impl Drop for Intruder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn intruder(station: &Station, folder: &Path, target: &Path) -> Intruder {
    let program = station.path("intruder");
    if !program.exists() {
        fs::copy(std::env::current_exe().unwrap(), &program).unwrap();
    }
    set_mode(&program, 0o755);
    let words = [folder.as_os_str(), OsStr::new("\n"), target.as_os_str()].iter().fold(
        std::ffi::OsString::new(),
        |mut all, word| {
            all.push(word);
            all
        },
    );
    let mut command = Command::new(program);
    command.args(["--exact", "the_other_account"]).env("REEDHOOK_TEST_INTRUDER", words);
    command.uid(OTHER).gid(OTHER).stdout(Stdio::null()).stderr(Stdio::null());
    Intruder(command.spawn().unwrap())
}

/// How long each race is played: a moment in tests, longer by hand.
fn play_for() -> Duration {
    let seconds = std::env::var("REEDHOOK_RACES").ok().and_then(|text| text.parse().ok());
    Duration::from_secs(seconds.unwrap_or(3))
}

/// A folder at the destination and a link to root's own files change places all the time, while runs remove, replace and add there.
#[test]
fn a_folder_that_is_swapped_all_the_time_leads_nowhere() {
    if !as_root_only("races with another account") {
        return;
    }
    for removed in ["trash", "erase", "keep"] {
        let station = Station::with_job("mirror", &["--removed", removed, "--max-removals", "off"]);
        let (left, right) = (station.left(), station.right());
        set_mode(station.folder.path(), 0o755);
        let foreign = station.path("foreign");
        for number in 0..200 {
            write(&foreign.join(format!("{number}")), b"root's own", 1000);
            set_mode(&foreign.join(format!("{number}")), 0o600);
        }
        write(&left.join("stays"), b"1", 1);
        set_mode(&right, 0o777);
        let swapped = right.join("d");
        let begun = Instant::now();
        while begun.elapsed() < play_for() {
            fs::create_dir_all(&swapped).unwrap();
            for number in 0..200 {
                write(&swapped.join(format!("{number}")), b"root's own", 1000);
            }
            chown(&swapped, Some(OTHER), Some(OTHER)).unwrap();
            let intruder = intruder(&station, &swapped, &foreign);
            let _ = station.run(&["run", "counts", "--yes", "--allow", "removals"]);
            drop(intruder);
            // Where it was stopped in the middle.
            let _ = fs::remove_file(&swapped);
            let _ = fs::rename(right.join("d.away"), &swapped);
        }
        for number in 0..200 {
            let file = foreign.join(format!("{number}"));
            assert!(file.exists(), "{removed}: {number} is gone");
            assert_eq!((mode(&file), owner(&file)), (0o600, 0), "{removed}");
        }
    }
}
