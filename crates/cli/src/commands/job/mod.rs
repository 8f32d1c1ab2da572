//! `job`: set up, look at and change jobs.

mod asking;

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use reedhook_core::foreign::escaped;
use reedhook_core::job::{Kind, OddNames, Removed};
use reedhook_core::units::UnitError;
use reedhook_jobs::atomic_file::{Mark, failed, open_plain};
use reedhook_jobs::capabilities::OpenOptions;
use reedhook_jobs::home::{make_folder, write_file};
use reedhook_jobs::jobfile::{Job, JobKeys, check_name, job_names, load_job, parse};
use reedhook_jobs::open::make_destination;
use reedhook_jobs::places::{Ends, Located, written_for_keeping};
use reedhook_jobs::recognise::{self, SEEN};
use reedhook_jobs::run::claim::JobLock;
use reedhook_jobs::scan::{nested, open_sources};
use reedhook_jobs::{alignment, due, neighbours};
use reedhook_stores::child;
use serde_json::{Value, json};

use super::status::next_words;
use super::when::{next_of, shown as when_shown};
use crate::args::commands::JobCommand;
use crate::commands::job_files::{change_file, place_sides};
use crate::context::{Context, print_text};
use crate::failure::{Cause, Failure, Outcome, exit_of};
use crate::text::{Align, BOLD, Columns, styled};
use crate::{ask, json as lines, named_file, render};
use asking::{ask_kind, ask_where_it_lands, asked_for_sides, wanted};

/// Carries out a `job` command, apart from `job filter`.
pub fn job(context: &Context, command: JobCommand) -> Outcome {
    match command {
        JobCommand::Add { name, kind, left, right, keys } => add(context, name, kind, left, right, *keys),
        JobCommand::List => list(context),
        JobCommand::Show { name } => show(context, &name),
        JobCommand::Edit { name, keys, unset } => edit(context, &name, *keys, &unset),
        JobCommand::Rename { name, new_name } => rename(context, &name, &new_name),
        JobCommand::Remove { name } => remove(context, &name),
        JobCommand::Export { name, to } => export(context, &name, to),
        JobCommand::Import { file, name } => import(context, &file, name),
        JobCommand::Filter { .. } | JobCommand::Shortcut { .. } => {
            Err(Failure::usage("this is carried out elsewhere"))
        }
    }
}

fn add(
    context: &Context,
    name: Option<String>,
    kind: Option<String>,
    left: Option<String>,
    right: Option<String>,
    mut keys: JobKeys,
) -> Outcome {
    let asked = name.is_none() || (kind.is_none() && keys.kind.is_none());
    let name = wanted(context, name, "NAME", || {
        ask::line("What should the job be called?", |text| {
            check_name(text, "job").and_then(|()| unused(context, text))
        })
    })?;
    check_name(&name, "job")?;
    unused(context, &name)?;
    keys.kind = Some(match (kind, keys.kind) {
        (Some(word), _) => word.parse().map_err(|error: UnitError| Failure::usage(error.to_string()))?,
        (None, Some(kind)) => kind,
        (None, None) => wanted(context, None, "KIND", ask_kind)?,
    });
    let (left, right) = asked_for_sides(context, &mut keys, left, right)?;
    place_sides(&mut keys, left, right);
    ask_where_it_lands(context, &mut keys)?;
    let job = checked(context, &name, keys)?;
    let ends = Ends::of(&job, &context.desk.home, &context.desk.settings)?;
    refuse_bad_ends(context, &ends)?;
    make_missing(context, &ends)?;
    job.save(&context.desk.home)?;
    remember_places(context, &job, &ends, |_| true)?;
    announce(context, &job, &ends);
    if context.can_ask() && asked && ask::yes("Show what a run would do?", true)? {
        return super::preview::preview(context, &name, false, None);
    }
    if !context.global.json {
        context.say(format!("\nNext: reedhook preview {name}"));
    }
    Ok(0)
}

fn unused(context: &Context, name: &str) -> Outcome<()> {
    if context.desk.home.job_file(name).exists() {
        return Err(Failure::usage(format!("there is already a job \"{name}\""))
            .hint("Choose another name, or change it with `reedhook job edit`."));
    }
    Ok(())
}

/// The job with its places written so that they hold from any working folder.
fn checked(context: &Context, name: &str, mut keys: JobKeys) -> Outcome<Job> {
    for place in keys.from.iter_mut().chain(&mut keys.to).chain(&mut keys.left).chain(&mut keys.right) {
        *place = written_for_keeping(&context.desk.home, &context.desk.settings, place)?;
    }
    Job::new(name, keys)
}

fn refuse_bad_ends(context: &Context, ends: &Ends) -> Outcome<()> {
    if let Some(sentence) = nested(ends, &context.desk.home) {
        return Err(
            Failure { cause: Cause::Nested, ..Failure::usage(sentence) }.hint("Choose sides that lie apart.")
        );
    }
    ends.landing_names()?;
    for from in &ends.from {
        if !from.seems_there() && !context.global.yes {
            let shown = from.shown(&context.desk.home);
            let question = format!("{shown} is not there now. Set the job up all the same?");
            if !(context.can_ask() && ask::yes(&question, false)?) {
                return Err(Failure {
                    cause: Cause::SourceMissing,
                    ..Failure::usage(format!("the source {shown} is not there"))
                }
                .hint("Check the path, or connect the drive; --yes sets the job up all the same."));
            }
        }
    }
    ends.to.iter().try_for_each(|to| refuse_bad_destination(context, to))
}

/// Refuses a destination that no run could ever use, and asks about one that is not there and cannot be made now.
fn refuse_bad_destination(context: &Context, to: &Located) -> Outcome<()> {
    let Some(path) = to.folder().filter(|path| !path.is_dir()) else { return Ok(()) };
    let shown = to.shown(&context.desk.home);
    let refused = |why: &str| {
        Err(Failure {
            cause: Cause::DestinationUnusable,
            ..Failure::usage(format!("the destination {shown} {why}"))
        })
    };
    match path.symlink_metadata() {
        Ok(found) if found.is_symlink() => return refused("is a link that leads nowhere"),
        Ok(_) => return refused("is no folder"),
        Err(_) => {}
    }
    if reedhook_jobs::open::can_be_made(to) || context.global.yes {
        return Ok(());
    }
    let question = format!("{shown} is not there, nor is the folder above it. Set the job up all the same?");
    if context.can_ask() && ask::yes(&question, false)? {
        return Ok(());
    }
    let above = path.parent().unwrap_or(Path::new("/")).display();
    let message = format!("the destination {shown} is not there, nor is {above}");
    Err(Failure { cause: Cause::DestinationMissing, ..Failure::usage(message) }
        .hint("Check the path, make the folder, or connect the drive; --yes sets the job up all the same."))
}

/// Makes missing destinations after asking. Where nobody can be asked, the first run does it.
fn make_missing(context: &Context, ends: &Ends) -> Outcome<()> {
    for to in &ends.to {
        if let Some(why) = to.absent() {
            context.warn(format!("{}: {why} now", to.written));
            continue;
        }
        if to.folder().is_none_or(Path::exists) {
            continue;
        }
        if !reedhook_jobs::open::can_be_made(to) {
            context.warn(format!("{} is not there now", to.shown(&context.desk.home)));
            continue;
        }
        let shown = to.shown(&context.desk.home);
        let agreed = context.global.yes
            || (context.can_ask() && ask::yes(&format!("{shown} does not exist. Make it?"), true)?);
        if agreed {
            make_destination(&context.desk, to, OpenOptions::default())?;
        } else {
            context.say(format!("The folder {shown} does not exist yet."));
        }
    }
    Ok(())
}

/// Remembers what the places of a job are on, and which are there now, so that a drive that is not plugged in at the first run is
/// missed: it leaves an empty mount point behind. What was known of the places that are given anew is forgotten.
fn remember_places(context: &Context, job: &Job, ends: &Ends, given: impl Fn(&str) -> bool) -> Outcome<()> {
    let record = context.desk.home.record()?;
    for place in ends.from.iter().chain(&ends.to).filter(|place| given(&place.written)) {
        record.forget_place(&job.name, &place.written)?;
    }
    // Whatever a job of this name knew of two sides, it was about other ones, or is no longer to be relied on.
    record.forget_baseline(&job.name)?;
    // Nothing is ever written to the source of a one-way job: only a two-way job's left side is recognised by a mark.
    let two_way = job.rules.kind == Kind::TwoWay;
    let marked = ends.to.iter().chain(ends.from.iter().filter(|_| two_way));
    for to in marked.filter(|to| given(&to.written) && to.is_there()) {
        record.set_mark(&job.name, &to.written, SEEN)?;
    }
    drop(record);
    recognise::GroundsSeen::now(&context.desk, job, ends)?.remember(&context.desk, &job.name)
}

/// Says what was set up, where things will land, and what deserves a second look.
fn announce(context: &Context, job: &Job, ends: &Ends) {
    if context.global.json {
        job.idle_keys().into_iter().for_each(|words| context.warn(words));
        return lines::print(&described(job));
    }
    let name = styled(BOLD, &job.name);
    let sentence = render::kind_sentence(&job.rules);
    context.say(format!("The job {name} is set up. {sentence}"));
    for line in render::mapping(job.rules.kind, ends, &context.desk.home) {
        context.say(line);
    }
    if !job.timing.when.is_empty() {
        let next = next_of(context, job, (context.desk.world.now)());
        let next = next.map(|due| format!(", next {}", when_shown(context, due.at))).unwrap_or_default();
        match job.timing.paused {
            true => context.say(format!(
                "It is paused: nothing begins by itself until `reedhook tend pause {} --off`.",
                job.name
            )),
            false => {
                context.say(format!("It runs by itself{next}; what follows it: reedhook when {}", job.name))
            }
        }
    }
    if let Some(words) = command_words(job) {
        context.warn(words);
    }
    let beside = neighbours::warnings(&context.desk, job, ends);
    for warning in
        second_looks(context, job.rules.kind, ends).into_iter().chain(beside).chain(job.idle_keys())
    {
        context.warn(warning);
    }
}

/// What a job lets the shell do: worth knowing before it is run, above all of a job that came from elsewhere.
fn command_words(job: &Job) -> Option<String> {
    let around = &job.around;
    let commands: Vec<String> =
        around.before.iter().chain(&around.after).map(|command| format!("`{}`", escaped(command))).collect();
    (!commands.is_empty()).then(|| format!("each run also runs {}", commands.join(" and ")))
}

/// Destinations that are often a slip.
fn second_looks(context: &Context, kind: Kind, ends: &Ends) -> Vec<String> {
    let mut warnings = Vec::new();
    for to in &ends.to {
        let shown = to.shown(&context.desk.home);
        if to.folder().is_some_and(is_mount_root) {
            warnings.push(format!(
                "{shown} is the bare root of a drive: everything on it belongs to this job. A folder on it is safer."
            ));
        }
        for from in &ends.from {
            if repeats_name(from, to) {
                let name = from.name().unwrap_or_default();
                let name = name.to_string_lossy();
                warnings.push(format!("{shown} ends in \"{name}/{name}\": is it one level too deep?"));
            }
        }
    }
    let misaligned = || {
        // What lies at a server is looked at when it is needed: setting a job up asks for no connection.
        if ends.from.iter().chain(&ends.to).any(|place| place.server().is_some()) {
            return None;
        }
        let left = open_sources(&context.desk, ends, OpenOptions::default()).ok()?;
        let right =
            reedhook_jobs::open::open_destination(&context.desk, ends.to.first()?, OpenOptions::default())
                .ok()??;
        let (from, to) = (ends.from.first()?, ends.to.first()?);
        let above = |side, levels| alignment::above(&context.desk, from, to, side, levels);
        let found = alignment::check(left.as_ref(), right.as_ref(), &above)?;
        Some(found.sentence(super::preview::side_words(kind)))
    };
    warnings.extend(misaligned());
    warnings
}

/// Whether the destination ends in the source's name twice.
fn repeats_name(from: &Located, to: &Located) -> bool {
    let name = from.name();
    name.is_some() && to.name() == name && to.name_above() == name
}

/// Whether a path is where a file system is mounted.
fn is_mount_root(path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let device = |path: &Path| path.metadata().map(|meta| meta.dev()).ok();
    match (device(path), path.parent()) {
        (Some(here), Some(parent)) => device(parent).is_some_and(|above| above != here),
        (Some(_), None) => true,
        (None, _) => false,
    }
}

fn list(context: &Context) -> Outcome {
    let names = job_names(&context.desk.home)?;
    if names.is_empty() {
        context.say("There is no job yet. Set one up with `reedhook job add`.");
    }
    let mut table = Columns::new(&[Align::Left; 5]);
    table.heading(&["job", "kind", "from or left", "to or right", "next"]);
    let record = context.desk.home.record()?;
    let clock = (context.desk.world.now)();
    let mut code = 0;
    for name in &names {
        match load_job(&context.desk.home, name) {
            Ok(job) if context.global.json => lines::print(&described(&job)),
            Ok(job) => {
                let overdue = due::overdue(record.as_ref(), &context.desk.home, &job, clock)?.is_some();
                let next = next_words(context, &job, next_of(context, &job, clock), overdue);
                table.row(vec![
                    name.clone(),
                    job.rules.kind.to_string(),
                    job.from.join(", "),
                    job.to.join(", "),
                    next,
                ]);
            }
            Err(failure) => {
                context.complain(&failure);
                code = exit_of(&failure);
            }
        }
    }
    if !context.global.json && !names.is_empty() {
        context.say(table.render(0).trim_end());
    }
    Ok(code)
}

/// A job as a JSON object: its name and the keys of its file.
fn described(job: &Job) -> Value {
    let mut object = lines::object(json!({"event": "job", "name": job.name}));
    object.extend(lines::object(serde_json::to_value(&job.keys).unwrap_or_default()));
    Value::Object(object)
}

fn show(context: &Context, name: &str) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    if context.global.json {
        lines::print(&described(&job));
        return Ok(0);
    }
    let ends = Ends::of(&job, &context.desk.home, &context.desk.settings)?;
    let mut text = format!("{}  {}\n", styled(BOLD, name), job.rules.kind);
    text.push_str(&format!("  {}\n", render::kind_sentence(&job.rules)));
    for line in render::mapping(job.rules.kind, &ends, &context.desk.home) {
        text.push_str(&format!("  {line}\n"));
    }
    text.push_str(&format!("\n{}\n", context.desk.home.shorten(&context.desk.home.job_file(name))));
    for line in job.keys.to_toml()?.lines() {
        text.push_str(&format!("  {line}\n"));
    }
    context.say(text.trim_end());
    job.idle_keys().into_iter().for_each(|words| context.warn(words));
    Ok(0)
}

fn edit(context: &Context, name: &str, keys: JobKeys, unset: &[String]) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    if keys == JobKeys::default() && unset.is_empty() {
        return edit_by_hand(context, name);
    }
    for key in unset {
        let key = key.replace('-', "_");
        if !JobKeys::NAMES.contains(&key.as_str()) {
            let known: Vec<String> = JobKeys::NAMES.iter().map(|name| (*name).to_owned()).collect();
            return Err(Failure::usage(format!("there is no key \"{key}\""))
                .hint(crate::failure::suggestion(&key, &known, "key")));
        }
    }
    let new_job = checked(context, name, job.keys.clone().overlaid(keys.clone()))?;
    refuse_bad_ends(context, &Ends::of(&new_job, &context.desk.home, &context.desk.settings)?)?;
    let given: Vec<String> = [&keys.from, &keys.to].into_iter().flatten().cloned().collect();
    let given = [given, keys.left.iter().chain(&keys.right).cloned().collect()].concat();
    let given = given
        .iter()
        .map(|place| written_for_keeping(&context.desk.home, &context.desk.settings, place))
        .collect::<Outcome<Vec<_>>>()?;
    change_file(context, name, |document| {
        set_keys(
            document,
            &JobKeys {
                from: changed(&keys.from, &new_job.keys.from),
                to: changed(&keys.to, &new_job.keys.to),
                left: new_job.keys.left.clone().filter(|_| keys.left.is_some()),
                right: new_job.keys.right.clone().filter(|_| keys.right.is_some()),
                ..keys
            },
        )?;
        for key in unset {
            document.remove(&key.replace('-', "_"));
        }
        Ok(())
    })?;
    if !given.is_empty() {
        let ends = Ends::of(&new_job, &context.desk.home, &context.desk.settings)?;
        remember_places(context, &new_job, &ends, |place| given.iter().any(|given| given == place))?;
    }
    context.say(format!("The job {} is changed.", styled(BOLD, name)));
    for (key, was, now) in replaced_lists(&job.keys, &new_job.keys) {
        context.say(format!("  {key} was {was}; now it is {now}."));
    }
    new_job.idle_keys().into_iter().for_each(|words| context.warn(words));
    if new_job.rules.odd_names == OddNames::Report && job.rules.odd_names == OddNames::Encode {
        context.warn("names that were spelled as %XX stay as they are and are still understood; new ones that a place cannot hold are reported and left out from now on");
    }
    if new_job.rules.removed == Removed::Erase && job.rules.removed == Removed::Keep {
        context.warn("what this job removes is erased for good from now on");
    }
    Ok(0)
}

/// The lists of which lines are gone: an option replaces a list whole, which is easily not what was meant.
fn replaced_lists(old: &JobKeys, new: &JobKeys) -> Vec<(&'static str, String, String)> {
    let shown = |lines: &[String]| match lines {
        [] => "empty".to_owned(),
        lines => lines.iter().map(|line| format!("\"{line}\"")).collect::<Vec<_>>().join(", "),
    };
    let texts = |keys: &JobKeys| {
        let policies = keys.conflict_for.iter().map(|one| format!("{} {}", one.0, one.1)).collect();
        let limits = keys.limit.iter().map(ToString::to_string).collect();
        [keys.exclude.clone(), keys.only.clone(), keys.from.clone(), keys.to.clone(), policies, limits]
    };
    let names = ["exclude", "only", "from", "to", "conflict_for", "limit"];
    let pairs = names.into_iter().zip(texts(old).into_iter().zip(texts(new)));
    let lost = pairs.filter(|(_, (was, now))| was.iter().any(|line| !now.contains(line)));
    lost.map(|(name, (was, now))| (name, shown(&was), shown(&now))).collect()
}

/// The new list when the option was given, nothing otherwise.
fn changed(given: &[String], new: &[String]) -> Vec<String> {
    if given.is_empty() { Vec::new() } else { new.to_vec() }
}

fn set_keys(document: &mut toml_edit::DocumentMut, keys: &JobKeys) -> Outcome<()> {
    let text = keys.to_toml()?;
    let given: toml_edit::DocumentMut = text
        .parse()
        .map_err(|error: toml_edit::TomlError| Failure::own_files("cannot change the job", error))?;
    for (key, item) in given.iter() {
        document[key] = item.clone();
    }
    Ok(())
}

/// Opens a copy of the job in the person's editor and takes it over when it is valid.
fn edit_by_hand(context: &Context, name: &str) -> Outcome {
    let file = context.desk.home.job_file(name);
    if !context.can_ask() {
        return Err(Failure::usage("nothing to change was given")
            .hint(format!("Give options such as --exclude '*.tmp', or edit {} yourself.", file.display())));
    }
    let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.trim().is_empty());
    let editor = variable("VISUAL").or_else(|| variable("EDITOR")).unwrap_or_else(|| "vi".to_owned());
    let draft = file.with_extension("draft");
    // The editor's text lies there until it is taken over: closed like the job itself.
    let text = fs::read_to_string(&file).map_err(|error| Failure::own_files("cannot edit the job", error))?;
    let failed = |error: std::io::Error| Failure::own_files("cannot edit the job", error);
    write_file(&draft, &text)?;
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or("vi");
    let status = child::command(program).args(words).arg(&draft).status().map_err(failed)?;
    let text = fs::read_to_string(&draft).map_err(failed)?;
    let valid = parse(&text, &draft).and_then(|keys| Job::new(name, keys));
    match valid {
        Ok(_) if status.success() => {
            write_file(&file, &text)?;
            fs::remove_file(&draft).map_err(failed)?;
            context.say(format!("The job {} is changed.", styled(BOLD, name)));
            Ok(0)
        }
        Ok(_) => Err(Failure::usage(format!("the editor \"{editor}\" failed; the job is as it was"))),
        Err(failure) => {
            Err(failure.hint(format!("The job is as it was; your text is in {}.", draft.display())))
        }
    }
}

fn rename(context: &Context, name: &str, new_name: &str) -> Outcome {
    load_job(&context.desk.home, name)?;
    check_name(new_name, "job")?;
    unused(context, new_name)?;
    let failed = |error: std::io::Error| Failure::own_files("cannot rename the job", error);
    // A run that is going on would go on writing under the old name.
    let _locks = [JobLock::take(&context.desk.home, name)?, JobLock::take(&context.desk.home, new_name)?];
    context.desk.home.record()?.rename_job(name, new_name)?;
    let (old_logs, new_logs) = (context.desk.home.run_logs(name), context.desk.home.run_logs(new_name));
    match fs::read_dir(&old_logs) {
        Ok(logs) => {
            make_folder(&new_logs)?;
            for log in logs.flatten() {
                fs::rename(log.path(), new_logs.join(log.file_name())).map_err(failed)?;
            }
            fs::remove_dir(&old_logs).map_err(failed)?;
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
        Err(error) => return Err(failed(error)),
    }
    fs::rename(context.desk.home.job_file(name), context.desk.home.job_file(new_name)).map_err(failed)?;
    context.say(format!("The job {name} is now called {}.", styled(BOLD, new_name)));
    Ok(0)
}

fn remove(context: &Context, name: &str) -> Outcome {
    let file = context.desk.home.job_file(name);
    if !file.exists() {
        load_job(&context.desk.home, name)?;
    }
    if context.can_ask() && !context.global.yes && !ask::yes(&format!("Remove the job {name}?"), false)? {
        return Ok(0);
    }
    let _lock = JobLock::take(&context.desk.home, name)?;
    let text = fs::read_to_string(&file).unwrap_or_default();
    fs::remove_file(&file).map_err(|error| Failure::own_files("cannot remove the job", error))?;
    context.say(format!(
        "The job {} is removed; its sides and its history are untouched. It was:",
        styled(BOLD, name)
    ));
    for line in text.lines() {
        context.say(format!("  {line}"));
    }
    Ok(0)
}

fn export(context: &Context, name: &str, to: Option<PathBuf>) -> Outcome {
    load_job(&context.desk.home, name)?;
    let file = context.desk.home.job_file(name);
    let text = fs::read_to_string(&file).map_err(|error| Failure::own_files("cannot read the job", error))?;
    match to {
        Some(target) => {
            let mut out = named_file::begin(context, &target, Mark::None, &[])?;
            out.write_all(text.as_bytes()).map_err(|error| failed(&target, error))?;
            named_file::written(context, out)?;
            Ok(0)
        }
        None => {
            print_text(text.trim_end());
            Ok(0)
        }
    }
}

fn import(context: &Context, file: &Path, name: Option<String>) -> Outcome {
    let text = open_plain(file)
        .and_then(std::io::read_to_string)
        .map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?;
    let stem = file.file_stem().and_then(std::ffi::OsStr::to_str).unwrap_or_default();
    let name = name.unwrap_or_else(|| stem.to_owned());
    check_name(&name, "job")?;
    unused(context, &name)?;
    let job = Job::new(&name, parse(&text, file)?)?;
    let ends = Ends::of(&job, &context.desk.home, &context.desk.settings)?;
    let text = if agreed_to(context, &job)? { text } else { paused(&text, file)? };
    write_file(&context.desk.home.job_file(&name), &text)?;
    let job = load_job(&context.desk.home, &name)?;
    remember_places(context, &job, &ends, |_| true)?;
    announce(context, &job, &ends);
    Ok(0)
}

/// Whether a job that somebody else has written may begin by itself, and run its commands: they are shown first, and a yes is asked for.
/// One that does neither needs none.
fn agreed_to(context: &Context, job: &Job) -> Outcome<bool> {
    let commands = command_words(job);
    if commands.is_none() && job.timing.when.is_empty() {
        return Ok(true);
    }
    // Without a question they are told with what is said of the job that is set up.
    if context.global.yes || !context.can_ask() {
        return Ok(context.global.yes);
    }
    if let Some(words) = commands {
        context.warn(words);
    }
    let when: Vec<String> = job.timing.when.iter().map(ToString::to_string).collect();
    let question = match when.is_empty() {
        true => "Let its runs do that?".to_owned(),
        false => format!("Let it run by itself ({})?", escaped(&when.join(", "))),
    };
    ask::yes(&question, false)
}

/// The text of a job file in which nothing begins by itself.
fn paused(text: &str, file: &Path) -> Outcome<String> {
    let document = text.parse::<toml_edit::DocumentMut>();
    let mut document = document.map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?;
    document["paused"] = toml_edit::value(true);
    Ok(document.to_string())
}
