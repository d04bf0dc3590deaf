//! Typed rows, wherever they are: one door for everything that looks at them.
//!
//! A [`Table`] has a schema and hands out batches; a [`Selection`] says which columns and rows are wanted, and a table
//! reads no more than it has to for them. An input under a schema is one ([`InputTable`]); files of typed rows are
//! others, elsewhere. What is done with the rows (shown, counted, drawn) is not known here.

mod codes;
mod declared;
mod input;
mod plain;
mod sieve;
mod sorted;

use std::error::Error;
use std::ops::ControlFlow;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use thiserror::Error;

use crate::filter::Filter;
use crate::run::{Monitor, RunError, RunOptions};
use crate::sorting::SortError;
use crate::text::InputError;

pub use codes::Codes;
pub use declared::Declared;
pub use input::InputTable;
pub use plain::plain_schema;
pub use sieve::Sieve;
pub use sorted::sorted_rows;

/// Rows of a table that are wanted.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// The columns, by their position in the schema, in the order they are wanted; all, where nothing is said.
    pub columns: Option<Vec<usize>>,
    /// Which rows; its columns are those of the schema.
    pub filter: Option<Filter>,
    /// How many rows at most.
    pub limit: Option<u64>,
}

/// What became of a reading.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Passed {
    /// Values and records that did not fit and are not among the rows, in as much as was read.
    pub misfits: u64,
}

/// Typed rows.
pub trait Table {
    /// The columns.
    fn schema(&self) -> SchemaRef;

    /// How many rows there are, where that is known without reading them.
    fn rows(&self) -> Option<u64>;

    /// Hands the wanted rows to `each`, in their order, until it says that it has seen enough. The columns of the
    /// batches are those of the selection, in its order.
    ///
    /// # Errors
    /// Rows that cannot be read.
    fn read(
        &mut self,
        selection: &Selection,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let mut sieve = Sieve::new(selection, self.schema().fields().len());
        self.read_through(&mut sieve, each)
    }

    /// Hands what a sieve leaves of the columns that it reads to `each`, until one of the two has seen enough.
    ///
    /// # Errors
    /// Rows that cannot be read.
    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError>;

    /// Hands all wanted rows to `each` on several threads, in no order: whoever needs no order need not wait for one. Its first
    /// argument is the number of the thread, below that of the options; the limit of a selection is not looked at. A table that
    /// has no parts is read by one thread.
    ///
    /// # Errors
    /// Rows that cannot be read, and being asked to stop by the monitor.
    fn read_spread(
        &mut self,
        selection: &Selection,
        options: &RunOptions,
        monitor: &dyn Monitor,
        each: &(dyn Fn(usize, RecordBatch) -> ControlFlow<()> + Sync),
    ) -> Result<Passed, TableError> {
        let _ = options;
        let passed = self.read(&selection.unlimited(), &mut |batch| match monitor.stopped() {
            true => ControlFlow::Break(()),
            false => each(0, batch),
        })?;
        if monitor.stopped() { Err(TableError::Interrupted) } else { Ok(passed) }
    }
}

impl Selection {
    /// The same rows, however many they are.
    pub fn unlimited(&self) -> Selection {
        Selection { limit: None, ..self.clone() }
    }

    /// The first rows, with all columns.
    pub fn first(rows: usize) -> Selection {
        Selection { limit: Some(rows as u64), ..Selection::default() }
    }
}

/// All wanted rows of a table at once: for selections with a limit.
///
/// # Errors
/// Rows that cannot be read.
pub fn selected_rows(
    table: &mut dyn Table,
    selection: &Selection,
) -> Result<(Vec<RecordBatch>, Passed), TableError> {
    let mut batches = Vec::new();
    let passed = table.read(selection, &mut |batch| {
        batches.push(batch);
        ControlFlow::Continue(())
    })?;
    Ok((batches, passed))
}

/// Why rows cannot be read.
#[derive(Debug, Error)]
pub enum TableError {
    /// The input cannot be read.
    #[error(transparent)]
    Input(#[from] InputError),
    /// The monitor asked to stop.
    #[error("interrupted")]
    Interrupted,
    /// Rows cannot be sorted.
    #[error(transparent)]
    Sort(#[from] SortError),
    /// A table that is somewhere else cannot be read, for the reason given there.
    #[error(transparent)]
    Source(Box<dyn Error + Send + Sync>),
}

impl From<RunError> for TableError {
    fn from(error: RunError) -> TableError {
        match error {
            RunError::Input(error) => TableError::Input(error),
            RunError::Interrupted => TableError::Interrupted,
        }
    }
}
