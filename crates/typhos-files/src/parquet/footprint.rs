//! What a reader has to read of a file to answer a question: the pages whose extremes do not rule it out.
//!
//! A reader that knows the indexes of a file skips the pages of which they say that no row is meant, in
//! all columns; it reads the dictionary of a column wherever it reads a page of it. That is what is
//! counted here, from the same indexes, as row groups are written.

use std::ops::Range;

use ::parquet::column::writer::ColumnCloseResult;
use arrow_schema::SchemaRef;
use typhos_core::filter::Filter;

use super::form::leaves;
use super::pages::{page_rows, pages};

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
            let (data_type, leaf) = (rows.field(column).data_type(), leaf[first_leaf(column)]);
            pages(leaf.offset_index.as_ref(), leaf.column_index.as_ref(), count, data_type)
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
    let pages = page_rows(Some(index), rows).into_iter().zip(sizes);
    dictionary + pages.filter(|(page, _)| is_wanted(page)).map(|(_, size)| size).sum::<u64>()
}
