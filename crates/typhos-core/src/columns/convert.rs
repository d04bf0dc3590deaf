//! Blocks → record batches, slice by slice and column by column.
//!
//! A slice is converted whole. Where a record of it is set aside by any column, the record is taken
//! out of the slice and the slice is converted again: misfits are rare, and so no column ever has to
//! take back what it has appended.

use std::marker::PhantomData;

use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};

use super::Plan;
use super::absent::Around;
use super::fill::{FillColumn, MakeColumn, Rows, Slice, number};
use super::nested::with_cells;
use super::reason::{Account, MisfitValue, Reason, SetAside};
use crate::json::{JsonRecords, JsonSplit, JsonValues};
use crate::records::{Records, Split, Values};
use crate::schema::Misfit;
use crate::text::{Block, Splitter, TextRecords};

/// Records of a batch: enough to make arrays worth their while, few enough that they stay in cache.
pub const DEFAULT_BATCH_RECORDS: usize = 8192;

/// Columns of an input whose records are long: each time that one column of a batch is converted, another line of memory
/// is asked for in every record, of its text and of where its fields end.
const MANY_COLUMNS: usize = 24;

/// Records of a batch of such an input: their lines for one column stay in the second level of cache until the next
/// column, which shares most of them, comes. With 8,192 `check` of 60 columns took a tenth more processor time.
const MANY_COLUMNS_BATCH: usize = 2048;

/// Fields of a strip: records of which one column is filled after the other while their text and the bounds of their
/// fields are still in a fast cache.
const STRIP_FIELDS: usize = 32_768;

/// The fewest records of a strip, so that what a column does once for each is not felt.
const FEWEST_STRIP_RECORDS: usize = 64;

/// What to do with misfits, over what the declaration says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnMisfit {
    /// Follow the declaration.
    AsDeclared,
    /// Note every misfit and go on: a misfit under `stop` sets its record aside.
    NoteAll,
    /// The same, and list all misfits of a block, with whole values.
    ListAll,
}

/// What became of one block.
#[derive(Debug, Default)]
pub struct BlockReport {
    /// The account of its records.
    pub account: Account,
    /// The records set aside, in order; empty unless they are to be kept.
    pub set_aside: Vec<SetAside>,
    /// All misfits, by their lines; empty unless they are to be [listed](OnMisfit::ListAll).
    pub misfits: Vec<MisfitValue>,
}

/// Converts the blocks of one thread.
pub struct Converter<'p>(ByFormat<'p>);

/// Converters by format: an input has one.
enum ByFormat<'p> {
    Text(Box<OneFormat<'p, TextRecords>>),
    Json(Box<OneFormat<'p, JsonRecords>>),
}

/// A converter of the records of one format.
struct OneFormat<'p, R: Records> {
    plan: &'p Plan,
    mode: OnMisfit,
    columns: Columns<R>,
    beside: Vec<(&'p Plan, Columns<R>)>,
    records: R,
    misfits: Vec<RowMisfit>,
    /// The number in the input of each record, where somebody wants it.
    numbers: Option<Vec<u64>>,
    /// The line of the file on which each record of the batch at hand starts.
    lines: Vec<u64>,
    scratch: Vec<u8>,
    batch_records: usize,
}

/// Where the rows of a batch are from.
pub struct Places<'r> {
    /// The file, by its number in the input.
    pub file: u32,
    /// The line of that file on which the record of each row starts. Several rows may be of one record.
    pub lines: &'r [u64],
    record: &'r dyn Fn(usize) -> (Vec<u8>, usize),
}

impl Places<'_> {
    /// The record of a row word for word, and how many fields it leaves out at its end.
    pub fn record(&self, row: usize) -> (Vec<u8>, usize) {
        (self.record)(row)
    }

    /// Hands `then` the places of some of the rows, in the order in which they are given.
    pub fn of_rows<T>(&self, rows: &[usize], then: impl FnOnce(&Places<'_>) -> T) -> T {
        let lines: Vec<u64> = rows.iter().map(|row| self.lines[*row]).collect();
        let record = |row: usize| self.record(rows[row]);
        then(&Places { file: self.file, lines: &lines, record: &record })
    }
}

/// Columns that are being filled.
type Columns<R> = Vec<Box<dyn FillColumn<R>>>;

/// A misfit in a slice, before anything is done about it.
struct RowMisfit {
    row: usize,
    column: usize,
    reason: Reason,
}

impl<'p, R: Records + 'static> OneFormat<'p, R> {
    fn new(plan: &'p Plan, mode: OnMisfit) -> OneFormat<'p, R> {
        OneFormat {
            plan,
            mode,
            columns: columns_of(plan),
            beside: Vec::new(),
            records: R::default(),
            misfits: Vec::new(),
            numbers: plan.numbers_records().then(Vec::new),
            lines: Vec::new(),
            scratch: Vec::new(),
            batch_records: match plan.source_columns() {
                MANY_COLUMNS.. => MANY_COLUMNS_BATCH,
                _ => DEFAULT_BATCH_RECORDS,
            },
        }
    }

    fn beside(&mut self, plans: &'p [Plan]) {
        self.beside = plans.iter().map(|plan| (plan, columns_of(plan))).collect();
    }

    /// Converts the records of a block that a splitter makes of it.
    fn convert_records<E: From<MisfitValue>>(
        &mut self,
        block: &Block,
        mut splitter: impl Split<Records = R>,
        values: R::Values,
        mut each: impl FnMut(Vec<RecordBatch>, &Places<'_>) -> Result<(), E>,
    ) -> Result<BlockReport, E> {
        let plan = self.plan;
        let mut report =
            BlockReport { account: Account::new(self.columns.len()), ..BlockReport::default() };
        let layout = plan.layout(block.file);
        let is_utf8 = simdutf8::basic::from_utf8(block.text()).is_ok();
        let has_odd = values.may_have_odd(block.text());
        let others = self.beside.iter_mut().flat_map(|(_, columns)| columns);
        self.columns.iter_mut().chain(others).for_each(|column| column.reset());
        while splitter.refill(&mut self.records, self.batch_records) {
            let (files, keeps_empty) = (plan.files(), plan.keeps_empty());
            let slice = Slice { block, layout, files, keeps_empty, is_utf8, has_odd };
            let how = (slice, values);
            let before = report.account.read;
            let broken = self.records.broken().len();
            report.account.read += (self.records.len() + broken) as u64;
            if let Some(numbers) = &mut self.numbers {
                let records = block.records_before.expect("blocks of the plan count records");
                number(&self.records, records + before, numbers);
            }
            let mut arrays = self.fill(how);
            let stop = self.settle(how, &mut report);
            if let Some(stop) = stop {
                return Err(stop.into());
            }
            let rejected = self.rejected_rows();
            let rejected_rows = rejected.iter().filter(|is_rejected| **is_rejected).count();
            report.account.without_elements += self.records.dropped();
            if rejected_rows > 0 {
                self.records.retain(|row| !rejected[row]);
                if let Some(numbers) = &mut self.numbers {
                    let mut kept = rejected.iter();
                    numbers.retain(|_| !kept.next().expect("a verdict for every record"));
                }
                // What the first filling changed, the second changes again.
                self.columns.iter_mut().for_each(|column| _ = column.changed());
                arrays = self.fill(how);
            }
            for (changed, column) in report.account.changed.iter_mut().zip(&mut self.columns) {
                *changed += column.changed();
            }
            report.account.nulled += self.misfits.len() as u64;
            report.account.loaded += self.records.len() as u64;
            // Several rows are of one record, where elements are rows.
            report.account.set_aside += (rejected_rows + broken) as u64;
            if !self.records.is_empty() {
                let mut batches = vec![batch(plan, arrays, self.records.len())];
                let OneFormat { beside, records, numbers, scratch, .. } = self;
                let rows = rows(how, records, numbers.as_deref());
                for (plan, columns) in beside {
                    let arrays = fill(plan, columns, rows, scratch, &mut |_, _, _| {});
                    batches.push(batch(plan, arrays, records.len()));
                }
                let OneFormat { records, lines, .. } = self;
                lines.clear();
                lines.extend(
                    (0..records.len()).map(|row| block.first_line + u64::from(records.line(row))),
                );
                let OneFormat { lines, .. } = &*self;
                let record = |row| self.record_of_input(slice, row);
                each(batches, &Places { file: block.file, lines, record: &record })?;
            }
        }
        report.account.assert_balance();
        Ok(report)
    }

    /// Fills all columns from the slice; misfits become nulls for now and are noted.
    fn fill(&mut self, how: How<'_, R>) -> Vec<ArrayRef> {
        self.misfits.clear();
        let OneFormat { plan, columns, records, numbers, misfits, scratch, .. } = self;
        let mut note = |row, column, reason| misfits.push(RowMisfit { row, column, reason });
        let rows = rows(how, records, numbers.as_deref());
        fill(plan, columns, rows, scratch, &mut note)
    }

    /// What happens to a misfit: what its column declares, or the field that it is in.
    fn policy(&self, misfit: &RowMisfit) -> Misfit {
        let declared = match &misfit.reason {
            Reason::Within(within) => within.policy,
            _ => self.plan.schema().columns[misfit.column].misfit,
        };
        match (declared, self.mode) {
            (Misfit::Stop, OnMisfit::NoteAll | OnMisfit::ListAll) => Misfit::Reject,
            (policy, _) => policy,
        }
    }

    fn rejected_rows(&self) -> Vec<bool> {
        if self.misfits.is_empty() {
            return Vec::new();
        }
        let mut rejected = vec![false; self.records.len()];
        for misfit in &self.misfits {
            if self.policy(misfit) == Misfit::Reject {
                rejected[misfit.row] = true;
            }
        }
        // A record is set aside whole, with all rows that are made of it.
        for row in 1..rejected.len() {
            rejected[row] |= rejected[row - 1] && self.is_same_record(row - 1, row);
        }
        for row in (1..rejected.len()).rev() {
            rejected[row - 1] |= rejected[row] && self.is_same_record(row - 1, row);
        }
        rejected
    }

    /// Whether two rows are elements of a list of one record.
    fn is_same_record(&self, row: usize, other: usize) -> bool {
        self.records.position(row).is_some()
            && self.records.record(row) == self.records.record(other)
    }

    /// Notes the misfits of the slice in the report. Returns the first one to stop at.
    fn settle(&mut self, how: How<'_, R>, report: &mut BlockReport) -> Option<MisfitValue> {
        let (slice, _) = how;
        let broken_policy = match (self.plan.schema().input.misfit, self.mode) {
            (Misfit::Stop, OnMisfit::AsDeclared) => Misfit::Stop,
            _ => Misfit::Reject,
        };
        let text = slice.block.text();
        let mut aside: Vec<(u32, SetAside)> = Vec::new();
        let mut stop: Option<(u32, MisfitValue)> = None;
        for broken in self.records.broken() {
            let record = &text[broken.start as usize..broken.end as usize];
            let reason = Reason::Broken(broken.kind.describe(slice.block.first_line).into_owned());
            let misfit = MisfitValue::new(slice.place(broken.line), None, record, reason);
            report.account.broken.note(&misfit.reason, || misfit.clone());
            if self.mode == OnMisfit::ListAll {
                let value = crate::lossless(record);
                report.misfits.push(MisfitValue { value, ..misfit.clone() });
            }
            // What is not at hand cannot be set aside word for word.
            let policy = match self.mode {
                OnMisfit::AsDeclared if !broken.kind.is_whole() => Misfit::Stop,
                _ => broken_policy,
            };
            match policy {
                Misfit::Stop => {
                    stop.get_or_insert((broken.line, misfit));
                }
                _ => {
                    let (record, missing) = (record.to_vec(), broken.missing as usize);
                    aside.push((broken.line, SetAside { misfit, record, missing }));
                }
            }
        }
        if self.misfits.is_empty() && aside.is_empty() {
            return stop.map(|(_, misfit)| misfit);
        }
        // In the order of the records, so that the first reason of each is the one it is set aside for.
        self.misfits.sort_by_key(|misfit| (misfit.row, misfit.column));
        let mut last_rejected: Option<usize> = None;
        for misfit in &self.misfits {
            let line = self.records.line(misfit.row);
            let bytes = || {
                let rows = rows(how, &self.records, self.numbers.as_deref());
                let source = &self.plan.sources()[misfit.column];
                rows.value(source, self.plan.glue(misfit.column), misfit.row)
            };
            let value = || {
                let reason = misfit.reason.clone();
                MisfitValue::new(slice.place(line), Some(misfit.column), &bytes(), reason)
            };
            if self.mode == OnMisfit::ListAll {
                let mut listed = value();
                if listed.path.is_empty() {
                    listed.value = crate::lossless(&bytes());
                }
                report.misfits.push(listed);
            }
            report.account.columns[misfit.column].note(&misfit.reason, value);
            match self.policy(misfit) {
                Misfit::Stop if stop.as_ref().is_none_or(|(known, _)| line < *known) => {
                    stop = Some((line, value()))
                }
                Misfit::Reject
                    if last_rejected.is_none_or(|last| {
                        misfit.row != last && !self.is_same_record(last, misfit.row)
                    }) =>
                {
                    last_rejected = Some(misfit.row);
                    let (record, missing) = self.record_of_input(slice, misfit.row);
                    aside.push((line, SetAside { misfit: value(), record, missing }));
                }
                _ => {}
            }
        }
        aside.sort_by_key(|(line, _)| *line);
        report.misfits.sort_by_key(|misfit| misfit.place.line);
        report.set_aside.extend(aside.into_iter().map(|(_, aside)| aside));
        stop.map(|(_, misfit)| misfit)
    }

    /// A record word for word, its fields where the input has them, since a file may have another order; and how many
    /// fields it leaves out at its end.
    fn record_of_input(&self, slice: Slice<'_>, row: usize) -> (Vec<u8>, usize) {
        let text = slice.block.text();
        if slice.layout.is_in_order() || slice.layout.paths.is_some() {
            let (start, end) = self.records.record(row);
            return (text[start..end].to_vec(), self.records.left_out(row));
        }
        let mut record = Vec::new();
        for column in 0..self.plan.source_columns() {
            if column > 0 {
                record.push(slice.layout.dialect.delimiter);
            }
            if let Some(field) = slice.layout.place(column) {
                let (start, end) = self.records.leaf(row, field).bounds;
                record.extend_from_slice(&text[start as usize..end as usize]);
            }
        }
        (record, 0)
    }
}

/// What the leaves of a slice stand in, and how they become values.
type How<'b, R> = (Slice<'b>, <R as Records>::Values);

fn rows<'r, R: Records>(
    (slice, values): How<'r, R>,
    records: &'r R,
    numbers: Option<&'r [u64]>,
) -> Rows<'r, R> {
    Rows { slice, records, numbers, values, strip: (0, 0) }
}

impl<'p> Converter<'p> {
    /// A converter for one thread.
    pub fn new(plan: &'p Plan, mode: OnMisfit) -> Converter<'p> {
        Converter(match plan.is_json() {
            true => ByFormat::Json(Box::new(OneFormat::new(plan, mode))),
            false => ByFormat::Text(Box::new(OneFormat::new(plan, mode))),
        })
    }

    /// Converts the records that are loaded in other ways too. What does not fit there is null, and no
    /// report says so.
    pub fn beside(mut self, plans: &'p [Plan]) -> Self {
        match &mut self.0 {
            ByFormat::Text(of) => of.beside(plans),
            ByFormat::Json(of) => of.beside(plans),
        }
        self
    }

    /// Makes one batch of a block, for who sorts it, where it has fewer records than 32 bits count.
    pub fn in_one_batch(mut self) -> Self {
        let most = match &mut self.0 {
            ByFormat::Text(of) => &mut of.batch_records,
            ByFormat::Json(of) => &mut of.batch_records,
        };
        *most = u32::MAX as usize;
        self
    }

    /// Converts a block and hands each batch to `each`.
    ///
    /// # Errors
    /// The first misfit in the block that the declaration says to stop at, as `Err` of the misfit; and
    /// whatever `each` returns.
    pub fn convert<E: From<MisfitValue>>(
        &mut self,
        block: &Block,
        mut each: impl FnMut(RecordBatch) -> Result<(), E>,
    ) -> Result<BlockReport, E> {
        self.convert_all(block, |batches| batches.into_iter().try_for_each(&mut each))
    }

    /// As [`convert`](Self::convert), and with each batch says where its records are from.
    ///
    /// # Errors
    /// The same.
    pub fn convert_with_places<E: From<MisfitValue>>(
        &mut self,
        block: &Block,
        mut each: impl FnMut(RecordBatch, &Places<'_>) -> Result<(), E>,
    ) -> Result<BlockReport, E> {
        self.convert_slices(block, |batches, places| {
            batches.into_iter().try_for_each(|batch| each(batch, places))
        })
    }

    /// As [`convert`](Self::convert), and with each batch hands over the same records as the plans
    /// [beside](Self::beside) make them.
    ///
    /// # Errors
    /// The same.
    pub fn convert_all<E: From<MisfitValue>>(
        &mut self,
        block: &Block,
        mut each: impl FnMut(Vec<RecordBatch>) -> Result<(), E>,
    ) -> Result<BlockReport, E> {
        self.convert_slices(block, |batches, _| each(batches))
    }

    fn convert_slices<E: From<MisfitValue>>(
        &mut self,
        block: &Block,
        each: impl FnMut(Vec<RecordBatch>, &Places<'_>) -> Result<(), E>,
    ) -> Result<BlockReport, E> {
        match &mut self.0 {
            ByFormat::Text(of) => {
                let layout = of.plan.layout(block.file);
                let splitter = Splitter::new(block, &layout.dialect, layout.fields);
                of.convert_records(block, splitter, layout.dialect, each)
            }
            ByFormat::Json(of) => {
                let layout = of.plan.layout(block.file);
                let paths = layout.paths.clone().unwrap_or_default();
                let splitter = JsonSplit::new(block, &paths, layout.fields);
                of.convert_records(block, splitter, JsonValues, each)
            }
        }
    }
}

fn columns_of<R: Records + 'static>(plan: &Plan) -> Columns<R> {
    let schema = plan.schema();
    let absent = schema.input.absent.as_deref();
    let around = Around { absent, keeps_empty: plan.keeps_empty() };
    let columns = schema.columns.iter().map(|column| {
        let absent = around.absent_of(column);
        let visitor =
            MakeColumn { records: PhantomData, absent, column, glue: plan.glue_of(column) };
        with_cells(column, &around, visitor).expect("bounds were parsed when the schema was read")
    });
    columns.collect()
}

/// Fills all columns of a plan; what does not fit is null, and noted with its row and column.
fn fill<R: Records>(
    plan: &Plan,
    columns: &mut [Box<dyn FillColumn<R>>],
    rows: Rows<'_, R>,
    scratch: &mut Vec<u8>,
    note: &mut dyn FnMut(usize, usize, Reason),
) -> Vec<ArrayRef> {
    let most = (STRIP_FIELDS / plan.source_columns().max(1)).max(FEWEST_STRIP_RECORDS);
    let records = rows.records.len();
    for start in (0..records).step_by(most) {
        let rows = Rows { strip: (start, records.min(start + most)), ..rows };
        for (index, (column, source)) in columns.iter_mut().zip(plan.sources()).enumerate() {
            let note = &mut |row, reason| note(row, index, reason);
            column.fill(rows, source, scratch, note);
        }
    }
    columns.iter_mut().map(|column| column.finish()).collect()
}

fn batch(plan: &Plan, arrays: Vec<ArrayRef>, rows: usize) -> RecordBatch {
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    RecordBatch::try_new_with_options(plan.arrow(), arrays, &options)
        .expect("every column has the type and length of the plan")
}
