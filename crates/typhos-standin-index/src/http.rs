//! Requests and answers of HTTP/1.1, as far as clients of an index need them: bodies with a length or in chunks, plain or
//! packed with gzip, connections that are kept. What a request means is not known here.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::TcpStream;

use percent_encoding::percent_decode_str;
use serde_json::Value;

/// Bytes of a body at most, as servers have it where nothing is set: 100 MiB.
pub const MOST_BODY_BYTES: usize = 100 << 20;

/// Bytes of the lines before a body at most.
const MOST_HEAD_BYTES: usize = 64 << 10;

/// A request.
#[derive(Debug, Default)]
pub struct Request {
    /// Its method, in upper case.
    pub method: String,
    /// The parts of its path, decoded.
    pub path: Vec<String>,
    /// What stands behind the question mark, decoded.
    pub query: Vec<(String, String)>,
    /// What it carries, unpacked.
    pub body: Vec<u8>,
    /// The user and what proves it, as they were sent.
    pub authorization: Option<String>,
    /// Whether the connection is to be kept.
    pub keeps: bool,
}

impl Request {
    /// What a parameter is set to.
    pub fn parameter(&self, name: &str) -> Option<&str> {
        self.query.iter().find(|(known, _)| known == name).map(|(_, value)| &value[..])
    }

    /// Whether a parameter is given, and not as `false`.
    pub fn has(&self, name: &str) -> bool {
        self.parameter(name).is_some_and(|value| value != "false")
    }
}

/// An answer.
#[derive(Debug)]
pub struct Response {
    /// Its status.
    pub status: u16,
    /// Its body, in JSON or plain text.
    pub body: Vec<u8>,
    /// What else stands in its head.
    pub headers: Vec<(&'static str, String)>,
}

impl Response {
    /// An answer in JSON.
    pub fn json(status: u16, body: &Value) -> Response {
        Response::of_json(status, body.to_string())
    }

    /// An answer in JSON that is written already: documents are told to the letter.
    pub fn of_json(status: u16, body: String) -> Response {
        let headers = vec![("content-type", "application/json; charset=UTF-8".to_owned())];
        Response { status, body: body.into_bytes(), headers }
    }

    /// An answer without a body.
    pub fn empty(status: u16) -> Response {
        Response { status, body: Vec::new(), headers: Vec::new() }
    }

    /// An answer in plain text.
    pub fn text(status: u16, text: &str) -> Response {
        let headers = vec![("content-type", "text/plain; charset=UTF-8".to_owned())];
        Response { status, body: text.as_bytes().to_vec(), headers }
    }

    /// The answer as it goes over the wire. The answer to `HEAD` has the length of a body, and none.
    pub fn to_bytes(&self, is_head: bool) -> Vec<u8> {
        let mut bytes =
            format!("HTTP/1.1 {} {}\r\n", self.status, reason(self.status)).into_bytes();
        for (name, value) in &self.headers {
            bytes.extend_from_slice(format!("{name}: {value}\r\n").as_bytes());
        }
        bytes.extend_from_slice(format!("content-length: {}\r\n\r\n", self.body.len()).as_bytes());
        if !is_head {
            bytes.extend_from_slice(&self.body);
        }
        bytes
    }
}

fn reason(status: u16) -> &'static str {
    match status {
        200 => "OK",
        201 => "Created",
        400 => "Bad Request",
        401 => "Unauthorized",
        404 => "Not Found",
        405 => "Method Not Allowed",
        409 => "Conflict",
        413 => "Request Entity Too Large",
        429 => "Too Many Requests",
        503 => "Service Unavailable",
        _ => "Internal Server Error",
    }
}

/// Reads the next request of a connection; `None` where there is none any more.
///
/// # Errors
/// A connection that fails, and bytes that are no request.
pub fn read(reader: &mut BufReader<TcpStream>) -> io::Result<Option<Request>> {
    let mut head = Vec::new();
    loop {
        let read = reader.by_ref().take(MOST_HEAD_BYTES as u64).read_until(b'\n', &mut head)?;
        if read == 0 {
            return Ok(None);
        }
        if head.ends_with(b"\r\n\r\n") || head.ends_with(b"\n\n") {
            break;
        }
        if head.len() > MOST_HEAD_BYTES {
            return Err(invalid("the head of the request is too long"));
        }
    }
    let mut headers = [httparse::EMPTY_HEADER; 64];
    let mut parsed = httparse::Request::new(&mut headers);
    parsed.parse(&head).map_err(|error| invalid(&error.to_string()))?;
    let header = |name: &str| {
        let found = parsed.headers.iter().find(|header| header.name.eq_ignore_ascii_case(name));
        found.and_then(|header| std::str::from_utf8(header.value).ok())
    };
    let (path, query) = target(parsed.path.unwrap_or("/"));
    let mut request = Request {
        method: parsed.method.unwrap_or_default().to_ascii_uppercase(),
        path,
        query,
        authorization: header("authorization").map(str::to_owned),
        keeps: header("connection").is_none_or(|said| !said.eq_ignore_ascii_case("close")),
        body: Vec::new(),
    };
    let length = header("content-length").and_then(|length| length.trim().parse::<usize>().ok());
    let is_chunked = header("transfer-encoding").is_some_and(|said| said.contains("chunked"));
    let is_packed = header("content-encoding").is_some_and(|said| said.contains("gzip"));
    if header("expect").is_some_and(|said| said.eq_ignore_ascii_case("100-continue")) {
        reader.get_mut().write_all(b"HTTP/1.1 100 Continue\r\n\r\n")?;
    }
    let mut body = Vec::new();
    if is_chunked {
        read_chunks(reader, &mut body)?;
    } else if let Some(length) = length {
        if length > MOST_BODY_BYTES {
            return Err(invalid("the body of the request is too long"));
        }
        body.resize(length, 0);
        reader.read_exact(&mut body)?;
    }
    request.body = if is_packed { unpacked(&body)? } else { body };
    Ok(Some(request))
}

fn invalid(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// The parts of a path, and the parameters behind it.
fn target(text: &str) -> (Vec<String>, Vec<(String, String)>) {
    let (path, query) = text.split_once('?').unwrap_or((text, ""));
    let decoded = |part: &str| percent_decode_str(part).decode_utf8_lossy().into_owned();
    let path = path.split('/').filter(|part| !part.is_empty()).map(decoded).collect();
    let query = url::form_urlencoded::parse(query.as_bytes()).into_owned().collect();
    (path, query)
}

fn read_chunks(reader: &mut BufReader<TcpStream>, body: &mut Vec<u8>) -> io::Result<()> {
    loop {
        let mut line = String::new();
        reader.by_ref().take(1024).read_line(&mut line)?;
        let length = line.split(';').next().unwrap_or_default().trim();
        let length =
            usize::from_str_radix(length, 16).map_err(|_| invalid("a chunk has no length"))?;
        if body.len().saturating_add(length) > MOST_BODY_BYTES {
            return Err(invalid("the body of the request is too long"));
        }
        let start = body.len();
        body.resize(start + length, 0);
        reader.read_exact(&mut body[start..])?;
        let mut end = String::new();
        reader.by_ref().take(1024).read_line(&mut end)?;
        if length == 0 {
            return Ok(());
        }
    }
}

fn unpacked(body: &[u8]) -> io::Result<Vec<u8>> {
    let mut plain = Vec::new();
    let reader = flate2::read::MultiGzDecoder::new(body);
    reader.take(MOST_BODY_BYTES as u64 + 1).read_to_end(&mut plain)?;
    if plain.len() > MOST_BODY_BYTES {
        return Err(invalid("the body of the request is too long"));
    }
    Ok(plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_are_decoded_part_by_part() {
        let (path, query) = target("/a%2Fb/_doc/x%20y?refresh=true&q=a+b");
        assert_eq!(path, ["a/b", "_doc", "x y"]);
        assert_eq!(query, [("refresh".into(), "true".into()), ("q".into(), "a b".into())]);
    }

    #[test]
    fn an_answer_to_head_has_no_body() {
        let response = Response::text(404, "gone");
        assert!(response.to_bytes(false).ends_with(b"content-length: 4\r\n\r\ngone"));
        assert!(response.to_bytes(true).ends_with(b"content-length: 4\r\n\r\n"));
    }
}
