//! Reedhook's own files and what programs read: broken, full, closed or unreadable ones; outputs that cannot be written; signals.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeSet;
use std::fs;
use std::io::Read;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::{Mounted, Station, number, set_mode, with_mounts, with_tools, write};
use reedhook_testing::signals::{self, Signal};
use serde_json::Value;

/// A job that has run twice: the second time something was replaced and removed.
fn with_a_past() -> Station {
    let station = Station::with_job("mirror", &[]);
    station.write("heron.csv", "heron", 1000);
    station.write("egret.csv", "egret", 1000);
    station.run_job(&[]).expect(0);
    station.write("heron.csv", "two herons", 2000);
    fs::remove_file(station.left().join("egret.csv")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    station
}

fn break_state_file(station: &Station) {
    garble(station, "state.db");
}

/// Puts something else in the place of a file of SQLite's.
fn garble(station: &Station, file: &str) {
    for end in ["-wal", "-shm"] {
        let _ = fs::remove_file(station.path(&format!("home/{file}{end}")));
    }
    fs::write(
        station.path(&format!("home/{file}")),
        "no database at all, but long enough to be looked at as one",
    )
    .unwrap();
}

#[test]
fn a_broken_state_file_is_told_with_its_path_and_mended_from_the_logs() {
    let station = with_a_past();
    let before = station.run(&["history", "counts", "--json"]).expect(0).json();
    break_state_file(&station);
    let said = station.run(&["history", "counts"]).expect(2).err;
    assert!(said.contains("home/state.db") && said.contains("reedhook doctor --mend"), "{said}");
    let finished = station.run_job(&[]).expect(3).last();
    assert_eq!((&finished["event"], &finished["outcome"]), (&"finished".into(), &"refused".into()));
    assert_eq!(finished["code"], "state-file");

    let found = station.run(&["doctor"]).expect(1).out;
    let one_line = found.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(one_line.contains("bad") && one_line.contains("--mend puts it aside"), "{found}");
    assert!(station.path("home/state.db").exists(), "looking changes nothing");
    let mended = station.run(&["doctor", "--mend"]).expect(0).out;
    assert!(mended.contains("The new one knows 2 runs"), "{mended}");
    let aside = fs::read_dir(station.path("home")).unwrap().flatten();
    assert!(aside.into_iter().any(|entry| entry.file_name().to_string_lossy().contains("state.db.broken-")));
    let after = station.run(&["history", "counts", "--json"]).expect(0).json();
    assert_eq!(after, before, "what ran, when, and what came of it is in the logs");
    // The stores are known again too: the last run can be undone, and an empty mount point is not taken for the destination.
    station.run(&["undo", "counts", "2", "--json"]).expect(0);
    assert!(station.right().join("egret.csv").exists());
    fs::rename(station.right(), station.path("unplugged")).unwrap();
    fs::create_dir(station.right()).unwrap();
    assert_eq!(station.run_job(&[]).expect(3).last()["outcome"], "refused");
}

#[test]
fn broken_inventories_are_told_put_aside_and_taken_anew() {
    let station = with_a_past();
    station.run(&["inventory", "take", "left", "--name", "near"]).expect(0);
    garble(&station, "inventories.db");
    let said = station.run(&["inventory", "list"]).expect(2).err;
    assert!(said.contains("home/inventories.db") && said.contains("reedhook doctor --mend"), "{said}");
    assert!(!said.contains("state file"), "{said}");
    let found = station.run(&["doctor", "--json"]).expect(1).json();
    let bad: Vec<&Value> = found.iter().filter(|line| line["state"] == "bad").collect();
    assert_eq!((bad.len(), &bad[0]["what"]), (1, &"inventories".into()), "{found:?}");
    let mended = station.run(&["doctor", "--mend"]).expect(0).out;
    assert!(mended.contains("they are now") && mended.contains("inventories.db.broken-"), "{mended}");
    assert_eq!(
        station.run(&["history", "counts", "--json"]).expect(0).json().len(),
        2,
        "the state file is left alone"
    );
    station.run(&["inventory", "take", "left", "--name", "near"]).expect(0);
    assert_eq!(station.run(&["inventory", "list", "--json"]).expect(0).json()[0]["entries"], 1);
    // One of a newer program is nothing broken.
    let db = rusqlite::Connection::open(station.path("home/inventories.db")).unwrap();
    db.pragma_update(None, "user_version", 99).unwrap();
    let said = station.run(&["inventory", "list"]).expect(2).err;
    assert!(said.contains("has layout 99, and this program knows 2; use a newer Reedhook"), "{said}");
    assert!(station.run(&["doctor", "--mend"]).expect(2).err.contains("it is left alone"));
}

#[test]
fn doctor_looks_at_everything_also_when_the_settings_are_broken() {
    let station = with_a_past();
    station.run(&["store", "add", "archive", "sftp://archive.example/srv"]).expect(0);
    station.run(&["store", "add", "field-drive", "--drive", "FENFIELD-9"]).expect(0);
    let well = station.run(&["doctor", "--json"]).expect(0).json();
    let whats: BTreeSet<&str> = well.iter().map(|line| line["what"].as_str().unwrap()).collect();
    let wanted = ["clock", "home", "inventories", "jobs", "logs", "state", "stores", "tools", "zone"];
    assert_eq!(whats.into_iter().collect::<Vec<_>>(), wanted);
    assert!(well.iter().any(|line| line["state"] == "care" && line["what"] == "stores"), "a drive is away");
    fs::write(station.path("home/reedhook.toml"), "[stores\n").unwrap();
    fs::write(station.path("home/jobs/broken.toml"), "kind = 7\n").unwrap();
    let ill = station.run(&["doctor"]).expect(1).out;
    assert!(ill.contains("reedhook.toml, line 1") && ill.contains("broken.toml"), "{ill}");
    assert!(ill.contains("2 things to put right"), "{ill}");
}

#[test]
fn a_home_that_cannot_be_written_is_told_before_anything_begins() {
    let station = Station::with_job("copy", &[]);
    station.write("heron.csv", "heron", 1000);
    let station = station.without_rights();
    let home = station.path("home");
    // The folder of state can be read, and nothing can be made in it.
    for name in ["state.db", "state.db-wal", "state.db-shm"] {
        let _ = fs::remove_file(home.join(name));
    }
    set_mode(&home, 0o555);
    let finished = station.run_job(&[]).expect(3).last();
    assert_eq!((&finished["outcome"], &finished["code"]), (&"refused".into(), &"own-files".into()));
    assert!(finished["message"].as_str().unwrap().contains("home/locks"), "{finished}");
    let said = station.run(&["status"]).expect(2).err;
    assert!(said.contains("home/state.db") && said.contains("reedhook doctor"), "{said}");
    assert!(!station.right().join("heron.csv").exists(), "nothing was touched");
    set_mode(&home, 0o755);
}

#[test]
fn a_full_disk_under_the_log_ends_no_run() {
    if !with_mounts("a full disk under the log", &[]) {
        return;
    }
    let station = Station::with_job("copy", &[]);
    for number in 0..2000 {
        station.write(&format!("counts/{number:04}-{}.csv", "x".repeat(60)), "1", 1000);
    }
    let logs = station.path("home/runs");
    let _full = Mounted::memory(&logs, "64k");
    let ran = station.run_job(&[]).expect(0);
    assert_eq!(number(&ran.last(), "added"), 2000);
    assert!(ran.err.contains("the log of this run could not be written whole"), "{}", ran.err);
    let refused = station.run(&["undo", "counts", "last"]).expect(3).err;
    assert!(refused.contains("could not be written whole"), "{refused}");
    let shown = station.run(&["history", "counts", "last"]).expect(0).out;
    assert!(shown.contains("Its log could not be written whole"), "{shown}");
}

#[test]
fn a_garbled_log_is_read_as_far_as_it_goes_and_undoes_nothing() {
    let station = with_a_past();
    let logs = fs::read_dir(station.path("home/runs/counts")).unwrap().flatten().map(|log| log.path());
    for log in logs {
        let mut bytes = fs::read(&log).unwrap();
        let at = bytes.windows(6).position(|six| six == b"\"item\"").unwrap();
        bytes[at..at + 6].copy_from_slice(b"\xff\xfe\0\0\"{");
        fs::write(&log, bytes).unwrap();
    }
    station.run(&["history", "counts", "2"]).expect(0);
    let refused = station.run(&["undo", "counts", "2"]).expect(3).err;
    assert!(refused.contains("cannot be read whole") && refused.contains("kept list"), "{refused}");
    break_state_file(&station);
    station.run(&["doctor", "--mend"]).expect(0);
    assert_eq!(station.run(&["history", "counts", "--json"]).expect(0).json().len(), 2);
}

#[test]
fn an_output_that_cannot_be_written_is_an_error_and_a_reader_that_left_is_none() {
    let station = with_a_past();
    for words in
        [&["job", "list"][..], &["--json", "run", "counts"], &["completions", "bash"], &["--help"], &["man"]]
    {
        let full = fs::File::options().write(true).open("/dev/full").unwrap();
        let output = station.command(words).stdout(full).stderr(Stdio::piped()).output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(5), "{words:?}: {said}");
        assert!(said.contains("the output could not be written"), "{words:?}: {said}");

        let mut child = station.command(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        assert_eq!((child.wait().unwrap().code(), said.as_str()), (Some(0), ""), "{words:?}");
    }
}

#[test]
fn a_signal_that_is_ignored_stays_ignored() {
    if !with_tools("a run that outlives its terminal", &["nohup"]) {
        return;
    }
    let station = Station::with_job("copy", &["--limit", "1 MB/s"]);
    // The tests may have been started by somebody who wants the signal to be ignored; what is to be cut short lasts for a while.
    let heard: &[&str] = &["env", "--default-signal=HUP"];
    for (first, code, bytes) in [(&["nohup"][..], 0, 3_000_000), (heard, 130, 12_000_000)] {
        write(&station.left().join("large.jpg"), &vec![7; bytes], 1000);
        let _ = fs::remove_file(station.right().join("large.jpg"));
        let run = station.command(&["run", "counts"]);
        let mut child = Command::new(first[0])
            .args(&first[1..])
            .arg(run.get_program())
            .args(run.get_args())
            .envs(run.get_envs().filter_map(|(name, value)| Some((name, value?))))
            .current_dir(station.folder.path())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let begun = Instant::now();
        let writing = || {
            let names = fs::read_dir(station.right()).unwrap().flatten().map(|entry| entry.file_name());
            names.into_iter().any(|name| name.to_string_lossy().starts_with(".reedhook-part-"))
        };
        while !writing() {
            assert!(begun.elapsed() < Duration::from_secs(30), "the run does not begin");
            std::thread::sleep(Duration::from_millis(5));
        }
        signals::send(child.id(), Signal::HUP);
        assert_eq!(child.wait().unwrap().code(), Some(code), "{first:?}");
    }
}

#[test]
fn what_is_our_own_is_closed_to_others() {
    let station = Station::new();
    // Without a home of their own, configuration and state go where the system wants them.
    let run = |words: &[&str]| {
        let mut command = station.command(words);
        command
            .env_remove("REEDHOOK_HOME")
            .env("XDG_CONFIG_HOME", station.path("config"))
            .env("XDG_STATE_HOME", station.path("state"));
        assert!(command.output().unwrap().status.success(), "{words:?}");
    };
    station.write("heron.csv", "heron", 1000);
    run(&["job", "add", "counts", "mirror", "left", "right"]);
    run(&["store", "add", "archive", "sftp://archive.example/srv"]);
    run(&["run", "counts"]);
    let mut looked_at = 0;
    let mut folders = vec![station.path("config/reedhook"), station.path("state/reedhook")];
    while let Some(folder) = folders.pop() {
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode(&folder), 0o700, "{}", folder.display());
        for entry in fs::read_dir(&folder).unwrap().flatten() {
            if entry.path().is_dir() {
                folders.push(entry.path());
            } else {
                assert_eq!(mode(&entry.path()), 0o600, "{}", entry.path().display());
                looked_at += 1;
            }
        }
    }
    assert!(looked_at >= 5, "{looked_at} files: job, settings, state, log, lock");
}

#[test]
fn an_older_state_file_is_closed_and_a_linked_job_file_stays_where_it_is() {
    let station = with_a_past();
    let state = station.path("home/state.db");
    set_mode(&state, 0o644);
    station.run(&["status"]).expect(0);
    assert_eq!(fs::metadata(&state).unwrap().permissions().mode() & 0o777, 0o600);
    // Job files are kept in version control by some, with links to them.
    let (job, kept) = (station.path("home/jobs/counts.toml"), station.path("kept-elsewhere.toml"));
    fs::rename(&job, &kept).unwrap();
    symlink(&kept, &job).unwrap();
    station.run(&["job", "edit", "counts", "--exclude", "*.tmp"]).expect(0);
    assert!(job.is_symlink() && fs::read_to_string(&kept).unwrap().contains("*.tmp"));
}

#[test]
fn failures_are_told_to_programs_too() {
    let station = with_a_past();
    let cases: &[(&[&str], i32, &str)] = &[
        (&["run", "cuonts"], 2, "unknown-job"),
        (&["preview"], 2, "usage"),
        (&["history", "counts", "99"], 2, "usage"),
        (&["job", "add", "counts", "mirror", "left", "right"], 2, "usage"),
        (&["store", "check", "nowhere/at/all"], 3, "not-found"),
    ];
    for (words, code, why) in cases {
        let ran = station.run(&[words, &["--json"][..]].concat()).expect(*code);
        let failure = ran.last();
        assert_eq!(
            (&failure["v"], &failure["event"], &failure["code"], &failure["exit"]),
            (&1.into(), &"failure".into(), &(*why).into(), &(*code).into()),
            "{words:?}: {failure}"
        );
        assert!(!failure["message"].as_str().unwrap().is_empty() && !ran.err.is_empty(), "{words:?}");
    }
}

/// Every key of every line that a command prints.
fn keys(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(map) => {
            // What a server says of itself is in its own words.
            for (key, value) in map.iter().filter(|(key, _)| *key != "facts") {
                found.insert(key.clone());
                keys(value, found);
            }
        }
        Value::Array(values) => values.iter().for_each(|value| keys(value, found)),
        _ => {}
    }
}

#[test]
fn every_line_and_key_is_described() {
    let station = with_a_past();
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    station.run(&["job", "add", "tablet", "two-way", "left", "both", "--yes"]).expect(0);
    station.run(&["run", "tablet"]).expect(0);
    for side in ["left", "both"] {
        let time = if side == "left" { 3000 } else { 4000 };
        write(&station.path(side).join("heron.csv"), format!("differs at {side}").as_bytes(), time);
    }
    let commands: &[&[&str]] = &[
        &["preview", "tablet"],
        &["run", "tablet"],
        &["conflicts", "tablet"],
        &["why", "tablet", "heron.csv"],
        &["settle", "tablet", "heron.csv", "--keep", "left"],
        &["run", "counts"],
        &["status"],
        &["history"],
        &["history", "counts", "2"],
        &["job", "list"],
        &["job", "filter", "counts"],
        &["store", "list"],
        &["store", "check", "field-drive", "--write"],
        &["drives"],
        &["kept", "list", "counts"],
        &["kept", "list", "counts", "2"],
        &["kept", "prune", "counts"],
        &["verify", "counts"],
        &["restore", "counts", "heron.csv", "--yes"],
        &["undo", "counts", "2"],
        &["doctor"],
        &["run", "nothing"],
    ];
    let mut found = BTreeSet::new();
    for words in commands {
        let lines = station.run(&[words, &["--json"][..]].concat()).json();
        // A machine need not have a drive.
        let version = lines.first().map(|line| &line["v"]);
        assert!(version == Some(&Value::from(1)) || (version.is_none() && *words == ["drives"]), "{words:?}");
        assert!(lines.iter().skip(1).all(|line| line.get("v").is_none()), "{words:?}");
        lines.iter().for_each(|line| keys(line, &mut found));
        let events = lines.iter().map(|line| line["event"].as_str().unwrap().to_owned());
        found.extend(events);
    }
    for log in fs::read_dir(station.path("home/runs/counts")).unwrap().flatten() {
        for line in fs::read_to_string(log.path()).unwrap().lines() {
            keys(&serde_json::from_str(line).unwrap(), &mut found);
        }
    }
    let formats = include_str!("../../../docs/formats.md");
    let job_keys = station.run(&["job", "add", "--help"]).expect(0).out;
    let described = |key: &String| {
        formats.contains(&format!("`{key}`")) || job_keys.contains(&format!("--{}", key.replace('_', "-")))
    };
    let missing: Vec<&String> = found.iter().filter(|key| !described(key)).collect();
    assert!(missing.is_empty() && found.len() > 60, "not in docs/formats.md: {missing:?} of {}", found.len());
}

#[test]
fn a_running_job_is_not_renamed_or_removed() {
    let station = Station::with_job("copy", &["--limit", "1 MB/s"]);
    let run = station.while_running(|| {
        for words in [&["job", "rename", "counts", "birds"][..], &["job", "remove", "counts"]] {
            assert!(station.run(words).expect(3).err.contains("is already running"));
        }
    });
    run.expect(0);
    station.run(&["job", "rename", "counts", "birds"]).expect(0);
    assert_eq!(station.run(&["history", "birds", "--json"]).expect(0).json().len(), 1);
    assert!(!station.path("home/runs/counts").exists(), "its logs went along");
}

#[test]
fn old_logs_go_and_the_newest_stay() {
    let station = Station::with_job("mirror", &["--keep-for", "1 day"]);
    station.run(&["store", "add", "share", "right"]).expect(0);
    let settings = station.path("home/reedhook.toml");
    let text = fs::read_to_string(&settings).unwrap();
    fs::write(&settings, text + "\n[logs]\nkeep_for = \"2 days\"\n").unwrap();
    station.write("heron.csv", "heron", 1000);
    station.run_job(&[]).expect(0);
    let logs = station.path("home/runs/counts");
    // 25 that have had their time, and 3 that have not.
    for number in 0..28_u64 {
        let age = if number < 25 { 5 } else { 1 };
        let when = std::time::SystemTime::now() - Duration::from_secs(age * 86_400 + number);
        let path = logs.join(format!("20310504-1815{number:02}-aaaa.ndjson"));
        fs::write(&path, "{}\n").unwrap();
        fs::File::options().write(true).open(&path).unwrap().set_modified(when).unwrap();
    }
    station.write("heron.csv", "two herons", 2000);
    station.run_job(&[]).expect(0);
    let left = fs::read_dir(&logs).unwrap().flatten().count();
    assert_eq!(left, 20, "the newest twenty stay, whatever their age");
    assert_eq!(
        station.run(&["history", "counts", "1", "--items"]).expect(0).out.matches("heron.csv").count(),
        1
    );
}

#[test]
fn the_home_may_be_named_by_the_environment_or_not_at_all() {
    let station = Station::new();
    let ran = |words: &[&str], home: &str| {
        let output = station.command(words).env("REEDHOOK_HOME", home).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    };
    // Alone, it explains itself, wherever its home is.
    let (code, out, err) = ran(&[], "home");
    assert!(code == Some(2) && (out + &err).contains("The usual round:"), "{err}");
    // An empty variable is none.
    let (code, _, err) = ran(&["status"], "");
    assert_eq!((code, err.as_str()), (Some(0), ""));
    // A colour that was not wanted is not in what explains the command line either.
    for words in
        [&["--color", "never", "--help"][..], &["--color=never", "run"], &["nonsense", "--color", "never"]]
    {
        let (_, out, err) = ran(words, "home");
        assert!(!(out + &err).contains('\u{1b}'), "{words:?}");
    }
    let (_, out, _) = ran(&["--color", "always", "--help"], "home");
    assert!(out.contains('\u{1b}'));
}
