//! Reedhook against the operating system's own tools, on the same trees, in the same run.
//!
//! Each row makes its tree from a fixed seed, runs the reference and Reedhook in turn (A B, B A, …), and prints the ratio of
//! their times: the median, the least and the greatest of the pairs. Where Reedhook writes, it makes durable what it wrote,
//! so the reference is followed by `sync -f` inside the measured time.
//!
//! `cargo bench -p reedhook -- --quick` takes less than a minute and fails only on a gross regression, twice the aim.
//! `--in DIR` puts the trees somewhere else than in memory (`/dev/shm`).

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

/// What is measured, and against what.
struct Row {
    name: String,
    aim: f64,
    pairs: Vec<(Duration, Duration)>,
    peak_kib: u64,
}

impl Row {
    fn ratios(&self) -> Vec<f64> {
        let mut ratios: Vec<f64> =
            self.pairs.iter().map(|(os, ours)| ours.as_secs_f64() / os.as_secs_f64()).collect();
        ratios.sort_by(f64::total_cmp);
        ratios
    }

    fn median(&self) -> f64 {
        let ratios = self.ratios();
        ratios[ratios.len() / 2]
    }

    fn print(&self) {
        let ratios = self.ratios();
        let (least, greatest) = (ratios[0], ratios[ratios.len() - 1]);
        let median_ms = |of: fn(&(Duration, Duration)) -> Duration| {
            let mut times: Vec<Duration> = self.pairs.iter().map(of).collect();
            times.sort();
            times[times.len() / 2].as_millis()
        };
        println!(
            "| {} | {:.2} | {least:.2} – {greatest:.2} | {} | {} ms | {} ms | {:.1} MiB |",
            self.name,
            self.median(),
            self.aim,
            median_ms(|pair| pair.0),
            median_ms(|pair| pair.1),
            self.peak_kib as f64 / 1024.0
        );
    }
}

struct Bench {
    folder: PathBuf,
    pairs: usize,
}

impl Bench {
    fn path(&self, below: &str) -> PathBuf {
        self.folder.join(below)
    }

    /// Runs a tool of the operating system.
    fn tool(&self, program: &str, words: &[&str]) {
        let status =
            Command::new(program).args(words).current_dir(&self.folder).stdout(Stdio::null()).status();
        assert!(status.is_ok_and(|status| status.success()), "{program} {words:?}");
    }

    /// Runs Reedhook; returns its peak memory in KiB.
    fn reedhook(&self, words: &[&str]) -> u64 {
        let mut command = Command::new(env!("CARGO_BIN_EXE_reedhook"));
        command
            .args(words)
            .current_dir(&self.folder)
            .env("REEDHOOK_HOME", self.path("home"))
            .stdout(Stdio::null());
        let mut child = command.spawn().expect("reedhook starts");
        let mut peak = 0;
        let status = loop {
            peak = peak_memory(child.id()).unwrap_or(0).max(peak);
            if let Some(status) = child.try_wait().expect("reedhook runs") {
                break status;
            }
            std::thread::sleep(Duration::from_millis(2));
        };
        assert!(status.success(), "reedhook {words:?}");
        peak
    }

    fn row(
        &self,
        name: String,
        aim: f64,
        reference: impl Fn(),
        ours: impl Fn() -> u64,
        reset: impl Fn(),
    ) -> Row {
        let mut row = Row { name, aim, pairs: Vec::new(), peak_kib: 0 };
        for pair in 0..self.pairs {
            let mut times = [Duration::ZERO; 2];
            // In turn, and each after the same clearing: what runs right after another finds less warm memory.
            for side in [pair % 2, 1 - pair % 2] {
                reset();
                let begun = Instant::now();
                if side == 0 {
                    reference();
                } else {
                    row.peak_kib = ours().max(row.peak_kib);
                }
                times[side] = begun.elapsed();
            }
            row.pairs.push((times[0], times[1]));
        }
        row.print();
        row
    }

    fn small_files(&self, count: usize) -> Vec<Row> {
        small_files(&self.path("small"), count);
        let clear = || {
            for folder in ["small-copy", "small-mirror"] {
                let _ = fs::remove_dir_all(self.path(folder));
            }
            fs::create_dir(self.path("small-mirror")).expect("a folder");
        };
        let copy = || {
            self.tool("cp", &["-a", "small", "small-copy"]);
            self.tool("sync", &["-f", "small-copy"]);
        };
        // Without a saved job: one would miss the mark of the destination that is cleared before each pair.
        let run = || self.reedhook(&["once", "mirror", "small", "small-mirror", "--quiet", "--yes"]);
        let find = || {
            for side in ["small", "small-mirror"] {
                self.tool("find", &[side, "-printf", "%p %s %T@ %m\\n"]);
            }
        };
        let first = self.row(format!("first mirror, {count} small files / cp -a"), 0.6, copy, run, clear);
        // Whatever the last pair left: from here on there is a mirror, and nothing to do.
        run();
        let again = self.row(format!("nothing changed, {count} files / two finds"), 0.5, find, run, || {});
        vec![first, again]
    }

    fn big_file(&self, mib: usize) -> Row {
        fs::create_dir_all(self.path("big")).expect("a folder");
        let mut chance = Seeded(3);
        let block: Vec<u8> = (0..(1 << 17)).flat_map(|_| chance.next().to_le_bytes()).collect();
        let mut content = Vec::new();
        (0..mib).for_each(|_| content.extend_from_slice(&block));
        fs::write(self.path("big/one.bin"), content).expect("a file");
        let clear = || {
            let _ = fs::remove_file(self.path("big-copy"));
            let _ = fs::remove_dir_all(self.path("big-mirror"));
            fs::create_dir(self.path("big-mirror")).expect("a folder");
        };
        let copy = || {
            self.tool("cp", &["-a", "big/one.bin", "big-copy"]);
            self.tool("sync", &["-f", "big-copy"]);
        };
        let run = || self.reedhook(&["once", "mirror", "big", "big-mirror", "--quiet", "--yes"]);
        self.row(format!("one file of {mib} MiB / cp"), 1.02, copy, run, clear)
    }
}

/// The most memory a process has had in use so far, in KiB.
fn peak_memory(process: u32) -> Option<u64> {
    let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?;
    line.split_whitespace().next()?.parse().ok()
}

/// Numbers from a fixed seed (SplitMix64, Steele, Lea & Flood 2014).
struct Seeded(u64);

impl Seeded {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }
}

/// A hundred files to a folder, 100 to 4000 bytes each.
fn small_files(root: &Path, count: usize) {
    let mut chance = Seeded(1);
    for number in 0..count {
        let folder = root.join(format!("d{:03}/s{:02}", number / 2000, number / 100 % 20));
        if number % 100 == 0 {
            fs::create_dir_all(&folder).expect("a folder");
        }
        let size = 100 + chance.next() % 3900;
        let content: Vec<u8> = (0..size).map(|at| (at % 251) as u8).collect();
        fs::write(folder.join(format!("f{number:07}.csv")), content).expect("a file");
    }
}

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().collect();
    let quick = words.iter().any(|word| word == "--quick");
    let place = words.iter().position(|word| word == "--in").and_then(|at| words.get(at + 1));
    let base = place.map_or_else(default_place, PathBuf::from);
    let folder = base.join(format!("reedhook-bench-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder for the trees");
    let bench = Bench { folder: folder.clone(), pairs: if quick { 3 } else { 7 } };
    println!("| work / against | ratio | least – greatest | aim | theirs | ours | our peak memory |");
    println!("|---|---|---|---|---|---|---|");
    let mut rows = bench.small_files(if quick { 10_000 } else { 100_000 });
    rows.push(bench.big_file(if quick { 256 } else { 2048 }));
    let _ = fs::remove_dir_all(&folder);
    let gross: Vec<&Row> = rows.iter().filter(|row| row.median() > row.aim * 2.0).collect();
    for row in &gross {
        println!(
            "gross regression: {} is at {:.2}, more than twice the aim of {}",
            row.name,
            row.median(),
            row.aim
        );
    }
    if gross.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

fn default_place() -> PathBuf {
    let memory = PathBuf::from("/dev/shm");
    if memory.is_dir() { memory } else { std::env::temp_dir() }
}
