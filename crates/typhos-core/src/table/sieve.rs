//! What a selection leaves of batches, for tables that cannot leave the rest unread themselves.

use std::ops::Range;

use arrow_array::{BooleanArray, RecordBatch};
use arrow_schema::Schema as ArrowSchema;
use arrow_select::filter::filter_record_batch;

use super::Selection;
use super::plain::plain_batch;
use crate::filter::{Filter, Page, Superset};

/// Takes the rows and columns out of batches that a selection wants.
#[derive(Debug, Clone)]
pub struct Sieve {
    /// The columns that have to be read, in the order of the table.
    columns: Vec<usize>,
    /// Where the wanted ones stand among those.
    shown: Vec<usize>,
    /// The question, asked of the columns that are read.
    filter: Option<Filter>,
    /// Rows that are still wanted.
    left: u64,
}

impl Sieve {
    /// A sieve for a table of so many columns.
    pub fn new(selection: &Selection, columns: usize) -> Sieve {
        let shown = selection.columns.clone().unwrap_or_else(|| (0..columns).collect());
        let asked = selection.filter.as_ref().map(Filter::columns).unwrap_or_default();
        let mut read: Vec<usize> = shown.iter().copied().chain(asked).collect();
        read.sort_unstable();
        read.dedup();
        let place = |column: &usize| read.partition_point(|read| read < column);
        Sieve {
            shown: shown.iter().map(place).collect(),
            filter: selection.filter.as_ref().map(|filter| filter.of_columns(&place)),
            left: selection.limit.unwrap_or(u64::MAX),
            columns: read,
        }
    }

    /// The columns that have to be read, in the order of the table: the wanted ones, and those that the question is about.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// Whether no more rows are wanted.
    pub fn is_done(&self) -> bool {
        self.left == 0
    }

    /// Whether a question decides which rows are wanted.
    pub fn has_question(&self) -> bool {
        self.filter.is_some()
    }

    /// The rows, out of so many, that could be wanted as far as `pages` tell of a column, which is given by its place in the table:
    /// see [`Filter::candidates`].
    pub fn candidates(&self, rows: u64, pages: &dyn Fn(usize) -> Vec<Page>) -> Vec<Range<u64>> {
        match &self.filter {
            Some(filter) => filter.candidates(rows, &|column| pages(self.columns[column])),
            None => std::iter::once(0..rows).collect(),
        }
    }

    /// What a source may be asked for, of the columns that are [read](Self::columns) and that `may_ask` takes, by their places
    /// among them: see [`Filter::superset`].
    pub fn superset(&self, read: &ArrowSchema, may_ask: &dyn Fn(usize) -> bool) -> Superset {
        let filter = self.filter.as_ref();
        filter.map_or(Superset::Anything, |filter| filter.superset(read, may_ask))
    }

    /// Rows that have to be read at most; `None` where a question decides.
    pub fn most(&self) -> Option<u64> {
        (self.filter.is_none() && self.left < u64::MAX).then_some(self.left)
    }

    /// What is wanted of a batch of the columns that are [read](Self::columns); values that are ours in another form come
    /// in [ours](super::plain_schema).
    ///
    /// # Panics
    /// If the batch has other columns.
    pub fn pass(&mut self, batch: &RecordBatch) -> RecordBatch {
        let batch = plain_batch(batch);
        let wanted = match &self.filter {
            None => batch,
            Some(filter) => {
                let meant = BooleanArray::from(filter.matches(&batch));
                filter_record_batch(&batch, &meant).expect("a verdict for every row")
            }
        };
        let rows = wanted.num_rows().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        self.left -= rows as u64;
        wanted.slice(0, rows).project(&self.shown).expect("columns that were read")
    }
}
