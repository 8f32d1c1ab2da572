//! Machines as they are found: without a HOME, without time zones, without the tools that tests like to have.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::Station;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// Services of the system have no HOME; the account has a folder all the same.
#[test]
fn an_account_without_a_home_variable_has_a_home() {
    let station = Station::new();
    let mut command = station.command(&["job", "list"]);
    let output = command.env_remove("HOME").env_remove("REEDHOOK_HOME").output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
}

/// The zones come along, and one that nobody knows is said to be unknown.
#[test]
fn zones_are_there_or_said_to_be_missing() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    let run = |zone: &str| {
        let mut command = station.command(&["run", "counts", "--json"]);
        command.env("TZ", zone).env("TZDIR", station.path("no such folder"));
        let output = command.output().unwrap();
        assert_eq!(output.status.code(), Some(0));
        let last = String::from_utf8_lossy(&output.stdout).lines().last().unwrap().to_owned();
        let finished: serde_json::Value = serde_json::from_str(&last).unwrap();
        (
            finished["run"].as_str().unwrap()[..11].to_owned(),
            String::from_utf8_lossy(&output.stderr).into_owned(),
        )
    };
    let shown = |offset: i32| {
        let zone = TimeZone::fixed(jiff::tz::Offset::from_hours(offset as i8).unwrap());
        Timestamp::now().to_zoned(zone).strftime("%Y%m%d-%H").to_string()
    };
    let before = shown(9);
    let (name, said) = run("Asia/Tokyo");
    assert!([before, shown(9)].contains(&name), "{name}");
    assert!(!said.contains("time zone"), "{said}");
    let before = shown(0);
    let (name, said) = run("Fenmere/West_Scrape");
    assert!([before, shown(0)].contains(&name), "{name}");
    assert!(said.contains("the time zone \"Fenmere/West_Scrape\" is not known; times are in UTC"), "{said}");
}
