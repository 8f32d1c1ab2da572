//! `store`: names for places.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use reedhook_core::foreign::escaped;
use reedhook_core::identity::{self, Ground};
use reedhook_core::job::Kind;
use reedhook_core::path::{Name, RelPath, part_name};
use reedhook_core::store::{Capabilities, FaultKind, Space, Store, StoreError, StoreExt};
use reedhook_jobs::address::is_address;
use reedhook_jobs::capabilities;
use reedhook_jobs::jobfile::{check_name, job_names, load_job};
use reedhook_jobs::places::{Means, locate, no_place_for_files, written_for_keeping};
use reedhook_jobs::reach::Reach;
use reedhook_jobs::secrets::{self, Kept};
use reedhook_jobs::settings::{Settings, StoreEntry};
use reedhook_stores::drives;
use reedhook_stores::local::LocalStore;
use reedhook_stores::remote::connect::Secret;
use serde_json::{Value, json};

use crate::args::commands::StoreCommand;
use crate::context::Context;
use crate::failure::{Cause, Failure, Outcome};
use crate::text::{Align, BOLD, Columns, bytes, count, styled};
use crate::{ask, json as lines};

/// Carries out a `store` command.
pub fn store(context: &Context, command: StoreCommand) -> Outcome {
    match command {
        StoreCommand::Add { name, location, drive, inventory, reach } => {
            let location = location.unwrap_or_default();
            add(context, &name, StoreEntry { location, drive, reach, inventory })
        }
        StoreCommand::Secret { name, forget } => secret(context, &name, forget),
        StoreCommand::List => list(context),
        StoreCommand::Check { name, write, accept } => check(context, &name, write, accept),
        StoreCommand::Remove { name } => remove(context, &name),
    }
}

fn add(context: &Context, name: &str, entry: StoreEntry) -> Outcome {
    let StoreEntry { location, drive, reach, inventory } = entry;
    check_name(name, "store")?;
    let at_server = drive.is_none() && is_address(&location);
    if !reach.is_empty() && !at_server {
        return Err(Failure::usage("an account, a key or certificates belong to a place at a server")
            .hint("Give an address, such as sftp://HOST/PATH."));
    }
    reach.check()?;
    if location.starts_with('@') && drive.is_none() {
        return Err(Failure::usage("a store cannot be inside another store").hint("Give a folder."));
    }
    let settings = &context.desk.settings;
    if settings.stores.contains_key(name) && !context.global.yes {
        return Err(Failure::usage(format!("there is already a store \"{name}\""))
            .hint("Choose another name, or use --yes to change where it is."));
    }
    let location = match &drive {
        Some(_) => location.trim_matches('/').to_owned(),
        None => written_for_keeping(&context.desk.home, &context.desk.settings, &location)?,
    };
    let entry = StoreEntry { location, drive, reach, inventory };
    let found = if at_server { Ok(PathBuf::from("/")) } else { entry.root(&context.desk.home) };
    Settings::put_store(&context.desk.home, name, Some(&entry))?;
    context.say(format!("@{} is {}. Jobs can say @{name}/sub/folder.", styled(BOLD, name), entry.shown()));
    match found {
        Ok(_) if at_server => {
            context.say(format!("Nothing was asked of the server yet: reedhook store check {name}"));
        }
        Ok(root) if root.is_dir() => {}
        Ok(root) => context.warn(format!("{} is not there now", root.display())),
        Err(why) => context.warn(why),
    }
    Ok(0)
}

/// Lists connected drives, and known ones that are absent.
pub fn drives(context: &Context) -> Outcome {
    let connected = reedhook_stores::drives::connected()
        .map_err(|error| Failure::own_files("the drives cannot be listed", error))?;
    let stores = &context.desk.settings.stores;
    let mut table =
        Columns::new(&[Align::Left, Align::Left, Align::Left, Align::Left, Align::Right, Align::Left]);
    table.heading(&["label", "UUID", "mounted at", "kind", "free", "store"]);
    for drive in &connected {
        let known =
            stores.iter().filter(|(_, entry)| entry.drive.as_ref().is_some_and(|name| drive.is_called(name)));
        let names: Vec<String> = known.map(|(name, _)| format!("@{name}")).collect();
        let space = LocalStore::open(&drive.mount).ok().and_then(|store| store.space().ok().flatten());
        if context.global.json {
            lines::print(
                &json!({"event": "drive", "present": true, "label": drive.label, "uuid": drive.uuid,
                "mount": drive.mount.to_string_lossy(), "file_system": drive.file_system,
                "free": space.map(|space| space.free), "total": space.map(|space| space.total), "stores": names}),
            );
            continue;
        }
        table.row(vec![
            drive.label.as_deref().map_or_else(|| "–".into(), escaped),
            drive.uuid.clone().unwrap_or_else(|| "–".into()),
            drive.mount.display().to_string(),
            drive.kind_in_words(),
            space.map_or(String::new(), |space| bytes(space.free)),
            names.join(" "),
        ]);
    }
    for (name, entry) in stores {
        let Some(wanted) =
            entry.drive.as_ref().filter(|wanted| !connected.iter().any(|drive| drive.is_called(wanted)))
        else {
            continue;
        };
        if context.global.json {
            lines::print(
                &json!({"event": "drive", "present": false, "drive": wanted, "stores": [format!("@{name}")]}),
            );
            continue;
        }
        let blank = String::new;
        table.row(vec![
            wanted.clone(),
            blank(),
            "not connected".into(),
            blank(),
            blank(),
            format!("@{name}"),
        ]);
    }
    if !context.global.json {
        context.say(table.render(0).trim_end());
    }
    for drive in &connected {
        if let Some(why) = &drive.unread {
            let at = drive.mount.display();
            context.warn(format!("the label and UUID of the drive at {at} cannot be read: {why}"));
        }
    }
    Ok(0)
}

fn list(context: &Context) -> Outcome {
    let stores = &context.desk.settings.stores;
    if stores.is_empty() {
        context.say("There is no store yet. Name a place with `reedhook store add`.");
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Left, Align::Right]);
    table.heading(&["store", "location", "now", "free"]);
    for (name, entry) in stores {
        let at_server = is_address(&entry.location);
        let root = if at_server { None } else { entry.root(&context.desk.home).ok() };
        let opened = root.and_then(|root| LocalStore::open(&root).ok());
        let space = opened.as_ref().and_then(|store| store.space().ok().flatten());
        if context.global.json {
            lines::print(&json!({
                "event": "store", "name": name, "location": entry.location, "drive": entry.drive, "present": if at_server { None } else { Some(opened.is_some()) },
                "free": space.map(|space| space.free), "total": space.map(|space| space.total),
            }));
            continue;
        }
        // A list asks no server anything: it would wait for each that is away.
        let now = match opened {
            _ if at_server => "not asked",
            Some(_) => "there",
            None => "absent",
        };
        let free = space.map_or(String::new(), |space| bytes(space.free));
        table.row(vec![format!("@{name}"), entry.shown(), now.into(), free]);
    }
    if !context.global.json {
        context.say(table.render(0).trim_end());
    }
    Ok(0)
}

/// Keeps a secret, or forgets it.
fn secret(context: &Context, name: &str, forget: bool) -> Outcome {
    let entry = context.desk.settings.store(name)?;
    if !is_address(&entry.location) {
        return Err(Failure::usage(format!("@{name} is on this machine and needs no secret")));
    }
    if forget {
        return forget_secret(context, name, &format!("@{name}"));
    }
    keep_secret(context, name, &format!("@{name}"))
}

/// Asks for a secret, or reads it from standard input, and keeps it.
pub fn keep_secret(context: &Context, kept_as: &str, of: &str) -> Outcome {
    let typed = if std::io::stdin().is_terminal() {
        ask::secret(&format!("Secret of {of}:"), false)?
    } else {
        let mut line = String::new();
        let read = std::io::stdin().read_line(&mut line);
        read.map_err(|error| Failure::usage(format!("standard input cannot be read: {error}")))?;
        line.trim_end_matches(['\r', '\n']).to_owned()
    };
    if typed.is_empty() {
        return Err(Failure::usage("the secret is empty; nothing was kept"));
    }
    let place = match secrets::keep(&context.desk, kept_as, &Secret::new(typed))? {
        Kept::Keyring => "in the system's keyring".to_owned(),
        Kept::Sealed => format!(
            "in {}, sealed with the passphrase",
            context.desk.home.shorten(&context.desk.home.sealed_secrets_file())
        ),
        Kept::File => {
            format!(
                "in {}, which only you can read",
                context.desk.home.shorten(&context.desk.home.secrets_file())
            )
        }
    };
    context.say(format!("The secret of {of} is kept {place}."));
    Ok(0)
}

/// Forgets a secret.
pub fn forget_secret(context: &Context, kept_as: &str, of: &str) -> Outcome {
    let was_there = secrets::forget(&context.desk, kept_as)?;
    context.say(match was_there {
        true => format!("The secret of {of} is forgotten."),
        false => format!("No secret of {of} was kept."),
    });
    Ok(0)
}

/// Connects to a place at a server and tells what was found.
fn check_server(
    context: &Context,
    name: &str,
    mut reach: Reach,
    write: bool,
    accept: Option<String>,
) -> Outcome {
    if accept.is_some() {
        context.desk.home.make_known_hosts()?;
    }
    reach.accept = accept;
    let store = reach.open(&context.desk).map_err(|error| reach.failure(&context.desk, error))?;
    let refused = |error: StoreError| Failure::refused(error.kind, error.to_string());
    let round_trip = store.round_trip().map_err(refused)?;
    let space = store.space().map_err(refused)?;
    let tried = if write { Some(store.try_writing()) } else { None };
    let can = store.capabilities();
    let clock = tried.as_ref().and_then(|tried| tried.as_ref().ok()).copied().flatten();
    if context.global.json {
        lines::print(&json!({
            "event": "store", "name": name, "location": reach.address.shown(), "present": true,
            "free": space.map(|space| space.free), "total": space.map(|space| space.total),
            "modes": can.modes, "links": can.links, "folds_case": can.folding.case, "max_name": can.max_name,
            "folder_times": can.folder_times, "round_trip": round_trip.as_secs_f64(), "writable": tried.as_ref().map(Result::is_ok),
            "clock_ahead": clock, "facts": store.facts().into_iter().map(|(fact, value)| (fact.to_owned(), value.into())).collect::<serde_json::Map<_, _>>(),
        }));
        return Ok(0);
    }
    let shown =
        if is_address(name) { name.to_owned() } else { format!("@{name}  {}", reach.address.shown()) };
    context.say(styled(BOLD, &shown));
    let mut told: Vec<(String, String)> =
        store.facts().into_iter().map(|(fact, value)| (fact.to_owned(), value)).collect();
    told.push((
        "round trip".into(),
        format!("{:.1} ms; {} at once", round_trip.as_secs_f64() * 1000.0, can.workers),
    ));
    let free = space.map_or("the server does not tell".to_owned(), |space| {
        format!("{} free of {}", bytes(space.free), bytes(space.total))
    });
    told.push(("space".into(), free));
    match &tried {
        None => told.push(("writing".into(), "not tried (--write does)".into())),
        Some(Err(error)) => told.push(("writing".into(), format!("refused: {}", error.reason()))),
        Some(Ok(_)) => told.push(("writing".into(), "allowed".into())),
    }
    if let Some(ahead) = clock {
        told.push(("clock".into(), clock_words(ahead)));
    }
    told.extend(kept_rows(can).map(|(fact, value)| (fact.to_owned(), value)));
    for (fact, value) in told {
        context.say(format!("  {fact:<11} {value}"));
    }
    Ok(u8::from(matches!(tried, Some(Err(_)))))
}

/// How far the server's clock is from ours, in seconds.
fn clock_words(ahead: i64) -> String {
    match ahead {
        -2..=2 => "as ours".to_owned(),
        3.. => format!("{ahead} s ahead of ours: set one of the two, times of arrival will look wrong"),
        _ => format!("{} s behind ours: set one of the two, times of arrival will look wrong", -ahead),
    }
}

fn check(context: &Context, name: &str, write: bool, accept: Option<String>) -> Outcome {
    // A name is a store's; what can be no name is a place as it stands.
    let is_place = is_address(name) || name.contains(['/', '~']) || name.starts_with('@') || name == ".";
    let written = if is_place { name.to_owned() } else { format!("@{name}") };
    let located = locate(&context.desk.home, &context.desk.settings, &written)?;
    match located.means {
        Means::Server(reach) => check_server(context, name, *reach, write, accept),
        _ if accept.is_some() => {
            Err(Failure::usage(format!("{written} is on this machine and shows no fingerprint")))
        }
        Means::Inventory { .. } => Err(no_place_for_files(&written)),
        Means::Absent(why) => Err(Failure::refused(Cause::DriveAbsent, format!("{written}: {why}"))
            .hint("`reedhook drives` shows what is connected.")),
        Means::Folder { path, .. } => check_folder(context, &written, &path, write),
    }
}

/// Looks into a folder of this machine and tells what was found.
fn check_folder(context: &Context, written: &str, path: &Path, write: bool) -> Outcome {
    let found = Checked::find(context, written, path, write)?;
    if context.global.json {
        lines::print(&found.to_json(written, path));
    } else {
        context.say(styled(BOLD, written));
        for (fact, value) in found.facts(context, path) {
            context.say(format!("  {fact:<11} {value}"));
        }
    }
    Ok(u8::from(matches!(found.tried, Some(Err(_)))))
}

/// What was found of a folder that may be a store.
struct Checked {
    store: LocalStore,
    /// What it holds was tried out by a run.
    tried_out: bool,
    entries: usize,
    mark: Option<String>,
    ground: Option<Ground>,
    space: Option<Space>,
    /// What came of writing a small file, when that was wanted.
    tried: Option<reedhook_core::store::Result<()>>,
}

impl Checked {
    fn find(context: &Context, written: &str, path: &Path, write: bool) -> Outcome<Checked> {
        let refused = |error: StoreError| {
            let (cause, words) = match error.kind {
                FaultKind::NotFound => (Cause::NotFound, "there is no such folder"),
                kind => (Cause::Store(kind), kind.words()),
            };
            let correct = match written.strip_prefix('@') {
                Some(_) => ", or correct the place with `reedhook store add --yes`",
                None => ", or the spelling",
            };
            Failure::refused(cause, format!("{}: {words}", path.display()))
                .hint(format!("Connect the drive, check the rights{correct}."))
        };
        let (store, tried_out) = capabilities::look(path, &context.desk.home).map_err(refused)?;
        let listing = store.list(&RelPath::root()).map_err(refused)?;
        Ok(Checked {
            tried_out,
            entries: listing.entries.len() + listing.unknown.len(),
            mark: identity::read(&store).map_err(refused)?,
            ground: drives::ground_of(path),
            space: store.space().ok().flatten(),
            tried: write.then(|| try_writing(&store)),
            store,
        })
    }

    fn to_json(&self, written: &str, path: &Path) -> Value {
        let (can, read_only) = (self.store.capabilities(), self.store.is_read_only());
        json!({
            "event": "store", "name": written.trim_start_matches('@'), "location": path.to_string_lossy(), "present": true,
            "free": self.space.map(|space| space.free), "total": self.space.map(|space| space.total),
            "modes": can.modes, "links": can.links, "folds_case": can.folding.case, "max_name": can.max_name,
            "folder_times": can.folder_times, "entries": self.entries,
            "file_system": self.ground.as_ref().map(|ground| &ground.kind), "mark": self.mark,
            "writable": if read_only { Some(false) } else { self.tried.as_ref().map(Result::is_ok) },
            "read_only": read_only, "tried_out": self.tried_out,
        })
    }

    fn facts(&self, context: &Context, path: &Path) -> Vec<(&'static str, String)> {
        let mut told = vec![
            ("folder", path.display().to_string()),
            ("holds", count(self.entries as u64, "entry", "entries")),
            ("mark", self.mark.clone().unwrap_or_else(|| unmarked(context, path))),
        ];
        let by_ground = || self.ground.as_ref().map(|ground| ground.kind.clone());
        told.extend(drives::type_in_words(path).or_else(by_ground).map(|kind| ("on", kind)));
        let space = |space: Space| format!("{} free of {}", bytes(space.free), bytes(space.total));
        told.extend(self.space.map(|found| ("space", space(found))));
        let writing = match &self.tried {
            _ if self.store.is_read_only() => "not possible: it is mounted read-only".to_owned(),
            None => "not tried (--write does)".to_owned(),
            Some(Err(error)) => format!("refused: {}", error.reason()),
            Some(Ok(())) => "allowed".to_owned(),
        };
        told.push(("writing", writing));
        told.extend(kept_rows(self.store.capabilities()));
        if !self.tried_out {
            told.push(("", "all this by its type: no run has tested it yet".to_owned()));
        }
        told
    }
}

/// Why a folder bears no mark.
fn unmarked(context: &Context, folder: &Path) -> String {
    let below = |place: &String| {
        let located = locate(&context.desk.home, &context.desk.settings, place).ok();
        let below = |path: &Path| path != folder && path.starts_with(folder);
        located.is_some_and(|found| found.folder().is_some_and(below))
    };
    let writes_below = |job: &String| {
        let Ok(job) = load_job(&context.desk.home, job) else { return false };
        let from = job.from.iter().filter(|_| job.rules.kind == Kind::TwoWay);
        from.chain(&job.to).any(below)
    };
    let names = match job_names(&context.desk.home) {
        Ok(names) => names,
        Err(failure) => return format!("none here; {}", failure.message),
    };
    let jobs: Vec<String> = names.into_iter().filter(writes_below).collect();
    match jobs.is_empty() {
        true => "none: no job has written here yet".to_owned(),
        false => format!(
            "none here; {} below it: {}",
            if jobs.len() == 1 { "a job writes" } else { "jobs write" },
            jobs.join(", ")
        ),
    }
}

/// Writes a small file, reads it back and removes it again.
fn try_writing(store: &dyn Store) -> Result<(), StoreError> {
    const TRIAL: &[u8] = b"A trial of whether this can be written.\n";
    let name = Name::new(&part_name(&format!("trial-{}", std::process::id())));
    let path = name.map(|name| RelPath::from(&name)).unwrap_or_default();
    store.write_small(&path, TRIAL)?;
    let read = store.read_small(&path, TRIAL.len() as u64);
    if let Some(meta) = store.stat(&path)? {
        store.remove(&path, &meta)?;
    }
    match read?.as_deref() == Some(TRIAL) {
        true => Ok(()),
        false => {
            Err(StoreError::new(FaultKind::Io, "read", &path).because("it does not hold what was written"))
        }
    }
}

/// What a store keeps and what gets lost there, a row each; only the first has a heading.
fn kept_rows(can: &Capabilities) -> impl Iterator<Item = (&'static str, String)> {
    let headings = std::iter::once("keeps").chain(std::iter::repeat(""));
    headings.zip(abilities(can))
}

/// What a store keeps and what gets lost there, in words.
fn abilities(can: &Capabilities) -> Vec<String> {
    let precision =
        can.time_precision.map_or("times are not kept".to_owned(), |precision| match precision.as_nanos() {
            0..1_000_000 => "times are kept exactly".to_owned(),
            _ => format!("times are kept to {precision:?}"),
        });
    let kept = |can: bool, what: &str| format!("{what} are {}", if can { "kept" } else { "lost there" });
    let mut lines = vec![precision, kept(can.modes, "modes"), kept(can.links, "links")];
    if !can.folder_times {
        lines.push(kept(false, "times of folders"));
    }
    lines.extend(can.names.words());
    if let Some(most) = can.limits.file_size {
        lines.push(format!("files have at most {}", bytes(most)));
    }
    if can.folding.case {
        lines.push("names that differ only in upper and lower case are the same file there".to_owned());
    }
    if can.folding.forms {
        lines.push(
            "names that differ only in how their characters are composed are the same file there".to_owned(),
        );
    }
    lines
}

fn remove(context: &Context, name: &str) -> Outcome {
    context.desk.settings.store(name)?;
    let prefix = format!("@{name}");
    let uses = |place: &String| *place == prefix || place.starts_with(&format!("{prefix}/"));
    let users: Vec<String> = job_names(&context.desk.home)?
        .into_iter()
        .filter(|job| {
            load_job(&context.desk.home, job).is_ok_and(|job| job.from.iter().chain(&job.to).any(uses))
        })
        .collect();
    if !users.is_empty() && !context.global.yes {
        return Err(Failure::usage(format!("@{name} is used by {}", users.join(", ")))
            .hint("Change these jobs first, or use --yes."));
    }
    Settings::put_store(&context.desk.home, name, None)?;
    context.say(format!("@{name} is forgotten. Nothing was changed there."));
    Ok(0)
}
