//! A job that asks before it begins, on a desktop: a notification service of the test's own, on a bus of its own.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/tending.rs"]
mod tending;

use std::collections::HashMap;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use common::*;
use tending::Tending;
use zbus::object_server::SignalEmitter;
use zbus::zvariant::OwnedValue;

/// A bus that ends with the test.
struct Bus {
    daemon: Child,
    address: String,
}

impl Bus {
    fn start() -> Bus {
        let words = ["--session", "--nofork", "--print-address"];
        let mut daemon = Command::new("dbus-daemon").args(words).stdout(Stdio::piped()).spawn().unwrap();
        let mut address = String::new();
        BufReader::new(daemon.stdout.take().unwrap()).read_line(&mut address).unwrap();
        Bus { daemon, address: address.trim().to_owned() }
    }
}

impl Drop for Bus {
    fn drop(&mut self) {
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
    }
}

/// The desktop's notification service: tells the test what is asked, with the words that can be clicked.
struct Desktop {
    asked: Sender<(u32, String, Vec<String>)>,
    count: u32,
}

#[zbus::interface(name = "org.freedesktop.Notifications")]
impl Desktop {
    fn get_capabilities(&self) -> Vec<String> {
        vec!["actions".to_owned(), "body".to_owned()]
    }

    fn get_server_information(&self) -> (String, String, String, String) {
        let text = |word: &str| word.to_owned();
        (text("a test"), text("nobody"), text("1"), text("1.2"))
    }

    #[expect(clippy::too_many_arguments, reason = "the specification has them")]
    fn notify(
        &mut self,
        _app: String,
        _replaces: u32,
        _icon: String,
        summary: String,
        _body: String,
        actions: Vec<String>,
        _hints: HashMap<String, OwnedValue>,
        _timeout: i32,
    ) -> u32 {
        self.count += 1;
        self.asked.send((self.count, summary, actions)).unwrap();
        self.count
    }

    fn close_notification(&self, _id: u32) {}

    #[zbus(signal)]
    async fn action_invoked(emitter: &SignalEmitter<'_>, id: u32, word: &str) -> zbus::Result<()>;
}

const PATH: &str = "/org/freedesktop/Notifications";

fn desktop(bus: &Bus) -> (zbus::blocking::Connection, Receiver<(u32, String, Vec<String>)>) {
    let (asked, questions) = channel();
    let connection = zbus::blocking::connection::Builder::address(bus.address.as_str())
        .unwrap()
        .serve_at(PATH, Desktop { asked, count: 0 })
        .unwrap()
        .name("org.freedesktop.Notifications")
        .unwrap()
        .build()
        .unwrap();
    (connection, questions)
}

#[test]
fn a_click_on_the_desktop_lets_a_job_begin_or_leaves_it() {
    if !with_tools("a desktop", &["dbus-daemon"]) {
        return;
    }
    let bus = Bus::start();
    let (connection, questions) = desktop(&bus);
    let click = |id: u32, word: &str| {
        let desktop = connection.object_server().interface::<_, Desktop>(PATH).unwrap();
        zbus::block_on(Desktop::action_invoked(desktop.signal_emitter(), id, word)).unwrap();
    };
    let station = Station::with_job("mirror", &["--when", "on change after 1s", "--ask"]);
    let environment = [("DBUS_SESSION_BUS_ADDRESS", bus.address.as_str())];
    let mut tending = Tending::with(&station, &environment);
    for (number, word) in ["no", "yes"].into_iter().enumerate() {
        station.write(&format!("{number}.csv"), "1", 1_900_000_000);
        tending.wait("it asks", |line| line["event"] == "waiting" && line["for"] == "answer");
        let (id, question, words) = questions.recv_timeout(Duration::from_secs(10)).unwrap();
        assert_eq!(question, "May counts begin?");
        assert_eq!(words, ["yes", "Run it", "no", "Not now"]);
        // Whoever asks listens a moment later.
        std::thread::sleep(Duration::from_millis(500));
        click(id, word);
        if word == "no" {
            tending.stays_quiet(Duration::from_secs(2));
        }
    }
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 2);
}
