//! What else of a home runs, waits or is owed, as whoever wants the machine to go down has to know it.

use reedhook_core::store::Place;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::finally::{self, Pending, PendingState};
use reedhook_jobs::lines;

use crate::protocol::{PendingWord, Request, Told};
use crate::socket;

/// All that goes on: runs of whichever program, and what the service has still to do. A service that does not answer may have something to do.
pub fn of(desk: &Desk) -> Vec<Pending> {
    let mut pending = finally::running(&desk.home, &desk.settings);
    match socket::ask(desk.home.state(), &Request::Pending) {
        Ok(None) => {}
        Ok(Some(told)) => pending.extend(told.into_iter().filter_map(read)),
        Err(_) => pending.push(Pending {
            job: "the service, which does not answer,".to_owned(),
            state: PendingState::Waits,
            places: None,
        }),
    }
    pending
}

/// As the service tells it.
pub(crate) fn told(pending: &Pending) -> Told {
    let local = |place: &Place| match place {
        Place::Local(path) => Some(path.to_string_lossy().into_owned()),
        Place::Elsewhere(_) => None,
    };
    let places = pending.places.as_ref().map(|places| places.iter().filter_map(local).collect());
    let (state, until) = match pending.state {
        PendingState::Runs => (PendingWord::Running, None),
        PendingState::Waits => (PendingWord::Waiting, None),
        PendingState::Retry(at) => (PendingWord::Retry, Some(lines::time(at.as_millisecond()))),
    };
    Told::Pending { job: pending.job.clone(), state, until, places }
}

fn read(told: Told) -> Option<Pending> {
    let Told::Pending { job, state, until, places } = told else { return None };
    let until = until.and_then(|until| until.parse().ok());
    let state = match (state, until) {
        (PendingWord::Running, _) => PendingState::Runs,
        (PendingWord::Retry, Some(at)) => PendingState::Retry(at),
        _ => PendingState::Waits,
    };
    let places = places.map(|places| places.into_iter().map(|path| Place::Local(path.into())).collect());
    Some(Pending { job, state, places })
}
