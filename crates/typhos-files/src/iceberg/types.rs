//! What a declared column is in a table: its type there, the number that files and tables know it by, and how its values are
//! stored. The types and their JSON are those of the specification of the format, version 2.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_schema::{DataType, Field as ArrowField, Fields, Schema as ArrowSchema, TimeUnit};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use typhos_core::columns::is_nested;

/// The key under which a field of Arrow says which number it has.
const FIELD_ID: &str = "PARQUET:field_id";

/// The columns of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct TableSchema {
    /// Always `struct`.
    #[serde(rename = "type")]
    pub kind: String,
    /// Which of the schemas of a table it is.
    #[serde(default)]
    pub schema_id: i32,
    /// The columns.
    pub fields: Vec<Column>,
    /// The columns that name a row, by their numbers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub identifier_field_ids: Vec<i32>,
}

/// A column, or a field of a struct.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Column {
    /// Its number.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// Whether it is never null.
    pub required: bool,
    /// What it holds.
    #[serde(rename = "type")]
    pub ty: Type,
    /// What a person says of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doc: Option<String>,
    /// What else there is.
    #[serde(flatten)]
    pub more: Map<String, Value>,
}

/// A type.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Type {
    /// A word, as `long` or `decimal(9,2)`.
    Plain(String),
    /// One of more columns.
    Nested(Nested),
}

/// A type of more columns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "lowercase")]
pub enum Nested {
    /// Fields.
    Struct {
        /// The fields.
        fields: Vec<Column>,
    },
    /// A list.
    #[serde(rename_all = "kebab-case")]
    List {
        /// The number of its elements.
        element_id: i32,
        /// What they are.
        element: Box<Type>,
        /// Whether they are never null.
        element_required: bool,
    },
    /// Pairs; nothing that is declared becomes one.
    #[serde(rename_all = "kebab-case")]
    Map {
        /// The number of its keys.
        key_id: i32,
        /// What they are.
        key: Box<Type>,
        /// The number of its values.
        value_id: i32,
        /// What they are.
        value: Box<Type>,
        /// Whether they are never null.
        value_required: bool,
    },
}

impl Type {
    /// In words.
    pub fn words(&self) -> String {
        match self {
            Type::Plain(word) => word.clone(),
            Type::Nested(Nested::List { element, .. }) => format!("list of {}", element.words()),
            Type::Nested(Nested::Map { key, value, .. }) => {
                format!("map of {} to {}", key.words(), value.words())
            }
            Type::Nested(Nested::Struct { fields }) => {
                let each = fields.iter().map(|it| format!("{} {}", it.name, it.ty.words()));
                format!("struct of {}", each.collect::<Vec<_>>().join(", "))
            }
        }
    }
}

impl TableSchema {
    /// The columns of a new table, numbered as the specification's own library does: those of a struct first, then what is in
    /// them.
    ///
    /// # Errors
    /// For each column that a table cannot hold, a sentence.
    pub fn of(rows: &ArrowSchema, docs: &[Option<String>]) -> Result<TableSchema, Vec<String>> {
        let mut next = 1;
        let mut wrong = Vec::new();
        let mut fields = columns(rows.fields(), &mut next, &mut wrong);
        for (field, doc) in fields.iter_mut().zip(docs) {
            field.doc.clone_from(doc);
        }
        match wrong.is_empty() {
            true => Ok(TableSchema {
                kind: "struct".into(),
                schema_id: 0,
                fields,
                identifier_field_ids: Vec::new(),
            }),
            false => Err(wrong),
        }
    }

    /// The highest number of a column.
    pub fn last_id(&self) -> i32 {
        self.fields.iter().map(last_id).max().unwrap_or(0)
    }

    /// A column by its name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.fields.iter().find(|column| column.name == name)
    }

    /// The same columns, with the numbers of those of another schema that have the same name and take the same values, and new
    /// ones from `next` on for all others.
    pub fn renumbered(mut self, others: &TableSchema, next: &mut i32) -> TableSchema {
        self.fields.iter_mut().for_each(|column| {
            let known = others.column(&column.name);
            match known.filter(|known| are_alike(&known.ty, &column.ty)) {
                Some(known) => {
                    column.id = known.id;
                    column.ty = known.ty.clone();
                }
                None => number(std::slice::from_mut(column), next),
            }
        });
        self
    }

    /// How rows are stored in files of a table: the columns of the rows, in their order, in the types and under the numbers of
    /// the table.
    ///
    /// # Errors
    /// For each column that the table has not, or of another type, a sentence.
    pub fn stored(&self, rows: &ArrowSchema) -> Result<ArrowSchema, Vec<String>> {
        let mut wrong = Vec::new();
        let mut fields = Vec::new();
        for field in rows.fields() {
            match self.column(field.name()) {
                Some(column) => match stored(field, column.id, &column.ty, field.name()) {
                    Ok(field) => fields.push(field),
                    Err(sentence) => wrong.push(sentence),
                },
                None => wrong.push(format!("the table has no column '{}'", field.name())),
            }
        }
        if wrong.is_empty() { Ok(ArrowSchema::new(fields)) } else { Err(wrong) }
    }
}

fn last_id(column: &Column) -> i32 {
    fn of(ty: &Type) -> i32 {
        match ty {
            Type::Plain(_) => 0,
            Type::Nested(Nested::Struct { fields }) => {
                fields.iter().map(last_id).max().unwrap_or(0)
            }
            Type::Nested(Nested::List { element_id, element, .. }) => *element_id.max(&of(element)),
            Type::Nested(Nested::Map { key_id, key, value_id, value, .. }) => {
                *key_id.max(value_id).max(&of(key)).max(&of(value))
            }
        }
    }
    column.id.max(of(&column.ty))
}

/// Whether two types differ in nothing but numbers.
fn are_alike(one: &Type, other: &Type) -> bool {
    match (one, other) {
        (Type::Plain(a), Type::Plain(b)) => plain_words(a) == plain_words(b),
        (
            Type::Nested(Nested::List { element: a, .. }),
            Type::Nested(Nested::List { element: b, .. }),
        ) => are_alike(a, b),
        (
            Type::Nested(Nested::Struct { fields: a }),
            Type::Nested(Nested::Struct { fields: b }),
        ) => {
            a.len() == b.len()
                && a.iter().zip(b).all(|(a, b)| a.name == b.name && are_alike(&a.ty, &b.ty))
        }
        _ => false,
    }
}

/// A plain type without blanks, which some writers put between the digits of a decimal.
fn plain_words(word: &str) -> String {
    word.replace(' ', "")
}

/// Gives columns new numbers.
fn number(columns: &mut [Column], next: &mut i32) {
    fn inside(ty: &mut Type, next: &mut i32) {
        match ty {
            Type::Nested(Nested::Struct { fields }) => number(fields, next),
            Type::Nested(Nested::List { element_id, element, .. }) => {
                *element_id = take(next);
                inside(element, next);
            }
            _ => {}
        }
    }
    columns.iter_mut().for_each(|column| column.id = take(next));
    columns.iter_mut().for_each(|column| inside(&mut column.ty, next));
}

fn take(next: &mut i32) -> i32 {
    *next += 1;
    *next - 1
}

/// Columns of a new table.
fn columns(fields: &Fields, next: &mut i32, wrong: &mut Vec<String>) -> Vec<Column> {
    let first = *next;
    *next += fields.len() as i32;
    let numbered = fields.iter().zip(first..);
    let columns = numbered.map(|(field, id)| Column {
        id,
        name: field.name().clone(),
        required: !field.is_nullable(),
        ty: type_of(field, next, wrong),
        doc: None,
        more: Map::new(),
    });
    columns.collect()
}

fn type_of(field: &ArrowField, next: &mut i32, wrong: &mut Vec<String>) -> Type {
    match field.data_type() {
        DataType::List(item) => {
            let element_id = take(next);
            let element = Box::new(type_of(item, next, wrong));
            let element_required = !item.is_nullable();
            Type::Nested(Nested::List { element_id, element, element_required })
        }
        // A point is one, too.
        DataType::Struct(fields) => {
            Type::Nested(Nested::Struct { fields: columns(fields, next, wrong) })
        }
        plain => Type::Plain(plain_type(plain).unwrap_or_else(|why| {
            wrong.push(format!("'{}' {why}", field.name()));
            String::new()
        })),
    }
}

/// The type that takes all values of one of Arrow.
fn plain_type(data_type: &DataType) -> Result<String, &'static str> {
    Ok(match data_type {
        DataType::Boolean => "boolean".into(),
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::UInt8 | DataType::UInt16 => {
            "int".into()
        }
        DataType::UInt32 | DataType::Int64 | DataType::Duration(_) => "long".into(),
        // There are no integers without a sign, and these may be too large for those with one.
        DataType::UInt64 => "decimal(20, 0)".into(),
        DataType::Float32 => "float".into(),
        DataType::Float64 => "double".into(),
        DataType::Decimal32(p, s) | DataType::Decimal64(p, s) | DataType::Decimal128(p, s) => {
            format!("decimal({p}, {s})")
        }
        DataType::Utf8 | DataType::Dictionary(..) => "string".into(),
        DataType::Date32 => "date".into(),
        DataType::Timestamp(TimeUnit::Nanosecond, _) | DataType::Time64(TimeUnit::Nanosecond) => {
            return Err("has nanoseconds, and Iceberg tables of version 2 store microseconds");
        }
        DataType::Time32(_) | DataType::Time64(_) => "time".into(),
        DataType::Timestamp(_, None) => "timestamp".into(),
        DataType::Timestamp(_, Some(_)) => "timestamptz".into(),
        DataType::FixedSizeBinary(16) => "uuid".into(),
        _ => return Err("has a type that Iceberg tables do not have"),
    })
}

/// How a column is stored.
fn stored(field: &ArrowField, id: i32, ty: &Type, path: &str) -> Result<ArrowField, String> {
    let differs = || {
        let theirs = ty.words();
        let mut ours = Vec::new();
        let own = type_of(field, &mut 1, &mut ours);
        match ours.pop() {
            Some(why) => why,
            None => format!("'{path}' is {} here and {theirs} in the table", own.words()),
        }
    };
    let data_type = match (field.data_type(), ty) {
        (DataType::List(item), Type::Nested(Nested::List { element_id, element, .. })) => {
            DataType::List(Arc::new(stored(item, *element_id, element, &format!("{path}[]"))?))
        }
        (DataType::Struct(inner), Type::Nested(Nested::Struct { fields })) => {
            let inner = inner.iter().map(|field| {
                let known = fields.iter().find(|it| it.name == *field.name());
                let path = format!("{path}.{}", field.name());
                let known = known.ok_or_else(|| format!("the table has no '{path}'"))?;
                stored(field, known.id, &known.ty, &path)
            });
            DataType::Struct(inner.collect::<Result<_, _>>()?)
        }
        (plain, Type::Plain(word)) => stored_type(plain, word).ok_or_else(differs)?,
        _ => return Err(differs()),
    };
    let mut about = HashMap::from([(FIELD_ID.to_owned(), id.to_string())]);
    if is_nested(field) {
        // What says that a struct is one, and no point.
        about.extend(field.metadata().clone());
    }
    Ok(field.clone().with_data_type(data_type).with_metadata(about))
}

/// How values of a type of Arrow are stored in a column of a table; `None` where it does not take all of them.
fn stored_type(data_type: &DataType, word: &str) -> Option<DataType> {
    let own = plain_words(&plain_type(data_type).ok()?);
    let word = plain_words(word);
    let theirs = match (&own[..], &word[..]) {
        ("int", "long") => "long",
        ("float", "double") => "double",
        (own, word) if own == word => word,
        (own, word) => {
            let ((p, s), (q, t)) = (digits(own)?, digits(word)?);
            if s != t || p > q {
                return None;
            }
            word
        }
    };
    Some(match theirs {
        "int" => DataType::Int32,
        "long" => DataType::Int64,
        "double" => DataType::Float64,
        "time" => DataType::Time64(TimeUnit::Microsecond),
        "timestamp" => DataType::Timestamp(TimeUnit::Microsecond, None),
        "timestamptz" => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
        other => match digits(other) {
            Some((p, s)) if own != other || matches!(data_type, DataType::UInt64) => {
                DataType::Decimal128(p, s)
            }
            _ => data_type.clone(),
        },
    })
}

/// Precision and scale of a decimal.
pub(super) fn digits(word: &str) -> Option<(u8, i8)> {
    let inner = word.strip_prefix("decimal(")?.strip_suffix(')')?;
    let (precision, scale) = inner.split_once(',')?;
    Some((precision.trim().parse().ok()?, scale.trim().parse().ok()?))
}

/// What is stored otherwise than declared, a sentence each.
pub fn notes(rows: &ArrowSchema) -> Vec<String> {
    let mut notes = Vec::new();
    for field in rows.fields() {
        let name = field.name();
        match field.data_type() {
            DataType::UInt64 => notes.push(format!(
                "'{name}' is stored as decimal(20,0): Iceberg has no unsigned integers"
            )),
            DataType::Duration(unit) => notes.push(format!(
                "'{name}' is stored as a whole number of {}: Iceberg has no type for lengths of time",
                crate::parquet::unit_words(*unit)
            )),
            _ => {}
        }
    }
    notes
}

#[cfg(test)]
mod tests {
    use super::*;

    fn schema(fields: Vec<ArrowField>) -> ArrowSchema {
        ArrowSchema::new(fields)
    }

    fn nested(name: &str, fields: Vec<ArrowField>) -> ArrowField {
        let key = typhos_core::columns::TYPE_KEY.to_owned();
        ArrowField::new(name, DataType::Struct(fields.into()), true)
            .with_metadata(HashMap::from([(key, "struct".to_owned())]))
    }

    fn rows() -> ArrowSchema {
        let item = Arc::new(ArrowField::new("element", DataType::UInt8, true));
        let inner = vec![
            ArrowField::new("temp", DataType::Float32, true),
            ArrowField::new("codes", DataType::List(item.clone()), true),
        ];
        schema(vec![
            ArrowField::new("no", DataType::UInt32, false),
            nested("bearing", inner),
            ArrowField::new("readings", DataType::List(item), true),
            ArrowField::new("big", DataType::UInt64, true),
        ])
    }

    #[test]
    fn numbers_go_level_by_level() {
        let table = TableSchema::of(&rows(), &[]).unwrap();
        let ids: Vec<_> = table.fields.iter().map(|column| column.id).collect();
        assert_eq!(ids, [1, 2, 3, 4]);
        assert_eq!(
            serde_json::to_value(&table.fields[1].ty).unwrap(),
            serde_json::json!({ "type": "struct", "fields": [
                { "id": 5, "name": "temp", "required": false, "type": "float" },
                { "id": 6, "name": "codes", "required": false, "type": {
                    "type": "list", "element-id": 7, "element": "int", "element-required": false,
                } },
            ] })
        );
        assert_eq!(table.last_id(), 8);
        let again: TableSchema =
            serde_json::from_str(&serde_json::to_string(&table).unwrap()).unwrap();
        assert_eq!(again, table);
    }

    #[test]
    fn what_is_stored_has_the_types_and_numbers_of_the_table() {
        let rows = rows();
        let table = TableSchema::of(&rows, &[]).unwrap();
        let stored = table.stored(&rows).unwrap();
        let types: Vec<_> = stored.fields().iter().map(|it| it.data_type().clone()).collect();
        assert_eq!(types[0], DataType::Int64);
        assert_eq!(types[3], DataType::Decimal128(20, 0));
        assert_eq!(stored.field(2).metadata()[FIELD_ID], "3");
        let DataType::List(item) = &types[2] else { panic!("{types:?}") };
        assert_eq!((item.data_type(), &item.metadata()[FIELD_ID][..]), (&DataType::Int32, "8"));
    }

    #[test]
    fn a_table_may_be_wider_and_never_narrower() {
        for (ours, theirs, stored) in [
            (DataType::UInt8, "long", Some(DataType::Int64)),
            (DataType::UInt32, "int", None),
            (DataType::Float32, "double", Some(DataType::Float64)),
            (DataType::Float64, "float", None),
            (DataType::Decimal32(6, 2), "decimal(18,2)", Some(DataType::Decimal128(18, 2))),
            (DataType::Decimal32(6, 2), "decimal(6, 2)", Some(DataType::Decimal32(6, 2))),
            (DataType::Decimal64(12, 2), "decimal(9,2)", None),
            (DataType::Decimal32(6, 2), "decimal(18,3)", None),
            (DataType::UInt64, "long", None),
            (DataType::Utf8, "int", None),
            (DataType::Timestamp(TimeUnit::Nanosecond, None), "timestamp", None),
            (DataType::Timestamp(TimeUnit::Second, None), "timestamptz", None),
        ] {
            assert_eq!(stored_type(&ours, theirs), stored, "{ours} into {theirs}");
        }
    }

    #[test]
    fn columns_keep_their_numbers_where_they_keep_their_types() {
        let old = TableSchema::of(&rows(), &[]).unwrap();
        let changed = schema(vec![
            ArrowField::new("big", DataType::UInt64, true),
            ArrowField::new("no", DataType::Utf8, false),
            ArrowField::new("new", DataType::Utf8, true),
        ]);
        let mut next = old.last_id() + 1;
        let new = TableSchema::of(&changed, &[]).unwrap().renumbered(&old, &mut next);
        let ids: Vec<_> = new.fields.iter().map(|column| column.id).collect();
        assert_eq!((ids, next), (vec![4, 9, 10], 11));
    }
}
