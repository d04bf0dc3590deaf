//! The mapping of an index: which fields there are, of which types, and how it grows. A field that is there never changes
//! its type. What values of documents become under it is in [`crate::values`].

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};

use crate::dates::Formats;
use crate::error::{Error, Result};

/// The type of a field.
#[derive(Debug, Clone, PartialEq)]
pub enum Kind {
    /// A whole number between two.
    Integer(i128, i128),
    /// A number of 32 bits.
    Float,
    /// A number of 64 bits.
    Double,
    /// A number that is rounded to a part of one.
    Scaled(f64),
    /// A text as a whole, up to so many characters where that is said.
    Keyword(Option<usize>),
    /// A text by its words.
    Text,
    /// A point in time, in milliseconds or nanoseconds.
    Date(Formats, bool),
    /// True or false.
    Boolean,
    /// An address.
    Ip,
    /// A latitude and a longitude.
    GeoPoint,
    /// Fields inside, of which each object of a list is one of its own where `true`.
    Object(bool),
}

/// What happens to a field that is not declared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dynamic {
    /// It is added, with a type guessed from its value.
    True,
    /// It is left alone.
    False,
    /// The document is refused.
    Strict,
}

/// A field, or the whole.
#[derive(Debug, Clone)]
pub struct Field {
    /// What it is called inside: a number that never changes.
    pub number: u32,
    /// Its type.
    pub kind: Kind,
    /// The name of its type.
    pub name: String,
    /// Whether it can be asked for.
    pub is_indexed: bool,
    /// Whether what is inside is looked at.
    pub is_enabled: bool,
    /// What happens to undeclared fields inside, where that is said.
    pub dynamic: Option<Dynamic>,
    /// Fields inside of an object.
    pub properties: BTreeMap<String, Field>,
    /// The same value in other ways.
    pub fields: BTreeMap<String, Field>,
    /// What was declared, without what is inside.
    keys: Map<String, Value>,
}

/// All fields of an index.
#[derive(Debug, Clone)]
pub struct Mapping {
    /// The whole.
    pub root: Field,
    next: u32,
}

impl Default for Mapping {
    fn default() -> Self {
        Mapping {
            root: Field {
                number: 0,
                kind: Kind::Object(false),
                name: "object".into(),
                is_indexed: true,
                is_enabled: true,
                dynamic: Some(Dynamic::True),
                properties: BTreeMap::new(),
                fields: BTreeMap::new(),
                keys: Map::new(),
            },
            next: 1,
        }
    }
}

impl Mapping {
    /// Adds what a body declares.
    ///
    /// # Errors
    /// A type or parameter that is not there, and a field that is there with another type.
    pub fn put(&mut self, body: &Value) -> Result<()> {
        // All or nothing.
        let mut changed = self.clone();
        let mut root =
            body.as_object().cloned().ok_or_else(|| Error::parsing("a mapping is an object"))?;
        let properties = root.shift_remove("properties").unwrap_or(json!({}));
        for (key, value) in root {
            match &key[..] {
                "dynamic" => changed.root.dynamic = dynamic(&value)?,
                "_meta"
                | "_source"
                | "_routing"
                | "date_detection"
                | "numeric_detection"
                | "dynamic_templates"
                | "dynamic_date_formats" => {}
                other => {
                    let reason = format!(
                        "Root mapping definition has unsupported parameters:  [{other} : {value}]"
                    );
                    return Err(Error::new(400, "mapper_parsing_exception", reason));
                }
            }
            changed.root.keys.insert(key, value);
        }
        let Mapping { root, next } = &mut changed;
        add(&mut root.properties, &properties, "", next)?;
        *self = changed;
        Ok(())
    }

    /// The mapping as it is told.
    pub fn body(&self) -> Value {
        self.root.told()
    }

    /// The field at a path, which may lead to another way of the same value.
    pub fn find(&self, path: &str) -> Option<&Field> {
        self.root.find(path)
    }
}

impl Field {
    fn find(&self, path: &str) -> Option<&Field> {
        let mut ends = path.match_indices('.').map(|(at, _)| at).chain([path.len()]);
        ends.find_map(|end| {
            let field =
                self.properties.get(&path[..end]).or_else(|| self.fields.get(&path[..end]))?;
            if end == path.len() { Some(field) } else { field.find(&path[end + 1..]) }
        })
    }

    /// The formats that its dates are read by, as they were declared.
    pub fn format(&self) -> &str {
        let usual = "strict_date_optional_time||epoch_millis";
        self.keys.get("format").and_then(Value::as_str).unwrap_or(usual)
    }

    /// Its number and those of all fields inside.
    pub fn numbers(&self) -> Vec<u32> {
        let inside = self.properties.values().flat_map(Field::numbers);
        [self.number].into_iter().chain(inside).collect()
    }

    fn told(&self) -> Value {
        let mut told = self.keys.clone();
        let each = |fields: &BTreeMap<String, Field>| {
            fields.iter().map(|(name, field)| (name.clone(), field.told())).collect::<Map<_, _>>()
        };
        if !self.properties.is_empty() {
            told.insert("properties".into(), Value::Object(each(&self.properties)));
        }
        if !self.fields.is_empty() {
            told.insert("fields".into(), Value::Object(each(&self.fields)));
        }
        Value::Object(told)
    }
}

fn dynamic(value: &Value) -> Result<Option<Dynamic>> {
    Ok(Some(match value {
        Value::Bool(true) => Dynamic::True,
        Value::Bool(false) => Dynamic::False,
        Value::String(text) if text == "strict" => Dynamic::Strict,
        Value::String(text) if text == "true" => Dynamic::True,
        Value::String(text) if text == "false" => Dynamic::False,
        other => {
            return Err(Error::argument(format!(
                "dynamic must be one of [true, false, strict], not [{other}]"
            )));
        }
    }))
}

fn add(
    fields: &mut BTreeMap<String, Field>,
    declared: &Value,
    path: &str,
    next: &mut u32,
) -> Result<()> {
    let declared =
        declared.as_object().ok_or_else(|| Error::parsing("[properties] is not an object"))?;
    for (name, body) in declared {
        // Points lead through objects.
        if let Some((first, rest)) = name.split_once('.') {
            let inside = json!({ first: { "properties": { rest: body } } });
            add(fields, &inside, path, next)?;
            continue;
        }
        let path = format!("{path}{name}");
        if name.trim().is_empty() {
            return Err(Error::argument("field name cannot be an empty string"));
        }
        let new = field(body, &path, next)?;
        let Some(known) = fields.get_mut(name) else {
            fields.insert(name.clone(), new);
            continue;
        };
        if known.name != new.name {
            return Err(Error::argument(format!(
                "mapper [{path}] cannot be changed from type [{}] to [{}]",
                known.name, new.name
            )));
        }
        for key in ["format", "index", "scaling_factor", "doc_values", "analyzer"] {
            let (old, new) = (known.keys.get(key), new.keys.get(key));
            if old != new {
                let word = |value: Option<&Value>| {
                    value.map_or("null".into(), |value| {
                        value.as_str().map_or(value.to_string(), str::to_owned)
                    })
                };
                return Err(Error::argument(format!(
                    "Mapper for [{path}] conflicts with existing mapper:\n\tCannot update parameter [{key}] from [{}] to [{}]",
                    word(old),
                    word(new)
                )));
            }
        }
        if let Some(properties) = body.get("properties") {
            add(&mut known.properties, properties, &format!("{path}."), next)?;
        }
        if let Some(inside) = body.get("fields") {
            add(&mut known.fields, inside, &format!("{path}."), next)?;
        }
        known.keys.extend(new.keys);
        known.dynamic = new.dynamic.or(known.dynamic);
    }
    Ok(())
}

fn field(body: &Value, path: &str, next: &mut u32) -> Result<Field> {
    let parsing = |reason: String| Error::new(400, "mapper_parsing_exception", reason);
    let keys = body.as_object();
    let mut keys = keys.cloned().ok_or_else(|| {
        parsing(format!(
            "Expected map for property [fields] on field [{path}] but got a class java.lang.String"
        ))
    })?;
    let properties = keys.shift_remove("properties");
    let inside = keys.shift_remove("fields");
    let name = match keys.get("type") {
        Some(name) => name.as_str().unwrap_or_default().to_owned(),
        None if properties.is_some()
            || keys.contains_key("enabled")
            || keys.contains_key("dynamic") =>
        {
            "object".to_owned()
        }
        None => return Err(parsing(format!("No type specified for field [{path}]"))),
    };
    let signed = |bits: u32| Kind::Integer(-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1);
    let formats = || match keys.get("format").and_then(Value::as_str) {
        Some(format) => Formats::parse(format).map_err(|unknown| {
            parsing(format!(
                "Failed to parse mapping [_doc]: Invalid format: [{}]: Unknown pattern letter",
                unknown.0
            ))
        }),
        None => Ok(Formats::default()),
    };
    let kind = match &name[..] {
        "byte" => signed(8),
        "short" => signed(16),
        "integer" => signed(32),
        "long" => signed(64),
        "unsigned_long" => Kind::Integer(0, u64::MAX.into()),
        "half_float" | "float" => Kind::Float,
        "double" => Kind::Double,
        "scaled_float" => {
            let factor = keys.get("scaling_factor").and_then(Value::as_f64);
            Kind::Scaled(factor.ok_or_else(|| {
                parsing(format!("Field [{path}] misses required parameter [scaling_factor]"))
            })?)
        }
        "keyword" => {
            Kind::Keyword(keys.get("ignore_above").and_then(Value::as_u64).map(|n| n as usize))
        }
        "text" => Kind::Text,
        "date" => Kind::Date(formats()?, false),
        "date_nanos" => Kind::Date(formats()?, true),
        "boolean" => Kind::Boolean,
        "ip" => Kind::Ip,
        "geo_point" => Kind::GeoPoint,
        "object" => Kind::Object(false),
        "nested" => Kind::Object(true),
        other => {
            return Err(parsing(format!(
                "No handler for type [{other}] declared on field [{path}]"
            )));
        }
    };
    let flag =
        |key: &str| keys.get(key) != Some(&json!(false)) && keys.get(key) != Some(&json!("false"));
    let dynamic = keys.get("dynamic").map(dynamic).transpose()?.flatten();
    let number = *next;
    *next += 1;
    let mut field = Field {
        number,
        is_indexed: flag("index"),
        is_enabled: flag("enabled"),
        kind,
        dynamic,
        properties: BTreeMap::new(),
        fields: BTreeMap::new(),
        keys: Map::new(),
        name,
    };
    if let Some(properties) = properties {
        add(&mut field.properties, &properties, &format!("{path}."), next)?;
    }
    if let Some(inside) = inside {
        add(&mut field.fields, &inside, &format!("{path}."), next)?;
    }
    // An object is told without its type, as it was not said.
    if field.name == "object" && !field.properties.is_empty() {
        keys.shift_remove("type");
    }
    field.keys = keys;
    Ok(field)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reason(result: Result<()>) -> String {
        result.unwrap_err().reason
    }

    #[test]
    fn a_field_never_changes_its_type() {
        let mut mapping = Mapping::default();
        let body = json!({ "dynamic": "strict", "properties": { "n": { "type": "long" }, "a.b": { "type": "keyword" } } });
        mapping.put(&body).unwrap();
        let other = json!({ "properties": { "n": { "type": "keyword" }, "z": { "type": "ip" } } });
        assert_eq!(
            reason(mapping.put(&other)),
            "mapper [n] cannot be changed from type [long] to [keyword]"
        );
        assert!(mapping.find("z").is_none(), "all or nothing");
        assert_eq!(mapping.find("a.b").unwrap().kind, Kind::Keyword(None));
        let told = json!({
            "dynamic": "strict",
            "properties": { "a": { "properties": { "b": { "type": "keyword" } } }, "n": { "type": "long" } },
        });
        assert_eq!(mapping.body(), told);
        let before = mapping.find("n").unwrap().number;
        mapping.put(&json!({ "properties": { "z": { "type": "ip" } } })).unwrap();
        assert_eq!(mapping.find("n").unwrap().number, before);
        assert!(
            reason(mapping.put(&json!({ "properties": { "q": { "type": "blob" } } })))
                .contains("No handler for type [blob]")
        );
    }
}
