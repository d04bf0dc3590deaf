//! Cells of arrays as text: the one way Typhos writes a typed value.

use std::fmt::{Debug, Display, Write};

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrowPrimitiveType};
use arrow_schema::{DataType, Fields, TimeUnit};

use super::foreign::foreign_text;
use super::moments::{push_day, push_decimal, push_instant, push_time};
use crate::readings::{length_text, uuid_text};

/// The cell as text: numbers plainly, dates and times as ISO 8601 has them with a space between day
/// and time, and `Z` behind a point in time. `None` where it is null. What other programs wrote is shown as well as that
/// goes.
pub fn cell_text(array: &dyn Array, row: usize) -> Option<String> {
    let mut text = String::new();
    push_cell(&mut text, array, row).then_some(text)
}

/// Appends the cell as [`cell_text`] writes it; says whether it is not null.
pub fn push_cell(text: &mut String, array: &dyn Array, row: usize) -> bool {
    if array.is_null(row) {
        return false;
    }
    fn number<A: ArrowPrimitiveType>(text: &mut String, array: &dyn Array, row: usize)
    where
        A::Native: Display,
    {
        _ = write!(text, "{}", array.as_primitive::<A>().value(row));
    }
    match array.data_type() {
        DataType::Boolean => {
            text.push_str(if array.as_boolean().value(row) { "true" } else { "false" })
        }
        DataType::Int8 => number::<Int8Type>(text, array, row),
        DataType::Int16 => number::<Int16Type>(text, array, row),
        DataType::Int32 => number::<Int32Type>(text, array, row),
        DataType::Int64 => number::<Int64Type>(text, array, row),
        DataType::UInt8 => number::<UInt8Type>(text, array, row),
        DataType::UInt16 => number::<UInt16Type>(text, array, row),
        DataType::UInt32 => number::<UInt32Type>(text, array, row),
        DataType::UInt64 => number::<UInt64Type>(text, array, row),
        DataType::Float32 => push_float(text, array.as_primitive::<Float32Type>().value(row)),
        DataType::Float64 => push_float(text, array.as_primitive::<Float64Type>().value(row)),
        DataType::Decimal32(_, scale) => {
            push_mantissa(text, array.as_primitive::<Decimal32Type>().value(row).into(), *scale)
        }
        DataType::Decimal64(_, scale) => {
            push_mantissa(text, array.as_primitive::<Decimal64Type>().value(row).into(), *scale)
        }
        DataType::Decimal128(_, scale) => {
            push_mantissa(text, array.as_primitive::<Decimal128Type>().value(row), *scale)
        }
        DataType::FixedSizeBinary(16) => {
            let bytes = array.as_fixed_size_binary().value(row);
            text.push_str(&uuid_text(bytes.try_into().expect("sixteen bytes")));
        }
        DataType::Struct(fields) if is_point(fields) => {
            // As it is written in text: degrees have no exponents.
            for (at, column) in array.as_struct().columns().iter().enumerate() {
                if at > 0 {
                    text.push(',');
                }
                if column.is_valid(row) {
                    number::<Float64Type>(text, column, row);
                }
            }
        }
        DataType::Utf8 => text.push_str(array.as_string::<i32>().value(row)),
        DataType::Dictionary(codes, words) if **words == DataType::Utf8 => {
            let dictionary = array.as_any_dictionary();
            let code = match **codes {
                DataType::UInt8 => {
                    usize::from(dictionary.keys().as_primitive::<UInt8Type>().value(row))
                }
                DataType::UInt16 => {
                    usize::from(dictionary.keys().as_primitive::<UInt16Type>().value(row))
                }
                DataType::UInt32 => {
                    dictionary.keys().as_primitive::<UInt32Type>().value(row) as usize
                }
                _ => return push_foreign(text, array, row),
            };
            let words = dictionary.values().as_string::<i32>();
            // Other programs have dictionaries with a word that is null.
            if words.is_null(code) {
                return false;
            }
            text.push_str(words.value(code));
        }
        DataType::Date32 => push_day(text, array.as_primitive::<Date32Type>().value(row).into()),
        DataType::Time32(TimeUnit::Second) => push_time(
            text,
            i64::from(array.as_primitive::<Time32SecondType>().value(row)) * 1_000_000_000,
        ),
        DataType::Time32(_) => push_time(
            text,
            i64::from(array.as_primitive::<Time32MillisecondType>().value(row)) * 1_000_000,
        ),
        DataType::Time64(TimeUnit::Microsecond) => {
            let micros = array.as_primitive::<Time64MicrosecondType>().value(row);
            push_time(text, micros.saturating_mul(1000))
        }
        DataType::Time64(_) => {
            push_time(text, array.as_primitive::<Time64NanosecondType>().value(row))
        }
        DataType::Timestamp(unit, zone) => {
            let (units, nanos) = match unit {
                TimeUnit::Second => {
                    (array.as_primitive::<TimestampSecondType>().value(row), 1_000_000_000)
                }
                TimeUnit::Millisecond => {
                    (array.as_primitive::<TimestampMillisecondType>().value(row), 1_000_000)
                }
                TimeUnit::Microsecond => {
                    (array.as_primitive::<TimestampMicrosecondType>().value(row), 1_000)
                }
                TimeUnit::Nanosecond => {
                    (array.as_primitive::<TimestampNanosecondType>().value(row), 1)
                }
            };
            push_instant(text, i128::from(units) * nanos);
            if zone.is_some() {
                text.push('Z');
            }
        }
        DataType::Duration(unit) => {
            let (count, nanos) = match unit {
                TimeUnit::Second => {
                    (array.as_primitive::<DurationSecondType>().value(row), 1_000_000_000)
                }
                TimeUnit::Millisecond => {
                    (array.as_primitive::<DurationMillisecondType>().value(row), 1_000_000)
                }
                TimeUnit::Microsecond => {
                    (array.as_primitive::<DurationMicrosecondType>().value(row), 1_000)
                }
                TimeUnit::Nanosecond => {
                    (array.as_primitive::<DurationNanosecondType>().value(row), 1)
                }
            };
            text.push_str(&length_text(i128::from(count) * nanos));
        }
        _ => return push_foreign(text, array, row),
    }
    true
}

/// Appends a cell of a type that no column of ours has.
fn push_foreign(text: &mut String, array: &dyn Array, row: usize) -> bool {
    let cell = foreign_text(array, row, cell_text);
    cell.iter().for_each(|cell| text.push_str(cell));
    cell.is_some()
}

/// Appends a decimal by its mantissa.
fn push_mantissa(text: &mut String, mantissa: i128, scale: i8) {
    // Numbers of 64 bits are written in a fraction of the time.
    let digits = match i64::try_from(mantissa) {
        Ok(mantissa) => mantissa.to_string(),
        Err(_) => mantissa.to_string(),
    };
    push_decimal(text, &digits, scale);
}

/// A float with as many digits as tell it apart, and an exponent where it is very large or very small.
fn push_float<F: Debug>(text: &mut String, float: F) {
    // With an exponent where it is very large or very small; a whole number without the zero that is written behind it.
    _ = write!(text, "{float:?}");
    if text.ends_with(".0") {
        text.truncate(text.len() - 2);
    }
}

/// Whether a struct is a point on the earth, as our columns hold it.
pub(super) fn is_point(fields: &Fields) -> bool {
    let is = |at: usize, name: &str| {
        fields.get(at).is_some_and(|f| f.name() == name && *f.data_type() == DataType::Float64)
    };
    fields.len() == 2 && is(0, "lat") && is(1, "lon")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    use crate::columns::{Converter, OnMisfit, Plan};
    use crate::read_schema as read;
    use crate::text::{Block, BlockReader, Dialect, Input};
    use arrow_array::{ArrayRef, Float64Array, StructArray};
    use arrow_schema::Field;

    #[test]
    fn floats_are_written_plainly_as_far_as_that_is_short() {
        for (float, want) in [
            (0.0, "0"),
            (-2.0, "-2"),
            (100.5, "100.5"),
            (1e15, "1000000000000000"),
            (1e16, "1e16"),
            (1.5e300, "1.5e300"),
            (0.0001, "0.0001"),
            (1e-7, "1e-7"),
            (f64::NAN, "NaN"),
            (f64::NEG_INFINITY, "-inf"),
        ] {
            let mut text = "x".to_owned();
            push_float(&mut text, float);
            assert_eq!(text, format!("x{want}"));
        }
    }

    #[test]
    fn a_point_of_others_may_lack_a_part() {
        let field = |name: &str| Arc::new(Field::new(name, DataType::Float64, true));
        let part = |degrees: Option<f64>| Arc::new(Float64Array::from(vec![degrees])) as ArrayRef;
        let point =
            StructArray::from(vec![(field("lat"), part(None)), (field("lon"), part(Some(-1e-7)))]);
        assert_eq!(cell_text(&point, 0).as_deref(), Some(",-0.0000001"));
    }

    /// Every type: what is written reads back as the same text.
    #[test]
    fn values_of_every_type_come_back_as_text() {
        let cases = [
            ("type = 'bool'", "true"),
            ("type = 'int8'", "-128"),
            ("type = 'int16'", "-32768"),
            ("type = 'int32'", "-2147483648"),
            ("type = 'int64'", "-9223372036854775808"),
            ("type = 'uint8'", "255"),
            ("type = 'uint16'", "65535"),
            ("type = 'uint32'", "4294967295"),
            ("type = 'uint64'", "18446744073709551615"),
            ("type = 'uuid'", "6f9619ff-8b86-d011-b42d-00cf4fc964ff"),
            ("type = 'ip'", "2001:db8::1"),
            ("type = 'geopoint'", "59.91,-10.75"),
            ("type = 'geopoint'", "-0.0000001,180"),
            ("type = 'json'", "[1]"),
            ("type = 'float32'", "0.1"),
            ("type = 'float64'", "0.1"),
            ("type = 'decimal(38,2)'", "-999999999999999999999999999999999999.99"),
            ("type = 'text'", "Skerrow"),
            ("type = 'lowcard'", "Holm"),
            ("type = 'category', values = ['deck', 'saloon']", "saloon"),
            ("type = 'date', patterns = ['yyyy-MM-dd']", "0001-01-01"),
            ("type = 'time(s)', patterns = ['HH:mm:ss']", "23:59:59"),
            ("type = 'time(ms)', patterns = ['HH:mm:ss.SSS']", "23:59:59.001"),
            ("type = 'time(us)', patterns = ['HH:mm:ss.SSSSSS']", "23:59:59.000001"),
            ("type = 'time(ns)', patterns = ['HH:mm:ss.SSSSSSSSS']", "23:59:59.000000001"),
            ("type = 'duration(s)'", "25:51:00"),
            ("type = 'duration(ns)'", "-0:00:00.000000001"),
            ("type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss']", "9999-12-31 23:59:59"),
            (
                "type = 'timestamp(ms)', patterns = ['yyyy-MM-dd HH:mm:ss.SSS']",
                "1969-12-31 23:59:59.999",
            ),
            (
                "type = 'timestamp(us, utc)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSX']",
                "2024-02-29 12:00:00.000001Z",
            ),
            (
                "type = 'timestamp(ns)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSSSS']",
                "1677-09-22 00:00:00.000000001",
            ),
        ];
        for (declaration, value) in cases {
            let schema = read(&format!("typhos = 1\n[columns]\na = {{ {declaration} }}")).unwrap();
            let text = format!("a,b\n\"{value}\",1\n,1\n");
            let input = Input::from_bytes("t", text.into_bytes(), &Dialect::RFC_4180.into());
            let plan = Plan::new(schema, &input).unwrap();
            let mut block = Block::default();
            BlockReader::new(&input, 1024).next(&mut block).unwrap();
            let mut cells = Vec::new();
            let mut converter = Converter::new(&plan, OnMisfit::AsDeclared);
            converter
                .convert::<crate::columns::MisfitValue>(&block, |batch| {
                    cells.extend([0, 1].map(|row| cell_text(batch.column(0), row)));
                    Ok(())
                })
                .unwrap_or_else(|misfit| panic!("{declaration}: {misfit:?}"));
            assert_eq!(cells, [Some(value.to_owned()), None], "{declaration}");
        }
    }
}
