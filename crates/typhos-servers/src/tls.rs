//! Encrypted connections: certificates are always held against those that the machine trusts, whatever the driver.
//!
//! Drivers want to be told in ways of their own whom to trust: one takes a configuration, one a list, and one a file.

use std::path::Path;

use rustls::RootCertStore;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::server_url::ServerUrl;
use typhos_load::TargetError;

/// What is done about a certificate that nobody vouches for.
const DISTRUSTED: &str = "add the authority that signed it to those of this machine, or name its file in SSL_CERT_FILE; \
                          ?encrypted=no in the URL goes without";

/// What to do about a connection that did not come about.
pub fn connection_help(message: &str) -> &'static str {
    match message.contains("certificate") {
        true => DISTRUSTED,
        false => "is the server running there, and reachable from here?",
    }
}

/// The certificates that this machine trusts, but for those that cannot be read: one less to trust.
///
/// # Errors
/// A machine that trusts nobody.
pub fn trusted(url: &ServerUrl) -> Result<Vec<CertificateDer<'static>>, TargetError> {
    if let Some(path) = &url.authorities {
        return certificates(path);
    }
    let found = rustls_native_certs::load_native_certs().certs;
    let is_known = |it: &CertificateDer<'_>| RootCertStore::empty().add(it.clone()).is_ok();
    let trusted: Vec<_> = found.into_iter().filter(|it| is_known(it)).collect();
    match trusted.is_empty() {
        false => Ok(trusted),
        true => Err(failed(url, "no certificates to trust are found on this machine".into())),
    }
}

/// The certificates of a file (PEM, RFC 7468), of which there is one at least.
fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, TargetError> {
    let found =
        CertificateDer::pem_file_iter(path).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    match found {
        Ok(found) if !found.is_empty() => Ok(found),
        Ok(_) => Err(unusable(path, "has no certificate in it")),
        Err(error) => Err(unusable(path, &error.to_string())),
    }
}

fn unusable(path: &Path, what: &str) -> TargetError {
    TargetError::Address(format!("{}, which the URL names: {what}", path.display()))
}

/// What the client shows of itself.
pub struct Identity {
    /// Its certificate, with those between it and an authority.
    pub certificates: Vec<CertificateDer<'static>>,
    /// Its key.
    pub key: PrivateKeyDer<'static>,
    /// The key as it stands in its file.
    pub pem: Vec<u8>,
}

/// What the client shows of itself, where the URL says that.
///
/// # Errors
/// Files that cannot be read, or are none of these.
pub fn identity(url: &ServerUrl) -> Result<Option<Identity>, TargetError> {
    let Some((certificate, path)) = &url.identity else { return Ok(None) };
    let pem = std::fs::read(path).map_err(TargetError::io(path))?;
    let key = PrivateKeyDer::from_pem_slice(&pem);
    let key = key.map_err(|error| unusable(path, &error.to_string()))?;
    Ok(Some(Identity { certificates: certificates(certificate)?, key, pem }))
}

fn failed(url: &ServerUrl, message: String) -> TargetError {
    let help = "install ca-certificates, or name a file of them in SSL_CERT_FILE; ?encrypted=no in the URL goes without";
    let help = help.into();
    TargetError::Server { target: url.to_string(), message, help }
}

/// How a connection is encrypted.
///
/// # Errors
/// A machine that trusts nobody.
#[cfg(feature = "postgres")]
pub fn client_config(url: &ServerUrl) -> Result<rustls::ClientConfig, TargetError> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(trusted(url)?);
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| failed(url, error.to_string()))?;
    let config = config.with_root_certificates(roots);
    match identity(url)? {
        Some(shown) => config
            .with_client_auth_cert(shown.certificates, shown.key)
            .map_err(|error| failed(url, error.to_string())),
        None => Ok(config.with_no_client_auth()),
    }
}

/// A file of certificates, which is gone when it is dropped, and when the process is stopped.
#[cfg(feature = "mariadb")]
pub struct TrustedFile {
    file: tempfile::NamedTempFile,
    _listed: typhos_load::unfinished::Listed,
}

#[cfg(feature = "mariadb")]
impl TrustedFile {
    /// Where it is.
    pub fn path(&self) -> &std::path::Path {
        self.file.path()
    }
}

/// The same certificates in a file (PEM, RFC 7468).
///
/// # Errors
/// A machine that trusts nobody, and a folder for temporary files that cannot be written to.
#[cfg(feature = "mariadb")]
pub fn trusted_file(url: &ServerUrl) -> Result<TrustedFile, TargetError> {
    use base64::Engine;
    use std::io::Write;

    let mut text = String::new();
    for certificate in trusted(url)? {
        let letters = base64::engine::general_purpose::STANDARD.encode(&certificate);
        text.push_str("-----BEGIN CERTIFICATE-----\n");
        // Lines have 64 letters.
        for line in letters.as_bytes().chunks(64) {
            text.push_str(&String::from_utf8_lossy(line));
            text.push('\n');
        }
        text.push_str("-----END CERTIFICATE-----\n");
    }
    let folder = std::env::temp_dir();
    let mut file = tempfile::NamedTempFile::new().map_err(TargetError::io(&folder))?;
    file.write_all(text.as_bytes()).map_err(TargetError::io(&folder))?;
    let _listed = typhos_load::unfinished::list(file.path());
    Ok(TrustedFile { file, _listed })
}
