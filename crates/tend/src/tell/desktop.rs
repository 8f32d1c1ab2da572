//! Telling whoever sits at the desktop (Desktop Notifications Specification 1.3).

use std::path::PathBuf;

use reedhook_jobs::desk::Desk;

use super::message::Message;

/// Whether this session has a message bus on which a desktop could listen. A machine without one has nobody to tell, and nothing failed.
pub(super) fn is_there(desk: &Desk) -> bool {
    let world = &desk.world;
    let of_the_session = || {
        let folder = world.text("XDG_RUNTIME_DIR").map(PathBuf::from);
        folder.is_some_and(|folder| folder.join("bus").exists())
    };
    cfg!(feature = "desktop") && (world.text("DBUS_SESSION_BUS_ADDRESS").is_some() || of_the_session())
}

/// Shows a message.
#[cfg(feature = "desktop")]
pub(super) fn show(message: &Message) -> Result<(), String> {
    use std::time::Duration;

    use notify_rust::{Notification, Urgency};

    /// A desktop that does not answer within this time hangs.
    const PATIENCE: Duration = Duration::from_secs(10);

    let mut shown = Notification::new();
    shown
        .appname("Reedhook")
        .summary(&message.subject)
        .body(&marked_up(&message.short()))
        .icon("folder-sync")
        .urgency(if message.is_well { Urgency::Low } else { Urgency::Normal });
    let (answer, answered) = crossbeam_channel::bounded(1);
    std::thread::Builder::new()
        .name("desktop".to_owned())
        .spawn(move || drop(answer.send(shown.show().map(drop).map_err(|error| error.to_string()))))
        .map_err(|error| error.to_string())?;
    answered.recv_timeout(PATIENCE).unwrap_or_else(|_| Err("the desktop does not answer".to_owned()))
}

/// Built without desktops: there is none to show anything.
#[cfg(not(feature = "desktop"))]
pub(super) fn show(_message: &Message) -> Result<(), String> {
    Err("this program was built without desktops".to_owned())
}

/// Names may look like markup; a desktop must show them as they are.
#[cfg(feature = "desktop")]
fn marked_up(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
