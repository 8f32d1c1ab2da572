//! The command line: what can be typed. What it does is in [`crate::commands`].

pub(crate) mod commands;
mod inventory;
mod looking;
mod timing;

pub use crate::args::commands::{JobCommand, KeptCommand, NotifyCommand, StoreCommand};
pub use inventory::{FindArgs, InventoryCommand, KindWord, Range};
pub use looking::{CompareArgs, FilterArgs, ReviewArgs, Tolerance};
pub use timing::{Means, TendCommand, WhenArgs, YesOrNo};

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum, ValueHint};
use reedhook_core::job::ConflictPolicy;
use reedhook_core::units::Moment;
use reedhook_jobs::jobfile::JobKeys;

#[cfg(feature = "standins")]
use reedhook_core::units::Size;

/// Mirror, copy and sync folders, drives and servers, with preview and undo.
#[derive(Debug, Parser)]
#[command(
    name = "reedhook",
    version,
    max_term_width = 100,
    arg_required_else_help = true,
    after_help = "The usual round:\n  \
        reedhook job add heron-counts mirror ~/counts /media/fenfield/counts\n  \
        reedhook preview heron-counts\n  \
        reedhook run heron-counts\n  \
        reedhook history heron-counts\n\n\
        Exit codes: 0 done, 1 done with problems, 2 wrong usage, 3 stopped before any change,\n\
        4 done and conflicts are held, 5 stopped on the way, 130 interrupted. `reedhook demo` shows the whole round on made-up data."
)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Options that every command takes.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Everywhere")]
pub struct Global {
    /// Keep configuration and state together in this folder, for example on a stick; REEDHOOK_HOME says the same.
    #[arg(long, global = true, value_name = "DIR", value_hint = ValueHint::DirPath)]
    pub home: Option<PathBuf>,
    /// Print one JSON object a line, and nothing else, on standard output.
    #[arg(long, global = true)]
    pub json: bool,
    /// Print only what went wrong.
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say more: each item as it is done.
    #[arg(long, short, global = true)]
    pub verbose: bool,
    /// When to use colour: auto, always or never.
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_possible_values = true,
        hide_default_value = true
    )]
    pub color: Color,
    /// Answer every question with yes. Guards are not questions: see `run --allow`.
    #[arg(long, short, global = true)]
    pub yes: bool,
}

/// What a stand-in serves, and how badly.
#[cfg(feature = "standins")]
#[derive(Debug, Args)]
pub struct StandinArgs {
    /// What it speaks.
    pub kind: Speaks,
    /// The folder that it serves; it is made when it is missing.
    pub folder: PathBuf,
    /// The port; without it, a free one.
    #[arg(long, default_value_t = 0, hide_default_value = true)]
    pub port: u16,
    /// The account's name.
    #[arg(long, default_value = "ranger")]
    pub user: String,
    /// How many milliseconds everything takes, there and back again.
    #[arg(long, value_name = "MS", default_value_t = 0, hide_default_value = true)]
    pub round_trip: u64,
    /// Drop all connections each time so much has passed.
    #[arg(long, value_name = "SIZE")]
    pub drop_after: Option<Size>,
    /// Drop them only so often.
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    pub drops: u32,
    /// Answer every Nth request with "retry later".
    #[arg(long, value_name = "N")]
    pub busy_every: Option<u32>,
    /// Hold no more than this.
    #[arg(long, value_name = "SIZE")]
    pub quota: Option<Size>,
    /// Have a clock that is so many seconds ahead (negative: behind).
    #[arg(
        long,
        value_name = "SECONDS",
        default_value_t = 0,
        hide_default_value = true,
        allow_negative_numbers = true
    )]
    pub clock: i64,
    /// Let files' times be set (WebDAV).
    #[arg(long)]
    pub takes_times: bool,
}

/// What a stand-in speaks.
#[cfg(feature = "standins")]
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Speaks {
    /// WebDAV, without TLS.
    Webdav,
    /// SFTP.
    Sftp,
    /// FTP, without TLS.
    Ftp,
    /// The S3 protocol, with a bucket "archive".
    Object,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Set up, look at and change jobs.
    #[command(subcommand)]
    Job(JobCommand),
    /// Name places, so that jobs can say @name.
    #[command(subcommand)]
    Store(StoreCommand),
    /// List the drives that are connected, with free space, and the known ones that are not.
    #[command(after_help = "Example:\n  reedhook drives")]
    Drives,
    /// Search what unplugged drives hold.
    #[command(subcommand)]
    Inventory(InventoryCommand),
    /// Compare two places, or the sides of a job. Nothing is touched.
    ///
    /// Says what is on one side only, what is newer, what differs, and what is at another path.
    #[command(after_help = "Examples:\n  reedhook compare ~/counts /media/fenfield/counts\n  \
        reedhook compare heron-counts --content\n  reedhook compare heron-counts --counts --all\n  \
        reedhook compare ~/stills @archive/stills --only only-left,differs --html stills.html\n  \
        reedhook compare ~/stills inventory:FENFIELD-2/stills\n\n\
        With inventory:NAME instead of a place, a drive is compared with as it was when it was last seen.\n\n\
        States: only-left, only-right, left-newer, right-newer, differs (neither is newer), moved (the same at another path),\n\
        kind (a file here, a folder or link there).\n\n\
        Exit codes: 0 the same, 1 something differs, 2 trouble: something could not be compared.")]
    Compare(Box<CompareArgs>),
    /// Look through both sides full screen; of a job, change, run or save what it would do.
    ///
    /// Both sides are in columns, folders fold and say what is in them. For a job, what is to be done is changed item by item.
    #[command(
        after_help = "Examples:\n  reedhook review heron-counts\n  reedhook review ~/counts /media/fenfield/counts\n  \
        reedhook review inventory:FENFIELD-2\n\n\
        With inventory:NAME alone it shows what a drive held when it was last seen, and finds in it.\n\n\
        Keyboard only; ? lists the keys. Nothing is touched until you say run and yes.\n\
        Where there is no terminal: reedhook compare, reedhook preview."
    )]
    Review(Box<ReviewArgs>),
    /// Show what a run would do. Nothing is touched on either side.
    #[command(after_help = "Examples:\n  reedhook preview heron-counts --all\n  \
        reedhook preview heron-counts --save evening.plan\n\n\
        Exit codes: 0, 1 when something could not be read, 3 when a guard would stop the run.")]
    Preview {
        /// The job.
        job: String,
        /// List every item, also when there are many.
        #[arg(long)]
        all: bool,
        /// Also write down what would be done: `run --plan` does exactly that, and nothing else.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        save: Option<PathBuf>,
    },
    /// Run a job, or several one after the other.
    #[command(after_help = "Examples:\n  reedhook run heron-counts\n  reedhook run --all --yes\n  \
        reedhook run heron-counts --plan evening.plan\n\n\
        Ctrl-C stops cleanly; the next run goes on where this one stopped.")]
    Run {
        /// The jobs.
        #[arg(required_unless_present = "all")]
        jobs: Vec<String>,
        /// Run every job.
        #[arg(long, conflicts_with = "jobs")]
        all: bool,
        /// Bring the left back from the right, this once: what would be overwritten is shown first.
        #[arg(long, conflicts_with = "all")]
        reverse: bool,
        /// Do what this saved plan says, exactly; what has changed since is left, and reported.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, conflicts_with_all = ["all", "reverse"])]
        plan: Option<PathBuf>,
        /// Leave out what the jobs say under `finally`: eject no drive, leave the machine on.
        #[arg(long)]
        no_finally: bool,
        /// At the end, wait for a key: so that a window stays open until it was read.
        #[arg(long)]
        stay: bool,
        #[command(flatten)]
        allow: Allow,
    },
    /// Run once without saving a job.
    #[command(after_help = "Example:\n  reedhook once copy ~/maps /media/fenfield/maps --exclude '*.tmp'")]
    Once {
        /// mirror, copy or two-way.
        kind: String,
        /// What is read.
        left: String,
        /// What is changed.
        right: String,
        #[command(flatten)]
        keys: Box<JobKeys>,
        #[command(flatten)]
        allow: Allow,
        /// Only show what would be done.
        #[arg(long)]
        preview: bool,
    },
    /// Show the conflicts of a two-way job that are held, both versions side by side.
    #[command(after_help = "Example:\n  reedhook conflicts tablet\n\n\
        Exit codes: 0 there are none, 4 there are some.")]
    Conflicts {
        /// The job.
        job: String,
    },
    /// Settle conflicts of a two-way job: say which version stays. What loses is kept.
    #[command(after_help = "Examples:\n  reedhook settle tablet\n  \
        reedhook settle tablet counts/north.csv --keep right\n  reedhook settle tablet --all --keep newest\n\n\
        Without --keep, on a terminal, the conflicts are shown one after the other, and one key settles each.\n\
        With both, the newer version keeps the name and the other gets one of its own, on both sides.")]
    Settle {
        /// The job.
        job: String,
        /// The paths, as `reedhook conflicts` shows them.
        paths: Vec<PathBuf>,
        /// Which version stays: left, right, both or newest.
        #[arg(long, value_name = "left|right|both|newest")]
        keep: Option<ConflictPolicy>,
        /// Every conflict that is held.
        #[arg(long, conflicts_with = "paths")]
        all: bool,
    },
    /// Explain what a run would do about one path, and what decides it.
    #[command(after_help = "Example:\n  reedhook why tablet counts/north.csv")]
    Why {
        /// The job.
        job: String,
        /// The path, relative to the side's root.
        path: PathBuf,
    },
    /// Show and change when jobs run by themselves, look ahead, write a calendar.
    ///
    /// Lines: daily 18:00 · mon,thu 12:05 · monthly 1,last 03:00 · once 2031-05-04 18:00 · every 15m · every 2h 08:00-18:00 ·
    /// every 2d 03:00 · cron 5 18 * * 1-5 · on change · on change after 30s · on connect · on start
    #[command(after_help = "Examples:\n  reedhook when heron-counts\n  \
        reedhook when heron-counts set 'daily 18:00' 'on connect'\n  reedhook when next\n  \
        reedhook when next heron-counts --count 5 --from 2031-03-30\n  reedhook when calendar --to reedhook.ics\n  \
        reedhook when heron-counts install --print\n\n\
        The service that follows these lines is `reedhook tend`. `install` does without it: a timer of systemd, or a line of the\n\
        crontab, runs the job itself; that cannot follow changes or drives.")]
    When(WhenArgs),
    /// Run scheduled jobs in the foreground, or control the service that does.
    ///
    /// It stays in the foreground until it is stopped.
    #[command(
        args_conflicts_with_subcommands = true,
        after_help = "Examples:\n  reedhook tend\n  reedhook tend status\n  reedhook tend run heron-counts\n  \
        reedhook tend install\n\n\
        Ctrl-C or SIGTERM end it within two seconds, everything whole; SIGHUP lets it read its files anew.\n\
        Exit codes: 0 it was ended, 3 a service is running already (with a command: none is running)."
    )]
    Tend {
        #[command(subcommand)]
        command: Option<TendCommand>,
    },
    /// Watch jobs, runs, problems and drives on one live screen.
    ///
    /// With keys to run, stop, preview, pause and answer, and to look into runs. It works with the service and without it.
    #[command(after_help = "Example:\n  reedhook board\n\n\
        Keyboard only; ? lists the keys. Nothing begins without a yes. Several may be open at once.\n\
        Where there is no terminal: reedhook status, reedhook tend status.")]
    Board,
    /// Show when each job last ran and how it went.
    #[command(after_help = "Example:\n  reedhook status")]
    Status,
    /// List what ran, when, and how it ended.
    #[command(after_help = "Examples:\n  reedhook history\n  reedhook history heron-counts\n  \
        reedhook history heron-counts last\n  reedhook history heron-counts 12 --items\n  \
        reedhook history --chart --since '90 days'\n\n\
        Runs in a row that had nothing to do are one line; --all shows each.")]
    History {
        /// Only this job.
        job: Option<String>,
        /// One run: its number, its name, or last.
        run: Option<String>,
        /// How many lines to list.
        #[arg(long, short = 'n', alias = "last", default_value_t = 20, value_name = "COUNT")]
        limit: u32,
        /// Draw bytes and items of each day, instead of listing runs.
        #[arg(long, conflicts_with_all = ["run", "limit"])]
        chart: bool,
        /// Only since then: '30 days' ago, or a date.
        #[arg(long, value_name = "WHEN", conflicts_with = "run")]
        since: Option<Moment>,
        /// A line for each run, also for those in a row that had nothing to do.
        #[arg(long, conflicts_with_all = ["run", "chart"])]
        all: bool,
        /// With a run: list every item, also when there are many.
        #[arg(long, requires = "run")]
        items: bool,
        /// With a run: list every problem with its code.
        #[arg(long, requires = "run", conflicts_with = "items")]
        problems: bool,
    },
    /// Summarise recent runs: what ran, what failed, what to do.
    ///
    /// What ran and what should have, problems by cause with the line that would leave them out, conflicts held, and when drives will
    /// be full. Only Reedhook's own files are read: drives may be away.
    #[command(
        after_help = "Examples:\n  reedhook report\n  reedhook report heron-counts --since 2031-05-01\n  \
        reedhook report --since '30 days' --html may.html --csv may.csv\n\n\
        The page fetches nothing and prints on A4. The table has a row for each run."
    )]
    Report {
        /// Only these jobs.
        jobs: Vec<String>,
        /// Look back so far: 7d, '30 days', or a date.
        #[arg(long, value_name = "WHEN", default_value = "7d")]
        since: Moment,
        /// Also write it as a page with charts.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        html: Option<PathBuf>,
        /// Also write a table of the runs.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        csv: Option<PathBuf>,
        /// Write names into the table as they are: without it, what a spreadsheet would take for a formula begins with an apostrophe.
        #[arg(long, requires = "csv")]
        csv_raw: bool,
    },
    /// Test notifications and store their secrets.
    #[command(subcommand)]
    Notify(NotifyCommand),
    /// Print current figures as OpenMetrics text.
    #[command(
        after_help = "Examples:\n  reedhook metrics\n  reedhook metrics --to /var/lib/metrics/reedhook.prom\n\n\
        metrics_file = \"FILE\" in reedhook.toml has it written after each run. It is written whole, or the old one stays."
    )]
    Metrics {
        /// The file to write.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        to: Option<PathBuf>,
    },
    /// Look at, bring back and prune what runs replaced or removed.
    #[command(subcommand)]
    Kept(KeptCommand),
    /// Bring files or folders back to the left: from the right, or from a kept copy when they are gone there too.
    #[command(after_help = "Examples:\n  reedhook restore heron-counts north/2031-05-04.csv\n  \
        reedhook restore heron-counts maps --into ~/brought-back\n\n\
        PATH is relative to the side's root. A file that is newer at the left is asked about first.")]
    Restore {
        /// The job.
        job: String,
        /// What to bring back.
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Put it into this folder instead of its place.
        #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
        into: Option<PathBuf>,
        /// From the kept copies of this run: its number, its name, or last.
        #[arg(long, value_name = "RUN")]
        run: Option<String>,
    },
    /// Read every file on both sides and compare the contents.
    #[command(after_help = "Example:\n  reedhook verify heron-counts\n\n\
        Exit codes: 0 everything agrees, 1 something differs or could not be read.\n\
        What was read is remembered, so that the next verification can tell which side changed by itself.")]
    Verify {
        /// The job.
        job: String,
    },
    /// Put a destination back as it was before a run. What has changed since is refused.
    #[command(after_help = "Example:\n  reedhook undo heron-counts 12")]
    Undo {
        /// The job.
        job: String,
        /// The run: its number, its name, or last.
        run: String,
    },
    /// Look at Reedhook's own files: home, state, jobs, stores, clock and zone; and mend what can be mended.
    #[command(after_help = "Examples:\n  reedhook doctor\n  reedhook doctor --mend\n\n\
        --mend puts a state file that cannot be read aside, and builds a new one from the runs' logs. What two-way jobs\n\
        remembered is not in them: their next run compares both sides and removes nothing.\n\n\
        Exit codes: 0 all is well, 1 something is wrong.")]
    Doctor {
        /// Mend what can be mended.
        #[arg(long)]
        mend: bool,
    },
    /// Run a small server on this machine over a folder, well or badly behaved, to try things out with.
    #[command(after_help = "Examples:\n  reedhook standin webdav /tmp/archive\n  \
        reedhook standin sftp /tmp/archive --round-trip 20 --drop-after 5MB --drops 1\n\n\
        Every stand-in can be far away and drop connections (ftp: its control connection). webdav and object can ask for\n\
        patience, webdav, sftp and object be full, webdav and sftp have a wrong clock. Only this machine can reach it.\n\
        REEDHOOK_SECRET sets the account's secret; without it, one is made up.")]
    #[cfg(feature = "standins")]
    Standin(StandinArgs),
    /// Show the whole round on made-up data, in a new folder.
    #[command(after_help = "Example:\n  reedhook demo --in ~/reedhook-demo")]
    Demo {
        /// Where to put the demo's folder; it must not exist yet. Default: a new folder among the temporary files.
        #[arg(long = "in", value_name = "DIR", value_hint = ValueHint::DirPath)]
        folder: Option<PathBuf>,
    },
    /// Print the completion script of a shell.
    #[command(
        after_help = "Example:\n  reedhook completions bash > ~/.local/share/bash-completion/completions/reedhook"
    )]
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Write the manual pages.
    #[command(after_help = "Example:\n  reedhook man --to ~/.local/share/man/man1")]
    Man {
        /// The folder to write them to; without it the main page goes to standard output.
        #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
        to: Option<PathBuf>,
    },
}

/// Guards to lift for one run.
#[derive(Debug, Args, Clone, Default)]
pub struct Allow {
    /// Lift a guard, this once: removals, changes, empty or space. On a drive without modes, "commands" lets the job's commands run.
    #[arg(long, value_name = "GUARD", hide_possible_values = true)]
    pub allow: Vec<Guard>,
}

/// The guards that can be lifted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Guard {
    /// More removals than max_removals.
    Removals,
    /// More changes than max_changes.
    Changes,
    /// A source that holds nothing.
    Empty,
    /// Less free space than the run needs.
    Space,
    /// Commands of a job that lies where others could have changed it.
    Commands,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;
    use reedhook_jobs::jobfile::JobKeys;

    use super::*;

    #[test]
    fn every_key_of_a_job_file_is_an_option() {
        let command = Cli::command();
        let job = command.find_subcommand("job").expect("the command");
        for name in ["add", "edit"] {
            let options = job.find_subcommand(name).expect("its part");
            for key in JobKeys::NAMES {
                let option = key.replace('_', "-");
                let has = |arg: &clap::Arg| arg.get_long() == Some(option.as_str());
                assert!(options.get_arguments().any(has), "job {name} has no option --{option}");
            }
        }
    }
}
