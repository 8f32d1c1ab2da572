//! What replies of a server mean.

use reedhook_core::path::RelPath;
use reedhook_core::store::FaultKind;

use crate::remote::connect::{Address, ConnectError};
use crate::remote::sftp::packet::{Reader, Reply, status};
use crate::remote::wire::Trouble;

pub(super) fn unusable(address: &Address, why: String) -> ConnectError {
    ConnectError::Unusable { address: address.shown(), why }
}

/// The largest read and write that a server takes, from its answer about limits.
pub(super) fn pieces(reply: Reply) -> (u32, u32) {
    let Reply::Extended(bytes) = reply else { return (PIECE, PIECE) };
    let mut reader = Reader(&bytes);
    let _packet = reader.u64();
    let fit = |told: Option<u64>| match told {
        Some(0) | None => PIECE,
        Some(told) => told.min(LARGEST_PIECE) as u32,
    };
    let read = fit(reader.u64());
    (read, fit(reader.u64()))
}

/// An answer that is not the one hoped for.
pub(super) fn failed(reply: Reply, action: &'static str, path: &RelPath) -> Trouble {
    let Reply::Status { code, message } = reply else {
        return Trouble::lasting(FaultKind::BadAnswer, action, path).because("an answer to something else");
    };
    let kind = match code {
        status::NO_SUCH_FILE => FaultKind::NotFound,
        status::DENIED => FaultKind::Denied,
        status::BAD_MESSAGE => FaultKind::NameRefused,
        status::UNSUPPORTED => FaultKind::Unsupported,
        _ => FaultKind::Io,
    };
    let words = if message.is_empty() { format!("code {code}") } else { message };
    Trouble::lasting(kind, action, path).because(format!("the server says: {words}"))
}

/// Bytes that are asked for, or sent, in one request where the server does not say what it takes.
pub(super) const PIECE: u32 = 32 << 10;

pub(super) const LARGEST_PIECE: u64 = 255 << 10;
