//! What takes part in a job and what does not, and which line decided it.
//!
//! The order, first match wins:
//! 1. `.reedhook/` at the root, and Reedhook's unfinished files anywhere: never part of a job.
//! 2. `exclude` lines: a match is out, and so is everything below a folder that is out.
//! 3. `junk = "skip"`: what operating systems leave behind is out.
//! 4. `hidden = "skip"`: names that begin with a dot are out.
//! 5. `only` lines, when there are any: what neither matches nor lies below a match is out; folders are still looked into.
//! 6. Size and age limits, for files.
//!
//! A line is a glob in the manner of gitignore: `*` and `?` stay within one name, `**` crosses folders, `[a-z]` and
//! `{a,b}` choose, `\` takes the next character as it is. A line with a `/` at its beginning or in its middle is anchored
//! at the root of the side; any other matches at every depth. A `/` at the end matches folders only.

use std::fmt;

use globset::{Candidate, GlobBuilder, GlobSet, GlobSetBuilder};

use crate::entry::{EntryKind, Meta, Stamp};
use crate::path::{Name, RESERVED_NAME, RelPath};
use crate::units::{Moment, Size};

crate::units::keywords! {
    /// Whether a class of files takes part.
    pub enum TakeOrSkip {
        /// They take part.
        Take = "take",
        /// They are left out.
        Skip = "skip",
    }
}

/// An anchored line that matches just this path. A name that is not UTF-8 cannot be written into a job file.
pub fn line_for(path: &RelPath) -> Option<String> {
    let text = std::str::from_utf8(path.as_bytes()).ok().filter(|text| !text.is_empty())?;
    let mut line = String::from("/");
    for c in text.chars() {
        if matches!(c, '*' | '?' | '[' | ']' | '{' | '}' | '\\' | '!') {
            line.push('\\');
        }
        line.push(c);
    }
    Some(line)
}

/// A job's filter as it is written down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilterSpec {
    /// Lines that leave out.
    pub exclude: Vec<String>,
    /// Lines of which one must match, unless there are none.
    pub only: Vec<String>,
    /// What operating systems leave behind.
    pub junk: TakeOrSkip,
    /// Names that begin with a dot.
    pub hidden: TakeOrSkip,
    /// Files smaller than this are out.
    pub min_size: Option<Size>,
    /// Files larger than this are out.
    pub max_size: Option<Size>,
    /// Files last changed before this are out.
    pub newer_than: Option<Moment>,
    /// Files last changed after this are out.
    pub older_than: Option<Moment>,
}

impl Default for FilterSpec {
    fn default() -> Self {
        FilterSpec {
            exclude: Vec::new(),
            only: Vec::new(),
            junk: TakeOrSkip::Skip,
            hidden: TakeOrSkip::Take,
            min_size: None,
            max_size: None,
            newer_than: None,
            older_than: None,
        }
    }
}

/// A filter line that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the filter line {line:?} {reason}")]
pub struct FilterError {
    /// The line as written.
    pub line: String,
    /// What is wrong with it, as the end of a sentence.
    pub reason: String,
}

/// Why something is out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Rule {
    /// Reedhook's own folder or unfinished file.
    Own,
    /// The `exclude` line with this index.
    Exclude(usize),
    /// An operating system's leftovers.
    Junk,
    /// A name that begins with a dot.
    Hidden,
    /// No `only` line matches.
    NotInOnly,
    /// Smaller than `min_size`.
    TooSmall,
    /// Larger than `max_size`.
    TooLarge,
    /// Last changed before `newer_than`.
    TooOld,
    /// Last changed after `older_than`.
    TooNew,
    /// Not one of the folders that this job's sources land in.
    OtherSource,
    /// Not one of the paths that were asked for.
    NotAsked,
}

impl Rule {
    /// Whether an entry is out for its size or age: it may have taken part before, and do so again.
    pub fn is_limit(self) -> bool {
        matches!(self, Rule::TooSmall | Rule::TooLarge | Rule::TooOld | Rule::TooNew)
    }
}

/// What the filter says about one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It takes part.
    In,
    /// A folder that no `only` line matches; something below it may take part.
    Through,
    /// It does not take part, nor does anything below it.
    Out(Rule),
}

/// What a folder's verdict means for its entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Inherited {
    /// An `only` line matched this folder or one above it.
    pub chosen: bool,
}

/// A compiled filter: pure, shared between threads.
#[derive(Debug)]
pub struct Filter {
    spec: FilterSpec,
    exclude: Lines,
    only: Lines,
    newer_than: Option<Stamp>,
    older_than: Option<Stamp>,
    top_level: Option<Vec<Name>>,
    paths: Option<Vec<RelPath>>,
}

impl Filter {
    /// Compiles a filter; ages in it count back from `now`.
    ///
    /// # Errors
    /// When a line is no valid glob.
    pub fn new(spec: &FilterSpec, now: Stamp) -> Result<Filter, FilterError> {
        Ok(Filter {
            exclude: Lines::new(&spec.exclude)?,
            only: Lines::new(&spec.only)?,
            newer_than: spec.newer_than.as_ref().map(|moment| moment.resolve(now)),
            older_than: spec.older_than.as_ref().map(|moment| moment.resolve(now)),
            top_level: None,
            paths: None,
            spec: spec.clone(),
        })
    }

    /// The same filter, restricted to these names directly below the root: a job with several sources looks after their
    /// folders only.
    pub fn with_top_level(mut self, names: Vec<Name>) -> Filter {
        self.top_level = Some(names);
        self
    }

    /// Everything at and below these paths, and nothing else: for bringing back what a person names.
    ///
    /// # Errors
    /// Never, in fact: there is no line to misread.
    pub fn for_paths(paths: Vec<RelPath>) -> Result<Filter, FilterError> {
        let spec = FilterSpec { junk: TakeOrSkip::Take, ..FilterSpec::default() };
        Ok(Filter { paths: Some(paths), ..Filter::new(&spec, Stamp::new(0, 0))? })
    }

    /// Whether a path is one of those that [`Filter::for_paths`] was given, or lies below one.
    pub fn names(&self, path: &RelPath) -> bool {
        self.paths.as_ref().is_some_and(|paths| paths.iter().any(|named| path.is_within(named)))
    }

    /// What the root hands down to its entries.
    pub fn root(&self) -> Inherited {
        Inherited { chosen: self.only.is_empty() }
    }

    /// What a folder with this verdict hands down.
    pub fn inherit(&self, verdict: Verdict) -> Inherited {
        Inherited { chosen: verdict == Verdict::In }
    }

    /// Judges one entry of `folder`.
    pub fn judge(&self, folder: &RelPath, name: &Name, meta: &Meta, inherited: Inherited) -> Verdict {
        if let Some(rule) = self.own_or_foreign(folder, name) {
            return Verdict::Out(rule);
        }
        if let Some(paths) = &self.paths {
            return judge_by_paths(paths, &folder.join(name));
        }
        if !self.exclude.is_empty() || !inherited.chosen {
            let path = folder.join(name);
            let candidate = Candidate::from_bytes(path.as_bytes());
            if let Some(line) = self.exclude.first_match(&candidate, meta.is_folder()) {
                return Verdict::Out(Rule::Exclude(line));
            }
            if let Some(rule) = self.name_rule(name) {
                return Verdict::Out(rule);
            }
            if !inherited.chosen && self.only.first_match(&candidate, meta.is_folder()).is_none() {
                return if meta.is_folder() { Verdict::Through } else { Verdict::Out(Rule::NotInOnly) };
            }
        } else if let Some(rule) = self.name_rule(name) {
            return Verdict::Out(rule);
        }
        self.limit_rule(meta).map_or(Verdict::In, Verdict::Out)
    }

    /// Whether a name is left out whatever it stands for: it could not be examined.
    pub fn leaves_out_unseen(&self, folder: &RelPath, name: &Name, inherited: Inherited) -> bool {
        [EntryKind::File, EntryKind::Folder].into_iter().all(|kind| {
            let verdict = self.judge(folder, name, &Meta::bare(kind), inherited);
            // Sizes and times cannot decide about what nobody could look at.
            let by_looks = [Rule::TooSmall, Rule::TooLarge, Rule::TooOld, Rule::TooNew];
            matches!(verdict, Verdict::Out(rule) if !by_looks.contains(&rule))
        })
    }

    /// The line or key that a rule stands for, as a person would look for it in the job file.
    pub fn describe(&self, rule: Rule) -> String {
        let quoted = |key: &str, value: &dyn fmt::Display| format!("{key} = \"{value}\"");
        match rule {
            Rule::Own => "Reedhook's own".to_owned(),
            Rule::Exclude(line) => {
                format!("exclude {}", self.spec.exclude.get(line).map_or("?", String::as_str))
            }
            Rule::Junk => quoted("junk", &"skip"),
            Rule::Hidden => quoted("hidden", &"skip"),
            Rule::NotInOnly => "no line of only".to_owned(),
            Rule::TooSmall => self.spec.min_size.map_or(String::new(), |size| quoted("min_size", &size)),
            Rule::TooLarge => self.spec.max_size.map_or(String::new(), |size| quoted("max_size", &size)),
            Rule::TooOld => {
                self.spec.newer_than.as_ref().map_or(String::new(), |moment| quoted("newer_than", moment))
            }
            Rule::TooNew => {
                self.spec.older_than.as_ref().map_or(String::new(), |moment| quoted("older_than", moment))
            }
            Rule::NotAsked => "not asked for".to_owned(),
            Rule::OtherSource => "not one of the job's sources".to_owned(),
        }
    }

    fn own_or_foreign(&self, folder: &RelPath, name: &Name) -> Option<Rule> {
        if name.is_passing() || (folder.is_root() && name.as_bytes() == RESERVED_NAME) {
            return Some(Rule::Own);
        }
        let names = self.top_level.as_ref().filter(|_| folder.is_root())?;
        (!names.contains(name)).then_some(Rule::OtherSource)
    }

    fn name_rule(&self, name: &Name) -> Option<Rule> {
        if self.spec.junk == TakeOrSkip::Skip && is_junk(name.as_bytes()) {
            return Some(Rule::Junk);
        }
        (self.spec.hidden == TakeOrSkip::Skip && name.as_bytes().starts_with(b".")).then_some(Rule::Hidden)
    }

    fn limit_rule(&self, meta: &Meta) -> Option<Rule> {
        if meta.kind != EntryKind::File {
            return None;
        }
        if self.spec.min_size.is_some_and(|limit| meta.size < limit.bytes()) {
            return Some(Rule::TooSmall);
        }
        if self.spec.max_size.is_some_and(|limit| meta.size > limit.bytes()) {
            return Some(Rule::TooLarge);
        }
        // A file whose time nobody knows is never left out for its age.
        let modified = meta.modified?;
        if self.newer_than.is_some_and(|limit| modified < limit) {
            return Some(Rule::TooOld);
        }
        self.older_than.is_some_and(|limit| modified > limit).then_some(Rule::TooNew)
    }
}

fn judge_by_paths(paths: &[RelPath], path: &RelPath) -> Verdict {
    if paths.iter().any(|wanted| path.is_within(wanted)) {
        Verdict::In
    } else if paths.iter().any(|wanted| wanted.is_within(path)) {
        Verdict::Through
    } else {
        Verdict::Out(Rule::NotAsked)
    }
}

/// Filter lines, compiled; each glob remembers the line it came from.
#[derive(Debug)]
pub(crate) struct Lines {
    /// Lines for anything, lines for folders only: the set and the line numbers of its globs.
    any: (GlobSet, Vec<usize>),
    folders: (GlobSet, Vec<usize>),
}

impl Lines {
    pub(crate) fn new(lines: &[String]) -> Result<Lines, FilterError> {
        let mut any = (GlobSetBuilder::new(), Vec::new());
        let mut folders = (GlobSetBuilder::new(), Vec::new());
        for (number, line) in lines.iter().enumerate() {
            let (pattern, folder_only) = glob_of(line)?;
            let glob = GlobBuilder::new(&pattern)
                .literal_separator(true)
                .backslash_escape(true)
                .build()
                .map_err(|error| wrong(line, format!("is no valid pattern: {}", error.kind())))?;
            let set = if folder_only { &mut folders } else { &mut any };
            set.0.add(glob);
            set.1.push(number);
        }
        let build = |(builder, numbers): (GlobSetBuilder, Vec<usize>)| {
            builder.build().map(|set| (set, numbers)).map_err(|error| {
                wrong(error.glob().unwrap_or_default(), format!("is too large: {}", error.kind()))
            })
        };
        Ok(Lines { any: build(any)?, folders: build(folders)? })
    }

    fn is_empty(&self) -> bool {
        self.any.0.is_empty() && self.folders.0.is_empty()
    }

    pub(crate) fn first_match(&self, candidate: &Candidate<'_>, folder: bool) -> Option<usize> {
        let first = |(set, numbers): &(GlobSet, Vec<usize>)| {
            if set.is_empty() {
                return None;
            }
            set.matches_candidate(candidate).into_iter().filter_map(|glob| numbers.get(glob).copied()).min()
        };
        let any = first(&self.any);
        let folders = if folder { first(&self.folders) } else { None };
        any.into_iter().chain(folders).min()
    }
}

/// The glob for a line, and whether it is for folders only.
fn glob_of(line: &str) -> Result<(String, bool), FilterError> {
    if line.starts_with('!') {
        return Err(wrong(
            line,
            "begins with \"!\": there are no exceptions to exceptions here; use a narrower exclude line, or an only \
             line (for a name that begins with \"!\", write \"\\!\")",
        ));
    }
    let folder_only = line.ends_with('/');
    let body = line.trim_end_matches('/');
    let anchored = body.contains('/');
    let body = body.strip_prefix('/').unwrap_or(body);
    if body.is_empty() {
        return Err(wrong(line, "is empty"));
    }
    if body.split('/').any(|part| part == "." || part == ".." || part.is_empty()) {
        return Err(wrong(
            line,
            "has a part that is empty, \".\" or \"..\"; paths here begin at the root of the side",
        ));
    }
    Ok((if anchored { body.to_owned() } else { format!("**/{body}") }, folder_only))
}

fn wrong(line: &str, reason: impl Into<String>) -> FilterError {
    FilterError { line: line.to_owned(), reason: reason.into() }
}

/// Names that operating systems create by themselves and that mean nothing on another machine.
fn is_junk(name: &[u8]) -> bool {
    matches!(
        name,
        b".DS_Store"
            | b".Spotlight-V100"
            | b".Trashes"
            | b".fseventsd"
            | b".TemporaryItems"
            | b".DocumentRevisions-V100"
            | b".VolumeIcon.icns"
            | b".apdisk"
            | b".localized"
            | b"Thumbs.db"
            | b"ehthumbs.db"
            | b"desktop.ini"
            | b"Desktop.ini"
            | b"$RECYCLE.BIN"
            | b"System Volume Information"
            | b"hiberfil.sys"
            | b"pagefile.sys"
            | b"swapfile.sys"
            | b"lost+found"
    ) || [b"._".as_slice(), b".Trash-", b".nfs0000", b".fuse_hidden"]
        .iter()
        .any(|prefix| name.starts_with(prefix))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{file, folder, path};

    fn verdict(spec: &FilterSpec, text: &str) -> Verdict {
        let filter = Filter::new(spec, Stamp::new(1_000_000, 0)).unwrap();
        verdict_with(&filter, text, file(10, 999_000))
    }

    /// Judges a path the way a walk does, from the root down; a trailing slash makes it a folder.
    fn verdict_with(filter: &Filter, text: &str, leaf: Meta) -> Verdict {
        let whole = path(text.trim_end_matches('/'));
        let (mut at, mut inherited) = (RelPath::root(), filter.root());
        let parts: Vec<Name> = whole.parts().map(|part| Name::new(part).unwrap()).collect();
        for (depth, name) in parts.iter().enumerate() {
            let last = depth + 1 == parts.len();
            let meta = if last && !text.ends_with('/') { leaf.clone() } else { folder() };
            let verdict = filter.judge(&at, name, &meta, inherited);
            if last || matches!(verdict, Verdict::Out(_)) {
                return verdict;
            }
            (at, inherited) = (at.join(name), filter.inherit(verdict));
        }
        Verdict::In
    }

    fn lines(lines: &[&str]) -> Vec<String> {
        lines.iter().map(|line| (*line).to_owned()).collect()
    }

    #[test]
    fn exclude_lines_match_like_gitignore() {
        let cases = [
            ("*.tmp", "a.tmp", true),
            ("*.tmp", "north/deep/a.tmp", true),
            ("*.tmp", "a.tmpx", false),
            ("scratch/", "scratch/a.csv", true),
            ("scratch/", "north/scratch/a.csv", true),
            ("scratch/", "scratch", false),
            ("/scratch", "scratch/a", true),
            ("/scratch", "north/scratch/a", false),
            ("north/*.csv", "north/a.csv", true),
            ("north/*.csv", "west/north/a.csv", false),
            ("north/*.csv", "north/deep/a.csv", false),
            ("north/**", "north/deep/a.csv", true),
            ("**/old", "a/b/old/c", true),
            ("a[0-9].csv", "a7.csv", true),
            ("*.{jpg,png}", "x.png", true),
            ("\\!odd", "!odd", true),
            ("rota?.txt", "rota1.txt", true),
            ("rota?.txt", "rota/.txt", false),
        ];
        for (line, text, out) in cases {
            let spec = FilterSpec { exclude: lines(&[line]), ..FilterSpec::default() };
            let expected = if out { Verdict::Out(Rule::Exclude(0)) } else { Verdict::In };
            assert_eq!(verdict(&spec, text), expected, "{line} against {text}");
        }
    }

    #[test]
    fn names_that_are_not_utf8_can_be_matched() {
        let spec = FilterSpec { exclude: lines(&["*.tmp"]), ..FilterSpec::default() };
        let filter = Filter::new(&spec, Stamp::new(0, 0)).unwrap();
        let judge = |name: &[u8]| {
            filter.judge(&RelPath::root(), &Name::new(name).unwrap(), &file(1, 1), filter.root())
        };
        assert_eq!(judge(b"\xff\xfe.tmp"), Verdict::Out(Rule::Exclude(0)));
        assert_eq!(judge(b"\xff\xfe.csv"), Verdict::In);
    }

    #[test]
    fn only_lines_choose_files_and_whole_folders() {
        let spec = FilterSpec {
            only: lines(&["north/", "*.csv"]),
            exclude: lines(&["old.csv"]),
            ..FilterSpec::default()
        };
        let cases = [
            ("north/", Verdict::In),
            ("north/map.svg", Verdict::In),
            ("west/", Verdict::Through),
            ("west/a.csv", Verdict::In),
            ("west/map.svg", Verdict::Out(Rule::NotInOnly)),
            ("north/old.csv", Verdict::Out(Rule::Exclude(0))),
        ];
        for (text, expected) in cases {
            assert_eq!(verdict(&spec, text), expected, "{text}");
        }
    }

    #[test]
    fn junk_hidden_and_our_own_files() {
        let plain = FilterSpec::default();
        let strict = FilterSpec { hidden: TakeOrSkip::Skip, junk: TakeOrSkip::Take, ..FilterSpec::default() };
        let cases = [
            (&plain, "Thumbs.db", Verdict::Out(Rule::Junk)),
            (&plain, "a/._x", Verdict::Out(Rule::Junk)),
            (&plain, "$RECYCLE.BIN/x", Verdict::Out(Rule::Junk)),
            (&plain, ".profile", Verdict::In),
            (&plain, ".reedhook/kept/x", Verdict::Out(Rule::Own)),
            (&plain, "a/.reedhook", Verdict::In),
            (&plain, "a/.reedhook-part-7f", Verdict::Out(Rule::Own)),
            (&strict, "Thumbs.db", Verdict::In),
            (&strict, ".profile", Verdict::Out(Rule::Hidden)),
        ];
        for (spec, text, expected) in cases {
            assert_eq!(verdict(spec, text), expected, "{text}");
        }
    }

    #[test]
    fn sizes_and_ages_hold_for_files() {
        let parse_size = |text: &str| Some(text.parse().unwrap());
        let spec = FilterSpec {
            min_size: parse_size("100 B"),
            max_size: parse_size("1 kB"),
            newer_than: Some("1 day".parse().unwrap()),
            ..FilterSpec::default()
        };
        let now = 10_000_000;
        let filter = Filter::new(&spec, Stamp::new(now, 0)).unwrap();
        let cases = [
            (file(99, now), Verdict::Out(Rule::TooSmall)),
            (file(100, now), Verdict::In),
            (file(1000, now), Verdict::In),
            (file(1001, now), Verdict::Out(Rule::TooLarge)),
            (file(500, now - 86_400), Verdict::In),
            (file(500, now - 86_401), Verdict::Out(Rule::TooOld)),
            (Meta { modified: None, ..file(500, 0) }, Verdict::In),
            (folder(), Verdict::In),
        ];
        for (meta, expected) in cases {
            assert_eq!(verdict_with(&filter, "x", meta.clone()), expected, "{meta:?}");
        }
    }

    #[test]
    fn wrong_lines_say_what_is_wrong() {
        for (line, words) in [
            ("!keep", "narrower exclude"),
            ("", "empty"),
            ("/", "empty"),
            ("a/../b", "root of the side"),
            ("[a", "pattern"),
        ] {
            let spec = FilterSpec { exclude: lines(&[line]), ..FilterSpec::default() };
            let message = Filter::new(&spec, Stamp::new(0, 0)).unwrap_err().to_string();
            assert!(message.contains(words), "{line}: {message}");
        }
    }
}
