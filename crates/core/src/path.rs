//! Names and relative paths, as bytes.
//!
//! Every path that Reedhook handles is relative to the root of one side. It is a sequence of bytes, because that is
//! what file systems store; it need not be UTF-8. A path is checked once, when it is built, and can from then on
//! be trusted to stay inside its root: it has no empty part, no `.` or `..`, no NUL and no leading slash. Names that
//! arrive from a store (a remote server may be hostile) pass through the same check.

use std::borrow::Borrow;
use std::cmp::Ordering;
use std::fmt;

use crate::foreign::Foreign;

/// The folder at the root of a side that belongs to Reedhook: identity, lock, kept copies.
pub const RESERVED_NAME: &[u8] = b".reedhook";

/// What the names of Reedhook's unfinished files begin with, anywhere in a tree.
pub const PART_PREFIX: &[u8] = b".reedhook-part-";

/// The name of an unfinished file, from what tells it apart from others.
pub fn part_name(key: &str) -> Vec<u8> {
    [PART_PREFIX, key.as_bytes()].concat()
}

/// What the names of files begin with that somebody may have saved a moment ago: they were taken out of their place to be looked at.
/// A run that finds one left does not clear it, as it clears what is unfinished.
pub const JUDGED_PREFIX: &[u8] = b".reedhook-judged-";

/// The name under which a file is looked at before it goes, from what tells it apart from others. It tells what the file was called,
/// where there is room for that.
pub fn judged_name(key: &str, was: &Name) -> Vec<u8> {
    // Some file systems hold no longer ones.
    const LONGEST: usize = 140;
    let short = [JUDGED_PREFIX, key.as_bytes()].concat();
    let long = [&short, &b"-"[..], was.as_bytes()].concat();
    if long.len() <= LONGEST { long } else { short }
}

/// Why some bytes are not an acceptable name or path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// A part of the path is empty (`a//b`, a leading or trailing slash).
    #[error("has an empty part")]
    Empty,
    /// A part is `.` or `..`.
    #[error("has a part that is \".\" or \"..\"")]
    Dots,
    /// A NUL byte, which no file system can store.
    #[error("has a NUL byte")]
    Nul,
    /// A slash inside what should be one name.
    #[error("has a slash inside a name")]
    Slash,
}

/// One name in a folder: bytes without `/` or NUL, not empty, not `.` or `..`.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(Box<[u8]>);

impl Name {
    /// Checks and copies a name.
    ///
    /// # Errors
    /// Any [`PathError`].
    pub fn new(bytes: &[u8]) -> Result<Name, PathError> {
        check_part(bytes)?;
        Ok(Name(bytes.into()))
    }

    /// The bytes of the name.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is one of Reedhook's own unfinished files.
    pub fn is_part(&self) -> bool {
        self.0.starts_with(PART_PREFIX)
    }

    /// Whether this was taken out of its place to be looked at; see [`JUDGED_PREFIX`].
    pub fn is_judged(&self) -> bool {
        self.0.starts_with(JUDGED_PREFIX)
    }

    /// Whether Reedhook has given this name to a file for a moment only: [`Name::is_part`] or [`Name::is_judged`].
    pub fn is_passing(&self) -> bool {
        self.is_part() || self.is_judged()
    }

    /// What a file was called that was taken out of its place, where its name tells.
    pub fn judged_as(&self) -> Option<Name> {
        let rest = self.0.strip_prefix(JUDGED_PREFIX)?;
        let dash = rest.iter().position(|byte| *byte == b'-')?;
        Name::new(&rest[dash + 1..]).ok()
    }
}

impl Borrow<[u8]> for Name {
    fn borrow(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write_printable(&self.0, f)
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf8_lossy(&self.0))
    }
}

/// A path below the root of a side; the root itself is the empty path.
///
/// The order is that of a tree listed from the top: a folder comes directly before what it holds.
#[derive(Clone, Default, PartialEq, Eq, Hash)]
pub struct RelPath(Box<[u8]>);

impl RelPath {
    /// The root of a side.
    pub fn root() -> RelPath {
        RelPath::default()
    }

    /// Reedhook's own folder at the root of a side: [`RESERVED_NAME`].
    pub fn reserved() -> RelPath {
        RelPath(RESERVED_NAME.into())
    }

    /// Checks and copies a `/`-separated path; the empty path is the root.
    ///
    /// # Errors
    /// Any [`PathError`] except [`PathError::Slash`].
    pub fn new(bytes: &[u8]) -> Result<RelPath, PathError> {
        if !bytes.is_empty() {
            bytes.split(|&b| b == b'/').try_for_each(check_part)?;
        }
        Ok(RelPath(bytes.into()))
    }

    /// The bytes of the path, without a leading slash; empty for the root.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is the root.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The path of `name` inside this folder.
    pub fn join(&self, name: &Name) -> RelPath {
        RelPath(self.joined(name.as_bytes()).into())
    }

    /// The path `below` inside this folder.
    pub fn join_path(&self, below: &RelPath) -> RelPath {
        if below.is_root() { self.clone() } else { RelPath(self.joined(&below.0).into()) }
    }

    fn joined(&self, tail: &[u8]) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.0.len() + 1 + tail.len());
        bytes.extend_from_slice(&self.0);
        if !self.is_root() {
            bytes.push(b'/');
        }
        bytes.extend_from_slice(tail);
        bytes
    }

    /// The folder that holds this path, and its name in there; `None` for the root.
    pub fn split(&self) -> Option<(RelPath, Name)> {
        let name = self.file_name()?;
        let parent = self.0.len().saturating_sub(name.len() + 1);
        Some((RelPath(self.0[..parent].into()), Name(name.into())))
    }

    /// The folder that holds this path; `None` for the root.
    pub fn parent(&self) -> Option<RelPath> {
        self.split().map(|(parent, _)| parent)
    }

    /// The last part's bytes; `None` for the root.
    pub fn file_name(&self) -> Option<&[u8]> {
        if self.is_root() { None } else { self.0.rsplit(|&b| b == b'/').next() }
    }

    /// The parts from the top down; none for the root.
    pub fn parts(&self) -> impl Iterator<Item = &[u8]> {
        self.0.split(|&b| b == b'/').filter(|part| !part.is_empty())
    }

    /// How many folders above it this path has, the root not counted; 0 for the root and what lies directly in it.
    pub fn depth(&self) -> usize {
        self.0.iter().filter(|&&b| b == b'/').count()
    }

    /// Whether this path is `folder` or lies below it.
    pub fn is_within(&self, folder: &RelPath) -> bool {
        folder.is_root()
            || self.0.strip_prefix(&*folder.0).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
    }

    /// What remains of this path below `folder`; `None` when it does not lie there.
    pub fn below(&self, folder: &RelPath) -> Option<RelPath> {
        if folder.is_root() {
            return Some(self.clone());
        }
        let rest = self.0.strip_prefix(&*folder.0)?;
        match rest.strip_prefix(b"/") {
            Some(tail) => Some(RelPath(tail.into())),
            None => rest.is_empty().then(RelPath::root),
        }
    }

    /// Whether this is [`RESERVED_NAME`] at the root, or lies below it.
    pub fn is_reserved(&self) -> bool {
        self.parts().next() == Some(RESERVED_NAME)
    }
}

impl Ord for RelPath {
    fn cmp(&self, other: &Self) -> Ordering {
        // `/` sorts before every other byte that a name can hold, so that a folder's content follows it directly.
        let key = |b: &u8| if *b == b'/' { 0 } else { *b };
        self.0.iter().map(key).cmp(other.0.iter().map(key))
    }
}

impl PartialOrd for RelPath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_root() { f.write_str(".") } else { write_printable(&self.0, f) }
    }
}

impl fmt::Debug for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf8_lossy(&self.0))
    }
}

impl From<&Name> for RelPath {
    fn from(name: &Name) -> RelPath {
        RelPath(name.0.clone())
    }
}

fn check_part(part: &[u8]) -> Result<(), PathError> {
    match part {
        b"" => Err(PathError::Empty),
        b"." | b".." => Err(PathError::Dots),
        _ if part.contains(&0) => Err(PathError::Nul),
        _ if part.contains(&b'/') => Err(PathError::Slash),
        _ => Ok(()),
    }
}

/// Writes bytes for a person: what is not UTF-8 becomes U+FFFD, and what a terminal would act upon is escaped.
fn write_printable(bytes: &[u8], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    fmt::Display::fmt(&Foreign::new(&String::from_utf8_lossy(bytes)), f)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_checked_when_built() {
        let cases: &[(&[u8], Result<(), PathError>)] = &[
            (b"", Ok(())),
            (b"north/a b.csv", Ok(())),
            (b"-rf", Ok(())),
            (b"a\nb", Ok(())),
            (b"\xff\xfe", Ok(())),
            (b"...", Ok(())),
            (b"..a/b..", Ok(())),
            (b"/etc", Err(PathError::Empty)),
            (b"a//b", Err(PathError::Empty)),
            (b"a/", Err(PathError::Empty)),
            (b"..", Err(PathError::Dots)),
            (b"a/../b", Err(PathError::Dots)),
            (b"a/.", Err(PathError::Dots)),
            (b"a\0b", Err(PathError::Nul)),
        ];
        for (bytes, expected) in cases {
            assert_eq!(RelPath::new(bytes).map(|_| ()), *expected, "{:?}", String::from_utf8_lossy(bytes));
        }
        assert_eq!(Name::new(b"a/b"), Err(PathError::Slash));
        assert_eq!(Name::new(b""), Err(PathError::Empty));
    }

    #[test]
    fn a_folder_sorts_directly_before_its_content() {
        let mut paths: Vec<RelPath> = ["b", "a!", "a/z", "a", "a/b/c", "a/b", "a-b", ""]
            .iter()
            .map(|p| RelPath::new(p.as_bytes()).unwrap())
            .collect();
        paths.sort();
        let shown: Vec<String> = paths.iter().map(ToString::to_string).collect();
        assert_eq!(shown, [".", "a", "a/b", "a/b/c", "a/z", "a!", "a-b", "b"]);
    }

    #[test]
    fn splitting_joining_and_containment_agree() {
        let folder = RelPath::new(b"a/b").unwrap();
        let file = folder.join(&Name::new(b"c.csv").unwrap());
        assert_eq!(file.split(), Some((folder.clone(), Name::new(b"c.csv").unwrap())));
        assert_eq!(RelPath::root().split(), None);
        assert!(file.is_within(&folder) && file.is_within(&RelPath::root()) && folder.is_within(&folder));
        assert!(!RelPath::new(b"a/bc").unwrap().is_within(&folder));
        assert_eq!(file.below(&folder), Some(RelPath::new(b"c.csv").unwrap()));
        assert_eq!(folder.join_path(&RelPath::new(b"c.csv").unwrap()), file);
        assert_eq!((folder.depth(), file.depth(), RelPath::root().depth()), (1, 2, 0));
    }

    #[test]
    fn names_are_shown_without_reaching_the_terminal() {
        let shown = |bytes: &[u8]| Name::new(bytes).unwrap().to_string();
        assert_eq!(shown(b"two\nlines"), "two\\nlines");
        assert_eq!(shown(b"\x1b[31m"), "\\u{1b}[31m");
        assert_eq!(shown("gpj\u{202e}.exe".as_bytes()), "gpj\\u{202e}.exe");
        assert_eq!(shown(b"\xffheron"), "\u{fffd}heron");
        assert_eq!(shown("Graugänse".as_bytes()), "Graugänse");
    }
}
