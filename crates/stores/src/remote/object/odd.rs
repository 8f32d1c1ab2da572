//! Keys that no path can be: `a//x`, `b/../x`, one with a line break. Other tools make them, and the client would refuse the whole listing
//! that has one. So a part that cannot be a name is replaced, in the listing itself, by one that says what it was.

use std::borrow::Cow;
use std::fmt::Write;

use quick_xml::escape::{escape, unescape};

/// What the replacement of a part begins with; the bytes of the part follow, in hexadecimal.
const ODD: &str = ".reedhook-odd-";

/// A listing in which every part of a key can be a name.
pub(super) fn readable(listing: &str) -> String {
    let mut rest = listing;
    let mut text = String::with_capacity(listing.len());
    while let Some(at) = rest.find("<Key>").into_iter().chain(rest.find("<Prefix>")).min() {
        let begin = at + rest[at..].find('>').map_or(0, |end| end + 1);
        let Some(length) = rest[begin..].find("</") else { break };
        text.push_str(&rest[..begin]);
        text.push_str(&readable_key(&rest[begin..begin + length]));
        rest = &rest[begin + length..];
    }
    text.push_str(rest);
    text
}

/// Only the last part may be empty: then the key stands for a folder. Stores spell plain characters as references too, an apostrophe
/// for instance, so what a part holds is known only when they are resolved.
fn readable_key(written: &str) -> Cow<'_, str> {
    // What cannot be resolved is left to the client, which says what is wrong with it.
    let Ok(key) = unescape(written) else { return written.into() };
    let last = key.split('/').count() - 1;
    let is_odd = |(at, part): (usize, &str)| {
        matches!(part, "." | "..")
            || (part.is_empty() && at < last)
            || part.contains(|c: char| c.is_ascii_control())
    };
    if !key.split('/').enumerate().any(is_odd) {
        return written.into();
    }
    let parts = key.split('/').enumerate();
    let parts = parts.map(|(at, part)| if is_odd((at, part)) { replaced(part) } else { part.to_owned() });
    escape(parts.collect::<Vec<_>>().join("/")).into_owned().into()
}

fn replaced(part: &str) -> String {
    part.bytes().fold(ODD.to_owned(), |mut name, byte| {
        // Writing to text does not fail.
        let _ = write!(name, "{byte:02x}");
        name
    })
}

/// What a name of a listing was, when it is none.
pub(super) fn original(name: &str) -> Option<String> {
    let digits = name.strip_prefix(ODD)?.as_bytes();
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    let bytes: Option<Vec<u8>> = digits.chunks(2).map(byte).collect();
    Some(String::from_utf8_lossy(&bytes?).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_that_are_no_names_are_replaced_and_known_again() {
        let listing = "<R><Prefix>a/</Prefix><Contents><Key>a/b//x</Key></Contents><Contents><Key>../x</Key></Contents>\
            <CommonPrefixes><Prefix>a//</Prefix></CommonPrefixes><Contents><Key>plain &amp; simple/</Key></Contents></R>";
        let found = readable(listing);
        assert!(found.contains("<Prefix>a/</Prefix>") && found.contains("<Key>plain &amp; simple/</Key>"));
        assert!(found.contains("<Key>a/b/.reedhook-odd-/x</Key>"), "{found}");
        assert!(found.contains("<Key>.reedhook-odd-2e2e/x</Key>"), "{found}");
        assert!(found.contains("<Prefix>a/.reedhook-odd-/</Prefix>"), "{found}");
        let plain = "<Key>ranger&#39;s &#34;own&#x22; notes/x &amp; y</Key>";
        assert_eq!(readable(plain), plain, "characters that names may have, however they are written");
        let broken = readable("<Key>R&amp;D/line&#xA;break/x</Key>");
        assert_eq!(broken, "<Key>R&amp;D/.reedhook-odd-6c696e650a627265616b/x</Key>");
        assert_eq!(original(".reedhook-odd-2e2e").as_deref(), Some(".."));
        assert_eq!(original(".reedhook-odd-").as_deref(), Some(""));
        assert_eq!(original("heron.csv"), None);
        assert_eq!(readable("no list at all <Key>"), "no list at all <Key>");
    }

    #[test]
    fn fuzzed_listings() {
        let seeds: [&[u8]; 1] =
            [b"<ListBucketResult><Contents><Key>a%00b&#x7;</Key></Contents></ListBucketResult>"];
        reedhook_testing::fuzz("object listings", &seeds, |listing| {
            drop(readable(&String::from_utf8_lossy(listing)));
        });
    }
}
