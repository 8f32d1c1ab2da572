//! The service at work: how long a change takes to be at the destination once it has become quiet, how a burst is carried, and what the
//! service costs while nothing happens. No tool of the operating system does this, so there is nothing to set it against; the time of
//! a plain run over the same tree says what a look at everything would take.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// The job waits for so much quiet.
const QUIET: Duration = Duration::from_secs(1);

/// A service that is ended at the end.
struct Service(Child);

impl Service {
    fn status(&self, file: &str) -> String {
        fs::read_to_string(format!("/proc/{}/{file}", self.0.id())).unwrap_or_default()
    }

    /// Resident memory, in MiB.
    fn memory(&self) -> f64 {
        let status = self.status("status");
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default();
        line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or_default() / 1024.0
    }

    /// What the processor has done for it, in clock ticks (a hundredth of a second).
    fn ticks(&self) -> u64 {
        let stat = self.status("stat");
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
        let field = |at: usize| fields.get(at).and_then(|field| field.parse().ok()).unwrap_or(0);
        field(11) + field(12)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits until something holds, at most for two minutes; how long that took.
fn until(holds: impl Fn() -> bool) -> Duration {
    let begun = Instant::now();
    while !holds() && begun.elapsed() < Duration::from_secs(120) {
        std::thread::sleep(Duration::from_millis(1));
    }
    begun.elapsed()
}

/// A tree of so many files, each in a folder of its own; how many folders there are.
pub fn make(root: &Path, files: usize) -> usize {
    let above = files.isqrt();
    for number in 0..files {
        let folder = root.join(format!("{:04}/{number:06}", number % above));
        fs::create_dir_all(&folder).expect("a folder");
        fs::write(folder.join("count.csv"), format!("heron,{number}")).expect("a file");
    }
    // With the root and the folders between.
    files + above + 1
}

/// Follows a mirror of `source` with `folders` folders in it, and prints what was measured.
pub fn rows(
    command: &dyn Fn(&[&str]) -> Command,
    source: &Path,
    mirror: &Path,
    (files, folders): (usize, usize),
) {
    let quiet = |words: &[&str]| {
        let ended = command(words).arg("--quiet").status();
        assert!(ended.is_ok_and(|status| status.success()), "{words:?}");
    };
    let (left, right) = (source.display().to_string(), mirror.display().to_string());
    quiet(&["job", "add", "tended", "mirror", &left, &right, "--yes", "--when", "on change after 1s"]);
    quiet(&["run", "tended", "--yes"]);
    let begun = Instant::now();
    quiet(&["run", "tended"]);
    let whole = begun.elapsed();
    let child = command(&["tend", "--json"]).stdout(Stdio::null()).spawn().expect("the service starts");
    let service = Service(child);
    let watched = || {
        let told =
            command(&["tend", "status", "--json"]).output().map(|output| output.stdout).unwrap_or_default();
        String::from_utf8_lossy(&told).contains(&format!("\"folders\":{folders}"))
    };
    let ready = until(watched);
    // The look at everything with which it begins.
    std::thread::sleep(QUIET + whole * 2 + Duration::from_millis(500));

    let mut late = Vec::new();
    for round in 0..7 {
        let name = format!("a change {round}.csv");
        // Any folder will do: the one that the first file is in.
        fs::write(source.join(&name), "heron,3").expect("a file");
        let took = until(|| mirror.join(&name).exists());
        late.push(took.saturating_sub(QUIET).as_secs_f64());
        std::thread::sleep(QUIET + Duration::from_millis(500));
    }
    late.sort_by(f64::total_cmp);
    println!(
        "  a change in a tree of {files} files: {:.0} ms after the quiet ({:.0} to {:.0}; aim 100; a look at everything takes {:.0} ms)",
        late[late.len() / 2] * 1e3,
        late[0] * 1e3,
        late[late.len() - 1] * 1e3,
        whole.as_secs_f64() * 1e3,
    );

    let burst = 10_000;
    let begun = Instant::now();
    for number in 0..burst {
        let folder = source.join(format!("unpacked/{}", number / 100));
        if number % 100 == 0 {
            fs::create_dir_all(&folder).expect("a folder");
        }
        fs::write(folder.join(format!("{number}.csv")), format!("teal,{number}")).expect("a file");
    }
    let writing = begun.elapsed();
    let count = || {
        let folders = fs::read_dir(mirror.join("unpacked")).into_iter().flatten().flatten();
        folders
            .map(|folder| {
                fs::read_dir(folder.path()).map_or(0, |files| {
                    files
                        .flatten()
                        .filter(|file| !file.file_name().as_encoded_bytes().starts_with(b".reedhook"))
                        .count()
                })
            })
            .sum::<usize>()
    };
    let took = until(|| count() == burst);
    println!(
        "  a burst of {burst} new files ({:.1} s to write them): all there {:.2} s after the quiet",
        writing.as_secs_f64(),
        took.saturating_sub(QUIET).as_secs_f64(),
    );
    std::thread::sleep(QUIET * 3);
    let (ticks, length) = (service.ticks(), Duration::from_secs(10));
    std::thread::sleep(length);
    println!(
        "  the service, idle, {folders} folders watched ({:.1} s until they were): {} ms of processor in {} s, {:.0} MiB (aim 60)",
        ready.as_secs_f64(),
        (service.ticks() - ticks) * 10,
        length.as_secs(),
        service.memory(),
    );
}
