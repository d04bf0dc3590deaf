//! An input under a schema, as a table. Only the columns that are wanted are converted.

use std::ops::ControlFlow;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

use super::{Passed, Selection, Sieve, Table, TableError};
use crate::columns::{Converter, MisfitValue, OnMisfit, Plan};
use crate::run::{Monitor, RunOptions, fold_blocks};
use crate::text::{Block, BlockReader, Input};

/// An input under a schema. Records that do not fit are left out and counted.
#[derive(Debug)]
pub struct InputTable<'i> {
    input: &'i Input,
    plan: &'i Plan,
}

impl<'i> InputTable<'i> {
    /// An input under the schema of a plan that was made for it.
    pub fn new(input: &'i Input, plan: &'i Plan) -> InputTable<'i> {
        InputTable { input, plan }
    }
}

/// Under [`OnMisfit::NoteAll`] no misfit ends a conversion, so that this is only ever whoever takes the rows having
/// seen enough.
struct Enough;

impl From<MisfitValue> for Enough {
    fn from(_: MisfitValue) -> Self {
        unreachable!("misfits are noted, and end nothing")
    }
}

impl Table for InputTable<'_> {
    fn schema(&self) -> SchemaRef {
        self.plan.arrow()
    }

    fn rows(&self) -> Option<u64> {
        None
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let plan = self.plan.of_columns(sieve.columns());
        let mut converter = Converter::new(&plan, OnMisfit::NoteAll);
        let mut reader =
            BlockReader::new(plan.blocks(self.input), RunOptions::default().block_bytes);
        let (mut block, mut passed) = (Block::default(), Passed::default());
        while !sieve.is_done() && reader.next(&mut block)? {
            let report = converter.convert::<Enough>(&block, |batch| {
                let batch = if sieve.is_done() { return Ok(()) } else { sieve.pass(&batch) };
                match each(batch) {
                    ControlFlow::Continue(()) => Ok(()),
                    ControlFlow::Break(()) => Err(Enough),
                }
            });
            match report {
                Ok(report) => passed.misfits += report.account.misfits(),
                Err(Enough) => break,
            }
        }
        Ok(passed)
    }

    fn read_spread(
        &mut self,
        selection: &Selection,
        options: &RunOptions,
        monitor: &dyn Monitor,
        each: &(dyn Fn(usize, RecordBatch) -> ControlFlow<()> + Sync),
    ) -> Result<Passed, TableError> {
        let sieve = Sieve::new(&selection.unlimited(), self.schema().fields().len());
        let plan = self.plan.of_columns(sieve.columns());
        let threads = AtomicUsize::new(0);
        let start = || Spread {
            thread: threads.fetch_add(1, Ordering::Relaxed),
            converter: Converter::new(&plan, OnMisfit::NoteAll),
            sieve: sieve.clone(),
            misfits: 0,
            is_over: false,
        };
        let work = |state: &mut Spread<'_>, block: &Block| {
            let Spread { thread, converter, sieve, misfits, is_over } = state;
            if *is_over {
                return;
            }
            let report = converter.convert::<Enough>(block, |batch| {
                match each(*thread, sieve.pass(&batch)) {
                    ControlFlow::Continue(()) => Ok(()),
                    ControlFlow::Break(()) => Err(Enough),
                }
            });
            match report {
                Ok(report) => *misfits += report.account.misfits(),
                Err(Enough) => *is_over = true,
            }
        };
        let ended = fold_blocks(plan.blocks(self.input), options, monitor, start, work)?;
        Ok(Passed { misfits: ended.iter().map(|state| state.misfits).sum() })
    }
}

/// What one of several threads has.
struct Spread<'p> {
    thread: usize,
    converter: Converter<'p>,
    sieve: Sieve,
    misfits: u64,
    /// Whoever takes the rows has seen enough.
    is_over: bool,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Filter;
    use crate::text::{Dialect, InputChoice};
    use arrow_array::cast::AsArray;
    use arrow_array::types::UInt8Type;

    const SCHEMA: &str = "typhos = 1\n[columns]\nname = { type = \"text\" }\nparty = { type = \"uint8\" }\nfare = { type = \"decimal(4,2)\" }\n";

    fn read(text: &str, selection: &dyn Fn(&Plan) -> Selection) -> (Vec<String>, Passed) {
        let input = Input::from_bytes(
            "t.csv",
            text.as_bytes().to_vec(),
            &InputChoice::from(Dialect::RFC_4180),
        );
        let plan = Plan::new(crate::read_schema(SCHEMA).unwrap(), &input).unwrap();
        let selection = selection(&plan);
        let mut rows = Vec::new();
        let passed = InputTable::new(&input, &plan)
            .read(&selection, &mut |batch| {
                for row in 0..batch.num_rows() {
                    let cells = batch.columns().iter();
                    let cells =
                        cells.map(|c| crate::columns::cell_text(c, row).unwrap_or_default());
                    rows.push(cells.collect::<Vec<_>>().join("|"));
                }
                ControlFlow::Continue(())
            })
            .unwrap();
        (rows, passed)
    }

    const TEXT: &str = "name,party,fare\nHolm,2,12.50\nTern,x,9.00\nAuk,4,7.25\nGull,6,1.00\n";

    #[test]
    fn what_is_selected_comes_in_its_order() {
        let all = read(TEXT, &|_| Selection::default());
        assert_eq!(all.0, ["Holm|2|12.50", "Auk|4|7.25", "Gull|6|1.00"]);
        assert_eq!(all.1, Passed { misfits: 1 });
        let turned =
            read(TEXT, &|_| Selection { columns: Some(vec![2, 0]), ..Selection::default() });
        assert_eq!(turned.0, ["12.50|Holm", "9.00|Tern", "7.25|Auk", "1.00|Gull"]);
        assert_eq!(turned.1, Passed::default(), "nobody asked for the column that has the misfit");
    }

    #[test]
    fn a_question_may_be_about_columns_that_are_not_shown() {
        let selection = |plan: &Plan| Selection {
            columns: Some(vec![0]),
            filter: Some(Filter::parse("party > 3", plan.schema(), &plan.arrow()).unwrap()),
            limit: Some(1),
        };
        assert_eq!(read(TEXT, &selection).0, ["Auk"]);
    }

    #[test]
    fn who_has_seen_enough_gets_no_more() {
        let rows: String = (0..50_000).map(|row| format!("n,{},1.00\n", row % 200)).collect();
        let text = format!("name,party,fare\n{rows}");
        let input =
            Input::from_bytes("t.csv", text.into_bytes(), &InputChoice::from(Dialect::RFC_4180));
        let plan = Plan::new(crate::read_schema(SCHEMA).unwrap(), &input).unwrap();
        let mut batches = Vec::new();
        let mut table = InputTable::new(&input, &plan);
        let selection = Selection { columns: Some(vec![1]), ..Selection::default() };
        table
            .read(&selection, &mut |batch| {
                batches.push(batch);
                ControlFlow::Break(())
            })
            .unwrap();
        let [batch] = &batches[..] else { panic!("one batch, and not {}", batches.len()) };
        assert_eq!(batch.column(0).as_primitive::<UInt8Type>().value(3), 3);
        let mut rows = 0;
        let limit = Selection { limit: Some(12_345), ..Selection::default() };
        let count = &mut |batch: RecordBatch| {
            rows += batch.num_rows();
            ControlFlow::Continue(())
        };
        table.read(&limit, count).unwrap();
        assert_eq!(rows, 12_345);
    }
}
