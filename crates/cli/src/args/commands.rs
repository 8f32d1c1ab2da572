//! What can be typed behind `job`, `store`, `kept` and `notify`.

use std::path::PathBuf;

use clap::{Subcommand, ValueHint};
use reedhook_jobs::address::ReachKeys;
use reedhook_jobs::jobfile::JobKeys;
use reedhook_jobs::notify::Way;
use reedhook_jobs::settings::InventoryKept;

#[derive(Debug, Subcommand)]
pub enum NotifyCommand {
    /// Send a trial by each way that is set up, whenever it is used, and say what came of it.
    #[command(after_help = "Examples:\n  reedhook notify test\n  reedhook notify test mail\n\n\
        Ways are set up in reedhook.toml:\n\n  [notify]\n  desktop = { on = \"problems\" }\n  \
        command = { run = \"logger -t reedhook\", on = \"always\" }\n  \
        mail = { to = \"warden@fenmere.example\", server = \"smtps://mail.fenmere.example\", user = \"station\", on = \"digest 07:00\" }\n  \
        webhook = { url = \"https://hooks.fenmere.example/station\", on = \"problems\" }\n\n\
        on is problems, always, never or digest TIME; a job says otherwise with notify = [\"mail always\"].\n\
        Exit codes: 0 all went through, 1 some did not.")]
    Test {
        /// Only this way: desktop, command, mail or webhook.
        way: Option<Way>,
    },
    /// Keep the password of the mail server, or the token of the web server: it is asked for, or read from standard input.
    #[command(
        after_help = "Examples:\n  reedhook notify secret mail\n  pass show hook | reedhook notify secret webhook"
    )]
    Secret {
        /// mail or webhook.
        way: Way,
        /// Forget it instead.
        #[arg(long)]
        forget: bool,
    },
}

#[derive(Debug, Subcommand)]
pub enum JobCommand {
    /// Set up a job. On a terminal, what is not given is asked for.
    #[command(after_help = "Examples:\n  reedhook job add\n  \
        reedhook job add heron-counts mirror ~/counts @field-drive/counts --exclude '*.tmp'\n  \
        reedhook job add stills copy ~/stills /media/fenfield/stills --older-than '2 days'\n  \
        reedhook job add tablet two-way ~/tablet @share/ranger --conflict-for '*.csv both'\n\n\
        What is in LEFT lands directly in RIGHT; a slash at the end makes no difference.")]
    Add {
        /// What to call it.
        name: Option<String>,
        /// mirror, copy or two-way.
        kind: Option<String>,
        /// What is read, or the left side: a path or @store/sub/folder.
        left: Option<String>,
        /// What is changed, or the right side: a path or @store/sub/folder.
        right: Option<String>,
        #[command(flatten)]
        keys: Box<JobKeys>,
    },
    /// List all jobs.
    #[command(after_help = "Example:\n  reedhook job list")]
    List,
    /// Show one job: its sides, its filter, and every setting that is not the default.
    #[command(after_help = "Example:\n  reedhook job show heron-counts")]
    Show {
        /// The job.
        name: String,
    },
    /// Change a job: with options, those keys; without, in your editor.
    #[command(after_help = "Examples:\n  reedhook job edit heron-counts\n  \
        reedhook job edit heron-counts --removed erase --unset max_size\n\n\
        A list option replaces the whole list; `job filter --add` adds to it.")]
    Edit {
        /// The job.
        name: String,
        #[command(flatten)]
        keys: Box<JobKeys>,
        /// Take a key out, so that its default holds.
        #[arg(long, value_name = "KEY")]
        unset: Vec<String>,
    },
    /// Give a job another name; its history goes along.
    #[command(after_help = "Example:\n  reedhook job rename heron-counts heron-counts-2031")]
    Rename {
        /// The job.
        name: String,
        /// Its new name.
        new_name: String,
    },
    /// Remove a job. Nothing is changed on its sides, and its history stays.
    #[command(after_help = "Example:\n  reedhook job remove heron-counts")]
    Remove {
        /// The job.
        name: String,
    },
    /// Print a job's file, or write it somewhere.
    #[command(
        after_help = "Example:\n  reedhook job export heron-counts --to /media/stick/heron-counts.toml"
    )]
    Export {
        /// The job.
        name: String,
        /// The file to write.
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        to: Option<PathBuf>,
    },
    /// Take a job from a file.
    #[command(after_help = "Example:\n  reedhook job import /media/stick/heron-counts.toml")]
    Import {
        /// The file.
        #[arg(value_hint = ValueHint::FilePath)]
        file: PathBuf,
        /// What to call it; default: the file's name.
        #[arg(long)]
        name: Option<String>,
    },
    /// Write a launcher that runs a job by a double click, shows how far it is, and says at the end what was done.
    #[command(after_help = "Examples:\n  reedhook job shortcut heron-counts\n  \
        reedhook job shortcut heron-counts --to ~/.local/share/applications")]
    Shortcut {
        /// The job.
        name: String,
        /// The folder to put it into; default: the desktop.
        #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
        to: Option<PathBuf>,
    },
    /// Show what a job's filter leaves in and out, and which line decides; or change it.
    #[command(after_help = "Examples:\n  reedhook job filter heron-counts\n  \
        reedhook job filter heron-counts --try '*.tmp'\n  reedhook job filter heron-counts --add scratch/ --drop '*.bak'\n\n\
        A line is a pattern: * and ? stay within a name, ** crosses folders, a slash at the beginning\n\
        or in the middle anchors it at the root of the side, a slash at the end matches folders only.")]
    Filter {
        /// The job.
        name: String,
        /// Add an exclude line (with --only: an only line).
        #[arg(long, value_name = "LINE", allow_hyphen_values = true)]
        add: Vec<String>,
        /// Drop a line, from exclude or only.
        #[arg(long, value_name = "LINE", allow_hyphen_values = true)]
        drop: Vec<String>,
        /// Show the effect of one more line without saving it.
        #[arg(long = "try", value_name = "LINE", conflicts_with_all = ["add", "drop"], allow_hyphen_values = true)]
        attempt: Vec<String>,
        /// The lines of --add and --try say what is in, not what is out.
        #[arg(long)]
        only: bool,
        /// List every entry that is out, not only counts.
        #[arg(long)]
        all: bool,
        /// Exclude what had problems in this run: its number, its name, or last. Shown first; --yes takes all.
        #[arg(long, value_name = "RUN", conflicts_with_all = ["add", "drop", "attempt"])]
        from_problems: Option<String>,
        /// With --from-problems: only those with this code.
        #[arg(long, value_name = "CODE", requires = "from_problems")]
        code: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub enum KeptCommand {
    /// List the runs with kept copies, or the copies of one run.
    #[command(
        after_help = "Examples:\n  reedhook kept list heron-counts\n  reedhook kept list heron-counts last"
    )]
    List {
        /// The job.
        job: String,
        /// One run: its number, its name, or last.
        run: Option<String>,
    },
    /// Put kept copies back where they were, at the destination.
    #[command(after_help = "Example:\n  reedhook kept restore heron-counts maps/old-boardwalk.svg\n\n\
        Without --run the newest copy of each path is taken.")]
    Restore {
        /// The job.
        job: String,
        /// What to put back.
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// From this run: its number, its name, or last.
        #[arg(long, value_name = "RUN")]
        run: Option<String>,
        /// Put it into this folder instead of its place.
        #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
        into: Option<PathBuf>,
    },
    /// Erase kept copies that are older than the job keeps them, or take more room than they may.
    #[command(after_help = "Example:\n  reedhook kept prune heron-counts --older-than '7 days'\n\n\
        Runs do this by themselves when they end.")]
    Prune {
        /// The job.
        job: String,
        /// Erase what is older than this, whatever the job says.
        #[arg(long, value_name = "AGE")]
        older_than: Option<reedhook_core::units::Age>,
    },
}

#[derive(Debug, Subcommand)]
pub enum StoreCommand {
    /// Give a place a name: a folder, a drive, or a folder at a server.
    #[command(after_help = "Examples:\n  reedhook store add field-drive --drive FENFIELD-1\n  \
        reedhook store add station-share /srv/station\n  \
        reedhook store add archive davs://archive.example/files --user warden\n  \
        reedhook store add objects s3://objects.example/bucket/stills --user KEY-NAME --secret 'env ARCHIVE_KEY'\n\n\
        Addresses: sftp://HOST/PATH  davs://HOST/PATH (dav: without TLS)  ftps://HOST/PATH (ftp: without TLS)  \
        s3://HOST/BUCKET/PATH")]
    Add {
        /// What to call it.
        name: String,
        /// A folder, or an address; with --drive, a folder on the drive.
        #[arg(required_unless_present = "drive")]
        location: Option<String>,
        /// The label or UUID of a drive, which is then found wherever it is mounted.
        #[arg(long, value_name = "LABEL|UUID")]
        drive: Option<String>,
        /// off: its inventory is taken by hand only, not by every run and when its drive appears.
        #[arg(long, value_name = "on|off", hide_possible_values = true)]
        inventory: Option<InventoryKept>,
        #[command(flatten)]
        reach: ReachKeys,
    },
    /// Keep the password, token or passphrase of a store: it is asked for, or read from standard input.
    #[command(
        after_help = "Examples:\n  reedhook store secret archive\n  pass show archive | reedhook store secret archive\n\n\
        It goes to the system's keyring; without one (or with --home) to a file that only you can read."
    )]
    Secret {
        /// The store.
        name: String,
        /// Forget it instead.
        #[arg(long)]
        forget: bool,
    },
    /// List the named places.
    #[command(after_help = "Example:\n  reedhook store list")]
    List,
    /// Look whether a place is there, what it can hold, and how much space is left; at a server, connect and log in.
    #[command(
        after_help = "Examples:\n  reedhook store check field-drive\n  reedhook store check archive --write\n  \
        reedhook store check sftp://warden@archive.example/srv --accept SHA256:…"
    )]
    Check {
        /// The store, a folder, or an address.
        name: String,
        /// Also write a small file and remove it again: shows whether that is allowed, and how far the clocks differ.
        #[arg(long)]
        write: bool,
        /// Take the host that shows this fingerprint for the right one from now on.
        #[arg(long, value_name = "FINGERPRINT")]
        accept: Option<String>,
    },
    /// Forget a place. Nothing is changed there.
    #[command(after_help = "Example:\n  reedhook store remove field-drive")]
    Remove {
        /// The store.
        name: String,
    },
}
