//! One request over HTTP: logging in by the schemes of RFC 7617 (Basic), 7616 (Digest) and 6750 (Bearer), and what the answer means
//! for trying again.
//!
//! Nothing is ever sent to another place than the one that was asked for: redirects are not followed, because the credentials
//! would travel along.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use reqwest::header::{AUTHORIZATION, HeaderMap, HeaderName, RETRY_AFTER, WWW_AUTHENTICATE};
use reqwest::{Client, Method, Response, StatusCode, Url};

use reedhook_core::path::RelPath;
use reedhook_core::store::{FaultKind, StoreError};

use crate::remote::connect::{ANSWER_WITHIN, Account, ConnectError, Secret, Trust, is_loopback};
use crate::remote::runtime::{self, Runtime};
use crate::remote::stop::Pace;
use crate::remote::tls;
use crate::remote::tls::innermost;
use crate::remote::wire::{Again, Answer, Trouble};

/// The part of an address that decides who is talked to, and how requests are made there.
pub(super) struct Http {
    runtime: Runtime,
    client: Client,
    account: Account,
    shown: String,
    login: Mutex<Login>,
}

/// How requests are signed.
#[derive(Clone)]
enum Login {
    None,
    Basic(String, Secret),
    Bearer(Secret),
    Digest(String, Secret, Arc<Mutex<digest_auth::WwwAuthenticateHeader>>),
}

/// A request that can be made more than once.
pub(super) struct Ask<'a> {
    pub(super) method: Method,
    pub(super) url: Url,
    pub(super) headers: Vec<(HeaderName, String)>,
    pub(super) body: Vec<u8>,
    pub(super) action: &'static str,
    pub(super) path: &'a RelPath,
}

impl Ask<'_> {
    pub(super) fn header(mut self, name: &'static str, value: impl Into<String>) -> Self {
        self.headers.push((HeaderName::from_static(name), value.into()));
        self
    }

    pub(super) fn body(mut self, body: impl Into<Vec<u8>>) -> Self {
        self.body = body.into();
        self
    }
}

impl Http {
    pub(super) fn new(
        runtime: Runtime,
        account: Account,
        trust: &Trust,
        shown: String,
    ) -> Result<Http, ConnectError> {
        let builder = tls::http_client(trust)?.user_agent(concat!("reedhook/", env!("CARGO_PKG_VERSION")));
        let client = builder.build().map_err(|error| ConnectError::Setup(innermost(&error)))?;
        Ok(Http { runtime, client, account, shown, login: Mutex::new(Login::None) })
    }

    pub(super) fn runtime(&self) -> &Runtime {
        &self.runtime
    }

    /// Makes the first request and logs in as the server wants it.
    pub(super) fn greet(&self, ask: &Ask<'_>) -> Result<Response, ConnectError> {
        for attempt in 0..2 {
            let sent = self.send_once(ask).map_err(|error| self.unreachable(&error))?;
            let response = sent.ok_or_else(|| self.unreachable_because("no answer".to_owned()))?;
            if response.status() != StatusCode::UNAUTHORIZED {
                return Ok(response);
            }
            if attempt == 0 {
                self.choose_login(&ask.url, response.headers())?;
            }
        }
        let login = self.login();
        let (user, tried) = match &login {
            Login::Basic(user, _) => (user.clone(), "password"),
            Login::Digest(user, ..) => (user.clone(), "password by digest"),
            Login::Bearer(_) => ("the token's owner".to_owned(), "token"),
            Login::None => ("anybody".to_owned(), "nothing"),
        };
        Err(ConnectError::Login { address: self.shown.clone(), user, tried: tried.to_owned() })
    }

    fn unreachable(&self, error: &reqwest::Error) -> ConnectError {
        match tls::distrust(error) {
            Some(why) => ConnectError::Untrusted { address: self.shown.clone(), why },
            None => self.unreachable_because(innermost(error)),
        }
    }

    fn unreachable_because(&self, why: String) -> ConnectError {
        ConnectError::Unreachable { address: self.shown.clone(), why }
    }

    fn login(&self) -> Login {
        self.login.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Picks the best scheme that the server offers and we have something for.
    fn choose_login(&self, url: &Url, headers: &HeaderMap) -> Result<(), ConnectError> {
        let offers: Vec<&str> =
            headers.get_all(WWW_AUTHENTICATE).iter().filter_map(|value| value.to_str().ok()).collect();
        let offer = |scheme: &str| {
            let is =
                |offer: &&str| offer.get(..scheme.len()).is_some_and(|it| it.eq_ignore_ascii_case(scheme));
            offers.iter().copied().find(is)
        };
        let Some(secret) = self.account.find_secret(&self.shown)? else {
            let tried = "nothing: no password or token is known for it".to_owned();
            let user = self.account.user.clone().unwrap_or_else(|| "anybody".to_owned());
            return Err(ConnectError::Login { address: self.shown.clone(), user, tried });
        };
        let readable = url.scheme() == "http" && !url.host_str().is_some_and(is_loopback);
        let chosen = match (&self.account.user, offer("digest")) {
            // A digest hides the password from nobody who can try many of them.
            (Some(user), Some(digest)) if !readable => match digest_auth::parse(digest) {
                Ok(prompt) => Login::Digest(user.clone(), secret, Arc::new(Mutex::new(prompt))),
                Err(error) => return Err(self.unusable(format!("its digest challenge is none: {error}"))),
            },
            _ if readable => {
                return Err(self.unusable(
                    "it wants the password over a connection that everybody on the way can read; use davs:"
                        .to_owned(),
                ));
            }
            (Some(user), _) => Login::Basic(user.clone(), secret),
            (None, _) => Login::Bearer(secret),
        };
        *self.login.lock().unwrap_or_else(PoisonError::into_inner) = chosen;
        Ok(())
    }

    pub(super) fn unusable(&self, why: String) -> ConnectError {
        ConnectError::Unusable { address: self.shown.clone(), why }
    }

    /// Why a first request failed: a server that asks for patience is no broken one.
    pub(super) fn no_greeting(&self, trouble: &Trouble) -> ConnectError {
        let (address, why) = (self.shown.clone(), trouble.error.reason());
        match trouble.kind() {
            FaultKind::Busy => ConnectError::Overloaded { address, why },
            _ => ConnectError::Unusable { address, why },
        }
    }

    /// The header that tells who we are.
    fn authorization(&self, method: &Method, url: &Url) -> Option<String> {
        use base64::Engine as _;
        match self.login() {
            Login::None => None,
            Login::Basic(user, secret) => {
                let pair = format!("{user}:{}", secret.reveal());
                Some(format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(pair)))
            }
            Login::Bearer(secret) => Some(format!("Bearer {}", secret.reveal())),
            Login::Digest(user, secret, prompt) => {
                let target = url.path().to_owned();
                let method = digest_auth::HttpMethod(method.as_str().to_owned().into());
                let context = digest_auth::AuthContext::new_with_method(
                    user,
                    secret.reveal().to_owned(),
                    target,
                    Option::<&[u8]>::None,
                    method,
                );
                let mut prompt = prompt.lock().unwrap_or_else(PoisonError::into_inner);
                prompt.respond(&context).ok().map(|header| header.to_string())
            }
        }
    }

    /// The request as it goes out, signed.
    pub(super) fn prepare(&self, ask: &Ask<'_>) -> reqwest::RequestBuilder {
        let mut request = self.client.request(ask.method.clone(), ask.url.clone());
        for (name, value) in &ask.headers {
            request = request.header(name, value);
        }
        match self.authorization(&ask.method, &ask.url) {
            Some(value) => {
                let mut value = reqwest::header::HeaderValue::from_str(&value)
                    .unwrap_or_else(|_| reqwest::header::HeaderValue::from_static(""));
                value.set_sensitive(true);
                request.header(AUTHORIZATION, value)
            }
            None => request,
        }
    }

    fn send_once(&self, ask: &Ask<'_>) -> Result<Option<Response>, reqwest::Error> {
        let mut request = self.prepare(ask);
        if !ask.body.is_empty() || ask.method == Method::PUT {
            request = request.body(ask.body.clone());
        }
        runtime::wait(&self.runtime, ANSWER_WITHIN, request.send()).transpose()
    }

    /// Makes a request; answers that are no success become troubles.
    pub(super) fn send(&self, ask: &Ask<'_>) -> Answer<Response> {
        let response = self.send_any(ask)?;
        self.judge(response, ask.action, ask.path)
    }

    /// Makes a request and returns the answer, whatever it is.
    pub(super) fn send_any(&self, ask: &Ask<'_>) -> Answer<Response> {
        let mut response = self.send_raw(ask)?;
        // A digest's challenge wears out; the server then hands out a new one.
        if response.status() == StatusCode::UNAUTHORIZED && self.renew_challenge(response.headers()) {
            response = self.send_raw(ask)?;
        }
        Ok(response)
    }

    fn send_raw(&self, ask: &Ask<'_>) -> Answer<Response> {
        match self.send_once(ask) {
            Ok(Some(response)) => Ok(response),
            Ok(None) => Err(Trouble::broke(ask.action, ask.path, "no answer")),
            Err(error) => Err(self.trouble(&error, ask.action, ask.path)),
        }
    }

    pub(super) fn trouble(&self, error: &reqwest::Error, action: &'static str, path: &RelPath) -> Trouble {
        match tls::distrust(error) {
            Some(why) => Trouble::lasting(FaultKind::Lost, action, path).because(why),
            None => Trouble::broke(action, path, innermost(error)),
        }
    }

    fn renew_challenge(&self, headers: &HeaderMap) -> bool {
        let Login::Digest(_, _, prompt) = self.login() else { return false };
        let offers = headers.get_all(WWW_AUTHENTICATE).iter().filter_map(|value| value.to_str().ok());
        let Some(fresh) = offers.filter_map(|offer| digest_auth::parse(offer).ok()).next() else {
            return false;
        };
        *prompt.lock().unwrap_or_else(PoisonError::into_inner) = fresh;
        true
    }

    /// What an answer's status means (RFC 9110, section 15; RFC 4918, section 11; RFC 6585, section 4).
    pub(super) fn judge(&self, response: Response, action: &'static str, path: &RelPath) -> Answer<Response> {
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        if status.is_redirection() {
            let place = response.headers().get(reqwest::header::LOCATION);
            let place = place.and_then(|value| value.to_str().ok()).unwrap_or("nowhere");
            return Err(Trouble::lasting(FaultKind::BadAnswer, action, path)
                .because(format!("it sends us on to {place}; that is not followed")));
        }
        let wait = retry_after(response.headers());
        let (kind, again) = match status.as_u16() {
            401 => (FaultKind::LoginFailed, Again::Never),
            403 => (FaultKind::Denied, Again::Never),
            404 | 410 => (FaultKind::NotFound, Again::Never),
            // The folder above is missing.
            409 => (FaultKind::NotFound, Again::Never),
            412 => (FaultKind::Changed, Again::Never),
            405 | 501 => (FaultKind::Unsupported, Again::Never),
            414 => (FaultKind::NameTooLong, Again::Never),
            400 => (FaultKind::NameRefused, Again::Never),
            507 => (FaultKind::NoSpace, Again::Never),
            423 | 429 | 503 => (FaultKind::Busy, wait.map_or(Again::Soon, Again::After)),
            408 | 502 | 504 => (FaultKind::Interrupted, Again::Soon),
            500 => (FaultKind::Io, Again::Soon),
            _ => (FaultKind::Io, Again::Never),
        };
        let error = StoreError::new(kind, action, path).because(format!("the server says: {status}"));
        Err(Trouble { error, again })
    }

    /// The whole body of an answer, up to `limit` bytes.
    pub(super) fn body(
        &self,
        mut response: Response,
        limit: usize,
        action: &'static str,
        path: &RelPath,
    ) -> Answer<Vec<u8>> {
        let (mut body, mut pace) = (Vec::new(), Pace::default());
        loop {
            let begun = Instant::now();
            let piece = runtime::wait(&self.runtime, ANSWER_WITHIN, response.chunk());
            let piece = piece.ok_or_else(|| Trouble::broke(action, path, "no answer"))?;
            let Some(piece) = piece.map_err(|error| self.trouble(&error, action, path))? else {
                return Ok(body);
            };
            if !pace.came(piece.len() as u64, begun.elapsed()) {
                return Err(Trouble::broke(action, path, "it sends next to nothing"));
            }
            if body.len() + piece.len() > limit {
                return Err(
                    Trouble::lasting(FaultKind::BadAnswer, action, path).because("its answer has no end")
                );
            }
            body.extend_from_slice(&piece);
        }
    }
}

/// How long the server asks us to wait (RFC 9110, section 10.2.3): seconds, or a date.
fn retry_after(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get(RETRY_AFTER)?.to_str().ok()?;
    if let Ok(seconds) = text.trim().parse() {
        return Some(Duration::from_secs(seconds));
    }
    let until = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
    Some(Duration::try_from(until.duration_since(jiff::Timestamp::now())).unwrap_or_default())
}
