//! What cannot be read is not empty: nothing that could not be looked at counts as nothing there.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/desktop.rs"]
mod desktop;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;
#[path = "common/tending.rs"]
mod tending;

use std::fs;

use common::{Station, as_root_only, with_tools, write};
use desktop::Bus;
use places::{know_standin, standin};
use reedhook_standins::{Behaviour, Kind};
use reedhook_testing::signals::Signal;
use tending::Tending;

const OLD: u64 = 1_900_000_000;

/// A file in the place of the folder of jobs: no account can list that.
fn hide_jobs(station: &Station) {
    fs::rename(station.path("home/jobs"), station.path("home/jobs-away")).unwrap();
    fs::write(station.path("home/jobs"), "").unwrap();
}

fn show_jobs(station: &Station) {
    fs::remove_file(station.path("home/jobs")).unwrap();
    fs::rename(station.path("home/jobs-away"), station.path("home/jobs")).unwrap();
}

#[test]
fn jobs_that_cannot_be_listed_are_not_none() {
    let station = Station::with_job("mirror", &[]);
    hide_jobs(&station);
    for words in [
        &["status"][..],
        &["run", "--all"],
        &["job", "list"],
        &["report"],
        &["metrics"],
        &["when", "next"],
        &["store", "remove", "field"],
    ] {
        if words[0] == "store" {
            fs::write(station.path("home/reedhook.toml"), "[stores.field]\nlocation = \"right\"\n").unwrap();
        }
        let ran = station.run(words);
        assert_ne!(ran.code, 0, "{words:?}: {}", ran.out);
        assert!(ran.err.contains("cannot be listed"), "{words:?}: {}", ran.err);
    }
    let doctor = station.run(&["doctor"]);
    assert!(doctor.code != 0 && doctor.out.contains("cannot be listed"), "{}", doctor.out);
    show_jobs(&station);
    station.run(&["status"]).expect(0);
}

#[test]
fn the_service_goes_on_with_the_jobs_that_it_knows() {
    let station = Station::with_job("mirror", &["--when", "on change after 1s"]);
    station.write("heron.csv", "heron,3", OLD);
    let mut tending = Tending::of(&station);
    tending.ends("counts");
    hide_jobs(&station);
    tending.signal(Signal::HUP);
    let told = || station.run(&["tend", "status"]).expect(0);
    let begun = std::time::Instant::now();
    while !told().err.contains("cannot be listed") {
        assert!(begun.elapsed() < std::time::Duration::from_secs(20), "{}", told().err);
    }
    assert!(told().out.contains("counts"), "{}", told().out);
    station.write("new.csv", "rail,1", OLD);
    assert_eq!(tending.ends("counts")["added"], 1);
    show_jobs(&station);
    tending.signal(Signal::HUP);
    let begun = std::time::Instant::now();
    while told().err.contains("cannot be listed") {
        assert!(begun.elapsed() < std::time::Duration::from_secs(20));
    }
}

#[test]
fn kept_copies_of_a_destination_that_is_away_are_not_none() {
    let station = Station::new();
    let words = ["job", "add", "counts", "mirror", "left", "first", "--to", "second", "--yes"];
    station.run(&words).expect(0);
    station.write("heron.csv", "heron,3", OLD);
    station.run(&["run", "counts"]).expect(0);
    // Only the second has something to keep.
    write(&station.path("second/grebe.csv"), b"grebe,1", OLD);
    station.run(&["run", "counts", "--yes"]).expect(0);
    assert!(station.run(&["kept", "list", "counts"]).expect(0).out.contains('1'));
    fs::rename(station.path("second"), station.path("away")).unwrap();
    let ran = station.run(&["kept", "list", "counts"]).expect(1);
    assert!(ran.err.contains("second is not there"), "{}", ran.err);
    assert!(ran.out.contains("no kept copies where it could be looked"), "{}", ran.out);
    let ran = station.run(&["kept", "list", "counts", "--json"]).expect(1);
    assert!(ran.err.contains("second is not there"), "{}", ran.err);
}

#[test]
fn a_file_of_known_hosts_that_cannot_be_read_is_no_unknown_host() {
    let station = Station::new();
    let archive = standin(&station, Kind::Sftp, Behaviour::default());
    know_standin(&station, &archive);
    station.run(&["store", "check", "archive"]).expect(0);
    fs::create_dir_all(station.path(".ssh/known_hosts")).unwrap();
    let ran = station.run(&["store", "check", "archive"]).expect(3);
    assert!(ran.err.contains("known_hosts cannot be read"), "{}", ran.err);
}

/// A keyring that is there and does not answer as one.
struct BrokenRing;

#[zbus::interface(name = "org.freedesktop.Secret.Service")]
impl BrokenRing {
    fn open_session(
        &self,
        _algorithm: &str,
        _input: zbus::zvariant::Value<'_>,
    ) -> zbus::fdo::Result<(zbus::zvariant::OwnedValue, zbus::zvariant::OwnedObjectPath)> {
        let path = zbus::zvariant::ObjectPath::try_from("/org/freedesktop/secrets/session/one").unwrap();
        Ok((zbus::zvariant::Value::from("").try_into().unwrap(), path.into()))
    }

    fn search_items(
        &self,
        _attributes: std::collections::HashMap<String, String>,
    ) -> zbus::fdo::Result<(Vec<zbus::zvariant::OwnedObjectPath>, Vec<zbus::zvariant::OwnedObjectPath>)> {
        Err(zbus::fdo::Error::Failed("the disk of the keyring is broken".to_owned()))
    }
}

#[test]
fn a_keyring_that_fails_is_no_missing_secret() {
    if !with_tools("a keyring that fails", &["dbus-daemon"]) {
        return;
    }
    let station = Station::new();
    let bus = Bus::start();
    let archive = standin(&station, Kind::WebDav, Behaviour::default());
    let location = archive.location("archive");
    let words = ["store", "add", "archive", &location, "--user", servers::USER];
    let run = |words: &[&str], bus: &str| {
        let mut command = station.command(words);
        // A home in the usual folders: one that travels has no keyring.
        command.env_remove("REEDHOOK_HOME").env("XDG_CONFIG_HOME", station.path("config"));
        command.env("XDG_STATE_HOME", station.path("state")).env("DBUS_SESSION_BUS_ADDRESS", bus);
        common::Ran::of(&command.output().unwrap())
    };
    run(&words, "").expect(0);
    // No bus, and one on which nobody has a keyring.
    for nobody in ["", bus.address.as_str()] {
        let ran = run(&["store", "check", "archive"], nobody);
        assert!(ran.err.contains("no password or token is known"), "{nobody}: {}", ran.err);
    }
    let _ring = zbus::blocking::connection::Builder::address(bus.address.as_str())
        .unwrap()
        .serve_at("/org/freedesktop/secrets", BrokenRing)
        .unwrap()
        .name("org.freedesktop.secrets")
        .unwrap()
        .build()
        .unwrap();
    let ran = run(&["store", "check", "archive"], &bus.address);
    assert!(ran.err.contains("keyring cannot be read"), "{}", ran.err);
}

#[test]
fn no_table_of_mounts_is_not_no_mounts() {
    if !as_root_only("no table of mounts") || !with_tools("no table of mounts", &["unshare", "mount"]) {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    station.write("heron.csv", "heron,3", OLD);
    let program = common::program();
    let line = format!("mount -t tmpfs none /proc && exec {} run counts --json", program.display());
    let home = station.path("home");
    let output = std::process::Command::new("unshare")
        .args(["-m", "sh", "-c", &line])
        .current_dir(station.path(""))
        .env("REEDHOOK_HOME", home)
        .env("HOME", station.path(""))
        .output()
        .unwrap();
    let ran = common::Ran::of(&output).expect(3);
    assert!(ran.last()["message"].as_str().unwrap().contains("what is mounted in"), "{}", ran.out);
    assert!(!station.right().join("heron.csv").exists());
}
