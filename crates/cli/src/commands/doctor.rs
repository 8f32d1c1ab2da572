//! `doctor`: are Reedhook's own files in order, and what around it may lead astray; and mending what can be mended.
//!
//! Every check gives a [`Finding`]. Nothing is changed without `--mend`.

use std::fs;
use std::path::{Path, PathBuf};

use reedhook_core::store::Store;
use reedhook_jobs::address::is_address;
use reedhook_jobs::jobfile::{job_names, load_job};
use reedhook_jobs::settings::Settings;
use reedhook_jobs::{inventory, logs};
use reedhook_record::inventories::Inventories;
use reedhook_record::{RecordError, StateFile};
use reedhook_stores::local::LocalStore;
use serde_json::json;

use crate::context::Context;
use crate::failure::{Cause, Failure, Halt, Outcome};
use crate::text::{Align, BAD, CARE, Columns, bytes, count, grouped, moment, wrapped};
use crate::{clock, json as lines};

/// How well something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Health {
    Ok,
    /// It works, and deserves a look.
    Care,
    Bad,
}

impl Health {
    fn as_str(self) -> &'static str {
        match self {
            Health::Ok => "ok",
            Health::Care => "care",
            Health::Bad => "bad",
        }
    }
}

/// What a check came to.
struct Finding {
    what: &'static str,
    state: Health,
    words: String,
}

impl Finding {
    fn ok(what: &'static str, words: impl Into<String>) -> Finding {
        Finding { what, state: Health::Ok, words: words.into() }
    }

    fn care(what: &'static str, words: impl Into<String>) -> Finding {
        Finding { what, state: Health::Care, words: words.into() }
    }

    fn bad(what: &'static str, words: impl Into<String>) -> Finding {
        Finding { what, state: Health::Bad, words: words.into() }
    }
}

/// Checks everything, and mends what can be mended when that is wanted.
pub fn doctor(context: &Context, mend: bool) -> Outcome {
    let mended = if mend { mend_all(context)? } else { Vec::new() };
    let mut found = folders(context);
    found.push(state(context));
    found.push(inventories(context));
    found.push(run_logs(context));
    found.extend(jobs(context));
    found.extend(stores(context));
    found.push(tools());
    found.push(time(context));
    found.push(zone());
    show(context, &mended, &found);
    Ok(u8::from(found.iter().any(|finding| finding.state == Health::Bad)))
}

fn show(context: &Context, mended: &[String], found: &[Finding]) {
    if context.global.json {
        for words in mended {
            lines::print(&json!({"event": "mended", "message": words}));
        }
        for Finding { what, state, words } in found {
            lines::print(&json!({"event": "check", "what": what, "state": state.as_str(), "message": words}));
        }
        return;
    }
    mended.iter().for_each(|words| context.say(format!("Mended: {words}\n")));
    let columns = usize::from(console::Term::stdout().size().1).clamp(40, 100);
    let mut table = Columns::new(&[Align::Left; 3]);
    for Finding { what, state, words } in found {
        let style = match state {
            Health::Ok => anstyle::Style::new(),
            Health::Care => CARE,
            Health::Bad => BAD,
        };
        for (at, line) in wrapped(words, columns - 21).into_iter().enumerate() {
            let (word, what) = if at == 0 { (state.as_str(), *what) } else { ("", "") };
            table.styled_row(style, vec![format!("{word:<4}"), what.into(), line]);
        }
    }
    context.say(table.render(0).trim_end());
    let bad = found.iter().filter(|finding| finding.state == Health::Bad).count() as u64;
    context.say(match bad {
        0 => "\nNothing is wrong.".to_owned(),
        bad => format!("\n{} to put right.", count(bad, "thing", "things")),
    });
}

/// The folders of configuration and state: there, writable, with room, and closed to others.
fn folders(context: &Context) -> Vec<Finding> {
    let home = &context.desk.home;
    let mut all = vec![home.config()];
    if !home.is_portable() {
        all.push(home.state());
    }
    all.into_iter().map(|folder| one_folder(context, folder)).collect()
}

fn one_folder(context: &Context, folder: &Path) -> Finding {
    /// Less room than this is soon used up by a log.
    const SCARCE: u64 = 50_000_000;
    let shown = context.desk.home.shorten(folder);
    let meta = match fs::metadata(folder) {
        Ok(meta) if meta.is_dir() => meta,
        Ok(_) => return Finding::bad("home", format!("{shown} is no folder; move it away")),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Finding::ok("home", format!("{shown} is made when it is needed"));
        }
        Err(error) => return Finding::bad("home", format!("{shown} cannot be looked at: {error}")),
    };
    if let Err(error) = can_write(folder) {
        return Finding::bad(
            "home",
            format!("{shown} cannot be written: {error}; nothing can run until it can"),
        );
    }
    let space = LocalStore::open(folder).ok().and_then(|store| store.space().ok().flatten());
    if let Some(space) = space.filter(|space| space.free < SCARCE) {
        let free = bytes(space.free);
        return Finding::care("home", format!("{shown} has {free} left: logs and the state file need some"));
    }
    if is_open(&meta) && !context.desk.home.is_portable() {
        return Finding::care("home", format!("{shown} can be looked into by others; --mend closes it"));
    }
    let free = space.map_or(String::new(), |space| format!(", {} free", bytes(space.free)));
    Finding::ok("home", format!("{shown}{free}"))
}

fn can_write(folder: &Path) -> std::io::Result<()> {
    let trial = folder.join(format!(".trial-{}", std::process::id()));
    reedhook_jobs::home::closed().write(true).create_new(true).open(&trial)?;
    fs::remove_file(&trial)
}

#[cfg(unix)]
fn is_open(meta: &fs::Metadata) -> bool {
    std::os::unix::fs::MetadataExt::mode(meta) & 0o077 != 0
}

#[cfg(not(unix))]
fn is_open(_: &fs::Metadata) -> bool {
    false
}

fn state(context: &Context) -> Finding {
    let runs = || context.desk.home.record().ok().and_then(|record| record.count_runs().ok()).unwrap_or(0);
    let file = OwnFile {
        what: "state",
        file: context.desk.home.state_file(),
        made_by: "by the first run",
        mended: "puts it aside and builds a new one from the logs",
    };
    file.look(context, StateFile::check, || count(runs(), "run", "runs"))
}

fn inventories(context: &Context) -> Finding {
    let all = || inventory::open(&context.desk.home).ok().and_then(|all| all.list().ok());
    let file = OwnFile {
        what: "inventories",
        file: context.desk.home.inventories_file(),
        made_by: "when there is something to write down",
        mended: "puts it aside; runs and `inventory take` fill a new one",
    };
    let number = || all().map_or(0, |all| all.len() as u64);
    file.look(context, Inventories::check, || count(number(), "inventory", "inventories"))
}

/// A file that SQLite keeps for us.
struct OwnFile {
    what: &'static str,
    file: PathBuf,
    made_by: &'static str,
    /// What `--mend` does with a damaged one.
    mended: &'static str,
}

impl OwnFile {
    fn look(
        &self,
        context: &Context,
        check: fn(&Path) -> Result<(), RecordError>,
        holds: impl Fn() -> String,
    ) -> Finding {
        let shown = context.desk.home.shorten(&self.file);
        let size = match fs::metadata(&self.file) {
            Ok(meta) if meta.is_file() => meta.len(),
            Ok(_) => return Finding::bad(self.what, format!("{shown} is no file; move it away")),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Finding::ok(self.what, format!("{shown} is made {}", self.made_by));
            }
            Err(error) => return Finding::bad(self.what, format!("{shown} cannot be looked at: {error}")),
        };
        match check(&self.file) {
            Ok(()) => Finding::ok(self.what, format!("{shown}, {}, {}", holds(), bytes(size))),
            Err(error) => {
                let way = if error.is_damage() { format!("; --mend {}", self.mended) } else { String::new() };
                Finding::bad(self.what, format!("{shown} {}{way}", error.told()))
            }
        }
    }
}

fn run_logs(context: &Context) -> Finding {
    let (number, size) = logs::amount(&context.desk.home);
    let settings = &context.desk.settings;
    let most = bytes(settings.logs.keep_max.bytes());
    let cleared = context.desk.home.record().and_then(|record| Ok(record.cleared()?)).unwrap_or_default();
    let mut kept = format!("kept for {} and up to {most} a job", settings.logs_for());
    if cleared.0 > 0 {
        kept.push_str(&format!("; {} cleared so far, {}", grouped(cleared.0), bytes(cleared.1)));
    }
    match number {
        0 => Finding::ok("logs", format!("none yet; they are {kept}")),
        _ => Finding::ok("logs", format!("{}, {}; {kept}", count(number, "log", "logs"), bytes(size))),
    }
}

/// The job files: one finding for those that can be used, and one for each that cannot.
fn jobs(context: &Context) -> Vec<Finding> {
    let names = match job_names(&context.desk.home) {
        Ok(names) => names,
        Err(failure) => return vec![Finding::bad("jobs", failure.text())],
    };
    let (good, broken): (Vec<_>, Vec<_>) =
        names.iter().map(|name| load_job(&context.desk.home, name)).partition(Result::is_ok);
    let idle = good.iter().flatten().flat_map(|job| {
        job.idle_keys().into_iter().map(|words| Finding::care("jobs", format!("{}: {words}", job.name)))
    });
    let mut found = vec![Finding::ok("jobs", count(good.len() as u64, "job", "jobs"))];
    found.extend(idle);
    found.extend(broken.into_iter().filter_map(Result::err).map(|why| Finding::bad("jobs", why.text())));
    found
}

/// The settings and the stores that they name. Servers are not asked: that may take long.
fn stores(context: &Context) -> Vec<Finding> {
    let settings = match Settings::load(&context.desk.home) {
        Ok(settings) => settings,
        Err(failure) => return vec![Finding::bad("stores", failure.text())],
    };
    let mut there = 0;
    let mut servers = 0;
    let mut found = Vec::new();
    for (name, entry) in &settings.stores {
        if is_address(&entry.location) {
            servers += 1;
            continue;
        }
        match entry.root(&context.desk.home) {
            Ok(root) if root.is_dir() => there += 1,
            Ok(root) => {
                found.push(Finding::care("stores", format!("@{name}: {} is not there now", root.display())))
            }
            Err(why) => found.push(Finding::care("stores", format!("@{name}: {why}"))),
        }
    }
    let asked = match servers {
        0 => String::new(),
        number => {
            format!("; {} not asked (reedhook store check NAME)", count(number, "server is", "servers are"))
        }
    };
    let named = settings.stores.len() as u64;
    let words = match named {
        0 => "none is named".to_owned(),
        _ => format!("{} named, {there} there now{asked}", count(named, "store", "stores")),
    };
    found.insert(0, Finding::ok("stores", words));
    found
}

/// What Reedhook uses of the machine besides its files.
fn tools() -> Finding {
    let named = ["VISUAL", "EDITOR"]
        .iter()
        .find_map(|name| std::env::var(name).ok().filter(|text| !text.trim().is_empty()));
    let editor = named.unwrap_or_else(|| "vi".to_owned());
    let program = editor.split_whitespace().next().unwrap_or("vi").to_owned();
    let agent = match std::env::var_os("SSH_AUTH_SOCK") {
        Some(socket) if Path::new(&socket).exists() => "an SSH agent answers",
        Some(_) => "the SSH agent that is set is not there",
        None => "no SSH agent",
    };
    match on_path(&program) {
        Some(_) => Finding::ok("tools", format!("{program} for `job edit`; {agent}")),
        None => Finding::care("tools", format!("there is no {program} for `job edit`: set EDITOR; {agent}")),
    }
}

fn on_path(program: &str) -> Option<PathBuf> {
    if program.contains('/') {
        return Some(PathBuf::from(program)).filter(|path| path.exists());
    }
    let path = std::env::var_os("PATH")?;
    std::env::split_paths(&path).map(|folder| folder.join(program)).find(|path| path.exists())
}

/// Whether the clock can be believed: by what has run, and by the time since the machine was started.
fn time(context: &Context) -> Finding {
    /// A clock may be set a little.
    const A_DAY: i64 = 86_400_000;
    /// Before this program was written.
    const LONG_AGO: i64 = 1_767_225_600_000;
    let now = clock::now_ms();
    let shown = moment(now);
    if now < LONG_AGO {
        return Finding::bad(
            "clock",
            format!("it says {shown}: set it, or nothing will ever be old enough to go"),
        );
    }
    let file = context.desk.home.state_file();
    let record = if file.exists() { context.desk.home.record().ok() } else { None };
    let newest = record.as_ref().and_then(|record| record.runs(None, 1).ok()?.into_iter().next());
    if let Some(run) = newest.filter(|run| run.started_ms > now + A_DAY) {
        let then = moment(run.started_ms);
        return Finding::care(
            "clock",
            format!("it says {shown}, and the newest run began {then}: was it set back?"),
        );
    }
    let trusted = record.and_then(|record| record.last_clock().ok().flatten()).map(|seen| seen.trusted_ms);
    match trusted {
        Some(trusted) if now - trusted > 30 * A_DAY => Finding::care(
            "clock",
            format!("it says {shown}; kept copies are counted from {}, until that is sure", moment(trusted)),
        ),
        _ => Finding::ok("clock", shown),
    }
}

fn zone() -> Finding {
    match jiff::tz::TimeZone::try_system() {
        Ok(zone) => Finding::ok("zone", zone.iana_name().unwrap_or("as the system has it").to_owned()),
        Err(error) => Finding::care("zone", format!("it is not known, times are in UTC: {error}")),
    }
}

/// Mends what can be mended; a sentence for each.
fn mend_all(context: &Context) -> Outcome<Vec<String>> {
    let mut mended = Vec::new();
    mended.extend(mend_state(context)?);
    mended.extend(mend_inventories(context)?);
    if !context.desk.home.is_portable() {
        mended.extend([context.desk.home.config(), context.desk.home.state()].into_iter().filter_map(close));
    }
    Ok(mended)
}

/// Closes a folder to others.
#[cfg(unix)]
fn close(folder: &Path) -> Option<String> {
    use std::os::unix::fs::PermissionsExt;
    fs::metadata(folder).ok().filter(is_open)?;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700)).ok()?;
    Some(format!("{} is closed to others now.", folder.display()))
}

#[cfg(not(unix))]
fn close(_: &Path) -> Option<String> {
    None
}

/// Puts a state file that cannot be read aside, and builds a new one from the logs.
fn mend_state(context: &Context) -> Outcome<Option<String>> {
    let Some(aside) = put_damaged_aside(context, &context.desk.home.state_file(), StateFile::check)? else {
        return Ok(None);
    };
    let runs = logs::rebuild(&context.desk.home, context.desk.home.record()?.as_mut())?;
    Ok(Some(format!(
        "the state file could not be read; it is now {}. The new one knows {} from the logs. What two-way jobs remembered is gone: \
         their next run compares both sides, and removes nothing. What was agreed to is asked once more.",
        context.desk.home.shorten(&aside),
        count(runs, "run", "runs")
    )))
}

/// Puts a file of inventories that cannot be read aside.
fn mend_inventories(context: &Context) -> Outcome<Option<String>> {
    let aside = put_damaged_aside(context, &context.desk.home.inventories_file(), Inventories::check)?;
    Ok(aside.map(|aside| {
        let aside = context.desk.home.shorten(&aside);
        format!("the inventories could not be read; they are now {aside}. Runs and `reedhook inventory take` fill a new file.")
    }))
}

/// Renames a file of SQLite's that is damaged, and what belongs to it; its new name, when it was.
fn put_damaged_aside(
    context: &Context,
    file: &Path,
    check: fn(&Path) -> Result<(), RecordError>,
) -> Outcome<Option<PathBuf>> {
    if !file.exists() {
        return Ok(None);
    }
    match check(file) {
        Ok(()) => return Ok(None),
        Err(error) if !error.is_damage() => return Err(cannot_mend(error, file)),
        Err(_) => {}
    }
    refuse_while_running(context)?;
    let stamp = jiff::Timestamp::now().to_zoned(clock::zone()).strftime("%Y%m%d-%H%M%S").to_string();
    let with_end = |file: &Path, end: &str| {
        let mut name = file.as_os_str().to_owned();
        name.push(end);
        PathBuf::from(name)
    };
    let broken = format!(".broken-{stamp}");
    for part in ["", "-wal", "-shm"].map(|end| with_end(file, end)) {
        match fs::rename(&part, with_end(&part, &broken)) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(Failure::own_files(&format!("cannot put {} aside", part.display()), error));
            }
            _ => {}
        }
    }
    Ok(Some(with_end(file, &broken)))
}

fn cannot_mend(error: RecordError, file: &Path) -> Failure {
    let message = format!("{} {}", file.display(), error.told());
    Failure { message, ..Failure::from(error) }.hint("It is not broken, so it is left alone.")
}

/// A run that is going on has the state file open.
fn refuse_while_running(context: &Context) -> Outcome<()> {
    for lock in fs::read_dir(context.desk.home.locks()).into_iter().flatten().flatten() {
        let held = fs::File::open(lock.path())
            .is_ok_and(|file| matches!(file.try_lock_shared(), Err(fs::TryLockError::WouldBlock)));
        if held {
            let job = lock.path().file_stem().unwrap_or_default().to_string_lossy().into_owned();
            return Err(Failure {
                halt: Halt::Refused,
                cause: Cause::AlreadyRunning,
                ..Failure::usage(format!("the job \"{job}\" is running"))
            }
            .hint("Wait for it to end, or stop it with Ctrl-C; then mend."));
        }
    }
    Ok(())
}
