//! What would lose work without a word, or say that there is nothing to do while the sides differ.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

#[path = "common/altered.rs"]
mod altered;
mod common;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::fs;
use std::path::Path;
use std::time::{Duration, SystemTime};

use common::{Mounted, Station, make_image, number, with_mounts, write};
use places::{know_standin, standin};
use reedhook_standins::{Behaviour, Kind};
use reedhook_testing::signals::{self, Signal};

/// Saves a file with a time as its store would keep it.
fn save(path: &Path, content: &str, modified: SystemTime) {
    fs::write(path, content).unwrap();
    let times = fs::FileTimes::new().set_accessed(modified).set_modified(modified);
    fs::File::options().write(true).open(path).unwrap().set_times(times).unwrap();
}

/// A whole second that has just begun, and so many nanoseconds of it.
fn this_second(nanos: u32) -> SystemTime {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap();
    SystemTime::UNIX_EPOCH + Duration::new(now.as_secs(), nanos)
}

/// What is saved twice within a step of its store's time, and a run in between: the next run brings the second version.
#[test]
fn what_is_saved_twice_within_a_second_is_brought() {
    for kind in ["mirror", "copy"] {
        // A source that keeps whole seconds; and one that does not, before a server that does.
        for far in [None, Some(Kind::Sftp), Some(Kind::Ftp)] {
            let station = Station::new();
            let running = far.map(|far| standin(&station, far, Behaviour::default()));
            running.iter().for_each(|running| know_standin(&station, running));
            let (to, arrived) = match far {
                Some(_) => ("@archive/counts", station.path("served/archive/counts/heron.csv")),
                None => ("right", station.right().join("heron.csv")),
            };
            let heron = station.left().join("heron.csv");
            let moments = if far.is_some() { [300_000_000, 700_123_456] } else { [0, 0] };
            let second = this_second(0);
            station.run(&["job", "add", "counts", kind, "left", to, "--yes"]).expect(0);
            save(&heron, "heron,3", second + Duration::from_nanos(moments[0]));
            assert_eq!(
                number(&station.run(&["run", "counts", "--json", "--yes"]).expect(0).last(), "added"),
                1
            );
            save(&heron, "heron,4", second + Duration::from_nanos(moments[1]));
            let ran = station.run(&["run", "counts", "--json", "--yes"]).expect(0).last();
            assert_eq!(number(&ran, "updated"), 1, "{kind} {far:?}: {ran}");
            assert_eq!(fs::read_to_string(&arrived).unwrap(), "heron,4", "{kind} {far:?}");
        }
    }
}

/// A file that was young once is read once more, and not at every look from then on; what a killed run carried counts too.
#[test]
fn what_was_fresh_is_read_again_until_it_is_proved() {
    let station = Station::with_job("mirror", &[]);
    let fresh = || {
        let state = rusqlite::Connection::open(station.path("home/state.db")).unwrap();
        state.query_row("SELECT COUNT(*) FROM fresh", [], |row| row.get::<_, i64>(0)).unwrap()
    };
    let heron = station.left().join("heron.csv");
    save(&heron, "heron,3", this_second(0));
    station.write("old.csv", "old", 1_900_000_000);
    station.run_job(&[]).expect(0);
    assert_eq!(fresh(), 1);
    // Twelve seconds later nothing that is saved can get that time. A full minute looks like the time of a store that keeps minutes.
    let mut long_ago = this_second(0) - Duration::from_secs(12);
    if long_ago.duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs().is_multiple_of(60) {
        long_ago -= Duration::from_secs(1);
    }
    save(&heron, "heron,3", long_ago);
    station.run_job(&[]).expect(0);
    assert_eq!(fresh(), 1, "what is carried may fail, and is looked at once more");
    station.run_job(&[]).expect(0);
    assert_eq!(fresh(), 0, "its time is that of no step in which somebody looks");
    // A run that is killed while it copies: what it carried is read by the next.
    let large = "x".repeat(8 << 20);
    fs::write(station.left().join("zz"), large).unwrap();
    save(&heron, "heron,4", this_second(0));
    station.run(&["job", "edit", "counts", "--limit", "2MB/s"]).expect(0);
    let mut child = station.command(&["run", "counts", "--yes", "--quiet"]).spawn().unwrap();
    while fs::read_to_string(station.right().join("heron.csv")).unwrap() != "heron,4" {
        assert!(child.try_wait().unwrap().is_none(), "the run ended too soon");
        std::thread::sleep(Duration::from_millis(2));
    }
    signals::send(child.id(), Signal::KILL);
    child.wait().unwrap();
    let modified = fs::metadata(&heron).unwrap().modified().unwrap();
    save(&heron, "heron,5", modified);
    station.run(&["job", "edit", "counts", "--unset", "limit"]).expect(0);
    let why = station.run(&["why", "counts", "heron.csv", "--json"]).expect(0);
    assert!(why.out.contains("update"), "{}", why.out);
    station.run_job(&[]).expect(0);
    assert_eq!(fs::read_to_string(station.right().join("heron.csv")).unwrap(), "heron,5");
}

/// Whatever is brought back may take the place of something newer: that is kept, also where the job keeps nothing.
#[test]
fn what_is_brought_back_destroys_nothing() {
    for kind in ["mirror", "two-way"] {
        for (words, at) in [
            (&["restore", "counts", "heron.csv", "--yes"][..], "left"),
            (&["run", "counts", "--reverse", "--yes"], "left"),
            (&["kept", "restore", "counts", "heron.csv", "--yes"], "right"),
        ] {
            if kind == "two-way" && words.contains(&"--reverse") {
                continue;
            }
            let station = Station::with_job(kind, &[]);
            station.write("heron.csv", "heron,1", 1_000);
            station.write("north.csv", "north", 1_000);
            station.run_job(&["--yes"]).expect(0);
            station.write("heron.csv", "heron,2", 2_000);
            station.run_job(&["--yes"]).expect(0);
            station.run(&["job", "edit", "counts", "--replaced", "erase", "--removed", "erase"]).expect(0);
            common::write(&station.path(at).join("heron.csv"), b"heron,3: a day's work", 3_000);
            common::write(&station.path(at).join("south.csv"), b"only here", 3_000);
            let ran = station.run(words);
            assert!([0, 3].contains(&ran.code), "{kind} {words:?}: {}", ran.err);
            let everywhere: Vec<Vec<u8>> = [station.left(), station.right()]
                .iter()
                .flat_map(|side| all_files(side))
                .map(|file| fs::read(file).unwrap())
                .collect();
            for version in ["heron,3: a day's work", "only here"] {
                let there = everywhere.iter().any(|content| content == version.as_bytes());
                assert!(there, "{kind} {words:?}: {version:?} is gone; {}", ran.out);
            }
        }
    }
}

/// Every file below a folder, kept copies too.
fn all_files(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        match entry.file_type().unwrap().is_dir() {
            true => found.extend(all_files(&entry.path())),
            false => found.push(entry.path()),
        }
    }
    found
}

/// Writes into a file and leaves its size and time as they were, as containers and disk images are used.
fn edit_in_place(path: &Path, content: &str) {
    let modified = fs::metadata(path).unwrap().modified().unwrap();
    assert_eq!(fs::metadata(path).unwrap().len(), content.len() as u64);
    save(path, content, modified);
}

/// What somebody wrote, however quietly, is work and no rot: it goes to the other side, and nothing is put back.
#[test]
fn an_edit_that_keeps_size_and_time_is_no_rot() {
    for (kind, side) in [("two-way", "left"), ("two-way", "right"), ("mirror", "left")] {
        let station = Station::with_job(kind, &["--verify", "changed"]);
        station.write("ledger.img", "the old ledger", 1_000);
        station.run_job(&["--yes"]).expect(0);
        station.run(&["verify", "counts"]).expect(0);
        edit_in_place(&station.path(side).join("ledger.img"), "the new ledger");
        let verified = station.run(&["verify", "counts", "--json"]).expect(1).json();
        let difference = verified.iter().find(|line| line["event"] == "difference").unwrap();
        assert_eq!(
            (&difference["changed"], &difference["edited"]),
            (&side.into(), &true.into()),
            "{difference}"
        );
        let said = station.run(&["verify", "counts"]).expect(1).out;
        assert!(said.contains(&format!("somebody has changed the content at the {side}")), "{said}");
        let ran = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!(number(&ran, "updated"), 1, "{kind} {side}: {ran}");
        for side in [station.left(), station.right()] {
            assert_eq!(fs::read_to_string(side.join("ledger.img")).unwrap(), "the new ledger", "{kind}");
        }
        station.run(&["verify", "counts"]).expect(0);
    }
}

/// Changes a piece of a file below its file system: what a failing medium does. Neither size nor any time changes.
fn rot(image: &Path, old: &[u8], new: &[u8]) {
    let mut bytes = fs::read(image).unwrap();
    let mut at = 0;
    while let Some(found) = bytes[at..].windows(old.len()).position(|part| part == old) {
        bytes[at + found..at + found + old.len()].copy_from_slice(new);
        at += found + old.len();
    }
    assert!(at > 0, "the content is not in the image");
    fs::write(image, bytes).unwrap();
}

/// What changed by itself is nobody's work. What `verify` names is remembered until it is mended: in a mirror by a run where the right
/// went bad, by a restore where the left did; in a two-way job when somebody says so, or a rule.
#[test]
fn rot_is_told_from_work_and_mended_when_it_is_known_which_side_is_right() {
    if !with_mounts("rot below a file system", &["ext4"]) {
        return;
    }
    let run = &["run", "counts", "--yes"][..];
    let restore = &["restore", "counts", "ledger.csv", "--yes"][..];
    let settle = &["settle", "counts", "ledger.csv", "--keep", "left"][..];
    for (kind, options, bad, waits_with, mend) in [
        ("two-way", &["--conflict", "hold"][..], "right", Some((4, "conflicts")), settle),
        ("two-way", &["--conflict", "newest"], "right", None, run),
        ("two-way", &["--conflict", "hold"], "left", Some((4, "conflicts")), restore),
        ("mirror", &[], "right", None, run),
        ("mirror", &[], "left", Some((1, "problems")), restore),
        ("mirror", &[], "left", Some((1, "problems")), &["run", "counts", "--reverse", "--yes"]),
    ] {
        let what = format!("{kind} {options:?}, {bad} bad, {mend:?}");
        let station = Station::new();
        let (image, at) = (station.path("image"), station.path(bad));
        make_image(&image, "ext4", "field", 32);
        let mounted = Mounted::image(&image, &at);
        let station = station.job(kind, options);
        let good = "heron ledger 0123456789";
        station.write("ledger.csv", good, 1_000);
        station.write("other", "other", 1_000);
        station.run_job(&["--yes"]).expect(0);
        station.run(&["verify", "counts"]).expect(0);
        drop(mounted);
        rot(&image, good.as_bytes(), b"heron ledger 0123456?89");
        let _mounted = Mounted::image(&image, &at);
        station.run_job(&["--yes"]).expect(0);
        let verified = station.run(&["verify", "counts", "--json"]).expect(1).json();
        let difference = verified.iter().find(|line| line["event"] == "difference").unwrap();
        let told = (&difference["changed"], &difference["edited"]);
        assert_eq!(told, (&bad.into(), &false.into()), "{what}: {difference}");
        let hint = station.run(&["verify", "counts"]).expect(1).out;
        let way = if kind == "two-way" { "settle" } else { mend[0] };
        assert!(
            hint.contains(&format!(
                "reedhook {}",
                if way == "run" && bad == "left" { "restore" } else { way }
            )),
            "{what}: {hint}"
        );
        let ledger = || fs::read_to_string(at.join("ledger.csv")).unwrap();
        for (code, counted) in waits_with.into_iter().chain(waits_with) {
            let ran = station.run_job(&["--yes"]).expect(code).last();
            assert_eq!((number(&ran, counted), number(&ran, "updated")), (1, 0), "{what}: {ran}");
            assert!(ledger().contains('?'), "{what}: nobody has agreed yet");
            let why = station.run(&["why", "counts", "ledger.csv"]).expect(0).out;
            assert!(kind == "mirror" || why.contains("conflict"), "{what}: {why}");
        }
        station.run(mend).expect(0);
        for side in [station.left(), station.right()] {
            assert_eq!(fs::read_to_string(side.join("ledger.csv")).unwrap(), good, "{what}");
        }
        station.run(&["verify", "counts"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
    }
}

/// A file here and a folder there, also below a folder that is not settled itself, and where the job is about that name alone.
#[test]
fn a_file_against_a_folder_can_be_settled() {
    for keep in ["left", "right"] {
        for holds in [None, Some("inner.csv")] {
            let station = Station::with_job("two-way", &[]);
            station.write("north/rota.csv", "rota", 1_000);
            station.run_job(&["--yes"]).expect(0);
            station.write("north/maps", "a file", 2_000);
            let folder = station.right().join("north/maps");
            fs::create_dir(&folder).unwrap();
            holds.iter().for_each(|name| fs::write(folder.join(name), "inner").unwrap());
            station.run_job(&["--yes"]).expect(4);
            let settled = station.run(&["settle", "counts", "north/maps", "--keep", keep, "--json"]);
            assert_eq!(settled.code, 0, "{keep} {holds:?}: {}{}", settled.out, settled.err);
            for side in [station.left(), station.right()] {
                assert_eq!(side.join("north/maps").is_dir(), keep == "right", "{keep} {holds:?}");
            }
            station.run_job(&["--yes"]).expect(0);
        }
    }
    let station = Station::with_job("two-way", &["--only", "maps"]);
    fs::create_dir(station.left().join("maps")).unwrap();
    station.write("maps/a", "a", 1_000);
    station.run_job(&["--yes"]).expect(0);
    fs::remove_dir_all(station.left().join("maps")).unwrap();
    station.write("maps", "a file now", 2_000);
    station.run_job(&["--yes"]).expect(0);
    assert!(station.right().join("maps").is_file());
}

/// The same where one of the sides takes `maps` and `MAPS` for one name.
#[test]
fn a_file_against_a_folder_can_be_settled_where_case_is_folded() {
    if !altered::possible("a conflict on a side that folds case") {
        return;
    }
    for (kind, keep) in [("two-way", "left"), ("two-way", "right"), ("two-way", "newest"), ("mirror", "left")]
    {
        for folder_at in ["left", "right"] {
            let policy = ["--conflict", keep];
            let options = if keep == "newest" { &policy[..] } else { &[] };
            let station = Station::new();
            let behind = station.path("behind");
            fs::create_dir(&behind).unwrap();
            let ways = altered::Ways { folds_case: true, ..altered::Ways::default() };
            let mounted = altered::Altered::mount(&behind, &station.right(), ways);
            let job = ["job", "add", "counts", kind, "left", "right", "--max-removals", "off", "--yes"];
            station.run(&[&job[..], options].concat()).expect(0);
            let maps = |side: &str| station.path(side).join("north/Maps");
            for side in ["left", "right"] {
                let _ = fs::remove_dir_all(station.path(side).join("north"));
                fs::create_dir(station.path(side).join("north")).unwrap();
                match side == folder_at {
                    true => fs::create_dir(maps(side))
                        .and_then(|()| fs::write(maps(side).join("inner.csv"), "inner")),
                    false => fs::write(maps(side), "a file"),
                }
                .unwrap();
            }
            station.write("north/rota.csv", "rota", 1_000);
            write(&station.right().join("north/rota.csv"), b"rota", 1_000);
            let ran = station.run_job(&["--yes"]);
            if kind == "two-way" && keep != "newest" {
                assert_eq!(ran.code, 4, "{}", ran.out);
                let settled = station.run(&["settle", "counts", "north/Maps", "--keep", keep, "--json"]);
                assert_eq!(settled.code, 0, "{kind} {keep} {folder_at}: {}{}", settled.out, settled.err);
            } else if kind == "mirror" {
                assert_eq!(ran.code, 0, "{kind} {keep} {folder_at}: {}", ran.out);
            }
            let again = station.run(&["run", "counts", "--yes"]);
            if keep != "newest" {
                assert!(again.out.contains("nothing to do"), "{kind} {keep} {folder_at}: {}", again.out);
                assert_eq!(maps("right").is_dir(), folder_at == keep, "{kind} {keep} {folder_at}");
            }
            assert!(!again.out.contains("differs only"), "{}", again.out);
            mounted.unmount();
        }
    }
}

/// What one job removes may be another one's, or somebody's own; and what goes round never comes to rest.
#[test]
fn jobs_that_are_in_each_others_way_are_told_when_they_are_set_up() {
    let station = Station::new();
    for folder in ["left/maps", "right/maps", "right/own", "third"] {
        fs::create_dir_all(station.path(folder)).unwrap();
    }
    let add = |words: &[&str]| {
        let ran = station.run(&[&["job", "add"], words, &["--yes"]].concat()).expect(0);
        ran.err.lines().filter(|line| line.contains("lies inside") || line.contains("circle")).count()
    };
    assert_eq!(add(&["up", "mirror", "left", "right"]), 0);
    assert_eq!(add(&["own", "copy", "right/own", "third"]), 1, "somebody's tree, which up removes");
    assert_eq!(add(&["on", "copy", "right/maps", "third"]), 0, "a copy that is handed on");
    assert_eq!(add(&["in", "copy", "third", "right/third"]), 1, "what it puts there, up removes");
    let station = Station::new();
    for folder in ["third", "fourth"] {
        fs::create_dir_all(station.path(folder)).unwrap();
    }
    let add = |name: &str, left: &str, right: &str| {
        station.run(&["job", "add", name, "two-way", left, right, "--yes"]).expect(0).err
    };
    assert!(!add("one", "left", "right").contains("circle"));
    assert!(!add("two", "right", "third").contains("circle"));
    assert!(!add("aside", "right", "fourth").contains("circle"));
    let said = add("three", "third", "left");
    assert!(
        said.contains("one, two and three form a circle")
            || said.contains("two, one and three form a circle"),
        "{said}"
    );
}

/// A home without room cuts a run's log short, and the record does not learn how it ended. An undo says what it does not know of.
#[test]
fn an_undo_by_a_log_that_was_cut_short_says_so() {
    if !with_mounts("a full home", &[]) {
        return;
    }
    let station = Station::new();
    let home = Mounted::memory(&station.path("home"), "640k");
    let station = station.job("mirror", &[]);
    for number in 0..3_000 {
        station.write(&format!("counts/{number:04}-{}.csv", "x".repeat(60)), "1", 1_000);
    }
    station.run(&["run", "counts", "--yes", "--quiet"]);
    let brought = || fs::read_dir(station.right().join("counts")).map_or(0, Iterator::count);
    assert_eq!(brought(), 3_000, "a log that cannot be written stops no work");
    assert!(home.remount("size=32m"));
    let undone = station.run(&["undo", "counts", "last", "--yes"]);
    let stays = brought();
    assert!(stays > 0, "the home was not full: this test shows nothing");
    assert!([1, 3].contains(&undone.code), "{stays} files stay, and it says: {}{}", undone.out, undone.err);
    let said = format!("{}{}", undone.out, undone.err);
    assert!(said.contains("cut short") || said.contains("log"), "{said}");
}

/// A drive that is full of kept copies beyond what the job lets them have is no reason to refuse for ever.
#[test]
fn old_kept_copies_make_room_for_the_next_run() {
    if !with_mounts("a small drive", &[]) {
        return;
    }
    for (kind, options) in [("mirror", &["--keep-max", "1MB"][..]), ("two-way", &["--keep-for", "1s"])] {
        let station = Station::new();
        let _small = Mounted::memory(&station.right(), "8m");
        let station = station.job(kind, options);
        let large = |byte: u8| vec![byte; 3 << 20];
        for (round, byte) in [b'1', b'2', b'3', b'4'].into_iter().enumerate() {
            common::write(&station.left().join("still.tif"), &large(byte), 1_000 + round as u64);
            let ran = station.run_job(&["--yes"]).expect(0);
            assert!(fs::read(station.right().join("still.tif")).unwrap() == large(byte), "{kind}");
            assert_eq!(round > 1, ran.err.contains("erased to make room"), "{kind} {round}: {}", ran.err);
            std::thread::sleep(Duration::from_millis(1100));
        }
        // What nothing can make room for is refused, and the way on is named.
        common::write(&station.left().join("night.mp4"), &vec![b'x'; 9 << 20], 1_000);
        let refused = station.run_job(&["--yes"]).expect(3).last();
        assert!(refused["message"].as_str().unwrap().contains("kept prune"), "{refused}");
    }
}

/// A run under `strace`, which is held at one of its calls; and what it works on.
struct Slowed<'a> {
    station: &'a Station,
    tracer: std::process::Child,
}

impl Slowed<'_> {
    /// A run of the job that waits before and after the call of this number, in each of its threads.
    fn run<'a>(station: &'a Station, call: &str, at: usize) -> Slowed<'a> {
        let run = station.command(&["run", "counts", "--yes", "--quiet"]);
        let slow = format!("inject={call}:delay_enter=400000:delay_exit=2000000:when={at}");
        let calls = format!("trace={call}");
        let mut traced = std::process::Command::new("strace");
        traced.args(["-f", "-o", "/dev/null", "-e", &calls, "-e", &slow]);
        traced.arg(run.get_program()).args(run.get_args()).current_dir(run.get_current_dir().unwrap());
        run.get_envs().for_each(|(name, value)| {
            match value {
                Some(value) => traced.env(name, value),
                None => traced.env_remove(name),
            };
        });
        traced.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        Slowed { station, tracer: traced.spawn().unwrap() }
    }

    /// The names in the folder that is worked in, with their numbers.
    fn names(&self) -> Vec<(std::ffi::OsString, u64)> {
        use std::os::unix::fs::MetadataExt;
        let entries = fs::read_dir(self.station.right().join("north")).into_iter().flatten().flatten();
        let numbers = entries.filter_map(|entry| Some((entry.file_name(), entry.metadata().ok()?.ino())));
        let mut names: Vec<_> = numbers.collect();
        names.sort();
        names
    }

    fn children(&self) -> Vec<u32> {
        let id = self.tracer.id();
        let listed = fs::read_to_string(format!("/proc/{id}/task/{id}/children")).unwrap_or_default();
        listed.split_whitespace().filter_map(|number| number.parse().ok()).collect()
    }

    /// Whether one of its threads is held.
    fn is_held(&self) -> bool {
        let held = |thread: fs::DirEntry| {
            let read = |what: &str| fs::read_to_string(thread.path().join(what)).unwrap_or_default();
            // The third word is the state; `t` is held by a tracer.
            let state = |text: String| text.rsplit(')').next().and_then(|rest| rest.trim().chars().next());
            state(read("stat")) == Some('t')
        };
        self.children().iter().any(|child| {
            let threads = fs::read_dir(format!("/proc/{child}/task")).into_iter().flatten().flatten();
            threads.into_iter().any(held)
        })
    }

    /// Waits until it is held at that call; not, when it comes to its end.
    fn wait_until_held(&mut self) -> bool {
        let mut held_for = 0;
        while held_for < 20 {
            held_for = if self.is_held() { held_for + 1 } else { 0 };
            if self.tracer.try_wait().unwrap().is_some() {
                return false;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        true
    }

    /// Kills it once it has renamed.
    fn kill_when_renamed(mut self) {
        let before = self.names();
        while self.names() == before && self.tracer.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        self.children().into_iter().for_each(|child| signals::send(child, Signal::KILL));
        self.tracer.wait().unwrap();
    }
}

/// Whether anything at the destination holds this, in its place or kept.
fn is_held_somewhere(station: &Station, content: &str) -> bool {
    let trees = [common::tree(&station.right()), common::tree(&station.right().join(".reedhook/kept"))];
    let holds = |node: &common::Node| matches!(node, common::Node::File { content: held, .. } if held == content.as_bytes());
    trees.iter().flat_map(|tree| tree.values()).any(holds)
}

/// Somebody saves between a run's last look and its deed, and then the power fails. What they saved is in its place or is kept.
#[test]
fn what_is_saved_at_the_last_moment_survives_a_kill() {
    if !common::with_tools("a run held at its renames", &["strace"]) {
        return;
    }
    let mut told = 0;
    for (kind, options) in [("update", &[][..]), ("remove", &["--removed", "erase"][..])] {
        for at in 1..=3 {
            let station = Station::with_job("mirror", options);
            station.write("north/heron.csv", "heron,3", 1_000);
            station.write("north/rota.csv", "anna", 1_000);
            station.run_job(&["--yes"]).expect(0);
            match kind {
                "update" => station.write("north/heron.csv", "heron,4", 2_000),
                _ => fs::remove_file(station.left().join("north/heron.csv")).unwrap(),
            }
            let mut slowed = Slowed::run(&station, "renameat2", at);
            if !slowed.wait_until_held() {
                continue;
            }
            let heron = station.right().join("north/heron.csv");
            // As editors do it: the kept copy of what it replaces is another name of that.
            let draft = station.path("draft");
            fs::write(&draft, "heron,5 and a note").unwrap();
            fs::rename(&draft, &heron).unwrap();
            slowed.kill_when_renamed();
            // What is erased in its place was seen there by the next run.
            let in_place = fs::read_to_string(&heron).is_ok_and(|found| found.starts_with("heron,5"));
            let ran = station.run(&["run", "counts", "--yes", "--json"]);
            let held = is_held_somewhere(&station, "heron,5 and a note");
            assert!(held || (in_place && kind == "remove"), "{kind} at {at}: {in_place}\n{}", ran.out);
            common::assert_no_leftovers(&station.right());
            told += usize::from(ran.out.contains("\"set-aside\""));
            station.run_job(&["--yes"]).expect(0);
        }
    }
    assert!(told > 0, "nothing was caught out of its place");
}

/// Somebody saves while a run sets a file's time: what they saved has that time too, and the next run still sees it.
#[test]
fn what_is_saved_while_a_time_is_set_is_seen() {
    if !common::with_tools("a run held while it sets a time", &["strace"]) {
        return;
    }
    let station = Station::with_job("two-way", &[]);
    station.write("north/heron.csv", "heron,3", 1_000);
    station.run_job(&["--yes"]).expect(0);
    station.write("north/heron.csv", "heron,3", 2_000);
    let mut slowed = Slowed::run(&station, "utimensat", 1);
    assert!(slowed.wait_until_held());
    let heron = station.right().join("north/heron.csv");
    fs::write(&heron, "heron,9").unwrap();
    slowed.tracer.wait().unwrap();
    let times = [station.left().join("north/heron.csv"), heron]
        .map(|path| fs::metadata(path).unwrap().modified().unwrap());
    assert_eq!(times[0], times[1], "the save was not at that moment");
    station.run_job(&["--yes"]).expect(0);
    assert_eq!(fs::read_to_string(station.left().join("north/heron.csv")).unwrap(), "heron,9");
}

/// A drive that cannot hold a time shows its own first one for it, and so for every such version: only the content tells.
#[test]
fn versions_with_times_before_a_drives_first_are_told_apart() {
    let long_ago = SystemTime::UNIX_EPOCH - Duration::from_secs(300_000_000);
    for kind in ["two-way", "mirror", "copy"] {
        // Over SFTP, and a drive as sticks are; where it is the source, too.
        let station = Station::new();
        let running = standin(&station, Kind::Sftp, Behaviour::default());
        know_standin(&station, &running);
        let heron = station.left().join("heron.csv");
        station.run(&["job", "add", "far", kind, "left", "@archive/counts", "--yes"]).expect(0);
        save(&heron, "heron,3", long_ago);
        station.run(&["run", "far", "--yes"]).expect(0);
        let again = station.run(&["run", "far", "--yes"]).expect(0);
        assert!(again.out.contains("nothing to do"), "{kind}: {}", again.out);
        save(&heron, "heron,4", long_ago - Duration::from_secs(1_000_000));
        station.run(&["run", "far", "--yes"]).expect(0);
        let arrived = station.path("served/archive/counts/heron.csv");
        assert_eq!(fs::read_to_string(&arrived).unwrap(), "heron,4", "{kind}");

        // And back: what the far side shows is its own first moment each time.
        let (job, near) = match kind {
            "two-way" => ("far", heron),
            _ => ("near", station.right().join("heron.csv")),
        };
        if job == "near" {
            station.run(&["job", "add", "near", kind, "@archive/counts", "right", "--yes"]).expect(0);
        }
        for version in ["heron,5", "heron,6"] {
            save(&arrived, version, SystemTime::UNIX_EPOCH);
            station.run(&["run", job, "--yes"]).expect(0);
            assert_eq!(fs::read_to_string(&near).unwrap(), version, "{kind}");
        }
    }
}

/// What grew out of the filter is no longer carried, and both the preview and the run say so.
#[test]
fn a_file_that_grows_out_of_the_filter_is_told() {
    for kind in ["mirror", "copy", "two-way"] {
        let station = Station::with_job(kind, &["--max-size", "10"]);
        station.write("rota.csv", "anna", 1_000);
        station.write("heron.csv", "heron,3", 1_000);
        station.run_job(&["--yes"]).expect(0);
        station.write("heron.csv", "heron,3\nheron,4", 2_000);
        station.write("never.csv", "it never took part", 2_000);
        for words in [["preview", "counts"].as_slice(), &["run", "counts", "--yes"]] {
            let said = station.run(words).expect(0);
            assert!(
                said.out.contains("1 file that both sides have is left out"),
                "{kind} {words:?}: {}",
                said.out
            );
        }
        assert_eq!(fs::read_to_string(station.right().join("heron.csv")).unwrap(), "heron,3", "{kind}");
    }
}

/// Three two-way jobs in a circle, of one home or of three: a removal runs after the version that it removes, for ever, unless somebody
/// says so.
#[test]
fn what_is_removed_does_not_go_round_in_a_circle_of_jobs() {
    for homes in [["home"; 3], ["home-a", "home-b", "home-c"]] {
        let station = Station::new();
        let run = |home: &str, words: &[&str]| {
            let output = station.command(words).env("REEDHOOK_HOME", station.path(home)).output().unwrap();
            common::Ran::of(&output)
        };
        let places = ["one", "two", "three"];
        places.iter().for_each(|place| fs::create_dir(station.path(place)).unwrap());
        let ends = [("one", "two"), ("two", "three"), ("three", "one")];
        let names = ["a", "b", "c"];
        for ((name, home), (left, right)) in names.iter().zip(homes).zip(ends) {
            let options = ["--max-changes", "off", "--max-removals", "off", "--yes"];
            let job = ["job", "add", name, "two-way", left, right];
            let said = run(home, &[&job[..], &options].concat()).expect(0);
            // What other machines do is known once they have run.
            assert!(home != "home" || said.err.contains("circle") == (*name == "c"), "{}", said.err);
        }
        let go = |at: usize| run(homes[at], &["run", names[at], "--yes", "--json", "--allow", "empty"]);
        write(&station.path("one/rota.csv"), b"anna", 1_000);
        (0..3).for_each(|at| drop(go(at).expect(0)));
        write(&station.path("three/heron.csv"), b"heron,3", 1_000);
        // It has come from three to one, and is removed at three before it has gone round.
        go(2).expect(0);
        fs::remove_file(station.path("three/heron.csv")).unwrap();
        let mut said = String::new();
        for round in 0..6 {
            for at in [0, 2, 1] {
                let ran = go(at);
                assert!([0, 1].contains(&ran.code), "{round} {at}: {}{}", ran.out, ran.err);
                said += &ran.out;
            }
        }
        let before: Vec<bool> =
            places.iter().map(|place| station.path(place).join("heron.csv").exists()).collect();
        assert!(said.contains("came-round"), "{homes:?}: {said}");
        for at in [0, 2, 1] {
            let ran = go(at).last();
            let moved = ["added", "removed", "updated"].map(|what| number(&ran, what));
            assert_eq!(moved, [0; 3], "it still goes round: {homes:?} {before:?} {ran}");
        }
    }
}
