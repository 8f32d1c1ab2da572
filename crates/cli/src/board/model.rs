//! The board as data: how jobs stand, what runs, what happened, and what a key means where. Nothing here reads a file or a clock.

pub use crate::board::shown::{BoardNews, Drive, Key, Live, Page, Place, Question, Said, Whose, Wish};

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::when::Finally;
use reedhook_jobs::observer::Finishing;
use reedhook_record::Outcome as RunOutcome;
use reedhook_report::figures::JobPart;
use reedhook_tend::protocol::{FinallyWord, JobState, JobWord, Told, WaitsFor};
use serde_json::Value;

use crate::board::shown::{NOT_MEANT_MS, Then};
use crate::board::words::{clean, end_words, finished_words};
use crate::failure::Outcome;
use crate::paint::Paint;
use crate::text::finishing_words;

/// So much of what happened is kept.
const HAPPENED: usize = 500;

/// Everything that is shown.
pub struct Board {
    pub paint: Paint,
    pub zone: TimeZone,
    pub now_ms: i64,
    pub jobs: Vec<JobPart>,
    pub drives: Vec<Drive>,
    /// Since when the service runs, when it does.
    pub service: Option<String>,
    /// What the service says of each job.
    pub states: HashMap<String, JobState>,
    pub live: BTreeMap<String, Live>,
    pub happened: VecDeque<Said>,
    pub place: Place,
    pub pages: Vec<Page>,
    pub question: Option<Question>,
    pub message: Option<String>,
    pub help: bool,
    /// Something was looked at already.
    pub looked: bool,
    /// Runs of which it was told that they are over.
    over: HashSet<String>,
    /// Runs that were over when the board was opened, and went well: nobody need be told.
    old: HashSet<String>,
    /// Questions that wait for their turn.
    asked: VecDeque<Question>,
}

impl Board {
    pub fn new(paint: Paint, zone: TimeZone) -> Board {
        Board {
            paint,
            zone,
            now_ms: 0,
            jobs: Vec::new(),
            drives: Vec::new(),
            service: None,
            states: HashMap::new(),
            live: BTreeMap::new(),
            happened: VecDeque::new(),
            place: Place::default(),
            pages: Vec::new(),
            question: None,
            message: None,
            help: false,
            looked: false,
            over: HashSet::new(),
            old: HashSet::new(),
            asked: VecDeque::new(),
        }
    }

    /// Shows the next question that has come, when no other one is shown.
    fn ask_next(&mut self) {
        if self.question.is_none()
            && let Some(next) = self.asked.pop_front()
        {
            self.question = Some(Question { came_ms: Some(self.now_ms), ..next });
        }
    }

    /// The job that is marked.
    pub fn here(&self) -> Option<&JobPart> {
        self.jobs.get(self.place.at)
    }

    /// Takes news.
    pub fn take(&mut self, news: BoardNews) {
        match news {
            BoardNews::Looked(jobs, drives) => self.looked_at(jobs, drives),
            BoardNews::Others(others) => {
                self.live.retain(|_, live| live.whose != Whose::Other);
                for (job, live) in others {
                    self.live.entry(job).or_insert(live);
                }
            }
            BoardNews::Service(told) => self.service_said(*told),
            BoardNews::ServiceGone => {
                if self.service.take().is_some() {
                    self.say("", "The service has gone.", true, self.now_ms);
                }
                self.states.clear();
                self.live.retain(|_, live| live.whose != Whose::Service);
            }
            BoardNews::Said(said) => self.happened_too(said),
            BoardNews::OwnEnded(job, run) => {
                self.live.remove(&job);
                self.over.insert(run);
            }
            BoardNews::Runs(job, rows) => {
                self.pages.retain(|page| !matches!(page, Page::Waiting(_)));
                self.pages.push(Page::Runs { job, rows, place: Place::default() });
            }
            BoardNews::Text(title, lines) => {
                self.pages.retain(|page| !matches!(page, Page::Waiting(_)));
                self.pages.push(Page::Text { title, lines, place: Place::default() });
            }
            BoardNews::Asks(job, lines, answer) => {
                let title = format!("{job}: go on?");
                self.asked.push_back(Question { title, lines, came_ms: None, then: Then::Consent(answer) });
                self.ask_next();
            }
            BoardNews::Failed(words) => {
                self.pages.retain(|page| !matches!(page, Page::Waiting(_)));
                self.message = Some(words);
            }
        }
    }

    /// Takes note of how far this board's own runs are; whether something is otherwise.
    pub fn take_own(&mut self, own: BTreeMap<String, Live>) -> bool {
        let known = self.live.iter().filter(|(_, live)| live.whose == Whose::Ours);
        let same = own.is_empty() && known.count() == 0;
        if !same {
            self.live.retain(|job, live| live.whose != Whose::Ours || own.contains_key(job));
            self.live.extend(own);
        }
        !same
    }

    /// Says what came of something that a key asked for.
    pub fn told(&mut self, outcome: Outcome<String>) {
        self.message = Some(outcome.unwrap_or_else(|failure| failure.to_string()));
    }

    fn say(&mut self, job: &str, words: impl Into<String>, is_bad: bool, at_ms: i64) {
        self.happened_too(Said { at_ms, job: job.to_owned(), words: clean(&words.into()), is_bad });
    }

    fn happened_too(&mut self, said: Said) {
        self.happened.push_back(said);
        if self.happened.len() > HAPPENED {
            self.happened.pop_front();
        }
    }

    fn looked_at(&mut self, jobs: Vec<JobPart>, drives: Vec<Drive>) {
        let here = self.here().map(|job| job.name.clone());
        for job in &jobs {
            let Some(last) = &job.last else { continue };
            if last.end.outcome == RunOutcome::Unfinished {
                continue;
            }
            // At first only what still deserves a look is news.
            if !self.looked && last.end.outcome == RunOutcome::Done {
                self.old.insert(last.run.clone());
                continue;
            }
            if !self.old.contains(&last.run) && self.over.insert(last.run.clone()) {
                let ended = last.started_ms + i64::try_from(last.end.elapsed.as_millis()).unwrap_or(0);
                let words = end_words(last);
                self.say(&job.name, words, last.end.outcome != RunOutcome::Done, ended);
            }
        }
        if !self.looked {
            self.happened.make_contiguous().sort_by_key(|said| said.at_ms);
        } else {
            self.tell_of_drives(&drives);
        }
        (self.jobs, self.drives, self.looked) = (jobs, drives, true);
        let at = here.and_then(|name| self.jobs.iter().position(|job| job.name == name));
        self.place.at = at.unwrap_or(self.place.at).min(self.jobs.len().saturating_sub(1));
    }

    fn tell_of_drives(&mut self, now: &[Drive]) {
        let there = |drives: &[Drive]| -> HashSet<String> {
            drives.iter().filter(|drive| drive.mount.is_some()).map(|drive| drive.name.clone()).collect()
        };
        let (before, after) = (there(&self.drives), there(now));
        for name in after.difference(&before) {
            self.say("", format!("{name} is connected."), false, self.now_ms);
        }
        for name in before.difference(&after) {
            self.say("", format!("{name} is away."), false, self.now_ms);
        }
    }

    /// How the service and all jobs are now.
    fn stands(&mut self, since: String, jobs: Vec<JobState>) {
        self.service = Some(since);
        self.states = jobs.into_iter().map(|state| (state.job.clone(), state)).collect();
        let states = &self.states;
        let running = |job: &str| states.get(job).is_some_and(|state| state.state == JobWord::Running);
        self.live.retain(|job, live| live.whose != Whose::Service || running(job));
    }

    fn service_said(&mut self, told: Told) {
        let now_ms = self.now_ms;
        let when = |at: &str| at.parse::<Timestamp>().map_or(now_ms, |at| at.as_millisecond());
        match told {
            Told::Stands { service, jobs } => self.stands(service.since, jobs),
            Told::Progress { job, seconds, looking, tally } => {
                let elapsed = Duration::try_from_secs_f64(seconds).unwrap_or_default();
                self.live.insert(job, Live { whose: Whose::Service, elapsed, looking, tally });
            }
            Told::Began { job, cause, at, .. } => {
                self.say(&job, format!("begins ({cause})"), false, when(&at));
            }
            Told::Finished(line) => {
                let text = |key: &str| line.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
                self.live.remove(&text("job"));
                // The record may have told of it already.
                if self.over.insert(text("run")) {
                    let at = when(&text("at"));
                    let job = text("job");
                    let (words, is_bad) = finished_words(&Value::Object(line));
                    self.say(&job, words, is_bad, at);
                }
            }
            Told::Problem(line) => {
                let text = |key: &str| line.get(key).and_then(Value::as_str).unwrap_or_default();
                let words = format!("{}  {}: {}", text("code"), text("path"), text("message"));
                self.say(text("job"), words, true, when(text("at")));
            }
            Told::Failure { job, message, at, .. } => self.say(&job, message, true, when(&at)),
            Told::Overdue { job, at, .. } => self.say(&job, "is overdue", true, when(&at)),
            Told::Note { job, message, at } => {
                self.say(&job.unwrap_or_default(), message, false, when(&at));
            }
            Told::Finally { job, state, what, message, seconds, at } => {
                let what = what.unwrap_or(Finally::Nothing);
                let left = Duration::from_secs(seconds.unwrap_or(0));
                let behind = message.unwrap_or_default();
                let finishing = match state {
                    FinallyWord::Waits => Finishing::Waits { what, behind: &behind },
                    FinallyWord::CountsDown => Finishing::CountsDown { what, left },
                    FinallyWord::LeftOn => Finishing::LeftOn,
                };
                let no = format!("To leave it on: reedhook tend answer {job} no");
                self.say(&job, finishing_words(&finishing, &no), false, when(&at));
            }
            _ => {}
        }
    }

    /// What a key asks for, here.
    pub fn press(&mut self, key: Key) -> Vec<Wish> {
        self.message = None;
        if self.help {
            self.help = false;
            return Vec::new();
        }
        if let Some(question) = self.question.take() {
            let wishes = self.answered(question, key);
            self.ask_next();
            return wishes;
        }
        match self.pages.last_mut() {
            None => self.in_jobs(key),
            Some(page) => {
                let (wishes, stays) = page.press(key);
                if !stays {
                    self.pages.pop();
                }
                if !wishes.is_empty() {
                    self.pages.push(Page::Waiting("reading the log".to_owned()));
                }
                wishes
            }
        }
    }

    fn answered(&mut self, question: Question, key: Key) -> Vec<Wish> {
        let too_soon = question.came_ms.is_some_and(|came| self.now_ms - came < NOT_MEANT_MS);
        let yes = match key {
            _ if too_soon => {
                self.question = Some(question);
                return Vec::new();
            }
            Key::Letter('y' | 'Y') => true,
            Key::Letter('n' | 'N' | 'q') | Key::Back => false,
            _ => {
                self.question = Some(question);
                return Vec::new();
            }
        };
        match (question.then, yes) {
            (Then::Wish(wish), true) => vec![wish],
            (Then::Consent(answer), yes) => vec![Wish::Consent(answer, yes)],
            (Then::End, true) => vec![Wish::End],
            (_, false) => Vec::new(),
        }
    }

    fn in_jobs(&mut self, key: Key) -> Vec<Wish> {
        let name = self.here().map(|job| job.name.clone());
        match (key, name) {
            (Key::Letter('q') | Key::Back, _) => self.asked_to_end(),
            (Key::Letter('?'), _) => {
                self.help = true;
                Vec::new()
            }
            (Key::Letter('l'), _) => vec![Wish::Look],
            (Key::Letter('h'), _) => {
                let lines = self.happened.iter().rev().map(|said| self.said_line(said)).collect();
                self.pages.push(Page::Text {
                    title: "What happened, the newest first".to_owned(),
                    lines,
                    place: Place::default(),
                });
                Vec::new()
            }
            (Key::Letter(letter), Some(job)) => self.of_job(letter, job),
            (Key::Open, Some(job)) => {
                self.pages.push(Page::Waiting(format!("the runs of {job}")));
                vec![Wish::Runs(job)]
            }
            (key, _) => {
                self.place.press(key, self.jobs.len());
                Vec::new()
            }
        }
    }

    fn asked_to_end(&mut self) -> Vec<Wish> {
        let ours: Vec<String> = self
            .live
            .iter()
            .filter(|(_, live)| live.whose == Whose::Ours)
            .map(|(job, _)| job.clone())
            .collect();
        if ours.is_empty() {
            return vec![Wish::End];
        }
        let lines = vec![
            format!("{} runs in this board, and would be stopped.", ours.join(", ")),
            "What was done stays whole; the next run goes on from there.".to_owned(),
        ];
        self.question = Some(Question { title: "End?".to_owned(), lines, came_ms: None, then: Then::End });
        Vec::new()
    }

    fn of_job(&mut self, letter: char, job: String) -> Vec<Wish> {
        let live = self.live.get(&job).map(|live| live.whose);
        let asks = self.states.get(&job).is_some_and(|state| state.waits == Some(WaitsFor::Answer));
        let mut ask = |title: String, lines: Vec<String>, wish: Wish| {
            self.question = Some(Question { title, lines, came_ms: None, then: Then::Wish(wish) });
            Vec::new()
        };
        match letter {
            'r' if live.is_some() => {
                self.message = Some(format!("{job} is running already."));
                Vec::new()
            }
            'r' => {
                let by_service = self.service.is_some();
                let who =
                    if by_service { "The service runs it." } else { "This board runs it: keep it open." };
                let lines = vec![format!("Run {job} now? {who}")];
                ask(format!("Run {job}?"), lines, Wish::Run(job, by_service))
            }
            's' => match live {
                None => {
                    self.message = Some(format!("{job} is not running."));
                    Vec::new()
                }
                Some(Whose::Other) => {
                    self.message = Some(format!("{job} runs in another program: stop it there."));
                    Vec::new()
                }
                Some(whose) => {
                    let lines =
                        vec!["What was done stays whole; the next run goes on from there.".to_owned()];
                    ask(format!("Stop the run of {job}?"), lines, Wish::Halt(job, whose))
                }
            },
            'v' => {
                self.pages.push(Page::Waiting(format!("looking at both sides of {job}")));
                vec![Wish::Preview(job)]
            }
            'p' => vec![Wish::Pause(job)],
            'y' | 'n' if asks => vec![Wish::Answer(job, letter == 'y')],
            'y' | 'n' => {
                self.message = Some(format!("{job} does not ask for anything."));
                Vec::new()
            }
            _ => Vec::new(),
        }
    }

    /// Something that happened, as a line.
    pub fn said_line(&self, said: &Said) -> String {
        let at = crate::text::written(said.at_ms, &self.zone, "%m-%d %H:%M:%S");
        let name = crate::text::elided(&said.job, 28);
        let job = if name.is_empty() { name } else { format!("{name}  ") };
        format!("{at}  {job}{}", said.words)
    }
}

impl Page {
    /// What a key asks for, and whether the page stays.
    fn press(&mut self, key: Key) -> (Vec<Wish>, bool) {
        if matches!(key, Key::Back | Key::Letter('q')) {
            return (Vec::new(), false);
        }
        match self {
            Page::Waiting(_) => (Vec::new(), true),
            Page::Text { lines, place, .. } => {
                let height = place.height.max(1);
                place.press(key, (lines.len() + 1).saturating_sub(height).max(1));
                (Vec::new(), true)
            }
            Page::Runs { rows, place, .. } => match (key, rows.get(place.at)) {
                (Key::Open, Some(run)) => (vec![Wish::Items(Box::new(run.clone()))], true),
                _ => {
                    place.press(key, rows.len());
                    (Vec::new(), true)
                }
            },
        }
    }
}
