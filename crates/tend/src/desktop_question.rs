//! A question on the desktop, where there is one (Desktop Notifications Specification 1.3).

use crate::Reason;

/// Asks on the desktop whether a run may begin, and tells the answer from a thread of its own. Where there is no desktop, or nobody answers
/// there, nothing is told: the question stands, and can be answered elsewhere.
#[cfg(feature = "desktop")]
pub(crate) fn ask(job: &str, reason: Reason, answer: impl FnOnce(bool) + Send + 'static) {
    use notify_rust::{Notification, Timeout};

    let mut question = Notification::new();
    question
        .appname("Reedhook")
        .summary(&format!("May {job} begin?"))
        .body(&format!("It is wanted now ({reason}). Without an answer it waits."))
        .icon("folder-sync")
        .action("yes", "Run it")
        .action("no", "Not now")
        .timeout(Timeout::Never);
    // A desktop that hangs must not keep the service waiting.
    let asking = move || {
        let Ok(shown) = question.show() else { return };
        shown.wait_for_action(|word| match word {
            "yes" => answer(true),
            "no" => answer(false),
            _ => {}
        });
    };
    let _ = std::thread::Builder::new().name("bell".to_owned()).spawn(asking);
}

/// Built without desktops: nobody is asked there.
#[cfg(not(feature = "desktop"))]
pub(crate) fn ask(_job: &str, _reason: Reason, _answer: impl FnOnce(bool) + Send + 'static) {}
