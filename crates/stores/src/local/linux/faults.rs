//! Errors of the system, told apart.

use std::io;

use reedhook_core::path::RelPath;
use reedhook_core::store::{FaultKind, StoreError};
use rustix::io::Errno;

/// Whether a file got too large for its file system, or for this process.
pub(in crate::local) fn is_too_large(error: &io::Error) -> bool {
    Errno::from_io_error(error) == Some(Errno::FBIG)
}

/// Whether a file system cannot do what was asked at all.
pub(in crate::local) fn is_unsupported(error: &io::Error) -> bool {
    matches!(Errno::from_io_error(error), Some(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP))
}

/// What a file system says that cannot do something at all.
pub(in crate::local) fn unsupported() -> io::Error {
    Errno::OPNOTSUPP.into()
}

/// What is said where a second name would be on another file system.
pub(in crate::local) fn cross_device() -> io::Error {
    Errno::XDEV.into()
}

/// Whether something was to go from one file system to another in one step.
pub(in crate::local) fn is_cross_device(error: &io::Error) -> bool {
    Errno::from_io_error(error) == Some(Errno::XDEV)
}

/// What an error of the operating system means for the engine.
pub(in crate::local) fn fault_kind(error: &io::Error) -> FaultKind {
    let Some(errno) = Errno::from_io_error(error) else { return FaultKind::Io };
    match errno {
        Errno::NOENT | Errno::NOTDIR => FaultKind::NotFound,
        Errno::ACCESS | Errno::PERM => FaultKind::Denied,
        Errno::ROFS => FaultKind::ReadOnly,
        Errno::NOSPC | Errno::DQUOT => FaultKind::NoSpace,
        Errno::FBIG => FaultKind::TooLarge,
        Errno::NAMETOOLONG => FaultKind::NameTooLong,
        Errno::ILSEQ | Errno::INVAL => FaultKind::NameRefused,
        Errno::EXIST => FaultKind::Exists,
        Errno::NOTEMPTY => FaultKind::NotEmpty,
        Errno::LOOP => FaultKind::LinkInPath,
        Errno::NODEV | Errno::NXIO | Errno::STALE | Errno::SHUTDOWN | Errno::NOTCONN => FaultKind::Lost,
        Errno::OPNOTSUPP | Errno::NOSYS | Errno::XDEV => FaultKind::Unsupported,
        _ => FaultKind::Io,
    }
}

/// An error of the operating system as a fault.
pub(in crate::local) fn fault(action: &'static str, path: &RelPath, error: io::Error) -> StoreError {
    match error.downcast::<StoreError>() {
        // The source was another store: what it has to say says more.
        Ok(own) => own,
        Err(error) => StoreError::new(fault_kind(&error), action, path).because(error),
    }
}
