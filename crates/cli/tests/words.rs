//! Numbers and words that must not mislead, and questions and views at terminals of any width.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::io::{Read, Write};
use std::time::Duration;

use common::{Station, set_mode, with_tools, write};

/// An answer: what is asked, how long the person thinks in milliseconds, the keys.
type Answer = (&'static str, u64, &'static str);

/// What a command writes to a terminal of so many columns, and how it ends.
fn at_a_terminal(station: &Station, columns: u32, words: &[&str], answers: &[Answer]) -> (i32, String) {
    let mut child = station.in_a_terminal(columns, 24, words).env("NO_COLOR", "1").spawn().unwrap();
    let (mut keyboard, mut screen) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
    let (mut shown, mut answered) = (Vec::new(), 0);
    for (question, thinking, keys) in answers {
        let mut some = [0; 4096];
        while !String::from_utf8_lossy(&shown[answered..]).contains(question) {
            let length = screen.read(&mut some).unwrap();
            assert!(length > 0, "{question:?} is not asked: {}", String::from_utf8_lossy(&shown));
            shown.extend_from_slice(&some[..length]);
        }
        answered = shown.len();
        // Once it is asked, the terminal is made ready for the answer.
        std::thread::sleep(Duration::from_millis(200 + thinking));
        keyboard.write_all(keys.as_bytes()).unwrap();
        keyboard.flush().unwrap();
    }
    screen.read_to_end(&mut shown).unwrap();
    drop(keyboard);
    (child.wait().unwrap().code().unwrap_or(-1), String::from_utf8_lossy(&shown).into_owned())
}

/// The pieces of text that stand in lines of their own, without what only moves the cursor.
fn lines(shown: &str) -> Vec<String> {
    let mut plain = String::new();
    let mut rest = shown.chars().peekable();
    while let Some(c) = rest.next() {
        if c == '\u{1b}' {
            // A control sequence ends with a letter.
            while rest.next().is_some_and(|c| !c.is_ascii_alphabetic()) {}
            plain.push('\n');
        } else {
            plain.push(c);
        }
    }
    plain.split(['\n', '\r']).map(str::to_owned).filter(|line| !line.trim().is_empty()).collect()
}

#[test]
fn questions_read_well_and_fit_at_any_width() {
    if !with_tools("questions at a terminal", &["script", "stty"]) {
        return;
    }
    for columns in [40, 100] {
        let station = Station::new();
        station.write("heron.csv", "heron", 1000);
        let kinds = if columns == 40 { "Which?" } else { "What kind of job?" };
        // The two are called differently: directly there, or in a folder of that name?
        let lands = if columns == 40 { "Which?" } else { "Where is what is in" };
        let answers = [
            ("be called?", 0, "counts\r"),
            (kinds, 0, "\r"),
            ("What is to be read?", 0, "left\r"),
            ("Where is it to land?", 0, "right\r"),
            (lands, 0, "\u{1b}[B\r"),
            ("Make it?", 0, "y"),
            ("Show what a run would do?", 0, "n"),
        ];
        let (code, shown) = at_a_terminal(&station, columns, &["job", "add"], &answers);
        assert_eq!(code, 0, "{shown}");
        assert!(!shown.contains("?:") && shown.contains("What should the job be called?"), "{shown}");
        let job = std::fs::read_to_string(station.path("home/jobs/counts.toml")).unwrap();
        assert!(job.contains("right/left"), "{job}");
        let questions = lines(&shown);
        // What is asked stays within the terminal; the words that follow may be as long as they are.
        let asked = questions.iter().take_while(|line| !line.contains("is set up"));
        for line in asked {
            assert!(line.chars().count() <= columns as usize, "{columns}: {line:?}");
        }
    }
}

#[test]
fn waiting_for_an_answer_is_not_the_runs_time_and_ctrl_c_is_an_answer() {
    if !with_tools("questions at a terminal", &["script", "stty"]) {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    station.write("heron.csv", "heron", 1000);
    write(&station.right().join("old.csv"), b"old", 1000);
    let (code, shown) = at_a_terminal(&station, 80, &["run", "counts"], &[("remove these?", 0, "\u{3}")]);
    assert_eq!(code, 130, "{shown}");
    assert!(station.right().join("old.csv").exists(), "nothing was touched");
    assert!(shown.contains("\u{1b}[?25h"), "the cursor is shown again");
    let (code, shown) = at_a_terminal(&station, 80, &["run", "counts"], &[("remove these?", 2500, "y")]);
    assert_eq!(code, 0, "{shown}");
    let seconds = last_seconds(&station);
    assert!(seconds < 2.0, "{seconds} s, of which 2.5 s were waited: {shown}");

    // The question about conflicts reads single keys.
    let station = Station::with_job("two-way", &[]);
    for (side, text) in [(station.left(), "left"), (station.right(), "right side")] {
        write(&side.join("heron.csv"), text.as_bytes(), 1000);
    }
    let (code, shown) = at_a_terminal(&station, 80, &["settle", "counts"], &[("Keep which?", 0, "\u{3}")]);
    assert_eq!(code, 130, "{shown}");
}

fn last_seconds(station: &Station) -> f64 {
    station.run(&["history", "counts", "last", "--json"]).expect(0).json()[0]["seconds"].as_f64().unwrap()
}

/// What a terminal of so many columns makes of a line.
fn rows(line: &str, columns: usize) -> Vec<String> {
    line.chars().collect::<Vec<_>>().chunks(columns).map(|row| row.iter().collect()).collect()
}

#[test]
fn the_live_view_fits_and_shows_the_end_of_long_names() {
    if !with_tools("the live view", &["script", "stty"]) {
        return;
    }
    for columns in [40, 80] {
        let station = Station::with_job("copy", &["--limit", "4 MB/s"]);
        let name = "nest-camera-three-north-of-the-old-boardwalk-by-the-reed-bed-2031-05-04-181500.jpg";
        write(&station.left().join("stills").join(name), &vec![7; 6_000_000], 1000);
        let (code, shown) = at_a_terminal(&station, columns, &["run", "counts"], &[]);
        assert_eq!(code, 0, "{shown}");
        let drawn = lines(&shown);
        let live: Vec<_> = drawn.iter().take_while(|line| !line.contains("Done in")).collect();
        assert!(live.iter().any(|line| line.contains("81500.jpg") && line.contains('…')), "{live:?}");
        // Lines are filled with blanks up to the terminal's width, where the next begins by itself.
        for line in live.iter().flat_map(|line| rows(line, columns as usize)) {
            assert!(line.trim_end().chars().count() < columns as usize, "{columns}: {line:?}");
        }
    }
}

#[test]
fn nothing_done_is_not_nothing_to_do() {
    let station = Station::with_job("copy", &[]);
    station.write("heron.csv", "heron", 1000);
    set_mode(&station.left().join("heron.csv"), 0o000);
    let station = station.without_rights();
    station.run_job(&[]).expect(1);
    for words in [&["status"][..], &["history"]] {
        let shown = station.run(words).expect(0).out;
        assert!(shown.contains("nothing done, 1 problem") && !shown.contains("nothing to do"), "{shown}");
    }
}

#[test]
fn folders_are_not_files_and_our_own_folder_is_no_entry() {
    let station = Station::with_job("mirror", &[]);
    station.write("counts/heron.csv", "heron", 1000);
    fs::create_dir(station.left().join(".reedhook")).unwrap();
    fs::write(station.left().join(".reedhook/identity"), "id = \"a\"\n").unwrap();
    let preview = station.run(&["preview", "counts"]).expect(0).out;
    assert!(!preview.contains("left out by the filter"), "{preview}");
    station.run_job(&[]).expect(0);
    set_mode(&station.left().join("counts"), 0o750);
    let said = station.run(&["run", "counts"]).expect(0).out;
    assert!(said.contains("adjusted  1  item"), "{said}");
}

#[test]
fn a_folder_is_not_newer_than_a_file() {
    let station = Station::with_job("two-way", &[]);
    station.write("x", "1", 1000);
    station.run_job(&[]).expect(0);
    station.write("x", "22", 2000);
    fs::remove_file(station.right().join("x")).unwrap();
    write(&station.right().join("x/heron.csv"), b"heron", 3000);
    let shown = station.run(&["conflicts", "counts"]).expect(4).out;
    assert!(shown.contains("folder") && !shown.contains("newer"), "{shown}");
    let said = station.run(&["settle", "counts", "--all", "--keep", "newest"]).expect(4).out;
    assert!(said.contains("one side holds a folder") && said.contains("--keep left|right|both"), "{said}");
}

#[test]
fn a_filter_that_leaves_out_everything_is_told() {
    let station = Station::with_job("copy", &["--only", "*.jgp"]);
    station.write("heron.jpg", "heron", 1000);
    for words in [&["preview", "counts"][..], &["run", "counts"]] {
        let said = station.run(words).expect(0).out;
        assert!(
            said.contains("the filter leaves out all of it") && said.contains("job filter counts"),
            "{said}"
        );
    }
}

#[test]
fn advice_can_be_typed_as_it_stands() {
    let station = Station::with_job("mirror", &[]);
    for number in 0..40 {
        station.write(&format!("{number}.csv"), "1", 1000);
    }
    station.run_job(&[]).expect(0);
    for number in 0..30 {
        fs::remove_file(station.left().join(format!("{number}.csv"))).unwrap();
    }
    let refused = station.run(&["run", "counts", "--yes"]).expect(3).err;
    assert!(refused.contains("reedhook run counts --allow removals"), "{refused}");
    station.run(&["run", "counts", "--allow", "removals"]).expect(0);
    station.run(&["undo", "counts", "last"]).expect(0);
    let shown = station.run(&["history", "counts", "last"]).expect(0).out;
    assert!(shown.contains("run 5, an undo") || shown.contains("run 4, an undo"), "{shown}");
    let refused = station.run(&["kept", "list", "counts", "99"]).expect(2).err;
    assert!(refused.contains("counts has no run \"99\""), "{refused}");
}

#[test]
fn what_a_job_does_with_removals_is_said_as_it_is() {
    let station = Station::new();
    let said = |options: &[&str]| {
        let words = [&["job", "add", "counts", "two-way", "left", "right"], options].concat();
        let said = station.run(&words).expect(0).out;
        station.run(&["job", "remove", "counts"]).expect(0);
        said
    };
    assert!(said(&["--removals", "ignore"]).contains("what is removed at one stays at the other"));
    assert!(said(&["--removed", "erase"]).contains("erased for good"));
    assert!(said(&[]).contains("removed at one becomes so at the other (a copy is kept)"));
}

#[test]
fn keys_without_effect_get_a_word_and_contradictions_are_refused() {
    let station = Station::new();
    let add = |kind: &str, options: &[&str]| {
        let _ = fs::remove_file(station.path("home/jobs/counts.toml"));
        station.run(&[&["job", "add", "counts", kind, "left", "right"], options].concat())
    };
    let idle: &[(&str, &[&str], &str)] = &[
        ("copy", &["--removed", "erase"], "removed has no effect"),
        ("copy", &["--max-removals", "10%"], "max_removals has no effect"),
        ("mirror", &["--newer", "update"], "newer has no effect"),
        (
            "mirror",
            &["--removed", "erase", "--replaced", "erase", "--keep-for", "9 days"],
            "keep_for has no effect",
        ),
        ("mirror", &["--owners", "numbers"], "owners has no effect yet"),
        ("mirror", &["--only", "*.csv", "--exclude", "*.csv"], "is in only and in exclude"),
    ];
    for (kind, options, words) in idle {
        assert!(add(kind, options).expect(0).err.contains(words), "{options:?}");
        assert!(station.run(&["job", "show", "counts"]).expect(0).err.contains(words), "{options:?}");
    }
    let refused: &[&[&str]] = &[
        &["--min-size", "2 MB", "--max-size", "1 MB"],
        &["--newer-than", "2 days", "--older-than", "30 days"],
        &["--newer-than", "2031-05-04", "--older-than", "2031-05-04"],
    ];
    for options in refused {
        assert!(add("mirror", options).expect(2).err.contains("leave nothing between them"), "{options:?}");
    }
    assert!(add("mirror", &["--newer-than", "30 days", "--older-than", "2 days"]).expect(0).err.is_empty());
}

#[test]
fn a_list_that_is_replaced_is_shown() {
    let station = Station::with_job("mirror", &["--exclude", "*.tmp", "--exclude", "scratch/"]);
    let said = station.run(&["job", "edit", "counts", "--exclude", "*.bak"]).expect(0).out;
    assert!(said.contains("exclude was \"*.tmp\", \"scratch/\"; now it is \"*.bak\""), "{said}");
    let said = station.run(&["job", "edit", "counts", "--only", "*.csv"]).expect(0).out;
    assert!(!said.contains("was"), "nothing is gone: {said}");
}

#[test]
fn a_folder_is_looked_into_when_it_is_checked() {
    let station = Station::new();
    write(&station.right().join("heron.csv"), b"heron", 1000);
    station.run(&["store", "add", "share", "right"]).expect(0);
    let said = station.run(&["store", "check", "share"]).expect(0).out;
    for words in
        ["holds       1 entry", "none: no job has written here yet", "not tried (--write does)", "free of"]
    {
        assert!(said.contains(words), "{words}: {said}");
    }
    assert!(
        station.run(&["store", "check", "./right", "--write"]).expect(0).out.contains("writing     allowed")
    );
    assert_eq!(fs::read_dir(station.right()).unwrap().count(), 1, "the trial is gone");
    set_mode(&station.right(), 0o555);
    let station = station.without_rights();
    let refused = station.run(&["store", "check", "share", "--write"]).expect(1).out;
    assert!(refused.contains("writing     refused"), "{refused}");
    set_mode(&station.right(), 0o000);
    assert!(station.run(&["store", "check", "share"]).expect(3).err.contains("right"));
    set_mode(&station.right(), 0o755);
}

#[test]
fn paths_may_be_typed_as_a_shell_completes_them() {
    let station = Station::with_job("mirror", &[]);
    station.write("counts/heron.csv", "heron", 1000);
    station.run_job(&[]).expect(0);
    for path in ["counts/heron.csv", "./counts/heron.csv", "counts//heron.csv", "./counts/./heron.csv"] {
        let said = station.run(&["why", "counts", path]).expect(0).out;
        assert!(said.contains("nothing is done"), "{path}: {said}");
    }
    fs::remove_file(station.left().join("counts/heron.csv")).unwrap();
    station.run(&["restore", "counts", "./counts/"]).expect(0);
    assert!(station.left().join("counts/heron.csv").exists());
    assert!(
        station.run(&["why", "counts", "../heron.csv"]).expect(2).err.contains("relative to the side's root")
    );
}
