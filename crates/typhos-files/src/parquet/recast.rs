//! Values in the types that a file or a table of the lake has for them, and back. Only where every value survives both ways:
//! which types go together is decided where a schema is made.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, PrimitiveArray, StructArray};
use arrow_schema::{DataType, Field, TimeUnit};
use typhos_core::columns::map_array;

/// An array as it is stored in a column.
pub(super) fn stored_array(array: &ArrayRef, stored: &Field) -> ArrayRef {
    map_array(array, stored, &|leaf, stored| recast(leaf, stored.data_type()))
}

/// The same array as it was sent to be stored.
pub(super) fn declared_array(array: &ArrayRef, declared: &Field) -> ArrayRef {
    map_array(array, declared, &|leaf, declared| recast(leaf, declared.data_type()))
}

/// Values in another type. Those of which that type knows nothing stay what they are; text does, too, with codes or without.
fn recast(leaf: &ArrayRef, to: &DataType) -> ArrayRef {
    use DataType as T;
    if leaf.data_type() == to {
        return leaf.clone();
    }
    // Units of time: the range of years 1 to 9999 stays far within that of the finer unit.
    match (leaf.data_type(), to) {
        (T::Timestamp(from, _), T::Timestamp(unit, _)) => {
            instants(&ticks(leaf, *from), *unit, scale(*from, *unit), to)
        }
        (T::Time32(_) | T::Time64(_), T::Time32(_) | T::Time64(_)) => times(leaf, to),
        (T::Duration(unit), T::Int64) => {
            Arc::new(ticks_of_duration(leaf, *unit).with_data_type(T::Int64))
        }
        (T::Int64, T::Duration(unit)) => {
            let ticks = leaf.as_primitive::<Int64Type>();
            match unit {
                TimeUnit::Second => Arc::new(ticks.reinterpret_cast::<DurationSecondType>()),
                TimeUnit::Millisecond => {
                    Arc::new(ticks.reinterpret_cast::<DurationMillisecondType>())
                }
                TimeUnit::Microsecond => {
                    Arc::new(ticks.reinterpret_cast::<DurationMicrosecondType>())
                }
                TimeUnit::Nanosecond => {
                    Arc::new(ticks.reinterpret_cast::<DurationNanosecondType>())
                }
            }
        }
        (T::Float32, T::Float64) => {
            let wide: PrimitiveArray<Float64Type> =
                leaf.as_primitive::<Float32Type>().unary(f64::from);
            Arc::new(wide)
        }
        (T::Float64, T::Float32) => {
            let narrow: PrimitiveArray<Float32Type> =
                leaf.as_primitive::<Float64Type>().unary(|value| value as f32);
            Arc::new(narrow)
        }
        (T::Struct(_), T::Struct(fields)) => {
            let (_, columns, nulls) = leaf.as_struct().clone().into_parts();
            Arc::new(StructArray::new(fields.clone(), columns, nulls))
        }
        _ => whole_numbers(leaf, to).unwrap_or_else(|| leaf.clone()),
    }
}

/// Whole numbers, and the digits of decimals of the same scale, in another width.
fn whole_numbers(leaf: &ArrayRef, to: &DataType) -> Option<ArrayRef> {
    fn from<A: ArrowPrimitiveType>(leaf: &ArrayRef, to: &DataType) -> Option<ArrayRef>
    where
        A::Native: Into<i128>,
    {
        fn into<A: ArrowPrimitiveType, B: ArrowPrimitiveType>(
            leaf: &ArrayRef,
            to: &DataType,
        ) -> Option<ArrayRef>
        where
            A::Native: Into<i128>,
            B::Native: TryFrom<i128>,
        {
            // Behind what is null may stand anything.
            let narrowed = |value: A::Native| B::Native::try_from(value.into()).unwrap_or_default();
            let array: PrimitiveArray<B> = leaf.as_primitive::<A>().unary(narrowed);
            Some(Arc::new(array.with_data_type(to.clone())))
        }
        match to {
            DataType::Int8 => into::<A, Int8Type>(leaf, to),
            DataType::Int16 => into::<A, Int16Type>(leaf, to),
            DataType::Int32 => into::<A, Int32Type>(leaf, to),
            DataType::Int64 => into::<A, Int64Type>(leaf, to),
            DataType::UInt8 => into::<A, UInt8Type>(leaf, to),
            DataType::UInt16 => into::<A, UInt16Type>(leaf, to),
            DataType::UInt32 => into::<A, UInt32Type>(leaf, to),
            DataType::UInt64 => into::<A, UInt64Type>(leaf, to),
            DataType::Decimal32(..) => into::<A, Decimal32Type>(leaf, to),
            DataType::Decimal64(..) => into::<A, Decimal64Type>(leaf, to),
            DataType::Decimal128(..) => into::<A, Decimal128Type>(leaf, to),
            _ => None,
        }
    }
    match leaf.data_type() {
        DataType::Int8 => from::<Int8Type>(leaf, to),
        DataType::Int16 => from::<Int16Type>(leaf, to),
        DataType::Int32 => from::<Int32Type>(leaf, to),
        DataType::Int64 => from::<Int64Type>(leaf, to),
        DataType::UInt8 => from::<UInt8Type>(leaf, to),
        DataType::UInt16 => from::<UInt16Type>(leaf, to),
        DataType::UInt32 => from::<UInt32Type>(leaf, to),
        DataType::UInt64 => from::<UInt64Type>(leaf, to),
        DataType::Decimal32(..) => from::<Decimal32Type>(leaf, to),
        DataType::Decimal64(..) => from::<Decimal64Type>(leaf, to),
        DataType::Decimal128(..) => from::<Decimal128Type>(leaf, to),
        _ => None,
    }
}

/// How many of one unit make one of another: over and under one.
#[derive(Clone, Copy)]
struct Scale {
    by: i64,
    is_finer: bool,
}

impl Scale {
    fn of(self, ticks: i64) -> i64 {
        match self.is_finer {
            true => ticks.wrapping_mul(self.by),
            false => ticks.div_euclid(self.by),
        }
    }
}

fn per_second(unit: TimeUnit) -> i64 {
    match unit {
        TimeUnit::Second => 1,
        TimeUnit::Millisecond => 1_000,
        TimeUnit::Microsecond => 1_000_000,
        TimeUnit::Nanosecond => 1_000_000_000,
    }
}

fn scale(from: TimeUnit, to: TimeUnit) -> Scale {
    let (from, to) = (per_second(from), per_second(to));
    match to >= from {
        true => Scale { by: to / from, is_finer: true },
        false => Scale { by: from / to, is_finer: false },
    }
}

/// The numbers of an array of timestamps.
fn ticks(leaf: &ArrayRef, unit: TimeUnit) -> PrimitiveArray<Int64Type> {
    match unit {
        TimeUnit::Second => leaf.as_primitive::<TimestampSecondType>().reinterpret_cast(),
        TimeUnit::Millisecond => leaf.as_primitive::<TimestampMillisecondType>().reinterpret_cast(),
        TimeUnit::Microsecond => leaf.as_primitive::<TimestampMicrosecondType>().reinterpret_cast(),
        TimeUnit::Nanosecond => leaf.as_primitive::<TimestampNanosecondType>().reinterpret_cast(),
    }
}

fn ticks_of_duration(leaf: &ArrayRef, unit: TimeUnit) -> PrimitiveArray<Int64Type> {
    match unit {
        TimeUnit::Second => leaf.as_primitive::<DurationSecondType>().reinterpret_cast(),
        TimeUnit::Millisecond => leaf.as_primitive::<DurationMillisecondType>().reinterpret_cast(),
        TimeUnit::Microsecond => leaf.as_primitive::<DurationMicrosecondType>().reinterpret_cast(),
        TimeUnit::Nanosecond => leaf.as_primitive::<DurationNanosecondType>().reinterpret_cast(),
    }
}

fn instants(
    ticks: &PrimitiveArray<Int64Type>,
    unit: TimeUnit,
    scale: Scale,
    to: &DataType,
) -> ArrayRef {
    fn of<B: ArrowPrimitiveType<Native = i64>>(
        ticks: &PrimitiveArray<Int64Type>,
        scale: Scale,
        to: &DataType,
    ) -> ArrayRef {
        let array: PrimitiveArray<B> = ticks.unary(|ticks| scale.of(ticks));
        Arc::new(array.with_data_type(to.clone()))
    }
    match unit {
        TimeUnit::Second => of::<TimestampSecondType>(ticks, scale, to),
        TimeUnit::Millisecond => of::<TimestampMillisecondType>(ticks, scale, to),
        TimeUnit::Microsecond => of::<TimestampMicrosecondType>(ticks, scale, to),
        TimeUnit::Nanosecond => of::<TimestampNanosecondType>(ticks, scale, to),
    }
}

/// Times of the day in another unit.
fn times(leaf: &ArrayRef, to: &DataType) -> ArrayRef {
    let (unit, ticks): (TimeUnit, PrimitiveArray<Int64Type>) = match leaf.data_type() {
        DataType::Time32(TimeUnit::Second) => {
            (TimeUnit::Second, leaf.as_primitive::<Time32SecondType>().unary(i64::from))
        }
        DataType::Time32(_) => {
            (TimeUnit::Millisecond, leaf.as_primitive::<Time32MillisecondType>().unary(i64::from))
        }
        DataType::Time64(TimeUnit::Microsecond) => {
            (TimeUnit::Microsecond, leaf.as_primitive::<Time64MicrosecondType>().reinterpret_cast())
        }
        _ => (TimeUnit::Nanosecond, leaf.as_primitive::<Time64NanosecondType>().reinterpret_cast()),
    };
    // Of a day there are fewer than 2^31 milliseconds.
    fn short<B: ArrowPrimitiveType<Native = i32>>(
        ticks: &PrimitiveArray<Int64Type>,
        scale: Scale,
    ) -> ArrayRef {
        Arc::new(ticks.unary::<_, B>(|ticks| scale.of(ticks) as i32))
    }
    fn long<B: ArrowPrimitiveType<Native = i64>>(
        ticks: &PrimitiveArray<Int64Type>,
        scale: Scale,
    ) -> ArrayRef {
        Arc::new(ticks.unary::<_, B>(|ticks| scale.of(ticks)))
    }
    match to {
        DataType::Time32(TimeUnit::Second) => {
            short::<Time32SecondType>(&ticks, scale(unit, TimeUnit::Second))
        }
        DataType::Time32(_) => {
            short::<Time32MillisecondType>(&ticks, scale(unit, TimeUnit::Millisecond))
        }
        DataType::Time64(TimeUnit::Microsecond) => {
            long::<Time64MicrosecondType>(&ticks, scale(unit, TimeUnit::Microsecond))
        }
        _ => long::<Time64NanosecondType>(&ticks, scale(unit, TimeUnit::Nanosecond)),
    }
}

#[cfg(test)]
mod tests {
    use arrow_array::{
        Decimal32Array, DurationSecondArray, Float32Array, Time32SecondArray, TimestampSecondArray,
        UInt32Array, UInt64Array,
    };

    use super::*;

    #[test]
    fn every_value_comes_back_from_the_type_that_it_is_stored_in() {
        let micro = TimeUnit::Microsecond;
        let cases: Vec<(ArrayRef, DataType)> = vec![
            (Arc::new(UInt32Array::from(vec![Some(0), None, Some(u32::MAX)])), DataType::Int64),
            (Arc::new(UInt64Array::from(vec![0, u64::MAX])), DataType::Decimal128(20, 0)),
            (
                Arc::new(
                    Decimal32Array::from(vec![Some(-99_999), None, Some(1)])
                        .with_precision_and_scale(5, 2)
                        .unwrap(),
                ),
                DataType::Decimal128(18, 2),
            ),
            (Arc::new(Float32Array::from(vec![0.1, -0.0, f32::INFINITY])), DataType::Float64),
            (
                Arc::new(TimestampSecondArray::from(vec![Some(-62_135_596_800), None, Some(1)])),
                DataType::Timestamp(micro, None),
            ),
            (Arc::new(Time32SecondArray::from(vec![0, 86_399])), DataType::Time64(micro)),
            (Arc::new(DurationSecondArray::from(vec![-7, 1 << 40])), DataType::Int64),
        ];
        for (array, to) in cases {
            let stored = Field::new("a", to.clone(), true);
            let declared = Field::new("a", array.data_type().clone(), true);
            let there = stored_array(&array, &stored);
            assert_eq!(there.data_type(), &to);
            assert_eq!(&declared_array(&there, &declared), &array, "{to}");
        }
    }
}
