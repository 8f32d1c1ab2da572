//! Inventories: taking them, and finding in all of them what somebody looks for, also on drives that are in a cupboard.
//!
//! An inventory belongs to the store that it was taken of, known by its mark, not to the name that it has: taking another store under
//! its name is refused. Where a folder cannot be listed now, what was known of it stays.

mod branches;
pub mod copies;
pub(crate) mod files;
pub mod listing;
mod query;
pub mod sightings;
mod tree;
pub(crate) mod upkeep;

pub use crate::inventory::files::{failed, named, open};
pub use branches::{Branch, branches};
pub use query::{Bounds, Query};
pub use tree::InventoryTree;

use std::sync::atomic::AtomicU64;
use std::time::{Duration, Instant};

use reedhook_core::content;
use reedhook_core::entry::Meta;
use reedhook_core::identity::Ground;
use reedhook_core::path::{Name, RESERVED_NAME, RelPath};
use reedhook_core::store::{Listing, Store, StoreError};
use reedhook_core::walk::{ScanError, ScanProgress, each_folder};
use reedhook_record::inventories::{About, Image, Inventories, Inventory, InventoryMeta, Taken};
use reedhook_stores::drives;

use crate::capabilities::OpenOptions;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::job::check_name;
use crate::observer::Event;
use crate::open::open_source;
use crate::places::{Located, Means, locate};
use crate::recognise::{self, mark_of};
use listing::Listed;

/// What came of taking an inventory.
pub struct Took {
    /// Its name.
    pub name: String,
    /// What it has.
    pub taken: Taken,
    /// What could not be looked at; of that, what was known stays.
    pub problems: Vec<StoreError>,
    /// How long it took.
    pub elapsed: Duration,
}

/// Takes the inventory of a place, anew where there is one.
///
/// # Errors
/// When the place cannot be read, another store has this name, or a person stops it; then the old one is as it was.
pub fn take(desk: &Desk, place: &str, name: Option<&str>) -> Outcome<Took> {
    let begun = Instant::now();
    let located = locate(&desk.home, &desk.settings, place)?;
    let store = open_source(desk, &located, OpenOptions::default(), "place")?;
    let mark = mark_of(desk, &located, store.as_ref())?.unwrap_or_default();
    let place = place.trim_end_matches('/');
    let name = match name {
        Some(name) => name.to_owned(),
        None => usual_name(place, &located),
    };
    check_name(&name, "inventory")?;
    let mut all = open(&desk.home)?;
    let mut about = usual_about(desk, &name, &located, mark);
    let known = all.named(&name).map_err(|error| failed(&desk.home, error))?;
    if let Some(known) = known.as_ref().filter(|known| is_another(known, &about)) {
        let message = format!("the inventory \"{name}\" is that of another store, {}", known.about.location);
        return Err(Failure { cause: Cause::StoreForeign, ..Failure::usage(message) }.hint(
            "Give this one a name of its own: --name NAME. Or drop the other: reedhook inventory drop NAME.",
        ));
    }
    about.keep_what_is_known(known.map(|known| known.about));
    let (taken, problems) = walk(desk, &mut all, &about, store.as_ref())?;
    Ok(Took { name, taken, problems, elapsed: begun.elapsed() })
}

/// Takes over what another machine has listed, as an inventory of that name. One that was taken of a store is not overwritten.
///
/// # Errors
/// When nothing of it can be understood, or the name is taken.
pub fn import(desk: &Desk, text: &[u8], name: &str, label: &str) -> Outcome<(Took, Option<(u64, u64)>)> {
    let begun = Instant::now();
    check_name(name, "inventory")?;
    let listed = Listed::read(text, &desk.world.zone);
    let strange = listed.strange;
    if listed.entries() == 0 {
        return Err(Failure::usage("nothing of that listing is understood").hint(
            "It takes: find DIR -printf '%y %s %T@ %P\\n', ls -lR --time-style=full-iso DIR, or a table with a column path.",
        ));
    }
    let home = &desk.home;
    let mut all = open(home)?;
    let known = all.named(name).map_err(|error| failed(home, error))?;
    if let Some(known) = known.filter(|known| !known.about.location.is_empty()) {
        let message = format!("the inventory \"{name}\" was taken of {}", known.about.location);
        return Err(Failure { cause: Cause::StoreForeign, ..Failure::usage(message) }
            .hint("Give the listing a name of its own, or drop that inventory first."));
    }
    let about = About {
        name: name.to_owned(),
        mark: String::new(),
        spot: String::new(),
        place: String::new(),
        location: String::new(),
        label: label.to_owned(),
        taken_ms: desk.now_ms(),
    };
    let mut taking = all.take(&about).map_err(|error| failed(home, error))?;
    for (path, held) in listed.into_folders() {
        let image = Image::of(held.iter().map(|one| (one.name.as_slice(), one.meta)));
        taking.folder(&path, image).map_err(|error| failed(home, error))?;
    }
    let taken = taking.finish().map_err(|error| failed(home, error))?;
    let took = Took { name: name.to_owned(), taken, problems: Vec::new(), elapsed: begun.elapsed() };
    Ok((took, strange))
}

/// Of which store an inventory would be that is taken of a place now.
fn usual_about(desk: &Desk, name: &str, located: &Located, mark: String) -> About {
    About {
        name: name.to_owned(),
        mark,
        spot: spot_of(located).unwrap_or_default(),
        place: place_of(desk, located),
        location: located.location(),
        label: label_of(located),
        taken_ms: desk.now_ms(),
    }
}

/// A place so that it means the same wherever somebody stands.
fn place_of(desk: &Desk, located: &Located) -> String {
    match located.folder().filter(|_| !located.written.starts_with('@')) {
        Some(folder) => desk.home.written(folder),
        None => located.written.trim_end_matches('/').to_owned(),
    }
}

/// Whether two inventories may be of one drive, or server: what is on both is lost with it. What cannot be told apart counts as one.
pub(crate) fn may_be_one_drive(a: &About, b: &About) -> bool {
    let both = |a: &str, b: &str| !a.is_empty() && a == b;
    let ground = |about: &About| Ground::from_text(about.spot.rsplit_once('\n')?.1);
    both(&a.mark, &b.mark)
        || both(&a.label, &b.label)
        || ground(a).zip(ground(b)).is_some_and(|(a, b)| !a.is_other(&b))
}

/// Whether an inventory that has this name is of another store than the one that is there now: a drive that is not plugged in leaves an
/// empty folder, and what the drive held is still known.
fn is_another(known: &Inventory, now: &About) -> bool {
    let known = &known.about;
    if !known.mark.is_empty() && !now.mark.is_empty() {
        return known.mark != now.mark;
    }
    is_other_spot(&known.spot, &now.spot).unwrap_or(known.location != now.location)
}

/// Where a place is: the path on its file system, and in a second line what that is.
fn spot_of(located: &Located) -> Option<String> {
    let path = match located.resolved() {
        Some(folder) => drives::place_on(&folder)?.1.to_string(),
        None => String::new(),
    };
    Some(format!("{path}\n{}", recognise::ground(located)?.to_text()))
}

/// Whether two spots are certainly not one; `None` where one of them is not known.
fn is_other_spot(known: &str, now: &str) -> Option<bool> {
    let parts = |text: &str| {
        let (path, ground) = text.rsplit_once('\n')?;
        Some((path.to_owned(), Ground::from_text(ground)?))
    };
    let ((path, ground), (path_now, ground_now)) = (parts(known)?, parts(now)?);
    Some(path != path_now || ground_now.is_other(&ground))
}

/// Reedhook's own: nobody looks for it.
fn is_own(name: &Name) -> bool {
    name.as_bytes() == RESERVED_NAME || name.is_passing()
}

fn meta_of(meta: &Meta) -> InventoryMeta {
    InventoryMeta::of(meta.kind, meta.size, meta.modified, None)
}

/// What an inventory is called when nobody says: as the store, the drive, or the folder.
fn usual_name(place: &str, located: &Located) -> String {
    let words = match (place.strip_prefix('@'), located.folder()) {
        (Some(named), _) => named.trim_matches('/').to_owned(),
        (None, Some(_)) if is_whole_drive(located) => label_of(located),
        (None, Some(folder)) => folder.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        (None, None) => located.location().split_once("://").map_or(place, |(_, rest)| rest).to_owned(),
    };
    let plain = |c: char| if c.is_alphanumeric() || matches!(c, '-' | '_' | '.') { c } else { '-' };
    let name: String = words.chars().map(plain).collect();
    let name = name.trim_matches(['-', '.', '_']).chars().take(48).collect::<String>();
    if name.is_empty() { "root".to_owned() } else { name }
}

fn drive_of(located: &Located) -> Option<drives::Drive> {
    let mount = drives::mount_point_of(&located.folder()?.canonicalize().ok()?)?;
    drives::connected().ok()?.into_iter().find(|drive| drive.mount == mount)
}

fn is_whole_drive(located: &Located) -> bool {
    drive_of(located).is_some_and(|drive| {
        drive.label.is_some()
            && located.folder().and_then(|folder| folder.canonicalize().ok()) == Some(drive.mount)
    })
}

fn label_of(located: &Located) -> String {
    drive_of(located).and_then(|drive| drive.label).unwrap_or_default()
}

/// What a walk tells of a folder.
type ListedFolder = (RelPath, Result<Image, StoreError>, Vec<StoreError>);

/// So many folders may wait to be written.
const WAITING: usize = 256;

fn walk(
    desk: &Desk,
    all: &mut Inventories,
    about: &About,
    store: &dyn Store,
) -> Outcome<(Taken, Vec<StoreError>)> {
    let home = &desk.home;
    let mut taking = all.take(about).map_err(|error| failed(home, error))?;
    let progress = ScanProgress {
        folders: AtomicU64::new(0),
        entries: AtomicU64::new(0),
        read: AtomicU64::new(0),
        stop: desk.stop.clone(),
    };
    let (sender, seen) = crossbeam_channel::bounded::<ListedFolder>(WAITING);
    let mut problems = Vec::new();
    let walked = std::thread::scope(|scope| {
        let progress = &progress;
        let walker = scope.spawn(move || {
            let sender = sender;
            each_folder(store, progress, &|path, listing| {
                let (held, unknown) = match listing {
                    Ok(Listing { entries, unknown }) => {
                        let told = entries.iter().filter(|entry| !is_own(&entry.name));
                        let image =
                            Image::of(told.map(|entry| (entry.name.as_bytes(), meta_of(&entry.meta))));
                        (Ok(image), unknown.into_iter().map(|one| one.error).collect())
                    }
                    Err(error) => (Err(error), Vec::new()),
                };
                let _ = sender.send((path.clone(), held, unknown));
            })
        });
        let mut written = Ok(());
        for (path, held, unknown) in seen {
            desk.tell(&Event::Scanning { job: &about.name, progress });
            problems.extend(unknown);
            if written.is_err() {
                continue;
            }
            written = match held {
                Ok(image) => taking.folder(path.as_bytes(), image),
                Err(error) if path.is_root() => return Err(unread(about, &error)),
                Err(error) => {
                    problems.push(error);
                    taking.keep(path.as_bytes());
                    Ok(())
                }
            };
        }
        let walked = content::joined(walker);
        written.map_err(|error| failed(home, error)).map(|()| walked)
    });
    desk.tell(&Event::Scanned);
    match walked? {
        Ok(()) => {}
        Err(ScanError::Stopped) => {
            return Err(Failure::interrupted(Cause::Interrupted, "it was stopped; what was known stays"));
        }
        Err(ScanError::Store(_, error)) => return Err(unread(about, &error)),
        Err(ScanError::Baseline(error)) => return Err(error.into()),
    }
    // A drive that went away in the middle leaves folders that could not be listed, and no inventory.
    if !problems.is_empty()
        && let Err(error) = store.list(&RelPath::root())
    {
        return Err(unread(about, &error));
    }
    let taken = taking.finish().map_err(|error| failed(home, error))?;
    Ok((taken, problems))
}

fn unread(about: &About, error: &StoreError) -> Failure {
    let message = format!("{} cannot be read: {}; what was known stays", about.place, error.reason());
    Failure::stopped(error.kind, message).hint("Connect it and try again.")
}

/// Whether the store of an inventory is there now. Servers are not asked.
pub fn is_connected(desk: &Desk, inventory: &Inventory) -> bool {
    let about = &inventory.about;
    if about.place.is_empty() {
        // Only a listing of it was ever here.
        return false;
    }
    let Ok(located) = locate(&desk.home, &desk.settings, &about.place) else { return false };
    let Means::Folder { path, .. } = &located.means else {
        return matches!(located.means, Means::Server(_));
    };
    // Another drive at the same place is not this one.
    let Ok(store) = open_source(desk, &located, OpenOptions::default(), "place") else { return false };
    let Ok(mark) = mark_of(desk, &located, store.as_ref()) else { return false };
    let mark = mark.unwrap_or_default();
    path.is_dir() && !is_another(inventory, &usual_about(desk, &about.name, &located, mark))
}
