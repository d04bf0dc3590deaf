//! Encrypted connections: certificates are always held against those that the machine trusts.

use std::sync::Arc;

use rustls::{ClientConfig, RootCertStore};

use crate::server_url::ServerUrl;
use typhos_load::TargetError;

/// How a connection is encrypted.
///
/// # Errors
/// A machine that trusts nobody.
pub fn client_config(url: &ServerUrl) -> Result<ClientConfig, TargetError> {
    let failed = |message: String| TargetError::Server {
        target: url.to_string(),
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
