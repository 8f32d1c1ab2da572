//! What `when` and `tend` take.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum, ValueHint};

/// When jobs are due.
#[derive(Debug, Args)]
pub struct WhenArgs {
    /// A job, and what is wanted of its lines: set LINE…, off, install or remove; or next [JOB…], or calendar.
    #[arg(required = true, value_name = "JOB [set LINE…|off|install|remove] | next [JOB…] | calendar")]
    pub words: Vec<String>,
    /// next: how many moments.
    #[arg(long, short = 'n', value_name = "COUNT", default_value_t = 10, hide_default_value = true)]
    pub count: usize,
    /// next, calendar: as if it were this time now: 2031-03-30, '2031-03-30 01:00', 2031-03-30T01:00:00+01:00.
    #[arg(long, value_name = "TIME")]
    pub from: Option<String>,
    /// calendar: the file to write.
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub to: Option<PathBuf>,
    /// install: only show what would be written, and where.
    #[arg(long)]
    pub print: bool,
    /// install: what begins the runs, a timer of systemd or a line of the crontab; default: what is there.
    #[arg(long, value_name = "timer|crontab", hide_possible_values = true)]
    pub with: Option<Means>,
}

/// What begins runs where no service is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Means {
    /// A timer of systemd.
    Timer,
    /// A line of the crontab.
    Crontab,
}

#[derive(Debug, Subcommand)]
pub enum TendCommand {
    /// Show what the service does, and what it waits for.
    #[command(
        after_help = "Example:\n  reedhook tend status\n\nExit codes: 0, 3 when the service is not running."
    )]
    Status,
    /// End the service; runs that go on end whole, and go on with the next start.
    #[command(after_help = "Example:\n  reedhook tend stop")]
    Stop,
    /// Let the service run a job now.
    #[command(after_help = "Example:\n  reedhook tend run heron-counts")]
    Run {
        /// The job.
        job: String,
    },
    /// Pause a job: no run begins by itself until --off. A run that goes on is not stopped.
    #[command(
        after_help = "Examples:\n  reedhook tend pause heron-counts\n  reedhook tend pause heron-counts --off"
    )]
    Pause {
        /// The job.
        job: String,
        /// Let it begin by itself again.
        #[arg(long)]
        off: bool,
    },
    /// Answer a job that asks before it begins.
    #[command(after_help = "Example:\n  reedhook tend answer heron-counts yes")]
    Answer {
        /// The job.
        job: String,
        /// yes or no.
        #[arg(value_name = "yes|no", hide_possible_values = true)]
        answer: YesOrNo,
    },
    /// Install the service as a systemd unit.
    #[command(after_help = "Examples:\n  reedhook tend install --print\n  reedhook tend install\n  \
        sudo reedhook --home /var/lib/reedhook tend install --system\n\n\
        A user's service ends when that user logs out, unless lingering is on: loginctl enable-linger.")]
    Install {
        /// For the whole machine, as root, instead of for this user.
        #[arg(long)]
        system: bool,
        /// Only show what would be written, and where.
        #[arg(long)]
        print: bool,
    },
    /// Remove what `tend install` set up.
    #[command(after_help = "Example:\n  reedhook tend remove")]
    Remove {
        /// That of the whole machine.
        #[arg(long)]
        system: bool,
    },
}

/// An answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum YesOrNo {
    /// It may.
    Yes,
    /// It may not.
    No,
}
