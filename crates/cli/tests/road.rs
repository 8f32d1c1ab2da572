//! The one road of every run: what comes before it is a gate, what comes after it is obeyed and told, and what is done at the very end waits
//! for everything else.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;
#[path = "common/terminal.rs"]
mod terminal;

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::{Ran, Station, set_mode, tree, write};
use reedhook_testing::signals::{self, Signal};
use tending::Tending;
use terminal::{Terminal, can_watch};

const OLD: u64 = 1_900_000_000;

/// Waits until something is so.
fn until(what: &str, is: impl Fn() -> bool) {
    let begun = Instant::now();
    while !is() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A station whose jobs write down what happens, in order, and whose machine only writes down that it is to go down.
struct Machine {
    station: Station,
    path: String,
}

impl Machine {
    fn new(countdown: &str) -> Machine {
        let station = Station::new();
        let bin = station.path("bin");
        fs::create_dir(&bin).unwrap();
        let order = station.path("order");
        fs::write(bin.join("systemctl"), format!("#!/bin/sh\necho \"$@\" >> {}\n", order.display())).unwrap();
        set_mode(&bin.join("systemctl"), 0o755);
        fs::create_dir_all(station.path("home")).unwrap();
        let settings = format!(
            "countdown = \"{countdown}\"\nnotify.command = {{ run = \"sleep 0.3; echo told >> {}\", on = \"always\" }}\n",
            order.display()
        );
        fs::write(station.path("home/reedhook.toml"), settings).unwrap();
        let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
        Machine { station, path }
    }

    /// Sets up a job of its own two folders, that writes down when it is over.
    fn job(&self, name: &str, options: &[&str]) {
        let (from, to) = (format!("{name}-from"), format!("{name}-to"));
        write(&self.station.path(&from).join("a.csv"), b"heron,3", OLD);
        let after = format!("echo {name} >> {}", self.station.path("order").display());
        let words = ["job", "add", name, "mirror", &from, &to, "--after", &after, "--yes"];
        self.station.run(&[&words[..], options].concat()).expect(0);
    }

    fn slow_job(&self, name: &str, options: &[&str]) {
        self.job(name, &[&["--limit", "1 MB/s"], options].concat());
        write(&self.station.path(&format!("{name}-from/nest.jpg")), &vec![7; 4_000_000], OLD);
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = self.station.command(words);
        command.env("PATH", &self.path);
        command
    }

    fn run(&self, words: &[&str]) -> Ran {
        Ran::of(&self.command(words).output().unwrap())
    }

    fn begin(&self, words: &[&str]) -> Child {
        let mut command = self.command(words);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    fn order(&self) -> Vec<String> {
        let text = fs::read_to_string(self.station.path("order")).unwrap_or_default();
        text.lines().map(str::to_owned).collect()
    }

    /// The board, on which `counts` was begun.
    fn board(&self) -> Terminal {
        let mut terminal = Terminal::with(&self.station, &["board"], &[("PATH", &self.path)]);
        terminal.shows("› counts");
        terminal.keys("r");
        terminal.shows("Run counts?");
        // A question that has come by itself takes no key at once.
        std::thread::sleep(Duration::from_millis(900));
        terminal.keys("y");
        terminal
    }

    /// Waits until a run of a job has begun to write.
    fn writes(&self, name: &str) {
        let to = self.station.path(&format!("{name}-to"));
        let begun = |folder: &Path| fs::read_dir(folder).is_ok_and(|mut all| all.next().is_some());
        until(name, || begun(&to));
    }
}

#[test]
fn every_sort_of_run_obeys_what_comes_before_and_after() {
    let station =
        Station::with_job("two-way", &["--before", "test ! -e closed", "--after", "echo over >> after"]);
    let after = || fs::read_to_string(station.path("after")).unwrap_or_default().lines().count();
    station.write("heron.csv", "heron,3", OLD);
    station.write("gone.csv", "grebe,1", OLD);
    station.run(&["run", "counts"]).expect(0);
    fs::remove_file(station.left().join("gone.csv")).unwrap();
    station.run(&["run", "counts", "--yes"]).expect(0);
    write(&station.left().join("heron.csv"), b"heron,4", OLD + 10);
    write(&station.right().join("heron.csv"), b"heron,50", OLD + 20);
    station.run(&["run", "counts"]).expect(4);
    write(&station.left().join("new.csv"), b"rail,1", OLD);
    station.run(&["preview", "counts", "--save", "some.plan"]).expect(0);
    let roads: [&[&str]; 6] = [
        &["run", "counts"],
        &["run", "counts", "--plan", "some.plan"],
        &["settle", "counts", "heron.csv", "--keep", "right"],
        &["kept", "restore", "counts", "gone.csv"],
        &["restore", "counts", "gone.csv"],
        &["undo", "counts", "1"],
    ];
    fs::write(station.path("closed"), "").unwrap();
    for road in roads {
        let (before, ended) = ((tree(&station.left()), tree(&station.right())), after());
        let ran = station.run(&[road, &["--json", "--yes"]].concat()).expect(3);
        assert_eq!(ran.last()["code"], "before-failed", "{road:?}: {}", ran.out);
        assert!(before == (tree(&station.left()), tree(&station.right())), "{road:?} changed something");
        assert_eq!(after(), ended + 1, "{road:?}: what comes after is told of a refusal, too");
    }
    fs::remove_file(station.path("closed")).unwrap();
    for road in roads {
        let ended = after();
        station.run(&[road, &["--yes"]].concat());
        assert_eq!(after(), ended + 1, "{road:?}");
    }
}

#[test]
fn a_reverse_run_obeys_what_comes_before_and_after() {
    let options = ["--before", "test ! -e closed", "--after", "echo over >> after"];
    let station = Station::with_job("mirror", &options);
    station.write("heron.csv", "heron,3", OLD);
    station.run(&["run", "counts"]).expect(0);
    fs::remove_file(station.left().join("heron.csv")).unwrap();
    fs::write(station.path("closed"), "").unwrap();
    let refused = station.run(&["run", "counts", "--reverse", "--yes", "--json"]).expect(3);
    assert_eq!(refused.last()["code"], "before-failed", "{}", refused.out);
    assert!(!station.left().join("heron.csv").exists());
    fs::remove_file(station.path("closed")).unwrap();
    station.run(&["run", "counts", "--reverse", "--yes"]).expect(0);
    assert!(station.left().join("heron.csv").exists());
    assert_eq!(fs::read_to_string(station.path("after")).unwrap(), "over\nover\nover\n");
}

#[test]
fn a_review_copies_nothing_when_the_gate_is_closed() {
    if !can_watch() {
        return;
    }
    let station = Station::with_job("mirror", &["--before", "false"]);
    station.write("heron.csv", "heron,3", OLD);
    let mut terminal = Terminal::start(&station, &["review", "counts"]);
    terminal.shows("heron.csv");
    terminal.keys("r");
    terminal.shows("y  yes");
    terminal.keys("y");
    terminal.shows("before the run");
    terminal.keys("q");
    terminal.ends();
    assert!(!station.right().join("heron.csv").exists());
}

#[test]
fn what_a_run_holds_open_is_given_up_before_what_comes_after_it() {
    let station = Station::with_job("mirror", &[]);
    station.write("heron.csv", "heron,3", OLD);
    let right = station.right();
    let held = format!("ls -l /proc/$PPID/fd | grep -c {} > held; true", right.display());
    station.run(&["job", "edit", "counts", "--after", &held]).expect(0);
    station.run(&["run", "counts"]).expect(0);
    assert_eq!(fs::read_to_string(station.path("held")).unwrap(), "0\n");
}

#[test]
fn the_machine_goes_down_after_the_last_job_and_when_all_were_told() {
    let machine = Machine::new("1 s");
    machine.job("first", &["--finally", "power-off"]);
    machine.job("second", &[]);
    let ran = machine.run(&["run", "--all"]).expect(0);
    assert_eq!(machine.order(), ["first", "told", "second", "told", "poweroff"]);
    assert!(ran.err.contains("powers off in 1 s"), "{}", ran.err);
    machine.run(&["run", "--all", "--no-finally"]).expect(0);
    assert_eq!(machine.order().len(), 9, "{:?}", machine.order());
}

#[test]
fn the_board_tells_before_the_machine_goes_down() {
    if !can_watch() {
        return;
    }
    let machine = Machine::new("1 s");
    machine.job("counts", &["--finally", "power-off"]);
    let mut terminal = machine.board();
    terminal.shows("powers off in 1 s");
    until("it goes down", || machine.order().len() == 3);
    assert_eq!(machine.order(), ["counts", "told", "poweroff"]);
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);

    // Who closes it leaves the machine on.
    let machine = Machine::new("20 s");
    machine.job("counts", &["--finally", "power-off"]);
    let mut terminal = machine.board();
    terminal.shows("powers off in 20 s. q leaves it on");
    terminal.keys("q");
    assert_eq!(terminal.ends(), 0);
    assert_eq!(machine.order(), ["counts", "told"]);
}

#[test]
fn the_machine_stays_on_while_another_program_runs_a_job_of_this_home() {
    let machine = Machine::new("1 s");
    machine.job("quick", &["--finally", "power-off"]);
    machine.slow_job("slow", &[]);
    let slow = machine.begin(&["run", "slow"]);
    machine.writes("slow");
    let ran = machine.run(&["run", "quick"]).expect(0);
    assert!(ran.err.contains("slow is running"), "{}", ran.err);
    slow.wait_with_output().unwrap();
    let order: Vec<String> = machine.order().into_iter().filter(|line| line != "told").collect();
    assert_eq!(order, ["quick", "slow", "poweroff"]);
}

#[test]
fn the_machine_stays_on_while_the_service_owes_a_run() {
    let machine = Machine::new("1 s");
    machine.job("quick", &["--finally", "power-off"]);
    // A server that is not there: the run fails, and is tried again.
    let words = [
        "job",
        "add",
        "far",
        "mirror",
        "quick-from",
        "sftp://nobody@127.0.0.1:9/x",
        "--retry",
        "2 x 4s",
        "--yes",
    ];
    machine.station.run(&words).expect(0);
    let mut tending = Tending::with(&machine.station, &[("PATH", &machine.path)]);
    machine.station.run(&["tend", "run", "far"]).expect(0);
    tending.wait("it is to be tried again", |line| line["event"] == "waiting" && line["for"] == "retry");
    let status = machine.station.run(&["tend", "status"]).expect(0).out;
    assert!(status.contains("is tried again"), "{status}");
    let ran = machine.run(&["run", "quick"]).expect(0);
    assert!(ran.err.contains("far will be tried again"), "{}", ran.err);
    assert_eq!(machine.order().last().unwrap(), "poweroff");
    let tried = machine.station.run(&["history", "far", "--json"]).expect(0).json().len();
    assert_eq!(tried, 3, "both retries came first");
}

#[test]
fn somebody_can_say_no_while_it_is_counted_down() {
    let machine = Machine::new("20 s");
    machine.job("quick", &["--finally", "suspend"]);
    let mut child = machine.begin(&["run", "quick"]);
    until("it is told", || machine.order().len() == 2);
    std::thread::sleep(Duration::from_millis(700));
    signals::send(child.id(), Signal::INT);
    let ended = child.wait().unwrap();
    assert_eq!(ended.code(), Some(0), "the run itself is done");
    let mut err = String::new();
    std::io::Read::read_to_string(&mut child.stderr.take().unwrap(), &mut err).unwrap();
    assert!(err.contains("stays on"), "{err}");

    let mut tending = Tending::with(&machine.station, &[("PATH", &machine.path)]);
    machine.station.run(&["tend", "run", "quick"]).expect(0);
    tending.wait("it counts down", |line| line["event"] == "finally" && line["state"] == "counts-down");
    let said = machine.station.run(&["tend", "status"]).expect(0);
    assert!(said.err.contains("reedhook tend answer quick no"), "{}", said.err);
    machine.station.run(&["tend", "answer", "quick", "no"]).expect(0);
    tending.wait("it stays on", |line| line["event"] == "finally" && line["state"] == "left-on");
    machine.station.run(&["tend", "answer", "quick", "no"]).expect(3);
    assert!(!machine.order().contains(&"suspend".to_owned()));
}
