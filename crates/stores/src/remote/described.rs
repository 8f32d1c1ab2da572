//! What was noted of a file, and what a server says of it, together.

use reedhook_core::entry::Meta;
use reedhook_core::notes::Note;

/// Gives an entry what was noted of it.
pub(in crate::remote) fn apply(note: &Note, meta: &mut Meta) {
    let Some((tag, _)) = parted(&note.tag) else { return note.apply(meta) };
    Note { tag: tag.to_owned(), ..note.clone() }.apply(meta);
    if let Some(version) = meta.version.as_mut().filter(|version| version.tag == tag) {
        version.young = true;
    }
}

/// Whether a note is about this very version.
pub(in crate::remote) fn is_about(note: Option<&Note>, meta: &Meta) -> bool {
    note.zip(meta.version.as_ref()).is_some_and(|(note, version)| is_of(note, &version.tag))
}

/// The tag of a note that was taken just after its version was written, and when that was.
pub(super) fn parted(tag: &str) -> Option<(&str, i64)> {
    let (tag, noted) = tag.rsplit_once(YOUNG)?;
    Some((tag, noted.parse().ok()?))
}

/// Whether a note is about the version with this tag.
pub(in crate::remote) fn is_of(note: &Note, tag: &str) -> bool {
    parted(&note.tag).map_or(note.tag.as_str(), |(tag, _)| tag) == tag
}

/// In the tag of a note, before the moment (milliseconds since 1970) when it was taken of a version that was just written.
pub(super) const YOUNG: char = '~';
