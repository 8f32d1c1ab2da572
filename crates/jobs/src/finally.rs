//! What is done at the very end: drives are unmounted, the machine is suspended or powered off.
//!
//! A run only says what its job wishes. It is done once nothing of the home runs, waits or is owed any more, and before the machine goes
//! down people have a while to say no.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use reedhook_core::store::Place;
use reedhook_core::when::Finally;
use reedhook_record::Outcome as RunOutcome;
use reedhook_stores::child;
use reedhook_stores::eject::{removable_mount, unmount};

use crate::desk::Desk;
use crate::home::Home;
use crate::jobfile::files::{job_names, load_job};
use crate::jobfile::job::Job;
use crate::observer::{Event, Finishing};
use crate::places::{Ends, Located};
use crate::run::claim::{anything_runs, is_running};
use crate::settings::Settings;

/// How often it is looked whether anything still goes on.
const LOOK: Duration = Duration::from_millis(500);

/// How often the stop is looked for.
const STEP: Duration = Duration::from_millis(50);

/// What jobs wish for the end.
#[derive(Default)]
pub struct Finale {
    wishes: Mutex<Vec<Wish>>,
    left_out: AtomicBool,
}

struct Wish {
    job: String,
    what: What,
}

enum What {
    /// These drives are to be unmounted.
    Eject(Vec<PathBuf>),
    /// The machine is to go down.
    Machine(Finally),
}

/// Something of the home that goes on, or is still to come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pending {
    /// The job; empty for a run without one.
    pub job: String,
    /// Whether it runs, waits or is owed.
    pub state: PendingState,
    /// Where it works; none when that is not known, and it may be anywhere.
    pub places: Option<Vec<Place>>,
}

/// How far something is that is still to come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PendingState {
    /// It runs.
    Runs,
    /// It is wanted, and waits.
    Waits,
    /// It is tried again then.
    Retry(Timestamp),
}

impl Pending {
    /// Whether it works, or may work, on a drive that is mounted there.
    fn may_be_on(&self, mount: &Path) -> bool {
        let is_on = |place: &Place| matches!(place, Place::Local(path) if path.starts_with(mount));
        self.places.as_ref().is_none_or(|places| places.iter().any(is_on))
    }

    /// What it does, for people.
    pub fn words(&self) -> String {
        let job = if self.job.is_empty() { "another run" } else { &self.job };
        match self.state {
            PendingState::Runs => format!("{job} is running"),
            PendingState::Waits => format!("{job} is waiting to run"),
            PendingState::Retry(_) => format!("{job} will be tried again"),
        }
    }
}

impl Finale {
    fn lock(&self) -> MutexGuard<'_, Vec<Wish>> {
        self.wishes.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether somebody wants it left out.
    pub fn is_left_out(&self) -> bool {
        self.left_out.load(Ordering::Relaxed)
    }

    /// From now on nothing is taken note of: somebody wants it left out this once.
    pub fn leave_out(&self) {
        self.left_out.store(true, Ordering::Relaxed);
    }

    /// Takes note of what a job wishes now that its run is over; nothing after one that was refused, or that somebody stopped.
    pub(crate) fn wish(&self, desk: &Desk, job: &Job, outcome: RunOutcome) {
        if self.is_left_out() {
            return;
        }
        let came_to_its_end = matches!(outcome, RunOutcome::Done | RunOutcome::Held | RunOutcome::Problems);
        let what = match job.around.finally {
            Some(Finally::Eject) if came_to_its_end || outcome == RunOutcome::Stopped => {
                What::Eject(mounts_of(desk, job))
            }
            Some(machine @ (Finally::Suspend | Finally::PowerOff)) if came_to_its_end => {
                What::Machine(machine)
            }
            _ => return,
        };
        self.lock().push(Wish { job: job.name.clone(), what });
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.lock().is_empty()
    }

    /// Forgets what is wished for the machine; whether anything was.
    pub fn forget_machine(&self) -> bool {
        let mut wishes = self.lock();
        let before = wishes.len();
        wishes.retain(|wish| matches!(wish.what, What::Eject(_)));
        wishes.len() < before
    }

    /// What is wished for the machine, and by which job: to go off is more than to sleep.
    pub fn machine(&self) -> Option<(String, Finally)> {
        let wishes = self.lock();
        let machine = wishes.iter().filter_map(|wish| match wish.what {
            What::Machine(what) => Some((wish.job.clone(), what)),
            What::Eject(_) => None,
        });
        machine.max_by_key(|(_, what)| *what == Finally::PowerOff)
    }

    /// Takes the drives that nothing works on any more, to be unmounted.
    pub fn free_drives(&self, pending: &[Pending]) -> Vec<PathBuf> {
        let mut free = Vec::new();
        self.lock().retain_mut(|wish| match &mut wish.what {
            What::Eject(mounts) => {
                let is_free = |mount: &mut PathBuf| !pending.iter().any(|one| one.may_be_on(mount));
                free.extend(mounts.extract_if(.., is_free));
                !mounts.is_empty()
            }
            What::Machine(_) => true,
        });
        free.sort();
        free.dedup();
        free
    }
}

/// Where the drives of a job are mounted that can be unplugged.
fn mounts_of(desk: &Desk, job: &Job) -> Vec<PathBuf> {
    let ends = match Ends::of(job, &desk.home, &desk.settings) {
        Ok(ends) => ends,
        Err(why) => {
            desk.note(format!("{}: its drives are not unmounted: {}", job.name, why.message));
            return Vec::new();
        }
    };
    ends.from.iter().chain(&ends.to).filter_map(|place| removable_mount(place.folder()?)).collect()
}

/// Runs of the home that go on, of whichever program.
pub fn running(home: &Home, settings: &Settings) -> Vec<Pending> {
    let unknown = |job: &str| Pending { job: job.to_owned(), state: PendingState::Runs, places: None };
    let Ok(names) = job_names(home) else { return vec![unknown("perhaps a job (they cannot be listed)")] };
    let mut found: Vec<Pending> = names
        .into_iter()
        .filter(|name| is_running(home, name))
        .map(|job| {
            let ends = load_job(home, &job).and_then(|job| Ends::of(&job, home, settings));
            let places =
                ends.ok().map(|ends| ends.from.iter().chain(&ends.to).flat_map(Located::places).collect());
            Pending { job, state: PendingState::Runs, places }
        })
        .collect();
    if found.is_empty() && anything_runs(home) {
        // A run without a job.
        found.push(unknown(""));
    }
    found
}

/// Does what is wished, once nothing goes on any more: waits for it, and counts down before the machine goes down. The desk's stop leaves the
/// machine on. Why something could not be done is told, and nothing else comes of it.
pub fn carry_out(desk: &Desk, finale: &Finale, pending: &dyn Fn() -> Vec<Pending>) {
    let mut waits_for = None;
    while !finale.is_empty() && !desk.is_stopped() {
        let others = pending();
        eject(desk, &finale.free_drives(&others));
        let machine = finale.machine();
        match (&machine, others.first()) {
            // What begins meanwhile is waited for, and it is counted down anew.
            (Some((_, what)), None) => {
                if counted_down(desk, *what, pending) {
                    finale.forget_machine();
                    act(desk, *what);
                }
                waits_for = None;
            }
            (_, Some(first)) => {
                let words = first.words();
                if waits_for.as_ref() != Some(&words) {
                    let what = machine.map_or(Finally::Eject, |(_, what)| what);
                    desk.tell(&Event::Finishing(Finishing::Waits { what, behind: &words }));
                    waits_for = Some(words);
                }
                pause(desk, LOOK);
            }
            (None, None) => {}
        }
    }
    if finale.forget_machine() {
        desk.tell(&Event::Finishing(Finishing::LeftOn));
    }
}

/// Counts down; whether nobody said no, and nothing has begun meanwhile.
fn counted_down(desk: &Desk, what: Finally, pending: &dyn Fn() -> Vec<Pending>) -> bool {
    let all = desk.settings.countdown();
    let end = Instant::now() + all;
    loop {
        let left = end.saturating_duration_since(Instant::now());
        if desk.is_stopped() || !pending().is_empty() {
            return false;
        }
        if left.is_zero() {
            return true;
        }
        desk.tell(&Event::Finishing(Finishing::CountsDown { what, left }));
        pause(desk, left.min(Duration::from_secs(1)));
    }
}

fn pause(desk: &Desk, long: Duration) {
    let end = Instant::now() + long;
    while !desk.is_stopped() && Instant::now() < end {
        std::thread::sleep(STEP.min(end.saturating_duration_since(Instant::now())));
    }
}

/// Suspends the machine or powers it off. Why that could not be done is told.
pub fn act(desk: &Desk, what: Finally) {
    let word = match what {
        Finally::Suspend => "suspend",
        Finally::PowerOff => "poweroff",
        Finally::Nothing | Finally::Eject => return,
    };
    let done = child::command("systemctl").arg(word).stdin(Stdio::null()).output();
    let why = match done {
        Ok(output) if output.status.success() => return,
        Ok(output) => String::from_utf8_lossy(&output.stderr).trim().to_owned(),
        Err(error) => error.to_string(),
    };
    desk.note(format!("`systemctl {word}` failed: {why}"));
}

/// Unmounts drives, so that they can be unplugged.
pub fn eject(desk: &Desk, mounts: &[PathBuf]) {
    for mount in mounts {
        match unmount(mount) {
            Ok(()) => desk.note(format!("{} is unmounted: it can be unplugged", mount.display())),
            Err(why) => desk.note(format!("{} could not be unmounted: {why}", mount.display())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_is_free_once_nobody_works_there_or_may_work_there() {
        let local = |path: &str| Place::Local(path.into());
        let cases = [
            (None, false),
            (Some(vec![]), true),
            (Some(vec![local("/media/heron/counts")]), false),
            (Some(vec![local("/media/heron")]), false),
            (Some(vec![local("/media/heronry"), local("/")]), true),
        ];
        for (places, is_free) in cases {
            let finale = Finale::default();
            let drive = PathBuf::from("/media/heron");
            finale.lock().push(Wish { job: "counts".to_owned(), what: What::Eject(vec![drive.clone()]) });
            let other = Pending { job: "nests".to_owned(), state: PendingState::Runs, places };
            let free = finale.free_drives(std::slice::from_ref(&other));
            assert_eq!(free, is_free.then_some(drive).into_iter().collect::<Vec<_>>(), "{other:?}");
            assert_eq!(finale.is_empty(), is_free, "a wish that waits is kept: {other:?}");
        }
    }
}
