//! A job: what its keys mean.

use reedhook_core::entry::Stamp;
use reedhook_core::filter::{Filter, FilterSpec, TakeOrSkip};
use reedhook_core::job::{
    ConflictPolicy, Conflicts, JobRules, Kind, Newer, OddNames, Owners, Preserve, Removals, Removed,
    Replaced, Verify,
};
use reedhook_core::limit::{Limit, Limits};
use reedhook_core::plan::two_way::Policies;
use reedhook_core::units::{Age, Moment, Room, Share};
use reedhook_core::when::{Finally, Missed, OnBattery, Retry, Rule, Trigger, When};

use crate::address::refuse_secret_in;
use crate::failure::{Cause, Failure, Outcome};
use crate::home::{Home, write_file};
use crate::jobfile::keys::{ConflictFor, JobKeys};

/// The name under which runs without a job are remembered.
pub const ONCE: &str = "once";

/// Keys of the other kinds of job are a slip, and would have no effect.
pub(crate) fn check_fit(name: &str, kind: Kind, keys: &JobKeys) -> Outcome<()> {
    let one_way =
        [("from", !keys.from.is_empty()), ("to", !keys.to.is_empty()), ("newer", keys.newer.is_some())];
    let two_way = [
        ("left", keys.left.is_some()),
        ("right", keys.right.is_some()),
        ("conflict", keys.conflict.is_some()),
        ("conflict_for", !keys.conflict_for.is_empty()),
        ("removals", keys.removals.is_some()),
    ];
    let (strange, hint) = if kind == Kind::TwoWay {
        (one_way.into_iter().find(|(_, given)| *given), "A two-way job has left and right.")
    } else {
        (
            two_way.into_iter().find(|(_, given)| *given),
            "That key belongs to two-way jobs; this one has from and to.",
        )
    };
    if kind == Kind::TwoWay && keys.preserve == Some(Preserve::Full) {
        let words =
            format!("job \"{name}\" is a two-way job, and those carry no owners, lists and second names");
        return Err(Failure::usage(format!("{words}: preserve = \"full\" is for mirror and copy"))
            .hint("Leave preserve out: modes, times and links are carried in both directions."));
    }
    match strange {
        Some((key, _)) => {
            Err(Failure::usage(format!("job \"{name}\" is a {kind} and has no \"{key}\"")).hint(hint))
        }
        None => Ok(()),
    }
}

/// Refuses limits between which nothing fits.
pub(crate) fn check_limits(name: &str, keys: &JobKeys) -> Outcome<()> {
    let sizes = matches!((keys.min_size, keys.max_size), (Some(min), Some(max)) if min.bytes() > max.bytes());
    let times = match (&keys.newer_than, &keys.older_than) {
        (Some(Moment::Ago(since)), Some(Moment::Ago(until))) => since.duration() < until.duration(),
        (Some(Moment::Date(since)), Some(Moment::Date(until))) => since >= until,
        _ => false,
    };
    let (one, other) = match (sizes, times) {
        (true, _) => ("min_size", "max_size"),
        (_, true) => ("newer_than", "older_than"),
        _ => return Ok(()),
    };
    Err(Failure {
        cause: Cause::Contradiction,
        ..Failure::usage(format!("job \"{name}\": {one} and {other} leave nothing between them"))
    }
    .hint("No file would take part: change one of the two."))
}

/// What keys come to, with the defaults filled in.
pub(crate) fn rules(keys: &JobKeys, kind: Kind, filter: FilterSpec, conflict: Conflicts) -> JobRules {
    let two_way = kind == Kind::TwoWay;
    JobRules {
        kind,
        conflict,
        removals: keys.removals.unwrap_or(Removals::Carry),
        filter,
        newer: keys.newer.unwrap_or(Newer::Leave),
        removed: keys.removed.unwrap_or(Removed::Keep),
        replaced: keys.replaced.unwrap_or(Replaced::Keep),
        keep_for: keys.keep_for.unwrap_or_else(|| Age::from_days(30)),
        keep_max: keys.keep_max.unwrap_or(Room::Percent(10.0)),
        preserve: keys.preserve.unwrap_or(Preserve::Standard),
        odd_names: keys.odd_names.unwrap_or(OddNames::Report),
        owners: keys.owners.unwrap_or(Owners::Names),
        one_filesystem: keys.one_filesystem.unwrap_or(false),
        verify: keys.verify.unwrap_or(Verify::None),
        max_removals: keys.max_removals.unwrap_or(Share::Percent(25.0)),
        max_changes: keys.max_changes.unwrap_or(if two_way { Share::Percent(50.0) } else { Share::Off }),
        limit: Limits::new(keys.limit.iter().filter(|limit| **limit != Limit::OFF).cloned().collect()),
        polite: keys.polite.unwrap_or(false),
    }
}

/// When a job runs by itself, and what is done when that cannot be.
#[derive(Debug, Clone, PartialEq)]
pub struct Timing {
    /// Its lines.
    pub when: Vec<When>,
    /// What is done about what was missed.
    pub missed: Missed,
    /// It is pointed out when it has not run well for so long.
    pub remind_after: Option<Age>,
    /// An automatic start waits for a yes.
    pub ask: bool,
    /// How often what failed is tried again.
    pub retry: Option<Retry>,
    /// What happens on battery.
    pub on_battery: OnBattery,
    /// Nothing begins by itself.
    pub paused: bool,
    /// A timer of the system may wake the machine.
    pub wake: bool,
}

impl Timing {
    pub(crate) fn of(keys: &JobKeys) -> Timing {
        Timing {
            when: keys.when.clone(),
            missed: keys.missed.unwrap_or(Missed::Run),
            remind_after: keys.remind_after,
            ask: keys.ask.unwrap_or(false),
            retry: keys.retry,
            on_battery: keys.on_battery.unwrap_or(OnBattery::Run),
            paused: keys.paused.unwrap_or(false),
            wake: keys.wake.unwrap_or(false),
        }
    }

    /// What makes it run that no clock knows.
    pub fn triggers(&self) -> impl Iterator<Item = Trigger> + '_ {
        self.when.iter().filter_map(|line| match line.rule() {
            Rule::On(trigger) => Some(*trigger),
            _ => None,
        })
    }

    /// Its lines as one text, to see whether they are still the same.
    pub fn as_text(&self) -> String {
        self.when.iter().map(When::as_str).collect::<Vec<_>>().join("\n")
    }
}

/// What surrounds each run of a job.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Around {
    /// Commands before.
    pub before: Vec<String>,
    /// Commands after.
    pub after: Vec<String>,
    /// What is done at the very end.
    pub finally: Option<Finally>,
}

/// A checked job.
#[derive(Debug, Clone)]
pub struct Job {
    /// Its name.
    pub name: String,
    /// The keys as they are written down.
    pub keys: JobKeys,
    /// What is read; the left side of a two-way job.
    pub from: Vec<String>,
    /// What is changed; the right side of a two-way job.
    pub to: Vec<String>,
    /// Everything else, with defaults.
    pub rules: JobRules,
    /// When it runs by itself.
    pub timing: Timing,
    /// What surrounds each run.
    pub around: Around,
}

impl Job {
    /// Checks keys and fills in defaults.
    ///
    /// # Errors
    /// When keys are missing, or do not go together.
    pub fn new(name: &str, keys: JobKeys) -> Outcome<Job> {
        let missing = |key: &str, example: &str| {
            Failure::usage(format!("job \"{name}\" has no \"{key}\""))
                .hint(format!("Add a line such as {example}"))
        };
        let kind = keys.kind.ok_or_else(|| missing("kind", "kind = \"mirror\""))?;
        check_fit(name, kind, &keys)?;
        check_limits(name, &keys)?;
        let two_way = kind == Kind::TwoWay;
        let sides = |several: &[String], one: &Option<String>| {
            if two_way { one.iter().cloned().collect() } else { several.to_vec() }
        };
        let (from, to): (Vec<String>, Vec<String>) =
            (sides(&keys.from, &keys.left), sides(&keys.to, &keys.right));
        let (left, right) = if two_way { ("left", "right") } else { ("from", "to") };
        if from.is_empty() {
            return Err(missing(left, &format!("{left} = \"~/counts\"")));
        }
        if to.is_empty() {
            return Err(missing(right, &format!("{right} = \"@field-drive/counts\"")));
        }
        from.iter().chain(&to).try_for_each(|place| refuse_secret_in(place))?;
        let filter = FilterSpec {
            exclude: keys.exclude.clone(),
            only: keys.only.clone(),
            junk: keys.junk.unwrap_or(TakeOrSkip::Skip),
            hidden: keys.hidden.unwrap_or(TakeOrSkip::Take),
            min_size: keys.min_size,
            max_size: keys.max_size,
            newer_than: keys.newer_than.clone(),
            older_than: keys.older_than.clone(),
        };
        Filter::new(&filter, Stamp::new(0, 0)).map_err(|error| Failure {
            cause: Cause::Filter,
            ..Failure::usage(format!("job \"{name}\": {error}"))
        })?;
        let by_path =
            keys.conflict_for.iter().map(|ConflictFor(line, policy)| (line.clone(), *policy)).collect();
        let conflict = Conflicts { by_path, otherwise: keys.conflict.unwrap_or(ConflictPolicy::Hold) };
        Policies::new(&conflict).map_err(|error| Failure {
            cause: Cause::Filter,
            ..Failure::usage(format!("job \"{name}\", conflict_for: {error}"))
        })?;
        let rules = rules(&keys, kind, filter, conflict);
        let timing = Timing::of(&keys);
        let around = Around { before: keys.before.clone(), after: keys.after.clone(), finally: keys.finally };
        Ok(Job { name: name.to_owned(), keys, from, to, rules, timing, around })
    }

    /// Keys that are given and have no effect in this job, each as a sentence.
    pub fn idle_keys(&self) -> Vec<String> {
        let (keys, rules) = (&self.keys, &self.rules);
        let copy = rules.kind == Kind::Copy;
        let keeps = rules.replaced == Replaced::Keep || (rules.removed == Removed::Keep && !copy);
        let idle = [
            (copy && keys.removed.is_some(), "removed has no effect: a copy removes nothing"),
            (copy && keys.max_removals.is_some(), "max_removals has no effect: a copy removes nothing"),
            (
                rules.kind == Kind::Mirror && keys.newer.is_some(),
                "newer has no effect: a mirror makes the right like the left, whichever is newer",
            ),
            (!keeps && keys.keep_for.is_some(), "keep_for has no effect: this job keeps no copies"),
            (!keeps && keys.keep_max.is_some(), "keep_max has no effect: this job keeps no copies"),
            (self.name == ONCE && !keys.when.is_empty(), "when has no effect: only a job runs by itself"),
            (
                keys.owners.is_some(),
                "owners has no effect yet: no place of today is on another machine and has owners",
            ),
        ];
        let both = keys.only.iter().filter(|line| keys.exclude.contains(line));
        let both = both.map(|line| format!("\"{line}\" is in only and in exclude: it is left out"));
        idle.into_iter().filter(|(idle, _)| *idle).map(|(_, words)| words.to_owned()).chain(both).collect()
    }

    /// The job's filter, with ages counted from now.
    ///
    /// # Errors
    /// When a line of it is no pattern.
    pub fn filter(&self, now: Stamp) -> Outcome<Filter> {
        Filter::new(&self.rules.filter, now).map_err(|error| Failure::usage(error.to_string()))
    }

    /// Writes the job's file.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save(&self, home: &Home) -> Outcome<()> {
        write_file(&home.job_file(&self.name), &self.keys.to_toml()?)
    }
}

/// Refuses what cannot be the name of a job or a store.
///
/// # Errors
/// When it has other characters than a name may have, or too many.
pub fn check_name(name: &str, what: &str) -> Outcome<()> {
    let allowed = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    let begins_well = name.chars().next().is_some_and(char::is_alphanumeric);
    if name == ONCE {
        return Err(Failure::usage(format!("\"{ONCE}\" is the name for runs without a job"))
            .hint("Choose another one."));
    }
    if begins_well && name.chars().all(allowed) && name.len() <= 64 {
        return Ok(());
    }
    Err(Failure::usage(format!("\"{name}\" cannot be the name of a {what}")).hint(
        "A name begins with a letter or a digit and has letters, digits, \"-\", \"_\" and \".\", 64 at most.",
    ))
}
