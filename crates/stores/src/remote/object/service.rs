//! How the object store's client makes its requests: over one connection pool that trusts whom we trust, follows nobody elsewhere, and
//! tells a server's wish for patience from a failure.

use std::error::Error;
use std::fmt;
use std::time::Duration;

use async_trait::async_trait;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody,
    HttpService,
};

use super::odd;
use crate::remote::connect::{ANSWER_WITHIN, ConnectError, Trust};
use crate::remote::tls;

/// An answer that is none: what it means is found again at the bottom of the client's own error.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Answered {
    /// The server asks for patience, for so long if it says so.
    Wait(Option<Duration>),
    /// The server sends us to another place.
    Elsewhere(String),
    /// Something on the server's side broke for this one request.
    Broke(u16),
    /// No space is left.
    Full,
}

impl fmt::Display for Answered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Answered::Wait(_) => f.write_str("the server asks for patience"),
            Answered::Elsewhere(place) => write!(f, "it sends us on to {place}; that is not followed"),
            Answered::Broke(status) => write!(f, "the server says: {status}"),
            Answered::Full => f.write_str("no space is left"),
        }
    }
}

impl Error for Answered {}

#[derive(Debug)]
pub(super) struct Connector(reqwest::Client);

impl Connector {
    pub(super) fn new(trust: &Trust) -> Result<Connector, ConnectError> {
        let builder = tls::http_client(trust)?.read_timeout(ANSWER_WITHIN);
        let client = builder.build().map_err(|error| ConnectError::Setup(error.to_string()))?;
        Ok(Connector(client))
    }
}

impl HttpConnector for Connector {
    fn connect(&self, _options: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(Service(self.0.clone())))
    }
}

/// A listing without keys that the client cannot read.
async fn readable_listing(response: HttpResponse) -> Result<HttpResponse, HttpError> {
    let (mut head, body) = response.into_parts();
    let bytes = body.bytes().await?;
    // What is no text is none of our business: the client says what is wrong with it.
    let body = match std::str::from_utf8(&bytes) {
        Ok(text) => HttpResponseBody::from(odd::readable(text)),
        Err(_) => HttpResponseBody::from(bytes),
    };
    head.headers.remove("content-length");
    Ok(HttpResponse::from_parts(head, body))
}

#[derive(Debug)]
struct Service(reqwest::Client);

#[async_trait]
impl HttpService for Service {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let lists = request.uri().query().is_some_and(|query| query.contains("list-type=2"));
        let response = self.0.call(request).await?;
        if lists && response.status().is_success() {
            return readable_listing(response).await;
        }
        let header = |name| response.headers().get(name).and_then(|value| value.to_str().ok());
        let answered = match response.status().as_u16() {
            429 | 503 => Answered::Wait(
                header("retry-after").and_then(|text| text.parse().ok()).map(Duration::from_secs),
            ),
            300..=303 | 305..=399 => Answered::Elsewhere(header("location").unwrap_or("nowhere").to_owned()),
            status @ (500 | 502 | 504) => Answered::Broke(status),
            507 => Answered::Full,
            _ => return Ok(response),
        };
        Err(HttpError::new(HttpErrorKind::Unknown, answered))
    }
}
