//! How stores are reached: by the one client of HTTP that the program has, which works in calls that wait. Each runs on a
//! thread that may wait.

use std::sync::OnceLock;
use std::time::Duration;

use async_trait::async_trait;
use http_body_util::{BodyExt, Full};
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse,
    HttpResponseBody, HttpService,
};
use ureq::Agent;
use ureq::tls::{Certificate, RootCerts, TlsConfig};

/// How long a connection may take to come about.
const CONNECTING: Duration = Duration::from_secs(20);

/// How long an answer may take to begin, and a piece of it to arrive.
const ANSWERING: Duration = Duration::from_secs(120);

/// The most bytes of an answer: pieces of objects are asked for in sizes far below.
const MOST_BYTES: u64 = 1 << 30;

/// The client of all stores: connections are kept.
pub(crate) fn agent() -> &'static Agent {
    static AGENT: OnceLock<Agent> = OnceLock::new();
    AGENT.get_or_init(|| {
        // Those that this machine trusts.
        let trusted = rustls_native_certs::load_native_certs().certs;
        let trusted = trusted.iter().map(|it| Certificate::from_der(it).to_owned());
        let trusted = RootCerts::new_with_certs(&trusted.collect::<Vec<_>>());
        let tls = TlsConfig::builder().root_certs(trusted).build();
        Agent::config_builder()
            .http_status_as_error(false)
            .timeout_connect(Some(CONNECTING))
            .timeout_recv_response(Some(ANSWERING))
            .timeout_recv_body(Some(ANSWERING))
            .max_idle_connections_per_host(16)
            .tls_config(tls)
            .build()
            .new_agent()
    })
}

/// Makes the requests of a store.
#[derive(Debug)]
pub(super) struct Waiting;

impl HttpConnector for Waiting {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(Waiting))
    }
}

#[async_trait]
impl HttpService for Waiting {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let body = body.collect().await?.to_bytes();
        let call = move || -> Result<HttpResponse, ureq::Error> {
            let has_body = !body.is_empty() || matches!(parts.method.as_str(), "PUT" | "POST");
            let answer = match has_body {
                true => agent().run(ureq::http::Request::from_parts(parts, &body[..]))?,
                false => agent().run(ureq::http::Request::from_parts(parts, ()))?,
            };
            let (parts, mut body) = answer.into_parts();
            let bytes = body.with_config().limit(MOST_BYTES).read_to_vec()?;
            let body = Full::new(bytes.into()).map_err(|never| match never {});
            Ok(HttpResponse::from_parts(parts, HttpResponseBody::new(body)))
        };
        let failed = |kind, error| HttpError::new(kind, error);
        match tokio::task::spawn_blocking(call).await {
            Ok(Ok(answer)) => Ok(answer),
            Ok(Err(error)) => Err(failed(kind_of(&error), error)),
            Err(error) => Err(HttpError::new(HttpErrorKind::Interrupted, error)),
        }
    }
}

/// Whether a request may be made again.
fn kind_of(error: &ureq::Error) -> HttpErrorKind {
    match error {
        ureq::Error::Timeout(_) => HttpErrorKind::Timeout,
        ureq::Error::ConnectionFailed => HttpErrorKind::Connect,
        ureq::Error::Io(_) => HttpErrorKind::Interrupted,
        // Among them a host that nobody knows: its name is most likely mistyped.
        _ => HttpErrorKind::Unknown,
    }
}
