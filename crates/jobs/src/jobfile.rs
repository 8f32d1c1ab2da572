//! Job files: small TOML files, one a job, that people edit, export and keep under version control.
//!
//! [`JobKeys`] is the file and, spelled with dashes, the options of `job add`, `job edit` and `once`: one list for both.
//! [`Job`] is a checked job with every default filled in.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::str::FromStr;

use reedhook_core::entry::Stamp;
use reedhook_core::filter::{Filter, FilterSpec, TakeOrSkip};
use reedhook_core::job::{
    ConflictPolicy, Conflicts, JobRules, Kind, Newer, OddNames, Owners, Preserve, Removals, Removed,
    Replaced, Verify,
};
use reedhook_core::limit::{Limit, Limits};
use reedhook_core::plan::two_way::Policies;
use reedhook_core::units::{Age, Moment, Room, Share, Size, UnitError};
use reedhook_core::when::{Finally, Missed, OnBattery, Retry, Rule, Trigger, When};
use serde::{Deserialize, Deserializer, Serialize};

use crate::address::refuse_secret_in;
use crate::depth;
use crate::failure::{Cause, Failure, Outcome, nearest, suggestion};
use crate::home::{Home, write_file};
use crate::notify::NotifyLine;

/// The name under which runs without a job are remembered.
pub const ONCE: &str = "once";

/// The keys of a job file. What is not given has a default.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "options", derive(clap::Args), command(next_help_heading = "Job keys"))]
#[serde(default, deny_unknown_fields)]
pub struct JobKeys {
    /// mirror (right becomes as left), copy (nothing is ever removed) or two-way (both sides are worked on).
    #[cfg_attr(feature = "options", arg(id = "key-kind", long = "kind", value_name = "KIND"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<Kind>,
    /// What is read: a path or @store/sub. Several land each in a folder of its own.
    #[cfg_attr(feature = "options", arg(long, value_name = "PLACE"))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub from: Vec<String>,
    /// What is changed: a path or @store/sub. Several get the same.
    #[cfg_attr(feature = "options", arg(long, value_name = "PLACE"))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub to: Vec<String>,
    /// The left side of a two-way job: a path or @store/sub.
    #[cfg_attr(feature = "options", arg(id = "key-left", long = "left", value_name = "PLACE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left: Option<String>,
    /// The right side of a two-way job: a path or @store/sub.
    #[cfg_attr(feature = "options", arg(id = "key-right", long = "right", value_name = "PLACE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub right: Option<String>,
    /// What a two-way job does when both sides have changed a path: hold (default), newest, left, right or both.
    #[cfg_attr(feature = "options", arg(long, value_name = "hold|newest|left|right|both"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub conflict: Option<ConflictPolicy>,
    /// The same for paths that match a filter line: '*.csv both'. Repeatable; the first that matches holds.
    #[cfg_attr(feature = "options", arg(long, value_name = "LINE POLICY"))]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub conflict_for: Vec<ConflictFor>,
    /// What a two-way job does about what was removed at one side: carry (default) or ignore.
    #[cfg_attr(feature = "options", arg(long, value_name = "carry|ignore"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub removals: Option<Removals>,
    /// Leave out what matches, for example '*.tmp' or 'scratch/'.
    #[cfg_attr(feature = "options", arg(long, value_name = "LINE", allow_hyphen_values = true))]
    #[serde(deserialize_with = "one_or_many", skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// Take only what matches, or lies in a folder that does.
    #[cfg_attr(feature = "options", arg(long, value_name = "LINE", allow_hyphen_values = true))]
    #[serde(deserialize_with = "one_or_many", skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
    /// What operating systems leave behind: skip (default) or take.
    #[cfg_attr(feature = "options", arg(long, value_name = "take|skip"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub junk: Option<TakeOrSkip>,
    /// Names that begin with a dot: take (default) or skip.
    #[cfg_attr(feature = "options", arg(long, value_name = "take|skip"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<TakeOrSkip>,
    /// Leave out smaller files.
    #[cfg_attr(feature = "options", arg(long, value_name = "SIZE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_size: Option<Size>,
    /// Leave out larger files.
    #[cfg_attr(feature = "options", arg(long, value_name = "SIZE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_size: Option<Size>,
    /// Leave out files last changed before: '30 days' ago, or a date.
    #[cfg_attr(feature = "options", arg(long, value_name = "WHEN"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newer_than: Option<Moment>,
    /// Leave out files last changed after: '2 days' ago, or a date.
    #[cfg_attr(feature = "options", arg(long, value_name = "WHEN"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub older_than: Option<Moment>,
    /// What a copy does about files that are newer at the destination: leave (default) or update.
    #[cfg_attr(feature = "options", arg(long, value_name = "leave|update"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newer: Option<Newer>,
    /// Where removed files go: keep (default; to .reedhook/kept at the destination), trash or erase.
    #[cfg_attr(feature = "options", arg(long, value_name = "keep|trash|erase"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub removed: Option<Removed>,
    /// Where replaced files go: keep (default) or erase.
    #[cfg_attr(feature = "options", arg(long, value_name = "keep|erase"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaced: Option<Replaced>,
    /// How long kept copies stay; default '30 days'.
    #[cfg_attr(feature = "options", arg(long, value_name = "AGE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep_for: Option<Age>,
    /// How much room kept copies may take: a share of the file system, a size, or off; default 10%.
    #[cfg_attr(feature = "options", arg(long, value_name = "ROOM"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep_max: Option<Room>,
    /// What is carried over: content (data and times), standard (default; modes and links too) or full (owners, access
    /// lists and other extended attributes, second names, devices and pipes too).
    #[cfg_attr(feature = "options", arg(long, value_name = "content|standard|full"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub preserve: Option<Preserve>,
    /// What is done about names that a place cannot hold: report (default; each is a problem) or encode (what is refused is
    /// written there as %3A and the like, and read back).
    #[cfg_attr(feature = "options", arg(long, value_name = "report|encode"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub odd_names: Option<OddNames>,
    /// How owners travel between machines: names (default) or numbers; on one machine both are the same.
    #[cfg_attr(feature = "options", arg(long, value_name = "names|numbers"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub owners: Option<Owners>,
    /// Leave out other file systems that are mounted below the source.
    #[cfg_attr(feature = "options", arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub one_filesystem: Option<bool>,
    /// What is read back and compared: none (default), changed (what a run wrote) or all (both sides, after each run).
    #[cfg_attr(feature = "options", arg(long, value_name = "none|changed|all"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verify: Option<Verify>,
    /// The guard against mass removal; default 25%.
    #[cfg_attr(feature = "options", arg(long, value_name = "SHARE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_removals: Option<Share>,
    /// The guard against mass change; default off.
    #[cfg_attr(feature = "options", arg(long, value_name = "SHARE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_changes: Option<Share>,
    /// How fast content may travel: '20 MB/s', or for a part of the day '2 MB/s 08:00-18:00'. Repeatable; off: no limit.
    #[cfg_attr(feature = "options", arg(long, value_name = "RATE"))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub limit: Vec<Limit>,
    /// Give way to other work on the machine: low priority for processor and disk.
    #[cfg_attr(feature = "options", arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub polite: Option<bool>,
    /// When it is due: 'daily 18:00', 'mon-fri 12:05', 'every 2h 08:00-18:00', 'on change', 'on connect'. Repeatable.
    #[cfg_attr(feature = "options", arg(long, value_name = "LINE"))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub when: Vec<When>,
    /// What is done about a run that was due while nothing could begin it: run (default; once) or skip.
    #[cfg_attr(feature = "options", arg(long, value_name = "run|skip"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missed: Option<Missed>,
    /// Point the job out when it has not run well for so long.
    #[cfg_attr(feature = "options", arg(long, value_name = "AGE"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remind_after: Option<Age>,
    /// Let an automatic start wait for a yes: `reedhook tend answer JOB yes`.
    #[cfg_attr(feature = "options", arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ask: Option<bool>,
    /// A command for the shell before each run; when it fails, there is no run. Repeatable.
    #[cfg_attr(feature = "options", arg(long, value_name = "COMMAND", allow_hyphen_values = true))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub before: Vec<String>,
    /// A command for the shell after each run; REEDHOOK_OUTCOME says what came of it. Repeatable.
    #[cfg_attr(feature = "options", arg(long, value_name = "COMMAND", allow_hyphen_values = true))]
    #[serde(
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub after: Vec<String>,
    /// What is done when a run is over: nothing (default), eject, suspend or power-off.
    #[cfg_attr(feature = "options", arg(long, value_name = "nothing|eject|suspend|power-off"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub finally: Option<Finally>,
    /// Try an automatic run again that was stopped or found its server absent: '3 × 10m'.
    #[cfg_attr(feature = "options", arg(long, value_name = "TIMES"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry: Option<Retry>,
    /// What an automatic run does while the machine runs on its battery: run (default) or wait.
    #[cfg_attr(feature = "options", arg(long, value_name = "run|wait"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub on_battery: Option<OnBattery>,
    /// Let nothing begin by itself for now.
    #[cfg_attr(feature = "options", arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// Let the timer of `when install` wake the machine.
    #[cfg_attr(feature = "options", arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wake: Option<bool>,
    /// Who is told what came of its runs, other than the settings say: 'mail always', 'all never'. Repeatable.
    #[cfg_attr(feature = "options", arg(long, value_name = "WAY WHEN"))]
    #[serde(
        deserialize_with = "crate::notify::lines",
        serialize_with = "as_one_or_many",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub notify: Vec<NotifyLine>,
}

impl JobKeys {
    /// Every key, as written in a file.
    pub const NAMES: &'static [&'static str] = &[
        "kind",
        "from",
        "to",
        "left",
        "right",
        "conflict",
        "conflict_for",
        "removals",
        "exclude",
        "only",
        "junk",
        "hidden",
        "min_size",
        "max_size",
        "newer_than",
        "older_than",
        "newer",
        "removed",
        "replaced",
        "keep_for",
        "keep_max",
        "preserve",
        "odd_names",
        "owners",
        "one_filesystem",
        "verify",
        "max_removals",
        "max_changes",
        "limit",
        "polite",
        "when",
        "missed",
        "remind_after",
        "ask",
        "before",
        "after",
        "finally",
        "retry",
        "on_battery",
        "paused",
        "wake",
        "notify",
    ];

    /// The same keys with those of `other` that are given put in their place.
    pub fn overlaid(self, other: JobKeys) -> JobKeys {
        fn list<T>(mine: Vec<T>, theirs: Vec<T>) -> Vec<T> {
            if theirs.is_empty() { mine } else { theirs }
        }
        JobKeys {
            kind: other.kind.or(self.kind),
            from: list(self.from, other.from),
            to: list(self.to, other.to),
            left: other.left.or(self.left),
            right: other.right.or(self.right),
            conflict: other.conflict.or(self.conflict),
            conflict_for: list(self.conflict_for, other.conflict_for),
            removals: other.removals.or(self.removals),
            exclude: list(self.exclude, other.exclude),
            only: list(self.only, other.only),
            junk: other.junk.or(self.junk),
            hidden: other.hidden.or(self.hidden),
            min_size: other.min_size.or(self.min_size),
            max_size: other.max_size.or(self.max_size),
            newer_than: other.newer_than.or(self.newer_than),
            older_than: other.older_than.or(self.older_than),
            newer: other.newer.or(self.newer),
            removed: other.removed.or(self.removed),
            replaced: other.replaced.or(self.replaced),
            keep_for: other.keep_for.or(self.keep_for),
            keep_max: other.keep_max.or(self.keep_max),
            preserve: other.preserve.or(self.preserve),
            odd_names: other.odd_names.or(self.odd_names),
            owners: other.owners.or(self.owners),
            one_filesystem: other.one_filesystem.or(self.one_filesystem),
            verify: other.verify.or(self.verify),
            max_removals: other.max_removals.or(self.max_removals),
            max_changes: other.max_changes.or(self.max_changes),
            limit: if other.limit.contains(&Limit::OFF) { Vec::new() } else { list(self.limit, other.limit) },
            polite: other.polite.or(self.polite),
            when: list(self.when, other.when),
            missed: other.missed.or(self.missed),
            remind_after: other.remind_after.or(self.remind_after),
            ask: other.ask.or(self.ask),
            before: list(self.before, other.before),
            after: list(self.after, other.after),
            finally: other.finally.or(self.finally),
            retry: other.retry.or(self.retry),
            on_battery: other.on_battery.or(self.on_battery),
            paused: other.paused.or(self.paused),
            wake: other.wake.or(self.wake),
            notify: list(self.notify, other.notify),
        }
    }

    /// The keys as TOML text.
    pub fn to_toml(&self) -> Outcome<String> {
        toml::to_string(self).map_err(|error| Failure::own_files("cannot write the job", error))
    }
}

/// A text, or a list of texts.
fn one_or_many<'de, D: Deserializer<'de>, T>(deserializer: D) -> Result<Vec<T>, D::Error>
where
    T: FromStr<Err: std::fmt::Display>,
{
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "expected a text or a list of texts")]
    enum Either {
        One(String),
        Many(Vec<String>),
    }
    let texts = match Either::deserialize(deserializer)? {
        Either::One(text) => vec![text],
        Either::Many(texts) => texts,
    };
    texts.into_iter().map(|text| text.parse().map_err(serde::de::Error::custom)).collect()
}

fn as_one_or_many<S: serde::Serializer, T: Serialize>(
    values: &[T],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    match values {
        [one] => one.serialize(serializer),
        many => many.serialize(serializer),
    }
}

/// A line of `conflict_for`: what it matches, and the policy. `["*.csv", "both"]` in a file, `'*.csv both'` as an option.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ConflictFor(pub String, pub ConflictPolicy);

impl FromStr for ConflictFor {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<ConflictFor, UnitError> {
        let (line, policy) = text
            .trim()
            .rsplit_once(char::is_whitespace)
            .ok_or_else(|| UnitError::new(text, "a filter line and a policy, such as \"*.csv both\""))?;
        Ok(ConflictFor(line.trim().to_owned(), policy.parse()?))
    }
}

/// Keys of the other kinds of job are a slip, and would have no effect.
fn check_fit(name: &str, kind: Kind, keys: &JobKeys) -> Outcome<()> {
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
fn check_limits(name: &str, keys: &JobKeys) -> Outcome<()> {
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
fn rules(keys: &JobKeys, kind: Kind, filter: FilterSpec, conflict: Conflicts) -> JobRules {
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
    fn of(keys: &JobKeys) -> Timing {
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
    pub fn filter(&self, now: Stamp) -> Outcome<Filter> {
        Filter::new(&self.rules.filter, now).map_err(|error| Failure::usage(error.to_string()))
    }

    /// Writes the job's file.
    pub fn save(&self, home: &Home) -> Outcome<()> {
        write_file(&home.job_file(&self.name), &self.keys.to_toml()?)
    }
}

/// Refuses what cannot be the name of a job or a store.
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

/// The names of all jobs, sorted. A folder that is not there holds none; a name that no job can have is among them, and reading it says why.
///
/// # Errors
/// When the folder is there and cannot be listed: then nobody knows which jobs there are.
pub fn job_names(home: &Home) -> Outcome<Vec<String>> {
    let folder = home.jobs();
    let unlisted = |error: std::io::Error| {
        Failure::own_files(&format!("the jobs in {} cannot be listed", home.shorten(&folder)), error)
    };
    let entries = match fs::read_dir(&folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.map_err(unlisted)?,
    };
    let mut names = BTreeSet::new();
    for entry in entries {
        let name = entry.map_err(unlisted)?.file_name().to_string_lossy().into_owned();
        names.extend(name.strip_suffix(".toml").filter(|name| !name.starts_with('.')).map(str::to_owned));
    }
    Ok(names.into_iter().collect())
}

/// A job by its name; `once` is what the newest run without a job was told, or the run that is named.
pub fn known_job(home: &Home, name: &str, run: Option<&str>) -> Outcome<Job> {
    if name != ONCE {
        return load_job(home, name);
    }
    let record = home.record()?;
    let rows = match run {
        Some(which) => record.find_run(name, which)?.into_iter().collect(),
        None => record.runs(Some(name), 1)?,
    };
    match rows.into_iter().next().filter(|row| !row.keys.is_empty()) {
        Some(row) => Job::new(ONCE, parse(&row.keys, Path::new("the record of that run"))?),
        None => Err(Failure::usage(match run {
            Some(which) => format!("{ONCE} has no run \"{which}\""),
            None => "nothing has ever run without a job".to_owned(),
        })
        .hint(format!("`reedhook history {ONCE}` lists such runs."))),
    }
}

/// Reads a job by name; an unknown one is an error that names the nearest.
pub fn load_job(home: &Home, name: &str) -> Outcome<Job> {
    let file = home.job_file(name);
    home.check_own(&file)?;
    let text = match fs::read_to_string(&file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let known = job_names(home).unwrap_or_default();
            let way_on = if known.is_empty() { " Set one up with `reedhook job add`." } else { "" };
            let hint = format!("{}{way_on}", suggestion(name, &known, "job"));
            return Err(Failure {
                cause: Cause::UnknownJob,
                ..Failure::usage(format!("there is no job \"{name}\""))
            }
            .hint(hint));
        }
        Err(error) => return Err(Failure::usage(format!("{}: {error}", file.display()))),
    };
    Job::new(name, parse(&text, &file)?)
}

/// Reads the keys of a job file; errors name the file, the line, and what was expected.
pub fn parse(text: &str, file: &Path) -> Outcome<JobKeys> {
    refuse_deep(text, file)?;
    check_known(text, file, JobKeys::NAMES)?;
    toml::from_str(text).map_err(|error| toml_failure(&error, text, file))
}

/// Refuses a file in which lists and tables lie within each other deeper than anybody means.
pub(crate) fn refuse_deep(text: &str, file: &Path) -> Outcome<()> {
    let Some(at) = depth::too_deep_at(text) else { return Ok(()) };
    let (file, line) = (file.display(), line_of(text, at));
    let message = format!("{file}, line {line}: lists and tables lie too deep in each other");
    Err(Failure { cause: Cause::BadFile, ..Failure::usage(message) })
}

/// A TOML error as one sentence.
pub fn toml_failure(error: &toml::de::Error, text: &str, file: &Path) -> Failure {
    let line = error.span().map_or(1, |span| line_of(text, span.start));
    let message = error.message().lines().collect::<Vec<_>>().join("; ");
    Failure { cause: Cause::BadFile, ..Failure::usage(format!("{}, line {line}: {message}", file.display())) }
}

fn line_of(text: &str, at: usize) -> usize {
    text.get(..at).map_or(1, |before| before.matches('\n').count() + 1)
}

/// Finds a key that does not exist before anything else is read, to name the one that was meant.
fn check_known(text: &str, file: &Path, known: &[&str]) -> Outcome<()> {
    let Ok(document) = text.parse::<toml_edit::Document<String>>() else { return Ok(()) };
    for (key, _) in document.iter() {
        if known.contains(&key) {
            continue;
        }
        let at = document.as_table().key(key).and_then(toml_edit::Key::span).map_or(0, |span| span.start);
        let hint = match nearest(key, known.iter().copied()) {
            Some(meant) => format!("Did you mean \"{meant}\"?"),
            None => format!("A job file has: {}.", known.join(", ")),
        };
        let message = format!("{}, line {}: there is no key \"{key}\"", file.display(), line_of(text, at));
        return Err(Failure { cause: Cause::BadFile, ..Failure::usage(message) }.hint(hint));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn error(text: &str) -> String {
        let checked = parse(text, Path::new("jobs/x.toml")).and_then(|keys| Job::new("x", keys));
        checked.unwrap_err().text()
    }

    #[test]
    fn every_key_is_known_to_the_file_and_the_list() {
        let listed: BTreeSet<&str> = JobKeys::NAMES.iter().copied().collect();
        let full = JobKeys {
            kind: Some(Kind::Mirror),
            from: vec!["a".into()],
            to: vec!["b".into()],
            left: Some("c".into()),
            right: Some("d".into()),
            conflict: Some(ConflictPolicy::Newest),
            conflict_for: vec!["*.csv both".parse().unwrap()],
            removals: Some(Removals::Ignore),
            exclude: vec!["*.tmp".into()],
            only: vec!["north/".into()],
            junk: Some(TakeOrSkip::Take),
            hidden: Some(TakeOrSkip::Skip),
            min_size: Some("1 kB".parse().unwrap()),
            max_size: Some("1 GB".parse().unwrap()),
            newer_than: Some("30 days".parse().unwrap()),
            older_than: Some("2031-05-04".parse().unwrap()),
            newer: Some(Newer::Update),
            removed: Some(Removed::Erase),
            replaced: Some(Replaced::Erase),
            keep_for: Some("10 days".parse().unwrap()),
            keep_max: Some("5%".parse().unwrap()),
            preserve: Some(Preserve::Full),
            odd_names: Some(OddNames::Encode),
            owners: Some(Owners::Numbers),
            one_filesystem: Some(true),
            verify: Some(Verify::All),
            max_removals: Some("50%".parse().unwrap()),
            max_changes: Some("off".parse().unwrap()),
            limit: vec!["20 MB/s".parse().unwrap(), "2 MB/s 08:00-18:00".parse().unwrap()],
            polite: Some(true),
            when: vec!["daily 18:00".parse().unwrap(), "on change after 30s".parse().unwrap()],
            missed: Some(Missed::Skip),
            remind_after: Some("10 days".parse().unwrap()),
            ask: Some(true),
            before: vec!["mount /srv/archive".into()],
            after: vec!["logger \"$REEDHOOK_JOB\"".into(), "true".into()],
            finally: Some(Finally::PowerOff),
            retry: Some("3 × 10m".parse().unwrap()),
            on_battery: Some(OnBattery::Wait),
            paused: Some(false),
            wake: Some(true),
            notify: vec!["mail always".parse().unwrap(), "all never".parse().unwrap()],
        };
        let text = full.to_toml().unwrap();
        let table: toml::Table = text.parse().unwrap();
        assert_eq!(table.keys().map(String::as_str).collect::<BTreeSet<_>>(), listed);
        assert_eq!(parse(&text, Path::new("x")).unwrap(), full, "a file reads back as it was written");
        assert_eq!(JobKeys::default().overlaid(full.clone()), full);
        assert_eq!(full.clone().overlaid(JobKeys::default()), full);
    }

    #[test]
    fn mistakes_name_the_file_the_line_and_what_was_expected() {
        let cases = [
            (
                "kind = \"mirror\"\nexlude = []",
                "jobs/x.toml, line 2: there is no key \"exlude\". Did you mean \"exclude\"?",
            ),
            (
                "kind = \"mirrow\"",
                "line 1: \"mirrow\" is not understood; expected one of: mirror copy two-way",
            ),
            ("kind = \"two-way\"\nleft = \"a\"\nto = \"b\"", "is a two-way and has no \"to\""),
            ("kind = \"mirror\"\nremovals = \"ignore\"", "has no \"removals\""),
            (
                "kind = \"two-way\"\nleft = \"a\"\nright = \"b\"\nconflict_for = [[\"*.csv\", \"mine\"]]",
                "line 4: ",
            ),
            ("kind = \"two-way\"\nleft = \"a\"", "job \"x\" has no \"right\""),
            ("kind = \"copy\"\nfrom = 3", "line 2: expected a text or a list of texts"),
            ("kind = ", "jobs/x.toml, line 1: "),
            (
                &"limit = { [ \"2\" ]\nkeep_for = \"3\" ]\n".repeat(20_000),
                "line 127: lists and tables lie too deep",
            ),
            ("kind = \"copy\"\nfrom = \"a\"", "job \"x\" has no \"to\""),
            ("kind = \"copy\"\nfrom = \"a\"\nto = \"b\"\nexclude = \"!x\"", "begins with \"!\""),
            (
                "kind = \"copy\"\nfrom = \"a\"\nto = \"b\"\nmax_size = \"big\"",
                "line 4: \"big\" is not understood; expected a size",
            ),
        ];
        for (text, expected) in cases {
            let found = error(text);
            assert!(found.contains(expected), "{text:?} gave {found:?}");
        }
    }

    #[test]
    fn names_are_simple() {
        for good in ["heron-counts", "maps_2031", "Möwen", "a.b"] {
            assert!(check_name(good, "job").is_ok(), "{good}");
        }
        for bad in ["", "-x", "a/b", "a b", "..", "once", &"n".repeat(65)] {
            assert!(check_name(bad, "job").is_err(), "{bad}");
        }
    }

    #[test]
    fn fuzzed_job_files() {
        let seeds: [&[u8]; 2] = [
            b"kind = \"mirror\"\nfrom = \"~/counts\"\nto = [\"@field-drive/counts\"]\nexclude = [\"*.tmp\", \"!a/**/b[!x]\"]\nwhen = [\"daily 19:30\", \"cron 5 18 * * 1-5\", \"every 2h 08:00-17:00\"]\nlimit = [\"2 MB/s 08:00-18:00\"]\nkeep_for = \"30 days\"\nmax_removals = \"25%\"\nretry = \"3 \xc3\x97 10m\"\n",
            b"kind = \"two-way\"\nleft = \"a\"\nright = \"sftp://u@h:22/x\"\nconflict = \"newest\"\nconflict_for = [\"*.csv both\"]\nmin_size = \"1 KiB\"\nnewer_than = \"3d\"\n",
        ];
        reedhook_testing::fuzz("job files", &seeds, |bytes| {
            let text = String::from_utf8_lossy(bytes);
            if let Ok(keys) = parse(&text, Path::new("job.toml")) {
                drop(Job::new("fuzzed", keys));
            }
        });
    }
}
