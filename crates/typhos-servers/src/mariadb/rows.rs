//! Rows as `LOAD DATA` reads them: fields between tabs, lines, `\N` for null, and a backslash before what
//! would be taken for either.

use arrow_array::{Array, RecordBatch};
use typhos_core::readings::uuid_text;
use typhos_core::schema::{ColumnDecl, Scalar, Schema, TimeUnit};

use super::holds::Holds;
use crate::wire;
use typhos_load::TargetError;
use typhos_load::feed::RowEncoder;
use typhos_load::view::View;
use typhos_sql::{Definitions, Mariadb};

/// Encodes rows.
pub struct MariadbRows {
    columns: Vec<Column>,
}

struct Column {
    name: String,
    ty: Scalar,
    /// Whether a value of an enumeration goes by its number, which is shorter.
    is_numbered: bool,
    /// What the server holds of valid values.
    holds: Holds,
}

impl MariadbRows {
    /// For columns of a schema, and what the server holds.
    pub(super) fn new(schema: &Schema, holds: Holds) -> MariadbRows {
        let column = |column: &ColumnDecl| {
            // A text that is not a value is taken for a number, one that is a value for itself.
            let is_number = |value: &String| value.trim().parse::<i64>().is_ok();
            Column {
                name: column.name.clone(),
                ty: column.scalar(),
                is_numbered: Mariadb.stored("", column).ty.starts_with("enum(")
                    && !column.values.iter().any(is_number),
                holds,
            }
        };
        MariadbRows { columns: schema.columns.iter().map(column).collect() }
    }
}

impl RowEncoder for MariadbRows {
    type Block = Vec<u8>;

    fn start(&self) -> Vec<u8> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<u8>) -> Result<(), TargetError> {
        typhos_load::view::refuse_floats(batch, "MariaDB", true)?;
        let columns: Vec<_> = batch
            .columns()
            .iter()
            .zip(&self.columns)
            .map(|(array, column)| {
                let view = View::of(array);
                // Every text of a dictionary is written once.
                let words: Vec<Vec<u8>> = match &view {
                    View::Coded(_, texts) if column.is_numbered => {
                        (1..=texts.len()).map(|number| number.to_string().into_bytes()).collect()
                    }
                    View::Coded(_, texts) => texts
                        .iter()
                        .map(|text| {
                            let mut word = Vec::new();
                            escaped(&mut word, text.unwrap_or_default().as_bytes());
                            word
                        })
                        .collect(),
                    _ => Vec::new(),
                };
                (view, array.nulls(), words)
            })
            .collect();
        for row in 0..batch.num_rows() {
            for (at, (view, nulls, words)) in columns.iter().enumerate() {
                if at > 0 {
                    block.push(b'\t');
                }
                if nulls.is_some_and(|nulls| nulls.is_null(row)) {
                    block.extend_from_slice(b"\\N");
                } else if let View::Coded(codes, _) = view {
                    block.extend_from_slice(&words[codes.narrow(row) as usize]);
                } else {
                    write(view, row, &self.columns[at], block)?;
                }
            }
            block.push(b'\n');
        }
        Ok(())
    }
}

fn escaped(buffer: &mut Vec<u8>, text: &[u8]) {
    if !text.iter().any(|byte| matches!(byte, b'\t' | b'\n' | b'\\' | 0)) {
        return buffer.extend_from_slice(text);
    }
    for byte in text {
        match byte {
            b'\t' => buffer.extend_from_slice(b"\\t"),
            b'\n' => buffer.extend_from_slice(b"\\n"),
            b'\\' => buffer.extend_from_slice(b"\\\\"),
            0 => buffer.extend_from_slice(b"\\0"),
            other => buffer.push(*other),
        }
    }
}

fn write(
    view: &View<'_>,
    row: usize,
    Column { name, ty, holds, .. }: &Column,
    block: &mut Vec<u8>,
) -> Result<(), TargetError> {
    let beyond = |what: &str| {
        let reason = format!("is outside of the years 0 to 9999, which {what} holds in MariaDB");
        TargetError::cannot_hold(name, "a value", reason)
    };
    match (view, ty) {
        (View::Bool(values), _) => block.push(b'0' + u8::from(values.value(row))),
        (View::Int(ints), _) => match i64::try_from(ints.get(row)) {
            Ok(int) => wire::integer(block, int),
            Err(_) => wire::number(block, ints.get(row)),
        },
        (View::Decimal(ints, scale), _) => wire::decimal(block, ints.get(row), *scale),
        // By its shortest text the largest one is a little larger than what it is, which the server refuses.
        (View::Float32(values), _) if values[row].abs() == f32::MAX => {
            wire::number(block, format_args!("{:?}", f64::from(values[row])));
        }
        (View::Float32(values), _) => wire::number(block, format_args!("{:?}", values[row])),
        (View::Float64(values), _) => wire::number(block, format_args!("{:?}", values[row])),
        (View::Text(texts), Scalar::Json) => {
            if let Some(reason) = holds.refuses_json(texts.value(row)) {
                return Err(TargetError::cannot_hold(name, "a value", reason));
            }
            escaped(block, texts.value(row).as_bytes());
        }
        (View::Text(texts), _) => escaped(block, texts.value(row).as_bytes()),
        (View::Date(days), _) => {
            wire::short_date(block, days[row]).ok_or_else(|| beyond("date"))?
        }
        (View::Time(ints, _), Scalar::Time(TimeUnit::Nano)) => {
            wire::integer(block, ints.narrow(row))
        }
        (View::Time(ints, unit), _) => wire::time(block, ints.narrow(row), *unit),
        (View::Timestamp(units, ..), Scalar::Timestamp { unit: TimeUnit::Nano, .. }) => {
            wire::integer(block, units[row]);
        }
        (View::Timestamp(units, unit), _) => {
            wire::short_timestamp(block, units[row], *unit).ok_or_else(|| beyond("datetime"))?;
        }
        (View::Uuid(uuids), _) => {
            let bytes = uuids.value(row).try_into().expect("sixteen bytes");
            if let Some(reason) = holds.refuses_uuid(bytes) {
                return Err(TargetError::cannot_hold(name, "a value", reason));
            }
            block.extend_from_slice(uuid_text(bytes).as_bytes());
        }
        (View::Point(latitudes, longitudes), _) => {
            wire::number(block, format_args!("POINT({:?} {:?})", longitudes[row], latitudes[row]));
        }
        (View::Coded(..), _) => unreachable!("coded texts are written by their code"),
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{ArrayRef, DictionaryArray, StringArray, UInt8Array};
    use proptest::prelude::*;
    use std::sync::Arc;

    /// Lines as `LOAD DATA` takes them apart.
    fn read(lines: &[u8]) -> Vec<Vec<Option<Vec<u8>>>> {
        let mut rows = Vec::new();
        let (mut row, mut field, mut is_null) = (Vec::new(), Vec::new(), false);
        let mut bytes = lines.iter();
        while let Some(byte) = bytes.next() {
            match byte {
                b'\\' => match bytes.next().expect("something is escaped") {
                    b'N' if field.is_empty() => is_null = true,
                    b't' => field.push(b'\t'),
                    b'n' => field.push(b'\n'),
                    b'0' => field.push(0),
                    other => field.push(*other),
                },
                b'\t' | b'\n' => {
                    let value = std::mem::take(&mut field);
                    row.push((!std::mem::take(&mut is_null)).then_some(value));
                    if *byte == b'\n' {
                        rows.push(std::mem::take(&mut row));
                    }
                }
                other => field.push(*other),
            }
        }
        assert!(row.is_empty() && field.is_empty(), "every row has an end");
        rows
    }

    fn encoded(column: ColumnDecl, array: ArrayRef) -> Vec<u8> {
        let schema = Schema { columns: vec![column.clone(), column], ..Schema::default() };
        let batch = RecordBatch::try_from_iter([("a", array.clone()), ("b", array)]).unwrap();
        let mut block = Vec::new();
        MariadbRows::new(&schema, Holds::ALL).encode(&batch, &mut block).unwrap();
        block
    }

    proptest! {
        #[test]
        fn any_text_is_read_as_it_was(
            texts in prop::collection::vec(prop::option::of("(\\PC|[\\\\\t\nN0\u{0}]){0,12}"), 1..8)
        ) {
            let array: ArrayRef = Arc::new(StringArray::from(texts.clone()));
            let rows = read(&encoded(ColumnDecl::new("a", Scalar::Text { most: None }), array));
            let want: Vec<Vec<_>> = texts
                .iter()
                .map(|text| vec![text.as_ref().map(|text| text.clone().into_bytes()); 2])
                .collect();
            prop_assert_eq!(rows, want);
        }
    }

    #[test]
    fn categories_go_by_number_unless_a_value_is_one() {
        for (values, want) in
            [(["deck", "saloon"], "2\t2\n\\N\t\\N\n"), (["deck", "1"], "1\t1\n\\N\t\\N\n")]
        {
            let words = StringArray::from(values.to_vec());
            let codes = UInt8Array::from(vec![Some(1), None]);
            let column = ColumnDecl {
                values: values.map(String::from).to_vec(),
                ..ColumnDecl::new("cabin", Scalar::Category)
            };
            let array = Arc::new(DictionaryArray::new(codes, Arc::new(words)));
            assert_eq!(String::from_utf8(encoded(column, array)).unwrap(), want, "{values:?}");
        }
    }
}
