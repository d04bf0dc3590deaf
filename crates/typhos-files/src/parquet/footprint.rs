//! What a reader has to read of a file to answer a question: the pages whose extremes do not rule it out.
//!
//! A reader that knows the indexes of a file skips the pages of which they say that no row is meant, in
//! all columns; it reads the dictionary of a column wherever it reads a page of it. That is what is
//! counted here, from the same indexes, as row groups are written.

use std::ops::Range;

use ::parquet::column::writer::ColumnCloseResult;
use ::parquet::file::page_index::column_index::ColumnIndexMetaData;
use arrow_schema::{DataType, SchemaRef, TimeUnit};
use typhos_core::filter::{Extremes, Filter, Page};

use super::form::leaves;

/// What a reader has to read, out of what there is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Footprint {
    /// Row groups with a page that is read, and all.
    pub groups: (u64, u64),
    /// Rows of pages that are read, and all.
    pub rows: (u64, u64),
    /// Bytes of pages and dictionaries that are read, of all columns, and of all pages.
    pub bytes: (u64, u64),
}

impl Footprint {
    /// Adds a row group: what became of each of its leaf columns, the columns being those of `rows`.
    pub(super) fn add(&mut self, leaf: &[&ColumnCloseResult], rows: &SchemaRef, filter: &Filter) {
        let count = leaf.first().map_or(0, |leaf| leaf.rows_written);
        let first_leaf = |column: usize| -> usize {
            rows.fields()[..column].iter().map(|field| leaves(field.data_type())).sum()
        };
        let pages = |column: usize| {
            let data_type = rows.field(column).data_type();
            pages(leaf[first_leaf(column)], count, data_type)
        };
        let wanted = filter.candidates(count, &pages);
        self.groups.0 += u64::from(!wanted.is_empty());
        self.groups.1 += 1;
        self.rows.0 += wanted.iter().map(|range| range.end - range.start).sum::<u64>();
        self.rows.1 += count;
        for leaf in leaf {
            self.bytes.1 += leaf.bytes_written;
            self.bytes.0 += if wanted.is_empty() { 0 } else { read(leaf, count, &wanted) };
        }
    }
}

/// The rows of each page of a column.
fn page_rows(leaf: &ColumnCloseResult, rows: u64) -> Vec<Range<u64>> {
    let Some(index) = &leaf.offset_index else { return std::iter::once(0..rows).collect() };
    let starts: Vec<u64> =
        index.page_locations().iter().map(|page| page.first_row_index.unsigned_abs()).collect();
    let ends = starts.iter().skip(1).copied().chain([rows]);
    starts.iter().copied().zip(ends).map(|(start, end)| start..end).collect()
}

/// Bytes of the pages that hold wanted rows, and of the dictionary.
fn read(leaf: &ColumnCloseResult, rows: u64, wanted: &[Range<u64>]) -> u64 {
    let Some(index) = &leaf.offset_index else { return leaf.bytes_written };
    let sizes = index
        .page_locations()
        .iter()
        .map(|page| u64::from(page.compressed_page_size.unsigned_abs()));
    let dictionary = leaf.bytes_written.saturating_sub(sizes.clone().sum());
    let is_wanted = |page: &Range<u64>| {
        wanted.iter().any(|range| range.start < page.end && page.start < range.end)
    };
    let pages = page_rows(leaf, rows).into_iter().zip(sizes);
    dictionary + pages.filter(|(page, _)| is_wanted(page)).map(|(_, size)| size).sum::<u64>()
}

/// What the indexes say of the pages of a column.
fn pages(leaf: &ColumnCloseResult, rows: u64, data_type: &DataType) -> Vec<Page> {
    let page = |(at, rows): (usize, Range<u64>)| {
        let Some(index) = &leaf.column_index else {
            return Page { rows, extremes: None, absent: None };
        };
        let absent = match index.is_null_page(at) {
            true => Some(rows.end - rows.start),
            false => index.null_count(at).map(i64::unsigned_abs),
        };
        Page { rows, extremes: extremes(index, at, data_type), absent }
    };
    page_rows(leaf, rows).into_iter().enumerate().map(page).collect()
}

/// The extremes of a page in the units of the rows, which are not always those of the file.
fn extremes(index: &ColumnIndexMetaData, at: usize, data_type: &DataType) -> Option<Extremes> {
    let ints = |low: i128, high: i128| match data_type {
        // Seconds are stored as milliseconds.
        DataType::Timestamp(TimeUnit::Second, _) | DataType::Time32(TimeUnit::Second) => {
            Extremes::Ints(low.div_euclid(1000), high.div_euclid(1000))
        }
        _ => Extremes::Ints(low, high),
    };
    let is_unsigned = data_type.is_unsigned_integer();
    Some(match index {
        ColumnIndexMetaData::BOOLEAN(index) => {
            ints((*index.min_value(at)?).into(), (*index.max_value(at)?).into())
        }
        ColumnIndexMetaData::INT32(index) => {
            let wide = |n: i32| if is_unsigned { n.cast_unsigned().into() } else { n.into() };
            ints(wide(*index.min_value(at)?), wide(*index.max_value(at)?))
        }
        ColumnIndexMetaData::INT64(index) => {
            let wide = |n: i64| if is_unsigned { n.cast_unsigned().into() } else { n.into() };
            ints(wide(*index.min_value(at)?), wide(*index.max_value(at)?))
        }
        ColumnIndexMetaData::FLOAT(index) => {
            Extremes::Floats(f64::from(*index.min_value(at)?), f64::from(*index.max_value(at)?))
        }
        ColumnIndexMetaData::DOUBLE(index) => {
            Extremes::Floats(*index.min_value(at)?, *index.max_value(at)?)
        }
        ColumnIndexMetaData::FIXED_LEN_BYTE_ARRAY(index)
            if matches!(data_type, DataType::Decimal128(..)) =>
        {
            let wide = |bytes: &[u8]| {
                let negative = bytes.first().is_some_and(|byte| byte & 0x80 != 0);
                bytes
                    .iter()
                    .fold(if negative { -1i128 } else { 0 }, |n, b| (n << 8) | i128::from(*b))
            };
            // A number that was cut tells nothing.
            let (low, high) = (index.min_value(at)?, index.max_value(at)?);
            (low.len() == high.len()).then(|| ints(wide(low), wide(high)))?
        }
        ColumnIndexMetaData::BYTE_ARRAY(index)
        | ColumnIndexMetaData::FIXED_LEN_BYTE_ARRAY(index) => {
            Extremes::Bytes(index.min_value(at)?.to_vec(), index.max_value(at)?.to_vec())
        }
        ColumnIndexMetaData::INT96(_) => return None,
    })
}
