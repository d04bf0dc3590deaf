//! Values that are whole numbers underneath: integers, decimals at their scale, days, units of time, true and false.
//!
//! What asks about values, groups them or sums them up takes all of these types for one.

use std::sync::Arc;

use arrow_array::builder::PrimitiveBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{
    Array, ArrayRef, ArrowPrimitiveType, BooleanArray, DictionaryArray, StringArray,
};
use arrow_schema::{DataType, TimeUnit};

/// Does `$do` with `$arrow` for the type that holds numbers as `$data_type` says, `$bool` for true and false, and `$else` where
/// they are no whole numbers.
macro_rules! of_whole {
    ($data_type:expr, $arrow:ident => $do:expr, $bool:expr, $else:expr) => {
        of_whole!(@ $data_type, $arrow, $do, $bool, $else,
            DataType::Int8 => Int8Type,
            DataType::Int16 => Int16Type,
            DataType::Int32 => Int32Type,
            DataType::Int64 => Int64Type,
            DataType::UInt8 => UInt8Type,
            DataType::UInt16 => UInt16Type,
            DataType::UInt32 => UInt32Type,
            DataType::UInt64 => UInt64Type,
            DataType::Decimal32(..) => Decimal32Type,
            DataType::Decimal64(..) => Decimal64Type,
            DataType::Decimal128(..) => Decimal128Type,
            DataType::Date32 => Date32Type,
            DataType::Time32(TimeUnit::Second) => Time32SecondType,
            DataType::Time32(_) => Time32MillisecondType,
            DataType::Time64(TimeUnit::Microsecond) => Time64MicrosecondType,
            DataType::Time64(_) => Time64NanosecondType,
            DataType::Timestamp(TimeUnit::Second, _) => TimestampSecondType,
            DataType::Timestamp(TimeUnit::Millisecond, _) => TimestampMillisecondType,
            DataType::Timestamp(TimeUnit::Microsecond, _) => TimestampMicrosecondType,
            DataType::Timestamp(TimeUnit::Nanosecond, _) => TimestampNanosecondType,
            DataType::Duration(TimeUnit::Second) => DurationSecondType,
            DataType::Duration(TimeUnit::Millisecond) => DurationMillisecondType,
            DataType::Duration(TimeUnit::Microsecond) => DurationMicrosecondType,
            DataType::Duration(TimeUnit::Nanosecond) => DurationNanosecondType,
        )
    };
    (@ $data_type:expr, $arrow:ident, $do:expr, $bool:expr, $else:expr, $($pattern:pat => $type:ident,)*) => {
        match $data_type {
            DataType::Boolean => $bool,
            $($pattern => { type $arrow = $type; $do })*
            _ => $else,
        }
    };
}

/// Whether values of a type are whole numbers underneath.
pub(crate) fn is_whole(data_type: &DataType) -> bool {
    of_whole!(data_type, _Arrow => true, true, false)
}

/// Hands every value to `each`, in order; `None` where it is absent.
///
/// # Panics
/// If the values are no whole numbers underneath.
#[expect(clippy::useless_conversion, reason = "of the widest type only")]
pub(crate) fn each_whole(array: &dyn Array, mut each: impl FnMut(Option<i128>)) {
    of_whole!(
        array.data_type(),
        Arrow => {
            let array = array.as_primitive::<Arrow>();
            match array.nulls().filter(|nulls| nulls.null_count() > 0) {
                None => array.values().iter().for_each(|value| each(Some(i128::from(*value)))),
                Some(_) => array.iter().for_each(|value| each(value.map(i128::from))),
            }
        },
        array.as_boolean().iter().for_each(|value| each(value.map(i128::from))),
        unreachable!("{} is no type of whole numbers", array.data_type())
    )
}

/// Values of a type made of whole numbers. One that the type cannot hold is absent.
///
/// # Panics
/// If the type has no whole numbers underneath.
pub(crate) fn whole_array(
    data_type: &DataType,
    values: impl Iterator<Item = Option<i128>>,
) -> ArrayRef {
    of_whole!(
        data_type,
        Arrow => {
            let mut builder = PrimitiveBuilder::<Arrow>::new().with_data_type(data_type.clone());
            for value in values {
                let value = value.and_then(|value| <Arrow as ArrowPrimitiveType>::Native::try_from(value).ok());
                builder.append_option(value);
            }
            Arc::new(builder.finish())
        },
        Arc::new(BooleanArray::from_iter(values.map(|value| value.map(|value| value != 0)))),
        unreachable!("{data_type} is no type of whole numbers")
    )
}

/// Texts as a dictionary: of each its place in a list.
///
/// # Panics
/// If the type is no dictionary of texts.
pub(crate) fn dictionary_array(
    data_type: &DataType,
    places: impl Iterator<Item = Option<i128>>,
    words: &[String],
) -> ArrayRef {
    let DataType::Dictionary(codes, _) = data_type else {
        unreachable!("{data_type} is no dictionary")
    };
    let (codes, words) =
        (whole_array(codes, places), Arc::new(StringArray::from_iter_values(words)));
    macro_rules! of_codes {
        ($($pattern:pat => $codes:ident,)*) => {
            match codes.data_type() {
                $($pattern => Arc::new(DictionaryArray::<$codes>::new(codes.as_primitive().clone(), words)),)*
            }
        };
    }
    of_codes! {
        DataType::UInt8 => UInt8Type,
        DataType::UInt16 => UInt16Type,
        DataType::UInt64 => UInt64Type,
        DataType::Int8 => Int8Type,
        DataType::Int16 => Int16Type,
        DataType::Int32 => Int32Type,
        DataType::Int64 => Int64Type,
        _ => UInt32Type,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_go_there_and_come_back() {
        for data_type in [
            DataType::Boolean,
            DataType::Int8,
            DataType::UInt64,
            DataType::Decimal32(5, 2),
            DataType::Decimal128(38, 0),
            DataType::Date32,
            DataType::Time64(TimeUnit::Nanosecond),
            DataType::Timestamp(TimeUnit::Second, Some("UTC".into())),
            DataType::Duration(TimeUnit::Millisecond),
        ] {
            let values = [Some(1), None, Some(0)];
            let array = whole_array(&data_type, values.into_iter());
            assert_eq!(array.data_type(), &data_type);
            let mut found = Vec::new();
            each_whole(&array, |value| found.push(value));
            assert_eq!(found, values, "{data_type}");
            assert!(is_whole(&data_type));
        }
        let beyond = whole_array(&DataType::Int8, [Some(128), Some(-128)].into_iter());
        assert_eq!((beyond.is_null(0), beyond.is_null(1)), (true, false));
        assert!(!is_whole(&DataType::Float64) && !is_whole(&DataType::Utf8));
    }
}
