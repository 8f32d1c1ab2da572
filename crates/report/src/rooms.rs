//! How much room there is where jobs write, how fast it goes, and when there will be none at this rate.

use std::collections::BTreeMap;

use jiff::Timestamp;
use reedhook_record::Room;

/// A place that jobs write to; jobs that share a file system share the room.
#[derive(Debug, Clone, PartialEq)]
pub struct Destination {
    /// The places, as written in the jobs.
    pub places: Vec<String>,
    /// The jobs.
    pub jobs: Vec<String>,
    /// Bytes that could still be written, at last.
    pub free: u64,
    /// Bytes in all.
    pub total: u64,
    /// When that was seen, in milliseconds since 1970.
    pub at_ms: i64,
    /// Bytes a day by which the room becomes less (negative: more); `None` when too little is known.
    pub per_day: Option<f64>,
    /// When there is none left at this rate; `None` when that is not known, or more than ten years away.
    pub full_on: Option<Timestamp>,
    /// What was seen: when, and how much was free.
    pub seen: Vec<(i64, u64)>,
}

impl Destination {
    /// What to call it: the store that all its places are in, or the first of them.
    pub fn name(&self) -> String {
        let store = |place: &str| {
            place.strip_prefix('@').map(|rest| rest.split('/').next().unwrap_or(rest).to_owned())
        };
        let first = self.places.first().cloned().unwrap_or_default();
        match (store(&first), self.places.len()) {
            (_, 0 | 1) => first,
            (Some(name), _) if self.places.iter().all(|place| store(place).as_ref() == Some(&name)) => {
                format!("@{name}")
            }
            (_, 2) => self.places.join(", "),
            (_, number) => format!("{first} and {} more", number - 1),
        }
    }
}

const DAY_MS: f64 = 86_400_000.0;

/// Further away than this nobody plans.
const HORIZON_DAYS: f64 = 3650.0;

/// What is known of the destinations, from what was seen there in a time, oldest first.
pub fn destinations(rooms: &[Room]) -> Vec<Destination> {
    let mut shared: BTreeMap<(String, u64), Vec<&Room>> = BTreeMap::new();
    for room in rooms {
        let which = if room.ground.is_empty() { &room.location } else { &room.ground };
        shared.entry((which.clone(), room.total)).or_default().push(room);
    }
    let mut found: Vec<Destination> = shared.into_values().filter_map(|rooms| of_one(&rooms)).collect();
    found.sort_by(|a, b| a.places.cmp(&b.places));
    found
}

fn of_one(rooms: &[&Room]) -> Option<Destination> {
    let last = rooms.last()?;
    let distinct = |of: fn(&Room) -> &String| {
        let all: std::collections::BTreeSet<&String> = rooms.iter().map(|room| of(room)).collect();
        all.into_iter().cloned().collect::<Vec<_>>()
    };
    let seen: Vec<(i64, u64)> = rooms.iter().map(|room| (room.at_ms, room.free)).collect();
    let per_day = shrinking(&seen);
    let days_left = per_day.filter(|rate| *rate >= 1.0).map(|rate| last.free as f64 / rate);
    let full_on = days_left
        .filter(|days| *days <= HORIZON_DAYS)
        .and_then(|days| Timestamp::from_millisecond(last.at_ms.saturating_add((days * DAY_MS) as i64)).ok());
    Some(Destination {
        places: distinct(|room| &room.place),
        jobs: distinct(|room| &room.job),
        free: last.free,
        total: last.total,
        at_ms: last.at_ms,
        per_day,
        full_on,
        seen,
    })
}

/// By how many bytes a day the free room becomes less: the slope of the straight line that fits best (least squares). Less than three
/// looks, or less than a day, tell nothing.
fn shrinking(seen: &[(i64, u64)]) -> Option<f64> {
    let (first, last) = (seen.first()?.0, seen.last()?.0);
    if seen.len() < 3 || ((last - first) as f64) < DAY_MS {
        return None;
    }
    let days = |at: i64| (at - first) as f64 / DAY_MS;
    let number = seen.len() as f64;
    let middle_day = seen.iter().map(|(at, _)| days(*at)).sum::<f64>() / number;
    let middle_free = seen.iter().map(|(_, free)| *free as f64).sum::<f64>() / number;
    let (mut together, mut spread) = (0.0, 0.0);
    for (at, free) in seen {
        let off = days(*at) - middle_day;
        together += off * (*free as f64 - middle_free);
        spread += off * off;
    }
    (spread > 0.0).then(|| -together / spread)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn room(job: &str, day: i64, free: u64) -> Room {
        Room {
            job: job.to_owned(),
            place: format!("@field-drive/{job}"),
            location: format!("/media/fenfield/{job}"),
            ground: "ext4 1234".to_owned(),
            at_ms: day * 86_400_000,
            free,
            total: 10_000,
        }
    }

    #[test]
    fn what_goes_at_a_steady_rate_is_gone_on_a_day() {
        let rooms: Vec<Room> = (0..10)
            .map(|day| room(if day % 2 == 0 { "counts" } else { "stills" }, day, 2_000 - 100 * day as u64))
            .collect();
        let [found] = destinations(&rooms).try_into().unwrap();
        assert_eq!(found.jobs, ["counts", "stills"], "jobs on one file system share its room");
        assert_eq!(found.name(), "@field-drive");
        assert_eq!((found.free, found.total), (1_100, 10_000));
        assert!((found.per_day.unwrap() - 100.0).abs() < 1e-6);
        assert_eq!(found.full_on.unwrap().as_millisecond(), 20 * 86_400_000);
    }

    #[test]
    fn of_little_nothing_is_foretold() {
        let rows: [&[(i64, u64)]; 5] = [
            &[(0, 500)],
            &[(0, 500), (9, 400)],
            &[(0, 500), (1, 500), (2, 500)],
            &[(0, 500), (1, 600), (2, 700)],
            &[(0, 5_000), (1, 4_999), (2, 4_998)],
        ];
        for seen in rows {
            let rooms: Vec<Room> = seen.iter().map(|(day, free)| room("counts", *day, *free)).collect();
            assert_eq!(destinations(&rooms)[0].full_on, None, "{seen:?}");
        }
        assert_eq!(destinations(&[]), []);
    }
}
