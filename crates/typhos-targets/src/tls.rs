//! Encrypted connections: certificates are always held against those that the machine trusts.

use std::sync::Arc;

use rustls::{ClientConfig, RootCertStore};

use crate::TargetError;
use crate::place::Place;

/// How a connection is encrypted.
///
/// # Errors
/// A machine that trusts nobody.
pub(crate) fn client_config(place: &Place) -> Result<ClientConfig, TargetError> {
    let failed = |message: String| TargetError::Server {
        target: place.to_string(),
        message,
        help: "?encrypted=no in the URL goes without".into(),
    };
    let mut roots = RootCertStore::empty();
    for certificate in rustls_native_certs::load_native_certs().certs {
        // One that cannot be read is one less to trust.
        let _ = roots.add(certificate);
    }
    if roots.is_empty() {
        return Err(failed(
            "this machine has no certificates to trust (install ca-certificates)".into(),
        ));
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| failed(error.to_string()))?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}
