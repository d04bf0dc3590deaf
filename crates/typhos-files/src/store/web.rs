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
    /// How long it is; `None` where the server does not say.
    bytes: Option<u64>,
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
        let Some(bytes) = self.about.bytes.filter(|_| self.about.has_ranges) else {
            let answer = granted(asked(|| agent().get(&self.url).call())?)?;
            let mut body = answer.into_body().into_reader();
            io::copy(&mut (&mut body).take(offset), &mut io::sink())?;
            return Ok(Box::new(body));
        };
        let (url, version) = (self.url.clone(), self.about.version.clone());
        let fetch: Arc<Fetch> = Arc::new(move |range| read(&url, &version, range));
        Ok(Box::new(Ahead::new(fetch, offset, bytes)))
    }

    fn size(&self) -> io::Result<Option<u64>> {
        Ok(self.about.bytes)
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        let About { bytes, version, .. } = about(&self.url)?;
        Ok(bytes.map(|bytes| Stamp { bytes, version }))
    }
}

/// Asks about a file without reading it. A URL that was signed for reading is often good for nothing else, and what is made
/// while it is sent may have no length before: its first byte is asked for then.
fn about(url: &str) -> io::Result<About> {
    let head = asked(|| agent().head(url).call())?;
    let about = About::of(&head);
    match head.status() {
        StatusCode::NOT_FOUND | StatusCode::GONE => return granted(head).map(|_| about),
        status if status.is_success() && about.bytes.is_some() => return Ok(about),
        _ => {}
    }
    let first = asked(|| agent().get(url).header("range", "bytes=0-0").call())?;
    let about = About::of(&first);
    match first.status() {
        // Of a file without a byte there is no first one.
        StatusCode::RANGE_NOT_SATISFIABLE if about.bytes == Some(0) => Ok(about),
        _ => granted(first).map(|_| about),
    }
}

impl About {
    /// What the head of an answer says.
    fn of(answer: &Response<Body>) -> About {
        let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok());
        let number = |text: &str| text.parse().ok();
        let of_whole = || number(header("content-range")?.rsplit_once('/')?.1);
        let (bytes, has_ranges) = match answer.status() {
            StatusCode::PARTIAL_CONTENT | StatusCode::RANGE_NOT_SATISFIABLE => (of_whole(), true),
            _ => (
                header("content-length").and_then(number),
                header("accept-ranges") == Some("bytes"),
            ),
        };
        let version = header("etag").or(header("last-modified")).unwrap_or_default().to_owned();
        About { bytes, version, has_ranges }
    }
}

fn read(url: &str, version: &str, range: Range<u64>) -> io::Result<Vec<u8>> {
    // A weak ETag does not speak of bytes.
    let strong = Some(version).filter(|version| version.starts_with('"'));
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
        let answer = granted(answer)?;
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

/// Makes a request, again where it fails for a moment. The answer may be a refusal.
fn asked(request: impl Fn() -> Result<Response<Body>, Error>) -> io::Result<Response<Body>> {
    let mut wait = FIRST_WAIT;
    for round in 1.. {
        let again = round < TRIES;
        match request() {
            Ok(answer) => {
                let status = answer.status();
                let is_busy = status == StatusCode::TOO_MANY_REQUESTS
                    || status.is_server_error() && status != StatusCode::NOT_IMPLEMENTED;
                if !(again && is_busy) {
                    return Ok(answer);
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

/// The answer, if it is what was asked for.
fn granted(answer: Response<Body>) -> io::Result<Response<Body>> {
    Err(match answer.status() {
        status if status.is_success() => return Ok(answer),
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
    })
}
