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
pub(super) fn show(desk: &Desk, message: &Message) -> Result<(), String> {
    use notify_rust::{Notification, Urgency};

    let mut shown = Notification::new();
    shown
        .appname("Reedhook")
        .summary(&message.subject)
        .body(&marked_up(&message.short()))
        .icon("folder-sync")
        .urgency(if message.is_well { Urgency::Low } else { Urgency::Normal });
    super::waiting::within(desk, "the desktop does not answer", move || {
        shown.show().map(drop).map_err(|error| error.to_string())
    })
}

/// Built without desktops: there is none to show anything.
#[cfg(not(feature = "desktop"))]
pub(super) fn show(_desk: &Desk, _message: &Message) -> Result<(), String> {
    Err("this program was built without desktops".to_owned())
}

/// Names may look like markup; a desktop must show them as they are.
#[cfg(feature = "desktop")]
fn marked_up(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
