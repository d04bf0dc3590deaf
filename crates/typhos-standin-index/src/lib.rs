//! A small index server: the JSON protocol of search servers over HTTP, on an embedded index, for tests, for the demo and
//! for trying.
//!
//! What is there: indexes made, told, deleted; mappings put and got, with the refusal to change the type of a field, and
//! strict, dynamic and ignored fields; documents written, created, got and deleted, one by one and in bulk with a result for each
//! item; refresh, count, and search with `match_all`, `term`, `terms`, `match`, `match_phrase`, `range`, `exists`, `ids`, `bool`,
//! `nested`; sorting; metrics, `terms`, `range`, histograms, `filter`, `missing`, `global` and `nested` as aggregations; aliases,
//! changed all at once; users and keys. Documents can be found a second after they were written, or after a refresh, and survive a
//! server that is killed.
//!
//! What is not there: shards and replicas, updates by script, `update` in bulk requests, scrolling and points in time, templates,
//! pipelines, analyzers other than the usual one, suggestions, highlights, scores that agree with those of others to the digit,
//! queries by text. Objects of a `nested` field are not documents of their own: a question about two fields of one object is one
//! about all objects of the document.
//!
//! On demand it misbehaves; see [`misbehave`].
#![warn(missing_docs)]

mod aggregations;
mod dates;
mod documents;
mod error;
mod http;
mod index;
mod mapping;
pub mod misbehave;
mod query;
mod search;
mod server;
mod shelf;
mod values;

pub use error::{Error, Result};
pub use server::Server;
