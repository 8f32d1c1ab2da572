//! Telling by mail: over TLS to a server, or through the machine's own `sendmail`.

use std::error::Error;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;

use lettre::message::Mailbox;
use lettre::message::header::{ContentType, HeaderName, HeaderValue};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{SendmailTransport, SmtpTransport, Transport};
use reedhook_jobs::desk::Desk;
use reedhook_jobs::notify::MailKeys;
use reedhook_jobs::reach::secret_for;
use reedhook_stores::remote::connect::is_loopback;
use url::Url;

use super::message::Message;
use crate::tell::waiting::within;

/// What its password is kept under: no store can have such a name.
pub(super) const KEPT_AS: &str = "notify mail";

const SLOW: &str = "the mail server did not take it within half a minute";

/// A server must answer each line within this time.
const ANSWER_WITHIN: Duration = Duration::from_secs(15);

pub(super) fn send(desk: &Desk, keys: &MailKeys, message: &Message, left_out: u64) -> Result<(), String> {
    let mail = written(keys, message, left_out)?;
    match &keys.server {
        Some(server) => {
            let transport = over_smtp(desk, keys, server)?;
            within(desk, SLOW, move || transport.send(&mail).map(drop).map_err(|error| in_words(&error)))
        }
        None => {
            let transport = SendmailTransport::new_with_command(sendmail(desk));
            within(desk, SLOW, move || transport.send(&mail).map_err(|error| in_words(&error)))
        }
    }
}

fn written(keys: &MailKeys, message: &Message, left_out: u64) -> Result<lettre::Message, String> {
    let address = |text: &str, key: &str| {
        text.parse::<Mailbox>()
            .map_err(|error| format!("notify.mail.{key}: \"{text}\" is no address: {error}"))
    };
    let from = match &keys.from {
        Some(from) => address(from, "from")?,
        None => {
            let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
            let host = if host.is_empty() || host == "(none)" { "localhost".to_owned() } else { host };
            address(&format!("Reedhook <reedhook@{host}>"), "from")?
        }
    };
    let mut builder = lettre::Message::builder()
        .from(from)
        .message_id(None)
        .subject(format!("Reedhook: {}", message.subject));
    for to in &keys.to {
        builder = builder.to(address(to, "to")?);
    }
    // Nobody's holiday note need answer (RFC 3834).
    let by_itself = HeaderName::new_from_ascii_str("Auto-Submitted");
    let builder = builder.raw_header(HeaderValue::new(by_itself, "auto-generated".to_owned()));
    let mail = builder.header(ContentType::TEXT_PLAIN).body(message.text(left_out));
    mail.map_err(|error| in_words(&error))
}

fn over_smtp(desk: &Desk, keys: &MailKeys, server: &str) -> Result<SmtpTransport, String> {
    let url = Url::parse(server).map_err(|error| format!("notify.mail.server: {error}"))?;
    let host = url.host_str().filter(|host| !host.is_empty());
    let host = host.ok_or("notify.mail.server: there is no host in it")?.trim_matches(['[', ']']).to_owned();
    if url.password().is_some() {
        return Err(
            "notify.mail.server has a password in it; say `secret`, or keep it: reedhook notify secret mail"
                .to_owned(),
        );
    }
    let wrapped = url.scheme() == "smtps";
    let mut parameters = TlsParameters::builder(host.clone());
    if let Some(file) = &keys.authorities {
        let file = desk.home.expand(&file.to_string_lossy());
        parameters = parameters.add_root_certificate(authority(&file)?);
    }
    let tls = match (wrapped, is_loopback(&host)) {
        // Nobody listens in on the way to this very machine; a relay there may have no certificate at all.
        (false, true) if keys.authorities.is_none() && keys.user.is_none() => Tls::None,
        (false, _) => Tls::Required(parameters.build().map_err(|error| in_words(&error))?),
        (true, _) => Tls::Wrapper(parameters.build().map_err(|error| in_words(&error))?),
    };
    let port = url.port().unwrap_or(match (wrapped, &tls) {
        (true, _) => 465,
        (false, Tls::None) => 25,
        (false, _) => 587,
    });
    let mut transport =
        SmtpTransport::builder_dangerous(host).port(port).tls(tls).timeout(Some(ANSWER_WITHIN));
    if let Some(user) = &keys.user {
        let secret = secret_for(desk, keys.secret.as_deref(), KEPT_AS)?;
        let secret = secret.ok_or("there is no password; keep one: reedhook notify secret mail")?;
        transport = transport.credentials(Credentials::new(user.clone(), secret.reveal().to_owned()));
    }
    Ok(transport.build())
}

fn authority(file: &Path) -> Result<Certificate, String> {
    let read = std::fs::read(file).map_err(|error| format!("{}: {error}", file.display()))?;
    Certificate::from_pem(&read).map_err(|error| format!("{}: {}", file.display(), in_words(&error)))
}

/// The program that hands mails to this machine's own server. It lies where users' paths do not lead.
fn sendmail(desk: &Desk) -> OsString {
    let path = (desk.world.variable)("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/usr/sbin", "/usr/lib"].map(PathBuf::from));
    let found = folders.map(|folder| folder.join("sendmail")).find(|program| program.is_file());
    found.map_or_else(|| "sendmail".into(), PathBuf::into_os_string)
}

/// An error with what stands behind it; nothing is said twice.
fn in_words(error: &dyn Error) -> String {
    let mut words = error.to_string();
    let mut cause = error.source();
    while let Some(below) = cause {
        let text = below.to_string();
        if !words.contains(&text) {
            words.push_str(&format!(": {text}"));
        }
        cause = below.source();
    }
    words
}
