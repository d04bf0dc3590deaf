//! The list of the manifests of a snapshot, in Avro. Fields and numbers are those of the specification, version 2.

use std::collections::HashMap;

use apache_avro::Reader;
use apache_avro::types::Value as Avro;
use serde_json::{Value, json};

use super::avro::{Wrong, field, int, maybe, optional, parsed, record, written};
use super::manifest::{Extremes, Manifest};
use super::metadata::FORMAT;

fn list_schema() -> Value {
    let plain = |name: &str, id: i32, of: &str| json!({ "name": name, "type": of, "field-id": id });
    let extremes = json!({ "type": "record", "name": "r508", "fields": [
        plain("contains_null", 509, "boolean"),
        optional("contains_nan", 518, json!("boolean")),
        optional("lower_bound", 510, json!("bytes")),
        optional("upper_bound", 511, json!("bytes")),
    ] });
    json!({ "type": "record", "name": "manifest_file", "fields": [
        plain("manifest_path", 500, "string"),
        plain("manifest_length", 501, "long"),
        plain("partition_spec_id", 502, "int"),
        plain("content", 517, "int"),
        plain("sequence_number", 515, "long"),
        plain("min_sequence_number", 516, "long"),
        plain("added_snapshot_id", 503, "long"),
        plain("added_files_count", 504, "int"),
        plain("existing_files_count", 505, "int"),
        plain("deleted_files_count", 506, "int"),
        plain("added_rows_count", 512, "long"),
        plain("existing_rows_count", 513, "long"),
        plain("deleted_rows_count", 514, "long"),
        optional("partitions", 507, json!({ "type": "array", "items": extremes, "element-id": 508 })),
        optional("key_metadata", 519, json!("bytes")),
    ] })
}

/// The list of the manifests of a snapshot.
///
/// # Errors
/// None that is known of.
pub fn list_of(
    manifests: &[Manifest],
    (snapshot, parent, sequence): (i64, Option<i64>, i64),
) -> Result<Vec<u8>, Wrong> {
    let schema = parsed(&list_schema())?;
    let bytes = |bytes: &Option<Vec<u8>>| maybe(bytes.clone().map(Avro::Bytes));
    let all = manifests.iter().map(|manifest| {
        let [added, kept, deleted] = manifest.files.map(Avro::Int);
        let [added_rows, kept_rows, deleted_rows] = manifest.rows.map(Avro::Long);
        let partitions = manifest.partitions.as_ref().map(|partitions| {
            let each = partitions.iter().map(|it| {
                record([
                    ("contains_null", Avro::Boolean(it.has_null)),
                    ("contains_nan", maybe(it.has_nan.map(Avro::Boolean))),
                    ("lower_bound", bytes(&it.low)),
                    ("upper_bound", bytes(&it.high)),
                ])
            });
            Avro::Array(each.collect())
        });
        record([
            ("manifest_path", Avro::String(manifest.path.clone())),
            ("manifest_length", Avro::Long(manifest.bytes)),
            ("partition_spec_id", Avro::Int(manifest.spec)),
            ("content", Avro::Int(manifest.content)),
            ("sequence_number", Avro::Long(manifest.sequence)),
            ("min_sequence_number", Avro::Long(manifest.least_sequence)),
            ("added_snapshot_id", Avro::Long(manifest.snapshot)),
            ("added_files_count", added),
            ("existing_files_count", kept),
            ("deleted_files_count", deleted),
            ("added_rows_count", added_rows),
            ("existing_rows_count", kept_rows),
            ("deleted_rows_count", deleted_rows),
            ("partitions", maybe(partitions)),
            ("key_metadata", bytes(&manifest.key)),
        ])
    });
    let text = |text: String| Avro::Bytes(text.into_bytes());
    let about = HashMap::from([
        ("snapshot-id".to_owned(), text(snapshot.to_string())),
        (
            "parent-snapshot-id".to_owned(),
            text(parent.map_or("null".into(), |parent| parent.to_string())),
        ),
        ("sequence-number".to_owned(), text(sequence.to_string())),
        ("format-version".to_owned(), text(FORMAT.to_string())),
    ]);
    written(&schema, about, all.collect())
}

/// Reads the list of the manifests of a snapshot.
///
/// # Errors
/// Bytes that are no such list, and one that does not say how many files its manifests name: who read a list of ours in its place
/// would take them for none. A sentence.
pub fn read_list(bytes: &[u8]) -> Result<Vec<Manifest>, String> {
    let wrong =
        |error: apache_avro::Error| format!("the list of manifests cannot be read: {error}");
    let mut manifests = Vec::new();
    for manifest in Reader::new(bytes).map_err(wrong)? {
        let Avro::Record(fields) = manifest.map_err(wrong)? else { continue };
        let has = |name: &str, old: &str| field(&fields, name).or(field(&fields, old)).is_some();
        if !has("added_files_count", "added_data_files_count")
            || !has("existing_files_count", "existing_data_files_count")
        {
            return Err("the list of manifests does not say how many files they name".into());
        }
        let number = |name: &str| int(field(&fields, name)).unwrap_or(0);
        let count = |name: &str, old: &str| {
            let found = int(field(&fields, name)).or_else(|| int(field(&fields, old)));
            i32::try_from(found.unwrap_or(0)).unwrap_or(i32::MAX)
        };
        let blob = |fields: &[(String, Avro)], name: &str| match field(fields, name) {
            Some(Avro::Bytes(bytes)) => Some(bytes.clone()),
            _ => None,
        };
        let path = match field(&fields, "manifest_path") {
            Some(Avro::String(path)) => path.clone(),
            _ => String::new(),
        };
        let partitions = match field(&fields, "partitions") {
            Some(Avro::Array(all)) => Some(all.iter().filter_map(|it| {
                let Avro::Record(fields) = it else { return None };
                let truth = |name: &str| match field(fields, name) {
                    Some(Avro::Boolean(truth)) => Some(*truth),
                    _ => None,
                };
                Some(Extremes {
                    has_null: truth("contains_null").unwrap_or(true),
                    has_nan: truth("contains_nan"),
                    low: blob(fields, "lower_bound"),
                    high: blob(fields, "upper_bound"),
                })
            })),
            _ => None,
        };
        manifests.push(Manifest {
            path,
            bytes: number("manifest_length"),
            spec: count("partition_spec_id", ""),
            content: count("content", ""),
            sequence: number("sequence_number"),
            least_sequence: number("min_sequence_number"),
            snapshot: number("added_snapshot_id"),
            files: [
                count("added_files_count", "added_data_files_count"),
                count("existing_files_count", "existing_data_files_count"),
                count("deleted_files_count", "deleted_data_files_count"),
            ],
            rows: ["added_rows_count", "existing_rows_count", "deleted_rows_count"].map(number),
            partitions: partitions.map(Iterator::collect),
            key: blob(&fields, "key_metadata"),
        });
    }
    Ok(manifests)
}
