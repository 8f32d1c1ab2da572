//! The WebDAV stand-in.

use std::convert::Infallible;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use base64::Engine as _;
use dav_server::body::Body;
use dav_server::fakels::FakeLs;
use dav_server::localfs::LocalFs;
use dav_server::{DavHandler, DavMethodSet};
use http::{Request, Response, StatusCode};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

use crate::settings::Settings;
use crate::web::Moods;

struct Server {
    handler: DavHandler,
    moods: Arc<Moods>,
    authorization: String,
    folder: PathBuf,
    clock: i64,
    takes_times: bool,
}

pub(crate) fn spawn(listener: TcpListener, settings: &Settings) {
    let handler = DavHandler::builder()
        .filesystem(LocalFs::new(&settings.folder, false, false, false))
        .locksystem(FakeLs::new())
        .methods(DavMethodSet::all())
        .build_handler();
    let pair = format!("{}:{}", settings.user, settings.secret);
    let server = Arc::new(Server {
        handler,
        moods: Moods::new(&settings.behaviour, &settings.folder),
        authorization: format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(pair)),
        folder: settings.folder.clone(),
        clock: settings.behaviour.clock,
        takes_times: settings.behaviour.takes_times,
    });
    tokio::spawn(async move {
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let server = server.clone();
            tokio::spawn(async move {
                let service = service_fn(move |request| {
                    let server = server.clone();
                    async move { Ok::<_, Infallible>(server.answer(request).await) }
                });
                // A connection that breaks is what a stand-in is for.
                let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
            });
        }
    });
}

impl Server {
    async fn answer(&self, request: Request<Incoming>) -> Response<Body> {
        let told = request.headers().get("authorization").and_then(|value| value.to_str().ok());
        if told != Some(self.authorization.as_str()) {
            let refusal = Response::builder()
                .status(StatusCode::UNAUTHORIZED)
                .header("www-authenticate", "Basic realm=\"stand-in\"");
            return refusal.body(Body::empty()).unwrap_or_else(|_| Response::new(Body::empty()));
        }
        if let Some(answer) = self.moods.answer::<_, Vec<u8>>(&request) {
            return answer.map(|bytes| Body::from(bytes::Bytes::from(bytes)));
        }
        if self.takes_times && request.method() == "PROPPATCH" {
            return self.set_time(request).await;
        }
        let written = (self.clock != 0 && request.method() == "PUT").then(|| request.uri().path().to_owned());
        let response = self.handler.handle(request).await;
        if let Some(path) = written.filter(|_| response.status().is_success()) {
            set_wrong_time(&self.folder, &path, self.clock);
        }
        response
    }
}

impl Server {
    /// Sets a file's time as it is told, which the crate behind this does not.
    async fn set_time(&self, request: Request<Incoming>) -> Response<Body> {
        let path = request.uri().path().to_owned();
        let body = request.into_body().collect().await.map(http_body_util::Collected::to_bytes);
        let text = String::from_utf8_lossy(&body.unwrap_or_default()).into_owned();
        let date = text.split("<getlastmodified>").nth(1).and_then(|rest| rest.split('<').next());
        let time = date.and_then(|date| httpdate::parse_http_date(date).ok());
        let file = File::options().write(true).open(self.folder.join(path.trim_start_matches('/')));
        let set = time.zip(file.ok()).is_some_and(|(time, file)| file.set_modified(time).is_ok());
        let status = if set { "200 OK" } else { "409 Conflict" };
        let answer = format!(
            r#"<?xml version="1.0"?><multistatus xmlns="DAV:"><response><href>{path}</href><propstat><prop><getlastmodified/></prop><status>HTTP/1.1 {status}</status></propstat></response></multistatus>"#
        );
        let response =
            Response::builder().status(StatusCode::MULTI_STATUS).header("content-type", "application/xml");
        response.body(Body::from(answer)).unwrap_or_else(|_| Response::new(Body::empty()))
    }
}

/// Gives what was just written the time of a clock that is wrong. Names with percent signs in their addresses keep the right one.
fn set_wrong_time(folder: &Path, path: &str, ahead: i64) {
    let file = folder.join(path.trim_start_matches('/'));
    let now = SystemTime::now();
    let off = Duration::from_secs(ahead.unsigned_abs());
    let time = if ahead > 0 { now + off } else { now - off };
    if let Ok(file) = File::options().write(true).open(file) {
        let _ = file.set_modified(time);
    }
}
