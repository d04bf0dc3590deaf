//! Which columns of a row group are written as codes for a dictionary, and which directly.
//!
//! A dictionary pays where values come again. Where they do not, it is written beside codes that are
//! nearly as long as the values: numbers are smaller as differences to the one before
//! (DELTA_BINARY_PACKED), texts one after the other with their lengths apart
//! (DELTA_LENGTH_BYTE_ARRAY), floats byte by byte (BYTE_STREAM_SPLIT). What comes of a column is
//! estimated from its first rows: how many distinct values the row group will have, and how long the
//! differences are.

use std::hash::Hash;

use ::parquet::basic::Encoding;
use ::parquet::file::properties::WriterPropertiesBuilder;
use ::parquet::schema::types::ColumnPath;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType};
use arrow_schema::{DataType, Field, Schema as ArrowSchema};
use typhos_core::columns::is_nested;

use super::form::Kind;
use super::packing::{difference_bytes, stay_as_long};

/// How many rows of a row group that is expected to have so many are looked at: of short ones, which files of hundreds of columns
/// have, looking at all of them took a tenth of a load.
pub(super) fn sample(rows: u64) -> usize {
    (rows / 4).clamp(1024, 8192) as usize
}

/// Bytes of a dictionary beyond which the writer gives it up.
const MOST_DICTIONARY: f64 = (1 << 20) as f64;

/// What compression leaves of texts, roughly; of packed numbers it leaves nearly all.
const TEXT_LEFT: f64 = 0.5;

/// Properties for columns that are written directly.
pub(super) fn direct(
    mut builder: WriterPropertiesBuilder,
    schema: &ArrowSchema,
) -> WriterPropertiesBuilder {
    builder = builder.set_dictionary_enabled(false);
    let mut say = |path: &[String], data_type: &DataType| {
        let encoding = match data_type {
            DataType::Utf8 => Encoding::DELTA_LENGTH_BYTE_ARRAY,
            DataType::Float32 | DataType::Float64 => Encoding::BYTE_STREAM_SPLIT,
            DataType::Decimal32(..) | DataType::Decimal64(..) => Encoding::DELTA_BINARY_PACKED,
            // Decimals and UUIDs of sixteen bytes, bools, and dictionaries that are no codes here.
            DataType::Decimal128(..) | DataType::Boolean | DataType::FixedSizeBinary(_) => return,
            DataType::Dictionary(..) => Encoding::DELTA_LENGTH_BYTE_ARRAY,
            _ => Encoding::DELTA_BINARY_PACKED,
        };
        let taken = std::mem::take(&mut builder);
        builder = taken.set_column_encoding(ColumnPath::new(path.to_vec()), encoding);
    };
    for field in schema.fields() {
        each_leaf(field, &mut Vec::new(), &mut say);
    }
    builder
}

/// Hands the path of each leaf in a file to `each`, with its type.
fn each_leaf(field: &Field, path: &mut Vec<String>, each: &mut impl FnMut(&[String], &DataType)) {
    path.push(field.name().clone());
    match field.data_type() {
        DataType::Struct(inner) => inner.iter().for_each(|field| each_leaf(field, path, each)),
        DataType::List(item) => {
            path.push("list".into());
            each_leaf(item, path, each);
            path.pop();
        }
        data_type => each(path, data_type),
    }
    path.pop();
}

/// With more nulls among the rows than this share it matters where they are, which is compressed, too.
const FEW_NULLS: f64 = 1.0 / 32.0;

/// How a column of about `rows` rows that starts like this is best written. The first rows are given as they are stored.
pub(super) fn best(field: &Field, array: &ArrayRef, rows: u64) -> Kind {
    if array.len() == array.null_count() {
        return Kind::AsCodes;
    }
    let has_few_nulls = array.null_count() as f64 <= FEW_NULLS * array.len() as f64;
    let rows = rows as f64 * (1.0 - array.null_count() as f64 / array.len() as f64);
    let of_numbers = |values: &[i64], width| match numbers(values, width, rows) {
        true if has_few_nulls && stay_as_long(values) => Kind::Bare,
        is_direct => kind_of(is_direct),
    };
    macro_rules! numbers {
        ($arrow:ty, $width:expr) => {
            of_numbers(&primitive::<$arrow>(array), $width)
        };
    }
    let is_direct = match field.data_type() {
        DataType::Int8 => return numbers!(Int8Type, 4.0),
        DataType::Int16 => return numbers!(Int16Type, 4.0),
        DataType::Int32 => return numbers!(Int32Type, 4.0),
        DataType::Int64 => return numbers!(Int64Type, 8.0),
        DataType::UInt8 => return numbers!(UInt8Type, 4.0),
        DataType::UInt16 => return numbers!(UInt16Type, 4.0),
        DataType::UInt32 => return numbers!(UInt32Type, 4.0),
        DataType::UInt64 => {
            let values = array.as_primitive::<UInt64Type>().iter().flatten();
            return of_numbers(&values.map(u64::cast_signed).collect::<Vec<_>>(), 8.0);
        }
        DataType::Decimal32(..) => return numbers!(Decimal32Type, 4.0),
        DataType::Decimal64(..) => return numbers!(Decimal64Type, 8.0),
        DataType::Date32 => return numbers!(Date32Type, 4.0),
        DataType::Time32(_) => return numbers!(Time32MillisecondType, 4.0),
        DataType::Time64(_) => return of_numbers(&as_i64(array), 8.0),
        DataType::Timestamp(..) => return of_numbers(&as_i64(array), 8.0),
        DataType::Float32 => {
            let values = array.as_primitive::<Float32Type>().iter().flatten();
            floats(&values.map(|value| u64::from(value.to_bits())).collect::<Vec<_>>(), 4.0, rows)
        }
        DataType::Float64 => {
            let values = array.as_primitive::<Float64Type>().iter().flatten();
            floats(&values.map(f64::to_bits).collect::<Vec<_>>(), 8.0, rows)
        }
        DataType::Struct(_) if !is_nested(field) => {
            let first = array.as_struct().column(0).as_primitive::<Float64Type>();
            floats(
                &first.values().iter().map(|value| value.to_bits()).collect::<Vec<_>>(),
                8.0,
                rows,
            )
        }
        DataType::Utf8 => {
            let values: Vec<&str> = array.as_string::<i32>().iter().flatten().collect();
            let length = values.iter().map(|v| v.len()).sum::<usize>() as f64 / values.len() as f64;
            let found = Found::of(&values, rows);
            let direct = rows * (TEXT_LEFT * length + 0.25);
            found.as_codes(length + 4.0, TEXT_LEFT) > direct
        }
        DataType::FixedSizeBinary(width) => {
            let values: Vec<&[u8]> = array.as_fixed_size_binary().iter().flatten().collect();
            let width = f64::from(*width);
            Found::of(&values, rows).as_codes(width, 1.0) > rows * width
        }
        _ => false,
    };
    kind_of(is_direct)
}

fn kind_of(is_direct: bool) -> Kind {
    if is_direct { Kind::Direct } else { Kind::AsCodes }
}

fn primitive<A: ArrowPrimitiveType>(array: &ArrayRef) -> Vec<i64>
where
    A::Native: Into<i64>,
{
    array.as_primitive::<A>().iter().flatten().map(Into::into).collect()
}

/// The units of times and timestamps, whichever they are.
fn as_i64(array: &ArrayRef) -> Vec<i64> {
    match array.data_type() {
        DataType::Time64(arrow_schema::TimeUnit::Microsecond) => {
            primitive::<Time64MicrosecondType>(array)
        }
        DataType::Time64(_) => primitive::<Time64NanosecondType>(array),
        DataType::Timestamp(arrow_schema::TimeUnit::Millisecond, _) => {
            primitive::<TimestampMillisecondType>(array)
        }
        DataType::Timestamp(arrow_schema::TimeUnit::Microsecond, _) => {
            primitive::<TimestampMicrosecondType>(array)
        }
        _ => primitive::<TimestampNanosecondType>(array),
    }
}

/// Whether numbers of so many bytes are shorter as differences than as codes.
fn numbers(values: &[i64], width: f64, rows: f64) -> bool {
    let found = Found::with(distinct(values), values, rows);
    found.as_codes(width, 1.0) > difference_bytes(values) * rows
}

fn floats(values: &[u64], width: f64, rows: f64) -> bool {
    // Of floats byte by byte the sign and exponent are left out by compression, or nearly.
    Found::of(values, rows).as_codes(width, 1.0) > rows * (width - 1.0)
}

/// How many of some numbers are distinct. Those of a small range have a bit each: of hundreds of columns, which have few
/// rows, a set of numbers took a tenth of a load.
fn distinct(values: &[i64]) -> usize {
    let (least, most) = (values.iter().min(), values.iter().max());
    let Some((least, most)) = least.zip(most) else { return 0 };
    let range = most.wrapping_sub(*least).cast_unsigned();
    if range >= 1 << 16 {
        let mut seen: foldhash::HashSet<&i64> = foldhash::HashSet::default();
        seen.reserve(values.len());
        seen.extend(values);
        return seen.len();
    }
    let mut seen = vec![0u64; range as usize / 64 + 1];
    for value in values {
        let at = value.wrapping_sub(*least) as usize;
        seen[at / 64] |= 1 << (at % 64);
    }
    seen.iter().map(|bits| bits.count_ones() as usize).sum()
}

/// What is to be expected of a row group.
struct Found {
    rows: f64,
    /// Distinct values.
    distinct: f64,
    /// Rows whose value is another than that before, out of all.
    changes: f64,
}

impl Found {
    fn of<T: Hash + Eq>(values: &[T], rows: f64) -> Found {
        Found::with(values.iter().collect::<foldhash::HashSet<_>>().len(), values, rows)
    }

    /// Of values of which so many are distinct.
    fn with<T: PartialEq>(seen: usize, values: &[T], rows: f64) -> Found {
        let seen = seen as f64;
        let changes = values.windows(2).filter(|pair| pair[0] != pair[1]).count() + 1;
        let n = values.len() as f64;
        Found { rows, distinct: expected_distinct(n, seen, rows), changes: changes as f64 / n }
    }

    /// Bytes of a dictionary and its codes; of values of so many bytes, of which compression leaves so
    /// much.
    fn as_codes(&self, width: f64, left: f64) -> f64 {
        if self.distinct * width > MOST_DICTIONARY {
            return f64::INFINITY;
        }
        let packed = self.rows * self.distinct.max(1.0).log2().ceil() / 8.0;
        let runs = self.rows * self.changes * 3.0;
        self.distinct * width * left + packed.min(runs)
    }
}

/// Distinct values to expect in `rows` rows, where `n` of them have `seen`: if values come with equal
/// chances out of D, n rows have D (1 - exp(-n / D)) of them, which is solved for D by halving.
fn expected_distinct(n: f64, seen: f64, rows: f64) -> f64 {
    if seen >= n || rows <= n {
        return seen.max(rows.min(n) * seen / n).max(if seen >= n { rows } else { 0.0 });
    }
    let drawn = |d: f64, n: f64| d * -(-n / d).exp_m1();
    let (mut low, mut high) = (seen, 1e12);
    for _ in 0..80 {
        let middle = (low * high).sqrt();
        if drawn(middle, n) < seen { low = middle } else { high = middle }
    }
    drawn(high, rows).min(rows)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn distinct_numbers_are_counted_in_any_range() {
        for values in [
            &[][..],
            &[5],
            &[-3, 60_000, -3, 7],
            &[i64::MIN, 0, i64::MAX, 0],
            &[0, 63, 64, 65_535, 65_536],
        ] {
            let set: std::collections::HashSet<_> = values.iter().collect();
            assert_eq!(distinct(values), set.len(), "{values:?}");
        }
    }

    #[test]
    fn distinct_values_are_expected_from_the_first_rows() {
        // A thousand values, a draw each: 8192 rows have seen all of them.
        assert!((expected_distinct(8192.0, 999.0, 400_000.0) - 999.0).abs() < 2.0);
        // Seven thousand values: 8192 rows have seen two thirds of them.
        let seen = 7300.0 * -(-8192.0f64 / 7300.0).exp_m1();
        assert!((expected_distinct(8192.0, seen, 400_000.0) - 7300.0).abs() < 10.0);
        assert_eq!(expected_distinct(8192.0, 8192.0, 400_000.0), 400_000.0, "all distinct");
        assert_eq!(expected_distinct(100.0, 40.0, 100.0), 40.0, "all rows are seen");
    }

    #[test]
    fn numbers_that_count_are_differences_and_numbers_that_come_again_are_codes() {
        let rising: Vec<i64> = (0..8192).collect();
        assert!(numbers(&rising, 4.0, 400_000.0));
        let few: Vec<i64> = (0..8192).map(|n| n * 7919 % 40 * 1_000_003).collect();
        assert!(!numbers(&few, 8.0, 400_000.0));
        let mut state = 0x9e37_79b9_7f4a_7c15u64;
        let mut draw = || {
            // Marsaglia's xorshift.
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.cast_signed()
        };
        let random: Vec<i64> = (0..8192).map(|_| draw()).collect();
        assert!(
            numbers(&random, 8.0, 400_000.0),
            "a dictionary of random numbers is given up anyway"
        );
        assert!(difference_bytes(&rising) < 0.1);
        assert!(difference_bytes(&random) > 7.5);
    }
}
