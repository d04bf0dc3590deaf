//! A file of a web server: read in ranges where the server has them, and otherwise from its start.

use std::fmt;
use std::io::{self, Read};
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use typhos_core::text::{Bytes, Origin, Stamp};
use ureq::http::{Response, StatusCode};
use ureq::{Body, Error};

use super::ahead::{Ahead, Fetch};
use super::http::agent;

/// How often a request is made that fails for a moment.
const TRIES: u32 = 6;

/// The first wait; each one is twice as long as the one before.
const FIRST_WAIT: Duration = Duration::from_millis(200);

/// A file of a web server, as it was when it was opened.
pub(super) struct WebFile {
    url: String,
    about: About,
}

/// What a server says of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
struct About {
    bytes: u64,
    /// Its ETag, or the time of its last change; empty where the server says neither.
    version: String,
    has_ranges: bool,
}

impl fmt::Debug for WebFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name())
    }
}

impl WebFile {
    pub fn open(url: &str) -> io::Result<WebFile> {
        Ok(WebFile { url: url.to_owned(), about: about(url)? })
    }
}

impl Origin for WebFile {
    fn name(&self) -> String {
        super::shown(&self.url)
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        if !self.about.has_ranges {
            let answer = asked(|| agent().get(&self.url).call())?;
            let mut body = answer.into_body().into_reader();
            io::copy(&mut (&mut body).take(offset), &mut io::sink())?;
            return Ok(Box::new(body));
        }
        let (url, about) = (self.url.clone(), self.about.clone());
        let fetch: Arc<Fetch> = Arc::new(move |range| read(&url, &about, range));
        Ok(Box::new(Ahead::new(fetch, offset, self.about.bytes)))
    }

    fn size(&self) -> io::Result<Option<u64>> {
        Ok(Some(self.about.bytes))
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        let About { bytes, version, .. } = about(&self.url)?;
        Ok(Some(Stamp { bytes, version }))
    }
}

fn about(url: &str) -> io::Result<About> {
    let answer = asked(|| agent().head(url).call())?;
    let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok());
    let bytes = header("content-length").and_then(|length| length.parse().ok());
    let bytes = bytes.ok_or_else(|| io::Error::other("the server does not say how long it is"))?;
    let version = header("etag").or(header("last-modified")).unwrap_or_default().to_owned();
    Ok(About { bytes, version, has_ranges: header("accept-ranges") == Some("bytes") })
}

fn read(url: &str, about: &About, range: Range<u64>) -> io::Result<Vec<u8>> {
    // A weak ETag does not speak of bytes.
    let strong = Some(&about.version).filter(|version| version.starts_with('"'));
    let mut tries = 0;
    loop {
        let answer = asked(|| {
            let range = format!("bytes={}-{}", range.start, range.end - 1);
            let request = agent().get(url).header("range", range);
            match strong {
                Some(version) => request.header("if-match", version).call(),
                None => request.call(),
            }
        })?;
        if answer.status() != StatusCode::PARTIAL_CONTENT {
            return Err(io::Error::other(
                "the server sent something else than the range that was asked for",
            ));
        }
        let read = answer.into_body().with_config().limit(u64::MAX).read_to_vec();
        match read {
            Ok(bytes) => return Ok(bytes),
            Err(_) if tries < TRIES => tries += 1,
            Err(error) => return Err(error.into_io()),
        }
    }
}

/// Makes a request, again where it fails for a moment.
fn asked(request: impl Fn() -> Result<Response<Body>, Error>) -> io::Result<Response<Body>> {
    let mut wait = FIRST_WAIT;
    for round in 1.. {
        let again = round < TRIES;
        match request() {
            Ok(answer) if answer.status().is_success() => return Ok(answer),
            Ok(answer) => {
                let status = answer.status();
                let is_busy = status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS;
                if !(again && is_busy) {
                    return Err(refused(status));
                }
            }
            Err(Error::BadUri(what)) => return Err(io::Error::other(format!("is no URL: {what}"))),
            // A name that nobody knows is most likely mistyped.
            Err(error @ Error::HostNotFound) => return Err(error.into_io()),
            Err(error) if !again => return Err(error.into_io()),
            Err(_) => {}
        }
        std::thread::sleep(wait);
        wait *= 2;
    }
    unreachable!("the last round returns")
}

fn refused(status: StatusCode) -> io::Error {
    match status {
        StatusCode::NOT_FOUND | StatusCode::GONE => {
            io::Error::new(io::ErrorKind::NotFound, "there is no such file on the server")
        }
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
            io::Error::new(io::ErrorKind::PermissionDenied, "the server does not let it be read")
        }
        StatusCode::PRECONDITION_FAILED => io::Error::other(
            "it changed while it was read; run this again once nothing writes to it",
        ),
        status => io::Error::other(format!("the server answers {status}")),
    }
}
