//! Names of an inventory, as they are kept.

use reedhook_core::names::Folding;
use reedhook_core::path::Name;

/// Names are the same to a person who searches whatever their case and form.
pub(super) const ALIKE: Folding = Folding { case: true, forms: true };

/// A name as people search for it.
pub fn folded(name: &[u8]) -> Vec<u8> {
    Name::new(name).map_or_else(|_| name.to_vec(), |name| ALIKE.key(&name))
}

/// The names of a folder, one by one.
pub fn each_name(names: &[u8]) -> impl Iterator<Item = &[u8]> {
    names.split(|byte| *byte == b'/').filter(|name| !name.is_empty())
}

pub(super) fn parted(path: &[u8]) -> (&[u8], &[u8]) {
    match path.iter().rposition(|byte| *byte == b'/') {
        Some(at) => (&path[..at], &path[at + 1..]),
        None => (&[], path),
    }
}
