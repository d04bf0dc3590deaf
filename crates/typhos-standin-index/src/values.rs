//! What a document becomes under a mapping: values by the numbers of their fields, or the reason why it is refused.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use serde_json::{Map, Value, json};

use crate::dates::Formats;
use crate::error::{Error, Result};
use crate::mapping::{Dynamic, Field, Kind, Mapping};

/// A value as it is kept to be asked for.
#[derive(Debug, Clone, PartialEq)]
pub enum Kept {
    /// A whole number, up to 64 bits.
    Signed(i64),
    /// A larger one.
    Unsigned(u64),
    /// A number.
    Float(f64),
    /// True or false.
    Bool(bool),
    /// A text as a whole.
    Exact(String),
    /// A text by its words.
    Words(String),
}

/// What is kept of a document beside its source.
#[derive(Debug, Default)]
pub struct Values {
    /// Values by fields.
    pub values: BTreeMap<u32, Vec<Kept>>,
    /// Fields that have a value.
    pub exists: BTreeSet<u32>,
    /// How many objects a nested field has.
    pub nested: BTreeMap<u32, i64>,
}

/// What came of looking at a document.
pub enum Looked {
    /// It fits.
    Values(Values),
    /// It has fields that nobody declared and the mapping lets in: what is to be added to it.
    Grows(Value),
}

/// Bytes of a term at most.
const MOST_TERM_BYTES: usize = 32_766;

/// Looks at a document.
///
/// # Errors
/// Why it is refused.
pub fn look(mapping: &Mapping, id: &str, document: &Map<String, Value>) -> Result<Looked> {
    let dynamic = mapping.root.dynamic.unwrap_or(Dynamic::True);
    let mut look = Look { id, values: Values::default(), new: Map::new() };
    look.object(&mapping.root, document, "", dynamic)?;
    match look.new.is_empty() {
        true => Ok(Looked::Values(look.values)),
        false => Ok(Looked::Grows(json!({ "properties": look.new }))),
    }
}

struct Look<'d> {
    id: &'d str,
    values: Values,
    new: Map<String, Value>,
}

impl Look<'_> {
    fn object(
        &mut self,
        field: &Field,
        object: &Map<String, Value>,
        path: &str,
        dynamic: Dynamic,
    ) -> Result<()> {
        for (name, value) in object {
            if path.is_empty() && name.starts_with('_') && is_own(name) {
                let reason = format!(
                    "Field [{name}] is a metadata field and cannot be added inside a document. Use the index API request parameters."
                );
                return Err(self.failed(name, &field.name, value, &reason));
            }
            // Points lead through objects.
            match name.split_once('.') {
                Some((first, rest)) if !first.is_empty() && !rest.is_empty() => {
                    let inside = Map::from_iter([(rest.to_owned(), value.clone())]);
                    self.member(field, first, &Value::Object(inside), path, dynamic)?;
                }
                Some(_) => {
                    let reason = format!(
                        "object field starting or ending with a [.] makes object resolution ambiguous: [{name}]"
                    );
                    return Err(Error::new(400, "mapper_parsing_exception", "failed to parse")
                        .caused_by("illegal_argument_exception", &reason));
                }
                None => self.member(field, name, value, path, dynamic)?,
            }
        }
        Ok(())
    }

    fn member(
        &mut self,
        parent: &Field,
        name: &str,
        value: &Value,
        path: &str,
        dynamic: Dynamic,
    ) -> Result<()> {
        let full = format!("{path}{name}");
        if let Some(field) = parent.properties.get(name) {
            return self.field(field, value, &full, dynamic);
        }
        match dynamic {
            Dynamic::False => Ok(()),
            Dynamic::Strict => Err(Error::new(
                400,
                "strict_dynamic_mapping_exception",
                format!(
                    "mapping set to strict, dynamic introduction of [{name}] within [{}] is not allowed",
                    if path.is_empty() { "_doc" } else { path.trim_end_matches('.') }
                ),
            )),
            Dynamic::True => {
                if let Some(guess) = guessed(value) {
                    self.new.insert(full, guess);
                }
                Ok(())
            }
        }
    }

    fn field(&mut self, field: &Field, value: &Value, path: &str, dynamic: Dynamic) -> Result<()> {
        if !field.is_enabled {
            return Ok(());
        }
        let dynamic = field.dynamic.unwrap_or(dynamic);
        match (value, &field.kind) {
            (Value::Null, _) => Ok(()),
            (Value::Array(values), Kind::GeoPoint) if values.iter().all(Value::is_number) => {
                self.scalar(field, value, path)
            }
            (Value::Array(values), _) => {
                values.iter().try_for_each(|value| self.field(field, value, path, dynamic))
            }
            (Value::Object(object), Kind::Object(is_nested)) => {
                if *is_nested {
                    *self.values.nested.entry(field.number).or_default() += 1;
                }
                self.object(field, object, &format!("{path}."), dynamic)
            }
            (_, Kind::Object(_)) => Err(Error::new(
                400,
                "mapper_parsing_exception",
                format!(
                    "object mapping for [{path}] tried to parse field [{path}] as object, but found a concrete value"
                ),
            )),
            _ => {
                self.scalar(field, value, path)?;
                field.fields.values().try_for_each(|other| self.scalar(other, value, path))
            }
        }
    }

    fn scalar(&mut self, field: &Field, value: &Value, path: &str) -> Result<()> {
        let kept = kept(field, value).map_err(|cause| match cause {
            Cause::Own(error) => error,
            Cause::Reason(reason) => self.failed(path, &field.name, value, &reason),
        })?;
        let Some(kept) = kept else { return Ok(()) };
        if let (Kept::Exact(text), true) = (&kept, field.is_indexed)
            && text.len() > MOST_TERM_BYTES
        {
            let reason = format!(
                "Document contains at least one immense term in field=\"{path}\" (whose UTF8 encoding is longer than the max length {MOST_TERM_BYTES}), all of which were skipped."
            );
            return Err(Error::argument(reason));
        }
        self.values.exists.insert(field.number);
        self.values.values.entry(field.number).or_default().push(kept);
        Ok(())
    }

    fn failed(&self, path: &str, kind: &str, value: &Value, cause: &str) -> Box<Error> {
        let preview = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        Error::new(
            400,
            "mapper_parsing_exception",
            format!(
                "failed to parse field [{path}] of type [{kind}] in document with id '{}'. Preview of field's value: '{preview}'",
                self.id
            ),
        )
        .caused_by("illegal_argument_exception", cause)
    }
}

/// Fields that an index has for itself.
fn is_own(name: &str) -> bool {
    [
        "_id",
        "_index",
        "_source",
        "_type",
        "_routing",
        "_field_names",
        "_ignored",
        "_seq_no",
        "_version",
    ]
    .contains(&name)
}

enum Cause {
    Reason(String),
    Own(Box<Error>),
}

fn kept(field: &Field, value: &Value) -> std::result::Result<Option<Kept>, Cause> {
    let text = match value {
        Value::String(text) => text.clone(),
        Value::Number(number) => number.to_string(),
        Value::Bool(value) => value.to_string(),
        Value::Object(_) | Value::Array(_) if field.kind == Kind::GeoPoint => String::new(),
        _ => {
            let state = "Can't get text on a START_OBJECT".to_owned();
            return Err(Cause::Reason(state));
        }
    };
    let wrong = |what: String| Cause::Reason(what);
    let number = || -> std::result::Result<f64, Cause> {
        let is_number = !value.is_boolean();
        let parsed = text.trim().parse::<f64>().ok().filter(|it| is_number && it.is_finite());
        parsed.ok_or_else(|| wrong(format!("For input string: \"{text}\"")))
    };
    Ok(Some(match &field.kind {
        Kind::Integer(low, high) => {
            let whole = match text.trim().parse::<i128>() {
                Ok(whole) => whole,
                Err(_) => number()?.trunc() as i128,
            };
            if whole < *low || whole > *high {
                return Err(wrong(format!(
                    "Value [{text}] is out of range for {} [{}]",
                    article(&field.name),
                    field.name
                )));
            }
            match i64::try_from(whole) {
                Ok(signed) => Kept::Signed(signed),
                Err(_) => Kept::Unsigned(whole as u64),
            }
        }
        Kind::Float => {
            let narrow = number()? as f32;
            if narrow.is_infinite() {
                return Err(wrong(format!(
                    "[float] supports only finite values, but got [{narrow}]"
                )));
            }
            Kept::Float(narrow.into())
        }
        Kind::Double => Kept::Float(number()?),
        Kind::Scaled(factor) => Kept::Float((number()? * factor).round() / factor),
        Kind::Keyword(most) => {
            if most.is_some_and(|most| text.chars().count() > most) {
                return Ok(None);
            }
            Kept::Exact(text)
        }
        Kind::Text => Kept::Words(text),
        Kind::Date(formats, is_nanos) => {
            let nanos = formats.read(&text).ok_or_else(|| {
                let reason =
                    format!("failed to parse date field [{text}] with format [{}]", field.format());
                wrong(reason)
            })?;
            if !*is_nanos {
                Kept::Signed((nanos.div_euclid(1_000_000)) as i64)
            } else if nanos < 0 {
                return Err(wrong(format!(
                    "date[{text}] is before the epoch in 1970 and cannot be stored in nanosecond resolution"
                )));
            } else {
                let nanos = i64::try_from(nanos);
                let nanos = nanos.map_err(|_| wrong(format!("date[{text}] is after 2262-04-11T23:47:16.854775807 and cannot be stored in nanosecond resolution")))?;
                Kept::Signed(nanos)
            }
        }
        Kind::Boolean => match &text[..] {
            "true" => Kept::Bool(true),
            "false" | "" => Kept::Bool(false),
            other => {
                return Err(wrong(format!(
                    "Failed to parse value [{other}] as only [true] or [false] are allowed."
                )));
            }
        },
        Kind::Ip => {
            let address: IpAddr = text
                .parse()
                .map_err(|_| wrong(format!("'{text}' is not an IP string literal.")))?;
            Kept::Exact(address.to_string())
        }
        Kind::GeoPoint => {
            let (lat, lon) = point(value, &text).ok_or_else(|| {
                Cause::Own(Error::new(
                    400,
                    "mapper_parsing_exception",
                    "failed to parse field of type [geo_point]",
                ))
            })?;
            if lat.abs() > 90.0 {
                return Err(wrong(format!("illegal latitude value [{lat}] for {}", field.name)));
            }
            if lon.abs() > 180.0 {
                return Err(wrong(format!("illegal longitude value [{lon}] for {}", field.name)));
            }
            Kept::Exact(format!("{lat},{lon}"))
        }
        Kind::Object(_) => return Ok(None),
    }))
}

/// The value that a question is about, as documents keep it.
///
/// # Errors
/// Why a field cannot have it.
pub fn kept_of(field: &Field, value: &Value) -> std::result::Result<Option<Kept>, String> {
    kept(field, value).map_err(|cause| match cause {
        Cause::Reason(reason) => reason,
        Cause::Own(error) => error.reason,
    })
}

fn article(name: &str) -> &'static str {
    if name.starts_with(['i', 'u']) { "an" } else { "a" }
}

/// A point in any of the ways that it may be written in.
fn point(value: &Value, text: &str) -> Option<(f64, f64)> {
    match value {
        Value::Object(object) => {
            let degree = |key: &str| object.get(key).and_then(Value::as_f64);
            Some((degree("lat")?, degree("lon")?))
        }
        Value::Array(values) => Some((values.get(1)?.as_f64()?, values.first()?.as_f64()?)),
        _ => {
            let (lat, lon) = text.split_once(',')?;
            Some((lat.trim().parse().ok()?, lon.trim().parse().ok()?))
        }
    }
}

/// The type that is guessed from the first value of a field.
fn guessed(value: &Value) -> Option<Value> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(_) => json!({ "type": "boolean" }),
        Value::Number(number) if number.is_f64() => json!({ "type": "float" }),
        Value::Number(_) => json!({ "type": "long" }),
        Value::String(text)
            if Formats::parse("strict_date_optional_time")
                .is_ok_and(|it| it.read(text).is_some() && text.contains('-')) =>
        {
            json!({ "type": "date" })
        }
        Value::String(_) => json!({
            "type": "text", "fields": { "keyword": { "type": "keyword", "ignore_above": 256 } },
        }),
        Value::Array(values) => return values.iter().find_map(guessed),
        Value::Object(object) => {
            let inside: Map<String, Value> = object
                .iter()
                .filter_map(|(name, value)| Some((name.clone(), guessed(value)?)))
                .collect();
            json!({ "type": "object", "properties": inside })
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(field: Value, value: Value) -> std::result::Result<Vec<Kept>, String> {
        let mut mapping = Mapping::default();
        mapping.put(&json!({ "dynamic": "strict", "properties": { "f": field } })).unwrap();
        let document = Map::from_iter([("f".to_owned(), value)]);
        match look(&mapping, "1", &document) {
            Ok(Looked::Values(values)) => Ok(values.values.into_values().flatten().collect()),
            Ok(Looked::Grows(_)) => panic!("strict"),
            Err(error) => Err(error.body().to_string()),
        }
    }

    #[test]
    fn values_fit_their_fields_or_are_refused() {
        let byte = json!({ "type": "byte" });
        assert_eq!(of(byte.clone(), json!(127)).unwrap(), [Kept::Signed(127)]);
        assert_eq!(of(byte.clone(), json!(["-128", null])).unwrap(), [Kept::Signed(-128)]);
        assert!(of(byte.clone(), json!(128)).unwrap_err().contains("is out of range for a [byte]"));
        assert!(
            of(byte, json!("x")).unwrap_err().contains("failed to parse field [f] of type [byte]")
        );
        let wide = json!({ "type": "unsigned_long" });
        assert_eq!(of(wide, json!(u64::MAX)).unwrap(), [Kept::Unsigned(u64::MAX)]);
        assert!(
            of(json!({ "type": "object" }), json!({ "a": 1 }))
                .unwrap_err()
                .contains("introduction of [a] within [f]")
        );
        assert!(
            of(json!({ "type": "ip" }), json!("nine")).unwrap_err().contains("IP string literal")
        );
        assert!(
            of(json!({ "type": "keyword" }), json!("x".repeat(40_000)))
                .unwrap_err()
                .contains("immense term")
        );
    }

    #[test]
    fn undeclared_fields_are_guessed_where_they_are_let_in() {
        let document = json!({ "a": { "b": "2024-01-02", "n": 1 }, "t": "words" });
        let Looked::Grows(new) =
            look(&Mapping::default(), "1", document.as_object().unwrap()).unwrap()
        else {
            panic!()
        };
        assert_eq!(new["properties"]["a"]["properties"]["b"]["type"], "date");
        assert_eq!(new["properties"]["t"]["fields"]["keyword"]["ignore_above"], 256);
    }
}
