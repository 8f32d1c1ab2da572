//! Running things in turn and putting their times side by side.

use std::fs;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// What one run took.
#[derive(Debug, Clone, Copy, Default)]
pub struct Taken {
    /// By the clock.
    pub wall: Duration,
    /// Processor time of all threads, in steps of the kernel's clock (10 ms).
    pub cpu: Duration,
    /// The most memory in use at once, in KiB.
    pub peak_kib: u64,
}

/// Runs a program to its end. A program that fails ends the benchmark, unless `may_fail`.
pub fn run(command: &mut Command, may_fail: bool) -> Taken {
    command.stdin(Stdio::null()).stdout(Stdio::null());
    let cpu_before = children_cpu();
    let begun = Instant::now();
    let mut child = command.spawn().expect("the program starts");
    let mut peak_kib = 0;
    let status = loop {
        peak_kib = peak_memory(child.id()).unwrap_or(0).max(peak_kib);
        if let Some(status) = child.try_wait().expect("the program runs") {
            break status;
        }
        std::thread::sleep(Duration::from_millis(if begun.elapsed().as_millis() < 200 { 1 } else { 10 }));
    };
    let wall = begun.elapsed();
    assert!(may_fail || status.success(), "{command:?}: {status}");
    Taken { wall, cpu: children_cpu() - cpu_before, peak_kib }
}

impl std::ops::Add for Taken {
    type Output = Taken;

    fn add(self, other: Taken) -> Taken {
        let peak_kib = self.peak_kib.max(other.peak_kib);
        Taken { wall: self.wall + other.wall, cpu: self.cpu + other.cpu, peak_kib }
    }
}

/// The processor time of all children that have ended, from `/proc/self/stat` (fields 16 and 17).
fn children_cpu() -> Duration {
    const TICKS_A_SECOND: u64 = 100;
    let stat = fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let after_name = stat.rsplit(')').next().unwrap_or_default();
    let fields: Vec<u64> = after_name.split_whitespace().skip(13).take(2).flat_map(str::parse).collect();
    Duration::from_millis(fields.iter().sum::<u64>() * 1000 / TICKS_A_SECOND)
}

fn peak_memory(process: u32) -> Option<u64> {
    let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?;
    line.split_whitespace().next()?.parse().ok()
}

/// A row of the table: theirs and ours, pair by pair.
pub struct Row {
    name: String,
    aim: Option<f64>,
    /// What the reference took and what Reedhook took.
    pub pairs: Vec<(Taken, Taken)>,
}

impl Row {
    /// Runs both in turn (A B, B A, …), each after the same clearing: what runs right after another finds less warm memory.
    pub fn of(
        name: impl Into<String>,
        aim: Option<f64>,
        pairs: usize,
        mut clear: impl FnMut(),
        mut theirs: impl FnMut() -> Taken,
        mut ours: impl FnMut() -> Taken,
    ) -> Row {
        let mut row = Row { name: name.into(), aim, pairs: Vec::new() };
        for pair in 0..pairs {
            let mut taken = [Taken::default(); 2];
            for side in [pair % 2, 1 - pair % 2] {
                clear();
                taken[side] = if side == 0 { theirs() } else { ours() };
            }
            row.pairs.push((taken[0], taken[1]));
        }
        row.print();
        row
    }

    /// Ours to theirs, sorted.
    pub fn ratios(&self) -> Vec<f64> {
        let ratio = |(theirs, ours): &(Taken, Taken)| ours.wall.as_secs_f64() / theirs.wall.as_secs_f64();
        let mut ratios: Vec<f64> = self.pairs.iter().map(ratio).collect();
        ratios.sort_by(f64::total_cmp);
        ratios
    }

    /// Prints the head of the table.
    pub fn head() {
        println!(
            "| work / against | ratio | least – greatest | aim | theirs | ours | CPU theirs | CPU ours | our peak memory |"
        );
        println!("|---|---|---|---|---|---|---|---|---|");
    }

    fn print(&self) {
        let ratios = self.ratios();
        let (least, median, greatest) = (ratios[0], ratios[ratios.len() / 2], ratios[ratios.len() - 1]);
        let middle = |of: fn(&(Taken, Taken)) -> Duration| {
            let mut times: Vec<Duration> = self.pairs.iter().map(of).collect();
            times.sort();
            times[times.len() / 2].as_secs_f64()
        };
        let peak = self.pairs.iter().map(|(_, ours)| ours.peak_kib).max().unwrap_or(0);
        let aim = self.aim.map_or("–".to_owned(), |aim| {
            if median > aim { format!("{aim}, missed") } else { aim.to_string() }
        });
        println!(
            "| {} | {median:.2} | {least:.2} – {greatest:.2} | {aim} | {:.3} s | {:.3} s | {:.2} s | {:.2} s | {:.1} MiB |",
            self.name,
            middle(|pair| pair.0.wall),
            middle(|pair| pair.1.wall),
            middle(|pair| pair.0.cpu),
            middle(|pair| pair.1.cpu),
            peak as f64 / 1024.0
        );
    }
}
