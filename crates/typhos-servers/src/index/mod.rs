//! Search indexes over HTTP, in the JSON protocol that several open search servers speak.
//!
//! The mapping is declared before the first document; documents go in bulk requests over several connections, each with an id, so that
//! a request can be sent again; what arrived is proven by aggregations and by a sample of documents. [`IndexTable`] reads the
//! documents of an index back, typed by its mapping.

mod bulk;
mod client;
mod documents;
mod plan;
mod proof;
mod table;
mod target;

use typhos_load::{TargetError, TargetKind};

use crate::server_table;
use client::Client;
use target::IndexTarget;

pub use client::KEY_VARIABLE;
pub use table::IndexTable;

/// An index of a server.
pub const KIND: TargetKind = TargetKind {
    name: "an index",
    schemes: &["index+http", "index+https"],
    extensions: &[],
    has_parts: false,
    open: |address| {
        server_table::open_whole(address, |url| Ok(IndexTarget { client: Client::connect(url)? }))
    },
    probe: None,
};

/// What a search of the index of a URL finds, as its server tells it.
///
/// # Errors
/// A URL that is none of an index, and a server that cannot be asked.
pub fn search(url: &str, body: &serde_json::Value) -> Result<serde_json::Value, TargetError> {
    let wrong = |what: String| TargetError::NotThat { path: "the URL".into(), what };
    let client = Client::connect(&server_table::parsed(url).map_err(wrong)?)?;
    client.ask("POST", &format!("{}/_search", client::part(client.index())), Some(body))
}
