//! Runs: stretches of rows that are in order, in memory or put aside.

use std::io::{self, BufReader, BufWriter, Write};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_schema::SchemaRef;

use super::merge::Merge;
use super::source::{RowSource, arrow_failed};
use super::{SortError, SortOrder};
use crate::spilling::{FAN_IN, Scratch, Spilled};

/// Bytes that sorting may take in all, where nothing is said.
pub const DEFAULT_SORT_MEMORY: usize = 256 << 20;

/// Less than this is not enough to merge with.
pub const LEAST_SORT_MEMORY: usize = 64 << 20;

/// Most rows of a stretch, and about how many bytes it has at most.
const STRETCH_ROWS: usize = 8192;
const STRETCH_BYTES: usize = 1 << 20;

/// Runs of rows, in the order in which they came.
#[derive(Debug)]
pub struct SortedRuns {
    order: Arc<SortOrder>,
    schema: SchemaRef,
    runs: Vec<SortedRun>,
    /// Bytes that runs may take in memory, and how many they do.
    room: usize,
    held: usize,
    rows: u64,
    scratch: Arc<dyn Scratch>,
}

#[derive(Debug)]
enum SortedRun {
    Memory(RecordBatch),
    Spilled(Box<dyn Spilled>),
}

impl SortedRuns {
    /// No runs yet. Of `memory` bytes half are for runs, and the rest is left for the work around them; more runs
    /// are put into `scratch`.
    pub fn new(
        order: Arc<SortOrder>,
        schema: SchemaRef,
        memory: usize,
        scratch: Arc<dyn Scratch>,
    ) -> SortedRuns {
        SortedRuns { order, schema, runs: Vec::new(), room: memory / 2, held: 0, rows: 0, scratch }
    }

    /// Adds rows that are in order, behind all that came before.
    ///
    /// # Errors
    /// A temporary file that cannot be written.
    pub fn push(&mut self, batch: RecordBatch) -> Result<(), SortError> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        self.rows += batch.num_rows() as u64;
        let bytes = batch.get_array_memory_size();
        if self.held + bytes <= self.room {
            self.held += bytes;
            self.runs.push(SortedRun::Memory(batch));
            return Ok(());
        }
        let spilled = self.write(stretches(batch).map(Ok))?;
        self.runs.push(spilled);
        Ok(())
    }

    /// Rows in all runs.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Merges all runs. Where they are too many to be merged at once, some are merged into larger ones
    /// first.
    ///
    /// # Errors
    /// A temporary file that cannot be written or read.
    pub fn merge(mut self) -> Result<Merge, SortError> {
        while self.runs.len() > FAN_IN {
            // Neighbours, so that equal rows keep their order.
            let runs = std::mem::take(&mut self.runs);
            let mut runs = runs.into_iter().peekable();
            while runs.peek().is_some() {
                let few: Vec<SortedRun> = runs.by_ref().take(FAN_IN).collect();
                let merged = self.merge_few(few)?;
                self.runs.push(merged);
            }
        }
        let runs = std::mem::take(&mut self.runs);
        let sources = runs.into_iter().map(|run| self.open(run)).collect::<Result<_, _>>()?;
        Merge::new(self.order, self.schema, sources, self.scratch.place())
    }

    fn merge_few(&mut self, few: Vec<SortedRun>) -> Result<SortedRun, SortError> {
        let sources = few.into_iter().map(|run| self.open(run)).collect::<Result<_, _>>()?;
        let (order, schema) = (self.order.clone(), self.schema.clone());
        let mut merge = Merge::new(order, schema, sources, self.scratch.place())?;
        self.write(std::iter::from_fn(|| merge.next(STRETCH_ROWS).transpose()))
    }

    fn write(
        &self,
        mut batches: impl Iterator<Item = Result<RecordBatch, SortError>>,
    ) -> Result<SortedRun, SortError> {
        let mut failed = None;
        let written = self.scratch.write(&mut |to| match self.write_to(to, &mut batches) {
            Ok(()) => Ok(()),
            Err(error) => {
                failed = Some(error);
                Err(io::Error::other("rows could not be put aside"))
            }
        });
        match (written, failed) {
            (_, Some(error)) => Err(error),
            (Ok(spilled), None) => Ok(SortedRun::Spilled(spilled)),
            (Err(error), None) => Err(self.io(error)),
        }
    }

    fn write_to(
        &self,
        to: &mut dyn Write,
        batches: &mut dyn Iterator<Item = Result<RecordBatch, SortError>>,
    ) -> Result<(), SortError> {
        let failed = |source| arrow_failed(&self.scratch.place(), source);
        let buffer = BufWriter::with_capacity(1 << 20, to);
        let mut writer = StreamWriter::try_new(buffer, &self.schema).map_err(failed)?;
        for batch in batches {
            writer.write(&batch?).map_err(failed)?;
        }
        // What is still in the buffer is written here, where an error is seen.
        let buffer = writer.into_inner().map_err(failed)?;
        buffer.into_inner().map_err(|error| self.io(error.into_error()))?;
        Ok(())
    }

    fn open(&self, run: SortedRun) -> Result<RowSource, SortError> {
        Ok(match run {
            SortedRun::Memory(batch) => RowSource::Memory(Box::new(stretches(batch))),
            SortedRun::Spilled(spilled) => {
                let bytes = spilled.open().map_err(|error| self.io(error))?;
                let reader = StreamReader::try_new(BufReader::new(bytes), None)
                    .map_err(|source| arrow_failed(&self.scratch.place(), source))?;
                RowSource::Spilled { reader: Box::new(reader), _spilled: spilled }
            }
        })
    }

    fn io(&self, source: io::Error) -> SortError {
        SortError::Io { place: self.scratch.place(), source }
    }
}

/// Rows in stretches that are small enough to hold one of each run.
fn stretches(batch: RecordBatch) -> impl Iterator<Item = RecordBatch> + Send + use<> {
    let rows = batch.num_rows();
    let bytes = batch.get_array_memory_size();
    let stretch = (STRETCH_BYTES * rows / bytes.max(1)).clamp(1, STRETCH_ROWS);
    (0..rows).step_by(stretch).map(move |at| batch.slice(at, stretch.min(rows - at)))
}
