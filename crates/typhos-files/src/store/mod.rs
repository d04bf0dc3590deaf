//! Objects in stores: `s3://`, `gs://` and `az://`, and files of web servers by `https://`.
//!
//! An object is read in pieces, several at once ([`ahead`]), each on condition that the object is still the one that was
//! opened: one that changed on the way is an error. Requests that fail for a moment are made again, each time after a longer
//! wait. What is written is seen when it is whole ([`put`]). Credentials come from the environment and the files that other clients of a store use, or from the
//! [catalog](Vended) of a table, and are never shown.

mod ahead;
mod http;
mod profile;
mod put;
mod web;

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use futures_util::TryStreamExt;
use object_store::aws::AmazonS3Builder;
use object_store::azure::MicrosoftAzureBuilder;
use object_store::gcp::GoogleCloudStorageBuilder;
use object_store::path::Path as Key;
use object_store::{
    BackoffConfig, GetOptions, GetRange, ObjectMeta, ObjectStore, ObjectStoreExt, RetryConfig,
};
use typhos_core::text::{Bytes, Origin, Stamp};
use typhos_load::Secret;

use crate::origins::Found;
use ahead::{Ahead, Fetch};
use http::Waiting;
pub(crate) use http::agent;
use profile::Profile;
pub(crate) use put::{Upload, has_any, read, remove};
pub use put::{exists, open_object, write};

/// The schemes of what is read here.
const SCHEMES: [&str; 5] = ["s3", "gs", "az", "https", "http"];

/// How long a store that is busy or away is asked again.
const PATIENCE: Duration = Duration::from_secs(60);

/// Whether a path is the URL of an object.
pub fn is_url(path: &Path) -> bool {
    let Some((scheme, rest)) = path.to_str().and_then(|text| text.split_once("://")) else {
        return false;
    };
    SCHEMES.contains(&scheme) && !rest.is_empty()
}

/// Whether a path is the URL of an object in a store that can be written to, too.
pub fn is_object(path: &Path) -> bool {
    is_url(path) && path.to_str().is_some_and(|url| !url.starts_with("http"))
}

/// A URL without what may be secret in it: a user and a password, and what stands behind a question mark.
pub fn shown(url: &str) -> String {
    let url = url.split_once('?').map_or(url, |(url, _)| url);
    match url.split_once("://").and_then(|(scheme, rest)| Some((scheme, rest.split_once('@')?.1))) {
        Some((scheme, rest)) => format!("{scheme}://{rest}"),
        None => url.to_owned(),
    }
}

/// The one runtime in which stores wait.
fn runtime() -> &'static tokio::runtime::Runtime {
    static RUNTIME: OnceLock<tokio::runtime::Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_time()
            .build()
            .expect("a thread for the runtime of stores")
    })
}

/// The origins that a URL stands for: an object; all objects below a prefix that ends in `/`; those that a pattern with `*` or
/// `?` matches. What is left out of them is told.
///
/// # Errors
/// A store that cannot be reached, does not let in, or has no such object.
pub(crate) fn origins(url: &str) -> io::Result<(Vec<Found>, Vec<String>)> {
    if url.starts_with("http://") || url.starts_with("https://") {
        return Ok((vec![Arc::new(web::WebFile::open(url)?)], Vec::new()));
    }
    let Some((scheme, rest)) = url.split_once("://") else {
        return Err(io::Error::other("is not the URL of an object"));
    };
    let (bucket, key) = rest.split_once('/').unwrap_or((rest, ""));
    let store =
        Arc::new(Store { root: format!("{scheme}://{bucket}/"), store: open(scheme, bucket)? });
    let is_pattern = key.contains(['*', '?']);
    if !is_pattern && !key.is_empty() && !key.ends_with('/') {
        let path = key_of(key)?;
        match runtime().block_on(store.store.head(&path)) {
            Ok(about) => return Ok((vec![Arc::new(store.object(about))], Vec::new())),
            // It may be a folder of objects.
            Err(object_store::Error::NotFound { .. }) => {}
            Err(error) => return Err(failed(error)),
        }
    }
    let fixed = key.split(['*', '?']).next().unwrap_or_default();
    let folder =
        if is_pattern { fixed.rsplit_once('/').map_or("", |(folder, _)| folder) } else { key };
    let prefix = folder.trim_end_matches('/');
    let prefix = (!prefix.is_empty()).then(|| key_of(prefix)).transpose()?;
    let listed = store.store.list(prefix.as_ref());
    let mut found: Vec<ObjectMeta> = runtime().block_on(listed.try_collect()).map_err(failed)?;
    if is_pattern {
        let pattern = glob::Pattern::new(key).map_err(|error| {
            io::Error::other(format!("is not a pattern for objects: {}", error.msg))
        })?;
        let options =
            glob::MatchOptions { require_literal_separator: true, ..glob::MatchOptions::new() };
        found.retain(|about| pattern.matches_with(about.location.as_ref(), options));
    }
    found.sort_by(|a, b| a.location.cmp(&b.location));
    let name = |about: &ObjectMeta| about.location.filename().unwrap_or_default().to_owned();
    found.retain(|about| !name(about).starts_with('.'));
    let is_passed = |about: &ObjectMeta| about.size == 0 || name(about).starts_with('_');
    let (passed, objects): (Vec<_>, Vec<_>) = found.into_iter().partition(is_passed);
    if objects.is_empty() {
        let what =
            if is_pattern { "no object matches this pattern" } else { "there is no such object" };
        return Err(io::Error::new(io::ErrorKind::NotFound, what));
    }
    let notes = match passed.len() {
        0 => Vec::new(),
        1 => vec![format!(
            "{} is passed over: empty, or left by a program to say that it is done",
            name(&passed[0])
        )],
        more => vec![format!(
            "{more} objects are passed over: empty, or left by programs to say that they are done"
        )],
    };
    let object = |about| -> Found { Arc::new(store.object(about)) };
    Ok((objects.into_iter().map(object).collect(), notes))
}

/// Whether a URL stands for more than one object: a folder, or a pattern.
pub fn is_several(url: &str) -> bool {
    url.ends_with('/') || url.contains(['*', '?'])
}

/// The URLs of the objects that one stands for.
///
/// # Errors
/// A store that cannot be reached, does not let in, or has no such object.
pub fn names(url: &str) -> io::Result<Vec<String>> {
    Ok(origins(url)?.0.iter().map(|origin| origin.name()).collect())
}

fn key_of(key: &str) -> io::Result<Key> {
    Key::parse(key).map_err(|error| io::Error::other(error.to_string()))
}

/// Buckets by their URLs, opened once: whoever opens one reads files of credentials, and may have to log in.
fn stores() -> MutexGuard<'static, BTreeMap<String, Arc<dyn ObjectStore>>> {
    static OPEN: Mutex<BTreeMap<String, Arc<dyn ObjectStore>>> = Mutex::new(BTreeMap::new());
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

fn open(scheme: &str, bucket: &str) -> io::Result<Arc<dyn ObjectStore>> {
    let name = format!("{scheme}://{bucket}");
    let mut open = stores();
    if let Some(store) = open.get(&name) {
        return Ok(store.clone());
    }
    let store = connect(scheme, bucket)?;
    open.insert(name, store.clone());
    Ok(store)
}

/// How often, and how long, a request is made again that fails for a moment.
fn retries() -> RetryConfig {
    RetryConfig { backoff: BackoffConfig::default(), max_retries: 8, retry_timeout: PATIENCE }
}

/// How the store of a table is reached, where its catalog says that: credentials for a while, and where the store is. What is not
/// said is as it is without.
#[derive(Debug, Default)]
pub(crate) struct Vended {
    /// The key, its secret, and the token of the session that both are for.
    pub credentials: Option<(String, Secret, Option<Secret>)>,
    pub region: Option<String>,
    pub endpoint: Option<String>,
}

/// Reaches the bucket of a URL as a catalog says, from now on. Nothing changes for what is no bucket of the S3 protocol.
///
/// # Errors
/// An address that is none.
pub(crate) fn vend(url: &str, vended: &Vended) -> io::Result<()> {
    let Vended { credentials, region, endpoint } = vended;
    let is_said = credentials.is_some() || region.is_some() || endpoint.is_some();
    let Some(("s3", rest)) = url.split_once("://").filter(|_| is_said) else { return Ok(()) };
    let bucket = rest.split('/').next().unwrap_or_default();
    let store = Arc::new(s3(bucket, retries(), vended)?);
    stores().insert(format!("s3://{bucket}"), store);
    Ok(())
}

fn connect(scheme: &str, bucket: &str) -> io::Result<Arc<dyn ObjectStore>> {
    let retry = retries();
    Ok(match scheme {
        "s3" => Arc::new(s3(bucket, retry, &Vended::default())?),
        "gs" => Arc::new(
            GoogleCloudStorageBuilder::from_env()
                .with_bucket_name(bucket)
                .with_retry(retry)
                .with_http_connector(Waiting)
                .build()
                .map_err(failed)?,
        ),
        "az" => Arc::new(
            MicrosoftAzureBuilder::from_env()
                .with_container_name(bucket)
                .with_retry(retry)
                .with_http_connector(Waiting)
                .build()
                .map_err(failed)?,
        ),
        other => {
            return Err(io::Error::other(format!("there is no store of the scheme {other}://")));
        }
    })
}

fn s3(
    bucket: &str,
    retry: RetryConfig,
    vended: &Vended,
) -> io::Result<object_store::aws::AmazonS3> {
    let is_said = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let profile = Profile::of_process();
    // Of credentials for a while all are said, or none.
    let own = match vended.credentials {
        Some(_) => AmazonS3Builder::new(),
        None => AmazonS3Builder::from_env(),
    };
    let mut builder = own.with_bucket_name(bucket).with_retry(retry).with_http_connector(Waiting);
    if let Some((key, secret, token)) = &vended.credentials {
        builder = builder.with_access_key_id(key).with_secret_access_key(secret.reveal());
        if let Some(token) = token {
            builder = builder.with_token(token.reveal());
        }
    } else if !is_said("AWS_ACCESS_KEY_ID")
        && let (Some(key), Some(secret)) =
            (profile.get("aws_access_key_id"), profile.get("aws_secret_access_key"))
    {
        builder = builder.with_access_key_id(key).with_secret_access_key(secret);
        if let Some(token) = profile.get("aws_session_token") {
            builder = builder.with_token(token);
        }
    }
    let regions = ["AWS_REGION", "AWS_DEFAULT_REGION"].map(|name| std::env::var(name).ok());
    let region = regions.into_iter().flatten().find(|region| !region.is_empty());
    let region = vended.region.as_deref().or(region.as_deref()).or(profile.get("region"));
    builder = builder.with_region(region.unwrap_or("us-east-1"));
    let endpoint = ["AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL", "AWS_ENDPOINT"];
    let endpoint = endpoint.into_iter().find_map(|name| std::env::var(name).ok());
    let endpoint = vended.endpoint.as_deref().or(endpoint.as_deref());
    if let Some(endpoint) = endpoint.or(profile.get("endpoint_url")) {
        // Whoever names a server without encryption, as on the same machine, means it.
        builder = builder.with_endpoint(endpoint).with_allow_http(endpoint.starts_with("http://"));
    }
    builder.build().map_err(failed)
}

/// A bucket.
struct Store {
    /// Its URL, up to its keys.
    root: String,
    store: Arc<dyn ObjectStore>,
}

impl Store {
    fn object(self: &Arc<Self>, about: ObjectMeta) -> Object {
        Object { store: self.clone(), about }
    }

    /// Reads a range of an object, which must be as it was.
    fn read(&self, was: &ObjectMeta, range: Range<u64>) -> io::Result<Vec<u8>> {
        let options = GetOptions {
            range: Some(GetRange::Bounded(range)),
            if_match: was.e_tag.clone(),
            ..GetOptions::default()
        };
        let read = async {
            let found = self.store.get_opts(&was.location, options).await?;
            let ObjectMeta { size, e_tag, last_modified, .. } = &found.meta;
            // Not every server looks at the condition.
            let is_same = *size == was.size
                && match (e_tag, &was.e_tag) {
                    (Some(now), Some(was)) => now == was,
                    // A list of objects has parts of seconds, and an answer has not.
                    _ => last_modified.timestamp() == was.last_modified.timestamp(),
                };
            Ok::<_, object_store::Error>(match is_same {
                true => Some(found.bytes().await?),
                false => None,
            })
        };
        let bytes = runtime().block_on(read).map_err(failed)?;
        bytes.map(Vec::from).ok_or_else(changed)
    }
}

/// An object is no longer what it was.
fn changed() -> io::Error {
    io::Error::other("it changed while it was read; run this again once nothing writes to it")
}

/// An object, as it was when it was opened.
struct Object {
    store: Arc<Store>,
    about: ObjectMeta,
}

impl fmt::Debug for Object {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name())
    }
}

impl Origin for Object {
    fn name(&self) -> String {
        format!("{}{}", self.store.root, self.about.location)
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        let (store, about) = (self.store.clone(), self.about.clone());
        let fetch: Arc<Fetch> = Arc::new(move |range| store.read(&about, range));
        Ok(Box::new(Ahead::new(fetch, offset, self.about.size)))
    }

    fn size(&self) -> io::Result<Option<u64>> {
        Ok(Some(self.about.size))
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        let now = runtime().block_on(self.store.store.head(&self.about.location));
        let now = now.map_err(failed)?;
        let version = now.e_tag.unwrap_or_else(|| now.last_modified.to_string());
        Ok(Some(Stamp { bytes: now.size, version }))
    }
}

/// What a store says of an error, without what it was asked in detail.
fn failed(error: object_store::Error) -> io::Error {
    use object_store::Error;
    match error {
        Error::NotFound { .. } => {
            io::Error::new(io::ErrorKind::NotFound, "there is no such object")
        }
        Error::Precondition { .. } => io::Error::other(
            "it changed while it was read; run this again once nothing writes to it",
        ),
        Error::Unauthenticated { .. } => io::Error::new(
            io::ErrorKind::PermissionDenied,
            "the store does not know these credentials",
        ),
        Error::PermissionDenied { .. } => io::Error::new(
            io::ErrorKind::PermissionDenied,
            "the store does not let these credentials read it",
        ),
        Error::Generic { source, .. } => {
            // The innermost cause is what helps.
            let mut cause: &dyn std::error::Error = &*source;
            while let Some(inner) = cause.source() {
                cause = inner;
            }
            io::Error::other(format!("the store does not answer: {cause}"))
        }
        other => io::Error::other(other.to_string()),
    }
}
