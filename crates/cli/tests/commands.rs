//! The commands around a run: jobs, stores, filters, history; their mistakes; the demo.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Station, number, set_mode, write};

#[test]
fn mistakes_get_one_sentence_and_the_right_code() {
    let station = Station::with_job("mirror", &[]);
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    fs::write(
        station.path("home/jobs/broken.toml"),
        "kind = \"mirror\"\nfrom = \"left\"\nto = \"right\"\nexlude = []\n",
    )
    .unwrap();
    fs::write(station.path("home/jobs/torn.toml"), "kind = \"mirror\nfrom = 1").unwrap();
    fs::write(station.path("plain-file"), "x").unwrap();
    let cases: &[(&[&str], i32, &[&str])] = &[
        (&["run", "coutns"], 2, &["no job \"coutns\"", "Did you mean \"counts\"?"]),
        (&["preview", "xyzzy"], 2, &["no job \"xyzzy\"", "There is: broken, counts, torn"]),
        (&["run", "broken"], 2, &["broken.toml, line 4", "no key \"exlude\"", "\"exclude\""]),
        (&["run", "torn"], 2, &["torn.toml, line 1"]),
        (&["status"], 0, &["broken.toml, line 4", "torn.toml, line 1"]),
        (&["job", "add", "x", "mirrow", "left", "right"], 2, &["mirrow", "mirror copy"]),
        (&["job", "add", "x", "mirror", "nowhere", "right"], 2, &["the source", "nowhere is not there"]),
        (&["job", "add", "a/b", "mirror", "left", "right"], 2, &["cannot be the name of a job"]),
        (&["job", "add", "counts", "mirror", "left", "right"], 2, &["already a job"]),
        (&["job", "add", "x", "mirror", "left"], 2, &["RIGHT is missing"]),
        (
            &["job", "add", "x", "mirror", "left", "@feild-drive/x"],
            2,
            &["no store \"feild-drive\"", "field-drive"],
        ),
        (&["job", "add", "x", "mirror", "left", "@field-drive/../up"], 2, &["\"..\""]),
        (&["job", "add", "x", "mirror", "left", "stfp://host/x"], 2, &["sftp:"]),
        (&["job", "add", "x", "copy", "left", "right", "--exclude", "!a"], 2, &["begins with \"!\""]),
        (&["job", "add", "x", "copy", "left", "right", "--max-size", "huge"], 2, &["10 MB"]),
        (&["job", "edit", "counts", "--unset", "remvoed"], 2, &["\"removed\""]),
        (&["job", "filter", "counts", "--drop", "*.tmp"], 2, &["no line \"*.tmp\""]),
        (&["history", "counts", "9"], 2, &["no run \"9\""]),
        (&["store", "check", "feld-drive"], 2, &["field-drive"]),
        (&["once", "copy", "plain-file", "right"], 3, &["source"]),
        (&["once", "copy", "left", "plain-file"], 3, &["is no folder"]),
        (&["run"], 2, &["JOB"]),
        (&["frobnicate"], 2, &["frobnicate"]),
    ];
    for (words, code, expected) in cases {
        let ran = station.run(words);
        assert_eq!(ran.code, *code, "{words:?}: {} {}", ran.out, ran.err);
        for text in *expected {
            assert!(ran.err.contains(text), "{words:?} should say {text:?}: {}", ran.err);
        }
        assert!(!ran.err.contains("panicked"), "{}", ran.err);
    }
    assert!(common::tree(&station.right()).is_empty(), "nothing is touched");
}

#[test]
fn a_jobs_life() {
    let station = Station::with_job("mirror", &["--exclude", "*.tmp"]);
    station.write("a", "1", 1000);
    let file = station.path("home/jobs/counts.toml");
    let text = fs::read_to_string(&file).unwrap();
    assert!(text.contains("kind = \"mirror\"") && text.contains("exclude = [\"*.tmp\"]"), "{text}");
    fs::write(&file, format!("# the ranger's counts\n{text}")).unwrap();
    station.run(&["job", "edit", "counts", "--removed", "erase", "--exclude", "*.bak"]).expect(0);
    let text = fs::read_to_string(&file).unwrap();
    assert!(
        text.starts_with("# the ranger's counts")
            && text.contains("removed = \"erase\"")
            && !text.contains("*.tmp")
    );
    station.run(&["job", "edit", "counts", "--unset", "removed"]).expect(0);
    station.run_job(&[]).expect(0);

    station.run(&["job", "rename", "counts", "heron-counts"]).expect(0);
    assert!(station.run(&["history", "heron-counts"]).expect(0).out.contains("1 added"));
    assert!(
        station.run(&["history", "heron-counts", "last"]).expect(0).out.contains("add  a"),
        "the log goes along"
    );
    station.run(&["job", "export", "heron-counts", "--to", "saved.toml"]).expect(0);
    station.run(&["job", "remove", "heron-counts"]).expect(0);
    assert!(station.run(&["job", "list"]).expect(0).out.contains("no job yet"));
    assert!(station.right().join("a").exists());
    let imported = station.run(&["job", "import", "saved.toml", "--name", "again"]).expect(0);
    assert!(imported.out.contains("lands directly in"), "{}", imported.out);
    let listed = station.run(&["job", "list", "--json"]).expect(0).last();
    assert_eq!(
        (&listed["event"], &listed["name"], &listed["kind"]),
        (&"job".into(), &"again".into(), &"mirror".into())
    );
    assert!(station.run(&["job", "show", "again"]).expect(0).out.contains("exclude = [\"*.bak\"]"));
}

#[test]
fn job_add_points_out_likely_slips() {
    let station = Station::new();
    for path in ["north/a", "west/b", "heron/c"] {
        station.write(path, "1", 1000);
        write(&station.right().join("left").join(path), b"1", 1000);
    }
    let added = station.run(&["job", "add", "high", "mirror", "left", "right"]).expect(0);
    assert!(added.err.contains("one level too high"), "{}", added.err);
    fs::create_dir_all(station.path("right/x/left/left")).unwrap();
    let added = station.run(&["job", "add", "deep", "mirror", "left", "right/x/left/left"]).expect(0);
    assert!(added.err.contains("one level too deep"), "{}", added.err);
    let added = station.run(&["job", "add", "well", "mirror", "left/", "right/left/"]).expect(0);
    assert!(!added.err.contains(" level too ") && added.err.contains("lies inside"), "{}", added.err);
    assert!(added.out.contains("What is in ~/left lands directly in ~/right/left."), "{}", added.out);
    assert!(station.run(&["preview", "high"]).err.contains("one level too high"), "a preview says it too");
}

#[test]
fn stores_give_places_a_name() {
    let station = Station::new();
    station.write("a", "1", 1000);
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    station.run(&["job", "add", "counts", "mirror", "left", "@field-drive/counts/deep"]).expect(0);
    station.run_job(&[]).expect(0);
    assert!(station.right().join("counts/deep/a").exists());
    let listed = station.run(&["store", "list", "--json"]).expect(0).last();
    assert_eq!((&listed["name"], &listed["present"]), (&"field-drive".into(), &true.into()));
    assert!(station.run(&["store", "check", "field-drive"]).expect(0).out.contains("free of"));
    assert!(station.run(&["store", "remove", "field-drive"]).expect(2).err.contains("used by counts"));
    fs::rename(station.right(), station.path("gone")).unwrap();
    let run = station.run(&["run", "counts"]).expect(3);
    assert!(run.err.contains("field-drive") && run.err.contains("onnect the drive"), "{}", run.err);
}

#[test]
fn the_filter_shows_what_is_in_and_which_line_decides() {
    let station = Station::with_job("mirror", &["--exclude", "scratch/", "--exclude", "*.nothing"]);
    for path in ["north/a.csv", "north/b.tmp", "scratch/x/1", "scratch/2", "Thumbs.db"] {
        station.write(path, "1234", 1000);
    }
    let shown = station.run(&["job", "filter", "counts"]).expect(0).out;
    for text in [
        "2 files (8 B) in, 3 files (12 B) out",
        "exclude scratch/",
        "junk = \"skip\"",
        "matches nothing now: *.nothing",
    ] {
        assert!(shown.contains(text), "{text}: {shown}");
    }
    let tried = station.run(&["job", "filter", "counts", "--try", "*.tmp"]).expect(0).out;
    assert!(tried.contains("north/b.tmp") && tried.contains("Nothing is saved"), "{tried}");
    station.run(&["job", "filter", "counts", "--add", "*.tmp", "--drop", "scratch/"]).expect(0);
    let last = station.run(&["job", "filter", "counts", "--json"]).expect(0).last();
    assert_eq!((number(&last, "in"), number(&last, "out")), (3, 2));
    let text = fs::read_to_string(station.path("home/jobs/counts.toml")).unwrap();
    assert!(text.contains("*.tmp") && !text.contains("scratch"), "{text}");
}

#[test]
fn history_and_status_tell_what_happened() {
    let station = Station::with_job("mirror", &[]);
    assert!(station.run(&["history", "counts"]).expect(0).out.contains("never run"));
    assert!(station.run(&["status"]).expect(0).out.contains("never"));
    station.write("ok", "1", 1000);
    station.write(&"n".repeat(250), "1", 1000);
    // A folder where the name of a file should land makes a problem on any account.
    station.run(&["job", "edit", "counts", "--kind", "copy"]).expect(0);
    write(&station.right().join("clash/x"), b"1", 1000);
    station.write("clash", "file", 1000);
    station.run(&["run", "counts"]).expect(1);
    let shown = station.run(&["history", "counts", "last"]).expect(0).out;
    for text in ["2  files", "kind-differs", "clash", "add", "ok"] {
        assert!(shown.contains(text), "{text}: {shown}");
    }
    let line = station.run(&["history", "counts", "--json"]).expect(0).last();
    assert_eq!(
        (&line["outcome"], number(&line, "number"), number(&line, "problems")),
        (&"problems".into(), 1, 1)
    );
    let items = station.run(&["history", "counts", line["run"].as_str().unwrap(), "--json"]).expect(0).json();
    assert_eq!(items.iter().filter(|line| line["event"] == "item").count(), 2);
    assert!(station.run(&["status"]).expect(0).out.contains("1 problem"));
    assert_eq!(station.run(&["status", "--json"]).expect(0).last()["outcome"], "problems");
}

#[test]
fn unreadable_files_and_folders_do_not_stop_a_job() {
    let station = Station::with_job("mirror", &[]);
    station.write("ok", "1", 1000);
    station.write("secret", "1", 1000);
    station.write("closed/a", "1", 1000);
    let station = station.without_rights();
    station.run_job(&[]).expect(0);
    station.write("ok", "333", 2000);
    fs::write(station.left().join("secret"), "22").unwrap();
    set_mode(&station.left().join("secret"), 0);
    set_mode(&station.left().join("closed"), 0);
    let run = station.run_job(&[]).expect(1);
    let shown = station.run(&["history", "counts", "last"]).expect(0).out;
    set_mode(&station.left().join("closed"), 0o755);
    // The mode has travelled: an account without rights has to open the other side's to look.
    set_mode(&station.right().join("closed"), 0o755);
    assert_eq!(
        (number(&run.last(), "problems"), number(&run.last(), "removed"), number(&run.last(), "updated")),
        (2, 0, 1)
    );
    assert!(station.right().join("closed/a").exists(), "what is not known is not removed");
    assert!(
        shown.contains("no-rights") && shown.contains("2 problems") && shown.contains("exclude them"),
        "{shown}"
    );
    set_mode(&station.left().join("closed"), 0);
    set_mode(&station.left(), 0);
    let refused = station.run_job(&[]).expect(3).last();
    set_mode(&station.left(), 0o755);
    set_mode(&station.left().join("closed"), 0o755);
    assert_eq!(refused["code"], "source-unreadable");
}

#[test]
fn a_destination_that_cannot_be_written_is_said_once() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    let station = station.without_rights();
    set_mode(&station.right(), 0o555);
    let run = station.run_job(&[]).expect(3).last();
    set_mode(&station.right(), 0o755);
    assert_eq!((&run["code"], &run["outcome"]), (&"no-rights".into(), &"refused".into()));
    assert!(run["message"].as_str().unwrap().contains("cannot be written"));
}

#[test]
fn quiet_is_quiet_and_help_has_examples() {
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    let run = station.run(&["run", "counts", "--quiet"]).expect(0);
    assert_eq!((run.out.as_str(), run.err.as_str()), ("", ""));
    let commands: &[&[&str]] = &[
        &["preview"],
        &["run"],
        &["once"],
        &["status"],
        &["history"],
        &["demo"],
        &["completions"],
        &["man"],
        &["job", "add"],
        &["job", "list"],
        &["job", "show"],
        &["job", "edit"],
        &["job", "rename"],
        &["job", "remove"],
        &["job", "export"],
        &["job", "import"],
        &["job", "filter"],
        &["store", "add"],
        &["store", "list"],
        &["store", "check"],
        &["store", "remove"],
    ];
    for command in commands {
        let help = station.run(&[command, &["--help"][..]].concat()).expect(0).out;
        assert!(help.contains("Example"), "{command:?} has no example");
        assert!(help.contains("reedhook "), "{command:?}");
    }
    // The long list is in the order of the work.
    let steps = ["Set up", "Servers and drives", "Look", "Run", "Look up", "Bring back", "Try"];
    let help = station.run(&["--help"]).expect(0).out;
    let page = station.run(&["man"]).expect(0).out;
    let heading =
        |step: &str| if step.contains(' ') { format!(".SH \"{step}\"\n") } else { format!(".SH {step}\n") };
    assert!(steps.map(|step| help.find(&format!("\n{step}:\n")).expect(step)).is_sorted(), "{help}");
    assert!(steps.map(|step| page.find(&heading(step)).expect(step)).is_sorted(), "{page}");
    assert!(station.run(&["completions", "bash"]).expect(0).out.contains("_reedhook"));
    assert!(station.run(&["completions", "fish"]).expect(0).out.contains("Bring back: "));
    station.run(&["man", "--to", "pages"]).expect(0);
    assert!(fs::read_to_string(station.path("pages/reedhook-job-add.1")).unwrap().contains("exclude"));
}

#[test]
fn the_demo_shows_the_whole_round() {
    let station = Station::new();
    let demo = station.run(&["demo", "--in", "show"]).expect(0).out;
    for text in [
        "$ reedhook preview fenmere",
        "100 files (9.99 MB) in, 2 files (4.11 kB) out",
        "nothing to do",
        "maps/old-boardwalk.svg is back",
        "To try next",
    ] {
        assert!(demo.contains(text), "{text}: {demo}");
    }
    let left = common::tree(&station.path("show/station"));
    assert!(left.contains_key(std::path::Path::new("maps/old-boardwalk.svg")));
    assert!(station.run(&["demo", "--in", "show"]).expect(2).err.contains("show"));
}
