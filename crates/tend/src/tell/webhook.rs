//! Telling a web server.

use reedhook_jobs::desk::Desk;
use reedhook_jobs::notify::WebhookKeys;
use reedhook_jobs::reach::secret_for;
use reedhook_stores::remote::connect::Trust;
use reedhook_stores::remote::post::post_json;

use super::message::Message;
use crate::tell::waiting::{WITHIN, within};

/// What its token is kept under: no store can have such a name.
pub(super) const KEPT_AS: &str = "notify webhook";

pub(super) fn send(desk: &Desk, keys: &WebhookKeys, message: &Message, left_out: u64) -> Result<(), String> {
    let token = secret_for(desk, keys.secret.as_deref(), KEPT_AS)?;
    let authorities = keys.authorities.as_ref().map(|file| desk.home.expand(&file.to_string_lossy()));
    let (url, body) = (keys.url.clone(), message.json(left_out));
    within(desk, "the web server did not answer within half a minute", move || {
        post_json(&url, body, token.as_ref(), &Trust { authorities }, WITHIN)
            .map_err(|error| error.to_string())
    })
}
