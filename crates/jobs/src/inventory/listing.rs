//! Listings that other machines have printed, read as what a drive held: `find -printf`, `ls -lR`, and tables with a heading.
//!
//! | form | a line |
//! |---|---|
//! | `find … -printf '%y %s %T@ %P\n'` (or `\0`) | `f 812 1935850500.5 counts/north.csv` |
//! | `ls -lR`, best with `--time-style=full-iso` | `./counts:`, then `-rw-r--r-- 1 imke wardens 812 2031-05-04 18:15:00.5 +0200 north.csv` |
//! | CSV (RFC 4180) with a heading | columns `path`, and `kind`, `size`, `modified` where there are any: what `inventory export --csv` writes |
//!
//! A time without a year, as `ls` prints of the last months, is not guessed at.

use std::collections::BTreeMap;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use reedhook_core::entry::{EntryKind, Special, Stamp};
use reedhook_core::path::RelPath;
use reedhook_record::inventories::{InventoryEntry, InventoryMeta};

use crate::lines::stamp_of;

/// What a listing says: its folders, each with what is in it, in the order of their paths.
#[derive(Debug, Default)]
pub struct Listed {
    folders: BTreeMap<Vec<u8>, BTreeMap<Vec<u8>, InventoryMeta>>,
    /// Lines that were not understood, and the number of the first.
    pub strange: Option<(u64, u64)>,
}

impl Listed {
    /// Reads a listing, whichever form it has. Times without an offset are in this zone.
    pub fn read(text: &[u8], zone: &TimeZone) -> Listed {
        let mut listed = Listed::default();
        if text.contains(&0) {
            listed.take_lines(text, 0, find_line);
        } else if is_table(text) {
            listed.take_table(text);
        } else if text.split(|byte| *byte == b'\n').take(5).any(|line| find_line(line).is_some()) {
            listed.take_lines(text, b'\n', find_line);
        } else {
            listed.take_ls(text, zone);
        }
        listed
    }

    /// How many entries it names, with the folders on the way to them.
    pub fn entries(&self) -> u64 {
        self.folders.values().map(|held| held.len() as u64).sum()
    }

    /// Its folders, each with what is in it.
    pub fn into_folders(mut self) -> impl Iterator<Item = (Vec<u8>, Vec<InventoryEntry>)> {
        self.folders.entry(Vec::new()).or_default();
        self.folders.into_iter().map(|(path, held)| {
            (path, held.into_iter().map(|(name, meta)| InventoryEntry { name, meta }).collect())
        })
    }

    fn add(&mut self, path: &[u8], meta: InventoryMeta) -> bool {
        let path = path.strip_prefix(b"./").unwrap_or(path);
        let path = path.strip_suffix(b"/").unwrap_or(path);
        let Ok(path) = RelPath::new(path) else { return false };
        if path.is_root() || path.is_reserved() {
            return true;
        }
        self.put(path.as_bytes(), meta);
        true
    }

    fn put(&mut self, path: &[u8], meta: InventoryMeta) {
        let cut = path.iter().rposition(|byte| *byte == b'/');
        let (folder, name) = cut.map_or((&[][..], path), |at| (&path[..at], &path[at + 1..]));
        if !folder.is_empty() && !self.knows(folder) {
            self.put(folder, InventoryMeta::of(EntryKind::Folder, 0, None, None));
        }
        if meta.kind() == EntryKind::Folder {
            self.folders.entry(path.to_vec()).or_default();
        }
        self.folders.entry(folder.to_vec()).or_default().insert(name.to_vec(), meta);
    }

    fn knows(&self, folder: &[u8]) -> bool {
        let cut = folder.iter().rposition(|byte| *byte == b'/');
        let (above, name) = cut.map_or((&[][..], folder), |at| (&folder[..at], &folder[at + 1..]));
        self.folders.get(above).is_some_and(|held| held.contains_key(name))
    }

    fn is_strange(&mut self, line: u64) {
        let (number, first) = self.strange.unwrap_or((0, line));
        self.strange = Some((number + 1, first));
    }

    fn take_lines(&mut self, text: &[u8], end: u8, parse: Parse) {
        for (line, number) in text.split(|byte| *byte == end).zip(1..) {
            let line = if end == b'\n' { line.strip_suffix(b"\r").unwrap_or(line) } else { line };
            if line.is_empty() {
                continue;
            }
            let taken = parse(line).is_some_and(|(path, meta)| self.add(path, meta));
            if !taken {
                self.is_strange(number);
            }
        }
    }

    fn take_table(&mut self, text: &[u8]) {
        let mut rows = csv::ReaderBuilder::new().flexible(true).from_reader(text);
        let Ok(head) = rows.byte_headers().cloned() else { return self.is_strange(1) };
        let column = |name: &[u8]| head.iter().position(|title| title.eq_ignore_ascii_case(name));
        let (path, kind, size, modified) =
            (column(b"path"), column(b"kind"), column(b"size"), column(b"modified"));
        for (row, number) in rows.byte_records().zip(2..) {
            let Ok(row) = row else {
                self.is_strange(number);
                continue;
            };
            let cell = |at: Option<usize>| at.and_then(|at| row.get(at)).unwrap_or_default();
            let text = |at: Option<usize>| std::str::from_utf8(cell(at)).unwrap_or_default();
            let meta = InventoryMeta::of(
                kind_of_word(text(kind)),
                text(size).parse().unwrap_or(0),
                stamp_of(text(modified)),
                None,
            );
            if cell(path).is_empty() || !self.add(cell(path), meta) {
                self.is_strange(number);
            }
        }
    }

    fn take_ls(&mut self, text: &[u8], zone: &TimeZone) {
        let mut folder: Vec<u8> = Vec::new();
        // The first heading is the folder that was listed; what it is called there is not in the paths.
        let mut root: Option<Vec<u8>> = None;
        for (line, number) in text.split(|byte| *byte == b'\n').zip(1..) {
            let line = line.strip_suffix(b"\r").unwrap_or(line);
            if line.is_empty() || line.starts_with(b"total ") {
                continue;
            }
            if let Some((name, meta)) = ls_line(line, zone) {
                let mut path = folder.clone();
                if !path.is_empty() {
                    path.push(b'/');
                }
                path.extend_from_slice(name);
                if matches!(name, b"." | b"..") || self.add(&path, meta) {
                    continue;
                }
            } else if let Some(heading) = line.strip_suffix(b":") {
                let root = root.get_or_insert_with(|| heading.to_vec());
                let below = heading.strip_prefix(root.as_slice()).unwrap_or(heading);
                folder = below.strip_prefix(b"/").unwrap_or(below).to_vec();
                continue;
            }
            self.is_strange(number);
        }
    }
}

fn is_table(text: &[u8]) -> bool {
    let first = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let first = String::from_utf8_lossy(first).to_ascii_lowercase();
    first.trim().trim_start_matches('\u{feff}').split(',').any(|title| title.trim_matches('"') == "path")
}

fn kind_of_word(word: &str) -> EntryKind {
    match word {
        "folder" => EntryKind::Folder,
        "link" => EntryKind::Link,
        "special" => EntryKind::Special(Special::Other),
        _ => EntryKind::File,
    }
}

/// A letter of `find` or of `ls`.
fn kind_of_letter(letter: u8) -> Option<EntryKind> {
    match letter {
        b'f' | b'-' => Some(EntryKind::File),
        b'd' => Some(EntryKind::Folder),
        b'l' => Some(EntryKind::Link),
        b'p' | b's' | b'b' | b'c' | b'D' | b'U' => Some(EntryKind::Special(Special::Other)),
        _ => None,
    }
}

/// Reads a line as a path, or a name, and what is known of it.
type Parse = fn(&[u8]) -> Option<(&[u8], InventoryMeta)>;

/// `KIND SIZE SECONDS PATH`
fn find_line(line: &[u8]) -> Option<(&[u8], InventoryMeta)> {
    let mut parts = line.splitn(4, |byte| *byte == b' ');
    let (kind, size, time, path) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
    let [letter] = kind else { return None };
    let number = |text: &[u8]| std::str::from_utf8(text).ok()?.parse::<u64>().ok();
    let (whole, part) =
        std::str::from_utf8(time).ok()?.split_once('.').unwrap_or((std::str::from_utf8(time).ok()?, ""));
    let nanos: String = part.chars().chain("000000000".chars()).take(9).collect();
    let time = Stamp::new(whole.parse().ok()?, nanos.parse().ok()?);
    Some((path, InventoryMeta::of(kind_of_letter(*letter)?, number(size)?, Some(time), None)))
}

/// `MODE LINKS OWNER GROUP SIZE TIME… NAME`, with the time in any of the forms that `ls` has.
fn ls_line<'a>(line: &'a [u8], zone: &TimeZone) -> Option<(&'a [u8], InventoryMeta)> {
    let kind = kind_of_letter(*line.first()?)?;
    let mut rest = line;
    let mut word = || {
        let begin = rest.iter().position(|byte| *byte != b' ')?;
        let after = &rest[begin..];
        let end = after.iter().position(|byte| *byte == b' ')?;
        rest = &after[end..];
        std::str::from_utf8(&after[..end]).ok()
    };
    let mode = word()?;
    if !(10..=11).contains(&mode.len()) {
        return None;
    }
    word()?.parse::<u64>().ok()?;
    // Owner and group.
    word()?;
    word()?;
    let size = word()?;
    // A device has two numbers in its place.
    let size = match size.strip_suffix(',') {
        Some(_) => {
            word()?;
            0
        }
        None => size.parse().ok()?,
    };
    let (day, clock) = (word()?, word()?);
    let time = match (day.parse::<jiff::civil::Date>(), clock) {
        (Ok(date), clock) => {
            let local: Option<DateTime> = clock.parse().ok().map(|time| date.to_datetime(time));
            let seconds = clock.matches(':').count() == 2;
            // The full form has the offset behind the time.
            let zone = if seconds { offset(word()?)? } else { zone.clone() };
            local.and_then(|local| local.to_zoned(zone).ok()).map(|at| at.timestamp())
        }
        (Err(_), _) => {
            // `May  4 18:15` or `May  4  2031`: a day of a year at best.
            word()?;
            None
        }
    };
    let time = time.map(|at| Stamp::new(at.as_second(), at.subsec_nanosecond().unsigned_abs()));
    let name = rest.strip_prefix(b" ")?;
    let name = match kind {
        EntryKind::Link => name.windows(4).position(|four| four == b" -> ").map_or(name, |at| &name[..at]),
        _ => name,
    };
    Some((name, InventoryMeta::of(kind, size, time, None)))
}

/// `+0200`
fn offset(text: &str) -> Option<TimeZone> {
    let (sign, digits) = match text.split_at_checked(1)? {
        ("+", digits) => (1, digits),
        ("-", digits) => (-1, digits),
        _ => return None,
    };
    let (hours, minutes) = (digits.get(..2)?.parse::<i32>().ok()?, digits.get(2..4)?.parse::<i32>().ok()?);
    Some(jiff::tz::Offset::from_seconds(sign * (hours * 3600 + minutes * 60)).ok()?.to_time_zone())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(text: &str) -> Vec<String> {
        let listed = Listed::read(text.as_bytes(), &TimeZone::UTC);
        let strange = listed.strange.map(|(number, first)| format!("{number} strange from line {first}"));
        let mut told: Vec<String> = listed
            .into_folders()
            .flat_map(|(path, held)| {
                let path = String::from_utf8_lossy(&path).into_owned();
                held.into_iter().map(move |one| {
                    let time = one.meta.modified().map_or("?".to_owned(), |time| time.seconds().to_string());
                    format!(
                        "{path}|{}|{:?}|{}|{time}",
                        String::from_utf8_lossy(&one.name),
                        one.meta.kind(),
                        one.meta.size
                    )
                })
            })
            .collect();
        told.extend(strange);
        told
    }

    #[test]
    fn three_forms_of_one_tree_are_one_tree() {
        let find = "d 4096 1935850500.0 counts\nf 812 1935850500.5000000000 counts/north 1.csv\nl 3 1935850500.0 link\n";
        let ls = "./:\ntotal 8\ndrwxr-xr-x 2 imke wardens 4096 2031-05-06 18:15:00.000000000 +0200 counts\n\
                  lrwxrwxrwx 1 imke wardens    3 2031-05-06 16:15:00.000000000 +0000 link -> old\n\n\
                  ./counts:\ntotal 4\n-rw-r--r--. 1 imke wardens 812 2031-05-06 16:15:00.500000000 +0000 north 1.csv\n";
        let csv = "path,kind,size,modified\r\ncounts,folder,,2031-05-06T16:15:00Z\r\n\
                   \"counts/north 1.csv\",file,812,2031-05-06T16:15:00.5Z\r\nlink,link,,2031-05-06T16:15:00Z\r\n";
        let expected = [
            "|counts|Folder|0|1935850500",
            "|link|Link|0|1935850500",
            "counts|north 1.csv|File|812|1935850500",
        ];
        let ls = ls.replacen("./:", ".:", 1);
        for text in [find, &find.replace('\n', "\0"), &ls, csv] {
            assert_eq!(told(text), expected, "{text}");
        }
    }

    #[test]
    fn what_is_missing_is_added_and_what_is_strange_is_counted() {
        let find = "f 1 5.0 deep/down/a\nf 1 5.0 ../out\nnonsense\nf x 5.0 b\nf 1 5 ./c\n";
        let expected = [
            "|c|File|1|5",
            "|deep|Folder|0|?",
            "deep|down|Folder|0|?",
            "deep/down|a|File|1|5",
            "3 strange from line 2",
        ];
        assert_eq!(told(find), expected);
        let ls = "/media/x:\n-rw-r--r-- 1 a b 7 May  4 18:15 recent\n-rw-r--r-- 1 a b 7 May  4  2031 old\n\
                  brw-rw---- 1 root disk 8, 1 2031-05-04 18:15 sda1\n-rw-r--r-- 1 a b 7 2031-05-04 18:15 short\n\n/media/x/sub:\n";
        let expected = [
            "|old|File|7|?",
            "|recent|File|7|?",
            "|sda1|Special(Other)|0|1935684900",
            "|short|File|7|1935684900",
        ];
        assert_eq!(told(ls), expected);
        assert_eq!(told(""), [] as [String; 0]);
    }

    #[test]
    fn fuzzed_listings() {
        let seeds: [&[u8]; 4] = [
            b"f|12|1935684900.5|a/b\0d|0|1935684900|a\0",
            b"path,kind,size,modified\r\na,file,12,2031-05-04T18:15:00Z\r\n",
            b"./a:\ntotal 4\n-rw-r--r-- 1 warden station 12 2031-05-04 18:15:00.000000000 +0200 b\n",
            b"{\"event\":\"entry\",\"path\":\"a\",\"kind\":\"file\",\"size\":1}\n",
        ];
        reedhook_testing::fuzz("listings of drives", &seeds, |text| {
            drop(Listed::read(text, &jiff::tz::TimeZone::UTC))
        });
    }
}
