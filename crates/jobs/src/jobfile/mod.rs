//! Job files: small TOML files, one a job, that people edit, export and keep under version control.
//!
//! [`JobKeys`] is the file and, spelled with dashes, the options of `job add`, `job edit` and `once`: one list for both.
//! [`Job`] is a checked job with every default filled in.

pub(crate) mod files;
pub(crate) mod job;
pub(crate) mod keys;

pub use crate::jobfile::files::{job_names, known_job, load_job, parse, toml_failure};
pub use crate::jobfile::job::{Around, Job, ONCE, Timing, check_name};
pub use crate::jobfile::keys::{ConflictFor, JobKeys};

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::path::Path;

    use reedhook_core::filter::TakeOrSkip;
    use reedhook_core::job::{
        ConflictPolicy, Kind, Newer, OddNames, Owners, Preserve, Removals, Removed, Replaced, Verify,
    };
    use reedhook_core::when::{Finally, Missed, OnBattery};

    use super::*;

    fn error(text: &str) -> String {
        let checked = parse(text, Path::new("jobs/x.toml")).and_then(|keys| Job::new("x", keys));
        checked.unwrap_err().text()
    }

    #[test]
    fn every_key_is_known_to_the_file_and_the_list() {
        let listed: BTreeSet<&str> = JobKeys::NAMES.iter().copied().collect();
        let full = JobKeys {
            kind: Some(Kind::Mirror),
            from: vec!["a".into()],
            to: vec!["b".into()],
            left: Some("c".into()),
            right: Some("d".into()),
            conflict: Some(ConflictPolicy::Newest),
            conflict_for: vec!["*.csv both".parse().unwrap()],
            removals: Some(Removals::Ignore),
            exclude: vec!["*.tmp".into()],
            only: vec!["north/".into()],
            junk: Some(TakeOrSkip::Take),
            hidden: Some(TakeOrSkip::Skip),
            min_size: Some("1 kB".parse().unwrap()),
            max_size: Some("1 GB".parse().unwrap()),
            newer_than: Some("30 days".parse().unwrap()),
            older_than: Some("2031-05-04".parse().unwrap()),
            newer: Some(Newer::Update),
            removed: Some(Removed::Erase),
            replaced: Some(Replaced::Erase),
            keep_for: Some("10 days".parse().unwrap()),
            keep_max: Some("5%".parse().unwrap()),
            preserve: Some(Preserve::Full),
            odd_names: Some(OddNames::Encode),
            owners: Some(Owners::Numbers),
            one_filesystem: Some(true),
            verify: Some(Verify::All),
            max_removals: Some("50%".parse().unwrap()),
            max_changes: Some("off".parse().unwrap()),
            limit: vec!["20 MB/s".parse().unwrap(), "2 MB/s 08:00-18:00".parse().unwrap()],
            polite: Some(true),
            when: vec!["daily 18:00".parse().unwrap(), "on change after 30s".parse().unwrap()],
            missed: Some(Missed::Skip),
            remind_after: Some("10 days".parse().unwrap()),
            ask: Some(true),
            before: vec!["mount /srv/archive".into()],
            after: vec!["logger \"$REEDHOOK_JOB\"".into(), "true".into()],
            finally: Some(Finally::PowerOff),
            retry: Some("3 × 10m".parse().unwrap()),
            on_battery: Some(OnBattery::Wait),
            paused: Some(false),
            wake: Some(true),
            notify: vec!["mail always".parse().unwrap(), "all never".parse().unwrap()],
        };
        let text = full.to_toml().unwrap();
        let table: toml::Table = text.parse().unwrap();
        assert_eq!(table.keys().map(String::as_str).collect::<BTreeSet<_>>(), listed);
        assert_eq!(parse(&text, Path::new("x")).unwrap(), full, "a file reads back as it was written");
        assert_eq!(JobKeys::default().overlaid(full.clone()), full);
        assert_eq!(full.clone().overlaid(JobKeys::default()), full);
    }

    #[test]
    fn mistakes_name_the_file_the_line_and_what_was_expected() {
        let cases = [
            (
                "kind = \"mirror\"\nexlude = []",
                "jobs/x.toml, line 2: there is no key \"exlude\". Did you mean \"exclude\"?",
            ),
            (
                "kind = \"mirrow\"",
                "line 1: \"mirrow\" is not understood; expected one of: mirror copy two-way",
            ),
            ("kind = \"two-way\"\nleft = \"a\"\nto = \"b\"", "is a two-way and has no \"to\""),
            ("kind = \"mirror\"\nremovals = \"ignore\"", "has no \"removals\""),
            (
                "kind = \"two-way\"\nleft = \"a\"\nright = \"b\"\nconflict_for = [[\"*.csv\", \"mine\"]]",
                "line 4: ",
            ),
            ("kind = \"two-way\"\nleft = \"a\"", "job \"x\" has no \"right\""),
            ("kind = \"copy\"\nfrom = 3", "line 2: expected a text or a list of texts"),
            ("kind = ", "jobs/x.toml, line 1: "),
            (
                &"limit = { [ \"2\" ]\nkeep_for = \"3\" ]\n".repeat(20_000),
                "line 127: lists and tables lie too deep",
            ),
            ("kind = \"copy\"\nfrom = \"a\"", "job \"x\" has no \"to\""),
            ("kind = \"copy\"\nfrom = \"a\"\nto = \"b\"\nexclude = \"!x\"", "begins with \"!\""),
            (
                "kind = \"copy\"\nfrom = \"a\"\nto = \"b\"\nmax_size = \"big\"",
                "line 4: \"big\" is not understood; expected a size",
            ),
        ];
        for (text, expected) in cases {
            let found = error(text);
            assert!(found.contains(expected), "{text:?} gave {found:?}");
        }
    }

    #[test]
    fn names_are_simple() {
        for good in ["heron-counts", "maps_2031", "Möwen", "a.b"] {
            assert!(check_name(good, "job").is_ok(), "{good}");
        }
        for bad in ["", "-x", "a/b", "a b", "..", "once", &"n".repeat(65)] {
            assert!(check_name(bad, "job").is_err(), "{bad}");
        }
    }

    #[test]
    fn fuzzed_job_files() {
        let seeds: [&[u8]; 2] = [
            b"kind = \"mirror\"\nfrom = \"~/counts\"\nto = [\"@field-drive/counts\"]\nexclude = [\"*.tmp\", \"!a/**/b[!x]\"]\nwhen = [\"daily 19:30\", \"cron 5 18 * * 1-5\", \"every 2h 08:00-17:00\"]\nlimit = [\"2 MB/s 08:00-18:00\"]\nkeep_for = \"30 days\"\nmax_removals = \"25%\"\nretry = \"3 \xc3\x97 10m\"\n",
            b"kind = \"two-way\"\nleft = \"a\"\nright = \"sftp://u@h:22/x\"\nconflict = \"newest\"\nconflict_for = [\"*.csv both\"]\nmin_size = \"1 KiB\"\nnewer_than = \"3d\"\n",
        ];
        reedhook_testing::fuzz("job files", &seeds, |bytes| {
            let text = String::from_utf8_lossy(bytes);
            if let Ok(keys) = parse(&text, Path::new("job.toml")) {
                drop(Job::new("fuzzed", keys));
            }
        });
    }
}
