//! Trying what places hold, before the first run that writes there.

use std::path::{Path, PathBuf};

use reedhook_core::job::{Kind, Preserve};
use reedhook_core::store::Store;
use reedhook_stores::drives;
use reedhook_stores::local::LocalStore;

use crate::capabilities::{OpenOptions, found};
use crate::desk::Desk;
use crate::failure::Outcome;
use crate::home::Home;
use crate::open;
use crate::places::Located;
use crate::preview::{DestinationPlan, Preview};

/// The places of this machine that a run of a job writes into, and the folders that they are.
pub(crate) fn written_to(preview: &Preview) -> impl Iterator<Item = (&Located, PathBuf)> {
    let both = preview.job.rules.kind == Kind::TwoWay;
    let from = preview.ends.from.iter().filter(move |_| both);
    from.chain(&preview.ends.to).filter_map(|place| Some((place, place.resolved()?)))
}

/// What a preview says of places where nothing was tried yet.
pub fn untried(preview: &Preview, home: &Home) -> Vec<String> {
    let untried = written_to(preview).filter(|(_, folder)| found(folder, home).is_none());
    let sentence = |(place, folder): (&Located, PathBuf)| {
        let kind = drives::type_in_words(&folder)?;
        let shown = place.short(home);
        Some(format!("{shown} is new: assumed to work like {kind} until the first run tests it"))
    };
    untried.filter_map(sentence).collect()
}

/// Tries what the places hold that a run is about to write into, where that is not known; whether something else was found than
/// was assumed, so that the plan has to be made again.
///
/// # Errors
/// When a place cannot be reserved, or the record fails.
pub fn try_places(desk: &Desk, preview: &Preview) -> Outcome<bool> {
    let mut news = false;
    for (place, folder) in written_to(preview) {
        if found(&folder, &desk.home).is_none() {
            let to_be_made = |destination: &DestinationPlan| {
                destination.to_be_made && destination.to.written == place.written
            };
            if preview.destinations.iter().any(to_be_made) && preview.is_still_where_it_was(desk) {
                open::make_destination(desk, place, OpenOptions::of(&preview.job))?;
            }
            // What had to be made is there only now.
            let folder = place.resolved().unwrap_or(folder);
            news |= try_place(desk, &folder, preview)?;
        }
    }
    Ok(news)
}

pub(crate) fn try_place(desk: &Desk, folder: &Path, preview: &Preview) -> Outcome<bool> {
    let full = preview.job.rules.preserve == Preserve::Full;
    let Some(footing) = drives::footing_of(folder) else { return Ok(false) };
    // Where it cannot be tried, the run goes by the type, and says itself what it cannot do.
    let Ok(store) = LocalStore::open_knowing(folder, full, None) else { return Ok(false) };
    // A drive that has gone since leaves its mount point behind, and nothing is written there. What is open already is the right one.
    if !preview.is_still_where_it_was(desk) {
        return Ok(false);
    }
    let Ok(_reserved) = store.lock() else { return Ok(false) };
    let Ok(found) = store.try_out() else { return Ok(false) };
    let text = serde_json::to_string(&found).unwrap_or_default();
    desk.home.record()?.set_held(&footing, &text, desk.now_ms())?;
    let Ok(known) = LocalStore::open_knowing(folder, full, Some(&found)) else { return Ok(true) };
    Ok(known.capabilities() != store.capabilities())
}
