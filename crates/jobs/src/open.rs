//! Opening places: a store, or the reason why there is none.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use reedhook_core::store::{FaultKind, Store};
use reedhook_stores::remote::connect::ConnectError;
use reedhook_stores::union::Union;

use crate::capabilities::{self, OpenOptions};
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::places::{Located, Means, no_place_for_files};

/// Opens a source, or a side of a two-way job; `word` is what it is called.
///
/// # Errors
/// When it is not there, cannot be opened or reached, or holds no files.
pub fn open_source(
    desk: &Desk,
    located: &Located,
    options: OpenOptions,
    word: &str,
) -> Outcome<Arc<dyn Store>> {
    let shown = || located.shown(&desk.home);
    let missing = || Failure::refused(Cause::SourceMissing, format!("the {word} {} is not there", shown()));
    match &located.means {
        Means::Absent(why) => Err(drive_absent(located, why)),
        Means::Inventory { .. } => Err(no_place_for_files(&located.written)),
        Means::Server(reach) => match reach.open(desk) {
            Ok(store) => Ok(capabilities::at_server(store, options)),
            Err(ConnectError::NoFolder { .. }) => Err(missing().hint("The server answers; check the path.")),
            Err(error) => Err(reach.failure(desk, error)),
        },
        Means::Folder { path, store_root } => {
            capabilities::open(path, options, &desk.home).map_err(|error| match error.kind {
                FaultKind::NotFound if path.exists() => {
                    Failure::refused(Cause::SourceUnreadable, format!("the {word} {} is no folder", shown()))
                }
                FaultKind::NotFound => missing().hint(absent_hint(located, path, store_root.as_deref())),
                kind => {
                    let words = format!("the {word} {} cannot be read: {}", shown(), kind.words());
                    Failure::refused(Cause::SourceUnreadable, words)
                }
            })
        }
    }
}

/// Opens a destination; `None` when it does not exist yet but could be made where it is.
///
/// # Errors
/// When it cannot be opened or reached, or its store is not there.
pub fn open_destination(
    desk: &Desk,
    located: &Located,
    options: OpenOptions,
) -> Outcome<Option<Arc<dyn Store>>> {
    let (path, store_root) = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => {
            return match reach.open(desk) {
                Ok(store) => Ok(Some(capabilities::at_server(store, options))),
                Err(ConnectError::NoFolder { .. }) => Ok(None),
                Err(error) => Err(reach.failure(desk, error)),
            };
        }
        Means::Folder { path, store_root } => (path, store_root.as_deref()),
    };
    let error = match capabilities::open(path, options, &desk.home) {
        Ok(store) => return Ok(Some(store)),
        Err(error) => error,
    };
    let missing = error.kind == FaultKind::NotFound;
    if missing && !path.exists() && can_be_made(located) {
        return Ok(None);
    }
    let (cause, words) = match error.kind {
        FaultKind::NotFound if path.exists() => (Cause::DestinationNoFolder, "is no folder".to_owned()),
        FaultKind::NotFound => (Cause::DestinationMissing, "is not there".to_owned()),
        kind => (Cause::DestinationUnusable, format!("cannot be used: {}", kind.words())),
    };
    let is_missing = matches!(cause, Cause::DestinationMissing);
    let failure = Failure::refused(cause, format!("the destination {} {words}", located.shown(&desk.home)));
    Err(if is_missing { failure.hint(absent_hint(located, path, store_root)) } else { failure })
}

pub(crate) fn drive_absent(located: &Located, why: &str) -> Failure {
    Failure::refused(Cause::DriveAbsent, format!("{}: {why}", located.written))
        .hint("Connect it and run again; `reedhook drives` shows what is connected.")
}

/// Only the last folder of a path may be missing; of a place in a store, everything below the store's root may.
pub fn can_be_made(located: &Located) -> bool {
    match &located.means {
        Means::Folder { path, store_root: Some(root) } => path != root && root.is_dir(),
        Means::Folder { path, store_root: None } => path.parent().is_some_and(Path::is_dir),
        Means::Absent(_) | Means::Server(_) | Means::Inventory { .. } => false,
    }
}

pub(crate) fn absent_hint(located: &Located, path: &Path, store_root: Option<&Path>) -> String {
    match store_root {
        Some(root) if !root.is_dir() => {
            let name = located.written.trim_start_matches('@').split('/').next().unwrap_or_default();
            format!(
                "The store \"{name}\" is expected at {}; connect the drive and run again.",
                root.display()
            )
        }
        _ => match path.ancestors().find(|above| above.is_dir()) {
            Some(there) => format!(
                "{} exists, the rest of the path does not; check the path, or connect the drive.",
                there.display()
            ),
            None => "Check the path, or connect the drive.".to_owned(),
        },
    }
}

/// Makes a missing destination.
///
/// # Errors
/// When it cannot be made, or not opened afterwards.
pub fn make_destination(desk: &Desk, located: &Located, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let path = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => return Ok(capabilities::at_server(reach.make(desk)?, options)),
        Means::Folder { path, .. } => path,
    };
    let failed = |why: String| {
        let words = format!("the folder {} cannot be made: {why}", path.display());
        Failure::refused(Cause::DestinationMissing, words)
    };
    fs::create_dir_all(path).map_err(|error| failed(error.to_string()))?;
    let made = capabilities::open(path, options, &desk.home);
    // Whoever remembers that it was there must not be told by a pulled plug that it is gone.
    let made = made.and_then(|made| made.sync().map(|()| made));
    made.map_err(|error| failed(error.kind.words().to_owned()))
}

/// What a destination looks like before it is made: empty, with the abilities of the folder it will be in.
///
/// # Errors
/// When the folder above is not there either.
pub fn not_there_yet(desk: &Desk, located: &Located, options: OpenOptions) -> Outcome<Arc<dyn Store>> {
    let path = match &located.means {
        Means::Absent(why) => return Err(drive_absent(located, why)),
        Means::Inventory { .. } => return Err(no_place_for_files(&located.written)),
        Means::Server(reach) => {
            let above = reach.open_above(desk)?.0;
            let space = above.space().ok().flatten();
            return Ok(Arc::new(Union::empty(above.capabilities().clone(), space)));
        }
        Means::Folder { path, .. } => path,
    };
    let above = path.ancestors().skip(1).find(|above| above.is_dir());
    let missing = || Failure::refused(Cause::DestinationMissing, format!("{} is not there", path.display()));
    let above =
        above.and_then(|above| capabilities::open(above, options, &desk.home).ok()).ok_or_else(missing)?;
    let space = above.space().ok().flatten();
    Ok(Arc::new(Union::empty(above.capabilities().clone(), space)))
}
