//! Which runs may go on side by side: one of each job, none at a place where another one works, and so many at most.

use reedhook_core::store::Place;

/// What stands in the way of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Blocked {
    /// A run of this job works at one of its places, or is its own.
    By(String),
    /// As many runs go on as may.
    Full,
}

/// What stands in the way of a run of `job` at `places`, while those others go on.
pub fn blocked<'a>(
    job: &str,
    places: &[Place],
    running: impl Iterator<Item = (&'a str, &'a [Place])>,
    most: usize,
) -> Option<Blocked> {
    let mut count = 0;
    for (name, theirs) in running {
        count += 1;
        if name == job || share(places, theirs) {
            return Some(Blocked::By(name.to_owned()));
        }
    }
    (count >= most).then_some(Blocked::Full)
}

/// Whether any two of some places are one, or one lies in the other.
pub(crate) fn share(mine: &[Place], theirs: &[Place]) -> bool {
    mine.iter().any(|mine| theirs.iter().any(|theirs| overlap(mine, theirs)))
}

fn overlap(one: &Place, other: &Place) -> bool {
    match (one, other) {
        (Place::Local(one), Place::Local(other)) => one.starts_with(other) || other.starts_with(one),
        (Place::Elsewhere(one), Place::Elsewhere(other)) => {
            let within = |inner: &str, outer: &str| {
                inner
                    .strip_prefix(outer.trim_end_matches('/'))
                    .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            };
            within(one, other) || within(other, one)
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_wait_for_those_at_the_same_places_and_for_their_turn() {
        let local = |path: &str| vec![Place::Local(path.into())];
        let (counts, maps) = (local("/srv/counts"), local("/srv/maps"));
        let running = || [("counts", counts.as_slice())].into_iter();
        let ask = |job: &str, places: &[Place], most| blocked(job, places, running(), most);
        let by = |job: &str| Some(Blocked::By(job.to_owned()));
        assert_eq!(ask("maps", &maps, 2), None);
        assert_eq!(ask("maps", &maps, 1), Some(Blocked::Full));
        assert_eq!(ask("counts", &maps, 2), by("counts"), "one run of each job");
        assert_eq!(ask("north", &local("/srv/counts/north"), 2), by("counts"));
        assert_eq!(ask("all", &local("/srv"), 2), by("counts"));
        assert_eq!(ask("other", &local("/srv/counts-old"), 2), None);
        let elsewhere = |place: &str| vec![Place::Elsewhere(place.to_owned())];
        let (one, below, beside) = (elsewhere("sftp:a/x"), elsewhere("sftp:a/x/y"), elsewhere("sftp:a/xy"));
        assert!(share(&one, &below) && share(&below, &one) && !share(&one, &beside) && !share(&one, &counts));
    }
}
