//! How servers are reached that speak HTTP: with the certificates that this machine trusts, and with a limit on how long a
//! connection may take to come about.

use typhos_load::TargetError;
use ureq::Agent;
use ureq::tls::{Certificate, ClientCert, PrivateKey, RootCerts, TlsConfig};

use crate::server_url::ServerUrl;

/// Makes requests to a server; an answer that tells of an error is an answer.
///
/// # Errors
/// A machine that trusts nobody, where the connection is encrypted.
pub fn agent(url: &ServerUrl) -> Result<Agent, TargetError> {
    let most = Some(url.timeouts.connect).filter(|most| !most.is_zero());
    let mut config = Agent::config_builder().http_status_as_error(false).timeout_connect(most);
    if url.encrypted {
        let trusted = crate::tls::trusted(url)?;
        let trusted = trusted.iter().map(|it| Certificate::from_der(it).to_owned());
        let trusted = RootCerts::new_with_certs(&trusted.collect::<Vec<_>>());
        let shown = crate::tls::identity(url)?.map(|shown| {
            let certificates = shown.certificates.iter();
            let certificates: Vec<_> =
                certificates.map(|it| Certificate::from_der(it).to_owned()).collect();
            let key = PrivateKey::from_pem(&shown.pem);
            key.map(|key| ClientCert::new_with_certs(&certificates, key))
        });
        let shown = shown.transpose().map_err(|error| {
            TargetError::Address(format!("the key that the URL names cannot be used: {error}"))
        })?;
        let tls = TlsConfig::builder().root_certs(trusted).client_cert(shown);
        config = config.tls_config(tls.build());
    }
    Ok(config.build().new_agent())
}

/// The first part of the address of everything on a server.
pub fn base(url: &ServerUrl) -> String {
    let scheme = if url.encrypted { "https" } else { "http" };
    let host = &url.host;
    let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
    format!("{scheme}://{host}:{}", url.port)
}
