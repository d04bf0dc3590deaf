//! What is known of rows: counts, extremes and sums of their columns, kept while they are sent, and found
//! again where files are read back.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_buffer::{NullBuffer, i256};
use arrow_schema::{DataType, Field, Fields};
use typhos_core::columns::is_nested;
use typhos_core::schema::ColumnDecl;

use super::Of;
use crate::view::{Ints, View};

/// A value at either end of a column.
#[derive(Debug, Clone, PartialEq)]
pub enum End {
    /// Units of the type: mantissas, days, seconds or parts of them, 0 and 1.
    Int(i128),
    /// A number.
    Float(f64),
    /// A text, by its bytes; of a UUID its sixteen bytes.
    Bytes(Vec<u8>),
}

impl End {
    /// Whether it stands before another of the same kind.
    fn is_before(&self, other: &End) -> bool {
        match (self, other) {
            (End::Int(a), End::Int(b)) => a < b,
            (End::Float(a), End::Float(b)) => a.total_cmp(b).is_lt(),
            (End::Bytes(a), End::Bytes(b)) => a < b,
            _ => unreachable!("values of one column are of one kind"),
        }
    }
}

/// What is known of the values of one column.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnFacts {
    /// Values that are not null.
    pub values: u64,
    /// Those of them that are no numbers (NaN): extremes and sums are about the others.
    pub nans: u64,
    /// The smallest.
    pub low: Option<End>,
    /// The largest.
    pub high: Option<End>,
    /// The sum of units, or of lengths in bytes, as exact as a sum of so many values ever has to be; `None` of floats.
    pub sum: Option<i256>,
    /// The sum of floats.
    pub float_sum: f64,
    /// The sum of floats without their signs.
    pub float_size: f64,
    /// Of values with codes: what is known of the codes, counted from 1. It has a meaning where all codes are
    /// those of one list.
    pub codes: Option<Codes>,
    /// What is known of what nests: the elements of lists, of which the sum is how many there are, or the fields of
    /// structs.
    pub inner: Vec<ColumnFacts>,
}

/// What is known of codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Codes {
    /// The smallest.
    pub low: i128,
    /// The largest.
    pub high: i128,
    /// The sum, over all values.
    pub sum: i128,
}

/// What is known of rows.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SentFacts {
    /// How many there are.
    pub rows: u64,
    /// Their columns.
    pub columns: Vec<ColumnFacts>,
}

impl SentFacts {
    /// Facts about no rows.
    pub fn new(columns: usize) -> SentFacts {
        SentFacts { rows: 0, columns: vec![ColumnFacts::none(); columns] }
    }

    /// Adds the rows of a batch.
    pub fn add(&mut self, batch: &RecordBatch) {
        self.add_columns(batch.num_rows(), batch.schema_ref().fields(), batch.columns());
    }

    /// Adds rows, column by column. `fields` says which of them nest.
    pub fn add_columns(&mut self, rows: usize, fields: &Fields, columns: &[ArrayRef]) {
        self.rows += rows as u64;
        for ((facts, field), array) in self.columns.iter_mut().zip(fields).zip(columns) {
            facts.add(field, array, array.nulls());
        }
    }

    /// Adds what is known of other rows of some columns, from one on. How many rows there are is told with the first.
    pub fn merge_columns(&mut self, from: usize, other: SentFacts) {
        if from == 0 {
            self.rows += other.rows;
        }
        for (ours, theirs) in self.columns[from..].iter_mut().zip(other.columns) {
            ours.merge(theirs);
        }
    }

    /// Adds what is known of other rows of the same columns.
    pub fn merge(&mut self, other: SentFacts) {
        self.rows += other.rows;
        for (ours, theirs) in self.columns.iter_mut().zip(other.columns) {
            ours.merge(theirs);
        }
    }
}

impl ColumnFacts {
    /// Adds to the sum. Twice as many bits as a value has are never left, so that it is the same in whatever order values
    /// come: held against another one, it must not be missing on one side alone.
    fn add_to_sum(&mut self, value: i128) {
        self.sum = self.sum.map(|sum| sum.wrapping_add(i256::from_i128(value)));
    }

    fn widen(&mut self, low: End, high: End) {
        if self.low.as_ref().is_none_or(|known| low.is_before(known)) {
            self.low = Some(low);
        }
        if self.high.as_ref().is_none_or(|known| known.is_before(&high)) {
            self.high = Some(high);
        }
    }

    pub(super) fn merge(&mut self, other: ColumnFacts) {
        self.values += other.values;
        self.nans += other.nans;
        if let (Some(low), Some(high)) = (other.low, other.high) {
            self.widen(low, high);
        }
        self.sum = self.sum.zip(other.sum).map(|(a, b)| a.wrapping_add(b));
        self.float_sum += other.float_sum;
        self.float_size += other.float_size;
        if self.inner.is_empty() {
            self.inner = other.inner;
        } else {
            self.inner.iter_mut().zip(other.inner).for_each(|(ours, theirs)| ours.merge(theirs));
        }
        self.codes = match (self.codes, other.codes) {
            (Some(a), Some(b)) => {
                Some(Codes { low: a.low.min(b.low), high: a.high.max(b.high), sum: a.sum + b.sum })
            }
            (one, other) => one.or(other),
        };
    }

    /// What is known of what is nested, by its place in what it is in, from the column on.
    pub(crate) fn inside(&self, path: &[usize]) -> Option<&ColumnFacts> {
        path.iter().try_fold(self, |facts, at| facts.inner.get(*at))
    }

    /// Facts about no values.
    fn none() -> ColumnFacts {
        ColumnFacts { sum: Some(i256::ZERO), ..ColumnFacts::default() }
    }

    /// Adds values. `nulls` says where there are none, here or around.
    fn add(&mut self, field: &Field, array: &ArrayRef, nulls: Option<&NullBuffer>) {
        if is_nested(field) {
            return self.add_nested(field, array, nulls);
        }
        let rows = || (0..array.len()).filter(|row| nulls.is_none_or(|nulls| nulls.is_valid(*row)));
        let count = (array.len() - nulls.map_or(0, NullBuffer::null_count)) as u64;
        if count == 0 {
            return;
        }
        self.values += count;
        match View::of(array) {
            View::Bool(values) => {
                let set = match nulls {
                    Some(nulls) => (values.values() & nulls.inner()).count_set_bits(),
                    None => values.values().count_set_bits(),
                };
                let (set, all) = (set as u64, count);
                self.add_to_sum(set.into());
                self.widen(End::Int((set == all).into()), End::Int((set > 0).into()));
            }
            View::Int(ints) | View::Decimal(ints, _) | View::Time(ints, _) => match ints {
                Ints::I8(values) => self.narrow(values, nulls),
                Ints::I16(values) => self.narrow(values, nulls),
                Ints::I32(values) => self.narrow(values, nulls),
                Ints::I64(values) => self.narrow(values, nulls),
                Ints::U8(values) => self.narrow(values, nulls),
                Ints::U16(values) => self.narrow(values, nulls),
                Ints::U32(values) => self.narrow(values, nulls),
                Ints::U64(values) => self.ints(rows().map(|row| values[row].into())),
                Ints::I128(values) => self.ints(rows().map(|row| values[row])),
            },
            View::Date(days) => self.narrow(days, nulls),
            View::Timestamp(units, ..) => self.narrow(units, nulls),
            View::Float32(values) => {
                self.floats(rows().map(|row| f64::from(values[row])));
            }
            View::Float64(values) => self.floats(rows().map(|row| values[row])),
            View::Point(latitudes, _) => self.floats(rows().map(|row| latitudes[row])),
            View::Text(texts) => self.bytes(rows().map(|row| (texts.value(row).as_bytes(), 1))),
            View::Uuid(uuids) => self.bytes(rows().map(|row| (uuids.value(row), 1))),
            View::Coded(codes, texts) => {
                let mut counts = vec![0u64; texts.len()];
                let mut count = |code: usize| counts[code] += 1;
                match codes {
                    Ints::U8(codes) => rows().for_each(|row| count(codes[row].into())),
                    Ints::U16(codes) => rows().for_each(|row| count(codes[row].into())),
                    codes => rows().for_each(|row| count(codes.narrow(row) as usize)),
                }
                let used = counts.iter().enumerate().filter(|(_, count)| **count > 0);
                self.merge_codes(used.clone().map(|(code, count)| (code as i128 + 1, *count)));
                self.bytes(used.map(|(code, count)| (texts.value(code).as_bytes(), *count)));
            }
        }
    }

    /// Adds lists or structs: how many there are, and what is in them. Nothing stands in lists that are null.
    fn add_nested(&mut self, field: &Field, array: &ArrayRef, nulls: Option<&NullBuffer>) {
        self.values += (array.len() - nulls.map_or(0, NullBuffer::null_count)) as u64;
        match field.data_type() {
            DataType::List(item) => {
                self.inner.resize_with(1, ColumnFacts::none);
                let list = array.as_list::<i32>();
                let offsets = list.value_offsets();
                let (first, last) = (offsets[0], offsets[offsets.len() - 1]);
                let items = list.values().slice(first as usize, (last - first) as usize);
                self.add_to_sum((last - first).into());
                self.inner[0].add(item, &items, items.nulls());
            }
            DataType::Struct(fields) => {
                self.inner.resize_with(fields.len(), ColumnFacts::none);
                let columns = array.as_struct().columns().iter();
                for ((facts, field), column) in self.inner.iter_mut().zip(fields).zip(columns) {
                    let nulls = NullBuffer::union(nulls, column.nulls());
                    facts.add(field, column, nulls.as_ref());
                }
            }
            _ => unreachable!("only lists and structs nest"),
        }
    }

    /// What differs from what was found, with where it is from the name of the column on, and how many facts were
    /// compared.
    pub(crate) fn differences(
        &self,
        found: &ColumnFacts,
        path: &str,
        compared: &mut usize,
        wrong: &mut Vec<String>,
    ) {
        // Both sides are facts of ours, so every one of them can be compared as it is.
        let pairs = [
            ("number of values", self.values == found.values && self.nans == found.nans),
            ("smallest value", self.low == found.low),
            ("largest value", self.high == found.high),
            ("sum", self.sum == found.sum),
            ("nesting", self.inner.len() == found.inner.len()),
        ];
        for (what, is_same) in &pairs[..4 + usize::from(!self.inner.is_empty())] {
            *compared += 1;
            if !is_same {
                wrong.push(format!("'{path}': the {what} is another one than was sent"));
            }
        }
        for (at, (sent, found)) in self.inner.iter().zip(&found.inner).enumerate() {
            sent.differences(found, &format!("{path}[{at}]"), compared, wrong);
        }
    }

    /// The same facts by the codes of a list.
    pub(super) fn by_list(&self, codes: Codes, of: Of, column: &ColumnDecl) -> ColumnFacts {
        let end = |code: i128| match of {
            Of::ListOrder => {
                let value = usize::try_from(code - 1).ok().and_then(|at| column.values.get(at));
                End::Bytes(value.map_or(Vec::new(), |value| value.clone().into_bytes()))
            }
            _ => End::Int(code),
        };
        ColumnFacts {
            low: Some(end(codes.low)),
            high: Some(end(codes.high)),
            sum: Some(i256::from_i128(codes.sum)),
            ..self.clone()
        }
    }

    fn merge_codes(&mut self, codes: impl Iterator<Item = (i128, u64)>) {
        for (code, count) in codes {
            let known = self.codes.get_or_insert(Codes { low: code, high: code, sum: 0 });
            known.low = known.low.min(code);
            known.high = known.high.max(code);
            known.sum += code * i128::from(count);
        }
    }

    /// Integers of at most 64 bits.
    fn narrow<N: Copy + Ord + Into<i64>>(&mut self, values: &[N], nulls: Option<&NullBuffer>) {
        let mut some = Narrow { low: i64::MAX, high: i64::MIN, sum: 0 };
        match nulls {
            None => values.chunks(STRETCH).for_each(|values| some.add_all(values)),
            Some(nulls) => {
                let mut rows = nulls.valid_indices().peekable();
                while rows.peek().is_some() {
                    some.add(rows.by_ref().take(STRETCH).map(|row| values[row].into()));
                }
            }
        }
        self.add_to_sum(some.sum);
        self.widen(End::Int(some.low.into()), End::Int(some.high.into()));
    }

    /// Integers of up to 128 bits, nearly all of which need half as many.
    fn ints(&mut self, values: impl Iterator<Item = i128>) {
        let (mut low, mut high) = (i128::MAX, i128::MIN);
        let mut narrow = Narrow { low: i64::MAX, high: i64::MIN, sum: 0 };
        for value in values {
            match i64::try_from(value) {
                Ok(value) => {
                    narrow.low = narrow.low.min(value);
                    narrow.high = narrow.high.max(value);
                    narrow.sum += i128::from(value);
                }
                Err(_) => {
                    (low, high) = (low.min(value), high.max(value));
                    self.add_to_sum(value);
                }
            }
        }
        if narrow.low <= narrow.high {
            (low, high) = (low.min(narrow.low.into()), high.max(narrow.high.into()));
        }
        self.add_to_sum(narrow.sum);
        self.widen(End::Int(low), End::Int(high));
    }

    fn floats(&mut self, values: impl Iterator<Item = f64>) {
        let mut ends: Option<(f64, f64)> = None;
        self.sum = None;
        for value in values {
            if value.is_nan() {
                self.nans += 1;
                continue;
            }
            let (low, high) = ends.get_or_insert((value, value));
            if value.total_cmp(low).is_lt() {
                *low = value;
            }
            if value.total_cmp(high).is_gt() {
                *high = value;
            }
            self.float_sum += value;
            self.float_size += value.abs();
        }
        if let Some((low, high)) = ends {
            self.widen(End::Float(low), End::Float(high));
        }
    }

    /// Texts, and how often each of them stands there.
    fn bytes<'t>(&mut self, values: impl Iterator<Item = (&'t [u8], u64)>) {
        let (mut low, mut high): (Option<&[u8]>, Option<&[u8]>) = (None, None);
        // Nearly all differ from the ends in their first bytes.
        let (mut low_head, mut high_head) = (u64::MAX, 0);
        let mut bytes = 0;
        for (value, count) in values {
            let head = head(value);
            if head <= low_head && low.is_none_or(|low| value < low) {
                (low, low_head) = (Some(value), head);
            }
            if head >= high_head && high.is_none_or(|high| value > high) {
                (high, high_head) = (Some(value), head);
            }
            bytes += value.len() as i128 * i128::from(count);
        }
        self.add_to_sum(bytes);
        if let (Some(low), Some(high)) = (low, high) {
            self.widen(End::Bytes(start(low)), End::Bytes(start(high)));
        }
    }
}

/// The first eight bytes of a text as a number, with zeros behind a shorter one. Texts are in the order of their heads where
/// those differ.
#[inline(always)]
fn head(text: &[u8]) -> u64 {
    match text.first_chunk() {
        Some(bytes) => u64::from_be_bytes(*bytes),
        None => text
            .iter()
            .zip((0..8).rev())
            .fold(0, |head, (byte, at)| head | u64::from(*byte) << (8 * at)),
    }
}

/// Bytes of a text that extremes are told apart by: no more of them are kept.
pub const KEPT_BYTES: usize = 1 << 16;

/// The start of a text. Starts are in the order of their texts.
fn start(text: &[u8]) -> Vec<u8> {
    text[..text.len().min(KEPT_BYTES)].to_vec()
}

/// Values that are added up before the sum is carried into 128 bits: with a carry for each, facts took a
/// tenth of a load into a file.
const STRETCH: usize = 1 << 16;

/// What is known of some integers.
struct Narrow {
    low: i64,
    high: i64,
    sum: i128,
}

impl Narrow {
    /// Adds at most [`STRETCH`] values, of which none is missing: in loops so plain that several are taken at once.
    #[inline(always)]
    fn add_all<N: Copy + Ord + Into<i64>>(&mut self, values: &[N]) {
        let Some(first) = values.first().copied() else { return };
        let low = values.iter().fold(first, |low, value| low.min(*value));
        let high = values.iter().fold(first, |high, value| high.max(*value));
        self.low = self.low.min(low.into());
        self.high = self.high.max(high.into());
        if size_of::<N>() < size_of::<i64>() {
            self.sum += i128::from(values.iter().fold(0i64, |sum, value| sum + (*value).into()));
        } else {
            self.add(values.iter().map(|value| (*value).into()));
        }
    }

    /// Adds at most [`STRETCH`] values.
    #[inline(always)]
    fn add(&mut self, values: impl Iterator<Item = i64>) {
        // In halves of 32 bits, so many of them stay within 64.
        let (mut upper, mut lower) = (0i64, 0i64);
        for value in values {
            self.low = self.low.min(value);
            self.high = self.high.max(value);
            upper += value >> 32;
            lower += value & 0xffff_ffff;
        }
        self.sum += (i128::from(upper) << 32) + i128::from(lower);
    }
}

#[cfg(test)]
pub(super) mod tests;
