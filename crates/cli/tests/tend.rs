//! The service through the built program: everything that makes a run begin, or wait, and every way in which the service ends.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use common::*;
use reedhook_testing::signals::Signal;
use tending::Tending;

const SHORT: Duration = Duration::from_millis(1500);

/// Where a job says when.
fn when(lines: &[&str]) -> Vec<String> {
    lines.iter().flat_map(|line| ["--when".to_owned(), (*line).to_owned()]).collect()
}

fn station(kind: &str, lines: &[&str], more: &[&str]) -> Station {
    let when = when(lines);
    let options: Vec<&str> = when.iter().map(String::as_str).chain(more.iter().copied()).collect();
    Station::with_job(kind, &options)
}

/// A job of the station with sides of its own.
fn another(station: &Station, name: &str, sides: [&str; 2], options: &[&str]) {
    for side in sides {
        fs::create_dir_all(station.path(side)).unwrap();
    }
    let words = [&["job", "add", name, "mirror", sides[0], sides[1]], options].concat();
    station.run(&words).expect(0);
}

#[test]
fn a_change_is_carried_and_the_own_writing_begins_nothing() {
    for kind in ["mirror", "two-way"] {
        let station = station(kind, &["on change after 1s"], &[]);
        station.write("north/a.csv", "1", 1_900_000_000);
        let mut tending = Tending::of(&station);
        assert_eq!(tending.begins("counts"), "change", "what changed while it was away");
        assert_eq!(tending.ends("counts")["added"], 1);
        tending.stays_quiet(SHORT * 2);

        fs::create_dir_all(station.left().join("south/deep")).unwrap();
        station.write("south/deep/b.csv", "2", 1_900_000_001);
        fs::write(station.left().join("north/a.csv"), "changed").unwrap();
        assert_eq!(tending.begins("counts"), "change");
        let end = tending.ends("counts");
        assert_eq!((number(&end, "added"), number(&end, "updated")), (1, 1), "{end}");
        // Moved with all that is in it, and another one in its place.
        fs::rename(station.left().join("south"), station.left().join("far")).unwrap();
        station.write("south/deep/c.csv", "333", 1_900_000_002);
        tending.begins("counts");
        let end = tending.ends("counts");
        assert_eq!((number(&end, "added"), number(&end, "moved"), number(&end, "bytes")), (1, 1, 3), "{end}");
        tending.stays_quiet(SHORT * 2);
        if kind == "two-way" {
            fs::write(station.right().join("north/from the right"), "4").unwrap();
            tending.begins("counts");
            assert_eq!(tending.ends("counts")["added"], 1);
            tending.stays_quiet(SHORT * 2);
        }
        if kind == "mirror" {
            assert_alike(&station.left(), &station.right());
        }
        // What the filter leaves out, or what is only read, is no change.
        assert_eq!(fs::read(station.left().join("far/deep/b.csv")).unwrap(), b"2");
        tending.stays_quiet(SHORT);
    }
}

#[test]
fn lines_of_the_clock_begin_runs_and_a_killed_service_makes_up_for_what_it_missed() {
    let station = station("mirror", &["every 2s"], &[]);
    let mut tending = Tending::of(&station);
    // On a busy machine a moment may pass while the run before it goes on.
    let mut at_their_time = 0;
    while at_their_time < 2 {
        at_their_time += u32::from(tending.begins("counts") == "schedule");
        assert_eq!(tending.ends("counts")["outcome"], "done");
    }
    tending.signal(Signal::KILL);
    tending.ended();
    std::thread::sleep(Duration::from_millis(2500));
    let mut tending = Tending::of(&station);
    assert_eq!(tending.begins("counts"), "missed");
    tending.ends("counts");
}

/// A station whose job was due two minutes ago, by a file that is an hour old; nothing followed it since.
fn owed(more: &[&str]) -> Station {
    let ago = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(2);
    let station = station("mirror", &[&ago.strftime("daily %H:%M").to_string()], more);
    let an_hour_ago = std::time::SystemTime::now() - Duration::from_secs(3600);
    let file = fs::File::options().write(true).open(station.path("home/jobs/counts.toml")).unwrap();
    file.set_modified(an_hour_ago).unwrap();
    station
}

#[test]
fn what_was_missed_is_owed_until_a_run_has_ended_or_is_left_out() {
    let utc = [("TZ", "UTC")];
    let station = owed(&[]);
    let mut tending = Tending::with(&station, &utc);
    assert_eq!(tending.begins("counts"), "missed");
    tending.ends("counts");
    tending.stays_quiet(SHORT);
    drop(tending);
    Tending::with(&station, &utc).stays_quiet(SHORT);
    // What somebody has run since is not owed.
    let station = owed(&[]);
    station.run_job(&[]).expect(0);
    Tending::with(&station, &utc).stays_quiet(SHORT);
    for more in [["--missed", "skip"], ["--paused", "true"]] {
        let station = owed(&more);
        Tending::with(&station, &utc).stays_quiet(SHORT);
    }
}

#[test]
fn jobs_that_share_a_place_wait_for_each_other_and_so_many_run_at_most() {
    let station = station("mirror", &["on start"], &["--limit", "400 kB/s"]);
    write(&station.left().join("large"), &vec![1; 600_000], 1_900_000_000);
    let start = ["--when", "on start", "--limit", "400 kB/s"];
    another(&station, "below", ["maps", "right/north"], &start);
    another(&station, "apart", ["apart", "copy of it"], &start);
    another(&station, "late", ["later", "copy of that"], &start);
    for side in ["apart", "later"] {
        write(&station.path(side).join("large"), &vec![2; 600_000], 1_900_000_000);
    }
    let mut tending = Tending::of(&station);
    let mut ended = 0;
    while ended < 4 {
        let end = tending.wait("all end", |line| line["event"] == "finished");
        assert_eq!(end["outcome"], "done");
        ended += 1;
    }
    let of = |event: &str| {
        let event = event.to_owned();
        tending.told.iter().filter(move |line| line["event"] == event.as_str())
    };
    assert!(of("began").all(|line| line["cause"] == "start"));
    let mut first: Vec<&str> = of("began").take(2).map(|line| line["job"].as_str().unwrap()).collect();
    first.sort_unstable();
    assert_eq!(first, ["apart", "below"], "the first two in their order");
    let waits =
        of("waiting").map(|line| (line["job"].as_str().unwrap(), line["behind"].as_str().unwrap_or("turn")));
    let mut waits: Vec<(&str, &str)> = waits.collect();
    waits.sort_unstable();
    assert!(waits.contains(&("counts", "below")) && waits.contains(&("late", "turn")), "{waits:?}");
    // Two go on at once, never three, and never two at one place.
    let mut going: Vec<&str> = Vec::new();
    for line in &tending.told {
        let job = line["job"].as_str().unwrap_or_default();
        match line["event"].as_str().unwrap() {
            "began" => going.push(job),
            "finished" => going.retain(|other| *other != job),
            _ => {}
        }
        assert!(going.len() <= 2 && !(going.contains(&"counts") && going.contains(&"below")), "{going:?}");
    }
    // Each line of a run says whose it is.
    let items = tending.told.iter().filter(|line| line["event"] == "item");
    assert!(
        items.clone().count() >= 3 && items.clone().all(|line| line["job"].is_string()),
        "{:?}",
        tending.told
    );
}

#[test]
fn a_job_can_be_paused_asked_about_and_asked_for() {
    let station = station("mirror", &["on change after 1s"], &["--ask"]);
    let mut tending = Tending::of(&station);
    tending.stays_quiet(SHORT);
    station.write("a.csv", "1", 1_900_000_000);
    let asks = |line: &serde_json::Value| line["event"] == "waiting" && line["for"] == "answer";
    tending.wait("it asks", asks);
    assert!(!station.right().join("a.csv").exists());
    station.run(&["tend", "answer", "counts", "no"]).expect(0);
    tending.stays_quiet(SHORT);
    station.write("b.csv", "2", 1_900_000_001);
    tending.wait("it asks again", asks);
    station.run(&["tend", "answer", "counts", "yes"]).expect(0);
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 2, "what was left then is brought now");
    let told = station.run(&["tend", "answer", "counts", "yes"]).expect(3);
    assert!(told.err.contains("does not ask"), "{}", told.err);

    station.run(&["tend", "pause", "counts"]).expect(0);
    station.write("c.csv", "3", 1_900_000_002);
    tending.stays_quiet(SHORT * 2);
    let status = station.run(&["tend", "status", "--json"]).expect(0);
    assert_eq!(status.json()[1]["state"], "paused");
    let before = tending.ticks();
    std::thread::sleep(SHORT);
    assert!(
        tending.ticks() - before < 30,
        "a change that may not begin anything is waited with, not turned over and over"
    );
    // Who asks for it gets it all the same, and is not asked.
    station.run(&["tend", "run", "counts"]).expect(0);
    assert_eq!(tending.begins("counts"), "asked");
    assert_eq!(tending.ends("counts")["added"], 1);
    station.run(&["tend", "pause", "counts", "--off"]).expect(0);
    station.write("d.csv", "4", 1_900_000_003);
    tending.wait("it asks once more", asks);
    let text = fs::read_to_string(station.path("home/jobs/counts.toml")).unwrap();
    assert!(!text.contains("paused"), "{text}");
    station.run(&["tend", "run", "cuonts"]).expect(2);
}

#[test]
fn job_files_are_read_anew_and_a_broken_one_is_told_of_once() {
    let station = station("mirror", &["on change after 1s"], &[]);
    station.write("a.csv", "1", 1_900_000_000);
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    let file = station.path("home/jobs/counts.toml");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, format!("{text}when_ = 3\n")).unwrap();
    std::thread::sleep(SHORT);
    station.write("b.csv", "2", 1_900_000_001);
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 1, "the old one stays");
    let status = station.run(&["tend", "status", "--json"]).expect(0);
    assert!(status.json()[1]["message"].as_str().unwrap().contains("when_"), "{}", status.out);
    // Whole again, with another line; and a job that is new.
    fs::write(&file, text.replace("on change after 1s", "on start")).unwrap();
    another(&station, "new", ["new", "copy of new"], &["--when", "on change after 1s"]);
    write(&station.path("new/x"), b"x", 1_900_000_000);
    tending.begins("new");
    tending.ends("new");
    station.write("c.csv", "3", 1_900_000_002);
    tending.stays_quiet(SHORT);
    station.run(&["job", "remove", "new", "--yes"]).expect(0);
    write(&station.path("new/y"), b"y", 1_900_000_000);
    tending.stays_quiet(SHORT);
    tending.signal(Signal::HUP);
    std::thread::sleep(Duration::from_millis(300));
    station.run(&["tend", "status"]).expect(0);
}

#[test]
fn it_ends_within_two_seconds_in_the_middle_of_a_large_file_and_goes_on_with_the_next_start() {
    let station = station("mirror", &["on change after 1s"], &[]);
    let large = station.left().join("large");
    let file = fs::File::create(&large).unwrap();
    file.set_len(1 << 30).unwrap();
    // No holes, and nothing that is all the same.
    let mut block = vec![0_u8; 1 << 20];
    for number in 0..1024_u64 {
        block[..8].copy_from_slice(&number.to_le_bytes());
        block[8..16].fill(7);
        std::os::unix::fs::FileExt::write_all_at(&file, &block, number << 20).unwrap();
    }
    drop(file);
    let mut tending = Tending::of(&station);
    tending.begins("counts");
    let writing = || {
        let names = fs::read_dir(station.right()).unwrap().flatten().map(|entry| entry.file_name());
        names.into_iter().any(|name| name.to_string_lossy().starts_with(".reedhook-part-"))
    };
    let begun = Instant::now();
    while !writing() && begun.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(1));
    }
    tending.signal(Signal::TERM);
    let (took, code) = tending.ended();
    // Two seconds are promised; a machine that tests other things meanwhile may have to write out more before a process can end.
    println!("ended after {took:?}");
    assert!(took < Duration::from_secs(6), "{took:?}");
    assert_eq!(code, Some(0));
    assert!(
        !station.right().join("large").exists()
            || fs::metadata(station.right().join("large")).unwrap().len() == 1 << 30
    );
    station.run(&["tend", "status"]).expect(3);
    let mut tending = Tending::of(&station);
    tending.begins("counts");
    let end = tending.ends("counts");
    assert_eq!((end["outcome"].as_str(), number(&end, "added")), (Some("done"), 1), "{end}");
    assert_eq!(fs::metadata(station.right().join("large")).unwrap().len(), 1 << 30);
    assert_no_leftovers(&station.right());
}

#[test]
fn there_is_one_service_of_a_home() {
    let station = station("mirror", &["every 1h"], &[]);
    for command in ["status", "stop"] {
        let told = station.run(&["tend", command]).expect(3);
        assert!(told.err.contains("is not running"), "{}", told.err);
    }
    let tending = Tending::of(&station);
    let second = station.run(&["tend", "--json"]).expect(3);
    assert_eq!(second.last()["code"], "already-tending");
    station.run(&["tend", "stop"]).expect(0);
    assert_eq!(tending.ended().1, Some(0));
    let station_without_jobs = Station::new();
    let tending = Tending::of(&station_without_jobs);
    station_without_jobs.run(&["tend", "stop"]).expect(0);
    tending.ended();
}

#[test]
fn commands_surround_a_run_and_a_failing_one_before_refuses_it() {
    let note = "echo \"$REEDHOOK_JOB $REEDHOOK_KIND $REEDHOOK_OUTCOME $REEDHOOK_ADDED\" >> said";
    let station = Station::with_job(
        "mirror",
        &["--before", "test ! -e no || { echo not now; exit 7; }", "--after", note],
    );
    station.write("a.csv", "1", 1_900_000_000);
    station.run_job(&[]).expect(0);
    fs::write(station.path("no"), "").unwrap();
    station.write("b.csv", "1", 1_900_000_000);
    let refused = station.run_job(&[]).expect(3);
    let end = refused.last();
    assert_eq!((end["outcome"].as_str(), end["code"].as_str()), (Some("refused"), Some("before-failed")));
    assert!(end["message"].as_str().unwrap().contains("not now"), "{end}");
    assert!(!station.right().join("b.csv").exists());
    assert_eq!(
        fs::read_to_string(station.path("said")).unwrap(),
        "counts mirror done 1\ncounts mirror refused 0\n"
    );
    // One that never ends is ended with the run that it belongs to, and so is what it has started.
    fs::remove_file(station.path("no")).unwrap();
    station
        .run(&["job", "edit", "counts", "--before", "sleep 77 & sleep 78", "--when", "on start"])
        .expect(0);
    let mut tending = Tending::of(&station);
    tending.begins("counts");
    std::thread::sleep(Duration::from_millis(300));
    tending.signal(Signal::TERM);
    assert!(tending.ended().0 < Duration::from_secs(6));
    let lines =
        fs::read_dir("/proc").unwrap().flatten().map(|process| fs::read(process.path().join("cmdline")));
    let sleeps = |line: &Vec<u8>| [&b"sleep\x0077\0"[..], b"sleep\x0078\0"].contains(&line.as_slice());
    assert_eq!(lines.flatten().filter(sleeps).count(), 0, "what it has started goes on");
}

#[test]
fn a_server_that_is_absent_is_tried_again_as_often_as_the_job_says() {
    let station = Station::new();
    let options = ["--when", "on start", "--retry", "2 × 1s"];
    let words =
        [&["job", "add", "far", "mirror", "left", "sftp://127.0.0.1:1/nowhere", "--yes"], &options[..]]
            .concat();
    station.run(&words).expect(0);
    let mut tending = Tending::of(&station);
    let causes: Vec<String> = (0..3).map(|_| tending.begins("far")).collect();
    assert_eq!(causes, ["start", "retry", "retry"]);
    tending.stays_quiet(SHORT * 2);
}

#[test]
fn a_run_waits_while_the_machine_runs_on_its_battery() {
    let station = station("mirror", &["on change after 1s"], &["--on-battery", "wait"]);
    let supply = |name: &str, file: &str, text: &str| {
        fs::create_dir_all(station.path("power").join(name)).unwrap();
        fs::write(station.path("power").join(name).join(file), text).unwrap();
    };
    supply("BAT0", "type", "Battery\n");
    supply("BAT0", "status", "Discharging\n");
    supply("AC", "type", "Mains\n");
    supply("AC", "online", "0\n");
    let mut tending = Tending::with(&station, &[("REEDHOOK_POWER", station.path("power").to_str().unwrap())]);
    station.write("a.csv", "1", 1_900_000_000);
    tending.wait("it waits", |line| line["event"] == "waiting" && line["for"] == "power");
    supply("AC", "online", "1\n");
    station.run(&["tend", "status"]).expect(0);
    tending.begins("counts");
    tending.ends("counts");
}

/// A drive as an image that is mounted and unmounted like one that is plugged and unplugged.
struct Drive<'a> {
    station: &'a Station,
    label: &'a str,
}

impl Drive<'_> {
    fn plugged(&self, at: &str) -> Mounted {
        Mounted::image(&self.station.path(self.label), &self.station.path(at))
    }
}

fn unplug(mounted: Mounted) {
    tool(&["umount", mounted.0.to_str().unwrap()]);
    std::mem::forget(mounted);
}

#[test]
fn a_drive_that_is_connected_begins_a_run_wherever_it_is_mounted_and_can_be_unplugged_afterwards() {
    if !with_mounts("drives that come and go", &["ext4"]) {
        return;
    }
    let station = Station::new();
    for label in ["FENFIELD-8", "FENFIELD-9"] {
        make_image(&station.path(label), "ext4", label, 16);
        let name = label.to_lowercase();
        station.run(&["store", "add", &name, "--drive", label]).expect(0);
    }
    let (one, other) =
        (Drive { station: &station, label: "FENFIELD-8" }, Drive { station: &station, label: "FENFIELD-9" });
    let words =
        ["job", "add", "counts", "mirror", "left", "@fenfield-8/counts", "--when", "on connect", "--yes"];
    station.run(&words).expect(0);
    let words = [
        "job",
        "add",
        "both",
        "mirror",
        "@fenfield-8/counts",
        "@fenfield-9/counts",
        "--when",
        "on connect",
        "--finally",
        "eject",
        "--yes",
    ];
    station.run(&words).expect(0);
    station.write("a.csv", "1", 1_900_000_000);
    let mut tending = Tending::of(&station);
    tending.stays_quiet(SHORT);

    let first = one.plugged("mnt/first");
    assert_eq!(tending.begins("counts"), "connect");
    assert_eq!(tending.ends("counts")["added"], 1);
    tending.stays_quiet(SHORT);
    unplug(first);
    tending.stays_quiet(SHORT);
    station.write("b.csv", "2", 1_900_000_001);
    // Another mount point; and the drive that the other job needs besides.
    let _second = one.plugged("mnt/second");
    assert_eq!(tending.begins("counts"), "connect");
    assert_eq!(tending.ends("counts")["added"], 1);
    tending.stays_quiet(SHORT);
    let _third = other.plugged("mnt/third");
    tending.begins("both");
    let end = tending.ends("both");
    assert_eq!((end["outcome"].as_str(), number(&end, "added")), (Some("done"), 2), "{end}");
    // Both are unmounted at the end: nothing of the service holds them.
    let begun = Instant::now();
    let mounted = |at: &str| fs::read_to_string("/proc/self/mountinfo").unwrap().contains(&format!("/{at} "));
    while (mounted("mnt/second") || mounted("mnt/third")) && begun.elapsed() < Duration::from_secs(10) {
        std::thread::sleep(Duration::from_millis(50));
    }
    assert!(!mounted("mnt/second") && !mounted("mnt/third"));
}

#[test]
fn a_drive_that_goes_in_the_middle_is_lost_whole_and_gone_on_with_when_it_is_back() {
    if !with_mounts("a drive that goes in the middle", &["ext4"]) {
        return;
    }
    let station = Station::new();
    make_image(&station.path("FENFIELD-7"), "ext4", "FENFIELD-7", 64);
    station.run(&["store", "add", "field", "--drive", "FENFIELD-7"]).expect(0);
    let options = ["--when", "on change after 1s", "--when", "on connect", "--limit", "2 MB/s", "--yes"];
    station
        .run(&[&["job", "add", "counts", "mirror", "left", "@field/counts"], &options[..]].concat())
        .expect(0);
    let drive = Drive { station: &station, label: "FENFIELD-7" };
    let plugged = drive.plugged("mnt/field");
    let mut tending = Tending::of(&station);
    for number in 0..8 {
        write(&station.left().join(format!("{number}.bin")), &vec![number; 1_000_000], 1_900_000_000);
    }
    tending.begins("counts");
    tending.wait("something is carried", |line| {
        line["event"] == "item" && line["job"] == "counts" || {
            fs::read_dir(station.path("mnt/field/counts")).is_ok_and(|names| names.count() > 1)
        }
    });
    tool(&["umount", "-l", plugged.0.to_str().unwrap()]);
    std::mem::forget(plugged);
    let end = tending.ends("counts");
    // A drive that is pulled lazily may still take all that is in flight: then it is done.
    assert!(["stopped", "done", "problems"].contains(&end["outcome"].as_str().unwrap()), "{end}");
    let again = drive.plugged("mnt/elsewhere");
    tending.wait("it goes on", |line| line["event"] == "finished" && line["outcome"] == "done");
    assert_alike(&station.left(), &again.0.join("counts"));
}

#[test]
fn what_is_due_is_told_in_order_and_from_any_moment() {
    let station = station("mirror", &["daily 18:00", "every 2h 08:00-12:00"], &[]);
    another(&station, "maps", ["maps", "copy of maps"], &["--when", "daily 09:30"]);
    let due = |words: &[&str]| {
        let ran = Ran::of(&station.command(words).env("TZ", "Europe/Berlin").output().unwrap()).expect(0);
        ran.json()
            .iter()
            .map(|line| format!("{} {}", line["job"].as_str().unwrap(), line["at"].as_str().unwrap()))
            .collect::<Vec<_>>()
    };
    let found = due(&["when", "next", "--json", "--count", "6", "--from", "2031-03-30"]);
    let at = |time: &str| format!("2031-03-30T{time}:00+02:00");
    assert_eq!(
        found,
        [
            format!("counts {}", at("08:00")),
            format!("maps {}", at("09:30")),
            format!("counts {}", at("10:00")),
            format!("counts {}", at("12:00")),
            format!("counts {}", at("18:00")),
            "counts 2031-03-31T08:00:00+02:00".to_owned(),
        ]
    );
    assert_eq!(
        due(&["when", "next", "maps", "--json", "-n", "1", "--from", "2031-03-29T23:00:00Z"]),
        ["maps 2031-03-30T09:30:00+02:00"]
    );
    for (words, word) in [
        (&["when", "counts", "set", "dialy 18:00"][..], "daily 18:00"),
        (&["when", "counts", "sett", "daily 18:00"], "\"set\""),
        (&["when", "cuonts"], "\"counts\""),
        (&["when", "next", "--from", "tomorrow"], "is no time"),
        (&["when", "counts", "--print"], "--print belongs to"),
        (&["when", "counts", "set"], "lines are missing"),
        (&["job", "edit", "counts", "--when", "daily 18.00"], "daily 18:00"),
        (&["job", "edit", "counts", "--retry", "often"], "3 × 10m"),
    ] {
        let told = station.run(words).expect(2);
        assert!(told.err.contains(word), "{words:?}: {}", told.err);
    }
    let told = station.run(&["when", "counts", "off"]).expect(0);
    assert!(told.out.contains("daily 18:00"), "what it was is told: {}", told.out);
    assert!(!fs::read_to_string(station.path("home/jobs/counts.toml")).unwrap().contains("when"));
}

#[test]
fn what_has_not_run_for_too_long_is_overdue() {
    let station = station("mirror", &["daily 18:00"], &["--remind-after", "10 days"]);
    let file = station.path("home/jobs/counts.toml");
    let status = || station.run(&["status", "--json"]).expect(0).json()[0].clone();
    assert_eq!(status()["overdue"], false);
    assert!(status()["next"].as_str().unwrap().contains("T18:00:00"), "{}", status());
    let long_ago = std::time::SystemTime::now() - Duration::from_secs(11 * 86_400);
    fs::File::options().write(true).open(&file).unwrap().set_modified(long_ago).unwrap();
    assert_eq!(status()["overdue"], true, "it has never run at all");
    let told = station.run(&["status"]).expect(0);
    assert!(told.out.contains("overdue") && told.err.contains("overdue"), "{}{}", told.out, told.err);
    assert!(station.run(&["job", "list"]).expect(0).out.contains("overdue"));
    station.run_job(&[]).expect(0);
    assert_eq!(status()["overdue"], false);
}

#[test]
fn units_launchers_and_calendars_are_what_others_take_them_for() {
    let tools = ["systemd-analyze", "desktop-file-validate"];
    if !with_tools("units and launchers", &tools) {
        return;
    }
    let lines = [
        "daily 07:00,12:30",
        "monthly 1,last 03:00",
        "every 90m fri 22:00-04:00",
        "cron 5 18 13 * 5",
        "on start",
        "once 2031-05-04 18:00",
    ];
    let station = station("mirror", &lines, &["--wake"]);
    let mut units = Vec::new();
    for words in [
        &["tend", "install", "--print"][..],
        &["tend", "install", "--system", "--print"],
        &["when", "counts", "install", "--print"],
    ] {
        // Those of the user and of the whole machine have the same name.
        let folder = station.path(&format!("units {}", units.len()));
        fs::create_dir(&folder).unwrap();
        let text = station.run(words).expect(0).out;
        for part in format!("\n{text}").split("\n# /").skip(1) {
            let (path, unit) = part.split_once('\n').unwrap();
            let unit = unit.split("\nIt ends when").next().unwrap();
            let file = folder.join(Path::new(path).file_name().unwrap());
            fs::write(&file, format!("{unit}\n")).unwrap();
            units.push(file);
        }
    }
    assert_eq!(units.len(), 4, "{units:?}");
    for unit in &units {
        let told = std::process::Command::new("systemd-analyze").arg("verify").arg(unit).output().unwrap();
        let text = String::from_utf8_lossy(&told.stderr);
        let about_it =
            text.lines().find(|line| line.contains("reedhook") && !line.contains("Failed to create"));
        assert!(about_it.is_none(), "{}: {text}", unit.display());
    }
    station.run(&["job", "shortcut", "counts", "--to", "."]).expect(0);
    tool(&["desktop-file-validate", station.path("reedhook-counts.desktop").to_str().unwrap()]);
    station.run(&["job", "shortcut", "counts", "--to", "nowhere"]).expect(2);
}

/// Compares the occurrences that another program finds in a calendar with the moments of `when next`.
const READ_CALENDAR: &str = "
import datetime, sys, icalendar, recurring_ical_events
calendar = icalendar.Calendar.from_ical(open(sys.argv[1], 'rb').read())
begin = datetime.datetime.fromisoformat(sys.argv[2])
for event in sorted(recurring_ical_events.of(calendar).between(begin, begin + datetime.timedelta(days=400)), key=lambda e: str(e['DTSTART'].dt)):
    start = event['DTSTART'].dt
    if isinstance(start, datetime.datetime):
        print(event['SUMMARY'], start.astimezone(datetime.timezone.utc).strftime('%Y-%m-%dT%H:%M:%SZ'))
";

#[test]
fn another_program_finds_the_same_moments_in_the_calendar() {
    let python = Path::new("/opt/reedhook-test/bin/python");
    let has = python.exists()
        && std::process::Command::new(python)
            .args(["-c", "import recurring_ical_events"])
            .output()
            .unwrap()
            .status
            .success();
    if !has {
        assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "the calendar's reader is missing");
        println!("skipped: calendars, for want of their reader");
        return;
    }
    let lines = [
        "daily 07:00,12:30",
        "mon,thu 12:05",
        "monthly 1,31,last 03:15",
        "cron 5,35 6,18 13 * 5",
        "cron 0 4 * 2,10 *",
        "every 3d 22:00",
    ];
    let station = station("mirror", &lines, &["--exclude", "a; b, c\\d"]);
    let file = station.path("reedhook.ics");
    for zone in ["Europe/Berlin", "Pacific/Auckland", "America/Havana"] {
        let command =
            |words: &[&str]| Ran::of(&station.command(words).env("TZ", zone).output().unwrap()).expect(0);
        command(&["when", "calendar", "--from", "2031-01-10", "--to", file.to_str().unwrap()]);
        let text = fs::read_to_string(&file).unwrap();
        assert!(text.split("\r\n").all(|line| line.len() <= 75) && !text.replace("\r\n", "").contains('\n'));
        let from = command(&["when", "next", "--json", "-n", "1", "--from", "2031-01-10"]).last();
        let begin = from["at"].as_str().unwrap().to_owned();
        let read = std::process::Command::new(python)
            .args(["-c", READ_CALENDAR, file.to_str().unwrap(), &begin])
            .output()
            .unwrap();
        assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
        let mut found: Vec<String> =
            String::from_utf8(read.stdout).unwrap().lines().map(str::to_owned).collect();
        found.sort();
        found.dedup();
        let mut ours = Vec::new();
        for line in command(&["when", "next", "--json", "-n", "3000", "--from", "2031-01-10"]).json() {
            let at: jiff::Timestamp = line["at"].as_str().unwrap().parse().unwrap();
            ours.push(format!("counts {}", at.strftime("%Y-%m-%dT%H:%M:%SZ")));
        }
        ours.sort();
        ours.dedup();
        // What a clock skips is told differently by different readers: those two days are left out.
        let shared = found.iter().filter(|line| ours.contains(line)).count();
        let last = found.last().unwrap().clone();
        let expected = ours.iter().filter(|line| **line <= last).count();
        assert!(
            found.len() > 1000 && found.len() - shared <= 2 && expected - shared <= 2,
            "{zone}: {} {shared} {expected}",
            found.len()
        );
    }
}

#[test]
fn a_drive_that_appears_is_looked_through_and_its_inventory_outlives_it() {
    if !with_mounts("drives that come and go", &["ext4"]) {
        return;
    }
    let station = Station::new();
    for label in ["FENFIELD-6", "FENFIELD-7"] {
        make_image(&station.path(label), "ext4", label, 16);
    }
    station.run(&["store", "add", "fenfield-6", "--drive", "FENFIELD-6"]).expect(0);
    station.run(&["store", "add", "fenfield-7", "--drive", "FENFIELD-7", "--inventory", "off"]).expect(0);
    let (one, other) =
        (Drive { station: &station, label: "FENFIELD-6" }, Drive { station: &station, label: "FENFIELD-7" });
    let mut tending = Tending::of(&station);
    let has = |word: &str| station.run(&["inventory", "find", word]).code == 0;
    for (round, name) in ["heron.csv", "rail.csv"].into_iter().enumerate() {
        // What is on it was put there on another machine.
        let elsewhere = one.plugged("mnt/elsewhere");
        write(&station.path("mnt/elsewhere/counts").join(name), b"1", 1_900_000_000);
        unplug(elsewhere);
        tending.within(SHORT);
        let first = one.plugged("mnt/first");
        let begun = Instant::now();
        while !has(name) {
            assert!(begun.elapsed() < Duration::from_secs(20), "round {round}");
            std::thread::sleep(Duration::from_millis(50));
        }
        tending.within(SHORT);
        unplug(first);
        assert!(has(name), "{round}");
    }
    let list = station.run(&["inventory", "list", "--json"]).expect(0).json();
    assert_eq!(
        (list.len(), &list[0]["connected"], &list[0]["whole"]),
        (1, &false.into(), &true.into()),
        "{list:?}"
    );
    let other = other.plugged("mnt/other");
    tending.within(SHORT);
    unplug(other);
    assert_eq!(station.run(&["inventory", "list", "--json"]).expect(0).json().len(), 1, "not to be kept");
    // A store that is named by the path of a mount point, which stays when the drive goes: an empty folder is nothing that has come.
    let stays = one.plugged("mnt/stays");
    station.run(&["store", "add", "by-path", "mnt/stays"]).expect(0);
    tending.signal(Signal::HUP);
    tending.within(SHORT);
    unplug(stays);
    tending.within(2 * SHORT);
    let is_known = || {
        let list = station.run(&["inventory", "list", "--json"]).expect(0).json();
        list.iter().any(|line| line["name"] == "by-path")
    };
    assert!(!is_known(), "the empty mount point was taken for the store");
    let _stays = one.plugged("mnt/stays");
    let begun = Instant::now();
    while !is_known() {
        assert!(begun.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(50));
    }
}
