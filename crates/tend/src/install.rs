//! What the system needs to begin runs: units of systemd, lines of a crontab, a launcher. Only the texts; who calls them writes them
//! where they belong.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use reedhook_core::when::{Cron, Days, Minute, Missed, MonthDays, Rule, Trigger, Weekdays, When};
use reedhook_jobs::jobfile::Job;

/// How this program is called.
#[derive(Debug, Clone)]
pub struct Program {
    /// Its file.
    pub file: PathBuf,
    /// The folder of its configuration and state, when one was given.
    pub home: Option<PathBuf>,
}

impl Program {
    /// Its words, with these at the end.
    fn words(&self, last: &[&str]) -> Vec<String> {
        let mut words = vec![self.file.display().to_string()];
        if let Some(home) = &self.home {
            words.extend(["--home".to_owned(), home.display().to_string()]);
        }
        words.extend(last.iter().map(|word| (*word).to_owned()));
        words
    }

    /// What tells this home's units from those of other homes: nothing for the usual one.
    fn suffix(&self) -> String {
        let name = self.home.as_deref().and_then(Path::file_name);
        name.map(|name| format!("-{}", unit_name(&name.to_string_lossy()))).unwrap_or_default()
    }

    /// The name of the service's unit.
    pub fn service_name(&self) -> String {
        format!("reedhook{}.service", self.suffix())
    }

    /// The name of a job's units, without what they are.
    pub fn job_unit(&self, job: &str) -> String {
        format!("reedhook{}-job-{}", self.suffix(), unit_name(job))
    }
}

/// A name as units have it (systemd.unit(5)): anything but letters, digits and some marks is escaped.
fn unit_name(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'.' | b'-');
    text.bytes()
        .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("\\x{byte:02x}") })
        .collect()
}

/// Words as a unit has them: quoted, nothing in them means anything (systemd.service(5), systemd.syntax(7)).
fn for_unit(words: &[String]) -> String {
    let quoted = |word: &String| {
        let word = word.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
        format!("\"{}\"", word.replace('\n', "\\n"))
    };
    words.iter().map(quoted).collect::<Vec<_>>().join(" ")
}

/// Words as the shell has them, in a crontab, where a percent sign would be a line's end (crontab(5)).
fn for_crontab(words: &[String]) -> String {
    let quoted = |word: &String| format!("'{}'", word.replace('\'', "'\\''").replace('%', "\\%"));
    words.iter().map(quoted).collect::<Vec<_>>().join(" ")
}

/// Words as a launcher has them (Desktop Entry Specification, "The Exec key").
fn for_launcher(words: &[String]) -> String {
    let quoted = |word: &String| {
        let mut quoted = String::from("\"");
        for c in word.chars() {
            match c {
                // Escaped once for the quotes, and once more as every value of a key is.
                '"' | '`' | '$' => quoted.extend(['\\', '\\', c]),
                '\\' => quoted.push_str("\\\\\\\\"),
                '%' => quoted.push_str("%%"),
                '\n' => quoted.push_str("\\n"),
                c => quoted.push(c),
            }
        }
        quoted + "\""
    };
    words.iter().map(quoted).collect::<Vec<_>>().join(" ")
}

/// Rights that the service never needs. Nothing here gives it a file system of its own: it has to see drives come, and to unmount them.
const HARDENING: &str = "\
# Commands before and after runs cannot gain rights either: no sudo.
NoNewPrivileges=yes
LockPersonality=yes
RestrictRealtime=yes
RestrictNamespaces=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
SystemCallArchitectures=native
";

/// The unit of the service.
pub fn service(program: &Program, system: bool) -> String {
    let after = if system {
        "After=local-fs.target network-online.target\nWants=network-online.target\n"
    } else {
        ""
    };
    let wanted = if system { "multi-user.target" } else { "default.target" };
    format!(
        "[Unit]\n\
         Description=Reedhook runs its jobs when they are due\n\
         {after}\n\
         [Service]\n\
         Type=notify\n\
         NotifyAccess=main\n\
         ExecStart={} \n\
         ExecReload=/bin/kill -HUP $MAINPID\n\
         WatchdogSec=5min\n\
         Restart=on-failure\n\
         RestartSec=10s\n\
         # It ends within two seconds, with its runs.\n\
         TimeoutStopSec=15s\n\
         KillMode=mixed\n\
         OOMPolicy=continue\n\
         {HARDENING}\n\
         [Install]\n\
         WantedBy={wanted}\n",
        for_unit(&program.words(&["--quiet", "tend"]))
    )
    .replace(" \n", "\n")
}

/// Why a line can be followed by nothing but the service.
pub type Unfit = String;

/// The two units of a job: what runs it, and its timer. And the lines that no timer can follow.
pub fn timer(program: &Program, job: &Job) -> (String, String, Vec<Unfit>) {
    let mut unfit = Vec::new();
    let mut lines = String::new();
    for when in &job.timing.when {
        match on_calendar(when) {
            Ok(specs) => specs.iter().for_each(|spec| lines.push_str(&format!("{spec}\n"))),
            Err(why) => unfit.push(format!("{when}: {why}")),
        }
    }
    let persistent = job.timing.missed == Missed::Run;
    let wake = if job.timing.wake { "WakeSystem=yes\n" } else { "" };
    let service = format!(
        "[Unit]\nDescription=Reedhook job {name}\n\n\
         [Service]\nType=oneshot\nExecStart={}\n# It ends whole, and goes on with the next run.\nTimeoutStopSec=15s\n{HARDENING}",
        for_unit(&program.words(&["--quiet", "run", &job.name])),
        name = job.name.replace('%', "%%"),
    );
    let timer = format!(
        "[Unit]\nDescription=When Reedhook's job {name} is due\n\n\
         [Timer]\n{lines}AccuracySec=1s\nPersistent={}\n{wake}\n[Install]\nWantedBy=timers.target\n",
        if persistent { "yes" } else { "no" },
        name = job.name.replace('%', "%%"),
    );
    (service, timer, unfit)
}

/// The part of a crontab that runs a job, and the lines that none can follow.
pub fn crontab(program: &Program, job: &Job) -> (String, Vec<Unfit>) {
    let command = for_crontab(&program.words(&["--quiet", "run", &job.name]));
    let (mut lines, mut unfit) = (String::new(), Vec::new());
    for when in &job.timing.when {
        match cron_fields(when) {
            Ok(found) => {
                for Fields { fields, condition } in found {
                    lines.push_str(&format!("{fields} {condition}{command}\n"));
                }
            }
            Err(why) => unfit.push(format!("{when}: {why}")),
        }
    }
    let [begin, end] = marks(program, &job.name);
    (format!("{begin}\n{lines}{end}\n"), unfit)
}

/// Another crontab without the part of a job.
pub fn without(crontab: &str, program: &Program, job: &str) -> String {
    let [begin, end] = marks(program, job);
    let mut inside = false;
    let mut kept = String::new();
    for line in crontab.lines() {
        inside |= line == begin;
        if !inside {
            kept.push_str(&format!("{line}\n"));
        }
        inside &= line != end;
    }
    kept
}

fn marks(program: &Program, job: &str) -> [String; 2] {
    let home = program.home.as_ref().map(|home| format!(" ({})", home.display())).unwrap_or_default();
    ["begins", "ends"].map(|word| format!("# Reedhook job {job}{home} {word}"))
}

const ONLY_THE_SERVICE: &str = "only the service follows that: reedhook tend";

/// Times of one kind of day, each as hour, minute and second.
type Times = Vec<(u16, u16, u16)>;

/// A day's times, and the days that they are on.
struct OnDays {
    days: Vec<String>,
    times: Times,
}

/// What a timer's calendar says of a line (systemd.time(7)).
fn on_calendar(when: &When) -> Result<Vec<String>, Unfit> {
    let calendar = |spec: String| format!("OnCalendar={spec}");
    match when.rule() {
        Rule::On(Trigger::Start) => Ok(vec!["OnStartupSec=5s".to_owned()]),
        Rule::On(_) | Rule::At { days: Days::Nth(_), .. } => Err(ONLY_THE_SERVICE.to_owned()),
        Rule::Once(at) => Ok(vec![calendar(at.strftime("%Y-%m-%d %H:%M:%S").to_string())]),
        Rule::At { days, times } => {
            let times = plain(times);
            let days = match days {
                Days::Week(days) => vec![format!("{}*-*-*", weekday_words(*days))],
                Days::Month(days) => month_specs(*days),
                Days::Nth(_) => Vec::new(),
            };
            Ok(specs(&OnDays { days, times }).map(calendar).collect())
        }
        Rule::Every { .. } => {
            let both = every(when.rule())?;
            let parts = both
                .into_iter()
                .map(|(days, times)| OnDays { days: vec![format!("{}*-*-*", weekday_words(days))], times });
            Ok(parts.flat_map(|part| specs(&part).collect::<Vec<_>>()).map(calendar).collect())
        }
        Rule::Cron(cron) => Ok(of_cron(cron).into_iter().map(calendar).collect()),
    }
}

fn of_cron(cron: &Cron) -> Vec<String> {
    let list = |numbers: Vec<String>, all: usize| {
        if numbers.len() == all { "*".to_owned() } else { numbers.join(",") }
    };
    let months = list(cron.months().map(|month| format!("{month:02}")).collect(), 12);
    let hours = list(cron.hours().map(|hour| format!("{hour:02}")).collect(), 24);
    let minutes = list(cron.minutes().map(|minute| format!("{minute:02}")).collect(), 60);
    let time = format!("{hours}:{minutes}:00");
    let mut found = Vec::new();
    if let Some(days) = cron.month_days() {
        let days = list(days.numbers().map(|day| format!("{day:02}")).collect(), 31);
        found.push(format!("*-{months}-{days} {time}"));
    }
    if let Some(days) = cron.weekdays() {
        found.push(format!("{}*-{months}-* {time}", weekday_words(days)));
    }
    if found.is_empty() {
        found.push(format!("*-{months}-* {time}"));
    }
    found
}

fn plain(times: &[Minute]) -> Times {
    times.iter().map(|time| (time.hour(), time.minute(), 0)).collect()
}

/// `Mon,Thu `, or nothing for every day.
fn weekday_words(days: Weekdays) -> String {
    const NAMES: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
    if days == Weekdays::ALL {
        return String::new();
    }
    let names: Vec<&str> = days.places().map(|place| NAMES[place]).collect();
    format!("{} ", names.join(","))
}

fn month_specs(days: MonthDays) -> Vec<String> {
    let numbers: Vec<String> = days.numbers().map(|day| format!("{day:02}")).collect();
    let mut specs = Vec::new();
    if !numbers.is_empty() {
        specs.push(format!("*-*-{}", numbers.join(",")));
    }
    if days.last {
        specs.push("*-*~01".to_owned());
    }
    specs
}

/// Few specifications for many times: minutes that have the same hours stand together.
fn specs(on: &OnDays) -> impl Iterator<Item = String> + '_ {
    let times = grouped(&on.times).into_iter().map(|(hours, minutes, second)| {
        let list = |numbers: &[u16], all: usize| match numbers.len() == all {
            true => "*".to_owned(),
            false => numbers.iter().map(|number| format!("{number:02}")).collect::<Vec<_>>().join(","),
        };
        format!("{}:{}:{second:02}", list(&hours, 24), list(&minutes, 60))
    });
    let times: Vec<String> = times.collect();
    on.days.iter().flat_map(move |day| times.clone().into_iter().map(move |time| format!("{day} {time}")))
}

/// Times as hours, minutes and a second that go together.
fn grouped(times: &Times) -> Vec<(Vec<u16>, Vec<u16>, u16)> {
    let mut hours: BTreeMap<(u16, u16), Vec<u16>> = BTreeMap::new();
    for (hour, minute, second) in times {
        hours.entry((*second, *minute)).or_default().push(*hour);
    }
    let mut groups: BTreeMap<(u16, Vec<u16>), Vec<u16>> = BTreeMap::new();
    for ((second, minute), mut hours) in hours {
        hours.sort_unstable();
        hours.dedup();
        groups.entry((second, hours)).or_default().push(minute);
    }
    groups.into_iter().map(|((second, hours), minutes)| (hours, minutes, second)).collect()
}

/// The times of a line of lengths on an ordinary day; those after midnight are on the days after.
fn every(rule: &Rule) -> Result<Vec<(Weekdays, Times)>, Unfit> {
    /// More moments a day than this are no work for a timer.
    const MOST: usize = 1440;
    const DAY: u32 = 86_400;
    let Rule::Every { seconds, days, window } = rule else { return Ok(Vec::new()) };
    let second = |time: Minute| u32::from(time.hour()) * 3600 + u32::from(time.minute()) * 60;
    let (from, last) = match window {
        Some(window) if window.until < window.from => (second(window.from), second(window.until) + DAY),
        Some(window) => (second(window.from), second(window.until)),
        None => (0, DAY - 1),
    };
    let moments: Vec<u32> = (from..=last).step_by(usize::try_from(*seconds).unwrap_or(1)).collect();
    if moments.len() > MOST {
        return Err(format!("that is too often for a timer; {ONLY_THE_SERVICE}"));
    }
    let time = |moment: &u32| {
        let part = |number: u32| u16::try_from(number).unwrap_or(0);
        (part(moment / 3600 % 24), part(moment / 60 % 60), part(moment % 60))
    };
    let (today, tomorrow): (Vec<u32>, Vec<u32>) = moments.iter().partition(|moment| **moment < DAY);
    let parts = [(*days, today), (days.day_after(), tomorrow)];
    let parts = parts.into_iter().filter(|(_, moments)| !moments.is_empty());
    Ok(parts.map(|(days, moments)| (days, moments.iter().map(time).collect())).collect())
}

/// Fields of a crontab, and what has to hold besides.
struct Fields {
    fields: String,
    condition: &'static str,
}

/// What a crontab says of a line.
fn cron_fields(when: &When) -> Result<Vec<Fields>, Unfit> {
    /// The day after the last of a month is a first.
    const LAST: &str = "[ \"$(date -d tomorrow +\\%d)\" = 01 ] && ";
    let always = |fields: String| Fields { fields, condition: "" };
    let days_of = |days: Weekdays| match days == Weekdays::ALL {
        true => "*".to_owned(),
        // Sunday is 0 there.
        false => days.places().map(|place| ((place + 1) % 7).to_string()).collect::<Vec<_>>().join(","),
    };
    match when.rule() {
        Rule::On(Trigger::Start) => Ok(vec![always("@reboot".to_owned())]),
        Rule::On(_) | Rule::At { days: Days::Nth(_), .. } => Err(ONLY_THE_SERVICE.to_owned()),
        Rule::Once(_) => Err("a crontab has no years; a timer can do that, or reedhook tend".to_owned()),
        Rule::Cron(_) => {
            let fields = when.as_str().split_whitespace().skip(1).collect::<Vec<_>>().join(" ");
            Ok(vec![always(fields)])
        }
        Rule::At { days, times } => {
            let times = cron_times(&plain(times))?;
            Ok(match days {
                Days::Week(days) => {
                    times.iter().map(|time| always(format!("{time} * * {}", days_of(*days)))).collect()
                }
                Days::Month(days) => {
                    let numbers: Vec<String> = days.numbers().map(|day| day.to_string()).collect();
                    let mut found = Vec::new();
                    for time in &times {
                        if !numbers.is_empty() {
                            found.push(always(format!("{time} {} * *", numbers.join(","))));
                        }
                        if days.last {
                            found.push(Fields { fields: format!("{time} 28-31 * *"), condition: LAST });
                        }
                    }
                    found
                }
                Days::Nth(_) => Vec::new(),
            })
        }
        Rule::Every { .. } => {
            let mut found = Vec::new();
            for (days, times) in every(when.rule())? {
                let times = cron_times(&times)?;
                found.extend(times.iter().map(|time| always(format!("{time} * * {}", days_of(days)))));
            }
            Ok(found)
        }
    }
}

/// Minutes and hours, as a crontab has them.
fn cron_times(times: &Times) -> Result<Vec<String>, Unfit> {
    let list = |numbers: &[u16], all: usize| match numbers.len() == all {
        true => "*".to_owned(),
        false => numbers.iter().map(u16::to_string).collect::<Vec<_>>().join(","),
    };
    let one = |(hours, minutes, second): (Vec<u16>, Vec<u16>, u16)| match second {
        0 => Ok(format!("{} {}", list(&minutes, 60), list(&hours, 24))),
        _ => Err(format!("a crontab has no seconds; {ONLY_THE_SERVICE}")),
    };
    grouped(times).into_iter().map(one).collect()
}

/// A launcher that runs a job and stays open until what it says was read.
pub fn launcher(program: &Program, job: &Job) -> String {
    let value = |text: &str| text.replace('\\', "\\\\").replace('\n', "\\n");
    format!(
        "[Desktop Entry]\n\
         Type=Application\n\
         Version=1.0\n\
         Name={}\n\
         Comment={}\n\
         Exec={}\n\
         Icon=folder-sync\n\
         Terminal=true\n\
         Categories=Utility;\n",
        value(&job.name),
        value(&format!("Runs the Reedhook job {} and says what was done", job.name)),
        for_launcher(&program.words(&["run", "--stay", &job.name])),
    )
}

#[cfg(test)]
mod tests {
    use reedhook_core::job::Kind;
    use reedhook_jobs::jobfile::JobKeys;

    use super::*;

    fn job(lines: &[&str]) -> Job {
        let when = lines.iter().map(|line| line.parse().unwrap()).collect();
        let keys = JobKeys {
            kind: Some(Kind::Mirror),
            from: vec!["/srv/counts".into()],
            to: vec!["/srv/copy".into()],
            when,
            ..JobKeys::default()
        };
        Job::new("heron-counts", keys).unwrap()
    }

    fn program() -> Program {
        Program { file: "/opt/my tools/100%/reedhook".into(), home: Some("/srv/o'ne $HOME".into()) }
    }

    #[test]
    fn lines_become_what_timers_and_crontabs_understand() {
        let cases: [(&str, &[&str], &[&str]); 12] = [
            ("daily 18:00", &["OnCalendar=*-*-* 18:00:00"], &["0 18 * * *"]),
            (
                "daily 07:00,12:30",
                &["OnCalendar=*-*-* 07:00:00", "OnCalendar=*-*-* 12:30:00"],
                &["0 7 * * *", "30 12 * * *"],
            ),
            ("mon,thu 12:05", &["OnCalendar=Mon,Thu *-*-* 12:05:00"], &["5 12 * * 1,4"]),
            ("sun 12:05", &["OnCalendar=Sun *-*-* 12:05:00"], &["5 12 * * 0"]),
            ("monthly 1,15 03:00", &["OnCalendar=*-*-01,15 03:00:00"], &["0 3 1,15 * *"]),
            (
                "monthly last 22:00",
                &["OnCalendar=*-*~01 22:00:00"],
                &["0 22 28-31 * * [ \"$(date -d tomorrow +\\%d)\" = 01 ] && "],
            ),
            ("every 15m", &["OnCalendar=*-*-* *:00,15,30,45:00"], &["0,15,30,45 * * * *"]),
            ("every 2h 08:00-12:00", &["OnCalendar=*-*-* 08,10,12:00:00"], &["0 8,10,12 * * *"]),
            (
                "every 1h fri 23:00-01:00",
                &["OnCalendar=Fri *-*-* 23:00:00", "OnCalendar=Sat *-*-* 00,01:00:00"],
                &["0 23 * * 5", "0 0,1 * * 6"],
            ),
            (
                "cron 5 18 13 * 5",
                &["OnCalendar=*-*-13 18:05:00", "OnCalendar=Fri *-*-* 18:05:00"],
                &["5 18 13 * 5"],
            ),
            ("once 2031-05-04 18:00", &["OnCalendar=2031-05-04 18:00:00"], &[]),
            ("on start", &["OnStartupSec=5s"], &["@reboot"]),
        ];
        for (line, calendar, cron) in cases {
            let (_, timer, unfit) = timer(&program(), &job(&[line]));
            let found: Vec<&str> = timer.lines().filter(|line| line.starts_with("On")).collect();
            assert_eq!((found.as_slice(), unfit.len()), (calendar, 0), "{line}");
            let (text, unfit) = crontab(&program(), &job(&[line]));
            let command = "'/opt/my tools/100\\%/reedhook' '--home' '/srv/o'\\''ne $HOME' '--quiet' 'run' 'heron-counts'";
            let found: Vec<&str> = text.lines().filter(|line| !line.starts_with('#')).collect();
            let expected: Vec<String> =
                cron.iter().map(|fields| format!("{} {command}", fields.trim_end())).collect();
            assert_eq!(found, expected, "{line}");
            assert_eq!(unfit.is_empty(), !cron.is_empty(), "{line}");
        }
        let (_, _, unfit) =
            timer(&program(), &job(&["on change", "on connect", "every 2d 03:00", "every 5s"]));
        assert_eq!(unfit.len(), 4, "{unfit:?}");
    }

    #[test]
    fn a_crontab_keeps_what_is_not_ours() {
        let theirs = "MAILTO=warden\n# Reedhook job other begins\n0 1 * * * 'x'\n# Reedhook job other ends\n5 5 * * * tidy\n";
        let (ours, _) = crontab(&program(), &job(&["daily 18:00"]));
        let all = format!("{theirs}{ours}");
        assert_eq!(without(&all, &program(), "heron-counts"), theirs);
        assert_eq!(without(theirs, &program(), "heron-counts"), theirs);
    }

    #[test]
    fn odd_words_mean_nothing_to_whoever_reads_them() {
        let (service, _, _) = timer(&program(), &job(&["daily 18:00"]));
        assert!(
            service.contains("\"/opt/my tools/100%%/reedhook\" \"--home\" \"/srv/o'ne $$HOME\""),
            "{service}"
        );
        assert_eq!(program().job_unit("Möwen"), "reedhook-o\\x27ne\\x20\\x24HOME-job-M\\xc3\\xb6wen");
        assert!(
            launcher(&program(), &job(&[]))
                .contains("Exec=\"/opt/my tools/100%%/reedhook\" \"--home\" \"/srv/o'ne \\\\$HOME\"")
        );
    }
}
