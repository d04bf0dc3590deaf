//! A schema as JSON Schema, draft 2020-12: what a row is as a JSON object.
//!
//! It describes rows as `peek --as ndjson` writes them: a property for each column, under its whole name; numbers bare;
//! dates and times in ISO 8601 with a space between day and time; what nests as objects and arrays. A column that may be
//! absent may be null, or left out. What a document cannot be held against there is told in a note: that schema is of one
//! document at a time, and has bounds for numbers alone.

use serde_json::{Map, Number, Value, json};
use typhos_core::columns::plain_text;
use typhos_core::schema::{ColumnDecl, Scalar, Schema, Type};

/// The version of the language that is written.
const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";

/// A time of day, as it is written plainly.
const TIME: &str = r"([01]\d|2[0-3]):[0-5]\d:[0-5]\d(\.\d{1,9})?";
/// A day.
const DAY: &str = r"\d{4}-\d{2}-\d{2}";
/// A length of time.
const LENGTH: &str = r"^-?\d+:[0-5]\d:[0-5]\d(\.\d{1,9})?$";
/// A point on the earth: latitude and longitude.
const POINT: &str = r"^-?\d+(\.\d+)?,-?\d+(\.\d+)?$";

/// The largest power of ten that an unsigned integer of 64 bits holds.
const INTEGER_POWERS: u32 = 19;

/// A schema as JSON Schema, and what it does not say, a sentence each.
pub fn json_schema(schema: &Schema, table: &str) -> (Value, Vec<String>) {
    let mut rows = Rows { notes: Vec::new() };
    let mut body = Map::new();
    body.insert("$schema".into(), json!(DIALECT));
    body.insert("title".into(), json!(table));
    body.extend(rows.object(&schema.columns, "", &schema.layout.key));
    if !schema.layout.key.is_empty() {
        let names: Vec<String> = schema.layout.key.iter().map(|name| format!("'{name}'")).collect();
        rows.notes.push(format!(
            "that {} is a key is kept in the schema file alone: JSON Schema is of one document",
            names.join(" with ")
        ));
    }
    (Value::Object(body), rows.notes)
}

struct Rows {
    notes: Vec<String>,
}

impl Rows {
    /// An object of columns, or of the fields of a struct at a path; those of the key are required, too.
    fn object(&mut self, columns: &[ColumnDecl], path: &str, key: &[String]) -> Map<String, Value> {
        let mut properties = Map::new();
        let mut required = Vec::new();
        for column in columns {
            let is_required = column.required || key.contains(&column.name);
            let path = format!("{path}{}", column.name);
            let mut of_values = self.value(column, &column.ty, &path);
            if is_required {
                required.push(json!(column.name));
            } else {
                or_null(&mut of_values);
            }
            let comment = column.comment.iter().map(|it| ("description".to_owned(), json!(it)));
            let mut property: Map<String, Value> = comment.collect();
            property.append(&mut of_values);
            property.extend(default(column).map(|value| ("default".to_owned(), value)));
            properties.insert(column.name.clone(), Value::Object(property));
        }
        let mut object = Map::new();
        object.insert("type".into(), json!("object"));
        object.insert("properties".into(), Value::Object(properties));
        if !required.is_empty() {
            object.insert("required".into(), Value::Array(required));
        }
        object.insert("additionalProperties".into(), json!(false));
        object
    }

    /// What values of a type are that are not null.
    fn value(&mut self, column: &ColumnDecl, ty: &Type, path: &str) -> Map<String, Value> {
        match ty {
            Type::Scalar(scalar) => self.scalar(column, *scalar, path),
            Type::Struct(fields) => self.object(fields, &format!("{path}."), &[]),
            Type::List(items) => {
                let mut items = self.value(column, items, path);
                // An element may be absent whatever is said of the list.
                or_null(&mut items);
                keywords(json!({ "type": "array", "items": items }))
            }
        }
    }

    fn scalar(&mut self, column: &ColumnDecl, scalar: Scalar, path: &str) -> Map<String, Value> {
        let mut value = keywords(match scalar {
            Scalar::Bool => json!({ "type": "boolean" }),
            Scalar::Int(int) => {
                let (min, max) = int.range();
                json!({ "type": "integer", "minimum": whole(min), "maximum": whole(max) })
            }
            Scalar::Float32 | Scalar::Float64 => json!({ "type": "number" }),
            Scalar::Decimal { precision, scale } => {
                let beyond = power_of_ten(precision - scale);
                json!({
                    "type": if scale == 0 { "integer" } else { "number" },
                    "exclusiveMinimum": negated(&beyond),
                    "exclusiveMaximum": beyond,
                })
            }
            Scalar::Text { most: Some(most) } => json!({ "type": "string", "maxLength": most }),
            Scalar::Category => json!({ "type": "string", "enum": column.values }),
            Scalar::Date => json!({ "type": "string", "format": "date" }),
            Scalar::Time(_) => json!({ "type": "string", "pattern": format!("^{TIME}$") }),
            Scalar::Timestamp { utc, .. } => {
                let zone = if utc { "Z" } else { "" };
                json!({ "type": "string", "pattern": format!("^{DAY} {TIME}{zone}$") })
            }
            Scalar::Duration(_) => json!({ "type": "string", "pattern": LENGTH }),
            Scalar::Uuid => json!({ "type": "string", "format": "uuid" }),
            Scalar::Ip => {
                json!({ "type": "string", "anyOf": [{ "format": "ipv4" }, { "format": "ipv6" }] })
            }
            Scalar::Geopoint => json!({ "type": "string", "pattern": POINT }),
            Scalar::Json => json!({ "type": ["object", "array"] }),
            // Texts without a limit, and what carries itself as one.
            _ => json!({ "type": "string" }),
        });
        for (key, bound, keyword, beyond) in [
            ("low", &column.low, "minimum", "exclusiveMinimum"),
            ("high", &column.high, "maximum", "exclusiveMaximum"),
        ] {
            let Some(bound) = bound else { continue };
            // Bounds are written plainly, whatever the values look like.
            let plain = plain_text(&ColumnDecl::new(&column.name, scalar), bound);
            match plain.filter(|_| scalar.is_number()).and_then(|plain| number(&plain)) {
                Some(bound) => {
                    value.remove(beyond);
                    value.insert(keyword.into(), bound);
                }
                None => self.notes.push(format!(
                    "'{key}' of '{path}' is kept in the schema file alone: JSON Schema has bounds for numbers only"
                )),
            }
        }
        if column.ranked {
            self.notes.push(format!(
                "the order of the values of '{path}' is kept in the schema file alone"
            ));
        }
        value
    }
}

/// Lets values be null besides. What is said of texts alone, a format or a pattern, null passes by itself.
fn or_null(value: &mut Map<String, Value>) {
    if let Some(ty) = value.get_mut("type") {
        match ty {
            Value::Array(types) => types.push(json!("null")),
            one => *one = json!([one.take(), "null"]),
        }
    }
    if let Some(Value::Array(values)) = value.get_mut("enum") {
        values.push(Value::Null);
    }
}

/// What stands for what is absent, as a value of the column.
fn default(column: &ColumnDecl) -> Option<Value> {
    let plain = plain_text(column, column.default.as_deref()?)?;
    Some(match column.scalar() {
        Scalar::Bool => json!(plain == "true"),
        Scalar::Json => serde_json::from_str(&plain).ok()?,
        scalar if scalar.is_number() => number(&plain)?,
        _ => json!(plain),
    })
}

fn number(plain: &str) -> Option<Value> {
    serde_json::from_str::<Number>(plain).ok().map(Value::Number)
}

fn keywords(value: Value) -> Map<String, Value> {
    match value {
        Value::Object(keywords) => keywords,
        _ => Map::new(),
    }
}

/// A bound of an integer type: no type reaches further than 64 bits, with a sign or without.
fn whole(bound: i128) -> Value {
    i64::try_from(bound).map_or_else(|_| json!(bound as u64), |bound| json!(bound))
}

fn power_of_ten(digits: u8) -> Value {
    match u32::from(digits) {
        digits @ 0..=INTEGER_POWERS => json!(10u64.pow(digits)),
        digits => json!(10f64.powi(digits as i32)),
    }
}

fn negated(number: &Value) -> Value {
    match number.as_i64() {
        Some(number) => json!(-number),
        None => json!(-number.as_f64().unwrap_or(f64::MAX)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_core::read_schema as read;

    fn of(columns: &str) -> (Value, Vec<String>) {
        json_schema(&read(&format!("typhos = 1\n[columns]\n{columns}\n")).unwrap(), "crossings")
    }

    #[test]
    fn every_type_has_its_values() {
        for (keys, want) in [
            ("type = 'bool'", json!({"type": "boolean"})),
            ("type = 'int8'", json!({"type": "integer", "minimum": -128, "maximum": 127})),
            (
                "type = 'uint64'",
                json!({"type": "integer", "minimum": 0, "maximum": 18_446_744_073_709_551_615u64}),
            ),
            (
                "type = 'uint16', low = '1', high = '1000', grouping = '.', decimal_mark = ','",
                json!({"type": "integer", "minimum": 1, "maximum": 1000}),
            ),
            ("type = 'float64'", json!({"type": "number"})),
            (
                "type = 'decimal(6,2)'",
                json!({"type": "number", "exclusiveMinimum": -10000, "exclusiveMaximum": 10000}),
            ),
            (
                "type = 'decimal(6,2)', low = '0'",
                json!({"type": "number", "exclusiveMaximum": 10000, "minimum": 0.0}),
            ),
            (
                "type = 'decimal(19,0)'",
                json!({"type": "integer", "exclusiveMinimum": -1e19, "exclusiveMaximum": 10_000_000_000_000_000_000u64}),
            ),
            (
                "type = 'decimal(38,0)'",
                json!({"type": "integer", "exclusiveMinimum": -1e38, "exclusiveMaximum": 1e38}),
            ),
            ("type = 'text'", json!({"type": "string"})),
            ("type = 'text(8)'", json!({"type": "string", "maxLength": 8})),
            ("type = 'lowcard'", json!({"type": "string"})),
            (
                "type = 'category', values = ['deck', 'saloon']",
                json!({"type": "string", "enum": ["deck", "saloon"]}),
            ),
            ("type = 'date'", json!({"type": "string", "format": "date"})),
            ("type = 'uuid'", json!({"type": "string", "format": "uuid"})),
            (
                "type = 'ip'",
                json!({"type": "string", "anyOf": [{"format": "ipv4"}, {"format": "ipv6"}]}),
            ),
            ("type = 'json'", json!({"type": ["object", "array"]})),
            (
                "type = 'list(uint8)'",
                json!({"type": "array", "items": {"type": ["integer", "null"], "minimum": 0, "maximum": 255}}),
            ),
            (
                "type = 'struct', fields = { a = { type = 'bool', required = true }, b = { type = 'text' } }",
                json!({
                    "type": "object",
                    "properties": {"a": {"type": "boolean"}, "b": {"type": ["string", "null"]}},
                    "required": ["a"],
                    "additionalProperties": false,
                }),
            ),
        ] {
            let (body, notes) = of(&format!("x = {{ {keys}, required = true }}"));
            assert_eq!(body["properties"]["x"], want, "{keys}");
            assert_eq!(body["required"], json!(["x"]));
            assert!(notes.is_empty(), "{keys}: {notes:?}");
        }
    }

    #[test]
    fn what_may_be_absent_may_be_null_and_what_is_said_of_a_column_comes_along() {
        let (body, notes) = of(
            "cabin = { type = 'category', values = ['deck', 'saloon'], ranked = true, default = 'deck', comment = 'Where they sit.' }\n\
             party = { type = 'uint8', default = '1' }\n\
             paid = { type = 'bool', default = 'no' }\n\
             sold = { type = 'date', low = '2024-01-01' }\n\
             [layout]\nkey = ['party']",
        );
        assert_eq!(
            body,
            json!({
                "$schema": "https://json-schema.org/draft/2020-12/schema",
                "title": "crossings",
                "type": "object",
                "properties": {
                    "cabin": {
                        "description": "Where they sit.",
                        "type": ["string", "null"],
                        "enum": ["deck", "saloon", null],
                        "default": "deck",
                    },
                    "party": {"type": "integer", "minimum": 0, "maximum": 255, "default": 1},
                    "paid": {"type": ["boolean", "null"], "default": false},
                    "sold": {"type": ["string", "null"], "format": "date"},
                },
                "required": ["party"],
                "additionalProperties": false,
            })
        );
        assert_eq!(
            notes,
            [
                "the order of the values of 'cabin' is kept in the schema file alone",
                "'low' of 'sold' is kept in the schema file alone: JSON Schema has bounds for numbers only",
                "that 'party' is a key is kept in the schema file alone: JSON Schema is of one document",
            ]
        );
    }
}
