//! `tend`: the service in the foreground, and what is said to one that runs.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use reedhook_core::when::Finally;
use reedhook_jobs::jobfile::load_job;
use reedhook_jobs::observer::Event;
use reedhook_jobs::run::RunResult;
use reedhook_record::Outcome as RunOutcome;
use reedhook_tend::protocol::{Follows, JobState, JobWord, NearEnd, Request, Told, WaitsFor};
use reedhook_tend::socket::{self, Answer};
use reedhook_tend::{Happening, Outside, Reason, Service, ServiceObserver, Waiting};
use serde_json::{Value, json};

use super::install;
use super::when::{is_tended, tell_service};
use crate::args::{TendCommand, YesOrNo};
use crate::commands::job_files::change_file;
use crate::context::{Context, print_text};
use crate::failure::{Cause, Failure, Outcome};
use crate::say::warn;
use crate::text::{
    Align, BAD, BOLD, CARE, Columns, DIM, GOOD, count, finishing_words, moment, overdue_words, result_of,
    styled,
};
use crate::{clock, json as lines};

/// Carries out `tend` and what is below it.
pub fn tend(context: &Context, command: Option<TendCommand>) -> Outcome {
    match command {
        None => serve(context),
        Some(TendCommand::Status) => status(context),
        Some(TendCommand::Stop) => stop(context),
        Some(TendCommand::Run { job }) => {
            load_job(&context.desk.home, &job)?;
            ask(context, &Request::Run { job: job.clone() })?;
            context.say(format!("The service runs {job} as soon as it may."));
            Ok(0)
        }
        Some(TendCommand::Answer { job, answer }) => {
            load_job(&context.desk.home, &job)?;
            let yes = answer == YesOrNo::Yes;
            ask(context, &Request::Answer { job: job.clone(), yes })?;
            context.say(if yes { format!("{job} begins.") } else { format!("{job} is left for this time.") });
            Ok(0)
        }
        Some(TendCommand::Pause { job, off }) => pause(context, &job, off),
        Some(TendCommand::Install { system, print }) => install::service(context, system, print),
        Some(TendCommand::Remove { system }) => install::remove_service(context, system),
    }
}

fn serve(context: &Context) -> Outcome {
    let signs = crate::signals::of_a_service()
        .map_err(|error| Failure::own_files("cannot listen for signals", error))?;
    let outside = Outside { zone: clock::zone_now, signs };
    let told = ServicePrinter {
        json: context.global.json,
        quiet: context.global.quiet,
        verbose: context.global.verbose,
        column: AtomicUsize::new(0),
    };
    Service::take_place(context.desk.clone(), outside, Arc::new(told))?.run()?;
    Ok(0)
}

/// Tells on the terminal, or in lines of JSON, what the service does.
struct ServicePrinter {
    json: bool,
    quiet: bool,
    verbose: bool,
    /// How wide the names of jobs are shown.
    column: AtomicUsize,
}

impl ServiceObserver for ServicePrinter {
    fn observe(&self, happening: &Happening<'_>) {
        if self.json { in_json(happening) } else { self.in_words(happening) }
    }
}

fn in_json(happening: &Happening<'_>) {
    match happening {
        Happening::InRun { job, event: Event::Did { line: Some(line), .. } } => {
            lines::print_line(&of_job(job, line))
        }
        Happening::InRun { job, event: Event::Note(text) } => warn(format!("{job}: {text}")),
        Happening::Note(text) => warn(text),
        happening => {
            let told = Told::of(happening, jiff::Timestamp::now(), &clock::zone_now());
            if let Some(told) = told.map(|told| with_exit(told, happening)) {
                lines::print(&json!(told));
            }
        }
    }
    // Who reads along wants each line when it is written.
    crate::output::note(std::io::Write::flush(&mut std::io::stdout()));
}

/// The exit code that a command would have had.
fn with_exit(told: Told, happening: &Happening<'_>) -> Told {
    match (told, happening) {
        (Told::Failure { job, code, message, at, .. }, Happening::Failed { failure, .. }) => {
            let exit = Some(crate::failure::exit_of(failure));
            Told::Failure { job, code, message, exit, at }
        }
        (told, _) => told,
    }
}

/// A run's line of JSON with the job's name in it.
fn of_job(job: &str, line: &[u8]) -> Vec<u8> {
    let keys = line.strip_prefix(b"{").unwrap_or(line);
    let mut named = format!("{{\"job\":{},", Value::from(job)).into_bytes();
    named.extend_from_slice(keys);
    named
}

impl ServicePrinter {
    fn in_words(&self, happening: &Happening<'_>) {
        match happening {
            Happening::Tending(state) => {
                let next = state.next.as_ref().map_or(String::new(), |next| {
                    let at = next.at.parse::<jiff::Timestamp>().map(|at| moment(at.as_millisecond()));
                    format!(" Next: {} at {} ({}).", next.job, at.unwrap_or_default(), next.line)
                });
                let jobs = count(state.by_themselves as u64, "job", "jobs");
                let others = match state.jobs - state.by_themselves {
                    0 => String::new(),
                    others => {
                        format!(" {} only when asked.", count(others as u64, "other runs", "others run"))
                    }
                };
                self.say(format!("Following {jobs}.{others}{next}"));
            }
            Happening::Began { job, reason, line } => {
                let why = line.map_or_else(
                    || reason.to_string(),
                    |line| match reason {
                        Reason::Missed => format!("missed: {line}"),
                        _ => (*line).to_owned(),
                    },
                );
                self.line(job, &format!("begins {}", styled(DIM, format!("({why})"))));
            }
            Happening::InRun { job, event: Event::Did { event, line: Some(_) } } if self.verbose => {
                if let reedhook_core::run::Event::Item(item) = event {
                    self.line(job, &format!("{} {}", item.done.as_str(), item.path));
                }
            }
            Happening::InRun { job, event: Event::Note(text) } => warn(format!("{job}: {text}")),
            Happening::InRun { .. } => {}
            Happening::Ended { job, result } => self.ended(job, result),
            Happening::Failed { job, failure } => {
                print_text(format!("{}  {}  {}", now(), self.name(job), styled(BAD, failure.text())));
            }
            Happening::Waiting { job, waiting, .. } => self.line(job, &waiting_words(job, waiting)),
            Happening::Overdue { job, overdue } => warn(overdue_words(job, *overdue, clock::now_ms())),
            Happening::Finishing { job, finishing } => {
                let no = format!("To leave it on: reedhook tend answer {job} no");
                warn(finishing_words(finishing, &no));
            }
            Happening::Note(text) => warn(text),
            Happening::Ending => {
                self.say("Ending. What goes on ends whole, and goes on with the next start.".to_owned())
            }
        }
    }

    fn ended(&self, job: &str, result: &RunResult) {
        let style = match result.outcome {
            RunOutcome::Done => GOOD,
            RunOutcome::Problems | RunOutcome::Held | RunOutcome::Interrupted => CARE,
            RunOutcome::Refused | RunOutcome::Stopped | RunOutcome::Unfinished => BAD,
        };
        let words = styled(style, result_of(&result.as_end()));
        let why = result.failure.as_ref().map(|failure| format!("\n  {failure}")).unwrap_or_default();
        if result.outcome == RunOutcome::Done {
            self.line(job, &words);
        } else {
            print_text(format!("{}  {}  {words}{why}", now(), self.name(job)));
        }
    }

    fn line(&self, job: &str, words: &str) {
        self.say(format!("{}  {}  {words}", now(), self.name(job)));
    }

    /// A job's name, as wide as the longest.
    fn name(&self, job: &str) -> String {
        let gap = self.column.load(Ordering::Relaxed).saturating_sub(job.chars().count());
        format!("{}{}", styled(BOLD, job), " ".repeat(gap))
    }

    fn say(&self, text: String) {
        if !self.quiet {
            print_text(text);
        }
    }
}

fn now() -> String {
    let now = jiff::Timestamp::now().to_zoned(clock::zone_now());
    now.strftime("%H:%M:%S").to_string()
}

fn waiting_words(job: &str, waiting: &Waiting) -> String {
    match waiting {
        Waiting::For(other) => format!("waits for {other}, which works at one of its places"),
        Waiting::Turn => "waits for its turn".to_owned(),
        Waiting::Power => "waits for the mains".to_owned(),
        Waiting::Silence => "waits for its places, which do not answer".to_owned(),
        Waiting::Answer => format!("asks whether it may begin: reedhook tend answer {job} yes|no"),
        Waiting::Retry(at) => format!("is tried again at {}", moment(at.as_millisecond())),
    }
}

/// Asks the service, which must be there.
fn ask(context: &Context, request: &Request) -> Outcome<Answer> {
    let answer = socket::ask(context.desk.home.state(), request)
        .map_err(|error| Failure::refused(Cause::NotTending, error.to_string()))?;
    let answer = match answer {
        Some(answer) => answer,
        None => {
            return Err(Failure::refused(Cause::NotTending, "the service is not running")
                .hint("Start it with `reedhook tend`, or set it up with `reedhook tend install`."));
        }
    };
    let refused = answer.iter().find_map(|line| match line {
        Told::Refused { message } => Some(message),
        _ => None,
    });
    refused.map_or(Ok(answer.clone()), |message| Err(Failure::refused(Cause::Usage, message.clone())))
}

fn stop(context: &Context) -> Outcome {
    ask(context, &Request::Stop)?;
    let begun = std::time::Instant::now();
    while is_tended(context) {
        if begun.elapsed() > std::time::Duration::from_secs(10) {
            return Err(Failure::stopped(Cause::NotTending, "the service has not ended yet"));
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    context.say("The service has ended.");
    Ok(0)
}

/// Writes down whether a job is paused, and lets the service know.
pub fn set_paused(context: &Context, job: &str, paused: bool) -> Outcome<()> {
    change_file(context, job, |document| {
        if paused {
            document["paused"] = toml_edit::value(true);
        } else {
            document.remove("paused");
        }
        Ok(())
    })?;
    tell_service(context);
    Ok(())
}

fn pause(context: &Context, job: &str, off: bool) -> Outcome {
    let known = load_job(&context.desk.home, job)?;
    set_paused(context, job, !off)?;
    context.say(match (off, known.timing.when.is_empty()) {
        (true, _) => format!("{job} runs by itself again."),
        (false, true) => format!("{job} is paused; it does not run by itself anyway."),
        (false, false) => {
            format!("{job} is paused: nothing begins by itself until `reedhook tend pause {job} --off`.")
        }
    });
    Ok(0)
}

fn status(context: &Context) -> Outcome {
    let answer = ask(context, &Request::Status)?;
    if context.global.json {
        answer.iter().for_each(|line| lines::print(&json!(line)));
        return Ok(0);
    }
    let Some((Told::Tending(service), jobs)) = answer.split_first() else { return Ok(0) };
    let jobs = || {
        jobs.iter().filter_map(|line| match line {
            Told::Tended(job) => Some(job),
            _ => None,
        })
    };
    let since = service.since.parse::<jiff::Timestamp>().map(|since| moment(since.as_millisecond()));
    context.say(format!(
        "The service runs since {} as process {}, and follows {}.\n",
        since.unwrap_or_default(),
        service.pid,
        count(service.jobs as u64, "job", "jobs")
    ));
    let mut table = Columns::new(&[Align::Left; 3]);
    table.heading(&["job", "now", "next"]);
    for job in jobs() {
        let at = job.next.as_ref().and_then(|next| next.parse::<jiff::Timestamp>().ok());
        let next = at.map_or(String::new(), |at| {
            format!("{} ({})", super::when::shown(context, at), job.line.as_deref().unwrap_or_default())
        });
        let (style, now) = state_words(job);
        table.styled_row(style, vec![job.job.clone(), now, next]);
    }
    context.say(table.render(0).trim_end());
    service.message.iter().for_each(|why| context.warn(why));
    if let Some(NearEnd { job, what, seconds }) = &service.finally {
        let does = if *what == Finally::Suspend { "is suspended" } else { "powers off" };
        let soon = seconds.map_or("when nothing runs any more".to_owned(), |left| format!("in {left} s"));
        context.warn(format!("This machine {does} {soon}. To leave it on: reedhook tend answer {job} no"));
    }
    if let Some(store) = &service.looking_through {
        context.say(format!("\n{store} is being looked through for its inventory; a run there goes first."));
    }
    for job in jobs() {
        job.message.iter().for_each(|why| context.warn(format!("{}: {why}", job.job)));
    }
    Ok(0)
}

/// What a job does, as the service tells it.
pub fn state_words(job: &JobState) -> (anstyle::Style, String) {
    let plain = anstyle::Style::new();
    let cause = job.cause.map(|cause| format!(" ({cause})")).unwrap_or_default();
    match job.state {
        JobWord::Running => (GOOD, format!("running{cause}")),
        JobWord::Waiting => {
            let what = match &job.waits {
                Some(WaitsFor::Place { behind }) => format!("waits for {behind}"),
                Some(WaitsFor::Answer) => "asks for a yes".to_owned(),
                Some(WaitsFor::Power) => "waits for the mains".to_owned(),
                Some(WaitsFor::Silence) => "its places do not answer".to_owned(),
                Some(WaitsFor::Retry { until }) => {
                    let at = until.parse::<jiff::Timestamp>().map(|at| moment(at.as_millisecond()));
                    format!("is tried again at {}", at.unwrap_or_default())
                }
                Some(WaitsFor::Turn) | None => "waits for its turn".to_owned(),
            };
            (CARE, format!("{what}{cause}"))
        }
        JobWord::Paused => (CARE, "paused".to_owned()),
        JobWord::Broken => (BAD, "cannot be read".to_owned()),
        JobWord::AskedOnly => (DIM, "only when asked".to_owned()),
        JobWord::Idle => match job.follows {
            Some(Follows { watched, sides, folders }) if watched == sides && sides > 0 => {
                (plain, format!("watches {}", count(folders as u64, "folder", "folders")))
            }
            Some(Follows { watched: 0, .. }) => (CARE, "looks every so often".to_owned()),
            Some(Follows { watched, sides, .. }) => (plain, format!("watches {watched} of {sides} sides")),
            None => (plain, "idle".to_owned()),
        },
    }
}
