//! Requests to an index server, with patience: what is busy or away for a moment is asked again.
//!
//! A request may be done and its answer lost, so that it is done twice. Who sends one sees to it that this does no harm: documents
//! have ids, and who makes an index or moves a name looks whether that was done.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use base64::Engine;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};
use typhos_load::{PASSWORD_VARIABLE, TargetError};
use ureq::Agent;

use crate::http;
use crate::server_url::ServerUrl;

/// The variable of the environment that has a key in place of a user and a password.
pub const KEY_VARIABLE: &str = "TYPHOS_API_KEY";

/// How long a server that is busy or away is waited for.
const PATIENCE: Duration = Duration::from_secs(60);

/// How long the first wait is; each one is twice as long as the one before.
const FIRST_WAIT: Duration = Duration::from_millis(100);

/// How long one wait is at most, where the server does not say how long.
const MOST_WAIT: Duration = Duration::from_secs(10);

/// How long an answer may take.
const ANSWERING: Duration = Duration::from_secs(300);

/// Bytes of an answer at most.
const MOST_ANSWER_BYTES: u64 = 256 << 20;

/// What of a name stands in a path as it is.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.');

/// A name as a part of a path.
pub fn part(name: &str) -> String {
    utf8_percent_encode(name, PLAIN).to_string()
}

/// What a server answered.
#[derive(Debug)]
pub struct Answer {
    /// The status.
    pub status: u16,
    /// The body.
    pub body: Vec<u8>,
    /// How long it asks to be left alone.
    wait: Option<Duration>,
}

impl Answer {
    /// Whether it went well.
    pub fn is_fine(&self) -> bool {
        (200..300).contains(&self.status)
    }

    /// The body as JSON; null where it is none.
    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or(Value::Null)
    }
}

/// What a server says of an error, in its words.
pub fn words(error: &Value) -> String {
    let reason = error["reason"].as_str().or(error.as_str()).unwrap_or("an error without a reason");
    match error["caused_by"]["reason"].as_str() {
        Some(cause) if !reason.contains(cause) => format!("{reason}: {cause}"),
        _ => reason.to_owned(),
    }
}

/// How long it is waited for a server, and what is left of that.
pub struct Patience {
    since: Instant,
    next: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Patience { since: Instant::now(), next: FIRST_WAIT }
    }
}

impl Patience {
    /// How long to wait now; `None` where it was long enough.
    fn wait(&mut self, asked: Option<Duration>) -> Option<Duration> {
        let wait = asked.unwrap_or(self.next);
        self.next = (self.next * 2).min(MOST_WAIT);
        (self.since.elapsed() + wait < PATIENCE).then_some(wait)
    }
}

/// A client of one server. Clones share their connections.
#[derive(Clone)]
pub struct Client {
    agent: Agent,
    url: ServerUrl,
    authorization: Option<String>,
    /// Set once nobody waits for answers any more.
    pub is_over: Arc<AtomicBool>,
    /// The version that the server says it has.
    pub version: String,
}

impl Client {
    /// Asks the server what it is.
    ///
    /// # Errors
    /// A server that cannot be reached, or does not let the user in.
    pub fn connect(url: &ServerUrl) -> Result<Client, TargetError> {
        let key = std::env::var(KEY_VARIABLE).ok().filter(|_| url.user.is_empty());
        let authorization = match (key, &url.password) {
            (Some(key), _) => Some(format!("ApiKey {key}")),
            (None, Some(password)) if !url.user.is_empty() => {
                let login = format!("{}:{}", url.user, password.reveal());
                Some(format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(login)))
            }
            _ => None,
        };
        let mut client = Client {
            agent: http::agent(url)?,
            url: url.clone(),
            authorization,
            is_over: Arc::default(),
            version: String::new(),
        };
        let about = client.once("GET", "", None);
        let about = about.map_err(|message| {
            let help = crate::tls::connection_help(&message);
            client.error(message, help)
        })?;
        let about = client.checked(about)?.json();
        client.version = about["version"]["number"].as_str().unwrap_or_default().to_owned();
        Ok(client)
    }

    /// Where it is, without a password.
    pub fn target(&self) -> String {
        self.url.to_string()
    }

    /// The name of the index that is meant.
    pub fn index(&self) -> &str {
        &self.url.database
    }

    /// An error of the server.
    pub fn error(&self, message: impl Into<String>, help: &str) -> TargetError {
        TargetError::Server { target: self.target(), message: message.into(), help: help.into() }
    }

    /// Sends a request once; says what went wrong on the way.
    fn once(&self, method: &str, path: &str, body: Option<&[u8]>) -> Result<Answer, String> {
        let address = format!("{}/{path}", http::base(&self.url));
        let kind = match path.split('?').next().is_some_and(|path| path.ends_with("_bulk")) {
            true => "application/x-ndjson",
            false => "application/json",
        };
        let mut request = ureq::http::Request::builder().method(method).uri(address);
        if let Some(authorization) = &self.authorization {
            request = request.header("authorization", authorization);
        }
        let failed = |error: &dyn std::fmt::Display| error.to_string();
        let answer = match body {
            Some(body) => {
                let request = request.header("content-type", kind).body(body);
                let request = request.map_err(|error| failed(&error))?;
                self.agent.run(self.with_limit(request))
            }
            None => {
                let request = request.body(()).map_err(|error| failed(&error))?;
                self.agent.run(self.with_limit(request))
            }
        };
        let mut answer = answer.map_err(|error| failed(&error))?;
        let seconds =
            answer.headers().get("retry-after").and_then(|it| it.to_str().ok()?.parse().ok());
        let read = answer.body_mut().with_config().limit(MOST_ANSWER_BYTES).read_to_vec();
        let body = read.map_err(|error| failed(&error))?;
        Ok(Answer {
            status: answer.status().as_u16(),
            body,
            wait: seconds.map(Duration::from_secs),
        })
    }

    fn with_limit<B: ureq::AsSendBody>(
        &self,
        request: ureq::http::Request<B>,
    ) -> ureq::http::Request<B> {
        let request = self.agent.configure_request(request);
        request.timeout_recv_response(Some(ANSWERING)).build()
    }

    /// Sends a request until the server has time for it. Says also whether it was sent more than once.
    ///
    /// # Errors
    /// A server that stays away or busy, and a load that was called off.
    pub fn send(
        &self,
        method: &str,
        path: &str,
        body: Option<&[u8]>,
    ) -> Result<(Answer, bool), TargetError> {
        let (answer, is_again) = self.send_unless(method, path, body, &|| Ok(false))?;
        Ok((answer.expect("it is never done before"), is_again))
    }

    /// The same, of a request that must not be done twice: before it is sent again, `is_done` says whether it was done and
    /// only its answer was lost. Then there is no answer.
    ///
    /// # Errors
    /// As [`send`](Self::send), and those of `is_done`.
    fn send_unless(
        &self,
        method: &str,
        path: &str,
        body: Option<&[u8]>,
        is_done: &dyn Fn() -> Result<bool, TargetError>,
    ) -> Result<(Option<Answer>, bool), TargetError> {
        let mut patience = Patience::default();
        let mut is_again = false;
        loop {
            let (wait, message) = match self.once(method, path, body) {
                Ok(answer) if !matches!(answer.status, 429 | 502..=504) => {
                    return Ok((Some(answer), is_again));
                }
                Ok(answer) => {
                    let said = words(&answer.json()["error"]);
                    (answer.wait, format!("the server is busy ({}): {said}", answer.status))
                }
                Err(message) => (None, message),
            };
            let Some(wait) = patience.wait(wait) else {
                let help = format!("given up after {} seconds", patience.since.elapsed().as_secs());
                return Err(self.error(message, &help));
            };
            self.pause(wait)?;
            is_again = true;
            if is_done()? {
                return Ok((None, is_again));
            }
        }
    }

    /// Waits, unless the load was called off.
    ///
    /// # Errors
    /// A load that was called off.
    pub fn pause(&self, wait: Duration) -> Result<(), TargetError> {
        let until = Instant::now() + wait;
        loop {
            if self.is_over.load(Ordering::SeqCst) {
                return Err(TargetError::GivenUp);
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(());
            }
            std::thread::sleep(left.min(Duration::from_millis(20)));
        }
    }

    /// An answer that went well.
    ///
    /// # Errors
    /// What the server says otherwise.
    pub fn checked(&self, answer: Answer) -> Result<Answer, TargetError> {
        if answer.is_fine() {
            return Ok(answer);
        }
        let is_refused = matches!(answer.status, 401 | 403);
        if answer.status == 401 && self.authorization.is_none() && !self.url.user.is_empty() {
            return Err(TargetError::PasswordNeeded {
                target: self.target(),
                user: self.url.user.clone(),
            });
        }
        let said = words(&answer.json()["error"]);
        let help = match is_refused {
            true => format!(
                "log in with USER@ before the host and the password in {PASSWORD_VARIABLE}, or with a key in {KEY_VARIABLE}"
            ),
            false => String::new(),
        };
        Err(self.error(format!("{said} ({})", answer.status), &help))
    }

    /// Asks something, and expects that it goes well.
    ///
    /// # Errors
    /// As [`send`](Self::send) and [`checked`](Self::checked).
    pub fn ask(
        &self,
        method: &str,
        path: &str,
        body: Option<&Value>,
    ) -> Result<Value, TargetError> {
        let body = body.map(|body| body.to_string().into_bytes());
        let (answer, _) = self.send(method, path, body.as_deref())?;
        Ok(self.checked(answer)?.json())
    }

    /// The same, of something that may not be there.
    ///
    /// # Errors
    /// As [`ask`](Self::ask).
    pub fn ask_of(&self, path: &str) -> Result<Option<Value>, TargetError> {
        let (answer, _) = self.send("GET", path, None)?;
        if answer.status == 404 {
            return Ok(None);
        }
        Ok(Some(self.checked(answer)?.json()))
    }

    /// Changes aliases, all at once; `is_done` says whether they are changed, where that was not heard.
    ///
    /// # Errors
    /// As [`ask`](Self::ask), and those of `is_done`.
    pub fn change_aliases(
        &self,
        actions: Vec<Value>,
        is_done: &dyn Fn() -> Result<bool, TargetError>,
    ) -> Result<(), TargetError> {
        let body = json!({ "actions": actions }).to_string();
        let (answer, _) = self.send_unless("POST", "_aliases", Some(body.as_bytes()), is_done)?;
        answer.map_or(Ok(()), |answer| self.checked(answer).map(|_| ()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patience_ends() {
        let mut patience = Patience::default();
        assert_eq!(patience.wait(None), Some(FIRST_WAIT));
        assert_eq!(patience.wait(None), Some(FIRST_WAIT * 2));
        assert_eq!(patience.wait(Some(Duration::from_secs(7))), Some(Duration::from_secs(7)));
        assert_eq!(patience.wait(Some(PATIENCE)), None);
        patience.since = Instant::now().checked_sub(PATIENCE).unwrap();
        assert_eq!(patience.wait(None), None);
    }

    #[test]
    fn errors_are_told_in_the_words_of_the_server() {
        let error =
            json!({ "reason": "failed to parse", "caused_by": { "reason": "not a number" } });
        assert_eq!(words(&error), "failed to parse: not a number");
        assert_eq!(words(&json!("alias [x] missing")), "alias [x] missing");
        assert_eq!(part("a/ä"), "a%2F%C3%A4");
    }
}
