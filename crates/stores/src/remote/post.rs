//! One message to a web server that is no store: somebody wants to know what came of a run. It goes over the same cryptography, to
//! whom the same authorities vouch for, and nowhere else than it was sent to.

use std::time::Duration;

use reqwest::Url;
use reqwest::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, LOCATION};

use super::connect::{ConnectError, Secret, Trust, is_loopback};
use super::stop::Stop;
use super::{runtime, tls};

/// Why a message did not arrive. No address is in the words: it may hold a secret.
#[derive(Debug, thiserror::Error)]
pub enum PostError {
    /// It cannot be sent like that.
    #[error("{0}")]
    Setup(String),
    /// The server was not reached.
    #[error("{host} cannot be reached: {why}")]
    Unreachable {
        /// Who.
        host: String,
        /// The cause, in words for people.
        why: String,
    },
    /// The server is perhaps not who it says it is.
    #[error("{host} is not trusted: {why}")]
    Untrusted {
        /// Who.
        host: String,
        /// The cause, in words for people.
        why: String,
    },
    /// It did not answer in time.
    #[error("{host} did not answer within {} s", within.as_secs())]
    Slow {
        /// Who.
        host: String,
        /// How long was waited.
        within: Duration,
    },
    /// It points elsewhere. Nobody is followed there: what is sent may be for this server only.
    #[error("{host} points elsewhere, to {to}; write the address that is meant")]
    Elsewhere {
        /// Who.
        host: String,
        /// The server that it points to.
        to: String,
    },
    /// It does not want it.
    #[error("{host} refused it: {status}")]
    Refused {
        /// Who.
        host: String,
        /// Its number and words.
        status: String,
    },
}

/// Sends a text in JSON, with a token where there is one.
///
/// # Errors
/// When it did not arrive within the time.
pub fn post_json(
    address: &str,
    body: String,
    token: Option<&Secret>,
    trust: &Trust,
    within: Duration,
) -> Result<(), PostError> {
    let setup = |why: String| PostError::Setup(why);
    let url = Url::parse(address).map_err(|error| setup(format!("that is no address: {error}")))?;
    let host = url.host_str().unwrap_or_default().to_owned();
    if token.is_some() && url.scheme() != "https" && !is_loopback(&host) {
        return Err(setup(format!(
            "{host} would get the token without TLS, for everybody to read; use https:"
        )));
    }
    let client = tls::http_client(trust).map_err(|error| match error {
        ConnectError::Setup(why) => setup(why),
        other => setup(other.to_string()),
    })?;
    let client = client.user_agent(concat!("reedhook/", env!("CARGO_PKG_VERSION"))).build();
    let client = client.map_err(|error| setup(tls::innermost(&error)))?;
    let mut request = client.post(url).header(CONTENT_TYPE, "application/json").body(body);
    if let Some(token) = token {
        let mut value = HeaderValue::from_str(&format!("Bearer {}", token.reveal()))
            .map_err(|_| setup("the token cannot be sent: it is no text of a header".to_owned()))?;
        value.set_sensitive(true);
        request = request.header(AUTHORIZATION, value);
    }
    let runtime = runtime::handle(&Stop::default()).map_err(|error| setup(error.to_string()))?;
    let slow = || PostError::Slow { host: host.clone(), within };
    let answer = runtime::wait(&runtime, within, request.send()).ok_or_else(slow)?.map_err(|error| {
        if error.is_timeout() {
            return slow();
        }
        match tls::distrust(&error) {
            Some(why) => PostError::Untrusted { host: host.clone(), why },
            None => PostError::Unreachable { host: host.clone(), why: tls::innermost(&error) },
        }
    })?;
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    if status.is_redirection() {
        let to = answer.headers().get(LOCATION).and_then(|to| to.to_str().ok());
        let to = to.and_then(|to| Some(answer.url().join(to).ok()?.host_str()?.to_owned()));
        return Err(PostError::Elsewhere { host, to: to.unwrap_or_else(|| "no address".to_owned()) });
    }
    Err(PostError::Refused { host, status: status.to_string() })
}
