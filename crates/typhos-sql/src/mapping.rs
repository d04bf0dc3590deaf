//! The mapping of a search index: the body that creates one, in the JSON protocol that several open search servers speak.
//!
//! An index guesses the type of a field from the first document that has it, and never changes it again. So every field
//! is declared before the first document, and what is not declared is refused, unless the layout says `dynamic`.
//!
//! A list has no type of its own there: a field may have any number of values, and the mapping is that of its elements.
//! Structs are objects, and lists of them are `nested`, so that a question about one element does not mix it with
//! another. A name with points in it is a path through objects, as the server takes it.
//!
//! Nothing here sends anything: what becomes of values on their way is the business of whoever sends documents.

use std::collections::HashSet;

use serde_json::{Map, Value, json};
use thiserror::Error;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, Search, TimeUnit, Type};

/// A mapping, and what it holds otherwise than declared.
#[derive(Debug, Clone, PartialEq)]
pub struct Mapping {
    /// The body of the request that creates the index.
    pub body: Value,
    /// What a field holds otherwise than declared, a sentence each.
    pub notes: Vec<String>,
}

/// A name that no field of an index can have.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum UnfitName {
    /// The server has a field of this name for itself.
    #[error("'{0}' is a field that every index has for itself; name the column otherwise")]
    Reserved(String),
    /// A name of which a part between points is empty or blank.
    #[error("'{}' is no name of a field: points in it lead through objects, and one of them has no name", .0.escape_debug())]
    Parts(String),
    /// A name that is a value and an object that others are in.
    #[error(
        "'{value}' is a value, and '{inside}' would be inside of it; name one of them otherwise"
    )]
    Inside {
        /// The name of the value.
        value: String,
        /// The name that leads through it.
        inside: String,
    },
}

/// Fields that an index has for itself.
const RESERVED: [&str; 12] = [
    "_id",
    "_index",
    "_type",
    "_source",
    "_size",
    "_doc_count",
    "_field_names",
    "_ignored",
    "_routing",
    "_tier",
    "_seq_no",
    "_version",
];

/// The longest text of so many characters that is a code, and not prose.
const CODE_CHARACTERS: u32 = 32;

/// Characters of a text beyond which it is not searched as a whole: the term of a text has at most 32,766 bytes, and a
/// character up to four.
const EXACT_CHARACTERS: u32 = 8191;

/// Digits of a decimal that a double keeps on its way.
const DOUBLE_DIGITS: u8 = 15;

/// The integers that a double holds, to which and from which an index goes with numbers.
const DOUBLE_INTEGERS: u32 = 53;

/// The mapping of a schema.
///
/// # Errors
/// A name that no field can have.
pub fn mapping(schema: &Schema) -> Result<Mapping, UnfitName> {
    let mut fields = Fields { notes: Vec::new() };
    let properties = fields.properties(&schema.columns, "")?;
    let dynamic = if schema.layout.dynamic { json!(true) } else { json!("strict") };
    let types: Map<String, Value> =
        schema.columns.iter().map(|c| (c.name.clone(), json!(c.ty.to_string()))).collect();
    let body = json!({
        "mappings": {
            "dynamic": dynamic,
            "_meta": { "typhos": { "version": 1, "types": types } },
            "properties": properties,
        }
    });
    Ok(Mapping { body, notes: fields.notes })
}

/// Whether a decimal is a number in an index; others are words, so that no digit is lost.
pub fn is_number_in_mapping(scalar: Scalar) -> bool {
    match scalar {
        Scalar::Decimal { precision, scale: 0 } => precision <= 18,
        Scalar::Decimal { precision, .. } => precision <= DOUBLE_DIGITS,
        _ => false,
    }
}

struct Fields {
    notes: Vec<String>,
}

impl Fields {
    /// The fields of columns, or of a struct at a path.
    fn properties(&mut self, columns: &[ColumnDecl], path: &str) -> Result<Value, UnfitName> {
        let mut properties = Map::new();
        let names: HashSet<&str> = columns.iter().map(|column| column.name.as_str()).collect();
        for column in columns {
            let name = &column.name;
            let around = name.match_indices('.').map(|(at, _)| &name[..at]);
            if let Some(value) = around.into_iter().find(|around| names.contains(around)) {
                let (value, inside) = (value.to_owned(), name.clone());
                return Err(UnfitName::Inside { value, inside });
            }
            if path.is_empty() && RESERVED.contains(&name.as_str()) {
                return Err(UnfitName::Reserved(name.clone()));
            }
            let parts: Vec<&str> = name.split('.').collect();
            if parts.iter().any(|part| part.trim().is_empty() || part.contains('\0')) {
                return Err(UnfitName::Parts(name.clone()));
            }
            let field = self.field(column, &column.ty, &format!("{path}{name}"))?;
            put(&mut properties, &parts, field);
        }
        Ok(Value::Object(properties))
    }

    fn field(&mut self, column: &ColumnDecl, ty: &Type, path: &str) -> Result<Value, UnfitName> {
        match ty {
            Type::Scalar(scalar) => Ok(self.scalar(column, *scalar, path)),
            Type::Struct(fields) => {
                let properties = self.properties(fields, &format!("{path}."))?;
                Ok(json!({ "type": "object", "properties": properties }))
            }
            Type::List(items) => {
                let mut field = self.field(column, items, path)?;
                match &**items {
                    Type::Struct(_) => field["type"] = json!("nested"),
                    Type::List(_) => self
                        .note(path, "as one list of all values: lists in lists are not told apart"),
                    Type::Scalar(_) => {}
                }
                Ok(field)
            }
        }
    }

    fn note(&mut self, path: &str, what: &str) {
        self.notes.push(format!("'{path}' is stored {what}"));
    }

    fn scalar(&mut self, column: &ColumnDecl, scalar: Scalar, path: &str) -> Value {
        let search = search_of(column, scalar);
        let plain = |name: &str| match search {
            Search::None => json!({ "type": name, "index": false }),
            _ => json!({ "type": name }),
        };
        match scalar {
            Scalar::Bool => plain("boolean"),
            Scalar::Int(int) => {
                let (name, bits) = match int {
                    IntType::Int8 => ("byte", 8),
                    IntType::Int16 | IntType::UInt8 => ("short", 16),
                    IntType::Int32 | IntType::UInt16 => ("integer", 32),
                    IntType::UInt32 => ("long", 32),
                    IntType::Int64 => ("long", 64),
                    IntType::UInt64 => ("unsigned_long", 64),
                };
                if bits > DOUBLE_INTEGERS {
                    self.note(
                        path,
                        &format!(
                            "as {name}, exactly; sums and averages go through doubles beyond 2^53"
                        ),
                    );
                }
                plain(name)
            }
            Scalar::Float32 => plain("float"),
            Scalar::Float64 => plain("double"),
            Scalar::Decimal { precision, scale: 0 } if is_number_in_mapping(scalar) => {
                if precision > DOUBLE_DIGITS {
                    self.note(
                        path,
                        "as long, exactly; sums and averages go through doubles beyond 2^53",
                    );
                }
                plain("long")
            }
            Scalar::Decimal { scale, .. } if is_number_in_mapping(scalar) => {
                let mut field = plain("scaled_float");
                field["scaling_factor"] = json!(10u64.pow(scale.into()));
                field
            }
            Scalar::Decimal { .. } => {
                self.note(path, "as keyword, exactly: no number there keeps so many digits");
                keyword(search)
            }
            Scalar::Text { .. } | Scalar::Lowcard | Scalar::Category => texts(search),
            Scalar::Uuid => keyword(search),
            Scalar::Date => self.dated(column, path, "strict_date", plain("date")),
            Scalar::Timestamp { unit, utc } => {
                let nanos = matches!(unit, TimeUnit::Micro | TimeUnit::Nano);
                if nanos {
                    self.note(path, "as date_nanos, which holds 1970 to 2262");
                }
                // Without an offset it is read as if it were in UTC.
                if !utc {
                    self.note(
                        path,
                        "as a point in time: wall-clock times are kept as if they were in UTC",
                    );
                }
                let field = plain(if nanos { "date_nanos" } else { "date" });
                self.dated(column, path, "strict_date_optional_time_nanos", field)
            }
            Scalar::Time(_) => {
                self.note(path, "as keyword, in ISO 8601: there are no times of day");
                keyword(search)
            }
            Scalar::Ip => plain("ip"),
            Scalar::Geopoint => plain("geo_point"),
            Scalar::Json => {
                self.note(path, "as it is, and cannot be searched");
                json!({ "type": "object", "enabled": false })
            }
            carried => {
                let counts = carried.counts().unwrap_or("units");
                self.note(path, &format!("as a whole number of {counts}"));
                plain("long")
            }
        }
    }

    /// A date that is sent in ISO 8601, and may be asked for as the input writes it.
    fn dated(&mut self, column: &ColumnDecl, path: &str, iso: &str, mut field: Value) -> Value {
        let mut formats = vec![iso.to_owned()];
        for pattern in column.patterns.iter().filter(|pattern| !is_iso(pattern.source())) {
            match readable(pattern.source()) {
                Some(format) if !formats.contains(&format) => formats.push(format),
                Some(_) => {}
                None => self.notes.push(format!(
                    "'{path}' is asked for in ISO 8601 alone: the index does not read '{}'",
                    pattern.source()
                )),
            }
        }
        field["format"] = json!(formats.join("||"));
        field
    }
}

/// Puts a field at a path through objects, none of which is a column.
fn put(properties: &mut Map<String, Value>, parts: &[&str], field: Value) {
    let [first, rest @ ..] = parts else { return };
    if rest.is_empty() {
        properties.insert((*first).to_owned(), field);
        return;
    }
    let object = properties
        .entry((*first).to_owned())
        .or_insert_with(|| json!({ "type": "object", "properties": {} }));
    if let Some(properties) = object["properties"].as_object_mut() {
        put(properties, rest, field);
    }
}

/// How the values of a column are searched, of which the type is given. Where nothing is said, words as they are, and prose by what is
/// in it.
pub fn search_of(column: &ColumnDecl, scalar: Scalar) -> Search {
    column.search.unwrap_or(match scalar {
        Scalar::Text { most: Some(most) } if most <= CODE_CHARACTERS => Search::Exact,
        Scalar::Text { .. } => Search::Both,
        _ => Search::Exact,
    })
}

fn keyword(search: Search) -> Value {
    match search {
        Search::None => json!({ "type": "keyword", "index": false }),
        _ => json!({ "type": "keyword" }),
    }
}

fn texts(search: Search) -> Value {
    match search {
        Search::Exact | Search::None => keyword(search),
        Search::Full => json!({ "type": "text" }),
        Search::Both => {
            let exact = json!({ "type": "keyword", "ignore_above": EXACT_CHARACTERS });
            json!({ "type": "text", "fields": { "exact": exact } })
        }
    }
}

/// A pattern as the format of an index, which knows the same symbols for digits and offsets; `None` where it has
/// others: names of months, words of ours, and years of two digits, which mean other centuries there.
fn readable(pattern: &str) -> Option<String> {
    const SYMBOLS: [&str; 12] =
        ["yyyy", "MM", "M", "dd", "d", "HH", "H", "mm", "ss", "XXX", "X", "DDD"];
    if pattern.contains('%') || pattern.starts_with("epoch") || pattern.contains("||") {
        return None;
    }
    let (mut format, mut rest) = (String::new(), pattern);
    while let Some(first) = rest.chars().next() {
        let length = match first {
            '\'' => rest[1..].find('\'')? + 2,
            _ if first.is_ascii_alphabetic() => {
                let length = rest.len() - rest.trim_start_matches(first).len();
                let is_fraction = first == 'S' && length <= 9;
                (is_fraction || SYMBOLS.contains(&&rest[..length])).then_some(())?;
                length
            }
            _ => first.len_utf8(),
        };
        // A year of an era would need one; a plain year does not.
        format.push_str(if first == 'y' { "uuuu" } else { &rest[..length] });
        rest = &rest[length..];
    }
    Some(format)
}

/// Whether ISO 8601 reads what a pattern reads.
fn is_iso(pattern: &str) -> bool {
    let time = pattern.strip_prefix("yyyy-MM-dd");
    time.is_some_and(|time| time.is_empty() || time.starts_with("'T'"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_core::read_schema as read;

    fn of(columns: &str) -> Result<Mapping, UnfitName> {
        mapping(&read(&format!("typhos = 1\n[columns]\n{columns}\n")).unwrap())
    }

    #[test]
    fn every_type_has_the_narrowest_field() {
        for (keys, want) in [
            ("type = 'bool'", json!({"type": "boolean"})),
            ("type = 'int8'", json!({"type": "byte"})),
            ("type = 'uint8'", json!({"type": "short"})),
            ("type = 'uint16'", json!({"type": "integer"})),
            ("type = 'uint32'", json!({"type": "long"})),
            ("type = 'uint64'", json!({"type": "unsigned_long"})),
            ("type = 'float32'", json!({"type": "float"})),
            ("type = 'decimal(6,2)'", json!({"type": "scaled_float", "scaling_factor": 100})),
            ("type = 'decimal(18,0)'", json!({"type": "long"})),
            ("type = 'decimal(38,2)'", json!({"type": "keyword"})),
            ("type = 'text(8)'", json!({"type": "keyword"})),
            ("type = 'text(8)', search = 'none'", json!({"type": "keyword", "index": false})),
            ("type = 'lowcard'", json!({"type": "keyword"})),
            ("type = 'lowcard', search = 'full'", json!({"type": "text"})),
            (
                "type = 'text'",
                json!({"type": "text", "fields": {"exact": {"type": "keyword", "ignore_above": 8191}}}),
            ),
            ("type = 'date'", json!({"type": "date", "format": "strict_date"})),
            (
                "type = 'date', patterns = ['d.M.yyyy', 'dd MMM yyyy', 'd.M.yy', \"yyyy'y'MM-dd\"]",
                json!({"type": "date", "format": "strict_date||d.M.uuuu||uuuu'y'MM-dd"}),
            ),
            (
                "type = 'timestamp(ns, utc)', patterns = [\"yyyy-MM-dd'T'HH:mm:ssXXX\", 'yyyy/MM/dd HH:mm:ss.SSSSSSSSSXXX']",
                json!({"type": "date_nanos", "format": "strict_date_optional_time_nanos||uuuu/MM/dd HH:mm:ss.SSSSSSSSSXXX"}),
            ),
            ("type = 'time(s)'", json!({"type": "keyword"})),
            ("type = 'duration(ms)'", json!({"type": "long"})),
            ("type = 'uuid'", json!({"type": "keyword"})),
            ("type = 'ip'", json!({"type": "ip"})),
            ("type = 'geopoint'", json!({"type": "geo_point"})),
            ("type = 'json'", json!({"type": "object", "enabled": false})),
            ("type = 'list(uint8)'", json!({"type": "short"})),
            (
                "type = 'list(struct)', fields = { a = { type = 'bool' } }",
                json!({"type": "nested", "properties": {"a": {"type": "boolean"}}}),
            ),
        ] {
            let mapping = of(&format!("x = {{ {keys} }}")).unwrap();
            assert_eq!(mapping.body["mappings"]["properties"]["x"], want, "{keys}");
            assert_eq!(mapping.body["mappings"]["dynamic"], "strict");
        }
        let notes = of("x = { type = 'date', patterns = ['dd MMM yyyy'] }").unwrap().notes;
        assert_eq!(
            notes,
            ["'x' is asked for in ISO 8601 alone: the index does not read 'dd MMM yyyy'"]
        );
    }

    #[test]
    fn points_in_names_lead_through_objects_or_are_refused() {
        let bool = |name: &str| format!("\"{name}\" = {{ type = 'bool' }}\n");
        let mapping = of(&[bool("a.b"), bool("a.c.d")].concat()).unwrap();
        let properties = &mapping.body["mappings"]["properties"];
        assert_eq!(properties["a"]["properties"]["c"]["properties"]["d"]["type"], "boolean");
        for (columns, told) in [
            (bool("_id"), "'_id' is a field that every index has for itself"),
            (bool("a..b"), "'a..b' is no name of a field"),
            (bool(" "), "' ' is no name of a field"),
            ([bool("a"), bool("a.b")].concat(), "'a' is a value, and 'a.b' would be inside of it"),
            ([bool("a.b"), bool("a")].concat(), "'a' is a value, and 'a.b' would be inside of it"),
            (
                [
                    bool("a.b"),
                    "a = { type = 'struct', fields = { c = { type = 'bool' } } }\n".into(),
                ]
                .concat(),
                "'a' is a value, and 'a.b' would be inside of it",
            ),
        ] {
            let error = of(&columns).unwrap_err().to_string();
            assert!(error.starts_with(told), "{error}");
        }
    }
}
