//! The protocol, request by request: status, body, and what is kept. A table of requests and answers, over one server each.

use serde_json::{Value, json};
use typhos_standin_index::Server;

struct Asked {
    server: Server,
    _folder: tempfile::TempDir,
}

impl Asked {
    fn new() -> Asked {
        let folder = tempfile::tempdir().unwrap();
        Asked { server: Server::start(folder.path(), 0, None).unwrap(), _folder: folder }
    }

    fn text(&self, method: &str, path: &str, body: &str) -> (u16, String) {
        let agent: ureq::Agent =
            ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("http://{}/{path}", self.server.address()))
            .body(body.to_owned())
            .unwrap();
        let mut answer = agent.run(request).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    }

    fn json(&self, method: &str, path: &str, body: &Value) -> (u16, Value) {
        let body = if body.is_null() { String::new() } else { body.to_string() };
        let (status, text) = self.text(method, path, &body);
        (status, serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    /// An index with these fields, and these documents in it, found.
    fn filled(fields: Value, documents: &[Value]) -> Asked {
        let asked = Asked::new();
        let body = json!({ "mappings": { "dynamic": "strict", "properties": fields } });
        assert_eq!(asked.json("PUT", "x", &body).0, 200);
        let lines = documents.iter().enumerate().map(|(at, document)| {
            format!("{}\n{document}\n", json!({ "index": { "_id": at.to_string() } }))
        });
        let (status, told) = asked.text("POST", "x/_bulk?refresh=true", &lines.collect::<String>());
        assert!(status == 200 && told.contains("\"errors\":false"), "{told}");
        asked
    }

    fn count(&self, query: Value) -> u64 {
        let (status, found) = self.json("POST", "x/_count", &json!({ "query": query }));
        assert_eq!(status, 200, "{found}");
        found["count"].as_u64().unwrap()
    }
}

#[test]
fn a_bulk_request_is_answered_item_by_item() {
    let asked = Asked::new();
    asked.json(
        "PUT",
        "x",
        &json!({ "mappings": { "dynamic": "strict", "properties": { "n": { "type": "byte" } } } }),
    );
    let body = "{\"index\":{\"_id\":\"1\"}}\n{\"n\":1}\n{\"create\":{\"_id\":\"1\"}}\n{\"n\":2}\n{\"index\":{\"_id\":\"1\"}}\n{\"n\":3}\n\
                {\"delete\":{\"_id\":\"9\"}}\n{\"create\":{\"_id\":\"2\"}}\n{\"n\":300}\n{\"create\":{\"_id\":\"3\"}}\n{\"m\":1}\n";
    let (status, told) = asked.json("POST", "x/_bulk", &Value::Null);
    assert_eq!((status, &told["error"]["type"]), (400, &json!("parse_exception")));
    let (status, text) = asked.text("POST", "x/_bulk", body);
    assert_eq!(status, 200);
    let told: Value = serde_json::from_str(&text).unwrap();
    let items = told["items"].as_array().unwrap();
    let of = |at: usize, word: &str| items[at][word].clone();
    assert_eq!(told["errors"], true);
    assert_eq!(
        of(0, "index"),
        json!({ "_index": "x", "_id": "1", "_version": 1, "result": "created", "_shards": { "total": 2, "successful": 1, "failed": 0 }, "_seq_no": 0, "_primary_term": 1, "status": 201 })
    );
    let conflict = of(1, "create");
    assert_eq!(
        (&conflict["status"], &conflict["error"]["type"]),
        (&json!(409), &json!("version_conflict_engine_exception"))
    );
    assert_eq!(
        conflict["error"]["reason"],
        "[1]: version conflict, document already exists (current version [1])"
    );
    assert_eq!(
        (of(2, "index")["result"].clone(), of(2, "index")["_version"].clone()),
        (json!("updated"), json!(2))
    );
    assert_eq!(
        (of(3, "delete")["result"].clone(), of(3, "delete")["status"].clone()),
        (json!("not_found"), json!(404))
    );
    let refused = of(4, "create");
    assert_eq!(
        refused["error"]["reason"],
        "failed to parse field [n] of type [byte] in document with id '2'. Preview of field's value: '300'"
    );
    assert_eq!(refused["error"]["caused_by"]["reason"], "Value [300] is out of range for a [byte]");
    assert_eq!(
        of(5, "create")["error"]["reason"],
        "mapping set to strict, dynamic introduction of [m] within [_doc] is not allowed"
    );
    assert_eq!(asked.json("GET", "x/_doc/1", &Value::Null).1["_source"], json!({ "n": 3 }));
    for (wrong, want) in [
        ("{\"index\":{}}\n{}", "terminated by a newline"),
        ("{\"upsert\":{}}\n{}\n", "Malformed action/metadata line [1]"),
        ("[]\n", "Malformed action/metadata line [1]"),
    ] {
        let (status, told) = asked.text("POST", "x/_bulk", wrong);
        assert!(status == 400 && told.contains(want), "{told}");
    }
}

#[test]
fn questions_find_what_they_ask_for() {
    let fields = json!({
        "k": { "type": "keyword" }, "t": { "type": "text", "fields": { "exact": { "type": "keyword", "ignore_above": 20 } } },
        "n": { "type": "long" }, "u": { "type": "unsigned_long" }, "f": { "type": "double" }, "b": { "type": "boolean" },
        "d": { "type": "date", "format": "strict_date||dd.MM.uuuu" }, "i": { "type": "ip" }, "h": { "type": "keyword", "index": false },
        "o": { "properties": { "p": { "type": "short" } } },
    });
    let asked = Asked::filled(
        fields,
        &[
            json!({ "k": "Ägir", "t": "calm sea, and fog", "n": -5, "u": u64::MAX, "f": 0.5, "b": true, "d": "2025-01-02", "i": "10.0.0.1", "o": { "p": 1 } }),
            json!({ "k": ["a", "b"], "t": "rough sea", "n": 7, "f": 1e300, "b": false, "d": "03.01.2025", "o.p": 2 }),
            json!({ "t": "a text that is longer than twenty characters", "h": "x" }),
            json!({}),
        ],
    );
    for (query, want) in [
        (json!({ "match_all": {} }), 4),
        (json!({ "match_none": {} }), 0),
        (json!({ "term": { "k": "Ägir" } }), 1),
        (json!({ "term": { "k": { "value": "b" } } }), 1),
        (json!({ "terms": { "n": [7, -5, 9] } }), 2),
        (json!({ "term": { "u": u64::MAX } }), 1),
        (json!({ "term": { "f": 1e300 } }), 1),
        (json!({ "term": { "b": "true" } }), 1),
        (json!({ "term": { "i": "10.0.0.1" } }), 1),
        (json!({ "term": { "d": "02.01.2025" } }), 1),
        (json!({ "match": { "t": "SEA fog" } }), 2),
        (json!({ "match": { "t": { "query": "sea fog", "operator": "and" } } }), 1),
        (json!({ "match_phrase": { "t": "rough sea" } }), 1),
        (json!({ "match_phrase": { "t": "sea rough" } }), 0),
        (json!({ "term": { "t.exact": "rough sea" } }), 1),
        (json!({ "range": { "n": { "gt": -5, "lte": 7 } } }), 1),
        (json!({ "range": { "d": { "gte": "2025-01-03" } } }), 1),
        (json!({ "range": { "k": { "lt": "b" } } }), 1),
        (json!({ "exists": { "field": "k" } }), 2),
        (json!({ "exists": { "field": "t.exact" } }), 2),
        (json!({ "exists": { "field": "o" } }), 2),
        (json!({ "ids": { "values": ["0", "3", "8"] } }), 2),
        (json!({ "term": { "nobody": 1 } }), 0),
        (json!({ "bool": { "must_not": { "exists": { "field": "n" } } } }), 2),
        (json!({ "bool": { "should": [{ "term": { "n": 7 } }, { "term": { "b": true } }] } }), 2),
        (
            json!({ "bool": { "filter": { "term": { "b": false } }, "should": { "term": { "n": -5 } } } }),
            1,
        ),
        (json!({ "constant_score": { "filter": { "term": { "o.p": 2 } } } }), 1),
    ] {
        assert_eq!(asked.count(query.clone()), want, "{query}");
    }
    for (query, want) in [
        (json!({ "fuzzy": { "k": "a" } }), "unknown query [fuzzy]"),
        (json!({ "term": { "h": "x" } }), "Cannot search on field [h] since it is not indexed."),
        (json!({ "term": { "n": "many" } }), "failed to create query"),
        (json!({}), "query malformed, empty clause found"),
    ] {
        let (status, told) =
            asked.text("POST", "x/_search", &json!({ "query": query }).to_string());
        assert!(status == 400 && told.contains(want), "{told}");
    }
}

#[test]
fn sums_are_those_of_the_documents_found() {
    let fields = json!({
        "k": { "type": "keyword" }, "n": { "type": "long" }, "d": { "type": "date_nanos" }, "t": { "type": "text" },
        "c": { "type": "nested", "properties": { "y": { "type": "byte" } } },
    });
    let documents: Vec<_> = (0..10)
        .map(|n| json!({ "k": if n < 4 { "a" } else { "b" }, "n": n, "d": format!("2025-01-0{}T00:00:00.000000001Z", 1 + n % 9), "c": [{ "y": n }, { "y": 1 }] }))
        .collect();
    let asked = Asked::filled(fields, &documents);
    let body = json!({ "size": 0, "query": { "range": { "n": { "lt": 8 } } }, "aggs": {
        "n": { "stats": { "field": "n" } },
        "k": { "terms": { "field": "k" }, "aggs": { "most": { "max": { "field": "n" } } } },
        "a": { "filter": { "term": { "k": "a" } }, "aggs": { "sum": { "sum": { "field": "n" } } } },
        "no": { "missing": { "field": "t" } },
        "all": { "global": {}, "aggs": { "count": { "value_count": { "field": "k" } } } },
        "c": { "nested": { "path": "c" }, "aggs": { "y": { "sum": { "field": "c.y" } } } },
        "d": { "min": { "field": "d" } },
        "none": { "avg": { "field": "nobody" } },
    } });
    let (status, found) = asked.json("POST", "x/_search", &body);
    assert_eq!(status, 200, "{found}");
    let sums = &found["aggregations"];
    assert_eq!(
        sums["n"],
        json!({ "count": 8, "min": 0.0, "max": 7.0, "avg": 3.5, "sum": 28.0 }),
        "{sums}"
    );
    assert_eq!(
        sums["k"]["buckets"][0],
        json!({ "key": "a", "doc_count": 4, "most": { "value": 3.0 } }),
        "{sums}"
    );
    assert_eq!(sums["a"], json!({ "doc_count": 4, "sum": { "value": 6.0 } }));
    assert_eq!((&sums["no"]["doc_count"], &sums["all"]["doc_count"]), (&json!(8), &json!(10)));
    assert_eq!(sums["all"]["count"]["value"], 10.0);
    assert_eq!(sums["c"], json!({ "doc_count": 16, "y": { "value": 36.0 } }));
    assert_eq!(sums["d"]["value_as_string"], "2025-01-01T00:00:00.000Z");
    assert_eq!(sums["none"]["value"], Value::Null);
    let (status, told) = asked.text(
        "POST",
        "x/_search",
        &json!({ "aggs": { "t": { "terms": { "field": "t" } } } }).to_string(),
    );
    assert!(status == 400 && told.contains("Text fields are not optimised"), "{told}");
}

#[test]
fn hits_come_in_order_with_as_much_as_was_asked_for() {
    let fields = json!({ "n": { "type": "integer" }, "k": { "type": "keyword" } });
    let documents: Vec<_> =
        (0..30).map(|n| json!({ "n": (n * 7) % 30, "k": format!("k{:02}", n % 5) })).collect();
    let asked = Asked::filled(fields, &documents);
    let body = json!({ "sort": [{ "k": "desc" }, { "n": { "order": "asc" } }], "from": 1, "size": 2, "_source": ["n"] });
    let (_, found) = asked.json("POST", "x/_search", &body);
    let hits = found["hits"]["hits"].as_array().unwrap();
    let of_last: Vec<i64> = {
        let mut all: Vec<i64> = (0..30).filter(|n| n % 5 == 4).map(|n| (n * 7) % 30).collect();
        all.sort_unstable();
        all
    };
    let sources: Vec<_> = hits.iter().map(|hit| hit["_source"].clone()).collect();
    assert_eq!(sources, [json!({ "n": of_last[1] }), json!({ "n": of_last[2] })]);
    assert_eq!(hits[0]["sort"], json!(["k04", of_last[1]]));
    assert_eq!(found["hits"]["total"]["value"], 30);
    assert_eq!(asked.json("GET", "x/_search?size=0", &Value::Null).1["hits"]["hits"], json!([]));
    let (status, told) = asked.text("POST", "x/_search", "{\"size\": 10001}");
    assert!(status == 400 && told.contains("Result window is too large"), "{told}");
}

#[test]
fn a_document_is_got_at_once_and_found_after_a_refresh() {
    let asked = Asked::new();
    let (status, told) = asked.json("PUT", "y/_doc/1", &json!({ "n": 1.50 }));
    assert_eq!((status, &told["result"]), (201, &json!("created")));
    assert_eq!(
        asked.text("GET", "y/_doc/1", "").1,
        "{\"_index\":\"y\",\"_id\":\"1\",\"_version\":1,\"_seq_no\":0,\"_primary_term\":1,\"found\":true,\"_source\":{\"n\":1.5}}"
    );
    assert_eq!(asked.json("POST", "y/_refresh", &Value::Null).0, 200);
    assert_eq!(asked.json("GET", "y/_count", &Value::Null).1["count"], 1);
    // A mapping grew from what came.
    assert_eq!(
        asked.json("GET", "y/_mapping", &Value::Null).1["y"]["mappings"]["properties"]["n"]["type"],
        "float"
    );
    assert_eq!(asked.json("DELETE", "y/_doc/1?refresh=true", &Value::Null).0, 200);
    assert_eq!(asked.json("DELETE", "y/_doc/1", &Value::Null).0, 404);
    assert_eq!(asked.json("GET", "y/_count", &Value::Null).1["count"], 0);
    assert_eq!(
        asked.json("GET", "y/_doc/1", &Value::Null),
        (404, json!({ "_index": "y", "_id": "1", "found": false }))
    );
    assert_eq!(asked.text("HEAD", "y/_doc/1", ""), (404, String::new()));
    assert_eq!(
        asked.json("GET", "nobody/_count", &Value::Null).1["error"]["type"],
        "index_not_found_exception"
    );
    assert_eq!(asked.json("POST", "y/nothing/here", &Value::Null).0, 400);
    let long = "x".repeat(513);
    let (status, told) = asked.text("PUT", &format!("y/_doc/{long}"), "{}");
    assert!(status == 400 && told.contains("must be no longer than 512 bytes"), "{told}");
}

#[test]
fn whatever_comes_is_answered() {
    use std::io::{Read, Write};
    let asked = Asked::new();
    for bytes in [
        &b"\0\xff\xfe\r\n\r\n"[..],
        b"GET\r\n\r\n",
        b"POST /_bulk HTTP/1.1\r\ncontent-length: 99999999999\r\n\r\n",
        b"POST /_bulk HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\nzz\r\n",
        b"POST /x/_bulk HTTP/1.1\r\ncontent-encoding: gzip\r\ncontent-length: 3\r\n\r\nabc",
        b"GET /%ff%00/_search HTTP/1.1\r\n\r\n",
        b"PUT /x HTTP/1.1\r\ncontent-length: 1\r\n\r\n{",
    ] {
        let mut stream = std::net::TcpStream::connect(asked.server.address()).unwrap();
        stream.write_all(bytes).unwrap();
        stream.shutdown(std::net::Shutdown::Write).unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        assert!(answer.starts_with(b"HTTP/1.1 4"), "{}", String::from_utf8_lossy(&answer));
    }
    assert_eq!(asked.json("GET", "", &Value::Null).0, 200);
}

/// What was acknowledged is there after every restart, also where the log is longer than a buffer, or was cut in the middle of an
/// entry; and it does not grow by being read.
#[test]
fn a_server_that_starts_again_has_what_it_had() {
    let folder = tempfile::tempdir().unwrap();
    let log = || {
        let folders = std::fs::read_dir(folder.path()).unwrap();
        let mut logs = folders.map(|entry| entry.unwrap().path().join("log"));
        logs.find(|path| path.exists()).expect("an index has a log")
    };
    let mut length = 0;
    for round in 0..4 {
        let server = Server::start(folder.path(), 0, None).unwrap();
        let asked = Asked { server, _folder: tempfile::tempdir().unwrap() };
        if round == 0 {
            let lines = (0..400).map(|at| {
                let note = format!("{at} {}", "y".repeat(900));
                format!("{{\"index\":{{\"_id\":\"{at}\"}}}}\n{}\n", json!({ "note": note }))
            });
            let lines = lines.collect::<String>() + "{\"delete\":{\"_id\":\"7\"}}\n";
            assert_eq!(asked.text("POST", "x/_bulk?refresh=true", &lines).0, 200);
            length = std::fs::metadata(log()).unwrap().len();
        }
        assert_eq!(asked.count(json!({ "match_all": {} })), 399, "round {round}");
        assert_eq!(std::fs::metadata(log()).unwrap().len(), length, "round {round}");
        drop(asked);
        match round {
            // It was killed while it wrote.
            1 => {
                let mut log = std::fs::File::options().append(true).open(log()).unwrap();
                std::io::Write::write_all(&mut log, &[9, 0, 0]).unwrap();
            }
            // It was killed while it read.
            2 => {
                let log = log();
                std::fs::rename(&log, log.with_file_name("log.old")).unwrap();
                std::fs::write(log, b"part").unwrap();
            }
            _ => {}
        }
    }
}
