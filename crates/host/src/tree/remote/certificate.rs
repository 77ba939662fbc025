//! Whether a host is the one that it says: by the system's certificates, or by a certificate that the user has agreed to.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};

use etcetera::BaseStrategy;

use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};

/// The certificates that the user has agreed to, by their fingerprints, and the last one that was refused.
#[derive(Debug, Clone, Default)]
pub struct Pins(Arc<Mutex<Known>>);

#[derive(Debug, Default)]
struct Known {
    agreed: Vec<String>,
    refused: Option<String>,
}

impl Pins {
    /// Returns those with some fingerprints.
    pub fn new(agreed: Vec<String>) -> Self {
        Self(Arc::new(Mutex::new(Known { agreed, refused: None })))
    }

    /// Returns the fingerprint that was refused last.
    pub fn refused(&self) -> Option<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).refused.clone()
    }
}

/// Whom all connections to a host trust.
#[derive(Debug, Clone)]
pub(super) struct Trust(Arc<Verifier>);

impl Trust {
    /// Returns that in what the system trusts, and in what the user has agreed to.
    pub(super) fn new(pins: &Pins) -> Self {
        let provider = Arc::new(ring::default_provider());
        let system = rustls_platform_verifier::Verifier::new(Arc::clone(&provider)).ok();
        Self(Arc::new(Verifier { provider, system, pins: pins.clone() }))
    }

    /// Returns the client of one control connection and its data connections, which resume its session: many a server demands that.
    /// Sessions of the older version can be resumed as often as one likes, those of the newer one only after something was read.
    pub(super) fn client(&self, is_newer: bool) -> Result<Arc<ClientConfig>, rustls::Error> {
        let versions = if is_newer { &[&rustls::version::TLS13] } else { &[&rustls::version::TLS12] };
        let builder = ClientConfig::builder_with_provider(Arc::clone(&self.0.provider))
            .with_protocol_versions(versions)?;
        let verifier = Arc::clone(&self.0);
        Ok(Arc::new(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth()))
    }
}

/// The user's file of certificates could not be read or written.
#[derive(Debug, thiserror::Error)]
#[error("{path}: {source}")]
pub struct KnownCertificatesError {
    path: String,
    source: io::Error,
}

/// The certificates that the user has agreed to, in a file of the user's: a host, its port and a fingerprint in each line.
#[derive(Debug)]
pub struct KnownCertificates {
    path: PathBuf,
    lines: Vec<String>,
}

impl KnownCertificates {
    /// Reads those of the user.
    ///
    /// # Errors
    /// Where the file is there and cannot be read.
    pub fn of_user() -> Result<Self, KnownCertificatesError> {
        let path = etcetera::base_strategy::choose_base_strategy()
            .map(|strategy| {
                strategy.state_dir().unwrap_or_else(|| strategy.data_dir()).join("yalotheca/certificates")
            })
            .unwrap_or_default();
        match fs::read_to_string(&path) {
            Ok(text) => Ok(Self { path, lines: text.lines().map(str::to_owned).collect() }),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Self { path, lines: Vec::new() }),
            Err(source) => Err(KnownCertificatesError { path: path.display().to_string(), source }),
        }
    }

    /// Returns the fingerprints that were agreed to for a host.
    pub fn of(&self, host: &str, port: u16) -> Vec<String> {
        let start = format!("{host} {port} ");
        self.lines.iter().filter_map(|line| Some(line.strip_prefix(&start)?.trim().to_owned())).collect()
    }

    /// Notes that the user has agreed to a certificate; an earlier one of the host is forgotten.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn agree(&self, host: &str, port: u16, fingerprint: &str) -> Result<(), KnownCertificatesError> {
        let start = format!("{host} {port} ");
        let mut lines: Vec<&str> =
            self.lines.iter().map(String::as_str).filter(|line| !line.starts_with(&start)).collect();
        let line = format!("{start}{fingerprint}");
        lines.push(&line);
        let failed = |source| KnownCertificatesError { path: self.path.display().to_string(), source };
        let folder = self.path.parent().map(Path::to_owned).unwrap_or_default();
        fs::create_dir_all(&folder).map_err(failed)?;
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
        io::Write::write_all(&mut file, (lines.join("\n") + "\n").as_bytes()).map_err(failed)?;
        file.persist(&self.path).map_err(|error| failed(error.error))?;
        Ok(())
    }
}

#[derive(Debug)]
struct Verifier {
    provider: Arc<CryptoProvider>,
    system: Option<rustls_platform_verifier::Verifier>,
    pins: Pins,
}

fn fingerprint(certificate: &CertificateDer<'_>) -> String {
    use sha2::Digest as _;

    let digest = sha2::Sha256::digest(certificate.as_ref());
    digest.iter().fold(String::new(), |text, byte| text + &format!("{byte:02x}"))
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        others: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        status: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let own = fingerprint(certificate);
        let mut known = self.pins.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.agreed.contains(&own) {
            return Ok(ServerCertVerified::assertion());
        }
        let verified = match &self.system {
            Some(system) => system.verify_server_cert(certificate, others, name, status, now),
            None => Err(rustls::Error::InvalidCertificate(CertificateError::UnknownIssuer)),
        };
        if verified.is_err() {
            known.refused = Some(own);
        }
        verified
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
