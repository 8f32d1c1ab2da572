//! The engine's edges: trees within trees, mount points, things that become something else, runs and readings that are broken off.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant, SystemTime};

use common::{
    Mounted, Node, Station, as_root_only, assert_alike, assert_no_leftovers, number, set_mode, tool, tree,
    with_mounts, with_tools, write,
};
use reedhook_testing::signals::{self, Signal};

/// Waits until something holds, and fails the test when it never does.
#[track_caller]
fn wait_until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(30), "in vain: {what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn unfinished_in(folder: &Path) -> Option<u64> {
    let entries = fs::read_dir(folder).ok()?.flatten();
    let part = |name: &std::ffi::OsStr| name.to_string_lossy().starts_with(".reedhook-part-");
    entries
        .filter(|entry| part(&entry.file_name()))
        .filter_map(|entry| Some(entry.metadata().ok()?.len()))
        .max()
}

#[test]
fn a_tree_that_another_job_works_in_is_left_to_it() {
    let station = Station::with_job("copy", &["--limit", "1 MB/s"]);
    station.write("rota.txt", "1", 1000);
    // Another job's destination lies in this one's source, and a third one's in its destination.
    fs::create_dir(station.path("other")).unwrap();
    write(&station.path("other/heron.csv"), b"heron", 1000);
    for (name, to) in [("inbox", "left/inbox"), ("inner", "right/inner")] {
        station.run(&["job", "add", name, "mirror", "other", to, "--yes"]).expect(0);
        station.run(&["run", name]).expect(0);
    }
    let unfinished = station.right().join("inner/.reedhook-part-of-a-run-that-is-going-on");
    write(&unfinished, b"half", 5);
    station.run_job(&[]).expect(0);
    assert!(station.right().join("inbox/heron.csv").exists(), "what it holds is content like any other");
    assert!(!station.right().join("inbox/.reedhook").exists(), "what is Reedhook's own is not");
    assert!(unfinished.exists(), "an unfinished file of another job is that job's");

    // While a run goes on in the tree above, none begins below: either would take the other's files for its own leftovers.
    let run = station.while_running(|| {
        let refused = station.run(&["run", "inner", "--json"]).expect(3).last();
        assert_eq!(refused["code"], "destination-in-use", "{refused}");
    });
    run.expect(0);
    station.run(&["run", "inner"]).expect(0);
    assert!(!unfinished.exists(), "the job whose root it is clears it");
}

#[test]
fn a_mount_point_in_the_destination_is_kept_up_to_date() {
    if !with_mounts("a mount point in the destination", &[]) {
        return;
    }
    let station = Station::on_one_file_system().job("mirror", &[]);
    let drive = Mounted::memory(&station.right().join("drive"), "8m");
    for name in ["drive/replaced.csv", "drive/removed.csv", "into.csv", "drive/out.csv"] {
        station.write(name, &format!("the first {name}"), 1000);
    }
    station.run_job(&[]).expect(0);
    station.write("drive/replaced.csv", "the second, longer", 2000);
    fs::remove_file(station.left().join("drive/removed.csv")).unwrap();
    fs::rename(station.left().join("into.csv"), station.left().join("drive/into.csv")).unwrap();
    fs::rename(station.left().join("drive/out.csv"), station.left().join("out.csv")).unwrap();
    let finished = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&finished, "updated"), number(&finished, "problems")), (1, 0), "{finished}");
    let kept: Vec<String> = station.kept().keys().map(|path| path.display().to_string()).collect();
    // What moved across the border was copied and removed.
    assert_eq!(kept, ["drive/out.csv", "drive/removed.csv", "drive/replaced.csv", "into.csv"]);
    let again = station.run_job(&[]).expect(0).last();
    assert_eq!(number(&again, "same"), 3, "{again}");
    // Undone, the old versions come back across the border.
    station.run(&["undo", "counts", "2"]).expect(0);
    assert_eq!(
        fs::read(station.right().join("drive/replaced.csv")).unwrap(),
        b"the first drive/replaced.csv"
    );
    assert!(station.right().join("drive/removed.csv").exists());
    drop(drive);
}

#[test]
fn a_closed_folder_becomes_a_file_and_a_link() {
    let station = Station::with_job("mirror", &[]);
    for name in ["file", "link"] {
        fs::create_dir(station.left().join(name)).unwrap();
        station.write(&format!("{name}/heron.csv"), "heron", 1000);
        set_mode(&station.left().join(name), 0o555);
    }
    station.write("rota.txt", "1", 1000);
    station.run_job(&[]).expect(0);
    for name in ["file", "link"] {
        set_mode(&station.left().join(name), 0o755);
        fs::remove_dir_all(station.left().join(name)).unwrap();
    }
    station.write("file", "a file now", 2000);
    set_mode(&station.left().join("file"), 0o640);
    symlink("rota.txt", station.left().join("link")).unwrap();
    let finished = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&finished, "problems"), 0, "{finished}");
    assert_alike(&station.left(), &station.right());
    assert_eq!(
        station.run(&["preview", "counts", "--json"]).expect(0).json().len(),
        1,
        "nothing is left to do"
    );
}

#[test]
fn what_becomes_a_socket_is_a_problem_and_stops_nothing() {
    let station = Station::with_job("copy", &["--limit", "1 MB/s"]);
    station.write("z.csv", "heron", 1000);
    station.write("zz.csv", "heron", 1000);
    let mut socket = None;
    let run = station.while_running(|| {
        fs::remove_file(station.left().join("z.csv")).unwrap();
        socket = Some(std::os::unix::net::UnixListener::bind(station.left().join("z.csv")).unwrap());
    });
    let run = run.expect(1);
    let problem = run.json().into_iter().find(|line| line["event"] == "problem").unwrap();
    assert_eq!(
        (problem["path"].as_str(), problem["code"].as_str()),
        (Some("z.csv"), Some("changed-meanwhile"))
    );
    assert!(station.right().join("zz.csv").exists());
}

#[test]
fn nothing_is_written_into_a_folder_that_was_moved_away() {
    let station = Station::on_one_file_system().job("copy", &["--limit", "1 MB/s"]);
    station.write("z/first.csv", "heron", 1000);
    station.run_job(&[]).expect(0);
    for number in 0..20 {
        station.write(&format!("z/{number}.csv"), "heron", 2000);
    }
    let away = station.path("away");
    let run = station.while_running(|| fs::rename(station.right().join("z"), &away).unwrap());
    assert!([0, 1].contains(&run.code), "{}", run.err);
    let names: Vec<_> = fs::read_dir(&away).unwrap().flatten().map(|entry| entry.file_name()).collect();
    assert_eq!(names, ["first.csv"], "the folder is out of the destination");
}

#[test]
fn what_an_only_line_names_may_become_a_file() {
    let station = Station::with_job("mirror", &["--only", "x"]);
    station.write("x/heron.csv", "heron", 1000);
    station.run_job(&[]).expect(0);
    fs::remove_dir_all(station.left().join("x")).unwrap();
    station.write("x", "a file now", 2000);
    station.run_job(&["--yes"]).expect(0);
    assert_eq!(fs::read(station.right().join("x")).unwrap(), b"a file now");
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "same"), 1);
}

#[test]
fn leftovers_are_cleared_wherever_they_are() {
    let station = Station::with_job("mirror", &["--limit", "20 MB/s"]);
    write(&station.left().join("stills/large.jpg"), &vec![7; 60 << 20], 1000);
    let mut child = station.command(&["run", "counts", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
    let stills = station.right().join("stills");
    wait_until("something of the large file", || unfinished_in(&stills).is_some_and(|size| size > 0));
    child.kill().unwrap();
    child.wait().unwrap();
    // The folder is left out from now on, so no walk looks into it; and a kill may also leave something in our own folder.
    station.run(&["job", "filter", "counts", "--add", "stills/"]).expect(0);
    let own = station.right().join(".reedhook");
    write(&own.join(".reedhook-part-of-a-mark"), b"id", 5);
    write(&own.join("owners/.reedhook-part-of-an-owner"), b"job", 5);
    station.run_job(&[]).expect(0);
    assert_eq!(unfinished_in(&stills), None);
    assert_eq!((unfinished_in(&own), unfinished_in(&own.join("owners"))), (None, None));
}

/// Unfinished files anywhere below a folder.
fn unfinished_below(folder: &Path) -> Vec<PathBuf> {
    let (mut folders, mut found) = (vec![folder.to_path_buf()], Vec::new());
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                folders.push(entry.path());
            } else if entry.file_name().to_string_lossy().starts_with(".reedhook-part-") {
                found.push(entry.path());
            }
        }
    }
    found
}

#[test]
fn a_kill_leaves_nothing_among_the_kept_copies() {
    if !with_mounts("a mount point in the destination", &[]) {
        return;
    }
    let station = Station::on_one_file_system().job("mirror", &[]);
    let _drive = Mounted::memory(&station.right().join("drive"), "200m");
    write(&station.left().join("drive/large.jpg"), &vec![7; 60 << 20], 1000);
    station.run_job(&[]).expect(0);
    write(&station.left().join("drive/large.jpg"), b"small now", 2000);
    let mut child = station.command(&["run", "counts", "--quiet"]).stdout(Stdio::null()).spawn().unwrap();
    wait_until("a copy of the old version", || {
        !unfinished_below(&station.right().join(".reedhook")).is_empty()
    });
    child.kill().unwrap();
    child.wait().unwrap();
    station.run_job(&[]).expect(0);
    assert_eq!(unfinished_below(&station.right()), Vec::<PathBuf>::new());
    assert_eq!(station.kept().into_keys().collect::<Vec<_>>(), [Path::new("drive/large.jpg")]);
}

#[test]
fn a_folder_with_a_name_like_ours_is_nobodys_leftover() {
    for kind in ["mirror", "two-way"] {
        let station = Station::with_job(kind, &[]);
        station.write("heron.csv", "heron", 1000);
        write(&station.right().join("stills/.reedhook-part-7f/egret.jpg"), b"egret", 1000);
        station.run_job(&["--yes"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
        assert!(station.right().join("stills/.reedhook-part-7f/egret.jpg").exists(), "{kind}");
    }
}

/// A two-way job, as a file; it may become a mirror and one again.
fn set_kind(station: &Station, two_way: bool) {
    let text = if two_way {
        format!("kind = \"two-way\"\nleft = {:?}\nright = {:?}\n", station.left(), station.right())
    } else {
        format!("kind = \"mirror\"\nfrom = {:?}\nto = {:?}\n", station.left(), station.right())
    };
    fs::write(station.path("home/jobs/counts.toml"), text).unwrap();
}

#[test]
fn a_memory_that_is_not_of_the_last_run_is_none() {
    for stale in ["the state file was put back", "the kind was changed and back"] {
        let station = Station::with_job("two-way", &[]);
        set_kind(&station, true);
        station.write("heron.csv", "heron", 1000);
        station.write("rota.txt", "1", 1000);
        station.run_job(&[]).expect(0);
        let state = station.path("home/state.db");
        let before = fs::read(&state).unwrap();
        fs::remove_file(station.left().join("heron.csv")).unwrap();
        set_kind(&station, stale.contains("state"));
        station.run_job(&["--yes"]).expect(0);
        assert!(!station.right().join("heron.csv").exists());
        // It comes back from somewhere, with the time that it had.
        station.write("heron.csv", "heron", 1000);
        if stale.contains("state") {
            for end in ["-wal", "-shm"] {
                let _ = fs::remove_file(station.path(&format!("home/state.db{end}")));
            }
            fs::write(&state, &before).unwrap();
        }
        set_kind(&station, true);
        station.run_job(&["--yes"]).expect(0);
        for side in [station.left(), station.right()] {
            assert_eq!(fs::read(side.join("heron.csv")).unwrap(), b"heron", "{stale}: {}", side.display());
        }
    }
}

#[test]
fn a_destination_of_a_group_serves_its_other_accounts() {
    if !as_root_only("a destination that two accounts share") {
        return;
    }
    let station = Station::with_job("copy", &[]);
    station.write("heron.csv", "heron", 1000);
    tool(&["chown", "root:nogroup", station.right().to_str().unwrap()]);
    set_mode(&station.right(), 0o2775);
    station.run_job(&[]).expect(0);
    let own = fs::metadata(station.right().join(".reedhook")).unwrap();
    assert_eq!((own.permissions().mode() & 0o777, own.gid()), (0o775, 65_534), "as the folder itself");

    // Another account of the group works there too.
    let program = station.path("reedhook");
    fs::copy(common::program(), &program).unwrap();
    set_mode(station.folder.path(), 0o755);
    write(&station.path("theirs/egret.csv"), b"egret", 1000);
    fs::create_dir(station.path("their-home")).unwrap();
    tool(&[
        "chown",
        "-R",
        "nobody:nogroup",
        station.path("their-home").to_str().unwrap(),
        station.path("theirs").to_str().unwrap(),
    ]);
    use std::os::unix::process::CommandExt;
    let output = Command::new(&program)
        .args(["once", "copy", "theirs", "right"])
        .current_dir(station.folder.path())
        .env("REEDHOOK_HOME", station.path("their-home"))
        .uid(65_534)
        .gid(65_534)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(station.right().join("egret.csv").exists());
}

#[test]
fn a_folder_that_cannot_be_entered_can_be_left_out() {
    let station = Station::with_job("copy", &[]);
    station.write("listed only/heron.csv", "heron", 1000);
    station.write("rota.txt", "1", 1000);
    set_mode(&station.left().join("listed only"), 0o444);
    let station = station.without_rights();
    station.run_job(&[]).expect(1);
    station.run(&["job", "filter", "counts", "--from-problems", "last", "--yes"]).expect(0);
    station.run_job(&[]).expect(0);
    set_mode(&station.left().join("listed only"), 0o755);
}

#[test]
fn what_is_there_of_a_large_file_counts_once() {
    const SIZE: u64 = 40 << 20;
    let station = Station::with_job("copy", &["--limit", "20 MB/s"]);
    write(&station.left().join("large.jpg"), &vec![7; SIZE as usize], 1000);
    let child = station.command(&["run", "counts"]).stdout(Stdio::piped()).spawn().unwrap();
    wait_until("a good part of the file", || {
        unfinished_in(&station.right()).is_some_and(|size| size > 17 << 20)
    });
    signals::send(child.id(), Signal::INT);
    let ended = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&ended.stdout).into_owned();
    assert_eq!(ended.status.code(), Some(130), "{said}");
    assert!(said.contains("of unfinished files are there"), "{said}");
    let there = unfinished_in(&station.right()).unwrap();
    let finished = station.run_job(&[]).expect(0).last();
    assert_eq!(number(&finished, "added"), 1);
    let bytes = number(&finished, "bytes");
    assert!(bytes > 0 && bytes <= SIZE - there.min(16 << 20), "{bytes} written, {there} were there");
    assert_alike(&station.left(), &station.right());
}

/// A file that nobody could read to its end in a test, and that takes no room.
fn write_endless(path: &Path, seconds: u64) {
    write(path, b"", seconds);
    let file = fs::File::options().write(true).open(path).unwrap();
    file.set_len(2 << 40).unwrap();
    file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(seconds)).unwrap();
}

#[test]
fn ctrl_c_stops_within_a_file() {
    // To verify, to prove that a file has moved, and to see whether two files of two times are the same, all of it is read.
    for (kind, words) in
        [("mirror", ["verify", "counts"]), ("mirror", ["run", "counts"]), ("two-way", ["run", "counts"])]
    {
        let station = Station::with_job(kind, &[]);
        write_endless(&station.left().join("large.jpg"), 1000);
        write_endless(&station.right().join("large.jpg"), if kind == "two-way" { 2000 } else { 1000 });
        if kind == "mirror" {
            station.run_job(&[]).expect(0);
        }
        if words[0] == "run" && kind == "mirror" {
            fs::rename(station.left().join("large.jpg"), station.left().join("moved.jpg")).unwrap();
        }
        let child = station.command(&words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let reading = format!("/proc/{}/io", child.id());
        wait_until("a good part of it to be read", || read_so_far(&reading) > 100 << 20);
        signals::send(child.id(), Signal::INT);
        let ended = child.wait_with_output().unwrap();
        assert_eq!(ended.status.code(), Some(130), "{kind} {words:?}");
        assert!(station.right().join("large.jpg").exists());
    }
}

/// The bytes that a process has read, by proc_pid_io(5).
fn read_so_far(io: &str) -> u64 {
    let text = fs::read_to_string(io).unwrap_or_default();
    text.lines().find_map(|line| line.strip_prefix("rchar: ")?.parse().ok()).unwrap_or(0)
}

#[test]
fn a_restore_that_is_broken_off_leaves_nothing_in_the_source() {
    let station = Station::with_job("copy", &["--limit", "20 MB/s"]);
    write(&station.right().join("large.jpg"), &vec![7; 60 << 20], 1000);
    station.write("rota.txt", "1", 1000);
    let mut child = station
        .command(&["restore", "counts", "large.jpg", "--yes"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    wait_until("an unfinished file", || unfinished_in(&station.left()).is_some_and(|size| size > 0));
    signals::send(child.id(), Signal::INT);
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_no_leftovers(&station.left());
    assert_eq!(tree(&station.left()).len(), 1);
}

#[test]
fn a_file_over_the_limit_of_the_account_is_a_problem_of_its_own() {
    if !with_tools("a limit on the size of files", &["bash"]) {
        return;
    }
    let station = Station::with_job("copy", &[]);
    write(&station.left().join("large.jpg"), &vec![7; 8 << 20], 1000);
    station.write("rota.txt", "1", 1000);
    let run = station.command(&["run", "counts", "--json"]);
    let mut limited = Command::new("bash");
    limited.args(["-c", "ulimit -f 4096; exec \"$0\" \"$@\""]).arg(run.get_program()).args(run.get_args());
    limited.envs(run.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = limited.current_dir(station.folder.path()).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("\"too-large\"") && said.contains("\"finished\""), "{said}");
    assert!(station.right().join("rota.txt").exists() && !station.right().join("large.jpg").exists());
    assert_eq!(unfinished_in(&station.right()), None);
}

#[test]
fn one_broken_job_file_does_not_keep_the_others_from_running() {
    let station = Station::with_job("copy", &[]);
    station.write("rota.txt", "1", 1000);
    fs::write(station.path("home/jobs/a-broken-one.toml"), "kind = \"mirrror\"\n").unwrap();
    let ran = station.run(&["run", "--all"]);
    assert_eq!(ran.code, 2, "{}", ran.err);
    assert!(ran.err.contains("a-broken-one.toml, line 1"), "{}", ran.err);
    assert!(matches!(tree(&station.right())[Path::new("rota.txt")], Node::File { .. }));
}

#[test]
fn a_destination_that_no_run_could_use_is_refused_when_the_job_is_set_up() {
    let station = Station::new();
    write(&station.path("file"), b"1", 1);
    symlink("circle", station.path("circle")).unwrap();
    symlink("nowhere", station.path("dangling")).unwrap();
    for (to, words) in [
        ("not/there", "nor is"),
        ("file", "is no folder"),
        ("circle", "is a link that leads nowhere"),
        ("dangling", "is a link that leads nowhere"),
    ] {
        let refused = station.run(&["job", "add", "counts", "mirror", "left", to]).expect(2);
        assert!(refused.err.contains(words), "{to}: {}", refused.err);
        assert!(!station.path("home/jobs/counts.toml").exists(), "nothing was touched");
    }
}
