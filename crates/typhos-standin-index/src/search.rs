//! Searching and counting: which documents are found, in which order, and what of them is told.

use std::cmp::Ordering;
use std::time::Instant;

use serde_json::{Map, Value, json};
use tantivy::collector::{Count, DocSetCollector, TopDocs};
use tantivy::columnar::DynamicColumn;
use tantivy::query::{ConstScoreQuery, Query};
use tantivy::{DocAddress, Searcher, TantivyDocument};

use crate::aggregations::Aggregator;
use crate::error::{Error, Result};
use crate::http::Response;
use crate::index::{Index, key};
use crate::mapping::{Kind, Mapping};
use crate::query::of_body;

/// Documents that a search reaches at most.
const MOST_REACHED: u64 = 10_000;

/// How many documents a body finds.
///
/// # Errors
/// As [`of_body`].
pub fn count(index: &Index, body: &Map<String, Value>) -> Result<Response> {
    let mapping = index.mapping();
    let query = of_body(index, &mapping, body)?;
    let count = index.searcher()?.search(&*query, &Count)?;
    Ok(Response::json(200, &json!({ "count": count, "_shards": shards() })))
}

/// What is told of the parts of an index, of which there is one.
pub fn shards() -> Value {
    json!({ "total": 1, "successful": 1, "skipped": 0, "failed": 0 })
}

/// What a body finds.
///
/// # Errors
/// As [`of_body`], and more documents asked for than a search reaches.
pub fn search(index: &Index, body: &Map<String, Value>) -> Result<Response> {
    let began = Instant::now();
    let mapping = index.mapping();
    let query = of_body(index, &mapping, body)?;
    let searcher = index.searcher()?;
    let number = |key: &str, usual: u64| body.get(key).and_then(Value::as_u64).unwrap_or(usual);
    let (from, size) = (number("from", 0), number("size", 10));
    if from + size > MOST_REACHED {
        return Err(Error::argument(format!(
            "Result window is too large, from + size must be less than or equal to: [{MOST_REACHED}] but was [{}]. See the scroll api for a more efficient way to request large data sets. This limit can be set by changing the [index.max_result_window] index level setting.",
            from + size
        )));
    }
    let total = searcher.search(&*query, &Count)?;
    let window = (from as usize, size as usize);
    let hits = match body.get("sort") {
        Some(sort) => sorted(index, &mapping, &searcher, &*query, sort, window)?,
        None => ranked(&searcher, &*query, window)?,
    };
    let best = hits.iter().filter_map(|hit| hit.score).reduce(f32::max);
    let chosen = body.get("_source").unwrap_or(&Value::Null);
    let mut text = String::new();
    for hit in &hits {
        let document: TantivyDocument = searcher.doc(hit.at)?;
        let source = chosen_source(index.source(&document), chosen);
        let separator = if text.is_empty() { "" } else { "," };
        let mut told =
            json!({ "_index": index.name, "_id": index.id(&document), "_score": hit.score });
        if let Some(keys) = &hit.keys {
            told["sort"] = json!(keys);
        }
        let told = told.to_string();
        let source = source.map_or(String::new(), |source| format!(",\"_source\":{source}"));
        text.push_str(&format!("{separator}{}{source}}}", &told[..told.len() - 1]));
    }
    let aggregations = body.get("aggs").or_else(|| body.get("aggregations"));
    let aggregations = match aggregations {
        Some(said) => {
            let aggregator = Aggregator { index, mapping: &mapping, searcher: &searcher };
            let results = Value::Object(aggregator.of(&*query, said)?);
            format!(",\"aggregations\":{results}")
        }
        None => String::new(),
    };
    let took = began.elapsed().as_millis();
    let body = format!(
        "{{\"took\":{took},\"timed_out\":false,\"_shards\":{},\"hits\":{{\"total\":{{\"value\":{total},\"relation\":\"eq\"}},\"max_score\":{},\"hits\":[{text}]}}{aggregations}}}",
        shards(),
        json!(best),
    );
    Ok(Response::of_json(200, body))
}

/// As much of a document as was asked for; `None` where nothing was.
pub fn chosen_source(source: &[u8], chosen: &Value) -> Option<String> {
    let whole = || String::from_utf8_lossy(source).into_owned();
    let names: Vec<String> = match chosen {
        Value::Null | Value::Bool(true) => return Some(whole()),
        Value::Bool(false) => return None,
        Value::String(name) => vec![name.clone()],
        Value::Array(names) => {
            names.iter().filter_map(|it| it.as_str().map(str::to_owned)).collect()
        }
        Value::Object(said) => {
            let includes = said.get("includes").or_else(|| said.get("include"));
            return chosen_source(source, includes.unwrap_or(&Value::Null));
        }
        Value::Number(_) => return Some(whole()),
    };
    let document: Map<String, Value> = serde_json::from_slice(source).ok()?;
    let kept = document
        .into_iter()
        .filter(|(name, _)| names.contains(name) || names.iter().any(|it| it == "*"));
    Some(Value::Object(kept.collect()).to_string())
}

/// A document that is told.
struct Hit {
    at: DocAddress,
    score: Option<f32>,
    keys: Option<Vec<Value>>,
}

fn ranked(
    searcher: &Searcher,
    query: &dyn Query,
    (from, size): (usize, usize),
) -> Result<Vec<Hit>> {
    if size == 0 {
        return Ok(Vec::new());
    }
    let top = TopDocs::with_limit(size).and_offset(from).order_by_score();
    let found = searcher.search(query, &top)?;
    Ok(found.into_iter().map(|(score, at)| Hit { at, score: Some(score), keys: None }).collect())
}

/// A value to sort by. What has none comes last.
#[derive(Debug, Clone, PartialEq)]
enum SortKey {
    Whole(i128),
    Float(f64),
    Text(String),
    None,
}

impl SortKey {
    fn order(&self, other: &SortKey, is_descending: bool) -> Ordering {
        let order = match (self, other) {
            (SortKey::None, SortKey::None) => return Ordering::Equal,
            (SortKey::None, _) => return Ordering::Greater,
            (_, SortKey::None) => return Ordering::Less,
            (SortKey::Text(a), SortKey::Text(b)) => a.cmp(b),
            (SortKey::Whole(a), SortKey::Whole(b)) => a.cmp(b),
            (a, b) => a.number().total_cmp(&b.number()),
        };
        if is_descending { order.reverse() } else { order }
    }

    fn number(&self) -> f64 {
        match self {
            SortKey::Whole(value) => *value as f64,
            SortKey::Float(value) => *value,
            SortKey::Text(_) | SortKey::None => f64::NAN,
        }
    }

    fn told(&self) -> Value {
        match self {
            SortKey::Whole(value) => {
                i64::try_from(*value).map_or(json!(*value as u64), |it| json!(it))
            }
            SortKey::Float(value) => json!(value),
            SortKey::Text(text) => json!(text),
            SortKey::None => Value::Null,
        }
    }
}

fn sorted(
    index: &Index,
    mapping: &Mapping,
    searcher: &Searcher,
    query: &dyn Query,
    sort: &Value,
    (from, size): (usize, usize),
) -> Result<Vec<Hit>> {
    let each = match sort {
        Value::Array(each) => each.clone(),
        one => vec![one.clone()],
    };
    let mut by = Vec::new();
    for one in &each {
        let (path, said) = match one {
            Value::String(path) => (path.clone(), json!("asc")),
            Value::Object(object) => match object.iter().next() {
                Some((path, said)) => (path.clone(), said.clone()),
                None => continue,
            },
            _ => return Err(Error::parsing("malformed sort format")),
        };
        let order = said.get("order").unwrap_or(&said);
        let is_descending = order.as_str() == Some("desc");
        if path == "_doc" || path == "_score" || path == "_id" {
            continue;
        }
        let Some(field) = mapping.find(&path) else {
            let reason = format!("No mapping found for [{path}] in order to sort on");
            return Err(
                Error::new(400, "query_shard_exception", reason).about(&index.name, &index.uuid)
            );
        };
        if field.kind == Kind::Text {
            return Err(Error::argument(format!(
                "Text fields are not optimised for operations that require per-document field data like aggregations and sorting, so these operations are disabled by default. Please use a keyword field instead. [{path}]"
            )));
        }
        by.push((format!("exact.{}", key(field.number)), is_descending));
    }
    if by.is_empty() {
        // In the order in which they lie there, which is that of equal scores.
        let all = ConstScoreQuery::new(query.box_clone(), 1.0);
        let hits = ranked(searcher, &all, (from, size))?.into_iter();
        return Ok(hits.map(|hit| Hit { score: None, keys: Some(Vec::new()), ..hit }).collect());
    }
    let found = searcher.search(query, &DocSetCollector)?;
    let mut found: Vec<DocAddress> = found.into_iter().collect();
    found.sort_unstable();
    let mut columns: Vec<Vec<Vec<DynamicColumn>>> = Vec::new();
    for segment in searcher.segment_readers() {
        let of_segment = by.iter().map(|(name, _)| {
            let handles = segment.fast_fields().dynamic_column_handles(name)?;
            handles.iter().map(|handle| Ok(handle.open()?)).collect::<Result<Vec<_>>>()
        });
        columns.push(of_segment.collect::<Result<_>>()?);
    }
    let keys_of = |at: &DocAddress| -> Vec<SortKey> {
        let of_segment = &columns[at.segment_ord as usize];
        of_segment
            .iter()
            .zip(&by)
            .map(|(columns, (_, is_descending))| {
                let keys = columns.iter().flat_map(|column| values(column, at.doc_id));
                let best = keys.min_by(|a, b| a.order(b, *is_descending));
                best.unwrap_or(SortKey::None)
            })
            .collect()
    };
    let mut keyed: Vec<(Vec<SortKey>, DocAddress)> =
        found.iter().map(|at| (keys_of(at), *at)).collect();
    keyed.sort_by(|(a, _), (b, _)| {
        let each =
            a.iter().zip(b).zip(&by).map(|((a, b), (_, is_descending))| a.order(b, *is_descending));
        each.fold(Ordering::Equal, Ordering::then)
    });
    let hits = keyed.into_iter().skip(from).take(size);
    Ok(hits
        .map(|(keys, at)| Hit {
            at,
            score: None,
            keys: Some(keys.iter().map(SortKey::told).collect()),
        })
        .collect())
}

fn values(column: &DynamicColumn, doc: u32) -> Vec<SortKey> {
    match column {
        DynamicColumn::I64(column) => {
            column.values_for_doc(doc).map(|it| SortKey::Whole(it.into())).collect()
        }
        DynamicColumn::U64(column) => {
            column.values_for_doc(doc).map(|it| SortKey::Whole(it.into())).collect()
        }
        DynamicColumn::F64(column) => column.values_for_doc(doc).map(SortKey::Float).collect(),
        DynamicColumn::Bool(column) => {
            column.values_for_doc(doc).map(|it| SortKey::Whole(it.into())).collect()
        }
        DynamicColumn::Str(column) => {
            let mut text = String::new();
            let mut texts = Vec::new();
            for ord in column.term_ords(doc) {
                text.clear();
                if column.ord_to_str(ord, &mut text).unwrap_or(false) {
                    texts.push(SortKey::Text(text.clone()));
                }
            }
            texts
        }
        _ => Vec::new(),
    }
}
