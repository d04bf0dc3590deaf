//! The documents of an index as a table, typed by its mapping.
//!
//! A mapping does not say which fields are lists, and not all that was declared: an index that Typhos made says so beside its
//! mapping, and of others the documents that are read are looked at. Fields of objects are columns of their own, by their paths.

use std::ops::ControlFlow;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use serde_json::{Map, Value, json as body};
use typhos_core::columns::Plan;
use typhos_core::json;
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::schema::{ColumnDecl, ColumnFrom, IntType, Misfit, Scalar, Schema, Type};
use typhos_core::table::{InputTable, Passed, Sieve, Table, TableError};
use typhos_core::text::{Input, InputChoice, InputFormat};
use typhos_load::{Secret, TargetError};

use super::client::{Client, part};
use super::plan::look_up;
use crate::server_table;
use crate::server_url::{ServerKind, ServerUrl};

/// Documents that a server gives at once at most.
const MOST_DOCUMENTS: usize = 10_000;

/// Digits that a number of an index keeps.
const KEPT_DIGITS: u8 = 15;

/// The name of the column of ids.
const ID: &str = "_id";

/// The first documents of an index.
#[derive(Debug)]
pub struct IndexTable {
    input: Input,
    plan: Plan,
    documents: u64,
    /// Where it is, without a password.
    pub target: String,
}

impl IndexTable {
    /// Whether a text is the URL of an index, or is meant to be one.
    pub fn is_url(text: &str) -> bool {
        ServerUrl::kind_of(text) == Some(ServerKind::Index)
    }

    /// Gets the first documents of the index of a URL. A password is asked for where the server wants one and none is known.
    ///
    /// # Errors
    /// A URL that is none of an index, a server that cannot be asked, an index that is not there.
    pub fn open(
        url: &str,
        documents: usize,
        password: Option<Secret>,
    ) -> Result<IndexTable, TargetError> {
        let mut url = server_table::parsed(url).map_err(TargetError::Address)?;
        url.password = password.or(url.password);
        let client = Client::connect(&url)?;
        let name = client.index();
        let there = look_up(&client, name)?;
        let [there] = &there[..] else {
            let message = match there.len() {
                0 => format!("there is no index '{name}'"),
                count => format!("'{name}' stands for {count} indexes; name one of them"),
            };
            return Err(client.error(message, ""));
        };
        let count = client.ask("GET", &format!("{}/_count", part(name)), None)?;
        let body = body!({ "size": documents.min(MOST_DOCUMENTS), "sort": ["_doc"] });
        let found = client.ask("POST", &format!("{}/_search", part(name)), Some(&body))?;
        let hits = found["hits"]["hits"].as_array().cloned().unwrap_or_default();
        let hints = &there.mapping["_meta"]["typhos"]["types"];
        let mut fields = Vec::new();
        paths(&there.mapping["properties"], "", hints, &mut fields);
        // A mapping has its fields by their names; a declaration has an order.
        let declared: Vec<_> =
            hints.as_object().into_iter().flatten().map(|(name, _)| name).collect();
        fields.sort_by_key(|(path, _)| {
            let at = declared.iter().position(|name| *name == path);
            at.unwrap_or(declared.len())
        });
        let mut lines = Vec::new();
        let mut columns: Vec<ColumnDecl> = vec![column(ID, Scalar::Text { most: None }.into())];
        let mut values: Vec<Map<String, Value>> =
            hits.iter().map(|hit| Map::from_iter([(key(0), hit["_id"].clone())])).collect();
        for (path, field) in fields {
            let hint = hints[&path].as_str().and_then(|hint| Type::parse(hint).ok());
            let mut ty = type_of(&field, hint);
            let found: Vec<Value> = hits.iter().map(|hit| at(&hit["_source"], &path)).collect();
            if !matches!(ty, Type::List(_)) && found.iter().any(Value::is_array) {
                ty = Type::List(Box::new(ty));
            }
            for (values, found) in values.iter_mut().zip(found) {
                if !found.is_null() {
                    values.insert(key(columns.len()), as_text(found, &ty));
                }
            }
            columns.push(column(&path, ty));
        }
        for values in values {
            lines.extend_from_slice(Value::Object(values).to_string().as_bytes());
            lines.push(b'\n');
        }
        let choice = InputChoice { format: Some(InputFormat::Json), ..InputChoice::default() };
        let mut input = Input::from_bytes(&client.target(), lines, &choice);
        let wanted: Vec<_> = (0..columns.len()).map(key).collect();
        // A name with points in it is a path in JSON: each column is found by a name that has none.
        for (column, key) in columns.iter_mut().zip(&wanted) {
            column.from = Some(ColumnFrom::Name(key.clone()));
        }
        let learned = json::learn(&mut input, &wanted, &RunOptions::default(), &NoMonitor);
        learned.map_err(|error| client.error(error.to_string(), ""))?;
        let schema = Schema { columns, ..Schema::default() };
        // As a file would declare it, with all that goes without saying.
        let schema = typhos_core::read_schema(&typhos_core::schema::write(&schema, &[], &[]));
        let plan = schema.and_then(|schema| Plan::new(schema, &input));
        let plan = plan.map_err(|wrong| {
            let wrong: Vec<_> = wrong.into_iter().map(|it| it.message).collect();
            client.error(wrong.join("; "), "")
        })?;
        let documents = count["count"].as_u64().unwrap_or(0);
        Ok(IndexTable { input, plan, documents, target: client.target() })
    }
}

impl Table for IndexTable {
    fn schema(&self) -> SchemaRef {
        self.plan.arrow()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.documents)
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        InputTable::new(&self.input, &self.plan).read_through(sieve, each)
    }
}

/// What the values of a column are called on their way.
fn key(at: usize) -> String {
    format!("c{at}")
}

fn column(path: &str, ty: Type) -> ColumnDecl {
    ColumnDecl { misfit: Misfit::Null, ..ColumnDecl::new(path, ty) }
}

/// The fields of a mapping that have values, by their paths.
fn paths(properties: &Value, around: &str, hints: &Value, fields: &mut Vec<(String, Value)>) {
    for (name, field) in properties.as_object().into_iter().flatten() {
        let path = format!("{around}{name}");
        let is_column = hints[&path].is_string();
        let is_object = field["type"].as_str().is_none_or(|it| it == "object");
        if is_object && field["enabled"] != body!(false) && !is_column {
            paths(&field["properties"], &format!("{path}."), hints, fields);
        } else {
            fields.push((path, field.clone()));
        }
    }
}

/// What is at a path of a document, whose names may have points in them.
fn at(document: &Value, path: &str) -> Value {
    if let Some(found) = document.get(path) {
        return found.clone();
    }
    let ends = path.match_indices('.').map(|(end, _)| end);
    let inside = ends.filter_map(|end| Some(at(document.get(&path[..end])?, &path[end + 1..])));
    inside.into_iter().find(|found| !found.is_null()).unwrap_or(Value::Null)
}

/// What a value is read as. A point in an object is written as a text.
fn as_text(value: Value, ty: &Type) -> Value {
    match (value, ty) {
        (Value::Array(values), Type::List(items)) => {
            values.into_iter().map(|value| as_text(value, items)).collect()
        }
        (value, Type::List(items)) => body!([as_text(value, items)]),
        (Value::Object(point), Type::Scalar(Scalar::Geopoint)) => {
            body!(format!("{},{}", point["lat"], point["lon"]))
        }
        (Value::Object(mut members), Type::Struct(fields)) => {
            for field in fields.iter() {
                if let Some(value) = members.get_mut(&field.name) {
                    *value = as_text(value.take(), &field.ty);
                }
            }
            Value::Object(members)
        }
        // A space stands between day and time, as everywhere here.
        (Value::String(text), Type::Scalar(Scalar::Timestamp { .. })) => {
            body!(text.replacen('T', " ", 1))
        }
        (value, _) => value,
    }
}

/// The same type with open sets for closed ones, of which a mapping does not have the values.
fn open_set(ty: Type) -> Type {
    match ty {
        Type::Scalar(Scalar::Category) => Scalar::Lowcard.into(),
        Type::List(items) => Type::List(Box::new(open_set(*items))),
        other => other,
    }
}

fn type_of(field: &Value, hint: Option<Type>) -> Type {
    let fields = |field: &Value| {
        let inside = field["properties"].as_object().into_iter().flatten();
        inside.map(|(name, field)| column(name, type_of(field, None))).collect::<Vec<_>>()
    };
    let name = field["type"].as_str().unwrap_or("object");
    if name == "nested" {
        return Type::List(Box::new(Type::Struct(fields(field))));
    }
    match hint {
        // What is inside of it is in the mapping alone.
        Some(Type::Struct(_)) => return Type::Struct(fields(field)),
        Some(Type::List(items)) if !matches!(*items, Type::Scalar(_)) => {}
        Some(hint) => return open_set(hint),
        None => {}
    }
    let scalar = match name {
        "byte" => Scalar::Int(IntType::Int8),
        "short" => Scalar::Int(IntType::Int16),
        "integer" => Scalar::Int(IntType::Int32),
        "long" => Scalar::Int(IntType::Int64),
        "unsigned_long" => Scalar::Int(IntType::UInt64),
        "float" | "half_float" => Scalar::Float32,
        "double" => Scalar::Float64,
        "scaled_float" => {
            let digits = field["scaling_factor"].as_f64().unwrap_or(1.0).log10();
            match digits.fract() == 0.0 && (0.0..=9.0).contains(&digits) {
                true => Scalar::Decimal { precision: KEPT_DIGITS, scale: digits as u8 },
                false => Scalar::Float64,
            }
        }
        "boolean" => Scalar::Bool,
        "date"
            if field["format"].as_str().is_some_and(|it| it == "strict_date" || it == "date") =>
        {
            Scalar::Date
        }
        "ip" => Scalar::Ip,
        "geo_point" => Scalar::Geopoint,
        "object" => Scalar::Json,
        // Dates come as they were written, in any of their formats.
        _ => Scalar::Text { most: None },
    };
    scalar.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_lead_through_objects_and_names_with_points() {
        let document = body!({ "a.b": 1, "c": { "d.e": { "f": 2 } }, "g": null });
        for (path, want) in
            [("a.b", body!(1)), ("c.d.e.f", body!(2)), ("g", body!(null)), ("a.x", body!(null))]
        {
            assert_eq!(at(&document, path), want, "{path}");
        }
    }

    #[test]
    fn hints_tell_what_a_mapping_does_not() {
        let hints = body!({ "s": "struct", "l": "list(uint8)" });
        let properties = body!({
            "s": { "properties": { "x": { "type": "long" } } },
            "o": { "properties": { "y": { "type": "ip" } } },
            "l": { "type": "short" },
        });
        let mut fields = Vec::new();
        paths(&properties, "", &hints, &mut fields);
        let names: Vec<_> = fields.iter().map(|(path, _)| &path[..]).collect();
        assert_eq!(names, ["s", "o.y", "l"]);
        let of = |at: usize| {
            type_of(&fields[at].1, hints[&fields[at].0].as_str().map(|it| Type::parse(it).unwrap()))
        };
        assert_eq!(of(2).to_string(), "list(uint8)");
        assert!(matches!(of(0), Type::Struct(fields) if fields[0].name == "x"));
    }
}
