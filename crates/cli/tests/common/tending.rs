//! The service of a station, with what it tells.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use serde_json::Value;

use super::Station;
use reedhook_testing::signals::{self, Signal};

/// A service that is running; killed at the end, whatever happens.
pub struct Tending {
    child: Child,
    lines: Receiver<Value>,
    /// Everything that was told so far.
    pub told: Vec<Value>,
}

impl Tending {
    /// Starts the service and waits until it follows its jobs.
    pub fn of(station: &Station) -> Tending {
        Tending::with(station, &[])
    }

    /// The same with something in its environment.
    pub fn with(station: &Station, environment: &[(&str, &str)]) -> Tending {
        let mut command: Command = station.command(&["tend", "--json"]);
        command.envs(environment.iter().copied()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let mut child = command.spawn().unwrap();
        let (send, lines) = channel();
        let out = BufReader::new(child.stdout.take().unwrap());
        std::thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                let value = serde_json::from_str(&line).unwrap_or_else(|_| panic!("no JSON: {line}"));
                if send.send(value).is_err() {
                    return;
                }
            }
        });
        let mut tending = Tending { child, lines, told: Vec::new() };
        tending.wait("the service follows its jobs", |line| line["event"] == "tending");
        tending
    }

    /// Waits for a line, and gives it.
    #[track_caller]
    pub fn wait(&mut self, what: &str, is: impl Fn(&Value) -> bool) -> Value {
        let until = Instant::now() + Duration::from_secs(30);
        loop {
            match self.lines.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(line) => {
                    self.told.push(line.clone());
                    if is(&line) {
                        return line;
                    }
                }
                Err(_) => panic!("{what} was not told: {:#?}", self.told),
            }
        }
    }

    /// Waits until a run of a job begins, and says why it does.
    #[track_caller]
    pub fn begins(&mut self, job: &str) -> String {
        let line = self.wait(&format!("{job} begins"), |line| line["event"] == "began" && line["job"] == job);
        line["cause"].as_str().unwrap().to_owned()
    }

    /// Waits until a run of a job is over, and gives its numbers.
    #[track_caller]
    pub fn ends(&mut self, job: &str) -> Value {
        self.wait(&format!("{job} ends"), |line| line["event"] == "finished" && line["job"] == job)
    }

    /// What is told within a while.
    pub fn within(&mut self, length: Duration) -> Vec<Value> {
        let until = Instant::now() + length;
        let mut told = Vec::new();
        while let Ok(line) = self.lines.recv_timeout(until.saturating_duration_since(Instant::now())) {
            told.push(line);
        }
        self.told.extend(told.clone());
        told
    }

    /// Fails the test when any run begins within a while.
    #[track_caller]
    pub fn stays_quiet(&mut self, length: Duration) {
        let began: Vec<Value> =
            self.within(length).into_iter().filter(|line| line["event"] == "began").collect();
        assert!(began.is_empty(), "{began:?}");
    }

    pub fn signal(&self, signal: Signal) {
        signals::send(self.child.id(), signal);
    }

    /// How long its processor has worked for it, in hundredths of a second.
    pub fn ticks(&self) -> u64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap();
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
        fields[11].parse::<u64>().unwrap() + fields[12].parse::<u64>().unwrap()
    }

    /// Waits for its end; how long that took, and its exit code.
    pub fn ended(mut self) -> (Duration, Option<i32>) {
        let begun = Instant::now();
        let status = self.child.wait().unwrap();
        (begun.elapsed(), status.code())
    }
}

impl Drop for Tending {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
