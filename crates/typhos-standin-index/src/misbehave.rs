//! Ways to misbehave, on demand: what networks and busy servers do to a client.
//!
//! A fault is asked for by `POST /_standin/misbehave` with a body such as
//! `{"at": "_bulk", "after": 2, "times": 3, "do": "status", "status": 429, "retry_after": 1}`, and all are taken back by
//! `DELETE`. This path is the stand-in's own, and no part of the protocol.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use serde_json::{Value, json};

use crate::error::{Error, Result};

/// What is done instead of answering properly.
#[derive(Debug, Clone, PartialEq)]
pub enum Deed {
    /// An answer with this status, and how many seconds to wait for, where it says so. Nothing is done.
    Status(u16, Option<u64>),
    /// A proper answer, late.
    Slow(Duration),
    /// The connection is closed before anything is done.
    CutBefore,
    /// Everything is done, and the connection is closed in the middle of the answer.
    CutAfter,
    /// Items of a bulk request are refused whose id ends with this.
    Refuse(String),
    /// The process ends at once, as if it were killed.
    Exit,
}

#[derive(Debug, Clone)]
struct Fault {
    /// The last part of the paths it happens at; all, where it is empty.
    at: String,
    /// Requests that go well before.
    after: u64,
    /// Requests it happens to.
    times: u64,
    deed: Deed,
}

/// The faults that are asked for.
#[derive(Debug, Default)]
pub struct Faults(Mutex<Vec<Fault>>);

impl Faults {
    /// Asks for a fault.
    ///
    /// # Errors
    /// A body that asks for nothing that is known.
    pub fn ask(&self, body: &Value) -> Result<Value> {
        let number = |key: &str| body[key].as_u64();
        let deed = match body["do"].as_str().unwrap_or_default() {
            "status" => {
                let status = number("status").and_then(|status| u16::try_from(status).ok());
                Deed::Status(status.unwrap_or(503), number("retry_after"))
            }
            "slow" => Deed::Slow(Duration::from_millis(number("ms").unwrap_or(1000))),
            "cut-before" => Deed::CutBefore,
            "cut-after" => Deed::CutAfter,
            "refuse" => Deed::Refuse(body["id"].as_str().unwrap_or_default().to_owned()),
            "exit" => Deed::Exit,
            other => return Err(Error::argument(format!("unknown way to misbehave [{other}]"))),
        };
        let fault = Fault {
            at: body["at"].as_str().unwrap_or_default().to_owned(),
            after: number("after").unwrap_or(0),
            times: number("times").unwrap_or(1),
            deed,
        };
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(fault);
        Ok(json!({ "acknowledged": true }))
    }

    /// Behaves from now on.
    pub fn clear(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// What is to be done with the next request at a path.
    pub fn next(&self, path: &[String]) -> Option<Deed> {
        let mut faults = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let last = path.last().map_or("", |last| &last[..]);
        let mut done = None;
        for fault in faults.iter_mut().filter(|fault| fault.at.is_empty() || fault.at == last) {
            if fault.after > 0 {
                fault.after -= 1;
            } else if done.is_none() && fault.times > 0 {
                fault.times -= 1;
                done = Some(fault.deed.clone());
            }
        }
        faults.retain(|fault| fault.times > 0);
        done
    }
}

/// The error that a busy server answers with.
pub fn busy(status: u16) -> Box<Error> {
    let kind = match status {
        429 => "rejected_execution_exception",
        _ => "unavailable_shards_exception",
    };
    Error::new(status, kind, "the server was asked to misbehave")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_happen_when_and_where_they_were_asked_for() {
        let faults = Faults::default();
        let (bulk, count) = (["x".to_owned(), "_bulk".to_owned()], ["x".into(), "_count".into()]);
        let ask = json!({ "at": "_bulk", "after": 1, "times": 2, "do": "status", "status": 429, "retry_after": 3 });
        faults.ask(&ask).unwrap();
        assert_eq!(faults.next(&bulk), None);
        assert_eq!(faults.next(&count), None);
        for _ in 0..2 {
            assert_eq!(faults.next(&bulk), Some(Deed::Status(429, Some(3))));
        }
        assert_eq!(faults.next(&bulk), None);
        assert!(faults.ask(&json!({ "do": "dance" })).is_err());
    }
}
