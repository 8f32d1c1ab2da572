//! A line of a run's log, as it is read back: what [`lines`](crate::lines) wrote there, now or long ago.

use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use reedhook_core::entry::{Privileges, Rights, Side};
use reedhook_core::identity::Ground;
use reedhook_core::path::RelPath;
use reedhook_core::plan::Counts;
use reedhook_core::run::undo::Past;
use reedhook_core::run::{Done, Gone, Item, Mark};
use reedhook_record::{Outcome, RunPlace};
use serde_json::Value;

use crate::lines::{named_path, path_of, stamp_of};

/// A line of a run's log.
#[derive(Debug, Clone, PartialEq)]
pub enum LogLine {
    /// The first: which run it is.
    Began {
        /// Its number among the job's runs.
        number: i64,
        /// When it began, in milliseconds since 1970, where that can be read.
        started_ms: Option<i64>,
        /// What sort of run it is, when it is not the job's usual one.
        sort: String,
        /// What a run without a job was told.
        keys: String,
    },
    /// A store that it is about to change.
    Place(RunPlace),
    /// What it sets out to do at one destination.
    Planned {
        /// Files and links that change.
        files: u64,
        /// Bytes that are to be written.
        bytes: u64,
        /// Steps of which no kept copy tells; `None` in a log of an older program.
        unkept: Option<u64>,
    },
    /// Something that it did.
    Did {
        /// What.
        item: Box<Item>,
        /// Which of several destinations.
        to: Option<String>,
    },
    /// A folder whose metadata it changed.
    Folder {
        /// At this side.
        side: Side,
        /// The folder.
        path: RelPath,
        /// What it had before.
        was: Mark,
        /// Which of several destinations.
        to: Option<String>,
    },
    /// Something that it could not do.
    Problem {
        /// The cause.
        code: String,
        /// What it is about.
        path: RelPath,
        /// A sentence.
        message: String,
    },
    /// The last: how it ended.
    Finished {
        /// In a word.
        outcome: Outcome,
        /// How long it took.
        elapsed: Duration,
        /// Its numbers.
        counts: Counts,
        /// The code and the sentence of why it did not end well.
        failure: Option<(String, String)>,
    },
    /// What this program does not know.
    Other,
}

impl LogLine {
    /// What a line says.
    pub fn of(value: &Value) -> LogLine {
        let keys = Keys(value);
        match keys.text("event") {
            Some("began") => LogLine::Began {
                number: value.get("number").and_then(Value::as_i64).unwrap_or(0),
                started_ms: keys
                    .text("started")
                    .and_then(stamp_of)
                    .and_then(|started| i64::try_from(started.as_nanos().div_euclid(1_000_000)).ok()),
                sort: keys.owned("sort"),
                keys: keys.owned("keys"),
            },
            Some("place") => LogLine::Place(RunPlace {
                side: keys.side(),
                place: keys.owned("place"),
                location: keys.owned("location"),
                mark: keys.owned("mark"),
                ground: keys.text("ground").and_then(Ground::from_text),
            }),
            Some("planned") => LogLine::Planned {
                files: keys.number("files").unwrap_or(0),
                bytes: keys.number("bytes").unwrap_or(0),
                unkept: keys.number("unkept"),
            },
            Some("item") => keys.item().unwrap_or(LogLine::Other),
            Some("folder") => match path_of(value) {
                Some(path) => {
                    let (side, was) = (keys.side(), keys.mark("modified", "mode"));
                    LogLine::Folder { side, path, was, to: keys.to() }
                }
                None => LogLine::Other,
            },
            Some("problem") => LogLine::Problem {
                code: keys.owned("code"),
                path: path_of(value).unwrap_or_default(),
                message: keys.owned("message"),
            },
            Some("finished") => LogLine::Finished {
                outcome: Outcome::parse(keys.text("outcome").unwrap_or_default()),
                elapsed: keys.elapsed(),
                counts: Counts::from_fields(Counts::NAMES.map(|name| keys.number(name).unwrap_or(0))),
                failure: keys.text("code").map(|code| (code.to_owned(), keys.owned("message"))),
            },
            _ => LogLine::Other,
        }
    }

    /// Adds it to what a run did at one side of one place.
    pub fn add_to(self, past: &mut Past, wanted: Side, place: &str) {
        let there = |side: Side, to: Option<&str>| side == wanted && to.is_none_or(|to| to == place);
        match self {
            LogLine::Did { item, to } if there(item.side, to.as_deref()) => past.items.push(*item),
            LogLine::Folder { side, path, was, to } if there(side, to.as_deref()) => {
                past.folders.push((path, was));
            }
            _ => {}
        }
    }
}

/// The keys of a line.
struct Keys<'a>(&'a Value);

impl<'a> Keys<'a> {
    fn text(&self, key: &str) -> Option<&'a str> {
        self.0.get(key).and_then(Value::as_str)
    }

    fn owned(&self, key: &str) -> String {
        self.text(key).unwrap_or_default().to_owned()
    }

    fn number(&self, key: &str) -> Option<u64> {
        self.0.get(key).and_then(Value::as_u64)
    }

    fn to(&self) -> Option<String> {
        self.text("to").map(str::to_owned)
    }

    fn side(&self) -> Side {
        if self.text("side") == Some(Side::Left.as_str()) { Side::Left } else { Side::Right }
    }

    fn mark(&self, modified: &str, mode: &str) -> Mark {
        Mark {
            modified: self.text(modified).and_then(stamp_of),
            mode: self.number(mode).and_then(|mode| u32::try_from(mode).ok()),
        }
    }

    fn elapsed(&self) -> Duration {
        let seconds = self.0.get("seconds").and_then(Value::as_f64).unwrap_or(0.0);
        Duration::try_from_secs_f64(seconds).unwrap_or_default()
    }

    fn privileges(&self) -> Option<Box<Privileges>> {
        let number = |key: &str| self.number(key).and_then(|number| u32::try_from(number).ok());
        let (owner, group, mode) = (number("taken_owner")?, number("taken_group")?, number("taken_mode")?);
        let capability = self.text("taken_capability").map(|text| BASE64_STANDARD.decode(text));
        Some(Box::new(Privileges { owner, group, mode, capability: capability.transpose().ok()? }))
    }

    fn rights(&self) -> Option<Box<Rights>> {
        let number = |key: &str| self.number(key).and_then(|number| u32::try_from(number).ok());
        let of = |pair: &Value| {
            let part = |at: usize| BASE64_STANDARD.decode(pair.get(at)?.as_str()?).ok();
            Some((part(0)?, part(1)?))
        };
        let listed = self.0.get("was_attributes").and_then(Value::as_array)?;
        let attributes = listed.iter().map(of).collect::<Option<Vec<_>>>()?;
        Some(Box::new(Rights { owners: number("was_owner").zip(number("was_group")), attributes }))
    }

    fn item(&self) -> Option<LogLine> {
        let item = Item {
            done: self.text("do").and_then(Done::parse)?,
            side: self.side(),
            path: path_of(self.0)?,
            stands: None,
            size: self.number("size").unwrap_or(0),
            now: self.mark("modified", "mode"),
            read: None,
            was: self.mark("was_modified", "was_mode"),
            moved_from: named_path(self.0, "was", "was_base64"),
            items: self.number("items"),
            makes_room: false,
            hash: None,
            gone: self.text("gone").and_then(Gone::parse).unwrap_or_default(),
            privileges: self.privileges(),
            rights: self.rights(),
        };
        Some(LogLine::Did { item: Box::new(item), to: self.to() })
    }
}

#[cfg(test)]
mod tests {
    use reedhook_core::entry::Stamp;
    use reedhook_core::problem::{Code, Problem};

    use super::*;
    use crate::lines::{self, Began};

    fn read_back(write: impl FnOnce(&mut Vec<u8>)) -> LogLine {
        let mut line = Vec::new();
        write(&mut line);
        LogLine::of(&serde_json::from_slice(&line).expect("a line of JSON"))
    }

    #[test]
    fn what_is_written_is_read_back() {
        let path = RelPath::new(b"counts/\xff heron.csv").expect("a path");
        let mark = |seconds| Mark { modified: Some(Stamp::new(seconds, 7)), mode: Some(0o640) };
        let item = Item {
            done: Done::Moved,
            side: Side::Left,
            path: path.clone(),
            stands: None,
            size: 7,
            now: mark(1_935_850_500),
            read: None,
            was: mark(-5),
            moved_from: Some(RelPath::new(b"rail.csv").expect("a path")),
            items: Some(3),
            makes_room: false,
            hash: None,
            gone: Gone::default(),
            privileges: Some(Box::new(Privileges {
                owner: 1001,
                group: 50,
                mode: 0o4755,
                capability: Some(vec![1, 0, 2]),
            })),
            rights: Some(Box::new(Rights {
                owners: Some((7, 50)),
                attributes: vec![(b"user.station".to_vec(), vec![0, 255])],
            })),
        };
        let to = Some("@field-drive/counts".to_owned());
        let did = LogLine::Did { item: Box::new(item.clone()), to: to.clone() };
        assert_eq!(read_back(|line| lines::item(line, &item, to.as_deref())), did);

        let was = mark(1);
        let folder = LogLine::Folder { side: Side::Right, path: path.clone(), was, to: to.clone() };
        assert_eq!(read_back(|line| lines::folder(line, Side::Right, &path, was, to.as_deref())), folder);

        let problem = Problem::new(Code::NameClash, Side::Right, path.clone(), "two names");
        let (code, message) = (Code::NameClash.as_str().to_owned(), "two names".to_owned());
        let told = LogLine::Problem { code, path, message };
        assert_eq!(read_back(|line| lines::problem(line, &problem)), told);

        let place = RunPlace {
            side: Side::Left,
            place: "~/counts".to_owned(),
            location: "/home/warden/counts".to_owned(),
            mark: "abc".to_owned(),
            ground: None,
        };
        assert_eq!(read_back(|line| lines::place(line, &place)), LogLine::Place(place.clone()));

        let began = Began {
            job: "counts".to_owned(),
            run: "20310504-181500-abcd".to_owned(),
            number: 4,
            started_ms: -1,
            sort: "undo",
            keys: String::new(),
        };
        let (sort, keys) = ("undo".to_owned(), String::new());
        let first = LogLine::Began { number: 4, started_ms: Some(-1), sort, keys };
        assert_eq!(read_back(|line| lines::began(line, &began)), first);
        assert_eq!(
            read_back(|line| lines::planned(line, 3, 70, 2)),
            LogLine::Planned { files: 3, bytes: 70, unkept: Some(2) }
        );
        assert_eq!(LogLine::of(&serde_json::json!({"event": "later"})), LogLine::Other);
    }

    #[test]
    fn fuzzed_lines() {
        let seeds: [&[u8]; 3] = [
            br#"{"event":"item","do":"move","side":"left","path":"a","path_base64":"/w==","size":7,"was":"b","modified":"2031-05-04T18:15:00Z","mode":420,"taken_mode":2541,"taken_owner":1,"taken_group":2,"taken_capability":"AQ=="}"#,
            br#"{"event":"finished","outcome":"done","added":1,"seconds":1e308,"code":"x","message":"m"}"#,
            br#"{"event":"began","number":-1,"started":"2031-05-04T18:15:00.5Z","sort":"undo","keys":"kind = 1"}"#,
        ];
        reedhook_testing::fuzz("lines of logs", &seeds, |bytes| {
            if let Ok(value) = serde_json::from_slice(bytes) {
                drop(LogLine::of(&value));
            }
        });
    }
}
