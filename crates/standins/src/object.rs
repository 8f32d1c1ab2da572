//! The stand-in of an object store, behind the protocol and the checks of signatures of the `s3s` crate.

use std::convert::Infallible;
use std::sync::Arc;

use http::Response;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use s3s::auth::SimpleAuth;
use s3s::service::{S3Service, S3ServiceBuilder};
use tokio::net::TcpListener;

use crate::bucket::Buckets;
use crate::settings::{Settings, StartError};
use crate::web::Moods;

pub(crate) fn spawn(listener: TcpListener, settings: &Settings) -> Result<(), StartError> {
    let files = Buckets::new(&settings.folder)?;
    let mut builder = S3ServiceBuilder::new(files);
    builder.set_auth(SimpleAuth::from_single(settings.user.as_str(), settings.secret.as_str()));
    let (service, moods): (S3Service, _) =
        (builder.build(), Moods::new(&settings.behaviour, &settings.folder));
    tokio::spawn(async move {
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let (service, moods): (S3Service, Arc<Moods>) = (service.clone(), moods.clone());
            tokio::spawn(async move {
                let answer = service_fn(move |request: http::Request<hyper::body::Incoming>| {
                    let (service, moods) = (service.clone(), moods.clone());
                    async move {
                        if let Some(answer) = moods.answer::<_, Vec<u8>>(&request) {
                            return Ok::<_, Infallible>(
                                answer.map(|bytes| s3s::Body::from(bytes::Bytes::from(bytes))),
                            );
                        }
                        let answer = service.call(request.map(s3s::Body::from)).await;
                        Ok(answer.unwrap_or_else(|_| {
                            let mut failed = Response::new(s3s::Body::empty());
                            *failed.status_mut() = http::StatusCode::INTERNAL_SERVER_ERROR;
                            failed
                        }))
                    }
                });
                let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await;
            });
        }
    });
    Ok(())
}
