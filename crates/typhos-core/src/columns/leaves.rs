//! Arrays whose leaves are held otherwise, wherever they are nested.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, ListArray, StructArray};
use arrow_schema::{DataType, Field, FieldRef, Fields};

use super::json_text::is_nested;

/// A field whose leaves have other types. `leaf` says which: it is given each of them, and whether it is inside of
/// something.
pub fn map_field(field: &Field, leaf: &impl Fn(&Field, bool) -> DataType) -> Field {
    let data_type = map_type(field, false, leaf);
    field.clone().with_data_type(data_type)
}

fn map_type(field: &Field, is_inside: bool, leaf: &impl Fn(&Field, bool) -> DataType) -> DataType {
    let inner = |inner: &FieldRef| -> FieldRef {
        let data_type = map_type(inner, true, leaf);
        Arc::new(inner.as_ref().clone().with_data_type(data_type))
    };
    match field.data_type() {
        DataType::List(item) => DataType::List(inner(item)),
        DataType::Struct(fields) if is_nested(field) => {
            DataType::Struct(fields.iter().map(inner).collect::<Fields>())
        }
        _ => leaf(field, is_inside),
    }
}

/// An array whose leaves are made to be those of a field, which nests as it does. `leaf` is given each leaf and the field
/// that it is to be of; what it makes may be held in another type.
pub fn map_array(
    array: &ArrayRef,
    to: &Field,
    leaf: &impl Fn(&ArrayRef, &Field) -> ArrayRef,
) -> ArrayRef {
    let field_of =
        |field: &FieldRef, values: &ArrayRef| match field.data_type() == values.data_type() {
            true => field.clone(),
            false => Arc::new(field.as_ref().clone().with_data_type(values.data_type().clone())),
        };
    match to.data_type() {
        DataType::List(item) => {
            let list = array.as_list::<i32>();
            let values = map_array(list.values(), item, leaf);
            let (offsets, nulls) = (list.offsets().clone(), list.nulls().cloned());
            Arc::new(ListArray::new(field_of(item, &values), offsets, values, nulls))
        }
        DataType::Struct(fields) if is_nested(to) => {
            let structs = array.as_struct();
            let columns = structs.columns().iter().zip(fields);
            let columns: Vec<_> =
                columns.map(|(column, field)| map_array(column, field, leaf)).collect();
            // What stands around may be null where the struct itself, which is always in it, is not.
            let is_masked = |column: &ArrayRef| match (column.nulls(), structs.nulls()) {
                (Some(inner), Some(outer)) => outer.contains(inner),
                (inner, _) => inner.is_none_or(|inner| inner.null_count() == 0),
            };
            let fields = fields.iter().zip(&columns).map(|(field, values)| {
                let field = field_of(field, values);
                match field.is_nullable() || is_masked(values) {
                    true => field,
                    false => Arc::new(field.as_ref().clone().with_nullable(true)),
                }
            });
            Arc::new(StructArray::new(fields.collect(), columns, structs.nulls().cloned()))
        }
        _ => leaf(array, to),
    }
}
