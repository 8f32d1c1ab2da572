//! The morning after: how long a report over a year takes, and what a board costs a run that it looks on at.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use reedhook_record::{Outcome, RunEnd, RunRow, Runs, StateFile};
use reedhook_testing::signals::{self, Signal};

const DAY_MS: i64 = 86_400_000;

/// A year of daily runs of twenty jobs, each with a job file.
fn make_year(home: &Path) {
    fs::create_dir_all(home.join("jobs")).expect("a folder");
    let mut record = StateFile::open(&home.join("state.db")).expect("a state file");
    let now = i64::try_from(Duration::as_millis(
        &std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default(),
    ))
    .unwrap_or(0);
    for job in 0..20 {
        let name = format!("station-{job:02}");
        let (left, right) = (home.join(format!("{name}-left")), home.join(format!("{name}-right")));
        let text = format!(
            "kind = \"mirror\"\nfrom = \"{}\"\nto = \"{}\"\nwhen = \"daily 03:00\"\n",
            left.display(),
            right.display()
        );
        fs::write(home.join(format!("jobs/{name}.toml")), text).expect("a job file");
        for day in 0..365_u64 {
            let mut end =
                RunEnd { elapsed: Duration::from_secs(20), outcome: Outcome::Done, ..RunEnd::none() };
            (end.counts.added, end.counts.bytes) = (day % 50, (day % 50) * 100_000);
            let started_ms = now - (365 - i64::try_from(day).unwrap_or(0)) * DAY_MS;
            let run = format!("{name}-{day}");
            let row =
                RunRow { id: 0, job: name.clone(), number: 0, run, started_ms, keys: String::new(), end };
            record.restore_run(&row, &[]).expect("a run");
        }
    }
}

/// What a program has used of the processor, in clock ticks (a hundredth of a second), with all its children that have ended.
fn ticks(process: &str) -> u64 {
    let stat = fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let field = |at: usize| fields.get(at).and_then(|field| field.parse().ok()).unwrap_or(0);
    field(11) + field(12)
}

/// Times a report over a year, as text and as a page.
pub fn report(command: &dyn Fn(&[&str]) -> Command, home: &Path) {
    make_year(home);
    let page = home.join("page.html").display().to_string();
    let timed = |words: &[&str]| {
        let mut taken: Vec<f64> = (0..7)
            .map(|_| {
                let begun = Instant::now();
                let ended = command(words).env("REEDHOOK_HOME", home).stdout(Stdio::null()).status();
                assert!(ended.is_ok_and(|status| status.success()), "{words:?}");
                begun.elapsed().as_secs_f64() * 1e3
            })
            .collect();
        taken.sort_by(f64::total_cmp);
        taken[3]
    };
    let text = timed(&["report", "--since", "365d"]);
    let with_page = timed(&["report", "--since", "365d", "--html", &page]);
    println!(
        "  a report over 7,300 runs of 20 jobs in a year: {text:.0} ms; with its page {with_page:.0} ms (aim 1000)"
    );
}

/// A board in a terminal, and the process that it is.
struct Board {
    child: Child,
    process: String,
}

impl Board {
    fn open(command: &dyn Fn(&[&str]) -> Command, folder: &Path) -> Option<Board> {
        let mut of_program = command(&["board"]);
        let program = of_program.get_program().to_string_lossy().into_owned();
        let home = of_program
            .get_envs()
            .find(|(name, _)| *name == "REEDHOOK_HOME")
            .and_then(|(_, home)| home.map(ToOwned::to_owned))?;
        of_program.env_clear();
        let pid = folder.join("board.pid");
        let line = format!("stty cols 138 rows 41; echo $$ > '{}'; exec '{program}' board", pid.display());
        let mut terminal = Command::new("script");
        terminal.args(["-q", "-c", &line, "/dev/null"]).env("REEDHOOK_HOME", home).env("TERM", "xterm");
        let child = terminal.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().ok()?;
        std::thread::sleep(Duration::from_secs(1));
        let process = fs::read_to_string(&pid).ok()?.trim().to_owned();
        Some(Board { child, process })
    }
}

impl Drop for Board {
    fn drop(&mut self) {
        if let Ok(process) = self.process.parse() {
            signals::send_to_group(process, Signal::TERM);
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// First mirrors of a tree by the service, in turn without and with a board that looks on.
pub fn looked_on(
    command: &dyn Fn(&[&str]) -> Command,
    source: &Path,
    mirror: &Path,
    folder: &Path,
    pairs: usize,
) {
    let quiet = |words: &[&str]| {
        let ended = command(words).arg("--quiet").status();
        assert!(ended.is_ok_and(|status| status.success()), "{words:?}");
    };
    let (left, right) = (source.display().to_string(), mirror.display().to_string());
    fs::create_dir_all(mirror).expect("a folder");
    quiet(&["job", "add", "looked-on", "mirror", &left, &right, "--yes"]);
    let mut service = command(&["tend", "--json"]).stdout(Stdio::null()).spawn().expect("the service starts");
    std::thread::sleep(Duration::from_secs(1));
    let run = |ordinal: u64| {
        // What says whose place this is stays: another one would be refused.
        for entry in fs::read_dir(mirror).into_iter().flatten().flatten() {
            if entry.file_name() != ".reedhook" {
                let _ = fs::remove_dir_all(entry.path());
            }
        }
        let begun = Instant::now();
        quiet(&["tend", "run", "looked-on"]);
        loop {
            let told = command(&["history", "looked-on", "--json", "-n", "1"]).output();
            let told =
                String::from_utf8_lossy(&told.map(|output| output.stdout).unwrap_or_default()).into_owned();
            if told.contains(&format!("\"number\":{ordinal},")) && told.contains("\"outcome\":\"done\"") {
                return begun.elapsed().as_secs_f64();
            }
            assert!(begun.elapsed() < Duration::from_secs(120), "run {ordinal} does not end well: {told}");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let mut ordinal = 0;
    let mut next = || {
        ordinal += 1;
        run(ordinal)
    };
    let (mut alone, mut seen, mut used) = (Vec::new(), Vec::new(), Vec::new());
    // The first one warms everything up, and writes the mark.
    let _ = next();
    for _ in 0..pairs {
        alone.push(next());
        let Some(board) = Board::open(command, folder) else { break };
        let before = ticks(&board.process);
        seen.push(next());
        used.push((ticks(&board.process) - before) as f64 * 10.0);
    }
    let _ = service.kill();
    let _ = service.wait();
    let median = |values: &mut Vec<f64>| {
        values.sort_by(f64::total_cmp);
        values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
    };
    let (alone, seen, used) = (median(&mut alone), median(&mut seen), median(&mut used));
    println!(
        "  a first mirror by the service: {alone:.2} s; with a board looking on {seen:.2} s, a ratio of {:.2}; the board used {used:.0} ms of processor",
        seen / alone
    );
}
