//! A terminal that is driven as a person drives it: keys into it, and what its screen shows.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::io::{Read, Write};
use std::num::NonZero;
use std::process::Child;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use super::common::{Station, with_tools};

pub const RIGHT: &str = "\u{1b}[C";
pub const DOWN: &str = "\u{1b}[B";
pub const UP: &str = "\u{1b}[A";

/// Whether there is what a terminal takes.
pub fn can_watch() -> bool {
    with_tools("the full-screen view", &["script", "stty"])
}

/// A terminal of 80 columns and 24 lines with the program in it.
pub struct Terminal {
    pub child: Child,
    keyboard: std::process::ChildStdin,
    output: Receiver<Vec<u8>>,
    screen: vt100::Parser,
    /// How many bytes have been drawn.
    pub drawn: usize,
}

impl Terminal {
    pub fn start(station: &Station, words: &[&str]) -> Terminal {
        Terminal::with(station, words, &[])
    }

    /// The same with something in its environment; `BEFORE` is what the shell does before it.
    pub fn with(station: &Station, words: &[&str], variables: &[(&str, &str)]) -> Terminal {
        let mut child = station.in_a_terminal(80, 24, words).envs(variables.iter().copied()).spawn().unwrap();
        let (keyboard, mut out) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let (sender, output) = channel();
        std::thread::spawn(move || {
            let mut some = [0; 4096];
            while let Ok(length @ 1..) = out.read(&mut some) {
                if sender.send(some[..length].to_vec()).is_err() {
                    return;
                }
            }
        });
        let (lines, columns) = (NonZero::new(24).unwrap(), NonZero::new(80).unwrap());
        Terminal { child, keyboard, output, screen: vt100::Parser::new(lines, columns, 0), drawn: 0 }
    }

    pub fn take(&mut self) {
        while let Ok(bytes) = self.output.recv_timeout(Duration::from_millis(20)) {
            self.drawn += bytes.len();
            self.screen.process(&bytes);
        }
    }

    /// Whether anything on the screen has a colour.
    pub fn is_coloured(&self) -> bool {
        let cell = |at: u16| self.screen.screen().cell(at / 80, at % 80).map(vt100::Cell::fgcolor);
        (0..24 * 80).filter_map(cell).any(|colour| colour != vt100::Color::Default)
    }

    /// What is on the screen.
    pub fn text(&self) -> String {
        self.screen.screen().contents()
    }

    /// Waits until the screen shows something.
    #[track_caller]
    pub fn shows(&mut self, wanted: &str) {
        let begun = Instant::now();
        while !self.text().contains(wanted) {
            assert!(begun.elapsed() < Duration::from_secs(30), "{wanted:?} is not shown:\n{}", self.text());
            self.take();
        }
    }

    #[track_caller]
    /// Waits until the screen does not show something.
    pub fn hides(&mut self, unwanted: &str) {
        let begun = Instant::now();
        while self.text().contains(unwanted) {
            assert!(
                begun.elapsed() < Duration::from_secs(30),
                "{unwanted:?} is still shown:\n{}",
                self.text()
            );
            self.take();
        }
    }

    /// Presses keys.
    pub fn keys(&mut self, keys: &str) {
        self.keyboard.write_all(keys.as_bytes()).unwrap();
        self.keyboard.flush().unwrap();
        self.take();
    }

    /// Takes the terminal away, as when its window is closed, and waits for the program to end.
    #[track_caller]
    pub fn goes_away(mut self, station: &Station) {
        let pid = std::fs::read_to_string(station.path("pid")).unwrap();
        self.child.kill().unwrap();
        let begun = Instant::now();
        let state = || std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
        while !state().is_empty() && !state().contains(") Z ") {
            assert!(begun.elapsed() < Duration::from_secs(10), "it goes on without a terminal: {}", state());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The exit code, once the terminal is as it was.
    #[track_caller]
    pub fn ends(mut self) -> i32 {
        let code = self.child.wait().unwrap().code().unwrap_or(-1);
        self.take();
        assert!(!self.screen.screen().alternate_screen(), "the terminal is put back:\n{}", self.text());
        assert!(!self.screen.screen().hide_cursor(), "with its cursor");
        code
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        // A test that failed leaves no program behind: without its terminal it ends, as another test sees to.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
