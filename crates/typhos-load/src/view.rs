//! The columns of a batch as plain values, whatever arrays they are held in: what encoders and the proof
//! look at. Nulls are not looked at here; what stands under one has no meaning.

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, BooleanArray, FixedSizeBinaryArray, RecordBatch, StringArray};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Field, TimeUnit};
use typhos_core::columns::is_nested;

use crate::error::TargetError;

/// The values of one column.
pub enum View<'a> {
    /// True and false.
    Bool(&'a BooleanArray),
    /// Integers.
    Int(Ints<'a>),
    /// Floats of 32 bits.
    Float32(&'a [f32]),
    /// Floats of 64 bits.
    Float64(&'a [f64]),
    /// Mantissas, and how many of their digits stand after the mark.
    Decimal(Ints<'a>, u8),
    /// Texts.
    Text(&'a StringArray),
    /// Codes, and the text of each.
    Coded(Ints<'a>, &'a StringArray),
    /// Days since 1970.
    Date(&'a [i32]),
    /// Units since midnight.
    Time(Ints<'a>, TimeUnit),
    /// Units since 1970.
    Timestamp(&'a [i64], TimeUnit),
    /// UUIDs, of 16 bytes.
    Uuid(&'a FixedSizeBinaryArray),
    /// Latitudes and longitudes.
    Point(&'a [f64], &'a [f64]),
}

/// The values of a column, or what is inside of them.
pub struct Nested<'a> {
    /// What they are.
    pub kind: NestedKind<'a>,
    /// Which of them are null.
    pub nulls: Option<&'a NullBuffer>,
}

/// What values are that may nest.
pub enum NestedKind<'a> {
    /// Plain values.
    Leaf(View<'a>),
    /// Lists: where each starts and ends among the elements of all.
    List(&'a [i32], Box<Nested<'a>>),
    /// Structs, by their fields.
    Struct(Vec<Nested<'a>>),
}

impl<'a> Nested<'a> {
    /// The values of a field.
    pub fn of(field: &Field, array: &'a ArrayRef) -> Nested<'a> {
        let kind = match field.data_type() {
            DataType::List(item) => {
                let list = array.as_list::<i32>();
                let items = Box::new(Nested::of(item, list.values()));
                NestedKind::List(list.value_offsets(), items)
            }
            DataType::Struct(fields) if is_nested(field) => {
                let columns = array.as_struct().columns().iter();
                let each =
                    fields.iter().zip(columns).map(|(field, array)| Nested::of(field, array));
                NestedKind::Struct(each.collect())
            }
            _ => NestedKind::Leaf(View::of(array)),
        };
        Nested { kind, nulls: array.nulls() }
    }

    /// Whether there is no value in a row.
    #[inline]
    pub fn is_null(&self, row: usize) -> bool {
        self.nulls.is_some_and(|nulls| nulls.is_null(row))
    }
}

/// Integers of any width.
#[derive(Clone, Copy)]
pub enum Ints<'a> {
    /// Signed, of 8 bits.
    I8(&'a [i8]),
    /// Signed, of 16 bits.
    I16(&'a [i16]),
    /// Signed, of 32 bits.
    I32(&'a [i32]),
    /// Signed, of 64 bits.
    I64(&'a [i64]),
    /// Unsigned, of 8 bits.
    U8(&'a [u8]),
    /// Unsigned, of 16 bits.
    U16(&'a [u16]),
    /// Unsigned, of 32 bits.
    U32(&'a [u32]),
    /// Unsigned, of 64 bits.
    U64(&'a [u64]),
    /// Signed, of 128 bits.
    I128(&'a [i128]),
}

impl Ints<'_> {
    #[inline]
    /// The value of a row.
    pub fn get(&self, row: usize) -> i128 {
        match self {
            Ints::I128(values) => values[row],
            Ints::U64(values) => values[row].into(),
            narrow => narrow.narrow(row).into(),
        }
    }

    /// A value that 64 bits hold with a sign.
    ///
    /// # Panics
    /// Where the integers are wider.
    #[inline]
    pub fn narrow(&self, row: usize) -> i64 {
        match self {
            Ints::I8(values) => values[row].into(),
            Ints::I16(values) => values[row].into(),
            Ints::I32(values) => values[row].into(),
            Ints::I64(values) => values[row],
            Ints::U8(values) => values[row].into(),
            Ints::U16(values) => values[row].into(),
            Ints::U32(values) => values[row].into(),
            Ints::U64(_) | Ints::I128(_) => unreachable!("wider than 64 bits with a sign"),
        }
    }
}

impl<'a> View<'a> {
    /// # Panics
    /// On array types that no column of Typhos has.
    pub fn of(array: &'a ArrayRef) -> View<'a> {
        macro_rules! values {
            ($ty:ty) => {
                array.as_primitive::<$ty>().values()
            };
        }
        match array.data_type() {
            DataType::Boolean => View::Bool(array.as_boolean()),
            DataType::Int8 => View::Int(Ints::I8(values!(Int8Type))),
            DataType::Int16 => View::Int(Ints::I16(values!(Int16Type))),
            DataType::Int32 => View::Int(Ints::I32(values!(Int32Type))),
            DataType::Int64 => View::Int(Ints::I64(values!(Int64Type))),
            DataType::UInt8 => View::Int(Ints::U8(values!(UInt8Type))),
            DataType::UInt16 => View::Int(Ints::U16(values!(UInt16Type))),
            DataType::UInt32 => View::Int(Ints::U32(values!(UInt32Type))),
            DataType::UInt64 => View::Int(Ints::U64(values!(UInt64Type))),
            DataType::Float32 => View::Float32(values!(Float32Type)),
            DataType::Float64 => View::Float64(values!(Float64Type)),
            DataType::Decimal32(_, scale) => {
                View::Decimal(Ints::I32(values!(Decimal32Type)), scale.unsigned_abs())
            }
            DataType::Decimal64(_, scale) => {
                View::Decimal(Ints::I64(values!(Decimal64Type)), scale.unsigned_abs())
            }
            DataType::Decimal128(_, scale) => {
                View::Decimal(Ints::I128(values!(Decimal128Type)), scale.unsigned_abs())
            }
            DataType::Utf8 => View::Text(array.as_string::<i32>()),
            DataType::Dictionary(codes, _) => {
                let dictionary = array.as_any_dictionary();
                let keys = dictionary.keys();
                let codes = match **codes {
                    DataType::UInt8 => Ints::U8(keys.as_primitive::<UInt8Type>().values()),
                    DataType::UInt16 => Ints::U16(keys.as_primitive::<UInt16Type>().values()),
                    _ => Ints::U32(keys.as_primitive::<UInt32Type>().values()),
                };
                View::Coded(codes, dictionary.values().as_string::<i32>())
            }
            DataType::Date32 => View::Date(values!(Date32Type)),
            DataType::Time32(unit @ TimeUnit::Second) => {
                View::Time(Ints::I32(values!(Time32SecondType)), *unit)
            }
            DataType::Time32(unit) => View::Time(Ints::I32(values!(Time32MillisecondType)), *unit),
            DataType::Time64(unit @ TimeUnit::Microsecond) => {
                View::Time(Ints::I64(values!(Time64MicrosecondType)), *unit)
            }
            DataType::Time64(unit) => View::Time(Ints::I64(values!(Time64NanosecondType)), *unit),
            DataType::Timestamp(unit, _) => {
                let values = match unit {
                    TimeUnit::Second => values!(TimestampSecondType),
                    TimeUnit::Millisecond => values!(TimestampMillisecondType),
                    TimeUnit::Microsecond => values!(TimestampMicrosecondType),
                    TimeUnit::Nanosecond => values!(TimestampNanosecondType),
                };
                View::Timestamp(values, *unit)
            }
            DataType::Duration(unit) => View::Int(Ints::I64(duration_units(array, *unit))),
            DataType::FixedSizeBinary(16) => View::Uuid(array.as_fixed_size_binary()),
            DataType::Struct(_) => {
                let point = array.as_struct();
                let degrees = |at| &point.column(at).as_primitive::<Float64Type>().values()[..];
                View::Point(degrees(0), degrees(1))
            }
            other => unreachable!("no column is held as {other}"),
        }
    }
}

/// Lengths of time as whole numbers of their units.
fn duration_units(array: &ArrayRef, unit: TimeUnit) -> &[i64] {
    match unit {
        TimeUnit::Second => array.as_primitive::<DurationSecondType>().values(),
        TimeUnit::Millisecond => array.as_primitive::<DurationMillisecondType>().values(),
        TimeUnit::Microsecond => array.as_primitive::<DurationMicrosecondType>().values(),
        TimeUnit::Nanosecond => array.as_primitive::<DurationNanosecondType>().values(),
    }
}

/// The same, for whoever stores them; nothing of any other array.
pub fn units(array: &ArrayRef) -> Vec<i64> {
    match array.data_type() {
        DataType::Duration(unit) => duration_units(array, *unit).to_vec(),
        _ => Vec::new(),
    }
}

/// How many units a second has.
pub fn units_per_second(unit: TimeUnit) -> i64 {
    match unit {
        TimeUnit::Second => 1,
        TimeUnit::Millisecond => 1_000,
        TimeUnit::Microsecond => 1_000_000,
        TimeUnit::Nanosecond => 1_000_000_000,
    }
}

/// Refuses floats that a target cannot hold: those that are no numbers (NaN) and, where `infinite` says so, those
/// without an end.
///
/// # Errors
/// [`TargetError::CannotHold`], with what to declare instead.
pub fn refuse_floats(batch: &RecordBatch, target: &str, infinite: bool) -> Result<(), TargetError> {
    // What nests is text by now, and says 'NaN' in quotes.
    let is_refused = |value: &f64| value.is_nan() || infinite && value.is_infinite();
    for (field, array) in batch.schema_ref().fields().iter().zip(batch.columns()) {
        let found = match array.data_type() {
            DataType::Float32 => {
                let values = array.as_primitive::<Float32Type>().iter().flatten();
                values.map(f64::from).find(is_refused)
            }
            DataType::Float64 => {
                array.as_primitive::<Float64Type>().iter().flatten().find(is_refused)
            }
            _ => None,
        };
        if let Some(value) = found {
            return Err(TargetError::cannot_hold(
                field.name(),
                format!("'{value}'"),
                format!(
                    "is a float that {target} cannot hold; for null in its place, declare absent = [\"\", \"{value}\"]"
                ),
            ));
        }
    }
    Ok(())
}
