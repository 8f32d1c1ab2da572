//! The service in a world that is not as it should be: drives that go while they are watched, mounts inside a source, a state folder
//! that is full, sides that are gone, too many removals; and what the system is told so that it begins runs.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use common::*;
use reedhook_testing::signals::{self, Signal};
use tending::Tending;

const SHORT: Duration = Duration::from_millis(1500);

fn on_change(kind: &str, more: &[&str]) -> Station {
    Station::with_job(kind, &[&["--when", "on change after 1s"], more].concat())
}

#[test]
fn a_drive_that_is_watched_can_be_unplugged_and_is_watched_again_when_it_is_back() {
    if !with_mounts("a drive that is watched", &["ext4"]) {
        return;
    }
    let station = Station::new();
    make_image(&station.path("FENFIELD-6"), "ext4", "FENFIELD-6", 16);
    station.run(&["store", "add", "field", "--drive", "FENFIELD-6"]).expect(0);
    let plugged = Mounted::image(&station.path("FENFIELD-6"), &station.path("mnt/one"));
    write(&plugged.0.join("counts/a.csv"), b"1", 1_900_000_000);
    let words = ["job", "add", "counts", "mirror", "@field/counts", "right", "--when", "on change after 1s"];
    station.run(&words).expect(0);
    let mut tending = Tending::of(&station);
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 1);
    tending.stays_quiet(SHORT);
    tool(&["umount", plugged.0.to_str().unwrap()]);
    std::mem::forget(plugged);
    tending.stays_quiet(SHORT * 2);
    assert!(station.right().join("a.csv").exists(), "what is only away is not removed");
    let plugged = Mounted::image(&station.path("FENFIELD-6"), &station.path("mnt/two"));
    write(&plugged.0.join("counts/b.csv"), b"2", 1_900_000_001);
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 1);
    write(&plugged.0.join("counts/c.csv"), b"3", 1_900_000_002);
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 1, "it is watched at its new place");
}

/// A drive of a kind that a driver in user space reads; its loop device is given back at the end.
struct Foreign {
    _mounted: Mounted,
    device: String,
}

impl Foreign {
    fn exfat(image: &Path, at: &Path) -> Foreign {
        make_image(image, "exfat", "FENFIELD-5", 32);
        let found = Command::new("losetup").args(["--find", "--show"]).arg(image).output().unwrap();
        let device = String::from_utf8(found.stdout).unwrap().trim().to_owned();
        fs::create_dir_all(at).unwrap();
        tool(&["mount", "-t", "exfat-fuse", &device, at.to_str().unwrap()]);
        Foreign { _mounted: Mounted(at.to_owned()), device }
    }
}

impl Drop for Foreign {
    fn drop(&mut self) {
        let _ = Command::new("umount").args(["-l", self._mounted.0.to_str().unwrap()]).output();
        let _ = Command::new("losetup").args(["-d", &self.device]).output();
    }
}

#[test]
fn the_own_writing_begins_nothing_where_times_are_coarse_and_names_fold() {
    if !with_mounts("a drive as shops sell them", &["exfat"])
        || !with_tools("exFAT", &["mount.exfat-fuse", "losetup"])
    {
        return;
    }
    let station = Station::new();
    let _drive = Foreign::exfat(&station.path("image"), &station.path("drive"));
    let words = ["job", "add", "counts", "two-way", "left", "drive", "--when", "on change after 1s", "--yes"];
    station.run(&words).expect(0);
    station.write("North/a.csv", "1", 1_900_000_000);
    let mut tending = Tending::of(&station);
    assert_eq!(tending.ends("counts")["added"], 1);
    tending.stays_quiet(SHORT * 2);
    // Saved just now, so that both sides are read once more before they count as unchanged.
    fs::write(station.left().join("North/b.csv"), "2").unwrap();
    assert_eq!(tending.ends("counts")["added"], 1);
    tending.stays_quiet(SHORT * 2);
    fs::write(station.path("drive/North/b.csv"), "from the drive").unwrap();
    assert_eq!(tending.ends("counts")["updated"], 1);
    tending.stays_quiet(SHORT * 2);
    assert_eq!(fs::read(station.left().join("North/b.csv")).unwrap(), b"from the drive");
}

#[test]
fn what_is_mounted_in_a_source_is_watched_too() {
    if !with_mounts("a mount in a source", &[]) {
        return;
    }
    let station = on_change("mirror", &[]);
    station.write("a.csv", "1", 1_900_000_000);
    fs::create_dir(station.left().join("stick")).unwrap();
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    let mounted = Mounted::memory(&station.left().canonicalize().unwrap().join("stick"), "4m");
    std::thread::sleep(SHORT * 2);
    write(&mounted.0.join("b.csv"), b"2", 1_900_000_001);
    tending.wait("what lies there is carried", |line| line["event"] == "finished" && line["added"] == 1);
    assert!(station.right().join("stick/b.csv").exists());
}

#[test]
fn a_full_state_folder_is_told_of_once_and_the_work_is_made_up_for() {
    if !with_mounts("a full state folder", &[]) {
        return;
    }
    let station = Station::new();
    let home = Mounted::memory(&station.path("home"), "2m");
    station.run(&["job", "add", "counts", "mirror", "left", "right", "--when", "every 2s"]).expect(0);
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    // Full to the last byte, and what is journaled beside the state file too.
    let mut filling = Vec::new();
    for number in 0..64 {
        let path = home.0.join(format!("filling {number}"));
        if fs::write(&path, vec![0; 64 << 10]).is_err() {
            filling.push(path);
            break;
        }
        filling.push(path);
    }
    station.write("a.csv", "1", 1_900_000_000);
    let told = tending.within(SHORT * 4);
    let failures = told.iter().filter(|line| line["event"] == "failure").count();
    assert!(failures <= 1, "{told:#?}");
    station.run(&["tend", "status"]).expect(0);
    filling.iter().for_each(|path| fs::remove_file(path).unwrap_or_default());
    tending.wait("it goes on", |line| line["event"] == "finished" && line["outcome"] == "done");
    let begun = std::time::Instant::now();
    while !station.right().join("a.csv").exists() && begun.elapsed() < Duration::from_secs(90) {
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(station.right().join("a.csv").exists());
}

#[test]
fn each_of_several_sources_is_watched_where_it_lands() {
    let station = Station::new();
    write(&station.path("maps/north.svg"), b"1", 1_900_000_000);
    station.write("a.csv", "1", 1_900_000_000);
    let words =
        ["job", "add", "counts", "mirror", "left", "right", "--from", "maps", "--when", "on change after 1s"];
    station.run(&words).expect(0);
    let mut tending = Tending::of(&station);
    assert_eq!(tending.ends("counts")["added"], 2);
    write(&station.path("maps/deep/south.svg"), b"22", 1_900_000_001);
    let end = tending.ends("counts");
    assert_eq!((number(&end, "added"), number(&end, "bytes")), (1, 2), "{end}");
    tool(&[
        "mv",
        station.path("maps/deep/south.svg").to_str().unwrap(),
        station.left().join("south.svg").to_str().unwrap(),
    ]);
    let end = tending.ends("counts");
    assert_eq!((number(&end, "moved"), number(&end, "bytes")), (1, 0), "{end}");
    assert!(station.right().join("left/south.svg").exists());
    tending.stays_quiet(SHORT);
}

#[test]
fn a_second_name_follows_what_is_written_through_the_first() {
    let station =
        Station::on_one_file_system().job("mirror", &["--when", "on change after 1s", "--preserve", "full"]);
    station.write("north/a.csv", "1", 1_900_000_000);
    fs::create_dir(station.left().join("south")).unwrap();
    fs::hard_link(station.left().join("north/a.csv"), station.left().join("south/b.csv")).unwrap();
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    fs::write(station.left().join("north/a.csv"), "written through the first").unwrap();
    tending.ends("counts");
    assert_eq!(fs::read(station.right().join("south/b.csv")).unwrap(), b"written through the first");
}

#[test]
fn the_machine_is_suspended_when_the_last_run_is_over() {
    let station = Station::with_job("mirror", &["--finally", "suspend", "--when", "on start"]);
    fs::write(station.path("home/reedhook.toml"), "countdown = \"1 s\"\n").unwrap();
    let path = tools(&station);
    let said = || fs::read_to_string(station.path("said")).unwrap_or_default();
    let run = |words: &[&str]| Ran::of(&station.command(words).env("PATH", &path).output().unwrap());
    run(&["run", "counts"]).expect(0);
    assert_eq!(said(), "suspend\n");
    run(&["preview", "counts"]).expect(0);
    let away = station.path("away");
    fs::rename(station.right(), &away).unwrap();
    run(&["run", "counts"]).expect(3);
    assert_eq!(said(), "suspend\n", "not after a run that was refused");
    fs::rename(&away, station.right()).unwrap();
    let mut tending = Tending::with(&station, &[("PATH", &path)]);
    tending.ends("counts");
    let begun = std::time::Instant::now();
    while said() != "suspend\nsuspend\n" && begun.elapsed() < Duration::from_secs(10) {
        std::thread::sleep(Duration::from_millis(20));
    }
    assert_eq!(said(), "suspend\nsuspend\n");
}

#[test]
fn guards_judge_by_the_whole_and_stop_what_looks_like_an_accident() {
    let station = on_change("mirror", &["--yes"]);
    for folder in 0..20 {
        for number in 0..30 {
            station.write(&format!("{folder}/{number}.csv"), "1", 1_900_000_000);
        }
    }
    let mut tending = Tending::of(&station);
    assert_eq!(tending.ends("counts")["added"], 600);
    // Thirty of the thirty in that folder, and of the six hundred of all.
    fs::remove_dir_all(station.left().join("3")).unwrap();
    tending.begins("counts");
    let end = tending.ends("counts");
    assert_eq!((end["outcome"].as_str(), number(&end, "removed")), (Some("done"), 30), "{end}");
    for folder in 4..20 {
        fs::remove_dir_all(station.left().join(folder.to_string())).unwrap();
    }
    let end = tending.ends("counts");
    assert_eq!(
        (end["outcome"].as_str(), end["code"].as_str()),
        (Some("refused"), Some("too-many-removals")),
        "{end}"
    );
    assert_eq!(fs::read_dir(station.right().join("9")).unwrap().count(), 30);
    // What comes afterwards is judged with all that is still to be done.
    station.write("new.csv", "1", 1_900_000_000);
    assert_eq!(tending.ends("counts")["outcome"], "refused");
    station.run_job(&["--allow", "removals", "--yes"]).expect(0);
    assert!(!station.right().join("9").exists() && station.right().join("new.csv").exists());
}

#[test]
fn a_first_run_that_would_remove_something_is_left_to_a_person() {
    let station = on_change("mirror", &[]);
    station.write("a.csv", "1", 1_900_000_000);
    write(&station.right().join("theirs.csv"), b"2", 1_900_000_000);
    let mut tending = Tending::of(&station);
    let end = tending.ends("counts");
    assert_eq!(
        (end["outcome"].as_str(), end["code"].as_str()),
        (Some("refused"), Some("removals-not-agreed")),
        "{end}"
    );
    assert!(end["message"].as_str().unwrap().contains("reedhook run counts"), "{end}");
    assert!(station.right().join("theirs.csv").exists());
    tending.stays_quiet(SHORT);
}

#[test]
fn a_source_that_vanishes_takes_nothing_with_it() {
    let station = Station::on_one_file_system().job("mirror", &["--when", "on change after 1s"]);
    station.write("a.csv", "1", 1_900_000_000);
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    fs::rename(station.left(), station.path("elsewhere")).unwrap();
    tending.within(SHORT * 2);
    assert!(station.right().join("a.csv").exists());
    fs::rename(station.path("elsewhere"), station.left()).unwrap();
    std::thread::sleep(SHORT * 2);
    station.write("b.csv", "2", 1_900_000_001);
    tending.wait("it is watched again", |line| line["event"] == "finished" && line["added"] == 1);
}

#[test]
fn a_change_that_could_not_be_carried_is_carried_when_its_destination_is_back() {
    if !with_mounts("a destination that is away", &["ext4"]) {
        return;
    }
    let station = Station::new();
    make_image(&station.path("FENFIELD-4"), "ext4", "FENFIELD-4", 16);
    station.run(&["store", "add", "field", "--drive", "FENFIELD-4"]).expect(0);
    let words =
        ["job", "add", "counts", "mirror", "left", "@field/counts", "--when", "on change after 1s", "--yes"];
    station.run(&words).expect(0);
    let plugged = Mounted::image(&station.path("FENFIELD-4"), &station.path("mnt/one"));
    station.write("a.csv", "1", 1_900_000_000);
    let mut tending = Tending::of(&station);
    assert_eq!(tending.ends("counts")["added"], 1);
    tool(&["umount", plugged.0.to_str().unwrap()]);
    std::mem::forget(plugged);
    station.write("b.csv", "2", 1_900_000_001);
    let end = tending.ends("counts");
    assert_eq!(
        (end["outcome"].as_str(), end["code"].as_str()),
        (Some("refused"), Some("drive-absent")),
        "{end}"
    );
    // It is not told again and again; nor is it forgotten.
    tending.stays_quiet(SHORT * 2);
    let plugged = Mounted::image(&station.path("FENFIELD-4"), &station.path("mnt/two"));
    assert_eq!(tending.ends("counts")["added"], 1);
    assert!(plugged.0.join("counts/b.csv").exists());
}

#[test]
fn an_overdue_job_is_told_of_once() {
    let station = Station::with_job(
        "mirror",
        &["--when", "on start", "--when", "daily 03:00", "--remind-after", "10 days"],
    );
    let file = station.path("home/jobs/counts.toml");
    let long_ago = std::time::SystemTime::now() - Duration::from_secs(11 * 86_400);
    fs::File::options().write(true).open(&file).unwrap().set_modified(long_ago).unwrap();
    let mut tending = Tending::of(&station);
    tending.wait("it is told", |line| line["event"] == "overdue" && line["job"] == "counts");
    let told = tending.within(SHORT);
    assert!(!told.iter().any(|line| line["event"] == "overdue"), "{told:?}");
}

/// A folder of tools that only write down how they were called; the crontab is a file.
fn tools(station: &Station) -> String {
    let folder = station.path("tools");
    fs::create_dir(&folder).unwrap();
    let said = station.path("said");
    let crontab = station.path("crontab");
    for (name, text) in [
        ("systemctl", format!("#!/bin/sh\necho \"$@\" >> {}\n", said.display())),
        (
            "crontab",
            format!(
                "#!/bin/sh\nif [ \"$1\" = -l ]; then cat {0} 2>/dev/null || {{ echo 'no crontab for you' >&2; exit 1; }}; else cat > {0}; fi\n",
                crontab.display()
            ),
        ),
    ] {
        fs::write(folder.join(name), text).unwrap();
        set_mode(&folder.join(name), 0o755);
    }
    format!("{}:{}", folder.display(), std::env::var("PATH").unwrap())
}

#[test]
fn what_the_system_is_to_begin_is_set_up_and_taken_away() {
    let station = Station::with_job("mirror", &["--when", "daily 18:00", "--when", "on change", "--wake"]);
    let path = tools(&station);
    let run = |words: &[&str]| {
        let mut command = station.command(words);
        Ran::of(&command.env("PATH", &path).env_remove("XDG_CONFIG_HOME").output().unwrap())
    };
    let said = || fs::read_to_string(station.path("said")).unwrap_or_default();
    let units = station.path(".config/systemd/user");

    run(&["when", "counts", "remove"]).expect(2);
    let told = run(&["when", "counts", "install", "--with", "timer"]).expect(0);
    assert!(told.err.contains("on change") && told.err.contains("reedhook tend"), "{}", told.err);
    let timer = units.join("reedhook-home-job-counts.timer");
    let text = fs::read_to_string(&timer).unwrap();
    assert!(
        text.contains("OnCalendar=*-*-* 18:00:00\n")
            && text.contains("Persistent=yes")
            && text.contains("WakeSystem=yes"),
        "{text}"
    );
    assert_eq!(said(), "--user daemon-reload\n--user enable --now reedhook-home-job-counts.timer\n");
    assert!(run(&["when", "counts"]).expect(0).out.contains("A timer of systemd runs it"));
    run(&["when", "counts", "remove"]).expect(0);
    assert!(!timer.exists() && fs::read_dir(&units).unwrap().count() == 0);
    assert!(said().contains("--user disable --now reedhook-home-job-counts.timer\n"), "{}", said());

    fs::write(station.path("crontab"), "MAILTO=warden\n5 5 * * * tidy\n").unwrap();
    run(&["when", "counts", "install", "--with", "crontab"]).expect(0);
    run(&["when", "counts", "install", "--with", "crontab"]).expect(0);
    let text = fs::read_to_string(station.path("crontab")).unwrap();
    assert!(
        text.starts_with("MAILTO=warden\n5 5 * * * tidy\n") && text.matches("0 18 * * * ").count() == 1,
        "{text}"
    );
    assert!(run(&["when", "counts"]).expect(0).out.contains("The crontab runs it"));
    // What it says is what the shell then does.
    let line = text.lines().find(|line| line.starts_with("0 18")).unwrap().trim_start_matches("0 18 * * * ");
    station.write("a.csv", "1", 1_900_000_000);
    tool(&["env", &format!("HOME={}", station.folder.path().display()), "sh", "-c", line]);
    assert!(station.right().join("a.csv").exists());
    run(&["when", "counts", "remove"]).expect(0);
    assert_eq!(fs::read_to_string(station.path("crontab")).unwrap(), "MAILTO=warden\n5 5 * * * tidy\n");

    run(&["tend", "remove"]).expect(2);
    let told = run(&["tend", "install"]).expect(0);
    assert!(told.out.contains("loginctl enable-linger"), "{}", told.out);
    let text = fs::read_to_string(units.join("reedhook-home.service")).unwrap();
    assert!(
        text.contains("Type=notify") && text.contains("WatchdogSec=") && text.contains("NoNewPrivileges=yes"),
        "{text}"
    );
    assert!(said().ends_with("--user enable --now reedhook-home.service\n"), "{}", said());
    run(&["tend", "remove"]).expect(0);
    assert!(!units.join("reedhook-home.service").exists());
}

#[test]
fn the_system_is_told_that_the_service_is_ready_lives_and_ends() {
    let station = Station::with_job("mirror", &["--when", "daily 18:00"]);
    let path = station.path("notify");
    let socket = std::os::unix::net::UnixDatagram::bind(&path).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let environment = [("NOTIFY_SOCKET", path.to_str().unwrap()), ("WATCHDOG_USEC", "400000")];
    let tending = Tending::with(&station, &environment);
    let told = || {
        let mut buffer = [0; 512];
        let length = socket.recv(&mut buffer).unwrap();
        String::from_utf8_lossy(&buffer[..length]).trim().to_owned()
    };
    assert_eq!(told(), "READY=1");
    let begun = std::time::Instant::now();
    for _ in 0..4 {
        assert_eq!(told(), "WATCHDOG=1");
    }
    assert!(begun.elapsed() < Duration::from_secs(2), "{:?}", begun.elapsed());
    station.run(&["tend", "stop"]).expect(0);
    let last = std::iter::repeat_with(told).find(|told| told != "WATCHDOG=1");
    assert_eq!(last.as_deref(), Some("STOPPING=1"));
    tending.ended();
}

/// A driver in user space, in the foreground, so that it can be stopped; it goes on and away at the end whatever happens.
struct Driver {
    process: std::process::Child,
    at: std::path::PathBuf,
}

impl Driver {
    fn mount(image: &Path, at: &Path) -> Driver {
        fs::create_dir_all(at).unwrap();
        let process = Command::new("ntfs-3g").args(["-o", "no_detach"]).arg(image).arg(at).spawn().unwrap();
        let driver = Driver { process, at: at.to_owned() };
        let begun = std::time::Instant::now();
        while !fs::read_to_string("/proc/self/mountinfo").unwrap().contains(at.to_str().unwrap()) {
            assert!(begun.elapsed() < Duration::from_secs(20), "it is not mounted");
            std::thread::sleep(Duration::from_millis(20));
        }
        driver
    }

    fn signal(&self, signal: Signal) {
        signals::send(self.process.id(), signal);
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        self.signal(Signal::CONT);
        let _ = Command::new("umount").arg("-l").arg(&self.at).output();
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn a_driver_that_hangs_holds_up_its_own_jobs_and_nothing_else() {
    if !with_mounts("a driver that hangs", &["ntfs"]) || !with_tools("a driver that hangs", &["ntfs-3g"]) {
        return;
    }
    let station = Station::new();
    make_image(&station.path("image"), "ntfs", "FENSTOP", 16);
    let driver = Driver::mount(&station.path("image"), &station.path("mnt"));
    fs::create_dir(station.path("other")).unwrap();
    let when = ["--when", "on change after 1s", "--yes"];
    for words in [
        ["job", "add", "hung", "mirror", "left", "mnt/counts"],
        ["job", "add", "fine", "mirror", "other", "right"],
    ] {
        station.run(&[&words[..], &when].concat()).expect(0);
    }
    station.write("a.csv", "1", 1_900_000_000);
    fs::write(station.path("other/a.csv"), "1").unwrap();
    let mut tending = Tending::of(&station);
    for _ in ["hung", "fine"] {
        assert_eq!(tending.wait("both end", |line| line["event"] == "finished")["added"], 1);
    }

    driver.signal(Signal::STOP);
    // Everything is looked at anew.
    tending.signal(Signal::HUP);
    let status = || {
        let begun = std::time::Instant::now();
        let told = station.run(&["tend", "status"]).expect(0);
        assert!(begun.elapsed() < Duration::from_secs(3), "it took {:?}", begun.elapsed());
        told
    };
    let begun = std::time::Instant::now();
    while !status().err.contains("hung: its places do not answer") {
        assert!(begun.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(100));
    }
    station.run(&["tend", "run", "hung"]).expect(0);
    tending.wait("it waits", |line| line["event"] == "waiting" && line["for"] == "silence");
    fs::write(station.path("other/b.csv"), "2").unwrap();
    assert_eq!(tending.ends("fine")["added"], 1);
    assert!(status().out.contains("its places do not answer"));

    driver.signal(Signal::CONT);
    assert_eq!(tending.ends("hung")["outcome"], "done");
    assert!(!status().err.contains("do not answer"));
}
