//! What the indexes of a file say of the pages of a column, in the units of its rows.

use std::ops::Range;

use ::parquet::file::page_index::column_index::ColumnIndexMetaData;
use ::parquet::file::page_index::offset_index::OffsetIndexMetaData;
use arrow_schema::{DataType, TimeUnit};
use typhos_core::filter::{Extremes, Page};

/// The rows of each page of a column; all of them where there is no index.
pub fn page_rows(index: Option<&OffsetIndexMetaData>, rows: u64) -> Vec<Range<u64>> {
    let Some(index) = index else { return std::iter::once(0..rows).collect() };
    let starts: Vec<u64> =
        index.page_locations().iter().map(|page| page.first_row_index.unsigned_abs()).collect();
    let ends = starts.iter().skip(1).copied().chain([rows]);
    starts.iter().copied().zip(ends).map(|(start, end)| start..end).collect()
}

/// What is known of the pages of a column of so many rows, whose values are read as `data_type`.
pub fn pages(
    offsets: Option<&OffsetIndexMetaData>,
    values: Option<&ColumnIndexMetaData>,
    rows: u64,
    data_type: &DataType,
) -> Vec<Page> {
    let page = |(at, rows): (usize, Range<u64>)| {
        let Some(index) = values else { return Page { rows, extremes: None, absent: None } };
        let absent = match index.is_null_page(at) {
            true => Some(rows.end.saturating_sub(rows.start)),
            false => index.null_count(at).map(i64::unsigned_abs),
        };
        Page { rows, extremes: extremes(index, at, data_type), absent }
    };
    page_rows(offsets, rows).into_iter().enumerate().map(page).collect()
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
