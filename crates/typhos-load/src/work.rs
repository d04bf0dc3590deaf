//! An input that is converted and encoded, in the order of the input or in the one that its schema asks for: then blocks
//! are sorted as they are converted and become runs, and the runs are merged and encoded a row group at a time.

use std::sync::Arc;

use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;
use arrow_select::concat::concat_batches;
use typhos_core::columns::{BlockReport, Converter, OnMisfit, Places, Plan, SetAside};
use typhos_core::run::{self, Monitor, RunOptions};
use typhos_core::sorting::{SortOrder, SortedRuns};
use typhos_core::spilling::Scratch;
use typhos_core::text::{Block, Input};

use crate::beyond;
use crate::contract::{EncodeUnit, Encoder};
use crate::error::{LoadError, TargetError};
use crate::keys::KeyWatch;
use crate::refusals::{self, Refusals};

/// Rows of a row group where rows are sorted and nothing else is said.
pub const SORTED_ROW_GROUP: u64 = 250_000;

/// An input that is converted and encoded, in the order that its schema asks for.
pub struct Work<'l> {
    /// The input.
    pub input: &'l Input,
    /// The declaration, bound to it.
    pub plan: &'l Plan,
    /// What becomes of misfits.
    pub mode: OnMisfit,
    /// Threads; and blocks, where rows stay in the order of the input.
    pub run: RunOptions,
    /// Bytes that sorting may take.
    pub sort_memory: usize,
    /// Where rows are put that do not fit into memory.
    pub scratch: Arc<dyn Scratch>,
    /// Watches keys, where nobody has looked at them before.
    pub keys: Option<&'l KeyWatch>,
    /// Records that are set aside because the target refused their rows, or cannot hold their values.
    pub refusals: &'l Refusals,
}

impl Work<'_> {
    /// Converts a block, and watches its keys.
    ///
    /// # Errors
    /// A misfit that stops the load, and whatever `each` fails with.
    pub fn convert(
        &self,
        converter: &mut Converter<'_>,
        block: &Block,
        mut each: impl FnMut(RecordBatch) -> Result<(), LoadError>,
    ) -> Result<BlockReport, LoadError> {
        if self.keys.is_none() && self.refusals.is_empty() {
            return converter.convert(block, each);
        }
        let mut aside = Vec::new();
        let mut report = converter.convert_with_places(block, |batch, places| {
            if let Some(keys) = self.keys {
                keys.note(&batch, places.file, places.lines)?;
            }
            let (batch, refused) = self.refusals.leave_out(batch, places);
            aside.extend(refused);
            each(batch)
        })?;
        refusals::add_to(&mut report, aside);
        Ok(report)
    }

    /// The same, for an encoder that wants to know where rows are from.
    fn convert_placed<U: EncodeUnit>(
        &self,
        converter: &mut Converter<'_>,
        block: &Block,
        unit: &mut U,
    ) -> Result<BlockReport, LoadError> {
        let mut aside = Vec::new();
        let mut report = converter.convert_with_places(block, |batch, places| {
            if let Some(keys) = self.keys {
                keys.note(&batch, places.file, places.lines)?;
            }
            aside.extend(self.push_left(unit, true, batch, places)?);
            Ok::<(), LoadError>(())
        })?;
        refusals::add_to(&mut report, aside);
        Ok(report)
    }

    /// Hands an encoder what is left of a batch, with the places of its rows where it wants to know them; returns the records that are not.
    pub(crate) fn push_left<U: EncodeUnit>(
        &self,
        unit: &mut U,
        is_placed: bool,
        batch: RecordBatch,
        places: &Places<'_>,
    ) -> Result<Vec<SetAside>, TargetError> {
        let (left, aside) = self.refusals.leave_out(batch, places);
        match self.refusals.left(places) {
            _ if !is_placed => unit.push(left)?,
            None => unit.push_placed(left, places)?,
            Some(rows) => places.of_rows(&rows, |places| unit.push_placed(left, places))?,
        }
        Ok(aside)
    }

    /// Hands every report to `note`, and everything encoded to `append`, both in order.
    ///
    /// # Errors
    /// The first of reading, converting, sorting, `note` and `append`.
    pub fn encode<E: Encoder>(
        &self,
        encoder: &E,
        monitor: &dyn Monitor,
        mut note: impl FnMut(BlockReport) -> Result<(), LoadError> + Send,
        mut append: impl FnMut(E::Encoded) -> Result<(), LoadError> + Send,
    ) -> Result<(), LoadError> {
        let is_placed = encoder.wants_places();
        let order = || SortOrder::of(self.plan.schema(), &self.plan.arrow(), encoder.grouping());
        if let Some(order) = (!is_placed).then(order).flatten() {
            let sorted = Sorted { work: self, order: Arc::new(order) };
            let runs = sorted.runs(monitor, note)?;
            return sorted.merge(runs, encoder, monitor, append);
        }
        let bytes = self.input.bytes().max(1) as f64;
        let done = run::map_blocks::<_, _, LoadError>(
            self.plan.blocks(self.input),
            &self.run,
            monitor,
            || Converter::new(self.plan, self.mode),
            |converter, block| {
                let mut unit = encoder.begin((block.offset + block.bytes / 2) as f64 / bytes)?;
                let report = match is_placed {
                    true => self.convert_placed(converter, block, &mut unit),
                    false => self.convert(converter, block, |batch| Ok(unit.push(batch)?)),
                };
                let report = report.map_err(|error| beyond::placed(self, error, block, encoder))?;
                Ok((unit.finish()?, report))
            },
            |(encoded, report)| {
                note(report)?;
                append(encoded)
            },
        );
        done.map_err(|error| beyond::all(self, error, encoder, monitor))
    }
}

/// Rows that are merged at once.
const MERGED_ROWS: usize = 8192;

/// Bytes of a block at least and at most.
const BLOCK_BYTES: (usize, usize) = (1 << 18, 8 << 20);

/// Bytes of rows that are enough for a row group, however few they are: it is held in memory.
const MOST_GROUP_BYTES: usize = 64 << 20;

/// Bytes of the rows of a batch. Dictionaries do not count: how long they are depends on how the input was
/// cut, and row groups do not.
fn row_bytes(batch: &RecordBatch) -> usize {
    let bytes = batch.columns().iter().map(|column| match column.data_type() {
        DataType::Dictionary(codes, _) => column.len() * codes.primitive_width().unwrap_or(4),
        _ => column.to_data().get_slice_memory_size().unwrap_or(0),
    });
    bytes.sum()
}

/// Work that is done in an order.
struct Sorted<'l> {
    work: &'l Work<'l>,
    order: Arc<SortOrder>,
}

/// Rows that become a row group, and where the first of them stands among all.
#[derive(Default)]
struct Stretch {
    batches: Vec<RecordBatch>,
    start: u64,
}

impl Sorted<'_> {
    /// Converts and sorts an input. Misfits are told to `note`, block by block.
    fn runs(
        &self,
        monitor: &dyn Monitor,
        mut note: impl FnMut(BlockReport) -> Result<(), LoadError> + Send,
    ) -> Result<SortedRuns, LoadError> {
        // A thread has a block, its arrays, the same in order, their keys, and results that wait.
        let Work { input, plan, mode, run, sort_memory, ref scratch, .. } = *self.work;
        let (least, most) = BLOCK_BYTES;
        let block_bytes = (sort_memory / run.threads.get() / 32).clamp(least, most);
        let run = RunOptions { block_bytes, ..run };
        let mut runs =
            SortedRuns::new(self.order.clone(), plan.arrow(), sort_memory, scratch.clone());
        run::map_blocks::<_, _, LoadError>(
            plan.blocks(input),
            &run,
            monitor,
            || Converter::new(plan, mode).in_one_batch(),
            |converter, block| {
                let mut batches = Vec::new();
                let report = self.work.convert(converter, block, |batch| {
                    batches.push(batch);
                    Ok(())
                })?;
                let batch = match &batches[..] {
                    [one] => one.clone(),
                    several => concat_batches(&plan.arrow(), several)
                        .expect("batches of one block have one schema"),
                };
                Ok((self.order.sort(&batch), report))
            },
            |(batch, report)| {
                note(report)?;
                Ok(runs.push(batch)?)
            },
        )?;
        Ok(runs)
    }

    /// Merges runs and encodes them in order.
    fn merge<E: Encoder>(
        &self,
        runs: SortedRuns,
        encoder: &E,
        monitor: &dyn Monitor,
        append: impl FnMut(E::Encoded) -> Result<(), LoadError> + Send,
    ) -> Result<(), LoadError> {
        monitor.begin("merging what was sorted", None);
        let layout = &self.work.plan.schema().layout;
        let most = layout.row_group.unwrap_or(SORTED_ROW_GROUP);
        // Each part gets rows, if there are as many.
        let most = most.min(runs.rows().div_ceil(encoder.parts() as u64)).max(1);
        let total = runs.rows().max(1) as f64;
        let mut merge = runs.merge()?;
        let mut done = 0;
        run::map_items::<Stretch, _, _, LoadError>(
            |stretch| {
                stretch.batches.clear();
                stretch.start = done;
                let end = done + most;
                let mut bytes = 0;
                while done < end && bytes < MOST_GROUP_BYTES {
                    let room = usize::try_from(end - done).unwrap_or(usize::MAX);
                    let Some(batch) = merge.next(room.min(MERGED_ROWS))? else { break };
                    done += batch.num_rows() as u64;
                    bytes += row_bytes(&batch);
                    stretch.batches.push(batch);
                }
                Ok(done > stretch.start)
            },
            &self.work.run,
            monitor,
            || (),
            |(), stretch| {
                let mut unit = encoder.begin(stretch.start as f64 / total)?;
                for batch in &stretch.batches {
                    unit.push(batch.clone())?;
                }
                Ok(unit.finish()?)
            },
            append,
        )
    }
}
