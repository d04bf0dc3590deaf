//! The two answers: which rows are meant, and which rows of a file could be.

use std::ops::{Bound, Range, RangeBounds};

use arrow_array::cast::AsArray;
use arrow_array::types::{Float32Type, Float64Type};
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, RecordBatch};
use arrow_schema::DataType;

use super::allowed::Allowed;
use super::{Filter, Fits, Node, Test};
use crate::columns::whole::each_whole;

/// The smallest and largest value of some rows. Of bytes both may be cut, the largest upwards.
#[derive(Debug, Clone, PartialEq)]
pub enum Extremes {
    /// Integers, decimals at their scale, days, units of time, 0 and 1.
    Ints(i128, i128),
    /// Floats.
    Floats(f64, f64),
    /// Texts by their bytes, and UUIDs.
    Bytes(Vec<u8>, Vec<u8>),
}

/// What is known of some rows of a column.
#[derive(Debug, Clone, PartialEq)]
pub struct Page {
    /// The rows, counted from the start of their group.
    pub rows: Range<u64>,
    /// Their extremes, where they are known.
    pub extremes: Option<Extremes>,
    /// How many of them are absent, where that is known.
    pub absent: Option<u64>,
}

impl Filter {
    /// For each row of a batch whether it is meant.
    pub fn matches(&self, batch: &RecordBatch) -> Vec<bool> {
        self.root.matches(batch)
    }

    /// The rows, out of so many, that could be meant as far as `pages` tell of a column. In order, and no
    /// two of them touch.
    pub fn candidates(&self, rows: u64, pages: &dyn Fn(usize) -> Vec<Page>) -> Vec<Range<u64>> {
        self.root.candidates(rows, pages)
    }
}

impl Node {
    fn matches(&self, batch: &RecordBatch) -> Vec<bool> {
        let join = |parts: &[Node], with: fn(bool, bool) -> bool| {
            let all = parts.iter().map(|part| part.matches(batch));
            let joined = all.reduce(|a, b| a.into_iter().zip(b).map(|(a, b)| with(a, b)).collect());
            joined.unwrap_or_default()
        };
        match self {
            Node::All(parts) => join(parts, |a, b| a && b),
            Node::Any(parts) => join(parts, |a, b| a || b),
            Node::Test(test) => test.matches(&test.term.values(batch.column(test.term.column))),
        }
    }

    fn candidates(&self, rows: u64, pages: &dyn Fn(usize) -> Vec<Page>) -> Vec<Range<u64>> {
        let join = |parts: &[Node], with: Joined| {
            let all = parts.iter().map(|part| part.candidates(rows, pages));
            all.reduce(|a, b| with(&a, &b)).unwrap_or_default()
        };
        match self {
            Node::All(parts) => join(parts, intersection),
            Node::Any(parts) => join(parts, union),
            // What pages say of a column says nothing of what is worked out of it.
            Node::Test(test) if !test.term.is_column() => {
                union(std::slice::from_ref(&(0..rows)), &[])
            }
            Node::Test(test) => {
                let fitting =
                    pages(test.term.column).into_iter().filter(|page| test.fits.may_be_in(page));
                let ranges: Vec<Range<u64>> =
                    fitting.map(|page| page.rows.start..page.rows.end.min(rows)).collect();
                union(&ranges, &[])
            }
        }
    }
}

/// Makes one list of ranges of two.
type Joined = fn(&[Range<u64>], &[Range<u64>]) -> Vec<Range<u64>>;

/// All rows of two lists of ranges.
fn union(a: &[Range<u64>], b: &[Range<u64>]) -> Vec<Range<u64>> {
    let mut ranges: Vec<Range<u64>> =
        a.iter().chain(b).filter(|r| !r.is_empty()).cloned().collect();
    ranges.sort_by_key(|range| range.start);
    let mut all: Vec<Range<u64>> = Vec::new();
    for range in ranges {
        match all.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => all.push(range),
        }
    }
    all
}

/// The rows that are in both lists of ranges.
fn intersection(a: &[Range<u64>], b: &[Range<u64>]) -> Vec<Range<u64>> {
    let pairs =
        a.iter().flat_map(|a| b.iter().map(move |b| a.start.max(b.start)..a.end.min(b.end)));
    union(&pairs.collect::<Vec<_>>(), &[])
}

impl Fits {
    /// Whether a value that fits may stand among some rows.
    fn may_be_in(&self, page: &Page) -> bool {
        let rows = page.rows.end - page.rows.start;
        let allowed = match self {
            Fits::Absent => return page.absent != Some(0),
            Fits::Present => return page.absent != Some(rows),
            Fits::Values(allowed) => allowed,
        };
        if page.absent == Some(rows) {
            return false;
        }
        match (&page.extremes, allowed) {
            (Some(Extremes::Ints(least, most)), Allowed::Ints(ranges)) => {
                ranges.iter().any(|(low, high)| low <= most && high >= least)
            }
            (Some(Extremes::Floats(least, most)), Allowed::Floats(ranges)) => {
                ranges.iter().any(|(low, high)| low <= most && high >= least)
            }
            (Some(Extremes::Bytes(least, most)), Allowed::Bytes(ranges)) => {
                ranges.iter().any(|(low, high)| overlaps(low, high, least, most))
            }
            (Some(Extremes::Bytes(least, most)), Allowed::Listed(values)) => {
                let mut meant = values.iter().filter(|(_, is_in)| *is_in);
                meant.any(|(text, _)| (&least[..]..=&most[..]).contains(&text.as_bytes()))
            }
            _ => true,
        }
    }
}

fn overlaps(low: &Bound<Vec<u8>>, high: &Bound<Vec<u8>>, least: &[u8], most: &[u8]) -> bool {
    let starts = match low {
        Bound::Unbounded => true,
        Bound::Included(low) => &low[..] <= most,
        Bound::Excluded(low) => &low[..] < most,
    };
    starts
        && match high {
            Bound::Unbounded => true,
            Bound::Included(high) => &high[..] >= least,
            Bound::Excluded(high) => &high[..] > least,
        }
}

impl Test {
    fn matches(&self, array: &ArrayRef) -> Vec<bool> {
        let rows = 0..array.len();
        match &self.fits {
            Fits::Absent => rows.map(|row| array.is_null(row)).collect(),
            Fits::Present => rows.map(|row| array.is_valid(row)).collect(),
            Fits::Values(allowed) => allowed.matches(array),
        }
    }
}

impl Allowed {
    fn matches(&self, array: &ArrayRef) -> Vec<bool> {
        match self {
            Allowed::Ints(ranges) => {
                let is_in =
                    |value: i128| ranges.iter().any(|(low, high)| (*low..=*high).contains(&value));
                ints(array, is_in)
            }
            Allowed::Floats(ranges) => {
                let is_in =
                    |value: f64| ranges.iter().any(|(low, high)| (*low..=*high).contains(&value));
                match array.data_type() {
                    DataType::Float32 => {
                        primitive::<Float32Type>(array, |value| is_in(f64::from(value)))
                    }
                    _ => primitive::<Float64Type>(array, is_in),
                }
            }
            Allowed::Bytes(ranges) => {
                let is_in = |value: &[u8]| {
                    ranges.iter().any(|(low, high)| {
                        let ends =
                            (low.as_ref().map(Vec::as_slice), high.as_ref().map(Vec::as_slice));
                        <(Bound<&[u8]>, Bound<&[u8]>) as RangeBounds<[u8]>>::contains(&ends, value)
                    })
                };
                texts(array, is_in)
            }
            Allowed::Listed(values) => texts(array, |value| {
                values.iter().any(|(text, is_in)| *is_in && text.as_bytes() == value)
            }),
        }
    }
}

fn primitive<A: ArrowPrimitiveType>(
    array: &ArrayRef,
    is_in: impl Fn(A::Native) -> bool,
) -> Vec<bool> {
    array.as_primitive::<A>().iter().map(|value| value.is_some_and(&is_in)).collect()
}

fn ints(array: &ArrayRef, is_in: impl Fn(i128) -> bool) -> Vec<bool> {
    let mut fits = Vec::with_capacity(array.len());
    each_whole(array, |value| fits.push(value.is_some_and(&is_in)));
    fits
}

/// Texts and UUIDs by their bytes; those of a dictionary are looked at once each.
fn texts(array: &ArrayRef, is_in: impl Fn(&[u8]) -> bool) -> Vec<bool> {
    match array.data_type() {
        DataType::Dictionary(..) => {
            let dictionary = array.as_any_dictionary();
            let values = dictionary.values().as_string::<i32>();
            let is_in: Vec<bool> =
                values.iter().map(|value| value.is_some_and(|v| is_in(v.as_bytes()))).collect();
            if is_in.is_empty() {
                return vec![false; array.len()];
            }
            let codes = dictionary.normalized_keys();
            let fits = codes.into_iter().enumerate();
            fits.map(|(row, code)| array.is_valid(row) && is_in[code]).collect()
        }
        DataType::FixedSizeBinary(_) => {
            array.as_fixed_size_binary().iter().map(|value| value.is_some_and(&is_in)).collect()
        }
        _ => {
            let values = array.as_string::<i32>().iter();
            values.map(|value| value.is_some_and(|value| is_in(value.as_bytes()))).collect()
        }
    }
}
