//! Documents, one at a time and in bulk.

use serde_json::{Map, Value, json};

use crate::error::{Error, Result};
use crate::http::{Request, Response};
use crate::index::{Change, Changed, Index};
use crate::search::chosen_source;
use crate::shelf::Shelf;

/// Bytes of an id at most.
const MOST_ID_BYTES: usize = 512;

/// What is asked of one document.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// It is written, whether it is there or not.
    Index,
    /// It is written, and must not be there.
    Create,
    /// It goes.
    Delete,
}

impl Operation {
    fn of(name: &str) -> Option<Operation> {
        Some(match name {
            "index" => Operation::Index,
            "create" => Operation::Create,
            "delete" => Operation::Delete,
            _ => return None,
        })
    }
}

fn checked_id(id: &str) -> Result<()> {
    if id.is_empty() {
        return Err(Error::argument("if _id is specified it must not be empty"));
    }
    if id.len() > MOST_ID_BYTES {
        let reason = format!(
            "id [{id}] is too long, must be no longer than {MOST_ID_BYTES} bytes but was: {}",
            id.len()
        );
        return Err(Error::argument(reason));
    }
    Ok(())
}

fn change(operation: Operation, source: &[u8]) -> Result<Change> {
    if operation == Operation::Delete {
        return Ok(Change::Delete);
    }
    let document: Map<String, Value> = serde_json::from_slice(source).map_err(|error| {
        Error::new(400, "mapper_parsing_exception", "failed to parse")
            .caused_by("parse_exception", &error.to_string())
    })?;
    Ok(Change::Write(document, source.into(), operation == Operation::Create))
}

/// What became of a document.
fn told(
    index: &Index,
    id: &str,
    operation: Operation,
    changed: &Changed,
) -> (u16, Map<String, Value>) {
    let (status, result) = match (operation, changed.was_there) {
        (Operation::Delete, true) => (200, "deleted"),
        (Operation::Delete, false) => (404, "not_found"),
        (_, true) => (200, "updated"),
        (_, false) => (201, "created"),
    };
    let Value::Object(told) = json!({
        "_index": index.name, "_id": id, "_version": changed.version.version, "result": result,
        "_shards": { "total": 2, "successful": 1, "failed": 0 },
        "_seq_no": changed.version.seq, "_primary_term": 1,
    }) else {
        unreachable!("an object is one")
    };
    (status, told)
}

/// Writes or deletes one document.
///
/// # Errors
/// Why it is refused.
pub fn one(
    index: &Index,
    id: Option<&str>,
    operation: Operation,
    request: &Request,
) -> Result<Response> {
    let id = match id {
        Some(id) => id.to_owned(),
        None => generated_id(index),
    };
    checked_id(&id)?;
    let changed = index.change(vec![(id.clone(), change(operation, &request.body)?)])?;
    let changed =
        changed.into_iter().next().unwrap_or_else(|| Err(Error::parsing("nothing was changed")))?;
    if request.has("refresh") {
        index.refresh()?;
    }
    let (status, told) = told(index, &id, operation, &changed);
    Ok(Response::json(status, &Value::Object(told)))
}

fn generated_id(index: &Index) -> String {
    use std::hash::{BuildHasher, Hasher};
    let mut hasher = std::collections::hash_map::RandomState::new().build_hasher();
    hasher.write_usize(index.count());
    format!("{:016x}", hasher.finish())
}

/// A document by its id.
///
/// # Errors
/// A folder that cannot be read.
pub fn get(index: &Index, id: &str, request: &Request) -> Result<Response> {
    let (status, text) = found(index, id, request)?;
    Ok(Response::of_json(status, text))
}

/// What is told of a document, and the status that goes with it.
fn found(index: &Index, id: &str, request: &Request) -> Result<(u16, String)> {
    let Some((version, source)) = index.get(id)? else {
        let told = json!({ "_index": index.name, "_id": id, "found": false });
        return Ok((404, told.to_string()));
    };
    let head = json!({
        "_index": index.name, "_id": id, "_version": version.version, "_seq_no": version.seq,
        "_primary_term": 1, "found": true,
    });
    let head = head.to_string();
    let chosen = request.parameter("_source").map_or(Value::Null, |said| match said {
        "true" => json!(true),
        "false" => json!(false),
        names => names.split(',').map(|name| json!(name)).collect(),
    });
    let source = chosen_source(&source, &chosen);
    let source = source.map_or(String::new(), |source| format!(",\"_source\":{source}"));
    Ok((200, format!("{}{source}}}", &head[..head.len() - 1])))
}

/// Several documents by their ids.
///
/// # Errors
/// A body that names none.
pub fn several(shelf: &Shelf, name: Option<&str>, request: &Request) -> Result<Response> {
    let body: Value =
        serde_json::from_slice(&request.body).map_err(|error| Error::parsing(error.to_string()))?;
    let wanted = body["ids"].as_array().or(body["docs"].as_array());
    let wanted = wanted.ok_or_else(|| {
        Error::new(
            400,
            "action_request_validation_exception",
            "Validation Failed: 1: no documents to get;",
        )
    })?;
    let mut texts = Vec::new();
    for one in wanted {
        let id = one.as_str().or(one["_id"].as_str()).unwrap_or_default();
        let name = one["_index"].as_str().or(name).unwrap_or_default();
        texts.push(match shelf.one(name) {
            Ok(index) => found(&index, id, request)?.1,
            Err(error) => json!({ "_index": name, "_id": id, "error": error.body() }).to_string(),
        });
    }
    Ok(Response::of_json(200, format!("{{\"docs\":[{}]}}", texts.join(","))))
}

/// One item of a bulk request.
struct Item<'b> {
    operation: Operation,
    name: &'static str,
    index: String,
    id: Option<String>,
    source: &'b [u8],
}

/// Many documents: a line that says what is done, and a line with the document below it.
///
/// # Errors
/// A body that is laid out otherwise. What is wrong with an item is told with it.
pub fn bulk(
    shelf: &Shelf,
    name: Option<&str>,
    request: &Request,
    refused: Option<&str>,
) -> Result<Response> {
    let began = std::time::Instant::now();
    let items = items(&request.body, name)?;
    let mut told: Vec<Option<Value>> = items.iter().map(|_| None).collect();
    let mut touched = Vec::new();
    let mut at = 0;
    while at < items.len() {
        // Items of one index in a row go together.
        let end = items[at..].iter().position(|item| item.index != items[at].index);
        let end = end.map_or(items.len(), |more| at + more);
        let index = shelf.one_or_new(&items[at].index);
        let (mut changes, mut places) = (Vec::new(), Vec::new());
        for (place, item) in items.iter().enumerate().take(end).skip(at) {
            let id = item
                .id
                .clone()
                .unwrap_or_else(|| format!("{:016x}-{place}", fingerprint(item.source)));
            let change = index.as_ref().map_err(Clone::clone).and_then(|_| {
                checked_id(&id)?;
                if refused.is_some_and(|end| id.ends_with(end)) {
                    return Err(Error::new(
                        400,
                        "mapper_parsing_exception",
                        "the server was asked to refuse this item",
                    ));
                }
                change(item.operation, item.source)
            });
            match change {
                Ok(change) => {
                    changes.push((id.clone(), change));
                    places.push((place, id));
                }
                Err(error) => told[place] = Some(failed(item, &id, &error)),
            }
        }
        if let Ok(index) = &index {
            for ((place, id), changed) in places.iter().zip(index.change(changes)?) {
                let item = &items[*place];
                told[*place] = Some(match changed {
                    Ok(changed) => {
                        let (status, mut one) = self::told(index, id, item.operation, &changed);
                        one.insert("status".into(), json!(status));
                        json!({ item.name: one })
                    }
                    Err(error) => failed(item, id, &error),
                });
            }
            touched.push(index.clone());
        }
        at = end;
    }
    if request.has("refresh") {
        touched.iter().try_for_each(|index| index.refresh())?;
    }
    let told: Vec<Value> = told.into_iter().flatten().collect();
    let has_errors = told.iter().any(|item| {
        item.as_object().is_some_and(|item| item.values().any(|it| it.get("error").is_some()))
    });
    let took = began.elapsed().as_millis() as u64;
    Ok(Response::json(200, &json!({ "took": took, "errors": has_errors, "items": told })))
}

fn failed(item: &Item<'_>, id: &str, error: &Error) -> Value {
    json!({ item.name: {
        "_index": item.index, "_id": id, "status": error.status, "error": error.body(),
    } })
}

fn fingerprint(bytes: &[u8]) -> u64 {
    use std::hash::{BuildHasher, Hasher};
    let mut hasher = std::collections::hash_map::RandomState::new().build_hasher();
    hasher.write(bytes);
    hasher.finish()
}

fn items<'b>(body: &'b [u8], name: Option<&str>) -> Result<Vec<Item<'b>>> {
    if body.is_empty() {
        return Err(Error::new(400, "parse_exception", "request body is required"));
    }
    if !body.ends_with(b"\n") {
        return Err(Error::argument("The bulk request must be terminated by a newline [\\n]"));
    }
    let mut lines = body.split(|byte| *byte == b'\n').enumerate();
    let mut items = Vec::new();
    while let Some((number, line)) = lines.next() {
        if line.trim_ascii().is_empty() {
            continue;
        }
        let malformed = |what: &str| {
            Error::argument(format!("Malformed action/metadata line [{}], {what}", number + 1))
        };
        let action: Map<String, Value> = serde_json::from_slice(line).map_err(|_| {
            malformed("expected START_OBJECT or END_OBJECT but found [VALUE_STRING]")
        })?;
        let (word, said) = action
            .iter()
            .next()
            .ok_or_else(|| malformed("expected FIELD_NAME but found [END_OBJECT]"))?;
        let operation = Operation::of(word).ok_or_else(|| {
            malformed(&format!(
                "expected field [create], [delete], [index] or [update] but found [{word}]"
            ))
        })?;
        let text = |key: &str| said[key].as_str().map(str::to_owned);
        let index = text("_index").or(name.map(str::to_owned));
        let index = index.ok_or_else(|| {
            Error::new(
                400,
                "action_request_validation_exception",
                "Validation Failed: 1: index is missing;",
            )
        })?;
        let source = match operation {
            Operation::Delete => &b""[..],
            _ => lines
                .next()
                .map(|(_, line)| line)
                .filter(|line| !line.is_empty())
                .ok_or_else(|| malformed("no document follows"))?,
        };
        let name = match operation {
            Operation::Index => "index",
            Operation::Create => "create",
            Operation::Delete => "delete",
        };
        items.push(Item { operation, name, index, id: text("_id"), source });
    }
    Ok(items)
}
