//! Connections over TLS, the same for every protocol: whose cryptography it is, and whom it trusts.

use std::path::Path;
use std::sync::Arc;

use reqwest::redirect;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;

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
