//! A job from its setting up to the record of its run, without a command line.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::sync::{Arc, Mutex};

use reedhook_core::job::Kind;
use reedhook_core::plan::guard::Lift;
use reedhook_jobs::clear::{Consent, Need};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::Halt;
use reedhook_jobs::home::Home;
use reedhook_jobs::jobfile::{Job, JobKeys, load_job};
use reedhook_jobs::look::{glance, look};
use reedhook_jobs::observer::{Event, Observer};
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::claim::JobLock;
use reedhook_jobs::run::{RunResult, Sort};
use reedhook_jobs::run_job::{Look, NoMessenger, Origin, RunRequest, Surroundings, run_job};
use reedhook_jobs::settings::Settings;
use reedhook_jobs::undo::Undoing;
use reedhook_jobs::world::World;
use reedhook_record::Outcome;

/// Writes down what it hears.
#[derive(Default)]
struct Ears(Mutex<Vec<String>>);

impl Observer for Ears {
    fn observe(&self, event: &Event<'_>) {
        let word = match event {
            Event::Begins(plan) => format!("begins with {}", plan.counts().added + plan.counts().removed),
            Event::Did { line: Some(line), .. } => String::from_utf8_lossy(line).into_owned(),
            Event::Ends => "ends".to_owned(),
            _ => return,
        };
        self.0.lock().unwrap().push(word);
    }
}

struct Station {
    folder: tempfile::TempDir,
    desk: Desk,
    ears: Arc<Ears>,
    surroundings: Surroundings,
}

impl Station {
    fn new() -> Station {
        let folder = tempfile::tempdir().unwrap();
        let world = World::plain();
        let home = Home::find(Some(&folder.path().join("home")), &world).unwrap();
        let ears = Arc::new(Ears::default());
        let desk = Desk { observer: ears.clone(), ..Desk::new(home, Settings::default(), world) };
        fs::create_dir(folder.path().join("left")).unwrap();
        fs::create_dir(folder.path().join("right")).unwrap();
        Station { folder, desk, ears, surroundings: Surroundings::with(Arc::new(NoMessenger)) }
    }

    fn write(&self, path: &str, content: &str) {
        fs::write(self.folder.path().join(path), content).unwrap();
    }

    fn has(&self, path: &str) -> bool {
        self.folder.path().join(path).exists()
    }

    fn mirror(&self, to: &str) -> Job {
        let place = |side: &str| vec![self.folder.path().join(side).display().to_string()];
        let keys =
            JobKeys { kind: Some(Kind::Mirror), from: place("left"), to: place(to), ..JobKeys::default() };
        Job::new("counts", keys).unwrap().save(&self.desk.home).unwrap();
        load_job(&self.desk.home, "counts").unwrap()
    }

    /// Looks, clears and runs; agrees to everything, and says what that was.
    fn run(&self, job: &Job, lifted: &[Lift]) -> (Need, RunResult) {
        let mut asked = Need::None;
        let mut agree = |_: &Preview, need| {
            asked = need;
            Ok(())
        };
        let look_at_it = || look(&self.desk, job);
        let request = RunRequest { lifted, consent: &mut agree, ..wanted(job, &look_at_it) };
        let (_, result) = run_job(&self.desk, &self.surroundings, request, |_, _| ()).unwrap();
        (asked, result)
    }
}

fn wanted<'a>(job: &'a Job, look: &'a Look<'a>) -> RunRequest<'a> {
    let consent: &'a mut (dyn Consent + Send) = Box::leak(Box::new(|_: &Preview, _| Ok(())));
    RunRequest { job, sort: Sort::Job, origin: Origin::Asked, look, lifted: &[], consent }
}

#[test]
fn a_job_is_set_up_looked_at_cleared_run_read_back_and_undone() {
    let station = Station::new();
    let job = station.mirror("right/counts");
    station.write("left/heron.csv", "heron,3");
    assert_eq!(glance(&station.desk, &job).unwrap().counts().added, 1);
    assert!(!station.has("right/counts"), "a look makes nothing");

    let (need, result) = station.run(&job, &[]);
    assert_eq!((need, result.outcome, result.counts.added), (Need::None, Outcome::Done, 1));
    assert_eq!(fs::read_to_string(station.folder.path().join("right/counts/heron.csv")).unwrap(), "heron,3");
    let heard = station.ears.0.lock().unwrap().join(" ");
    assert!(heard.starts_with("begins with 1") && heard.ends_with("ends"), "{heard}");
    assert!(heard.contains("\"do\":\"add\"") && heard.contains("heron.csv"), "{heard}");

    let record = station.desk.home.record().unwrap();
    let row = record.runs(Some("counts"), 10).unwrap().remove(0);
    assert_eq!((row.run.as_str(), row.number, row.end.counts.added), (result.run.as_str(), 1, 1));
    let undone =
        Undoing::look(&station.desk, row).unwrap().carry_out(&station.desk, &station.surroundings).unwrap();
    assert_eq!(undone.counts.removed, 1);
    assert!(!station.has("right/counts/heron.csv"));
}

#[test]
fn only_what_was_cleared_can_be_run_and_one_run_of_a_job_at_a_time() {
    let station = Station::new();
    let job = station.mirror("right");
    for number in 0..30 {
        station.write(&format!("right/{number}.csv"), "rail,1");
    }
    // Nothing that takes part at the left, and everything gone at the right.
    let (_, refused) = station.run(&job, &[]);
    assert_eq!(refused.outcome, Outcome::Refused);
    assert_eq!(refused.failure.unwrap().code(), "empty-source");
    assert!(station.has("right/0.csv"));

    station.write("left/heron.csv", "heron,3");
    let (need, done) = station.run(&job, &[Lift::Removals]);
    assert_eq!((need, done.outcome, done.counts.removed), (Need::FirstRun, Outcome::Done, 30));
    station.write("right/again.csv", "rail,1");
    assert_eq!(station.run(&job, &[]).0, Need::None, "these two stores know each other");

    let _held = JobLock::take(&station.desk.home, "counts").unwrap();
    let look_at_it = || look(&station.desk, &job);
    let request = wanted(&job, &look_at_it);
    let busy = run_job(&station.desk, &station.surroundings, request, |_, _| ()).err().unwrap();
    assert_eq!((busy.code(), busy.halt), ("already-running", Halt::Refused));
}

/// A folder that the run made is the job's own from then on, also when there was nothing to bring: the next run must not take what
/// stands there then for it.
#[test]
fn a_destination_that_was_made_is_marked_though_nothing_was_brought() {
    let station = Station::new();
    let job = station.mirror("right/counts");
    assert_eq!(station.run(&job, &[]).1.outcome, Outcome::Done);
    assert!(station.has("right/counts/.reedhook/identity"));
    fs::remove_dir_all(station.folder.path().join("right/counts")).unwrap();
    let vanished = look(&station.desk, &job).err().unwrap();
    assert_eq!((vanished.code(), vanished.halt), ("destination-missing", Halt::Refused));
}

/// A run holds the lock of its own job, and of no other.
#[test]
fn what_was_cleared_for_another_job_is_not_carried_out() {
    let station = Station::new();
    let job = station.mirror("right");
    station.write("left/heron.csv", "heron,3");
    let other = Job::new("levels", job.keys.clone()).unwrap();
    let look_at_it = || look(&station.desk, &job);
    let request = wanted(&other, &look_at_it);
    let (_, result) = run_job(&station.desk, &station.surroundings, request, |_, _| ()).unwrap();
    assert_eq!(result.outcome, Outcome::Refused);
    assert!(!station.has("right/heron.csv"));
}
