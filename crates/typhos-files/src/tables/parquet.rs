//! Parquet files as one table: the parts of a directory in the order of their names. Row groups and pages of which the indexes of a
//! file say that no row is meant are not read.

use std::ops::{ControlFlow, Range};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use ::parquet::arrow::ProjectionMask;
use ::parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder, RowSelection,
};
use ::parquet::errors::ParquetError;
use ::parquet::file::metadata::PageIndexPolicy;
use arrow_array::RecordBatch;
use arrow_schema::{DataType, SchemaRef};
use typhos_core::run::{Monitor, RunOptions, on_threads};
use typhos_core::table::{Passed, Selection, Sieve, Table, TableError, plain_schema};
use typhos_load::TargetError;

use super::of_table;
use crate::damaged::{Bounded, guarded};
use crate::parquet::{files, pages::pages};

/// Rows that are read at once.
const MOST_BATCH: usize = 8192;

/// One or more Parquet files of the same columns.
#[derive(Debug)]
pub struct ParquetTable {
    path: PathBuf,
    files: Vec<PathBuf>,
    schema: SchemaRef,
    rows: u64,
    /// Row groups of each file.
    groups: Vec<usize>,
}

/// Whether two parts have the same columns. What is noted of them, whether they may be null and how wide their codes are may
/// differ from part to part.
fn are_alike(one: &SchemaRef, other: &SchemaRef) -> bool {
    let plain = |data_type: &DataType| match data_type {
        DataType::Dictionary(_, words) => (**words).clone(),
        other => other.clone(),
    };
    let mut pairs = one.fields().iter().zip(other.fields());
    one.fields().len() == other.fields().len()
        && pairs.all(|(a, b)| a.name() == b.name() && plain(a.data_type()) == plain(b.data_type()))
}

fn open(file: &Path, policy: PageIndexPolicy) -> Result<ArrowReaderMetadata, TargetError> {
    let options = ArrowReaderOptions::new().with_page_index_policy(policy);
    ArrowReaderMetadata::load(&Bounded::open(file)?, options).map_err(failed(file))
}

fn failed(file: &Path) -> impl Fn(ParquetError) -> TargetError {
    move |source| TargetError::Format { path: file.to_path_buf(), source: source.into() }
}

/// A file that is being read.
struct Part<'t> {
    file: &'t Path,
    metadata: ArrowReaderMetadata,
}

impl Part<'_> {
    /// The rows of a row group that could be wanted.
    fn candidates(&self, group: usize, sieve: &Sieve) -> Vec<Range<u64>> {
        let metadata = self.metadata.metadata();
        let rows = metadata.row_group(group).num_rows().unsigned_abs();
        let parquet = self.metadata.parquet_schema();
        let index = metadata.page_index_for_row_group(group);
        sieve.candidates(rows, &|column| {
            let field = self.metadata.schema().field(column);
            let leaf = (0..parquet.num_columns())
                .find(|leaf| parquet.get_column_root_idx(*leaf) == column);
            // Of what is held in another form than it is stored in, the index tells nothing that could be compared.
            let is_plain = plain_schema(self.metadata.schema()).field(column) == field;
            match leaf.filter(|_| is_plain && !field.data_type().is_nested()) {
                Some(leaf) => {
                    let (offsets, values) = (index.offset_index(leaf), index.column_index(leaf));
                    pages(offsets, values, rows, field.data_type())
                }
                None => pages(None, None, rows, field.data_type()),
            }
        })
    }

    /// Reads a row group. Returns whether more is wanted.
    fn read_group(
        &self,
        group: usize,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<bool, TargetError> {
        let wanted = self.candidates(group, sieve);
        if wanted.is_empty() {
            return Ok(true);
        }
        let file = Bounded::open(self.file)?;
        let builder =
            ParquetRecordBatchReaderBuilder::new_with_metadata(file, self.metadata.clone());
        let columns = sieve.columns().iter().copied();
        let mask = ProjectionMask::roots(builder.parquet_schema(), columns);
        let mut builder = builder.with_projection(mask).with_row_groups(vec![group]);
        let rows = self.metadata.metadata().row_group(group).num_rows().unsigned_abs();
        if wanted.len() > 1 || wanted.first() != Some(&(0..rows)) {
            let ranges = wanted.iter().map(|rows| rows.start as usize..rows.end as usize);
            let selection = RowSelection::from_consecutive_ranges(ranges, rows as usize);
            builder = builder.with_row_selection(selection);
        }
        let mut batch_rows = MOST_BATCH;
        if let Some(most) = sieve.most().and_then(|most| usize::try_from(most).ok()) {
            batch_rows = most.clamp(1, MOST_BATCH);
            builder = builder.with_limit(most);
        }
        let reader = builder.with_batch_size(batch_rows).build().map_err(failed(self.file))?;
        for batch in reader {
            let batch = batch.map_err(|error| failed(self.file)(error.into()))?;
            if each(sieve.pass(&batch)).is_break() || sieve.is_done() {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl ParquetTable {
    /// Opens the files at a path: the file itself, or all parts in a directory.
    ///
    /// # Errors
    /// Files that cannot be read or are no Parquet, and parts with other columns than the first.
    pub fn open(path: &Path) -> Result<ParquetTable, TargetError> {
        guarded(path, || {
            let files = files(path)?;
            let (mut first, mut rows, mut groups) = (None::<SchemaRef>, 0, Vec::new());
            for file in &files {
                let metadata = open(file, PageIndexPolicy::Skip)?;
                let schema = first.get_or_insert_with(|| metadata.schema().clone());
                if !are_alike(schema, metadata.schema()) {
                    let what = format!("has other columns than {}", files[0].display());
                    return Err(TargetError::NotThat { path: file.clone(), what });
                }
                rows += metadata.metadata().file_metadata().num_rows().unsigned_abs();
                groups.push(metadata.metadata().num_row_groups());
            }
            let schema = plain_schema(&first.expect("there is at least one file"));
            Ok(ParquetTable { path: path.to_path_buf(), files, schema, rows, groups })
        })
    }

    /// Opens one of the files; its indexes where they can spare work.
    fn part(&self, file: usize, sieve: &Sieve) -> Result<Part<'_>, TargetError> {
        let policy = match sieve.has_question() {
            true => PageIndexPolicy::Optional,
            false => PageIndexPolicy::Skip,
        };
        let file = &self.files[file];
        Ok(Part { file, metadata: open(file, policy)? })
    }
}

impl Table for ParquetTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.rows)
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let read = guarded(&self.path, || {
            for file in 0..self.files.len() {
                if sieve.is_done() {
                    break;
                }
                let part = self.part(file, sieve)?;
                for group in 0..self.groups[file] {
                    if sieve.is_done() || !part.read_group(group, sieve, each)? {
                        return Ok(());
                    }
                }
            }
            Ok(())
        });
        read.map_err(of_table)?;
        Ok(Passed::default())
    }

    fn read_spread(
        &mut self,
        selection: &Selection,
        options: &RunOptions,
        monitor: &dyn Monitor,
        each: &(dyn Fn(usize, RecordBatch) -> ControlFlow<()> + Sync),
    ) -> Result<Passed, TableError> {
        let sieve = Sieve::new(&selection.unlimited(), self.schema.fields().len());
        let groups = self.groups.iter().enumerate();
        let units: Vec<(usize, usize)> = groups
            .flat_map(|(file, groups)| (0..*groups).map(move |group| (file, group)))
            .collect();
        let (next, threads) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let is_over = AtomicBool::new(false);
        let work = || {
            let thread = threads.fetch_add(1, Ordering::Relaxed);
            let (mut sieve, mut part) = (sieve.clone(), None::<(usize, Arc<Part<'_>>)>);
            while let Some((file, group)) = units.get(next.fetch_add(1, Ordering::Relaxed)).copied()
            {
                if monitor.stopped() || is_over.load(Ordering::Relaxed) {
                    break;
                }
                let opened = match &part {
                    Some((known, opened)) if *known == file => opened.clone(),
                    _ => Arc::new(self.part(file, &sieve)?),
                };
                part = Some((file, opened.clone()));
                let goes_on =
                    opened.read_group(group, &mut sieve, &mut |batch| each(thread, batch))?;
                is_over.fetch_or(!goes_on, Ordering::Relaxed);
            }
            Ok(())
        };
        let worked = on_threads(options.threads, || guarded(&self.path, work));
        worked.into_iter().collect::<Result<Vec<()>, _>>().map_err(of_table)?;
        if monitor.stopped() { Err(TableError::Interrupted) } else { Ok(Passed::default()) }
    }
}
