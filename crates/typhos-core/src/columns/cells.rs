//! The cells of one column: values read and collected into an Arrow array.

use std::marker::PhantomData;
use std::sync::Arc;

use arrow_array::types::*;
use arrow_array::{
    ArrayRef, ArrowPrimitiveType, BooleanArray, DictionaryArray, PrimitiveArray, StringArray,
};
use arrow_buffer::{
    ArrowNativeType, BooleanBufferBuilder, NullBufferBuilder, OffsetBuffer, ScalarBuffer,
};
use arrow_schema::DataType;

use super::Reason;
use super::plan::arrow_type;
use super::values::{
    DateRead, DecimalRead, FloatRead, IntRead, PatternRead, Read, TimeRead, TimestampRead,
    read_bool,
};
use crate::intern::Interner;
use crate::schema::{ColumnDecl, IntType, TimeUnit, Type};

/// A column that is being filled.
pub(super) trait Cells: Send {
    /// Reads a value that is not absent. On an error nothing is appended.
    fn push(&mut self, value: &[u8]) -> Result<(), Reason>;

    fn push_null(&mut self);

    /// Takes the array of all cells since the last time.
    fn finish(&mut self) -> ArrayRef;

    /// Forgets what was kept from one array for the next.
    fn reset(&mut self) {}
}

/// Something to do with the cells of a column, whatever their type: how [`with_cells`] calls back.
pub(super) trait Visit {
    type Out;

    fn visit<C: Cells + 'static>(self, cells: C) -> Self::Out;
}

/// Makes the cells of a declared column and hands them to `visitor`.
///
/// # Errors
/// A bound that is not a value of the type.
pub(super) fn with_cells<V: Visit>(column: &ColumnDecl, visitor: V) -> Result<V::Out, String> {
    let ty = column.ty;
    let patterns = || PatternRead { patterns: column.patterns.clone(), pivot: column.pivot, ty };
    macro_rules! primitive {
        ($arrow:ty, $read:expr) => {
            visitor.visit(Primitive::<$arrow, _>::new($read, column)?)
        };
    }
    Ok(match ty {
        Type::Bool => visitor.visit(Bools {
            values: BooleanBufferBuilder::new(0),
            validity: NullBufferBuilder::new(0),
        }),
        Type::Int(int) => match int {
            IntType::Int8 => primitive!(Int8Type, IntRead::<i8>::new(int)),
            IntType::Int16 => primitive!(Int16Type, IntRead::<i16>::new(int)),
            IntType::Int32 => primitive!(Int32Type, IntRead::<i32>::new(int)),
            IntType::Int64 => primitive!(Int64Type, IntRead::<i64>::new(int)),
            IntType::UInt8 => primitive!(UInt8Type, IntRead::<u8>::new(int)),
            IntType::UInt16 => primitive!(UInt16Type, IntRead::<u16>::new(int)),
            IntType::UInt32 => primitive!(UInt32Type, IntRead::<u32>::new(int)),
            IntType::UInt64 => primitive!(UInt64Type, IntRead::<u64>::new(int)),
        },
        Type::Float32 => primitive!(Float32Type, FloatRead::<f32>::new()),
        Type::Float64 => primitive!(Float64Type, FloatRead::<f64>::new()),
        Type::Decimal { precision, scale } => {
            primitive!(Decimal128Type, DecimalRead { precision, scale })
        }
        Type::Date => primitive!(Date32Type, DateRead(patterns())),
        Type::Time(unit) => match unit {
            TimeUnit::Second => primitive!(Time32SecondType, time::<i32>(patterns(), unit)),
            TimeUnit::Milli => primitive!(Time32MillisecondType, time::<i32>(patterns(), unit)),
            TimeUnit::Micro => primitive!(Time64MicrosecondType, time::<i64>(patterns(), unit)),
            TimeUnit::Nano => primitive!(Time64NanosecondType, time::<i64>(patterns(), unit)),
        },
        Type::Timestamp { unit, .. } => {
            let read = TimestampRead { patterns: patterns(), unit };
            match unit {
                TimeUnit::Second => primitive!(TimestampSecondType, read),
                TimeUnit::Milli => primitive!(TimestampMillisecondType, read),
                TimeUnit::Micro => primitive!(TimestampMicrosecondType, read),
                TimeUnit::Nano => primitive!(TimestampNanosecondType, read),
            }
        }
        Type::Text { most } => visitor.visit(Texts::new(most)),
        Type::Lowcard => visitor.visit(Codes::<UInt32Type>::new(&[])),
        Type::Category if column.values.len() <= 256 => {
            visitor.visit(Codes::<UInt8Type>::new(&column.values))
        }
        Type::Category => visitor.visit(Codes::<UInt32Type>::new(&column.values)),
    })
}

fn time<N>(patterns: PatternRead, unit: TimeUnit) -> TimeRead<N> {
    TimeRead { patterns, unit, native: PhantomData }
}

/// Declared bounds.
#[derive(Debug)]
pub struct Bounds;

impl Bounds {
    /// Whether `text` is a value of the type, as a bound in a schema file must be.
    ///
    /// # Errors
    /// A sentence that says why it is not.
    pub fn parse(ty: Type, text: &str) -> Result<(), String> {
        struct Ignore;
        impl Visit for Ignore {
            type Out = ();
            fn visit<C: Cells + 'static>(self, _: C) {}
        }
        let mut column = ColumnDecl::new("", ty);
        column.low = Some(text.to_owned());
        with_cells(&column, Ignore)
    }
}

/// Values of a fixed width.
struct Primitive<A: ArrowPrimitiveType, R: Read<Native = A::Native>> {
    read: R,
    values: Vec<A::Native>,
    validity: NullBufferBuilder,
    data_type: DataType,
    low: Option<(A::Native, String)>,
    high: Option<(A::Native, String)>,
}

impl<A: ArrowPrimitiveType, R: Read<Native = A::Native>> Primitive<A, R> {
    fn new(read: R, column: &ColumnDecl) -> Result<Self, String> {
        let bound = |text: &Option<String>| match text {
            None => Ok(None),
            Some(text) => match read.bound(text) {
                Ok(value) => Ok(Some((value, text.clone()))),
                Err(_) => Err(format!("'{}' is no {}", text.escape_debug(), column.ty)),
            },
        };
        let (low, high) = (bound(&column.low)?, bound(&column.high)?);
        let data_type = arrow_type(column.ty, 0);
        Ok(Primitive {
            read,
            values: Vec::new(),
            validity: NullBufferBuilder::new(0),
            data_type,
            low,
            high,
        })
    }
}

impl<A: ArrowPrimitiveType, R: Read<Native = A::Native> + Send> Cells for Primitive<A, R> {
    #[inline]
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let native = self.read.read(value)?;
        if let Some((low, bound)) = &self.low
            && native < *low
        {
            return Err(Reason::Beyond { key: "low", bound: bound.clone() });
        }
        if let Some((high, bound)) = &self.high
            && native > *high
        {
            return Err(Reason::Beyond { key: "high", bound: bound.clone() });
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

    fn finish(&mut self) -> ArrayRef {
        let capacity = self.values.len();
        let values = std::mem::replace(&mut self.values, Vec::with_capacity(capacity));
        let array = PrimitiveArray::<A>::new(ScalarBuffer::from(values), self.validity.finish());
        Arc::new(array.with_data_type(self.data_type.clone()))
    }
}

struct Bools {
    values: BooleanBufferBuilder,
    validity: NullBufferBuilder,
}

impl Cells for Bools {
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        self.values.append(read_bool(value)?);
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.values.append(false);
        self.validity.append_null();
    }

    fn finish(&mut self) -> ArrayRef {
        Arc::new(BooleanArray::new(self.values.finish(), self.validity.finish()))
    }
}

/// Plain text. The values are known to be UTF-8: [`convert`](super::convert) sees to it.
struct Texts {
    most: Option<u32>,
    bytes: Vec<u8>,
    offsets: Vec<i32>,
    validity: NullBufferBuilder,
}

impl Texts {
    fn new(most: Option<u32>) -> Texts {
        Texts { most, bytes: Vec::new(), offsets: vec![0], validity: NullBufferBuilder::new(0) }
    }
}

/// Characters of a text that is valid UTF-8.
fn chars(value: &[u8]) -> usize {
    value.iter().filter(|byte| !matches!(byte, 0x80..=0xbf)).count()
}

impl Cells for Texts {
    #[inline]
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        if let Some(most) = self.most
            && value.len() > most as usize
        {
            let chars = chars(value);
            if chars > most as usize {
                return Err(Reason::TooLong { chars, most });
            }
        }
        self.bytes.extend_from_slice(value);
        self.offsets.push(self.bytes.len() as i32);
        self.validity.append_non_null();
        Ok(())
    }

    #[inline]
    fn push_null(&mut self) {
        self.offsets.push(self.bytes.len() as i32);
        self.validity.append_null();
    }

    fn finish(&mut self) -> ArrayRef {
        let offsets = std::mem::replace(&mut self.offsets, vec![0]);
        let capacity = self.bytes.len();
        let bytes = std::mem::replace(&mut self.bytes, Vec::with_capacity(capacity));
        let offsets = OffsetBuffer::new(ScalarBuffer::from(offsets));
        Arc::new(StringArray::new(offsets, bytes.into(), self.validity.finish()))
    }
}

/// Dictionary codes: of a closed list, or of whatever comes.
struct Codes<K: ArrowDictionaryKeyType> {
    words: Interner,
    closed: bool,
    codes: Vec<K::Native>,
    validity: NullBufferBuilder,
    /// The words as an array, as long as no new one has come.
    array: Option<ArrayRef>,
}

impl<K: ArrowDictionaryKeyType> Codes<K> {
    fn new(values: &[String]) -> Codes<K> {
        let mut words = Interner::new();
        for value in values {
            words.intern(value.as_bytes());
        }
        let closed = !values.is_empty();
        Codes { words, closed, codes: Vec::new(), validity: NullBufferBuilder::new(0), array: None }
    }

    #[cold]
    fn not_listed(&self, value: &[u8]) -> Reason {
        let value = String::from_utf8_lossy(value);
        let words: Vec<_> = self.words.iter().map(String::from_utf8_lossy).collect();
        Reason::NotListed {
            near: crate::nearest(&value, words.iter().map(AsRef::as_ref)).map(str::to_owned),
        }
    }
}

impl<K: ArrowDictionaryKeyType> Cells for Codes<K>
where
    K::Native: Send,
{
    #[inline]
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let code = if self.closed {
            self.words.find(value).ok_or_else(|| self.not_listed(value))?
        } else {
            let (code, is_new) = self.words.intern(value);
            if is_new {
                self.array = None;
            }
            code
        };
        self.codes.push(K::Native::usize_as(code as usize));
        self.validity.append_non_null();
        Ok(())
    }

    #[inline]
    fn push_null(&mut self) {
        self.codes.push(K::Native::default());
        self.validity.append_null();
    }

    fn finish(&mut self) -> ArrayRef {
        let words = &self.words;
        let array = self.array.get_or_insert_with(|| {
            let texts = words
                .iter()
                .map(|word| std::str::from_utf8(word).expect("cells are given valid UTF-8"));
            Arc::new(StringArray::from_iter_values(texts))
        });
        let capacity = self.codes.len();
        let codes = std::mem::replace(&mut self.codes, Vec::with_capacity(capacity));
        let keys = PrimitiveArray::<K>::new(ScalarBuffer::from(codes), self.validity.finish());
        Arc::new(DictionaryArray::<K>::new(keys, array.clone()))
    }

    fn reset(&mut self) {
        if !self.closed {
            self.words.clear();
            self.array = None;
        }
    }
}
