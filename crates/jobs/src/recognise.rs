//! Recognising stores: by the mark they bear, and by what they are on.
//!
//! A job remembers both of its places. A destination bears a mark; a source is never written to, so it is known by its file system
//! or server alone. What was there and is now something else stops a run before it begins: an empty mount point looks like a
//! folder from which everything was removed.

use reedhook_core::entry::{EntryKind, Meta};
use reedhook_core::filter::Verdict;
use reedhook_core::identity::{self, Ground};
use reedhook_core::job::Kind;
use reedhook_core::path::RelPath;
use reedhook_core::store::{FaultKind, Store};
use reedhook_record::{KnownPlace, RunPlace};
use reedhook_stores::drives;

use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::jobfile::job::{Job, ONCE};
use crate::places::{Ends, Located};

/// In the record: a place that was there when the job was set up, and has no mark yet.
pub const SEEN: &str = "";

/// What a place is to a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// What a one-way job reads.
    Source,
    /// What a one-way job changes.
    Destination,
    /// The left of a two-way job.
    Left,
    /// The right of a two-way job.
    Right,
}

impl Part {
    /// What a job's first place, or its second, is to it.
    pub fn of(kind: Kind, first: bool) -> Part {
        match (kind, first) {
            (Kind::TwoWay, true) => Part::Left,
            (Kind::TwoWay, false) => Part::Right,
            (_, true) => Part::Source,
            (_, false) => Part::Destination,
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Part::Source => "source",
            Part::Destination => "destination",
            Part::Left => "left side",
            Part::Right => "right side",
        }
    }

    /// How a job is told that a place is right.
    pub fn accept(self, job: &str, place: &str) -> String {
        let option = match self {
            Part::Source => "--from",
            Part::Destination => "--to",
            Part::Left => "--left",
            Part::Right => "--right",
        };
        format!("reedhook job edit {job} {option} '{place}'")
    }

    fn foreign(self) -> Cause {
        match self {
            Part::Source => Cause::SourceForeign,
            Part::Destination => Cause::DestinationForeign,
            Part::Left | Part::Right => Cause::SideForeign,
        }
    }
}

/// What a place is on now: its own folder, or the nearest one above it that is there.
pub fn ground(place: &Located) -> Option<Ground> {
    match place.server() {
        Some(reach) => Some(Ground::server(reach.place())),
        None => drives::ground_of(&place.resolved()?),
    }
}

/// Other file systems that are mounted in a place and take part in the job.
fn mounts(desk: &Desk, place: &Located, job: &Job) -> Outcome<Vec<(RelPath, Ground)>> {
    let Some(folder) = place.resolved().filter(|_| !job.rules.one_filesystem) else { return Ok(Vec::new()) };
    let mut found = drives::mounts_in(&folder).map_err(|error| {
        let words = format!("what is mounted in {} cannot be seen: {error}", place.shown(&desk.home));
        Failure::refused(FaultKind::Io, words)
            .hint("The system's table of mounts is /proc/self/mountinfo: is /proc mounted?")
    })?;
    found.retain(|(path, _)| takes_part(desk, job, path));
    Ok(found)
}

/// Whether a folder in a side, and every folder on the way to it, is let through by the job's filter.
fn takes_part(desk: &Desk, job: &Job, path: &RelPath) -> bool {
    let Ok(filter) = job.filter(desk.now()) else { return true };
    let (mut above, mut inherited) = (RelPath::root(), filter.root());
    for part in path.parts() {
        let Ok(name) = reedhook_core::path::Name::new(part) else { return true };
        match filter.judge(&above, &name, &Meta::bare(EntryKind::Folder), inherited) {
            Verdict::Out(_) => return false,
            verdict => inherited = filter.inherit(verdict),
        }
        above = above.join(&name);
    }
    true
}

/// The identity of the store that bears a mark.
pub fn by_mark(mark: &str) -> String {
    format!("mark:{mark}")
}

/// Tells a store apart from every other: by its mark, else by its place on its file system or server.
///
/// # Errors
/// When there may be a mark and it cannot be read.
pub fn store_identity(desk: &Desk, place: &Located, store: &dyn Store) -> Outcome<String> {
    Ok(mark_of(desk, place, store)?.map_or_else(|| spot(place), |mark| by_mark(&mark)))
}

/// The mark of a store, if it bears one.
///
/// # Errors
/// When there may be one and it cannot be read.
pub fn mark_of(desk: &Desk, place: &Located, store: &dyn Store) -> Outcome<Option<String>> {
    identity::read(store).map_err(|error| {
        let words = format!("the mark of {} cannot be read: {}", place.shown(&desk.home), error.reason());
        Failure::refused(Cause::DestinationForeign, words)
    })
}

/// Tells a place without a mark apart from every other.
pub fn spot(place: &Located) -> String {
    match place.resolved() {
        Some(folder) => drives::spot_of(&folder).unwrap_or_else(|| folder.display().to_string()),
        None => place.location(),
    }
}

/// Refuses a place that is on something else than it was.
///
/// # Errors
/// When it is, or what is mounted in it cannot be seen.
pub fn refuse_other_ground(desk: &Desk, job: &Job, place: &Located, part: Part) -> Outcome<()> {
    if job.name == ONCE {
        return Ok(());
    }
    let Some(known) = desk.home.record()?.place(&job.name, &place.written)? else { return Ok(()) };
    if known.there && place.server().is_none() && !place.is_there() {
        // Who opens it says that it is missing.
        return Ok(());
    }
    let shown = place.shown(&desk.home);
    let refused = |cause, message: String| {
        let accept = part.accept(&job.name, &place.written);
        Err(Failure::refused(cause, message)
            .hint(format!("Connect the right drive. If this is right from now on: {accept}.")))
    };
    let is_other = |now: Option<Ground>, then: &Ground| now.is_some_and(|now| now.is_other(then));
    if known.ground.as_ref().is_some_and(|then| is_other(ground(place), then)) {
        let what = format!("the {} {shown} is on another file system than before", part.word());
        return refused(part.foreign(), format!("{what}: an empty mount point, or another drive"));
    }
    let here = mounts(desk, place, job)?;
    let remembered = known.mounts.iter().filter(|_| !job.rules.one_filesystem);
    for (path, then) in remembered.filter(|(path, _)| takes_part(desk, job, path)) {
        let now = here.iter().find(|(found, _)| found == path).map(|(_, ground)| ground);
        if now.is_none_or(|now| now.is_other(then)) {
            let what = format!("what was mounted at {path} in the {} {shown} is not there now", part.word());
            return refused(part.foreign(), what);
        }
    }
    Ok(())
}

/// Refuses to make a destination that was there before: it has not gone without a reason, a drive is not plugged in.
///
/// # Errors
/// When it was there before, or the record fails.
pub fn refuse_vanished(desk: &Desk, job: &Job, place: &Located, part: Part) -> Outcome<()> {
    if job.name == ONCE {
        return Ok(());
    }
    let known = desk.home.record()?.place(&job.name, &place.written)?;
    if known.is_some_and(|known| known.there) {
        let message = format!("the {} {} was there before and is gone", part.word(), place.shown(&desk.home));
        return Err(Failure::refused(Cause::DestinationMissing, message)
            .hint("Connect the drive; or, if the folder is meant to be new, make it and run again."));
    }
    refuse_other_ground(desk, job, place, part)
}

/// Refuses a store without the mark that the job left there: another drive, or an empty mount point.
///
/// # Errors
/// When it lacks the mark, bears another, or the mark cannot be read.
pub fn refuse_foreign(desk: &Desk, job: &Job, place: &Located, store: &dyn Store, part: Part) -> Outcome<()> {
    if job.name == ONCE {
        return Ok(());
    }
    refuse_other_ground(desk, job, place, part)?;
    let known = desk.home.record()?.place(&job.name, &place.written)?;
    let Some(expected) = known.map(|known| known.mark).filter(|mark| mark != SEEN) else { return Ok(()) };
    let shown = place.shown(&desk.home);
    let found = mark_of(desk, place, store)?;
    let what = match found {
        Some(found) if found == expected => return Ok(()),
        Some(_) => "it bears another mark: this looks like another drive",
        None => "its mark is missing: is the drive not connected, or is this another one?",
    };
    Err(Failure::refused(
        Cause::DestinationForeign,
        format!("{shown} is not the place this job last wrote to; {what}"),
    )
    .hint(format!(
        "Connect the right one. If this is its new place: {}.",
        part.accept(&job.name, &place.written)
    )))
}

/// What the places of a job are on, as it was seen at one moment: a drive that goes away in the middle of a run leaves its mount
/// point behind, which must not be taken for what the job worked with.
#[derive(Debug, Clone, Default)]
pub struct GroundsSeen {
    places: Vec<(String, KnownPlace)>,
}

impl GroundsSeen {
    /// A look at the places of a job.
    ///
    /// # Errors
    /// When nobody can see what is mounted there.
    pub fn now(desk: &Desk, job: &Job, ends: &Ends) -> Outcome<GroundsSeen> {
        let one = |place: &Located| {
            let known = KnownPlace {
                there: place.is_there(),
                mark: String::new(),
                ground: ground(place),
                mounts: mounts(desk, place, job)?,
            };
            Ok((place.written.clone(), known))
        };
        Ok(GroundsSeen { places: ends.from.iter().chain(&ends.to).map(one).collect::<Outcome<_>>()? })
    }

    /// Whether the places are still on the same.
    pub fn still_holds(&self, desk: &Desk, job: &Job, ends: &Ends) -> bool {
        let Ok(now) = GroundsSeen::now(desk, job, ends) else { return false };
        let same = |(then, now): (&(String, KnownPlace), &(String, KnownPlace))| {
            then.1.ground == now.1.ground && then.1.mounts == now.1.mounts
        };
        self.places.iter().zip(&now.places).all(same)
    }

    /// Remembers it. Marks stay as they were.
    ///
    /// # Errors
    /// When the record fails.
    pub fn remember(&self, desk: &Desk, job: &str) -> Outcome<()> {
        let mut record = desk.home.record()?;
        for (place, seen) in self.places.iter().filter(|_| job != ONCE) {
            let same = |known: &KnownPlace| {
                known.ground == seen.ground && known.mounts == seen.mounts && (known.there || !seen.there)
            };
            if !record.place(job, place)?.as_ref().is_some_and(same) {
                record.set_ground(job, place, (seen.ground.as_ref(), seen.there), &seen.mounts)?;
            }
        }
        Ok(())
    }
}

/// Refuses to touch a place for a past run unless it is the store that the run changed.
///
/// # Errors
/// When it is another, or nobody can see which it is.
pub fn refuse_another_store(desk: &Desk, past: &RunPlace, place: &Located, store: &dyn Store) -> Outcome<()> {
    let shown = place.shown(&desk.home);
    let refused = |why: &str| {
        Err(Failure::refused(
            Cause::StoreForeign,
            format!("{shown} is not the store that this run changed: {why}"),
        )
        .hint("Nothing was touched. Connect the right one, or bring things back by hand."))
    };
    if !past.mark.is_empty() {
        return match identity::read(store) {
            Ok(Some(mark)) if mark == past.mark => Ok(()),
            Ok(Some(_)) => refused("it bears another mark"),
            Ok(None) => refused("its mark is missing"),
            Err(_) => refused("its mark cannot be read"),
        };
    }
    let other_ground = past.ground.as_ref().zip(ground(place)).is_some_and(|(then, now)| now.is_other(then));
    if other_ground {
        refused("it is on another file system")
    } else if place.location() != past.location {
        refused(&format!("that was {}", past.location))
    } else {
        Ok(())
    }
}
