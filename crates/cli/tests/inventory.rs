//! Inventories: what they have is what `find` sees, also of hostile names and after changes; what is searched for is found, on drives that
//! are away too; and what cannot be looked at, or is cut short, leaves what was known.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/listed.rs"]
mod listed;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use common::*;
use listed::{exported, found, seen_by_find};
use serde_json::Value;

const OLD: u64 = 1_900_000_000;

#[test]
fn an_inventory_has_what_find_sees_and_goes_along_with_changes() {
    let station = Station::new();
    hostile_tree(&station.left());
    for at in 0..300 {
        station.write(&format!("many/d{}/f{at}.csv", at % 20), &"x".repeat(at), OLD);
    }
    std::os::unix::fs::symlink("nowhere", station.left().join("many/link")).unwrap();
    let taken = station.run(&["inventory", "take", "left", "--json"]).expect(0).last();
    assert_eq!(taken["name"], "left");
    let seen = seen_by_find(&station.left());
    assert!(seen.len() > 320, "{}", seen.len());
    assert_eq!((exported(&station, "left"), number(&taken, "entries")), (seen.clone(), seen.len() as u64));
    let again = station.run(&["inventory", "take", "left", "--json"]).expect(0).last();
    assert_eq!(number(&again, "changed"), 0, "nothing is written of what is as it was");
    // Added, changed, removed, a folder renamed.
    station.write("many/d3/new.csv", "1", OLD);
    station.write("many/d4/f4.csv", "another size", OLD);
    fs::remove_file(station.left().join("many/d5/f5.csv")).unwrap();
    fs::rename(station.left().join("many/d6"), station.left().join("many/d6-renamed")).unwrap();
    fs::remove_dir_all(station.left().join("many/d7")).unwrap();
    let after = station.run(&["inventory", "take", "left", "--json"]).expect(0).last();
    assert_eq!(exported(&station, "left"), seen_by_find(&station.left()));
    assert!(number(&after, "changed") <= 8, "{after}");
    // As a table, the same number of rows.
    let table = station.run(&["inventory", "export", "left", "--csv"]).expect(0);
    let mut reader = csv::ReaderBuilder::new().from_reader(table.out.as_bytes());
    assert!(reader.byte_records().count() > 300);
}

#[test]
fn words_find_what_drives_in_a_cupboard_hold() {
    let station = Station::new();
    for (drive, path) in [
        ("FENFIELD-1", "stills/2031/Nest-3.JPG"),
        ("FENFIELD-1", "counts/Graug\u{e4}nse/north.csv"),
        ("FENFIELD-2", "counts/Heron Island/North.csv"),
        ("FENFIELD-2", "stills/2030/nest-3.jpg"),
        ("FENFIELD-2", "stills/2030/[odd] {name}.jpg"),
    ] {
        let size = if path.contains("2031") { 9_000_000 } else { 100 };
        let time = if drive == "FENFIELD-1" { OLD } else { OLD - 400 * 86_400 };
        write(&station.path(&format!("media/{drive}/{path}")), &vec![7; size], time);
    }
    for drive in ["FENFIELD-1", "FENFIELD-2"] {
        station.run(&["inventory", "take", &format!("media/{drive}")]).expect(0);
    }
    let rows: [(&[&str], &[&str]); 13] = [
        (&["nest-3"], &["FENFIELD-1:stills/2031/Nest-3.JPG", "FENFIELD-2:stills/2030/nest-3.jpg"]),
        (&["NEST", "2030"], &["FENFIELD-2:stills/2030/nest-3.jpg"]),
        (&["graugA\u{308}nse", "csv"], &["FENFIELD-1:counts/Graug\u{e4}nse/north.csv"]),
        (
            &["*.jpg"],
            &[
                "FENFIELD-1:stills/2031/Nest-3.JPG",
                "FENFIELD-2:stills/2030/[odd] {name}.jpg",
                "FENFIELD-2:stills/2030/nest-3.jpg",
            ],
        ),
        (&["nest-?.jpg", "--in", "FENFIELD-2"], &["FENFIELD-2:stills/2030/nest-3.jpg"]),
        (&["[odd]*"], &["FENFIELD-2:stills/2030/[odd] {name}.jpg"]),
        (&["{name}"], &["FENFIELD-2:stills/2030/[odd] {name}.jpg"]),
        (&["2030/nest"], &["FENFIELD-2:stills/2030/nest-3.jpg"]),
        (&["--size", "1MB.."], &["FENFIELD-1:stills/2031/Nest-3.JPG"]),
        (
            &["north", "--size", "..1kB", "--kind", "file", "--changed", "2030-01-01.."],
            &["FENFIELD-1:counts/Graug\u{e4}nse/north.csv"],
        ),
        (&["heron", "--kind", "folder"], &["FENFIELD-2:counts/Heron Island"]),
        (&["nest-3", "heron"], &[]),
        (&["*.jp"], &[]),
    ];
    for (words, expected) in rows {
        assert_eq!(found(&station, words), expected, "{words:?}");
    }
    // One is in the cupboard now.
    fs::rename(station.path("media/FENFIELD-2"), station.path("cupboard")).unwrap();
    let text = station.run(&["inventory", "find", "north"]).expect(0).out;
    assert!(text.contains("FENFIELD-1  connected"), "{text}");
    assert!(
        text.contains("FENFIELD-2  not connected, last seen")
            && text.contains("counts/Heron Island/North.csv"),
        "{text}"
    );
    let list = station.run(&["inventory", "list", "--json"]).expect(0).json();
    let connected: Vec<bool> = list.iter().map(|line| line["connected"].as_bool().unwrap()).collect();
    assert_eq!(connected, [true, false]);
    let shown = station.run(&["inventory", "show", "FENFIELD-2", "stills"]).expect(0).out;
    assert!(shown.contains("2030/") && shown.contains("200 B") && shown.contains("not connected"), "{shown}");
    station.run(&["inventory", "find", "bittern"]).expect(1);
    for (words, expected) in [
        (vec!["inventory", "find"], "give a word, or a filter"),
        (vec!["inventory", "show", "FENFIELD-3"], "Did you mean"),
        (vec!["inventory", "show", "FENFIELD-1", "no/such"], "has no folder no/such"),
        (vec!["inventory", "find", "x", "--size", "big.."], "a size such as"),
        (vec!["inventory", "export", "FENFIELD-1"], "--csv or --json"),
        (vec!["inventory", "drop", "FENFIELD-9"], "there is no inventory"),
    ] {
        let slip = station.run(&words).expect(2);
        assert!(slip.err.contains(expected), "{words:?}: {}", slip.err);
    }
    station.run(&["inventory", "drop", "FENFIELD-2"]).expect(0);
    assert_eq!(found(&station, &["nest"]).len(), 1);
}

#[test]
fn where_else_the_same_file_is() {
    let station = Station::new();
    for path in ["a/one/heron.csv", "b/deep/heron.csv", "b/other.csv"] {
        write(&station.path(path), b"heron,3\n", OLD);
    }
    write(&station.path("b/changed/heron.csv"), b"heron,4\n", OLD + 100);
    for place in ["a", "b"] {
        station.run(&["inventory", "take", place]).expect(0);
    }
    let lines = station.run(&["inventory", "find", "one/heron", "--copies", "--json"]).expect(0).json();
    let copies: Vec<&str> =
        lines[0]["copies"].as_array().unwrap().iter().map(|copy| copy["path"].as_str().unwrap()).collect();
    assert_eq!(copies, ["deep/heron.csv"]);
    let text = station.run(&["inventory", "find", "one/heron", "--copies"]).expect(0).out;
    assert!(text.contains("also") && text.contains("b: deep/heron.csv"), "{text}");
}

#[test]
fn another_store_does_not_take_a_name_and_its_memory() {
    let station = Station::with_job("mirror", &[]);
    station.write("a.csv", "1", OLD);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    station.run(&["inventory", "take", "right", "--name", "FENFIELD-1"]).expect(0);
    let other = station.run(&["inventory", "take", "left", "--name", "FENFIELD-1"]).expect(2);
    assert!(other.err.contains("that of another store") && other.err.contains("--name"), "{}", other.err);
    // Mounted elsewhere it is the same one, by its mark.
    fs::rename(station.right(), station.path("elsewhere")).unwrap();
    station.run(&["inventory", "take", "elsewhere", "--name", "FENFIELD-1"]).expect(0);
    assert_eq!(found(&station, &["a.csv"]), ["FENFIELD-1:a.csv"]);
    station.run(&["inventory", "take", "no/such/folder"]).expect(3);
}

#[test]
fn what_cannot_be_looked_at_and_what_is_cut_short_leaves_what_was_known() {
    let station = Station::new().without_rights();
    station.write("open/a.csv", "1", OLD);
    station.write("closed/deep/b.csv", "1", OLD);
    station.run(&["inventory", "take", "left"]).expect(0);
    set_mode(&station.left().join("closed"), 0o000);
    station.write("open/new.csv", "1", OLD);
    let partly = station.run(&["inventory", "take", "left"]).expect(1);
    assert!(partly.err.contains("closed"), "{}", partly.err);
    set_mode(&station.left().join("closed"), 0o755);
    assert_eq!(found(&station, &["b.csv"]), ["left:closed/deep/b.csv"]);
    assert_eq!(found(&station, &["new.csv"]), ["left:open/new.csv"]);

    let station = Station::new();
    for at in 0..20_000 {
        let path = station.left().join(format!("d{}/f{at}", at % 500));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "").unwrap();
    }
    station.run(&["inventory", "take", "left"]).expect(0);
    let before = station.run(&["inventory", "list", "--json"]).expect(0).json()[0].clone();
    fs::remove_dir_all(station.left().join("d7")).unwrap();
    for wait in [5, 20, 60, 120] {
        let mut taking = station.command(&["inventory", "take", "left"]).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        let _ = taking.kill();
        if taking.wait().unwrap().success() {
            break;
        }
        let after = station.run(&["inventory", "list", "--json"]).expect(0).json()[0].clone();
        if number(&after, "entries") == 20_459 {
            // It was through before it was killed.
            assert_eq!(found(&station, &["d7/"]).len(), 0);
            break;
        }
        assert_eq!(after, before, "after {wait} ms");
        assert_eq!(found(&station, &["d7/"]).len(), 40);
    }
}

#[test]
fn a_server_has_an_inventory_too_and_answers_when_it_is_asked_only() {
    let station = Station::new();
    let standin =
        places::standin(&station, reedhook_standins::Kind::WebDav, reedhook_standins::Behaviour::default());
    places::know_standin(&station, &standin);
    station.write("stills/nest-1.jpg", "picture", OLD);
    station.run(&["once", "copy", "left", "@archive/kept", "--yes"]).expect(0);
    station.run(&["inventory", "take", "@archive/kept", "--name", "kept"]).expect(0);
    drop(standin);
    let begun = Instant::now();
    let lines = station.run(&["inventory", "find", "nest", "--json"]).expect(0).json();
    assert_eq!(lines.len(), 2);
    assert_eq!(lines[0]["path"], "kept/stills/nest-1.jpg", "as the run saw it");
    assert_eq!(lines[1]["path"], "stills/nest-1.jpg");
    assert!(begun.elapsed() < Duration::from_secs(5), "nobody was asked");
    let away: Vec<Value> = station.run(&["inventory", "list", "--json"]).expect(0).json();
    assert_eq!(
        (&away[0]["name"], &away[1]["name"]),
        (&"archive".into(), &"kept".into()),
        "what the run saw, and what was taken"
    );
}

#[test]
fn a_listing_of_another_machine_can_be_searched_like_a_drive() {
    let station = Station::new();
    hostile_tree(&station.left());
    let root = station.left().canonicalize().unwrap();
    let listed = |words: &[&str], file: &str| {
        let output =
            Command::new(words[0]).args(&words[1..]).current_dir(&root).env("LC_ALL", "C").output().unwrap();
        fs::write(station.path(file), output.stdout).unwrap();
    };
    // With NUL behind each, every name comes through.
    listed(&["find", ".", "-mindepth", "1", "-printf", "%y %s %T@ %P\\0"], "find.txt");
    station
        .run(&["inventory", "import", "find.txt", "--name", "FENFIELD-9", "--label", "FENFIELD-9"])
        .expect(0);
    assert_eq!(exported(&station, "FENFIELD-9"), seen_by_find(&station.left()));
    // Of names without line ends `ls` tells the same.
    fs::remove_dir_all(root.join("files")).unwrap();
    fs::remove_dir_all(root.join("folders")).unwrap();
    listed(&["ls", "-lRA", "--time-style=full-iso", "."], "ls.txt");
    station.run(&["inventory", "import", "ls.txt", "--name", "by-ls"]).expect(0);
    assert_eq!(exported(&station, "by-ls"), seen_by_find(&station.left()));
    // What was exported comes back.
    let table = station.run(&["inventory", "export", "by-ls", "--csv"]).expect(0);
    fs::write(station.path("table.csv"), table.out).unwrap();
    station.run(&["inventory", "import", "table.csv", "--name", "by-table"]).expect(0);
    assert_eq!(exported(&station, "by-table"), exported(&station, "by-ls"));
    let found =
        station.run(&["inventory", "find", "empty", "--kind", "file", "--in", "FENFIELD-9"]).expect(0).out;
    assert!(found.contains("a listing of drive FENFIELD-9") && found.contains("not connected"), "{found}");
    // A listing takes no place of a store, and nonsense is none.
    station.run(&["inventory", "take", "left", "--name", "mine"]).expect(0);
    assert!(
        station
            .run(&["inventory", "import", "ls.txt", "--name", "mine"])
            .expect(2)
            .err
            .contains("was taken of")
    );
    fs::write(station.path("nonsense"), "heron\nrail\n").unwrap();
    assert!(
        station
            .run(&["inventory", "import", "nonsense", "--name", "x"])
            .expect(2)
            .err
            .contains("find DIR -printf")
    );
    fs::write(station.path("partly"), "f 1 5.0 a\nheron\n").unwrap();
    assert!(
        station
            .run(&["inventory", "import", "partly", "--name", "x"])
            .expect(1)
            .err
            .contains("the first is line 2")
    );
}

/// What `compare` says differs.
fn differences(station: &Station, words: &[&str]) -> Vec<String> {
    let ran = station.run(&[&["compare", "--json"], words].concat());
    assert!(ran.code < 2, "{}", ran.err);
    let lines = ran.json();
    let told = lines.iter().filter(|line| line["event"] == "difference");
    let mut told: Vec<String> = told
        .map(|line| format!("{} {} {}", line["state"].as_str().unwrap(), line["kind"], line["path"]))
        .collect();
    told.sort();
    told
}

#[test]
fn a_drive_that_is_away_can_be_compared_with() {
    let station = Station::on_one_file_system();
    for at in 0..60 {
        station.write(&format!("counts/d{}/f{at}.csv", at % 5), &"x".repeat(at), OLD + at as u64 * 7);
    }
    hostile_tree(&station.left().join("odd"));
    std::os::unix::fs::symlink("counts", station.left().join("link")).unwrap();
    tool(&["cp", "-a", &station.left().join(".").display().to_string(), station.right().to_str().unwrap()]);
    station.run(&["inventory", "take", "right"]).expect(0);
    assert_eq!(differences(&station, &["left", "inventory:right"]), Vec::<String>::new());
    assert_eq!(station.run(&["compare", "left", "inventory:right"]).expect(0).code, 0);
    // Whatever differs, differs from the inventory as it does from the store.
    station.write("counts/d1/f1.csv", "another size", OLD);
    station.write("counts/d2/f2.csv", "xx", OLD + 3000);
    station.write("counts/new/n.csv", "1", OLD);
    fs::remove_file(station.left().join("counts/d3/f3.csv")).unwrap();
    fs::rename(station.left().join("counts/d4"), station.left().join("d4-moved")).unwrap();
    fs::remove_file(station.left().join("link")).unwrap();
    fs::create_dir(station.left().join("link")).unwrap();
    let from_the_store = differences(&station, &["left", "right"]);
    assert!(from_the_store.len() >= 6, "{from_the_store:?}");
    assert_eq!(differences(&station, &["left", "inventory:right"]), from_the_store);
    let below = differences(&station, &["left/counts", "right/counts"]);
    fs::rename(station.right(), station.path("in the cupboard")).unwrap();
    assert_eq!(differences(&station, &["left", "inventory:right"]), from_the_store, "it is away");
    assert_eq!(differences(&station, &["left/counts", "inventory:right/counts"]), below);
    let told = station.run(&["compare", "left", "inventory:right", "--counts"]).expect(1);
    assert!(told.err.contains("the inventory right tells how it was"), "{}", told.err);
    // Two that are both away.
    station.run(&["inventory", "take", "left"]).expect(0);
    assert_eq!(differences(&station, &["inventory:left", "inventory:right"]), from_the_store);
    for (words, said) in [
        (vec!["compare", "left", "inventory:rihgt"], "Did you mean \"right\"?"),
        (vec!["compare", "left", "inventory:right/none"], "has no folder none"),
        (vec!["compare", "left", "inventory:right", "--content"], "no content to compare by"),
        (vec!["compare", "inventory:right"], "is one place"),
        (vec!["once", "mirror", "inventory:right", "left", "--yes"], "has no files"),
        (vec!["once", "mirror", "left", "inventory:right", "--yes"], "has no files"),
        (vec!["job", "add", "x", "mirror", "left", "inventory:right"], "has no files"),
        (vec!["inventory", "take", "inventory:right"], "has no files"),
    ] {
        let ran = station.run(&words).expect(2);
        assert!(ran.err.contains(said), "{words:?}: {}", ran.err);
    }
    assert!(station.left().join("counts").is_dir());
}

/// A drive that keeps times in steps of two seconds, as another machine has listed it.
#[test]
fn times_are_compared_as_finely_as_the_drive_has_kept_them() {
    let station = Station::new();
    let mut listing = String::new();
    for at in 0..40 {
        station.write(&format!("f{at}.csv"), &"x".repeat(at), OLD + at as u64);
        listing.push_str(&format!("f {at} {}.0000000000 f{at}.csv\n", (OLD + at as u64) / 2 * 2));
    }
    fs::write(station.path("listing"), listing).unwrap();
    station.run(&["inventory", "import", "listing", "--name", "stick"]).expect(0);
    assert_eq!(differences(&station, &["left", "inventory:stick"]), Vec::<String>::new());
    station.write("f5.csv", "xxxxx", OLD + 50);
    assert_eq!(differences(&station, &["left", "inventory:stick"]), ["left-newer \"file\" \"f5.csv\""]);
    // Of one without times only sizes can tell.
    fs::write(station.path("listing"), "path,size\nf1.csv,1\nf2.csv,9\n").unwrap();
    station.run(&["inventory", "import", "listing", "--name", "sizes"]).expect(0);
    let told =
        differences(&station, &["left", "inventory:sizes", "--only", "differs,left-newer,right-newer"]);
    assert_eq!(told, ["differs \"file\" \"f2.csv\""]);
}

#[test]
fn what_would_be_lost_with_a_drive_is_told() {
    let station = Station::with_job("mirror", &[]);
    for (path, content) in
        [("stills/nest-1.jpg", "picture"), ("stills/only.jpg", "only here"), ("empty.txt", "")]
    {
        write(&station.path("one").join(path), content.as_bytes(), OLD);
    }
    // Another drive, which was never here.
    let listing = format!("f 7 {OLD}.25 kept/nest-1.jpg\nf 6 {OLD}.5 rota.csv\n");
    fs::write(station.path("listing"), listing).unwrap();
    station.run(&["inventory", "take", "one"]).expect(0);
    assert!(!station.run(&["report"]).expect(0).out.contains("On one drive only"), "one alone says nothing");
    station.run(&["inventory", "import", "listing", "--name", "two"]).expect(0);
    assert_eq!(found(&station, &["--alone"]), ["one:stills/only.jpg", "two:rota.csv"]);
    assert_eq!(found(&station, &["--alone", "--in", "two"]), ["two:rota.csv"]);
    assert_eq!(found(&station, &["--alone", "only"]), ["one:stills/only.jpg"]);
    let told = station.run(&["inventory", "find", "--alone"]).expect(0).out;
    assert!(
        told.contains("stills/only.jpg") && !told.contains("nest-1") && !told.contains("empty"),
        "{told}"
    );
    let report = station.run(&["report"]).expect(0).out;
    assert!(report.contains("On one drive only") && report.contains("--alone --in one"), "{report}");
    let lines = station.run(&["report", "--json"]).expect(0).json();
    let once: Vec<&Value> = lines.iter().filter(|line| line["event"] == "once-only").collect();
    assert_eq!((once.len(), number(once[0], "files"), number(once[0], "bytes")), (2, 1, 9), "{once:?}");
    station.run(&["report", "--html", "report.html"]).expect(0);
    assert!(fs::read_to_string(station.path("report.html")).unwrap().contains("On one drive only"));
    // A second inventory of the same drive, and a copy on the same file system, are no second drive.
    station.run(&["inventory", "take", "one/stills", "--name", "again"]).expect(0);
    write(&station.path("beside/only.jpg"), b"only here", OLD);
    station.run(&["inventory", "take", "beside"]).expect(0);
    assert_eq!(
        found(&station, &["--alone", "only"]),
        ["again:only.jpg", "beside:only.jpg", "one:stills/only.jpg"]
    );
    write(&station.path("one/rota.csv"), b"a rota", OLD);
    station.run(&["inventory", "take", "one"]).expect(0);
    let none = station.run(&["inventory", "find", "--alone", "rota"]).expect(1);
    assert!(none.out.contains("on one drive only"), "{}", none.out);
    let broken = station.path("home/inventories.db");
    fs::write(&broken, "no database").unwrap();
    for end in ["-wal", "-shm"] {
        let _ = fs::remove_file(station.path(&format!("home/inventories.db{end}")));
    }
    let report = station.run(&["report"]).expect(0);
    assert!(report.out.starts_with("All well") && report.err.contains("cannot be used"), "{}", report.err);
}
