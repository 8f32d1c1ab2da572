//! Letting the system begin runs: the service's unit, a job's timer or its part of the crontab, a launcher.
//!
//! Everything is shown with `--print`, is written by the user who asks, and is taken away again by the command beside it.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use reedhook_jobs::atomic_file::{Mark, Replace, failed, write_whole};
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_stores::child;
use reedhook_tend::install::{self, Program};

use crate::args::Means;
use crate::context::{Context, print_text};
use crate::failure::{Cause, Failure, Outcome};
use crate::named_file;

/// How this program is called, by whoever begins it.
fn program(context: &Context) -> Outcome<Program> {
    let file =
        std::env::current_exe().map_err(|error| Failure::own_files("cannot find this program", error))?;
    let home = context.desk.home.is_portable().then(|| context.desk.home.config().to_owned());
    Ok(Program { file, home })
}

/// Where units are.
fn units(context: &Context, system: bool) -> Outcome<PathBuf> {
    if system {
        return Ok(PathBuf::from("/etc/systemd/system"));
    }
    let config =
        context.desk.world.text("XDG_CONFIG_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let config = config.or_else(|| Some(context.desk.home.user_folder()?.join(".config")));
    let config = config.ok_or_else(|| Failure::usage("there is no home folder for units"))?;
    Ok(config.join("systemd/user"))
}

/// Sets the service up.
pub fn service(context: &Context, system: bool, print: bool) -> Outcome {
    let program = program(context)?;
    let (file, text) =
        (units(context, system)?.join(program.service_name()), install::service(&program, system));
    if print {
        shown(&[(&file, &text)]);
        lingering(context, system);
        return Ok(0);
    }
    if system && !context.desk.home.is_portable() {
        return Err(Failure::usage("a service of the whole machine needs a home of its own")
            .hint("For example: sudo reedhook --home /var/lib/reedhook tend install --system"));
    }
    write(&[(&file, &text)])?;
    system_does(system, &["daemon-reload"])?;
    system_does(system, &["enable", "--now", &program.service_name()])?;
    context.say(format!("The service runs, and starts by itself: {}", file.display()));
    lingering(context, system);
    Ok(0)
}

fn lingering(context: &Context, system: bool) {
    if !system {
        context.say("It ends when you log out. To have it run all the time: loginctl enable-linger");
    }
}

/// Takes the service's unit away.
pub fn remove_service(context: &Context, system: bool) -> Outcome {
    let program = program(context)?;
    let file = units(context, system)?.join(program.service_name());
    if !file.exists() {
        return Err(nothing(&file));
    }
    let stopped = system_does(system, &["disable", "--now", &program.service_name()]);
    erase(&file)?;
    stopped.and_then(|()| system_does(system, &["daemon-reload"]))?;
    context.say(format!(
        "The service is stopped, and does not start by itself any more. {} is removed.",
        file.display()
    ));
    Ok(0)
}

fn nothing(file: &Path) -> Failure {
    Failure::usage(format!("nothing is set up: there is no {}", file.display()))
}

/// Lets a timer, or the crontab, run a job.
pub fn job(context: &Context, job: &Job, print: bool, with: Option<Means>) -> Outcome {
    if job.timing.when.is_empty() {
        return Err(Failure::usage(format!("the job \"{}\" has no line that says when", job.name))
            .hint(format!("First: reedhook when {} set 'daily 18:00'", job.name)));
    }
    let with = with.unwrap_or(if print || has_systemd() { Means::Timer } else { Means::Crontab });
    match with {
        Means::Timer => timer(context, job, print),
        Means::Crontab => crontab(context, job, print),
    }
}

fn has_systemd() -> bool {
    Path::new("/run/systemd/system").is_dir()
}

fn refuse_unfit(job: &Job, unfit: &[String]) -> Outcome<()> {
    // One line that nothing can follow is worth a word; when it is all of them, there is nothing to set up.
    if unfit.len() < job.timing.when.len() {
        return Ok(());
    }
    Err(Failure::usage(format!("{}: {}", job.name, unfit.join("; "))))
}

fn warn_unfit(context: &Context, unfit: &[String]) {
    unfit.iter().for_each(|line| context.warn(line));
}

fn timer(context: &Context, job: &Job, print: bool) -> Outcome {
    let program = program(context)?;
    let (service, timer, unfit) = install::timer(&program, job);
    refuse_unfit(job, &unfit)?;
    warn_unfit(context, &unfit);
    let folder = units(context, false)?;
    let name = program.job_unit(&job.name);
    let files = [folder.join(format!("{name}.service")), folder.join(format!("{name}.timer"))];
    let both = [(files[0].as_path(), service.as_str()), (files[1].as_path(), timer.as_str())];
    if print {
        shown(&both);
        return Ok(0);
    }
    write(&both)?;
    system_does(false, &["daemon-reload"])?;
    system_does(false, &["enable", "--now", &format!("{name}.timer")])?;
    context.say(format!("A timer runs the job {}: {}", job.name, files[1].display()));
    lingering(context, false);
    Ok(0)
}

fn crontab(context: &Context, job: &Job, print: bool) -> Outcome {
    let program = program(context)?;
    let (part, unfit) = install::crontab(&program, job);
    refuse_unfit(job, &unfit)?;
    warn_unfit(context, &unfit);
    if print {
        print_text(part.trim_end());
        return Ok(0);
    }
    let old = read_crontab()?;
    write_crontab(&format!("{}{part}", install::without(&old, &program, &job.name)))?;
    context.say(format!("The crontab runs the job {} now:", job.name));
    part.lines().for_each(|line| context.say(format!("  {line}")));
    Ok(0)
}

/// Takes away whatever runs a job; also of a job that is gone.
pub fn remove_job(context: &Context, job: &str) -> Outcome {
    let program = program(context)?;
    let name = program.job_unit(job);
    let folder = units(context, false)?;
    let mut removed = Vec::new();
    let timer = folder.join(format!("{name}.timer"));
    if timer.exists() {
        let stopped = system_does(false, &["disable", "--now", &format!("{name}.timer")]);
        for file in [timer, folder.join(format!("{name}.service"))].into_iter().filter(|file| file.exists()) {
            erase(&file)?;
            removed.push(file.display().to_string());
        }
        stopped.and_then(|()| system_does(false, &["daemon-reload"]))?;
    }
    if let Ok(old) = read_crontab() {
        let new = install::without(&old, &program, job);
        if new != old {
            write_crontab(&new)?;
            removed.push("its part of the crontab".to_owned());
        }
    }
    if removed.is_empty() {
        load_job(&context.desk.home, job)?;
        return Err(Failure::usage(format!("nothing is set up that runs the job \"{job}\"")));
    }
    context.say(format!("Removed: {}.", removed.join(", ")));
    Ok(0)
}

/// What runs a job without the service, when something is set up that does.
pub fn runs_it(context: &Context, job: &str) -> Option<&'static str> {
    let program = program(context).ok()?;
    let timer = units(context, false).ok()?.join(format!("{}.timer", program.job_unit(job)));
    if timer.exists() {
        return Some("A timer of systemd");
    }
    let crontab = read_crontab().ok()?;
    (install::without(&crontab, &program, job) != crontab).then_some("The crontab")
}

fn shown(files: &[(&Path, &str)]) {
    for (file, text) in files {
        print_text(format!("# {}\n{}", file.display(), text.trim_end()));
        if files.last() != Some(&(*file, *text)) {
            print_text("");
        }
    }
}

fn write(files: &[(&Path, &str)]) -> Outcome<()> {
    for (file, text) in files {
        let parent = file.parent().unwrap_or(Path::new("/"));
        std::fs::create_dir_all(parent).map_err(|error| failed(file, error))?;
        // The names are our own, and a unit of that name is one that was installed before.
        write_whole(file, text.as_bytes(), Mark::None, Replace::Any)?;
    }
    Ok(())
}

fn erase(file: &Path) -> Outcome<()> {
    std::fs::remove_file(file)
        .map_err(|error| Failure::usage(format!("{} cannot be removed: {error}", file.display())))
}

/// Lets systemd do something.
fn system_does(system: bool, words: &[&str]) -> Outcome<()> {
    let mut command = child::command("systemctl");
    if !system {
        command.arg("--user");
    }
    let shown = format!("systemctl {}{}", if system { "" } else { "--user " }, words.join(" "));
    let failed = |why: String| {
        Failure { cause: Cause::OwnFiles, ..Failure::usage(format!("`{shown}` failed: {why}")) }.hint(
            "The files are written. Where there is no systemd: `reedhook when JOB install --with crontab`.",
        )
    };
    let output =
        command.args(words).stdin(Stdio::null()).output().map_err(|error| failed(error.to_string()))?;
    match output.status.success() {
        true => Ok(()),
        false => Err(failed(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
    }
}

fn no_crontab(why: impl std::fmt::Display) -> Failure {
    Failure::usage(format!("the crontab cannot be changed: {why}"))
        .hint("With --print it is only shown; a service does without it: reedhook tend install.")
}

fn read_crontab() -> Outcome<String> {
    let output = child::command("crontab").arg("-l").stdin(Stdio::null()).output().map_err(no_crontab)?;
    // Without any, it fails with a word about that.
    let none = String::from_utf8_lossy(&output.stderr).contains("no crontab");
    match output.status.success() || none {
        true => String::from_utf8(output.stdout).map_err(no_crontab),
        false => Err(no_crontab(String::from_utf8_lossy(&output.stderr).trim())),
    }
}

fn write_crontab(text: &str) -> Outcome<()> {
    let mut child = child::command("crontab").arg("-").stdin(Stdio::piped()).spawn().map_err(no_crontab)?;
    let written = child.stdin.take().map(|mut input| input.write_all(text.as_bytes()));
    written.transpose().map_err(no_crontab)?;
    match child.wait().map_err(no_crontab)?.success() {
        true => Ok(()),
        false => Err(no_crontab("it was not taken")),
    }
}

/// Writes a launcher for a job.
pub fn shortcut(context: &Context, name: &str, to: Option<PathBuf>) -> Outcome {
    let job = load_job(&context.desk.home, name)?;
    let folder = match to {
        Some(folder) => folder,
        None => desktop(context)
            .ok_or_else(|| Failure::usage("no desktop folder is found").hint("Say where with --to DIR."))?,
    };
    if !folder.is_dir() {
        return Err(Failure::usage(format!("{} is no folder", folder.display())));
    }
    let file = folder.join(format!("reedhook-{name}.desktop"));
    let mut out = named_file::begin(context, &file, Mark::LAUNCHER, &[])?;
    let text = install::launcher(&program(context)?, &job);
    out.write_all(text.as_bytes()).map_err(|error| failed(&file, error))?;
    // Desktops start only what may be run.
    out.finish_with(Some(0o755))?;
    context.say(format!(
        "Written to {}. A double click runs the job; the window stays until a key is pressed.",
        file.display()
    ));
    Ok(0)
}

/// The desktop of this user, as the desktop itself has it (XDG user directories).
fn desktop(context: &Context) -> Option<PathBuf> {
    let user = context.desk.home.user_folder()?;
    let config =
        context.desk.world.text("XDG_CONFIG_HOME").map_or_else(|| user.join(".config"), PathBuf::from);
    let told = std::fs::read_to_string(config.join("user-dirs.dirs")).unwrap_or_default();
    let told = told.lines().find_map(|line| line.strip_prefix("XDG_DESKTOP_DIR="));
    let told = told.map(|value| value.trim_matches('"').replace("$HOME", &user.display().to_string()));
    [told.map(PathBuf::from), Some(user.join("Desktop"))].into_iter().flatten().find(|folder| folder.is_dir())
}
