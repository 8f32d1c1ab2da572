//! One job as the service has it: what is due next, what has changed, what is wanted. No clock and no thread is in here.

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use reedhook_core::path::RelPath;
use reedhook_core::store::Place;
use reedhook_core::walk::Scope;
use reedhook_core::when::{Rule, Trigger};
use reedhook_jobs::due::{self, Due};
use reedhook_jobs::jobfile::Job;
use reedhook_stores::drives;

use crate::happening::{Reason, Waiting};
use crate::watch::{Changed, Watch};

/// Under steady change a look comes after so many times the quiet that is waited for.
const STEADY: u32 = 10;

/// How often a side is looked at that cannot be watched, when the job has no line that says it.
const LOOK_EVERY: Duration = Duration::from_secs(300);

/// A run that is wanted.
#[derive(Debug, Clone)]
pub(crate) struct Wanted {
    pub reason: Reason,
    /// The line that says so.
    pub line: Option<String>,
    /// How much has to be looked at.
    pub scope: Scope,
    /// Since when.
    pub since: Instant,
    /// What was due is settled with this run.
    pub due: Timestamp,
    /// Somebody has said yes to it, or need not.
    pub answered: bool,
    /// It is known that there is something to do.
    pub looked: bool,
    /// What has changed is what a run has just written, as far as is known.
    pub echo: bool,
}

impl Wanted {
    /// A run that was wanted once already.
    pub fn later(reason: Reason, scope: Scope, due: Timestamp, since: Instant) -> Wanted {
        Wanted { reason, line: None, scope, since, due, answered: true, looked: false, echo: false }
    }
}

/// What has changed since the last look.
#[derive(Debug, Default)]
pub(crate) struct Changes {
    changed: Changed,
    /// When it began, and when the last of it was heard.
    since: Option<(Instant, Instant)>,
}

impl Changes {
    /// Takes note of changes.
    pub fn add(&mut self, changed: Changed, now: Instant) {
        if changed.is_empty() {
            return;
        }
        self.keep(changed);
        self.since = Some((self.since.map_or(now, |(first, _)| first), now));
    }

    /// Takes note of what the next look has to see, whenever that is.
    pub fn keep(&mut self, changed: Changed) {
        self.changed.everything |= changed.everything;
        match self.changed.everything {
            true => self.changed.folders.clear(),
            false => self.changed.folders.extend(changed.folders),
        }
    }

    /// When the sides will have been quiet long enough, or something has changed for too long.
    pub fn ripe_at(&self, quiet: Duration) -> Option<Instant> {
        self.since.map(|(first, last)| (last + quiet).min(first + quiet * STEADY))
    }

    /// When the first of it was heard.
    pub fn since(&self) -> Option<Instant> {
        self.since.map(|(first, _)| first)
    }

    /// Hands over what has to be looked at.
    pub fn take(&mut self) -> Scope {
        self.since = None;
        let Changed { folders, everything } = std::mem::take(&mut self.changed);
        if everything { Scope::Everything } else { Scope::within(&folders) }
    }
}

/// How a side is followed.
pub(crate) enum Follow {
    /// Its folder is not there now.
    Absent,
    /// The kernel tells.
    Watched(Watched),
    /// It is looked at every so often.
    Looked { at: Instant },
}

/// A side that is watched.
pub(crate) struct Watched {
    /// What is watched: another folder of that name, or something mounted in it, is another watch.
    pub what: Watchable,
    /// So many folders, once nothing is missed.
    pub ready: Option<usize>,
    pub _watch: Watch,
}

/// A folder as it is there now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Watchable {
    pub root: PathBuf,
    /// Its device and its number there.
    identity: (u64, u64),
    mounts: Vec<PathBuf>,
}

impl Watchable {
    /// What is there of a folder; `None` when it is not.
    pub fn of(root: &Path) -> Option<Watchable> {
        let meta = std::fs::metadata(root).ok().filter(std::fs::Metadata::is_dir)?;
        let mounts = drives::mount_points_in(&root.canonicalize().ok()?).ok()?;
        Some(Watchable { root: root.to_owned(), identity: (meta.dev(), meta.ino()), mounts })
    }
}

/// A side whose changes make a run.
pub(crate) struct Followed {
    /// Where it lands in the tree that the job reads.
    pub prefix: RelPath,
    pub follow: Follow,
    /// Tells its watch from earlier ones.
    pub serial: u64,
    /// Why its watch has ended, until it was looked whether it is still there.
    pub unwatchable: Option<String>,
}

/// What came of the last run.
#[derive(Debug, Default)]
pub(crate) struct Last {
    /// The conflicts and problems that were told already.
    pub troubles: HashSet<u64>,
    pub failure: Option<&'static str>,
    /// When it ended.
    pub at: Option<Instant>,
}

/// A job as the service has it.
pub(crate) struct Tended {
    pub job: Job,
    /// Nothing that was due until then is still to come.
    pub upto: Timestamp,
    pub next: Option<Due>,
    /// Where it works, once that was looked at.
    pub places: Option<Vec<Place>>,
    /// What its places are on, as far as they are there.
    pub there: Vec<Option<String>>,
    pub changes: Changes,
    pub sides: Vec<Followed>,
    pub wanted: Option<Wanted>,
    /// What is tried again later, and how often that was done.
    pub again: Option<(Instant, Wanted)>,
    pub tries: u32,
    /// How often in a row a run that follows changes did not do all that it was to do.
    pub setbacks: u32,
    pub last: Last,
    /// When both sides were last looked at whole.
    pub whole_at: Option<Timestamp>,
    /// What was told of its waiting.
    pub told: Option<Waiting>,
    /// It was told that it is overdue.
    pub reminded: bool,
}

impl Tended {
    /// A job of which nothing is known yet.
    pub fn new(job: Job, upto: Timestamp) -> Tended {
        Tended {
            job,
            upto,
            next: None,
            places: None,
            there: Vec::new(),
            changes: Changes::default(),
            sides: Vec::new(),
            wanted: None,
            again: None,
            tries: 0,
            setbacks: 0,
            last: Last::default(),
            whole_at: None,
            told: None,
            reminded: false,
        }
    }

    /// Works out what is due next.
    pub fn reckon(&mut self, zone: &TimeZone) {
        self.next = due::next(&self.job.timing.when, self.upto, zone);
    }

    /// How long the sides must be quiet after a change; `None` when changes make no run.
    pub fn quiet(&self) -> Option<Duration> {
        let quiet = |trigger| match trigger {
            Trigger::Change { quiet } => Some(quiet),
            _ => None,
        };
        self.job.timing.triggers().filter_map(quiet).min()
    }

    /// Whether it has a trigger.
    pub fn begins(&self, on: Trigger) -> bool {
        self.job.timing.triggers().any(|trigger| trigger == on)
    }

    /// How often a side is looked at that cannot be watched.
    pub fn look_every(&self) -> Duration {
        let every = self.job.timing.when.iter().filter_map(|line| match line.rule() {
            Rule::Every { seconds, .. } => Some(Duration::from_secs(u64::from(*seconds))),
            _ => None,
        });
        every.min().unwrap_or(LOOK_EVERY)
    }

    /// Wants a run. What is wanted already has to see more, perhaps, and need not be asked for.
    pub fn want(&mut self, reason: Reason, line: Option<String>, scope: Scope, due: Timestamp, now: Instant) {
        let asked = reason == Reason::Asked;
        match &mut self.wanted {
            Some(wanted) => {
                wanted.answered |= asked;
                wanted.looked &= reason == Reason::Change;
                wanted.echo = false;
                wanted.scope = Scope::Everything;
                wanted.due = wanted.due.max(due);
                if asked || wanted.reason == Reason::Change {
                    (wanted.reason, wanted.line) = (reason, line);
                }
            }
            None => {
                let answered = asked || !self.job.timing.ask;
                self.wanted = Some(Wanted {
                    reason,
                    line,
                    scope,
                    since: now,
                    due,
                    answered,
                    looked: false,
                    echo: false,
                });
            }
        }
    }

    /// What has changed and was not carried is looked at again, though nothing changes any more: after a while, and each time after twice
    /// as long, for what a run could not do is told each time.
    pub fn set_back(&mut self, due: Timestamp, now: Instant) {
        const LONGEST: Duration = Duration::from_secs(86_400);
        let wait = self.look_every().saturating_mul(1 << self.setbacks.min(8)).min(LONGEST);
        self.setbacks += 1;
        self.look_later(wait, due, now);
    }

    /// Looks at everything after a while, where changes make a run.
    pub fn look_later(&mut self, wait: Duration, due: Timestamp, now: Instant) {
        if self.quiet().is_some() {
            let wanted = Wanted::later(Reason::Change, Scope::Everything, due, now);
            self.again = Some((now + wait, wanted));
        }
    }

    /// Takes note of what a watch has heard at one of its sides.
    pub fn heard(&mut self, side: usize, changed: Changed, now: Instant) {
        let Some(prefix) = self.sides.get(side).map(|side| side.prefix.clone()) else { return };
        let folders: HashSet<RelPath> =
            changed.folders.iter().map(|folder| prefix.join_path(folder)).collect();
        // Names that are spelled otherwise there cannot be told by path.
        let everything = changed.everything
            || (self.job.rules.odd_names == reedhook_core::job::OddNames::Encode && !folders.is_empty());
        self.changes.add(Changed { folders, everything }, now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_are_ripe_when_it_is_quiet_or_has_gone_on_for_too_long() {
        let (mut changes, begin) = (Changes::default(), Instant::now());
        let quiet = Duration::from_secs(5);
        let at = |seconds| begin + Duration::from_secs(seconds);
        let one = |path: &str| Changed {
            folders: HashSet::from([RelPath::new(path.as_bytes()).unwrap_or_default()]),
            everything: false,
        };
        assert_eq!(changes.ripe_at(quiet), None);
        changes.keep(one("kept"));
        assert_eq!(changes.ripe_at(quiet), None, "what is only kept makes no look");
        changes.add(one("north"), at(0));
        assert_eq!(changes.ripe_at(quiet), Some(at(5)));
        for second in 1..100 {
            changes.add(one("south"), at(second));
            assert_eq!(changes.ripe_at(quiet), Some(at((second + 5).min(50))), "{second}");
        }
        let folders =
            ["kept", "north", "south"].map(|path| RelPath::new(path.as_bytes()).unwrap_or_default());
        assert_eq!(changes.take(), Scope::within(&folders));
        assert_eq!(changes.ripe_at(quiet), None);
        changes.add(Changed { everything: true, ..Changed::default() }, at(0));
        changes.add(one("north"), at(1));
        assert!(changes.take().is_everything());
    }
}
