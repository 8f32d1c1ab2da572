//! Finding out what a place can hold, by trying it.
//!
//! No type of file system tells everything: an old ext4 has no fractions of seconds, a share drops what its server cannot hold, a
//! driver says that a time is set and sets none, and an account may write files whose times it may not set. So everything that
//! matters is tried once, in a folder of Reedhook's own, and read back. What "succeeds" without effect counts as not held.
//!
//! The folder is cleared before and after, so that nothing stays behind, also after a kill: what is found is remembered only when
//! the trial is over, and until then the next run tries, and clears, again. Whoever tries has reserved the store.

use std::io::{self, Seek, SeekFrom, Write};
use std::time::Duration;

use reedhook_core::entry::{Meta, Stamp};
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, Capabilities, Folding, Limits, NameRule};
use serde::{Deserialize, Serialize};

use super::kinds::DOS_TIMES;
use super::sys::{self, Folder};

/// The folder that things are tried in, within Reedhook's own.
const TRIAL: &[u8] = reedhook_core::run::tidy::TRIAL;

/// What was found by trying. It belongs to a file system as it was mounted then, and to an account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TrialResult {
    /// The step of times in nanoseconds; `None` when this account cannot set them.
    step: Option<u64>,
    /// The first and the last second that a time can be, where there is one.
    first: Option<i64>,
    last: Option<i64>,
    folder_times: bool,
    link_times: bool,
    modes: bool,
    /// Whether root can give files away there.
    owners: bool,
    links: bool,
    second_names: bool,
    holes: bool,
    folds_case: bool,
    folds_forms: bool,
    /// Names have to be UTF-8.
    text: bool,
    /// ASCII characters that names may not have.
    refused: Vec<u8>,
    endings: bool,
    devices: bool,
    max_name: usize,
    utf16_names: bool,
    /// The largest file, where it is small enough to matter.
    file_size: Option<u64>,
    /// A file can be renamed over another.
    pub(super) rename_over: bool,
    /// Two files can change places.
    pub(super) exchange: bool,
    /// Everything can be made durable at once.
    pub(super) syncs: bool,
}

impl TrialResult {
    /// Whether times have the step and the beginning that FAT has, whatever its driver calls it: it keeps local time.
    fn looks_like_dos(&self) -> bool {
        const DAY: i64 = 86_400;
        let (dos, _) = DOS_TIMES;
        self.step == Some(2_000_000_000) && self.first.is_some_and(|first| (first - dos).abs() <= DAY)
    }

    /// What a store can do, given what is assumed of its type.
    pub(super) fn onto(&self, assumed: &Capabilities) -> Capabilities {
        let found = (self.first.is_some() || self.last.is_some())
            .then(|| (self.first.unwrap_or(i64::MIN), self.last.unwrap_or(i64::MAX)));
        // A driver may remember what the medium has no room for until it is mounted anew: where the layout is known, it holds too.
        let times = Limits { times: found, ..Limits::NONE }.least(assumed.limits).times;
        let mut rule = NameRule::BYTES.refusing(&self.refused);
        (rule.text, rule.endings, rule.devices) = (self.text, self.endings, self.devices);
        Capabilities {
            time_precision: self.step.map(Duration::from_nanos),
            folder_times: self.folder_times,
            link_times: self.links && self.link_times,
            modes: self.modes,
            links: self.links,
            holes: self.holes,
            full: assumed.full && self.second_names && (self.owners || !sys::is_root()),
            owners: assumed.owners && self.second_names && self.owners,
            folding: Folding { case: self.folds_case, forms: self.folds_forms },
            names: rule,
            max_name: self.max_name,
            limits: Limits {
                times,
                file_size: self.file_size,
                utf16_names: self.utf16_names,
                local_time: assumed.limits.local_time || self.looks_like_dos(),
            },
            ..assumed.clone()
        }
    }
}

/// Tries everything in a folder of Reedhook's own that is there already. An error says that it could not be tried, not that
/// something is not held.
pub(super) fn try_out(own: &Folder) -> io::Result<TrialResult> {
    clear(own)?;
    own.make_folder(TRIAL, None)?;
    let outcome =
        own.open_below(&RelPath::new(TRIAL).unwrap_or_default()).and_then(|folder| Trial { folder }.all());
    clear(own)?;
    outcome
}

/// Removes the folder with what is in it.
fn clear(own: &Folder) -> io::Result<()> {
    if own.stat(TRIAL)?.is_none() {
        return Ok(());
    }
    let folder = own.open_below(&RelPath::new(TRIAL).unwrap_or_default())?;
    for name in folder.names()? {
        folder.unlink(&name).or_else(|_| folder.remove_folder(&name))?;
    }
    own.remove_folder(TRIAL)
}

/// A moment that every file system can hold, to the second.
const MOMENT: i64 = 1_234_567_890;

struct Trial {
    folder: Folder,
}

impl Trial {
    fn all(&self) -> io::Result<TrialResult> {
        let file = b"a";
        // Not being able to make a plain file is no finding.
        self.make(file)?.write_all(&[b'r'; 4096])?;
        let step = self.step(file);
        self.folder.make_folder(b"b", None)?;
        let (first, last) = match step {
            Some(step) => self.range(file, step),
            None => (None, None),
        };
        let links = self.folder.make_link(file, b"c").is_ok()
            && self.look(b"c").is_some_and(|meta| meta.target.as_deref() == Some(file));
        let folding = self.folding();
        let (text, refused, endings, devices) = self.names()?;
        let holes = self.holes();
        let (max_name, utf16_names) = self.longest_name();
        Ok(TrialResult {
            step,
            first,
            last,
            folder_times: step.is_some_and(|step| self.keeps_time(b"b", MOMENT, step)),
            link_times: links && step.is_some_and(|step| self.link_has_a_time_of_its_own(b"c", file, step)),
            modes: self.keeps_modes(file),
            owners: self.keeps_owners(file),
            links,
            second_names: self.folder.link(file, &self.folder, b"d").is_ok()
                && sys::names_of(&self.folder, file).is_some_and(|names| names == 2),
            holes,
            folds_case: folding.case,
            folds_forms: folding.forms,
            text,
            refused,
            endings,
            devices,
            max_name,
            utf16_names,
            file_size: self.largest_file(holes),
            rename_over: self.renames_over(),
            exchange: self.exchanges(),
            syncs: self.folder.sync_file_system().is_ok(),
        })
    }

    fn make(&self, name: &[u8]) -> io::Result<std::fs::File> {
        self.folder.create_file(name, None)
    }

    fn look(&self, name: &[u8]) -> Option<Meta> {
        self.folder.stat(name).ok().flatten()
    }

    /// The time that something has after it was given one.
    fn given(&self, name: &[u8], time: Stamp) -> Option<Stamp> {
        let attributes = Attributes { modified: Some(time), ..Attributes::default() };
        let there = self.look(name)?;
        self.folder.set_all(name, &there, &attributes).ok().filter(|set| *set)?;
        self.look(name)?.modified
    }

    /// The coarsest step that what was read back can have been cut to, up or down.
    fn step(&self, name: &[u8]) -> Option<u64> {
        const STEPS: [u64; 7] = [2_000_000_000, 1_000_000_000, 10_000_000, 1_000_000, 1000, 100, 1];
        // An odd second, with every digit of its fraction: each step cuts it elsewhere.
        let wanted = Stamp::new(MOMENT + 1, 987_654_321);
        let found = self.given(name, wanted)?;
        let nanos = |time: Stamp| i128::from(time.seconds()) * 1_000_000_000 + i128::from(time.nanos());
        let (wanted, found) = (nanos(wanted), nanos(found));
        STEPS.into_iter().find(|step| {
            let step = i128::from(*step);
            found % step == 0 && (found - wanted).abs() < step
        })
    }

    fn keeps_time(&self, name: &[u8], seconds: i64, step: u64) -> bool {
        let wanted = Stamp::new(seconds, 0);
        self.given(name, wanted).is_some_and(|found| found.same_within(wanted, Duration::from_nanos(step)))
    }

    /// The first and the last second that a file can have, looked for by halves around a moment that it can.
    fn range(&self, name: &[u8], step: u64) -> (Option<i64>, Option<i64>) {
        /// The years 1 and 9999.
        const FAR: [i64; 2] = [-62_135_596_800, 253_402_300_798];
        let found = FAR.map(|far| {
            if self.keeps_time(name, far, step) {
                return None;
            }
            let (mut good, mut bad) = (MOMENT, far);
            while (bad - good).abs() > 1 {
                let middle = good + (bad - good) / 2;
                if self.keeps_time(name, middle, step) { good = middle } else { bad = middle }
            }
            Some(good)
        });
        (found[0], found[1])
    }

    /// A driver may set the time of what a link points to instead, wherever that is.
    fn link_has_a_time_of_its_own(&self, link: &[u8], target: &[u8], step: u64) -> bool {
        const OTHER: i64 = MOMENT - 1_000_000;
        self.keeps_time(target, MOMENT, step)
            && self.keeps_time(link, OTHER, step)
            && self
                .look(target)
                .and_then(|meta| meta.modified)
                .is_some_and(|time| time.seconds() > OTHER + 10)
    }

    fn keeps_modes(&self, name: &[u8]) -> bool {
        [0o640, 0o705, 0o600].into_iter().all(|mode| {
            let attributes = Attributes { mode: Some(mode), ..Attributes::default() };
            let there = self.look(name);
            there.is_some_and(|there| self.folder.set_all(name, &there, &attributes).is_ok())
                && self.look(name).and_then(|meta| meta.mode) == Some(mode)
        })
    }

    fn keeps_owners(&self, name: &[u8]) -> bool {
        sys::is_root() && sys::can_be_given_away(&self.folder, name)
    }

    fn folding(&self) -> Folding {
        let is_one = |made: &str, asked: &str| {
            self.make(made.as_bytes()).is_ok() && self.look(asked.as_bytes()).is_some()
        };
        Folding { case: is_one("Case-Of-E", "cASE-oF-e"), forms: is_one("form-e\u{301}", "form-\u{e9}") }
    }

    /// What names may not be: not UTF-8, with which characters, with which endings, and those of devices.
    fn names(&self) -> io::Result<(bool, Vec<u8>, bool, bool)> {
        let with = |byte: u8| [b"x".as_slice(), &[byte], b"y"].concat();
        let candidates: Vec<u8> =
            (1..0x80_u8).filter(|byte| !byte.is_ascii_alphanumeric() && *byte != b'/').collect();
        // Where all of them can stand in one name, they are not tried one by one.
        let at_once = [b"x", candidates.as_slice(), b"y"].concat();
        let mut tried: Vec<Vec<u8>> = vec![
            b"odd\xff".to_vec(),
            b"end.".to_vec(),
            b"end ".to_vec(),
            b"aux.txt".to_vec(),
            at_once.clone(),
        ];
        tried.iter().for_each(|name| drop(self.make(name)));
        let mut there = self.folder.names()?;
        let mut refused = Vec::new();
        if !there.contains(&at_once) {
            let singly: Vec<Vec<u8>> = candidates.iter().map(|byte| with(*byte)).collect();
            singly.iter().for_each(|name| drop(self.make(name)));
            there = self.folder.names()?;
            refused = candidates.into_iter().filter(|byte| !there.contains(&with(*byte))).collect();
            tried.extend(singly);
        }
        // Only what is listed as it was given has been held; something else may have been made of the rest.
        let lost = |name: &[u8]| !there.iter().any(|found| found == name);
        Ok((lost(b"odd\xff"), refused, lost(b"end.") || lost(b"end "), lost(b"aux.txt")))
    }

    /// The longest name, and whether it counts units of UTF-16.
    fn longest_name(&self) -> (usize, bool) {
        let fits = |name: String| {
            let made = self.make(name.as_bytes()).is_ok() && self.look(name.as_bytes()).is_some();
            let _ = self.folder.unlink(name.as_bytes());
            made
        };
        let utf16 = fits("\u{e4}".repeat(200));
        if fits("l".repeat(255)) {
            return (255, utf16);
        }
        let (mut good, mut bad) = (12, 255);
        while bad - good > 1 {
            let middle = usize::midpoint(good, bad);
            if fits("l".repeat(middle)) { good = middle } else { bad = middle }
        }
        (good, utf16)
    }

    /// A long file takes little room, and one with content some: a file system that counts nothing proves nothing.
    fn holes(&self) -> bool {
        const LONG: u64 = 1 << 20;
        let long = self.make(b"hole").and_then(|file| {
            file.set_len(LONG)?;
            file.sync_all()?;
            sys::room_of(&file)
        });
        let counts = self.folder.open_file(b"a").and_then(|file| sys::room_of(&file));
        let _ = self.folder.unlink(b"hole");
        matches!((long, counts), (Ok(long), Ok(counts)) if long < LONG / 2 && counts > 0)
    }

    /// The largest file, where that is a bound that people meet. Moving the position is enough to ask the kernel; a driver in
    /// user space is asked by lengthening a file, where that takes no room.
    fn largest_file(&self, holes: bool) -> Option<u64> {
        /// The bounds that there are in the world: 2 and 4 GiB, less a byte.
        const KNOWN: [u64; 2] = [i32::MAX as u64, u32::MAX as u64];
        const MATTERS: u64 = 1 << 40;
        let mut file = self.make(b"long").ok()?;
        let reaches = |file: &mut std::fs::File, at: u64| file.seek(SeekFrom::Start(at)).is_ok();
        let found = if reaches(&mut file, MATTERS) {
            let bound = || {
                KNOWN
                    .into_iter()
                    .find(|bound| file.set_len(bound + 1).is_err_and(|error| sys::is_too_large(&error)))
            };
            (holes && !sys::has_own_bound()).then(bound).flatten()
        } else {
            let (mut good, mut bad) = (0, MATTERS);
            while bad - good > 1 {
                let middle = good + (bad - good) / 2;
                if reaches(&mut file, middle) { good = middle } else { bad = middle }
            }
            Some(good)
        };
        let _ = self.folder.unlink(b"long");
        found
    }

    fn renames_over(&self) -> bool {
        let made = self.make(b"one").is_ok() && self.make(b"other").is_ok();
        let renamed = made && self.folder.rename_over(b"one", b"other").is_ok();
        renamed && self.look(b"one").is_none() && self.look(b"other").is_some()
    }

    /// A driver may take the wish to exchange, pass over it and rename plainly: both names are looked at afterwards.
    fn exchanges(&self) -> bool {
        let sizes = || [b"third".as_slice(), b"fourth"].map(|name| self.look(name).map(|meta| meta.size));
        let made = self.make(b"third").and_then(|mut file| file.write_all(b"3")).is_ok()
            && self.make(b"fourth").and_then(|mut file| file.write_all(b"44")).is_ok();
        made && self.folder.exchange(b"third", b"fourth").is_ok() && sizes() == [Some(2), Some(1)]
    }
}
