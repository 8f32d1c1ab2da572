//! `tend`: the service in the foreground, and what is said to one that runs.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use reedhook_jobs::desk::Event;
use reedhook_jobs::jobfile::load_job;
use reedhook_jobs::run::{RunResult, finished};
use reedhook_record::Outcome as RunOutcome;
use reedhook_tend::socket::{self, Answer, Request};
use reedhook_tend::{Happening, Outside, Service, ServiceObserver, Waiting, finishing_line};
use serde_json::{Value, json};

use super::install;
use super::job::change_file;
use super::when::{instant_of, is_tended, tell_service};
use crate::args::{TendCommand, YesOrNo};
use crate::clock;
use crate::context::{Context, print_text, warn};
use crate::failure::{Cause, Failure, Outcome};
use crate::json as lines;
use crate::text::{
    Align, BAD, BOLD, CARE, Columns, DIM, GOOD, count, finishing_words, moment, overdue_words, result_of,
    styled,
};

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
        Happening::Tending { jobs, next, .. } => {
            let mut line =
                lines::object(json!({"event": "tending", "jobs": jobs.0, "by_themselves": jobs.1}));
            if let Some((job, at, rule)) = next {
                line.insert("next".into(), json!({"job": job, "at": instant_of(*at), "line": rule}));
            }
            lines::print(&line.into());
        }
        Happening::Began { job, reason, line } => {
            let mut object = lines::object(json!({"event": "began", "job": job, "cause": reason.as_str()}));
            if let Some(line) = line {
                object.insert("line".into(), json!(line));
            }
            lines::print(&object.into());
        }
        Happening::InRun { job, event: Event::Did { line: Some(line), .. } } => {
            lines::print_line(&of_job(job, line))
        }
        Happening::InRun { job, event: Event::Note(text) } => warn(format!("{job}: {text}")),
        Happening::InRun { .. } => {}
        Happening::Ended { job, result } => lines::print(&finished(job, result)),
        Happening::Failed { job, failure } => lines::print(&json!({
            "event": "failure", "job": job, "code": failure.code(), "message": failure.text(),
            "exit": crate::failure::exit_of(failure),
        })),
        Happening::Waiting { job, reason, waiting } => {
            let mut object = lines::object(
                json!({"event": "waiting", "job": job, "cause": reason.as_str(), "for": waiting.as_str()}),
            );
            match waiting {
                Waiting::For(other) => drop(object.insert("behind".into(), json!(other))),
                Waiting::Retry(at) => drop(object.insert("until".into(), json!(instant_of(*at)))),
                _ => {}
            }
            lines::print(&object.into());
        }
        Happening::Overdue { job, overdue } => {
            let (seconds, never) = (overdue.seconds, overdue.never);
            lines::print(&json!({"event": "overdue", "job": job, "seconds": seconds, "never": never}));
        }
        Happening::Finishing { job, finishing } => lines::print(&finishing_line(job, finishing)),
        Happening::Note(text) => warn(text),
        Happening::Ending => lines::print(&json!({"event": "ending"})),
    }
    // Who reads along wants each line when it is written.
    crate::output::note(std::io::Write::flush(&mut std::io::stdout()));
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
            Happening::Tending { jobs: (all, by_themselves), longest, next } => {
                self.column.store(*longest, Ordering::Relaxed);
                let next = match next {
                    Some((job, at, line)) => {
                        format!(" Next: {job} at {} ({line}).", moment(at.as_millisecond()))
                    }
                    None => String::new(),
                };
                let jobs = count(*by_themselves as u64, "job", "jobs");
                let others = match all - by_themselves {
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
                    |line| match reason.as_str() {
                        "missed" => format!("missed: {line}"),
                        _ => line.to_owned(),
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
        Waiting::Answer => format!("asks whether it may begin: reedhook tend answer {job} yes|no"),
        Waiting::Retry(at) => format!("is tried again at {}", moment(at.as_millisecond())),
    }
}

/// Asks the service, which must be there.
fn ask(context: &Context, request: &Request) -> Outcome<Answer> {
    let answer = socket::ask(context.desk.home.state(), request).map_err(|error| {
        Failure::refused(Cause::NotTending, format!("the service does not answer: {error}"))
    })?;
    let answer = match answer {
        Some(answer) => answer,
        None => {
            return Err(Failure::refused(Cause::NotTending, "the service is not running")
                .hint("Start it with `reedhook tend`, or set it up with `reedhook tend install`."));
        }
    };
    match answer.iter().find(|line| line["event"] == "refused") {
        Some(refused) => {
            let message = refused["message"].as_str().unwrap_or("it was refused");
            Err(Failure::refused(Cause::Usage, message))
        }
        None => Ok(answer),
    }
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
        answer.iter().for_each(lines::print);
        return Ok(0);
    }
    let text = |line: &Value, key: &str| line[key].as_str().unwrap_or_default().to_owned();
    let Some((service, jobs)) = answer.split_first() else { return Ok(0) };
    let since = text(service, "since").parse::<jiff::Timestamp>().map(|since| moment(since.as_millisecond()));
    context.say(format!(
        "The service runs since {} as process {}, and follows {}.\n",
        since.unwrap_or_default(),
        service["pid"],
        count(service["jobs"].as_u64().unwrap_or_default(), "job", "jobs")
    ));
    let mut table = Columns::new(&[Align::Left; 3]);
    table.heading(&["job", "now", "next"]);
    for line in jobs {
        let next = match (text(line, "next").parse::<jiff::Timestamp>(), text(line, "line")) {
            (Ok(at), rule) => format!("{} ({rule})", super::when::shown(context, at)),
            _ => String::new(),
        };
        let (style, now) = state_words(line);
        table.styled_row(style, vec![text(line, "job"), now, next]);
    }
    context.say(table.render(0).trim_end());
    if let Some(why) = service["message"].as_str() {
        context.warn(why);
    }
    if let Some(finally) = service["finally"].as_object() {
        let (job, what) = (&finally["job"], finally["do"].as_str().unwrap_or_default());
        let job = job.as_str().unwrap_or_default();
        let does = if what == "suspend" { "is suspended" } else { "powers off" };
        let soon = finally["seconds"].as_u64();
        let soon = soon.map_or("when nothing runs any more".to_owned(), |left| format!("in {left} s"));
        context.warn(format!("This machine {does} {soon}. To leave it on: reedhook tend answer {job} no"));
    }
    if let Some(store) = service["looking_through"].as_str() {
        context.say(format!("\n{store} is being looked through for its inventory; a run there goes first."));
    }
    for line in jobs.iter().filter(|line| line["message"].is_string()) {
        context.warn(format!("{}: {}", text(line, "job"), text(line, "message")));
    }
    Ok(0)
}

/// What a job does, as the service tells it.
pub fn state_words(line: &Value) -> (anstyle::Style, String) {
    let plain = anstyle::Style::new();
    let cause = line["cause"].as_str().unwrap_or_default();
    match line["state"].as_str().unwrap_or_default() {
        "running" => (GOOD, format!("running ({cause})")),
        "waiting" => {
            let what = match (line["for"].as_str(), line["behind"].as_str()) {
                (_, Some(job)) => format!("waits for {job}"),
                (Some("answer"), _) => "asks for a yes".to_owned(),
                (Some("power"), _) => "waits for the mains".to_owned(),
                (Some("retry"), _) => "is tried again".to_owned(),
                _ => "waits for its turn".to_owned(),
            };
            (CARE, format!("{what} ({cause})"))
        }
        "paused" => (CARE, "paused".to_owned()),
        "broken" => (BAD, "cannot be read".to_owned()),
        "asked-only" => (DIM, "only when asked".to_owned()),
        _ => match (line["watched"].as_u64(), line["sides"].as_u64(), line["folders"].as_u64()) {
            (Some(watched), Some(sides), Some(folders)) if watched == sides && sides > 0 => {
                (plain, format!("watches {}", count(folders, "folder", "folders")))
            }
            (Some(0), ..) => (CARE, "looks every so often".to_owned()),
            (Some(watched), Some(sides), _) => (plain, format!("watches {watched} of {sides} sides")),
            _ => (plain, "idle".to_owned()),
        },
    }
}
