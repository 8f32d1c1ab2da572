//! What is told: one message, in the form that each way takes.

use jiff::Timestamp;
use reedhook_core::foreign::{escaped, escaped_lines};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::due::Overdue;
use reedhook_jobs::failure::Failure;
use reedhook_jobs::hooks::{self, Variables};
use reedhook_jobs::jobfile::Job;
use reedhook_jobs::lines::{self, JSON_VERSION};
use reedhook_jobs::run::{RunResult, Sort, finished};
use reedhook_jobs::words::fingerprint;
use reedhook_record::Outcome as RunOutcome;
use reedhook_report::figures::Report;
use reedhook_report::findings::verdict;
use reedhook_report::plain;
use reedhook_report::text::{count, moment_in};
use reedhook_report::words::{overdue_words, result_of};
use serde_json::{Map, Value, json};

/// Something to be told.
pub(super) struct Message {
    /// The job that it is about; empty for a digest or a trial.
    pub job: String,
    /// The run, by its name; may be empty.
    pub run: String,
    /// What it says, as a fingerprint: the same again is no news.
    pub what: String,
    /// Nobody need do anything.
    pub is_well: bool,
    /// One line.
    pub subject: String,
    /// All of it.
    body: String,
    /// The same for programs.
    line: Map<String, Value>,
    /// What commands are told.
    pub variables: Variables,
}

impl Message {
    pub(super) fn of_run(desk: &Desk, job: &Job, result: &RunResult) -> Message {
        let counts = &result.counts;
        let name = &job.name;
        let run = match result.sort {
            Sort::Job => name.clone(),
            sort => format!("{name}: {}", sort.as_str()),
        };
        let problems = count(counts.problems, "problem", "problems");
        let held = count(counts.conflicts, "conflict", "conflicts");
        let subject = match result.outcome {
            RunOutcome::Done => format!("{run} is done"),
            RunOutcome::Problems => format!("{run} had {problems}"),
            RunOutcome::Held => format!("{run} holds {held}"),
            RunOutcome::Refused => format!("{run} was refused"),
            RunOutcome::Stopped => format!("{run} was stopped on its way"),
            RunOutcome::Interrupted | RunOutcome::Unfinished => format!("{run} was interrupted"),
        };
        let mut body = String::new();
        if let Some(failure) = &result.failure {
            body.push_str(&format!("{}\n\n", failure.text()));
        }
        let now = (desk.world.now)();
        let began = now.as_millisecond() - i64::try_from(result.elapsed.as_millis()).unwrap_or(0);
        body.push_str(&format!("{}\n", result_of(&result.as_end())));
        body.push_str(&format!("Run {}, begun {}.\n", result.number, moment_in(began, &desk.world.zone)));
        for group in &result.problems {
            let items = count(group.count, "item", "items");
            let path = escaped(&String::from_utf8_lossy(&group.path));
            body.push_str(&format!("\n{}: {items}, such as {path}: {}\n", group.code, group.message));
            body.push_str(&format!("  {}\n", reedhook_core::problem::hint(&group.code)));
        }
        if counts.conflicts > 0 {
            body.push_str(&format!("\nLook at what is in conflict: reedhook conflicts {name}\n"));
        }
        if !result.problems.is_empty() {
            body.push_str(&format!("\nEach one: reedhook history {name} {}\n", result.number));
        }
        let mut line = lines::object(finished(name, result));
        line.insert("event".to_owned(), json!("run"));
        line.insert("number".to_owned(), json!(result.number));
        let causes = result.problems.iter().map(|group| {
            let path = String::from_utf8_lossy(&group.path);
            json!({"code": group.code, "count": group.count, "path": path, "message": group.message})
        });
        line.insert("causes".to_owned(), causes.collect());
        let code = result.failure.as_ref().map_or("", Failure::code);
        let groups = result.problems.iter().map(|group| (&group.code, group.count, &group.path));
        let groups: Vec<_> = groups.collect();
        Message {
            job: name.clone(),
            run: result.run.clone(),
            what: fingerprint(&format!("{} {code} {} {groups:?}", result.outcome.as_str(), counts.conflicts)),
            // Whoever has stopped it knows.
            is_well: matches!(result.outcome, RunOutcome::Done | RunOutcome::Interrupted),
            subject,
            body,
            line,
            variables: hooks::outcome(job, result),
        }
    }

    pub(super) fn of_failure(job: &Job, failure: &Failure) -> Message {
        let (name, code) = (&job.name, failure.code());
        let line = json!({"event": "run", "job": name, "run": null, "outcome": "refused", "code": code,
            "message": failure.text()});
        Message {
            job: name.clone(),
            run: String::new(),
            what: fingerprint(&format!("failed {code}")),
            is_well: false,
            subject: format!("{name} could not begin"),
            body: format!("{}\n", failure.text()),
            line: lines::object(line),
            variables: vec![
                ("REEDHOOK_JOB", name.clone()),
                ("REEDHOOK_OUTCOME", "refused".to_owned()),
                ("REEDHOOK_CODE", code.to_owned()),
                ("REEDHOOK_MESSAGE", failure.text()),
            ],
        }
    }

    pub(super) fn of_overdue(desk: &Desk, job: &Job, overdue: Overdue) -> Message {
        let name = &job.name;
        let words = overdue_words(name, overdue, desk.now_ms());
        let line =
            json!({"event": "overdue", "job": name, "seconds": overdue.seconds, "never": overdue.never});
        Message {
            job: name.clone(),
            run: String::new(),
            what: fingerprint("overdue"),
            is_well: false,
            subject: format!("{name} is overdue"),
            body: format!(
                "{words}.\n\nWhen it is due: reedhook when {name}\nRun it now: reedhook run {name}\n"
            ),
            line: lines::object(line),
            variables: vec![
                ("REEDHOOK_JOB", name.clone()),
                ("REEDHOOK_OUTCOME", "overdue".to_owned()),
                ("REEDHOOK_MESSAGE", words),
            ],
        }
    }

    pub(super) fn of_report(report: &Report, until: Timestamp) -> Message {
        let subject = verdict(report);
        let well = report.findings.is_empty();
        let total = report.total();
        let line = lines::object(json!({"event": "digest", "well": well,
            "since": lines::time(report.period.since.as_millisecond()), "until": lines::time(until.as_millisecond()),
            "runs": total.runs}));
        let findings = report.findings.iter().map(
            |one| json!({"code": one.code, "about": one.about, "message": one.words, "advice": one.advice}),
        );
        let mut line = lines::with_counts(line, &total.counts);
        line.insert("findings".to_owned(), findings.collect());
        Message {
            job: String::new(),
            run: String::new(),
            what: String::new(),
            is_well: well,
            subject: subject.trim_end_matches('.').to_owned(),
            body: plain::without_style(&plain::text(report)),
            line,
            variables: vec![
                ("REEDHOOK_OUTCOME", if well { "well" } else { "not-well" }.to_owned()),
                ("REEDHOOK_MESSAGE", subject),
            ],
        }
    }

    pub(super) fn trial(desk: &Desk) -> Message {
        let at = moment_in(desk.now_ms(), &desk.world.zone);
        let words = format!("This is a trial, sent {at}: what Reedhook has to tell arrives here.");
        Message {
            job: String::new(),
            run: String::new(),
            what: String::new(),
            is_well: true,
            subject: "a trial".to_owned(),
            body: format!("{words}\n"),
            line: lines::object(json!({"event": "trial"})),
            variables: vec![("REEDHOOK_OUTCOME", "trial".to_owned()), ("REEDHOOK_MESSAGE", words)],
        }
    }

    /// What it is about, in a word or two.
    pub(super) fn about(&self) -> &str {
        if self.job.is_empty() { "the digest" } else { &self.job }
    }

    /// As much as a desktop shows.
    #[cfg(feature = "desktop")]
    pub(super) fn short(&self) -> String {
        const LONGEST: usize = 400;
        let lines = self.body.lines().filter(|line| !line.trim().is_empty()).take(6);
        lines.collect::<Vec<_>>().join("\n").chars().take(LONGEST).collect()
    }

    /// All of it as text, with how many messages were held back before it.
    pub(super) fn text(&self, left_out: u64) -> String {
        let heading = if self.job.is_empty() { String::new() } else { format!("{}\n\n", self.subject) };
        escaped_lines(&format!("{heading}{}{}", self.body, left_out_words(left_out)))
    }

    /// The same as an object for programs. `text` is what a chat room shows.
    pub(super) fn json(&self, left_out: u64) -> String {
        let mut line = Map::from_iter([("v".to_owned(), json!(JSON_VERSION))]);
        line.extend(self.line.clone());
        line.insert("subject".to_owned(), json!(self.subject));
        line.insert("text".to_owned(), json!(self.text(left_out)));
        if left_out > 0 {
            line.insert("held_back".to_owned(), json!(left_out));
        }
        Value::Object(line).to_string()
    }
}

fn left_out_words(left_out: u64) -> String {
    match left_out {
        0 => String::new(),
        number => {
            let messages = count(number, "message", "messages");
            format!(
                "\n{messages} before this one were held back: too many in an hour. All of it: reedhook report\n"
            )
        }
    }
}
