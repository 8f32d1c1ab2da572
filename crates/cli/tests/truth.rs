//! What servers hold and say, taken for what it is: against real servers that showed where it was not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::fs;
use std::os::unix::fs::MetadataExt;

use common::{Station, number, tree, write};
use places::of_server;

/// Several workers make the same folder among the kept copies; the server tells those that come late that they may not.
#[test]
fn folders_that_several_make_at_once_are_no_refusal() {
    let Some(place) = of_server("apache-tls", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    for round in 0..12_u64 {
        for number in 0..24 {
            station.write(
                &format!("site/pond/{number}.csv"),
                &format!("{round} {number}"),
                1_900_000_000 + round * 10,
            );
        }
        station.run_job(&["--yes", "--quiet"]).expect(0);
    }
}

#[test]
fn names_that_begin_with_a_blank_are_seen_over_ftp() {
    let Some(place) = of_server("proftpd-plain", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    let there = place.served.clone().unwrap().join("counts");
    for name in [" heron.csv", "teal.csv ", " both "] {
        station.write(name, "ours, longer", 1_900_000_000);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    let again = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&again, "added") + number(&again, "updated"), 0, "{again}");
    // Another person's file, from before: it is kept when ours takes its place.
    fs::write(there.join(" otter.csv"), "theirs").unwrap();
    station.write(" otter.csv", "ours, longer", 1_900_000_000);
    let ran = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&ran, "added"), number(&ran, "updated")), (0, 1), "{ran}");
    let kept = tree(&there.join(".reedhook/kept"));
    assert!(kept.keys().any(|path| path.ends_with(" otter.csv")), "{kept:?}");
    assert_eq!(fs::read(there.join(" otter.csv")).unwrap(), b"ours, longer");
}

/// What was noted of files holds for them when their folder gets another name.
#[test]
fn notes_travel_with_folders() {
    for kind in ["apache-tls", "proftpd-plain"] {
        let Some(place) = of_server(kind, "archive") else { return };
        let station = Station::new();
        station.know(&place);
        for number in 0..20 {
            station.write(
                &format!("season/nest/{number}.csv"),
                &format!("heron,{number}"),
                1_900_000_000 + number,
            );
        }
        station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
        fs::rename(station.left().join("season"), station.left().join("season 2031")).unwrap();
        let ran = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!((number(&ran, "moved"), number(&ran, "added")), (20, 0), "{kind}: {ran}");
        let again = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!(number(&again, "meta"), 0, "{kind}: {again}");
    }
}

/// A large file is told its time as a small one is, where the server takes it.
#[test]
fn large_files_are_told_their_time_over_webdav() {
    let station = Station::new();
    let takes = reedhook_standins::Behaviour { takes_times: true, ..Default::default() };
    let standin = places::standin(&station, reedhook_standins::Kind::WebDav, takes);
    places::know_standin(&station, &standin);
    station.write("small.csv", "heron,3", 1_900_000_000);
    write(&station.left().join("large.bin"), &vec![7; 700_000], 1_900_000_000);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    let time = |name: &str| fs::metadata(station.path("served/archive/counts").join(name)).unwrap().mtime();
    assert_eq!((time("small.csv"), time("large.bin")), (1_900_000_000, 1_900_000_000));
}
