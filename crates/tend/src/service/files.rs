//! Job files and settings, read anew whenever they change.

use std::time::{Instant, SystemTime};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::walk::Scope;
use reedhook_core::when::Trigger;
use reedhook_jobs::due;
use reedhook_jobs::jobfile::{Job, job_names, load_job};
use reedhook_jobs::settings::Settings;

use crate::happening::{Happening, Reason};
use crate::service::state::{Service, line_of};
use crate::tell::News;
use crate::tended::Tended;

impl Service {
    pub(super) fn settings_time(&self) -> Option<SystemTime> {
        std::fs::metadata(self.desk.home.settings_file()).and_then(|meta| meta.modified()).ok()
    }

    pub(super) fn read_settings(&mut self) {
        let time = self.settings_time();
        if time == self.settings_at {
            return;
        }
        self.settings_at = time;
        match Settings::load(&self.desk.home) {
            Ok(settings) => {
                self.desk.settings = settings;
                self.follow_places();
            }
            Err(failure) => self.note(format!("{}; the settings stay as they were", failure.message)),
        }
    }

    /// Reads everything anew.
    pub(super) fn reload(&mut self) {
        self.read_settings();
        self.read_jobs(false);
    }

    /// Reads all job files. One that cannot be read is told of once; what was known of it holds on.
    pub(super) fn read_jobs(&mut self, starts: bool) {
        let names = match job_names(&self.desk.home) {
            Ok(names) => names,
            Err(failure) => return self.jobs_unlisted(failure.text()),
        };
        self.unlisted = None;
        let before = self.summary();
        self.jobs.retain(|name, _| names.contains(name));
        self.broken.retain(|name, _| names.contains(name));
        for name in names {
            match load_job(&self.desk.home, &name) {
                Ok(job) => {
                    self.broken.remove(&name);
                    if self.jobs.get(&name).is_none_or(|known| known.job.keys != job.keys) {
                        self.take_job(name, job, starts);
                    }
                }
                Err(failure) => {
                    let text = failure.text();
                    if self.broken.get(&name) != Some(&text) {
                        let kept = if self.jobs.contains_key(&name) { " It goes on as it was." } else { "" };
                        self.note(format!("{text}{kept}"));
                        self.broken.insert(name, text);
                    }
                }
            }
        }
        self.follow_places();
        if !starts && self.summary() != before {
            self.tell_of_jobs();
        }
    }

    /// What was known of the jobs holds on while nobody can see which there are. That is told once.
    fn jobs_unlisted(&mut self, why: String) {
        if self.unlisted.as_ref() != Some(&why) {
            self.note(format!("{why} The jobs that are known go on as they were."));
            self.unlisted = Some(why);
        }
    }

    /// What is told of all jobs, to see whether it has changed.
    pub(super) fn summary(&self) -> Vec<(String, String)> {
        self.jobs.iter().map(|(name, tended)| (name.clone(), tended.job.timing.as_text())).collect()
    }

    /// Begins to follow a job, or follows it as it is now.
    pub(super) fn take_job(&mut self, name: String, job: Job, starts: bool) {
        let (clock, now, zone) = (self.now(), Instant::now(), (self.outside.zone)());
        let known = self.jobs.remove(&name);
        let same_lines = known.as_ref().is_some_and(|known| known.job.timing.when == job.timing.when);
        let first = known.is_none();
        let mut tended = Tended::new(job, clock);
        if let Some(known) = known {
            if same_lines {
                tended.upto = known.upto;
            }
            let same_places = (&known.job.from, &known.job.to) == (&tended.job.from, &tended.job.to);
            tended.places = known.places.filter(|_| same_places);
            (tended.there, tended.last) = (known.there, known.last);
            // What somebody has asked for stays wanted, and what still is due.
            let still_due = same_lines && !tended.job.timing.paused;
            tended.wanted = known.wanted.filter(|wanted| still_due || wanted.reason == Reason::Asked);
        }
        tended.reckon(&zone);
        if first && !tended.job.timing.when.is_empty() {
            self.owe(&mut tended, clock, &zone);
            if starts && tended.begins(Trigger::Start) && !tended.job.timing.paused {
                tended.want(Reason::Start, line_of(&tended, "start"), Scope::Everything, clock, now);
            }
        }
        self.jobs.insert(name, tended);
    }

    /// Wants what was missed while nobody followed the job.
    pub(super) fn owe(&mut self, tended: &mut Tended, clock: Timestamp, zone: &TimeZone) {
        let since = self
            .desk
            .home
            .record()
            .and_then(|record| due::settled_until(record.as_ref(), &self.desk.home, &tended.job, clock));
        let Ok(since) = since else { return };
        if tended.job.timing.paused {
            return;
        }
        if let Some(missed) = due::missed(&tended.job.timing, since, clock, zone) {
            tended.want(Reason::Missed, Some(missed.line), Scope::Everything, clock, Instant::now());
        }
    }

    /// Tells of jobs that have not run well for longer than they may, each once until it has run again.
    pub(super) fn remind(&mut self) {
        let clock = self.now();
        let home = &self.desk.home;
        let timed = self.jobs.values_mut().filter(|tended| tended.job.timing.remind_after.is_some());
        let (mut record, mut news) = (None, Vec::new());
        for tended in timed {
            if record.is_none() {
                record = home.record().ok();
            }
            let Some(record) = &record else { break };
            let overdue = due::overdue(record.as_ref(), home, &tended.job, clock).ok().flatten();
            let told = std::mem::replace(&mut tended.reminded, overdue.is_some());
            if let Some(overdue) = overdue.filter(|_| !told) {
                self.observer.observe(&Happening::Overdue { job: &tended.job.name, overdue });
                news.push((tended.job.clone(), overdue));
            }
        }
        for (job, overdue) in news {
            self.tell_others(&job.name, Some(News::of_overdue(&self.desk, &job, overdue)));
        }
    }

    pub(super) fn tell_of_jobs(&self) {
        self.observer.observe(&Happening::Tending(&self.state()));
    }
}
