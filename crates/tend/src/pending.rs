//! What else of a home runs, waits or is owed, as whoever wants the machine to go down has to know it.

use jiff::Timestamp;
use reedhook_core::store::Place;
use reedhook_jobs::desk::Desk;
use reedhook_jobs::finally::{self, Pending, PendingState};
use reedhook_jobs::lines;
use serde_json::{Value, json};

use crate::socket::{self, Request};

/// All that goes on: runs of whichever program, and what the service has still to do. A service that does not answer may have something to do.
pub fn of(desk: &Desk) -> Vec<Pending> {
    let mut pending = finally::running(&desk.home, &desk.settings);
    match socket::ask(desk.home.state(), &Request::Pending) {
        Ok(None) => {}
        Ok(Some(lines)) => pending.extend(lines.iter().filter_map(read)),
        Err(_) => pending.push(Pending {
            job: "the service".to_owned(),
            state: PendingState::Waits,
            places: vec![Place::Local("/".into())],
        }),
    }
    pending
}

/// As the service tells it.
pub(crate) fn line_of(pending: &Pending) -> Value {
    let places = pending.places.iter().filter_map(|place| match place {
        Place::Local(path) => Some(path.to_string_lossy().into_owned()),
        Place::Elsewhere(_) => None,
    });
    let mut line = json!({"event": "pending", "job": pending.job, "places": places.collect::<Vec<_>>()});
    match pending.state {
        PendingState::Runs => line["state"] = json!("running"),
        PendingState::Waits => line["state"] = json!("waiting"),
        PendingState::Retry(at) => {
            line["state"] = json!("retry");
            line["until"] = json!(lines::time(at.as_millisecond()));
        }
    }
    line
}

fn read(line: &Value) -> Option<Pending> {
    let job = line["job"].as_str()?.to_owned();
    let state = match line["state"].as_str()? {
        "running" => PendingState::Runs,
        "retry" => PendingState::Retry(line["until"].as_str()?.parse::<Timestamp>().ok()?),
        _ => PendingState::Waits,
    };
    let places = line["places"].as_array()?.iter().filter_map(Value::as_str);
    Some(Pending { job, state, places: places.map(|path| Place::Local(path.into())).collect() })
}
