//! `store`: names for places.

use reedhook_core::store::{Capabilities, Store};
use reedhook_stores::local::LocalStore;
use serde_json::json;

use crate::args::StoreCommand;
use crate::context::Context;
use crate::failure::{Failure, Outcome, REFUSED};
use crate::jobfile::{check_name, job_names, load_job};
use crate::json as lines;
use crate::places::{Settings, StoreEntry, locate, written_for_keeping};
use crate::text::{Align, BOLD, Columns, bytes, styled};

/// Carries out a `store` command.
pub fn store(context: &Context, command: StoreCommand) -> Outcome {
    match command {
        StoreCommand::Add { name, location, drive } => {
            add(context, &name, location.unwrap_or_default(), drive)
        }
        StoreCommand::List => list(context),
        StoreCommand::Check { name } => check(context, &name),
        StoreCommand::Remove { name } => remove(context, &name),
    }
}

fn add(context: &Context, name: &str, location: String, drive: Option<String>) -> Outcome {
    check_name(name, "store")?;
    if location.starts_with('@') && drive.is_none() {
        return Err(Failure::usage("a store cannot be inside another store").hint("Give a folder."));
    }
    let mut settings = context.settings.clone();
    if settings.stores.contains_key(name) && !context.global.yes {
        return Err(Failure::usage(format!("there is already a store \"{name}\""))
            .hint("Choose another name, or use --yes to change where it is."));
    }
    let location = match &drive {
        Some(_) => location.trim_matches('/').to_owned(),
        None => written_for_keeping(&context.home, &context.settings, &location)?,
    };
    let entry = StoreEntry { location, drive };
    let found = entry.root(&context.home);
    settings.stores.insert(name.to_owned(), entry.clone());
    settings.save(&context.home)?;
    context.say(format!("@{} is {}. Jobs can say @{name}/sub/folder.", styled(BOLD, name), entry.shown()));
    match found {
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
    let stores = &context.settings.stores;
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
            drive.label.clone().unwrap_or_else(|| "–".into()),
            drive.uuid.clone().unwrap_or_else(|| "–".into()),
            drive.mount.display().to_string(),
            drive.file_system.clone(),
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
    Ok(0)
}

fn list(context: &Context) -> Outcome {
    let stores = &context.settings.stores;
    if stores.is_empty() {
        context.say("There is no store yet. Name a place with `reedhook store add`.");
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Left, Align::Left, Align::Left, Align::Right]);
    table.heading(&["store", "location", "now", "free"]);
    for (name, entry) in stores {
        let root = entry.root(&context.home).ok();
        let opened = root.and_then(|root| LocalStore::open(&root).ok());
        let space = opened.as_ref().and_then(|store| store.space().ok().flatten());
        if context.global.json {
            lines::print(&json!({
                "event": "store", "name": name, "location": entry.location, "drive": entry.drive, "present": opened.is_some(),
                "free": space.map(|space| space.free), "total": space.map(|space| space.total),
            }));
            continue;
        }
        let now = if opened.is_some() { "there" } else { "absent" };
        let free = space.map_or(String::new(), |space| bytes(space.free));
        table.row(vec![format!("@{name}"), entry.shown(), now.into(), free]);
    }
    if !context.global.json {
        context.say(table.render(0).trim_end());
    }
    Ok(0)
}

fn check(context: &Context, name: &str) -> Outcome {
    let located = locate(&context.home, &context.settings, &format!("@{name}"))?;
    if let Some(why) = &located.absent {
        return Err(Failure::refused("drive-absent", format!("@{name}: {why}"))
            .hint("`reedhook drives` shows what is connected."));
    }
    let store = LocalStore::open(&located.path).map_err(|error| {
        let shown = located.path.display();
        Failure {
            exit: REFUSED,
            code: error.kind.code(),
            message: format!("{shown}: {}", error.kind.words()),
            hint: "Connect the drive, or correct the place with `reedhook store add --yes`.".into(),
        }
    })?;
    let space = store.space().ok().flatten();
    let can = store.capabilities();
    if context.global.json {
        lines::print(&json!({
            "event": "store", "name": name, "location": context.settings.store(name)?.location, "present": true,
            "free": space.map(|space| space.free), "total": space.map(|space| space.total),
            "modes": can.modes, "links": can.links, "folds_case": can.folds_case, "max_name": can.max_name,
        }));
        return Ok(0);
    }
    context.say(format!("@{}  {}", styled(BOLD, name), located.path.display()));
    if let Some(space) = space {
        context.say(format!("  {} free of {}", bytes(space.free), bytes(space.total)));
    }
    for line in abilities(can) {
        context.say(format!("  {line}"));
    }
    Ok(0)
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
    if can.folds_case {
        lines.push("names that differ only in upper and lower case are the same file there".to_owned());
    }
    lines
}

fn remove(context: &Context, name: &str) -> Outcome {
    context.settings.store(name)?;
    let prefix = format!("@{name}");
    let uses = |place: &String| *place == prefix || place.starts_with(&format!("{prefix}/"));
    let users: Vec<String> = job_names(&context.home)
        .into_iter()
        .filter(|job| load_job(&context.home, job).is_ok_and(|job| job.from.iter().chain(&job.to).any(uses)))
        .collect();
    if !users.is_empty() && !context.global.yes {
        return Err(Failure::usage(format!("@{name} is used by {}", users.join(", ")))
            .hint("Change these jobs first, or use --yes."));
    }
    let mut settings: Settings = context.settings.clone();
    settings.stores.remove(name);
    settings.save(&context.home)?;
    context.say(format!("@{name} is forgotten. Nothing was changed there."));
    Ok(0)
}
