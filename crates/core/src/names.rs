//! Which names a store can hold, which of them it takes for one, and how a name that it refuses can be spelled there.
//!
//! File systems from the world of Windows refuse some characters, or drop a dot at the end, and most of them do not tell upper from
//! lower case. [`NameRule`] and [`Folding`] say what holds at one place. [`NameRule::spelled`] writes a refused name in a
//! reversible way: percent-encoding (RFC 3986, section 2.1) of exactly the bytes that are refused, and of `%` where a name would
//! otherwise look like one that was spelled; [`NameRule::read`] takes it back.

use unicode_normalization::UnicodeNormalization;

use crate::path::Name;

/// The names that a store can hold, besides its bound for their length.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NameRule {
    /// They have to be UTF-8.
    pub text: bool,
    /// They may not end in a dot or a blank.
    pub endings: bool,
    /// They may not be those of devices of DOS (`CON`, `NUL`, `COM1`), with whatever ending.
    pub devices: bool,
    /// ASCII characters that they may not have, a bit for each.
    refused: u128,
}

/// The control characters of ASCII but DEL.
const CONTROLS: u128 = 0xffff_fffe;

const fn bits(characters: &[u8]) -> u128 {
    let (mut bits, mut at) = (0, 0);
    while at < characters.len() {
        bits |= 1 << characters[at];
        at += 1;
    }
    bits
}

impl NameRule {
    /// Any bytes but `/` and NUL.
    pub const BYTES: NameRule = NameRule { text: false, endings: false, devices: false, refused: 0 };
    /// Any but line breaks: names travel in lines.
    pub const LINES: NameRule = NameRule { refused: bits(b"\n\r"), ..NameRule::BYTES };
    /// UTF-8.
    pub const TEXT: NameRule = NameRule { text: true, ..NameRule::BYTES };
    /// UTF-8 without control characters: names travel in documents that cannot hold them.
    pub const PRINTABLE: NameRule = NameRule { refused: CONTROLS | bits(&[0x7f]), ..NameRule::TEXT };
    /// What DOS and its heirs allow: no control characters, none of `" * : < > ? \ |`, no dot or blank at the end.
    pub const DOS: NameRule =
        NameRule { refused: CONTROLS | bits(b"\"*:<>?\\|"), endings: true, ..NameRule::TEXT };

    /// The same rule, with these ASCII characters as the refused ones.
    pub fn refusing(self, characters: &[u8]) -> NameRule {
        let ascii = characters.iter().filter(|byte| byte.is_ascii());
        NameRule { refused: ascii.fold(0, |bits, byte| bits | 1 << byte), ..self }
    }

    /// What both allow.
    pub fn both(self, other: NameRule) -> NameRule {
        NameRule {
            text: self.text || other.text,
            endings: self.endings || other.endings,
            devices: self.devices || other.devices,
            refused: self.refused | other.refused,
        }
    }

    /// The ASCII characters that are refused, in their order.
    pub fn refused(self) -> Vec<u8> {
        (1..0x80).filter(|byte| self.refuses(*byte)).collect()
    }

    fn refuses(self, byte: u8) -> bool {
        byte.is_ascii() && self.refused >> byte & 1 == 1
    }

    /// Why a name cannot be held, in words; `None` when it can.
    pub fn refusal(self, name: &Name) -> Option<String> {
        let bytes = name.as_bytes();
        if self.text && std::str::from_utf8(bytes).is_err() {
            return Some("it is not UTF-8".to_owned());
        }
        let refused = bytes.iter().copied().find(|byte| self.refuses(*byte));
        match refused {
            Some(b'\n' | b'\r') => return Some("it has a line break".to_owned()),
            Some(byte) if byte.is_ascii_control() => return Some("it has a control character".to_owned()),
            Some(byte) => return Some(format!("it has the character '{}'", char::from(byte))),
            None => {}
        }
        match bytes.last() {
            Some(b'.') if self.endings => Some("it ends in a dot".to_owned()),
            Some(b' ') if self.endings => Some("it ends in a blank".to_owned()),
            _ if self.devices && is_device(bytes) => Some("it is the name of a device there".to_owned()),
            _ => None,
        }
    }

    /// What is refused, for people; `None` where every name can be held.
    pub fn words(self) -> Option<String> {
        let refused = self.refused();
        let control = refused.iter().any(|byte| byte.is_ascii_control());
        let breaks_only = refused.iter().all(|byte| matches!(byte, b'\n' | b'\r'));
        let seen: Vec<String> = refused
            .iter()
            .filter(|byte| !byte.is_ascii_control())
            .map(|byte| char::from(*byte).to_string())
            .collect();
        let mut without = Vec::new();
        if control {
            without.push(if breaks_only {
                "line breaks".to_owned()
            } else {
                "control characters".to_owned()
            });
        }
        if !seen.is_empty() {
            without.push(seen.join(" "));
        }
        if self.endings {
            without.push("a dot or blank at the end".to_owned());
        }
        let without = without.join(", and without ");
        match (self.text, without.is_empty()) {
            (false, true) => None,
            (true, true) => Some("names have to be UTF-8".to_owned()),
            (true, false) => Some(format!("names have to be UTF-8, without {without}")),
            (false, false) => Some(format!("names have to be without {without}")),
        }
    }

    /// The name as it is spelled where this rule holds: itself, unless it is refused, or would be read as another one.
    pub fn spelled(self, name: &Name) -> Name {
        if self.refusal(name).is_some() {
            return self.escaped(name);
        }
        let plain = decoded(name);
        // It looks like a spelling that this rule makes, so its own percent signs have to be told apart.
        if plain != *name && self.spelled(&plain) == *name { self.escaped(name) } else { name.clone() }
    }

    /// The name that a spelling stands for; the spelling itself, where this rule would not make it.
    pub fn read(self, spelling: &Name) -> Name {
        let plain = decoded(spelling);
        if plain != *spelling && self.spelled(&plain) == *spelling { plain } else { spelling.clone() }
    }

    fn escaped(self, name: &Name) -> Name {
        let bytes = name.as_bytes();
        let mut escape: Vec<bool> = bytes.iter().map(|byte| self.refuses(*byte)).collect();
        let mut at = 0;
        for chunk in bytes.utf8_chunks() {
            at += chunk.valid().len();
            escape[at..at + chunk.invalid().len()].fill(self.text);
            at += chunk.invalid().len();
        }
        if let Some(last) = escape.last_mut() {
            *last |= self.endings && matches!(bytes.last(), Some(b'.' | b' '));
        }
        if self.devices && is_device(bytes) {
            escape[0] = true;
        }
        let mut spelled = Vec::with_capacity(bytes.len() + 8);
        for (at, byte) in bytes.iter().enumerate() {
            if escape[at] || code_at(bytes, at).is_some() {
                spelled.extend(format!("%{byte:02X}").bytes());
            } else {
                spelled.push(*byte);
            }
        }
        Name::new(&spelled).unwrap_or_else(|_| name.clone())
    }
}

/// The byte that is percent-encoded at this place.
fn code_at(bytes: &[u8], at: usize) -> Option<u8> {
    let digit = |byte: &u8| char::from(*byte).to_digit(16);
    let code = bytes.get(at..at + 3).filter(|code| code[0] == b'%')?;
    u8::try_from(digit(&code[1])? * 16 + digit(&code[2])?).ok()
}

/// Takes every percent-encoding back; the name itself where no name would come of it.
fn decoded(name: &Name) -> Name {
    let bytes = name.as_bytes();
    let (mut plain, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while at < bytes.len() {
        match code_at(bytes, at) {
            Some(byte) => {
                plain.push(byte);
                at += 3;
            }
            None => {
                plain.push(bytes[at]);
                at += 1;
            }
        }
    }
    Name::new(&plain).unwrap_or_else(|_| name.clone())
}

/// Whether DOS would take a name for a device: what stands before the first dot counts.
fn is_device(name: &[u8]) -> bool {
    let stem = name.split(|byte| *byte == b'.').next().unwrap_or_default().to_ascii_uppercase();
    let numbered =
        |stem: &[u8]| matches!(stem, [b'C', b'O', b'M', b'1'..=b'9'] | [b'L', b'P', b'T', b'1'..=b'9']);
    matches!(stem.as_slice(), b"CON" | b"PRN" | b"AUX" | b"NUL") || numbered(&stem)
}

/// What of names a store does not tell apart.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Folding {
    /// Upper and lower case.
    pub case: bool,
    /// The forms in which Unicode writes one character: composed or in parts.
    pub forms: bool,
}

impl Folding {
    /// Every name is a name of its own.
    pub const NONE: Folding = Folding { case: false, forms: false };
    /// Upper and lower case are one.
    pub const CASE: Folding = Folding { case: true, forms: false };
    /// Upper and lower case, and the forms of characters.
    pub const BOTH: Folding = Folding { case: true, forms: true };

    /// Whether some different names are one.
    pub fn is_any(self) -> bool {
        self.case || self.forms
    }

    /// What one of the two folds.
    pub fn or(self, other: Folding) -> Folding {
        Folding { case: self.case || other.case, forms: self.forms || other.forms }
    }

    /// What names that are one have in common: the name in lower case, and composed (Unicode Standard Annex #15, form C), as far as
    /// either does not count. Bytes that are no text stay as they are.
    pub fn key(self, name: &Name) -> Vec<u8> {
        let bytes = name.as_bytes();
        let Ok(text) = std::str::from_utf8(bytes) else { return bytes.to_vec() };
        if bytes.is_ascii() {
            return if self.case { bytes.to_ascii_lowercase() } else { bytes.to_vec() };
        }
        let composed: String = if self.forms { text.nfc().collect() } else { text.to_owned() };
        if self.case { composed.chars().flat_map(char::to_lowercase).collect::<String>() } else { composed }
            .into_bytes()
    }

    /// Whether two names are one.
    pub fn is_same(self, one: &Name, other: &Name) -> bool {
        one == other || (self.is_any() && self.key(one) == self.key(other))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn name(bytes: &[u8]) -> Name {
        Name::new(bytes).unwrap()
    }

    #[test]
    fn spellings_and_what_they_stand_for() {
        let cases: [(&[u8], &[u8]); 12] = [
            (b"count.csv", b"count.csv"),
            (b"09:30.csv", b"09%3A30.csv"),
            (b"09%3A30.csv", b"09%253A30.csv"),
            (b"09%253A30.csv", b"09%25253A30.csv"),
            // What no rule of ours would make is what it looks like.
            (b"100%25.txt", b"100%25.txt"),
            (b"100%", b"100%"),
            (b"%41:", b"%2541%3A"),
            (b"%:", b"%%3A"),
            (b"rest.", b"rest%2E"),
            (b"rest.%2E", b"rest.%252E"),
            (b"\xff\xe4", b"%FF%E4"),
            (b"line\nbreak", b"line%0Abreak"),
        ];
        for (plain, spelled) in cases {
            let found = NameRule::DOS.spelled(&name(plain));
            assert_eq!(found, name(spelled), "{}", found);
            assert_eq!(NameRule::DOS.read(&found), name(plain));
            assert_eq!(NameRule::DOS.refusal(&found), None);
        }
        let shared = NameRule { devices: true, ..NameRule::DOS };
        assert_eq!(shared.spelled(&name(b"aux.txt")), name(b"%61ux.txt"));
        assert_eq!(shared.read(&name(b"%61ux.txt")), name(b"aux.txt"));
        assert_eq!(shared.spelled(&name(b"auxiliary")), name(b"auxiliary"));
    }

    #[test]
    fn what_folds_is_one_name() {
        let names = |folding: Folding, one: &str, other: &str| {
            folding.is_same(&name(one.as_bytes()), &name(other.as_bytes()))
        };
        assert!(names(Folding::CASE, "Äste", "äste") && !names(Folding::CASE, "A\u{308}ste", "äste"));
        assert!(names(Folding::BOTH, "A\u{308}ste", "äste") && !names(Folding::NONE, "a", "A"));
        let forms = Folding { case: false, forms: true };
        assert!(names(forms, "a\u{308}", "ä") && !names(forms, "Ä", "ä"));
    }

    proptest! {
        /// Whatever the name: it can be held as it is spelled, and is read as what it was.
        #[test]
        fn every_name_comes_back(bytes in prop::collection::vec(prop_oneof![
            Just(b'%'), Just(b'2'), Just(b'5'), Just(b'3'), Just(b'A'), Just(b':'), Just(b'.'), Just(b' '), 1..=255_u8
        ], 1..12)) {
            prop_assume!(Name::new(&bytes).is_ok());
            let plain = name(&bytes);
            for rule in [NameRule::DOS, NameRule::TEXT, NameRule::LINES, NameRule { devices: true, ..NameRule::DOS }] {
                let spelled = rule.spelled(&plain);
                prop_assert_eq!(rule.refusal(&spelled), None);
                prop_assert_eq!(rule.read(&spelled), plain.clone());
                // What stands there is always reached by the name that it is shown under.
                prop_assert_eq!(rule.spelled(&rule.read(&plain)), rule.spelled(&rule.read(&plain)));
                if rule.refusal(&plain).is_none() {
                    prop_assert_eq!(rule.spelled(&rule.read(&plain)), plain.clone());
                }
            }
        }
    }
}
