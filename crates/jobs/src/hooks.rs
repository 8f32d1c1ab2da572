//! The commands before and after a run.
//!
//! Commands are given to the shell. They are told what it is about in variables that begin with `REEDHOOK_`, get nothing to read, and
//! what they print is only told when they fail. Each has a process group of its own, so that it ends with the run that it belongs to.

use std::io::{Read, Write};
use std::os::unix::process::CommandExt;
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use reedhook_core::foreign::Foreign;
use reedhook_stores::child;

use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::job::Job;
use crate::run::result::RunResult;

/// How often it is looked whether a command is over, or has to end.
const LOOK: Duration = Duration::from_millis(20);

/// What comes after a run that somebody has stopped may take so long all the same.
const AFTER_THE_WISH: Duration = Duration::from_secs(1);

/// So much of what a command prints is remembered.
const PRINTED: usize = 16 << 10;

/// What is told to commands, by name.
pub type Variables = Vec<(&'static str, String)>;

/// Carries out the commands before a run.
///
/// # Errors
/// When one fails: there must be no run.
pub fn before(desk: &Desk, job: &Job, run: &str) -> Outcome<()> {
    for command in &job.around.before {
        let order = Order { command, told: &about(job, run), input: None, within: None };
        order.obeyed(desk, Duration::ZERO).map_err(|why| match desk.is_stopped() {
            true => Failure::interrupted(Cause::Interrupted, "it was stopped"),
            false => Failure::refused(Cause::Before, format!("the command before the run {why}"))
                .hint(format!("The command is: {command}")),
        })?;
    }
    Ok(())
}

/// Carries out the commands after a run. What is done is done: one that fails is only worth a word.
pub fn after(desk: &Desk, job: &Job, result: &RunResult) {
    let told = outcome(job, result);
    for command in &job.around.after {
        let order = Order { command, told: &told, input: None, within: None };
        if let Err(why) = order.obeyed(desk, AFTER_THE_WISH) {
            desk.note(format!("the command after the run {why} ({command})"));
        }
    }
}

/// What commands are told of a run that is over.
pub fn outcome(job: &Job, result: &RunResult) -> Variables {
    let mut told = about(job, &result.run);
    let counts = &result.counts;
    told.push(("REEDHOOK_OUTCOME", result.outcome.as_str().to_owned()));
    told.push(("REEDHOOK_NUMBER", result.number.to_string()));
    for (name, number) in [
        ("REEDHOOK_ADDED", counts.added),
        ("REEDHOOK_UPDATED", counts.updated),
        ("REEDHOOK_MOVED", counts.moved),
        ("REEDHOOK_REMOVED", counts.removed),
        ("REEDHOOK_CONFLICTS", counts.conflicts),
        ("REEDHOOK_PROBLEMS", counts.problems),
        ("REEDHOOK_BYTES", counts.bytes),
    ] {
        told.push((name, number.to_string()));
    }
    if let Some(failure) = &result.failure {
        told.push(("REEDHOOK_CODE", failure.code().to_owned()));
        told.push(("REEDHOOK_MESSAGE", failure.text()));
    }
    told
}

/// Gives a command something to read; it has to be over within a time.
///
/// # Errors
/// When it fails, or takes longer: why.
pub fn tell(
    desk: &Desk,
    command: &str,
    told: &Variables,
    input: &str,
    within: Duration,
) -> Result<(), String> {
    Order { command, told, input: Some(input), within: Some(within) }.obeyed(desk, AFTER_THE_WISH)
}

fn about(job: &Job, run: &str) -> Variables {
    vec![
        ("REEDHOOK_JOB", job.name.clone()),
        ("REEDHOOK_RUN", run.to_owned()),
        ("REEDHOOK_KIND", job.rules.kind.to_string()),
        ("REEDHOOK_FROM", job.from.join("\n")),
        ("REEDHOOK_TO", job.to.join("\n")),
    ]
}

/// A command that is to be carried out.
struct Order<'a> {
    command: &'a str,
    told: &'a Variables,
    /// What it gets to read.
    input: Option<&'a str>,
    /// How long it may take.
    within: Option<Duration>,
}

impl Order<'_> {
    /// Lets the shell carry it out, until it is over or the work is to stop; says why it failed.
    fn obeyed(&self, desk: &Desk, grace: Duration) -> Result<(), String> {
        desk.may_command()?;
        let begun = Instant::now();
        let started = child::command("/bin/sh")
            .arg("-c")
            .arg(self.command)
            .envs(self.told.iter().map(|(name, value)| (*name, value)))
            .stdin(if self.input.is_some() { Stdio::piped() } else { Stdio::null() })
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .process_group(0)
            .spawn();
        let mut child = started.map_err(|error| format!("cannot be started: {error}"))?;
        if let (Some(mut to), Some(input)) = (child.stdin.take(), self.input) {
            let input = input.to_owned();
            // Who does not read it need not.
            std::thread::spawn(move || drop(to.write_all(input.as_bytes())));
        }
        let printed = Arc::new(Mutex::new(Vec::new()));
        // Whoever it leaves behind may hold its output open: nobody waits for the end of that.
        if let Some(out) = child.stdout.take() {
            listen(out, &printed);
        }
        if let Some(out) = child.stderr.take() {
            listen(out, &printed);
        }
        loop {
            match child.try_wait() {
                Ok(Some(status)) if status.success() => return Ok(()),
                Ok(Some(status)) => {
                    std::thread::sleep(LOOK);
                    let printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
                    let text = String::from_utf8_lossy(&printed);
                    let last = text.lines().rev().find(|line| !line.trim().is_empty());
                    let last =
                        last.map(|line| format!(": {}", Foreign::new(line.trim()))).unwrap_or_default();
                    return Err(format!("failed ({status}){last}"));
                }
                Ok(None) if desk.is_stopped() && begun.elapsed() >= grace => {
                    end(&mut child);
                    return Err("was ended".to_owned());
                }
                Ok(None) if self.within.is_some_and(|within| begun.elapsed() >= within) => {
                    end(&mut child);
                    return Err(format!("took longer than {} s", self.within.unwrap_or_default().as_secs()));
                }
                Ok(None) => std::thread::sleep(LOOK),
                Err(error) => return Err(format!("cannot be waited for: {error}")),
            }
        }
    }
}

fn listen(mut out: impl Read + Send + 'static, printed: &Arc<Mutex<Vec<u8>>>) {
    let printed = printed.clone();
    std::thread::spawn(move || {
        let mut piece = [0; 4096];
        while let Ok(length @ 1..) = out.read(&mut piece) {
            let mut printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
            printed.extend_from_slice(&piece[..length]);
            // The end is what tells why.
            let over = printed.len().saturating_sub(PRINTED);
            printed.drain(..over);
        }
    });
}

/// Ends a command with all that it has started: it is asked, and after a moment made to.
fn end(child: &mut Child) {
    const PATIENCE: Duration = Duration::from_millis(500);
    let group = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
    let signal = |signal| group.map(|group| rustix::process::kill_process_group(group, signal));
    signal(rustix::process::Signal::TERM);
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if !matches!(child.try_wait(), Ok(None)) {
            return;
        }
        std::thread::sleep(LOOK);
    }
    signal(rustix::process::Signal::KILL);
    let _ = child.wait();
}
