//! What a key of the board asks for, done on threads of their own: looking into runs, previews, words with the service, and runs of this
//! board's own where there is no service.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use crossbeam_channel::{Sender, bounded};
use reedhook_jobs::asking::Secrets;
use reedhook_jobs::clear::Need;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Cause, Failure, Outcome};
use reedhook_jobs::finally;
use reedhook_jobs::jobfile::load_job;
use reedhook_jobs::look::{glance, look};
use reedhook_jobs::observer::{Event, Finishing, Nobody, Observer};
use reedhook_jobs::preview::Preview;
use reedhook_jobs::run::Sort;
use reedhook_jobs::run_job::{Origin, RunRequest, Surroundings, run_job};
use reedhook_jobs::tally::{Progress, Said};
use reedhook_record::{Outcome as RunOutcome, RunRow};
use reedhook_report::plain::without_style;
use reedhook_tend::protocol::{Request, Told};
use reedhook_tend::{pending, socket};

use super::model;
use crate::board::shown::{BoardNews, Live, Whose, Wish};
use crate::commands::history::run_text;
use crate::commands::preview;
use crate::render;
use crate::text::{finishing_words, result_of};

/// So many runs of a job are listed.
const RUNS: u32 = 2000;

/// So many items of a run are listed.
const ITEMS: usize = 20_000;

/// Runs of this board may take so long to end when it is closed.
const ENDING: Duration = Duration::from_secs(10);

/// A run of this board.
struct Own {
    stop: Arc<AtomicBool>,
    progress: Progress,
}

type Owns = Arc<Mutex<BTreeMap<String, Own>>>;

fn lock(owns: &Owns) -> MutexGuard<'_, BTreeMap<String, Own>> {
    owns.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Who does it.
pub struct Worker {
    desk: Desk,
    news: Sender<BoardNews>,
    own: Owns,
    surroundings: Surroundings,
}

impl Worker {
    pub fn new(desk: &Desk, surroundings: &Surroundings, news: Sender<BoardNews>) -> Worker {
        // A secret that is kept nowhere cannot be typed here: the screen is taken.
        let secrets = Arc::new(Secrets::asking(|_| Ok(None)));
        let desk = Desk { observer: Arc::new(Nobody), secrets, ..desk.clone() };
        Worker { desk, news, own: Owns::default(), surroundings: surroundings.clone() }
    }

    /// How far this board's own runs are.
    pub fn live(&self) -> BTreeMap<String, Live> {
        let of = |own: &Own| Live {
            whose: Whose::Ours,
            elapsed: own.progress.since.elapsed(),
            looking: own.progress.looking,
            tally: own.progress.tally.glimpse(3),
        };
        lock(&self.own).iter().map(|(job, own)| (job.clone(), of(own))).collect()
    }

    /// Does what is wished.
    pub fn ask(&self, wish: Wish) {
        match wish {
            Wish::Run(job, false) => self.run(job),
            Wish::Halt(job, Whose::Ours) => {
                if let Some(own) = lock(&self.own).get(&job) {
                    own.stop.store(true, Ordering::Relaxed);
                }
            }
            Wish::Consent(answer, yes) => drop(answer.send(yes)),
            wish => {
                let (desk, news) = (self.desk.clone(), self.news.clone());
                let work = move || {
                    let came = work(&desk, wish)
                        .unwrap_or_else(|failure| Some(BoardNews::Failed(failure.to_string())));
                    came.into_iter().for_each(|came| drop(news.send(came)));
                };
                std::thread::spawn(work);
            }
        }
    }

    fn run(&self, job: String) {
        let stop = Arc::new(AtomicBool::new(false));
        let own = Own { stop: stop.clone(), progress: Progress::begins() };
        lock(&self.own).insert(job.clone(), own);
        let ear = Ear { job: job.clone(), own: self.own.clone(), news: self.news.clone() };
        let desk = Desk { stop, observer: Arc::new(ear), waited: Arc::default(), ..self.desk.clone() };
        let (own, news, surroundings) = (self.own.clone(), self.news.clone(), self.surroundings.clone());
        let board = self.desk.clone();
        std::thread::spawn(move || {
            let ended = run(&desk, &surroundings, &job, &news);
            lock(&own).remove(&job);
            let (run, words, is_bad) = match ended {
                Ok((run, words, is_bad)) => (run, words, is_bad),
                Err(failure) => (String::new(), failure.to_string(), true),
            };
            let _ = news.send(BoardNews::OwnEnded(job.clone(), run));
            let at_ms = crate::clock::now_ms();
            let _ = news.send(BoardNews::Said(model::Said { at_ms, job: job.clone(), words, is_bad }));
            // The board may stay open all night; who closes it leaves the machine on.
            let desk =
                Desk { observer: Arc::new(AtTheEnd { job, news, said: AtomicBool::new(false) }), ..board };
            finally::carry_out(&desk, &surroundings.finale, &|| pending::of(&desk));
        });
    }

    /// Ends this board's own runs, and waits for them: they end whole.
    pub fn end(&self) {
        lock(&self.own).values().for_each(|own| own.stop.store(true, Ordering::Relaxed));
        let begun = Instant::now();
        while !lock(&self.own).is_empty() && begun.elapsed() < ENDING {
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

/// Counts what happens in a run of this board.
struct Ear {
    job: String,
    own: Owns,
    news: Sender<BoardNews>,
}

impl Ear {
    fn say(&self, words: String, is_bad: bool) {
        let (at_ms, job) = (crate::clock::now_ms(), self.job.clone());
        let _ = self.news.send(BoardNews::Said(model::Said { at_ms, job, words, is_bad }));
    }
}

impl Observer for Ear {
    fn observe(&self, event: &Event<'_>) {
        let mut own = lock(&self.own);
        let Some(run) = own.get_mut(&self.job) else { return };
        let said = match run.progress.take(event) {
            Some(Said::Problem(problem)) => {
                (format!("{}  {}: {}", problem.code.as_str(), problem.path, problem.message), true)
            }
            Some(Said::Note(text)) => (text.to_owned(), false),
            None => return,
        };
        drop(own);
        self.say(said.0, said.1);
    }
}

/// Says on the board that the machine is about to go down.
struct AtTheEnd {
    job: String,
    news: Sender<BoardNews>,
    /// The countdown has been told.
    said: AtomicBool,
}

impl Observer for AtTheEnd {
    fn observe(&self, event: &Event<'_>) {
        let words = match event {
            Event::Finishing(Finishing::CountsDown { .. }) if self.said.swap(true, Ordering::Relaxed) => {
                return;
            }
            Event::Finishing(finishing) => finishing_words(finishing, "q leaves it on."),
            Event::Note(text) => (*text).to_owned(),
            _ => return,
        };
        let said = model::Said { at_ms: crate::clock::now_ms(), job: self.job.clone(), words, is_bad: false };
        let _ = self.news.send(BoardNews::Said(said));
    }
}

/// Carries a job out; gives the run's name, what came of it, and whether that is bad.
fn run(
    desk: &Desk,
    surroundings: &Surroundings,
    name: &str,
    news: &Sender<BoardNews>,
) -> Outcome<(String, String, bool)> {
    let job = load_job(&desk.home, name)?;
    let mut consent = |preview: &Preview, need: Need| agree(desk, preview, need, news);
    let request = RunRequest {
        job: &job,
        sort: Sort::Job,
        origin: Origin::Asked,
        look: &|| look(desk, &job),
        lifted: &[],
        consent: &mut consent,
    };
    let (_, result) = run_job(desk, surroundings, request, |_, _| ())?;
    let words = match &result.failure {
        Some(failure) => failure.to_string(),
        None => result_of(&result.as_end()),
    };
    Ok((result.run.clone(), words, result.outcome != RunOutcome::Done))
}

/// Asks whoever sits before the board about what would be removed.
fn agree(desk: &Desk, preview: &Preview, need: Need, news: &Sender<BoardNews>) -> Outcome<()> {
    if need == Need::None {
        return Ok(());
    }
    let mut lines = vec!["This would be removed, or put among the kept copies:".to_owned(), String::new()];
    for destination in preview.destinations.iter().filter(|destination| destination.plan.counts().removed > 0)
    {
        let place = destination.to.shown(&desk.home);
        lines.push(format!("{} in {place}", render::removal_words(preview, destination)));
    }
    let (answer, answered) = bounded(1);
    let asked = news.send(BoardNews::Asks(preview.job.name.clone(), lines, answer)).is_ok();
    let yes = asked
        && desk.asking(|| {
            loop {
                match answered.recv_timeout(Duration::from_millis(100)) {
                    Ok(yes) => break yes,
                    Err(crossbeam_channel::RecvTimeoutError::Timeout) if !desk.is_stopped() => {}
                    Err(_) => break false,
                }
            }
        });
    match yes {
        true => Ok(()),
        false => Err(Failure::refused(Cause::NotAgreed, "cancelled; nothing was changed")),
    }
}

fn work(desk: &Desk, wish: Wish) -> Outcome<Option<BoardNews>> {
    let request = |request: &Request| ask_service(desk, request).map(|()| None);
    match wish {
        Wish::Run(job, _) => request(&Request::Run { job }),
        Wish::Halt(job, _) => request(&Request::Halt { job }),
        Wish::Answer(job, yes) => request(&Request::Answer { job, yes }),
        Wish::Runs(job) => {
            let rows = desk.home.record()?.runs(Some(&job), RUNS)?;
            Ok(Some(match rows.is_empty() {
                true => BoardNews::Failed(format!("{job} has never run.")),
                false => BoardNews::Runs(job, rows),
            }))
        }
        Wish::Items(run) => items(desk, &run).map(Some),
        Wish::Preview(job) => {
            let job = load_job(&desk.home, &job)?;
            let preview = glance(desk, &job)?;
            let refusal = preview.refusal(&[], &desk.home);
            let text = preview::text(&desk.home, &preview, false, refusal.as_ref());
            Ok(Some(BoardNews::Text(format!("{}: what a run would do", job.name), lines_of(&text))))
        }
        Wish::End | Wish::Look | Wish::Pause(_) | Wish::Consent(..) => Ok(None),
    }
}

fn items(desk: &Desk, run: &RunRow) -> Outcome<BoardNews> {
    let text = run_text(desk, run, ITEMS)?;
    Ok(BoardNews::Text(format!("{} run {}", run.job, run.number), lines_of(&text)))
}

/// A text as lines without styles, and without what a terminal would obey.
fn lines_of(text: &str) -> Vec<String> {
    let clean = |line: &str| line.chars().map(|c| if c.is_control() { '?' } else { c }).collect();
    without_style(text).lines().map(clean).collect()
}

/// Asks the service for something.
fn ask_service(desk: &Desk, request: &Request) -> Outcome<()> {
    let failed = |why: String| Failure::refused(Cause::NotTending, why);
    let answer = socket::ask(desk.home.state(), request)
        .map_err(|error| failed(error.to_string()))?
        .ok_or_else(|| failed("the service is not running".to_owned()))?;
    match answer.into_iter().find(|line| matches!(line, Told::Refused { .. })) {
        Some(Told::Refused { message }) => Err(Failure::usage(message)),
        _ => Ok(()),
    }
}
