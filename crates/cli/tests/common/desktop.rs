//! A desktop for trials: a notification service of the test's own, on a bus of its own.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::HashMap;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, Sender, channel};

use zbus::object_server::SignalEmitter;
use zbus::zvariant::OwnedValue;

/// A bus that ends with the test.
pub struct Bus {
    daemon: Child,
    pub address: String,
}

impl Bus {
    pub fn start() -> Bus {
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

/// Something that is shown on the desktop.
pub struct Shown {
    pub id: u32,
    pub summary: String,
    pub body: String,
    pub actions: Vec<String>,
}

/// The desktop's notification service: tells the test what is asked, with the words that can be clicked.
pub struct Desktop {
    asked: Sender<Shown>,
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
        body: String,
        actions: Vec<String>,
        _hints: HashMap<String, OwnedValue>,
        _timeout: i32,
    ) -> u32 {
        self.count += 1;
        let _ = self.asked.send(Shown { id: self.count, summary, body, actions });
        self.count
    }

    fn close_notification(&self, _id: u32) {}

    #[zbus(signal)]
    pub async fn action_invoked(emitter: &SignalEmitter<'_>, id: u32, word: &str) -> zbus::Result<()>;
}

pub const PATH: &str = "/org/freedesktop/Notifications";

/// Puts the service on the bus; what is shown comes to the test.
pub fn desktop(bus: &Bus) -> (zbus::blocking::Connection, Receiver<Shown>) {
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
