//! What places hold is found out by trying: drives and shares that forget, refuse or change what they are told.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

#[path = "common/altered.rs"]
mod altered;
mod common;

use std::fs;

use altered::{Altered, Ways};
use common::{Station, with_mounts, write};

fn show(ran: common::Ran) {
    println!("== {} \n{}\n{}", ran.code, ran.out, ran.err);
}
#[test]
fn trial() {
    if !with_mounts("places that hold less", &[]) {
        return;
    }
    let station = Station::new();
    let behind = station.path("behind");
    fs::create_dir_all(&behind).unwrap();
    let at = station.path("share");
    let share = Altered::mount(
        &behind,
        &at,
        Ways { folds_case: true, step: 2, modes: false, links: false, refused: b":?", ..Ways::default() },
    );
    write(&station.path("left/counts.csv"), b"a\n", 1_900_000_001);
    write(&station.path("left/Docs/a.txt"), b"a\n", 1_900_000_001);
    println!(
        "{:?}",
        station.run(&[
            "job",
            "add",
            "j",
            "mirror",
            station.path("left").to_str().unwrap(),
            at.to_str().unwrap()
        ])
    );
    show(station.run(&["preview", "j"]));
    show(station.run(&["run", "j"]));
    show(station.run(&["run", "j"]));
    show(station.run(&["preview", "j"]));
    share.unmount();
    panic!();
}
