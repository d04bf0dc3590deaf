//! The server: connections, and which request goes where.

use std::io::{BufReader, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

use serde_json::{Map, Value, json};

use crate::documents::{self, Operation};
use crate::error::{Error, Result};
use crate::http::{self, Request, Response};
use crate::misbehave::{Deed, Faults, busy};
use crate::search;
use crate::shelf::{Shelf, matches};

/// A server that runs.
pub struct Server {
    address: SocketAddr,
    is_ending: Arc<AtomicBool>,
    accepting: Option<JoinHandle<()>>,
}

/// What connections share.
struct Shared {
    shelf: Shelf,
    faults: Faults,
    /// What has to be in the head of every request, where something has to.
    authorization: Option<String>,
}

impl Server {
    /// Starts a server on a port of the loopback address, 0 for a free one, over what a folder has. Where an
    /// authorization is given (`Basic …`, `ApiKey …`), every request has to have it.
    ///
    /// # Errors
    /// A port that is taken, and a folder that cannot be read.
    pub fn start(folder: &Path, port: u16, authorization: Option<String>) -> Result<Server> {
        let shared = Arc::new(Shared {
            shelf: Shelf::open(folder)?,
            faults: Faults::default(),
            authorization,
        });
        let listener = TcpListener::bind(("127.0.0.1", port))?;
        let address = listener.local_addr()?;
        let is_ending = Arc::new(AtomicBool::new(false));
        let ends = is_ending.clone();
        let accepting = std::thread::Builder::new().spawn(move || {
            for stream in listener.incoming() {
                if ends.load(Ordering::SeqCst) {
                    return;
                }
                let Ok(stream) = stream else { continue };
                let shared = shared.clone();
                // Where the system gives no thread, the connection is closed.
                let _ = std::thread::Builder::new().spawn(move || serve(&shared, stream));
            }
        })?;
        Ok(Server { address, is_ending, accepting: Some(accepting) })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Waits for as long as it runs.
    pub fn wait(mut self) {
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.is_ending.store(true, Ordering::SeqCst);
        if let Some(accepting) = self.accepting.take() {
            // A connection wakes it.
            let _ = TcpStream::connect(self.address);
            let _ = accepting.join();
        }
    }
}

fn serve(shared: &Shared, stream: TcpStream) {
    let _ = stream.set_nodelay(true);
    let mut reader = BufReader::with_capacity(1 << 16, stream);
    loop {
        let request = match http::read(&mut reader) {
            Ok(Some(request)) => request,
            Ok(None) => return,
            Err(error) => {
                let answer = Error::new(400, "bad_request", error.to_string()).response();
                let _ = reader.get_mut().write_all(&answer.to_bytes(false));
                return;
            }
        };
        let deed = shared.faults.next(&request.path);
        if deed == Some(Deed::Exit) {
            std::process::abort();
        }
        if deed == Some(Deed::CutBefore) {
            let _ = reader.get_ref().shutdown(Shutdown::Both);
            return;
        }
        let response = match &deed {
            Some(Deed::Status(status, wait)) => {
                let mut response = busy(*status).response();
                response.headers.extend(wait.map(|wait| ("retry-after", wait.to_string())));
                response
            }
            deed => {
                if let Some(Deed::Slow(time)) = deed {
                    std::thread::sleep(*time);
                }
                let refused = match deed {
                    Some(Deed::Refuse(id)) => Some(&id[..]),
                    _ => None,
                };
                answer(shared, &request, refused).unwrap_or_else(|error| error.response())
            }
        };
        let bytes = response.to_bytes(request.method == "HEAD");
        let is_cut = deed == Some(Deed::CutAfter);
        let sent = if is_cut { &bytes[..bytes.len() / 2] } else { &bytes[..] };
        if reader.get_mut().write_all(sent).is_err() || is_cut || !request.keeps {
            let _ = reader.get_ref().shutdown(Shutdown::Both);
            return;
        }
    }
}

fn body_of(request: &Request) -> Result<Value> {
    if request.body.trim_ascii().is_empty() {
        return Ok(json!({}));
    }
    serde_json::from_slice(&request.body).map_err(|error| Error::parsing(error.to_string()))
}

fn acknowledged() -> Response {
    Response::json(200, &json!({ "acknowledged": true }))
}

fn answer(shared: &Shared, request: &Request, refused: Option<&str>) -> Result<Response> {
    if shared.authorization.is_some() && request.authorization != shared.authorization {
        let reason = "missing authentication credentials for REST request";
        let mut response = Error::new(401, "security_exception", reason).response();
        response.headers.push(("www-authenticate", "Basic realm=\"security\"".into()));
        return Ok(response);
    }
    let shelf = &shared.shelf;
    let path: Vec<&str> = request.path.iter().map(|part| &part[..]).collect();
    let method = &request.method[..];
    let is_read = matches!(method, "GET" | "POST");
    match (method, &path[..]) {
        ("GET" | "HEAD", []) => Ok(Response::json(200, &about())),
        ("POST", ["_standin", "misbehave"]) => {
            Ok(Response::json(200, &shared.faults.ask(&body_of(request)?)?))
        }
        ("DELETE", ["_standin", "misbehave"]) => {
            shared.faults.clear();
            Ok(acknowledged())
        }
        ("GET", ["_cluster", "health", ..]) => Ok(Response::json(
            200,
            &json!({ "cluster_name": "standin", "status": "green", "timed_out": false, "number_of_nodes": 1, "number_of_data_nodes": 1 }),
        )),
        ("GET", ["_cat", "indices", rest @ ..]) => {
            cat(shelf, rest.first().copied().unwrap_or("*"), request)
        }
        ("POST" | "PUT", ["_bulk"]) => documents::bulk(shelf, None, request, refused),
        ("POST" | "PUT", [name, "_bulk"]) => documents::bulk(shelf, Some(name), request, refused),
        (_, ["_mget"]) if is_read => documents::several(shelf, None, request),
        (_, [name, "_mget"]) if is_read => documents::several(shelf, Some(name), request),
        ("POST", ["_aliases"]) => {
            let body = body_of(request)?;
            let actions = body["actions"].as_array().cloned().unwrap_or_default();
            shelf.change_aliases(&actions)?;
            Ok(acknowledged())
        }
        ("GET" | "HEAD", ["_alias"]) => aliases(shelf, "_all", None),
        ("GET" | "HEAD", ["_alias", alias]) => aliases(shelf, "_all", Some(alias)),
        ("GET", [name, "_alias"]) => aliases(shelf, name, None),
        ("GET" | "HEAD", [name, "_alias", alias]) => aliases(shelf, name, Some(alias)),
        ("PUT" | "POST", [name, "_alias" | "_aliases", alias]) => {
            shelf.change_aliases(&[json!({ "add": { "index": name, "alias": alias } })])?;
            Ok(acknowledged())
        }
        ("DELETE", [name, "_alias" | "_aliases", alias]) => {
            shelf.change_aliases(&[json!({ "remove": { "index": name, "alias": alias } })])?;
            Ok(acknowledged())
        }
        ("GET" | "POST", ["_refresh"]) => refresh(shelf, "_all"),
        ("GET" | "POST", [name, "_refresh"]) => refresh(shelf, name),
        ("GET", [name, "_mapping" | "_mappings"]) => {
            each(shelf, name, |index| json!({ "mappings": index.mapping().body() }))
        }
        ("PUT" | "POST", [name, "_mapping" | "_mappings"]) => {
            let body = body_of(request)?;
            shelf.all(name)?.iter().try_for_each(|index| index.put_mapping(&body))?;
            Ok(acknowledged())
        }
        ("PUT", [name, "_settings"]) => {
            // There is none that changes what is done.
            shelf.all(name)?;
            Ok(acknowledged())
        }
        ("GET", [name, "_settings", ..]) => {
            each(shelf, name, |index| json!({ "settings": settings(index) }))
        }
        ("GET" | "POST", [name, "_count"]) => search::count(&*shelf.one(name)?, &object(request)?),
        ("GET" | "POST", [name, "_search"]) => {
            let mut body = object(request)?;
            for key in ["size", "from"] {
                if let Some(number) = request.parameter(key).and_then(|it| it.parse::<u64>().ok()) {
                    body.insert(key.into(), json!(number));
                }
            }
            search::search(&*shelf.one(name)?, &body)
        }
        ("GET", [name, "_doc", id]) => documents::get(&*shelf.one(name)?, id, request),
        ("HEAD", [name, "_doc", id]) => {
            let is_there = shelf.one(name)?.version(id).is_some();
            Ok(Response::empty(if is_there { 200 } else { 404 }))
        }
        ("PUT" | "POST", [name, "_doc", id]) => {
            let operation = match request.parameter("op_type") {
                Some("create") => Operation::Create,
                _ => Operation::Index,
            };
            documents::one(&*shelf.one_or_new(name)?, Some(id), operation, request)
        }
        ("POST", [name, "_doc"]) => {
            documents::one(&*shelf.one_or_new(name)?, None, Operation::Index, request)
        }
        ("PUT" | "POST", [name, "_create", id]) => {
            documents::one(&*shelf.one_or_new(name)?, Some(id), Operation::Create, request)
        }
        ("DELETE", [name, "_doc", id]) => {
            documents::one(&*shelf.one(name)?, Some(id), Operation::Delete, request)
        }
        ("PUT", [name]) => {
            shelf.create(name, &body_of(request)?)?;
            let body = json!({ "acknowledged": true, "shards_acknowledged": true, "index": name });
            Ok(Response::json(200, &body))
        }
        ("HEAD", [name]) => {
            let is_there = shelf.all(name).is_ok_and(|found| !found.is_empty());
            Ok(Response::empty(if is_there { 200 } else { 404 }))
        }
        ("GET", [name]) if !name.starts_with('_') => each(shelf, name, |index| {
            json!({
                "aliases": shelf.aliases_of(&index.name), "mappings": index.mapping().body(),
                "settings": settings(index),
            })
        }),
        ("DELETE", [name]) => {
            shelf.delete(name)?;
            Ok(acknowledged())
        }
        _ => {
            let uri = format!("/{}", path.join("/"));
            Err(Error::argument(format!("no handler found for uri [{uri}] and method [{method}]")))
        }
    }
}

fn about() -> Value {
    json!({
        "name": "standin", "cluster_name": "standin", "cluster_uuid": "standin",
        "version": {
            "distribution": "standin", "number": "2.0.0", "build_type": "tar", "lucene_version": "9.0.0",
            "minimum_wire_compatibility_version": "7.10.0", "minimum_index_compatibility_version": "7.0.0",
        },
        "tagline": "A small index server for tests and for trying",
    })
}

fn object(request: &Request) -> Result<Map<String, Value>> {
    match body_of(request)? {
        Value::Object(object) => Ok(object),
        _ => Err(Error::parsing("Expected [START_OBJECT]")),
    }
}

fn refresh(shelf: &Shelf, name: &str) -> Result<Response> {
    shelf.all(name)?.iter().try_for_each(|index| index.refresh())?;
    let body = json!({ "_shards": { "total": 2, "successful": 1, "failed": 0 } });
    Ok(Response::json(200, &body))
}

fn each(
    shelf: &Shelf,
    name: &str,
    told: impl Fn(&crate::index::Index) -> Value,
) -> Result<Response> {
    let found = shelf.all(name)?;
    let told: Map<String, Value> =
        found.iter().map(|index| (index.name.clone(), told(index))).collect();
    Ok(Response::json(200, &Value::Object(told)))
}

fn settings(index: &crate::index::Index) -> Value {
    let mut settings = match index.settings.get("index").unwrap_or(&index.settings) {
        Value::Object(settings) => settings.clone(),
        _ => Map::new(),
    };
    settings.insert("uuid".into(), json!(index.uuid));
    settings.insert("provided_name".into(), json!(index.name));
    settings.insert("creation_date".into(), json!(index.created.to_string()));
    settings.entry("number_of_shards").or_insert(json!("1"));
    settings.entry("number_of_replicas").or_insert(json!("1"));
    json!({ "index": settings })
}

fn aliases(shelf: &Shelf, name: &str, alias: Option<&str>) -> Result<Response> {
    let mut told = Map::new();
    let mut has_any = false;
    for index in shelf.all(name)? {
        let Value::Object(mut its) = shelf.aliases_of(&index.name) else { continue };
        if let Some(alias) = alias {
            its.retain(|known, _| alias.split(',').any(|part| matches(part, known)));
            if its.is_empty() {
                continue;
            }
        }
        has_any |= !its.is_empty();
        told.insert(index.name.clone(), json!({ "aliases": its }));
    }
    match alias {
        Some(alias) if !has_any && !alias.contains('*') => Ok(Response::json(
            404,
            &json!({ "error": format!("alias [{alias}] missing"), "status": 404 }),
        )),
        _ => Ok(Response::json(200, &Value::Object(told))),
    }
}

fn cat(shelf: &Shelf, name: &str, request: &Request) -> Result<Response> {
    let found = shelf.all(name)?;
    if request.parameter("format") == Some("json") {
        let rows = found.iter().map(|index| {
            json!({ "health": "green", "status": "open", "index": index.name, "uuid": index.uuid, "docs.count": index.count().to_string() })
        });
        return Ok(Response::json(200, &rows.collect()));
    }
    let lines = found
        .iter()
        .map(|index| format!("green open {} {} 1 1 {}\n", index.name, index.uuid, index.count()));
    Ok(Response::text(200, &lines.collect::<String>()))
}
