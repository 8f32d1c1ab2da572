//! The loop of the service, and what it knows.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant, SystemTime};

use crossbeam_channel::{Receiver, Sender, bounded};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::filter::{Filter, FilterSpec};
use reedhook_core::walk::Scope;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::failure::{Cause, Failure, Outcome};
use reedhook_jobs::home::{make_folder, take_lock};
use reedhook_jobs::inventory::Took;
use reedhook_jobs::run_job::Surroundings;

use crate::happening::{Happening, ServiceObserver};
use crate::progress_feed::ProgressFeed;
use crate::protocol::{Request, Told, refusal};
use crate::runner::{Ending, Running};
use crate::service::countdown::Countdown;
use crate::service::drives::DriveScan;
use crate::service::looks::{Found, Looks, Subject};
use crate::socket::{self, Answer};
use crate::teller::Teller;
use crate::tended::{Follow, Tended};
use crate::watch::{self, Changed, Watch};
use crate::{signs, tell};

/// What else the world outside tells the service.
#[derive(Clone)]
pub struct Outside {
    /// The zone of the machine, as it is set now.
    pub zone: fn() -> TimeZone,
    /// Signals that were sent to the program.
    pub signs: Receiver<Sign>,
}

/// A signal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sign {
    /// It is to end.
    End,
    /// It is to read its files anew.
    Reload,
}

/// Everything that comes to the loop.
pub(super) enum News {
    /// A watch of this serial number has something to say.
    Watched(u64, watch::WatchNews),
    /// The jobs' folder has changed.
    JobFiles,
    /// Something was mounted or unmounted.
    Mounts,
    /// The clock was set, or the machine was away.
    Clock,
    /// Somebody has answered a job's question on the desktop.
    Answered(String, bool),
    /// Somebody asks for something.
    Asked(Request, Sender<Answer>),
    /// A run is over.
    Ended(String, Scope, Timestamp, Box<Ending>),
    /// A look has come back; nothing was found where that was a fault of ours.
    Seen(Subject, Option<Found>),
    /// A store has been looked through for its inventory; nothing came of it where that was a fault of ours.
    LookedThrough(String, Option<Box<Outcome<Took>>>),
}

/// So much may wait to be heard: then whoever has something to say waits.
pub(super) const QUEUE: usize = 1024;

/// Nothing is waited for longer: job files, mounts and zones are looked at anew, in case something was missed.
pub(super) const TICK: Duration = Duration::from_secs(60);

/// What is due and was not begun within this time was missed.
pub(super) const LATE: i64 = 90;

/// Both sides of a job that follows changes are looked at whole once in so many seconds.
pub(super) const WHOLE: i64 = 86_400;

/// Runs may take so long to end.
pub(super) const ENDING: Duration = Duration::from_millis(1800);

/// Before the machine goes to sleep it is looked so often whether anything still goes on.
pub(super) const STILL_BUSY: Duration = Duration::from_millis(100);

/// So long after a mount it is looked what there is.
pub(super) const GATHER_MOUNTS: Duration = Duration::from_millis(100);

/// After a mount, labels and automounters need a moment.
pub(super) const AFTER_MOUNT: Duration = Duration::from_secs(1);

/// A job file is read so long after it was written.
pub(super) const AFTER_WRITING: Duration = Duration::from_millis(200);

/// How many runs go on side by side, when the settings do not say.
pub(super) const SIDE_BY_SIDE: usize = 2;

/// The service.
pub struct Service {
    pub(super) desk: Desk,
    pub(super) outside: Outside,
    /// Everybody who hears, and those who look on through the socket.
    pub(super) observer: Arc<dyn ServiceObserver>,
    pub(super) progress_feed: Arc<ProgressFeed>,
    pub(super) jobs: BTreeMap<String, Tended>,
    pub(super) running: HashMap<String, Running>,
    /// What was said of job files that cannot be read.
    pub(super) broken: HashMap<String, String>,
    /// Why the jobs could not be listed the last time.
    pub(super) unlisted: Option<String>,
    pub(super) settings_at: Option<SystemTime>,
    pub(super) news: (Sender<News>, Receiver<News>),
    pub(super) serial: u64,
    pub(super) job_files: Option<Watch>,
    /// Mounts are looked at once more then.
    pub(super) look_again: Option<Instant>,
    /// And again after that.
    pub(super) look_twice: bool,
    /// When everything was last looked at.
    pub(super) ticked: Instant,
    /// Job files are read anew then.
    pub(super) read_again: Option<Instant>,
    /// Who tells others, and what is to be done when nothing goes on any more.
    pub(super) surroundings: Surroundings,
    pub(super) teller: Arc<Teller>,
    pub(super) countdown: Countdown,
    pub(super) since: Timestamp,
    pub(super) ends: bool,
    pub(super) told_full: bool,
    pub(super) drive_scan: DriveScan,
    pub(super) looks: Looks,
    /// More events than these at a time count as an overflow; for trials.
    pub(super) queue: usize,
    pub(super) _lock: File,
}

impl Service {
    /// Takes the place of the one service of a home.
    ///
    /// # Errors
    /// When there is one already.
    pub fn take_place(desk: Desk, outside: Outside, observer: Arc<dyn ServiceObserver>) -> Outcome<Service> {
        let Some(lock) = take_lock(&desk.home.state().join("tend.lock"))? else {
            return Err(Failure::refused(Cause::Tending, "the service is running already")
                .hint("`reedhook tend status` shows what it does; `reedhook tend stop` ends it."));
        };
        let queue = desk.world.text("REEDHOOK_WATCH_QUEUE").and_then(|text| text.parse().ok());
        let since = (desk.world.now)();
        let teller: Arc<Teller> = Arc::default();
        let progress_feed = Arc::new(ProgressFeed::new(observer, desk.world.zone.clone()));
        Ok(Service {
            outside,
            observer: progress_feed.clone(),
            progress_feed,
            jobs: BTreeMap::new(),
            running: HashMap::new(),
            broken: HashMap::new(),
            unlisted: None,
            settings_at: None,
            news: bounded(QUEUE),
            serial: 0,
            job_files: None,
            look_again: None,
            look_twice: false,
            ticked: Instant::now(),
            read_again: None,
            surroundings: Surroundings::with(teller.clone()),
            teller,
            countdown: Countdown::default(),
            since,
            ends: false,
            told_full: false,
            drive_scan: DriveScan::default(),
            looks: Looks::default(),
            queue: queue.unwrap_or(usize::MAX),
            _lock: lock,
            desk,
        })
    }

    /// Follows all jobs until it is to end.
    ///
    /// # Errors
    /// When it cannot begin.
    pub fn run(mut self) -> Outcome<()> {
        self.listen()?;
        self.settings_at = self.settings_time();
        self.read_jobs(true);
        self.tell_of_jobs();
        self.remind();
        self.tell_others("", None);
        let _ = sd_notify::notify(false, &[sd_notify::NotifyState::Ready]);
        let pat = self.watchdog();
        while !self.ends {
            self.fire();
            self.tell_of_silence();
            self.begin_what_may();
            self.finish();
            self.look_through_stores();
            let wait = self.wait().min(pat.unwrap_or(TICK));
            self.hear_for(wait);
            if pat.is_some() {
                let _ = sd_notify::notify(false, &[sd_notify::NotifyState::Watchdog]);
            }
        }
        self.end();
        Ok(())
    }

    /// How often the system wants a sign of life.
    pub(super) fn watchdog(&self) -> Option<Duration> {
        let microseconds: u64 = self.desk.world.text("WATCHDOG_USEC")?.parse().ok()?;
        Some(Duration::from_micros(microseconds / 2).max(Duration::from_millis(10)))
    }

    /// Opens all ears.
    pub(super) fn listen(&mut self) -> Outcome<()> {
        let failed = |what: &str| {
            let what = format!("cannot listen for {what}");
            move |error| Failure::own_files(&what, error)
        };
        let news = self.news.0.clone();
        signs::of_mounts(move || news.send(News::Mounts).is_ok()).map_err(failed("mounts"))?;
        let news = self.news.0.clone();
        signs::of_the_clock(move || news.send(News::Clock).is_ok()).map_err(failed("the clock"))?;
        let news = self.news.0.clone();
        let answer = move |request| {
            let (reply, answer) = bounded(1);
            let sent = news.send(News::Asked(request, reply)).is_ok();
            let answer = if sent { answer.recv_timeout(Duration::from_secs(8)).ok() } else { None };
            answer.unwrap_or_else(|| vec![refusal("the service is too busy to answer")])
        };
        let (progress_feed, ask) = (self.progress_feed.clone(), answer.clone());
        let watch = move |sink: &mut socket::Sink<'_>| {
            let mut reader = progress_feed.reader();
            loop {
                let read = progress_feed.read(&mut reader);
                // Where nothing happens that is told now and then: so both sides know that the other is there.
                let asks = read.stands_otherwise || read.lines.is_empty();
                if asks && let Some(stands) = stands(ask(Request::Status)) {
                    sink(&stands)?;
                }
                read.lines.iter().try_for_each(&mut *sink)?;
            }
        };
        socket::listen(self.desk.home.state(), answer, watch).map_err(failed("requests"))?;
        let folder = self.desk.home.jobs();
        if make_folder(&folder).is_ok()
            && let Ok(filter) = Filter::new(&FilterSpec::default(), self.desk.now())
        {
            let news = self.news.0.clone();
            let tell = move |heard| match heard {
                watch::WatchNews::Changed(_) => news.send(News::JobFiles).is_ok(),
                _ => true,
            };
            self.job_files = Watch::begin(folder, filter, usize::MAX, tell).ok();
        }
        Ok(())
    }

    pub(super) fn now(&self) -> Timestamp {
        (self.desk.world.now)()
    }

    pub(super) fn note(&self, text: impl std::fmt::Display) {
        self.observer.observe(&Happening::Note(&text.to_string()));
    }

    /// Sleeps until something is heard, at most for so long, and takes it.
    pub(super) fn hear_for(&mut self, wait: Duration) {
        let (news, signs) = (self.news.1.clone(), self.outside.signs.clone());
        crossbeam_channel::select! {
            recv(news) -> heard => if let Ok(heard) = heard { self.take(heard) },
            recv(signs) -> sign => match sign {
                Ok(Sign::Reload) => self.reload(),
                Ok(Sign::End) | Err(_) => self.ends = true,
            },
            default(wait) => {}
        }
        // Whatever may have been missed is looked at now and then.
        if self.ticked.elapsed() >= TICK {
            self.ticked = Instant::now();
            self.reload();
            self.reckon_all();
            self.follow_places();
            self.remind();
            self.tell_others("", None);
        }
        while let Ok(heard) = self.news.1.try_recv() {
            self.take(heard);
        }
    }

    pub(super) fn take(&mut self, news: News) {
        match news {
            News::Watched(serial, heard) => self.watched(serial, heard),
            // Whoever writes one has not written all of it yet.
            News::JobFiles => self.read_again = Some(Instant::now() + AFTER_WRITING),
            News::Mounts => {
                // They come in swarms; and what belongs to one, its label above all, comes a little later.
                self.look_again.get_or_insert(Instant::now() + GATHER_MOUNTS);
                self.look_twice = true;
            }
            News::Clock => self.reckon_all(),
            News::Asked(request, reply) => {
                let asked = request == Request::Status;
                drop(reply.send(self.answer(request)));
                if !asked {
                    self.progress_feed.stands_otherwise();
                }
            }
            // It may have been answered elsewhere: then there is nothing to say any more.
            News::Answered(job, yes) => drop(self.answered(&job, yes)),
            News::Seen(subject, found) => self.seen(subject, found),
            News::LookedThrough(store, took) => self.looked_through(&store, took.map(|took| *took)),
            News::Ended(job, scope, due, ending) => {
                self.ended(&job, scope, due, *ending);
                self.progress_feed.stands_otherwise();
            }
        }
    }

    /// How long there is nothing to do.
    pub(super) fn wait(&self) -> Duration {
        let (clock, now) = (self.now(), Instant::now());
        let until = |at: Instant| at.saturating_duration_since(now);
        let again =
            [self.look_again, self.read_again, self.looks.patience_ends()].into_iter().flatten().map(until);
        let mut wait = again.min().unwrap_or(TICK).min(TICK.saturating_sub(self.ticked.elapsed()));
        if !self.surroundings.finale.is_empty() {
            wait = wait.min(STILL_BUSY);
        }
        for (name, tended) in &self.jobs {
            if let Some(due) = &tended.next {
                let left = Duration::try_from(due.at.duration_since(clock)).unwrap_or_default();
                wait = wait.min(left);
            }
            let idle = !self.running.contains_key(name);
            // What cannot begin now is no reason to wake.
            let may_look = idle && tended.wanted.is_none() && !tended.job.timing.paused;
            if let Some(quiet) = tended.quiet().filter(|_| may_look) {
                wait = tended.changes.ripe_at(quiet).map_or(wait, |at| wait.min(until(at)));
            }
            if let Some((at, _)) = tended.again.as_ref().filter(|_| idle) {
                wait = wait.min(until(*at));
            }
            for side in &tended.sides {
                if let Follow::Looked { at } = side.follow
                    && idle
                {
                    wait = wait.min(until(at));
                }
            }
        }
        wait
    }

    /// Ends all runs; they end whole. One that takes too long is left to the next start, which goes on from there.
    pub(super) fn end(&mut self) {
        let _ = sd_notify::notify(false, &[sd_notify::NotifyState::Stopping]);
        self.observer.observe(&Happening::Ending);
        let until = Instant::now() + ENDING;
        self.running.values().for_each(|running| running.stop.store(true, Ordering::Relaxed));
        self.end_drive_scan();
        while !self.running.is_empty() {
            match self.news.1.recv_deadline(until) {
                Ok(News::Ended(job, scope, due, ending)) => self.ended(&job, scope, due, *ending),
                Ok(News::Asked(_, reply)) => drop(reply.send(vec![refusal("the service is ending")])),
                Ok(_) => {}
                Err(_) => break,
            }
        }
        self.teller.end(until);
        socket::close(self.desk.home.state());
    }

    /// Lets others hear of something, when anybody wants to; of nothing but the time, a digest may be due.
    pub(super) fn tell_others(&self, job: &str, news: Option<tell::News>) {
        self.teller.tell(self.desk_for(job), news);
    }
}

/// An answer about how everything is, in one line.
pub(super) fn stands(answer: Answer) -> Option<Told> {
    let mut lines = answer.into_iter();
    let Some(Told::Tending(service)) = lines.next() else { return None };
    let job = |line| match line {
        Told::Tended(job) => Some(job),
        _ => None,
    };
    Some(Told::Stands { service, jobs: lines.filter_map(job).collect() })
}

pub(super) fn everything() -> Changed {
    Changed { folders: HashSet::new(), everything: true }
}

/// What a scope has seen, to be looked at again.
pub(super) fn kept(scope: &Scope) -> Changed {
    match scope {
        Scope::Everything => everything(),
        Scope::Within(folders) => Changed { folders: folders.iter().cloned().collect(), everything: false },
    }
}

/// The line of a job that speaks of a trigger.
pub(super) fn line_of(tended: &Tended, trigger: &str) -> Option<String> {
    let lines = tended.job.timing.when.iter().map(ToString::to_string);
    lines
        .into_iter()
        .find(|line| line.split_whitespace().nth(1).is_some_and(|word| word.eq_ignore_ascii_case(trigger)))
}
