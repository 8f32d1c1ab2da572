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
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, OtherError, RootCertStore, SignatureScheme,
    SupportedProtocolVersion,
};

use super::connect::{CONNECT_WITHIN, ConnectError, Trust};

/// The cryptography of all connections: one implementation for all protocols, and the one that is quickest to build.
fn provider() -> Arc<CryptoProvider> {
    if CryptoProvider::get_default().is_none() {
        // What is built upon the HTTP client asks for it there. Another thread may have been first: it said the same.
        let _ = rustls::crypto::ring::default_provider().install_default();
    }
    CryptoProvider::get_default()
        .cloned()
        .unwrap_or_else(|| Arc::new(rustls::crypto::ring::default_provider()))
}

/// The certificates that are trusted besides the system's; none when no file was given.
fn authorities(trust: &Trust) -> Result<Vec<CertificateDer<'static>>, ConnectError> {
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
    while let Some(mut current) = cause {
        // Connectors wrap errors in the system's, more than once, which hide their inner ones from the chain.
        while let Some(inner) = current.downcast_ref::<io::Error>().and_then(io::Error::get_ref) {
            current = inner;
        }
        if let Some(rustls::Error::InvalidCertificate(why)) = current.downcast_ref() {
            return Some(not_good(why));
        }
        cause = current.source();
    }
    None
}

fn not_good(why: &CertificateError) -> String {
    match why {
        CertificateError::Other(OtherError(why)) => why.to_string(),
        why => format!("its certificate is not good: {why}"),
    }
}

/// Nobody is known who could vouch for a server, as on a rescue system or in a small container.
#[derive(Debug, thiserror::Error)]
#[error("this machine has no certificates of authorities to check it by")]
struct NoAuthorities;

/// How connections are secured, and who sees the certificates.
pub(super) struct Security {
    pub config: ClientConfig,
    pub witness: Arc<Witness>,
}

/// Connections over these versions of TLS, to whoever the system's authorities vouch for, or those of the file. Where there are none, that is
/// said of the first certificate: connections without TLS need nobody.
pub(super) fn security(
    trust: &Trust,
    versions: &[&'static SupportedProtocolVersion],
) -> Result<Security, ConnectError> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    roots.add_parsable_certificates(authorities(trust)?);
    let setup = |why: String| ConnectError::Setup(why);
    let check = match roots.is_empty() {
        true => None,
        false => {
            let check = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider()).build();
            Some(check.map_err(|error| setup(error.to_string()))?)
        }
    };
    let witness = Arc::new(Witness { check, refused: Mutex::default() });
    let builder = ClientConfig::builder_with_provider(provider()).with_protocol_versions(versions);
    // It checks as rustls itself does; it only remembers what came of it.
    let builder = builder.map_err(|error| setup(error.to_string()))?.dangerous();
    let config = builder.with_custom_certificate_verifier(witness.clone()).with_no_client_auth();
    Ok(Security { config, witness })
}

/// Checks certificates, and remembers why one was refused: a client in between may tell of it in words only.
#[derive(Debug)]
pub(super) struct Witness {
    check: Option<Arc<WebPkiServerVerifier>>,
    refused: Mutex<Option<CertificateError>>,
}

impl Witness {
    /// Why the last certificate was refused, once.
    pub(super) fn refused(&self) -> Option<String> {
        let refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner).take();
        refused.map(|why| not_good(&why))
    }

    fn check(&self) -> Result<&WebPkiServerVerifier, rustls::Error> {
        let nobody = || CertificateError::Other(OtherError(Arc::new(NoAuthorities)));
        self.check.as_deref().ok_or_else(|| rustls::Error::InvalidCertificate(nobody()))
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
        let verified = self
            .check()
            .and_then(|it| it.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now));
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
        self.check()?.verify_tls12_signature(message, certificate, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.check()?.verify_tls13_signature(message, certificate, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        provider().signature_verification_algorithms.supported_schemes()
    }
}

/// The innermost words of an error: the outer ones repeat the address.
pub(super) fn innermost(error: &reqwest::Error) -> String {
    let mut current: &dyn Error = error;
    while let Some(inner) = current.source() {
        current = inner;
    }
    current.to_string()
}

/// An HTTP client as all our protocols over HTTP want it: it follows nobody elsewhere, and keeps its connections.
pub(super) fn http_client(trust: &Trust) -> Result<reqwest::ClientBuilder, ConnectError> {
    let security = security(trust, rustls::ALL_VERSIONS)?;
    Ok(reqwest::Client::builder()
        .tls_backend_preconfigured(security.config)
        .redirect(redirect::Policy::none())
        .connect_timeout(CONNECT_WITHIN)
        .pool_max_idle_per_host(64)
        .tcp_nodelay(true)
        .http1_only())
}
