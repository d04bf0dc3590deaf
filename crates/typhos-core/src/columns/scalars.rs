//! The cells of columns of single values: each value read and collected into an Arrow array.

use std::marker::PhantomData;
use std::sync::Arc;

use arrow_array::types::*;
use arrow_array::{
    ArrayRef, ArrowPrimitiveType, BooleanArray, FixedSizeBinaryArray, Float64Array, PrimitiveArray,
    StructArray,
};
use arrow_buffer::{ArrowNativeType, BooleanBufferBuilder, NullBufferBuilder, ScalarBuffer};
use arrow_schema::DataType;

use super::Reason;
use super::cells::{Cells, Visit};
use super::codes::Codes;
use super::durations::DurationRead;
use super::instants::{DateRead, PatternRead, TimeRead, TimestampRead};
use super::numbers::{DecimalRead, FloatRead, IntRead, Styled};
use super::runs::{Run, ShortCells};
use super::texts::Texts;
use super::values::{Loss, ReadValue, read_bool};
use crate::readings::{is_ip, is_json, point, uuid};
use crate::schema::{ColumnDecl, IntType, Rounding, Scalar, TimeUnit, code_type, point_fields};

/// Makes the cells of a column of single values of a type and hands them to `visitor`.
///
/// # Errors
/// A bound that is not a value of the type.
pub(super) fn with_scalars<V: Visit>(
    column: &ColumnDecl,
    ty: Scalar,
    visitor: V,
) -> Result<V::Out, String> {
    let rounding = column.rounding;
    let patterns = || PatternRead {
        patterns: column.patterns.clone(),
        options: column.dates.clone(),
        ty,
        loss: Loss::new(rounding),
    };
    macro_rules! primitive {
        ($arrow:ty, $read:expr) => {
            visitor.visit(Primitive::<$arrow, _>::new($read, column)?)
        };
    }
    macro_rules! number {
        ($arrow:ty, $read:expr) => {
            if column.style.is_plain() {
                primitive!($arrow, $read)
            } else {
                primitive!($arrow, Styled::new($read, &column.style))
            }
        };
    }
    Ok(match ty {
        Scalar::Bool => visitor.visit(Bools {
            values: BooleanBufferBuilder::new(0),
            validity: NullBufferBuilder::new(0),
        }),
        Scalar::Int(int) => match int {
            IntType::Int8 => number!(Int8Type, IntRead::<i8>::new(int, rounding)),
            IntType::Int16 => number!(Int16Type, IntRead::<i16>::new(int, rounding)),
            IntType::Int32 => number!(Int32Type, IntRead::<i32>::new(int, rounding)),
            IntType::Int64 => number!(Int64Type, IntRead::<i64>::new(int, rounding)),
            IntType::UInt8 => number!(UInt8Type, IntRead::<u8>::new(int, rounding)),
            IntType::UInt16 => number!(UInt16Type, IntRead::<u16>::new(int, rounding)),
            IntType::UInt32 => number!(UInt32Type, IntRead::<u32>::new(int, rounding)),
            IntType::UInt64 => number!(UInt64Type, IntRead::<u64>::new(int, rounding)),
        },
        Scalar::Float32 => number!(Float32Type, FloatRead::<f32>::new(rounding)),
        Scalar::Float64 => number!(Float64Type, FloatRead::<f64>::new(rounding)),
        Scalar::Decimal { precision, scale } => match ty.arrow(0) {
            DataType::Decimal32(..) => {
                number!(Decimal32Type, DecimalRead::<i32>::new(precision, scale, rounding))
            }
            DataType::Decimal64(..) => {
                number!(Decimal64Type, DecimalRead::<i64>::new(precision, scale, rounding))
            }
            _ => number!(Decimal128Type, DecimalRead::<i128>::new(precision, scale, rounding)),
        },
        Scalar::Date => primitive!(Date32Type, DateRead(patterns())),
        Scalar::Time(unit) => match unit {
            TimeUnit::Second => primitive!(Time32SecondType, time::<i32>(patterns(), unit)),
            TimeUnit::Milli => primitive!(Time32MillisecondType, time::<i32>(patterns(), unit)),
            TimeUnit::Micro => primitive!(Time64MicrosecondType, time::<i64>(patterns(), unit)),
            TimeUnit::Nano => primitive!(Time64NanosecondType, time::<i64>(patterns(), unit)),
        },
        Scalar::Timestamp { unit, .. } => {
            let read = TimestampRead { patterns: patterns(), unit };
            match unit {
                TimeUnit::Second => primitive!(TimestampSecondType, read),
                TimeUnit::Milli => primitive!(TimestampMillisecondType, read),
                TimeUnit::Micro => primitive!(TimestampMicrosecondType, read),
                TimeUnit::Nano => primitive!(TimestampNanosecondType, read),
            }
        }
        Scalar::Duration(unit) => {
            let read = DurationRead { unit, loss: Loss::new(rounding) };
            match unit {
                TimeUnit::Second => primitive!(DurationSecondType, read),
                TimeUnit::Milli => primitive!(DurationMillisecondType, read),
                TimeUnit::Micro => primitive!(DurationMicrosecondType, read),
                TimeUnit::Nano => primitive!(DurationNanosecondType, read),
            }
        }
        Scalar::Text { most } => visitor.visit(Texts::new(most, column.clip, None)),
        Scalar::Ip => visitor.visit(Texts::new(None, false, Some((ty, is_ip)))),
        Scalar::Json => visitor.visit(Texts::new(None, false, Some((ty, is_json)))),
        Scalar::Uuid => {
            visitor.visit(Uuids { bytes: Vec::new(), validity: NullBufferBuilder::new(0) })
        }
        Scalar::Geopoint => visitor.visit(Points::default()),
        Scalar::Lowcard => visitor.visit(Codes::<UInt32Type>::new(&[])),
        Scalar::Category => match code_type(column.values.len() as u64) {
            DataType::UInt8 => visitor.visit(Codes::<UInt8Type>::new(&column.values)),
            DataType::UInt16 => visitor.visit(Codes::<UInt16Type>::new(&column.values)),
            _ => visitor.visit(Codes::<UInt32Type>::new(&column.values)),
        },
    })
}

fn time<N>(patterns: PatternRead, unit: TimeUnit) -> TimeRead<N> {
    TimeRead { patterns, unit, native: PhantomData }
}

/// Values of a fixed width.
struct Primitive<A: ArrowPrimitiveType, R: ReadValue<Native = A::Native>> {
    read: R,
    values: Vec<A::Native>,
    validity: NullBufferBuilder,
    data_type: DataType,
    low: Option<(A::Native, String)>,
    high: Option<(A::Native, String)>,
}

impl<A: ArrowPrimitiveType, R: ReadValue<Native = A::Native>> Primitive<A, R> {
    fn new(read: R, column: &ColumnDecl) -> Result<Self, String> {
        let bound = |text: &Option<String>| match text {
            None => Ok(None),
            Some(text) => match read.bound(text) {
                Ok(value) => Ok(Some((value, text.clone()))),
                Err(_) => {
                    Err(format!("'{}' is not a valid {}", text.escape_debug(), column.scalar()))
                }
            },
        };
        let (low, high) = (bound(&column.low)?, bound(&column.high)?);
        let data_type = column.scalar().arrow(0);
        Ok(Primitive {
            read,
            values: Vec::new(),
            validity: NullBufferBuilder::new(0),
            data_type,
            low,
            high,
        })
    }

    /// A value that is read, and beyond a bound: it does not count as changed.
    #[cold]
    fn beyond(&self, key: &'static str, bound: &str, value: &[u8]) -> Reason {
        self.read.loss().forget(|| _ = self.read.read(value));
        Reason::Beyond { key, bound: bound.to_owned() }
    }
}

impl<A: ArrowPrimitiveType, R: ReadValue<Native = A::Native>> ShortCells for Primitive<A, R> {
    #[inline(always)]
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        let Some(native) = self.read.read_short(text, start, end) else { return false };
        let is_within = self.low.as_ref().is_none_or(|(low, _)| native >= *low)
            && self.high.as_ref().is_none_or(|(high, _)| native <= *high);
        if is_within {
            self.values.push(native);
        }
        is_within
    }

    #[inline(always)]
    fn push_nothing(&mut self, count: usize) {
        self.values.resize(self.values.len() + count, A::Native::default());
    }

    #[inline(always)]
    fn validity(&mut self) -> &mut NullBufferBuilder {
        &mut self.validity
    }
}

impl<A: ArrowPrimitiveType, R: ReadValue<Native = A::Native> + Send> Cells for Primitive<A, R> {
    fn push_run(&mut self, run: Run<'_>) -> usize {
        // What is changed is counted, and so is read once.
        if self.read.loss().rounding == Rounding::Exact { run.push(self) } else { 0 }
    }

    fn may_take(&self, token: &[u8]) -> bool {
        self.read.read(token).is_ok()
    }

    #[inline]
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let native = self.read.read(value)?;
        if let Some((low, bound)) = &self.low
            && native < *low
        {
            return Err(self.beyond("low", bound, value));
        }
        if let Some((high, bound)) = &self.high
            && native > *high
        {
            return Err(self.beyond("high", bound, value));
        }
        self.values.push(native);
        self.validity.append_non_null();
        Ok(())
    }

    #[inline]
    fn push_null(&mut self) {
        self.values.push(A::Native::default());
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.values.truncate(rows);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let capacity = self.values.len();
        let values = std::mem::replace(&mut self.values, Vec::with_capacity(capacity));
        let array = PrimitiveArray::<A>::new(ScalarBuffer::from(values), self.validity.finish());
        Arc::new(array.with_data_type(self.data_type.clone()))
    }

    fn low(&self) -> Option<i64> {
        self.low.as_ref()?.0.to_i64()
    }

    fn changed(&mut self) -> u64 {
        self.read.loss().take()
    }
}

struct Bools {
    values: BooleanBufferBuilder,
    validity: NullBufferBuilder,
}

impl ShortCells for Bools {
    #[inline(always)]
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        read_bool(&text[start..end]).map(|says| self.values.append(says)).is_ok()
    }

    #[inline(always)]
    fn push_nothing(&mut self, count: usize) {
        self.values.append_n(count, false);
    }

    #[inline(always)]
    fn validity(&mut self) -> &mut NullBufferBuilder {
        &mut self.validity
    }
}

impl Cells for Bools {
    fn push_run(&mut self, run: Run<'_>) -> usize {
        run.push(self)
    }

    fn may_take(&self, token: &[u8]) -> bool {
        read_bool(token).is_ok()
    }

    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        self.values.append(read_bool(value)?);
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.values.append(false);
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.values.truncate(rows);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        Arc::new(BooleanArray::new(self.values.finish(), self.validity.finish()))
    }
}

/// UUIDs as their 16 bytes.
struct Uuids {
    bytes: Vec<u8>,
    validity: NullBufferBuilder,
}

impl ShortCells for Uuids {
    #[inline(always)]
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        uuid(&text[start..end]).map(|bytes| self.bytes.extend_from_slice(&bytes)).is_some()
    }

    #[inline(always)]
    fn push_nothing(&mut self, count: usize) {
        self.bytes.resize(self.bytes.len() + 16 * count, 0);
    }

    #[inline(always)]
    fn validity(&mut self) -> &mut NullBufferBuilder {
        &mut self.validity
    }
}

impl Cells for Uuids {
    fn push_run(&mut self, run: Run<'_>) -> usize {
        run.push(self)
    }

    fn may_take(&self, token: &[u8]) -> bool {
        uuid(token).is_some()
    }

    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let bytes = uuid(value).ok_or(Reason::NotA(Scalar::Uuid))?;
        self.bytes.extend_from_slice(&bytes);
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.bytes.extend_from_slice(&[0; 16]);
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.bytes.truncate(16 * rows);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let bytes = std::mem::take(&mut self.bytes);
        Arc::new(FixedSizeBinaryArray::new(16, bytes.into(), self.validity.finish()))
    }
}

/// Points as latitude and longitude.
struct Points {
    lat: Vec<f64>,
    lon: Vec<f64>,
    validity: NullBufferBuilder,
}

impl Default for Points {
    fn default() -> Self {
        Points { lat: Vec::new(), lon: Vec::new(), validity: NullBufferBuilder::new(0) }
    }
}

impl Cells for Points {
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let (lat, lon) = point(value).ok_or(Reason::NotA(Scalar::Geopoint))?;
        self.lat.push(lat);
        self.lon.push(lon);
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.lat.push(0.0);
        self.lon.push(0.0);
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.lat.truncate(rows);
        self.lon.truncate(rows);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let degrees = |values: &mut Vec<f64>| -> ArrayRef {
            Arc::new(Float64Array::from(std::mem::take(values)))
        };
        let columns = vec![degrees(&mut self.lat), degrees(&mut self.lon)];
        Arc::new(StructArray::new(point_fields(), columns, self.validity.finish()))
    }
}
