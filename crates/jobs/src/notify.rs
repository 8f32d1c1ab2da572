//! Who is told what came of runs: the `[notify]` table of the settings, and the `notify` lines with which a job says otherwise.
//!
//! ```toml
//! [notify]
//! desktop = { on = "problems" }
//! mail = { to = "warden@fenmere.example", server = "smtps://mail.fenmere.example", on = "digest 07:00" }
//! ```
//!
//! A job has `notify = ["mail always", "desktop never"]`, or a table of its own. What is told, and how, is the service's part
//! of the house; here is only what was written down, and whether it can be understood.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use jiff::civil::Time;
use reedhook_core::units::UnitError;
use serde::{Deserialize, Deserializer, Serialize};

use crate::address::ReachKeys;
use crate::failure::{Failure, Outcome};

/// A way to tell somebody something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Way {
    /// A notification on the desktop.
    Desktop,
    /// A command of the shell.
    Command,
    /// A mail.
    Mail,
    /// A request to a web server.
    Webhook,
}

impl Way {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Way; 4] = [Way::Desktop, Way::Command, Way::Mail, Way::Webhook];

    /// The word in files and output.
    pub fn as_str(self) -> &'static str {
        match self {
            Way::Desktop => "desktop",
            Way::Command => "command",
            Way::Mail => "mail",
            Way::Webhook => "webhook",
        }
    }
}

impl fmt::Display for Way {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl FromStr for Way {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Way, UnitError> {
        let known = Way::ALL.into_iter().find(|way| way.as_str() == text);
        known.ok_or_else(|| UnitError::new(text, "one of: desktop command mail webhook"))
    }
}

/// When somebody is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Condition {
    /// When something is not well: problems, refused, stopped, overdue, conflicts held.
    #[default]
    Problems,
    /// After every run.
    Always,
    /// Not at all.
    Never,
    /// Once a day, at this time, with everything since the last one.
    Digest(Time),
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Condition::Problems => f.write_str("problems"),
            Condition::Always => f.write_str("always"),
            Condition::Never => f.write_str("never"),
            Condition::Digest(time) => write!(f, "digest {}", time.strftime("%H:%M")),
        }
    }
}

impl FromStr for Condition {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Condition, UnitError> {
        let wrong = || UnitError::new(text, "one of: problems always never \"digest 07:00\"");
        let words: Vec<&str> = text.split_whitespace().collect();
        match words.as_slice() {
            ["problems"] => Ok(Condition::Problems),
            ["always"] => Ok(Condition::Always),
            ["never"] => Ok(Condition::Never),
            ["digest", time] => Time::strptime("%H:%M", time).map(Condition::Digest).map_err(|_| wrong()),
            _ => Err(wrong()),
        }
    }
}

/// A line of a job: a way, or all of them, and when it is told of this job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotifyLine {
    /// `None`: every way.
    pub way: Option<Way>,
    /// When.
    pub on: Condition,
}

impl fmt::Display for NotifyLine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.way.map_or("all", Way::as_str), self.on)
    }
}

impl FromStr for NotifyLine {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<NotifyLine, UnitError> {
        let wrong = || UnitError::new(text, "a way and when, such as \"mail always\" or \"all never\"");
        let (way, on) = text.trim().split_once(char::is_whitespace).ok_or_else(wrong)?;
        let way = if way == "all" { None } else { Some(way.parse()?) };
        Ok(NotifyLine { way, on: on.trim().parse()? })
    }
}

/// Types that files have as their text.
macro_rules! as_text {
    ($($name:ident),+) => {$(
        impl Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<$name, D::Error> {
                String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
            }
        }
    )+};
}

as_text!(Way, Condition, NotifyLine);

/// The lines of a job file: a line, a list of lines, or a table with a way and when in each row.
pub(crate) fn lines<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<NotifyLine>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum When {
        Said(String),
        Table { on: String },
    }
    #[derive(Deserialize)]
    #[serde(
        untagged,
        expecting = "expected lines such as \"mail always\", or a table such as mail = { on = \"always\" }"
    )]
    enum Written {
        One(String),
        Many(Vec<String>),
        Table(std::collections::BTreeMap<String, When>),
    }
    let texts = match Written::deserialize(deserializer)? {
        Written::One(text) => vec![text],
        Written::Many(texts) => texts,
        Written::Table(rows) => {
            let line = |(way, when)| match when {
                When::Said(on) | When::Table { on } => format!("{way} {on}"),
            };
            rows.into_iter().map(line).collect()
        }
    };
    texts.into_iter().map(|text| text.parse().map_err(serde::de::Error::custom)).collect()
}

/// The `[notify]` table.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct NotifyKeys {
    /// On the desktop.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub desktop: Option<DesktopKeys>,
    /// By a command.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<CommandKeys>,
    /// By mail.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mail: Option<MailKeys>,
    /// By a request to a web server.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub webhook: Option<WebhookKeys>,
}

/// On the desktop.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DesktopKeys {
    /// When.
    pub on: Condition,
    /// How many in an hour; [`AT_MOST`] when nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_most: Option<u32>,
}

/// By a command.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CommandKeys {
    /// What the shell carries out; it gets the message to read.
    pub run: String,
    /// When.
    #[serde(default)]
    pub on: Condition,
    /// How many in an hour; as many as there are when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most: Option<u32>,
}

/// By mail.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MailKeys {
    /// To whom: one address, or several.
    #[serde(deserialize_with = "one_or_many")]
    pub to: Vec<String>,
    /// From whom; the account at this machine when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// `smtps://HOST[:PORT]`, or `smtp://HOST[:PORT]` that turns to TLS; the local `sendmail` when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// The account's name there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where the password comes from, as of a store: `env NAME` or `command LINE`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// A file of certificates (PEM) that are trusted besides the system's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authorities: Option<PathBuf>,
    /// When.
    #[serde(default)]
    pub on: Condition,
    /// How many in an hour; [`AT_MOST`] when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most: Option<u32>,
}

/// By a request to a web server.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WebhookKeys {
    /// Where to.
    pub url: String,
    /// Where a token comes from that goes along, as of a store: `env NAME` or `command LINE`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// A file of certificates (PEM) that are trusted besides the system's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authorities: Option<PathBuf>,
    /// When.
    #[serde(default)]
    pub on: Condition,
    /// How many in an hour; [`AT_MOST`] when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most: Option<u32>,
}

/// So many messages go one way in an hour, when nothing else is said: more than a person reads, and few enough for a mail server.
pub const AT_MOST: u32 = 20;

fn one_or_many<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "expected an address or a list of addresses")]
    enum Either {
        One(String),
        Many(Vec<String>),
    }
    Ok(match Either::deserialize(deserializer)? {
        Either::One(text) => vec![text],
        Either::Many(texts) => texts,
    })
}

impl NotifyKeys {
    /// Whether nobody is told anything.
    pub fn is_empty(&self) -> bool {
        *self == NotifyKeys::default()
    }

    /// The ways that are set up, each with when it is used.
    pub fn ways(&self) -> Vec<(Way, Condition)> {
        let desktop = self.desktop.as_ref().map(|keys| (Way::Desktop, keys.on));
        let command = self.command.as_ref().map(|keys| (Way::Command, keys.on));
        let mail = self.mail.as_ref().map(|keys| (Way::Mail, keys.on));
        let webhook = self.webhook.as_ref().map(|keys| (Way::Webhook, keys.on));
        [desktop, command, mail, webhook].into_iter().flatten().collect()
    }

    /// How many messages may go this way in an hour; `None`: as many as there are.
    pub fn at_most(&self, way: Way) -> Option<u32> {
        match way {
            Way::Desktop => Some(self.desktop.as_ref()?.at_most.unwrap_or(AT_MOST)),
            Way::Mail => Some(self.mail.as_ref()?.at_most.unwrap_or(AT_MOST)),
            Way::Webhook => Some(self.webhook.as_ref()?.at_most.unwrap_or(AT_MOST)),
            Way::Command => self.command.as_ref()?.at_most,
        }
    }

    /// Refuses what cannot be meant.
    ///
    /// # Errors
    /// With a sentence that names the key.
    pub fn check(&self) -> Outcome<()> {
        let mail = self.mail.as_ref();
        let secrets = [mail.map(|keys| &keys.secret), self.webhook.as_ref().map(|keys| &keys.secret)];
        for secret in secrets.into_iter().flatten() {
            ReachKeys { secret: secret.clone(), ..ReachKeys::default() }.check()?;
        }
        if let Some(server) = mail.and_then(|keys| keys.server.as_deref())
            && !["smtp://", "smtps://"].iter().any(|scheme| server.starts_with(scheme))
        {
            return Err(Failure::usage(format!("notify.mail.server: \"{server}\" is no mail server"))
                .hint("Write smtps://HOST, or smtp://HOST for one that turns to TLS."));
        }
        match &self.webhook {
            Some(keys) if !["http://", "https://"].iter().any(|scheme| keys.url.starts_with(scheme)) => {
                Err(Failure::usage(format!("notify.webhook.url: \"{}\" is no address", keys.url))
                    .hint("Write https://HOST/PATH."))
            }
            _ => Ok(()),
        }
    }
}

/// When a job is told of one way: its own lines go before the settings; the last that fits holds.
pub fn condition(lines: &[NotifyLine], way: Way, usual: Condition) -> Condition {
    let own = lines.iter().rev().find(|line| line.way.is_none_or(|named| named == way));
    own.map_or(usual, |line| line.on)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_understood_and_slips_say_what_was_expected() {
        let text = r#"
            desktop = { on = "problems" }
            command = { run = "logger -t reedhook", on = "always" }
            mail = { to = "warden@fenmere.example", from = "station@fenmere.example", server = "smtps://mail.fenmere.example", user = "station", on = "digest 07:00" }
            webhook = { url = "https://hooks.fenmere.example/station", on = "never", at_most = 3 }"#;
        let keys: NotifyKeys = toml::from_str(text).unwrap();
        let seven = Condition::Digest(jiff::civil::time(7, 0, 0, 0));
        let ways = [
            (Way::Desktop, Condition::Problems),
            (Way::Command, Condition::Always),
            (Way::Mail, seven),
            (Way::Webhook, Condition::Never),
        ];
        assert_eq!(keys.ways(), ways);
        assert_eq!(Way::ALL.map(|way| keys.at_most(way)), [Some(AT_MOST), None, Some(AT_MOST), Some(3)]);
        assert!(keys.check().is_ok());
        let written = toml::to_string(&keys).unwrap();
        assert_eq!(toml::from_str::<NotifyKeys>(&written).unwrap(), keys);
        let slips = [
            ("desktop = { on = \"sometimes\" }", "expected one of: problems always never"),
            ("mail = { on = \"always\" }", "missing field `to`"),
            ("pigeon = { on = \"always\" }", "unknown field `pigeon`"),
            ("mail = { to = \"a@b.example\", on = \"digest 25:00\" }", "digest 25:00"),
        ];
        for (text, expected) in slips {
            let error = toml::from_str::<NotifyKeys>(text).unwrap_err().to_string();
            assert!(error.contains(expected), "{text}: {error}");
        }
        let refused = [
            ("mail = { to = \"a@b.example\", server = \"mail.example\" }", "is no mail server"),
            ("mail = { to = \"a@b.example\", secret = \"heron\" }", "must not be given here"),
            ("webhook = { url = \"ftp://hooks.example\" }", "is no address"),
        ];
        for (text, expected) in refused {
            let keys: NotifyKeys = toml::from_str(text).unwrap();
            assert!(keys.check().unwrap_err().text().contains(expected), "{text}");
        }
    }

    #[test]
    fn a_job_says_otherwise_in_three_forms() {
        #[derive(Deserialize)]
        struct Job {
            #[serde(deserialize_with = "lines")]
            notify: Vec<NotifyLine>,
        }
        let read = |text: &str| toml::from_str::<Job>(text).map(|job| job.notify);
        let mail = NotifyLine { way: Some(Way::Mail), on: Condition::Always };
        let forms = [
            "notify = \"mail always\"",
            "notify = [\"mail always\"]",
            "[notify]\nmail = \"always\"",
            "[notify]\nmail = { on = \"always\" }",
        ];
        for text in forms {
            assert_eq!(read(text).unwrap(), [mail], "{text}");
        }
        assert!(read("notify = \"mail\"").unwrap_err().to_string().contains("a way and when"));
        assert!(read("[notify]\npigeon = \"always\"").is_err());
        let lines = [NotifyLine { way: None, on: Condition::Never }, mail];
        assert_eq!(condition(&lines, Way::Mail, Condition::Problems), Condition::Always);
        assert_eq!(condition(&lines, Way::Desktop, Condition::Problems), Condition::Never);
        assert_eq!(condition(&[], Way::Desktop, Condition::Problems), Condition::Problems);
    }
}
