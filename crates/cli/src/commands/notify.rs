//! `notify`: trying out who is told what, and the secrets that it takes.

use reedhook_jobs::notify::{NotifyKeys, Way};
use reedhook_tend::tell;
use serde_json::json;

use super::store::{forget_secret, keep_secret};
use crate::args::commands::NotifyCommand;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::json as lines;
use crate::text::{Align, BAD, Columns, GOOD};

/// Carries out `notify`.
pub fn notify(context: &Context, command: &NotifyCommand) -> Outcome {
    match command {
        NotifyCommand::Test { way } => test(context, *way),
        NotifyCommand::Secret { way, forget } => {
            let Some(kept_as) = tell::secret_of(*way) else {
                return Err(Failure::usage(format!("{way} takes no secret")).hint("mail and webhook do."));
            };
            let of = format!("the {way} notifications");
            if *forget { forget_secret(context, kept_as, &of) } else { keep_secret(context, kept_as, &of) }
        }
    }
}

fn test(context: &Context, only: Option<Way>) -> Outcome {
    let results = tell::test(&context.desk, only)?;
    let failed = results.iter().any(|(_, sent)| sent.is_err());
    let mut table = Columns::new(&[Align::Left; 3]);
    for (way, sent) in &results {
        let to = target(&context.desk.settings.notify, *way);
        if context.global.json {
            let why = sent.as_ref().err();
            lines::print(
                &json!({"event": "notified", "way": way.as_str(), "to": to, "sent": sent.is_ok(), "message": why}),
            );
            continue;
        }
        match sent {
            Ok(()) => table.styled_row(GOOD, vec![way.to_string(), to, "sent".to_owned()]),
            Err(why) => table.styled_row(BAD, vec![way.to_string(), to, why.clone()]),
        }
    }
    context.say(table.render(0).trim_end());
    Ok(u8::from(failed))
}

/// Where a way leads, for people. Of an address only the server: the rest may be a secret.
fn target(keys: &NotifyKeys, way: Way) -> String {
    let server = |url: &str| {
        let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
        rest.split(['/', '?', '#'])
            .next()
            .unwrap_or_default()
            .rsplit('@')
            .next()
            .unwrap_or_default()
            .to_owned()
    };
    match way {
        Way::Desktop => "this session".to_owned(),
        Way::Command => keys.command.as_ref().map(|keys| keys.run.clone()).unwrap_or_default(),
        Way::Mail => {
            let mail = keys.mail.as_ref();
            let by = mail.and_then(|keys| keys.server.as_deref()).map_or("sendmail".to_owned(), server);
            let to = mail.map(|keys| keys.to.join(", ")).unwrap_or_default();
            format!("{to}, by {by}")
        }
        Way::Webhook => keys.webhook.as_ref().map(|keys| server(&keys.url)).unwrap_or_default(),
    }
}
