//! What servers say of files: the machine-readable lines of MLSD and MLST (RFC 3659, section 7), and the lines of LIST, which
//! were made for people.

use std::time::UNIX_EPOCH;

use jiff::civil::DateTime;
use reedhook_core::entry::{EntryKind, Meta, Special, Stamp, Version};
use suppaftp::list::ListParser;

/// A line of a listing: a name, as bytes, and what is said of it.
#[derive(Debug)]
pub(super) struct ListingLine {
    pub(super) name: Vec<u8>,
    /// `None` when the server does not say enough to use it.
    pub(super) meta: Option<Meta>,
    /// The folder itself, or the one above.
    pub(super) dots: bool,
}

/// Text of the control connection as bytes: each character stands for one.
pub(super) fn bytes_of(text: &str) -> Vec<u8> {
    text.chars().map(|character| u8::try_from(u32::from(character)).unwrap_or(b'?')).collect()
}

/// Bytes as text of the control connection.
pub(super) fn text_of(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| char::from(*byte)).collect()
}

/// Reads a line of MLSD or MLST: `fact=value;fact=value; name`.
pub(super) fn machine_line(line: &[u8], arrival: bool) -> Option<ListingLine> {
    let at = line.iter().position(|byte| *byte == b' ')?;
    let (facts, name) = (std::str::from_utf8(&line[..at]).ok()?, line[at + 1..].to_vec());
    let (mut kind, mut size, mut modified, mut mode) = (None, None, None, None);
    let mut dots = false;
    for fact in facts.split(';').filter(|fact| !fact.is_empty()) {
        let (word, value) = fact.split_once('=')?;
        match word.to_ascii_lowercase().as_str() {
            "type" => match value.to_ascii_lowercase().as_str() {
                "file" => kind = Some(EntryKind::File),
                "dir" => kind = Some(EntryKind::Folder),
                "cdir" | "pdir" => dots = true,
                // Links cannot be made over FTP, and most servers do not say where one points.
                _ => kind = Some(EntryKind::Special(Special::Other)),
            },
            "size" => size = value.parse().ok(),
            "modify" => modified = time(value),
            "unix.mode" => mode = u32::from_str_radix(value, 8).ok().map(|mode| mode & 0o7777),
            _ => {}
        }
    }
    Some(ListingLine { name, meta: kind.and_then(|kind| meta(kind, size, modified, mode, arrival)), dots })
}

/// `YYYYMMDDHHMMSS[.fraction]` in universal time (RFC 3659, section 2.3).
fn time(text: &str) -> Option<Stamp> {
    let digits = text.get(..14)?;
    let number = |from: usize, to: usize| digits.get(from..to)?.parse::<i16>().ok();
    let date = DateTime::new(
        number(0, 4)?,
        number(4, 6)? as i8,
        number(6, 8)? as i8,
        number(8, 10)? as i8,
        number(10, 12)? as i8,
        number(12, 14)?.min(59) as i8,
        0,
    );
    let zoned = date.ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok()?;
    Some(Stamp::new(zoned.timestamp().as_second(), 0))
}

/// A time as [`time`] reads it.
pub(super) fn time_text(stamp: Stamp) -> Option<String> {
    let time = jiff::Timestamp::new(stamp.seconds(), 0).ok()?;
    Some(time.strftime("%Y%m%d%H%M%S").to_string())
}

fn meta(
    kind: EntryKind,
    size: Option<u64>,
    modified: Option<Stamp>,
    mode: Option<u32>,
    arrival: bool,
) -> Option<Meta> {
    let file = kind == EntryKind::File;
    let size = if file { size? } else { 0 };
    let modified = modified.filter(|_| file);
    let tag = modified.map(|modified| format!("{}/{size}", modified.seconds()));
    let version = tag.filter(|_| arrival).map(|tag| Box::new(Version { tag, arrival: true, young: false }));
    Some(Meta { kind, size, modified, mode, unlisted: None, id: None, target: None, extra: None, version })
}

/// What is known of a file by its size and its time alone, in seconds since 1970.
pub(super) fn unlisted(size: u64, modified: Option<i64>) -> Option<Meta> {
    meta(EntryKind::File, Some(size), modified.map(|seconds| Stamp::new(seconds, 0)), None, true)
}

/// Reads a line of LIST, in the form of `ls -l` or of DOS. Its times have no seconds, and often no year: they tell when the server got
/// the file at best.
pub(super) fn listed_line(line: &[u8]) -> Option<ListingLine> {
    let text = text_of(line);
    let file = ListParser::parse_posix(&text).or_else(|_| ListParser::parse_dos(&text)).ok()?;
    // The crate takes blanks at both ends of a name away.
    let name = name_in(line).map_or_else(|| bytes_of(file.name()), <[u8]>::to_vec);
    let kind = if file.is_directory() {
        EntryKind::Folder
    } else if file.is_file() {
        EntryKind::File
    } else {
        EntryKind::Special(Special::Other)
    };
    let since = file.modified().duration_since(UNIX_EPOCH).ok().map(|since| since.as_secs() as i64);
    let dots = name == b"." || name == b"..";
    let meta = meta(kind, Some(file.size() as u64), since.map(|seconds| Stamp::new(seconds, 0)), None, true);
    Some(ListingLine { name, meta, dots })
}

/// The name in a line of LIST, to the byte: what follows the one blank behind the time, in the form of `ls -l`; behind the size, in that
/// of DOS. `None` where the line has neither form.
fn name_in(line: &[u8]) -> Option<&[u8]> {
    const MONTHS: [&[u8]; 12] =
        [b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov", b"Dec"];
    const FOLDER: &[u8] = b"<DIR>";
    /// The width of the column of sizes, which folders fill up with blanks.
    const BEHIND_FOLDER: usize = 10;
    let words = words_of(line);
    let word = |at: usize| words.get(at).map(|(from, to)| &line[*from..*to]);
    let is_number = |word: &[u8]| !word.is_empty() && word.iter().all(u8::is_ascii_digit);
    let is_month = |word: &[u8]| MONTHS.iter().any(|month| month.eq_ignore_ascii_case(word));
    // Names of owners and groups may have blanks in them, so the month is looked for.
    let month = (4..words.len()).find(|at| {
        word(*at).is_some_and(is_month)
            && word(at - 1).is_some_and(is_number)
            && word(at + 1).is_some_and(is_number)
    });
    if let Some(month) = month {
        let name = line.get(words.get(month + 2)?.1 + 1..)?;
        let target = name.windows(4).position(|part| part == b" -> ");
        return Some(if line.starts_with(b"l") { &name[..target.unwrap_or(name.len())] } else { name });
    }
    let dated = word(0)?.iter().all(|byte| byte.is_ascii_digit() || *byte == b'-');
    let behind = words.get(2)?.1;
    match word(2)? {
        FOLDER if dated => line.get(behind + BEHIND_FOLDER..),
        size if dated && is_number(size) => line.get(behind + 1..),
        _ => None,
    }
}

/// Where the words of a line begin and end.
fn words_of(line: &[u8]) -> Vec<(usize, usize)> {
    let mut words = Vec::new();
    let mut begun = None;
    for (at, byte) in line.iter().chain(b" ").enumerate() {
        match (byte, begun) {
            (b' ', Some(from)) => {
                words.push((from, at));
                begun = None;
            }
            (b' ', None) | (_, Some(_)) => {}
            (_, None) => begun = Some(at),
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_in_listings_for_people_are_read_to_the_byte() {
        let rows: [(&[u8], &[u8]); 8] = [
            (b"-rw-r--r--   1 ranger   marsh     1234 Apr 01  2024 heron count.csv", b"heron count.csv"),
            (b"-rw-r--r--   1 ranger   marsh     1234 Apr 01 12:05  heron.csv", b" heron.csv"),
            (b"-rw-r--r--   1 ranger   marsh     1234 Apr 01 12:05   two ", b"  two "),
            (b"-rw-r--r--   1 ranger   marsh  1234 Apr  1 12:05 Apr 01 12:05 x", b"Apr 01 12:05 x"),
            (b"lrwxrwxrwx   1 ranger   marsh       12 Nov 23 14:06 latest -> counts/heron", b"latest"),
            (b"-rw-r--r--   1 ranger   marsh     1234 Apr 01  2024 a -> b", b"a -> b"),
            (b"04-01-24  12:05PM                 1234  heron.csv", b" heron.csv"),
            (b"04-01-24  12:05PM       <DIR>          counts", b"counts"),
        ];
        for (line, name) in rows {
            let found = name_in(line).map(|name| String::from_utf8_lossy(name).into_owned());
            assert_eq!(found.as_deref(), std::str::from_utf8(name).ok(), "{}", String::from_utf8_lossy(line));
            assert_eq!(listed_line(line).map(|line| line.name).as_deref(), Some(name));
        }
        assert_eq!(name_in(b"total 12"), None);
    }

    #[test]
    fn machine_lines_are_read_to_the_byte() {
        let line =
            machine_line(b"Type=file;Size=12;Modify=20260401120530.123;UNIX.mode=0640;  a\xffb ", false)
                .expect("a line");
        let meta = line.meta.expect("a file");
        assert_eq!(line.name, b" a\xffb ");
        assert_eq!((meta.kind, meta.size, meta.mode), (EntryKind::File, 12, Some(0o640)));
        assert_eq!(meta.modified, Some(Stamp::new(1_775_045_130, 0)));
        assert_eq!(time_text(Stamp::new(1_775_045_130, 0)).as_deref(), Some("20260401120530"));
        assert!(machine_line(b"type=cdir; .", false).expect("a line").dots);
        let link = machine_line(b"type=OS.unix=symlink;size=3; x", false).expect("a line");
        assert_eq!(link.meta.expect("known").kind, EntryKind::Special(Special::Other));
        assert!(machine_line(b"type=file;modify=20260401120530; x", false).expect("a line").meta.is_none());
        assert!(machine_line(b"nonsense", false).is_none());
        assert!(machine_line(b"no-fact name", false).is_none());
    }

    #[test]
    fn lines_for_people_are_read_as_well_as_they_can_be() {
        let line = listed_line(b"-rw-r--r--   1 ranger   marsh     1234 Apr 01  2024 heron count.csv")
            .expect("a line");
        let meta = line.meta.expect("a file");
        assert_eq!((line.name.as_slice(), meta.size), (b"heron count.csv".as_slice(), 1234));
        assert!(meta.is_arrival());
        let folder =
            listed_line(b"drwxr-xr-x   2 ranger   marsh     4096 Nov 23 14:06 counts").expect("a line");
        assert!(folder.meta.expect("a folder").is_folder());
        assert!(listed_line(b"total 12").is_none());
    }

    #[test]
    fn fuzzed_lists() {
        let seeds: [&[u8]; 4] = [
            b"Type=file;Size=12;Modify=20260401120530.123;UNIX.mode=0640; heron.csv",
            b"-rw-r--r--   1 warden  station     1234 Apr  1 12:05 heron counts.csv",
            b"04-01-26  12:05PM       <DIR>          counts",
            b"lrwxrwxrwx 1 0 0 4 Jan 1 2031 link -> heron.csv",
        ];
        reedhook_testing::fuzz("FTP lists", &seeds, |line| {
            drop((machine_line(line, true), listed_line(line)))
        });
    }
}
