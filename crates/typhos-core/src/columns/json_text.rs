//! Cells that nest, as JSON: how they go where nothing nests, and how they are shown.
//!
//! Numbers and bools are written bare, everything else that is not JSON itself as a text, as
//! [`cell_text`](super::cell_text) writes it. What is written reads back as the same value under the same declaration.

use std::sync::Arc;

use arrow_array::builder::StringBuilder;
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, FieldRef, Schema as ArrowSchema};

use super::display::{is_point, push_cell};
use super::plan::TYPE_KEY;

/// Whether there are values inside the values of a field. A point has none, though it is held as a struct.
pub fn is_nested(field: &Field) -> bool {
    match field.data_type() {
        DataType::List(_) => true,
        DataType::Struct(fields) => match field.metadata().get(TYPE_KEY) {
            Some(declared) => declared == "struct",
            None => !is_point(fields),
        },
        _ => false,
    }
}

/// Adds a cell as JSON to a text. `field` says what was declared of it.
pub fn write_json(field: &Field, array: &dyn Array, row: usize, text: &mut String) {
    if array.is_null(row) {
        return text.push_str("null");
    }
    match array.data_type() {
        DataType::List(item) => {
            let values = array.as_list::<i32>().value(row);
            text.push('[');
            for at in 0..values.len() {
                if at > 0 {
                    text.push(',');
                }
                write_json(item, &values, at, text);
            }
            text.push(']');
        }
        DataType::Struct(fields) if is_nested(field) => {
            text.push('{');
            for (at, (field, column)) in fields.iter().zip(array.as_struct().columns()).enumerate()
            {
                if at > 0 {
                    text.push(',');
                }
                text.push_str(&quoted(field.name()));
                text.push(':');
                write_json(field, column, row, text);
            }
            text.push('}');
        }
        data_type => {
            let start = text.len();
            push_cell(text, array, row);
            let is_bare = match data_type {
                DataType::Boolean => true,
                DataType::Float32 | DataType::Float64 => {
                    text.bytes().skip(start).all(|byte| !byte.is_ascii_alphabetic() || byte == b'e')
                }
                DataType::Utf8 => field.metadata().get(TYPE_KEY).is_some_and(|ty| ty == "json"),
                data_type => data_type.is_numeric(),
            };
            if !is_bare {
                let cell = quoted(&text[start..]);
                text.truncate(start);
                text.push_str(&cell);
            }
        }
    }
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// The same rows with some columns as JSON text, for where they do not nest; `flat` says of each whether it is one.
pub fn flat_batch(batch: &RecordBatch, flat: &[bool]) -> RecordBatch {
    let fields = batch.schema_ref().fields().iter();
    let columns = fields.zip(batch.columns()).zip(flat).map(|((field, array), is_flat)| {
        if !is_flat {
            return (field.clone(), array.clone());
        }
        let text = field.as_ref().clone().with_data_type(DataType::Utf8);
        (Arc::new(text), flat_array(field, array))
    });
    let (fields, columns): (Vec<FieldRef>, Vec<ArrayRef>) = columns.unzip();
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    RecordBatch::try_new_with_options(Arc::new(ArrowSchema::new(fields)), columns, &options)
        .expect("texts stand in for what nests, row by row")
}

fn flat_array(field: &Field, array: &ArrayRef) -> ArrayRef {
    let mut texts = StringBuilder::new();
    let mut text = String::new();
    for row in 0..array.len() {
        if array.is_null(row) {
            texts.append_null();
        } else {
            text.clear();
            write_json(field, array, row, &mut text);
            texts.append_value(&text);
        }
    }
    Arc::new(texts.finish())
}
