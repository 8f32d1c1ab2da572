//! The keys of a job, as people write them: the one table that options, files and the manual read.

use std::str::FromStr;

use reedhook_core::filter::TakeOrSkip;
use reedhook_core::job::{
    ConflictPolicy, Kind, Newer, OddNames, Owners, Preserve, Removals, Removed, Replaced, Verify,
};
use reedhook_core::limit::Limit;
use reedhook_core::units::{Age, Moment, Room, Share, Size, UnitError};
use reedhook_core::when::{Finally, Missed, OnBattery, Retry, When};
use serde::{Deserialize, Deserializer, Serialize};

use crate::failure::{Failure, Outcome};
use crate::notify::NotifyLine;

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
    ///
    /// # Errors
    /// When they cannot be written as TOML, which is a fault in Reedhook.
    pub fn to_toml(&self) -> Outcome<String> {
        toml::to_string(self).map_err(|error| Failure::own_files("cannot write the job", error))
    }
}

/// A text, or a list of texts.
pub(crate) fn one_or_many<'de, D: Deserializer<'de>, T>(deserializer: D) -> Result<Vec<T>, D::Error>
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

pub(crate) fn as_one_or_many<S: serde::Serializer, T: Serialize>(
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
