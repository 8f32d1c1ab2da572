//! What a store cannot hold, and why.

use crate::entry::{EntryKind, Meta};
use crate::path::Name;
use crate::problem::Code;
use crate::store::capabilities::Capabilities;
use crate::store::error::FaultKind;

/// Whether entries of this kind are lost in a store altogether. That is said once for the store, and no problem of each.
pub(super) fn is_lost(can: &Capabilities, meta: &Meta) -> bool {
    meta.kind == EntryKind::Link && !can.links
}

/// Why a store does not get an entry, in words; `None` when it can hold it.
pub fn why_not_held(can: &Capabilities, name: &Name, meta: &Meta) -> Option<String> {
    if is_lost(can, meta) {
        return Some("the destination cannot hold links; they are lost there".to_owned());
    }
    refusal_of(can, (name, false), meta).map(|(_, message)| message)
}

/// Why a store cannot hold an entry at all; `None` when it can.
pub(super) fn refusal_of(
    can: &Capabilities,
    (name, named): (&Name, bool),
    meta: &Meta,
) -> Option<(Code, String)> {
    let length = can.name_length(name);
    if !named && length > can.max_name {
        let units = if can.limits.utf16_names { "characters" } else { "bytes" };
        let message =
            format!("the name has {length} {units}; the destination holds at most {}", can.max_name);
        return Some((Code::Fault(FaultKind::NameTooLong), message));
    }
    if let Some(why) = can.names.refusal(name).filter(|_| !named) {
        return Some((
            Code::Fault(FaultKind::NameRefused),
            format!("the destination cannot hold this name: {why}"),
        ));
    }
    if let Some(most) = can.limits.file_size.filter(|most| meta.size > *most) {
        let message =
            format!("the destination holds files of at most {}", crate::units::Size::from_bytes(most));
        return Some((Code::Fault(FaultKind::TooLarge), message));
    }
    None
}

/// What is said of names that the other side takes for one; it is a problem of the first of them.
pub fn clash_words(names: &[Name]) -> Option<(Name, String)> {
    let (first, others) = names.split_first()?;
    let others = others.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(" and ");
    let message = format!("\"{first}\" and {others} would be one name there, so none of them is touched");
    Some((first.clone(), message))
}
