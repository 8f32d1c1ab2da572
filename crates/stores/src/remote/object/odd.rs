//! Keys that no path can be: `a//x`, `b/../x`, one with a line break. Other tools make them, and the client would refuse the whole listing
//! that has one. So a part that cannot be a name is replaced, in the listing itself, by one that says what it was.

use std::fmt::Write;

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

/// Only the last part may be empty: then the key stands for a folder.
fn readable_key(key: &str) -> String {
    let last = key.split('/').count() - 1;
    let parts = key.split('/').enumerate().map(|(at, part)| {
        let odd = matches!(part, "." | "..") || (part.is_empty() && at < last) || part.contains("&#");
        if odd { replaced(part) } else { part.to_owned() }
    });
    parts.collect::<Vec<_>>().join("/")
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
        assert_eq!(original(".reedhook-odd-2e2e").as_deref(), Some(".."));
        assert_eq!(original(".reedhook-odd-").as_deref(), Some(""));
        assert_eq!(original("heron.csv"), None);
        assert_eq!(readable("no list at all <Key>"), "no list at all <Key>");
    }
}
