//! What a search adds up: metrics, `terms`, `range` and histograms by the embedded index, whose requests are the same;
//! `filter`, `missing`, `global` and `nested` around them here.

use serde_json::{Map, Value, json};
use tantivy::Searcher;
use tantivy::aggregation::agg_req::Aggregations;
use tantivy::aggregation::{AggContextParams, AggregationCollector, AggregationLimitsGuard};
use tantivy::collector::Count;
use tantivy::query::{AllQuery, Query};

use crate::dates;
use crate::error::{Error, Result};
use crate::index::{Index, key};
use crate::mapping::{Field, Kind, Mapping};
use crate::query::{both, exists, not, query};

/// Bytes that what is gathered may take, and buckets there may be.
const LIMITS: (u64, u32) = (512 << 20, 65_536);

/// Where aggregations look.
pub struct Aggregator<'a> {
    /// The index.
    pub index: &'a Index,
    /// Its mapping.
    pub mapping: &'a Mapping,
    /// Its documents.
    pub searcher: &'a Searcher,
}

impl Aggregator<'_> {
    /// Adds up the documents that a query finds.
    ///
    /// # Errors
    /// An aggregation that is not there, or not of such a field.
    pub fn of(&self, found: &dyn Query, body: &Value) -> Result<Map<String, Value>> {
        let mut results = Map::new();
        let mut by_engine = Map::new();
        let empty = Map::new();
        for (name, definition) in body.as_object().unwrap_or(&empty) {
            let inside = definition.get("aggs").or_else(|| definition.get("aggregations"));
            let kind = definition.as_object().and_then(|it| {
                it.iter().find(|(key, _)| !["aggs", "aggregations", "meta"].contains(&&key[..]))
            });
            let Some((kind, said)) = kind else {
                return Err(Error::parsing(format!("Missing definition for aggregation [{name}]")));
            };
            let path = said["field"].as_str().unwrap_or_default();
            let narrowed = match &kind[..] {
                "filter" => both(found, query(self.index, self.mapping, said)?),
                "missing" => both(found, not(exists(self.index, self.mapping, path))),
                "global" => Box::new(AllQuery),
                "nested" => found.box_clone(),
                _ => {
                    by_engine.insert(name.clone(), self.rewritten(definition)?);
                    continue;
                }
            };
            let count = match &kind[..] {
                "nested" => self.objects(&*narrowed, said["path"].as_str().unwrap_or_default())?,
                _ => self.searcher.search(&*narrowed, &Count)? as u64,
            };
            let mut result = Map::new();
            result.insert("doc_count".into(), json!(count));
            if let Some(inside) = inside {
                result.extend(self.of(&*narrowed, inside)?);
            }
            results.insert(name.clone(), Value::Object(result));
        }
        if !by_engine.is_empty() {
            results.extend(self.by_engine(found, by_engine, body)?);
        }
        Ok(results)
    }

    /// How many objects a nested field has.
    fn objects(&self, found: &dyn Query, path: &str) -> Result<u64> {
        let Some(field) = self.mapping.find(path) else { return Ok(0) };
        let sum = json!({ "n": { "sum": { "field": column(field) } } });
        let sum = self.collect(found, sum)?;
        Ok(sum["n"]["value"].as_f64().unwrap_or(0.0) as u64)
    }

    fn collect(&self, found: &dyn Query, request: Value) -> Result<Value> {
        let request: Aggregations =
            serde_json::from_value(request).map_err(|error| Error::parsing(error.to_string()))?;
        let limits = AggregationLimitsGuard::new(Some(LIMITS.0), Some(LIMITS.1));
        let context = AggContextParams::new(limits, self.searcher.index().tokenizers().clone());
        let collector = AggregationCollector::from_aggs(request, context);
        let results = self.searcher.search(found, &collector)?;
        serde_json::to_value(results).map_err(|error| Error::parsing(error.to_string()))
    }

    fn by_engine(
        &self,
        found: &dyn Query,
        request: Map<String, Value>,
        body: &Value,
    ) -> Result<Map<String, Value>> {
        let Value::Object(mut results) = self.collect(found, Value::Object(request))? else {
            return Ok(Map::new());
        };
        for (name, result) in &mut results {
            let field = body[name]
                .as_object()
                .and_then(|it| it.values().find_map(|it| it["field"].as_str()));
            if let Some(Kind::Date(_, is_nanos)) =
                field.and_then(|path| self.mapping.find(path)).map(|it| &it.kind)
            {
                as_dates(result, *is_nanos);
            }
        }
        Ok(results)
    }

    /// The same request about the fields of the embedded index.
    fn rewritten(&self, definition: &Value) -> Result<Value> {
        let mut rewritten = Map::new();
        for (kind, said) in definition.as_object().into_iter().flatten() {
            if kind == "meta" {
                continue;
            }
            if kind == "aggs" || kind == "aggregations" {
                let inside = said.as_object().into_iter().flatten();
                let inside = inside
                    .map(|(name, definition)| Ok((name.clone(), self.rewritten(definition)?)));
                rewritten.insert("aggs".into(), Value::Object(inside.collect::<Result<_>>()?));
                continue;
            }
            let mut said = said.clone();
            if let Some(path) = said["field"].as_str().map(str::to_owned) {
                let known = self.mapping.find(&path);
                if known.is_some_and(|field| field.kind == Kind::Text) {
                    return Err(Error::argument(format!(
                        "Text fields are not optimised for operations that require per-document field data like aggregations and sorting, so these operations are disabled by default. Please use a keyword field instead. Alternatively, set fielddata=true on [{path}] in order to load field data by uninverting the inverted index. Note that this can use significant memory."
                    )));
                }
                said["field"] = json!(known.map_or("exact.none".into(), column));
            }
            rewritten.insert(kind.clone(), said);
        }
        Ok(Value::Object(rewritten))
    }
}

/// The column of a field.
fn column(field: &Field) -> String {
    format!("exact.{}", key(field.number))
}

/// Points in time are told in milliseconds, and as texts beside.
fn as_dates(result: &mut Value, is_nanos: bool) {
    let Some(object) = result.as_object_mut() else { return };
    for name in ["value", "min", "max", "avg", "sum"] {
        let Some(value) = object.get(name).and_then(Value::as_f64) else { continue };
        let is_count = name == "value" && object.len() > 1;
        if is_count {
            continue;
        }
        let millis = if is_nanos { (value / 1e6).floor() } else { value };
        object.insert(name.to_owned(), json!(millis));
        let text =
            if name == "value" { "value_as_string".into() } else { format!("{name}_as_string") };
        object.insert(text, json!(dates::written(millis as i64)));
    }
}
