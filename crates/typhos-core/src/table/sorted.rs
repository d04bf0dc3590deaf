//! The wanted rows of a table in an order.

use std::ops::ControlFlow;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_select::concat::concat_batches;

use super::{Declared, Passed, Selection, Table, TableError};
use crate::run::Monitor;
use crate::schema::SortKey;
use crate::sorting::{SortOrder, SortedRuns};
use crate::spilling::Scratch;

/// Rows of a run: fewer are gathered first, since every run is merged.
const RUN_ROWS: usize = 1 << 16;

/// Reads the wanted rows and sorts them; the limit of the selection is not looked at. The columns that rows are only sorted by
/// stand behind those that are wanted.
///
/// # Errors
/// Rows that cannot be read, temporary files that cannot be written, and being asked to stop.
///
/// # Panics
/// If a key is none of the columns.
pub fn sorted_rows(
    table: &mut dyn Table,
    selection: &Selection,
    keys: &[SortKey],
    memory: usize,
    scratch: Arc<dyn Scratch>,
    monitor: &dyn Monitor,
) -> Result<(SortedRuns, Passed), TableError> {
    let schema = table.schema();
    let declared = Declared::of(&schema);
    let mut read =
        selection.columns.clone().unwrap_or_else(|| (0..schema.fields().len()).collect());
    for key in keys {
        let at = declared.place(&key.column).expect("keys are columns");
        if !read.contains(&at) {
            read.push(at);
        }
    }
    let schema = Arc::new(schema.project(&read).expect("columns of the table"));
    let columns: Vec<_> = read.iter().map(|at| declared.schema().columns[*at].clone()).collect();
    let order = Arc::new(SortOrder::by(keys, &columns, &schema).expect("there is a key"));
    let mut runs = SortedRuns::new(order.clone(), schema.clone(), memory, scratch);
    let mut held: Vec<RecordBatch> = Vec::new();
    let mut flush = |held: &mut Vec<RecordBatch>| {
        let rows = concat_batches(&schema, held.iter()).expect("batches of one schema");
        held.clear();
        runs.push(order.sort(&rows))
    };
    let mut failed = None;
    let all = Selection { columns: Some(read), limit: None, ..selection.clone() };
    let mut rows = 0;
    let passed = table.read(&all, &mut |batch| {
        rows += batch.num_rows();
        held.push(batch);
        if monitor.stopped() {
            failed = Some(TableError::Interrupted);
        } else if rows >= RUN_ROWS {
            rows = 0;
            failed = flush(&mut held).err().map(TableError::Sort);
        }
        if failed.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    if failed.is_none() {
        failed = flush(&mut held).err().map(TableError::Sort);
    }
    match failed {
        Some(error) => Err(error),
        None => Ok((runs, passed)),
    }
}
