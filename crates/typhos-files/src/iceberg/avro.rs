//! The ways in which lists of a table are written in Avro.

use std::collections::HashMap;

use apache_avro::schema::UnionSchema;
use apache_avro::types::Value as Avro;
use apache_avro::{Codec, DeflateSettings, Schema, Writer};
use serde_json::{Value, json};

/// Why a list cannot be read or written.
pub type Wrong = Box<apache_avro::Error>;

/// A value of a nullable field.
pub fn some(value: Avro) -> Avro {
    Avro::Union(1, Box::new(value))
}

/// A value of a nullable field, or null.
pub fn maybe(value: Option<Avro>) -> Avro {
    value.map_or(Avro::Union(0, Box::new(Avro::Null)), some)
}

/// A count.
pub fn long(count: u64) -> Avro {
    Avro::Long(i64::try_from(count).unwrap_or(i64::MAX))
}

/// A record.
pub fn record<const N: usize>(fields: [(&str, Avro); N]) -> Avro {
    Avro::Record(fields.map(|(name, value)| (name.to_owned(), value)).into())
}

/// A file of values of a schema, with what is said about it.
///
/// # Errors
/// Values that are not of the schema.
pub fn written(
    schema: &Schema,
    about: HashMap<String, Avro>,
    all: Vec<Avro>,
) -> Result<Vec<u8>, Wrong> {
    let mut writer = Writer::builder()
        .schema(schema)
        .writer(Vec::new())
        .codec(Codec::Deflate(DeflateSettings::default()))
        .user_metadata(about)
        .build()?;
    for value in all {
        writer.append_value(value)?;
    }
    Ok(writer.into_inner()?)
}

/// Reads a schema.
///
/// # Errors
/// One that is not valid.
pub fn parsed(schema: &Value) -> Result<Schema, Wrong> {
    with_maps(Schema::parse(schema)?)
}

/// A schema whose arrays of pairs say that they are maps: whoever parses it drops that word.
///
/// # Errors
/// None that is known of.
pub fn with_maps(schema: Schema) -> Result<Schema, Wrong> {
    let is_pair = |schema: &Schema| match schema {
        Schema::Record(record) => {
            let name = record.name.name();
            name.starts_with('k') && name.contains("_v") && record.fields.len() == 2
        }
        _ => false,
    };
    Ok(match schema {
        Schema::Array(mut array) => {
            if is_pair(&array.items) {
                array.attributes.insert("logicalType".into(), json!("map"));
            }
            array.items = Box::new(with_maps(*array.items)?);
            Schema::Array(array)
        }
        Schema::Union(union) => {
            let variants = union.variants().iter().cloned().map(with_maps);
            Schema::Union(UnionSchema::new(variants.collect::<Result<_, _>>()?)?)
        }
        Schema::Record(mut record) => {
            for field in &mut record.fields {
                field.schema = with_maps(std::mem::replace(&mut field.schema, Schema::Null))?;
            }
            Schema::Record(record)
        }
        other => other,
    })
}

/// A nullable field.
pub fn optional(name: &str, id: i32, of: Value) -> Value {
    json!({ "name": name, "type": ["null", of], "default": null, "field-id": id })
}

/// A field of a record; `None` where it is null, too.
pub fn field<'v>(fields: &'v [(String, Avro)], name: &str) -> Option<&'v Avro> {
    let (_, value) = fields.iter().find(|(known, _)| known == name)?;
    match value {
        Avro::Union(_, value) => Some(&**value).filter(|it| !matches!(it, Avro::Null)),
        Avro::Null => None,
        value => Some(value),
    }
}

/// A whole number.
pub fn int(value: Option<&Avro>) -> Option<i64> {
    match value? {
        Avro::Int(number) => Some(i64::from(*number)),
        Avro::Long(number) => Some(*number),
        _ => None,
    }
}
