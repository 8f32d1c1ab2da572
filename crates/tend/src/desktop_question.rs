//! A question on the desktop, where there is one (Desktop Notifications Specification 1.3).

use std::time::Duration;

use reedhook_core::when::Finally;

use crate::happening::Reason;

/// Asks on the desktop whether a run may begin.
pub(crate) fn may_begin(job: &str, reason: Reason, answer: impl FnOnce(bool) + Send + 'static) {
    let body = format!("It is wanted now ({reason}). Without an answer it waits.");
    ask(&format!("May {job} begin?"), &body, ("Run it", "Not now"), None, answer);
}

/// Asks on the desktop whether the machine may go down.
pub(crate) fn may_finish(what: Finally, left: Duration, answer: impl FnOnce(bool) + Send + 'static) {
    let (does, now) = match what {
        Finally::Suspend => ("is suspended", "Suspend now"),
        _ => ("is powered off", "Power off now"),
    };
    let summary = format!("This machine {does} in {} s", left.as_secs());
    ask(&summary, "All runs are over.", (now, "Leave it on"), Some(left), answer);
}

/// Asks on the desktop, and tells the answer from a thread of its own. Where there is no desktop, or nobody answers there, nothing is told:
/// the question stands, and can be answered elsewhere.
#[cfg(feature = "desktop")]
fn ask(
    summary: &str,
    body: &str,
    (yes, no): (&str, &str),
    within: Option<Duration>,
    answer: impl FnOnce(bool) + Send + 'static,
) {
    use notify_rust::{Notification, Timeout};

    let mut question = Notification::new();
    question
        .appname("Reedhook")
        .summary(summary)
        .body(body)
        .icon("folder-sync")
        .action("yes", yes)
        .action("no", no)
        .timeout(within.map_or(Timeout::Never, Timeout::from));
    // A desktop that hangs must not keep the service waiting.
    let asking = move || {
        let Ok(shown) = question.show() else { return };
        shown.wait_for_action(|word| match word {
            "yes" => answer(true),
            "no" => answer(false),
            _ => {}
        });
    };
    let _ = std::thread::Builder::new().name("question".to_owned()).spawn(asking);
}

/// Built without desktops: nobody is asked there.
#[cfg(not(feature = "desktop"))]
fn ask(_: &str, _: &str, _: (&str, &str), _: Option<Duration>, _: impl FnOnce(bool) + Send + 'static) {}
