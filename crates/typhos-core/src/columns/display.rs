//! Cells of arrays as text: the one way Typhos writes a typed value.

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrowPrimitiveType};
use arrow_schema::{DataType, Fields, TimeUnit};

use super::foreign::foreign_text;
use super::moments::{day_text, decimal_text, instant_text, time_text};
use crate::readings::{length_text, uuid_text};

/// The cell as text: numbers plainly, dates and times as ISO 8601 has them with a space between day
/// and time, and `Z` behind a point in time. `None` where it is null. What other programs wrote is shown as well as that
/// goes.
pub fn cell_text(array: &dyn Array, row: usize) -> Option<String> {
    if array.is_null(row) {
        return None;
    }
    fn number<A: ArrowPrimitiveType>(array: &dyn Array, row: usize) -> String
    where
        A::Native: ToString,
    {
        array.as_primitive::<A>().value(row).to_string()
    }
    let decimal = |mantissa: i128, scale: i8| decimal_text(&mantissa.to_string(), scale);
    Some(match array.data_type() {
        DataType::Boolean => array.as_boolean().value(row).to_string(),
        DataType::Int8 => number::<Int8Type>(array, row),
        DataType::Int16 => number::<Int16Type>(array, row),
        DataType::Int32 => number::<Int32Type>(array, row),
        DataType::Int64 => number::<Int64Type>(array, row),
        DataType::UInt8 => number::<UInt8Type>(array, row),
        DataType::UInt16 => number::<UInt16Type>(array, row),
        DataType::UInt32 => number::<UInt32Type>(array, row),
        DataType::UInt64 => number::<UInt64Type>(array, row),
        DataType::Float32 => float_text(array.as_primitive::<Float32Type>().value(row)),
        DataType::Float64 => float_text(array.as_primitive::<Float64Type>().value(row)),
        DataType::Decimal32(_, scale) => {
            decimal(array.as_primitive::<Decimal32Type>().value(row).into(), *scale)
        }
        DataType::Decimal64(_, scale) => {
            decimal(array.as_primitive::<Decimal64Type>().value(row).into(), *scale)
        }
        DataType::Decimal128(_, scale) => {
            decimal(array.as_primitive::<Decimal128Type>().value(row), *scale)
        }
        DataType::FixedSizeBinary(16) => {
            let bytes = array.as_fixed_size_binary().value(row);
            uuid_text(bytes.try_into().expect("sixteen bytes"))
        }
        DataType::Struct(fields) if is_point(fields) => {
            // As it is written in text.
            let columns = array.as_struct().columns().iter();
            let texts = columns.map(|column| cell_text(column, row).unwrap_or_default());
            texts.collect::<Vec<_>>().join(",")
        }
        DataType::Utf8 => array.as_string::<i32>().value(row).to_owned(),
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
                _ => return foreign_text(array, row, cell_text),
            };
            dictionary.values().as_string::<i32>().value(code).to_owned()
        }
        DataType::Date32 => day_text(array.as_primitive::<Date32Type>().value(row).into()),
        DataType::Time32(TimeUnit::Second) => time_text(
            i64::from(array.as_primitive::<Time32SecondType>().value(row)) * 1_000_000_000,
        ),
        DataType::Time32(_) => time_text(
            i64::from(array.as_primitive::<Time32MillisecondType>().value(row)) * 1_000_000,
        ),
        DataType::Time64(TimeUnit::Microsecond) => {
            let micros = array.as_primitive::<Time64MicrosecondType>().value(row);
            time_text(micros.saturating_mul(1000))
        }
        DataType::Time64(_) => time_text(array.as_primitive::<Time64NanosecondType>().value(row)),
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
            let text = instant_text(i128::from(units) * nanos);
            format!("{text}{}", if zone.is_some() { "Z" } else { "" })
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
            length_text(i128::from(count) * nanos)
        }
        _ => return foreign_text(array, row, cell_text),
    })
}

/// A float with as many digits as tell it apart, and an exponent where it is very large or very small.
fn float_text<F: std::fmt::Display + std::fmt::Debug>(float: F) -> String {
    let text = format!("{float:?}");
    if text.contains('e') { text } else { float.to_string() }
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
    use crate::columns::{Converter, OnMisfit, Plan};
    use crate::read_schema as read;
    use crate::text::{Block, BlockReader, Dialect, Input};

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
