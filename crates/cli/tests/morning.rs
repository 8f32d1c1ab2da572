//! The morning after: reports, figures and histories, against what the logs tell when they are summed another way.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, SystemTime};

use common::*;
use reedhook_core::plan::Counts;
use reedhook_record::{Mornings, Outcome, Room, RunEnd, RunRow, Runs, StateFile};
use serde_json::Value;

const OLD: u64 = 1_900_000_000;
const DAY: i64 = 86_400_000;

fn record(station: &Station) -> StateFile {
    fs::create_dir_all(station.path("home")).unwrap();
    StateFile::open(&station.path("home/state.db")).unwrap()
}

fn now_ms() -> i64 {
    i64::try_from(SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_millis()).unwrap()
}

/// A run as it is remembered.
fn ran(station: &Station, job: &str, at_ms: i64, outcome: Outcome, counts: Counts) {
    let end = RunEnd { elapsed: Duration::from_secs(20), outcome, counts, ..RunEnd::none() };
    let run = format!("run-{job}-{at_ms}");
    let row =
        RunRow { id: 0, job: job.to_owned(), number: 0, run, started_ms: at_ms, keys: String::new(), end };
    record(station).restore_run(&row, &[]).unwrap();
}

/// The lines of all logs of a station, by job.
fn logged(station: &Station) -> BTreeMap<String, Vec<Value>> {
    let mut found = BTreeMap::new();
    for job in fs::read_dir(station.path("home/runs")).unwrap().flatten() {
        let lines: &mut Vec<Value> = found.entry(job.file_name().into_string().unwrap()).or_default();
        for log in fs::read_dir(job.path()).unwrap().flatten() {
            let text = fs::read_to_string(log.path()).unwrap();
            lines.extend(text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()));
        }
    }
    found
}

/// A station with a past: two jobs, additions, updates, removals, moves, a problem, a conflict, an undo.
fn with_a_past() -> Station {
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    for at in 0..30 {
        station.write(&format!("north/{at}.csv"), &"heron,3\n".repeat(at + 1), OLD);
    }
    station.run(&["run", "counts", "--quiet"]).expect(0);
    station.write("north/3.csv", "heron,4\n", OLD + 50);
    fs::remove_file(station.left().join("north/4.csv")).unwrap();
    fs::rename(station.left().join("north/5.csv"), station.left().join("moved.csv")).unwrap();
    station.run(&["run", "counts", "--quiet", "--yes"]).expect(0);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    station.run(&["undo", "counts", "2", "--yes", "--quiet"]).expect(0);
    for side in ["tablet", "share"] {
        fs::create_dir(station.path(side)).unwrap();
    }
    station.run(&["job", "add", "tablet", "two-way", "tablet", "share", "--yes"]).expect(0);
    write(&station.path("tablet/rota.txt"), b"mon", OLD);
    station.run(&["run", "tablet", "--quiet"]).expect(0);
    write(&station.path("tablet/rota.txt"), b"tuesday", OLD + 10);
    write(&station.path("share/rota.txt"), b"wed", OLD + 20);
    write(&station.path("share/new.txt"), b"thursday", OLD + 20);
    station.run(&["run", "tablet", "--quiet"]).expect(4);
    station.run(&["job", "add", "maps", "copy", "left", "copies", "--yes"]).expect(0);
    write(&station.path("copies/moved.csv/in a folder"), b"1", OLD);
    station.run(&["run", "maps", "--quiet"]).expect(1);
    station
}

#[test]
fn the_figures_of_a_report_are_those_of_the_logs() {
    let station = with_a_past();
    let lines = station.run(&["report", "--json", "--csv", "runs.csv"]).expect(0).json();
    let logs = logged(&station);
    assert_eq!(logs.len(), 3);
    for (job, log) in &logs {
        let part = lines.iter().find(|line| line["event"] == "job" && line["job"] == job.as_str()).unwrap();
        let items = |word: &[&str]| {
            let wanted =
                |line: &&Value| line["event"] == "item" && word.contains(&line["do"].as_str().unwrap());
            log.iter().filter(wanted).map(|line| line["items"].as_u64().unwrap_or(1)).sum::<u64>()
        };
        assert_eq!(number(part, "added"), items(&["add", "revive"]), "{job}");
        assert_eq!(number(part, "updated"), items(&["update"]), "{job}");
        assert_eq!(number(part, "removed"), items(&["remove"]), "{job}");
        assert_eq!(number(part, "moved"), items(&["move"]), "{job}");
        let problems = log.iter().filter(|line| line["event"] == "problem").count() as u64;
        assert_eq!(number(part, "problems"), problems, "{job}");
        let ended = |key: &str| {
            log.iter()
                .filter(|line| line["event"] == "finished")
                .map(|line| line[key].as_f64().unwrap())
                .sum::<f64>()
        };
        assert_eq!(number(part, "bytes"), ended("bytes") as u64, "{job}");
    }
    // The table of runs, the days and the first line all add up to the same.
    let mut table = csv::Reader::from_path(station.path("runs.csv")).unwrap();
    let head = table.headers().unwrap().clone();
    let rows: Vec<csv::StringRecord> = table.records().map(Result::unwrap).collect();
    let column = |name: &str| {
        let at = head.iter().position(|title| title == name).unwrap();
        rows.iter().map(|row| row[at].parse::<u64>().unwrap()).sum::<u64>()
    };
    let days = |name: &str| {
        lines.iter().filter(|line| line["event"] == "day").map(|line| number(line, name)).sum::<u64>()
    };
    let jobs = |name: &str| {
        lines.iter().filter(|line| line["event"] == "job").map(|line| number(line, name)).sum::<u64>()
    };
    assert_eq!(rows.len() as u64, number(&lines[0], "runs"));
    for name in Counts::NAMES {
        let expected = number(&lines[0], name);
        assert_eq!((column(name), days(name), jobs(name)), (expected, expected, expected), "{name}");
    }
    assert!(number(&lines[0], "bytes") > 0 && number(&lines[0], "conflicts") > 0);
}

#[test]
fn the_first_line_says_whether_all_is_well_and_what_is_not() {
    let station = with_a_past();
    let report = |station: &Station| station.run(&["report"]).expect(0).out;
    let text = report(&station);
    assert!(text.starts_with("Not well: 2 of 3 jobs need a look.\n"), "{text}");
    assert!(text.contains("holds 1 conflict. reedhook conflicts tablet"), "{text}");
    assert!(
        text.contains("had 1 problem in its last run") && text.contains("reedhook history maps 1"),
        "{text}"
    );
    // The command that the report gives leaves the problem out.
    let command = text.lines().map(str::trim).find(|line| line.starts_with("reedhook job filter")).unwrap();
    assert_eq!(command, "reedhook job filter maps --add /moved.csv");
    let words: Vec<&str> = command.split_whitespace().skip(1).collect();
    station.run(&words).expect(0);
    station.run(&["run", "maps", "--quiet"]).expect(0);
    // A conflict that is settled is over.
    station.run(&["settle", "tablet", "--all", "--keep", "left", "--quiet"]).expect(0);
    let text = report(&station);
    assert!(
        text.starts_with("All well: 9 runs of 3 jobs; 2 earlier runs failed and have since succeeded.\n"),
        "{text}"
    );
    assert!(text.contains("over since") && !text.contains("To leave them out"), "{text}");
    // Refused, and broken, and only about one job.
    fs::rename(station.left(), station.path("away")).unwrap();
    station.run(&["run", "counts", "--quiet"]).expect(3);
    fs::write(station.path("home/jobs/maps.toml"), "kind = ").unwrap();
    let text = report(&station);
    assert!(text.starts_with("Not well: 2 of 3 jobs need a look.\n"), "{text}");
    assert!(text.contains("was refused") && text.contains("has a file that cannot be understood"), "{text}");
    let one = station.run(&["report", "tablet"]).expect(0).out;
    assert!(one.starts_with("All well") && !one.contains("counts"), "{one}");
    // What is gone has a past.
    station.run(&["job", "remove", "tablet", "--yes"]).expect(0);
    assert!(station.run(&["report", "tablet"]).expect(0).out.contains("not set up any more"));
    for (words, expected) in [
        (vec!["report", "cuonts"], "Did you mean \"counts\"?"),
        (vec!["report", "--since", "tomorrow"], "not understood"),
        (vec!["report", "--since", "2099-01-01"], "in the future"),
        (vec!["report", "--html", "no/such/folder.html"], "cannot be written"),
    ] {
        let slip = station.run(&words).expect(2);
        assert!(slip.err.contains(expected), "{words:?}: {}", slip.err);
    }
    let nothing = Station::new();
    assert!(nothing.run(&["report"]).expect(0).out.contains("There is no job yet."));
}

#[test]
fn several_problems_of_one_cause_are_left_out_by_one_command() {
    let station = Station::with_job("copy", &[]);
    for at in 0..6 {
        station.write(&format!("odd/name {at} [x]"), "a file", OLD);
        write(&station.right().join(format!("odd/name {at} [x]/in a folder")), b"1", OLD);
    }
    station.run(&["run", "counts", "--quiet"]).expect(1);
    let lines = station.run(&["report", "--json"]).expect(0).json();
    let cause = lines.iter().find(|line| line["event"] == "cause").unwrap();
    assert_eq!(
        (number(cause, "items"), number(cause, "more"), &cause["code"]),
        (6, 3, &Value::from("kind-differs"))
    );
    assert_eq!(cause["lines"][0], "/odd/name 0 \\[x\\]");
    let command = cause["command"].as_str().unwrap();
    assert!(
        Command::new("sh")
            .arg("-c")
            .arg(command.replacen("reedhook", &program().display().to_string(), 1))
            .env("REEDHOOK_HOME", station.path("home"))
            .env("HOME", station.path(""))
            .current_dir(station.path(""))
            .status()
            .unwrap()
            .success()
    );
    station.run(&["run", "counts", "--quiet"]).expect(0);
    assert!(station.run(&["report"]).expect(0).out.starts_with("All well"));
}

#[test]
fn what_was_due_and_did_not_run_is_told_and_what_was_paused_is_not() {
    let station = Station::with_job("mirror", &["--when", "daily 03:00"]);
    let file = station.path("home/jobs/counts.toml");
    let set_up = |days: u64| {
        let time = SystemTime::now() - Duration::from_secs(days * 86_400);
        fs::File::options().write(true).open(&file).unwrap().set_modified(time).unwrap();
    };
    let in_utc =
        |words: &[&str]| Ran::of(&station.command(words).env("TZ", "UTC").output().unwrap()).expect(0);
    // Set up today: nothing is owed from before.
    set_up(0);
    assert!(!in_utc(&["report"]).out.contains("Not run"), "{}", in_utc(&["report"]).out);
    set_up(30);
    let text = in_utc(&["report"]).out;
    assert!(text.contains("did not run 7 of 7 times") || text.contains("did not run 6 of 7 times"), "{text}");
    // Two of the days it ran, one of them late.
    let three = now_ms() / DAY * DAY + 3 * DAY / 24;
    ran(&station, "counts", three - 3 * DAY + 60_000, Outcome::Done, Counts::default());
    ran(&station, "counts", three - 2 * DAY + DAY / 2, Outcome::Done, Counts::default());
    let lines = in_utc(&["report", "--json"]).json();
    let missed = lines.iter().find(|line| line["event"] == "not-run").unwrap();
    assert!([4, 5].contains(&number(missed, "times")), "{missed}");
    // It has run since the last moment: no one need do anything now.
    ran(&station, "counts", now_ms() - 1000, Outcome::Done, Counts::default());
    let text = in_utc(&["report"]).out;
    assert!(text.starts_with("All well") && text.contains("it has run since"), "{text}");
    station.run(&["tend", "pause", "counts"]).expect(0);
    set_up(30);
    assert!(!in_utc(&["report"]).out.contains("Not run"));
}

#[test]
fn when_a_drive_will_be_full_is_known_from_how_it_filled() {
    let station = Station::with_job("mirror", &[]);
    let mut record = record(&station);
    for day in 0..20 {
        let room = Room {
            job: "counts".to_owned(),
            place: "@field-drive/counts".to_owned(),
            location: "/media/fenfield/counts".to_owned(),
            ground: "exfat 77".to_owned(),
            at_ms: now_ms() - (19 - day) * DAY,
            free: 100_000_000_000 - 4_000_000_000 * day.unsigned_abs(),
            total: 128_000_000_000,
        };
        record.add_room(&room).unwrap();
    }
    drop(record);
    let ran = station.run(&["report", "--since", "30d", "--json"]).expect(0);
    let place = ran.json().into_iter().find(|line| line["event"] == "destination").unwrap();
    assert_eq!(number(&place, "free"), 24_000_000_000);
    assert!(number(&place, "per_day").abs_diff(4_000_000_000) < 1000, "{place}");
    let full: jiff::Timestamp = place["full"].as_str().unwrap().parse().unwrap();
    let days = (full.as_millisecond() - now_ms()) as f64 / DAY as f64;
    assert!((days - 6.0).abs() < 0.1, "{days}");
    let text = station.run(&["report", "--since", "30d"]).expect(0).out;
    assert!(text.contains("will be full about") && text.contains("4.00 GB a day"), "{text}");
    // A run notes it by itself.
    station.write("new.csv", "heron", OLD);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    let rooms =
        StateFile::open(&station.path("home/state.db")).unwrap().rooms_since(now_ms() - 60_000).unwrap();
    assert!(rooms.iter().any(|room| room.place.ends_with("right") && room.total > 0), "{rooms:?}");
}

#[test]
fn figures_are_read_by_a_reader_of_another_make_and_written_whole_or_not_at_all() {
    let python = Path::new("/opt/reedhook-test/bin/python");
    let station = with_a_past();
    let file = station.path("figures.prom");
    fs::write(station.path("home/reedhook.toml"), format!("metrics_file = \"{}\"\n", file.display()))
        .unwrap();
    station.run(&["run", "counts", "--quiet"]).expect(0);
    let after_the_run = fs::read_to_string(&file).unwrap();
    assert!(after_the_run.ends_with("# EOF\n"));
    assert_eq!(station.run(&["metrics"]).expect(0).out, after_the_run, "the same figures are the same text");
    station.run(&["metrics", "--to", "other.prom"]).expect(0);
    assert_eq!(fs::read_to_string(station.path("other.prom")).unwrap(), after_the_run);
    // A file that cannot be written fails no run, and leaves the old one.
    fs::write(station.path("home/reedhook.toml"), "metrics_file = \"/no/such/folder/figures.prom\"\n")
        .unwrap();
    let ran = station.run(&["run", "counts", "--quiet"]).expect(0);
    assert!(ran.err.contains("the figures could not be written"), "{}", ran.err);
    station.run(&["metrics", "--to", "/no/such/folder/figures.prom"]).expect(2);
    assert!(station.run(&["metrics", "--json"]).expect(2).err.contains("Leave --json out"));
    if !with_tools("a reader of figures", &["python3"]) || !python.exists() {
        assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "no reader of figures is installed");
        return;
    }
    let program = "import json, sys\n\
        from prometheus_client.openmetrics.parser import text_string_to_metric_families as read\n\
        families = list(read(open(sys.argv[1]).read()))\n\
        for family in families:\n    for sample in family.samples:\n        \
        print(json.dumps([sample.name, sample.labels, sample.value, family.type, family.unit]))";
    let read = Command::new(python).args(["-c", program]).arg(&file).output().unwrap();
    assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    let samples: Vec<Value> = String::from_utf8(read.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let value = |name: &str, labels: Value| {
        let found = samples.iter().find(|sample| sample[0] == name && sample[1] == labels);
        found.unwrap_or_else(|| panic!("no {name} {labels}"))[2].as_f64().unwrap()
    };
    let job = |name: &str| serde_json::json!({ "job": name });
    assert!((value("reedhook_held_conflicts", job("tablet")) - 1.0).abs() < f64::EPSILON);
    assert!((value("reedhook_last_run_problems", job("maps")) - 1.0).abs() < f64::EPSILON);
    let outcome = serde_json::json!({"job": "tablet", "outcome": "held"});
    assert!((value("reedhook_last_run_outcome", outcome) - 1.0).abs() < f64::EPSILON);
    let last = value("reedhook_last_run_timestamp_seconds", job("counts"));
    assert!((last - now_ms() as f64 / 1000.0).abs() < 600.0, "{last}");
    let runs: f64 = samples
        .iter()
        .filter(|sample| sample[0] == "reedhook_runs_total")
        .map(|sample| sample[2].as_f64().unwrap())
        .sum();
    let known = station.run(&["history", "--json", "-n", "1000"]).expect(0).json().len();
    assert_eq!(runs as usize, known - 1, "the run after the figures were written is not in them");
    assert!(
        samples.iter().any(|sample| sample[0] == "reedhook_destination_free_bytes" && sample[4] == "bytes")
    );
}

#[test]
fn a_history_of_ten_thousand_runs_reads_well() {
    let station = Station::with_job("mirror", &[]);
    let begin = now_ms() - 10_000 * 900_000;
    let database = station.path("home/state.db");
    drop(record(&station));
    let db = rusqlite::Connection::open(&database).unwrap();
    db.execute_batch("BEGIN").unwrap();
    {
        let mut add = db.prepare("INSERT INTO runs (job, number, run, started, seconds, outcome, added, bytes) VALUES ('counts', ?1, 'r' || ?1, ?2, 1.5, 'done', ?3, ?3 * 100)").unwrap();
        for at in 1..=10_000_i64 {
            let added = i64::from(at % 1000 == 500);
            add.execute(rusqlite::params![at, begin + at * 900_000, added]).unwrap();
        }
    }
    db.execute_batch("COMMIT").unwrap();
    let out = station.run(&["history", "counts"]).expect(0).out;
    let lines: Vec<&str> = out.lines().collect();
    assert!(lines[1].contains("9501–10000") && lines[1].contains("nothing to do, 500 runs since"), "{out}");
    assert!(lines[2].contains("9500") && lines[2].contains("1 added"), "{out}");
    assert!(lines.len() < 30 && out.contains("Older ones: reedhook history counts -n 100"), "{out}");
    let all = station.run(&["history", "counts", "-n", "100"]).expect(0).out;
    assert!(all.contains("1–499") && !all.contains("Older ones"), "{all}");
    let each = station.run(&["history", "counts", "--all", "-n", "5"]).expect(0).out;
    assert!(each.contains("9997") && !each.contains('–'), "{each}");
    assert_eq!(station.run(&["history", "counts", "--json", "-n", "10000"]).expect(0).json().len(), 10_000);
    let since = station
        .run(&["history", "counts", "--since", "1 day", "--json", "-n", "10000"])
        .expect(0)
        .json()
        .len();
    assert!((95..=97).contains(&since), "{since}");
    let chart = station.run(&["history", "counts", "--chart", "--since", "100 days"]).expect(0).out;
    assert!(chart.lines().count() < 32 && chart.contains("week of") && chart.contains('█'), "{chart}");
    let days =
        station.run(&["history", "counts", "--chart", "--since", "200 days", "--json"]).expect(0).json();
    assert_eq!(days.iter().map(|day| number(day, "added")).sum::<u64>(), 10);
}

#[test]
fn logs_have_a_life_and_that_of_the_last_good_run_outlives_it() {
    let station = Station::with_job("mirror", &["--keep-for", "1 s"]);
    fs::write(station.path("home/reedhook.toml"), "logs_for = \"1 h\"\n").unwrap();
    station.write("new.csv", "heron", OLD);
    station.run(&["run", "counts", "--quiet"]).expect(0);
    let logs = || -> Vec<PathBuf> {
        let found = fs::read_dir(station.path("home/runs/counts")).unwrap().flatten();
        found.map(|entry| entry.path()).collect()
    };
    let [good] = logs().try_into().unwrap();
    let age = |path: &Path, hours: u64| {
        let time = SystemTime::now() - Duration::from_secs(hours * 3600);
        fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
    };
    age(&good, 48);
    // Runs that came to nothing since, with logs; then one more clears.
    for at in 0..40 {
        let log = station.path(&format!("home/runs/counts/stopped-{at}.ndjson"));
        fs::write(&log, "{\"event\":\"began\"}\n").unwrap();
        age(&log, 2 + at / 20 * 10);
    }
    fs::remove_dir_all(station.right()).unwrap();
    fs::create_dir(station.right()).unwrap();
    fs::write(station.right().join("new.csv"), "a folder's place").unwrap();
    station.run(&["run", "counts", "--quiet"]).expect(3);
    assert!(good.exists());
    // Refused runs have no log and clear none; one that works does.
    let away = station.path("home/jobs/counts.toml");
    fs::write(
        &away,
        format!(
            "kind = \"mirror\"\nfrom = \"{}\"\nto = \"{}\"\nkeep_for = \"1 s\"\n",
            station.left().display(),
            station.path("elsewhere").display()
        ),
    )
    .unwrap();
    station.write("two.csv", "rail", OLD);
    let stop = station.run(&["run", "counts", "--quiet"]).expect(0);
    drop(stop);
    assert_eq!(logs().len(), 20, "the newest twenty stay");
    assert!(!good.exists(), "it is not the last good one any more");
    let doctor = station.run(&["doctor"]).expect(0).out;
    let doctor = doctor.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(doctor.contains("22 cleared so far"), "{doctor}");
}

#[test]
fn the_page_fetches_nothing_keeps_names_in_their_place_and_prints_on_paper() {
    const BROWSER: &str = "chromium-headless-shell";
    if !with_tools("the report in a browser", &[BROWSER, "pdfinfo"]) {
        return;
    }
    let station = Station::with_job("copy", &[]);
    let hostile = "<img src=x onerror=document.title=1><script>document.title=2</script>";
    station.write(&hostile.replace('/', "|"), "a file", OLD);
    write(&station.right().join(hostile.replace('/', "|")).join("in a folder"), b"1", OLD);
    for day in 1..60 {
        let counts = Counts { added: day, bytes: day * 1_000_000, ..Counts::default() };
        ran(&station, "counts", now_ms() - DAY * i64::try_from(day).unwrap(), Outcome::Done, counts);
    }
    station.run(&["run", "counts", "--quiet"]).expect(1);
    station.run(&["report", "--since", "90 days", "--html", "page.html", "--quiet"]).expect(0);
    let page = fs::read_to_string(station.path("page.html")).unwrap();
    assert!(
        page.matches("<svg ").count() >= 3 && page.matches("<details>").count() >= 3,
        "charts with their figures"
    );
    for outside in ["http://", "https://", "@import", "url(", "<link", "<script", "<img"] {
        let own = page.replace("http://www.w3.org/2000/svg", "");
        assert!(!own.contains(outside), "{outside}");
    }
    let browse = |more: &[&str]| {
        let mut browser = Command::new(BROWSER);
        browser.args(["--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"]).args(more);
        browser.arg(format!("file://{}", station.path("page.html").display())).output().unwrap()
    };
    let seen = String::from_utf8_lossy(&browse(&["--dump-dom"]).stdout).into_owned();
    assert!(
        seen.contains("<title>Not well: 1 of 1 job needs a look.</title>"),
        "{}",
        &seen[..seen.len().min(500)]
    );
    let pdf = station.path("page.pdf");
    browse(&["--no-pdf-header-footer", &format!("--print-to-pdf={}", pdf.display())]);
    let info = Command::new("pdfinfo").arg(&pdf).output().unwrap();
    let info = String::from_utf8_lossy(&info.stdout).into_owned();
    assert!(info.contains("A4"), "{info}");
    let pages: u64 =
        info.lines().find_map(|line| line.strip_prefix("Pages:")).unwrap().trim().parse().unwrap();
    assert!((1..=4).contains(&pages), "{info}");
}
