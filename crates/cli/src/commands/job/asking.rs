//! What `job add` asks where words are missing, or could mean two things.

use reedhook_core::job::Kind;
use reedhook_jobs::jobfile::JobKeys;
use reedhook_jobs::places::locate;

use crate::ask;
use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// A word that was typed, or else asked for; where nobody can be asked, its absence is an error.
pub(super) fn wanted<T>(
    context: &Context,
    typed: Option<T>,
    what: &str,
    question: impl FnOnce() -> Outcome<T>,
) -> Outcome<T> {
    match typed {
        Some(word) => Ok(word),
        None if context.can_ask() => question(),
        None => Err(Failure::usage(format!("{what} is missing"))
            .hint("Write: reedhook job add NAME KIND LEFT RIGHT, or use a terminal to be asked.")),
    }
}

pub(super) fn ask_kind() -> Outcome<Kind> {
    const KINDS: [Kind; 3] = [Kind::Mirror, Kind::Copy, Kind::TwoWay];
    let items = KINDS.map(|kind| format!("{kind}: {}", kind.explained()));
    Ok(KINDS[ask::choice("What kind of job?", &items)?.min(KINDS.len() - 1)])
}

/// The sides as typed; what is missing, and in no key, is asked for.
pub(super) fn asked_for_sides(
    context: &Context,
    keys: &mut JobKeys,
    left: Option<String>,
    right: Option<String>,
) -> Outcome<(Option<String>, Option<String>)> {
    let two_way = keys.kind == Some(Kind::TwoWay);
    let given = |typed: &Option<String>, several: &[String], one: &Option<String>| {
        typed.is_some() || if two_way { one.is_some() } else { !several.is_empty() }
    };
    let left = if given(&left, &keys.from, &keys.left) {
        left
    } else {
        let question = if two_way { "Which folder is the left side?" } else { "What is to be read?" };
        let question = format!("{question} (a folder, or @store/sub/folder)");
        Some(wanted(context, None, "LEFT", || ask::line(&question, |text| readable(context, text)))?)
    };
    let right = if given(&right, &keys.to, &keys.right) {
        right
    } else {
        let question = if two_way { "Which folder is the right side?" } else { "Where is it to land?" };
        let question = format!("{question} (a folder, or @store/sub/folder)");
        let check = |text: &str| locate(&context.desk.home, &context.desk.settings, text).map(|_| ());
        Some(wanted(context, None, "RIGHT", || ask::line(&question, check))?)
    };
    Ok((left, right))
}

fn readable(context: &Context, typed: &str) -> Outcome<()> {
    let located = locate(&context.desk.home, &context.desk.settings, typed)?;
    if located.seems_there() {
        Ok(())
    } else {
        Err(Failure::usage(format!("{} is no folder", located.location())))
    }
}

/// Where the destination is not called like the source, people often mean a folder of that name in it: asked, where somebody is there.
pub(super) fn ask_where_it_lands(context: &Context, keys: &mut JobKeys) -> Outcome<()> {
    let (home, settings) = (&context.desk.home, &context.desk.settings);
    let ([from], [to]) = (keys.from.as_slice(), keys.to.as_slice()) else { return Ok(()) };
    if !context.can_ask() || context.global.yes {
        return Ok(());
    }
    let (source, destination) = (locate(home, settings, from)?, locate(home, settings, to)?);
    let Some(name) = source.name().filter(|name| destination.name().as_ref() != Some(name)) else {
        return Ok(());
    };
    let Some(name) = name.to_str() else { return Ok(()) };
    let inside = format!("{}/{name}", to.trim_end_matches('/'));
    let shown = destination.short(home);
    let items = [format!("directly in {shown}"), format!("in a folder \"{name}\" there: {inside}")];
    let question = format!("Where is what is in {} to land?", source.short(home));
    if ask::choice(&question, &items)? == 1 {
        keys.to = vec![inside];
    }
    Ok(())
}
