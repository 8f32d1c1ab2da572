//! Numbers as sentences have them.

/// `1 file`, `2 files`, `1,200 files`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// Digits in groups of three.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A size with three digits or so: `812 B`, `12.4 kB`, `3.02 GB`. Decimal units, as on a drive's label.
pub fn bytes(number: u64) -> String {
    const UNITS: [&str; 6] = ["B", "kB", "MB", "GB", "TB", "PB"];
    if number < 1000 {
        return format!("{number} B");
    }
    let mut value = number as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    let digits = if value < 9.995 { 2 } else { usize::from(value < 99.95) };
    format!("{value:.digits$} {}", UNITS[unit])
}

/// A short text that tells one text from others, always the same for the same.
pub fn fingerprint(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex()[..24].to_owned()
}
