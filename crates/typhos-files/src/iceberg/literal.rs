//! A value as the metadata of a table has it: in partitions, and as the bounds of columns.

use std::cmp::Ordering;

use apache_avro::types::Value as Avro;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, StringArray};
use arrow_schema::{DataType, TimeUnit};

/// A value of a plain type. Times are in microseconds.
#[derive(Debug, Clone, PartialEq)]
pub enum Literal {
    /// `boolean`.
    Bool(bool),
    /// `int`, and what transforms make of times.
    Int(i32),
    /// `long`.
    Long(i64),
    /// `float`.
    Float(f32),
    /// `double`.
    Double(f64),
    /// `decimal`: its digits, and how many its type has in all.
    Decimal(i128, u8),
    /// `string`.
    Text(String),
    /// `date`: days since 1970.
    Date(i32),
    /// `time`.
    Time(i64),
    /// `timestamp`, `timestamptz`.
    Instant(i64),
    /// `uuid`.
    Uuid([u8; 16]),
}

impl Literal {
    /// The cell of an array, in the types of declarations or of tables; `None` where it is null, or of a type that is not plain.
    pub fn of(array: &dyn Array, row: usize) -> Option<Literal> {
        use DataType as T;
        if array.is_null(row) {
            return None;
        }
        Some(match array.data_type() {
            T::Boolean => Literal::Bool(array.as_boolean().value(row)),
            T::Int8 => Literal::Int(array.as_primitive::<Int8Type>().value(row).into()),
            T::Int16 => Literal::Int(array.as_primitive::<Int16Type>().value(row).into()),
            T::Int32 => Literal::Int(array.as_primitive::<Int32Type>().value(row)),
            T::UInt8 => Literal::Int(array.as_primitive::<UInt8Type>().value(row).into()),
            T::UInt16 => Literal::Int(array.as_primitive::<UInt16Type>().value(row).into()),
            T::UInt32 => Literal::Long(array.as_primitive::<UInt32Type>().value(row).into()),
            T::Int64 => Literal::Long(array.as_primitive::<Int64Type>().value(row)),
            T::UInt64 => Literal::Decimal(array.as_primitive::<UInt64Type>().value(row).into(), 20),
            T::Float32 => Literal::Float(array.as_primitive::<Float32Type>().value(row)),
            T::Float64 => Literal::Double(array.as_primitive::<Float64Type>().value(row)),
            T::Decimal32(p, _) => {
                Literal::Decimal(array.as_primitive::<Decimal32Type>().value(row).into(), *p)
            }
            T::Decimal64(p, _) => {
                Literal::Decimal(array.as_primitive::<Decimal64Type>().value(row).into(), *p)
            }
            T::Decimal128(p, _) => {
                Literal::Decimal(array.as_primitive::<Decimal128Type>().value(row), *p)
            }
            T::Utf8 => Literal::Text(array.as_string::<i32>().value(row).to_owned()),
            T::Dictionary(..) => {
                let codes = array.as_any_dictionary();
                let words: &StringArray = codes.values().as_string();
                Literal::Text(words.value(codes.normalized_keys()[row]).to_owned())
            }
            T::Date32 => Literal::Date(array.as_primitive::<Date32Type>().value(row)),
            T::Time32(TimeUnit::Second) => {
                let seconds = array.as_primitive::<Time32SecondType>().value(row);
                Literal::Time(i64::from(seconds) * 1_000_000)
            }
            T::Time32(_) => {
                let millis = array.as_primitive::<Time32MillisecondType>().value(row);
                Literal::Time(i64::from(millis) * 1_000)
            }
            T::Time64(TimeUnit::Microsecond) => {
                Literal::Time(array.as_primitive::<Time64MicrosecondType>().value(row))
            }
            T::Timestamp(TimeUnit::Second, _) => {
                let seconds = array.as_primitive::<TimestampSecondType>().value(row);
                Literal::Instant(seconds.saturating_mul(1_000_000))
            }
            T::Timestamp(TimeUnit::Millisecond, _) => {
                let millis = array.as_primitive::<TimestampMillisecondType>().value(row);
                Literal::Instant(millis.saturating_mul(1_000))
            }
            T::Timestamp(TimeUnit::Microsecond, _) => {
                Literal::Instant(array.as_primitive::<TimestampMicrosecondType>().value(row))
            }
            T::Duration(unit) => Literal::Long(match unit {
                TimeUnit::Second => array.as_primitive::<DurationSecondType>().value(row),
                TimeUnit::Millisecond => array.as_primitive::<DurationMillisecondType>().value(row),
                TimeUnit::Microsecond => array.as_primitive::<DurationMicrosecondType>().value(row),
                TimeUnit::Nanosecond => array.as_primitive::<DurationNanosecondType>().value(row),
            }),
            T::FixedSizeBinary(16) => {
                let bytes = array.as_fixed_size_binary().value(row);
                Literal::Uuid(bytes.try_into().expect("sixteen bytes"))
            }
            _ => return None,
        })
    }

    /// As bounds are written: the binary form of single values in the specification.
    pub fn bytes(&self) -> Vec<u8> {
        match self {
            Literal::Bool(value) => vec![u8::from(*value)],
            Literal::Int(value) | Literal::Date(value) => value.to_le_bytes().to_vec(),
            Literal::Long(value) | Literal::Time(value) | Literal::Instant(value) => {
                value.to_le_bytes().to_vec()
            }
            Literal::Float(value) => value.to_le_bytes().to_vec(),
            Literal::Double(value) => value.to_le_bytes().to_vec(),
            Literal::Decimal(digits, _) => shortest(*digits),
            Literal::Text(text) => text.as_bytes().to_vec(),
            Literal::Uuid(bytes) => bytes.to_vec(),
        }
    }

    /// As manifests have it.
    pub fn avro(&self) -> Avro {
        match self {
            Literal::Bool(value) => Avro::Boolean(*value),
            Literal::Int(value) => Avro::Int(*value),
            Literal::Date(value) => Avro::Date(*value),
            Literal::Long(value) => Avro::Long(*value),
            Literal::Time(value) => Avro::TimeMicros(*value),
            Literal::Instant(value) => Avro::TimestampMicros(*value),
            Literal::Float(value) => Avro::Float(*value),
            Literal::Double(value) => Avro::Double(*value),
            Literal::Decimal(digits, precision) => {
                let bytes = digits.to_be_bytes();
                let bytes = &bytes[16 - bytes_of(*precision)..];
                Avro::Decimal(bytes.into())
            }
            Literal::Text(text) => Avro::String(text.clone()),
            Literal::Uuid(bytes) => Avro::Uuid(uuid::Uuid::from_bytes(*bytes)),
        }
    }

    /// The order of two values of a type.
    pub fn order(&self, other: &Literal) -> Ordering {
        match (self, other) {
            (Literal::Bool(a), Literal::Bool(b)) => a.cmp(b),
            (Literal::Int(a), Literal::Int(b)) | (Literal::Date(a), Literal::Date(b)) => a.cmp(b),
            (Literal::Long(a), Literal::Long(b))
            | (Literal::Time(a), Literal::Time(b))
            | (Literal::Instant(a), Literal::Instant(b)) => a.cmp(b),
            (Literal::Float(a), Literal::Float(b)) => a.total_cmp(b),
            (Literal::Double(a), Literal::Double(b)) => a.total_cmp(b),
            (Literal::Decimal(a, _), Literal::Decimal(b, _)) => a.cmp(b),
            (Literal::Text(a), Literal::Text(b)) => a.cmp(b),
            (Literal::Uuid(a), Literal::Uuid(b)) => a.cmp(b),
            _ => Ordering::Equal,
        }
    }
}

/// How many bytes hold all decimals of so many digits, with their sign.
pub(super) fn bytes_of(precision: u8) -> usize {
    let largest = 10i128.checked_pow(precision.into()).map_or(i128::MAX, |it| it - 1);
    shortest(largest).len()
}

/// The fewest bytes of a number, the largest first, with its sign.
pub(super) fn shortest(number: i128) -> Vec<u8> {
    let bytes = number.to_be_bytes();
    let sign = if number < 0 { 0xff } else { 0 };
    let same_sign = |byte: u8| byte & 0x80 == sign & 0x80;
    let mut from = 0;
    while from < 15 && bytes[from] == sign && same_sign(bytes[from + 1]) {
        from += 1;
    }
    bytes[from..].to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_take_the_fewest_bytes_that_keep_their_sign() {
        for (number, bytes) in [
            (0, &[0u8][..]),
            (127, &[0x7f]),
            (128, &[0, 0x80]),
            (-128, &[0x80]),
            (-129, &[0xff, 0x7f]),
            (1420, &[0x05, 0x8c]),
        ] {
            assert_eq!(shortest(number), bytes, "{number}");
        }
        assert_eq!(shortest(i128::MIN).len(), 16);
        assert_eq!([1, 2, 3, 9, 10, 18, 38].map(bytes_of), [1, 1, 2, 4, 5, 8, 16]);
    }
}
