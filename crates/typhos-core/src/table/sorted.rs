//! The wanted rows of a table in an order.

use std::ops::ControlFlow;
use std::sync::Arc;

use arrow_array::{RecordBatch, UInt32Array};
use arrow_select::concat::concat_batches;
use arrow_select::take::take_record_batch;

use super::{Declared, Passed, Selection, Table, TableError};
use crate::run::Monitor;
use crate::schema::SortKey;
use crate::sorting::{SortOrder, SortedRuns};
use crate::spilling::Scratch;

/// Rows of a run: fewer are gathered first, since every run is merged.
const RUN_ROWS: usize = 1 << 16;

/// Reads the wanted rows and sorts them. The columns that rows are only sorted by stand behind those that are wanted. With a limit, at
/// least so many of the first rows are among those that are sorted, and the rest need not be: [`SortedRuns::rows`] does not count it.
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
        // Of each run only what may be among the first rows of all.
        let most = selection.limit.and_then(|limit| usize::try_from(limit).ok());
        let sorted = order.sort(&rows);
        runs.push(match most.filter(|most| *most < sorted.num_rows()) {
            Some(most) => take_record_batch(&sorted, &UInt32Array::from_iter(0..most as u32))
                .expect("rows of the batch"),
            None => sorted,
        })
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::{Plan, cell_text};
    use crate::run::NoMonitor;
    use crate::spilling::testing::Memory;
    use crate::table::InputTable;
    use crate::text::{Dialect, Input, InputChoice};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        /// The law: the first rows are those of all rows sorted, equal ones in the order of the input; with a limit or without.
        #[test]
        fn the_first_rows_are_those_of_all(
            rows in proptest::collection::vec(0u32..50, 1..400),
            copies in 1usize..400,
            limit in proptest::option::of(0u64..60),
        ) {
            let all: Vec<u32> = rows.iter().copied().cycle().take(rows.len() * copies).collect();
            let lines: String =
                all.iter().enumerate().map(|(at, n)| format!("{at},{n}\n")).collect();
            let choice = InputChoice::from(Dialect::RFC_4180);
            let input = Input::from_bytes("t.csv", format!("at,n\n{lines}").into_bytes(), &choice);
            let schema = "typhos = 1\n[columns]\nat = { type = \"uint32\" }\nn = { type = \"uint32\" }\n";
            let plan = Plan::new(crate::read_schema(schema).unwrap(), &input).unwrap();
            let mut table = InputTable::new(&input, &plan);
            let selection = Selection { columns: Some(vec![0]), filter: None, limit };
            let keys = [SortKey { column: "n".into(), descending: true }];
            let scratch = Arc::new(Memory::default());
            let (runs, _) =
                sorted_rows(&mut table, &selection, &keys, 64 << 20, scratch, &NoMonitor).unwrap();
            let mut merge = runs.merge().unwrap();
            let mut found = Vec::new();
            while let Some(batch) = merge.next(1000).unwrap() {
                found.extend((0..batch.num_rows()).filter_map(|row| cell_text(batch.column(0), row)));
            }
            let mut want: Vec<(std::cmp::Reverse<u32>, usize)> =
                all.iter().enumerate().map(|(at, n)| (std::cmp::Reverse(*n), at)).collect();
            want.sort();
            let most = limit.map_or(want.len(), |limit| (limit as usize).min(want.len()));
            prop_assert!(found.len() >= most);
            for (found, (_, want)) in found.iter().zip(&want[..most]) {
                prop_assert_eq!(found, &want.to_string());
            }
        }
    }
}
