//! A job that asks before it begins, on a desktop: a notification service of the test's own, on a bus of its own.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/desktop.rs"]
mod desktop;
#[path = "common/tending.rs"]
mod tending;

use std::time::Duration;

use common::*;
use desktop::{Bus, Desktop, PATH, desktop};
use tending::Tending;

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
        let asked = questions.recv_timeout(Duration::from_secs(10)).unwrap();
        assert_eq!(asked.summary, "May counts begin?");
        assert_eq!(asked.actions, ["yes", "Run it", "no", "Not now"]);
        // Whoever asks listens a moment later.
        std::thread::sleep(Duration::from_millis(500));
        click(asked.id, word);
        if word == "no" {
            tending.stays_quiet(Duration::from_secs(2));
        }
    }
    tending.begins("counts");
    assert_eq!(tending.ends("counts")["added"], 2);
}
