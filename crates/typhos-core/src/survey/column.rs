//! The facts of one column, and the two ways of watching it.

use super::distinct::{DistinctTable, DistinctValue};
use super::{Facts, Place};
use crate::intern::Key;
use crate::readings;

/// What is known of one column.
#[derive(Debug, Clone)]
pub struct ColumnFacts {
    /// Facts of all values that are not in the table.
    direct: Facts,
    /// The distinct values, as long as there are not too many of them.
    table: Option<DistinctTable>,
    /// Fields with nothing in them but white space.
    empty: u64,
}

impl ColumnFacts {
    /// No values yet, in a survey of `columns` columns.
    pub(super) fn new(columns: usize) -> Self {
        ColumnFacts { direct: Facts::default(), table: Some(DistinctTable::new(columns)), empty: 0 }
    }

    /// Takes note of one value, which stands behind all that were observed before. `is_utf8` says that
    /// the text around it is known to be valid; `key` makes its key.
    #[inline(always)]
    pub(super) fn observe(
        &mut self,
        value: &[u8],
        key: impl Fn() -> Key,
        is_utf8: bool,
        place: Place,
    ) {
        if value.is_empty() {
            self.empty += 1;
        } else if let Some(table) = &mut self.table
            && is_utf8
            && table.count_known(key(), value)
        {
            // Counted: nothing else is to be known of a value that was seen before.
        } else {
            self.observe_closely(value, is_utf8, place);
        }
    }

    fn observe_closely(&mut self, value: &[u8], is_utf8: bool, place: Place) {
        if readings::trim(value).is_empty() {
            self.empty += 1;
        } else if !is_utf8 && std::str::from_utf8(value).is_err() {
            self.direct.add_malformed(value, place);
        } else if let Some(table) = &mut self.table {
            table.add(value, 1, place);
            if table.is_over() {
                self.fold();
            }
        } else {
            self.direct.add(value, 1, place);
        }
    }

    /// Takes note of values that are not there, since their file lacks the column.
    pub(super) fn observe_lacking(&mut self, count: u64) {
        self.empty += count;
    }

    /// Takes note of a value that is a text, blank as it may be.
    #[cold]
    pub(super) fn observe_text(&mut self, value: &[u8], place: Place) {
        match &mut self.table {
            Some(table) => {
                table.add(value, 1, place);
                if table.is_over() {
                    self.fold();
                }
            }
            None => self.direct.add(value, 1, place),
        }
    }

    #[cold]
    fn fold(&mut self) {
        if let Some(table) = self.table.take() {
            table.values().for_each(|found| self.direct.add(found.value, found.count, found.first));
        }
    }

    pub(super) fn merge(&mut self, mut other: ColumnFacts) {
        self.empty += other.empty;
        match (&mut self.table, &other.table) {
            (Some(ours), Some(theirs)) => {
                for found in theirs.values() {
                    ours.add(found.value, found.count, found.first);
                }
                if ours.is_over() {
                    self.fold();
                }
            }
            _ => {
                self.fold();
                other.fold();
            }
        }
        self.direct.merge(other.direct);
    }

    /// The facts of all values. Worked out from the distinct values where those are known, so ask
    /// once.
    pub fn facts(&self) -> Facts {
        let mut facts = self.direct.clone();
        if let Some(table) = &self.table {
            table.values().for_each(|found| facts.add(found.value, found.count, found.first));
        }
        facts.blank += self.empty;
        facts
    }

    /// How many distinct values there are, the empty one not counted; `None` where there are more than
    /// [`MAX_DISTINCT`](super::MAX_DISTINCT), or where they are too large to be kept.
    pub fn distinct(&self) -> Option<u64> {
        self.table.as_ref().map(|table| table.len() as u64)
    }

    /// Bytes of the distinct values.
    pub fn distinct_bytes(&self) -> Option<u64> {
        self.table.as_ref().map(|table| table.value_bytes() as u64)
    }

    /// The distinct values with their counts, the most frequent first; empty where there are too many.
    pub fn distinct_values(&self) -> Vec<DistinctValue<'_>> {
        let mut values: Vec<_> = self.table.iter().flat_map(DistinctTable::values).collect();
        values.sort_by(|a, b| {
            b.count
                .cmp(&a.count)
                .then_with(|| a.first.cmp(&b.first))
                .then_with(|| a.value.cmp(b.value))
        });
        values
    }
}
