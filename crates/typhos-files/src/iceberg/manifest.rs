//! Manifests, in Avro: they name data files, with what is known of their columns. Fields and numbers are those of the
//! specification, version 2.

use std::collections::{BTreeMap, HashMap};

use apache_avro::Reader;
use apache_avro::types::Value as Avro;
use serde_json::{Value, json};

use super::avro::{
    Wrong, field, int, long, maybe, optional, parsed, record, some, with_maps, written,
};
use super::literal::{Literal, bytes_of};
use super::metadata::{FORMAT, PartitionSpec};
use super::transform::Transform;
use super::types::{Nested, TableSchema, Type, digits};

/// What becomes of a file that a manifest names.
const ADDED: i32 = 1;
const DELETED: i32 = 2;

/// A data file, as a manifest names it.
#[derive(Debug, Clone, PartialEq)]
pub struct NewFile {
    /// Its URL.
    pub path: String,
    /// Its bytes.
    pub bytes: u64,
    /// Its rows.
    pub rows: u64,
    /// The values of the partitions of its rows, in the order of the partitions.
    pub partition: Vec<Option<Literal>>,
    /// What is known of its columns, by their numbers.
    pub columns: BTreeMap<i32, ColumnFacts>,
    /// Where its row groups start.
    pub offsets: Vec<i64>,
    /// The order of its rows; 0 is none.
    pub order: i32,
}

/// What is known of a column of a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ColumnFacts {
    /// The bytes that it takes there.
    pub bytes: u64,
    /// Its values, null or not.
    pub values: u64,
    /// Those that are null, where that is known.
    pub nulls: Option<u64>,
    /// No value is smaller.
    pub low: Option<Vec<u8>>,
    /// No value is larger.
    pub high: Option<Vec<u8>>,
}

/// A manifest, as the list of a snapshot names it.
#[derive(Debug, Clone, PartialEq)]
pub struct Manifest {
    /// Its URL.
    pub path: String,
    /// Its bytes.
    pub bytes: i64,
    /// The partitions of its files.
    pub spec: i32,
    /// 0 for data, 1 for what is deleted of it.
    pub content: i32,
    /// The number of the snapshot that it came with.
    pub sequence: i64,
    /// The least such number of its files.
    pub least_sequence: i64,
    /// The snapshot that it came with.
    pub snapshot: i64,
    /// Files that are added, that stay, that are deleted.
    pub files: [i32; 3],
    /// Their rows.
    pub rows: [i64; 3],
    /// The extremes of its partitions.
    pub partitions: Option<Vec<Extremes>>,
    /// What opens it, where it is locked.
    pub key: Option<Vec<u8>>,
}

/// The extremes of a partition.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Extremes {
    /// Whether any value is null.
    pub has_null: bool,
    /// Whether any value is NaN.
    pub has_nan: Option<bool>,
    /// The smallest one.
    pub low: Option<Vec<u8>>,
    /// The largest one.
    pub high: Option<Vec<u8>>,
}

/// A map as manifests have it: pairs, with numbers.
fn map(name: &str, id: i32, key: i32, value: &str) -> Value {
    let pair = format!("k{key}_v{}", key + 1);
    let fields = json!([
        { "name": "key", "type": "int", "field-id": key },
        { "name": "value", "type": value, "field-id": key + 1 },
    ]);
    let items = json!({ "type": "record", "name": pair, "fields": fields });
    optional(name, id, json!({ "type": "array", "items": items, "logicalType": "map" }))
}

/// The name of a partition, as Avro has names.
fn avro_name(name: &str) -> String {
    let mut plain = String::new();
    for (at, c) in name.chars().enumerate() {
        match c {
            'a'..='z' | 'A'..='Z' | '_' => plain.push(c),
            '0'..='9' if at > 0 => plain.push(c),
            '0'..='9' => plain.push_str(&format!("_{c}")),
            other => plain.push_str(&format!("_x{:X}", u32::from(other))),
        }
    }
    plain
}

/// The type of a value of a partition.
fn avro_type(word: &str) -> Value {
    match word {
        "boolean" | "int" | "long" | "float" | "double" | "string" => json!(word),
        "date" => json!({ "type": "int", "logicalType": "date" }),
        "time" => json!({ "type": "long", "logicalType": "time-micros" }),
        "timestamp" | "timestamptz" => {
            let is_utc = word == "timestamptz";
            json!({ "type": "long", "logicalType": "timestamp-micros", "adjust-to-utc": is_utc })
        }
        "uuid" => {
            json!({ "type": "fixed", "name": "uuid_fixed", "size": 16, "logicalType": "uuid" })
        }
        word => match digits(&word.replace(' ', "")) {
            Some((precision, scale)) => json!({
                "type": "fixed", "name": format!("decimal_{precision}_{scale}"), "size": bytes_of(precision),
                "logicalType": "decimal", "precision": precision, "scale": scale,
            }),
            None => json!("bytes"),
        },
    }
}

/// The plain type of the column that a partition is of.
pub fn source_type(schema: &TableSchema, id: i32) -> Option<&str> {
    fn within(ty: &Type, own: i32, id: i32) -> Option<&str> {
        match ty {
            Type::Plain(word) => (own == id).then_some(word),
            Type::Nested(Nested::Struct { fields }) => {
                fields.iter().find_map(|field| within(&field.ty, field.id, id))
            }
            Type::Nested(_) => None,
        }
    }
    schema.fields.iter().find_map(|column| within(&column.ty, column.id, id))
}

/// The schema of the entries of a manifest.
fn entry_schema(spec: &PartitionSpec, schema: &TableSchema) -> Value {
    let partition = spec.fields.iter().map(|field| {
        let transform = Transform::parse(&field.transform).unwrap_or(Transform::Void);
        let of = transform.result(source_type(schema, field.source_id).unwrap_or("string"));
        optional(&avro_name(&field.name), field.field_id, avro_type(&of))
    });
    let partition: Vec<Value> = partition.collect();
    let list = |name: &str, id: i32, of: &str, element: i32| {
        optional(name, id, json!({ "type": "array", "items": of, "element-id": element }))
    };
    let file = json!([
        { "name": "content", "type": "int", "field-id": 134 },
        { "name": "file_path", "type": "string", "field-id": 100 },
        { "name": "file_format", "type": "string", "field-id": 101 },
        { "name": "partition", "field-id": 102,
          "type": { "type": "record", "name": "r102", "fields": partition } },
        { "name": "record_count", "type": "long", "field-id": 103 },
        { "name": "file_size_in_bytes", "type": "long", "field-id": 104 },
        map("column_sizes", 108, 117, "long"),
        map("value_counts", 109, 119, "long"),
        map("null_value_counts", 110, 121, "long"),
        map("nan_value_counts", 137, 138, "long"),
        map("lower_bounds", 125, 126, "bytes"),
        map("upper_bounds", 128, 129, "bytes"),
        optional("key_metadata", 131, json!("bytes")),
        list("split_offsets", 132, "long", 133),
        list("equality_ids", 135, "int", 136),
        optional("sort_order_id", 140, json!("int")),
    ]);
    json!({ "type": "record", "name": "manifest_entry", "fields": [
        { "name": "status", "type": "int", "field-id": 0 },
        optional("snapshot_id", 1, json!("long")),
        optional("sequence_number", 3, json!("long")),
        optional("file_sequence_number", 4, json!("long")),
        { "name": "data_file", "field-id": 2, "type": { "type": "record", "name": "r2", "fields": file } },
    ] })
}

/// A manifest of files that are added by a snapshot: its bytes, and how a list names it.
///
/// # Errors
/// Partitions that Avro does not take.
pub fn manifest_of(
    files: &[NewFile],
    (spec, schema): (&PartitionSpec, &TableSchema),
    snapshot: i64,
    path: &str,
) -> Result<(Vec<u8>, Manifest), Wrong> {
    let avro = parsed(&entry_schema(spec, schema))?;
    let entries = files.iter().map(|file| entry(file, spec, snapshot)).collect();
    let text = |text: String| Avro::Bytes(text.into_bytes());
    let about = HashMap::from([
        ("schema".to_owned(), text(json!(schema).to_string())),
        ("schema-id".to_owned(), text(schema.schema_id.to_string())),
        ("partition-spec".to_owned(), text(json!(spec.fields).to_string())),
        ("partition-spec-id".to_owned(), text(spec.spec_id.to_string())),
        ("format-version".to_owned(), text(FORMAT.to_string())),
        ("content".to_owned(), text("data".to_owned())),
    ]);
    let bytes = written(&avro, about, entries)?;
    let rows = files.iter().map(|file| file.rows.cast_signed()).sum();
    let extremes = (0..spec.fields.len()).map(|at| extremes(files, at)).collect();
    let manifest = Manifest {
        path: path.to_owned(),
        bytes: bytes.len() as i64,
        spec: spec.spec_id,
        content: 0,
        // Known once the snapshot is: see `Manifest::under`.
        sequence: 0,
        least_sequence: 0,
        snapshot,
        files: [files.len() as i32, 0, 0],
        rows: [rows, 0, 0],
        partitions: Some(extremes),
        key: None,
    };
    Ok((bytes, manifest))
}

impl Manifest {
    /// The same, where its snapshot has a number.
    pub fn under(mut self, sequence: i64) -> Manifest {
        (self.sequence, self.least_sequence) = (sequence, sequence);
        self
    }

    /// Whether it has files that are there.
    pub fn is_alive(&self) -> bool {
        self.files[0] + self.files[1] > 0
    }
}

fn entry(file: &NewFile, spec: &PartitionSpec, snapshot: i64) -> Avro {
    let partition =
        spec.fields.iter().zip(&file.partition).map(|(field, value)| {
            (avro_name(&field.name), maybe(value.as_ref().map(Literal::avro)))
        });
    let pairs = |of: &dyn Fn(&ColumnFacts) -> Option<Avro>| {
        let pairs = file.columns.iter().filter_map(|(id, facts)| {
            Some(record([("key", Avro::Int(*id)), ("value", of(facts)?)]))
        });
        some(Avro::Array(pairs.collect()))
    };
    let bytes = |bytes: &Option<Vec<u8>>| bytes.clone().map(Avro::Bytes);
    let data = record([
        ("content", Avro::Int(0)),
        ("file_path", Avro::String(file.path.clone())),
        ("file_format", Avro::String("PARQUET".into())),
        ("partition", Avro::Record(partition.collect())),
        ("record_count", long(file.rows)),
        ("file_size_in_bytes", long(file.bytes)),
        ("column_sizes", pairs(&|facts| Some(long(facts.bytes)))),
        ("value_counts", pairs(&|facts| Some(long(facts.values)))),
        ("null_value_counts", pairs(&|facts| facts.nulls.map(long))),
        ("nan_value_counts", maybe(None)),
        ("lower_bounds", pairs(&|facts| bytes(&facts.low))),
        ("upper_bounds", pairs(&|facts| bytes(&facts.high))),
        ("key_metadata", maybe(None)),
        (
            "split_offsets",
            some(Avro::Array(file.offsets.iter().copied().map(Avro::Long).collect())),
        ),
        ("equality_ids", maybe(None)),
        ("sort_order_id", some(Avro::Int(file.order))),
    ]);
    record([
        ("status", Avro::Int(ADDED)),
        ("snapshot_id", some(Avro::Long(snapshot))),
        // They are those of the snapshot, whichever number that gets.
        ("sequence_number", maybe(None)),
        ("file_sequence_number", maybe(None)),
        ("data_file", data),
    ])
}

/// The extremes of a partition of files.
fn extremes(files: &[NewFile], at: usize) -> Extremes {
    let values = || files.iter().filter_map(|file| file.partition[at].as_ref());
    let is_nan = |value: &Literal| match value {
        Literal::Float(value) => value.is_nan(),
        Literal::Double(value) => value.is_nan(),
        _ => false,
    };
    let numbers = || values().filter(|value| !is_nan(value));
    Extremes {
        has_null: files.iter().any(|file| file.partition[at].is_none()),
        has_nan: Some(values().any(is_nan)),
        low: numbers().min_by(|a, b| a.order(b)).map(Literal::bytes),
        high: numbers().max_by(|a, b| a.order(b)).map(Literal::bytes),
    }
}

/// A manifest that says that all files of another one are deleted; `None` where it has none that are there.
///
/// # Errors
/// Bytes that are no manifest.
pub fn deleting(
    bytes: &[u8],
    of: &Manifest,
    snapshot: i64,
    path: &str,
) -> Result<Option<(Vec<u8>, Manifest)>, Wrong> {
    let reader = Reader::new(bytes)?;
    let schema = with_maps(reader.writer_schema().clone())?;
    let about = reader.user_metadata().iter();
    let about = about.map(|(key, value)| (key.clone(), Avro::Bytes(value.clone()))).collect();
    let mut entries = Vec::new();
    let mut rows = 0;
    for entry in reader {
        let Avro::Record(mut fields) = entry? else { continue };
        if int(field(&fields, "status")) == Some(i64::from(DELETED)) {
            continue;
        }
        let was = |name| int(field(&fields, name)).unwrap_or(of.sequence);
        let (sequence, file_sequence) = (was("sequence_number"), was("file_sequence_number"));
        if let Some(Avro::Record(data)) = field(&fields, "data_file") {
            rows += int(field(data, "record_count")).unwrap_or(0);
        }
        for (name, value) in &mut fields {
            match &name[..] {
                "status" => *value = Avro::Int(DELETED),
                "snapshot_id" => *value = some(Avro::Long(snapshot)),
                "sequence_number" => *value = some(Avro::Long(sequence)),
                "file_sequence_number" => *value = some(Avro::Long(file_sequence)),
                _ => {}
            }
        }
        entries.push(Avro::Record(fields));
    }
    if entries.is_empty() {
        return Ok(None);
    }
    let count = entries.len() as i32;
    let bytes = written(&schema, about, entries)?;
    let manifest = Manifest {
        path: path.to_owned(),
        bytes: bytes.len() as i64,
        snapshot,
        files: [0, 0, count],
        rows: [0, 0, rows],
        ..of.clone()
    };
    Ok(Some((bytes, manifest)))
}

/// The files that a manifest names and that are there, each with its rows.
///
/// # Errors
/// Bytes that are no manifest.
#[cfg(test)]
pub fn files_of(bytes: &[u8]) -> Result<Vec<(String, u64)>, Wrong> {
    let mut files = Vec::new();
    for entry in Reader::new(bytes)? {
        let Avro::Record(fields) = entry? else { continue };
        let is_there = int(field(&fields, "status")) != Some(i64::from(DELETED));
        if let Some(Avro::Record(data)) = field(&fields, "data_file").filter(|_| is_there)
            && let Some(Avro::String(path)) = field(data, "file_path")
        {
            let rows = int(field(data, "record_count")).unwrap_or(0);
            files.push((path.clone(), rows.unsigned_abs()));
        }
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::super::list::{list_of, read_list};
    use super::super::metadata::PartitionField;
    use super::*;

    fn schema() -> TableSchema {
        serde_json::from_value(json!({ "type": "struct", "schema-id": 0, "fields": [
            { "id": 1, "name": "fare", "required": true, "type": "decimal(9, 2)" },
            { "id": 2, "name": "sold on", "required": false, "type": "date" },
            { "id": 3, "name": "uid", "required": false, "type": "uuid" },
        ] }))
        .unwrap()
    }

    fn spec() -> PartitionSpec {
        let field = |source_id, field_id, name: &str, transform: &str| PartitionField {
            source_id,
            field_id,
            name: name.into(),
            transform: transform.into(),
        };
        let fields = vec![
            field(1, 1000, "fare", "identity"),
            field(2, 1001, "sold on_month", "month"),
            field(3, 1002, "uid", "identity"),
        ];
        PartitionSpec { spec_id: 0, fields }
    }

    fn file(path: &str, fare: i128, month: Option<i32>) -> NewFile {
        NewFile {
            path: path.into(),
            bytes: 100,
            rows: 7,
            partition: vec![
                Some(Literal::Decimal(fare, 9)),
                month.map(Literal::Int),
                Some(Literal::Uuid([7; 16])),
            ],
            columns: BTreeMap::from([(
                1,
                ColumnFacts { bytes: 9, values: 7, nulls: Some(0), low: Some(vec![1]), high: None },
            )]),
            offsets: vec![4],
            order: 0,
        }
    }

    #[test]
    fn a_manifest_names_its_files_and_the_extremes_of_their_partitions() {
        let files = [file("a.parquet", -1420, Some(3)), file("b.parquet", 99, None)];
        let (bytes, manifest) = manifest_of(&files, (&spec(), &schema()), 42, "m.avro").unwrap();
        assert_eq!(files_of(&bytes).unwrap(), [("a.parquet".into(), 7), ("b.parquet".into(), 7)]);
        let extremes = manifest.partitions.as_ref().unwrap();
        assert_eq!(extremes[0].low.as_deref(), Some(&[0xfa, 0x74][..]));
        assert_eq!((extremes[1].has_null, extremes[0].has_null), (true, false));
        assert_eq!((manifest.files, manifest.rows), ([2, 0, 0], [14, 0, 0]));

        // What a list says of it comes back.
        let manifest = manifest.under(5);
        let list = list_of(std::slice::from_ref(&manifest), (42, None, 5)).unwrap();
        assert_eq!(read_list(&list).unwrap(), std::slice::from_ref(&manifest));

        // Deleted, it has no files; deleted once more, there is nothing to say.
        let (gone, deleting_it) = deleting(&bytes, &manifest, 43, "d.avro").unwrap().unwrap();
        assert_eq!(files_of(&gone).unwrap(), []);
        assert_eq!((deleting_it.files, deleting_it.rows), ([0, 0, 2], [0, 0, 14]));
        assert_eq!((deleting_it.least_sequence, deleting_it.is_alive()), (5, false));
        assert_eq!(deleting(&gone, &deleting_it, 44, "e.avro").unwrap(), None);
    }

    #[test]
    fn fields_keep_their_numbers_when_a_manifest_is_written_again() {
        let files = [file("a.parquet", 1, Some(3))];
        let (bytes, manifest) = manifest_of(&files, (&spec(), &schema()), 42, "m.avro").unwrap();
        let (gone, _) = deleting(&bytes, &manifest, 43, "d.avro").unwrap().unwrap();
        let numbers = |bytes: &[u8]| {
            // As it stands at the start of the file: whoever parses it drops some of it.
            let json = String::from_utf8_lossy(bytes).into_owned();
            let maps = json.matches("\"logicalType\":\"map\"").count();
            (
                json.matches("\"field-id\"").count(),
                json.contains("\"element-id\":133") && maps == 6,
                json,
            )
        };
        let (was, is) = (numbers(&bytes), numbers(&gone));
        // Five of an entry, sixteen of a file, twelve of pairs, three of partitions; and those in the spec beside the schema.
        assert_eq!((was.0, was.1), (39, true), "{}", was.2);
        assert_eq!((is.0, is.1), (39, true), "{}", is.2);
    }

    #[test]
    fn names_of_partitions_are_names_in_avro() {
        assert_eq!(avro_name("sold on_month"), "sold_x20on_month");
        assert_eq!(avro_name("2nd"), "_2nd");
        assert_eq!(avro_name("gør"), "g_xF8r");
    }
}
