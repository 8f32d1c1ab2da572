//! Connections over TLS, the same for every protocol: whose cryptography it is, and whom it trusts.

use std::error::Error;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use reqwest::redirect;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, DigitallySignedStruct, RootCertStore, SignatureScheme};

use super::connect::{CONNECT_WITHIN, ConnectError, Trust};

/// The cryptography of all connections: one implementation for all protocols, and the one that is quickest to build.
pub(super) fn provider() -> Arc<CryptoProvider> {
    if CryptoProvider::get_default().is_none() {
        // What is built upon the HTTP client asks for it there. Another thread may have been first: it said the same.
        let _ = rustls::crypto::ring::default_provider().install_default();
    }
    CryptoProvider::get_default()
        .cloned()
        .unwrap_or_else(|| Arc::new(rustls::crypto::ring::default_provider()))
}

/// The certificates that are trusted besides the system's; none when no file was given.
pub(super) fn authorities(trust: &Trust) -> Result<Vec<CertificateDer<'static>>, ConnectError> {
    let Some(file) = &trust.authorities else { return Ok(Vec::new()) };
    let found = CertificateDer::pem_file_iter(file).map_err(|error| unusable(file, error))?;
    let certificates = found.collect::<Result<Vec<_>, _>>().map_err(|error| unusable(file, error))?;
    match certificates.is_empty() {
        true => Err(unusable(file, "there is no certificate in it")),
        false => Ok(certificates),
    }
}

fn unusable(file: &Path, why: impl ToString) -> ConnectError {
    ConnectError::Setup(format!("{}: {}", file.display(), why.to_string()))
}

/// Why a connection failed for want of trust in the other's certificate; nothing when it failed otherwise.
pub(super) fn distrust(error: &(dyn Error + 'static)) -> Option<String> {
    let mut cause = Some(error);
    while let Some(current) = cause {
        // The connector wraps it in the system's error, which hides its inner one from the chain.
        let hidden = current.downcast_ref::<io::Error>().and_then(io::Error::get_ref);
        let hidden = hidden.and_then(|inner| inner.downcast_ref());
        if let Some(rustls::Error::InvalidCertificate(why)) = current.downcast_ref().or(hidden) {
            return Some(not_good(why));
        }
        cause = current.source();
    }
    None
}

fn not_good(why: &CertificateError) -> String {
    format!("its certificate is not good: {why}")
}

/// Checks certificates, and remembers why one was refused: a client in between tells of it in words only.
#[derive(Debug)]
pub(super) struct Witness {
    check: Arc<WebPkiServerVerifier>,
    refused: Mutex<Option<CertificateError>>,
}

impl Witness {
    pub(super) fn new(roots: RootCertStore) -> Result<Arc<Witness>, ConnectError> {
        let check = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider()).build();
        let check = check.map_err(|error| ConnectError::Setup(error.to_string()))?;
        Ok(Arc::new(Witness { check, refused: Mutex::default() }))
    }

    /// Why the last certificate was refused, once.
    pub(super) fn refused(&self) -> Option<String> {
        let refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner).take();
        refused.map(|why| not_good(&why))
    }
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let verified =
            self.check.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now);
        if let Err(rustls::Error::InvalidCertificate(why)) = &verified {
            *self.refused.lock().unwrap_or_else(PoisonError::into_inner) = Some(why.clone());
        }
        verified
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.check.verify_tls12_signature(message, certificate, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.check.verify_tls13_signature(message, certificate, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.check.supported_verify_schemes()
    }
}

/// An HTTP client as all our protocols over HTTP want it: it follows nobody elsewhere, and keeps its connections.
pub(super) fn http_client(trust: &Trust) -> Result<reqwest::ClientBuilder, ConnectError> {
    provider();
    let certificates = authorities(trust)?;
    let certificates: Result<Vec<_>, _> =
        certificates.iter().map(|certificate| reqwest::Certificate::from_der(certificate)).collect();
    let certificates = certificates.map_err(|error| ConnectError::Setup(error.to_string()))?;
    let builder = reqwest::Client::builder()
        .redirect(redirect::Policy::none())
        .connect_timeout(CONNECT_WITHIN)
        .pool_max_idle_per_host(64)
        .tcp_nodelay(true)
        .http1_only();
    Ok(if certificates.is_empty() { builder } else { builder.tls_certs_merge(certificates) })
}
