//! What goes wrong, in the bodies that clients of the protocol look into.

use serde_json::{Map, Value, json};

use crate::http::Response;

/// An error of the protocol.
#[derive(Debug, Clone)]
pub struct Error {
    /// The status of the answer, or of the item of a bulk request.
    pub status: u16,
    /// Its name.
    pub kind: &'static str,
    /// What is wrong, in a sentence.
    pub reason: String,
    /// What else is told of it: the index, or what caused it.
    pub more: Map<String, Value>,
}

/// What may go wrong.
pub type Result<T> = std::result::Result<T, Box<Error>>;

impl Error {
    /// An error with nothing else to tell.
    pub fn new(status: u16, kind: &'static str, reason: impl Into<String>) -> Box<Error> {
        Box::new(Error { status, kind, reason: reason.into(), more: Map::new() })
    }

    /// A request that is wrong in itself.
    pub fn argument(reason: impl Into<String>) -> Box<Error> {
        Error::new(400, "illegal_argument_exception", reason)
    }

    /// A body that cannot be read.
    pub fn parsing(reason: impl Into<String>) -> Box<Error> {
        Error::new(400, "parsing_exception", reason)
    }

    /// An index that is not there.
    pub fn no_index(name: &str) -> Box<Error> {
        let mut error =
            Error::new(404, "index_not_found_exception", format!("no such index [{name}]"));
        error.more = object(json!({
            "index": name, "resource.id": name, "resource.type": "index_or_alias", "index_uuid": "_na_",
        }));
        error
    }

    /// The same error, caused by another.
    #[must_use]
    pub fn caused_by(mut self: Box<Error>, kind: &str, reason: &str) -> Box<Error> {
        self.more.insert("caused_by".into(), json!({ "type": kind, "reason": reason }));
        self
    }

    /// The same error, about an index.
    #[must_use]
    pub fn about(mut self: Box<Error>, index: &str, uuid: &str) -> Box<Error> {
        self.more.insert("index".into(), json!(index));
        self.more.insert("index_uuid".into(), json!(uuid));
        self
    }

    /// Name, sentence and the rest as an object: an item of a bulk request has it as it is.
    pub fn body(&self) -> Value {
        let mut body = Map::new();
        body.insert("type".into(), json!(self.kind));
        body.insert("reason".into(), json!(self.reason));
        body.extend(self.more.clone());
        Value::Object(body)
    }

    /// The answer to a request that failed.
    pub fn response(&self) -> Response {
        let mut root = self.body();
        if let Some(root) = root.as_object_mut() {
            root.shift_remove("caused_by");
        }
        let mut error = Map::new();
        error.insert("root_cause".into(), json!([root]));
        error.extend(object(self.body()));
        Response::json(self.status, &json!({ "error": error, "status": self.status }))
    }
}

fn object(value: Value) -> Map<String, Value> {
    match value {
        Value::Object(map) => map,
        _ => Map::new(),
    }
}

impl From<tantivy::TantivyError> for Box<Error> {
    fn from(error: tantivy::TantivyError) -> Self {
        Error::new(500, "engine_exception", error.to_string())
    }
}

impl From<std::io::Error> for Box<Error> {
    fn from(error: std::io::Error) -> Self {
        Error::new(500, "io_exception", error.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_are_those_that_clients_look_into() {
        let body = Error::no_index("gone").response().body;
        assert_eq!(
            String::from_utf8(body).unwrap(),
            "{\"error\":{\"root_cause\":[{\"type\":\"index_not_found_exception\",\"reason\":\"no such index [gone]\",\
             \"index\":\"gone\",\"resource.id\":\"gone\",\"resource.type\":\"index_or_alias\",\"index_uuid\":\"_na_\"}],\
             \"type\":\"index_not_found_exception\",\"reason\":\"no such index [gone]\",\"index\":\"gone\",\
             \"resource.id\":\"gone\",\"resource.type\":\"index_or_alias\",\"index_uuid\":\"_na_\"},\"status\":404}"
        );
    }
}
