//! `standin`: a small server on loopback over a folder, to try things out with.

use std::path::PathBuf;
use std::sync::atomic::Ordering;
use std::time::Duration;

use reedhook_standins::{Behaviour, Kind, Settings, Standin};
use serde_json::json;

use crate::args::{Speaks, StandinArgs};
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::json as lines;
use crate::text::{BOLD, styled};

/// Starts a stand-in and serves until somebody stops it.
pub fn standin(context: &Context, wanted: StandinArgs) -> Outcome {
    let kind = match wanted.kind {
        Speaks::Webdav => Kind::WebDav,
        Speaks::Sftp => Kind::Sftp,
        Speaks::Ftp => Kind::Ftp,
        Speaks::Object => Kind::Object,
    };
    refuse_what_it_cannot(kind, &wanted)?;
    let folder = folder(&wanted)?;
    let secret = std::env::var("REEDHOOK_SECRET").unwrap_or_else(|_| made_up_secret());
    let settings = Settings {
        folder: folder.clone(),
        port: wanted.port,
        user: wanted.user.clone(),
        secret: secret.clone(),
        behaviour: behaviour(&wanted),
    };
    let below = if kind == Kind::Object { "archive" } else { "" };
    if kind == Kind::Object {
        std::fs::create_dir_all(folder.join(below))
            .map_err(|error| Failure::usage(format!("{}: {error}", folder.display())))?;
    }
    let running = Standin::start(kind, settings).map_err(|error| Failure::usage(error.to_string()))?;
    announce(context, &running, (&wanted.user, &secret), below, &folder);
    while !context.desk.stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
    }
    Ok(0)
}

/// Not every stand-in can misbehave in every way; what is asked for in vain would only mislead.
fn refuse_what_it_cannot(kind: Kind, wanted: &StandinArgs) -> Outcome<()> {
    let http = matches!(kind, Kind::WebDav | Kind::Object);
    let vain = [
        (wanted.busy_every.is_some() && !http, "--busy-every"),
        (wanted.quota.is_some() && kind == Kind::Ftp, "--quota"),
        (wanted.clock != 0 && !matches!(kind, Kind::WebDav | Kind::Sftp), "--clock"),
    ];
    match vain.into_iter().find(|(asked, _)| *asked) {
        Some((_, option)) => Err(Failure::usage(format!("{option} means nothing to this stand-in"))
            .hint("`reedhook standin --help` tells which can do what.")),
        None => Ok(()),
    }
}

fn folder(wanted: &StandinArgs) -> Outcome<PathBuf> {
    let bad = |path: &std::path::Path, error: std::io::Error| {
        Failure::usage(format!("{}: {error}", path.display()))
    };
    let path = std::path::absolute(&wanted.folder).map_err(|error| bad(&wanted.folder, error))?;
    std::fs::create_dir_all(&path).map_err(|error| bad(&path, error))?;
    Ok(path)
}

fn behaviour(wanted: &StandinArgs) -> Behaviour {
    Behaviour {
        round_trip: Duration::from_millis(wanted.round_trip),
        drop_after: wanted.drop_after.map(|size| size.bytes()),
        drops: wanted.drops,
        busy_every: wanted.busy_every,
        quota: wanted.quota.map(|size| size.bytes()),
        clock: wanted.clock,
        takes_times: wanted.takes_times,
        links_first: false,
    }
}

/// Nobody is to take a stand-in's secret for a good one, but it is not one that everybody knows either.
fn made_up_secret() -> String {
    let seed = format!("{:?} {}", std::time::SystemTime::now(), std::process::id());
    let word = seed.bytes().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
    });
    format!("reed-{word:016x}")
}

fn announce(
    context: &Context,
    running: &Standin,
    (user, secret): (&str, &str),
    below: &str,
    folder: &std::path::Path,
) {
    let location = running.location(below);
    if context.global.json {
        return lines::print(
            &json!({"event": "standin", "location": location, "user": user, "secret": secret,
            "fingerprint": running.fingerprint, "folder": folder.to_string_lossy()}),
        );
    }
    context.say(format!("{} serves {} until Ctrl-C.", styled(BOLD, &location), folder.display()));
    if let Some(fingerprint) = &running.fingerprint {
        context.say(format!("  its key   {fingerprint}"));
    }
    context.say(format!("  account   {user}, with the secret {secret}"));
    context.say("  to use it, elsewhere:".to_owned());
    context.say(format!("    reedhook store add trial {location} --user {user}"));
    context.say(format!("    echo {secret} | reedhook store secret trial"));
    let accept = running.fingerprint.as_ref().map(|key| format!(" --accept {key}")).unwrap_or_default();
    context.say(format!("    reedhook store check trial{accept}"));
}
